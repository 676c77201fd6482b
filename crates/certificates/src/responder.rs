use std::collections::HashMap;
use std::time::Duration;

use rcgen::{KeyPair, SigningKey};
use sha1::{Digest, Sha1};
use x509_cert::der::Decode;
use x509_cert::der::asn1::{BitString, GeneralizedTime, Null, ObjectIdentifier};
use x509_cert::spki::AlgorithmIdentifierOwned;
use x509_ocsp::{
    BasicOcspResponse, CertStatus, OcspGeneralizedTime, OcspRequest, OcspResponse, ResponderId, ResponseData,
    RevokedInfo, SingleResponse, Version,
};

use crate::ocsp::{OcspError, encoded, octets};

const ECDSA_WITH_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2");

/// A stand-in for an issuer's OCSP responder (RFC 6960), with a P-256 key.
pub struct Responder {
    key: KeyPair,
    /// The certificate by which the issuer appointed it; none where it is the
    /// issuer itself.
    delegate: Option<Vec<u8>>,
    /// What it says of a serial number; of others, that they are good.
    pub says: HashMap<u64, Says>,
}

/// For how many seconds its answers count.
const LASTING: i64 = 3_600;

/// What a responder says of a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Says {
    /// It was not revoked.
    Good,
    /// It was.
    Revoked,
    /// It has never heard of it.
    Unknown,
}

impl Responder {
    /// A responder with this key, in PEM; with the certificate that appoints it,
    /// where the key is not the issuer's.
    pub fn new(key: &str, delegate: Option<Vec<u8>>) -> Result<Self, OcspError> {
        let key = KeyPair::from_pem(key).map_err(|error| OcspError::Unreadable(error.to_string()))?;
        Ok(Self { key, delegate, says: HashMap::new() })
    }

    /// Answers a request; `now` in seconds since 1970.
    pub fn answer(&self, request: &[u8], now: i64) -> Result<Vec<u8>, OcspError> {
        let request = OcspRequest::from_der(request).map_err(|error| OcspError::Unreadable(error.to_string()))?;
        let responses = request.tbs_request.request_list.into_iter().map(|request| {
            let serial = request.req_cert.serial_number.as_bytes().iter().fold(0, |n, byte| n << 8 | u64::from(*byte));
            let cert_status = match self.says.get(&serial).unwrap_or(&Says::Good) {
                Says::Good => CertStatus::Good(Null),
                Says::Unknown => CertStatus::Unknown(Null),
                Says::Revoked => {
                    CertStatus::Revoked(RevokedInfo { revocation_time: moment(now)?, revocation_reason: None })
                }
            };
            Ok(SingleResponse {
                cert_id: request.req_cert,
                cert_status,
                this_update: moment(now)?,
                next_update: Some(moment(now + LASTING)?),
                single_extensions: None,
            })
        });
        let data = ResponseData {
            version: Version::V1,
            responder_id: ResponderId::ByKey(octets(Sha1::digest(self.key.public_key_raw()).to_vec())?),
            produced_at: moment(now)?,
            responses: responses.collect::<Result<_, OcspError>>()?,
            response_extensions: None,
        };
        let signature = self.key.sign(&encoded(&data)?).map_err(|error| OcspError::Unreadable(error.to_string()))?;
        let unreadable = |error: x509_cert::der::Error| OcspError::Unreadable(error.to_string());
        let certificate = self.delegate.as_ref().map(|der| x509_cert::Certificate::from_der(der));
        let basic = BasicOcspResponse {
            tbs_response_data: data,
            signature_algorithm: AlgorithmIdentifierOwned { oid: ECDSA_WITH_SHA256, parameters: None },
            signature: BitString::from_bytes(&signature).map_err(unreadable)?,
            certs: certificate.transpose().map_err(unreadable)?.map(|certificate| vec![certificate]),
        };
        encoded(&OcspResponse::successful(basic).map_err(unreadable)?)
    }
}

fn moment(seconds: i64) -> Result<OcspGeneralizedTime, OcspError> {
    let since = Duration::from_secs(u64::try_from(seconds).unwrap_or_default());
    let time = GeneralizedTime::from_unix_duration(since);
    time.map(OcspGeneralizedTime).map_err(|error| OcspError::Unreadable(error.to_string()))
}
