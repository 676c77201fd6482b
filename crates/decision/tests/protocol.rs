//! A decision from end to end without any equipment: a question that somebody types, in a
//! protocol that is made up here, on stores in memory and a clock that stands still.

use std::future::Future;
use std::net::IpAddr;
use std::pin::{Pin, pin};
use std::sync::Arc;
use std::task::{Context, Poll, Waker};
use std::time::Duration;

use regnant_base::{Mac, Secret};
use regnant_decision::*;
use regnant_eap::{Credential, Login, Peer, PeerMethod, PeerStep, Question, Standing};
use regnant_policy::{Compiled, FactDefinition, Facts, IdentityKind, Known, Method, Source, Stage, Type, Value};

const POLICY: &str = r#"
    grant network { vlan 20 }
    gate typed {
      accept pap, eap-md5
      identify user in crew
      rule "Night watch" { when request.Shift = night and user.groups contains "watch" grant network }
      otherwise refuse "Come back at night."
    }
"#;

/// A question as somebody types it.
struct Typed {
    nas: NasIdentity,
    shift: &'static str,
    name: &'static str,
    carrier: Carrier,
    presented: Presented,
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
enum Crew {
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
struct Still;

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

struct House {
    active: ActivePolicy,
    sessions: Arc<ResumptionTable>,
    machines: Machines,
}

impl House {
    fn new() -> Self {
        Self::with(POLICY, Crew::Answers)
    }

    fn with(policy: &str, crew: Crew) -> Self {
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
        let registry = StoreRegistry::from([("crew".to_owned(), Arc::new(crew) as Arc<dyn Store>)]);
        let stores = Arc::new(BoundStores::new(policy.stores(), &registry));
        let active = ActivePolicy { policy: Arc::new(policy), table, offers, stores };
        Self { active, sessions: Arc::default(), machines: Machines::default() }
    }

    fn resources(&self) -> Resources<'_> {
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

    fn decide(&self, typed: &Typed) -> Decided {
        let table = &*self.active.table;
        let mut facts = RequestFacts { table, request: typed.request(), known: Findings::default(), now: 0 };
        let gate = self.active.policy.choose_gate(&facts).unwrap();
        now(decide(&self.active, (gate, Duration::ZERO), &mut facts, &self.resources(), &|| Duration::ZERO))
    }
}

fn password_of(password: &str) -> Presented {
    Presented::Credential(Credential::Password(Secret::new(password.as_bytes())))
}

fn typed(shift: &'static str, name: &'static str, password: &'static str) -> Typed {
    let nas = NasIdentity {
        name: "desk".into(),
        kind: NasKind::Firewall,
        site: "quayside".into(),
        dialect: "spoken".into(),
        tags: Arc::default(),
    };
    Typed { nas, shift, name, carrier: Carrier::Pap, presented: password_of(password) }
}

fn now<F: Future>(future: F) -> F::Output {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(output) => output,
        Poll::Pending => panic!("nothing here waits"),
    }
}

#[test]
fn a_typed_question_is_decided_by_its_own_facts() {
    let house = House::new();
    let (day, night) = ("day", "night");
    let ended = |shift, name, password| house.decide(&typed(shift, name, password)).ending;
    let granted = Ending::Granted { by: Decider::Rule(0), grants: 0 };
    assert_eq!(ended(night, "ida.marsh", "Tide-Table-61"), granted);
    let text = Some("Come back at night.".to_owned());
    assert_eq!(
        ended(day, "ida.marsh", "Tide-Table-61"),
        Ending::Refused { by: Because::Decider(Decider::Otherwise), text }
    );
    let by = Because::Proof(IdentityKind::User, regnant_policy::Event::Failed);
    assert_eq!(ended(night, "ida.marsh", "x"), Ending::Refused { by, text: None });
    let nothing = Typed { presented: Presented::Nothing, ..typed(night, "ida.marsh", "") };
    assert_eq!(house.decide(&nothing).ending, Ending::Refused { by, text: None });
    let chap = Typed { carrier: Carrier::Chap, ..typed(night, "ida.marsh", "Tide-Table-61") };
    assert_eq!(house.decide(&chap).ending, Ending::Unfit(Unfit::MethodNotAccepted));
}

/// Whoever can fill our own room must not bring about what the policy gives in an outage.
#[test]
fn an_answer_of_our_own_that_comes_late_is_no_outage() {
    let policy = POLICY.replace("identify user in crew", "identify user in crew { unreachable continue }").replace(
        "otherwise refuse",
        "rule \"Outage\" { when user.failure = \"unreachable\" grant network }\n      otherwise refuse",
    );
    let ended = |at_hand| {
        let house = House::with(&policy, Crew::NeverAnswers { at_hand });
        house.decide(&typed("day", "ida.marsh", "Tide-Table-61")).ending
    };
    assert_eq!(ended(false), Ending::Granted { by: Decider::Rule(1), grants: 0 });
    let no_room = Because::Proof(IdentityKind::User, regnant_policy::Event::NoRoom);
    assert_eq!(ended(true), Ending::Silent { by: no_room });
}

#[test]
fn a_conversation_needs_no_equipment_either() {
    let house = House::new();
    let converse = |password: &str| {
        let first: Arc<dyn KeptRequest> = Arc::new(Typed { carrier: Carrier::Eap, ..typed("night", "ida.marsh", "") });
        let login = Login::new("ida.marsh", password);
        let mut peer =
            Peer::new("ida.marsh", PeerMethod::Md5(login), 1_000, Box::new(|bytes: &mut [u8]| bytes.fill(9)));
        let resources = house.resources();
        let elapsed = || Duration::ZERO;
        let PeerStep::Send(mut packet) = peer.receive(&[1, 0, 0, 5, 1]) else { panic!("no identity") };
        let carriage = Carriage { packet: 1_000, session_id: false };
        let (active, start) = (house.active.clone(), (0, Times::default()));
        let mut progress = now(EapSession::begin(first, &packet, active, start, (carriage, 0), &resources, &elapsed));
        loop {
            progress = match progress {
                Progress::Challenge { packet: next, session, .. } => {
                    match peer.receive(&next) {
                        PeerStep::Send(answer) => packet = answer,
                        other => panic!("{other:?}"),
                    }
                    now(session.go_on(&packet, &resources, &elapsed))
                }
                Progress::Accept { packet, session, grants, .. } => {
                    assert!(matches!(peer.receive(&packet), PeerStep::Success(_)));
                    assert_eq!(grants, 0);
                    return session.accepted(false, &resources).ending;
                }
                Progress::Refuse { packet, session, ending } => {
                    assert!(matches!(peer.receive(&packet), PeerStep::Failure(_)));
                    return session.ended_by(ending).ending;
                }
                Progress::Silence(decided) => return decided.ending,
            };
        }
    };
    assert_eq!(converse("Tide-Table-61"), Ending::Granted { by: Decider::Rule(0), grants: 0 });
    let by = Because::Proof(IdentityKind::User, regnant_policy::Event::Failed);
    assert_eq!(converse("x"), Ending::Refused { by, text: None });
}
