//! The Prove page, and what it leads to, in a real browser.

use super::browser::{Driver, press, wait_for};
use super::harness::{Northmoor, Setup, code, ines};
use super::rehearsal::{login, small, world};
use std::time::Duration;
use thirtyfour::prelude::*;

async fn open(world: &Northmoor, driver: &Driver, path: &str) -> WebDriver {
    let page = driver.open().await;
    page.goto(format!("http://{}/#token={}", world.service.http, world.service.token)).await.unwrap();
    wait_for(&page, "[data-testid=line]", "Live").await;
    page.goto(format!("http://{}{path}", world.service.http)).await.unwrap();
    page
}

async fn type_into(page: &WebDriver, label: &str, text: &str) {
    let field = page.query(By::XPath(format!("//label[span[contains(., '{label}')]]//input"))).first().await.unwrap();
    field.clear().await.unwrap();
    field.send_keys(text).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rehearsal_is_run_watched_compared_and_taken_along_as_a_report() {
    let late = "[[rehearsals.logins]]\ntitle = \"late\"\npersona = \"ines\"\nname = \"ines@watch.northmoor.example\"\nvia = \"slipway\"\n\
                type = \"{password}\"\nhandset = \"approve after 3s\"\n";
    let wrong = login("never", "type = \"{password}{wrong}\"");
    let world = world(&format!("{}{wrong}", small(late))).await;
    let driver = Driver::start();
    let page = open(&world, &driver, "/prove").await;
    wait_for(&page, "[data-testid=rehearsal]", "Not run yet").await;
    press(&page, "Run").await;
    let run = wait_for(&page, "[data-testid=run]", "Running").await;
    wait_for(&page, "[data-testid=result]", "accepted: control-room").await;
    assert!(!run.text().await.unwrap().contains("late"), "it is told as it goes on");
    let run = wait_for(&page, "[data-testid=run]", "Failed").await;
    let shown = run.text().await.unwrap();
    for wanted in ["2 of 3 as expected", "cause: expected none, got code-wrong", "late", "approval", "by owner"] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    let links = run.find_all(By::Css("a[download]")).await.unwrap();
    assert_eq!(links.len(), 3);
    for (link, wanted) in links.into_iter().zip(["<h1>", "\"rehearsal\": \"small\"", "<testsuite "]) {
        let path = link.attr("href").await.unwrap().unwrap();
        let fetched =
            page.execute_async("const done = arguments[1]; fetch(arguments[0]).then((a) => a.text()).then(done)", vec![path.into()]);
        let report: String = fetched.await.unwrap().convert().unwrap();
        assert!(report.contains(wanted), "{wanted} in {report}");
    }
    let mended = world.site.replace("type = \"{password}{wrong}\"", "type = \"{password}{wrong}\"\nexpect = { cause = \"code-wrong\" }");
    // Long enough for somebody to end it.
    let mended = mended.replace("approve after 3s", "approve after 60s");
    assert_eq!(world.service.apply(&mended).await.0, 201);
    press(&page, "Run").await;
    wait_for(&page, "[data-testid=run]", "run 2").await;
    press(&page, "Stop run").await;
    wait_for(&page, "[data-testid=run]", "Stopped").await;
    wait_for(&page, "[data-testid=changes]", "late: accepted with turbine-crew → not in it").await;
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn one_login_is_tried_prompt_by_prompt_and_located_as_a_ladder() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    let page = open(&world, &driver, "/prove?tool=login&person=pell&via=lantern").await;
    type_into(&page, "Password field", "sounding-line").await;
    press(&page, "Send login").await;
    wait_for(&page, "[data-testid=tried]", "Access-Challenge").await;
    type_into(&page, "Answer to the prompt", &code("pell", 0)).await;
    press(&page, "Send answer").await;
    let tried = wait_for(&page, "[data-testid=tried]", "Access-Accept").await;
    assert!(tried.text().await.unwrap().contains("the session ends after 1 hour"));
    assert!(!page.source().await.unwrap().contains("sounding-line"), "what was typed is not kept on the page");

    page.goto(format!("http://{}/prove?tool=locate&person=odo&via=breakwater", world.service.http)).await.unwrap();
    wait_for(&page, "button[type=submit]", "Locate").await.click().await.unwrap();
    let ladder = wait_for(&page, "[data-testid=ladder]", "Failed at factor").await;
    let shown = ladder.text().await.unwrap();
    assert!(shown.contains("not-enrolled") && shown.contains("bivector factor invite") && shown.contains("not tried"), "{shown}");
    assert!(ladder.find_all(By::Css("[data-testid=rung]")).await.unwrap().len() >= 9);
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_login_inside_eap_is_tried_with_the_answer_to_its_prompt() {
    let change = [("methods = [\"pap\"]", "methods = [\"pap\", \"eap-gtc\"]")];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let driver = Driver::start();
    let page = open(&world, &driver, "/prove?tool=login&person=ines&via=breakwater").await;
    wait_for(&page, "option", "eap-gtc").await;
    page.find(By::XPath("//option[. = 'eap-gtc']")).await.unwrap().click().await.unwrap();
    type_into(&page, "Password field", "barnacle-and-buoy").await;
    type_into(&page, "Answer to the prompt inside EAP", &code("ines", 0)).await;
    press(&page, "Send login").await;
    let tried = wait_for(&page, "[data-testid=tried]", "Access-Accept").await;
    let shown = tried.text().await.unwrap();
    assert!(shown.contains("the peer answered GTC (6)"), "{shown}");
    let source = page.source().await.unwrap();
    assert!(!source.contains("barnacle-and-buoy"), "what was typed is not kept on the page");
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn failures_are_drawn_over_time_and_a_change_is_applied_only_if_its_rehearsal_passes() {
    let world = world(&small("")).await;
    world.log_in("breakwater", "ines", "barnacle-and-buoy000000").await;
    world.log_in("slipway", "ines", &ines()).await;
    let driver = Driver::start();
    let page = open(&world, &driver, "/logins?chart=6%20h").await;
    let chart = wait_for(&page, "[data-testid=failures]", "code-wrong").await;
    chart.query(By::Tag("button")).first().await.unwrap().click().await.unwrap();
    tokio::time::sleep(Duration::from_millis(300)).await;
    let rows = page.find_all(By::Css("[data-testid=login]")).await.unwrap();
    assert_eq!(rows.len(), 1, "a cause at a gateway is a filter");
    page.goto(format!("http://{}/logins?until=1000", world.service.http)).await.unwrap();
    page.query(By::XPath("//p[contains(., 'No logins match these filters')]")).first().await.unwrap();

    page.goto(format!("http://{}/site", world.service.http)).await.unwrap();
    let editor = page.query(By::Css(".cm-content")).first().await.unwrap();
    let draft = world.site.replacen("when = { group = \"control-room\" }\ngrant", "when = { group = \"control-rom\" }\ngrant", 1);
    let script = "const view = document.querySelector('.cm-content').cmTile?.view ?? document.querySelector('.cm-content').cmView.view;
                  view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: arguments[0] } })";
    editor.click().await.unwrap();
    page.execute(script, vec![draft.into()]).await.unwrap();
    let choice = page.query(By::Css("select[aria-label='Required rehearsal'] option[value=small]")).first().await.unwrap();
    choice.click().await.unwrap();
    let apply = page.query(By::XPath("//button[starts-with(normalize-space(), 'Apply')]")).first().await.unwrap();
    apply.wait_until().enabled().await.unwrap();
    apply.click().await.unwrap();
    let again = page.query(By::XPath("//button[contains(., 'Apply anyway')]")).first().await;
    if let Ok(again) = again {
        again.click().await.unwrap();
    }
    wait_for(&page, "[role=alert]", "expected none, got no-rule").await;
    assert_eq!(world.service.get("/status").await["revision"], 2, "the active site is unchanged");
    page.quit().await.unwrap();
}
