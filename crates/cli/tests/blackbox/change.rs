//! Changes one can take back: compared in words, stopped when they weaken, confirmed or gone; secrets with two values.

use super::harness::{Northmoor, Service, free_udp_port, ines, outcome, text};
use serde_json::json;
use std::time::Duration;

const WEAKER: [(&str, &str); 2] =
    [("second = [\"totp\"]", "second = []"), ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]")];

fn weaker(world: &Northmoor) -> String {
    WEAKER.iter().fold(world.site.clone(), |site, (from, to)| site.replacen(from, to, 1))
}

fn file(folder: &tempfile::TempDir, name: &str, text: &str) -> String {
    let path = folder.path().join(name);
    std::fs::write(&path, text).unwrap();
    path.to_str().unwrap().to_owned()
}

async fn revision(service: &Service) -> u64 {
    service.get("/status").await["revision"].as_u64().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_told_in_words_and_one_that_weakens_needs_the_word() {
    let (world, folder) = (Northmoor::start().await, tempfile::tempdir().unwrap());
    let path = file(&folder, "weaker.toml", &weaker(&world));
    let compared = world.service.run(&["site", "compare", &path, "--lines"]);
    for part in ["chain staff", "weaker: the second factor is no longer asked for", "forms: removed password code(6)", "+second = []"] {
        assert!(compared.contains(part), "{part}: {compared}");
    }
    let refused = world.service.cli(&["site", "apply", &path]);
    let shown = format!("{}{}", text(&refused.stdout), text(&refused.stderr));
    assert!(refused.status.code() == Some(1) && shown.contains("no longer asked for") && shown.contains("--weaker-is-meant"), "{shown}");
    assert_eq!(revision(&world.service).await, 1, "nothing was changed");
    assert!(world.service.run(&["site", "apply", &path, "--weaker-is-meant"]).contains("revision 2 is active"));
    assert!(world.service.run(&["audit", "list"]).contains("weaker and meant so"));
    assert!(world.service.run(&["site", "compare", "--revision", "1"]).contains("a second factor is asked for now"));
    // Back to what is stronger needs no word, and to what is weaker does.
    assert!(world.service.run(&["site", "restore", "1"]).contains("revision 3 is active"));
    assert_eq!(world.service.cli(&["site", "restore", "2"]).status.code(), Some(1));
    assert!(world.service.run(&["site", "compare", "--revision", "1"]).contains("no differences from revision 3"));
    assert_eq!(world.service.cli(&["site", "compare", &file(&folder, "broken.toml", "format = 2")]).status.code(), Some(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_that_nobody_confirms_goes_back_by_itself_even_over_a_restart() {
    let (world, folder) = (Northmoor::start().await, tempfile::tempdir().unwrap());
    let other = file(&folder, "other.toml", &world.site.replacen("\"127.0.0.11\", ", "", 1));
    let applied = world.service.run(&["site", "apply", &other, "--confirm-within", "10s", "--note", "narrower"]);
    assert!(applied.contains("revision 2 is active") && applied.contains("is rolled back"), "{applied}");
    assert_eq!(world.service.get("/status").await["confirm"]["back_to"], 1);
    let meanwhile = world.service.cli(&["site", "apply", &other]);
    assert!(text(&meanwhile.stderr).contains("is awaiting confirmation"), "{}", text(&meanwhile.stderr));
    let Northmoor { service, directories, .. } = world;
    let (data, _folder) = service.kill();
    let service = Service::start_in(&data, &[]);
    assert_eq!(revision(&service).await, 2);
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while revision(&service).await != 3 && std::time::Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let history = service.run(&["site", "history"]);
    assert!(history.contains("back to revision 1: nobody confirmed revision 2"), "{history}");
    assert!(service.run(&["audit", "list"]).contains("site.go-back"));
    assert!(service.get("/status").await["confirm"].is_null());
    assert!(service.run(&["site", "export"]).contains("\"127.0.0.11\", "));
    drop(directories);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_confirmed_change_stays_and_one_that_waits_can_be_taken_back_at_once() {
    let (world, folder) = (Northmoor::start().await, tempfile::tempdir().unwrap());
    let weaker = file(&folder, "weaker.toml", &weaker(&world));
    world.service.run(&["site", "apply", &weaker, "--weaker-is-meant", "--confirm-within", "1h"]);
    assert!(world.service.run(&["site", "confirm"]).contains("revision 2 is confirmed"));
    assert_eq!(world.service.cli(&["site", "confirm"]).status.code(), Some(1), "nothing waits any more");
    let first = file(&folder, "first.toml", &world.site);
    world.service.run(&["site", "apply", &first, "--confirm-within", "1h"]);
    assert!(world.service.run(&["site", "restore", "2"]).contains("revision 4 is active"), "what one goes back to needs no word");
    assert!(world.service.get("/status").await["confirm"].is_null());
    assert_eq!(world.service.cli(&["site", "apply", &first, "--confirm-within", "5s"]).status.code(), Some(1), "too short to act on");
    assert_eq!(world.service.cli(&["site", "apply", &first, "--confirm-within", "soon"]).status.code(), Some(2));
}

#[tokio::test(flavor = "multi_thread")]
async fn while_a_secret_changes_over_both_values_count_and_who_uses_the_old_one_is_known() {
    let world = Northmoor::start().await;
    let service = &world.service;
    let next = service.run(&["secret", "rotate", "gateway/breakwater"]).lines().next().unwrap().to_owned();
    let mut breakwater = world.gateway("breakwater");
    assert_eq!(outcome(&breakwater.log_in("ines", "wrong").await.unwrap().0), "reject", "the old one still counts");
    assert!(service.run(&["secret", "list"]).contains("uses the old value"));
    let early = service.cli(&["secret", "retire", "gateway/breakwater"]);
    assert!(early.status.code() == Some(1) && text(&early.stderr).contains("still in use: breakwater"), "{}", text(&early.stderr));
    breakwater.secret = bivector_wire::SharedSecret::new(next.as_bytes());
    let (exchange, _) = breakwater.log_in("ines", &ines()).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "the reply proves itself with the new one");
    assert!(service.run(&["secret", "list"]).contains("uses the new value"));
    service.run(&["secret", "retire", "gateway/breakwater"]);
    assert_eq!(outcome(&breakwater.log_in("ines", "wrong").await.unwrap().0), "reject");
    let mut old = world.gateway("breakwater");
    old.patience.wait = Duration::from_millis(300);
    assert_eq!(outcome(&old.log_in("ines", "wrong").await.unwrap().0), "silent", "the old one is over");
    for (arguments, part) in [
        (&["secret", "forget", "gateway/breakwater"][..], "is used by the active site"),
        (&["secret", "forget", "gateway/nobody"], "no secret is sealed"),
        (&["secret", "rotate", "directory/tidehall"], "no gateway of the active site uses"),
        (&["secret", "retire", "gateway/breakwater"], "no rotation of"),
    ] {
        let output = service.cli(arguments);
        assert!(output.status.code() == Some(1) && text(&output.stderr).contains(part), "{arguments:?}: {}", text(&output.stderr));
    }
    service.seal("gateway/unused", "some-old-value").await;
    service.run(&["secret", "forget", "gateway/unused"]);
    assert!(!service.run(&["secret", "list"]).contains("gateway/unused"));
}

#[tokio::test(flavor = "multi_thread")]
async fn one_gateway_serves_two_chains_told_apart_by_the_doors_port_and_host_names_are_addresses() {
    let second = free_udp_port();
    let world = Northmoor::start().await;
    let port = world.radius.port();
    let site = world
        .site
        .replacen(&format!("listen = [\"127.0.0.1:{port}\","), &format!("listen = [\"127.0.0.1:{port}\", \"127.0.0.1:{second}\","), 1)
        .replacen("name = \"staff\"\n", &format!("name = \"staff\"\nports = [\"{port}\"]\n"), 1)
        .replacen("gateways = [\"lantern\"]", "gateways = [\"lantern\", \"breakwater\"]", 1)
        .replacen("from = [\"127.0.0.13\", ", "from = [\"localhost\", ", 1);
    let (status, body) = world.service.apply(&site).await;
    assert_eq!(status, 201, "{body}");
    let mut breakwater = world.gateway("breakwater");
    let (_, local) = breakwater.log_in("ines", "wrong").await.unwrap();
    assert_eq!(world.service.trace_from(local).await["chain"], "staff");
    breakwater.server.set_port(second);
    let (_, local) = breakwater.log_in("ines", "wrong").await.unwrap();
    assert_eq!(world.service.trace_from(local).await["chain"], "contractors");
    let mut slipway = world.gateway("slipway");
    slipway.from = "127.0.0.1".parse().unwrap();
    let (exchange, local) = slipway.log_in("ines", &ines()).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "{:#}", world.service.trace_from(local).await);
    let listed = world.service.run(&["gateway", "list"]);
    assert!(listed.contains("localhost (127.0.0.1") && listed.contains("staff, contractors"), "{listed}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_site_file_of_five_megabytes_is_read_and_one_beyond_the_limit_is_refused() {
    let world = Northmoor::start().await;
    let big = format!("{}{}", world.site, "# the tide comes in and the tide goes out\n".repeat(120_000));
    assert!(big.len() > 5_000_000);
    let (status, body) = world.service.apply(&big).await;
    assert_eq!(status, 201, "{body}");
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.0, "accept");
    let (status, body) = world.service.call("POST", "/site/check", Some(json!({ "text": big.repeat(2) }))).await;
    assert_eq!((status, body["findings"][0]["code"].as_str()), (200, Some("too-long")), "{body}");
    let (status, _) = world.service.call("POST", "/site/check", Some(json!({ "text": "x".repeat(21 * 1024 * 1024) }))).await;
    assert_eq!(status, 413);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_start_that_cannot_open_its_doors_still_goes_back_to_what_was_confirmed() {
    let (world, folder) = (Northmoor::start().await, tempfile::tempdir().unwrap());
    let port = free_udp_port();
    let moved = file(&folder, "moved.toml", &world.site.replace(&world.radius.port().to_string(), &port.to_string()));
    world.service.run(&["site", "apply", &moved, "--confirm-within", "10s"]);
    // While the service is down, the newest revision becomes one that this service cannot activated.
    let Northmoor { service, directories, .. } = world;
    let (data, _folder) = service.kill();
    let records = rusqlite::Connection::open(data.join("records.db")).unwrap();
    records.execute("UPDATE revisions SET text = 'format = 9' WHERE number = 2", []).unwrap();
    drop(records);
    let service = Service::start_in(&data, &[]);
    let until = std::time::Instant::now() + Duration::from_secs(20);
    while revision(&service).await != 3 && std::time::Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert_eq!(revision(&service).await, 3, "{}", service.log());
    assert!(service.run(&["site", "history"]).contains("back to revision 1"));
    drop(directories);
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_go_by_the_labels_of_the_gateway_that_a_login_comes_through() {
    let world = Northmoor::start().await;
    let site = world
        .site
        .replacen(
            "name = \"control room\"\nchain = \"staff\"\nwhen = { group = \"control-room\" }",
            "name = \"control room\"\nchain = \"staff\"\nwhen = { group = \"control-room\", label = { kind = \"vpn\" } }",
            1,
        )
        .replacen("client_patience = \"60s\"", "labels = { kind = \"vpn\", place = \"harbour\" }", 1);
    let (status, body) = world.service.apply(&site).await;
    assert_eq!(status, 201, "{body}");
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.0, "accept");
    let (_, trace) = world.log_in("slipway", "ines", &format!("barnacle-and-buoy{}", super::harness::code("ines", 1))).await;
    assert_eq!(trace["cause"], "no-rule", "slipway is no vpn: {trace:#}");
    assert!(world.service.run(&["gateway", "show", "breakwater"]).contains("kind vpn, place harbour"));
}
