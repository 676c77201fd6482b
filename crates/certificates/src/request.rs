use rcgen::{CertificateParams, DnType, KeyPair};
use regnant_eap::Secret;
use thiserror::Error;

/// A request for a certificate, to be signed by another authority (RFC 2986).
#[derive(Clone, Debug)]
pub struct SigningRequest {
    /// The request, in PEM.
    pub pem: String,
    /// The private key that the certificate will belong to (PKCS#8 in DER).
    pub key: Secret,
}

impl SigningRequest {
    /// A request for a server certificate of this name, with a fresh P-256 key.
    pub fn new(name: &str) -> Result<Self, RequestError> {
        let made = || {
            let key = KeyPair::generate()?;
            let mut params = CertificateParams::new(vec![name.to_owned()])?;
            params.distinguished_name.push(DnType::CommonName, name);
            let pem = params.serialize_request(&key)?.pem()?;
            Ok(Self { pem, key: Secret::new(key.serialize_der()) })
        };
        made().map_err(|error: rcgen::Error| RequestError { name: name.to_owned(), reason: error.to_string() })
    }
}

/// Why a request cannot be made.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("a signing request for `{name}` cannot be made: {reason}")]
pub struct RequestError {
    name: String,
    reason: String,
}
