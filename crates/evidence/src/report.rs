use std::fmt;

use serde::{Deserialize, Serialize};

use crate::whereabouts::Whereabouts;

/// What equipment reports of the access that it gives.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// What is reported.
    pub status: ReportStatus,
    /// Who or what has access, and where.
    pub about: Whereabouts,
    /// What the equipment calls the session.
    pub session: Option<String>,
    /// Seconds that the equipment has tried to send this.
    pub delay: u32,
    /// Seconds that access has lasted.
    pub seconds: Option<u32>,
    /// Bytes that came from the device.
    pub sent: Option<u64>,
    /// Bytes that went to the device.
    pub received: Option<u64>,
    /// Why it ended, by the number that IANA lists for it (Acct-Terminate-Cause, RFC 2866 section 5.10).
    pub cause: Option<u32>,
}

/// What is reported.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ReportStatus {
    /// Access begins.
    Start,
    /// It is over.
    Stop,
    /// It goes on.
    Interim,
    /// The equipment has started: no session of before lasts.
    On,
    /// It is about to stop.
    Off,
    /// Something else, in the words of the protocol.
    Other(String),
}

/// As RFC 2866 section 5.1 names it.
impl fmt::Display for ReportStatus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Start => "Start",
            Self::Stop => "Stop",
            Self::Interim => "Interim-Update",
            Self::On => "Accounting-On",
            Self::Off => "Accounting-Off",
            Self::Other(words) => words,
        })
    }
}
