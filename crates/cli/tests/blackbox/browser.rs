//! A real browser: started, driven and ended with its test.

use super::harness::Northmoor;
use futures_util::{SinkExt, StreamExt};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use thirtyfour::extensions::query::ElementPollerWithTimeout;
use thirtyfour::prelude::*;
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::Message;
use tokio_tungstenite::{MaybeTlsStream, WebSocketStream};

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

impl Driver {
    /// The debugging protocol of the browser that is open.
    pub(crate) async fn devtools(&self) -> Devtools {
        let text = std::fs::read_to_string(self.profile.path().join("DevToolsActivePort")).expect("the browser says its port");
        let (port, path) = text.trim().split_once('\n').unwrap();
        let (socket, _) = tokio_tungstenite::connect_async(format!("ws://127.0.0.1:{port}{path}")).await.unwrap();
        Devtools { socket, number: 0 }
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

/// The browser's debugging protocol: reaches the service worker, which no page does.
pub(crate) struct Devtools {
    socket: WebSocketStream<MaybeTlsStream<TcpStream>>,
    number: u64,
}

impl Devtools {
    async fn call(&mut self, session: Option<&str>, method: &str, params: Value) -> Value {
        self.number += 1;
        let mut request = json!({ "id": self.number, "method": method, "params": params });
        if let Some(session) = session {
            request["sessionId"] = json!(session);
        }
        self.socket.send(Message::text(request.to_string())).await.unwrap();
        loop {
            let message = tokio::time::timeout(PATIENCE, self.socket.next()).await.expect("an answer").unwrap().unwrap();
            let answer: Value = serde_json::from_str(message.to_text().unwrap_or("null")).unwrap_or(Value::Null);
            if answer["id"] == self.number {
                assert!(answer["error"].is_null(), "{method}: {answer}");
                return answer["result"].clone();
            }
        }
    }

    /// Whether pages of this origin may show notifications: `granted`, `denied` or `prompt`.
    pub(crate) async fn allow_notifications(&mut self, origin: &str, setting: &str) {
        let params = json!({ "permission": { "name": "notifications" }, "setting": setting, "origin": origin });
        self.call(None, "Browser.setPermission", params).await;
    }

    /// Evaluates an expression in the service worker, once it runs; what its promise comes to.
    pub(crate) async fn in_worker(&mut self, expression: &str) -> Value {
        let until = Instant::now() + PATIENCE;
        loop {
            let targets = self.call(None, "Target.getTargets", json!({})).await;
            let worker = targets["targetInfos"].as_array().unwrap().iter().find(|target| target["type"] == "service_worker").cloned();
            if let Some(worker) = worker {
                let params = json!({ "targetId": worker["targetId"], "flatten": true });
                let session = self.call(None, "Target.attachToTarget", params).await["sessionId"].as_str().unwrap().to_owned();
                let params = json!({ "expression": expression, "awaitPromise": true, "returnByValue": true });
                let answer = self.call(Some(&session), "Runtime.evaluate", params).await;
                self.call(None, "Target.detachFromTarget", json!({ "sessionId": session })).await;
                assert!(answer["exceptionDetails"].is_null(), "{answer}");
                return answer["result"]["value"].clone();
            }
            assert!(Instant::now() < until, "no service worker runs");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Delivers a push message to the service worker of this origin, as the browser does when its push service brings one.
    pub(crate) async fn push(&mut self, origin: &str, data: &str) {
        let targets = self.call(None, "Target.getTargets", json!({})).await;
        let page = targets["targetInfos"].as_array().unwrap().iter().find(|target| target["type"] == "page").unwrap()["targetId"].clone();
        let params = json!({ "targetId": page, "flatten": true });
        let session = self.call(None, "Target.attachToTarget", params).await["sessionId"].as_str().unwrap().to_owned();
        self.call(Some(&session), "ServiceWorker.enable", json!({})).await;
        // The first registration of a new profile.
        let params = json!({ "origin": origin, "registrationId": "0", "data": data });
        self.call(Some(&session), "ServiceWorker.deliverPushMessage", params).await;
        self.call(None, "Target.detachFromTarget", json!({ "sessionId": session })).await;
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
