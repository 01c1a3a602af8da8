//! One browser window of 1280 × 800, driven as a person would: keys first.

use std::time::{Duration, Instant};

use fantoccini::actions::{InputSource, KeyAction, KeyActions};
use fantoccini::error::CmdError;
use fantoccini::wd::WebDriverCompatibleCommand;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};
use tempfile::TempDir;

use crate::{Driver, Result, Till, Who};

/// Keys that are no characters, as WebDriver names them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Key {
    /// Return.
    Enter,
    /// Escape.
    Escape,
    /// Tab.
    Tab,
    /// Arrow down.
    Down,
    /// Arrow up.
    Up,
    /// Backspace.
    Backspace,
}

impl Key {
    const fn code(self) -> char {
        match self {
            Self::Enter => '\u{E007}',
            Self::Escape => '\u{E00C}',
            Self::Tab => '\u{E004}',
            Self::Down => '\u{E015}',
            Self::Up => '\u{E013}',
            Self::Backspace => '\u{E003}',
        }
    }
}

/// Shift.
const SHIFT: char = '\u{E008}';
const CONTROL: char = '\u{E009}';
const AXE: &str = include_str!("../../../web/node_modules/axe-core/axe.min.js");

/// How long something may take to appear. Generous: the machine may be building something else.
const PATIENCE: Duration = Duration::from_secs(25);
/// So long a dialog may take until it is gone.
const DIALOG_CLOSES: Duration = Duration::from_secs(3);
/// Between two looks at the page.
const PAUSE: Duration = Duration::from_millis(50);

/// Whether an error says no more than that the page was being drawn just then; neither of them
/// comes after anything was done.
fn passes(error: &CmdError) -> bool {
    error.is_no_such_element() || error.is_stale_element_reference()
}

/// A browser with one page.
#[derive(Debug)]
pub struct Browser {
    client: Client,
    _driver: Driver,
    _profile: TempDir,
}

#[derive(Debug)]
struct ConsoleLog;

impl WebDriverCompatibleCommand for ConsoleLog {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> std::result::Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/se/log", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(json!({ "type": "browser" }).to_string()))
    }
}

/// Has every page count what it has asked for and not yet been answered.
#[derive(Debug)]
struct CountFetches;

const COUNT_FETCHES: &str = r"
    window.flying = 0;
    const before = window.fetch;
    window.fetch = async (...asked) => {
        window.flying += 1;
        try { return await before(...asked); } finally { window.flying -= 1; }
    };";

impl WebDriverCompatibleCommand for CountFetches {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> std::result::Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        let command = json!({ "cmd": "Page.addScriptToEvaluateOnNewDocument", "params": { "source": COUNT_FETCHES } });
        (http::Method::POST, Some(command.to_string()))
    }
}

impl Browser {
    /// Opens a window.
    ///
    /// # Errors
    /// Where Chromium or ChromeDriver are missing.
    pub async fn open() -> Result<Self> {
        Self::sized(1280, 800).await
    }

    /// Opens a window as a phone has it, held upright.
    ///
    /// # Errors
    /// Where Chromium or ChromeDriver are missing.
    pub async fn phone() -> Result<Self> {
        Self::sized(390, 844).await
    }

    /// Opens a window of so many pixels.
    ///
    /// # Errors
    /// Where Chromium or ChromeDriver are missing.
    pub async fn sized(width: u32, height: u32) -> Result<Self> {
        let driver = Driver::start()?;
        let profile = tempfile::tempdir()?;
        let profile_argument = format!("--user-data-dir={}", profile.path().display());
        let mut capabilities = serde_json::Map::new();
        capabilities.insert(
            "goog:chromeOptions".to_owned(),
            json!({
                "args": [
                    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
                    "--disable-background-networking", "--disable-component-update", "--disable-sync", "--lang=en-IE",
                    profile_argument,
                ],
                "mobileEmulation": { "deviceMetrics": { "width": width, "height": height, "pixelRatio": 1.0, "mobile": false, "touch": false } },
            }),
        );
        capabilities.insert("goog:loggingPrefs".to_owned(), json!({ "browser": "ALL" }));
        let client =
            ClientBuilder::new(HttpConnector::new()).capabilities(capabilities).connect(&driver.address).await?;
        client.issue_cmd(CountFetches).await?;
        Ok(Self { client, _driver: driver, _profile: profile })
    }

    /// Signs someone in through the door, as they would.
    ///
    /// # Errors
    /// Where the door does not open.
    pub async fn sign_in(&self, till: &Till, who: Who) -> Result<()> {
        let member = till_demo::STAFF[who as usize];
        self.go(&till.place("/")).await?;
        self.wait_for_focus("Sign-in name").await?;
        self.type_text(member.sign_in).await?;
        self.press(Key::Tab).await?;
        self.type_text(member.password).await?;
        self.stroke(None, Key::Enter.code()).await?;
        self.wait_for("nav", member.name).await?;
        self.settle().await
    }

    /// Ship to an address and waits until the page is there.
    ///
    /// # Errors
    /// Where the page does not come.
    pub async fn go(&self, address: &str) -> Result<()> {
        self.client.goto(address).await?;
        self.settle().await
    }

    /// Waits until nothing is being fetched and nothing moves.
    ///
    /// # Errors
    /// Where that takes more than forty seconds.
    pub async fn settle(&self) -> Result<()> {
        let quiet = r"
            const done = arguments[0];
            let last = -1, same = 0;
            const look = () => {
                const now = performance.getEntriesByType('resource').length + document.body.innerText.length * 1000;
                same = now === last ? same + 1 : 0;
                last = now;
                if (same >= 4 && !window.flying && document.querySelector('h1')) { done(true); } else { setTimeout(look, 40); }
            };
            look();";
        tokio::time::timeout(Duration::from_secs(40), self.client.execute_async(quiet, vec![])).await??;
        Ok(())
    }

    /// Types text where the focus is.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn type_text(&self, text: &str) -> Result<()> {
        for character in text.chars() {
            self.stroke(None, character).await?;
        }
        Ok(())
    }

    /// Presses one key and waits until the page has settled.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn press(&self, key: Key) -> Result<()> {
        self.stroke(None, key.code()).await?;
        self.settle().await
    }

    /// Presses a letter as a key and waits until the page has settled.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn letter(&self, letter: char) -> Result<()> {
        // A dialog that is closing still takes the keys; one that stays is meant to have them.
        let start = Instant::now();
        while start.elapsed() < DIALOG_CLOSES && self.client.find(Locator::Css("[role=dialog]")).await.is_ok() {
            tokio::time::sleep(PAUSE).await;
        }
        self.stroke(None, letter).await?;
        self.settle().await
    }

    /// Presses Tab until a field has the focus.
    ///
    /// # Errors
    /// Where it is not reached.
    pub async fn tab_to(&self, label: &str) -> Result<()> {
        for _ in 0..60 {
            let here = "const at = document.activeElement; return at.getAttribute('aria-label') ?? at.labels?.[0]?.innerText ?? ''";
            if self.run(here).await?.as_str() == Some(label) {
                return Ok(());
            }
            self.press(Key::Tab).await?;
        }
        Err(format!("“{label}” is not reached with Tab").into())
    }

    /// Says yes to what is asked.
    ///
    /// # Errors
    /// Where it is not asked.
    pub async fn yes(&self, asked: &str) -> Result<()> {
        self.wait_for("[role=dialog]", asked).await?;
        self.press(Key::Enter).await
    }

    /// Presses Shift with Tab: back to the field before.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn back(&self) -> Result<()> {
        self.stroke(Some(SHIFT), Key::Tab.code()).await?;
        self.settle().await
    }

    /// Presses Control with a key.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn control(&self, letter: char) -> Result<()> {
        let letter = if letter == '\n' { Key::Enter.code() } else { letter };
        self.stroke(Some(CONTROL), letter).await?;
        self.settle().await
    }

    async fn stroke(&self, held: Option<char>, key: char) -> Result<()> {
        let mut keys = KeyActions::new("keys".to_owned());
        if let Some(held) = held {
            keys = keys.then(KeyAction::Down { value: held });
        }
        keys = keys.then(KeyAction::Down { value: key }).then(KeyAction::Up { value: key });
        if let Some(held) = held {
            keys = keys.then(KeyAction::Up { value: held });
        }
        self.client.perform_actions(keys).await?;
        Ok(())
    }

    /// The text of the first element that fits the selector. One that the page has drawn anew
    /// between finding and reading is looked for again.
    ///
    /// # Errors
    /// Where none comes within twenty-five seconds.
    pub async fn text(&self, selector: &str) -> Result<String> {
        let start = Instant::now();
        loop {
            let read = async { self.client.find(Locator::Css(selector)).await?.text().await };
            match read.await {
                Ok(text) => return Ok(text),
                Err(error) if start.elapsed() < PATIENCE && passes(&error) => tokio::time::sleep(PAUSE).await,
                Err(error) => return Err(format!("nothing fits {selector}: {error}").into()),
            }
        }
    }

    /// Waits until the element's text holds some words, and returns all of it.
    ///
    /// # Errors
    /// Where that takes more than twenty-five seconds; the text it had instead is named.
    pub async fn wait_for(&self, selector: &str, words: &str) -> Result<String> {
        let start = Instant::now();
        let mut text = String::new();
        while start.elapsed() < PATIENCE {
            if let Ok(found) = self.client.find(Locator::Css(selector)).await {
                text = found.text().await.unwrap_or_default();
                if text.contains(words) {
                    return Ok(text);
                }
            }
            tokio::time::sleep(PAUSE).await;
        }
        let page =
            self.run("return [location.href, document.body.innerText.slice(0, 2500)].join(' \u{25b8} ')").await?;
        let console = self.console().await.unwrap_or_default();
        Err(format!("“{words}” does not stand in {selector}, but: {text}\nThe page: {page}\nIts console: {console:?}")
            .into())
    }

    /// Waits until the field with this label has the focus.
    ///
    /// # Errors
    /// Where that takes more than twenty-five seconds.
    pub async fn wait_for_focus(&self, label: &str) -> Result<()> {
        let start = Instant::now();
        while start.elapsed() < PATIENCE {
            let focus = self
                .run("const e = document.activeElement; return e.ariaLabel ?? e.labels?.[0]?.innerText ?? ''")
                .await?;
            if focus.as_str().is_some_and(|name| name.starts_with(label)) {
                return Ok(());
            }
            tokio::time::sleep(PAUSE).await;
        }
        Err(format!("“{label}” has no focus").into())
    }

    /// Clicks an element, once it is there.
    ///
    /// # Errors
    /// Where it does not come within twenty-five seconds, or cannot be clicked.
    pub async fn click(&self, selector: &str) -> Result<()> {
        let start = Instant::now();
        loop {
            let clicked = async { self.client.find(Locator::Css(selector)).await?.click().await };
            match clicked.await {
                Ok(()) => return self.settle().await,
                Err(error) if start.elapsed() < PATIENCE && passes(&error) => tokio::time::sleep(PAUSE).await,
                Err(error) => return Err(format!("{selector} cannot be clicked: {error}").into()),
            }
        }
    }

    /// Runs a script and returns what it returns.
    ///
    /// # Errors
    /// Where it fails.
    pub async fn run(&self, script: &str) -> Result<Value> {
        Ok(self.client.execute(script, vec![]).await?)
    }

    /// The address of the page, without its host.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn place(&self) -> Result<String> {
        let url = self.client.current_url().await?;
        Ok(url.query().map_or_else(|| url.path().to_owned(), |query| format!("{}?{query}", url.path())))
    }

    /// Waits until the page is at a place, path and query.
    ///
    /// # Errors
    /// Where it is elsewhere after twenty-five seconds.
    pub async fn wait_for_place(&self, wanted: &str) -> Result<()> {
        let start = Instant::now();
        while start.elapsed() < PATIENCE {
            if self.place().await? == wanted {
                return Ok(());
            }
            tokio::time::sleep(PAUSE).await;
        }
        Err(format!("the page is at {}, not at {wanted}", self.place().await?).into())
    }

    /// A picture of the page as PNG.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn picture(&self) -> Result<Vec<u8>> {
        Ok(self.client.screenshot().await?)
    }

    /// What axe-core finds wrong under WCAG 2.2 A and AA, one line each.
    ///
    /// # Errors
    /// Where it cannot be run.
    pub async fn accessibility(&self) -> Result<Vec<String>> {
        self.client.execute(AXE, vec![]).await?;
        let script = r"
            const done = arguments[0];
            axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21aa', 'wcag22aa'] }).then((result) => done(
                result.violations.map((one) => one.id + ': ' + one.help + ' — ' + one.nodes.slice(0, 3).map((node) => node.html.slice(0, 160)).join(' | '))
            ), (error) => done(['axe failed: ' + error]));";
        let found = self.client.execute_async(script, vec![]).await?;
        Ok(serde_json::from_value(found)?)
    }

    /// What the page wrote to the console since it was last asked, warnings and worse.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn console(&self) -> Result<Vec<String>> {
        let log = self.client.issue_cmd(ConsoleLog).await?;
        Ok(log
            .as_array()
            .into_iter()
            .flatten()
            .filter(|line| line["level"] != "DEBUG" && line["level"] != "INFO")
            .map(|line| line["message"].as_str().unwrap_or_default().to_owned())
            .collect())
    }

    /// Closes the window.
    ///
    /// # Errors
    /// Where the browser does not answer.
    pub async fn close(self) -> Result<()> {
        self.client.close().await?;
        Ok(())
    }
}
