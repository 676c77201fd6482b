//! MAC bypass comes as the dialect of the equipment says, and in no other way.
mod running;

use std::fs;

use regnant_campus::harbour::{INVENTORY, QUAY_SW_1};
use running::*;

const SCANNER: &str = "02005e400001";

/// A harbour whose quayside switch speaks a dialect with this MAC bypass.
fn harbour_with(bypass: &str) -> Running {
    let service = Running::harbour();
    let dialect = service.data.join("own.toml");
    fs::write(&dialect, format!("name = \"own\"\nextends = \"standard\"\nmac-bypass = {bypass}\n")).unwrap();
    service.client(&["dialect", "add"]).arg(&dialect).succeeds();
    let (_, nas) = INVENTORY.split_once("name = \"quay-sw-1\"\n").unwrap();
    let nas = nas.split("\n[[").next().unwrap();
    let inventory = service.data.join("own-inventory.toml");
    fs::write(&inventory, format!("[[nas]]\nname = \"quay-sw-1\"\ndialect = \"own\"\n{nas}")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    service
}

fn by_eap(service: &Running, name: &str, password: &str, calling: &str, code: i32) -> String {
    let asked = ["eap-md5", "--user", name, "--password", password, "--mac", calling];
    String::from_utf8(service.try_from(&QUAY_SW_1, &asked).ends_with(code).stdout).unwrap()
}

fn by_password(service: &Running, code: i32) -> String {
    String::from_utf8(service.try_from(&QUAY_SW_1, &["mac", "--mac", SCANNER]).ends_with(code).stdout).unwrap()
}

#[test]
fn by_eap_md5_it_gives_what_it_gives_by_password() {
    let service = harbour_with("[\"pap\", \"eap-md5\"]");
    let attributes = |told: &str| {
        let lines = told.lines().skip_while(|line| !line.contains("Tunnel-Type"));
        // The Class of each names its own decision.
        let lines = lines.filter(|line| !line.contains("EAP-Message") && !line.contains("Class"));
        lines.map(|line| line.split_whitespace().collect::<Vec<_>>().join(" ")).collect::<Vec<_>>()
    };
    let plain = by_password(&service, 0);
    assert!(plain.contains("NAS-Filter-Rule"), "{plain}");
    let eap = by_eap(&service, SCANNER, SCANNER, SCANNER, 0);
    assert_eq!(attributes(&eap), attributes(&plain));
    let entry = &service.entries("q=quay-sw-1&outcome=granted", 2)[0];
    let told = sentence(entry);
    assert!(
        told.starts_with("container scanner 02:00:5e:40:00:01 on quay-sw-1 by eap-md5 was given scanners"),
        "{told}"
    );
    let trail = service.client(&["trail", entry["id"].as_str().unwrap()]).succeeds();
    assert!(trail.contains("MAC bypass: the device is taken by its MAC address"), "{trail}");

    // Another spelling of the same address is the same; neither another address, nor another
    // password, nor a person's is.
    by_eap(&service, "02-00-5E-40-00-01", "02-00-5E-40-00-01", SCANNER, 0);
    for (name, password, calling) in [
        (SCANNER, "02005e400002", SCANNER),
        (SCANNER, SCANNER, "02005e400002"),
        (SCANNER, "02-00-5e-40-00-01", SCANNER),
        ("ida.marsh", "Tide-Table-61", SCANNER),
    ] {
        let told = by_eap(&service, name, password, calling, 1);
        assert!(told.contains("Access-Reject"), "{told}");
    }
}

#[test]
fn what_the_dialect_does_not_say_is_no_mac_bypass() {
    // EAP from anybody may carry a MAC address for a name.
    let standard = Running::harbour();
    by_password(&standard, 0);
    by_eap(&standard, SCANNER, SCANNER, SCANNER, 1);
    let only_eap = harbour_with("[\"eap-md5\"]");
    by_password(&only_eap, 1);
    by_eap(&only_eap, SCANNER, SCANNER, SCANNER, 0);
    let shown = only_eap.client(&["dialect", "show", "own"]).succeeds();
    assert!(shown.contains("MAC bypass by eap-md5\n"), "{shown}");
    let none = harbour_with("[]");
    by_password(&none, 1);
    by_eap(&none, SCANNER, SCANNER, SCANNER, 1);
}

#[test]
fn a_way_that_nobody_knows_is_told() {
    let service = Running::harbour();
    let file = service.data.join("own.toml");
    fs::write(&file, "name = \"own\"\nextends = \"standard\"\nmac-bypass = [\"papp\", \"eap-tls\"]\n").unwrap();
    let told = service.client(&["dialect", "add"]).arg(&file).fails(1);
    assert!(told.contains("own.toml:3: there is no mac-bypass `papp`; did you mean `pap`?"), "{told}");
    assert!(told.contains("there are: pap, chap, call-check, eap-md5"), "{told}");
}
