//! What stores have in common that ask somebody else.
//!
//! Nothing here knows how anybody is asked. [`Room`] bounds how many questions are on their way
//! and gives each NAS its share; [`Cache`] keeps what was found, and longer where a gate allows what
//! is stale; [`Realms`] says whose names a store is asked about at all; [`Breaker`] leaves a
//! server alone that failed; [`Told`] makes facts of what is told; [`Step`] is what a test of
//! the way to a store tells.

mod breaker;
mod cache;
mod realms;
mod room;
mod step;
mod tls;
mod told;
mod way;

pub use breaker::Breaker;
pub use cache::{Cache, DeviceCache, Hints, Names};
pub use realms::{Realms, RealmsError};
pub use room::Room;
pub use step::{ServerHealth, Step, all_down, shown_certificate};
pub use tls::client_tls;
pub use told::{Told, ToldError};
pub use way::{Never, Way};
