//! Packets that stayed *unheard*: dropped in silence, and journaled.

use std::borrow::Cow;
use std::fmt;

use serde::{Deserialize, Serialize};

use crate::record::sentence::{Fragment, FragmentKind};

/// Packets of one sender that could not become requests for one cause.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct UnheardRecord {
    /// The entry's id, a ULID of the first packet's time.
    pub id: String,
    /// When the first came, in milliseconds since 1970 (UTC).
    pub first: u64,
    /// When the last came.
    pub last: u64,
    /// How many came.
    pub count: u64,
    /// The sender's address.
    pub source: String,
    /// The NAS that has this address, where one has.
    pub nas: Option<String>,
    /// Why.
    pub cause: Cause,
}

/// Why a packet stays unheard. What a protocol calls a thing is told by its adapter.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[non_exhaustive]
pub enum Cause {
    /// No NAS has this address.
    UnknownSender,
    /// The NAS is registered, and not for this protocol.
    NoCredentials {
        /// The protocol.
        protocol: Cow<'static, str>,
    },
    /// What only the shared secret makes is wrong.
    SecretDiffers {
        /// What is wrong: `Message-Authenticator, attribute 80,`.
        shown_by: Cow<'static, str>,
        /// Where it was sent.
        to: Service,
    },
    /// What protects it is missing.
    Unprotected {
        /// What came without: `EAP`; where that goes without saying, nothing.
        what: Cow<'static, str>,
        /// What is missing: `Message-Authenticator (attribute 80)`.
        lacks: Cow<'static, str>,
        /// What to do.
        advice: Cow<'static, str>,
    },
    /// The bytes are no packet.
    Malformed(String),
    /// A packet that belongs elsewhere.
    Misdirected {
        /// What it is: `Accounting-Request`.
        what: Cow<'static, str>,
        /// Where it was sent.
        to: Service,
        /// Where it belongs, as far as one can tell.
        belongs: Option<Service>,
    },
    /// More EAP conversations were begun than can be held; the oldest were given up.
    TooManyConversations,
}

/// What equipment asks of us.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Service {
    /// Decisions.
    Authentication,
    /// That we keep what it reports.
    Accounting,
}

impl Cause {
    /// What to do about it.
    pub fn advice(&self) -> String {
        match self {
            Self::UnknownSender => {
                "Register this address as a NAS; if it should not ask here, find out what it is.".into()
            }
            Self::NoCredentials { protocol } => format!("Register the NAS for {protocol}, or point it elsewhere."),
            Self::SecretDiffers { to: Service::Authentication, .. } => {
                "Set the same shared secret on the NAS and here; one that you believe it has can be tried on what it sent."
                    .into()
            }
            Self::SecretDiffers { to: Service::Accounting, .. } => {
                "Set the same shared secret on the NAS and here; some equipment has one of its own for accounting."
                    .into()
            }
            Self::Unprotected { advice, .. } => advice.clone().into_owned(),
            Self::Malformed(_) => {
                "Look for something on the way that changes or cuts packets, or for a faulty sender.".into()
            }
            Self::Misdirected { belongs: Some(Service::Accounting), .. } => {
                "Point the NAS's accounting at the accounting port (1813 unless the configuration says another).".into()
            }
            Self::Misdirected { to, .. } => format!("Point the NAS's {to} at this port, and nothing else."),
            Self::TooManyConversations => {
                "Find out what begins conversations there and does not end them: a flood, or supplicants that try again \
                 and again."
                    .into()
            }
        }
    }
}

impl fmt::Display for Service {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Authentication => "authentication",
            Self::Accounting => "accounting",
        })
    }
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::UnknownSender => f.write_str("no NAS has this address"),
            Self::NoCredentials { protocol } => write!(f, "the NAS of this address is not registered for {protocol}"),
            Self::SecretDiffers { shown_by, .. } => write!(f, "the shared secret differs ({shown_by} is wrong)"),
            Self::Unprotected { what, lacks, .. } if what.is_empty() => write!(f, "{lacks} is missing"),
            Self::Unprotected { what, lacks, .. } => write!(f, "{what} came without {lacks}"),
            Self::Malformed(what) => write!(f, "the packet is malformed: {what}"),
            Self::Misdirected { what, to, .. } => write!(f, "{what} does not belong on the {to} port"),
            Self::TooManyConversations => {
                f.write_str("too many EAP conversations were begun; the oldest were given up")
            }
        }
    }
}

impl UnheardRecord {
    /// The entry as a sentence, without its time.
    pub fn sentence(&self) -> Vec<Fragment> {
        let part = |kind, text: String| Fragment { kind, text };
        let packets = if self.count == 1 { "1 packet".into() } else { format!("{} packets", self.count) };
        let mut parts = vec![
            part(FragmentKind::Text, format!("{packets} from ")),
            part(FragmentKind::Subject, self.source.clone()),
        ];
        if let Some(nas) = &self.nas {
            parts.extend([part(FragmentKind::Text, " (".into()), part(FragmentKind::Nas, nas.clone())]);
            parts.push(part(FragmentKind::Text, ")".into()));
        }
        parts.push(part(FragmentKind::Verdict, " stayed unheard".into()));
        parts.push(part(FragmentKind::Text, format!(": {}.", self.cause)));
        parts
    }
}
