//! Another sealing key for the same records.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::{fs, io};

use rusqlite::{Connection, OpenFlags};
use thiserror::Error;

use crate::command::{Author, Command, Envelope};
use crate::database::{Records, apply, log, tables};
use crate::error::RecordsError;
use crate::sealing::{KeyError, KeyId, SealingKey, seal_anew_with};

impl Records {
    /// Seals every secret under another key, those in the log too: what the old key
    /// opened is nowhere in the file any more. All or nothing.
    pub fn seal_anew(
        &self,
        from: &SealingKey,
        to: &Arc<SealingKey>,
        author: &Author,
        now: u64,
    ) -> Result<(), RecordsError> {
        let mut connection = self.lock();
        let mut transaction = connection.transaction()?;
        let mut rows = tables::with_secrets(&transaction)?;
        rows.secrets(seal_anew_with(from, to))?;
        tables::put(&transaction, &rows, now.cast_signed(), None)?;
        log::seal_anew(&transaction, from, to)?;
        let envelope = Envelope::new(author, now, Command::UseKey { key: to.id() });
        apply::apply(&mut transaction, &envelope)?.outcome.done()?;
        transaction.commit()?;
        // Free pages and the write-ahead log have some of what was sealed before still.
        connection.execute_batch("VACUUM")?;
        Ok(connection.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))?)
    }
}

/// The sealing key of these records, made where neither is there. Where setting another
/// key was interrupted, it is brought to its end, or is as if it had never begun.
pub fn take_key(path: &Path, records: &Path) -> Result<Arc<SealingKey>, KeyError> {
    let next = next_of(path);
    let opens = |key: &Path, id: KeyId| SealingKey::load(key).is_ok_and(|key| key.id() == id);
    match records_key(records).filter(|_| next.exists()) {
        Some(id) if opens(path, id) => fs::remove_file(&next).map_err(|error| KeyError::Io(next, error))?,
        Some(id) if opens(&next, id) => SealingKey::replace(path, &next)?,
        // Which of the two the records want cannot be told now: neither is given up.
        _ => {}
    }
    SealingKey::load_or_create(path, records).map(Arc::new)
}

/// Puts a key beside another, whose place it takes as soon as records that it opens are there ([`take_key`]); until
/// then it changes nothing. It is copied, for the two may be on different file systems.
pub fn offer_key(path: &Path, with: &Path) -> Result<(), KeyError> {
    let next = next_of(path);
    SealingKey::copy(with, &next)
}

/// Takes back what was offered.
pub fn withdraw_key(path: &Path) -> Result<(), KeyError> {
    let next = next_of(path);
    match fs::remove_file(&next) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(KeyError::Io(next, error)),
        _ => Ok(()),
    }
}

/// Where the key is that will take the place of this one.
fn next_of(path: &Path) -> PathBuf {
    path.with_added_extension("next")
}

/// The key of a file of records, where that can be read at all.
pub fn records_key(records: &Path) -> Option<KeyId> {
    let connection = Connection::open_with_flags(records, OpenFlags::SQLITE_OPEN_READ_WRITE).ok()?;
    apply::key_in_use(&connection).ok()?
}

/// Makes a new sealing key, seals the records anew under it and puts it in the place of
/// the one before. Gives the ids of both.
pub fn rotate_key(path: &Path, records: &Path, author: &Author, now: u64) -> Result<(KeyId, KeyId), RotationError> {
    let from = take_key(path, records)?;
    let opened = Records::open(records, &from, now)?;
    let next = next_of(path);
    let to = Arc::new(SealingKey::create(&next)?);
    opened.seal_anew(&from, &to, author, now)?;
    SealingKey::replace(path, &next)?;
    Ok((from.id(), to.id()))
}

/// Why records were not sealed anew.
#[derive(Debug, Error)]
pub enum RotationError {
    /// A key file.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The records.
    #[error(transparent)]
    Records(#[from] RecordsError),
}
