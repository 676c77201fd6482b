//! People and machines that are changed together: all of them or none.

use std::collections::BTreeSet;

use regnant_records::{Author, Command, Reading, RecordName, Rows};

use crate::administration::AdministrationError;
use crate::administration::identities::{Identities, MOST_AT_ONCE, regroup};

/// What shall be done with them.
#[derive(Clone, Debug, Default)]
pub(crate) struct AccountAct {
    pub(crate) into: Vec<String>,
    pub(crate) out_of: Vec<String>,
    pub(crate) disabled: Option<bool>,
    pub(crate) remove: bool,
}

impl Identities {
    /// Changes or forgets people and machines; gives how many they were.
    pub(crate) fn act_on_accounts(
        &self,
        names: &[RecordName],
        act: &AccountAct,
        by: &Author,
    ) -> Result<usize, AdministrationError> {
        let turn = self.committer.turn();
        let names: BTreeSet<_> = names.iter().collect();
        if names.is_empty() || names.len() > MOST_AT_ONCE {
            return Err(AdministrationError::HowMany { what: "accounts", got: names.len(), most: MOST_AT_ONCE });
        }
        let mut rows = Rows::default();
        for name in names {
            let found = self.committer.records.find(name)?;
            if found.people.is_empty() && found.machines.is_empty() {
                return Err(AdministrationError::NotFound(name.clone()));
            }
            rows.people.extend(found.people);
            rows.machines.extend(found.machines);
        }
        let was: Vec<_> = rows.names().collect();
        let count = was.len();
        if act.remove {
            was.iter().try_for_each(|name| self.is_free(name))?;
            self.commit(&turn, Command::Remove(was), by)?;
            return Ok(count);
        }
        for row in &mut rows.people {
            regroup(&mut row.groups, &act.into, &act.out_of);
            row.disabled = act.disabled.unwrap_or(row.disabled);
        }
        for row in &mut rows.machines {
            regroup(&mut row.groups, &act.into, &act.out_of);
            row.disabled = act.disabled.unwrap_or(row.disabled);
        }
        self.commit(&turn, Command::Change { was, rows }, by)?;
        Ok(count)
    }
}
