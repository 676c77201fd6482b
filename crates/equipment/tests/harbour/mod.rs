//! The harbour in memory: its policy, NASes, people and devices, and a client
//! that builds requests as real equipment does.
#![allow(dead_code)]

pub(crate) mod supplicant;

use std::cell::RefCell;
use std::collections::HashMap;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::{Pin, pin};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll, Waker};
use std::time::Duration;

use regnant_base::Mac;
use regnant_certificates::{Authority, Bundle, Issued, Order, Purpose, read_certificates, read_crls};
use regnant_decision::*;
use regnant_eap::{MsChapResponse, Question, Standing, Standings};
use regnant_equipment::radius::{Conversation, Credentials, Handled, accept, decide};
use regnant_equipment::*;
use regnant_evidence::*;
use regnant_policy::{Checks, Compiled, IdentityKind, KnownStore, Severity, Source, Value};
use regnant_radius::*;
use ulid::Ulid;

pub(crate) use regnant_campus::harbour::POLICY;

pub(crate) struct Harbour {
    pub(crate) vocabulary: Arc<Vocabulary>,
    pub(crate) nases: NasTable,
    pub(crate) active: ActiveEdition,
    pub(crate) stores: Memory,
    pub(crate) certificates: Certificates,
    pub(crate) sessions: Arc<ResumptionTable>,
    pub(crate) machines: Machines,
    pub(crate) issuer: Arc<Issuer>,
    pub(crate) guesses: Counting,
    /// Milliseconds since 1970.
    pub(crate) now: u64,
}

#[derive(Clone, Default)]
pub(crate) struct Memory {
    /// By kind and name: the account, its password, the password that can be had back.
    pub(crate) accounts: HashMap<(IdentityKind, String), (Account, &'static str, Option<&'static str>)>,
    pub(crate) devices: HashMap<Mac, Arc<Device>>,
    pub(crate) silent: Vec<&'static str>,
    /// Stores that take every question and never answer.
    pub(crate) hanging: Vec<&'static str>,
    /// Stores of which nothing can be asked, for want of room.
    pub(crate) crowded: Vec<&'static str>,
    /// What one of them says of every password.
    pub(crate) own_passwords: Option<(&'static str, PasswordAnswer)>,
    /// A group that one of them has beside, for everybody.
    pub(crate) own_group: Option<(&'static str, &'static str)>,
    /// What all of them can be asked.
    pub(crate) capabilities: Option<Capabilities>,
    /// What they say of every password.
    pub(crate) passwords: Option<PasswordAnswer>,
}

impl Memory {
    fn add(
        &mut self,
        kind: IdentityKind,
        name: &str,
        (password, recoverable): (&'static str, Option<&'static str>),
        list: &[&str],
        disabled: bool,
    ) {
        let account = Account {
            kind,
            name: name.into(),
            groups: groups(list),
            groups_in_part: false,
            disabled,
            expired: false,
            password_mark: 1,
            place: None,
            logon: None,
            certificates: [].into(),
            attributes: [].into(),
        };
        self.accounts.insert((kind, name.into()), (account, password, recoverable));
    }

    fn known(&self, account: &Account) -> &(Account, &'static str, Option<&'static str>) {
        &self.accounts[&(account.kind, account.name.to_lowercase())]
    }

    pub(crate) fn set_password(&mut self, name: &str, password: &'static str) {
        self.accounts.get_mut(&(IdentityKind::User, name.to_owned())).unwrap().1 = password;
    }

    pub(crate) fn account_mut(&mut self, kind: IdentityKind, name: &str) -> &mut Account {
        &mut self.accounts.get_mut(&(kind, name.to_owned())).unwrap().0
    }

    /// Stores of these names, which all hold the same.
    fn bound(&self, edition: &Edition) -> Arc<BoundStores> {
        let names = edition.policy.stores();
        let named = |name: &String| {
            let silent = self.silent.contains(&name.as_str());
            let hanging = self.hanging.contains(&name.as_str());
            let crowded = self.crowded.contains(&name.as_str());
            let group = self.own_group.filter(|(store, _)| store == name).map(|(_, group)| group);
            let mut memory = self.clone();
            if let Some((_, says)) = self.own_passwords.filter(|(store, _)| store == name) {
                memory.passwords = Some(says);
            }
            (name.clone(), Arc::new(Named { silent, hanging, crowded, group, memory }) as Arc<dyn Store>)
        };
        Arc::new(BoundStores::new(names, &names.iter().map(named).collect()))
    }
}

/// Everything that a store can be asked.
pub(crate) const ALL: Capabilities = Capabilities {
    facts_only: false,
    kinds: &[IdentityKind::User, IdentityKind::Machine, IdentityKind::Mac],
    groups: true,
    passwords: true,
    mschap: true,
    recoverable_passwords: true,
};

/// One store of a memory; a silent one does not answer.
struct Named {
    silent: bool,
    hanging: bool,
    crowded: bool,
    group: Option<&'static str>,
    memory: Memory,
}

impl Named {
    fn reply<T: Send + 'static>(&self, answer: T) -> StoreReply<'_, T> {
        match (self.silent, self.hanging) {
            _ if self.crowded => StoreReply::Now(Err(NoAnswer::NoRoom("too many wait".into()))),
            (true, _) => StoreReply::Now(Err(NoAnswer::Silent("it does not answer".into()))),
            (_, true) => StoreReply::later(std::future::pending()),
            _ => StoreReply::now(answer),
        }
    }
}

impl Store for Named {
    fn kind(&self) -> &'static str {
        "memory"
    }

    fn capabilities(&self) -> Capabilities {
        self.memory.capabilities.unwrap_or(ALL)
    }

    fn time_limit(&self) -> Duration {
        Duration::from_secs(1)
    }

    fn account<'s>(&'s self, kind: IdentityKind, name: &'s str, _: &'s str) -> StoreReply<'s, Found> {
        if name == "twin" {
            return self.reply(Found::Several);
        }
        let mut found = self.memory.accounts.get(&(kind, name.to_lowercase())).map(|(account, ..)| account.clone());
        if let (Some(account), Some(group)) = (&mut found, self.group) {
            account.groups = account.groups.iter().cloned().chain([Value::text(group)]).collect();
        }
        self.reply(found.into())
    }

    fn check_password<'s>(
        &'s self,
        account: &'s Account,
        password: Secret,
        _: &'s str,
    ) -> StoreReply<'s, PasswordAnswer> {
        let right = self.memory.known(account).1.as_bytes() == password.expose();
        self.reply(self.memory.passwords.unwrap_or(right.into()))
    }

    fn check_takes(&self) -> Duration {
        Duration::from_millis(27)
    }

    fn recoverable_password<'s>(&'s self, account: &'s Account, _: &'s str) -> StoreReply<'s, Option<Recovered>> {
        self.reply(self.memory.known(account).2.map(|password| Secret::new(password.as_bytes()).into()))
    }

    fn check_mschap<'s>(
        &'s self,
        account: &'s Account,
        response: &'s MsChapResponse,
        _: &'s str,
    ) -> StoreReply<'s, MsChapAnswer> {
        if account.name == "mac.user" {
            return self.reply(MsChapAnswer::Unable(Unable::NoHash));
        }
        let hash = regnant_eap::mschap::nt_password_hash(self.memory.known(account).1);
        self.reply(response.session_key(&hash).map_or(MsChapAnswer::Not(PasswordAnswer::Wrong), MsChapAnswer::Right))
    }

    fn device<'s>(&'s self, mac: Mac, _: &'s str) -> StoreReply<'s, Option<Arc<Device>>> {
        self.reply(self.memory.devices.get(&mac).cloned())
    }
}

/// Counts guesses, and notes for how long somebody would have been held back.
#[derive(Default)]
pub(crate) struct Counting {
    table: GuessTable,
    pub(crate) waited: Mutex<Vec<Duration>>,
}

impl Counting {
    fn held<T: Send + 'static>(&self, time: Duration, value: T) -> Wait<'_, T> {
        if !time.is_zero() {
            self.waited.lock().unwrap().push(time);
        }
        Box::pin(std::future::ready(value))
    }
}

impl Guesses for Counting {
    fn admit<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Admission> {
        match self.table.wait(guesser, NOW) {
            Ok(time) => self.held(time, Admission::Tried),
            Err(held) => self.held(held.delay, Admission::HeldBack(held)),
        }
    }

    fn wrong<'g>(&'g self, guesser: Guesser<'g>) -> Wait<'g, Held> {
        let held = self.table.wrong(guesser, NOW);
        self.held(held.delay, held)
    }

    fn right(&self, guesser: Guesser<'_>) {
        self.table.right(guesser, NOW);
    }
}

impl Timer for Counting {
    fn sleep(&self, time: Duration) -> Wait<'_, ()> {
        self.held(time, ())
    }
}

/// An issuer's responder that says the same of every certificate, or nothing.
#[derive(Debug, Default)]
pub(crate) struct Issuer {
    pub(crate) says: Mutex<Option<Standing>>,
    known: Mutex<HashMap<[u8; 32], Standing>>,
    pub(crate) asked: AtomicU64,
}

impl Issuer {
    pub(crate) fn now_says(&self, standing: Option<Standing>) {
        *self.says.lock().unwrap() = standing;
        self.known.lock().unwrap().clear();
    }
}

impl Standings for Issuer {
    fn of(&self, fingerprint: &[u8; 32], _: u64) -> Option<Standing> {
        self.known.lock().unwrap().get(fingerprint).copied()
    }
}

impl Responders for Issuer {
    fn ask<'q>(&'q self, question: &'q Question) -> Pin<Box<dyn Future<Output = Answer<Standing>> + Send + 'q>> {
        self.asked.fetch_add(1, Ordering::Relaxed);
        let said = self.says.lock().unwrap().ok_or_else(|| NoAnswer::Silent("nobody is there".into()));
        if let Ok(standing) = said {
            self.known.lock().unwrap().insert(question.fingerprint, standing);
        }
        Box::pin(async { said })
    }
}

fn stopwatch() -> Duration {
    Duration::from_micros(85)
}

/// Differs from call to call, which is all that tests need.
fn unpredictable(bytes: &mut [u8]) {
    static COUNT: AtomicU64 = AtomicU64::new(1);
    let count = COUNT.fetch_add(0x9e37_79b9_7f4a_7c15, Ordering::Relaxed);
    bytes.iter_mut().enumerate().for_each(|(place, byte)| *byte = (count >> (place % 8 * 8)) as u8 ^ place as u8);
}

/// 2026-11-23.
pub(crate) const NOW: u64 = 1_795_392_000_000;

/// The harbour's authority and what it issued.
pub(crate) struct Certificates {
    pub(crate) authority: Authority,
    pub(crate) server: Issued,
}

impl Certificates {
    fn new() -> Self {
        let authority = Authority::new("Tarnmouth Demo Root", 1_700_000_000).unwrap();
        let order = Order {
            common_name: SERVER.into(),
            dns: vec![SERVER.into()],
            upn: Vec::new(),
            purpose: Purpose::Server,
            not_before: 1_700_000_000,
            not_after: 1_990_000_000,
            serial: 1,
            ocsp: None,
        };
        Self { server: authority.issue(&order).unwrap(), authority }
    }

    fn materials(&self, issuer: Arc<Issuer>) -> CertificateMaterial {
        let bundle = Bundle::from_pem(&format!("{}{}", self.server.certificate, self.server.key)).unwrap();
        let presentable = Presentable { chain: bundle.chain, key: bundle.key.unwrap(), stapled: None };
        let crl = self.authority.revoke(&[66], 1_700_000_000, 2_000_000_000).unwrap();
        let trust = TrustMaterial {
            authorities: read_certificates(self.authority.certificate()).unwrap(),
            crls: read_crls(&crl).unwrap(),
            responder: None,
            whatever: false,
        };
        CertificateMaterial {
            certificates: [(SERVER.to_owned(), presentable)].into(),
            trusts: [("tarnmouth-authority".to_owned(), trust)].into(),
            standings: Some(issuer),
        }
    }

    /// A client's certificate with its key.
    pub(crate) fn client(&self, name: &str, dns: &[&str], upn: &[&str], serial: u64) -> Bundle {
        let order = Order {
            common_name: name.into(),
            dns: dns.iter().map(|name| (*name).to_owned()).collect(),
            upn: upn.iter().map(|name| (*name).to_owned()).collect(),
            purpose: Purpose::Client,
            not_before: 1_700_000_000,
            not_after: 1_990_000_000,
            serial,
            ocsp: None,
        };
        let issued = self.authority.issue(&order).unwrap();
        Bundle::from_pem(&format!("{}{}", issued.certificate, issued.key)).unwrap()
    }
}

pub(crate) const SERVER: &str = "radius.tarnmouth.example";

pub(crate) fn groups(names: &[&str]) -> Groups {
    names.iter().map(|name| Value::owned(*name)).collect()
}

fn store(name: &str, holds: IdentityKind) -> KnownStore {
    KnownStore { name: name.to_owned(), holds, facts_only: false, checks: Checks::ALL }
}

fn active(
    policy: &str,
    people: &[&str],
    vocabulary: &Arc<Vocabulary>,
    certificates: &Certificates,
    issuer: &Arc<Issuer>,
) -> ActiveEdition {
    let kinds = [IdentityKind::User, IdentityKind::Machine];
    let people = people.iter().flat_map(|name| kinds.map(|kind| store(name, kind)));
    let stores = people.chain(["harbour-devices", "annex-devices"].map(|name| store(name, IdentityKind::Mac)));
    let schema = vocabulary.schema().clone().with_stores(stores);
    let compiled = Compiled::from_source(Source::new("main.writ", policy), &schema).unwrap_or_else(|checked| {
        let errors = checked.diagnostics().iter().filter(|found| found.severity == Severity::Error);
        panic!("{}", errors.map(|error| error.render(checked.source())).collect::<String>())
    });
    let dialect = Dialect::standard(vocabulary.dictionary());
    let edition = Arc::new(Edition::prepare(1, compiled, &[dialect], vocabulary.clone()));
    let materials = certificates.materials(issuer.clone());
    let offers = Arc::new(GateOffers::prepare(&edition.policy, &materials).0);
    let (policy, table) = (edition.policy.clone(), vocabulary.table().clone());
    ActiveEdition {
        edition,
        policy: ActivePolicy { policy, table, offers, stores: Arc::default() },
        secrets: NamedSecrets::default(),
        earlier: Arc::default(),
    }
}

pub(crate) fn mac(text: &str) -> Mac {
    text.parse().unwrap()
}

impl Harbour {
    pub(crate) fn new() -> Self {
        Self::with_policy(POLICY)
    }

    pub(crate) fn with_policy(policy: &str) -> Self {
        Self::with_stores(policy, &["harbour"])
    }

    /// Several stores of people, which all hold the same.
    pub(crate) fn with_stores(policy: &str, people: &[&str]) -> Self {
        Self::with_dictionary(policy, people, Dictionary::standard())
    }

    pub(crate) fn with_dictionary(policy: &str, people: &[&str], dictionary: Dictionary) -> Self {
        let vocabulary = Arc::new(Vocabulary::new(dictionary, Vec::new()).unwrap());
        let certificates = Certificates::new();
        let issuer = Arc::<Issuer>::default();
        let active = active(policy, people, &vocabulary, &certificates, &issuer);
        let nas = |name: &str, address: &str, kind, secret: &str, sign| {
            let (name, site, dialect) = (name.into(), "quayside".into(), "standard".into());
            let identity = NasIdentity { name, kind, site, dialect, tags: Arc::default() };
            let (networks, secret) = (vec![address.parse().unwrap()], SharedSecret::new(secret.as_bytes()));
            let credentials = Credentials { require_message_authenticator: sign, ..Credentials::new(secret) };
            Nas::new(identity, networks).with_radius(credentials)
        };
        let nases = NasTable::new([
            nas("quay-sw-1", "127.0.0.11", NasKind::Switch, "bollard-9-anchor", true),
            nas("gate-fw-1", "127.0.0.31", NasKind::Firewall, "portcullis-2-chain", true),
            nas("pilot-vpn-1", "127.0.0.41", NasKind::Vpn, "sextant-3-compass", false),
        ]);
        let mut stores = Memory::default();
        for (name, password, recoverable, list, disabled) in [
            ("ida.marsh", "Tide-Table-61", None, &["staff", "harbour-office"][..], false),
            ("ola.nett", "Fibre-Spool-90", Some("Fibre-Spool-90"), &["staff", "network-operators"], false),
            ("lee.gone", "Old-Badge-77", None, &["staff"], true),
            ("mac.user", "02005e200001", None, &["staff"], false),
            ("02005e200001", "Tide-Table-61", None, &["staff", "network-operators"], false),
        ] {
            stores.add(IdentityKind::User, name, (password, recoverable), list, disabled);
        }
        let laptop = ("Keel-Plate-55", None);
        stores.add(IdentityKind::Machine, "quay-laptop-7", laptop, &["harbour-laptops"], false);
        for (address, title, list, barred) in [
            ("02:00:5e:20:00:07", "crane controller", &["cranes"][..], false),
            ("02:00:5e:40:00:66", "container scanner", &["scanners"], true),
        ] {
            let title = Title::Text(title.into());
            let (groups, attributes) = (groups(list), Arc::default());
            let device = Device { title, groups, groups_in_part: false, attributes, barred, expired: false };
            stores.devices.insert(mac(address), Arc::new(device));
        }
        let (sessions, machines, now) = (Arc::default(), Machines::default(), NOW);
        let guesses = Counting::default();
        Self { vocabulary, nases, active, stores, certificates, sessions, machines, issuer, guesses, now }
    }

    /// Activates another policy; all that is remembered stays.
    pub(crate) fn change_policy(&mut self, policy: &str) {
        self.active = active(policy, &["harbour", "people"], &self.vocabulary, &self.certificates, &self.issuer);
    }

    /// What the service does with one datagram.
    pub(crate) fn ask(&self, request: &Request) -> Answered {
        let source: SocketAddr = format!("{}:40000", request.from).parse().unwrap();
        let heard = match accept(self.nases.find(source.ip()), source, &request.bytes, 0) {
            Ok(heard) => heard,
            Err(cause) => return Answered::Unheard(cause),
        };
        let mut active = self.active.clone();
        active.policy.stores = self.stores.bound(&active.edition);
        match now(decide(Ulid::from_parts(self.now, 7), heard, &active, &self.resources(), stopwatch)) {
            Handled::Decided(decision) => {
                let reply = decision.exchange.reply().map(<[u8]>::to_vec);
                Answered::Decided(Box::new(written(*decision)), reply)
            }
            Handled::Challenge { reply, conversation, .. } => Answered::Challenged(conversation, reply),
        }
    }

    /// What the service does with a datagram of a conversation.
    pub(crate) fn go_on(&self, session: Box<Conversation>, request: &Request) -> Answered {
        let source: SocketAddr = format!("{}:40000", request.from).parse().unwrap();
        let heard = accept(self.nases.find(source.ip()), source, &request.bytes, 0).unwrap();
        match now(session.go_on(heard, &self.resources(), stopwatch)) {
            Handled::Decided(decision) => {
                let reply = decision.exchange.reply().map(<[u8]>::to_vec);
                Answered::Decided(Box::new(written(*decision)), reply)
            }
            Handled::Challenge { reply, conversation, .. } => Answered::Challenged(conversation, reply),
        }
    }

    fn resources(&self) -> Resources<'_> {
        Resources {
            sessions: &self.sessions,
            machines: &self.machines,
            responders: &*self.issuer,
            guesses: &self.guesses,
            timer: &self.guesses,
            random: unpredictable,
            secret: &[7; 32],
            retries: 0,
            now: self.now,
        }
    }

    pub(crate) fn record(&self, request: &Request) -> Record {
        match self.ask(request) {
            Answered::Decided(record, _) => *record,
            Answered::Challenged(..) => panic!("a conversation"),
            Answered::Unheard(cause) => panic!("unheard: {cause}"),
        }
    }
}

/// What the store that was asked last said.
pub(crate) fn answer(record: &Record) -> &LookUpAnswer {
    &record.lookups.last().unwrap().answer
}

thread_local! {
    static LAST_STORED: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

/// What was stored of the last decision of this thread.
pub(crate) fn last_stored() -> Vec<u8> {
    LAST_STORED.with_borrow(Clone::clone)
}

/// What a person reads of a decision, once it was stored and read back. Whatever is
/// worked out again must come to what was decided.
pub(crate) fn written(decision: Decision) -> Record {
    let edition = decision.edition.clone();
    let evidence = Evidence::new(decision);
    let bytes = evidence.to_bytes();
    let stored = Evidence::from_bytes(evidence.id, &bytes).unwrap();
    LAST_STORED.set(bytes);
    assert_eq!(stored, evidence);
    let record = Record::new(&stored, &*edition);
    assert_eq!(record.doubt, None, "{:?}", stored.ending);
    record
}

#[derive(Debug)]
pub(crate) enum Answered {
    Unheard(Cause),
    Challenged(Box<Conversation>, Vec<u8>),
    Decided(Box<Record>, Option<Vec<u8>>),
}

/// Stores in memory are never pending.
fn now<F: Future>(future: F) -> F::Output {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(output) => output,
        Poll::Pending => panic!("a store in memory was pending"),
    }
}

pub(crate) struct Request {
    pub(crate) from: &'static str,
    pub(crate) bytes: Vec<u8>,
}

pub(crate) const AUTHENTICATOR: [u8; 16] = [0x5a; 16];

/// Builds a request from attributes as text, with a password where one is given.
pub(crate) fn request(
    from: &'static str,
    secret: &str,
    signed: bool,
    attributes: &[(&str, &str)],
    password: Option<&str>,
) -> Request {
    let secret = SharedSecret::new(secret.as_bytes());
    let start = if signed { Builder::new } else { Builder::unsigned };
    let mut builder = start(Code::ACCESS_REQUEST, 9);
    builder.encoded(&Dictionary::standard().encode(attributes.iter().copied()).unwrap()).unwrap();
    if let Some(password) = password {
        let hidden = hide_password(password.as_bytes(), &AUTHENTICATOR, &secret).unwrap();
        builder.attribute(number::USER_PASSWORD, &hidden).unwrap();
    }
    Request { from, bytes: builder.request(&AUTHENTICATOR, &secret) }
}

pub(crate) fn bypass(name: &str, station: &str) -> Request {
    let attributes = [
        ("User-Name", name),
        ("Calling-Station-Id", station),
        ("Service-Type", "Call-Check"),
        ("NAS-Port-Type", "Ethernet"),
        ("NAS-Port", "7"),
    ];
    request("127.0.0.11", "bollard-9-anchor", true, &attributes, Some(name))
}

pub(crate) fn login(name: &str, password: &str) -> Request {
    let attributes = [("User-Name", name), ("Service-Type", "Login"), ("NAS-Port-Type", "Virtual")];
    request("127.0.0.31", "portcullis-2-chain", true, &attributes, Some(password))
}

pub(crate) fn vpn(name: &str, password: &str) -> Request {
    request(
        "127.0.0.41",
        "sextant-3-compass",
        false,
        &[("User-Name", name), ("NAS-Port-Type", "Virtual")],
        Some(password),
    )
}
