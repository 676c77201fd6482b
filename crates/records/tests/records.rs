//! Records as the service uses them: opened, changed, read, and closed.
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use regnant_base::{Mac, Secret};
use regnant_decision::*;
use regnant_eap::MsChapResponse;
use regnant_policy::IdentityKind;
use regnant_records::*;

fn key(dir: &Path) -> Arc<SealingKey> {
    Arc::new(SealingKey::load_or_create(&dir.join("sealing.key"), &dir.join("none")).unwrap())
}

fn open(dir: &Path) -> Records {
    Records::open(&dir.join("records.sqlite"), &key(dir), 1).unwrap()
}

/// Does something, as the harbour's administrator.
fn apply(records: &Records, command: Command) -> Result<Done, RecordsError> {
    records.apply(&Envelope::new(&Author::new("harbour", "10.44.0.7"), 1_000, command))
}

fn imported(records: &Records, key: &SealingKey, toml: &str) -> Result<Import, String> {
    let inventory = Inventory::from_toml("inventory.toml", toml).map_err(|error| error.to_string())?;
    let marked = Marked { by: "harbour", at: 1_000, declared: &DeclaredAttributes::default() };
    inventory.into_import(key, records, &["standard".into()], marked).map_err(|error| error.to_string())
}

fn import(records: &Records, key: &SealingKey, toml: &str) -> Result<(), String> {
    let command = Command::Import(imported(records, key, toml)?);
    apply(records, command).map(drop).map_err(|error| error.to_string())
}

fn stores(records: &Records, key: Arc<SealingKey>) -> LocalStores {
    LocalStores::of(records, key, HashPool::start(1, Duration::from_secs(4))).unwrap()
}

fn administrator(name: &str, key: &SealingKey, role: Role) -> Command {
    let password_hash = sealed_password(name, "tarnmouth-demo", key);
    let name = name.to_owned();
    let row = AdministratorRow { name, password_hash, role, disabled: false, expires: None, second_factor: None };
    Command::Add(Rows { administrators: vec![row], ..Rows::default() })
}

/// What a store is asked, answered.
struct Asked(Arc<dyn Store>);

impl Asked {
    fn account(&self, kind: IdentityKind, name: &str) -> Option<Account> {
        match answer(self.0.account(kind, name, "quay-sw-1")).unwrap() {
            Found::Account(account) => Some(account),
            Found::Nobody => None,
            Found::Several => panic!("there is one of each name"),
        }
    }

    fn password_is_right(&self, account: &Account, password: &str) -> bool {
        answer(self.0.check_password(account, Secret::new(password.as_bytes()), "quay-sw-1")).unwrap()
            == PasswordAnswer::Right
    }

    fn device(&self, mac: Mac) -> Option<Arc<Device>> {
        answer(self.0.device(mac, "quay-sw-1")).unwrap()
    }
}

fn answer<T>(reply: StoreReply<'_, T>) -> Answer<T> {
    match reply {
        StoreReply::Now(answer) => answer,
        StoreReply::Later(answer) => block_on(answer),
    }
}

const HARBOUR: &str = r#"
    [[store]]
    name = "harbour"
    kind = "people"
    [[store]]
    name = "devices"
    kind = "devices"
    [[nas]]
    name = "quay-sw-1"
    address = "127.0.0.11"
    kind = "switch"
    site = "quayside"
    secret = "bollard-9-anchor"
    [[person]]
    store = "harbour"
    name = "Ida.Marsh"
    password = "Tide-Table-61"
    groups = ["staff", "harbour-office"]
    [[person]]
    store = "harbour"
    name = "old.hand"
    password = "Tide-Table-61"
    expires = "2020-01-01T00:00:00Z"
    [[person]]
    store = "harbour"
    name = "new.hand"
    password = "Tide-Table-61"
    expires = "2220-01-01T00:00:00Z"
    [[person]]
    store = "harbour"
    name = "ola.nett"
    password = "Fibre-Spool-90"
    recoverable-password = true
    [[device]]
    store = "devices"
    mac = "02:00:5e:20:00:01"
    last = "02:00:5e:20:00:12"
    title = "crane controller"
    groups = ["cranes"]
"#;

fn block_on<F: Future>(future: F) -> F::Output {
    tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap().block_on(future)
}

#[test]
fn an_inventory_is_kept_over_a_restart_with_its_secrets_sealed() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("records.sqlite");
    {
        let records = Records::open(&file, &key(dir.path()), 1).unwrap();
        import(&records, &key(dir.path()), HARBOUR).unwrap();
    }
    let records = Records::open(&file, &key(dir.path()), 1).unwrap();
    let nas = records.all::<NasRow>().unwrap().remove(0);
    assert_eq!((nas.name.as_str(), nas.radius.require_message_authenticator), ("quay-sw-1", true));
    assert_eq!(nas.shared_secret(&key(dir.path())).unwrap().expose(), b"bollard-9-anchor");
    let stores = stores(&records, key(dir.path()));
    let registry = stores.registry();
    let harbour = Asked(registry["harbour"].clone());
    let ida = harbour.account(IdentityKind::User, "ida.marsh").unwrap();
    assert_eq!((ida.name.as_str(), ida.groups.len()), ("Ida.Marsh", 2));
    assert!(harbour.password_is_right(&ida, "Tide-Table-61"));
    assert!(!harbour.password_is_right(&ida, "Tide-Table-62"));
    assert!(answer(harbour.0.recoverable_password(&ida, "quay-sw-1")).unwrap().is_none());
    for (name, expired) in [("old.hand", true), ("new.hand", false), ("ida.marsh", false)] {
        assert_eq!(harbour.account(IdentityKind::User, name).unwrap().expired, expired, "{name}");
    }
    let ola = harbour.account(IdentityKind::User, "ola.nett").unwrap();
    assert_eq!(
        answer(harbour.0.recoverable_password(&ola, "quay-sw-1")).unwrap().unwrap().password.expose(),
        b"Fibre-Spool-90"
    );
    let devices = Asked(registry["devices"].clone());
    assert_eq!(devices.device(Mac([2, 0, 0x5e, 0x20, 0, 0x12])).unwrap().title.read(), "crane controller");
    assert!(devices.device(Mac([2, 0, 0x5e, 0x20, 0, 0x13])).is_none());
    let texts = DeviceTexts::new(dir.path());
    let all = texts.devices(&stores, &records, &DeviceFilter { limit: 100, ..DeviceFilter::default() }).unwrap();
    assert_eq!((all.len(), stores.device_counts().collect::<Vec<_>>()), (18, vec![("devices", 18)]));
    // No file of the database holds a secret in the clear.
    for entry in fs::read_dir(dir.path()).unwrap() {
        let bytes = fs::read(entry.unwrap().path()).unwrap();
        for secret in [&b"bollard-9-anchor"[..], b"Tide-Table-61", b"Fibre-Spool-90"] {
            assert!(!bytes.windows(secret.len()).any(|window| window == secret));
        }
    }
}

#[test]
fn an_inventory_says_what_is_wrong_and_changes_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = Records::open(&dir.path().join("records.sqlite"), &key, 1).unwrap();
    let told = |toml: &str| import(&records, &key, toml).unwrap_err();
    let nas = |rest: &str| format!("[[nas]]\nname = \"a\"\nkind = \"switch\"\nsite = \"s\"\n{rest}");
    let person = |rest: &str| format!("[[store]]\nname = \"h\"\nkind = \"people\"\n[[person]]\nstore = \"h\"\n{rest}");
    assert!(told("[[nas]]\nnaem = \"a\"").contains("line 2"));
    assert!(
        told(&nas("address = \"10.44\"\nsecret = \"gantry-4-lashing\"")).contains("NAS `a`: `10.44` is no address")
    );
    for (secret, bytes) in [("", "0 bytes"), ("x", "1 byte"), ("7bytes!", "7 bytes")] {
        let told = told(&nas(&format!("address = \"10.44.0.1\"\nsecret = \"{secret}\"")));
        assert!(told.contains(&format!("the shared secret has {bytes}: it needs at least 8, better 16")), "{told}");
    }
    assert!(
        told(&nas("address = \"10.44.0.1\"\nsecret = \"gantry-4-lashing\"\ndialect = \"odd\""))
            .contains("there is no dialect `odd`")
    );
    assert!(told(&person("name = \"02005e200001\"\npassword = \"x\"")).contains("never a user name"));
    assert!(told(&person("name = \"a\"\npassword = \"02:00:5e:20:00:01\"")).contains("never a password"));
    assert!(
        told(&person("name = \"a\"\npassword = \"Tide-Table-61\"\nexpires = \"soon\""))
            .contains("`expires` is no time")
    );
    assert!(told("[[person]]\nstore = \"x\"\nname = \"a\"\npassword = \"b\"").contains("there is no store `x`"));
    let ranges = "[[device]]\nstore = \"e\"\nmac = \"02:00:00:00:00:00\"\nlast = \"02:00:00:00:ff:ff\"\n".repeat(70);
    let many = format!("[[store]]\nname = \"e\"\nkind = \"devices\"\n{ranges}");
    assert!(told(&many).contains("it has 4587520 devices and may have 4000000"));
    let two = format!(
        "{}\n[[nas]]\nname = \"b\"\nkind = \"switch\"\nsite = \"s\"\naddress = \"10.44.0.1\"\nsecret = \"mizzen-7-halyard\"",
        nas("address = \"10.44.0.1\"\nsecret = \"gantry-4-lashing\"")
    );
    let told = told(&two);
    assert!(told.contains("NAS `b` would have the address 10.44.0.1, which NAS `a` has"), "{told}");
    assert_eq!(records.rows().unwrap(), Rows::default());
}

#[test]
fn a_key_that_is_readable_broken_or_another_is_told() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("sealing.key");
    let file = dir.path().join("records.sqlite");
    Records::open(&file, &take_key(&path, Path::new("none")).unwrap(), 1).unwrap();
    assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
    let told = SealingKey::load_or_create(&path, Path::new("none")).err().unwrap().to_string();
    assert!(told.contains("has mode 640") && told.contains("chmod 600"), "{told}");
    fs::remove_file(&path).unwrap();
    let missing = SealingKey::load_or_create(&path, &file).err().unwrap();
    assert!(missing.to_string().contains("is missing, and there are records that it sealed"), "{missing}");
    assert!(!path.exists(), "no other was put in its place");
    let other = take_key(&path, Path::new("none")).unwrap();
    assert!(Records::open(&file, &other, 1).unwrap_err().to_string().contains("restore the key file"));
    fs::write(&path, "nothing").unwrap();
    assert!(matches!(SealingKey::load_or_create(&path, Path::new("none")), Err(KeyError::Form(_))));
}

#[test]
fn names_that_differ_in_case_alone_are_one_in_every_script() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = Records::open(&dir.path().join("records.sqlite"), &key, 1).unwrap();
    let people = |names: &[&str]| {
        let store = "[[store]]\nname = \"harbour\"\nkind = \"people\"\n".to_owned();
        let person =
            |name: &&str| format!("[[person]]\nstore = \"harbour\"\nname = \"{name}\"\npassword = \"Tide-Table-61\"\n");
        import(&records, &key, &(store + &names.iter().map(person).collect::<String>()))
    };
    people(&["\u{e9}lodie.marsh", "ida.marsh"]).unwrap();
    for twice in [&["ida.marsh", "Ida.Marsh"], &["\u{e5}sa", "\u{c5}sa"]] {
        let told = people(twice).unwrap_err();
        assert!(told.contains("are the same name here"), "{twice:?}: {told}");
    }
    people(&["IDA.marsh", "\u{c9}lodie.marsh"]).expect("the same ones again, written anew");
    let names: Vec<_> = records.all::<PersonRow>().unwrap().into_iter().map(|row| row.name).collect();
    assert_eq!(names, ["IDA.marsh", "\u{c9}lodie.marsh"]);
}

#[test]
fn a_sealed_value_opens_only_as_what_it_was_sealed() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let sealed = key.seal("the secret of NAS a", b"x");
    assert!(key.open("the secret of NAS b", &sealed).is_err());
    for at in 0..sealed.bytes().len() {
        let mut changed = sealed.bytes().to_vec();
        changed[at] ^= 1;
        assert!(key.open("the secret of NAS a", &Sealed::from_bytes(changed)).is_err());
    }
    assert!(key.open("the secret of NAS a", &Sealed::from_bytes(vec![1; 7])).is_err());
    assert_eq!(sealed.key(), Some(key.id()));
    assert_ne!(sealed, key.seal("the secret of NAS a", b"x"));
}

#[test]
fn one_edition_is_active_and_the_others_are_kept() {
    let dir = tempfile::tempdir().unwrap();
    let records = open(dir.path());
    assert!(records.active_edition().unwrap().is_none());
    let basis = Basis {
        dictionaries: vec![("a.toml".into(), "attribute = []".into())],
        dialects: vec![("standard.toml".into(), "name = \"standard\"".into())],
        attributes: vec![("asset-class".into(), "type = \"text\"".into())],
    };
    for (number, source) in [(1, "first"), (2, "second")] {
        let command = Command::activate(source.into(), records.basis_of(basis.clone()).unwrap());
        assert_eq!(matches!(command, Command::ActivateEdition { basis: BasisOf::New(_), .. }), number == 1);
        assert_eq!(apply(&records, command).unwrap().edition, Some(number));
    }
    assert_eq!(records.active_edition().unwrap().unwrap().files.main, "second");
    let states: Vec<_> = records.editions(u32::MAX, 100).unwrap().into_iter().map(|edition| edition.state).collect();
    assert_eq!(states, ["active", "retired"]);
    // Each with what it was checked with, for as long as somebody may read of it.
    let (first, with) = records.edition(1).unwrap().unwrap();
    assert_eq!((first.files.main.as_str(), first.basis, with), ("first", basis.hash(), basis.clone()));
    assert!(records.edition(3).unwrap().is_none());
    let (dictionaries, dialects) = (basis.dialects.clone(), basis.dictionaries.clone());
    let other = Basis { dictionaries, dialects, attributes: Vec::new() };
    assert_ne!(other.hash(), basis.hash());
}

#[test]
fn tokens_and_administrators_are_known_by_hash_only() {
    let dir = tempfile::tempdir().unwrap();
    let records = open(dir.path());
    let key = key(dir.path());
    let token = new_token();
    let hash = token_hash(&token);
    let (administrator_name, name, expires) = ("Harbour".into(), "ci".into(), Some(9_000));
    let add =
        Command::AddToken { hash, administrator: administrator_name, name, role: Role::Auditor, expires, parent: None };
    let early = apply(&records, add.clone()).unwrap_err();
    assert!(
        matches!(early, RecordsError::Refused(Refusal::NotFound(Missing::Record(RecordName::Administrator(_))))),
        "{early}"
    );
    apply(&records, administrator("harbour", &key, Role::Engineer)).unwrap();
    let known = records.administrator("HARBOUR", &key).unwrap().unwrap();
    assert_eq!(known.row.name, "harbour");
    assert!(verify_password(b"tarnmouth-demo", Some(&known.password_hash)));
    assert!(!verify_password(b"tarnmouth-demo", None));
    apply(&records, add).unwrap();
    let owner = records.token_owner(&token, 8_999).unwrap().unwrap();
    assert_eq!((owner.administrator.as_str(), owner.role), ("harbour", Role::Engineer));
    assert_eq!(owner.token, Some(("ci".into(), Role::Auditor)));
    assert!(records.token_owner(&token, 9_000).unwrap().is_none(), "its time is over");
    assert!(records.token_owner(&new_token(), 0).unwrap().is_none());
    apply(&records, Command::RemoveToken { hash }).unwrap();
    assert!(records.token_owner(&token, 0).unwrap().is_none());
    let again = apply(&records, Command::RemoveToken { hash }).unwrap_err();
    assert_eq!(again.to_string(), "this token is not known");
}

#[test]
fn more_passwords_than_can_be_checked_in_time_are_no_answer_and_cost_nobody_else_theirs() {
    let pool = HashPool::start(1, Duration::from_secs(4));
    let hash = hash_password(b"x");
    let answers = block_on(async {
        // The flood's are wrong: what was proved a moment ago would not wait at all.
        let verify = |asker: &'static str| {
            let password = if asker == "quiet" { b"x" } else { b"y" };
            pool.verify(asker, Secret::new(*password), Some(hash.clone()))
        };
        let busy = (0..1_000).map(|_| ("busy", verify("busy")));
        let mut tries: Vec<_> = busy.map(|(asker, one)| (asker, Box::pin(one))).collect();
        tries.push(("quiet", Box::pin(verify("quiet"))));
        let mut answers = Vec::new();
        // Polled together: all are handed in before the first is done. The flood's are
        // awaited no longer than the quiet one's.
        std::future::poll_fn(|context| {
            tries.retain_mut(|(asker, one)| match one.as_mut().poll(context) {
                std::task::Poll::Ready(answer) => {
                    answers.push((*asker, answer));
                    false
                }
                std::task::Poll::Pending => true,
            });
            match answers.iter().any(|(asker, _)| *asker == "quiet") {
                true => std::task::Poll::Ready(()),
                false => std::task::Poll::Pending,
            }
        })
        .await;
        answers
    });
    let refused = answers.iter().filter(|(asker, answer)| *asker == "busy" && answer.is_err()).count();
    assert!(refused > 500, "{refused} of a flood of 1,000");
    assert!(answers.contains(&("quiet", Ok(true))));
    let before = answers.iter().filter(|(_, answer)| answer.is_ok()).count();
    assert!(before < 20, "it waited behind {before}");
}

proptest::proptest! {
    #[test]
    fn no_inventory_makes_reading_or_importing_panic(
        field in "[a-z-]{1,12}", value in "\\PC{0,40}", address in "[0-9a-f:./-]{0,20}",
    ) {
        let dir = tempfile::tempdir().unwrap();
        let (key, records) = (key(dir.path()), open(dir.path()));
        let quoted = format!("{value:?}");
        for text in [
            value.clone(),
            format!("[[nas]]\n{field} = {quoted}"),
            format!("[[nas]]\nname = \"a\"\nkind = \"switch\"\nsite = \"s\"\nsecret = \"s\"\naddress = \"{address}\""),
            format!("[[store]]\nname = \"e\"\nkind = \"devices\"\n[[device]]\nstore = \"e\"\nmac = \"{address}\""),
        ] {
            if let Ok(inventory) = Inventory::from_toml("inventory.toml", &text) {
                let marked = Marked { by: "harbour", at: 1_000, declared: &DeclaredAttributes::default() };
                let _ = inventory.into_import(&key, &records, &["standard".into()], marked);
            }
        }
    }
}

#[test]
fn machines_nt_hashes_certificates_and_trusts_are_kept_sealed() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("records.sqlite");
    let machines = r#"
    [[store]]
    name = "harbour"
    kind = "people"

    [[person]]
    store = "harbour"
    name = "ida.marsh"
    password = "Tide-Table-61"
    mschap = true

    [[machine]]
    store = "harbour"
    name = "quay-laptop-7"
    password = "Keel-Plate-55"
    mschap = true
    groups = ["harbour-laptops"]

    [[machine]]
    store = "harbour"
    name = "crane-tablet-2"
"#;
    let (name, chain) = ("radius.tarnmouth.example", "-----BEGIN CERTIFICATE-----".to_owned());
    let certificate = CertificateRow::new(name, chain, &Secret::new(*b"a private key"), &key(dir.path()));
    let trust = TrustRow {
        name: "tarnmouth-authority".into(),
        authorities: "PEM".into(),
        whatever: true,
        ocsp_url: Some("http://responder.tarnmouth.example".into()),
        ..TrustRow::default()
    };
    {
        let records = Records::open(&file, &key(dir.path()), 1).unwrap();
        import(&records, &key(dir.path()), machines).unwrap();
        apply(&records, Command::SetCertificate(certificate.clone())).unwrap();
        apply(&records, Command::SetTrust(trust.clone())).unwrap();
    }
    let bytes = std::fs::read(&file).unwrap();
    let hash = regnant_eap::mschap::nt_password_hash("Tide-Table-61");
    assert!(bytes.windows(16).all(|part| part != hash) && bytes.windows(13).all(|part| part != b"a private key"));
    let records = Records::open(&file, &key(dir.path()), 1).unwrap();
    let kept = records.all::<CertificateRow>().unwrap().remove(0);
    assert_eq!(kept, certificate);
    assert_eq!(kept.private_key(&key(dir.path())).unwrap().expose(), b"a private key");
    assert_eq!(records.all::<TrustRow>().unwrap(), [trust]);
    let harbour = Asked(stores(&records, key(dir.path())).registry()["harbour"].clone());
    let challenge = *b"Tide-Tab";
    let mschap = |account: &Account, password: &str| {
        let hash = regnant_eap::mschap::nt_password_hash(password);
        let response = regnant_eap::mschap::challenge_response(&challenge, &hash);
        answer(harbour.0.check_mschap(account, &MsChapResponse { challenge, response }, "quay-sw-1")).unwrap()
    };
    let laptop = harbour.account(IdentityKind::Machine, "QUAY-laptop-7").unwrap();
    assert!(matches!(mschap(&laptop, "Keel-Plate-55"), MsChapAnswer::Right(_)));
    assert!(harbour.password_is_right(&laptop, "Keel-Plate-55"));
    let ida = harbour.account(IdentityKind::User, "ida.marsh").unwrap();
    let session_key = regnant_eap::mschap::hash_of_hash(&hash);
    assert_eq!(mschap(&ida, "Tide-Table-61"), MsChapAnswer::Right(Secret::new(session_key)));
    assert_eq!(mschap(&ida, "Tide-Table-62"), MsChapAnswer::Not(PasswordAnswer::Wrong));
    // Machines and people are apart, and a machine may have no password at all.
    assert!(harbour.account(IdentityKind::User, "quay-laptop-7").is_none());
    let tablet = harbour.account(IdentityKind::Machine, "crane-tablet-2").unwrap();
    assert_eq!(mschap(&tablet, "x"), MsChapAnswer::Unable(Unable::NoHash));
    assert!(!harbour.password_is_right(&tablet, ""));
}

#[test]
fn names_and_passwords_of_machines_are_checked() {
    let dir = tempfile::tempdir().unwrap();
    let records = open(dir.path());
    let told = |entry: &str| {
        let text = format!("[[store]]\nname = \"harbour\"\nkind = \"people\"\n{entry}");
        import(&records, &key(dir.path()), &text).unwrap_err().clone()
    };
    let machine = |rest: &str| told(&format!("[[machine]]\nstore = \"harbour\"\n{rest}"));
    assert!(machine("name = \"host/quay-laptop-7\"").contains("without host/"));
    assert!(machine("name = \"quay-laptop-7\"\nmschap = true").contains("MS-CHAP needs a password"));
    let person = "[[person]]\nstore = \"harbour\"\nname = \"laptop$\"\npassword = \"x\"";
    assert!(told(person).contains("is a machine's"));
}

#[test]
fn an_error_of_an_inventory_names_the_line_and_shows_no_secret() {
    let broken = [
        (
            "[[store]]\nname = \"harbour\"\nkind = \"people\"\n[[person]]\nstore = \"harbour\"\npassword = \"Tide-Table-61\n",
            6,
        ),
        ("[[nas]]\nsecret = \"quay-switch-secret-1\" name = \"x\"\n", 2),
        ("[[nas]]\nname = \"x\"\nsecrets = \"quay-switch-secret-1\"\n", 3),
    ];
    for (text, line) in broken {
        let told = Inventory::from_toml("inventory.toml", text).unwrap_err().to_string();
        assert!(told.starts_with(&format!("inventory.toml: line {line}: ")), "{told}");
        assert!(!told.contains("Tide") && !told.contains("secret-1"), "{told}");
    }
}

#[test]
fn devices_are_found_by_words_and_digits_as_they_change() {
    let dir = tempfile::tempdir().unwrap();
    let (key, records) = (key(dir.path()), open(dir.path()));
    let lines = (0..3_000).map(|number| {
        format!(
            "[[device]]\nstore = \"devices\"\nmac = \"02:00:5e:20:{:02x}:{:02x}\"\ntitle = \"Crane {number}\"\nowner = \"Hall {}\"\n",
            number / 256, number % 256, number % 7
        )
    });
    let store = "[[store]]\nname = \"devices\"\nkind = \"devices\"\n".to_owned();
    import(&records, &key, &(store + &lines.collect::<String>())).unwrap();
    let mut stores = stores(&records, key.clone());
    let texts = DeviceTexts::new(dir.path());
    texts.write(&records).unwrap();
    let titles = |stores: &LocalStores, words: &str, after: Option<Mac>, limit| {
        let words = words.split_whitespace().map(str::to_owned).collect();
        let after = after.map(|mac| ("devices".into(), mac));
        let filter = DeviceFilter { words, after, limit, ..DeviceFilter::default() };
        let found = texts.devices(stores, &records, &filter).unwrap();
        found.into_iter().map(|row| row.title).collect::<Vec<_>>()
    };
    assert_eq!(titles(&stores, "CRANE 2999", None, 9), ["Crane 2999"]);
    assert_eq!(titles(&stores, "rane hall", None, 2), ["Crane 0", "Crane 1"]);
    assert_eq!(titles(&stores, "rane hall", Some(Mac([2, 0, 0x5e, 0x20, 4, 0])), 2), ["Crane 1025", "Crane 1026"]);
    assert_eq!(titles(&stores, "20.0bb7", None, 9), ["Crane 2999"]);
    // `00` begins every address, and is no reason to find what a number merely begins with.
    assert!(titles(&stores, "0001000000", None, 9).is_empty());
    // What changes is found as it is, before and after the file is written anew.
    let number = |last| RecordName::Device { store: "devices".into(), mac: Mac([2, 0, 0x5e, 0x20, 0, last]) };
    let found = records.find(&number(1)).unwrap().devices.remove(0);
    let rows = Rows { devices: vec![DeviceRow { title: "Gantry".into(), ..found }], ..Rows::default() };
    let gone = vec![number(1)];
    let change = Command::Change { was: gone.clone(), rows: rows.clone() };
    apply(&records, change.clone()).unwrap();
    stores.follow(&change);
    assert!(!texts.note(&records, &gone, &rows).unwrap());
    let removal = Command::Remove(vec![number(2)]);
    apply(&records, removal.clone()).unwrap();
    stores.follow(&removal);
    assert!(!texts.note(&records, &[number(2)], &Rows::default()).unwrap());
    for _ in 0..2 {
        assert_eq!(titles(&stores, "gantry", None, 9), ["Gantry"]);
        assert_eq!(titles(&stores, "hall", None, 3), ["Crane 0", "Gantry", "Crane 3"]);
        assert!(titles(&stores, "crane", None, 9).iter().all(|title| title != "Crane 1" && title != "Crane 2"));
        texts.write(&records).unwrap();
    }
    let many = DeviceRow { last: Mac([2, 0, 0x5e, 0x21, 0xff, 0xff]), ..records.all::<DeviceRow>().unwrap().remove(0) };
    let many = DeviceRow { first: Mac([2, 0, 0x5e, 0x21, 0, 0]), ..many };
    assert!(texts.note(&records, &[], &Rows { devices: vec![many], ..Rows::default() }).unwrap(), "write it anew");
}
