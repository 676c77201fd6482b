//! Records as the service uses them: opened, changed, read, and closed.
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::Arc;

use regnant_access::*;
use regnant_policy::{IdentityKind, Mac};
use regnant_radius::Secret;
use regnant_records::*;

fn key(dir: &Path) -> Arc<SealingKey> {
    Arc::new(SealingKey::load_or_create(&dir.join("sealing.key"), &dir.join("none")).unwrap())
}

fn import(records: &Records, key: &SealingKey, toml: &str) -> Result<(), String> {
    let inventory = Inventory::from_toml("inventory.toml", toml).map_err(|error| error.to_string())?;
    let change = inventory
        .into_change(key, &records.stores().unwrap(), &records.names_beyond_ascii().unwrap(), &["standard".into()])
        .map_err(|error| error.to_string())?;
    records.apply(&change).map_err(|error| error.to_string())
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
        let records = Records::open(&file, &key(dir.path())).unwrap();
        import(&records, &key(dir.path()), HARBOUR).unwrap();
    }
    let records = Records::open(&file, &key(dir.path())).unwrap();
    let nases = records.nases(&key(dir.path())).unwrap();
    assert_eq!((nases[0].name.as_str(), nases[0].require_message_authenticator), ("quay-sw-1", true));
    let stores = LocalStores::load(&records, key(dir.path()), HashPool::start(1)).unwrap();
    block_on(async {
        let ida = stores.account("harbour", IdentityKind::User, "ida.marsh").await.unwrap().unwrap();
        assert_eq!((ida.name.as_str(), ida.groups.len()), ("Ida.Marsh", 2));
        let right =
            |password: &str| stores.password_is_right("harbour", &ida, Secret::new(password.as_bytes()), "quay-sw-1");
        assert!(right("Tide-Table-61").await.unwrap());
        assert!(!right("Tide-Table-62").await.unwrap());
        assert!(stores.recoverable_password("harbour", &ida).await.unwrap().is_none());
        for (name, expired) in [("old.hand", true), ("new.hand", false), ("ida.marsh", false)] {
            assert_eq!(
                stores.account("harbour", IdentityKind::User, name).await.unwrap().unwrap().expired,
                expired,
                "{name}"
            );
        }
        let ola = stores.account("harbour", IdentityKind::User, "ola.nett").await.unwrap().unwrap();
        let kept = stores.recoverable_password("harbour", &ola).await.unwrap().unwrap();
        assert_eq!(kept.expose(), b"Fibre-Spool-90");
        let last = stores.device("devices", Mac([2, 0, 0x5e, 0x20, 0, 0x12])).await.unwrap().unwrap();
        assert_eq!(last.title, "crane controller");
        assert!(stores.device("devices", Mac([2, 0, 0x5e, 0x20, 0, 0x13])).await.unwrap().is_none());
        assert!(stores.device("gone", Mac([0; 6])).await.is_err());
    });
    assert_eq!(stores.devices().len(), 18);
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
    let records = Records::open(&dir.path().join("records.sqlite"), &key).unwrap();
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
    assert!(told(&person("name = \"a\"\npassword = \"b\"\nexpires = \"soon\"")).contains("`expires` is no time"));
    assert!(told("[[person]]\nstore = \"x\"\nname = \"a\"\npassword = \"b\"").contains("there is no store `x`"));
    let two = format!(
        "{}\n[[nas]]\nname = \"b\"\nkind = \"switch\"\nsite = \"s\"\naddress = \"10.44.0.1\"\nsecret = \"mizzen-7-halyard\"",
        nas("address = \"10.44.0.1\"\nsecret = \"gantry-4-lashing\"")
    );
    assert!(told(&two).contains("the same address"));
    assert!(records.nas_rows().unwrap().is_empty() && records.stores().unwrap().is_empty());
}

#[test]
fn a_key_that_is_readable_broken_or_another_is_told() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("sealing.key");
    let file = dir.path().join("records.sqlite");
    Records::open(&file, &SealingKey::load_or_create(&path, Path::new("none")).unwrap()).unwrap();
    assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
    let told = SealingKey::load_or_create(&path, Path::new("none")).err().unwrap().to_string();
    assert!(told.contains("has mode 640") && told.contains("chmod 600"), "{told}");
    fs::remove_file(&path).unwrap();
    let missing = SealingKey::load_or_create(&path, &file).err().unwrap();
    assert!(missing.to_string().contains("is missing, and there are records that it sealed"), "{missing}");
    assert!(!path.exists(), "no other was put in its place");
    let other = SealingKey::load_or_create(&path, Path::new("none")).unwrap();
    assert!(Records::open(&file, &other).unwrap_err().to_string().contains("restore the key file"));
    fs::write(&path, "nothing").unwrap();
    assert!(matches!(SealingKey::load_or_create(&path, Path::new("none")), Err(KeyError::Form(_))));
}

#[test]
fn a_change_that_nothing_follows_from_is_not_made() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = Records::open(&dir.path().join("records.sqlite"), &key).unwrap();
    let inventory = Inventory::from_toml("x", "[[store]]\nname = \"harbour\"\nkind = \"people\"\n").unwrap();
    let change = inventory.into_change(&key, &[], &[], &["standard".into()]).unwrap();
    let built = records.apply_and(&change, |pending| {
        assert_eq!(pending.stores()?.len(), 1, "it is seen while it is built upon");
        Err::<(), _>(RecordsError::SameAddress)
    });
    assert!(built.is_err() && records.stores().unwrap().is_empty());
    records.apply_and(&change, |_| Ok::<_, RecordsError>(())).unwrap();
    assert_eq!(records.stores().unwrap().len(), 1);
}

#[test]
fn names_that_differ_in_case_alone_are_one_in_every_script() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let records = Records::open(&dir.path().join("records.sqlite"), &key).unwrap();
    let people = |names: &[&str]| {
        let store = "[[store]]\nname = \"harbour\"\nkind = \"people\"\n".to_owned();
        let person =
            |name: &&str| format!("[[person]]\nstore = \"harbour\"\nname = \"{name}\"\npassword = \"Tide-Table-61\"\n");
        import(&records, &key, &(store + &names.iter().map(person).collect::<String>()))
    };
    people(&["\u{e9}lodie.marsh", "ida.marsh"]).unwrap();
    for twice in [&["\u{c9}lodie.marsh"][..], &["ida.marsh", "Ida.Marsh"], &["\u{e5}sa", "\u{c5}sa"]] {
        let told = people(twice).unwrap_err();
        assert!(told.contains("are the same name here"), "{twice:?}: {told}");
    }
    people(&["IDA.marsh", "\u{e9}lodie.marsh"]).expect("the same one again, written anew");
}

#[test]
fn a_sealed_value_opens_only_as_what_it_was_sealed() {
    let dir = tempfile::tempdir().unwrap();
    let key = key(dir.path());
    let sealed = key.seal("the secret of NAS a", b"x");
    assert!(key.open("the secret of NAS b", &sealed).is_err());
    for at in 0..sealed.len() {
        let mut changed = sealed.clone();
        changed[at] ^= 1;
        assert!(key.open("the secret of NAS a", &changed).is_err());
    }
    assert_ne!(sealed, key.seal("the secret of NAS a", b"x"));
}

#[test]
fn one_edition_is_active_and_the_others_are_kept() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(&dir.path().join("records.sqlite"), &key(dir.path())).unwrap();
    assert!(records.active_edition().unwrap().is_none());
    let basis = Basis {
        dictionaries: vec![("a.toml".into(), "attribute = []".into())],
        dialects: vec![("standard.toml".into(), "name = \"standard\"".into())],
    };
    for (number, source) in [(1, "first"), (2, "second")] {
        assert_eq!(records.next_edition().unwrap(), number);
        records.apply(&Change::activate_edition(number, source, &basis, 1000, "harbour")).unwrap();
    }
    assert_eq!(records.active_edition().unwrap().unwrap().source, "second");
    let states: Vec<_> = records.editions().unwrap().into_iter().map(|edition| edition.state).collect();
    assert_eq!(states, ["active", "retired"]);
    // Each with what it was checked with, for as long as somebody may read of it.
    let (first, with) = records.edition(1).unwrap().unwrap();
    assert_eq!((first.source.as_str(), first.basis, with), ("first", Some(basis.hash().to_vec()), Some(basis.clone())));
    assert!(records.edition(3).unwrap().is_none());
    let other = Basis { dictionaries: basis.dialects.clone(), dialects: basis.dictionaries.clone() };
    assert_ne!(other.hash(), basis.hash());
}

#[test]
fn tokens_and_administrators_are_known_by_hash_only() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(&dir.path().join("records.sqlite"), &key(dir.path())).unwrap();
    records.apply(&Change::administrator("harbour", &hash_password(b"tarnmouth-demo"), 1)).unwrap();
    let (name, hash) = records.administrator("Harbour").unwrap().unwrap();
    assert_eq!(name, "harbour");
    assert!(verify_password(b"tarnmouth-demo", Some(&hash)));
    assert!(!verify_password(b"tarnmouth-demo", None));
    let token = new_token();
    records.apply(&Change::token(token_hash(&token), "harbour", 2)).unwrap();
    assert_eq!(records.token_owner(&token).unwrap().as_deref(), Some("harbour"));
    assert!(records.token_owner(&new_token()).unwrap().is_none());
    records.apply(&Change::forget_token(token_hash(&token))).unwrap();
    assert!(records.token_owner(&token).unwrap().is_none());
}

#[test]
fn more_passwords_than_can_be_checked_in_time_are_no_answer_and_cost_nobody_else_theirs() {
    let pool = HashPool::start(1);
    let hash = hash_password(b"x");
    let answers = block_on(async {
        let verify = |asker: &'static str| pool.verify(asker, Secret::new(*b"x"), Some(hash.clone()));
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
        let key = key(dir.path());
        let quoted = format!("{value:?}");
        for text in [
            value.clone(),
            format!("[[nas]]\n{field} = {quoted}"),
            format!("[[nas]]\nname = \"a\"\nkind = \"switch\"\nsite = \"s\"\nsecret = \"s\"\naddress = \"{address}\""),
            format!("[[store]]\nname = \"e\"\nkind = \"devices\"\n[[device]]\nstore = \"e\"\nmac = \"{address}\""),
        ] {
            if let Ok(inventory) = Inventory::from_toml("inventory.toml", &text) {
                let _ = inventory.into_change(&key, &[], &[], &["standard".into()]);
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
    let certificate = CertificateRow {
        name: "radius.tarnmouth.example".into(),
        chain: "-----BEGIN CERTIFICATE-----".into(),
        key: Secret::new(*b"a private key"),
    };
    let trust = TrustRow {
        name: "tarnmouth-authority".into(),
        authorities: "PEM".into(),
        whatever: true,
        ocsp_url: Some("http://responder.tarnmouth.example".into()),
        ..TrustRow::default()
    };
    {
        let records = Records::open(&file, &key(dir.path())).unwrap();
        import(&records, &key(dir.path()), machines).unwrap();
        records.apply(&Change::certificate(&certificate, &key(dir.path()), 1)).unwrap();
        records.apply(&Change::trust(&trust, 1)).unwrap();
    }
    let bytes = std::fs::read(&file).unwrap();
    let hash = regnant_eap::mschap::nt_password_hash("Tide-Table-61");
    assert!(bytes.windows(16).all(|part| part != hash) && bytes.windows(13).all(|part| part != b"a private key"));
    let records = Records::open(&file, &key(dir.path())).unwrap();
    let kept = records.certificates(&key(dir.path())).unwrap().remove(0);
    assert_eq!((kept.name, kept.key.expose()), (certificate.name, &b"a private key"[..]));
    assert_eq!(records.trusts().unwrap(), [trust]);
    let stores = LocalStores::load(&records, key(dir.path()), HashPool::start(1)).unwrap();
    block_on(async {
        let account = |kind, name| stores.account("harbour", kind, name);
        let laptop = account(IdentityKind::Machine, "QUAY-laptop-7").await.unwrap().unwrap();
        assert_eq!(stores.nt_hash("harbour", &laptop).await.unwrap().unwrap().expose().len(), 16);
        assert!(
            stores.password_is_right("harbour", &laptop, Secret::new(*b"Keel-Plate-55"), "quay-sw-1").await.unwrap()
        );
        let ida = account(IdentityKind::User, "ida.marsh").await.unwrap().unwrap();
        assert_eq!(stores.nt_hash("harbour", &ida).await.unwrap().unwrap().expose(), hash);
        // Machines and people are apart, and a machine may have no password at all.
        assert!(account(IdentityKind::User, "quay-laptop-7").await.unwrap().is_none());
        let tablet = account(IdentityKind::Machine, "crane-tablet-2").await.unwrap().unwrap();
        assert!(stores.nt_hash("harbour", &tablet).await.unwrap().is_none());
        assert!(!stores.password_is_right("harbour", &tablet, Secret::new(*b""), "quay-sw-1").await.unwrap());
    });
}

#[test]
fn names_and_passwords_of_machines_are_checked() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(&dir.path().join("records.sqlite"), &key(dir.path())).unwrap();
    let told = |entry: &str| {
        let text = format!("[[store]]\nname = \"harbour\"\nkind = \"people\"\n{entry}");
        import(&records, &key(dir.path()), &text).unwrap_err().to_string()
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
