//! MS-CHAP outside EAP: the attributes of RFC 2548 section 2.

use crate::attribute::number::VENDOR_SPECIFIC;
use crate::attribute::{Attributes, vendor_of};
use crate::builder::{BuildError, Builder};
use crate::crypto::mppe::VENDOR;
use crate::crypto::password::hide_password;
use crate::crypto::secret::SharedSecret;
use crate::packet::Packet;

const RESPONSE: u8 = 1;
const ERROR: u8 = 2;
const CHALLENGE: u8 = 11;
const MPPE_KEYS: u8 = 12;
const RESPONSE_2: u8 = 25;
const SUCCESS_2: u8 = 26;
/// The NT response is to be looked at (RFC 2548 section 2.1.3).
const USE_NT: u8 = 1;

/// What a peer of MS-CHAP sent, and the challenge that it answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MsChapSent<'p> {
    /// MS-CHAP (RFC 2433).
    ///
    /// ```text
    /// |     Type      |    Length     |     Ident     |     Flags     |
    /// |  LM-Response (24 bytes) ...   |  NT-Response (24 bytes) ...
    /// ```
    Version1 {
        /// Matches response and error.
        identifier: u8,
        /// What was answered.
        challenge: &'p [u8; 8],
        /// The answer under the NT hash.
        response: &'p [u8; 24],
    },
    /// MS-CHAP version 2 (RFC 2759).
    ///
    /// ```text
    /// |     Type      |    Length     |     Ident     |     Flags     |
    /// |  Peer-Challenge (16 bytes), Reserved (8 bytes), Response (24 bytes) ...
    /// ```
    Version2 {
        /// Matches response and success.
        identifier: u8,
        /// What was answered.
        challenge: &'p [u8; 16],
        /// What the peer adds to it.
        peer_challenge: &'p [u8; 16],
        /// The answer.
        response: &'p [u8; 24],
    },
}

impl MsChapSent<'_> {
    /// Matches what was sent and what comes back.
    pub fn identifier(&self) -> u8 {
        match self {
            Self::Version1 { identifier, .. } | Self::Version2 { identifier, .. } => *identifier,
        }
    }
}

impl<'p> Packet<'p> {
    /// The response to MS-CHAP that a request carries, where it has one that reads and
    /// that is under the NT hash.
    pub fn ms_chap(&self) -> Option<MsChapSent<'p>> {
        let challenge = self.of_rfc_2548(CHALLENGE).next()?;
        if let Some(value) = self.of_rfc_2548(RESPONSE_2).next() {
            let (&[identifier, _], value) = value.split_first_chunk()?;
            let (peer_challenge, value) = value.split_first_chunk()?;
            let response = value.get(8..)?.try_into().ok()?;
            return Some(MsChapSent::Version2 {
                identifier,
                challenge: challenge.try_into().ok()?,
                peer_challenge,
                response,
            });
        }
        let (&[identifier, flags], value) = self.of_rfc_2548(RESPONSE).next()?.split_first_chunk()?;
        let response = value.get(24..)?.try_into().ok().filter(|_| flags == USE_NT)?;
        Some(MsChapSent::Version1 { identifier, challenge: challenge.try_into().ok()?, response })
    }

    /// How many responses to MS-CHAP a request carries, read or not, and how many
    /// challenges.
    pub fn ms_chap_parts(&self) -> (usize, usize) {
        let responses = self.of_rfc_2548(RESPONSE).count() + self.of_rfc_2548(RESPONSE_2).count();
        (responses, self.of_rfc_2548(CHALLENGE).count())
    }

    /// The values of an attribute of RFC 2548.
    fn of_rfc_2548(&self, kind: u8) -> impl Iterator<Item = &'p [u8]> + use<'p> {
        let vendors = self.all(VENDOR_SPECIFIC).filter_map(vendor_of);
        let inside = vendors.filter(|(vendor, _)| vendor.to_be_bytes() == VENDOR);
        let inside = inside.filter_map(|(_, rest)| Attributes::read(rest)).flatten();
        inside.filter(move |one| one.number == kind).map(|one| one.value)
    }
}

impl Builder {
    /// Adds MS-CHAP2-Success, which proves to the peer that the server knows the password
    /// too (RFC 2548 section 2.3.3).
    pub fn ms_chap2_success(&mut self, identifier: u8, proof: &str) -> Result<(), BuildError> {
        self.of_rfc_2548(SUCCESS_2, &[&[identifier], proof.as_bytes()].concat())
    }

    /// Adds MS-CHAP-Error (RFC 2548 section 2.1.5).
    pub fn ms_chap_error(&mut self, identifier: u8, told: &str) -> Result<(), BuildError> {
        self.of_rfc_2548(ERROR, &[&[identifier], told.as_bytes()].concat())
    }

    /// Adds MS-CHAP-MPPE-Keys of version 1: no LM key, and the NT key, hidden as a password
    /// is (RFC 2548 section 2.4.1).
    pub fn ms_chap_keys(
        &mut self,
        nt_key: &[u8; 16],
        request_authenticator: &[u8; 16],
        secret: &SharedSecret,
    ) -> Result<(), BuildError> {
        let clear = [&[0; 8], &nt_key[..], &[0; 8]].concat();
        let hidden = hide_password(&clear, request_authenticator, secret).expect("32 bytes are no more than 128");
        self.of_rfc_2548(MPPE_KEYS, &hidden)
    }

    fn of_rfc_2548(&mut self, kind: u8, value: &[u8]) -> Result<(), BuildError> {
        // What is said here has fewer bytes than an attribute.
        self.attribute(VENDOR_SPECIFIC, &[&VENDOR[..], &[kind, value.len() as u8 + 2], value].concat())
    }

    /// Adds what a peer sends, for whoever asks as equipment does.
    pub fn ms_chap(&mut self, sent: &MsChapSent<'_>) -> Result<(), BuildError> {
        match *sent {
            MsChapSent::Version1 { identifier, challenge, response } => {
                self.of_rfc_2548(CHALLENGE, challenge)?;
                self.of_rfc_2548(RESPONSE, &[&[identifier, USE_NT], &[0; 24][..], response].concat())
            }
            MsChapSent::Version2 { identifier, challenge, peer_challenge, response } => {
                self.of_rfc_2548(CHALLENGE, challenge)?;
                self.of_rfc_2548(RESPONSE_2, &[&[identifier, 0], &peer_challenge[..], &[0; 8], response].concat())
            }
        }
    }
}
