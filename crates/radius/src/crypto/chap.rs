use md5::{Digest, Md5};

/// What a CHAP peer sent: its identifier, its response and the challenge it
/// answered (RFC 2865 section 5.3, RFC 1994 section 4.1). Does not print: passwords can be
/// guessed with it.
#[derive(Clone)]
pub struct ChapResponse {
    /// The identifier.
    pub identifier: u8,
    /// The response.
    pub response: [u8; 16],
    /// The challenge that it answers.
    pub challenge: Vec<u8>,
}

impl ChapResponse {
    /// Reads CHAP-Password; the challenge is CHAP-Challenge or, where that is
    /// missing, the Request Authenticator. `None` where the value has not 17 bytes.
    pub fn parse(chap_password: &[u8], challenge: Option<&[u8]>, request_authenticator: &[u8; 16]) -> Option<Self> {
        let (&identifier, response) = chap_password.split_first()?;
        Some(Self {
            identifier,
            response: response.try_into().ok()?,
            challenge: challenge.unwrap_or(request_authenticator).to_vec(),
        })
    }
}

/// MD5 over identifier, password and challenge (RFC 1994 section 4.1).
pub fn chap_response(identifier: u8, password: &[u8], challenge: &[u8]) -> [u8; 16] {
    Md5::new().chain_update([identifier]).chain_update(password).chain_update(challenge).finalize().into()
}
