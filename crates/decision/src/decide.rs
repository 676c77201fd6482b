use std::sync::Arc;
use std::time::Duration;

use regnant_base::Secret;
use regnant_policy::{Compiled, Consequence, Decided as RulesDecided, Facts, Reaction, Undetermined};

use crate::added::add_facts;
use crate::eap::evidence::EapEvidence;
use crate::eap::machines::{Machines, SeenMachine};
use crate::eap::offers::GateOffers;
use crate::eap::resumption::ResumptionTable;
use crate::ending::{Because, Decider, Ending, Unfit};
use crate::facts::request_facts::{Findings, RequestFacts};
use crate::facts::table::FactTable;
use crate::guesses::Guesses;
use crate::lookup::LookUp;
use crate::proof::{Stop, prove};
use crate::stores::{BoundStores, Deadline, Limit, Responders, Timer};

/// What decides: a policy, what its gates offer over EAP, and its stores. All of it is of
/// one snapshot, under which a decision is made from its first packet to its end.
#[derive(Clone, Debug)]
pub struct ActivePolicy {
    /// The policy.
    pub policy: Arc<Compiled>,
    /// The facts that it was checked with.
    pub table: Arc<FactTable>,
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
    pub(crate) deadline: &'d (dyn Limit + 'd),
}

/// How a request ended, and all that was found out on the way.
#[derive(Debug)]
pub struct Decided {
    /// The gate, by its place in the policy.
    pub gate: Option<usize>,
    /// How it ended.
    pub ending: Ending,
    /// What was found out about whoever asks.
    pub known: Findings,
    /// The EAP conversation, where there was one.
    pub eap: Option<Box<EapEvidence>>,
    /// What the stores said.
    pub lookups: Vec<LookUp>,
    /// The machine that is remembered from now on.
    pub remembered: Option<Box<SeenMachine>>,
    /// What MS-CHAP outside EAP makes its proof and its keys of.
    pub session_key: Option<Secret>,
    /// How long it took.
    pub times: Times,
}

/// Time since the first packet was received, at the end of each station.
#[derive(Clone, Copy, Debug, Default)]
pub struct Times {
    /// The gate was chosen.
    pub gate: Duration,
    /// Everybody was proved, or not.
    pub proof: Duration,
    /// The rules were tried.
    pub rules: Duration,
}

/// Decides a request that is no conversation, at the gate that was chosen; what was found
/// out is taken from the facts. `elapsed` tells the time since it was received.
pub async fn decide(
    active: &ActivePolicy,
    (gate, chosen_at): (usize, Duration),
    facts: &mut RequestFacts<'_>,
    resources: &Resources<'_>,
    elapsed: &(impl Fn() -> Duration + Send + Sync),
) -> Decided {
    let deadline = Deadline::new(resources.timer);
    let means = Means { stores: &active.stores, resources, deadline: &deadline };
    let (mut lookups, mut times) = (Vec::new(), Times { gate: chosen_at, ..Times::default() });
    let definition = &active.policy.gates()[gate];
    let method = facts.request.carrier.map(|_| facts.request.method.filter(|method| definition.accepts(*method)));
    let mut session_key = None;
    let ending = match method {
        None => Ending::Unfit(Unfit::NoCredential),
        Some(None) => Ending::Unfit(Unfit::MethodNotAccepted),
        Some(Some(method)) => {
            let proof = prove(facts, definition, method, means, &mut lookups).await;
            let proof = match proof {
                Ok(key) => add_facts(facts, definition, means, &mut lookups).await.map(|()| key),
                stopped => stopped,
            };
            times.proof = elapsed();
            match proof {
                Err(stop) => stop.ending(),
                Ok(key) => {
                    session_key = key;
                    decide_by_rules(&active.policy, gate, facts)
                }
            }
        }
    };
    times.rules = elapsed();
    Decided {
        gate: Some(gate),
        ending,
        known: std::mem::take(&mut facts.known),
        eap: None,
        lookups,
        remembered: None,
        session_key,
        times,
    }
}

impl Decided {
    /// What is refused before anything was looked up.
    pub fn unfit(gate: Option<usize>, unfit: Unfit, at: Duration) -> Self {
        Self::at_once(gate, Ending::Unfit(unfit), at)
    }

    /// What ends before anything was looked up.
    pub fn at_once(gate: Option<usize>, ending: Ending, at: Duration) -> Self {
        let known = Findings::default();
        let times = Times { gate: at, rules: at, ..Times::default() };
        Self { gate, ending, known, eap: None, lookups: Vec::new(), remembered: None, session_key: None, times }
    }
}

impl Stop {
    pub(crate) fn ending(self) -> Ending {
        let by = Because::Proof(self.kind, self.event);
        match self.reaction {
            Reaction::Refuse(text) => Ending::Refused { by, text },
            _ => Ending::Silent { by },
        }
    }
}

/// Tries the rules of a gate, all answers in hand. Nobody is told that they may come in
/// before it is sure that the equipment can be told how.
pub(crate) fn decide_by_rules(policy: &Compiled, gate: usize, facts: &RequestFacts<'_>) -> Ending {
    let ending = by_rules(policy, gate, facts);
    let told = ending.grants().map(|grants| facts.request.protocol.can_be_told(grants, facts));
    match told {
        Some(Err(why)) => Ending::Unfit(Unfit::CannotBeTold(why)),
        _ => ending,
    }
}

fn by_rules(policy: &Compiled, gate: usize, facts: &dyn Facts) -> Ending {
    let definition = &policy.gates()[gate];
    let (by, consequence) = match policy.decide(gate, facts) {
        RulesDecided::Rule(rule) => (Decider::Rule(rule as u32), &definition.rules[rule].then),
        RulesDecided::Otherwise => (Decider::Otherwise, &definition.otherwise),
        RulesDecided::Undetermined(rule) => {
            let by = Because::Undetermined(rule as u32);
            return match &definition.undetermined {
                Undetermined::Refuse(text) => Ending::Refused { by, text: text.clone() },
                Undetermined::Silence | Undetermined::Continue => Ending::Silent { by },
            };
        }
    };
    match consequence {
        Consequence::Grant(grants) => Ending::Granted { by, grants: *grants },
        // What ends otherwise than by its rules is never watched: a proof that failed, or what a store did
        // not say.
        Consequence::Refuse(text) => match policy.observed(gate, by.rule(), facts) {
            Some(grants) => Ending::Observed { by, grants },
            None => Ending::Refused { by: Because::Decider(by), text: text.clone() },
        },
        Consequence::Silence => Ending::Silent { by: Because::Decider(by) },
    }
}
