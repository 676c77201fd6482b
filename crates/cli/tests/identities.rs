//! People, machines, devices, stores and groups, kept from the command line and the API.
mod running;

use std::process::Stdio;
use std::time::{Duration, Instant};

use regnant_campus::harbour::*;
use running::*;
use serde_json::{Value, json};

/// Runs a command that reads this from standard input.
fn vpn(service: &Running, name: &str, password: &str, code: i32) {
    let ask = ["pap", "--user", name, "--password", password];
    service.try_from(&PILOT_VPN_1, &ask).ends_with(code);
}

fn asks(service: &Running, mac: &str) -> String {
    let asked = service.try_from(&QUAY_SW_1, &["mac", "--mac", mac]).output().unwrap();
    printed(&asked)
}

#[test]
fn a_person_is_added_changed_and_removed() {
    let service = Running::harbour();
    let add = ["person", "add", "Mara.Quay", "--group", "staff", "--note", "Dry dock; night shift"];
    for (weak, why) in [
        ("Summer2026!", "among the first that are tried"),
        ("short-1", "at least 8 characters"),
        ("mara.quay7", "not the name that it belongs to"),
    ] {
        let output = typed(&mut service.client(&add), &format!("{weak}\n"));
        assert!(!output.status.success() && printed(&output).contains(why), "{}", printed(&output));
    }
    assert!(typed(&mut service.client(&add), "Dry-Dock-82\n").status.success());
    vpn(&service, "mara.quay", "Dry-Dock-82", 0);
    let again = typed(&mut service.client(&add), "Dry-Dock-82\n");
    assert!(printed(&again).contains("There is a person `Mara.Quay` in `harbour` already"), "{}", printed(&again));
    service.entries("q=mara.quay&outcome=granted", 1);
    let shown = service.client(&["person", "show", "mara.quay"]).succeeds();
    for part in ["Mara.Quay", "staff", "Dry dock; night shift", "was given remote"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    // Another name, with the same password; what is not said stays.
    service.client(&["person", "change", "mara.quay", "--name", "mara.pier"]).succeeds();
    vpn(&service, "mara.pier", "Dry-Dock-82", 0);
    vpn(&service, "mara.quay", "Dry-Dock-82", 1);
    let wants = service.client(&["person", "change", "mara.pier", "--mschap", "true"]).fails(1);
    assert!(wants.contains("give the password anew, so that MS-CHAP can prove it"), "{wants}");
    let change = ["person", "change", "mara.pier", "--mschap", "true", "--ask-password"];
    assert!(typed(&mut service.client(&change), "Slip-Way-58x\n").status.success());
    vpn(&service, "mara.pier", "Slip-Way-58x", 0);
    service.client(&["person", "change", "mara.pier", "--disabled", "true"]).succeeds();
    vpn(&service, "mara.pier", "Slip-Way-58x", 1);
    let list = service.client(&["person", "list", "pier", "--csv"]).succeeds();
    assert_eq!(
        list.lines().collect::<Vec<_>>(),
        [
            "store,name,groups,disabled,expires,mschap,recoverable_password,engineers_only,ordinary,note",
            "harbour,mara.pier,staff,true,,true,false,false,false,Dry dock; night shift"
        ]
    );
    // What was exported is imported again and keeps the passwords.
    let file = service.data.join("people.toml");
    std::fs::write(&file, service.client(&["person", "export"]).succeeds()).unwrap();
    assert!(!std::fs::read_to_string(&file).unwrap().contains("\npassword ="));
    service.client(&["import"]).arg(&file).succeeds();
    vpn(&service, "ida.marsh", "Tide-Table-61", 0);
    // All of it is in the past of the record, under its name of before as well.
    let past = service.client(&["audit", "list", "--record", "person/harbour/mara.pier"]).succeeds();
    let deeds: Vec<_> = past.lines().map(|line| line.split("  ").nth(2).unwrap()).collect();
    assert_eq!(deeds, ["add person", "change person", "change person", "change person", "import"], "{past}");
    let number = past.lines().nth(2).unwrap().split_whitespace().nth(2).unwrap();
    let fields = service.client(&["audit", "show", number]).succeeds();
    assert!(
        fields.contains("password_hash: a secret → another") && fields.contains("nt_hash: none → a secret"),
        "{fields}"
    );
    assert!(!fields.contains("argon2"), "{fields}");
    service.client(&["person", "remove", "mara.pier"]).succeeds();
    assert!(service.client(&["person", "show", "mara.pier"]).fails(1).contains("There is no person `mara.pier`"));
    vpn(&service, "mara.pier", "Slip-Way-58x", 1);
}

#[test]
fn a_machine_is_added_changed_and_removed() {
    let service = Running::harbour();
    service.client(&["machine", "add", "quay-laptop-10", "--group", "harbour-laptops"]).succeeds();
    let told = service.client(&["machine", "change", "quay-laptop-10", "--mschap", "true"]).fails(1);
    assert!(told.contains("MS-CHAP needs a password"), "{told}");
    let change = ["machine", "change", "QUAY-laptop-9", "--ask-password", "--mschap", "true", "--note", "Spare"];
    assert!(typed(&mut service.client(&change), "Keel-Plate-59\n").status.success());
    let list = service.client(&["machine", "list", "laptop-9"]).succeeds();
    assert!(list.contains("MS-CHAP") && list.contains("Spare"), "{list}");
    let wrong = service.client(&["machine", "add", "host/quay-laptop-8"]).fails(1);
    assert!(wrong.contains("without host/"), "{wrong}");
    service.client(&["machine", "remove", "quay-laptop-10"]).succeeds();
    assert!(service.client(&["machine", "show", "quay-laptop-10"]).fails(1).contains("There is no machine"));
}

#[test]
fn a_device_is_added_barred_regrouped_and_removed() {
    let service = Running::harbour();
    let add = ["device", "add", "0200.5e20.0099", "--title", "spare crane controller", "--owner", "Tom Reed"];
    service.client(&[&add[..], &["--group", "cranes"]].concat()).succeeds();
    assert!(asks(&service, "02-00-5E-20-00-99").contains("Access-Accept"));
    let shown = service.client(&["device", "show", "02:00:5e:20:00:99"]).succeeds();
    assert!(shown.contains("Tom Reed") && shown.contains("spare crane controller"), "{shown}");
    // Found by words, by digits of the address in any notation, and by both.
    for words in [&["spare"][..], &["5e20.0099"], &["00-99"], &["cran", "tom", "0099"], &["REED"]] {
        let list = service.client(&[&["device", "list"], words].concat()).succeeds();
        assert_eq!(list.lines().count(), 2, "{words:?}: {list}");
        assert!(list.contains("02:00:5e:20:00:99"), "{words:?}: {list}");
    }
    assert_eq!(service.client(&["device", "list", "nowhere"]).succeeds().lines().count(), 1);
    let many = service.client(&["device", "list"]).succeeds();
    assert!(many.lines().count() == 102 && many.contains("and more"), "{many}");
    assert_eq!(service.client(&["device", "list", "--csv"]).succeeds().lines().count(), 0x12 + 0x28 + 0x3c + 3);
    // Barred by the hundred, pasted in whatever form they came.
    let pasted = "02:00:5e:20:00:01, 02-00-5E-20-00-02\n(0200.5e20.0003); 02005e200004 and no address: 12:34";
    let barred = typed(&mut service.client(&["device", "bar", "-", "02005e200099", "--reason", "=recalled"]), pasted);
    assert!(printed(&barred).starts_with("5 devices must stay out from now on"), "{}", printed(&barred));
    assert!(asks(&service, "02005e200099").contains("Access-Reject"));
    let list = service.client(&["device", "list", "--barred", "true", "--csv"]).succeeds();
    assert!(list.lines().count() == 7 && list.contains(",'=recalled"), "{list}");
    let (_, one) = service.get("devices/harbour-devices/02005e200099");
    assert_eq!(
        (one["device"]["barred"]["by"].as_str(), one["device"]["barred"]["reason"].as_str()),
        (Some("harbour"), Some("=recalled"))
    );
    let unknown = service.client(&["device", "unbar", "02005e200001", "02005e777777"]).fails(1);
    assert!(unknown.contains("Nothing was changed, for no store lists 02:00:5e:77:77:77"), "{unknown}");
    service.client(&["device", "unbar", "02005e200099"]).succeeds();
    // From one group to another: what it is given changes with it.
    service.client(&["device", "regroup", "02005e200099", "--into", "cameras", "--out-of", "Cranes"]).succeeds();
    let given = |grant: &str| {
        asks(&service, "02005e200099");
        let entry = service.entries(&format!("q=02:00:5e:20:00:99%20{grant}&limit=1"), 1).remove(0);
        entry["id"].as_str().unwrap().to_owned()
    };
    given("cameras");
    // What has expired is not known any more, and says so in the trail.
    service.client(&["device", "change", "02005e200099", "--expires", "2020-01-01T00:00:00Z"]).succeeds();
    let trail = service.client(&["trail", &given("holding")]).succeeds();
    assert!(trail.contains("listed, and its time is"), "{trail}");
    service.client(&["device", "bar", "02005e200099", "--reason", "stolen"]).succeeds();
    assert!(asks(&service, "02005e200099").contains("Access-Reject"), "barred it stays");
    let file = service.data.join("devices.toml");
    std::fs::write(&file, service.client(&["device", "export"]).succeeds()).unwrap();
    service.client(&["import"]).arg(&file).succeeds();
    let after = service.client(&["device", "show", "02005e200099"]).succeeds();
    assert!(after.contains("stolen") && after.contains("2020-01-01"), "{after}");
    service.client(&["device", "remove", "02005e200099"]).succeeds();
    assert!(service.client(&["device", "show", "02005e200099"]).fails(1).contains("There is no device"));
}

#[test]
fn two_people_do_not_overwrite_each_other() {
    let service = Running::harbour();
    let path = "devices/harbour-devices/02:00:5e:20:00:07";
    let call = |verb: &str, seen: Option<&str>, body: &Value| {
        let request = ureq::http::Request::builder().method(verb).uri(format!("{}/api/v1/{path}", service.api));
        let request = request.header("authorization", format!("Bearer {}", service.token));
        let request = seen.iter().fold(request, |request, seen| request.header("if-match", *seen));
        let request = request.header("content-type", "application/json");
        let answer = match verb {
            "GET" => agent().run(request.body(()).unwrap()),
            _ => agent().run(request.body(body.to_string()).unwrap()),
        };
        let answer = answer.unwrap();
        let tag = answer.headers().get("etag").map_or("", |tag| tag.to_str().unwrap()).to_owned();
        (answer.status().as_u16(), tag)
    };
    let (_, seen) = call("GET", None, &Value::Null);
    assert_eq!(call("PATCH", Some(&seen), &json!({ "owner": "one" })).0, 200);
    assert_eq!(call("PATCH", Some(&seen), &json!({ "owner": "two" })).0, 412);
    assert_eq!(call("DELETE", Some(&seen), &json!({})).0, 412);
    assert_eq!(service.get(path).1["device"]["owner"], "one");
    assert_eq!(call("PATCH", Some("seen"), &json!({})).0, 400);
    // A whole one in its place: what is not said is empty.
    let form = json!({ "store": "harbour-devices", "mac": "02005e200007", "title": "winch" });
    assert_eq!(call("PUT", Some(&seen), &form).0, 412);
    assert_eq!(call("PUT", None, &form).0, 200);
    let device = service.get(path).1["device"].clone();
    assert_eq!((&device["title"], &device["owner"], &device["groups"]), (&json!("winch"), &json!(""), &json!([])));
    assert_eq!(call("PUT", None, &json!({ "store": "harbour", "mac": "02005e200007" })).0, 400);
    assert_eq!(call("DELETE", None, &json!({})).0, 204);
    // People and machines keep their passwords where none is said.
    let person = json!({ "store": "harbour", "name": "ida.marsh", "groups": ["staff"], "note": "moved" });
    assert_eq!(service.put("people/harbour/ida.marsh", &person).0, 200);
    vpn(&service, "ida.marsh", "Tide-Table-61", 0);
    assert_eq!(service.put("people/harbour/ida.marsh", &json!({ "store": "elsewhere", "name": "ida.marsh" })).0, 400);
    assert_eq!(service.post("people", &json!({ "store": "harbour", "name": "no.word" })).0, 400);
    service.post("machines", &json!({ "store": "harbour", "name": "winch-pc", "note": "old" }));
    assert_eq!(service.put("machines/harbour/winch-pc", &json!({ "store": "harbour", "name": "winch-pc" })).0, 200);
    assert_eq!(service.get("machines/harbour/winch-pc").1["machine"]["note"], "");
}

#[test]
fn what_the_policy_names_does_not_disappear() {
    let service = Running::harbour();
    service.activate_with("user in group \"staff\"\n    grant remote", "user.name = \"ida.marsh\"\n    grant remote");
    let told = service.client(&["person", "remove", "ida.marsh"]).fails(1);
    assert!(told.contains("keeps its name and stays: the active policy names it (line "), "{told}");
    let told = service.client(&["person", "change", "ida.marsh", "--name", "ida.pier"]).fails(1);
    assert!(told.contains("change the policy first"), "{told}");
    assert!(service.client(&["store", "remove", "harbour"]).fails(1).contains("looks identities up in it"));
    service.client(&["store", "add", "visitors", "--kind", "people"]).succeeds();
    let add = ["person", "add", "new.hand", "--store", "visitors"];
    assert!(typed(&mut service.client(&add), "Gang-Plank-44\n").status.success());
    assert!(service.client(&["store", "remove", "visitors"]).fails(1).contains("holds 1 people"));
    assert!(
        service.client(&["person", "show", "ida.marsh"]).fails(2).contains("say --store: there are harbour, visitors")
    );
    service.client(&["person", "remove", "new.hand", "--store", "visitors"]).succeeds();
    service.client(&["store", "remove", "visitors"]).succeeds();
    let groups = service.client(&["group", "show", "CRANES"]).succeeds();
    assert!(groups.contains("devices") && groups.contains("18") && groups.contains("named by the policy"), "{groups}");
    assert!(service.client(&["group", "show", "nowhere"]).fails(1).contains("no record has it"));
}

#[test]
fn a_file_with_bad_lines_is_imported_as_far_as_it_is_right_or_not_at_all() {
    let service = Running::harbour();
    let file = service.data.join("devices.csv");
    let csv = "mac,title,groups,owner,expires,barred_reason\n\
               02-00-5E-60-00-01,drone,drones;cameras,Survey,2999-01-01T00:00:00Z,\n\
               0200.5e60.zz02,drone,drones,,,\n\
               02005e600003,\"'=drone, spare\",drones,,soon,\n\
               02005e200007,crane controller with a new name,,,,\n\
               02005e600004,drone,drones,,,lost at sea\n";
    std::fs::write(&file, csv).unwrap();
    let import = |more: &[&str]| {
        let mut command = service.client(&["device", "import"]);
        command.arg(&file).args(more).output().unwrap()
    };
    let tried = printed(&import(&["--dry-run"]));
    assert!(tried.starts_with("2 added, 1 changed, 2 refused; nothing is in force"), "{tried}");
    assert!(
        tried.contains("line 3: `mac`:") && tried.contains("line 4: device 02:00:5e:60:00:03: `expires` is no time"),
        "{tried}"
    );
    assert!(printed(&import(&["--all-or-none"])).contains("nothing is in force"));
    assert_eq!(service.client(&["device", "list", "drone"]).succeeds().lines().count(), 1);
    let done = import(&[]);
    assert_eq!(done.status.code(), Some(1), "a line was refused");
    assert!(printed(&done).starts_with("2 added, 1 changed, 2 refused\n"), "{}", printed(&done));
    let drone = service.client(&["device", "show", "02005e600001"]).succeeds();
    assert!(drone.contains("drones cameras") && drone.contains("2999-01-01"), "{drone}");
    assert!(service.client(&["device", "show", "02005e600004"]).succeeds().contains("lost at sea"));
    assert!(asks(&service, "02005e600004").contains("Access-Reject"));
    // A column that the file has says so of every line; one that it has not says nothing.
    let crane = service.get("devices/harbour-devices/02005e200007").1["device"].clone();
    assert_eq!((&crane["title"], &crane["groups"]), (&json!("crane controller with a new name"), &json!([])));
    // What a list hands out is imported again, and changes nothing.
    let before = service.client(&["device", "list", "--csv"]).succeeds();
    std::fs::write(&file, &before).unwrap();
    assert!(printed(&import(&[])).starts_with("121 changed"));
    assert_eq!(service.client(&["device", "list", "--csv"]).succeeds(), before);
    // JSON, TOML and lines of JSON, from standard input too.
    let person = "[{\"name\": \"mara.quay\", \"password\": \"Dry-Dock-82\", \"groups\": [\"staff\"]}]";
    let json = typed(&mut service.client(&["person", "import", "-"]), person);
    assert!(printed(&json).starts_with("1 added"), "{}", printed(&json));
    vpn(&service, "mara.quay", "Dry-Dock-82", 0);
    let line = "{\"name\": \"mara.quay\", \"note\": \"Dry dock\"}\n{\"name\": \"no.password\"}\n";
    let lines = typed(&mut service.client(&["person", "import", "-"]), line);
    assert!(
        printed(&lines).contains("1 changed, 1 refused")
            && printed(&lines).contains("line 2: person `no.password`: `password` is missing"),
        "{}",
        printed(&lines)
    );
    vpn(&service, "mara.quay", "Dry-Dock-82", 0);
    let toml = "[[nas]]\nname = \"dock-sw-1\"\naddress = \"127.0.0.61\"\nkind = \"switch\"\nsite = \"dock\"\n\
                secret = \"gantry-4-lashing\"\n[[nas]]\nname = \"dock-sw-2\"\naddress = \"127.0.0.61\"\nkind = \"switch\"\n\
                site = \"dock\"\nsecret = \"gantry-4-lashing\"\n";
    let nases = typed(&mut service.client(&["nas", "import", "-"]), toml);
    assert!(
        printed(&nases).contains("1 added, 1 refused") && printed(&nases).contains("which NAS `dock-sw-1` has"),
        "{}",
        printed(&nases)
    );
    let dock = regnant_campus::Nas {
        address: std::net::Ipv4Addr::new(127, 0, 0, 61),
        secret: "gantry-4-lashing",
        ..QUAY_SW_1
    };
    service.try_from(&dock, &["mac", "--mac", "02005e500001"]).ends_with(0);
    let cut = typed(&mut service.client(&["device", "import", "-"]), "mac,titel\n02005e600009,x\n");
    assert!(printed(&cut).contains("unknown field `titel`"), "{}", printed(&cut));
    let audit = service.client(&["audit", "list", "--record", "nas/dock-sw-1"]).succeeds();
    assert!(audit.contains("import  NASes: 1"), "{audit}");
}

#[test]
fn groups_and_sites_are_renamed_with_what_follows_told_before() {
    let service = Running::harbour();
    service.client(&["person", "change", "ida.marsh", "--group", "staff", "--group", "night-watch"]).succeeds();
    service.client(&["device", "regroup", "02005e200001", "02005e200007", "--into", "Night-Watch"]).succeeds();
    // Nothing names it: everybody in it is in the other then.
    let told = service.client(&["group", "change", "NIGHT-watch", "--name", "late-watch"]).succeeds();
    assert!(told.contains("1 person, 2 devices are in late-watch now"), "{told}");
    let found = service.client(&["device", "list", "--group", "late-watch"]).succeeds();
    assert!(found.contains("02:00:5e:20:00:07") && found.contains("02:00:5e:20:00:01"), "{found}");
    assert!(service.client(&["person", "show", "ida.marsh"]).succeeds().contains("late-watch"));
    assert!(service.client(&["group", "show", "night-watch"]).fails(1).contains("There is no group"));
    let again = service.client(&["group", "change", "night-watch", "--name", "x"]).fails(1);
    assert!(again.contains("There is no group `night-watch`"), "{again}");
    // What the policy names is told first; what is wanted anyway is done, and its rules fall silent.
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    let place = POLICY.lines().position(|line| line.contains("device in group \"cranes\"")).unwrap() + 1;
    let line = format!("line {place}");
    let named = service.client(&["group", "change", "cranes", "--name", "lifting-gear"]).fails(1);
    assert!(named.contains("the active policy names it") && named.contains(&line), "{named}");
    service.client(&["group", "change", "cranes", "--name", "lifting-gear", "--anyway"]).succeeds();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(1);
    // Two become one only where somebody says so.
    let taken = service.client(&["group", "change", "late-watch", "--name", "STAFF", "--anyway"]);
    { taken }.succeeds();
    let taken = service.client(&["group", "change", "lifting-gear", "--name", "scanners"]).fails(1);
    assert!(taken.contains("the two become one"), "{taken}");
    let left = service.client(&["group", "remove", "lifting-gear"]).succeeds();
    assert!(left.contains("left lifting-gear"), "{left}");

    let sites = service.client(&["site", "list"]).succeeds();
    assert!(sites.contains("quayside"), "{sites}");
    service.client(&["site", "change", "quayside", "--name", "north-quay"]).succeeds();
    let taken = service.client(&["site", "change", "NORTH-quay", "--name", "Yard"]).fails(1);
    assert!(
        taken.contains("there is a site `Yard` already") || taken.contains("There is a site `Yard` already"),
        "{taken}"
    );
    assert!(service.client(&["site", "change", "quayside", "--name", "x"]).fails(1).contains("no site `quayside`"));
    assert!(service.client(&["nas", "show", "quay-sw-1"]).succeeds().contains("north-quay"));
    let held = service.client(&["site", "remove", "Yard", "--anyway"]).succeeds();
    assert!(held.contains("1 NAS stood there"), "{held}");
    let held = service.client(&["site", "remove", "north-quay"]).fails(1);
    assert!(held.contains("1 NAS stands there"), "{held}");
    assert!(service.client(&["audit", "list"]).succeeds().contains("change"));
    service.client(&["audit", "verify"]).succeeds();
}

#[test]
fn people_and_machines_are_changed_together_or_not_at_all() {
    let service = Running::harbour();
    vpn(&service, "ida.marsh", "Tide-Table-61", 0);
    let names = ["person", "together", "ida.marsh", "nobody.here", "--disabled", "true"];
    assert!(service.client(&names).fails(1).contains("There is no person `nobody.here`"));
    vpn(&service, "ida.marsh", "Tide-Table-61", 0);
    let told =
        service.client(&["person", "together", "ida.marsh", "OLA.nett", "--disabled", "true", "--into", "leave"]);
    assert!({ told }.succeeds().contains("2 people changed"));
    vpn(&service, "ida.marsh", "Tide-Table-61", 1);
    assert!(service.client(&["group", "show", "leave"]).succeeds().contains("people    2"));
    let back = typed(
        service
            .client(&["person", "together", "-", "--disabled", "false", "--out-of", "leave"])
            .arg("--store")
            .arg("harbour"),
        "ida.marsh\n\nola.nett\n",
    );
    assert!(back.status.success(), "{}", printed(&back));
    vpn(&service, "ida.marsh", "Tide-Table-61", 0);
    assert!(service.client(&["person", "together", "ida.marsh"]).fails(1).contains("or `remove` alone"));
    service.post("machines", &json!({ "store": "harbour", "name": "winch-pc" }));
    service.client(&["machine", "together", "winch-pc", "--remove"]).succeeds();
    assert_eq!(service.get("machines/harbour/winch-pc").0, 404);
}

#[test]
fn it_is_told_when_a_device_was_seen_first_and_last() {
    let service = Running::harbour();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    let first = service.entries("q=02:00:5e:20:00:07", 1)[0]["at"].as_str().unwrap().to_owned();
    service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    let last = service.entries("q=02:00:5e:20:00:07", 2)[0].clone();
    let device = service.get("devices/harbour-devices/02005e200007").1;
    assert_eq!((&device["first_seen"], &device["heard"]["id"]), (&json!(first), &last["id"]));
    let seen = service.get("devices/seen?macs=02005e200007,0200.5e20.0001").1;
    assert_eq!(seen, json!({ "seen": [{ "mac": "02:00:5e:20:00:07", "at": last["at"], "entry": last["id"] }] }));
    assert_eq!(service.get("devices/seen?macs=nothing").0, 400);
    assert!(service.client(&["device", "show", "02005e200007"]).succeeds().contains("first seen"));
    assert!(service.get("devices/harbour-devices/02005e200001").1["first_seen"].is_null());
}

#[test]
fn a_store_that_no_policy_names_is_renamed_with_all_that_is_in_it() {
    let mut service = Running::harbour();
    let named = service.client(&["store", "change", "harbour", "--name", "crew"]).fails(1);
    assert!(named.contains("the active policy looks identities up in it"), "{named}");
    let folder = service.data.join("harbour");
    let elsewhere = |from: &str, to: &str| {
        let policy = std::fs::read_to_string(folder.join("main.writ")).unwrap().replace(from, to);
        std::fs::write(folder.join("main.writ"), policy).unwrap();
        service.client(&["policy", "activate"]).arg(&folder).succeeds();
    };
    for (name, kind) in [("spare", "people"), ("spare-devices", "devices")] {
        service.client(&["store", "add", name, "--kind", kind]).succeeds();
    }
    // People keep their passwords, devices their titles; nobody is lost over a restart.
    elsewhere("in harbour-devices", "in spare-devices");
    elsewhere("in harbour", "in spare");
    service.client(&["store", "change", "harbour-devices", "--name", "quay-devices"]).succeeds();
    service.client(&["store", "change", "harbour", "--name", "crew"]).succeeds();
    let taken = service.client(&["store", "change", "crew", "--name", "spare"]).fails(1);
    assert!(taken.contains("already"), "{taken}");
    elsewhere("in spare-devices", "in quay-devices");
    elsewhere("in spare", "in crew");
    for _ in 0..2 {
        vpn(&service, "ida.marsh", "Tide-Table-61", 0);
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
        let entry = service.entries("q=02:00:5e:20:00:07&outcome=granted", 1).remove(0);
        assert!(sentence(&entry).contains("crane controller"), "{}", sentence(&entry));
        assert!(service.client(&["device", "list", "crane", "--json"]).succeeds().contains("quay-devices"));
        assert!(service.client(&["store", "show", "crew"]).succeeds().contains("people"));
        // The past of what is in it goes on under the name that it had.
        for record in ["store/crew", "person/crew/ida.marsh", "device/quay-devices/02:00:5e:20:00:07"] {
            let past = service.client(&["audit", "list", "--record", record]).succeeds();
            assert!(past.lines().any(|line| line.contains("import")), "{record}: {past}");
        }
        service.client(&["audit", "verify"]).succeeds();
        service.end("-TERM");
        service = service.again();
    }
}

#[test]
fn groups_and_sites_stand_by_themselves_and_say_what_people_should_know() {
    let service = Running::harbour();
    service.client(&["group", "add", "divers", "--note", "Under water; no radio"]).succeeds();
    assert!(service.client(&["group", "add", "DIVERS"]).fails(1).contains("There is a group `DIVERS` already"));
    assert!(service.client(&["group", "add", " "]).fails(1).contains("1 to 253 printable bytes"));
    let shown = service.client(&["group", "show", "Divers"]).succeeds();
    assert!(shown.contains("Under water; no radio"), "{shown}");
    // One that somebody is in has a note too, and it goes with its name.
    service.client(&["group", "change", "cranes", "--note", "Every one is inspected in May"]).succeeds();
    service.client(&["group", "change", "divers", "--name", "frogmen"]).succeeds();
    let list = service.client(&["group", "list", "--csv"]).succeeds();
    assert!(
        list.contains("cranes,Every one is inspected in May,0,0,18") && list.contains("frogmen,Under water"),
        "{list}"
    );
    assert!(!list.contains("divers"), "{list}");
    let past = service.client(&["audit", "list", "--record", "group/frogmen"]).succeeds();
    assert!(past.contains("add group") && past.contains("divers, now frogmen"), "{past}");
    // Two people at once.
    let (_, _, first) = service.call("GET", "groups/frogmen", None, &Value::Null);
    let patch = json!({ "note": "mine" });
    assert_eq!(service.call("PATCH", "groups/frogmen", Some(&first), &patch).0, 200);
    let (status, told, _) = service.call("PATCH", "groups/frogmen", Some(&first), &json!({ "note": "theirs" }));
    assert!(status == 412 && told["error"].as_str().unwrap().contains("changed in between"), "{told}");
    assert_eq!(service.call("PUT", "groups/frogmen", Some(&first), &patch).0, 412);
    assert_eq!(service.call("DELETE", "groups/frogmen", Some(&first), &Value::Null).0, 412);
    assert_eq!(service.call("PATCH", "groups/frogmen", None, &json!({})).0, 400);
    // One that the policy alone names gets a note with its new name, and then stands by itself.
    service.client(&["person", "change", "sam.drift", "--group", ""]).succeeds();
    let named = json!({ "name": "hands", "note": "Hired by the day", "anyway": true });
    assert_eq!(service.call("PATCH", "groups/contractors", None, &named).0, 200);
    assert!(service.client(&["group", "show", "hands"]).succeeds().contains("Hired by the day"));
    // A file says many at once, and what is exported is imported again.
    let file = service.data.join("sites.csv");
    std::fs::write(&file, "name,note\npier-7,=SUM(1)\n,nameless\nquayside,The oldest\n").unwrap();
    let tried = printed(&service.client(&["site", "import", "--dry-run"]).arg(&file).ends_with(1));
    assert!(tried.contains("2 added, 1 refused; nothing is in force") && tried.contains("line 3"), "{tried}");
    service.client(&["site", "import"]).arg(&file).fails(1);
    let csv = service.client(&["site", "list", "oldest", "--csv"]).succeeds();
    assert_eq!(csv.lines().nth(1), Some("quayside,The oldest,1"));
    assert!(service.client(&["site", "list", "pier", "--csv"]).succeeds().contains("pier-7,'=SUM(1),0"));
    let exported = service.client(&["site", "export"]).succeeds();
    let file = service.data.join("sites.toml");
    std::fs::write(&file, exported.replace("The oldest", "The first")).unwrap();
    let again = service.client(&["site", "import"]).arg(&file).succeeds();
    assert!(again.contains("changed"), "{again}");
    assert!(service.client(&["site", "show", "quayside"]).succeeds().contains("The first"));
    service.client(&["site", "remove", "pier-7"]).succeeds();
    assert!(service.client(&["site", "show", "pier-7"]).fails(1).contains("There is no site `pier-7`"));
    // Page after page it is the same list.
    let whole = service.get("groups").1;
    let (mut pages, mut after) = (Vec::new(), String::new());
    loop {
        let page = service.get(&format!("groups?limit=2&after={after}")).1;
        pages.extend(page["groups"].as_array().unwrap().clone());
        let Some(next) = page["next"].as_str() else { break };
        next.clone_into(&mut after);
    }
    assert_eq!(Value::Array(pages), whole["groups"]);
    assert_eq!(whole["all"].as_u64().unwrap() as usize, whole["groups"].as_array().unwrap().len());
    assert_eq!(service.get("groups?limit=0").0, 400);
    service.client(&["audit", "verify"]).succeeds();
}

#[test]
fn people_move_to_another_installation_with_their_passwords_and_without_them() {
    let service = Running::harbour();
    let exported = service.client(&["person", "export"]).succeeds();
    assert!(!exported.contains("hash") && !exported.contains("\npassword ="), "{exported}");
    let exported = service.client(&["person", "export", "--with-secrets"]).succeeds();
    assert!(exported.contains("password-hash = \"$argon2id$") && exported.contains("nt-hash = \""), "{exported}");
    let seen = service.client(&["audit", "list", "reveal"]).succeeds();
    assert_eq!(
        seen.lines().filter(|line| line.contains("reveal secret")).count(),
        exported.matches("[[person]]").count()
    );
    let machines = service.client(&["machine", "export", "--with-secrets"]).succeeds();
    // Nobody has to choose another password there.
    let other = Running::harbour();
    for row in other.get("people").1["people"].as_array().unwrap() {
        other.client(&["person", "remove", row["name"].as_str().unwrap()]).succeeds();
    }
    vpn(&other, "ida.marsh", "Tide-Table-61", 1);
    let (people_file, machines_file) = (other.data.join("people.toml"), other.data.join("machines.toml"));
    std::fs::write(&people_file, &exported).unwrap();
    std::fs::write(&machines_file, machines).unwrap();
    other.client(&["person", "import"]).arg(&people_file).succeeds();
    other.client(&["machine", "import"]).arg(&machines_file).succeeds();
    vpn(&other, "ida.marsh", "Tide-Table-61", 0);
    vpn(&other, "ida.marsh", "Tide-Table-62", 1);
    // Whoever proves themselves by MS-CHAP does so there too.
    let peap = |password| other.try_eap(&["peap", "--user", "ida.marsh", "--password", password]);
    peap("Tide-Table-61").ends_with(0);
    peap("Tide-Table-62").ends_with(1);
    assert_eq!(other.client(&["person", "export"]).succeeds(), service.client(&["person", "export"]).succeeds());
    // What is no hash, or would cost too much at every proof, is told with its line.
    let lines = "name,store,password-hash,nt-hash,mschap\n\
                 a,harbour,secret,,\n\
                 b,harbour,\"$argon2id$v=19$m=1048576,t=2,p=1$c2FsdHNhbHRzYWx0$AAECAwQFBgcICQoLDA0ODw\",,\n\
                 c,harbour,\"$argon2id$v=19$m=19456,t=2,p=1$c2FsdHNhbHRzYWx0$AAECAwQFBgcICQoLDA0ODw\",xyz,true\n\
                 d,harbour,\"$argon2id$v=19$m=19456,t=2,p=1$c2FsdHNhbHRzYWx0$AAECAwQFBgcICQoLDA0ODw\",,true\n";
    let file = other.data.join("wrong.csv");
    std::fs::write(&file, lines).unwrap();
    let told = printed(&other.client(&["person", "import"]).arg(&file).ends_with(1));
    for part in
        ["4 refused", "no Argon2id hash", "costs more than 64 MiB", "32 hexadecimal digits", "`nt-hash` is missing"]
    {
        assert!(told.contains(part), "{part}: {told}");
    }
    assert!(!told.contains("secret,"), "{told}");
}

/// An import whose lines come in two parts, and what happens between them.
fn import_in_two(service: &Running, kind: &str, first: &str, second: &str, between: impl FnOnce()) -> String {
    use std::io::{Read, Write};
    let mut upload = std::net::TcpStream::connect(service.api.trim_start_matches("http://")).unwrap();
    write!(
        upload,
        "POST /api/v1/import/{kind} HTTP/1.1\r\nhost: localhost\r\nauthorization: Bearer {}\r\nconnection: close\r\n\
         content-type: application/x-ndjson\r\ncontent-length: {}\r\n\r\n{first}",
        service.token,
        first.len() + second.len()
    )
    .unwrap();
    // The first lines are read meanwhile.
    std::thread::sleep(std::time::Duration::from_millis(700));
    between();
    upload.write_all(second.as_bytes()).unwrap();
    let mut answer = String::new();
    upload.read_to_string(&mut answer).unwrap();
    answer
}

#[test]
fn an_import_undoes_nothing_that_was_changed_while_its_lines_came() {
    let service = Running::harbour();
    let show = |args: &[&str]| service.client(args).succeeds();
    // What is read stands on the disk meanwhile, and nobody finds a secret in it.
    let nas = |name: &str, last: u8| {
        serde_json::json!({ "name": name, "address": [format!("127.0.0.{last}")], "kind": "switch",
            "dialect": "standard", "site": "pier-1", "secret": format!("{name}-anchor-demo") })
        .to_string()
            + "\n"
    };
    let held = |service: &Running| {
        let open = std::fs::read_dir(format!("/proc/{}/fd", service.pid())).unwrap().flatten();
        let deleted = open
            .filter(|file| std::fs::read_link(file.path()).is_ok_and(|to| to.to_string_lossy().ends_with("(deleted)")));
        deleted.filter_map(|file| std::fs::read(file.path()).ok()).collect::<Vec<_>>()
    };
    let lines = nas("odd-sw-1", 77) + &nas("odd-sw-2", 78).repeat(100);
    let answer = import_in_two(&service, "nases", &lines, "\n", || {
        let held = held(&service);
        assert!(held.iter().any(|bytes| bytes.len() > 4_096), "the lines stand on the disk");
        let secret = b"odd-sw-1-anchor-demo";
        // As text, and as the numbers of a list of bytes.
        let numbers = serde_json::to_string(&secret[..]).unwrap();
        let numbers = numbers.trim_matches(['[', ']']).as_bytes();
        let holds = |bytes: &Vec<u8>| {
            [&secret[..], numbers].iter().any(|form| bytes.windows(form.len()).any(|part| part == *form))
        };
        assert!(!held.iter().any(holds), "a secret stands on the disk");
    });
    assert!(answer.contains("\"applied\":true") && answer.contains("\"refused\":0"), "{answer}");
    // Many lines after those that are looked at, so that the first are read before the last come.
    let line = "{\"mac\":\"02:00:5e:20:00:01\",\"title\":\"crane controller one\"}\n";
    let many: String = (0..2_000)
        .map(|number| format!("{{\"mac\":\"02:00:5e:77:{:02x}:{:02x}\"}}\n", number / 256, number % 256))
        .collect();
    let answer = import_in_two(&service, "devices", &(line.to_owned() + &many), "\n", || {
        service.client(&["device", "bar", "02005e200001", "--reason", "stolen"]).succeeds();
    });
    assert!(answer.contains("\"applied\":true") && answer.contains("\"refused\":0"), "{answer}");
    let told = show(&["device", "show", "02005e200001"]);
    assert!(told.contains("stolen") && told.contains("crane controller one"), "{told}");
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200001"]).ends_with(1);
    // A person with another password and disabled, of whom the lines say a group and a password.
    let lines =
        "{\"name\":\"ida.marsh\",\"note\":\"night shift\"}\n{\"name\":\"tom.reed\",\"password\":\"Mooring-Line-72\"}\n";
    let answer = import_in_two(&service, "people?store=harbour", lines, "\n", || {
        service.client(&["person", "change", "ida.marsh", "--disabled", "true"]).succeeds();
        service.client(&["person", "change", "tom.reed", "--note", "on leave"]).succeeds();
    });
    assert!(answer.contains("\"applied\":true") && answer.contains("\"refused\":0"), "{answer}");
    let told = show(&["person", "show", "ida.marsh"]);
    assert!(told.contains("disabled") && told.contains("night shift"), "{told}");
    assert!(show(&["person", "show", "tom.reed"]).contains("on leave"));
    service.try_from(&PILOT_VPN_1, &["pap", "--user", "tom.reed", "--password", "Mooring-Line-72"]).ends_with(0);
    // Whoever may not do it any more when the last line has come does nothing.
    let made = service.post("tokens", &serde_json::json!({ "name": "import" })).1;
    let (id, token) = (made["id"].as_str().unwrap().to_owned(), made["token"].as_str().unwrap().to_owned());
    let mut other = service;
    let own = std::mem::replace(&mut other.token, token);
    let answer = import_in_two(&other, "devices", "{\"mac\":\"02:00:5e:78:00:01\"}\n", "\n", || {
        let mut revoke = other.client(&["token", "revoke", &id]);
        revoke.env("REGNANT_TOKEN", &own).succeeds();
    });
    assert!(answer.contains(" 403 ") && answer.contains("nothing was done"), "{answer}");
    other.token = own;
    other.client(&["device", "show", "02005e780001"]).fails(1);
}

/// A large file is applied in parts, between which others have their turn: whoever may no longer do it ends it there,
/// and the same file does the rest.
#[test]
fn a_large_import_lets_others_in_between_and_one_that_ends_in_the_middle_can_be_done_again() {
    const LINES: u32 = 32_000;
    let service = Running::harbour();
    let file = service.data.join("many.csv");
    let lines: String = (0..LINES).map(|number| format!("02005fa{number:05x},scanner {number}\n")).collect();
    std::fs::write(&file, format!("mac,title\n{lines}")).unwrap();
    let (status, made) = service.post("tokens", &json!({ "name": "importer" }));
    assert_eq!(status, 200, "{made}");
    let (token, id) = (made["token"].as_str().unwrap(), made["id"].as_str().unwrap());
    let count = || {
        let told = service.get("stores").1;
        let store = told["stores"].as_array().unwrap().iter().find(|one| one["name"] == "harbour-devices");
        store.unwrap()["devices"].as_u64().unwrap()
    };
    let before = count();
    let import = |token: &str| {
        let mut command = service.client(&["device", "import", "--store", "harbour-devices"]);
        command.env("REGNANT_TOKEN", token).arg(&file).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let first = import(token);
    let began = Instant::now();
    while count() == before {
        assert!(began.elapsed() < Duration::from_secs(120), "nothing of it is seen before all of it is in force");
        std::thread::sleep(Duration::from_millis(10));
    }
    // The one who is in between ends it.
    assert_eq!(service.delete(&format!("tokens/{id}")).0, 204);
    let told = printed(&first.wait_with_output().unwrap());
    let part = count() - before;
    assert!(0 < part && part < u64::from(LINES), "{part} of {LINES}");
    assert!(told.contains(&format!("{part} lines were imported, and no more")), "{told}");
    assert!(import(&service.token).wait_with_output().unwrap().status.success());
    assert_eq!(count(), before + u64::from(LINES));
}
