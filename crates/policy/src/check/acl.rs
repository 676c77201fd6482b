use crate::acl::{Acl, Action, Entry, Port, Protocol, Where};
use crate::check::Checker;
use crate::check::literal::block;
use crate::diagnostic::Diagnostic;
use crate::parse::ast::{AclItem, EntryItem, Name, Side};
use crate::value::block_holds;

impl Checker<'_> {
    pub(super) fn acls(&mut self, items: &[AclItem]) {
        for item in items {
            if item.entries.is_empty() {
                self.report(
                    Diagnostic::warning("W502", item.name.span, "this access list has no entry and denies everything")
                        .note("write `deny ip to any` if that is meant"),
                );
            }
            let entries: Vec<_> = item.entries.iter().filter_map(|entry| self.entry(entry)).collect();
            let acl = Acl { name: item.name.text.clone(), entries };
            // Where one of them is wrong, nobody knows what it would have taken.
            let whole = acl.entries.len() == item.entries.len();
            for (place, entry) in item.entries.iter().enumerate().filter(|_| whole) {
                if let Some(before) = hidden_by(&acl, place) {
                    self.report(
                        Diagnostic::warning("W517", entry.action.span, "no packet ever gets to this entry")
                            .also(item.entries[before].action.span, "this one takes all of them")
                            .note("move it before the other, or remove it"),
                    );
                }
            }
            self.program.acls.push(acl);
        }
    }

    fn entry(&mut self, item: &EntryItem) -> Option<Entry> {
        let action = self.one_of("action", &item.action, &[("permit", Action::Permit), ("deny", Action::Deny)])?;
        let protocol = match item.protocol.text.parse() {
            Ok(number) => Protocol::Number(number),
            Err(_) => {
                let known =
                    [("ip", Protocol::Ip), ("tcp", Protocol::Tcp), ("udp", Protocol::Udp), ("icmp", Protocol::Icmp)];
                self.one_of("protocol", &item.protocol, &known)?
            }
        };
        let (from, from_ports) = match &item.from {
            Some(side) => self.side(side, protocol)?,
            None => (Where::Any, Vec::new()),
        };
        let (to, to_ports) = self.side(&item.to, protocol)?;
        Some(Entry { action, protocol, from, from_ports, to, to_ports })
    }

    fn side(&mut self, side: &Side, protocol: Protocol) -> Option<(Where, Vec<Port>)> {
        let place = match side.place.text.as_str() {
            "any" => Where::Any,
            "this" => Where::This,
            word => match block(word) {
                Ok((address, length)) => Where::Block(address, length),
                Err(message) => {
                    self.report(
                        Diagnostic::error("W301", side.place.span, message)
                            .note("write any, this, an address or a block such as 10.44.0.0/16"),
                    );
                    return None;
                }
            },
        };
        if let (Some((port, _)), false) = (side.ports.first(), matches!(protocol, Protocol::Tcp | Protocol::Udp)) {
            self.report(Diagnostic::error("W302", port.span, "only tcp and udp have ports"));
            return None;
        }
        let ports = side.ports.iter().map(|(first, last)| self.port(first, last.as_ref())).collect::<Option<_>>()?;
        Some((place, ports))
    }

    fn port(&mut self, first: &Name, last: Option<&Name>) -> Option<Port> {
        let mut number = |name: &Name| {
            let number = name.text.parse::<u16>().ok();
            if number.is_none() {
                let message = format!("`{}` is no port", name.text);
                self.report(Diagnostic::error("W303", name.span, message).note("ports are 0 to 65535"));
            }
            number
        };
        let (start, end) = (number(first)?, number(last.unwrap_or(first))?);
        if start > end {
            self.report(Diagnostic::error("W304", first.span, "this range ends before it begins"));
            return None;
        }
        Some(Port { first: start, last: end })
    }
}

/// The first entry of an access list before another that takes all that it would.
fn hidden_by(acl: &Acl, place: usize) -> Option<usize> {
    let entry = &acl.entries[place];
    acl.entries[..place].iter().position(|before| covers(before, entry))
}

/// Whether every packet that fits an entry fits another.
fn covers(wide: &Entry, narrow: &Entry) -> bool {
    let protocol = wide.protocol == narrow.protocol || wide.protocol == Protocol::Ip;
    protocol
        && holds(&wide.from, &narrow.from)
        && holds(&wide.to, &narrow.to)
        && ports_hold(&wide.from_ports, &narrow.from_ports)
        && ports_hold(&wide.to_ports, &narrow.to_ports)
}

fn holds(wide: &Where, narrow: &Where) -> bool {
    match (wide, narrow) {
        (Where::Any, _) => true,
        (Where::Block(wide, length), Where::Block(narrow, longer)) => {
            longer >= length && block_holds(*wide, *length, *narrow)
        }
        (wide, narrow) => wide == narrow,
    }
}

fn ports_hold(wide: &[Port], narrow: &[Port]) -> bool {
    let within = |port: &Port| wide.iter().any(|known| known.first <= port.first && port.last <= known.last);
    wide.is_empty() || (!narrow.is_empty() && narrow.iter().all(within))
}
