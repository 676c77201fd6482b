use std::path::Path;
use std::time::Duration;

use rusqlite::{Connection, OpenFlags};

use crate::error::JournalError;

/// How long one try waits for another program that holds a file.
const BUSY: Duration = Duration::from_millis(200);

/// Opens a file, or makes one of the newest form by `schema`; a newer form is an error.
pub(crate) fn open(path: &Path, newest: i64, schema: &str) -> Result<Connection, JournalError> {
    let open = || {
        let connection = Connection::open(path)?;
        connection.busy_timeout(BUSY)?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        // A commit is on the disk when it returns, not only in the system's memory.
        connection.pragma_update(None, "synchronous", "FULL")?;
        if version(&connection)? == 0 {
            connection.execute_batch(&format!("BEGIN; {schema}; PRAGMA user_version = {newest}; COMMIT"))?;
        }
        Ok(connection)
    };
    let connection = open().map_err(|error| JournalError::File { file: path.into(), error })?;
    known(connection, path, newest)
}

/// The connection, where its file has a form that is known here.
fn known(connection: Connection, path: &Path, newest: i64) -> Result<Connection, JournalError> {
    let file = || path.to_owned();
    match version(&connection).map_err(|error| JournalError::File { file: file(), error })? {
        version if version > newest => Err(JournalError::Newer { file: file(), version }),
        _ => Ok(connection),
    }
}

/// The bytes of a file.
pub(crate) fn bytes(connection: &Connection) -> u64 {
    let sql = "SELECT page_count * page_size FROM pragma_page_count, pragma_page_size";
    let bytes = connection.prepare_cached(sql).and_then(|mut sql| sql.query_row([], |row| row.get(0)));
    bytes.map_or(0, i64::cast_unsigned)
}

/// Opens a file to be read, of this form at most.
pub(crate) fn open_to_read(path: &Path, newest: i64) -> Result<Connection, JournalError> {
    let open = || {
        let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        connection.busy_timeout(BUSY)?;
        Ok(connection)
    };
    let connection = open().map_err(|error| JournalError::File { file: path.into(), error })?;
    known(connection, path, newest)
}

fn version(connection: &Connection) -> rusqlite::Result<i64> {
    connection.query_row("PRAGMA user_version", [], |row| row.get(0))
}
