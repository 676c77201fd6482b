use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use rusqlite::Connection;

use crate::database::open_database;
use crate::error::RecordsError;

const FORMS: &[&str] = &[include_str!("../migrations/lists-1.sql")];

/// The revocation lists that this node fetched last, in a file of its own: after a
/// restart they are in force before their issuers are reached again. Lists have
/// megabytes, which the journal's file must not wait for.
#[derive(Debug)]
pub struct FetchedLists {
    connection: Mutex<Connection>,
}

impl FetchedLists {
    /// Opens or makes the file.
    pub fn open(path: &Path) -> Result<Self, RecordsError> {
        Ok(Self { connection: Mutex::new(open_database(path, FORMS)?) })
    }

    /// The last list of each trust, in DER.
    pub fn all(&self) -> Result<Vec<(String, Vec<u8>)>, RecordsError> {
        let connection = self.lock();
        let mut statement = connection.prepare("SELECT trust, der FROM list")?;
        let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?.collect::<Result<_, _>>()?;
        Ok(rows)
    }

    /// Keeps a list in place of the one before.
    pub fn keep(&self, trust: &str, der: &[u8], now: u64) -> Result<(), RecordsError> {
        let sql = "INSERT INTO list (trust, der, fetched_at) VALUES (?1, ?2, ?3)
                   ON CONFLICT (trust) DO UPDATE SET der = ?2, fetched_at = ?3";
        self.lock().execute(sql, (trust, der, now.cast_signed()))?;
        Ok(())
    }

    fn lock(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_list_of_each_trust_is_there_after_a_restart() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("lists.sqlite");
        let lists = FetchedLists::open(&file).unwrap();
        assert_eq!(lists.all().unwrap(), []);
        for (trust, der) in [("ours", &b"1"[..]), ("theirs", b"2"), ("ours", b"3")] {
            lists.keep(trust, der, 5).unwrap();
        }
        drop(lists);
        let mut all = FetchedLists::open(&file).unwrap().all().unwrap();
        all.sort();
        assert_eq!(all, [("ours".to_owned(), b"3".to_vec()), ("theirs".to_owned(), b"2".to_vec())]);
    }
}
