//! Which rules of a gate can be true at all, found by the values of a few facts, so
//! that ten thousand rules cost what a handful costs.
//!
//! A rule is kept under a comparison that must hold for it to be true: a fact equal to
//! one of some values, or a set that holds one of them. Where that fact has another
//! value, or none, the rule is neither true nor might an answer make it so, and nobody
//! need try it. Values are kept as numbers mixed from them; two that meet by chance
//! only bring in a rule that is then tried and false.

use std::collections::HashMap;
use std::net::IpAddr;

use crate::parse::ast::Comparison;
use crate::run::program::{Expression, Leaf, Program, Rule, Term, TermId, Test};
use crate::run::{Facts, Known};
use crate::schema::FactId;
use crate::value::{Value, folded};

/// With fewer rules, trying each is as fast.
const LEAST_RULES: usize = 12;
/// Every fact of an index is asked at each decision.
const MOST_FACTS: usize = 6;
/// Fewer rules under a fact are not worth asking it.
const LEAST_UNDER_FACT: usize = 4;

/// Rules by the value that they need, in order.
type ByValue = HashMap<u64, Box<[u32]>>;

/// The rules of one gate by the values that they need.
#[derive(Debug, Default)]
pub(crate) struct RuleIndex {
    facts: Vec<(FactId, ByValue)>,
    /// Rules that no value rules out.
    always: Box<[u32]>,
    /// For groups of one store: the store that has the account, which must be told, and the groups by store,
    /// which must be absent; elsewhere all groups do not say enough.
    of_one_store: Vec<(FactId, FactId)>,
    used: bool,
}

/// What a rule needs: one of these values of a fact.
#[derive(Clone, Debug)]
struct Need {
    fact: FactId,
    values: Vec<u64>,
    of_one_store: Option<(FactId, FactId)>,
}

impl RuleIndex {
    /// Chooses, for each rule, what it needs that the fewest others need too.
    pub(crate) fn new(program: &Program, rules: &[Rule]) -> Self {
        if rules.len() < LEAST_RULES {
            return Self::default();
        }
        let needs: Vec<Vec<Need>> = rules.iter().map(|rule| program.needs(rule.when)).collect();
        let mut how_many = HashMap::<(FactId, u64), usize>::new();
        for need in needs.iter().flatten() {
            for value in &need.values {
                *how_many.entry((need.fact, *value)).or_default() += 1;
            }
        }
        let crowd = |need: &Need| need.values.iter().map(|value| how_many[&(need.fact, *value)]).sum::<usize>();
        let mut facts = HashMap::<FactId, usize>::new();
        for need in needs.iter().filter_map(|needs| needs.iter().min_by_key(|need| crowd(need))) {
            *facts.entry(need.fact).or_default() += 1;
        }
        let mut facts: Vec<_> = facts.into_iter().filter(|(_, rules)| *rules >= LEAST_UNDER_FACT).collect();
        facts.sort_by_key(|(fact, rules)| (std::cmp::Reverse(*rules), *fact));
        facts.truncate(MOST_FACTS);
        let mut under: Vec<(FactId, HashMap<u64, Vec<u32>>)> =
            facts.into_iter().map(|(fact, _)| (fact, HashMap::new())).collect();
        let (mut always, mut of_one_store) = (Vec::new(), Vec::new());
        for (place, needs) in (0u32..).zip(&needs) {
            let kept = |need: &&Need| under.iter().any(|(fact, _)| *fact == need.fact);
            let Some(need) = needs.iter().filter(kept).min_by_key(|need| crowd(need)) else {
                always.push(place);
                continue;
            };
            of_one_store.extend(need.of_one_store);
            let of_fact = under.iter_mut().find(|(fact, _)| *fact == need.fact);
            let of_fact = &mut of_fact.expect("it was filtered by these").1;
            for value in &need.values {
                let rules = of_fact.entry(*value).or_default();
                // A value that is written twice is one.
                if rules.last() != Some(&place) {
                    rules.push(place);
                }
            }
        }
        let boxed =
            |rules: HashMap<u64, Vec<u32>>| rules.into_iter().map(|(value, list)| (value, list.into())).collect();
        let facts: Vec<_> = under.into_iter().map(|(fact, rules)| (fact, boxed(rules))).collect();
        of_one_store.sort_unstable();
        of_one_store.dedup();
        Self { used: !facts.is_empty(), facts, always: always.into(), of_one_store }
    }

    /// The rules that may be true, in order; `None` where that is not known, since some
    /// store did not answer or there is no index.
    pub(crate) fn candidates(&self, facts: &dyn Facts) -> Option<Candidates<'_>> {
        if !self.used {
            return None;
        }
        for (account, by_store) in &self.of_one_store {
            let told = matches!(facts.fact(*account), Known::Is(_) | Known::Absent);
            if !told || facts.fact(*by_store) != Known::Absent {
                return None;
            }
        }
        let mut lists = Vec::with_capacity(8);
        lists.push(&self.always[..]);
        for (fact, rules) in &self.facts {
            let mut take = |value: &Value<'_>| lists.extend(rules.get(&mixed(value)).map(|list| &list[..]));
            match facts.fact(*fact) {
                Known::Is(Value::Set(members)) => members.iter().for_each(take),
                Known::Is(value) => take(&value),
                Known::Absent => {}
                Known::Unanswered | Known::Partial(_) => return None,
            }
        }
        Some(Candidates { lists })
    }
}

/// Rules in order, out of several lists that are each in order.
pub(crate) struct Candidates<'i> {
    lists: Vec<&'i [u32]>,
}

impl Iterator for Candidates<'_> {
    type Item = usize;

    fn next(&mut self) -> Option<usize> {
        let next = *self.lists.iter().filter_map(|list| list.first()).min()?;
        for list in &mut self.lists {
            if list.first() == Some(&next) {
                *list = &list[1..];
            }
        }
        Some(next as usize)
    }
}

impl Program {
    /// Every comparison that must hold for a condition to be true.
    fn needs(&self, node: TermId) -> Vec<Need> {
        match self.term(node) {
            Term::Asks(leaf) => self.leaf(*leaf).need().into_iter().collect(),
            Term::All(terms) => terms.iter().flat_map(|term| self.needs(*term)).collect(),
            Term::Any(terms) => self.need_of_any(terms).into_iter().collect(),
            Term::Not(_) => Vec::new(),
        }
    }

    /// One of several conditions must hold: all must ask about one fact.
    fn need_of_any(&self, terms: &[TermId]) -> Option<Need> {
        let mut needs = terms.iter().map(|term| match &self.needs(*term)[..] {
            [only] => Some(only.clone()),
            _ => None,
        });
        let mut joined = needs.next()??;
        for need in needs {
            let need = need.filter(|need| need.fact == joined.fact)?;
            joined.values.extend(need.values);
            joined.of_one_store = joined.of_one_store.or(need.of_one_store);
        }
        Some(joined)
    }
}

impl Leaf {
    fn need(&self) -> Option<Need> {
        // Whoever is in a group of one store is in the group.
        let (fact, of_one_store) = match &self.left {
            Expression::Fact(fact) => (*fact, None),
            Expression::OfStore(of) => (of.groups, Some((of.account, of.by_store))),
            _ => return None,
        };
        let values = match &self.test {
            Test::True => vec![mixed(&Value::Boolean(true))],
            Test::Compare(Comparison::Equal, Expression::Literal(value)) if !matches!(value, Value::Set(_)) => {
                vec![mixed(value)]
            }
            Test::OneOf(values) | Test::AnyOf(values) => values.iter().map(mixed).collect(),
            Test::ContainsMember(value) => vec![mixed(value)],
            _ => return None,
        };
        Some(Need { fact, values, of_one_store })
    }
}

/// A number for a value, the same for all that any comparison calls equal: text without
/// regard to case. Whoever asks cannot make the table longer, so that it need not be
/// hard to guess.
fn mixed(value: &Value<'_>) -> u64 {
    let mut mix = Mix(0xcbf2_9ce4_8422_2325);
    match value {
        Value::Text(text) if text.is_ascii() => {
            text.bytes().for_each(|byte| mix.take(byte.to_ascii_lowercase().into()));
        }
        Value::Text(text) => folded(text).for_each(|letter| mix.take(letter.into())),
        Value::Integer(number) => mix.number(1, *number as u64),
        Value::Boolean(truth) => mix.number(2, (*truth).into()),
        Value::Address(IpAddr::V4(address)) => mix.number(3, address.to_bits().into()),
        Value::Address(IpAddr::V6(address)) => address.octets().iter().for_each(|byte| mix.take((*byte).into())),
        Value::Mac(mac) => mac.0.iter().for_each(|byte| mix.take((*byte).into())),
        Value::Duration(seconds) => mix.number(4, *seconds),
        Value::Instant(seconds) => mix.number(5, seconds.cast_unsigned()),
        // Never compared as a whole with one value.
        Value::Block(..) | Value::Set(_) => {}
    }
    mix.0
}

struct Mix(u64);

impl Mix {
    fn take(&mut self, part: u32) {
        self.0 = (self.0 ^ u64::from(part)).wrapping_mul(0x0100_0000_01b3);
    }

    fn number(&mut self, kind: u32, number: u64) {
        self.take(kind);
        self.take(number as u32);
        self.take((number >> 32) as u32);
    }
}
