//! Putting a backup into a data directory. One rename makes it so: whatever interrupts it before leaves
//! all as it was, whatever interrupts it afterwards is brought to its end by the next start.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use regnant_base::SecretText;
use regnant_records::{
    Author, Command, Envelope, Records, SealingKey, check_records, offer_key, settle_database, take_key, withdraw_key,
};
use serde::{Deserialize, Serialize};
use tar::Archive;

use crate::backup::{BackupError, END, FOLDERS, FORM, KEY, MANIFEST, Manifest, remove_folder};
use crate::clock::now_ms;
use crate::config::Config;
use crate::data_dir::DataDir;
use crate::sealed_stream::{Opened, StreamError};
use crate::service::RECORDS;

/// Where a backup is unpacked.
pub(super) const UNDER_WAY: &str = "restore-under-way";
/// What is left to be done once the records are in their place.
const PLAN: &str = "plan.json";

/// A backup that is put into a data directory that no service has open.
#[derive(Debug)]
pub struct Restore<'r> {
    /// Where the sealing key is.
    pub config: &'r Config,
    /// The data directory.
    pub data: &'r Path,
    /// The backup.
    pub file: &'r Path,
    /// What an encrypted one opens under.
    pub passphrase: Option<&'r SecretText>,
    /// Whether the tokens that it has go on; sessions never do.
    pub keep_tokens: bool,
}

/// What came of a restore.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Restored {
    /// What the backup said of itself.
    pub manifest: Manifest,
    /// Where what was there before is, where something was.
    pub aside: Option<PathBuf>,
}

/// What is left to be done once the records are in their place.
#[derive(Debug, Serialize, Deserialize)]
struct Plan {
    /// The folder for what was there before.
    aside: String,
    /// What was observed, by folder.
    folders: Vec<String>,
}

impl Restore<'_> {
    /// Checks everything before anything is replaced, and moves aside what was there. Each step is told before it
    /// is taken.
    pub fn run(&self, mut step: impl FnMut(&'static str)) -> Result<Restored, BackupError> {
        let data = DataDir::take(self.data)?;
        let key = data.join(&self.config.keys.sealing);
        finish(&data.join(""), &key)?;
        let staged = data.join(UNDER_WAY);
        step("unpack");
        fs::create_dir(&staged)?;
        let made = self.put(&data.join(""), &key, &mut step);
        if made.is_err() {
            // As if it had never begun, where that is still so.
            finish(&data.join(""), &key)?;
        }
        made
    }

    fn put(&self, data: &Path, key: &Path, step: &mut dyn FnMut(&'static str)) -> Result<Restored, BackupError> {
        let staged = data.join(UNDER_WAY);
        let input = io::BufReader::new(File::open(self.file)?);
        match self.passphrase {
            Some(passphrase) => unpack(Opened::begin(input, passphrase)?, &staged)?,
            None => unpack(input, &staged)?,
        }
        step("check");
        let manifest = manifest(&staged)?;
        let records = staged.join(RECORDS);
        if let Some((revision, why)) = check_records(&records)?.broken {
            return Err(BackupError::Form(format!("change {revision} of its audit is not what was written: {why}")));
        }
        let brought = Some(staged.join(KEY)).filter(|brought| brought.exists());
        let opens = brought.as_deref().unwrap_or(key);
        let not_its = |why: String| BackupError::Key(manifest.key, why);
        let opened = SealingKey::load(opens).map_err(|error| not_its(error.to_string()))?;
        if opened.id() != manifest.key {
            return Err(not_its(format!("{} holds key {}", opens.display(), opened.id())));
        }
        let now = data.join(RECORDS);
        step("write down what follows");
        let aside = format!("before-restore-{}", now_ms());
        let folders: Vec<_> = FOLDERS.iter().filter(|_| manifest.with_journal).map(|&name| name.to_owned()).collect();
        let brought = match &brought {
            Some(brought) if !key.exists() || fs::read(brought)? != fs::read(key)? => Some(brought),
            _ => None,
        };
        // A folder of which nothing was backed up is an empty one.
        for folder in folders.iter().map(|folder| staged.join(folder)).filter(|folder| !folder.exists()) {
            fs::create_dir(folder)?;
        }
        let plan = Plan { aside, folders };
        let mut file = File::options().write(true).create_new(true).open(staged.join(PLAN))?;
        serde_json::to_writer(&mut file, &plan).map_err(io::Error::from)?;
        file.sync_all()?;
        sync(&staged)?;
        step("keep what is there");
        let kept = data.join(&plan.aside);
        let is_there = now.exists() || plan.folders.iter().any(|folder| data.join(folder).exists());
        if is_there || (brought.is_some() && key.exists()) {
            fs::create_dir(&kept)?;
            keep(data, &kept)?;
            if brought.is_some() && key.exists() {
                SealingKey::copy(key, &kept.join(KEY))?;
            }
            sync(&kept)?;
        }
        step("note in its audit");
        self.note(&records, &opened.into(), &manifest, &now)?;
        if let Some(brought) = brought {
            step("offer the key");
            offer_key(key, brought)?;
        }
        step("let go of the log of the records before");
        for name in LOGS.map(|name| data.join(name)).iter().filter(|name| name.exists()) {
            fs::remove_file(name)?;
        }
        sync(data)?;
        step("put the records in their place");
        fs::rename(&records, &now)?;
        sync(data)?;
        step("take the key");
        take_key(key, &now)?;
        step("put in place what was observed");
        finish(data, key)?;
        step("finish");
        Ok(Restored { manifest, aside: kept.exists().then_some(kept) })
    }

    /// Ends sessions, and tokens where that is wanted, and keeps in the audit whose place the records take.
    fn note(&self, records: &Path, key: &Arc<SealingKey>, manifest: &Manifest, now: &Path) -> Result<(), BackupError> {
        let before = now.exists().then(|| check_records(now).ok()).flatten();
        let command = Command::Restore {
            made: manifest.made.clone(),
            replaced: before.map(|verified| (verified.commands, verified.chain)),
            keep_tokens: self.keep_tokens,
        };
        let opened = Records::open(records, key, now_ms())?;
        opened.apply(&Envelope::new(&Author::machine(), now_ms(), command))?;
        drop(opened);
        settle_database(records)?;
        Ok(File::open(records)?.sync_all()?)
    }
}

/// Files beside the records, of SQLite.
const LOGS: [&str; 2] = ["records.sqlite-wal", "records.sqlite-shm"];

fn manifest(staged: &Path) -> Result<Manifest, BackupError> {
    let manifest: Manifest = serde_json::from_slice(&fs::read(staged.join(MANIFEST))?)
        .map_err(|error| BackupError::Form(format!("its manifest cannot be read: {error}")))?;
    match manifest.form > FORM {
        true => Err(BackupError::Newer(manifest.form)),
        false => Ok(manifest),
    }
}

/// Keeps the records that are there under a second name.
fn keep(data: &Path, kept: &Path) -> Result<(), BackupError> {
    let now = data.join(RECORDS);
    if !now.exists() {
        return Ok(());
    }
    // Before anybody opens them: of records that are broken SQLite takes the log away.
    let logs: Vec<_> = LOGS.iter().filter(|name| data.join(name).exists()).collect();
    for name in &logs {
        fs::copy(data.join(name), kept.join(name))?;
    }
    fs::hard_link(&now, kept.join(RECORDS))?;
    // What the log holds comes into the file; where it is too broken for that, the log stands beside it.
    match settle_database(&now) {
        Ok(()) => logs.iter().try_for_each(|name| fs::remove_file(kept.join(name)))?,
        Err(error) => tracing::warn!("what was there before is kept as it is: {error}"),
    }
    Ok(())
}

/// Brings a restore to its end whose records are in their place, and takes back all of one whose are not. Whatever
/// interrupts this, it can be done again.
pub(crate) fn finish(data: &Path, key: &Path) -> Result<(), BackupError> {
    let staged = data.join(UNDER_WAY);
    if !staged.exists() {
        return Ok(());
    }
    let plan = fs::read(staged.join(PLAN)).ok().and_then(|text| serde_json::from_slice::<Plan>(&text).ok());
    match plan {
        Some(plan) if !staged.join(RECORDS).exists() => {
            for folder in &plan.folders {
                let (from, to) = (staged.join(folder), data.join(folder));
                if from.exists() {
                    if to.exists() {
                        fs::create_dir_all(data.join(&plan.aside))?;
                        fs::rename(&to, data.join(&plan.aside).join(folder))?;
                    }
                    fs::rename(&from, &to)?;
                }
            }
            sync(data)?;
        }
        Some(plan) => {
            let aside = data.join(&plan.aside);
            for name in LOGS.iter().filter(|name| aside.join(name).exists() && !data.join(name).exists()) {
                fs::copy(aside.join(name), data.join(name))?;
            }
            // With records there, whoever takes the key sees that it is not the one that was offered.
            if !data.join(RECORDS).exists() {
                withdraw_key(key)?;
            }
            remove_folder(&aside)?;
        }
        None => {}
    }
    remove_folder(&staged)?;
    Ok(sync(data)?)
}

fn sync(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
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
