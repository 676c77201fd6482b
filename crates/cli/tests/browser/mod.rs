//! A headless Chromium, driven over WebDriver. Debian's packages `chromium` and
//! `chromium-driver` must be installed; `make test` does it.
#![allow(dead_code)]

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;

/// Runs a test that drives a browser.
pub(crate) fn block_on(test: impl Future<Output = ()>) {
    tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap().block_on(test);
}

pub(crate) struct Browser {
    pub(crate) page: Client,
    driver: Child,
    _profile: tempfile::TempDir,
}

impl Browser {
    pub(crate) async fn start() -> Self {
        Self::start_in(false).await
    }

    /// One that wants pages dark, where they can be.
    pub(crate) async fn start_in(dark: bool) -> Self {
        let (driver, port) = start_driver();
        let profile = tempfile::tempdir().unwrap();
        let arguments = [
            "--headless".to_owned(),
            "--no-sandbox".into(),
            "--disable-gpu".into(),
            "--disable-quic".into(),
            "--no-first-run".into(),
            "--disable-background-networking".into(),
            "--disable-component-update".into(),
            "--disable-sync".into(),
            // A container may give /dev/shm too little room for a page.
            "--disable-dev-shm-usage".into(),
            // The page itself gets 1280 x 800.
            "--window-size=1280,943".into(),
            format!("--user-data-dir={}", profile.path().display()),
            if dark { "--force-dark-mode".into() } else { "--disable-features=DarkMode".into() },
        ];
        let capabilities = json!({ "goog:chromeOptions": { "args": arguments } });
        let page = ClientBuilder::new(HttpConnector::new())
            .capabilities(capabilities.as_object().unwrap().clone())
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .expect("Chromium starts; install Debian's chromium");
        Self { page, driver, _profile: profile }
    }

    /// Waits for an element, and gives its text.
    pub(crate) async fn text(&self, css: &str) -> String {
        self.find(css).await.text().await.unwrap()
    }

    pub(crate) async fn find(&self, css: &str) -> fantoccini::elements::Element {
        let found = self.page.wait().at_most(Duration::from_secs(20)).for_element(Locator::Css(css)).await;
        match found {
            Ok(element) => element,
            Err(error) => panic!("no {css} on {}: {error}", self.page.current_url().await.unwrap()),
        }
    }

    /// Waits until the page's text holds this no more.
    pub(crate) async fn sees_no_more(&self, text: &str) {
        for _ in 0..200 {
            let body = self.page.execute("return document.body.innerText", vec![]).await.unwrap();
            if !body.as_str().unwrap_or_default().contains(text) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("the page still says `{text}`");
    }

    /// Waits until the page's text holds this.
    pub(crate) async fn sees(&self, text: &str) {
        for _ in 0..200 {
            let body = self.page.execute("return document.body.innerText", vec![]).await.unwrap();
            if body.as_str().unwrap_or_default().contains(text) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        let body = self.page.execute("return document.body.innerText", vec![]).await.unwrap();
        panic!("the page does not say `{text}`, but: {body}");
    }

    pub(crate) async fn click_text(&self, tag: &str, text: &str) {
        let path = format!("//{tag}[normalize-space()='{text}']");
        let element =
            self.page.wait().at_most(Duration::from_secs(20)).for_element(Locator::XPath(&path)).await.unwrap();
        element.click().await.unwrap();
    }

    pub(crate) async fn sign_in(&self, name: &str, password: &str) {
        self.find("input[name=name]").await.send_keys(name).await.unwrap();
        self.find("input[name=password]").await.send_keys(password).await.unwrap();
        self.find("button[type=submit]").await.click().await.unwrap();
    }

    pub(crate) async fn close(self) {
        let _ = self.page.clone().close().await;
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // Asked to end rather than killed, the driver ends its Chromium too.
        let _ = Command::new("kill").arg(self.driver.id().to_string()).status();
        let _ = self.driver.wait();
    }
}

/// The port that the driver picks may be taken in the other family of addresses;
/// it ends then, and another is tried.
fn start_driver() -> (Child, u16) {
    let mut told = Vec::new();
    for _ in 0..5 {
        match try_driver() {
            Ok(started) => return started,
            Err(lines) => told.extend(lines),
        }
    }
    panic!("chromedriver does not tell its port, but: {told:#?}");
}

/// A driver with its port, or what one said that ended.
fn try_driver() -> Result<(Child, u16), Vec<String>> {
    let mut driver = Command::new("chromedriver")
        .arg("--port=0")
        .stdout(Stdio::piped())
        .spawn()
        .expect("chromedriver starts; install Debian's chromium-driver");
    let mut lines = BufReader::new(driver.stdout.take().unwrap()).lines();
    let mut said = Vec::new();
    for line in lines.by_ref().map_while(Result::ok) {
        let rest = line.split("successfully on port ").nth(1);
        if let Some(port) = rest.and_then(|rest| rest.trim_end_matches('.').parse().ok()) {
            // Whatever it says later must not fill the pipe.
            std::thread::spawn(move || lines.for_each(drop));
            return Ok((driver, port));
        }
        said.push(line);
    }
    let ended = driver.wait();
    said.push(format!("ended: {ended:?}"));
    Err(said)
}
