//! What people configure. One write path: a [`Change`], applied as a transaction.

pub(crate) mod administrators;
pub(crate) mod certificates;
pub(crate) mod editions;

use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use regnant_access::{Nas, NasKind};
use regnant_radius::SharedSecret;
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension};
use rusqlite_migration::{M, Migrations};

use crate::error::{RecordsError, is_broken};
use crate::inventory::{KnownKind, KnownName, StoreKind, nas_context};
use crate::sealing::SealingKey;
use crate::shared::certificates::{CertificateRow, TrustRow};

const MIGRATIONS: [&str; 6] = [
    include_str!("../../migrations/shared-1.sql"),
    include_str!("../../migrations/shared-2.sql"),
    include_str!("../../migrations/shared-3.sql"),
    include_str!("../../migrations/shared-4.sql"),
    include_str!("../../migrations/shared-5.sql"),
    include_str!("../../migrations/shared-6.sql"),
];
/// Sealed into every database, so that another key is told when it is opened.
const CANARY: &str = "the seal of these records";

/// A list of statements that succeed or fail together. Deterministic: times and
/// random values are parameters, so that another node can apply the same.
#[derive(Clone, Debug, Default)]
pub struct Change {
    statements: Vec<(&'static str, Vec<Value>)>,
}

impl Change {
    pub(crate) fn add<const N: usize>(&mut self, sql: &'static str, parameters: [Value; N]) {
        self.statements.push((sql, parameters.into()));
    }

    fn run(&self, connection: &Connection) -> Result<(), RecordsError> {
        for (sql, parameters) in &self.statements {
            connection.prepare_cached(sql)?.execute(rusqlite::params_from_iter(parameters)).map_err(refused)?;
        }
        Ok(())
    }
}

/// The shared records in one SQLite file.
#[derive(Debug)]
pub struct Records {
    connection: Mutex<Connection>,
}

/// A NAS as people see it; its secret stays sealed.
#[derive(Clone, Debug)]
pub struct NasRow {
    /// Its name.
    pub name: String,
    /// Its address or block.
    pub network: String,
    /// What it is.
    pub kind: String,
    /// Where it stands.
    pub site: String,
    /// Its dialect.
    pub dialect: String,
    /// Whether its requests must carry Message-Authenticator.
    pub require_message_authenticator: bool,
}

impl Records {
    /// Opens or makes the file, brings it up to date and checks the key.
    pub fn open(path: &Path, key: &SealingKey) -> Result<Self, RecordsError> {
        let connection = open_database(path, &MIGRATIONS)?;
        connection.pragma_update(None, "foreign_keys", true)?;
        let records = Self { connection: Mutex::new(connection) };
        records.check_seal(key)?;
        Ok(records)
    }

    /// Applies a change whole, or not at all.
    pub fn apply(&self, change: &Change) -> Result<(), RecordsError> {
        let mut connection = self.lock();
        let transaction = connection.transaction()?;
        change.run(&transaction)?;
        Ok(transaction.commit()?)
    }

    pub(crate) fn lock(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Applies a change and makes what follows from it, or neither: where what is
    /// built of the changed records fails, nothing was changed.
    pub fn apply_and<T, E: From<RecordsError>>(
        &self,
        change: &Change,
        build: impl FnOnce(&Pending<'_>) -> Result<T, E>,
    ) -> Result<T, E> {
        let mut connection = self.lock();
        let transaction = connection.transaction().map_err(RecordsError::from)?;
        change.run(&transaction)?;
        let built = build(&Pending { connection: &transaction })?;
        transaction.commit().map_err(RecordsError::from)?;
        Ok(built)
    }

    fn check_seal(&self, key: &SealingKey) -> Result<(), RecordsError> {
        let sql = "SELECT value FROM setting WHERE name = 'seal'";
        let sealed: Option<Vec<u8>> = self.lock().query_row(sql, [], |row| row.get(0)).optional()?;
        match sealed {
            Some(sealed) => key.open(CANARY, &sealed).map(|_| ()),
            None => {
                let mut change = Change::default();
                change.add("INSERT INTO setting (name, value) VALUES ('seal', ?1)", [key.seal(CANARY, b"").into()]);
                self.apply(&change)
            }
        }
    }
}

/// The records as a change would leave them.
#[derive(Debug)]
pub struct Pending<'c> {
    connection: &'c Connection,
}

/// Records as they are read: as they are, or as a change would leave them.
pub trait Reading {
    /// All rows of a query without parameters.
    #[doc(hidden)]
    fn rows<T>(
        &self,
        sql: &str,
        read: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, RecordsError>;

    /// Every NAS with its secret opened.
    fn nases(&self, key: &SealingKey) -> Result<Vec<Nas>, RecordsError> {
        let rows: Vec<(NasRow, Vec<u8>)> = self.nas_query(|row, sealed| (row, sealed))?;
        rows.into_iter()
            .map(|(row, sealed)| {
                let secret = key.open(&nas_context(&row.name), &sealed)?;
                let kind = NasKind::ALL.iter().find(|(word, _)| *word == row.kind).map(|(_, kind)| *kind);
                let damaged = |what: &str| RecordsError::Damaged(format!("NAS {} has {what}", row.name));
                Ok(Nas {
                    network: row.network.parse().map_err(|_| damaged("no address"))?,
                    kind: kind.ok_or_else(|| damaged("no kind"))?,
                    secret: SharedSecret::new(secret.expose()),
                    site: row.site,
                    dialect: row.dialect,
                    require_message_authenticator: row.require_message_authenticator,
                    name: row.name,
                })
            })
            .collect()
    }

    /// Every NAS without its secret, by name.
    fn nas_rows(&self) -> Result<Vec<NasRow>, RecordsError> {
        self.nas_query(|row, _| row)
    }

    #[doc(hidden)]
    fn nas_query<T>(&self, make: impl Fn(NasRow, Vec<u8>) -> T) -> Result<Vec<T>, RecordsError> {
        let sql =
            "SELECT name, network, kind, site, dialect, require_message_authenticator, secret FROM nas ORDER BY name";
        self.rows(sql, |row| {
            let nas = NasRow {
                name: row.get(0)?,
                network: row.get(1)?,
                kind: row.get(2)?,
                site: row.get(3)?,
                dialect: row.get(4)?,
                require_message_authenticator: row.get(5)?,
            };
            Ok(make(nas, row.get(6)?))
        })
    }

    /// Every store with what it holds.
    fn stores(&self) -> Result<Vec<(String, StoreKind)>, RecordsError> {
        self.rows("SELECT name, kind FROM store ORDER BY name", |row| {
            let kind = match row.get::<_, String>(1)?.as_str() {
                "people" => StoreKind::People,
                _ => StoreKind::Devices,
            };
            Ok((row.get(0)?, kind))
        })
    }

    /// The names that SQLite does not find without regard to case.
    fn names_beyond_ascii(&self) -> Result<Vec<KnownName>, RecordsError> {
        let sql = "SELECT 0, '', name FROM nas WHERE name GLOB '*[^ -~]*' UNION ALL
                   SELECT 1, store, name FROM person WHERE name GLOB '*[^ -~]*' UNION ALL
                   SELECT 2, store, name FROM machine WHERE name GLOB '*[^ -~]*'";
        self.rows(sql, |row| {
            let kind = match row.get(0)? {
                0 => KnownKind::Nas,
                1 => KnownKind::Person,
                _ => KnownKind::Machine,
            };
            Ok(KnownName { kind, store: row.get(1)?, name: row.get(2)? })
        })
    }

    /// Every certificate, by name, its key opened.
    fn certificates(&self, key: &SealingKey) -> Result<Vec<CertificateRow>, RecordsError> {
        certificates::certificates(self, key)
    }

    /// Every trust, by name.
    fn trusts(&self) -> Result<Vec<TrustRow>, RecordsError> {
        certificates::trusts(self)
    }
}

fn rows<T>(
    connection: &Connection,
    sql: &str,
    read: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
) -> Result<Vec<T>, RecordsError> {
    let mut statement = connection.prepare(sql)?;
    let rows = statement.query_map([], read)?.collect::<Result<_, _>>()?;
    Ok(rows)
}

impl Reading for Records {
    fn rows<T>(
        &self,
        sql: &str,
        read: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, RecordsError> {
        rows(&self.lock(), sql, read)
    }
}

impl Reading for Pending<'_> {
    fn rows<T>(
        &self,
        sql: &str,
        read: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, RecordsError> {
        rows(self.connection, sql, read)
    }
}

fn refused(error: rusqlite::Error) -> RecordsError {
    match error.to_string().contains("nas.network") {
        true => RecordsError::SameAddress,
        false => error.into(),
    }
}

/// Opens a database in write-ahead mode and runs the migrations it lacks.
pub(crate) fn open_database(path: &Path, migrations: &'static [&'static str]) -> Result<Connection, RecordsError> {
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
    let list = migrations.iter().map(|sql| M::up(sql)).collect();
    Migrations::new(list).to_latest(&mut connection).map_err(|error| match error {
        rusqlite_migration::Error::RusqliteError { err, .. } if is_broken(&err) => {
            RecordsError::File { file: path.into(), error: err }
        }
        other => RecordsError::Migration { file: path.into(), reason: other.to_string() },
    })?;
    Ok(connection)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Opens with the first so many migrations only, as an earlier release did.
    fn open(path: &Path, count: usize) -> Connection {
        open_database(path, &MIGRATIONS[..count]).unwrap()
    }

    #[test]
    fn what_an_earlier_release_kept_is_there_after_every_migration() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("records.sqlite");
        let first = open(&file, 1);
        first
            .execute_batch(
                "INSERT INTO store (name, kind) VALUES ('harbour', 'people'), ('things', 'endpoints');
                 INSERT INTO person (store, name, password_hash, disabled) VALUES ('harbour', 'ida.marsh', 'x', 0);
                 INSERT INTO endpoint (store, mac, title, barred) VALUES ('things', x'02005e200001', 'crane', 0);
                 INSERT INTO endpoint_group (store, mac, group_name) VALUES ('things', x'02005e200001', 'cranes');",
            )
            .unwrap();
        drop(first);
        let second = open(&file, 2);
        second
            .execute_batch(
                "INSERT INTO certificate (name, chain, key, stapled, changed_at) VALUES ('own', 'PEM', x'01', x'02', 3);
                 INSERT INTO trust (name, authorities, crls, crl_url, changed_at)
                 VALUES ('theirs', 'PEM', '', 'http://x', 3);",
            )
            .unwrap();
        drop(second);
        for _ in 0..2 {
            let all = open(&file, MIGRATIONS.len());
            let text = |sql: &str| all.query_row(sql, [], |row| row.get::<_, String>(0)).unwrap();
            assert_eq!(text("SELECT kind FROM store WHERE name = 'harbour'"), "people");
            assert_eq!(text("SELECT kind FROM store WHERE name = 'things'"), "devices");
            assert_eq!(text("SELECT name FROM person WHERE store = 'harbour'"), "ida.marsh");
            assert_eq!(
                text("SELECT title || group_name FROM device JOIN device_group USING (store, mac)"),
                "cranecranes"
            );
            all.pragma_update(None, "foreign_keys", true).unwrap();
            all.execute("INSERT INTO device (store, mac, title, barred) VALUES ('gone', x'02005e200002', '', 0)", [])
                .unwrap_err();
            assert_eq!(text("SELECT chain || hex(key) || changed_at FROM certificate WHERE name = 'own'"), "PEM013");
            assert_eq!(text("SELECT crl_url || coalesce(ocsp_url, ' none') FROM trust"), "http://x none");
        }
    }
}
