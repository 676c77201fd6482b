//! Values as DCE/RPC carries them: NDR ([C706] chapter 14), little-endian.

use crate::Malformed;

/// Writes values, each at a place that its size divides.
#[derive(Debug, Default)]
pub(crate) struct Writer {
    bytes: Vec<u8>,
    referents: u32,
}

impl Writer {
    pub(crate) fn align(&mut self, to: usize) {
        self.bytes.resize(self.bytes.len().next_multiple_of(to), 0);
    }

    pub(crate) fn bytes(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(bytes);
    }

    pub(crate) fn u16(&mut self, value: u16) {
        self.align(2);
        self.bytes(&value.to_le_bytes());
    }

    pub(crate) fn u32(&mut self, value: u32) {
        self.align(4);
        self.bytes(&value.to_le_bytes());
    }

    /// A pointer to what comes behind it.
    pub(crate) fn pointer(&mut self) {
        self.referents += 1;
        // Any numbers that differ.
        self.u32(0x0002_0000 + 4 * self.referents);
    }

    /// A string that ends with a zero, as its pointer points to.
    pub(crate) fn string(&mut self, text: &str) {
        let units: Vec<u16> = text.encode_utf16().chain([0]).collect();
        self.u32(units.len() as u32);
        self.u32(0);
        self.u32(units.len() as u32);
        units.iter().for_each(|unit| self.u16(*unit));
    }

    /// A counted string: its header, whose pointer points to [`Self::counted_text`].
    pub(crate) fn counted(&mut self, text: &str) {
        let bytes = 2 * text.encode_utf16().count() as u16;
        self.u16(bytes);
        self.u16(bytes);
        self.pointer();
    }

    pub(crate) fn counted_text(&mut self, text: &str) {
        let units: Vec<u16> = text.encode_utf16().collect();
        self.u32(units.len() as u32);
        self.u32(0);
        self.u32(units.len() as u32);
        units.iter().for_each(|unit| self.u16(*unit));
    }

    /// Counted bytes: their header, whose pointer points to [`Self::counted_octets`].
    pub(crate) fn counted_bytes(&mut self, bytes: &[u8]) {
        self.u16(bytes.len() as u16);
        self.u16(bytes.len() as u16);
        self.pointer();
    }

    pub(crate) fn counted_octets(&mut self, bytes: &[u8]) {
        self.u32(bytes.len() as u32);
        self.u32(0);
        self.u32(bytes.len() as u32);
        self.bytes(bytes);
    }

    pub(crate) fn finish(self) -> Vec<u8> {
        self.bytes
    }
}

/// Reads values; places count from where it begins.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Reader<'b> {
    all: &'b [u8],
    at: usize,
}

impl<'b> Reader<'b> {
    pub(crate) fn new(all: &'b [u8]) -> Self {
        Self { all, at: 0 }
    }

    pub(crate) fn align(&mut self, to: usize) {
        self.at = self.at.next_multiple_of(to);
    }

    pub(crate) fn take(&mut self, count: usize) -> Result<&'b [u8], Malformed> {
        let end = self.at.checked_add(count).ok_or(Malformed)?;
        let taken = self.all.get(self.at..end).ok_or(Malformed)?;
        self.at = end;
        Ok(taken)
    }

    pub(crate) fn array<const N: usize>(&mut self) -> Result<[u8; N], Malformed> {
        self.take(N)?.try_into().map_err(|_| Malformed)
    }

    pub(crate) fn u8(&mut self) -> Result<u8, Malformed> {
        self.array().map(|[byte]| byte)
    }

    pub(crate) fn u16(&mut self) -> Result<u16, Malformed> {
        self.align(2);
        self.array().map(u16::from_le_bytes)
    }

    pub(crate) fn u32(&mut self) -> Result<u32, Malformed> {
        self.align(4);
        self.array().map(u32::from_le_bytes)
    }

    /// Passes over a string whose counts stand in front of it.
    pub(crate) fn skip_text(&mut self) -> Result<(), Malformed> {
        let (_, from, units) = (self.u32()?, self.u32()?, self.u32()?);
        self.take((from as usize).checked_add(units as usize).and_then(|all| all.checked_mul(2)).ok_or(Malformed)?)?;
        Ok(())
    }

    /// What is left.
    pub(crate) fn rest(self) -> &'b [u8] {
        self.all.get(self.at..).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_value_stands_where_its_size_divides() {
        let mut writer = Writer::default();
        writer.u16(1);
        writer.u32(2);
        writer.string("a");
        writer.u32(3);
        let bytes = writer.finish();
        assert_eq!(bytes, [1, 0, 0, 0, 2, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 0, b'a', 0, 0, 0, 3, 0, 0, 0]);
        let mut reader = Reader::new(&bytes);
        assert_eq!((reader.u16(), reader.u32()), (Ok(1), Ok(2)));
        assert_eq!(Reader::new(&[1, 0, 0]).u32(), Err(Malformed));
        let mut end = Reader::new(&[1]);
        assert_eq!((end.u8(), end.u8(), end.rest()), (Ok(1), Err(Malformed), &[][..]));
    }
}
