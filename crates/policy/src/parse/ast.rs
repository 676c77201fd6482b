use crate::outline::OutlineItem;
use crate::source::Span;

/// A word or text and where it stands.
#[derive(Clone, Debug)]
pub(crate) struct Name {
    pub(crate) text: String,
    pub(crate) span: Span,
}

#[derive(Debug, Default)]
pub(crate) struct Policy {
    /// The time zone of clock times.
    pub(crate) zone: Option<Name>,
    pub(crate) includes: Vec<Name>,
    pub(crate) lists: Vec<ListItem>,
    pub(crate) defines: Vec<Define>,
    pub(crate) acls: Vec<AclItem>,
    pub(crate) grants: Vec<GrantItem>,
    pub(crate) gates: Vec<GateItem>,
    pub(crate) cases: Vec<CaseItem>,
    pub(crate) outline: Vec<OutlineItem>,
}

#[derive(Debug)]
pub(crate) struct Define {
    pub(crate) name: Name,
    pub(crate) condition: Condition,
}

/// A set of literals with a name.
#[derive(Debug)]
pub(crate) struct ListItem {
    pub(crate) name: Name,
    pub(crate) members: Vec<Operand>,
}

#[derive(Debug)]
pub(crate) struct AclItem {
    pub(crate) name: Name,
    pub(crate) entries: Vec<EntryItem>,
}

#[derive(Debug)]
pub(crate) struct EntryItem {
    pub(crate) action: Name,
    pub(crate) protocol: Name,
    pub(crate) from: Option<Side>,
    pub(crate) to: Side,
}

#[derive(Debug)]
pub(crate) struct Side {
    pub(crate) place: Name,
    pub(crate) ports: Vec<(Name, Option<Name>)>,
}

#[derive(Debug)]
pub(crate) struct GrantItem {
    pub(crate) name: Name,
    pub(crate) extends: Option<Name>,
    pub(crate) statements: Vec<StatementItem>,
}

#[derive(Debug)]
pub(crate) struct StatementItem {
    pub(crate) keyword: Name,
    /// What `send` names.
    pub(crate) attribute: Option<Name>,
    pub(crate) fields: Vec<FieldItem>,
}

/// A value of a statement.
#[derive(Debug)]
pub(crate) struct FieldItem {
    /// The word before it; none before the first.
    pub(crate) word: Option<Name>,
    /// None where the word says it.
    pub(crate) value: Option<Operand>,
    /// What follows `or`.
    pub(crate) default: Option<Operand>,
}

#[derive(Debug)]
pub(crate) struct GateItem {
    pub(crate) name: Name,
    pub(crate) when: Option<Condition>,
    pub(crate) accept: Vec<MethodItem>,
    pub(crate) present: Option<Name>,
    pub(crate) trust: Option<TrustItem>,
    pub(crate) remember: Option<Operand>,
    pub(crate) resume: Option<ResumeItem>,
    pub(crate) identify: Vec<IdentifyItem>,
    pub(crate) lookups: Vec<LookupItem>,
    pub(crate) rules: Vec<RuleItem>,
    pub(crate) undetermined: Option<ReactionItem>,
    pub(crate) tell_name: Option<Name>,
    pub(crate) observe: Option<ObserveItem>,
    pub(crate) otherwise: Option<ConsequenceItem>,
    /// Where that stands, the word with it.
    pub(crate) end: Span,
}

/// What is given in the place of a refusal while a gate is watched.
#[derive(Debug)]
pub(crate) struct ObserveItem {
    /// The word `observe`.
    pub(crate) span: Span,
    pub(crate) when: Option<Condition>,
    pub(crate) grants: Vec<Name>,
}

/// A method, and in parentheses what goes inside.
#[derive(Debug)]
pub(crate) struct MethodItem {
    pub(crate) name: Name,
    pub(crate) inner: Vec<Name>,
    /// The word `bound`, where it stands.
    pub(crate) bound: Option<Name>,
}

#[derive(Debug)]
pub(crate) struct TrustItem {
    pub(crate) name: Name,
    /// A kind of identity and the places where its name is looked for.
    pub(crate) names: Vec<(Name, Vec<Name>)>,
    pub(crate) revocation: Option<RevocationItem>,
}

#[derive(Debug)]
pub(crate) struct RevocationItem {
    pub(crate) sources: Vec<Name>,
    /// What follows `unreachable`.
    pub(crate) unreachable: Option<Name>,
}

#[derive(Debug)]
pub(crate) enum ResumeItem {
    Never,
    UpTo(Operand),
}

#[derive(Debug)]
pub(crate) struct IdentifyItem {
    pub(crate) kind: Name,
    pub(crate) stores: Vec<Name>,
    pub(crate) name_from: Option<Operand>,
    /// The word `bound`, where it stands.
    pub(crate) bound: Option<Name>,
    pub(crate) reactions: Vec<(Name, ReactionItem)>,
}

#[derive(Debug)]
pub(crate) struct LookupItem {
    pub(crate) kind: Name,
    pub(crate) stores: Vec<Name>,
    pub(crate) by: Option<Operand>,
    /// What follows `unreachable`.
    pub(crate) unreachable: Option<ReactionItem>,
}

#[derive(Debug)]
pub(crate) struct ReactionItem {
    pub(crate) word: Name,
    pub(crate) text: Option<Name>,
    /// How old, after `use stale`.
    pub(crate) stale: Option<Operand>,
}

#[derive(Debug)]
pub(crate) struct RuleItem {
    pub(crate) title: Name,
    /// Whether it refuses where its gate observes, too.
    pub(crate) always: bool,
    pub(crate) off: Option<OffItem>,
    /// The title of the rule that it was copied from and that nobody has looked at since.
    pub(crate) copied_from: Option<Name>,
    /// From when on it counts, and until when.
    pub(crate) from: Option<Operand>,
    pub(crate) until: Option<Operand>,
    pub(crate) when: Condition,
    pub(crate) then: ConsequenceItem,
    pub(crate) spans: RuleSpans,
}

/// Where the whole of a rule stands, and what of its head can go.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct RuleSpans {
    pub(crate) whole: Span,
    /// After its title, and `always` where that stands: `off` stands there, then `copied from`.
    pub(crate) named: Span,
    pub(crate) off: Span,
    pub(crate) copied: Span,
}

/// A rule that is passed over.
#[derive(Debug)]
pub(crate) struct OffItem {
    /// The word `off`.
    pub(crate) span: Span,
    pub(crate) until: Option<Operand>,
}

#[derive(Debug)]
pub(crate) enum ConsequenceItem {
    Grant(Vec<Name>),
    Refuse(Option<Name>),
    Silence,
}

#[derive(Debug)]
pub(crate) struct CaseItem {
    pub(crate) title: Name,
    pub(crate) given: Vec<(Name, GivenValue)>,
    /// Whether it is judged against the records.
    pub(crate) now: bool,
    pub(crate) expect: ConsequenceItem,
    pub(crate) by: Option<ByItem>,
    pub(crate) with: Vec<StatementItem>,
    pub(crate) expect_span: Span,
}

#[derive(Debug)]
pub(crate) enum GivenValue {
    One(Operand),
    Set(Vec<Operand>),
    /// A store that would know did not answer.
    Unanswered,
}

#[derive(Debug)]
pub(crate) enum ByItem {
    Rule(Name),
    Otherwise,
}

#[derive(Clone, Debug)]
pub(crate) enum Condition {
    And(Vec<Condition>),
    Or(Vec<Condition>),
    Not(Box<Condition>),
    Exists { fact: Name, span: Span },
    Test { left: Operand, test: Test, span: Span },
    Quantified { all: bool, left: Operand, set: SetItem, span: Span },
}

/// Members, or the name of a list that has them.
#[derive(Clone, Debug)]
pub(crate) enum SetItem {
    Members(Vec<Operand>),
    List(Name),
}

#[derive(Clone, Debug)]
pub(crate) enum Test {
    /// A boolean fact or a defined condition by itself.
    Bare,
    Compare(Comparison, Operand),
    InSet(Vec<Operand>),
    InRange(Operand, Operand),
    InBlock(Operand),
    /// A group, and the store that has it where one is said.
    InGroup(Name, Option<Name>),
    StartsWith(Operand),
    EndsWith(Operand),
    Contains(Operand),
    Matches(Name),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

#[derive(Clone, Debug)]
pub(crate) struct WindowItem {
    pub(crate) days: Option<(Name, Option<Name>)>,
    pub(crate) hours: Option<Name>,
    pub(crate) span: Span,
}

#[derive(Clone, Debug)]
pub(crate) enum Operand {
    Word(Name),
    Text(Name),
    Regex(Name),
    Call {
        function: Name,
        arguments: Vec<Operand>,
        span: Span,
    },
    /// `certificate.extension "OID"`: the value of a member KEY=VALUE of a set.
    Keyed {
        fact: Name,
        key: Name,
    },
    /// Hours of some days, such as `Mon..Fri 06:00-20:00`.
    Window(Box<WindowItem>),
    /// `secret "name"`, which stands after `send NAME =` alone.
    Secret(Name),
}

impl Operand {
    pub(crate) fn span(&self) -> Span {
        match self {
            Self::Word(name) | Self::Text(name) | Self::Regex(name) | Self::Secret(name) => name.span,
            Self::Keyed { fact, key } => fact.span.to(key.span),
            Self::Call { span, .. } => *span,
            Self::Window(window) => window.span,
        }
    }
}
