//! RADIUS (RFC 2865), EAP in it (RFC 3579), and accounting (RFC 2866).

mod accept;
mod accounting;
mod conversation;
mod credentials;
mod decide;
mod exchange;
mod lists;
mod ms_chap;
pub(crate) mod privilege;
pub(crate) mod render;
mod reply;
mod request;
pub(crate) mod secrets;
mod stranger;
pub(crate) mod vocabulary;

pub use accept::{AcceptedRequest, accept};
pub use accounting::{AcceptedAccounting, AcceptedReport, DecisionClass, accept_accounting};
pub use conversation::Conversation;
pub use credentials::{Credentials, FormerSecret};
pub use decide::{Handled, decide};
pub use exchange::PROTOCOL;
pub use request::ReadRequest;
pub use stranger::{Claims, claims, secret_fits};
