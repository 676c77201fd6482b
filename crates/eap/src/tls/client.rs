use std::fmt;
use std::sync::Arc;

use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{ClientSessionMemoryCache, Resumption};
use rustls::crypto::{WebPkiSupportedAlgorithms, aws_lc_rs};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, TrustAnchor, UnixTime};
use rustls::{ClientConfig, ClientConnection, Connection, DigitallySignedStruct, SignatureScheme};
use thiserror::Error;
use webpki::{EndEntityCert, KeyUsage, anchor_from_trusted_cert};

use crate::certificate::Chain;
use crate::tls::TlsVersion;
use crate::tls::library::{Library, Presented};
use crate::tls::trust::{fault, library_error};

/// A supplicant's side: which server it trusts, and its own certificate. Its
/// sessions are kept in it, so that the same value resumes.
#[derive(Clone)]
pub struct ClientTls {
    config: Arc<ClientConfig>,
    name: ServerName<'static>,
    presented: Arc<Presented>,
}

impl ClientTls {
    /// Trusts servers whose certificate is for `name` and leads to one of
    /// `authorities` (DER). `own` is a chain (DER) with its private key. With
    /// `only`, no other version is offered.
    pub fn new(
        authorities: &[Vec<u8>],
        name: &str,
        own: Option<(&[Vec<u8>], &[u8])>,
        only: Option<TlsVersion>,
    ) -> Result<Self, ClientTlsError> {
        let provider = Arc::new(aws_lc_rs::default_provider());
        let wrong = |error: rustls::Error| ClientTlsError(error.to_string());
        let server_name =
            ServerName::try_from(name.to_owned()).map_err(|error| ClientTlsError(format!("{name}: {error}")))?;
        let anchors = authorities
            .iter()
            .map(|der| {
                let certificate = CertificateDer::from(der.as_slice());
                anchor_from_trusted_cert(&certificate)
                    .map(|anchor| anchor.to_owned())
                    .map_err(|error| ClientTlsError(format!("an authority cannot be read: {error}")))
            })
            .collect::<Result<_, _>>()?;
        let presented = Arc::new(Presented::default());
        let algorithms = provider.signature_verification_algorithms;
        let verifier = Arc::new(Verifier { anchors, presented: presented.clone(), algorithms });
        let versions: &[_] = match only {
            Some(TlsVersion::Tls12) => &[&rustls::version::TLS12],
            Some(TlsVersion::Tls13) => &[&rustls::version::TLS13],
            None => rustls::DEFAULT_VERSIONS,
        };
        let builder = ClientConfig::builder_with_provider(provider)
            .with_protocol_versions(versions)
            .map_err(wrong)?
            .dangerous()
            .with_custom_certificate_verifier(verifier);
        let mut config = match own {
            None => builder.with_no_client_auth(),
            Some((chain, key)) => {
                let chain = chain.iter().map(|der| CertificateDer::from(der.clone())).collect();
                let key = PrivateKeyDer::try_from(key.to_vec()).map_err(|error| ClientTlsError(error.into()))?;
                builder.with_client_auth_cert(chain, key).map_err(wrong)?
            }
        };
        config.resumption = Resumption::store(Arc::new(ClientSessionMemoryCache::new(8)));
        config.enable_sni = false;
        Ok(Self { config: Arc::new(config), name: server_name, presented })
    }

    /// The same without a memory of sessions: always a full handshake.
    pub fn without_resumption(mut self) -> Self {
        let mut config = ClientConfig::clone(&self.config);
        config.resumption = Resumption::disabled();
        self.config = Arc::new(config);
        self
    }

    pub(crate) fn connect(&self) -> Result<Library, rustls::Error> {
        let connection = ClientConnection::new(self.config.clone(), self.name.clone())?;
        Ok(Library::client(Connection::Client(connection), self.presented.clone()))
    }
}

impl fmt::Debug for ClientTls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ClientTls").field("name", &self.name).finish_non_exhaustive()
    }
}

#[derive(Debug)]
struct Verifier {
    anchors: Vec<TrustAnchor<'static>>,
    presented: Arc<Presented>,
    algorithms: WebPkiSupportedAlgorithms,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        rest: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        _: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        self.presented.note(Chain::presented(own, rest));
        let judge = || {
            let certificate = EndEntityCert::try_from(own)?;
            let usage = KeyUsage::server_auth();
            certificate.verify_for_usage(self.algorithms.all, &self.anchors, rest, now, usage, None, None)?;
            certificate.verify_is_valid_for_subject_name(name)
        };
        judge().map(|()| ServerCertVerified::assertion()).map_err(|error| library_error(fault(&error)))
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls12_signature(message, certificate, signature, &self.algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls13_signature(message, certificate, signature, &self.algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.algorithms.supported_schemes()
    }
}

/// Why a supplicant's side cannot be set up.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct ClientTlsError(String);
