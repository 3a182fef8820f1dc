//! A real browser: started, driven and ended with its test.

use super::harness::Northmoor;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use thirtyfour::extensions::query::ElementPollerWithTimeout;
use thirtyfour::prelude::*;

/// How long a page may take to show what is waited for.
const PATIENCE: Duration = Duration::from_secs(60);

/// A chromedriver of its own; ended with its browser when dropped.
pub(crate) struct Driver {
    child: Child,
    port: u16,
    profile: tempfile::TempDir,
}

impl Driver {
    pub(crate) fn start() -> Self {
        let mut child = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromium-driver is installed by `make setup`");
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let port = loop {
            let line = lines.next().expect("chromedriver says its port").unwrap();
            if let Some(port) = line.strip_suffix('.').and_then(|line| line.rsplit("on port ").next()).and_then(|port| port.parse().ok()) {
                break port;
            }
        };
        std::thread::spawn(move || lines.for_each(drop));
        Driver { child, port, profile: tempfile::tempdir().unwrap() }
    }

    pub(crate) async fn open(&self) -> WebDriver {
        let mut wants = DesiredCapabilities::chrome();
        let profile = format!("--user-data-dir={}", self.profile.path().display());
        for flag in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,943",
            &profile,
        ] {
            wants.add_arg(flag).unwrap();
        }
        wants.set_binary("/usr/bin/chromium").unwrap();
        let poller = ElementPollerWithTimeout::new(PATIENCE, Duration::from_millis(50));
        WebDriver::builder(format!("http://127.0.0.1:{}", self.port), wants).poller(Arc::new(poller)).await.unwrap()
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
        // A test that panicked leaves its browser behind; it is known by its profile folder.
        let ours = format!("--user-data-dir={}", self.profile.path().display());
        for process in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
            let command = std::fs::read_to_string(process.path().join("cmdline")).unwrap_or_default();
            if command.contains(&ours) {
                let _ = Command::new("kill").arg("-9").arg(process.file_name()).status();
            }
        }
    }
}

/// The console at this path, signed in to.
pub(crate) async fn signed_in(world: &Northmoor, driver: &Driver, path: &str) -> WebDriver {
    let page = driver.open().await;
    page.goto(format!("http://{}{path}#token={}", world.service.http, world.service.token)).await.unwrap();
    page
}

/// The first of these that holds `part`, as soon as there is one. What is drawn anew while it is looked at is looked for again.
pub(crate) async fn wait_for(page: &WebDriver, css: &str, part: &str) -> WebElement {
    let end = Instant::now() + PATIENCE;
    loop {
        for found in page.find_all(By::Css(css)).await.unwrap() {
            if found.text().await.is_ok_and(|text| text.contains(part)) {
                return found;
            }
        }
        pause(page, end, || format!("no {css} with {part:?}")).await;
    }
}

/// Presses the button of that name, or else the first one that has it in its text, as soon as it can be pressed.
pub(crate) async fn press(page: &WebDriver, name: &str) {
    let end = Instant::now() + PATIENCE;
    loop {
        for named in [format!("normalize-space() = \"{name}\""), format!("contains(., \"{name}\")")] {
            let Some(button) = page.find_all(By::XPath(format!("//button[{named}]"))).await.unwrap().into_iter().next() else { continue };
            if button.is_enabled().await.unwrap_or(false) && button.click().await.is_ok() {
                return;
            }
            break;
        }
        pause(page, end, || format!("no button {name:?} to press")).await;
    }
}

async fn pause(page: &WebDriver, end: Instant, missing: impl Fn() -> String) {
    if Instant::now() > end {
        let body = page.find(By::Css("body")).await.unwrap().text().await.unwrap();
        panic!("{} within {PATIENCE:?}: {body}", missing());
    }
    tokio::time::sleep(Duration::from_millis(50)).await;
}
