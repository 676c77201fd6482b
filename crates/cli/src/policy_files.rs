//! A policy on the disk: a file, or a folder with main.writ.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::Read;
use std::path::{Path, PathBuf};

use regnant_policy::{MAIN, PolicyFiles, bad_path};

use crate::failure::Failure;

/// More than any policy may have, so that the check says what is wrong.
const MOST_BYTES: u64 = 9 << 20;
/// Files of one folder, and how deep folders are in it.
const MOST_FILES: usize = 1_000;
const DEEPEST: usize = 4;

/// A policy as it was read.
pub(crate) struct PolicyOnDisk {
    /// Where `main.writ` is, or the file that was named.
    pub(crate) main: PathBuf,
    pub(crate) files: PolicyFiles,
}

/// Reads a policy: a file, or `main.writ` of a folder and every other .writ file in it.
pub(crate) fn read(path: &Path) -> Result<PolicyOnDisk, Failure> {
    if !path.is_dir() {
        let main = read_text(path)?;
        return Ok(PolicyOnDisk { main: path.to_owned(), files: PolicyFiles { main, included: BTreeMap::new() } });
    }
    let main = path.join(MAIN);
    let mut files = PolicyFiles { main: read_text(&main)?, included: BTreeMap::new() };
    read_folder(path, "", 0, &mut files.included)?;
    files.included.remove(MAIN);
    Ok(PolicyOnDisk { main, files })
}

fn read_folder(at: &Path, below: &str, depth: usize, files: &mut BTreeMap<String, String>) -> Result<(), Failure> {
    let unreadable = |error: std::io::Error| Failure::usage(format!("{} cannot be read: {error}", at.display()));
    for entry in fs::read_dir(at).map_err(unreadable)? {
        let entry = entry.map_err(unreadable)?;
        let Ok(name) = entry.file_name().into_string() else { continue };
        let kind = entry.file_type().map_err(unreadable)?;
        // What leads out of the folder is no file of it.
        if name.starts_with('.') || kind.is_symlink() {
            continue;
        }
        let name = format!("{below}{name}");
        if kind.is_dir() && depth < DEEPEST {
            read_folder(&entry.path(), &format!("{name}/"), depth + 1, files)?;
        } else if kind.is_file() && name.ends_with(".writ") {
            if files.len() >= MOST_FILES {
                let message =
                    format!("{} has more than {MOST_FILES} .writ files: that is no folder of one policy", at.display());
                return Err(Failure::usage(message));
            }
            files.insert(name, read_text(&entry.path())?);
        }
    }
    Ok(())
}

/// A file as text, or where it is none.
fn read_text(path: &Path) -> Result<String, Failure> {
    let unreadable =
        |error: std::io::Error| Failure::usage(format!("the policy {} cannot be read: {error}", path.display()));
    let mut bytes = Vec::new();
    // No policy is as long; what never ends is not read to its end.
    File::open(path).and_then(|file| file.take(MOST_BYTES).read_to_end(&mut bytes)).map_err(unreadable)?;
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        Failure::usage(format!(
            "the policy {} is no text in UTF-8: its byte {} in line {line} belongs to no letter; save it as UTF-8",
            path.display(),
            at + 1
        ))
    })
}

/// The first link on the way from a folder to a file below it.
fn link_on_the_way(folder: &Path, path: &str) -> Option<PathBuf> {
    let mut at = folder.to_owned();
    path.split('/').find_map(|part| {
        at.push(part);
        at.is_symlink().then(|| at.clone())
    })
}

/// Writes a policy into a folder. Files that stay the same are not touched; one that would be lost keeps
/// the policy from being written.
pub(crate) fn write(folder: &Path, files: &PolicyFiles, anyway: bool) -> Result<Vec<String>, Failure> {
    let unwritable =
        |path: &Path, error: std::io::Error| Failure::new(format!("{} cannot be written: {error}", path.display()));
    // What a service sends may have been written by anybody.
    if let Some((path, why)) = files.included.keys().find_map(|path| Some((path, bad_path(path)?))) {
        return Err(Failure::new(format!("the file `{}` {why}, and is not written", path.escape_debug())));
    }
    fs::create_dir_all(folder).map_err(|error| unwritable(folder, error))?;
    let mut there = BTreeMap::new();
    read_folder(folder, "", 0, &mut there)?;
    let wanted: BTreeMap<&str, &str> = files.iter().collect();
    if let Some(link) = wanted.keys().find_map(|path| link_on_the_way(folder, path)) {
        return Err(Failure::usage(format!(
            "{} is a link, and a policy is written through none: take another folder, or remove it",
            link.display()
        )));
    }
    let lost: Vec<_> = there.iter().filter(|(path, text)| wanted.get(path.as_str()) != Some(&text.as_str())).collect();
    if let (false, Some((path, _))) = (anyway, lost.first()) {
        return Err(Failure::usage(format!(
            "{} is something else there, and would be lost: take another folder, or say --anyway",
            folder.join(path).display()
        )));
    }
    for (path, _) in lost.iter().filter(|(path, _)| !wanted.contains_key(path.as_str())) {
        let path = folder.join(path);
        fs::remove_file(&path).map_err(|error| unwritable(&path, error))?;
    }
    let mut written = Vec::new();
    for (path, text) in wanted {
        if there.get(path).map(String::as_str) == Some(text) {
            continue;
        }
        let at = folder.join(path);
        if let Some(parent) = at.parent() {
            fs::create_dir_all(parent).map_err(|error| unwritable(parent, error))?;
        }
        fs::write(&at, text).map_err(|error| unwritable(&at, error))?;
        written.push(path.to_owned());
    }
    Ok(written)
}
