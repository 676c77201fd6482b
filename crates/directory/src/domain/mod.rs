//! The domain controllers of an Active Directory, which check responses of MS-CHAP over a secure
//! channel. There is no other way to have them checked there: a controller tells no hash.

mod calls;
mod controllers;
mod place;

use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use regnant_base::Secret;
use regnant_decision::MsChapAnswer;
use regnant_eap::MsChapResponse;
use regnant_netlogon::{
    Authenticated, Link, Logon, LogonAnswer, Machine, Malformed, PasswordHash, SessionKey, authenticate, challenge,
    logon, mapper, read_authenticated, read_challenge, read_logon, read_password_set, set_password,
};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::answers::Trouble;
use crate::domain::calls::{bound, call};
pub(crate) use crate::domain::controllers::keep_finding;
use crate::domain::controllers::{Controller, Controllers};
pub(crate) use crate::domain::place::ControllerPlace;
use crate::settings::DirectorySettings;

/// A domain, whose controllers are asked.
pub(crate) struct Domain {
    machine: Machine,
    password: Secret,
    pub(crate) controllers: Controllers,
    limit: Duration,
}

/// What a controller and the machine know of each other.
pub(crate) struct Channel {
    port: u16,
    proved: Authenticated,
    idle: Mutex<Vec<(TcpStream, Link)>>,
}

/// Why a controller did not answer.
pub(crate) enum Lost {
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
        Some(Self {
            machine: Machine { domain: settings.domain.clone(), account: settings.machine_account.clone() },
            password: password.clone(),
            controllers: Controllers::new(settings.controllers()),
            limit: settings.limit().mul_f32(0.9),
        })
    }

    /// Whether a response is right for the account of this name.
    pub(crate) async fn check(&self, name: &str, response: &MsChapResponse) -> Result<MsChapAnswer, Trouble> {
        let began = Instant::now();
        let mut last = None;
        let controllers = self.controllers.all(self.limit).await?;
        for (place, controller) in controllers.iter().enumerate() {
            if !controller.breaker().may_be_asked() {
                continue;
            }
            let left = self.limit.saturating_sub(began.elapsed());
            let time = if place + 1 == controllers.len() { left } else { left / 2 };
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
        let down = || controllers.iter().find_map(|one| one.breaker().down().map(|(_, why)| why.to_string()));
        Err(last.unwrap_or_else(|| Trouble::Down(down().unwrap_or_default())))
    }

    /// Has this machine have another password from now on; `current` is the one that counts still.
    pub(crate) async fn set_password(&self, current: &Secret, new: &Secret) -> Result<(), Trouble> {
        let mut last = Trouble::Down(String::new());
        for controller in self.controllers.all(self.limit).await?.iter() {
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
        let mut stream = bound(controller, channel.port, &mut link).await.map_err(plain)?;
        let answer = call(host, &mut stream, &mut link, operation, &given).await.map_err(plain)?;
        let set = read_password_set(&answer, &channel.proved, now).map_err(|Malformed| controller.nonsense())?;
        set.map_err(|status| controller.refused(&format!("it does not take a new password: {status}")))
    }

    /// Makes a channel to every controller anew, for whoever tests the way.
    pub(crate) async fn probe(&self) -> Vec<(String, Duration, Result<(), Trouble>)> {
        let mut seen = Vec::new();
        let began = Instant::now();
        let all = match self.controllers.find().await {
            Ok(()) => self.controllers.all(self.limit).await,
            Err(trouble) => Err(trouble),
        };
        let all = match all {
            Ok(all) => all,
            Err(trouble) => return vec![("its domain controllers".into(), began.elapsed(), Err(trouble))],
        };
        for controller in all.iter() {
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
        // Sooner than it is given up: that it had no place is no failure of the controller.
        let place = timeout(self.limit / 3, controller.places.acquire()).await;
        let _place = place.map_err(|_| Trouble::Busy)?.map_err(|_| Trouble::Busy)?;
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
                let mut stream = bound(controller, channel.port, &mut link).await?;
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
        let mut stream = bound(controller, mapper::PORT, &mut link).await.map_err(plain)?;
        let (operation, given) = mapper::ask();
        let answer = call(host, &mut stream, &mut link, operation, &given).await.map_err(plain)?;
        let port = mapper::read(&answer).map_err(|Malformed| controller.nonsense())?;
        let port = port.ok_or_else(|| controller.refused("it is no domain controller: nobody there has NETLOGON"))?;
        let mut link = Link::plain();
        let mut stream = bound(controller, port, &mut link).await.map_err(plain)?;
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

impl Channel {
    fn idle(&self) -> MutexGuard<'_, Vec<(TcpStream, Link)>> {
        self.idle.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn random<const N: usize>() -> Option<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).ok().map(|()| bytes)
}
