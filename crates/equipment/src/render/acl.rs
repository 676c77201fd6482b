//! Access lists as NAS-Filter-Rule (RFC 4849), whose rules have the syntax of
//! IPFilterRule (RFC 3588 section 4.3).

use std::fmt::Write as _;

use regnant_policy::{Acl, Action, Entry, Port, Protocol, Where};

/// The rules of a list. The last is always explicit: RFC 3588 passes what no
/// rule names where the last one denies, and a neutral list denies it.
pub(crate) fn filter_rules(acl: &Acl) -> Vec<String> {
    let mut rules: Vec<String> = acl.entries.iter().map(filter_rule).collect();
    let last_is_final = acl
        .entries
        .last()
        .is_some_and(|entry| entry.protocol == Protocol::Ip && entry.from == Where::Any && entry.to == Where::Any);
    if !last_is_final {
        rules.push("deny in ip from any to any".into());
    }
    rules
}

fn filter_rule(entry: &Entry) -> String {
    let mut rule = String::new();
    let action = match entry.action {
        Action::Permit => "permit",
        Action::Deny => "deny",
    };
    let protocol = match entry.protocol {
        Protocol::Ip => "ip".to_owned(),
        Protocol::Tcp => "tcp".to_owned(),
        Protocol::Udp => "udp".to_owned(),
        Protocol::Icmp => "1".to_owned(),
        Protocol::Number(number) => number.to_string(),
    };
    // Direction "in" is from the terminal (RFC 3588 section 4.3).
    let _ = write!(rule, "{action} in {protocol} from ");
    side(&mut rule, entry.from, &entry.from_ports);
    rule.push_str(" to ");
    side(&mut rule, entry.to, &entry.to_ports);
    rule
}

fn side(rule: &mut String, place: Where, ports: &[Port]) {
    let _ = match place {
        Where::Any => write!(rule, "any"),
        Where::This => write!(rule, "assigned"),
        Where::Block(address, length) => match (address.is_ipv4(), length) {
            (true, 32) | (false, 128) => write!(rule, "{address}"),
            _ => write!(rule, "{address}/{length}"),
        },
    };
    for (index, port) in ports.iter().enumerate() {
        rule.push(if index == 0 { ' ' } else { ',' });
        let _ = match port.first == port.last {
            true => write!(rule, "{}", port.first),
            false => write!(rule, "{}-{}", port.first, port.last),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(action: Action, protocol: Protocol, to: Where, ports: &[(u16, u16)]) -> Entry {
        let to_ports = ports.iter().map(|&(first, last)| Port { first, last }).collect();
        Entry { action, protocol, from: Where::This, from_ports: Vec::new(), to, to_ports }
    }

    #[test]
    fn a_list_ends_in_an_explicit_rule() {
        let net = Where::Block("10.44.30.0".parse().unwrap(), 24);
        let open = Acl {
            name: "a".into(),
            entries: vec![entry(Action::Permit, Protocol::Tcp, net, &[(102, 102), (4840, 4849)])],
        };
        assert_eq!(
            filter_rules(&open),
            ["permit in tcp from assigned to 10.44.30.0/24 102,4840-4849", "deny in ip from any to any"]
        );
        let mut last = entry(Action::Permit, Protocol::Ip, Where::Any, &[]);
        last.from = Where::Any;
        let closed = Acl { name: "b".into(), entries: vec![last] };
        assert_eq!(filter_rules(&closed), ["permit in ip from any to any"]);
    }
}
