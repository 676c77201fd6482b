use std::fmt;

use subtle::ConstantTimeEq;
use zeroize::{Zeroize, ZeroizeOnDrop};

/// Where random bytes come from.
pub type Random = Box<dyn FnMut(&mut [u8]) + Send + Sync>;

pub(crate) fn random_bytes<const N: usize>(random: &mut Random) -> [u8; N] {
    let mut bytes = [0; N];
    random(&mut bytes);
    bytes
}

/// Bytes that must not be shown: wiped when dropped, compared in constant time,
/// printed as `Secret(..)`.
#[derive(Clone, Default, Zeroize, ZeroizeOnDrop)]
pub struct Secret(Vec<u8>);

impl Secret {
    /// Takes the bytes over.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Self {
        Self(bytes.into())
    }

    /// The bytes themselves, for cryptography only.
    pub fn expose(&self) -> &[u8] {
        &self.0
    }
}

impl PartialEq for Secret {
    fn eq(&self, other: &Self) -> bool {
        self.0.ct_eq(&other.0).into()
    }
}

impl Eq for Secret {}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(..)")
    }
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
