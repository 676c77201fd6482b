use std::sync::Arc;

use regnant_records::{Command, Expected, Inventory, Reading};

use crate::administration::AdministrationError;
use crate::administration::committer::Committer;

/// Equipment, people and devices.
pub struct Inventories {
    pub(crate) committer: Arc<Committer>,
}

impl Inventories {
    /// Adds or changes equipment, people and devices. Takes tens of milliseconds
    /// for each person, whose password is hashed.
    pub fn import(&self, inventory: Inventory, by: &str) -> Result<(), AdministrationError> {
        let turn = self.committer.turn();
        let environment = &self.committer.environment;
        let dialects: Vec<_> =
            self.committer.snapshot.load().languages.dialects.iter().map(|dialect| dialect.name.clone()).collect();
        let import = inventory.into_import(
            &environment.key,
            (&self.committer.records.all()?, &self.committer.records.all()?),
            &dialects,
        )?;
        turn.commit(by, (Command::Import(import), Expected::Anything), |before, _, rows, _| {
            Ok(environment.with_rows(before, rows)?)
        })?;
        Ok(())
    }
}
