use std::collections::HashMap;

use crate::diagnostic::Diagnostic;
use crate::grant::{Plan, Statement};
use crate::run::method::Method;
use crate::run::program::{Consequence, Gate, Program};
use crate::run::rules::Decided;
use crate::run::{Facts, Known};
use crate::schema::FactId;
use crate::source::Span;
use crate::value::Value;

/// A test inside a policy: given these facts, expect this outcome.
#[derive(Debug)]
pub(crate) struct Case {
    pub(crate) title: String,
    pub(crate) given: Given,
    /// What may carry the credential that `given` names, where it names one.
    pub(crate) methods: Option<Vec<Method>>,
    pub(crate) expect: Expected,
    pub(crate) by: Option<By>,
    pub(crate) with: Vec<Statement>,
    pub(crate) span: Span,
}

/// What a case states; what it does not state is absent.
#[derive(Debug, Default)]
pub(crate) struct Given(pub(crate) HashMap<FactId, Known<Value<'static>>>);

impl Facts for Given {
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
    /// What went otherwise than expected; none where the case passed.
    pub failure: Option<Diagnostic>,
}

impl Program {
    pub(crate) fn run(&self, case: &Case) -> CaseResult {
        let gate = self.gate(&case.given).map(|index| &self.gates[index]);
        let (got, by, consequence) = self.outcome(case, gate);
        let statements = match consequence {
            Some(Consequence::Grant(set)) => self.plans(set).map(|plan| plan.resolved(&case.given)).collect(),
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
        let failure =
            told.map(|told| Diagnostic::error("W601", case.span, format!("case \"{}\" fails", case.title)).label(told));
        CaseResult { title: case.title.clone(), failure }
    }

    fn outcome(&self, case: &Case, gate: Option<&Gate>) -> (Expected, Option<By>, Option<Consequence>) {
        let Some(gate) = gate else {
            return (Expected::Refuse, None, None);
        };
        if case.methods.as_ref().is_some_and(|methods| !methods.iter().any(|method| gate.accepts(*method))) {
            return (Expected::Refuse, None, None);
        }
        let (by, consequence) = match self.rules(gate, &case.given) {
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
