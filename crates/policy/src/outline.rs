//! What stands where in a policy, and how two policies differ.

use std::collections::HashMap;

use regnant_base::go_on;

use crate::format::spaced;
use crate::parse;
use crate::parse::lexer::lex;
use crate::source::{Source, Span};

/// What an item of a policy is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum OutlineKind {
    /// The time zone.
    Zone,
    /// Another file.
    Include,
    /// A named condition.
    Define,
    /// A named set.
    List,
    /// An access list.
    Acl,
    /// What access consists of.
    Grant,
    /// One kind of request.
    Gate,
    /// A part of a gate that is no rule, such as `accept`.
    Part,
    /// A rule.
    Rule,
    /// A test.
    Case,
}

impl OutlineKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Zone => "zone",
            Self::Include => "include",
            Self::Define => "define",
            Self::List => "list",
            Self::Acl => "access list",
            Self::Grant => "grant",
            Self::Gate => "gate",
            Self::Part => "part",
            Self::Rule => "rule",
            Self::Case => "case",
        }
    }
}

/// An item of a policy, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OutlineItem {
    /// What it is.
    pub kind: OutlineKind,
    /// Its name or title.
    pub name: String,
    /// The gate that it is part of.
    pub gate: Option<String>,
    /// Where it stands.
    pub span: Span,
    /// Of a rule its `head`, `condition` and `result`.
    pub(crate) parts: Vec<(&'static str, Span)>,
}

/// How something differs between two policies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChangeKind {
    /// It was not there before.
    Added,
    /// It is not there any more.
    Removed,
    /// It is tried in another place among the others.
    Moved,
    /// It says something else.
    Changed,
}

impl ChangeKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Added => "added",
            Self::Removed => "removed",
            Self::Moved => "moved",
            Self::Changed => "changed",
        }
    }
}

/// A difference between two policies. White space and comments make none, nor does the file in which
/// something stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// How it differs.
    pub kind: ChangeKind,
    /// What it is.
    pub of: OutlineKind,
    /// Its name or title.
    pub name: String,
    /// The gate that it is part of.
    pub gate: Option<String>,
    /// What of it differs: of a rule `head`, `condition` or `result`; empty for the whole.
    pub part: &'static str,
    /// What it said before, in one line.
    pub before: String,
    /// What it says now.
    pub after: String,
    /// Where it stands, in the policy that has it; in the later one where both do.
    pub span: Span,
}

/// The items of a policy, gates with what is in them, whether it checks or not.
pub fn outline(source: &Source) -> Vec<OutlineItem> {
    parse::parse(source).0.outline
}

/// How a policy differs from one before.
pub fn changes(before: &Source, after: &Source) -> Vec<Change> {
    let (old, new) = (Outlined::new(before), Outlined::new(after));
    let mut changes = Vec::new();
    for (item, key) in new.items.iter().zip(&new.keys) {
        match old.get(key) {
            None => changes.push(Outlined::change(ChangeKind::Added, item, "", String::new(), new.text(item.span))),
            Some(known) => new.compare(&old, known, item, &mut changes),
        }
    }
    for (item, _) in old.items.iter().zip(&old.keys).filter(|(_, key)| new.get(key).is_none()) {
        // What is in a gate that is gone is gone with it.
        let with_its_gate = item.gate.as_ref().is_some_and(|gate| !new.has_gate(gate));
        if !with_its_gate {
            changes.push(Outlined::change(ChangeKind::Removed, item, "", old.text(item.span), String::new()));
        }
    }
    let added: Vec<_> = changes
        .iter()
        .filter(|change| change.kind == ChangeKind::Added && change.of == OutlineKind::Gate)
        .map(|change| change.name.clone())
        .collect();
    changes.retain(|change| !change.gate.as_ref().is_some_and(|gate| added.contains(gate)));
    for of in [OutlineKind::Gate, OutlineKind::Rule] {
        changes.extend(new.moved(&old, of));
    }
    changes
}

/// What an item is called: its kind, its gate, its name, and the how-manieth of that name it is.
type Key = (OutlineKind, Option<String>, String, usize);

/// A policy's items by what they are called.
struct Outlined<'s> {
    source: &'s Source,
    items: Vec<OutlineItem>,
    places: HashMap<Key, usize>,
    keys: Vec<Key>,
}

impl<'s> Outlined<'s> {
    fn new(source: &'s Source) -> Self {
        let items = outline(source);
        let (mut places, mut keys, mut counts) = (HashMap::new(), Vec::new(), HashMap::new());
        for (place, item) in items.iter().enumerate() {
            let key = (item.kind, item.gate.clone(), item.name.clone());
            let count: &mut usize = counts.entry(key.clone()).or_default();
            let key = (key.0, key.1, key.2, *count);
            *count += 1;
            places.insert(key.clone(), place);
            keys.push(key);
        }
        Self { source, items, places, keys }
    }

    fn get(&self, key: &Key) -> Option<&OutlineItem> {
        self.places.get(key).map(|place| &self.items[*place])
    }

    fn has_gate(&self, name: &str) -> bool {
        self.places.contains_key(&(OutlineKind::Gate, None, name.to_owned(), 0))
    }

    /// The words of a part, however they are laid out.
    fn text(&self, span: Span) -> String {
        let slice = self.source.slice(span);
        match lex(slice, 0) {
            Ok(tokens) => {
                let (mut text, mut before) = (String::with_capacity(slice.len()), None);
                for token in &tokens {
                    if before.is_some_and(|before| spaced(before, token)) {
                        text.push(' ');
                    }
                    text.push_str(&slice[token.span.range()]);
                    before = Some(token);
                }
                text.trim_end().to_owned()
            }
            Err(_) => slice.split_whitespace().collect::<Vec<_>>().join(" "),
        }
    }

    fn change(kind: ChangeKind, item: &OutlineItem, part: &'static str, before: String, after: String) -> Change {
        let OutlineItem { kind: of, name, gate, span, .. } = item.clone();
        Change { kind, of, name, gate, part, before, after, span }
    }

    fn compare(&self, old: &Self, known: &OutlineItem, item: &OutlineItem, changes: &mut Vec<Change>) {
        go_on();
        match item.kind {
            // What is in it is compared by itself.
            OutlineKind::Gate => {}
            OutlineKind::Rule => {
                for part in ["head", "condition", "result"] {
                    let of = |outlined: &Self, item: &OutlineItem| {
                        let span = item.parts.iter().find(|(name, _)| *name == part).map(|(_, span)| *span);
                        span.map_or(String::new(), |span| outlined.text(span))
                    };
                    let (before, after) = (of(old, known), of(self, item));
                    if before != after {
                        changes.push(Outlined::change(ChangeKind::Changed, item, part, before, after));
                    }
                }
            }
            _ => {
                let (before, after) = (old.text(known.span), self.text(item.span));
                if before != after {
                    changes.push(Outlined::change(ChangeKind::Changed, item, "", before, after));
                }
            }
        }
    }

    /// The how-manieth of its kind in its gate each item is.
    fn ordinals(&self, of: OutlineKind, gate: Option<&String>) -> Vec<usize> {
        let mut count = 0;
        let counted = self.items.iter().map(|item| {
            count += usize::from(item.kind == of && item.gate.as_ref() == gate);
            count
        });
        counted.collect()
    }

    /// Those that are tried in another place: the fewest that, taken out, leave the others in their order.
    fn moved(&self, old: &Self, of: OutlineKind) -> Vec<Change> {
        let mut gates: Vec<Option<String>> =
            self.items.iter().filter(|item| item.kind == of).map(|item| item.gate.clone()).collect();
        gates.dedup();
        let mut moved = Vec::new();
        for gate in gates {
            let common: Vec<(usize, usize)> = self
                .keys
                .iter()
                .enumerate()
                .filter(|(_, key)| key.0 == of && key.1 == gate)
                .filter_map(|(place, key)| Some((place, *old.places.get(key)?)))
                .collect();
            let kept = longest_rising(&common.iter().map(|(_, before)| *before).collect::<Vec<_>>());
            let (before_all, after_all) = (old.ordinals(of, gate.as_ref()), self.ordinals(of, gate.as_ref()));
            for (number, (place, before)) in common.iter().enumerate() {
                if !kept[number] {
                    let place_of = |number: usize| format!("place {number}");
                    let (from, to) = (before_all[*before], after_all[*place]);
                    let item = &self.items[*place];
                    moved.push(Outlined::change(ChangeKind::Moved, item, "", place_of(from), place_of(to)));
                }
            }
        }
        moved
    }
}

/// Which of these numbers belong to one of the longest rising sequences among them.
fn longest_rising(numbers: &[usize]) -> Vec<bool> {
    // For each length the place of the smallest number that ends a sequence of that length.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; numbers.len()];
    for (place, number) in numbers.iter().enumerate() {
        let length = ends.partition_point(|end| numbers[*end] < *number);
        before[place] = length.checked_sub(1).map(|shorter| ends[shorter]);
        match length < ends.len() {
            true => ends[length] = place,
            false => ends.push(place),
        }
    }
    let mut kept = vec![false; numbers.len()];
    let mut at = ends.last().copied();
    while let Some(place) = at {
        kept[place] = true;
        at = before[place];
    }
    kept
}
