//! Writ, the policy language: text in, verdicts out.
//!
//! This crate opens no file, asks no store and reads no clock. A policy goes
//! through three stages that are types, so that none can be skipped: [`Parsed`],
//! [`Checked`], [`Compiled`]. Read [`Compiled`] first, then [`Schema`], which
//! says what facts there are.

mod acl;
mod check;
mod diagnostic;
mod grant;
mod mac;
mod parse;
mod pipeline;
mod run;
mod schema;
mod source;
mod value;

pub use acl::{Acl, Action, Entry, Port, Protocol, Where};
pub use diagnostic::{Diagnostic, Label, Severity};
pub use grant::{FieldKind, Grant, NoValue, STATEMENTS, Statement, StatementKind, StatementValue, Takes};
pub use mac::{Mac, MacError};
pub use pipeline::{Checked, Compiled, Parsed};
pub use run::case::CaseResult;
pub use run::condition::{Truth, TruthValue};
pub use run::method::{
    Accepted, CertificateName, IdentityKind, Inner, Method, Revocation, RevocationSource, TrustClause,
};
pub use run::program::{
    Consequence, Event, Gate, Identify, Key, Leaf, Lookup, Reaction, Rule, StoreId, TellName, Undetermined,
};
pub use run::rules::{Decided, GateTrace, LeafTrace, RuleTrace};
pub use run::{Facts, Known};
pub use schema::{FactDefinition, FactId, KnownGroups, KnownStore, Schema, SentAttribute, Stage, Type};
pub use source::{Position, Source, Span};
pub use value::{Members, Value, show_duration};
