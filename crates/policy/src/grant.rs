use std::fmt;
use std::net::IpAddr;
use std::ops::RangeInclusive;

use crate::run::program::Expression;
use crate::run::{Facts, Known};
use crate::source::Span;
use crate::value::{Value, show_duration};

/// What access consists of, in neutral form.
#[derive(Debug)]
pub struct Grant {
    /// Its name.
    pub name: String,
    /// What it says, inherited statements included.
    pub(crate) statements: Vec<Plan>,
}

/// A statement that grants may make. All that the language, the check, dialects, people
/// and the docs know of one follows from here.
#[derive(Debug, PartialEq, Eq)]
pub struct StatementKind {
    /// Its keyword in Writ.
    pub keyword: &'static str,
    /// What it takes, in order.
    pub fields: &'static [FieldKind],
    /// What it means, for the docs.
    pub meaning: &'static str,
    /// What shares its place: of those with the same word here, a grant has one.
    pub place: &'static str,
    /// Whether several may stand together.
    pub repeats: bool,
    /// How people are told; `{}` stands for the first value.
    pub shown_as: &'static str,
}

/// A value that a statement takes.
#[derive(Debug, PartialEq, Eq)]
pub struct FieldKind {
    /// The word before it; none before the first, which follows the keyword.
    pub word: &'static str,
    /// What it is.
    pub takes: Takes,
    /// Whether it may be left out.
    pub optional: bool,
}

/// What a value of a statement is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Takes {
    /// A number of 1 to 4094 (IEEE 802.1Q) or a text.
    Vlan,
    /// A text of at most this many bytes.
    Text(usize),
    /// The name of an access list of the policy.
    Acl,
    /// A duration of at least this many seconds.
    Duration(u32),
    /// A number of this range, and what it is.
    Number(RangeInclusive<i64>, &'static str),
    /// A number of this range or a text, and what it is.
    NumberOrText(RangeInclusive<i64>, &'static str),
    /// Bits a second.
    Rate,
    /// An IPv4 address.
    Address4,
    /// An IPv6 address.
    Address6,
    /// One of these words.
    Word(&'static [&'static str]),
    /// Nothing: the word says it.
    Flag,
    /// An attribute of the dictionary and its value, as `NAME = VALUE`.
    Attribute,
}

/// RFC 2865 section 5: a value has at most 253 bytes; a tag takes one (RFC 2868 section 3).
const TEXT: Takes = Takes::Text(252);
/// The services a grant may name (RFC 2865 section 5.6).
const SERVICES: [&str; 4] = ["administrative", "nas-prompt", "login", "framed"];

const fn field(word: &'static str, takes: Takes) -> FieldKind {
    FieldKind { word, takes, optional: false }
}

const fn optional(word: &'static str, takes: Takes) -> FieldKind {
    FieldKind { word, takes, optional: true }
}

const fn kind(
    keyword: &'static str,
    fields: &'static [FieldKind],
    shown_as: &'static str,
    meaning: &'static str,
) -> StatementKind {
    StatementKind { keyword, fields, meaning, place: keyword, repeats: false, shown_as }
}

const fn repeated(kind: StatementKind) -> StatementKind {
    StatementKind { repeats: true, ..kind }
}

/// A session either ends or is authenticated again.
const fn in_place_of(place: &'static str, kind: StatementKind) -> StatementKind {
    StatementKind { place, ..kind }
}

/// The words after `redirect "url"`.
pub(crate) const PAST: &str = "past";

/// Every statement.
#[rustfmt::skip]
pub static STATEMENTS: [StatementKind; 19] = [
    kind("vlan", &[field("", Takes::Vlan), optional("tagged", Takes::Flag)], "VLAN {}", "The VLAN that the port joins, by number or by a name that the NAS knows; `tagged` where frames carry its tag."),
    kind("voice-vlan", &[field("", Takes::Vlan)], "voice VLAN {}", "The VLAN for the voice of a telephone at the port."),
    kind("role", &[field("", TEXT)], "role {}", "A role that the NAS knows."),
    kind("acl", &[field("", Takes::Acl)], "{}", "An access list of the policy; it always ends in an explicit rule."),
    kind("filter", &[field("", TEXT)], "filter {}", "A filter that is configured on the NAS."),
    kind("redirect", &[field("", TEXT), field(PAST, Takes::Acl)], "redirect to {}", "Where web traffic is sent that the list after `past` does not permit."),
    kind("segment", &[field("", Takes::NumberOrText(1..=0xffff_ffff, "a segment"))], "segment {}", "A label that equipment carries with the traffic."),
    kind("rate", &[optional("up", Takes::Rate), optional("down", Takes::Rate)], "rate", "Bits a second, seen from the device: `500k`, `10M`, `1G`."),
    kind("session", &[field("", Takes::Duration(1))], "session {}", "How long the session lasts."),
    in_place_of("session", kind("reauthenticate", &[field("", Takes::Duration(1))], "again after {}", "When the session is authenticated again.")),
    kind("idle", &[field("", Takes::Duration(1))], "idle {}", "How long nothing may pass before the session ends."),
    kind("interim", &[field("", Takes::Duration(60))], "accounting every {}", "How often the NAS tells of the session while it lasts; from a minute on."),
    kind("address", &[field("", Takes::Address4)], "address {}", "The IPv4 address that the device gets."),
    kind("address6", &[field("", Takes::Address6)], "address {}", "The IPv6 address that the device gets."),
    kind("service", &[field("", Takes::Word(&SERVICES))], "{}", "What service a login gets."),
    kind("privilege", &[field("", Takes::Number(0..=15, "a privilege level"))], "privilege {}", "A management privilege level."),
    repeated(kind("class", &[field("", TEXT)], "class {}", "A class that the NAS repeats in accounting.")),
    repeated(kind("message", &[field("", TEXT)], "message \"{}\"", "A text for the person; left out beside EAP.")),
    repeated(kind("send", &[field("", Takes::Attribute)], "{}", "An attribute of the dictionary as it is, whatever the dialect.")),
];

impl StatementKind {
    /// The statement of this keyword.
    pub fn of(keyword: &str) -> Option<&'static Self> {
        STATEMENTS.iter().find(|kind| kind.keyword == keyword)
    }

    /// Whether this is `send`, which names an attribute.
    pub fn names_attribute(&self) -> bool {
        self.fields.first().is_some_and(|field| field.takes == Takes::Attribute)
    }

    /// Whether it takes this, in one of its fields.
    pub fn takes(&self, takes: &Takes) -> bool {
        self.fields.iter().any(|field| field.takes == *takes)
    }
}

/// One statement of a grant with its values.
#[derive(Clone, Debug)]
pub struct Statement {
    /// Which one.
    pub kind: &'static StatementKind,
    /// The attribute that `send` names.
    pub attribute: Option<String>,
    /// Its values, each under its word; under none the first.
    pub values: Vec<(&'static str, StatementValue)>,
    /// Where it is written.
    pub span: Span,
}

/// Where it is written makes no difference.
impl PartialEq for Statement {
    fn eq(&self, other: &Self) -> bool {
        self.kind == other.kind && self.attribute == other.attribute && self.values == other.values
    }
}

/// What a statement says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StatementValue {
    /// A text or a word.
    Text(String),
    /// A number.
    Number(i64),
    /// Seconds.
    Duration(u32),
    /// Bits a second.
    Rate(u64),
    /// An address.
    Address(IpAddr),
    /// An access list, by its name.
    Acl(String),
    /// A secret, by its name.
    Secret(String),
    /// The word is there.
    Flag,
}

/// As dialects read it.
impl fmt::Display for StatementValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) | Self::Acl(text) => f.write_str(text),
            Self::Secret(name) => write!(f, "secret {name}"),
            Self::Number(number) => number.fmt(f),
            Self::Duration(seconds) => seconds.fmt(f),
            Self::Rate(bits) => bits.fmt(f),
            Self::Address(address) => address.fmt(f),
            Self::Flag => Ok(()),
        }
    }
}

impl StatementValue {
    /// As people are told it.
    fn say(&self) -> String {
        match self {
            Self::Duration(seconds) => show_duration(u64::from(*seconds)),
            Self::Rate(bits) => show_rate(*bits),
            value => value.to_string(),
        }
    }
}

/// Units of rates and their bits a second, largest first.
const RATE_UNITS: [(&str, u64); 3] = [("G", 1_000_000_000), ("M", 1_000_000), ("k", 1_000)];

/// Bits a second as a policy would write them: `10M`.
fn show_rate(bits: u64) -> String {
    let unit = RATE_UNITS.iter().find(|(_, size)| bits >= *size && bits.is_multiple_of(*size));
    unit.map_or_else(|| bits.to_string(), |(unit, size)| format!("{}{unit}", bits / size))
}

/// `10M`, `1500`; none where it is no rate of 1 to 2^53 bits.
pub(crate) fn read_rate(word: &str) -> Option<u64> {
    let (digits, size) =
        RATE_UNITS.iter().find_map(|(unit, size)| Some((word.strip_suffix(unit)?, *size))).unwrap_or((word, 1));
    let bits = digits.parse::<u64>().ok()?.checked_mul(size)?;
    (1..=1 << 53).contains(&bits).then_some(bits)
}

impl Statement {
    /// Its first value, where it has one.
    pub fn value(&self) -> Option<&StatementValue> {
        self.field("")
    }

    /// The value under a word.
    pub fn field(&self, word: &str) -> Option<&StatementValue> {
        self.values.iter().find(|(known, _)| *known == word).map(|(_, value)| value)
    }

    /// The statement as people are told it.
    pub fn say(&self) -> String {
        if let (Some(attribute), Some(value)) = (&self.attribute, self.value()) {
            return format!("{attribute} {value}");
        }
        let first = self.value().map(StatementValue::say).unwrap_or_default();
        let mut said = self.kind.shown_as.replace("{}", &first);
        for (word, value) in self.values.iter().filter(|(word, _)| !word.is_empty()) {
            said = format!("{said} {word} {}", value.say()).trim_end().to_owned();
        }
        said
    }

    /// The statement as it is written.
    pub fn written(&self) -> String {
        let mut text = self.kind.keyword.to_owned();
        if let Some(attribute) = &self.attribute {
            text += &format!(" {attribute} =");
        }
        for (word, value) in &self.values {
            for part in [(*word).to_owned(), value.say()].into_iter().filter(|part| !part.is_empty()) {
                text += &format!(" {part}");
            }
        }
        text
    }
}

/// A statement as the policy has it: a value may come from a fact.
#[derive(Clone, Debug)]
pub(crate) struct Plan {
    pub(crate) kind: &'static StatementKind,
    pub(crate) attribute: Option<String>,
    pub(crate) values: Vec<(&'static FieldKind, Content)>,
    pub(crate) span: Span,
}

/// Where a value comes from.
#[derive(Clone, Debug)]
pub(crate) enum Content {
    /// It is written.
    Is(StatementValue),
    /// From a fact, or the default where that is not known or does not suit.
    From { expression: Expression, written: String, default: Option<StatementValue> },
}

/// Why a grant cannot be given: a fact that a statement takes its value from is not known,
/// or does not suit, and there is no default.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoValue {
    /// The statement.
    pub keyword: &'static str,
    /// The fact as it is written.
    pub written: String,
}

impl fmt::Display for NoValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "`{}` takes its value from {}, which has none that suits", self.keyword, self.written)
    }
}

impl Plan {
    /// Whether a value comes from a fact.
    pub(crate) fn varies(&self) -> bool {
        self.values.iter().any(|(_, content)| matches!(content, Content::From { .. }))
    }

    pub(crate) fn resolved(&self, facts: &dyn Facts) -> Result<Statement, NoValue> {
        self.with(|field, content| match content {
            Content::Is(value) => Ok(value.clone()),
            Content::From { expression, written, default } => {
                let known = match expression.value(facts) {
                    Known::Is(value) => field.takes.of_fact(&value),
                    _ => None,
                };
                let no_value = || NoValue { keyword: self.kind.keyword, written: written.clone() };
                known.or_else(|| default.clone()).ok_or_else(no_value)
            }
        })
    }

    /// The same with the longest values that facts may have.
    pub(crate) fn longest(&self) -> Statement {
        let longest = self.with(|field, content| match content {
            Content::Is(value) => Ok::<_, NoValue>(value.clone()),
            Content::From { .. } => Ok(field.takes.longest()),
        });
        longest.unwrap_or_else(|_| Statement {
            kind: self.kind,
            attribute: self.attribute.clone(),
            values: Vec::new(),
            span: self.span,
        })
    }

    fn with<E>(
        &self,
        value: impl Fn(&'static FieldKind, &Content) -> Result<StatementValue, E>,
    ) -> Result<Statement, E> {
        let values = self.values.iter().map(|(field, content)| Ok((field.word, value(field, content)?)));
        Ok(Statement {
            kind: self.kind,
            attribute: self.attribute.clone(),
            values: values.collect::<Result<_, E>>()?,
            span: self.span,
        })
    }
}

impl Takes {
    /// What a fact's value is here, where it suits.
    fn of_fact(&self, value: &Value<'_>) -> Option<StatementValue> {
        let text = match value {
            Value::Text(text) => text.to_string(),
            Value::Integer(number) => number.to_string(),
            Value::Address(address) => address.to_string(),
            Value::Mac(mac) => mac.to_string(),
            Value::Duration(seconds) => seconds.to_string(),
            _ => return None,
        };
        let short = |most: usize| (1..=most).contains(&text.len()).then(|| StatementValue::Text(text.clone()));
        let number = |range: &RangeInclusive<i64>| {
            let number = text.parse().ok().filter(|number| range.contains(number));
            number.map(StatementValue::Number)
        };
        match self {
            Self::Vlan => number(&VLANS).or_else(|| short(MOST_VLAN_NAME).filter(|_| text.parse::<i64>().is_err())),
            Self::Text(most) => short(*most),
            Self::Attribute => short(MOST_VALUE),
            Self::Number(range, _) => number(range),
            Self::NumberOrText(range, _) => {
                number(range).or_else(|| short(MOST_VALUE - 1).filter(|_| text.parse::<i64>().is_err()))
            }
            Self::Duration(least) => text.parse().ok().filter(|seconds| seconds >= least).map(StatementValue::Duration),
            Self::Rate => read_rate(&text).map(StatementValue::Rate),
            Self::Address4 => text.parse().ok().filter(IpAddr::is_ipv4).map(StatementValue::Address),
            Self::Address6 => text.parse().ok().filter(IpAddr::is_ipv6).map(StatementValue::Address),
            Self::Word(words) => words.contains(&text.as_str()).then_some(StatementValue::Text(text)),
            Self::Acl | Self::Flag => None,
        }
    }

    /// The value that takes most room.
    fn longest(&self) -> StatementValue {
        let text = |most: usize| StatementValue::Text("x".repeat(most));
        match self {
            Self::Vlan => text(MOST_VLAN_NAME),
            Self::Text(most) => text(*most),
            Self::NumberOrText(..) => text(MOST_VALUE - 1),
            Self::Attribute => text(MOST_VALUE),
            Self::Number(range, _) => StatementValue::Number(*range.end()),
            Self::Duration(_) => StatementValue::Duration(u32::MAX),
            Self::Rate => StatementValue::Rate(1 << 53),
            Self::Address4 => StatementValue::Address(IpAddr::from([255; 4])),
            Self::Address6 => StatementValue::Address(IpAddr::from([255; 16])),
            Self::Word(words) => StatementValue::Text(words.first().copied().unwrap_or_default().into()),
            Self::Acl | Self::Flag => StatementValue::Flag,
        }
    }
}

/// IEEE 802.1Q.
pub(crate) const VLANS: RangeInclusive<i64> = 1..=4094;
/// A tag takes one byte (RFC 2868 section 3.6).
pub(crate) const MOST_VLAN_NAME: usize = 252;
/// RFC 2865 section 5.
pub(crate) const MOST_VALUE: usize = 253;
