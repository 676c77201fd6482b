use std::fmt;
use std::net::Ipv4Addr;

use thiserror::Error;

use crate::dictionary::{Definition, Kind};

/// One attribute's value as its type reads it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Value<'a> {
    /// Readable text (UTF-8).
    Text(&'a str),
    /// Bytes, or text that is not UTF-8.
    Octets(&'a [u8]),
    /// A number.
    Integer(u32),
    /// An IPv4 address.
    Address(Ipv4Addr),
}

impl<'a> Value<'a> {
    /// Reads `bytes` by the definition's type; what does not fit stays bytes.
    pub fn read(definition: &Definition, bytes: &'a [u8]) -> Self {
        let bytes = match (definition.tagged, bytes) {
            // RFC 2868 section 3.1: for text a first byte over 0x1f belongs to the value.
            (true, [0..=0x1f, rest @ ..]) if definition.kind == Kind::Text => rest,
            _ => bytes,
        };
        match (definition.kind, bytes) {
            (Kind::Text, _) => std::str::from_utf8(bytes).map_or(Self::Octets(bytes), Self::Text),
            // RFC 2868 section 3.1: a tagged integer has a tag byte and three bytes of value.
            (Kind::Integer, &[tag, b, c, d]) => {
                let high = if definition.tagged { 0 } else { tag };
                Self::Integer(u32::from_be_bytes([high, b, c, d]))
            }
            (Kind::Address, &[a, b, c, d]) => Self::Address(Ipv4Addr::new(a, b, c, d)),
            _ => Self::Octets(bytes),
        }
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
            Self::Address(address) => write!(f, "{address}"),
        }
    }
}

/// Reads a value that a person wrote and encodes it, without tag or header.
pub(crate) fn write(definition: &Definition, text: &str) -> Result<Vec<u8>, ValueError> {
    let wrong = |expected| ValueError { attribute: definition.name.clone(), got: text.to_owned(), expected };
    match definition.kind {
        Kind::Text => Ok(text.as_bytes().to_vec()),
        Kind::Octets => match text.strip_prefix("0x") {
            Some(hex) => unhex(hex).ok_or_else(|| wrong("bytes such as 0x0a1b")),
            None => Ok(text.as_bytes().to_vec()),
        },
        Kind::Integer => {
            let number = definition.value_number(text).or_else(|| text.parse().ok());
            let number = number.ok_or_else(|| wrong("a number or one of the attribute's named values"))?;
            if definition.tagged && number > 0x00ff_ffff {
                return Err(wrong("a number of at most three bytes"));
            }
            Ok(number.to_be_bytes().to_vec())
        }
        Kind::Address => text
            .parse::<Ipv4Addr>()
            .map(|address| address.octets().to_vec())
            .map_err(|_| wrong("an address such as 10.44.0.1")),
    }
}

fn unhex(hex: &str) -> Option<Vec<u8>> {
    if !hex.is_ascii() || !hex.len().is_multiple_of(2) {
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
