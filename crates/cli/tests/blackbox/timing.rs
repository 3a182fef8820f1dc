//! Waits: what does not nest, what to change, what gateways and people have shown, and what simulated logins say.

use super::harness::{Northmoor, Setup, code, http_client, text};
use bivector_exchange::Patience;
use bivector_lab::gateway::SimulatedGateway;
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::time::{Duration, Instant};

/// The bastion's waits are stated, and too short for approvals.
const SHORT: (&str, &str) = ("from = [\"127.0.0.13\", ", "patience = { wait = \"5s\", tries = 3 }\nfrom = [\"127.0.0.13\", ");

#[tokio::test(flavor = "multi_thread")]
async fn a_budget_is_drawn_and_says_what_breaks_and_what_to_set() {
    let world = Northmoor::with(Setup { change: &[SHORT], ..Setup::default() }).await;
    let good = world.service.run(&["budget", "staff", "--via", "breakwater"]);
    for part in ["breakwater", "tidehall: silent server", "code marked", "├", "3 × 5.00 s", "all timeouts fit"] {
        assert!(good.contains(part), "{part} in\n{good}");
    }
    let output = world.service.cli(&["budget", "watch", "--via", "slipway"]);
    let said = text(&output.stdout);
    assert_eq!(output.status.code(), Some(1), "{said}");
    for part in ["approval-outlives-front", "set `wait` of `slipway` to 21 s", "✕ the gateway has given up by then", "[line "] {
        assert!(said.contains(part), "{part} in\n{said}");
    }
    // Trying another value changes nothing.
    let tried = world.service.run(&["budget", "watch", "--via", "slipway", "--set", "gateway.wait=21s"]);
    assert!(tried.contains("through slipway") && !tried.contains('✕'), "{tried}");
    let suggestion = text(&world.service.cli(&["budget", "watch", "--suggest"]).stdout);
    assert!(suggestion.contains("slipway.wait") && suggestion.contains("21s"), "{suggestion}");
    assert!(text(&world.service.cli(&["budget", "watch", "--settings"]).stdout).contains("watch.second_patience"));

    let folder = tempfile::tempdir().unwrap();
    let draft = folder.path().join("draft.toml");
    // The suggestion goes beyond what is tried, and the draft has both.
    let output = world.service.cli(&["budget", "watch", "--set", "slipway.wait=6s", "--suggest", "--draft", draft.to_str().unwrap()]);
    assert!(text(&output.stderr).contains("to enter on the device: slipway"), "{}", text(&output.stderr));
    let changed = std::fs::read_to_string(&draft).unwrap();
    assert_eq!(
        changed,
        world.site.replacen("wait = \"5s\", tries = 3 }\nfrom = [\"127.0.0.13\"", "wait = \"21s\", tries = 3 }\nfrom = [\"127.0.0.13\"", 1)
    );
    let of_file = world.service.run(&["budget", "watch", "--file", draft.to_str().unwrap()]);
    assert!(!of_file.contains("approval-outlives-front"), "{of_file}");
    // The site check says the same of the file that is active.
    let check = world.service.cli_with_input(&["site", "check", "-"], &world.site);
    let said = text(&check.stdout) + text(&check.stderr).as_str();
    assert!(said.contains("approval-outlives-front"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn simulated_logins_and_curves_are_printed_written_and_repeatable() {
    let world = Northmoor::with(Setup { change: &[SHORT], ..Setup::default() }).await;
    let all = ["budget", "staff", "--via", "breakwater", "--simulate", "400"];
    assert!(world.service.run(&all).contains("400 of 400 simulated logins accepted: 100.0 %"));
    let few = ["budget", "watch", "--via", "slipway", "--simulate", "1000", "--seed", "7", "--loss", "2%", "--json"];
    let output = world.service.cli(&few);
    assert_eq!(output.status.code(), Some(1), "many give up");
    let first: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(first, serde_json::from_slice::<Value>(&world.service.cli(&few).stdout).unwrap(), "the same seed");
    assert!(first["failed"]["gateway-gave-up"].as_u64().unwrap() > 50, "{first}");
    let folder = tempfile::tempdir().unwrap();
    let (csv, svg) = (folder.path().join("curve.csv"), folder.path().join("curve.svg"));
    let sweep = world.service.run(&[
        "budget",
        "watch",
        "--via",
        "slipway",
        "--simulate",
        "500",
        "--sweep",
        "gateway.wait=1s..30s",
        "--points",
        "8",
        "--csv",
        csv.to_str().unwrap(),
        "--svg",
        svg.to_str().unwrap(),
    ]);
    assert!(sweep.contains("◀ best value") && sweep.contains("now 5 s"), "{sweep}");
    assert_eq!(std::fs::read_to_string(csv).unwrap().lines().count(), 9);
    assert!(std::fs::read_to_string(svg).unwrap().starts_with("<svg"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_makes_no_sense_is_refused_with_the_remedy() {
    let world = Northmoor::start().await;
    let cases: [(&[&str], &str, &str); 12] = [
        (
            &["budget", "watch", "--via", "slipway", "--simulate", "10", "--sweep", "lantern.wait=1s..9s"],
            "changes nothing for logins through `slipway`",
            "via `lantern`",
        ),
        (&["budget", "stuff"], "unknown chain `stuff`", "known: watch, staff"),
        (&["budget", "staff", "--via", "lantern"], "does not accept logins from a gateway `lantern`", "breakwater, slipway"),
        (&["budget", "staff", "--set", "breakwater.wait=0s"], "allowed: 100ms to 600s", "with its unit"),
        (&["budget", "staff", "--set", "breakwater.tries=0"], "allowed: 1 to 20", "whole number"),
        (&["budget", "staff", "--set", "breakwater.weight=3"], "unknown setting `breakwater.weight`", "breakwater.wait"),
        (&["budget", "staff", "--set", "wait"], "is not a setting", "NAME=VALUE"),
        (&["budget", "staff", "--simulate", "0"], "0 logins cannot be simulated", "1 to"),
        (&["budget", "staff", "--simulate", "10", "--loss", "150"], "`150` is not a percentage", "for example 2%"),
        (&["budget", "staff", "--simulate", "10", "--way", "owl"], "unknown path `owl`", "totp"),
        (&["budget", "watch", "--simulate", "10", "--people", "0s,0s"], "the usual time", "above 0"),
        (
            &["budget", "watch", "--simulate", "10000000", "--sweep", "gateway.wait=1s..9s", "--points", "100"],
            "would take some",
            "fewer logins",
        ),
    ];
    for (arguments, wrong, remedy) in cases {
        let output = world.service.cli(arguments);
        let said = text(&output.stderr);
        assert!(said.contains(wrong) && said.contains(remedy) && !output.status.success(), "{arguments:?}: {said}");
    }
    let token = world.service.run(&["operator", "add", "watcher", "--role", "view"]);
    let body = json!({ "logins": 20_001 });
    let call = http_client().post(format!("http://{}/api/v1/timing/watch/simulation", world.service.http));
    let refused: Value = call.bearer_auth(token.lines().next().unwrap()).json(&body).send().await.unwrap().json().await.unwrap();
    assert!(refused["status"] == 403 && refused["remedy"].as_str().unwrap().contains("20000 logins at most"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rush_of_local_users_is_reckoned_with_what_a_hash_costs_here_and_as_the_site_says() {
    let hash = "[passwords.hash]\nmemory_mib = 8\npasses = 1\nat_once = 3\n[[identity]]";
    let local = ("first = [\"tidehall\", \"roster\"]", "first = [\"roster\"]");
    let world = Northmoor::with(Setup { change: &[local, ("[[identity]]", hash)], ..Setup::default() }).await;
    let shown = world.service.run(&["budget", "staff", "--via", "breakwater", "--rush", "60"]);
    assert!(shown.contains("roster") && shown.contains("breakwater"), "{shown}");
    let (status, view) = world.service.call("POST", "/timing/staff", Some(json!({ "via": "breakwater", "rush": 500_000 }))).await;
    let rush = &view["rush"][0];
    assert_eq!((status, rush["at_once"].as_u64()), (200, Some(3)), "{rush}");
    assert!(rush["each_us"].as_u64().unwrap() > 0 && rush["lost"].as_u64().unwrap() > 0, "{rush}");
    let output = world.service.cli(&["budget", "staff", "--via", "breakwater", "--rush", "500000"]);
    assert!(output.status.code() == Some(1) && text(&output.stdout).contains("[passwords.hash]"), "{}", text(&output.stdout));
    assert_eq!(world.service.call("POST", "/timing/staff", Some(json!({ "rush": 0 }))).await.0, 422);
    let advice = world.service.get("/doctor").await.to_string();
    assert!(advice.contains("8 MiB, 1 passes") && advice.contains("guesses at stolen records are cheap"), "{advice}");
    let weaker = world.service.run(&["site", "compare", "--revision", "1"]);
    assert!(!weaker.contains("weaker"), "{weaker}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateways_own_resends_tell_what_it_really_waits() {
    let world = Northmoor::with(Setup { delay: Duration::from_millis(1_500), ..Setup::default() }).await;
    // The site file says five seconds; the device resends after a quarter of one, once, and then is silent for longer than
    // a busy machine may keep either side waiting.
    let device = SimulatedGateway { patience: Patience { wait: Duration::from_millis(250), tries: 2 }, ..world.gateway("breakwater") };
    let tries = (0..40).map(|_| {
        let device = device.clone();
        tokio::spawn(async move { device.log_in("tomasz", &format!("wrong-{}", code("tomasz", 0))).await.unwrap() })
    });
    for one in tries.collect::<Vec<_>>() {
        one.await.unwrap();
    }
    let until = Instant::now() + Duration::from_secs(20);
    loop {
        let rows = world.service.get("/traces?limit=100").await;
        if rows.as_array().unwrap().len() >= 40 || Instant::now() > until {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let (status, view) = world.service.call("POST", "/timing/staff", Some(json!({ "via": "breakwater" }))).await;
    assert_eq!(status, 200, "{view}");
    let seen = &view["learned"]["gateways"]["breakwater"];
    let wait_ms = seen["wait_us"].as_u64().unwrap() / 1000;
    assert!((240..750).contains(&wait_ms) && seen["tries"] == 2, "{seen}");
    let found: Vec<&str> = view["findings"].as_array().unwrap().iter().map(|finding| finding["code"].as_str().unwrap()).collect();
    assert!(found.contains(&"seen-otherwise") && found.contains(&"waits-do-not-nest"), "{found:?}: {seen}");
    assert!(view["notes"].to_string().contains("learned from its retransmissions"), "{}", view["notes"]);
    // What is tried out counts, whatever was seen.
    let (_, tried) = world.service.call("POST", "/timing/staff", Some(json!({ "set": { "breakwater.wait": "9s" } }))).await;
    let hop = &tried["paths"][0]["hops"];
    assert!(hop.to_string().contains("9000000"), "{hop}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_login_that_was_let_in_and_never_came_up_is_said_so_where_the_gateway_tells_of_sessions() {
    let doors = ("[doors.radius]\n", "[doors.radius]\naccounting = [\"127.0.0.1:0\"]\nsession_within = \"1s\"\n");
    let world = Northmoor::with(Setup { change: &[doors], ..Setup::default() }).await;
    let door: SocketAddr = world.service.get("/status").await["accounting"][0].as_str().unwrap().parse().unwrap();
    let device = SimulatedGateway { patience: Patience { wait: Duration::from_millis(700), tries: 2 }, ..world.gateway("breakwater") };
    let ines = format!("barnacle-and-buoy{}", code("ines", 0));
    // Until a gateway tells of a session, its silence means nothing.
    let (outcome, before) = world.log_in("breakwater", "ines", &ines).await;
    assert_eq!(outcome, "accept");
    assert!(device.account(door, "somebody", "s0", 2).await.unwrap(), "a report is confirmed");
    let (_, up) = world.log_in("breakwater", "NORTHMOOR\\ines", &format!("barnacle-and-buoy{}", code("ines", 1))).await;
    assert!(device.account(door, "NORTHMOOR\\ines", "s1", 1).await.unwrap());
    assert!(device.account(door, "NORTHMOOR\\ines", "s1", 1).await.unwrap(), "a resend is confirmed too");
    let (outcome, lost) = world.log_in("breakwater", "tomasz", &tomasz()).await;
    assert_eq!(outcome, "accept", "{lost:#}");
    let until = Instant::now() + Duration::from_secs(10);
    let steps =
        async |trace: &Value| world.service.get(&format!("/traces/{}", trace["reference"].as_str().unwrap())).await["steps"].to_string();
    while !steps(&lost).await.contains("no session") {
        assert!(Instant::now() < until, "{}", steps(&lost).await);
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(!steps(&up).await.contains("no session") && !steps(&before).await.contains("no session"));
    let (_, view) = world.service.call("POST", "/timing/staff", Some(json!({}))).await;
    assert_eq!(view["learned"]["no_session"], 1, "{}", view["learned"]);
    assert!(view["notes"].to_string().contains("no session started in time"), "{}", view["notes"]);

    // What is not a report of a known gateway gets silence, and is listed.
    let other = SimulatedGateway { secret: bivector_wire::SharedSecret::new(b"another"), ..device.clone() };
    assert!(!other.account(door, "ines", "s2", 1).await.unwrap());
    let stranger = SimulatedGateway { from: "127.0.0.77".parse().unwrap(), ..device.clone() };
    assert!(!stranger.account(door, "ines", "s3", 1).await.unwrap());
    let login = SimulatedGateway { server: door, ..device.clone() };
    assert!(login.log_in("ines", &ines).await.unwrap().0.reply.is_none(), "logins are not for this door");
    let alive = login.status().await.unwrap();
    assert!(alive.reply.is_some(), "Status-Server is answered: {:?}", alive.discarded);
    tokio::time::sleep(Duration::from_millis(1_200)).await;
    let knocks = world.service.get("/knocks").await.to_string();
    for part in ["accounting request: ", "127.0.0.77", "is not accepted at the accounting door"] {
        assert!(knocks.contains(part), "{part} in {knocks}");
    }
    let sheet = world.service.run(&["gateway", "handover", "breakwater"]);
    assert!(sheet.contains("accounting server"), "{sheet}");
}

fn tomasz() -> String {
    let line = super::harness::DIRECTORY.split("uid = \"tomasz\"").nth(1).unwrap();
    let password = line.split("password = \"").nth(1).unwrap().split('"').next().unwrap();
    format!("{password}{}", code("tomasz", 0))
}
