//! A backup: what is configured, and on demand the sealing key and what was journaled, as one
//! tar archive. With the key it is encrypted under a passphrase.

mod restore;

use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use regnant_base::SecretText;
use regnant_records::{KeyError, KeyId, RecordsError, check_records, copy_database};
use serde::{Deserialize, Serialize};
use tar::{Builder, Header};
use thiserror::Error;

pub(crate) use self::restore::finish;
pub use self::restore::{Restore, Restored, unpack};
use crate::clock::{iso, now_ms};
use crate::sealed_stream::{MAGIC, Sealing, StreamError};
use crate::service::{RECORDS, StartError};

/// The form of archives that this release writes and reads.
const FORM: u32 = 1;
const MANIFEST: &str = "manifest.json";
const KEY: &str = "sealing.key";
/// The last of every archive: one without it broke off.
const END: &str = "end";
/// Where copies stand while a backup is made.
const UNDER_WAY: &str = "backup-under-way";
/// Where an import is rehearsed.
pub(crate) const REHEARSAL: &str = "import-under-way";
/// Room that a backup leaves to the journal, in bytes.
const RESERVE: u64 = 64 << 20;
/// What was observed, by folder.
const FOLDERS: [&str; 2] = ["journal", "accounting"];

/// What a backup says of itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    /// The form of the archive.
    pub form: u32,
    /// When it was made, in UTC.
    pub made: String,
    /// The sealing key that opens its secrets.
    pub key: KeyId,
    /// How many changes its records have seen.
    pub revision: u64,
    /// Whether the key is in it.
    pub with_key: bool,
    /// Whether journal and accounting are in it.
    pub with_journal: bool,
}

/// What is wanted of a backup.
#[derive(Debug, Default)]
pub(crate) struct BackupOrder {
    /// Under which the key is taken along.
    pub(crate) passphrase: Option<SecretText>,
    pub(crate) with_journal: bool,
}

/// Where a running service keeps what is backed up.
#[derive(Clone, Debug)]
pub(crate) struct Places {
    pub(crate) folder: PathBuf,
    pub(crate) key: PathBuf,
    pub(crate) id: KeyId,
}

/// Writes a backup of a running service.
pub(crate) fn write(places: &Places, order: &BackupOrder, output: impl Write) -> Result<(), BackupError> {
    match &order.passphrase {
        Some(passphrase) => {
            let mut sealing = Sealing::begin(output, passphrase)?;
            archive(places, order, &mut sealing)?;
            sealing.end()?;
        }
        None => archive(places, order, output)?,
    }
    Ok(())
}

fn archive(places: &Places, order: &BackupOrder, output: impl Write) -> Result<(), BackupError> {
    let copies = UnderWay::begin(places.folder.join(UNDER_WAY))?;
    let copy = copies.0.join(RECORDS);
    copy_database(&places.folder.join(RECORDS), &copy)?;
    let checked = check_records(&copy)?;
    let mut tar = Builder::new(output);
    let manifest = Manifest {
        form: FORM,
        made: iso(now_ms()),
        key: places.id,
        revision: checked.commands,
        with_key: order.passphrase.is_some(),
        with_journal: order.with_journal,
    };
    put(&mut tar, MANIFEST, &serde_json::to_vec_pretty(&manifest).unwrap_or_default())?;
    tar.append_path_with_name(&copy, RECORDS)?;
    fs::remove_file(&copy)?;
    if order.passphrase.is_some() {
        tar.append_path_with_name(&places.key, KEY)?;
    }
    for folder in FOLDERS.iter().filter(|_| order.with_journal) {
        for file in databases(&places.folder.join(folder))? {
            let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            let copy = copies.0.join(&name);
            copy_database(&file, &copy)?;
            tar.append_path_with_name(&copy, format!("{folder}/{name}"))?;
            fs::remove_file(&copy)?;
        }
    }
    put(&mut tar, END, b"")?;
    Ok(tar.into_inner()?.flush()?)
}

/// Copies of records, in a folder of a fixed name: a start removes what a crash left.
pub(crate) struct UnderWay(pub(crate) PathBuf);

impl UnderWay {
    pub(crate) fn begin(folder: PathBuf) -> io::Result<Self> {
        remove_folder(&folder)?;
        fs::create_dir(&folder)?;
        Ok(Self(folder))
    }
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        if let Err(error) = remove_folder(&self.0) {
            tracing::warn!("{} is left behind: {error}", self.0.display());
        }
    }
}

fn remove_folder(folder: &Path) -> io::Result<()> {
    match fs::remove_dir_all(folder) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// Removes what a backup or an import left that was interrupted.
pub(crate) fn clear(data: &Path) -> io::Result<()> {
    remove_folder(&data.join(UNDER_WAY))?;
    remove_folder(&data.join(REHEARSAL))
}

/// What was left by a backup, an import or a restore that was interrupted.
pub(crate) fn left_behind(data: &Path) -> impl Iterator<Item = PathBuf> {
    [UNDER_WAY, REHEARSAL, restore::UNDER_WAY].map(|name| data.join(name)).into_iter().filter(|folder| folder.exists())
}

/// Whether the largest of what is backed up can be copied beside it while the journal goes on. One is copied at a
/// time.
pub(crate) fn has_room(places: &Places, with_journal: bool) -> Result<(), BackupError> {
    let data = &places.folder;
    let mut files = vec![data.join(RECORDS)];
    for folder in FOLDERS.iter().filter(|_| with_journal) {
        files.extend(databases(&data.join(folder))?);
    }
    let size = |file: &PathBuf| {
        let bytes = |file: &Path| fs::metadata(file).map_or(0, |about| about.len());
        let mut log = file.clone().into_os_string();
        log.push("-wal");
        bytes(file) + bytes(Path::new(&log))
    };
    let wanted = files.iter().map(size).max().unwrap_or(0) + RESERVE;
    let about = rustix::fs::statvfs(data).map_err(io::Error::from)?;
    let free = about.f_bavail * about.f_frsize;
    match free < wanted {
        true => Err(BackupError::Room { data: data.into(), wanted, free }),
        false => Ok(()),
    }
}

fn databases(folder: &Path) -> io::Result<Vec<PathBuf>> {
    let mut all = Vec::new();
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        if path.extension().is_some_and(|extension| extension == "sqlite") {
            all.push(path);
        }
    }
    all.sort();
    Ok(all)
}

fn put(tar: &mut Builder<impl Write>, name: &str, bytes: &[u8]) -> io::Result<()> {
    let mut header = Header::new_gnu();
    header.set_size(bytes.len() as u64);
    header.set_mode(0o600);
    header.set_mtime(now_ms() / 1_000);
    tar.append_data(&mut header, name, bytes)
}

/// Whether a backup is encrypted, so that a passphrase is wanted.
pub fn is_encrypted(file: &Path) -> Result<bool, BackupError> {
    let mut begin = Vec::new();
    File::open(file)?.take(MAGIC.len() as u64).read_to_end(&mut begin)?;
    Ok(begin == MAGIC)
}

/// Why a backup was not made or not restored.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum BackupError {
    /// A file.
    #[error("the disk refuses: {0}; see that there is room, and that the files can be read and written")]
    Io(#[from] io::Error),
    /// The records.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// The data directory.
    #[error(transparent)]
    Data(#[from] StartError),
    /// It is no backup, or no whole one. Nothing was replaced.
    #[error("the file is no whole backup: {0}; nothing was replaced, take another")]
    Form(String),
    /// There is not enough of it.
    #[error("{} has room for {free} bytes, and a backup wants {wanted} for its copies: make room first", data.display())]
    Room {
        /// The data directory.
        data: PathBuf,
        /// Bytes that are wanted.
        wanted: u64,
        /// Bytes that are free.
        free: u64,
    },
    /// The sealing key cannot be put in its place.
    #[error(transparent)]
    KeyFile(#[from] KeyError),
    /// It was made by a later release.
    #[error("the backup has form {0}, of a later release: install that first; nothing was replaced")]
    Newer(u32),
    /// The key that opens it is not there.
    #[error(
        "the backup's secrets are sealed under key {0}, and {1}: put the key file that belongs to it there, or take a backup with its key; nothing was replaced"
    )]
    Key(KeyId, String),
    /// What is encrypted.
    #[error(transparent)]
    Stream(#[from] StreamError),
}
