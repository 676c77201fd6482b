use crate::run::Facts;
use crate::run::condition::{Truth, TruthValue, Witness};
use crate::run::program::{Consequence, Gate, LeafId, Program, Rule, Undetermined};

/// A gate that was passed over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GateTrace {
    /// The gate's place in the policy.
    pub gate: usize,
    /// What its `when` came to.
    pub outcome: TruthValue,
    /// The comparisons that were looked at, in order.
    pub leaves: Vec<LeafTrace>,
}

/// What a rule's condition came to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleTrace {
    /// The rule's place in its gate.
    pub rule: usize,
    /// What its condition came to.
    pub outcome: TruthValue,
    /// The comparisons that were looked at, in order.
    pub leaves: Vec<LeafTrace>,
}

/// What a comparison came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LeafTrace {
    /// The comparison.
    pub leaf: LeafId,
    /// What it came to.
    pub outcome: TruthValue,
}

/// What the rules of a gate came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Decided {
    /// This rule was the first that is true.
    Rule(usize),
    /// No rule is true.
    Otherwise,
    /// A store that did not answer could make this rule true, so the gate's
    /// `undetermined` decides.
    Undetermined(usize),
}

impl Program {
    /// The first gate whose `when` is true.
    pub(crate) fn gate(&self, facts: &dyn Facts) -> Option<usize> {
        self.gates.iter().position(|gate| gate.when.is_none_or(|when| self.truth(when, facts, &mut ()).is_true()))
    }

    /// The first gate whose `when` is true, and those that were passed over.
    pub(crate) fn gate_traced(&self, facts: &dyn Facts) -> (Option<usize>, Vec<GateTrace>) {
        let mut passed = Vec::new();
        for (gate, definition) in self.gates.iter().enumerate() {
            let mut leaves = Vec::new();
            let truth = definition.when.map_or(Truth::TRUE, |when| self.truth(when, facts, &mut leaves));
            if truth.is_true() {
                return (Some(gate), passed);
            }
            passed.push(GateTrace { gate, outcome: truth.outcome(), leaves });
        }
        (None, passed)
    }

    /// What the rules of a gate come to: those that the index lets through are tried in
    /// order, once.
    pub(crate) fn rules(&self, gate: &Gate, facts: &dyn Facts) -> Decided {
        let tried = |place: usize| gate.settles(place, self.rule(&gate.rules[place], facts, &mut ()));
        let settled = match gate.index.candidates(facts) {
            Some(mut candidates) => candidates.find_map(tried),
            None => (0..gate.rules.len()).find_map(tried),
        };
        settled.unwrap_or(Decided::Otherwise)
    }

    /// The same, every rule tried in order, and what each came to.
    pub(crate) fn rules_traced(&self, gate: &Gate, facts: &dyn Facts) -> (Decided, Vec<RuleTrace>) {
        let mut tried = Vec::new();
        for (place, rule) in gate.rules.iter().enumerate() {
            let mut leaves = Vec::new();
            let truth = self.rule(rule, facts, &mut leaves);
            tried.push(RuleTrace { rule: place, outcome: truth.outcome(), leaves });
            if let Some(decided) = gate.settles(place, truth) {
                return (decided, tried);
            }
        }
        (Decided::Otherwise, tried)
    }

    /// Whether a rule is true, or could be made true by an answer that is missing.
    pub(crate) fn may_decide(&self, rule: &Rule, facts: &dyn Facts) -> bool {
        let truth = self.rule(rule, facts, &mut ());
        truth.is_true() || truth.might_be_true()
    }

    fn rule(&self, rule: &Rule, facts: &dyn Facts, witness: &mut impl Witness) -> Truth {
        self.truth(rule.when, facts, witness)
    }
}

impl Gate {
    /// Whether a rule whose condition came to this settles the request.
    fn settles(&self, place: usize, truth: Truth) -> Option<Decided> {
        if truth.is_true() {
            return Some(Decided::Rule(place));
        }
        // What follows might give more than this rule would have.
        let passed =
            || self.undetermined == Undetermined::Continue && matches!(self.rules[place].then, Consequence::Grant(_));
        (truth.might_be_true() && !passed()).then_some(Decided::Undetermined(place))
    }
}
