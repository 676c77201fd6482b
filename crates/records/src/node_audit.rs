//! What a node saw of administrators, in a file of its own, each entry chained to the one before.

use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use rusqlite::{Connection, OptionalExtension, Row, params};
use sha2::{Digest, Sha256};

use crate::command::Author;
use crate::database::log::{Verified, holds};
use crate::database::{open_database, open_to_read};
use crate::error::RecordsError;
use crate::sealing::hex;

const FORMS: &[&str] = &[include_str!("../migrations/node-audit-1.sql")];

/// Something of an administrator that this node saw, and that changes nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Seen {
    /// Somebody could not sign in; the name that was given.
    RefusedSignIn(String),
    /// Somebody signed in by an account of a directory.
    SignIn,
    /// Somebody of a directory signed out.
    SignOut,
    /// Somebody tried a password or a secret of others: of whom or what, in words.
    Try(String),
    /// A program used a token for the first time on a day, or from another address than before; what it is called.
    TokenUse(String),
}

/// What this node saw, from the first on.
#[derive(Debug)]
pub struct NodeAudit {
    path: PathBuf,
    connection: Mutex<Connection>,
}

/// One entry of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NodeEntry {
    /// Which it is, counted from 1.
    pub number: u64,
    /// Milliseconds since 1970 (UTC).
    pub at: u64,
    /// Who it was.
    pub author: String,
    /// From where.
    pub from: String,
    /// What was done, in words.
    pub what: String,
    /// To what.
    pub subject: String,
    /// The hash of it and of the one before (SHA-256), in hexadecimal digits.
    pub chain: String,
}

impl Seen {
    fn words(&self, author: &Author) -> (&'static str, String) {
        match self {
            Self::RefusedSignIn(name) => ("refuse sign-in", name.clone()),
            Self::SignIn => ("sign in", author.name.clone()),
            Self::SignOut => ("sign out", author.name.clone()),
            Self::Try(what) => ("try", what.clone()),
            Self::TokenUse(name) => ("use token", name.clone()),
        }
    }
}

const COLUMNS: &str = "number, at, author, source, what, subject, chain";

impl NodeAudit {
    /// Opens or makes the file.
    pub fn open(path: &Path) -> Result<Self, RecordsError> {
        Ok(Self { path: path.into(), connection: Mutex::new(open_database(path, FORMS)?) })
    }

    /// Keeps what was seen; it is on the disk when this returns.
    pub fn note(&self, author: &Author, at: u64, seen: &Seen) -> Result<(), RecordsError> {
        let (what, subject) = seen.words(author);
        let db = self.lock();
        let last = format!("SELECT {COLUMNS} FROM note ORDER BY number DESC LIMIT 1");
        let before = db.prepare_cached(&last)?.query_row([], Noted::read).optional()?;
        let noted = Noted {
            number: before.as_ref().map_or(1, |before| before.number + 1),
            at: at.cast_signed(),
            author: author.name.clone(),
            source: author.from.clone(),
            what: what.to_owned(),
            subject,
            chain: before.map(|before| before.chain).unwrap_or_default(),
        };
        let chain = noted.chained_to(&noted.chain);
        let sql = format!("INSERT INTO note ({COLUMNS}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)");
        let Noted { number, at, author, source, what, subject, .. } = noted;
        db.prepare_cached(&sql)?.execute(params![number, at, author, source, what, subject, chain])?;
        Ok(())
    }

    /// The entries below a number in which every one of these words stands, the last first.
    pub fn entries(&self, below: u64, most: u32, words: &[String]) -> Result<Vec<NodeEntry>, RecordsError> {
        // Nobody who could not sign in waits while all of it is looked through.
        let db = open_to_read(&self.path)?;
        let sql = format!("SELECT {COLUMNS} FROM note WHERE number < ?1 ORDER BY number DESC");
        let mut statement = db.prepare(&sql)?;
        let mut rows = statement.query([i64::try_from(below).unwrap_or(i64::MAX)])?;
        let mut entries = Vec::new();
        while let Some(row) = rows.next()? {
            let noted = Noted::read(row)?;
            if holds([&noted.author, &noted.source, &noted.what, &noted.subject], words) {
                entries.push(noted.entry());
            }
            if entries.len() >= most as usize {
                break;
            }
        }
        Ok(entries)
    }

    /// The number of the first entry after a moment, in milliseconds since 1970.
    pub fn first_after(&self, at: u64) -> Result<u64, RecordsError> {
        let sql = "SELECT min(number) FROM note WHERE at > ?1";
        let at = i64::try_from(at).unwrap_or(i64::MAX);
        let first: Option<i64> = open_to_read(&self.path)?.query_row(sql, [at], |row| row.get(0))?;
        Ok(first.map_or(u64::MAX, i64::cast_unsigned))
    }

    /// Goes along the chain from the first entry to the last.
    pub fn verify(&self) -> Result<Verified, RecordsError> {
        let db = open_to_read(&self.path)?;
        let mut statement = db.prepare(&format!("SELECT {COLUMNS} FROM note ORDER BY number"))?;
        let mut rows = statement.query([])?;
        let mut verified = Verified { commands: 0, chain: hex(&[0; 32]), broken: None };
        let mut chain = Vec::new();
        while let Some(row) = rows.next()? {
            let noted = Noted::read(row)?;
            let expected = verified.commands + 1;
            let why = match noted {
                _ if noted.number.cast_unsigned() != expected => "it is missing",
                _ if noted.chain != noted.chained_to(&chain) => {
                    "it was changed after it was written, or the one before it was"
                }
                _ => {
                    (verified.commands, verified.chain) = (expected, hex(&noted.chain));
                    chain = noted.chain;
                    continue;
                }
            };
            verified.broken = Some((expected, why.into()));
            break;
        }
        Ok(verified)
    }

    fn lock(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// An entry as it stands in its row.
struct Noted {
    number: i64,
    at: i64,
    author: String,
    source: String,
    what: String,
    subject: String,
    chain: Vec<u8>,
}

impl Noted {
    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            number: row.get(0)?,
            at: row.get(1)?,
            author: row.get(2)?,
            source: row.get(3)?,
            what: row.get(4)?,
            subject: row.get(5)?,
            chain: row.get(6)?,
        })
    }

    /// The hash of this and of the one before; of the first that of nothing.
    fn chained_to(&self, before: &[u8]) -> Vec<u8> {
        let mut hash = Sha256::new();
        hash.update((before.len() as u64).to_be_bytes());
        hash.update(before);
        [self.number, self.at].iter().for_each(|number| hash.update(number.to_be_bytes()));
        for part in [&self.author, &self.source, &self.what, &self.subject] {
            hash.update((part.len() as u64).to_be_bytes());
            hash.update(part);
        }
        hash.finalize().to_vec()
    }

    fn entry(self) -> NodeEntry {
        NodeEntry {
            number: self.number.cast_unsigned(),
            at: self.at.cast_unsigned(),
            author: self.author,
            from: self.source,
            what: self.what,
            subject: self.subject,
            chain: hex(&self.chain),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_seen_is_read_the_last_first_and_shows_what_was_changed_in_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("audit.sqlite");
        let author = |name: &str| Author::new(name, "10.44.0.7");
        {
            let audit = NodeAudit::open(&path).unwrap();
            assert_eq!(audit.verify().unwrap().commands, 0);
            for (at, seen) in
                [Seen::RefusedSignIn("ida".into()), Seen::SignIn, Seen::Try("NAS yard-sw-1".into())].iter().enumerate()
            {
                audit.note(&author("nobody"), at as u64, seen).unwrap();
            }
        }
        let audit = NodeAudit::open(&path).unwrap();
        let numbers = |below, words: &[&str]| {
            let words: Vec<_> = words.iter().map(|word| (*word).to_owned()).collect();
            audit.entries(below, 9, &words).unwrap().into_iter().map(|entry| entry.number).collect::<Vec<_>>()
        };
        assert_eq!(
            (numbers(u64::MAX, &[]), numbers(3, &[]), numbers(9, &["yard"])),
            (vec![3, 2, 1], vec![2, 1], vec![3])
        );
        let whole = audit.verify().unwrap();
        assert_eq!((whole.commands, whole.broken), (3, None));
        assert_eq!(whole.chain, audit.entries(9, 1, &[]).unwrap()[0].chain);
        audit.lock().execute("UPDATE note SET subject = 'jonas' WHERE number = 1", []).unwrap();
        assert_eq!(audit.verify().unwrap().broken.unwrap().0, 1);
        audit.lock().execute("DELETE FROM note WHERE number = 1", []).unwrap();
        assert_eq!(audit.verify().unwrap().broken, Some((1, "it is missing".into())));
    }
}
