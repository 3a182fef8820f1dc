//! People added, changed in lists, matched with a directory's group, kept out, removed, and brought back.

use super::harness::{Northmoor, PEOPLE, Service, Setup, http_client, ines, text};
use bivector_lab::courier::{CourierHabits, StandInCourier};
use serde_json::json;

/// Runs a command with a file on standard input; standard output and whether it went well.
fn fed(service: &Service, arguments: &[&str], input: &str) -> (String, bool) {
    let output = service.cli_with_input(arguments, input);
    (format!("{}{}", text(&output.stdout), text(&output.stderr)), output.status.success())
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_is_suspended_stays_out_at_once_and_a_removal_can_be_taken_back_with_its_factors() {
    let world = Northmoor::start().await;
    let service = &world.service;
    let typed = ines();
    assert_eq!(world.log_in("breakwater", "ines", &typed).await.0, "accept");
    assert!(service.run(&["person", "suspend", "ines"]).contains("suspended"));
    let (_, trace) = world.log_in("slipway", "ines", "barnacle-and-buoy").await;
    assert_eq!(trace["cause"], "person-suspended", "whatever the directory says");
    service.import(PEOPLE).await;
    assert_eq!(service.get("/people/ines").await[0]["state"], "suspended", "an import that says nothing of it brings nobody back");
    service.run(&["person", "suspend", "ines", "--lift"]);
    let (said, done) = fed(service, &["person", "remove", "ines"], "");
    assert!(!done && said.contains("nothing was removed"), "it asks first: {said}");
    let said = service.run(&["person", "remove", "ines", "--yes"]);
    let number = said.rsplit("undo ").next().unwrap().split('`').next().unwrap().to_owned();
    assert_eq!(service.call("GET", "/people/ines", None).await.0, 404);
    assert!(service.run(&["person", "undo", &number]).contains("undone: tidehall:ines removed"));
    let (_, trace) = world.log_in("slipway", "ines", &typed).await;
    assert_eq!(trace["cause"], "code-used", "the token is back, and a code that was used before stays used");
    let (said, done) = fed(service, &["person", "undo", &number], "");
    assert!(!done && said.contains("has already been undone"), "{said}");
    // Changed since: an undo would lose what came after.
    service.run(&["person", "add", "ines", "--source", "tidehall", "--name", "Ines O."]);
    let changes = service.get("/people/changes").await;
    let last = changes[0]["number"].to_string();
    service.run(&["person", "add", "ines", "--source", "tidehall", "--name", "Ines Okafor-Brandt"]);
    let (said, done) = fed(service, &["person", "undo", &last], "");
    assert!(!done && said.contains("changed since: tidehall:ines"), "{said}");
    let shown = service.run(&["person", "changes"]);
    assert!(shown.contains("tidehall:ines removed, with 1 factors") && shown.contains("taken back"), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_same_people_imported_again_change_nothing_and_leave_nothing_in_the_records() {
    let world = Northmoor::start().await;
    let service = &world.service;
    let changes = service.get("/people/changes").await;
    let (said, done) = fed(service, &["person", "import", "-"], PEOPLE);
    assert!(done && said.contains("nothing was changed"), "{said}");
    assert_eq!(service.get("/people/changes").await, changes);
    let other = PEOPLE.replacen("Ines Okafor", "Ines Okafor-Brandt", 1);
    let (status, imported) = service.call("POST", "/people/import", Some(serde_json::json!({ "csv": other }))).await;
    assert_eq!((status, imported["changed"].as_u64()), (200, Some(1)), "only who differs: {imported}");
    assert_eq!(service.get("/people/changes").await[0]["people"], 1);
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.0, "accept", "the token is the same one");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_imports_while_the_service_stops_is_told_what_came_of_it() {
    let service = Service::start();
    let lines: String = (0..20_000).map(|number| format!("person{number},roster,Somebody {number}\n")).collect();
    let body = serde_json::json!({ "csv": format!("login,source,name\n{lines}") });
    let (url, token) = (format!("http://{}/api/v1/people/import", service.http), service.token.clone());
    let client = http_client();
    let import = tokio::spawn(async move {
        let answer = client.post(url).bearer_auth(token).json(&body).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    });
    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
    let mut service = service;
    assert!(service.terminate());
    let (status, said) = import.await.unwrap();
    let again = Service::start_in(&service.data.clone(), &[]);
    let known = again.get("/people?limit=10").await.as_array().unwrap().len();
    match status {
        200 => assert!(known > 0, "{said}"),
        _ => {
            assert_eq!((status, known), (503, 0), "{said}");
            assert!(said.contains("the service is stopping; nothing") && said.contains("send it again"), "{said}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_of_changes_is_looked_at_line_by_line_and_done_whole_or_not_at_all() {
    let world = Northmoor::start().await;
    let service = &world.service;
    let list = "login,action,source,factor,value\nines,rename,tidehall,phone,work phone\nyuki,remove,tidehall,totp,\nodo,invite,tidehall,totp,\npell,suspend,tidehall,,\n";
    let broken = format!(
        "{list}nobody,remove,tidehall,phone,\nines,remove,tidehall,tablet,\n,suspend,,,\npell,evict,tidehall,,\npell,suspend,tidehall,,\nnoor,invite,tidehal,,\n"
    );
    let (said, done) = fed(service, &["person", "edit", "-"], &broken);
    assert!(!done && said.contains("6 places are wrong; nothing was done"), "{said}");
    for wanted in [
        "-:6, login: unknown person `nobody`",
        "-:7, factor: ines has no factor `tablet`; known: totp “phone”",
        "-:8, login: the login name is empty",
        "-:9, action: `evict` is not an action",
        "-:10, login: duplicate: an earlier line has the same action",
        "-:11, source: unknown source `tidehal`",
    ] {
        assert!(said.contains(wanted), "{wanted} in {said}");
    }
    let (said, done) = fed(service, &["person", "edit", "-", "--preview"], list);
    assert!(done && said.contains("totp “phone” is called “work phone”") && said.contains("is invited to totp, handed over"), "{said}");
    assert_eq!(service.get("/people/ines").await[0]["factors"][0]["label"], "phone", "a preview changes nothing");
    let (said, done) = fed(service, &["person", "edit", "-"], list);
    assert!(done && said.contains("invitation of tidehall:odo: ") && said.contains("bivector person undo"), "{said}");
    assert_eq!(service.get("/people/ines").await[0]["factors"][0]["label"], "work phone");
    assert_eq!(service.get("/people/odo").await[0]["state"], "invited");
    let number = said.rsplit("undo ").next().unwrap().split('`').next().unwrap();
    service.run(&["person", "undo", number]);
    assert_eq!(service.get("/people/yuki").await[0]["factors"].as_array().unwrap().len(), 1, "back with its seed");
    assert_eq!(service.get("/people/pell").await[0]["disabled"], false);
    let progress = service.run(&["person", "progress"]);
    assert!(progress.contains("invited") && progress.contains("enrolled"), "{progress}");
    // Wrong encoding, too long, nothing in it.
    let latin = service.data.join("latin.csv");
    std::fs::write(&latin, b"login,source\nines,roster\nZo\xeb,roster\n").unwrap();
    let (said, done) = fed(service, &["person", "import", latin.to_str().unwrap()], "");
    assert!(!done && said.contains("is not UTF-8 from line 3 on"), "{said}");
    let long: String = (0..100_050).map(|number| format!("person{number},roster\n")).collect();
    let (said, done) = fed(service, &["person", "import", "-", "--preview"], &format!("login,source\n{long}"));
    assert!(!done && said.contains("more than 100000 lines; split the file"), "{}", &said[said.len().saturating_sub(300)..]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sync_says_who_joined_left_and_changed_before_it_does_anything_and_welcomes_newcomers() {
    let any = "127.0.0.1:0".parse().unwrap();
    let courier = StandInCourier::start(any, any, CourierHabits::default()).await.unwrap();
    let (http, smtp) = (courier.http().to_string(), courier.smtp().to_string());
    let newcomers = ("factor = \"approval\"", "factor = \"totp\"\nsend_by = \"post\"");
    let address = ("http://localhost:18080", "https://login.northmoor.example");
    let change = [("127.0.0.1:18480", http.as_str()), ("127.0.0.1:18025", smtp.as_str()), newcomers, address];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let service = &world.service;
    let looked = service.run(&["person", "sync", "tidehall", "--group", "turbine-crew", "--leavers", "suspend"]);
    assert!(
        looked.contains("joined, would be added")
            && looked.contains("would be kept out")
            && looked.contains("nothing was changed; use `--apply`"),
        "{looked}"
    );
    assert!(looked.contains("tidehall:ines") && looked.contains("tidehall:odo"), "{looked}");
    assert_eq!(service.call("GET", "/people/odo", None).await.0, 404, "looking adds nobody");
    let done = service.run(&["person", "sync", "tidehall", "--group", "turbine-crew", "--leavers", "suspend", "--apply"]);
    assert!(done.contains("undo with `bivector person undo"), "{done}");
    assert_eq!(service.get("/people/ines").await[0]["state"], "suspended");
    assert!(done.contains("invited"), "{done}");
    assert_eq!(service.get("/people/odo").await[0]["state"], "invited");
    let arrived = courier.arrived();
    let mail = arrived.iter().find(|mail| mail.to.starts_with("odo")).expect("a newcomer's invitation arrives");
    assert!(
        mail.text.contains("set up your second factor") && mail.text.contains("https://login.northmoor.example/handset#"),
        "{}",
        mail.text
    );
    let again = service.run(&["person", "sync", "tidehall", "--group", "turbine-crew", "--leavers", "suspend", "--apply"]);
    assert!(again.contains("nothing to change"), "{again}");
    let number = done.rsplit("undo ").next().unwrap().split('`').next().unwrap();
    service.run(&["person", "undo", number]);
    assert_eq!(service.get("/people/ines").await[0]["disabled"], false);
    let (said, went) = fed(service, &["person", "sync", "tidehall", "--group", "turbine-crw", "--leavers", "remove", "--apply"], "");
    assert!(
        !went && said.contains("the group `turbine-crw` of tidehall is empty; nothing was changed"),
        "a wrong name removes nobody: {said}"
    );
    assert_eq!(service.get("/people/ines").await[0]["disabled"], false);
    let (status, said) = service.call("POST", "/people/sync", Some(json!({ "directory": "tidehal", "group": "x" }))).await;
    assert_eq!((status, said["remedy"].as_str()), (404, Some("known: tidehall")));
}
