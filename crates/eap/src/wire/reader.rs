/// A cursor over bytes from outside; every read that does not fit is `None`.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Reader<'a>(pub(crate) &'a [u8]);

impl<'a> Reader<'a> {
    pub(crate) fn take(&mut self, length: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(taken)
    }

    pub(crate) fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        let (taken, rest) = self.0.split_first_chunk()?;
        self.0 = rest;
        Some(*taken)
    }

    pub(crate) fn u8(&mut self) -> Option<u8> {
        self.array().map(|[byte]| byte)
    }

    pub(crate) fn u16(&mut self) -> Option<u16> {
        self.array().map(u16::from_be_bytes)
    }

    pub(crate) fn u24(&mut self) -> Option<u32> {
        self.array().map(|[a, b, c]| u32::from_be_bytes([0, a, b, c]))
    }

    pub(crate) fn u32(&mut self) -> Option<u32> {
        self.array().map(u32::from_be_bytes)
    }

    /// A part that begins with its length in one or two bytes.
    pub(crate) fn short(&mut self) -> Option<Reader<'a>> {
        let length = self.u8()?;
        self.take(length.into()).map(Reader)
    }

    pub(crate) fn long(&mut self) -> Option<Reader<'a>> {
        let length = self.u16()?;
        self.take(length.into()).map(Reader)
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}
