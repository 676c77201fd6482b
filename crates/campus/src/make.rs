//! What equipment of each make understands.

use std::sync::Arc;

use regnant_client::{Ask, Exchange, Reply};
use regnant_radius::{Code, Dictionary};

use crate::enforce::Enforced;

/// A make of equipment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Make {
    /// It understands the attributes of the RFCs.
    Standard,
    /// A switch of Tarnworks: roles, privileges and lists of its own; it asks for the entries
    /// of a list by the name that a reply gives it.
    Tarnworks,
}

/// No list has more parts: equipment that is told of more gives up.
const MOST_PARTS: usize = 64;

impl Make {
    /// What the equipment makes of an Access-Accept; none where it could not get what it was
    /// told of, and lets nobody in then.
    pub(crate) fn enforce(self, reply: &Reply, exchange: &Exchange, dictionary: &Arc<Dictionary>) -> Option<Enforced> {
        let standard = Enforced::read(reply);
        match self {
            Self::Standard => Some(standard),
            Self::Tarnworks => {
                let after = |text: &str, before: &str| text.strip_prefix(before).map(str::to_owned);
                let role = reply.first("Tarnworks-Role").and_then(|role| after(role, "role="));
                let rules = match reply.first("Tarnworks-List") {
                    Some(name) => fetch(name, exchange, dictionary)?,
                    None => Vec::new(),
                };
                let privilege = reply.first("Tarnworks-Privilege").and_then(|word| match word {
                    "full" => Some(15),
                    "look" => Some(1),
                    _ => None,
                });
                // It does not know what the RFCs have for these.
                Some(Enforced { filters: role.into_iter().collect(), rules, privilege, ..standard })
            }
        }
    }
}

/// Asks for the entries of a list, part by part.
fn fetch(name: &str, exchange: &Exchange, dictionary: &Arc<Dictionary>) -> Option<Vec<String>> {
    let (mut rules, mut part) = (Vec::new(), "1".to_owned());
    for _ in 0..MOST_PARTS {
        let ask = Ask::for_itself().with("Tarnworks-Ask-List", name).with("Tarnworks-List-Part", &part);
        let reply = exchange.ask(&ask, dictionary).ok().filter(|reply| reply.code == Code::ACCESS_ACCEPT)?;
        let entries = reply.all("Tarnworks-List-Entry");
        rules.extend(entries.iter().map(|entry| as_filter_rule(entry)).collect::<Option<Vec<_>>>()?);
        match reply.first("Tarnworks-List-Part") {
            Some(next) => part = next.to_owned(),
            None => return Some(rules),
        }
    }
    None
}

/// `1 pass tcp self 1024 > 10.44.30.0/24 102+4840-4849` in the words that filter rules have.
fn as_filter_rule(entry: &str) -> Option<String> {
    let (from, to) = entry.split_once(" > ")?;
    let mut from = from.split(' ').skip(1);
    let action = match from.next()? {
        "pass" => "permit",
        "drop" => "deny",
        _ => return None,
    };
    let protocol = match from.next()? {
        "icmp" => "1",
        other => other,
    };
    let (from, to) = (side(from)?, side(to.split(' '))?);
    Some(format!("{action} in {protocol} from {from} to {to}"))
}

fn side<'e>(mut words: impl Iterator<Item = &'e str>) -> Option<String> {
    let place = match words.next()? {
        "*" => "any",
        "self" => "assigned",
        other => other,
    };
    Some(match words.next() {
        Some(ports) => format!("{place} {}", ports.replace('+', ",")),
        None => place.to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_entry_says_what_a_filter_rule_says() {
        assert_eq!(
            as_filter_rule("1 pass tcp self 1024-65535 > 10.44.30.0/24 102+4840-4849").unwrap(),
            "permit in tcp from assigned 1024-65535 to 10.44.30.0/24 102,4840-4849"
        );
        assert_eq!(as_filter_rule("9 drop ip * > *").unwrap(), "deny in ip from any to any");
        assert_eq!(as_filter_rule("1 let tcp * > *"), None);
        assert_eq!(as_filter_rule("1 pass tcp *"), None);
    }
}
