//! Which facts a store outside tells, and from where it takes them.

use std::collections::BTreeMap;

use regnant_decision::{AttributeKind, IdentityAttribute, KnownAttributes};
use regnant_policy::{IdentityKind, Value};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The facts of one store, each by its declared name (`user.department`), with where it stands in
/// an answer: an attribute of a directory, a JSON Pointer. What type a fact has is declared once,
/// whatever stores tell it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Told(pub BTreeMap<String, String>);

/// Facts of one store.
const MOST: usize = 64;

impl Told {
    /// Whether each is declared.
    pub fn check<'a>(&self, declared: impl Iterator<Item = &'a IdentityAttribute> + Clone) -> Result<(), ToldError> {
        if self.0.len() > MOST {
            return Err(ToldError::TooMany);
        }
        let known = |name: &String| declared.clone().any(|attribute| attribute.fact() == *name);
        match self.0.keys().find(|name| !known(name)) {
            Some(name) => Err(ToldError::NotDeclared(name.chars().take(80).collect())),
            None => Ok(()),
        }
    }

    /// Those of one kind of identity: name, type and place.
    pub fn of<'t>(
        &'t self,
        kind: IdentityKind,
        declared: &'t [IdentityAttribute],
    ) -> impl Iterator<Item = (&'t str, AttributeKind, &'t str)> {
        let attribute = move |(name, place): (&'t String, &'t String)| {
            let attribute = declared.iter().find(|attribute| attribute.of == kind && attribute.fact() == *name)?;
            Some((attribute.name.as_str(), attribute.kind, place.as_str()))
        };
        self.0.iter().filter_map(attribute)
    }

    /// The facts of an answer; `value` finds what stands at a place of it.
    pub fn facts<'t>(
        &'t self,
        kind: IdentityKind,
        declared: &'t [IdentityAttribute],
        value: impl Fn(AttributeKind, &'t str) -> Option<Value<'static>>,
    ) -> KnownAttributes {
        let mut facts: Vec<(Box<str>, Value<'static>)> = self
            .of(kind, declared)
            .filter_map(|(name, kind, place)| Some((name.into(), value(kind, place)?)))
            .collect();
        facts.sort_by(|(one, _), (other, _)| one.cmp(other));
        facts.into()
    }

    /// Which of the kinds it tells anything of.
    pub fn kinds(&self) -> impl Iterator<Item = IdentityKind> {
        let told = |kind: &IdentityKind| self.0.keys().any(|name| IdentityAttribute::split(name).0 == *kind);
        [IdentityKind::User, IdentityKind::Machine, IdentityKind::Mac].into_iter().filter(told)
    }
}

/// What cannot be told.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ToldError {
    /// Too many.
    #[error("a store tells at most {MOST} facts")]
    TooMany,
    /// It has no type.
    #[error(
        "no fact `{0}` is declared: `regnant attribute add NAME --type TYPE` says what type it has, with user., machine. or device. in front of the name"
    )]
    NotDeclared(String),
}
