use std::borrow::Cow;
use std::cmp::Ordering;

use serde::{Deserialize, Serialize};

use crate::parse::ast::Comparison;
use crate::run::program::{Expression, Leaf, LeafId, Program, Term, TermId, Test};
use crate::run::rules::LeafTrace;
use crate::run::{Facts, Known};
use crate::value::{Value, block_holds, folded, same_text};
use crate::window::holds;

/// What a condition or comparison came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TruthValue {
    /// True.
    True,
    /// False.
    False,
    /// Unknown: a fact is absent.
    Absent,
    /// Unknown: a store did not answer.
    Unanswered,
}

/// A truth value of Kleene's three, which also remembers whether the answer
/// that is missing could still make it true or false.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Truth {
    could_be_true: bool,
    could_be_false: bool,
    known: bool,
}

impl Truth {
    pub(crate) const TRUE: Self = Self { could_be_true: true, could_be_false: false, known: true };
    pub(crate) const FALSE: Self = Self { could_be_true: false, could_be_false: true, known: true };
    const ABSENT: Self = Self { could_be_true: false, could_be_false: false, known: false };
    const UNANSWERED: Self = Self { could_be_true: true, could_be_false: true, known: false };

    /// True for certain.
    pub fn is_true(self) -> bool {
        self == Self::TRUE
    }

    /// Not known, and a store's answer could make it true.
    pub fn might_be_true(self) -> bool {
        !self.known && self.could_be_true
    }

    /// The truth as a word.
    pub fn outcome(self) -> TruthValue {
        match self {
            Self::TRUE => TruthValue::True,
            Self::FALSE => TruthValue::False,
            _ if self.could_be_true || self.could_be_false => TruthValue::Unanswered,
            _ => TruthValue::Absent,
        }
    }

    fn of(truth: bool) -> Self {
        if truth { Self::TRUE } else { Self::FALSE }
    }

    fn and(self, other: Self) -> Self {
        if self == Self::FALSE || other == Self::FALSE {
            return Self::FALSE;
        }
        Self {
            could_be_true: self.could_be_true && other.could_be_true,
            could_be_false: self.could_be_false || other.could_be_false,
            known: self.known && other.known,
        }
    }

    fn not(self) -> Self {
        Self { could_be_true: self.could_be_false, could_be_false: self.could_be_true, known: self.known }
    }
}

/// Sees every comparison that is looked at. Decisions have none; whoever reads about
/// one has their comparisons listed.
pub(crate) trait Witness {
    fn see(&mut self, leaf: LeafId, truth: Truth);
}

impl Witness for () {
    fn see(&mut self, _: LeafId, _: Truth) {}
}

impl Witness for Vec<LeafTrace> {
    fn see(&mut self, leaf: LeafId, truth: Truth) {
        self.push(LeafTrace { leaf, outcome: truth.outcome() });
    }
}

impl Program {
    /// Evaluates a condition.
    pub(crate) fn truth(&self, node: TermId, facts: &dyn Facts, witness: &mut impl Witness) -> Truth {
        match self.term(node) {
            Term::Asks(leaf) => {
                let truth = self.leaf(*leaf).truth(facts);
                witness.see(*leaf, truth);
                truth
            }
            Term::Not(inner) => self.truth(*inner, facts, witness).not(),
            Term::All(terms) => self.fold(terms, Truth::TRUE, Truth::FALSE, Truth::and, facts, witness),
            Term::Any(terms) => {
                let or = |a: Truth, b: Truth| a.not().and(b.not()).not();
                self.fold(terms, Truth::FALSE, Truth::TRUE, or, facts, witness)
            }
        }
    }

    /// Joins terms and stops at the one that settles it.
    fn fold(
        &self,
        terms: &[TermId],
        start: Truth,
        settled: Truth,
        join: impl Fn(Truth, Truth) -> Truth,
        facts: &dyn Facts,
        witness: &mut impl Witness,
    ) -> Truth {
        let mut truth = start;
        for &term in terms {
            truth = join(truth, self.truth(term, facts, witness));
            if truth == settled {
                break;
            }
        }
        truth
    }
}

impl Leaf {
    fn truth(&self, facts: &dyn Facts) -> Truth {
        let left = match (self.left.value(facts), &self.test) {
            // Whether there is such a thing is what a silent store did not say.
            (Known::Unanswered, _) => return Truth::UNANSWERED,
            (known, Test::Exists) => return Truth::of(known != Known::Absent),
            (Known::Absent, _) => return Truth::ABSENT,
            (Known::Partial(part), _) => return self.of_part(&part),
            (Known::Is(value), _) => value,
        };
        if let Test::Compare(comparison, right) = &self.test {
            return match right.value(facts) {
                Known::Is(right) => Truth::of(compare(*comparison, &left, &right, self.ignore_case)),
                Known::Absent => Truth::ABSENT,
                Known::Unanswered | Known::Partial(_) => Truth::UNANSWERED,
            };
        }
        Truth::of(self.holds(&left))
    }

    /// What is found in a part of a set is true of the whole; what is not found
    /// may be in the rest.
    fn of_part(&self, part: &Value<'_>) -> Truth {
        match (&self.test, self.holds(part)) {
            (Test::ContainsMember(_) | Test::AnyOf(_), true) => Truth::TRUE,
            (Test::AllOf(_), false) => Truth::FALSE,
            _ => Truth::UNANSWERED,
        }
    }

    fn holds(&self, left: &Value<'_>) -> bool {
        let same = |a: &Value<'_>, b: &Value<'_>| equal(a, b, self.ignore_case);
        match (&self.test, left) {
            (Test::True, Value::Boolean(truth)) => *truth,
            (Test::OneOf(list), left) => list.iter().any(|value| same(left, value)),
            (Test::Range(first, last), left) => {
                order(left, first).is_some_and(Ordering::is_ge) && order(left, last).is_some_and(Ordering::is_le)
            }
            (Test::Block(block, length), Value::Address(address)) => block_holds(*block, *length, *address),
            (Test::StartsWith(text), Value::Text(left)) => self.fold(left).starts_with(&*self.fold(text)),
            (Test::EndsWith(text), Value::Text(left)) => self.fold(left).ends_with(&*self.fold(text)),
            (Test::ContainsText(text), Value::Text(left)) => self.fold(left).contains(&*self.fold(text)),
            (Test::ContainsMember(member), Value::Set(set)) => set.iter().any(|value| same(value, member)),
            (Test::AnyOf(list), Value::Set(set)) => set.iter().any(|value| list.iter().any(|known| same(value, known))),
            (Test::AllOf(list), Value::Set(set)) => set.iter().all(|value| list.iter().any(|known| same(value, known))),
            (Test::Windows(windows, zone), Value::Instant(now)) => holds(windows, zone, *now),
            (Test::Matches(regex), Value::Text(left)) => regex.is_match(left),
            // The check lets no other pair through.
            _ => false,
        }
    }

    fn fold<'t>(&self, text: &'t str) -> Cow<'t, str> {
        match self.ignore_case {
            true => folded(text).collect::<String>().into(),
            false => text.into(),
        }
    }
}

impl Expression {
    pub(crate) fn value<'f>(&'f self, facts: &'f dyn Facts) -> Known<Value<'f>> {
        let text = |inner: &'f Self, f: &dyn Fn(&str) -> Option<String>| {
            inner.value(facts).and_then(|value| match value {
                Value::Text(text) => f(&text).map(Value::owned).into(),
                _ => Known::Absent,
            })
        };
        match self {
            Self::Fact(id) => facts.fact(*id),
            Self::Literal(value) => Known::Is(value.clone()),
            Self::Lower(inner) => text(inner, &|t| Some(t.to_lowercase())),
            Self::Upper(inner) => text(inner, &|t| Some(t.to_uppercase())),
            Self::Trim(inner) => text(inner, &|t| Some(t.trim().to_owned())),
            Self::Before(inner, separator) => {
                text(inner, &|t| Some(t.split_once(separator.as_str()).map_or(t, |(before, _)| before).to_owned()))
            }
            Self::After(inner, separator) => {
                text(inner, &|t| t.split_once(separator.as_str()).map(|(_, after)| after.to_owned()))
            }
            Self::Keyed(id, key) => {
                let member = |set: &Value<'_>| match set {
                    Value::Set(members) => members.iter().find_map(|member| match member {
                        Value::Text(text) => text.strip_prefix(key.as_str()).map(|rest| Value::owned(rest.to_owned())),
                        _ => None,
                    }),
                    _ => None,
                };
                match facts.fact(*id) {
                    Known::Is(set) => member(&set).into(),
                    // It may be in the rest.
                    Known::Partial(set) => member(&set).map_or(Known::Unanswered, Known::Is),
                    Known::Absent => Known::Absent,
                    Known::Unanswered => Known::Unanswered,
                }
            }
            Self::OfStore(of) => of.value(facts),
            Self::Capture(inner, regex) => {
                text(inner, &|t| regex.captures(t).and_then(|found| Some(found.get(1)?.as_str().to_owned())))
            }
        }
    }
}

fn compare(comparison: Comparison, left: &Value<'_>, right: &Value<'_>, ignore_case: bool) -> bool {
    let ordered = |accept: fn(Ordering) -> bool| order(left, right).is_some_and(accept);
    match comparison {
        Comparison::Equal => equal(left, right, ignore_case),
        Comparison::NotEqual => !equal(left, right, ignore_case),
        Comparison::Less => ordered(Ordering::is_lt),
        Comparison::LessOrEqual => ordered(Ordering::is_le),
        Comparison::Greater => ordered(Ordering::is_gt),
        Comparison::GreaterOrEqual => ordered(Ordering::is_ge),
    }
}

fn equal(a: &Value<'_>, b: &Value<'_>, ignore_case: bool) -> bool {
    match (a, b) {
        (Value::Text(a), Value::Text(b)) => same_text(a, b, ignore_case),
        (a, b) => a == b,
    }
}

fn order(a: &Value<'_>, b: &Value<'_>) -> Option<Ordering> {
    match (a, b) {
        (Value::Integer(a), Value::Integer(b)) => Some(a.cmp(b)),
        (Value::Duration(a), Value::Duration(b)) => Some(a.cmp(b)),
        (Value::Address(a), Value::Address(b)) if a.is_ipv4() == b.is_ipv4() => Some(a.cmp(b)),
        (Value::Mac(a), Value::Mac(b)) => Some(a.cmp(b)),
        (Value::Instant(a), Value::Instant(b)) => Some(a.cmp(b)),
        _ => None,
    }
}
