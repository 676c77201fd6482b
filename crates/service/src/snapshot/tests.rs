//! A snapshot that was carried along equals the one that is read whole, on every node that has the same log.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, LazyLock};
use std::time::Duration;

use proptest::prelude::*;
use proptest::sample::select;
use regnant_base::{Mac, Secret};
use regnant_certificates::{Bundle, Issued, self_signed};
use regnant_decision::{AttributeKind, IdentityAttribute, NasKind, StoreReply};
use regnant_outside::Never;
use regnant_policy::IdentityKind;
use regnant_records::*;
use tokio::runtime::Runtime;

use super::{CheckedEditions, Environment, Next, Snapshot};
use crate::administration::downloads::Fetched;
use crate::administration::issuers::Issuers;
use crate::heard::HeardOfNases;
use crate::languages::Languages;

static RUNTIME: LazyLock<Runtime> = LazyLock::new(|| Runtime::new().unwrap());
static OWN: LazyLock<Issued> =
    LazyLock::new(|| self_signed(&["radius.harbour.example".to_owned()], 0, 1 << 32).unwrap());

const STORES: [&str; 4] = ["harbour", "crew", "things", "cranes"];
const NAMES: [&str; 3] = ["ida.marsh", "Jonas", "IDA.MARSH"];
const NASES: [&str; 3] = ["quay-sw-1", "Quay-SW-1", "yard-sw-1"];
const NETWORKS: [&str; 4] = ["127.0.0.11", "127.0.0.12", "10.44.0.0/16", "10.0.0.0/8"];
const POLICIES: [&str; 4] = [
    "gate nobody { otherwise refuse }\n",
    "gate wired { accept eap-tls present certificate \"own\" trust \"theirs\" { user from san-upn }\n  identify user in harbour otherwise grant lan }\ngrant lan { vlan 7 }\n",
    "gate things { accept mac identify mac in things otherwise grant lan }\ngrant lan { vlan 7 send Tunnel-Password = secret \"psk\" }\n",
    "gate nobody { this release knows nothing of it }\n",
];
const DIALECTS: [&str; 2] =
    ["name = \"quay\"\n", "name = \"quay\"\n[statements]\nrole = { attribute = \"Filter-Id\", value = \"r-{}\" }\n"];

/// A node: its records and its key, which all nodes have.
struct Node {
    records: Records,
    environment: Environment,
}

impl Node {
    fn new(folder: &Path, key: &Arc<SealingKey>) -> Self {
        std::fs::create_dir(folder).unwrap();
        let never = Never::new(&[]);
        let file = |name: &str| folder.join(name);
        let environment = Environment {
            key: key.clone(),
            pool: HashPool::start(1, Duration::from_secs(4)),
            folder: folder.into(),
            lists: Fetched::default(),
            list_file: FetchedLists::open(&file("lists.sqlite")).unwrap(),
            staples: Fetched::default(),
            issuers: Arc::new(Issuers::new(RUNTIME.handle().clone(), never.clone())),
            heard: HeardOfNases::restored(regnant_journal::HeardFile::open(&file("heard.sqlite")).unwrap()).unwrap(),
            console_tls: None,
            runtime: RUNTIME.handle().clone(),
            never,
            checked: CheckedEditions::default(),
        };
        let records = Records::open(&file("records.sqlite"), key, 1).unwrap();
        Self { records, environment }
    }

    fn whole(&self) -> Snapshot {
        self.environment.snapshot(&self.records).unwrap()
    }

    /// Applies a command, and gives the snapshot that follows from it.
    fn apply(&self, before: &Snapshot, envelope: &Envelope) -> Option<Snapshot> {
        let committed = self.records.commit(envelope, |pending, done| {
            let mut next = Next::new(&self.environment, before);
            next.take(&envelope.command, done);
            Ok::<_, RecordsError>(next.of(pending))
        });
        committed.ok()?.built
    }
}

/// What a snapshot comes to: two of which the same is told decide the same.
fn told(snapshot: &Snapshot) -> Vec<String> {
    let mut told = Vec::new();
    let mut nases: Vec<_> = snapshot.nases.iter().map(|nas| format!("{nas:?}")).collect();
    nases.sort_unstable();
    told.extend(nases);
    for address in ["127.0.0.11", "127.0.0.12", "10.44.0.1", "10.45.0.1"] {
        let found = snapshot.nases.find(address.parse().unwrap()).map(|nas| nas.name.clone());
        told.push(format!("{address} is {found:?}"));
    }
    let mut registry: Vec<_> = snapshot.registry().into_iter().collect();
    registry.sort_by(|one, other| one.0.cmp(&other.0));
    for (name, store) in registry {
        told.push(format!("store {name} of {}", store.kind()));
        for kind in [IdentityKind::User, IdentityKind::Machine].into_iter().filter(|_| store.is_at_hand()) {
            for who in NAMES {
                if let StoreReply::Now(found) = store.account(kind, who, "here") {
                    told.push(format!("{kind:?} {who}: {found:?}"));
                }
            }
        }
        for last in (0..4).filter(|_| store.is_at_hand()) {
            if let StoreReply::Now(found) = store.device(mac(last), "here") {
                let lasting = found.map(|found| found.map(|device| (device.groups.clone(), device.barred)));
                told.push(format!("device {last}: {lasting:?}"));
            }
        }
    }
    let outside = snapshot.outside.all().map(|(name, _)| name);
    told.push(format!(
        "outside: {:?}; by theirs {:?}",
        outside.collect::<Vec<_>>(),
        snapshot.outside.with_trust("theirs").collect::<Vec<_>>()
    ));
    told.push(format!("languages: {:?}", snapshot.languages.own));
    let edition = &snapshot.active.edition;
    let source = edition.policy.source().main();
    told.push(format!("edition {} {source:?} of {:?}", edition.number, edition.vocabulary.table().attributes()));
    told.push(format!("earlier: {:?}", snapshot.active.earlier.iter().map(|one| one.number).collect::<Vec<_>>()));
    told.push(format!("offers: {:?}", snapshot.active.policy.offers));
    told.push(format!("stores asked: {:?}", snapshot.active.policy.stores));
    told.push(format!("secrets: {:?}", snapshot.active.secrets));
    let mut unusable: Vec<_> = snapshot.unusable().map(ToString::to_string).collect();
    unusable.sort_unstable();
    told.extend(unusable);
    told
}

fn mac(last: u8) -> Mac {
    Mac([2, 0, 0x5e, 0x20, 0, last])
}

/// What is to be done, whatever there is.
#[derive(Clone, Debug)]
enum Deed {
    Nas { was: Option<&'static str>, name: &'static str, network: &'static str, wrong: bool },
    Person { was: Option<&'static str>, store: &'static str, name: &'static str, wrong: bool, disabled: bool },
    Machine { store: &'static str, name: &'static str },
    Device { store: &'static str, first: u8, barred: bool },
    Store { name: &'static str, kind: StoreKind },
    Rename { from: &'static str, to: &'static str },
    Remove(RecordName),
    Certificate { waits: bool, wrong: bool },
    Trust { readable: bool },
    Secret { name: &'static str, wrong: bool },
    Language { row: LanguageRow },
    NoLanguage { kind: LanguageKind, name: &'static str },
    Policy(&'static str),
    SignOut,
}

fn deed() -> impl Strategy<Value = Deed> {
    let (nas, network, store, name) =
        (select(&NASES[..]), select(&NETWORKS[..]), select(&STORES[..]), select(&NAMES[..]));
    let wrong = prop::bool::weighted(0.15);
    let kinds =
        select(&[StoreKind::People, StoreKind::People, StoreKind::Devices, StoreKind::Devices, StoreKind::Http][..]);
    let attribute = |kind| {
        declaration(&IdentityAttribute { of: IdentityKind::Mac, name: "berth".into(), kind, meaning: "Where.".into() })
    };
    let languages = vec![
        LanguageRow { kind: LanguageKind::Dialect, name: "quay".into(), text: DIALECTS[0].into() },
        LanguageRow { kind: LanguageKind::Dialect, name: "quay".into(), text: DIALECTS[1].into() },
        LanguageRow { kind: LanguageKind::Dialect, name: "broken".into(), text: "name = ".into() },
        attribute(AttributeKind::Text),
        attribute(AttributeKind::Boolean),
    ];
    let gone = prop_oneof![
        nas.clone().prop_map(|name| RecordName::Nas(name.into())),
        store.clone().prop_map(|name| RecordName::Store(name.into())),
        (store.clone(), name.clone())
            .prop_map(|(store, name)| RecordName::Person { store: store.into(), name: name.into() }),
        (store.clone(), name.clone())
            .prop_map(|(store, name)| RecordName::Machine { store: store.into(), name: name.into() }),
        (store.clone(), 0..4_u8).prop_map(|(store, last)| RecordName::Device { store: store.into(), mac: mac(last) }),
        Just(RecordName::Certificate("own".into())),
        Just(RecordName::Trust("theirs".into())),
        Just(RecordName::Secret("psk".into())),
    ];
    prop_oneof![
        3 => (prop::option::of(nas.clone()), nas, network, wrong)
            .prop_map(|(was, name, network, wrong)| Deed::Nas { was, name, network, wrong }),
        4 => (prop::option::of(name.clone()), store.clone(), name.clone(), wrong, any::<bool>())
            .prop_map(|(was, store, name, wrong, disabled)| Deed::Person { was, store, name, wrong, disabled }),
        1 => (store.clone(), name).prop_map(|(store, name)| Deed::Machine { store, name }),
        4 => (store.clone(), 0..4_u8, any::<bool>()).prop_map(|(store, first, barred)| Deed::Device { store, first, barred }),
        4 => (store.clone(), kinds).prop_map(|(name, kind)| Deed::Store { name, kind }),
        2 => (store.clone(), store).prop_map(|(from, to)| Deed::Rename { from, to }),
        4 => gone.prop_map(Deed::Remove),
        2 => (any::<bool>(), wrong).prop_map(|(waits, wrong)| Deed::Certificate { waits, wrong }),
        2 => any::<bool>().prop_map(|readable| Deed::Trust { readable }),
        2 => (select(&["psk", "PSK"][..]), wrong).prop_map(|(name, wrong)| Deed::Secret { name, wrong }),
        2 => select(languages).prop_map(|row| Deed::Language { row }),
        1 => select(&[(LanguageKind::Dialect, "quay"), (LanguageKind::Attribute, "device.berth")][..])
            .prop_map(|(kind, name)| Deed::NoLanguage { kind, name }),
        3 => select(&POLICIES[..]).prop_map(Deed::Policy),
        1 => Just(Deed::SignOut),
    ]
}

/// The deed as a command: what a node finds depends on nothing but the log.
fn command(deed: &Deed, key: &SealingKey, now: &Snapshot) -> Command {
    let change = |was: Option<RecordName>, rows: Rows| match was {
        Some(was) => Command::Change { was: vec![was], rows },
        None => Command::Import(Import { file: "0123".into(), rows }),
    };
    // What is sealed as something else opens as nothing.
    let of = |wrong: bool, name: &str| if wrong { "another".to_owned() } else { name.to_owned() };
    let basis = |languages: &Languages| BasisOf::New(languages.basis());
    match deed.clone() {
        Deed::Nas { was, name, network, wrong } => {
            let secret =
                key.seal(&format!("the secret of NAS {}", of(wrong, &name.to_lowercase())), b"bollard-9-anchor");
            let row = NasRow {
                name: name.into(),
                networks: vec![network.parse().unwrap()],
                kind: NasKind::Switch,
                site: "quayside".into(),
                tags: Vec::new(),
                note: String::new(),
                dialect: "standard".into(),
                radius: RadiusRow {
                    secret,
                    former_secret: None,
                    require_message_authenticator: true,
                    class_at_login: false,
                },
            };
            change(was.map(|was| RecordName::Nas(was.into())), Rows { nases: vec![row], ..Rows::default() })
        }
        Deed::Person { was, store, name, wrong, disabled } => {
            let context = format!("the password hash of person {} in {store}", of(wrong, &name.to_lowercase()));
            let row = PersonRow {
                store: store.into(),
                name: name.into(),
                password_hash: key.seal(&context, b"$argon2id$x"),
                recoverable: None,
                nt_hash: None,
                groups: vec!["staff".into()],
                disabled,
                expires: None,
                engineers_only: false,
                ordinary: false,
                note: String::new(),
            };
            let was = was.map(|was| RecordName::Person { store: store.into(), name: was.into() });
            change(was, Rows { people: vec![row], ..Rows::default() })
        }
        Deed::Machine { store, name } => {
            let (store, name) = (store.to_owned(), name.to_owned());
            let (groups, note) = (Vec::new(), String::new());
            let row = MachineRow {
                store,
                name,
                password_hash: None,
                nt_hash: None,
                groups,
                disabled: false,
                expires: None,
                note,
            };
            change(None, Rows { machines: vec![row], ..Rows::default() })
        }
        Deed::Device { store, first, barred } => {
            let barred = barred.then(|| Barred { reason: "stolen".into(), by: "desk".into(), at: 5 });
            let row = DeviceRow {
                store: store.into(),
                first: mac(first),
                last: mac(3),
                title: "crane".into(),
                groups: vec!["cranes".into()],
                owner: String::new(),
                note: String::new(),
                expires: None,
                attributes: AttributeValues::new(),
                barred,
            };
            change(None, Rows { devices: vec![row], ..Rows::default() })
        }
        Deed::Store { name, kind } => {
            let row = match kind {
                StoreKind::Http => {
                    let settings = r#"{"url": "https://127.0.0.1:9/{name}", "trust": "theirs", "facts": {}}"#;
                    StoreRow::outside(name, kind, settings.into(), Some(&Secret::new(b"x")), key)
                }
                kind => StoreRow::local(name, kind),
            };
            change(None, Rows { stores: vec![row], ..Rows::default() })
        }
        Deed::Rename { from, to } => {
            let kind = now.registry().get(from).map_or(StoreKind::People, |store| match store.kind() {
                word if word == StoreKind::Devices.word() => StoreKind::Devices,
                _ => StoreKind::People,
            });
            let rows = Rows { stores: vec![StoreRow::local(to, kind)], ..Rows::default() };
            change(Some(RecordName::Store(from.into())), rows)
        }
        Deed::Remove(name) => Command::Remove(vec![name]),
        Deed::Certificate { waits, wrong } => {
            let bundle = Bundle::from_pem(&format!("{}{}", OWN.certificate, OWN.key)).unwrap();
            let private = Secret::new(bundle.key.unwrap().expose());
            let chain = if waits { String::new() } else { OWN.certificate.clone() };
            let sealed = CertificateRow::new(&of(wrong, "own"), chain, &private, key);
            Command::SetCertificate(CertificateRow { name: "own".into(), ..sealed })
        }
        Deed::Trust { readable } => Command::SetTrust(TrustRow {
            name: "theirs".into(),
            authorities: if readable { OWN.certificate.clone() } else { "nothing".into() },
            whatever: true,
            ..TrustRow::default()
        }),
        Deed::Secret { name, wrong } => {
            let sealed = SecretRow::new(&of(wrong, name), &Secret::new(b"halyard"), key);
            Command::SetSecret(SecretRow { name: name.into(), ..sealed })
        }
        Deed::Language { row } => {
            let basis = match now.languages.with(row.clone(), "file") {
                Ok(languages) => basis(&languages),
                Err(_) => basis(&now.languages),
            };
            Command::SetLanguage { row, basis }
        }
        Deed::NoLanguage { kind, name } => {
            let languages = Languages::new(now.languages.without(kind, name), LanguageRow::file);
            let basis = languages.map_or_else(|_| basis(&now.languages), |languages| basis(&languages));
            Command::RemoveLanguage { kind, name: name.into(), basis }
        }
        Deed::Policy(text) => Command::activate(text.into(), basis(&now.languages)),
        Deed::SignOut => Command::Personal(Personal::CloseSession { hash: token_hash("none") }),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(6))]

    /// One node takes each command as it comes; another takes several together, and now and then is killed between a
    /// commit and the swap, so that it reads all anew.
    #[test]
    fn a_snapshot_that_is_carried_along_is_the_one_that_is_read_whole(
        deeds in prop::collection::vec(deed(), 1..30),
        together in prop::collection::vec((1..6_usize, prop::bool::weighted(0.15)), 40),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let key = Arc::new(SealingKey::create(&folder.path().join("key")).unwrap());
        let [one, two] = ["one", "two"].map(|name| Node::new(&folder.path().join(name), &key));
        let (mut carried, mut log) = (one.whole(), Vec::new());
        for deed in &deeds {
            let envelope = Envelope::new(&Author::machine(), 1_000, command(deed, &key, &carried));
            if let Some(after) = one.apply(&carried, &envelope) {
                carried = after;
            }
            log.push(envelope);
        }
        prop_assert_eq!(told(&carried), told(&one.whole()));
        let (mut behind, mut rest) = (two.whole(), &log[..]);
        for (many, killed) in together {
            let (now, later) = rest.split_at(many.min(rest.len()));
            rest = later;
            let after = two.records.batch(|batch| {
                let mut next = Next::new(&two.environment, &behind);
                for envelope in now {
                    if let Ok(done) = batch.apply(envelope)? {
                        next.take(&envelope.command, done);
                    }
                }
                Ok::<_, RecordsError>((next.of(batch), Keep::All))
            });
            behind = if killed { two.whole() } else { after.unwrap() };
        }
        prop_assert!(rest.is_empty());
        prop_assert_eq!(told(&carried), told(&behind));
    }
}

/// Access may last under each of them, though nobody decided by those in between on this node.
#[test]
fn editions_that_come_together_are_all_remembered() {
    let folder = tempfile::tempdir().unwrap();
    let key = Arc::new(SealingKey::create(&folder.path().join("key")).unwrap());
    let node = Node::new(&folder.path().join("one"), &key);
    let before = node.whole();
    let after = node.records.batch(|batch| {
        let mut next = Next::new(&node.environment, &before);
        for _ in 0..3 {
            let command = command(&Deed::Policy(POLICIES[0]), &key, &before);
            let done = batch.apply(&Envelope::new(&Author::machine(), 1_000, command.clone()))?;
            next.take(&command, done.unwrap());
        }
        Ok::<_, RecordsError>((next.of(batch), Keep::All))
    });
    let after = after.unwrap();
    let earlier: Vec<_> = after.active.earlier.iter().map(|edition| edition.number).collect();
    assert_eq!((after.active.edition.number, earlier), (3, vec![2, 1]));
    assert_eq!(told(&after), told(&node.whole()));
}

#[test]
fn what_a_node_cannot_use_refuses_and_all_else_takes_effect() {
    let folder = tempfile::tempdir().unwrap();
    let key = Arc::new(SealingKey::create(&folder.path().join("key")).unwrap());
    let node = Node::new(&folder.path().join("one"), &key);
    let mut now = node.whole();
    let unusable = |snapshot: &Snapshot| snapshot.unusable().map(|one| one.what.clone()).collect::<Vec<_>>();
    assert_eq!(unusable(&now), ["edition 0"], "there is none yet");
    let deeds = [
        (Deed::Policy(POLICIES[0]), &[][..]),
        (Deed::Store { name: "harbour", kind: StoreKind::People }, &[]),
        (Deed::Store { name: "things", kind: StoreKind::Devices }, &[]),
        (Deed::Trust { readable: true }, &[]),
        (Deed::Certificate { waits: false, wrong: false }, &[]),
        (Deed::Policy(POLICIES[1]), &[]),
        (Deed::Certificate { waits: false, wrong: true }, &["certificate `own`", "gate `wired`"]),
        // A device is barred though a gate cannot be offered.
        (Deed::Device { store: "things", first: 3, barred: true }, &["certificate `own`", "gate `wired`"]),
        (Deed::Certificate { waits: false, wrong: false }, &[]),
        (Deed::Nas { was: None, name: "yard-sw-1", network: "127.0.0.12", wrong: true }, &["NAS `yard-sw-1`"]),
        (Deed::Nas { was: None, name: "yard-sw-1", network: "127.0.0.12", wrong: false }, &[]),
        (
            Deed::Person { was: None, store: "harbour", name: "Jonas", wrong: true, disabled: false },
            &["person `Jonas` in `harbour`"],
        ),
        (Deed::Person { was: Some("jonas"), store: "harbour", name: "ida.marsh", wrong: false, disabled: false }, &[]),
    ];
    for (deed, wanted) in deeds {
        let envelope = Envelope::new(&Author::machine(), 1_000, command(&deed, &key, &now));
        now = node.apply(&now, &envelope).unwrap();
        assert_eq!(unusable(&now), wanted, "{deed:?}");
        match deed {
            Deed::Person { wrong, name, .. } => {
                let StoreReply::Now(Ok(regnant_decision::Found::Account(account))) =
                    now.registry()["harbour"].account(IdentityKind::User, name, "here")
                else {
                    panic!("{name} is in memory")
                };
                assert_eq!(account.disabled, wrong);
            }
            Deed::Device { .. } => {
                let StoreReply::Now(device) = now.registry()["things"].device(mac(3), "here") else {
                    panic!("at hand")
                };
                assert!(device.unwrap().unwrap().barred);
            }
            _ => {}
        }
    }
    let signs = |nas: &regnant_equipment::Nas| nas.radius.as_ref().unwrap().require_message_authenticator;
    let by_name: BTreeMap<_, _> = now.nases.iter().map(|nas| (nas.name.clone(), signs(nas))).collect();
    assert!(by_name["yard-sw-1"]);
}
