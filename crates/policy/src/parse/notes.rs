//! What reading a policy tells beside its tree, for whoever writes one: which name stands where, and what may
//! stand where the text ends. The grammar is the parser's alone.

use std::cell::RefCell;

use crate::source::Span;

/// What a name is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Role {
    /// A named condition.
    Define,
    /// A named set.
    List,
    /// An access list.
    Acl,
    /// A grant.
    Grant,
    /// A gate.
    Gate,
    /// The title of a rule.
    Rule,
    /// A fact, or a named condition where one may stand.
    Fact,
    /// One of a few words that stand beside.
    Literal,
    /// What a fact is compared with.
    Value,
    /// A store.
    Store,
    /// A group of whoever stands before it.
    Group,
    /// A certificate that is presented.
    Certificate,
    /// A trust.
    Trust,
    /// A secret.
    Secret,
    /// An attribute that is sent.
    Attribute,
    /// A method.
    Method,
    /// A method inside a tunnel.
    Inner,
    /// A file of the policy.
    File,
    /// A time zone.
    Zone,
}

/// A name, where it stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct NamedAt {
    pub(crate) span: Span,
    pub(crate) role: Role,
    /// Whether it is given its meaning here.
    pub(crate) defines: bool,
}

/// What may stand where the text ends.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Wanted {
    /// This word or sign.
    Word(String),
    /// A name.
    Name(Role),
}

/// What was noted.
#[derive(Debug, Default)]
pub(crate) struct Notes {
    pub(crate) names: Vec<NamedAt>,
    /// What a comparison is about that was begun last.
    pub(crate) subject: Span,
    /// What was looked for at the end of the text; none where nobody asks.
    wanted: Option<RefCell<Vec<Wanted>>>,
}

impl Notes {
    /// With what may stand where the text ends.
    pub(crate) fn asking() -> Self {
        Self { wanted: Some(RefCell::default()), ..Self::default() }
    }

    pub(crate) fn name(&mut self, span: Span, role: Role, defines: bool) {
        self.names.push(NamedAt { span, role, defines });
    }

    /// What the last comparison is about is somebody, as in `user in group`, and names nothing of the policy.
    pub(crate) fn about_somebody(&mut self) {
        if self.names.last().is_some_and(|named| named.span == self.subject) {
            self.names.pop();
        }
    }

    pub(crate) fn want(&self, wanted: impl FnOnce() -> Wanted) {
        if let Some(all) = &self.wanted {
            all.borrow_mut().push(wanted());
        }
    }

    /// What is looked for from here on is no matter of the end of the text, but of a mistake there.
    pub(crate) fn stop(&mut self) -> Vec<Wanted> {
        self.wanted.take().map(RefCell::into_inner).unwrap_or_default()
    }
}
