//! Gates as they are read aloud: rule by rule, in order.

use crate::assist::aloud::aloud;
use crate::parse;
use crate::parse::ast::{ConsequenceItem, GateItem, RuleItem};
use crate::source::{Source, Span};

/// A gate as it is read aloud.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GateRead {
    /// Its name.
    pub name: String,
    /// Where the name stands.
    pub span: Span,
    /// Which requests it takes, in words; empty where it takes all.
    pub when: String,
    /// Its rules in order; one that cannot be read is not among them.
    pub rules: Vec<RuleRead>,
    /// What happens when no rule is true; none where it does not say.
    pub otherwise: Option<ThenRead>,
    /// Whether it is watched: what rules refuse may be given all the same.
    pub observes: bool,
}

/// A rule as it is read aloud.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleRead {
    /// Its title.
    pub title: String,
    /// Where it stands.
    pub span: Span,
    /// When it decides, in words.
    pub when: String,
    /// What follows.
    pub then: ThenRead,
    /// Whether it refuses where its gate observes, too.
    pub always: bool,
    /// Whether it is passed over.
    pub off: bool,
    /// Until when it is passed over, as it is written.
    pub off_until: Option<String>,
    /// The rule that it was copied from and that nobody has looked at since.
    pub copied_from: Option<String>,
    /// From when on it counts, as it is written.
    pub from: Option<String>,
    /// Until when it counts, as it is written.
    pub until: Option<String>,
}

/// What follows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ThenRead {
    /// These grants.
    Grant(Vec<String>),
    /// Access-Reject, perhaps with a text.
    Refuse(Option<String>),
    /// No answer.
    Silence,
}

/// The gates of a policy, whether it checks or not.
pub fn gates(source: &Source) -> Vec<GateRead> {
    parse::parse(source).0.gates.iter().map(|gate| read(gate, source)).collect()
}

fn read(gate: &GateItem, source: &Source) -> GateRead {
    GateRead {
        name: gate.name.text.clone(),
        span: gate.name.span,
        when: gate.when.as_ref().map_or(String::new(), |when| aloud(when, source)),
        rules: gate.rules.iter().map(|rule| read_rule(rule, source)).collect(),
        otherwise: gate.otherwise.as_ref().map(then),
        observes: gate.observe.is_some(),
    }
}

fn read_rule(rule: &RuleItem, source: &Source) -> RuleRead {
    let written = |span: Span| source.slice(span).to_owned();
    RuleRead {
        title: rule.title.text.clone(),
        span: rule.spans.whole,
        when: aloud(&rule.when, source),
        then: then(&rule.then),
        always: rule.always,
        off: rule.off.is_some(),
        off_until: rule.off.as_ref().and_then(|off| off.until.as_ref()).map(|until| written(until.span())),
        copied_from: rule.copied_from.as_ref().map(|title| title.text.clone()),
        from: rule.from.as_ref().map(|from| written(from.span())),
        until: rule.until.as_ref().map(|until| written(until.span())),
    }
}

fn then(consequence: &ConsequenceItem) -> ThenRead {
    match consequence {
        ConsequenceItem::Grant(names) => ThenRead::Grant(names.iter().map(|name| name.text.clone()).collect()),
        ConsequenceItem::Refuse(text) => ThenRead::Refuse(text.as_ref().map(|text| text.text.clone())),
        ConsequenceItem::Silence => ThenRead::Silence,
    }
}
