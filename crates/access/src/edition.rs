use std::collections::HashMap;
use std::sync::Arc;

use regnant_policy::Compiled;
use thiserror::Error;

use crate::facts::table::FactTable;
use crate::render::dialect::{Dialect, DialectError};

/// A numbered policy with its grants rendered for every dialect in use.
#[derive(Debug)]
pub struct Edition {
    /// Its number, from 1.
    pub number: u32,
    /// The policy.
    pub policy: Compiled,
    /// The facts and attributes that it was checked with.
    pub table: Arc<FactTable>,
    /// Encoded attributes by dialect, then by combination of grants.
    rendered: HashMap<String, Vec<Vec<u8>>>,
}

impl Edition {
    /// Renders a policy's grants, so that none can fail while a NAS waits.
    pub fn prepare(
        number: u32,
        policy: Compiled,
        dialects: &[Dialect],
        table: Arc<FactTable>,
    ) -> Result<Self, Vec<GrantProblem>> {
        let mut rendered = HashMap::new();
        let mut problems = Vec::new();
        for dialect in dialects {
            let mut sets = Vec::new();
            for set in 0..policy.grant_sets() {
                match dialect.render(policy.statements(set), &policy, table.dictionary()) {
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
        if problems.is_empty() { Ok(Self { number, policy, table, rendered }) } else { Err(problems) }
    }

    /// The same under the number that it was given.
    #[must_use]
    pub fn numbered(self, number: u32) -> Self {
        Self { number, ..self }
    }

    /// The attributes of a combination of grants for a NAS of this dialect.
    pub(crate) fn attributes(&self, dialect: &str, set: usize) -> Option<&[u8]> {
        self.rendered.get(dialect)?.get(set).map(Vec::as_slice)
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
