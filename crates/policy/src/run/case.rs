use std::collections::HashMap;

use crate::check::NO_GATE;
use crate::diagnostic::{Diagnostic, Severity};
use crate::grant::{Plan, Statement};
use crate::pipeline::Parsed;
use crate::run::method::Method;
use crate::run::program::{Consequence, Gate, Program};
use crate::run::rules::Decided;
use crate::run::{Facts, Known};
use crate::schema::{FactId, Schema};
use crate::source::{Source, Span};
use crate::value::Value;

/// A test inside a policy: given these facts, expect this outcome.
#[derive(Debug)]
pub(crate) struct Case {
    pub(crate) title: String,
    /// Whether it is judged against the records.
    pub(crate) now: bool,
    pub(crate) given: StatedFacts,
    /// What may carry the credential that `given` names, where it names one.
    pub(crate) methods: Option<Vec<Method>>,
    pub(crate) expect: Expected,
    pub(crate) by: Option<By>,
    pub(crate) with: Vec<Statement>,
    /// Where its title stands.
    pub(crate) titled: Span,
    /// Where it says what it expects.
    pub(crate) span: Span,
}

/// What a case states; what it does not state is absent.
#[derive(Clone, Debug, Default)]
pub struct StatedFacts(pub(crate) HashMap<FactId, Known<Value<'static>>>);

impl StatedFacts {
    /// Reads facts as a case states them: `nas.kind = switch, user.groups = { "staff" }`.
    pub fn read(text: &str, schema: &Schema) -> Result<Self, String> {
        const BEFORE: &str = "case \"facts\" { given ";
        let source = Source::new("facts", format!("{BEFORE}{text}\nexpect refuse }}"));
        let checked = Parsed::parse(source).check(schema);
        // There is no gate, which is nothing to be told here.
        let errors =
            checked.diagnostics().iter().filter(|found| found.severity == Severity::Error && found.code != NO_GATE);
        let told: Vec<_> = errors.map(|found| format!("{}{}", found.message, notes(found))).collect();
        match told.is_empty() {
            true => Ok(checked.stated()),
            false => Err(told.join("; ")),
        }
    }

    /// States a fact that is not stated yet.
    pub fn state(&mut self, id: FactId, value: Known<Value<'static>>) {
        self.0.entry(id).or_insert(value);
    }

    /// The fact, where it is stated.
    pub fn stated(&self, id: FactId) -> Option<Known<Value<'_>>> {
        self.0.get(&id).cloned()
    }
}

fn notes(found: &Diagnostic) -> String {
    found.notes.first().map_or(String::new(), |note| format!(" ({note})"))
}

impl Facts for StatedFacts {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        self.0.get(&id).cloned().unwrap_or(Known::Absent)
    }
}

#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Expected {
    /// The names of the grants, sorted.
    Grant(Vec<String>),
    Refuse,
    Silence,
}

#[derive(Debug, PartialEq, Eq)]
pub(crate) enum By {
    Rule(String),
    Otherwise,
}

/// How a case went.
#[derive(Clone, Debug)]
pub struct CaseResult {
    /// The case's title.
    pub title: String,
    /// Where its title stands.
    pub span: Span,
    /// What went otherwise than expected; none where the case passed.
    pub failure: Option<Diagnostic>,
    /// The gate that took it, and what of it decided.
    pub decided: Option<(usize, Decided)>,
}

impl Program {
    /// Runs a case with the facts that it states.
    pub(crate) fn run(&self, case: &Case) -> CaseResult {
        self.run_with(case, &case.given)
    }

    /// Runs a case with these facts.
    pub(crate) fn run_with(&self, case: &Case, given: &StatedFacts) -> CaseResult {
        let taken = self.gate(given);
        let gate = taken.map(|index| &self.gates[index]);
        let decided =
            taken.filter(|_| Self::accepts(case, gate)).map(|index| (index, self.rules(&self.gates[index], given)));
        let (got, by, consequence) = self.outcome(case, given, gate);
        let statements = match consequence {
            Some(Consequence::Grant(set)) => self.plans(set).map(|plan| plan.resolved(given)).collect(),
            _ => Ok(Vec::new()),
        };
        let (statements, no_value) = match statements {
            Ok(statements) => (statements, None),
            Err(no_value) => (Vec::new(), Some(no_value.to_string())),
        };
        let missing = case.with.iter().find(|wanted| !statements.contains(wanted));
        let wrong_by = case.by.as_ref().is_some_and(|expected| by.as_ref() != Some(expected));
        let told = match (got == case.expect && !wrong_by, missing) {
            (true, None) => no_value,
            (true, Some(statement)) => {
                Some(no_value.unwrap_or_else(|| format!("the grant does not say `{}`", statement.written())))
            }
            (false, _) => Some(format!("{}{}", describe(&got), describe_by(by.as_ref(), gate))),
        };
        let failure = told.map(|told| {
            let fails = Diagnostic::error("W601", case.span, format!("case \"{}\" fails", case.title)).label(told);
            let why = match (taken, decided) {
                (None, _) => self.why_no_gate(given),
                (_, Some((gate, decided))) => self.why(case, &self.gates[gate], decided, given),
                // The gate does not accept the method, which is said.
                (Some(_), None) => Vec::new(),
            };
            why.into_iter().fold(fails, Diagnostic::note)
        });
        CaseResult { title: case.title.clone(), span: case.titled, failure, decided }
    }

    /// Whether a gate accepts what may carry the credential of a case.
    fn accepts(case: &Case, gate: Option<&Gate>) -> bool {
        let accepts =
            |methods: &Vec<Method>| methods.iter().any(|method| gate.is_some_and(|gate| gate.accepts(*method)));
        case.methods.as_ref().is_none_or(accepts)
    }

    fn outcome(
        &self,
        case: &Case,
        given: &StatedFacts,
        gate: Option<&Gate>,
    ) -> (Expected, Option<By>, Option<Consequence>) {
        let Some(gate) = gate else {
            return (Expected::Refuse, None, None);
        };
        if !Self::accepts(case, Some(gate)) {
            return (Expected::Refuse, None, None);
        }
        let (by, consequence) = match self.rules(gate, given) {
            Decided::Rule(index) => (By::Rule(gate.rules[index].title.clone()), gate.rules[index].then.clone()),
            Decided::Otherwise => (By::Otherwise, gate.otherwise.clone()),
            Decided::Undetermined(index) => {
                (By::Rule(gate.rules[index].title.clone()), gate.undetermined.consequence())
            }
        };
        let expected = match &consequence {
            Consequence::Grant(set) => Expected::Grant(self.set_names(*set)),
            Consequence::Refuse(_) => Expected::Refuse,
            Consequence::Silence => Expected::Silence,
        };
        (expected, Some(by), Some(consequence))
    }

    fn set_names(&self, set: usize) -> Vec<String> {
        let mut names: Vec<_> = self.grant_sets[set].iter().map(|&grant| self.grants[grant].name.clone()).collect();
        names.sort();
        names
    }

    /// What a combination of grants says.
    pub(crate) fn plans(&self, set: usize) -> impl Iterator<Item = &Plan> {
        self.grant_sets[set].iter().flat_map(|&grant| &self.grants[grant].statements)
    }
}

fn describe(got: &Expected) -> String {
    match got {
        Expected::Grant(names) => format!("the policy grants {}", names.join(", ")),
        Expected::Refuse => "the policy refuses".into(),
        Expected::Silence => "the policy stays silent".into(),
    }
}

fn describe_by(by: Option<&By>, gate: Option<&Gate>) -> String {
    match (by, gate) {
        (Some(By::Rule(title)), _) => format!(" by \"{title}\""),
        (Some(By::Otherwise), _) => " by otherwise".into(),
        (None, Some(gate)) => format!(": gate {} does not accept the method", gate.name),
        (None, None) => ": no gate takes the request".into(),
    }
}
