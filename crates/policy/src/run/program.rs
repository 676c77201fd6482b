use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use regex::Regex;
use serde::{Deserialize, Serialize};

use crate::acl::Acl;
use crate::grant::Grant;
use crate::parse::ast::{Comparison, RuleSpans};
use crate::run::group::OfStore;
use crate::run::index::RuleIndex;
use crate::run::method::{Accepted, IdentityKind, Method, TrustClause};
use crate::schema::FactId;
use crate::source::Span;
use crate::value::Value;
use crate::window::Window;

/// Everything that evaluation needs, as flat tables.
#[derive(Debug, Default)]
pub(crate) struct Program {
    pub(crate) gates: Vec<Gate>,
    pub(crate) grants: Vec<Grant>,
    pub(crate) acls: Vec<Acl>,
    /// Every combination of grants that some rule gives; consequences refer to
    /// these, so that each can be rendered once per dialect.
    pub(crate) grant_sets: Vec<Vec<usize>>,
    pub(crate) terms: Vec<Term>,
    pub(crate) leaves: Vec<Leaf>,
    /// Every store that a gate names, once.
    pub(crate) stores: Vec<String>,
}

impl Program {
    pub(crate) fn term(&self, id: TermId) -> &Term {
        &self.terms[id.0 as usize]
    }

    pub(crate) fn leaf(&self, id: LeafId) -> &Leaf {
        &self.leaves[id.0 as usize]
    }

    /// The id of a store.
    pub(crate) fn store(&mut self, name: &str) -> StoreId {
        let known = self.stores.iter().position(|known| known == name);
        let place = known.unwrap_or_else(|| {
            self.stores.push(name.to_owned());
            self.stores.len() - 1
        });
        StoreId(u32::try_from(place).expect("a policy has fewer stores than bytes"))
    }
}

/// A part of a condition, by its place in the policy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TermId(pub(crate) u32);

/// A comparison, by its place in the policy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct LeafId(pub(crate) u32);

/// A part of a condition. Several may have a part in common, and none has itself.
#[derive(Debug)]
pub enum Term {
    /// All of these.
    All(Box<[TermId]>),
    /// One of these at least.
    Any(Box<[TermId]>),
    /// Not this.
    Not(TermId),
    /// This comparison.
    Asks(LeafId),
}

/// One comparison of a condition.
#[derive(Debug)]
pub struct Leaf {
    /// The comparison as it is written.
    pub text: String,
    /// Where it is written.
    pub span: Span,
    /// The fact that it asks about.
    pub fact: FactId,
    pub(crate) left: Expression,
    pub(crate) test: Test,
    pub(crate) ignore_case: bool,
}

impl Leaf {
    /// The values that it names, as they are written.
    pub fn names(&self) -> &[Value<'static>] {
        match &self.test {
            Test::Compare(_, Expression::Literal(value)) | Test::ContainsMember(value) => std::slice::from_ref(value),
            Test::OneOf(values) | Test::AnyOf(values) | Test::AllOf(values) => values,
            _ => &[],
        }
    }
}

#[derive(Clone, Debug)]
pub(crate) enum Expression {
    Fact(FactId),
    Literal(Value<'static>),
    Lower(Box<Expression>),
    Upper(Box<Expression>),
    Trim(Box<Expression>),
    Before(Box<Expression>, String),
    After(Box<Expression>, String),
    Capture(Box<Expression>, Regex),
    /// What follows this in a member of a set.
    Keyed(FactId, String),
    /// Groups of one store.
    OfStore(Box<OfStore>),
}

#[derive(Debug)]
pub(crate) enum Test {
    Exists,
    True,
    Compare(Comparison, Expression),
    OneOf(Arc<[Value<'static>]>),
    /// Hours of days, by the clock of a zone.
    Windows(Box<[Window]>, TimeZone),
    Range(Value<'static>, Value<'static>),
    Block(IpAddr, u8),
    StartsWith(String),
    EndsWith(String),
    ContainsText(String),
    ContainsMember(Value<'static>),
    AnyOf(Arc<[Value<'static>]>),
    AllOf(Arc<[Value<'static>]>),
    Matches(Regex),
}

impl Test {
    /// How many values it compares with.
    pub(crate) fn comparisons(&self) -> usize {
        match self {
            Self::OneOf(values) | Self::AnyOf(values) | Self::AllOf(values) => values.len().max(1),
            Self::Windows(windows, _) => windows.len().max(1),
            _ => 1,
        }
    }
}

/// One kind of request and everything about it.
#[derive(Debug)]
pub struct Gate {
    /// Its name.
    pub name: String,
    /// The methods that may prove an identity here, in the order offered.
    pub accept: Vec<Accepted>,
    /// The certificate that tunnels present, by name of a record.
    pub present: Option<String>,
    /// Whose certificates are believed.
    pub trust: Option<TrustClause>,
    /// For how many seconds a machine that proved itself counts as proved.
    pub remember_machine: Option<u32>,
    /// For how many seconds an EAP session may be resumed; never where zero.
    pub resume: u32,
    /// Where identities are proved or looked up.
    pub identify: Vec<Identify>,
    /// Where facts about them are looked up, in this order.
    pub lookups: Vec<Lookup>,
    /// The rules in order.
    pub rules: Vec<Rule>,
    /// What happens when no rule is true.
    pub otherwise: Consequence,
    /// What happens when a rule hangs on a store that did not answer.
    pub undetermined: Undetermined,
    /// What is given in the place of a refusal while the gate is watched.
    pub observe: Option<Observe>,
    /// Which User-Name an Access-Accept carries; where none is said, the proved one
    /// in place of an anonymous one.
    pub tell_name: Option<TellName>,
    /// How many comparisons a decision of it takes at most: each value of a list is one.
    pub comparisons: usize,
    /// Which requests it takes; none where it takes all.
    pub when: Option<TermId>,
    pub(crate) index: RuleIndex,
}

impl Gate {
    /// The clause for a kind of identity.
    pub fn identify(&self, kind: IdentityKind) -> Option<&Identify> {
        self.identify.iter().find(|clause| clause.kind == kind)
    }

    /// Whether the gate accepts a proof by a method, of this word, with these inside; `bound` says whether tunnel
    /// and inner method were proved to belong together.
    pub fn accepts_proof<'w>(&self, method: &str, inner: impl Iterator<Item = &'w str> + Clone, bound: bool) -> bool {
        Accepted::any_of(&self.accept, method, inner, bound)
    }

    /// Whether the gate accepts a method, with whatever inside.
    pub fn accepts(&self, method: Method) -> bool {
        self.accept.iter().any(|accepted| accepted.method == method)
    }
}

/// A named condition and what follows from it.
#[derive(Debug)]
pub struct Rule {
    /// Its title.
    pub title: String,
    /// What follows.
    pub then: Consequence,
    /// Where it is written.
    pub span: Span,
    /// Whether it refuses where its gate observes, too.
    pub always: bool,
    /// Whether it is passed over.
    pub off: Option<Off>,
    /// The title of the rule that it was copied from and that nobody has looked at since.
    pub copied_from: Option<String>,
    /// From when on it counts, in seconds since 1970.
    pub from: Option<i64>,
    /// Until when it counts.
    pub until: Option<i64>,
    /// When it decides; from when on it counts, until when, and whether it is off are part of it.
    pub when: TermId,
    pub(crate) spans: RuleSpans,
}

/// For how long a rule is passed over.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Off {
    /// Until the word is removed.
    Always,
    /// Until this moment, in seconds since 1970.
    Until(i64),
}

/// What is given in the place of a refusal while a gate is watched.
#[derive(Debug)]
pub struct Observe {
    /// The combination of grants, by its number in the policy.
    pub grants: usize,
    /// Where it is written.
    pub span: Span,
    /// Of which requests; never of one in which an identity was presented and not proved.
    pub when: TermId,
}

/// What follows from a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Consequence {
    /// Access: a combination of grants, by its number in the policy.
    Grant(usize),
    /// Access-Reject, perhaps with a text.
    Refuse(Option<String>),
    /// No answer at all.
    Silence,
}

impl Consequence {
    /// What is given, where something is.
    pub fn grants(&self) -> Option<usize> {
        match self {
            Self::Grant(grants) => Some(*grants),
            Self::Refuse(_) | Self::Silence => None,
        }
    }
}

/// Which User-Name an Access-Accept carries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TellName {
    /// That of whoever was proved, as the store writes it.
    Proved,
    /// That of the request.
    Asked,
    /// None.
    None,
}

impl TellName {
    /// All with their words in Writ.
    pub const ALL: [(&'static str, Self); 3] = [("proved", Self::Proved), ("asked", Self::Asked), ("none", Self::None)];
}

/// What happens when a rule hangs on a store that did not answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Undetermined {
    /// No answer, so that the NAS asks somebody who may know.
    #[default]
    Silence,
    /// Access-Reject, perhaps with a text.
    Refuse(Option<String>),
    /// A rule that grants is passed over; one that does not ends in silence.
    Continue,
}

impl Undetermined {
    /// What follows where the rules end undetermined.
    pub fn consequence(&self) -> Consequence {
        match self {
            Self::Refuse(text) => Consequence::Refuse(text.clone()),
            Self::Silence | Self::Continue => Consequence::Silence,
        }
    }
}

/// A store that a policy names, by its place among them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct StoreId(pub(crate) u32);

impl StoreId {
    /// Its place in [`crate::Compiled::stores`].
    pub fn place(self) -> usize {
        self.0 as usize
    }
}

/// Where identities of one kind are proved or looked up.
#[derive(Debug)]
pub struct Identify {
    /// The kind of identity.
    pub kind: IdentityKind,
    /// The stores, in the order asked.
    pub stores: Vec<StoreId>,
    pub(crate) name_from: Option<Expression>,
    /// Whether a certificate proves an account only where the store has it among the account's.
    pub bound: bool,
    pub(crate) reactions: [Reaction; Event::COUNT],
}

impl Identify {
    /// What happens on an event.
    pub fn reaction(&self, event: Event) -> &Reaction {
        match event {
            Event::HeldBack => &Reaction::Refuse(None),
            Event::NoRoom => &Reaction::Silence,
            event => &self.reactions[event as usize],
        }
    }

    /// The name to look up, made from what is claimed.
    pub fn name(&self, facts: &dyn crate::Facts, claimed: &str) -> Option<String> {
        match &self.name_from {
            None => Some(claimed.to_owned()),
            Some(expression) => match expression.value(facts) {
                crate::Known::Is(Value::Text(text)) => Some(text.into_owned()),
                _ => None,
            },
        }
    }
}

/// Where facts about an identity are looked up that is proved elsewhere.
#[derive(Debug)]
pub struct Lookup {
    /// The kind of identity.
    pub kind: IdentityKind,
    /// The stores, in the order asked.
    pub stores: Vec<StoreId>,
    pub(crate) by: Option<Expression>,
    pub(crate) unreachable: Reaction,
}

/// What is looked up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Key {
    /// This.
    Is(String),
    /// Nothing: the facts that make it are absent.
    None,
    /// A store that would know did not answer.
    Unanswered,
}

impl Lookup {
    /// Whether it says by what, in place of the name.
    pub fn has_key(&self) -> bool {
        self.by.is_some()
    }

    /// What its `by` makes of the facts. A set is a name where it has one member.
    pub fn key(&self, facts: &dyn crate::Facts) -> Key {
        let Some(expression) = &self.by else { return Key::None };
        let text = |value: &Value<'_>| match value {
            Value::Text(text) => Key::Is(text.clone().into_owned()),
            Value::Set(_) => Key::None,
            other => Key::Is(other.to_string()),
        };
        match expression.value(facts) {
            crate::Known::Is(Value::Set(members)) => match &*members {
                [one] => text(one),
                _ => Key::None,
            },
            crate::Known::Is(value) => text(&value),
            crate::Known::Absent => Key::None,
            crate::Known::Unanswered | crate::Known::Partial(_) => Key::Unanswered,
        }
    }

    /// What happens where a store does not answer and none had it.
    pub fn unreachable(&self) -> &Reaction {
        &self.unreachable
    }
}

/// What may happen while an identity is proved.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Event {
    /// No store has it.
    Unknown,
    /// A store that was asked did not answer, and might have kept it back.
    Unreachable,
    /// The credential is wrong.
    Failed,
    /// The store cannot check this kind of credential.
    Unfit,
    /// The account is disabled.
    Disabled,
    /// The account has expired.
    Expired,
    /// No identity of this kind was presented.
    Absent,
    /// A store has several accounts of that name.
    Ambiguous,
    /// Nobody gets in under the account for now, whatever the password.
    Locked,
    /// The password is right, and too old, or has to be changed before it counts.
    Outdated,
    /// There were so many wrong credentials that this one was not looked at. No gate reacts to it: it is
    /// refused.
    HeldBack,
    /// Nobody could be asked, for want of room of our own. No gate reacts to it: nobody is answered, so
    /// that whoever causes load never decides what applies.
    NoRoom,
}

impl Event {
    pub(crate) const COUNT: usize = 10;
    /// The events that a gate may react to, with their words in Writ.
    pub const ALL: [(&'static str, Self); Self::COUNT] = [
        ("unknown", Self::Unknown),
        ("unreachable", Self::Unreachable),
        ("failed", Self::Failed),
        ("unfit", Self::Unfit),
        ("disabled", Self::Disabled),
        ("expired", Self::Expired),
        ("absent", Self::Absent),
        ("ambiguous", Self::Ambiguous),
        ("locked", Self::Locked),
        ("outdated", Self::Outdated),
    ];

    /// Its word; in Writ, for those that a gate may react to.
    pub fn word(self) -> &'static str {
        match self {
            Self::HeldBack => "held-back",
            Self::NoRoom => "no-room",
            event => Self::ALL[event as usize].0,
        }
    }

    pub(crate) fn default_reaction(self) -> Reaction {
        match self {
            Self::Unreachable => Reaction::Silence,
            Self::Absent => Reaction::Continue,
            _ => Reaction::Refuse(None),
        }
    }
}

/// What a gate does on an event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reaction {
    /// Access-Reject, perhaps with a text.
    Refuse(Option<String>),
    /// No answer at all.
    Silence,
    /// On to the rules, the identity not proved.
    Continue,
    /// Ask the next store.
    Next,
    /// Take what the store told at most that long ago, where that is no proof.
    UseStale(Duration),
}
