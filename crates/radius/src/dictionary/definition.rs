use std::sync::Arc;

use crate::attribute_id::AttributeId;
use crate::value::{ValueError, write};

/// What is known of one attribute.
#[derive(Clone, Debug)]
pub struct Definition {
    /// The registered name, such as `NAS-Port-Type`; inside a TLV it follows that one's,
    /// with a dot between.
    pub name: String,
    /// Other names that people know it by.
    pub also: Vec<String>,
    /// Which attribute it is.
    pub id: AttributeId,
    /// How the value is encoded.
    pub kind: Kind,
    /// Where it is defined, such as `RFC 2865 section 5.1`.
    pub source: String,
    /// Whether the value begins with a tag (RFC 2868 section 3).
    pub tagged: bool,
    /// Whether a packet may carry several.
    pub repeats: bool,
    /// Whether the value must never be shown or kept.
    pub secret: bool,
    /// How the value is hidden under the shared secret, where it is.
    pub hidden: Option<Hidden>,
    /// How many an Access-Accept may carry.
    pub accept: Quantity,
    /// Whether the service makes it by itself, so that nobody else may.
    pub reserved: bool,
    /// Which of its values make somebody an administrator of equipment; none where nobody said.
    pub privileged: Option<Privileged>,
    /// The dictionary file, and the line in it.
    pub place: (Arc<str>, usize),
    /// Names of numbers, in the order of the file.
    pub(super) values: Vec<(String, u32)>,
}

impl Definition {
    /// The name of a number, where the attribute has one for it.
    pub fn value_name(&self, number: u64) -> Option<&str> {
        self.values.iter().find(|(_, value)| u64::from(*value) == number).map(|(name, _)| name.as_str())
    }

    /// The number of a name; case does not count.
    pub fn value_number(&self, name: &str) -> Option<u32> {
        self.values.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, number)| *number)
    }

    /// The value that a person wrote, encoded, under tag 0 where it has a tag.
    pub fn encode(&self, text: &str) -> Result<Vec<u8>, ValueError> {
        write(self, 0, text)
    }

    /// Whether this value, as a person wrote it, makes somebody an administrator of equipment; some value
    /// where none is given. Nothing where nobody said.
    pub fn makes_administrator(&self, written: Option<&str>) -> Option<bool> {
        let privileged = self.privileged.as_ref()?;
        let Some(written) = written else { return Some(*privileged != Privileged::Never) };
        Some(match privileged {
            Privileged::Never => false,
            Privileged::Always => true,
            // What is no number cannot be compared.
            Privileged::Above(most) => self.number_of(written).is_none_or(|number| number > *most),
            Privileged::Values(values) => values.iter().any(|known| {
                let inside = self.kind.most().is_none() && written.to_lowercase().contains(&known.to_lowercase());
                let same = || self.encode(written).is_ok_and(|bytes| self.encode(known) == Ok(bytes));
                inside || written.eq_ignore_ascii_case(known) || same()
            }),
        })
    }

    /// The number that a written value is.
    fn number_of(&self, written: &str) -> Option<u64> {
        let named = self.value_number(written).map(u64::from);
        named.or_else(|| written.trim().parse().ok()).filter(|_| self.kind.most().is_some())
    }

    /// All named values.
    pub fn values(&self) -> impl Iterator<Item = (&str, u32)> {
        self.values.iter().map(|(name, number)| (name.as_str(), *number))
    }
}

/// How a value is encoded: the data types of RFC 8044 section 3, and shorter numbers, which
/// vendors use.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// UTF-8 text.
    Text,
    /// Bytes.
    Octets,
    /// A number of 4 bytes, most significant first.
    Integer,
    /// A number of 1 byte.
    Integer8,
    /// A number of 2 bytes.
    Integer16,
    /// A number of 8 bytes.
    Integer64,
    /// A number of 4 bytes that has names for its values.
    Enum,
    /// Seconds since 1970 (UTC), 4 bytes.
    Time,
    /// Bytes that go on in further attributes of the same number.
    Concat,
    /// An IPv6 interface id.
    InterfaceId,
    /// An IPv4 address.
    Ipv4Address,
    /// An IPv6 address.
    Ipv6Address,
    /// An IPv4 block.
    Ipv4Prefix,
    /// An IPv6 block.
    Ipv6Prefix,
    /// Attributes inside, each with a type and a length of one byte.
    Tlv,
    /// A vendor's attributes inside (RFC 2865 section 5.26).
    Vsa,
    /// An attribute of an extended type (RFC 6929 section 2.1).
    Extended,
    /// The same, which may go on in further attributes (RFC 6929 section 2.2).
    LongExtended,
    /// A vendor's attribute of an extended type (RFC 6929 section 2.4).
    Evs,
}

impl Kind {
    /// All with their words.
    pub const ALL: [(&'static str, Self); 19] = [
        ("text", Self::Text),
        ("string", Self::Octets),
        ("integer", Self::Integer),
        ("integer8", Self::Integer8),
        ("integer16", Self::Integer16),
        ("integer64", Self::Integer64),
        ("enum", Self::Enum),
        ("time", Self::Time),
        ("concat", Self::Concat),
        ("ifid", Self::InterfaceId),
        ("ipv4addr", Self::Ipv4Address),
        ("ipv6addr", Self::Ipv6Address),
        ("ipv4prefix", Self::Ipv4Prefix),
        ("ipv6prefix", Self::Ipv6Prefix),
        ("tlv", Self::Tlv),
        ("vsa", Self::Vsa),
        ("extended", Self::Extended),
        ("long-extended", Self::LongExtended),
        ("evs", Self::Evs),
    ];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }

    /// Whether it holds other attributes and says nothing by itself.
    pub fn holds_attributes(self) -> bool {
        matches!(self, Self::Tlv | Self::Vsa | Self::Extended | Self::LongExtended | Self::Evs)
    }

    /// The most that a number of this type can be, where it is one.
    pub fn most(self) -> Option<u64> {
        match self {
            Self::Integer8 => Some(u8::MAX.into()),
            Self::Integer16 => Some(u16::MAX.into()),
            Self::Integer | Self::Enum | Self::Time => Some(u32::MAX.into()),
            Self::Integer64 => Some(u64::MAX),
            _ => None,
        }
    }
}

/// How a value is hidden under the shared secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hidden {
    /// As User-Password (RFC 2865 section 5.2).
    UserPassword,
    /// As Tunnel-Password, with a salt (RFC 2868 section 3.5).
    TunnelPassword,
}

impl Hidden {
    /// All with their words.
    pub const ALL: [(&'static str, Self); 2] =
        [("user-password", Self::UserPassword), ("tunnel-password", Self::TunnelPassword)];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }
}

/// Which values of an attribute make somebody an administrator of equipment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Privileged {
    /// No value does.
    Never,
    /// Every value does.
    Always,
    /// Numbers above this do.
    Above(u64),
    /// These do, and texts that have one of them inside; case does not count.
    Values(Vec<String>),
}

/// How many of an attribute a packet may carry, as the tables of the RFCs say it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Quantity {
    /// None.
    None,
    /// One at most.
    One,
    /// Any number.
    Any,
}

impl Quantity {
    /// All with their words.
    pub const ALL: [(&'static str, Self); 3] = [("0", Self::None), ("0-1", Self::One), ("0+", Self::Any)];

    /// The word for it.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize].0
    }
}

/// Whose attributes stand in Vendor-Specific, and how they are laid out there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Vendor {
    /// Its private enterprise number.
    pub number: u32,
    /// Its name, with which the names of its attributes begin.
    pub name: String,
    /// The layout.
    pub layout: VendorLayout,
}

/// How a vendor lays its attributes out inside Vendor-Specific. RFC 2865 section 5.26
/// recommends a type and a length of one byte each.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct VendorLayout {
    /// Bytes of the type: 1, 2 or 4.
    pub type_bytes: u8,
    /// Bytes of the length: 1 or 2; 0 where the value takes what remains.
    pub length_bytes: u8,
    /// Whether a byte follows whose highest bit says that the value goes on in the next
    /// Vendor-Specific.
    pub continuation: bool,
}

impl Default for VendorLayout {
    fn default() -> Self {
        Self { type_bytes: 1, length_bytes: 1, continuation: false }
    }
}

impl VendorLayout {
    /// Bytes before the value.
    pub(crate) fn header(self) -> usize {
        usize::from(self.type_bytes) + usize::from(self.length_bytes) + usize::from(self.continuation)
    }

    /// The largest type.
    pub(crate) fn most(self) -> u32 {
        match self.type_bytes {
            1 => u8::MAX.into(),
            2 => u16::MAX.into(),
            _ => u32::MAX,
        }
    }
}
