//! How equipment asks and is told: one adapter for each protocol between bytes and a
//! decision.
//!
//! This crate decides nothing, and opens no socket. Read [`accept`] first, which turns a
//! datagram into a request or says why it cannot, then [`decide`], then
//! [`RadiusConversation`], which is how EAP is carried; [`Dialect`] says how a make of
//! equipment wants to be told. [`accept_accounting`] is the same for reports on access.

mod accept;
mod accounting;
mod conversation;
mod decide;
mod edition;
mod heard;
mod lists;
mod ms_chap;
mod nas;
mod privilege;
mod render;
mod reply;
mod request;
mod secrets;
mod stranger;
mod vocabulary;

pub use accept::{AcceptedRequest, Cause, accept};
pub use accounting::{
    AcceptedAccounting, AcceptedReport, DecisionClass, Report, ReportStatus, Whereabouts, accept_accounting,
};
pub use conversation::RadiusConversation;
pub use decide::{ActiveEdition, Decision, Handled, decide};
pub use edition::{Edition, GrantProblem, Preview};
pub use heard::{Heard, HeardMarks};
pub use nas::{FormerSecret, Nas, NasTable};
pub use privilege::{Doubt, Privilege};
pub use render::dialect::Dialect;
pub use render::{CannotSay, RenderError};
pub use request::ReadRequest;
pub use secrets::NamedSecrets;
pub use stranger::{Claims, claims, secret_fits};
pub use vocabulary::{NameTaken, Vocabulary};
