//! The harbour in memory: its policy, NASes, people and devices, and a client
//! that builds requests as real equipment does.
#![allow(dead_code)]

use std::collections::HashMap;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::pin;
use std::sync::Arc;
use std::task::{Context, Poll, Waker};
use std::time::Duration;

use regnant_access::*;
use regnant_policy::{Compiled, IdentityKind, Mac, Source, Value};
use regnant_radius::*;
use ulid::Ulid;

pub(crate) const POLICY: &str = include_str!("../../../campus/harbour/main.writ");

pub(crate) struct Harbour {
    pub(crate) table: FactTable,
    pub(crate) nases: NasTable,
    pub(crate) edition: Arc<Edition>,
    pub(crate) stores: Memory,
}

#[derive(Default)]
pub(crate) struct Memory {
    pub(crate) people: HashMap<String, (Person, &'static str, Option<&'static str>)>,
    pub(crate) endpoints: HashMap<Mac, Arc<Endpoint>>,
    pub(crate) silent: Vec<&'static str>,
}

impl Memory {
    fn answers(&self, store: &str) -> Answer<()> {
        match self.silent.contains(&store) {
            true => Err(Unreachable("it does not answer".into())),
            false => Ok(()),
        }
    }
}

impl Stores for Memory {
    async fn person(&self, store: &str, name: &str) -> Answer<Option<Person>> {
        self.answers(store)?;
        Ok(self.people.get(&name.to_lowercase()).map(|(person, ..)| person.clone()))
    }

    async fn password_is_right(&self, store: &str, person: &Person, password: Secret) -> Answer<bool> {
        self.answers(store)?;
        Ok(self.people[&person.name].1.as_bytes() == password.expose())
    }

    async fn recoverable_password(&self, _: &str, person: &Person) -> Answer<Option<Secret>> {
        Ok(self.people[&person.name].2.map(|password| Secret::new(password.as_bytes())))
    }

    async fn endpoint(&self, store: &str, mac: Mac) -> Answer<Option<Arc<Endpoint>>> {
        self.answers(store)?;
        Ok(self.endpoints.get(&mac).cloned())
    }
}

pub(crate) fn groups(names: &[&str]) -> Groups {
    names.iter().map(|name| Value::owned(*name)).collect()
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
        let table = FactTable::new(Dictionary::standard());
        let people = people.iter().map(|name| ((*name).to_owned(), IdentityKind::User));
        let stores = people.chain([("endpoints".to_owned(), IdentityKind::Mac)]);
        let schema = table.schema().clone().with_stores(stores);
        let compiled = Compiled::from_source(Source::new("main.writ", policy), &schema)
            .unwrap_or_else(|checked| panic!("{}", checked.diagnostics()[0].render(checked.source())));
        let dialect = Dialect::standard(table.dictionary());
        let edition = Arc::new(Edition::prepare(1, compiled, &[dialect], &table).unwrap());
        let nas = |name: &str, address: &str, kind, secret: &str, sign| Nas {
            name: name.into(),
            network: address.parse().unwrap(),
            kind,
            site: "quayside".into(),
            dialect: "standard".into(),
            secret: SharedSecret::new(secret.as_bytes()),
            require_message_authenticator: sign,
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
            let person = Person { name: name.into(), groups: groups(list), disabled, expired: false };
            stores.people.insert(name.into(), (person, password, recoverable));
        }
        for (address, title, list, barred) in [
            ("02:00:5e:20:00:07", "crane controller", &["cranes"][..], false),
            ("02:00:5e:40:00:66", "container scanner", &["scanners"], true),
        ] {
            let endpoint = Endpoint { title: title.into(), groups: groups(list), barred };
            stores.endpoints.insert(mac(address), Arc::new(endpoint));
        }
        Self { table, nases, edition, stores }
    }

    /// What the service does with one datagram.
    pub(crate) fn ask(&self, request: &Request) -> Answered {
        let source: SocketAddr = format!("{}:40000", request.from).parse().unwrap();
        let heard = match hear(&self.nases, source, &request.bytes) {
            Ok(heard) => heard,
            Err(cause) => return Answered::Unheard(cause),
        };
        let stopwatch = || Duration::from_micros(85);
        let decision = now(decide(Ulid(7), heard, self.edition.clone(), &self.table, &self.stores, stopwatch));
        let reply = decision.reply.clone();
        Answered::Decided(Box::new(Record::new(decision, &self.table)), reply)
    }

    pub(crate) fn record(&self, request: &Request) -> Record {
        match self.ask(request) {
            Answered::Decided(record, _) => *record,
            Answered::Unheard(cause) => panic!("unheard: {cause}"),
        }
    }
}

#[derive(Debug)]
pub(crate) enum Answered {
    Unheard(Cause),
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
