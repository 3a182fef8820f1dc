//! The console in a real browser, served by the service.

use super::browser::{Driver, press, signed_in, wait_for};
use super::harness::{Northmoor, ines};
use bivector_exchange::Patience;
use std::net::IpAddr;
use std::time::Duration;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_login_appears_live_and_opens_as_a_waterfall_with_its_cause() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    let page = driver.open().await;
    page.goto(format!("http://{}/#token={}", world.service.http, world.service.token)).await.unwrap();
    wait_for(&page, "[data-testid=line]", "Live").await;
    assert!(!page.current_url().await.unwrap().as_str().contains("token"), "the token is taken out of the address");
    assert!(page.find_all(By::Css("[data-testid=login]")).await.unwrap().is_empty());

    let typed = ines();
    world.log_in("breakwater", "NORTHMOOR\\ines", &typed).await;
    let (_, trace) = world.log_in("slipway", "ines", &typed).await;
    let reference = trace["reference"].as_str().unwrap();
    let row = page.query(By::Css(format!("[data-reference='{reference}']"))).first().await.unwrap();
    let shown = row.text().await.unwrap();
    assert!(shown.contains("ines") && shown.contains("slipway") && shown.contains("refused") && shown.contains("code-used"), "{shown}");
    assert_eq!(page.find_all(By::Css("[data-testid=login]")).await.unwrap().len(), 2, "both came without a reload");

    row.click().await.unwrap();
    let panel = wait_for(&page, "[data-testid=trace]", "already been used").await;
    let shown = panel.text().await.unwrap();
    for wanted in [reference, "code-used", "Remedy", "tidehall:ines", "find person", "tidehall accepted the password", "Site file, line"] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    assert!(panel.find_all(By::Css("[data-testid=step]")).await.unwrap().len() >= 7);

    page.goto(format!("http://{}/logins?outcome=accepted", world.service.http)).await.unwrap();
    wait_for(&page, "[data-testid=login]", "control-room").await;
    assert_eq!(page.find_all(By::Css("[data-testid=login]")).await.unwrap().len(), 1, "a filter in the address is kept");
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_token_the_console_asks_for_one_and_says_what_is_wrong_with_another() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    let page = driver.open().await;
    page.goto(format!("http://{}/", world.service.http)).await.unwrap();
    let field = page.query(By::Id("token")).first().await.unwrap();
    field.send_keys("bvt_wrong").await.unwrap();
    page.query(By::Css("button[type=submit]")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[role=alert]", "unknown token").await;
    field.clear().await.unwrap();
    field.send_keys(&world.service.token).await.unwrap();
    page.query(By::Css("button[type=submit]")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[data-testid=line]", "Live").await;
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn filters_keyboard_and_night_work_without_one_breach_of_the_pages_policy() {
    let world = Northmoor::start().await;
    world.log_in("breakwater", "ines", &ines()).await;
    world.log_in("slipway", "tomasz", "wrong").await;
    let (_, lantern) = world.log_in("lantern", "nobody", "wrong").await;
    let driver = Driver::start();
    let page = driver.open().await;
    let watch = "window.breaches = []; document.addEventListener('securitypolicyviolation', (e) => window.breaches.push(`${e.violatedDirective} ${e.blockedURI}`))";
    page.cdp().send_raw("Page.addScriptToEvaluateOnNewDocument", serde_json::json!({ "source": watch })).await.unwrap();
    page.goto(format!("http://{}/#token={}", world.service.http, world.service.token)).await.unwrap();
    let rows = async |wanted: usize| {
        for _ in 0..200 {
            let rows = page.find_all(By::Css("[data-testid=login]")).await.unwrap();
            if rows.len() == wanted {
                return rows;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("there are not {wanted} rows");
    };
    rows(3).await;
    page.find(By::Css("input[type=search]")).await.unwrap().send_keys("toma").await.unwrap();
    let text = rows(1).await[0].text().await.unwrap();
    assert!(text.contains("tomasz") && text.contains("password-wrong"), "{text}");
    page.find(By::Css("input[type=search]")).await.unwrap().send_keys(Key::Control + "a".to_owned()).await.unwrap();
    page.find(By::Css("input[type=search]")).await.unwrap().send_keys(Key::Backspace + String::new()).await.unwrap();
    rows(3).await;

    page.find(By::Css("button[aria-label=Outcome]")).await.unwrap().click().await.unwrap();
    wait_for(&page, "[role=option]", "accepted").await.click().await.unwrap();
    assert!(rows(1).await[0].text().await.unwrap().contains("control-room"));
    assert!(page.current_url().await.unwrap().query().unwrap_or_default().contains("outcome=accepted"));
    press(&page, "Clear filters").await;

    let first = rows(3).await.remove(0);
    first.focus().await.unwrap();
    first.send_keys(Key::Down + String::new()).await.unwrap();
    page.active_element().await.unwrap().send_keys(Key::Up + String::new()).await.unwrap();
    page.active_element().await.unwrap().send_keys(Key::Enter + String::new()).await.unwrap();
    let panel = wait_for(&page, "[data-testid=trace]", "person-unknown").await;
    assert!(panel.text().await.unwrap().contains(lantern["reference"].as_str().unwrap()));
    page.active_element().await.unwrap().send_keys(Key::Escape + String::new()).await.unwrap();
    page.query(By::Css("[data-testid=trace]")).not_exists().await.unwrap();

    let look = async || {
        page.execute("return [document.documentElement.dataset.theme, getComputedStyle(document.documentElement).backgroundColor]", vec![])
            .await
            .unwrap()
            .json()
            .clone()
    };
    let by_day = look().await;
    page.query(By::Css("header button")).first().await.unwrap().click().await.unwrap();
    let by_night = look().await;
    assert!(by_day[0] != by_night[0] && by_day[1] != by_night[1], "{by_day} and {by_night}");
    let breaches = page.execute("return window.breaches", vec![]).await.unwrap();
    assert_eq!(breaches.json(), &serde_json::json!([]));
    page.quit().await.unwrap();
}

/// Types over the whole site file.
async fn write(page: &WebDriver, text: &str) {
    let editor = page.query(By::Css(".cm-content")).first().await.unwrap();
    editor.click().await.unwrap();
    editor.send_keys(Key::Control + "a").await.unwrap();
    // As a paste: typing would close brackets and indent by itself.
    let script = "const e = document.querySelector('.cm-content'); const d = new DataTransfer(); d.setData('text/plain', arguments[0]); e.dispatchEvent(new ClipboardEvent('paste', { clipboardData: d, bubbles: true, cancelable: true }));";
    page.execute(script, vec![serde_json::json!(text)]).await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_lights_of_a_chain_follow_by_themselves_and_open_on_their_reason() {
    let mut world = Northmoor::start().await;
    let driver = Driver::start();
    let page = signed_in(&world, &driver, "/chains").await;
    wait_for(&page, "[data-testid=line]", "Live").await;
    page.query(By::Css("[data-hop=tidehall][data-state=good]")).first().await.unwrap();
    assert_eq!(page.find_all(By::Css("[data-testid=chain]")).await.unwrap().len(), 5);
    world.directories.remove(0).stop().await;
    let light = page.query(By::Css("[aria-label='chain staff'] [data-hop=tidehall][data-state=warn]")).first().await.unwrap();
    light.click().await.unwrap();
    let panel = wait_for(&page, "[data-testid=hop-panel]", "connection refused").await;
    let shown = panel.text().await.unwrap();
    for wanted in ["source-unreachable", "Remedy", "since", "answered"] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    page.query(By::Css("input[aria-label='User to look up']")).first().await.unwrap().send_keys("ines").await.unwrap();
    press(&page, "Run all checks").await;
    let proved = wait_for(&page, "[data-testid=probe]", "ines is uid=ines").await.text().await.unwrap();
    assert!(proved.contains("account") && proved.contains("control-room"), "{proved}");
    world.log_in("breakwater", "ines", &ines()).await;
    wait_for(&page, "[aria-label='chain staff']", "1 accepted").await;
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_site_is_edited_checked_at_its_lines_compared_applied_and_restored_in_the_browser() {
    let world = Northmoor::start().await;
    let driver = Driver::start();
    let page = signed_in(&world, &driver, "/site").await;
    wait_for(&page, "[data-testid=draft-state]", "Revision 1 (active)").await;
    write(&page, &world.site.replacen("secret = \"gateway/lantern\"", "secret = \"gateway/lanten\"", 1)).await;
    let findings = wait_for(&page, "[data-testid=findings]", "did you mean `gateway/lantern`?").await;
    assert!(findings.text().await.unwrap().contains("secret-not-sealed"));
    page.query(By::Css("[data-testid=findings] button")).first().await.unwrap().click().await.unwrap();
    page.query(By::Css(".cm-lint-marker-error")).first().await.unwrap();
    // A draft outlives the page that it was written on.
    page.refresh().await.unwrap();
    wait_for(&page, "[data-testid=findings]", "secret-not-sealed").await;
    let weaker = world.site.replacen("second = [\"totp\"]", "second = []", 1).replacen(
        "forms = [\"password code(6)\", \"password\"]",
        "forms = [\"password\"]",
        1,
    );
    write(&page, &weaker).await;
    press(&page, "Changes").await;
    let changes = wait_for(&page, "[data-testid=changes]", "Weaker: the second factor is no longer asked for").await;
    assert!(changes.text().await.unwrap().contains("+second = []"));
    press(&page, "Apply").await;
    wait_for(&page, "[role=alert]", "this change weakens authentication").await;
    assert_eq!(world.service.get("/status").await["revision"], 1);
    press(&page, "Apply anyway").await;
    wait_for(&page, "[data-testid=draft-state]", "Revision 2 (active)").await;
    press(&page, "History").await;
    wait_for(&page, "[data-testid=history]", "Active").await;
    page.query(By::XPath("(//*[@data-testid='history']//button)[2]")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[data-testid=changes]", "a second factor is asked for now").await;
    press(&page, "Restore revision 1").await;
    wait_for(&page, "[data-testid=draft-state]", "Revision 3 (active)").await;
    page.execute("document.querySelector('.cm-scroller').scrollTop = 0", vec![]).await.unwrap();
    wait_for(&page, ".cm-content", "Northmoor Tidal").await;
    assert_eq!(world.service.get("/status").await["revision"], 3);
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_that_waits_is_seen_on_every_page_and_confirmed_there_and_a_code_signs_in() {
    let world = Northmoor::start().await;
    let made = world.service.cli_with_input(&["operator", "sign-in", "owner", "--password-file", "-"], "slack-water-at-six\n");
    let seed = String::from_utf8(made.stdout).unwrap().lines().next().unwrap().to_owned();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("site.toml");
    std::fs::write(&path, world.site.replacen("# VPN for staff", "# the VPN", 1)).unwrap();
    world.service.run(&["site", "apply", path.to_str().unwrap(), "--confirm-within", "1h"]);
    let driver = Driver::start();
    let page = driver.open().await;
    page.goto(format!("http://{}/logins", world.service.http)).await.unwrap();
    press(&page, "Use a password and code instead").await;
    for (field, text) in [("name", "owner"), ("password", "slack-water-at-six"), ("code", super::harness::code_of(&seed).as_str())] {
        page.query(By::Id(field)).first().await.unwrap().send_keys(text).await.unwrap();
    }
    press(&page, "Sign in").await;
    wait_for(&page, "[data-testid=confirm]", "Revision 2 is rolled back to 1 in 60 min").await;
    press(&page, "Confirm").await;
    page.query(By::Css("[data-testid=confirm]")).not_exists().await.unwrap();
    assert!(world.service.get("/status").await["confirm"].is_null());
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_locked_person_is_released_a_device_reset_and_a_text_read_without_being_shown() {
    let change = [("[[identity]]", "[factors.lockout]\nafter = 2\n[[identity]]")];
    let world = Northmoor::with(super::harness::Setup { change: &change, ..Default::default() }).await;
    world.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", super::harness::code("ines", 1))).await;
    for _ in 0..2 {
        world.log_in("breakwater", "yuki", "swell204813000000").await;
    }
    let driver = Driver::start();
    let page = signed_in(&world, &driver, "/people").await;
    wait_for(&page, "[data-person='tidehall:yuki']", "Codes locked").await.click().await.unwrap();
    wait_for(&page, "[data-testid=lock]", "2 of 2 wrong codes in a row behind a right password, the last through breakwater").await;
    press(&page, "Unlock").await;
    wait_for(&page, "[role=alertdialog]", "make sure you know who typed them").await;
    press(&page, "Unlock").await;
    page.query(By::Css("[data-testid=lock]")).not_exists().await.unwrap();
    assert_eq!(world.log_in("breakwater", "yuki", &format!("swell204813{}", super::harness::code("yuki", 0))).await.0, "accept");

    page.query(By::Css("[data-person='tidehall:ines']")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[data-testid=factor]", "clock 30 s early").await;
    press(&page, "Reset clock").await;
    press(&page, "Cancel").await;
    press(&page, "Reset clock").await;
    wait_for(&page, "[role=alertdialog]", "Clears the learned clock drift").await;
    press(&page, "Reset clock").await;
    wait_for(&page, "[data-testid=factor]", "Clock accurate").await;
    page.query(By::Css("input[type=search]")).first().await.unwrap().send_keys("finch").await.unwrap();
    wait_for(&page, "[data-testid=person]", "Sable Finch").await;

    page.goto(format!("http://{}/chains", world.service.http)).await.unwrap();
    page.query(By::Css("[aria-label='chain contractors'] [data-hop=northmoor-names]")).first().await.unwrap().click().await.unwrap();
    page.query(By::Css("input[aria-label='Password field input']")).first().await.unwrap().send_keys("sounding-line sms").await.unwrap();
    press(&page, "Parse").await;
    let shown = wait_for(&page, "[data-testid=readings]", "it contains a factor word of the chain").await.text().await.unwrap();
    assert!(shown.contains("17 characters") && shown.contains("13") && !shown.contains("sounding"), "{shown}");
    let left = page.query(By::Css("input[aria-label='Password field input']")).first().await.unwrap().prop("value").await.unwrap();
    assert_eq!(left.as_deref(), Some(""), "what was typed is gone once it was read");
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_first_site_is_begun_from_the_example_of_the_readme() {
    let example = include_str!("../../../../docs/first-site.toml");
    let readme: String =
        include_str!("../../../../README.md").lines().map(|line| format!("{}\n", line.strip_prefix("   ").unwrap_or(line))).collect();
    assert!(readme.contains(example), "the README shows docs/first-site.toml as it is");
    let service = super::harness::Service::start();
    let check = service.cli_with_input(&["site", "check", "--offline", "-"], example);
    assert!(check.status.success() && super::harness::text(&check.stdout).contains("valid"), "{}", super::harness::text(&check.stdout));

    let driver = Driver::start();
    let page = driver.open().await;
    page.goto(format!("http://{}/site#token={}", service.http, service.token)).await.unwrap();
    press(&page, "Start from an example").await;
    wait_for(&page, ".cm-content", "Northmoor Tidal").await;
    let findings = wait_for(&page, "[data-testid=findings]", "secret-not-sealed").await.text().await.unwrap();
    assert!(!findings.contains("unknown-key") && !findings.contains("missing-key"), "{findings}");
    let link = page.query(By::Css("a[href='/api/v1/site/reference']")).first().await.unwrap();
    let path = link.attr("href").await.unwrap().unwrap();
    let script = "const done = arguments[1]; fetch(arguments[0]).then((a) => a.text()).then(done)";
    let reference: String = page.execute_async(script, vec![path.into()]).await.unwrap().convert().unwrap();
    assert!(reference.starts_with("# The site file") && reference.contains("| `when_unclear` |"), "{reference}");
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn dropped_packets_are_listed_with_the_command_that_registers_a_moved_gateway() {
    let world = Northmoor::start().await;
    let mut moved = world.gateway("slipway");
    moved.from = "127.0.0.77".parse().unwrap();
    moved.patience.wait = Duration::from_millis(200);
    moved.log_in("ines", &ines()).await.unwrap();
    let driver = Driver::start();
    let page = signed_in(&world, &driver, "/logins").await;
    wait_for(&page, "[data-testid=knock-line]", "127.0.0.77").await;
    press(&page, "Show dropped packets").await;
    let shown = wait_for(&page, "[data-testid=knocks]", "gateway-unknown").await.text().await.unwrap();
    // Many strangers cause few fetches, and the last of them is listed too.
    let fetches = "return performance.getEntriesByType('resource').filter((one) => one.name.endsWith('/knocks')).length";
    let fetches = async || page.execute(fetches, vec![]).await.unwrap().json().as_u64().unwrap();
    let before = fetches().await;
    for stranger in 100..140 {
        moved.from = IpAddr::from([127, 0, 0, stranger]);
        moved.patience = Patience { wait: Duration::from_millis(20), tries: 1 };
        moved.log_in("ines", &ines()).await.unwrap();
    }
    wait_for(&page, "[data-testid=knocks]", "127.0.0.139").await;
    let caused = fetches().await - before;
    assert!((1..=4).contains(&caused), "{caused} fetches for 40 dropped packets");
    let command = "gateway register 127.0.0.77 --as slipway";
    assert!(shown.contains(command), "{shown}");
    assert!(
        world.service.run(&command.split(' ').collect::<Vec<_>>()).contains("revision 2 is active"),
        "the command works as it is shown"
    );
    press(&page, "Show logins").await;
    page.query(By::Css("[data-testid=knocks]")).not_exists().await.unwrap();
    page.quit().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_generated_rehearsal_is_added_to_the_draft_that_is_there() {
    let world = super::rehearsal::world("").await;
    let driver = Driver::start();
    let page = signed_in(&world, &driver, "/prove").await;
    page.query(By::Css("button[aria-label=Chain]")).first().await.unwrap().click().await.unwrap();
    wait_for(&page, "[role=option]", "staff").await.click().await.unwrap();
    press(&page, "Generate").await;
    wait_for(&page, "[data-testid=starter]", "[[rehearsals]]").await;
    let own = serde_json::json!({ "text": format!("{}\n# mine\n", world.site), "from": 2 }).to_string();
    page.execute("localStorage.setItem('bivector-draft', arguments[0])", vec![own.into()]).await.unwrap();
    press(&page, "Add to draft").await;
    wait_for(&page, "[data-testid=draft-state]", "Draft, based on revision 2").await;
    let kept = page.execute("return JSON.parse(localStorage.getItem('bivector-draft')).text", vec![]).await.unwrap();
    let kept = kept.json().as_str().unwrap();
    assert!(
        kept.contains("# mine") && kept.split("# mine").nth(1).unwrap().contains("[[rehearsals]]"),
        "nothing of the draft is lost: {kept}"
    );
    assert_eq!(world.service.get("/status").await["revision"], 2, "nothing is applied");
    page.quit().await.unwrap();
}
