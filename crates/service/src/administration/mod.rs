//! Everything that people change goes through here, by what it is; the
//! [`committer::Committer`] is the one way into the records.

pub(crate) mod administrators;
pub(crate) mod audit;
pub(crate) mod certificates;
pub(crate) mod committer;
pub(crate) mod common_names;
pub(crate) mod downloads;
pub(crate) mod entries;
pub(crate) mod equipment;
pub(crate) mod fetching;
mod followers;
pub(crate) mod identities;
pub(crate) mod import;
pub(crate) mod inventories;
pub(crate) mod issuers;
pub(crate) mod languages;
mod named;
mod now_cases;
mod outside;
pub(crate) mod policies;
mod privilege;
pub(crate) mod profile;
pub(crate) mod renewal;
pub(crate) mod report;
pub(crate) mod revocation_lists;
pub(crate) mod second_factor;
pub(crate) mod secrets;
pub(crate) mod together;

use std::io;
use std::sync::Arc;

use regnant_records::{
    ImportError, InventoryError, LanguageKind, NodeAudit, RecordName, Records, RecordsError, TokenUses, Unusable,
    WeakPassword,
};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use thiserror::Error;

use crate::administration::administrators::Administrators;
use crate::administration::certificates::Certificates;
use crate::administration::committer::Committer;
use crate::administration::equipment::Equipment;
use crate::administration::identities::Identities;
use crate::administration::inventories::Inventories;
use crate::administration::languages::LanguageFiles;
use crate::administration::policies::{Policies, bring_up_to_date};
use crate::administration::report::CheckReport;
use crate::administration::secrets::NamedSecretRecords;
use crate::languages::LanguageError;
use crate::snapshot::{Environment, Snapshot};

/// What people administer, by what it is.
pub struct Administration {
    /// The policy and its editions.
    pub policies: Policies,
    /// What is presented, and who is trusted.
    pub certificates: Certificates,
    /// The equipment that asks.
    pub equipment: Equipment,
    /// People, machines and devices.
    pub identities: Identities,
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
    pub(crate) fn open(
        records: Records,
        environment: Environment,
        (uses, seen): (TokenUses, NodeAudit),
    ) -> Result<Self, AdministrationError> {
        bring_up_to_date(&records, &environment)?;
        let snapshot = environment.snapshot(&records)?;
        for unusable in snapshot.unusable() {
            tracing::error!("{unusable}; what needs it is refused, and a store counts as one that does not answer");
        }
        let committer = Arc::new(Committer::new(records, environment, snapshot));
        Ok(Self {
            policies: Policies::new(committer.clone()),
            certificates: Certificates { committer: committer.clone() },
            equipment: Equipment { committer: committer.clone() },
            identities: Identities { committer: committer.clone() },
            inventories: Inventories { committer: committer.clone() },
            administrators: Administrators { committer: committer.clone(), uses, seen },
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
    /// Something would be configured that cannot be used.
    #[error("{0}")]
    Unusable(Unusable),
    /// A check finds other warnings than those that were accepted.
    #[error(
        "the policy was not activated: the check finds other warnings than those that you accepted; read them, then activate again"
    )]
    NotAccepted(Box<CheckReport>),
    /// A file about how equipment speaks is wrong, or does not go together with others.
    #[error("nothing of the file was taken:\n{0}")]
    Language(#[from] LanguageError),
    /// An attribute of devices cannot be declared so.
    #[error("{0}")]
    Attribute(String),
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
    /// There is no such record.
    #[error("there is no {0}")]
    NotFound(RecordName),
    /// A record that the policy names.
    #[error("{record} keeps its name and stays: {by}; change the policy first")]
    RecordInUse {
        /// Which.
        record: RecordName,
        /// Who names it.
        by: String,
    },
    /// The new name of a group or site.
    #[error("the name of a {0} has 1 to 253 printable bytes")]
    CommonName(&'static str),
    /// Nobody has a group, and no NAS stands at a site.
    #[error("there is no {what} `{name}`: no record has it, the active policy does not name it, and nobody added it")]
    NoCommonName {
        /// What it is.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// A group or site that the policy names.
    #[error(
        "the {what} `{name}` stays: {by}. Change the policy first, or say that you want it anyway: its rules are then true of nobody who was in it"
    )]
    CommonNameInUse {
        /// What it is.
        what: &'static str,
        /// Its name.
        name: String,
        /// Who names it.
        by: String,
    },
    /// A site at which equipment stands.
    #[error(
        "`{name}` stays: {nases} {} there. Give what stands there another site first, or say that you want it anyway, and it stands nowhere", if *.nases == 1 { "NAS stands" } else { "NASes stand" }
    )]
    SiteHeld {
        /// Its name.
        name: String,
        /// How many.
        nases: u64,
    },
    /// There is such a group or site already.
    #[error("there is a {what} `{name}` already: say that you want it anyway, and the two become one")]
    CommonNameTaken {
        /// What it is.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// A certificate or trust that is in use.
    #[error("{record} is in use and stays: {by}")]
    InService {
        /// Which.
        record: RecordName,
        /// Who uses it.
        by: String,
    },
    /// Devices that no store lists.
    #[error("nothing was changed, for no store lists {}", .0.join(", "))]
    UnknownDevices(Vec<String>),
    /// None, or too many at once.
    #[error("{got} {what} were named: name 1 to {most} at once")]
    HowMany {
        /// What they are.
        what: &'static str,
        /// How many.
        got: usize,
        /// The most.
        most: usize,
    },
    /// A device that an engineer keeps out.
    #[error(
        "the engineer {by} barred {device} ({reason}): an engineer lets it in again, or says why else it stays out"
    )]
    BarredByEngineer {
        /// Which.
        device: regnant_base::Mac,
        /// Who.
        by: String,
        /// Why.
        reason: String,
    },
    /// Somebody whose password is not the helpdesk's to set.
    #[error("the password of `{name}` is for an engineer to set: {why}")]
    EngineersOnly {
        /// Who.
        name: String,
        /// Why.
        why: String,
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
    /// How a directory is asked makes no sense.
    #[error(transparent)]
    Directory(#[from] regnant_directory::SettingsError),
    /// How a service that tells facts is asked makes no sense.
    #[error(transparent)]
    Http(#[from] regnant_http_source::SettingsError),
    /// A fact that is told and has no type.
    #[error(transparent)]
    Told(#[from] regnant_outside::ToldError),
    /// A store of another kind.
    #[error("store `{0}` is not asked so: what a store holds, or that it is outside, is said when it is added")]
    OtherStore(String),
    /// A secret that would go to others than it was given for.
    #[error("give the secret anew: it is kept for the servers, the trust and the account that it was given for")]
    SecretAnew,
    /// Secrets that would go to others than they were given for.
    #[error(
        "trust `{trust}` gets an authority that it had not, and whoever that vouches for would be shown the secret of {}: \
         give it anew with the change, as it is kept", .stores.join(", ")
    )]
    SecretsAnew {
        /// The trust.
        trust: String,
        /// The stores.
        stores: Vec<String>,
    },
    /// A domain that takes no new password.
    #[error("the password stays as it was: {0}")]
    Domain(regnant_directory::Trouble),
    /// An edition that there is not.
    #[error("there is no edition {0}")]
    NoSuchEdition(u32),
    /// A draft that there is not.
    #[error("{0} has no draft")]
    NoDraft(String),
    /// A draft that was written elsewhere meanwhile.
    #[error("the draft was written meanwhile: read it again, and put what is yours into it")]
    DraftChanged,
    /// A file that would stand outside the policy's folder.
    #[error("the file {0}")]
    DraftPath(String),
    /// Whoever began something may not do it any more.
    #[error("your session or token ended, or may less by now: nothing was done")]
    NoLonger,
    /// More than any policy may have.
    #[error("it is longer than a policy may be: 8,000,000 bytes and 256 files")]
    LongPolicy,
    /// Work that ended with the service.
    #[error("the service stops")]
    Stopped,
    /// A secret that is missing.
    #[error("`secret` is missing: it goes into the header, or a token is had for it")]
    NoSecret,
    /// A secret of nobody.
    #[error("whose secret is it? Of a directory `bind-as` says it, of a service `header` or `token-url`")]
    NobodysSecret,
    /// When an administrator ends.
    #[error("`expires` is no time, such as 2026-12-31T18:00:00Z: {0}")]
    Expiry(String),
    /// Somebody new.
    #[error("administrator `{0}` is new: `password` is missing")]
    NoPassword(String),
    /// An administrator's password.
    #[error("an administrator's password has at least 10 characters")]
    Password,
    /// A password that is guessed soon.
    #[error("{0}; choose another")]
    WeakPassword(WeakPassword),
    /// What came cannot be kept until it is whole.
    #[error("what came cannot be kept beside the records: {0}; make room on the disk, then import it again")]
    Spool(io::Error),
    /// What came stopped.
    #[error("nothing was imported, for what came broke off: {0}")]
    Broken(io::Error),
    /// A line that has no end.
    #[error("nothing was imported: line {0} has more than {1} bytes")]
    LongLine(u64, u64),
    /// What is no CSV.
    #[error("nothing was imported: it is no CSV: {0}")]
    Csv(String),
    /// Too much at once.
    #[error("nothing was imported: it has more than {0} lines; import it in parts")]
    TooManyLines(u64),
    /// What ended in the middle.
    #[error(
        "{lines} lines were imported, and no more: {why}. Mend that and import the same file again: what is there stays as it is"
    )]
    ImportedInPart {
        /// How many are in force.
        lines: u64,
        /// Why no more.
        why: Box<AdministrationError>,
    },
    /// Somebody was faster.
    #[error("there is an administrator already: sign in, or ask one")]
    NotFirst,
    /// A token's name.
    #[error("the name of a token has at most 64 printable bytes")]
    TokenName,
    /// Nobody needs as many.
    #[error("an administrator has at most {0} tokens: revoke one first")]
    TooManyTokens(usize),
}

impl From<ImportError> for AdministrationError {
    fn from(error: ImportError) -> Self {
        match error {
            ImportError::Inventory(error) => error.into(),
            ImportError::Records(error) => error.into(),
        }
    }
}

/// What a record was when somebody looked at it: its ETag.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct RecordVersion(pub(crate) String);

impl RecordVersion {
    /// The version of a record. It changes with its secrets, and does not tell them.
    pub(crate) fn of(row: &impl Serialize) -> Self {
        let text = serde_json::to_vec(row).expect("a record has names for keys");
        Self(Sha256::digest(text)[..8].iter().map(|byte| format!("{byte:02x}")).collect())
    }

    /// The version of what is not there: no ETag that somebody can send, for none has a quote in it.
    pub(crate) fn absent() -> Self {
        Self("\"".into())
    }

    /// As HTTP writes it (RFC 9110 section 8.8.3).
    pub(crate) fn quoted(&self) -> String {
        format!("\"{}\"", self.0)
    }
}

/// Whether a record, or that there is none, is as the author of a change saw it; whoever did not look takes it as it is.
pub(crate) fn is_as_seen(
    name: &str,
    row: Option<&impl Serialize>,
    seen: Option<&RecordVersion>,
) -> Result<(), AdministrationError> {
    let version = || row.map_or_else(RecordVersion::absent, RecordVersion::of);
    match seen.is_some_and(|seen| *seen != version()) {
        true => Err(AdministrationError::Changed(name.to_owned())),
        false => Ok(()),
    }
}
