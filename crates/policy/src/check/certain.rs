//! What is certain of conditions, whatever is asked: that two say the same, that one is never true, or always.
//! Judged by [`Asked`], term by term, each once however many rules share it.

use std::collections::HashMap;

use regnant_base::go_on;

use crate::run::program::{Leaf, LeafId, Program, Term, TermId};
use crate::schema::{FactId, Schema};
use crate::sets::{Asked, Numbers, Values};

/// Comparisons that are looked at together, each with each of several terms.
const MOST_TOGETHER: usize = 1_000;

/// Values that are looked at for a whole policy: rules may share long conditions and lists by the thousand.
const MOST_LOOKED_AT: usize = 1_000_000;

/// What a condition says, however it is written: the same number for two that say the same.
#[derive(PartialEq, Eq, Hash)]
enum Meaning {
    All(Vec<u32>),
    Any(Vec<u32>),
    Not(u32),
    Asks(FactId, Asked),
    /// What no set says counts as it is written.
    Written(String),
}

pub(super) struct Certain<'p> {
    program: &'p Program,
    schema: &'p Schema,
    meanings: HashMap<Meaning, u32>,
    known: HashMap<TermId, u32>,
    /// Why a term, or that it is not so, is never true.
    never: HashMap<(TermId, bool), Option<String>>,
    /// Whether every request has all facts of a term.
    there: HashMap<TermId, bool>,
    /// How many values were looked at.
    looked_at: usize,
}

impl<'p> Certain<'p> {
    pub(super) fn new(program: &'p Program, schema: &'p Schema) -> Self {
        let (meanings, known, never, there) = (HashMap::new(), HashMap::new(), HashMap::new(), HashMap::new());
        Self { program, schema, meanings, known, never, there, looked_at: 0 }
    }

    /// A number for what a condition says.
    pub(super) fn meaning(&mut self, id: TermId) -> u32 {
        if let Some(known) = self.known.get(&id) {
            return *known;
        }
        let meaning = match self.program.term(id) {
            Term::All(terms) => Meaning::All(self.several(terms)),
            Term::Any(terms) => Meaning::Any(self.several(terms)),
            Term::Not(inner) => Meaning::Not(self.meaning(*inner)),
            Term::Asks(leaf) => {
                let leaf = self.program.leaf(*leaf);
                match self.asked(leaf) {
                    None | Some(Asked::Opaque) => Meaning::Written(leaf.text.clone()),
                    Some(asked) => Meaning::Asks(leaf.fact, asked),
                }
            }
        };
        let next = self.meanings.len() as u32;
        let number = *self.meanings.entry(meaning).or_insert(next);
        self.known.insert(id, number);
        number
    }

    /// What a comparison asks, unless too much was looked at before.
    fn asked(&mut self, leaf: &Leaf) -> Option<Asked> {
        self.looked_at += leaf.test.comparisons();
        (self.looked_at <= MOST_LOOKED_AT).then(|| leaf.asked())
    }

    /// In whatever order, and however often each.
    fn several(&mut self, terms: &[TermId]) -> Vec<u32> {
        let mut numbers: Vec<_> = terms.iter().map(|term| self.meaning(*term)).collect();
        numbers.sort_unstable();
        numbers.dedup();
        numbers
    }

    /// Whether a condition is true of every request: it is never otherwise, and every request has what it
    /// asks for.
    pub(super) fn always_true(&mut self, id: TermId) -> bool {
        self.never(id, false).is_some() && self.has_all(id)
    }

    /// Why a condition is never true.
    pub(super) fn never_true(&mut self, id: TermId) -> Option<String> {
        self.never(id, true)
    }

    /// Whether every request has all facts of a condition.
    fn has_all(&mut self, id: TermId) -> bool {
        if let Some(known) = self.there.get(&id) {
            return *known;
        }
        let program = self.program;
        let has_all = match program.term(id) {
            Term::All(terms) | Term::Any(terms) => terms.iter().all(|term| self.has_all(*term)),
            Term::Not(inner) => self.has_all(*inner),
            Term::Asks(leaf) => self.schema.definition(program.leaf(*leaf).fact).always,
        };
        self.there.insert(id, has_all);
        has_all
    }

    /// Why a condition, or that it is not so, can never be true.
    fn never(&mut self, id: TermId, so: bool) -> Option<String> {
        if let Some(known) = self.never.get(&(id, so)) {
            return known.clone();
        }
        let program = self.program;
        let why = match (program.term(id), so) {
            (Term::Not(inner), _) => self.never(*inner, !so),
            // One of them is enough.
            (Term::Any(terms), true) | (Term::All(terms), false) => {
                terms.iter().map(|term| self.never(*term, so)).collect::<Option<Vec<_>>>().and_then(|mut all| all.pop())
            }
            (Term::All(_), true) | (Term::Any(_), false) | (Term::Asks(_), _) => {
                if self.looked_at > MOST_LOOKED_AT {
                    return None;
                }
                let (mut leaves, mut others) = (Vec::new(), Vec::new());
                self.together(id, so, &mut leaves, &mut others);
                self.exclude(&leaves)
                    .or_else(|| others.iter().find_map(|(term, so)| self.never(*term, *so)))
                    .or_else(|| others.iter().find_map(|(term, so)| self.none_goes_with(&leaves, *term, *so)))
            }
        };
        self.never.insert((id, so), why.clone());
        why
    }

    /// The comparisons that must come out so for a term to do; the others are of terms of which one is enough.
    fn together(&self, id: TermId, so: bool, leaves: &mut Vec<(LeafId, bool)>, others: &mut Vec<(TermId, bool)>) {
        match (self.program.term(id), so) {
            (Term::Asks(leaf), _) => leaves.push((*leaf, so)),
            (Term::Not(inner), _) => self.together(*inner, !so, leaves, others),
            (Term::All(terms), true) | (Term::Any(terms), false) => {
                terms.iter().for_each(|term| self.together(*term, so, leaves, others));
            }
            (Term::All(_), false) | (Term::Any(_), true) => others.push((id, so)),
        }
    }

    /// Why none of several terms, of which one is enough, can go with comparisons.
    fn none_goes_with(&mut self, leaves: &[(LeafId, bool)], several: TermId, so: bool) -> Option<String> {
        let (Term::All(terms) | Term::Any(terms)) = self.program.term(several) else { return None };
        if leaves.len().saturating_mul(terms.len()) > MOST_TOGETHER {
            return None;
        }
        let excluded = terms.iter().map(|term| {
            let mut all = leaves.to_vec();
            self.together(*term, so, &mut all, &mut Vec::new());
            self.exclude(&all)
        });
        excluded.collect::<Option<Vec<_>>>().and_then(|mut all| all.pop())
    }

    /// Why comparisons cannot all come out so.
    fn exclude(&mut self, leaves: &[(LeafId, bool)]) -> Option<String> {
        let mut of_facts = HashMap::<FactId, Left>::new();
        for (id, so) in leaves {
            go_on();
            let leaf = self.program.leaf(*id);
            let asked = self.asked(leaf)?;
            let left = of_facts.entry(leaf.fact).or_default();
            left.texts.push(if *so { format!("`{}`", leaf.text) } else { format!("`not {}`", leaf.text) });
            let always = self.schema.definition(leaf.fact).always;
            self.looked_at += left.parts();
            if !left.take(asked, *so, always) {
                left.texts.dedup();
                return Some(match left.texts.as_slice() {
                    [one] => format!("{one} is never true"),
                    texts => format!("{} are never true together", texts.join(" and ")),
                });
            }
        }
        None
    }
}

/// What is left for a fact to be.
#[derive(Default)]
struct Left {
    /// Whether it is there, where that is known.
    there: Option<bool>,
    one: Option<Values>,
    /// Of a set: what every member is, and what some members are.
    only: Option<Values>,
    some: Vec<Values>,
    clock: Option<Numbers>,
    texts: Vec<String>,
}

impl Left {
    /// Of how many texts and ranges it is written.
    fn parts(&self) -> usize {
        let values = self.one.iter().chain(&self.only).chain(&self.some).map(Values::parts);
        values.sum::<usize>() + self.clock.as_ref().map_or(0, |clock| clock.ranges().len())
    }

    /// Takes that a comparison comes out so; false where nothing is left.
    fn take(&mut self, asked: Asked, so: bool, always: bool) -> bool {
        let there = so || asked != Asked::There;
        if self.there.replace(there).is_some_and(|before| before != there) || (always && !there) {
            return false;
        }
        match (asked, so) {
            (Asked::There | Asked::Opaque, _) => true,
            (Asked::One(values), so) => {
                let values = if so { values } else { values.outside() };
                self.one = match self.one.take() {
                    None => Some(values),
                    Some(before) => before.and(&values),
                };
                self.one.as_ref().is_none_or(|left| !left.is_empty())
            }
            (Asked::Some(values), true) => self.take_some(values),
            (Asked::Only(values), false) => self.take_some(values.outside()),
            (Asked::Only(values), true) => self.take_only(values),
            (Asked::Some(values), false) => self.take_only(values.outside()),
            (Asked::Clock(minutes), so) => {
                let minutes = if so { minutes } else { minutes.outside() };
                let left = self.clock.as_ref().map_or(minutes.clone(), |before| before.and(&minutes));
                let any = !left.is_empty();
                self.clock = Some(left);
                any
            }
        }
    }

    fn take_some(&mut self, values: Values) -> bool {
        let within = match &self.only {
            None => Some(values.clone()),
            Some(only) => only.clone().and(&values),
        };
        self.some.push(values);
        within.is_none_or(|within| !within.is_empty())
    }

    /// A set without members has only what one likes.
    fn take_only(&mut self, values: Values) -> bool {
        self.only = match self.only.take() {
            None => Some(values),
            Some(before) => before.and(&values),
        };
        let Some(only) = &self.only else { return true };
        self.some.iter().all(|some| some.clone().and(only).is_none_or(|within| !within.is_empty()))
    }
}
