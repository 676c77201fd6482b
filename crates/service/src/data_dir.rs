use std::fs::{self, File, TryLockError};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use crate::service::StartError;

/// The data directory, held by one service at a time.
#[derive(Debug)]
pub(crate) struct DataDir {
    path: PathBuf,
    /// Locked for as long as the service lives.
    _lock: File,
}

impl DataDir {
    /// Makes the directory where it does not exist, and locks it.
    pub(crate) fn take(path: &Path) -> Result<Self, StartError> {
        let failed = |error| StartError::DataDir(path.into(), error);
        if !path.exists() {
            fs::DirBuilder::new().recursive(true).mode(0o700).create(path).map_err(failed)?;
        }
        let lock = File::options().create(true).truncate(false).write(true).open(path.join("lock")).map_err(failed)?;
        match lock.try_lock() {
            Ok(()) => Ok(Self { path: path.into(), _lock: lock }),
            Err(TryLockError::WouldBlock) => Err(StartError::DataDirInUse(path.into())),
            Err(TryLockError::Error(error)) => Err(failed(error)),
        }
    }

    pub(crate) fn join(&self, name: impl AsRef<Path>) -> PathBuf {
        self.path.join(name)
    }
}
