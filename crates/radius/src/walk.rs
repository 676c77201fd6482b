//! Attributes taken apart down to those that hold no others: inside Vendor-Specific
//! (RFC 2865 section 5.26), the extended types and TLVs (RFC 6929 section 2).

use std::borrow::Cow;
use std::ops::Range;

use crate::attribute::{Attribute, Attributes, number, vendor_of, well_formed};
use crate::attribute_id::AttributeId;
use crate::dictionary::{Definition, Dictionary, Kind, VendorLayout};

/// Bytes of an enterprise number.
const VENDOR_LEN: usize = 4;
/// The bit that says of a part that it is not the last: in the flags of a long extended
/// attribute (RFC 6929 section 2.2), and in the continuation byte of vendors that have one.
const MORE: u8 = 0x80;
/// The extended type of a vendor's attribute (RFC 6929 section 2.4).
const EXTENDED_VENDOR_SPECIFIC: u8 = 26;

/// An attribute that holds no others, as far as they are known.
pub(crate) struct Leaf<'w> {
    pub(crate) id: AttributeId,
    pub(crate) definition: Option<&'w Definition>,
    /// Where its value stands, counted from the first attribute: more than one part where
    /// it is spread over several attributes.
    pub(crate) parts: &'w [Range<usize>],
    /// It holds others whose bytes make no sense.
    pub(crate) unread: bool,
}

impl Leaf<'_> {
    /// Its value.
    pub(crate) fn value<'b>(&self, bytes: &'b [u8]) -> Cow<'b, [u8]> {
        joined(self.parts, bytes)
    }

    /// Whether it must never be shown or kept. What makes no sense may be a secret.
    pub(crate) fn is_secret(&self) -> bool {
        self.unread || self.definition.is_some_and(|definition| definition.secret)
    }
}

impl Dictionary {
    /// Takes well-formed attributes apart, in the order sent. What is spread over several is
    /// told where it begins.
    pub(crate) fn walk(&self, bytes: &[u8], visit: impl FnMut(Leaf<'_>)) {
        Walk { dictionary: self, bytes, visit, open: None, joined: [0; 4] }.run();
    }

    /// Whether the value of an attribute, or something inside it, must never be shown or
    /// kept.
    pub fn holds_secret(&self, attribute: Attribute<'_>) -> bool {
        // A value has at most 253 bytes (RFC 2865 section 5).
        let whole = [&[attribute.number, attribute.value.len() as u8 + 2], attribute.value].concat();
        let mut found = false;
        self.walk(&whole, |leaf| found |= leaf.is_secret());
        found
    }

    /// Attributes as they may be kept: encoded, each as long as it was, and zeros in
    /// place of secrets.
    pub fn without_secrets(&self, attributes: Attributes<'_>) -> Vec<u8> {
        let bytes = attributes.as_bytes();
        let mut kept = bytes.to_vec();
        self.walk(bytes, |leaf| {
            if leaf.is_secret() {
                leaf.parts.iter().for_each(|part| kept[part.clone()].fill(0));
            }
        });
        kept
    }
}

/// A value that goes on in the next attribute.
struct Open {
    id: AttributeId,
    parts: Vec<Range<usize>>,
}

struct Walk<'w, V> {
    dictionary: &'w Dictionary,
    bytes: &'w [u8],
    visit: V,
    open: Option<Open>,
    /// Numbers whose attributes were joined already, a bit for each.
    joined: [u64; 4],
}

impl<V: FnMut(Leaf<'_>)> Walk<'_, V> {
    fn run(mut self) {
        let mut at = 0;
        while let Some(&[kind, length]) = self.bytes.get(at..at + 2) {
            let (value, next) = (at + 2, at + usize::from(length.max(2)));
            self.attribute(kind, value..next.min(self.bytes.len()));
            at = next;
        }
        self.give_up();
    }

    fn attribute(&mut self, kind: u8, value: Range<usize>) {
        let id = AttributeId::plain(kind);
        let definition = self.dictionary.by_id(id);
        match definition.map(|definition| definition.kind) {
            _ if kind == number::VENDOR_SPECIFIC => self.vendor(id, value),
            Some(Kind::Extended) => self.extended(id, value),
            Some(Kind::LongExtended) => self.long_extended(id, value),
            Some(Kind::Concat) => self.concatenated(id, value),
            Some(Kind::Tlv) => {
                self.give_up();
                self.known(id, &[value]);
            }
            _ => {
                self.give_up();
                (self.visit)(Leaf { id, definition, parts: &[value], unread: false });
            }
        }
    }

    /// An attribute that is whole, which may be a TLV.
    fn known(&mut self, id: AttributeId, parts: &[Range<usize>]) {
        let definition = self.dictionary.by_id(id);
        if definition.is_none_or(|definition| definition.kind != Kind::Tlv) {
            return (self.visit)(Leaf { id, definition, parts, unread: false });
        }
        let inside = joined(parts, self.bytes);
        let reads = well_formed(&inside).is_ok() && id.inner(0).is_some();
        if !reads {
            return (self.visit)(Leaf { id, definition, parts, unread: true });
        }
        let mut at = 0;
        for one in Attributes::new(&inside) {
            let (from, to) = (at + 2, at + 2 + one.value.len());
            if let Some(inner) = id.inner(one.number.into()) {
                self.known(inner, &within(parts, from..to));
            }
            at = to;
        }
    }

    /// The first of a number tells of all of them (RFC 8044 section 3.7).
    fn concatenated(&mut self, id: AttributeId, value: Range<usize>) {
        self.give_up();
        let kind = id.outermost();
        let (word, bit) = (&mut self.joined[usize::from(kind >> 6)], 1 << (kind & 63));
        if *word & bit != 0 {
            return;
        }
        *word |= bit;
        let mut parts = vec![value.clone()];
        let mut at = value.end;
        for one in Attributes::new(&self.bytes[at..]) {
            let end = at + 2 + one.value.len();
            if one.number == kind {
                parts.push(at + 2..end);
            }
            at = end;
        }
        self.known(id, &parts);
    }

    /// ```text
    /// |     Type      |    Length     | Extended-Type |  Value ...
    /// ```
    fn extended(&mut self, id: AttributeId, value: Range<usize>) {
        self.give_up();
        match self.bytes[value.clone()].first() {
            None => self.unread(id, value),
            Some(&kind) => {
                let part = value.start + 1..value.end;
                self.of_extended_type(id, kind, std::slice::from_ref(&part));
            }
        }
    }

    /// ```text
    /// |     Type      |    Length     | Extended-Type |M|  Reserved   |  Value ...
    /// ```
    fn long_extended(&mut self, id: AttributeId, value: Range<usize>) {
        let Some(&[kind, flags]) = self.bytes[value.clone()].first_chunk() else {
            self.give_up();
            return self.unread(id, value);
        };
        let Some(inner) = id.inner(kind.into()) else { return self.unread(id, value) };
        let part = value.start + 2..value.end;
        let mut parts = self.begun(inner);
        parts.push(part);
        match flags & MORE {
            0 => self.of_extended_type(id, kind, &parts),
            _ => self.open = Some(Open { id: inner, parts }),
        }
    }

    fn of_extended_type(&mut self, outer: AttributeId, kind: u8, parts: &[Range<usize>]) {
        let Some(id) = outer.inner(kind.into()) else { return };
        if kind != EXTENDED_VENDOR_SPECIFIC {
            return self.known(id, parts);
        }
        let inside = joined(parts, self.bytes);
        let read = vendor_of(&inside).and_then(|(vendor, rest)| Some((vendor, *rest.first()?)));
        let inner = read.and_then(|(vendor, kind)| id.inner(vendor)?.inner(kind.into()));
        match inner {
            Some(inner) => self.known(inner, &within(parts, VENDOR_LEN + 1..inside.len())),
            None => (self.visit)(Leaf { id, definition: self.dictionary.by_id(id), parts, unread: true }),
        }
    }

    /// ```text
    /// |     Type      |    Length     |           Vendor-Id ...       | Vendor-Type, Length, Value ...
    /// ```
    fn vendor(&mut self, id: AttributeId, value: Range<usize>) {
        let read = vendor_of(&self.bytes[value.clone()]);
        let known = read.and_then(|(vendor, _)| Some((vendor, self.dictionary.vendor(vendor)?.layout)));
        let Some((vendor, layout)) = known else {
            self.give_up();
            let definition = self.dictionary.by_id(id);
            // Of a vendor that nobody knows, nobody knows what is secret.
            return (self.visit)(Leaf { id, definition, parts: &[value], unread: false });
        };
        let Some(inside) = layout.read(&self.bytes[value.start + VENDOR_LEN..value.end]) else {
            self.give_up();
            return self.unread(id, value.start + VENDOR_LEN..value.end);
        };
        for one in inside {
            let start = value.start + VENDOR_LEN;
            let (id, part) = (AttributeId::of_vendor(vendor, one.kind), start + one.value.start..start + one.value.end);
            let mut parts = self.begun(id);
            parts.push(part);
            match one.more {
                false => self.known(id, &parts),
                true => self.open = Some(Open { id, parts }),
            }
        }
    }

    /// The parts of this attribute that came before; another one's are given up.
    fn begun(&mut self, id: AttributeId) -> Vec<Range<usize>> {
        if self.open.as_ref().is_some_and(|open| open.id != id) {
            self.give_up();
        }
        self.open.take().map(|open| open.parts).unwrap_or_default()
    }

    /// What was to go on and did not.
    fn give_up(&mut self) {
        if let Some(Open { id, parts }) = self.open.take() {
            (self.visit)(Leaf { id, definition: self.dictionary.by_id(id), parts: &parts, unread: true });
        }
    }

    fn unread(&mut self, id: AttributeId, value: Range<usize>) {
        (self.visit)(Leaf { id, definition: self.dictionary.by_id(id), parts: &[value], unread: true });
    }
}

/// One attribute inside Vendor-Specific.
pub(crate) struct OfVendor {
    pub(crate) kind: u32,
    pub(crate) value: Range<usize>,
    pub(crate) more: bool,
}

impl VendorLayout {
    /// The attributes of a vendor, out of what follows its number; none where they do not
    /// read.
    pub(crate) fn read(self, bytes: &[u8]) -> Option<Vec<OfVendor>> {
        let number = |bytes: &[u8]| bytes.iter().fold(0, |number, byte| number << 8 | u32::from(*byte));
        let (types, lengths) = (usize::from(self.type_bytes), usize::from(self.length_bytes));
        let (mut found, mut at) = (Vec::new(), 0);
        while at < bytes.len() {
            let header = bytes.get(at..at + self.header())?;
            let length = match lengths {
                0 => bytes.len() - at,
                _ => number(&header[types..types + lengths]) as usize,
            };
            let end = at.checked_add(length).filter(|end| *end >= at + self.header() && *end <= bytes.len())?;
            let more = self.continuation && header[types + lengths] & MORE != 0;
            found.push(OfVendor { kind: number(&header[..types]), value: at + self.header()..end, more });
            at = end;
        }
        Some(found)
    }
}

/// The bytes of these parts, one after the other.
fn joined<'b>(parts: &[Range<usize>], bytes: &'b [u8]) -> Cow<'b, [u8]> {
    match parts {
        [part] => Cow::Borrowed(&bytes[part.clone()]),
        parts => Cow::Owned(parts.iter().flat_map(|part| &bytes[part.clone()]).copied().collect()),
    }
}

/// Where a range of the joined bytes stands.
fn within(parts: &[Range<usize>], wanted: Range<usize>) -> Vec<Range<usize>> {
    let (mut found, mut before) = (Vec::with_capacity(1), 0);
    for part in parts {
        let (from, to) = (wanted.start.max(before), wanted.end.min(before + part.len()));
        if from < to {
            found.push(part.start + from - before..part.start + to - before);
        }
        before += part.len();
    }
    if found.is_empty() {
        // Nothing stands where it would begin.
        let start = parts.first().map_or(0, |part| part.start);
        found.push(start..start);
    }
    found
}
