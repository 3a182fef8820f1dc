//! Every route, called as by a client but without a socket: who may call it, and what it says to bad input.

use super::*;
use crate::server::Connection;
use axum::body::Body;
use axum::http::{Request, StatusCode, header};
use bivector_api::operators::Role;
use bivector_model::Moment;
use bivector_store::clock;
use bivector_store::records::{Records, Sync, TokenRow};
use bivector_store::seal::{Seal, hash_token};
use serde_json::{Value, json};
use tower::ServiceExt;

const SITE: &str = include_str!("../../../../docs/first-site.toml");

struct World {
    state: ApiState,
    _folder: tempfile::TempDir,
    _stop: watch::Sender<bool>,
}

/// A service without a site, with one operator of each role; the role's name is the token.
async fn world() -> World {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    for role in Role::ALL {
        let name = role.word().to_owned();
        records.add_operator(name.clone(), *role, clock::now()).await.unwrap();
        let row = TokenRow { hash: hash_token(&name), operator: name, label: "test".into() };
        records.add_token(row, clock::now()).await.unwrap();
    }
    let seal = Arc::new(Seal::load(&folder.path().join("seal.key"), true).unwrap());
    let shared = Arc::new(Shared::new(folder.path().to_owned(), records, seal).unwrap());
    let (stop, stopped) = watch::channel(false);
    let connections = Arc::new(Connections::new(Vec::new()));
    let state = ApiState::new(shared, Arc::default(), connections, Exposure::default(), stopped).unwrap();
    World { state, _folder: folder, _stop: stop }
}

impl World {
    async fn send(&self, serves: Serves, request: Request<Body>) -> (StatusCode, axum::http::HeaderMap, Value) {
        let answer = router(self.state.clone(), serves).oneshot(request).await.unwrap();
        let (status, headers) = (answer.status(), answer.headers().clone());
        let bytes = axum::body::to_bytes(answer.into_body(), 8 << 20).await.unwrap();
        (status, headers, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    /// A call of an operator's program; no token where the role is none.
    async fn call(&self, method: &str, path: &str, role: Option<Role>, body: Option<&str>) -> (StatusCode, Value) {
        let (status, _, answer) = self.send(Serves::Everything, request(method, path, role, body)).await;
        (status, answer)
    }
}

fn request(method: &str, path: &str, role: Option<Role>, body: Option<&str>) -> Request<Body> {
    let peer = "127.0.0.1:40000".parse().unwrap();
    let mut request = Request::builder().method(method).uri(path).header(header::HOST, "localhost").extension(Connection {
        peer,
        tls: false,
        on_loopback: true,
    });
    if let Some(role) = role {
        request = request.header(header::AUTHORIZATION, format!("Bearer {}", role.word()));
    }
    let json = body.map(str::to_owned);
    if json.is_some() {
        request = request.header(header::CONTENT_TYPE, "application/json");
    }
    request.body(json.map_or_else(Body::empty, Body::from)).unwrap()
}

/// All routes of the description: method, path with its places filled in, whether it says that it needs a token, and whether it takes a body.
fn routes() -> Vec<(String, String, bool, bool)> {
    let described: Value = serde_json::from_str(&description()).unwrap();
    let mut routes = Vec::new();
    for (path, methods) in described["paths"].as_object().unwrap() {
        let filled = path.split('/').map(|part| if part.starts_with('{') { "1" } else { part }).collect::<Vec<_>>().join("/");
        for (method, of) in methods.as_object().unwrap() {
            let open = of["security"]
                .as_array()
                .is_some_and(|security| security.iter().any(|one| one.as_object().is_some_and(|one| one.is_empty())));
            routes.push((method.to_uppercase(), filled.clone(), !open, of["requestBody"].is_object()));
        }
    }
    assert!(routes.len() > 90, "{} routes", routes.len());
    routes
}

#[tokio::test(flavor = "multi_thread")]
async fn no_route_of_operators_answers_without_a_token() {
    let world = world().await;
    for (method, path, guarded, _) in routes().into_iter().filter(|(_, path, ..)| path.starts_with(API)) {
        // Whoever has no session may end it.
        if !guarded || path == "/api/v1/session" {
            continue;
        }
        let (status, answer) = world.call(&method, &path, None, Some("{}")).await;
        assert_eq!(status, StatusCode::UNAUTHORIZED, "{method} {path}: {answer}");
        assert!(answer["title"].is_string() && answer["remedy"].is_string(), "{method} {path}: {answer}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_route_of_handsets_answers_to_a_stranger_with_more_than_what_is_open() {
    let world = world().await;
    let open = ["/page", "/invitation", "/challenge", "/session", "/devices", "/apps", "/apps/code", "/push/report", "/own/session"];
    for (method, path, ..) in routes().into_iter().filter(|(_, path, ..)| path.starts_with(HANDSET)) {
        let below = path.strip_prefix(HANDSET).unwrap();
        let (status, answer) = world.call(&method, &path, None, Some("{}")).await;
        match open.contains(&below) {
            true => assert_ne!(status, StatusCode::INTERNAL_SERVER_ERROR, "{method} {path}: {answer}"),
            false => assert!(matches!(status.as_u16(), 401 | 403 | 422), "{method} {path}: {status} {answer}"),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_may_only_look_changes_nothing() {
    let world = world().await;
    let harmless = ["/site/check", "/site/compare", "/readings", "/rules/try", "/replay", "/locate", "/session", "/timing", "/budget"];
    let before = world.state.shared.records.newest_change();
    for (method, path, guarded, _) in routes() {
        let Some(below) = path.strip_prefix(API).filter(|_| guarded && method != "GET") else { continue };
        let (status, answer) = world.call(&method, &path, Some(Role::View), Some("{}")).await;
        let refused = matches!(status.as_u16(), 400..=422 | 503);
        assert!(refused || harmless.iter().any(|one| below.starts_with(one)), "{method} {path}: {status} {answer}");
    }
    assert_eq!(world.state.shared.records.newest_change(), before, "nothing was written");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_json_or_lacks_a_field_is_refused_with_its_place() {
    let world = world().await;
    for (method, path, ..) in routes().into_iter().filter(|(_, path, _, body)| *body && path.starts_with(API)) {
        for broken in ["", "{", "[1,", "nonsense", "\u{0}"] {
            let (status, answer) = world.call(&method, &path, Some(Role::Own), Some(broken)).await;
            assert!(status.is_client_error() || status == StatusCode::SERVICE_UNAVAILABLE, "{method} {path} {broken:?}: {status} {answer}");
            assert!(answer["title"].is_string(), "{method} {path} {broken:?}: {answer}");
        }
    }
    let (status, answer) = world.call("POST", "/api/v1/operators", Some(Role::Own), Some("{\"nmae\":\"vesna\"}")).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(answer["title"], "the field `name` is missing, at line 1 column 16");
    let (_, answer) = world.call("POST", "/api/v1/operators", Some(Role::Own), Some("{\"name\":{\"my secret\":1}}")).await;
    assert!(answer["title"].as_str().unwrap().starts_with("a field has the wrong type, at line 1 column "), "{answer}");
    assert!(!answer.to_string().contains("my secret"), "{answer}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_there_and_what_is_not_meant_are_told_apart() {
    let world = world().await;
    let own = Some(Role::Own);
    assert_eq!(world.call("GET", "/api/v1/nothing", own, None).await.0, StatusCode::NOT_FOUND);
    assert_eq!(world.call("PATCH", "/api/v1/people", own, None).await.0, StatusCode::METHOD_NOT_ALLOWED);
    assert_eq!(world.call("GET", "/handset/v1/nothing", None, None).await.0, StatusCode::NOT_FOUND);
    for path in ["/api/v1/people/nobody", "/api/v1/traces/NOTHERE1", "/api/v1/runs/7", "/api/v1/site/revisions/7"] {
        let (status, answer) = world.call("GET", path, own, None).await;
        assert_eq!(status, StatusCode::NOT_FOUND, "{path}: {answer}");
        assert!(!answer["remedy"].as_str().unwrap().is_empty(), "{path}: {answer}");
    }
    let big = format!("{{\"name\":\"{}\"}}", "x".repeat(BODY + 1));
    assert_eq!(world.call("POST", "/api/v1/operators", own, Some(&big)).await.0, StatusCode::PAYLOAD_TOO_LARGE);
}

#[tokio::test(flavor = "multi_thread")]
async fn each_listener_serves_its_own_part_only() {
    let world = world().await;
    let status = async |serves, path: &str| world.send(serves, request("GET", path, Some(Role::Own), None)).await.0;
    for (path, operators, phones) in
        [("/api/v1/status", true, false), ("/metrics", true, false), ("/handset/v1/page", false, true), ("/healthz", true, true)]
    {
        let found = |status: StatusCode| status != StatusCode::NOT_FOUND;
        assert!(found(status(Serves::Everything, path).await), "{path}");
        assert_eq!(found(status(Serves::Operators, path).await), operators, "{path} for operators");
        assert_eq!(found(status(Serves::Phones, path).await), phones, "{path} for phones");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn answers_stay_out_of_caches_and_an_unknown_host_is_refused() {
    let world = world().await;
    let (status, headers, _) = world.send(Serves::Everything, request("GET", "/api/v1/status", Some(Role::View), None)).await;
    assert_eq!(status, StatusCode::OK);
    assert_eq!(headers.get(header::CACHE_CONTROL).unwrap(), "no-store");
    assert_eq!(headers.get(header::X_CONTENT_TYPE_OPTIONS).unwrap(), "nosniff");
    let mut foreign = request("GET", "/api/v1/status", Some(Role::View), None);
    foreign.headers_mut().insert(header::HOST, "evil.example".parse().unwrap());
    assert!(world.send(Serves::Everything, foreign).await.0.is_client_error());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_site_file_is_checked_without_the_service_taking_it() {
    let world = world().await;
    let check = async |text: &str| {
        let body = json!({ "text": text }).to_string();
        let (status, answer) = world.call("POST", "/api/v1/site/check", Some(Role::View), Some(&body)).await;
        assert_eq!(status, StatusCode::OK, "{answer}");
        answer.to_string()
    };
    assert!(check(SITE).await.contains("secret-not-sealed"), "the example's secrets are not sealed here");
    assert!(check("format = 2").await.contains("unsupported format 2"));
    assert!(world.state.shared.live.load().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_for_push_are_made_by_owners_only_and_kept_encrypted() {
    let world = world().await;
    let keys = "/api/v1/push/keys";
    assert_eq!(world.call("POST", keys, Some(Role::Change), None).await.0, StatusCode::FORBIDDEN);
    assert_eq!(world.call("GET", keys, Some(Role::View), None).await, (StatusCode::OK, json!([])));
    for made in 1..=2 {
        let (status, answer) = world.call("POST", keys, Some(Role::Own), None).await;
        assert_eq!(status, StatusCode::CREATED);
        // The first one goes: no subscription needs it.
        assert_eq!(answer.as_array().unwrap().len(), 1, "after {made}: {answer}");
        assert_eq!((answer[0]["current"].as_bool(), answer[0]["handsets"].as_u64()), (Some(true), Some(0)));
    }
    let row = world.state.shared.records.push_keys().await.unwrap().remove(0);
    assert!(row.sealed.len() > 32 && Moment::from_micros(row.made_us) <= clock::now());
}
