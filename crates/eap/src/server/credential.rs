use std::fmt;

use md5::{Digest, Md5};
use serde::{Deserialize, Serialize};
use subtle::ConstantTimeEq;

use crate::crypto::mschap;
use crate::failure::Failure;
use crate::keys::Secret;

/// The longest name that anybody has: what fits a User-Name (RFC 2865 section 5.1).
pub(crate) const LONGEST_NAME: usize = 253;
pub(crate) const LONG_NAME: Failure = Failure::Malformed("a name is longer than 253 bytes");

/// Whom an identity is about (RFC 7170 section 4.2.3).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum IdentityType {
    /// A person.
    User,
    /// A machine.
    Machine,
}

/// A credential that somebody must check, and whose it is said to be.
#[derive(Clone, Debug)]
pub struct Claim {
    /// The name as sent with the credential.
    pub name: String,
    /// Whom it is about, where the method says so.
    pub identity_type: Option<IdentityType>,
    /// The method: `eap-mschapv2`, `pap` and so on.
    pub method: &'static str,
    /// The credential.
    pub credential: Credential,
}

/// What was sent to prove an identity. Prints as its kind alone: a response is
/// enough to guess passwords with.
#[derive(Clone)]
pub enum Credential {
    /// The password itself.
    Password(Secret),
    /// MD5 over identifier, password and challenge (RFC 1994 section 4.1).
    Md5 {
        /// The identifier.
        identifier: u8,
        /// The challenge.
        challenge: Vec<u8>,
        /// The response.
        response: [u8; 16],
    },
    /// MS-CHAP, version 1 or 2: a response to eight bytes under the NT hash of
    /// the password (RFC 2433, RFC 2759).
    MsChap(MsChapResponse),
    /// A new password in place of one that has expired (RFC 2759 section 7).
    Change(Box<MsChapChange>),
}

/// A response to a challenge of MS-CHAP. Does not print: passwords can be guessed with it.
#[derive(Clone)]
pub struct MsChapResponse {
    /// What was answered.
    pub challenge: [u8; 8],
    /// The answer.
    pub response: [u8; 24],
}

impl MsChapResponse {
    /// Where the response is right for the password of this NT hash: the session key, MD4
    /// over that hash (RFC 2759 section 8.4), which is all that somebody who checks a
    /// response for us needs to tell.
    pub fn session_key(&self, nt_hash: &[u8; 16]) -> Option<Secret> {
        let right = mschap::response_is_right(&self.challenge, &self.response, nt_hash);
        right.then(|| Secret::new(mschap::hash_of_hash(nt_hash)))
    }
}

impl fmt::Debug for MsChapResponse {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("MsChapResponse(..)")
    }
}

/// A change of password.
#[derive(Clone)]
pub struct MsChapChange {
    /// What was answered, with the new password.
    pub challenge: [u8; 8],
    /// The answer.
    pub response: [u8; 24],
    /// The new password under the hash of the old one.
    pub encrypted_password: [u8; 516],
    /// The old hash under the new one.
    pub encrypted_hash: [u8; 16],
}

impl fmt::Debug for Credential {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Password(_) => "Password(..)",
            Self::Md5 { .. } => "Md5(..)",
            Self::MsChap(_) => "MsChap(..)",
            Self::Change(_) => "Change(..)",
        })
    }
}

impl MsChapChange {
    /// The new password, if the peer knew the one of this hash.
    pub fn open(&self, old_hash: &[u8; 16]) -> Option<Secret> {
        let password = mschap::decrypt_new_password(&self.encrypted_password, old_hash)?;
        let new_hash = mschap::nt_password_hash(&password);
        let proves = mschap::encrypt_old_hash(old_hash, &new_hash).ct_eq(&self.encrypted_hash);
        let right = bool::from(proves) && mschap::response_is_right(&self.challenge, &self.response, &new_hash);
        right.then(|| Secret::new(password.as_bytes()))
    }
}

/// What came of checking a credential.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// It is right. MS-CHAP goes on only with a session key, from which its proof to the
    /// peer and its keys are made.
    Right {
        /// What [`MsChapResponse::session_key`] gives.
        session_key: Option<Secret>,
    },
    /// It is wrong, or nobody has that name.
    Wrong,
    /// It was right and must be changed.
    Expired,
}

impl Credential {
    /// Checks against the password itself.
    pub fn check_password(&self, password: &[u8]) -> Answer {
        match self {
            Self::Password(sent) => Answer::from(bool::from(sent.expose().ct_eq(password))),
            Self::Md5 { identifier, challenge, response } => {
                let digest =
                    Md5::new().chain_update([*identifier]).chain_update(password).chain_update(challenge).finalize();
                Answer::from(bool::from(digest.as_slice().ct_eq(response)))
            }
            Self::MsChap(_) | Self::Change(_) => match std::str::from_utf8(password) {
                Ok(password) => self.check_nt_hash(&mschap::nt_password_hash(password)),
                Err(_) => Answer::Wrong,
            },
        }
    }

    fn check_nt_hash(&self, hash: &[u8; 16]) -> Answer {
        match self {
            Self::MsChap(response) => {
                response.session_key(hash).map_or(Answer::Wrong, |key| Answer::Right { session_key: Some(key) })
            }
            _ => Answer::Wrong,
        }
    }
}

impl From<bool> for Answer {
    fn from(right: bool) -> Self {
        if right { Self::Right { session_key: None } } else { Self::Wrong }
    }
}
