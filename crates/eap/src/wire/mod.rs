//! The formats: EAP packets, the framing of TLS-based methods, AVPs and TLVs.

pub(crate) mod avp;
pub(crate) mod framing;
pub(crate) mod kind;
pub(crate) mod packet;
pub(crate) mod peap;
pub(crate) mod reader;
pub(crate) mod teap;
pub(crate) mod tlv;
