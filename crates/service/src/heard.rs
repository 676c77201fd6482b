//! What is heard of equipment apart from what it asks, by name: it stays when the records
//! change, and over a restart.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use regnant_equipment::Heard;
use regnant_evidence::HeardMarks;
use regnant_journal::{HeardFile, JournalError};

/// What is heard of every NAS.
#[derive(Debug)]
pub(crate) struct HeardOfNases {
    file: Mutex<HeardFile>,
    all: Mutex<HashMap<String, Known>>,
}

#[derive(Debug, Default)]
struct Known {
    heard: Arc<Heard>,
    written: HeardMarks,
}

impl HeardOfNases {
    pub(crate) fn restored(file: HeardFile) -> Result<Self, JournalError> {
        let known = file
            .all()?
            .into_iter()
            .map(|(name, written)| (name, Known { heard: Arc::new(Heard::restored(written)), written }));
        Ok(Self { all: Mutex::new(known.collect()), file: Mutex::new(file) })
    }

    /// What is heard of the NAS of this name.
    pub(crate) fn of(&self, name: &str) -> Arc<Heard> {
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry(name.to_lowercase()).or_default().heard.clone()
    }

    /// Writes what is otherwise than it was written.
    pub(crate) fn write(&self) -> Result<(), JournalError> {
        let mut file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        let mut changed = Vec::new();
        for (name, known) in self.all.lock().unwrap_or_else(PoisonError::into_inner).iter() {
            let marks = known.heard.marks();
            if marks != known.written {
                changed.push((name.clone(), marks));
            }
        }
        if changed.is_empty() {
            return Ok(());
        }
        file.keep(&changed)?;
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        for (name, marks) in changed {
            if let Some(known) = all.get_mut(&name) {
                known.written = marks;
            }
        }
        Ok(())
    }
}
