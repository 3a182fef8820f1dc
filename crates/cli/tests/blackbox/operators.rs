//! Who may call: roles, tokens, the console's sign-in, the audit, and the API over TLS.

use super::harness::{Northmoor, Service, http_client, text};
use bivector_lab::certificates::LabIssuer;
use bivector_model::totp::{Settings, code};
use serde_json::{Value, json};
use std::process::Command;
use std::time::{SystemTime, UNIX_EPOCH};

/// A call with another token: its status.
async fn call(service: &Service, token: &str, method: &str, path: &str, body: Option<Value>) -> u16 {
    let method = reqwest::Method::from_bytes(method.as_bytes()).unwrap();
    let mut request = http_client().request(method, format!("http://{}/api/v1{path}", service.http)).bearer_auth(token);
    if let Some(body) = body {
        request = request.json(&body);
    }
    request.send().await.unwrap().status().as_u16()
}

fn first_line(output: &str) -> String {
    output.lines().next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn each_role_may_do_what_it_includes_and_nothing_beyond() {
    let world = Northmoor::start().await;
    let service = &world.service;
    let calls: [(&str, &str, Option<Value>, usize); 10] = [
        ("GET", "/traces", None, 0),
        ("GET", "/chains", None, 0),
        // A curve as the page draws it may be looked at; one that keeps a core busy may not.
        ("POST", "/timing/watch/simulation", Some(json!({ "sweep": "gateway.wait=1s..9s", "logins": 600, "points": 15 })), 0),
        ("POST", "/timing/watch/simulation", Some(json!({ "sweep": "gateway.wait=1s..9s", "logins": 2_000, "points": 15 })), 1),
        ("POST", "/directories/tidehall/probe", Some(json!({})), 1),
        ("POST", "/logins", Some(json!({ "person": "ines", "via": "breakwater", "password": "x" })), 1),
        ("PUT", "/secrets", Some(json!({ "name": "gateway/new", "value": "a-long-secret" })), 2),
        ("POST", "/site/revisions", Some(json!({ "text": world.site })), 2),
        ("GET", "/audit", None, 3),
        ("GET", "/operators", None, 3),
    ];
    for (rank, role) in ["view", "operate", "change", "own"].into_iter().enumerate() {
        let token = first_line(&service.run(&["operator", "add", &format!("mara-{role}"), "--role", role]));
        for (method, path, body, needed) in &calls {
            let status = call(service, &token, method, path, body.clone()).await;
            let wanted = if rank >= *needed { 200..300 } else { 403..404 };
            assert!(wanted.contains(&status), "{role}: {method} {path} gave {status}");
        }
    }
    let refused = service.cli(&["operator", "role", "owner", "view"]);
    assert!(refused.status.success(), "another owner is left: {}", text(&refused.stderr));
    assert_eq!(service.cli(&["operator", "list"]).status.code(), Some(1), "and this one may no longer look");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_last_owner_stays_and_tokens_end_when_they_are_taken_out() {
    let service = Service::start();
    for arguments in [&["operator", "remove", "owner"][..], &["operator", "role", "owner", "change"]] {
        let output = service.cli(arguments);
        assert!(
            output.status.code() == Some(1) && text(&output.stderr).contains("the last operator with the role `own`"),
            "{}",
            text(&output.stderr)
        );
    }
    let token = first_line(&service.run(&["operator", "token", "owner", "--for", "night job"]));
    assert_eq!(call(&service, &token, "GET", "/status", None).await, 200);
    assert_eq!(service.cli(&["operator", "token", "owner", "--for", "night job"]).status.code(), Some(1), "one label, one token");
    assert!(service.run(&["operator", "list"]).contains("first, night job"));
    service.run(&["operator", "drop-token", "owner", "night job"]);
    assert_eq!(call(&service, &token, "GET", "/status", None).await, 401);
    let mara = first_line(&service.run(&["operator", "add", "mara", "--role", "own"]));
    service.run(&["operator", "remove", "mara"]);
    assert_eq!(call(&service, &mara, "GET", "/status", None).await, 401);
    assert_eq!(service.cli(&["operator", "add", "no spaces", "--role", "view"]).status.code(), Some(1));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_is_signed_in_to_with_password_and_a_code_that_works_once() {
    let service = Service::start();
    let output = service.cli_with_input(&["operator", "sign-in", "owner", "--password-file", "-"], "slack-water-at-six\n");
    assert!(output.status.success(), "{}", text(&output.stderr));
    let seed = data_encoding::BASE32_NOPAD.decode(first_line(&text(&output.stdout)).as_bytes()).unwrap();
    let step = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs() / 30;
    let sign_in = async |name: &str, password: &str, code: &str| {
        let body = json!({ "name": name, "password": password, "code": code });
        let response = http_client().post(format!("http://{}/api/v1/session", service.http)).json(&body).send().await.unwrap();
        (response.status().as_u16(), response.headers().get("set-cookie").map(|cookie| cookie.to_str().unwrap().to_owned()))
    };
    let (status, cookie) = sign_in("owner", "slack-water-at-six", &code(&seed, step, Settings::default())).await;
    let cookie = cookie.unwrap();
    assert!(
        status == 204 && cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict") && !cookie.contains("Secure"),
        "{status} {cookie}"
    );
    let session = cookie.split(';').next().unwrap();
    let asked = http_client().get(format!("http://{}/api/v1/status", service.http)).header("cookie", session).send().await.unwrap();
    assert_eq!(asked.status(), 200);
    assert_eq!(sign_in("owner", "slack-water-at-six", &code(&seed, step, Settings::default())).await.0, 401, "a code works once");
    for (name, password) in [("owner", "slack-water-at-nine"), ("nobody", "slack-water-at-six")] {
        assert_eq!(sign_in(name, password, &code(&seed, step + 1, Settings::default())).await.0, 401);
    }
    for _ in 0..4 {
        sign_in("owner", "guess", "000000").await;
    }
    let right = code(&seed, step + 1, Settings::default());
    assert_eq!(sign_in("owner", "slack-water-at-six", "000000").await.0, 429, "after five failures the name waits");
    assert_eq!(sign_in("owner", "slack-water-at-six", &right).await.0, 204, "whoever has the right code is not locked out by strangers");
    assert_eq!(sign_in("owner", "slack-water-at-six", &right).await.0, 401, "once");
    let short = service.cli_with_input(&["operator", "sign-in", "owner", "--password-file", "-"], "short\n");
    assert!(text(&short.stderr).contains("at least 12 characters"));
    assert!(!service.log().contains("slack-water"));
}

#[tokio::test(flavor = "multi_thread")]
async fn every_change_stands_in_the_audit_and_a_touched_row_is_found() {
    let world = Northmoor::start().await;
    let service = &world.service;
    service.run(&["gateway", "register", "127.0.0.66", "--as", "slipway"]);
    service.run(&["site", "restore", "1"]);
    service.run(&["secret", "rotate", "gateway/slipway"]);
    let listed = service.run(&["audit", "list", "--limit", "50"]);
    for what in ["secret.set", "site.apply", "people.import", "gateway.register", "site.restore", "secret.rotate", "owner", "127.0.0.1"] {
        assert!(listed.contains(what), "{what}: {listed}");
    }
    assert!(service.run(&["audit", "verify"]).contains("the audit log is intact"));
    // Somebody with the file, but without the service.
    let connection = rusqlite::Connection::open(service.data.join("records.db")).unwrap();
    connection.busy_timeout(std::time::Duration::from_secs(5)).unwrap();
    connection.execute("UPDATE audit SET operator = 'mara' WHERE what = 'gateway.register'", []).unwrap();
    let output = service.cli(&["audit", "verify"]);
    assert!(output.status.code() == Some(1) && text(&output.stdout).contains("was changed"), "{}", text(&output.stdout));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_api_is_on_loopback_only_unless_it_has_a_certificate() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("data");
    let output = Command::new(env!("CARGO_BIN_EXE_bivector")).args(["serve", "--http", "0.0.0.0:0", "--data"]).arg(&data).output().unwrap();
    assert!(output.status.code() == Some(1) && text(&output.stderr).contains("--tls-certificate"), "{}", text(&output.stderr));
    let issuer = LabIssuer::new("console's issuer").unwrap();
    let (certificate, key) = issuer.server_pem(&["127.0.0.1", "localhost"]).unwrap();
    let path = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    for (name, contents) in [("ca.pem", issuer.pem()), ("server.pem", certificate.as_str()), ("server.key", key.as_str())] {
        std::fs::write(path(name), contents).unwrap();
    }
    let mut command = Command::new(env!("CARGO_BIN_EXE_bivector"));
    command
        .args(["serve", "--http", "0.0.0.0:0", "--tls-certificate", &path("server.pem"), "--tls-key", &path("server.key"), "--data"])
        .arg(&data);
    let service = Service::spawn(command, &data);
    let reach = |more: &[&str]| {
        let mut client = Command::new(env!("CARGO_BIN_EXE_bivector"));
        client.args(["site", "history"]).args(more).env("BIVECTOR_TOKEN", &service.token).env("HOME", "/nonexistent");
        client.env("BIVECTOR_SERVER", format!("https://127.0.0.1:{}", service.http.port())).output().unwrap()
    };
    let known = reach(&["--ca", &path("ca.pem")]);
    assert!(known.status.success(), "{}", text(&known.stderr));
    let stranger = reach(&[]);
    assert_eq!(stranger.status.code(), Some(3), "another issuer vouches for nobody: {}", text(&stranger.stderr));
    // A caller who says nothing keeps nobody waiting.
    let _silent = std::net::TcpStream::connect(("127.0.0.1", service.http.port())).unwrap();
    assert!(reach(&["--ca", &path("ca.pem")]).status.success());
    let wrong = Command::new(env!("CARGO_BIN_EXE_bivector"))
        .args(["serve", "--http", "127.0.0.1:0", "--tls-certificate", &path("server.key"), "--tls-key", &path("server.key"), "--data"])
        .arg(folder.path().join("other"))
        .output()
        .unwrap();
    assert!(wrong.status.code() == Some(1) && text(&wrong.stderr).contains("server.key"), "{}", text(&wrong.stderr));
}
