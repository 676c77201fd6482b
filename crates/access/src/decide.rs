use std::sync::Arc;
use std::time::Duration;

use regnant_policy::{Consequence, Decided, Facts, Reaction, Undetermined};
use regnant_radius::number;
use ulid::Ulid;

use crate::accept::AcceptedRequest;
use crate::eap::machines::{Machines, SeenMachine};
use crate::eap::offers::GateOffers;
use crate::eap::resumption::ResumptionTable;
use crate::eap::session::EapSession;
use crate::edition::Edition;
use crate::ending::{Because, Decider, Ending, Unfit};
use crate::evidence::eap::EapEvidence;
use crate::facts::packet_facts::{Carrier, PacketFacts};
use crate::facts::request_facts::{DeviceLookUp, Identity, ProofDetails, RequestFacts};
use crate::guesses::Guesses;
use crate::lookup::LookUp;
use crate::proof::{Stop, prove};
use crate::reply::{self, Beside};
use crate::stores::{BoundStores, Responders, Timer};

/// What decides: a policy, and what its gates offer over EAP.
#[derive(Clone, Debug)]
pub struct ActivePolicy {
    /// The policy with its grants.
    pub edition: Arc<Edition>,
    /// The certificates and methods of its gates.
    pub offers: Arc<GateOffers>,
    /// The stores that it names.
    pub stores: Arc<BoundStores>,
}

/// What decisions are made with, whatever the policy.
#[derive(Clone, Copy)]
pub struct Resources<'d> {
    /// EAP sessions that may be resumed.
    pub sessions: &'d Arc<ResumptionTable>,
    /// Machines that proved themselves.
    pub machines: &'d Machines,
    /// Who is asked about revoked certificates.
    pub responders: &'d dyn Responders,
    /// What slows the guessing of passwords.
    pub guesses: &'d dyn Guesses,
    /// What ends waiting.
    pub timer: &'d dyn Timer,
    /// Fills bytes with unpredictable values.
    pub random: fn(&mut [u8]),
    /// What opaque names are made with.
    pub secret: &'d [u8; 32],
    /// How often a password may be typed anew in one conversation.
    pub retries: u8,
    /// Milliseconds since 1970.
    pub now: u64,
}

/// What one decision is made with: what all are, and the stores of its own policy.
#[derive(Clone, Copy)]
pub(crate) struct Means<'d> {
    pub(crate) stores: &'d BoundStores,
    pub(crate) resources: &'d Resources<'d>,
}

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
        session: Box<EapSession>,
    },
}

impl Handled {
    pub(crate) fn decided(decision: Decision) -> Self {
        Self::Decided(Box::new(decision))
    }
}

/// One decision with all that led to it. It is cheap to make; [`crate::Evidence`]
/// is what the journal keeps of it.
#[derive(Debug)]
pub struct Decision {
    /// Its id.
    pub id: Ulid,
    /// The request; the first of a conversation.
    pub accepted: AcceptedRequest,
    /// The edition that decided.
    pub edition: Arc<Edition>,
    /// How it ended.
    pub ending: Ending,
    /// The signed reply; none where nothing goes back.
    pub reply: Option<Vec<u8>>,
    /// The machine that is remembered from now on.
    pub remembered: Option<Box<SeenMachine>>,
    pub(crate) gate: Option<usize>,
    pub(crate) user: Identity,
    pub(crate) machine: Identity,
    pub(crate) device: DeviceLookUp,
    pub(crate) told: ProofDetails,
    pub(crate) eap: Option<Box<EapEvidence>>,
    pub(crate) lookups: Vec<LookUp>,
    pub(crate) times: Times,
}

/// Time since the packet was received, at the end of each station.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Times {
    pub(crate) gate: Duration,
    pub(crate) proof: Duration,
    pub(crate) rules: Duration,
    pub(crate) reply: Duration,
}

/// Decides a request, or begins a conversation with it. `elapsed` tells the time
/// since its packet was received. A request that carries a State belongs to a
/// conversation, which goes on by [`EapSession::go_on`]; here it is one that nobody
/// knows.
pub async fn decide(
    id: Ulid,
    accepted: AcceptedRequest,
    active: &ActivePolicy,
    resources: &Resources<'_>,
    elapsed: impl Fn() -> Duration + Send + Sync,
) -> Handled {
    let (edition, means) = (&active.edition, Means { stores: &active.stores, resources });
    let nas = accepted.nas.clone();
    let packet = accepted.packet();
    let mut request_facts = RequestFacts {
        table: &edition.table,
        nas: &nas,
        address: accepted.source.ip(),
        packet,
        derived: PacketFacts::read(&packet, &nas),
        user: Identity::Absent,
        machine: Identity::Absent,
        device: DeviceLookUp::Absent,
        told: ProofDetails::default(),
        now: id.timestamp_ms(),
    };
    let mut times = Times::default();
    let mut lookups = Vec::new();
    let gate = edition.policy.choose_gate(&request_facts as &dyn Facts);
    times.gate = elapsed();
    let eap = request_facts.derived.carrier == Some(Carrier::Eap);
    let mut ending = match gate {
        None => Ending::Unfit(Unfit::NoGate),
        // Only EAP goes on in conversations (RFC 3579 section 2.6.1).
        Some(_) if eap && packet.first(number::STATE).is_some() => Ending::Unfit(Unfit::UnknownConversation),
        Some(gate) if eap && edition.policy.gates()[gate].accept.iter().any(|accepted| accepted.method.is_eap()) => {
            return EapSession::begin(id, accepted.clone(), active.clone(), (gate, times), resources, &elapsed).await;
        }
        Some(gate) => {
            let mut course = Course { edition, times: &mut times, lookups: &mut lookups };
            course.through(gate, &mut request_facts, means, &elapsed).await
        }
    };
    times.rules = elapsed();
    let made = match &ending {
        ending if ending.is_silent() => Ok(None),
        Ending::Granted { grants: set, .. } => {
            let proved = request_facts.user.proved().or_else(|| request_facts.machine.proved());
            let beside = Beside {
                eap: None,
                user_name: gate.and_then(|gate| {
                    let name = proved.map(|proved| proved.account.name.as_str());
                    reply::user_name(&edition.policy.gates()[gate], request_facts.derived.name, None, name)
                }),
                chargeable: reply::chargeable(&accepted, resources.secret, proved, &request_facts.device),
            };
            reply::acceptance(&accepted, edition, *set, &beside).map(Some)
        }
        Ending::Refused { text, .. } => reply::refusal(&accepted, None, text.as_deref()).map(Some),
        _ => reply::refusal(&accepted, None, None).map(Some),
    };
    let reply = made.unwrap_or_else(|reason| {
        ending = Ending::Unanswerable(reason);
        None
    });
    times.reply = elapsed();
    let RequestFacts { user, machine, device, told, .. } = request_facts;
    let edition = edition.clone();
    Handled::decided(Decision {
        id,
        edition,
        ending,
        reply,
        gate,
        user,
        machine,
        device,
        told,
        eap: None,
        lookups,
        times,
        accepted,
        remembered: None,
    })
}

/// What is noted on the way.
struct Course<'e> {
    edition: &'e Edition,
    times: &'e mut Times,
    lookups: &'e mut Vec<LookUp>,
}

impl Course<'_> {
    async fn through(
        &mut self,
        gate: usize,
        request_facts: &mut RequestFacts<'_>,
        means: Means<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Ending {
        let definition = &self.edition.policy.gates()[gate];
        let method = match request_facts.derived.carrier {
            None => return Ending::Unfit(Unfit::NoCredential),
            Some(carrier) => match carrier.method() {
                Some(method) if definition.accepts(method) => method,
                _ => return Ending::Unfit(Unfit::MethodNotAccepted),
            },
        };
        let proof = prove(request_facts, definition, method, means, self.lookups).await;
        self.times.proof = elapsed();
        match proof {
            Err(stop) => stop.decided(),
            Ok(()) => decide_by_rules(self.edition, gate, request_facts as &dyn Facts),
        }
    }
}

impl Stop {
    pub(crate) fn decided(self) -> Ending {
        let by = Because::Proof(self.kind, self.event);
        match self.reaction {
            Reaction::Refuse(text) => Ending::Refused { by, text },
            _ => Ending::Silent { by },
        }
    }
}

/// Tries the rules of a gate, all answers in hand.
pub(crate) fn decide_by_rules(edition: &Edition, gate: usize, facts: &dyn Facts) -> Ending {
    let definition = &edition.policy.gates()[gate];
    let (by, consequence) = match edition.policy.decide(gate, facts) {
        Decided::Rule(rule) => (Decider::Rule(rule as u32), &definition.rules[rule].then),
        Decided::Otherwise => (Decider::Otherwise, &definition.otherwise),
        Decided::Undetermined(rule) => {
            let by = Because::Undetermined(rule as u32);
            return match &definition.undetermined {
                Undetermined::Refuse(text) => Ending::Refused { by, text: text.clone() },
                Undetermined::Silence | Undetermined::Continue => Ending::Silent { by },
            };
        }
    };
    match consequence {
        Consequence::Grant(grants) => Ending::Granted { by, grants: *grants },
        Consequence::Refuse(text) => Ending::Refused { by: Because::Decider(by), text: text.clone() },
        Consequence::Silence => Ending::Silent { by: Because::Decider(by) },
    }
}
