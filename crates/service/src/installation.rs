//! An installation, looked at on its machine: files, keys, room, ports and time. Nothing of it
//! is changed, and a service may run on it.

use std::fs::{self, File, TryLockError};
use std::io;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use regnant_records::{NodeAudit, SealingKey, check_records, records_key};

use crate::backup::left_behind;
use crate::clock::now_ms;
use crate::config::Config;
use crate::findings::{Finding, Look};
use crate::service::{NODE_AUDIT, RECORDS};

/// Less room than this is told, in bytes.
const LEAST_ROOM: u64 = 1_000_000_000;
/// How far in the future a file may seem to be, in milliseconds.
const SLACK: u64 = 120_000;

/// Looks at the installation of a configuration and a data directory.
pub fn look_at_installation(config: &Config, data: &Path) -> Vec<Finding> {
    if !data.is_dir() {
        let mut look = Look::at("data directory");
        look.trouble(
            format!("there is no directory {}", data.display()),
            "Name the one that `regnant serve --data` has; it makes one at its first start.",
        );
        return look.else_well("");
    }
    let runs = is_taken(data);
    let key = data.join(&config.keys.sealing);
    [
        permissions(data, &key),
        keys(data, &key),
        records(data),
        seen(data),
        room(config, data),
        interrupted(data, runs),
        clock(data),
        ports(config, runs),
    ]
    .concat()
}

/// Whether a service runs on the directory.
fn is_taken(data: &Path) -> bool {
    let Ok(lock) = File::open(data.join("lock")) else { return false };
    matches!(lock.try_lock_shared(), Err(TryLockError::WouldBlock))
}

fn permissions(data: &Path, key: &Path) -> Vec<Finding> {
    let mut look = Look::at("permissions");
    let mut files: Vec<PathBuf> =
        fs::read_dir(data).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
    files.push(data.into());
    files.push(key.into());
    files.sort();
    files.dedup();
    for path in files {
        let Ok(about) = fs::metadata(&path) else { continue };
        let open = about.permissions().mode() & 0o077;
        let ours = path == data
            || path == key
            || path.to_string_lossy().contains(".sqlite")
            || path.extension().is_some_and(|end| end == "pem");
        if ours && open != 0 {
            look.trouble(
                format!(
                    "{} may be read or written by others (mode {:o})",
                    path.display(),
                    about.permissions().mode() & 0o777
                ),
                format!("Close it: chmod go= {}", path.display()),
            );
        }
    }
    look.else_well(format!("{} and what is in it are their owner's alone", data.display()))
}

fn interrupted(data: &Path, runs: bool) -> Vec<Finding> {
    let mut look = Look::at("backups");
    // Of a service that runs, one may be under way.
    if !runs {
        for folder in left_behind(data) {
            look.advice(
                format!(
                    "{} is left of a backup, an import or a restore that was interrupted, and holds records",
                    folder.display()
                ),
                "Start the service, or restore again: either takes it away, or brings it to its end.",
            );
        }
    }
    look.else_well("nothing is left of a backup, an import or a restore that was interrupted")
}

fn keys(data: &Path, key: &Path) -> Vec<Finding> {
    let mut look = Look::at("keys");
    let records = data.join(RECORDS);
    let wanted = records.exists().then(|| records_key(&records)).flatten();
    match (SealingKey::load(key), wanted) {
        (Err(_), None) if !key.exists() => {}
        (Err(error), _) => look.trouble(
            error.to_string(),
            "Bring the key file back from where you keep its copy: without it no secret of the records opens.",
        ),
        (Ok(key), Some(wanted)) if key.id() != wanted => look.trouble(
            format!("the records are sealed under key {wanted}, and the key file holds {}", key.id()),
            "Bring back the key file that goes with these records, or the records that go with this key.",
        ),
        (Ok(_), _) => {
            if key.parent().is_some_and(|folder| fs::canonicalize(folder).ok() == fs::canonicalize(data).ok()) {
                look.advice(
                    "the sealing key is in the data directory: whoever copies that has both",
                    "Keep a copy of the key elsewhere, and consider `[keys] sealing` on another file system.",
                );
            }
        }
    }
    look.else_well("the sealing key opens the records, and stands apart from them")
}

fn records(data: &Path) -> Vec<Finding> {
    let mut look = Look::at("records");
    let path = data.join(RECORDS);
    if !path.exists() {
        look.advice(
            format!("there are no records in {} yet", data.display()),
            "Start the service, or restore a backup.",
        );
        return look.else_well("");
    }
    match check_records(&path) {
        Err(error) => look.trouble(error.to_string(), "Restore a backup, or start the release that made them."),
        Ok(verified) => match verified.broken {
            Some((revision, why)) => look.trouble(
                format!("change {revision} of the log is not what was applied: {why}"),
                "Somebody changed the file beside the service: compare with a backup, and with hashes that you noted.",
            ),
            None => {
                return look.else_well(format!(
                    "the records are whole, with {} changes in an unbroken chain",
                    verified.commands
                ));
            }
        },
    }
    look.else_well("")
}

/// What this node saw of administrators.
fn seen(data: &Path) -> Vec<Finding> {
    let mut look = Look::at("audit");
    let path = data.join(NODE_AUDIT);
    if !path.exists() {
        return look.else_well("nothing was seen of administrators yet");
    }
    match NodeAudit::open(&path).and_then(|audit| audit.verify()) {
        Err(error) => look.trouble(error.to_string(), "The next start sets it aside and begins another."),
        Ok(verified) => match verified.broken {
            Some((number, why)) => look.trouble(
                format!("entry s{number} of what this node saw is not what was written: {why}"),
                "Somebody changed the file beside the service: compare with hashes that you noted.",
            ),
            None => {
                let many = verified.commands;
                return look.else_well(format!("what this node saw of administrators is whole, with {many} entries"));
            }
        },
    }
    look.else_well("")
}

fn room(config: &Config, data: &Path) -> Vec<Finding> {
    let mut look = Look::at("disk");
    let Ok(about) = rustix::fs::statvfs(data) else { return look.else_well("how much room there is cannot be told") };
    let (free, whole) = (about.f_bavail * about.f_frsize, about.f_blocks * about.f_frsize);
    if free < LEAST_ROOM || free < whole / 50 {
        look.trouble(
            format!("{} has {} left of {}", data.display(), size(free), size(whole)),
            "Make room: where the journal cannot be written, nobody comes in.",
        );
    }
    let kept: u64 = ["journal", "accounting"].iter().map(|folder| bytes_in(&data.join(folder))).sum();
    let may = config.journal.at_most.0.saturating_add(config.accounting.at_most.0);
    let grows = may.saturating_sub(kept);
    if grows > free {
        look.advice(
            format!("journal and accounting may grow by {} and there is room for {}", size(grows), size(free)),
            "Say less under `at-most` in [journal] and [accounting], or make room.",
        );
    }
    look.else_well(format!("{} left of {}", size(free), size(whole)))
}

fn bytes_in(folder: &Path) -> u64 {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    entries.filter_map(|entry| entry.metadata().ok()).map(|about| about.len()).sum()
}

fn clock(data: &Path) -> Vec<Finding> {
    let mut look = Look::at("clock");
    let files =
        ["", "journal", "accounting"].iter().flat_map(|folder| fs::read_dir(data.join(folder)).into_iter().flatten());
    let written = files.flatten().filter_map(|entry| entry.metadata().ok()?.modified().ok());
    let written = written.filter_map(|at| u64::try_from(at.duration_since(UNIX_EPOCH).ok()?.as_millis()).ok());
    let newest = written.max().unwrap_or(0);
    if newest > now_ms() + SLACK {
        look.trouble(
            format!("a file of the data directory was written {} s in the future", (newest - now_ms()) / 1_000),
            "The clock went back: set it, and keep it with NTP. Certificates and ends of accounts are judged by it.",
        );
    }
    look.else_well("nothing was written in the future")
}

fn ports(config: &Config, runs: bool) -> Vec<Finding> {
    let mut look = Look::at("ports");
    if runs {
        return look.else_well("a service runs on this directory and has its ports");
    }
    let mut taken = |what: &str, address: SocketAddr, bound: io::Result<()>| {
        if let Err(error) = bound {
            let remedy = match error.kind() {
                io::ErrorKind::AddrInUse => "Stop what listens there, or say another address in the configuration.",
                io::ErrorKind::PermissionDenied => {
                    "Let the service bind it: CAP_NET_BIND_SERVICE, or a port above 1023."
                }
                _ => "Say an address of this machine in the configuration.",
            };
            look.trouble(format!("{what} cannot listen on {address}: {error}"), remedy);
        }
    };
    for address in &config.radius.authentication {
        taken("RADIUS authentication", *address, UdpSocket::bind(address).map(drop));
    }
    for address in &config.radius.accounting {
        taken("RADIUS accounting", *address, UdpSocket::bind(address).map(drop));
    }
    taken("the console", config.api.listen, TcpListener::bind(config.api.listen).map(drop));
    look.else_well("no service runs on this directory, and its ports are free")
}

fn size(bytes: u64) -> String {
    match bytes {
        0..10_000_000_000 => format!("{} MB", bytes / 1_000_000),
        _ => format!("{} GB", bytes / 1_000_000_000),
    }
}
