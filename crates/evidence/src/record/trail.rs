//! The explanation of one decision: its stations, each with its evidence.

use std::collections::BTreeSet;

use regnant_decision::{Carrier, LookUpAnswer};
use regnant_policy::{Event, IdentityKind, TruthValue};
use serde::{Deserialize, Serialize};

use crate::record::{EndRecord, REST_UNANSWERED, Record, RuleRecord, UNANSWERED, VerdictRecord};

/// The explanation of one decision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trail {
    /// The stations in order: heard, gate, conversation (where EAP carried it),
    /// proof, identity, rules, grant, reply.
    pub stations: Vec<Station>,
}

/// One step of the way.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Station {
    /// Its name.
    pub name: String,
    /// How it went.
    pub mark: Mark,
    /// Microseconds since the packet came, where this station was timed.
    pub micros: Option<u64>,
    /// What happened, in a sentence.
    pub line: String,
    /// All that was known.
    pub evidence: Vec<Clue>,
    /// What to do about it, where something went wrong here.
    pub advice: Option<String>,
}

/// How a station went.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Mark {
    /// The request went on.
    Passed,
    /// Here it was decided against the request.
    Stopped,
    /// The request never got here.
    Skipped,
}

/// One thing that was known.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Clue {
    /// Its name.
    pub label: String,
    /// Its value.
    pub value: String,
}

impl Clue {
    pub(super) fn new(label: impl Into<String>, value: impl Into<String>) -> Self {
        Self { label: label.into(), value: value.into() }
    }
}

/// How far a request got.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Reached {
    Gate,
    Conversation,
    Proof,
    Rules,
    Reply,
}

impl Record {
    /// Explains the decision.
    pub fn trail(&self) -> Trail {
        if matches!(self.end(), EndRecord::Told { .. } | EndRecord::NotTold { .. }) {
            return Trail { stations: vec![self.heard(), self.list_station(), self.reply_station()] };
        }
        let conversation = self.eap.as_ref().map(|eap| self.conversation(eap));
        let stations = [self.heard(), self.gate_station()].into_iter().chain(conversation).chain([
            self.proof(),
            self.identity(),
            self.rules_station(),
            self.grant(),
            self.reply_station(),
        ]);
        Trail { stations: stations.collect() }
    }

    fn reached(&self) -> Reached {
        match self.end() {
            EndRecord::NoGate => Reached::Gate,
            EndRecord::Eap(_) | EndRecord::Abandoned | EndRecord::UnknownConversation => Reached::Conversation,
            EndRecord::MethodNotAccepted | EndRecord::NoCredential | EndRecord::Proof { .. } => Reached::Proof,
            EndRecord::Rule { .. } | EndRecord::Otherwise | EndRecord::Undetermined { .. } => Reached::Rules,
            EndRecord::NoReply { .. } => Reached::Reply,
            EndRecord::Told { .. } | EndRecord::NotTold { .. } => Reached::Gate,
        }
    }

    fn refused(&self) -> bool {
        !matches!(self.verdict(), VerdictRecord::Grant { .. } | VerdictRecord::Observe { .. })
    }

    pub(super) fn station(name: &str, mark: Mark, line: impl Into<String>) -> Station {
        Station { name: name.into(), mark, micros: None, line: line.into(), evidence: Vec::new(), advice: None }
    }

    fn skipped(name: &str) -> Station {
        Self::station(name, Mark::Skipped, "The request did not get here.")
    }

    fn heard(&self) -> Station {
        let shown = self.exchange.clone().unwrap_or_default();
        let (title, protection) = (shown.title, shown.protection);
        let line = format!("{title} from {} ({}, {}), {protection}.", self.source, self.nas, self.nas_about);
        let mut station = Self::station("heard", Mark::Passed, line);
        station.micros = Some(0);
        station.evidence = shown.request.into_iter().map(|(name, value)| Clue::new(name, value)).collect();
        station.advice = shown.protect.map(Into::into);
        station
    }

    /// A request for what an earlier decision has named meets no gate.
    fn list_station(&self) -> Station {
        match self.end() {
            EndRecord::Told { what } => {
                Self::station("list", Mark::Passed, format!("It asked for an access list, and was told {what}."))
            }
            _ => {
                let line = format!("It asked for an access list, and was refused: {}.", self.reason());
                let mut station = Self::station("list", Mark::Stopped, line);
                station.advice = Some(
                    "Equipment asks for the list that a reply has named, under exactly that name, signed, and with \
                     nothing that proves anybody. Where it has an old name, let its sessions be authenticated again."
                        .into(),
                );
                station
            }
        }
    }

    fn gate_station(&self) -> Station {
        let (mark, line, advice) = match &self.gate {
            Some(gate) => (Mark::Passed, format!("Gate {gate} took it, under edition {}.", self.edition), None),
            None => (
                Mark::Stopped,
                format!("No gate of edition {} takes such a request.", self.edition),
                Some(match self.missed_by_gates.first() {
                    Some((gate, fact)) => format!(
                        "Gate {gate} asks for {fact}, which the request does not tell: set the equipment to send {}, or widen \
                         the gate's `when`.",
                        self.read_from(fact)
                    ),
                    None => "Widen the `when` of the gate that should take it, or write a gate for it.".into(),
                }),
            ),
        };
        let mut station = Self::station("gate", mark, line);
        station.micros = Some(self.micros[0].into());
        station.advice = advice;
        station.evidence.extend(self.doubt.iter().map(|doubt| Clue::new("not certain", doubt)));
        for (gate, outcome) in &self.passed_gates {
            let missed: Vec<_> =
                self.missed_by_gates.iter().filter(|(by, _)| by == gate).map(|(_, fact)| fact.as_str()).collect();
            let why = match missed.is_empty() {
                true => format!("its condition is {}", when(*outcome)),
                false => format!("{} {} absent", missed.join(" and "), if missed.len() == 1 { "is" } else { "are" }),
            };
            station.evidence.push(Clue::new(format!("gate {gate}"), format!("passed over: {why}")));
        }
        station.evidence.extend(self.facts_of(&["nas.", "request."]));
        station
    }

    fn proof(&self) -> Station {
        if self.reached() < Reached::Proof && self.lookups.is_empty() {
            return match self.end() {
                EndRecord::UnknownConversation => Self::unknown_conversation(),
                _ => Self::skipped("proof"),
            };
        }
        let gate = self.gate.as_deref().unwrap_or_default();
        let carrier = self.carried().unwrap_or_else(|| "no credential".into());
        let (mark, line, advice) = match self.end() {
            EndRecord::MethodNotAccepted => (
                Mark::Stopped,
                format!("Gate {gate} accepts {} and not {carrier}.", self.accepts.join(", ")),
                Some(format!("Set the equipment to {}, or add the method to `accept`.", self.accepts.join(" or "))),
            ),
            EndRecord::NoCredential => (
                Mark::Stopped,
                "The request carries no password, no CHAP response and no MAC bypass.".into(),
                Some(self.advice.no_credential.into()),
            ),
            EndRecord::Proof { identity, event } => (
                Mark::Stopped,
                format!("{}: {}.", self.carrier_title(), self.reason()),
                Some(self.proof_advice(identity, event)),
            ),
            _ => (Mark::Passed, format!("{}: {}.", self.carrier_title(), self.proved()), None),
        };
        let mut station = Self::station("proof", mark, line);
        station.micros = Some(self.micros[1].into());
        station.advice = advice;
        for lookup in &self.lookups {
            let who = format!("{} {}", lookup.kind.word(), lookup.name);
            station.evidence.push(Clue::new(format!("{} in {}", who.trim_end(), lookup.asked), lookup.to_string()));
        }
        station
    }

    fn unknown_conversation() -> Station {
        let line = "The request goes on with a conversation that is over, or that this service never began.";
        let mut station = Self::station("proof", Mark::Stopped, line);
        station.advice = Some(
            "After a restart this happens once to whoever was in the middle. Else the equipment takes longer than a \
             conversation lives, or sends its packets to several servers in turn."
                .into(),
        );
        station
    }

    fn proved(&self) -> String {
        let unquoted = |name: &str| self.fact(name).map(plain);
        let mut told = Vec::new();
        for kind in ["machine", "user"] {
            let part = |part: &str| unquoted(&format!("{kind}.{part}"));
            match (part("name"), part("failure")) {
                (Some(name), _) => told.push(match (part("proof"), part("age")) {
                    (Some(proof), Some(age)) => format!("{name} proved {age} ago ({proof})"),
                    (Some(proof), None) if self.eap.is_some() => format!("{name} proved ({proof})"),
                    _ => format!("{name} proved with the right credential"),
                }),
                (None, Some(failure)) => {
                    told.push(format!("the {kind} is not proved ({failure}), and the gate goes on"));
                }
                _ => {}
            }
        }
        match (told.is_empty(), self.carrier) {
            (false, _) => told.join("; "),
            (_, Some(Carrier::Mac)) => "the device is taken by its MAC address, which proves nothing more".into(),
            _ => "nobody had to prove anything".into(),
        }
    }

    /// What was said last of an identity.
    fn last_answer(&self, identity: IdentityKind) -> Option<&LookUpAnswer> {
        self.lookups.iter().rev().find(|lookup| lookup.kind == identity).map(|lookup| &lookup.answer)
    }

    /// A form of the name that a store has, and the store.
    fn near(&self, identity: IdentityKind) -> Option<(&str, String)> {
        self.lookups.iter().filter(|lookup| lookup.kind == identity).find_map(|lookup| match &lookup.answer {
            LookUpAnswer::UnknownNear(name) => Some((name.as_str(), lookup.asked.to_string())),
            _ => None,
        })
    }

    fn proof_advice(&self, identity: IdentityKind, event: Event) -> String {
        let asked = self.lookups.iter().filter(|lookup| !matches!(lookup.answer, LookUpAnswer::NamedBy(_)));
        let stores: Vec<_> = asked.filter(|l| l.kind == identity).map(|l| l.asked.to_string()).collect();
        let noise = self.undecodable;
        match (identity, event) {
            (_, Event::Failed) if noise => {
                "Compare the shared secret on the NAS with the one that is registered here: this NAS does not sign its \
                 requests, so a wrong secret shows as a wrong password."
                    .into()
            }
            (IdentityKind::Mac, Event::Unknown) => format!(
                "Register the device in {}, or let the gate go on with `unknown continue`.",
                stores.join(" or ")
            ),
            (_, Event::Unknown) if self.claims_a_mac() => self.advice.address_as_name.into(),
            (_, Event::Unknown) if self.near(identity).is_some() => {
                let claimed = plain(self.fact("user.claimed").or(self.fact("machine.claimed")).unwrap_or_default());
                let (near, store) = self.near(identity).unwrap_or_default();
                let trim = trimming(&claimed, near);
                format!("`{claimed}` was looked up, and `{near}` is in {store}: have the gate trim the name, such as by `as {trim}`.")
            }
            (_, Event::Unknown) => format!(
                "Look at how the name is written, realm included: `{}` was looked up in {}.",
                plain(self.fact("user.claimed").unwrap_or_default()),
                stores.join(", ")
            ),
            (_, Event::Unreachable) => {
                "See why the store does not answer; meanwhile the NAS asks its next server.".into()
            }
            (_, Event::Failed) => "Ask the person to type the password again, or give them a new one.".into(),
            (_, Event::Unfit) => match self.last_answer(identity) {
                Some(LookUpAnswer::UnknownDomain) => {
                    "Have the directory's base end where its domain does, or ask controllers that trust the account's domain."
                        .into()
                }
                Some(LookUpAnswer::OtherAccount) => {
                    "The directory and the domain controllers mean two accounts by one name: see that the store's base, \
                     domain and controllers belong together."
                        .into()
                }
                _ => "Allow what the method needs where the account is kept (an account of the records: on its page, a \
                      password that can be had back for CHAP and EAP-MD5, or MS-CHAP; a directory: its domain controllers, \
                      or the attribute that keeps the hash), or use another method."
                    .into(),
            },
            (_, Event::Disabled) => "Enable the account if the person should have access.".into(),
            (_, Event::Expired) => "Extend the account if the person should have access.".into(),
            (_, Event::Absent) => "See why the equipment sends no such identity.".into(),
            (_, Event::Locked) => match self.last_answer(identity) {
                Some(LookUpAnswer::NotNow) => "Its hours stand in the directory: another password changes nothing.".into(),
                Some(LookUpAnswer::NotHere) => {
                    "From which machines it may be used stands in the directory: another password changes nothing.".into()
                }
                Some(LookUpAnswer::Restricted) => {
                    "What it may be used for stands in the directory: another password changes nothing.".into()
                }
                _ => "Wrong passwords have locked it: wait, or unlock it in the directory, and see in the journal where they \
                      came from. Another password alone changes nothing."
                    .into(),
            },
            (_, Event::Outdated) => {
                "The person has to set a new password where the account is kept; this one is right and counts no more.".into()
            }
            (_, Event::HeldBack) => {
                "Somebody guesses at this name, or a device has an old password. Whoever was right lately from their own \
                 device gets in meanwhile; for others wait until it is over, and see in the journal where the wrong ones \
                 come from."
                    .into()
            }
            (_, Event::NoRoom) => {
                "More was asked at once than there is room for; no store is at fault. The NAS asks again. See who asks so \
                 much, and whether a store has become slow."
                    .into()
            }
            (_, Event::Ambiguous) => {
                "See to it that the store finds one account: narrow its search base or filter, or look one attribute up.".into()
            }
        }
    }

    fn identity(&self) -> Station {
        if self.reached() < Reached::Proof {
            return Self::skipped("identity");
        }
        let unquoted = |name: &str| plain(self.fact(name).unwrap_or_default());
        // Texts stand in quotes: what does not is no name.
        let is_unanswered = |name: &str| self.fact(name) == Some(UNANSWERED);
        let groups = |name: &str| {
            let (known, rest) = match self.fact(name).unwrap_or_default() {
                UNANSWERED => return "groups that no store told".to_owned(),
                shown => shown
                    .strip_suffix(REST_UNANSWERED)
                    .map_or((shown, ""), |known| (known, " and more that no store told")),
            };
            match plain(known).trim_matches(['{', '}', ' ']) {
                "" if rest.is_empty() => "no group".to_owned(),
                "" => "groups that no store told".to_owned(),
                list => list.replace(", ", " and ") + rest,
            }
        };
        let mut told = Vec::new();
        for kind in ["machine", "user"] {
            let (name, claimed) = (format!("{kind}.name"), unquoted(&format!("{kind}.claimed")));
            match (unquoted(&name), is_unanswered(&name)) {
                (_, true) => told.push(match claimed.as_str() {
                    "" => format!("no store told of the {kind}"),
                    claimed => format!("{claimed} was not proved, for a store did not answer"),
                }),
                (name, false) if !name.is_empty() => {
                    told.push(format!("{name} is in {}", groups(&format!("{kind}.groups"))));
                }
                _ if !claimed.is_empty() => told.push(format!("{claimed} was not proved")),
                _ => {}
            }
        }
        match (self.fact("device.known"), self.fact("device.barred")) {
            (Some("true"), Some("true")) => told.push(format!("{} is barred", unquoted("device.mac"))),
            (Some("true"), _) => {
                told.push(format!("{} is in {}", unquoted("device.mac"), groups("device.groups")));
            }
            (Some("false"), _) => told.push(format!("{} is listed nowhere", unquoted("device.mac"))),
            _ => {}
        }
        let line =
            if told.is_empty() { "Nothing is known of who asks.".into() } else { format!("{}.", told.join("; ")) };
        let mut station = Self::station("identity", Mark::Passed, line);
        station.micros = Some(self.micros[1].into());
        station.evidence = self.facts_of(&["claimed.", "user.", "machine.", "device.", "certificate."]);
        station
    }

    fn rules_station(&self) -> Station {
        if self.reached() < Reached::Rules {
            return Self::skipped("rules");
        }
        let (line, advice) = match self.end() {
            EndRecord::Rule { title } => (format!("\"{title}\" is the first rule that is true."), self.lift()),
            EndRecord::Undetermined { title } => (
                format!("Whether \"{title}\" applies hangs on {}.", self.hangs_on(title)),
                Some(
                    "See why the store does not answer; the gate's `undetermined` says what happens meanwhile.".into(),
                ),
            ),
            EndRecord::NoReply { .. } => ("The rules give access.".into(), None),
            _ => ("No rule is true, so the gate's otherwise decides.".into(), self.near_miss()),
        };
        let gives = matches!(self.end(), EndRecord::NoReply { .. });
        let mark = if self.refused() && !gives { Mark::Stopped } else { Mark::Passed };
        let mut station = Self::station("rules", mark, line);
        station.micros = Some(self.micros[2].into());
        station.advice = advice.filter(|_| self.refused());
        station.evidence = self.rules.iter().map(|rule| self.rule_evidence(rule)).collect();
        if self.more_rules > 0 {
            station.evidence.push(Clue::new(format!("{} more rules", self.more_rules), "lacked more than these"));
        }
        station
    }

    /// What was not answered that a rule asks about, and by whom.
    fn hangs_on(&self, title: &str) -> String {
        let rule = self.rules.iter().find(|rule| rule.title == *title);
        let tests = rule.iter().flat_map(|rule| &rule.tests).filter(|test| test.outcome == TruthValue::Unanswered);
        let facts: BTreeSet<_> = tests.map(|test| format!("`{}`", test.fact)).collect();
        let silent =
            self.lookups.iter().filter(|lookup| lookup.answer.is_missing()).map(|lookup| lookup.asked.to_string());
        let silent: Vec<_> = silent.collect::<BTreeSet<_>>().into_iter().collect();
        let stores = if silent.is_empty() { "a store".into() } else { silent.join(" and ") };
        match facts.is_empty() {
            true => format!("{stores}, which did not answer"),
            false => {
                let facts: Vec<_> = facts.into_iter().collect();
                format!("{}, and {stores} did not answer", facts.join(" and "))
            }
        }
    }

    /// What to do where a rule refuses.
    fn lift(&self) -> Option<String> {
        Some(match self.fact("device.barred") {
            Some("true") => "The device is barred. Lift that in its device entry once it is found or cleared.".into(),
            _ => "Change the rule, or what is known of who asks.".into(),
        })
    }

    /// The rule that would have let the request in and lacked least.
    fn near_miss(&self) -> Option<String> {
        let failing = |rule: &RuleRecord| rule.tests.iter().filter(|test| test.outcome != TruthValue::True).count();
        let granting = self.rules.iter().filter(|rule| rule.grants);
        let rule = granting.min_by_key(|rule| failing(rule))?;
        let test = rule.tests.iter().find(|test| test.outcome != TruthValue::True)?;
        Some(format!(
            "Nearest was \"{}\": it needed {}; {}.",
            rule.title,
            test.text,
            self.was(&test.fact, test.outcome)
        ))
    }

    fn rule_evidence(&self, rule: &RuleRecord) -> Clue {
        let tests: Vec<_> = rule
            .tests
            .iter()
            .map(|test| match test.outcome {
                TruthValue::True => format!("{} is true", test.text),
                // What is asked is the fact itself.
                outcome if test.text == test.fact => self.was(&test.fact, outcome),
                outcome => format!("{} is {}: {}", test.text, when(outcome), self.was(&test.fact, outcome)),
            })
            .collect();
        let label = format!("{} ({}) is {}", rule.title, rule.then, when(rule.outcome));
        Clue::new(label, tests.join("; "))
    }

    fn was(&self, fact: &str, outcome: TruthValue) -> String {
        match (outcome, self.fact(fact)) {
            (TruthValue::Absent, _) => format!("{fact} is absent"),
            (TruthValue::Unanswered, _) => format!("{fact} was not answered"),
            (_, Some(value)) => format!("{fact} is {value}"),
            (_, None) => match self.sent().iter().find(|(name, _)| fact.strip_prefix("request.") == Some(name)) {
                Some((_, value)) => format!("{fact} is {value}"),
                None if self.facts.iter().any(|(name, _)| name == fact) => format!("{fact} is something else"),
                None => format!("{fact} is absent"),
            },
        }
    }

    fn grant(&self) -> Station {
        if let EndRecord::NoReply { reason } = self.end() {
            let mut station = Self::station("grant", Mark::Stopped, format!("It cannot be given: {reason}."));
            station.advice = Some(
                "Change the grant, or the dialect of the NAS; `regnant dialect preview` shows what it would be told."
                    .into(),
            );
            return station;
        }
        match self.verdict() {
            VerdictRecord::Grant { grants, says } => {
                let mut station =
                    Self::station("grant", Mark::Passed, format!("{}: {}.", grants.join(", "), says.join(", ")));
                station.micros = Some(self.micros[2].into());
                station
            }
            VerdictRecord::Observe { grants, says } => {
                let line =
                    format!("{}: {}. The gate is watched: it would have refused.", grants.join(", "), says.join(", "));
                let mut station = Self::station("grant", Mark::Passed, line);
                station.micros = Some(self.micros[2].into());
                station
            }
            VerdictRecord::Refuse { text: Some(text) } => {
                Self::station("grant", Mark::Skipped, format!("None: refused with \"{text}\""))
            }
            VerdictRecord::Refuse { text: None } => Self::station("grant", Mark::Skipped, "None: refused."),
            VerdictRecord::Silence => Self::station("grant", Mark::Skipped, "None: no answer is given."),
            VerdictRecord::Unfinished | VerdictRecord::Told => {
                Self::station("grant", Mark::Skipped, "None: nothing was decided.")
            }
        }
    }

    fn reply_station(&self) -> Station {
        let Some(reply) = self.exchange.as_ref().and_then(|exchange| exchange.reply.as_ref()) else {
            let mark = if self.reached() == Reached::Reply { Mark::Stopped } else { Mark::Skipped };
            let line = match self.verdict() {
                VerdictRecord::Refuse { .. } => {
                    "No reply: the supplicant was told in its conversation, and said no more."
                }
                _ => "No reply, so that the NAS asks its next server.",
            };
            let mut station = Self::station("reply", mark, line);
            if let EndRecord::NoReply { reason } = self.end() {
                station.line = format!("The reply could not be made: {reason}.");
                station.advice =
                    Some("Give the NAS a dialect that is installed, or find out what fills its requests.".into());
            }
            return station;
        };
        let mut station = Self::station("reply", Mark::Passed, format!("{}.", reply.title));
        station.micros = Some(self.micros[3].into());
        station.evidence = reply.parts.iter().map(|(name, value)| Clue::new(name, value)).collect();
        station
    }

    /// What a fact of a request is read from.
    fn read_from<'f>(&self, fact: &'f str) -> &'f str {
        let known = (self.advice.read_from)(fact);
        known.or_else(|| fact.strip_prefix("request.")).unwrap_or("what it is read from")
    }

    /// The parts of the request, by name.
    fn sent(&self) -> &[(String, String)] {
        self.exchange.as_ref().map_or(&[], |exchange| &exchange.request)
    }

    fn facts_of(&self, prefixes: &[&str]) -> Vec<Clue> {
        let fits = |name: &str| prefixes.iter().any(|prefix| name.starts_with(prefix));
        self.facts.iter().filter(|(name, _)| fits(name)).map(|(name, value)| Clue::new(name, value)).collect()
    }
}

/// How a gate makes a name of one that is longer.
fn trimming(claimed: &str, near: &str) -> &'static str {
    match claimed.get(..claimed.len().saturating_sub(near.len())) {
        Some(domain) if domain.ends_with('\\') && claimed.ends_with(near) => "after(claimed.name, \"\\\\\")",
        _ if claimed.get(near.len()..).is_some_and(|rest| rest.starts_with('.')) => "before(claimed.name, \".\")",
        _ => "before(claimed.name, \"@\")",
    }
}

/// A value as people say it: without quotes, and a backslash once.
fn plain(value: &str) -> String {
    value.replace('"', "").replace("\\\\", "\\")
}

fn when(outcome: TruthValue) -> &'static str {
    match outcome {
        TruthValue::True => "true",
        TruthValue::False => "false",
        TruthValue::Absent | TruthValue::Unanswered => "unknown",
    }
}

impl Record {
    fn carrier_title(&self) -> &'static str {
        match self.carrier {
            Some(Carrier::Pap) => "Password (PAP)",
            Some(Carrier::Chap) => "Challenge (CHAP)",
            Some(Carrier::MsChap) => "Challenge (MS-CHAP)",
            Some(Carrier::Mac) => "MAC bypass",
            _ => "EAP",
        }
    }
}
