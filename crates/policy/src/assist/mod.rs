//! Help for whoever writes a policy, for the API and for editors: what may stand at a place, what a word means,
//! where a name is given its meaning, and another name for it everywhere; gates read aloud, and what is done to their
//! rules. All of it is read off the parser;
//! there is no second grammar.

mod aloud;
mod complete;
mod explain;
mod gates;
mod names;
mod rule_edit;

pub use complete::{Completion, CompletionKind, Completions, complete};
pub use explain::{Hover, hover};
pub use gates::{GateRead, RuleRead, ThenRead, gates};
pub use names::{RenameError, definition, occurrences, rename};
pub use rule_edit::{RuleAct, RuleActError, item_put, rule_act, rule_put};

use crate::parse::Role;
use crate::parse::notes::NamedAt;
use crate::parse::read_names;
use crate::source::Source;

/// Every name of a policy, file after file.
fn names(source: &Source) -> Vec<NamedAt> {
    source.files().iter().flat_map(|file| read_names(source.text_of(file), file.span.start)).collect()
}

/// The name that a span holds, without the quotes of a text.
fn name_in<'s>(source: &'s Source, named: &NamedAt) -> &'s str {
    let text = source.slice(named.span);
    text.strip_prefix('"').and_then(|text| text.strip_suffix('"')).unwrap_or(text)
}

/// Whether names of this role are given their meaning in the policy itself.
fn is_of_policy(role: Role) -> bool {
    matches!(role, Role::Define | Role::List | Role::Acl | Role::Grant | Role::Gate | Role::Rule)
}
