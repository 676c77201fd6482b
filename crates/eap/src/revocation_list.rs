use thiserror::Error;
use x509_parser::prelude::FromDer;
use x509_parser::revocation_list::CertificateRevocationList;

/// What a revocation list says of itself (RFC 5280 section 5), as people need it.
/// [`crate::Trust`] reads it for handshakes and checks who signed it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RevocationList {
    /// The issuer, as certificates name it.
    pub issuer: String,
    /// Seconds since 1970 at which it was made.
    pub this_update: i64,
    /// Seconds since 1970 until which it says what was not revoked; without an end
    /// where none.
    pub next_update: Option<i64>,
    /// How many certificates are on it.
    pub revoked: usize,
}

impl RevocationList {
    /// Reads one list in DER.
    pub fn read(der: &[u8]) -> Result<Self, RevocationListError> {
        let (_, list) =
            CertificateRevocationList::from_der(der).map_err(|error| RevocationListError(error.to_string()))?;
        Ok(Self {
            issuer: list.issuer().to_string(),
            this_update: list.last_update().timestamp(),
            next_update: list.next_update().map(|time| time.timestamp()),
            revoked: list.iter_revoked_certificates().count(),
        })
    }
}

/// Why a revocation list cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("a revocation list cannot be read: {0}")]
pub struct RevocationListError(String);
