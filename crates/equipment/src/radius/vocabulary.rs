//! Attributes as facts, the same while a request is decided and when somebody reads
//! about it later.

use std::borrow::Cow;
use std::sync::Arc;

use regnant_decision::{FactTable, IdentityAttribute};
use regnant_policy::{FactDefinition, Known, Schema, SentAttribute, Stage, Type, Value};
use regnant_radius::{AttributeId, Attributes, Definition, Dictionary, Kind, Value as AttributeValue, number};
use thiserror::Error;

use crate::radius::render::template::cannot_be_sent;

/// The facts that policies may ask about where equipment asks by RADIUS: those that every
/// request has, and one for each attribute that is no secret.
#[derive(Clone, Debug)]
pub struct Vocabulary {
    table: Arc<FactTable>,
    dictionary: Dictionary,
    /// Which attribute the facts of the protocol are, in their order.
    attributes: Vec<AttributeId>,
}

/// An attribute whose fact would have the name of another.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error(
    "{file}:{line}: `{name}` would be the fact `request.{name}`, which there is already: give the attribute another name"
)]
pub struct NameTaken {
    /// The dictionary file.
    pub file: String,
    /// The line in it.
    pub line: usize,
    /// The name.
    pub name: String,
}

impl Vocabulary {
    /// The facts with these attributes, and with what is kept of identities.
    pub fn new(dictionary: Dictionary, kept: Vec<IdentityAttribute>) -> Result<Self, NameTaken> {
        let own = FactTable::new(Vec::new(), []);
        for definition in dictionary.definitions() {
            let names = [&definition.name].into_iter().chain(&definition.also);
            let taken = |name: &&String| own.schema().find(&format!("request.{name}")).is_some();
            if let Some(name) = names.into_iter().find(taken) {
                let (file, line) = (definition.place.0.to_string(), definition.place.1);
                return Err(NameTaken { file, line, name: name.clone() });
            }
        }
        let shown = dictionary.definitions().iter().filter(|one| is_fact(one));
        let attributes = shown.clone().map(|attribute| attribute.id).collect();
        let table = FactTable::new(kept, shown.map(|attribute| fact(attribute))).with_attributes(sent(&dictionary));
        Ok(Self { table: Arc::new(table), dictionary, attributes })
    }

    /// The facts with the attributes of the RFCs.
    pub fn standard() -> Self {
        Self::new(Dictionary::standard(), Vec::new()).expect("the files that ship are checked by the tests")
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
        let mut values = self.dictionary.values(attributes, id).into_iter();
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

/// The attributes that grants may name.
fn sent(dictionary: &Dictionary) -> Vec<(String, SentAttribute)> {
    let every = dictionary.definitions().iter().flat_map(|definition| {
        let refused = cannot_be_sent(definition);
        let about = format!("{}, {}", kind(definition).describe(), definition.source);
        let sent = SentAttribute { name: definition.name.clone(), about, refused, secret: definition.secret };
        [&definition.name].into_iter().chain(&definition.also).map(move |name| (name.clone(), sent.clone()))
    });
    every.collect()
}

/// What holds others says nothing by itself; Vendor-Specific may be of a vendor that nobody
/// knows.
fn is_fact(attribute: &Definition) -> bool {
    !attribute.secret && (attribute.kind == Kind::Vsa || !attribute.kind.holds_attributes())
}

fn fact(attribute: &Definition) -> FactDefinition {
    FactDefinition {
        name: format!("request.{}", attribute.name),
        also: attribute.also.iter().map(|name| format!("request.{name}")).collect(),
        kind: kind(attribute),
        known: Stage::FirstPacket,
        always: false,
        meaning: format!("The attribute {} as the NAS sent it ({}).", attribute.name, attribute.source),
    }
}

fn kind(attribute: &Definition) -> Type {
    let named = attribute.values().map(|(name, number)| (name.to_owned(), number.into()));
    let one = match attribute.kind {
        Kind::Text => Type::Text { ignore_case: attribute.id == AttributeId::plain(number::USER_NAME) },
        Kind::Ipv4Address | Kind::Ipv6Address => Type::Address,
        kind if kind.most().is_none() => Type::Text { ignore_case: true },
        _ if attribute.values().next().is_some() => Type::Enumeration(named.collect()),
        _ => Type::Integer,
    };
    if attribute.repeats { Type::Set(Box::new(one)) } else { one }
}

/// A value that does not read as its type is as good as not sent.
fn value<'b>(definition: &Definition, bytes: Cow<'b, [u8]>) -> Option<Value<'b>> {
    match bytes {
        Cow::Borrowed(bytes) => value_in(definition, bytes),
        Cow::Owned(bytes) => value_in(definition, &bytes).map(Value::into_owned),
    }
}

fn value_in<'b>(definition: &Definition, bytes: &'b [u8]) -> Option<Value<'b>> {
    match AttributeValue::read(definition, bytes) {
        AttributeValue::Text(text) => Some(Value::text(text)),
        // One that is too large for a number here is told as the largest.
        AttributeValue::Integer(number) => Some(Value::Integer(i64::try_from(number).unwrap_or(i64::MAX))),
        AttributeValue::Time(seconds) => Some(Value::Integer(seconds.into())),
        AttributeValue::Address(address) => Some(Value::Address(address)),
        block @ (AttributeValue::Prefix(..) | AttributeValue::InterfaceId(_)) => Some(Value::owned(block.to_string())),
        octets @ AttributeValue::Octets(_) if is_bytes(definition.kind) => Some(Value::owned(octets.to_string())),
        AttributeValue::Octets(_) => None,
    }
}

fn is_bytes(kind: Kind) -> bool {
    matches!(kind, Kind::Octets | Kind::Concat | Kind::Vsa)
}
