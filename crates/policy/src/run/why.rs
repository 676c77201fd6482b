//! Why a case came to what it came to, in a few sentences.

use crate::run::case::{By, Case, StatedFacts};
use crate::run::condition::TruthValue;
use crate::run::program::{Gate, Program};
use crate::run::rules::{Decided, LeafTrace};

/// Gates, or comparisons of a rule, that are told.
const MOST_TOLD: usize = 5;

impl Program {
    /// What the rule that decided was true of, and what kept the one that was expected from deciding.
    pub(crate) fn why(&self, case: &Case, gate: &Gate, decided: Decided, given: &StatedFacts) -> Vec<String> {
        let mut told = Vec::new();
        if let Decided::Rule(rule) | Decided::Undetermined(rule) = decided {
            let (title, mut leaves) = (&gate.rules[rule].title, Vec::new());
            let outcome = self.truth(gate.rules[rule].when, given, &mut leaves).outcome();
            let said = self.said(&leaves, |leaf| leaf == outcome);
            told.push(format!("\"{title}\" is {}: {said}", word(outcome)));
        }
        if let Some(By::Rule(expected)) = &case.by {
            told.extend(self.why_not(expected, gate, given, decided));
        }
        told
    }

    /// Why a rule did not decide.
    fn why_not(&self, title: &str, gate: &Gate, given: &StatedFacts, decided: Decided) -> Option<String> {
        let Some(place) = gate.rules.iter().position(|rule| rule.title == title) else {
            let other = self.gates.iter().find(|other| other.rules.iter().any(|rule| rule.title == title))?;
            return Some(format!(
                "\"{title}\" is a rule of gate {}, and gate {} took the request",
                other.name, gate.name
            ));
        };
        if decided == Decided::Rule(place) {
            return None;
        }
        let mut leaves = Vec::new();
        let outcome = self.truth(gate.rules[place].when, given, &mut leaves).outcome();
        Some(match outcome {
            TruthValue::True => format!("\"{title}\" is true too, and is tried later"),
            _ => format!("\"{title}\" is {}: {}", word(outcome), self.said(&leaves, |leaf| leaf != TruthValue::True)),
        })
    }

    /// Why no gate took the request.
    pub(crate) fn why_no_gate(&self, given: &StatedFacts) -> Vec<String> {
        let (_, passed) = self.gate_traced(given);
        let told = passed.iter().take(MOST_TOLD).map(|trace| {
            let said = self.said(&trace.leaves, |leaf| leaf != TruthValue::True);
            format!("gate {} does not take it: {said}", self.gates[trace.gate].name)
        });
        told.collect()
    }

    /// Comparisons that came to something, with what they came to.
    fn said(&self, leaves: &[LeafTrace], wanted: impl Fn(TruthValue) -> bool) -> String {
        let said = leaves.iter().filter(|trace| wanted(trace.outcome)).take(MOST_TOLD);
        let said: Vec<_> =
            said.map(|trace| format!("`{}` is {}", self.leaf(trace.leaf).text, word(trace.outcome))).collect();
        if said.is_empty() { "whatever its facts".into() } else { said.join(", ") }
    }
}

fn word(outcome: TruthValue) -> &'static str {
    match outcome {
        TruthValue::True => "true",
        TruthValue::False => "false",
        TruthValue::Absent => "unknown (absent)",
        TruthValue::Unanswered => "unknown (unanswered)",
    }
}
