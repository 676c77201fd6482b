use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustls::pki_types::{CertificateDer, SignatureVerificationAlgorithm, TrustAnchor, UnixTime};
use rustls::{DistinguishedName, RootCertStore};
use thiserror::Error;
use webpki::{CertRevocationList, EndEntityCert, KeyUsage, OwnedCertRevocationList, anchor_from_trusted_cert};
use x509_parser::prelude::{FromDer, X509Certificate};
use x509_parser::revocation_list::CertificateRevocationList;

use crate::certificate::Chain;
use crate::failure::CertificateFault;
use crate::tls::path::{Link, Path, Paths};
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
    paths: Paths,
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
        let (hints, standings, responder, paths) = (roots.subjects(), None, None, Paths::default());
        Ok(Self { anchors, hints, intermediates, lists, standings, responder, judgement, algorithms, paths })
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
    pub fn judge(&self, chain: &Chain, now: SystemTime) -> Result<(), CertificateFault> {
        self.judge_chain(chain, now, Asked::Already).map(drop)
    }

    /// Whether issuers' responders are asked at all.
    pub fn asks_issuers(&self) -> bool {
        self.judgement.sources.contains(&Source::Ocsp)
    }

    /// The certificates of a chain whose issuers' responders must be asked before
    /// [`Self::judge`] can say the last word.
    pub fn questions(&self, chain: &Chain, now: SystemTime) -> Result<Vec<Question>, CertificateFault> {
        match self.asks_issuers() {
            true => self.judge_chain(chain, now, Asked::NotYet),
            false => Ok(Vec::new()),
        }
    }

    fn judge_chain(&self, chain: &Chain, now: SystemTime, asked: Asked) -> Result<Vec<Question>, CertificateFault> {
        let since = now.duration_since(UNIX_EPOCH).unwrap_or(Duration::ZERO);
        self.judge_client(chain, UnixTime::since_unix_epoch(since), asked).map_err(|error| fault(&error))
    }

    /// The same chain as it was presented before, where it was.
    pub(crate) fn same(&self, chain: Chain) -> Chain {
        self.paths.same(chain)
    }

    pub(crate) fn judge_client(
        &self,
        chain: &Chain,
        now: UnixTime,
        asked: Asked,
    ) -> Result<Vec<Question>, webpki::Error> {
        let path = match self.paths.find(chain, now.as_secs()) {
            Some(path) => path,
            None => self.verify(chain, now)?,
        };
        match self.judgement.sources.is_empty() {
            true => Ok(Vec::new()),
            false => self.judge_revocation(&path, now, asked),
        }
    }

    /// Finds a path from the certificate to an authority and verifies it.
    fn verify(&self, chain: &Chain, now: UnixTime) -> Result<Arc<Path>, webpki::Error> {
        let (own, sent) = chain.ders().split_first().ok_or(webpki::Error::BadDer)?;
        let own = CertificateDer::from(own.as_slice());
        let certificate = EndEntityCert::try_from(&own)?;
        let sent = sent.iter().map(Vec::as_slice);
        let rest: Vec<_> = sent.chain(self.intermediates.iter().map(|der| &**der)).map(CertificateDer::from).collect();
        let verified = certificate.verify_for_usage(
            self.algorithms,
            &self.anchors,
            &rest,
            now,
            KeyUsage::client_auth(),
            None,
            None,
        )?;
        if !chain.own().is_some_and(|own| own.signs) {
            return Err(webpki::Error::RequiredEkuNotFoundContext(webpki::RequiredEkuNotFoundContext {
                required: KeyUsage::client_auth(),
                present: Vec::new(),
            }));
        }
        let path = Path::new(&verified, self.authority(verified.anchor())).ok_or(webpki::Error::BadDer)?;
        let path = Arc::new(path);
        self.paths.keep(chain, path.clone());
        Ok(path)
    }

    /// What is known of the revocation of each certificate of a path that holds.
    fn judge_revocation(&self, path: &Path, now: UnixTime, asked: Asked) -> Result<Vec<Question>, webpki::Error> {
        let mut questions = Vec::new();
        for (place, link) in path.links.iter().enumerate() {
            match self.known_of(link, now, asked)? {
                Known::Passes => {}
                Known::Revoked => return Err(webpki::Error::CertRevoked),
                Known::MustAsk => questions.push(Question {
                    fingerprint: link.fingerprint,
                    certificate: link.certificate.clone(),
                    issuer: path.links.get(place + 1).map_or(&path.authority, |issuer| &issuer.certificate).clone(),
                    responder: self.responder.clone(),
                }),
            }
        }
        Ok(questions)
    }

    fn known_of(&self, link: &Link, now: UnixTime, asked: Asked) -> Result<Known, webpki::Error> {
        for source in &self.judgement.sources {
            let standing = match source {
                Source::Crl => self.listed(link, now)?,
                Source::Ocsp => {
                    let standings = self.standings.as_ref();
                    standings.and_then(|standings| standings.of(&link.fingerprint, now.as_secs()))
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
    fn listed(&self, link: &Link, now: UnixTime) -> Result<Option<Standing>, webpki::Error> {
        let mut known = None;
        for list in self.lists.iter().filter(|list| list.read.issuer() == link.issuer) {
            if list.read.find_serial(&link.serial)?.is_some() {
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
