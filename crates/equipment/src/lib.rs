//! How equipment asks and is told: one adapter for each protocol between bytes and a
//! decision.
//!
//! This crate decides nothing, and opens no socket. What protocols share stands here: who asks
//! ([`Nas`]), and the [`Edition`] that decides, with its grants rendered for every dialect. Read
//! [`radius::accept`] first, which turns a datagram into a request or says why it cannot, then
//! [`radius::decide`], then [`radius::Conversation`], which is how EAP is carried; [`Dialect`] says
//! how a make of equipment wants to be told. What an adapter leaves for whoever keeps and reads
//! decisions is in `regnant_evidence`: an exchange, and a reader of what is kept of it.

mod edition;
mod heard;
mod nas;
pub mod radius;

pub use edition::{ActiveEdition, Edition, GrantProblem, Preview};
pub use heard::Heard;
pub use nas::{Nas, NasTable};
pub use radius::privilege::{Doubt, Privilege};
pub use radius::render::dialect::Dialect;
pub use radius::render::{CannotSay, RenderError};
pub use radius::secrets::NamedSecrets;
pub use radius::vocabulary::{NameTaken, Vocabulary};
