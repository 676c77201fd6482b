use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustls::pki_types::{CertificateDer, SignatureVerificationAlgorithm, TrustAnchor, UnixTime};
use rustls::{DistinguishedName, RootCertStore};
use thiserror::Error;
use webpki::{EndEntityCert, KeyUsage, anchor_from_trusted_cert};
use x509_parser::prelude::{FromDer, X509Certificate};

use crate::certificate::Chain;
use crate::failure::CertificateFault;
use crate::tls::crl::List;
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

impl Trust {
    /// Trust in these authorities (DER). Those that others issued serve as
    /// intermediates too. `crls` are their revocation lists (DER). A certificate that
    /// is no authority's vouches for nobody: else whoever holds a server's key could
    /// issue clients.
    pub fn new(authorities: &[Vec<u8>], crls: &[Vec<u8>], judgement: Judgement) -> Result<Self, TrustError> {
        let authorities: Vec<_> = authorities.iter().filter(|der| is_authority(der)).cloned().collect();
        Self::whatever(&authorities, crls, judgement)
    }

    /// The same, where certificates that are no authorities' may vouch too, because
    /// somebody said so in words.
    pub fn whatever(authorities: &[Vec<u8>], crls: &[Vec<u8>], judgement: Judgement) -> Result<Self, TrustError> {
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
        self.judge_client(chain, UnixTime::since_unix_epoch(since), asked)
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
    ) -> Result<Vec<Question>, CertificateFault> {
        let path = match self.paths.find(chain, now.as_secs()) {
            Some(path) => path,
            None => self.verify(chain, now)?,
        };
        match self.judgement.sources.is_empty() {
            true => Ok(Vec::new()),
            false => self.judge_revocation(&path, now, asked),
        }
    }

    /// Finds a path from the certificate to an authority that is valid now.
    fn verify(&self, chain: &Chain, now: UnixTime) -> Result<Arc<Path>, CertificateFault> {
        let seconds = now.as_secs() as i64;
        // The library takes the word of authorities of any age. One that was renewed
        // under the same key may stand beside its predecessor.
        let valid = |place: &usize| self.intermediates.get(*place).is_some_and(|der| is_valid(der, seconds));
        let anchors: Vec<_> =
            (0..self.anchors.len()).filter(valid).filter_map(|place| self.anchors.get(place).cloned()).collect();
        let path = match self.find_path(chain, now, &anchors) {
            Ok(path) => path,
            // An authority that vouches for itself alone: of what it is for nobody asks.
            Err(webpki::Error::CaUsedAsEndEntity) if !self.knows(chain) => return Err(CertificateFault::UnknownIssuer),
            Err(error) if anchors.len() == self.anchors.len() => return Err(fault(&error)),
            Err(error) => {
                let expired = self.find_path(chain, now, &self.anchors).is_ok();
                return Err(if expired { CertificateFault::AuthorityExpired } else { fault(&error) });
            }
        };
        let path = Arc::new(path);
        self.paths.keep(chain, path.clone());
        Ok(path)
    }

    /// Whether the issuer of somebody's own certificate has the name of an authority.
    fn knows(&self, chain: &Chain) -> bool {
        let issuer = chain.ders().first().and_then(|der| X509Certificate::from_der(der).ok());
        issuer.is_some_and(|(_, own)| {
            let mut known = self.intermediates.iter().filter_map(|der| X509Certificate::from_der(der).ok());
            known.any(|(_, authority)| authority.subject() == own.issuer())
        })
    }

    fn find_path(&self, chain: &Chain, now: UnixTime, anchors: &[TrustAnchor<'static>]) -> Result<Path, webpki::Error> {
        let (own, sent) = chain.ders().split_first().ok_or(webpki::Error::BadDer)?;
        let own = CertificateDer::from(own.as_slice());
        let certificate = EndEntityCert::try_from(&own)?;
        let sent = sent.iter().map(Vec::as_slice);
        let rest: Vec<_> = sent.chain(self.intermediates.iter().map(|der| &**der)).map(CertificateDer::from).collect();
        let verified =
            certificate.verify_for_usage(self.algorithms, anchors, &rest, now, KeyUsage::client_auth(), None, None)?;
        if !chain.own().is_some_and(|own| own.signs) {
            return Err(webpki::Error::RequiredEkuNotFoundContext(webpki::RequiredEkuNotFoundContext {
                required: KeyUsage::client_auth(),
                present: Vec::new(),
            }));
        }
        Path::new(&verified, self.authority(verified.anchor())).ok_or(webpki::Error::BadDer)
    }

    /// What is known of the revocation of each certificate of a path that holds.
    fn judge_revocation(&self, path: &Path, now: UnixTime, asked: Asked) -> Result<Vec<Question>, CertificateFault> {
        let mut questions = Vec::new();
        for (place, link) in path.links.iter().enumerate() {
            match self.known_of(link, path.issuer_key(place), now, asked)? {
                RevocationWord::Passes => {}
                RevocationWord::Revoked => return Err(CertificateFault::Revoked),
                RevocationWord::MustAsk => questions.push(Question {
                    fingerprint: link.fingerprint,
                    certificate: link.certificate.clone(),
                    issuer: path.links.get(place + 1).map_or(&path.authority, |issuer| &issuer.certificate).clone(),
                    responder: self.responder.clone(),
                }),
            }
        }
        Ok(questions)
    }

    fn known_of(
        &self,
        link: &Link,
        issuer_key: &[u8],
        now: UnixTime,
        asked: Asked,
    ) -> Result<RevocationWord, CertificateFault> {
        let mut unheard_of = false;
        for source in &self.judgement.sources {
            let standing = match source {
                Source::Crl => self.listed(link, issuer_key, now).map_err(|error| fault(&error))?,
                Source::Ocsp => {
                    let standings = self.standings.as_ref();
                    standings.and_then(|standings| standings.of(&link.fingerprint, now.as_secs()))
                }
            };
            match (standing, source, asked) {
                (Some(Standing::Good), ..) => return Ok(RevocationWord::Passes),
                (Some(Standing::Revoked), ..) => return Ok(RevocationWord::Revoked),
                (Some(Standing::Unknown), ..) => unheard_of = true,
                (None, Source::Ocsp, Asked::NotYet) => return Ok(RevocationWord::MustAsk),
                (None, ..) => {}
            }
        }
        match self.judgement.unknown_passes && !unheard_of {
            true => Ok(RevocationWord::Passes),
            false => Err(CertificateFault::RevocationUnknown),
        }
    }

    /// What the issuer's lists say. One that knows of a revocation outweighs the rest.
    fn listed(&self, link: &Link, issuer_key: &[u8], now: UnixTime) -> Result<Option<Standing>, webpki::Error> {
        let mut known = None;
        for list in &self.lists {
            match list.says(link, issuer_key, now.as_secs() as i64)? {
                Some(Standing::Revoked) => return Ok(Some(Standing::Revoked)),
                said => known = said.or(known),
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

enum RevocationWord {
    Passes,
    Revoked,
    MustAsk,
}

/// Whether a certificate is an authority's (RFC 5280 section 4.2.1.9).
pub fn is_authority(der: &[u8]) -> bool {
    X509Certificate::from_der(der).is_ok_and(|(_, read)| read.is_ca())
}

fn is_valid(der: &[u8], now: i64) -> bool {
    X509Certificate::from_der(der).is_ok_and(|(_, read)| {
        (read.validity().not_before.timestamp()..=read.validity().not_after.timestamp()).contains(&now)
    })
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
pub(crate) fn library_error(fault: CertificateFault) -> rustls::Error {
    use rustls::CertificateError as C;
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
        CertificateFault::NameConstraint | CertificateFault::AuthorityExpired => {
            C::Other(rustls::OtherError(Arc::new(fault)))
        }
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
