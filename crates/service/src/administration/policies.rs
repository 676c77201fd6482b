use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use regnant_decision::StoreRegistry;
use regnant_equipment::Edition;
use regnant_policy::{PolicyFiles, Source, bad_path};
use regnant_records::{Author, Command, DraftRow, EditionRow, Envelope, Expected, Records};

use crate::administration::AdministrationError;
use crate::administration::committer::Committer;
use crate::administration::now_cases::judge;
use crate::administration::report::CheckReport;
use crate::clock::now_ms;
use crate::languages::{Languages, edition_of_old};
use crate::snapshot::{MOST_EARLIER, Snapshot, Unfit};
use crate::surroundings::Surroundings;

/// The policy that a service without one begins with: nobody comes in.
const FIRST_POLICY: &str = "# The first edition: every request is refused until you write your own gates.\n\
    gate nobody { otherwise refuse }\n";
/// What earlier releases began with. It means the same, and no check lets it pass.
const FIRST_POLICY_BEFORE: &str = "# The first edition: every request is refused until you write a gate.\n";
/// Editions that are kept compiled for readers of the journal.
const MOST_READ: usize = 8;

/// Bytes of a policy, and its files.
const MOST_BYTES: usize = 8_000_000;
const MOST_FILES: usize = 255;

/// Whether files are no more than any policy may have.
pub(crate) fn fits(files: &PolicyFiles) -> Result<(), AdministrationError> {
    let bytes: usize = files.iter().map(|(path, text)| path.len() + text.len()).sum();
    match bytes > MOST_BYTES || files.included.len() > MOST_FILES {
        true => Err(AdministrationError::LongPolicy),
        false => Ok(()),
    }
}

/// A policy that shall be the active edition.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Its files.
    pub files: PolicyFiles,
    /// Why.
    pub note: String,
    /// The edition that it was made from.
    pub made_from: Option<u32>,
}

impl From<&str> for Wanted {
    fn from(main: &str) -> Self {
        Self { files: main.into(), note: String::new(), made_from: None }
    }
}

/// The editions of the policy.
pub struct Policies {
    committer: Arc<Committer>,
    /// Editions that entries of the journal tell of, the one read last at the end.
    read_before: Mutex<VecDeque<(u32, Option<Arc<Edition>>)>>,
}

impl Policies {
    pub(crate) fn new(committer: Arc<Committer>) -> Self {
        Self { committer, read_before: Mutex::default() }
    }

    /// Checks a policy against the records and runs its cases.
    pub fn check(&self, files: &PolicyFiles, to_activate: bool) -> Result<CheckReport, AdministrationError> {
        let snapshot = self.committer.snapshot.load_full();
        let around = self.surroundings(&snapshot)?;
        let schema = around.schema(&snapshot.languages);
        Ok(match snapshot.languages.edition_for(Source::from(files), &schema, around.equipment()) {
            Ok(edition) if to_activate => self.judged(&edition, CheckReport::fit_to_activate(&edition)),
            Ok(edition) => self.judged(&edition, CheckReport::fit(&edition)),
            Err(unfit) => CheckReport::unfit(unfit),
        })
    }

    /// What policies are checked against.
    pub(crate) fn surroundings(&self, now: &Snapshot) -> Result<Surroundings, AdministrationError> {
        Ok(Surroundings::of_records(&now.languages, &now.registry(), &self.committer.records)?)
    }

    /// Makes a policy the active edition, and gives its number and that of the one before. One that does not
    /// check, or whose cases fail, changes nothing. `expected` is the edition that
    /// the author saw: another one means that somebody was faster.
    pub fn activate(
        &self,
        wanted: Wanted,
        by: &Author,
        expected: Option<u32>,
    ) -> Result<(u32, u32, CheckReport), AdministrationError> {
        let turn = self.committer.turn();
        let Committer { records, environment, snapshot, .. } = &*self.committer;
        let now = snapshot.load_full();
        let languages = now.languages.clone();
        let around = self.surroundings(&now)?;
        let edition = languages
            .edition_for(Source::from(&wanted.files), &around.schema(&languages), around.equipment())
            .map_err(|unfit| AdministrationError::Unfit(Box::new(CheckReport::unfit(unfit))))?;
        let report = self.judged(&edition, CheckReport::fit_to_activate(&edition));
        if report.failed_cases() > 0 || report.errors() > 0 {
            return Err(AdministrationError::Unfit(Box::new(report)));
        }
        let Wanted { files: PolicyFiles { main: source, included }, note, made_from } = wanted;
        let basis = records.basis_of(languages.basis())?;
        let command = Command::ActivateEdition { source, included, note, made_from, basis };
        let expected = expected.map_or(Expected::Anything, Expected::Edition);
        let (done, before) = turn.commit(by, (command, expected), |before, pending, _, done| {
            let edition = edition.numbered(done.edition.unwrap_or_default());
            Ok(environment.with_edition(before, Arc::new(edition), pending)?)
        })?;
        let before = before.active.edition.clone();
        let replaces = before.number;
        self.keep_to_read(replaces, Some(before));
        Ok((done.edition.unwrap_or_default(), replaces, report))
    }

    /// The report of an edition with its cases that are judged against the records.
    fn judged(&self, edition: &Edition, report: CheckReport) -> CheckReport {
        let stores = self.committer.snapshot.load().registry();
        report.with_cases(judge(edition, &stores), edition.policy.source())
    }

    /// The active edition with its warnings.
    pub fn active(&self) -> Result<(EditionRow, CheckReport), AdministrationError> {
        let row = self.committer.records.active_edition()?.ok_or(AdministrationError::NoEdition)?;
        Ok((row, CheckReport::fit(&self.committer.snapshot.load().active.edition)))
    }

    /// Whether nobody has written a policy yet, so that nobody comes in.
    pub fn is_first(&self) -> Result<bool, AdministrationError> {
        Ok([FIRST_POLICY, FIRST_POLICY_BEFORE].contains(&self.active()?.0.files.main.as_str()))
    }

    /// The newest editions below a number, the newest first.
    pub fn editions(&self, below: u32, most: usize) -> Result<Vec<EditionRow>, AdministrationError> {
        Ok(self.committer.records.editions(below, most)?)
    }

    /// An edition.
    pub fn edition(&self, number: u32) -> Result<EditionRow, AdministrationError> {
        let found = self.committer.records.edition(number)?;
        found.map(|(row, _)| row).ok_or(AdministrationError::NoSuchEdition(number))
    }

    /// The draft of an author.
    pub fn draft(&self, author: &str) -> Result<DraftRow, AdministrationError> {
        self.committer.records.draft(author)?.ok_or_else(|| AdministrationError::NoDraft(author.to_owned()))
    }

    /// Writes the draft of an author, where it still has the version that was seen: 0 where there was none.
    pub fn put_draft(
        &self,
        author: &str,
        files: PolicyFiles,
        made_from: u32,
        seen: u64,
    ) -> Result<DraftRow, AdministrationError> {
        fits(&files)?;
        if let Some((path, why)) = files.included.keys().find_map(|path| Some((path, bad_path(path)?))) {
            return Err(AdministrationError::DraftPath(format!("`{}` {why}", path.escape_debug())));
        }
        let (author, changed_at) = (author.to_owned(), now_ms());
        let mut draft = DraftRow { author, files, made_from, changed_at, version: seen };
        match self.committer.records.put_draft(&draft)? {
            Some(version) => {
                draft.version = version;
                Ok(draft)
            }
            None => Err(AdministrationError::DraftChanged),
        }
    }

    /// Forgets the draft of an author, where a version is said only while it is that.
    pub fn remove_draft(&self, author: &str, seen: Option<u64>) -> Result<(), AdministrationError> {
        match self.committer.records.remove_draft(author, seen)? {
            true => Ok(()),
            false => self.draft(author).and(Err(AdministrationError::DraftChanged)),
        }
    }

    /// The edition that decided something, to read about it. Where it cannot be had any
    /// more, the active one: its number tells that it is another.
    pub(crate) fn edition_to_read(&self, number: u32) -> Arc<Edition> {
        let active = self.committer.snapshot.load().active.edition.clone();
        if active.number == number {
            return active;
        }
        let known =
            || self.read_before().iter().find(|(known, _)| *known == number).map(|(_, edition)| edition.clone());
        let edition = known().unwrap_or_else(|| {
            let found = self.committer.records.edition(number).unwrap_or_else(|error| {
                tracing::warn!("edition {number} cannot be read: {error}");
                None
            });
            let edition = found.and_then(|(row, basis)| edition_of_old(&row, &basis?)).map(Arc::new);
            self.keep_to_read(number, edition.clone());
            edition
        });
        edition.unwrap_or(active)
    }

    fn keep_to_read(&self, number: u32, edition: Option<Arc<Edition>>) {
        let mut known = self.read_before();
        known.retain(|(known, _)| *known != number);
        known.push_back((number, edition));
        if known.len() > MOST_READ {
            known.pop_front();
        }
    }

    fn read_before(&self) -> MutexGuard<'_, VecDeque<(u32, Option<Arc<Edition>>)>> {
        self.read_before.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The edition that a service begins with: the active one, or the first.
pub(crate) fn first_edition(
    records: &Records,
    stores: &StoreRegistry,
    languages: &Languages,
) -> Result<Edition, AdministrationError> {
    if records.active_edition()?.is_none() {
        activate(records, FIRST_POLICY.into(), languages)?;
    }
    let mut active = records.active_edition()?.ok_or(AdministrationError::NoEdition)?;
    if active.files.main == FIRST_POLICY_BEFORE {
        active.files.main = FIRST_POLICY.into();
    }
    bring_up_to_date(records, stores, languages, active)
}

/// The editions before the active one, the newest first, under which access may last. One
/// that cannot be read is told, and equipment is refused its lists.
pub(crate) fn earlier_editions(records: &Records, active: u32) -> Vec<Arc<Edition>> {
    let numbers = (1..active).rev().take(MOST_EARLIER);
    let read = |number| match records.edition(number) {
        Ok(Some((row, Some(basis)))) => edition_of_old(&row, &basis).map(Arc::new),
        Ok(_) => None,
        Err(error) => {
            tracing::warn!("edition {number}, whose access lists equipment may still ask for, cannot be read: {error}");
            None
        }
    };
    numbers.filter_map(read).collect()
}

fn activate(records: &Records, files: PolicyFiles, languages: &Languages) -> Result<u32, AdministrationError> {
    let command = Command::activate(files, records.basis_of(languages.basis())?);
    let done = records.apply(&Envelope::new(&Author::machine(), now_ms(), command))?;
    Ok(done.edition.unwrap_or_default())
}

/// The active edition on the dictionaries and dialects of this release. Where these have
/// changed, that is a new edition, checked and activated like any other; one that does
/// not check stays on what it was checked with.
fn bring_up_to_date(
    records: &Records,
    stores: &StoreRegistry,
    languages: &Languages,
    active: EditionRow,
) -> Result<Edition, AdministrationError> {
    let schema = Surroundings::of_records(languages, stores, records)?.schema(languages);
    let current = active.basis.as_deref() == Some(&languages.basis().hash()[..]);
    let unfit = match languages.edition(active.number, Source::from(&active.files), &schema) {
        Ok(edition) if current => return Ok(edition),
        Ok(edition) => {
            let number = activate(records, active.files.clone(), languages)?;
            tracing::info!(
                "dictionaries or dialects have changed with this release: edition {} is active as edition {number}",
                active.number
            );
            return Ok(edition.numbered(number));
        }
        Err(checked) => AdministrationError::Unfit(Box::new(CheckReport::unfit(Unfit::Check(checked)))),
    };
    let before = records.edition(active.number)?.and_then(|(row, basis)| edition_of_old(&row, &basis?));
    let before = before.filter(|_| !current).ok_or(unfit)?;
    tracing::warn!(
        "edition {} does not check with the dictionaries and dialects of this release, and decides on with its own: \
         mend the policy and activate it",
        active.number
    );
    Ok(before)
}
