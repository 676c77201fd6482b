use regnant_base::go_on;

use crate::acl::Acl;
use crate::check::{self, NO_GATE};
use crate::diagnostic::{Diagnostic, Severity};
use crate::grant::{Content, Grant, NoValue, Plan, Statement, StatementValue};
use crate::moment::odd_at;
use crate::parse;
use crate::run::Facts;
use crate::run::case::{Case, CaseResult, StatedFacts};
use crate::run::program::{Consequence, Gate, Leaf, LeafId, Program, Rule, Term, TermId};
use crate::run::rules::{Decided, GateTrace, RuleTrace};
use crate::schema::Schema;
use crate::source::Source;

/// A policy whose text has been read.
#[derive(Debug)]
pub struct Parsed {
    source: Source,
    policy: parse::ast::Policy,
    diagnostics: Vec<Diagnostic>,
}

impl Parsed {
    /// Reads a policy. Mistakes are kept and told by [`Checked::diagnostics`].
    pub fn parse(source: Source) -> Self {
        let (policy, diagnostics) = parse::parse(&source);
        Self { source, policy, diagnostics }
    }

    /// Checks names and types against a schema.
    pub fn check(self, schema: &Schema) -> Checked {
        let mut diagnostics = self.diagnostics;
        let syntax_errors = !diagnostics.is_empty();
        let (program, cases, found) = check::check(&self.policy, &self.source, schema);
        // After a mistake of syntax, "nobody uses this" may only mean that it was not read.
        diagnostics.extend(
            found.into_iter().filter(|d| !syntax_errors || (d.severity == Severity::Error && d.code != NO_GATE)),
        );
        diagnostics.sort_by_key(|d| (d.labels[0].span.start, d.code));
        bound(&mut diagnostics);
        Checked { source: self.source, program, cases, diagnostics }
    }
}

/// Nobody reads more, and each costs time to show.
pub(crate) const MOST_DIAGNOSTICS: usize = 100;

/// Keeps the first findings, errors before warnings, and tells how many more there are.
fn bound(diagnostics: &mut Vec<Diagnostic>) {
    let more = diagnostics.len().saturating_sub(MOST_DIAGNOSTICS);
    if more == 0 {
        return;
    }
    diagnostics.sort_by_key(|d| std::cmp::Reverse(d.severity));
    diagnostics.truncate(MOST_DIAGNOSTICS);
    diagnostics.sort_by_key(|d| (d.labels[0].span.start, d.code));
    if let Some(last) = diagnostics.last_mut() {
        last.notes.push(format!("there are {more} more findings; mend these first"));
    }
}

/// A policy whose names and types have been checked.
#[derive(Debug)]
pub struct Checked {
    source: Source,
    program: Program,
    cases: Vec<Case>,
    diagnostics: Vec<Diagnostic>,
}

impl Checked {
    /// Everything found, in the order of the text.
    pub fn diagnostics(&self) -> &[Diagnostic] {
        &self.diagnostics
    }

    /// What its first case states.
    pub(crate) fn stated(&self) -> StatedFacts {
        self.cases.first().map(|case| case.given.clone()).unwrap_or_default()
    }

    /// The text that was checked.
    pub fn source(&self) -> &Source {
        &self.source
    }

    /// The policy, ready to run; refused where anything found is an error.
    pub fn compile(self) -> Result<Compiled, Box<Self>> {
        if self.diagnostics.iter().any(|d| d.severity == Severity::Error) {
            return Err(Box::new(self));
        }
        Ok(Compiled { source: self.source, program: self.program, cases: self.cases, warnings: self.diagnostics })
    }
}

/// A policy that decides every request, in bounded time, without failing.
#[derive(Debug)]
pub struct Compiled {
    source: Source,
    program: Program,
    cases: Vec<Case>,
    warnings: Vec<Diagnostic>,
}

impl Compiled {
    /// Reads, checks and compiles in one go.
    pub fn from_source(source: Source, schema: &Schema) -> Result<Self, Box<Checked>> {
        Parsed::parse(source).check(schema).compile()
    }

    /// The stores that it names; a [`crate::StoreId`] is a place among them.
    pub fn stores(&self) -> &[String] {
        &self.program.stores
    }

    /// The first gate whose `when` is true.
    pub fn choose_gate(&self, facts: &dyn Facts) -> Option<usize> {
        self.program.gate(facts)
    }

    /// What the rules of a gate come to. Those that can be true at all are tried in
    /// order, once.
    pub fn decide(&self, gate: usize, facts: &dyn Facts) -> Decided {
        self.program.rules(&self.program.gates[gate], facts)
    }

    /// What a gate that is watched gives in the place of a refusal by a rule, or by `otherwise`. Whoever
    /// presented an identity that is not proved is given nothing, though the gate went on.
    pub fn observed(&self, gate: usize, rule: Option<usize>, facts: &dyn Facts) -> Option<usize> {
        let gate = &self.program.gates[gate];
        let observe = gate.observe.as_ref()?;
        let always = rule.is_some_and(|rule| gate.rules[rule].always);
        let applies = self.program.truth(observe.when, facts, &mut ()).is_true();
        (applies && !always).then_some(observe.grants)
    }

    /// The same as [`Self::choose_gate`], for whoever wants to know why: with the gates
    /// that were passed over.
    pub fn explain_gate(&self, facts: &dyn Facts) -> (Option<usize>, Vec<GateTrace>) {
        self.program.gate_traced(facts)
    }

    /// The same as [`Self::decide`], for whoever wants to know why: every rule is tried,
    /// one after the other.
    pub fn explain(&self, gate: usize, facts: &dyn Facts) -> (Decided, Vec<RuleTrace>) {
        self.program.rules_traced(&self.program.gates[gate], facts)
    }

    /// Whether a rule is true, or could be made true by an answer that is missing, whatever the rules before it
    /// come to.
    pub fn may_decide(&self, rule: &Rule, facts: &dyn Facts) -> bool {
        self.program.may_decide(rule, facts)
    }

    /// Runs every case of the policy that depends on nothing but the policy.
    pub fn run_cases(&self) -> Vec<CaseResult> {
        self.cases.iter().filter(|case| !case.now).inspect(|_| go_on()).map(|case| self.program.run(case)).collect()
    }

    /// The cases that are judged against the records, by their numbers, with what they state.
    pub fn now_cases(&self) -> impl Iterator<Item = (usize, &StatedFacts)> {
        self.cases.iter().enumerate().filter(|(_, case)| case.now).map(|(number, case)| (number, &case.given))
    }

    /// Runs one of these with what it states and what was looked up.
    pub fn judge_now(&self, number: usize, facts: &StatedFacts) -> CaseResult {
        self.program.run_with(&self.cases[number], facts)
    }

    /// The gates, in the order tried.
    pub fn gates(&self) -> &[Gate] {
        &self.program.gates
    }

    /// A part of a condition, such as the `when` of a rule.
    pub fn term(&self, id: TermId) -> &Term {
        self.program.term(id)
    }

    /// A comparison.
    pub fn leaf(&self, id: LeafId) -> &Leaf {
        self.program.leaf(id)
    }

    /// All comparisons.
    pub fn leaves(&self) -> &[Leaf] {
        &self.program.leaves
    }

    /// How many combinations of grants there are.
    pub fn grant_sets(&self) -> usize {
        self.program.grant_sets.len()
    }

    /// The grants of a combination, in the rule's order.
    pub fn grants(&self, set: usize) -> impl Iterator<Item = &Grant> {
        self.program.grant_sets[set].iter().map(|&grant| &self.program.grants[grant])
    }

    /// What a combination of grants says, with the values that facts give it; or why it
    /// cannot be given.
    pub fn statements(&self, set: usize, facts: &dyn Facts) -> Result<Vec<Statement>, NoValue> {
        self.program.plans(set).map(|plan| plan.resolved(facts)).collect()
    }

    /// The same with the longest values that facts may give it.
    pub fn longest_statements(&self, set: usize) -> Vec<Statement> {
        self.program.plans(set).map(Plan::longest).collect()
    }

    /// The statements of a combination of grants, each with its grant, and whether it takes a value from a
    /// fact; it has the longest then.
    pub fn stated(&self, set: usize) -> impl Iterator<Item = (&Grant, Statement, bool)> {
        let statements = |grant: &'_ Grant| -> Vec<_> {
            grant.statements.iter().map(|plan| (plan.longest(), plan.varies())).collect()
        };
        self.grants(set).flat_map(move |grant| {
            statements(grant).into_iter().map(move |(statement, varies)| (grant, statement, varies))
        })
    }

    /// Whether a gate that is watched may give what it gives then, as far as these facts are known.
    pub fn may_observe(&self, gate: usize, facts: &dyn Facts) -> Option<usize> {
        let observe = self.program.gates[gate].observe.as_ref()?;
        let truth = self.program.truth(observe.when, facts, &mut ());
        (truth.is_true() || truth.might_be_true()).then_some(observe.grants)
    }

    /// The grants that send a secret of this name.
    pub fn grants_naming_secret<'p>(&'p self, name: &'p str) -> impl Iterator<Item = &'p str> {
        let names = move |content: &Content| matches!(content, Content::Is(StatementValue::Secret(known)) if known.eq_ignore_ascii_case(name));
        let grants = self.program.grants.iter();
        let naming = grants.filter(move |grant| {
            grant.statements.iter().any(|plan| plan.values.iter().any(|(_, content)| names(content)))
        });
        naming.map(|grant| grant.name.as_str())
    }

    /// The names of all grants.
    pub fn grant_names(&self) -> impl Iterator<Item = &str> {
        self.program.grants.iter().map(|grant| grant.name.as_str())
    }

    /// What grants of these names say together, with the longest values that facts may give
    /// it, and whether facts give any; an error is the name that there is not.
    pub fn longest_of<'n>(&self, names: &[&'n str]) -> Result<(Vec<Statement>, bool), &'n str> {
        let grant = |name: &&'n str| self.program.grants.iter().find(|grant| grant.name == **name).ok_or(*name);
        let grants = names.iter().map(grant).collect::<Result<Vec<_>, _>>()?;
        let plans = || grants.iter().flat_map(|grant| &grant.statements);
        Ok((plans().map(Plan::longest).collect(), plans().any(Plan::varies)))
    }

    /// Whether a combination of grants takes a value from a fact.
    pub fn varies(&self, set: usize) -> bool {
        self.program.plans(set).any(Plan::varies)
    }

    /// The combinations of grants that a gate may give, once each.
    pub fn given_by(&self, gate: usize) -> Vec<usize> {
        let gate = &self.program.gates[gate];
        let all = gate.rules.iter().map(|rule| &rule.then).chain([&gate.otherwise]);
        let observed = gate.observe.iter().map(|observe| observe.grants);
        let mut sets: Vec<_> = all.filter_map(Consequence::grants).chain(observed).collect();
        sets.sort_unstable();
        sets.dedup();
        sets
    }

    /// Whether a gate may take a request of which these facts are known; what they do not
    /// say counts as unanswered.
    pub fn may_take(&self, gate: usize, facts: &dyn Facts) -> bool {
        let truth = |when| self.program.truth(when, facts, &mut ());
        self.program.gates[gate].when.map(truth).is_none_or(|truth| truth.is_true() || truth.might_be_true())
    }

    /// The access list of this name.
    pub fn acl(&self, name: &str) -> Option<&Acl> {
        self.program.acls.iter().find(|acl| acl.name == name)
    }

    /// What is odd about it at a moment, in seconds since 1970: rules that end or have ended, that are off or
    /// copied, and gates that are watched.
    pub fn odd_at(&self, now: i64) -> Vec<Diagnostic> {
        odd_at(&self.program.gates, now)
    }

    /// What is odd about the policy, though it works.
    pub fn warnings(&self) -> &[Diagnostic] {
        &self.warnings
    }

    /// The text.
    pub fn source(&self) -> &Source {
        &self.source
    }
}
