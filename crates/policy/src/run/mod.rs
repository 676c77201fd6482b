//! A checked policy as a program, and its evaluation. Nothing here can fail.

pub(crate) mod case;
pub(crate) mod condition;
pub(crate) mod group;
pub(crate) mod index;
pub(crate) mod method;
pub(crate) mod program;
pub(crate) mod rules;
mod why;

use serde::{Deserialize, Serialize};

use crate::schema::FactId;
use crate::value::Value;

/// What is known of a fact.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Known<T> {
    /// The value.
    Is(T),
    /// The request has no such thing.
    Absent,
    /// A store that would know did not answer.
    Unanswered,
    /// A set to which a store that did not answer may have more to add.
    Partial(T),
}

impl<T> Known<T> {
    /// The value with a function applied.
    pub fn map<U>(self, f: impl FnOnce(T) -> U) -> Known<U> {
        self.and_then(|value| Known::Is(f(value)))
    }

    /// The value with a function applied that may find nothing.
    pub fn and_then<U>(self, f: impl FnOnce(T) -> Known<U>) -> Known<U> {
        match self {
            Self::Is(value) => f(value),
            Self::Absent => Known::Absent,
            // Only sets have parts, and functions work on single values.
            Self::Unanswered | Self::Partial(_) => Known::Unanswered,
        }
    }
}

impl<T> From<Option<T>> for Known<T> {
    fn from(option: Option<T>) -> Self {
        option.map_or(Self::Absent, Self::Is)
    }
}

/// Where an evaluation gets its facts. A fact is asked for only when a
/// condition needs it, so an implementation may compute it then.
pub trait Facts {
    /// The value of a fact of the schema that the policy was checked with.
    fn fact(&self, id: FactId) -> Known<Value<'_>>;
}
