//! A headless Chromium, driven through ChromeDriver.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::Duration;

use base64::Engine;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

use crate::{on_lasting_thread, root};

/// Whether browser tests were switched off, for machines without Chromium.
pub fn switched_off() -> bool {
    std::env::var_os("ELM_PORCH_NO_BROWSER").is_some()
}

fn driver() -> &'static str {
    static DRIVER: OnceLock<(String, Child)> = OnceLock::new();
    &DRIVER
        .get_or_init(|| {
            let mut child = on_lasting_thread(|| {
                // In a process namespace of its own, so that the browser ends with it.
                let mut command = Command::new("setpriv");
                command.args([
                    "--pdeathsig",
                    "KILL",
                    "unshare",
                    "--pid",
                    "--fork",
                    "--kill-child=KILL",
                    "chromedriver",
                    "--port=0",
                    "--allowed-ips=127.0.0.1",
                ]);
                command
                    .stdin(Stdio::null())
                    .stdout(Stdio::piped())
                    .stderr(Stdio::null())
                    .spawn()
                    .unwrap()
            });
            let mut output = BufReader::new(child.stdout.take().unwrap());
            let mut line = String::new();
            let port = loop {
                line.clear();
                assert!(
                    output.read_line(&mut line).unwrap() > 0,
                    "chromedriver did not start"
                );
                if let Some(port) = line
                    .split("on port ")
                    .nth(1)
                    .and_then(|p| p.trim().trim_end_matches('.').parse::<u16>().ok())
                    .filter(|p| *p > 0)
                {
                    break port;
                }
            };
            std::thread::spawn(move || std::io::copy(&mut output, &mut std::io::sink()));
            (format!("http://127.0.0.1:{port}"), child)
        })
        .0
}

/// A browser window of 1280×800.
pub struct Browser {
    /// The session.
    pub driver: WebDriver,
    base: String,
}

impl Browser {
    /// Opens a window on a site.
    pub async fn open(base: &str, dark: bool) -> Self {
        let mut capabilities = DesiredCapabilities::chrome();
        for flag in [
            "--headless",
            "--no-sandbox",
            "--disable-dev-shm-usage",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--no-default-browser-check",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-extensions",
            "--force-device-scale-factor=1",
            "--hide-scrollbars",
            "--window-size=1280,800",
            "--lang=en-US",
            "--force-prefers-reduced-motion",
        ] {
            capabilities.add_arg(flag).unwrap();
        }
        let driver = WebDriver::new(driver(), capabilities).await.unwrap();
        let browser = Self {
            driver,
            base: base.to_owned(),
        };
        browser
            .cdp(
                "Emulation.setDeviceMetricsOverride",
                json!({ "width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": false }),
            )
            .await;
        browser.cdp("Emulation.setEmulatedMedia", json!({ "features": [{ "name": "prefers-color-scheme", "value": if dark { "dark" } else { "light" } }] })).await;
        browser
    }

    /// Gives the window another width.
    pub async fn widen(&self, width: u32) {
        let metrics =
            json!({ "width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false });
        self.cdp("Emulation.setDeviceMetricsOverride", metrics)
            .await;
    }

    /// What does not fit the width of the window: the page itself, and tables that must be scrolled.
    pub async fn too_wide(&self) -> Vec<String> {
        let script = "const wide = [...document.querySelectorAll('[role=region], main, section')].filter(e => e.scrollWidth > e.clientWidth + 1).map(e => (e.getAttribute('aria-label') || e.tagName) + ' ' + e.scrollWidth + ' > ' + e.clientWidth); if (document.documentElement.scrollWidth > window.innerWidth + 1) wide.push('page ' + document.documentElement.scrollWidth + ' > ' + window.innerWidth); return wide;";
        let found = self.driver.execute(script, vec![]).await.unwrap();
        found.convert().unwrap()
    }

    async fn cdp(&self, command: &str, parameters: Value) -> Value {
        self.driver
            .cdp()
            .send_raw(command, parameters)
            .await
            .unwrap()
    }

    /// Goes to a path of the site.
    pub async fn go(&self, path: &str) {
        self.driver
            .goto(format!("{}{path}", self.base))
            .await
            .unwrap();
    }

    /// Waits for an element.
    pub async fn find(&self, by: By) -> WebElement {
        self.driver
            .query(by.clone())
            .wait(Duration::from_secs(20), Duration::from_millis(50))
            .first()
            .await
            .unwrap_or_else(|e| panic!("{by:?}: {e}"))
    }

    /// Waits until the page shows a text.
    pub async fn see(&self, text: &str) -> WebElement {
        let quoted = text.replace('"', "");
        self.find(By::XPath(format!("//*[not(self::script)][contains(normalize-space(.), \"{quoted}\")][not(.//*[contains(normalize-space(.), \"{quoted}\")])]"))).await
    }

    /// Presses the button of a name.
    pub async fn press(&self, name: &str) {
        self.find(By::XPath(format!(
            "//button[contains(normalize-space(.), \"{name}\")]"
        )))
        .await
        .click()
        .await
        .unwrap();
    }

    /// Types into the field of a label.
    pub async fn fill(&self, label: &str, text: &str) {
        let field = self
            .find(By::XPath(format!(
                "//label[normalize-space(.)=\"{label}\"]/following-sibling::input"
            )))
            .await;
        field.focus().await.unwrap();
        field.send_keys(Key::Control + "a").await.unwrap();
        field.send_keys(text).await.unwrap();
    }

    /// Signs in.
    pub async fn sign_in(&self, name: &str, password: &str) {
        self.go("/").await;
        self.fill("Name", name).await;
        self.fill("Password", password).await;
        self.press("Sign in").await;
        self.find(By::XPath("//button[contains(., 'Sign out')]"))
            .await;
    }

    /// What axe finds wrong with the page (WCAG 2.2 A and AA).
    pub async fn axe(&self) -> Vec<String> {
        let script =
            std::fs::read_to_string(root().join("console/node_modules/axe-core/axe.min.js"))
                .unwrap();
        self.driver.execute(script, vec![]).await.unwrap();
        let run = "const done = arguments[arguments.length - 1]; axe.run(document, {runOnly: ['wcag2a','wcag2aa','wcag21a','wcag21aa','wcag22aa']}).then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.html + ' ' + n.failureSummary).join(' | '))))";
        let found = self.driver.execute_async(run, vec![]).await.unwrap();
        found.convert().unwrap()
    }

    /// A picture of the window, 1280×800.
    pub async fn shot(&self, path: &std::path::Path) {
        let shot = self
            .cdp("Page.captureScreenshot", json!({ "format": "png" }))
            .await;
        let bytes = base64::engine::general_purpose::STANDARD
            .decode(shot["data"].as_str().unwrap())
            .unwrap();
        std::fs::write(path, bytes).unwrap();
    }

    /// Closes the window.
    pub async fn close(self) {
        self.driver.quit().await.unwrap();
    }
}
