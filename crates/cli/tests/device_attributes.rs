//! What people keep of devices of their own, and tags of equipment, as facts of policies.
mod running;

use regnant_campus::harbour::*;
use running::*;
use serde_json::json;

/// A crane controller that is in no group.
const CRANE: &str = "02005e2000aa";
const SHOWN: &str = "02:00:5e:20:00:aa";

/// Adds it, and a rule before all others of its gate.
fn with_rule(service: &Running, rule: &str) {
    let first = "rule \"Crane controllers\" {";
    service
        .activate_with(first, &format!("rule \"Of its own\" {{\n    when {rule}\n    grant cranes\n  }}\n  {first}"));
}

#[test]
fn an_attribute_is_declared_written_decided_by_and_told() {
    let service = Running::harbour();
    service.client(&["device", "add", CRANE, "--title", "crane controller"]).succeeds();
    let unknown = service.client(&["device", "change", CRANE, "--set", "asset-class=crane"]).fails(1);
    assert!(unknown.contains("no attribute `asset-class` of devices is declared"), "{unknown}");
    for (name, kind) in
        [("asset-class", "text"), ("patch-level", "number"), ("managed", "boolean"), ("twin", "address")]
    {
        service.client(&["attribute", "add", name, "--type", kind, "--meaning", "For the harbour"]).succeeds();
    }
    for (name, why) in
        [("owner", "is a fact of every device"), ("Asset", "small letters"), ("9x", "begins with a letter")]
    {
        assert!(service.client(&["attribute", "add", name]).fails(1).contains(why), "{name}");
    }
    let list = service.client(&["attribute", "list"]).succeeds();
    assert!(list.contains("device.patch-level") && list.contains("number"), "{list}");

    let set =
        ["--set", "asset-class=Crane", "--set", "patch-level=7", "--set", "managed=true", "--set", "twin=10.44.0.9"];
    service.client(&[&["device", "change", CRANE][..], &set].concat()).succeeds();
    let wrong = service.client(&["device", "change", CRANE, "--set", "patch-level=seven"]).fails(1);
    assert!(wrong.contains("the attribute `patch-level` is a whole number"), "{wrong}");
    let shown = service.client(&["device", "show", CRANE]).succeeds();
    assert!(shown.contains("asset-class") && shown.contains("10.44.0.9"), "{shown}");
    assert_eq!(service.get(&format!("devices/harbour-devices/{SHOWN}")).1["device"]["attributes"]["patch-level"], 7);
    let found = service.client(&["device", "list", "crane", "10.44.0.9"]).succeeds();
    assert!(found.contains(SHOWN), "words of attributes are found: {found}");

    // A rule that asks for it, with its type.
    let rule =
        "device.asset-class = \"crane\" and device.patch-level >= 7 and device.managed and device.twin in 10.44.0.0/16";
    with_rule(&service, rule);
    service.try_from(&QUAY_SW_1, &["mac", "--mac", CRANE]).ends_with(0);
    let entry = service.entries("q=crane&outcome=granted", 1).remove(0);
    let trail = service.client(&["trail", entry["id"].as_str().unwrap()]).succeeds();
    assert!(trail.contains("device.asset-class") && trail.contains("device.patch-level"), "{trail}");
    service.client(&["device", "change", CRANE, "--set", "patch-level=6"]).succeeds();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", CRANE]).ends_with(1);
    // Of a device without it nothing is true, nor of one that is not listed.
    service.client(&["device", "change", CRANE, "--set", "patch-level="]).succeeds();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", CRANE]).ends_with(1);
    let typed = service.client(&["device", "change", CRANE, "--set", "patch-level=9"]);
    { typed }.succeeds();

    // What a policy names or devices have stays, and keeps its type.
    let named = service.client(&["attribute", "remove", "asset-class"]).fails(1);
    assert!(named.contains("1 device has it"), "{named}");
    let other = service.client(&["attribute", "add", "patch-level", "--type", "text"]).fails(1);
    assert!(other.contains("1 device has it"), "{other}");
    service.client(&["device", "change", CRANE, "--set", "twin="]).succeeds();
    let named = service.client(&["attribute", "remove", "twin"]).fails(1);
    assert!(named.contains("the active policy needs it") && named.contains("device.twin"), "{named}");
    let policy = service.client(&["policy", "check", "--against-service"]);
    { policy }.arg(service.data.join("harbour")).succeeds();
    assert!(service.client(&["audit", "list"]).succeeds().contains("set attribute"));

    // In files of every kind, and out again.
    let csv = service.client(&["device", "list", "--csv", "02005e20"]).succeeds();
    let line = csv.lines().find(|line| line.contains(SHOWN)).unwrap();
    assert!(csv.starts_with("store,mac") && csv.contains("attributes.asset-class") && line.contains("Crane"), "{csv}");
    let file = service.data.join("devices.csv");
    std::fs::write(&file, csv.replace("Crane", "Derrick").replace("barred_reason", "note-x")).unwrap();
    let refused = printed(&service.client(&["device", "import"]).arg(&file).ends_with(1));
    assert!(refused.contains("note-x"), "{refused}");
    std::fs::write(
        &file,
        "mac,attributes.asset-class,attributes.managed\n02005e2000aa,Derrick,no-idea\n02005e2000ab,Crane,\n",
    )
    .unwrap();
    let told = printed(&service.client(&["device", "import"]).arg(&file).ends_with(1));
    assert!(told.contains("the attribute `managed` is true or false") && told.contains("1 added"), "{told}");
    let export = service.client(&["device", "export"]).succeeds();
    assert!(
        export.contains("attributes.asset-class = \"Crane\"") && export.contains("attributes.patch-level = 9"),
        "{export}"
    );
    let file = service.data.join("devices.toml");
    std::fs::write(&file, export.replace("attributes.patch-level = 9", "attributes.patch-level = 12")).unwrap();
    service.client(&["device", "import"]).arg(&file).succeeds();
    assert_eq!(service.get(&format!("devices/harbour-devices/{SHOWN}")).1["device"]["attributes"]["patch-level"], 12);
    service.client(&["import"]).arg(&file).succeeds();
    let (status, _) = service.post("attributes", &json!({ "name": "x", "type": "colour" }));
    assert!(matches!(status, 400 | 422), "{status}");
}

#[test]
fn equipment_is_told_apart_by_its_tags() {
    let service = Running::harbour();
    service.client(&["device", "add", CRANE, "--title", "crane controller"]).succeeds();
    with_rule(&service, "any of nas.tags in { \"new\" }");
    service.try_from(&QUAY_SW_1, &["mac", "--mac", CRANE]).ends_with(1);
    service.client(&["nas", "change", "quay-sw-1", "--tag", "New", "--tag", "south"]).succeeds();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", CRANE]).ends_with(0);
    let entry = service.entries("q=crane&outcome=granted", 1).remove(0);
    let trail = service.client(&["trail", entry["id"].as_str().unwrap()]).succeeds();
    assert!(trail.contains("nas.tags"), "{trail}");
}
