//! Headless Chromium through `chromedriver`, with a fresh profile.

use crate::wait::until;
use fantoccini::actions::{InputSource, KeyAction, KeyActions};
use fantoccini::{Client, ClientBuilder, Locator};
use serde_json::{Value, json};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};
use tempfile::TempDir;

/// Headless Chromium with a profile of its own, steered by WebDriver.
pub struct Browser {
    pub client: Client,
    driver: Child,
    /// Where the driver answers.
    address: String,
    _profile: TempDir,
}

impl Browser {
    /// Starts a browser with a window of this size.
    pub async fn start(width: u32, height: u32) -> Browser {
        Browser::started(width, height, &Value::Null).await
    }

    /// Starts a browser that shows pages as a phone with a screen of 400 by 800 does.
    pub async fn phone() -> Browser {
        let screen = json!({ "width": 400, "height": 800, "pixelRatio": 2.0, "touch": true, "mobile": true });
        Browser::started(400, 800, &json!({ "deviceMetrics": screen })).await
    }

    async fn started(width: u32, height: u32, phone: &Value) -> Browser {
        let port = crate::port::free_port();
        let mut command = Command::new("chromedriver");
        command.arg(format!("--port={port}")).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        // A group of its own, so that the browser ends with its driver also when a test fails.
        let driver = command.process_group(0).spawn().expect("chromedriver starts; `cargo xtask test` installs it");
        let profile = tempfile::tempdir().expect("a folder");
        let capabilities = capabilities(&profile, width, height, phone);
        let address = format!("http://127.0.0.1:{port}");
        let client = until("chromedriver to answer", || async {
            let mut builder = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new());
            builder.capabilities(capabilities.clone());
            builder.connect(&address).await.ok()
        })
        .await;
        Browser { client, driver, address, _profile: profile }
    }

    /// Waits until an element is there and gives its text.
    pub async fn text(&self, css: &str) -> String {
        until(&format!("an element {css}"), || async { self.client.find(Locator::Css(css)).await.ok()?.text().await.ok() }).await
    }

    /// Waits until the page's text holds `words`.
    pub async fn see(&self, words: &str) {
        let last = std::sync::Mutex::new(String::new());
        until(&format!("the words “{words}” on the page"), || async {
            let text = self.client.find(Locator::Css("body")).await.ok()?.text().await.ok()?;
            let found = text.contains(words);
            *last.lock().expect("a lock") = text;
            found.then_some(())
        })
        .await;
    }

    /// Waits until an element can be clicked, and clicks it.
    pub async fn click(&self, css: &str) {
        until(&format!("a click on {css}"), || async { self.client.find(Locator::Css(css)).await.ok()?.click().await.ok() }).await;
    }

    /// Waits until something to press with just these words is there, and presses it.
    pub async fn press(&self, words: &str) {
        let xpath = format!(
            "//*[self::button or self::a or self::summary or @role='tab' or @role='option'][normalize-space()='{words}' or @aria-label='{words}']"
        );
        until(&format!("“{words}” to press"), || async {
            let found = self.client.find_all(Locator::XPath(&xpath)).await.ok()?;
            for one in found {
                if one.is_displayed().await.unwrap_or(false) && one.click().await.is_ok() {
                    return Some(());
                }
            }
            None
        })
        .await;
    }

    /// Presses keys, one after the other, wherever the focus is: characters, or WebDriver's codes of other keys.
    pub async fn keys(&self, keys: &str) {
        let held: Vec<_> = keys.chars().flat_map(|key| [KeyAction::Down { value: key }, KeyAction::Up { value: key }]).collect();
        let actions = held.into_iter().fold(KeyActions::new("keys".into()), KeyActions::then);
        self.client.perform_actions(actions).await.expect("keys are pressed");
    }

    /// Waits until a field is there, and types into it in place of what it held.
    pub async fn fill(&self, css: &str, text: &str) {
        until(&format!("typing into {css}"), || async {
            let field = self.client.find(Locator::Css(css)).await.ok()?;
            // As a person does: what a script clears, the page's own state does not hear of.
            let held = field.prop("value").await.ok().flatten().unwrap_or_default();
            field.send_keys(&"\u{e003}".repeat(held.chars().count())).await.ok()?;
            field.send_keys(text).await.ok()
        })
        .await;
    }

    /// Runs JavaScript in the page; `return` gives its value.
    pub async fn script(&self, script: &str) -> Value {
        self.client.execute(script, Vec::new()).await.expect("the script runs")
    }

    /// Waits until an expression of JavaScript is true in the page.
    pub async fn holds(&self, what: &str, expression: &str) {
        let script = format!("return {expression}");
        until(what, || async { (self.client.execute(&script, Vec::new()).await.ok()? == Value::Bool(true)).then_some(()) }).await;
    }

    /// Presses what asks before it does something, and confirms it.
    pub async fn act(&self, words: &str) {
        self.press(words).await;
        self.click("dialog.ask button[type=submit]").await;
        self.holds(&format!("the question about “{words}” to go"), "!document.querySelector('dialog.ask[open]')").await;
    }

    /// Asks the browser for something of its own protocol (Chrome DevTools Protocol): another screen, other colours.
    pub async fn cdp(&self, method: &str, parameters: Value) -> Value {
        let session = self.client.session_id().await.expect("an answer").expect("a session");
        let call = reqwest::Client::new().post(format!("{}/session/{session}/goog/cdp/execute", self.address));
        let answer = call.json(&json!({ "cmd": method, "params": parameters })).send().await.expect("the driver answers");
        assert!(answer.status().is_success(), "{method}: {answer:?}");
        answer.json::<Value>().await.expect("JSON")["value"].clone()
    }

    /// Makes the browser's network as slow as this: each answer so much later, so many bytes a second both ways.
    pub async fn network(&self, latency_ms: u32, bytes_per_second: u32) {
        let session = self.client.session_id().await.expect("an answer").expect("a session");
        let conditions = json!({ "latency": latency_ms, "download_throughput": bytes_per_second, "upload_throughput": bytes_per_second, "offline": false });
        let call = reqwest::Client::new().post(format!("{}/session/{session}/chromium/network_conditions", self.address));
        let answer = call.json(&json!({ "network_conditions": conditions })).send().await.expect("the driver answers");
        assert!(answer.status().is_success(), "{answer:?}");
    }

    /// A PNG of what the window shows.
    pub async fn picture(&self) -> Vec<u8> {
        self.client.screenshot().await.expect("a picture")
    }

    /// Closes the window.
    pub async fn end(self) {
        let _ = self.client.clone().close().await;
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        if let Ok(group) = i32::try_from(self.driver.id()) {
            let _ = nix::sys::signal::killpg(nix::unistd::Pid::from_raw(group), nix::sys::signal::Signal::SIGKILL);
        }
        let _ = self.driver.wait();
    }
}

fn capabilities(profile: &TempDir, width: u32, height: u32, phone: &Value) -> serde_json::Map<String, Value> {
    let arguments = [
        "--headless".to_owned(),
        "--no-sandbox".into(),
        "--disable-gpu".into(),
        "--disable-quic".into(),
        "--no-first-run".into(),
        "--disable-background-networking".into(),
        "--disable-component-update".into(),
        "--disable-sync".into(),
        "--disable-dev-shm-usage".into(),
        "--force-prefers-reduced-motion".into(),
        format!("--window-size={width},{height}"),
        format!("--user-data-dir={}", profile.path().display()),
    ];
    let mut options = json!({ "browserName": "chrome", "goog:chromeOptions": { "args": arguments } });
    if !phone.is_null() {
        options["goog:chromeOptions"]["mobileEmulation"] = phone.clone();
    }
    options.as_object().cloned().unwrap_or_default()
}
