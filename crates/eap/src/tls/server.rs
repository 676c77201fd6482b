use std::fmt;
use std::sync::Arc;

use rustls::crypto::{CryptoProvider, WebPkiSupportedAlgorithms, aws_lc_rs};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, UnixTime};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::server::{ClientHello, NoServerSessionStorage, ResolvesServerCert, StoresServerSessions};
use rustls::sign::CertifiedKey;
use rustls::{Connection, DigitallySignedStruct, DistinguishedName, ServerConfig, ServerConnection, SignatureScheme};
use thiserror::Error;

use crate::certificate::Certificate;
use crate::tls::library::{Library, Presented};
use crate::tls::trust::{Asked, Trust, library_error};

/// Our certificate, and whose certificates we believe.
#[derive(Clone)]
pub struct ServerTls {
    config: Arc<ServerConfig>,
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
        let mut config =
            builder(provider)?.with_no_client_auth().with_cert_resolver(Arc::new(Always(Arc::new(certified))));
        config.session_storage = Arc::new(NoServerSessionStorage {});
        config.send_tls13_tickets = 0;
        Ok(Self { config: Arc::new(config), trust, certificate: Arc::new(certificate) })
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
        let presented = Arc::new(Presented::default());
        let mut config = ServerConfig::clone(&self.config);
        if let Some(sessions) = sessions {
            config.session_storage = Arc::new(Storage(sessions));
            config.send_tls13_tickets = 1;
        }
        if ask_certificate {
            let trust = self.trust.clone().ok_or(rustls::Error::General("no trust".into()))?;
            let provider = config.crypto_provider().clone();
            let algorithms = provider.signature_verification_algorithms;
            let verifier = Arc::new(Verifier { trust, presented: presented.clone(), algorithms });
            let resolver = config.cert_resolver.clone();
            let mut asking = ServerConfig::builder_with_provider(provider)
                .with_safe_default_protocol_versions()?
                .with_client_cert_verifier(verifier)
                .with_cert_resolver(resolver);
            asking.session_storage = config.session_storage;
            asking.send_tls13_tickets = config.send_tls13_tickets;
            config = asking;
        }
        let connection = ServerConnection::new(Arc::new(config))?;
        Ok(Library::new(Connection::Server(connection), presented))
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
        let judged = self.trust.judge_client(&self.presented.keep(own, rest), now, Asked::NotYet);
        judged.map(|_| ClientCertVerified::assertion()).map_err(|error| library_error(&error))
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
