//! What people keep of devices beside what every device has: declared once, with a type, and
//! a fact from then on.

use std::net::IpAddr;
use std::sync::Arc;

use regnant_policy::{FactDefinition, Stage, Type, Value};
use serde::{Deserialize, Serialize};

use crate::facts::table::FactCode;

/// What people know of devices, by its names in the order of these.
pub type DeviceAttributes = Arc<[(Box<str>, Value<'static>)]>;

/// A declared attribute of devices: the fact `device.NAME`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceAttribute {
    /// Its name.
    pub name: String,
    /// What its values are.
    pub kind: AttributeKind,
    /// What it means, for people.
    pub meaning: String,
}

/// What the values of an attribute of devices are.
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
const TAKEN: [&str; 15] = [
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

impl DeviceAttribute {
    /// Whether an attribute may have this name; else why not.
    pub fn check_name(name: &str) -> Result<(), String> {
        let letters = name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-');
        if !letters || !name.starts_with(|c: char| c.is_ascii_lowercase()) || name.ends_with('-') || name.len() > 64 {
            return Err(format!(
                "`{}` is no name of an attribute: it has up to 64 small letters, digits and hyphens, and begins with a letter",
                name.escape_debug()
            ));
        }
        match TAKEN.contains(&name) {
            true => Err(format!("`device.{name}` is a fact of every device: give the attribute another name")),
            false => Ok(()),
        }
    }

    /// Its number, by which the journal keeps it: the same for the same name, in every release.
    pub(crate) fn code(&self) -> FactCode {
        // FNV-1a; those of the table of this crate are below.
        let hash =
            self.name.bytes().fold(0x811c_9dc5_u32, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193));
        FactCode(hash | 1 << 31)
    }

    pub(crate) fn definition(&self) -> FactDefinition {
        FactDefinition {
            name: format!("device.{}", self.name),
            also: Vec::new(),
            kind: self.kind.as_type(),
            known: Stage::Proof,
            always: false,
            meaning: self.meaning.clone(),
        }
    }

    /// Its value among those of a device; what is of another type is as good as not there.
    pub(crate) fn value<'d>(&self, attributes: &'d DeviceAttributes) -> Option<Value<'d>> {
        let place = attributes.binary_search_by(|(name, _)| (**name).cmp(&self.name)).ok()?;
        let value = &attributes[place].1;
        match (self.kind, value) {
            (AttributeKind::Address, Value::Text(text)) => text.parse::<IpAddr>().ok().map(Value::Address),
            (AttributeKind::Text, Value::Text(text)) => Some(Value::text(text)),
            (AttributeKind::Number, Value::Integer(_))
            | (AttributeKind::Boolean, Value::Boolean(_))
            | (AttributeKind::Texts, Value::Set(_)) => Some(value.clone()),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_of_another_type_is_as_good_as_not_there() {
        let texts = Value::set(vec![Value::owned("a"), Value::owned("b")]);
        let attributes: DeviceAttributes = vec![
            ("class".into(), Value::owned("crane")),
            ("level".into(), Value::Integer(7)),
            ("tags".into(), texts),
            ("twin".into(), Value::owned("10.44.0.9")),
        ]
        .into();
        let value = |name: &str, kind| {
            let attribute = DeviceAttribute { name: name.into(), kind, meaning: String::new() };
            attribute.value(&attributes).map(|value| value.to_string())
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
            ("nothing", AttributeKind::Text),
        ] {
            assert_eq!(value(name, kind), None, "{name}");
        }
    }

    #[test]
    fn a_name_is_one_that_policies_can_write_and_no_fact_has() {
        for good in ["asset-class", "a", "level2"] {
            DeviceAttribute::check_name(good).unwrap();
        }
        for bad in ["", "-a", "a-", "2a", "Asset", "a b", "ä", "mac", "owner", &"a".repeat(65)] {
            DeviceAttribute::check_name(bad).unwrap_err();
        }
    }
}
