//! Attributes as facts, the same while a request is decided and when somebody reads
//! about it later.

use regnant_policy::{Known, Type, Value};
use regnant_radius::{Dictionary, Kind, Value as AttributeValue};

/// The fact that attributes of one number make, out of those that may be known.
pub(crate) fn attribute_fact<'b>(
    dictionary: &Dictionary,
    number: u8,
    kind: &Type,
    mut values: impl Iterator<Item = &'b [u8]>,
) -> Known<Value<'b>> {
    match kind {
        Type::Set(_) => {
            let values: Vec<_> = values.filter_map(|bytes| value(dictionary, number, bytes)).collect();
            if values.is_empty() { Known::Absent } else { Known::Is(Value::set(values)) }
        }
        // The first counts.
        _ => values.next().and_then(|bytes| value(dictionary, number, bytes)).into(),
    }
}

/// A value that does not read as its type is as good as not sent.
fn value<'b>(dictionary: &Dictionary, number: u8, bytes: &'b [u8]) -> Option<Value<'b>> {
    let definition = dictionary.by_number(number)?;
    match AttributeValue::read(definition, bytes) {
        AttributeValue::Text(text) => Some(Value::text(text)),
        AttributeValue::Integer(number) => Some(Value::Integer(number.into())),
        AttributeValue::Address(address) => Some(Value::Address(address.into())),
        octets @ AttributeValue::Octets(_) if definition.kind == Kind::Octets => Some(Value::owned(octets.to_string())),
        AttributeValue::Octets(_) => None,
    }
}
