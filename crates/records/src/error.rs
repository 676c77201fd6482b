use std::path::PathBuf;

use rusqlite::ErrorCode;
use thiserror::Error;

/// What goes wrong with records.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum RecordsError {
    /// SQLite refused. Trying again may help where the disk was full.
    #[error("the records cannot be used: {0}")]
    Sqlite(#[from] rusqlite::Error),
    /// A file cannot be opened at all.
    #[error("{} cannot be used: {error}", file.display())]
    File {
        /// The file.
        file: PathBuf,
        /// What SQLite says.
        error: rusqlite::Error,
    },
    /// Two NASes with one address could not be told apart.
    #[error("two NASes would have the same address or block; give each its own")]
    SameAddress,
    /// A file cannot be brought to this version's form.
    #[error("{} cannot be brought up to date: {reason}", file.display())]
    Migration {
        /// The file.
        file: PathBuf,
        /// What SQLite says.
        reason: String,
    },
    /// Something sealed does not open: another key, or a changed file.
    #[error("{0} does not open with this sealing key; restore the key file that belongs to these records")]
    Sealed(String),
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
            Self::Migration { .. } | Self::SameAddress | Self::Sealed(_) => false,
        }
    }
}

pub(crate) fn is_broken(error: &rusqlite::Error) -> bool {
    matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase))
}
