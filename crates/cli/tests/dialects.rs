//! One policy, and equipment of two makes.
mod running;

use std::fs;

use regnant_campus::harbour::{DIALECT, DICTIONARY, INVENTORY, QUAY_SW_1, YARD_SW_1};
use running::*;
use serde_json::json;

/// A harbour whose yard has switches of another make.
fn two_makes() -> Running {
    let service = Running::harbour();
    let file = |name: &str, text: &str| {
        let path = service.data.join(name);
        fs::write(&path, text).unwrap();
        path
    };
    service.client(&["dictionary", "add"]).arg(file("dictionary.toml", DICTIONARY)).succeeds();
    service.client(&["dialect", "add"]).arg(file("dialect.toml", DIALECT)).succeeds();
    service.client(&["import"]).arg(file("inventory.toml", &speaking("yard-sw-1", "tarnworks"))).succeeds();
    service
}

/// The inventory, in which one NAS speaks this dialect.
fn speaking(nas: &str, dialect: &str) -> String {
    let (before, after) = INVENTORY.split_once(&format!("name = \"{nas}\"\n")).unwrap();
    let after = after.split("\n[[").next().unwrap().replace("dialect = \"tarnworks\"\n", "");
    assert!(before.contains("[[nas]]"));
    format!("[[nas]]\nname = \"{nas}\"\ndialect = \"{dialect}\"\n{after}")
}

fn ask(service: &Running, nas: &regnant_campus::Nas, code: i32) -> String {
    let mut ask = service.try_from(nas, &["mac", "--mac", "02005e400001"]);
    String::from_utf8(ask.arg("--dictionary").arg(service.data.join("dictionary.toml")).ends_with(code).stdout).unwrap()
}

#[test]
fn the_same_grant_is_told_to_each_make_in_its_own_words() {
    let service = two_makes();
    let yard = ask(&service, &YARD_SW_1, 0);
    assert!(yard.contains("Tarnworks-List-Entry") && !yard.contains("NAS-Filter-Rule"), "{yard}");
    let quay = ask(&service, &QUAY_SW_1, 0);
    assert!(quay.contains("NAS-Filter-Rule") && !quay.contains("Tarnworks"), "{quay}");
    let entry = &service.entries("q=yard-sw-1&outcome=granted", 1)[0];
    let trail = service.client(&["trail", entry["id"].as_str().unwrap()]).succeeds();
    assert!(trail.contains("Tarnworks-List-Entry") && trail.contains("scanners-edge"), "{trail}");

    let preview = service.client(&["dialect", "preview", "scanners", "--nas", "yard-sw-1"]).succeeds();
    assert!(preview.contains("Tarnworks-List-Entry") && preview.contains("bytes"), "{preview}");
    let (_, asked) = service.get("dialects/preview?grant=scanners&nas=YARD-SW-1");
    let hex = asked["hex"].as_str().unwrap();
    assert!(hex.starts_with("40060000000d41060000000651") && hex.contains("1a"), "{hex}");
    let cannot = service.client(&["dialect", "preview", "scanner", "--nas", "yard-sw-1"]).fails(1);
    assert!(cannot.contains("There is no grant `scanner`") && cannot.contains("Did you mean `scanners`?"), "{cannot}");
    let shown = service.client(&["dialect", "show", "tarnworks"]).succeeds();
    assert!(shown.contains("role={}") && shown.contains("only together with service"), "{shown}");
    let listed = service.client(&["dialect", "list"]).succeeds();
    assert!(listed.contains("yard-sw-1") && listed.contains("standard"), "{listed}");

    // What somebody needs stays, and who needs it is told.
    let told = service.client(&["dialect", "remove", "tarnworks"]).fails(1);
    assert!(told.contains("NASes speak it: yard-sw-1"), "{told}");
    let told = service.client(&["dictionary", "remove", "tarnworks"]).fails(1);
    assert!(told.contains("tarnworks.toml:") && told.contains("there is no attribute `Tarnworks-"), "{told}");
    service.client(&["import"]).arg(service.data.join("harbour/inventory.toml")).succeeds();
    service.client(&["dialect", "remove", "Tarnworks"]).succeeds();
    service.client(&["dictionary", "remove", "Tarnworks"]).succeeds();
    assert!(service.client(&["dialect", "remove", "standard"]).fails(1).contains("No dialect of your own"));
}

#[test]
fn what_a_make_cannot_be_told_is_found_at_its_line_and_never_given_in_part() {
    let service = two_makes();
    let slow = "grant slow { vlan 40\n  rate up 1M }
        gate yard { when nas.site = \"yard\"
          accept mac
          identify mac in harbour-devices { unknown continue }
          rule \"All\" { when request.purpose = network grant slow }
          otherwise refuse
        }
        gate rest { accept mac identify mac in harbour-devices otherwise refuse }";
    let activate = |policy: &str| service.post("policy/activate", &json!({ "source": policy }));
    assert_eq!(activate(slow).0, 200, "the yard's switches know rates");
    assert!(ask(&service, &YARD_SW_1, 0).contains("Tarnworks-Rate"));
    let edition = service.get("health").1["edition"].clone();
    let everywhere = slow.replace("when nas.site = \"yard\"", "when nas.kind = switch");
    let (status, told) = activate(&everywhere);
    assert_eq!(status, 422);
    let finding = &told["report"]["diagnostics"][0];
    assert_eq!((finding["code"].as_str(), finding["line"].as_u64()), (Some("W320"), Some(2)), "{told}");
    let rendered = finding["rendered"].as_str().unwrap();
    assert!(rendered.contains("cannot say `rate`") && rendered.contains("it may be given to quay-sw-1"), "{rendered}");
    assert_eq!(service.get("health").1["edition"], edition);

    // A NAS that lacks something is registered all the same, says so, and gets nothing in part.
    let inventory = service.data.join("inventory.toml");
    fs::write(&inventory, speaking("yard-sw-1", "standard")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let nases = service.get("nases").1;
    let yard = nases["nases"].as_array().unwrap().iter().find(|nas| nas["name"] == "yard-sw-1").unwrap();
    assert!(yard["lacks"][0].as_str().unwrap().contains("cannot say `rate`"), "{yard}");
    assert!(ask(&service, &YARD_SW_1, 1).contains("Access-Reject"));
    let entry = &service.entries("q=yard-sw-1&outcome=refused", 1)[0];
    assert!(sentence(entry).contains("the dialect `standard` cannot tell slow"), "{}", sentence(entry));

    // A dialect that could not say what is in use is not taken.
    let worse = format!("{DIALECT}\n[cannot]\nvlan = \"no\"");
    fs::write(&inventory, speaking("yard-sw-1", "tarnworks")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let (status, told) = service.post("dialects", &json!({ "file": "worse.toml", "text": worse }));
    assert!(status == 422 && told.to_string().contains("cannot say `vlan`: no"), "{told}");
    assert!(ask(&service, &YARD_SW_1, 0).contains("Tarnworks-Rate"));
}

#[test]
fn values_from_facts_go_out_as_they_were_asked_and_trails_tell_them_later() {
    let service = two_makes();
    let policy = "grant port { segment request.port or 9 }
        gate all {
          when nas.site = \"yard\"
          accept mac
          identify mac in harbour-devices { unknown continue }
          rule \"All\" { when request.purpose = network grant port }
          otherwise refuse
        }";
    let (status, told) = service.post("policy/activate", &json!({ "source": policy }));
    assert_eq!(status, 200, "{told}");
    let mut ask = service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400001", "--attribute", "NAS-Port=31"]);
    let told = ask.arg("--dictionary").arg(service.data.join("dictionary.toml")).succeeds();
    assert!(told.contains("Tarnworks-Segment") && told.contains("31"), "{told}");
    let entry = &service.entries("q=yard-sw-1&outcome=granted", 1)[0];
    assert!(sentence(entry).contains("port (segment 31)"), "{}", sentence(entry));
    let trail = service.client(&["trail", entry["id"].as_str().unwrap()]).succeeds();
    assert!(trail.contains("Tarnworks-Segment") && trail.contains("31"), "{trail}");
}

#[test]
fn a_dialect_file_that_is_wrong_changes_nothing() {
    let service = Running::harbour();
    let edition = service.get("health").1["edition"].clone();
    let add = |text: &str| {
        let file = service.data.join("own.toml");
        fs::write(&file, text).unwrap();
        service.client(&["dialect", "add"]).arg(&file).fails(1)
    };
    let told = add(
        "name = \"own\"\nextends = \"standrd\"\n[statements]\nrole = { attribute = \"Filter-Ib\", value = \"{}\" }",
    );
    assert!(told.contains("own.toml:2: there is no dialect `standrd` to extend; did you mean standard?"), "{told}");
    assert!(told.contains("own.toml:4: there is no attribute `Filter-Ib`; did you mean Filter-Id?"), "{told}");
    assert!(add("name = \"standard\"").contains("there is a dialect `standard` already"));
    assert!(add("title = \"x\"").contains("own.toml:1: `name` is missing"));
    assert_eq!(service.get("health").1["edition"], edition);
}
