//! Everything that people change goes through here, by what it is; the
//! [`committer::Committer`] is the one way into the records.

pub(crate) mod administrators;
pub(crate) mod certificates;
pub(crate) mod committer;
pub(crate) mod downloads;
pub(crate) mod equipment;
pub(crate) mod inventories;
pub(crate) mod issuers;
pub(crate) mod languages;
pub(crate) mod policies;
pub(crate) mod profile;
pub(crate) mod renewal;
pub(crate) mod report;
pub(crate) mod revocation_lists;
pub(crate) mod secrets;

use std::sync::Arc;

use regnant_decision::OfferProblem;
use regnant_equipment::{GrantProblem, RenderError};
use regnant_records::{InventoryError, LanguageKind, Reading, Records, RecordsError};
use thiserror::Error;

use crate::administration::administrators::Administrators;
use crate::administration::certificates::Certificates;
use crate::administration::committer::Committer;
use crate::administration::equipment::Equipment;
use crate::administration::inventories::Inventories;
use crate::administration::languages::LanguageFiles;
use crate::administration::policies::{Policies, earlier_editions, first_edition};
use crate::administration::report::CheckReport;
use crate::administration::secrets::NamedSecretRecords;
use crate::languages::{LanguageError, Languages};
use crate::snapshot::{Environment, Snapshot, SnapshotError, Unfit};

/// What people administer, by what it is.
pub struct Administration {
    /// The policy and its editions.
    pub policies: Policies,
    /// What is presented, and who is trusted.
    pub certificates: Certificates,
    /// The equipment that asks.
    pub equipment: Equipment,
    /// Files of equipment, people and devices.
    pub inventories: Inventories,
    /// Who may change things.
    pub administrators: Administrators,
    /// How equipment speaks.
    pub languages: LanguageFiles,
    /// Secrets that replies carry.
    pub secrets: NamedSecretRecords,
    committer: Arc<Committer>,
}

impl Administration {
    /// Loads what the records hold; the first time, makes the first edition.
    pub(crate) fn open(records: Records, environment: Environment) -> Result<Self, AdministrationError> {
        let stores = environment.stores(&records.rows()?)?;
        let languages = Languages::of_records(&records)?;
        let edition = Arc::new(first_edition(&records, &stores.registry(), &languages)?);
        let earlier = earlier_editions(&records, edition.number);
        let mut snapshot = environment.snapshot(&records, stores, languages, edition)?;
        snapshot.active.earlier = earlier.into();
        let committer = Arc::new(Committer::new(records, environment, snapshot));
        Ok(Self {
            policies: Policies::new(committer.clone()),
            certificates: Certificates { committer: committer.clone() },
            equipment: Equipment { committer: committer.clone() },
            inventories: Inventories { committer: committer.clone() },
            administrators: Administrators { committer: committer.clone() },
            languages: LanguageFiles { committer: committer.clone() },
            secrets: NamedSecretRecords { committer: committer.clone() },
            committer,
        })
    }

    /// What decides now.
    pub(crate) fn snapshot(&self) -> Arc<Snapshot> {
        self.committer.snapshot.load_full()
    }

    pub(crate) fn environment(&self) -> &Environment {
        &self.committer.environment
    }
}

/// Checks a policy without any records, for the command line: every name of a
/// store passes, and what the dialect that ships cannot say is a warning.
pub fn check_alone(file: &str, text: &str) -> CheckReport {
    let languages = Languages::shipped();
    match languages.edition_alone(file, text) {
        Ok((edition, problems)) => {
            // What no RFC can say some other dialect may; what contradicts itself is wrong as it is.
            let elsewhere = |problem: &GrantProblem| {
                matches!(problem.cannot.error, RenderError::Cannot { .. } | RenderError::NoWay { .. })
            };
            let (doubts, errors): (Vec<_>, Vec<_>) = problems.into_iter().partition(elsewhere);
            match errors.is_empty() {
                true => CheckReport::fit(&edition).with_doubts(&doubts, edition.policy.source()),
                false => {
                    let errors = errors.into_iter().map(|error| (error, Vec::new())).collect();
                    CheckReport::unfit(Unfit::Grants(Box::new(edition), errors))
                }
            }
        }
        Err(checked) => CheckReport::unfit(Unfit::Check(checked)),
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
    /// The records have no active edition, which the start makes sure of.
    #[error("no edition is active; restart the service")]
    NoEdition,
    /// The inventory is wrong.
    #[error(transparent)]
    Inventory(#[from] InventoryError),
    /// A gate's certificates.
    #[error(transparent)]
    Offer(#[from] OfferProblem),
    /// A file about how equipment speaks is wrong, or does not go together with others.
    #[error("nothing of the file was taken:\n{0}")]
    Language(#[from] LanguageError),
    /// Such a file is too long.
    #[error("the file has {got} bytes and may have {most}")]
    FileTooLong {
        /// Its bytes.
        got: usize,
        /// The most that it may have.
        most: usize,
    },
    /// Somebody needs what was to be removed.
    #[error("the {kind} `{name}` is in use and stays: {by}", kind = .kind.word())]
    InUse {
        /// What it is.
        kind: LanguageKind,
        /// Its name.
        name: String,
        /// Who needs it.
        by: String,
    },
    /// The name of a secret.
    #[error("the name of a secret has up to 100 letters, digits and hyphens")]
    SecretName,
    /// A secret.
    #[error("a secret has 1 to {most} bytes, and this one has {got}")]
    SecretLength {
        /// Its bytes.
        got: usize,
        /// The most that it may have.
        most: usize,
    },
    /// There is no NAS of this name.
    #[error("there is no NAS `{0}`")]
    NoNas(String),
    /// A NAS that the policy names.
    #[error("NAS `{name}` keeps its name and stays: {by}; change the policy first")]
    NasInUse {
        /// Its name.
        name: String,
        /// Who names it.
        by: String,
    },
    /// Somebody changed it in between.
    #[error("`{0}` was changed in between: look at it again, then make your change")]
    Changed(String),
    /// A secret that the policy needs.
    #[error("the secret `{name}` is in use and stays: {by}")]
    SecretInUse {
        /// Its name.
        name: String,
        /// Who needs it.
        by: String,
    },
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
