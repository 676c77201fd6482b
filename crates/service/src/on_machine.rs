//! What is done on the machine itself, to records that no service has open.

use std::path::Path;
use std::sync::Arc;

use regnant_records::{Author, Command, Envelope, Reading, RecordName, Records, Role, Rows, SealingKey, take_key};

use crate::administration::AdministrationError;
use crate::administration::administrators::new_administrator;
use crate::clock::now_ms;
use crate::config::Config;
use crate::data_dir::DataDir;
use crate::service::{RECORDS, StartError, put_right};

/// Records that no service has open.
pub struct OnMachine {
    records: Records,
    key: Arc<SealingKey>,
    _data: DataDir,
}

impl OnMachine {
    /// Opens the records of a data directory, which is made where there is none.
    pub fn open(config: &Config, data: &Path) -> Result<Self, StartError> {
        let data = DataDir::take(data)?;
        put_right(&data, config)?;
        let key = take_key(&data.join(&config.keys.sealing), &data.join(RECORDS))?;
        let records = Records::open(&data.join(RECORDS), &key, now_ms())?;
        Ok(Self { records, key, _data: data })
    }

    /// Adds the first administrator, an engineer, while there is none.
    pub fn first_administrator(&self, name: &str, password: &str) -> Result<(), AdministrationError> {
        if self.records.has_administrators()? {
            return Err(AdministrationError::NotFirst);
        }
        let row = new_administrator(name, password, Role::Engineer, &self.key)?;
        self.apply(Command::Add(Rows { administrators: vec![row], ..Rows::default() }))
    }

    /// Makes an administrator an engineer who may sign in with this password and no second
    /// factor.
    pub fn rescue_administrator(
        &self,
        name: &str,
        password: &str,
        keep_tokens: bool,
    ) -> Result<(), AdministrationError> {
        let record = RecordName::Administrator(name.to_owned());
        let found = self.records.find(&record)?.administrators.pop();
        let before = found.ok_or_else(|| AdministrationError::NotFound(record.clone()))?;
        let row = new_administrator(&before.name, password, Role::Engineer, &self.key)?;
        let (administrator, recovery) = (row.name.clone(), Vec::new());
        let rows = Rows { administrators: vec![row], ..Rows::default() };
        self.apply(Command::Change { was: vec![record], rows })?;
        if !keep_tokens {
            self.apply(Command::RemoveTokens { administrator: administrator.clone() })?;
        }
        self.apply(Command::SetSecondFactor { administrator, secret: None, recovery })
    }

    fn apply(&self, command: Command) -> Result<(), AdministrationError> {
        self.records.apply(&Envelope::new(&Author::machine(), now_ms(), command))?;
        Ok(())
    }
}
