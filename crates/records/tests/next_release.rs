//! Records of this release are brought to the form of the next, which keeps them as they were for whoever goes back.

use std::path::Path;
use std::process::Command as Process;
use std::sync::Arc;

use regnant_decision::NasKind;
use regnant_records::*;

fn filled(file: &Path, key: &Arc<SealingKey>) -> Records {
    let records = Records::open(file, key, 1).unwrap();
    let nas = NasRow {
        name: "yard-sw-1".into(),
        networks: vec!["127.0.0.12".parse().unwrap(), "10.44.0.0/16".parse().unwrap()],
        kind: NasKind::Switch,
        site: "yard".into(),
        tags: vec!["crane-net".into()],
        note: String::new(),
        dialect: "standard".into(),
        radius: RadiusRow {
            secret: key.seal("the secret of NAS yard-sw-1", b"bollard-9-anchor"),
            former_secret: None,
            require_message_authenticator: true,
            class_at_login: false,
        },
    };
    let rows =
        Rows { stores: vec![StoreRow::local("things", StoreKind::Devices)], nases: vec![nas], ..Rows::default() };
    let basis = BasisOf::New(Basis::default());
    for command in [Command::Add(rows), Command::activate("gate nobody { otherwise refuse }".into(), basis)] {
        records.apply(&Envelope::new(&Author::machine(), 1_000, command)).unwrap();
    }
    records
}

#[test]
fn records_come_to_the_next_release_whole_and_this_one_opens_what_it_left() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let key = Arc::new(SealingKey::create(&path("key")).unwrap());
    let (before, commands) = {
        let records = filled(&path("records.sqlite"), &key);
        (format!("{:?}", records.rows().unwrap()), records.revision().unwrap())
    };
    // Of the whole workspace, so that nothing it needs is built a second time with other features.
    let mut build = Process::new(env!("CARGO"));
    build.args([
        "build",
        "-q",
        "--workspace",
        "--features",
        "regnant-records/next-release",
        "--example",
        "next_release",
    ]);
    assert!(build.status().unwrap().success(), "the next release is built");
    let test = std::env::current_exe().unwrap();
    let next = test.ancestors().nth(2).unwrap().join("examples/next_release");
    let told = Process::new(next).args([path("records.sqlite"), path("key")]).arg("yard-sw-1").output().unwrap();
    assert!(told.status.success(), "{}", String::from_utf8_lossy(&told.stderr));
    let told = String::from_utf8(told.stdout).unwrap();
    assert_eq!(told.trim(), format!("{before} {} None", commands + 1), "all of it is there, and one command more");
    // This release does not touch what the next one wrote, and opens what was kept for it.
    let refused = Records::open(&path("records.sqlite"), &key, 1).unwrap_err();
    assert!(matches!(refused, RecordsError::Newer { form: 2, known: 1, .. }), "{refused}");
    let kept = Records::open(&path("records.sqlite.before-2"), &key, 1).unwrap();
    assert_eq!((format!("{:?}", kept.rows().unwrap()), kept.revision().unwrap()), (before, commands));
}
