use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, CustomExtension, DistinguishedName, DnType,
    ExtendedKeyUsagePurpose, IsCa, Issuer, KeyIdMethod, KeyPair, KeyUsagePurpose, OtherNameValue, RevokedCertParams,
    SanType, SerialNumber,
};
use thiserror::Error;
use time::{Duration, OffsetDateTime};
use x509_cert::der::Encode;
use x509_cert::der::asn1::{Ia5String, ObjectIdentifier};
use x509_cert::ext::pkix::name::GeneralName;
use x509_cert::ext::pkix::{AccessDescription, AuthorityInfoAccessSyntax};

/// The form of otherName that holds a user principal name.
const UPN: [u64; 10] = [1, 3, 6, 1, 4, 1, 311, 20, 2, 3];

const AUTHORITY_INFO_ACCESS: [u64; 9] = [1, 3, 6, 1, 5, 5, 7, 1, 1];
const OCSP: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1");

/// An authority of our own, for demos and tests: P-256 keys, one level.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    certificate: String,
    key: String,
}

/// What a certificate is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// Server authentication.
    Server,
    /// Client authentication.
    Client,
    /// Signing what a responder says (RFC 6960 section 4.2.2.2).
    Responder,
}

/// A certificate to be issued.
#[derive(Clone, Debug)]
pub struct Order {
    /// The subject's common name.
    pub common_name: String,
    /// DNS names.
    pub dns: Vec<String>,
    /// User principal names.
    pub upn: Vec<String>,
    /// What it is for.
    pub purpose: Purpose,
    /// Seconds since 1970 from which it is valid.
    pub not_before: i64,
    /// Seconds since 1970 until which it is valid.
    pub not_after: i64,
    /// Its serial number.
    pub serial: u64,
    /// The address of its issuer's responder (RFC 5280 section 4.2.2.1).
    pub ocsp: Option<String>,
}

/// A certificate with its key, in PEM; the key is not encrypted.
#[derive(Clone)]
pub struct Issued {
    /// The certificate.
    pub certificate: String,
    /// Its private key (PKCS#8).
    pub key: String,
}

impl Authority {
    /// Makes an authority that is valid from `from` for ten years.
    pub fn new(common_name: &str, from: i64) -> Result<Self, AuthorityError> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(Vec::new())?;
        params.distinguished_name.push(DnType::CommonName, common_name);
        params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        params.not_before = moment(from)?;
        params.not_after = moment(from)? + Duration::days(3_650);
        let certificate = params.self_signed(&key)?.pem();
        Ok(Self { key: key.serialize_pem(), certificate, issuer: Issuer::new(params, key) })
    }

    /// The authority that was kept as PEM.
    pub fn from_pem(certificate: &str, key: &str) -> Result<Self, AuthorityError> {
        let pair = KeyPair::from_pem(key)?;
        let issuer = Issuer::from_ca_cert_pem(certificate, pair)?;
        Ok(Self { issuer, certificate: certificate.to_owned(), key: key.to_owned() })
    }

    /// Its own certificate, in PEM.
    pub fn certificate(&self) -> &str {
        &self.certificate
    }

    /// Its private key, in PEM.
    pub fn key(&self) -> &str {
        &self.key
    }

    /// Issues a certificate.
    pub fn issue(&self, order: &Order) -> Result<Issued, AuthorityError> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(order.dns.clone())?;
        params.distinguished_name.push(DnType::CommonName, &order.common_name);
        params.subject_alt_names.extend(
            order.upn.iter().map(|upn| SanType::OtherName((UPN.to_vec(), OtherNameValue::Utf8String(upn.clone())))),
        );
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        params.extended_key_usages = vec![match order.purpose {
            Purpose::Server => ExtendedKeyUsagePurpose::ServerAuth,
            Purpose::Client => ExtendedKeyUsagePurpose::ClientAuth,
            Purpose::Responder => ExtendedKeyUsagePurpose::OcspSigning,
        }];
        params.not_before = moment(order.not_before)?;
        params.not_after = moment(order.not_after)?;
        params.serial_number = Some(SerialNumber::from(order.serial));
        params.use_authority_key_identifier_extension = true;
        params.custom_extensions.extend(order.ocsp.as_deref().map(responder_address).transpose()?);
        let certificate = params.signed_by(&key, &self.issuer)?.pem();
        Ok(Issued { certificate, key: key.serialize_pem() })
    }

    /// A list of revoked serial numbers, in PEM, that was made now and counts until
    /// then (seconds since 1970).
    pub fn revoke(&self, serials: &[u64], now: i64, until: i64) -> Result<String, AuthorityError> {
        let (now, next_update) = (moment(now)?, moment(until)?);
        let revoked = |serial: &u64| RevokedCertParams {
            serial_number: SerialNumber::from(*serial),
            revocation_time: now,
            reason_code: None,
            invalidity_date: None,
        };
        let params = CertificateRevocationListParams {
            this_update: now,
            next_update,
            crl_number: SerialNumber::from(1),
            issuing_distribution_point: None,
            revoked_certs: serials.iter().map(revoked).collect(),
            key_identifier_method: KeyIdMethod::Sha256,
        };
        Ok(params.signed_by(&self.issuer)?.pem()?)
    }
}

/// A certificate that vouches for itself alone, for a server of these names (DNS names and
/// addresses), in seconds since 1970.
pub fn self_signed(names: &[String], not_before: i64, not_after: i64) -> Result<Issued, AuthorityError> {
    let key = KeyPair::generate()?;
    let mut params = CertificateParams::new(names)?;
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, "Regnant");
    params.is_ca = IsCa::ExplicitNoCa;
    params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    params.not_before = moment(not_before)?;
    params.not_after = moment(not_after)?;
    let certificate = params.self_signed(&key)?.pem();
    Ok(Issued { certificate, key: key.serialize_pem() })
}

/// Where the issuer's responder is.
fn responder_address(url: &str) -> Result<CustomExtension, AuthorityError> {
    let wrong = |error: x509_cert::der::Error| AuthorityError(error.to_string());
    let access_location = GeneralName::UniformResourceIdentifier(Ia5String::new(url).map_err(wrong)?);
    let access = AccessDescription { access_method: OCSP, access_location };
    let content = AuthorityInfoAccessSyntax(vec![access]).to_der().map_err(wrong)?;
    Ok(CustomExtension::from_oid_content(&AUTHORITY_INFO_ACCESS, content))
}

fn moment(seconds: i64) -> Result<OffsetDateTime, AuthorityError> {
    OffsetDateTime::from_unix_timestamp(seconds).map_err(|error| AuthorityError(error.to_string()))
}

/// Why something cannot be issued.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("the certificate cannot be made: {0}")]
pub struct AuthorityError(String);

impl From<rcgen::Error> for AuthorityError {
    fn from(error: rcgen::Error) -> Self {
        Self(error.to_string())
    }
}
