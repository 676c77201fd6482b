//! Equipment kept from the command line and the API.
mod running;

use std::fs;

use regnant_campus::Nas;
use regnant_campus::harbour::*;
use running::*;
use serde_json::{Value, json};

/// A switch of the dock, at an address that nobody has yet.
const DOCK: Nas = Nas { name: "dock-sw-2", address: std::net::Ipv4Addr::new(127, 0, 0, 13), ..QUAY_SW_1 };

fn asks(service: &Running, nas: &Nas, code: i32) {
    service.try_from(nas, &["mac", "--mac", "02005e200007", "--wait", "1", "--tries", "1"]).ends_with(code);
}

#[test]
fn a_switch_is_added_changed_and_removed_from_the_command_line() {
    let service = Running::harbour();
    asks(&service, &DOCK, 3);
    let add = ["nas", "add", "dock-sw-2", "--address", "127.0.0.13", "--address", "10.50.0.0/16", "--kind", "switch"];
    let told = service.client(&[&add[..], &["--site", "dock", "--tag", "new", "--note", "Behind the crane"]].concat());
    let told = { told }.succeeds();
    let secret = told.rsplit(": ").next().unwrap().trim();
    assert!(secret.len() == 32 && told.contains("is added and heard from now on"), "{told}");
    // The next packet is served.
    let secret: &'static str = String::leak(secret.to_owned());
    let dock = Nas { secret, ..DOCK };
    asks(&service, &dock, 0);
    service.entries("q=dock-sw-2&outcome=granted", 1);
    let shown = service.client(&["nas", "show", "Dock-SW-2"]).succeeds();
    for part in ["127.0.0.13 10.50.0.0/16", "switch", "new", "Behind the crane", "crane controller 02:00:5e:20:00:07"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    assert_eq!(service.client(&["nas", "secret", "dock-sw-2"]).succeeds().trim(), secret);
    assert!(service.client(&["audit", "list"]).succeeds().contains("reveal NAS secret  dock-sw-2"));

    // Another name, with the same secret; what is not said stays.
    service.client(&["nas", "change", "dock-sw-2", "--name", "dock-sw-3", "--tag", ""]).succeeds();
    asks(&service, &dock, 0);
    let list = service.client(&["nas", "list", "DOCK", "127.0.0.13"]).succeeds();
    assert!(list.contains("dock-sw-3") && list.contains("10.50.0.0/16") && !list.contains("new"), "{list}");
    assert_eq!(service.client(&["nas", "list", "nowhere"]).succeeds().lines().count(), 1);
    for (change, why) in [
        (&["--address", "127.0.0.11"][..], "which NAS `quay-sw-1` has"),
        (&["--name", "QUAY-SW-1"], "There is a NAS `QUAY-SW-1` already"),
        (&["--dialect", "standrd"], "there is no dialect `standrd`"),
        (&["--address", "10.50.1.0/16"], "write 10.50.0.0/16"),
        (&["--tag", "two words"], "`two words` is no tag"),
    ] {
        let told = service.client(&[&["nas", "change", "dock-sw-3"], change].concat()).fails(1);
        assert!(told.contains(why), "{told}");
    }
    asks(&service, &dock, 0);
    service.client(&["nas", "remove", "dock-sw-3"]).succeeds();
    asks(&service, &dock, 3);
    assert!(service.client(&["nas", "show", "dock-sw-3"]).fails(1).contains("There is no NAS `dock-sw-3`"));
}

#[test]
fn two_people_do_not_overwrite_each_other() {
    let service = Running::harbour();
    let (status, detail, first) = service.call("GET", "nases/quay-sw-1", None, &Value::Null);
    assert_eq!((status, detail["nas"]["addresses"][0].as_str()), (200, Some("127.0.0.11")));
    let patch = |note: &str, seen: &str| service.call("PATCH", "nases/quay-sw-1", Some(seen), &json!({ "note": note }));
    let (status, changed, second) = patch("mine", &first);
    assert_eq!((status, changed["note"].as_str(), second != first), (200, Some("mine"), true));
    let (status, told, _) = patch("theirs", &first);
    assert_eq!(status, 412);
    assert!(told["error"].as_str().unwrap().contains("was changed in between: look at it again"), "{told}");
    assert_eq!(patch("theirs", "quay").0, 400);
    assert_eq!(service.call("DELETE", "nases/yard-sw-1", Some(&first), &Value::Null).0, 412);
    // A whole one in its place keeps the secret, which is in no answer.
    let whole =
        json!({ "name": "quay-sw-1", "addresses": ["127.0.0.11", "fd44::11"], "kind": "switch", "site": "quay" });
    let (status, put, third) = service.call("PUT", "nases/quay-sw-1", Some(&second), &whole);
    assert_eq!((status, put["note"].as_str(), third != second), (200, Some(""), true));
    asks(&service, &QUAY_SW_1, 0);
    for (verb, path, body) in [
        ("PUT", "nases/quay-sw-1", json!({ "name": "quay-sw-1", "addresses": [], "kind": "switch", "site": "quay" })),
        ("PATCH", "nases/quay-sw-1", json!({ "addresses": ["127.0.0.11", "127.0.0.11"] })),
        ("PATCH", "nases/quay-sw-1", json!({ "secret": "short" })),
        ("PATCH", "nases/quay-sw-1", json!({ "name": " " })),
    ] {
        let (status, told, _) = service.call(verb, path, None, &body);
        assert!(status == 400 && told["error"].is_string(), "{status} {told}");
    }
    assert_eq!(service.call("PATCH", "nases/quay-sw-1", None, &json!({ "colour": "red" })).0, 422);
    let everything = service.get("nases").1.to_string() + &service.get("audit").1.to_string();
    assert!(!everything.contains("bollard-9-anchor"));
}

#[test]
fn what_the_policy_names_keeps_its_name_and_stays() {
    let service = Running::harbour();
    service.activate_with("when request.purpose = vpn", "when nas.name = \"pilot-vpn-1\" or request.purpose = vpn");
    let line = POLICY.lines().position(|line| line.contains("when request.purpose = vpn")).unwrap() + 1;
    for command in [&["nas", "remove", "pilot-vpn-1"][..], &["nas", "change", "pilot-vpn-1", "--name", "vpn"]] {
        let told = service.client(command).fails(1);
        assert!(told.contains(&format!("line {line}: nas.name = \"pilot-vpn-1\"")), "{told}");
    }
    // All else of it may change, and its place is still known.
    service.client(&["nas", "change", "pilot-vpn-1", "--site", "gatehouse"]).succeeds();
    service.client(&["nas", "add", "all", "--address", "127.0.0.0/8", "--kind", "other", "--site", "x"]).succeeds();
    let shown = service.client(&["nas", "show", "pilot-vpn-1"]).succeeds();
    assert!(shown.contains("without it") && shown.contains("127.0.0.41: all by 127.0.0.0/8"), "{shown}");
    // What is more specific takes nothing over from a block.
    service.client(&["nas", "add", "first", "--address", "127.0.0.0", "--kind", "other", "--site", "x"]).succeeds();
    assert!(!service.client(&["nas", "show", "all"]).succeeds().contains("without it"));
}

#[test]
fn an_exported_file_has_no_secrets_and_importing_it_keeps_them() {
    let service = Running::harbour();
    let file = service.data.join("export.toml");
    let exported = service.client(&["nas", "export"]).succeeds();
    assert!(!exported.contains("secret") && exported.matches("[[nas]]").count() == 6, "{exported}");
    fs::write(&file, exported.replace("site = \"quayside\"", "site = \"quay\"")).unwrap();
    service.client(&["import"]).arg(&file).succeeds();
    assert_eq!(service.get("nases/quay-sw-1").1["nas"]["site"], "quay");
    asks(&service, &QUAY_SW_1, 0);
    fs::write(&file, exported.replace("\"quay-sw-1\"", "\"quay-sw-9\"").replace("127.0.0.11", "127.0.0.19")).unwrap();
    let told = service.client(&["import"]).arg(&file).fails(1);
    assert!(told.contains("NAS `quay-sw-9`: `secret` is missing"), "{told}");
    let csv = service.client(&["nas", "list", "--csv", "firewall"]).succeeds();
    assert_eq!(csv.lines().nth(1), Some("gate-fw-1,127.0.0.31,firewall,gatehouse,standard,,,true,false"));
    let pages = service.get("nases?limit=2").1;
    assert_eq!(
        (pages["nases"].as_array().unwrap().len(), &pages["all"], &pages["next"]),
        (2, &6.into(), &"mast-wlc-1".into())
    );
    assert_eq!(service.get("nases?limit=5&after=Mast-WLC-1").1["nases"][0]["name"], "pilot-vpn-1");
    // With secrets only where somebody says so, and the audit tells of each.
    let whole = service.client(&["nas", "export", "--with-secrets"]).succeeds();
    assert!(whole.contains(&format!("secret = \"{}\"", QUAY_SW_1.secret)), "{whole}");
    let audit = service.client(&["audit", "list", "--limit", "50", "reveal"]).succeeds();
    assert!(audit.lines().count() >= 6 && audit.contains("quay-sw-1"), "{audit}");
}

#[test]
fn an_unknown_sender_is_told_with_what_it_claims_until_it_is_added() {
    let service = Running::harbour();
    let ask = ["mac", "--mac", "02005e200007", "--wait", "1", "--tries", "1", "--attribute"];
    service.try_from(&DOCK, &[&ask[..], &["NAS-Identifier=dock\u{1b}[31m"]].concat()).ends_with(3);
    let list = || service.get("unheard").1["senders"].as_array().unwrap().clone();
    let [sender] = &list()[..] else { panic!("{:?}", list()) };
    assert_eq!((&sender["source"], &sender["nas"]), (&json!("127.0.0.13"), &Value::Null));
    assert_eq!((&sender["claims"]["kind"], &sender["can_try_secret"]), (&json!("switch"), &json!(true)));
    assert_eq!(
        (&sender["causes"][0]["packets"], &sender["causes"][0]["cause"]),
        (&json!(1), &json!("no NAS has this address"))
    );
    let told = service.client(&["nas", "unheard"]).succeeds();
    assert!(told.contains("127.0.0.13  calls itself dock") && told.contains("looks like a switch"), "{told}");
    assert!(!told.contains('\u{1b}'), "what it claims steers no terminal: {told:?}");
    // Which secret it has is tried on the packet that came.
    let tried = |secret: &str, code: i32| {
        let mut command = service.client(&["nas", "try-secret", "127.0.0.13"]);
        let file = service.data.join("typed");
        fs::write(&file, format!("{secret}\n")).unwrap();
        let output = command.stdin(fs::File::open(&file).unwrap()).output().unwrap();
        assert_eq!(output.status.code(), Some(code), "{output:?}");
        String::from_utf8(output.stdout).unwrap()
    };
    assert!(tried("gantry-4-lashing", 1).contains("does not fit"));
    assert!(tried(DOCK.secret, 0).contains("The secret fits"));
    let add = json!({ "name": "dock-sw-2", "addresses": ["127.0.0.13"], "kind": "switch", "site": "dock", "secret": DOCK.secret });
    assert_eq!(service.post("nases", &add).0, 201);
    // The story closes by itself.
    assert_eq!(list(), [] as [Value; 0]);
    asks(&service, &DOCK, 0);
    assert!(service.client(&["nas", "unheard"]).succeeds().contains("Nobody stayed unheard"));
}

#[test]
fn a_secret_that_differs_is_found_by_trying_and_what_cannot_be_verified_is_said() {
    let service = Running::harbour();
    service.try_from(&MISTYPED_SW_1, &["mac", "--mac", "02005e200007", "--wait", "1", "--tries", "1"]).ends_with(3);
    let fits = |source: &str, secret: &str| {
        let (status, told) = service.post(&format!("unheard/{source}/secret"), &json!({ "secret": secret }));
        (status, told["fits"].clone())
    };
    assert_eq!(fits("127.0.0.12", YARD_SW_1.secret), (200, json!(false)));
    assert_eq!(fits("127.0.0.12", MISTYPED_SW_1.secret), (200, json!(true)));
    // A report shows it by its authenticator.
    let accounting = service.accounting.to_string();
    let stray = ["try", "accounting", "--from", "127.0.0.99", "--secret", "another-one-9", "--server", &accounting];
    let mut command = regnant();
    command.args(stray).args(["--wait", "1", "--tries", "1", "--mac", "02005e200007"]).ends_with(3);
    assert_eq!(fits("127.0.0.99", "another-one-9"), (200, json!(true)));
    assert_eq!(fits("127.0.0.99", "another-one-8"), (200, json!(false)));
    // What carries no Message-Authenticator shows nothing.
    let unsigned = Nas { signed: false, ..GATE_FW_1 };
    let login = ["pap", "--user", "x", "--password", "y", "--wait", "1", "--tries", "1"];
    service.try_from(&unsigned, &login).ends_with(3);
    assert_eq!(fits("127.0.0.31", GATE_FW_1.secret), (200, Value::Null));
    assert_eq!((fits("127.0.0.77", "x").0, fits("nowhere", "x").0), (404, 400));
    let audit = service.get("audit").1.to_string();
    assert!(!audit.contains("another-one"), "what is tried is kept nowhere");
}

#[test]
fn a_secret_is_changed_while_the_equipment_goes_on_asking() {
    let mut service = Running::harbour();
    let secret_of = |told: &str| -> &'static str {
        let line = told.lines().find(|line| line.contains("shown this once")).unwrap();
        String::leak(line.rsplit(' ').next().unwrap().to_owned())
    };
    let told = service.client(&["nas", "new-secret", "quay-sw-1"]).succeeds();
    assert!(told.contains("the one before counts too until"), "{told}");
    let changed = Nas { secret: secret_of(&told), ..QUAY_SW_1 };
    // Old and new both work, each reply under the secret of its request; the first under the
    // new one ends the time of the old.
    asks(&service, &QUAY_SW_1, 0);
    assert!(service.client(&["nas", "show", "quay-sw-1"]).succeeds().contains("another since"));
    let today = service.get("today").1;
    assert!(today["ends"].as_array().unwrap().iter().any(|end| end["kind"] == "former-secret"), "{today}");
    asks(&service, &changed, 0);
    asks(&service, &QUAY_SW_1, 3);
    assert!(!service.client(&["nas", "show", "quay-sw-1"]).succeeds().contains("another since"));
    // Over a restart too.
    service.end("-TERM");
    let service = service.again();
    asks(&service, &QUAY_SW_1, 3);
    asks(&service, &changed, 0);

    // A second change before the equipment followed the first: what it has goes on counting.
    let one = secret_of(&service.client(&["nas", "new-secret", "quay-sw-1"]).succeeds());
    let two = secret_of(&service.client(&["nas", "new-secret", "quay-sw-1"]).succeeds());
    asks(&service, &changed, 0);
    asks(&service, &Nas { secret: one, ..QUAY_SW_1 }, 3);
    // Under another name both are the same.
    service.client(&["policy", "check"]).arg(service.data.join("harbour")).succeeds();
    service.client(&["nas", "change", "quay-sw-1", "--site", "quayside"]).succeeds();
    asks(&service, &changed, 0);
    service.client(&["nas", "end-grace", "quay-sw-1"]).succeeds();
    asks(&service, &changed, 3);
    asks(&service, &Nas { secret: two, ..QUAY_SW_1 }, 0);

    // At once, where somebody says so, and short ones are told.
    let mut given = service.client(&["nas", "new-secret", "quay-sw-1", "--grace", "0", "--ask-secret"]);
    assert!(typed(&mut given, "short\n").status.code() == Some(1));
    assert!(typed(&mut given, "lanyard-7-shackle\n").status.success());
    asks(&service, &Nas { secret: two, ..QUAY_SW_1 }, 3);
    asks(&service, &Nas { secret: "lanyard-7-shackle", ..QUAY_SW_1 }, 0);
    let audit = service.client(&["audit", "list", "--json"]).succeeds();
    assert!(!audit.contains("lanyard") && !audit.contains(two), "secrets stay out of the audit");
    let (status, _) = service.put("nases/quay-sw-1/secret", &json!({ "grace_hours": 721 }));
    assert_eq!(status, 400);
}

#[test]
fn what_carries_no_signature_counts_under_the_former_secret_until_somebody_says_otherwise() {
    let service = Running::harbour();
    let told = service.client(&["nas", "new-secret", "pilot-vpn-1", "--ask-secret", "--grace", "1"]);
    let told = printed(&typed(&mut { told }, "windlass-5-hawser\n"));
    assert!(told.contains("does not sign") && told.contains("end-grace"), "{told}");
    let changed = Nas { secret: "windlass-5-hawser", ..PILOT_VPN_1 };
    let login = |nas: &Nas, code: i32| {
        let ask = ["pap", "--user", "ida.marsh", "--password", "Tide-Table-61", "--wait", "1", "--tries", "1"];
        service.try_from(nas, &ask).ends_with(code);
    };
    login(&PILOT_VPN_1, 0);
    // What is made under the new one opens as no password, and the reply proves nothing to it.
    login(&changed, 3);
    let nas = service.get("nases/pilot-vpn-1").1["nas"].clone();
    assert!(nas["unsigned_at"].is_string() && nas["signed_since"].is_null(), "{nas}");
    service.client(&["nas", "end-grace", "pilot-vpn-1"]).succeeds();
    login(&changed, 0);
    login(&PILOT_VPN_1, 3);
    // As soon as it signs everything, somebody is told that it can be required.
    login(&Nas { signed: true, ..changed }, 0);
    let shown = service.client(&["nas", "show", "pilot-vpn-1"]).succeeds();
    assert!(shown.contains("in every request since") && shown.contains("require it now"), "{shown}");
}

#[test]
fn several_are_changed_together_or_not_at_all() {
    let service = Running::harbour();
    let told =
        service.client(&["nas", "together", "quay-sw-1", "Yard-sw-1", "--site", "basin", "--tag", "old"]).succeeds();
    assert!(told.contains("2 NASes are changed"), "{told}");
    let list = service.client(&["nas", "list", "basin", "--csv"]).succeeds();
    assert_eq!(list.lines().filter(|line| line.contains(",basin,") && line.contains(",old,")).count(), 2, "{list}");
    // The secret stays, and the dialect is one that there is.
    asks(&service, &QUAY_SW_1, 0);
    let told = service.client(&["nas", "together", "quay-sw-1", "--dialect", "klingon"]).fails(1);
    assert!(told.contains("there is no dialect `klingon`"), "{told}");
    assert!(service.client(&["nas", "together", "quay-sw-1"]).fails(1).contains("or `remove` alone"));
    let told = service.client(&["nas", "together", "quay-sw-1", "nobody", "--untag", "old"]).fails(1);
    assert!(told.contains("There is no NAS `nobody`"), "{told}");
    let list = typed(&mut service.client(&["nas", "together", "-", "--untag", "OLD"]), "quay-sw-1\n\nyard-sw-1\n");
    assert!(list.status.success(), "{}", printed(&list));
    assert!(!service.client(&["nas", "list", "--csv"]).succeeds().contains(",old,"));
    // Where the policy names one, all of them stay.
    service.activate_with("when request.purpose = vpn", "when nas.name = \"pilot-vpn-1\" or request.purpose = vpn");
    assert!(service.client(&["nas", "together", "yard-sw-1", "pilot-vpn-1", "--remove"]).fails(1).contains("stays"));
    service.client(&["nas", "together", "yard-sw-1", "--remove"]).succeeds();
    assert_eq!(service.get("nases").1["all"], 5);
}
