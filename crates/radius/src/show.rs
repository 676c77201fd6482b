use crate::attribute::{Attributes, number, vendor_of};
use crate::attribute_id::AttributeId;
use crate::dictionary::{Dictionary, VendorLayout};
use crate::filter_rule::read_filter_rules;
use crate::packet::Packet;
use crate::value::{Value, tag};
use crate::walk::Leaf;

impl Dictionary {
    /// The attributes of a packet by name and value, for people. Secrets are
    /// named and not shown; filter rules are told one by one.
    pub fn show(&self, packet: &Packet<'_>) -> Vec<(String, String)> {
        self.show_all(packet.attributes())
    }

    /// The same for attributes of any packet, in order.
    pub fn show_all(&self, attributes: Attributes<'_>) -> Vec<(String, String)> {
        let (mut shown, bytes) = (Vec::new(), attributes.as_bytes());
        self.walk(bytes, |leaf| show_leaf(&leaf, bytes, &mut shown));
        shown
    }
}

fn show_leaf(leaf: &Leaf<'_>, bytes: &[u8], shown: &mut Vec<(String, String)>) {
    let value = leaf.value(bytes);
    let name = leaf.definition.map_or_else(|| format!("attribute {}", leaf.id), |definition| definition.name.clone());
    let plain = leaf.id.as_plain();
    if leaf.unread {
        return shown.push((name, format!("{} bytes that do not read", value.len())));
    }
    if plain == Some(number::NAS_FILTER_RULE) {
        let rules = read_filter_rules(std::iter::once(&*value));
        return shown.extend(rules.into_iter().map(|rule| (name.clone(), rule)));
    }
    if plain == Some(number::VENDOR_SPECIFIC) {
        return show_unknown_vendor(&value, shown);
    }
    let Some(definition) = leaf.definition else {
        return shown.push((name, Value::Octets(&value).to_string()));
    };
    let text = match Value::read(definition, &value) {
        _ if plain == Some(number::EAP_MESSAGE) => format!("{} bytes", value.len()),
        _ if definition.secret => "(secret)".into(),
        // Class and the like are bytes, in which people put words.
        Value::Octets(bytes) if is_readable(bytes) => format!("\"{}\"", String::from_utf8_lossy(bytes)),
        other => other.show(definition),
    };
    shown.push(match tag(definition, &value).0 {
        None | Some(0) => (name, text),
        Some(tag) => (name, format!("{text} (tag {tag})")),
    });
}

/// By number, vendor and bytes: as RFC 2865 section 5.26 recommends vendors to lay them
/// out, where that can be read.
fn show_unknown_vendor(value: &[u8], shown: &mut Vec<(String, String)>) {
    let Some((vendor, rest)) = vendor_of(value) else {
        return shown.push(("Vendor-Specific".into(), Value::Octets(value).to_string()));
    };
    match VendorLayout::default().read(rest).filter(|inside| !inside.is_empty()) {
        None => shown.push((format!("vendor {vendor}"), Value::Octets(rest).to_string())),
        Some(inside) => shown.extend(inside.into_iter().map(|one| {
            let id = AttributeId::of_vendor(vendor, one.kind);
            (format!("attribute {id}"), Value::Octets(&rest[one.value]).to_string())
        })),
    }
}

fn is_readable(bytes: &[u8]) -> bool {
    !bytes.is_empty() && bytes.iter().all(|&byte| byte != b'"' && (byte == b' ' || byte.is_ascii_graphic()))
}
