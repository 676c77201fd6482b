//! What people do to rules in a table, as changes of the text.

use thiserror::Error;

use crate::edit::Replacement;
use crate::outline::{OutlineItem, OutlineKind, outline};
use crate::parse;
use crate::parse::ast::{GateItem, Policy, RuleItem};
use crate::quoted;
use crate::source::{Source, Span};

/// What is done to a rule of a gate, or to a gate by one more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RuleAct {
    /// It is tried before another rule; after all others where none is said.
    Move {
        /// The title of the other rule.
        before: Option<String>,
    },
    /// Another of what it says stands after it, marked as a copy.
    Copy {
        /// The title of the copy.
        title: String,
    },
    /// It is passed over, until a moment where one is said.
    Off {
        /// The moment, as Writ writes it.
        until: Option<String>,
    },
    /// It is no longer passed over.
    On,
    /// Somebody has looked at what the copy gives.
    Looked,
    /// It goes.
    Remove,
}

/// Why something cannot be done to a rule.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RuleActError {
    /// There is no such gate.
    #[error("there is no gate `{0}` that can be read")]
    NoGate(String),
    /// There is no such rule.
    #[error("the gate has no rule \"{0}\" that can be read")]
    NoRule(String),
    /// The title says not which one.
    #[error("the gate has several rules \"{0}\": give each a title of its own")]
    Several(String),
    /// It has no title, or one that other rules have.
    #[error("a copy needs a title in one line that no other rule of the gate has")]
    Title,
    /// It is no moment.
    #[error("`{0}` is no moment: write one as 2026-12-01T06:00Z")]
    Moment(String),
    /// There is nothing of this that could be put in.
    #[error("this is no {0} that can be read")]
    NotOne(&'static str),
}

/// The changes that do something to a rule.
pub fn rule_act(source: &Source, gate: &str, rule: &str, act: &RuleAct) -> Result<Vec<Replacement>, RuleActError> {
    let policy = parse::parse(source).0;
    let gate = find_gate(&policy, gate)?;
    let item = find(gate, rule)?;
    let spans = item.spans;
    let at = |place: usize| Span { start: place, end: place };
    let without = |span: Span| Replacement { span: source.with_what_it_leaves(span), text: String::new() };
    Ok(match act {
        RuleAct::Remove => vec![Replacement { span: lines_of(source, spans.whole), text: String::new() }],
        RuleAct::Move { before } => {
            let place = match before {
                Some(title) => lines_of(source, find(gate, title)?.spans.whole).start,
                None => end_of_rules(source, gate),
            };
            let from = lines_of(source, spans.whole);
            if from.start <= place && place <= from.end {
                return Ok(Vec::new());
            }
            let mut changes =
                vec![put(source, place, source.slice(from).trim()), Replacement { span: from, text: String::new() }];
            changes.sort_by_key(|change| change.span.start);
            changes
        }
        RuleAct::Copy { title } => {
            let taken = gate.rules.iter().any(|other| other.title.text.eq_ignore_ascii_case(title));
            if taken || title.trim().is_empty() || title.chars().any(char::is_control) {
                return Err(RuleActError::Title);
            }
            // Nothing else of it is touched: what stands between its words may be a comment.
            let mark = format!("copied from {}", quoted(rule));
            let (place, mark) = match if_there(spans.copied) {
                Some(copied) => (copied, mark),
                None => (at(spans.named.end.max(spans.off.end)), format!(" {mark}")),
            };
            let text = |start, end| source.slice(Span { start, end });
            let (whole, name) = (spans.whole, item.title.span);
            let copied = [
                text(whole.start, name.start),
                &quoted(title),
                text(name.end, place.start),
                &mark,
                text(place.end, whole.end),
            ]
            .concat();
            vec![put(source, lines_of(source, whole).end, &copied)]
        }
        RuleAct::Off { until } => {
            if let Some(until) = until.as_ref().filter(|until| until.parse::<jiff::Timestamp>().is_err()) {
                return Err(RuleActError::Moment(until.clone()));
            }
            let text = until.as_ref().map_or("off".to_owned(), |until| format!("off until {until}"));
            match spans.off == Span::default() {
                true => vec![Replacement { span: at(spans.named.end), text: format!(" {text}") }],
                false => vec![Replacement { span: spans.off, text }],
            }
        }
        RuleAct::On => if_there(spans.off).map(without).into_iter().collect(),
        RuleAct::Looked => if_there(spans.copied).map(without).into_iter().collect(),
    })
}

/// The changes that put a rule, as it is written, into a gate before another; after all others where none is said.
pub fn rule_put(
    source: &Source,
    gate: &str,
    before: Option<&str>,
    text: &str,
) -> Result<Vec<Replacement>, RuleActError> {
    let policy = parse::parse(source).0;
    let item = find_gate(&policy, gate)?;
    let alone = Source::new("rule", format!("gate g {{ {text}\notherwise refuse }}"));
    let (read, found) = parse::parse(&alone);
    // The gate around it, the rule, and the end of the gate.
    if !found.is_empty() || read.outline.len() != 3 || read.gates.len() != 1 || read.gates[0].rules.len() != 1 {
        return Err(RuleActError::NotOne("rule"));
    }
    let place = match before {
        Some(title) => lines_of(source, find(item, title)?.spans.whole).start,
        None => end_of_rules(source, item),
    };
    Ok(vec![put(source, place, text.trim())])
}

/// The changes that put an item of a policy, as it is written, where others of its kind stand.
pub fn item_put(source: &Source, text: &str) -> Result<Vec<Replacement>, RuleActError> {
    let alone = Source::new("item", text);
    let (read, found) = parse::parse(&alone);
    let [one] = &read.outline[..] else { return Err(RuleActError::NotOne("item")) };
    if !found.is_empty() || one.kind == OutlineKind::Gate {
        return Err(RuleActError::NotOne("item"));
    }
    let all = outline(source);
    let of = |kind: OutlineKind| move |item: &&OutlineItem| item.kind == kind && item.gate.is_none();
    let last = all.iter().rfind(of(one.kind));
    let (place, text) = match last {
        Some(last) => (lines_of(source, last.span).end, format!("\n{}\n", text.trim())),
        // The first of its kind: before gates, which stand last, and cases at the end.
        None => match all.iter().find(of(OutlineKind::Gate)).filter(|_| one.kind != OutlineKind::Case) {
            Some(gate) => (lines_of(source, gate.span).start, format!("{}\n\n", text.trim())),
            None => (source.files().first().map_or(0, |main| main.span.end), format!("\n{}\n", text.trim())),
        },
    };
    Ok(vec![Replacement { span: Span { start: place, end: place }, text: after_line(source, place) + &text }])
}

fn find_gate<'p>(policy: &'p Policy, name: &str) -> Result<&'p GateItem, RuleActError> {
    let found = policy.gates.iter().find(|gate| gate.name.text == name);
    found.ok_or_else(|| RuleActError::NoGate(name.to_owned()))
}

fn find<'g>(gate: &'g GateItem, title: &str) -> Result<&'g RuleItem, RuleActError> {
    let mut found = gate.rules.iter().filter(|rule| rule.title.text == title);
    match (found.next(), found.next()) {
        (Some(rule), None) => Ok(rule),
        (Some(_), Some(_)) => Err(RuleActError::Several(title.to_owned())),
        (None, _) => Err(RuleActError::NoRule(title.to_owned())),
    }
}

fn if_there(span: Span) -> Option<Span> {
    (span != Span::default()).then_some(span)
}

/// Where a rule that comes last is put: after the last, or where the gate says what else happens.
fn end_of_rules(source: &Source, gate: &GateItem) -> usize {
    match gate.rules.last() {
        Some(rule) => lines_of(source, rule.spans.whole).end,
        None => lines_of(source, gate.end).start,
    }
}

/// The whole lines of what stands there, with the comments right above it; what stands there alone where its
/// lines have something else too.
fn lines_of(source: &Source, span: Span) -> Span {
    let Some(file) = source.file_at(span.start) else { return span };
    let text = source.text_of(file);
    let (start, end) = (span.start - file.span.start, span.end - file.span.start);
    let mut first = text[..start].rfind('\n').map_or(0, |at| at + 1);
    let last = text[end..].find('\n').map_or(text.len(), |at| end + at + 1);
    let after = text[end..last].trim();
    if !text[first..start].trim().is_empty() || !(after.is_empty() || after.starts_with('#')) {
        return span;
    }
    while first > 0 {
        let above = text[..first - 1].rfind('\n').map_or(0, |at| at + 1);
        if !text[above..first].trim_start().starts_with('#') {
            break;
        }
        first = above;
    }
    Span { start: file.span.start + first, end: file.span.start + last }
}

/// A text put in where a line begins, set in as what follows; in the middle of a line as a part of it.
fn put(source: &Source, place: usize, text: &str) -> Replacement {
    let span = Span { start: place, end: place };
    let before = source.slice(Span { start: 0, end: place });
    let begins = source.file_at(place).is_none_or(|file| file.span.start == place) || before.ends_with('\n');
    let text = match begins {
        true => format!("  {text}\n"),
        // A comment may end the text: what follows needs a line of its own.
        false => format!("{}{text}\n", if before.ends_with(' ') { "" } else { " " }),
    };
    Replacement { span, text }
}

/// An end of line where the place is in the middle of one.
fn after_line(source: &Source, place: usize) -> String {
    let before = source.slice(Span { start: 0, end: place });
    let begins = place == 0 || before.ends_with('\n') || source.files().iter().any(|file| file.span.start == place);
    if begins { String::new() } else { "\n".into() }
}
