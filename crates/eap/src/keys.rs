pub use regnant_base::Secret;

/// Where random bytes come from.
pub type Random = Box<dyn FnMut(&mut [u8]) + Send + Sync>;

pub(crate) fn random_bytes<const N: usize>(random: &mut Random) -> [u8; N] {
    let mut bytes = [0; N];
    random(&mut bytes);
    bytes
}

/// What a method leaves behind for the equipment (RFC 3748 section 7.10).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Keys {
    /// The master session key: 64 bytes, of which the first half goes out as
    /// MS-MPPE-Recv-Key and the second as MS-MPPE-Send-Key (RFC 2548 section 2.4).
    pub msk: Secret,
    /// The extended master session key, where the method has one.
    pub emsk: Option<Secret>,
    /// The Session-Id (RFC 5247 section 1.4), which goes out as EAP-Key-Name;
    /// empty where the method has none.
    pub session_id: Vec<u8>,
}

impl Keys {
    pub(crate) fn new(msk: &[u8], emsk: Option<&[u8]>, session_id: Vec<u8>) -> Self {
        let mut whole = msk.to_vec();
        whole.resize(whole.len().max(64), 0);
        Self { msk: Secret::new(whole), emsk: emsk.map(Secret::new), session_id }
    }
}
