//! Certificates: what the demo's authority issues, what people bring in files,
//! requests that another authority signs, and what issuers say of revocation.
//!
//! This crate opens no file and no socket. Read [`Authority`] first, then
//! [`Bundle`].

mod authority;
mod bundle;
mod ocsp;
mod request;
mod responder;

pub use authority::{Authority, AuthorityError, Issued, Order, Purpose, self_signed};
pub use bundle::{Bundle, BundleError, check_chain, read_certificates, read_crls, to_pem};
pub use ocsp::{OcspAnswer, OcspError, ocsp_request, read_ocsp_response};
pub use request::{RequestError, SigningRequest};
pub use responder::{Responder, Says};
