use std::time::Duration;

use regnant_eap::Standing;
use sha1::{Digest, Sha1};
use thiserror::Error;
use x509_cert::der::asn1::{Null, ObjectIdentifier, OctetString};
use x509_cert::der::{Any, Decode, Encode};
use x509_cert::serial_number::SerialNumber;
use x509_cert::spki::AlgorithmIdentifierOwned;
use x509_ocsp::{
    BasicOcspResponse, CertId, CertStatus, OcspGeneralizedTime, OcspRequest, OcspResponse, OcspResponseStatus, Request,
    SingleResponse, TbsRequest,
};
use x509_parser::prelude::{FromDer, X509Certificate};
use x509_parser::verify::verify_signature;
use x509_parser::x509::AlgorithmIdentifier;

/// SHA-1 only names the issuer here; RFC 5019 section 2.1.1 demands it.
const SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.14.3.2.26");
const BASIC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.6.1.5.5.7.48.1.1");

/// A responder's clock may be ahead of ours by this many seconds.
const AHEAD: u64 = 300;
/// An answer that names no end is as good as fresh for a minute, and none at all
/// when it is older than a day (RFC 6960 section 4.2.2.1).
const UNTIMED: u64 = 60;
const OLDEST_UNTIMED: u64 = 86_400;

/// What a responder said, verified.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OcspAnswer {
    /// Whether the certificate was revoked.
    pub standing: Standing,
    /// Seconds since 1970 until which that counts.
    pub until: u64,
}

/// The question whether a certificate was revoked (RFC 6960 section 4.1), in DER.
/// Without a nonce: answers made in advance are taken, as long as they last.
pub fn ocsp_request(certificate: &[u8], issuer: &[u8]) -> Result<Vec<u8>, OcspError> {
    let request = Request { req_cert: certificate_id(certificate, issuer)?, single_request_extensions: None };
    let tbs_request = TbsRequest { request_list: vec![request], ..TbsRequest::default() };
    encoded(&OcspRequest { tbs_request, optional_signature: None })
}

/// Reads and verifies a responder's answer (RFC 6960 section 3.2) about a
/// certificate; `now` in seconds since 1970.
pub fn read_ocsp_response(bytes: &[u8], certificate: &[u8], issuer: &[u8], now: u64) -> Result<OcspAnswer, OcspError> {
    let response = OcspResponse::from_der(bytes).map_err(|error| OcspError::Unreadable(error.to_string()))?;
    if response.response_status != OcspResponseStatus::Successful {
        return Err(OcspError::Declined(declined(response.response_status)));
    }
    let basic = response.response_bytes.filter(|inner| inner.response_type == BASIC).ok_or(OcspError::OtherKind)?;
    let basic = BasicOcspResponse::from_der(basic.response.as_bytes())
        .map_err(|error| OcspError::Unreadable(error.to_string()))?;
    verify(&basic, issuer, now)?;
    let asked = certificate_id(certificate, issuer)?;
    let about = |single: &&SingleResponse| same(&single.cert_id, &asked);
    let single = basic.tbs_response_data.responses.iter().find(about).ok_or(OcspError::AnotherCertificate)?;
    let until = current(single, now)?;
    let standing = match single.cert_status {
        CertStatus::Good(_) => Standing::Good,
        CertStatus::Revoked(_) => Standing::Revoked,
        CertStatus::Unknown(_) => Standing::Unknown,
    };
    Ok(OcspAnswer { standing, until })
}

/// How a responder is told which certificate is meant (RFC 6960 section 4.1.1).
pub(crate) fn certificate_id(certificate: &[u8], issuer: &[u8]) -> Result<CertId, OcspError> {
    let (certificate, issuer) = (read(certificate)?, read(issuer)?);
    let hash = |bytes: &[u8]| octets(Sha1::digest(bytes).to_vec());
    Ok(CertId {
        hash_algorithm: AlgorithmIdentifierOwned { oid: SHA1, parameters: Some(Any::from(Null)) },
        issuer_name_hash: hash(issuer.subject().as_raw())?,
        issuer_key_hash: hash(&issuer.public_key().subject_public_key.data)?,
        serial_number: SerialNumber::new(certificate.raw_serial())
            .map_err(|error| OcspError::Unreadable(error.to_string()))?,
    })
}

/// Responders write the algorithm's parameters in two ways.
fn same(a: &CertId, b: &CertId) -> bool {
    a.hash_algorithm.oid == b.hash_algorithm.oid
        && a.issuer_name_hash == b.issuer_name_hash
        && a.issuer_key_hash == b.issuer_key_hash
        && a.serial_number == b.serial_number
}

/// The issuer signs, or somebody whom it appointed with a certificate of its own
/// (RFC 6960 section 4.2.2.2).
fn verify(basic: &BasicOcspResponse, issuer: &[u8], now: u64) -> Result<(), OcspError> {
    let issuer = read(issuer)?;
    if signed_by(basic, &issuer).is_ok() {
        return Ok(());
    }
    for delegate in basic.certs.iter().flatten() {
        let delegate = encoded(delegate)?;
        let delegate = read(&delegate)?;
        if is_appointed(&delegate, &issuer, now) && signed_by(basic, &delegate).is_ok() {
            return Ok(());
        }
    }
    Err(OcspError::NotSigned)
}

fn is_appointed(delegate: &X509Certificate<'_>, issuer: &X509Certificate<'_>, now: u64) -> bool {
    let usage = delegate.extended_key_usage().ok().flatten();
    let (from, until) = (delegate.validity().not_before.timestamp(), delegate.validity().not_after.timestamp());
    usage.is_some_and(|usage| usage.value.ocsp_signing)
        && delegate.issuer() == issuer.subject()
        && i64::try_from(now).is_ok_and(|now| (from..=until).contains(&now))
        && delegate.verify_signature(Some(issuer.public_key())).is_ok()
}

fn signed_by(basic: &BasicOcspResponse, signer: &X509Certificate<'_>) -> Result<(), OcspError> {
    // DER has one form only: what was signed is what we encode again.
    let (signed, algorithm) = (encoded(&basic.tbs_response_data)?, encoded(&basic.signature_algorithm)?);
    let signature = encoded(&basic.signature)?;
    let unreadable = |_| OcspError::NotSigned;
    let (_, algorithm) = AlgorithmIdentifier::from_der(&algorithm).map_err(unreadable)?;
    let (_, signature) = FromDer::from_der(&signature).map_err(|_: x509_parser::nom::Err<_>| OcspError::NotSigned)?;
    verify_signature(signer.public_key(), &algorithm, &signature, &signed).map_err(|_| OcspError::NotSigned)
}

/// Until when an answer counts, in seconds since 1970.
fn current(single: &SingleResponse, now: u64) -> Result<u64, OcspError> {
    let made = seconds(&single.this_update);
    if made > now + AHEAD {
        return Err(OcspError::FromTheFuture);
    }
    match single.next_update.as_ref().map(seconds) {
        Some(until) if until < now => Err(OcspError::Stale),
        Some(until) => Ok(until),
        None if made + OLDEST_UNTIMED < now => Err(OcspError::Stale),
        None => Ok(now + UNTIMED),
    }
}

fn seconds(time: &OcspGeneralizedTime) -> u64 {
    Duration::as_secs(&time.0.to_unix_duration())
}

fn declined(status: OcspResponseStatus) -> &'static str {
    match status {
        OcspResponseStatus::MalformedRequest => "it does not understand the question",
        OcspResponseStatus::TryLater => "it has no time now",
        OcspResponseStatus::SigRequired => "it wants signed questions",
        OcspResponseStatus::Unauthorized => "it does not answer for this issuer",
        _ => "it has an error of its own",
    }
}

pub(crate) fn octets(bytes: Vec<u8>) -> Result<OctetString, OcspError> {
    OctetString::new(bytes).map_err(|error| OcspError::Unreadable(error.to_string()))
}

pub(crate) fn encoded(value: &impl Encode) -> Result<Vec<u8>, OcspError> {
    value.to_der().map_err(|error| OcspError::Unreadable(error.to_string()))
}

fn read(der: &[u8]) -> Result<X509Certificate<'_>, OcspError> {
    let (_, read) = X509Certificate::from_der(der).map_err(|error| OcspError::Unreadable(error.to_string()))?;
    Ok(read)
}

/// Why a responder's answer does not count.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum OcspError {
    /// It is no OCSP.
    #[error("the answer cannot be read: {0}")]
    Unreadable(String),
    /// The responder does not answer.
    #[error("the responder declines: {0}")]
    Declined(&'static str),
    /// Another kind of answer than the basic one.
    #[error("the answer is of a kind that nobody asked for")]
    OtherKind,
    /// The issuer vouches for it neither itself nor by delegation.
    #[error("the answer was signed by nobody whom the issuer appointed")]
    NotSigned,
    /// It is about another certificate.
    #[error("the answer is about another certificate")]
    AnotherCertificate,
    /// Its time is over.
    #[error("the answer is too old")]
    Stale,
    /// Its time has not begun.
    #[error("the answer is from the future; compare the clocks")]
    FromTheFuture,
}
