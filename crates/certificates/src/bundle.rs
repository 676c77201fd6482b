use p12_keystore::{KeyStore, KeyStoreEntry, Pkcs12ImportPolicy};
use regnant_eap::Certificate;
use thiserror::Error;

/// A certificate with those above it, and its key where there is one.
#[derive(Clone, Debug, Default)]
pub struct Bundle {
    /// The chain in DER, its own certificate first.
    pub chain: Vec<Vec<u8>>,
    /// The private key in DER.
    pub key: Option<regnant_eap::Secret>,
}

/// What a file may hold at most.
const MOST_CERTIFICATES: usize = 64;

impl Bundle {
    /// Reads certificates and a key from PEM (RFC 7468), in any order of blocks.
    pub fn from_pem(text: &str) -> Result<Self, BundleError> {
        let blocks = pem::parse_many(text).map_err(|error| BundleError::Pem(error.to_string()))?;
        let mut bundle = Self::default();
        for block in blocks {
            match block.tag() {
                "CERTIFICATE" => bundle.chain.push(block.into_contents()),
                "PRIVATE KEY" | "EC PRIVATE KEY" | "RSA PRIVATE KEY" => {
                    let before = bundle.key.replace(regnant_eap::Secret::new(block.into_contents()));
                    before.map_or(Ok(()), |_| Err(BundleError::TwoKeys))?;
                }
                "ENCRYPTED PRIVATE KEY" => return Err(BundleError::EncryptedKey),
                _ => {}
            }
        }
        bundle.checked()
    }

    /// Reads a PKCS#12 file (RFC 7292).
    pub fn from_pkcs12(bytes: &[u8], password: &str) -> Result<Self, BundleError> {
        let store = KeyStore::from_pkcs12(bytes, password, Pkcs12ImportPolicy::Relaxed)
            .map_err(|error| BundleError::Pkcs12(error.to_string()))?;
        let mut chains = store.entries().filter_map(|(_, entry)| match entry {
            KeyStoreEntry::PrivateKeyChain(chain) => Some(chain),
            _ => None,
        });
        let chain = chains.next().ok_or(BundleError::NoKey)?;
        if chains.next().is_some() {
            return Err(BundleError::TwoKeys);
        }
        Self {
            chain: chain.certs().iter().map(|certificate| certificate.as_der().to_vec()).collect(),
            key: Some(regnant_eap::Secret::new(chain.key().as_der())),
        }
        .checked()
    }

    fn checked(mut self) -> Result<Self, BundleError> {
        if self.chain.is_empty() {
            return Err(BundleError::NoCertificate);
        }
        if self.chain.len() > MOST_CERTIFICATES {
            return Err(BundleError::TooMany(self.chain.len()));
        }
        let mut read = Vec::new();
        for der in self.chain.drain(..) {
            read.push((Certificate::read(&der).map_err(|error| BundleError::Unreadable(error.to_string()))?, der));
        }
        self.chain = in_order(read);
        Ok(self)
    }
}

/// The certificate that issued no other first, then each one's issuer; files have
/// them in any order.
fn in_order(mut read: Vec<(Certificate, Vec<u8>)>) -> Vec<Vec<u8>> {
    let issues = |certificate: &Certificate, all: &[(Certificate, Vec<u8>)]| {
        all.iter().any(|(other, _)| other.issuer == certificate.subject && other.subject != certificate.subject)
    };
    let first = read.iter().position(|(certificate, _)| !issues(certificate, &read) && !certificate.authority);
    let mut ordered = Vec::new();
    let mut next = Some(first.unwrap_or(0));
    while let Some(place) = next {
        let (certificate, der) = read.remove(place);
        ordered.push(der);
        next = read.iter().position(|(other, _)| other.subject == certificate.issuer);
    }
    ordered.extend(read.into_iter().map(|(_, der)| der));
    ordered
}

/// All certificates of a PEM text, in DER.
pub fn read_certificates(text: &str) -> Result<Vec<Vec<u8>>, BundleError> {
    let found = blocks(text, "CERTIFICATE")?;
    for der in &found {
        Certificate::read(der).map_err(|error| BundleError::Unreadable(error.to_string()))?;
    }
    Ok(found)
}

/// All revocation lists of a PEM text, in DER.
pub fn read_crls(text: &str) -> Result<Vec<Vec<u8>>, BundleError> {
    blocks(text, "X509 CRL")
}

fn blocks(text: &str, tag: &str) -> Result<Vec<Vec<u8>>, BundleError> {
    let blocks = pem::parse_many(text).map_err(|error| BundleError::Pem(error.to_string()))?;
    Ok(blocks.into_iter().filter(|block| block.tag() == tag).map(pem::Pem::into_contents).collect())
}

/// PEM of DER objects.
pub fn to_pem(tag: &str, objects: &[Vec<u8>]) -> String {
    objects.iter().map(|der| pem::encode(&pem::Pem::new(tag, der.clone()))).collect()
}

/// What is wrong with a chain of ours, in sentences for people; nothing where all
/// is well.
pub fn check_chain(chain: &[Vec<u8>], now: i64) -> Vec<String> {
    let mut findings = Vec::new();
    let read: Vec<_> = chain.iter().filter_map(|der| Certificate::read(der).ok()).collect();
    let Some(own) = read.first() else { return vec!["There is no certificate that can be read.".into()] };
    if !own.usages.is_empty() && !own.usages.iter().any(|usage| usage == "server authentication" || usage == "anything")
    {
        findings.push("It may not be used for server authentication: supplicants will reject it.".into());
    }
    if own.dns.is_empty() {
        findings.push(
            "It has no DNS name among its alternative names: supplicants that check the name will reject it.".into(),
        );
    }
    for certificate in &read {
        let name = certificate.common_name.as_deref().unwrap_or(&certificate.subject);
        if certificate.not_after <= now {
            findings.push(format!("`{name}` has expired."));
        } else if certificate.not_before > now {
            findings.push(format!("`{name}` is not valid yet."));
        }
    }
    for (lower, upper) in read.iter().zip(read.iter().skip(1)) {
        if lower.issuer != upper.subject {
            findings.push(format!("The chain is broken: `{}` did not issue `{}`.", upper.subject, lower.subject));
        }
    }
    findings
}

/// Why a file cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum BundleError {
    /// It is no PEM.
    #[error("this is no PEM: {0}")]
    Pem(String),
    /// It is no PKCS#12, or the password is another.
    #[error("the PKCS#12 file cannot be opened, most often because of its password: {0}")]
    Pkcs12(String),
    /// No certificate.
    #[error("there is no certificate in it")]
    NoCertificate,
    /// No key.
    #[error("there is no private key in it")]
    NoKey,
    /// Several keys.
    #[error("there is more than one private key in it; bring one certificate with its key at a time")]
    TwoKeys,
    /// A key under a password.
    #[error("the private key is encrypted; bring it as PKCS#12 with its password, or decrypt it first")]
    EncryptedKey,
    /// Too many certificates.
    #[error("there are {0} certificates in it and at most {MOST_CERTIFICATES} are taken")]
    TooMany(usize),
    /// A certificate that is none.
    #[error("{0}")]
    Unreadable(String),
}
