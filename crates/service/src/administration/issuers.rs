//! Asking issuers' responders whether certificates were revoked (RFC 6960).

use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use regnant_base::BoundedMap;
use regnant_certificates::{OcspAnswer, ocsp_request, read_ocsp_response};
use regnant_decision::{Answer, NoAnswer, Responders};
use regnant_eap::{Certificate, Question, Standing, Standings};
use regnant_outside::Never;
use tokio::runtime::Handle;
use tokio::sync::Semaphore;
use tokio::time::timeout;

use crate::administration::fetching::{agent, came};
use crate::clock::now_ms;

/// Answers kept at a time; the oldest go first.
const MOST: usize = 50_000;
/// Questions under way at a time; others wait for their turn, and not for long.
const AT_ONCE: usize = 64;
/// An answer counts for as long as it says, but no longer than this many seconds:
/// who wants to hear of revocation hears of it within the hour.
const LONGEST: u64 = 3_600;
/// A responder that was silent is not asked about the same certificate again for
/// this many seconds, so that it holds nobody up twice.
const SILENT_FOR: u64 = 30;
/// A NAS asks again after some seconds, and gives up after some more.
const PATIENCE: Duration = Duration::from_secs(5);
const MOST_BYTES: u64 = 64 << 10;

type Fingerprint = [u8; 32];

/// What issuers' responders said, as far as it counts yet, and the way to them.
#[derive(Debug)]
pub(crate) struct Issuers {
    /// What was said of certificates, by their fingerprints.
    said: Mutex<BoundedMap<Fingerprint, CachedAnswer>>,
    rooms: Arc<Semaphore>,
    runtime: Handle,
    /// Where no responder is asked.
    never: Never,
    /// How long anybody waits for a turn.
    patience: Duration,
}

#[derive(Clone, Debug)]
struct CachedAnswer {
    said: Answer<Standing>,
    /// Seconds since 1970.
    until: u64,
}

impl Issuers {
    /// Questions wait on this runtime.
    pub(crate) fn new(runtime: Handle, never: Never) -> Self {
        Self {
            said: Mutex::new(BoundedMap::new(MOST)),
            rooms: Arc::new(Semaphore::new(AT_ONCE)),
            runtime,
            never,
            patience: PATIENCE,
        }
    }

    fn known(&self, fingerprint: &Fingerprint, now: u64) -> Option<Answer<Standing>> {
        self.lock().get(fingerprint).filter(|known| known.until >= now).map(|known| known.said.clone())
    }

    fn keep(&self, fingerprint: Fingerprint, known: CachedAnswer) {
        self.lock().insert(fingerprint, known);
    }

    /// Asks once there is room; `None` where there is none in time.
    async fn ask_now(&self, question: &Question) -> Option<Result<OcspAnswer, String>> {
        let url = match responder(&question.certificate, question.responder.as_deref()) {
            Ok(url) => url,
            Err(why) => return Some(Err(why)),
        };
        let (certificate, issuer) = (question.certificate.clone(), question.issuer.clone());
        let (rooms, runtime, patience) = (self.rooms.clone(), self.runtime.clone(), self.patience);
        let never = self.never.clone();
        // Whoever waits for the answer may do so on a thread without timers.
        let work = async move {
            let room = timeout(patience, rooms.acquire_owned()).await.ok()?.ok()?;
            let asking = runtime.spawn_blocking(move || {
                let _room = room;
                ask(&never, &url, &certificate, &issuer).map(|(_, answer)| answer)
            });
            Some(asking.await.unwrap_or_else(|error| Err(error.to_string())))
        };
        self.runtime.spawn(work).await.ok().flatten()
    }

    fn lock(&self) -> MutexGuard<'_, BoundedMap<Fingerprint, CachedAnswer>> {
        self.said.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Standings for Issuers {
    fn of(&self, fingerprint: &Fingerprint, now: u64) -> Option<Standing> {
        self.known(fingerprint, now)?.ok()
    }
}

impl Responders for Issuers {
    fn ask<'q>(&'q self, question: &'q Question) -> Pin<Box<dyn Future<Output = Answer<Standing>> + Send + 'q>> {
        Box::pin(async move {
            if let Some(said) = self.known(&question.fingerprint, now_ms() / 1_000) {
                return said;
            }
            let Some(asked) = self.ask_now(question).await else {
                return Err(NoAnswer::NoRoom("too many questions to issuers are under way".into()));
            };
            let now = now_ms() / 1_000;
            let known = match asked {
                Ok(answer) => CachedAnswer { said: Ok(answer.standing), until: answer.until.min(now + LONGEST) },
                Err(why) => CachedAnswer { said: Err(NoAnswer::Silent(why)), until: now + SILENT_FOR },
            };
            self.keep(question.fingerprint, known.clone());
            known.said
        })
    }
}

/// Whom to ask about a certificate. HTTP is enough: answers are signed.
pub(crate) fn responder(certificate: &[u8], instead: Option<&str>) -> Result<String, String> {
    if let Some(instead) = instead {
        return Ok(instead.to_owned());
    }
    let read = Certificate::read(certificate).map_err(|error| error.to_string())?;
    let mut named = read.ocsp.into_iter().filter(|url| url.starts_with("http://"));
    named.next().ok_or_else(|| "the certificate names no responder".to_owned())
}

/// Asks a responder about a certificate; waits for the answer, and gives it as it
/// came and as it was read.
pub(crate) fn ask(
    never: &Never,
    url: &str,
    certificate: &[u8],
    issuer: &[u8],
) -> Result<(Vec<u8>, OcspAnswer), String> {
    let told = |error: &dyn std::fmt::Display| format!("{url}: {error}");
    let request = ocsp_request(certificate, issuer).map_err(|error| told(&error))?;
    let agent = agent(never, PATIENCE);
    // RFC 6960 appendix A.1.
    let sent = agent.post(url).content_type("application/ocsp-request").send(&request[..]);
    let mut answer = came(sent).map_err(|error| told(&error))?;
    let bytes = answer.body_mut().with_config().limit(MOST_BYTES).read_to_vec().map_err(|error| told(&error))?;
    let read = read_ocsp_response(&bytes, certificate, issuer, now_ms() / 1_000).map_err(|error| told(&error))?;
    Ok((bytes, read))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A stand-in for a responder that takes its time, and says nothing.
    fn silent() -> (std::net::TcpListener, String) {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/", listener.local_addr().unwrap());
        (listener, url)
    }

    #[tokio::test]
    async fn a_rush_waits_for_its_turn_and_a_silent_responder_is_told_from_a_full_house() {
        let issuers = Arc::new(Issuers::new(Handle::current(), Never::default()));
        let authority = regnant_certificates::Authority::new("Tarnmouth Demo Root", 1_700_000_000).unwrap();
        let der = regnant_certificates::read_certificates(authority.certificate()).unwrap().swap_remove(0);
        let (listener, url) = silent();
        let question = |number: u8| Question {
            fingerprint: [number; 32],
            certificate: der.clone(),
            issuer: der.clone(),
            responder: Some(url.clone()),
        };
        let ask = |number| {
            let (issuers, question) = (issuers.clone(), question(number));
            tokio::spawn(async move { issuers.ask(&question).await })
        };
        let all: Vec<_> = (0..AT_ONCE as u8 + 1).map(ask).collect();
        // The connections are taken and dropped at once, so that nobody waits for long.
        std::thread::spawn(move || listener.incoming().for_each(drop));
        for one in all {
            let told = one.await.unwrap().unwrap_err().to_string();
            assert!(told.starts_with(&url), "everybody had a turn: {told}");
        }
        assert!(issuers.known(&[0; 32], now_ms() / 1_000).unwrap().is_err(), "silence is remembered");
        // With no room at all nobody is asked, and that is not held against the certificate.
        let full = Issuers { patience: Duration::from_millis(10), ..Issuers::new(Handle::current(), Never::default()) };
        let _rooms = full.rooms.clone().acquire_many_owned(AT_ONCE as u32).await.unwrap();
        let told = full.ask(&question(200)).await.unwrap_err().to_string();
        assert!(told.contains("too many questions"), "{told}");
        assert!(full.known(&[200; 32], 0).is_none());
    }

    #[tokio::test]
    async fn answers_count_for_their_time_and_are_bounded() {
        let issuers = Issuers::new(Handle::current(), Never::default());
        let said = |standing, until| CachedAnswer { said: Ok(standing), until };
        issuers.keep([1; 32], said(Standing::Good, 10));
        assert_eq!((issuers.of(&[1; 32], 10), issuers.of(&[1; 32], 11)), (Some(Standing::Good), None));
        issuers.keep([1; 32], CachedAnswer { said: Err(NoAnswer::Silent("silent".into())), until: 20 });
        assert_eq!(issuers.of(&[1; 32], 11), None, "silence is no standing");
        assert!(issuers.known(&[1; 32], 11).is_some(), "but it is known");
        for number in 0..MOST as u64 {
            let mut fingerprint = [2; 32];
            fingerprint[..8].copy_from_slice(&number.to_be_bytes());
            issuers.keep(fingerprint, said(Standing::Revoked, 99));
        }
        assert_eq!(issuers.lock().len(), MOST);
        assert!(issuers.known(&[1; 32], 11).is_none(), "the oldest went");
    }
}
