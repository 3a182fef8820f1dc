//! Replay, who, rules on made-up people, and traces by the thousand: what explains without asking anybody.

use super::harness::{Northmoor, Service, code, gateway, ines, outcome, text};
use bivector_exchange::Request;
use serde_json::{Value, json};
use std::path::Path;

/// Logins of every kind: let in, refused at each hop, read in two ways, proved without the text, asked at a prompt.
async fn a_busy_morning(world: &Northmoor) {
    let with = |password: &str, login: &str, offset| format!("{password}{}", code(login, offset));
    for (via, name, typed) in [
        ("breakwater", "ines", ines()),
        ("slipway", "NORTHMOOR\\Ines", ines()),
        ("breakwater", "tomasz", with("flood before ebb", "tomasz", 0)),
        ("breakwater", "tomasz", "ebb before flood000000".to_owned()),
        ("breakwater", "tomasz", "ebb before flood".to_owned()),
        ("breakwater", "tomasz", with("ebb before flood", "tomasz", -20)),
        ("breakwater", "yuki", with("swell204813", "yuki", 0)),
        ("breakwater", "yuki", "swell204813".to_owned()),
        ("breakwater", "nobody", "whatever".to_owned()),
        ("breakwater", "noor", with("kelp-forest", "noor", 0)),
        ("breakwater", "odo", "new-moon-spring".to_owned()),
        ("breakwater", "sable", with("whelk-at-low-water", "sable", 0)),
        ("breakwater", "pell", with("sounding-line", "pell", -1)),
        ("lantern", "pell", with("sounding-line", "pell", 0)),
        ("lantern", "pell", "sounding-line".to_owned()),
        ("lantern", "ravi", with("anchor-watch", "ravi", 0)),
        ("breakwater", "ines@elsewhere.example", ines()),
    ] {
        world.log_in(via, name, &typed).await;
    }
    let proofs = [
        Request::ms_chap_v2("sable@local.northmoor.example", &with("whelk-at-low-water", "sable", 1)),
        Request::chap("sable@local.northmoor.example", b"something else"),
        Request::chap("ines", b"not a method of this chain"),
    ];
    for (request, via) in proofs.into_iter().zip(["lantern", "lantern", "breakwater"]) {
        let device = gateway(via, world.radius);
        let (exchange, local) = device.send(&device.sign(request.unwrap())).await.unwrap();
        world.service.trace_from(local).await;
        assert_ne!(outcome(&exchange), "silent");
    }
}

async fn replay(world: &Northmoor, site: &str) -> Value {
    let (status, replayed) = world.service.call("POST", "/site/replay", Some(json!({ "text": site }))).await;
    assert_eq!(status, 200, "{replayed}");
    replayed
}

#[tokio::test(flavor = "multi_thread")]
async fn under_the_same_site_every_recorded_login_ends_as_it_did_and_under_a_draft_the_differences_are_grouped_with_their_reason() {
    let world = Northmoor::start().await;
    a_busy_morning(&world).await;
    let same = replay(&world, &world.site).await;
    assert_eq!(
        (&same["decided"], &same["same"], &same["changed"], &same["unknown"]),
        (&json!(20), &json!(20), &json!([]), &json!([])),
        "{same:#}"
    );
    let draft = world
        .site
        .replacen(
            "when = { group = [\"turbine-crew\", \"local-crew\"] }\ngrant = \"turbine-crew\"",
            "when = { group = \"local-crew\" }\ngrant = \"turbine-crew\"",
            1,
        )
        .replacen(
            "when = { group = \"remote-suspended\" }\nrefuse = \"suspended\"",
            "when = { group = \"remote-dismissed\" }\nrefuse = \"dismissed\"",
            1,
        );
    let changed = replay(&world, &draft).await;
    let told: Vec<String> = changed["changed"]
        .as_array()
        .unwrap()
        .iter()
        .map(|group| format!("{} {} → {} ({} people)", group["count"], group["before"], group["after"], group["people"]).replace('"', ""))
        .collect();
    assert_eq!(
        told,
        ["1 accepted with turbine-crew → refused: no-rule (1 people)", "1 refused: rule-refused → refused: no-rule (1 people)",],
        "{changed:#}"
    );
    assert!(changed["changed"][0]["why"].as_str().unwrap().contains("none of the 3 rules matches"));
    assert_eq!(world.service.get(&format!("/traces/{}", changed["changed"][0]["examples"][0].as_str().unwrap())).await["login"], "yuki");
    // A draft that would ask somebody who was not asked then cannot be told from here.
    let elsewhere = world.site.replacen("first = [\"tidehall\", \"roster\"]", "first = [\"roster\", \"tidehall\"]", 1);
    let unknown = replay(&world, &elsewhere).await;
    assert!(unknown["unknown"].to_string().contains("`roster` would be searched, which it was not at the time"), "{unknown:#}");
    let weaker = world.site.replacen(
        "second = [\"totp\"]\nwhen_unclear",
        "second = [\"totp\"]\nwaive = [{ group = \"turbine-crew\", reason = \"a drill\" }]\nwhen_unclear",
        1,
    );
    let weaker = replay(&world, &weaker).await;
    assert!(weaker["changed"].to_string().contains("accepted with turbine-crew, without a second factor"), "{weaker:#}");
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), &draft).unwrap();
    let path = file.path().display().to_string();
    let output = world.service.cli(&["site", "replay", &path]);
    assert!(output.status.code() == Some(1) && text(&output.stdout).contains("refused: no-rule"), "{}", text(&output.stdout));
    std::fs::write(file.path(), draft.replacen("[[rules]]", "[[ruless]]", 1)).unwrap();
    let output = world.service.cli(&["site", "replay", &path]);
    assert!(output.status.code() == Some(1) && text(&output.stdout).contains("did you mean `rules`?"), "{}", text(&output.stdout));
    let kept =
        rows(&world.service.data, "SELECT bodies FROM trace_bodies").iter().map(|kept| unpacked(kept)).collect::<Vec<_>>().join("\n");
    assert!(kept.contains("accepted the password"), "the texts of steps are in there");
    for secret in ["barnacle", "swell", "204813", &code("ines", 0), "sounding"] {
        assert!(!kept.contains(secret), "{secret} is kept");
    }
}

fn rows(data: &Path, query: &str) -> Vec<Vec<u8>> {
    let connection = rusqlite::Connection::open(data.join("records.db")).unwrap();
    let mut statement = connection.prepare(query).unwrap();
    statement.query_map([], |row| row.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
}

/// Bodies as text: behind a zero they are compressed.
fn unpacked(kept: &[u8]) -> String {
    assert_eq!(kept[0], 0);
    String::from_utf8_lossy(&lz4_flex::decompress_size_prepended(&kept[1..]).unwrap()).into_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn traces_of_an_older_version_are_listed_and_shown_and_left_alone_where_they_lack_what_is_needed() {
    let world = Northmoor::start().await;
    let (_, trace) = world.log_in("breakwater", "ines", &ines()).await;
    let Northmoor { mut service, site, directories: _directories, .. } = world;
    assert!(service.terminate());
    let data = service.data.clone();
    let connection = rusqlite::Connection::open(data.join("records.db")).unwrap();
    // As the fifth layout had it: a row for each trace, and nothing of what it had learned.
    connection
        .execute_batch(
            "DROP TABLE trace_chunks; DROP TABLE trace_bodies; DROP TABLE runs; DROP TABLE used_steps; DROP TABLE step_journal;
             DROP TABLE guesses; DROP TABLE sign_ins; DROP TABLE ended_sign_ins;
             DROP TRIGGER steps_put_aside; ALTER TABLE factor_states DROP COLUMN steps; ALTER TABLE changes DROP COLUMN pending; DROP TABLE replaced_traces; DROP TABLE feed; DROP TABLE pushes; DROP TABLE push_keys;
             DROP TABLE sessions; DROP TABLE session_restarts; DROP TABLE leases; DROP TABLE admissions;
             CREATE TABLE traces (
                 id INTEGER PRIMARY KEY, reference TEXT NOT NULL, began_us INTEGER NOT NULL, took_us INTEGER NOT NULL, origin TEXT NOT NULL,
                 gateway TEXT NOT NULL, sender TEXT NOT NULL, chain TEXT NOT NULL, typed_name TEXT NOT NULL, login TEXT NOT NULL, person TEXT,
                 method TEXT NOT NULL, source TEXT, outcome TEXT NOT NULL, cause TEXT, granted TEXT, revision INTEGER NOT NULL);
             CREATE TABLE trace_steps (trace INTEGER PRIMARY KEY REFERENCES traces ON DELETE CASCADE, steps TEXT NOT NULL);
             PRAGMA user_version = 5;",
        )
        .unwrap();
    let text = |key: &str| trace[key].as_str().map(str::to_owned);
    let row = rusqlite::params![
        trace["id"].as_i64(),
        text("reference"),
        trace["began_us"].as_i64(),
        trace["took_us"].as_i64(),
        text("origin"),
        text("gateway"),
        text("sender"),
        text("chain"),
        text("typed_name"),
        text("login"),
        text("person"),
        text("method"),
        text("source"),
        text("outcome"),
        text("cause"),
        text("grant"),
        trace["revision"].as_i64()
    ];
    connection
        .execute("INSERT INTO traces VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17)", row)
        .unwrap();
    connection
        .execute("INSERT INTO trace_steps VALUES (?1, ?2)", rusqlite::params![trace["id"].as_i64(), trace["steps"].to_string()])
        .unwrap();
    drop(connection);
    let again = Service::start_in(&data, &[]);
    let shown = again.get(&format!("/traces/{}", trace["reference"].as_str().unwrap())).await;
    assert_eq!((&shown["outcome"], &shown["steps"]), (&trace["outcome"], &trace["steps"]));
    let (status, replayed) = again.call("POST", "/site/replay", Some(json!({ "text": site }))).await;
    assert_eq!((status, &replayed["left"]), (200, &json!({ "recorded by an earlier version, without the necessary data": 1 })));
}

#[tokio::test(flavor = "multi_thread")]
async fn who_gets_in_by_which_rule_is_listed_with_what_is_missing_and_made_up_people_are_judged_rule_by_rule() {
    let world = Northmoor::start().await;
    let said = world.service.run(&["who", "staff"]);
    for wanted in [
        "control room: members of control-room are admitted with control-room",
        "Odo Reyes",
        "no second factor that the chain accepts",
        "sable",
    ] {
        assert!(said.contains(wanted), "{wanted} in {said}");
    }
    let who = world.service.get("/chains/staff/who?all=true").await;
    let counts: Vec<_> = who["rules"]
        .as_array()
        .unwrap()
        .iter()
        .map(|rule| (rule["people"]["count"].as_u64(), rule["people"]["with_factor"].as_u64()))
        .collect();
    assert_eq!(counts, [(Some(1), Some(1)), (Some(1), Some(1)), (Some(4), Some(3))]);
    assert_eq!(who["left_out"]["count"], 2, "{who}");
    let output = world.service.cli(&["rule", "try", "--chain", "staff", "--group", "turbine-crew", "--group", "Remote-Suspended"]);
    let said = text(&output.stdout);
    assert!(
        output.status.code() == Some(1) && said.contains("decides: refuses: suspended") && said.contains("an earlier rule decides"),
        "{said}"
    );
    assert!(world.service.run(&["rule", "try", "--chain", "staff", "--person", "NORTHMOOR\\ines"]).contains("admitted with control-room"));
    for (arguments, wanted) in [
        (vec!["who", "stuff"], "known: watch, staff"),
        (vec!["rule", "try", "--chain", "staff", "--person", "nobody"], "no source of the chain knows"),
        (vec!["rule", "try", "--chain", "staff", "--via", "nowhere"], "unknown gateway `nowhere`"),
    ] {
        assert!(text(&world.service.cli(&arguments).stderr).contains(wanted), "{arguments:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn traces_are_found_by_time_revision_and_origin_exported_as_lines_and_drawn_over_time() {
    let world = Northmoor::start().await;
    a_busy_morning(&world).await;
    let service = &world.service;
    let all = service.get("/traces?limit=500").await.as_array().unwrap().len();
    for (query, count) in [
        ("revision=1", all),
        ("revision=7", 0),
        ("origin=gateway", all),
        ("origin=rehearsal", 0),
        ("since_us=0", all),
        ("until_us=1000", 0),
        ("outcome=challenged", 1),
        ("gateway=lantern&outcome=refused&cause=account-locked", 1),
    ] {
        assert_eq!(service.get(&format!("/traces?limit=500&{query}")).await.as_array().unwrap().len(), count, "{query}");
    }
    assert!(text(&service.cli(&["trace", "list", "--since", "yesterday"]).stderr).contains("`yesterday` is not a time"));
    assert!(service.run(&["trace", "list", "--since", "1h", "--until", "1s", "--revision", "1"]).contains("reference"));
    let lines = service.run(&["trace", "export", "--gateway", "lantern"]);
    let exported: Vec<Value> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(exported.len(), 5);
    assert!(exported.windows(2).all(|pair| pair[0]["id"].as_u64() < pair[1]["id"].as_u64()) && exported[0]["steps"].is_array());
    assert!(!lines.contains("sounding-line"), "no password is exported");
    let chart = service.run(&["trace", "chart", "--last", "1h"]);
    for wanted in ["account-locked         lantern", "password-wrong         breakwater", "all logins"] {
        assert!(chart.contains(wanted), "{wanted} in {chart}");
    }
    let failures = service.get("/traces/failures?last_s=3600&span_s=60&gateway=lantern").await;
    let failed: u64 = failures["failed"].as_array().unwrap().iter().map(|one| one["count"].as_u64().unwrap()).sum();
    assert_eq!(failed, 2, "{failures}");
    for bad in ["/traces/failures?last_s=3600&span_s=0", "/traces?outcome=lost", "/traces?origin=moon", "/traces?since_us=x"] {
        assert_eq!(service.call("GET", bad, None).await.0, 400, "{bad}");
    }
}
