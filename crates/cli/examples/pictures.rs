//! Makes the pictures in `docs/screenshots/` from a running `regnant demo`:
//! `cargo run --example pictures -- DIR`, with REGNANT_TOKEN_FILE set. With addresses of pages
//! behind DIR, those alone, light and dark.

#[path = "../tests/browser/mod.rs"]
mod browser;

use std::env;
use std::fs;
use std::path::PathBuf;
use std::process::Command;

use browser::Browser;

const CONSOLE: &str = "http://127.0.0.1:8480";

#[tokio::main(flavor = "current_thread")]
async fn main() {
    let folder = PathBuf::from(env::args().nth(1).unwrap_or_else(|| "docs/screenshots".into()));
    fs::create_dir_all(&folder).unwrap();
    let wanted: Vec<_> = env::args().skip(2).collect();
    if !wanted.is_empty() {
        return pages(&folder, &wanted).await;
    }
    let browser = Browser::start().await;
    let page = &browser.page;
    let picture = async |name: &str| {
        tokio::time::sleep(std::time::Duration::from_millis(700)).await;
        fs::write(folder.join(name), page.screenshot().await.unwrap()).unwrap();
    };
    page.goto(CONSOLE).await.unwrap();
    browser.find("input[name=name]").await;
    browser.sign_in("harbour", "tarnmouth-demo").await;
    browser.sees("What did not go well").await;
    page.goto(&format!("{CONSOLE}/journal")).await.unwrap();
    browser.find("ol[aria-label=Journal] li").await;
    picture("journal.png").await;
    page.goto(&format!("{CONSOLE}/today")).await.unwrap();
    browser.find("svg.recharts-surface").await;
    picture("today.png").await;
    page.goto(&format!("{CONSOLE}/journal?outcome=refused")).await.unwrap();
    browser.find("li[data-outcome=refused] a").await;
    page.goto(&format!("{CONSOLE}/journal?q=gate-fw-1%20no%20rule%20applies")).await.unwrap();
    browser.find("li[data-outcome=refused] > a").await.click().await.unwrap();
    browser.find("ol[aria-label=Trail]").await;
    picture("trail.png").await;
    page.goto(&format!("{CONSOLE}/policy#rule%20switch-ports%20Crane%20controllers")).await.unwrap();
    browser.sees("rule \"Crane controllers\" {").await;
    picture("policy.png").await;
    page.goto(&format!("{CONSOLE}/policy/gates?gate=switch-ports")).await.unwrap();
    browser.sees("when the device is barred").await;
    picture("gate.png").await;
    what_if(&browser).await;
    picture("what-if.png").await;
    page.goto(&format!("{CONSOLE}/policy/changes")).await.unwrap();
    browser.click_text("button", "Discard the draft").await;
    browser.click_text("button", "Discard it").await;
    browser.sees("There is no draft").await;
    page.goto(&format!("{CONSOLE}/certificates")).await.unwrap();
    browser.sees("Whom we trust").await;
    picture("certificates.png").await;
    page.goto(&format!("{CONSOLE}/journal?q=does%20not%20trust")).await.unwrap();
    browser.find("li[data-outcome=refused] > a").await.click().await.unwrap();
    browser.find("ol[aria-label=Trail]").await;
    picture("trail-802.1x.png").await;
    page.goto(&format!("{CONSOLE}/journal?outcome=accounting&q=quay-sw-1%20ended")).await.unwrap();
    browser.find("li[data-outcome=accounting] > a").await.click().await.unwrap();
    browser.find("ol[aria-label=Trail]").await;
    picture("accounting.png").await;
    page.goto(&format!("{CONSOLE}/network")).await.unwrap();
    browser.find("ul[aria-label='Unheard senders'] li").await;
    picture("network.png").await;
    page.goto(&format!("{CONSOLE}/network/quay-sw-1")).await.unwrap();
    browser.find("svg.recharts-surface").await;
    picture("nas.png").await;
    page.goto(&format!("{CONSOLE}/devices?q=scanner")).await.unwrap();
    browser.find("ul[aria-label=Devices] li").await;
    picture("devices.png").await;
    page.goto(&format!("{CONSOLE}/devices/harbour-devices/02:00:5e:40:00:66")).await.unwrap();
    browser.sees("Its past").await;
    picture("device.png").await;
    page.goto(&format!("{CONSOLE}/people")).await.unwrap();
    browser.find("ul[aria-label=People] li").await;
    picture("people.png").await;
    page.goto(&format!("{CONSOLE}/people/stores/asset-register")).await.unwrap();
    browser.find("input[aria-label='Who is looked for']").await.send_keys("quay-laptop-9").await.unwrap();
    browser.click_text("button", "Go the way").await;
    browser.sees("read its facts").await;
    picture("store.png").await;
    page.goto(&format!("{CONSOLE}/settings")).await.unwrap();
    browser.find("ul[aria-label=Tokens] li").await;
    picture("settings.png").await;
    page.goto(&format!("{CONSOLE}/settings/audit")).await.unwrap();
    browser.find("ul[aria-label=Changes] li").await;
    picture("audit.png").await;
    terminal(&browser, &folder).await;
    browser.close().await;
}

/// A draft that lets crane controllers in at the quay alone, and what it comes to for one in the yard.
async fn what_if(browser: &Browser) {
    browser.page.goto(&format!("{CONSOLE}/policy#rule%20switch-ports%20Crane%20controllers")).await.unwrap();
    browser.sees("rule \"Crane controllers\" {").await;
    let writing = browser.page.active_element().await.unwrap();
    // Down a line, and to its end.
    writing.send_keys("\u{e015}\u{e010} and nas.site = \"quayside\"").await.unwrap();
    browser.sees("draft on edition").await;
    browser.sees("kept").await;
    let facts = "nas.kind = switch, nas.site = \"yard\", request.purpose = network, request.carrier = mac,\n\
                 device.known = true, device.barred = false, device.groups = { \"cranes\" }";
    browser.click_text("a", "What if").await;
    browser.find("main textarea").await.send_keys(facts).await.unwrap();
    browser.sees("They come to different things.").await;
}

/// Pages by their addresses, light and dark, to be looked at.
async fn pages(folder: &std::path::Path, wanted: &[String]) {
    for dark in [false, true] {
        let browser = Browser::start_in(dark).await;
        browser.page.goto(CONSOLE).await.unwrap();
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", "tarnmouth-demo").await;
        browser.sees("What did not go well").await;
        for path in wanted {
            browser.page.goto(&format!("{CONSOLE}{path}")).await.unwrap();
            browser.find("main h1").await;
            tokio::time::sleep(std::time::Duration::from_millis(900)).await;
            let name = path.trim_start_matches('/').replace(['/', '?', '=', '&', ':'], "-");
            let name = format!("{name}{}.png", if dark { "-dark" } else { "" });
            fs::write(folder.join(name), browser.page.screenshot().await.unwrap()).unwrap();
        }
        browser.close().await;
    }
}

/// The command line, drawn by the browser as a terminal shows it.
async fn terminal(browser: &Browser, folder: &std::path::Path) {
    let crane = "mac --server 127.0.0.1:18120 --from 127.0.0.11 --secret bollard-9-anchor --mac 02-00-5E-20-00-07";
    let commands = [
        (
            "command-line-try.png",
            vec![
                format!("try {crane}"),
                format!("try {crane} --load --rate 200 --seconds 2"),
                "journal --limit 6".into(),
            ],
        ),
        ("command-line-trail.png", vec![format!("trail {}", newest("gate-fw-1 --outcome granted"))]),
    ];
    for (name, lines) in commands {
        let mut text = String::new();
        for line in lines {
            let output = regnant(&line);
            text += &format!("<b>$ regnant {line}</b>\n{}\n", output.replace('&', "&amp;").replace('<', "&lt;"));
        }
        let style = "background:#12202e;color:#e8e4d8;font:14px/1.45 monospace;padding:16px;white-space:pre-wrap";
        let script = "document.open(); document.write(arguments[0]); document.close()";
        let html = format!("<body style=\"margin:0;{style}\">{text}</body>");
        browser.page.goto("about:blank").await.unwrap();
        browser.page.execute(script, vec![html.into()]).await.unwrap();
        fs::write(folder.join(name), browser.page.screenshot().await.unwrap()).unwrap();
    }
}

fn newest(words: &str) -> String {
    let list: serde_json::Value = serde_json::from_str(&regnant(&format!("journal {words} --limit 1 --json"))).unwrap();
    list["entries"][0]["id"].as_str().unwrap_or_default().to_owned()
}

fn regnant(line: &str) -> String {
    let program = env::current_exe().unwrap().parent().unwrap().parent().unwrap().join("regnant");
    let output = Command::new(program).args(line.split(' ')).output().unwrap();
    String::from_utf8(output.stdout).unwrap()
}
