use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use regnant_base::BoundedMap;
use rusqlite::{Connection, OptionalExtension, Row, params};

use crate::command::TokenHash;
use crate::database::open_database;
use crate::error::RecordsError;

const FORMS: &[&str] = &[include_str!("../migrations/tokens-1.sql")];
/// A use is written at most so often for each token, in milliseconds.
const EVERY: u64 = 60_000;
/// Milliseconds.
const DAY: u64 = 24 * 3_600_000;
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
    written: BoundedMap<[u8; 32], TokenUse>,
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

    /// Remembers a use; tells whether it is one to be noted: the first of a day (UTC), or from another address than the
    /// last. A disk that is full keeps nobody from working.
    pub fn used(&self, hash: TokenHash, from: &str, now: u64) -> bool {
        let mut inner = self.lock();
        if inner.written.get(&hash.0).is_some_and(|last| now.saturating_sub(last.at) < EVERY) {
            return false;
        }
        let last = inner.written.get(&hash.0).cloned().or_else(|| inner.read(hash).ok().flatten());
        inner.written.insert(hash.0, TokenUse { hash, at: now, from: from.to_owned() });
        let sql = "INSERT INTO token_use (hash, at, source) VALUES (?1, ?2, ?3)
                   ON CONFLICT (hash) DO UPDATE SET at = ?2, source = ?3";
        let _ = inner.connection.execute(sql, params![hash.0, now.cast_signed(), from]);
        last.is_none_or(|last| last.at / DAY != now / DAY || last.from != from)
    }

    /// The last use of every token that was used.
    pub fn all(&self) -> Result<Vec<TokenUse>, RecordsError> {
        let inner = self.lock();
        let mut statement = inner.connection.prepare_cached("SELECT hash, at, source FROM token_use")?;
        Ok(statement.query_map([], TokenUse::read)?.collect::<Result<_, _>>()?)
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    /// The last use of a token.
    fn read(&self, hash: TokenHash) -> Result<Option<TokenUse>, RecordsError> {
        let sql = "SELECT hash, at, source FROM token_use WHERE hash = ?1";
        Ok(self.connection.prepare_cached(sql)?.query_row([hash.0], TokenUse::read).optional()?)
    }
}

impl TokenUse {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self { hash: TokenHash(row.get(0)?), at: row.get::<_, i64>(1)?.cast_unsigned(), from: row.get(2)? })
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
        assert!(uses.used(token, "10.44.0.1", 5) && !uses.used(token, "10.44.0.2", 60_004));
        assert_eq!(uses.all().unwrap(), [TokenUse { hash: token, at: 5, from: "10.44.0.1".into() }]);
        assert!(uses.used(token, "10.44.0.3", 60_005));
        drop(uses);
        let uses = TokenUses::open(&file).unwrap();
        let all = uses.all().unwrap();
        assert!(!uses.used(token, "10.44.0.3", 200_000), "from the same address on the same day, over a restart");
        assert!(uses.used(token, "10.44.0.4", 300_000) && uses.used(token, "10.44.0.4", DAY));
        assert_eq!(all, [TokenUse { hash: token, at: 60_005, from: "10.44.0.3".into() }]);
    }
}
