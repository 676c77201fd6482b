//! Attributes as facts, the same while a request is decided and when somebody reads
//! about it later.

use std::sync::Arc;

use regnant_decision::FactTable;
use regnant_policy::{FactDefinition, Known, Schema, Stage, Type, Value};
use regnant_radius::{AttributeId, Attributes, Definition, Dictionary, Kind, Value as AttributeValue, number};

/// The facts that policies may ask about where equipment asks by RADIUS: those that every
/// request has, and one for each attribute that is no secret.
#[derive(Clone, Debug)]
pub struct Vocabulary {
    table: Arc<FactTable>,
    dictionary: Dictionary,
    /// Which attribute the facts of the protocol are, in their order.
    attributes: Vec<AttributeId>,
}

impl Vocabulary {
    /// The facts with these attributes.
    pub fn new(dictionary: Dictionary) -> Self {
        let shown = dictionary.definitions().iter().filter(|attribute| !attribute.secret);
        let attributes = shown.clone().map(|attribute| attribute.id).collect();
        let table = Arc::new(FactTable::new(shown.map(fact)));
        Self { table, dictionary, attributes }
    }

    /// Which facts there are.
    pub fn table(&self) -> &Arc<FactTable> {
        &self.table
    }

    /// The facts as policies see them.
    pub fn schema(&self) -> &Schema {
        self.table.schema()
    }

    /// The attributes.
    pub fn dictionary(&self) -> &Dictionary {
        &self.dictionary
    }

    /// The fact that one of the attributes makes, by its place among them, out of
    /// attributes that may be known.
    pub fn attribute_fact<'b>(&self, place: usize, kind: &Type, attributes: Attributes<'b>) -> Known<Value<'b>> {
        let Some(id) = self.attributes.get(place).copied() else { return Known::Absent };
        let Some(definition) = self.dictionary.by_id(id) else { return Known::Absent };
        // What holds a secret inside is none of its own, and is not told whole.
        let shown = attributes.filter(|one| id.as_plain().is_none() || !self.dictionary.is_secret(*one));
        let mut values = self.dictionary.values(shown, id);
        match kind {
            Type::Set(_) => {
                let values: Vec<_> = values.filter_map(|bytes| value(definition, bytes)).collect();
                if values.is_empty() { Known::Absent } else { Known::Is(Value::set(values)) }
            }
            // The first counts.
            _ => values.next().and_then(|bytes| value(definition, bytes)).into(),
        }
    }
}

fn fact(attribute: &Definition) -> FactDefinition {
    FactDefinition {
        name: format!("request.{}", attribute.name),
        kind: kind(attribute),
        known: Stage::FirstPacket,
        meaning: format!("The attribute {} as the NAS sent it ({}).", attribute.name, attribute.rfc),
    }
}

fn kind(attribute: &Definition) -> Type {
    let one = match attribute.kind {
        Kind::Text => Type::Text { ignore_case: attribute.id == AttributeId::plain(number::USER_NAME) },
        Kind::Octets => Type::Text { ignore_case: true },
        Kind::Address => Type::Address,
        Kind::Integer if attribute.values().next().is_some() => {
            Type::Enumeration(attribute.values().map(|(name, number)| (name.to_owned(), number.into())).collect())
        }
        Kind::Integer => Type::Integer,
    };
    if attribute.repeats { Type::Set(Box::new(one)) } else { one }
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
