//! What writing a long policy costs in the console, in headless Chromium: until its text can be read, and until a
//! key is seen, while it is checked and kept as it is when somebody writes.
//!
//! The yardstick is a bare field of a page with the same text, in the same browser.

#[path = "../tests/browser/mod.rs"]
mod browser;
#[path = "../tests/running/mod.rs"]
mod running;
mod yardstick;

use std::time::Duration;

use browser::{Browser, block_on};
use running::{PASSWORD, Running};
use serde_json::{Value, json};
use yardstick::policy::policy;

const RULES: [usize; 4] = [10, 100, 1_000, 10_000];
const KEYS: usize = 60;
/// After so many keys somebody thinks for a second: what was typed is checked and kept meanwhile.
const BURST: usize = 12;

fn main() {
    if std::env::args().all(|argument| argument != "--bench") {
        return;
    }
    block_on(async {
        let service = Running::harbour();
        let browser = Browser::start().await;
        browser.page.goto(&format!("{}/today", service.api)).await.unwrap();
        browser.sign_in("harbour", PASSWORD).await;
        browser.find("main h1").await;
        println!("milliseconds; a key: from its press until it is painted, {KEYS} of them");
        println!("  rules      bytes    opens  of the bytes alone   key p50   key p95   field p50   field p95");
        for rules in RULES {
            let source = policy(rules);
            let (status, told) = service.post("policy/activate", &json!({ "source": source }));
            assert_eq!(status, 200, "{told}");
            service.delete("policy/draft");
            let alone = bytes_alone(&browser).await;
            let opens = opens(&browser, &service).await;
            browser.find(".cm-content").await.click().await.unwrap();
            let mut keys = typed(&browser).await;
            browser.page.goto(&format!("{}/today", service.api)).await.unwrap();
            browser.find("main h1").await;
            let script = "document.body.innerHTML = '<textarea rows=40 cols=100></textarea>';
                document.querySelector('textarea').value = arguments[0]; document.querySelector('textarea').focus()";
            browser.page.execute(script, vec![json!(source)]).await.unwrap();
            let mut field = typed(&browser).await;
            println!(
                "{rules:>7} {:>10} {opens:>8.0} {:>19.1}x {:>9.1} {:>9.1} {:>11.1} {:>11.1}",
                source.len(),
                opens / alone,
                at(&mut keys, 50),
                at(&mut keys, 95),
                at(&mut field, 50),
                at(&mut field, 95)
            );
        }
        browser.close().await;
    });
}

/// How long the policy's bytes take to the page, without anything done with them.
async fn bytes_alone(browser: &Browser) -> f64 {
    let script = "const done = arguments[0]; const begun = performance.now();
        fetch('/api/v1/policy').then((answer) => answer.text()).then(() => done(performance.now() - begun))";
    browser.page.execute_async(script, vec![]).await.unwrap().as_f64().unwrap()
}

/// From the beginning of the navigation until lines of the text are drawn.
async fn opens(browser: &Browser, service: &Running) -> f64 {
    browser.page.goto(&format!("{}/policy", service.api)).await.unwrap();
    let script = "const done = arguments[0];
        const look = () => (document.querySelectorAll('.cm-line').length > 10 ? done(performance.now()) : requestAnimationFrame(look));
        look()";
    browser.page.execute_async(script, vec![]).await.unwrap().as_f64().unwrap()
}

/// Types, and gives the milliseconds from each press to its paint.
async fn typed(browser: &Browser) -> Vec<f64> {
    let script = "window.seen = []; document.addEventListener('keydown', (event) => {
        requestAnimationFrame(() => { const channel = new MessageChannel();
            channel.port1.onmessage = () => window.seen.push(performance.now() - event.timeStamp);
            channel.port2.postMessage(0); }); }, true)";
    browser.page.execute(script, vec![]).await.unwrap();
    let field = browser.page.active_element().await.unwrap();
    for key in 0..KEYS {
        field.send_keys(["#", "a", "b", " "][key % 4]).await.unwrap();
        let rest = if key % BURST == BURST - 1 { 1_200 } else { 90 };
        tokio::time::sleep(Duration::from_millis(rest)).await;
    }
    let seen = browser.page.execute("return window.seen", vec![]).await.unwrap();
    seen.as_array().into_iter().flatten().filter_map(Value::as_f64).collect()
}

fn at(list: &mut [f64], percent: usize) -> f64 {
    list.sort_by(f64::total_cmp);
    list.get((list.len() * percent / 100).min(list.len().saturating_sub(1))).copied().unwrap_or_default()
}
