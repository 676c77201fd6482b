//! Values that are hidden under the shared secret, as they go out.

use crate::builder::BuildError;
use crate::crypto::mppe::hide;
use crate::crypto::password::hide_password;
use crate::crypto::secret::SharedSecret;
use crate::dictionary::{Definition, Hidden};

/// What a hidden value of text can have: a tag, a salt and a length come before it, and it
/// is filled up to blocks of 16 bytes (RFC 2868 section 3.5).
const MOST_SALTED: usize = 239;
/// RFC 2865 section 5.2.
const MOST_MASKED: usize = 128;

impl Definition {
    /// The bytes of a secret that the attribute can carry.
    pub fn most_secret(&self) -> usize {
        match self.hidden {
            Some(Hidden::TunnelPassword) => MOST_SALTED,
            Some(Hidden::UserPassword) => MOST_MASKED,
            None => 253 - usize::from(self.tagged),
        }
    }

    /// A secret as the attribute carries it in a reply to the request of this authenticator.
    /// `salt` must be random, and another for each value of a packet; its first bit is set
    /// here (RFC 2868 section 3.5).
    pub fn hide(
        &self,
        value: &[u8],
        salt: u16,
        request_authenticator: &[u8; 16],
        secret: &SharedSecret,
    ) -> Result<Vec<u8>, BuildError> {
        if value.len() > self.most_secret() {
            return Err(BuildError::ValueTooLong { id: self.id, got: value.len() });
        }
        let tag = if self.tagged { &[0][..] } else { &[] };
        let hidden = match self.hidden {
            None => value.to_vec(),
            Some(Hidden::UserPassword) => hide_password(value, request_authenticator, secret)
                .map_err(|_| BuildError::ValueTooLong { id: self.id, got: value.len() })?,
            Some(Hidden::TunnelPassword) => {
                let salt = (salt | 0x8000).to_be_bytes();
                [&salt[..], &hide(value, &salt, request_authenticator, secret)].concat()
            }
        };
        Ok([tag, &hidden].concat())
    }
}
