/// Attribute numbers that code refers to; the dictionary knows the rest.
pub mod number {
    /// RFC 2865 section 5.1.
    pub const USER_NAME: u8 = 1;
    /// RFC 2865 section 5.2.
    pub const USER_PASSWORD: u8 = 2;
    /// RFC 2865 section 5.3.
    pub const CHAP_PASSWORD: u8 = 3;
    /// RFC 2865 section 5.4.
    pub const NAS_IP_ADDRESS: u8 = 4;
    /// RFC 2865 section 5.5.
    pub const NAS_PORT: u8 = 5;
    /// RFC 2865 section 5.6.
    pub const SERVICE_TYPE: u8 = 6;
    /// RFC 2865 section 5.12.
    pub const FRAMED_MTU: u8 = 12;
    /// RFC 2865 section 5.24.
    pub const STATE: u8 = 24;
    /// RFC 2865 section 5.18.
    pub const REPLY_MESSAGE: u8 = 18;
    /// RFC 2865 section 5.25.
    pub const CLASS: u8 = 25;
    /// RFC 2865 section 5.26.
    pub const VENDOR_SPECIFIC: u8 = 26;
    /// RFC 2865 section 5.30.
    pub const CALLED_STATION_ID: u8 = 30;
    /// RFC 2865 section 5.31.
    pub const CALLING_STATION_ID: u8 = 31;
    /// RFC 2865 section 5.32.
    pub const NAS_IDENTIFIER: u8 = 32;
    /// RFC 2865 section 5.33.
    pub const PROXY_STATE: u8 = 33;
    /// RFC 2866 section 5.1.
    pub const ACCT_STATUS_TYPE: u8 = 40;
    /// RFC 2866 section 5.2.
    pub const ACCT_DELAY_TIME: u8 = 41;
    /// RFC 2866 section 5.3.
    pub const ACCT_INPUT_OCTETS: u8 = 42;
    /// RFC 2866 section 5.4.
    pub const ACCT_OUTPUT_OCTETS: u8 = 43;
    /// RFC 2866 section 5.5.
    pub const ACCT_SESSION_ID: u8 = 44;
    /// RFC 2866 section 5.7.
    pub const ACCT_SESSION_TIME: u8 = 46;
    /// RFC 2866 section 5.10.
    pub const ACCT_TERMINATE_CAUSE: u8 = 49;
    /// RFC 2869 section 5.1.
    pub const ACCT_INPUT_GIGAWORDS: u8 = 52;
    /// RFC 2869 section 5.2.
    pub const ACCT_OUTPUT_GIGAWORDS: u8 = 53;
    /// RFC 2865 section 5.40.
    pub const CHAP_CHALLENGE: u8 = 60;
    /// RFC 2865 section 5.41.
    pub const NAS_PORT_TYPE: u8 = 61;
    /// RFC 3579 section 3.1.
    pub const EAP_MESSAGE: u8 = 79;
    /// RFC 3579 section 3.2.
    pub const MESSAGE_AUTHENTICATOR: u8 = 80;
    /// RFC 2869 section 5.17.
    pub const NAS_PORT_ID: u8 = 87;
    /// RFC 4372 section 2.2.
    pub const CHARGEABLE_USER_IDENTITY: u8 = 89;
    /// RFC 3162 section 2.1.
    pub const NAS_IPV6_ADDRESS: u8 = 95;
    /// RFC 5176 section 3.6.
    pub const ERROR_CAUSE: u8 = 101;
    /// RFC 7268 section 2.1.
    pub const EAP_KEY_NAME: u8 = 102;
    /// RFC 4849 section 2.
    pub const NAS_FILTER_RULE: u8 = 92;
}

/// One attribute of a packet: its number and the bytes of its value.
///
/// ```text
///  0                   1                   2
///  0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-
/// |     Type      |    Length     |  Value ...
/// +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-
/// ```
/// (RFC 2865 section 5)
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Attribute<'a> {
    /// The attribute's number.
    pub number: u8,
    /// Its value, 0 to 253 bytes.
    pub value: &'a [u8],
}

/// The attributes of a checked packet, in the order sent.
#[derive(Clone, Debug, Default)]
pub struct Attributes<'a> {
    rest: &'a [u8],
}

impl<'a> Attributes<'a> {
    /// `bytes` must have passed [`well_formed`].
    pub(crate) fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// The attributes that these bytes are, where they are some and nothing else.
    pub fn read(bytes: &'a [u8]) -> Option<Self> {
        well_formed(bytes).ok().map(|()| Self::new(bytes))
    }

    /// The bytes of those that are left.
    pub fn as_bytes(&self) -> &'a [u8] {
        self.rest
    }
}

/// Whose Vendor-Specific this is, and what it holds (RFC 2865 section 5.26).
pub(crate) fn vendor_of(value: &[u8]) -> Option<(u32, &[u8])> {
    let (vendor, rest) = value.split_first_chunk()?;
    Some((u32::from_be_bytes(*vendor), rest))
}

impl<'a> Iterator for Attributes<'a> {
    type Item = Attribute<'a>;

    fn next(&mut self) -> Option<Attribute<'a>> {
        let (&[number, length], _) = self.rest.split_first_chunk()?;
        let (whole, rest) = self.rest.split_at_checked(usize::from(length))?;
        self.rest = rest;
        Some(Attribute { number, value: whole.get(2..)? })
    }
}

/// Where the attributes stop making sense, counted from the first attribute.
pub(crate) fn well_formed(bytes: &[u8]) -> Result<(), usize> {
    let mut at = 0;
    while at < bytes.len() {
        match bytes.get(at + 1) {
            Some(&length) if length >= 2 && at + usize::from(length) <= bytes.len() => at += usize::from(length),
            _ => return Err(at),
        }
    }
    Ok(())
}
