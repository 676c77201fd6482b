//! Administrators who come from a directory: who they are is proved there, what they may do follows
//! from their groups, looked up again every few minutes. While the directory is silent nobody signs
//! in through it; administrators of the records remain.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use regnant_base::{BoundedMap, Secret};
use regnant_decision::{Account, Answer, Found, PasswordAnswer, Store as _, StoreReply};
use regnant_directory::Directory;
use regnant_policy::{IdentityKind, Value};
use regnant_records::{Bearer, Role, TokenHash, new_token, token_hash};
use tokio::time::timeout;

use crate::config::AdministratorsConfig;
use crate::http::Api;
use crate::http::sign_in::SESSION;
use crate::outside_stores::OutsideStore;

/// How long a role counts until it is looked up again, at most.
const LOOK_AGAIN: Duration = Duration::from_secs(300);
/// Sessions at a time; the oldest go first.
const MOST: usize = 1_000;
/// How long a sign-in takes at least that goes wrong.
const LEAST: Duration = Duration::from_millis(100);
/// Whoever asks, as shares of a directory know it.
const ASKER: &str = "administrators";

/// Sessions of this node. They end with it.
pub(crate) struct OutsideSessions {
    from: AdministratorsConfig,
    open: Mutex<BoundedMap<[u8; 32], Session>>,
    /// How long a sign-in takes that goes well, in microseconds.
    takes: AtomicU64,
}

#[derive(Clone)]
struct Session {
    /// The name in the directory.
    name: String,
    /// Where the directory keeps the account, and what changes with its password.
    place: Option<Arc<str>>,
    mark: u64,
    role: Role,
    began: Instant,
    looked: Instant,
}

/// Why nobody is let in.
pub(crate) enum Kept {
    /// Nobody is, whom the directory knows by this name and password and gives a role.
    Out,
    /// It did not answer.
    Silent,
}

impl OutsideSessions {
    pub(crate) fn new(from: &AdministratorsConfig) -> Arc<Self> {
        Arc::new(Self { from: from.clone(), open: Mutex::new(BoundedMap::new(MOST)), takes: AtomicU64::new(0) })
    }

    /// Whether anybody comes from a directory.
    pub(crate) fn are_open(&self) -> bool {
        self.from.store.is_some()
    }

    /// Proves somebody, and gives what to call them, their role, and what their browser shows from
    /// now on.
    pub(crate) async fn open(&self, api: &Api, name: &str, password: &Secret) -> Result<(String, Role, String), Kept> {
        let begun = Instant::now();
        let opened = self.prove(api, name, password).await;
        let takes = Duration::from_micros(self.takes.load(Ordering::Relaxed)).max(LEAST);
        match &opened {
            // By how long it takes nobody learns whether there is such a name, or whether it has a role.
            Err(Kept::Out) => tokio::time::sleep(takes.saturating_sub(begun.elapsed())).await,
            Err(Kept::Silent) => {}
            Ok(_) => {
                let took = begun.elapsed().as_micros() as u64;
                let before = self.takes.load(Ordering::Relaxed);
                self.takes.store(if before == 0 { took } else { (7 * before + took) / 8 }, Ordering::Relaxed);
            }
        }
        opened
    }

    async fn prove(&self, api: &Api, name: &str, password: &Secret) -> Result<(String, Role, String), Kept> {
        let directory = self.directory(api)?;
        let account = look_up(&directory, name).await?.ok_or(Kept::Out)?;
        // Whoever has no role proves themselves, too: it takes as long.
        let proved = answer(&directory, directory.check_password(&account, password.clone(), ASKER)).await?;
        let role = self.role(&account).filter(|_| proved == PasswordAnswer::Right).ok_or(Kept::Out)?;
        let (secret, now) = (new_token(), Instant::now());
        let called = self.called(&account.name);
        let Account { name, place, password_mark: mark, .. } = account;
        let session = Session { name, place, mark, role, began: now, looked: now };
        self.lock().insert(token_hash(&secret).0, session);
        Ok((called, role, secret))
    }

    /// Whose session it is, where it counts.
    pub(crate) async fn owner(&self, api: &Api, secret: &str) -> Option<Bearer> {
        let TokenHash(hash) = token_hash(secret);
        let mut session = self.lock().get(&hash).cloned()?;
        if session.began.elapsed() > SESSION {
            self.lock().remove(&hash);
            return None;
        }
        if session.looked.elapsed() > self.look_again() {
            let directory = self.directory(api).ok()?;
            let found = look_up(&directory, &session.name).await;
            let Ok(found) = found else { return None };
            // An account that is gone, disabled, another, or without a role has no session any more.
            let same = |account: &Account| account.place == session.place && account.password_mark == session.mark;
            let Some(role) = found.filter(same).and_then(|account| self.role(&account)) else {
                self.lock().remove(&hash);
                return None;
            };
            (session.role, session.looked) = (role, Instant::now());
            // Whoever signed out meanwhile is out.
            *self.lock().get_mut(&hash)? = session.clone();
        }
        Some(Bearer { administrator: self.called(&session.name), role: session.role, token: None })
    }

    /// Ends a session, where it is one.
    pub(crate) fn close(&self, secret: &str) -> bool {
        self.lock().remove(&token_hash(secret).0).is_some()
    }

    /// How somebody is called: no administrator of the records can have that name.
    fn called(&self, name: &str) -> String {
        format!("{name}\u{a0}({})", self.from.store.as_deref().unwrap_or_default())
    }

    fn look_again(&self) -> Duration {
        self.from.look_again_seconds.map_or(LOOK_AGAIN, Duration::from_secs).min(LOOK_AGAIN)
    }

    fn directory(&self, api: &Api) -> Result<Arc<Directory>, Kept> {
        let store = self.from.store.as_deref().ok_or(Kept::Out)?;
        match api.administration.snapshot().outside.get(store) {
            Some(OutsideStore::Directory(directory)) => Ok(directory.clone()),
            _ => Err(Kept::Silent),
        }
    }

    /// The role that somebody's groups give, the highest of several.
    fn role(&self, account: &Account) -> Option<Role> {
        if account.disabled || account.expired {
            return None;
        }
        let in_one = |groups: &Vec<String>| {
            let known = |group: &Value<'_>| match group {
                Value::Text(text) => groups.iter().any(|wanted| wanted.to_lowercase() == text.to_lowercase()),
                _ => false,
            };
            account.groups.iter().any(known)
        };
        let roles = [
            (&self.from.engineer, Role::Engineer),
            (&self.from.helpdesk, Role::Helpdesk),
            (&self.from.auditor, Role::Auditor),
        ];
        roles.into_iter().find(|(groups, _)| in_one(groups)).map(|(_, role)| role)
    }

    fn lock(&self) -> MutexGuard<'_, BoundedMap<[u8; 32], Session>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

async fn look_up(directory: &Directory, name: &str) -> Result<Option<Account>, Kept> {
    match answer(directory, directory.account_anew(IdentityKind::User, name, ASKER)).await? {
        Found::Account(account) => Ok(Some(account)),
        Found::Nobody | Found::Several => Ok(None),
    }
}

async fn answer<T>(directory: &Directory, reply: StoreReply<'_, T>) -> Result<T, Kept> {
    let answer: Answer<T> = match reply {
        StoreReply::Now(answer) => answer,
        StoreReply::Later(later) => timeout(directory.time_limit(), later).await.map_err(|_| Kept::Silent)?,
    };
    answer.map_err(|_| Kept::Silent)
}
