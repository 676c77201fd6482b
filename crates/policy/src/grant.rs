use std::fmt;
use std::ops::RangeInclusive;

use crate::value::show_duration;

/// What access consists of, in neutral form.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Grant {
    /// Its name.
    pub name: String,
    /// What it says, inherited statements included.
    pub statements: Vec<Statement>,
}

/// A statement that grants may make. All that the language, the check, dialects, people
/// and the docs know of one follows from here.
#[derive(Debug, PartialEq, Eq)]
pub struct StatementKind {
    /// Its keyword in Writ.
    pub keyword: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// What it means, for the docs.
    pub meaning: &'static str,
    /// What shares its place: of those with the same word here, a grant has one.
    pub place: &'static str,
    /// Whether several may stand together.
    pub repeats: bool,
    /// How people are told; `{}` stands for the value.
    pub shown_as: &'static str,
}

/// What a statement takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Takes {
    /// A number of 1 to 4094 (IEEE 802.1Q) or a text.
    Vlan,
    /// A text of 1 to 252 bytes.
    Text,
    /// The name of an access list of the policy.
    Acl,
    /// A duration.
    Duration,
    /// A number of this range, and what it is.
    Number(RangeInclusive<i64>, &'static str),
    /// One of these words.
    Word(&'static [&'static str]),
}

/// The services a grant may name (RFC 2865 section 5.6).
const SERVICES: [&str; 4] = ["administrative", "nas-prompt", "login", "framed"];

const fn kind(keyword: &'static str, takes: Takes, shown_as: &'static str, meaning: &'static str) -> StatementKind {
    StatementKind { keyword, takes, meaning, place: keyword, repeats: false, shown_as }
}

const fn repeated(kind: StatementKind) -> StatementKind {
    StatementKind { repeats: true, ..kind }
}

/// A session either ends or is authenticated again.
const fn in_place_of(place: &'static str, kind: StatementKind) -> StatementKind {
    StatementKind { place, ..kind }
}

/// Every statement.
pub static STATEMENTS: [StatementKind; 11] = [
    kind("vlan", Takes::Vlan, "VLAN {}", "The VLAN that the port joins, by number or by a name that the NAS knows."),
    kind("role", Takes::Text, "role {}", "A role that the NAS knows."),
    kind("acl", Takes::Acl, "{}", "An access list of the policy; it always ends in an explicit rule."),
    kind("filter", Takes::Text, "filter {}", "A filter that is configured on the NAS."),
    kind("session", Takes::Duration, "session {}", "How long the session lasts."),
    in_place_of(
        "session",
        kind("reauthenticate", Takes::Duration, "again after {}", "When the session is authenticated again."),
    ),
    kind("idle", Takes::Duration, "idle {}", "How long nothing may pass before the session ends."),
    kind("service", Takes::Word(&SERVICES), "{}", "What service a login gets."),
    kind("privilege", Takes::Number(0..=15, "a privilege level"), "privilege {}", "A management privilege level."),
    repeated(kind("class", Takes::Text, "class {}", "A class that the NAS repeats in accounting.")),
    repeated(kind("message", Takes::Text, "message \"{}\"", "A text for the person; left out beside EAP.")),
];

/// One statement of a grant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Statement {
    /// Which one.
    pub kind: &'static StatementKind,
    /// What it says.
    pub value: StatementValue,
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
    /// An access list, by its name.
    Acl(String),
}

/// As dialects read it.
impl fmt::Display for StatementValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) | Self::Acl(text) => f.write_str(text),
            Self::Number(number) => number.fmt(f),
            Self::Duration(seconds) => seconds.fmt(f),
        }
    }
}

impl Statement {
    /// The statement as people are told it.
    pub fn say(&self) -> String {
        let value = match &self.value {
            StatementValue::Duration(seconds) => show_duration(u64::from(*seconds)),
            value => value.to_string(),
        };
        self.kind.shown_as.replace("{}", &value)
    }
}

impl StatementKind {
    /// The statement of this keyword.
    pub fn of(keyword: &str) -> Option<&'static Self> {
        STATEMENTS.iter().find(|kind| kind.keyword == keyword)
    }
}
