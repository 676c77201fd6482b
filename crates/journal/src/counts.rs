//! What is counted of entries.

use regnant_decision::{Because, Decider, Ending, EntryKind, Unfit};
use regnant_evidence::{Evidence, Subject};

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
    let rule = match evidence.ending.because() {
        Some(Because::Decider(Decider::Rule(rule)) | Because::Undetermined(rule)) => Some(rule),
        _ => None,
    };
    let grants = evidence.ending.grants().and_then(|grants| u32::try_from(grants).ok());
    CountKey {
        hour: (evidence.id.timestamp_ms() / 3_600_000).cast_signed(),
        edition: evidence.edition,
        gate: place(evidence.gate),
        rule: place(rule),
        grants: place(grants),
        outcome: evidence.ending.kind() as i64,
        cause: cause(&evidence.ending),
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
fn cause(ending: &Ending) -> String {
    let word = match (ending, ending.because()) {
        (_, Some(Because::Proof(kind, event))) => return format!("{}-{}", kind.word(), event.word()),
        (_, Some(Because::Decider(Decider::Rule(_)))) => "rule",
        (_, Some(Because::Decider(Decider::Otherwise))) => "otherwise",
        (_, Some(Because::Undetermined(_))) => "undetermined",
        (Ending::Unfit(Unfit::NoGate), _) => "no-gate",
        (Ending::Unfit(Unfit::MethodNotAccepted), _) => "method-not-accepted",
        (Ending::Unfit(Unfit::NoCredential), _) => "no-credential",
        (Ending::Unfit(Unfit::UnknownConversation), _) => "unknown-conversation",
        (Ending::Unfit(Unfit::Conversation(_)) | Ending::Left(Some(_)), _) => "conversation-failed",
        (Ending::Left(None), _) => "abandoned",
        (Ending::Unfit(Unfit::CannotBeTold(_)), _) => "cannot-be-told",
        (Ending::Told(_) | Ending::Unfit(Unfit::NotTold(_)), _) => "list",
        // The policy's endings have their words above.
        _ => "no-reply",
    };
    word.to_owned()
}
