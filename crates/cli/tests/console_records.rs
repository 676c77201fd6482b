//! Records kept in the page, in headless Chromium, and pages that everybody can use.
mod browser;
mod running;

use std::fs;
use std::path::Path;

use browser::*;
use regnant_campus::harbour::*;
use running::*;
use serde_json::Value;

#[test]
fn secrets_certificates_groups_and_files_are_kept_in_the_page() {
    block_on(async {
        let service = Running::harbour();
        service.client(&["person", "change", "ida.marsh", "--group", "staff", "--group", "night-watch"]).succeeds();
        let browser = Browser::start().await;
        let visit = async |path: &str| browser.page.goto(&format!("{}{path}", service.api)).await.unwrap();
        visit("/network/quay-sw-1").await;
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;

        // Another secret, with time to follow.
        browser.click_text("button", "Set another").await;
        browser.find("input[name=secret]").await.send_keys("short").await.unwrap();
        browser.click_text("button", "Set it").await;
        assert!(browser.text("[role=alert]").await.contains("the shared secret has 5 bytes"));
        browser.find("input[name=secret]").await.send_keys("-lanyard-7-shackle").await.unwrap();
        browser.click_text("button", "Set it").await;
        browser.sees("does not use it yet").await;
        let changed = regnant_campus::Nas { secret: "short-lanyard-7-shackle", ..QUAY_SW_1 };
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
        browser.click_text("button", "It has the new one").await;
        browser.sees_no_more("does not use it yet").await;
        service.try_from(&changed, &["mac", "--mac", "02005e200007"]).ends_with(0);
        browser.click_text("button", "Show it").await;
        browser.sees("short-lanyard-7-shackle").await;

        // A request for a certificate, and its removal; what is in use says so.
        visit("/certificates").await;
        browser.click_text("button", "Bring or request a certificate").await;
        browser.find("input[name=name]").await.send_keys("radius-2.tarnmouth.example").await.unwrap();
        browser.click_text("button", "Make a request to be signed").await;
        browser.sees("Its signing request waits").await;
        let pem =
            browser.page.execute("return document.querySelector('textarea[readonly]').value", vec![]).await.unwrap();
        assert!(pem.as_str().unwrap().contains("BEGIN CERTIFICATE REQUEST"));
        browser.click_text("button", "Remove").await;
        browser.sees("Its private key goes with it").await;
        browser.click_text("button", "Remove it").await;
        browser.sees_no_more("Its signing request waits").await;

        // A group under another name; what the policy names is told before.
        visit("/people?show=groups").await;
        browser.sees("night-watch").await;
        browser.click_text("a", "night-watch").await;
        browser.click_text("button", "Change the note").await;
        browser.find("textarea[name=note]").await.send_keys("From dusk till dawn").await.unwrap();
        browser.click_text("button", "Save").await;
        browser.sees("From dusk till dawn").await;
        browser.click_text("button", "Rename").await;
        let name = browser.find("input[aria-label='The new name']").await;
        name.clear().await.unwrap();
        name.send_keys("late-watch").await.unwrap();
        browser.click_text("button", "Rename it").await;
        browser.sees_no_more("Rename the group").await;
        browser.sees("late-watch").await;
        browser.sees("Its past").await;
        assert!(service.client(&["person", "show", "ida.marsh"]).succeeds().contains("late-watch"));

        browser.click_text("button", "Remove").await;
        browser.click_text("button", "Remove it").await;
        browser.find("input[aria-label='Name of a new group']").await;
        assert!(browser.page.current_url().await.unwrap().as_str().ends_with("/people?show=groups"));
        browser.sees_no_more("late-watch").await;
        assert!(!service.client(&["person", "show", "ida.marsh"]).succeeds().contains("late-watch"));

        // A site of which people should know something, and several NASes that move there.
        visit("/network?show=sites").await;
        browser.find("input[aria-label='Name of a new site']").await.send_keys("basin").await.unwrap();
        browser.find("input[aria-label='What people should know']").await.send_keys("Dry at low tide").await.unwrap();
        browser.click_text("button", "Add").await;
        browser.sees("Dry at low tide").await;
        visit("/network").await;
        browser.find("input[aria-label='Choose yard-sw-1']").await.click().await.unwrap();
        browser.find("input[aria-label='Choose tower-rt-1']").await.click().await.unwrap();
        browser.sees("2 chosen").await;
        browser.find("input[aria-label='Site']").await.send_keys("basin").await.unwrap();
        browser.click_text("button", "Move there").await;
        browser.sees("2 changed.").await;
        assert!(service.client(&["site", "show", "basin"]).succeeds().contains("nases  2"));

        // Somebody else who may sign in, changed on their page.
        let desk = serde_json::json!({ "name": "desk", "role": "helpdesk", "password": "desk-demo-1" });
        assert_eq!(service.post("administrators", &desk).0, 201);
        visit("/settings").await;
        browser.click_text("a", "desk").await;
        browser.sees("may sign in").await;
        browser.click_text("button", "Change").await;
        browser.click_text("option", "auditor").await;
        browser.find("input[name=new-password]").await.send_keys("short").await.unwrap();
        browser.click_text("button", "Save").await;
        browser.sees("at least 10 characters").await;
        browser.find("input[name=new-password]").await.send_keys("-and-longer-1").await.unwrap();
        browser.click_text("button", "Save").await;
        browser.sees("Its past").await;
        assert_eq!(service.get("administrators/desk").1["role"], "auditor");
        browser.click_text("button", "Remove").await;
        browser.sees("0 tokens with them").await;
        browser.click_text("button", "Remove them").await;
        browser.sees_no_more("Remove desk?").await;
        assert_eq!(service.get("administrators/desk").0, 404);

        // A file: first what would come of it.
        let file = service.data.join("devices.csv");
        fs::write(&file, "mac,title,groups\n02005e2000a1,winch,cranes\nno-address,x,y\n").unwrap();
        visit("/devices").await;
        browser.click_text("button", "Import").await;
        browser.find("input[type=file]").await.send_keys(&file.display().to_string()).await.unwrap();
        browser.click_text("button", "See what would come of it").await;
        browser.sees("It would be: 1 new, 0 changed, 1 refused.").await;
        browser.sees("line 3").await;
        assert_eq!(service.get("devices/harbour-devices/02005e2000a1").0, 404);
        browser.click_text("button", "Import it").await;
        browser.sees("Imported: 1 new").await;
        let given = printed(&service.try_from(&changed, &["mac", "--mac", "02005e2000a1"]).ends_with(0));
        assert!(given.contains("Tunnel-Private-Group-ID  30"), "{given}");

        // What is kept of devices: declared, and then a field.
        visit("/devices/attributes").await;
        browser.find("input[name=name]").await.send_keys("asset-class").await.unwrap();
        browser.click_text("button", "Declare it").await;
        browser.sees("device.asset-class").await;
        visit("/devices/harbour-devices/02:00:5e:20:00:a1").await;
        browser.click_text("button", "Change").await;
        browser.find("input[name=attribute-asset-class]").await.send_keys("Derrick").await.unwrap();
        browser.click_text("button", "Save").await;
        browser.sees("Derrick").await;

        // How equipment speaks.
        visit("/network?show=dialects").await;
        browser.click_text("button", "tarnworks").await;
        browser.sees("a grant says").await;
        visit("/network?show=secrets").await;
        browser.find("input[aria-label='Name of a secret']").await.send_keys("uplink").await.unwrap();
        browser.find("input[aria-label='What it is']").await.send_keys("seven-ropes").await.unwrap();
        browser.click_text("button", "Set").await;
        browser.sees("uplink").await;
        assert!(service.client(&["secret", "list"]).succeeds().contains("uplink"));
        // Whoever leaves a form that is half filled in is asked, and whoever sends it is not.
        visit("/devices/new").await;
        let mac = browser.find("input[name=mac]").await;
        mac.send_keys("02005e20aa01").await.unwrap();
        browser.click_text("a", "Journal").await;
        browser.sees("Leave what you typed?").await;
        browser.click_text("button", "Stay here").await;
        browser.sees_no_more("Leave what you typed?").await;
        assert_eq!(mac.prop("value").await.unwrap().as_deref(), Some("02005e20aa01"));
        browser.click_text("button", "Add").await;
        browser.sees("02:00:5e:20:aa:01").await;
        visit("/devices/new").await;
        browser.find("input[name=mac]").await.send_keys("02005e20aa02").await.unwrap();
        browser.click_text("a", "Journal").await;
        browser.click_text("button", "Leave it").await;
        browser.find("[aria-label=\"Filter\"], h1").await;
        browser.sees_no_more("Add a device").await;
        // Whoever signs out and stays for what they typed stays signed in.
        visit("/devices/new").await;
        let mac = browser.find("input[name=mac]").await;
        mac.send_keys("02005e20aa02").await.unwrap();
        browser.click_text("button", "Sign out").await;
        browser.click_text("button", "Stay here").await;
        browser.click_text("button", "Add").await;
        browser.sees("02:00:5e:20:aa:02").await;
        visit("/devices/new").await;
        browser.find("input[name=mac]").await.send_keys("02005e20aa03").await.unwrap();
        browser.click_text("button", "Sign out").await;
        browser.click_text("button", "Leave it").await;
        browser.find("input[name=name]").await;
        visit("/devices").await;
        browser.find("input[name=password]").await;

        browser.close().await;
    });
}

/// Every page, as somebody finds it who signed in.
const PAGES: [&str; 36] = [
    "/today",
    "/journal",
    "/policy",
    "/network",
    "/network?show=sites",
    "/network?show=dialects",
    "/network?show=dictionaries",
    "/network?show=secrets",
    "/network/new",
    "/network/quay-sw-1",
    "/people",
    "/people?show=groups",
    "/people/groups/cranes",
    "/people?show=stores",
    "/people/stores/new",
    "/people/stores/new?kind=http",
    "/people/stores/harbour",
    "/network/sites/quayside",
    "/people/new",
    "/people/harbour/ida.marsh",
    "/devices",
    "/devices/attributes",
    "/devices/harbour-devices/02:00:5e:20:00:07",
    "/policy/gates?gate=crew-network",
    "/policy/compose",
    "/policy/what-if?facts=request.purpose%20%3D%20vpn",
    "/policy/changes",
    "/policy/changes?activated=4&replaced=3",
    "/policy/begin",
    "/policy/editions",
    "/policy/editions/4",
    "/certificates",
    "/settings",
    "/settings/administrators/harbour",
    "/settings/audit",
    "/settings/audit/1",
];

#[test]
fn no_page_keeps_anybody_out_light_or_dark() {
    block_on(async {
        let axe = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/node_modules/axe-core/axe.min.js");
        let axe =
            fs::read_to_string(&axe).unwrap_or_else(|error| panic!("{}: {error}; run `make console`", axe.display()));
        let service = Running::harbour();
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
        service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400066"]).ends_with(1);
        service.try_from(&MISTYPED_SW_1, &["mac", "--mac", "02005e200007", "--wait", "1", "--tries", "1"]).ends_with(3);
        service.entries("limit=3", 3);
        let mut found = Vec::new();
        for dark in [false, true] {
            let browser = Browser::start_in(dark).await;
            browser.page.goto(&service.api).await.unwrap();
            browser.find("input[name=name]").await;
            browser.sign_in("harbour", PASSWORD).await;
            browser.find("main h1").await;
            for path in PAGES {
                browser.page.goto(&format!("{}{path}", service.api)).await.unwrap();
                browser.find("main h1").await;
                tokio::time::sleep(std::time::Duration::from_millis(300)).await;
                browser.page.execute(&axe, vec![]).await.unwrap();
                let script = "const done = arguments[arguments.length - 1];
                    axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'] }).then((result) => done(
                        result.violations.map((one) => `${one.id}: ${one.nodes.map((node) => node.html.slice(0, 160)).slice(0, 3).join(' | ')}`)));";
                let told = browser.page.execute_async(script, vec![]).await.unwrap();
                let told = told.as_array().into_iter().flatten().filter_map(Value::as_str);
                found.extend(told.map(|one| format!("{path}{}: {one}", if dark { " dark" } else { "" })));
            }
            browser.close().await;
        }
        assert!(found.is_empty(), "{}", found.join("\n"));
    });
}
