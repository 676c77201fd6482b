use std::fmt;
use std::sync::Arc;

use rustls::crypto::{CryptoProvider, WebPkiSupportedAlgorithms, aws_lc_rs};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, UnixTime};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::server::{ClientHello, NoServerSessionStorage, ResolvesServerCert, StoresServerSessions};
use rustls::sign::CertifiedKey;
use rustls::{DigitallySignedStruct, DistinguishedName, ServerConfig, SignatureScheme};
use thiserror::Error;

use crate::certificate::{Certificate, Chain};
use crate::tls::library::{Library, Presented};
use crate::tls::trust::{Asked, Trust, library_error};

/// Our certificate, and whose certificates we believe.
#[derive(Clone)]
pub struct ServerTls {
    /// For tunnels, which ask for no certificate.
    tunnel: Arc<ServerConfig>,
    /// For EAP-TLS; with a trust only.
    asking: Option<Arc<ServerConfig>>,
    presented: Arc<Presented>,
    trust: Option<Arc<Trust>>,
    certificate: Arc<Certificate>,
}

/// Where sessions that may be resumed are kept. What is found is only a handle:
/// whoever finds it decides whether it may be used.
pub trait Sessions: fmt::Debug + Send + Sync {
    /// Keeps a session under a handle; `false` where it will not.
    fn put(&self, handle: Vec<u8>, session: Vec<u8>) -> bool;
    /// The session of a handle.
    fn get(&self, handle: &[u8]) -> Option<Vec<u8>>;
}

impl ServerTls {
    /// `chain` is our certificate and those above it (DER), `key` its private key
    /// (PKCS#8, SEC 1 or PKCS#1 in DER), `stapled` an OCSP response for it. With
    /// `trust`, EAP-TLS is possible.
    pub fn new(
        chain: &[Vec<u8>],
        key: &[u8],
        stapled: Option<Vec<u8>>,
        trust: Option<Arc<Trust>>,
    ) -> Result<Self, ServerTlsError> {
        let provider = Arc::new(aws_lc_rs::default_provider());
        let own = chain.first().ok_or(ServerTlsError::Empty)?;
        let certificate = Certificate::read(own).map_err(|error| ServerTlsError::Certificate(error.to_string()))?;
        let key = PrivateKeyDer::try_from(key.to_vec()).map_err(|error| ServerTlsError::Key(error.to_owned()))?;
        let chain = chain.iter().map(|der| CertificateDer::from(der.clone())).collect();
        let mut certified = CertifiedKey::from_der(chain, key, &provider).map_err(|error| match error {
            rustls::Error::InconsistentKeys(_) => ServerTlsError::OtherKey,
            other => ServerTlsError::Key(other.to_string()),
        })?;
        certified.ocsp = stapled;
        let resolver = Arc::new(Always(Arc::new(certified)));
        let presented = Arc::<Presented>::default();
        let asking = match &trust {
            Some(trust) => {
                let algorithms = provider.signature_verification_algorithms;
                let verifier = Verifier { trust: trust.clone(), presented: presented.clone(), algorithms };
                let builder = builder(provider.clone())?.with_client_cert_verifier(Arc::new(verifier));
                Some(without_sessions(builder.with_cert_resolver(resolver.clone())))
            }
            None => None,
        };
        let tunnel = without_sessions(builder(provider)?.with_no_client_auth().with_cert_resolver(resolver));
        Ok(Self { tunnel, asking, presented, trust, certificate: Arc::new(certificate) })
    }

    /// What our own certificate says.
    pub fn certificate(&self) -> &Certificate {
        &self.certificate
    }

    /// Whose certificates are believed here.
    pub fn trust(&self) -> Option<&Arc<Trust>> {
        self.trust.as_ref()
    }

    /// A connection; with `ask_certificate`, the peer must present one.
    pub(crate) fn connect(
        &self,
        ask_certificate: bool,
        sessions: Option<Arc<dyn Sessions>>,
    ) -> Result<Library, rustls::Error> {
        let mut config = match ask_certificate {
            true => self.asking.clone().ok_or(rustls::Error::General("no trust".into()))?,
            false => self.tunnel.clone(),
        };
        if let Some(sessions) = sessions {
            let own = Arc::make_mut(&mut config);
            own.session_storage = Arc::new(Storage(sessions));
            own.send_tls13_tickets = 1;
        }
        Library::server(config, self.presented.clone())
    }
}

impl fmt::Debug for ServerTls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ServerTls").field("certificate", &self.certificate.subject).finish_non_exhaustive()
    }
}

fn builder(
    provider: Arc<CryptoProvider>,
) -> Result<rustls::ConfigBuilder<ServerConfig, rustls::WantsVerifier>, ServerTlsError> {
    ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| ServerTlsError::Key(error.to_string()))
}

fn without_sessions(mut config: ServerConfig) -> Arc<ServerConfig> {
    config.session_storage = Arc::new(NoServerSessionStorage {});
    config.send_tls13_tickets = 0;
    // For the alert of RFC 9190 that no call of the library sends.
    config.enable_secret_extraction = true;
    Arc::new(config)
}

/// One certificate, whatever name the peer asks for.
#[derive(Debug)]
struct Always(Arc<CertifiedKey>);

impl ResolvesServerCert for Always {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.clone())
    }
}

/// Judges a client's certificate by our trust, and remembers what was presented.
#[derive(Debug)]
struct Verifier {
    trust: Arc<Trust>,
    presented: Arc<Presented>,
    algorithms: WebPkiSupportedAlgorithms,
}

impl ClientCertVerifier for Verifier {
    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        self.trust.hints()
    }

    fn verify_client_cert(
        &self,
        own: &CertificateDer<'_>,
        rest: &[CertificateDer<'_>],
        now: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        let chain = self.trust.same(Chain::presented(own, rest));
        self.presented.note(chain.clone());
        let judged = self.trust.judge_client(&chain, now, Asked::NotYet);
        judged.map(|_| ClientCertVerified::assertion()).map_err(library_error)
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<rustls::client::danger::HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls12_signature(message, certificate, signature, &self.algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<rustls::client::danger::HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls13_signature(message, certificate, signature, &self.algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.algorithms.supported_schemes()
    }
}

#[derive(Debug)]
struct Storage(Arc<dyn Sessions>);

impl StoresServerSessions for Storage {
    fn put(&self, key: Vec<u8>, value: Vec<u8>) -> bool {
        self.0.put(key, value)
    }

    fn get(&self, key: &[u8]) -> Option<Vec<u8>> {
        self.0.get(key)
    }

    fn take(&self, key: &[u8]) -> Option<Vec<u8>> {
        // A handle is good until its row ends: a peer whose last packet was lost
        // may come back with it.
        self.0.get(key)
    }

    fn can_cache(&self) -> bool {
        true
    }
}

/// Why a certificate cannot be presented.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ServerTlsError {
    /// No certificate at all.
    #[error("there is no certificate")]
    Empty,
    /// The certificate.
    #[error("{0}")]
    Certificate(String),
    /// The key.
    #[error("the private key cannot be used: {0}")]
    Key(String),
    /// The key is another's.
    #[error("the private key does not belong to the certificate")]
    OtherKey,
}
