//! An installation that is looked at: what is odd is told with what to do.
mod running;

use std::fs::{self, Permissions};
use std::net::UdpSocket;
use std::os::unix::fs::PermissionsExt;

use regnant_campus::harbour::*;
use running::*;
use serde_json::Value;

fn weights(printed: &str) -> Vec<(String, String)> {
    let findings: Vec<Value> = serde_json::from_str(printed).unwrap();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    findings.iter().map(|finding| (text(&finding["about"]), text(&finding["weight"]))).collect()
}

#[test]
fn a_running_service_is_looked_at_from_its_machine_and_from_elsewhere() {
    let service = Running::harbour();
    let config = service.data.parent().unwrap().join("regnant.toml");
    let doctor = |args: &[&str]| {
        let mut command = service.client(&["doctor"]);
        command.args(args);
        command
    };
    service.try_from(&MISTYPED_SW_1, &["mac", "--mac", "02005e200007", "--wait", "1", "--tries", "1"]).ends_with(3);
    let here = |more: &[&str]| {
        let mut command = doctor(more);
        command.arg("--data").arg(&service.data).arg("--config").arg(&config);
        command
    };
    // How full the disk of this machine is proves nothing.
    let troubles = |about: &(String, String)| about.1 == "trouble" && about.0 != "disk";
    let findings = String::from_utf8(here(&["--json"]).output().unwrap().stdout).unwrap();
    let told = printed(&here(&[]).output().unwrap());
    assert!(!weights(&findings).iter().any(troubles), "{findings}");
    for part in [
        "a service runs on this directory and has its ports",
        "an unbroken chain",
        "the sealing key is in the data directory",
        "pilot-vpn-1 need not sign its requests",
        "asks and is not heard: the shared secret differs",
        "there is one engineer",
        "no backup was ever taken",
        "reached over TLS, or from this machine alone",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    // From elsewhere, what the service says of itself.
    let told = doctor(&["--json"]).succeeds();
    let weights_of = weights(&told);
    assert!(weights_of.iter().all(|(about, _)| about != "disk" && about != "keys"), "{told}");
    assert!(weights_of.contains(&("backups".into(), "advice".into())), "{told}");
    // A file that others may read, and an equipment that cannot be told what it gets.
    fs::set_permissions(service.data.join("records.sqlite"), Permissions::from_mode(0o644)).unwrap();
    let told = printed(&here(&[]).ends_with(1));
    assert!(told.contains("records.sqlite may be read or written by others (mode 644)"), "{told}");
    assert!(told.contains("chmod go= "), "{told}");
}

#[test]
fn what_keeps_a_service_from_starting_is_told_before_it_starts() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let missing = printed(&regnant().arg("doctor").arg("--data").arg(&data).ends_with(1));
    assert!(missing.contains("there is no directory") && missing.contains("sign in as an engineer"), "{missing}");
    let mut service = Running::start(&data);
    service.end("-TERM");
    let taken = UdpSocket::bind("127.0.0.1:0").unwrap();
    let config = config(dir.path(), &taken.local_addr().unwrap().to_string(), "127.0.0.1:0");
    let look = || {
        let mut doctor = regnant();
        printed(&doctor.arg("doctor").arg("--data").arg(&data).arg("--config").arg(&config).ends_with(1))
    };
    let told = look();
    assert!(
        told.contains("RADIUS authentication cannot listen on") && told.contains("Stop what listens there"),
        "{told}"
    );
    // The key of other records, then none at all.
    let (key, kept) = (data.join("sealing.key"), dir.path().join("kept.key"));
    let other = dir.path().join("other");
    Running::start(&other).end("-TERM");
    fs::rename(&key, &kept).unwrap();
    fs::copy(other.join("sealing.key"), &key).unwrap();
    assert!(look().contains("and the key file holds"), "{}", look());
    fs::remove_file(&key).unwrap();
    assert!(look().contains("Bring the key file back"), "{}", look());
    fs::rename(&kept, &key).unwrap();
    // A record that somebody changed beside the service.
    fs::write(data.join("records.sqlite"), b"no records").unwrap();
    assert!(look().contains("Restore a backup"), "{}", look());
    // A configuration that says nothing.
    fs::write(&config, "[api]\nlisten = 7\n").unwrap();
    assert!(look().contains("Mend it: the service does not start with it"), "{}", look());
}
