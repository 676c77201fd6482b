//! The NETLOGON secure channel over TCP: [MS-NRPC] on DCE/RPC ([C706], [MS-RPCE]).
//!
//! A domain controller checks the responses of MS-CHAP for a machine that has an account in its
//! domain, and tells the session key. This crate makes and reads the bytes; it opens no socket,
//! knows no clock, and takes random bytes as arguments. The way is:
//!
//! 1. [`Link::plain`] to the endpoint mapper, whose [`mapper`] tells the port of NETLOGON.
//! 2. A plain link to that port: [`challenge`] and [`authenticate`] prove both sides to each other
//!    and give a [`SessionKey`].
//! 3. One [`Link::sealed`] with that key, over which [`logon`] asks and [`set_password`] changes
//!    the machine's password. Every sealed link needs a key of its own: messages are counted from the
//!    beginning of a link, so that under one key the answers of one would open on another.
//!
//! On each link the contract is: send what [`Link::bind`] gives and hand what comes to
//! [`Link::bound`]; then send [`Link::request`] and hand every PDU that comes to [`Link::answer`]
//! until it gives the whole answer. [`pdu_length`] tells how long the next PDU is.

mod authenticate;
mod crypto;
mod logon;
pub mod mapper;
mod ndr;
mod pdu;
mod seal;
mod sid;
mod status;

pub use authenticate::{
    ACCOUNT_PASSWORD_BYTES, Authenticated, authenticate, challenge, read_authenticated, read_challenge,
    read_password_set, set_password,
};
pub use crypto::{Credential, PasswordHash, SessionKey};
pub use logon::{Logon, LogonAnswer, logon, read_logon};
pub use pdu::{HEADER, LONGEST_ANSWER, Link, LinkError, pdu_length};
pub use sid::Sid;
pub use status::NtStatus;

/// What a machine that has an account in the domain is called.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Machine {
    /// The domain's short name: `TARN`.
    pub domain: String,
    /// The machine's account: `REGNANT$`.
    pub account: String,
}

impl Machine {
    /// The machine's own name, which is the account's without the sign at its end.
    pub fn computer(&self) -> &str {
        self.account.strip_suffix('$').unwrap_or(&self.account)
    }
}

/// Bytes that are no answer of the kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the answer of the domain controller is cut, or not what was asked for")]
pub struct Malformed;
