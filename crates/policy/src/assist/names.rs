use thiserror::Error;

use crate::assist::{is_of_policy, name_in, names};
use crate::edit::Replacement;
use crate::parse::Role;
use crate::parse::notes::NamedAt;
use crate::source::{Source, Span};

/// Why a name cannot be another.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RenameError {
    /// Nothing that the policy names stands there.
    #[error("nothing that the policy gives a name stands here")]
    NoName,
    /// It cannot be a name.
    #[error("`{0}` cannot be a name: a name begins with a letter and goes on with letters, digits, - and _")]
    NotAName(String),
    /// A title cannot hold it.
    #[error("a title stands in one line, and has a letter at least")]
    NotATitle,
    /// Something else has that name.
    #[error("there is a {what} `{name}` already")]
    Taken {
        /// What it is.
        what: &'static str,
        /// Its name.
        name: String,
    },
}

/// The names of a policy, and what one of them is of where a bare word may be either.
struct Named<'s> {
    source: &'s Source,
    all: Vec<NamedAt>,
}

impl<'s> Named<'s> {
    fn new(source: &'s Source) -> Self {
        Self { source, all: names(source) }
    }

    /// What a name is of. A word in a condition is a named condition where it has no full stop, and one after
    /// `in` a list where there is one of that name.
    fn role(&self, named: &NamedAt) -> Option<Role> {
        match named.role {
            Role::Fact if !name_in(self.source, named).contains('.') => Some(Role::Define),
            role => is_of_policy(role).then_some(role),
        }
    }

    fn at(&self, offset: usize) -> Option<&NamedAt> {
        self.all.iter().find(|named| named.span.start <= offset && offset <= named.span.end)
    }

    /// Every place of what stands at an offset: those where it is given its meaning first.
    fn same(&self, offset: usize) -> Option<(Role, Vec<&NamedAt>)> {
        let it = self.at(offset)?;
        let (role, name) = (self.role(it)?, name_in(self.source, it));
        let same = |other: &&NamedAt| self.role(other) == Some(role) && name_in(self.source, other) == name;
        let mut all: Vec<_> = self.all.iter().filter(same).collect();
        all.sort_by_key(|named| (!named.defines, named.span.start));
        // Without a definition a word is something else, such as a number.
        all.first().is_some_and(|first| first.defines).then_some((role, all))
    }
}

/// Where what stands at an offset is given its name.
pub fn definition(source: &Source, offset: usize) -> Option<Span> {
    occurrences(source, offset).first().copied()
}

/// The whole of what is given its name at a place.
pub(super) fn item_of(source: &Source, name: Span) -> Option<Span> {
    let holds = |item: &crate::OutlineItem| item.span.start <= name.start && name.end <= item.span.end;
    crate::outline(source).into_iter().filter(holds).map(|item| item.span).min_by_key(|span| span.end - span.start)
}

/// Every place of what stands at an offset, that where it is given its name first.
pub fn occurrences(source: &Source, offset: usize) -> Vec<Span> {
    Named::new(source).same(offset).map_or(Vec::new(), |(_, all)| all.iter().map(|named| named.span).collect())
}

/// The changes that give what stands at an offset another name, in all files.
pub fn rename(source: &Source, offset: usize, name: &str) -> Result<Vec<Replacement>, RenameError> {
    let named = Named::new(source);
    let (role, all) = named.same(offset).ok_or(RenameError::NoName)?;
    let text = match role {
        Role::Rule if name.trim().is_empty() || name.chars().any(char::is_control) => {
            return Err(RenameError::NotATitle);
        }
        Role::Rule => crate::quoted(name),
        _ if !is_name(name) => return Err(RenameError::NotAName(name.to_owned())),
        _ => name.to_owned(),
    };
    // Rules of two gates may have one title.
    let taken = |other: &NamedAt| {
        role != Role::Rule && other.defines && named.role(other) == Some(role) && name_in(source, other) == name
    };
    if name_in(source, all[0]) != name && named.all.iter().any(taken) {
        return Err(RenameError::Taken { what: word(role), name: name.to_owned() });
    }
    let mut changes: Vec<_> = all.iter().map(|named| Replacement { span: named.span, text: text.clone() }).collect();
    changes.sort_by_key(|change| change.span.start);
    Ok(changes)
}

fn is_name(text: &str) -> bool {
    text.starts_with(char::is_alphabetic) && text.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '_')
}

/// What something of a role is called.
pub(super) fn word(role: Role) -> &'static str {
    match role {
        Role::Define => "named condition",
        Role::List => "list",
        Role::Acl => "access list",
        Role::Grant => "grant",
        Role::Gate => "gate",
        Role::Rule => "rule",
        Role::Fact => "fact",
        Role::Value | Role::Literal => "value",
        Role::Store => "store",
        Role::Group => "group",
        Role::Certificate => "certificate",
        Role::Trust => "trust",
        Role::Secret => "secret",
        Role::Attribute => "attribute",
        Role::Method | Role::Inner => "method",
        Role::File => "file",
        Role::Zone => "time zone",
    }
}
