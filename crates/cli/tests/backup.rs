//! Backups of a running service, and what comes back of them.
mod running;

use std::fs;

use regnant_campus::harbour::*;
use running::*;

const PASSPHRASE: &str = "seven ropes and a lantern\n";

#[test]
fn what_was_backed_up_under_load_comes_back_with_its_keys_and_journal() {
    let service = Running::harbour();
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("harbour.backup");
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    service.entries("limit=1", 1);
    // Changes and requests go on while it is made, and each of them is in it whole or not at all.
    std::thread::scope(|scope| {
        let changing = scope.spawn(|| {
            for number in 0..40 {
                let reason = format!("round {number}");
                service.client(&["device", "bar", "02005e200001", "--reason", &reason]).succeeds();
            }
        });
        let mut backup = service.client(&["backup", "--with-keys", "--with-journal"]);
        let made = typed(backup.arg(&file), PASSPHRASE);
        assert!(made.status.success(), "{}", printed(&made));
        changing.join().unwrap();
    });
    assert!(fs::read(&file).unwrap().starts_with(b"regnant sealed stream 1\n"));
    let again = typed(service.client(&["backup", "--with-keys"]).arg(&file), PASSPHRASE);
    assert!(printed(&again).contains("a backup replaces nothing"), "{}", printed(&again));
    assert!(service.client(&["audit", "list", "back", "up"]).succeeds().contains("with the sealing key"));

    let restore = |data: &std::path::Path, input: &str| {
        let mut command = regnant();
        typed(command.arg("restore").arg(&file).arg("--data").arg(data), input)
    };
    // Never into a directory that a service has open, and nothing with another passphrase.
    assert!(
        printed(&restore(&service.data, PASSPHRASE)).contains("another service"),
        "{}",
        printed(&restore(&service.data, PASSPHRASE))
    );
    let data = dir.path().join("data");
    let wrong = restore(&data, "seven ropes and a lanterm\n");
    assert!(!wrong.status.success() && printed(&wrong).contains("the passphrase is another"), "{}", printed(&wrong));
    assert!(!data.join("records.sqlite").exists());
    let restored = restore(&data, PASSPHRASE);
    assert!(restored.status.success(), "{}", printed(&restored));
    fs::write(data.join("welcomed"), "").unwrap();
    let mut other = Running::start(&data);
    other.token.clone_from(&service.token);
    other.client(&["audit", "verify"]).succeeds();
    other.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200008"]).ends_with(0);
    other.entries("q=02:00:5e:20:00:07&outcome=granted", 1);
    assert!(other.client(&["device", "show", "02005e200001"]).succeeds().contains("crane controller"));
}

#[test]
fn a_backup_without_keys_wants_the_key_and_one_that_is_not_whole_replaces_nothing() {
    let mut service = Running::harbour();
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("harbour.backup");
    service.client(&["backup"]).arg(&file).succeeds();
    let bytes = fs::read(&file).unwrap();
    assert!(!bytes.windows(16).any(|part| part == b"bollard-9-anchor"), "secrets are sealed");
    let restore = |file: &std::path::Path, data: &std::path::Path| {
        let mut command = regnant();
        command.arg("restore").arg(file).arg("--data").arg(data).output().unwrap()
    };
    let elsewhere = restore(&file, &dir.path().join("elsewhere"));
    assert!(printed(&elsewhere).contains("take a backup with its key"), "{}", printed(&elsewhere));
    service.client(&["device", "bar", "02005e200001", "--reason", "later"]).succeeds();
    service.end("-TERM");
    // Cut, changed, or with something in it that no backup has.
    let half = dir.path().join("half.backup");
    fs::write(&half, &bytes[..bytes.len() / 2]).unwrap();
    let cut = restore(&half, &service.data);
    assert!(
        printed(&cut).contains("no whole backup") && printed(&cut).contains("nothing was replaced"),
        "{}",
        printed(&cut)
    );
    let mut changed = bytes.clone();
    let at = changed.windows(16).position(|part| part == b"add administrato").unwrap();
    changed[at] = b'b';
    fs::write(&half, &changed).unwrap();
    let told_changed = printed(&restore(&half, &service.data));
    assert!(told_changed.contains("is not what was written"), "{told_changed}");
    fs::write(&half, "nothing").unwrap();
    assert!(printed(&restore(&half, &service.data)).contains("no whole backup"));
    // As it was before all of this.
    let service = service.again();
    assert!(service.client(&["device", "show", "02005e200001"]).succeeds().contains("later"));
    let mut service = service;
    service.end("-TERM");
    let restored = restore(&file, &service.data);
    assert!(
        restored.status.success() && printed(&restored).contains("what was there before is in"),
        "{}",
        printed(&restored)
    );
    let service = service.again();
    assert!(!service.client(&["device", "show", "02005e200001"]).succeeds().contains("later"));
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200001"]).ends_with(0);
}
