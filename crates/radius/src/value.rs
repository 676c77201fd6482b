use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use jiff::Timestamp;
use thiserror::Error;

use crate::dictionary::{Definition, Kind};

/// One attribute's value as its type reads it (RFC 8044 section 3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Value<'a> {
    /// Readable text (UTF-8).
    Text(&'a str),
    /// Bytes, or what its type cannot read.
    Octets(&'a [u8]),
    /// A number.
    Integer(u64),
    /// Seconds since 1970 (UTC).
    Time(u32),
    /// An address.
    Address(IpAddr),
    /// A block: its first address and the length of its prefix.
    Prefix(IpAddr, u8),
    /// An IPv6 interface id.
    InterfaceId([u8; 8]),
}

impl<'a> Value<'a> {
    /// Reads `bytes` by the definition's type; what does not fit stays bytes.
    pub fn read(definition: &Definition, bytes: &'a [u8]) -> Self {
        Self::read_typed(definition, bytes).unwrap_or(Self::Octets(bytes))
    }

    fn read_typed(definition: &Definition, bytes: &'a [u8]) -> Option<Self> {
        let (_, bytes) = tag(definition, bytes);
        Some(match definition.kind {
            Kind::Text => Self::Text(std::str::from_utf8(bytes).ok()?),
            Kind::Integer | Kind::Enum => match (definition.tagged, bytes) {
                (true, &[_, b, c, d]) => Self::Integer(u32::from_be_bytes([0, b, c, d]).into()),
                _ => Self::Integer(u32::from_be_bytes(bytes.try_into().ok()?).into()),
            },
            Kind::Integer8 => Self::Integer(u8::from_be_bytes(bytes.try_into().ok()?).into()),
            Kind::Integer16 => Self::Integer(u16::from_be_bytes(bytes.try_into().ok()?).into()),
            Kind::Integer64 => Self::Integer(u64::from_be_bytes(bytes.try_into().ok()?)),
            Kind::Time => Self::Time(u32::from_be_bytes(bytes.try_into().ok()?)),
            Kind::InterfaceId => Self::InterfaceId(bytes.try_into().ok()?),
            Kind::Ipv4Address => Self::Address(Ipv4Addr::from(<[u8; 4]>::try_from(bytes).ok()?).into()),
            Kind::Ipv6Address => Self::Address(Ipv6Addr::from(<[u8; 16]>::try_from(bytes).ok()?).into()),
            Kind::Ipv4Prefix => {
                let (&[_, length], address) = bytes.split_first_chunk()?;
                let address = Ipv4Addr::from(<[u8; 4]>::try_from(address).ok()?);
                block(address.into(), length)?
            }
            Kind::Ipv6Prefix => {
                let (&[_, length], begin) = bytes.split_first_chunk()?;
                let mut address = [0; 16];
                address.get_mut(..begin.len())?.copy_from_slice(begin);
                block(Ipv6Addr::from(address).into(), length)?
            }
            Kind::Octets | Kind::Concat | Kind::Tlv | Kind::Vsa | Kind::Extended | Kind::LongExtended | Kind::Evs => {
                Self::Octets(bytes)
            }
        })
    }

    /// Shows the value with the name that the dictionary has for a number.
    pub fn show(self, definition: &Definition) -> String {
        match self {
            Self::Integer(number) => match definition.value_name(number) {
                Some(name) => name.to_owned(),
                None => number.to_string(),
            },
            other => other.to_string(),
        }
    }
}

/// The tag of a value, where it has one, and what follows (RFC 2868 section 3.1). A number
/// keeps its four bytes, of which the tag is the first.
pub(crate) fn tag<'a>(definition: &Definition, bytes: &'a [u8]) -> (Option<u8>, &'a [u8]) {
    match (definition.tagged, definition.kind, bytes) {
        (true, Kind::Integer | Kind::Enum, &[tag, _, _, _]) => (Some(tag), bytes),
        // For text a first byte over 0x1f belongs to the value; Tunnel-Password always has one.
        (true, Kind::Octets, [tag, rest @ ..]) if definition.hidden.is_some() => (Some(*tag), rest),
        (true, Kind::Text | Kind::Octets, [tag @ 0..=0x1f, rest @ ..]) => (Some(*tag), rest),
        _ => (None, bytes),
    }
}

/// A block whose address has no bits beyond its prefix (RFC 8044 section 3.10).
fn block(address: IpAddr, length: u8) -> Option<Value<'static>> {
    let network = ipnet::IpNet::new(address, length).ok()?;
    (network.network() == address).then_some(Value::Prefix(address, length))
}

/// Whether a text can be shown as it is; nearly every one can, and looking at each
/// character's properties takes ten times as long.
fn is_plain(text: &str) -> bool {
    text.bytes().all(|byte| matches!(byte, b' '..=b'~') && !matches!(byte, b'"' | b'\'' | b'\\'))
}

impl fmt::Display for Value<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) if is_plain(text) => f.write_str(text),
            Self::Text(text) => write!(f, "{}", text.escape_debug()),
            Self::Octets(bytes) => {
                let digits = bytes.iter().flat_map(|byte| [byte >> 4, byte & 0xf]);
                let digits = digits.map(|digit| char::from(b"0123456789abcdef"[usize::from(digit)]));
                f.write_str(&"0x".chars().chain(digits).collect::<String>())
            }
            Self::Integer(number) => write!(f, "{number}"),
            Self::Time(seconds) => match Timestamp::from_second((*seconds).into()) {
                Ok(time) => write!(f, "{time}"),
                Err(_) => write!(f, "{seconds}"),
            },
            Self::Address(address) => write!(f, "{address}"),
            Self::Prefix(address, length) => write!(f, "{address}/{length}"),
            Self::InterfaceId([a, b, c, d, e, g, h, i]) => {
                write!(f, "{a:02x}{b:02x}:{c:02x}{d:02x}:{e:02x}{g:02x}:{h:02x}{i:02x}")
            }
        }
    }
}

/// Reads a value that a person wrote and encodes it, with its tag where it has one.
pub(crate) fn write(definition: &Definition, tag: u8, text: &str) -> Result<Vec<u8>, ValueError> {
    let wrong = |expected| ValueError { attribute: definition.name.clone(), got: text.to_owned(), expected };
    let mut value = match definition.kind {
        Kind::Text => text.as_bytes().to_vec(),
        Kind::Octets | Kind::Concat => match text.strip_prefix("0x") {
            Some(hex) => unhex(hex).ok_or_else(|| wrong("bytes such as 0x0a1b"))?,
            None => text.as_bytes().to_vec(),
        },
        Kind::Integer | Kind::Integer8 | Kind::Integer16 | Kind::Integer64 | Kind::Enum => {
            return number(definition, tag, text).ok_or_else(|| wrong(expected_number(definition)));
        }
        Kind::Time => {
            let seconds = text.parse().ok().or_else(|| u32::try_from(text.parse::<Timestamp>().ok()?.as_second()).ok());
            let seconds: u32 = seconds.ok_or_else(|| wrong("a time such as 2026-12-01T06:00:00Z"))?;
            seconds.to_be_bytes().to_vec()
        }
        Kind::InterfaceId => interface_id(text).ok_or_else(|| wrong("an interface id such as 0200:5eff:fe20:0001"))?,
        Kind::Ipv4Address => {
            let address: Result<Ipv4Addr, _> = text.parse();
            address.map_err(|_| wrong("an address such as 10.44.0.1"))?.octets().to_vec()
        }
        Kind::Ipv6Address => {
            let address: Result<Ipv6Addr, _> = text.parse();
            address.map_err(|_| wrong("an address such as 2001:db8::1"))?.octets().to_vec()
        }
        Kind::Ipv4Prefix => prefix(text, true).ok_or_else(|| wrong("a block such as 10.44.0.0/16"))?,
        Kind::Ipv6Prefix => prefix(text, false).ok_or_else(|| wrong("a block such as 2001:db8::/32"))?,
        Kind::Tlv | Kind::Vsa | Kind::Extended | Kind::LongExtended | Kind::Evs => match text.strip_prefix("0x") {
            Some(hex) => unhex(hex).ok_or_else(|| wrong("bytes such as 0x0a1b"))?,
            None => return Err(wrong("its bytes, such as 0x0a1b, or the attributes in it by their names")),
        },
    };
    if definition.tagged {
        value.insert(0, tag);
    }
    Ok(value)
}

fn number(definition: &Definition, tag: u8, text: &str) -> Option<Vec<u8>> {
    let number = definition.value_number(text).map(u64::from).or_else(|| text.parse().ok())?;
    Some(match definition.kind {
        Kind::Integer8 => vec![u8::try_from(number).ok()?],
        Kind::Integer16 => u16::try_from(number).ok()?.to_be_bytes().to_vec(),
        Kind::Integer64 => number.to_be_bytes().to_vec(),
        _ => {
            let mut bytes = u32::try_from(number).ok()?.to_be_bytes();
            if definition.tagged {
                // RFC 2868 section 3.1: a tag and three bytes of value.
                if bytes[0] != 0 {
                    return None;
                }
                bytes[0] = tag;
            }
            bytes.to_vec()
        }
    })
}

fn expected_number(definition: &Definition) -> &'static str {
    match (definition.values().next().is_some(), definition.tagged, definition.kind) {
        (true, ..) => "a number or one of the attribute's named values",
        (_, true, _) => "a number of at most three bytes",
        (.., Kind::Integer8) => "a number of 0 to 255",
        (.., Kind::Integer16) => "a number of 0 to 65535",
        (.., Kind::Integer64) => "a number of at most eight bytes",
        _ => "a number of 0 to 4294967295",
    }
}

fn interface_id(text: &str) -> Option<Vec<u8>> {
    let groups: Vec<_> = text.split(':').map(|group| u16::from_str_radix(group, 16)).collect::<Result<_, _>>().ok()?;
    (groups.len() == 4 && !text.contains('+')).then(|| groups.iter().flat_map(|group| group.to_be_bytes()).collect())
}

/// RFC 8044 sections 3.10 and 3.11.
fn prefix(text: &str, is_ipv4: bool) -> Option<Vec<u8>> {
    let network: ipnet::IpNet = text.parse().ok()?;
    let (network, length) = (network.trunc().network(), network.prefix_len());
    Some(match network {
        IpAddr::V4(address) if is_ipv4 => [&[0, length], &address.octets()[..]].concat(),
        IpAddr::V6(address) if !is_ipv4 => {
            let bytes = address.octets();
            [&[0, length], &bytes[..usize::from(length).div_ceil(8)]].concat()
        }
        _ => return None,
    })
}

fn unhex(hex: &str) -> Option<Vec<u8>> {
    if !hex.bytes().all(|byte| byte.is_ascii_hexdigit()) || !hex.len().is_multiple_of(2) {
        return None;
    }
    (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).ok()).collect()
}

/// A value that does not suit its attribute.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{attribute} cannot be `{got}`: it takes {expected}")]
pub struct ValueError {
    attribute: String,
    got: String,
    expected: &'static str,
}
