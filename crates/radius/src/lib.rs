//! RADIUS packets, attributes and their cryptography (RFC 2548, 2865,
//! 2868, 2869, 3579, 4372, 4849, 5607 and 7268).
//!
//! This crate opens no socket, reads no clock and makes no random number: it
//! turns bytes into views and values into bytes. Read [`Packet`] first, then
//! [`Builder`]; [`Dictionary`] gives attributes their names and types.

mod attribute;
mod attribute_id;
mod builder;
mod code;
mod crypto;
mod dictionary;
mod filter_rule;
mod packet;
mod show;
mod value;

pub use attribute::{Attribute, Attributes, number};
pub use attribute_id::AttributeId;
pub use builder::{BuildError, Builder};
pub use code::Code;
pub use crypto::authenticator::{MessageAuthenticator, ReplyError, check_message_authenticator, check_reply};
pub use crypto::chap::{ChapResponse, chap_response};
pub use crypto::mppe::read_session_keys;
pub use crypto::password::{PasswordError, hide_password, reveal_password};
pub use crypto::secret::{Secret, SharedSecret};
pub use dictionary::{Definition, Dictionary, DictionaryError, EncodeError, Kind};
pub use packet::{HEADER_LEN, MAX_LEN, Malformed, OwnedPacket, Packet};
pub use value::{Value, ValueError};
