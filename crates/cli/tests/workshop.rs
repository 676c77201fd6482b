//! The place of the console where policies are written, tried, compared and activated, in headless Chromium.
mod browser;
mod running;

use std::path::Path;
use std::time::Duration;

use browser::*;
use fantoccini::Locator;
use fantoccini::elements::Element;
use regnant_campus::harbour::*;
use running::*;
use serde_json::{Value, json};

const CONTROL: &str = "\u{e009}";
const ALT: &str = "\u{e00a}";
const NO_MORE: &str = "\u{e000}";
const ENTER: &str = "\u{e007}";
const END: &str = "\u{e010}";
const UP: &str = "\u{e013}";
const F2: &str = "\u{e032}";
const F12: &str = "\u{e03c}";

/// Somebody signed in at a page of the policy.
async fn at(service: &Running, path: &str) -> Browser {
    let browser = Browser::start().await;
    browser.page.goto(&format!("{}{path}", service.api)).await.unwrap();
    browser.sign_in("harbour", PASSWORD).await;
    browser
}

/// The text being written, the cursor in a line that begins with this.
async fn cursor_in(browser: &Browser, line: &str) -> Element {
    let content = browser.find(".cm-content").await;
    find_in_file(browser, line).await;
    content
}

/// Looks for a text in all files, and goes to the first line that has it.
async fn find_in_file(browser: &Browser, text: &str) {
    browser.click_text("button", "Find").await;
    let field = browser.find("input[aria-label='Find in all files']").await;
    field.clear().await.unwrap();
    field.send_keys(text).await.unwrap();
    browser.find("ul[aria-label='Lines found'] button").await.click().await.unwrap();
    is_at(browser, text).await;
}

/// Waits until the cursor is in a line that holds this.
async fn is_at(browser: &Browser, text: &str) {
    for _ in 0..200 {
        let script = "return document.querySelector('.cm-activeLine')?.textContent ?? ''";
        let line = browser.page.execute(script, vec![]).await.unwrap();
        if line.as_str().unwrap_or_default().contains(text) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the cursor is not where `{text}` stands");
}

fn draft(service: &Running) -> Value {
    service.get("policy/draft").1
}

/// Waits until the service keeps a draft whose files fit, one after the other.
async fn kept(service: &Running, fits: impl Fn(&str) -> bool) {
    for _ in 0..200 {
        let draft = draft(service);
        let included = draft["included"].as_object().into_iter().flatten().filter_map(|(_, text)| text.as_str());
        let text = draft["source"].as_str().into_iter().chain(included).collect::<Vec<_>>().join("\n");
        if fits(&text) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("the draft is {}", draft(service));
}

/// The harbour's policy in its files, as the demo has it.
fn in_files(service: &Running) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../campus/harbour");
    service.client(&["policy", "activate", "--note", "In files"]).arg(folder).succeeds();
}

fn number(service: &Running) -> u64 {
    service.get("policy").1["edition"]["number"].as_u64().unwrap()
}

#[test]
fn a_rule_is_written_mended_activated_watched_and_taken_back() {
    block_on(async {
        let service = Running::harbour();
        let before = number(&service);
        let browser = at(&service, "/policy").await;
        browser.sees("which decides").await;
        // A rule by text, with a word that is completed, and one that is wrong and mended by one key.
        let content = cursor_in(&browser, "when not device.known").await;
        content.send_keys(&format!("{END} and nas.site = \"yard\" and nas.ki")).await.unwrap();
        let offered = browser.find(".cm-tooltip-autocomplete li[aria-selected=true]").await.text().await.unwrap();
        assert!(offered.starts_with("nas.kind"), "{offered}");
        // What is offered is taken once it is shown for a moment, so that nobody takes what they did not see.
        tokio::time::sleep(Duration::from_millis(150)).await;
        content.send_keys(&format!("{ENTER} = swich")).await.unwrap();
        browser.sees("Findings 2").await;
        browser.click_text("button", "Findings 2").await;
        browser.sees("did you mean `switch`?").await;
        browser.click_text("button", "error W210 expected one of a fixed list of words").await;
        let writing = browser.page.active_element().await.unwrap();
        writing.send_keys(&format!("{CONTROL}.{NO_MORE}")).await.unwrap();
        kept(&service, |text| text.contains("not device.known and nas.site = \"yard\" and nas.kind = switch")).await;
        browser.sees("kept").await;
        // The page loaded anew has it, typed a moment ago or not.
        browser.find(".cm-content").await.send_keys(&format!("{END} # typed last")).await.unwrap();
        browser.page.refresh().await.unwrap();
        browser.sees("draft on edition").await;
        kept(&service, |text| text.contains("# typed last")).await;

        // What it changes, by meaning; a case fails with it, and says what happened instead.
        browser.click_text("a", "Changes").await;
        browser.sees("changed rule Devices not yet known of gate switch-ports, its condition").await;
        browser.sees("1 failed case").await;
        browser.page.goto(&format!("{}/policy", service.api)).await.unwrap();
        browser.sees("Cases 1 failed").await;
        browser.click_text("button", "Cases 1 failed").await;
        browser.sees("a device that nobody registered is held").await;
        browser.find(".cm-content").await;
        cursor_in(&browser, "device.known = false, device.barred = false, device.groups = { }").await;
        let content = browser.find(".cm-content").await;
        content.send_keys(&format!("{END}, nas.site = \"yard\"")).await.unwrap();
        browser.sees("Cases 13").await;

        // Activated with a note, watched, and taken back.
        browser.click_text("a", "Changes").await;
        browser.sees("Make it the edition that decides").await;
        browser.find("textarea").await.send_keys("Only the yard holds devices").await.unwrap();
        browser.sees("Say whether the warnings are meant so.").await;
        browser.click_text("label", "They are meant so").await;
        browser.click_text("button", "Activate").await;
        browser.sees(&format!("Edition {} decides, in the place of edition {before}", before + 1)).await;
        let note = service.get("policy").1["edition"]["note"].clone();
        assert_eq!(note, "Only the yard holds devices (accepted: W508, W516)", "which warnings were meant so is kept");
        assert_eq!(service.get("policy/draft").0, 404);
        browser.sees("It has decided nothing yet").await;
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e990001"]).ends_with(1);
        browser.sees("So far: 1 refused.").await;
        service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e990001"]).ends_with(0);
        browser.sees("So far: 1 granted, 1 refused.").await;
        browser.click_text("button", "Take it back").await;
        browser.find("[role=alertdialog] button.bg-rust").await.click().await.unwrap();
        browser.sees(&format!("Edition {} decides, in the place of edition {}", before + 2, before + 1)).await;
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e990001"]).ends_with(0);
        browser.close().await;
    });
}

#[test]
fn names_are_found_followed_and_changed_in_all_files() {
    block_on(async {
        let service = Running::harbour();
        in_files(&service);
        let browser = at(&service, "/policy").await;
        browser.sees("which decides").await;
        let content = cursor_in(&browser, "acl cranes-edge").await;
        content.send_keys(&format!("{END}{F12}")).await.unwrap();
        // The access list stands in a file of its own.
        is_at(&browser, "acl cranes-edge {").await;
        assert_eq!(browser.text("nav[aria-label=Files] [aria-current]").await, "access-lists.writ");
        browser.find(".cm-content").await.send_keys(F2).await.unwrap();
        browser.sees("Another name for cranes-edge").await;
        let field = browser.find("[role=dialog] input").await;
        field.clear().await.unwrap();
        field.send_keys("cranes-edge-of-the-quay").await.unwrap();
        browser.click_text("button", "Rename it").await;
        kept(&service, |text| text.contains("  acl cranes-edge-of-the-quay")).await;
        let renamed = draft(&service);
        assert!(renamed["included"]["access-lists.writ"].as_str().unwrap().contains("acl cranes-edge-of-the-quay {"));
        assert!(renamed["included"]["cases.writ"].as_str().unwrap().contains("acl cranes-edge-of-the-quay"));
        browser.sees("Cases 13").await;
        // Cases pass beside their lines, and a word says what it means under the pointer.
        browser.click_text("button", "cases.writ").await;
        browser.find(".cm-cases span[title='This case passes.']").await;
        let hover = "const word = [...document.querySelectorAll('.cm-line span')].find((one) => one.textContent === 'expect');
            const place = word.getBoundingClientRect();
            word.dispatchEvent(new MouseEvent('mousemove', { bubbles: true, clientX: place.x + 4, clientY: place.y + 4 }));";
        browser.page.execute(hover, vec![]).await.unwrap();
        browser.sees("The outcome that a case wants").await;
        browser.click_text("button", "access-lists.writ").await;
        // Laid out, it is as the service says.
        browser.find(".cm-content").await.send_keys(&format!("{END}\n   # set in too far")).await.unwrap();
        browser.click_text("button", "Lay out").await;
        browser.sees("Laid out.").await;
        // A file is added and removed, with its include.
        // Tab leaves the text, as it does any field.
        browser.find(".cm-content").await.send_keys("\u{e004}").await.unwrap();
        let script = "return document.activeElement.className";
        let left = browser.page.execute(script, vec![]).await.unwrap();
        assert!(!left.as_str().unwrap().contains("cm-content"), "{left}");
        browser.click_text("button", "Add a file").await;
        browser.find("[role=dialog] input").await.send_keys("grants").await.unwrap();
        browser.click_text("button", "Add it").await;
        let content = browser.find(".cm-content").await;
        content.send_keys("grant desk { vlan 21 }").await.unwrap();
        browser.sees("Findings 2").await;
        browser.click_text("button", "Remove grants.writ").await;
        kept(&service, |text| !text.contains("grants.writ")).await;
        browser.close().await;
    });
}

#[test]
fn two_that_write_lose_nothing() {
    block_on(async {
        let service = Running::harbour();
        let before = number(&service);
        let browser = at(&service, "/policy").await;
        browser.sees("which decides").await;
        let content = cursor_in(&browser, "vlan 60").await;
        content.send_keys(&format!("{END} # for agents")).await.unwrap();
        kept(&service, |text| text.contains("vlan 60 # for agents")).await;
        // Another window writes the draft, or its own command line does.
        let mut other = draft(&service);
        let source = other["source"].as_str().unwrap().replace("vlan 50", "vlan 51");
        other = json!({ "source": source, "included": other["included"], "made_from": before });
        let version = draft(&service)["version"].to_string();
        assert_eq!(service.call("PUT", "policy/draft", Some(&format!("\"{version}\"")), &other).0, 200);
        content.send_keys(", all of them").await.unwrap();
        browser.sees("This draft was written in another window too").await;
        browser.page.refresh().await.unwrap();
        browser.sees("This draft was written in another window too").await;
        browser.click_text("button", "Keep the text of this window").await;
        kept(&service, |text| text.contains("vlan 60 # for agents, all of them") && text.contains("vlan 50")).await;

        browser.click_text("a", "Changes").await;
        browser.sees("Only the layout or comments differ").await;
        // Somebody else activates an edition that changes another rule, and is faster.
        let folder = service.data.join("harbour");
        let policy = std::fs::read_to_string(folder.join("main.writ")).unwrap();
        std::fs::write(folder.join("main.writ"), policy.replace("vlan 99", "vlan 98")).unwrap();
        service.client(&["policy", "activate", "--note", "Another floor"]).arg(&folder).succeeds();
        browser.find("textarea").await.send_keys("A comment").await.unwrap();
        browser.click_text("label", "They are meant so").await;
        browser.click_text("button", "Activate").await;
        browser.sees("Others changed the policy since you began").await;
        browser.sees("changed grant holding").await;
        assert_eq!(number(&service), before + 1, "theirs decides, and nothing went over it");
        browser.click_text("button", &format!("Put the draft on top of edition {}", before + 1)).await;
        browser.sees_no_more("Others changed the policy since you began").await;
        kept(&service, |text| text.contains("vlan 98") && text.contains("vlan 60 # for agents, all of them")).await;
        assert_eq!(draft(&service)["made_from"], before + 1);
        browser.sees("Only the layout or comments differ").await;
        browser.click_text("button", "Discard the draft").await;
        browser.click_text("button", "Discard it").await;
        browser.sees("There is no draft").await;
        assert_eq!(service.get("policy/draft").0, 404);
        browser.close().await;
    });
}

/// Chooses what is done to a rule.
async fn choose(browser: &Browser, rule: &str, what: &str) {
    browser.find(&format!("button[aria-label='What to do with {rule}']")).await.click().await.unwrap();
    let path = format!("//*[@role='menuitem'][normalize-space()='{what}']");
    browser.page.wait().for_element(Locator::XPath(&path)).await.unwrap().click().await.unwrap();
}

fn place(text: &str, title: &str) -> Option<usize> {
    text.rfind(&format!("rule \"{title}\""))
}

#[test]
fn a_gate_is_read_as_a_table_and_its_rules_are_moved_copied_and_switched_off() {
    block_on(async {
        let service = Running::harbour();
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
        service.entries("limit=1", 1);
        let browser = at(&service, "/policy/gates?gate=switch-ports").await;
        browser.sees("Takes a request when the NAS's kind is switch and the request's purpose is network.").await;
        browser.sees("when the device is in group “cranes”").await;
        browser.sees("never in 90 days").await;
        let told = "//summary[normalize-space()='What equipment is told']";
        browser.page.wait().for_element(Locator::XPath(told)).await.unwrap().click().await.unwrap();
        browser.sees("Tunnel-Private-Group-ID").await;
        // By keyboard, and undone.
        let menu = browser.find("button[aria-label='What to do with Quay cameras']").await;
        menu.send_keys(&format!("{ALT}{UP}{NO_MORE}")).await.unwrap();
        browser.sees("Quay cameras is tried before Container scanners.").await;
        kept(&service, |text| place(text, "Quay cameras") < place(text, "Container scanners")).await;
        // The focus goes with the row, so that it goes on.
        let rows = "ol[aria-label='Rules of switch-ports'] li:nth-child(3)";
        for _ in 0..100 {
            if browser.text(rows).await.contains("Quay cameras") {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let menu = browser.page.active_element().await.unwrap();
        menu.send_keys(&format!("{ALT}{UP}{NO_MORE}")).await.unwrap();
        browser.sees("Quay cameras is tried before Crane controllers.").await;
        kept(&service, |text| place(text, "Quay cameras") < place(text, "Crane controllers")).await;
        browser.click_text("button", "Undo").await;
        kept(&service, |text| place(text, "Quay cameras") > place(text, "Crane controllers")).await;
        browser.find("input[type=search]").await.send_keys("scanners").await.unwrap();
        browser.sees_no_more("Quay cameras").await;
        browser.find("input[type=search]").await.send_keys(&"\u{e003}".repeat("scanners".len())).await.unwrap();
        // A copy is marked until somebody has looked at what it gives.
        choose(&browser, "Crane controllers", "Copy…").await;
        browser.click_text("button", "Copy").await;
        browser.sees("copied from “Crane controllers”: nobody has looked at what it gives").await;
        browser.click_text("a", "Changes").await;
        browser.sees("added rule Crane controllers (copy)").await;
        browser.page.goto(&format!("{}/policy/gates?gate=switch-ports", service.api)).await.unwrap();
        choose(&browser, "Crane controllers (copy)", "I have looked at what it gives").await;
        kept(&service, |text| text.contains("rule \"Crane controllers (copy)\" {")).await;
        choose(&browser, "Crane controllers (copy)", "Delete").await;
        kept(&service, |text| !text.contains("(copy)")).await;
        choose(&browser, "Quay cameras", "Switch off…").await;
        browser.click_text("button", "Switch off").await;
        browser.sees("off: it is passed over").await;
        kept(&service, |text| text.contains("rule \"Quay cameras\" off {")).await;
        choose(&browser, "Quay cameras", "Switch on").await;
        kept(&service, |text| text.contains("rule \"Quay cameras\" {")).await;
        // A row opens at its line.
        browser.click_text("button", "Container scanners").await;
        is_at(&browser, "rule \"Container scanners\" {").await;
        browser.close().await;
    });
}

#[test]
fn a_refusal_becomes_a_case_a_question_and_a_rule() {
    block_on(async {
        let service = Running::harbour();
        service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400066"]).ends_with(1);
        let id = service.entries("limit=1", 1)[0]["id"].as_str().unwrap().to_owned();
        let browser = at(&service, &format!("/journal/{id}")).await;
        browser.click_text("a", "Keep it as a case").await;
        browser.sees("Cases 14").await;
        kept(&service, |text| text.matches("expect refuse by \"Reported lost or stolen\"").count() == 3).await;

        // What would have been without the bar: both come to the same, until the draft says otherwise.
        browser.page.goto(&format!("{}/policy/what-if?entry={id}", service.api)).await.unwrap();
        browser.sees("Both come to the same.").await;
        let facts = browser.find("main textarea").await;
        facts.send_keys("device.barred = false").await.unwrap();
        browser.sees("granted by Container scanners: scanners").await;
        facts.clear().await.unwrap();
        facts.send_keys("device.barrd = false").await.unwrap();
        browser.sees("did you mean `device.barred`?").await;

        // A rule from the facts of the refusal, in its gate.
        browser.page.goto(&format!("{}/policy/compose?entry={id}", service.api)).await.unwrap();
        browser.sees("its facts are offered as conditions").await;
        browser.find("input[name=title]").await.send_keys("Scanners that are looked for").await.unwrap();
        // The device itself is offered too, whether a rule asked for it or not.
        browser.find("input[aria-label='request.mac = 02:00:5e:40:00:66 counts']").await;
        browser.find("input[aria-label='device.barred counts']").await.click().await.unwrap();
        browser.find("input[aria-label='device in group \"scanners\" counts']").await.click().await.unwrap();
        browser.click_text("label", "holding").await;
        let before = browser.find("select[aria-label='Tried before']").await;
        before.select_by_label("Reported lost or stolen").await.unwrap();
        browser.sees("when device in group \"scanners\" and device.barred").await;
        browser.sees("The case “a scanner reported stolen stays out” fails with it.").await;
        browser.click_text("button", "Put it into the draft").await;
        browser.sees("rule \"Scanners that are looked for\" {").await;
        // The composer shows the rule too, before it is in the draft.
        let is_before = |text: &str| {
            let new = place(text, "Scanners that are looked for");
            new.is_some() && new < place(text, "Reported lost or stolen")
        };
        kept(&service, is_before).await;
        browser.page.goto(&format!("{}/policy/what-if?entry={id}", service.api)).await.unwrap();
        browser.sees("They come to different things.").await;
        browser.sees("≠ differs").await;
        browser.close().await;
    });
}

#[test]
fn a_first_policy_is_written_from_answers() {
    block_on(async {
        let service = Running::harbour();
        let browser = at(&service, "/policy/begin").await;
        browser.find("select[name=people]").await.select_by_value("harbour").await.unwrap();
        browser.find("input[name=operators]").await.send_keys("network-operators").await.unwrap();
        browser.find("select[name=devices]").await.select_by_value("harbour-devices").await.unwrap();
        browser.click_text("button", "Add a group of devices").await;
        browser.find("input[aria-label='Group 1 of devices']").await.send_keys("cranes").await.unwrap();
        browser.click_text("button", "Write it as my draft").await;
        browser.sees("is no VLAN").await;
        browser.find("input[aria-label='VLAN of group 1 of devices']").await.send_keys("30").await.unwrap();
        browser.click_text("button", "Write it as my draft").await;
        browser.sees("rule \"Administrators of equipment\" {").await;
        browser.sees("Cases 3").await;
        kept(&service, |text| text.contains("rule \"Devices of cranes\" {")).await;
        // A grant and an access list from choices.
        browser.page.goto(&format!("{}/policy/compose", service.api)).await.unwrap();
        browser.click_text("button", "access list").await;
        browser.find("input[name=name]").await.send_keys("desk").await.unwrap();
        browser.find("input[aria-label=To]").await.send_keys("10.44.10.0/24").await.unwrap();
        browser.find("input[aria-label=Ports]").await.send_keys("443").await.unwrap();
        browser.click_text("button", "Put it into the draft").await;
        kept(&service, |text| text.contains("acl desk {\n  permit tcp to 10.44.10.0/24 port 443\n  deny ip to any\n}"))
            .await;
        browser.close().await;
    });
}

#[test]
fn whoever_may_not_change_the_policy_reads_it() {
    block_on(async {
        let service = Running::harbour();
        let new = json!({ "name": "ledger", "role": "auditor", "password": "ledger-demo-1" });
        assert_eq!(service.post("administrators", &new).0, 201);
        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/policy", service.api)).await.unwrap();
        browser.sign_in("ledger", "ledger-demo-1").await;
        browser.sees("which decides").await;
        browser.find(".cm-content").await.send_keys("nothing").await.unwrap();
        browser.sees("Cases 13").await;
        let offered = browser.page.execute("return document.body.innerText", vec![]).await.unwrap();
        let offered = offered.as_str().unwrap();
        assert!(!offered.contains("nothing") && !offered.contains("Lay out") && !offered.contains("Add a file"));
        browser.page.goto(&format!("{}/policy/gates", service.api)).await.unwrap();
        browser.sees("Takes a request when").await;
        assert!(browser.page.find(Locator::Css("button[aria-label^='What to do']")).await.is_err());
        browser.close().await;
    });
}
