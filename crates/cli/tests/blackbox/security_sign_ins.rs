//! Sign-ins that end, cookies, secrets and files: what keeps an attacker out who has a part of them already.

use super::harness::{Northmoor, Service, Setup, http_client};
use super::security::{APPROVAL, INVITED, client_from, sign_in};
use bivector_lab::handset::RobotHandset;
use serde_json::{Value, json};
use std::os::unix::fs::PermissionsExt;
use std::time::Duration;

/// Reads server-sent events until the line ends.
async fn ends(response: reqwest::Response) -> bool {
    tokio::time::timeout(Duration::from_secs(10), response.text()).await.is_ok()
}

#[tokio::test(flavor = "multi_thread")]
async fn sign_ins_end_with_sign_out_token_password_and_operator_and_take_event_lines_along() {
    let service = Service::start();
    let api = |path: &str| format!("http://{}/api/v1{path}", service.http);
    let made: Value = serde_json::from_str(&service.run(&["--json", "operator", "add", "harbour-master", "--role", "own"])).unwrap();
    let token = made["token"].as_str().unwrap().to_owned();
    let further: Value =
        serde_json::from_str(&service.run(&["--json", "operator", "token", "harbour-master", "--for", "console"])).unwrap();
    let console = further["token"].as_str().unwrap().to_owned();
    let begin = async |token: &str| sign_in(&http_client(), &service, &json!({ "token": token })).await.1;
    let works = async |cookie: &str| http_client().get(api("/status")).header("cookie", cookie).send().await.unwrap().status() == 200;
    let events = async |cookie: &str| http_client().get(api("/events")).header("cookie", cookie).send().await.unwrap();
    // Signing out ends it for whoever has copied the cookie, too.
    let cookie = begin(&console).await;
    let line = events(&cookie).await;
    let out = http_client().delete(api("/session")).header("cookie", &cookie).header("x-bivector-console", "1").send().await.unwrap();
    assert_eq!((out.status().as_u16(), works(&cookie).await, ends(line).await), (204, false, true));
    // An owner sees them and ends one.
    let cookie = begin(&console).await;
    let listed: Value = serde_json::from_str(&service.run(&["--json", "operator", "sessions", "harbour-master"])).unwrap();
    assert_eq!((listed.as_array().unwrap().len(), &listed[0]["by"], &listed[0]["from"]), (1, &json!("token console"), &json!("127.0.0.1")));
    let line = events(&cookie).await;
    service.run(&["operator", "end-session", "harbour-master", listed[0]["id"].as_str().unwrap()]);
    assert_eq!((works(&cookie).await, ends(line).await), (false, true));
    // A dropped token ends what it has begun, and the lines of programs that use it.
    let cookie = begin(&console).await;
    let program = http_client().get(api("/events")).bearer_auth(&console).send().await.unwrap();
    service.run(&["operator", "drop-token", "harbour-master", "console"]);
    assert_eq!((works(&cookie).await, ends(program).await), (false, true));
    // So do a new password, and the operator's end, and the same name again is somebody else.
    let cookie = begin(&token).await;
    service.cli_with_input(&["operator", "sign-in", "harbour-master", "--password-file", "-"], "slack-water-at-six\n");
    assert!(!works(&cookie).await);
    let cookie = begin(&token).await;
    service.run(&["operator", "remove", "harbour-master"]);
    assert!(!works(&cookie).await);
    service.run(&["operator", "add", "harbour-master", "--role", "own"]);
    assert!(!works(&cookie).await);
    // They outlive a restart otherwise.
    let cookie = begin(&service.token.clone()).await;
    let mut service = service;
    assert!(service.terminate());
    let again = Service::start_in(&service.data.clone(), &[]);
    let asked = http_client().get(format!("http://{}/api/v1/status", again.http)).header("cookie", cookie).send().await.unwrap();
    assert_eq!(asked.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_handsets_session_ends_when_it_signs_out_and_its_line_of_events_with_it() {
    let world = Northmoor::with(Setup { change: &[APPROVAL, INVITED], ..Setup::default() }).await;
    let base = format!("http://{}/handset/v1", world.service.http);
    let (_, made) = world.service.call("POST", "/people/tidehall/ines/invitation", Some(json!({}))).await;
    let mut phone = RobotHandset::enrol(&http_client(), &format!("http://{}", world.service.http), made["code"].as_str().unwrap(), "phone")
        .await
        .unwrap();
    phone.begin().await.unwrap();
    let session = phone.session().to_owned();
    let line = http_client().get(format!("{base}/events")).bearer_auth(&session).send().await.unwrap();
    let out = http_client().delete(format!("{base}/session")).bearer_auth(&session).send().await.unwrap();
    assert_eq!((out.status().as_u16(), ends(line).await), (204, true));
    assert_eq!(http_client().get(format!("{base}/me")).bearer_auth(&session).send().await.unwrap().status(), 401);
    phone.begin().await.unwrap();
    assert!(phone.me().await.is_ok(), "and a new one begins");
}

#[tokio::test(flavor = "multi_thread")]
async fn cookies_are_secure_behind_a_trusted_proxy_and_strange_hosts_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let service = Service::start_in(&folder.path().join("data"), &["--proxy", "127.0.0.9", "--name", "in.northmoor.example"]);
    let url = format!("http://{}/api/v1/session", service.http);
    let cookie = async |client: reqwest::Client, forwarded: &str| {
        let body = json!({ "token": service.token });
        let response = client.post(&url).header("forwarded", forwarded).json(&body).send().await.unwrap();
        response.headers()["set-cookie"].to_str().unwrap().to_owned()
    };
    assert!(cookie(client_from("127.0.0.9"), "for=198.51.100.7;proto=https").await.contains("; Secure"));
    assert!(!cookie(client_from("127.0.0.8"), "for=198.51.100.7;proto=https").await.contains("Secure"), "nobody else is believed");
    let audit = service.run(&["audit", "list"]);
    assert!(audit.contains("198.51.100.7") && audit.contains("127.0.0.8"), "{audit}");
    for (host, wanted) in [("in.northmoor.example", 200), ("attacker.example", 421), ("localhost:9", 200), ("203.0.113.9", 200)] {
        let asked = http_client().get(format!("http://{}/healthz", service.http)).header("host", host).send().await.unwrap();
        assert_eq!(asked.status().as_u16(), wanted, "{host}");
    }
    for path in ["/api/v1/status", "/handset/v1/page", "/metrics"] {
        let answer = http_client().get(format!("http://{}{path}", service.http)).send().await.unwrap();
        let header = |name: &str| answer.headers()[name].to_str().unwrap().to_owned();
        assert_eq!((header("cache-control").as_str(), header("x-content-type-options").as_str()), ("no-store", "nosniff"), "{path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_with_the_role_change_has_a_secret_sent_to_themselves() {
    let world = Northmoor::start().await;
    let made: Value = serde_json::from_str(&world.service.run(&["--json", "operator", "add", "pilot", "--role", "change"])).unwrap();
    let apply = async |token: &str, site: &str| {
        let body = json!({ "text": site, "weaker_is_meant": true });
        let sent = http_client().post(format!("http://{}/api/v1/site/revisions", world.service.http)).bearer_auth(token).json(&body);
        let response = sent.send().await.unwrap();
        (response.status().as_u16(), response.json::<Value>().await.unwrap())
    };
    let pilot = made["token"].as_str().unwrap();
    let replaced = |from: &str, to: &str| {
        assert!(world.site.contains(from), "{from}");
        world.site.replacen(from, to, 1)
    };
    let (status, body) = apply(pilot, &replaced("secret = \"courier/pager\"", "secret = \"directory/tidehall\"")).await;
    assert_eq!(status, 422, "{body}");
    assert!(body["findings"].to_string().contains("foreign-secret"), "{body}");
    let elsewhere = replaced("http://127.0.0.1:18480", "http://127.0.0.1:18481");
    let (status, body) = apply(pilot, &elsewhere).await;
    assert_eq!((status, body["type"].as_str()), (403, Some("/problems/secret-moves")), "{body}");
    assert!(body["title"].as_str().unwrap().contains("courier/pager"), "{body}");
    let (status, body) = apply(pilot, &replaced("name = \"Northmoor Tidal\"", "name = \"Northmoor\"")).await;
    assert_eq!(status, 201, "other changes are the pilot's to make: {body}");
    let (status, body) = apply(&world.service.token, &elsewhere).await;
    assert_eq!(status, 201, "and this one an owner's: {body}");
}

#[test]
fn what_the_service_writes_is_for_nobody_else_and_wider_modes_are_corrected_at_start() {
    let service = Service::start();
    let modes = |data: &std::path::Path| {
        let files = std::fs::read_dir(data).unwrap().flatten().map(|entry| entry.path());
        files.map(|path| (path.clone(), std::fs::metadata(&path).unwrap().permissions().mode() & 0o777)).collect::<Vec<_>>()
    };
    assert_eq!(std::fs::metadata(&service.data).unwrap().permissions().mode() & 0o777, 0o700);
    assert!(modes(&service.data).iter().all(|(_, mode)| *mode == 0o600), "{:?}", modes(&service.data));
    let (data, _folder) = service.kill();
    std::fs::set_permissions(&data, std::fs::Permissions::from_mode(0o755)).unwrap();
    std::fs::set_permissions(data.join("records.db"), std::fs::Permissions::from_mode(0o644)).unwrap();
    let service = Service::start_in(&data, &[]);
    assert!(service.log_has("records.db` (mode 0644); it has the mode 0600 now"), "{}", service.log());
    assert!(modes(&data).iter().all(|(_, mode)| *mode == 0o600), "{:?}", modes(&data));
}
