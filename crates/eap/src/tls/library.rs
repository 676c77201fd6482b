//! The engine made of rustls, for both ends.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::{self, ThreadId};

use rustls::crypto::cipher::{OutboundChunks, OutboundPlainMessage};
use rustls::{
    AlertDescription, Connection, ConnectionTrafficSecrets, ContentType, Error, HandshakeKind, PeerIncompatible,
    ProtocolVersion, ServerConfig, ServerConnection, SupportedCipherSuite,
};

use crate::certificate::Chain;
use crate::crypto::prf::SuiteHash;
use crate::failure::TlsFailure;
use crate::tls::hello::{ClientHello, server_random};
use crate::tls::trust::fault_of_library;
use crate::tls::{Engine, TlsAbout, TlsVersion};

/// The certificates that are presented while messages are taken, by the thread
/// that takes one: the library tells whose were accepted, and not whose were
/// refused.
#[derive(Debug, Default)]
pub(crate) struct Presented(Mutex<HashMap<ThreadId, Chain>>);

impl Presented {
    /// Notes what was presented in the message that this thread takes.
    pub(crate) fn note(&self, chain: Chain) {
        self.lock().insert(thread::current().id(), chain);
    }

    /// What was presented in the message that this thread has taken.
    fn noted(&self) -> Option<Chain> {
        self.lock().remove(&thread::current().id())
    }

    fn lock(&self) -> MutexGuard<'_, HashMap<ThreadId, Chain>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// One connection.
#[derive(Debug)]
pub(crate) struct Library {
    connection: Connection,
    presented: Arc<Presented>,
    chain: Chain,
    /// The first flight of the other end.
    hello: Option<ClientHello>,
    server: bool,
    about: Arc<TlsAbout>,
    /// Whether nothing more can be learnt of the connection.
    settled: bool,
    /// An alert of our own, in place of what the library would say.
    alert: Vec<u8>,
    /// What a server's connection was made of.
    config: Option<Arc<ServerConfig>>,
}

impl Library {
    pub(crate) fn client(connection: Connection, presented: Arc<Presented>) -> Self {
        Self::new(connection, presented, None)
    }

    pub(crate) fn server(config: Arc<ServerConfig>, presented: Arc<Presented>) -> Result<Self, Error> {
        let connection = Connection::Server(ServerConnection::new(config.clone())?);
        Ok(Self::new(connection, presented, Some(config)))
    }

    fn new(connection: Connection, presented: Arc<Presented>, config: Option<Arc<ServerConfig>>) -> Self {
        let (chain, about, server) = (Chain::default(), Arc::default(), config.is_some());
        Self { connection, presented, chain, hello: None, server, about, settled: false, alert: Vec::new(), config }
    }

    /// Ends the connection with an alert of ours, which the library has no call for:
    /// its keys are taken over, and the alert is the first record under them (RFC 8446
    /// section 5.3). Nothing else may have been sent since the handshake; what waits to
    /// be sent, say a ticket, never is.
    fn last_alert(&mut self, alert: AlertDescription) -> Result<Vec<u8>, Error> {
        let config = self.config.clone().ok_or(Error::General("a client refuses nobody".into()))?;
        let Some(SupportedCipherSuite::Tls13(suite)) = self.connection.negotiated_cipher_suite() else {
            return Err(Error::General("not TLS 1.3".into()));
        };
        drop(self.records());
        // Nothing can be done any more with the one that takes its place.
        let unused = Connection::Server(ServerConnection::new(config)?);
        let (_, keys) = std::mem::replace(&mut self.connection, unused).dangerous_extract_secrets()?.tx;
        let (ConnectionTrafficSecrets::Aes128Gcm { key, iv }
        | ConnectionTrafficSecrets::Aes256Gcm { key, iv }
        | ConnectionTrafficSecrets::Chacha20Poly1305 { key, iv }) = keys
        else {
            return Err(Error::General("a cipher that is not known here".into()));
        };
        let message = [FATAL, alert.into()];
        let plain = OutboundPlainMessage {
            typ: ContentType::Alert,
            version: ProtocolVersion::TLSv1_2,
            payload: OutboundChunks::Single(&message),
        };
        Ok(suite.aead_alg.encrypter(key, iv).encrypt(plain, 0)?.encode())
    }

    fn failure(error: Error) -> TlsFailure {
        match error {
            Error::AlertReceived(alert) => TlsFailure::AlertReceived { name: alert_name(alert) },
            Error::InvalidCertificate(error) => TlsFailure::Certificate(fault_of_library(&error)),
            Error::NoCertificatesPresented => TlsFailure::NoCertificate,
            Error::PeerIncompatible(PeerIncompatible::NoCipherSuitesInCommon) => TlsFailure::NoSuite,
            Error::PeerIncompatible(PeerIncompatible::NoKxGroupsInCommon) => TlsFailure::NoGroup,
            other => TlsFailure::Other(other.to_string()),
        }
    }

    /// Keeps the randoms once the server's hello goes by.
    fn watch(&mut self, server_flight: &[u8]) {
        if let (None, Some(hello)) = (self.about.randoms, &self.hello)
            && let Some(random) = server_random(server_flight)
        {
            let mut randoms = [0; 64];
            randoms[..32].copy_from_slice(&hello.random);
            randoms[32..].copy_from_slice(&random);
            Arc::make_mut(&mut self.about).randoms = Some(randoms);
        }
    }

    /// Notes what the handshake has brought so far.
    fn learn(&mut self) {
        if self.settled {
            return;
        }
        self.settled = !self.connection.is_handshaking();
        // Once the handshake is over, only what the library accepted counts.
        let accepted = self.connection.peer_certificates().unwrap_or_default();
        let same = self.chain.ders().iter().map(Vec::as_slice).eq(accepted.iter().map(|der| &**der));
        if self.settled && !same {
            self.chain = Chain::new(accepted.iter().map(|der| der.to_vec()).collect());
        }
        self.about = Arc::new(TlsAbout {
            version: self.connection.protocol_version().map(|version| match version {
                ProtocolVersion::TLSv1_3 => TlsVersion::Tls13,
                _ => TlsVersion::Tls12,
            }),
            suite: self.connection.negotiated_cipher_suite().map(|suite| name(&suite.suite())),
            group: self.connection.negotiated_key_exchange_group().map(|group| name(&group.name())),
            resumed: self.connection.handshake_kind() == Some(HandshakeKind::Resumed),
            certificates: self.chain.clone(),
            randoms: self.about.randoms,
        });
    }

    fn take(&mut self, mut records: &[u8]) -> Result<(), TlsFailure> {
        if self.server && self.hello.is_none() {
            let hello = ClientHello::read(records);
            let refused = hello.as_ref().and_then(without_hope);
            self.hello = Some(hello.unwrap_or_default());
            if let Some((failure, alert)) = refused {
                // Seven bytes in a record that every version reads.
                self.alert = vec![21, 3, 1, 0, 2, FATAL, alert];
                return Err(failure);
            }
        }
        if !self.server {
            self.watch(records);
        }
        if !self.settled {
            // What a message left that was not taken to its end.
            drop(self.presented.noted());
        }
        while !records.is_empty() {
            let read = self.connection.read_tls(&mut records);
            let read = read.map_err(|error| TlsFailure::Other(error.to_string()))?;
            let processed = self.connection.process_new_packets();
            if !self.settled
                && let Some(chain) = self.presented.noted()
            {
                self.chain = chain;
            }
            processed.map_err(Self::failure)?;
            if read == 0 {
                return Err(TlsFailure::Other("more came than one message may hold".into()));
            }
        }
        Ok(())
    }
}

impl Engine for Library {
    fn receive(&mut self, records: &[u8]) -> Result<(), TlsFailure> {
        let taken = self.take(records);
        self.learn();
        taken
    }

    fn records(&mut self) -> Vec<u8> {
        if !self.alert.is_empty() {
            return std::mem::take(&mut self.alert);
        }
        let mut records = Vec::new();
        while self.connection.wants_write() {
            if self.connection.write_tls(&mut records).is_err() {
                break;
            }
        }
        match self.server {
            true => self.watch(&records),
            false if self.hello.is_none() => self.hello = ClientHello::read(&records),
            false => {}
        }
        self.learn();
        records
    }

    fn read(&mut self) -> Vec<u8> {
        let mut plain = Vec::new();
        // "Nothing yet" and "closed" both mean that what came is all there is.
        let _ = std::io::Read::read_to_end(&mut self.connection.reader(), &mut plain);
        plain
    }

    fn write(&mut self, plain: &[u8]) {
        let written = std::io::Write::write_all(&mut self.connection.writer(), plain);
        debug_assert!(written.is_ok(), "messages are shorter than the library's buffer");
    }

    fn refuse(&mut self) -> Option<Vec<u8>> {
        self.last_alert(AlertDescription::AccessDenied).ok()
    }

    fn is_handshaking(&self) -> bool {
        self.connection.is_handshaking()
    }

    fn export(&self, label: &str, context: Option<&[u8]>, out: &mut [u8]) -> Result<(), TlsFailure> {
        let made = self.connection.export_keying_material(out, label.as_bytes(), context);
        made.map(|_| ()).map_err(|error| TlsFailure::Other(error.to_string()))
    }

    fn about(&self) -> &Arc<TlsAbout> {
        &self.about
    }

    fn hash(&self) -> SuiteHash {
        let sha384 = self
            .connection
            .negotiated_cipher_suite()
            .is_some_and(|suite| matches!(suite.suite().as_str(), Some(name) if name.ends_with("SHA384")));
        if sha384 { SuiteHash::Sha384 } else { SuiteHash::Sha256 }
    }
}

// RFC 5246 section 7.2.
const FATAL: u8 = 2;
const HANDSHAKE_FAILURE: u8 = 40;
const PROTOCOL_VERSION: u8 = 70;

/// Why a hello cannot lead to anything, where that is plain: of such peers the
/// library would only tell what else they lack.
fn without_hope(hello: &ClientHello) -> Option<(TlsFailure, u8)> {
    if !hello.offers_1_2_or_newer() {
        return Some((TlsFailure::OldVersion { newest: hello.newest() }, PROTOCOL_VERSION));
    }
    let ours = rustls::crypto::aws_lc_rs::ALL_CIPHER_SUITES;
    let shared = ours.iter().any(|suite| hello.suites.contains(&u16::from(suite.suite())));
    (!shared).then_some((TlsFailure::NoSuite, HANDSHAKE_FAILURE))
}

/// The library's names are IANA's, but for a prefix.
fn name(value: &impl std::fmt::Debug) -> String {
    format!("{value:?}").replacen("TLS13_", "TLS_", 1)
}

/// RFC 8446 section 6 writes `unknown_ca`; the library `UnknownCA`.
fn alert_name(alert: AlertDescription) -> String {
    match alert {
        AlertDescription::UnknownCA => "unknown_ca".into(),
        AlertDescription::BadCertificateHashValue => "bad_certificate_hash_value".into(),
        AlertDescription::UnknownPSKIdentity => "unknown_psk_identity".into(),
        AlertDescription::Unknown(number) => format!("alert {number}"),
        known => {
            let mut name = String::new();
            for (place, letter) in format!("{known:?}").char_indices() {
                if letter.is_ascii_uppercase() && place > 0 {
                    name.push('_');
                }
                name.push(letter.to_ascii_lowercase());
            }
            name
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn alerts_bear_the_names_of_the_rfc() {
        assert_eq!(alert_name(AlertDescription::UnknownCA), "unknown_ca");
        assert_eq!(alert_name(AlertDescription::CertificateExpired), "certificate_expired");
        assert_eq!(alert_name(AlertDescription::Unknown(200)), "alert 200");
    }
}
