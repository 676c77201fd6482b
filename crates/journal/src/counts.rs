//! What is counted of entries, and what an entry is.

use regnant_access::{End, Evidence, Subject, Verdict};

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
}

impl EntryKind {
    /// All with their words.
    pub const ALL: [(&'static str, Self); 5] = [
        ("granted", Self::Granted),
        ("refused", Self::Refused),
        ("silence", Self::Silence),
        ("unfinished", Self::Unfinished),
        ("unheard", Self::Unheard),
    ];

    /// The kind of this word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(known, _)| *known == word).map(|(_, kind)| *kind)
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        Self::ALL[self as usize - 1].0
    }

    pub(crate) fn of(verdict: &Verdict) -> Self {
        match verdict {
            Verdict::Grant(_) => Self::Granted,
            Verdict::Refuse(_) => Self::Refused,
            Verdict::Silence => Self::Silence,
            Verdict::Unfinished => Self::Unfinished,
        }
    }
}

/// What entries are counted by.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct CountKey {
    pub(crate) hour: i64,
    pub(crate) edition: u32,
    pub(crate) gate: i64,
    pub(crate) rule: i64,
    pub(crate) grants: i64,
    pub(crate) outcome: i64,
    pub(crate) cause: String,
    pub(crate) nas: String,
}

/// Whose newest entry it is.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Newest {
    pub(crate) kind: NewestKind,
    pub(crate) name: String,
}

/// Of whom the newest entry is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(i64)]
pub enum NewestKind {
    /// A device, by its MAC address.
    Device = 1,
    /// A person, by the name that was claimed, in lower case.
    Person = 2,
    /// A machine, likewise.
    Machine = 3,
    /// A NAS, by its name.
    Nas = 4,
}

/// How often something was decided in one hour.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Count {
    /// Hours since 1970 (UTC).
    pub hour: i64,
    /// The edition that decided.
    pub edition: u32,
    /// The gate, by its place in the edition.
    pub gate: Option<u32>,
    /// The rule, by its place in the gate.
    pub rule: Option<u32>,
    /// The combination of grants, by its place in the edition.
    pub grants: Option<u32>,
    /// What came of it.
    pub kind: EntryKind,
    /// Where it fell: `rule`, `otherwise`, `no-gate`, `user-failed` and the like.
    pub cause: String,
    /// The NAS; none where so many were counted that they are not told apart.
    pub nas: Option<String>,
    /// How often.
    pub number: u64,
}

/// What one decision counts as.
pub(crate) fn count_key(evidence: &Evidence, nas: &str) -> CountKey {
    let place = |place: Option<u32>| place.map_or(-1, i64::from);
    let rule = match evidence.end {
        End::Rule(rule) | End::Undetermined(rule) => Some(rule),
        _ => None,
    };
    let grants = match evidence.verdict {
        Verdict::Grant(set) => u32::try_from(set).ok(),
        _ => None,
    };
    CountKey {
        hour: (evidence.id.timestamp_ms() / 3_600_000).cast_signed(),
        edition: evidence.edition,
        gate: place(evidence.gate),
        rule: place(rule),
        grants: place(grants),
        outcome: EntryKind::of(&evidence.verdict) as i64,
        cause: cause(&evidence.end),
        nas: nas.to_owned(),
    }
}

/// Whose newest entry a decision is.
pub(crate) fn newest(evidence: &Evidence, nas: &str) -> Vec<Newest> {
    let of = |kind, name: String| Newest { kind, name };
    let mut all = vec![of(NewestKind::Nas, nas.to_owned())];
    match &evidence.subject {
        Subject::User(name) => all.push(of(NewestKind::Person, name.to_lowercase())),
        Subject::Machine(name) => all.push(of(NewestKind::Machine, name.to_lowercase())),
        Subject::Device(..) | Subject::Nobody => {}
    }
    all.extend(evidence.device().map(|mac| of(NewestKind::Device, mac.to_string())));
    all
}

/// Where a decision fell, in a word that programs use.
fn cause(end: &End) -> String {
    match end {
        End::NoGate => "no-gate".into(),
        End::MethodNotAccepted => "method-not-accepted".into(),
        End::NoCredential => "no-credential".into(),
        End::Proof(kind, event) => format!("{}-{}", kind.word(), event.word()),
        End::Eap(_) => "conversation-failed".into(),
        End::Abandoned => "abandoned".into(),
        End::UnknownConversation => "unknown-conversation".into(),
        End::Rule(_) => "rule".into(),
        End::Otherwise => "otherwise".into(),
        End::Undetermined(_) => "undetermined".into(),
        End::NoReply(_) => "no-reply".into(),
    }
}
