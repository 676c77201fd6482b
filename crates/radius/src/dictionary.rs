use std::collections::{BTreeSet, HashMap};

use serde::Deserialize;
use thiserror::Error;

use crate::attribute::{Attribute, Attributes, number, vendor_of};
use crate::attribute_id::AttributeId;
use crate::builder::{BuildError, Builder};
use crate::code::Code;
use crate::packet::HEADER_LEN;
use crate::value::{ValueError, write};

const BUILT_IN: [(&str, &str); 8] = [
    ("rfc2548.toml", include_str!("../dictionary/rfc2548.toml")),
    ("rfc2865.toml", include_str!("../dictionary/rfc2865.toml")),
    ("rfc2868.toml", include_str!("../dictionary/rfc2868.toml")),
    ("rfc2869.toml", include_str!("../dictionary/rfc2869.toml")),
    ("rfc3579-eap.toml", include_str!("../dictionary/rfc3579-eap.toml")),
    ("rfc4849.toml", include_str!("../dictionary/rfc4849.toml")),
    ("rfc5090.toml", include_str!("../dictionary/rfc5090.toml")),
    ("rfc5607.toml", include_str!("../dictionary/rfc5607.toml")),
];

/// More attributes than this are not known at a time: each is a fact, and so numbered.
const MOST_ATTRIBUTES: u16 = 32_768;
/// The enterprise number that a Vendor-Specific value begins with.
const VENDOR_LEN: usize = 4;

/// The names, types and meanings of attributes.
///
/// A dictionary file is TOML: a list of `[[attribute]]` tables with `name`,
/// `number`, `type` (`text`, `octets`, `integer`, `address`), `rfc`, and where
/// they apply `tagged`, `repeats`, `secret` and a table `values` of names for
/// numbers. A file that begins with `vendor = NUMBER` is about attributes inside
/// Vendor-Specific (RFC 2865 section 5.26).
#[derive(Clone, Debug)]
pub struct Dictionary {
    definitions: Vec<Definition>,
    /// Places of attributes that stand in no other, by number: nearly all that is looked
    /// up.
    plain: Box<[Option<u16>; 256]>,
    /// Places of the others.
    nested: HashMap<AttributeId, u16>,
    by_name: HashMap<String, u16>,
    vendors: BTreeSet<u32>,
}

/// What is known of one attribute.
#[derive(Clone, Debug)]
pub struct Definition {
    /// The registered name, such as `NAS-Port-Type`.
    pub name: String,
    /// Which attribute it is.
    pub id: AttributeId,
    /// How the value is encoded.
    pub kind: Kind,
    /// Where it is defined.
    pub rfc: String,
    /// Whether the value begins with a tag (RFC 2868 section 3).
    pub tagged: bool,
    /// Whether a packet may carry several.
    pub repeats: bool,
    /// Whether the value must never be shown or kept.
    pub secret: bool,
    values: HashMap<String, u32>,
}

/// How a value is encoded (RFC 2865 section 5).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// UTF-8 text.
    Text,
    /// Bytes.
    Octets,
    /// A 32-bit number, most significant byte first.
    Integer,
    /// An IPv4 address.
    Address,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    /// The private enterprise number of whose attributes these are.
    vendor: Option<u32>,
    attribute: Vec<Entry>,
}

/// An attribute as a file says it.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    name: String,
    number: u8,
    #[serde(rename = "type")]
    kind: Kind,
    rfc: String,
    #[serde(default)]
    tagged: bool,
    #[serde(default)]
    repeats: bool,
    #[serde(default)]
    secret: bool,
    #[serde(default)]
    values: HashMap<String, u32>,
}

impl Entry {
    fn of(self, vendor: Option<u32>) -> Definition {
        let Self { name, number, kind, rfc, tagged, repeats, secret, values } = self;
        let id = match vendor {
            Some(vendor) => AttributeId::of_vendor(vendor, number.into()),
            None => AttributeId::plain(number),
        };
        Definition { name, id, kind, rfc, tagged, repeats, secret, values }
    }
}

impl Dictionary {
    /// The attributes of the RFCs that ship with this crate.
    pub fn standard() -> Self {
        Self::of_files(BUILT_IN).expect("the files that ship are checked by the tests")
    }

    /// The files that ship with this crate: names and texts.
    pub fn built_in_files() -> &'static [(&'static str, &'static str)] {
        &BUILT_IN
    }

    /// The attributes of these files, given by their names and texts.
    pub fn of_files<'f>(files: impl IntoIterator<Item = (&'f str, &'f str)>) -> Result<Self, DictionaryError> {
        let mut dictionary = Self {
            definitions: Vec::new(),
            plain: Box::new([None; 256]),
            nested: HashMap::new(),
            by_name: HashMap::new(),
            vendors: BTreeSet::new(),
        };
        files.into_iter().try_for_each(|(file, text)| dictionary.add(file, text))?;
        Ok(dictionary)
    }

    /// Adds the attributes of one dictionary file, all or none; `file` names it in errors.
    pub fn add(&mut self, file: &str, text: &str) -> Result<(), DictionaryError> {
        let parsed: File = toml::from_str(text)
            .map_err(|error| DictionaryError::Syntax { file: file.to_owned(), error: error.to_string() })?;
        let mut after = self.clone();
        after.vendors.extend(parsed.vendor);
        for definition in parsed.attribute.into_iter().map(|entry| entry.of(parsed.vendor)) {
            let place = u16::try_from(after.definitions.len()).ok().filter(|place| *place < MOST_ATTRIBUTES);
            let place = place.ok_or_else(|| DictionaryError::Full(file.to_owned()))?;
            let same_number = match definition.id.as_plain() {
                Some(number) => after.plain[usize::from(number)].replace(place),
                None => after.nested.insert(definition.id, place),
            };
            let same_name = after.by_name.insert(definition.name.to_lowercase(), place);
            if same_number.or(same_name).is_some() {
                return Err(DictionaryError::Twice { file: file.to_owned(), name: definition.name });
            }
            after.definitions.push(definition);
        }
        *self = after;
        Ok(())
    }

    /// Every attribute, in the order of the files.
    pub fn definitions(&self) -> &[Definition] {
        &self.definitions
    }

    /// What is known of an attribute.
    pub fn by_id(&self, id: AttributeId) -> Option<&Definition> {
        let place = match id.as_plain() {
            Some(number) => self.plain[usize::from(number)],
            None => self.nested.get(&id).copied(),
        };
        place.map(|place| &self.definitions[usize::from(place)])
    }

    /// Whether attributes of a vendor are known.
    pub fn knows_vendor(&self, vendor: u32) -> bool {
        self.vendors.contains(&vendor)
    }

    /// The values of an attribute among others, in the order sent; also where it stands
    /// inside another one.
    pub fn values<'b>(
        &self,
        attributes: impl Iterator<Item = Attribute<'b>>,
        id: AttributeId,
    ) -> impl Iterator<Item = &'b [u8]> {
        let outer = attributes.filter(move |attribute| attribute.number == id.outermost());
        outer.flat_map(move |attribute| values_inside(attribute.value, id))
    }

    /// Whether the value of an attribute must never be shown or kept, be it inside
    /// Vendor-Specific. What a known vendor would not send like that may be one.
    pub fn is_secret(&self, attribute: Attribute<'_>) -> bool {
        if attribute.number != number::VENDOR_SPECIFIC {
            return self.is_secret_id(AttributeId::plain(attribute.number));
        }
        let Some((vendor, rest)) = vendor_of(attribute.value) else { return false };
        match Attributes::read(rest) {
            _ if !self.knows_vendor(vendor) => false,
            Some(mut inside) => inside.any(|one| self.is_secret_id(AttributeId::of_vendor(vendor, one.number.into()))),
            None => true,
        }
    }

    fn is_secret_id(&self, id: AttributeId) -> bool {
        self.by_id(id).is_some_and(|definition| definition.secret)
    }

    /// Attributes as they may be kept: encoded, each as long as it was, and zeros in
    /// place of secrets.
    pub fn without_secrets(&self, attributes: Attributes<'_>) -> Vec<u8> {
        let mut kept = Vec::with_capacity(256);
        for attribute in attributes {
            // A value has at most 253 bytes (RFC 2865 section 5).
            kept.extend([attribute.number, attribute.value.len() as u8 + 2]);
            let value_at = kept.len();
            kept.extend_from_slice(attribute.value);
            if self.is_secret(attribute) {
                self.blank(attribute, &mut kept[value_at..]);
            }
        }
        kept
    }

    /// Zeros in place of the secrets of one attribute, which holds some.
    fn blank(&self, attribute: Attribute<'_>, value: &mut [u8]) {
        let vendor = vendor_of(attribute.value).filter(|_| attribute.number == number::VENDOR_SPECIFIC);
        let Some((vendor, inside)) = vendor.filter(|(vendor, _)| self.knows_vendor(*vendor)) else {
            return value.fill(0);
        };
        let Some(inside) = Attributes::read(inside) else { return value[VENDOR_LEN..].fill(0) };
        let mut at = VENDOR_LEN;
        for one in inside {
            let (from, to) = (at + 2, at + 2 + one.value.len());
            if self.is_secret_id(AttributeId::of_vendor(vendor, one.number.into())) {
                value[from..to].fill(0);
            }
            at = to;
        }
    }

    /// The attribute of this name; case does not count.
    pub fn by_name(&self, name: &str) -> Option<&Definition> {
        self.by_name.get(&name.to_lowercase()).map(|&place| &self.definitions[usize::from(place)])
    }

    /// Encodes attributes given as names and texts, header and tag 0 included.
    pub fn encode<'t>(&self, pairs: impl IntoIterator<Item = (&'t str, &'t str)>) -> Result<Vec<u8>, EncodeError> {
        let mut builder = Builder::unsigned(Code(0), 0);
        for (name, text) in pairs {
            let definition = self.by_name(name).ok_or_else(|| EncodeError::Unknown { name: name.to_owned() })?;
            let mut value = write(definition, text)?;
            if definition.tagged && definition.kind == Kind::Text {
                value.insert(0, 0);
            }
            builder.attribute_of(definition.id, &value)?;
        }
        Ok(builder.into_attributes())
    }
}

/// The values of an attribute inside another one, whose value this is; that value itself
/// where it is the one that is wanted.
fn values_inside(value: &[u8], id: AttributeId) -> impl Iterator<Item = &[u8]> {
    // Vendor-Specific as RFC 2865 section 5.26 recommends it. Other forms read as nothing.
    let (plain, inside) = match (id.numbers(), vendor_of(value)) {
        ([_], _) => (Some(value), None),
        (&[_, wanted, number], Some((vendor, rest))) if id.vendor() == Some(vendor) && wanted == vendor => {
            (None, Attributes::read(rest).map(|inside| (inside, number)))
        }
        _ => (None, None),
    };
    let inside = inside
        .into_iter()
        .flat_map(|(inside, number)| inside.filter(move |one| u32::from(one.number) == number).map(|one| one.value));
    plain.into_iter().chain(inside)
}

impl Builder {
    fn into_attributes(self) -> Vec<u8> {
        self.into_bytes().split_off(HEADER_LEN)
    }
}

impl Definition {
    /// The name of a number, where the attribute has one for it.
    pub fn value_name(&self, number: u32) -> Option<&str> {
        self.values.iter().find(|(_, value)| **value == number).map(|(name, _)| name.as_str())
    }

    /// The number of a name; case does not count.
    pub fn value_number(&self, name: &str) -> Option<u32> {
        self.values.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, &number)| number)
    }

    /// All named values.
    pub fn values(&self) -> impl Iterator<Item = (&str, u32)> {
        self.values.iter().map(|(name, &number)| (name.as_str(), number))
    }
}

/// What is wrong with a dictionary file.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum DictionaryError {
    /// It is not the TOML that is expected.
    #[error("{file}: {error}")]
    Syntax {
        /// The file.
        file: String,
        /// What the parser says, with the line.
        error: String,
    },
    /// There are as many as can be known.
    #[error("{0}: there are too many attributes")]
    Full(String),
    /// A name or number is taken.
    #[error("{file}: the name or number of `{name}` is defined already")]
    Twice {
        /// The file.
        file: String,
        /// The second attribute.
        name: String,
    },
}

/// Why an attribute that a person wrote cannot be encoded.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum EncodeError {
    /// The dictionary has no such name.
    #[error("there is no attribute `{name}` in the dictionary")]
    Unknown {
        /// What was written.
        name: String,
    },
    /// The value does not suit.
    #[error(transparent)]
    Value(#[from] ValueError),
    /// It does not fit.
    #[error(transparent)]
    Build(#[from] BuildError),
}
