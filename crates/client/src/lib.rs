//! The asking side of RADIUS: what a NAS does, and whoever tests one.
//!
//! [`Requests`] is sans-I/O: it gives identifiers, says what to send and when to send it
//! again (RFC 5080 section 2.2.1), believes replies or not, and turns to the next server
//! where one stays silent. [`Conversation`] leads one login over it, by a single request
//! or by EAP. [`Exchange`] drives both over a socket of the system, and [`load`] drives
//! very many at once. Read [`Requests`] first.

mod ask;
mod backoff;
mod conversation;
mod exchange;
pub mod load;
mod requests;

pub use ask::{Ask, AskError, Credential, Supplicant};
pub use backoff::Patience;
pub use conversation::{Conversation, Progress, SupplicantView};
pub use exchange::{Exchange, ExchangeError, Reply};
pub use requests::{Begun, Full, Make, Output, Random, Received, Requests, Server};
