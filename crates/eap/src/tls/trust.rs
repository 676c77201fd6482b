use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustls::pki_types::{CertificateDer, SignatureVerificationAlgorithm, TrustAnchor, UnixTime};
use rustls::{DistinguishedName, RootCertStore};
use sha2::{Digest, Sha256};
use thiserror::Error;
use webpki::{
    Cert, CertRevocationList, EndEntityCert, KeyUsage, OwnedCertRevocationList, VerifiedPath, anchor_from_trusted_cert,
};
use x509_parser::prelude::{FromDer, X509Certificate};
use x509_parser::revocation_list::CertificateRevocationList;

use crate::failure::CertificateFault;
use crate::tls::revocation::{Judgement, Question, Source, Standing, Standings};

/// Whose certificates are believed, and how revocation is judged.
#[derive(Debug)]
pub struct Trust {
    anchors: Vec<TrustAnchor<'static>>,
    hints: Vec<DistinguishedName>,
    /// Intermediates that peers may forget to send.
    intermediates: Vec<CertificateDer<'static>>,
    lists: Vec<List>,
    standings: Option<Arc<dyn Standings>>,
    /// The responder to ask in place of the certificates' own.
    responder: Option<String>,
    judgement: Judgement,
    algorithms: &'static [&'static dyn SignatureVerificationAlgorithm],
}

/// A revocation list whose signature was checked when it came, once for all
/// handshakes.
#[derive(Debug)]
struct List {
    read: CertRevocationList<'static>,
    /// Seconds since 1970 until which it speaks, where it says so.
    next_update: Option<u64>,
}

impl Trust {
    /// Trust in these authorities (DER). Those that others issued serve as
    /// intermediates too. `crls` are their revocation lists (DER).
    pub fn new(authorities: &[Vec<u8>], crls: &[Vec<u8>], judgement: Judgement) -> Result<Self, TrustError> {
        let mut roots = RootCertStore::empty();
        let mut anchors = Vec::new();
        let mut intermediates = Vec::new();
        for der in authorities {
            let certificate = CertificateDer::from(der.clone());
            let anchor = anchor_from_trusted_cert(&certificate).map_err(|error| TrustError(error.to_string()))?;
            anchors.push(anchor.to_owned());
            roots.add(certificate.clone()).map_err(|error| TrustError(error.to_string()))?;
            intermediates.push(certificate);
        }
        let lists = crls.iter().map(|der| List::read(der, authorities)).collect::<Result<_, _>>()?;
        let algorithms = rustls::crypto::aws_lc_rs::default_provider().signature_verification_algorithms.all;
        let (hints, standings, responder) = (roots.subjects(), None, None);
        Ok(Self { anchors, hints, intermediates, lists, standings, responder, judgement, algorithms })
    }

    /// Where answers of responders are found, and the responder to ask in place
    /// of those that certificates name.
    pub fn with_responder(self, standings: Arc<dyn Standings>, responder: Option<String>) -> Self {
        Self { standings: Some(standings), responder, ..self }
    }

    pub(crate) fn hints(&self) -> &[DistinguishedName] {
        &self.hints
    }

    /// Judges a client's chain, its own certificate first: path, times, usage,
    /// name constraints, and what the sources at hand say of revocation.
    pub fn judge(&self, chain: &[Vec<u8>], now: SystemTime) -> Result<(), CertificateFault> {
        self.judge_chain(chain, now, Asked::Already).map(drop)
    }

    /// Whether issuers' responders are asked at all.
    pub fn asks_issuers(&self) -> bool {
        self.judgement.sources.contains(&Source::Ocsp)
    }

    /// The certificates of a chain whose issuers' responders must be asked before
    /// [`Self::judge`] can say the last word.
    pub fn questions(&self, chain: &[Vec<u8>], now: SystemTime) -> Result<Vec<Question>, CertificateFault> {
        match self.asks_issuers() {
            true => self.judge_chain(chain, now, Asked::NotYet),
            false => Ok(Vec::new()),
        }
    }

    fn judge_chain(&self, chain: &[Vec<u8>], now: SystemTime, asked: Asked) -> Result<Vec<Question>, CertificateFault> {
        let chain: Vec<_> = chain.iter().map(|der| CertificateDer::from(der.as_slice())).collect();
        let (own, rest) = chain.split_first().ok_or(CertificateFault::Unreadable)?;
        let since = now.duration_since(UNIX_EPOCH).unwrap_or(Duration::ZERO);
        self.judge_client(own, rest, UnixTime::since_unix_epoch(since), asked).map_err(|error| fault(&error))
    }

    pub(crate) fn judge_client(
        &self,
        own: &CertificateDer<'_>,
        sent: &[CertificateDer<'_>],
        now: UnixTime,
        asked: Asked,
    ) -> Result<Vec<Question>, webpki::Error> {
        let certificate = EndEntityCert::try_from(own)?;
        let rest: Vec<CertificateDer<'_>> =
            sent.iter().chain(&self.intermediates).map(|der| CertificateDer::from(&**der)).collect();
        let path = certificate.verify_for_usage(
            self.algorithms,
            &self.anchors,
            &rest,
            now,
            KeyUsage::client_auth(),
            None,
            None,
        )?;
        if !may_sign(own) {
            return Err(webpki::Error::RequiredEkuNotFoundContext(webpki::RequiredEkuNotFoundContext {
                required: KeyUsage::client_auth(),
                present: Vec::new(),
            }));
        }
        match self.judgement.sources.is_empty() {
            true => Ok(Vec::new()),
            false => self.judge_revocation(&path, now, asked),
        }
    }

    /// What is known of the revocation of each certificate of a path that holds.
    fn judge_revocation(
        &self,
        path: &VerifiedPath<'_>,
        now: UnixTime,
        asked: Asked,
    ) -> Result<Vec<Question>, webpki::Error> {
        let links: Vec<&Cert<'_>> =
            [&**path.end_entity()].into_iter().chain(path.intermediate_certificates()).collect();
        let mut questions = Vec::new();
        for (place, certificate) in links.iter().enumerate() {
            match self.known_of(certificate, now, asked)? {
                Known::Passes => {}
                Known::Revoked => return Err(webpki::Error::CertRevoked),
                Known::MustAsk => questions.push(Question {
                    fingerprint: fingerprint(certificate),
                    certificate: certificate.der().to_vec(),
                    issuer: match links.get(place + 1) {
                        Some(issuer) => issuer.der().to_vec(),
                        None => self.authority(path.anchor()),
                    },
                    responder: self.responder.clone(),
                }),
            }
        }
        Ok(questions)
    }

    fn known_of(&self, certificate: &Cert<'_>, now: UnixTime, asked: Asked) -> Result<Known, webpki::Error> {
        for source in &self.judgement.sources {
            let standing = match source {
                Source::Crl => self.listed(certificate, now)?,
                Source::Ocsp => {
                    let standings = self.standings.as_ref();
                    standings.and_then(|standings| standings.of(&fingerprint(certificate), now.as_secs()))
                }
            };
            match (standing, source, asked) {
                (Some(Standing::Good), ..) => return Ok(Known::Passes),
                (Some(Standing::Revoked), ..) => return Ok(Known::Revoked),
                (None, Source::Ocsp, Asked::NotYet) => return Ok(Known::MustAsk),
                (None, ..) => {}
            }
        }
        match self.judgement.unknown_passes {
            true => Ok(Known::Passes),
            false => Err(webpki::Error::UnknownRevocationStatus),
        }
    }

    /// What the issuer's list says. A list that is too old may still tell of what
    /// was revoked, but not of what was not.
    fn listed(&self, certificate: &Cert<'_>, now: UnixTime) -> Result<Option<Standing>, webpki::Error> {
        let mut known = None;
        for list in self.lists.iter().filter(|list| list.read.issuer() == certificate.issuer()) {
            if list.read.find_serial(certificate.serial())?.is_some() {
                return Ok(Some(Standing::Revoked));
            }
            if list.next_update.is_none_or(|until| now.as_secs() <= until) {
                known = Some(Standing::Good);
            }
        }
        Ok(known)
    }

    /// The authority's certificate that an anchor was made from.
    fn authority(&self, anchor: &TrustAnchor<'_>) -> Vec<u8> {
        let place = self.anchors.iter().position(|known| known == anchor);
        place.and_then(|place| self.intermediates.get(place)).map(|der| der.to_vec()).unwrap_or_default()
    }
}

/// Whether responders were asked already, so that no answer is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Asked {
    /// They can be asked yet: the handshake goes on, and the verdict waits.
    NotYet,
    /// They were.
    Already,
}

enum Known {
    Passes,
    Revoked,
    MustAsk,
}

impl List {
    /// Reads a list and checks that one of the authorities signed it (RFC 5280
    /// section 6.3.3).
    fn read(der: &[u8], authorities: &[Vec<u8>]) -> Result<Self, TrustError> {
        let unreadable = |reason: String| TrustError(format!("a revocation list cannot be read: {reason}"));
        let read = OwnedCertRevocationList::from_der(der)
            .map(CertRevocationList::from)
            .map_err(|error| unreadable(error.to_string()))?;
        let (_, list) = CertificateRevocationList::from_der(der).map_err(|error| unreadable(error.to_string()))?;
        let signed = authorities.iter().filter_map(|der| X509Certificate::from_der(der).ok()).any(|(_, issuer)| {
            let may = issuer.key_usage().ok().flatten().is_none_or(|usage| usage.value.crl_sign());
            may && issuer.subject() == list.issuer() && list.verify_signature(issuer.public_key()).is_ok()
        });
        match signed {
            true => {
                let until = list.next_update().and_then(|time| u64::try_from(time.timestamp()).ok());
                Ok(Self { read, next_update: until })
            }
            false => Err(TrustError(format!(
                "the revocation list of `{}` was signed by none of the authorities; add its issuer to them",
                list.issuer()
            ))),
        }
    }
}

fn fingerprint(certificate: &Cert<'_>) -> [u8; 32] {
    Sha256::digest(certificate.der()).into()
}

/// A key usage that leaves digitalSignature out forbids the handshake's proof
/// (RFC 5280 section 4.2.1.3).
fn may_sign(certificate: &CertificateDer<'_>) -> bool {
    let Ok((_, read)) = X509Certificate::from_der(certificate) else { return false };
    read.key_usage().ok().flatten().is_none_or(|usage| usage.value.digital_signature())
}

/// What a failed judgement means.
pub(crate) fn fault(error: &webpki::Error) -> CertificateFault {
    use webpki::Error as E;
    match error {
        E::CertExpired { .. } => CertificateFault::Expired,
        E::CertNotValidYet { .. } => CertificateFault::NotYetValid,
        E::CertRevoked => CertificateFault::Revoked,
        E::UnknownRevocationStatus | E::CrlExpired { .. } => CertificateFault::RevocationUnknown,
        E::UnknownIssuer | E::PathLenConstraintViolated | E::EndEntityUsedAsCa => CertificateFault::UnknownIssuer,
        E::RequiredEkuNotFoundContext(_) | E::EmptyEkuExtension | E::CaUsedAsEndEntity => {
            CertificateFault::WrongPurpose
        }
        E::NameConstraintViolation => CertificateFault::NameConstraint,
        E::CertNotValidForName(_) => CertificateFault::WrongName,
        E::InvalidSignatureForPublicKey | E::InvalidCrlSignatureForPublicKey => CertificateFault::BadSignature,
        E::BadDer | E::BadDerTime | E::TrailingData(_) | E::MalformedExtensions => CertificateFault::Unreadable,
        _ => CertificateFault::UnknownIssuer,
    }
}

/// The alert-bearing error that the TLS library wants for a failed judgement.
pub(crate) fn library_error(error: &webpki::Error) -> rustls::Error {
    use rustls::CertificateError as C;
    let fault = fault(error);
    rustls::Error::InvalidCertificate(match fault {
        CertificateFault::Expired => C::Expired,
        CertificateFault::NotYetValid => C::NotValidYet,
        CertificateFault::Revoked => C::Revoked,
        CertificateFault::RevocationUnknown => C::UnknownRevocationStatus,
        CertificateFault::UnknownIssuer => C::UnknownIssuer,
        CertificateFault::WrongPurpose => C::InvalidPurpose,
        CertificateFault::BadSignature => C::BadSignature,
        CertificateFault::Unreadable => C::BadEncoding,
        CertificateFault::WrongName => C::NotValidForName,
        // The library has no word for it; the fault travels inside.
        CertificateFault::NameConstraint => C::Other(rustls::OtherError(Arc::new(fault))),
    })
}

/// The fault that a library error tells.
pub(crate) fn fault_of_library(error: &rustls::CertificateError) -> CertificateFault {
    use rustls::CertificateError as C;
    match error {
        C::Expired | C::ExpiredContext { .. } => CertificateFault::Expired,
        C::NotValidYet | C::NotValidYetContext { .. } => CertificateFault::NotYetValid,
        C::Revoked => CertificateFault::Revoked,
        C::UnknownRevocationStatus | C::ExpiredRevocationList | C::ExpiredRevocationListContext { .. } => {
            CertificateFault::RevocationUnknown
        }
        C::UnknownIssuer => CertificateFault::UnknownIssuer,
        C::InvalidPurpose | C::InvalidPurposeContext { .. } => CertificateFault::WrongPurpose,
        C::NotValidForName | C::NotValidForNameContext { .. } => CertificateFault::WrongName,
        C::BadEncoding => CertificateFault::Unreadable,
        C::Other(other) => other.0.downcast_ref().copied().unwrap_or(CertificateFault::Unreadable),
        _ => CertificateFault::BadSignature,
    }
}

/// Why authorities or lists cannot be trusted.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct TrustError(pub(crate) String);
