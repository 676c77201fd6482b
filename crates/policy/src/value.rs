use std::borrow::Cow;
use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::window::show_instant;
use regnant_base::Mac;

/// The value of a fact or literal. Text borrows where it can.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Value<'a> {
    /// Text.
    Text(Cow<'a, str>),
    /// A whole number; also the number of an enumeration's variant.
    Integer(i64),
    /// True or false.
    Boolean(bool),
    /// An IPv4 or IPv6 address.
    Address(IpAddr),
    /// An address block: its first address and prefix length.
    Block(IpAddr, u8),
    /// A MAC address.
    Mac(Mac),
    /// A duration in seconds.
    Duration(u64),
    /// A set of values of one type.
    Set(Members<'a>),
    /// A moment, in seconds since 1970.
    Instant(i64),
}

/// The members of a set, borrowed where somebody keeps them.
#[derive(Clone, Debug)]
pub enum Members<'a> {
    /// Kept elsewhere.
    Borrowed(&'a [Value<'a>]),
    /// Made for this value.
    Owned(Vec<Value<'a>>),
}

impl<'a> std::ops::Deref for Members<'a> {
    type Target = [Value<'a>];

    fn deref(&self) -> &[Value<'a>] {
        match self {
            Self::Borrowed(members) => members,
            Self::Owned(members) => members,
        }
    }
}

impl Serialize for Members<'_> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        (**self).serialize(to)
    }
}

impl<'de> Deserialize<'de> for Members<'_> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let members = Vec::<Member>::deserialize(from)?;
        Ok(Self::Owned(members.into_iter().map(Value::from).collect()))
    }
}

/// A member of a set, written as [`Value`] is: sets hold no sets, so that nothing that is
/// read is nested without end.
#[derive(Deserialize)]
enum Member {
    Text(String),
    Integer(i64),
    Boolean(bool),
    Address(IpAddr),
    Block(IpAddr, u8),
    Mac(Mac),
    Duration(u64),
    Set(Never),
    Instant(i64),
}

/// What is never read; the variants behind it keep their numbers.
#[derive(Deserialize)]
enum Never {}

impl From<Member> for Value<'_> {
    fn from(member: Member) -> Self {
        match member {
            Member::Text(text) => Self::Text(Cow::Owned(text)),
            Member::Integer(number) => Self::Integer(number),
            Member::Boolean(truth) => Self::Boolean(truth),
            Member::Address(address) => Self::Address(address),
            Member::Block(address, length) => Self::Block(address, length),
            Member::Mac(mac) => Self::Mac(mac),
            Member::Duration(seconds) => Self::Duration(seconds),
            Member::Set(never) => match never {},
            Member::Instant(seconds) => Self::Instant(seconds),
        }
    }
}

impl PartialEq for Members<'_> {
    fn eq(&self, other: &Self) -> bool {
        **self == **other
    }
}

impl<'a> Value<'a> {
    /// Text without a copy.
    pub fn text(text: &'a str) -> Self {
        Self::Text(Cow::Borrowed(text))
    }

    /// Text that is owned.
    pub fn owned(text: impl Into<String>) -> Value<'static> {
        Value::Text(Cow::Owned(text.into()))
    }

    /// The text, where it is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    /// A set of values.
    pub fn set(values: Vec<Value<'a>>) -> Self {
        Self::Set(Members::Owned(values))
    }

    /// The same, borrowed from this one.
    pub fn borrowed(&'a self) -> Value<'a> {
        match self {
            Self::Text(text) => Value::text(text),
            Self::Set(members) => Value::Set(Members::Borrowed(members)),
            other => other.clone(),
        }
    }

    /// A copy that borrows nothing.
    pub fn into_owned(self) -> Value<'static> {
        match self {
            Self::Text(text) => Value::Text(Cow::Owned(text.into_owned())),
            Self::Set(values) => Value::set(values.iter().cloned().map(Value::into_owned).collect()),
            Self::Integer(number) => Value::Integer(number),
            Self::Boolean(truth) => Value::Boolean(truth),
            Self::Address(address) => Value::Address(address),
            Self::Block(address, length) => Value::Block(address, length),
            Self::Mac(mac) => Value::Mac(mac),
            Self::Duration(seconds) => Value::Duration(seconds),
            Self::Instant(seconds) => Value::Instant(seconds),
        }
    }
}

impl fmt::Display for Value<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) if is_plain(text) => {
                f.write_str("\"")?;
                f.write_str(text)?;
                f.write_str("\"")
            }
            Self::Text(text) => write!(f, "\"{}\"", text.escape_debug()),
            Self::Integer(number) => write!(f, "{number}"),
            Self::Boolean(truth) => write!(f, "{truth}"),
            Self::Address(address) => write!(f, "{address}"),
            Self::Block(address, length) => write!(f, "{address}/{length}"),
            Self::Mac(mac) => write!(f, "{mac}"),
            Self::Duration(seconds) => f.write_str(&show_duration(*seconds)),
            Self::Instant(seconds) => f.write_str(&show_instant(*seconds)),
            Self::Set(values) if values.is_empty() => f.write_str("{ }"),
            Self::Set(values) => {
                for (index, value) in values.iter().enumerate() {
                    write!(f, "{}{value}", if index == 0 { "{ " } else { ", " })?;
                }
                f.write_str(" }")
            }
        }
    }
}

/// Whether a text can be shown as it is; nearly every one can, and looking at each
/// character's properties takes ten times as long.
fn is_plain(text: &str) -> bool {
    text.bytes().all(|byte| matches!(byte, b' '..=b'~') && !matches!(byte, b'"' | b'\'' | b'\\'))
}

/// Seconds as a policy would write them: `8h`, `1h30m`, `45s`.
pub fn show_duration(seconds: u64) -> String {
    let (mut shown, mut rest) = (String::new(), seconds);
    for (unit, size) in DURATION_UNITS {
        if rest >= size {
            shown.push_str(&format!("{}{unit}", rest / size));
        }
        rest %= size;
    }
    if shown.is_empty() { "0s".into() } else { shown }
}

/// Units of durations and their seconds, largest first.
pub(crate) const DURATION_UNITS: [(&str, u64); 4] = [("d", 86_400), ("h", 3_600), ("m", 60), ("s", 1)];

/// Whether two texts are equal when case does not count.
pub(crate) fn same_text(a: &str, b: &str, ignore_case: bool) -> bool {
    a == b || (ignore_case && folded(a).eq(folded(b)))
}

/// The characters of a text without regard to case.
pub(crate) fn folded(text: &str) -> impl Iterator<Item = char> {
    text.chars().flat_map(char::to_lowercase)
}

/// Whether a block holds an address; families never mix.
pub(crate) fn block_holds(block: IpAddr, length: u8, address: IpAddr) -> bool {
    match (block, address) {
        (IpAddr::V4(block), IpAddr::V4(address)) => {
            let shift = 32 - u32::from(length.min(32));
            block.to_bits().checked_shr(shift).unwrap_or(0) == address.to_bits().checked_shr(shift).unwrap_or(0)
        }
        (IpAddr::V6(block), IpAddr::V6(address)) => {
            let shift = 128 - u32::from(length.min(128));
            block.to_bits().checked_shr(shift).unwrap_or(0) == address.to_bits().checked_shr(shift).unwrap_or(0)
        }
        _ => false,
    }
}
