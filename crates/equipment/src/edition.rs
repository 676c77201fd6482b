use std::collections::HashMap;
use std::sync::Arc;

use regnant_policy::Compiled;
use thiserror::Error;

use crate::render::dialect::{Dialect, DialectError};
use crate::vocabulary::Vocabulary;

/// A numbered policy with its grants rendered for every dialect in use.
#[derive(Debug)]
pub struct Edition {
    /// Its number, from 1.
    pub number: u32,
    /// The policy.
    pub policy: Arc<Compiled>,
    /// The facts and attributes that it was checked with.
    pub vocabulary: Arc<Vocabulary>,
    /// Encoded attributes by dialect, then by combination of grants.
    rendered: HashMap<String, Vec<Vec<u8>>>,
}

impl Edition {
    /// Renders a policy's grants, so that none can fail while a NAS waits.
    pub fn prepare(
        number: u32,
        policy: Compiled,
        dialects: &[Dialect],
        vocabulary: Arc<Vocabulary>,
    ) -> Result<Self, Vec<GrantProblem>> {
        let mut rendered = HashMap::new();
        let mut problems = Vec::new();
        for dialect in dialects {
            let mut sets = Vec::new();
            for set in 0..policy.grant_sets() {
                match dialect.render(policy.statements(set), &policy, vocabulary.dictionary()) {
                    Ok(attributes) => sets.push(attributes),
                    Err(error) => problems.push(GrantProblem {
                        grants: policy.grants(set).map(|grant| grant.name.clone()).collect::<Vec<_>>().join(", "),
                        dialect: dialect.name.clone(),
                        error,
                    }),
                }
            }
            rendered.insert(dialect.name.clone(), sets);
        }
        match problems.is_empty() {
            true => Ok(Self { number, policy: Arc::new(policy), vocabulary, rendered }),
            false => Err(problems),
        }
    }

    /// The same under the number that it was given.
    #[must_use]
    pub fn numbered(self, number: u32) -> Self {
        Self { number, ..self }
    }

    /// The attributes of a combination of grants for a NAS of this dialect, encoded; or why
    /// there are none.
    pub fn attributes(&self, dialect: &str, grants: usize) -> Result<&[u8], String> {
        let set = self.rendered.get(dialect).and_then(|sets| sets.get(grants));
        set.map(Vec::as_slice).ok_or_else(|| format!("edition {} does not know the dialect `{dialect}`", self.number))
    }
}

/// A grant that a dialect cannot express.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("grant {grants} cannot be rendered in the dialect `{dialect}`: {error}")]
pub struct GrantProblem {
    /// The grant or grants.
    pub grants: String,
    /// The dialect.
    pub dialect: String,
    /// Why.
    #[source]
    pub error: DialectError,
}
