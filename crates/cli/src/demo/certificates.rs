//! The harbour's certificates, in files that any supplicant can use.

use std::fs::{self, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use jiff::Timestamp;
use regnant_campus::certificates::DemoCertificates;
use regnant_certificates::read_certificates;
use regnant_eap::Certificate;

use crate::failure::Failure;

/// Makes the files on the first run, and again once the server's certificate has
/// run out; else reads what is there.
pub(crate) fn lay_out(folder: &Path) -> Result<DemoCertificates, Failure> {
    let now = Timestamp::now().as_second();
    if let Some(certificates) = read(folder).filter(|certificates| is_good(certificates, now)) {
        return Ok(certificates);
    }
    fs::create_dir_all(folder)?;
    let certificates = DemoCertificates::issue(now).map_err(|error| Failure::new(error.to_string()))?;
    for (name, text) in certificates.files() {
        let mode = if name.ends_with(".key") { 0o600 } else { 0o644 };
        let path = folder.join(name);
        let _ = fs::remove_file(&path);
        OpenOptions::new().write(true).create_new(true).mode(mode).open(path)?.write_all(text.as_bytes())?;
    }
    Ok(certificates)
}

fn read(folder: &Path) -> Option<DemoCertificates> {
    let files = fs::read_dir(folder).ok()?.flatten().filter_map(|entry| {
        let name = entry.file_name().into_string().ok()?;
        Some((name, fs::read_to_string(entry.path()).ok()?))
    });
    Some(DemoCertificates::from_files(files.collect::<Vec<_>>()))
}

fn is_good(certificates: &DemoCertificates, now: i64) -> bool {
    ["server.pem", "outside.pem"].iter().all(|file| {
        let own = read_certificates(certificates.file(file)).unwrap_or_default();
        own.first().and_then(|der| Certificate::read(der).ok()).is_some_and(|own| own.not_after > now + 86_400)
    })
}
