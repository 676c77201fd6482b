use std::fs::{self, File, Permissions, TryLockError};
use std::io;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};

use rustix::fs::Mode;

use crate::service::StartError;

/// What may read and write the directory, and the files in it: its owner.
const FOLDER: u32 = 0o700;
const FILE: u32 = 0o600;

/// The data directory, held by one service at a time.
#[derive(Debug)]
pub(crate) struct DataDir {
    path: PathBuf,
    /// Locked for as long as the service lives.
    _lock: File,
}

impl DataDir {
    /// Makes the directory where it does not exist, locks it, and takes away what
    /// others may do with it: databases in it hold what everybody's access hangs on.
    pub(crate) fn take(path: &Path) -> Result<Self, StartError> {
        let failed = |error| StartError::DataDir(path.into(), error);
        // Whatever is made from now on, SQLite's own files too.
        rustix::process::umask(Mode::from_raw_mode(0o077));
        if !path.exists() {
            fs::DirBuilder::new().recursive(true).mode(FOLDER).create(path).map_err(failed)?;
        }
        let lock = File::options().create(true).truncate(false).write(true).open(path.join("lock")).map_err(failed)?;
        match lock.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Err(StartError::DataDirInUse(path.into())),
            Err(TryLockError::Error(error)) => return Err(failed(error)),
        }
        close_to_others(path).map_err(failed)?;
        Ok(Self { path: path.into(), _lock: lock })
    }

    pub(crate) fn join(&self, name: impl AsRef<Path>) -> PathBuf {
        self.path.join(name)
    }
}

/// The directory and the service's own files in it; what else somebody keeps there
/// stays as it is.
fn close_to_others(path: &Path) -> io::Result<()> {
    narrow(path, FOLDER)?;
    for entry in fs::read_dir(path)? {
        let entry = entry?;
        let (name, kind) = (entry.file_name(), entry.file_type()?);
        let ours = name.to_str().is_some_and(|name| name == "lock" || name.contains(".sqlite"));
        if ours && kind.is_file() {
            narrow(&entry.path(), FILE)?;
        }
        if name == "journal" && kind.is_dir() {
            close_to_others(&entry.path())?;
        }
    }
    Ok(())
}

fn narrow(path: &Path, most: u32) -> io::Result<()> {
    let mode = fs::metadata(path)?.permissions().mode() & 0o777;
    match mode & !most {
        0 => Ok(()),
        _ => fs::set_permissions(path, Permissions::from_mode(mode & most)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_directory_that_existed_with_more_is_closed_to_others() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("data");
        fs::create_dir(&path).unwrap();
        fs::set_permissions(&path, Permissions::from_mode(0o755)).unwrap();
        for name in ["records.sqlite", "journal.sqlite-wal", "notes.txt"] {
            fs::write(path.join(name), "").unwrap();
            fs::set_permissions(path.join(name), Permissions::from_mode(0o644)).unwrap();
        }
        let taken = DataDir::take(&path).unwrap();
        let mode = |name: &str| fs::metadata(path.join(name)).unwrap().permissions().mode() & 0o777;
        assert_eq!((mode(""), mode("records.sqlite"), mode("journal.sqlite-wal")), (0o700, 0o600, 0o600));
        assert_eq!(mode("notes.txt"), 0o644, "what is not ours");
        fs::write(taken.join("new.sqlite"), "").unwrap();
        assert_eq!(mode("new.sqlite"), 0o600);
    }
}
