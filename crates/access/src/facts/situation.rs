use std::borrow::Cow;
use std::sync::Arc;

use regnant_policy::{Event, FactId, Facts, Known, Mac, Members, Method, Type, Value};
use regnant_radius::{Packet, Value as AttributeValue};

use crate::facts::request::Derived;
use crate::facts::table::{FactTable, Source};
use crate::nas::Nas;
use crate::stores::{Endpoint, Person};

/// Everything known about one request, as facts.
pub(crate) struct Situation<'p> {
    pub(crate) table: &'p FactTable,
    pub(crate) nas: &'p Nas,
    pub(crate) address: std::net::IpAddr,
    pub(crate) packet: Packet<'p>,
    pub(crate) derived: Derived<'p>,
    pub(crate) user: User,
    pub(crate) device: Device,
}

/// What is known of the user.
#[derive(Clone, Debug, Default)]
pub(crate) enum User {
    /// Nobody presented themselves.
    #[default]
    Absent,
    /// Somebody did and is not proved.
    NotProved { claimed: String, event: Event },
    /// Somebody is proved.
    Proved { claimed: String, store: String, person: Person, method: Method },
}

/// What is known of the device.
#[derive(Clone, Debug, Default)]
pub(crate) enum Device {
    /// No MAC address was sent, or the gate does not look devices up.
    #[default]
    Absent,
    /// A store did not answer.
    Unanswered(Mac),
    /// No store lists it.
    Unlisted(Mac),
    /// A store lists it.
    Listed(Mac, Arc<Endpoint>),
}

impl Facts for Situation<'_> {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        let source = self.table.source(id);
        match source {
            Source::Attribute(number) => self.attribute(number, &self.table.schema().definition(id).kind),
            _ => self.own(source),
        }
    }
}

impl Situation<'_> {
    fn own(&self, source: Source) -> Known<Value<'_>> {
        let number = |number: i64| Known::Is(Value::Integer(number));
        let text = |text: &'_ str| Known::Is(Value::Text(Cow::Owned(text.to_owned())));
        let derived = &self.derived;
        match source {
            Source::NasName => Known::Is(Value::text(&self.nas.name)),
            Source::NasSite => Known::Is(Value::text(&self.nas.site)),
            Source::NasDialect => Known::Is(Value::text(&self.nas.dialect)),
            Source::NasKind => number(self.nas.kind as i64),
            Source::NasAddress => Known::Is(Value::Address(self.address)),
            Source::Carrier => derived.carrier.map(|carrier| Value::Integer(carrier as i64)).into(),
            Source::Purpose => derived.purpose.map(|purpose| Value::Integer(purpose as i64)).into(),
            Source::Medium => derived.medium.map(|medium| Value::Integer(medium as i64)).into(),
            Source::Port => derived.port.map(|port| Value::Integer(port.into())).into(),
            Source::Ssid => derived.ssid.map(Value::text).into(),
            Source::Mac => derived.mac.map(Value::Mac).into(),
            Source::ClaimedName => derived.claimed().map(Value::text).into(),
            Source::ClaimedRealm => {
                derived.claimed().and_then(|name| name.rsplit_once('@')).map(|(_, realm)| Value::text(realm)).into()
            }
            Source::UserProved => Known::Is(Value::Boolean(matches!(self.user, User::Proved { .. }))),
            Source::UserClaimed => match &self.user {
                User::NotProved { claimed, .. } | User::Proved { claimed, .. } => Known::Is(Value::text(claimed)),
                User::Absent => Known::Absent,
            },
            Source::UserFailure => match &self.user {
                User::NotProved { event, .. } => text(event.word()),
                _ => Known::Absent,
            },
            Source::UserName | Source::UserStore | Source::UserGroups | Source::UserProof => self.proved_user(source),
            Source::EndpointMac | Source::EndpointKnown | Source::EndpointGroups | Source::EndpointBarred => {
                self.device(source)
            }
            Source::Attribute(_) => Known::Absent,
        }
    }

    fn proved_user(&self, source: Source) -> Known<Value<'_>> {
        match &self.user {
            User::Proved { store, person, method, .. } => Known::Is(match source {
                Source::UserName => Value::text(&person.name),
                Source::UserStore => Value::text(store),
                Source::UserGroups => Value::Set(Members::Borrowed(&person.groups)),
                _ => Value::text(method.word()),
            }),
            // A store that did not answer might have proved the user.
            User::NotProved { event: Event::Unreachable, .. } => Known::Unanswered,
            _ => Known::Absent,
        }
    }

    fn device(&self, source: Source) -> Known<Value<'_>> {
        let (mac, listed) = match &self.device {
            Device::Absent => return Known::Absent,
            Device::Unanswered(mac) if source == Source::EndpointMac => (mac, None),
            Device::Unanswered(_) => return Known::Unanswered,
            Device::Unlisted(mac) => (mac, None),
            Device::Listed(mac, endpoint) => (mac, Some(endpoint)),
        };
        Known::Is(match source {
            Source::EndpointMac => Value::Mac(*mac),
            Source::EndpointKnown => Value::Boolean(listed.is_some()),
            Source::EndpointBarred => Value::Boolean(listed.is_some_and(|endpoint| endpoint.barred)),
            _ => Value::Set(Members::Borrowed(listed.map_or(&[], |endpoint| &endpoint.groups))),
        })
    }

    fn attribute(&self, number: u8, kind: &Type) -> Known<Value<'_>> {
        match kind {
            Type::Set(_) => {
                let values: Vec<_> = self.packet.all(number).filter_map(|bytes| self.value(number, bytes)).collect();
                if values.is_empty() { Known::Absent } else { Known::Is(Value::set(values)) }
            }
            _ => self.packet.first(number).and_then(|bytes| self.value(number, bytes)).into(),
        }
    }

    /// A value that does not read as its type is as good as not sent.
    fn value<'b>(&self, number: u8, bytes: &'b [u8]) -> Option<Value<'b>> {
        let definition = self.table.dictionary().by_number(number)?;
        match AttributeValue::read(definition, bytes) {
            AttributeValue::Text(text) => Some(Value::text(text)),
            AttributeValue::Integer(number) => Some(Value::Integer(number.into())),
            AttributeValue::Address(address) => Some(Value::Address(address.into())),
            octets @ AttributeValue::Octets(_) if definition.kind == regnant_radius::Kind::Octets => {
                Some(Value::owned(octets.to_string()))
            }
            AttributeValue::Octets(_) => None,
        }
    }

    /// Every fact that is known and no attribute, by name, for the journal.
    pub(crate) fn known_facts(&self) -> Vec<(String, String)> {
        let own = |id| !matches!(self.table.source(id), Source::Attribute(_));
        self.table
            .schema()
            .facts()
            .filter(|(id, _)| own(*id))
            .filter_map(|(id, definition)| match self.fact(id) {
                Known::Is(value) => Some((definition.name.clone(), definition.kind.show(&value))),
                Known::Unanswered => Some((definition.name.clone(), "unanswered".into())),
                Known::Absent => None,
            })
            .collect()
    }
}
