//! People and machines, or equipment, that are changed together: all of them or none.

use std::collections::BTreeSet;

use regnant_records::{Author, Command, NasEntry, NasRow, Reading, RecordName, Rows};

use crate::administration::equipment::Equipment;
use crate::administration::identities::{Identities, MOST_AT_ONCE, regroup};
use crate::administration::{AdministrationError, entries};

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
            turn.commit(by, Command::Remove(was))?;
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
        turn.commit(by, Command::Change { was, rows })?;
        Ok(count)
    }
}

/// What shall be otherwise of NASes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct NasAct {
    pub(crate) site: Option<String>,
    pub(crate) dialect: Option<String>,
    pub(crate) require_message_authenticator: Option<bool>,
    pub(crate) tag: Vec<String>,
    pub(crate) untag: Vec<String>,
}

impl NasAct {
    pub(crate) fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    fn on(&self, row: &NasRow) -> NasEntry {
        let mut entry = entries::nas(row);
        regroup(&mut entry.tags, &self.tag, &self.untag);
        entry.site = self.site.clone().unwrap_or(entry.site);
        entry.dialect = self.dialect.clone().unwrap_or(entry.dialect);
        let require = self.require_message_authenticator;
        entry.require_message_authenticator = require.unwrap_or(entry.require_message_authenticator);
        entry
    }
}

impl Equipment {
    /// Changes NASes; gives how many they were.
    pub(crate) fn change_together(
        &self,
        names: &[String],
        act: &NasAct,
        by: &Author,
    ) -> Result<usize, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.each_of(names)?;
        let rows: Result<Vec<_>, _> = before.iter().map(|row| self.row(act.on(row), Some(row))).collect();
        let rows = Rows { nases: rows?, ..Rows::default() };
        turn.commit(by, Command::Change { was: rows.names().collect(), rows })?;
        Ok(before.len())
    }

    /// Forgets NASes that the active policy does not name; gives how many they were.
    pub(crate) fn remove_together(&self, names: &[String], by: &Author) -> Result<usize, AdministrationError> {
        let turn = self.committer.turn();
        let before = self.each_of(names)?;
        before.iter().try_for_each(|row| self.is_free(&row.name))?;
        let count = before.len();
        turn.commit(by, Command::Remove(before.into_iter().map(|row| RecordName::Nas(row.name)).collect()))?;
        Ok(count)
    }

    fn each_of(&self, names: &[String]) -> Result<Vec<NasRow>, AdministrationError> {
        let names: BTreeSet<_> = names.iter().map(|name| name.to_lowercase()).collect();
        if names.is_empty() || names.len() > MOST_AT_ONCE {
            return Err(AdministrationError::HowMany { what: "NASes", got: names.len(), most: MOST_AT_ONCE });
        }
        names.iter().map(|name| self.find(name)).collect()
    }
}
