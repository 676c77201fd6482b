//! One policy, and equipment of two makes.
mod running;

use std::fs;
use std::sync::Arc;

use regnant_campus::harbour::{DIALECT, INVENTORY, QUAY_SW_1, YARD_SW_1, dictionary};
use regnant_campus::{Accounting, Make, Outcome, Sent, story};
use regnant_client::{Ask, Credential};
use regnant_radius::Dictionary;
use running::*;
use serde_json::json;

/// The inventory, in which one NAS speaks this dialect.
fn speaking(nas: &str, dialect: &str) -> String {
    let (before, after) = INVENTORY.split_once(&format!("name = \"{nas}\"\n")).unwrap();
    let after = after.split("\n[[").next().unwrap().replace("dialect = \"tarnworks\"\n", "");
    assert!(before.contains("[[nas]]"));
    format!("[[nas]]\nname = \"{nas}\"\ndialect = \"{dialect}\"\n{after}")
}

fn ask(service: &Running, nas: &regnant_campus::Nas, code: i32) -> String {
    let mut ask = service.try_from(nas, &["mac", "--mac", "02005e400001"]);
    String::from_utf8(ask.arg("--dictionary").arg(service.data.join("harbour/dictionary.toml")).ends_with(code).stdout)
        .unwrap()
}

#[test]
fn the_same_grant_is_told_to_each_make_in_its_own_words() {
    let service = Running::harbour();
    let yard = ask(&service, &YARD_SW_1, 0);
    assert!(yard.contains("Tarnworks-List  ") && !yard.contains("NAS-Filter-Rule"), "{yard}");
    let quay = ask(&service, &QUAY_SW_1, 0);
    assert!(quay.contains("NAS-Filter-Rule") && !quay.contains("Tarnworks"), "{quay}");
    let entry = &service.entries("q=yard-sw-1&outcome=granted", 1)[0];
    let trail = service.client(&["trail", entry["id"].as_str().unwrap()]).succeeds();
    assert!(trail.contains("Tarnworks-List") && trail.contains("scanners-edge@"), "{trail}");

    let preview = service.client(&["dialect", "preview", "scanners", "--nas", "yard-sw-1"]).succeeds();
    assert!(preview.contains("scanners-edge@") && preview.contains("bytes"), "{preview}");
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
    let inventory = service.data.join("inventory.toml");
    fs::write(&inventory, speaking("yard-sw-1", "standard")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    service.client(&["dialect", "remove", "Tarnworks"]).succeeds();
    service.client(&["dictionary", "remove", "Tarnworks"]).succeeds();
    assert!(service.client(&["dialect", "remove", "standard"]).fails(1).contains("No dialect of your own"));
}

#[test]
fn what_a_make_cannot_be_told_is_found_at_its_line_and_never_given_in_part() {
    let service = Running::harbour();
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
    let told = service.client(&["import"]).arg(&inventory).succeeds();
    assert!(told.contains("yard-sw-1: the dialect `standard` cannot tell slow"), "{told}");
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
    let service = Running::harbour();
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
    let told = ask.arg("--dictionary").arg(service.data.join("harbour/dictionary.toml")).succeeds();
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

/// A request for a list from the yard's switch.
fn ask_list(service: &Running, ask: Ask) -> Result<regnant_client::Reply, regnant_client::ExchangeError> {
    // Where a disk is slow nothing is decided for a moment: equipment asks again, and is told once.
    YARD_SW_1.exchange(service.radius).ask(&ask, &dictionary().into())
}

/// The name under which the yard's switch is told a device's list.
fn told_of(service: &Running, mac: &str) -> String {
    let reply = ask_list(service, Ask::mac(mac, 3)).unwrap();
    reply.first("Tarnworks-List").unwrap().to_owned()
}

fn for_list(name: &str) -> Ask {
    Ask::for_itself().with("Tarnworks-Ask-List", name)
}

#[test]
fn a_list_is_asked_for_by_its_name_and_gives_entries_and_nothing_else() {
    let service = Running::harbour();
    let name = told_of(&service, "02005e400001");
    assert!(name.starts_with("scanners-edge@") && name.len() == "scanners-edge@".len() + 16, "{name}");
    let reply = ask_list(&service, for_list(&name)).unwrap();
    assert_eq!(reply.code, regnant_radius::Code::ACCESS_ACCEPT);
    assert_eq!(reply.first("Tarnworks-List-Entry"), Some("1 pass tcp * > 10.44.40.10 443"));
    let other = reply
        .attributes
        .iter()
        .find(|(name, _)| !["Tarnworks-List-Entry", "Message-Authenticator"].contains(&name.as_str()));
    assert_eq!(other, None, "no grant, no Class, no key, no name");
    let told = &service.entries("outcome=told", 1)[0];
    assert!(sentence(told).starts_with(&format!("yard-sw-1 was told: part 1 of 1 of {name}")), "{}", sentence(told));
    let trail = service.client(&["trail", told["id"].as_str().unwrap()]).succeeds();
    assert!(trail.contains("It asked for an access list"), "{trail}");

    // With any other name, State or password it is refused, and journaled.
    let signed = for_list(&name);
    let with_password = Ask { credential: Ask::pap("ida.marsh", "Tide-Table-61").credential, ..for_list(&name) };
    let bypass = Ask { credential: Credential::Mac("02-00-5E-40-00-01".into()), ..for_list(&name) };
    let old = format!("{}0", &name[..name.len() - 1]);
    let refusals = [
        (for_list("scanners-edge"), "no grant can give it a list called"),
        (for_list(&old.replace("@", "@0")), "no grant can give it a list called"),
        (for_list(&name.replace("scanners", "cranes")), "no grant can give it a list called"),
        (for_list(&format!("{name}\u{1}")), "no grant can give it a list called"),
        (for_list(&"x".repeat(247)), "no grant can give it a list called"),
        (signed.clone().with("State", "anything"), "it carries State"),
        (signed.clone().with("Tarnworks-List-Part", "2"), "has 1 parts, and it asked for part 2"),
        (signed.with("Tarnworks-List-Part", "0"), "has 1 parts, and it asked for part 0"),
        (with_password, "it carries User-Password"),
        (bypass, "it carries User-Password"),
    ];
    for (at, (ask, why)) in refusals.into_iter().enumerate() {
        let reply = ask_list(&service, ask).unwrap();
        assert_eq!(reply.code, regnant_radius::Code::ACCESS_REJECT, "{why}");
        let entry = &service.entries("q=yard-sw-1&outcome=refused", at + 1)[0];
        assert!(sentence(entry).contains(why), "{}", sentence(entry));
    }
    // Unsigned it is not even heard, and where a NAS need not sign it is refused.
    let mut unsigned = YARD_SW_1.exchange(service.radius);
    unsigned.signed = false;
    unsigned.patience =
        regnant_client::Patience { first: std::time::Duration::from_millis(300), tries: 1, ..unsigned.patience };
    assert!(unsigned.ask(&for_list(&name), &dictionary().into()).is_err());
    let inventory = service.data.join("inventory.toml");
    fs::write(&inventory, format!("{}require-message-authenticator = false\n", speaking("yard-sw-1", "tarnworks")))
        .unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let reply = unsigned.ask(&for_list(&name), &dictionary().into()).unwrap();
    assert_eq!(reply.code, regnant_radius::Code::ACCESS_REJECT);
    // The mark means nothing to a make that asks for no lists.
    let quay = QUAY_SW_1.exchange(service.radius).ask(&for_list(&name), &dictionary().into()).unwrap();
    assert_eq!(quay.code, regnant_radius::Code::ACCESS_REJECT);
}

#[test]
fn a_list_of_an_edition_before_is_told_still_even_after_a_restart() {
    let mut service = Running::harbour();
    let before = told_of(&service, "02005e400001");
    service.activate_with("permit tcp to 10.44.40.10 port 443", "permit tcp to 10.44.40.11 port 443");
    let now = told_of(&service, "02005e400001");
    assert_ne!(before, now, "another content has another name");
    let first = |service: &Running, name: &str| {
        let reply = ask_list(service, for_list(name)).unwrap();
        reply.first("Tarnworks-List-Entry").unwrap_or_default().to_owned()
    };
    let both = |service: &Running| (first(service, &before), first(service, &now));
    let told = both(&service);
    assert!(told.0.contains("10.44.40.10") && told.1.contains("10.44.40.11"), "{told:?}");
    assert_eq!(service.end("-TERM"), Some(0));
    let service = service.again();
    assert_eq!(both(&service), told);
}

#[test]
fn a_make_that_redirects_what_its_list_permits_is_told_it_turned_round() {
    let service = Running::harbour();
    let turned = DIALECT
        .replace("name = \"tarnworks\"", "name = \"turned\"")
        .replace("value = \"{past}\" }", "value = \"{past}\", inverted = true }");
    assert!(turned.contains("inverted"));
    let file = service.data.join("turned.toml");
    fs::write(&file, turned).unwrap();
    service.client(&["dialect", "add"]).arg(&file).succeeds();
    let inventory = service.data.join("inventory.toml");
    fs::write(&inventory, speaking("yard-sw-1", "turned")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let policy = "acl edge { permit tcp to 10.44.40.10 port 443  deny ip to 10.44.0.0/16  permit ip to any }
        grant sign-in { acl edge redirect \"https://10.44.0.9/\" past edge }
        gate yard {
          when nas.site = \"yard\"
          accept mac
          identify mac in harbour-devices { unknown continue }
          otherwise grant sign-in
        }";
    let (status, told) = service.post("policy/activate", &json!({ "source": policy }));
    assert_eq!(status, 200, "{told}");
    let reply = ask_list(&service, Ask::mac("02005e400001", 3)).unwrap();
    let entries =
        |name: &str| ask_list(&service, for_list(reply.first(name).unwrap())).unwrap().all("Tarnworks-List-Entry");
    let (plain, turned) = (entries("Tarnworks-List"), entries("Tarnworks-Redirect-List"));
    assert_eq!(plain, ["1 pass tcp * > 10.44.40.10 443", "2 drop ip * > 10.44.0.0/16", "3 pass ip * > *"]);
    let swapped: Vec<_> = plain
        .iter()
        .map(|entry| match entry.contains(" pass ") {
            true => entry.replace(" pass ", " drop "),
            false => entry.replace(" drop ", " pass "),
        })
        .collect();
    assert_eq!(turned, swapped);
    // Of such lists equipment asks what stands in them; where it is told a name alone, that is said.
    let told = service.client(&["dialect", "preview", "sign-in", "--nas", "yard-sw-1"]).succeeds();
    assert!(!told.contains("name alone"), "{told}");
    fs::write(
        &file,
        "name = \"named\"\ntitle = \"Lists by their names\"\nextends = \"standard\"\nacl = { carry = \"by-name\", attribute = \
         \"Filter-Id\", value = \"{}.in\" }\n[statements]\nredirect = [\n  { attribute = \"Tarnworks-Redirect\", value = \"{}\" \
         },\n  { attribute = \"Tarnworks-Redirect-List\", value = \"{past}\" },\n]\n",
    )
    .unwrap();
    service.client(&["dialect", "add"]).arg(&file).succeeds();
    fs::write(&inventory, speaking("quay-sw-1", "named")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let told = service.client(&["dialect", "preview", "sign-in", "--nas", "quay-sw-1"]).succeeds();
    assert!(
        told.contains("It is told the name alone of edge, and has to have what stands under it already."),
        "{told}"
    );
}

#[test]
fn a_long_list_comes_in_parts_and_equipment_that_cannot_have_it_lets_nobody_in() {
    let service = Running::harbour();
    let inventory = service.data.join("inventory.toml");
    fs::write(&inventory, speaking("quay-sw-1", "tarnworks")).unwrap();
    service.client(&["import"]).arg(&inventory).succeeds();
    let long: String = (1..=400).map(|port| format!("  permit tcp to 10.44.40.10 port {port}\n")).collect();
    service.activate_with("acl scanners-edge {\n", &format!("acl scanners-edge {{\n{long}"));
    let ask = Ask::mac("02-00-5E-40-00-01", 3);
    let outcome = YARD_SW_1.ask(&YARD_SW_1.exchange(service.radius), &ask, &dictionary().into(), None);
    let Outcome::Accepted(enforced) = &outcome else { panic!("{outcome:?}") };
    assert_eq!(enforced.rules.len(), 405);
    let parts = service.entries("outcome=told", 2).len();
    assert!(parts > 2, "{parts}");
    // The same rules for equipment that has no list by reference do not fit a reply.
    let other = service.client(&["dialect", "preview", "scanners", "--nas", "mast-wlc-1"]).ends_with(1);
    assert!(String::from_utf8(other.stdout).unwrap().contains("shorten the access list"));
}

/// The demo's story, with equipment of the RFCs alone and with one make everywhere.
#[test]
fn the_story_is_the_same_in_both_dialects_and_what_is_enforced_is_too() {
    let service = Running::harbour();
    let certificates = regnant_campus::certificates::DemoCertificates::from_files(
        fs::read_dir(service.data.join("harbour")).unwrap().map(|file| {
            let file = file.unwrap();
            (file.file_name().into_string().unwrap(), fs::read_to_string(file.path()).unwrap())
        }),
    );
    let dictionary: Arc<Dictionary> = dictionary().into();
    for (dialect, make) in [("tarnworks", Make::Tarnworks), ("standard", Make::Standard)] {
        for nas in ["quay-sw-1", "yard-sw-1", "mast-wlc-1", "gate-fw-1", "tower-rt-1", "pilot-vpn-1"] {
            let inventory = service.data.join("inventory.toml");
            fs::write(&inventory, speaking(nas, dialect)).unwrap();
            service.client(&["import"]).arg(&inventory).succeeds();
        }
        let mut scenes = story::scenes(&certificates).unwrap();
        scenes.iter_mut().for_each(|scene| scene.nas.make = make);
        let mut accounting = Accounting::new(service.accounting, dictionary.clone());
        for scene in &scenes {
            let outcome = scene.play(service.radius, &dictionary, Some(&mut accounting));
            assert!(
                scene.expected.is_met_by(&outcome),
                "{} at {} in {dialect}: {outcome:?}",
                scene.title,
                scene.nas.name
            );
        }
        assert!(accounting.sessions() > 10, "{} sessions", accounting.sessions());
        accounting.close();
        let mut nas = YARD_SW_1;
        nas.make = make;
        let passes = |mac: &str, protocol, to: &str, port| {
            let Outcome::Accepted(enforced) =
                nas.ask(&nas.exchange(service.radius), &Ask::mac(mac, 3), &dictionary, None)
            else {
                panic!("{mac}")
            };
            enforced.passes(&Sent { protocol, to: to.parse().unwrap(), port })
        };
        let (crane, stranger) = ("02-00-5E-20-00-07", "02-00-5E-99-00-01");
        assert!(passes(crane, 6, "10.44.30.9", 4840) && !passes(crane, 6, "10.44.30.9", 80));
        assert!(passes(crane, 17, "10.44.0.53", 53) && !passes(crane, 6, "192.0.2.1", 443));
        assert!(passes(stranger, 6, "192.0.2.1", 443) && !passes(stranger, 6, "10.44.20.1", 443));
    }
}
