//! A running service whose clock jumps: nothing that was kept goes, and what is written stays in its order.
mod running;

use std::fs;
use std::path::Path;
use std::time::{Duration, Instant};

use regnant_campus::harbour::*;
use running::*;

/// A library that tells the time from a file, below a program.
fn library() -> String {
    let place = |arch: &str| format!("/usr/lib/{arch}-linux-gnu/faketime/libfaketimeMT.so.1");
    let found = ["x86_64", "aarch64"].map(place).into_iter().find(|path| Path::new(path).exists());
    found.expect("libfaketime is missing: install it (Debian: apt-get install faketime)")
}

/// The clock of a service under test.
struct Clock(std::path::PathBuf);

impl Clock {
    /// So many seconds ahead of the true one.
    fn ahead(&self, seconds: i64) {
        fs::write(&self.0, format!("{seconds:+}\n")).unwrap();
    }

    fn environment(&self) -> Vec<(&'static str, String)> {
        vec![
            ("LD_PRELOAD", library()),
            ("FAKETIME_TIMESTAMP_FILE", self.0.display().to_string()),
            ("FAKETIME_NO_CACHE", "1".into()),
            ("FAKETIME_DONT_FAKE_MONOTONIC", "1".into()),
        ]
    }
}

const DAY: i64 = 86_400;

/// Who came last, the newest first.
fn order(service: &Running) -> Vec<String> {
    let entries = service.entries("limit=100", 1);
    let mac = |entry: &serde_json::Value| {
        let text = sentence(entry);
        ["02:00:5e:20:00:07", "02:00:5e:20:00:06", "02:00:5e:20:00:05"].iter().position(|mac| text.contains(mac))
    };
    entries.iter().filter_map(mac).map(|place| ["before", "ahead", "after"][place].to_owned()).collect()
}

#[test]
fn a_clock_that_jumps_deletes_nothing_and_entries_stay_as_they_were_written() {
    let dir = tempfile::tempdir().unwrap();
    let clock = Clock(dir.path().join("clock"));
    clock.ahead(0);
    let mut service = Running::started_with(dir, &clock.environment());
    let ask = |service: &Running, mac: &str| {
        let _ = service.try_from(&QUAY_SW_1, &["mac", "--mac", mac]).output().unwrap();
    };
    let written = |service: &Running, many: usize| {
        let began = Instant::now();
        while order(service).len() < many {
            assert!(began.elapsed() < Duration::from_secs(20), "{:?}", order(service));
            std::thread::sleep(Duration::from_millis(50));
        }
        order(service)
    };
    let files = |service: &Running| {
        let names = fs::read_dir(service.data.join("journal")).unwrap().map(|entry| entry.unwrap().file_name());
        names.filter(|name| name.to_string_lossy().ends_with(".sqlite")).count()
    };
    ask(&service, "02005e200007");
    written(&service, 1);
    let before = files(&service);
    // More than is kept, and back: a day's file each, and none goes.
    clock.ahead(100 * DAY);
    ask(&service, "02005e200006");
    written(&service, 2);
    clock.ahead(0);
    ask(&service, "02005e200005");
    assert_eq!(written(&service, 3), ["after", "ahead", "before"]);
    assert_eq!(files(&service), before + 2);
    // Hours are no day, and a jump all the same.
    clock.ahead(2 * 3_600);
    ask(&service, "02005e200006");
    written(&service, 4);
    clock.ahead(0);
    ask(&service, "02005e200005");
    let all = ["after", "ahead", "after", "ahead", "before"];
    assert_eq!(written(&service, 5), all);
    // Page by page they are the same.
    let (mut paged, mut last) = (Vec::new(), String::new());
    loop {
        let page = service.get(&format!("journal?limit=2{last}")).1["entries"].clone();
        let page = page.as_array().unwrap().clone();
        let Some(end) = page.last() else { break };
        last = format!("&before={}", end["id"].as_str().unwrap());
        paged.extend(page.iter().map(|entry| entry["id"].as_str().unwrap().to_owned()));
    }
    let whole: Vec<_> =
        service.entries("limit=100", 5).iter().map(|one| one["id"].as_str().unwrap().to_owned()).collect();
    assert_eq!(paged, whole);
    for id in &whole {
        assert_eq!(service.get(&format!("journal/{id}")).0, 200, "each can be opened");
    }
    // Started while the clock is wrong, it deletes nothing either, and goes on where it was.
    assert_eq!(service.end("-TERM"), Some(0));
    clock.ahead(400 * DAY);
    let mut service = service.again_with(&clock.environment());
    ask(&service, "02005e200006");
    written(&service, 6);
    assert_eq!(service.end("-TERM"), Some(0));
    clock.ahead(0);
    let mut service = service.again_with(&clock.environment());
    ask(&service, "02005e200005");
    assert_eq!(written(&service, 7), [&["after", "ahead"][..], &all].concat());
    // By hours over a restart, within a day: what was written before stays before.
    assert_eq!(service.end("-TERM"), Some(0));
    clock.ahead(-2 * 3_600);
    let service = service.again_with(&clock.environment());
    ask(&service, "02005e200006");
    assert_eq!(written(&service, 8), [&["ahead", "after", "ahead"][..], &all].concat());
}
