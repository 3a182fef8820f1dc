//! Rehearsals through the command line and the API: written from the site, run, compared, reported, proved, drilled.

use super::harness::{DIRECTORY, Northmoor, Service, Setup, code, ines, text};
use bivector_lab::courier::{CourierHabits, StandInCourier};
use bivector_lab::upstream::{Habits, StandInUpstream};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::time::Duration;

const SECRETS: &str = include_str!("../../../../demo/secrets.toml");
/// Personas of the demo, and its rehearsals behind them.
const REHEARSALS: &str = include_str!("../../../../demo/rehearsals.toml");

fn personas() -> &'static str {
    REHEARSALS.split("\n[[rehearsals]]").next().unwrap()
}

async fn seal_personas(service: &Service) {
    let secrets: HashMap<String, String> = toml::from_str(SECRETS).unwrap();
    for (name, value) in secrets.iter().filter(|(name, _)| name.starts_with("persona/")) {
        service.seal(name, value).await;
    }
}

/// The demo's site with these rehearsals behind its personas.
pub(crate) async fn world(rehearsals: &str) -> Northmoor {
    world_with(&[], rehearsals).await
}

/// The same, with changes of the site.
pub(crate) async fn world_with(change: &[(&str, &str)], rehearsals: &str) -> Northmoor {
    let mut world = Northmoor::with(Setup { directory: DIRECTORY, change, ..Setup::default() }).await;
    seal_personas(&world.service).await;
    world.site = format!("{}\n{}\n{rehearsals}", world.site, personas());
    let (status, body) = world.service.apply(&world.site).await;
    assert_eq!(status, 201, "{body}");
    world
}

pub(crate) fn login(title: &str, more: &str) -> String {
    format!("[[rehearsals.logins]]\ntitle = \"{title}\"\npersona = \"ines\"\nvia = \"breakwater\"\n{more}\n")
}

pub(crate) fn small(more: &str) -> String {
    format!("[[rehearsals]]\nname = \"small\"\n{}{more}", login("in", "type = \"{password}{code}\"\nexpect = { grant = \"control-room\" }"))
}

async fn finished(service: &Service, id: u64) -> Value {
    for _ in 0..400 {
        let run = service.get(&format!("/runs/{id}")).await;
        if run["state"] != "running" {
            return run;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    panic!("run {id} does not end")
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_starter_writes_for_each_chain_passes_and_holds_every_login_that_the_trade_tests_by_hand() {
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let hardware = HashMap::from([("tomasz".to_owned(), "778899".to_owned())]);
    let upstream = StandInUpstream::start(any, b"harbourlight-Vb3kQ9", hardware, Habits::default()).await.unwrap();
    let courier = StandInCourier::start(any, any, CourierHabits::default()).await.unwrap();
    let mut world = world("").await;
    world.site = world
        .site
        .replace("127.0.0.1:1\"", &format!("{}\"", upstream.address()))
        .replace("127.0.0.1:18480", &courier.http().to_string())
        .replace("127.0.0.1:18025", &courier.smtp().to_string());
    assert_eq!(world.service.apply(&world.site).await.0, 201);
    let mut written = String::new();
    for chain in ["staff", "watch", "hardware codes", "local people", "contractors"] {
        written += &world.service.run(&["rehearse", "--starter", chain]);
        written.push('\n');
    }
    for cause in [
        "password-wrong",
        "code-wrong",
        "code-used",
        "person-unknown",
        "no-rule",
        "rule-refused",
        "method-not-in-chain",
        "secret-differs",
        "gateway-unknown",
        "approval-denied",
        "approval-unanswered",
        "factor-locked",
        "challenge-expired",
        "challenge-foreign",
        "account-locked",
        "code-missing",
        "upstream-refused",
    ] {
        assert!(written.contains(&format!("cause = \"{cause}\"")), "{cause} in\n{written}");
    }
    for method in ["pap", "chap", "ms-chap-v2"] {
        assert!(written.contains(&format!("local crew: in by {method} and code")), "{method}");
    }
    let (status, body) = world.service.apply(&format!("{}\n{written}", world.site)).await;
    assert_eq!(status, 201, "{body}");
    for chain in ["staff", "watch", "hardware codes", "local people", "contractors"] {
        let output = world.service.cli(&["rehearse", chain]);
        assert!(output.status.success(), "{chain}: {}{}", text(&output.stdout), text(&output.stderr));
    }
    // Whoever was locked, denied or used up in a rehearsal is none of that outside of it.
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.0, "accept");
    let rehearsed = world.service.get("/traces?origin=rehearsal&limit=500").await;
    let outside = world.service.get("/traces?origin=gateway&limit=500").await;
    assert!(rehearsed.as_array().unwrap().len() > 60 && outside.as_array().unwrap().len() == 1, "every record says that it is rehearsed");
    assert_eq!(world.service.get("/knocks").await, json!([]), "nobody knocked");
    let chains = world.service.get("/chains").await;
    let staff = chains.as_array().unwrap().iter().find(|chain| chain["name"] == "staff").unwrap();
    assert_eq!(staff["logins"]["refused"], 0, "refusals of a rehearsal are nobody's: {staff}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_comes_otherwise_is_told_reported_and_compared_and_the_exit_status_says_it() {
    let world = world(&small("")).await;
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).display().to_string();
    let (page, data, junit) = (at("report.html"), at("report.json"), at("junit.xml"));
    let output = world.service.cli(&["rehearse", "small", "--repeat", "3", "--parallel", "2", "--report", &page, "--junit", &junit]);
    assert!(output.status.success() && text(&output.stdout).contains("small: 3 of 3 logins as expected"), "{}", text(&output.stdout));
    assert_eq!(world.service.get("/runs/1/changes").await, json!({ "earlier": null, "changes": [] }), "nothing went before the first");
    let html = std::fs::read_to_string(&page).unwrap();
    for wanted in ["all as expected: 3 of 3", "revision 2", "owner", "in (2)", "totp"] {
        assert!(html.contains(wanted), "{wanted} in {html}");
    }
    assert!(!html.contains("barnacle"), "a report holds no password");
    let wrong = login("never", "type = \"{password}{wrong}\"\nexpect = { grant = \"control-room\", within = \"5s\" }");
    let (status, body) = world.service.apply(&format!("{}{wrong}", world.site)).await;
    assert_eq!(status, 201, "{body}");
    let output = world.service.cli(&["rehearse", "small", "--report", &data, "--junit", &junit]);
    let said = text(&output.stdout);
    assert_eq!(output.status.code(), Some(1), "{said}");
    for wanted in [
        "small: 1 of 2 logins as expected",
        "cause: expected none, got code-wrong",
        "since run 1",
        "never: not in it → refused: code-wrong",
    ] {
        assert!(said.contains(wanted), "{wanted} in {said}");
    }
    let report: Value = serde_json::from_str(&std::fs::read_to_string(&data).unwrap()).unwrap();
    assert_eq!((&report["state"], &report["failed"]), (&json!("failed"), &json!(1)));
    assert!(std::fs::read_to_string(&junit).unwrap().contains("failures=\"1\""));
    let as_json: Value = serde_json::from_str(&text(&world.service.cli(&["rehearse", "--run", "1", "--json"]).stdout)).unwrap();
    assert_eq!((&as_json["state"], &as_json["passed"]), (&json!("passed"), &json!(3)));
    assert!(world.service.run(&["rehearse", "--list"]).contains("failed: 1 of 2"));
    for (arguments, status, said) in [
        (vec!["rehearse", "smal"], 1, "known: small"),
        (vec!["rehearse", "--run", "77"], 1, "no run 77"),
        (vec!["rehearse", "--starter", "stuff"], 1, "known: watch, staff"),
        (vec!["rehearse", "small", "--parallel", "500"], 1, "1 to 64"),
        (vec!["rehearse"], 2, "--starter"),
    ] {
        let output = world.service.cli(&arguments);
        assert!(output.status.code() == Some(status) && text(&output.stderr).contains(said), "{arguments:?}: {}", text(&output.stderr));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_in_force_only_once_its_rehearsal_has_passed_and_nobodys_login_is_decided_by_it_before() {
    // The rehearsal of the draft takes a while, since a handset answers late.
    let slow = "[[rehearsals.logins]]\ntitle = \"slow\"\npersona = \"ines\"\nname = \"ines@watch.northmoor.example\"\nvia = \"slipway\"\n\
                type = \"{password}\"\nhandset = \"approve after 2s\"\nexpect = { factor = \"approval\", within = \"1s\" }\n";
    let world = world(&small(slow)).await;
    let file = tempfile::NamedTempFile::new().unwrap();
    let path = file.path().display().to_string();
    let draft = world.site.replacen(
        "when = { group = \"control-room\" }\ngrant = \"control-room\"",
        "when = { group = \"control-rom\" }\ngrant = \"control-room\"",
        1,
    );
    std::fs::write(&path, &draft).unwrap();
    let service = &world.service;
    let meanwhile = async {
        tokio::time::sleep(Duration::from_millis(800)).await;
        world.log_in("breakwater", "ines", &ines()).await
    };
    let apply = async { tokio::task::block_in_place(|| service.cli(&["site", "apply", &path, "--prove", "small", "--weaker-is-meant"])) };
    let (output, (seen, trace)) = tokio::join!(apply, meanwhile);
    let said = format!("{}{}", text(&output.stdout), text(&output.stderr));
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(
        said.contains("the active site is unchanged") && said.contains("got no-rule") && said.contains("a draft, not active"),
        "{said}"
    );
    assert_eq!((seen.as_str(), trace["revision"].as_u64()), ("accept", Some(2)), "{trace:#}");
    assert_eq!(service.get("/status").await["revision"], 2);
    let good = world.site.replacen("integer = 28800", "integer = 14400", 1);
    std::fs::write(&path, &good).unwrap();
    let output = service.cli(&["site", "apply", &path, "--prove", "small"]);
    let said = format!("{}{}", text(&output.stdout), text(&output.stderr));
    assert!(output.status.success() && said.contains("rehearsal small passed: 2 of 2") && said.contains("revision 3 is active"), "{said}");
    let output = service.cli(&["site", "apply", &path, "--prove", "large"]);
    assert!(text(&output.stderr).contains("unknown rehearsal `large`") && text(&output.stderr).contains("known: small"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_run_that_is_ended_early_keeps_what_came_of_it_and_one_that_the_service_lost_is_interrupted() {
    let seeded = "\n[[personas]]\nname = \"seeded\"\nlogin = \"ines\"\npassword = \"persona/ines\"\nseed = \"persona/ines-seed\"\n";
    let rehearsal = "[[rehearsals]]\nname = \"codes\"\n[[rehearsals.logins]]\npersona = \"seeded\"\nvia = \"breakwater\"\ntype = \"{password}{code}\"\n";
    let world = world("").await;
    let seed = super::harness::PEOPLE.lines().find(|line| line.starts_with("ines,")).and_then(|line| line.split(',').nth(5)).unwrap();
    world.service.seal("persona/ines-seed", seed).await;
    let (status, body) = world.service.apply(&format!("{}{seeded}{rehearsal}", world.site)).await;
    assert_eq!(status, 201, "{body}");
    let first_code = code("ines", 0);
    let (status, run) = world.service.call("POST", "/rehearsals/codes/runs", Some(json!({ "repeat": 9, "parallel": 1 }))).await;
    assert_eq!(status, 202, "{run}");
    let mut now = Value::Null;
    for _ in 0..400 {
        now = world.service.get("/runs/1").await;
        if now["waits_for"].is_string() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    assert_eq!(now["waits_for"], "the next code of `persona/ines-seed`", "real codes run out: {now}");
    assert_eq!(world.service.call("DELETE", "/runs/1", None).await.0, 204);
    let ended = finished(&world.service, 1).await;
    assert_eq!(ended["state"], "interrupted");
    assert!((1..=3).contains(&ended["passed"].as_u64().unwrap()) && ended["failed"] == 0, "{ended}");
    // Each code worked once, as anybody's does.
    assert_eq!(world.log_in("breakwater", "ines", &format!("barnacle-and-buoy{first_code}")).await.1["cause"], "code-used");
    let (_, run) = world.service.call("POST", "/rehearsals/codes/runs", Some(json!({ "repeat": 9 }))).await;
    assert_eq!(run["state"], "running");
    let Northmoor { service, directories: _directories, .. } = world;
    let (data, _folder) = service.kill();
    let service = Service::start_in(&data, &[]);
    let lost = finished(&service, 2).await;
    assert_eq!(lost["state"], "interrupted", "{lost}");
    assert_eq!(finished(&service, 1).await["passed"], ended["passed"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drill_shows_what_logins_would_notice_and_only_its_own_logins_are_without_the_member() {
    let mut world = world(&small(&login("again", "type = \"{password}{code}\""))).await;
    let first = format!("ldaps://{}", world.directories[0].address());
    let output = world.service.cli(&["drill", &first, "--with", "small", "--fails", "silent"]);
    let said = text(&output.stdout);
    assert!(output.status.success() && said.contains("2 of 2 logins as expected") && said.contains("nothing has to be restored"), "{said}");
    assert!(said.contains("  in: ") && said.contains(" → "), "a silent server costs its hedge: {said}");
    let traces = world.service.get("/traces?origin=rehearsal&limit=4").await;
    let slowest = traces.as_array().unwrap().iter().map(|row| row["took_us"].as_u64().unwrap()).max().unwrap();
    assert!(slowest < 2_000_000, "logins that wait for the same silent server share its one wait: {slowest} µs");
    let (seen, trace) = world.log_in("breakwater", "ines", &ines()).await;
    assert!(seen == "accept" && trace["took_us"].as_u64().unwrap() < 800_000, "{trace:#}");
    world.directories.remove(1).stop().await;
    let output = world.service.cli(&["drill", &first, "--with", "small"]);
    let said = text(&output.stdout);
    assert!(output.status.code() == Some(1) && said.contains("in: accepted with control-room → refused: source-unreachable"), "{said}");
    let output = world.service.cli(&["drill", "ldaps://elsewhere", "--with", "small"]);
    assert!(text(&output.stderr).contains("unknown server or courier `ldaps://elsewhere`") && text(&output.stderr).contains(&first));
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_only_look_runs_nothing_and_what_a_robot_was_let_in_by_is_nobodys_outside() {
    let world = world(&small("")).await;
    let (status, made) = world.service.call("POST", "/operators", Some(json!({ "name": "watcher", "role": "view" }))).await;
    assert_eq!(status, 201, "{made}");
    let token = made["token"].as_str().unwrap();
    for (path, body) in [
        ("/rehearsals/small/runs", json!({})),
        ("/locate", json!({ "person": "ines", "via": "breakwater" })),
        ("/drills", json!({ "member": "pager", "rehearsal": "small" })),
        ("/logins", json!({ "person": "ines", "via": "breakwater", "persona": "ines" })),
        ("/site/replay", json!({ "text": "" })),
    ] {
        let call = super::harness::http_client().post(format!("http://{}/api/v1{path}", world.service.http)).bearer_auth(token).json(&body);
        assert_eq!(call.send().await.unwrap().status(), 403, "{path}");
    }
    assert!(world.service.cli(&["rehearse", "small"]).status.success());
    let figures =
        super::harness::http_client().get(format!("http://{}/metrics", world.service.http)).send().await.unwrap().text().await.unwrap();
    assert!(!figures.contains("bivector_logins_total{"), "a rehearsed login is in nobody's figures: {figures}");
    let records = rusqlite::Connection::open(world.service.data.join("records.db")).unwrap();
    let count = |query: &str| records.query_row(query, [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(count("SELECT count(*) FROM locks"), 0);
    assert_eq!(count("SELECT count(*) FROM factors WHERE id >= 4611686018427387904"), 0, "no robot is in the records");
    // Without the robot the persona is as enrolled as she was before: with her own phone only.
    let shown = world.service.get("/people/ines").await[0].clone();
    assert_eq!(shown["factors"].as_array().map(Vec::len), Some(1), "{shown}");
    let (seen, trace) = world.log_in("slipway", "ines@watch.northmoor.example", "barnacle-and-buoy").await;
    assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some("not-enrolled")), "a simulated handset approves nobody's login");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_login_can_be_tried_as_a_persona_with_answers_on_the_line_and_by_this_machine_as_the_gateway() {
    let world = world("").await;
    let service = &world.service;
    let said = service.run(&["login", "--persona", "ines", "--via", "breakwater"]);
    for wanted in ["Access-Accept", "the session ends after 8 hours", "sent back with accounting", "control-room"] {
        assert!(said.contains(wanted), "{wanted} in {said}");
    }
    let said = service.run(&["login", "--persona", "pell", "--via", "lantern", "--type", "{password}", "--answer", "{code}"]);
    assert!(said.contains("Access-Accept"), "{said}");
    let watch = "ines@watch.northmoor.example";
    let said = service.run(&["login", watch, "--persona", "ines", "--via", "lantern", "--type", "{password}", "--handset", "approve"]);
    assert!(said.contains("Access-Accept"), "{said}");
    let output = service.cli(&["login", "--persona", "ines", "--via", "breakwater", "--type", "{password}{wrong}"]);
    let said = text(&output.stdout);
    assert!(output.status.code() == Some(1) && said.contains("code-wrong") && said.contains("remedy:"), "{said}");
    let output = service.cli(&["login", "--persona", "noor", "--via", "breakwater"]);
    assert!(text(&output.stdout).contains("of the site file: [[rules]]"), "the remedy points at its line: {}", text(&output.stdout));
    let folder = tempfile::tempdir().unwrap();
    let secret = folder.path().join("secret");
    std::fs::write(&secret, "breakwater-Kq7vX2mTz9\n").unwrap();
    let to = world.radius.to_string();
    let there = |from: &'static str| {
        [
            "login",
            "ines",
            "--via",
            "breakwater",
            "--password-file",
            "-",
            "--from",
            from,
            "--to",
            &to,
            "--secret-file",
            secret.to_str().unwrap(),
        ]
        .map(str::to_owned)
    };
    let there = |from| there(from).to_vec();
    let run = |from| {
        let arguments = there(from);
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        service.cli_with_input(&arguments, &ines())
    };
    let output = run("127.0.0.11");
    assert!(output.status.success() && text(&output.stdout).contains("the session ends after 8 hours"), "{}", text(&output.stdout));
    let unknown = service.cli(&["login", "--persona", "nobody", "--via", "breakwater"]);
    assert!(text(&unknown.stderr).contains("unknown persona `nobody`") && text(&unknown.stderr).contains("ines"));
}
