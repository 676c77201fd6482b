//! Where identities are kept, as a decision asks.

use std::collections::BTreeMap;
use std::fmt;
use std::future::{Future, poll_fn};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use regnant_base::{Mac, Secret};
use regnant_eap::{Certificate, MsChapResponse, Question, Standing};
use regnant_policy::{Event, IdentityKind, StoreId, Value};
use thiserror::Error;

use crate::facts::attribute::KnownAttributes;
use crate::lookup::LookUpAnswer;

/// The groups of an identity, ready to be a fact.
pub type Groups = Arc<[Value<'static>]>;

/// What a store answers.
pub type Answer<T> = Result<T, NoAnswer>;

/// Why there is no answer. The two are never taken for each other: whoever can cause load would decide
/// which rules apply.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum NoAnswer {
    /// The store was asked, or cannot be, and did not answer: an outage, to which gates react.
    #[error("{0}")]
    Silent(String),
    /// Nobody was asked: there was no room of our own to. No gate reacts to that.
    #[error("{0}")]
    NoRoom(String),
}

impl NoAnswer {
    /// What it is to whoever is being proved.
    pub(crate) fn event(&self) -> Event {
        match self {
            Self::Silent(_) => Event::Unreachable,
            Self::NoRoom(_) => Event::NoRoom,
        }
    }

    /// What the trail has of it.
    pub(crate) fn told(&self) -> LookUpAnswer {
        match self {
            Self::Silent(why) => LookUpAnswer::NoAnswer(why.clone()),
            Self::NoRoom(why) => LookUpAnswer::NotTried(why.clone()),
        }
    }
}

/// A person or a machine as a store knows it.
#[derive(Clone, Debug)]
pub struct Account {
    /// Which of the two.
    pub kind: IdentityKind,
    /// The name as the store writes it.
    pub name: String,
    /// The groups it is in.
    pub groups: Groups,
    /// Whether the store could not say all of them: then nobody knows which it is not in.
    pub groups_in_part: bool,
    /// Whether the account is disabled.
    pub disabled: bool,
    /// Whether the account has expired.
    pub expired: bool,
    /// Changes whenever the password does; sessions proved under another one are
    /// not resumed. 0 where a change would not show: then none is.
    pub password_mark: u64,
    /// Where the store keeps it, where that is not told by its name.
    pub place: Option<Arc<str>>,
    /// By what whoever checks its responses of MS-CHAP knows it, where that is somebody else.
    pub logon: Option<Arc<LogonAccount>>,
    /// The certificates that the store has for it.
    pub certificates: Arc<[KeptCertificate]>,
    /// What is kept of it beside.
    pub attributes: KnownAttributes,
}

/// An account as those know it who check responses of MS-CHAP for a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogonAccount {
    /// Its name.
    pub name: String,
    /// What tells it from every other account, whatever their names, where the store has that.
    pub identifier: Option<Vec<u8>>,
}

/// A certificate that a store has for an account, by what tells it from others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KeptCertificate {
    /// SHA-256 over it, in hexadecimal.
    Fingerprint(String),
    /// Its issuer's name, as [`KeptCertificate::issuer`] writes it, and its serial number in hexadecimal.
    Numbered(String, String),
}

impl KeptCertificate {
    /// Whether a certificate that was presented is this one.
    pub fn is(&self, presented: &Certificate) -> bool {
        match self {
            Self::Fingerprint(fingerprint) => *fingerprint == presented.fingerprint,
            Self::Numbered(issuer, serial) => {
                *issuer == Self::issuer(&presented.issuer) && same_number(serial, &presented.serial)
            }
        }
    }

    /// The name of an issuer as it is compared: without spaces around its parts, case aside.
    pub fn issuer(name: &str) -> String {
        name.split(',').map(|part| part.trim().to_lowercase()).collect::<Vec<_>>().join(",")
    }
}

/// Whether two numbers in hexadecimal are the same: zeros in front do not count.
fn same_number(one: &str, other: &str) -> bool {
    let bare = |text: &str| text.trim_start_matches('0').to_lowercase();
    bare(one) == bare(other)
}

/// The groups of a store, as policies may name them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct GroupNames {
    /// All of them.
    pub names: Vec<String>,
    /// Those that several groups have, in small letters.
    pub twice: Vec<String>,
    /// How many seconds ago it was looked, where that is told.
    pub looked: Option<u64>,
    /// Whether these are all.
    pub whole: bool,
}

/// What a store has under a name.
#[derive(Clone, Debug)]
pub enum Found {
    /// This.
    Account(Account),
    /// Nothing.
    Nobody,
    /// More than one account, and nothing tells which is meant.
    Several,
}

impl From<Option<Account>> for Found {
    fn from(account: Option<Account>) -> Self {
        account.map_or(Self::Nobody, Self::Account)
    }
}

/// What came of checking a password.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PasswordAnswer {
    /// It is right.
    Right,
    /// It is wrong.
    Wrong,
    /// It is right, and the account is disabled.
    Disabled,
    /// It is right, and the account has expired.
    Expired,
    /// It is right, and too old.
    TooOld,
    /// It is right, and has to be changed before it counts.
    MustChange,
    /// Wrong passwords keep everybody out for a while, whatever the password.
    Locked,
    /// The account may not be used at this hour.
    NotNow,
    /// The account may not be used from here.
    NotHere,
    /// The account may not be used in this way.
    Restricted,
}

impl From<bool> for PasswordAnswer {
    fn from(right: bool) -> Self {
        if right { Self::Right } else { Self::Wrong }
    }
}

/// What a device is, for people: "crane controller". It is read when somebody writes it
/// down, which is not while a packet waits.
#[derive(Clone)]
pub enum Title {
    /// It is this, or nothing.
    Text(String),
    /// Somebody keeps it, by the store and address.
    Kept(Arc<dyn Titles>, Arc<str>, Mac),
}

/// Whoever keeps the titles of devices.
pub trait Titles: Send + Sync {
    /// The title of a device, where there is one.
    fn title(&self, store: &str, mac: Mac) -> Option<String>;
}

impl Title {
    /// Reads it.
    pub fn read(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::Kept(titles, store, mac) => titles.title(store, *mac).unwrap_or_default(),
        }
    }
}

impl fmt::Debug for Title {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => text.fmt(f),
            Self::Kept(_, store, mac) => write!(f, "the title of {mac} in {store}"),
        }
    }
}

/// A device known by its MAC address.
#[derive(Clone, Debug)]
pub struct Device {
    /// What it is.
    pub title: Title,
    /// The groups it is in.
    pub groups: Groups,
    /// Whether the store could not say all of them.
    pub groups_in_part: bool,
    /// What people keep of it beside.
    pub attributes: KnownAttributes,
    /// Whether it must stay out.
    pub barred: bool,
    /// Whether its time is over, so that it counts as not listed; barred it stays.
    pub expired: bool,
}

/// What a store can be asked. What it cannot, it is never asked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Capabilities {
    /// The kinds of identity that it knows.
    pub kinds: &'static [IdentityKind],
    /// Whether it tells facts alone, and proves nobody.
    pub facts_only: bool,
    /// Whether it tells groups.
    pub groups: bool,
    /// Whether it checks passwords.
    pub passwords: bool,
    /// Whether it checks responses of MS-CHAP.
    pub mschap: bool,
    /// Whether it gives passwords back, which CHAP and EAP-MD5 need.
    pub recoverable_passwords: bool,
}

/// A password that is kept so that it can be had back.
#[derive(Debug)]
pub struct Recovered {
    /// The password.
    pub password: Secret,
    /// What the store says of it where it is right.
    pub standing: PasswordAnswer,
}

impl From<Secret> for Recovered {
    fn from(password: Secret) -> Self {
        Self { password, standing: PasswordAnswer::Right }
    }
}

/// What came of checking a response of MS-CHAP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MsChapAnswer {
    /// It is right: the session key, as [`MsChapResponse::session_key`] tells.
    Right(Secret),
    /// It is not, or the account may not be used: anything but [`PasswordAnswer::Right`].
    Not(PasswordAnswer),
    /// For this account it cannot be checked.
    Unable(Unable),
}

/// Why a response cannot be checked for an account.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unable {
    /// Nothing is kept that it could be checked by.
    NoHash,
    /// Whoever checks responses knows nothing of the account's domain.
    UnknownDomain,
    /// Whoever checks responses has checked it for another account of that name.
    OtherAccount,
}

/// An answer that is there, or will be. What is in memory costs no allocation.
pub enum StoreReply<'s, T> {
    /// It is there.
    Now(Answer<T>),
    /// It will be.
    Later(Pin<Box<dyn Future<Output = Answer<T>> + Send + 's>>),
}

impl<'s, T> StoreReply<'s, T> {
    /// An answer that is there.
    pub fn now(answer: T) -> Self {
        Self::Now(Ok(answer))
    }

    /// An answer to be waited for.
    pub fn later(answer: impl Future<Output = Answer<T>> + Send + 's) -> Self {
        Self::Later(Box::pin(answer))
    }

    /// Of what a store is never asked, since its capabilities say so.
    fn never_asked() -> Self {
        Self::Now(Err(NoAnswer::Silent("this store cannot be asked that".into())))
    }
}

/// Where identities of one or more kinds are kept.
pub trait Store: Send + Sync {
    /// What kind of store it is, for people: `people`, `devices`, `directory`.
    fn kind(&self) -> &'static str;

    /// What it can be asked.
    fn capabilities(&self) -> Capabilities;

    /// How long an answer is waited for. One that comes later is none.
    fn time_limit(&self) -> Duration;

    /// Whether it is of this process: then an answer that comes late waited for room of our own, and says
    /// nothing of an outage.
    fn is_at_hand(&self) -> bool {
        false
    }

    /// Whether it is asked about whoever claims this name at all: it may answer for some realms and
    /// domains alone.
    fn answers_for(&self, kind: IdentityKind, claimed: &str) -> bool {
        let _ = (kind, claimed);
        true
    }

    /// The person or machine of this name. `asker` is the NAS: none may take all that there is
    /// for asking.
    fn account<'s>(&'s self, kind: IdentityKind, name: &'s str, asker: &'s str) -> StoreReply<'s, Found> {
        let _ = (kind, name, asker);
        StoreReply::never_asked()
    }

    /// The groups that its identities of a kind may be in, where it knows them all.
    fn group_names(&self, kind: IdentityKind) -> Option<GroupNames> {
        let _ = kind;
        None
    }

    /// An account that was found not long ago, and how long ago in seconds, where the store still
    /// has it. Nobody is proved by it.
    fn stale_account(&self, kind: IdentityKind, name: &str, at_most: Duration) -> Option<(Account, u64)> {
        let _ = (kind, name, at_most);
        None
    }

    /// Whether this is the account's password. `asker` is the NAS: none may take all
    /// the time that there is for checking.
    fn check_password<'s>(
        &'s self,
        account: &'s Account,
        password: Secret,
        asker: &'s str,
    ) -> StoreReply<'s, PasswordAnswer> {
        let _ = (account, password, asker);
        StoreReply::never_asked()
    }

    /// How long such a check takes. Where nobody has the name, as much time passes
    /// before that shows.
    fn check_takes(&self) -> Duration {
        Duration::ZERO
    }

    /// Whether it may be asked now who has a name that is like one that nobody has, which only helps whoever reads
    /// of the refusal.
    fn gives_hints(&self) -> bool {
        true
    }

    /// Whether a response is right for the account, and the session key. `asker` is the NAS.
    fn check_mschap<'s>(
        &'s self,
        account: &'s Account,
        response: &'s MsChapResponse,
        asker: &'s str,
    ) -> StoreReply<'s, MsChapAnswer> {
        let _ = (account, response, asker);
        StoreReply::never_asked()
    }

    /// The password itself, where it is kept so that it can be had back. `asker` is the NAS.
    fn recoverable_password<'s>(&'s self, account: &'s Account, asker: &'s str) -> StoreReply<'s, Option<Recovered>> {
        let _ = (account, asker);
        StoreReply::never_asked()
    }

    /// The device of this address. `asker` is the NAS.
    fn device<'s>(&'s self, mac: Mac, asker: &'s str) -> StoreReply<'s, Option<Arc<Device>>> {
        let _ = (mac, asker);
        StoreReply::never_asked()
    }
}

/// Every store by its name.
pub type StoreRegistry = BTreeMap<String, Arc<dyn Store>>;

/// The stores that a policy names, found by the ids that it has for them.
#[derive(Clone, Default)]
pub struct BoundStores {
    list: Vec<Bound>,
}

/// A store by its name, where there is one.
type Bound = (Arc<str>, Option<Arc<dyn Store>>);

impl BoundStores {
    /// Those of `names`, the names of a policy in its order.
    pub fn new(names: &[String], registry: &StoreRegistry) -> Self {
        Self { list: names.iter().map(|name| (name.as_str().into(), registry.get(name).cloned())).collect() }
    }

    /// Its name.
    pub(crate) fn name(&self, id: StoreId) -> Arc<str> {
        self.list.get(id.place()).map_or_else(|| "".into(), |(name, _)| name.clone())
    }

    /// The store. The check lets no policy through that names one which is not there; it
    /// may have gone since.
    pub(crate) fn get(&self, id: StoreId) -> Answer<&dyn Store> {
        let (name, store) =
            self.list.get(id.place()).ok_or_else(|| NoAnswer::Silent("there is no such store".into()))?;
        store.as_deref().ok_or_else(|| NoAnswer::Silent(format!("there is no store `{name}` any more")))
    }

    /// What the slowest of these stores takes to check a password.
    pub(crate) fn check_takes(&self, ids: &[StoreId]) -> Duration {
        ids.iter().filter_map(|id| self.get(*id).ok()).map(Store::check_takes).max().unwrap_or_default()
    }
}

impl fmt::Debug for BoundStores {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.list.iter().map(|(name, _)| name)).finish()
    }
}

/// Lets time pass. Nothing here may block a thread.
pub trait Timer: Sync {
    /// Waits.
    fn sleep(&self, time: Duration) -> Pin<Box<dyn Future<Output = ()> + Send + '_>>;
}

/// How long all stores together are waited for, from the first that has to be: equipment waits no
/// longer.
const ALL_TOGETHER: Duration = Duration::from_secs(10);

/// Time that all questions of one decision share.
pub(crate) struct Deadline<'d> {
    timer: &'d dyn Timer,
    end: Mutex<End<'d>>,
}

enum End<'d> {
    /// Nobody was waited for yet.
    Ahead,
    Running(Pin<Box<dyn Future<Output = ()> + Send + 'd>>),
    Reached,
}

impl<'d> Deadline<'d> {
    pub(crate) fn new(timer: &'d dyn Timer) -> Self {
        Self { timer, end: Mutex::new(End::Ahead) }
    }
}

/// Something after which nobody is waited for.
pub(crate) trait Limit: Sync {
    /// Whether it is reached; whoever asks is woken when it is.
    fn is_reached(&self, context: &mut Context<'_>) -> bool;
}

impl Limit for Deadline<'_> {
    fn is_reached(&self, context: &mut Context<'_>) -> bool {
        let mut end = self.end.lock().unwrap_or_else(PoisonError::into_inner);
        if let End::Ahead = *end {
            *end = End::Running(self.timer.sleep(ALL_TOGETHER));
        }
        if let End::Running(running) = &mut *end
            && running.as_mut().poll(context).is_pending()
        {
            return false;
        }
        *end = End::Reached;
        true
    }
}

/// Waits for an answer, for as long as its store may take and there is time for all. What it means that
/// none came, `late` tells.
pub(crate) async fn within<T>(
    (limit, late): (Duration, fn(String) -> NoAnswer),
    timer: &dyn Timer,
    all: &dyn Limit,
    reply: StoreReply<'_, T>,
) -> Answer<T> {
    let mut later = match reply {
        StoreReply::Now(answer) => return answer,
        StoreReply::Later(later) => later,
    };
    let mut limit_reached = None;
    let late = |time: Duration, whose: &str| late(format!("no answer within {} s{whose}", time.as_secs_f32()));
    let wait = |context: &mut Context<'_>| {
        if let Poll::Ready(answer) = later.as_mut().poll(context) {
            return Poll::Ready(answer);
        }
        let end = limit_reached.get_or_insert_with(|| timer.sleep(limit));
        if end.as_mut().poll(context).is_ready() {
            return Poll::Ready(Err(late(limit, "")));
        }
        match all.is_reached(context) {
            true => Poll::Ready(Err(late(ALL_TOGETHER, " of all stores together"))),
            false => Poll::Pending,
        }
    };
    poll_fn(wait).await
}

/// Asks issuers whether certificates were revoked (RFC 6960). What was answered
/// is afterwards found among the [`Standings`](regnant_eap::Standings) that trusts
/// judge by.
pub trait Responders: Sync {
    /// Asks about one certificate.
    fn ask<'q>(&'q self, question: &'q Question) -> Pin<Box<dyn Future<Output = Answer<Standing>> + Send + 'q>>;
}

#[cfg(test)]
mod tests {
    use std::future::{pending, ready};
    use std::task::Waker;

    use super::*;

    /// Time in which one wait ends and all others do not.
    struct Only(Duration);

    impl Timer for Only {
        fn sleep(&self, time: Duration) -> Pin<Box<dyn Future<Output = ()> + Send + '_>> {
            if time == self.0 { Box::pin(ready(())) } else { Box::pin(pending()) }
        }
    }

    #[test]
    fn no_store_is_waited_for_longer_than_it_may_take_nor_all_longer_than_equipment_waits() {
        let mut context = Context::from_waker(Waker::noop());
        let mut asked = |timer: &Only, limit: u64| {
            let all = Deadline::new(timer);
            let reply = StoreReply::<()>::later(pending());
            let limit = (Duration::from_secs(limit), NoAnswer::Silent as fn(String) -> NoAnswer);
            let waiting = Box::pin(within(limit, timer, &all, reply)).as_mut().poll(&mut context);
            waiting.map(|answer| answer.unwrap_err().to_string())
        };
        assert_eq!(asked(&Only(Duration::from_secs(3)), 3), Poll::Ready("no answer within 3 s".into()));
        let all = "no answer within 10 s of all stores together".to_owned();
        assert_eq!(asked(&Only(ALL_TOGETHER), 3), Poll::Ready(all));
        assert_eq!(asked(&Only(Duration::from_secs(99)), 3), Poll::Pending);
    }
}
