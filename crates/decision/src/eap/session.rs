use std::sync::Arc;
use std::time::Duration;

use regnant_base::Mac;
use regnant_eap::{
    Answer, CertificateFault, Chain, Claim, Conversation, Failure, IdentityType, Keys, Limits, Offer, Step,
};
use regnant_policy::{Event, Gate, IdentityKind, Reaction};

use crate::added::add_facts;
use crate::decide::{ActivePolicy, Decided, Means, Resources, Times, decide_by_rules};
use crate::eap::evidence::{EapEvidence, FailureEvidence, RoundEvidence};
use crate::eap::identities::{
    Unjudged, check_claim, judge_chain, recall_machine, take_certificates, take_session, taken_chains,
};
use crate::eap::machines::SeenMachine;
use crate::eap::offers::GateOffer;
use crate::eap::resumption::{IdentityBefore, ProvedBefore, ResumptionHandle, Scope};
use crate::ending::{Because, Ending, Unfit};
use crate::facts::request_facts::{Findings, Identity, RequestFacts};
use crate::facts::table::FactTable;
use crate::lookup::LookUp;
use crate::proof::{self, Stop, look_up_device, react_in, react_to_absence};
use crate::request::{Carrier, KeptRequest};
use crate::stores::Deadline;

/// What a conversation with its TLS connection takes.
const STATE_BYTES: usize = 16 << 10;

/// One EAP conversation in progress. The first request, gate, policy, stores and
/// certificates are those of its beginning, to its end.
pub struct EapSession {
    active: ActivePolicy,
    gate: usize,
    first: Arc<dyn KeptRequest>,
    /// Whether the equipment speaks EAP itself, for a device that does not.
    bypass: bool,
    conversation: Conversation,
    sessions: Arc<ResumptionHandle>,
    proofs: Proofs,
    known: Findings,
    times: Times,
    rounds: Vec<RoundEvidence>,
    decided: Option<Ending>,
    last_request: Vec<u8>,
    /// When it began, in milliseconds since 1970.
    begun: u64,
}

/// How the equipment carries a conversation.
#[derive(Clone, Copy, Debug)]
pub struct Carriage {
    /// The longest EAP packet that it takes.
    pub packet: usize,
    /// Whether it asks for a name of the session (RFC 5247 section 1.4).
    pub session_id: bool,
}

/// How a conversation goes on.
pub enum Progress {
    /// This packet goes to the supplicant, whose answer is awaited.
    Challenge {
        /// The packet.
        packet: Vec<u8>,
        /// Whether it is sent again, what came having been ignored.
        ignored: bool,
        /// The conversation.
        session: Box<EapSession>,
    },
    /// The supplicant is let in; [`EapSession::accepted`] ends it.
    Accept {
        /// EAP-Success.
        packet: Vec<u8>,
        /// The keys of the link, where the method makes some.
        keys: Option<Keys>,
        /// The combination of grants that it is given.
        grants: usize,
        /// The conversation.
        session: Box<EapSession>,
    },
    /// The supplicant is refused.
    Refuse {
        /// EAP-Failure.
        packet: Vec<u8>,
        /// The conversation.
        session: Box<EapSession>,
        /// How it ends.
        ending: Ending,
    },
    /// Nobody is answered.
    Silence(Box<Decided>),
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
    fn ending(self) -> Ending {
        match self {
            Self::Event(stop) => stop.ending(),
            Self::Certificate(fault) => Ending::Unfit(Unfit::Conversation(FailureEvidence::certificate(fault, true))),
        }
    }
}

impl From<Stop> for Stopped {
    fn from(stop: Stop) -> Self {
        Self::Event(stop)
    }
}

impl From<Unjudged> for Stopped {
    fn from(unjudged: Unjudged) -> Self {
        match unjudged {
            Unjudged::Fault(fault) => Self::Certificate(fault),
            Unjudged::NoRoom => {
                Self::Event(Stop { kind: IdentityKind::User, event: Event::NoRoom, reaction: Reaction::Silence })
            }
        }
    }
}

impl Proofs {
    pub(crate) fn note(
        &mut self,
        (kind, identity_type): (IdentityKind, Option<IdentityType>),
        claimed: &str,
        outcome: &proof::ProofOutcome,
        chain: Chain,
    ) {
        self.identities.retain(|identity| identity.kind != kind);
        let (name, proved) = match &outcome.identity {
            Identity::Proved(proved) => (&proved.claimed, Some(proved)),
            Identity::NotProved { claimed, .. } => (claimed, None),
            Identity::Absent => return,
        };
        self.identities.push(IdentityBefore {
            kind,
            identity_type,
            claimed: claimed.to_owned(),
            name: name.clone(),
            event: outcome.event,
            proof: proved.map(|proved| proved.proof.clone()).unwrap_or_default(),
            password_mark: proved.map_or(0, |proved| proved.account.password_mark),
            store: proved.map(|proved| proved.store.clone()),
            chain,
        });
    }

    /// The events that kept identities from being proved.
    fn failed(&self) -> impl DoubleEndedIterator<Item = (IdentityKind, Event)> {
        self.identities.iter().filter_map(|identity| Some((identity.kind, identity.event?)))
    }
}

impl EapSession {
    /// Begins a conversation at a gate with the EAP packet of the first request; an empty
    /// one is EAP-Start. `elapsed` tells the time since that request came.
    pub async fn begin(
        first: Arc<dyn KeptRequest>,
        packet: &[u8],
        active: ActivePolicy,
        (gate, times): (usize, Times),
        (carriage, begun): (Carriage, u64),
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Progress {
        let definition = &active.policy.gates()[gate];
        let mut offer = active.offers.of(gate).cloned().unwrap_or_default();
        let bypass = first.request().carrier == Some(Carrier::Mac);
        if bypass {
            offer.methods = Arc::new([Offer::Md5]);
        }
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
            packet: carriage.packet,
            retries: resources.retries,
            session_id: carriage.session_id,
            ..Limits::default()
        };
        let store = (resume > 0).then(|| sessions.clone() as Arc<dyn regnant_eap::Sessions>);
        let conversation = Conversation::new(offer.methods, store, limits, Box::new(resources.random));
        let session = Box::new(Self {
            active,
            gate,
            first,
            bypass,
            conversation,
            sessions,
            proofs: Proofs::default(),
            known: Findings::default(),
            times,
            rounds: Vec::new(),
            decided: None,
            last_request: Vec::new(),
            begun,
        });
        session.go_on(packet, resources, elapsed).await
    }

    /// Goes on with the next EAP packet of the supplicant.
    pub async fn go_on(
        mut self: Box<Self>,
        packet: &[u8],
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Progress {
        self.rounds.push(RoundEvidence::new(elapsed(), packet.len()));
        // RFC 3579 section 2.1: an empty EAP-Message is EAP-Start.
        let step = match packet.len() {
            0..=2 if self.last_request.is_empty() => self.conversation.begin(),
            _ => self.conversation.receive(packet),
        };
        self.drive(step, resources, elapsed).await
    }

    /// The end of a conversation that its peer left.
    pub fn abandon(mut self: Box<Self>) -> Decided {
        // Who is refused, and then says nothing, did not merely leave.
        if let Some(ending) = self.refusal() {
            self.sessions.revoke();
            return self.ended(ending, false);
        }
        let failure = self.conversation.failing();
        self.ended(Ending::Left(failure.as_ref().map(FailureEvidence::new)), false)
    }

    /// Whether this packet may want public-key cryptography, which takes a hundred
    /// times as long as anything else here.
    pub fn may_need_public_key(&self, packet: &[u8]) -> bool {
        self.conversation.may_need_public_key(packet)
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

    async fn drive(
        mut self: Box<Self>,
        mut step: Step,
        resources: &Resources<'_>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Progress {
        loop {
            if let Some(method) = self.conversation.about().method {
                self.sessions.set_method(method);
            }
            step = match step {
                Step::Send(packet) => {
                    self.last_request.clone_from(&packet);
                    return self.challenge(packet, None, elapsed);
                }
                Step::Ignore(_) if self.last_request.is_empty() => {
                    let failure = Failure::Malformed("the first packet is no identity");
                    return self.refuse(Ending::failed(&failure), None, elapsed);
                }
                Step::Ignore(why) => {
                    // RFC 3579 section 2.2: the request again, and that it was ignored.
                    let packet = self.last_request.clone();
                    return self.challenge(packet, Some(why), elapsed);
                }
                Step::Ask(claim) => {
                    let answer = self.check(&claim, resources).await;
                    self.times.proof = elapsed();
                    match answer {
                        Some(answer) => self.conversation.answer(answer),
                        None => return self.silence(),
                    }
                }
                Step::Verdict => {
                    self.learn_from_conversation();
                    let ending = self.judge(resources, elapsed).await;
                    let (silent, accept) = (ending.is_silent(), ending.grants().is_some());
                    self.decided = Some(ending);
                    if silent {
                        return self.silence();
                    }
                    self.conversation.conclude(accept)
                }
                Step::Accept(packet, keys) => return self.accept(packet, keys, elapsed),
                Step::Refuse(packet, failure) => {
                    let ending = self.end_of(failure);
                    return self.refuse(ending, Some(packet), elapsed);
                }
            };
        }
    }

    /// Checks a credential; `None` where nobody is to be answered.
    async fn check(&mut self, claim: &Claim, resources: &Resources<'_>) -> Option<Answer> {
        self.learn_from_conversation();
        let first = self.first.clone();
        if self.bypass {
            return Some(repeats_the_address(claim, first.request().mac));
        }
        let active = self.active.clone();
        let deadline = Deadline::new(resources.timer);
        let means = Means { stores: &active.stores, resources, deadline: &deadline };
        let gate = &active.policy.gates()[self.gate];
        let mut proofs = std::mem::take(&mut self.proofs);
        let mut facts = self.facts(&*first, &active.table);
        let outcome = check_claim(claim, self.conversation.about(), gate, &mut facts, &mut proofs, means).await;
        let kind = claim_kind(claim);
        *facts.identity_mut(kind) = outcome.identity;
        (self.known, self.proofs) = (facts.known, proofs);
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
        let deadline = Deadline::new(resources.timer);
        let means = Means { stores: &active.stores, resources, deadline: &deadline };
        let gate = &active.policy.gates()[self.gate];
        let offer = active.offers.of(self.gate).cloned().unwrap_or_default();
        let first = self.first.clone();
        let mut proofs = std::mem::take(&mut self.proofs);
        let mut facts = self.facts(&*first, &active.table);
        let mut stopped = self.prove_all(gate, &offer, &mut facts, &mut proofs, means).await;
        if stopped.is_ok() {
            stopped = add_facts(&mut facts, gate, means, &mut proofs.lookups).await.map_err(Into::into);
        }
        self.times.proof = elapsed();
        let ending = match stopped {
            Err(stopped) => stopped.ending(),
            Ok(()) => decide_by_rules(&active.policy, self.gate, &facts),
        };
        self.times.rules = elapsed();
        (self.known, self.proofs) = (facts.known, proofs);
        ending
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
        if self.bypass {
            look_up_device(request_facts, gate, true, means, &mut proofs.lookups).await?;
            return Ok(react_to_absence(request_facts, gate)?);
        }
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
        if let Identity::Proved(proved) = &request_facts.known.user {
            let before = proofs.identities.iter().find(|identity| identity.kind == IdentityKind::User);
            request_facts.known.details.claimed =
                Some(before.map_or_else(|| proved.claimed.clone(), |b| b.claimed.clone()));
        }
        Ok(react_to_absence(request_facts, gate)?)
    }

    fn facts<'s>(&mut self, first: &'s dyn KeptRequest, table: &'s FactTable) -> RequestFacts<'s> {
        let known = std::mem::take(&mut self.known);
        RequestFacts { table, request: first.request(), known, now: self.begun }
    }

    fn learn_from_conversation(&mut self) {
        if self.bypass {
            // Nobody but the equipment is at the other end: its method and names are not
            // those of who asks.
            return;
        }
        let about = self.conversation.about();
        // A resumed session did without what its first conversation did.
        let before = self.resumed();
        let details = &mut self.known.details;
        details.method = about.method.map(|method| method.to_string());
        details.outer.clone_from(&about.identity);
        details.tls.clone_from(&about.tls);
        let inner = about.inner.iter().map(|inner| inner.method.clone());
        details.inner = before.iter().flat_map(|before| before.inner.clone()).chain(inner).collect();
        details.group = about.tls.as_ref().and_then(|tls| tls.group.clone());
        details.bound = about.bound;
        if let Some(before) = before {
            details.group = details.group.take().or_else(|| before.group.clone());
            details.bound = about.bound.map(|bound| bound && before.bound);
        }
        if details.claimed.is_none() && about.inner.is_empty() && about.tls.is_none() {
            // Without a tunnel the one identity is the claimed one.
            details.claimed.clone_from(&about.identity);
        }
    }

    /// What a failure of the conversation ends in: what was decided against the peer, whatever it did about that.
    fn end_of(&mut self, failure: Failure) -> Ending {
        let failed = self.proofs.failed().next_back().filter(|_| failure == Failure::Credential);
        match (self.refusal(), failed) {
            (Some(refusal), _) => refusal,
            (None, Some((kind, event))) if self.decided.is_none() => self.refused_for(kind, event),
            _ => Ending::failed(&failure),
        }
    }

    /// What was decided against the peer: by the rules, or by a proof that failed where the gate does not go on.
    fn refusal(&mut self) -> Option<Ending> {
        match &self.decided {
            Some(Ending::Refused { .. } | Ending::Unfit(_)) => return self.decided.take(),
            Some(_) => return None,
            None => {}
        }
        let stops = |(kind, event): &(IdentityKind, Event)| react_in(self.gate(), *kind, Some(*event)).is_err();
        let (kind, event) = self.proofs.failed().rev().find(stops)?;
        Some(self.refused_for(kind, event))
    }

    fn refused_for(&self, kind: IdentityKind, event: Event) -> Ending {
        Ending::Refused { by: Because::Proof(kind, event), text: self.text_of(kind, event) }
    }

    fn challenge(
        mut self: Box<Self>,
        packet: Vec<u8>,
        ignored: Option<&str>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Progress {
        if let Some(round) = self.rounds.last_mut() {
            round.end(elapsed(), packet.len(), ignored);
        }
        Progress::Challenge { packet, ignored: ignored.is_some(), session: self }
    }

    fn silence(mut self: Box<Self>) -> Progress {
        let ending = self.decided.take().unwrap_or(Ending::Left(None));
        Progress::Silence(Box::new(self.ended(ending, false)))
    }

    fn refuse(
        mut self: Box<Self>,
        ending: Ending,
        packet: Option<Vec<u8>>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Progress {
        // What was proved before does not hold any more, or never did.
        self.sessions.revoke();
        let packet = packet.unwrap_or_else(|| self.conversation.failure_packet());
        if let Some(round) = self.rounds.last_mut() {
            round.end(elapsed(), packet.len(), None);
        }
        Progress::Refuse { packet, session: self, ending }
    }

    fn accept(
        mut self: Box<Self>,
        packet: Vec<u8>,
        keys: Option<Keys>,
        elapsed: &(impl Fn() -> Duration + Send + Sync),
    ) -> Progress {
        self.learn_from_conversation();
        if let Some(round) = self.rounds.last_mut() {
            round.end(elapsed(), packet.len(), None);
        }
        let Some(grants) = self.decided.as_ref().and_then(Ending::grants) else {
            // A method that succeeds without a verdict is a defect of ours: nobody
            // comes in by it.
            return self.refuse(Ending::failed(&Failure::Unexpected("no verdict")), None, elapsed);
        };
        Progress::Accept { packet, keys, grants, session: self }
    }

    /// The end of a conversation whose supplicant is let in: what later conversations may
    /// build on is kept. `keys` tells whether the equipment was given some.
    pub fn accepted(mut self: Box<Self>, keys: bool, resources: &Resources<'_>) -> Decided {
        let ending = self.decided.take().unwrap_or(Ending::Left(None));
        let remembered = self.remember(resources).map(Box::new);
        Decided { remembered, ..self.ended(ending, keys) }
    }

    /// The end of a conversation whose answer cannot be made, or that is refused.
    pub fn ended_by(self: Box<Self>, ending: Ending) -> Decided {
        self.ended(ending, false)
    }

    /// What was found out about whoever asks.
    pub fn known(&self) -> &Findings {
        &self.known
    }

    /// The gate that it goes through.
    pub fn gate(&self) -> &Gate {
        &self.active.policy.gates()[self.gate]
    }

    /// The text that the gate has for an event.
    fn text_of(&self, kind: IdentityKind, event: Event) -> Option<String> {
        match self.gate().identify(kind)?.reaction(event) {
            Reaction::Refuse(text) => text.clone(),
            _ => None,
        }
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
        let is_new_proof = |machine: &&IdentityBefore| machine.event.is_none() && before.is_none();
        let machine = machine.filter(is_new_proof).filter(|machine| machine.can_be_told_again()).cloned();
        let details = &self.known.details;
        let (bound, inner, group) = (details.bound == Some(true), details.inner.clone(), details.group.clone());
        match identities.iter().all(IdentityBefore::can_be_told_again) {
            true => self.sessions.confirm(Arc::new(ProvedBefore { at, identities, inner, group, bound })),
            // The next login is a whole one: a resumption would be refused.
            false => self.sessions.revoke(),
        }
        let mac = self.first.request().mac?;
        let IdentityBefore { name, proof, password_mark, chain, store, .. } = machine?;
        let trust = self.gate().trust.as_ref().map(|trust| trust.name.clone());
        let store = store?.to_string();
        let seen = SeenMachine { mac, name, proof, at, password_mark, chain, store, bound, trust };
        resources.machines.remember(seen.clone());
        Some(seen)
    }

    fn ended(mut self: Box<Self>, ending: Ending, keys: bool) -> Decided {
        self.learn_from_conversation();
        let presented = self.active.offers.of(self.gate).and_then(|offer| offer.presented.clone());
        let asked = std::mem::take(&mut self.proofs.asked);
        let eap = EapEvidence::new(self.conversation.about(), presented, self.rounds, keys, asked);
        Decided {
            gate: Some(self.gate),
            ending,
            known: self.known,
            eap: Some(Box::new(eap)),
            lookups: self.proofs.lookups,
            remembered: None,
            session_key: None,
            times: self.times,
        }
    }
}

impl std::fmt::Debug for EapSession {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("EapSession").field("gate", &self.gate).finish_non_exhaustive()
    }
}

/// A MAC bypass says its address three times: for a name, as the password and where the
/// request came from.
fn repeats_the_address(claim: &Claim, mac: Option<Mac>) -> Answer {
    let is_mac = mac.is_some() && claim.name.parse::<Mac>().ok() == mac;
    if is_mac { claim.credential.check_password(claim.name.as_bytes()) } else { Answer::Wrong }
}

fn claim_kind(claim: &Claim) -> IdentityKind {
    claim.identity_type.map_or_else(|| proof::kind_of(&claim.name), crate::eap::identities::kind_of_type)
}
