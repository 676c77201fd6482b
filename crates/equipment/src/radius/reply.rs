//! The packets that go back.

use regnant_base::Secret;
use regnant_decision::{DeviceLookUp, Ending, Proved, Purpose};
use regnant_eap::Keys;
use regnant_policy::{Gate, TellName};
use regnant_radius::{BuildError, Builder, Code, number};
use sha2::{Digest, Sha256};
use ulid::Ulid;

use crate::edition::Edition;
use crate::radius::accept::AcceptedRequest;
use crate::radius::accounting::DecisionClass;
use crate::radius::exchange::Signed;
use crate::radius::ms_chap;

/// Two salts that differ (RFC 2548 section 2.4.2), by less than 256.
pub(crate) fn salts(random: fn(&mut [u8])) -> [u16; 2] {
    let mut bytes = [0; 3];
    random(&mut bytes);
    let first = u16::from_be_bytes([bytes[0], bytes[1]]);
    [first, first ^ (u16::from(bytes[2]) | 1)]
}

/// RFC 5176 section 3.6: the EAP packet was invalid and ignored.
const INVALID_EAP_PACKET: u32 = 202;

/// What an Access-Accept says beside its grants.
#[derive(Default)]
pub(crate) struct Beside<'k> {
    pub(crate) eap: Option<EapReply<'k>>,
    pub(crate) user_name: Option<&'k str>,
    pub(crate) chargeable: Option<String>,
    /// By which reports on this access find the decision; after the Class of the grants.
    pub(crate) class: Option<DecisionClass>,
    /// Attributes that carry secrets, encoded for this reply.
    pub(crate) secrets: Vec<u8>,
    /// The session key of MS-CHAP outside EAP, and salts for what is made of it.
    pub(crate) ms_chap: Option<(&'k Secret, [u16; 2])>,
}

/// What EAP adds to an Access-Accept.
pub(crate) struct EapReply<'k> {
    pub(crate) packet: &'k [u8],
    pub(crate) keys: Option<&'k Keys>,
    pub(crate) salts: [u16; 2],
}

/// An Access-Accept with the attributes of a combination of grants.
pub(crate) fn acceptance(accepted: &AcceptedRequest, attributes: &[u8], beside: &Beside<'_>) -> Result<Signed, String> {
    let request = accepted.packet();
    let mut builder = Builder::new(Code::ACCESS_ACCEPT, request.identifier());
    let from = builder.len();
    let build = || {
        match &beside.eap {
            None => builder.encoded(attributes)?,
            // RFC 3579 section 2.6.5: no Reply-Message beside EAP-Message.
            Some(_) => builder.encoded_without(number::REPLY_MESSAGE, attributes)?,
        }
        // Where one was left out they do not stand there as the edition has them.
        let grants = (builder.len() - from == attributes.len()).then(|| from..builder.len());
        if let Some(eap) = &beside.eap {
            builder.eap_message(eap.packet)?;
            if let Some(keys) = eap.keys {
                let secret = accepted.secret();
                let (recv, send) = keys.msk.expose().split_at_checked(32).unwrap_or_default();
                builder.session_keys([recv, send], eap.salts, request.authenticator(), secret)?;
                // RFC 7268 section 2.1: only where the equipment asks for it.
                if request.first(number::EAP_KEY_NAME).is_some() && !keys.session_id.is_empty() {
                    builder.attribute(number::EAP_KEY_NAME, &keys.session_id)?;
                }
            }
        }
        if let Some(name) = beside.user_name.filter(|name| !name.is_empty() && name.len() <= LONGEST_VALUE) {
            builder.attribute(number::USER_NAME, name.as_bytes())?;
        }
        if let Some(class) = &beside.class {
            builder.attribute(number::CLASS, class.as_bytes())?;
        }
        builder.encoded(&beside.secrets)?;
        if let Some((key, salts)) = beside.ms_chap {
            ms_chap::add_success(&mut builder, accepted, key, salts)?;
        }
        if let Some(chargeable) = &beside.chargeable {
            builder.attribute(number::CHARGEABLE_USER_IDENTITY, chargeable.as_bytes())?;
        }
        Ok(Signed { bytes: builder.reply(&request, accepted.secret())?, grants })
    };
    build().map_err(|error: BuildError| error.to_string())
}

/// The Class of ours that an Access-Accept carries: where the make of the equipment repeats
/// several, and not at logins of administrators, since some makes read their role from it,
/// unless the NAS is set so. What is not known to be for a network may be such a login.
pub(crate) fn class(
    accepted: &AcceptedRequest,
    edition: &Edition,
    purpose: Option<Purpose>,
    (id, secret): (Ulid, &[u8; 32]),
) -> Option<DecisionClass> {
    let wanted = match purpose {
        Some(Purpose::Network | Purpose::Vpn) => true,
        Some(Purpose::Login) | None => accepted.credentials().class_at_login,
    };
    (wanted && edition.takes_several_classes(&accepted.nas.dialect)).then(|| DecisionClass::new(id, secret))
}

/// RFC 2865 section 5.
const LONGEST_VALUE: usize = 253;

/// Which User-Name the equipment is told. Its list of sessions is useless where
/// everybody in it is anonymous.
pub(crate) fn user_name<'n>(
    gate: &Gate,
    asked: Option<&'n str>,
    outer: Option<&str>,
    proved: Option<&'n str>,
) -> Option<&'n str> {
    match gate.tell_name {
        Some(TellName::Proved) => proved,
        Some(TellName::Asked) => asked,
        Some(TellName::None) => None,
        None => proved.filter(|_| outer.is_some_and(is_anonymous)),
    }
}

/// RFC 7542 section 2.4: the user part is empty, or says so.
fn is_anonymous(outer: &str) -> bool {
    let user = outer.split('@').next().unwrap_or_default();
    user.is_empty() || user.eq_ignore_ascii_case("anonymous")
}

/// An Access-Reject, with EAP-Failure or with a text for the person.
pub(crate) fn refusal(accepted: &AcceptedRequest, eap: Option<&[u8]>, text: Option<&str>) -> Result<Vec<u8>, String> {
    let request = accepted.packet();
    let mut builder = Builder::new(Code::ACCESS_REJECT, request.identifier());
    let build = || {
        match (eap, request.first(number::EAP_MESSAGE), text) {
            // RFC 3579 section 2.6.5: no Reply-Message beside EAP-Message.
            (Some(packet), ..) => builder.eap_message(packet)?,
            (None, Some(response), _) => builder.eap_message(&eap_failure(response))?,
            (None, None, Some(text)) => builder.attribute(number::REPLY_MESSAGE, text.as_bytes())?,
            (None, None, None) => {}
        }
        builder.reply(&request, accepted.secret())
    };
    build().map_err(|error: BuildError| error.to_string())
}

/// An Access-Reject of a request that is no conversation.
pub(crate) fn plain_refusal(
    accepted: &AcceptedRequest,
    ending: &Ending,
    random: fn(&mut [u8]),
) -> Result<Vec<u8>, String> {
    let request = accepted.packet();
    let text = match ending {
        Ending::Refused { text, .. } => text.as_deref(),
        _ => None,
    };
    if request.ms_chap().is_none() {
        return refusal(accepted, None, text);
    }
    let mut builder = Builder::new(Code::ACCESS_REJECT, request.identifier());
    let mut challenge = [0; 16];
    random(&mut challenge);
    let build = || {
        ms_chap::add_error(&mut builder, accepted, ending, text, challenge)?;
        if let Some(text) = text {
            builder.attribute(number::REPLY_MESSAGE, text.as_bytes())?;
        }
        builder.reply(&request, accepted.secret())
    };
    build().map_err(|error: BuildError| error.to_string())
}

/// An Access-Challenge; `ignored` says that the EAP packet was.
pub(crate) fn challenge(
    accepted: &AcceptedRequest,
    packet: &[u8],
    state: &[u8],
    ignored: bool,
) -> Result<Vec<u8>, String> {
    let request = accepted.packet();
    let mut builder = Builder::new(Code::ACCESS_CHALLENGE, request.identifier());
    let build = || {
        builder.eap_message(packet)?;
        builder.attribute(number::STATE, state)?;
        if ignored {
            builder.attribute(number::ERROR_CAUSE, &INVALID_EAP_PACKET.to_be_bytes())?;
        }
        builder.reply(&request, accepted.secret())
    };
    build().map_err(|error: BuildError| error.to_string())
}

/// EAP-Failure for the response's identifier (RFC 3748 section 4.2), so that a
/// supplicant does not wait where no gate accepts EAP.
fn eap_failure(response: &[u8]) -> [u8; 4] {
    [4, response.get(1).copied().unwrap_or(0), 0, 4]
}

/// An opaque name for whoever was let in, the same for the same account or device
/// (RFC 4372 section 2.2), where the equipment asks for it.
pub(crate) fn chargeable(
    accepted: &AcceptedRequest,
    secret: &[u8; 32],
    proved: Option<&Proved>,
    device: &DeviceLookUp,
) -> Option<String> {
    accepted.packet().first(number::CHARGEABLE_USER_IDENTITY)?;
    match (proved, device) {
        (Some(proved), _) => Some(opaque(secret, &proved.store, &proved.account.name)),
        (None, DeviceLookUp::Listed(mac, ..) | DeviceLookUp::Unlisted(mac)) => {
            Some(opaque(secret, "mac", &mac.to_string()))
        }
        (None, _) => None,
    }
}

fn opaque(secret: &[u8; 32], store: &str, name: &str) -> String {
    let digest = Sha256::new()
        .chain_update(secret)
        .chain_update(store.as_bytes())
        .chain_update([0])
        .chain_update(name.to_lowercase().as_bytes())
        .finalize();
    digest[..16].iter().map(|byte| format!("{byte:02x}")).collect()
}
