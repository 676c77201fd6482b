//! How a decision ends.

use regnant_eap::Failure;
use regnant_policy::{Event, IdentityKind};
use serde::{Deserialize, Serialize};

use crate::eap::evidence::FailureEvidence;

/// How a decision ended, and where it fell.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "(StoredEnd, StoredVerdict)", into = "(StoredEnd, StoredVerdict)")]
pub enum Ending {
    /// Access.
    Granted {
        /// What gave it.
        by: Decider,
        /// What was given: a combination of grants of the edition, by its place.
        grants: usize,
    },
    /// The policy refuses.
    Refused {
        /// What in it.
        by: Because,
        /// What the person is told.
        text: Option<String>,
    },
    /// The policy refuses, and its gate is watched: access is given all the same.
    Observed {
        /// What would have refused.
        by: Decider,
        /// What was given in its place.
        grants: usize,
    },
    /// The policy does not answer.
    Silent {
        /// What in it.
        by: Because,
    },
    /// Refused before the policy had anything to say.
    Unfit(Unfit),
    /// Equipment asked for what an earlier decision has named, and was told: no access.
    Told(String),
    /// No answer can be made, and why: the NAS's dialect is unknown to the edition, or
    /// what must be echoed does not fit a packet.
    Unanswerable(String),
    /// The supplicant left before anything was decided; its conversation had failed, or
    /// it said no more.
    Left(Option<FailureEvidence>),
}

/// What in a gate decides where its rules are tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Decider {
    /// A rule, by its place in the gate.
    Rule(u32),
    /// No rule was true.
    Otherwise,
}

impl Decider {
    /// The rule, by its place.
    pub(crate) fn rule(self) -> Option<usize> {
        match self {
            Self::Rule(rule) => Some(rule as usize),
            Self::Otherwise => None,
        }
    }
}

/// What in a policy gives no access.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Because {
    /// Proof of identity ended in an event.
    Proof(IdentityKind, Event),
    /// The rules were tried.
    Decider(Decider),
    /// A rule, by its place, hangs on a store that did not answer.
    Undetermined(u32),
}

/// Why a request cannot be let in, whatever the rules say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unfit {
    /// No gate takes it.
    NoGate,
    /// The gate does not accept the method.
    MethodNotAccepted,
    /// It carries no credential that anybody knows.
    NoCredential,
    /// It goes on with a conversation that nobody knows (any more).
    UnknownConversation,
    /// Its EAP conversation failed.
    Conversation(FailureEvidence),
    /// The policy gives access, and the equipment cannot be told of it; why.
    CannotBeTold(String),
    /// Equipment asked for something that it is not told; why.
    NotTold(String),
}

/// What an entry tells of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(i64)]
pub enum EntryKind {
    /// Access was given.
    Granted = 1,
    /// It was refused.
    Refused = 2,
    /// Nobody was answered.
    Silence = 3,
    /// The other end left.
    Unfinished = 4,
    /// Packets that stayed unheard.
    Unheard = 5,
    /// Equipment was told what an earlier decision has named.
    Told = 6,
    /// Equipment reported on access that it gives.
    Accounting = 7,
    /// Access was given where a gate that is watched would have refused it.
    Observed = 8,
}

impl EntryKind {
    /// All with their words.
    pub const ALL: [(&'static str, Self); 8] = [
        ("granted", Self::Granted),
        ("refused", Self::Refused),
        ("silence", Self::Silence),
        ("unfinished", Self::Unfinished),
        ("unheard", Self::Unheard),
        ("told", Self::Told),
        ("accounting", Self::Accounting),
        ("observed", Self::Observed),
    ];

    /// The kind of this word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(known, _)| *known == word).map(|(_, kind)| *kind)
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize - 1].0
    }
}

impl Ending {
    /// A conversation that failed.
    pub(crate) fn failed(failure: &Failure) -> Self {
        Self::Unfit(Unfit::Conversation(FailureEvidence::new(failure)))
    }

    /// What the journal has it as.
    pub fn kind(&self) -> EntryKind {
        match self {
            Self::Granted { .. } => EntryKind::Granted,
            Self::Observed { .. } => EntryKind::Observed,
            Self::Refused { .. } | Self::Unfit(_) => EntryKind::Refused,
            Self::Silent { .. } | Self::Unanswerable(_) => EntryKind::Silence,
            Self::Left(_) => EntryKind::Unfinished,
            Self::Told(_) => EntryKind::Told,
        }
    }

    /// What was given, where something was.
    pub fn grants(&self) -> Option<usize> {
        match self {
            Self::Granted { grants, .. } | Self::Observed { grants, .. } => Some(*grants),
            _ => None,
        }
    }

    /// What in the policy decided, where that is what ended it.
    pub fn because(&self) -> Option<Because> {
        match self {
            Self::Granted { by, .. } | Self::Observed { by, .. } => Some(Because::Decider(*by)),
            Self::Refused { by, .. } | Self::Silent { by } => Some(*by),
            Self::Unfit(_) | Self::Unanswerable(_) | Self::Left(_) | Self::Told(_) => None,
        }
    }

    /// Whether nothing goes back.
    pub(crate) fn is_silent(&self) -> bool {
        matches!(self, Self::Silent { .. } | Self::Unanswerable(_) | Self::Left(_))
    }
}

/// The first form in which endings are stored, a pair: where the decision fell.
#[derive(Serialize, Deserialize)]
enum StoredEnd {
    NoGate,
    MethodNotAccepted,
    NoCredential,
    Proof(IdentityKind, Event),
    Conversation(FailureEvidence),
    Abandoned,
    UnknownConversation,
    Rule(u32),
    Otherwise,
    Undetermined(u32),
    Unanswerable(String),
    Told(String),
}

/// What was decided.
#[derive(Serialize, Deserialize)]
enum StoredVerdict {
    Grant(usize),
    Refuse(Option<String>),
    Silence,
    Unfinished,
    Told,
    Observe(usize),
}

impl From<Ending> for (StoredEnd, StoredVerdict) {
    fn from(ending: Ending) -> Self {
        let refused = StoredVerdict::Refuse(None);
        match ending {
            Ending::Granted { by, grants } => (Because::Decider(by).into(), StoredVerdict::Grant(grants)),
            Ending::Observed { by, grants } => (Because::Decider(by).into(), StoredVerdict::Observe(grants)),
            Ending::Refused { by, text } => (by.into(), StoredVerdict::Refuse(text)),
            Ending::Silent { by } => (by.into(), StoredVerdict::Silence),
            Ending::Unfit(Unfit::NoGate) => (StoredEnd::NoGate, refused),
            Ending::Unfit(Unfit::MethodNotAccepted) => (StoredEnd::MethodNotAccepted, refused),
            Ending::Unfit(Unfit::NoCredential) => (StoredEnd::NoCredential, refused),
            Ending::Unfit(Unfit::UnknownConversation) => (StoredEnd::UnknownConversation, refused),
            Ending::Unfit(Unfit::Conversation(failure)) => (StoredEnd::Conversation(failure), refused),
            Ending::Unfit(Unfit::CannotBeTold(why)) => (StoredEnd::Unanswerable(why), refused),
            Ending::Unfit(Unfit::NotTold(why)) => (StoredEnd::Told(why), refused),
            Ending::Told(what) => (StoredEnd::Told(what), StoredVerdict::Told),
            Ending::Unanswerable(why) => (StoredEnd::Unanswerable(why), StoredVerdict::Silence),
            Ending::Left(None) => (StoredEnd::Abandoned, StoredVerdict::Unfinished),
            Ending::Left(Some(failure)) => (StoredEnd::Conversation(failure), StoredVerdict::Unfinished),
        }
    }
}

impl From<Because> for StoredEnd {
    fn from(because: Because) -> Self {
        match because {
            Because::Proof(kind, event) => Self::Proof(kind, event),
            Because::Decider(Decider::Rule(rule)) => Self::Rule(rule),
            Because::Decider(Decider::Otherwise) => Self::Otherwise,
            Because::Undetermined(rule) => Self::Undetermined(rule),
        }
    }
}

impl TryFrom<(StoredEnd, StoredVerdict)> for Ending {
    type Error = &'static str;

    fn try_from((end, verdict): (StoredEnd, StoredVerdict)) -> Result<Self, Self::Error> {
        let because = match end {
            StoredEnd::Proof(kind, event) => Because::Proof(kind, event),
            StoredEnd::Rule(rule) => Because::Decider(Decider::Rule(rule)),
            StoredEnd::Otherwise => Because::Decider(Decider::Otherwise),
            StoredEnd::Undetermined(rule) => Because::Undetermined(rule),
            end => return Self::without_policy(end, verdict),
        };
        Ok(match (because, verdict) {
            (Because::Decider(by), StoredVerdict::Grant(grants)) => Self::Granted { by, grants },
            (Because::Decider(by), StoredVerdict::Observe(grants)) => Self::Observed { by, grants },
            (by, StoredVerdict::Refuse(text)) => Self::Refused { by, text },
            (by, StoredVerdict::Silence) => Self::Silent { by },
            _ => return Err(NO_ENDING),
        })
    }
}

const NO_ENDING: &str = "an ending that there is not";

impl Ending {
    fn without_policy(end: StoredEnd, verdict: StoredVerdict) -> Result<Self, &'static str> {
        Ok(match (end, verdict) {
            (StoredEnd::NoGate, StoredVerdict::Refuse(None)) => Self::Unfit(Unfit::NoGate),
            (StoredEnd::MethodNotAccepted, StoredVerdict::Refuse(None)) => Self::Unfit(Unfit::MethodNotAccepted),
            (StoredEnd::NoCredential, StoredVerdict::Refuse(None)) => Self::Unfit(Unfit::NoCredential),
            (StoredEnd::UnknownConversation, StoredVerdict::Refuse(None)) => Self::Unfit(Unfit::UnknownConversation),
            (StoredEnd::Conversation(failure), StoredVerdict::Refuse(None)) => {
                Self::Unfit(Unfit::Conversation(failure))
            }
            (StoredEnd::Conversation(failure), StoredVerdict::Unfinished) => Self::Left(Some(failure)),
            (StoredEnd::Abandoned, StoredVerdict::Unfinished) => Self::Left(None),
            (StoredEnd::Unanswerable(why), StoredVerdict::Refuse(None)) => Self::Unfit(Unfit::CannotBeTold(why)),
            (StoredEnd::Told(why), StoredVerdict::Refuse(None)) => Self::Unfit(Unfit::NotTold(why)),
            (StoredEnd::Told(what), StoredVerdict::Told) => Self::Told(what),
            (StoredEnd::Unanswerable(why), StoredVerdict::Silence) => Self::Unanswerable(why),
            _ => return Err(NO_ENDING),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_ending_is_stored_and_read_and_no_other_pair_is_one() {
        let failure = FailureEvidence::Credential;
        let mut endings = vec![
            Ending::Granted { by: Decider::Rule(3), grants: 2 },
            Ending::Granted { by: Decider::Otherwise, grants: 0 },
            Ending::Observed { by: Decider::Rule(3), grants: 2 },
            Ending::Observed { by: Decider::Otherwise, grants: 0 },
            Ending::Unanswerable("why".into()),
            Ending::Left(None),
            Ending::Left(Some(failure.clone())),
            Ending::Unfit(Unfit::NoGate),
            Ending::Unfit(Unfit::MethodNotAccepted),
            Ending::Unfit(Unfit::NoCredential),
            Ending::Unfit(Unfit::UnknownConversation),
            Ending::Unfit(Unfit::Conversation(failure)),
            Ending::Unfit(Unfit::CannotBeTold("why".into())),
            Ending::Unfit(Unfit::NotTold("why".into())),
            Ending::Told("edge".into()),
        ];
        for by in [
            Because::Proof(IdentityKind::User, Event::Failed),
            Because::Decider(Decider::Rule(7)),
            Because::Decider(Decider::Otherwise),
            Because::Undetermined(1),
        ] {
            endings.push(Ending::Refused { by, text: Some("Later.".into()) });
            endings.push(Ending::Silent { by });
        }
        for ending in &endings {
            let bytes = postcard::to_allocvec(ending).unwrap();
            assert_eq!(postcard::from_bytes::<Ending>(&bytes).as_ref(), Ok(ending));
        }
        for pair in [
            (StoredEnd::NoGate, StoredVerdict::Grant(0)),
            (StoredEnd::Proof(IdentityKind::User, Event::Failed), StoredVerdict::Grant(0)),
            (StoredEnd::Undetermined(0), StoredVerdict::Grant(0)),
            (StoredEnd::Undetermined(0), StoredVerdict::Observe(0)),
            (StoredEnd::Proof(IdentityKind::User, Event::Failed), StoredVerdict::Observe(0)),
            (StoredEnd::Rule(0), StoredVerdict::Unfinished),
            (StoredEnd::Abandoned, StoredVerdict::Silence),
            (StoredEnd::Told(String::new()), StoredVerdict::Grant(0)),
            (StoredEnd::Rule(0), StoredVerdict::Told),
            (StoredEnd::Unanswerable(String::new()), StoredVerdict::Grant(0)),
        ] {
            let bytes = postcard::to_allocvec(&pair).unwrap();
            assert!(postcard::from_bytes::<Ending>(&bytes).is_err());
        }
    }
}
