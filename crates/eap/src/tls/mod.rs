//! TLS inside EAP, behind one narrow trait, so that another engine can serve
//! what this one does not.

pub(crate) mod client;
mod crl;
pub(crate) mod hello;
mod library;
mod path;
pub(crate) mod revocation;
pub(crate) mod server;
pub(crate) mod trust;

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::certificate::Chain;
use crate::crypto::prf::SuiteHash;
use crate::failure::TlsFailure;

/// One end of one TLS connection. After [`Engine::receive`], whatever it returns,
/// [`Engine::records`] may hold something that the other end should get: an alert,
/// where it failed.
pub(crate) trait Engine: Send + Sync + fmt::Debug {
    /// Takes whole messages of the other end.
    fn receive(&mut self, records: &[u8]) -> Result<(), TlsFailure>;
    /// What is to be sent.
    fn records(&mut self) -> Vec<u8>;
    /// What came through the tunnel.
    fn read(&mut self) -> Vec<u8>;
    /// Puts something into the tunnel.
    fn write(&mut self, plain: &[u8]);
    /// Ends a connection in which nothing was sent since its handshake: the alert
    /// `access_denied`, where there is a way to send it.
    fn refuse(&mut self) -> Option<Vec<u8>>;
    /// Whether the handshake goes on.
    fn is_handshaking(&self) -> bool;
    /// Exported keying material (RFC 5705, RFC 8446 section 7.5).
    fn export(&self, label: &str, context: Option<&[u8]>, out: &mut [u8]) -> Result<(), TlsFailure>;
    /// What is known of the connection so far.
    fn about(&self) -> &Arc<TlsAbout>;
    /// The hash of the cipher suite, once it is known.
    fn hash(&self) -> SuiteHash;
}

/// Lets the TLS library set itself up on this thread, which takes tens of
/// milliseconds the first time: better before anybody waits.
pub fn warm_up() {
    let mut bytes = [0; 32];
    let _ = rustls::crypto::aws_lc_rs::default_provider().secure_random.fill(&mut bytes);
}

/// A version of TLS.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum TlsVersion {
    /// RFC 5246.
    Tls12,
    /// RFC 8446.
    Tls13,
}

impl fmt::Display for TlsVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Tls12 => "TLS 1.2",
            Self::Tls13 => "TLS 1.3",
        })
    }
}

/// What is known of a TLS connection.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TlsAbout {
    /// The version, once it is agreed.
    pub version: Option<TlsVersion>,
    /// The cipher suite, once it is agreed, as IANA writes it.
    pub suite: Option<String>,
    /// The group of the key exchange.
    pub group: Option<String>,
    /// Whether an earlier session was resumed.
    pub resumed: bool,
    /// The certificates that the other end presented, its own first, accepted or
    /// not.
    pub certificates: Chain,
    /// The session's randoms, of client and server, where they were seen.
    pub randoms: Option<[u8; 64]>,
}

/// Keys of a TLS-based method (RFC 5216 section 2.3, RFC 9190 section 2.3, RFC
/// 9427 section 2.1): MSK and EMSK, 64 bytes each.
pub(crate) fn export_keys(engine: &dyn Engine, kind: crate::Kind, label_of_1_2: &str) -> Result<[u8; 128], TlsFailure> {
    let mut keys = [0; 128];
    match engine.about().version {
        Some(TlsVersion::Tls13) => engine.export("EXPORTER_EAP_TLS_Key_Material", Some(&[kind.0]), &mut keys)?,
        _ => engine.export(label_of_1_2, None, &mut keys)?,
    }
    Ok(keys)
}

/// The Session-Id (RFC 5247 section 1.4; RFC 9190 section 2.3 for TLS 1.3).
pub(crate) fn session_id(engine: &dyn Engine, kind: crate::Kind) -> Vec<u8> {
    let about = engine.about();
    let mut id = vec![kind.0];
    match (about.version, about.randoms) {
        (Some(TlsVersion::Tls13), _) => {
            let mut method_id = [0; 64];
            if engine.export("EXPORTER_EAP_TLS_Method-Id", Some(&[kind.0]), &mut method_id).is_err() {
                return Vec::new();
            }
            id.extend_from_slice(&method_id);
        }
        (_, Some(randoms)) => id.extend_from_slice(&randoms),
        _ => return Vec::new(),
    }
    id
}
