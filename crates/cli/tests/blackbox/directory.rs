use super::harness::{DIRECTORY, Northmoor, PEOPLE, Service, Setup, code, gateway, ines, outcome, seal_all, site_for};
use bivector_lab::certificates::LabIssuer;
use bivector_lab::directory::{DirectoryData, Protection, StandInDirectory};
use bivector_lab::odd::{OddDirectory, Oddity};
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::time::Duration;

fn said(trace: &Value) -> String {
    trace["steps"].as_array().unwrap().iter().map(|step| step["said"].as_str().unwrap().to_owned()).collect::<Vec<_>>().join("\n")
}

#[tokio::test(flavor = "multi_thread")]
async fn the_second_server_answers_when_the_first_is_down_and_an_outage_is_no_unknown_person() {
    let mut world = Northmoor::start().await;
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.0, "accept");
    world.directories.remove(0).stop().await;
    let (seen, trace) = world.log_in("breakwater", "tomasz", &format!("ebb before flood{}", code("tomasz", 0))).await;
    assert_eq!(seen, "accept", "{trace:#}");
    assert!(trace["steps"].as_array().unwrap().iter().any(|step| step["what"] == "fail-over"), "{trace:#}");
    let (_, trace) = world.log_in("breakwater", "yuki", &format!("swell204813{}", code("yuki", 0))).await;
    assert!(!said(&trace).contains("did not answer"), "a server that is down is left alone: {trace:#}");
    world.directories.remove(0).stop().await;
    let (seen, trace) = world.log_in("breakwater", "sable", "whelk-at-low-water").await;
    assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some("source-unreachable")), "the roster must not be asked: {trace:#}");
}

fn failed_over(trace: &Value) -> Vec<String> {
    let steps = trace["steps"].as_array().unwrap().iter();
    steps.filter(|step| step["what"] == "fail-over").map(|step| step["said"].as_str().unwrap().to_owned()).collect()
}

/// What is known of the first server: its state, and why it is so.
async fn first_server(world: &Northmoor) -> (Value, Value) {
    let server = world.service.get("/directories").await[0]["servers"][0].clone();
    (server["state"].clone(), server["cause"].clone())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_first_server_that_falls_silent_costs_those_under_way_the_hedge_and_nobody_after_them() {
    let world = Northmoor::start().await;
    assert_eq!(world.log_in("breakwater", "tomasz", &format!("ebb before flood{}", code("tomasz", 0))).await.0, "accept");
    world.directories[0].falls_silent();
    let guesses = || world.directories.iter().map(|server| server.guesses("ines") + server.guesses("noor")).collect::<Vec<_>>();
    let at_once = ["ines", "noor"].repeat(3).into_iter().map(async |name| world.log_in("breakwater", name, "mussel000000").await.1);
    let traces = futures_util::future::join_all(at_once).await;
    for trace in &traces {
        assert_eq!(trace["cause"], "password-wrong", "the second server was asked for both: {trace:#}");
        let failed = failed_over(trace);
        assert!(failed.len() <= 1 && failed.iter().all(|said| said.contains("no answer within")), "one wait at most: {failed:?}");
    }
    assert!(traces.iter().any(|trace| !failed_over(trace).is_empty()), "somebody noticed");
    assert_eq!(guesses(), [0, 6], "one bind for each login, none of them in the hands of the silent one");
    let (seen, trace) = world.log_in("breakwater", "ines", &ines()).await;
    assert_eq!((seen.as_str(), failed_over(&trace)), ("accept", vec![]), "whoever comes later asks the second at once");
    assert_ne!(first_server(&world).await.0, "good");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_merely_slow_is_asked_after_the_quick_one_until_a_look_finds_it_quick_again() {
    let world = Northmoor::with(Setup { change: &[("answer = \"2s\"", "answer = \"2s\", hedge = \"300ms\"")], ..Setup::default() }).await;
    world.directories[0].answers_after(Duration::from_millis(800));
    let (_, trace) = world.log_in("breakwater", "ines", "mussel000000").await;
    assert_eq!((trace["cause"].as_str(), failed_over(&trace).len()), (Some("password-wrong"), 1), "{trace:#}");
    assert_eq!(first_server(&world).await, (Value::from("note"), Value::from("source-slow")));
    for _ in 0..3 {
        let (_, trace) = world.log_in("breakwater", "ines", "mussel000000").await;
        assert_eq!((trace["cause"].as_str(), failed_over(&trace)), (Some("password-wrong"), vec![]), "{trace:#}");
    }
    assert_eq!(world.directories[0].guesses("ines"), 0, "no password waits for it");
    world.directories[0].answers_after(Duration::ZERO);
    for _ in 0..300 {
        if first_server(&world).await.0 == "good" {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.0, "accept");
    assert_eq!(world.directories[0].guesses("ines"), 1, "a look has found it quick, and it is the first again");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_guess_that_may_have_arrived_is_never_sent_to_another_server() {
    let world = Northmoor::with(Setup {
        delay: Duration::from_millis(1500),
        change: &[("answer = \"2s\"", "answer = \"4s\", hedge = \"4s\"")],
        ..Setup::default()
    })
    .await;
    let breakwater = world.gateway("breakwater");
    let login = tokio::spawn(async move { breakwater.log_in("ines", &ines()).await.unwrap() });
    let Northmoor { service, mut directories, .. } = world;
    // Until the bind is in the hands of the first server, which answers it 1.5 s later: before that, it dies.
    while directories[0].guesses("ines") == 0 {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let second = directories.pop().unwrap();
    directories.pop().unwrap().stop().await;
    let (exchange, local) = login.await.unwrap();
    assert_eq!(outcome(&exchange), "reject");
    let trace = service.trace_from(local).await;
    assert_eq!(trace["cause"], "source-unreachable", "{trace:#}");
    assert_eq!(second.guesses("ines"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn search_text_is_escaped_so_that_a_name_is_only_a_name() {
    let world = Northmoor::start().await;
    for name in ["*", "in*", "ines)(uid=*", "ines\\2a"] {
        let (_, trace) = world.log_in("breakwater", name, "barnacle-and-buoy").await;
        let cause = trace["cause"].as_str().unwrap();
        assert!(cause == "person-unknown" || cause == "name-realm-unknown", "{name}: {trace:#}");
    }
    assert_eq!(world.directories[0].guesses("ines"), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn accounts_that_may_not_be_used_are_refused_with_the_directorys_own_reason() {
    let directory = DIRECTORY.replacen("uid = \"yuki\"", "uid = \"yuki\"\nstate = \"expired\"", 1).replacen(
        "uid = \"tomasz\"",
        "uid = \"tomasz\"\nstate = \"must-change\"",
        1,
    );
    let world = Northmoor::with(Setup { directory: &directory, ..Setup::default() }).await;
    for (via, name, password, cause) in [
        ("breakwater", "yuki", "swell204813", "password-expired"),
        ("breakwater", "tomasz", "ebb before flood", "password-must-change"),
        ("lantern", "ravi", "anchor-watch", "account-locked"),
    ] {
        let (seen, trace) = world.log_in(via, name, &format!("{password}{}", code(name, 0))).await;
        assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some(cause)), "{trace:#}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn groups_can_be_searched_for_and_start_tls_protects_the_way() {
    let service = Service::start();
    let issuer = LabIssuer::new("test issuer").unwrap();
    std::fs::write(service.data.join("tidehall-ca.pem"), issuer.pem()).unwrap();
    let tls = issuer.server(&["127.0.0.1"]).unwrap();
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let data = DirectoryData::parse(DIRECTORY).unwrap();
    let directory = StandInDirectory::start(any, &data, Protection::StartTls(tls), Duration::ZERO).await.unwrap();
    let change = [
        (
            "groups = { from = \"memberOf\" }",
            "groups = { from = \"search\", base = \"ou=groups,dc=northmoor,dc=example\" }\nstart_tls = true",
        ),
        ("\"ldaps://", "\"ldap://"),
        (", \"ldaps://127.0.0.1:1\"", ""),
    ];
    let port = super::harness::free_udp_port();
    let site = site_for(port, &[directory.address(), "127.0.0.1:1".parse().unwrap()], &change);
    seal_all(&service).await;
    let (status, body) = service.apply(&site).await;
    assert_eq!(status, 201, "{body}");
    assert!(body["unreachable"].as_array().unwrap().is_empty(), "{body}");
    service.import(PEOPLE).await;
    let (exchange, local) = gateway("breakwater", service.radius().await).log_in("ines", &ines()).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "{:#}", service.trace_from(local).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_wrong_between_us_and_a_directory_is_named() {
    // Untrusted: the trust file holds another issuer.
    let world = Northmoor::start().await;
    std::fs::write(world.service.data.join("other.pem"), LabIssuer::new("somebody else").unwrap().pem()).unwrap();
    let (status, body) = world.service.apply(&world.site.replace("tidehall-ca.pem", "other.pem")).await;
    assert_eq!(status, 201, "{body}");
    assert!(body["unreachable"][0].as_str().unwrap().contains("source-tls-untrusted"), "the apply says so too: {body}");
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.1["cause"], "source-tls-untrusted");
    // Unresolved: a name that does not exist.
    let mut unresolved = world.site.clone();
    for directory in &world.directories {
        unresolved = unresolved.replace(&format!("ldaps://{}", directory.address()), "ldaps://tidehall.invalid");
    }
    world.service.apply(&unresolved).await;
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.1["cause"], "source-name-unresolved");
    // A base that is not there.
    world.service.apply(&world.site.replace("ou=people,dc=northmoor", "ou=peple,dc=northmoor")).await;
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.1["cause"], "source-base-missing");
    // A service account with another password stops the apply, and the active site stays.
    let before = world.service.get("/status").await["revision"].clone();
    world.service.seal("directory/other", "not-the-password").await;
    let (status, body) = world.service.apply(&world.site.replace("directory/tidehall", "directory/other")).await;
    assert_eq!((status, body["type"].as_str()), (409, Some("/problems/directory-unusable")), "{body}");
    assert_eq!(world.service.get("/status").await["revision"], before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_directory_that_hangs_or_answers_nonsense_is_an_outage_within_its_time_limit() {
    use tokio::io::AsyncWriteExt;
    for (nonsense, cause) in [(None, "source-slow"), (Some(&b"HTTP/1.1 400 Bad Request\r\n\r\n"[..]), "source-unreachable")] {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            let mut kept = Vec::new();
            while let Ok((mut stream, _)) = listener.accept().await {
                if let Some(nonsense) = nonsense {
                    let _ = stream.write_all(nonsense).await;
                } else {
                    kept.push(stream);
                }
            }
        });
        let (clear, dead): (Vec<_>, _) = (
            vec![("\"ldaps://", "\"ldap://"), ("answer = \"2s\"", "answer = \"300ms\""), (", \"ldaps://127.0.0.1:1\"", "")],
            "127.0.0.1:1".parse().unwrap(),
        );
        let world = Northmoor::start().await;
        let (status, body) = world.service.apply(&site_for(world.radius.port(), &[address, dead], &clear)).await;
        assert_eq!(status, 201, "{body}");
        let (seen, trace) = world.log_in("breakwater", "ines", &ines()).await;
        assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some(cause)), "{trace:#}");
    }
}

/// The state of a server as the API tells it, once it is as wanted.
async fn becomes(world: &Northmoor, server: usize, wanted: &str) -> Value {
    for _ in 0..800 {
        let directories = world.service.get("/directories").await;
        let health = directories[0]["servers"][server].clone();
        if health["state"] == wanted {
            return health;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    panic!("server {server} did not become {wanted}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_state_of_each_server_follows_it_by_itself_with_reason_and_event() {
    let mut world = Northmoor::start().await;
    becomes(&world, 0, "good").await;
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_bivector"))
        .args(["directory", "list", "--watch", "--json"])
        .env("BIVECTOR_SERVER", format!("http://{}", world.service.http))
        .env("BIVECTOR_TOKEN", &world.service.token)
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut watching = BufReader::new(child.stdout.take().unwrap());
    let mut listed = String::new();
    // The list ends once the line of events is taken up.
    while !listed.ends_with("\n]\n") {
        assert!(watching.read_line(&mut listed).unwrap() > 0);
    }
    let address = world.directories[0].address();
    world.directories.remove(0).stop().await;
    // Nobody logs in: the service looks by itself.
    let health = becomes(&world, 0, "bad").await;
    assert_eq!((health["cause"].as_str(), health["said"].as_str()), (Some("source-unreachable"), Some("connection refused")));
    assert!(health["since_us"].as_u64() > Some(0));
    let issuer = LabIssuer::new("test issuer").unwrap();
    let data = DirectoryData::parse(DIRECTORY).unwrap();
    let _back =
        StandInDirectory::start(address, &data, Protection::Tls(issuer.server(&["127.0.0.1"]).unwrap()), Duration::ZERO).await.unwrap();
    let health = becomes_other(&world, "source-unreachable").await;
    assert_eq!(health["cause"], "source-tls-untrusted", "it is back, with a certificate of somebody else: {health}");
    becomes(&world, 1, "good").await;
    let (mut down, mut untrusted) = (String::new(), String::new());
    watching.read_line(&mut down).unwrap();
    watching.read_line(&mut untrusted).unwrap();
    child.kill().unwrap();
    child.wait().unwrap();
    let watched = format!("{down}{untrusted}");
    assert!(watched.contains("\"cause\":\"source-unreachable\"") && watched.contains("\"cause\":\"source-tls-untrusted\""), "{watched}");
}

async fn becomes_other(world: &Northmoor, cause: &str) -> Value {
    for _ in 0..1200 {
        let health = world.service.get("/directories").await[0]["servers"][0].clone();
        if health["cause"] != cause {
            return health;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    panic!("it stayed {cause}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_hangs_costs_one_login_its_wait_and_the_others_nothing() {
    let world = Northmoor::start().await;
    // Takes connections and says nothing: TLS never begins.
    let hanging = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let first = world.directories[0].address().to_string();
    let (status, body) = world.service.apply(&world.site.replace(&first, &hanging.local_addr().unwrap().to_string())).await;
    assert_eq!(status, 201, "{body}");
    world.log_in("breakwater", "ines", &ines()).await;
    for _ in 0..3 {
        let (seen, trace) = world.log_in("slipway", "yuki", "wrong").await;
        assert!(seen == "reject" && trace["cause"] == "password-wrong" && trace["took_us"].as_u64() < Some(900_000), "{trace:#}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_a_directory_does_wrong_is_named_and_lets_nobody_in_by_mistake() {
    let world = Northmoor::start().await;
    let cases = [
        (Oddity::Hangs, "source-slow", "no answer within 300 ms"),
        (Oddity::ClosesMidAnswer, "source-unreachable", "the server closed the connection"),
        (Oddity::Refers, "source-answer-unusable", "referrals are not followed"),
        (Oddity::FloodsResults, "person-ambiguous", "10000 entries"),
        (Oddity::HidesAttribute, "source-answer-unusable", "is not visible"),
        (Oddity::HasTwo, "person-ambiguous", "2 entries"),
        (Oddity::OldTls, "source-tls-untrusted", "the server does not support TLS 1.2 or later"),
    ];
    for (oddity, cause, part) in cases {
        let trace = odd(&world, oddity).await;
        assert_eq!((trace["outcome"].as_str(), trace["cause"].as_str()), (Some("refused"), Some(cause)), "{oddity:?}: {}", said(&trace));
        assert!(said(&trace).contains(part), "{oddity:?}: {}", said(&trace));
    }
    // What is odd but can be used is used: references beside the answer, values that are no text.
    for oddity in [Oddity::AddsReferences, Oddity::WritesBytes] {
        let trace = odd(&world, oddity).await;
        assert_eq!(trace["grant"].as_str(), Some("control-room"), "{oddity:?}: {}", said(&trace));
    }
}

/// The trace of a login of Ines against one odd directory.
async fn odd(world: &Northmoor, oddity: Oddity) -> Value {
    let directory = OddDirectory::start(oddity).await.unwrap();
    let scheme = if oddity == Oddity::OldTls { "\"ldaps://" } else { "\"ldap://" };
    let change = [
        ("\"ldaps://", scheme),
        ("answer = \"2s\"", "answer = \"300ms\""),
        (", \"ldaps://127.0.0.1:1\"", ""),
        ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]"),
        ("second = [\"totp\"]", "second = []"),
    ];
    let (status, body) =
        world.service.apply(&site_for(world.radius.port(), &[directory.address(), "127.0.0.1:1".parse().unwrap()], &change)).await;
    assert_eq!(status, 201, "{body}");
    world.log_in("breakwater", "ines", "barnacle-and-buoy").await.1
}

#[tokio::test(flavor = "multi_thread")]
async fn a_balanced_pool_asks_its_servers_in_turn_and_shows_what_each_did() {
    let world = Northmoor::with(Setup {
        change: &[("trust = \"tidehall-ca.pem\"", "trust = \"tidehall-ca.pem\"\npool = \"balance\"")],
        ..Setup::default()
    })
    .await;
    for name in ["nobody", "somebody", "anybody", "everybody"] {
        world.log_in("breakwater", name, "x").await;
    }
    let servers = world.service.get("/directories").await[0]["servers"].clone();
    let answers: Vec<u64> = [0, 1].map(|server| servers[server]["answers"].as_u64().unwrap()).into();
    // Each name is looked for, and then a password is checked that nobody has.
    assert_eq!(answers, [4, 4], "{servers:#}");
}
