use thiserror::Error;

use crate::attribute::Attributes;
use crate::attribute::number::MESSAGE_AUTHENTICATOR;
use crate::attribute_id::AttributeId;
use crate::code::Code;
use crate::crypto::authenticator::{response_authenticator, sign};
use crate::crypto::secret::SharedSecret;
use crate::packet::{HEADER_LEN, MAX_LEN, Packet};

const FIRST_VALUE: usize = HEADER_LEN + 2;

/// Builds one packet. The bytes live in the builder and come out signed.
///
/// Message-Authenticator is always the first attribute, so that nobody can put
/// chosen bytes before it (the answer to CVE-2024-3596).
#[derive(Debug)]
pub struct Builder {
    bytes: Vec<u8>,
    signed: bool,
}

impl Builder {
    /// Begins a packet that carries Message-Authenticator.
    pub fn new(code: Code, identifier: u8) -> Self {
        let mut builder = Self::unsigned(code, identifier);
        builder.bytes.extend_from_slice(&[MESSAGE_AUTHENTICATOR, 18]);
        builder.bytes.extend_from_slice(&[0; 16]);
        builder.signed = true;
        builder
    }

    /// Begins a packet without Message-Authenticator, as old equipment sends it.
    pub fn unsigned(code: Code, identifier: u8) -> Self {
        let mut bytes = Vec::with_capacity(256);
        bytes.extend_from_slice(&[code.0, identifier, 0, 0]);
        bytes.extend_from_slice(&[0; 16]);
        Self { bytes, signed: false }
    }

    /// The bytes that it has so far, the header's with them.
    #[expect(clippy::len_without_is_empty, reason = "a packet is never empty")]
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// Adds one attribute. Its value has at most 253 bytes (RFC 2865 section 5).
    pub fn attribute(&mut self, number: u8, value: &[u8]) -> Result<(), BuildError> {
        let length = u8::try_from(value.len() + 2)
            .map_err(|_| BuildError::ValueTooLong { id: AttributeId::plain(number), got: value.len() })?;
        self.room_for(value.len() + 2)?;
        self.bytes.extend_from_slice(&[number, length]);
        self.bytes.extend_from_slice(value);
        Ok(())
    }

    /// Adds an EAP packet, in as many attributes as it takes (RFC 3579 section 3.1).
    pub fn eap_message(&mut self, packet: &[u8]) -> Result<(), BuildError> {
        packet.chunks(253).try_for_each(|part| self.attribute(crate::number::EAP_MESSAGE, part))
    }

    /// Adds attributes that are encoded already, as another builder or
    /// [`crate::Dictionary::encode`] made them.
    pub fn encoded(&mut self, attributes: &[u8]) -> Result<(), BuildError> {
        self.room_for(attributes.len())?;
        self.bytes.extend_from_slice(attributes);
        Ok(())
    }

    /// The same, without the attributes of one number.
    pub fn encoded_without(&mut self, number: u8, attributes: &[u8]) -> Result<(), BuildError> {
        let mut rest = Attributes::new(attributes).filter(|attribute| attribute.number != number);
        rest.try_for_each(|attribute| self.attribute(attribute.number, attribute.value))
    }

    /// Finishes a reply to `request`: Proxy-State is echoed (RFC 2865 section
    /// 5.33), then both authenticators are computed.
    pub fn reply(mut self, request: &Packet<'_>, secret: &SharedSecret) -> Result<Vec<u8>, BuildError> {
        for state in request.all(crate::number::PROXY_STATE) {
            self.attribute(crate::number::PROXY_STATE, state)?;
        }
        self.close(request.authenticator(), secret);
        let authenticator = response_authenticator(&self.bytes, secret);
        self.bytes[4..HEADER_LEN].copy_from_slice(&authenticator);
        Ok(self.bytes)
    }

    /// Finishes an Access-Request under a fresh random `authenticator`.
    pub fn request(mut self, authenticator: &[u8; 16], secret: &SharedSecret) -> Vec<u8> {
        self.close(authenticator, secret);
        self.bytes
    }

    /// Finishes an Accounting-Request: its authenticator is computed over the rest (RFC 2866
    /// section 3).
    pub fn accounting_request(mut self, secret: &SharedSecret) -> Vec<u8> {
        self.close(&[0; 16], secret);
        let authenticator = response_authenticator(&self.bytes, secret);
        self.bytes[4..HEADER_LEN].copy_from_slice(&authenticator);
        self.bytes
    }

    /// The attributes alone.
    pub fn into_attributes(mut self) -> Vec<u8> {
        self.bytes.split_off(HEADER_LEN)
    }

    fn close(&mut self, authenticator: &[u8; 16], secret: &SharedSecret) {
        let length = u16::try_from(self.bytes.len()).expect("room_for keeps the packet under 4096 bytes");
        self.bytes[2..4].copy_from_slice(&length.to_be_bytes());
        self.bytes[4..HEADER_LEN].copy_from_slice(authenticator);
        if self.signed {
            let code = sign(&self.bytes, secret);
            self.bytes[FIRST_VALUE..FIRST_VALUE + 16].copy_from_slice(&code);
        }
    }

    fn room_for(&self, more: usize) -> Result<(), BuildError> {
        let length = self.bytes.len() + more;
        if length > MAX_LEN {
            return Err(BuildError::PacketTooLong { length });
        }
        Ok(())
    }
}

/// Why something cannot be put into a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum BuildError {
    /// RFC 2865 section 5.
    #[error("attribute {id} would have {got} bytes of value, which is more than it can have")]
    ValueTooLong {
        /// The attribute.
        id: AttributeId,
        /// Bytes of value.
        got: usize,
    },
    /// RFC 2865 section 3.
    #[error("the packet would have {length} bytes and can have {MAX_LEN}")]
    PacketTooLong {
        /// Bytes it would have.
        length: usize,
    },
}
