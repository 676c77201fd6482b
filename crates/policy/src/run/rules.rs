use serde::{Deserialize, Serialize};

use crate::run::Facts;
use crate::run::condition::{Outcome, Truth};
use crate::run::program::{Consequence, Gate, Program, Undetermined};

/// What was looked at on the way to a decision.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Trace {
    /// Gates that were passed over.
    pub gates: Vec<GateTrace>,
    /// How many comparisons were looked at to choose the gate.
    pub leaves_before_rules: u16,
    /// Rules in the order tried.
    pub rules: Vec<RuleTrace>,
    /// Comparisons in the order looked at.
    pub leaves: Vec<LeafTrace>,
}

/// A gate that was passed over.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GateTrace {
    /// The gate's place in the policy.
    pub gate: u16,
    /// What its `when` came to.
    pub outcome: Outcome,
    /// How many comparisons had been looked at before and with this gate: its own
    /// are the last of them.
    pub leaves_until: u16,
}

/// What a rule's condition came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleTrace {
    /// The rule's place in its gate.
    pub rule: u16,
    /// What its condition came to.
    pub outcome: Outcome,
    /// How many comparisons had been looked at before and with this rule:
    /// its own are the last of them.
    pub leaves_until: u16,
}

/// What a comparison came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LeafTrace {
    /// The comparison's number in the policy.
    pub leaf: u16,
    /// What it came to.
    pub outcome: Outcome,
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
    pub(crate) fn gate(&self, facts: &dyn Facts, trace: &mut Trace) -> Option<usize> {
        for (index, gate) in self.gates.iter().enumerate() {
            let truth = gate.when.map_or(Truth::TRUE, |when| self.truth(when, facts, trace));
            if truth.is_true() {
                return Some(index);
            }
            let leaves_until = trace.leaves.len().min(usize::from(u16::MAX)) as u16;
            trace.gates.push(GateTrace { gate: index as u16, outcome: truth.outcome(), leaves_until });
        }
        None
    }

    /// Tries the rules of a gate in order, once.
    pub(crate) fn rules(&self, gate: &Gate, facts: &dyn Facts, trace: &mut Trace) -> Decided {
        trace.leaves_before_rules = trace.leaves.len().min(usize::from(u16::MAX)) as u16;
        for (index, rule) in gate.rules.iter().enumerate() {
            let truth = self.truth(rule.when, facts, trace);
            let leaves_until = trace.leaves.len().min(usize::from(u16::MAX)) as u16;
            trace.rules.push(RuleTrace { rule: index as u16, outcome: truth.outcome(), leaves_until });
            if truth.is_true() {
                return Decided::Rule(index);
            }
            // What follows might give more than this rule would have.
            let passed = gate.undetermined == Undetermined::Continue && matches!(rule.then, Consequence::Grant(_));
            if truth.might_be_true() && !passed {
                return Decided::Undetermined(index);
            }
        }
        Decided::Otherwise
    }
}
