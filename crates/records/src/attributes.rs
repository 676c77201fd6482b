//! What is kept of identities beside what every one has: how it is declared, and how it is
//! written of devices.

use std::collections::BTreeMap;

use regnant_base::did_you_mean;
use regnant_decision::{AttributeKind, IdentityAttribute, KnownAttributes};
use regnant_policy::{IdentityKind, Value};
use serde::{Deserialize, Serialize};

use crate::rows::{LanguageKind, LanguageRow};

/// Attributes of one device.
const MOST: usize = 64;
/// Bytes of one text, and texts of one list.
const LONGEST: usize = 1_024;
const MOST_TEXTS: usize = 64;

/// What is known of one device, by the names of attributes.
pub type AttributeValues = BTreeMap<String, AttributeValue>;

/// A value, as it is written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum AttributeValue {
    /// True or false.
    Boolean(bool),
    /// A whole number.
    Number(i64),
    /// A text, or an address.
    Text(String),
    /// Several texts.
    Texts(Vec<String>),
}

/// The attributes that are declared.
#[derive(Clone, Debug, Default)]
pub struct DeclaredAttributes(BTreeMap<String, AttributeKind>);

/// How an attribute is declared, in TOML.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Declaration {
    #[serde(rename = "type")]
    kind: AttributeKind,
    #[serde(default)]
    meaning: String,
}

impl DeclaredAttributes {
    /// Those of devices among these.
    pub fn new<'a>(attributes: impl IntoIterator<Item = &'a IdentityAttribute>) -> Self {
        let of_devices = attributes.into_iter().filter(|attribute| attribute.of == IdentityKind::Mac);
        Self(of_devices.map(|attribute| (attribute.name.clone(), attribute.kind)).collect())
    }

    /// What was written of a device, each of the type that is declared; empty texts are as good
    /// as nothing.
    pub(crate) fn read(&self, written: AttributeValues) -> Result<AttributeValues, String> {
        if written.len() > MOST {
            return Err(format!("it has {} attributes and may have {MOST}", written.len()));
        }
        let mut read = AttributeValues::new();
        for (name, value) in written {
            if value == AttributeValue::Text(String::new()) {
                continue;
            }
            let Some(kind) = self.0.get(&name) else {
                let hint = did_you_mean(&name, self.0.keys().map(String::as_str));
                let hint = hint.map(|known| format!("; did you mean `{known}`?")).unwrap_or_default();
                return Err(format!("no attribute `{}` of devices is declared{hint}", name.escape_debug()));
            };
            let value = of_kind(*kind, value).map_err(|what| format!("the attribute `{name}` {what}"))?;
            read.insert(name, value);
        }
        Ok(read)
    }
}

/// The value as its type wants it: cells of a table are all texts.
fn of_kind(kind: AttributeKind, value: AttributeValue) -> Result<AttributeValue, String> {
    use AttributeKind as Kind;
    use AttributeValue as Value;
    let wrong = |what: &str| Err(format!("is {what}"));
    let fits = |text: &str| text.len() <= LONGEST && !text.chars().any(char::is_control);
    match (kind, value) {
        (Kind::Text, Value::Text(text)) if fits(&text) => Ok(Value::Text(text)),
        (Kind::Text, Value::Text(_)) => wrong("a text of 1024 printable bytes at most"),
        (Kind::Text, _) => wrong("a text"),
        (Kind::Number, Value::Number(number)) => Ok(Value::Number(number)),
        (Kind::Number, Value::Text(text)) => {
            text.trim().parse().map(Value::Number).or_else(|_| wrong("a whole number"))
        }
        (Kind::Number, _) => wrong("a whole number"),
        (Kind::Boolean, Value::Boolean(is)) => Ok(Value::Boolean(is)),
        (Kind::Boolean, Value::Text(text)) => {
            text.trim().parse().map(Value::Boolean).or_else(|_| wrong("true or false"))
        }
        (Kind::Boolean, _) => wrong("true or false"),
        (Kind::Address, Value::Text(text)) => match text.trim().parse::<std::net::IpAddr>() {
            Ok(address) => Ok(Value::Text(address.to_string())),
            Err(_) => wrong("an IP address"),
        },
        (Kind::Address, _) => wrong("an IP address"),
        (Kind::Texts, Value::Texts(texts)) if texts.len() <= MOST_TEXTS && texts.iter().all(|text| fits(text)) => {
            Ok(Value::Texts(texts))
        }
        (Kind::Texts, Value::Text(text)) => {
            of_kind(kind, Value::Texts(text.split(';').map(|text| text.trim().to_owned()).collect()))
        }
        (Kind::Texts, _) => wrong("a list of at most 64 texts of 1024 printable bytes"),
    }
}

/// An attribute that a row declares.
pub fn declared(row: &LanguageRow) -> Result<IdentityAttribute, String> {
    IdentityAttribute::check_name(&row.name)?;
    let declaration: Declaration =
        toml::from_str(&row.text).map_err(|error| format!("the attribute `{}`: {}", row.name, error.message()))?;
    let (of, name) = IdentityAttribute::split(&row.name);
    Ok(IdentityAttribute { of, name: name.to_owned(), kind: declaration.kind, meaning: declaration.meaning })
}

/// The row that declares an attribute.
pub fn declaration(attribute: &IdentityAttribute) -> LanguageRow {
    let declaration = Declaration { kind: attribute.kind, meaning: attribute.meaning.clone() };
    let text = toml::to_string(&declaration).expect("a word and a text are TOML");
    LanguageRow { kind: LanguageKind::Attribute, name: attribute.full_name(), text }
}

/// As facts are made of them, from what is kept: a JSON object.
pub(crate) fn as_facts(json: &str) -> KnownAttributes {
    let values: AttributeValues = serde_json::from_str(json).unwrap_or_default();
    let values = values.into_iter().map(|(name, value)| {
        let value = match value {
            AttributeValue::Boolean(is) => Value::Boolean(is),
            AttributeValue::Number(number) => Value::Integer(number),
            AttributeValue::Text(text) => Value::owned(text),
            AttributeValue::Texts(texts) => Value::set(texts.into_iter().map(Value::owned).collect()),
        };
        (name.into_boxed_str(), value)
    });
    values.collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn values_are_of_the_type_that_is_declared_and_cells_are_read_as_such() {
        let attribute = |name: &str, kind| IdentityAttribute {
            of: IdentityKind::Mac,
            name: name.into(),
            kind,
            meaning: String::new(),
        };
        let all = AttributeKind::ALL.map(|(word, kind)| attribute(&format!("a-{word}"), kind));
        let declared = DeclaredAttributes::new(&all);
        let read = |name: &str, value: serde_json::Value| {
            let value = serde_json::from_value(value).unwrap();
            declared.read([(name.to_owned(), value)].into()).map(|read| serde_json::to_string(&read).unwrap())
        };
        for (name, value, expected) in [
            ("a-text", "crane".into(), r#"{"a-text":"crane"}"#),
            ("a-number", "-7".into(), r#"{"a-number":-7}"#),
            ("a-number", 7.into(), r#"{"a-number":7}"#),
            ("a-boolean", "true".into(), r#"{"a-boolean":true}"#),
            ("a-address", "2001:DB8::1".into(), r#"{"a-address":"2001:db8::1"}"#),
            ("a-texts", "a; b".into(), r#"{"a-texts":["a","b"]}"#),
            ("a-text", "".into(), "{}"),
        ] {
            assert_eq!(read(name, value).unwrap(), expected);
        }
        for (name, value) in [
            ("a-text", serde_json::json!(7)),
            ("a-text", "a\u{7}".into()),
            ("a-number", "seven".into()),
            ("a-boolean", 1.into()),
            ("a-address", "10.44.0".into()),
            ("a-texts", 1.into()),
        ] {
            assert!(read(name, value).unwrap_err().contains(name));
        }
        assert!(read("a-txt", "x".into()).unwrap_err().contains("did you mean `a-text`"));
    }

    proptest! {
        #[test]
        fn a_declaration_is_read_as_it_was_written(name in "[a-z][a-z0-9]{0,20}", kind in 0..5_usize, meaning: String) {
            let attribute = IdentityAttribute { of: IdentityKind::Mac, name: format!("{name}-x"), kind: AttributeKind::ALL[kind].1, meaning };
            prop_assert_eq!(declared(&declaration(&attribute)).unwrap(), attribute);
        }

        #[test]
        fn what_is_kept_is_read_whatever_it_is(json: String) {
            as_facts(&json);
        }
    }
}
