//! Comparisons as sets: of which values of a fact each is true. Two that are written otherwise and mean the
//! same are the same set, and whether two exclude one another is a matter of sets; so whoever proves something
//! about a policy reads it here, and no text.

mod numbers;
mod words;

use std::net::IpAddr;

pub use numbers::Numbers;
pub use words::Words;

use crate::parse::ast::Comparison;
use crate::run::program::{Expression, Leaf, Test};
use crate::value::{Value, folded};
use crate::window::{Window, shown_in_week};

/// The minutes of a week, of which Monday's first is 0.
const WEEK: u128 = 7 * 24 * 60 - 1;

/// What a comparison asks of its fact.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Asked {
    /// That the request has it.
    There,
    /// That it is one of these values.
    One(Values),
    /// Of a set: that some member is one of these.
    Some(Values),
    /// Of a set: that every member is one of these.
    Only(Values),
    /// Of a moment: that the clock of the policy's zone shows one of these minutes of the week.
    Clock(Numbers),
    /// What no set of values says: a regular expression, a part of a text, another fact, or something made of
    /// a fact by a function.
    Opaque,
}

/// A set of values of one type.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Values {
    /// Whole numbers, words of a fixed list, truth, MAC addresses, durations or moments, as [`number`] has them.
    Numbers(Numbers),
    /// Addresses: those of IPv4 and those of IPv6.
    Addresses(Numbers, Numbers),
    /// Texts.
    Words(Words),
}

/// A value as a number, in the order of the values, and the last number of its type; an address as that of
/// its family.
pub fn number(value: &Value<'_>) -> Option<(u128, u128)> {
    let signed = |number: i64| (u128::from(number.cast_unsigned() ^ (1 << 63)), u128::from(u64::MAX));
    Some(match value {
        Value::Integer(number) | Value::Instant(number) => signed(*number),
        Value::Boolean(truth) => (u128::from(*truth), 1),
        Value::Mac(mac) => (mac.0.iter().fold(0, |sum, byte| sum << 8 | u128::from(*byte)), (1 << 48) - 1),
        Value::Duration(seconds) => (u128::from(*seconds), u128::from(u64::MAX)),
        Value::Address(IpAddr::V4(address)) => (u128::from(address.to_bits()), u128::from(u32::MAX)),
        Value::Address(IpAddr::V6(address)) => (address.to_bits(), u128::MAX),
        Value::Text(_) | Value::Block(..) | Value::Set(_) => return None,
    })
}

impl Values {
    /// These values, which are of one type; none where they have no sets.
    fn of(values: &[Value<'_>], ignore_case: bool) -> Option<Self> {
        let first = values.first()?;
        match first {
            Value::Text(_) => {
                let texts = values.iter().map(|value| Self::text(value, ignore_case)).collect::<Option<Vec<_>>>()?;
                Some(Self::Words(Words::new(texts)))
            }
            _ => {
                let ranges = values.iter().map(|value| Some((value, number(value)?.0))).collect::<Option<Vec<_>>>()?;
                Self::ranges(first, ranges.into_iter().map(|(value, number)| (value, number, number)))
            }
        }
    }

    /// Ranges of values of the type of the first, each of the family of the value that it comes with.
    fn ranges<'v>(first: &Value<'_>, ranges: impl Iterator<Item = (&'v Value<'v>, u128, u128)>) -> Option<Self> {
        let ranges: Vec<_> = ranges.collect();
        if !matches!(first, Value::Address(_)) {
            let last = number(first)?.1;
            return Some(Self::Numbers(Numbers::new(ranges.into_iter().map(|(_, from, to)| (from, to)), last)));
        }
        let of = |v4: bool, last: u128| {
            let family = ranges.iter().filter(|(value, ..)| matches!(value, Value::Address(IpAddr::V4(_))) == v4);
            Numbers::new(family.map(|(_, from, to)| (*from, *to)), last)
        };
        Some(Self::Addresses(of(true, u128::from(u32::MAX)), of(false, u128::MAX)))
    }

    fn text(value: &Value<'_>, ignore_case: bool) -> Option<String> {
        match value {
            Value::Text(text) if ignore_case => Some(folded(text).collect()),
            Value::Text(text) => Some(text.clone().into_owned()),
            _ => None,
        }
    }

    /// The values of the type of this one for which a comparison with it is true.
    fn compared(comparison: Comparison, with: &Value<'_>, ignore_case: bool) -> Option<Self> {
        let equal = || Self::of(std::slice::from_ref(with), ignore_case);
        if comparison == Comparison::Equal {
            return equal();
        }
        if comparison == Comparison::NotEqual {
            return equal().map(Self::outside);
        }
        let (number, last) = number(with)?;
        let below = |number: u128| number.checked_sub(1).map(|to| (0, to));
        let above = |number: u128| number.checked_add(1).map(|from| (from, last));
        let range = match comparison {
            Comparison::Less => below(number),
            Comparison::LessOrEqual => Some((0, number)),
            Comparison::Greater => above(number),
            _ => Some((number, last)),
        };
        Self::ranges(with, range.into_iter().map(|(from, to)| (with, from, to)))
    }

    fn block(first: IpAddr, length: u8) -> Option<Self> {
        let value = Value::Address(first);
        let (number, last) = number(&value)?;
        let mask = match first {
            IpAddr::V4(_) => u128::from(u32::MAX.checked_shr(length.into()).unwrap_or(0)),
            IpAddr::V6(_) => u128::MAX.checked_shr(length.into()).unwrap_or(0),
        };
        let from = number & !mask & last;
        Self::ranges(&value, [(&value, from, from | mask)].into_iter())
    }

    /// Whether it holds a value.
    pub fn has(&self, value: &Value<'_>, ignore_case: bool) -> bool {
        match (self, value) {
            (Self::Words(words), value) => Self::text(value, ignore_case).is_some_and(|text| words.has(&text)),
            (Self::Addresses(v4, _), Value::Address(IpAddr::V4(_))) => number(value).is_some_and(|at| v4.has(at.0)),
            (Self::Addresses(_, v6), Value::Address(IpAddr::V6(_))) => number(value).is_some_and(|at| v6.has(at.0)),
            (Self::Numbers(numbers), value) => number(value).is_some_and(|at| numbers.has(at.0)),
            _ => false,
        }
    }

    /// Of how many texts or ranges it is written.
    pub fn parts(&self) -> usize {
        match self {
            Self::Numbers(numbers) => numbers.ranges().len(),
            Self::Addresses(v4, v6) => v4.ranges().len() + v6.ranges().len(),
            Self::Words(words) => words.listed().0.len(),
        }
    }

    /// Whether it holds none.
    pub fn is_empty(&self) -> bool {
        match self {
            Self::Numbers(numbers) => numbers.is_empty(),
            Self::Addresses(v4, v6) => v4.is_empty() && v6.is_empty(),
            Self::Words(words) => words.is_empty(),
        }
    }

    /// What it does not hold.
    #[must_use]
    pub fn outside(self) -> Self {
        match self {
            Self::Numbers(numbers) => Self::Numbers(numbers.outside()),
            Self::Addresses(v4, v6) => Self::Addresses(v4.outside(), v6.outside()),
            Self::Words(words) => Self::Words(words.outside()),
        }
    }

    /// What both hold; none where they are of different types, which one fact never has.
    pub fn and(self, other: &Self) -> Option<Self> {
        Some(match (self, other) {
            (Self::Numbers(a), Self::Numbers(b)) => Self::Numbers(a.and(b)),
            (Self::Addresses(a4, a6), Self::Addresses(b4, b6)) => Self::Addresses(a4.and(b4), a6.and(b6)),
            (Self::Words(a), Self::Words(b)) => Self::Words(a.and(b)),
            _ => return None,
        })
    }
}

impl Leaf {
    /// What it asks of its fact.
    pub fn asked(&self) -> Asked {
        if !matches!(self.left, Expression::Fact(_)) {
            return Asked::Opaque;
        }
        let values = |list: &[Value<'_>]| Values::of(list, self.ignore_case);
        let asked = match &self.test {
            Test::Exists => Some(Asked::There),
            Test::True => Values::compared(Comparison::Equal, &Value::Boolean(true), false).map(Asked::One),
            Test::Compare(comparison, Expression::Literal(value)) => {
                Values::compared(*comparison, value, self.ignore_case).map(Asked::One)
            }
            Test::OneOf(list) => values(list).map(Asked::One),
            Test::Range(first, last) => number(first).zip(number(last)).and_then(|((from, _), (to, _))| {
                let same_family =
                    std::mem::discriminant(first) == std::mem::discriminant(last) && families_agree(first, last);
                let range = same_family.then_some((first, from, to));
                Values::ranges(first, range.into_iter()).map(Asked::One)
            }),
            Test::Block(first, length) => Values::block(*first, *length).map(Asked::One),
            Test::ContainsMember(value) => values(std::slice::from_ref(value)).map(Asked::Some),
            Test::AnyOf(list) => values(list).map(Asked::Some),
            Test::AllOf(list) => values(list).map(Asked::Only),
            Test::Windows(windows, _) => Some(Asked::Clock(minutes(windows))),
            Test::Compare(..) | Test::StartsWith(_) | Test::EndsWith(_) | Test::ContainsText(_) | Test::Matches(_) => {
                None
            }
        };
        asked.unwrap_or(Asked::Opaque)
    }
}

fn families_agree(first: &Value<'_>, last: &Value<'_>) -> bool {
    match (first, last) {
        (Value::Address(first), Value::Address(last)) => first.is_ipv4() == last.is_ipv4(),
        _ => true,
    }
}

/// The minutes of the week that windows hold.
fn minutes(windows: &[Window]) -> Numbers {
    Numbers::new(windows.iter().flat_map(shown_in_week), WEEK)
}
