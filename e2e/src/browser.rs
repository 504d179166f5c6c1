use crate::{PATIENCE, wait_for};
use interlex_sidecar::Process;
use std::path::Path;
use thirtyfour::prelude::*;

/// A headless Chromium of its own.
pub struct Browser {
    pub driver: WebDriver,
    process: Process,
    _profile: tempfile::TempDir,
}

impl Browser {
    pub async fn start() -> Self {
        let profile = tempfile::tempdir().unwrap();
        let log = profile.path().join("chromedriver.log");
        let process = Process::start(Path::new("/usr/bin/chromedriver"), &["--port=0".to_owned()], &log).await.unwrap();
        let url = wait_for("the port of chromedriver", || async {
            let said = std::fs::read_to_string(&log).ok()?;
            let (port, _) = said.split_once("started successfully on port ")?.1.split_once('.')?;
            Some(format!("http://127.0.0.1:{port}"))
        })
        .await;
        let mut capabilities = DesiredCapabilities::chrome();
        let data = format!("--user-data-dir={}", profile.path().join("profile").display());
        // Without these, Chromium asks hosts of its own for updates and the like at every start.
        let quiet = [
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
            "--window-size=1280,943",
            &data,
        ];
        for argument in quiet {
            capabilities.add_arg(argument).unwrap();
        }
        let driver = wait_for("chromedriver", || async { WebDriver::new(&url, capabilities.clone()).await.ok() }).await;
        Self { driver, process, _profile: profile }
    }

    /// Signs in at a service.
    pub async fn sign_in(&self, url: &str, name: &str, password: &str) {
        self.driver.goto(format!("{url}/sign-in")).await.unwrap();
        self.fill("Name", name).await;
        self.fill("Password", password).await;
        self.press("Sign in").await;
        self.find("nav").await;
    }

    /// Waits for an element that is shown.
    pub async fn find(&self, css: &str) -> WebElement {
        wait_for(css, || async {
            let element = self.driver.find(By::Css(css)).await.ok()?;
            element.is_displayed().await.ok()?.then_some(element)
        })
        .await
    }

    /// The input with a label.
    pub async fn field(&self, label: &str) -> WebElement {
        let path = format!("//*[@id=//label[normalize-space()='{label}']/@for]");
        wait_for(label, || async { self.driver.find(By::XPath(&path)).await.ok() }).await
    }

    /// Types into a field in place of what stands there.
    pub async fn fill(&self, label: &str, text: &str) {
        let field = self.field(label).await;
        field.send_keys(Key::Control + "a").await.unwrap();
        field.send_keys(Key::Delete + "").await.unwrap();
        field.send_keys(text).await.unwrap();
    }

    /// Goes to a page by the navigation.
    pub async fn open(&self, page: &str) {
        let path = format!("//nav//a[normalize-space()='{page}']");
        wait_for(page, || async {
            for link in self.driver.find_all(By::XPath(&path)).await.ok()? {
                if link.is_displayed().await.ok()? {
                    return link.click().await.ok();
                }
            }
            None
        })
        .await;
        self.shows(page).await;
    }

    pub async fn press(&self, button: &str) {
        let path = format!("//button[normalize-space()='{button}']");
        // A button may still be disabled, or drawn anew under the hand.
        wait_for(button, || async {
            let button = self.driver.find(By::XPath(&path)).await.ok()?;
            if button.is_enabled().await.ok()? && self.stands_still(&button).await? {
                button.click().await.ok()
            } else {
                None
            }
        })
        .await;
    }

    /// Ticks or unticks a box by what it is and not by where it is: lists that are drawn anew move it under the hand.
    pub async fn tick(&self, selector: &str) {
        wait_for(selector, || async {
            let element = self.driver.find(By::Css(selector)).await.ok()?;
            self.driver.execute("arguments[0].click()", vec![element.to_json().ok()?]).await.ok()
        })
        .await;
    }

    /// Clicks what a selector finds, once it stands still.
    pub async fn click(&self, selector: &str) {
        wait_for(selector, || async {
            let element = self.driver.find(By::Css(selector)).await.ok()?;
            if self.stands_still(&element).await? { element.click().await.ok() } else { None }
        })
        .await;
    }

    /// Whether an element is where it was a moment ago: a click goes to a place, and what is drawn anew meanwhile moves others there.
    async fn stands_still(&self, element: &WebElement) -> Option<bool> {
        let before = element.rect().await.ok()?;
        tokio::time::sleep(std::time::Duration::from_millis(60)).await;
        let after = element.rect().await.ok()?;
        Some((before.x, before.y) == (after.x, after.y))
    }

    /// Waits until the page says something.
    pub async fn shows(&self, text: &str) {
        // As patient as every wait: on a busy machine a browser is slow, too.
        let until = tokio::time::Instant::now() + PATIENCE;
        let mut last = self.text().await;
        while !last.contains(text) {
            // What it shows instead says more than that it does not.
            assert!(tokio::time::Instant::now() < until, "the page does not show {text:?} but:\n{last}");
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            last = self.text().await;
        }
    }

    /// Waits until the page shows a text, however its letters are drawn.
    pub async fn shows_any_case(&self, text: &str) {
        let text = text.to_lowercase();
        wait_for(&format!("the page shows {text:?}"), || async {
            self.text().await.to_lowercase().contains(&text).then_some(())
        })
        .await;
    }

    pub async fn text(&self) -> String {
        // The browser's own way: that of the protocol looks at every element by itself, and keeps a long page busy with it.
        let text = self.driver.execute("return document.body.innerText", Vec::new()).await;
        text.and_then(|text| text.convert::<String>()).unwrap_or_else(|error| format!("(nothing: {error})"))
    }

    pub async fn resize(&self, width: u32, height: u32) {
        self.driver.set_window_rect(0, 0, width, height).await.unwrap();
    }

    /// What an automatic check of accessibility finds on the page, in words; nothing where there is nothing.
    ///
    /// # Panics
    /// Where the checker is not installed with the console's packages.
    pub async fn axe(&self) -> Vec<String> {
        let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../console/node_modules/axe-core/axe.min.js");
        let checker = std::fs::read_to_string(file).expect("the console's packages are installed");
        self.driver.execute(format!("{checker}; return true"), vec![]).await.expect("the checker runs");
        let run = "const done = arguments[arguments.length - 1]; axe.run(document, { resultTypes: ['violations'] })\
                   .then((told) => done(told.violations.map((one) => `${one.id}: ${one.nodes.map((node) => node.html.slice(0, 200)).join(' | ')}`)))\
                   .catch((error) => done([String(error)]))";
        let told = self.driver.execute_async(run, vec![]).await.expect("the checker tells");
        told.convert().expect("a list of texts")
    }

    /// Keeps a picture when the environment names a directory for them.
    pub async fn picture(&self, name: &str) {
        if let Some(directory) = std::env::var_os("INTERLEX_PICTURES") {
            let path = Path::new(&directory).join(format!("{name}.png"));
            self.driver.screenshot(&path).await.unwrap();
        }
    }

    pub async fn close(mut self) {
        self.driver.clone().quit().await.unwrap();
        self.process.stop(std::time::Duration::from_secs(5)).await;
    }
}
