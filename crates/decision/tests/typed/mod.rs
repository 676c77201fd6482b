//! A protocol that is made up here: a question that somebody types, on stores in memory and a clock that stands still.
#![allow(dead_code, reason = "tests of several crates use it, each a part")]

use std::future::Future;
use std::net::IpAddr;
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::{Context, Poll, Waker};
use std::time::Duration;

use regnant_base::{Mac, Secret};
use regnant_decision::*;
use regnant_eap::{Credential, Question, Standing};
use regnant_policy::{Compiled, FactDefinition, Facts, IdentityKind, Known, Method, Source, Stage, Type, Value};

pub(crate) const POLICY: &str = r#"
    grant network { vlan 20 }
    gate typed {
      accept pap, eap-md5
      identify user in crew
      rule "Night watch" { when request.Shift = night and user.groups contains "watch" grant network }
      otherwise refuse "Come back at night."
    }
"#;

/// A question as somebody types it.
pub(crate) struct Typed {
    pub(crate) nas: NasIdentity,
    pub(crate) shift: &'static str,
    pub(crate) name: &'static str,
    pub(crate) carrier: Carrier,
    pub(crate) presented: Presented,
}

impl ProtocolFacts for Typed {
    fn can_be_told(&self, _: usize, _: &dyn Facts) -> Result<(), String> {
        Ok(())
    }

    fn fact(&self, place: usize, _: &Type) -> Known<Value<'_>> {
        assert_eq!(place, 0, "the protocol has one fact");
        Known::Is(Value::Integer((self.shift == "night").into()))
    }
}

impl KeptRequest for Typed {
    fn request(&self) -> Request<'_> {
        Request {
            nas: &self.nas,
            address: IpAddr::from([127, 0, 0, 1]),
            name: Ok(self.name),
            mac: None,
            carrier: Some(self.carrier),
            method: match self.carrier {
                Carrier::Pap => Some(Method::Pap),
                Carrier::Chap => Some(Method::Chap),
                _ => None,
            },
            purpose: Some(Purpose::Login),
            medium: None,
            port: None,
            ssid: None,
            presented: &self.presented,
            protocol: self,
        }
    }
}

/// One person, and how passwords are checked: at once, or never, by this process or by somebody else.
#[derive(Clone, Copy)]
pub(crate) enum Crew {
    Answers,
    NeverAnswers { at_hand: bool },
}

impl Store for Crew {
    fn kind(&self) -> &'static str {
        "crew"
    }

    fn capabilities(&self) -> Capabilities {
        let kinds = &[IdentityKind::User];
        Capabilities { kinds, groups: true, passwords: true, recoverable_passwords: true, ..Capabilities::default() }
    }

    fn time_limit(&self) -> Duration {
        Duration::from_secs(1)
    }

    fn is_at_hand(&self) -> bool {
        matches!(self, Self::NeverAnswers { at_hand: true })
    }

    fn account<'s>(&'s self, kind: IdentityKind, name: &'s str, _: &'s str) -> StoreReply<'s, Found> {
        let account = (name == "ida.marsh").then(|| Account {
            kind,
            name: name.to_owned(),
            groups: [Value::owned("watch")].into_iter().collect(),
            groups_in_part: false,
            disabled: false,
            expired: false,
            password_mark: 1,
            place: None,
            logon: None,
            certificates: [].into(),
            attributes: [].into(),
        });
        StoreReply::now(account.into())
    }

    fn check_password<'s>(&'s self, _: &'s Account, password: Secret, _: &'s str) -> StoreReply<'s, PasswordAnswer> {
        let answers = matches!(self, Self::Answers);
        StoreReply::later(async move {
            match answers {
                true => Ok((password.expose() == b"Tide-Table-61").into()),
                false => std::future::pending().await,
            }
        })
    }

    fn recoverable_password<'s>(&'s self, _: &'s Account, _: &'s str) -> StoreReply<'s, Option<Recovered>> {
        StoreReply::now(Some(Secret::new(*b"Tide-Table-61").into()))
    }

    fn device<'s>(&'s self, _: Mac, _: &'s str) -> StoreReply<'s, Option<Arc<Device>>> {
        panic!("nobody looks a device up")
    }
}

/// Nobody waits, nobody guesses, nobody is asked.
pub(crate) struct Still;

impl Guesses for Still {
    fn admit<'g>(&'g self, _: Guesser<'g>) -> Wait<'g, Admission> {
        Box::pin(std::future::ready(Admission::Tried))
    }

    fn wrong<'g>(&'g self, _: Guesser<'g>) -> Wait<'g, Held> {
        Box::pin(std::future::ready(Held::default()))
    }

    fn right(&self, _: Guesser<'_>) {}
}

impl Timer for Still {
    fn sleep(&self, _: Duration) -> Pin<Box<dyn Future<Output = ()> + Send + '_>> {
        Box::pin(std::future::ready(()))
    }
}

impl Responders for Still {
    fn ask<'q>(&'q self, _: &'q Question) -> Pin<Box<dyn Future<Output = Answer<Standing>> + Send + 'q>> {
        panic!("no certificate is presented")
    }
}

pub(crate) struct House {
    pub(crate) active: ActivePolicy,
    sessions: Arc<ResumptionTable>,
    machines: Machines,
}

impl House {
    pub(crate) fn new() -> Self {
        Self::with(POLICY, Crew::Answers)
    }

    pub(crate) fn with(policy: &str, crew: Crew) -> Self {
        let table = Arc::new(FactTable::new(
            Vec::new(),
            [FactDefinition {
                name: "request.Shift".into(),
                also: Vec::new(),
                always: false,
                kind: Type::Enumeration(vec![("day".into(), 0), ("night".into(), 1)]),
                known: Stage::FirstPacket,
                meaning: "When it is asked.".into(),
            }],
        ));
        let policy = Compiled::from_source(Source::new("typed.writ", policy), table.schema())
            .unwrap_or_else(|checked| panic!("{:?}", checked.diagnostics()));
        let offers = Arc::new(GateOffers::prepare(&policy, &CertificateMaterial::default()).0);
        // Whatever stores it names, they are these people.
        let crew: Arc<dyn Store> = Arc::new(crew);
        let registry: StoreRegistry = policy.stores().iter().map(|name| (name.clone(), crew.clone())).collect();
        let stores = Arc::new(BoundStores::new(policy.stores(), &registry));
        let active = ActivePolicy { policy: Arc::new(policy), table, offers, stores };
        Self { active, sessions: Arc::default(), machines: Machines::default() }
    }

    pub(crate) fn resources(&self) -> Resources<'_> {
        Resources {
            sessions: &self.sessions,
            machines: &self.machines,
            responders: &Still,
            guesses: &Still,
            timer: &Still,
            random: |bytes| bytes.fill(7),
            secret: &[7; 32],
            retries: 0,
            now: 1_795_000_000_000,
        }
    }

    pub(crate) fn decide(&self, typed: &Typed) -> Decided {
        let table = &*self.active.table;
        let mut facts = RequestFacts { table, request: typed.request(), known: Findings::default(), now: 0 };
        let gate = self.active.policy.choose_gate(&facts).unwrap();
        now(decide(&self.active, (gate, Duration::ZERO), &mut facts, &self.resources(), &|| Duration::ZERO))
    }
}

fn password_of(password: &str) -> Presented {
    Presented::Credential(Credential::Password(Secret::new(password.as_bytes())))
}

pub(crate) fn typed(shift: &'static str, name: &'static str, password: &'static str) -> Typed {
    let nas = NasIdentity {
        name: "desk".into(),
        kind: NasKind::Firewall,
        site: "quayside".into(),
        dialect: "spoken".into(),
        tags: Arc::default(),
    };
    Typed { nas, shift, name, carrier: Carrier::Pap, presented: password_of(password) }
}

pub(crate) fn now<F: Future>(future: F) -> F::Output {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(output) => output,
        Poll::Pending => panic!("nothing here waits"),
    }
}
