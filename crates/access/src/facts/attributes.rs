//! Attributes as facts, the same while a request is decided and when somebody reads
//! about it later.

use regnant_policy::{Known, Type, Value};
use regnant_radius::{AttributeId, Attributes, Definition, Dictionary, Kind, Value as AttributeValue};

/// The fact that an attribute makes, out of attributes that may be known.
pub(crate) fn attribute_fact<'b>(
    dictionary: &Dictionary,
    id: AttributeId,
    kind: &Type,
    attributes: Attributes<'b>,
) -> Known<Value<'b>> {
    let Some(definition) = dictionary.by_id(id) else { return Known::Absent };
    // What holds a secret inside is none of its own, and is not told whole.
    let shown = attributes.filter(|one| id.as_plain().is_none() || !dictionary.is_secret(*one));
    let mut values = dictionary.values(shown, id);
    match kind {
        Type::Set(_) => {
            let values: Vec<_> = values.filter_map(|bytes| value(definition, bytes)).collect();
            if values.is_empty() { Known::Absent } else { Known::Is(Value::set(values)) }
        }
        // The first counts.
        _ => values.next().and_then(|bytes| value(definition, bytes)).into(),
    }
}

/// A value that does not read as its type is as good as not sent.
fn value<'b>(definition: &Definition, bytes: &'b [u8]) -> Option<Value<'b>> {
    match AttributeValue::read(definition, bytes) {
        AttributeValue::Text(text) => Some(Value::text(text)),
        AttributeValue::Integer(number) => Some(Value::Integer(number.into())),
        AttributeValue::Address(address) => Some(Value::Address(address.into())),
        octets @ AttributeValue::Octets(_) if definition.kind == Kind::Octets => Some(Value::owned(octets.to_string())),
        AttributeValue::Octets(_) => None,
    }
}
