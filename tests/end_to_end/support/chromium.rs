//! One headless Chromium, driven through chromedriver. Tests take it in turn, each with a window of its own and nothing
//! left of the one before: cookies and cache are cleared, and storage is by origin, whose port differs for each test.

use std::path::PathBuf;
use std::time::Duration;

use serde_json::{Value, json};
use thirtyfour::{By, CapabilitiesHelper, ChromiumLikeCapabilities, DesiredCapabilities, WebDriver, WebElement};

use super::{Stack, env};

/// A window of its own in the one browser.
pub struct Browser {
    pub driver: WebDriver,
    name: &'static str,
}

impl Browser {
    /// Starts at a blank page, with the given size and colours.
    pub async fn new(name: &'static str, width: u32, height: u32, dark: bool) -> Browser {
        let mut caps = DesiredCapabilities::chrome();
        caps.set_debugger_address(&env("PASSEUR_TEST_CHROMIUM")).unwrap();
        caps.set("goog:loggingPrefs", json!({"browser": "ALL"})).unwrap();
        Browser::by(&env("PASSEUR_TEST_CHROMEDRIVER"), caps, name, (width, height, dark)).await
    }

    /// A browser of its own, which chromedriver starts where it runs itself, in a network of its own.
    pub async fn elsewhere(driver: &str, name: &'static str) -> Browser {
        let mut caps = DesiredCapabilities::chrome();
        for arg in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--no-proxy-server",
            "--disable-dev-shm-usage",
            "--lang=en-GB",
        ] {
            caps.add_arg(arg).unwrap();
        }
        caps.set("goog:loggingPrefs", json!({"browser": "ALL"})).unwrap();
        Browser::by(driver, caps, name, (1280, 800, false)).await
    }

    async fn by(driver: &str, caps: thirtyfour::ChromeCapabilities, name: &'static str, look: (u32, u32, bool)) -> Browser {
        let (width, height, dark) = look;
        let driver = WebDriver::new(driver, caps).await.unwrap();
        let window = driver.new_window().await.unwrap();
        driver.switch_to_window(window).await.unwrap();
        driver.cdp().send_raw("Network.clearBrowserCookies", json!({})).await.unwrap();
        driver.cdp().send_raw("Network.clearBrowserCache", json!({})).await.unwrap();
        driver.set_implicit_wait_timeout(Duration::from_secs(10)).await.unwrap();
        let browser = Browser { driver, name };
        let size = json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        browser.cdp("Emulation.setDeviceMetricsOverride", size).await;
        let scheme = json!({"features": [{"name": "prefers-color-scheme", "value": if dark { "dark" } else { "light" }}]});
        browser.cdp("Emulation.setEmulatedMedia", scheme).await;
        browser
    }

    async fn cdp(&self, command: &str, params: Value) {
        self.driver.cdp().send_raw(command, params).await.unwrap();
    }

    /// Gives the window an authenticator that holds passkeys and verifies its holder without asking.
    pub async fn add_authenticator(&self) {
        self.cdp("WebAuthn.enable", json!({})).await;
        let kind = json!({"protocol": "ctap2", "transport": "internal", "hasResidentKey": true,
            "hasUserVerification": true, "isUserVerified": true, "automaticPresenceSimulation": true});
        self.cdp("WebAuthn.addVirtualAuthenticator", json!({"options": kind})).await;
    }

    pub async fn open(&self, url: &str) {
        self.driver.goto(url).await.unwrap();
    }

    /// Opens the console from its front page and signs in there as the engineer lucie.
    pub async fn console(&self, stack: &Stack) {
        self.open(&stack.pass("/console/")).await;
        self.reads(".gatehouse a.v-btn").await;
        self.click(".gatehouse a.v-btn").await;
        self.prove("lucie").await;
        self.shows("Lucie Morvan").await;
    }

    /// An element, waited for.
    pub async fn find(&self, css: &str) -> WebElement {
        match self.driver.find(By::Css(css)).await {
            Ok(e) => e,
            Err(e) => {
                self.keep(None).await;
                panic!("{}: no {css}: {e}", self.name);
            }
        }
    }

    pub async fn click(&self, css: &str) {
        self.find(css).await.click().await.unwrap();
    }

    /// Clicks what an XPath finds.
    pub async fn click_at(&self, xpath: &str) {
        match self.driver.find(By::XPath(xpath)).await {
            Ok(e) => e.click().await.unwrap(),
            Err(e) => {
                self.keep(None).await;
                panic!("{}: no {xpath}: {e}", self.name);
            }
        }
    }

    pub async fn type_in(&self, css: &str, text: &str) {
        self.find(css).await.send_keys(text).await.unwrap();
    }

    /// The text of the page.
    pub async fn text(&self) -> String {
        self.find("body").await.text().await.unwrap()
    }

    /// Waits until the page shows a text.
    pub async fn shows(&self, text: &str) {
        let xpath = format!("//body[contains(normalize-space(.), \"{text}\")]");
        if self.driver.find(By::XPath(xpath)).await.is_err() {
            self.keep(None).await;
            panic!("{}: {text:?} does not show: {}", self.name, self.text().await);
        }
    }

    /// Asserts that the words of a button stand out from it: a rule of the page can take the
    /// theme's colour from a button that is a link, and the words are then there but unseen.
    pub async fn reads(&self, css: &str) {
        let button = self.find(css).await;
        let ink = button.css_value("color").await.unwrap();
        let ground = button.css_value("background-color").await.unwrap();
        let bare = |colour: &str| {
            colour.split('(').nth(1).unwrap_or(colour).split([',', ')']).take(3).map(|n| n.trim().to_owned()).collect::<Vec<_>>()
        };
        assert_ne!(bare(&ink), bare(&ground), "{}: {css} is {ink} on {ground}", self.name);
    }

    pub async fn url(&self) -> String {
        self.driver.current_url().await.unwrap().to_string()
    }

    /// Fills in the provider's two pages.
    pub async fn prove(&self, user: &str) {
        let (password, code) = super::client::secrets_of(user);
        self.type_in("input[name=user]", user).await;
        self.type_in("input[name=password]", &password).await;
        self.click("button").await;
        self.type_in("input[name=code]", &code).await;
        self.click("button").await;
    }

    /// Sets the size of the window, and reads the page anew in a language and in colours.
    pub async fn look(&self, width: u32, lang: &str, colours: &str) {
        let size = json!({"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false});
        self.cdp("Emulation.setDeviceMetricsOverride", size).await;
        let keep =
            format!("localStorage.setItem('passeur-colours', '{colours}'); localStorage.setItem('passeur-language', '{lang}')");
        self.driver.execute(keep, vec![]).await.unwrap();
        self.driver.refresh().await.unwrap();
    }

    /// A value that a script gives.
    pub async fn value(&self, script: &str) -> Value {
        self.driver.execute(script, vec![]).await.unwrap().json().clone()
    }

    /// What axe-core finds wrong with the page: each rule with the first places.
    pub async fn audit(&self) -> Vec<String> {
        let axe = concat!(env!("CARGO_MANIFEST_DIR"), "/../console/node_modules/axe-core/axe.min.js");
        let axe = std::fs::read_to_string(axe).expect("axe-core, which npm ci in console/ installs");
        self.driver.execute(axe, vec![]).await.unwrap();
        let script = "const done = arguments[arguments.length - 1]; \
            axe.run(document, { resultTypes: ['violations'] }).then( \
              r => done(r.violations.map(v => v.id + ' (' + v.impact + '): ' + v.nodes.slice(0, 3).map(n => n.target.join(' ')).join(' | '))), \
              e => done(['axe-core: ' + e]))";
        let found = self.driver.execute_async(script, vec![]).await.unwrap().json().clone();
        serde_json::from_value(found).unwrap()
    }

    /// Messages of the browser's console that are errors: a violated policy, a script that threw.
    pub async fn errors(&self) -> Vec<String> {
        let logs = self.driver.get_log("browser").await.unwrap();
        // What the browser asks for by itself is no error of a page's; nor is what the provider's own pages do.
        let elsewhere = |m: &str| ["401", "bureau-pilotage", "/favicon.ico - "].iter().any(|part| m.contains(part));
        // A window that a failed test left goes on asking its own service, which is gone.
        let here = self.driver.current_url().await.ok().and_then(|u| u.port()).map(|p| format!(":{p}/")).unwrap_or_default();
        let elsewhere = |m: &str| elsewhere(m) || m.contains("net::ERR_CONNECTION_REFUSED") && !m.contains(&here);
        logs.into_iter().filter(|l| l.level == "SEVERE" && !elsewhere(&l.message)).map(|l| l.message).collect()
    }

    /// Keeps picture and source of the page, and the crossings, for whoever looks into a failure.
    pub async fn keep(&self, stack: Option<&Stack>) {
        let folder = PathBuf::from(env("PASSEUR_TEST_KEEP"));
        let _ = std::fs::create_dir_all(&folder);
        let _ = self.driver.screenshot(&folder.join(format!("{}.png", self.name))).await;
        if let Ok(source) = self.driver.source().await {
            let _ = std::fs::write(folder.join(format!("{}.html", self.name)), source);
        }
        if let Some(stack) = stack {
            stack.settle().await;
            let crossings = stack.get("/crossings").await.to_string();
            let _ = std::fs::write(folder.join(format!("{}.crossings.json", self.name)), crossings);
        }
    }

    /// A picture of the page as it is now.
    pub async fn picture(&self, path: &std::path::Path) {
        self.driver.screenshot(path).await.unwrap();
    }

    pub async fn close(self) {
        let _ = self.driver.close_window().await;
        // The session is attached to a browser that others use: it is left, not ended.
        let _ = self.driver.quit().await;
    }
}
