use super::harness::{Northmoor, Service, Setup, gateway, ines, outcome, text};
use serde_json::json;
use std::time::Duration;

#[tokio::test(flavor = "multi_thread")]
async fn a_change_applies_without_restart_and_logins_in_flight_end_under_the_old_revision() {
    let world = Northmoor::with(Setup { delay: Duration::from_millis(700), ..Setup::default() }).await;
    let breakwater = world.gateway("breakwater");
    let login = tokio::spawn(async move { breakwater.log_in("ines", &ines()).await.unwrap() });
    tokio::time::sleep(Duration::from_millis(500)).await;
    let changed = world.site.replacen(
        "when = { group = \"control-room\" }\ngrant = \"control-room\"",
        "when = { group = \"control-room\" }\nrefuse = \"moved\"",
        1,
    );
    assert_ne!(changed, world.site);
    let (status, body) = world.service.apply(&changed).await;
    assert_eq!((status, body["revision"].as_u64()), (201, Some(2)), "{body}");
    let (exchange, local) = login.await.unwrap();
    let trace = world.service.trace_from(local).await;
    assert_eq!((outcome(&exchange).as_str(), trace["revision"].as_u64()), ("accept", Some(1)), "{trace:#}");
    let (exchange, local) =
        gateway("breakwater", world.radius).log_in("ines", &format!("barnacle-and-buoy{}", super::harness::code("ines", 1))).await.unwrap();
    let trace = world.service.trace_from(local).await;
    assert_eq!(
        (outcome(&exchange).as_str(), trace["cause"].as_str(), trace["revision"].as_u64()),
        ("reject", Some("rule-refused"), Some(2))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn doors_move_with_the_site_and_the_old_one_closes() {
    let world = Northmoor::start().await;
    let port = super::harness::free_udp_port();
    let moved = world.site.replace(&world.radius.port().to_string(), &port.to_string());
    assert_eq!(world.service.apply(&moved).await.0, 201);
    assert_eq!(world.service.radius().await.port(), port);
    assert!(gateway("breakwater", world.service.radius().await).status().await.unwrap().reply.is_some());
    let mut old = world.gateway("breakwater");
    old.patience.wait = Duration::from_millis(300);
    assert!(old.status().await.unwrap().reply.is_none(), "nothing answers at the old door");
}

#[test]
fn the_check_shows_every_mistake_with_place_and_remedy_on_the_terminal_and_as_json() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("site.toml");
    std::fs::write(
        &file,
        super::harness::SITE.replacen("methods", "metods", 1).replacen("\"roster\"", "\"rooster\"", 1).replacen(
            "secret = \"gateway/lantern\"",
            "secret = \"gateway/lanten\"",
            1,
        ),
    )
    .unwrap();
    let path = file.to_str().unwrap();
    let service = Service::start();
    let output = service.cli(&["site", "check", path]);
    assert_eq!(output.status.code(), Some(1));
    let shown = text(&output.stdout);
    for wanted in [
        "unknown key `metods` in a chain",
        "did you mean `methods`?",
        "unknown source `rooster`",
        "the secret `gateway/lanten` has not been sealed",
        "bivector secret set gateway/lanten",
        "it cannot be applied",
    ] {
        assert!(shown.contains(wanted), "{wanted} in {shown}");
    }
    let json: serde_json::Value = serde_json::from_slice(&service.cli(&["site", "check", "--offline", "--json", path]).stdout).unwrap();
    let codes: Vec<&str> = json["findings"].as_array().unwrap().iter().map(|finding| finding["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["unknown-key", "name-not-found"], "without the service nobody knows what is sealed");
    assert!(json["findings"][0]["line"].as_u64().unwrap() > 10 && json["findings"][0]["column"].as_u64().unwrap() == 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_faster_operator_is_noticed_and_history_and_export_keep_every_text_with_its_comments() {
    let world = Northmoor::start().await;
    let with_note = format!("# second\n{}", world.site);
    let (status, _) =
        world.service.call("POST", "/site/revisions", Some(json!({ "text": with_note, "note": "moved the doors", "expected": 1 }))).await;
    assert_eq!(status, 201);
    let (status, body) = world.service.call("POST", "/site/revisions", Some(json!({ "text": world.site, "expected": 1 }))).await;
    assert_eq!((status, body["type"].as_str()), (409, Some("/problems/revision-moved")), "{body}");
    assert_eq!(world.service.run(&["site", "export"]).trim(), with_note.trim());
    assert_eq!(world.service.run(&["site", "export", "1"]).trim(), world.site.trim());
    let history = world.service.run(&["site", "history"]);
    assert!(history.contains("moved the doors") && history.lines().count() == 3, "{history}");
    assert!(world.service.run(&["site", "restore", "1"]).contains("revision 3 is active"));
    assert_eq!(world.service.run(&["site", "export"]).trim(), world.site.trim());
    assert!(world.service.run(&["site", "history"]).contains("restored revision 1"));
    assert_eq!(world.service.cli(&["site", "restore", "99"]).status.code(), Some(1));
}

#[test]
fn a_site_file_is_checked_before_there_is_a_service_and_says_so() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("site.toml");
    let intended = "\n[[intended]]\nwarning = \"refusal-pace\"\nreason = \"a rehearsal site\"\n";
    std::fs::write(&file, super::harness::SITE.replacen("when_unclear = \"code\"", "refusal_pace = \"0s\"", 1) + intended).unwrap();
    let run = |more: &[&str]| {
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_bivector"));
        command.args(["site", "check"]).arg(&file).args(more).env_remove("BIVECTOR_TOKEN").env_remove("BIVECTOR_TOKEN_FILE");
        let output = command.env_remove("BIVECTOR_SERVER").env("HOME", "/nonexistent").output().unwrap();
        (output.status.code(), text(&output.stdout), text(&output.stderr))
    };
    let (status, said, beside) = run(&[]);
    assert_eq!(status, Some(0), "{said}{beside}");
    assert!(beside.contains("checked without a service") && beside.contains("which secrets are sealed"), "{beside}");
    assert!(said.contains("intended: refusal-pace") && said.contains("a rehearsal site"), "{said}");
    let (status, said, beside) = run(&["--server", "http://127.0.0.1:1"]);
    assert!(status != Some(0) && !beside.contains("checked without"), "who names a service means it: {said}{beside}");
    std::fs::write(&file, "format = 2").unwrap();
    assert_eq!(run(&[]).0, Some(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_secret_counts_at_once() {
    let world = Northmoor::start().await;
    world.service.seal("gateway/breakwater", "quite-another-secret").await;
    let mut breakwater = world.gateway("breakwater");
    breakwater.patience.wait = Duration::from_millis(300);
    assert_eq!(outcome(&breakwater.log_in("ines", &ines()).await.unwrap().0), "silent");
    breakwater.secret = bivector_wire::SharedSecret::new(b"quite-another-secret");
    breakwater.patience.wait = Duration::from_secs(5);
    assert_eq!(outcome(&breakwater.log_in("ines", &ines()).await.unwrap().0), "accept");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_two_operators_who_apply_at_once_the_second_is_told_and_loses_nothing() {
    let world = Northmoor::start().await;
    let change = |note: &str| json!({ "text": format!("# {note}\n{}", world.site), "note": note, "expected": 1 });
    let (one, two) = tokio::join!(
        world.service.call("POST", "/site/revisions", Some(change("one"))),
        world.service.call("POST", "/site/revisions", Some(change("two")))
    );
    let mut statuses = [one.0, two.0];
    statuses.sort_unstable();
    assert_eq!(statuses, [201, 409], "{} {}", one.1, two.1);
    let revisions = world.service.get("/site/revisions").await;
    assert_eq!(revisions.as_array().unwrap().len(), 2, "{revisions}");
}
