use super::harness::{Northmoor, SECRET, Setup, code, gateway, ines, outcome};
use bivector_exchange::{Asker, Exchange, Patience, Request};
use bivector_wire::{AttributeType, Code, Message, SharedSecret, hide_password};
use serde_json::Value;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::time::Duration;

const AUTHENTICATOR: [u8; 16] = [42; 16];

fn secret() -> SharedSecret {
    SharedSecret::new(SECRET.as_bytes())
}

/// Sends raw bytes from an address and waits shortly for an answer.
fn send_raw(from: &str, to: SocketAddr, bytes: &[u8], wait: u64) -> (Option<Vec<u8>>, SocketAddr) {
    let socket = UdpSocket::bind((from, 0)).unwrap();
    socket.set_read_timeout(Some(Duration::from_millis(wait))).unwrap();
    socket.send_to(bytes, to).unwrap();
    let mut buffer = [0; 4096];
    let answer = socket.recv(&mut buffer).ok().map(|length| buffer[..length].to_vec());
    (answer, socket.local_addr().unwrap())
}

fn request(name: &[u8], password: &[u8], more: impl FnOnce(&mut Message)) -> Message {
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, name);
    message.push(AttributeType::UserPassword, &hide_password(password, &AUTHENTICATOR, &secret()).unwrap());
    more(&mut message);
    message
}

async fn ask(world: &Northmoor, request: &Request) -> (Exchange, Value) {
    let asker = Asker::connect("127.0.0.11:0".parse().unwrap(), world.radius).await.unwrap();
    let exchange = asker.ask(request, &secret(), Patience { wait: Duration::from_secs(8), tries: 1 }).await.unwrap();
    let trace = world.service.trace_from(asker.local().unwrap()).await;
    (exchange, trace)
}

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_of_bad_packet_is_met_with_silence_and_counted_by_its_reason() {
    let world = Northmoor::start().await;
    let signed = request(b"ines", b"x", |_| {}).sign_request(1, &AUTHENTICATOR, &secret()).unwrap();
    let mut altered = signed.clone();
    let name = altered.windows(4).position(|window| window == b"ines").unwrap();
    altered[name] = b'I';
    let unsigned = request(b"ines", b"x", |_| {}).unsigned_request(1, &AUTHENTICATOR).unwrap();
    let another = SharedSecret::new(b"another");
    let mut foreign = Message::new(Code::AccessRequest);
    foreign.push(AttributeType::UserPassword, &hide_password(b"x", &AUTHENTICATOR, &another).unwrap());
    let foreign = foreign.sign_request(1, &AUTHENTICATOR, &another).unwrap();
    let truncated = &signed[..signed.len() - 3];
    let mut accounting = signed.clone();
    accounting[0] = 4;
    let cases: [(&str, &[u8], &str); 7] = [
        ("127.0.0.11", &altered, "packet-altered"),
        ("127.0.0.11", &unsigned, "integrity-missing"),
        ("127.0.0.11", &foreign, "secret-differs"),
        ("127.0.0.11", truncated, "packet-malformed"),
        ("127.0.0.12", &accounting, "packet-malformed"),
        ("127.0.0.99", &signed, "gateway-unknown"),
        ("127.0.0.11", b"", "packet-malformed"),
    ];
    for (from, bytes, cause) in cases {
        let (answer, local) = send_raw(from, world.radius, bytes, 150);
        assert_eq!(answer, None, "{cause}");
        let found = async {
            loop {
                let knocks = world.service.get("/knocks").await;
                if knocks
                    .as_array()
                    .unwrap()
                    .iter()
                    .any(|knock| knock["sender"] == local.ip().to_string().as_str() && knock["cause"] == cause)
                {
                    return;
                }
                tokio::time::sleep(Duration::from_millis(20)).await;
            }
        };
        tokio::time::timeout(Duration::from_secs(5), found).await.unwrap_or_else(|_| panic!("no knock for {cause}"));
    }
    for _ in 0..40 {
        send_raw("127.0.0.99", world.radius, &signed, 1);
    }
    let counted = async {
        loop {
            let knocks = world.service.get("/knocks").await;
            let stranger = knocks.as_array().unwrap().iter().find(|knock| knock["sender"] == "127.0.0.99").cloned();
            if stranger.is_some_and(|knock| knock["count"] == 41) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(5), counted).await.expect("a burst is counted to its last packet");
    let metrics =
        super::harness::http_client().get(format!("http://{}/metrics", world.service.http)).send().await.unwrap().text().await.unwrap();
    for (_, _, cause) in cases {
        assert!(metrics.contains(&format!("bivector_packets_dropped_total{{reason=\"{cause}\"}}")), "{cause} in {metrics}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trace_keeps_what_the_gateway_sent_of_itself_and_of_the_connection() {
    let world = Northmoor::start().await;
    let mut request = Request::login("ines", ines().as_bytes());
    for (kind, value) in [
        (AttributeType::NasIpAddress, &[192, 0, 2, 10][..]),
        (AttributeType::NasPort, &[0, 0, 0, 7]),
        (AttributeType::ServiceType, &[0, 0, 0, 8]),
        (AttributeType::CalledStationId, b"vpn.northmoor.example"),
        (AttributeType::CallingStationId, b"198.51.100.77"),
        (AttributeType::ConnectInfo, b"TLS 1.3 \x1b[31m"),
        (AttributeType::NasPort, &[0, 0, 0, 9]),
    ] {
        request.message.push(kind, value);
    }
    let (exchange, local) = world.gateway("breakwater").send(&request).await.unwrap();
    assert_eq!(outcome(&exchange), "accept");
    let trace = world.service.trace_from(local).await;
    let seen: Vec<(&str, &str)> = trace["device"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["attribute"].as_str().unwrap(), one["value"].as_str().unwrap()))
        .collect();
    for wanted in [
        ("NAS-IP-Address", "192.0.2.10"),
        ("NAS-Port", "7"),
        ("Service-Type", "8"),
        ("Called-Station-Id", "vpn.northmoor.example"),
        ("Calling-Station-Id", "198.51.100.77"),
    ] {
        assert!(seen.contains(&wanted), "{wanted:?} in {seen:?}");
    }
    let shown = world.service.run(&["trace", "show", trace["reference"].as_str().unwrap()]);
    assert!(shown.contains("gateway sent") && shown.contains("NAS-Port 7") && !shown.contains('\x1b'), "{shown}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_shared_secret_leaves_a_trace_that_names_the_gateway() {
    let world = Northmoor::start().await;
    let mut breakwater = world.gateway("breakwater");
    breakwater.secret = SharedSecret::new(format!("{SECRET} ").as_bytes());
    breakwater.patience.wait = Duration::from_millis(200);
    let (exchange, local) = breakwater.log_in("ines", "barnacle-and-buoy").await.unwrap();
    assert_eq!(outcome(&exchange), "silent");
    let trace = world.service.trace_from(local).await;
    assert_eq!(
        (trace["outcome"].as_str(), trace["cause"].as_str(), trace["gateway"].as_str()),
        (Some("silent"), Some("secret-differs"), Some("breakwater"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn replies_begin_with_message_authenticator_and_echo_proxy_state_in_order() {
    let world = Northmoor::start().await;
    let mut login = Request::login("ines", ines().as_bytes());
    for state in [&b"first"[..], b"second", &[0, 255, 7]] {
        login.message.push(AttributeType::ProxyState, state);
    }
    let (exchange, _) = ask(&world, &login).await;
    let reply = exchange.reply.unwrap();
    assert_eq!(reply.code, Code::AccessAccept);
    assert_eq!(reply.bytes[20], 80, "the first attribute is Message-Authenticator");
    let states: Vec<_> =
        reply.attributes.iter().filter(|(kind, _)| *kind == AttributeType::ProxyState).map(|(_, value)| value.clone()).collect();
    assert_eq!(states, [b"first".to_vec(), b"second".to_vec(), vec![0, 255, 7]]);
    let shown: Vec<_> = reply.attributes.iter().map(|(kind, value)| bivector_wire::render(*kind, value)).collect();
    for wanted in [("Class", "control-room"), ("Filter-Id", "no-ping"), ("Session-Timeout", "28800"), ("Vendor-32473-1", "ines")] {
        assert!(shown.contains(&(wanted.0.into(), wanted.1.into())), "{wanted:?} in {shown:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_full_of_proxy_state_still_gets_its_refusal() {
    let world = Northmoor::start().await;
    let full = request(b"ines", b"x", |message| (0..15).for_each(|_| message.push(AttributeType::ProxyState, &[7; 253])));
    let full = full.sign_request(9, &AUTHENTICATOR, &secret()).unwrap();
    let (answer, _) = send_raw("127.0.0.11", world.radius, &full, 3000);
    let answer = answer.expect("a refusal");
    assert_eq!(answer[0], 3);
    assert!(answer.len() <= 4096);
}

#[tokio::test(flavor = "multi_thread")]
async fn status_server_is_answered_and_must_be_signed() {
    let world = Northmoor::start().await;
    let exchange = world.gateway("breakwater").status().await.unwrap();
    assert_eq!(exchange.reply.unwrap().code, Code::AccessAccept);
    let bare = Message::new(Code::StatusServer).unsigned_request(1, &AUTHENTICATOR).unwrap();
    assert_eq!(send_raw("127.0.0.11", world.radius, &bare, 150).0, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_cannot_sign_is_served_only_where_the_site_allows_it() {
    let unsigned = || Request { signed: false, ..Request::login("ines", ines().as_bytes()) };
    let when_present = [("secret = \"gateway/breakwater\"", "message_authenticator = \"when-present\"\nsecret = \"gateway/breakwater\"")];
    let world = Northmoor::with(Setup { change: &when_present, ..Setup::default() }).await;
    let (exchange, trace) = ask(&world, &unsigned()).await;
    assert_eq!(outcome(&exchange), "accept", "{trace:#}");
    assert_eq!(trace["steps"][0]["tone"], "warn", "and every trace says that it was not signed");
    let eap = request(b"ines", b"x", |message| message.push(AttributeType::EapMessage, &[2, 1, 0, 5, 1]))
        .unsigned_request(3, &AUTHENTICATOR)
        .unwrap();
    assert_eq!(send_raw("127.0.0.11", world.radius, &eap, 150).0, None, "never unsigned beside EAP");
}

#[tokio::test(flavor = "multi_thread")]
async fn resends_join_the_login_and_are_answered_with_the_same_bytes_later() {
    let world = Northmoor::with(Setup { delay: Duration::from_millis(60), ..Setup::default() }).await;
    let (resent, local) = world.gateway("breakwater").log_in_resending("ines", &ines()).await.unwrap();
    assert_eq!((resent.first_answers, resent.same_bytes_later, outcome(&resent.exchange).as_str()), (1, true, "accept"));
    let trace = world.service.trace_from(local).await;
    assert!(trace["steps"].as_array().unwrap().iter().any(|step| step["what"] == "resends"), "{trace:#}");
    assert_eq!(world.directories[0].guesses("ines"), 1, "one login, one guess");
}

#[tokio::test(flavor = "multi_thread")]
async fn passwords_of_0_to_128_bytes_are_taken_and_odd_ones_refused_without_a_guess() {
    let long = "l".repeat(122);
    let directory = format!(
        "base = \"dc=northmoor,dc=example\"\n[[services]]\ndn = \"cn=bivector,ou=services,dc=northmoor,dc=example\"\npassword = \"reads-the-tide-tables\"\n[[people]]\nuid = \"ines\"\nname = \"Ines\"\npassword = \"{long}\"\ngroups = [\"control-room\"]\n"
    );
    let world = Northmoor::with(Setup { directory: &directory, ..Setup::default() }).await;
    let (seen, trace) = world.log_in("breakwater", "ines", &format!("{long}{}", code("ines", 0))).await;
    assert_eq!(seen, "accept", "{trace:#}");
    let guesses = world.directories[0].guesses("ines");
    let only_code = code("ines", 1);
    let cases: [(&[u8], &str); 4] = [
        (b"", "password-missing"),
        (b"\xff\xfe12", "password-unreadable"),
        (only_code.as_bytes(), "password-missing"),
        (b"a\0b", "password-wrong"),
    ];
    for (password, cause) in cases {
        let mut login = Request::login("ines", password);
        login.message.push(AttributeType::NasPort, &[0, 0, 0, 1]);
        let (exchange, trace) = ask(&world, &login).await;
        assert_eq!((outcome(&exchange).as_str(), trace["cause"].as_str()), ("reject", Some(cause)), "{trace:#}");
    }
    assert_eq!(world.directories[0].guesses("ines"), guesses + 1, "only the password with a NUL in its middle was worth a guess");
}

#[tokio::test(flavor = "multi_thread")]
async fn gateways_are_told_apart_by_the_most_specific_range_in_both_families() {
    let change = [("from = [\"127.0.0.11\", \"192.0.2.10\", \"2001:db8::10\"]", "from = [\"127.0.0.0/24\"]")];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let mut elsewhere = world.gateway("breakwater");
    elsewhere.from = IpAddr::from([127, 0, 0, 200]);
    let (exchange, local) = elsewhere.log_in("ines", &ines()).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "the wide range is breakwater's");
    assert_eq!(world.service.trace_from(local).await["gateway"], "breakwater");
    let (_, trace) = world.log_in("lantern", "pell", &format!("sounding-line{}", code("pell", 0))).await;
    assert_eq!(
        (trace["gateway"].as_str(), trace["outcome"].as_str()),
        (Some("lantern"), Some("accepted")),
        "the narrow one inside it is lantern's"
    );
    let mut over_v6 = gateway("lantern", SocketAddr::new("::1".parse().unwrap(), world.radius.port()));
    over_v6.from = "::1".parse().unwrap();
    let (exchange, local) = over_v6.log_in("pell", &format!("sounding-line{}", code("pell", 1))).await.unwrap();
    assert_eq!(outcome(&exchange), "accept");
    assert_eq!(world.service.trace_from(local).await["gateway"], "lantern");
}

#[tokio::test(flavor = "multi_thread")]
async fn logins_beyond_a_gateways_limit_are_dropped_and_counted_and_the_others_still_served() {
    let change = [("secret = \"gateway/breakwater\"", "logins_in_flight = 2\nsecret = \"gateway/breakwater\"")];
    let world = Northmoor::with(Setup { change: &change, delay: Duration::from_millis(600), ..Setup::default() }).await;
    let breakwater = world.gateway("breakwater");
    let slow: Vec<_> = (0..6)
        .map(|_| {
            let mut breakwater = breakwater.clone();
            breakwater.patience.wait = Duration::from_secs(4);
            tokio::spawn(async move { outcome(&breakwater.log_in("tomasz", "wrong").await.unwrap().0) })
        })
        .collect();
    tokio::time::sleep(Duration::from_millis(200)).await;
    let (seen, _) = world.log_in("slipway", "ines", &ines()).await;
    assert_eq!(seen, "accept");
    let mut answers = Vec::new();
    for login in slow {
        answers.push(login.await.unwrap());
    }
    assert_eq!(answers.iter().filter(|answer| *answer == "reject").count(), 2, "{answers:?}");
    let knocks = world.service.get("/knocks").await;
    assert!(knocks.as_array().unwrap().iter().any(|knock| knock["cause"] == "overloaded"), "{knocks:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn password_and_code_packed_in_one_field_are_read_where_the_gateway_packs_them_and_named_elsewhere() {
    let fields = ("secret = \"gateway/breakwater\"", "fields = \"scrv1\"\nsecret = \"gateway/breakwater\"");
    let world = Northmoor::with(Setup { change: &[fields], ..Setup::default() }).await;
    let packed = |password: &str, code: &str| {
        let base64 = |text: &str| data_encoding::BASE64.encode(text.as_bytes());
        format!("SCRV1:{}:{}", base64(password), base64(code))
    };
    let (seen, trace) = world.log_in("breakwater", "ines", &packed("barnacle-and-buoy", &code("ines", 0))).await;
    assert_eq!(seen, "accept", "{trace:#}");
    let (seen, trace) = world.log_in("slipway", "ines", &packed("barnacle-and-buoy", &code("ines", 1))).await;
    assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some("fields-not-read")), "{trace:#}");
    for part in ["barnacle", "YmFybmFjbGU"] {
        assert!(!trace.to_string().contains(part), "{trace:#}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_prompt_says_whether_to_show_what_is_typed_and_a_refused_eap_peer_gets_its_failure_alone() {
    let world = Northmoor::start().await;
    let lantern = world.gateway("lantern");
    let prompt_of = |exchange: &bivector_exchange::Exchange| {
        let attributes = &exchange.reply.as_ref().unwrap().attributes;
        let prompt = attributes.iter().find(|(kind, _)| *kind == AttributeType::Prompt).map(|(_, value)| value.clone());
        prompt.unwrap_or_default()
    };
    let (menu, _) = lantern.log_in("pell", "sounding-line").await.unwrap();
    assert_eq!(prompt_of(&menu), [0, 0, 0, 1], "a menu");
    let (asked, _) = lantern.answer("pell", "1", &menu).await.unwrap();
    assert_eq!(prompt_of(&asked), [0, 0, 0, 0], "a code");
    let state = asked.reply.unwrap().attributes.into_iter().find(|(kind, _)| *kind == AttributeType::State).unwrap().1;
    assert!(state.iter().all(u8::is_ascii_graphic), "{state:?}");

    let (refused, local) = lantern.send(&lantern.sign(bivector_exchange::Request::eap_start("pell"))).await.unwrap();
    let reply = refused.reply.unwrap();
    assert_eq!(reply.code, bivector_wire::Code::AccessReject);
    let kinds: Vec<AttributeType> = reply.attributes.iter().map(|(kind, _)| *kind).collect();
    assert_eq!(kinds, [AttributeType::EapMessage]);
    assert_eq!(reply.attributes[0].1[0], 4, "EAP-Failure (RFC 3748 section 4.2)");
    let trace = world.service.trace_from(local).await.to_string();
    assert!(trace.contains("no EAP method is among them"), "{trace}");
}
