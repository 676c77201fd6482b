//! Everything that people change goes through here, one change at a time: check,
//! write, swap the snapshot.

pub(crate) mod certificates;
pub(crate) mod downloads;
pub(crate) mod issuers;
pub(crate) mod profile;
pub(crate) mod renewal;
pub(crate) mod report;
pub(crate) mod revocation_lists;

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arc_swap::ArcSwap;
use regnant_access::{Dialect, Edition, OfferProblem};
use regnant_policy::{Compiled, Source};
use regnant_records::{
    Change, EditionRow, Inventory, InventoryError, NasRow, Reading, Records, RecordsError, hash_password, new_token,
    token_hash,
};
use thiserror::Error;

use crate::administration::report::CheckReport;
use crate::clock::now_ms;
use crate::snapshot::{Environment, Snapshot, SnapshotError, Unfit, basis, fact_table};

/// The policy that a service without one begins with: nobody comes in.
const FIRST_POLICY: &str = "# The first edition: every request is refused until you write your own gates.\n\
    gate nobody { otherwise refuse }\n";
/// What earlier releases began with. It means the same, and no check lets it pass.
const FIRST_POLICY_BEFORE: &str = "# The first edition: every request is refused until you write a gate.\n";

/// Where changes are made and inventories are read.
pub struct Administration {
    pub(crate) records: Records,
    pub(crate) environment: Environment,
    pub(crate) snapshot: ArcSwap<Snapshot>,
    /// Held from check to swap, so that two changes cannot cross.
    one_at_a_time: Mutex<()>,
    /// Editions that entries of the journal tell of, the one read last at the end.
    read_before: Mutex<VecDeque<(u32, Option<Arc<Edition>>)>>,
}

/// Editions that are kept compiled for readers of the journal.
const MOST_READ: usize = 8;

impl Administration {
    /// Loads what the records hold; the first time, makes the first edition.
    pub(crate) fn open(records: Records, environment: Environment) -> Result<Self, AdministrationError> {
        if records.active_edition()?.is_none() {
            records.apply(&Change::activate_edition(1, FIRST_POLICY, &basis(), now_ms(), "regnant"))?;
        }
        let mut active = records.active_edition()?.ok_or(AdministrationError::NoEdition)?;
        if active.source == FIRST_POLICY_BEFORE {
            active.source = FIRST_POLICY.into();
        }
        let edition = Arc::new(bring_up_to_date(&records, &environment, active)?);
        let snapshot = environment.snapshot(&records, edition)?;
        Ok(Self {
            records,
            environment,
            snapshot: ArcSwap::from_pointee(snapshot),
            one_at_a_time: Mutex::new(()),
            read_before: Mutex::default(),
        })
    }

    /// Adds or changes equipment, people and devices. Takes tens of milliseconds
    /// for each person, whose password is hashed.
    pub fn import(&self, inventory: Inventory) -> Result<(), AdministrationError> {
        let _turn = self.turn();
        let dialects: Vec<_> = self.environment.dialects.iter().map(|dialect| dialect.name.clone()).collect();
        let change = inventory.into_change(
            &self.environment.key,
            &self.records.stores()?,
            &self.records.names_beyond_ascii()?,
            &dialects,
        )?;
        self.put_in_force(&change)
    }

    /// Writes a change and swaps the snapshot that follows from it in; where no snapshot
    /// follows, nothing is written. Conversations in flight end under what they began
    /// with.
    fn put_in_force(&self, change: &Change) -> Result<(), AdministrationError> {
        let edition = self.snapshot.load().setting.edition.clone();
        let snapshot = self.records.apply_and(change, |records| self.environment.snapshot(records, edition))?;
        self.snapshot.store(Arc::new(snapshot));
        Ok(())
    }

    /// Checks a policy against the records and runs its cases.
    pub fn check(&self, source: &str) -> Result<CheckReport, AdministrationError> {
        let schema = self.environment.schema(&self.records)?;
        Ok(match self.environment.edition(0, source, &schema) {
            Ok(edition) => CheckReport::fit(&edition),
            Err(unfit) => CheckReport::unfit(unfit),
        })
    }

    /// Makes a policy the active edition, and gives its number. One that does not
    /// check, or whose cases fail, changes nothing. `expected` is the edition that
    /// the author saw: another one means that somebody was faster.
    pub fn activate(
        &self,
        source: &str,
        by: &str,
        expected: Option<u32>,
    ) -> Result<(u32, CheckReport), AdministrationError> {
        let _turn = self.turn();
        let active = self.snapshot.load().setting.edition.number;
        if let Some(expected) = expected.filter(|expected| *expected != active) {
            return Err(AdministrationError::Overtaken { expected, active });
        }
        let number = self.records.next_edition()?;
        let schema = self.environment.schema(&self.records)?;
        let edition = self
            .environment
            .edition(number, source, &schema)
            .map_err(|unfit| AdministrationError::Unfit(Box::new(CheckReport::unfit(unfit))))?;
        let report = CheckReport::fit(&edition);
        if report.failed_cases() > 0 {
            return Err(AdministrationError::Unfit(Box::new(report)));
        }
        let snapshot = self.environment.snapshot(&self.records, Arc::new(edition))?;
        self.records.apply(&Change::activate_edition(number, source, &basis(), now_ms(), by))?;
        let before = self.snapshot.swap(Arc::new(snapshot)).setting.edition.clone();
        self.keep_to_read(before.number, Some(before));
        Ok((number, report))
    }

    /// The active edition with its warnings.
    pub fn active(&self) -> Result<(EditionRow, CheckReport), AdministrationError> {
        let row = self.records.active_edition()?.ok_or(AdministrationError::NoEdition)?;
        Ok((row, CheckReport::fit(&self.snapshot.load().setting.edition)))
    }

    /// Every edition, newest first.
    pub fn editions(&self) -> Result<Vec<EditionRow>, AdministrationError> {
        Ok(self.records.editions()?)
    }

    /// The edition that decided something, to read about it. Where it cannot be had any
    /// more, the active one: its number tells that it is another.
    pub(crate) fn edition_to_read(&self, number: u32) -> Arc<Edition> {
        let active = self.snapshot.load().setting.edition.clone();
        if active.number == number {
            return active;
        }
        let known =
            || self.read_before().iter().find(|(known, _)| *known == number).map(|(_, edition)| edition.clone());
        let edition = known().unwrap_or_else(|| {
            let found = self.records.edition(number).unwrap_or_else(|error| {
                tracing::warn!("edition {number} cannot be read: {error}");
                None
            });
            let edition = found.and_then(|(row, basis)| Environment::edition_of_old(&row, &basis?)).map(Arc::new);
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

    /// Every NAS, without its secret.
    pub fn nases(&self) -> Result<Vec<NasRow>, AdministrationError> {
        Ok(self.records.nas_rows()?)
    }

    /// Adds an administrator, or gives one a new password.
    pub fn set_administrator(&self, name: &str, password: &str) -> Result<(), AdministrationError> {
        if name.trim().is_empty() || name.len() > 64 {
            return Err(AdministrationError::Name);
        }
        if password.chars().count() < 10 || password.len() > 1024 {
            return Err(AdministrationError::Password);
        }
        let change = Change::administrator(name.trim(), &hash_password(password.as_bytes()), now_ms());
        Ok(self.records.apply(&change)?)
    }

    /// A token with which a program acts as this administrator.
    pub fn token_for(&self, administrator: &str) -> Result<String, AdministrationError> {
        let token = new_token();
        self.records.apply(&Change::token(token_hash(&token), administrator, now_ms()))?;
        Ok(token)
    }

    fn turn(&self) -> MutexGuard<'_, ()> {
        self.one_at_a_time.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The active edition on the dictionaries and dialects of this release. Where these have
/// changed, that is a new edition, checked and activated like any other; one that does
/// not check stays on what it was checked with.
fn bring_up_to_date(
    records: &Records,
    environment: &Environment,
    active: EditionRow,
) -> Result<Edition, AdministrationError> {
    let (basis, schema) = (basis(), environment.schema(records)?);
    let current = active.basis.as_deref() == Some(&basis.hash()[..]);
    let number = if current { active.number } else { records.next_edition()? };
    let unfit = match environment.edition(number, &active.source, &schema) {
        Ok(edition) if current => return Ok(edition),
        Ok(edition) => {
            records.apply(&Change::activate_edition(number, &active.source, &basis, now_ms(), "regnant"))?;
            tracing::info!(
                "dictionaries or dialects have changed with this release: edition {} is active as edition {number}",
                active.number
            );
            return Ok(edition);
        }
        Err(unfit) => AdministrationError::Unfit(Box::new(CheckReport::unfit(unfit))),
    };
    let before = records.edition(active.number)?.and_then(|(row, basis)| Environment::edition_of_old(&row, &basis?));
    let before = before.filter(|_| !current).ok_or(unfit)?;
    tracing::warn!(
        "edition {} does not check with the dictionaries and dialects of this release, and decides on with its own: \
         mend the policy and activate it",
        active.number
    );
    Ok(before)
}

/// Checks a policy without any records, for the command line: every name of a
/// store passes.
pub fn check_alone(file: &str, text: &str) -> CheckReport {
    let table = Arc::new(fact_table());
    let fit = Compiled::from_source(Source::new(file, text), table.schema()).map_err(Unfit::Check).and_then(|policy| {
        let dialects = [Dialect::standard(table.dictionary())];
        Edition::prepare(0, policy, &dialects, table.clone()).map_err(Unfit::Grants)
    });
    match fit {
        Ok(edition) => CheckReport::fit(&edition),
        Err(unfit) => CheckReport::unfit(unfit),
    }
}

impl From<SnapshotError> for AdministrationError {
    fn from(error: SnapshotError) -> Self {
        match error {
            SnapshotError::Records(error) => Self::Records(error),
            SnapshotError::Offer(problem) => Self::Offer(problem),
        }
    }
}

/// Why a change was not made. What was active stays active.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum AdministrationError {
    /// The policy does not check, or its cases fail; the report says why.
    #[error("the policy cannot be activated: {}", .0.summary())]
    Unfit(Box<CheckReport>),
    /// Somebody activated another edition in between.
    #[error(
        "edition {active} is active and you began with edition {expected}: look at what changed, then activate again"
    )]
    Overtaken {
        /// The edition that the author saw.
        expected: u32,
        /// The edition that is active.
        active: u32,
    },
    /// The records have no active edition, which the start makes sure of.
    #[error("no edition is active; restart the service")]
    NoEdition,
    /// The inventory is wrong.
    #[error(transparent)]
    Inventory(#[from] InventoryError),
    /// A gate's certificates.
    #[error(transparent)]
    Offer(#[from] OfferProblem),
    /// A certificate or key that somebody brought.
    #[error("{0}")]
    Certificate(String),
    /// A supplicant profile that cannot be made.
    #[error("{0}")]
    Profile(String),
    /// The records refused.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// An administrator's name.
    #[error("an administrator's name has 1 to 64 bytes")]
    Name,
    /// An administrator's password.
    #[error("an administrator's password has at least 10 characters")]
    Password,
}
