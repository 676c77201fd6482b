//! The life of a policy: a folder, a draft, an edition, a difference, and the way back; a gate that is watched.
mod running;

use std::fs;
use std::path::Path;

use regnant_campus::harbour::{self, QUAY_SW_1};
use running::*;
use serde_json::{Value, json};

const MAIN: &str = "include \"grants.writ\"\n\ngate all {\n  accept mac\n  identify mac in harbour-devices { unknown continue }\n\n  \
                    rule \"Cranes\" {\n    when device in group \"cranes\"\n    grant quay\n  }\n  otherwise refuse\n}\n";
const GRANTS: &str = "grant quay { vlan 30 }\n";
/// A crane of the inventory, and an address that nobody has.
const CRANE: [&str; 3] = ["mac", "--mac", "02005e200007"];
const STRANGER: [&str; 3] = ["mac", "--mac", "02005e2000ee"];

fn lay_out(folder: &Path, main: &str, grants: &str) {
    fs::create_dir_all(folder).unwrap();
    fs::write(folder.join("main.writ"), main).unwrap();
    fs::write(folder.join("grants.writ"), grants).unwrap();
}

#[test]
fn a_folder_becomes_a_draft_an_edition_and_goes_back() {
    let service = Running::harbour();
    let folder = service.data.join("policy");
    let policy = |args: &[&str]| service.client(&[&["policy"], args].concat());
    let shown = folder.display().to_string();
    let first = service.get("policy").1["edition"]["number"].as_u64().unwrap();
    lay_out(&folder, MAIN, GRANTS);
    assert!(policy(&["diff", "draft"]).fails(1).contains("has no draft"));
    let told = policy(&["push", &shown]).succeeds();
    assert!(told.contains(&format!("version 1, made from edition {first}")), "{told}");
    let told = policy(&["diff"]).succeeds();
    assert!(told.contains("added gate all") && told.contains("removed gate") && told.contains("+gate all {"), "{told}");
    // Trying changes nothing; activating asks nobody and tells what it replaced.
    let tried = policy(&["activate", "--dry-run"]).succeeds();
    assert!(tried.contains("0 cases passed") && tried.contains("added grant quay (grants.writ:1)"), "{tried}");
    assert_eq!(service.get("policy").1["edition"]["number"], first);
    let done = policy(&["activate", "--note", "Only cranes, for the night"]).succeeds();
    assert!(done.contains(&format!("edition {} is active, in the place of {first}", first + 1)), "{done}");
    assert_eq!(service.get("policy/draft").0, 404, "what decides is no draft any more");
    service.try_from(&QUAY_SW_1, &CRANE).ends_with(0);
    service.try_from(&QUAY_SW_1, &STRANGER).ends_with(1);
    let editions = policy(&["editions"]).succeeds();
    assert!(editions.contains("Only cranes, for the night") && editions.contains("harbour"), "{editions}");
    assert!(service.client(&["audit", "list"]).succeeds().contains("Only cranes, for the night"));
    // What NASes of each dialect would be told is part of the difference.
    let wide = service.data.join("wide");
    lay_out(&wide, MAIN, "grant quay { vlan 31 }\n");
    let told = policy(&["diff", &wide.display().to_string(), "--meaning"]).succeeds();
    for part in [
        "a NAS of the dialect standard is told",
        "a NAS of the dialect tarnworks is told",
        "+ Tunnel-Private-Group-ID 31",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    // A draft that was begun before somebody else activated something knows what both changed.
    policy(&["push", &wide.display().to_string(), "--made-from", &(first + 1).to_string()]).succeeds();
    lay_out(&wide, MAIN, "grant quay { vlan 32 }\n");
    policy(&["activate", &wide.display().to_string()]).succeeds();
    let told = policy(&["diff"]).succeeds();
    assert!(told.contains("others changed:") && told.contains("you and others changed grant quay"), "{told}");
    assert!(policy(&["activate"]).fails(1).contains("you began with edition"), "nothing of others is lost");
    policy(&["drop-draft"]).succeeds();
    service.client(&["policy", "activate", &shown]).succeeds();
    let first_again = first;
    let first = service.get("policy").1["edition"]["number"].as_u64().unwrap() - 1;
    // Pulled, it is the same; what would be lost is not written over.
    let other = service.data.join("pulled");
    policy(&["pull", &other.display().to_string()]).succeeds();
    assert_eq!(fs::read_to_string(other.join("main.writ")).unwrap(), MAIN);
    assert_eq!(fs::read_to_string(other.join("grants.writ")).unwrap(), GRANTS);
    fs::write(other.join("grants.writ"), "grant quay { vlan 31 }\n").unwrap();
    let lost = policy(&["pull", &other.display().to_string()]).fails(2);
    assert!(lost.contains("grants.writ is something else there"), "{lost}");
    let told = policy(&["diff", &other.display().to_string()]).succeeds();
    assert!(told.contains("changed grant quay (grants.writ:1)") && told.contains("-grant quay { vlan 30 }"), "{told}");
    assert!(policy(&["pull", &other.display().to_string(), "--anyway"]).succeeds().contains("grants.writ"));
    // A folder without a main.writ has files too, and a link leads to somebody else's.
    let beside = service.data.join("beside");
    std::fs::create_dir(&beside).unwrap();
    std::fs::write(beside.join("grants.writ"), "# mine\n").unwrap();
    let lost = policy(&["pull", &beside.display().to_string()]).fails(2);
    assert!(lost.contains("would be lost"), "{lost}");
    let (linked, target) = (service.data.join("linked"), service.data.join("target.writ"));
    std::fs::create_dir(&linked).unwrap();
    std::fs::write(&target, "# another's\n").unwrap();
    std::os::unix::fs::symlink(&target, linked.join("main.writ")).unwrap();
    let link = policy(&["pull", &linked.display().to_string(), "--anyway"]).fails(2);
    assert!(link.contains("is a link"), "{link}");
    assert_eq!(std::fs::read_to_string(&target).unwrap(), "# another's\n");
    // Back, with the reason; the edition says from which.
    let back = policy(&["rollback", &first_again.to_string(), "--note", "It kept the crew out"]).succeeds();
    assert!(back.contains("removed gate all") && back.contains(&format!("edition {} is active", first + 2)), "{back}");
    let newest = service.get("policy/editions").1["editions"][0].clone();
    assert_eq!((&newest["made_from"], &newest["note"]), (&json!(first_again), &json!("It kept the crew out")));
    assert_eq!(
        service.get(&format!("policy/editions/{first_again}")).1["source"],
        service.get("policy").1["edition"]["source"]
    );
    assert!(policy(&["rollback", "999"]).fails(1).contains("There is no edition 999"));
    // What it names may be gone by now.
    service.client(&["policy", "activate", &shown]).succeeds();
    service.client(&["trust", "remove", regnant_campus::certificates::TRUST]).succeeds();
    let refused = printed(&policy(&["rollback", &first_again.to_string()]).ends_with(1));
    assert!(refused.contains("there is no trust"), "{refused}");
    service.try_from(&QUAY_SW_1, &CRANE).ends_with(0);
}

#[test]
fn a_draft_is_its_authors_and_nothing_typed_is_lost() {
    let service = Running::harbour();
    let form = |text: &str| json!({ "source": text, "made_from": 1 });
    let (status, _, tag) = service.call("PUT", "policy/draft", None, &form("# one\n"));
    assert_eq!((status, tag.as_str()), (200, "\"1\""));
    // Somebody else with the same name, or the same person elsewhere, has another one by now.
    assert_eq!(service.call("PUT", "policy/draft", None, &form("# two\n")).0, 412);
    assert_eq!(service.call("PUT", "policy/draft", Some("\"1\""), &form("# three\n")).0, 200);
    let (status, body, _) = service.call("PUT", "policy/draft", Some("\"1\""), &form("# four\n"));
    assert_eq!(status, 412);
    assert!(body["error"].as_str().unwrap().contains("read it again"), "{body}");
    assert_eq!(service.get("policy/draft").1["source"], "# three\n");
    // No file of it ever stands outside its folder.
    for path in ["../x.writ", "/x.writ", "a/../../x.writ", ".ssh/x.writ", "x.txt", "C:\\x.writ"] {
        let form = json!({ "source": "", "included": { path: "" }, "made_from": 1 });
        let (status, body, _) = service.call("PUT", "policy/draft", Some("\"2\""), &form);
        assert_eq!(status, 400, "{path}: {body}");
        let gate = "gate nobody { otherwise refuse }\n";
        let (status, told) = service.post("policy/activate", &json!({ "source": gate, "included": { path: "" } }));
        assert_eq!(status, 422, "{path}: {told}");
        assert!(told.to_string().contains("W130"), "{told}");
    }
    let long = json!({ "source": "#".repeat(8_100_000), "made_from": 1 });
    assert!([400, 413].contains(&service.call("PUT", "policy/draft", Some("\"2\""), &long).0));
    assert_eq!(service.call("PUT", "policy/draft", Some("\"x\""), &form("")).0, 400);
    assert_eq!(service.call("DELETE", "policy/draft", None, &json!(null)).0, 204);
    assert_eq!(service.call("DELETE", "policy/draft", None, &json!(null)).0, 404);
    // It is kept over a restart, as editions are.
    let mut service = service;
    service.call("PUT", "policy/draft", None, &form("# kept\n"));
    assert_eq!(service.end("-KILL"), None);
    let service = service.again();
    assert_eq!(service.get("policy/draft").1["source"], "# kept\n");
}

#[test]
fn a_draft_is_activated_as_it_was_read_and_with_the_warnings_that_were_accepted() {
    let service = Running::harbour();
    let active = service.get("policy").1["edition"]["number"].as_u64().unwrap();
    // A watched gate is warned of.
    let watched = |vlan: u32| {
        format!(
            "gate things {{ accept mac identify mac in harbour-devices observe with grant lan otherwise refuse }}\n\
             grant lan {{ vlan {vlan} }}\n"
        )
    };
    let keep = |seen: Option<&str>, vlan: u32| {
        let form = json!({ "source": watched(vlan), "made_from": active });
        assert_eq!(service.call("PUT", "policy/draft", seen, &form).0, 200);
    };
    let activate = |body: &serde_json::Value| service.post("policy/draft/activate", body);
    assert_eq!(activate(&json!({ "version": 1 })).0, 404, "there is none");
    keep(None, 7);
    keep(Some("\"1\""), 8);
    let (status, told) = activate(&json!({ "version": 1, "note": "x" }));
    assert_eq!(status, 412, "it was written since: {told}");
    let (status, told) = activate(&json!({ "version": 2, "note": "x", "accepted": [] }));
    assert_eq!(status, 422);
    assert!(told["error"].as_str().unwrap().contains("other warnings than those that you accepted"), "{told}");
    let found = told["report"]["diagnostics"].as_array().unwrap();
    let accepted: Vec<_> = found.iter().map(|one| json!({ "code": one["code"], "message": one["message"] })).collect();
    assert!(accepted.iter().any(|one| one["code"] == "W508"), "{told}");
    let (status, told) = activate(&json!({ "version": 2, "note": "Watched", "accepted": accepted }));
    assert_eq!((status, told["replaces"].as_u64()), (200, Some(active)), "{told}");
    assert_eq!(service.get("policy/draft").0, 404, "what decides is no draft any more");
    let edition = &service.get("policy").1["edition"];
    assert!(edition["note"].as_str().unwrap().starts_with("Watched (accepted: W508"), "{edition}");
    assert_eq!(edition["made_from"].as_u64(), Some(active));
    // Another edition decides by now than the one that the draft was made from.
    keep(None, 9);
    let (status, told) = activate(&json!({ "version": 1, "note": "late" }));
    assert_eq!(status, 412);
    assert!(told["error"].as_str().unwrap().contains("look at what changed"), "{told}");
    assert_eq!(service.get("policy/draft").0, 200, "it stays");
}

/// Whoever bars a stolen device waits for no policy that is being checked.
#[test]
fn others_change_things_while_a_policy_is_checked() {
    let service = Running::harbour();
    let rule =
        |number: usize| format!("rule \"Rule {number}\" {{ when request.ssid = \"network {number}\" grant lan }}\n");
    let rules: String = (0..1_500).map(rule).collect();
    let source = format!(
        "gate things {{ accept mac identify mac in harbour-devices\n{rules} otherwise refuse }}\ngrant lan {{ vlan 7 }}\n"
    );
    let done = std::sync::atomic::AtomicBool::new(false);
    let changed = std::thread::scope(|scope| {
        let (done, service) = (&done, &service);
        let checked = scope.spawn(move || {
            let told = service.post("policy/activate", &json!({ "source": source, "note": "Long" }));
            done.store(true, std::sync::atomic::Ordering::Relaxed);
            told
        });
        let mut changed = 0;
        while !done.load(std::sync::atomic::Ordering::Relaxed) {
            let note = json!({ "note": format!("seen {changed} times") });
            let (status, told, _) = service.call("PATCH", "devices/harbour-devices/02:00:5e:20:00:07", None, &note);
            assert_eq!(status, 200, "{told}");
            changed += 1;
        }
        let (status, told) = checked.join().unwrap();
        assert_eq!(status, 200, "{}", told["error"]);
        changed
    });
    assert!(changed > 2, "nothing was changed while a policy was checked");
}

#[test]
fn what_is_no_text_is_told_with_its_place() {
    let dir = tempfile::tempdir().unwrap();
    let check = |bytes: &[u8], code: i32| {
        fs::write(dir.path().join("main.writ"), bytes).unwrap();
        printed(&regnant().args(["policy", "check"]).arg(dir.path()).ends_with(code))
    };
    assert!(check(b"# a\n\xff", 2).contains("is no text in UTF-8: its byte 5 in line 2"));
    assert!(check(b"gate nobody { otherwise refuse }\0", 1).contains("has no meaning here"));
    assert!(check("\u{feff}gate nobody {\r\n otherwise refuse\r\n}\r\n".as_bytes(), 0).contains("0 cases"));
    let deep = format!("define x = {}device.barred{}", "(".repeat(10_000), ")".repeat(10_000));
    assert!(check(deep.as_bytes(), 1).contains("nested too deeply"));
    fs::write(dir.path().join("other.writ"), b"\xfe").unwrap();
    assert!(check(b"gate nobody { otherwise refuse }", 2).contains("other.writ is no text"));
    fs::remove_file(dir.path().join("other.writ")).unwrap();
    // One layout, told or made.
    fs::write(dir.path().join("main.writ"), "gate nobody {\notherwise   refuse }\n").unwrap();
    let other = printed(&regnant().args(["policy", "format", "--check"]).arg(dir.path()).ends_with(1));
    assert!(other.contains("main.writ is laid out otherwise"), "{other}");
    regnant().args(["policy", "format"]).arg(dir.path()).succeeds();
    assert_eq!(fs::read_to_string(dir.path().join("main.writ")).unwrap(), "gate nobody {\n  otherwise refuse }\n");
    regnant().args(["policy", "format", "--check"]).arg(dir.path()).succeeds();
}

#[test]
fn a_gate_that_is_watched_lets_in_whom_it_would_refuse_and_tells() {
    let service = Running::harbour();
    let activate = |main: &str| {
        let body = json!({ "source": main, "included": { "grants.writ": GRANTS } });
        service.post("policy/activate", &body)
    };
    let watched = MAIN.replace(
        "  otherwise",
        "  rule \"Barred\" always {\n    when device.barred\n    refuse\n  }\n  observe with grant quay\n  otherwise",
    );
    let (status, done) = activate(&watched);
    assert_eq!(status, 200, "{done}");
    assert!(done.to_string().contains("W508"), "{done}");
    let told = service.try_from(&QUAY_SW_1, &STRANGER).succeeds();
    assert!(told.contains("Tunnel-Private-Group-ID"), "{told}");
    let entry = service.entries("outcome=observed", 1).remove(0);
    let told = sentence(&entry);
    assert!(told.contains("would have been refused, and was given quay") && told.contains("no rule applies"), "{told}");
    let trail = service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1.to_string();
    assert!(trail.contains("The gate is watched: it would have refused."), "{trail}");
    let today = service.get("today").1.to_string();
    assert!(today.contains("gate `all` is watched"), "{today}");
    assert!(today.contains("\"observed\"") && today.contains("it is time to remove `observe`"), "{today}");
    // Whoever is kept out always is kept out, and whoever is let in is let in as ever.
    service.client(&["device", "bar", "02:00:5e:20:00:07", "--reason", "lost"]).succeeds();
    let barred = watched
        .replace("  rule \"Cranes\" {\n    when device", "  rule \"Cranes\" {\n    when not device.barred and device");
    assert_eq!(activate(&barred).0, 200);
    service.try_from(&QUAY_SW_1, &CRANE).ends_with(1);
    // Taken back, strangers stay out.
    assert_eq!(activate(MAIN).0, 200);
    service.try_from(&QUAY_SW_1, &STRANGER).ends_with(1);
    // A copy that nobody has looked at is activated by nobody.
    let copied = MAIN.replace("  otherwise", "  rule \"More cranes\" copied from \"Cranes\" {\n    when device in group \"cranes\"\n    grant quay\n  }\n  otherwise");
    let (status, refused) = activate(&copied);
    assert_eq!(status, 422, "{refused}");
    assert!(refused.to_string().contains("W412"), "{refused}");
    let severity = |path: &str| {
        let report = service.post(path, &json!({ "source": copied, "included": { "grants.writ": GRANTS } })).1;
        let found = report["diagnostics"].as_array().unwrap().iter().find(|found| found["code"] == "W412");
        found.unwrap()["severity"].as_str().unwrap().to_owned()
    };
    // While it is written that is a warning; where it is to be activated, it says so before the last step.
    assert_eq!(severity("policy/check"), "warning");
    assert_eq!(severity("policy/check?to_activate=true"), "error");
}

#[test]
fn a_case_may_be_judged_by_what_the_records_say_now() {
    let service = Running::harbour();
    let case = |mac: &str, expected: &str| {
        format!(
            "\ncase \"as it is\" {{\n given request.carrier = mac, request.mac = {mac}\n expect now {expected}\n}}\n\
             case \"a person\" {{\n given request.carrier = pap, user.name = \"TOM.reed\"\n expect now grant quay by \"Engineers\"\n}}\n"
        )
    };
    let main = MAIN.replace("  accept mac\n", "  accept mac, pap\n  identify user in harbour\n").replace(
        "  otherwise",
        "  rule \"Engineers\" {\n    when user in group \"crane-engineers\" and user.proved\n    grant quay\n  }\n  otherwise",
    );
    let activate = |main: &str| {
        let body = json!({ "source": main, "included": { "grants.writ": GRANTS } });
        service.post("policy/activate", &body)
    };
    let known = format!("{main}{}", case("02:00:5e:20:00:07", "grant quay by \"Cranes\""));
    let (status, told) = activate(&known);
    assert_eq!(status, 200, "{told}");
    assert_eq!(told["report"]["cases"].as_array().unwrap().len(), 2);
    assert_eq!(activate(&format!("{main}{}", case("02:00:5e:20:00:ee", "refuse by otherwise"))).0, 200);
    // Without a service there are no records to judge by.
    let alone = service.data.join("alone");
    lay_out(&alone, &known, GRANTS);
    assert!(printed(&regnant().args(["policy", "check"]).arg(&alone).ends_with(0)).contains("0 cases passed"));
    // The records have changed by then.
    service.client(&["person", "change", "tom.reed", "--disabled", "true"]).succeeds();
    let (status, told) = activate(&known);
    assert_eq!(status, 422, "{told}");
    assert!(told.to_string().contains("case \\\"a person\\\" fails"), "{told}");
}

#[test]
fn what_if_is_asked_beside_the_active_edition_and_an_entry_becomes_a_case() {
    let service = Running::harbour();
    let folder = service.data.join("policy");
    lay_out(&folder, MAIN, GRANTS);
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    service.try_from(&QUAY_SW_1, &CRANE).ends_with(0);
    service.try_from(&QUAY_SW_1, &STRANGER).ends_with(1);
    let crane = service.entries("outcome=granted&q=02:00:5e:20:00:07", 1)[0]["id"].as_str().unwrap().to_owned();
    let stranger = service.entries("outcome=refused&q=02:00:5e:20:00:ee", 1)[0]["id"].as_str().unwrap().to_owned();
    // The same facts under another policy, as two trails.
    let closed = MAIN.replace("group \"cranes\"", "group \"cranes\" and nas.site = \"tower\"");
    let other = service.data.join("other");
    lay_out(&other, &closed, GRANTS);
    let asked = |args: &[&str]| {
        let mut command = service.client(&[&["policy", "what-if"], args].concat());
        command.args(["--with", &other.display().to_string()]).succeeds()
    };
    let told = asked(&["--entry", &crane]);
    for part in [
        "granted: quay (VLAN 30), by \"Cranes\"",
        "refused, otherwise",
        "nas.site = \"tower\" is false",
        "something else",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    let told = asked(&["--entry", &crane, "--fact", "nas.site = \"tower\""]);
    assert!(told.contains("both come to the same"), "{told}");
    // Facts alone; what was not stated is absent.
    let told = asked(&["--fact", "request.carrier = mac", "--fact", "device.groups = { \"cranes\" }"]);
    assert!(told.contains("nas.site = \"tower\" is absent"), "{told}");
    let told = asked(&["--fact", "request.carrier = pap"]);
    assert!(told.contains("gate all does not accept pap"), "{told}");
    let mut wrong = service.client(&["policy", "what-if", "--fact", "nas.sight = \"x\""]);
    assert!(wrong.fails(1).contains("did you mean `nas.site`?"));
    assert!(service.client(&["policy", "what-if"]).fails(2).contains("state facts"));
    assert!(
        service
            .client(&["policy", "what-if", "--entry", "01M8CSBN4ZE7A486CT5DZ25AG1"])
            .fails(1)
            .contains("has no entry")
    );
    fs::write(other.join("main.writ"), "gate x {").unwrap();
    assert!(asked(&["--entry", &crane]).contains("does not check"));
    // A case of each, which the policy passes; nothing was counted.
    let case = |id: &str| service.client(&["policy", "case", "--entry", id]).succeeds();
    let (granted, refused) = (case(&crane), case(&stranger));
    assert!(
        granted.contains("device.groups = { \"cranes\" }") && granted.contains("expect grant quay by \"Cranes\""),
        "{granted}"
    );
    assert!(refused.contains("expect refuse by otherwise"), "{refused}");
    fs::write(folder.join("main.writ"), format!("{MAIN}\n{granted}\n{refused}")).unwrap();
    let told =
        String::from_utf8(regnant().args(["policy", "check", "--coverage"]).arg(&folder).ends_with(0).stdout).unwrap();
    assert!(told.contains("2 cases passed") && told.contains("every rule is reached by a case"), "{told}");
    lay_out(&folder, MAIN, GRANTS);
    let told =
        String::from_utf8(regnant().args(["policy", "check", "--coverage"]).arg(&folder).ends_with(0).stdout).unwrap();
    assert!(told.contains("no case reaches \"Cranes\" of gate all"), "{told}");
    // A title that begins and ends with quotes is the same in a case.
    let quoted = MAIN.replace("\"Cranes\"", r#""\"Cranes\" \\ \"all\"""#);
    lay_out(&folder, &quoted, GRANTS);
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    service.try_from(&QUAY_SW_1, &CRANE).ends_with(0);
    let ids = service.entries("outcome=granted&q=02:00:5e:20:00:07", 2);
    let of_quoted = ids.iter().find(|entry| entry["id"] != crane.as_str()).unwrap()["id"].as_str().unwrap();
    fs::write(folder.join("main.writ"), format!("{quoted}\n{}", case(of_quoted))).unwrap();
    assert!(printed(&regnant().args(["policy", "check"]).arg(&folder).ends_with(0)).contains("1 case passed"));
    lay_out(&folder, MAIN, GRANTS);
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    // How often each rule decided.
    let hits = service.get("policy/hits").1["rules"].clone();
    let row = |rule: &str| hits.as_array().unwrap().iter().find(|row| row["rule"] == rule).unwrap().clone();
    assert_eq!((&row("Cranes")["day"], &row("otherwise")["week"]), (&json!(1), &json!(1)), "{hits}");
    assert!(service.client(&["policy", "hits"]).succeeds().contains("Cranes"));
    // A login that proved nobody has nothing that a case could state.
    let policy = regnant_campus::harbour::POLICY;
    assert_eq!(service.post("policy/activate", &json!({ "source": policy })).0, 200);
    service
        .try_from(&regnant_campus::harbour::PILOT_VPN_1, &["pap", "--user", "ola.nett", "--password", "x"])
        .ends_with(1);
    let id = service.entries("q=ola.nett&outcome=refused", 1)[0]["id"].as_str().unwrap().to_owned();
    assert!(service.client(&["policy", "case", "--entry", &id]).fails(1).contains("a case states what was proved"));
    let told = service.client(&["policy", "what-if", "--entry", &id]).succeeds();
    assert!(told.contains("since nobody was proved"), "{told}");
    let code = service.client(&["policy", "explain", "w412"]).succeeds();
    assert!(code.contains("a copy that nobody has looked at"), "{code}");
}

#[test]
fn the_api_reads_gates_aloud_and_places_what_is_done_to_rules() {
    let service = Running::harbour();
    let source = service.get("policy").1["edition"]["source"].clone();
    let (status, table) = service.post("policy/gates", &json!({ "source": source, "gate": "switch-ports" }));
    assert_eq!((status, table["gates"].as_array().unwrap().len()), (200, 4));
    let rule = &table["shown"]["rules"][1];
    assert_eq!(
        (&rule["title"], &rule["when"]),
        (&json!("Crane controllers"), &json!("the device is in group “cranes”"))
    );
    let told = table["told"].as_array().unwrap().iter().find(|told| told["grants"] == json!(["cranes"])).unwrap();
    let told = told["dialects"].to_string();
    assert!(told.contains("Tunnel-Private-Group-ID") && told.contains("tarnworks"), "{told}");
    let items = service.post("policy/outline", &json!({ "source": source })).1;
    let item = items["items"].as_array().unwrap().iter().find(|item| item["name"] == "Crane controllers").unwrap();
    assert_eq!((&item["gate"], &item["line"]), (&json!("switch-ports"), &rule["line"]));
    // What cannot be done says why.
    let act = |act: Value| service.post("policy/act", &json!({ "source": source, "act": act }));
    let of = |more: Value| {
        let mut act = json!({ "gate": "switch-ports", "rule": "Crane controllers" });
        act.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        act
    };
    let (status, changes) = act(of(json!({ "do": "off", "until": "2030-01-01T00:00Z" })));
    assert_eq!((status, &changes["changes"][0]["text"]), (200, &json!(" off until 2030-01-01T00:00Z")));
    for (wrong, told) in [
        (of(json!({ "do": "off", "until": "soon" })), "`soon` is no moment"),
        (of(json!({ "do": "copy", "title": "Quay cameras" })), "no other rule of the gate has"),
        (of(json!({ "do": "move", "before": "Nobody" })), "no rule \"Nobody\""),
        (json!({ "do": "put", "text": "vlan 20" }), "no item"),
        (json!({ "do": "sing" }), "unknown variant `sing`"),
    ] {
        let (status, refused) = act(wrong);
        assert!((400..500).contains(&status) && refused["error"].as_str().unwrap().contains(told), "{refused}");
    }
    let (status, refused) = service.post("policy/begin", &json!({ "people": "two words" }));
    assert_eq!(
        (status, &refused["error"]),
        (400, &json!("`two words` is no name of a store: letters, digits, - and _."))
    );
    let (_, begun) = service.post("policy/begin", &json!({ "people": "harbour", "remote": "staff" }));
    assert_eq!(service.post("policy/check", &begun).1["cases"][0]["failure"], Value::Null);
}

#[test]
fn a_policy_is_checked_against_what_a_file_says_that_there_is() {
    let service = Running::harbour();
    let folder = service.data.join("policy");
    let check = |more: &[&str], code: i32| {
        printed(&regnant().args(["policy", "check"]).arg(&folder).args(more).ends_with(code))
    };
    // What the service has, written down, tells the same as the service.
    let inventory = service.data.join("there-is.json");
    fs::write(&inventory, service.client(&["policy", "inventory"]).succeeds()).unwrap();
    let inventory = inventory.display().to_string();
    let wrong = MAIN.replace("harbour-devices", "harbor-devices").replace("\"cranes\"", "\"crane\"");
    lay_out(&folder, &wrong, GRANTS);
    let told = check(&["--inventory", &inventory], 1);
    assert!(told.contains("W404") && told.contains("did you mean `harbour-devices`?"), "{told}");
    let shown = folder.display().to_string();
    let asked = printed(&service.client(&["policy", "check", &shown, "--against-service"]).ends_with(1));
    let named = told.replace(&format!("{shown}/"), "");
    assert_eq!(named, asked);
    lay_out(&folder, &MAIN.replace("\"cranes\"", "\"crane\" and nas.site = \"quay\""), GRANTS);
    for told in [
        check(&["--inventory", &inventory], 0),
        printed(&service.client(&["policy", "check", &shown, "--against-service"]).ends_with(0)),
    ] {
        assert!(told.contains("W503") && told.contains("did you mean `cranes`?"), "{told}");
        assert!(told.contains("no NAS has `nas.site` \"quay\""), "{told}");
    }
    // An inventory file knows the service's own stores; others are connected elsewhere.
    let file = service.data.join("inventory.toml");
    fs::write(&file, harbour::INVENTORY).unwrap();
    let file = file.display().to_string();
    assert!(check(&["--inventory", &file], 0).contains("W503"));
    lay_out(&folder, &MAIN.replace("in harbour-devices", "in harbour-devices, far-register"), GRANTS);
    let told = check(&["--inventory", &file], 0);
    assert!(told.contains("W518: the inventory has no store `far-register`"), "{told}");
    // Words of a dialect and of a dictionary of one's own.
    lay_out(&folder, MAIN, "grant quay {\n  send Tarnworks-Role = \"quay\"\n}\n");
    assert!(check(&["--inventory", &file], 1).contains("Tarnworks-Role"));
    let own = |name: &str, text: &str| {
        let path = service.data.join(name);
        fs::write(&path, text).unwrap();
        path.display().to_string()
    };
    let (dictionary, dialect) = (own("words.toml", harbour::DICTIONARY), own("tarnworks.toml", harbour::DIALECT));
    let with = ["--inventory", &file, "--dictionary", &dictionary, "--dialect", &dialect];
    check(&with, 0);
    // Files that are none of these say so.
    for (name, text, expected) in [
        ("list.json", "{ \"stores\": 3 }", "is not what `regnant policy inventory` prints"),
        ("kind.json", "{ \"stores\": { \"x\": { \"holds\": [\"usr\"] } } }", "`usr` is no kind of identity"),
        ("list.toml", "[[stor]]\n", "list.toml: line 1"),
    ] {
        let other = own(name, text);
        assert!(check(&["--inventory", &other], 2).contains(expected), "{expected}");
    }
    let broken = own("broken.toml", "name = 3\n");
    assert!(check(&["--dictionary", &broken], 2).contains("the files do not go together"));
    // Nobody's secret, name or password is among the names.
    let printed = fs::read_to_string(service.data.join("there-is.json")).unwrap();
    assert!(!printed.contains(QUAY_SW_1.secret) && !printed.contains("ida.marsh"), "{printed}");
}

#[test]
fn a_case_judged_now_asks_what_the_gate_looks_up_beside() {
    let service = Running::harbour();
    service.client(&["store", "add", "night-list", "--kind", "people"]).succeeds();
    let add = ["person", "add", "tom.reed", "--store", "night-list", "--group", "night-watch"];
    let added = typed(&mut service.client(&add), "Lantern-Room-7\n");
    assert!(added.status.success(), "{}", printed(&added));
    let main = MAIN
        .replace("  accept mac\n", "  accept mac, pap\n  identify user in harbour\n  lookup user in night-list\n")
        .replace(
            "  otherwise",
            "  rule \"Watch\" {\n    when user in group \"night-watch\" of night-list\n    grant quay\n  }\n  \
             rule \"Elsewhere\" {\n    when user in group \"crane-engineers\" of night-list\n    refuse\n  }\n  \
             rule \"Engineers\" {\n    when user in group \"crane-engineers\" of harbour\n    grant quay\n  }\n  otherwise",
        );
    let case = "\ncase \"tom\" {\n given request.carrier = pap, user.name = \"tom.reed\"\n expect now grant quay by \"Watch\"\n}\n";
    let activate = |source: String| {
        service.post("policy/activate", &json!({ "source": source, "included": { "grants.writ": GRANTS } }))
    };
    let (status, told) = activate(format!("{main}{case}"));
    assert_eq!(status, 200, "{told}");
    // What the second store does not have any more the first still has.
    service.client(&["person", "remove", "tom.reed", "--store", "night-list"]).succeeds();
    let (status, told) = activate(format!("{main}{case}"));
    assert!(status == 422 && told.to_string().contains("grants quay by \\\"Engineers\\\""), "{status} {told}");
}

#[test]
fn a_first_policy_is_asked_for_with_the_names_that_there_are() {
    let service = Running::harbour();
    let folder = service.data.join("first");
    let shown = folder.display().to_string();
    let answers = "habour\nharbour\nHARBOUR-DEVICES\nradius.tarnmouth.example\nstaff 20\nstav 21\n\nnetwork-operators\n\n\n\
                   cranes 30\n\n99\nyard\n";
    let new = ["policy", "new", &shown, "--against-service"];
    let asked = typed(&mut service.client(&new), answers);
    let told = printed(&asked);
    assert!(asked.status.success(), "{told}");
    assert!(told.contains("there is no habour; did you mean harbour?") && told.contains("there is no stav"), "{told}");
    assert!(told.contains("(there are: ") && told.contains("cameras"), "{told}");
    let main = fs::read_to_string(folder.join("main.writ")).unwrap();
    assert!(main.contains("identify mac in harbour-devices") && !main.contains("stav"), "{main}");
    regnant().args(["policy", "format", "--check"]).arg(&folder).succeeds();
    service.client(&["policy", "activate", &shown, "--note", "The first"]).succeeds();
    service.try_from(&QUAY_SW_1, &CRANE).ends_with(0);
    // What is there already is not written over.
    let again = typed(&mut service.client(&new), answers);
    assert!(printed(&again).contains("has a policy already"), "{}", printed(&again));
}

#[test]
fn whoever_writes_a_policy_is_helped_by_the_service() {
    let service = Running::harbour();
    let main = MAIN.replace("grant quay", "grant qu");
    let line = |part: &str| main[..main.find(part).unwrap()].matches('\n').count() + 1;
    let place = |part: &str, column: usize| json!({ "source": main, "included": { "grants.writ": GRANTS }, "line": line(part), "column": column });
    let (status, offered) = service.post("policy/completion", &place("grant qu", 13));
    assert_eq!((status, &offered["items"]), (200, &json!([{ "text": "quay", "kind": "name", "detail": "grant" }])));
    assert_eq!(
        offered["replaces"],
        json!({ "file": "main.writ", "line": line("grant qu"), "column": 11, "length": 2 })
    );
    let groups = place("device in group", 26);
    let (_, offered) = service.post("policy/completion", &groups);
    assert!(offered["items"].to_string().contains("\\\"cameras\\\""), "{offered}");
    let (_, told) = service.post("policy/meaning", &place("identify mac", 20));
    assert_eq!(told["title"], "store harbour-devices");
    let mut of_grants = place("grant", 7);
    of_grants["file"] = json!("grants.writ");
    of_grants["line"] = json!(1);
    let (_, told) = service.post("policy/meaning", &of_grants);
    assert_eq!(
        (told["title"].as_str(), told["occurrences"][0]["file"].as_str()),
        (Some("grant quay"), Some("grants.writ"))
    );
    let (status, changes) = service.post("policy/rename", &json!({ "place": of_grants, "name": "pier" }));
    assert_eq!((status, changes["changes"][0]["text"].as_str()), (200, Some("pier")), "{changes}");
    let (status, refused) = service.post("policy/rename", &json!({ "place": of_grants, "name": "2" }));
    assert!(status == 400 && refused["error"].as_str().unwrap().starts_with("`2` cannot be a name"), "{refused}");
    let loose = json!({ "source": "gate  g {\notherwise refuse\n}\n", "included": { "x.writ": "\"open" } });
    let (_, laid) = service.post("policy/format", &loose);
    assert_eq!(laid["source"], "gate g {\n  otherwise refuse\n}\n");
    assert_eq!((&laid["included"]["x.writ"], &laid["unread"]), (&json!("\"open"), &json!(["x.writ"])));
    // A place that is not there is the nearest that is; a file that is not there is none.
    assert_eq!(service.post("policy/completion", &json!({ "source": "ga", "line": 900, "column": 900 })).0, 200);
    assert_eq!(service.post("policy/completion", &json!({ "source": "", "file": "x", "line": 1, "column": 1 })).0, 400);
}
