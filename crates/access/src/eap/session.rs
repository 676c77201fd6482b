use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use regnant_eap::{Answer, CertificateFault, Chain, Claim, Conversation, Failure, IdentityType, Keys, Limits, Step};
use regnant_policy::{Event, Facts, Gate, IdentityKind, Reaction};
use regnant_radius::number;
use ulid::Ulid;

use crate::accept::AcceptedRequest;
use crate::decide::{ActivePolicy, Decision, Handled, Means, Resources, Times, decide_by_rules};
use crate::eap::identities::{check_claim, judge_chain, recall_machine, take_certificates, take_session, taken_chains};
use crate::eap::machines::SeenMachine;
use crate::eap::offers::GateOffer;
use crate::eap::resumption::{IdentityBefore, ProvedBefore, ResumptionHandle, Scope};
use crate::ending::{Because, Ending, Unfit};
use crate::evidence::eap::{EapEvidence, FailureEvidence, RoundEvidence};
use crate::facts::packet_facts::PacketFacts;
use crate::facts::request_facts::{DeviceLookUp, Identity, ProofDetails, RequestFacts};
use crate::facts::table::FactTable;
use crate::lookup::LookUp;
use crate::proof::{self, Stop, look_up_device, react_in, react_to_absence};
use crate::reply::{self, Beside, EapReply};

/// Headers of EAP over the link; what remains of Framed-MTU is for the packet.
const LINK_OVERHEAD: usize = 4;
/// What a conversation with its TLS connection takes.
const STATE_BYTES: usize = 16 << 10;
const SMALLEST_PACKET: usize = 256;
/// A reply with its other attributes should fit one Ethernet frame.
const LARGEST_PACKET: usize = 1_300;

/// One EAP conversation in progress. Gate, edition and certificates are those of
/// its first packet, to its end.
#[derive(Debug)]
pub struct EapSession {
    id: Ulid,
    active: ActivePolicy,
    gate: usize,
    first: AcceptedRequest,
    conversation: Conversation,
    sessions: Arc<ResumptionHandle>,
    proofs: Proofs,
    user: Identity,
    machine: Identity,
    device: DeviceLookUp,
    told: ProofDetails,
    times: Times,
    rounds: Vec<RoundEvidence>,
    decided: Option<Ending>,
    last_request: Vec<u8>,
}

/// What is proved and looked up on the way.
#[derive(Debug, Default)]
pub(crate) struct Proofs {
    pub(crate) lookups: Vec<LookUp>,
    /// What issuers said of certificates.
    pub(crate) asked: Vec<(String, String)>,
    /// Everybody who presented themselves, proved or not; the last of each kind.
    identities: Vec<IdentityBefore>,
}

/// What ends a conversation before any rule is tried.
enum Stopped {
    Event(Stop),
    Certificate(CertificateFault),
}

impl Stopped {
    fn decided(self) -> Ending {
        match self {
            Self::Event(stop) => stop.decided(),
            Self::Certificate(fault) => Ending::Unfit(Unfit::Conversation(FailureEvidence::certificate(fault, true))),
        }
    }
}

impl From<Stop> for Stopped {
    fn from(stop: Stop) -> Self {
        Self::Event(stop)
    }
}

impl From<CertificateFault> for Stopped {
    fn from(fault: CertificateFault) -> Self {
        Self::Certificate(fault)
    }
}

impl Proofs {
    pub(crate) fn note(
        &mut self,
        (kind, told): (IdentityKind, Option<IdentityType>),
        claimed: &str,
        outcome: &proof::ProofOutcome,
        chain: Chain,
    ) {
        self.identities.retain(|identity| identity.kind != kind);
        let (name, proof, password_mark) = match &outcome.identity {
            Identity::Proved(proved) => (&proved.claimed, proved.proof.clone(), proved.account.password_mark),
            Identity::NotProved { claimed, .. } => (claimed, String::new(), 0),
            Identity::Absent => return,
        };
        self.identities.push(IdentityBefore {
            kind,
            told,
            claimed: claimed.to_owned(),
            name: name.clone(),
            event: outcome.event,
            proof,
            password_mark,
            chain,
        });
    }

    /// The events that kept identities from being proved.
    fn failed(&self) -> impl DoubleEndedIterator<Item = (IdentityKind, Event)> {
        self.identities.iter().filter_map(|identity| Some((identity.kind, identity.event?)))
    }
}

impl EapSession {
    /// Begins a conversation at a gate with the packet that was heard.
    pub(crate) async fn begin(
        id: Ulid,
        accepted: AcceptedRequest,
        active: ActivePolicy,
        (gate, times): (usize, Times),
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Handled {
        let definition = &active.edition.policy.gates()[gate];
        let offer = active.offers.of(gate).cloned().unwrap_or_default();
        let scope = Scope {
            gate: definition.name.clone(),
            method: None,
            trust: definition.trust.as_ref().map(|trust| trust.name.clone()),
            certificate: definition.present.clone(),
            identifies: definition.identify.iter().map(|clause| clause.kind).collect(),
        };
        let resume = u64::from(definition.resume) * 1_000;
        let oldest = if resume == 0 { u64::MAX } else { resources.now.saturating_sub(resume) };
        let sessions =
            Arc::new(ResumptionHandle::new(resources.sessions.clone(), scope, definition.accept.clone(), oldest));
        let limits = Limits {
            packet: longest_packet(&accepted),
            retries: resources.retries,
            session_id: accepted.packet().first(number::EAP_KEY_NAME).is_some(),
            ..Limits::default()
        };
        let store = (resume > 0).then(|| sessions.clone() as Arc<dyn regnant_eap::Sessions>);
        let conversation = Conversation::new(offer.methods, store, limits, Box::new(resources.random));
        let session = Box::new(Self {
            id,
            active,
            gate,
            first: accepted.clone(),
            conversation,
            sessions,
            proofs: Proofs::default(),
            user: Identity::Absent,
            machine: Identity::Absent,
            device: DeviceLookUp::Absent,
            told: ProofDetails::default(),
            times,
            rounds: Vec::new(),
            decided: None,
            last_request: Vec::new(),
        });
        session.receive(&accepted, resources, elapsed).await
    }

    /// Goes on with the next packet. `elapsed` tells the time since the first.
    pub async fn go_on(
        self: Box<Self>,
        accepted: AcceptedRequest,
        resources: &Resources<'_>,
        elapsed: impl Fn() -> Duration + Send + Sync,
    ) -> Handled {
        self.receive(&accepted, resources, &elapsed).await
    }

    /// The end of a conversation that its peer left.
    pub fn abandon(mut self: Box<Self>) -> Decision {
        // Who was told why it fails, and then says nothing, did not merely leave.
        match (self.decided.take(), self.conversation.failing()) {
            (Some(ending @ (Ending::Refused { .. } | Ending::Unfit(_))), Some(Failure::Refused)) => {
                self.sessions.revoke();
                self.decision(ending, None, None)
            }
            (_, failure) => self.decision(Ending::Left(failure.as_ref().map(FailureEvidence::new)), None, None),
        }
    }

    /// Where its first packet came from.
    pub fn source(&self) -> SocketAddr {
        self.first.source
    }

    /// The NAS that it goes through.
    pub fn nas(&self) -> &str {
        &self.first.nas.name
    }

    /// Whether this packet may want public-key cryptography, which takes a hundred
    /// times as long as anything else here.
    pub fn may_need_public_key(&self, accepted: &AcceptedRequest) -> bool {
        self.conversation.may_need_public_key(accepted.packet().first(number::EAP_MESSAGE).unwrap_or_default())
    }

    /// Whether its verdict has fallen.
    pub fn has_verdict(&self) -> bool {
        self.decided.is_some()
    }

    /// The bytes that it holds: what its state takes, about, and all that came from
    /// its peer.
    pub fn bytes(&self) -> usize {
        STATE_BYTES + self.conversation.received()
    }

    async fn receive(
        mut self: Box<Self>,
        accepted: &AcceptedRequest,
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Handled {
        let at = elapsed();
        // RFC 3579 section 2.1: an empty EAP-Message is EAP-Start.
        let packet = accepted.packet().eap_message().unwrap_or_default();
        self.rounds.push(RoundEvidence::new(at, packet.len()));
        let step = match packet.len() {
            0..=2 if self.last_request.is_empty() => self.conversation.begin(),
            _ => self.conversation.receive(&packet),
        };
        self.drive(step, accepted, resources, elapsed).await
    }

    async fn drive(
        mut self: Box<Self>,
        mut step: Step,
        accepted: &AcceptedRequest,
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Handled {
        loop {
            if let Some(method) = self.conversation.about().method {
                self.sessions.set_method(method);
            }
            step = match step {
                Step::Send(packet) => {
                    self.last_request.clone_from(&packet);
                    return self.challenge(&packet, None, accepted, resources, elapsed);
                }
                Step::Ignore(_) if self.last_request.is_empty() => {
                    let failure = Failure::Malformed("the first packet is no identity");
                    return self.refuse(Ending::failed(&failure), None, accepted, elapsed);
                }
                Step::Ignore(why) => {
                    // RFC 3579 section 2.2: the request again, and that it was ignored.
                    let packet = self.last_request.clone();
                    return self.challenge(&packet, Some(why), accepted, resources, elapsed);
                }
                Step::Ask(claim) => {
                    let answer = self.check(&claim, resources).await;
                    self.times.proof = elapsed();
                    match answer {
                        Some(answer) => self.conversation.answer(answer),
                        None => return self.silence(elapsed),
                    }
                }
                Step::Verdict => {
                    self.told_of_conversation();
                    let ending = self.judge(resources, elapsed).await;
                    let (silent, accept) = (ending.is_silent(), ending.grants().is_some());
                    self.decided = Some(ending);
                    if silent {
                        return self.silence(elapsed);
                    }
                    self.conversation.conclude(accept)
                }
                Step::Accept(packet, keys) => return self.accept(packet, keys, accepted, resources, elapsed),
                Step::Refuse(packet, failure) => {
                    let ending = self.end_of(failure);
                    return self.refuse(ending, Some(packet), accepted, elapsed);
                }
            };
        }
    }

    /// Checks a credential; `None` where nobody is to be answered.
    async fn check(&mut self, claim: &Claim, resources: &Resources<'_>) -> Option<Answer> {
        self.told_of_conversation();
        let active = self.active.clone();
        let (edition, means) = (&active.edition, Means { stores: &active.stores, resources });
        let gate = &edition.policy.gates()[self.gate];
        let first = self.first.clone();
        let mut proofs = std::mem::take(&mut self.proofs);
        let mut request_facts = self.request_facts(&first, &edition.table);
        let about = self.conversation.about();
        let outcome = check_claim(claim, about, gate, &mut request_facts, &mut proofs, means).await;
        let kind = claim_kind(claim);
        *request_facts.identity_mut(kind) = outcome.identity;
        let RequestFacts { user, machine, device, told, .. } = request_facts;
        (self.user, self.machine, self.device, self.told, self.proofs) = (user, machine, device, told, proofs);
        let stop = react_in(gate, kind, outcome.event).err();
        if let Some(Stop { kind, event, reaction: Reaction::Silence }) = stop {
            self.decided = Some(Ending::Silent { by: Because::Proof(kind, event) });
            return None;
        }
        Some(outcome.answer)
    }

    /// All is proved: everybody is looked up, then the rules decide.
    async fn judge(&mut self, resources: &Resources<'_>, elapsed: &(impl Fn() -> Duration + Send + Sync)) -> Ending {
        let active = self.active.clone();
        let means = Means { stores: &active.stores, resources };
        let gate = &active.edition.policy.gates()[self.gate];
        let offer = active.offers.of(self.gate).cloned().unwrap_or_default();
        let first = self.first.clone();
        let mut proofs = std::mem::take(&mut self.proofs);
        let mut request_facts = self.request_facts(&first, &active.edition.table);
        let stopped = self.prove_all(gate, &offer, &mut request_facts, &mut proofs, means).await;
        self.times.proof = elapsed();
        let decided = match stopped {
            Err(stopped) => stopped.decided(),
            Ok(()) => {
                let facts = &request_facts as &dyn Facts;
                let ending = decide_by_rules(&active.edition, self.gate, facts);
                let dialect = &self.first.nas.dialect;
                // Nobody is told that they may come in before it is sure that the
                // equipment can be told how.
                match ending.grants().map(|grants| active.edition.attributes(dialect, grants).is_some()) {
                    Some(false) => Ending::Unanswerable(reply::unknown_dialect(active.edition.number, dialect)),
                    _ => ending,
                }
            }
        };
        self.times.rules = elapsed();
        let RequestFacts { user, machine, device, told, .. } = request_facts;
        (self.user, self.machine, self.device, self.told, self.proofs) = (user, machine, device, told, proofs);
        decided
    }

    async fn prove_all(
        &self,
        gate: &Gate,
        offer: &GateOffer,
        request_facts: &mut RequestFacts<'_>,
        proofs: &mut Proofs,
        means: Means<'_>,
    ) -> Result<(), Stopped> {
        let about = self.conversation.about();
        match self.resumed() {
            Some(before) => {
                for identity in &before.identities {
                    judge_chain(&identity.chain, offer, &mut proofs.asked, means).await?;
                }
                take_session(&before, about, gate, request_facts, proofs, means).await;
            }
            None => {
                // The handshakes have judged them, but waited for no issuer.
                for chain in taken_chains(about).filter(|_| offer.asks_issuers()) {
                    judge_chain(chain, offer, &mut proofs.asked, means).await?;
                }
                take_certificates(about, gate, request_facts, proofs, means).await;
            }
        }
        recall_machine(gate, offer, request_facts, proofs, means).await?;
        look_up_device(request_facts, gate, false, means, &mut proofs.lookups).await?;
        for (kind, event) in proofs.failed() {
            react_in(gate, kind, Some(event))?;
        }
        // The policy sees one claimed name: the user's, where there is one.
        if let Identity::Proved(proved) = &request_facts.user {
            let before = proofs.identities.iter().find(|identity| identity.kind == IdentityKind::User);
            request_facts.told.claimed = Some(before.map_or_else(|| proved.claimed.clone(), |b| b.claimed.clone()));
        }
        Ok(react_to_absence(request_facts, gate)?)
    }

    fn request_facts<'s>(&mut self, first: &'s AcceptedRequest, table: &'s FactTable) -> RequestFacts<'s> {
        let packet = first.packet();
        RequestFacts {
            table,
            nas: &first.nas,
            address: first.source.ip(),
            packet,
            derived: PacketFacts::read(&packet, &first.nas),
            user: std::mem::take(&mut self.user),
            machine: std::mem::take(&mut self.machine),
            device: std::mem::take(&mut self.device),
            told: std::mem::take(&mut self.told),
            now: self.id.timestamp_ms(),
        }
    }

    fn told_of_conversation(&mut self) {
        let about = self.conversation.about();
        self.told.method = about.method.map(|method| method.to_string());
        self.told.outer.clone_from(&about.identity);
        self.told.tls.clone_from(&about.tls);
        // A resumed session did without what its first conversation did.
        let before = self.resumed();
        let about = self.conversation.about();
        let inner = about.inner.iter().map(|inner| inner.method.clone());
        self.told.inner = before.iter().flat_map(|before| before.inner.clone()).chain(inner).collect();
        self.told.group = about.tls.as_ref().and_then(|tls| tls.group.clone());
        self.told.bound = about.bound;
        if let Some(before) = before {
            self.told.group = self.told.group.take().or_else(|| before.group.clone());
            self.told.bound = about.bound.map(|bound| bound && before.bound);
        }
        if self.told.claimed.is_none() && about.inner.is_empty() && about.tls.is_none() {
            // Without a tunnel the one identity is the claimed one.
            self.told.claimed.clone_from(&about.identity);
        }
    }

    /// What a failure of the conversation ends in: what was decided, where that is why
    /// it fails.
    fn end_of(&mut self, failure: Failure) -> Ending {
        match (self.decided.take(), failure, self.proofs.failed().next_back()) {
            (Some(ending @ (Ending::Refused { .. } | Ending::Unfit(_))), Failure::Refused, _) => ending,
            (None, Failure::Credential, Some((kind, event))) => {
                Ending::Refused { by: Because::Proof(kind, event), text: self.text_of(kind, event) }
            }
            (_, failure, _) => Ending::failed(&failure),
        }
    }

    fn challenge(
        mut self: Box<Self>,
        packet: &[u8],
        ignored: Option<&str>,
        accepted: &AcceptedRequest,
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Handled {
        let mut state = [0; 16];
        (resources.random)(&mut state);
        if let Some(round) = self.rounds.last_mut() {
            round.end(elapsed(), packet.len(), ignored);
        }
        match reply::challenge(accepted, packet, &state, ignored.is_some()) {
            Ok(reply) => Handled::Challenge { reply, state, session: self },
            Err(reason) => Handled::decided(self.decision(Ending::Unanswerable(reason), None, None)),
        }
    }

    fn silence(mut self: Box<Self>, elapsed: &(impl Fn() -> Duration + Send + Sync)) -> Handled {
        self.times.reply = elapsed();
        let ending = self.decided.take().unwrap_or(Ending::Left(None));
        Handled::decided(self.decision(ending, None, None))
    }

    fn refuse(
        mut self: Box<Self>,
        ending: Ending,
        packet: Option<Vec<u8>>,
        accepted: &AcceptedRequest,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Handled {
        self.told_of_conversation();
        // What was proved before does not hold any more, or never did.
        self.sessions.revoke();
        let packet = packet.unwrap_or_else(|| self.conversation.failure_packet());
        if let Some(round) = self.rounds.last_mut() {
            round.end(elapsed(), packet.len(), None);
        }
        self.times.reply = elapsed();
        let made = reply::refusal(accepted, Some(&packet), None);
        Handled::decided(match made {
            Ok(reply) => self.decision(ending, Some(reply), None),
            Err(reason) => self.decision(Ending::Unanswerable(reason), None, None),
        })
    }

    /// The text that the gate has for an event.
    fn text_of(&self, kind: IdentityKind, event: Event) -> Option<String> {
        let clause = self.active.edition.policy.gates()[self.gate].identify(kind)?;
        match clause.reaction(event) {
            Reaction::Refuse(text) => text.clone(),
            _ => None,
        }
    }

    fn accept(
        mut self: Box<Self>,
        packet: Vec<u8>,
        keys: Option<Keys>,
        accepted: &AcceptedRequest,
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Handled {
        self.told_of_conversation();
        if let Some(round) = self.rounds.last_mut() {
            round.end(elapsed(), packet.len(), None);
        }
        let Some(Ending::Granted { by, grants }) = self.decided.take() else {
            // A method that succeeds without a verdict is a defect of ours: nobody
            // comes in by it.
            return self.refuse(Ending::failed(&Failure::Unexpected("no verdict")), None, accepted, elapsed);
        };
        let mut salts = [0; 4];
        (resources.random)(&mut salts);
        let [a, b, c, d] = salts;
        let eap = EapReply {
            packet: &packet,
            keys: keys.as_ref(),
            salts: [u16::from_be_bytes([a, b]), u16::from_be_bytes([c, d]) ^ 1],
        };
        let made = reply::acceptance(accepted, &self.active.edition, grants, &self.beside(eap, resources.secret));
        self.times.reply = elapsed();
        Handled::decided(match made {
            Ok(reply) => {
                let remembered = self.remember(resources).map(Box::new);
                let decision = self.decision(Ending::Granted { by, grants }, Some(reply), Some(keys.is_some()));
                Decision { remembered, ..decision }
            }
            Err(reason) => self.decision(Ending::Unanswerable(reason), None, None),
        })
    }

    /// The session that was resumed. One that the peer offered and the handshake
    /// then did without does not count.
    fn resumed(&self) -> Option<Arc<ProvedBefore>> {
        let resumed = self.conversation.about().tls.as_ref().is_some_and(|tls| tls.resumed);
        self.sessions.resumed().filter(|_| resumed)
    }

    /// Keeps what later conversations may build on, and tells the machine that is
    /// remembered.
    fn remember(&mut self, resources: &Resources<'_>) -> Option<SeenMachine> {
        let before = self.resumed();
        let at = before.as_ref().map_or(resources.now, |before| before.at);
        let identities = std::mem::take(&mut self.proofs.identities);
        let machine = identities.iter().find(|identity| identity.kind == IdentityKind::Machine);
        // A resumed session is no new proof.
        let machine = machine.filter(|machine| machine.event.is_none() && before.is_none()).cloned();
        let bound = self.told.bound == Some(true);
        let (inner, group) = (self.told.inner.clone(), self.told.group.clone());
        self.sessions.confirm(Arc::new(ProvedBefore { at, identities, inner, group, bound }));
        let mac = PacketFacts::read(&self.first.packet(), &self.first.nas).mac?;
        let IdentityBefore { name, proof, password_mark, chain, .. } = machine?;
        let seen = SeenMachine { mac, name, proof, at, password_mark, chain };
        resources.machines.remember(seen.clone());
        Some(seen)
    }

    fn beside<'k>(&'k self, eap: EapReply<'k>, secret: &[u8; 32]) -> Beside<'k> {
        let proved = self.user.proved().or_else(|| self.machine.proved());
        let gate = &self.active.edition.policy.gates()[self.gate];
        let asked = self.first.packet().first(number::USER_NAME).and_then(|name| std::str::from_utf8(name).ok());
        let name = proved.map(|proved| proved.account.name.as_str());
        Beside {
            user_name: reply::user_name(gate, asked, self.told.outer.as_deref(), name),
            chargeable: reply::chargeable(&self.first, secret, proved, &self.device),
            eap: Some(eap),
        }
    }

    fn decision(mut self: Box<Self>, ending: Ending, reply: Option<Vec<u8>>, keys: Option<bool>) -> Decision {
        self.told_of_conversation();
        let presented = self.active.offers.of(self.gate).and_then(|offer| offer.presented.clone());
        let (keys, asked) = (keys.unwrap_or(false), std::mem::take(&mut self.proofs.asked));
        let eap = EapEvidence::new(self.conversation.about(), presented, self.rounds, keys, asked);
        Decision {
            id: self.id,
            accepted: self.first,
            edition: self.active.edition,
            ending,
            reply,
            gate: Some(self.gate),
            user: self.user,
            machine: self.machine,
            device: self.device,
            told: self.told,
            eap: Some(Box::new(eap)),
            lookups: self.proofs.lookups,
            times: self.times,
            remembered: None,
        }
    }
}

fn claim_kind(claim: &Claim) -> IdentityKind {
    claim.identity_type.map_or_else(|| proof::kind_of(&claim.name), crate::eap::identities::kind_of_type)
}

fn longest_packet(accepted: &AcceptedRequest) -> usize {
    let told = accepted.packet().first(number::FRAMED_MTU).and_then(|bytes| <[u8; 4]>::try_from(bytes).ok());
    match told.map(u32::from_be_bytes) {
        Some(mtu) => (mtu as usize).saturating_sub(LINK_OVERHEAD).clamp(SMALLEST_PACKET, LARGEST_PACKET),
        None => Limits::default().packet,
    }
}
