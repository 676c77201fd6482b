//! TLS to the service: by the fingerprint that was kept at sign-in, by an authority that is
//! named, or by those of the system.

use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use regnant_certificates::read_certificates;
use regnant_eap::Certificate;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, aws_lc_rs, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    CertificateError, ClientConfig, ClientConnection, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
    StreamOwned,
};
use ureq::unversioned::transport::{
    Buffers, ConnectionDetails, Connector, Either, LazyBuffers, NextTimeout, Transport, TransportAdapter,
};

use crate::api::token_path;
use crate::args;
use crate::failure::Failure;

/// Where the fingerprints of services are kept, beside the token.
const KNOWN: &str = "known-services";

/// Whose certificates are believed to be the service's.
#[derive(Debug)]
enum Believed {
    /// The one certificate whose SHA-256 this is, whatever it says.
    Fingerprint(String),
    /// Those that an authority vouches for.
    Authorities(Arc<WebPkiServerVerifier>),
    /// Nobody's: there is no authority.
    Nobody,
}

/// How the service proves itself to this client.
#[derive(Clone, Debug)]
pub(crate) struct ServiceTls {
    verifier: Arc<Verifier>,
    config: Arc<ClientConfig>,
}

impl ServiceTls {
    /// As the options, the fingerprints that are kept, or the system say.
    pub(crate) fn new(args: &args::Api) -> Result<Self, Failure> {
        in_the_open(args)?;
        let provider = Arc::new(aws_lc_rs::default_provider());
        let believed = match (&args.fingerprint, &args.authority) {
            (Some(fingerprint), _) => Believed::Fingerprint(bare(fingerprint)?),
            (None, Some(file)) => by_authorities(authorities(file)?, &provider),
            (None, None) => match known(args) {
                Some(fingerprint) => Believed::Fingerprint(fingerprint),
                None if is_https(&args.api) => by_authorities(of_the_system(), &provider),
                None => Believed::Nobody,
            },
        };
        let verifier = Arc::new(Verifier { believed, provider: provider.clone(), doubted: Mutex::default() });
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .dangerous()
            .with_custom_certificate_verifier(verifier.clone())
            .with_no_client_auth();
        Ok(Self { verifier, config: Arc::new(config) })
    }

    /// What the service presented and was not believed.
    pub(crate) fn doubted(&self) -> Option<Doubted> {
        self.verifier.doubted.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// What to do about a certificate that was not believed.
    pub(crate) fn remedy(&self, base: &str, Doubted { fingerprint: presented, why, .. }: &Doubted) -> String {
        match &self.verifier.believed {
            Believed::Fingerprint(wanted) => format!(
                "the service at {base} presents the certificate with SHA-256 {presented}, and {wanted} is expected: it \
                 was replaced, or somebody stands in between. Compare it with what the service printed when it \
                 started; if it is the same, run `regnant sign-in --fingerprint {presented}`"
            ),
            Believed::Authorities(_) | Believed::Nobody => format!(
                "the service at {base} presents a certificate that is not believed ({why}), with SHA-256 \
                 {presented}. Compare it with what the service printed when it started; if it is the same, run \
                 `regnant sign-in --fingerprint {presented}`. Or name its authority with --authority FILE"
            ),
        }
    }
}

/// Keeps a service's fingerprint for the other commands.
pub(crate) fn keep_fingerprint(args: &args::Api, fingerprint: &str) -> Result<(), Failure> {
    let path = known_path(args)?;
    let base = args.api.trim_end_matches('/');
    let before = fs::read_to_string(&path).unwrap_or_default();
    let others = before.lines().filter(|line| line.split_once(' ').is_none_or(|(url, _)| url != base));
    let mut text: String = others.flat_map(|line| [line, "\n"]).collect();
    text += &format!("{base} {}\n", bare(fingerprint)?);
    let written = || {
        path.parent().map_or(Ok(()), fs::create_dir_all)?;
        fs::write(&path, &text)
    };
    written().map_err(|error| Failure::new(format!("the fingerprint cannot be written to {}: {error}", path.display())))
}

/// Whoever said how the service proves itself is not spoken to without proof.
fn in_the_open(args: &args::Api) -> Result<(), Failure> {
    if is_https(&args.api) {
        return Ok(());
    }
    let secured = args.api.split_once("://").map(|(_, rest)| format!("https://{rest}"));
    let secured = secured.unwrap_or_default();
    let pinned = known(&args::Api { api: secured.clone(), ..args.clone() }).is_some();
    match args.fingerprint.is_some() || args.authority.is_some() || pinned {
        true => Err(Failure::usage(format!(
            "{} is plain HTTP, and nothing would prove that it is the service that you know: say {secured}",
            args.api
        ))),
        false => Ok(()),
    }
}

pub(crate) fn is_https(base: &str) -> bool {
    base.get(..8).is_some_and(|scheme| scheme.eq_ignore_ascii_case("https://"))
}

fn known_path(args: &args::Api) -> Result<PathBuf, Failure> {
    Ok(token_path(args)?.with_file_name(KNOWN))
}

fn known(args: &args::Api) -> Option<String> {
    let text = fs::read_to_string(known_path(args).ok()?).ok()?;
    let base = args.api.trim_end_matches('/');
    text.lines().filter_map(|line| line.split_once(' ')).find(|(url, _)| *url == base).map(|(_, of)| of.to_owned())
}

/// A fingerprint in small letters without what people put between the pairs.
fn bare(fingerprint: &str) -> Result<String, Failure> {
    let digits: String = fingerprint.chars().filter(|c| !matches!(c, ':' | ' ' | '-')).collect();
    match digits.len() == 64 && digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
        true => Ok(digits.to_ascii_lowercase()),
        false => {
            Err(Failure::usage(format!("`{fingerprint}` is no SHA-256 of a certificate: it has 64 hexadecimal digits")))
        }
    }
}

fn authorities(file: &Path) -> Result<RootCertStore, Failure> {
    let wrong = |error: &dyn std::fmt::Display| Failure::usage(format!("{}: {error}", file.display()));
    let text = fs::read_to_string(file).map_err(|error| wrong(&error))?;
    let mut store = RootCertStore::empty();
    for der in read_certificates(&text).map_err(|error| wrong(&error))? {
        store.add(der.into()).map_err(|error| wrong(&error))?;
    }
    match store.is_empty() {
        true => Err(wrong(&"there is no certificate in it")),
        false => Ok(store),
    }
}

fn of_the_system() -> RootCertStore {
    let mut store = RootCertStore::empty();
    store.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    store
}

fn by_authorities(store: RootCertStore, provider: &Arc<CryptoProvider>) -> Believed {
    let built = WebPkiServerVerifier::builder_with_provider(Arc::new(store), provider.clone()).build();
    built.map_or(Believed::Nobody, Believed::Authorities)
}

/// A certificate that was not believed.
#[derive(Clone, Debug)]
pub(crate) struct Doubted {
    /// Its SHA-256, in hexadecimal.
    pub(crate) fingerprint: String,
    /// What is wrong with it.
    pub(crate) why: String,
    /// Whether it stands in the place of one that is known or was named.
    pub(crate) instead: bool,
}

fn why(error: &Error) -> String {
    match error {
        Error::InvalidCertificate(CertificateError::UnknownIssuer | CertificateError::Other(_)) => {
            "no known authority vouches for it".into()
        }
        error => error.to_string(),
    }
}

/// Judges what a service presents, and remembers what it did not believe.
#[derive(Debug)]
struct Verifier {
    believed: Believed,
    provider: Arc<CryptoProvider>,
    doubted: Mutex<Option<Doubted>>,
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        above: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let presented =
            Certificate::read(own).map(|read| read.fingerprint).map_err(|error| Error::General(error.to_string()))?;
        let judged = match &self.believed {
            Believed::Fingerprint(wanted) if *wanted == presented => Ok(ServerCertVerified::assertion()),
            Believed::Authorities(verifier) => verifier.verify_server_cert(own, above, name, ocsp, now),
            Believed::Fingerprint(_) | Believed::Nobody => {
                Err(Error::InvalidCertificate(CertificateError::UnknownIssuer))
            }
        };
        if let Err(error) = &judged {
            let instead = matches!(self.believed, Believed::Fingerprint(_));
            let doubted = Doubted { fingerprint: presented, why: why(error), instead };
            *self.doubted.lock().unwrap_or_else(PoisonError::into_inner) = Some(doubted);
        }
        judged
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        own: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, own, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        own: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, own, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

impl<In: Transport> Connector<In> for ServiceTls {
    type Out = Either<In, Secured>;

    fn connect(&self, details: &ConnectionDetails<'_>, below: Option<In>) -> Result<Option<Self::Out>, ureq::Error> {
        let Some(below) = below else { return Ok(None) };
        if !details.needs_tls() || below.is_tls() {
            return Ok(Some(Either::A(below)));
        }
        let host = details.uri.host().unwrap_or_default();
        let host = host.trim_start_matches('[').trim_end_matches(']').to_owned();
        let name = ServerName::try_from(host).map_err(|_| ureq::Error::Tls("the address names no host"))?;
        let mut connection = ClientConnection::new(self.config.clone(), name).map_err(std::io::Error::other)?;
        let mut socket = TransportAdapter::new(below.boxed(), details.current_time.clone());
        socket.set_timeout(details.timeout);
        connection.complete_io(&mut socket)?;
        let buffers = LazyBuffers::new(details.config.input_buffer_size(), details.config.output_buffer_size());
        Ok(Some(Either::B(Secured { buffers, stream: StreamOwned::new(connection, socket) })))
    }
}

/// A connection over TLS.
pub(crate) struct Secured {
    buffers: LazyBuffers,
    stream: StreamOwned<ClientConnection, TransportAdapter>,
}

impl std::fmt::Debug for Secured {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secured")
    }
}

impl Transport for Secured {
    fn buffers(&mut self) -> &mut dyn Buffers {
        &mut self.buffers
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), ureq::Error> {
        self.stream.get_mut().set_timeout(timeout);
        Ok(self.stream.write_all(&self.buffers.output()[..amount])?)
    }

    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, ureq::Error> {
        self.stream.get_mut().set_timeout(timeout);
        let came = self.stream.read(self.buffers.input_append_buf())?;
        self.buffers.input_appended(came);
        Ok(came > 0)
    }

    fn is_open(&mut self) -> bool {
        self.stream.get_mut().get_mut().is_open()
    }

    fn is_tls(&self) -> bool {
        true
    }
}
