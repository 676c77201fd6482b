use crate::attribute::{Attribute, Attributes, number, vendor_of};
use crate::attribute_id::AttributeId;
use crate::dictionary::Dictionary;
use crate::filter_rule::read_filter_rules;
use crate::packet::Packet;
use crate::value::Value;

impl Dictionary {
    /// The attributes of a packet by name and value, for people. Secrets are
    /// named and not shown; filter rules are told one by one, at the end.
    pub fn show(&self, packet: &Packet<'_>) -> Vec<(String, String)> {
        self.show_all(packet.attributes())
    }

    /// The same for attributes of any packet, in order.
    pub fn show_all<'a>(&self, attributes: impl Iterator<Item = Attribute<'a>> + Clone) -> Vec<(String, String)> {
        let is_rule = |attribute: &Attribute<'_>| attribute.number == number::NAS_FILTER_RULE;
        let plain = attributes.clone().filter(|attribute| !is_rule(attribute));
        let rules = read_filter_rules(attributes.filter(is_rule).map(|attribute| attribute.value)).into_iter();
        plain
            .flat_map(|attribute| self.show_one(attribute))
            .chain(rules.map(|rule| ("NAS-Filter-Rule".to_owned(), rule)))
            .collect()
    }

    fn show_one(&self, attribute: Attribute<'_>) -> Vec<(String, String)> {
        let Attribute { number: kind, value } = attribute;
        if kind == number::VENDOR_SPECIFIC
            && let Some((vendor, rest)) = vendor_of(value)
            && self.knows_vendor(vendor)
        {
            let Some(inside) = Attributes::read(rest) else {
                return vec![(format!("vendor {vendor}"), format!("{} bytes that do not read", rest.len()))];
            };
            let id = |number: u8| AttributeId::of_vendor(vendor, number.into());
            return inside.map(|one| self.show_as(id(one.number), one.value)).collect();
        }
        vec![self.show_as(AttributeId::plain(kind), value)]
    }

    fn show_as(&self, id: AttributeId, value: &[u8]) -> (String, String) {
        let Some(definition) = self.by_id(id) else {
            return (format!("attribute {id}"), Value::Octets(value).to_string());
        };
        let shown = match Value::read(definition, value) {
            _ if id == AttributeId::plain(number::EAP_MESSAGE) => format!("{} bytes", value.len()),
            _ if definition.secret => "(secret)".into(),
            // Class and the like are bytes, in which people put words.
            Value::Octets(bytes) if is_readable(bytes) => format!("\"{}\"", String::from_utf8_lossy(bytes)),
            other => other.show(definition),
        };
        (definition.name.clone(), shown)
    }
}

fn is_readable(bytes: &[u8]) -> bool {
    !bytes.is_empty() && bytes.iter().all(|&byte| byte != b'"' && (byte == b' ' || byte.is_ascii_graphic()))
}
