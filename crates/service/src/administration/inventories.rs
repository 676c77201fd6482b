use std::sync::Arc;

use regnant_records::{Author, Command, Inventory, Marked};

use crate::administration::AdministrationError;
use crate::administration::committer::Committer;
use crate::clock::now_ms;

/// Equipment, people and devices.
pub struct Inventories {
    pub(crate) committer: Arc<Committer>,
}

impl Inventories {
    /// Adds or changes equipment, people and devices. Takes tens of milliseconds
    /// for each person, whose password is hashed.
    pub fn import(&self, inventory: Inventory, by: &Author) -> Result<(), AdministrationError> {
        let Committer { records, environment, snapshot, .. } = &*self.committer;
        let turn = self.committer.turn();
        let dialects: Vec<_> = snapshot.load().languages.dialects.iter().map(|dialect| dialect.name.clone()).collect();
        let declared = self.committer.snapshot.load().languages.declared();
        let marked = Marked { by: &by.name, at: now_ms().cast_signed(), declared: &declared };
        let import = inventory.into_import(&environment.key, records, &dialects, marked)?;
        turn.commit(by, Command::Import(import)).map(drop)
    }
}
