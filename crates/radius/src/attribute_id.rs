use std::fmt;
use std::str::FromStr;

use crate::attribute::number::VENDOR_SPECIFIC;

/// Attributes within attributes, counted from the outermost.
const DEEPEST: usize = 6;
/// Extended-Type-1 to Extended-Type-6 (RFC 6929 section 3).
const EXTENDED: std::ops::RangeInclusive<u32> = 241..=246;
/// Both an attribute and, within the extended ones, their type for vendors.
const VENDOR_SPECIFIC_NUMBER: u32 = VENDOR_SPECIFIC as u32;

/// Which attribute: its number, and those that lead to it from the outermost attribute
/// inwards, as RFC 6929 section 2.7 writes them: `1` is User-Name, `26.32473.3` the third
/// attribute of a vendor, `241.1` the first of an extended type, `26.32473.3.2` one
/// inside that of the vendor.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct AttributeId {
    /// 0 beyond its end.
    numbers: [u32; DEEPEST],
    depth: u8,
}

impl AttributeId {
    /// An attribute of an RFC, outside every other.
    pub const fn plain(number: u8) -> Self {
        Self { numbers: [number as u32, 0, 0, 0, 0, 0], depth: 1 }
    }

    /// An attribute of a vendor, inside Vendor-Specific (RFC 2865 section 5.26).
    pub const fn of_vendor(vendor: u32, number: u32) -> Self {
        Self { numbers: [VENDOR_SPECIFIC as u32, vendor, number, 0, 0, 0], depth: 3 }
    }

    /// The attribute of this number inside this one; none where that is too deep.
    pub fn inner(self, number: u32) -> Option<Self> {
        let mut inner = self;
        *inner.numbers.get_mut(usize::from(self.depth))? = number;
        inner.depth += 1;
        Some(inner)
    }

    /// The numbers, from the outermost inwards.
    pub fn numbers(&self) -> &[u32] {
        &self.numbers[..usize::from(self.depth)]
    }

    /// The TLVs that it stands in, from the outermost inwards.
    pub(crate) fn tlvs(self) -> impl Iterator<Item = Self> {
        let begin = match *self.numbers() {
            [VENDOR_SPECIFIC_NUMBER, ..] => 3,
            [outer, VENDOR_SPECIFIC_NUMBER, ..] if EXTENDED.contains(&outer) => 4,
            [outer, ..] if EXTENDED.contains(&outer) => 2,
            _ => 1,
        };
        (begin..self.depth).map(move |depth| {
            let mut outer = Self { numbers: [0; DEEPEST], depth };
            outer.numbers[..usize::from(depth)].copy_from_slice(&self.numbers[..usize::from(depth)]);
            outer
        })
    }

    /// The number of the outermost attribute, as the packet has it.
    pub fn outermost(self) -> u8 {
        // Both ways to make one see to that.
        self.numbers[0] as u8
    }

    /// The enterprise number of its vendor, where it is a vendor's.
    pub fn vendor(self) -> Option<u32> {
        match *self.numbers() {
            [outer, vendor, ..] if outer == u32::from(VENDOR_SPECIFIC) => Some(vendor),
            [outer, kind, vendor, ..] if EXTENDED.contains(&outer) && kind == u32::from(VENDOR_SPECIFIC) => {
                Some(vendor)
            }
            _ => None,
        }
    }

    /// Its number where it stands in no other attribute.
    pub fn as_plain(self) -> Option<u8> {
        (self.depth == 1).then(|| self.outermost())
    }
}

impl fmt::Display for AttributeId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut numbers = self.numbers().iter();
        numbers.next().map_or(Ok(()), |first| first.fmt(f))?;
        numbers.try_for_each(|number| write!(f, ".{number}"))
    }
}

impl fmt::Debug for AttributeId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for AttributeId {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("`{text}` is no attribute such as 1, 26.32473.3 or 241.1");
        let mut numbers = text.split('.').map(|number| number.parse::<u32>().map_err(|_| wrong()));
        let outermost = numbers.next().ok_or_else(wrong)??;
        let outermost = u8::try_from(outermost).ok().filter(|number| *number > 0).ok_or_else(wrong)?;
        numbers.try_fold(Self::plain(outermost), |id, number| id.inner(number?).ok_or_else(wrong))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn they_are_written_as_paths() {
        assert_eq!(AttributeId::plain(1).to_string(), "1");
        assert_eq!(AttributeId::of_vendor(32473, 3).to_string(), "26.32473.3");
        assert_eq!(AttributeId::plain(241).inner(1).unwrap().to_string(), "241.1");
        for (text, vendor) in [("26.32473.3.2", Some(32473)), ("241.26.32473.7", Some(32473)), ("241.1", None)] {
            assert_eq!(text.parse::<AttributeId>().unwrap().vendor(), vendor, "{text}");
        }
        for wrong in ["", "0", "256", "1.", ".1", "1.2.3.4.5.6.7", "26.-1", "User-Name"] {
            assert!(wrong.parse::<AttributeId>().is_err(), "{wrong}");
        }
    }

    proptest! {
        #[test]
        fn what_is_written_reads_as_the_same(first in 1..=255_u8, rest in prop::collection::vec(any::<u32>(), 0..DEEPEST)) {
            let id = rest.iter().try_fold(AttributeId::plain(first), |id, number| id.inner(*number)).unwrap();
            prop_assert_eq!(id.to_string().parse::<AttributeId>(), Ok(id));
            prop_assert_eq!(id.numbers().len(), rest.len() + 1);
            prop_assert_eq!(id.as_plain(), rest.is_empty().then_some(first));
        }
    }
}
