use std::sync::Arc;
use std::time::Duration;

use regnant_policy::{Consequence, Decided, Event, Facts, IdentityKind, Reaction, Trace};
use regnant_radius::{BuildError, Builder, Code, Packet, number};
use ulid::Ulid;

use crate::edition::Edition;
use crate::facts::request::Derived;
use crate::facts::situation::{Device, Situation, User};
use crate::facts::table::FactTable;
use crate::hear::Heard;
use crate::proof::{LookUpRecord, Stop, prove};
use crate::stores::Stores;

/// One decision with all that led to it. It is cheap to make; [`crate::Record`]
/// turns it into what the journal keeps.
#[derive(Debug)]
pub struct Decision {
    /// Its id.
    pub id: Ulid,
    /// The request.
    pub heard: Heard,
    /// The edition that decided.
    pub edition: Arc<Edition>,
    /// What was decided.
    pub verdict: Verdict,
    /// The signed reply; none where the verdict is silence.
    pub reply: Option<Vec<u8>>,
    pub(crate) gate: Option<usize>,
    pub(crate) end: End,
    pub(crate) user: User,
    pub(crate) device: Device,
    pub(crate) lookups: Vec<LookUpRecord>,
    pub(crate) trace: Trace,
    pub(crate) times: Times,
}

/// What was decided.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Access by a combination of grants of the edition.
    Grant(usize),
    /// Access-Reject, perhaps with a text.
    Refuse(Option<String>),
    /// No answer.
    Silence,
}

/// Where the decision fell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum End {
    /// No gate takes the request.
    NoGate,
    /// The gate does not accept the method.
    MethodNotAccepted,
    /// The request carries no credential that anybody knows.
    NoCredential,
    /// Proof of identity ended in an event.
    Proof(IdentityKind, Event),
    /// A rule, by its place in the gate.
    Rule(usize),
    /// No rule was true.
    Otherwise,
    /// A rule that refuses hangs on a store that did not answer.
    Undetermined(usize),
    /// The reply cannot be made: the NAS's dialect is unknown to the edition, or
    /// what must be echoed does not fit a packet.
    NoReply(String),
}

/// Time since the packet was received, at the end of each station.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Times {
    pub(crate) gate: Duration,
    pub(crate) proof: Duration,
    pub(crate) rules: Duration,
    pub(crate) reply: Duration,
}

/// Decides a request. `elapsed` tells the time since its packet was received.
pub async fn decide<S: Stores>(
    id: Ulid,
    heard: Heard,
    edition: Arc<Edition>,
    table: &FactTable,
    stores: &S,
    elapsed: impl Fn() -> Duration + Send + Sync,
) -> Decision {
    let nas = heard.nas.clone();
    let packet = heard.packet();
    let mut situation = Situation {
        table,
        nas: &nas,
        address: heard.source.ip(),
        packet,
        derived: Derived::read(&packet, &nas),
        user: User::Absent,
        device: Device::Absent,
    };
    let mut course =
        Course { edition: &edition, trace: Trace::default(), times: Times::default(), lookups: Vec::new() };
    course.trace.rules.reserve(8);
    course.trace.leaves.reserve(8);
    let gate = course.edition.policy.choose_gate(&situation as &dyn Facts, &mut course.trace);
    course.times.gate = elapsed();
    let (mut end, mut verdict) = match gate {
        Some(gate) => course.through(gate, &mut situation, stores, &elapsed).await,
        None => (End::NoGate, Verdict::Refuse(None)),
    };
    course.times.rules = elapsed();
    let reply = match reply(&heard, &edition, &verdict) {
        Ok(reply) => reply,
        Err(reason) => {
            (end, verdict) = (End::NoReply(reason), Verdict::Silence);
            None
        }
    };
    course.times.reply = elapsed();
    let Situation { user, device, .. } = situation;
    let Course { trace, times, lookups, .. } = course;
    Decision { id, edition, verdict, reply, gate, end, user, device, lookups, trace, times, heard }
}

/// What is noted on the way.
struct Course<'e> {
    edition: &'e Edition,
    trace: Trace,
    times: Times,
    lookups: Vec<LookUpRecord>,
}

impl Course<'_> {
    async fn through<S: Stores>(
        &mut self,
        gate: usize,
        situation: &mut Situation<'_>,
        stores: &S,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> (End, Verdict) {
        let definition = &self.edition.policy.gates()[gate];
        let refused = |end| (end, Verdict::Refuse(None));
        let method = match situation.derived.carrier {
            None => return refused(End::NoCredential),
            Some(carrier) => match carrier.method() {
                Some(method) if definition.accept.contains(&method) => method,
                _ => return refused(End::MethodNotAccepted),
            },
        };
        let proof = prove(situation, definition, method, stores, &mut self.lookups).await;
        self.times.proof = elapsed();
        if let Err(Stop { kind, event, reaction }) = proof {
            let verdict = match reaction {
                Reaction::Refuse(text) => Verdict::Refuse(text),
                _ => Verdict::Silence,
            };
            return (End::Proof(kind, event), verdict);
        }
        let consequence = |consequence: &Consequence| match consequence {
            Consequence::Grant(set) => Verdict::Grant(*set),
            Consequence::Refuse(text) => Verdict::Refuse(text.clone()),
            Consequence::Silence => Verdict::Silence,
        };
        match self.edition.policy.decide(gate, situation as &dyn Facts, &mut self.trace) {
            Decided::Rule(rule) => (End::Rule(rule), consequence(&definition.rules[rule].then)),
            Decided::Otherwise => (End::Otherwise, consequence(&definition.otherwise)),
            Decided::Undetermined(rule) => (End::Undetermined(rule), Verdict::Silence),
        }
    }
}

fn reply(heard: &Heard, edition: &Edition, verdict: &Verdict) -> Result<Option<Vec<u8>>, String> {
    let request = heard.packet();
    let identifier = request.identifier();
    let builder = match verdict {
        Verdict::Silence => return Ok(None),
        Verdict::Grant(set) => {
            let dialect = &heard.nas.dialect;
            // Access without its attributes would be more than was granted.
            let attributes = edition
                .attributes(dialect, *set)
                .ok_or_else(|| format!("edition {} does not know the dialect `{dialect}`", edition.number))?;
            let mut builder = Builder::new(Code::ACCESS_ACCEPT, identifier);
            builder.encoded(attributes).map(|()| builder)
        }
        Verdict::Refuse(text) => refusal(&request, text.as_deref()),
    };
    let reply = builder.and_then(|builder| builder.reply(&request, &heard.nas.secret));
    reply.map(Some).map_err(|error| error.to_string())
}

fn refusal(request: &Packet<'_>, text: Option<&str>) -> Result<Builder, BuildError> {
    let mut builder = Builder::new(Code::ACCESS_REJECT, request.identifier());
    match (request.first(number::EAP_MESSAGE), text) {
        // RFC 3579 section 2.6.5: no Reply-Message beside EAP-Message.
        (Some(eap), _) => builder.attribute(number::EAP_MESSAGE, &eap_failure(eap))?,
        (None, Some(text)) => builder.attribute(number::REPLY_MESSAGE, text.as_bytes())?,
        (None, None) => {}
    }
    Ok(builder)
}

/// EAP-Failure for the request's identifier (RFC 3748 section 4.2), so that a
/// supplicant does not wait where no gate accepts EAP.
fn eap_failure(response: &[u8]) -> [u8; 4] {
    [4, response.get(1).copied().unwrap_or(0), 0, 4]
}
