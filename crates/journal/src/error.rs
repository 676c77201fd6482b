use std::io;
use std::path::PathBuf;

use rusqlite::ErrorCode;
use thiserror::Error;

/// What goes wrong with the journal.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum JournalError {
    /// SQLite refused. Trying again may help where the disk was full.
    #[error(transparent)]
    Sqlite(#[from] rusqlite::Error),
    /// It took longer than whoever asked would wait.
    #[error("it takes too long: look for fewer words, or only before a moment, by the id of an entry")]
    Late,
    /// A file cannot be opened.
    #[error("{} cannot be used: {error}", file.display())]
    File {
        /// The file.
        file: PathBuf,
        /// What SQLite says.
        #[source]
        error: rusqlite::Error,
    },
    /// The folder, or a file in it, cannot be read or moved.
    #[error("{} cannot be used: {error}", path.display())]
    Folder {
        /// The folder or file.
        path: PathBuf,
        /// What the system says.
        #[source]
        error: io::Error,
    },
    /// A newer release made the file.
    #[error("{} has the form {version}, which this release does not know; a newer one made it", file.display())]
    Newer {
        /// The file.
        file: PathBuf,
        /// Its form.
        version: i64,
    },
}

impl JournalError {
    /// Whether a file is of no use to this release: opening it again does not help.
    pub(crate) fn is_of_no_use(&self) -> bool {
        match self {
            Self::Sqlite(error) | Self::File { error, .. } => is_broken(error),
            Self::Newer { .. } => true,
            Self::Late | Self::Folder { .. } => false,
        }
    }
}

pub(crate) fn is_broken(error: &rusqlite::Error) -> bool {
    matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase))
}
