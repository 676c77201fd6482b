//! Writ, the policy language: text in, verdicts out.
//!
//! This crate opens no file, asks no store and reads no clock. A policy goes
//! through three stages that are types, so that none can be skipped: [`Parsed`],
//! [`Checked`], [`Compiled`]. Read [`Compiled`] first, then [`Schema`], which
//! says what facts there are.

mod acl;
mod assist;
mod check;
mod codes;
mod diagnostic;
mod edit;
mod format;
mod grant;
mod moment;
mod outline;
mod parse;
mod pipeline;
mod run;
mod schema;
mod sets;
mod source;
mod value;
mod window;

pub use acl::{Acl, Action, Entry, Port, Protocol, Where};
pub use assist::{
    Completion, CompletionKind, Completions, GateRead, Hover, RenameError, RuleAct, RuleActError, RuleRead, ThenRead,
    complete, definition, gates, hover, item_put, occurrences, rename, rule_act, rule_put,
};
pub use codes::{CODES, CodeHelp, explain};
pub use diagnostic::{Diagnostic, Label, Severity};
pub use edit::{Edit, Replacement};
pub use format::format;
pub use grant::{FieldKind, Grant, NoValue, STATEMENTS, Statement, StatementKind, StatementValue, Takes};
pub use moment::COPIED;
pub use outline::{Change, ChangeKind, OutlineItem, OutlineKind, changes, outline};
pub use parse::bad_path;
pub use pipeline::{Checked, Compiled, Parsed};
pub use run::case::CaseResult;
pub use run::case::StatedFacts;
pub use run::condition::{Truth, TruthValue};
pub use run::group::group_of_store;
pub use run::method::{
    Accepted, CertificateName, IdentityKind, Inner, Method, Revocation, RevocationSource, TrustClause,
};
pub use run::program::{
    Consequence, Event, Gate, Identify, Key, Leaf, LeafId, Lookup, Observe, Off, Reaction, Rule, StoreId, TellName,
    Term, TermId, Undetermined,
};
pub use run::rules::{Decided, GateTrace, LeafTrace, RuleTrace};
pub use run::{Facts, Known};
pub use schema::{Checks, FactDefinition, FactId, KnownGroups, KnownStore, Schema, SentAttribute, Stage, Type, quoted};
pub use sets::{Asked, Numbers, Values, Words, number};
pub use source::{MAIN, PolicyFiles, Position, Source, SourceFile, Span};
pub use value::{Members, Value, show_duration};
