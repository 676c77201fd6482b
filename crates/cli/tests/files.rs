//! The data directory: who may read it, and what happens when something in it is gone
//! or broken.
mod running;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use regnant_campus::harbour::QUAY_SW_1;
use running::*;

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o777
}

fn restart(mut service: Running) -> Running {
    assert_eq!(service.end("-TERM"), Some(0));
    service.again()
}

#[test]
fn nobody_else_reads_the_data_directory() {
    let service = Running::harbour();
    assert_eq!(mode(&service.data), 0o700);
    let mut files = 0;
    for entry in fs::read_dir(&service.data).unwrap().map(Result::unwrap) {
        let name = entry.file_name().into_string().unwrap();
        if name.contains("sqlite") || name == "lock" || name == "sealing.key" {
            assert_eq!(mode(&entry.path()) & 0o077, 0, "{name}");
            files += 1;
        }
    }
    assert!(files >= 5);
}

#[test]
fn a_damaged_journal_is_set_aside_and_people_come_in() {
    for file in ["the journal", "node.sqlite", "lists.sqlite"] {
        let mut service = Running::harbour();
        assert_eq!(service.end("-TERM"), Some(0));
        let path = if file == "the journal" { service.journal_file() } else { service.data.join(file) };
        let (folder, file) = (path.parent().unwrap(), path.file_name().unwrap().to_str().unwrap());
        fs::write(&path, "no database any more ".repeat(500)).unwrap();
        for other in ["-wal", "-shm"] {
            let _ = fs::remove_file(folder.join(format!("{file}{other}")));
        }
        let again = service.again();
        again.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
        let aside = fs::read_dir(folder).unwrap().map(Result::unwrap);
        let names: Vec<_> = aside.map(|entry| entry.file_name().into_string().unwrap()).collect();
        assert!(names.iter().any(|name| name.starts_with(&format!("{file}.set-aside-"))), "{names:?}");
    }
}

#[test]
fn a_key_that_is_gone_is_told_and_nothing_is_put_in_its_place() {
    let mut service = Running::harbour();
    assert_eq!(service.end("-TERM"), Some(0));
    let key = service.data.join("sealing.key");
    let kept = fs::read(&key).unwrap();
    fs::remove_file(&key).unwrap();
    let config = config(service.data.parent().unwrap(), "127.0.0.1:0", "127.0.0.1:0");
    let mut serve = regnant();
    serve.args(["serve", "--config"]).arg(&config).arg("--data").arg(&service.data);
    let told = serve.fails(1);
    assert!(told.contains("is missing, and there are records that it sealed"), "{told}");
    assert!(!key.exists());
    fs::write(&key, kept).unwrap();
    fs::set_permissions(&key, fs::Permissions::from_mode(0o600)).unwrap();
    restart(service.again()).try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
}

#[test]
fn the_demo_moves_into_no_directory_of_somebody_else() {
    let mut service = Running::harbour();
    assert_eq!(service.end("-TERM"), Some(0));
    let told = regnant().args(["demo", "--once", "--data"]).arg(&service.data).fails(2);
    assert!(told.contains("was not made by the demo"), "{told}");
    let administrators = rusqlite::Connection::open(service.data.join("records.sqlite")).unwrap();
    let count: i64 = administrators.query_row("SELECT count(*) FROM administrator", [], |row| row.get(0)).unwrap();
    assert_eq!(count, 1);
}

#[test]
fn an_entry_that_cannot_be_read_is_one_line_of_the_journal() {
    let service = Running::harbour();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200008"]).ends_with(0);
    let entries = service.entries("limit=10", 2);
    let file = rusqlite::Connection::open(service.journal_file()).unwrap();
    file.execute("UPDATE entry SET evidence = x'02ff' WHERE id = (SELECT max(id) FROM entry)", []).unwrap();
    let list = service.entries("limit=10", 2);
    let told: Vec<_> = list.iter().map(|entry| entry["outcome"].as_str().unwrap()).collect();
    assert_eq!(told, ["unreadable", "granted"]);
    let (status, detail) = service.get(&format!("journal/{}", entries[0]["id"].as_str().unwrap()));
    assert_eq!((status, detail["stations"].as_array().unwrap().len()), (200, 0));
    assert!(detail["advice"].as_str().unwrap().contains("not touched"), "{detail}");
    assert!(service.client(&["journal"]).succeeds().contains("This entry cannot be read: the entry is damaged."));
}

#[test]
fn another_sealing_key_is_set_while_nothing_runs_and_all_goes_on() {
    let mut service = Running::harbour();
    let key = service.data.join("sealing.key");
    let before = fs::read(&key).unwrap();
    let rotate = |data: &Path| {
        let mut rotate = regnant();
        rotate.args(["key", "rotate", "--data"]).arg(data);
        rotate
    };
    let told = rotate(&service.data).fails(1);
    assert!(told.contains("is in use by another service"), "{told}");
    assert_eq!(service.end("-TERM"), Some(0));
    let elsewhere = service.data.join("nowhere");
    let told = rotate(&elsewhere).fails(1);
    assert!(told.contains("there are no records in") || told.contains("There are no records in"), "{told}");
    assert!(!elsewhere.exists());
    let told = rotate(&service.data).succeeds();
    assert!(told.contains("every secret is sealed under key"), "{told}");
    assert_ne!(fs::read(&key).unwrap(), before);
    assert_eq!(mode(&key), 0o600);
    let again = service.again();
    again.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    let audit = again.client(&["audit", "list"]).succeeds();
    assert!(audit.contains("regnant (this machine)  set sealing key"), "{audit}");
    again.client(&["audit", "verify"]).succeeds();
    // The key of before opens nothing, and says so.
    let mut again = again;
    assert_eq!(again.end("-TERM"), Some(0));
    fs::write(&key, before).unwrap();
    let config = config(again.data.parent().unwrap(), "127.0.0.1:0", "127.0.0.1:0");
    let mut serve = regnant();
    serve.args(["serve", "--config"]).arg(&config).arg("--data").arg(&again.data);
    let told = serve.fails(1);
    assert!(told.contains("restore the key file that belongs to these records"), "{told}");
}
