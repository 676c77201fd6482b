//! A backup: what is configured, and on demand the sealing key and what was journaled, as one
//! tar archive. With the key it is encrypted under a passphrase.

use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use regnant_base::SecretText;
use regnant_records::{KeyId, RecordsError, SealingKey, check_records, copy_database, settle_database};
use serde::{Deserialize, Serialize};
use tar::{Archive, Builder, Header};
use thiserror::Error;

use crate::clock::{iso, now_ms};
use crate::config::Config;
use crate::data_dir::DataDir;
use crate::sealed_stream::{MAGIC, Opened, Sealing, StreamError};
use crate::service::{RECORDS, StartError};

/// The form of archives that this release writes and reads.
const FORM: u32 = 1;
const MANIFEST: &str = "manifest.json";
const KEY: &str = "sealing.key";
/// The last of every archive: one without it broke off.
const END: &str = "end";
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
    let copies = tempfile::tempdir_in(&places.folder)?;
    let copy = copies.path().join(RECORDS);
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
            let copy = copies.path().join(&name);
            copy_database(&file, &copy)?;
            tar.append_path_with_name(&copy, format!("{folder}/{name}"))?;
            fs::remove_file(&copy)?;
        }
    }
    put(&mut tar, END, b"")?;
    Ok(tar.into_inner()?.flush()?)
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

/// What came of a restore.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Restored {
    /// What the backup said of itself.
    pub manifest: Manifest,
    /// Where what was there before is, where something was.
    pub aside: Option<PathBuf>,
}

/// Whether a backup is encrypted, so that a passphrase is wanted.
pub fn is_encrypted(file: &Path) -> Result<bool, BackupError> {
    let mut begin = Vec::new();
    File::open(file)?.take(MAGIC.len() as u64).read_to_end(&mut begin)?;
    Ok(begin == MAGIC)
}

/// Puts a backup into a data directory that no service has open. Everything is checked before
/// anything is replaced; what was there is moved aside.
pub fn restore(
    config: &Config,
    data: &Path,
    file: &Path,
    passphrase: Option<&SecretText>,
) -> Result<Restored, BackupError> {
    let data = DataDir::take(data)?;
    let unpacked = tempfile::tempdir_in(data.join(""))?;
    let input = io::BufReader::new(File::open(file)?);
    match passphrase {
        Some(passphrase) => unpack(Opened::begin(input, passphrase)?, unpacked.path())?,
        None => unpack(input, unpacked.path())?,
    }
    let manifest: Manifest = serde_json::from_slice(&fs::read(unpacked.path().join(MANIFEST))?)
        .map_err(|error| BackupError::Form(format!("its manifest cannot be read: {error}")))?;
    if manifest.form > FORM {
        return Err(BackupError::Newer(manifest.form));
    }
    let records = unpacked.path().join(RECORDS);
    let verified = check_records(&records)?;
    if let Some((revision, why)) = verified.broken {
        return Err(BackupError::Form(format!("change {revision} of its audit is not what was written: {why}")));
    }
    let key = data.join(&config.keys.sealing);
    let brought = unpacked.path().join(KEY);
    let opens = if brought.exists() { &brought } else { &key };
    let id = SealingKey::load(opens).map_err(|error| BackupError::Key(manifest.key, error.to_string()))?.id();
    if id != manifest.key {
        return Err(BackupError::Key(manifest.key, format!("{} holds key {id}", opens.display())));
    }
    // From here on things are replaced.
    let aside = data.join(format!("before-restore-{}", now_ms()));
    let now = data.join(RECORDS);
    let folders: Vec<_> = FOLDERS.iter().filter(|_| manifest.with_journal).collect();
    let replaces_key = brought.exists() && key.exists() && !same(&brought, &key)?;
    if now.exists() || replaces_key || folders.iter().any(|folder| data.join(folder).exists()) {
        fs::create_dir(&aside)?;
    }
    if now.exists() {
        // What its log holds still comes into the file first; where it is too broken for that,
        // the log stands beside it.
        if let Err(error) = settle_database(&now) {
            tracing::warn!("what was there before is kept as it is: {error}");
        }
        fs::hard_link(&now, aside.join(RECORDS))?;
        for name in ["records.sqlite-wal", "records.sqlite-shm"].iter().filter(|name| data.join(name).exists()) {
            fs::rename(data.join(name), aside.join(name))?;
        }
    }
    if replaces_key {
        fs::hard_link(&key, aside.join(KEY))?;
    }
    if brought.exists() {
        fs::rename(&brought, &key)?;
    }
    // In one step: whatever interrupts it, there are records.
    fs::rename(&records, &now)?;
    for folder in folders {
        if data.join(folder).exists() {
            fs::rename(data.join(folder), aside.join(folder))?;
        }
        if unpacked.path().join(folder).exists() {
            fs::rename(unpacked.path().join(folder), data.join(folder))?;
        }
    }
    Ok(Restored { manifest, aside: aside.exists().then_some(aside) })
}

fn same(one: &Path, other: &Path) -> io::Result<bool> {
    Ok(fs::read(one)? == fs::read(other)?)
}

/// Unpacks the entries that an archive of ours has, and no others: whoever made it may be
/// somebody else.
pub fn unpack(input: impl Read, folder: &Path) -> Result<(), BackupError> {
    let mut archive = Archive::new(input);
    let mut whole = false;
    for entry in archive.entries()? {
        let mut entry = entry.map_err(broken)?;
        let path = entry.path().map_err(broken)?.to_string_lossy().into_owned();
        let parts: Vec<_> = path.split('/').collect();
        let is_ours = match &parts[..] {
            [name] => [MANIFEST, RECORDS, KEY, END].contains(name),
            [place, name] => FOLDERS.contains(place) && name.ends_with(".sqlite") && !name.starts_with('.'),
            _ => false,
        };
        if !is_ours || !entry.header().entry_type().is_file() {
            return Err(BackupError::Form(format!("it holds `{}`, which no backup has", path.escape_debug())));
        }
        whole = path == END;
        let to = folder.join(&path);
        if let Some(parent) = to.parent() {
            fs::create_dir_all(parent)?;
        }
        let mut file = File::options().write(true).create_new(true).open(&to)?;
        io::copy(&mut entry, &mut file).map_err(broken)?;
        file.sync_all()?;
    }
    match whole {
        true => Ok(()),
        false => Err(BackupError::Form("it broke off before its end".into())),
    }
}

/// What goes wrong while an archive is read is most often the archive.
fn broken(error: io::Error) -> BackupError {
    match error.get_ref().and_then(|inner| inner.downcast_ref::<StreamError>()) {
        Some(_) => BackupError::Stream(StreamError::Passphrase),
        None => BackupError::Form(error.to_string()),
    }
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
