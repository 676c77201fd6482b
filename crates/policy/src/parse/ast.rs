use crate::source::Span;

/// A word or text and where it stands.
#[derive(Clone, Debug)]
pub(crate) struct Name {
    pub(crate) text: String,
    pub(crate) span: Span,
}

#[derive(Debug, Default)]
pub(crate) struct Policy {
    pub(crate) defines: Vec<Define>,
    pub(crate) acls: Vec<AclItem>,
    pub(crate) grants: Vec<GrantItem>,
    pub(crate) gates: Vec<GateItem>,
    pub(crate) cases: Vec<CaseItem>,
}

#[derive(Debug)]
pub(crate) struct Define {
    pub(crate) name: Name,
    pub(crate) condition: Condition,
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
    pub(crate) otherwise: Option<ConsequenceItem>,
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
    pub(crate) when: Condition,
    pub(crate) then: ConsequenceItem,
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
    Quantified { all: bool, left: Operand, set: Vec<Operand>, span: Span },
}

#[derive(Clone, Debug)]
pub(crate) enum Test {
    /// A boolean fact or a defined condition by itself.
    Bare,
    Compare(Comparison, Operand),
    InSet(Vec<Operand>),
    InRange(Operand, Operand),
    InBlock(Operand),
    InGroup(Name),
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
    /// `secret "name"`, which stands after `send NAME =` alone.
    Secret(Name),
}

impl Operand {
    pub(crate) fn span(&self) -> Span {
        match self {
            Self::Word(name) | Self::Text(name) | Self::Regex(name) | Self::Secret(name) => name.span,
            Self::Keyed { fact, key } => fact.span.to(key.span),
            Self::Call { span, .. } => *span,
        }
    }
}
