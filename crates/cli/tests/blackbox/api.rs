use super::harness::{Northmoor, Service, ines};
use futures_util::StreamExt;
use serde_json::json;

#[tokio::test(flavor = "multi_thread")]
async fn every_call_but_health_and_figures_needs_a_token_and_a_refusal_is_a_problem() {
    let service = Service::start();
    let http = super::harness::http_client();
    let base = format!("http://{}", service.http);
    let description: serde_json::Value = http.get(format!("{base}/api/v1/openapi.json")).send().await.unwrap().json().await.unwrap();
    let operators = |path: &&String| path.starts_with("/api/v1/");
    for path in description["paths"].as_object().unwrap().keys().filter(operators) {
        let methods = &description["paths"][path];
        for method in methods.as_object().unwrap().keys() {
            let url = format!("{base}{}", path.replace("{number}", "1").replace("{login}", "x").replace("{reference}", "x"));
            let method = reqwest::Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            for token in [None, Some("bvt_wrong")] {
                let mut request = http.request(method.clone(), &url).json(&json!({ "token": "bvt_wrong" }));
                if let Some(token) = token {
                    request = request.bearer_auth(token);
                }
                let response = request.send().await.unwrap();
                let signs_out = path == "/api/v1/session" && method == reqwest::Method::DELETE;
                assert_eq!(response.status(), if signs_out { 204 } else { 401 }, "{method} {path}");
                if !signs_out {
                    assert_eq!(response.headers()["content-type"], "application/problem+json", "{method} {path}");
                }
            }
        }
    }
    // What phones and people ask for begins a session, or needs one and comes from the page itself.
    let open = ["/handset/v1/page", "/handset/v1/challenge", "/handset/v1/session", "/handset/v1/own/session"];
    let phones = |path: &&String| path.starts_with("/handset/v1/") && !open.contains(&path.as_str());
    let mut seen = 0;
    for path in description["paths"].as_object().unwrap().keys().filter(phones) {
        for method in description["paths"][path].as_object().unwrap().keys() {
            let method = reqwest::Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            let url = format!("{base}{}", path.replace("{id}", "1"));
            let response = http.request(method.clone(), &url).header("x-bivector-handset", "1").json(&json!({})).send().await.unwrap();
            assert!(response.status().is_client_error(), "{method} {path}: {}", response.status());
            assert_eq!(response.headers()["content-type"], "application/problem+json", "{method} {path}");
            seen += 1;
        }
    }
    assert!(seen > 15, "{seen} routes of phones and people are described");
    assert_eq!(http.get(format!("{base}/healthz")).send().await.unwrap().status(), 200);
    let ready = http.get(format!("{base}/readyz")).send().await.unwrap();
    assert_eq!(ready.status(), 503);
    assert!(ready.text().await.unwrap().contains("bivector site apply"));
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_bodies_and_unknown_paths_get_a_problem_that_repeats_nothing() {
    let service = Service::start();
    for (method, path, body, status) in [
        ("GET", "/nothing-here", None, 404),
        ("DELETE", "/traces", None, 405),
        ("GET", "/traces?limit=many", None, 400),
        ("GET", "/traces?outcome=maybe", None, 400),
        ("GET", "/people/nobody", None, 404),
        ("GET", "/site", None, 404),
        ("GET", "/site/revisions/7", None, 404),
        ("PUT", "/secrets", Some(json!({ "name": "a b", "value": "hush-hush" })), 422),
        ("PUT", "/secrets", Some(json!({ "value": "hush-hush" })), 422),
        ("POST", "/logins", Some(json!({ "person": "ines", "via": "breakwater", "password": "hush-hush" })), 404),
    ] {
        let (seen, problem) = service.call(method, path, body).await;
        assert_eq!(seen, status, "{method} {path}: {problem}");
        assert!(problem["title"].as_str().is_some_and(|title| !title.is_empty()), "{method} {path}: {problem}");
        assert!(!problem.to_string().contains("hush-hush"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_console_session_is_a_cookie_that_scripts_cannot_read_and_other_sites_cannot_use() {
    let service = Service::start();
    let http = super::harness::http_client();
    let base = format!("http://{}/api/v1", service.http);
    let signed_in = http.post(format!("{base}/session")).json(&json!({ "token": service.token })).send().await.unwrap();
    assert_eq!(signed_in.status(), 204);
    let cookie = signed_in.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict") && !cookie.contains(&service.token), "{cookie}");
    let pair = cookie.split(';').next().unwrap();
    let status = http.get(format!("{base}/status")).header("cookie", pair).send().await.unwrap();
    assert_eq!(status.status(), 200);
    let body = json!({ "name": "gateway/x", "value": "v" });
    let crossing = http.put(format!("{base}/secrets")).header("cookie", pair).json(&body).send().await.unwrap();
    assert_eq!(crossing.status(), 403);
    let own =
        http.put(format!("{base}/secrets")).header("cookie", pair).header("x-bivector-console", "1").json(&body).send().await.unwrap();
    assert_eq!(own.status(), 204);
    let middle = pair.len() / 2;
    let other = if pair.as_bytes()[middle] == b'A' { "B" } else { "A" };
    let forged = format!("{}{other}{}", &pair[..middle], &pair[middle + 1..]);
    assert_eq!(http.get(format!("{base}/status")).header("cookie", forged).send().await.unwrap().status(), 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn new_traces_come_as_events_and_figures_count_them() {
    let world = Northmoor::start().await;
    let response = super::harness::http_client()
        .get(format!("http://{}/api/v1/events", world.service.http))
        .bearer_auth(&world.service.token)
        .send()
        .await
        .unwrap();
    assert_eq!(response.headers()["content-type"], "text/event-stream");
    let mut stream = response.bytes_stream();
    let (_, trace) = world.log_in("breakwater", "ines", &ines()).await;
    let mut seen = String::new();
    while !seen.contains("\n\n") {
        seen.push_str(&String::from_utf8_lossy(&stream.next().await.unwrap().unwrap()));
    }
    assert!(seen.starts_with("event: trace") && seen.contains(trace["reference"].as_str().unwrap()), "{seen}");
    let figures =
        super::harness::http_client().get(format!("http://{}/metrics", world.service.http)).send().await.unwrap().text().await.unwrap();
    assert!(figures.contains("bivector_logins_total{gateway=\"breakwater\",outcome=\"accepted\",cause=\"\"} 1"), "{figures}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_comes_with_a_strict_policy_and_files_that_fit_what_the_browser_takes() {
    let service = Service::start();
    let http = super::harness::http_client();
    let base = format!("http://{}", service.http);
    for path in ["/", "/logins", "/logins?outcome=refused"] {
        let page = http.get(format!("{base}{path}")).send().await.unwrap();
        assert_eq!((page.status().as_u16(), page.headers()["cache-control"].to_str().unwrap()), (200, "no-store"));
        let policy = page.headers()["content-security-policy"].to_str().unwrap().to_owned();
        let html = page.text().await.unwrap();
        let nonce = policy.split("'nonce-").nth(1).and_then(|rest| rest.split('\'').next()).unwrap();
        assert!(
            html.contains(&format!("content=\"{nonce}\"")) && policy.contains("default-src 'none'") && !policy.contains("unsafe"),
            "{policy}"
        );
    }
    let html = http.get(&base).send().await.unwrap().text().await.unwrap();
    let script = html.split("src=\"").find(|part| part.starts_with("/assets/")).and_then(|part| part.split('"').next()).unwrap();
    let plain = http.get(format!("{base}{script}")).send().await.unwrap();
    assert!(plain.headers()["cache-control"].to_str().unwrap().contains("immutable") && plain.headers().get("content-encoding").is_none());
    let plain_length = plain.bytes().await.unwrap().len();
    for encoding in ["br", "gzip"] {
        let packed = http.get(format!("{base}{script}")).header("accept-encoding", encoding).send().await.unwrap();
        assert_eq!(packed.headers()["content-encoding"], encoding);
        let packed = packed.bytes().await.unwrap().len();
        assert!(packed < plain_length / 2 && packed < 300_000, "{encoding}: {packed} of {plain_length}");
    }
    let theme = http.get(format!("{base}/theme.js")).send().await.unwrap();
    let again = http.get(format!("{base}/theme.js")).header("if-none-match", &theme.headers()["etag"]).send().await.unwrap();
    assert_eq!(again.status(), 304);
    assert_eq!(http.get(format!("{base}/assets/gone.js")).send().await.unwrap().status(), 404, "a missing file is never the page");
}
