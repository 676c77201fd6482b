//! Access lists as equipment takes them.

use std::fmt::Write as _;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;

use regnant_base::{Item, Section};
use regnant_policy::{Acl, Action, Entry, Port, Protocol, Where};
use regnant_radius::{AttributeList, Definition, Dictionary};
use sha2::{Digest, Sha256};

use crate::radius::render::RenderError;
use crate::radius::render::template::{attribute, known_attribute};

/// How a list reaches the equipment.
#[derive(Clone, Debug)]
pub(crate) enum AclCarriage {
    /// As NAS-Filter-Rule (RFC 4849), whose rules have the syntax of IPFilterRule (RFC 3588
    /// section 4.3).
    FilterRules(Arc<Definition>),
    /// By its name: the equipment has a list of that name.
    ByName {
        attribute: Arc<Definition>,
        /// What stands before and after the name.
        around: (String, String),
    },
    /// One attribute for each entry.
    Entries(Vec<EntryTemplate>),
    /// By a name, under which the equipment asks for the entries.
    Reference(Reference),
}

/// How a list is named, and how equipment asks for it.
#[derive(Clone, Debug)]
pub(crate) struct Reference {
    attribute: Arc<Definition>,
    /// What stands before and after the name.
    around: (String, String),
    /// The attribute in which the equipment asks, which is the mark of such a request.
    pub(crate) ask: Arc<Definition>,
    /// The part that it asks for; in a reply the next one, where there is one.
    pub(crate) part: Arc<Definition>,
    entries: Vec<EntryTemplate>,
}

/// How an entry is written.
#[derive(Clone, Debug)]
pub(crate) struct EntryTemplate {
    attribute: Arc<Definition>,
    parts: Vec<EntryPart>,
    /// Of which packets it is; none of both kinds.
    direction: Option<Direction>,
    family: Family,
    block: BlockForm,
    words: Vec<(String, String)>,
    between_ports: String,
    port_range: String,
}

#[derive(Clone, Debug)]
enum EntryPart {
    Fixed(String),
    Action,
    Direction,
    Protocol,
    From,
    FromPorts,
    To,
    ToPorts,
    Number,
    Name,
}

const ENTRY_PARTS: [(&str, EntryPart); 9] = [
    ("action", EntryPart::Action),
    ("direction", EntryPart::Direction),
    ("protocol", EntryPart::Protocol),
    ("from", EntryPart::From),
    ("from-ports", EntryPart::FromPorts),
    ("to", EntryPart::To),
    ("to-ports", EntryPart::ToPorts),
    ("number", EntryPart::Number),
    ("name", EntryPart::Name),
];

/// Which way packets go, seen from the equipment (RFC 3588 section 4.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Direction {
    /// From the device.
    In,
    /// To the device: entries whose `to` is `this`.
    Out,
}

const DIRECTIONS: [(&str, Direction); 2] = [("in", Direction::In), ("out", Direction::Out)];

impl Direction {
    fn of(entry: &Entry) -> Self {
        if entry.to == Where::This { Self::Out } else { Self::In }
    }

    fn word(self) -> &'static str {
        DIRECTIONS[self as usize].0
    }
}

/// Of which addresses entries are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Family {
    Both,
    Ipv4,
    Ipv6,
}

/// How a block of addresses is written.
#[derive(Clone, Copy, Debug)]
enum BlockForm {
    /// `10.44.0.0/16`
    Prefix,
    /// `10.44.0.0 255.255.0.0`
    Netmask,
    /// `10.44.0.0 0.0.255.255`
    Wildcard,
}

#[derive(Clone, Copy)]
enum Carry {
    FilterRules,
    ByName,
    Entries,
    Reference,
}

impl AclCarriage {
    /// Out of `acl` in a dialect file: a word, or a table that begins with `carry`.
    pub(crate) fn read(item: Item<'_>, dictionary: &Dictionary) -> Option<Self> {
        let kinds = [
            ("nas-filter-rule", Carry::FilterRules),
            ("by-name", Carry::ByName),
            ("entries", Carry::Entries),
            ("reference", Carry::Reference),
        ];
        if item.is_text() {
            let carry = item.word("way to carry an access list", &kinds)?;
            return match carry {
                Carry::FilterRules => Self::filter_rules(dictionary),
                Carry::ByName | Carry::Entries | Carry::Reference => {
                    item.wrong("this way needs more: write it as a table, `[acl]` with `carry` and what follows it");
                    None
                }
            };
        }
        let section = item.section("acl")?;
        let carry = section.word("carry", &kinds);
        let read = match carry {
            None if section.get("carry").is_none() => {
                section.wrong("`carry` is missing: it says how access lists travel");
                None
            }
            // What else it says belongs to a way that nobody knows yet.
            None => return None,
            Some(Carry::FilterRules) => Self::filter_rules(dictionary),
            Some(Carry::ByName) => by_name(&section, dictionary),
            Some(Carry::Entries) => entries(&section, dictionary).map(Self::Entries),
            Some(Carry::Reference) => reference(&section, dictionary).map(Self::Reference),
        };
        section.close();
        read
    }

    fn filter_rules(dictionary: &Dictionary) -> Option<Self> {
        dictionary.by_name("NAS-Filter-Rule").cloned().map(Self::FilterRules)
    }

    pub(crate) fn word(&self) -> &'static str {
        match self {
            Self::FilterRules(_) => "nas-filter-rule",
            Self::ByName { .. } => "by-name",
            Self::Entries(_) => "entries",
            Self::Reference(_) => "reference",
        }
    }

    /// The attributes that it uses.
    pub(crate) fn attributes(&self) -> Vec<&Arc<Definition>> {
        match self {
            Self::FilterRules(attribute) | Self::ByName { attribute, .. } => vec![attribute],
            Self::Entries(entries) => entries.iter().map(|entry| &entry.attribute).collect(),
            Self::Reference(reference) => vec![&reference.attribute],
        }
    }

    pub(crate) fn render(&self, acl: &Acl, list: &mut AttributeList) -> Result<(), RenderError> {
        match self {
            // RFC 4849 section 2: a zero byte stands between rules.
            Self::FilterRules(attribute) => list.add(attribute, 0, &filter_rules(acl).join("\0"))?,
            Self::ByName { attribute, around: (before, after) } => {
                list.add(attribute, 0, &format!("{before}{}{after}", acl.name))?;
            }
            Self::Entries(templates) => {
                for (attribute, value) in written(templates, acl)? {
                    list.add(attribute, 0, &value)?;
                }
            }
            Self::Reference(reference) => {
                let (before, after) = &reference.around;
                list.add(&reference.attribute, 0, &format!("{before}{}{after}", reference.label(acl)?))?;
            }
        }
        Ok(())
    }

    /// How lists are named and asked for, where they are.
    pub(crate) fn reference(&self) -> Option<&Reference> {
        match self {
            Self::Reference(reference) => Some(reference),
            _ => None,
        }
    }
}

/// Every entry of a list as it is written, with the attribute for it.
fn written<'t>(templates: &'t [EntryTemplate], acl: &Acl) -> Result<Vec<(&'t Arc<Definition>, String)>, RenderError> {
    let mut all = Vec::new();
    for (number, entry) in (1..).zip(&closed(acl)) {
        let before = all.len();
        for template in templates.iter().filter(|template| template.is_for(entry)) {
            all.push((&template.attribute, template.write(acl, number, entry)?));
        }
        if all.len() == before {
            let told = format!("it has no way to write entry {number} of the access list `{}`", acl.name);
            return Err(RenderError::Value(told));
        }
    }
    Ok(all)
}

impl Reference {
    /// The name that equipment asks by: the list's, and what tells its content from every
    /// other. Equipment keeps what it was told under a name for as long as it likes.
    pub(crate) fn label(&self, acl: &Acl) -> Result<String, RenderError> {
        let mut digest = Sha256::new();
        for (attribute, value) in written(&self.entries, acl)? {
            for part in [&attribute.name, &value] {
                digest.update((part.len() as u64).to_be_bytes());
                digest.update(part);
            }
        }
        let version: String = digest.finalize()[..8].iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(format!("{}@{version}", acl.name))
    }

    /// The entries of a list in the parts that it takes, none of more bytes than this.
    pub(crate) fn parts(&self, acl: &Acl, dictionary: &Dictionary, most: usize) -> Result<Vec<Vec<u8>>, RenderError> {
        let mut parts: Vec<Vec<u8>> = vec![Vec::new()];
        for (attribute, value) in written(&self.entries, acl)? {
            let mut one = AttributeList::default();
            one.add(attribute, 0, &value)?;
            let bytes = one.encode(dictionary)?;
            match parts.last_mut() {
                Some(last) if last.len() + bytes.len() <= most => last.extend(bytes),
                _ => parts.push(bytes),
            }
        }
        Ok(parts)
    }
}

fn entries(section: &Section<'_>, dictionary: &Dictionary) -> Option<Vec<EntryTemplate>> {
    let entries: Vec<_> = section.sections("entry").iter().map(|one| entry(one, dictionary)).collect();
    if entries.is_empty() {
        section.wrong("`entry` is missing: it says how an entry is written");
    }
    entries.into_iter().collect()
}

fn reference(section: &Section<'_>, dictionary: &Dictionary) -> Option<Reference> {
    let named = by_name(section, dictionary);
    let asked = |key: &'static str| {
        let item = section.need(key)?;
        let definition = known_attribute(item.text(key)?.value, &item, dictionary)?;
        if definition.secret || definition.kind.holds_attributes() {
            item.wrong(format!("`{}` says nothing that one can look for", definition.name));
            return None;
        }
        Some(definition)
    };
    let (ask, part) = (asked("ask"), asked("part"));
    if let Some(part) = part.as_ref().filter(|part| part.kind.most().is_none()) {
        section.wrong(format!("`part` is a number, and {} is not", part.name));
    }
    let entries = entries(section, dictionary);
    let Some(AclCarriage::ByName { attribute, around }) = named else { return None };
    Some(Reference { attribute, around, ask: ask?, part: part?, entries: entries? })
}

fn by_name(section: &Section<'_>, dictionary: &Dictionary) -> Option<AclCarriage> {
    let attribute = section.need("attribute").and_then(|item| attribute(item, dictionary));
    let value = section.text("value").map_or("{}", |text| text.value);
    let Some((before, after)) = value.split_once("{}") else {
        section.wrong("`value` must have {} in it, where the name of the list stands");
        return None;
    };
    Some(AclCarriage::ByName { attribute: attribute?, around: (before.to_owned(), after.to_owned()) })
}

fn entry(section: &Section<'_>, dictionary: &Dictionary) -> Option<EntryTemplate> {
    let attribute = section.need("attribute").and_then(|item| attribute(item, dictionary));
    let parts = section.need("value").and_then(entry_parts);
    let directions = DIRECTIONS.map(|(word, direction)| (word, Some(direction)));
    let directions = [directions[0], directions[1], ("both", None)];
    let direction = section.word("direction", &directions).flatten();
    let families = [("both", Family::Both), ("ipv4", Family::Ipv4), ("ipv6", Family::Ipv6)];
    let family = section.word("family", &families).unwrap_or(Family::Both);
    let forms = [("prefix", BlockForm::Prefix), ("netmask", BlockForm::Netmask), ("wildcard", BlockForm::Wildcard)];
    let block = section.word("block", &forms).unwrap_or(BlockForm::Prefix);
    let text = |key, otherwise: &str| section.text(key).map_or(otherwise, |text| text.value).to_owned();
    let (between_ports, port_range) = (text("between-ports", ","), text("port-range", "-"));
    let words = section.get("words").and_then(|item| item.section("words")).map(|words| {
        let entries = words.entries().into_iter();
        entries.filter_map(|(key, item)| Some((key.value.to_owned(), item.text(key.value)?.value.to_owned()))).collect()
    });
    section.close();
    let words = words.unwrap_or_default();
    let (attribute, parts) = (attribute?, parts?);
    Some(EntryTemplate { attribute, parts, direction, family, block, words, between_ports, port_range })
}

fn entry_parts(item: Item<'_>) -> Option<Vec<EntryPart>> {
    let (mut parts, mut rest) = (Vec::new(), item.text("value")?.value);
    while let Some((before, after)) = rest.split_once('{') {
        let (word, after) = after.split_once('}').unwrap_or((after, ""));
        let Some((_, part)) = ENTRY_PARTS.iter().find(|(known, _)| *known == word) else {
            let all = ENTRY_PARTS.map(|(word, _)| format!("{{{word}}}")).join(", ");
            item.wrong(format!("an entry has no field {{{}}}; there are: {all}", word.escape_debug()));
            return None;
        };
        parts.extend((!before.is_empty()).then(|| EntryPart::Fixed(before.to_owned())));
        parts.push(part.clone());
        rest = after;
    }
    parts.extend((!rest.is_empty()).then(|| EntryPart::Fixed(rest.to_owned())));
    Some(parts)
}

impl EntryTemplate {
    fn is_for(&self, entry: &Entry) -> bool {
        if self.direction.is_some_and(|direction| direction != Direction::of(entry)) {
            return false;
        }
        let is_ipv6 = [entry.from, entry.to].into_iter().find_map(|place| match place {
            Where::Block(address, _) => Some(address.is_ipv6()),
            Where::Any | Where::This => None,
        });
        match (self.family, is_ipv6) {
            (Family::Both, _) | (_, None) => true,
            (Family::Ipv6, Some(is_ipv6)) => is_ipv6,
            (Family::Ipv4, Some(is_ipv6)) => !is_ipv6,
        }
    }

    fn write(&self, acl: &Acl, number: usize, entry: &Entry) -> Result<String, RenderError> {
        let mut text = String::new();
        for part in &self.parts {
            match part {
                EntryPart::Fixed(fixed) => text.push_str(fixed),
                EntryPart::Action => text.push_str(self.word(action(entry))),
                EntryPart::Direction => text.push_str(self.word(Direction::of(entry).word())),
                EntryPart::Protocol => text.push_str(self.word(&protocol(entry.protocol))),
                EntryPart::From => text.push_str(&self.place(entry.from)?),
                EntryPart::To => text.push_str(&self.place(entry.to)?),
                EntryPart::FromPorts => text.push_str(&self.ports(&entry.from_ports)),
                EntryPart::ToPorts => text.push_str(&self.ports(&entry.to_ports)),
                EntryPart::Number => text.push_str(&number.to_string()),
                EntryPart::Name => text.push_str(&acl.name),
            }
        }
        // What was left out leaves no gap.
        Ok(text.split_whitespace().collect::<Vec<_>>().join(" "))
    }

    fn word<'w>(&'w self, word: &'w str) -> &'w str {
        self.words.iter().find(|(known, _)| known == word).map_or(word, |(_, own)| own)
    }

    fn place(&self, place: Where) -> Result<String, RenderError> {
        let (address, length) = match place {
            Where::Any => return Ok(self.word("any").to_owned()),
            Where::This => return Ok(self.word("this").to_owned()),
            Where::Block(address, length) => (address, length),
        };
        Ok(match (self.block, address) {
            _ if is_one(address, length) => format!("{}{address}", self.before_host()),
            (BlockForm::Prefix, _) => format!("{address}/{length}"),
            (BlockForm::Netmask, IpAddr::V4(_)) => format!("{address} {}", netmask(length)),
            (BlockForm::Wildcard, IpAddr::V4(_)) => {
                format!("{address} {}", Ipv4Addr::from_bits(!netmask(length).to_bits()))
            }
            (_, IpAddr::V6(_)) => {
                return Err(RenderError::Value(format!("an IPv6 block such as {address}/{length} has no mask")));
            }
        })
    }

    /// Some makes want a word before a single address.
    fn before_host(&self) -> String {
        self.words.iter().find(|(known, _)| known == "host").map_or_else(String::new, |(_, word)| format!("{word} "))
    }

    fn ports(&self, ports: &[Port]) -> String {
        let shown = ports.iter().map(|port| match port.first == port.last {
            true => port.first.to_string(),
            false => format!("{}{}{}", port.first, self.port_range, port.last),
        });
        shown.collect::<Vec<_>>().join(&self.between_ports)
    }
}

fn netmask(length: u8) -> Ipv4Addr {
    Ipv4Addr::from_bits(u32::MAX.checked_shl(32 - u32::from(length.min(32))).unwrap_or(0))
}

fn is_one(address: IpAddr, length: u8) -> bool {
    length == if address.is_ipv4() { 32 } else { 128 }
}

fn action(entry: &Entry) -> &'static str {
    match entry.action {
        Action::Permit => "permit",
        Action::Deny => "deny",
    }
}

fn protocol(protocol: Protocol) -> String {
    match protocol {
        Protocol::Ip => "ip".into(),
        Protocol::Tcp => "tcp".into(),
        Protocol::Udp => "udp".into(),
        Protocol::Icmp => "icmp".into(),
        Protocol::Number(number) => number.to_string(),
    }
}

/// The entries of a list, the last explicit: a neutral list denies what no entry names, and
/// equipment may not. Where it says what may reach the device, it ends for those packets too.
pub(crate) fn closed(acl: &Acl) -> Vec<Entry> {
    let mut entries = acl.entries.clone();
    let ends = |entry: &Entry, to: Where| entry.protocol == Protocol::Ip && entry.from == Where::Any && entry.to == to;
    let end = |to: Where| Entry {
        action: Action::Deny,
        protocol: Protocol::Ip,
        from: Where::Any,
        from_ports: Vec::new(),
        to,
        to_ports: Vec::new(),
    };
    let last_of =
        |entries: &[Entry], direction| entries.iter().rfind(|entry| Direction::of(entry) == direction).cloned();
    let (last_in, last_out) = (last_of(&entries, Direction::In), last_of(&entries, Direction::Out));
    if last_out.is_some_and(|last| !ends(&last, Where::This)) {
        entries.push(end(Where::This));
    }
    if !last_in.is_some_and(|last| ends(&last, Where::Any)) {
        entries.push(end(Where::Any));
    }
    entries
}

/// What a list permits is denied, and what it denies is permitted, to its end.
pub(crate) fn inverted(acl: &Acl) -> Acl {
    let turn = |entry: Entry| Entry {
        action: match entry.action {
            Action::Permit => Action::Deny,
            Action::Deny => Action::Permit,
        },
        ..entry
    };
    Acl { name: acl.name.clone(), entries: closed(acl).into_iter().map(turn).collect() }
}

/// The rules of a list. RFC 3588 passes what no rule names where the last one denies, so
/// the last is explicit.
pub(crate) fn filter_rules(acl: &Acl) -> Vec<String> {
    closed(acl).iter().map(filter_rule).collect()
}

fn filter_rule(entry: &Entry) -> String {
    let mut rule = String::new();
    let protocol = match entry.protocol {
        Protocol::Icmp => "1".to_owned(),
        other => protocol(other),
    };
    let _ = write!(rule, "{} {} {protocol} from ", action(entry), Direction::of(entry).word());
    side(&mut rule, entry.from, &entry.from_ports);
    rule.push_str(" to ");
    side(&mut rule, entry.to, &entry.to_ports);
    rule
}

fn side(rule: &mut String, place: Where, ports: &[Port]) {
    let _ = match place {
        Where::Any => write!(rule, "any"),
        Where::This => write!(rule, "assigned"),
        Where::Block(address, length) => match is_one(address, length) {
            true => write!(rule, "{address}"),
            false => write!(rule, "{address}/{length}"),
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
