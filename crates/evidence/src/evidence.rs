//! What a decision leaves: what was known, what the stores said, and what decided.
//!
//! Nothing here is text for people, and nothing grows with the policy: what each rule
//! came to follows from the facts and the edition, and is worked out again by
//! [`crate::Record`] when somebody reads.

use std::net::SocketAddr;

use regnant_base::{Mac, printable};
use regnant_decision::{DeviceLookUp, EapEvidence, Ending, FactCode, Identity, LookUp, Presented, RequestFacts};
use regnant_policy::{FactId, Facts, Known, Schema, Value};
use serde::{Deserialize, Serialize};
use ulid::Ulid;

use crate::decision::Decision;
use crate::exchange::{KeptExchange, ProtocolAdvice, Protocols};

/// How rules are evaluated. It is counted up where the same facts and the same edition
/// may come to something else than before.
pub(crate) const EVALUATOR: u16 = 1;

/// One decision as the journal keeps it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Evidence {
    /// The decision's id; it begins with the time. It is the key of the entry and not
    /// kept within it.
    #[serde(skip)]
    pub id: Ulid,
    /// The version of the evaluator that decided.
    pub evaluator: u16,
    /// The edition that decided.
    pub edition: u32,
    /// Where the request came from.
    pub source: SocketAddr,
    /// Who or what asked.
    pub subject: Subject,
    /// Whether the password did not decode, so that the secret most likely differs.
    pub undecodable: bool,
    /// What was asked and answered, in the bytes of its protocol.
    pub exchange: KeptExchange,
    /// The gate that took the request, by its place in the edition.
    pub gate: Option<u32>,
    /// Every fact that is none of the protocol's and was not absent.
    pub facts: Vec<(FactCode, Known<Value<'static>>)>,
    /// What the stores said.
    pub lookups: Vec<LookUp>,
    /// How it ended.
    pub ending: Ending,
    /// The EAP conversation, where there was one.
    pub eap: Option<Box<EapEvidence>>,
    /// Microseconds since the packet came, at the end of gate, proof, rules and reply.
    pub micros: [u32; 4],
}

/// Who or what asked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Subject {
    /// A device: what the store calls it, if it is listed, and its address.
    Device(String, Mac),
    /// A person by the name they claim.
    User(String),
    /// A machine by the name it claims.
    Machine(String),
    /// Nobody that the request names.
    Nobody,
}

impl Evidence {
    /// What a decision leaves.
    pub fn new(decision: Decision) -> Self {
        let Decision { id, exchange, edition, decided, replied_at } = decision;
        let (table, times) = (edition.protocols().table(), decided.times);
        let facts = RequestFacts { table, request: exchange.request(), known: decided.known, now: id.timestamp_ms() };
        Self {
            id,
            evaluator: EVALUATOR,
            edition: edition.number(),
            source: exchange.source(),
            subject: subject(&facts),
            undecodable: matches!(facts.request.presented, Presented::Undecodable),
            exchange: exchange.kept(),
            gate: decided.gate.map(|gate| gate as u32),
            facts: facts.kept_facts(),
            lookups: decided.lookups.into_iter().map(LookUp::printable).collect(),
            ending: decided.ending,
            eap: decided.eap,
            micros: [times.gate, times.proof, times.rules, replied_at]
                .map(|time| u32::try_from(time.as_micros()).unwrap_or(u32::MAX)),
        }
    }

    /// The address of the device, where one was told.
    pub fn device(&self) -> Option<Mac> {
        match (&self.subject, self.own_fact(FactCode::MAC)) {
            (_, Known::Is(Value::Mac(mac))) => Some(mac),
            (Subject::Device(_, mac), _) => Some(*mac),
            _ => None,
        }
    }

    /// The name of the NAS that asked.
    pub fn nas(&self) -> String {
        self.text(FactCode::NAS_NAME)
    }

    /// The port of the NAS, where one was told.
    pub fn port(&self) -> Option<u32> {
        self.number(FactCode::PORT).and_then(|port| u32::try_from(port).ok())
    }

    /// The names that whoever asked goes by, as it was told outside a tunnel and inside, and as a store has it.
    pub fn names(&self) -> impl Iterator<Item = String> {
        let codes = [FactCode::CLAIMED_OUTER, FactCode::CLAIMED_NAME, FactCode::USER_NAME];
        codes.into_iter().map(|code| self.text(code)).filter(|name| !name.is_empty())
    }

    /// A fact that is none of the protocol's.
    pub(crate) fn own_fact(&self, code: FactCode) -> Known<Value<'_>> {
        match self.facts.iter().find(|(kept, _)| *kept == code) {
            None => Known::Absent,
            Some((_, Known::Is(value))) => Known::Is(value.borrowed()),
            Some((_, Known::Partial(value))) => Known::Partial(value.borrowed()),
            Some((_, Known::Unanswered)) => Known::Unanswered,
            Some((_, Known::Absent)) => Known::Absent,
        }
    }

    /// The facts as the rules of the edition saw them.
    pub(crate) fn facts<'e>(&'e self, protocols: &'e dyn Protocols) -> KeptFacts<'e> {
        KeptFacts { evidence: self, protocols }
    }
}

/// The facts of a decision that is over.
pub(crate) struct KeptFacts<'e> {
    evidence: &'e Evidence,
    protocols: &'e dyn Protocols,
}

impl<'e> KeptFacts<'e> {
    pub(crate) fn schema(&self) -> &'e Schema {
        self.protocols.table().schema()
    }

    /// Every fact of the schema that is none of the protocol's.
    pub(crate) fn own(&self) -> impl Iterator<Item = FactId> {
        self.protocols.table().own().iter().map(|(_, id)| *id)
    }

    pub(crate) fn advice(&self) -> &'static ProtocolAdvice {
        self.protocols.advice(self.evidence.exchange.protocol)
    }
}

impl Facts for KeptFacts<'_> {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        let (table, exchange) = (self.protocols.table(), &self.evidence.exchange);
        match (table.place_in_protocol(id), table.code(id)) {
            (Some(place), _) => match self.protocols.reader(exchange.protocol) {
                Some(reader) => reader.fact(place, &table.schema().definition(id).kind, &exchange.request),
                None => Known::Absent,
            },
            (_, Some(code)) => self.evidence.own_fact(code),
            (_, None) => Known::Absent,
        }
    }
}

/// Who asked. Names come from outside: what steers a terminal is shown, not kept.
fn subject(facts: &RequestFacts<'_>) -> Subject {
    let known = &facts.known;
    match (&known.user, &known.machine) {
        (Identity::Absent, Identity::Proved(proved)) => return Subject::Machine(proved.account.name.clone()),
        (Identity::Absent, Identity::NotProved { claimed, .. }) if !claimed.is_empty() => {
            return Subject::Machine(printable(claimed).into_owned());
        }
        _ => {}
    }
    // Until somebody tells more, the identity outside the tunnel is all there is.
    if let Some(name) = facts.claimed().or_else(|| facts.request.claimed()).filter(|name| !name.is_empty()) {
        return Subject::User(printable(name).into_owned());
    }
    match (&known.device, facts.request.mac) {
        (DeviceLookUp::Listed(mac, _, device), _) => Subject::Device(device.title.read(), *mac),
        (_, Some(mac)) => Subject::Device(String::new(), mac),
        _ => Subject::Nobody,
    }
}
