//! EAP: conversations and methods, server and peer (RFC 3748 and its methods).
//!
//! This crate opens no socket, reads no clock and asks no store: packets go in,
//! steps come out. Randomness comes in as an argument; what the TLS library does
//! inside is the one exception. Server and peer stand side by side in mirrored
//! files. Read [`Conversation`] first, whose steps say when somebody must check a
//! credential and when the verdict is wanted; then [`Peer`], its other half.

mod about;
mod certificate;
mod crypto;
mod failure;
mod keys;
mod peer;
mod revocation_list;
mod server;
mod tls;
mod wire;

pub use about::{About, Inner, InnerOutcome};
pub use certificate::{Certificate, CertificateError, Chain, NameForm};
pub use crypto::mschap;
pub use failure::{CertificateFault, Failure, TlsFailure};
pub use keys::{Keys, Random, Secret};
pub use peer::{Login, Peer, PeerMethod, PeerStep, Tunnelled};
pub use revocation_list::{RevocationList, RevocationListError};
pub use server::credential::{Answer, Claim, Credential, IdentityType, MsChapChange, MsChapResponse};
pub use server::{Conversation, InnerOffer, Limits, Offer, Step};
pub use tls::client::{ClientTls, ClientTlsError};
pub use tls::hello::ClientHello;
pub use tls::revocation::{Judgement, Question, Source, Standing, Standings};
pub use tls::server::{ServerTls, ServerTlsError, Sessions};
pub use tls::trust::{Trust, TrustError, is_authority};
pub use tls::{TlsAbout, TlsVersion, warm_up};
pub use wire::kind::Kind;
pub use wire::packet::{Code, Malformed, Packet};
