//! The handset page in a real browser at a phone's width, beside the console of the operator who lets people in.

use super::browser::{Driver, press, wait_for};
use super::harness::{Northmoor, Setup, code_of, outcome, prompt};
use serde_json::{Value, json};
use std::time::Duration;
use thirtyfour::prelude::*;

const STAFF: &str = "second = [\"totp\"]\nwhen_unclear = \"code\"";

/// The demo's site with a page that phones reach as `localhost`: security keys want a name.
async fn world(handset: &str, staff: &str, more: &[(&str, &str)]) -> Northmoor {
    let staff = format!("{staff}\nwhen_unclear = \"code\"");
    let change: Vec<(&str, &str)> =
        [("shows_code = true", handset), (STAFF, staff.as_str())].into_iter().chain(more.iter().copied()).collect();
    Northmoor::with(Setup { change: &change, ..Setup::default() }).await
}

/// A window as wide as a phone.
async fn phone(driver: &Driver) -> WebDriver {
    let page = driver.open().await;
    let metrics = json!({ "width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": true });
    page.cdp().send_raw("Emulation.setDeviceMetricsOverride", metrics).await.unwrap();
    page
}

/// Opens an invitation as its link does, and enrols.
async fn enrol(page: &WebDriver, world: &Northmoor, login: &str) {
    let path = format!("/people/tidehall/{login}/invitation");
    let (status, made) = world.service.call("POST", &path, Some(json!({}))).await;
    assert_eq!(status, 201, "{made}");
    let code = made["code"].as_str().unwrap();
    assert_eq!(made["link"], format!("http://localhost:18080/handset#{code}"));
    page.goto(format!("http://localhost:{}/handset#{code}", world.service.http.port())).await.unwrap();
    press(page, "Set up this phone").await;
}

/// No policy was broken and nothing was too wide for a phone.
async fn is_sound(page: &WebDriver) {
    let wide = page.execute("return document.documentElement.scrollWidth", vec![]).await.unwrap();
    assert!(wide.json().as_u64().unwrap() <= 390, "{:?}", wide.json());
    let log = page.browser_log().await.unwrap_or_default();
    let broken: Vec<_> = log.iter().filter(|entry| entry.message.contains("Content Security Policy")).collect();
    assert!(broken.is_empty(), "{broken:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_is_set_up_by_its_link_confirmed_in_the_console_and_approves_with_a_key_that_cannot_be_exported() {
    let world = world("shows_code = true", "second = [\"approval\", \"totp\"]", &[]).await;
    let driver = Driver::start();
    let page = phone(&driver).await;
    enrol(&page, &world, "ines").await;
    let reference = page.query(By::Css("[data-testid=reference]")).first().await.unwrap().text().await.unwrap();
    assert_eq!(reference.len(), 7, "{reference}");
    is_sound(&page).await;

    let office = Driver::start();
    let console = office.open().await;
    console.goto(format!("http://{}/#token={}", world.service.http, world.service.token)).await.unwrap();
    wait_for(&console, "nav a", "People").await.click().await.unwrap();
    wait_for(&console, "[data-testid=person]", "New device to confirm").await.click().await.unwrap();
    let field = console.query(By::Css("[data-testid=confirm] input")).first().await.unwrap();
    field.send_keys("AAA-AAA").await.unwrap();
    wait_for(&console, "[data-testid=confirm] button", "Confirm device").await.click().await.unwrap();
    wait_for(&console, "[data-testid=confirm] [role=alert]", "the reference does not match").await;
    field.clear().await.unwrap();
    field.send_keys(reference.to_lowercase()).await.unwrap();
    wait_for(&console, "[data-testid=confirm] button", "Confirm device").await.click().await.unwrap();
    wait_for(&console, "[data-testid=factor]", "● Ready").await;

    // The phone hears of it by itself, and shows the person's own code.
    wait_for(&page, "p", "Sign-in requests appear here").await;
    // Without a network it says so; with one again it is back by itself.
    page.cdp().send_raw("Network.enable", json!({})).await.unwrap();
    let network = |offline: bool| json!({ "offline": offline, "latency": 0, "downloadThroughput": -1, "uploadThroughput": -1 });
    page.cdp().send_raw("Network.emulateNetworkConditions", network(true)).await.unwrap();
    page.execute("window.dispatchEvent(new Event('offline'))", vec![]).await.unwrap();
    wait_for(&page, "p", "No connection").await;
    page.cdp().send_raw("Network.emulateNetworkConditions", network(false)).await.unwrap();
    wait_for(&page, "p", "Sign-in requests appear here").await;
    let own = page.query(By::Css("[data-testid=own-code]")).first().await.unwrap().text().await.unwrap();
    assert_eq!(own.replace(' ', "").len(), 6, "{own}");
    let gateway = world.gateway("breakwater");
    let login = tokio::spawn(async move { gateway.log_in("ines", "barnacle-and-buoy").await.unwrap() });
    let asked = wait_for(&page, "[data-testid=approval]", "Are you signing in?").await.text().await.unwrap();
    for wanted in ["Ines Okafor", "ines", "Northmoor Tidal", "breakwater", "s left"] {
        assert!(asked.contains(wanted), "{wanted} in {asked}");
    }
    let focused = page.active_element().await.unwrap().text().await.unwrap();
    assert_eq!(focused, "Are you signing in?", "a screen reader begins at the question");
    is_sound(&page).await;
    press(&page, "Approve").await;
    wait_for(&page, "[role=status]", "Approved.").await;
    let (exchange, local) = login.await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "{:#}", world.service.trace_from(local).await);
    let exported = "const request = indexedDB.open('bivector-handset'); const done = arguments[arguments.length - 1];
        request.onsuccess = () => { const get = request.result.transaction('devices').objectStore('devices').get('own');
        get.onsuccess = () => crypto.subtle.exportKey('pkcs8', get.result.key).then(() => done('exported'), (error) => done(error.name)) }";
    assert_eq!(page.execute_async(exported, vec![]).await.unwrap().json(), "InvalidAccessError");
    wait_for(&console, "[data-testid=roll-out]", "In use").await;
    page.quit().await.unwrap();
    console.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_security_key_proves_an_approval_and_the_number_on_the_screen_is_picked() {
    let portal = (
        "second = [\"totp\", \"recovery\", \"temporary\", \"pager\", \"post\"]",
        "second = [\"approval\", \"totp\"]\nwhen_several = \"first\"",
    );
    let words = ("words = { pager = [\"sms\", \"text\"], post = \"mail\" }", "");
    let world = world("confirmed_by = \"invitation\"", "second = [\"key\", \"totp\"]", &[portal, words]).await;
    let driver = Driver::start();
    let page = phone(&driver).await;
    page.cdp().send_raw("WebAuthn.enable", json!({})).await.unwrap();
    let options = json!({ "options": { "protocol": "ctap2", "transport": "usb", "hasResidentKey": true, "hasUserVerification": true, "isUserVerified": true, "automaticPresenceSimulation": true } });
    page.cdp().send_raw("WebAuthn.addVirtualAuthenticator", options).await.unwrap();
    enrol(&page, &world, "ines").await;
    press(&page, "Add a security key").await;
    press(&page, "Touch the key now").await;
    wait_for(&page, "[data-testid=keys]", "security key").await;

    let gateway = world.gateway("breakwater");
    let login = tokio::spawn(async move { gateway.log_in("ines", "barnacle-and-buoy").await.unwrap() });
    press(&page, "Approve with security key").await;
    wait_for(&page, "[role=status]", "Approved.").await;
    let (exchange, local) = login.await.unwrap();
    let trace = world.service.trace_from(local).await;
    assert_eq!(outcome(&exchange), "accept", "{trace:#}");
    assert!(trace.to_string().contains("approved with the security key “security key”"), "{trace:#}");
    page.quit().await.unwrap();

    let other = Driver::start();
    let page = phone(&other).await;
    // A phone whose clock is a day off: nothing that it signs or shows depends on it.
    let wrong = json!({ "source": "const right = Date.now; Date.now = () => right() + 86400000" });
    page.cdp().send_raw("Page.addScriptToEvaluateOnNewDocument", wrong).await.unwrap();
    enrol(&page, &world, "pell").await;
    wait_for(&page, "p", "Sign-in requests appear here").await;
    let lantern = world.gateway("lantern");
    let (asked, _) = lantern.log_in("pell", "sounding-line").await.unwrap();
    let number = prompt(&asked).split_whitespace().find_map(|word| word.parse::<u8>().ok()).unwrap();
    let about = wait_for(&page, "#about", "s left").await.text().await.unwrap();
    assert!(about.contains("(45 s left)") || about.contains("(44 s left)") || about.contains("(43 s left)"), "{about}");
    page.query(By::Css(format!("button[aria-label='Approve with number {number}']"))).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[role=status]", "Approved.").await;
    let (exchange, _) = lantern.answer("pell", "", &asked).await.unwrap();
    assert_eq!(outcome(&exchange), "accept");
    // Not theirs: a second press, and nothing asks any more.
    lantern.log_in("pell", "sounding-line").await.unwrap();
    press(&page, "This wasn’t me").await;
    press(&page, "Pause sign-in requests").await;
    wait_for(&page, "p", "Sign-in requests are paused until").await;
    assert!(world.service.get("/people/pell").await[0]["stop"]["gateway"] == "lantern");
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn people_sign_in_to_their_own_page_to_add_rename_and_remove_devices() {
    let world = world("shows_code = true", "second = [\"totp\", \"approval\"]", &[]).await;
    let driver = Driver::start();
    let page = phone(&driver).await;
    page.goto(format!("http://localhost:{}/handset/own", world.service.http.port())).await.unwrap();
    let fill = async |name: &str, value: &str| {
        let field = page.query(By::Css(format!("input[autocomplete='{name}']"))).first().await.unwrap();
        field.clear().await.unwrap();
        field.send_keys(value).await.unwrap();
    };
    fill("username", "odo").await;
    fill("current-password", "wrong").await;
    press(&page, "Sign in").await;
    wait_for(&page, "[role=alert]", "The sign-in was refused; reference").await;
    // Odo has no factor yet, so the password is enough to get the first one, and no more than that.
    fill("current-password", "new-moon-spring").await;
    press(&page, "Sign in").await;
    wait_for(&page, "p", "No devices yet").await;
    is_sound(&page).await;
    press(&page, "Authenticator app").await;
    let seed = page.query(By::Css("[data-testid=seed]")).first().await.unwrap().text().await.unwrap().replace(' ', "");
    assert!(page.query(By::Css("svg")).first().await.is_ok(), "and as a code for the camera");
    fill("one-time-code", "000000").await;
    press(&page, "Confirm").await;
    wait_for(&page, "[role=alert]", "The code does not match the new app.").await;
    fill("one-time-code", &code_of(&seed)).await;
    press(&page, "Confirm").await;
    // There is a factor now: what was signed in with the password alone is over.
    fill("username", "odo").await;
    fill("current-password", "new-moon-spring").await;
    press(&page, "Sign in").await;
    let field = page.query(By::Css("input[autocomplete='one-time-code']")).first().await.unwrap();
    assert!(page.source().await.unwrap().contains("Enter the code from app:"));
    // The next code: the last one is used.
    let next = loop {
        let person: Value = world.service.get("/people/odo").await[0].clone();
        let used = person["factors"][0]["last_used_us"].as_u64().unwrap() / 30_000_000;
        let step = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() / 30;
        if step > used {
            // Only now: a code worked out before this look may be the used one.
            break code_of(&seed);
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    };
    field.send_keys(next).await.unwrap();
    press(&page, "Continue").await;
    let own = wait_for(&page, "[data-testid=own-factor]", "app").await;
    own.find(By::Css("button")).await.unwrap().click().await.unwrap();
    let name = own.find(By::Css("input")).await.unwrap();
    name.clear().await.unwrap();
    name.send_keys("work phone").await.unwrap();
    press(&page, "Rename").await;
    wait_for(&page, "[data-testid=own-factor]", "work phone").await;
    press(&page, "This phone (approve sign-ins)").await;
    wait_for(&page, "h1", "Odo Reyes").await;
    wait_for(&page, "p", "Sign-in requests appear here").await;
    let person = &world.service.get("/people/odo").await[0];
    let kinds: Vec<&str> = person["factors"].as_array().unwrap().iter().filter_map(|factor| factor["kind"].as_str()).collect();
    assert_eq!(kinds, ["totp", "handset"], "signed in with a factor, so that no operator needs to confirm: {person:#}");
    assert!(person["factors"][1]["state"] == "ready");
    let traces = world.service.get("/traces?limit=20").await;
    assert!(traces.as_array().unwrap().iter().all(|trace| trace["origin"] == "page" && trace["gateway"] == "own page"), "{traces:#}");
    page.quit().await.unwrap();
}
