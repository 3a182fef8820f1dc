//! One injected fault each: `locate` must name the layer, with cause and remedy, and show every layer behind it as good.

use super::harness::{Northmoor, Setup, code, gateway, http_client, ines, text};
use bivector_lab::handset::RobotHandset;
use bivector_wire::SharedSecret;
use serde_json::{Value, json};
use std::net::IpAddr;

/// Climbs the ladder.
async fn locate(world: &Northmoor, person: &str, via: &str, typed: Option<&str>) -> Value {
    by(world, json!({ "person": person, "via": via, "password": typed })).await
}

async fn by(world: &Northmoor, request: Value) -> Value {
    let (status, ladder) = world.service.call("POST", "/locate", Some(request)).await;
    assert_eq!(status, 200, "{ladder}");
    let rungs = ladder["rungs"].as_array().unwrap();
    if let Some((last, before)) = rungs.split_last() {
        assert!(before.iter().all(|rung| rung["state"] != "bad"), "only the last rung is broken: {ladder:#}");
        assert_eq!(ladder["broken"].is_string(), last["state"] == "bad", "{ladder:#}");
    }
    ladder
}

/// The broken layer, its cause, and what was said with its remedy.
fn broken(ladder: &Value) -> (String, String, String) {
    let last = ladder["rungs"].as_array().unwrap().last().unwrap();
    let said = format!("{} / {}", last["said"].as_str().unwrap(), last["remedy"].as_str().unwrap_or_default());
    let word = |value: &Value| value.as_str().unwrap_or("none").to_owned();
    (word(&ladder["broken"]), word(&last["cause"]), said)
}

async fn changed(change: &[(&str, &str)]) -> Northmoor {
    Northmoor::with(Setup { change, ..Setup::default() }).await
}

fn assert_broken(ladder: &Value, layer: &str, cause: &str, says: &str) {
    let (seen, because, said) = broken(ladder);
    assert!((seen.as_str(), because.as_str()) == (layer, cause) && said.contains(says), "{seen} {because}: {said}\n{ladder:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_broken() {
    let world = Northmoor::start().await;
    world.log_in("breakwater", "ines", &ines()).await;
    let typed = format!("barnacle-and-buoy{}", code("ines", 1));
    let ladder = locate(&world, "NORTHMOOR\\Ines", "breakwater", Some(&typed)).await;
    assert_eq!(broken(&ladder).0, "none", "{ladder:#}");
    let layers: Vec<&str> = ladder["rungs"].as_array().unwrap().iter().map(|rung| rung["layer"].as_str().unwrap()).collect();
    let wanted = "chain name connection tls account base person groups password factor clock rule grant method secret sender door waits";
    assert_eq!(layers.join(" "), wanted);
    assert_eq!(world.log_in("breakwater", "ines", &typed).await.0, "accept", "locating uses no code up");
    let output = world.service.cli_with_input(&["locate", "ines", "--via", "breakwater", "--password-file", "-"], "barnacle-and-buoy");
    assert!(output.status.success() && text(&output.stdout).contains("no problem found"), "{}", text(&output.stdout));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_does_not_resolve() {
    let world = Northmoor::start().await;
    let servers = world.site.lines().find(|line| line.starts_with("servers = [\"ldaps")).unwrap().to_owned();
    let site = world.site.replacen(&servers, "servers = [\"ldaps://tidehall.invalid\"]", 1);
    assert_eq!(world.service.apply(&site).await.0, 201);
    assert_broken(&locate(&world, "ines", "breakwater", None).await, "name", "source-name-unresolved", "tidehall.invalid");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_closed_port() {
    let mut world = Northmoor::start().await;
    world.directories.remove(0).stop().await;
    let ladder = locate(&world, "ines", "breakwater", None).await;
    let warned = ladder["rungs"].as_array().unwrap().iter().any(|rung| rung["layer"] == "connection" && rung["state"] == "warn");
    assert!(warned && ladder["broken"].is_null(), "one of two servers is enough, but told: {ladder:#}");
    world.directories.remove(0).stop().await;
    assert_broken(&locate(&world, "ines", "breakwater", None).await, "connection", "source-unreachable", "refused");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_of_another_issuer() {
    let world = Northmoor::start().await;
    let other = bivector_lab::certificates::LabIssuer::new("another issuer").unwrap();
    std::fs::write(world.service.data.join("tidehall-ca.pem"), other.pem()).unwrap();
    let site = world.site.replacen("# VPN for staff", "# VPN", 1);
    assert_eq!(world.service.apply(&site).await.0, 201);
    assert_broken(&locate(&world, "ines", "breakwater", None).await, "tls", "source-tls-untrusted", "issuer");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_account_that_is_refused() {
    let world = Northmoor::start().await;
    world.service.seal("directory/tidehall", "not-the-password").await;
    assert_broken(&locate(&world, "ines", "breakwater", None).await, "account", "source-reader-refused", "reader");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_base_that_is_not_there() {
    let world = changed(&[("base = \"ou=people,dc=northmoor", "base = \"ou=crew,dc=northmoor")]).await;
    assert_broken(
        &locate(&world, "ines", "breakwater", None).await,
        "base",
        "source-base-missing",
        "nearest existing entry is dc=northmoor",
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_naming_attribute_that_nobody_has() {
    let world =
        changed(&[("login = \"uid\"", "login = \"employeeNumber\""), ("first = [\"tidehall\", \"roster\"]", "first = [\"tidehall\"]")])
            .await;
    assert_broken(
        &locate(&world, "ines", "breakwater", None).await,
        "person",
        "person-unknown",
        "set `login = [\"employeeNumber\", \"uid\"]`",
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_outside_of_the_scope() {
    let world = changed(&[
        ("base = \"ou=people,dc=northmoor,dc=example\"", "base = \"dc=northmoor,dc=example\"\nscope = \"one-level\""),
        ("first = [\"tidehall\", \"roster\"]", "first = [\"tidehall\"]"),
    ])
    .await;
    assert_broken(&locate(&world, "ines", "breakwater", None).await, "person", "person-unknown", "scope = \"subtree\"");
    let beside = changed(&[
        ("base = \"ou=people,dc=northmoor,dc=example\"", "base = \"ou=services,dc=northmoor,dc=example\""),
        ("first = [\"tidehall\", \"roster\"]", "first = [\"tidehall\"]"),
    ])
    .await;
    assert_broken(&locate(&beside, "ines", "breakwater", None).await, "person", "person-unknown", "above ou=people");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_password() {
    let world = Northmoor::start().await;
    assert_broken(&locate(&world, "ines", "breakwater", Some("kelp")).await, "password", "password-wrong", "tidehall rejected it");
    assert_eq!(world.directories[0].guesses("ines") + world.directories[1].guesses("ines"), 1, "one guess");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_locked_account() {
    let world = Northmoor::start().await;
    assert_broken(&locate(&world, "ravi", "lantern", Some("anchor-watch")).await, "password", "account-locked", "unlock");
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_is_not_enrolled() {
    let world = Northmoor::start().await;
    assert_broken(&locate(&world, "odo", "breakwater", Some("new-moon-spring")).await, "factor", "not-enrolled", "factor invite");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_code_and_a_lock() {
    let world = Northmoor::start().await;
    assert_broken(
        &locate(&world, "ines", "breakwater", Some("barnacle-and-buoy000000")).await,
        "factor",
        "code-wrong",
        "the code matches no device of this person",
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_is_off() {
    let world = Northmoor::start().await;
    let typed = format!("barnacle-and-buoy{}", code("ines", -20));
    assert_broken(&locate(&world, "ines", "breakwater", Some(&typed)).await, "clock", "code-drifted", "old, outside the accepted window");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_silent_handset() {
    for (wake, layer) in [("wake = []", "handset"), ("wake = [\"push\"]", "push")] {
        let world = changed(&[("shows_code = true", "confirmed_by = \"invitation\""), ("wake = [\"push\", \"pager\"]", wake)]).await;
        let (status, made) = world.service.call("POST", "/people/tidehall/ines/invitation", Some(json!({ "factor": "approval" }))).await;
        assert_eq!(status, 201, "{made}");
        let server = format!("http://{}", world.service.http);
        RobotHandset::enrol(&http_client(), &server, made["code"].as_str().unwrap(), "phone").await.unwrap();
        let ladder = locate(&world, "ines@watch.northmoor.example", "slipway", Some("barnacle-and-buoy")).await;
        assert_broken(&ladder, layer, "approval-unanswered", "open the handset page");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dead_courier() {
    let world = changed(&[
        ("second = [\"totp\", \"recovery\", \"temporary\", \"pager\", \"post\"]", "second = [\"pager\"]"),
        ("words = { pager = [\"sms\", \"text\"], post = \"mail\" }", "words = { pager = [\"sms\", \"text\"] }"),
        ("http://127.0.0.1:18480/messages", "http://127.0.0.1:9/messages"),
        (
            "forms = [\"password code(6)\", \"password ' ' factor\", \"password\"]\nfirst = [\"tidehall\"]\nsecond",
            "forms = [\"password ' ' factor\", \"password\"]\nfirst = [\"tidehall\"]\nsecond",
        ),
    ])
    .await;
    assert_broken(&locate(&world, "pell", "lantern", Some("sounding-line")).await, "courier", "courier-failed", "127.0.0.1 port 9");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_missing_rule() {
    let world = Northmoor::start().await;
    assert_broken(&locate(&world, "pell", "breakwater", Some("sounding-line")).await, "rule", "no-rule", "survey-contractors");
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_in_the_wrong_order() {
    let world = Northmoor::start().await;
    assert_broken(&locate(&world, "noor", "breakwater", Some("kelp-forest")).await, "rule", "rule-refused", "move `turbine crew` before");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_secret() {
    let world = Northmoor::start().await;
    let mut device = gateway("breakwater", world.radius);
    device.secret = SharedSecret::new(b"breakwater-Kq7vX2mTz9 ");
    device.patience = bivector_exchange::Patience { wait: std::time::Duration::from_millis(300), tries: 1 };
    let (_, local) = device.log_in("ines", &ines()).await.unwrap();
    world.service.trace_from(local).await;
    assert_broken(&locate(&world, "ines", "breakwater", None).await, "secret", "secret-differs", "stray space");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sender_that_is_not_registered() {
    let world = Northmoor::start().await;
    let mut device = gateway("breakwater", world.radius);
    (device.from, device.patience) =
        (IpAddr::from([127, 0, 0, 99]), bivector_exchange::Patience { wait: std::time::Duration::from_millis(300), tries: 1 });
    device.log_in("ines", &ines()).await.unwrap();
    for _ in 0..100 {
        if !world.service.get("/knocks").await.as_array().unwrap().is_empty() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    let ladder = locate(&world, "ines", "breakwater", None).await;
    assert_broken(&ladder, "sender", "gateway-unknown", "bivector gateway register 127.0.0.99 --as breakwater");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_method_that_is_not_allowed() {
    let world = Northmoor::start().await;
    let asked = json!({ "person": "ines", "via": "breakwater", "method": "ms-chap-v2" });
    assert_broken(&by(&world, asked).await, "method", "method-not-in-chain", "does not accept an MS-CHAPv2 login; it accepts pap");
    let request = bivector_exchange::Request::chap("ines", b"barnacle-and-buoy").unwrap();
    let device = gateway("breakwater", world.radius);
    let (_, local) = device.send(&device.sign(request)).await.unwrap();
    world.service.trace_from(local).await;
    assert_broken(&locate(&world, "ines", "breakwater", None).await, "method", "method-not-in-chain", "methods");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wait_that_is_too_short() {
    let world = changed(&[("patience = { wait = \"5s\", tries = 3 }", "patience = { wait = \"1s\", tries = 1 }")]).await;
    let ladder = locate(&world, "ines", "breakwater", None).await;
    let (layer, _, said) = broken(&ladder);
    assert!(layer == "waits" && said.contains("1 × 1.0 s") && said.contains("wait 6 s or more"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_door_that_the_gateway_cannot_reach() {
    let world = Northmoor::start().await;
    let outside = world.site.replacen("from = [\"127.0.0.11\", ", "from = [", 1);
    assert_eq!(world.service.apply(&outside).await.0, 201);
    let ladder = locate(&world, "ines", "breakwater", None).await;
    let (layer, _, said) = broken(&ladder);
    assert!(layer == "door" && said.contains("192.0.2.10") && said.contains("listen on an address"), "{said}");
    let by_port = world.site.replacen("name = \"staff\"\ngateways", "name = \"staff\"\nports = [\"1999\"]\ngateways", 1);
    assert_eq!(world.service.apply(&by_port).await.0, 201);
    let (layer, _, said) = broken(&locate(&world, "ines", "breakwater", None).await);
    assert!(layer == "door" && said.contains("1999"), "{said}");
}
