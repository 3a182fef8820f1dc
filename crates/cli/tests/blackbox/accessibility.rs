//! Every page, panel and dialog of the console, the handset and the own page, looked at by axe-core in both themes; and what fits on a phone.

use super::browser::{Driver, press, signed_in, wait_for};
use super::harness::{Northmoor, ines};
use serde_json::json;
use std::time::Duration;
use thirtyfour::prelude::*;

const AXE: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");

/// Runs axe on what is shown; each finding as `rule: element`.
async fn violations(page: &WebDriver) -> Vec<String> {
    page.execute(std::fs::read_to_string(AXE).expect("`make console` installs axe-core"), vec![]).await.unwrap();
    let script = "const done = arguments[arguments.length - 1];
        axe.run(document, { resultTypes: ['violations'] }).then((found) => done(found.violations.flatMap((one) =>
            one.nodes.map((node) => `${one.id}: ${node.target.join(' ')} ${node.html.slice(0, 160)} ${(node.any[0] || {}).message || ''}`))));";
    page.execute_async(script, vec![]).await.unwrap().convert().unwrap()
}

/// Looks at what is shown in both themes, at the size of its smallest text, and adds what is wrong.
pub(crate) async fn look(page: &WebDriver, name: &str, wrong: &mut Vec<String>) {
    // What fades in has its colours when it has come to rest.
    tokio::time::sleep(Duration::from_millis(300)).await;
    for theme in ["light", "dark"] {
        page.execute(format!("document.documentElement.dataset.theme = '{theme}'"), vec![]).await.unwrap();
        wrong.extend(violations(page).await.into_iter().map(|found| format!("{name}, {theme}: {found}")));
    }
    let small = "return [...document.querySelectorAll('body *')].filter((one) => one.checkVisibility() &&
        [...one.childNodes].some((node) => node.nodeType === 3 && node.textContent.trim()) &&
        parseFloat(getComputedStyle(one).fontSize) < 13).map((one) => one.outerHTML.slice(0, 100))";
    let small: Vec<String> = page.execute(small, vec![]).await.unwrap().convert().unwrap();
    wrong.extend(small.into_iter().map(|found| format!("{name}: smaller than 13 px: {found}")));
}

pub(crate) async fn to(page: &WebDriver, world: &Northmoor, path: &str) {
    page.goto(format!("http://{}{path}", world.service.http)).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn axe_finds_nothing_on_any_page_panel_or_dialog_of_the_console() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    let page = driver.open().await;
    let mut wrong = Vec::new();
    to(&page, &world, "/").await;
    wait_for(&page, "h1", "Bivector").await;
    look(&page, "sign-in", &mut wrong).await;
    page.quit().await.unwrap();
    world.log_in("breakwater", "ines", &ines()).await;
    let (_, trace) = world.log_in("slipway", "ines", &ines()).await;
    world.log_in("lantern", "pell", "sounding-line").await;
    let reference = trace["reference"].as_str().unwrap();
    let page = signed_in(&world, &driver, "/logins").await;
    wait_for(&page, "[data-testid=login]", "ines").await;
    look(&page, "logins", &mut wrong).await;
    page.query(By::Css("[data-testid=account]")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[role=menuitem]", "Sign out").await;
    look(&page, "account", &mut wrong).await;
    for (path, css, part) in [
        (format!("/logins?open={reference}"), "[data-testid=trace]", "code-used"),
        ("/logins?chart=24%20h".to_owned(), "[data-testid=failures]", ""),
        ("/sessions".to_owned(), "[data-testid=session-chart]", ""),
        ("/chains".to_owned(), "[data-testid=chain]", "staff"),
        ("/prove".to_owned(), "main", ""),
        ("/prove?tool=login".to_owned(), "main", ""),
        ("/prove?tool=locate".to_owned(), "main", ""),
        ("/timing".to_owned(), "[data-testid=picture]", ""),
        ("/timing/sheet?gateway=breakwater".to_owned(), "main", "breakwater"),
        ("/people".to_owned(), "main", "ines"),
        ("/site".to_owned(), ".cm-content", "breakwater"),
        ("/nowhere".to_owned(), "main", "Page not found"),
    ] {
        to(&page, &world, &path).await;
        wait_for(&page, css, part).await;
        look(&page, &path, &mut wrong).await;
    }
    to(&page, &world, "/people").await;
    wait_for(&page, "[data-testid=person]", "ines").await.click().await.unwrap();
    let panel = wait_for(&page, "[data-testid=recent-logins]", reference).await;
    assert!(panel.text().await.unwrap().contains("code-used"));
    look(&page, "a person", &mut wrong).await;
    page.quit().await.unwrap();
    assert!(wrong.is_empty(), "{} findings:\n{}", wrong.len(), wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn axe_finds_nothing_on_the_handset_and_the_own_page() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    let page = driver.open().await;
    let mut wrong = Vec::new();
    for (path, part) in [("/handset", ""), ("/handset/own", "")] {
        to(&page, &world, path).await;
        wait_for(&page, "main", part).await;
        look(&page, path, &mut wrong).await;
    }
    page.quit().await.unwrap();
    assert!(wrong.is_empty(), "{} findings:\n{}", wrong.len(), wrong.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn on_a_phone_nothing_of_the_navigation_and_the_lists_is_cut_off() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    world.log_in("breakwater", "ines", &ines()).await;
    let page = signed_in(&world, &driver, "/logins").await;
    wait_for(&page, "[data-testid=login]", "ines").await;
    let phone = json!({ "width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": false });
    page.cdp().send_raw("Emulation.setDeviceMetricsOverride", phone).await.unwrap();
    let mut wide: Vec<String> = Vec::new();
    for (path, css) in [
        ("/logins", "[data-testid=login]"),
        ("/sessions", "[data-testid=session-chart]"),
        ("/chains", "[data-testid=chain]"),
        ("/people", "[data-testid=person]"),
        ("/prove", "main"),
        ("/timing", "main"),
        ("/site", ".cm-content"),
    ] {
        to(&page, &world, path).await;
        wait_for(&page, css, "").await;
        let script = "return [...document.querySelectorAll('nav a, header *, table')]
            .filter((one) => one.checkVisibility() && one.getBoundingClientRect().right > 391).map((one) => one.outerHTML.slice(0, 120))
            .concat(document.scrollingElement.scrollWidth > 390 ? ['the page is ' + document.scrollingElement.scrollWidth + ' px wide'] : [])";
        let seen: Vec<String> = page.execute(script, vec![]).await.unwrap().convert().unwrap();
        wide.extend(seen.into_iter().map(|one| format!("{path}: {one}")));
    }
    page.quit().await.unwrap();
    assert!(wide.is_empty(), "{}", wide.join("\n"));
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_signs_out_sees_nothing_any_more_and_the_session_is_over() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    world.log_in("breakwater", "ines", &ines()).await;
    let page = signed_in(&world, &driver, "/logins").await;
    wait_for(&page, "[data-testid=login]", "ines").await;
    page.query(By::Css("[data-testid=account]")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[role=menuitem]", "Sign out").await.click().await.unwrap();
    wait_for(&page, "h1", "Bivector").await;
    wait_for(&page, "main", "Sign in with").await;
    to(&page, &world, "/logins").await;
    wait_for(&page, "main", "Sign in with").await;
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_list_of_logins_has_rehearsed_ones_only_where_they_are_asked_for() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    world.log_in("breakwater", "ines", &ines()).await;
    let tried = json!({ "person": "yuki", "via": "breakwater", "password": "whatever" });
    assert_eq!(world.service.call("POST", "/logins", Some(tried)).await.0, 200);
    let page = signed_in(&world, &driver, "/logins").await;
    wait_for(&page, "[data-testid=login]", "ines").await;
    assert_eq!(page.find_all(By::Css("[data-testid=login]")).await.unwrap().len(), 1);
    page.query(By::Css("input[type=checkbox]")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[data-testid=login]", "yuki").await;
    press(&page, "Export CSV").await;
    page.quit().await.unwrap();
}
