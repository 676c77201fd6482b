//! What people configure, in one SQLite file. One way to change it: an [`Envelope`],
//! applied in one transaction and kept in the log.

pub(crate) mod administrators;
mod apply;
pub(crate) mod changes;
pub(crate) mod drafts;
pub(crate) mod editions;
pub(crate) mod log;
pub(crate) mod rotation;
mod tables;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, TryLockError};
use std::{fs, io};

use regnant_base::Mac;
use regnant_decision::Titles;
use rusqlite::{Connection, OpenFlags, Transaction};
use rusqlite_migration::{M, Migrations};

use crate::command::{Author, Command, Done, Envelope};
use crate::database::changes::FieldChange;
use crate::database::editions::{Basis, EditionRow};
use crate::database::log::{AuditEntry, AuditFilter, Verified};
pub use crate::database::tables::Record;
pub(crate) use crate::database::tables::{LookedUp, device_id, devices_by_id, mac_of};
use crate::error::{RecordsError, Refusal, is_broken};
use crate::names::RecordName;
use crate::rows::{PersonRow, Rows, fold};
use crate::sealing::SealingKey;

/// The forms of the file, from the first to that of this release. Each brings the one before up to date.
const FORMS: &[&str] = &[
    include_str!("../../migrations/records-1.sql"),
    #[cfg(feature = "next-release")]
    include_str!("../../migrations/next-release.sql"),
];

/// The shared records in one SQLite file.
#[derive(Debug)]
pub struct Records {
    path: PathBuf,
    /// Whoever changes something has it.
    connection: Mutex<Connection>,
    /// Whoever looks at something has one: not even a long change is in their way, nor one who reads much.
    readers: [Mutex<Connection>; READERS],
    /// Whoever is asked who calls has it.
    callers: Mutex<Connection>,
}

const READERS: usize = 4;

/// What came of a command that was done, and of building what follows from it.
#[derive(Clone, Debug)]
pub struct Committed<T> {
    /// What was done.
    pub done: Done,
    /// What was built; nothing where the command had been applied before.
    pub built: Option<T>,
}

impl Records {
    /// Opens or makes the file, brings it up to date and checks the key. `now` is the
    /// time in milliseconds since 1970.
    pub fn open(path: &Path, key: &Arc<SealingKey>, now: u64) -> Result<Self, RecordsError> {
        let connection = open_prepared(path, FORMS, |connection| copy_before(connection, path, FORMS.len()))?;
        connection.pragma_update(None, "foreign_keys", true)?;
        let in_use = apply::key_in_use(&connection)?;
        let reader = || open_to_read(path).map(Mutex::new);
        let readers = [reader()?, reader()?, reader()?, reader()?];
        let records = Self { path: path.into(), connection: Mutex::new(connection), readers, callers: reader()? };
        match in_use {
            None => {
                records.apply(&Envelope::new(&Author::machine(), now, Command::UseKey { key: key.id() }))?;
            }
            Some(id) if id == key.id() => {}
            Some(id) => return Err(RecordsError::OtherKey { records: id, file: key.id() }),
        }
        Ok(records)
    }

    /// How many people there are, and those after one by store and name, in that order.
    pub fn people_after(
        &self,
        after: Option<(&str, &str)>,
        most: usize,
    ) -> Result<(usize, Vec<PersonRow>), RecordsError> {
        let db = self.reader();
        let all: i64 = db.query_row("SELECT count(*) FROM person", [], |row| row.get(0))?;
        let (store, name) = after.unwrap_or_default();
        let rows = tables::select(
            &db,
            "WHERE (store, key) IN (SELECT store, key FROM person WHERE (store, key) > (?1, ?2)
                 ORDER BY store, key LIMIT ?3)",
            rusqlite::params![store, fold(name), most as i64],
        )?;
        Ok((all as usize, rows))
    }

    /// Applies a command that nothing follows from in memory. Where it had been applied
    /// before, its first outcome is the answer.
    pub fn apply(&self, envelope: &Envelope) -> Result<Done, RecordsError> {
        Ok(self.commit(envelope, |_, _| Ok::<_, RecordsError>(()))?.done)
    }

    /// Applies a command and makes what follows from it, or neither: where that fails,
    /// nothing was changed, and the command is not in the log.
    pub fn commit<T, E: From<RecordsError>>(
        &self,
        envelope: &Envelope,
        build: impl FnOnce(&Pending<'_>, Done) -> Result<T, E>,
    ) -> Result<Committed<T>, E> {
        let mut connection = self.lock();
        let mut transaction = connection.transaction().map_err(RecordsError::from)?;
        let applied = apply::apply(&mut transaction, envelope)?;
        let built = match &applied.outcome.clone().done() {
            Ok(done) if !applied.repeated => Some(build(&Pending { connection: &transaction }, *done)?),
            _ => None,
        };
        transaction.commit().map_err(RecordsError::from)?;
        let done = applied.outcome.done().map_err(RecordsError::from)?;
        Ok(Committed { done, built })
    }

    /// Applies commands in one transaction, which is kept only where that is wanted in the
    /// end.
    pub fn batch<T, E: From<RecordsError>>(
        &self,
        run: impl FnOnce(&mut Batch<'_>) -> Result<(T, Keep), E>,
    ) -> Result<T, E> {
        let mut connection = self.lock();
        let mut batch = Batch { transaction: connection.transaction().map_err(RecordsError::from)? };
        let (came, keep) = run(&mut batch)?;
        match keep {
            Keep::All => batch.transaction.commit().map_err(RecordsError::from)?,
            Keep::Nothing => batch.transaction.rollback().map_err(RecordsError::from)?,
        }
        Ok(came)
    }

    /// The commands that a filter lets through, the last first, as people see them.
    pub fn audit(&self, filter: &AuditFilter) -> Result<Vec<AuditEntry>, RecordsError> {
        // Nobody else waits while the whole log is looked through.
        log::audit(&open_to_read(&self.path)?, filter)
    }

    /// A command with what it changed, field by field.
    pub fn audit_entry(&self, revision: u64) -> Result<Option<(AuditEntry, Vec<FieldChange>)>, RecordsError> {
        log::entry(&open_to_read(&self.path)?, revision)
    }

    /// Goes along the chain of commands from the first to the last.
    pub fn verify(&self) -> Result<Verified, RecordsError> {
        log::verify(&open_to_read(&self.path)?)
    }

    /// The file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How many commands were applied.
    pub fn revision(&self) -> Result<u64, RecordsError> {
        log::last_revision(&self.reader())
    }

    /// The titles of devices, read beside everything else.
    pub(crate) fn titles(&self) -> Result<DeviceTitles, RecordsError> {
        Ok(DeviceTitles(Mutex::new(open_to_read(&self.path)?)))
    }

    /// Tells the number, title, owner, note and groups (a JSON array) of every device.
    pub(crate) fn each_device_text(&self, each: impl FnMut(i64, [&str; 5])) -> Result<(), RecordsError> {
        // Nobody else waits while a million are read.
        tables::each_device_text(&open_to_read(&self.path)?, each)
    }

    /// Tells the store, the address and what is looked up of every device.
    pub(crate) fn each_device(&self, each: impl FnMut(&str, Mac, &LookedUp<'_>)) -> Result<(), RecordsError> {
        tables::each_device(&self.reader(), each)
    }

    /// How many devices have an attribute. It is looked for in all of them.
    pub fn devices_with(&self, attribute: &str) -> Result<u64, RecordsError> {
        let sql = "SELECT count(*) FROM device, json_each(device.attributes) AS one WHERE one.key = ?1";
        let db = open_to_read(&self.path)?;
        Ok(db.query_row(sql, [attribute], |row| row.get::<_, i64>(0))?.cast_unsigned())
    }

    /// The number of a store; one that none has where there is no such store.
    pub(crate) fn store_number(&self, name: &str) -> Result<i64, RecordsError> {
        tables::store_number(&self.reader(), name)
    }

    pub(crate) fn reader(&self) -> MutexGuard<'_, Connection> {
        let free = self.readers.iter().find_map(|one| match one.try_lock() {
            Ok(reader) => Some(reader),
            Err(TryLockError::Poisoned(poisoned)) => Some(poisoned.into_inner()),
            Err(TryLockError::WouldBlock) => None,
        });
        free.unwrap_or_else(|| self.readers[READERS - 1].lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// For whoever is asked who calls: no other reader is in their way.
    pub(crate) fn callers(&self) -> MutexGuard<'_, Connection> {
        self.callers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn lock(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Reads the titles of devices for the journal.
pub(crate) struct DeviceTitles(Mutex<Connection>);

impl Titles for DeviceTitles {
    fn title(&self, store: &str, mac: Mac) -> Option<String> {
        let db = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        // A title is for people: where it cannot be read, the address says who it is.
        tables::title(&db, store, mac).ok().flatten()
    }
}

pub(crate) fn open_to_read(path: &Path) -> Result<Connection, RecordsError> {
    let connection = Connection::open(path)?;
    connection.pragma_update(None, "query_only", true)?;
    connection.set_prepared_statement_cache_capacity(64);
    Ok(connection)
}

/// Commands of one transaction.
pub struct Batch<'c> {
    transaction: Transaction<'c>,
}

/// What becomes of a transaction.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// All of it is kept.
    All,
    /// It is as if it had never begun.
    Nothing,
}

impl Batch<'_> {
    /// Applies a command; a refusal is what it deserves, and the others go on.
    pub fn apply(&mut self, envelope: &Envelope) -> Result<Result<Done, Refusal>, RecordsError> {
        Ok(apply::apply(&mut self.transaction, envelope)?.outcome.done())
    }
}

/// The records as a command would leave them.
#[derive(Debug)]
pub struct Pending<'c> {
    connection: &'c Connection,
}

/// Records as they are read: as they are, or as a command would leave them.
pub trait Reading {
    #[doc(hidden)]
    fn with<T>(&self, read: impl FnOnce(&Connection) -> T) -> T;

    /// All records of a kind, by name or address.
    fn all<R: Record>(&self) -> Result<Vec<R>, RecordsError> {
        self.with(|db| tables::select(db, "", ()))
    }

    /// A record by its name; nothing where there is none.
    fn find(&self, name: &RecordName) -> Result<Rows, RecordsError> {
        self.with(|db| tables::find(db, name))
    }

    /// An edition, and what it was checked with.
    fn edition(&self, number: u32) -> Result<Option<(EditionRow, Basis)>, RecordsError> {
        self.with(|db| editions::find(db, number))
    }

    /// The number of the edition that decides; 0 where there is none.
    fn active_number(&self) -> Result<u32, RecordsError> {
        self.with(editions::active_number)
    }

    /// All records of every kind.
    fn rows(&self) -> Result<Rows, RecordsError> {
        self.with(tables::all)
    }
}

impl<R: Reading> Reading for Arc<R> {
    fn with<T>(&self, read: impl FnOnce(&Connection) -> T) -> T {
        (**self).with(read)
    }
}

impl Reading for Records {
    fn with<T>(&self, read: impl FnOnce(&Connection) -> T) -> T {
        read(&self.reader())
    }
}

impl Reading for Batch<'_> {
    fn with<T>(&self, read: impl FnOnce(&Connection) -> T) -> T {
        read(&self.transaction)
    }
}

impl Reading for Pending<'_> {
    fn with<T>(&self, read: impl FnOnce(&Connection) -> T) -> T {
        read(self.connection)
    }
}

/// Copies a database as it is now into a file that there is not yet, while others go on.
pub fn copy_database(from: &Path, to: &Path) -> Result<(), RecordsError> {
    let copy = || {
        let connection = Connection::open_with_flags(from, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        connection.execute("VACUUM INTO ?1", [to.to_string_lossy()])
    };
    copy().map(drop).map_err(|error| RecordsError::File { file: from.into(), error })
}

/// Takes what a database's write-ahead log holds into the file itself, which nobody else has
/// open.
pub fn settle_database(path: &Path) -> Result<(), RecordsError> {
    let settle = || {
        let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))
    };
    settle().map_err(|error| RecordsError::File { file: path.into(), error })
}

/// Whether a file of records is whole and of a form that this release knows, and what became
/// of its log.
pub fn check_records(path: &Path) -> Result<Verified, RecordsError> {
    let look = || {
        let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
        let told: String = connection.query_row("PRAGMA integrity_check(1)", [], |row| row.get(0))?;
        let form = connection.query_row("PRAGMA user_version", [], |row| row.get::<_, u32>(0))? as usize;
        Ok((connection, told, form))
    };
    let (connection, told, form) = look().map_err(|error| RecordsError::File { file: path.into(), error })?;
    if told != "ok" {
        return Err(RecordsError::Damaged(told));
    }
    match form {
        0 => Err(RecordsError::Damaged("it holds no records".into())),
        form if form <= FORMS.len() => log::verify(&connection),
        form => Err(RecordsError::Newer { file: path.into(), form, known: FORMS.len() }),
    }
}

/// Keeps a copy of records that migrations are about to change, for whoever goes back to the
/// release before.
fn copy_before(connection: &Connection, path: &Path, known: usize) -> Result<(), RecordsError> {
    let form = connection.query_row("PRAGMA user_version", [], |row| row.get::<_, u32>(0))? as usize;
    if form > known {
        return Err(RecordsError::Newer { file: path.into(), form, known });
    }
    if form == 0 || form == known {
        return Ok(());
    }
    let copy = path.with_added_extension(format!("before-{}", form + 1));
    if !copy.exists() {
        // Under another name until it is whole: whatever interrupts it leaves no half copy that looks like one.
        let part = copy.with_added_extension("part");
        let failed = |error| RecordsError::Copy { file: part.clone(), error };
        match fs::remove_file(&part) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(failed(error)),
            _ => {}
        }
        connection.execute("VACUUM INTO ?1", [part.to_string_lossy()])?;
        let synced = fs::File::open(&part).and_then(|file| file.sync_all());
        synced.and_then(|()| fs::rename(&part, &copy)).map_err(failed)?;
    }
    tracing::info!(
        "{} is brought up to date; as it was it is kept as {}. To go back to the release before: stop the service, put \
         that file in the place of the first, delete its -wal and -shm, and start the earlier release",
        path.display(),
        copy.display()
    );
    Ok(())
}

/// Opens a database in write-ahead mode and runs the migrations it lacks.
pub(crate) fn open_database(path: &Path, forms: &'static [&'static str]) -> Result<Connection, RecordsError> {
    open_prepared(path, forms, |_| Ok(()))
}

fn open_prepared(
    path: &Path,
    forms: &'static [&'static str],
    prepare: impl FnOnce(&Connection) -> Result<(), RecordsError>,
) -> Result<Connection, RecordsError> {
    let open = || {
        let connection = Connection::open(path)?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        // A commit is on the disk when it returns, not only in the system's memory.
        connection.pragma_update(None, "synchronous", "FULL")?;
        // What a large import left does not stay.
        connection.pragma_update(None, "journal_size_limit", 64 << 20)?;
        // A migration that makes a table anew must not take with it what refers to it.
        connection.pragma_update(None, "foreign_keys", false)?;
        Ok(connection)
    };
    let mut connection = open().map_err(|error| RecordsError::File { file: path.into(), error })?;
    prepare(&connection)?;
    let list = forms.iter().map(|sql| M::up(sql)).collect();
    Migrations::new(list).to_latest(&mut connection).map_err(|error| match error {
        rusqlite_migration::Error::RusqliteError { err, .. } if is_broken(&err) => {
            RecordsError::File { file: path.into(), error: err }
        }
        rusqlite_migration::Error::RusqliteError { err: rusqlite::Error::SqlInputError { msg, .. }, .. } => {
            RecordsError::Migration { file: path.into(), reason: msg }
        }
        other => RecordsError::Migration { file: path.into(), reason: other.to_string() },
    })?;
    Ok(connection)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_reads_for_long_holds_up_neither_other_readers_nor_who_is_asked_who_calls() {
        let dir = tempfile::tempdir().unwrap();
        let key = Arc::new(SealingKey::create(&dir.path().join("key")).unwrap());
        let records = Records::open(&dir.path().join("records.sqlite"), &key, 9).unwrap();
        let mut held: Vec<_> = records.readers.iter().map(|reader| reader.lock().unwrap()).collect();
        assert!(records.token_owner("nobody's", 9).unwrap().is_none());
        assert!(records.session_owner("nobody's", 9).unwrap().is_none());
        held.pop();
        assert!(!records.has_administrators().unwrap());
    }
}
