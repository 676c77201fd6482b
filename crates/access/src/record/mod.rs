//! What the journal keeps of a decision: evidence, not prose. Prose is made from
//! it when somebody reads.

mod conversation;
pub(crate) mod eap;
mod handshake;
pub(crate) mod sentence;
pub(crate) mod trail;
pub(crate) mod unheard;

use regnant_base::printable;
use regnant_policy::{
    Accepted, Compiled, Consequence, Event, Gate, IdentityKind, LeafTrace, Outcome, Statement, Trace, show_duration,
};
use regnant_radius::{Packet, number};
use serde::{Deserialize, Serialize};

use crate::decide::{Decision, End, Verdict};
use crate::facts::request::{Credential, Derived};
use crate::facts::situation::{Device, Identity, Situation};
use crate::facts::table::FactTable;
use crate::proof::LookUpRecord;
use crate::record::eap::EapRecord;

/// One decision as the journal keeps it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Record {
    /// The decision's id, a ULID; it begins with the time.
    pub id: String,
    /// Milliseconds since 1970 (UTC).
    pub at: u64,
    /// The NAS's name.
    pub nas: String,
    /// Its kind and site, for people.
    pub nas_about: String,
    /// Where the request came from.
    pub source: String,
    /// Whether the request carried Message-Authenticator.
    pub signed: bool,
    /// The edition that decided.
    pub edition: u32,
    /// Who or what asked.
    pub subject: Subject,
    /// What carried the credential, where something did.
    pub carrier: Option<String>,
    /// The switch port, where one was named.
    pub port: Option<u32>,
    /// The attributes of the request; secrets are named and not kept.
    pub request: Vec<(String, String)>,
    /// Gates that were passed over and what their `when` came to.
    pub passed_gates: Vec<(String, Outcome)>,
    /// The facts that the `when` of a gate hung on and that were absent: the gate and
    /// the fact.
    #[serde(default)]
    pub missed_by_gates: Vec<(String, String)>,
    /// The gate that took the request.
    pub gate: Option<String>,
    /// What the gate accepts.
    pub accepts: Vec<String>,
    /// What the stores said.
    pub lookups: Vec<LookUpRecord>,
    /// Every fact that was known, attributes left out.
    pub facts: Vec<(String, String)>,
    /// The rules tried.
    pub rules: Vec<RuleRecord>,
    /// Where the decision fell.
    pub end: EndRecord,
    /// What was decided.
    pub verdict: VerdictRecord,
    /// The reply's code and attributes; none where there was no reply.
    pub reply: Option<(String, Vec<(String, String)>)>,
    /// The EAP conversation, where there was one.
    #[serde(default)]
    pub eap: Option<Box<EapRecord>>,
    /// Microseconds since the packet came, at the end of gate, proof, rules and reply.
    pub micros: [u64; 4],
}

/// Who or what asked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", content = "name", rename_all = "lowercase")]
pub enum Subject {
    /// A device: what it is and its MAC address.
    Endpoint(String, String),
    /// A person by the name they claim.
    User(String),
    /// A machine by the name it claims.
    Machine(String),
    /// Nobody that the request names.
    Nobody,
}

/// One rule that was tried.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleRecord {
    /// Its title.
    pub title: String,
    /// What follows from it: `grant cranes`, `refuse` or `silence`.
    pub then: String,
    /// What its condition came to.
    pub outcome: Outcome,
    /// The comparisons that were looked at.
    pub tests: Vec<TestRecord>,
}

/// One comparison that was looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TestRecord {
    /// The comparison as it is written.
    pub text: String,
    /// The fact it asks about.
    pub fact: String,
    /// What it came to.
    pub outcome: Outcome,
}

/// Where a decision fell.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "at", rename_all = "kebab-case")]
pub enum EndRecord {
    /// No gate takes the request.
    NoGate,
    /// The gate does not accept the method.
    MethodNotAccepted,
    /// The request carries no credential.
    NoCredential,
    /// Proof of identity ended in an event.
    Proof {
        /// `user`, `machine` or `mac`.
        identity: String,
        /// The event.
        event: Event,
    },
    /// The EAP conversation failed; its record says why.
    Eap,
    /// The supplicant said no more.
    Abandoned,
    /// The request belongs to a conversation that nobody knows.
    UnknownConversation,
    /// This rule was true.
    Rule {
        /// Its title.
        title: String,
    },
    /// No rule was true.
    Otherwise,
    /// This rule hangs on a store that did not answer.
    Undetermined {
        /// Its title.
        title: String,
    },
    /// The reply cannot be made.
    NoReply {
        /// Why.
        reason: String,
    },
}

/// What was decided.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "verdict", rename_all = "lowercase")]
pub enum VerdictRecord {
    /// Access.
    Grant {
        /// The grants.
        grants: Vec<String>,
        /// What they say, for people.
        says: Vec<String>,
    },
    /// Access-Reject.
    Refuse {
        /// The text for the person, where the policy has one.
        text: Option<String>,
    },
    /// No answer.
    Silence,
    /// The other end left before anything was decided.
    Unfinished,
}

impl VerdictRecord {
    /// One word for the verdict.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Grant { .. } => "granted",
            Self::Refuse { .. } => "refused",
            Self::Silence => "silence",
            Self::Unfinished => "unfinished",
        }
    }
}

impl Record {
    /// Writes a decision down.
    pub fn new(decision: Decision, table: &FactTable) -> Self {
        let Decision { id, heard, edition, verdict, reply, gate, end, lookups, trace, times, eap, .. } = decision;
        let Decision { user, machine, device, told, .. } = decision;
        let packet = heard.packet();
        let nas = &*heard.nas;
        let derived = Derived::read(&packet, nas);
        let address = heard.source.ip();
        let now = id.timestamp_ms();
        let situation = Situation { table, nas, address, packet, derived, user, machine, device, told, now };
        let policy = &edition.policy;
        let gate = gate.map(|index| &policy.gates()[index]);
        let rule_title = |index: usize| gate.map(|gate| gate.rules[index].title.clone()).unwrap_or_default();
        Self {
            id: id.to_string(),
            at: id.timestamp_ms(),
            nas: nas.name.clone(),
            nas_about: format!("{} at {}", nas.kind.word(), nas.site),
            source: heard.source.to_string(),
            signed: packet.first(number::MESSAGE_AUTHENTICATOR).is_some(),
            edition: edition.number,
            subject: subject(&situation),
            carrier: carrier(&situation),
            port: situation.derived.port,
            request: bounded(table.dictionary().show(&packet)),
            passed_gates: trace
                .gates
                .iter()
                .map(|passed| (policy.gates()[usize::from(passed.gate)].name.clone(), passed.outcome))
                .collect(),
            missed_by_gates: missed_by_gates(policy, &trace, table),
            accepts: gate.map(|gate| gate.accept.iter().map(Accepted::show).collect()).unwrap_or_default(),
            rules: gate.map(|gate| rules(policy, gate, &trace, table)).unwrap_or_default(),
            gate: gate.map(|gate| gate.name.clone()),
            lookups: lookups.into_iter().map(LookUpRecord::printable).collect(),
            facts: situation.known_facts(),
            end: match end {
                End::NoGate => EndRecord::NoGate,
                End::MethodNotAccepted => EndRecord::MethodNotAccepted,
                End::NoCredential => EndRecord::NoCredential,
                End::Proof(kind, event) => EndRecord::Proof { identity: IdentityKind::word(kind).into(), event },
                End::Eap(_) | End::Certificate(_) => EndRecord::Eap,
                End::Abandoned => EndRecord::Abandoned,
                End::UnknownConversation => EndRecord::UnknownConversation,
                End::Rule(index) => EndRecord::Rule { title: rule_title(index) },
                End::Otherwise => EndRecord::Otherwise,
                End::Undetermined(index) => EndRecord::Undetermined { title: rule_title(index) },
                End::NoReply(reason) => EndRecord::NoReply { reason },
            },
            verdict: match verdict {
                Verdict::Grant(given) => VerdictRecord::Grant {
                    grants: names(policy, given),
                    says: policy.statements(given).map(say).collect(),
                },
                Verdict::Refuse(text) => VerdictRecord::Refuse { text },
                Verdict::Silence => VerdictRecord::Silence,
                Verdict::Unfinished => VerdictRecord::Unfinished,
            },
            reply: reply.and_then(|bytes| show_reply(&bytes, table)),
            eap,
            micros: [times.gate, times.proof, times.rules, times.reply].map(|time| time.as_micros() as u64),
        }
    }

    /// The value of a fact that was known.
    pub fn fact(&self, name: &str) -> Option<&str> {
        self.facts.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

/// Who asked. Names come from outside: what steers a terminal is shown, not kept.
fn subject(situation: &Situation<'_>) -> Subject {
    match (&situation.user, &situation.machine) {
        (Identity::Absent, Identity::Proved(proved)) => return Subject::Machine(proved.account.name.clone()),
        (Identity::Absent, Identity::NotProved { claimed, .. }) if !claimed.is_empty() => {
            return Subject::Machine(printable(claimed).into_owned());
        }
        _ => {}
    }
    // Until somebody tells more, the identity outside the tunnel is all there is.
    if let Some(name) = situation.claimed().or_else(|| situation.derived.claimed()).filter(|name| !name.is_empty()) {
        return Subject::User(printable(name).into_owned());
    }
    match (&situation.device, situation.derived.mac) {
        (Device::Listed(mac, endpoint), _) => Subject::Endpoint(endpoint.title.clone(), mac.to_string()),
        (_, Some(mac)) => Subject::Endpoint(String::new(), mac.to_string()),
        _ => Subject::Nobody,
    }
}

/// Attributes and their text that are kept of one request, in number and in bytes: a
/// packet may hold two thousand.
const MOST_ATTRIBUTES: usize = 128;
const MOST_TEXT: usize = 16 << 10;

fn bounded(mut shown: Vec<(String, String)>) -> Vec<(String, String)> {
    let mut text = 0;
    let fitting = shown.iter().take(MOST_ATTRIBUTES).take_while(|(name, value)| {
        text += name.len() + value.len();
        text <= MOST_TEXT
    });
    let kept = fitting.count();
    let more = shown.len() - kept;
    shown.truncate(kept);
    if more > 0 {
        shown.push(("more".into(), format!("{more} attributes that are not kept")));
    }
    shown
}

fn carrier(situation: &Situation<'_>) -> Option<String> {
    let word = situation.derived.carrier?.word();
    Some(match situation.derived.credential {
        Credential::Noise => format!("{word} (undecodable)"),
        _ => word.to_owned(),
    })
}

/// The facts that are absent where a gate was passed over because of it.
fn missed_by_gates(policy: &Compiled, trace: &Trace, table: &FactTable) -> Vec<(String, String)> {
    let mut missed = Vec::new();
    let mut from = 0;
    for passed in &trace.gates {
        let until = usize::from(passed.leaves_until);
        let leaves = trace.leaves.get(from..until).unwrap_or_default();
        from = until;
        let unknown = leaves.iter().filter(|leaf| passed.outcome == Outcome::Absent && leaf.outcome == Outcome::Absent);
        for leaf in unknown {
            let fact = policy.leaves()[usize::from(leaf.leaf)].fact;
            let entry =
                (policy.gates()[usize::from(passed.gate)].name.clone(), table.schema().definition(fact).name.clone());
            if !missed.contains(&entry) {
                missed.push(entry);
            }
        }
    }
    missed
}

fn rules(policy: &Compiled, gate: &Gate, trace: &Trace, table: &FactTable) -> Vec<RuleRecord> {
    // Comparisons of gates come first in the trace; a rule's own are the last
    // before its mark, so they are counted back from there.
    let leaf_of_rule = |rule: usize| {
        let until = usize::from(trace.rules[rule].leaves_until);
        let from = match rule {
            0 => trace.leaves_before_rules.into(),
            _ => usize::from(trace.rules[rule - 1].leaves_until),
        };
        trace.leaves.get(from..until).unwrap_or_default()
    };
    let test = |leaf: &LeafTrace| {
        let written = &policy.leaves()[usize::from(leaf.leaf)];
        let fact = table.schema().definition(written.fact).name.clone();
        TestRecord { text: written.text.clone(), fact, outcome: leaf.outcome }
    };
    (0..trace.rules.len())
        .map(|index| {
            let rule = &gate.rules[usize::from(trace.rules[index].rule)];
            RuleRecord {
                title: rule.title.clone(),
                then: match &rule.then {
                    Consequence::Grant(given) => format!("grant {}", names(policy, *given).join(", ")),
                    Consequence::Refuse(_) => "refuse".into(),
                    Consequence::Silence => "silence".into(),
                },
                outcome: trace.rules[index].outcome,
                tests: leaf_of_rule(index).iter().map(test).collect(),
            }
        })
        .collect()
}

fn names(policy: &Compiled, combination: usize) -> Vec<String> {
    policy.grants(combination).map(|grant| grant.name.clone()).collect()
}

/// A statement of a grant, for people.
fn say(statement: &Statement) -> String {
    let value = statement.value();
    match statement {
        Statement::Vlan(_) => format!("VLAN {value}"),
        Statement::Session(seconds) => format!("session {}", show_duration(u64::from(*seconds))),
        Statement::Reauthenticate(seconds) => format!("again after {}", show_duration(u64::from(*seconds))),
        Statement::Idle(seconds) => format!("idle {}", show_duration(u64::from(*seconds))),
        Statement::Acl(_) | Statement::Service(_) => value,
        Statement::Message(_) => format!("message \"{value}\""),
        other => format!("{} {value}", other.keyword()),
    }
}

fn show_reply(bytes: &[u8], table: &FactTable) -> Option<(String, Vec<(String, String)>)> {
    let packet = Packet::parse(bytes).ok()?;
    Some((packet.code().to_string(), table.dictionary().show(&packet)))
}
