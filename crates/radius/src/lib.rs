//! RADIUS packets, attributes and their cryptography (RFC 2865, 2868, 3579, 6929, 8044),
//! and the attributes of all RFCs as data (`docs/attributes.md`).
//!
//! This crate opens no socket, reads no clock and makes no random number: it
//! turns bytes into views and values into bytes. Read [`Packet`] first, then
//! [`Builder`]; [`Dictionary`] gives attributes their names and types.

mod assembly;
mod attribute;
mod attribute_id;
mod builder;
mod code;
mod crypto;
mod dictionary;
mod filter_rule;
mod hidden;
mod ms_chap;
mod packet;
mod show;
mod value;
mod walk;

pub use assembly::AttributeList;
pub use attribute::{Attribute, Attributes, number};
pub use attribute_id::AttributeId;
pub use builder::{BuildError, Builder};
pub use code::Code;
pub use crypto::authenticator::{
    AccountingAuthenticator, MessageAuthenticator, ReplyError, check_accounting_reply, check_accounting_request,
    check_message_authenticator, check_reply,
};
pub use crypto::chap::{ChapResponse, chap_response};
pub use crypto::mppe::read_session_keys;
pub use crypto::password::{PasswordError, hide_password, reveal_password};
pub use crypto::secret::{Secret, SharedSecret};
pub use dictionary::{
    Definition, Dictionary, DictionaryOrigin, EncodeError, Hidden, Kind, Privileged, Quantity, Unassigned, Vendor,
    VendorLayout,
};
pub use ms_chap::MsChapSent;
pub use packet::{HEADER_LEN, MAX_LEN, Malformed, OwnedPacket, Packet};
pub use value::{Value, ValueError};
