//! What a person reads of a decision: its evidence with the names that the edition has
//! for everything, and what each rule came to.

pub(crate) mod accounting;
mod conversation;
mod handshake;
pub(crate) mod sentence;
pub(crate) mod trail;

use std::net::SocketAddr;

use regnant_decision::{Because, Carrier, Decider, EapEvidence, Ending, FactCode, FailureEvidence, LookUp, Unfit};
use regnant_policy::{
    Accepted, Compiled, Consequence, Decided, Event, FactId, Facts, Gate, GateTrace, IdentityKind, Known, LeafTrace,
    RuleTrace, Schema, Statement, TruthValue, Value,
};

use crate::evidence::{Evidence, KeptFacts, Subject};
use crate::exchange::{DecidingEdition, ProtocolAdvice, ShownExchange};

/// Rules that are told of one by one; of more, those that lacked least.
const MOST_RULES: usize = 200;

/// One decision, to be read.
#[derive(Clone, Debug)]
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
    pub source: SocketAddr,
    /// The edition that decided.
    pub edition: u32,
    /// Who or what asked.
    pub subject: Subject,
    /// What carried the credential, where something did.
    pub(crate) carrier: Option<Carrier>,
    /// Whether the password did not decode.
    pub(crate) undecodable: bool,
    /// The switch port, where one was named.
    pub port: Option<u32>,
    /// What was asked and what went back; secrets are named and not kept. None where only a sentence is wanted.
    pub exchange: Option<ShownExchange>,
    /// What equipment is set to, in the words of its protocol.
    pub(crate) advice: &'static ProtocolAdvice,
    /// Gates that were passed over and what their `when` came to.
    pub passed_gates: Vec<(String, TruthValue)>,
    /// The facts that the `when` of a gate hung on and that were absent: the gate and
    /// the fact.
    pub missed_by_gates: Vec<(String, String)>,
    /// The gate that took the request.
    pub gate: Option<String>,
    /// What the gate accepts.
    pub accepts: Vec<String>,
    /// What the stores said.
    pub lookups: Vec<LookUp>,
    /// Every fact that was known, those of the protocol left out.
    pub facts: Vec<(String, String)>,
    /// The rules tried; where there are very many, those that lacked least.
    pub rules: Vec<RuleRecord>,
    /// Rules that were tried and are not told of.
    pub more_rules: usize,
    /// How it ended.
    pub ending: Ending,
    /// The title of the rule that it fell at, where it fell at one.
    pub rule: Option<String>,
    /// The grants that were given.
    pub grants: Vec<String>,
    /// What they say, for people.
    pub says: Vec<String>,
    /// The EAP conversation, where there was one.
    pub eap: Option<Box<EapEvidence>>,
    /// Microseconds since the packet came, at the end of gate, proof, rules and reply.
    pub micros: [u32; 4],
    /// Why what is told of gates and rules may not be how it was: the decision itself
    /// is told as it was kept.
    pub doubt: Option<String>,
}

/// One rule that was tried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleRecord {
    /// Its title.
    pub title: String,
    /// What follows from it: `grant cranes`, `refuse` or `silence`.
    pub then: String,
    /// Whether it gives access.
    pub(crate) grants: bool,
    /// What its condition came to.
    pub outcome: TruthValue,
    /// The comparisons that were looked at.
    pub tests: Vec<TestRecord>,
}

/// One comparison that was looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TestRecord {
    /// The comparison as it is written.
    pub text: String,
    /// The fact it asks about.
    pub fact: String,
    /// What it came to.
    pub outcome: TruthValue,
}

/// Where a decision fell, as people are told of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EndRecord<'r> {
    /// No gate takes the request.
    NoGate,
    /// The gate does not accept the method.
    MethodNotAccepted,
    /// The request carries no credential.
    NoCredential,
    /// Proof of identity ended in an event.
    Proof {
        /// Whose.
        identity: IdentityKind,
        /// The event.
        event: Event,
    },
    /// The EAP conversation failed.
    Eap(&'r FailureEvidence),
    /// The supplicant said no more.
    Abandoned,
    /// The request belongs to a conversation that nobody knows.
    UnknownConversation,
    /// This rule was true.
    Rule {
        /// Its title.
        title: &'r str,
    },
    /// No rule was true.
    Otherwise,
    /// This rule hangs on a store that did not answer.
    Undetermined {
        /// Its title.
        title: &'r str,
    },
    /// Equipment asked for what an earlier decision has named.
    Told {
        /// What it was told.
        what: &'r str,
    },
    /// It was not told.
    NotTold {
        /// Why.
        reason: &'r str,
    },
    /// The reply cannot be made.
    NoReply {
        /// Why.
        reason: &'r str,
    },
}

/// What was decided, as people are told of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum VerdictRecord<'r> {
    /// Access.
    Grant {
        /// The grants.
        grants: &'r [String],
        /// What they say, for people.
        says: &'r [String],
    },
    /// Access in the place of a refusal: the gate is watched.
    Observe {
        /// The grants.
        grants: &'r [String],
        /// What they say, for people.
        says: &'r [String],
    },
    /// A refusal.
    Refuse {
        /// The text for the person, where the policy has one.
        text: Option<&'r str>,
    },
    /// No answer.
    Silence,
    /// The other end left before anything was decided.
    Unfinished,
    /// Equipment was told what an earlier decision has named.
    Told,
}

impl Record {
    /// Where the decision fell.
    pub fn end(&self) -> EndRecord<'_> {
        match &self.ending {
            Ending::Unfit(Unfit::NoGate) => EndRecord::NoGate,
            Ending::Unfit(Unfit::MethodNotAccepted) => EndRecord::MethodNotAccepted,
            Ending::Unfit(Unfit::NoCredential) => EndRecord::NoCredential,
            Ending::Unfit(Unfit::UnknownConversation) => EndRecord::UnknownConversation,
            Ending::Unfit(Unfit::Conversation(failure)) | Ending::Left(Some(failure)) => EndRecord::Eap(failure),
            Ending::Left(None) => EndRecord::Abandoned,
            Ending::Told(what) => EndRecord::Told { what },
            Ending::Unfit(Unfit::NotTold(reason)) => EndRecord::NotTold { reason },
            Ending::Unanswerable(reason) | Ending::Unfit(Unfit::CannotBeTold(reason)) => EndRecord::NoReply { reason },
            Ending::Granted { by, .. } | Ending::Observed { by, .. } => self.fell_at(*by),
            Ending::Refused { by, .. } | Ending::Silent { by } => match *by {
                Because::Proof(identity, event) => EndRecord::Proof { identity, event },
                Because::Decider(by) => self.fell_at(by),
                Because::Undetermined(_) => EndRecord::Undetermined { title: self.rule_title() },
            },
        }
    }

    fn fell_at(&self, by: Decider) -> EndRecord<'_> {
        match by {
            Decider::Rule(_) => EndRecord::Rule { title: self.rule_title() },
            Decider::Otherwise => EndRecord::Otherwise,
        }
    }

    fn rule_title(&self) -> &str {
        self.rule.as_deref().unwrap_or_default()
    }

    /// What was decided.
    pub fn verdict(&self) -> VerdictRecord<'_> {
        let (grants, says) = (&*self.grants, &*self.says);
        match &self.ending {
            Ending::Granted { .. } => VerdictRecord::Grant { grants, says },
            Ending::Observed { .. } => VerdictRecord::Observe { grants, says },
            Ending::Refused { text, .. } => VerdictRecord::Refuse { text: text.as_deref() },
            Ending::Unfit(_) => VerdictRecord::Refuse { text: None },
            Ending::Silent { .. } | Ending::Unanswerable(_) => VerdictRecord::Silence,
            Ending::Left(_) => VerdictRecord::Unfinished,
            Ending::Told(_) => VerdictRecord::Told,
        }
    }

    /// One word for what was decided.
    pub fn outcome(&self) -> &'static str {
        self.ending.kind().word()
    }

    /// What can be told without trying a rule again: enough for a sentence. With another
    /// edition than the one that decided, names are numbers.
    pub fn brief(evidence: &Evidence, edition: &dyn DecidingEdition) -> Self {
        let (policy, facts) = (edition.policy(), evidence.facts(edition.protocols()));
        let same = edition.number() == evidence.edition;
        let gate = evidence.gate.and_then(|gate| policy.gates().get(gate as usize)).filter(|_| same);
        let claimed = evidence.shown(FactCode::USER_CLAIMED).map(|name| ("user.claimed".to_owned(), name));
        let rule = match evidence.ending.because() {
            Some(Because::Decider(Decider::Rule(rule)) | Because::Undetermined(rule)) => Some(rule),
            _ => None,
        };
        let title = |rule: u32| match gate.and_then(|gate| gate.rules.get(rule as usize)) {
            Some(rule) => rule.title.clone(),
            None => format!("rule {}", rule + 1),
        };
        let (grants, says) = match evidence.ending.grants() {
            None => (Vec::new(), Vec::new()),
            Some(grants) if same && grants < policy.grant_sets() => {
                (names(policy, grants), said(policy, grants, &facts))
            }
            Some(grants) => (vec![format!("combination {}", grants + 1)], Vec::new()),
        };
        Self {
            id: evidence.id.to_string(),
            at: evidence.id.timestamp_ms(),
            nas: evidence.text(FactCode::NAS_NAME),
            nas_about: String::new(),
            source: evidence.source,
            edition: evidence.edition,
            subject: evidence.subject.clone(),
            carrier: evidence.number(FactCode::CARRIER).and_then(|number| Some(Carrier::ALL.get(number as usize)?.1)),
            undecodable: evidence.undecodable,
            port: evidence.port(),
            exchange: None,
            advice: facts.advice(),
            passed_gates: Vec::new(),
            missed_by_gates: Vec::new(),
            accepts: Vec::new(),
            rules: Vec::new(),
            more_rules: 0,
            gate: evidence.gate.map(|place| gate.map_or_else(|| (place + 1).to_string(), |gate| gate.name.clone())),
            lookups: evidence.lookups.clone(),
            facts: claimed.into_iter().collect(),
            ending: evidence.ending.clone(),
            rule: rule.map(title),
            grants,
            says,
            eap: evidence.eap.clone(),
            micros: evidence.micros,
            doubt: None,
        }
    }

    /// All that can be told: gates and rules are tried again with the facts that were
    /// kept, which comes to the same, as long as this is the edition that decided and
    /// rules are evaluated as they were.
    pub fn new(evidence: &Evidence, edition: &dyn DecidingEdition) -> Self {
        let mut record = Self::brief(evidence, edition);
        record.show_all(evidence, edition);
        if edition.number() != evidence.edition {
            record.doubt = Some(format!(
                "Edition {} cannot be read any more, so that names may be missing here.",
                evidence.edition
            ));
            return record;
        }
        let (policy, facts) = (edition.policy(), evidence.facts(edition.protocols()));
        let (chosen, passed) = policy.explain_gate(&facts);
        record.missed_by_gates = missed_by_gates(policy, &passed, facts.schema());
        record.passed_gates =
            passed.iter().map(|passed| (policy.gates()[passed.gate].name.clone(), passed.outcome)).collect();
        let mut as_kept = chosen.map(|gate| gate as u32) == evidence.gate;
        let decided = match evidence.ending.because() {
            Some(Because::Decider(Decider::Rule(rule))) => Some(Decided::Rule(rule as usize)),
            Some(Because::Decider(Decider::Otherwise)) => Some(Decided::Otherwise),
            Some(Because::Undetermined(rule)) => Some(Decided::Undetermined(rule as usize)),
            Some(Because::Proof(..)) | None => None,
        };
        if let (Some(decided), Some(gate)) = (decided, evidence.gate.map(|gate| gate as usize))
            && let Some(definition) = policy.gates().get(gate)
        {
            let (again, tried) = policy.explain(gate, &facts);
            as_kept &= again == decided;
            (record.rules, record.more_rules) = rules(policy, definition, &tried, facts.schema());
        }
        if !as_kept {
            record.doubt = Some(format!(
                "Worked out again, this comes to something else than was decided (by evaluator {}): the decision is \
                 told as it was, and what each rule came to as it would be now.",
                evidence.evaluator
            ));
        }
        record
    }

    /// What takes longer to show than a sentence needs.
    fn show_all(&mut self, evidence: &Evidence, edition: &dyn DecidingEdition) {
        let facts = evidence.facts(edition.protocols());
        let site = evidence.text(FactCode::NAS_SITE);
        self.nas_about = format!("{} at {site}", facts.shown("nas.kind").unwrap_or_default());
        self.facts = facts.shown_all();
        let same = Some(edition).filter(|edition| edition.number() == evidence.edition);
        let gate = evidence.gate.zip(same).and_then(|(gate, edition)| edition.policy().gates().get(gate as usize));
        self.accepts = gate.map(|gate| gate.accept.iter().map(Accepted::show).collect()).unwrap_or_default();
        let dialect = evidence.text(FactCode::NAS_DIALECT);
        let granted = evidence.ending.grants().zip(same);
        let granted =
            granted.and_then(|(grants, edition)| edition.granted(evidence.exchange.protocol, &dialect, grants));
        self.exchange = Some(edition.protocols().show(&evidence.exchange, granted));
    }

    /// The value of a fact that was known.
    pub fn fact(&self, name: &str) -> Option<&str> {
        self.facts.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }
}

/// What a combination of grants says; nothing where a fact that it needs was not kept.
fn said(policy: &Compiled, grants: usize, facts: &dyn Facts) -> Vec<String> {
    policy.statements(grants, facts).iter().flatten().map(Statement::say).collect()
}

impl Evidence {
    /// A text, or none of it.
    pub(crate) fn text(&self, code: FactCode) -> String {
        match self.own_fact(code) {
            Known::Is(Value::Text(text)) => text.into_owned(),
            _ => String::new(),
        }
    }

    pub(crate) fn number(&self, code: FactCode) -> Option<i64> {
        match self.own_fact(code) {
            Known::Is(Value::Integer(number)) => Some(number),
            _ => None,
        }
    }

    fn shown(&self, code: FactCode) -> Option<String> {
        match self.own_fact(code) {
            Known::Is(value) => Some(value.to_string()),
            _ => None,
        }
    }
}

/// What is told of a fact that no store told; texts stand in quotes.
const UNANSWERED: &str = "unanswered";
const REST_UNANSWERED: &str = ", the rest unanswered";

impl KeptFacts<'_> {
    fn shown(&self, name: &str) -> Option<String> {
        let id = self.schema().find(name)?;
        self.shown_fact(id)
    }

    fn shown_fact(&self, id: FactId) -> Option<String> {
        let kind = &self.schema().definition(id).kind;
        match self.fact(id) {
            Known::Is(value) => Some(kind.show(&value)),
            Known::Partial(part) => Some(kind.show(&part) + REST_UNANSWERED),
            Known::Unanswered => Some(UNANSWERED.into()),
            Known::Absent => None,
        }
    }

    /// Every fact that was known and none of the protocol's, by name.
    fn shown_all(&self) -> Vec<(String, String)> {
        let name = |id| self.schema().definition(id).name.clone();
        let shown = self.own().filter_map(|id| self.shown_fact(id).map(|value| (name(id), value)));
        // Most equipment has no tags, and nobody need read that.
        shown.filter(|(name, value)| name != "nas.tags" || value != "{ }").collect()
    }
}

/// The facts that are absent where a gate was passed over because of it.
fn missed_by_gates(policy: &Compiled, passed: &[GateTrace], schema: &Schema) -> Vec<(String, String)> {
    let mut missed = Vec::new();
    for gate in passed.iter().filter(|gate| gate.outcome == TruthValue::Absent) {
        for leaf in gate.leaves.iter().filter(|leaf| leaf.outcome == TruthValue::Absent) {
            let fact = policy.leaf(leaf.leaf).fact;
            let entry = (policy.gates()[gate.gate].name.clone(), schema.definition(fact).name.clone());
            if !missed.contains(&entry) {
                missed.push(entry);
            }
        }
    }
    missed
}

/// The rules that were tried, and how many of them are left out.
pub(crate) fn rules(policy: &Compiled, gate: &Gate, tried: &[RuleTrace], schema: &Schema) -> (Vec<RuleRecord>, usize) {
    let test = |leaf: &LeafTrace| {
        let written = policy.leaf(leaf.leaf);
        let fact = schema.definition(written.fact).name.clone();
        TestRecord { text: written.text.clone(), fact, outcome: leaf.outcome }
    };
    let mut told: Vec<&RuleTrace> = tried.iter().collect();
    if told.len() > MOST_RULES {
        told.sort_by_key(|rule| (rule.outcome != TruthValue::True, lacking(rule)));
        told.truncate(MOST_RULES);
        told.sort_by_key(|rule| rule.rule);
    }
    let records = told.iter().map(|tried| {
        let rule = &gate.rules[tried.rule];
        RuleRecord {
            title: rule.title.clone(),
            then: match &rule.then {
                Consequence::Grant(given) => format!("grant {}", names(policy, *given).join(", ")),
                Consequence::Refuse(_) => "refuse".into(),
                Consequence::Silence => "silence".into(),
            },
            grants: matches!(rule.then, Consequence::Grant(_)),
            outcome: tried.outcome,
            tests: tried.leaves.iter().map(test).collect(),
        }
    });
    (records.collect(), tried.len() - told.len())
}

/// How many comparisons kept a rule from being true.
fn lacking(rule: &RuleTrace) -> usize {
    rule.leaves.iter().filter(|leaf| leaf.outcome != TruthValue::True).count()
}

pub(crate) fn names(policy: &Compiled, combination: usize) -> Vec<String> {
    policy.grants(combination).map(|grant| grant.name.clone()).collect()
}
