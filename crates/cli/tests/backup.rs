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
        let made = typed(backup.arg(&file), &format!("{PASSPHRASE}{PASSWORD}\n"));
        assert!(made.status.success(), "{}", printed(&made));
        changing.join().unwrap();
    });
    assert!(fs::read(&file).unwrap().starts_with(b"regnant sealed stream 1\n"));
    let again = typed(service.client(&["backup", "--with-keys"]).arg(&file), &format!("{PASSPHRASE}{PASSWORD}\n"));
    assert!(printed(&again).contains("a backup replaces nothing"), "{}", printed(&again));
    assert!(service.client(&["audit", "list", "back", "up"]).succeeds().contains("with the sealing key"));

    let restore = |data: &std::path::Path, input: &str| {
        let mut command = regnant();
        typed(command.arg("restore").arg(&file).args(["--tokens", "keep", "--data"]).arg(data), input)
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
        command.arg("restore").arg(file).args(["--tokens", "keep", "--data"]).arg(data).output().unwrap()
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

/// Where the sealing key stands on another file system than the data.
const KEYS: &str = "/dev/shm";
/// The step before which a restore is killed.
const KILL_AT: &str = "REGNANT_TEST_KILL_AT";
const FOLDER: &str = "REGNANT_TEST_FOLDER";

/// A process of its own, which a restore is killed in.
#[test]
fn a_restore_that_is_killed() {
    let (Ok(at), Ok(folder)) = (std::env::var(KILL_AT), std::env::var(FOLDER)) else { return };
    let (at, folder) = (at.parse::<usize>().unwrap(), std::path::PathBuf::from(folder));
    let config = regnant_service::Config::read(&folder.join("regnant.toml")).unwrap();
    let passphrase = PASSPHRASE.trim().to_owned().into();
    let restore = regnant_service::Restore {
        config: &config,
        data: &folder.join("data"),
        file: &folder.join("harbour.backup"),
        passphrase: Some(&passphrase),
        keep_tokens: true,
    };
    let mut steps = 0;
    restore
        .run(|_| {
            if steps == at {
                std::process::abort();
            }
            steps += 1;
        })
        .unwrap();
}

/// Everything in a folder, in another.
fn copied(from: &std::path::Path, to: &std::path::Path) {
    let status = std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap();
    assert!(status.success());
}

#[test]
fn a_restore_that_is_killed_at_any_step_leaves_what_was_there_or_what_was_backed_up() {
    assert!(std::path::Path::new(KEYS).is_dir(), "this test wants a file system at {KEYS} that is not the one of /tmp");
    let (dir, keys) = (tempfile::tempdir().unwrap(), tempfile::tempdir_in(KEYS).unwrap());
    let (data, file) = (dir.path().join("data"), dir.path().join("harbour.backup"));
    let mut service = Running::harbour();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    service.entries("q=02:00:5e:20:00:07", 1);
    let made = typed(
        service.client(&["backup", "--with-keys", "--with-journal"]).arg(&file),
        &format!("{PASSPHRASE}{PASSWORD}\n"),
    );
    assert!(made.status.success(), "{}", printed(&made));
    service.client(&["device", "bar", "02005e200001", "--reason", "later"]).succeeds();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200008"]).ends_with(0);
    service.entries("q=02:00:5e:20:00:08", 1);
    service.end("-TERM");
    // Another key has been set since, so that the one of the backup takes its place.
    let mut rotate = regnant();
    rotate.args(["key", "rotate", "--data"]).arg(&service.data).succeeds();
    let mut config = fs::read_to_string(config(dir.path(), "127.0.0.1:0", "127.0.0.1:0")).unwrap();
    config += &format!("[keys]\nsealing = \"{}\"\n", keys.path().join("sealing.key").display());
    let before = dir.path().join("before");
    copied(&service.data, &before);
    fs::remove_file(before.join("sealing.key")).unwrap();
    let mut outcomes = Vec::new();
    for at in 0.. {
        let _ = fs::remove_dir_all(&data);
        copied(&before, &data);
        fs::copy(service.data.join("sealing.key"), keys.path().join("sealing.key")).unwrap();
        fs::write(dir.path().join("regnant.toml"), &config).unwrap();
        let mut child = std::process::Command::new(std::env::current_exe().unwrap());
        child.args(["--exact", "a_restore_that_is_killed"]).env(KILL_AT, at.to_string()).env(FOLDER, dir.path());
        let ended = child.output().unwrap();
        let mut other = Running::start_with(&dir.path().join("regnant.toml"), &data);
        other.token.clone_from(&service.token);
        other.client(&["audit", "verify"]).succeeds();
        let is_old = other.client(&["device", "show", "02005e200001"]).succeeds().contains("later");
        // The journal is of the same time as the records.
        let later = other.get("journal?q=02:00:5e:20:00:08").1["entries"].as_array().unwrap().len();
        assert_eq!(later, usize::from(is_old), "at step {at}");
        other.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200009"]).ends_with(0);
        for left in ["restore-under-way", "sealing.key.next"] {
            assert!(!data.join(left).exists() && !keys.path().join(left).exists(), "{left} at step {at}");
        }
        let aside = fs::read_dir(&data).unwrap().flatten();
        let aside = aside.filter(|entry| entry.file_name().to_string_lossy().starts_with("before-restore-")).count();
        assert_eq!(aside, usize::from(!is_old), "at step {at}");
        if !is_old {
            let told = other.client(&["audit", "list", "restore"]).succeeds();
            assert!(told.contains("in the place of") && told.contains("tokens go on"), "{told}");
        }
        other.end("-TERM");
        outcomes.push(is_old);
        if ended.status.success() {
            break;
        }
    }
    assert!(outcomes.len() > 8, "a restore has steps: {outcomes:?}");
    assert!(outcomes.is_sorted_by(|one, next| one >= next), "{outcomes:?}");
    assert!(outcomes[0] && !outcomes[outcomes.len() - 2], "{outcomes:?}");
}

#[test]
fn records_that_are_broken_are_kept_aside_with_their_log() {
    let mut service = Running::harbour();
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("harbour.backup");
    service.client(&["backup"]).arg(&file).succeeds();
    service.end("-TERM");
    for (name, bytes) in [("records.sqlite", "no database at all"), ("records.sqlite-wal", "nor a log of one")] {
        fs::write(service.data.join(name), bytes).unwrap();
    }
    let mut restore = regnant();
    let told = restore.arg("restore").arg(&file).args(["--tokens", "keep", "--data"]).arg(&service.data).succeeds();
    assert!(told.contains("what was there before is in"), "{told}");
    let aside = fs::read_dir(&service.data).unwrap().flatten().map(|entry| entry.path());
    let mut aside = aside.filter(|path| path.to_string_lossy().contains("before-restore-"));
    let aside = aside.next().unwrap();
    assert_eq!(fs::read_to_string(aside.join("records.sqlite")).unwrap(), "no database at all");
    assert_eq!(fs::read_to_string(aside.join("records.sqlite-wal")).unwrap(), "nor a log of one");
    let service = service.again();
    service.client(&["audit", "verify"]).succeeds();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200001"]).ends_with(0);
}

#[test]
fn a_backup_with_keys_wants_the_password_and_one_is_made_at_a_time_for_whoever_reads() {
    let mut service = Running::harbour();
    let post = |body: &serde_json::Value| {
        let asked = agent().post(format!("{}/api/v1/backup", service.api));
        asked.header("authorization", format!("Bearer {}", service.token)).send_json(body).unwrap()
    };
    let with = |password: Option<&str>| {
        post(&serde_json::json!({ "passphrase": PASSPHRASE.trim(), "password": password })).status().as_u16()
    };
    assert_eq!((with(None), with(Some("wrong-password")), with(Some(PASSWORD))), (403, 403, 200));
    // Whoever does not read what they asked for has the one place until they leave.
    let idle = {
        use std::io::Write;
        let mut idle = std::net::TcpStream::connect(service.api.trim_start_matches("http://")).unwrap();
        // More than what the sockets hold.
        let folder = service.data.join("journal");
        let mut journal = fs::read_dir(&folder).unwrap().flatten().map(|entry| entry.path());
        let journal = journal.find(|path| path.extension().is_some_and(|extension| extension == "sqlite")).unwrap();
        let large = rusqlite::Connection::open(&journal).unwrap();
        large
            .execute_batch("CREATE TABLE ballast (bytes BLOB); INSERT INTO ballast VALUES (randomblob(40000000))")
            .unwrap();
        drop(large);
        let body = "{\"with_journal\":true}";
        write!(
            idle,
            "POST /api/v1/backup HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {}\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
            service.token,
            body.len()
        )
        .unwrap();
        idle
    };
    let started = std::time::Instant::now();
    while post(&serde_json::json!({})).status() != 429 {
        assert!(started.elapsed().as_secs() < 20, "the backup that nobody reads is not under way");
    }
    assert!(service.data.join("backup-under-way").exists());
    drop(idle);
    let started = std::time::Instant::now();
    while post(&serde_json::json!({})).status() != 200 {
        assert!(started.elapsed().as_secs() < 20, "who left keeps the place");
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    // What a crash leaves is told, and gone with the next start.
    service.end("-TERM");
    fs::create_dir_all(service.data.join("backup-under-way")).unwrap();
    let mut doctor = regnant();
    doctor.args(["doctor", "--data"]).arg(&service.data);
    let told = printed(&doctor.output().unwrap());
    assert!(told.contains("is left of a backup, an import or a restore"), "{told}");
    let service = service.again();
    assert!(!service.data.join("backup-under-way").exists());
}
