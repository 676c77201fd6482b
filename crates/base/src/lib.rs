//! What every part of the house needs and no part owns: secrets that print as
//! nothing, room that is shared fairly, maps with a bound, blocks of
//! addresses, text from outside that is safe to print, files that people write and the
//! mistakes in them.
//!
//! Nothing here knows a protocol, opens a file or reads a clock. Read [`Secret`] first, then
//! [`Shares`] and [`FairQueue`].

mod bounded_map;
mod fair_queue;
mod network;
mod printable;
mod secret;
mod shares;
mod suggest;
mod toml_file;

pub use bounded_map::BoundedMap;
pub use fair_queue::FairQueue;
pub use network::Network;
pub use printable::printable;
pub use secret::{Secret, SecretText};
pub use shares::{Place, Shares};
pub use suggest::did_you_mean;
pub use toml_file::{At, Item, Mistake, Mistakes, Section, TomlFile};
