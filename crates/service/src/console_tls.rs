//! TLS of console and API: which certificate is presented, and that it changes without a
//! restart.

use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arc_swap::ArcSwap;
use regnant_certificates::{AuthorityError, Bundle, self_signed};
use regnant_eap::Certificate;
use regnant_records::{CertificateRow, Reading, RecordsError, SealingKey};
use rustls::ServerConfig;
use rustls::crypto::{CryptoProvider, aws_lc_rs};
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use thiserror::Error;

use crate::clock::now_ms;
use crate::config::ApiConfig;

/// The certificate that vouches for itself, with its key, in the data directory.
const FILE: &str = "console-certificate.pem";
const TEN_YEARS: i64 = 3_650 * 86_400;

/// What console and API present.
#[derive(Debug)]
pub(crate) struct ConsoleTls {
    provider: Arc<CryptoProvider>,
    /// The certificate of the records that is wanted.
    wanted: Option<String>,
    own: Arc<CertifiedKey>,
    presented: ArcSwap<CertifiedKey>,
}

impl ConsoleTls {
    /// Opens the certificate that vouches for itself, or makes it.
    pub(crate) fn open(config: &ApiConfig, folder: &Path) -> Result<Self, ConsoleTlsError> {
        let path = folder.join(FILE);
        let pem = match fs::read_to_string(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => make(config, &path)?,
            read => read.map_err(|error| ConsoleTlsError::File(path.clone(), error))?,
        };
        let provider = Arc::new(aws_lc_rs::default_provider());
        let bundle = Bundle::from_pem(&pem).map_err(|error| ConsoleTlsError::Wrong(path.clone(), error.to_string()))?;
        let key = bundle.key.as_ref().map(|key| key.expose().to_vec()).unwrap_or_default();
        let own = certified(&bundle.chain, key, &provider).map_err(|error| ConsoleTlsError::Wrong(path, error))?;
        let own = Arc::new(own);
        Ok(Self { provider, wanted: config.certificate.clone(), presented: ArcSwap::new(own.clone()), own })
    }

    /// Presents what the records have now; what cannot be presented is told, and what was
    /// presented before stays.
    pub(crate) fn refresh(&self, records: &impl Reading, key: &SealingKey) -> Result<(), RecordsError> {
        let Some(wanted) = &self.wanted else { return Ok(()) };
        let Some(row) = records.all::<CertificateRow>()?.into_iter().find(|row| row.name == *wanted) else {
            tracing::warn!(
                "there is no certificate `{wanted}` in the records: until there is one, console and API present the one \
                 that vouches for itself"
            );
            self.presented.store(self.own.clone());
            return Ok(());
        };
        let private = row.private_key(key)?;
        let chain = Bundle::from_pem(&row.chain).map(|bundle| bundle.chain).unwrap_or_default();
        match certified(&chain, private.expose().to_vec(), &self.provider) {
            Ok(certified) => self.presented.store(Arc::new(certified)),
            Err(error) => tracing::warn!("console and API cannot present the certificate `{wanted}` yet: {error}"),
        }
        Ok(())
    }

    /// Whether it is the certificate of this name that is presented, or would be.
    pub(crate) fn wants(&self, name: &str) -> bool {
        self.wanted.as_deref() == Some(name)
    }

    /// What a client compares: SHA-256 of the certificate, in hexadecimal pairs.
    pub(crate) fn fingerprint(&self) -> String {
        let presented = self.presented.load();
        let own = presented.cert.first().and_then(|der| Certificate::read(der).ok());
        own.map(|certificate| certificate.fingerprint).unwrap_or_default()
    }

    /// What a TLS server needs that presents this.
    pub(crate) fn server(self: &Arc<Self>) -> Result<Arc<ServerConfig>, rustls::Error> {
        let builder =
            ServerConfig::builder_with_provider(self.provider.clone()).with_safe_default_protocol_versions()?;
        let mut config = builder.with_no_client_auth().with_cert_resolver(self.clone());
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Arc::new(config))
    }
}

impl ResolvesServerCert for ConsoleTls {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.presented.load_full())
    }
}

fn certified(chain: &[Vec<u8>], key: Vec<u8>, provider: &CryptoProvider) -> Result<CertifiedKey, String> {
    let chain = chain.iter().map(|der| CertificateDer::from(der.clone())).collect();
    let key = PrivateKeyDer::try_from(key).map_err(str::to_owned)?;
    CertifiedKey::from_der(chain, key, provider).map_err(|error| error.to_string())
}

/// Makes the certificate and keeps it where only its owner reads it.
fn make(config: &ApiConfig, path: &Path) -> Result<String, ConsoleTlsError> {
    let mut names = vec!["localhost".to_owned(), "127.0.0.1".to_owned(), "::1".to_owned()];
    names.extend(config.hosts.iter().cloned());
    if !config.listen.ip().is_unspecified() && !config.listen.ip().is_loopback() {
        names.push(config.listen.ip().to_string());
    }
    let now = (now_ms() / 1_000).cast_signed();
    let issued = self_signed(&names, now, now + TEN_YEARS)?;
    let pem = issued.certificate + &issued.key;
    // A crash half-way leaves no file of that name.
    let half = path.with_extension("part");
    let written = || {
        let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&half)?;
        file.write_all(pem.as_bytes())?;
        file.sync_all()?;
        fs::rename(&half, path)
    };
    written().map_err(|error| ConsoleTlsError::File(path.into(), error))?;
    Ok(pem)
}

/// Why console and API cannot speak TLS.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ConsoleTlsError {
    /// The file of the certificate that vouches for itself.
    #[error("the certificate of console and API in {path} cannot be read or written: {1}", path = .0.display())]
    File(PathBuf, #[source] io::Error),
    /// What stands in it.
    #[error("{path} holds no certificate with its key ({1}); remove it, and a new one is made at the next start", path = .0.display())]
    Wrong(PathBuf, String),
    /// It cannot be made.
    #[error(transparent)]
    Make(#[from] AuthorityError),
    /// The TLS library refuses.
    #[error("console and API cannot speak TLS: {0}")]
    Library(#[from] rustls::Error),
}
