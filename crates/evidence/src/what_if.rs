//! What a policy would come to with facts that somebody states, or that an entry of the journal kept, and a
//! case of its tests made of an entry. Nothing is sent, and nothing counted.

use std::collections::BTreeSet;

use regnant_decision::{Because, Decider, Ending, EntryKind};
use regnant_policy::{
    Compiled, Consequence, Decided, FactId, Facts, Known, Method, Schema, Stage, StatedFacts, Statement, TruthValue,
    Value, quoted,
};

use crate::evidence::{Evidence, KeptFacts};
use crate::exchange::{DecidingEdition, Protocols};
use crate::record::{Record, RuleRecord, names, rules};

/// Facts as an entry kept them, with others in their place.
pub struct WhatIf<'e> {
    kept: Option<KeptFacts<'e>>,
    stated: StatedFacts,
}

impl<'e> WhatIf<'e> {
    /// The facts of an entry, where there is one, and those that are stated in their place.
    pub fn new(entry: Option<&'e Evidence>, protocols: &'e dyn Protocols, stated: StatedFacts) -> Self {
        Self { kept: entry.map(|entry| entry.facts(protocols)), stated }
    }
}

impl Facts for WhatIf<'_> {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        let kept = || self.kept.as_ref().map_or(Known::Absent, |kept| kept.fact(id));
        self.stated.stated(id).unwrap_or_else(kept)
    }
}

/// What a policy comes to.
#[derive(Clone, Debug)]
pub struct WhatIfAnswer {
    /// The gate that takes the request.
    pub gate: Option<String>,
    /// Those that were passed over, with what their conditions came to.
    pub passed_gates: Vec<(String, TruthValue)>,
    /// Granted, observed, refused or silence.
    pub outcome: EntryKind,
    /// What decides: the title of a rule, `otherwise`, or why no rule is asked.
    pub by: String,
    /// Whether a rule of that title decides.
    pub by_rule: bool,
    /// The grants.
    pub grants: Vec<String>,
    /// What they say, for people.
    pub says: Vec<String>,
    /// The rules that were tried, with their comparisons.
    pub rules: Vec<RuleRecord>,
    /// How many of them are left out.
    pub more_rules: usize,
}

impl WhatIfAnswer {
    /// What a policy comes to with these facts, as if everybody had been proved as they say.
    pub fn of(policy: &Compiled, schema: &Schema, facts: &dyn Facts) -> Self {
        let (gate, passed) = policy.explain_gate(facts);
        let name = |gate: usize| policy.gates()[gate].name.clone();
        let mut answer = Self {
            gate: gate.map(name),
            passed_gates: passed.iter().map(|passed| (name(passed.gate), passed.outcome)).collect(),
            outcome: EntryKind::Refused,
            by: "no gate takes such a request".into(),
            by_rule: false,
            grants: Vec::new(),
            says: Vec::new(),
            rules: Vec::new(),
            more_rules: 0,
        };
        let Some(gate) = gate else { return answer };
        let definition = &policy.gates()[gate];
        if let Some(method) = method(schema, facts)
            && !definition.accepts(method)
        {
            answer.by = format!("gate {} does not accept {}", definition.name, method.word());
            return answer;
        }
        let (decided, tried) = policy.explain(gate, facts);
        (answer.rules, answer.more_rules) = rules(policy, definition, &tried, schema);
        let (rule, consequence) = match decided {
            Decided::Rule(rule) => (Some(rule), definition.rules[rule].then.clone()),
            Decided::Otherwise => (None, definition.otherwise.clone()),
            Decided::Undetermined(rule) => (Some(rule), definition.undetermined.consequence()),
        };
        answer.by = rule.map_or_else(|| "otherwise".into(), |rule| definition.rules[rule].title.clone());
        answer.by_rule = rule.is_some();
        let settled = !matches!(decided, Decided::Undetermined(_));
        let given = match consequence {
            Consequence::Grant(grants) => Some((EntryKind::Granted, grants)),
            Consequence::Refuse(_) if settled => {
                policy.observed(gate, rule, facts).map(|grants| (EntryKind::Observed, grants))
            }
            Consequence::Refuse(_) => None,
            Consequence::Silence => {
                answer.outcome = EntryKind::Silence;
                None
            }
        };
        if let Some((outcome, combination)) = given {
            answer.outcome = outcome;
            answer.grants = names(policy, combination);
            answer.says = policy.statements(combination, facts).iter().flatten().map(Statement::say).collect();
        }
        answer
    }

    /// Whether another one comes to the same: the same outcome with the same grants, whoever decides it.
    pub fn comes_to(&self, other: &Self) -> bool {
        (self.outcome, &self.grants, &self.says) == (other.outcome, &other.grants, &other.says)
    }
}

/// The method that facts tell of.
fn method(schema: &Schema, facts: &dyn Facts) -> Option<Method> {
    let of = |word: &str| Method::ALL.iter().find(|(known, _)| *known == word).map(|(_, method)| *method);
    let told = schema.find("request.method").map(|id| facts.fact(id));
    if let Some(Known::Is(Value::Text(word))) = told {
        return of(&word);
    }
    let id = schema.find("request.carrier")?;
    match facts.fact(id) {
        Known::Is(value) => of(&schema.definition(id).kind.show(&value)),
        _ => None,
    }
}

/// Why no case is made of an entry.
pub type NoCase = String;

/// A fact of a request that was kept, as a case would state it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeptFact {
    /// Its name.
    pub name: String,
    /// Its value, as Writ writes it.
    pub value: String,
    /// Whether the policy that decided asks for it.
    pub asked: bool,
}

/// What was known of a request, as far as it was kept and can be written.
pub fn facts_of(evidence: &Evidence, edition: &dyn DecidingEdition) -> Vec<KeptFact> {
    let facts = evidence.facts(edition.protocols());
    let asked: BTreeSet<FactId> = edition.policy().leaves().iter().map(|leaf| leaf.fact).collect();
    let kept = facts.schema().facts().filter(|(_, definition)| definition.known != Stage::End);
    kept.filter_map(|(id, definition)| {
        let Known::Is(value) = facts.fact(id) else { return None };
        let value = definition.kind.write(&value)?;
        Some(KeptFact { name: definition.name.clone(), value, asked: asked.contains(&id) })
    })
    .collect()
}

/// A case of an entry: its facts, as far as the policy asks for them, and what was decided.
pub fn case_of(evidence: &Evidence, edition: &dyn DecidingEdition) -> Result<String, NoCase> {
    if edition.number() != evidence.edition {
        return Err(format!("edition {} cannot be read any more", evidence.edition));
    }
    let (policy, facts) = (edition.policy(), evidence.facts(edition.protocols()));
    let gate = evidence.gate.and_then(|gate| policy.gates().get(gate as usize));
    let (Some(because), Some(gate)) = (evidence.ending.because(), gate) else {
        return Err("it ended before any rule was tried: there is nothing that a case could expect".into());
    };
    let rule = match because {
        Because::Proof(..) => {
            return Err("the proof of identity ended it, and not a rule: a case states what was proved".into());
        }
        Because::Decider(Decider::Otherwise) => None,
        Because::Decider(Decider::Rule(rule)) | Because::Undetermined(rule) => gate.rules.get(rule as usize),
    };
    let by = rule.map_or_else(|| "otherwise".to_owned(), |rule| quoted(&rule.title));
    let (expected, outcomes): (_, &[EntryKind]) = match &evidence.ending {
        Ending::Granted { grants, .. } => {
            (format!("grant {}", names(policy, *grants).join(", ")), &[EntryKind::Granted])
        }
        // A case judges what is decided.
        Ending::Refused { .. } | Ending::Observed { .. } => {
            ("refuse".to_owned(), &[EntryKind::Refused, EntryKind::Observed])
        }
        _ => ("silence".to_owned(), &[EntryKind::Silence]),
    };
    let mut given = Vec::new();
    let schema = facts.schema();
    let carrier = schema.find("request.carrier");
    let mut wanted: Vec<FactId> = carrier.into_iter().chain(policy.leaves().iter().map(|leaf| leaf.fact)).collect();
    wanted.sort_unstable();
    wanted.dedup();
    for id in wanted {
        let definition = schema.definition(id);
        match facts.fact(id) {
            Known::Absent => {}
            Known::Unanswered | Known::Partial(_) if definition.known == Stage::FirstPacket => {}
            Known::Unanswered | Known::Partial(_) => given.push(format!("{} unanswered", definition.name)),
            Known::Is(value) => match definition.kind.write(&value) {
                Some(text) => given.push(format!("{} = {text}", definition.name)),
                None => return Err(format!("{} has a value that cannot be written", definition.name)),
            },
        }
    }
    let subject = Record::brief(evidence, edition);
    let name = format!("{} at {} as of {}", subject.subject.show(), subject.nas, evidence.id);
    let given = given.join(",\n        ");
    // What was kept may be less than was known: the case is tried before it is given away.
    let stated = StatedFacts::read(&given, schema)?;
    let again = WhatIfAnswer::of(policy, schema, &stated);
    let same_rule = again.by_rule == rule.is_some() && rule.is_none_or(|rule| rule.title == again.by);
    let same_gate = again.gate.as_ref() == Some(&gate.name);
    match same_gate && same_rule && outcomes.contains(&again.outcome) {
        true => Ok(format!("case {} {{\n  given {given}\n  expect {expected} by {by}\n}}\n", quoted(&name))),
        false => Err(
            "with the facts that were kept it comes to something else: nothing secret is kept, and a rule asks for it"
                .into(),
        ),
    }
}
