//! The console in headless Chromium, against a started service.
mod browser;
mod running;

use browser::*;
use regnant_campus::harbour::*;
use running::*;

#[test]
fn the_first_administrator_is_welcomed_and_sees_an_empty_journal() {
    block_on(async {
        let service = Running::empty();
        let browser = Browser::start().await;
        browser.page.goto(service.welcome.as_ref().unwrap()).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("first", "short").await;
        assert!(browser.text("[role=alert]").await.contains("at least 10 characters"));
        browser.find("input[name=password]").await.clear().await.unwrap();
        browser.find("input[name=name]").await.clear().await.unwrap();
        browser.sign_in("first", "a-long-password").await;
        browser.sees("Nobody has asked yet").await;
        browser.sees("regnant try mac").await;
        browser.close().await;
    });
}

#[test]
fn a_refusal_is_watched_as_it_comes_and_explained() {
    block_on(async {
        let service = Running::harbour();
        let browser = Browser::start().await;
        // Every page needs somebody signed in, and comes back after that.
        browser.page.goto(&format!("{}/journal?outcome=refused", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", "wrong-password").await;
        assert!(browser.text("[role=alert]").await.contains("Name or password is wrong"));
        browser.find("input[name=name]").await.clear().await.unwrap();
        browser.find("input[name=password]").await.clear().await.unwrap();
        browser.sign_in("harbour", PASSWORD).await;
        browser.sees("No entry fits").await;
        browser.sees("live").await;
        assert!(browser.page.current_url().await.unwrap().as_str().ends_with("/journal?outcome=refused"));

        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
        service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400066"]).ends_with(1);
        browser.sees("container scanner reported stolen 02:00:5e:40:00:66 on yard-sw-1 was refused").await;
        let shown = browser.page.find_all(fantoccini::Locator::Css("ol[aria-label=Journal] li")).await.unwrap();
        assert_eq!(shown.len(), 1, "the filter keeps the granted one out");

        browser.find("li[data-outcome=refused] > a").await.click().await.unwrap();
        browser.sees("\"Reported lost or stolen\" is the first rule that is true.").await;
        browser.sees("The device is barred. Lift that in its device entry").await;
        assert_eq!(browser.page.title().await.unwrap(), "Reported lost or stolen · Regnant");
        let stopped = browser.find("li[data-mark=stopped] h2").await.text().await.unwrap();
        assert_eq!(stopped, "rules");
        browser.click_text("h1//a", "Reported lost or stolen").await;
        // Three gates have a rule of this title; the link leads to the one that decided.
        browser.sees("rule \"Reported lost or stolen\" always {").await;
        let line = "return document.querySelector('.cm-activeLine').textContent";
        let line = browser.page.execute(line, vec![]).await.unwrap();
        assert!(line.as_str().unwrap().contains("rule \"Reported lost or stolen\" always {"), "{line}");
        browser.sees("Cases 13").await;

        browser.click_text("button", "Sign out").await;
        browser.find("input[name=name]").await;
        browser.page.goto(&format!("{}/policy", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.close().await;
    });
}

#[test]
fn the_journal_is_searched_and_walked_by_keyboard() {
    block_on(async {
        let service = Running::harbour();
        for address in ["02005e200001", "02005e500001", "02005e200002"] {
            service.try_from(&QUAY_SW_1, &["mac", "--mac", address]).ends_with(0);
        }
        service.entries("limit=10", 3);
        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/journal", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;
        browser.sees("quay camera 02:00:5e:50:00:01").await;
        browser.find("input[type=search]").await.send_keys("crane").await.unwrap();
        for _ in 0..100 {
            if browser.page.current_url().await.unwrap().as_str().ends_with("?q=crane") {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        let rows = browser.page.find_all(fantoccini::Locator::Css("ol[aria-label=Journal] li")).await.unwrap();
        assert_eq!(rows.len(), 2);
        // Typing goes on after the list changed.
        browser.page.active_element().await.unwrap().send_keys(" 02:00:5e:20:00:02").await.unwrap();
        browser.sees("02:00:5e:20:00:02").await;
        let only = "ol[aria-label=Journal] li:only-child > a";
        browser.find(only).await.send_keys("\u{e007}").await.unwrap();
        browser.sees("Access-Accept with").await;
        browser.close().await;
    });
}

#[test]
fn a_session_leads_to_the_decision_that_gave_it_and_back() {
    block_on(async {
        let service = Running::harbour();
        let accounting = service.accounting.to_string();
        let tried = ["mac", "--mac", "02005e200007", "--attribute", "NAS-Port=7", "--accounting", &accounting];
        service.try_from(&QUAY_SW_1, &tried).succeeds();
        service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400066"]).ends_with(1);
        service.entries("outcome=refused", 1);
        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/journal", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;
        browser.find("li[data-outcome=refused]").await;
        // Outcomes are chosen one beside the other.
        browser.click_text("button", "granted").await;
        browser.click_text("button", "accounting").await;
        for _ in 0..100 {
            if browser.page.current_url().await.unwrap().as_str().contains("granted%2Caccounting") {
                break;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        let rows = browser.page.find_all(fantoccini::Locator::Css("ol[aria-label=Journal] li")).await.unwrap();
        assert_eq!(rows.len(), 3, "the refusal is left out");
        browser.find("li[data-outcome=accounting] > a").await.click().await.unwrap();
        browser.sees("It repeats the Class of the decision that gave this access.").await;
        browser.find("ol[aria-label='The decision'] li > a").await.click().await.unwrap();
        browser.sees("Access-Accept with").await;
        browser.sees("What was reported of this access").await;
        let reports = "ol[aria-label='What was reported of this access'] li";
        let reports = browser.page.find_all(fantoccini::Locator::Css(reports)).await.unwrap();
        assert_eq!(reports.len(), 2);
        browser.close().await;
    });
}

#[test]
fn a_sender_that_nobody_knows_is_added_from_the_page_and_changed_and_removed() {
    block_on(async {
        let service = Running::harbour();
        let dock = regnant_campus::Nas { address: std::net::Ipv4Addr::new(127, 0, 0, 13), ..QUAY_SW_1 };
        let ask = ["mac", "--mac", "02005e200007", "--wait", "1", "--tries", "1"];
        let named = [&ask[..], &["--attribute", "NAS-Identifier=dock-sw-2"]].concat();
        service.try_from(&dock, &named).ends_with(3);
        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/network", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;
        browser.sees("It calls itself dock-sw-2, looks like a switch.").await;
        browser.click_text("button", "Try a secret").await;
        browser.find("input[type=password]").await.send_keys(dock.secret).await.unwrap();
        browser.click_text("button", "Try").await;
        browser.sees("The secret fits").await;

        // The form is filled in; what is wrong is told, and what was typed stays.
        browser.click_text("a", "Add this NAS").await;
        browser.find("input[name=site]").await.send_keys("dock").await.unwrap();
        browser.find("input[name=secret]").await.send_keys("short").await.unwrap();
        browser.click_text("button", "Add").await;
        assert!(browser.text("[role=alert]").await.contains("the shared secret has 5 bytes"));
        let secret = browser.find("input[name=secret]").await;
        secret.clear().await.unwrap();
        secret.send_keys(dock.secret).await.unwrap();
        browser.click_text("button", "Add").await;
        browser.sees("dock-sw-2 is heard from now on").await;
        service.try_from(&dock, &ask).ends_with(0);
        service.entries("q=dock-sw-2&outcome=granted", 1);

        browser.click_text("a", "Its page").await;
        browser.sees("crane controller 02:00:5e:20:00:07 on dock-sw-2 was given cranes").await;
        browser.click_text("button", "Change").await;
        let note = browser.find("input[name=note]").await;
        note.send_keys("Behind the crane").await.unwrap();
        // Somebody else is faster.
        service.client(&["nas", "change", "dock-sw-2", "--tag", "east"]).succeeds();
        browser.click_text("button", "Save").await;
        assert!(browser.text("[role=alert]").await.contains("was changed in between"));
        browser.click_text("button", "Cancel").await;
        browser.page.refresh().await.unwrap();
        browser.sees("east").await;
        browser.click_text("button", "Change").await;
        browser.find("input[name=note]").await.send_keys("Behind the crane").await.unwrap();
        browser.click_text("button", "Save").await;
        browser.sees("Behind the crane").await;
        // Its secret stayed.
        service.try_from(&dock, &ask).ends_with(0);

        browser.click_text("button", "Remove").await;
        browser.sees("Its packets are then not heard any more.").await;
        browser.click_text("button", "Remove it").await;
        browser.find("ul[aria-label=Equipment]").await;
        let rows = browser.page.find_all(fantoccini::Locator::Css("ul[aria-label=Equipment] li")).await.unwrap();
        assert_eq!(rows.len(), 6);
        service.try_from(&dock, &ask).ends_with(3);
        browser.close().await;
    });
}

#[test]
fn a_device_is_found_barred_by_the_helpdesk_and_its_past_is_read() {
    block_on(async {
        let service = Running::harbour();
        for (name, role, password) in [("desk", "helpdesk", "desk-demo-1"), ("ledger", "auditor", "ledger-demo-1")] {
            let new = serde_json::json!({ "name": name, "role": role, "password": password });
            assert_eq!(service.post("administrators", &new).0, 201);
        }
        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/devices", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("desk", "desk-demo-1").await;
        // Long lists are drawn as far as they are seen.
        browser.sees("119 shown of 119 that there are.").await;
        let rows = "ul[aria-label=Devices] li";
        let drawn = browser.page.find_all(fantoccini::Locator::Css(rows)).await.unwrap().len();
        assert!((10..60).contains(&drawn), "{drawn}");
        browser.find("input[type=search]").await.send_keys("20.0007").await.unwrap();
        browser.sees("1 shown of 119 that there are.").await;
        assert!(browser.page.current_url().await.unwrap().as_str().contains("20.0007"));
        browser.find("ul[aria-label=Devices] li a").await.click().await.unwrap();
        browser.sees("crane controller").await;
        // No policy and nothing to change for the helpdesk, and a device to keep out.
        for hidden in ["Policy", "Change", "Remove", "Its past"] {
            let found = browser.page.source().await.unwrap();
            assert!(!found.contains(&format!(">{hidden}<")), "{hidden}");
        }
        let reason = "input[aria-label='Why it is barred']";
        browser.find(reason).await.send_keys("Fell into the basin").await.unwrap();
        browser.click_text("button", "Bar it").await;
        browser.sees("It must stay out: Fell into the basin.").await;
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(1);
        // A person is helped, and one who could administer equipment is not.
        browser.page.goto(&format!("{}/people/harbour/ola.nett", service.api)).await.unwrap();
        browser.sees("Their password is for an engineer to set").await;
        browser.page.goto(&format!("{}/people/harbour/tom.reed", service.api)).await.unwrap();
        browser.find("input[aria-label='A new password']").await.send_keys("Winch-Drum-33").await.unwrap();
        browser.click_text("button", "Set it").await;
        browser.sees("They sign in with it from now on.").await;
        let vpn = ["pap", "--user", "tom.reed", "--password", "Winch-Drum-33"];
        service.try_from(&PILOT_VPN_1, &vpn).ends_with(0);
        browser.click_text("button", "Sign out").await;
        browser.find("input[name=name]").await;

        browser.page.goto(&format!("{}/devices/harbour-devices/02:00:5e:20:00:07", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("ledger", "ledger-demo-1").await;
        browser.sees("Its past").await;
        browser.find("ol[aria-label='Its past'] li a").await.click().await.unwrap();
        browser.sees("Fell into the basin").await;
        browser.page.goto(&format!("{}/settings/audit?q=desk", service.api)).await.unwrap();
        browser.find("ul[aria-label=Changes] li").await;
        browser.click_text("button", "Check that nothing was changed").await;
        browser.sees("changes are as they were written").await;
        browser.close().await;
    });
}

#[test]
fn a_person_and_a_device_are_added_changed_and_removed_in_the_page() {
    block_on(async {
        let service = Running::harbour();
        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/people/new", service.api)).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;
        browser.sees("Add a person").await;
        let fill = async |name: &str, text: &str| {
            browser.find(&format!("input[name={name}]")).await.send_keys(text).await.unwrap();
        };
        fill("name", "mara.quay").await;
        fill("groups", "staff").await;
        fill("password", "Summer2026").await;
        browser.click_text("button", "Add").await;
        assert!(browser.text("[role=alert]").await.contains("among the first that are tried"));
        browser.find("input[name=password]").await.clear().await.unwrap();
        fill("password", "Dry-Dock-82").await;
        browser.click_text("button", "Add").await;
        browser.sees("Its past").await;
        let vpn = ["pap", "--user", "mara.quay", "--password", "Dry-Dock-82"];
        service.try_from(&PILOT_VPN_1, &vpn).ends_with(0);
        browser.click_text("button", "Remove").await;
        browser.sees("Nothing is proved by this account any more").await;
        browser.click_text("button", "Remove them").await;
        browser.sees("6 of 6").await;

        browser.page.goto(&format!("{}/devices/new?mac=0200.5e20.0099", service.api)).await.unwrap();
        fill("title", "spare crane controller").await;
        fill("groups", "cranes").await;
        browser.click_text("button", "Add").await;
        browser.sees("02:00:5e:20:00:99").await;
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200099"]).ends_with(0);
        browser.click_text("button", "Change").await;
        fill("owner", "Tom Reed").await;
        service.client(&["device", "change", "02005e200099", "--note", "faster"]).succeeds();
        browser.click_text("button", "Save").await;
        assert!(browser.text("[role=alert]").await.contains("was changed in between"));

        // Several at once, pasted.
        browser.page.goto(&format!("{}/devices", service.api)).await.unwrap();
        browser.click_text("button", "paste addresses").await;
        let pasted = "02005e200099, 02-00-5E-20-00-01";
        browser.find("textarea[aria-label=Addresses]").await.send_keys(pasted).await.unwrap();
        browser.sees("2 devices").await;
        browser.find("input[aria-label=Groups]").await.send_keys("spare").await.unwrap();
        browser.click_text("button", "Put into").await;
        browser.sees("0 devices").await;
        let (_, one) = service.get("devices/harbour-devices/02005e200001");
        assert_eq!(one["device"]["groups"], serde_json::json!(["cranes", "spare"]));
        browser.close().await;
    });
}

#[test]
fn today_tells_what_is_odd_and_anything_is_found() {
    block_on(async {
        let service = Running::harbour();
        for _ in 0..3 {
            service.try_from(&GATE_FW_1, &["pap", "--user", "tom.reed", "--password", "Winch-Oil-48"]).ends_with(1);
        }
        service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400066"]).ends_with(1);
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
        service.entries("limit=10", 5);
        let soon = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(30);
        service.client(&["device", "change", "02005e50003c", "--expires", &format!("{soon:.0}")]).succeeds();
        let stranger = regnant_campus::Nas { address: std::net::Ipv4Addr::new(127, 0, 0, 13), ..QUAY_SW_1 };
        service.try_from(&stranger, &["mac", "--mac", "02005e200007", "--wait", "1", "--tries", "1"]).ends_with(3);
        let browser = Browser::start().await;
        browser.page.goto(&service.api).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;
        browser.sees("3 times refused because no rule of gate admin-logins applies, on gate-fw-1").await;
        browser.sees("Once refused by the rule Reported lost or stolen").await;
        browser.sees("1 granted").await;
        browser.sees("Need not sign their requests").await;
        browser.find("ul[aria-label='Unheard senders'] li").await;
        let ends = browser.text("ul[aria-label='What ends soon']").await;
        assert!(ends.contains("02:00:5e:50:00:3c") && ends.contains("quay camera"), "{ends}");
        // The drawing has a table behind it.
        browser.click_text("summary", "As a table").await;
        let rows = browser.page.find_all(fantoccini::Locator::Css("details tbody tr")).await.unwrap();
        assert_eq!(rows.len(), 24);
        // A story leads to its entries.
        browser.click_text("a", "3 times refused").await;
        let entries = "ol[aria-label=Journal] li";
        browser.find(entries).await;
        assert_eq!(browser.page.find_all(fantoccini::Locator::Css(entries)).await.unwrap().len(), 3);
        // Anything is found by a few digits or letters, from every page.
        for (typed, leads) in
            [("20-0007", "crane controller"), ("gate-fw", "firewall at gatehouse"), ("ida.m", "harbour-office")]
        {
            browser.find("body").await.send_keys("/").await.unwrap();
            let search = browser.find("input[role=combobox]").await;
            search.send_keys(typed).await.unwrap();
            browser.find("#found li[aria-selected=true]").await;
            for _ in 0..100 {
                if browser.text("#found li:nth-last-child(1)").await.contains(typed) {
                    break;
                }
                tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            }
            search.send_keys("\u{e007}").await.unwrap();
            browser.sees(leads).await;
        }
        browser.close().await;
    });
}

#[test]
fn editions_are_compared_and_taken_back_in_the_page() {
    block_on(async {
        let service = Running::harbour();
        let folder = service.data.join("harbour");
        let policy = std::fs::read_to_string(folder.join("main.writ")).unwrap();
        let before = service.get("policy").1["edition"]["number"].as_u64().unwrap();
        std::fs::write(folder.join("main.writ"), policy.replace("vlan 60", "vlan 61")).unwrap();
        let note = ["policy", "activate", "--note", "Contractors move to their own floor"];
        service.client(&note).arg(&folder).succeeds();

        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/policy", service.api)).await.unwrap();
        browser.sign_in("harbour", PASSWORD).await;
        browser.click_text("a", "Editions").await;
        browser.sees("Contractors move to their own floor").await;
        browser.click_text("a", &format!("edition {}", before + 1)).await;
        browser.sees(&format!("What it changed of edition {before}")).await;
        browser.page.goto(&format!("{}/policy/editions/{before}", service.api)).await.unwrap();
        browser.sees("What going back to it would change").await;
        browser.sees("changed grant agents").await;
        browser.sees("For agents, in the dialect tarnworks").await;
        // Somebody else was faster: what was seen would not be what is replaced.
        service.client(&note).arg(&folder).succeeds();
        browser.click_text("button", "Make it the active one again").await;
        browser.sees("It is checked against the records as they are now").await;
        browser.click_text("button", "Go back").await;
        browser.sees(&format!("Edition {} is active and you began with edition {}", before + 2, before + 1)).await;
        browser.page.refresh().await.unwrap();
        browser.sees("changed grant agents").await;
        browser.click_text("button", "Make it the active one again").await;
        browser.find("[role=alertdialog] input").await.send_keys("The floor is not ready").await.unwrap();
        browser.click_text("button", "Go back").await;
        browser.sees(&format!("in the place of edition {}", before + 2)).await;
        let now = service.get("policy").1["edition"].clone();
        assert_eq!((now["number"].as_u64(), now["note"].as_str()), (Some(before + 3), Some("The floor is not ready")));
        // An edition that was never there says so.
        browser.page.goto(&format!("{}/policy/editions/999", service.api)).await.unwrap();
        browser.sees("There is no edition 999").await;
        browser.close().await;
    });
}
