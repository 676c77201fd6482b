//! What is kept of identities beside what every identity has: declared once, with a type, and
//! a fact from then on.

use std::net::IpAddr;
use std::sync::Arc;

use regnant_policy::{FactDefinition, IdentityKind, Known, Stage, Type, Value};
use serde::{Deserialize, Serialize};

use crate::facts::table::FactCode;

/// What is known of an identity, by its names in the order of these.
pub type KnownAttributes = Arc<[(Box<str>, Value<'static>)]>;

/// A declared attribute: the fact `device.NAME`, `user.NAME` or `machine.NAME`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IdentityAttribute {
    /// Of which kind of identity.
    pub of: IdentityKind,
    /// Its name.
    pub name: String,
    /// What its values are.
    pub kind: AttributeKind,
    /// What it means, for people.
    pub meaning: String,
}

/// What the values of an attribute are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AttributeKind {
    /// Text, in which case does not count.
    Text,
    /// A whole number.
    Number,
    /// True or false.
    Boolean,
    /// An IP address.
    Address,
    /// Several texts.
    Texts,
}

/// Names that are facts of every device, or will be.
const TAKEN_OF_DEVICES: [&str; 15] = [
    "mac",
    "known",
    "groups",
    "barred",
    "expired",
    "title",
    "owner",
    "note",
    "store",
    "maker",
    "profile",
    "first-seen",
    "last-seen",
    "expires",
    "attributes",
];

/// Names that are facts of every user and machine, or will be.
const TAKEN_OF_ACCOUNTS: [&str; 14] = [
    "proved",
    "claimed",
    "failure",
    "name",
    "store",
    "groups",
    "proof",
    "age",
    "disabled",
    "expired",
    "expires",
    "password",
    "kind",
    "attributes",
];

/// Texts of one fact that a store outside gives at most, and bytes of one.
const MOST_TEXTS: usize = 200;
const LONGEST: usize = 1_024;

impl AttributeKind {
    /// Every kind with its word.
    pub const ALL: [(&'static str, Self); 5] = [
        ("text", Self::Text),
        ("number", Self::Number),
        ("boolean", Self::Boolean),
        ("address", Self::Address),
        ("texts", Self::Texts),
    ];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, kind)| *kind == self).map_or("text", |(word, _)| word)
    }

    /// The value that texts from outside say; where they say something that is none of this type, one of
    /// another, so that what was said does not count as nothing.
    pub fn read<'t>(self, texts: impl Iterator<Item = &'t str>) -> Option<Value<'static>> {
        let texts: Vec<&str> = texts.filter(|text| !text.is_empty()).take(MOST_TEXTS + 1).collect();
        if texts.is_empty() {
            return None;
        }
        let read = || {
            if texts.len() > MOST_TEXTS || texts.iter().any(|text| text.len() > LONGEST) {
                return None;
            }
            if self == Self::Texts {
                return Some(Value::set(texts.iter().map(|text| Value::owned((*text).to_owned())).collect()));
            }
            // Of several nobody knows which is meant.
            let [one] = texts[..] else { return None };
            match self {
                Self::Number => one.trim().parse().ok().map(Value::Integer),
                Self::Boolean if one.eq_ignore_ascii_case("true") => Some(Value::Boolean(true)),
                Self::Boolean if one.eq_ignore_ascii_case("false") => Some(Value::Boolean(false)),
                Self::Boolean => None,
                Self::Address => one.trim().parse::<IpAddr>().ok().map(Value::Address),
                Self::Text | Self::Texts => Some(Value::owned(one.to_owned())),
            }
        };
        Some(read().unwrap_or_else(|| self.misfit()))
    }

    /// A value that is none of this type.
    pub fn misfit(self) -> Value<'static> {
        match self {
            Self::Texts => Value::Boolean(false),
            _ => Value::set(Vec::new()),
        }
    }

    fn as_type(self) -> Type {
        match self {
            Self::Text => Type::NAME,
            Self::Number => Type::Integer,
            Self::Boolean => Type::Boolean,
            Self::Address => Type::Address,
            Self::Texts => Type::Set(Box::new(Type::NAME)),
        }
    }
}

impl IdentityAttribute {
    /// Of what the attribute of a full name is, and its name: `user.department`. Without a word in
    /// front it is one of devices.
    pub fn split(full: &str) -> (IdentityKind, &str) {
        for (word, of) in
            [("device", IdentityKind::Mac), ("user", IdentityKind::User), ("machine", IdentityKind::Machine)]
        {
            if let Some(name) = full.strip_prefix(word).and_then(|rest| rest.strip_prefix('.')) {
                return (of, name);
            }
        }
        (IdentityKind::Mac, full)
    }

    /// The name as it is declared: that of a device stands alone.
    pub fn full_name(&self) -> String {
        match self.of {
            IdentityKind::Mac => self.name.clone(),
            _ => self.fact(),
        }
    }

    /// The name of its fact.
    pub fn fact(&self) -> String {
        format!("{}.{}", subject(self.of), self.name)
    }

    /// Whether an attribute may have this full name; else why not.
    pub fn check_name(full: &str) -> Result<(), String> {
        let (of, name) = Self::split(full);
        let letters = name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-');
        if !letters || !name.starts_with(|c: char| c.is_ascii_lowercase()) || name.ends_with('-') || name.len() > 64 {
            return Err(format!(
                "`{}` is no name of an attribute: it has up to 64 small letters, digits and hyphens, and begins with a \
                 letter; one of people or machines has `user.` or `machine.` in front",
                full.escape_debug()
            ));
        }
        let taken = if of == IdentityKind::Mac { &TAKEN_OF_DEVICES[..] } else { &TAKEN_OF_ACCOUNTS[..] };
        match taken.contains(&name) {
            true => Err(format!("`{0}.{name}` is a fact of every {0}: give the attribute another name", subject(of))),
            false => Ok(()),
        }
    }

    /// Its number, by which the journal keeps it: the same for the same name, in every release.
    pub(crate) fn code(&self) -> FactCode {
        // FNV-1a; those of the table of this crate are below.
        let hash = self
            .full_name()
            .bytes()
            .fold(0x811c_9dc5_u32, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193));
        FactCode(hash | 1 << 31)
    }

    pub(crate) fn definition(&self) -> FactDefinition {
        FactDefinition {
            name: self.fact(),
            also: Vec::new(),
            kind: self.kind.as_type(),
            known: Stage::Proof,
            always: false,
            meaning: self.meaning.clone(),
        }
    }

    /// Its value among those of an identity. What is of another type was said, and nobody knows what it means:
    /// that is unanswered, and not absent, or a rule that refuses would be passed over.
    pub(crate) fn value<'d>(&self, attributes: &'d [(Box<str>, Value<'static>)]) -> Known<Value<'d>> {
        let Ok(place) = attributes.binary_search_by(|(name, _)| (**name).cmp(&self.name)) else {
            return Known::Absent;
        };
        let value = &attributes[place].1;
        let read = match (self.kind, value) {
            (AttributeKind::Address, Value::Text(text)) => text.parse::<IpAddr>().ok().map(Value::Address),
            (AttributeKind::Text, Value::Text(text)) => Some(Value::text(text)),
            (AttributeKind::Address, Value::Address(_))
            | (AttributeKind::Number, Value::Integer(_))
            | (AttributeKind::Boolean, Value::Boolean(_))
            | (AttributeKind::Texts, Value::Set(_)) => Some(value.clone()),
            _ => None,
        };
        read.map_or(Known::Unanswered, Known::Is)
    }
}

/// Whose attributes they are, as facts say it.
fn subject(of: IdentityKind) -> &'static str {
    match of {
        IdentityKind::User => "user",
        IdentityKind::Machine => "machine",
        IdentityKind::Mac => "device",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_of_another_type_is_unanswered_and_not_absent() {
        let texts = Value::set(vec![Value::owned("a"), Value::owned("b")]);
        let attributes: KnownAttributes = vec![
            ("class".into(), Value::owned("crane")),
            ("level".into(), Value::Integer(7)),
            ("tags".into(), texts),
            ("twin".into(), Value::owned("10.44.0.9")),
        ]
        .into();
        let value = |name: &str, kind| {
            let attribute =
                IdentityAttribute { of: IdentityKind::Mac, name: name.into(), kind, meaning: String::new() };
            match attribute.value(&attributes) {
                Known::Is(value) => Some(value.to_string()),
                Known::Unanswered => Some("unanswered".into()),
                _ => None,
            }
        };
        assert_eq!(value("class", AttributeKind::Text).as_deref(), Some("\"crane\""));
        assert_eq!(value("level", AttributeKind::Number).as_deref(), Some("7"));
        assert_eq!(value("twin", AttributeKind::Address).as_deref(), Some("10.44.0.9"));
        assert!(value("tags", AttributeKind::Texts).is_some());
        for (name, kind) in [
            ("class", AttributeKind::Number),
            ("class", AttributeKind::Address),
            ("level", AttributeKind::Text),
            ("level", AttributeKind::Boolean),
            ("tags", AttributeKind::Text),
        ] {
            assert_eq!(value(name, kind).as_deref(), Some("unanswered"), "{name}");
        }
        assert_eq!(value("nothing", AttributeKind::Text), None);
    }

    #[test]
    fn a_text_from_outside_is_a_value_of_the_type_or_none() {
        let read = |kind: AttributeKind, texts: &[&str]| {
            let value = kind.read(texts.iter().copied())?;
            let misfits = value == kind.misfit();
            Some(if misfits { "another".to_owned() } else { value.to_string() })
        };
        let another = Some("another".to_owned());
        assert_eq!(read(AttributeKind::Boolean, &["TRUE"]).as_deref(), Some("true"));
        assert_eq!(read(AttributeKind::Boolean, &["yes"]), another);
        assert_eq!(read(AttributeKind::Number, &[" 20 "]).as_deref(), Some("20"));
        assert_eq!(read(AttributeKind::Number, &["20", "30"]), another, "nobody knows which is meant");
        assert_eq!(read(AttributeKind::Address, &["10.44.0.9"]).as_deref(), Some("10.44.0.9"));
        assert_eq!(read(AttributeKind::Text, &[""]), None);
        assert_eq!(read(AttributeKind::Text, &[&"x".repeat(LONGEST + 1)]), another);
        assert_eq!(read(AttributeKind::Texts, &["a", "", "b"]), Some("{ \"a\", \"b\" }".into()));
        assert_eq!(read(AttributeKind::Texts, &["a"; MOST_TEXTS + 1]), another, "not all of them");
        assert_eq!(read(AttributeKind::Texts, &[]), None);
        for (_, kind) in AttributeKind::ALL {
            let attribute =
                IdentityAttribute { of: IdentityKind::User, name: "x".into(), kind, meaning: String::new() };
            assert_eq!(attribute.value(&[("x".into(), kind.misfit())]), Known::Unanswered);
        }
    }

    #[test]
    fn a_name_is_one_that_policies_can_write_and_no_fact_has() {
        for good in ["asset-class", "a", "level2", "user.department", "machine.compliant", "device.class"] {
            IdentityAttribute::check_name(good).unwrap();
        }
        let long = "a".repeat(65);
        for bad in ["", "-a", "a-", "2a", "Asset", "a b", "ä", "mac", "owner", &long, "user.name", "user.", "nas.tag"]
        {
            IdentityAttribute::check_name(bad).unwrap_err();
        }
        assert_eq!(IdentityAttribute::split("user.mac"), (IdentityKind::User, "mac"));
        assert_eq!(IdentityAttribute::split("class"), (IdentityKind::Mac, "class"));
    }
}
