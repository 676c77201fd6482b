//! A dictionary file as it is written.

use std::sync::{Arc, LazyLock};

use regnant_base::{At, Item, Section, TomlFile};

use crate::attribute_id::AttributeId;
use crate::dictionary::definition::{Definition, Hidden, Kind, Privileged, Quantity, Vendor, VendorLayout};

/// RFC 5580 section 4.1 has the longest of the RFCs' names; people write them.
const LONGEST_NAME: usize = 100;
/// Attributes within attributes (see [`AttributeId`]).
const MOST_PARENTS: usize = 32;

/// Types by their words, also those that early files have.
static KINDS: LazyLock<Vec<(&'static str, Kind)>> =
    LazyLock::new(|| [&Kind::ALL[..], &[("octets", Kind::Octets), ("address", Kind::Ipv4Address)]].concat());

/// What a file says, before it is compared with what is known.
pub(super) struct DictionaryFile {
    pub(super) file: Arc<str>,
    pub(super) title: String,
    /// What it is known by, where it is no vendor's.
    pub(super) name: Option<String>,
    /// Whose attributes these are; an RFC's where there is none.
    pub(super) vendor: Option<At<Vendor>>,
    /// Numbers that nobody may take, and why.
    pub(super) unassigned: Vec<Unassigned>,
    pub(super) attributes: Vec<Entry>,
}

/// Numbers of attributes that are not assigned.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unassigned {
    /// The first.
    pub first: AttributeId,
    /// The last number, beside the first.
    pub last: u32,
    /// Why, for people.
    pub why: String,
    /// Whether anybody may use them as they like.
    pub free: bool,
}

/// One attribute, whose place is still to be found.
pub(super) struct Entry {
    pub(super) line: usize,
    pub(super) name: String,
    pub(super) number: u32,
    /// Names of the attributes that it stands in; none where it stands alone.
    pub(super) inside: Vec<At<String>>,
    /// All else, under an id of no meaning yet.
    pub(super) definition: Definition,
}

impl DictionaryFile {
    pub(super) fn read(file: &TomlFile<'_>, section: &Section<'_>) -> Option<Self> {
        let vendor = section.get("vendor").and_then(vendor);
        let title = section.text("title").map_or_else(String::new, |title| title.value.to_owned());
        let name = section.text("name").filter(|name| fits_name(name.value, section));
        if vendor.is_some() && name.is_some() {
            section.wrong("the file is known by its vendor's name; leave `name` out");
        }
        let source = section.text("source").map_or_else(String::new, |source| source.value.to_owned());
        let unassigned = section.sections("unassigned").iter().filter_map(unassigned).collect();
        let place: Arc<str> = file.name().into();
        let mut attributes = Vec::new();
        for one in section.sections("attribute") {
            attributes.extend(entry(&one, vendor.as_ref().map(|vendor| &vendor.value), (&source, &place)));
            one.close();
        }
        Some(Self { file: place, title, name: name.map(|name| name.value.to_owned()), vendor, unassigned, attributes })
    }
}

fn vendor(item: Item<'_>) -> Option<At<Vendor>> {
    if !item.is_section() {
        // Early files had the number alone.
        let number = item.number("vendor", (1, u32::MAX.into()))?;
        let name = String::new();
        let vendor = Vendor { number: number.value as u32, name, layout: VendorLayout::default() };
        return Some(At { value: vendor, line: number.line });
    }
    let section = item.section("vendor")?;
    let number = section.need("number").and_then(|item| item.number("number", (1, 0x00ff_ffff)));
    let name = section.need("name").and_then(|item| item.text("name"));
    let name = name.filter(|name| fits_name(name.value, &section));
    let bytes = |key, allowed: &[u64]| {
        let Some(item) = section.get(key) else { return Some(1) };
        let number = item.number(key, (0, 4))?.value;
        if !allowed.contains(&number) {
            let allowed = allowed.iter().map(u64::to_string).collect::<Vec<_>>().join(", ");
            item.wrong(format!("`{key}` is one of {allowed}"));
            return None;
        }
        Some(number as u8)
    };
    let (type_bytes, length_bytes) = (bytes("type-bytes", &[1, 2, 4]), bytes("length-bytes", &[0, 1, 2]));
    let continuation = section.flag("continuation");
    if continuation && length_bytes == Some(0) {
        section.wrong("with `continuation` there is a length too: let `length-bytes` be 1 or 2");
    }
    section.close();
    let layout = VendorLayout { type_bytes: type_bytes?, length_bytes: length_bytes?, continuation };
    let vendor = Vendor { number: number?.value as u32, name: name?.value.to_owned(), layout };
    Some(At { value: vendor, line: section.line() })
}

fn unassigned(section: &Section<'_>) -> Option<Unassigned> {
    let first = section.need("first").and_then(|item| item.text("first"))?;
    let first = match first.value.parse::<AttributeId>() {
        Ok(id) => id,
        Err(why) => {
            section.wrong(why);
            return None;
        }
    };
    let own = *first.numbers().last()?;
    let last = match section.get("last") {
        Some(item) => item.number("last", (own.into(), u32::MAX.into()))?.value as u32,
        None => own,
    };
    let why = section.need("why").and_then(|item| item.text("why"))?.value.to_owned();
    let free = section.flag("free");
    section.close();
    Some(Unassigned { first, last, why, free })
}

fn entry(section: &Section<'_>, vendor: Option<&Vendor>, (source, place): (&str, &Arc<str>)) -> Option<Entry> {
    let name = section.need("name").and_then(|item| item.text("name"));
    let name = name.filter(|name| fits_name(name.value, section));
    let number = section.need("number").and_then(|item| item.number("number", (0, u32::MAX.into())));
    let kind = section.need("type").and_then(|item| item.word("type", &KINDS));
    let also = section.texts("also");
    let also: Vec<_> = also.iter().filter(|name| fits_name(name.value, section)).collect();
    let inside = section.texts("inside");
    let inside: Vec<_> = inside.iter().map(|name| At { value: name.value.to_owned(), line: name.line }).collect();
    if inside.len() > MOST_PARENTS {
        section.wrong(format!("it stands in more than {MOST_PARENTS} others"));
    }
    let hidden = section.word("hidden", &Hidden::ALL);
    let accept = section.word("accept", &Quantity::ALL);
    let (tagged, secret) = (section.flag("tagged"), section.flag("secret"));
    let (repeats, reserved) = (section.flag("repeats"), section.flag("reserved"));
    let privileged = section.get("privileged").and_then(|item| privileged(&item));
    let own_source = match (section.text("rfc"), section.text("section")) {
        (Some(whole), _) => whole.value.to_owned(),
        (None, Some(part)) => format!("{source} section {}", part.value),
        (None, None) => source.to_owned(),
    };
    let values = section.get("values").and_then(|item| values(item.section("values")?, kind));
    let (name, kind) = (name?.value.to_owned(), kind?);
    fits_together(section, kind, (tagged, hidden), vendor.is_some());
    let values = values.unwrap_or_default();
    let kind = if kind == Kind::Integer && !values.is_empty() { Kind::Enum } else { kind };
    let definition = Definition {
        name: String::new(),
        also: also.iter().map(|name| name.value.to_owned()).collect(),
        id: AttributeId::plain(0),
        kind,
        source: own_source,
        tagged,
        repeats: repeats || accept == Some(Quantity::Any),
        secret: secret || hidden.is_some(),
        hidden,
        accept: accept.unwrap_or(Quantity::Any),
        reserved,
        privileged,
        place: (place.clone(), section.line()),
        values,
    };
    Some(Entry { line: section.line(), name, number: number?.value as u32, inside, definition })
}

/// `true`, `false`, a number above which values are privileged, or the values that are.
fn privileged(item: &Item<'_>) -> Option<Privileged> {
    if item.is_flag() {
        let always = item.flag("privileged")?;
        return Some(if always { Privileged::Always } else { Privileged::Never });
    }
    if item.is_number() {
        return item.number("privileged", (0, u32::MAX.into())).map(|most| Privileged::Above(most.value));
    }
    let values: Vec<_> = item.texts("privileged").iter().map(|text| text.value.to_owned()).collect();
    if values.is_empty() {
        item.wrong("write `true` or `false`, the number above which values are privileged, or a list of such values");
        return None;
    }
    Some(Privileged::Values(values))
}

/// What of an attribute excludes what else.
fn fits_together(section: &Section<'_>, kind: Kind, (tagged, hidden): (bool, Option<Hidden>), of_vendor: bool) {
    let name = kind.word();
    if tagged && !matches!(kind, Kind::Text | Kind::Octets | Kind::Integer | Kind::Enum) {
        section.wrong(format!("a tag goes with text, string, integer and enum, and not with {name}"));
    }
    if hidden.is_some() && !matches!(kind, Kind::Text | Kind::Octets) {
        section.wrong(format!("what is hidden is text or string, and not {name}"));
    }
    if hidden == Some(Hidden::UserPassword) && tagged {
        section.wrong("what is hidden as User-Password has no tag");
    }
    if of_vendor && matches!(kind, Kind::Vsa | Kind::Extended | Kind::LongExtended | Kind::Evs | Kind::Concat) {
        section.wrong(format!(
            "a vendor's attribute cannot be of type {name}; for what goes on, say `continuation = true`"
        ));
    }
}

fn values(section: Section<'_>, kind: Option<Kind>) -> Option<Vec<(String, u32)>> {
    let Some(most) = kind?.most() else {
        section.wrong(format!("names for numbers go with numbers, and not with {}", kind?.word()));
        return None;
    };
    let mut values: Vec<(String, u32)> = Vec::new();
    for (name, item) in section.entries() {
        let Some(number) = item.number(name.value, (0, most.min(u32::MAX.into()))) else { continue };
        if name.value.is_empty() || name.value.len() > LONGEST_NAME || !name.value.bytes().all(is_value_byte) {
            item.wrong(format!(
                "`{}` is no name for a number: write letters, digits and - . / + _",
                name.value.escape_debug()
            ));
        }
        if values.iter().any(|(known, _)| known.eq_ignore_ascii_case(name.value)) {
            item.wrong(format!("there are two names `{}`; case does not count", name.value));
        }
        values.push((name.value.to_owned(), number.value as u32));
    }
    Some(values)
}

fn is_value_byte(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"-./+_".contains(&byte)
}

/// Names are written in policies, where a dot leads into an attribute.
fn fits_name(name: &str, section: &Section<'_>) -> bool {
    let bytes = name.as_bytes();
    let fits = bytes.first().is_some_and(u8::is_ascii_alphanumeric)
        && bytes.last().is_some_and(u8::is_ascii_alphanumeric)
        && bytes.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'-')
        && bytes.len() <= LONGEST_NAME;
    if !fits {
        section.wrong(format!(
            "`{}` is no name: write up to {LONGEST_NAME} letters, digits and hyphens, such as Tarn-Zone",
            name.escape_debug()
        ));
    }
    fits
}
