use std::borrow::Cow;
use std::fmt;

use regnant_radius::{Attributes, number};

use crate::accounting::whereabouts::Whereabouts;
use crate::request::integer;

/// What an Accounting-Request says (RFC 2866 section 5, RFC 2869 section 5).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Report<'p> {
    /// What is reported.
    pub status: ReportStatus,
    /// Who or what has access, and where.
    pub about: Whereabouts<'p>,
    /// Acct-Session-Id: what the equipment calls the session.
    pub session: Option<Cow<'p, str>>,
    /// Acct-Delay-Time: seconds that the equipment has tried to send this.
    pub delay: u32,
    /// Acct-Session-Time: seconds that access has lasted.
    pub seconds: Option<u32>,
    /// Bytes that came from the device (Acct-Input-Octets and Acct-Input-Gigawords).
    pub sent: Option<u64>,
    /// Bytes that went to the device (Acct-Output-Octets and Acct-Output-Gigawords).
    pub received: Option<u64>,
    /// Acct-Terminate-Cause: why it ended.
    pub cause: Option<u32>,
}

/// What is reported (Acct-Status-Type, RFC 2866 section 5.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
    /// Something else, by its number.
    Other(u32),
}

impl ReportStatus {
    /// The status of this number.
    pub fn of(number: u32) -> Self {
        match number {
            1 => Self::Start,
            2 => Self::Stop,
            3 => Self::Interim,
            7 => Self::On,
            8 => Self::Off,
            other => Self::Other(other),
        }
    }
}

/// As the RFCs name it (RFC 2867 section 3 for tunnels).
impl fmt::Display for ReportStatus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Start => "Start",
            Self::Stop => "Stop",
            Self::Interim => "Interim-Update",
            Self::On => "Accounting-On",
            Self::Off => "Accounting-Off",
            Self::Other(9) => "Tunnel-Start",
            Self::Other(10) => "Tunnel-Stop",
            Self::Other(11) => "Tunnel-Reject",
            Self::Other(12) => "Tunnel-Link-Start",
            Self::Other(13) => "Tunnel-Link-Stop",
            Self::Other(14) => "Tunnel-Link-Reject",
            Self::Other(15) => "Failed",
            Self::Other(number) => return write!(f, "status {number}"),
        })
    }
}

impl<'p> Report<'p> {
    /// Reads it; of several attributes of one number the first counts.
    pub fn read(attributes: Attributes<'p>) -> Self {
        const NUMBERS: [u8; 9] = [
            number::ACCT_STATUS_TYPE,
            number::ACCT_DELAY_TIME,
            number::ACCT_INPUT_OCTETS,
            number::ACCT_OUTPUT_OCTETS,
            number::ACCT_SESSION_ID,
            number::ACCT_SESSION_TIME,
            number::ACCT_TERMINATE_CAUSE,
            number::ACCT_INPUT_GIGAWORDS,
            number::ACCT_OUTPUT_GIGAWORDS,
        ];
        let mut found = [None; NUMBERS.len()];
        for attribute in attributes.clone() {
            if let Some(place) = NUMBERS.iter().position(|number| *number == attribute.number) {
                found[place].get_or_insert(attribute.value);
            }
        }
        let [status, delay, input, output, session, seconds, cause, more_input, more_output] = found;
        // RFC 2869 section 5.1: how often the other counter went round.
        let bytes = |low: Option<&[u8]>, high: Option<&[u8]>| match (integer(low), integer(high)) {
            (None, None) => None,
            (low, high) => Some(u64::from(high.unwrap_or(0)) << 32 | u64::from(low.unwrap_or(0))),
        };
        Self {
            status: ReportStatus::of(integer(status).unwrap_or(0)),
            about: Whereabouts::read(attributes),
            session: session.map(String::from_utf8_lossy),
            delay: integer(delay).unwrap_or(0),
            seconds: integer(seconds),
            sent: bytes(input, more_input),
            received: bytes(output, more_output),
            cause: integer(cause),
        }
    }
}
