//! Filter rules as equipment applies them (RFC 4849, RFC 3588 section 4.3).

use std::net::IpAddr;

/// A packet that a device sends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sent {
    /// The number of its protocol: 6 for TCP, 17 for UDP.
    pub protocol: u8,
    /// Where it goes.
    pub to: IpAddr,
    /// To which port.
    pub port: u16,
}

/// Whether rules let a packet through: the first that fits it decides, and one that none
/// fits is dropped. Without rules everything passes.
pub(crate) fn passes(rules: &[String], sent: &Sent) -> bool {
    rules.is_empty() || rules.iter().find_map(|rule| fits(rule, sent)).unwrap_or(false)
}

/// What a rule says of a packet that it fits; a rule that does not read fits none, so that a
/// mistake lets nothing through.
fn fits(rule: &str, sent: &Sent) -> Option<bool> {
    let words: Vec<&str> = rule.split(' ').collect();
    let ["permit" | "deny", "in", protocol, "from", rest @ ..] = &words[..] else { return None };
    let at = rest.iter().position(|word| *word == "to")?;
    // What the device sends comes from itself; the tests here have no ports of its own.
    let ["any" | "assigned"] = rest[..at] else { return None };
    let (place, ports) = match rest[at + 1..] {
        [place] => (place, None),
        [place, ports] => (place, Some(ports)),
        _ => return None,
    };
    let protocol_fits = match *protocol {
        "ip" => true,
        "tcp" => sent.protocol == 6,
        "udp" => sent.protocol == 17,
        number => number.parse() == Ok(sent.protocol),
    };
    let port_fits = |range: &str| {
        let (first, last) = range.split_once('-').unwrap_or((range, range));
        (first.parse().ok()..=last.parse().ok()).contains(&Some(sent.port))
    };
    let fits =
        protocol_fits && place_holds(place, sent.to) && ports.is_none_or(|ports| ports.split(',').any(port_fits));
    fits.then_some(words[0] == "permit")
}

fn place_holds(place: &str, address: IpAddr) -> bool {
    match place {
        "any" => true,
        place => {
            place.parse::<ipnet::IpNet>().map_or_else(|_| place.parse() == Ok(address), |net| net.contains(&address))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_rule_that_fits_decides() {
        let rules = [
            "permit in tcp from any to 10.44.30.0/24 102,4840-4849",
            "permit in udp from assigned to 10.44.0.53 53",
            "deny in ip from any to 10.44.0.0/16",
            "permit in ip from any to any",
        ]
        .map(str::to_owned);
        let passes = |protocol, to: &str, port| passes(&rules, &Sent { protocol, to: to.parse().unwrap(), port });
        assert!(passes(6, "10.44.30.7", 102) && passes(6, "10.44.30.7", 4845) && passes(17, "10.44.0.53", 53));
        assert!(!passes(6, "10.44.30.7", 103) && !passes(17, "10.44.30.7", 102) && !passes(6, "10.44.0.53", 53));
        assert!(passes(6, "192.0.2.1", 443));
        assert!(!super::passes(&rules[..2], &Sent { protocol: 6, to: "192.0.2.1".parse().unwrap(), port: 443 }));
        let odd = ["permit everything".to_owned()];
        assert!(!super::passes(&odd, &Sent { protocol: 6, to: "192.0.2.1".parse().unwrap(), port: 443 }));
    }
}
