use std::collections::{BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use regnant_equipment::Edition;
use regnant_policy::{PolicyFiles, bad_path};
use regnant_records::{
    Author, Command, Conflict, DraftOf, DraftRow, EditionRow, Envelope, Expected, Missing, Personal, Reading, Records,
    RecordsError, Refusal,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::AdministrationError;
use crate::administration::committer::Committer;
use crate::administration::now_cases::judge;
use crate::administration::report::CheckReport;
use crate::clock::now_ms;
use crate::languages::{Languages, edition_of_old};
use crate::snapshot::{Environment, Snapshot, Unfit};
use crate::surroundings::Surroundings;

/// The policy that a service without one begins with: nobody comes in.
pub(crate) const FIRST_POLICY: &str = "# The first edition: every request is refused until you write your own gates.\n\
    gate nobody { otherwise refuse }\n";
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
    /// The version of its author's draft that it was, which is forgotten with it.
    pub draft: Option<u64>,
    /// The warnings that are meant so; whatever is found where none are said.
    pub accepted: Option<Vec<AcceptedWarning>>,
}

/// A warning that was read, and is meant so.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AcceptedWarning {
    /// Its code, such as `W412`.
    pub code: String,
    /// What it says.
    pub message: String,
}

impl From<&str> for Wanted {
    fn from(main: &str) -> Self {
        Self { files: main.into(), note: String::new(), made_from: None, draft: None, accepted: None }
    }
}

/// What a check depends on.
struct Around {
    names: Surroundings,
    languages: Arc<Languages>,
    hash: [u8; 32],
}

impl PartialEq for Around {
    fn eq(&self, other: &Self) -> bool {
        self.hash == other.hash
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
        Ok(match self.checked(&self.around()?, files, to_activate) {
            Ok(edition) if to_activate => self.judged(&edition, CheckReport::fit_to_activate(&edition)),
            Ok(edition) => self.judged(&edition, CheckReport::fit(&edition)),
            Err(unfit) => CheckReport::unfit(unfit),
        })
    }

    fn checked(&self, around: &Around, files: &PolicyFiles, to_activate: bool) -> Result<Arc<Edition>, Unfit> {
        self.committer.environment.checked.check(files, &around.names, &around.languages, to_activate)
    }

    fn around(&self) -> Result<Around, AdministrationError> {
        let now = self.committer.snapshot.load_full();
        let names = self.surroundings(&now)?;
        Ok(Around { hash: names.hash(), names, languages: now.languages.clone() })
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
        // Whoever changes something else waits for no policy that is compiled.
        let checked = |around: &Around| {
            let edition = self
                .checked(around, &wanted.files, true)
                .map_err(|unfit| AdministrationError::Unfit(Box::new(CheckReport::unfit(unfit))))?;
            let report = self.judged(&edition, CheckReport::fit_to_activate(&edition));
            if report.failed_cases() > 0 || report.errors() > 0 {
                return Err(AdministrationError::Unfit(Box::new(report)));
            }
            match &wanted.accepted {
                Some(accepted) if !report.warnings_are(accepted) => {
                    Err(AdministrationError::NotAccepted(Box::new(report)))
                }
                _ => Ok(report),
            }
        };
        let (turn, around, report) = self.committer.prepared(|| self.around(), checked)?;
        let Wanted { files: PolicyFiles { main: source, included }, note, made_from, draft, accepted } = wanted;
        let note = if accepted.is_some() { noted(note, &report) } else { note };
        let basis = self.committer.records.basis_of(around.languages.basis())?;
        let draft = draft.map(|version| DraftOf { author: by.name.clone(), version });
        let command = Command::ActivateEdition { source, included, note, made_from, basis, draft };
        let before = self.committer.snapshot.load().active.edition.clone();
        let done = turn.commit_expecting(by, command, expected.map_or(Expected::Anything, Expected::Edition))?;
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
        Ok(self.active()?.0.files.main == FIRST_POLICY)
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

    /// The draft of an author, as it was when its author saw this version.
    pub(crate) fn draft_of(&self, author: &str, version: u64) -> Result<DraftRow, AdministrationError> {
        let draft = self.draft(author)?;
        match draft.version == version {
            true => Ok(draft),
            false => Err(AdministrationError::DraftChanged),
        }
    }

    /// Writes the draft of an author, where it still has the version that was seen: 0 where there was none.
    pub fn put_draft(
        &self,
        by: &Author,
        files: PolicyFiles,
        made_from: u32,
        seen: u64,
    ) -> Result<DraftRow, AdministrationError> {
        fits(&files)?;
        if let Some((path, why)) = files.included.keys().find_map(|path| Some((path, bad_path(path)?))) {
            return Err(AdministrationError::DraftPath(format!("`{}` {why}", path.escape_debug())));
        }
        let (author, changed_at) = (by.name.clone(), now_ms());
        let mut draft = DraftRow { author, files, made_from, changed_at, version: seen };
        let command = Command::Personal(Personal::PutDraft(draft.clone()));
        self.committer.apply(by, command).map_err(draft_changed)?;
        draft.version += 1;
        Ok(draft)
    }

    /// Forgets the draft of an author, where a version is said only while it is that.
    pub fn remove_draft(&self, by: &Author, seen: Option<u64>) -> Result<(), AdministrationError> {
        let command = Command::Personal(Personal::RemoveDraft { author: by.name.clone(), version: seen });
        match self.committer.apply(by, command) {
            Err(AdministrationError::Records(RecordsError::Refused(Refusal::NotFound(Missing::Draft)))) => {
                Err(AdministrationError::NoDraft(by.name.clone()))
            }
            done => done.map(drop).map_err(draft_changed),
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
            let edition = found.and_then(|(row, basis)| edition_of_old(&row, &basis)).map(Arc::new);
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

fn draft_changed(error: AdministrationError) -> AdministrationError {
    match error {
        AdministrationError::Records(RecordsError::Refused(Refusal::Conflict(Conflict::Draft))) => {
            AdministrationError::DraftChanged
        }
        error => error,
    }
}

/// The note of an edition, with the codes of the warnings that were accepted.
fn noted(note: String, report: &CheckReport) -> String {
    let codes: BTreeSet<_> = report.warnings().map(|warning| warning.code.as_str()).collect();
    match codes.is_empty() {
        true => note,
        false => {
            format!("{note} (accepted: {})", codes.into_iter().collect::<Vec<_>>().join(", ")).trim_start().to_owned()
        }
    }
}

/// Makes the first edition where there is none; where the dictionaries and dialects of this release are others than
/// those that the active one was checked with, makes it a new edition, checked and activated like any other. One
/// that does not check stays on what it was checked with.
pub(crate) fn bring_up_to_date(records: &Records, environment: &Environment) -> Result<(), AdministrationError> {
    let (languages, _) = Languages::of_records(records)?;
    let Some(active) = records.active_edition()? else {
        return activate(records, FIRST_POLICY.into(), &languages).map(drop);
    };
    if active.basis == languages.basis().hash() {
        return Ok(());
    }
    let names = Surroundings::of_records(&languages, &environment.snapshot(records)?.registry(), records)?;
    match environment.checked.numbered(0, &active.files, &names, &languages) {
        Ok(_) => {
            let number = activate(records, active.files, &languages)?;
            tracing::info!(
                "dictionaries or dialects have changed with this release: edition {} is active as edition {number}",
                active.number
            );
        }
        Err(_) => tracing::warn!(
            "edition {} does not check with the dictionaries and dialects of this release, and decides on with its \
             own: mend the policy and activate it",
            active.number
        ),
    }
    Ok(())
}

fn activate(records: &Records, files: PolicyFiles, languages: &Languages) -> Result<u32, AdministrationError> {
    let command = Command::activate(files, records.basis_of(languages.basis())?);
    let done = records.apply(&Envelope::new(&Author::machine(), now_ms(), command))?;
    Ok(done.edition.unwrap_or_default())
}
