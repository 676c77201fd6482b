use std::path::PathBuf;

use rusqlite::ErrorCode;
use thiserror::Error;

use crate::command::{Conflict, Fault, Missing};
use crate::sealing::KeyId;

/// Why a command was not done.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Refusal {
    /// It does not go together with what there is.
    #[error(transparent)]
    Conflict(#[from] Conflict),
    /// It names what there is not.
    #[error(transparent)]
    NotFound(#[from] Missing),
    /// It cannot be done at all.
    #[error(transparent)]
    Invalid(#[from] Fault),
}

impl From<Conflict> for RecordsError {
    fn from(conflict: Conflict) -> Self {
        Self::Refused(conflict.into())
    }
}

impl From<Missing> for RecordsError {
    fn from(missing: Missing) -> Self {
        Self::Refused(missing.into())
    }
}

impl From<Fault> for RecordsError {
    fn from(fault: Fault) -> Self {
        Self::Refused(fault.into())
    }
}

/// What goes wrong with records.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum RecordsError {
    /// SQLite refused. Trying again may help where the disk was full.
    #[error("the records cannot be used: {}", what_to_do(.0))]
    Sqlite(#[from] rusqlite::Error),
    /// A copy of a file cannot be made.
    #[error("{} cannot be made: {error}; see that there is room", file.display())]
    Copy {
        /// The copy.
        file: PathBuf,
        /// Why.
        error: std::io::Error,
    },
    /// A file cannot be opened at all.
    #[error("{} cannot be used: {error}", file.display())]
    File {
        /// The file.
        file: PathBuf,
        /// What SQLite says.
        error: rusqlite::Error,
    },
    /// A command was not done, and what there was is there still.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// A file cannot be brought to this version's form.
    #[error("{} cannot be brought up to date: {reason}", file.display())]
    Migration {
        /// The file.
        file: PathBuf,
        /// What SQLite says.
        reason: String,
    },
    /// A file is of a later release.
    #[error(
        "{} has form {form}, and this release knows {known}: install the release that wrote it, or restore what was kept \
         before it was brought up to date; what a build before the first release wrote is read by that build alone",
         file.display()
    )]
    Newer {
        /// The file.
        file: PathBuf,
        /// Its form.
        form: usize,
        /// The newest that is known here.
        known: usize,
    },
    /// Something sealed does not open: another key, or a changed file.
    #[error("{0} does not open with this sealing key; restore the key file that belongs to these records")]
    Sealed(String),
    /// The key file is not the one of these records.
    #[error(
        "the records are sealed under key {records}, and the key file holds key {file}; restore the key file that belongs to these records"
    )]
    OtherKey {
        /// The key that opens the records.
        records: KeyId,
        /// The key that is there.
        file: KeyId,
    },
    /// What devices are found by cannot be written or read.
    #[error("what devices are found by cannot be written or read: {0}; make room on the disk of the records")]
    Texts(std::io::Error),
    /// A row does not hold what it must.
    #[error("the records are damaged: {0}")]
    Damaged(String),
}

impl RecordsError {
    /// Whether a file is no database, or one that is broken: opening it again does not
    /// help.
    pub fn is_damage(&self) -> bool {
        match self {
            Self::Sqlite(error) | Self::File { error, .. } => is_broken(error),
            Self::Damaged(_) => true,
            Self::Texts(_)
            | Self::Copy { .. }
            | Self::Newer { .. }
            | Self::Migration { .. }
            | Self::Refused(_)
            | Self::Sealed(_)
            | Self::OtherKey { .. } => false,
        }
    }
}

/// What the database says, and what helps where that is known.
fn what_to_do(error: &rusqlite::Error) -> String {
    let help = match error.sqlite_error_code() {
        Some(ErrorCode::DiskFull) => "; make room on the disk of the data directory, then try again",
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            "; see which other program holds them, then try again"
        }
        Some(ErrorCode::ReadOnly) => "; see who may write in the data directory",
        _ => "",
    };
    format!("{error}{help}")
}

pub(crate) fn is_broken(error: &rusqlite::Error) -> bool {
    matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase))
}
