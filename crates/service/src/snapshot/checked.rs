use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use regnant_equipment::{Edition, GrantProblem};
use regnant_policy::{Checked, PolicyFiles, Source};
use sha2::{Digest, Sha256};

use crate::languages::Languages;
use crate::surroundings::Surroundings;

/// Editions that are kept for whoever activates what was checked.
const MOST: usize = 2;

/// Why a policy cannot become an edition.
pub(crate) enum Unfit {
    Check(Box<Checked>),
    /// Grants that some NASes could not be told of, with their names.
    Grants(Box<Edition>, Vec<(GrantProblem, Vec<String>)>),
}

/// Policies that were checked, by their texts and all that the check depended on: what was checked is not compiled
/// a second time to be activated.
#[derive(Default)]
pub(crate) struct CheckedEditions(Mutex<VecDeque<([u8; 32], Arc<Edition>)>>);

impl CheckedEditions {
    /// The edition of a policy that can be told to all equipment, under no number yet; it is kept where it is about to be
    /// activated, and not while somebody writes it.
    pub(crate) fn check(
        &self,
        files: &PolicyFiles,
        around: &Surroundings,
        languages: &Languages,
        to_activate: bool,
    ) -> Result<Arc<Edition>, Unfit> {
        let key = key(files, around);
        if let Some(known) = self.get(&key) {
            return Ok(known);
        }
        let edition = languages.edition_for(Source::from(files), &around.schema(languages), around.equipment())?;
        let edition = Arc::new(edition);
        if !to_activate {
            return Ok(edition);
        }
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() == MOST {
            kept.pop_front();
        }
        kept.push_back((key, edition.clone()));
        Ok(edition)
    }

    /// The same under a number, where the policy checks, whatever the equipment can be told.
    pub(crate) fn numbered(
        &self,
        number: u32,
        files: &PolicyFiles,
        around: &Surroundings,
        languages: &Languages,
    ) -> Result<Edition, Box<Checked>> {
        match self.get(&key(files, around)) {
            Some(known) => Ok(known.numbered(number)),
            None => languages.edition(number, Source::from(files), &around.schema(languages)),
        }
    }

    fn get(&self, key: &[u8; 32]) -> Option<Arc<Edition>> {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.iter().find(|(known, _)| known == key).map(|(_, edition)| edition.clone())
    }
}

/// A hash of texts and of all that their check depends on.
fn key(files: &PolicyFiles, around: &Surroundings) -> [u8; 32] {
    let mut digest = Sha256::new_with_prefix(around.hash());
    for text in files.iter().flat_map(|(path, text)| [path, text]) {
        digest.update((text.len() as u64).to_be_bytes());
        digest.update(text);
    }
    digest.finalize().into()
}
