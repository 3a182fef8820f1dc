//! The handset page and its service worker in a real browser: setting up notifications, messages that come by push, and what a person does
//! with them.

use super::browser::{Devtools, Driver, press, wait_for};
use super::harness::{Northmoor, Setup, outcome};
use bivector_exchange::Exchange;
use bivector_lab::push::{PushHabits, RobotSubscription, StandInPush};
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::time::{Duration, Instant};
use thirtyfour::prelude::*;

/// The demo with approvals for the staff, woken by this push service.
async fn world(push: &StandInPush, more: &[(&str, &str)]) -> Northmoor {
    let origin = push.origin();
    let second = "second = [\"approval\", \"totp\"]\nsecond_patience = \"30s\"\nwhen_unclear = \"code\"";
    let change = [
        ("second = [\"totp\"]\nwhen_unclear = \"code\"", second),
        ("http://127.0.0.1:18490", origin.as_str()),
        ("shows_code = true", "confirmed_by = \"invitation\""),
    ];
    let change: Vec<(&str, &str)> = change.into_iter().chain(more.iter().copied()).collect();
    Northmoor::with(Setup { change: &change, ..Setup::default() }).await
}

async fn push_service() -> StandInPush {
    StandInPush::start(SocketAddr::from(([127, 0, 0, 1], 0)), PushHabits::default()).await.unwrap()
}

/// A phone whose browser subscribes at the stand-in: its own push service is on the internet.
struct Phone {
    page: WebDriver,
    devtools: Devtools,
    origin: String,
    driver: Driver,
}

impl Phone {
    async fn open(world: &Northmoor, permission: &str) -> Self {
        let driver = Driver::start();
        let page = driver.open().await;
        let metrics = json!({ "width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": true });
        page.cdp().send_raw("Emulation.setDeviceMetricsOverride", metrics).await.unwrap();
        let origin = format!("http://localhost:{}", world.service.http.port());
        let mut devtools = driver.devtools().await;
        devtools.allow_notifications(&origin, permission).await;
        Phone { page, devtools, origin, driver }
    }

    /// What the browser's own subscribing gives from now on.
    async fn subscribes(&self, subscription: &RobotSubscription) {
        let request = subscription.request();
        let script = format!(
            "let current = null;
             const made = {{ endpoint: {}, toJSON: () => ({{ endpoint: {}, keys: {{ p256dh: {}, auth: {} }} }}),
                 unsubscribe: async () => {{ current = null; return true }} }};
             PushManager.prototype.subscribe = async (options) => {{ window.subscribedWith = options; return current = made }};
             PushManager.prototype.getSubscription = async () => current;",
            request["endpoint"], request["endpoint"], request["p256dh"], request["auth"]
        );
        self.page.cdp().send_raw("Page.addScriptToEvaluateOnNewDocument", json!({ "source": script })).await.unwrap();
        self.page.execute(script, vec![]).await.unwrap();
    }

    async fn enrol(&self, world: &Northmoor, login: &str, button: &str) {
        let (status, made) = world.service.call("POST", &format!("/people/tidehall/{login}/invitation"), Some(json!({}))).await;
        assert_eq!(status, 201, "{made}");
        self.page.goto(format!("{}/handset#{}", self.origin, made["code"].as_str().unwrap())).await.unwrap();
        press(&self.page, button).await;
    }

    /// The notifications that the worker shows: title, text and buttons.
    async fn shown(&mut self) -> Vec<Value> {
        let all = "self.registration.getNotifications().then((all) => all.map(({ title, body, actions, tag }) => \
                   ({ title, body, tag, actions: actions.map((action) => action.title) })))";
        self.devtools.in_worker(all).await.as_array().cloned().unwrap_or_default()
    }

    /// Waits until so many notifications are shown.
    async fn shows(&mut self, count: usize) -> Vec<Value> {
        let until = Instant::now() + Duration::from_secs(20);
        loop {
            let shown = self.shown().await;
            if shown.len() == count {
                return shown;
            }
            assert!(Instant::now() < until, "{shown:?}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Delivers the next message of the push service, as the browser would.
    async fn deliver(&mut self, subscription: &RobotSubscription) {
        let notice = tokio::time::timeout(Duration::from_secs(10), subscription.next()).await.expect("a message").unwrap();
        let (text, origin) = (String::from_utf8(notice.bytes()).unwrap(), self.origin.clone());
        self.devtools.push(&origin, &text).await;
    }
}

fn log_in(world: &Northmoor, login: &'static str) -> tokio::task::JoinHandle<(Exchange, SocketAddr)> {
    let gateway = world.gateway("breakwater");
    tokio::spawn(async move { gateway.log_in(login, "barnacle-and-buoy").await.unwrap() })
}

/// The key that the service signs with: a browser subscribes with it.
async fn signing_key(world: &Northmoor) -> String {
    world.service.call("POST", "/push/keys", None).await.1[0]["public"].as_str().unwrap().to_owned()
}

async fn state(world: &Northmoor) -> Value {
    let people = world.service.get("/people/ines").await;
    people[0]["factors"].as_array().unwrap().iter().find(|factor| factor["kind"] == "handset").unwrap()["push"]["state"].clone()
}

async fn becomes(world: &Northmoor, wanted: &str) {
    let until = Instant::now() + Duration::from_secs(20);
    while state(world).await != wanted {
        assert!(Instant::now() < until, "it is {} still, not {wanted}", state(world).await);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// A phone that ines has set up, with the permission to show notifications.
async fn phone_that_may_notify() -> (StandInPush, Northmoor, RobotSubscription, Phone) {
    let push = push_service().await;
    let world = world(&push, &[]).await;
    let subscription = push.subscribe(&signing_key(&world).await).unwrap();
    let phone = Phone::open(&world, "granted").await;
    phone.subscribes(&subscription).await;
    phone.enrol(&world, "ines", "Set up this phone").await;
    (push, world, subscription, phone)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_is_set_up_for_notifications_woken_by_push_and_denies_from_the_notification() {
    let (_push, world, subscription, mut phone) = phone_that_may_notify().await;
    // It subscribes by itself once it may; the test must be tapped.
    wait_for(&phone.page, "[data-testid=notifications]", "A test notification was sent").await;
    becomes(&world, "untested").await;
    let with =
        phone.page.execute("return subscribedWith.userVisibleOnly && subscribedWith.applicationServerKey.length", vec![]).await.unwrap();
    assert_eq!(with.json(), &json!(65));
    phone.deliver(&subscription).await;
    let shown = phone.shows(1).await;
    assert_eq!((shown[0]["title"].as_str(), shown[0]["tag"].as_str()), (Some("Test from Northmoor Tidal"), Some("test")));
    phone.devtools.in_worker("self.registration.getNotifications().then(([one]) => { one.close(); return open(one.data.notice) })").await;
    becomes(&world, "ready").await;
    wait_for(&phone.page, "[data-testid=notifications]", "Notifications work on this phone.").await;
    // A login: the notification says who, where, from where.
    let login = log_in(&world, "ines");
    phone.deliver(&subscription).await;
    let shown = phone.shows(1).await;
    assert_eq!(shown[0]["title"], "Northmoor Tidal: are you signing in?");
    assert_eq!(shown[0]["body"], "Ines Okafor (ines) through breakwater, from an unknown place");
    assert_eq!(shown[0]["actions"], json!(["Deny", "Open to approve"]));
    phone.devtools.in_worker("self.registration.getNotifications().then(([one]) => { one.close(); return deny(one.data.notice) })").await;
    let (exchange, from) = login.await.unwrap();
    assert_eq!(outcome(&exchange), "reject");
    let trace = world.service.trace_from(from).await;
    let told: Vec<&str> = trace["steps"].as_array().unwrap().iter().filter_map(|step| step["said"].as_str()).collect();
    assert!(told.iter().any(|said| said.contains("showed the notification after")), "{told:?}");
    assert!(told.iter().any(|said| said.starts_with("denied on “")), "{told:?}");
    // The phone remembers what it has said.
    phone.page.refresh().await.unwrap();
    wait_for(&phone.page, "[data-testid=answers]", "denied, through breakwater").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_notification_opens_the_page_and_goes_once_the_approval_is_decided() {
    let (_push, world, subscription, mut phone) = phone_that_may_notify().await;
    wait_for(&phone.page, "[data-testid=notifications]", "A test notification was sent").await;
    phone.deliver(&subscription).await;
    phone.shows(1).await;
    phone.devtools.in_worker("self.registration.getNotifications().then(([one]) => one.close())").await;
    let login = log_in(&world, "ines");
    phone.deliver(&subscription).await;
    phone.shows(1).await;
    phone.devtools.in_worker("self.registration.getNotifications().then(([one]) => open(one.data.notice))").await;
    wait_for(&phone.page, "h1", "Are you signing in?").await;
    press(&phone.page, "Approve").await;
    assert_eq!(outcome(&login.await.unwrap().0), "accept");
    // Another phone would be told; this one hears of it in the same way.
    let tag = phone.shown().await.first().unwrap()["tag"].as_str().unwrap().to_owned();
    let (origin, over) = (phone.origin.clone(), json!({ "kind": "over", "id": tag }).to_string());
    phone.devtools.push(&origin, &over).await;
    phone.shows(0).await;
    wait_for(&phone.page, "[data-testid=answers]", "approved, through breakwater").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_that_denies_permission_says_so_and_people_see_it() {
    let push = push_service().await;
    let world = world(&push, &[]).await;
    let phone = Phone::open(&world, "denied").await;
    phone.enrol(&world, "ines", "Set up this phone").await;
    wait_for(&phone.page, "[data-testid=notifications]", "Notifications are blocked for this page.").await;
    becomes(&world, "refused").await;
    assert_eq!(push.count(), 0);
    drop(phone.driver);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_speaks_the_persons_language_and_its_link_does_nothing_elsewhere() {
    let push = push_service().await;
    let own = "[texts.de.page]\n\"Recent answers\" = \"Meine Antworten\"\n\n[[newcomers]]";
    let world = world(&push, &[("[[newcomers]]", own)]).await;
    let german = json!({ "name": "Ines Okafor", "language": "de" });
    let (status, changed) = world.service.call("PUT", "/people/tidehall/ines", Some(german)).await;
    assert_eq!(status, 200, "{changed}");
    let phone = Phone::open(&world, "denied").await;
    phone.page.goto(format!("{}/handset/request/00000000000000ff", phone.origin)).await.unwrap();
    wait_for(&phone.page, "[data-testid=elsewhere]", "Nothing was approved. Open it on that phone.").await;
    phone.enrol(&world, "ines", "Set up this phone").await;
    wait_for(&phone.page, "h2", "Mitteilungen").await;
    wait_for(&phone.page, "h2", "Meine Antworten").await;
    let language = phone.page.execute("return document.documentElement.lang", vec![]).await.unwrap();
    assert_eq!(language.json(), &json!("de"));
    let login = log_in(&world, "ines");
    wait_for(&phone.page, "h1", "Melden Sie sich gerade an?").await;
    press(&phone.page, "Ablehnen").await;
    assert_eq!(outcome(&login.await.unwrap().0), "reject");
    wait_for(&phone.page, "[role=status]", "Abgelehnt.").await;
    phone.page.goto(format!("{}/handset/request/00000000000000ff", phone.origin)).await.unwrap();
    wait_for(&phone.page, "[data-testid=over]", "Diese Anmeldeanfrage wartet nicht mehr.").await;
}
