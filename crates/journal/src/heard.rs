use std::path::Path;

use regnant_evidence::HeardMarks;
use rusqlite::{Connection, params};

use crate::database;
use crate::error::JournalError;

/// The form of the file.
const VERSION: i64 = 1;
const SCHEMA: &str = "CREATE TABLE nas (
    name TEXT PRIMARY KEY,
    signed_since INTEGER NOT NULL,
    unsigned_at INTEGER NOT NULL,
    switched INTEGER NOT NULL
) WITHOUT ROWID";

/// What this node heard of equipment apart from what it asked, in a file of its own.
#[derive(Debug)]
pub struct HeardFile {
    connection: Connection,
}

impl HeardFile {
    /// Opens or makes the file.
    pub fn open(path: &Path) -> Result<Self, JournalError> {
        Ok(Self { connection: database::open(path, VERSION, SCHEMA)? })
    }

    /// Keeps what was heard, in the place of what was heard before.
    pub fn keep(&mut self, heard: &[(String, HeardMarks)]) -> Result<(), JournalError> {
        let transaction = self.connection.transaction()?;
        let sql = "INSERT INTO nas (name, signed_since, unsigned_at, switched) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT (name) DO UPDATE SET signed_since = ?2, unsigned_at = ?3, switched = ?4";
        let mut insert = transaction.prepare_cached(sql)?;
        for (name, marks) in heard {
            let [signed, unsigned, switched] =
                [marks.signed_since, marks.unsigned_at, marks.switched].map(u64::cast_signed);
            insert.execute(params![name, signed, unsigned, switched])?;
        }
        drop(insert);
        Ok(transaction.commit()?)
    }

    /// What was heard of every NAS.
    pub fn all(&self) -> Result<Vec<(String, HeardMarks)>, JournalError> {
        let mut statement = self.connection.prepare("SELECT name, signed_since, unsigned_at, switched FROM nas")?;
        let rows = statement.query_map([], |row| {
            let time = |column| row.get(column).map(i64::cast_unsigned);
            Ok((row.get(0)?, HeardMarks { signed_since: time(1)?, unsigned_at: time(2)?, switched: time(3)? }))
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_heard_last_is_there_after_a_restart() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("heard.sqlite");
        let heard = |name: &str, signed_since, switched| {
            (name.to_owned(), HeardMarks { signed_since, unsigned_at: 3, switched })
        };
        let mut file = HeardFile::open(&path).unwrap();
        file.keep(&[heard("quay-sw-1", 5, 0), heard("wlc-1", 6, 0)]).unwrap();
        file.keep(&[heard("quay-sw-1", 0, 7)]).unwrap();
        drop(file);
        assert_eq!(HeardFile::open(&path).unwrap().all().unwrap(), [heard("quay-sw-1", 0, 7), heard("wlc-1", 6, 0)]);
    }
}
