//! What an EAP conversation leaves.

use std::sync::Arc;
use std::time::Duration;

use regnant_base::printable;
use regnant_eap::{
    About, Certificate, CertificateError, CertificateFault, Failure, IdentityType, InnerOutcome, Kind, TlsAbout,
    TlsFailure, TlsVersion,
};
use serde::{Deserialize, Serialize};

use crate::eap::offers::Presented;

/// One conversation.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EapEvidence {
    /// The identity told outside the tunnel.
    pub outer: Option<String>,
    /// The method agreed on, or tried last.
    pub method: Option<Kind>,
    /// Methods turned down, and what was wanted instead.
    pub turned_down: Vec<(Kind, Vec<Kind>)>,
    /// The TLS connection.
    pub tls: Option<TlsEvidence>,
    /// What happened inside the tunnel.
    pub inner: Vec<InnerEvidence>,
    /// Whether tunnel and inner method proved to belong together.
    pub bound: Option<bool>,
    /// Every packet of the supplicant and its answer.
    pub rounds: Vec<RoundEvidence>,
    /// Our certificate: its subject and its issuer.
    pub presented: Option<(String, String)>,
    /// Whether keys went to the equipment.
    pub keys: bool,
    /// What issuers said when they were asked about certificates: the certificate
    /// and the answer.
    pub asked: Vec<(String, String)>,
}

/// A TLS connection.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TlsEvidence {
    /// The version.
    pub version: Option<TlsVersion>,
    /// The cipher suite.
    pub suite: Option<String>,
    /// The group of the key exchange.
    pub group: Option<String>,
    /// Whether a session was resumed.
    pub resumed: bool,
    /// What the supplicant presented, its own certificate first.
    pub certificates: Vec<CertificateEvidence>,
}

/// A certificate.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct CertificateEvidence {
    /// Its subject.
    pub subject: String,
    /// Who issued it.
    pub issuer: String,
    /// Its serial number.
    pub serial: String,
    /// Seconds since 1970.
    pub not_before: i64,
    /// Seconds since 1970.
    pub not_after: i64,
    /// Its alternative names.
    pub names: Vec<String>,
}

/// An inner method.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct InnerEvidence {
    /// Whom it is about, where the tunnel tells.
    pub identity: Option<IdentityType>,
    /// The method.
    pub method: String,
    /// The name told inside.
    pub name: Option<String>,
    /// How it went.
    pub outcome: InnerOutcome,
    /// Its own TLS connection.
    pub tls: Option<TlsEvidence>,
}

/// One packet of the supplicant and what was answered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RoundEvidence {
    /// Microseconds since the first packet.
    pub at: u64,
    /// Microseconds that we took.
    pub took: u64,
    /// Bytes of EAP received.
    pub received: usize,
    /// Bytes of EAP sent.
    pub sent: usize,
    /// Why the packet was ignored, where it was.
    pub ignored: Option<String>,
}

/// Why a conversation failed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum FailureEvidence {
    /// No method that both have.
    NoCommonMethod {
        /// What the supplicant wants.
        wanted: Vec<Kind>,
    },
    /// The supplicant rejected something of ours.
    Alert {
        /// The alert's name.
        name: String,
    },
    /// It has only old TLS.
    OldVersion {
        /// The newest that it offers.
        newest: String,
    },
    /// No cipher suite or group in common.
    NoSuite,
    /// Its certificate was refused.
    Certificate {
        /// What is wrong with it.
        fault: CertificateFault,
        /// Whether that came out only at the verdict, when it was too late for an
        /// alert.
        late: bool,
    },
    /// It presented none.
    NoCertificate,
    /// Something else about TLS.
    Tls {
        /// As the library tells it.
        text: String,
    },
    /// Its credential.
    Credential,
    /// It gave up.
    GaveUp {
        /// What it did.
        text: String,
    },
    /// The cryptographic binding.
    Binding,
    /// There was none, and the gate demands it.
    Unbound,
    /// It does not keep to the protocol.
    Protocol {
        /// What it did.
        text: String,
    },
}

impl EapEvidence {
    pub(crate) fn new(
        about: &About,
        presented: Option<Presented>,
        rounds: Vec<RoundEvidence>,
        keys: bool,
        asked: Vec<(String, String)>,
    ) -> Self {
        Self {
            outer: about.identity.as_deref().map(kept_text),
            method: about.method,
            turned_down: about.turned_down.clone(),
            tls: about.tls.as_deref().map(TlsEvidence::new),
            inner: about.inner.iter().map(InnerEvidence::new).collect(),
            bound: about.bound,
            rounds,
            presented: presented.filter(|_| about.tls.is_some()).map(|own| (own.subject, own.issuer)),
            keys,
            asked,
        }
    }
}

impl TlsEvidence {
    fn new(about: &TlsAbout) -> Self {
        Self {
            version: about.version,
            suite: about.suite.clone(),
            group: about.group.clone(),
            resumed: about.resumed,
            certificates: about
                .certificates
                .read()
                .iter()
                .take(MOST_CERTIFICATES)
                .map(CertificateEvidence::new)
                .collect(),
        }
    }
}

impl CertificateEvidence {
    fn new(read: &Result<Arc<Certificate>, CertificateError>) -> Self {
        match read {
            Ok(read) => Self {
                names: [&read.upn, &read.dns, &read.email]
                    .into_iter()
                    .flatten()
                    .take(MOST_NAMES)
                    .map(|name| kept_text(name))
                    .collect(),
                subject: kept_text(&read.subject),
                issuer: kept_text(read.issuer_common_name.as_ref().unwrap_or(&read.issuer)),
                serial: read.serial.clone(),
                not_before: read.not_before,
                not_after: read.not_after,
            },
            Err(error) => Self { subject: kept_text(&error.to_string()), ..Self::default() },
        }
    }
}

/// Names of one certificate, and certificates of one chain, that are kept: a peer
/// chooses how many it sends.
const MOST_NAMES: usize = 16;
const MOST_CERTIFICATES: usize = 8;
/// Characters of one text that are kept.
const LONGEST: usize = 512;

/// A text from outside as it is kept: safe to print, and not longer than people read.
fn kept_text(text: &str) -> String {
    let shown = printable(text);
    match shown.char_indices().nth(LONGEST) {
        None => shown.into_owned(),
        Some((end, _)) => format!("{}…", &shown[..end]),
    }
}

impl InnerEvidence {
    fn new(inner: &regnant_eap::Inner) -> Self {
        Self {
            identity: inner.identity_type,
            method: inner.method.clone(),
            name: inner.identity.as_deref().map(kept_text),
            outcome: inner.outcome,
            tls: inner.tls.as_deref().map(TlsEvidence::new),
        }
    }
}

impl RoundEvidence {
    pub(crate) fn new(at: Duration, received: usize) -> Self {
        Self { at: at.as_micros() as u64, took: 0, received, sent: 0, ignored: None }
    }

    pub(crate) fn end(&mut self, at: Duration, sent: usize, ignored: Option<&str>) {
        self.took = (at.as_micros() as u64).saturating_sub(self.at);
        self.sent = sent;
        self.ignored = ignored.map(str::to_owned);
    }
}

impl FailureEvidence {
    pub(crate) fn certificate(fault: CertificateFault, late: bool) -> Self {
        Self::Certificate { fault, late }
    }

    pub(crate) fn new(failure: &Failure) -> Self {
        match failure {
            Failure::NoCommonMethod { wanted } => Self::NoCommonMethod { wanted: wanted.clone() },
            Failure::Tls(TlsFailure::AlertReceived { name }) => Self::Alert { name: name.clone() },
            Failure::Tls(TlsFailure::OldVersion { newest }) => Self::OldVersion { newest: newest.clone() },
            Failure::Tls(TlsFailure::NoSuite | TlsFailure::NoGroup) => Self::NoSuite,
            Failure::Tls(TlsFailure::Certificate(fault)) => Self::certificate(*fault, false),
            Failure::Tls(TlsFailure::NoCertificate) => Self::NoCertificate,
            Failure::Tls(other) => Self::Tls { text: kept_text(&other.to_string()) },
            Failure::Credential => Self::Credential,
            Failure::GaveUp(what) => Self::GaveUp { text: (*what).to_owned() },
            Failure::Binding => Self::Binding,
            Failure::Unbound => Self::Unbound,
            other => Self::Protocol { text: other.to_string() },
        }
    }
}
