//! Attributes put together: values into TLVs, extended types and Vendor-Specific.

use crate::attribute::number::VENDOR_SPECIFIC;
use crate::attribute_id::AttributeId;
use crate::builder::{BuildError, Builder};
use crate::code::Code;
use crate::dictionary::{Definition, Dictionary, Kind, VendorLayout};
use crate::value::{ValueError, write};

/// RFC 2865 section 5.
const MAX_VALUE: usize = 253;
/// The bit that says of a part that it is not the last (RFC 6929 section 2.2).
const MORE: u8 = 0x80;

/// Attributes that are put together, in their order.
#[derive(Debug, Default)]
pub struct AttributeList {
    nodes: Vec<Node>,
}

#[derive(Debug)]
struct Node {
    id: AttributeId,
    content: Content,
}

#[derive(Debug)]
enum Content {
    Value(Vec<u8>),
    /// TLVs.
    Inside(Vec<Node>),
}

impl AttributeList {
    /// Adds an attribute with a value that a person wrote, under this tag where it has one.
    pub fn add(&mut self, definition: &Definition, tag: u8, text: &str) -> Result<(), ValueError> {
        self.push(definition.id, write(definition, tag, text)?, definition.repeats);
        Ok(())
    }

    /// Adds an attribute with a value that is encoded already.
    pub fn add_encoded(&mut self, definition: &Definition, value: Vec<u8>) {
        self.push(definition.id, value, definition.repeats);
    }

    /// The attributes, encoded.
    pub fn encode(&self, dictionary: &Dictionary) -> Result<Vec<u8>, BuildError> {
        let mut builder = Builder::unsigned(Code(0), 0);
        self.nodes.iter().try_for_each(|node| place(node.id, &node.value()?, dictionary, &mut builder))?;
        Ok(builder.into_attributes())
    }

    /// Adds an attribute with its value. One that stands in a TLV joins the last of that
    /// kind, unless that has one of its own already and it may not `repeat`.
    fn push(&mut self, id: AttributeId, value: Vec<u8>, repeats: bool) {
        let leaf = Node { id, content: Content::Value(value) };
        push(&mut self.nodes, id.tlvs(), leaf, repeats);
    }
}

fn push(nodes: &mut Vec<Node>, mut tlvs: impl Iterator<Item = AttributeId>, leaf: Node, repeats: bool) {
    let Some(outer) = tlvs.next() else { return nodes.push(leaf) };
    let joins = nodes.last().is_some_and(|last| last.id == outer && (repeats || !last.has(leaf.id)));
    if joins && let Some(Node { content: Content::Inside(inside), .. }) = nodes.last_mut() {
        return push(inside, tlvs, leaf, repeats);
    }
    let mut inside = Vec::new();
    push(&mut inside, tlvs, leaf, repeats);
    nodes.push(Node { id: outer, content: Content::Inside(inside) });
}

impl Node {
    fn has(&self, id: AttributeId) -> bool {
        match &self.content {
            Content::Value(_) => self.id == id,
            Content::Inside(inside) => inside.iter().any(|node| node.has(id)),
        }
    }

    fn value(&self) -> Result<Vec<u8>, BuildError> {
        let inside = match &self.content {
            Content::Value(value) => return Ok(value.clone()),
            Content::Inside(inside) => inside,
        };
        let mut bytes = Vec::new();
        for node in inside {
            let value = node.value()?;
            let long = BuildError::ValueTooLong { id: node.id, got: value.len() };
            // RFC 6929 section 2.3: type and length have one byte each.
            let length = u8::try_from(value.len() + 2).map_err(|_| long)?;
            let kind = node.id.numbers().last().copied().unwrap_or_default();
            bytes.extend_from_slice(&[kind as u8, length]);
            bytes.extend_from_slice(&value);
        }
        Ok(bytes)
    }
}

/// Writes one attribute that stands in no TLV.
fn place(id: AttributeId, value: &[u8], dictionary: &Dictionary, builder: &mut Builder) -> Result<(), BuildError> {
    let long = |_| BuildError::ValueTooLong { id, got: value.len() };
    match *id.numbers() {
        [number] => match dictionary.by_id(id).map(|definition| definition.kind) {
            Some(Kind::Concat) => parts(value, MAX_VALUE).try_for_each(|part| builder.attribute(number as u8, part)),
            _ => builder.attribute(number as u8, value),
        },
        [outer, vendor, number] if outer == u32::from(VENDOR_SPECIFIC) => {
            let layout = dictionary.vendor(vendor).map(|vendor| vendor.layout).unwrap_or_default();
            layout.place(id, (vendor, number), value, builder)
        }
        [outer, kind, ..] => {
            let outer = outer as u8;
            let of_vendor: Vec<u8> = match *id.numbers() {
                [_, _, vendor, number] => [&vendor.to_be_bytes()[..], &[number as u8]].concat(),
                _ => Vec::new(),
            };
            let whole = [&of_vendor[..], value].concat();
            let is_long = dictionary.by_id(AttributeId::plain(outer)).map(|definition| definition.kind);
            if is_long != Some(Kind::LongExtended) {
                return builder.attribute(outer, &[&[kind as u8], &whole[..]].concat()).map_err(long);
            }
            let mut parts = parts(&whole, MAX_VALUE - 2).peekable();
            while let Some(part) = parts.next() {
                let flags = if parts.peek().is_some() { MORE } else { 0 };
                builder.attribute(outer, &[&[kind as u8, flags], part].concat())?;
            }
            Ok(())
        }
        [] => Ok(()),
    }
}

/// A value in parts; an empty one is one part.
fn parts(value: &[u8], most: usize) -> impl Iterator<Item = &[u8]> {
    let empty = value.is_empty().then_some(value);
    empty.into_iter().chain(value.chunks(most))
}

impl VendorLayout {
    /// Writes an attribute into a Vendor-Specific of its own, or several.
    fn place(
        self,
        id: AttributeId,
        (vendor, number): (u32, u32),
        value: &[u8],
        builder: &mut Builder,
    ) -> Result<(), BuildError> {
        // Vendor-Id, and what stands before the value.
        let room = MAX_VALUE - 4 - self.header();
        let long = BuildError::ValueTooLong { id, got: value.len() };
        if value.len() > room && !self.continuation {
            return Err(long);
        }
        let mut parts = parts(value, room).peekable();
        while let Some(part) = parts.next() {
            let length = (self.header() + part.len()) as u16;
            let mut inside = vendor.to_be_bytes().to_vec();
            inside.extend_from_slice(&number.to_be_bytes()[4 - usize::from(self.type_bytes)..]);
            inside.extend_from_slice(&length.to_be_bytes()[2 - usize::from(self.length_bytes)..]);
            if self.continuation {
                inside.push(if parts.peek().is_some() { MORE } else { 0 });
            }
            inside.extend_from_slice(part);
            builder.attribute(VENDOR_SPECIFIC, &inside).map_err(|_| long)?;
        }
        Ok(())
    }
}
