use regnant_base::Mac;
use regnant_decision::Carrier;
use regnant_policy::{Event, IdentityKind};
use serde::{Deserialize, Serialize};

use crate::record::handshake::{Handshake, reason};
use crate::record::{EndRecord, Record, Subject, VerdictRecord};

/// A part of a sentence; parts that name something can be links.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fragment {
    /// What the text names.
    pub kind: FragmentKind,
    /// The text.
    pub text: String,
}

/// What a part of a sentence names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FragmentKind {
    /// Nothing.
    Text,
    /// Who or what asked.
    Subject,
    /// A NAS.
    Nas,
    /// What was decided.
    Verdict,
    /// A grant.
    Grant,
    /// A rule.
    Rule,
}

impl Fragment {
    fn new(kind: FragmentKind, text: impl Into<String>) -> Self {
        Self { kind, text: text.into() }
    }
}

impl Record {
    /// The decision as a sentence, without its time.
    pub fn sentence(&self) -> Vec<Fragment> {
        use FragmentKind::{Grant, Nas, Rule, Subject as Who, Text, Verdict};
        let text = |text: &str| Fragment::new(Text, text);
        let mut parts = vec![Fragment::new(Who, self.subject.show()), text(" on "), Fragment::new(Nas, &self.nas)];
        if let Some(port) = self.port {
            parts.push(text(&format!(" port {port}")));
        }
        if let Some(method) = self.method() {
            parts.push(text(&format!(" by {method}")));
        }
        match self.verdict() {
            VerdictRecord::Grant { grants, says } => {
                parts.extend([Fragment::new(Verdict, " was given "), Fragment::new(Grant, grants.join(", "))]);
                if !says.is_empty() {
                    parts.push(text(&format!(" ({})", says.join(", "))));
                }
            }
            VerdictRecord::Observe { grants, says } => {
                parts.extend([
                    Fragment::new(Verdict, " would have been refused, and was given "),
                    Fragment::new(Grant, grants.join(", ")),
                ]);
                if !says.is_empty() {
                    parts.push(text(&format!(" ({})", says.join(", "))));
                }
                parts.push(text(" since the gate is watched"));
            }
            VerdictRecord::Refuse { .. } => parts.push(Fragment::new(Verdict, " was refused")),
            VerdictRecord::Silence => parts.push(Fragment::new(Verdict, " got no answer")),
            VerdictRecord::Unfinished => parts.push(Fragment::new(Verdict, " went silent")),
            VerdictRecord::Told => parts = vec![Fragment::new(Nas, &self.nas), text(" was told")],
        }
        if let EndRecord::NotTold { .. } = self.end() {
            parts = vec![Fragment::new(Nas, &self.nas), Fragment::new(Verdict, " was refused")];
        }
        match self.end() {
            EndRecord::Rule { title } if matches!(self.verdict(), VerdictRecord::Observe { .. }) => {
                parts.extend([text(": "), Fragment::new(Rule, title)]);
            }
            EndRecord::Rule { title } => parts.extend([text(" by "), Fragment::new(Rule, title)]),
            EndRecord::Undetermined { title } => {
                parts.extend([text(": "), Fragment::new(Rule, title), text(" hangs on a store that did not answer")]);
            }
            _ => parts.push(text(&format!(": {}", self.reason()))),
        }
        parts.push(text("."));
        parts
    }

    /// The method, and whether an earlier session was resumed; a MAC bypass has its
    /// address for that.
    fn method(&self) -> Option<String> {
        let Some(eap) = &self.eap else {
            let said =
                self.carrier.filter(|carrier| matches!(carrier, Carrier::Pap | Carrier::Chap | Carrier::MsChap))?;
            return Some(said.word().to_owned());
        };
        let resumed = eap.tls.as_ref().is_some_and(|tls| tls.resumed);
        Some(format!("{}{}", eap.method?, if resumed { ", resumed," } else { "" }))
    }

    /// What carried the credential, in words.
    pub fn carried(&self) -> Option<String> {
        let word = self.carrier?.word();
        Some(if self.undecodable { format!("{word} (undecodable)") } else { word.to_owned() })
    }

    /// Why the decision fell as it did, in a few words.
    pub fn reason(&self) -> String {
        match self.end() {
            EndRecord::NoGate => "no gate takes such a request".into(),
            EndRecord::NoCredential => "it carried no credential".into(),
            EndRecord::MethodNotAccepted => format!(
                "gate {} does not accept {}",
                self.gate.as_deref().unwrap_or_default(),
                self.carried().unwrap_or_else(|| "this method".into())
            ),
            EndRecord::Eap(failure) => reason(failure),
            EndRecord::Abandoned => self.abandoned(),
            EndRecord::UnknownConversation => "its conversation is unknown or over".into(),
            EndRecord::Proof { identity, event } => self.proof_reason(identity, event),
            EndRecord::Rule { title } => title.to_owned(),
            EndRecord::Otherwise => "no rule applies".into(),
            EndRecord::Undetermined { title } => format!("{title} hangs on a store that did not answer"),
            EndRecord::Told { what } => what.to_owned(),
            EndRecord::NotTold { reason } => reason.to_owned(),
            EndRecord::NoReply { reason } => format!("the reply could not be made: {reason}"),
        }
    }

    /// Whether somebody gave a MAC address as their name.
    pub(crate) fn claims_a_mac(&self) -> bool {
        self.fact("user.claimed").is_some_and(|name| name.trim_matches('"').parse::<Mac>().is_ok())
    }

    /// Where the supplicant said no more: "after our certificate".
    fn abandoned(&self) -> String {
        let (told, _) = Handshake(&self.eap_or_default()).silence();
        told.strip_prefix("The supplicant went silent ").unwrap_or(&told).to_owned()
    }

    fn proof_reason(&self, identity: IdentityKind, event: Event) -> String {
        let said =
            || self.lookups.iter().rev().find(|lookup| lookup.kind == identity).map(std::string::ToString::to_string);
        match (identity, event) {
            (IdentityKind::Mac, Event::Unknown) => "no store lists the device".into(),
            (_, Event::Unknown) if self.claims_a_mac() => "a MAC address is never a user name".into(),
            (IdentityKind::Machine, Event::Unknown) => "no store knows the machine".into(),
            (_, Event::Unknown) => "no store knows the user".into(),
            (_, Event::Unreachable) => "a store did not answer".into(),
            (_, Event::Disabled) => "the account is disabled".into(),
            (_, Event::Expired) => "the account has expired".into(),
            (_, Event::Absent) => "nobody presented themselves".into(),
            (_, Event::Ambiguous) => "a store has several accounts of that name".into(),
            (_, Event::NoRoom) => "there was no room to ask anybody".into(),
            (_, Event::Failed | Event::Unfit | Event::HeldBack | Event::Locked | Event::Outdated) => {
                said().unwrap_or_else(|| event.word().into())
            }
        }
    }
}

impl Subject {
    /// The subject in words.
    pub fn show(&self) -> String {
        match self {
            Self::Device(title, mac) if title.is_empty() => format!("device {mac}"),
            Self::Device(title, mac) => format!("{title} {mac}"),
            Self::User(name) => name.clone(),
            Self::Machine(name) => format!("machine {name}"),
            Self::Nobody => "somebody unnamed".into(),
        }
    }
}
