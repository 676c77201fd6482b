use md5::{Digest, Md5};
use thiserror::Error;

use crate::crypto::secret::{Secret, SharedSecret};

const BLOCK: usize = 16;
/// RFC 2865 section 5.2: at most 128 bytes.
const MAX: usize = 128;

/// Hides a password for User-Password (RFC 2865 section 5.2).
pub fn hide_password(
    password: &[u8],
    request_authenticator: &[u8; 16],
    secret: &SharedSecret,
) -> Result<Vec<u8>, PasswordError> {
    if password.len() > MAX {
        return Err(PasswordError::TooLong { got: password.len() });
    }
    let mut hidden = password.to_vec();
    hidden.resize(password.len().max(1).next_multiple_of(BLOCK), 0);
    let mut before = *request_authenticator;
    for block in hidden.chunks_exact_mut(BLOCK) {
        mask(block, &before, secret);
        before.copy_from_slice(block);
    }
    Ok(hidden)
}

/// Reveals the value of User-Password (RFC 2865 section 5.2).
///
/// Zero bytes at the end are padding and left out. Under another secret the
/// result is noise; [`PasswordError::NotPadded`] tells some of these cases.
pub fn reveal_password(
    hidden: &[u8],
    request_authenticator: &[u8; 16],
    secret: &SharedSecret,
) -> Result<Secret, PasswordError> {
    if hidden.is_empty() || hidden.len() > MAX || !hidden.len().is_multiple_of(BLOCK) {
        return Err(PasswordError::HiddenLength { got: hidden.len() });
    }
    let mut clear = hidden.to_vec();
    let mut before = *request_authenticator;
    for (block, cipher) in clear.chunks_exact_mut(BLOCK).zip(hidden.chunks_exact(BLOCK)) {
        mask(block, &before, secret);
        before.copy_from_slice(cipher);
    }
    let length = clear.iter().rposition(|&byte| byte != 0).map_or(0, |last| last + 1);
    // Secret bytes are wiped on every way out.
    let padded = !clear[..length].contains(&0) && clear.len() - length <= BLOCK;
    clear[length..].fill(0);
    clear.truncate(length);
    let clear = Secret::new(clear);
    if padded { Ok(clear) } else { Err(PasswordError::NotPadded) }
}

fn mask(block: &mut [u8], before: &[u8; 16], secret: &SharedSecret) {
    let key = Md5::new().chain_update(secret.expose()).chain_update(before).finalize();
    for (byte, key) in block.iter_mut().zip(key) {
        *byte ^= key;
    }
}

/// Why a password cannot be hidden or revealed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum PasswordError {
    /// RFC 2865 section 5.2.
    #[error("the password has {got} bytes and User-Password can carry {MAX}")]
    TooLong {
        /// Bytes of the password.
        got: usize,
    },
    /// RFC 2865 section 5.2.
    #[error("User-Password has {got} bytes and must have 16, 32 and so on up to {MAX}")]
    HiddenLength {
        /// Bytes of the value.
        got: usize,
    },
    /// No client pads like this: the secret differs.
    #[error("User-Password does not decode to a padded password: the shared secret most likely differs")]
    NotPadded,
}
