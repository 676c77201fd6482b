//! A service as a store of facts.

use std::fmt;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use hyper::StatusCode;
use hyper::header::{AUTHORIZATION, HeaderName};
use regnant_base::Secret;
use regnant_decision::{Account, Capabilities, Found, IdentityAttribute, Store, StoreReply};
use regnant_outside::{Breaker, Cache, Hints, Names, Room, ServerHealth, Way};
use regnant_policy::IdentityKind;
use serde_json::Value as Json;
use tokio::runtime::Handle;
use tokio::time::timeout;
use url::Url;

use crate::answers::{Trouble, object, value};
use crate::ask::{Answer, HttpClient, Question, client, server};
use crate::settings::{HttpSettings, NAME, SettingsError, address};
use crate::token::Tokens;

/// A longer name is nobody's.
pub(crate) const LONGEST_NAME: usize = 256;

/// A service that tells facts.
pub struct HttpSource {
    pub(crate) inner: Arc<Inner>,
    room: Room,
    hints: Hints,
}

pub(crate) struct Inner {
    pub(crate) settings: HttpSettings,
    pub(crate) declared: Vec<IdentityAttribute>,
    pub(crate) way: Way,
    /// The address without a name, for people.
    pub(crate) place: Url,
    client: HttpClient,
    sign_in: SignIn,
    cache: Cache,
    breaker: Mutex<Breaker<Trouble>>,
    asked: AtomicU64,
    failed: AtomicU64,
}

/// How it is told who asks.
enum SignIn {
    Nobody,
    Header(HeaderName, Secret),
    Token(Tokens),
}

impl HttpSource {
    /// A service that is asked on this runtime. `way` says who vouches for it, `declared` of which
    /// types the facts are that it tells.
    pub fn new(
        settings: HttpSettings,
        secret: Secret,
        way: &Way,
        declared: &[IdentityAttribute],
        runtime: Handle,
    ) -> Result<Self, SettingsError> {
        settings.check()?;
        let place = address(&settings.url.replace(NAME, "name"))?;
        let sign_in = match (settings.header.is_empty(), settings.token_url.is_empty()) {
            (false, _) => {
                let name = HeaderName::try_from(&settings.header);
                SignIn::Header(name.map_err(|_| SettingsError::Header(settings.header.clone()))?, secret)
            }
            (true, false) => {
                let url = address(&settings.token_url)?;
                SignIn::Token(Tokens::new(url, settings.client.clone(), settings.scope.clone(), secret))
            }
            (true, true) => SignIn::Nobody,
        };
        let cache = Cache::new(Duration::from_secs(settings.keep.into()), Names::AsWritten);
        let (asked, failed) = (AtomicU64::new(0), AtomicU64::new(0));
        let (client, breaker, declared) = (client(way), Mutex::default(), declared.to_vec());
        let inner =
            Inner { settings, declared, way: way.clone(), place, client, sign_in, cache, breaker, asked, failed };
        Ok(Self { inner: Arc::new(inner), room: Room::new(runtime), hints: Hints::default() })
    }

    /// How it does.
    pub fn health(&self) -> ServerHealth {
        let breaker = self.inner.breaker();
        let down = breaker.down().map(|(time, trouble)| (time, trouble.to_string(), trouble.advice()));
        ServerHealth {
            url: server(&self.inner.place),
            down,
            asked: self.inner.asked.load(Ordering::Relaxed),
            failed: self.inner.failed.load(Ordering::Relaxed),
        }
    }

    pub(crate) fn runtime(&self) -> &Handle {
        self.room.runtime()
    }
}

impl Inner {
    /// The address that asks about a name; none where no address can have it.
    pub(crate) fn address_of(&self, name: &str) -> Option<Url> {
        // Such a part of a path is no name to those who read addresses (RFC 3986 section 5.2.4).
        if name.is_empty() || name.len() > LONGEST_NAME || matches!(name, "." | "..") {
            return None;
        }
        let encoded: String = name
            .bytes()
            .map(|byte| match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => char::from(byte).to_string(),
                _ => format!("%{byte:02X}"),
            })
            .collect();
        Url::parse(&self.settings.url.replace(NAME, &encoded)).ok()
    }

    /// What the service says of a name, asked as if nothing were known.
    pub(crate) async fn ask(&self, url: &Url) -> Result<Option<Json>, Trouble> {
        self.asked.fetch_add(1, Ordering::Relaxed);
        let late = || Trouble::Late { server: server(url), seconds: self.settings.limit().as_secs() };
        // Whoever waits for the whole time is told by what failed, and not that nothing came.
        let limit = self.settings.limit().mul_f32(0.9);
        let answer = timeout(limit, self.signed_in(url)).await.unwrap_or_else(|_| Err(late()));
        match &answer {
            Err(trouble) if trouble.is_the_servers() => self.note_failure(trouble),
            _ => self.note_answer(),
        }
        answer
    }

    async fn signed_in(&self, url: &Url) -> Result<Option<Json>, Trouble> {
        let SignIn::Token(tokens) = &self.sign_in else {
            let headers = match &self.sign_in {
                SignIn::Header(name, secret) => vec![(name.clone(), text(secret))],
                _ => Vec::new(),
            };
            return read(url, Question { url, headers, form: None }.ask(&self.client).await?);
        };
        let token = tokens.token(&self.client).await?;
        let bearer = |token: &Secret| vec![(AUTHORIZATION, format!("Bearer {}", text(token)))];
        let answer = Question { url, headers: bearer(&token), form: None }.ask(&self.client).await?;
        if answer.status != StatusCode::UNAUTHORIZED {
            return read(url, answer);
        }
        // It may have been taken back before its time.
        tokens.forget(&token).await;
        let token = tokens.token(&self.client).await?;
        read(url, Question { url, headers: bearer(&token), form: None }.ask(&self.client).await?)
    }

    /// Goes for a token, where one is needed.
    pub(crate) async fn sign_in(&self) -> Option<Result<(), Trouble>> {
        let SignIn::Token(tokens) = &self.sign_in else { return None };
        let limit = self.settings.limit();
        let late = || Trouble::Late { server: server(&tokens.url), seconds: limit.as_secs() };
        Some(timeout(limit, tokens.token(&self.client)).await.unwrap_or_else(|_| Err(late())).map(drop))
    }

    async fn find(&self, kind: IdentityKind, name: &str) -> Result<Found, Trouble> {
        let Some(url) = self.address_of(name) else { return Ok(Found::Nobody) };
        let down = {
            let mut breaker = self.breaker();
            let down = breaker.down().map(|(_, trouble)| trouble.to_string()).unwrap_or_default();
            if breaker.may_be_asked() { None } else { Some(down) }
        };
        if let Some(why) = down {
            return Err(Trouble::Down(why));
        }
        let found = match self.ask(&url).await? {
            Some(answer) => Found::Account(self.account(kind, name, &answer)),
            None => Found::Nobody,
        };
        self.cache.keep(kind, name, &found);
        Ok(found)
    }

    pub(crate) fn account(&self, kind: IdentityKind, name: &str, answer: &Json) -> Account {
        Account {
            kind,
            name: name.to_owned(),
            groups: [].into(),
            groups_in_part: false,
            disabled: false,
            expired: false,
            password_mark: 0,
            place: None,
            logon: None,
            certificates: [].into(),
            attributes: self.settings.facts.facts(kind, &self.declared, |kind, pointer| value(answer, kind, pointer)),
        }
    }

    fn note_answer(&self) {
        if let Some(down) = self.breaker().answered() {
            tracing::info!("{} answers again, after {} s", server(&self.place), down.as_secs());
        }
    }

    fn note_failure(&self, trouble: &Trouble) {
        self.failed.fetch_add(1, Ordering::Relaxed);
        let (_, new) = self.breaker().failed(trouble.may_be_chance(), trouble);
        if new {
            tracing::warn!("a service does not answer: {trouble}. {}", trouble.advice());
        }
    }

    fn breaker(&self) -> MutexGuard<'_, Breaker<Trouble>> {
        self.breaker.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

fn text(secret: &Secret) -> String {
    String::from_utf8_lossy(secret.expose()).into_owned()
}

/// What an answer says: an object, or that there is nobody of the name.
fn read(url: &Url, answer: Answer) -> Result<Option<Json>, Trouble> {
    let (server, status) = (server(url), answer.status);
    match status {
        StatusCode::OK => object(&server, &answer.body).map(Some),
        StatusCode::NOT_FOUND | StatusCode::GONE | StatusCode::NO_CONTENT => Ok(None),
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => {
            Err(Trouble::NotAllowed { server, status: status.to_string() })
        }
        _ if status.is_redirection() => {
            let to = answer.location.unwrap_or_else(|| "nowhere".into()).chars().take(200).collect();
            Err(Trouble::Sends { server, to })
        }
        // It is busy, or it was our time that was over: so it is for everybody.
        StatusCode::REQUEST_TIMEOUT | StatusCode::TOO_MANY_REQUESTS => {
            Err(Trouble::Refused { server, status: status.to_string() })
        }
        _ if status.is_client_error() => Err(Trouble::NotTaken { server, status: status.to_string() }),
        _ => Err(Trouble::Refused { server, status: status.to_string() }),
    }
}

impl fmt::Debug for HttpSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("HttpSource").field(&self.inner.settings.url).finish()
    }
}

impl Store for HttpSource {
    fn kind(&self) -> &'static str {
        "http"
    }

    fn capabilities(&self) -> Capabilities {
        use IdentityKind::{Mac, Machine, User};
        let told = |kind| self.inner.settings.facts.kinds().any(|told| told == kind);
        let kinds: &'static [IdentityKind] = match (told(User), told(Machine), told(Mac)) {
            (true, true, true) => &[User, Machine, Mac],
            (true, true, false) => &[User, Machine],
            (true, false, true) => &[User, Mac],
            (true, false, false) => &[User],
            (false, true, true) => &[Machine, Mac],
            (false, true, false) => &[Machine],
            (false, false, true) => &[Mac],
            (false, false, false) => &[],
        };
        Capabilities { kinds, facts_only: true, ..Capabilities::default() }
    }

    fn time_limit(&self) -> Duration {
        self.inner.settings.limit()
    }

    fn answers_for(&self, kind: IdentityKind, claimed: &str) -> bool {
        self.inner.settings.realms.hold(kind, claimed)
    }

    fn stale_account(&self, kind: IdentityKind, name: &str, at_most: Duration) -> Option<(Account, u64)> {
        self.inner.cache.stale(kind, name, at_most)
    }

    fn account<'s>(&'s self, kind: IdentityKind, name: &'s str, asker: &'s str) -> StoreReply<'s, Found> {
        if !self.capabilities().kinds.contains(&kind) {
            return StoreReply::now(Found::Nobody);
        }
        if let Some(found) = self.inner.cache.get(kind, name) {
            return StoreReply::now(found);
        }
        let (inner, name) = (self.inner.clone(), name.to_owned());
        self.room.ask(asker, async move { inner.find(kind, &name).await })
    }

    fn gives_hints(&self) -> bool {
        self.hints.take()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use regnant_outside::{Never, Told, client_tls};

    use super::*;

    fn source() -> (tokio::runtime::Runtime, HttpSource) {
        let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
        let facts = Told([("machine.compliant".to_owned(), "/compliant".to_owned())].into());
        let url = "https://register.example/devices/{name}?view=short".to_owned();
        let settings = HttpSettings { url, facts, ..HttpSettings::default() };
        let way = Way { tls: client_tls(Some(&[])), never: Never::default() };
        let source = HttpSource::new(settings, Secret::new(*b""), &way, &[], runtime.handle().clone()).unwrap();
        (runtime, source)
    }

    #[test]
    fn a_name_is_one_part_of_the_path_and_nothing_else() {
        let (_runtime, source) = source();
        let of = |name: &str| source.inner.address_of(name).map(|url| url.to_string());
        let at = |part: &str| Some(format!("https://register.example/devices/{part}?view=short"));
        assert_eq!(of("quay-laptop-7"), at("quay-laptop-7"));
        assert_eq!(of("02:00:5e:20:00:01"), at("02%3A00%3A5E%3A20%3A00%3A01".replace("5E", "5e").as_str()));
        assert_eq!(of("../admin?x=1#y"), at("..%2Fadmin%3Fx%3D1%23y"));
        for nobody in ["", ".", "..", &"x".repeat(300)] {
            assert_eq!(of(nobody), None);
        }
    }

    proptest! {
        #[test]
        fn no_name_asks_elsewhere(name: String) {
            let (_runtime, source) = source();
            if let Some(url) = source.inner.address_of(&name) {
                prop_assert_eq!(url.origin().ascii_serialization(), "https://register.example");
                prop_assert_eq!(url.path_segments().unwrap().count(), 2);
                prop_assert!(url.path().starts_with("/devices/"));
                prop_assert_eq!(url.query(), Some("view=short"));
                prop_assert_eq!(url.fragment(), None);
            }
        }
    }
}
