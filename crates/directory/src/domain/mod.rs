//! The domain controllers of an Active Directory, which check responses of MS-CHAP over a secure
//! channel. There is no other way to have them checked there: a controller tells no hash.

mod calls;
mod controllers;
mod names;
mod place;

use std::sync::atomic::Ordering;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use regnant_base::Secret;
use regnant_decision::{LogonAccount, MsChapAnswer};
use regnant_eap::MsChapResponse;
use regnant_netlogon::{
    Authenticated, Link, Logon, LogonAnswer, Machine, Malformed, NtStatus, PasswordHash, SessionKey, authenticate,
    challenge, logon, mapper, read_authenticated, read_challenge, read_logon, read_password_set, set_password,
};
use regnant_outside::Never;
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::answers::Trouble;
use crate::domain::calls::{bound, call};
pub(crate) use crate::domain::controllers::keep_finding;
use crate::domain::controllers::{Controller, Controllers};
pub(crate) use crate::domain::names::DomainNames;
pub(crate) use crate::domain::place::ControllerPlace;
use crate::settings::DirectorySettings;

/// A domain, whose controllers are asked.
pub(crate) struct Domain {
    machine: Machine,
    password: Secret,
    pub(crate) controllers: Controllers,
    limit: Duration,
}

/// A connection over which a controller is asked, under a key of its own.
pub(crate) struct SealedLink {
    stream: TcpStream,
    link: Link,
}

/// Why a controller did not answer.
pub(crate) enum Lost {
    Trouble(Trouble),
    /// It knows nothing of the link's key any more.
    Channel,
}

impl From<Trouble> for Lost {
    fn from(trouble: Trouble) -> Self {
        Self::Trouble(trouble)
    }
}

impl Domain {
    /// The controllers that settings name, where they name a domain.
    pub(crate) fn new(settings: &DirectorySettings, password: &Secret, never: &Never) -> Option<Self> {
        if settings.domain.is_empty() {
            return None;
        }
        Some(Self {
            machine: Machine { domain: settings.domain.clone(), account: settings.machine_account.clone() },
            password: password.clone(),
            controllers: Controllers::new(settings.controllers(), never.clone()),
            limit: settings.limit().mul_f32(0.9),
        })
    }

    /// Whether a response is right for this account, which is of the domain of this name.
    pub(crate) async fn check(
        &self,
        domain: &str,
        account: &LogonAccount,
        response: &MsChapResponse,
    ) -> Result<MsChapAnswer, Trouble> {
        let asked = Logon { domain, name: &account.name, challenge: &response.challenge, response: &response.response };
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
            let asking = self.ask(controller, &asked);
            match timeout(time, asking).await.unwrap_or_else(|_| Err(self.late(controller))) {
                Err(Trouble::Busy) => return Err(Trouble::Busy),
                // Whoever forges answers is given no second try at this one.
                Err(trouble @ Trouble::Forged(_)) => {
                    controller.note_failure(&trouble);
                    return Err(trouble);
                }
                Err(trouble) if trouble.is_the_servers() => {
                    controller.note_failure(&trouble);
                    last = Some(trouble);
                }
                // What it says of one account keeps nobody else out.
                Err(trouble) => {
                    controller.note_answer();
                    return Err(trouble);
                }
                Ok(answer) => {
                    controller.note_answer();
                    return controller.says(account, answer);
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
        timeout(self.limit, self.proved_link(controller, password)).await.is_ok_and(|link| link.is_ok())
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
        // Until the password is set nobody else proves the machine there: the call stands under the last proof.
        let mut port = controller.proving.lock().await;
        let proved = self.prove(controller, current, &mut port).await?;
        let fill = random().ok_or_else(|| controller.refused("there are no random bytes here"))?;
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs() as u32;
        let call_of = set_password(host, &self.machine, &proved, now, new, &fill);
        let (operation, given) = call_of.ok_or_else(|| controller.refused("the new password is too long"))?;
        let mut sealed = self.sealed(controller, &proved, *port).await.map_err(plain)?;
        let answer = sealed.call(host, operation, &given).await.map_err(plain)?;
        let set = read_password_set(&answer, &proved, now).map_err(|Malformed| controller.nonsense())?;
        set.map_err(|status| controller.refused(&format!("it does not take a new password: {status}")))
    }

    /// Makes a link to every controller anew, for whoever tests the way.
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
            let made = timeout(self.limit, self.proved_link(controller, &self.password))
                .await
                .unwrap_or_else(|_| Err(self.late(controller)));
            seen.push((controller.host.clone(), began.elapsed(), made.map(drop)));
        }
        seen
    }

    /// Asks over a link that is there, or makes one.
    async fn ask(&self, controller: &Controller, asked: &Logon<'_>) -> Result<LogonAnswer, Trouble> {
        // Sooner than it is given up: that it had no place is no failure of the controller.
        let place = timeout(self.limit / 3, controller.places.acquire()).await;
        let _place = place.map_err(|_| Trouble::Busy)?.map_err(|_| Trouble::Busy)?;
        let (operation, given) = logon(&controller.host, &self.machine, asked);
        let idle = controller.idle().pop();
        if let Some(link) = idle {
            match self.over(controller, link, operation, &given).await {
                // It was closed while it waited, or the controller was started again.
                Err(Lost::Trouble(Trouble::NotReached { .. }) | Lost::Channel) => controller.forget_links(),
                Err(Lost::Trouble(trouble)) => return Err(trouble),
                Ok(answer) => return Ok(answer),
            }
        }
        let link = self.proved_link(controller, &self.password).await?;
        self.over(controller, link, operation, &given).await.map_err(|lost| match lost {
            Lost::Trouble(trouble) => trouble,
            Lost::Channel => controller.refused("it does not take the link that it just made"),
        })
    }

    async fn over(
        &self,
        controller: &Controller,
        mut link: SealedLink,
        operation: u16,
        given: &[u8],
    ) -> Result<LogonAnswer, Lost> {
        let answer = link.call(&controller.host, operation, given).await?;
        let answer = read_logon(&answer).map_err(|Malformed| controller.nonsense())?;
        if let LogonAnswer::Refused(NtStatus::ACCESS_DENIED | NtStatus::WRONG_CREDENTIAL_HANDLE) = answer {
            return Err(Lost::Channel);
        }
        controller.idle().push(link);
        Ok(answer)
    }

    /// A link under a key of its own: what is said on one link opens on no other.
    async fn proved_link(&self, controller: &Controller, password: &Secret) -> Result<SealedLink, Trouble> {
        let mut port = controller.proving.lock().await;
        let proved = self.prove(controller, password, &mut port).await?;
        self.sealed(controller, &proved, *port).await.map_err(|lost| match lost {
            Lost::Trouble(trouble) => trouble,
            Lost::Channel => controller.refused("it does not take the key that it just made"),
        })
    }

    async fn sealed(
        &self,
        controller: &Controller,
        proved: &Authenticated,
        port: Option<u16>,
    ) -> Result<SealedLink, Lost> {
        let mut link = Link::sealed(&self.machine, proved.key.clone());
        let stream = bound(controller, port.unwrap_or(mapper::PORT), &mut link).await?;
        Ok(SealedLink { stream, link })
    }

    /// The port of NETLOGON, as the endpoint mapper tells it.
    async fn port(&self, controller: &Controller) -> Result<u16, Lost> {
        let mut link = Link::to_mapper();
        let mut stream = bound(controller, mapper::PORT, &mut link).await?;
        let (operation, given) = mapper::ask();
        let answer = call(&controller.host, &mut stream, &mut link, operation, &given).await?;
        let port = mapper::read(&answer).map_err(|Malformed| controller.nonsense())?;
        Ok(port.ok_or_else(|| controller.refused("it is no domain controller: nobody there has NETLOGON"))?)
    }

    /// Has both sides prove themselves by a password.
    async fn prove(
        &self,
        controller: &Controller,
        password: &Secret,
        port: &mut Option<u16>,
    ) -> Result<Authenticated, Trouble> {
        let host = &controller.host;
        let plain = |lost| match lost {
            Lost::Trouble(trouble) => trouble,
            Lost::Channel => controller.refused("access is denied"),
        };
        let mut link = Link::plain();
        let known = match *port {
            Some(known) => bound(controller, known, &mut link).await.ok(),
            None => None,
        };
        let mut stream = match known {
            Some(stream) => stream,
            // It listens elsewhere once it was started again.
            None => {
                *port = None;
                let found = *port.insert(self.port(controller).await.map_err(plain)?);
                link = Link::plain();
                bound(controller, found, &mut link).await.map_err(plain)?
            }
        };
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
        proved.map_err(|status| controller.not_trusted(&self.machine, status))
    }
}

impl SealedLink {
    async fn call(&mut self, host: &str, operation: u16, given: &[u8]) -> Result<Vec<u8>, Lost> {
        call(host, &mut self.stream, &mut self.link, operation, given).await
    }
}

fn random<const N: usize>() -> Option<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).ok().map(|()| bytes)
}
