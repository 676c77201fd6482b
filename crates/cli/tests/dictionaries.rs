//! Attributes of a vendor: known a minute after somebody read the manual.
mod running;

use std::fs;

use regnant_campus::harbour::{DICTIONARY, INVENTORY, YARD_SW_1};
use running::*;
use serde_json::json;

const ZONED: &str = "grant yes { class \"yes\" }
    gate all {
      accept mac
      identify mac in harbour-devices { unknown continue }
      rule \"Inner zone\" { when any of request.Tarnworks-Zone in { \"inner\" } grant yes }
      otherwise refuse
    }";

/// The harbour before anybody had made the yard's switches known.
fn bare() -> Running {
    let service = Running::harbour();
    let (before, after) = INVENTORY.split_once("dialect = \"tarnworks\"\n").unwrap();
    let inventory = service.data.join("inventory.toml");
    fs::write(&inventory, format!("{before}{after}")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    service.client(&["dialect", "remove", "tarnworks"]).succeeds();
    service.client(&["dictionary", "remove", "tarnworks"]).succeeds();
    service
}

#[test]
fn a_missing_vendor_attribute_is_a_fact_and_has_a_name_from_then_on() {
    let mut service = bare();
    let file = service.data.join("tarnworks.toml");
    fs::write(&file, DICTIONARY).unwrap();
    let mut asked = 0;
    let mut ask = |service: &Running| {
        asked += 1;
        let mut ask = service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400001", "--attribute", "Tarn-Zone=inner"]);
        ask.arg("--dictionary").arg(&file).ends_with(0);
        let entry = &service.entries("q=02:00:5e:40:00:01", asked)[0];
        service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1.to_string()
    };
    // By number before.
    assert!(ask(&service).contains("attribute 26.32473.10"));
    let (status, refused) = service.post("policy/check", &json!({ "source": ZONED }));
    assert!(status == 200 && refused.to_string().contains("Tarnworks-Zone"), "{refused}");
    let told = service.client(&["dictionary", "add"]).arg(&file).succeeds();
    assert!(told.starts_with("dictionary Tarnworks is known; the policy goes on as edition "), "{told}");
    assert!(ask(&service).contains("Tarnworks-Zone"), "by name from then on");
    let (status, told) = service.post("policy/activate", &json!({ "source": ZONED }));
    assert_eq!(status, 200, "{told}");
    assert!(ask(&service).contains("Inner zone"));
    let edition = service.get("health").1["edition"].clone();

    // What the policy needs stays.
    let told = service.client(&["dictionary", "remove", "tarnworks"]).fails(1);
    assert!(told.contains("in use") && told.contains("main.writ:5:"), "{told}");
    assert_eq!(service.get("health").1["edition"], edition);
    // After a restart it is as it was.
    assert_eq!(service.end("-TERM"), Some(0));
    let service = service.again();
    assert_eq!(service.get("health").1["edition"], edition);
    assert!(ask(&service).contains("Inner zone"));
    let shown = service.client(&["dictionary", "show", "tarnworks"]).succeeds();
    assert!(shown.contains("26.32473.6.1") && shown.contains("hidden as tunnel-password"), "{shown}");
    let listed = service.client(&["dictionary", "list"]).succeeds();
    assert!(listed.contains("rfc2865") && listed.contains("vendor 32473"), "{listed}");

    let (status, _) = service
        .post("policy/activate", &json!({ "source": ZONED.replace("request.Tarnworks-Zone", "request.Filter-Id") }));
    assert_eq!(status, 200);
    let told = service.client(&["dictionary", "remove", "Tarnworks"]).succeeds();
    assert!(told.contains("is removed"), "{told}");
    let audit = service.client(&["audit", "list"]).succeeds();
    assert!(audit.contains("set dictionary  Tarnworks") && audit.contains("remove dictionary  Tarnworks"), "{audit}");
    assert!(service.client(&["dictionary", "remove", "Tarnworks"]).fails(1).contains("No dictionary of your own"));
    assert!(service.client(&["dictionary", "remove", "rfc2865"]).fails(1).contains("cannot be removed"));
}

#[test]
fn a_file_that_is_wrong_or_contradicts_what_there_is_changes_nothing() {
    let service = bare();
    let (status, _) = service.post("dictionaries", &json!({ "file": "tarnworks.toml", "text": DICTIONARY }));
    assert_eq!(status, 200);
    let before = (service.get("health").1["edition"].clone(), service.get("dictionaries").1);
    let file = service.data.join("quay.toml");
    let told = |text: &str| {
        fs::write(&file, text).unwrap();
        service.client(&["dictionary", "add"]).arg(&file).fails(1)
    };
    let wrong = "attribute = [\n  { number = 1, name = \"Quay-A\", type = \"txt\" },\n  { numbr = 2, name = \"B\", type = \"text\" },\n]\n";
    let mistakes = told(&format!("{wrong}[vendor]\nname = \"Quay\"\nnumber = 32474"));
    for line in [
        "quay.toml:2: there is no type `txt`; did you mean `text`?",
        "quay.toml:3: `number` is missing",
        "quay.toml:3: `numbr` means nothing here; did you mean `number`?",
    ] {
        assert!(mistakes.contains(line), "{mistakes}");
    }
    let contradiction = told(
        "attribute = [{ number = 1, name = \"Quay-A\", type = \"text\", also = [\"Tarn-Zone\"] }]\n[vendor]\nname = \"Quay\"\nnumber = 32474",
    );
    assert!(
        contradiction.contains("quay.toml:1: the name `tarn-zone` is taken, by 26.32473.10 in tarnworks.toml, line 17"),
        "{contradiction}"
    );
    assert!(
        told("attribute = [{ number = 98, name = \"Mine\", type = \"text\" }]\nname = \"mine\"")
            .contains("is for RFCs to give")
    );
    let fact = told("attribute = [{ number = 200, name = \"Purpose\", type = \"text\" }]\nname = \"mine\"");
    assert!(fact.contains("quay.toml:1: `Purpose` would be the fact `request.Purpose`"), "{fact}");
    assert_eq!((service.get("health").1["edition"].clone(), service.get("dictionaries").1), before);
    let long = "#".repeat((1 << 20) + 1);
    assert_eq!(service.post("dictionaries", &json!({ "file": "long.toml", "text": long })).0, 400);
}
