//! MS-CHAP outside EAP (RFC 2548 section 2): the credential of a request, and what goes back.

use regnant_base::Secret;
use regnant_decision::{Because, Ending, Presented};
use regnant_eap::{Credential, MsChapResponse, mschap};
use regnant_policy::{Event, Method};
use regnant_radius::{BuildError, Builder, MsChapSent, Packet};

use crate::radius::accept::AcceptedRequest;

/// RFC 2759 section 6.
const ACCOUNT_DISABLED: u32 = 647;
const PASSWORD_EXPIRED: u32 = 648;
const NO_PERMISSION: u32 = 649;
const WRONG_PASSWORD: u32 = 691;
/// What of a text fits beside the rest of MS-CHAP-Error.
const LONGEST_MESSAGE: usize = 150;

/// The credential of a request, and the method that it is of.
pub(crate) fn presented(packet: &Packet<'_>, name: Option<&str>) -> Option<(Presented, Method)> {
    let (challenge, response, method) = answered(&packet.ms_chap()?, name?);
    let response = MsChapResponse { challenge, response };
    Some((Presented::Credential(Credential::MsChap(response)), method))
}

/// What the response answers to, the response and its method.
fn answered(sent: &MsChapSent<'_>, name: &str) -> ([u8; 8], [u8; 24], Method) {
    match *sent {
        MsChapSent::Version1 { challenge, response, .. } => (*challenge, *response, Method::MsChap),
        MsChapSent::Version2 { challenge, peer_challenge, response, .. } => {
            (mschap::challenge_hash(peer_challenge, challenge, name), *response, Method::MsChapV2)
        }
    }
}

/// Adds what an Access-Accept says: the proof that we know the password too, and the keys
/// that follow from it.
pub(crate) fn add_success(
    builder: &mut Builder,
    accepted: &AcceptedRequest,
    key: &Secret,
    salts: [u16; 2],
) -> Result<(), BuildError> {
    let request = accepted.packet();
    let name = request.first(regnant_radius::number::USER_NAME).and_then(|name| std::str::from_utf8(name).ok());
    let (Some(sent), Ok(key), Some(name)) = (request.ms_chap(), <[u8; 16]>::try_from(key.expose()), name) else {
        return Ok(());
    };
    let (challenge, response, method) = answered(&sent, name);
    if method == Method::MsChap {
        return builder.ms_chap_keys(&key, request.authenticator(), accepted.secret());
    }
    builder.ms_chap2_success(sent.identifier(), &mschap::authenticator_response(&key, &response, &challenge))?;
    let keys = mschap::session_keys(&key, &response);
    builder.session_keys([&keys[..16], &keys[16..]], salts, request.authenticator(), accepted.secret())
}

/// Adds what an Access-Reject says, where the request was of MS-CHAP. `random` is a
/// challenge that nobody may answer: it is part of the form (RFC 2759 section 6).
pub(crate) fn add_error(
    builder: &mut Builder,
    accepted: &AcceptedRequest,
    ending: &Ending,
    text: Option<&str>,
    random: [u8; 16],
) -> Result<(), BuildError> {
    let Some(sent) = accepted.packet().ms_chap() else { return Ok(()) };
    let code = match ending {
        Ending::Refused { by: Because::Proof(_, Event::Disabled), .. } => ACCOUNT_DISABLED,
        Ending::Refused { by: Because::Proof(_, Event::Expired), .. } => PASSWORD_EXPIRED,
        Ending::Refused { by: Because::Proof(..), .. } => WRONG_PASSWORD,
        _ => NO_PERMISSION,
    };
    let mut told = format!("E={code} R=0");
    if let MsChapSent::Version2 { .. } = sent {
        let challenge: String = random.iter().map(|byte| format!("{byte:02X}")).collect();
        let message: String = text.unwrap_or_default().chars().filter(|c| !c.is_control()).collect();
        let end = message.floor_char_boundary(LONGEST_MESSAGE);
        told += &format!(" C={challenge} V=3 M={}", &message[..end]);
    }
    builder.ms_chap_error(sent.identifier(), &told)
}
