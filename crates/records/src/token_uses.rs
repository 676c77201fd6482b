use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use regnant_base::BoundedMap;
use rusqlite::{Connection, params};

use crate::command::TokenHash;
use crate::database::open_database;
use crate::error::RecordsError;

const FORMS: &[&str] = &[include_str!("../migrations/tokens-1.sql")];
/// A use is written at most so often for each token, in milliseconds.
const EVERY: u64 = 60_000;
/// Tokens whose last write is remembered.
const MOST: usize = 4_096;

/// When and from where this node saw tokens last, in a file of its own: no call of a program
/// changes shared records.
#[derive(Debug)]
pub struct TokenUses {
    inner: Mutex<Inner>,
}

#[derive(Debug)]
struct Inner {
    connection: Connection,
    written: BoundedMap<[u8; 32], u64>,
}

/// A use of a token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenUse {
    /// The token.
    pub hash: TokenHash,
    /// Milliseconds since 1970, to within a minute.
    pub at: u64,
    /// The address that it came from.
    pub from: String,
}

impl TokenUses {
    /// Opens or makes the file.
    pub fn open(path: &Path) -> Result<Self, RecordsError> {
        let connection = open_database(path, FORMS)?;
        Ok(Self { inner: Mutex::new(Inner { connection, written: BoundedMap::new(MOST) }) })
    }

    /// Remembers a use. A disk that is full keeps nobody from working.
    pub fn used(&self, hash: TokenHash, from: &str, now: u64) {
        let mut inner = self.lock();
        if inner.written.get(&hash.0).is_some_and(|at| now.saturating_sub(*at) < EVERY) {
            return;
        }
        inner.written.insert(hash.0, now);
        let sql = "INSERT INTO token_use (hash, at, source) VALUES (?1, ?2, ?3)
                   ON CONFLICT (hash) DO UPDATE SET at = ?2, source = ?3";
        let _ = inner.connection.execute(sql, params![hash.0, now.cast_signed(), from]);
    }

    /// The last use of every token that was used.
    pub fn all(&self) -> Result<Vec<TokenUse>, RecordsError> {
        let inner = self.lock();
        let mut statement = inner.connection.prepare_cached("SELECT hash, at, source FROM token_use")?;
        let read = |row: &rusqlite::Row<'_>| {
            Ok(TokenUse { hash: TokenHash(row.get(0)?), at: row.get::<_, i64>(1)?.cast_unsigned(), from: row.get(2)? })
        };
        Ok(statement.query_map([], read)?.collect::<Result<_, _>>()?)
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_use_is_written_once_a_minute_and_there_after_a_restart() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("tokens.sqlite");
        let uses = TokenUses::open(&file).unwrap();
        let token = TokenHash([7; 32]);
        for (from, now) in [("10.44.0.1", 5), ("10.44.0.2", 60_004)] {
            uses.used(token, from, now);
        }
        assert_eq!(uses.all().unwrap(), [TokenUse { hash: token, at: 5, from: "10.44.0.1".into() }]);
        uses.used(token, "10.44.0.3", 60_005);
        drop(uses);
        let all = TokenUses::open(&file).unwrap().all().unwrap();
        assert_eq!(all, [TokenUse { hash: token, at: 60_005, from: "10.44.0.3".into() }]);
    }
}
