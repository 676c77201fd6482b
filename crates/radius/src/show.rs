use crate::attribute::{Attribute, number};
use crate::crypto::mppe;
use crate::dictionary::Dictionary;
use crate::filter_rule::read_filter_rules;
use crate::packet::Packet;
use crate::value::Value;

impl Dictionary {
    /// The attributes of a packet by name and value, for people. Secrets are
    /// named and not shown; filter rules are told one by one, at the end.
    pub fn show(&self, packet: &Packet<'_>) -> Vec<(String, String)> {
        let plain = packet.attributes().filter(|attribute| attribute.number != number::NAS_FILTER_RULE);
        let rules = read_filter_rules(packet.all(number::NAS_FILTER_RULE)).into_iter();
        plain
            .map(|attribute| self.show_one(attribute))
            .chain(rules.map(|rule| ("NAS-Filter-Rule".to_owned(), rule)))
            .collect()
    }

    fn show_one(&self, Attribute { number: kind, value }: Attribute<'_>) -> (String, String) {
        let of_rfc_2548 = (kind == number::VENDOR_SPECIFIC).then(|| mppe::kind(value)).flatten();
        match self.by_number(kind) {
            _ if of_rfc_2548 == Some(mppe::SEND_KEY) => ("MS-MPPE-Send-Key".into(), "(secret)".into()),
            _ if of_rfc_2548 == Some(mppe::RECV_KEY) => ("MS-MPPE-Recv-Key".into(), "(secret)".into()),
            Some(definition) if kind == number::EAP_MESSAGE => {
                (definition.name.clone(), format!("{} bytes", value.len()))
            }
            Some(definition) if definition.secret => (definition.name.clone(), "(secret)".into()),
            Some(definition) => {
                let shown = match Value::read(definition, value) {
                    // Class and the like are bytes, in which people put words.
                    Value::Octets(bytes) if is_readable(bytes) => format!("\"{}\"", String::from_utf8_lossy(bytes)),
                    other => other.show(definition),
                };
                (definition.name.clone(), shown)
            }
            None => (format!("attribute {kind}"), Value::Octets(value).to_string()),
        }
    }
}

fn is_readable(bytes: &[u8]) -> bool {
    !bytes.is_empty() && bytes.iter().all(|&byte| byte != b'"' && (byte == b' ' || byte.is_ascii_graphic()))
}
