//! What people configure, in one SQLite file. One way to change it: an [`Envelope`],
//! applied in one transaction and kept in the log.

pub(crate) mod administrators;
mod apply;
pub(crate) mod editions;
pub(crate) mod log;
pub(crate) mod rotation;
mod tables;

use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rusqlite::functions::FunctionFlags;
use rusqlite::{Connection, OptionalExtension};
use rusqlite_migration::{M, Migrations};

use crate::command::{Command, Done, Envelope};
use crate::database::log::AuditEntry;
pub use crate::database::tables::Record;
use crate::error::{RecordsError, is_broken};
use crate::rows::{Rows, fold};
use crate::sealing::{Sealed, SealingKey};

const MIGRATIONS: [&str; 10] = [
    include_str!("../../migrations/shared-1.sql"),
    include_str!("../../migrations/shared-2.sql"),
    include_str!("../../migrations/shared-3.sql"),
    include_str!("../../migrations/shared-4.sql"),
    include_str!("../../migrations/shared-5.sql"),
    include_str!("../../migrations/shared-6.sql"),
    include_str!("../../migrations/shared-7.sql"),
    include_str!("../../migrations/shared-8.sql"),
    include_str!("../../migrations/shared-9.sql"),
    include_str!("../../migrations/shared-10.sql"),
];
/// What early releases sealed into every file, to tell another key when it was opened.
const CANARY: &str = "the seal of these records";

/// The shared records in one SQLite file.
#[derive(Debug)]
pub struct Records {
    connection: Mutex<Connection>,
}

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
        let connection = open_shared(path, key, &MIGRATIONS)?;
        connection.pragma_update(None, "foreign_keys", true)?;
        let in_use = apply::key_in_use(&connection)?;
        let records = Self { connection: Mutex::new(connection) };
        match in_use {
            None => drop(records.apply(&Envelope::new("regnant", now, Command::UseKey { key: key.id() }))?),
            Some(id) if id == key.id() => {}
            Some(id) => return Err(RecordsError::OtherKey { records: id, file: key.id() }),
        }
        Ok(records)
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

    /// The commands below a revision, the last first, as people see them.
    pub fn audit(&self, below: u64, most: u32) -> Result<Vec<AuditEntry>, RecordsError> {
        log::audit(&self.lock(), below, most)
    }

    /// How many commands were applied.
    pub fn revision(&self) -> Result<u64, RecordsError> {
        log::last_revision(&self.lock())
    }

    pub(crate) fn lock(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
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

    /// All records of every kind.
    fn rows(&self) -> Result<Rows, RecordsError> {
        self.with(tables::all)
    }
}

impl Reading for Records {
    fn with<T>(&self, read: impl FnOnce(&Connection) -> T) -> T {
        read(&self.lock())
    }
}

impl Reading for Pending<'_> {
    fn with<T>(&self, read: impl FnOnce(&Connection) -> T) -> T {
        read(self.connection)
    }
}

/// Opens the shared records with what their migrations need.
fn open_shared(
    path: &Path,
    key: &Arc<SealingKey>,
    migrations: &'static [&'static str],
) -> Result<Connection, RecordsError> {
    open_prepared(path, migrations, |connection| {
        check_early_seal(connection, key)?;
        let text = FunctionFlags::SQLITE_UTF8;
        let fixed = text | FunctionFlags::SQLITE_DETERMINISTIC;
        connection.create_scalar_function("fold", 1, fixed, |call| Ok(fold(call.get_raw(0).as_str()?)))?;
        let sealing = key.clone();
        connection.create_scalar_function("seal", 2, text, move |call| {
            let (context, value) = (call.get::<String>(0)?, call.get::<Option<String>>(1)?);
            Ok(value.map(|value| sealing.seal(&context, value.as_bytes()).bytes().to_vec()))
        })?;
        let sealing = key.clone();
        connection.create_scalar_function("keyed", 1, fixed, move |call| {
            let value = call.get::<Option<Vec<u8>>>(0)?;
            Ok(value.map(|value| Sealed::of_keyless(&sealing, &value).bytes().to_vec()))
        })?;
        Ok(())
    })
}

/// Early releases told another key by what they had sealed; what they sealed is taken
/// over only under the right one.
fn check_early_seal(connection: &Connection, key: &SealingKey) -> Result<(), RecordsError> {
    let sql = "SELECT EXISTS (SELECT 1 FROM sqlite_schema WHERE name = 'setting')";
    if !connection.query_row(sql, [], |row| row.get::<_, bool>(0))? {
        return Ok(());
    }
    let sql = "SELECT value FROM setting WHERE name = 'seal'";
    let sealed: Option<Vec<u8>> = connection.query_row(sql, [], |row| row.get(0)).optional()?;
    sealed.map_or(Ok(()), |sealed| key.open_keyless(CANARY, &sealed).map(drop))
}

/// Opens a database in write-ahead mode and runs the migrations it lacks.
pub(crate) fn open_database(path: &Path, migrations: &'static [&'static str]) -> Result<Connection, RecordsError> {
    open_prepared(path, migrations, |_| Ok(()))
}

fn open_prepared(
    path: &Path,
    migrations: &'static [&'static str],
    prepare: impl FnOnce(&Connection) -> Result<(), RecordsError>,
) -> Result<Connection, RecordsError> {
    let open = || {
        let connection = Connection::open(path)?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        // A commit is on the disk when it returns, not only in the system's memory.
        connection.pragma_update(None, "synchronous", "FULL")?;
        // A migration that makes a table anew must not take with it what refers to it.
        connection.pragma_update(None, "foreign_keys", false)?;
        Ok(connection)
    };
    let mut connection = open().map_err(|error| RecordsError::File { file: path.into(), error })?;
    prepare(&connection)?;
    let list = migrations.iter().map(|sql| M::up(sql)).collect();
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
    use crate::command::Outcome;
    use crate::rows::{
        CertificateRow, DeviceRow, MachineRow, NasRow, PersonRow, StoreKind, StoreRow, TrustRow, nt_hash_context,
        password_context, private_key_context, recoverable_context, secret_context,
    };

    /// As early releases sealed: without the id of the key.
    fn early(key: &SealingKey, context: &str, secret: &[u8]) -> String {
        let sealed = key.seal(context, secret);
        crate::sealing::hex(&sealed.bytes()[8..])
    }

    #[test]
    fn what_an_earlier_release_kept_is_there_after_every_migration() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("records.sqlite");
        let key = Arc::new(SealingKey::create(&dir.path().join("key")).unwrap());
        // Opened with the first so many migrations only, as earlier releases did.
        let open = |count: usize| open_shared(&file, &key, &MIGRATIONS[..count]);
        let first = open(1).unwrap();
        let sql = format!(
            "INSERT INTO setting (name, value) VALUES ('seal', x'{}');
             INSERT INTO nas VALUES ('Quay-sw-1', '127.0.0.11', 'switch', 'quayside', 'standard', x'{}', 1);
             INSERT INTO store (name, kind) VALUES ('harbour', 'people'), ('things', 'endpoints');
             INSERT INTO person (store, name, password_hash, recoverable, disabled, expires)
             VALUES ('harbour', 'Ida.Marsh', '$argon2id$x', x'{}', 1, 7);
             INSERT INTO person_group (store, person, group_name)
             VALUES ('harbour', 'Ida.Marsh', 'staff'), ('harbour', 'ida.marsh', 'harbour-office');
             INSERT INTO administrator (name, password_hash, created_at) VALUES ('Harbour', '$argon2id$y', 3);
             INSERT INTO token (hash, administrator, created_at) VALUES (x'{}', 'harbour', 3);
             INSERT INTO endpoint (store, mac, title, barred) VALUES ('things', x'02005e200001', 'crane', 0);
             INSERT INTO endpoint_group (store, mac, group_name) VALUES ('things', x'02005e200001', 'cranes');",
            early(&key, CANARY, b""),
            early(&key, &secret_context("Quay-sw-1"), b"bollard-9-anchor"),
            early(&key, &recoverable_context("harbour", "Ida.Marsh"), b"Tide-Table-61"),
            crate::sealing::hex(&administrators::token_hash("a token").0),
        );
        first.execute_batch(&sql).unwrap();
        drop(first);
        let sql = format!(
            "INSERT INTO certificate (name, chain, key, stapled, changed_at) VALUES ('own', 'PEM', x'{}', x'02', 3);
             INSERT INTO machine (store, name, password_hash, nt_hash, disabled)
             VALUES ('harbour', 'tablet', NULL, NULL, 0), ('harbour', 'Laptop', '$argon2id$z', x'{}', 0);
             INSERT INTO trust (name, authorities, crls, crl_url, changed_at)
             VALUES ('theirs', 'PEM', '', 'http://x', 3);",
            early(&key, &private_key_context("own"), b"a private key"),
            early(&key, &nt_hash_context("machine", "harbour", "Laptop"), &[7; 16]),
        );
        open(2).unwrap().execute_batch(&sql).unwrap();
        let other = Arc::new(SealingKey::create(&dir.path().join("other")).unwrap());
        let told = Records::open(&file, &other, 9).unwrap_err();
        assert!(told.to_string().contains("restore the key file"), "{told}");
        for _ in 0..2 {
            let records = Records::open(&file, &key, 9).unwrap();
            let rows = records.rows().unwrap();
            let opened = |context: &str, sealed: &Sealed| {
                String::from_utf8_lossy(key.open(context, sealed).unwrap().expose()).into_owned()
            };
            let [ref nas] = rows.nases[..] else { panic!("{rows:?}") };
            let NasRow { name, secret, require_message_authenticator: true, .. } = nas else { panic!("{nas:?}") };
            assert_eq!(
                (name.as_str(), opened(&secret_context(name), secret).as_str()),
                ("Quay-sw-1", "bollard-9-anchor")
            );
            let store = |name: &str, kind| StoreRow { name: name.into(), kind };
            assert_eq!(rows.stores, [store("harbour", StoreKind::People), store("things", StoreKind::Devices)]);
            let [
                PersonRow {
                    ref password_hash,
                    ref recoverable,
                    nt_hash: None,
                    ref groups,
                    disabled: true,
                    expires: Some(7),
                    ..
                },
            ] = rows.people[..]
            else {
                panic!("{rows:?}")
            };
            assert_eq!(opened(&password_context("person", "harbour", "ida.marsh"), password_hash), "$argon2id$x");
            let password = opened(&recoverable_context("harbour", "ida.marsh"), recoverable.as_ref().unwrap());
            assert_eq!(
                (password.as_str(), &groups[..]),
                ("Tide-Table-61", &["staff".into(), "harbour-office".into()][..])
            );
            let [ref laptop, MachineRow { password_hash: None, nt_hash: None, .. }] = rows.machines[..] else {
                panic!("{rows:?}")
            };
            let hash = laptop.nt_hash.as_ref().unwrap();
            assert_eq!(opened(&nt_hash_context("machine", "harbour", "laptop"), hash), "\u{7}".repeat(16));
            let [DeviceRow { ref title, ref groups, barred: false, .. }] = rows.devices[..] else { panic!("{rows:?}") };
            assert_eq!((title.as_str(), &groups[..]), ("crane", &["cranes".into()][..]));
            let [CertificateRow { ref chain, .. }] = rows.certificates[..] else { panic!("{rows:?}") };
            assert_eq!(chain, "PEM");
            assert_eq!(rows.certificates[0].private_key(&key).unwrap().expose(), b"a private key");
            let [TrustRow { ref crl_url, ocsp_url: None, whatever: false, .. }] = rows.trusts[..] else {
                panic!("{rows:?}")
            };
            assert_eq!(crl_url.as_deref(), Some("http://x"));
            let administrator = records.administrator("HARBOUR", &key).unwrap().unwrap();
            assert_eq!(administrator, ("Harbour".into(), "$argon2id$y".into()));
            assert_eq!(records.token_owner("a token").unwrap().as_deref(), Some("Harbour"));
            let log = records.audit(u64::MAX, 10).unwrap();
            assert_eq!((log.len(), &log[0].outcome), (1, &Outcome::Done(Done::default())), "the key that is in use");
            let gone = records.lock().execute(
                "INSERT INTO device (store, mac, title, groups, barred) VALUES ('gone', x'02005e200002', '', '[]', 0)",
                [],
            );
            gone.unwrap_err();
        }
    }
}
