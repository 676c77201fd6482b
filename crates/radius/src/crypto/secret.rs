use std::fmt;

use hmac::{Hmac, KeyInit};
use md5::Md5;
pub use regnant_base::Secret;
use zeroize::Zeroizing;

/// The secret that a NAS and this server share (RFC 2865 section 3), with its
/// HMAC key already worked in.
#[derive(Clone)]
pub struct SharedSecret {
    bytes: Zeroizing<Vec<u8>>,
    keyed: Hmac<Md5>,
}

impl SharedSecret {
    /// Prepares a secret.
    pub fn new(bytes: impl Into<Vec<u8>>) -> Self {
        let bytes = Zeroizing::new(bytes.into());
        let keyed = Hmac::new_from_slice(&bytes).expect("HMAC takes a key of any length (RFC 2104 section 2)");
        Self { bytes, keyed }
    }

    pub(crate) fn expose(&self) -> &[u8] {
        &self.bytes
    }

    pub(crate) fn keyed(&self) -> Hmac<Md5> {
        self.keyed.clone()
    }
}

impl fmt::Debug for SharedSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SharedSecret(..)")
    }
}
