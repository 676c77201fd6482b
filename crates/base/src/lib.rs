//! What every part of the house needs and no part owns: secrets that print as
//! nothing, room that is shared fairly, maps with a bound, blocks of
//! addresses, text from outside that is safe to print, files that people write and the
//! mistakes in them, work that ends where nobody wants it any more.
//!
//! Nothing here knows a protocol, opens a file or asks what time it is. Read [`Secret`] first, then
//! [`Shares`] and [`FairQueue`].

mod bounded_map;
mod fair_queue;
mod mac;
mod network;
mod printable;
mod secret;
mod shares;
mod suggest;
mod toml_file;
mod wanted;

pub use bounded_map::BoundedMap;
pub use fair_queue::{FairQueue, UnderWay};
pub use mac::{Mac, MacError};
pub use network::Network;
pub use printable::printable;
pub use secret::{Secret, SecretText};
pub use shares::{Place, Shares};
pub use suggest::did_you_mean;
pub use toml_file::{At, Item, Mistake, Mistakes, Section, TomlFile};
pub use wanted::{GivenUp, Wanted, given_up, go_on};
