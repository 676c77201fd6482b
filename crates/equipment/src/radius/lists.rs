//! Access lists by reference: the reply names a list, the equipment asks for its entries.
//!
//! Such a request proves nobody. It meets no gate, and gets entries and nothing else: no
//! grant, no Class, no key; and only of lists that a grant can give to this NAS.

use regnant_decision::{Ending, Unfit};
use regnant_radius::{Builder, Code, Definition, Packet, Value, number};

use crate::edition::ActiveEdition;
use crate::radius::accept::AcceptedRequest;
use crate::radius::exchange::Signed;
use crate::radius::reply;

/// What a request for a list came to: how it ends, and the signed reply.
pub(crate) struct Listed {
    pub(crate) ending: Ending,
    pub(crate) reply: Result<Option<Signed>, String>,
}

/// A part of a list.
struct Part {
    what: String,
    entries: Vec<u8>,
    next: Option<u64>,
}

/// What no request for a list carries: whoever proves something asks for something else.
const CREDENTIALS: [(u8, &str); 4] = [
    (number::USER_PASSWORD, "User-Password"),
    (number::CHAP_PASSWORD, "CHAP-Password"),
    (number::EAP_MESSAGE, "EAP-Message"),
    (number::STATE, "State"),
];

/// The answer to a request for a list; none where this is no such request.
pub(crate) fn answer(accepted: &AcceptedRequest, active: &ActiveEdition) -> Option<Listed> {
    let dictionary = active.edition.vocabulary.dictionary();
    let (ask, part) = active.edition.asks_for_lists(&accepted.nas.dialect)?;
    let packet = accepted.packet();
    let asked = dictionary.values(packet.attributes(), ask.id);
    let label = String::from_utf8_lossy(asked.first()?);
    Some(match asks_rightly(&packet).and_then(|()| find(accepted, active, part, &label)) {
        Err(why) => {
            let reply = reply::refusal(accepted, None, None).map(Signed::from).map(Some);
            Listed { ending: Ending::Unfit(Unfit::NotTold(why)), reply }
        }
        Ok(found) => {
            let mut builder = Builder::new(Code::ACCESS_ACCEPT, packet.identifier());
            let next = found.next.map(|next| next.to_string());
            let next = next.iter().map(|next| (part.name.as_str(), next.as_str()));
            let built = dictionary.encode(next).map_err(|error| error.to_string()).and_then(|next| {
                let build = builder.encoded(&found.entries).and_then(|()| builder.encoded(&next));
                let build = build.and_then(|()| builder.reply(&packet, accepted.secret()));
                build.map_err(|error| error.to_string())
            });
            Listed { ending: Ending::Told(found.what), reply: built.map(Signed::from).map(Some) }
        }
    })
}

fn asks_rightly(packet: &Packet<'_>) -> Result<(), String> {
    if packet.first(number::MESSAGE_AUTHENTICATOR).is_none() {
        return Err("Message-Authenticator is missing, without which nobody is told a list".into());
    }
    let credential = CREDENTIALS.iter().find(|(number, _)| packet.first(*number).is_some()).map(|(_, name)| *name);
    match credential.or_else(|| (packet.ms_chap_parts() != (0, 0)).then_some("a response of MS-CHAP")) {
        Some(name) => Err(format!("it carries {name}, and whoever asks for a list proves nothing")),
        None => Ok(()),
    }
}

fn find(accepted: &AcceptedRequest, active: &ActiveEdition, part: &Definition, label: &str) -> Result<Part, String> {
    let dictionary = active.edition.vocabulary.dictionary();
    let number = dictionary.values(accepted.packet().attributes(), part.id);
    let number = match number.first().map(|bytes| Value::read(part, bytes)) {
        None => 1,
        Some(Value::Integer(number)) => number,
        Some(_) => return Err(format!("{} is no number", part.name)),
    };
    let editions = std::iter::once(&active.edition).chain(active.earlier.iter());
    let found = editions.map(|edition| edition.list_for(&accepted.nas, label)).find_map(Result::transpose);
    let shown: String = label.chars().take(100).collect();
    let parts = found.transpose()?.ok_or_else(|| format!("no grant can give it a list called {shown:?}"))?;
    let place = usize::try_from(number).ok().and_then(|number| number.checked_sub(1));
    let all = parts.len();
    let entries = place.and_then(|place| parts.into_iter().nth(place));
    let entries = entries.ok_or_else(|| format!("{shown} has {all} parts, and it asked for part {number}"))?;
    let next = Some(number + 1).filter(|_| number < all as u64);
    Ok(Part { what: format!("part {number} of {all} of {shown}"), entries, next })
}
