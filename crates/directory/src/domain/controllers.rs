//! The domain controllers that are asked: those that settings name, and those that the DNS does.

use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};
use std::time::{Duration, Instant};

use hickory_resolver::TokioResolver;
use regnant_decision::{LogonAccount, MsChapAnswer, PasswordAnswer, Unable};
use regnant_netlogon::{LogonAnswer, Machine, NtStatus, Sid};
use regnant_outside::{Breaker, Never, ServerHealth};
use tokio::net::TcpStream;
use tokio::runtime::Handle;
use tokio::sync::{Semaphore, watch};
use tokio::time::{sleep, timeout};

use crate::answers::Trouble;
use crate::domain::SealedLink;
use crate::domain::place::{ControllerPlace, Placed, in_order};
use crate::settings::MOST_SERVERS;
use crate::store::Inner;

/// Connections to one controller, each with one question on its way.
const LINKS: usize = 16;
/// How long a connection may take.
const CONNECT: Duration = Duration::from_millis(1_500);
/// How often the DNS is looked at, where it answered and where it did not; what it said is kept for as
/// long as it says itself.
const AGAIN: (Duration, Duration) = (Duration::from_secs(60), Duration::from_secs(5));

/// The controllers, the one that is asked first in front.
pub(crate) struct Controllers {
    places: Vec<(ControllerPlace, Option<TokioResolver>)>,
    never: Never,
    known: watch::Sender<Known>,
}

/// What is known of them.
#[derive(Clone, Default)]
struct Known {
    list: List,
    /// Where they are, in no order.
    placed: Vec<Placed>,
    looked: bool,
    /// Since when the DNS names none, and why.
    trouble: Option<(Instant, Trouble)>,
}

type List = Arc<[Arc<Controller>]>;

/// One of them.
pub(crate) struct Controller {
    pub(crate) host: String,
    addresses: Vec<IpAddr>,
    never: Never,
    /// Held while both sides prove themselves and a link is bound under the key of that: a controller knows
    /// one key of a machine at a time. In it the port of NETLOGON, once it is known.
    pub(crate) proving: tokio::sync::Mutex<Option<u16>>,
    idle: Mutex<Vec<SealedLink>>,
    pub(crate) places: Semaphore,
    breaker: Mutex<Breaker<Trouble>>,
    pub(crate) asked: AtomicU64,
    failed: AtomicU64,
}

impl Controllers {
    pub(crate) fn new(places: Vec<ControllerPlace>, never: Never) -> Self {
        let (mut trouble, mut ways) = (None, Vec::new());
        for place in places {
            match place.resolver() {
                Ok(resolver) => ways.push((place, resolver)),
                Err(why) => trouble = Some((Instant::now(), why)),
            }
        }
        let controllers =
            Self { places: ways, never, known: watch::Sender::new(Known { trouble, ..Known::default() }) };
        if !controllers.ask_the_dns() {
            controllers.take(controllers.places.iter().filter_map(|(place, _)| place.named()).collect());
        }
        controllers
    }

    fn ask_the_dns(&self) -> bool {
        self.places.iter().any(|(place, _)| matches!(place, ControllerPlace::Dns { .. }))
    }

    /// Those that are known now; the first look is waited for.
    pub(crate) async fn all(&self, limit: Duration) -> Result<List, Trouble> {
        let mut seen = self.known.subscribe();
        let looked = timeout(limit, seen.wait_for(|known| known.looked)).await;
        match looked {
            Ok(Ok(known)) if !known.list.is_empty() => Ok(known.list.clone()),
            Ok(Ok(known)) => {
                Err(known.trouble.as_ref().map_or_else(|| Trouble::Down(String::new()), |(_, why)| why.clone()))
            }
            _ => Err(Trouble::Late { server: "the DNS".into(), seconds: limit.as_secs_f32().ceil() as u64 }),
        }
    }

    /// Looks where they are. Where the DNS does not say so, those of before remain.
    pub(crate) async fn find(&self) -> Result<(), Trouble> {
        let (mut found, mut last) = (Vec::new(), Ok(()));
        for (place, resolver) in &self.places {
            match place.look(resolver.as_ref()).await {
                Ok(placed) => {
                    for one in placed {
                        if !found.iter().any(|known: &Placed| known.host == one.host) {
                            found.push(one);
                        }
                    }
                }
                Err(trouble) => last = Err(trouble),
            }
        }
        match &last {
            Ok(()) => self.take(found),
            Err(trouble) => {
                let placed = self.known.borrow().placed.clone();
                for known in placed {
                    if !found.iter().any(|one| one.host == known.host) {
                        found.push(known);
                    }
                }
                self.take(found);
                self.known.send_modify(|known| {
                    if known.trouble.is_none() {
                        tracing::warn!("{trouble}. {}", trouble.advice());
                    }
                    let since = known.trouble.as_ref().map_or_else(Instant::now, |(since, _)| *since);
                    known.trouble = Some((since, trouble.clone()));
                });
            }
        }
        last
    }

    /// Asks these from now on. One that is known keeps its channel.
    fn take(&self, placed: Vec<Placed>) {
        let mut known = self.known.borrow().clone();
        if known.placed != placed {
            // Those that were named by their hosts come first, as they were named.
            let (named, found) = placed.iter().cloned().partition::<Vec<_>, _>(|one| one.addresses.is_empty());
            let ordered = named.into_iter().chain(in_order(found, random_up_to));
            let kept = |one: Placed| {
                let same = |known: &&Arc<Controller>| known.host == one.host && known.addresses == one.addresses;
                known
                    .list
                    .iter()
                    .find(same)
                    .cloned()
                    .unwrap_or_else(|| Arc::new(Controller::new(one, self.never.clone())))
            };
            known.list = ordered.take(MOST_SERVERS).map(kept).collect();
            known.placed = placed;
        }
        (known.looked, known.trouble) = (true, None);
        self.known.send_replace(known);
    }

    pub(crate) fn health(&self) -> Vec<ServerHealth> {
        let known = self.known.borrow().clone();
        let mut all: Vec<_> = known.list.iter().map(|controller| controller.health()).collect();
        if let (true, Some((since, trouble))) = (all.is_empty(), &known.trouble) {
            let down = Some((since.elapsed(), trouble.to_string(), trouble.advice()));
            all.push(ServerHealth { url: "netlogon:".into(), down, asked: 0, failed: 0 });
        }
        all
    }
}

/// Looks now and again where controllers are, where the DNS says so, for as long as they are asked.
pub(crate) fn keep_finding(inner: &Arc<Inner>, runtime: &Handle) {
    if inner.domain.as_ref().is_some_and(|domain| domain.controllers.ask_the_dns()) {
        let inner = Arc::downgrade(inner);
        runtime.spawn(async move {
            while let Some(found) = find_once(&inner).await {
                sleep(if found { AGAIN.0 } else { AGAIN.1 }).await;
            }
        });
    }
}

async fn find_once(inner: &Weak<Inner>) -> Option<bool> {
    let inner = inner.upgrade()?;
    Some(inner.domain.as_ref()?.controllers.find().await.is_ok())
}

/// A random number up to and with this one.
fn random_up_to(most: u32) -> u32 {
    let mut bytes = [0; 8];
    // Without random bytes the order is that of their names.
    let _ = getrandom::fill(&mut bytes);
    (u64::from_le_bytes(bytes) % (u64::from(most) + 1)) as u32
}

impl Controller {
    fn new(placed: Placed, never: Never) -> Self {
        Self {
            host: placed.host,
            never,
            addresses: placed.addresses,
            proving: tokio::sync::Mutex::new(None),
            idle: Mutex::default(),
            places: Semaphore::new(LINKS),
            breaker: Mutex::default(),
            asked: AtomicU64::new(0),
            failed: AtomicU64::new(0),
        }
    }

    fn health(&self) -> ServerHealth {
        let breaker = self.breaker();
        ServerHealth {
            url: format!("netlogon://{}", self.host),
            down: breaker.down().map(|(time, trouble)| (time, trouble.to_string(), trouble.advice())),
            asked: self.asked.load(Ordering::Relaxed),
            failed: self.failed.load(Ordering::Relaxed),
        }
    }

    /// Connects to a port of it.
    pub(crate) async fn connect(&self, port: u16) -> Result<TcpStream, Trouble> {
        let not_reached = |why: String| Trouble::NotReached { server: format!("{}:{port}", self.host), why };
        let addresses: Vec<_> = self.addresses.iter().map(|address| SocketAddr::new(*address, port)).collect();
        let connecting = async {
            match addresses.as_slice() {
                [] => self.never.connect(&self.host, port).await,
                addresses => self.never.connect_to(&self.host, addresses.to_vec()).await,
            }
        };
        let late = || not_reached(format!("no answer within {} ms", CONNECT.as_millis()));
        let connected = timeout(CONNECT, connecting).await.map_err(|_| late())?;
        let stream = connected.map_err(|error| not_reached(error.to_string()))?;
        stream.set_nodelay(true).map_err(|error| not_reached(error.to_string()))?;
        Ok(stream)
    }

    pub(crate) fn nonsense(&self) -> Trouble {
        Trouble::Nonsense(self.host.clone())
    }

    pub(crate) fn refused(&self, why: &str) -> Trouble {
        Trouble::Channel { server: self.host.clone(), why: why.to_owned() }
    }

    pub(crate) fn not_trusted(&self, machine: &Machine, status: NtStatus) -> Trouble {
        let Machine { domain, account } = machine;
        self.refused(&format!("it does not believe that we are {domain}\\{account}: {status}"))
    }

    /// What an answer says of the account that was found: one of that name may be another.
    pub(crate) fn says(&self, account: &LogonAccount, answer: LogonAnswer) -> Result<MsChapAnswer, Trouble> {
        match answer {
            LogonAnswer::Right { key, account: checked } => {
                let found = account.identifier.as_deref().and_then(Sid::read);
                Ok(match found.as_ref() == Some(&checked) {
                    true => MsChapAnswer::Right(key),
                    false => MsChapAnswer::Unable(Unable::OtherAccount),
                })
            }
            LogonAnswer::Elsewhere => Ok(MsChapAnswer::Unable(Unable::UnknownDomain)),
            LogonAnswer::Refused(status) => self.refusal(status),
        }
    }

    /// What a status says of the account.
    fn refusal(&self, status: NtStatus) -> Result<MsChapAnswer, Trouble> {
        Ok(MsChapAnswer::Not(match status {
            NtStatus::WRONG_PASSWORD | NtStatus::NO_SUCH_USER | NtStatus::LOGON_FAILURE => PasswordAnswer::Wrong,
            NtStatus::ACCOUNT_DISABLED => PasswordAnswer::Disabled,
            NtStatus::ACCOUNT_EXPIRED => PasswordAnswer::Expired,
            NtStatus::PASSWORD_EXPIRED => PasswordAnswer::TooOld,
            NtStatus::PASSWORD_MUST_CHANGE => PasswordAnswer::MustChange,
            NtStatus::ACCOUNT_LOCKED_OUT => PasswordAnswer::Locked,
            NtStatus::INVALID_LOGON_HOURS => PasswordAnswer::NotNow,
            NtStatus::INVALID_WORKSTATION | NtStatus::AUTHENTICATION_FIREWALL => PasswordAnswer::NotHere,
            NtStatus::ACCOUNT_RESTRICTION | NtStatus::LOGON_TYPE_NOT_GRANTED => PasswordAnswer::Restricted,
            status => return Err(Trouble::Refused { server: self.host.clone(), why: status.to_string() }),
        }))
    }

    pub(crate) fn note_answer(&self) {
        if let Some(down) = self.breaker().answered() {
            tracing::info!("the domain controller {} answers again, after {} s", self.host, down.as_secs());
        }
    }

    pub(crate) fn note_failure(&self, trouble: &Trouble) {
        self.failed.fetch_add(1, Ordering::Relaxed);
        let (left_alone, new) = self.breaker().failed(matches!(trouble, Trouble::Late { .. }), trouble);
        if new {
            tracing::warn!("a domain controller does not answer: {trouble}. {}", trouble.advice());
        }
        if left_alone {
            self.forget_links();
        }
    }

    /// Links that nothing is asked over now.
    pub(crate) fn idle(&self) -> MutexGuard<'_, Vec<SealedLink>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What hangs, or was closed, is not asked again over the same connections.
    pub(crate) fn forget_links(&self) {
        self.idle().clear();
        if let Ok(mut port) = self.proving.try_lock() {
            *port = None;
        }
    }

    pub(crate) fn breaker(&self) -> MutexGuard<'_, Breaker<Trouble>> {
        self.breaker.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
