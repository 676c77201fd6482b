//! A directory as a store.

use std::fmt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use ldap3::Scope;
use regnant_base::{Mac, Secret};
use regnant_decision::{
    Account, AttributeKind, Capabilities, Device, Found, GroupNames, IdentityAttribute, KnownAttributes, LogonAccount,
    MsChapAnswer, PasswordAnswer, Recovered, Store, StoreReply, Title, Unable,
};
use regnant_eap::MsChapResponse;
use regnant_outside::{Cache, DeviceCache, Hints, Names, Room, ServerHealth, Way};
use regnant_policy::IdentityKind;
use sha2::{Digest, Sha256};
use tokio::runtime::Handle;

use crate::answers::Trouble;
use crate::certificates;
use crate::connection::Question;
use crate::domain::{Domain, DomainNames, keep_finding};
use crate::entry::Entry;
use crate::groups;
use crate::look::{LastLook, Offer, keep_looking};
use crate::names::{LONGEST_NAME, named};
use crate::passwords::{Kept, PasswordTimes};
use crate::servers::{Servers, keep_trying};
use crate::settings::{DirectorySettings, SettingsError};
use crate::state::{self, State};
use crate::times;

/// A directory.
pub struct Directory {
    inner: Arc<Inner>,
    room: Room,
    hints: Hints,
}

pub(crate) struct Inner {
    pub(crate) settings: DirectorySettings,
    pub(crate) servers: Servers,
    cache: Cache,
    devices: DeviceCache,
    /// The controllers of its domain, where they check responses of MS-CHAP.
    pub(crate) domain: Option<Domain>,
    /// The names of the domains that its entries are of.
    domains: DomainNames,
    declared: Vec<IdentityAttribute>,
    pub(crate) last_look: LastLook,
    /// What a proof took lately, in microseconds.
    proof_takes: AtomicU64,
}

impl Directory {
    /// A directory that is asked on this runtime, by whomever. `tls` says who vouches for its
    /// servers, `declared` of which types the facts are that it tells.
    pub fn new(
        settings: DirectorySettings,
        bind_password: Secret,
        way: &Way,
        declared: &[IdentityAttribute],
        runtime: Handle,
    ) -> Result<Self, SettingsError> {
        settings.check()?;
        let declared = declared.to_vec();
        let domain = Domain::new(&settings, &bind_password, &way.never);
        let servers = Servers::new(&settings, bind_password, way)?;
        let keep = Duration::from_secs(settings.keep.into());
        let (cache, devices) = (Cache::new(keep, Names::OfAnyCase), DeviceCache::new(keep));
        let inner = Inner {
            settings,
            servers,
            cache,
            devices,
            domain,
            domains: DomainNames::default(),
            declared,
            last_look: LastLook::default(),
            proof_takes: AtomicU64::new(0),
        };
        let inner = Arc::new(inner);
        keep_trying(&inner, &runtime);
        keep_looking(&inner, &runtime);
        keep_finding(&inner, &runtime);
        Ok(Self { inner, room: Room::new(runtime), hints: Hints::default() })
    }

    /// How its servers do, the one that is asked first in front.
    pub fn health(&self) -> Vec<ServerHealth> {
        self.inner
            .servers
            .health()
            .into_iter()
            .chain(self.inner.domain.iter().flat_map(|domain| domain.controllers.health()))
            .collect()
    }

    /// The person or machine of a name, asked as if nothing were known. Its password's mark is 0 where
    /// the directory does not say when the password was changed.
    pub fn account_anew<'s>(&'s self, kind: IdentityKind, name: &str, asker: &str) -> StoreReply<'s, Found> {
        if name.is_empty() || name.len() > LONGEST_NAME {
            return StoreReply::now(Found::Nobody);
        }
        let (inner, name) = (self.inner.clone(), name.to_owned());
        self.room.ask(asker, async move { inner.find(kind, &name).await })
    }

    /// Whether a domain's controllers check responses.
    pub fn asks_a_domain(&self) -> bool {
        self.inner.domain.is_some()
    }

    /// Has the machine that asks the domain's controllers have another password from now on;
    /// `current` is the one that counts still.
    pub async fn set_machine_password(&self, current: Secret, new: Secret) -> Result<(), Trouble> {
        let inner = self.inner.clone();
        let setting = self.room.runtime().spawn(async move {
            match &inner.domain {
                Some(domain) => domain.set_password(&current, &new).await,
                None => Err(Trouble::NoDomain),
            }
        });
        setting.await.unwrap_or(Err(Trouble::NoDomain))
    }

    /// Since when the account that searches has its password, and when that ends, where the directory
    /// says so.
    pub async fn searcher_password(&self) -> Result<PasswordTimes, Trouble> {
        let inner = self.inner.clone();
        let asking = self.room.runtime().spawn(async move { PasswordTimes::of_searcher(&inner).await });
        asking.await.unwrap_or_else(|_| Err(Trouble::Nonsense("it".into())))
    }

    /// What it has to offer, as it was at the last look.
    pub fn offer(&self) -> Option<Arc<Offer>> {
        self.inner.last_look.offer()
    }

    pub(crate) fn inner(&self) -> &Arc<Inner> {
        &self.inner
    }

    pub(crate) fn runtime(&self) -> &Handle {
        self.room.runtime()
    }
}

impl Inner {
    /// The entries of this name; two at most.
    pub(crate) async fn entries(&self, kind: IdentityKind, name: &str) -> Result<Vec<Entry>, Trouble> {
        let settings = &self.settings;
        let (filter, names) = match kind {
            IdentityKind::Machine => (&settings.machine_filter, &settings.machine_names),
            _ => (&settings.person_filter, &settings.person_names),
        };
        let mut attributes = names.clone();
        attributes.extend(OWN.map(str::to_owned));
        attributes.extend(state::attributes());
        attributes.extend(Some(settings.certificates.clone()).filter(|name| !name.is_empty()));
        attributes.extend(settings.facts.of(kind, &self.declared).map(|(_, _, place)| place.to_owned()));
        let leave_machines_out = kind == IdentityKind::User && !speaks_of_machines(filter);
        if leave_machines_out {
            attributes.push("objectClass".into());
        }
        let question = Question {
            base: settings.base.clone(),
            scope: Scope::Subtree,
            filter: named(filter, names, name),
            attributes,
            most: 3,
        };
        let mut entries = self.servers.search(&question).await?;
        entries.retain(|entry| !(leave_machines_out && is_machine(entry)));
        entries.truncate(2);
        Ok(entries)
    }

    async fn find(&self, kind: IdentityKind, name: &str) -> Result<Found, Trouble> {
        let mut entries = self.entries(kind, name).await?;
        let found = match (entries.pop(), entries.is_empty()) {
            (None, _) => Found::Nobody,
            (Some(_), false) => Found::Several,
            // Directories take names for the same that are not: with spaces around them, in other
            // letters. Whoever guesses would have a name for each guess.
            (Some(entry), true) if !self.is_called(kind, &entry, name) => Found::Nobody,
            (Some(entry), true) => {
                let groups = groups::of(&entry, &self.settings, &self.servers).await?;
                let state = self.state(&entry).await?;
                Found::Account(self.account(kind, name, &entry, &groups, state))
            }
        };
        self.cache.keep(kind, name, &found);
        Ok(found)
    }

    /// Whether an entry has this name, case aside.
    pub(crate) fn is_called(&self, kind: IdentityKind, entry: &Entry, name: &str) -> bool {
        let names = match kind {
            IdentityKind::Machine => &self.settings.machine_names,
            _ => &self.settings.person_names,
        };
        let folded = name.to_lowercase();
        names.iter().flat_map(|attribute| entry.all(attribute)).any(|known| known.to_lowercase() == folded)
    }

    pub(crate) fn account(
        &self,
        kind: IdentityKind,
        asked: &str,
        entry: &Entry,
        told: &groups::Told,
        state: State,
    ) -> Account {
        let names = match kind {
            IdentityKind::Machine => &self.settings.machine_names,
            _ => &self.settings.person_names,
        };
        Account {
            kind,
            name: names.first().and_then(|name| entry.first(name)).unwrap_or(asked).to_owned(),
            groups: told.names(&self.settings),
            groups_in_part: told.in_part,
            disabled: state.disabled.is_some(),
            expired: state.expired.is_some(),
            password_mark: mark(entry).unwrap_or_default(),
            place: Some(entry.name.as_str().into()),
            logon: entry.first("sAMAccountName").map(|name| {
                Arc::new(LogonAccount {
                    name: name.to_owned(),
                    identifier: entry.bytes("objectSid").map(<[u8]>::to_vec),
                })
            }),
            certificates: certificates::of(entry, &self.settings.certificates).into(),
            attributes: self.facts(kind, entry),
        }
    }

    /// Whether the account of an entry may be used, by the directory's own marks and by the filter of those who
    /// connected it.
    pub(crate) async fn state(&self, entry: &Entry) -> Result<State, Trouble> {
        let state = state::of(entry, times::now());
        let filter = &self.settings.disabled_filter;
        if filter.is_empty() || state.disabled.is_some() {
            return Ok(state);
        }
        let question = Question {
            base: entry.name.clone(),
            scope: Scope::Base,
            filter: filter.clone(),
            attributes: vec!["objectClass".into()],
            most: 1,
        };
        let fits = !self.servers.search(&question).await?.is_empty();
        Ok(State { disabled: fits.then_some("the filter of those who are disabled"), ..state })
    }

    /// Checks a response: by what the directory keeps of the password, or by the domain's controllers.
    async fn check_response(&self, account: &Account, response: &MsChapResponse) -> Result<MsChapAnswer, Trouble> {
        let settings = &self.settings;
        if !settings.nt_hash.is_empty() || !settings.clear_password.is_empty() {
            let place = account.place.as_deref().unwrap_or_default();
            let kept = Kept::of(place, settings, &self.servers).await?;
            if let Some(hash) = kept.nt_hash() {
                return Ok(match response.session_key(&hash) {
                    None => MsChapAnswer::Not(PasswordAnswer::Wrong),
                    Some(key) => match kept.standing() {
                        PasswordAnswer::Right => MsChapAnswer::Right(key),
                        standing => MsChapAnswer::Not(standing),
                    },
                });
            }
        }
        match (&self.domain, &account.logon) {
            (Some(domain), Some(logon)) => {
                let place = account.place.as_deref().unwrap_or_default();
                let of = self.domains.of(place, &self.servers).await?;
                domain.check(of.as_deref().unwrap_or(&self.settings.domain), logon, response).await
            }
            _ => Ok(MsChapAnswer::Unable(Unable::NoHash)),
        }
    }

    /// The device of an address; two entries of it are none that anybody could choose between.
    pub(crate) async fn find_device(&self, mac: Mac) -> Result<Option<Arc<Device>>, Trouble> {
        let settings = &self.settings;
        let written = settings.device_notation.write(mac);
        let question = Question {
            base: settings.base.clone(),
            scope: Scope::Subtree,
            filter: named(&settings.device_filter, std::slice::from_ref(&settings.device_name), &written),
            attributes: self.device_attributes(),
            most: 2,
        };
        let mut entries = self.servers.search(&question).await?;
        let known = |entry: &Entry| entry.all(&settings.device_name).iter().any(|one| one.parse() == Ok(mac));
        let device = match (entries.pop(), entries.pop()) {
            (Some(_), Some(_)) => return Err(Trouble::TwoDevices(written)),
            (Some(entry), None) if known(&entry) => {
                let state = self.state(&entry).await?;
                let told = groups::of(&entry, settings, &self.servers).await?;
                Some(Arc::new(Device {
                    title: Title::Text(title_of(&entry)),
                    groups: told.names(settings),
                    groups_in_part: told.in_part,
                    attributes: self.facts(IdentityKind::Mac, &entry),
                    barred: state.disabled.is_some(),
                    expired: state.expired.is_some(),
                }))
            }
            _ => None,
        };
        if !device.as_ref().is_some_and(|device| device.groups_in_part) {
            self.devices.keep(mac, device.clone());
        }
        Ok(device)
    }

    /// What is read of an entry of a device.
    pub(crate) fn device_attributes(&self) -> Vec<String> {
        let mut attributes = vec![self.settings.device_name.clone(), "cn".into(), "description".into()];
        attributes.extend(OWN.map(str::to_owned));
        attributes.extend(state::attributes());
        let told = self.settings.facts.of(IdentityKind::Mac, &self.declared);
        attributes.extend(told.map(|(_, _, place)| place.to_owned()));
        attributes
    }

    pub(crate) fn facts(&self, kind: IdentityKind, entry: &Entry) -> KnownAttributes {
        let value = |kind: AttributeKind, place: &str| kind.read(entry.all(place).iter().map(String::as_str));
        self.settings.facts.facts(kind, &self.declared, value)
    }

    async fn prove(&self, account: &Account, password: &str) -> Result<PasswordAnswer, Trouble> {
        let began = Instant::now();
        let place = account.place.as_deref().unwrap_or_default();
        // An empty name or password binds as nobody, and says that it went well.
        if place.is_empty() || password.is_empty() {
            return Ok(PasswordAnswer::Wrong);
        }
        let answer = self.servers.prove(place, password).await?;
        let took = began.elapsed().as_micros() as u64;
        let before = self.proof_takes.load(Ordering::Relaxed);
        self.proof_takes.store(if before == 0 { took } else { (7 * before + took) / 8 }, Ordering::Relaxed);
        Ok(answer)
    }
}

/// What tells accounts apart, and whether the password of one is still the same.
const OWN: [&str; 8] =
    ["sAMAccountName", "objectSid", "memberOf", "pwdLastSet", "pwdChangedTime", "entryUUID", "objectGUID", "uid"];

/// Whether a filter says itself which machines are meant.
fn speaks_of_machines(filter: &str) -> bool {
    filter.to_lowercase().contains("objectclass=computer")
}

/// Whether an entry is that of a machine, which some directories have among people. Not every directory knows the
/// class, and what a filter says of an unknown one is true of nobody.
fn is_machine(entry: &Entry) -> bool {
    entry.all("objectClass").iter().any(|class| class.eq_ignore_ascii_case("computer"))
        || entry.first("sAMAccountName").is_some_and(|name| name.ends_with('$'))
}

/// What a device is, for people.
pub(crate) fn title_of(entry: &Entry) -> String {
    let title = entry.first("description").or_else(|| entry.first("cn")).unwrap_or_default();
    title.chars().take(100).collect()
}

/// A number that changes with the password, and with whose account it is; none where the
/// directory does not say when the password was changed.
fn mark(entry: &Entry) -> Option<u64> {
    let changed = entry.first("pwdLastSet").or_else(|| entry.first("pwdChangedTime"))?;
    let own = entry.bytes("objectGUID").or_else(|| entry.bytes("entryUUID")).unwrap_or_default();
    let mut hash = Sha256::new_with_prefix(own);
    hash.update([0]);
    hash.update(changed);
    let digest: [u8; 32] = hash.finalize().into();
    let [a, b, c, d, e, f, g, h, ..] = digest;
    // 0 is none.
    Some(u64::from_be_bytes([a, b, c, d, e, f, g, h]).max(1))
}

impl fmt::Debug for Directory {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Directory").field(&self.inner.settings.servers).finish()
    }
}

impl Store for Directory {
    fn kind(&self) -> &'static str {
        "directory"
    }

    fn capabilities(&self) -> Capabilities {
        let settings = &self.inner.settings;
        let has = |filter: &String| !filter.is_empty();
        let filters = [&settings.person_filter, &settings.machine_filter, &settings.device_filter].map(has);
        let kinds: &'static [IdentityKind] = match filters {
            [true, true, true] => &[IdentityKind::User, IdentityKind::Machine, IdentityKind::Mac],
            [true, true, false] => &[IdentityKind::User, IdentityKind::Machine],
            [true, false, true] => &[IdentityKind::User, IdentityKind::Mac],
            [true, false, false] => &[IdentityKind::User],
            [false, true, true] => &[IdentityKind::Machine, IdentityKind::Mac],
            [false, true, false] => &[IdentityKind::Machine],
            [false, false, true] => &[IdentityKind::Mac],
            [false, false, false] => &[],
        };
        let recoverable_passwords = has(&settings.clear_password);
        let mschap = self.inner.domain.is_some() || recoverable_passwords || has(&settings.nt_hash);
        Capabilities { kinds, groups: true, passwords: true, mschap, recoverable_passwords, facts_only: false }
    }

    fn time_limit(&self) -> Duration {
        self.inner.settings.limit()
    }

    fn answers_for(&self, kind: IdentityKind, claimed: &str) -> bool {
        self.inner.settings.realms.hold(kind, claimed)
    }

    fn group_names(&self, _: IdentityKind) -> Option<GroupNames> {
        self.inner.last_look.offer().map(|offer| offer.names())
    }

    fn stale_account(&self, kind: IdentityKind, name: &str, at_most: Duration) -> Option<(Account, u64)> {
        self.inner.cache.stale(kind, name, at_most)
    }

    fn account<'s>(&'s self, kind: IdentityKind, name: &'s str, asker: &'s str) -> StoreReply<'s, Found> {
        if !self.capabilities().kinds.contains(&kind) || name.is_empty() || name.len() > LONGEST_NAME {
            return StoreReply::now(Found::Nobody);
        }
        if let Some(found) = self.inner.cache.get(kind, name) {
            return StoreReply::now(found);
        }
        let (inner, name) = (self.inner.clone(), name.to_owned());
        self.room.ask(asker, async move { inner.find(kind, &name).await })
    }

    fn check_password<'s>(
        &'s self,
        account: &'s Account,
        password: Secret,
        asker: &'s str,
    ) -> StoreReply<'s, PasswordAnswer> {
        let (inner, account) = (self.inner.clone(), account.clone());
        self.room.ask(asker, async move {
            let Ok(password) = std::str::from_utf8(password.expose()) else {
                return Ok::<_, Trouble>(PasswordAnswer::Wrong);
            };
            let answer = inner.prove(&account, password).await?;
            if answer != PasswordAnswer::Right {
                // It may have moved, or its password may have changed.
                account.place.iter().for_each(|place| inner.cache.doubt(place));
            }
            Ok(answer)
        })
    }

    fn check_mschap<'s>(
        &'s self,
        account: &'s Account,
        response: &'s MsChapResponse,
        asker: &'s str,
    ) -> StoreReply<'s, MsChapAnswer> {
        let (inner, account, response) = (self.inner.clone(), account.clone(), response.clone());
        self.room.ask(asker, async move {
            let answer = inner.check_response(&account, &response).await?;
            if matches!(answer, MsChapAnswer::Not(_)) {
                account.place.iter().for_each(|place| inner.cache.doubt(place));
            }
            Ok::<_, Trouble>(answer)
        })
    }

    fn recoverable_password<'s>(&'s self, account: &'s Account, asker: &'s str) -> StoreReply<'s, Option<Recovered>> {
        let (inner, place) = (self.inner.clone(), account.place.clone().unwrap_or_default());
        self.room.ask(asker, async move {
            Kept::of(&place, &inner.settings, &inner.servers).await.map(Kept::into_recovered)
        })
    }

    fn device<'s>(&'s self, mac: Mac, asker: &'s str) -> StoreReply<'s, Option<Arc<Device>>> {
        if self.inner.settings.device_filter.is_empty() {
            return StoreReply::now(None);
        }
        if let Some(found) = self.inner.devices.get(mac) {
            return StoreReply::now(found);
        }
        let inner = self.inner.clone();
        self.room.ask(asker, async move { inner.find_device(mac).await })
    }

    fn check_takes(&self) -> Duration {
        Duration::from_micros(self.inner.proof_takes.load(Ordering::Relaxed))
    }

    fn gives_hints(&self) -> bool {
        self.hints.take()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_is_told_from_a_person() {
        assert!(is_machine(&Entry::of("x", &[("objectClass", &["top", "user", "Computer"])])));
        assert!(is_machine(&Entry::of("x", &[("sAMAccountName", &["QUAY-LAPTOP-7$"])])));
        assert!(!is_machine(&Entry::of("x", &[("objectClass", &["person"]), ("sAMAccountName", &["ida"])])));
        assert!(speaks_of_machines("(|(objectClass=person)(objectClass=Computer))"));
        assert!(!speaks_of_machines("(objectClass=person)"));
    }

    #[test]
    fn the_mark_changes_with_the_password_and_with_the_account() {
        let of =
            |changed: &str, id: &str| mark(&Entry::of("x", &[("pwdChangedTime", &[changed]), ("entryUUID", &[id])]));
        assert_eq!(of("1", "a"), of("1", "a"));
        assert!(of("1", "a") != of("2", "a") && of("1", "a") != of("1", "b"));
        assert_eq!(mark(&Entry::of("x", &[("entryUUID", &["a"])])), None);
    }
}
