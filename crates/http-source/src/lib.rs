//! HTTPS services that answer in JSON (RFC 8259) as stores of facts: an asset register, device
//! management. Nobody is proved by them.
//!
//! A question is a GET of an address in which the name stands; the answer is an object, of which
//! facts are taken by JSON Pointer (RFC 6901). What cannot be answered is told in words that say
//! what to do ([`Trouble`]).

mod answers;
mod ask;
mod probe;
mod settings;
mod source;
mod token;

pub use answers::Trouble;
#[doc(hidden)]
pub use answers::read_any;
pub use settings::{HttpSettings, SettingsError};
pub use source::HttpSource;
