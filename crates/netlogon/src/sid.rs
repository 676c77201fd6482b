use crate::Malformed;
use crate::ndr::Reader;

/// A security identifier ([MS-DTYP] section 2.4.2.2), in its binary form: the domain's parts, then the
/// account's own number.
///
/// ```text
///  0                   1                   2                   3
///  0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
/// |   revision 1  |     count     |       authority (6)           |
/// |                               | parts, little-endian (4 each) |
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sid(Vec<u8>);

/// Parts of an identifier at most.
const MOST_PARTS: usize = 15;
const HEAD: usize = 8;

impl Sid {
    /// Reads one that is nothing else, as `objectSid` has it.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        let parts = usize::from(*bytes.get(1)?);
        let whole = bytes[0] == 1 && parts <= MOST_PARTS && bytes.len() == HEAD + 4 * parts;
        whole.then(|| Self(bytes.to_vec()))
    }

    /// Reads one as NDR has it: the number of parts stands in front once more.
    pub(crate) fn take(reader: &mut Reader<'_>) -> Result<Self, Malformed> {
        let parts = reader.u32()? as usize;
        if parts > MOST_PARTS {
            return Err(Malformed);
        }
        Self::read(reader.take(HEAD + 4 * parts)?).ok_or(Malformed)
    }

    /// The account of this number in a domain.
    pub(crate) fn of(mut self, number: u32) -> Result<Self, Malformed> {
        if usize::from(self.0[1]) == MOST_PARTS {
            return Err(Malformed);
        }
        self.0[1] += 1;
        self.0.extend(number.to_le_bytes());
        Ok(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_identifier_is_read_whole_and_grows_by_the_number_of_an_account() {
        let domain = [&[1, 2, 0, 0, 0, 0, 0, 5][..], &21_u32.to_le_bytes(), &7_u32.to_le_bytes()].concat();
        let mut account = [&domain[..], &1_104_u32.to_le_bytes()].concat();
        account[1] = 3;
        assert_eq!(Sid::read(&domain).unwrap().of(1_104), Ok(Sid::read(&account).unwrap()));
        for length in 0..account.len() {
            assert_eq!(Sid::read(&account[..length]), None, "{length}");
        }
        assert_eq!(Sid::read(&[&account[..], &[0]].concat()), None);
        let longest = [&[1, 15, 0, 0, 0, 0, 0, 5][..], &[0; 60]].concat();
        assert_eq!(Sid::read(&longest).unwrap().of(1), Err(Malformed));
    }
}
