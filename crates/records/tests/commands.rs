//! Commands: applied once, in order, whole or not at all, and the same everywhere.

use std::fs;
use std::path::Path;
use std::sync::{Arc, LazyLock};
use std::time::Duration;

use proptest::prelude::*;
use regnant_base::Mac;
use regnant_decision::{NasKind, StoreReply};
use regnant_records::*;
use rusqlite::Connection;

fn key(dir: &Path) -> Arc<SealingKey> {
    take_key(&dir.join("sealing.key"), Path::new("none")).unwrap()
}

fn open(dir: &Path, key: &Arc<SealingKey>) -> Records {
    Records::open(&dir.join("records.sqlite"), key, 1).unwrap()
}

/// A second look at the file, as whoever steals it has.
fn file(dir: &Path) -> Connection {
    Connection::open(dir.join("records.sqlite")).unwrap()
}

fn author() -> Author {
    Author::new("harbour", "10.44.0.7")
}

/// Everything in the log.
fn whole() -> AuditFilter {
    AuditFilter { below: u64::MAX, most: 1_000, words: Vec::new(), record: None }
}

fn administrator(name: &str, key: &SealingKey, role: Role) -> AdministratorRow {
    let password_hash = key.seal(&format!("the password hash of administrator {name}"), b"x");
    let name = name.to_owned();
    AdministratorRow { name, password_hash, role, disabled: false, expires: None, second_factor: None }
}

fn administrators(list: Vec<AdministratorRow>) -> Rows {
    Rows { administrators: list, ..Rows::default() }
}

fn envelope(command: Command) -> Envelope {
    Envelope::new(&author(), 1_000, command)
}

fn store(name: &str, kind: StoreKind) -> StoreRow {
    StoreRow::local(name, kind)
}

fn nas(key: &SealingKey, name: &str, network: &str) -> NasRow {
    NasRow {
        name: name.into(),
        networks: vec![network.parse().unwrap()],
        kind: NasKind::Switch,
        site: "quayside".into(),
        tags: Vec::new(),
        note: String::new(),
        dialect: "standard".into(),
        radius: RadiusRow {
            secret: key.seal(&format!("the secret of NAS {}", name.to_lowercase()), b"bollard-9-anchor"),
            former_secret: None,
            require_message_authenticator: true,
            class_at_login: false,
        },
    }
}

fn device(first: u8, last: u8, title: &str) -> DeviceRow {
    let mac = |last| Mac([2, 0, 0x5e, 0x20, 0, last]);
    let (store, title, groups) = ("devices".into(), title.into(), vec!["cranes".into()]);
    let (owner, note) = (String::new(), String::new());
    DeviceRow {
        store,
        first: mac(first),
        last: mac(last),
        title,
        groups,
        owner,
        note,
        expires: None,
        attributes: AttributeValues::new(),
        barred: None,
    }
}

fn import(rows: Rows) -> Command {
    Command::Import(Import { file: "0123".into(), rows })
}

fn nases(list: Vec<NasRow>) -> Command {
    import(Rows { nases: list, ..Rows::default() })
}

/// Everything that the file holds, in words.
fn dump(records: &Records) -> String {
    format!(
        "{:?} {:?} {:?}",
        records.rows().unwrap(),
        records.editions(u32::MAX, 100).unwrap(),
        records.audit(&whole()).unwrap()
    )
}

#[test]
fn a_command_that_comes_again_gets_its_first_outcome_and_changes_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let (key, basis) = (key(dir.path()), Basis::default());
    let records = open(dir.path(), &key);
    let first = envelope(Command::activate("first".into(), BasisOf::New(basis.clone())));
    let second = Command::activate("second".into(), BasisOf::Known(basis.hash()));
    assert_eq!(records.apply(&first).unwrap().edition, Some(1));
    assert_eq!(records.apply(&envelope(second)).unwrap().edition, Some(2));
    let (before, revision) = (dump(&records), records.revision().unwrap());
    let again = records.commit(&first, |_, _| Ok::<_, RecordsError>("built")).unwrap();
    assert_eq!((again.done.edition, again.built), (Some(1), None), "nothing follows from it once more");
    assert_eq!((dump(&records), records.revision().unwrap()), (before, revision));
    // A refusal is an outcome as well, even where the command would be done by now.
    let early = envelope(import(Rows { devices: vec![device(1, 1, "crane")], ..Rows::default() }));
    assert_eq!(records.apply(&early).unwrap_err().to_string(), "there is no store `devices`");
    records
        .apply(&envelope(import(Rows { stores: vec![store("devices", StoreKind::Devices)], ..Rows::default() })))
        .unwrap();
    assert_eq!(records.apply(&early).unwrap_err().to_string(), "there is no store `devices`");
    assert!(records.all::<DeviceRow>().unwrap().is_empty());
}

#[test]
fn whoever_saw_something_else_is_told_and_nothing_is_done() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = open(dir.path(), &key);
    let activate = |expected| {
        let basis = BasisOf::New(Basis::default());
        let command = Command::activate("x".into(), basis);
        records.apply(&envelope(command).expecting(expected))
    };
    assert_eq!(activate(Expected::Edition(0)).unwrap().edition, Some(1));
    let told = activate(Expected::Edition(0)).unwrap_err();
    assert!(told.to_string().starts_with("edition 1 is active and you began with edition 0"), "{told}");
    let revision = records.revision().unwrap();
    assert_eq!(activate(Expected::Revision(revision)).unwrap().edition, Some(2));
    let told = activate(Expected::Revision(revision)).unwrap_err();
    assert!(matches!(told, RecordsError::Refused(Refusal::Conflict(Conflict::Revision { .. }))), "{told}");
    assert_eq!(records.editions(u32::MAX, 100).unwrap().len(), 2, "numbers have no holes");
    let unknown = Command::activate("x".into(), BasisOf::Known([7; 32]));
    let told = records.apply(&envelope(unknown)).unwrap_err();
    assert!(matches!(told, RecordsError::Refused(Refusal::NotFound(Missing::Basis))), "{told}");
}

#[test]
fn what_cannot_be_done_at_all_is_said() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = open(dir.path(), &key);
    let told = |command| records.apply(&envelope(command)).unwrap_err().to_string();
    let later = Envelope { version: VERSION + 1, ..envelope(nases(Vec::new())) };
    assert!(records.apply(&later).unwrap_err().to_string().contains("of a later release"));
    let other = take_key(&dir.path().join("other.key"), Path::new("none")).unwrap();
    assert!(told(nases(vec![nas(&other, "quay-sw-1", "127.0.0.11")])).contains("under another key"));
    let engineer = administrator("harbour", &key, Role::Engineer);
    records.apply(&envelope(Command::Add(administrators(vec![engineer])))).unwrap();
    let secret = Some(sealed_second_factor("harbour", b"12345678901234567890", &other));
    let factor = Command::SetSecondFactor { administrator: "harbour".into(), secret, recovery: Vec::new() };
    assert!(told(factor).contains("under another key"));
    assert!(told(Command::Remove(vec![RecordName::Administrator("harbour".into())])).contains("make another engineer"));
    let mut rows = Rows { stores: vec![store("devices", StoreKind::People)], ..Rows::default() };
    records.apply(&envelope(import(rows.clone()))).unwrap();
    rows.devices = vec![device(1, 2, "crane")];
    assert_eq!(told(import(rows.clone())), "store `devices` holds something else");
    rows.stores = vec![store("devices", StoreKind::Devices)];
    assert_eq!(told(import(rows)), "store `devices` exists already and holds something else");
    let stores = vec![store("cranes", StoreKind::Devices)];
    let backwards = DeviceRow { store: "cranes".into(), ..device(9, 1, "crane") };
    assert!(told(import(Rows { stores, devices: vec![backwards], ..Rows::default() })).contains("are no range"));
    assert!(records.all::<DeviceRow>().unwrap().is_empty());
    assert_eq!(records.all::<StoreRow>().unwrap().len(), 1, "all of an import, or nothing");
}

#[test]
fn equipment_may_swap_its_addresses_and_never_share_one() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = open(dir.path(), &key);
    let networks = || {
        let rows = records.all::<NasRow>().unwrap();
        rows.into_iter().map(|row| format!("{} {}", row.name, row.networks[0])).collect::<Vec<_>>()
    };
    let set = |list: &[(&str, &str)]| {
        records.apply(&envelope(nases(list.iter().map(|(name, network)| nas(&key, name, network)).collect())))
    };
    set(&[("a", "127.0.0.11"), ("b", "127.0.0.12"), ("c", "127.0.1.0/24")]).unwrap();
    set(&[("A", "127.0.0.12"), ("b", "127.0.0.11")]).unwrap();
    assert_eq!(networks(), ["A 127.0.0.12", "b 127.0.0.11", "c 127.0.1.0/24"]);
    for taken in [&[("d", "127.0.0.11")][..], &[("d", "127.0.0.14"), ("e", "127.0.0.14")]] {
        let told = set(taken).unwrap_err().to_string();
        assert!(told.contains("two NASes never have the same address"), "{told}");
    }
    assert_eq!(networks().len(), 3);
}

#[test]
fn where_nothing_can_be_built_of_a_command_it_never_was() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = open(dir.path(), &key);
    let command = envelope(import(Rows { stores: vec![store("devices", StoreKind::Devices)], ..Rows::default() }));
    let before = dump(&records);
    let built = records.commit(&command, |pending, _| {
        assert_eq!(pending.all::<StoreRow>()?.len(), 1, "it is seen while it is built upon");
        Err::<(), _>(RecordsError::Damaged("x".into()))
    });
    assert!(built.is_err());
    assert_eq!(dump(&records), before);
    assert!(records.commit(&command, |_, _| Ok::<_, RecordsError>(())).unwrap().built.is_some());
    assert_eq!(records.all::<StoreRow>().unwrap().len(), 1);
}

#[test]
fn an_error_of_the_disk_skips_no_command() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = open(dir.path(), &key);
    let (command, before) = (envelope(nases(vec![nas(&key, "a", "127.0.0.11")])), dump(&records));
    file(dir.path())
        .execute_batch("CREATE TRIGGER full BEFORE INSERT ON command BEGIN SELECT RAISE(ABORT, 'disk full'); END")
        .unwrap();
    let told = records.apply(&command).unwrap_err();
    assert!(matches!(told, RecordsError::Sqlite(_)), "{told}");
    assert_eq!(dump(&records), before);
    file(dir.path()).execute_batch("DROP TRIGGER full").unwrap();
    records.apply(&command).unwrap();
    assert_eq!(records.revision().unwrap(), 2, "the key, and this");
}

#[test]
fn the_log_keeps_what_was_before_and_shows_no_secret() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = open(dir.path(), &key);
    let (old, new) = (nas(&key, "a", "127.0.0.11"), nas(&key, "a", "127.0.0.12"));
    for row in [&old, &new] {
        records.apply(&envelope(nases(vec![row.clone()]))).unwrap();
    }
    let kept: String =
        file(dir.path()).query_row("SELECT before FROM command WHERE revision = 3", [], |row| row.get(0)).unwrap();
    let kept: Rows = serde_json::from_str(&kept).unwrap();
    assert_eq!(kept, Rows { nases: vec![old.clone()], ..Rows::default() });
    let entries = records.audit(&whole()).unwrap();
    let told: Vec<_> =
        entries.iter().map(|entry| (entry.revision, entry.author.as_str(), entry.what.as_str())).collect();
    assert_eq!(told, [(3, "harbour", "import"), (2, "harbour", "import"), (1, "regnant", "set sealing key")]);
    assert_eq!(entries[0].subject, "NASes: 1 (file 0123)");
    assert_eq!(records.audit(&AuditFilter { below: 3, most: 1, ..whole() }).unwrap()[0].revision, 2);
    for sealed in [old.radius.secret, new.radius.secret] {
        assert!(!format!("{entries:?}").contains(&String::from(sealed)));
    }
}

fn bytes_of(dir: &Path) -> Vec<u8> {
    let files = fs::read_dir(dir).unwrap().map(|entry| entry.unwrap().path());
    files.filter(|path| path.to_string_lossy().contains(".sqlite")).flat_map(|path| fs::read(path).unwrap()).collect()
}

#[test]
fn after_another_key_is_set_the_old_one_opens_nothing_not_even_in_the_log() {
    let dir = tempfile::tempdir().unwrap();
    let (key_file, record_file) = (dir.path().join("sealing.key"), dir.path().join("records.sqlite"));
    let old = take_key(&key_file, &record_file).unwrap();
    let token = new_token();
    {
        let records = open(dir.path(), &old);
        let row = AdministratorRow {
            second_factor: Some(sealed_second_factor("harbour", b"12345678901234567890", &old)),
            ..administrator("harbour", &old, Role::Engineer)
        };
        records.apply(&envelope(Command::Add(administrators(vec![row])))).unwrap();
        let (hash, administrator) = (token_hash(&token), "harbour".into());
        let add = Command::AddToken {
            hash,
            administrator,
            name: "ci".into(),
            role: Role::Engineer,
            expires: None,
            parent: None,
        };
        records.apply(&envelope(add)).unwrap();
        for network in ["127.0.0.11", "127.0.0.12"] {
            records.apply(&envelope(nases(vec![nas(&old, "a", network)]))).unwrap();
        }
    }
    let (from, to) = rotate_key(&key_file, &record_file, &author(), 2_000).unwrap();
    assert_eq!(from, old.id());
    let new = take_key(&key_file, &record_file).unwrap();
    assert_eq!(new.id(), to);
    assert!(Records::open(&record_file, &old, 1).unwrap_err().to_string().contains("sealed under key"));
    let records = open(dir.path(), &new);
    let row = records.all::<NasRow>().unwrap().remove(0);
    assert!(row.shared_secret(&new).is_ok() && row.shared_secret(&old).is_err());
    assert!(records.administrator("harbour", &new).unwrap().unwrap().second_factor.is_some());
    let owner = records.token_owner(&token, 0).unwrap().unwrap();
    assert_eq!(owner.administrator, "harbour", "tokens are no secrets of ours");
    assert_eq!(records.verify().unwrap().broken, None, "what is chained holds no secret");
    let before: String =
        file(dir.path()).query_row("SELECT before FROM command WHERE revision = 5", [], |row| row.get(0)).unwrap();
    let before: Rows = serde_json::from_str(&before).unwrap();
    assert!(before.nases[0].shared_secret(&new).is_ok());
    // Whatever was sealed under the old key began with its id, and is gone.
    let (id, text) = (old.id().to_string(), String::from(Sealed::from_bytes(vec![0; 6])));
    let id: Vec<u8> = (0..8).map(|at| u8::from_str_radix(&id[2 * at..2 * at + 2], 16).unwrap()).collect();
    let encoded = String::from(Sealed::from_bytes(id[..6].to_vec()));
    assert_eq!(text.len(), encoded.len());
    let bytes = bytes_of(dir.path());
    assert!(!bytes.windows(8).any(|part| part == id), "in a table");
    assert!(!bytes.windows(8).any(|part| part == encoded.as_bytes()), "in the log");
    assert_eq!(records.audit(&whole()).unwrap()[0].what, "set sealing key");
}

#[test]
fn setting_another_key_may_be_interrupted_anywhere() {
    let dir = tempfile::tempdir().unwrap();
    let (key_file, record_file) = (dir.path().join("sealing.key"), dir.path().join("records.sqlite"));
    let next = dir.path().join("sealing.key.next");
    let old = take_key(&key_file, &record_file).unwrap();
    drop(open(dir.path(), &old));
    // The new key is there, and nothing is sealed by it yet.
    let unused = SealingKey::create(&next).unwrap();
    assert_eq!(take_key(&key_file, &record_file).unwrap().id(), old.id());
    assert!(!next.exists() && unused.id() != old.id());
    // Or only a part of it.
    fs::write(&next, "regnant-seal").unwrap();
    assert_eq!(take_key(&key_file, &record_file).unwrap().id(), old.id());
    assert!(!next.exists());
    // All is sealed by it, and the old one is still in its place.
    let new = Arc::new(SealingKey::create(&next).unwrap());
    open(dir.path(), &old).seal_anew(&old, &new, &author(), 2_000).unwrap();
    // While the records cannot be read, the one key that opens them is not given up.
    let kept = fs::read(&record_file).unwrap();
    fs::write(&record_file, "no database now ".repeat(500)).unwrap();
    assert_eq!(take_key(&key_file, &record_file).unwrap().id(), old.id());
    assert!(next.exists());
    fs::write(&record_file, kept).unwrap();
    assert_eq!(take_key(&key_file, &record_file).unwrap().id(), new.id());
    assert!(!next.exists());
    open(dir.path(), &new);
}

fn shared_key() -> Arc<SealingKey> {
    static KEY: LazyLock<Arc<SealingKey>> = LazyLock::new(|| key(tempfile::tempdir().unwrap().path()));
    KEY.clone()
}

/// One command of many, over few names, so that they meet.
fn command(key: Arc<SealingKey>) -> impl Strategy<Value = Command> {
    let stores = prop::collection::vec((prop::sample::select(vec!["devices", "harbour"]), any::<bool>()), 0..2);
    let nas_key = key.clone();
    let list = prop::collection::vec((prop::sample::select(vec!["a", "A", "b"]), 0..3_u8), 0..3);
    let devices = prop::collection::vec((0..4_u8, 0..4_u8, "[ab]"), 0..3);
    let imports = (stores, list, devices).prop_map(move |(stores, list, devices)| {
        let kind = |people| if people { StoreKind::People } else { StoreKind::Devices };
        import(Rows {
            stores: stores.iter().map(|(name, people)| store(name, kind(*people))).collect(),
            nases: list.iter().map(|(name, last)| nas(&nas_key, name, &format!("127.0.0.{last}"))).collect(),
            devices: devices.iter().map(|(first, last, title)| device(*first, *last, title)).collect(),
            ..Rows::default()
        })
    });
    let activations =
        "[ab]".prop_map(|source| Command::activate(source.as_str().into(), BasisOf::New(Basis::default())));
    let token = (0..3_u8, any::<bool>()).prop_map(|(number, add)| {
        let hash = TokenHash([number; 32]);
        let parent = number.checked_sub(1).map(|parent| TokenHash([parent; 32]));
        match add {
            true => Command::AddToken {
                hash,
                administrator: "harbour".into(),
                name: String::new(),
                role: Role::Engineer,
                expires: None,
                parent,
            },
            false => Command::RemoveToken { hash },
        }
    });
    let administrator_key = key.clone();
    let administrators = (prop::sample::select(&Role::ALL[..]), any::<bool>()).prop_map(move |(role, is_new)| {
        let rows = administrators(vec![administrator("harbour", &administrator_key, role)]);
        let was = vec![RecordName::Administrator("harbour".into())];
        if is_new { Command::Add(rows) } else { Command::Change { was, rows } }
    });
    let one = (0..4_u8, 0..4_u8, "[ab]", 0..4_u8).prop_map(|(number, was, title, act)| {
        let name = |number: u8| RecordName::Device { store: "devices".into(), mac: Mac([2, 0, 0x5e, 0x20, 0, number]) };
        let rows = Rows { devices: vec![device(number, number, &title)], ..Rows::default() };
        match act {
            0 => Command::Add(rows),
            1 => Command::Change { was: vec![name(was)], rows },
            2 => Command::Remove(vec![name(number)]),
            _ => Command::Remove(vec![RecordName::Store("devices".into())]),
        }
    });
    prop_oneof![4 => imports, 1 => activations, 2 => token, 1 => administrators, 4 => one]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// What a log of commands makes of one node, it makes of every other, however often
    /// some of them arrive; and records in memory that took each change are those that
    /// are read whole.
    #[test]
    fn the_same_commands_make_the_same_records(
        commands in prop::collection::vec(command(shared_key()), 1..20),
        order in prop::collection::vec((any::<prop::sample::Index>(), any::<bool>()), 1..20),
        expected in 0..6_u64,
    ) {
        let (dir, key) = (tempfile::tempdir().unwrap(), shared_key());
        let all: Vec<Envelope> = commands.into_iter().map(envelope).collect();
        let nodes = ["one", "two"].map(|name| dir.path().join(name));
        let [one, two] = nodes.map(|folder| {
            fs::create_dir(&folder).unwrap();
            let name = folder.join("records.sqlite");
            // Both begin with the same first command.
            let records = Records::open(&name, &key, 1).unwrap();
            let connection = Connection::open(&name).unwrap();
            let sql = "UPDATE command SET id = zeroblob(16), chain = zeroblob(32)";
            connection.execute(sql, []).unwrap();
            records
        });
        let mut stores = LocalStores::new(key.clone(), HashPool::start(1, Duration::from_secs(4)));
        let mut applied: Vec<Envelope> = Vec::new();
        for (index, repeat) in &order {
            let next = match applied.len() {
                0 => all[index.index(all.len())].clone(),
                many if *repeat => applied[index.index(many)].clone(),
                _ => all[index.index(all.len())].clone(),
            };
            let known = applied.iter().any(|other| other.id == next.id);
            let (before, revision) = (dump(&one), one.revision().unwrap());
            let outcome = one.commit(&next, |_, _| {
                let mut after = stores.clone();
                after.follow(&next.command);
                Ok::<_, RecordsError>(after)
            });
            prop_assert_eq!(one.revision().unwrap(), revision + u64::from(!known));
            if known {
                prop_assert_eq!(&dump(&one), &before);
            }
            if let Ok(Committed { built: Some(built), .. }) = &outcome {
                stores = built.clone();
            }
            let other = two.apply(&next);
            prop_assert_eq!(outcome.map(|c| c.done).map_err(|e| e.to_string()), other.map_err(|e| e.to_string()));
            applied.push(next);
        }
        prop_assert_eq!(dump(&one), dump(&two));
        let whole = LocalStores::of(&one, key.clone(), HashPool::start(1, Duration::from_secs(4))).unwrap();
        let cranes = DeviceFilter { group: Some("cranes".into()), limit: 1_000, ..DeviceFilter::default() };
        let texts = DeviceTexts::new(dir.path());
        prop_assert_eq!(texts.devices(&stores, &one, &cranes).unwrap(), one.all::<DeviceRow>().unwrap());
        prop_assert_eq!(stores.device_counts().collect::<Vec<_>>(), whole.device_counts().collect::<Vec<_>>());
        prop_assert_eq!(
            stores.registry().into_keys().collect::<Vec<_>>(),
            whole.registry().into_keys().collect::<Vec<_>>()
        );
        // Out of order: who expects another revision than the last is told, and nothing is done.
        let revision = one.revision().unwrap();
        let late = all[0].clone();
        let late = Envelope { id: CommandId::new(9), ..late }.expecting(Expected::Revision(expected));
        let rows = one.rows().unwrap();
        let outcome = one.apply(&late);
        if expected != revision {
            let conflict = matches!(outcome, Err(RecordsError::Refused(Refusal::Conflict(Conflict::Revision { .. }))));
            prop_assert!(conflict);
            prop_assert_eq!(one.rows().unwrap(), rows);
        }
    }
}

#[test]
fn a_change_shares_what_it_does_not_touch() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let mut rows = Rows { stores: vec![store("devices", StoreKind::Devices)], ..Rows::default() };
    rows.devices = vec![device(0, 255, "crane")];
    let mut before = LocalStores::new(key, HashPool::start(1, Duration::from_secs(4)));
    before.follow(&Command::Add(rows));
    let barred = Some(Barred { reason: "stolen".into(), by: "desk".into(), at: 5 });
    let changed = Rows { devices: vec![DeviceRow { barred, ..device(7, 7, "crane") }], ..Rows::default() };
    let mut after = before.clone();
    after.follow(&import(changed));
    let barred = |stores: &LocalStores, last| {
        let registry = stores.registry();
        match registry["devices"].device(Mac([2, 0, 0x5e, 0x20, 0, last]), "quay-sw-1") {
            StoreReply::Now(device) => device.unwrap().unwrap().barred,
            StoreReply::Later(_) => panic!("it is in memory"),
        }
    };
    assert_eq!((barred(&before, 7), barred(&after, 7), barred(&after, 8)), (false, true, false));
}
