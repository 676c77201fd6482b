//! A campus to ask from: simulated equipment with addresses of its own on
//! loopback, which sends what real equipment sends and enforces what it is told.
//!
//! Nothing here knows how the service decides; it sees packets alone. Read
//! [`Nas`] first, then [`story`].

mod accounting;
pub mod certificates;
pub mod directory;
mod enforce;
mod filter;
pub mod harbour;
mod logins;
mod make;
mod nas;
pub mod register;
pub mod story;
pub mod traffic;

pub use accounting::Accounting;
pub use enforce::{Enforced, Outcome};
pub use filter::Sent;
pub use make::Make;
pub use nas::Nas;
