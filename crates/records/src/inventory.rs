use std::collections::{HashMap, HashSet};

use jiff::Timestamp;
use regnant_access::{NasKind, Network};
use regnant_base::SecretText;
use regnant_eap::mschap::nt_password_hash;
use regnant_policy::Mac;
use rusqlite::types::Value;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::password::hash_password;
use crate::sealing::SealingKey;
use crate::shared::Change;

/// A range of devices has at most this many addresses.
const MAX_RANGE: u64 = 65_536;
/// RFC 2865 section 5.2: User-Password carries at most 128 bytes.
const MAX_PASSWORD: usize = 128;

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

/// What a store holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StoreKind {
    /// People and machines that prove themselves.
    People,
    /// Devices by MAC address.
    Devices,
}

/// A NAS.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NasEntry {
    /// Its name.
    pub name: String,
    /// Its address, or a block of addresses.
    pub address: String,
    /// What it is.
    pub kind: NasKind,
    /// Where it stands.
    pub site: String,
    /// The dialect its grants are rendered in.
    #[serde(default = "standard")]
    pub dialect: String,
    /// The secret shared with it.
    pub secret: SecretText,
    /// Whether its requests must carry Message-Authenticator; true if not said.
    #[serde(default = "yes")]
    pub require_message_authenticator: bool,
}

/// A person.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct PersonEntry {
    /// The store, one of people.
    pub store: String,
    /// The name they sign in with.
    pub name: String,
    /// Their password; kept as an Argon2id hash.
    pub password: SecretText,
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
    /// Whether it must stay out; false if not said.
    #[serde(default)]
    pub barred: bool,
}

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

    /// The statements that bring the records to what this says. `stores` are those
    /// that exist already. Hashes every password, which takes tens of
    /// milliseconds each.
    pub fn into_change(
        self,
        key: &SealingKey,
        stores: &[(String, StoreKind)],
        names: &[KnownName],
        dialects: &[String],
    ) -> Result<Change, InventoryError> {
        let known: Vec<(String, StoreKind)> =
            stores.iter().cloned().chain(self.store.iter().map(|s| (s.name.clone(), s.kind))).collect();
        let holds = |store: &str, kind: StoreKind, who: &str| match known.iter().rev().find(|(name, _)| name == store) {
            Some((_, held)) if *held == kind => Ok(()),
            Some(_) => Err(InventoryError(format!("{who}: store `{store}` holds something else"))),
            None => Err(InventoryError(format!("{who}: there is no store `{store}`; add it as [[store]]"))),
        };
        self.names_differ(names)?;
        let mut change = Change::default();
        let mut changed_kind = HashSet::new();
        for store in &self.store {
            let other = stores.iter().any(|(name, kind)| *name == store.name && *kind != store.kind);
            if other || (!changed_kind.insert(&store.name)) {
                let message =
                    format!("store `{}` exists already and holds something else, or is named twice", store.name);
                return Err(InventoryError(message));
            }
            store.add_to(&mut change)?;
        }
        for nas in &self.nas {
            nas.add_to(&mut change, key, dialects)?;
        }
        for person in &self.person {
            holds(&person.store, StoreKind::People, &format!("person `{}`", person.name))?;
            person.add_to(&mut change, key)?;
        }
        for machine in &self.machine {
            holds(&machine.store, StoreKind::People, &format!("machine `{}`", machine.name))?;
            machine.add_to(&mut change, key)?;
        }
        for device in &self.device {
            holds(&device.store, StoreKind::Devices, &format!("device {}", device.mac))?;
            device.add_to(&mut change)?;
        }
        Ok(change)
    }
}

impl Inventory {
    /// Names are looked up without regard to case, of every script: two that differ in
    /// nothing else would be one, and which of the two nobody could say.
    fn names_differ(&self, known: &[KnownName]) -> Result<(), InventoryError> {
        let nases = self.nas.iter().map(|nas| (KnownKind::Nas, "", nas.name.as_str()));
        let people = self.person.iter().map(|one| (KnownKind::Person, one.store.as_str(), one.name.as_str()));
        let machines = self.machine.iter().map(|one| (KnownKind::Machine, one.store.as_str(), one.name.as_str()));
        let mut seen: HashMap<_, &str> = HashMap::new();
        for one in known {
            seen.insert((one.kind, one.store.as_str(), one.name.to_lowercase()), &one.name);
        }
        let mut here = HashSet::new();
        for (kind, store, name) in nases.chain(people).chain(machines) {
            let key = (kind, store, name.to_lowercase());
            let other = seen.get(&key).filter(|other| !other.eq_ignore_ascii_case(name)).copied();
            if let Some(other) = other.or_else(|| here.contains(&key).then_some(name)) {
                return Err(InventoryError(format!(
                    "`{name}` and `{other}` are the same name here, for case does not count: keep one of them"
                )));
            }
            here.insert(key);
        }
        Ok(())
    }
}

fn named(what: &str, name: &str) -> Result<(), InventoryError> {
    if name.trim().is_empty() || name.len() > 253 || name.chars().any(char::is_control) {
        return Err(InventoryError(format!(
            "a {what} has the name `{}`: it needs 1 to 253 printable bytes",
            name.escape_debug()
        )));
    }
    Ok(())
}

impl StoreEntry {
    fn add_to(&self, change: &mut Change) -> Result<(), InventoryError> {
        named("store", &self.name)?;
        let kind = match self.kind {
            StoreKind::People => "people",
            StoreKind::Devices => "devices",
        };
        change.add(
            "INSERT INTO store (name, kind) VALUES (?1, ?2) ON CONFLICT (name) DO NOTHING",
            [self.name.clone().into(), kind.to_owned().into()],
        );
        Ok(())
    }
}

impl NasEntry {
    fn add_to(&self, change: &mut Change, key: &SealingKey, dialects: &[String]) -> Result<(), InventoryError> {
        named("NAS", &self.name)?;
        let wrong = |what: String| InventoryError(format!("NAS `{}`: {what}", self.name));
        let network: Network = self.address.parse().map_err(wrong)?;
        if self.secret.expose().len() < LEAST_SECRET {
            return Err(wrong(format!(
                "the shared secret has {} {}: it needs at least {LEAST_SECRET}, better 16 or more, for whoever sees one \
                 packet can try short ones until one fits (RFC 2865 section 3)",
                self.secret.expose().len(),
                if self.secret.expose().len() == 1 { "byte" } else { "bytes" },
            )));
        }
        if !dialects.contains(&self.dialect) {
            return Err(wrong(format!("there is no dialect `{}`; there are: {}", self.dialect, dialects.join(", "))));
        }
        change.add(
            "INSERT INTO nas (name, network, kind, site, dialect, secret, require_message_authenticator)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
             ON CONFLICT (name) DO UPDATE SET network = ?2, kind = ?3, site = ?4, dialect = ?5, secret = ?6,
                 require_message_authenticator = ?7",
            [
                self.name.clone().into(),
                network.to_string().into(),
                self.kind.word().to_owned().into(),
                self.site.clone().into(),
                self.dialect.clone().into(),
                key.seal(&nas_context(&self.name), self.secret.expose().as_bytes()).into(),
                self.require_message_authenticator.into(),
            ],
        );
        Ok(())
    }
}

impl PersonEntry {
    fn add_to(&self, change: &mut Change, key: &SealingKey) -> Result<(), InventoryError> {
        named("person", &self.name)?;
        let wrong = |what: &str| Err(InventoryError(format!("person `{}`: {what}", self.name)));
        if self.name.parse::<Mac>().is_ok() {
            return wrong("a MAC address is never a user name");
        }
        if is_machine_name(&self.name) {
            return wrong("a name that begins with host/ or ends with $ is a machine's: add it as [[machine]]");
        }
        fit_password(&self.password).or_else(wrong)?;
        let recoverable = match self.recoverable_password {
            true => key.seal(&person_context(&self.store, &self.name), self.password.expose().as_bytes()).into(),
            false => Value::Null,
        };
        change.add(
            "INSERT INTO person (store, name, password_hash, recoverable, nt_hash, disabled, expires)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
             ON CONFLICT (store, name) DO UPDATE SET name = ?2, password_hash = ?3, recoverable = ?4, nt_hash = ?5,
                 disabled = ?6, expires = ?7",
            [
                self.store.clone().into(),
                self.name.clone().into(),
                hash_password(self.password.expose().as_bytes()).into(),
                recoverable,
                nt_hash(self.mschap, key, &nt_hash_context("person", &self.store, &self.name), &self.password),
                self.disabled.into(),
                expiry(self.expires.as_ref(), &format!("person `{}`", self.name))?.into(),
            ],
        );
        let statements = [
            "DELETE FROM person_group WHERE store = ?1 AND person = ?2",
            "INSERT INTO person_group (store, person, group_name) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING",
        ];
        set_groups(change, statements, (&self.store, &self.name), &self.groups)
    }
}

impl MachineEntry {
    fn add_to(&self, change: &mut Change, key: &SealingKey) -> Result<(), InventoryError> {
        named("machine", &self.name)?;
        let wrong = |what: &str| Err(InventoryError(format!("machine `{}`: {what}", self.name)));
        if is_machine_name(&self.name) {
            return wrong("write the name without host/ before it or $ after it");
        }
        if let Some(password) = &self.password {
            fit_password(password).or_else(wrong)?;
        }
        let (hash, nt_hash) = match &self.password {
            Some(password) => (
                hash_password(password.expose().as_bytes()).into(),
                nt_hash(self.mschap, key, &nt_hash_context("machine", &self.store, &self.name), password),
            ),
            None if self.mschap => return wrong("MS-CHAP needs a password"),
            None => (Value::Null, Value::Null),
        };
        change.add(
            "INSERT INTO machine (store, name, password_hash, nt_hash, disabled, expires)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6)
             ON CONFLICT (store, name) DO UPDATE SET name = ?2, password_hash = ?3, nt_hash = ?4, disabled = ?5,
                 expires = ?6",
            [
                self.store.clone().into(),
                self.name.clone().into(),
                hash,
                nt_hash,
                self.disabled.into(),
                expiry(self.expires.as_ref(), &format!("machine `{}`", self.name))?.into(),
            ],
        );
        let statements = [
            "DELETE FROM machine_group WHERE store = ?1 AND machine = ?2",
            "INSERT INTO machine_group (store, machine, group_name) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING",
        ];
        set_groups(change, statements, (&self.store, &self.name), &self.groups)
    }
}

/// Replaces the groups of a person or machine: what clears them, what adds one.
fn set_groups(
    change: &mut Change,
    [clear, add]: [&'static str; 2],
    (store, name): (&str, &str),
    groups: &[String],
) -> Result<(), InventoryError> {
    let text = |text: &str| Value::from(text.to_owned());
    change.add(clear, [text(store), text(name)]);
    for group in groups {
        named("group", group)?;
        change.add(add, [text(store), text(name), text(group)]);
    }
    Ok(())
}

/// A name by which a machine goes where people's names go (as equipment and
/// supplicants have it): it begins with `host/` or ends with `$`.
fn is_machine_name(name: &str) -> bool {
    name.to_lowercase().starts_with("host/") || name.ends_with('$')
}

fn fit_password(password: &SecretText) -> Result<(), &'static str> {
    let password = password.expose();
    if password.parse::<Mac>().is_ok() {
        return Err("a MAC address is never a password");
    }
    if password.is_empty() || password.len() > MAX_PASSWORD || password.chars().any(char::is_control) {
        return Err("a password has 1 to 128 printable bytes");
    }
    Ok(())
}

fn nt_hash(wanted: bool, key: &SealingKey, context: &str, password: &SecretText) -> Value {
    match wanted {
        true => key.seal(context, &nt_password_hash(password.expose())).into(),
        false => Value::Null,
    }
}

/// Milliseconds since 1970.
fn expiry(text: Option<&String>, who: &str) -> Result<Option<i64>, InventoryError> {
    let read = |text: &String| {
        let time = text.parse::<Timestamp>().map(Timestamp::as_millisecond);
        time.map_err(|error| InventoryError(format!("{who}: `expires` is no time: {error}")))
    };
    text.map(read).transpose()
}

impl DeviceEntry {
    fn add_to(&self, change: &mut Change) -> Result<(), InventoryError> {
        for mac in self.addresses()? {
            let which: [Value; 2] = [self.store.clone().into(), mac.0.to_vec().into()];
            let [store, address] = which.clone();
            change.add(
                "INSERT INTO device (store, mac, title, barred) VALUES (?1, ?2, ?3, ?4)
                 ON CONFLICT (store, mac) DO UPDATE SET title = ?3, barred = ?4",
                [store, address, self.title.clone().into(), self.barred.into()],
            );
            change.add("DELETE FROM device_group WHERE store = ?1 AND mac = ?2", which.clone());
            for group in &self.groups {
                named("group", group)?;
                let [store, address] = which.clone();
                change.add(
                    "INSERT INTO device_group (store, mac, group_name) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING",
                    [store, address, group.clone().into()],
                );
            }
        }
        Ok(())
    }

    /// Its addresses.
    pub fn addresses(&self) -> Result<impl Iterator<Item = Mac> + use<>, InventoryError> {
        let read = |text: &str| {
            let mac: Mac = text.parse().map_err(|error| InventoryError(format!("device {text}: {error}")))?;
            let [a, b, c, d, e, f] = mac.0;
            Ok(u64::from_be_bytes([0, 0, a, b, c, d, e, f]))
        };
        let first = read(&self.mac)?;
        let last = self.last.as_deref().map_or(Ok(first), read)?;
        if last < first || last - first >= MAX_RANGE {
            let message = format!(
                "devices {} to {}: a range has 1 to {MAX_RANGE} addresses",
                self.mac,
                self.last.as_deref().unwrap_or_default()
            );
            return Err(InventoryError(message));
        }
        Ok((first..=last).map(|number| {
            let [_, _, rest @ ..] = number.to_be_bytes();
            Mac(rest)
        }))
    }
}

/// What a NAS's secret is sealed as.
pub(crate) fn nas_context(name: &str) -> String {
    format!("the secret of NAS {}", name.to_lowercase())
}

/// What a person's recoverable password is sealed as.
pub(crate) fn person_context(store: &str, name: &str) -> String {
    format!("the password of {} in {store}", name.to_lowercase())
}

/// What an NT hash is sealed as; `what` is person or machine.
pub(crate) fn nt_hash_context(what: &str, store: &str, name: &str) -> String {
    format!("the NT hash of {what} {} in {store}", name.to_lowercase())
}

/// A name that is in the records and has characters beyond ASCII. SQLite finds
/// others without regard to case by itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownName {
    pub(crate) kind: KnownKind,
    pub(crate) store: String,
    pub(crate) name: String,
}

/// What has a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum KnownKind {
    Nas,
    Person,
    Machine,
}

/// What is wrong with an inventory, and where.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct InventoryError(String);
