//! Drives the real interface in headless Chromium. Each test starts its own Rinse, data folder,
//! driver and browser, and ends only what it started.

use fantoccini::elements::Element;
use fantoccini::wd::{Capabilities, WebDriverCompatibleCommand};
use fantoccini::{Client, ClientBuilder, Locator};
use rinse_testkit::Process;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// The driver's process group; killed and waited for when dropped, also after a panic.
struct Driver(Child);

impl Drop for Driver {
    fn drop(&mut self) {
        let group = format!("-{}", self.0.id());
        let _ = Command::new("kill").args(["-KILL", "--", &group]).status();
        let _ = self.0.wait();
    }
}

/// A browser on a Rinse of its own.
pub struct Bench {
    pub rinse: Process,
    pub page: Client,
    _driver: Driver,
    _folders: (tempfile::TempDir, tempfile::TempDir),
    pub folder: PathBuf,
}

#[derive(Debug)]
struct ConsoleLog;

/// A command of the browser's own protocol, which WebDriver has no word for.
#[derive(Debug)]
struct Devtools(Value);

impl WebDriverCompatibleCommand for Devtools {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/goog/cdp/execute", session.unwrap_or_default()))
    }
    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(self.0.to_string()))
    }
}

impl WebDriverCompatibleCommand for ConsoleLog {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/se/log", session.unwrap_or_default()))
    }
    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(json!({ "type": "browser" }).to_string()))
    }
}

/// The built binary.
#[must_use]
pub fn binary() -> PathBuf {
    std::env::var_os("RINSE_BIN").map_or_else(|| Path::new(env!("CARGO_MANIFEST_DIR")).join("../target/debug/rinse"), PathBuf::from)
}

impl Bench {
    /// Starts everything on an empty data folder.
    pub async fn start() -> Self {
        Self::on(tempfile::tempdir().expect("a folder")).await
    }

    /// Starts everything on the demo's year, with fewer people.
    ///
    /// # Panics
    /// When the year can't be made.
    pub async fn demo(people: usize) -> Self {
        let data = tempfile::tempdir().expect("a folder");
        let made = Command::new(binary())
            .args(["demo", "--prepare", "--people", &people.to_string(), "--data"])
            .arg(data.path())
            .env("RUST_LOG", "error")
            .stdout(Stdio::null())
            .status()
            .expect("the binary starts");
        assert!(made.success(), "the year is made");
        Self::on(data).await
    }

    async fn on(data: tempfile::TempDir) -> Self {
        let rinse = Process::demo(&binary(), data.path());
        let profile = tempfile::tempdir().expect("a folder");
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .process_group(0)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver starts (make deps installs it)");
        let mut lines = BufReader::new(child.stdout.take().expect("stdout is piped")).lines();
        let port = lines
            .by_ref()
            .map_while(Result::ok)
            .find_map(|l| l.split("started successfully on port ").nth(1).map(|p| p.trim_end_matches('.').to_owned()))
            .expect("chromedriver says its port");
        std::thread::spawn(move || lines.for_each(drop));
        let args = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--window-size=1280,943",
            "--force-color-profile=srgb",
            // What is clicked while it grows into place may slip away between press and release.
            "--force-prefers-reduced-motion",
        ];
        let args: Vec<String> =
            args.iter().map(ToString::to_string).chain([format!("--user-data-dir={}", profile.path().display())]).collect();
        let capabilities: Capabilities = serde_json::from_value(json!({
            "browserName": "chrome", "goog:chromeOptions": { "binary": "/usr/bin/chromium", "args": args }, "goog:loggingPrefs": { "browser": "ALL" },
        }))
        .expect("capabilities");
        let driver = Driver(child);
        let page = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .expect("a browser");
        // The window's frame takes some of its height: ask how much, for a viewport of 1280 by 800.
        let frame = page.execute("return [outerWidth - innerWidth, outerHeight - innerHeight]", vec![]).await.expect("a size");
        let extra = |i: usize| u32::try_from(frame[i].as_i64().unwrap_or(0)).unwrap_or(0);
        page.set_window_size(1280 + extra(0), 800 + extra(1)).await.expect("the window is sized");
        let folder = data.path().to_owned();
        Self { rinse, page, _driver: driver, _folders: (data, profile), folder }
    }

    /// Makes the browser ask for the dark theme, or the light one.
    pub async fn night(&self, dark: bool) {
        let scheme = json!([{ "name": "prefers-color-scheme", "value": if dark { "dark" } else { "light" } }]);
        let command = json!({ "cmd": "Emulation.setEmulatedMedia", "params": { "features": scheme } });
        self.page.issue_cmd(Devtools(command)).await.expect("the theme is set");
    }

    /// Opens a page of the application.
    pub async fn go(&self, path: &str) {
        self.page.goto(&format!("http://{}{path}", self.rinse.address)).await.expect("the page opens");
    }

    /// Waits until the page shows the words.
    ///
    /// # Panics
    /// When they don't come within a minute; says what stood there.
    pub async fn shows(&self, words: &str) {
        for _ in 0..600 {
            if self.text().await.contains(words) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("{words:?} never showed. The page says:\n{}", self.text().await);
    }

    /// All visible words of the page.
    pub async fn text(&self) -> String {
        let v = self.page.execute("return document.body ? document.body.innerText : ''", vec![]).await.unwrap_or_default();
        v.as_str().unwrap_or_default().to_owned()
    }

    /// Clicks the element whose own words begin so: a button, a link, an option.
    pub async fn click(&self, words: &str) {
        let path = format!(
            "//*[self::button or self::a or self::label or @role='button' or @role='option'][starts-with(normalize-space(.), {words:?}) and not(@disabled)]"
        );
        self.click_at(Locator::XPath(&path), words).await;
    }

    /// Clicks the first element a selector finds.
    pub async fn click_css(&self, css: &str) {
        self.click_at(Locator::Css(css), css).await;
    }

    async fn click_at(&self, at: Locator<'_>, what: &str) {
        // A page that draws itself again takes an element away between finding and clicking it.
        for _ in 0..50 {
            let found = self.page.wait().at_most(Duration::from_secs(60)).for_element(at).await;
            let Ok(element) = found else { panic!("no {what:?} to click. The page says:\n{}", self.text().await) };
            if !self.stands_still(&element).await {
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            }
            match element.click().await {
                Ok(()) => return,
                Err(e) if e.is_stale_element_reference() => tokio::time::sleep(Duration::from_millis(100)).await,
                Err(e) => panic!("{what:?}: {e}"),
            }
        }
        panic!("{what:?} never stayed long enough to be clicked");
    }

    /// Is an element where it was a moment ago? An answer that comes while it is pressed would move another one under the pointer.
    async fn stands_still(&self, element: &Element) -> bool {
        let script = "const [e, done] = arguments; const at = () => JSON.stringify(e.getBoundingClientRect()); const before = at();
            setTimeout(() => done(at() === before), 50);";
        let element = serde_json::to_value(element).expect("an element has a name");
        self.page.execute_async(script, vec![element]).await.ok().and_then(|v| v.as_bool()).unwrap_or(false)
    }

    /// Writes into the field with this label, in place of what stood there.
    pub async fn fill(&self, label: &str, text: &str) {
        let path = format!(
            "//label[starts-with(normalize-space(.), {label:?})]/following::*[self::input or self::textarea or @role='textbox'][1]"
        );
        let found = self.page.wait().at_most(Duration::from_secs(60)).for_element(Locator::XPath(&path)).await;
        let Ok(field) = found else { panic!("{label:?} never stood there. The page says:\n{}", self.text().await) };
        field.click().await.expect("the field takes the focus");
        field.send_keys("\u{E009}a\u{E000}").await.expect("all is selected");
        field.send_keys(text).await.expect("the field takes keys");
    }

    /// Presses keys wherever the focus is.
    pub async fn press(&self, keys: &str) {
        // A page that draws itself again takes its focused element away between asking and pressing.
        for _ in 0..50 {
            let focused = self.page.active_element().await.expect("something has the focus");
            if focused.send_keys(keys).await.is_ok() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
        panic!("nothing takes the keys {keys:?}");
    }

    /// Tabs until the element with this accessible label (or button words) has the focus.
    ///
    /// # Panics
    /// When it can't be reached by keyboard.
    pub async fn tab_to(&self, words: &str) {
        let script =
            "const e = document.activeElement; if (!e) return ''; const l = e.id && document.querySelector(`label[for=\"${e.id}\"]`);
            return ((l && l.innerText) || e.getAttribute('aria-label') || e.innerText || '').trim();";
        for _ in 0..120 {
            self.press("\u{E004}").await;
            let now = self.page.execute(script, vec![]).await.expect("the focus is known");
            if now.as_str().unwrap_or_default().starts_with(words) {
                return;
            }
        }
        panic!("{words:?} can't be reached with the tab key");
    }

    /// Asserts that axe finds no serious or critical violation on the page as it is.
    ///
    /// # Panics
    /// With the violations.
    pub async fn accessible(&self, view: &str) {
        let axe = std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../web/node_modules/axe-core/axe.min.js"))
            .expect("axe is installed");
        self.page.execute(&axe, vec![]).await.expect("axe loads");
        // A button on its way from one colour to another has neither: what moves comes to rest first.
        let moving = "return document.getAnimations().filter(a => a.playState === 'running').length";
        for _ in 0..100 {
            if self.page.execute(moving, vec![]).await.expect("what moves is known") == json!(0) {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let run = "const done = arguments[arguments.length - 1]; axe.run(document, { resultTypes: ['violations'] }).then(r => done(
            r.violations.filter(v => ['serious', 'critical'].includes(v.impact)).map(v => v.id + ': ' + v.nodes.map(n => n.html.slice(0, 160)).slice(0, 3).join(' | '))));";
        let found = self.page.execute_async(run, vec![]).await.expect("axe runs");
        assert_eq!(found, json!([]), "axe on {view}");
    }

    /// Asserts that nothing wide, nothing foreign and no console error came up.
    ///
    /// # Panics
    /// With what was found.
    pub async fn sound(&self, view: &str) {
        let wide = self
            .page
            .execute("return document.documentElement.scrollWidth > document.documentElement.clientWidth", vec![])
            .await
            .expect("a width");
        assert_eq!(wide, json!(false), "{view} scrolls sideways");
        let hosts = self.page.execute("return [...new Set(performance.getEntriesByType('resource').map(e => new URL(e.name).host))].filter(h => h !== location.host)", vec![]).await;
        assert_eq!(hosts.expect("entries"), json!([]), "requests left for other hosts on {view}");
        let log = self.page.issue_cmd(ConsoleLog).await.expect("the console log");
        let errors: Vec<&Value> = log
            .as_array()
            .into_iter()
            .flatten()
            .filter(|e| e["level"] == "SEVERE" && !e["message"].as_str().unwrap_or_default().contains("status of 4"))
            .collect();
        assert!(errors.is_empty(), "console errors on {view}: {errors:?}");
    }

    /// Saves a picture of the page.
    pub async fn picture(&self, path: &Path) {
        std::fs::write(path, self.page.screenshot().await.expect("a picture")).expect("the picture is written");
    }
}
