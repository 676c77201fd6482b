//! The domain controllers of an Active Directory, which check responses of MS-CHAP over a secure
//! channel. There is no other way to have them checked there: a controller tells no hash.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use regnant_base::Secret;
use regnant_decision::{MsChapAnswer, PasswordAnswer};
use regnant_eap::MsChapResponse;
use regnant_netlogon::{
    Authenticated, HEADER, Link, LinkError, Logon, LogonAnswer, Machine, Malformed, NtStatus, PasswordHash, SessionKey,
    authenticate, challenge, logon, mapper, pdu_length, read_authenticated, read_challenge, read_logon,
    read_password_set, set_password,
};
use regnant_outside::{Breaker, ServerHealth};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;
use tokio::sync::Semaphore;
use tokio::time::timeout;

use crate::answers::Trouble;
use crate::settings::DirectorySettings;

/// Connections to one controller, each with one question on its way.
const LINKS: usize = 16;
/// How long a connection may take.
const CONNECT: Duration = Duration::from_millis(1_500);

/// The controllers, the one that is asked first in front.
pub(crate) struct Domain {
    machine: Machine,
    password: Secret,
    controllers: Vec<Controller>,
    limit: Duration,
}

struct Controller {
    host: String,
    /// The channel, where there is one; whoever comes while it is made waits for it.
    channel: tokio::sync::Mutex<Option<Arc<Channel>>>,
    places: Semaphore,
    breaker: Mutex<Breaker<Trouble>>,
    asked: AtomicU64,
    failed: AtomicU64,
}

/// What a controller and the machine know of each other.
struct Channel {
    port: u16,
    proved: Authenticated,
    idle: Mutex<Vec<(TcpStream, Link)>>,
}

/// Why a controller did not answer.
enum Lost {
    Trouble(Trouble),
    /// It knows nothing of the channel any more.
    Channel,
}

impl From<Trouble> for Lost {
    fn from(trouble: Trouble) -> Self {
        Self::Trouble(trouble)
    }
}

impl Domain {
    /// The controllers that settings name, where they name a domain.
    pub(crate) fn new(settings: &DirectorySettings, password: &Secret) -> Option<Self> {
        if settings.domain.is_empty() {
            return None;
        }
        let controller = |host: String| Controller {
            host,
            channel: tokio::sync::Mutex::new(None),
            places: Semaphore::new(LINKS),
            breaker: Mutex::default(),
            asked: AtomicU64::new(0),
            failed: AtomicU64::new(0),
        };
        Some(Self {
            machine: Machine { domain: settings.domain.clone(), account: settings.machine_account.clone() },
            password: password.clone(),
            controllers: settings.controllers().into_iter().map(controller).collect(),
            limit: settings.limit().mul_f32(0.9),
        })
    }

    pub(crate) fn health(&self) -> impl Iterator<Item = ServerHealth> {
        self.controllers.iter().map(|controller| {
            let breaker = controller.breaker();
            ServerHealth {
                url: format!("netlogon://{}", controller.host),
                down: breaker.down().map(|(time, trouble)| (time, trouble.to_string(), trouble.advice())),
                asked: controller.asked.load(Ordering::Relaxed),
                failed: controller.failed.load(Ordering::Relaxed),
            }
        })
    }

    /// Whether a response is right for the account of this name.
    pub(crate) async fn check(&self, name: &str, response: &MsChapResponse) -> Result<MsChapAnswer, Trouble> {
        let began = Instant::now();
        let mut last = None;
        for (place, controller) in self.controllers.iter().enumerate() {
            if !controller.breaker().may_be_asked() {
                continue;
            }
            let left = self.limit.saturating_sub(began.elapsed());
            let time = if place + 1 == self.controllers.len() { left } else { left / 2 };
            controller.asked.fetch_add(1, Ordering::Relaxed);
            let asked = self.ask(controller, name, response);
            match timeout(time, asked).await.unwrap_or_else(|_| Err(self.late(controller))) {
                Err(Trouble::Busy) => return Err(Trouble::Busy),
                Err(trouble) if trouble.is_the_servers() => {
                    controller.note_failure(&trouble).await;
                    last = Some(trouble);
                }
                // What it says of one account keeps nobody else out.
                answer => {
                    controller.note_answer();
                    return answer;
                }
            }
        }
        let down = || self.controllers.iter().find_map(|one| one.breaker().down().map(|(_, why)| why.to_string()));
        Err(last.unwrap_or_else(|| Trouble::Down(down().unwrap_or_default())))
    }

    /// Has this machine have another password from now on; `current` is the one that counts still.
    pub(crate) async fn set_password(&self, current: &Secret, new: &Secret) -> Result<(), Trouble> {
        let mut last = Trouble::Down(String::new());
        for controller in &self.controllers {
            let setting = self.set_password_at(controller, current, new);
            match timeout(2 * self.limit, setting).await.unwrap_or_else(|_| Err(self.late(controller))) {
                Ok(()) => return Ok(()),
                // Its answer may be lost, and the password set.
                Err(_) if self.is_password(controller, new).await => return Ok(()),
                Err(trouble) => last = trouble,
            }
        }
        Err(last)
    }

    /// Whether a controller believes the machine by this password.
    async fn is_password(&self, controller: &Controller, password: &Secret) -> bool {
        timeout(self.limit, self.open(controller, password)).await.is_ok_and(|opened| opened.is_ok())
    }

    fn late(&self, controller: &Controller) -> Trouble {
        Trouble::Late { server: controller.host.clone(), seconds: self.limit.as_secs_f32().ceil() as u64 }
    }

    async fn set_password_at(&self, controller: &Controller, current: &Secret, new: &Secret) -> Result<(), Trouble> {
        let host = &controller.host;
        let plain = |lost| match lost {
            Lost::Trouble(trouble) => trouble,
            Lost::Channel => controller.refused("access is denied"),
        };
        let channel = self.open(controller, current).await?;
        let fill = random().ok_or_else(|| controller.refused("there are no random bytes here"))?;
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs() as u32;
        let call_of = set_password(host, &self.machine, &channel.proved, now, new, &fill);
        let (operation, given) = call_of.ok_or_else(|| controller.refused("the new password is too long"))?;
        let mut link = Link::sealed(&self.machine, channel.proved.key.clone());
        let mut stream = bound(host, channel.port, &mut link).await.map_err(plain)?;
        let answer = call(host, &mut stream, &mut link, operation, &given).await.map_err(plain)?;
        let set = read_password_set(&answer, &channel.proved, now).map_err(|Malformed| controller.nonsense())?;
        set.map_err(|status| controller.refused(&format!("it does not take a new password: {status}")))
    }

    /// Makes a channel to every controller anew, for whoever tests the way.
    pub(crate) async fn probe(&self) -> Vec<(String, Duration, Result<(), Trouble>)> {
        let mut seen = Vec::new();
        for controller in &self.controllers {
            let began = Instant::now();
            let made = timeout(self.limit, self.open(controller, &self.password))
                .await
                .unwrap_or_else(|_| Err(self.late(controller)));
            seen.push((controller.host.clone(), began.elapsed(), made.map(drop)));
        }
        seen
    }

    async fn ask(
        &self,
        controller: &Controller,
        name: &str,
        response: &MsChapResponse,
    ) -> Result<MsChapAnswer, Trouble> {
        let _place = controller.places.acquire().await.map_err(|_| Trouble::Busy)?;
        let channel = self.channel(controller, None).await?;
        match self.over(controller, &channel, name, response).await {
            // It was started again, or the machine has another password there.
            Err(Lost::Channel) => {
                let channel = self.channel(controller, Some(&channel)).await?;
                match self.over(controller, &channel, name, response).await {
                    Err(Lost::Channel) => Err(controller.refused("it does not take the channel that it just made")),
                    Err(Lost::Trouble(trouble)) => Err(trouble),
                    Ok(answer) => Ok(answer),
                }
            }
            Err(Lost::Trouble(trouble)) => Err(trouble),
            Ok(answer) => Ok(answer),
        }
    }

    /// Asks over a channel, on a connection that is there where there is one.
    async fn over(
        &self,
        controller: &Controller,
        channel: &Arc<Channel>,
        name: &str,
        response: &MsChapResponse,
    ) -> Result<MsChapAnswer, Lost> {
        let asked = Logon { name, challenge: &response.challenge, response: &response.response };
        let (operation, given) = logon(&controller.host, &self.machine, &asked);
        let idle = channel.idle().pop();
        let answer = match idle {
            Some((mut stream, mut link)) => {
                match call(&controller.host, &mut stream, &mut link, operation, &given).await {
                    // A connection that was closed while it waited is no failure of the controller.
                    Err(Lost::Trouble(_)) => {
                        channel.idle().clear();
                        None
                    }
                    answer => Some((answer?, (stream, link))),
                }
            }
            None => None,
        };
        let (answer, kept) = match answer {
            Some(answer) => answer,
            None => {
                let mut link = Link::sealed(&self.machine, channel.proved.key.clone());
                let mut stream = bound(&controller.host, channel.port, &mut link).await?;
                let answer = call(&controller.host, &mut stream, &mut link, operation, &given).await?;
                (answer, (stream, link))
            }
        };
        channel.idle().push(kept);
        match read_logon(&answer).map_err(|Malformed| controller.nonsense())? {
            LogonAnswer::Right(key) => Ok(MsChapAnswer::Right(key)),
            LogonAnswer::Refused(status) => controller.refusal(status),
        }
    }

    /// The channel to a controller; another one than `lost`.
    async fn channel(&self, controller: &Controller, lost: Option<&Arc<Channel>>) -> Result<Arc<Channel>, Trouble> {
        let mut kept = controller.channel.lock().await;
        if let Some(channel) = kept.as_ref().filter(|known| lost.is_none_or(|lost| !Arc::ptr_eq(known, lost))) {
            return Ok(channel.clone());
        }
        *kept = None;
        let channel = Arc::new(self.open(controller, &self.password).await?);
        Ok(kept.insert(channel).clone())
    }

    /// Has both sides prove themselves by a password.
    async fn open(&self, controller: &Controller, password: &Secret) -> Result<Channel, Trouble> {
        let host = &controller.host;
        let plain = |lost| match lost {
            Lost::Trouble(trouble) => trouble,
            Lost::Channel => controller.refused("access is denied"),
        };
        let mut link = Link::to_mapper();
        let mut stream = bound(host, mapper::PORT, &mut link).await.map_err(plain)?;
        let (operation, given) = mapper::ask();
        let answer = call(host, &mut stream, &mut link, operation, &given).await.map_err(plain)?;
        let port = mapper::read(&answer).map_err(|Malformed| controller.nonsense())?;
        let port = port.ok_or_else(|| controller.refused("it is no domain controller: nobody there has NETLOGON"))?;
        let mut link = Link::plain();
        let mut stream = bound(host, port, &mut link).await.map_err(plain)?;
        let own = random::<8>().ok_or_else(|| controller.refused("there are no random bytes here"))?;
        let (operation, given) = challenge(host, &self.machine, &own);
        let answer = call(host, &mut stream, &mut link, operation, &given).await.map_err(plain)?;
        let theirs = read_challenge(&answer).map_err(|Malformed| controller.nonsense())?;
        let theirs = theirs.map_err(|status| controller.not_trusted(&self.machine, status))?;
        let hash = PasswordHash::of(password).ok_or_else(|| controller.refused("the password is no text"))?;
        let key = SessionKey::new(&hash, &own, &theirs);
        let (operation, given) = authenticate(host, &self.machine, &key, &own);
        let answer = call(host, &mut stream, &mut link, operation, &given).await.map_err(plain)?;
        let proved = read_authenticated(&answer, &key, &own, &theirs).map_err(|Malformed| controller.nonsense())?;
        let proved = proved.map_err(|status| controller.not_trusted(&self.machine, status))?;
        Ok(Channel { port, proved, idle: Mutex::default() })
    }
}

impl Controller {
    fn nonsense(&self) -> Trouble {
        Trouble::Nonsense(self.host.clone())
    }

    fn refused(&self, why: &str) -> Trouble {
        Trouble::Channel { server: self.host.clone(), why: why.to_owned() }
    }

    fn not_trusted(&self, machine: &Machine, status: NtStatus) -> Trouble {
        let Machine { domain, account } = machine;
        self.refused(&format!("it does not believe that we are {domain}\\{account}: {status}"))
    }

    /// What a status says of the account, or of the channel.
    fn refusal(&self, status: NtStatus) -> Result<MsChapAnswer, Lost> {
        Ok(MsChapAnswer::Not(match status {
            NtStatus::WRONG_PASSWORD | NtStatus::NO_SUCH_USER | NtStatus::LOGON_FAILURE => PasswordAnswer::Wrong,
            NtStatus::ACCOUNT_DISABLED => PasswordAnswer::Disabled,
            NtStatus::ACCOUNT_EXPIRED | NtStatus::PASSWORD_EXPIRED => PasswordAnswer::Expired,
            NtStatus::PASSWORD_MUST_CHANGE => PasswordAnswer::MustChange,
            NtStatus::ACCOUNT_LOCKED_OUT
            | NtStatus::ACCOUNT_RESTRICTION
            | NtStatus::INVALID_LOGON_HOURS
            | NtStatus::INVALID_WORKSTATION
            | NtStatus::LOGON_TYPE_NOT_GRANTED
            | NtStatus::AUTHENTICATION_FIREWALL => PasswordAnswer::Locked,
            NtStatus::ACCESS_DENIED | NtStatus::WRONG_CREDENTIAL_HANDLE => return Err(Lost::Channel),
            status => return Err(Trouble::Refused { server: self.host.clone(), why: status.to_string() }.into()),
        }))
    }

    fn note_answer(&self) {
        if let Some(down) = self.breaker().answered() {
            tracing::info!("the domain controller {} answers again, after {} s", self.host, down.as_secs());
        }
    }

    async fn note_failure(&self, trouble: &Trouble) {
        self.failed.fetch_add(1, Ordering::Relaxed);
        let (left_alone, new) = self.breaker().failed(matches!(trouble, Trouble::Late { .. }), trouble);
        if new {
            tracing::warn!("a domain controller does not answer: {trouble}. {}", trouble.advice());
        }
        if left_alone && let Ok(mut kept) = self.channel.try_lock() {
            // What hangs is not asked again over the same connections.
            *kept = None;
        }
    }

    fn breaker(&self) -> MutexGuard<'_, Breaker<Trouble>> {
        self.breaker.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Channel {
    fn idle(&self) -> MutexGuard<'_, Vec<(TcpStream, Link)>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Connects a link.
async fn bound(host: &str, port: u16, link: &mut Link) -> Result<TcpStream, Lost> {
    let not_reached = |why: String| Trouble::NotReached { server: format!("{host}:{port}"), why };
    let connecting = timeout(CONNECT, TcpStream::connect((host, port))).await;
    let late = || not_reached(format!("no answer within {} ms", CONNECT.as_millis()));
    let mut stream = connecting.map_err(|_| late())?.map_err(|error| not_reached(error.to_string()))?;
    stream.set_nodelay(true).map_err(|error| not_reached(error.to_string()))?;
    let bind = link.bind();
    let answer = exchange(host, &mut stream, &bind).await?;
    link.bound(&answer).map_err(|error| lost(host, error))?;
    Ok(stream)
}

/// One call on a link.
async fn call(
    host: &str,
    stream: &mut TcpStream,
    link: &mut Link,
    operation: u16,
    given: &[u8],
) -> Result<Vec<u8>, Lost> {
    let confounder = random().ok_or_else(|| Trouble::Channel {
        server: host.to_owned(),
        why: "there are no random bytes here".to_owned(),
    })?;
    let request = link.request(operation, given, confounder);
    let mut pdu = exchange(host, stream, &request).await?;
    loop {
        if let Some(answer) = link.answer(&pdu).map_err(|error| lost(host, error))? {
            return Ok(answer);
        }
        pdu = read(host, stream).await?;
    }
}

async fn exchange(host: &str, stream: &mut TcpStream, pdu: &[u8]) -> Result<Vec<u8>, Trouble> {
    let not_reached = |error: std::io::Error| Trouble::NotReached { server: host.to_owned(), why: error.to_string() };
    stream.write_all(pdu).await.map_err(not_reached)?;
    read(host, stream).await
}

async fn read(host: &str, stream: &mut TcpStream) -> Result<Vec<u8>, Trouble> {
    let not_reached = |error: std::io::Error| Trouble::NotReached { server: host.to_owned(), why: error.to_string() };
    let mut header = [0; HEADER];
    stream.read_exact(&mut header).await.map_err(not_reached)?;
    let length = pdu_length(&header).map_err(|_| Trouble::Nonsense(host.to_owned()))?;
    let mut pdu = header.to_vec();
    pdu.resize(length, 0);
    stream.read_exact(&mut pdu[HEADER..]).await.map_err(not_reached)?;
    Ok(pdu)
}

/// Faults by which a controller says that it knows nothing of the channel.
const ACCESS_DENIED: u32 = 5;
const SECURITY_ERROR: u32 = 0x721;

fn lost(host: &str, error: LinkError) -> Lost {
    match error {
        LinkError::Fault(ACCESS_DENIED | SECURITY_ERROR) | LinkError::Refused(_) => Lost::Channel,
        error => Trouble::Channel { server: host.to_owned(), why: error.to_string() }.into(),
    }
}

fn random<const N: usize>() -> Option<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).ok().map(|()| bytes)
}
