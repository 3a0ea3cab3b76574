//! Headless Chromium, driven through WebDriver.

#![allow(dead_code, reason = "every test file uses a part of this")]

use std::{
    net::TcpListener,
    process::{Child, Command, Stdio},
    time::Duration,
};

use fantoccini::{
    Client, ClientBuilder, Locator,
    actions::{InputSource, MOUSE_BUTTON_LEFT, MouseActions, PointerAction},
    key::Key,
};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};

const MAX_WAIT: Duration = Duration::from_secs(20);
const ARGUMENTS: [&str; 13] = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-dev-shm-usage",
    "--hide-scrollbars",
    "--window-size=1280,800",
    "--lang=en-GB",
    "--force-prefers-reduced-motion",
];

/// A browser with one page, and the driver that it hangs on.
pub struct Browser {
    driver: Child,
    pub page: Client,
}

/// Whether browser tests are wanted; `scripts/test quick` leaves them out.
pub fn wanted() -> bool {
    let wanted = std::env::var_os("FENETRE_NO_BROWSER").is_none();
    if !wanted {
        eprintln!("without a browser: not tested");
    }
    wanted
}

impl Browser {
    pub async fn open() -> Self {
        let port = TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr()).expect("a free port").port();
        let driver = Command::new("chromedriver").arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        let driver = driver.expect("chromedriver is missing: install chromium and chromium-driver, as scripts/test does");
        let capabilities = json!({ "goog:chromeOptions": { "args": ARGUMENTS }, "goog:loggingPrefs": { "browser": "ALL" } });
        let Value::Object(capabilities) = capabilities else { unreachable!("an object was written") };
        let mut failure = None;
        for _ in 0..100 {
            let mut builder = ClientBuilder::new(HttpConnector::new());
            match builder.capabilities(capabilities.clone()).connect(&format!("http://127.0.0.1:{port}")).await {
                Ok(page) => return Self { driver, page },
                Err(error) => failure = Some(error),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("no browser session: {failure:?}");
    }

    pub async fn go(&self, url: &str) {
        self.page.goto(url).await.expect("the page opens");
    }

    /// Waits until an element is there.
    pub async fn see(&self, css: &str) -> fantoccini::elements::Element {
        let found = self.page.wait().at_most(MAX_WAIT).for_element(Locator::Css(css)).await;
        match found {
            Ok(element) => element,
            Err(error) => panic!("{css} is not there ({error}); the page says: {}", self.text().await),
        }
    }

    /// Waits until the page says something.
    pub async fn read(&self, text: &str) {
        for _ in 0..200 {
            if self.text().await.contains(text) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("the page does not say {text:?}, but: {}", self.text().await);
    }

    /// Waits until a script returns a text that begins so.
    pub async fn until(&self, script: &str, start: &str) {
        let mut found = String::new();
        for _ in 0..200 {
            found = self.run(script).await.as_str().unwrap_or_default().to_owned();
            if found.starts_with(start) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("{script} gives {found:?}, not {start:?}");
    }

    pub async fn text(&self) -> String {
        self.run("return document.body.innerText").await.as_str().unwrap_or_default().to_owned()
    }

    pub async fn run(&self, script: &str) -> Value {
        self.page.execute(script, vec![]).await.expect("the script runs")
    }

    /// Clicks the first button, or tab, of a name.
    pub async fn press_button(&self, name: &str) {
        self.click(&format!("//button[normalize-space(.)=\"{name}\"]")).await;
    }

    pub async fn open_tab(&self, name: &str) {
        self.click(&format!("//*[@role='tab'][starts-with(normalize-space(.), \"{name}\")]")).await;
    }

    async fn click(&self, xpath: &str) {
        for _ in 0..100 {
            let found = self.page.wait().at_most(MAX_WAIT).for_element(Locator::XPath(xpath)).await;
            let Ok(element) = found else { panic!("{xpath} is not there; the page says: {}", self.text().await) };
            // As a person would: not before it stands still and can be pressed.
            if is_still(&element).await && element.click().await.is_ok() {
                return;
            }
        }
        panic!("{xpath} cannot be pressed; the page says: {}", self.text().await);
    }

    /// Types at the end of the field of a label.
    pub async fn type_into(&self, label: &str, keys: &str) {
        let xpath = format!("//label[normalize-space(.)=\"{label}\"]/following-sibling::input");
        let field = self.page.wait().at_most(MAX_WAIT).for_element(Locator::XPath(&xpath)).await.expect("the field is there");
        field.send_keys(keys).await.expect("it takes keys");
    }

    /// Types keys into whatever has the focus, as a keyboard would.
    pub async fn press(&self, keys: &str) {
        let focused = self.page.active_element().await.expect("something has the focus");
        focused.send_keys(keys).await.expect("it takes keys");
    }

    /// Drags the mouse across an element, from one part of its width to another.
    pub async fn drag_across(&self, css: &str, from: f64, to: f64) {
        let element = self.see(css).await;
        let (_, _, width, _) = element.rectangle().await.expect("it has a place");
        // Places count from the middle of the element.
        let at = |part: f64| PointerAction::MoveToElement {
            element: element.clone(),
            duration: Some(Duration::from_millis(50)),
            x: (part - 0.5) * width,
            y: 0.0,
        };
        let mouse = MouseActions::new("mouse".to_owned())
            .then(at(from))
            .then(PointerAction::Down { button: MOUSE_BUTTON_LEFT })
            .then(at(f64::midpoint(from, to)))
            .then(at(to))
            .then(PointerAction::Up { button: MOUSE_BUTTON_LEFT });
        self.page.perform_actions(mouse).await.expect("the mouse moves");
    }

    /// Presses Tab until the focus is on something with this text or label.
    pub async fn tab_to(&self, name: &str) {
        for _ in 0..40 {
            self.press(&char::from(Key::Tab).to_string()).await;
            let script = "const e = document.activeElement; return (e.getAttribute('aria-label') || e.innerText || '').trim()";
            if self.run(script).await.as_str().is_some_and(|found| found.starts_with(name)) {
                return;
            }
        }
        panic!("Tab does not reach {name:?}");
    }

    /// Serious and critical findings of the accessibility checks on the page as it is.
    pub async fn accessibility_findings(&self) -> Vec<String> {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
        let checks = std::fs::read_to_string(path).expect("axe-core is installed: npm ci in console/");
        self.run(&checks).await;
        let script = "const done = arguments[arguments.length - 1]; axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] }).then(found => done(found.violations.filter(v => ['serious', 'critical'].includes(v.impact)).map(v => v.id + ': ' + v.nodes.map(n => n.html + ' ' + n.failureSummary).join(' | '))), e => done(['failed: ' + e]))";
        let found = self.page.execute_async(script, vec![]).await.expect("the checks run");
        found.as_array().expect("a list").iter().map(|finding| finding.as_str().unwrap_or_default().to_owned()).collect()
    }

    pub async fn picture(&self, path: &str) {
        std::fs::write(path, self.page.screenshot().await.expect("a picture")).expect("it can be written");
    }

    pub async fn close(mut self) {
        let _ = self.page.clone().close().await;
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

/// Whether an element can be pressed, and stays where it is for a moment.
async fn is_still(element: &fantoccini::elements::Element) -> bool {
    let before = element.rectangle().await.ok();
    tokio::time::sleep(Duration::from_millis(40)).await;
    before.is_some() && element.rectangle().await.ok() == before && element.is_enabled().await.unwrap_or(false)
}
