//! How a decision ends.

use regnant_eap::Failure;
use regnant_policy::{Event, IdentityKind};
use serde::{Deserialize, Serialize};

use crate::eap::evidence::FailureEvidence;

/// How a decision ended, and where it fell.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Because {
    /// Proof of identity ended in an event.
    Proof(IdentityKind, Event),
    /// The rules were tried.
    Decider(Decider),
    /// A rule, by its place, hangs on a store that did not answer.
    Undetermined(u32),
}

/// Why a request cannot be let in, whatever the rules say.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
