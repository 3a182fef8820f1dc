//! The Timing page: sliders, findings, the success curve, drafts, sheets; and the waits under each chain.

use super::browser::{Driver, press, signed_in, wait_for};
use super::harness::{Northmoor, Setup};
use thirtyfour::prelude::*;

const SHORT: (&str, &str) = ("from = [\"127.0.0.13\", ", "patience = { wait = \"5s\", tries = 3 }\nfrom = [\"127.0.0.13\", ");

#[tokio::test(flavor = "multi_thread")]
async fn a_wait_that_breaks_logins_is_seen_tuned_and_becomes_a_draft() {
    let world = Northmoor::with(Setup { change: &[SHORT], ..Setup::default() }).await;
    let driver = Driver::start();
    let page = signed_in(&world, &driver, "/timing?chain=watch").await;
    // Seen by mark and word, not by colour alone.
    wait_for(&page, "[data-testid=picture] [data-conflict=true]", "✕").await;
    wait_for(&page, "[data-code=approval-outlives-front]", "Logins fail").await;
    wait_for(&page, "[data-testid=knee]", "Best value").await;
    let wait = "input[aria-label='slipway.wait, as a number']";
    let field = page.query(By::Css(wait)).first().await.unwrap();
    assert_eq!(field.prop("value").await.unwrap().as_deref(), Some("5s"));
    // The slider moves by keys, and everything follows.
    let slider = page.query(By::Css("input[aria-label='timeout per try of slipway']")).first().await.unwrap();
    for _ in 0..3 {
        slider.send_keys(Key::PageUp + "").await.unwrap();
    }
    wait_for(&page, "[data-testid=findings]", "All timeouts fit").await;
    // A value that cannot be is refused in words, and nothing goes out of sight.
    field.send_keys(Key::Control + "a").await.unwrap();
    field.send_keys("soon" + Key::Enter).await.unwrap();
    wait_for(&page, "[role=alert]", "slipway.wait").await;
    assert!(slider.is_displayed().await.unwrap());
    press(&page, "Reset all").await;
    wait_for(&page, "[data-code=approval-outlives-front]", "slipway").await;
    press(&page, "Try these values").await;
    page.query(By::Css(wait)).with_value("21s").first().await.unwrap();
    wait_for(&page, "[data-testid=findings]", "All timeouts fit").await;
    press(&page, "Create draft").await;
    wait_for(&page, "[data-testid=draft-state]", "Draft, based on revision 1").await;
    wait_for(&page, ".cm-content", "wait = \"21s\", tries = 3").await;

    page.goto(format!("http://{}/timing/sheet?gateway=slipway", world.service.http)).await.unwrap();
    wait_for(&page, "[data-testid=sheet]", "5 s per try, 3 tries").await;
    page.goto(format!("http://{}/chains", world.service.http)).await.unwrap();
    wait_for(&page, "[aria-label='chain watch'] [data-testid=waits]", "1 timeout does not fit").await;
    wait_for(&page, "[aria-label='chain staff'] [data-testid=waits]", "Timeouts fit").await;
    page.quit().await.unwrap();
}
