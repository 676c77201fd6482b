mod accounts;

pub use accounts::KeptPassword;

use std::collections::{HashMap, HashSet};

use hmac::{Hmac, KeyInit, Mac as _};
use jiff::Timestamp;
use regnant_base::SecretText;
use regnant_base::{Mac, Network};
use regnant_decision::NasKind;
use serde::{Deserialize, Serialize};
use sha2::Sha256;
use thiserror::Error;
use zeroize::Zeroizing;

use crate::attributes::{AttributeValues, DeclaredAttributes};
use crate::command::Import;
use crate::database::Reading;
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::rows::{
    Barred, CommonNameKind, CommonNameRow, DeviceRow, FormerSecretRow, MOST_ADDRESSES, NasRow, RadiusRow, Rows,
    StoreKind, StoreRow, count, fold, former_secret_context, range, secret_context,
};
use crate::sealing::{SealingKey, hex};

/// Equipment, people and devices to be added or changed, as a TOML file or JSON
/// body says it. What exists by name is replaced, what is not named stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Inventory {
    /// Where identities are kept.
    #[serde(default)]
    pub store: Vec<StoreEntry>,
    /// Equipment that asks.
    #[serde(default)]
    pub nas: Vec<NasEntry>,
    /// People.
    #[serde(default)]
    pub person: Vec<PersonEntry>,
    /// Machines that prove themselves.
    #[serde(default)]
    pub machine: Vec<MachineEntry>,
    /// Devices.
    #[serde(default)]
    pub device: Vec<DeviceEntry>,
    /// Groups, where people should know more of one than its name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub group: Vec<CommonNameEntry>,
    /// Sites, likewise.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub site: Vec<CommonNameEntry>,
}

/// A group or a site.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CommonNameEntry {
    /// Its name, as records and policies have it.
    pub name: String,
    /// What people should know.
    #[serde(default)]
    pub note: String,
    /// Whether whoever is in this group is ordinary, see [`PersonEntry::ordinary`]; of groups alone.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ordinary: bool,
}

/// A store.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct StoreEntry {
    /// Its name, as policies refer to it.
    pub name: String,
    /// What it holds.
    pub kind: StoreKind,
}

/// A NAS.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NasEntry {
    /// Its name.
    pub name: String,
    /// Its address, or a block of addresses; or a list of them.
    pub address: Addresses,
    /// What it is.
    pub kind: NasKind,
    /// Where it stands.
    pub site: String,
    /// Words that policies and people find it by.
    #[serde(default)]
    pub tags: Vec<String>,
    /// What people should know of it.
    #[serde(default)]
    pub note: String,
    /// The dialect its grants are rendered in.
    #[serde(default = "standard")]
    pub dialect: String,
    /// The secret shared with it; left out, one that is there already keeps its own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<SecretText>,
    /// Whether its requests must carry Message-Authenticator; true if not said.
    #[serde(default = "yes")]
    pub require_message_authenticator: bool,
    /// Whether replies to logins of administrators carry the Class by which accounting
    /// finds their decision too; false if not said, since some makes read a role from Class.
    #[serde(default)]
    pub class_at_login: bool,
}

/// One address or block, or several.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Addresses {
    /// One.
    One(String),
    /// Several.
    Several(Vec<String>),
}

impl Addresses {
    /// All of them.
    pub fn all(&self) -> &[String] {
        match self {
            Self::One(address) => std::slice::from_ref(address),
            Self::Several(addresses) => addresses,
        }
    }

    fn networks(&self) -> Result<Vec<Network>, String> {
        let all: Vec<Network> = self.all().iter().map(|text| text.trim().parse()).collect::<Result<_, _>>()?;
        if all.is_empty() || all.len() > MOST_NETWORKS {
            return Err(format!("it has {} addresses: write 1 to {MOST_NETWORKS}, or a block", all.len()));
        }
        match all.iter().enumerate().find(|(place, network)| all[..*place].contains(network)) {
            Some((_, network)) => Err(format!("{network} is written twice")),
            None => Ok(all),
        }
    }
}

/// A person.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PersonEntry {
    /// The store, one of people.
    pub store: String,
    /// The name they sign in with.
    pub name: String,
    /// Their password, kept as an Argon2id hash; left out, one who is there already keeps
    /// theirs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<SecretText>,
    /// What another installation kept of their password, where that is not known: an Argon2id
    /// hash in PHC form.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password_hash: Option<SecretText>,
    /// The NT hash that it kept, in 32 hexadecimal digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nt_hash: Option<SecretText>,
    /// Whether the password is kept sealed in addition, so that CHAP works. Costs
    /// that whoever has database and key has the password; false if not said.
    #[serde(default)]
    pub recoverable_password: bool,
    /// Whether MS-CHAP methods (PEAP and TEAP with EAP-MSCHAPv2 above all) may
    /// prove this person; the NT hash of the password is then kept sealed. It is
    /// as good as the password to whoever has it; false if not said.
    #[serde(default)]
    pub mschap: bool,
    /// Their groups.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Whether the account is disabled; false if not said.
    #[serde(default)]
    pub disabled: bool,
    /// When the account ends, such as `2026-12-31T18:00:00Z`; never if not said.
    #[serde(default)]
    pub expires: Option<String>,
    /// Whether the helpdesk must leave the password alone; false if not said.
    #[serde(default)]
    pub engineers_only: bool,
    /// Whether an engineer says that no administrator of equipment is meant where a rule could make one of
    /// whoever comes so; never where a rule asks for this person or their groups.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ordinary: bool,
    /// What people should know.
    #[serde(default)]
    pub note: String,
}

/// A machine that proves itself with a certificate or a password.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct MachineEntry {
    /// The store, one of people.
    pub store: String,
    /// Its name, without `host/` before it or `$` after it.
    pub name: String,
    /// Its password, where it has one; kept as an Argon2id hash.
    #[serde(default)]
    pub password: Option<SecretText>,
    /// What another installation kept of its password, where that is not known: an Argon2id
    /// hash in PHC form.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password_hash: Option<SecretText>,
    /// The NT hash that it kept, in 32 hexadecimal digits.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nt_hash: Option<SecretText>,
    /// Whether MS-CHAP methods may prove it; false if not said.
    #[serde(default)]
    pub mschap: bool,
    /// Its groups.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Whether the account is disabled; false if not said.
    #[serde(default)]
    pub disabled: bool,
    /// When the account ends; never if not said.
    #[serde(default)]
    pub expires: Option<String>,
    /// What people should know.
    #[serde(default)]
    pub note: String,
}

/// A device, or a range of devices.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct DeviceEntry {
    /// The store, one of devices.
    pub store: String,
    /// Its MAC address, or the first of a range.
    pub mac: String,
    /// The last address of the range, where it is one.
    #[serde(default)]
    pub last: Option<String>,
    /// What it is, for people.
    #[serde(default)]
    pub title: String,
    /// Its groups.
    #[serde(default)]
    pub groups: Vec<String>,
    /// Whose it is.
    #[serde(default)]
    pub owner: String,
    /// What people should know.
    #[serde(default)]
    pub note: String,
    /// From when on it is not known any more, such as `2026-12-31T18:00:00Z`; never if not
    /// said.
    #[serde(default)]
    pub expires: Option<String>,
    /// Whether it must stay out; false if not said.
    #[serde(default)]
    pub barred: bool,
    /// Why it must stay out.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub barred_reason: String,
    /// What people keep of devices of their own, by the names of attributes.
    #[serde(default, skip_serializing_if = "AttributeValues::is_empty")]
    pub attributes: AttributeValues,
}

/// More devices than this do not come in one file.
const MOST_DEVICES: u64 = 4_000_000;
/// Addresses and blocks of one NAS.
const MOST_NETWORKS: usize = 64;
/// Tags of one NAS, and bytes of each; bytes of a note.
const MOST_TAGS: usize = 32;
const LONGEST_TAG: usize = 64;
const LONGEST_NOTE: usize = 4_096;
/// Groups of one person, machine or device.
const MOST_GROUPS: usize = 256;
/// The shortest shared secret that is taken, in bytes.
const LEAST_SECRET: usize = 8;

fn standard() -> String {
    "standard".into()
}

fn yes() -> bool {
    true
}

impl Inventory {
    /// Reads an inventory file; `file` names it in errors.
    pub fn from_toml(file: &str, text: &str) -> Result<Self, InventoryError> {
        // The library would show the line itself, which may hold a secret.
        toml::from_str(text).map_err(|error| {
            let start = error.span().map_or(0, |span| span.start.min(text.len()));
            let line = 1 + text.as_bytes()[..start].iter().filter(|byte| **byte == b'\n').count();
            InventoryError(format!("{file}: line {line}: {}", error.message()))
        })
    }

    /// The command that brings the records to what this says. Hashes every password, which
    /// takes tens of milliseconds each.
    pub fn into_import(
        self,
        key: &SealingKey,
        records: &impl Reading,
        dialects: &[String],
        by: Marked<'_>,
    ) -> Result<Import, ImportError> {
        self.names_differ()?;
        self.bounded()?;
        let file = self.file_mark(key);
        let mut known: Vec<StoreRow> = records.all()?;
        let mut rows = Rows::default();
        for store in self.store {
            let row = store.row()?;
            if known.iter().any(|other| other.name == row.name && other.kind != row.kind)
                || rows.stores.iter().any(|other| other.name == row.name)
            {
                let message =
                    format!("store `{}` exists already and holds something else, or is named twice", row.name);
                return Err(InventoryError(message).into());
            }
            known.push(row.clone());
            rows.stores.push(row);
        }
        let holds = |store: &str, kind: StoreKind, who: &str| match known.iter().find(|known| known.name == store) {
            Some(known) if known.kind == kind => Ok(()),
            Some(_) => Err(InventoryError(format!("{who}: store `{store}` holds something else"))),
            None => Err(InventoryError(format!("{who}: there is no store `{store}`; add it as [[store]]"))),
        };
        for nas in self.nas {
            let before = records.find(&RecordName::Nas(nas.name.clone()))?.nases.pop();
            rows.nases.push(nas.row(key, dialects, before.as_ref())?);
        }
        for person in self.person {
            holds(&person.store, StoreKind::People, &format!("person `{}`", person.name))?;
            let before = records.find(&person.record_name())?.people.pop();
            rows.people.push(person.row(key, before.as_ref())?);
        }
        for machine in self.machine {
            holds(&machine.store, StoreKind::People, &format!("machine `{}`", machine.name))?;
            let before = records.find(&machine.record_name())?.machines.pop();
            rows.machines.push(machine.row(key, before.as_ref())?);
        }
        for device in self.device {
            holds(&device.store, StoreKind::Devices, &format!("device {}", device.mac))?;
            rows.devices.push(device.row(by)?);
        }
        let groups = self.group.into_iter().map(|entry| entry.row(CommonNameKind::Group));
        rows.common_names = groups
            .chain(self.site.into_iter().map(|entry| entry.row(CommonNameKind::Site)))
            .collect::<Result<_, _>>()?;
        Ok(Import { file, rows })
    }

    /// A short file can name very many addresses.
    fn bounded(&self) -> Result<(), InventoryError> {
        let mut all = 0;
        for device in &self.device {
            let (first, last) = device.range()?;
            all += count(first, last);
        }
        match all > MOST_DEVICES {
            true => {
                Err(InventoryError(format!("it has {all} devices and may have {MOST_DEVICES}; import it in parts")))
            }
            false => Ok(()),
        }
    }

    /// What tells this inventory from another. Under a key: it holds passwords, which
    /// somebody who has the log could guess by it otherwise.
    fn file_mark(&self, key: &SealingKey) -> String {
        let text = Zeroizing::new(serde_json::to_vec(self).expect("an inventory has names for keys"));
        let mark = Hmac::<Sha256>::new_from_slice(&key.derive("which file was imported"));
        let mark = mark.expect("HMAC takes a key of any length").chain_update(&*text).finalize().into_bytes();
        hex(&mark[..16])
    }

    /// Names are looked up without regard to case, of every script: of two that differ
    /// in nothing else, which is meant nobody could say.
    fn names_differ(&self) -> Result<(), InventoryError> {
        let nases = self.nas.iter().map(|nas| ("NAS", "", nas.name.as_str()));
        let people = self.person.iter().map(|one| ("person", one.store.as_str(), one.name.as_str()));
        let machines = self.machine.iter().map(|one| ("machine", one.store.as_str(), one.name.as_str()));
        let mut here = HashMap::new();
        let groups = self.group.iter().map(|one| ("group", "", one.name.as_str()));
        let sites = self.site.iter().map(|one| ("site", "", one.name.as_str()));
        for (kind, store, name) in nases.chain(people).chain(machines).chain(groups).chain(sites) {
            if let Some(other) = here.insert((kind, store, fold(name)), name) {
                return Err(InventoryError(format!(
                    "`{name}` and `{other}` are the same name here, for case does not count: keep one of them"
                )));
            }
        }
        Ok(())
    }
}

fn is_name(name: &str) -> bool {
    !name.trim().is_empty() && name.len() <= 253 && !name.chars().any(char::is_control)
}

fn named(what: &str, name: &str) -> Result<(), InventoryError> {
    if !is_name(name) {
        return Err(InventoryError(format!(
            "a {what} has the name `{}`: it needs 1 to 253 printable bytes",
            name.escape_debug()
        )));
    }
    Ok(())
}

impl StoreEntry {
    /// The record of it.
    pub fn row(self) -> Result<StoreRow, InventoryError> {
        named("store", &self.name)?;
        match self.kind {
            StoreKind::Directory | StoreKind::Http => Err(InventoryError(format!(
                "store `{}` is outside: add it by `regnant store add`, with how it is asked",
                self.name
            ))),
            kind => Ok(StoreRow::local(self.name, kind)),
        }
    }
}

impl CommonNameEntry {
    /// The record of it.
    pub fn row(self, kind: CommonNameKind) -> Result<CommonNameRow, InventoryError> {
        named(kind.word(), &self.name)?;
        fit_texts(&[], &[&self.note])
            .map_err(|why| InventoryError(format!("{} `{}`: {why}", kind.word(), self.name)))?;
        if self.ordinary && kind == CommonNameKind::Site {
            return Err(InventoryError(format!("site `{}`: people and groups are ordinary, and not sites", self.name)));
        }
        Ok(CommonNameRow { kind, name: self.name, note: self.note, ordinary: self.ordinary })
    }
}

impl NasEntry {
    /// The record of it, with its secret sealed, or that of the one whose place it takes. Its
    /// dialect is one of these.
    pub fn row(self, key: &SealingKey, dialects: &[String], before: Option<&NasRow>) -> Result<NasRow, InventoryError> {
        named("NAS", &self.name)?;
        let wrong = |what: String| InventoryError(format!("NAS `{}`: {what}", self.name));
        let networks = self.address.networks().map_err(wrong)?;
        let context = secret_context(&self.name);
        let same = |before: &&NasRow| fold(&before.name) == fold(&self.name);
        let mut former_secret = None;
        let secret = match (&self.secret, before) {
            (Some(secret), _) if secret.expose().len() < LEAST_SECRET => {
                return Err(wrong(format!(
                    "the shared secret has {} {}: it needs at least {LEAST_SECRET}, better 16 or more, for whoever sees \
                     one packet can try short ones until one fits (RFC 2865 section 3)",
                    secret.expose().len(),
                    if secret.expose().len() == 1 { "byte" } else { "bytes" },
                )));
            }
            (Some(secret), Some(before)) if same(&before) && is_shared(before, secret, key) => {
                former_secret.clone_from(&before.radius.former_secret);
                before.radius.secret.clone()
            }
            (Some(secret), _) => key.seal(&context, secret.expose().as_bytes()),
            (None, Some(before)) if same(&before) => {
                former_secret.clone_from(&before.radius.former_secret);
                before.radius.secret.clone()
            }
            // Under another name everything is sealed anew.
            (None, Some(before)) => {
                let opened = before.shared_secret(key).and_then(|secret| Ok((secret, before.former_secret(key)?)));
                let (secret, former) = opened.map_err(|error| wrong(error.to_string()))?;
                former_secret = former.zip(before.radius.former_secret.as_ref()).map(|(secret, row)| FormerSecretRow {
                    secret: key.seal(&former_secret_context(&self.name), secret.expose()),
                    ..row.clone()
                });
                key.seal(&context, secret.expose())
            }
            (None, None) => return Err(wrong("`secret` is missing: the one that it shares with this service".into())),
        };
        if !dialects.contains(&self.dialect) {
            return Err(wrong(format!("there is no dialect `{}`; there are: {}", self.dialect, dialects.join(", "))));
        }
        let fits = |tag: &String| {
            (1..=LONGEST_TAG).contains(&tag.len())
                && !tag.contains([' ', ','].as_slice())
                && !tag.chars().any(char::is_control)
        };
        if let Some(tag) = self.tags.iter().find(|tag| !fits(tag)) {
            return Err(wrong(format!(
                "`{}` is no tag: it has 1 to {LONGEST_TAG} bytes, and no spaces or commas",
                tag.escape_debug()
            )));
        }
        if self.tags.len() > MOST_TAGS || self.note.len() > LONGEST_NOTE || self.site.len() > LONGEST_NOTE {
            return Err(wrong(format!("it has at most {MOST_TAGS} tags, and {LONGEST_NOTE} bytes of note and site")));
        }
        Ok(NasRow {
            networks,
            kind: self.kind,
            site: self.site,
            tags: self.tags,
            note: self.note,
            dialect: self.dialect,
            radius: RadiusRow {
                secret,
                former_secret,
                require_message_authenticator: self.require_message_authenticator,
                class_at_login: self.class_at_login,
            },
            name: self.name,
        })
    }
}

/// Whether a NAS has this secret already.
fn is_shared(row: &NasRow, secret: &SecretText, key: &SealingKey) -> bool {
    row.shared_secret(key).is_ok_and(|shared| shared.expose() == secret.expose().as_bytes())
}

/// Whether groups and other texts of a record are what they may be.
fn fit_texts(groups: &[String], texts: &[&String]) -> Result<(), String> {
    if groups.len() > MOST_GROUPS {
        return Err(format!("it is in {} groups and may be in {MOST_GROUPS}", groups.len()));
    }
    if let Some(group) = groups.iter().find(|group| !is_name(group)) {
        return Err(format!("a group has the name `{}`: it needs 1 to 253 printable bytes", group.escape_debug()));
    }
    match texts.iter().find(|text| text.len() > LONGEST_NOTE || text.chars().any(|c| c.is_control() && c != '\n')) {
        Some(text) => {
            Err(format!("a text of it has {} bytes: it has at most {LONGEST_NOTE} and is printable", text.len()))
        }
        None => Ok(()),
    }
}

/// Groups as they were said, each once; case does not count.
fn without_repeats(groups: Vec<String>) -> Vec<String> {
    let mut seen = HashSet::new();
    groups.into_iter().filter(|group| seen.insert(fold(group))).collect()
}

/// Milliseconds since 1970.
fn expiry(text: Option<&String>, who: &str) -> Result<Option<i64>, InventoryError> {
    let read = |text: &String| {
        let time = text.parse::<Timestamp>().map(Timestamp::as_millisecond);
        time.map_err(|error| InventoryError(format!("{who}: `expires` is no time: {error}")))
    };
    text.map(read).transpose()
}

/// Who says something of a device, and when.
#[derive(Clone, Copy, Debug)]
pub struct Marked<'m> {
    /// Who.
    pub by: &'m str,
    /// When, in milliseconds since 1970.
    pub at: i64,
    /// What may be kept of it.
    pub declared: &'m DeclaredAttributes,
}

impl DeviceEntry {
    /// The record of it, or of the range.
    pub fn row(self, marked: Marked<'_>) -> Result<DeviceRow, InventoryError> {
        let (first, last) = self.range()?;
        let wrong = |what: String| InventoryError(format!("device {first}: {what}"));
        fit_texts(&self.groups, &[&self.title, &self.owner, &self.note, &self.barred_reason]).map_err(wrong)?;
        if !self.barred && !self.barred_reason.is_empty() {
            return Err(wrong("it has a reason for being barred, and is not barred: say `barred` too".into()));
        }
        let attributes = marked.declared.read(self.attributes).map_err(wrong)?;
        let reason = self.barred_reason;
        let barred = self.barred.then(|| Barred { reason, by: marked.by.to_owned(), at: marked.at });
        Ok(DeviceRow {
            expires: expiry(self.expires.as_ref(), &format!("device {first}"))?,
            store: self.store,
            first,
            last,
            title: self.title,
            groups: without_repeats(self.groups),
            owner: self.owner,
            note: self.note,
            attributes,
            barred,
        })
    }

    /// Its addresses.
    pub fn addresses(&self) -> Result<impl Iterator<Item = Mac> + use<>, InventoryError> {
        let (first, last) = self.range()?;
        Ok(range(first, last))
    }

    fn range(&self) -> Result<(Mac, Mac), InventoryError> {
        let read = |text: &str| text.parse::<Mac>().map_err(|error| InventoryError(format!("device {text}: {error}")));
        let first = read(&self.mac)?;
        let last = self.last.as_deref().map_or(Ok(first), read)?;
        match (1..=MOST_ADDRESSES).contains(&count(first, last)) {
            true => Ok((first, last)),
            false => Err(InventoryError(format!(
                "devices {} to {}: a range has 1 to {MOST_ADDRESSES} addresses",
                self.mac,
                self.last.as_deref().unwrap_or_default()
            ))),
        }
    }
}

/// Why an inventory is not imported.
#[derive(Debug, Error)]
pub enum ImportError {
    /// Something in it is wrong.
    #[error(transparent)]
    Inventory(#[from] InventoryError),
    /// The records.
    #[error(transparent)]
    Records(#[from] RecordsError),
}

/// What is wrong with an inventory, and where.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct InventoryError(String);
