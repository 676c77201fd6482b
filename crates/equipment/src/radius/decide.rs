//! From a request to a signed reply.

use std::time::Duration;

use regnant_decision::{
    Carrier, Decided, Ending, Findings, KeptRequest, Purpose, RequestFacts, Resources, Times, Unfit,
};
use regnant_evidence::Decision;
use regnant_policy::{Facts, Gate, Method};
use regnant_radius::number;
use ulid::Ulid;

use crate::edition::ActiveEdition;
use crate::radius::accept::AcceptedRequest;
use crate::radius::conversation::Conversation;
use crate::radius::exchange::{RadiusExchange, Signed};
use crate::radius::lists::{self, Listed};
use crate::radius::reply::{self, Beside};
use crate::radius::request::RadiusRequest;

/// What came of a packet.
#[derive(Debug)]
pub enum Handled {
    /// A decision.
    Decided(Box<Decision>),
    /// An EAP conversation goes on: the reply, the State that its next packet will
    /// carry, and the conversation itself.
    Challenge {
        /// The signed reply.
        reply: Vec<u8>,
        /// The State in it.
        state: [u8; 16],
        /// The conversation.
        conversation: Box<Conversation>,
    },
}

/// Decides a request, or begins a conversation with it. `elapsed` tells the time
/// since its packet was received. A request that carries a State belongs to a
/// conversation, which goes on by [`Conversation::go_on`]; here it is one that
/// nobody knows.
pub async fn decide(
    id: Ulid,
    accepted: AcceptedRequest,
    active: &ActiveEdition,
    resources: &Resources<'_>,
    elapsed: impl Fn() -> Duration + Send + Sync,
) -> Handled {
    let asked = RadiusRequest::new(accepted, active);
    if let Some(Listed { ending, reply }) = lists::answer(&asked.accepted, active) {
        let decided = Decided::at_once(None, ending, elapsed());
        return Handled::Decided(Box::new(decision(id, asked, decided, reply, elapsed())));
    }
    let (table, known, now) = (&*active.policy.table, Findings::default(), id.timestamp_ms());
    let mut facts = RequestFacts { table, request: asked.request(), known, now };
    let policy = &active.policy.policy;
    let gate = policy.choose_gate(&facts as &dyn Facts);
    let chosen_at = elapsed();
    let (carrier, purpose) = (facts.request.carrier, facts.request.purpose);
    let eap = asked.read.eap;
    let begins = |gate: &Gate| match carrier {
        Some(Carrier::Mac) => gate.accepts(Method::Mac),
        _ => gate.accept.iter().any(|accepted| accepted.method.is_eap()),
    };
    let unfit = |gate, unfit| Decided::unfit(gate, unfit, chosen_at);
    let decided = match gate {
        None => unfit(None, Unfit::NoGate),
        // Only EAP goes on in conversations (RFC 3579 section 2.6.1).
        Some(gate) if eap && asked.accepted.packet().first(number::STATE).is_some() => {
            unfit(Some(gate), Unfit::UnknownConversation)
        }
        Some(gate) if eap && begins(&policy.gates()[gate]) => {
            drop(facts);
            let times = Times { gate: chosen_at, ..Times::default() };
            // On the heap: what conversations need would make every request's future large.
            return Box::pin(Conversation::begin(id, asked, active, (gate, times), resources, &elapsed)).await;
        }
        Some(gate) => {
            regnant_decision::decide(&active.policy, (gate, chosen_at), &mut facts, resources, &elapsed).await
        }
    };
    let made = plain_reply(&asked, &decided, (id, purpose, resources));
    Handled::Decided(Box::new(decision(id, asked, decided, made, elapsed())))
}

/// The reply to a request that is no conversation.
fn plain_reply(
    asked: &RadiusRequest,
    decided: &Decided,
    (id, purpose, resources): (Ulid, Option<Purpose>, &Resources<'_>),
) -> Result<Option<Signed>, String> {
    let RadiusRequest { accepted, edition, secrets, .. } = asked;
    // Access without its attributes would be more than was granted.
    let attributes = match decided.ending.grants() {
        Some(grants) => asked.attributes(grants)?,
        None => &[],
    };
    let wanted = decided.ending.grants().map_or(&[][..], |grants| edition.secrets(grants));
    // Most replies need none.
    let salted = decided.session_key.is_some() || !wanted.is_empty();
    let salts = if salted { reply::salts(resources.random) } else { [0; 2] };
    let secrets = secrets.attributes(wanted, accepted, edition.vocabulary.dictionary(), salts)?;
    let known = &decided.known;
    match &decided.ending {
        Ending::Silent { .. } | Ending::Unanswerable(_) | Ending::Left(_) | Ending::Told(_) => Ok(None),
        Ending::Granted { .. } | Ending::Observed { .. } => {
            let proved = known.user.proved().or_else(|| known.machine.proved());
            let beside = Beside {
                eap: None,
                user_name: decided.gate.and_then(|gate| {
                    let asked = accepted.packet().first(number::USER_NAME);
                    let asked = asked.and_then(|name| std::str::from_utf8(name).ok());
                    let proved = proved.map(|proved| proved.account.name.as_str());
                    reply::user_name(&edition.policy.gates()[gate], asked, None, proved)
                }),
                chargeable: reply::chargeable(accepted, resources.secret, proved, &known.device),
                class: reply::class(accepted, edition, purpose, (id, resources.secret)),
                secrets,
                ms_chap: decided.session_key.as_ref().map(|key| (key, salts)),
            };
            reply::acceptance(accepted, attributes, &beside).map(Some)
        }
        Ending::Refused { .. } | Ending::Unfit(_) => {
            reply::plain_refusal(accepted, &decided.ending, resources.random).map(Signed::from).map(Some)
        }
    }
}

/// A decision with the reply that was made of it; where none could be, nobody is answered.
pub(crate) fn decision(
    id: Ulid,
    asked: RadiusRequest,
    mut decided: Decided,
    reply: Result<Option<Signed>, String>,
    replied_at: Duration,
) -> Decision {
    let reply = reply.unwrap_or_else(|why| {
        decided.ending = Ending::Unanswerable(why);
        None
    });
    let edition = asked.edition.clone();
    let exchange = Box::new(RadiusExchange::new(asked, reply, decided.ending.grants()));
    Decision { id, exchange, edition, decided, replied_at }
}
