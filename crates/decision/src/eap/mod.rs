//! EAP conversations: what a gate offers, what is remembered between them, and
//! one conversation from its first packet to its verdict.

pub(crate) mod evidence;
pub(crate) mod identities;
pub(crate) mod machines;
pub(crate) mod offers;
pub(crate) mod resumption;
pub(crate) mod session;
