//! What a decision leaves: what was known, what the stores said, and what decided.
//!
//! Nothing here is text for people, and nothing grows with the policy: what each rule
//! came to follows from the facts and the edition, and is worked out again by
//! [`crate::Record`] when somebody reads.

use std::net::SocketAddr;

use regnant_base::{Mac, printable};
use regnant_decision::{
    DeviceLookUp, EapEvidence, Ending, FactCode, Identity, LookUp, Presented, ProtocolFacts, RequestFacts,
};
use regnant_equipment::{Decision, Edition, Vocabulary, Whereabouts};
use regnant_policy::{FactId, Facts, Known, Type, Value};
use regnant_radius::{Attributes, HEADER_LEN, Packet};
use serde::{Deserialize, Serialize};
use ulid::Ulid;

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
    /// The attributes of the request, encoded; the values of secrets are zeros.
    pub request: Vec<u8>,
    /// The gate that took the request, by its place in the edition.
    pub gate: Option<u32>,
    /// Every fact that is no attribute and was not absent.
    pub facts: Vec<(FactCode, Known<Value<'static>>)>,
    /// What the stores said.
    pub lookups: Vec<LookUp>,
    /// How it ended.
    pub ending: Ending,
    /// The reply; none where there was none.
    pub reply: Option<Reply>,
    /// The EAP conversation, where there was one.
    pub eap: Option<Box<EapEvidence>>,
    /// Microseconds since the packet came, at the end of gate, proof, rules and reply.
    pub micros: [u32; 4],
}

/// A reply. The attributes of its grants stand in the edition and are left out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reply {
    /// The code of the packet.
    pub code: u8,
    /// The attributes before those of the grants, encoded; the values of secrets are
    /// zeros.
    pub before: Vec<u8>,
    /// Whether those of the grants follow.
    pub grants: bool,
    /// The attributes after those of the grants.
    pub after: Vec<u8>,
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
        let Decision { id, accepted, read, edition, decided, reply, replied_at } = decision;
        let (packet, vocabulary, times) = (accepted.packet(), &*edition.vocabulary, decided.times);
        let request = accepted.request(&read, &NoProtocol);
        let facts = RequestFacts { table: vocabulary.table(), request, known: decided.known, now: id.timestamp_ms() };
        let fixed = |grants| edition.fixed_attributes(&accepted.nas.dialect, grants);
        let granted = decided.ending.grants().and_then(fixed);
        Self {
            id,
            evaluator: EVALUATOR,
            edition: edition.number,
            source: accepted.source,
            subject: subject(&facts),
            undecodable: matches!(facts.request.presented, Presented::Undecodable),
            request: vocabulary.dictionary().without_secrets(packet.attributes()),
            gate: decided.gate.map(|gate| gate as u32),
            facts: facts.kept_facts(),
            lookups: decided.lookups.into_iter().map(LookUp::printable).collect(),
            ending: decided.ending,
            reply: reply.and_then(|bytes| Reply::new(&bytes, granted.unwrap_or_default(), vocabulary)),
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

    /// Who or what asked, and where, as its request says it.
    pub fn whereabouts(&self) -> Whereabouts<'_> {
        Whereabouts::read(Attributes::read(&self.request).unwrap_or_default())
    }

    /// A fact that is no attribute.
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
    pub(crate) fn facts<'e>(&'e self, vocabulary: &'e Vocabulary) -> KeptFacts<'e> {
        KeptFacts { evidence: self, vocabulary }
    }
}

/// Attributes are kept as they were sent, and not as facts.
struct NoProtocol;

impl ProtocolFacts for NoProtocol {
    fn fact(&self, _: usize, _: &Type) -> Known<Value<'_>> {
        Known::Absent
    }

    fn can_be_told(&self, _: usize, _: &dyn Facts) -> Result<(), String> {
        Ok(())
    }
}

/// The facts of a decision that is over.
pub(crate) struct KeptFacts<'e> {
    evidence: &'e Evidence,
    vocabulary: &'e Vocabulary,
}

impl<'e> KeptFacts<'e> {
    pub(crate) fn vocabulary(&self) -> &'e Vocabulary {
        self.vocabulary
    }
}

impl Facts for KeptFacts<'_> {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        let table = self.vocabulary.table();
        match (table.place_in_protocol(id), table.code(id)) {
            (Some(place), _) => {
                let sent = Attributes::read(&self.evidence.request).unwrap_or_default();
                self.vocabulary.attribute_fact(place, &table.schema().definition(id).kind, sent)
            }
            (_, Some(code)) => self.evidence.own_fact(code),
            (_, None) => Known::Absent,
        }
    }
}

impl Reply {
    fn new(bytes: &[u8], granted: &[u8], vocabulary: &Vocabulary) -> Option<Self> {
        let packet = Packet::parse(bytes).ok()?;
        let attributes = packet.as_bytes().get(HEADER_LEN..)?;
        let at = (0..=attributes.len().saturating_sub(granted.len()))
            .find(|at| !granted.is_empty() && attributes[*at..].starts_with(granted));
        let (before, after) = match at {
            Some(at) => (&attributes[..at], &attributes[at + granted.len()..]),
            None => (attributes, &[][..]),
        };
        let kept = |part| Attributes::read(part).map(|part| vocabulary.dictionary().without_secrets(part));
        Some(Self { code: packet.code().0, before: kept(before)?, grants: at.is_some(), after: kept(after)? })
    }

    /// All its attributes, encoded; those of the grants where the edition has them.
    pub(crate) fn attributes(&self, edition: Option<&Edition>, dialect: &str, ending: &Ending) -> Vec<u8> {
        let granted = ending.grants().filter(|_| self.grants);
        let granted = edition.zip(granted).and_then(|(edition, grants)| edition.fixed_attributes(dialect, grants));
        [&self.before, granted.unwrap_or_default(), &self.after].concat()
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
