//! What every part of the house needs and no part owns: secrets that print as
//! nothing, room that is shared fairly, maps with a bound, blocks of
//! addresses, text from outside that is safe to print.
//!
//! Nothing here knows a protocol, a file or a clock. Read [`Secret`] first, then
//! [`Shares`] and [`FairQueue`].

mod bounded_map;
mod fair_queue;
mod network;
mod printable;
mod secret;
mod shares;

pub use bounded_map::BoundedMap;
pub use fair_queue::FairQueue;
pub use network::Network;
pub use printable::printable;
pub use secret::{Secret, SecretText};
pub use shares::{Place, Shares};
