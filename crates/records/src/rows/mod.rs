//! What is configured, as it is kept: typed, secrets sealed.

pub(crate) mod as_text;
mod device;
mod nas;
mod sealed_as;

use regnant_base::Secret;
use serde::{Deserialize, Serialize};

pub use self::device::{Barred, DeviceRow};
pub(crate) use self::device::{MOST_ADDRESSES, count, number, range};
pub use self::nas::{FormerSecretRow, NasRow, RadiusRow};
pub(crate) use self::sealed_as::*;
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::sealing::{Sealed, SealingKey};

/// A store.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StoreRow {
    /// Its name, as policies refer to it.
    pub name: String,
    /// What it holds.
    pub kind: StoreKind,
    /// How it is asked, where it is outside: a JSON object, empty where it is not.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub settings: String,
    /// The secret of whoever asks it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Sealed>,
    /// The password that its machine account gets, from before the domain has it until it counts here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next_secret: Option<Sealed>,
}

impl StoreRow {
    /// A store in the records.
    pub fn local(name: impl Into<String>, kind: StoreKind) -> Self {
        Self { name: name.into(), kind, settings: String::new(), secret: None, next_secret: None }
    }

    /// A store outside, whose secret is sealed.
    pub fn outside(
        name: impl Into<String>,
        kind: StoreKind,
        settings: String,
        secret: Option<&Secret>,
        key: &SealingKey,
    ) -> Self {
        let name = name.into();
        let secret = secret.map(|secret| key.seal(&store_secret_context(&name), secret.expose()));
        Self { name, kind, settings, secret, next_secret: None }
    }

    /// The secret of whoever asks it.
    pub fn open_secret(&self, key: &SealingKey) -> Result<Option<Secret>, RecordsError> {
        let open = |sealed| key.open(&store_secret_context(&self.name), sealed);
        self.secret.as_ref().map(open).transpose()
    }

    /// This store with the password that its machine account gets.
    #[must_use]
    pub fn with_next_secret(self, secret: &Secret, key: &SealingKey) -> Self {
        let next_secret = Some(key.seal(&next_secret_context(&self.name), secret.expose()));
        Self { next_secret, ..self }
    }

    /// The password that its machine account gets.
    pub fn open_next_secret(&self, key: &SealingKey) -> Result<Option<Secret>, RecordsError> {
        let open = |sealed| key.open(&next_secret_context(&self.name), sealed);
        self.next_secret.as_ref().map(open).transpose()
    }
}

/// What a store holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StoreKind {
    /// People and machines that prove themselves.
    People,
    /// Devices by MAC address.
    Devices,
    /// Nothing: a directory outside is asked.
    Directory,
    /// Nothing: a service outside tells facts.
    Http,
}

impl StoreKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::People => "people",
            Self::Devices => "devices",
            Self::Directory => "directory",
            Self::Http => "http",
        }
    }
}

/// A person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PersonRow {
    /// The store.
    pub store: String,
    /// The name they sign in with.
    pub name: String,
    /// The Argon2id hash of their password, in PHC form.
    pub password_hash: Sealed,
    /// The password itself, where CHAP is wanted.
    pub recoverable: Option<Sealed>,
    /// The NT hash of the password, where MS-CHAP is wanted.
    pub nt_hash: Option<Sealed>,
    /// Their groups.
    pub groups: Vec<String>,
    /// Whether the account is disabled.
    pub disabled: bool,
    /// When the account ends, in milliseconds since 1970.
    pub expires: Option<i64>,
    /// Whether the helpdesk must leave the password alone.
    pub engineers_only: bool,
    /// Whether an engineer says that no administrator of equipment is meant where a rule could make one of
    /// whoever comes so; never where a rule asks for this person or their groups.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ordinary: bool,
    /// What people should know.
    pub note: String,
}

/// A machine that proves itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MachineRow {
    /// The store.
    pub store: String,
    /// Its name, without `host/` before it or `$` after it.
    pub name: String,
    /// The Argon2id hash of its password, where it has one.
    pub password_hash: Option<Sealed>,
    /// The NT hash of the password, where MS-CHAP is wanted.
    pub nt_hash: Option<Sealed>,
    /// Its groups.
    pub groups: Vec<String>,
    /// Whether the account is disabled.
    pub disabled: bool,
    /// When the account ends, in milliseconds since 1970.
    pub expires: Option<i64>,
    /// What people should know.
    pub note: String,
}

/// A certificate that we present.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CertificateRow {
    /// Its name, as policies refer to it.
    pub name: String,
    /// Its chain in PEM, its own certificate first; empty while a signing request
    /// waits for its answer.
    pub chain: String,
    /// Its private key in DER.
    pub key: Sealed,
}

impl CertificateRow {
    /// A certificate with its key in DER, which is sealed.
    pub fn new(name: &str, chain: String, private_key: &Secret, key: &SealingKey) -> Self {
        let sealed = key.seal(&private_key_context(name), private_key.expose());
        Self { name: name.to_owned(), chain, key: sealed }
    }

    /// Its private key in DER.
    pub fn private_key(&self, key: &SealingKey) -> Result<Secret, RecordsError> {
        key.open(&private_key_context(&self.name), &self.key)
    }
}

/// Whom we trust.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TrustRow {
    /// Its name, as policies refer to it.
    pub name: String,
    /// The authorities in PEM.
    pub authorities: String,
    /// Revocation lists in PEM.
    pub crls: String,
    /// Where a newer list is fetched.
    pub crl_url: Option<String>,
    /// The responder that is asked in place of those that certificates name.
    pub ocsp_url: Option<String>,
    /// Whether certificates that are no authorities' vouch too.
    pub whatever: bool,
}

/// A file of the user's own that says how equipment speaks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LanguageRow {
    /// What it is.
    pub kind: LanguageKind,
    /// What it is known by: of a dictionary most often its vendor.
    pub name: String,
    /// What it says.
    pub text: String,
}

impl LanguageRow {
    /// The name of the file in messages.
    pub fn file(&self) -> String {
        format!("{}.toml", fold(&self.name))
    }
}

/// What a file about how equipment speaks is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LanguageKind {
    /// Names and types of attributes.
    Dictionary,
    /// How a make of equipment is told what access consists of.
    Dialect,
    /// What is kept of identities; the log of changes has had this word from the start.
    #[serde(rename = "deviceattribute")]
    Attribute,
}

impl LanguageKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Dictionary => "dictionary",
            Self::Dialect => "dialect",
            Self::Attribute => "attribute",
        }
    }
}

/// A name that records have in common, and what people should know of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct CommonNameRow {
    /// What it is the name of.
    pub kind: CommonNameKind,
    /// The name, as records and policies have it.
    pub name: String,
    /// What people should know.
    pub note: String,
    /// Whether whoever is in this group is ordinary, see [`PersonRow::ordinary`].
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ordinary: bool,
}

/// What a name that records have in common is the name of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum CommonNameKind {
    /// What people, machines and devices are in.
    Group,
    /// Where equipment stands.
    Site,
}

impl CommonNameKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Group => "group",
            Self::Site => "site",
        }
    }
}

/// A secret that replies carry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SecretRow {
    /// Its name, as policies refer to it.
    pub name: String,
    /// What it is.
    pub value: Sealed,
}

impl SecretRow {
    /// A secret, which is sealed.
    pub fn new(name: &str, value: &Secret, key: &SealingKey) -> Self {
        Self { name: name.to_owned(), value: key.seal(&named_secret_context(name), value.expose()) }
    }

    /// What it is.
    pub fn open(&self, key: &SealingKey) -> Result<Secret, RecordsError> {
        key.open(&named_secret_context(&self.name), &self.value)
    }
}

/// Somebody who may sign in to this service.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AdministratorRow {
    /// The name they sign in with.
    pub name: String,
    /// The Argon2id hash of their password, in PHC form.
    pub password_hash: Sealed,
    /// What they may do.
    pub role: Role,
    /// Whether they are kept out.
    pub disabled: bool,
    /// From when on they are kept out, in milliseconds since 1970.
    pub expires: Option<i64>,
    /// The secret of their second factor (RFC 6238), where they have one.
    pub second_factor: Option<Sealed>,
}

impl AdministratorRow {
    /// Whether they may sign in at this time, in milliseconds since 1970.
    pub fn is_let_in(&self, now: i64) -> bool {
        !self.disabled && self.expires.is_none_or(|at| now < at)
    }
}

/// What an administrator may do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Everything.
    #[default]
    Engineer,
    /// Read the journal, bar devices, set passwords of people.
    Helpdesk,
    /// Read everything but secrets.
    Auditor,
}

impl Role {
    /// Every role.
    pub const ALL: [Self; 3] = [Self::Engineer, Self::Helpdesk, Self::Auditor];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Engineer => "engineer",
            Self::Helpdesk => "helpdesk",
            Self::Auditor => "auditor",
        }
    }
}

/// Records of every kind: what a command sets, or what there was before.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Rows {
    /// Stores.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub stores: Vec<StoreRow>,
    /// Equipment.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub nases: Vec<NasRow>,
    /// People.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub people: Vec<PersonRow>,
    /// Machines.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub machines: Vec<MachineRow>,
    /// Devices.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<DeviceRow>,
    /// What we present.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub certificates: Vec<CertificateRow>,
    /// Whom we trust.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub trusts: Vec<TrustRow>,
    /// Administrators.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub administrators: Vec<AdministratorRow>,
    /// How equipment speaks.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub languages: Vec<LanguageRow>,
    /// Secrets that replies carry.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub named_secrets: Vec<SecretRow>,
    /// Groups and sites.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub common_names: Vec<CommonNameRow>,
}

impl Rows {
    /// Every secret among them, with what it is sealed as.
    pub(crate) fn secrets(
        &mut self,
        mut each: impl FnMut(&str, &mut Sealed) -> Result<(), RecordsError>,
    ) -> Result<(), RecordsError> {
        for row in &mut self.stores {
            if let Some(sealed) = &mut row.secret {
                each(&store_secret_context(&row.name), sealed)?;
            }
            if let Some(sealed) = &mut row.next_secret {
                each(&next_secret_context(&row.name), sealed)?;
            }
        }
        for row in &mut self.nases {
            each(&secret_context(&row.name), &mut row.radius.secret)?;
            if let Some(former) = &mut row.radius.former_secret {
                each(&former_secret_context(&row.name), &mut former.secret)?;
            }
        }
        for row in &mut self.people {
            each(&password_context("person", &row.store, &row.name), &mut row.password_hash)?;
            if let Some(sealed) = &mut row.recoverable {
                each(&recoverable_context(&row.store, &row.name), sealed)?;
            }
            if let Some(sealed) = &mut row.nt_hash {
                each(&nt_hash_context("person", &row.store, &row.name), sealed)?;
            }
        }
        for row in &mut self.machines {
            if let Some(sealed) = &mut row.password_hash {
                each(&password_context("machine", &row.store, &row.name), sealed)?;
            }
            if let Some(sealed) = &mut row.nt_hash {
                each(&nt_hash_context("machine", &row.store, &row.name), sealed)?;
            }
        }
        for row in &mut self.certificates {
            each(&private_key_context(&row.name), &mut row.key)?;
        }
        for row in &mut self.named_secrets {
            each(&named_secret_context(&row.name), &mut row.value)?;
        }
        for row in &mut self.administrators {
            each(&administrator_context(&row.name), &mut row.password_hash)?;
            if let Some(sealed) = &mut row.second_factor {
                each(&second_factor_context(&row.name), sealed)?;
            }
        }
        Ok(())
    }

    /// Which records they are, devices one by one.
    pub fn names(&self) -> impl Iterator<Item = RecordName> + '_ {
        let own = |name: &String| name.clone();
        let stores = self.stores.iter().map(move |row| RecordName::Store(own(&row.name)));
        let nases = self.nases.iter().map(move |row| RecordName::Nas(own(&row.name)));
        let people =
            self.people.iter().map(move |row| RecordName::Person { store: own(&row.store), name: own(&row.name) });
        let machines =
            self.machines.iter().map(move |row| RecordName::Machine { store: own(&row.store), name: own(&row.name) });
        let devices = self
            .devices
            .iter()
            .flat_map(move |row| row.addresses().map(move |mac| RecordName::Device { store: own(&row.store), mac }));
        let certificates = self.certificates.iter().map(move |row| RecordName::Certificate(own(&row.name)));
        let trusts = self.trusts.iter().map(move |row| RecordName::Trust(own(&row.name)));
        let administrators = self.administrators.iter().map(move |row| RecordName::Administrator(own(&row.name)));
        let languages =
            self.languages.iter().map(move |row| RecordName::Language { kind: row.kind, name: own(&row.name) });
        let secrets = self.named_secrets.iter().map(move |row| RecordName::Secret(own(&row.name)));
        let common =
            self.common_names.iter().map(move |row| RecordName::CommonName { kind: row.kind, name: own(&row.name) });
        let configured = stores.chain(nases).chain(people).chain(machines).chain(devices);
        configured.chain(certificates).chain(trusts).chain(administrators).chain(languages).chain(secrets).chain(common)
    }

    /// Takes in the records of others.
    pub fn extend(&mut self, others: Self) {
        self.stores.extend(others.stores);
        self.nases.extend(others.nases);
        self.people.extend(others.people);
        self.machines.extend(others.machines);
        self.devices.extend(others.devices);
        self.certificates.extend(others.certificates);
        self.trusts.extend(others.trusts);
        self.administrators.extend(others.administrators);
        self.languages.extend(others.languages);
        self.named_secrets.extend(others.named_secrets);
        self.common_names.extend(others.common_names);
    }
}

/// A name as records are found by it: case does not count, in any script.
pub(crate) fn fold(name: &str) -> String {
    name.to_lowercase()
}
