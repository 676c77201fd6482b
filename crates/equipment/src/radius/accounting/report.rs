use regnant_evidence::{Report, ReportStatus, Whereabouts};
use regnant_radius::{Packet, number};

use crate::radius::request::{integer, port};

/// What an Accounting-Request says (RFC 2866 section 5, RFC 2869 section 5); of several attributes of one number the
/// first counts.
pub(super) fn read(packet: &Packet<'_>) -> Report {
    const NUMBERS: [u8; 13] = [
        number::ACCT_STATUS_TYPE,
        number::ACCT_DELAY_TIME,
        number::ACCT_INPUT_OCTETS,
        number::ACCT_OUTPUT_OCTETS,
        number::ACCT_SESSION_ID,
        number::ACCT_SESSION_TIME,
        number::ACCT_TERMINATE_CAUSE,
        number::ACCT_INPUT_GIGAWORDS,
        number::ACCT_OUTPUT_GIGAWORDS,
        number::USER_NAME,
        number::CALLING_STATION_ID,
        number::NAS_PORT,
        number::NAS_PORT_ID,
    ];
    let mut found = [None; NUMBERS.len()];
    for attribute in packet.attributes() {
        if let Some(place) = NUMBERS.iter().position(|number| *number == attribute.number) {
            found[place].get_or_insert(attribute.value);
        }
    }
    let [status, delay, input, output, session, seconds, cause, more_input, more_output, user, calling, at, at_name] =
        found;
    // RFC 2869 section 5.1: how often the other counter went round.
    let bytes = |low: Option<&[u8]>, high: Option<&[u8]>| match (integer(low), integer(high)) {
        (None, None) => None,
        (low, high) => Some(u64::from(high.unwrap_or(0)) << 32 | u64::from(low.unwrap_or(0))),
    };
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Report {
        status: self::status(integer(status).unwrap_or(0)),
        about: Whereabouts {
            user: user.map(text),
            device: calling.and_then(|calling| std::str::from_utf8(calling).ok()?.parse().ok()),
            port: port(at, at_name),
        },
        session: session.map(text),
        delay: integer(delay).unwrap_or(0),
        seconds: integer(seconds),
        sent: bytes(input, more_input),
        received: bytes(output, more_output),
        cause: integer(cause),
    }
}

/// What is reported (RFC 2866 section 5.1; RFC 2867 section 3 for tunnels).
fn status(number: u32) -> ReportStatus {
    let other = match number {
        1 => return ReportStatus::Start,
        2 => return ReportStatus::Stop,
        3 => return ReportStatus::Interim,
        7 => return ReportStatus::On,
        8 => return ReportStatus::Off,
        9 => "Tunnel-Start",
        10 => "Tunnel-Stop",
        11 => "Tunnel-Reject",
        12 => "Tunnel-Link-Start",
        13 => "Tunnel-Link-Stop",
        14 => "Tunnel-Link-Reject",
        15 => "Failed",
        other => return ReportStatus::Other(format!("status {other}")),
    };
    ReportStatus::Other(other.into())
}
