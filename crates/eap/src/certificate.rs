use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::{Arc, OnceLock};

use thiserror::Error;
use x509_parser::extensions::{GeneralName, ParsedExtension};
use x509_parser::prelude::{FromDer, X509Certificate};

/// What a certificate says, as facts and people need it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Certificate {
    /// The subject in RFC 4514's manner.
    pub subject: String,
    /// The subject's common name, where it has one.
    pub common_name: Option<String>,
    /// The issuer.
    pub issuer: String,
    /// The issuer's common name.
    pub issuer_common_name: Option<String>,
    /// The serial number in hexadecimal.
    pub serial: String,
    /// Seconds since 1970 from which it is valid.
    pub not_before: i64,
    /// Seconds since 1970 until which it is valid.
    pub not_after: i64,
    /// DNS names of the subject.
    pub dns: Vec<String>,
    /// User principal names of the subject.
    pub upn: Vec<String>,
    /// Mail addresses of the subject.
    pub email: Vec<String>,
    /// URIs of the subject.
    pub uris: Vec<String>,
    /// The subject's organizational units.
    pub units: Vec<String>,
    /// Extensions that nothing else here knows, each OID with its value: a text where it is one,
    /// else its bytes in hexadecimal.
    pub extensions: Vec<(String, String)>,
    /// What the key may be used for: `server authentication` and so on; empty
    /// where the certificate does not say.
    pub usages: Vec<String>,
    /// Whether it may issue others.
    pub authority: bool,
    /// Whether its key may prove anything in a handshake: a key usage that leaves
    /// digitalSignature out forbids that (RFC 5280 section 4.2.1.3).
    pub signs: bool,
    /// SHA-256 over the whole certificate, in hexadecimal.
    pub fingerprint: String,
    /// Where its issuer answers for revocation (RFC 6960 section 3.1).
    pub ocsp: Vec<String>,
    /// Where its issuer's revocation list is (RFC 5280 section 4.2.1.13).
    pub crl: Vec<String>,
}

/// The places in a certificate that may name somebody.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum NameForm {
    /// A user principal name among the subject's alternative names.
    SanUpn,
    /// A mail address among the subject's alternative names.
    SanEmail,
    /// A DNS name among the subject's alternative names.
    SanDns,
    /// The subject's common name.
    SubjectCn,
}

/// Extensions of others that are kept, and bytes of one.
const MOST_EXTENSIONS: usize = 32;
const LONGEST_EXTENSION: usize = 512;

/// The user principal name's form of otherName.
const UPN: &str = "1.3.6.1.4.1.311.20.2.3";

impl Certificate {
    /// Reads one certificate (RFC 5280) in DER.
    pub fn read(der: &[u8]) -> Result<Self, CertificateError> {
        let (_, read) = X509Certificate::from_der(der).map_err(|error| CertificateError(error.to_string()))?;
        let name = |name: &x509_parser::x509::X509Name<'_>| {
            name.iter_common_name().next().and_then(|cn| cn.as_str().ok()).map(str::to_owned)
        };
        let mut certificate = Self {
            subject: read.subject().to_string(),
            common_name: name(read.subject()),
            issuer: read.issuer().to_string(),
            issuer_common_name: name(read.issuer()),
            serial: hex(read.raw_serial()),
            not_before: read.validity().not_before.timestamp(),
            not_after: read.validity().not_after.timestamp(),
            units: read
                .subject()
                .iter_organizational_unit()
                .filter_map(|unit| unit.as_str().ok().map(str::to_owned))
                .collect(),
            authority: read.is_ca(),
            signs: read.key_usage().ok().flatten().is_none_or(|usage| usage.value.digital_signature()),
            fingerprint: hex(&<sha2::Sha256 as sha2::Digest>::digest(der)),
            ..Self::default()
        };
        for extension in read.extensions() {
            certificate.take(extension.parsed_extension());
            if matches!(extension.parsed_extension(), ParsedExtension::UnsupportedExtension { .. })
                && certificate.extensions.len() < MOST_EXTENSIONS
                && extension.value.len() <= LONGEST_EXTENSION
            {
                let value = text_of(extension.value).unwrap_or_else(|| hex(extension.value));
                certificate.extensions.push((extension.oid.to_id_string(), value));
            }
        }
        Ok(certificate)
    }

    fn take(&mut self, extension: &ParsedExtension<'_>) {
        match extension {
            ParsedExtension::SubjectAlternativeName(names) => {
                for name in &names.general_names {
                    match name {
                        GeneralName::DNSName(name) => self.dns.push((*name).to_owned()),
                        GeneralName::URI(name) => self.uris.push((*name).to_owned()),
                        GeneralName::RFC822Name(name) => self.email.push((*name).to_owned()),
                        GeneralName::OtherName(oid, value) if oid.to_id_string() == UPN => {
                            self.upn.extend(utf8_of(value));
                        }
                        _ => {}
                    }
                }
            }
            ParsedExtension::ExtendedKeyUsage(usage) => {
                let words = [
                    (usage.server_auth, "server authentication"),
                    (usage.client_auth, "client authentication"),
                    (usage.ocsp_signing, "OCSP signing"),
                    (usage.email_protection, "e-mail"),
                    (usage.code_signing, "code signing"),
                    (usage.any, "anything"),
                ];
                self.usages.extend(words.iter().filter(|(set, _)| *set).map(|(_, word)| (*word).to_owned()));
                self.usages.extend(usage.other.iter().map(x509_parser::oid_registry::Oid::to_id_string));
            }
            ParsedExtension::AuthorityInfoAccess(access) => {
                let ocsp = access.accessdescs.iter().filter(|a| a.access_method.to_id_string() == "1.3.6.1.5.5.7.48.1");
                self.ocsp.extend(ocsp.filter_map(|a| uri(&a.access_location)));
            }
            ParsedExtension::CRLDistributionPoints(points) => {
                for point in &points.points {
                    if let Some(x509_parser::extensions::DistributionPointName::FullName(names)) =
                        &point.distribution_point
                    {
                        self.crl.extend(names.iter().filter_map(uri));
                    }
                }
            }
            _ => {}
        }
    }

    /// The first name of this form.
    pub fn name(&self, form: NameForm) -> Option<&str> {
        let list = match form {
            NameForm::SanUpn => &self.upn,
            NameForm::SanEmail => &self.email,
            NameForm::SanDns => &self.dns,
            NameForm::SubjectCn => return self.common_name.as_deref(),
        };
        list.first().map(String::as_str)
    }
}

fn uri(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::URI(uri) => Some((*uri).to_owned()),
        _ => None,
    }
}

/// `[0] EXPLICIT UTF8String`, as otherName carries it (RFC 5280 section 4.2.1.6).
fn utf8_of(value: &[u8]) -> Option<String> {
    let inner = strip(value, 0xa0)?;
    let text = strip(inner, 0x0c)?;
    String::from_utf8(text.to_vec()).ok()
}

/// A UTF8String, PrintableString or IA5String alone.
fn text_of(der: &[u8]) -> Option<String> {
    let text = [0x0c, 0x13, 0x16].into_iter().find_map(|tag| strip(der, tag))?;
    // Nothing may follow it.
    let whole = text.len() + if text.len() < 0x80 { 2 } else { 3 };
    String::from_utf8(text.to_vec()).ok().filter(|_| whole == der.len())
}

/// The contents of a DER object of this tag; only short forms of length, which
/// no name needs more than.
fn strip(der: &[u8], tag: u8) -> Option<&[u8]> {
    let (found, rest) = der.split_first()?;
    let (length, rest) = rest.split_first()?;
    let (length, rest) = match length {
        0x81 => rest.split_first()?,
        short if *short < 0x80 => (length, rest),
        _ => return None,
    };
    (*found == tag).then(|| rest.get(..usize::from(*length))).flatten()
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    let digits = bytes.iter().flat_map(|byte| [byte >> 4, byte & 0xf]);
    digits.map(|digit| char::from(b"0123456789abcdef"[usize::from(digit)])).collect()
}

/// Certificates as the other end presented them, its own first; read once, when
/// somebody wants to know what they say. Clones share both.
#[derive(Clone, Default)]
pub struct Chain(Arc<Presented>);

#[derive(Default)]
struct Presented {
    ders: Vec<Vec<u8>>,
    read: OnceLock<Vec<Result<Arc<Certificate>, CertificateError>>>,
}

impl Chain {
    /// A chain of certificates in DER.
    pub fn new(ders: Vec<Vec<u8>>) -> Self {
        Self(Arc::new(Presented { ders, read: OnceLock::new() }))
    }

    /// The chain of a TLS message.
    pub(crate) fn presented(own: &[u8], rest: &[rustls::pki_types::CertificateDer<'_>]) -> Self {
        Self::new(std::iter::once(own).chain(rest.iter().map(|der| &**der)).map(<[u8]>::to_vec).collect())
    }

    /// Whether nothing was presented.
    pub fn is_empty(&self) -> bool {
        self.0.ders.is_empty()
    }

    /// The certificates in DER.
    pub fn ders(&self) -> &[Vec<u8>] {
        &self.0.ders
    }

    /// What the certificates say, or why they cannot be read.
    pub fn read(&self) -> &[Result<Arc<Certificate>, CertificateError>] {
        self.0.read.get_or_init(|| self.0.ders.iter().map(|der| Certificate::read(der).map(Arc::new)).collect())
    }

    /// What the other end's own certificate says.
    pub fn own(&self) -> Option<&Arc<Certificate>> {
        self.read().first()?.as_ref().ok()
    }
}

impl PartialEq for Chain {
    fn eq(&self, other: &Self) -> bool {
        self.ders() == other.ders()
    }
}

impl Eq for Chain {}

impl Hash for Chain {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.ders().hash(state);
    }
}

impl fmt::Debug for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.read().iter().flatten().map(|certificate| &certificate.subject)).finish()
    }
}

/// Why a certificate cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("the certificate cannot be read: {0}")]
pub struct CertificateError(String);
