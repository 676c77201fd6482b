//! What changes records: a command in an envelope, and what came of it.
//!
//! Whoever proposes a command has fixed everything about it: its time and id, every
//! random value, salt, hash and sealed secret, and has made the expensive checks.
//! Applying it sees the records and the envelope and nothing else, so every node that
//! applies the same commands in the same order has the same records.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;

use regnant_base::Network;
use regnant_policy::PolicyFiles;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::database::drafts::DraftRow;
use crate::database::editions::Basis;
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::rows::{
    CertificateRow, LanguageKind, LanguageRow, Role, Rows, SecretRow, TrustRow, as_text, named_secret_context,
    private_key_context, second_factor_context,
};
use crate::sealing::{KeyId, Sealed, random};

/// The version of commands that this release writes, and the newest that it applies.
pub const VERSION: u16 = if cfg!(feature = "next-release") { 2 } else { 1 };

/// A command, and who wants it when.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Envelope {
    /// The version of the command's form.
    pub version: u16,
    /// Never given twice; where it comes again, the first outcome is the answer.
    pub id: CommandId,
    /// Who wants it.
    pub author: Author,
    /// Milliseconds since 1970 (UTC).
    pub at: u64,
    /// What the author saw.
    pub expected: Expected,
    /// What is to be done.
    pub command: Command,
}

impl Envelope {
    /// A command of now, under a new id, whatever it finds.
    pub fn new(author: &Author, at: u64, command: Command) -> Self {
        let (author, id) = (author.clone(), CommandId::new(at));
        Self { version: VERSION, id, author, at, expected: Expected::Anything, command }
    }

    /// The same, only where the records are as its author saw them.
    #[must_use]
    pub fn expecting(self, expected: Expected) -> Self {
        Self { expected, ..self }
    }
}

/// Who wants something changed, and from where.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Author {
    /// The administrator, or `regnant`.
    pub name: String,
    /// From where: `127.0.0.1`, `127.0.0.1, token ci`, `this machine`.
    pub from: String,
}

impl Author {
    /// An administrator at some address.
    pub fn new(name: impl Into<String>, from: impl Into<String>) -> Self {
        Self { name: name.into(), from: from.into() }
    }

    /// The service itself, or whoever is root where it runs.
    pub fn machine() -> Self {
        Self::new("regnant", "this machine")
    }
}

/// The id of a command: a ULID.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct CommandId(#[serde(with = "as_text")] ulid::Ulid);

impl CommandId {
    /// A new one, of this time in milliseconds since 1970.
    pub fn new(at: u64) -> Self {
        Self(ulid::Ulid::from_parts(at, u128::from_be_bytes(random())))
    }

    pub(crate) fn bytes(self) -> [u8; 16] {
        self.0.to_bytes()
    }

    pub(crate) fn from_bytes(bytes: [u8; 16]) -> Self {
        Self(ulid::Ulid::from_bytes(bytes))
    }
}

impl fmt::Display for CommandId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// What the author of a command saw; where it is otherwise by now, nothing is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Expected {
    /// It does not matter.
    Anything,
    /// This edition is active.
    Edition(u32),
    /// This was the last command.
    Revision(u64),
}

/// What is to be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Command {
    /// Adds equipment, people and devices, or changes those that there are by name or
    /// address; all or none.
    Import(Import),
    /// Adds records, of which there are none of these names.
    Add(Rows),
    /// Puts records in the place of others, most often of themselves.
    Change {
        /// Those before; each is there. One whose name is none of the rows' is forgotten.
        was: Vec<RecordName>,
        /// What is there from now on.
        rows: Rows,
    },
    /// Forgets records.
    Remove(Vec<RecordName>),
    /// Somebody was shown the secret of a record, which changes nothing and is kept in the
    /// log.
    Reveal(RecordName),
    /// Keeps a certificate, in the place of one of its name.
    SetCertificate(CertificateRow),
    /// Keeps a trust, in the place of one of its name.
    SetTrust(TrustRow),
    /// Sets or takes away the second factor of an administrator.
    SetSecondFactor {
        /// Whose it is.
        administrator: String,
        /// Its secret.
        secret: Option<Sealed>,
        /// What opens once in its place.
        recovery: Vec<TokenHash>,
    },
    /// Records a token.
    AddToken {
        /// Its hash.
        hash: TokenHash,
        /// Whose it is.
        administrator: String,
        /// What its owner calls it.
        name: String,
        /// What it may do, as far as its owner may.
        role: Role,
        /// When it ends, in milliseconds since 1970.
        expires: Option<i64>,
        /// The token that it was made with, and with which it ends.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        parent: Option<TokenHash>,
    },
    /// Says of a token that there is what it is called, may do and when it ends.
    ChangeToken {
        /// Its hash.
        hash: TokenHash,
        /// What its owner calls it.
        name: String,
        /// What it may do, as far as its owner may.
        role: Role,
        /// When it ends, in milliseconds since 1970.
        expires: Option<i64>,
    },
    /// Forgets a token, with those that were made with it.
    RemoveToken {
        /// Its hash.
        hash: TokenHash,
    },
    /// Forgets every token of an administrator.
    RemoveTokens {
        /// Whose they are.
        administrator: String,
    },
    /// Somebody took a backup, which changes nothing and is kept in the log.
    Backup {
        /// Whether the sealing key is in it.
        with_key: bool,
    },
    /// What somebody does for themselves.
    Personal(Personal),
    /// These records took the place of others; every session ends.
    Restore {
        /// When they were backed up.
        made: String,
        /// The last change of the records that were there before, and its hash; none where there were none, or
        /// they could not be read.
        replaced: Option<(u64, String)>,
        /// Whether tokens go on.
        keep_tokens: bool,
    },
    /// Makes a policy the active edition, under the next number, and retires the one
    /// before.
    ActivateEdition {
        /// The text of `main.writ`.
        source: String,
        /// The files that it includes, by their paths.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        included: BTreeMap<String, String>,
        /// Why.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        note: String,
        /// The edition that it was made from.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        made_from: Option<u32>,
        /// What it was checked with.
        basis: BasisOf,
        /// The draft that it was, which is forgotten unless it was written meanwhile.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        draft: Option<DraftOf>,
    },
    /// Keeps a secret that replies carry, in the place of one of its name.
    SetSecret(SecretRow),
    /// Forgets one.
    RemoveSecret {
        /// Its name.
        name: String,
    },
    /// Keeps a file about how equipment speaks, in the place of one of its kind and name;
    /// the active policy goes on as a new edition that was checked with it.
    SetLanguage {
        /// The file.
        row: LanguageRow,
        /// What the policy was checked with.
        basis: BasisOf,
    },
    /// Forgets such a file, in the same way.
    RemoveLanguage {
        /// What it is.
        kind: LanguageKind,
        /// Its name.
        name: String,
        /// What the policy was checked with.
        basis: BasisOf,
    },
    /// Secrets are sealed under this key from now on.
    UseKey {
        /// The key.
        key: KeyId,
    },
    /// Says of a NAS what only the next release knows. There is no such release yet: what one would bring is tried
    /// with this.
    #[cfg(feature = "next-release")]
    SayMore {
        /// Its name.
        nas: String,
        /// What.
        more: String,
    },
}

/// What somebody does for themselves: no decision depends on it, so that no snapshot follows from it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Personal {
    /// Somebody signed in.
    OpenSession {
        /// The hash of what their browser shows from now on.
        hash: TokenHash,
        /// Who it is.
        administrator: String,
        /// When it ends, in milliseconds since 1970.
        ends: i64,
        /// What was shown beside the password.
        code: ShownCode,
    },
    /// Somebody signed out.
    CloseSession {
        /// The hash of what their browser showed.
        hash: TokenHash,
    },
    /// Writes the draft of the policy of its author, where it has the version that was seen, 0 where there was none; it
    /// has the next from then on. That leaves no entry in the log: what was not activated decides nothing.
    PutDraft(DraftRow),
    /// Forgets a draft, where a version is said only that. That leaves no entry either.
    RemoveDraft {
        /// Whose it is.
        author: String,
        /// How often it was written.
        version: Option<u64>,
    },
}

impl Personal {
    /// Whether it stands in the log.
    pub(crate) fn is_logged(&self) -> bool {
        matches!(self, Self::OpenSession { .. } | Self::CloseSession { .. })
    }
}

/// Equipment, people and devices that came together.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Import {
    /// What tells two files apart: a hash of what was imported, under a key, since it
    /// holds passwords that could be guessed by it otherwise.
    pub file: String,
    /// What it holds.
    pub rows: Rows,
}

/// A draft of the policy as somebody saw it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DraftOf {
    /// Whose it is.
    pub author: String,
    /// How often it was written.
    pub version: u64,
}

/// What was shown beside the password at a sign-in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ShownCode {
    /// Nothing.
    None,
    /// The code of this time step (RFC 6238 section 4.2).
    Step(i64),
    /// A recovery code of this hash.
    Recovery(TokenHash),
}

/// SHA-256 of a token.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct TokenHash(pub [u8; 32]);

impl fmt::Debug for TokenHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("TokenHash(..)")
    }
}

/// What an edition was checked with, in a command.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum BasisOf {
    /// What the records have already, by its hash.
    Known([u8; 32]),
    /// This.
    New(Basis),
}

impl Command {
    /// Makes these files the active edition.
    pub fn activate(files: PolicyFiles, basis: BasisOf) -> Self {
        let PolicyFiles { main: source, included } = files;
        Self::ActivateEdition { source, included, note: String::new(), made_from: None, basis, draft: None }
    }

    /// The records that it sets, as they will be.
    pub fn rows(&self) -> Cow<'_, Rows> {
        let of = |rows| Cow::Owned(rows);
        match self {
            Self::Import(import) => Cow::Borrowed(&import.rows),
            Self::Add(rows) | Self::Change { rows, .. } => Cow::Borrowed(rows),
            Self::SetCertificate(row) => of(Rows { certificates: vec![row.clone()], ..Rows::default() }),
            Self::SetTrust(row) => of(Rows { trusts: vec![row.clone()], ..Rows::default() }),
            Self::SetSecret(row) => of(Rows { named_secrets: vec![row.clone()], ..Rows::default() }),
            Self::SetLanguage { row, .. } => of(Rows { languages: vec![row.clone()], ..Rows::default() }),
            Self::Remove(_)
            | Self::Reveal(_)
            | Self::SetSecondFactor { .. }
            | Self::AddToken { .. }
            | Self::ChangeToken { .. }
            | Self::RemoveToken { .. }
            | Self::RemoveTokens { .. }
            | Self::Backup { .. }
            | Self::Personal(_)
            | Self::Restore { .. }
            | Self::ActivateEdition { .. }
            | Self::RemoveLanguage { .. }
            | Self::RemoveSecret { .. }
            | Self::UseKey { .. } => of(Rows::default()),
            #[cfg(feature = "next-release")]
            Self::SayMore { .. } => of(Rows::default()),
        }
    }

    /// The records that it takes away, or puts others in the place of.
    pub fn gone(&self) -> &[RecordName] {
        match self {
            Self::Change { was, .. } | Self::Remove(was) => was,
            _ => &[],
        }
    }

    /// The names of certificates that it sets or takes away.
    pub fn certificates(&self) -> impl Iterator<Item = &str> {
        let set = match self {
            Self::SetCertificate(row) => Some(row.name.as_str()),
            _ => None,
        };
        let gone = self.gone().iter().filter_map(|name| match name {
            RecordName::Certificate(name) => Some(name.as_str()),
            _ => None,
        });
        set.into_iter().chain(gone)
    }

    /// Every secret in it, with what it is sealed as.
    pub(crate) fn secrets(
        &mut self,
        each: impl Fn(&str, &mut Sealed) -> Result<(), RecordsError>,
    ) -> Result<(), RecordsError> {
        match self {
            Self::Import(import) => import.rows.secrets(each),
            Self::Add(rows) | Self::Change { rows, .. } => rows.secrets(each),
            Self::SetCertificate(row) => each(&private_key_context(&row.name), &mut row.key),
            Self::SetSecret(row) => each(&named_secret_context(&row.name), &mut row.value),
            Self::SetSecondFactor { administrator, secret: Some(secret), .. } => {
                each(&second_factor_context(administrator), secret)
            }
            Self::SetTrust(_)
            | Self::Remove(_)
            | Self::Reveal(_)
            | Self::SetSecondFactor { secret: None, .. }
            | Self::AddToken { .. }
            | Self::ChangeToken { .. }
            | Self::RemoveToken { .. }
            | Self::RemoveTokens { .. }
            | Self::Backup { .. }
            | Self::Personal(_)
            | Self::Restore { .. }
            | Self::ActivateEdition { .. }
            | Self::SetLanguage { .. }
            | Self::RemoveLanguage { .. }
            | Self::RemoveSecret { .. }
            | Self::UseKey { .. } => Ok(()),
            #[cfg(feature = "next-release")]
            Self::SayMore { .. } => Ok(()),
        }
    }

    /// Whether it stands in the log; one that does not is applied again where it comes again.
    pub(crate) fn is_logged(&self) -> bool {
        match self {
            Self::Personal(personal) => personal.is_logged(),
            _ => true,
        }
    }

    /// The words for what it does.
    pub fn word(&self) -> String {
        let of = |verb: &str, mut names: Box<dyn Iterator<Item = RecordName> + '_>| {
            let first = names.next().map_or("nothing", |name| name.kind());
            let same = names.all(|name| name.kind() == first);
            format!("{verb} {}", if same { first } else { "records" })
        };
        match self {
            Self::Import(_) => "import",
            Self::Add(rows) => return of("add", Box::new(rows.names())),
            Self::Change { rows, .. } => return of("change", Box::new(rows.names())),
            Self::Remove(names) => return of("remove", Box::new(names.iter().cloned())),
            Self::Reveal(RecordName::Nas(_)) => "reveal NAS secret",
            Self::Reveal(_) => "reveal secret",
            Self::SetCertificate(_) => "set certificate",
            Self::SetTrust(_) => "set trust",
            Self::SetSecondFactor { secret: Some(_), .. } => "set second factor",
            Self::SetSecondFactor { .. } => "remove second factor",
            Self::AddToken { .. } => "add token",
            Self::ChangeToken { .. } => "change token",
            Self::RemoveToken { .. } => "remove token",
            Self::RemoveTokens { .. } => "remove tokens",
            Self::Backup { .. } => "back up",
            Self::Personal(Personal::OpenSession { .. }) => "sign in",
            Self::Personal(Personal::CloseSession { .. }) => "sign out",
            Self::Personal(Personal::PutDraft(_)) => "write draft",
            Self::Personal(Personal::RemoveDraft { .. }) => "forget draft",
            Self::Restore { .. } => "restore",
            Self::ActivateEdition { .. } => "activate policy",
            Self::SetSecret(_) => "set secret",
            Self::RemoveSecret { .. } => "remove secret",
            Self::SetLanguage { row, .. } => return format!("set {}", row.kind.word()),
            Self::RemoveLanguage { kind, .. } => return format!("remove {}", kind.word()),
            Self::UseKey { .. } => "set sealing key",
            #[cfg(feature = "next-release")]
            Self::SayMore { .. } => "say more of NAS",
        }
        .to_owned()
    }
}

/// What came of a command.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// It was done.
    Done(Done),
    /// It does not go together with what there is; nothing was done.
    Conflict(Conflict),
    /// It names what there is not; nothing was done.
    NotFound(Missing),
    /// It cannot be done at all; nothing was done.
    Invalid(Fault),
}

/// What was done.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Done {
    /// The number of the edition that it made.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub edition: Option<u32>,
}

/// What a command does not go together with.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, Error)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Conflict {
    /// Another edition is active.
    #[error(
        "edition {active} is active and you began with edition {expected}: look at what changed, then activate again"
    )]
    Edition {
        /// The edition that the author saw.
        expected: u32,
        /// The edition that is active.
        active: u32,
    },
    /// Something was changed in between.
    #[error(
        "something was changed in between (revision {current}, you began with {expected}): look at it, then try again"
    )]
    Revision {
        /// The revision that the author saw.
        expected: u64,
        /// The last one.
        current: u64,
    },
    /// Two NASes with one address could not be told apart.
    #[error(
        "NAS `{name}` would have the address {network}, which NAS `{other}` has: two NASes never have the same address or block; give each its own"
    )]
    SameAddress {
        /// The one that was to have it.
        name: String,
        /// The address or block.
        #[serde(with = "as_text")]
        network: Network,
        /// The one that has it.
        other: String,
    },
    /// There is one already.
    #[error("there is a {0} already; case does not count")]
    Exists(RecordName),
    /// Somebody must be able to mend things.
    #[error(
        "nobody would be left who may change everything: at least one engineer is not disabled and does not expire; make \
         another engineer first"
    )]
    LastEngineer,
    /// A store that holds something.
    #[error("store `{name}` holds {people} people, {machines} machines and {devices} devices: remove them first")]
    StoreHolds {
        /// Its name.
        name: String,
        /// How many people.
        people: u64,
        /// How many machines.
        machines: u64,
        /// How many devices.
        devices: u64,
    },
    /// A draft was written elsewhere.
    #[error("the draft was written elsewhere meanwhile")]
    Draft,
    /// A code counts once (RFC 6238 section 5.2).
    #[error("this code was used already: wait for the next one")]
    CodeUsed,
    /// A store holds one kind of record for as long as it exists.
    #[error("store `{name}` exists already and holds something else")]
    StoreKind {
        /// Its name.
        name: String,
    },
}

/// What a command names and there is not.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, Error)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Missing {
    /// A record.
    #[error("there is no {0}")]
    Record(RecordName),
    /// A token.
    #[error("this token is not known")]
    Token,
    /// A dictionary or dialect.
    #[error("no {kind} of your own is known as `{name}`; those that ship cannot be removed", kind = .0.word(), name = .1)]
    Language(LanguageKind, String),
    /// A secret.
    #[error("there is no secret `{0}`")]
    Secret(String),
    /// A draft.
    #[error("there is no draft")]
    Draft,
    /// No policy is active.
    #[error("no policy is active")]
    Edition,
    /// What an edition was checked with.
    #[error("what the policy was checked with is not known here; activate it again")]
    Basis,
}

/// Why a command cannot be done at all.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, Error)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Fault {
    /// It is of a later release.
    #[error("the command has the form of a later release (version {0}); bring this node up to date first")]
    Version(u16),
    /// It was sealed under a key that is not in use.
    #[error("its secrets are sealed under another key than the records; make the change again")]
    Key,
    /// A store of this name holds another kind of record.
    #[error("store `{0}` holds something else")]
    Store(String),
    /// A NAS without any address would never be heard.
    #[error("NAS `{0}` has no address")]
    NoAddress(String),
    /// A NAS is named twice in it.
    #[error("NAS `{0}` is named twice; case does not count")]
    Twice(String),
    /// Somebody who may not sign in.
    #[error("administrator `{0}` may not sign in")]
    KeptOut(String),
    /// Whoever has a second factor signs in with it.
    #[error("administrator `{0}` has a second factor and showed none")]
    NoCode(String),
    /// More stores than devices can be numbered by.
    #[error("there would be {0} stores: there may be 1000")]
    TooManyStores(usize),
    /// A name that stays.
    #[error("{0} keeps its name")]
    KeepsName(RecordName),
    /// Addresses that are no range.
    #[error("devices {0} to {1} are no range of at most 65536 addresses")]
    Range(String, String),
}
