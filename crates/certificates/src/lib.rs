//! Certificates: what the demo's authority issues, what people bring in files, and
//! requests that another authority signs.
//!
//! This crate opens no file and no socket. Read [`Authority`] first, then
//! [`Bundle`].

mod authority;
mod bundle;
mod request;

pub use authority::{Authority, AuthorityError, Issued, Order, Purpose};
pub use bundle::{Bundle, BundleError, check_chain, read_certificates, read_crls, to_pem};
pub use request::{RequestError, SigningRequest};
