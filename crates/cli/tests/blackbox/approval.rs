//! Approvals, invitations and enrolment through the real doors: gateways on UDP, simulated handsets and operators on HTTP.

use super::harness::{Northmoor, SECRET, Service, Setup, code, code_of, http_client, outcome, prompt, text};
use bivector_exchange::{Exchange, Patience, Request};
use bivector_lab::gateway::SimulatedGateway;
use bivector_lab::handset::{Answers, HandsetError, RobotHandset};
use bivector_wire::{AttributeType, SharedSecret};
use serde_json::{Value, json};
use std::io::{BufRead, BufReader, Write};
use std::net::UdpSocket;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

const PASSWORD: &str = "barnacle-and-buoy";
/// The staff's chain asks the handset; whoever holds an invitation counts at once.
const APPROVAL: (&str, &str) = (
    "second = [\"totp\"]\nwhen_unclear = \"code\"",
    "second = [\"approval\", \"totp\"]\nsecond_patience = \"5s\"\nwhen_unclear = \"code\"",
);
const INVITED: (&str, &str) = ("shows_code = true", "confirmed_by = \"invitation\"");

async fn staff(more: &[(&str, &str)]) -> Northmoor {
    let change: Vec<(&str, &str)> = [APPROVAL].into_iter().chain(more.iter().copied()).collect();
    Northmoor::with(Setup { change: &change, ..Setup::default() }).await
}

async fn invite(world: &Northmoor, source: &str, login: &str, body: Value) -> String {
    let (status, made) = world.service.call("POST", &format!("/people/{source}/{login}/invitation"), Some(body)).await;
    assert_eq!(status, 201, "{made}");
    made["code"].as_str().unwrap().to_owned()
}

/// A handset of somebody of the directory, with a session.
async fn robot(world: &Northmoor, login: &str) -> RobotHandset {
    let invitation = invite(world, "tidehall", login, json!({})).await;
    let server = format!("http://{}", world.service.http);
    let mut robot = RobotHandset::enrol(&http_client(), &server, &invitation, "phone").await.unwrap();
    robot.begin().await.unwrap();
    robot
}

/// What waits for a handset, as soon as something does.
async fn asked(robot: &RobotHandset) -> String {
    let until = Instant::now() + Duration::from_secs(10);
    while Instant::now() < until {
        if let Some(shown) = robot.waiting().await.unwrap() {
            return shown;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("the source was not asked");
}

fn status_of<T: std::fmt::Debug>(answered: Result<T, HandsetError>) -> (u16, String) {
    match answered {
        Err(HandsetError::Refused { status, said }) => (status.as_u16(), said),
        other => panic!("{other:?}"),
    }
}

/// A login through breakwater without a code, in the background.
fn log_in(world: &Northmoor, login: &'static str) -> tokio::task::JoinHandle<(Exchange, std::net::SocketAddr)> {
    let gateway = world.gateway("breakwater");
    tokio::spawn(async move { gateway.log_in(login, PASSWORD).await.unwrap() })
}

#[tokio::test(flavor = "multi_thread")]
async fn one_approval_for_a_login_whatever_the_gateway_resends_and_from_wherever() {
    let patient = ("second_patience = \"5s\"", "second_patience = \"30s\"");
    let addresses = ("from = [\"127.0.0.11\"", "from = [\"127.0.0.11\", \"127.0.0.14\"");
    let world = staff(&[INVITED, patient, addresses]).await;
    let phone = robot(&world, "ines").await;
    let secret = SharedSecret::new(SECRET.as_bytes());
    let request = || {
        let mut request = Request::login("ines", PASSWORD.as_bytes());
        request.message.push(AttributeType::CallingStationId, b"198.51.100.7");
        request.prepare(&secret).unwrap().bytes
    };
    let [first, second, third] = ["127.0.0.11:0", "127.0.0.14:0", "127.0.0.14:0"].map(|address| UdpSocket::bind(address).unwrap());
    let (one, other) = (request(), request());
    let send = |socket: &UdpSocket, bytes: &[u8]| assert_eq!(socket.send_to(bytes, world.radius).unwrap(), bytes.len());
    send(&first, &one);
    let shown = asked(&phone).await;
    for _ in 0..3 {
        send(&first, &one);
    }
    // The gateway's other address, and a packet that is no copy of the first.
    send(&second, &one);
    send(&third, &other);
    let read: Value = serde_json::from_str(&shown).unwrap();
    assert_eq!(
        (read["gateway"].as_str(), read["from"].as_str(), read["name"].as_str()),
        (Some("breakwater"), Some("198.51.100.7"), Some("Ines Okafor"))
    );
    assert_eq!((read["site"].as_str(), read["numbers"].as_array().map(Vec::len)), (Some("Northmoor Tidal"), Some(0)));
    // Both must have joined before the answer: the directory was asked for each.
    let figure = async |how: &str| {
        let page = http_client().get(format!("http://{}/metrics", world.service.http)).send().await.unwrap().text().await.unwrap();
        let wanted = format!("bivector_approvals_total{{how=\"{how}\"}} ");
        page.lines().find_map(|line| line.strip_prefix(&wanted)).map_or(0, |count| count.parse::<u64>().unwrap())
    };
    let until = Instant::now() + Duration::from_secs(20);
    while figure("joined").await < 2 && Instant::now() < until {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert!(phone.answer(&shown, Answers::Approve, None).await.is_err(), "what was shown before does not cover the others");
    let shown = phone.waiting().await.unwrap().unwrap();
    assert_eq!(serde_json::from_str::<Value>(&shown).unwrap()["requests"], 3, "the handset says how many requests a yes lets in");
    assert_eq!(phone.answer(&shown, Answers::Approve, None).await.unwrap(), "approved");
    let mut replies = Vec::new();
    for (socket, bytes) in [(&first, &one), (&second, &one), (&third, &other)] {
        socket.set_read_timeout(Some(Duration::from_secs(15))).unwrap();
        let mut buffer = [0; 4096];
        let length = socket.recv(&mut buffer).unwrap();
        assert_eq!(buffer[0], 2, "Access-Accept");
        let again = |buffer: &[u8]| buffer.to_vec();
        let answer = again(&buffer[..length]);
        send(socket, bytes);
        let _ = socket.recv(&mut buffer);
        replies.push(answer);
    }
    assert_eq!((replies.len(), figure("asked").await, figure("joined").await), (3, 1, 2));
    send(&first, &one);
    let mut buffer = [0; 4096];
    let length = first.recv(&mut buffer).unwrap();
    assert_eq!(&buffer[..length], replies[0], "the same bytes for each later resend");
    assert_eq!(phone.waiting().await.unwrap(), None);
    let person = &world.service.get("/people/ines").await[0];
    assert_eq!(
        (
            person["state"].as_str(),
            person["factors"].as_array().unwrap().iter().any(|factor| factor["kind"] == "handset" && factor["last_used_us"].is_u64())
        ),
        (Some("proven"), true)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn denials_late_answers_and_logins_that_were_not_theirs_end_as_what_they_are() {
    let world = staff(&[INVITED]).await;
    let phone = robot(&world, "ines").await;
    let login = log_in(&world, "ines");
    let shown = asked(&phone).await;
    assert_eq!(phone.answer(&shown, Answers::Deny, None).await.unwrap(), "denied");
    let (exchange, local) = login.await.unwrap();
    let trace = world.service.trace_from(local).await;
    assert_eq!((outcome(&exchange).as_str(), trace["cause"].as_str()), ("reject", Some("approval-denied")), "{trace:#}");
    assert_eq!(world.service.get("/people/ines").await[0]["lock"]["wrong"], 1, "a denial counts");

    let login = log_in(&world, "ines");
    let shown = asked(&phone).await;
    let (exchange, local) = login.await.unwrap();
    let trace = world.service.trace_from(local).await;
    assert_eq!((outcome(&exchange).as_str(), trace["cause"].as_str()), ("reject", Some("approval-unanswered")), "{trace:#}");
    let (status, said) = status_of(phone.answer(&shown, Answers::Approve, None).await);
    assert_eq!((status, said.starts_with("too late: the login ended")), (409, true), "{said}");
    let reference = trace["reference"].as_str().unwrap().to_owned();
    let mut late = String::new();
    for _ in 0..100 {
        late = world.service.get(&format!("/traces/{reference}")).await.to_string();
        if late.contains("late answer") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    assert!(late.contains("approved on “phone”") && late.contains("too late"), "{late}");

    let login = log_in(&world, "ines");
    let shown = asked(&phone).await;
    assert_eq!(phone.answer(&shown, Answers::NotMe, None).await.unwrap(), "stopped");
    let (_, local) = login.await.unwrap();
    assert_eq!(world.service.trace_from(local).await["cause"], "approval-disowned");
    assert!(world.service.log_has("was not theirs"), "a notice is raised");
    let (_, trace) = world.log_in("breakwater", "ines", PASSWORD).await;
    assert_eq!((trace["cause"].as_str(), phone.waiting().await.unwrap()), (Some("approval-stopped"), None), "nothing buzzes any more");
    let shown = world.service.run(&["person", "show", "ines"]);
    assert!(shown.contains("that was not me") && shown.contains("approvals stopped"), "{shown}");
    assert!(world.service.run(&["factor", "release", "ines"]).contains("is unlocked"));
    let login = log_in(&world, "ines");
    let shown = asked(&phone).await;
    // One at a time: another login of the same person, from elsewhere, is not asked beside it.
    let (_, trace) = world.log_in("slipway", "ines", PASSWORD).await;
    assert_eq!(trace["cause"], "approval-busy");
    phone.answer(&shown, Answers::Approve, None).await.unwrap();
    assert_eq!(outcome(&login.await.unwrap().0), "accept");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_signature_that_is_replayed_altered_foreign_or_from_an_unconfirmed_handset_decides_nothing() {
    let world = staff(&[]).await;
    let invitation = invite(&world, "tidehall", "ines", json!({})).await;
    let server = format!("http://{}", world.service.http);
    let mut phone = RobotHandset::enrol(&http_client(), &server, &invitation, "phone").await.unwrap();
    let reference = phone.reference.clone().expect("an operator confirms");
    phone.begin().await.unwrap();
    assert_eq!(phone.me().await.unwrap()["reference"], reference.as_str());
    let (_, trace) = world.log_in("breakwater", "ines", PASSWORD).await;
    assert_eq!(trace["cause"], "code-missing", "an unconfirmed handset is no factor, the token is: {trace:#}");
    let (status, said) =
        world.service.call("POST", "/people/tidehall/ines/factors/0/confirm", Some(json!({ "reference": "000000" }))).await;
    assert_eq!((status, said["type"].as_str()), (422, Some("/problems/reference")), "{said}");
    let confirmed = world.service.run(&["factor", "confirm", "ines", &reference.to_lowercase()]);
    assert!(confirmed.contains("handset") && !confirmed.contains("waits"), "{confirmed}");

    let stranger = {
        let invitation = invite(&world, "tidehall", "yuki", json!({})).await;
        let mut robot = RobotHandset::enrol(&http_client(), &server, &invitation, "phone").await.unwrap();
        robot.begin().await.unwrap();
        let typed = robot.reference.clone().unwrap();
        world.service.run(&["factor", "confirm", "yuki", &typed]);
        robot
    };
    let login = log_in(&world, "ines");
    let first = asked(&phone).await;
    let right = phone.signature(&first, Answers::Approve, None).unwrap();
    let foreign = stranger.signature(&first, Answers::Approve, None).unwrap();
    let altered = first.replace("breakwater", "lantern");
    for (said, signature) in [
        ("another decision", phone.signature(&first, Answers::Deny, None).unwrap()),
        ("another's key", foreign.clone()),
        ("other words", phone.signature(&altered, Answers::Approve, None).unwrap()),
        ("nothing", String::new()),
    ] {
        assert_eq!(status_of(phone.answer_signed(&first, Answers::Approve, None, &signature).await).0, 403, "{said}");
    }
    assert_eq!(status_of(stranger.answer_signed(&first, Answers::Approve, None, &foreign).await).0, 404, "somebody else's approval");
    assert_eq!(phone.answer_signed(&first, Answers::Approve, None, &right).await.unwrap(), "approved");
    assert_eq!(status_of(phone.answer_signed(&first, Answers::Approve, None, &right).await).0, 409, "once");
    assert_eq!(outcome(&login.await.unwrap().0), "accept");
    let login = log_in(&world, "ines");
    let second = asked(&phone).await;
    let replayed = second.replace(&second, &first);
    assert_eq!(status_of(phone.answer_signed(&second, Answers::Approve, None, &right).await).0, 403, "replayed for another approval");
    assert_eq!(status_of(phone.answer_signed(&replayed, Answers::Approve, None, &right).await).0, 409);
    assert_eq!(phone.answer(&second, Answers::Approve, None).await.unwrap(), "approved");
    assert_eq!(outcome(&login.await.unwrap().0), "accept");
    // A handset that is removed says nothing any more.
    world.service.run(&["factor", "remove", "ines", &phone.device.to_string()]);
    assert_eq!(status_of(phone.me().await).0, 401);
    assert_eq!(status_of(phone.begin().await).0, 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_phones_of_one_person_hear_of_it_at_once_and_one_answer_decides() {
    let world = staff(&[INVITED]).await;
    let (one, two) = (robot(&world, "ines").await, robot(&world, "ines").await);
    let login = log_in(&world, "ines");
    let (first, second) = tokio::join!(one.next(), two.next());
    let (first, second) = (first.unwrap(), second.unwrap());
    assert_eq!(first, second, "the same text, told by events");
    let (yes, no) = tokio::join!(one.answer(&first, Answers::Approve, None), two.answer(&second, Answers::Deny, None));
    let (decided, late) = if yes.is_ok() { (yes, no) } else { (no, yes) };
    let (status, said) = status_of(late);
    assert_eq!((status, said.as_str()), (409, "this was already answered, here or on another of your devices"));
    let wanted = if decided.unwrap() == "approved" { "accept" } else { "reject" };
    assert_eq!(outcome(&login.await.unwrap().0), wanted);
    let labels: Vec<String> =
        world.service.get("/people/ines").await[0]["factors"].as_array().unwrap().iter().map(|one| one["label"].to_string()).collect();
    assert!(labels.contains(&"\"phone 2\"".to_owned()), "a second device never takes the first one's place: {labels:?}");
}

/// The portal asks handsets and shows a number to pick there.
async fn portal() -> Northmoor {
    let portal = (
        "second = [\"totp\", \"recovery\", \"temporary\", \"pager\", \"post\"]",
        "second = [\"approval\", \"totp\"]\nwhen_several = \"first\"",
    );
    Northmoor::with(Setup {
        change: &[
            INVITED,
            portal,
            ("words = { pager = [\"sms\", \"text\"], post = \"mail\" }\n", ""),
            (
                "[[couriers]]\nname = \"pager\"",
                "[[newcomers]]\ngroup = \"survey-contractors\"\nfactor = \"approval\"\n\n[[couriers]]\nname = \"pager\"",
            ),
        ],
        ..Setup::default()
    })
    .await
}

/// The number that a prompt shows.
fn number_in(prompt: &str) -> u64 {
    prompt.split_whitespace().find_map(|word| word.parse().ok()).unwrap_or_else(|| panic!("{prompt}"))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_login_is_listed_while_it_waits_for_somebody_and_no_longer() {
    let world = staff(&[INVITED]).await;
    let phone = robot(&world, "ines").await;
    assert!(world.service.run(&["trace", "waiting"]).contains("no login waits"));
    let login = log_in(&world, "ines");
    let shown = asked(&phone).await;
    let waiting = world.service.get("/waiting").await;
    let one = &waiting[0];
    assert_eq!(
        (one["person"].as_str(), one["gateway"].as_str(), one["chain"].as_str()),
        (Some("tidehall:ines"), Some("breakwater"), Some("staff"))
    );
    let reference = one["references"][0].as_str().unwrap().to_owned();
    let listed = world.service.run(&["trace", "waiting"]);
    assert!(listed.contains(&reference) && listed.contains("tidehall:ines"), "{listed}");
    phone.answer(&shown, Answers::Approve, None).await.unwrap();
    let (_, local) = login.await.unwrap();
    assert_eq!(world.service.trace_from(local).await["reference"].as_str(), Some(reference.as_str()), "its trace has the same reference");
    assert_eq!(world.service.get("/waiting").await, json!([]));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_robot_handset_of_the_lab_asks_for_the_number_on_the_screen_and_needs_no_operators_token() {
    let world = portal().await;
    let file = world.service.data.join("invitation");
    std::fs::write(&file, invite(&world, "tidehall", "pell", json!({})).await).unwrap();
    let server = format!("http://{}", world.service.http);
    let arguments = ["lab", "handset", "--server", &server, "--invitation-file", file.to_str().unwrap(), "--least", "0", "--most", "0"];
    let mut handset = Command::new(env!("CARGO_BIN_EXE_bivector"));
    handset.args(arguments).env_remove("BIVECTOR_TOKEN").env_remove("BIVECTOR_TOKEN_FILE").env("HOME", "/nonexistent");
    let mut handset = handset.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(handset.stdout.take().unwrap()).lines().map_while(Result::ok);
    let mut said = |wanted: &str| lines.find(|line| line.contains(wanted)).unwrap_or_else(|| panic!("it never said {wanted}"));
    said("enrolled for tidehall:pell");
    let lantern = world.gateway("lantern");
    let (exchange, _) = lantern.log_in("pell", "sounding-line").await.unwrap();
    let number = number_in(&prompt(&exchange));
    assert!(said("which number does the screen show").contains(&number.to_string()));
    writeln!(handset.stdin.as_ref().unwrap(), "none\n{number}").unwrap();
    said("type one of them");
    said("approved");
    assert_eq!(outcome(&lantern.answer("pell", "", &exchange).await.unwrap().0), "accept");
    assert!(Command::new("kill").args(["-INT", &handset.id().to_string()]).status().unwrap().success());
    assert!(handset.wait().unwrap().success(), "it ends although its input is still open");
}

#[tokio::test(flavor = "multi_thread")]
async fn at_a_gateway_with_prompts_the_number_on_the_screen_is_picked_on_the_handset() {
    let world = portal().await;
    let phone = robot(&world, "pell").await;
    let lantern = world.gateway("lantern");
    for (right, seen, cause) in [(true, "accept", None), (false, "reject", Some("approval-denied"))] {
        let (exchange, _) = lantern.log_in("pell", "sounding-line").await.unwrap();
        let prompt = prompt(&exchange);
        let number = number_in(&prompt);
        let shown = asked(&phone).await;
        let read: Value = serde_json::from_str(&shown).unwrap();
        let numbers: Vec<u64> = read["numbers"].as_array().unwrap().iter().filter_map(Value::as_u64).collect();
        assert!(numbers.len() == 3 && numbers.contains(&number), "{numbers:?} {prompt}");
        let picked = numbers.iter().copied().find(|one| (*one == number) == right);
        assert_eq!(phone.answer(&shown, Answers::Approve, picked).await.unwrap(), if right { "approved" } else { "denied" });
        let (exchange, local) = lantern.answer("pell", "", &exchange).await.unwrap();
        let trace = world.service.trace_from(local).await;
        assert_eq!((outcome(&exchange).as_str(), trace["cause"].as_str()), (seen, cause), "{trace:#}");
    }
    let (exchange, _) = lantern.log_in("pell", "sounding-line").await.unwrap();
    let shown = asked(&phone).await;
    let (exchange, _) = lantern.answer("pell", &code("pell", 0), &exchange).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "a code in its place");
    assert_eq!(phone.waiting().await.unwrap(), None, "and the approval is taken back");
    assert_eq!(
        status_of(phone.answer(&shown, Answers::Approve, Some(10)).await),
        (409, "no longer needed: the login used another factor".into())
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn an_invitation_works_once_and_says_so_and_guesses_are_limited() {
    let world = staff(&[INVITED]).await;
    let server = format!("http://{}", world.service.http);
    let first = invite(&world, "tidehall", "odo", json!({})).await;
    let second = invite(&world, "tidehall", "odo", json!({})).await;
    let enrol = async |code: &str| RobotHandset::enrol(&http_client(), &server, code, "phone").await;
    let (status, said) = status_of(enrol(&first).await);
    assert_eq!((status, said.contains("newer one")), (410, true), "{said}");
    // Two phones at once with one invitation: exactly one gets it.
    let typed = second.to_lowercase().replace('-', " ");
    let (one, two) = tokio::join!(enrol(&second), enrol(&second));
    assert_eq!([&one, &two].iter().filter(|tried| tried.is_ok()).count(), 1, "{one:?} {two:?}");
    assert_eq!(status_of(enrol(&typed).await).0, 410, "in any spelling");
    let third = invite(&world, "tidehall", "odo", json!({})).await;
    let records = rusqlite::Connection::open(world.service.data.join("records.db")).unwrap();
    records.execute("UPDATE invitations SET until_us = 1 WHERE used_us IS NULL AND withdrawn = 0", []).unwrap();
    let (status, said) = status_of(enrol(&third).await);
    assert_eq!((status, said.contains("expired")), (410, true), "{said}");
    let (_, nobody) = world.service.call("POST", "/people/tidehall/nobody/invitation", Some(json!({}))).await;
    assert_eq!(nobody["title"], "tidehall has no person `nobody`");
    let mut statuses: Vec<u16> = Vec::new();
    for guess in 0..12 {
        statuses.push(status_of(enrol(&format!("AAAA-BBBB-{guess:04}")).await).0);
    }
    assert_eq!((statuses[0], statuses[11]), (404, 429), "{statuses:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_authenticator_app_counts_once_it_has_shown_a_right_code() {
    let world = Northmoor::start().await;
    let invitation = invite(&world, "tidehall", "odo", json!({ "factor": "totp" })).await;
    let server = format!("http://{}/handset/v1", world.service.http);
    let call = async |path: &str, body: Value| {
        let answer = http_client().post(format!("{server}{path}")).json(&body).send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap_or(Value::Null))
    };
    let (_, peeked) = call("/invitation", json!({ "invitation": invitation })).await;
    assert_eq!((peeked["name"].as_str(), peeked["factor"].as_str()), (Some("Odo Reyes"), Some("totp")));
    let (_, app) = call("/apps", json!({ "invitation": invitation })).await;
    let (seed, ticket) = (app["seed"].as_str().unwrap(), app["ticket"].as_str().unwrap());
    assert!(app["link"].as_str().unwrap().starts_with("otpauth://totp/Northmoor%20Tidal:odo?secret="), "{app}");
    let wrong = call("/apps/code", json!({ "invitation": invitation, "ticket": ticket, "code": "000000" })).await;
    assert_eq!((wrong.0, wrong.1["title"].as_str()), (422, Some("the code does not match the new app")));
    assert!(world.service.get("/people/odo").await[0]["factors"].as_array().unwrap().is_empty(), "nothing half done");
    let first = code_of(seed);
    let right =
        call("/apps/code", json!({ "invitation": invitation, "ticket": ticket, "code": format!("{} {}", &first[..3], &first[3..]) })).await;
    assert_eq!(right.0, 201, "{}", right.1);
    let (_, trace) = world.log_in("breakwater", "odo", &format!("new-moon-spring{first}")).await;
    assert_eq!(trace["cause"], "code-used", "the code that confirmed it is used: {trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn people_without_a_factor_are_enrolled_in_the_login_or_let_in_until_a_date_as_the_chain_says() {
    let contractors = "gateways = [\"lantern\"]\nidentity = \"northmoor-names\"";
    let enrol = format!("{contractors}\nwhen_not_enrolled = \"enrol\"");
    let only_totp = ("second = [\"totp\", \"recovery\", \"temporary\", \"pager\", \"post\"]", "second = [\"totp\"]");
    let no_words = ("words = { pager = [\"sms\", \"text\"], post = \"mail\" }", "");
    let no_factor_form =
        ("forms = [\"password code(6)\", \"password ' ' factor\", \"password\"]", "forms = [\"password code(6)\", \"password\"]");
    let change = [(contractors, enrol.as_str()), only_totp, no_words, no_factor_form];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let number = world.service.get("/people/pell").await[0]["factors"][0]["id"].to_string();
    world.service.run(&["factor", "remove", "pell", &number]);
    let lantern = world.gateway("lantern");
    let (asked, _) = lantern.log_in("pell", "sounding-line").await.unwrap();
    let prompt = prompt(&asked);
    let seed: String = prompt
        .split(' ')
        .filter(|word| (2..=4).contains(&word.len()) && word.bytes().all(|byte| byte.is_ascii_uppercase() || (b'2'..=b'7').contains(&byte)))
        .collect();
    assert!(seed.len() == 32, "{prompt}");
    let (exchange, local) = lantern.answer("pell", &code_of(&seed), &asked).await.unwrap();
    let trace = world.service.trace_from(local).await;
    assert_eq!(outcome(&exchange), "accept", "{trace:#}");
    assert!(!trace.to_string().contains(&seed[..8]) && !world.service.log().contains(&seed[..8]), "the key stands in no trace and no log");
    let person = &world.service.get("/people/pell").await[0];
    assert_eq!((person["factors"][0]["label"].as_str(), person["state"].as_str()), (Some("app"), Some("proven")));

    let let_in = world.site.replacen("when_not_enrolled = \"enrol\"", "when_not_enrolled = \"let-in\"\nlet_in_until = \"2999-12-31\"", 1);
    assert_eq!(world.service.apply(&let_in).await.0, 201);
    world.service.run(&["factor", "remove", "pell", &person["factors"][0]["id"].to_string()]);
    let (seen, trace) = world.log_in("lantern", "pell", "sounding-line").await;
    assert_eq!(seen, "accept", "{trace:#}");
    assert!(trace.to_string().contains("admits such people for another"), "{trace:#}");
    let check = world.service.cli_with_input(&["site", "check", "-"], &let_in);
    assert!(text(&check.stdout).contains("can log in to"), "{}", text(&check.stdout));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_remembered_device_gives_no_second_factor_for_a_while_even_over_a_restart_until_it_is_released() {
    let staff = "gateways = [\"breakwater\", \"slipway\"]";
    let world = Northmoor::with(Setup { change: &[(staff, &format!("{staff}\nremember = \"8h\""))], ..Setup::default() }).await;
    let gateway = SimulatedGateway { patience: Patience { wait: Duration::from_secs(8), tries: 1 }, ..world.gateway("breakwater") };
    let from = async |gateway: &SimulatedGateway, password: &str, caller: &str| {
        let mut request = Request::login("ines", password.as_bytes());
        request.message.push(AttributeType::CallingStationId, caller.as_bytes());
        let (exchange, local) = gateway.send(&request).await.unwrap();
        (outcome(&exchange), world.service.trace_from(local).await)
    };
    assert_eq!(from(&gateway, &format!("{PASSWORD}{}", code("ines", 0)), "198.51.100.7").await.0, "accept");
    let (seen, trace) = from(&gateway, PASSWORD, "198.51.100.7").await;
    assert_eq!(seen, "accept", "{trace:#}");
    assert!(trace.to_string().contains("remembered on this gateway"), "{trace:#}");
    assert_eq!(from(&gateway, PASSWORD, "198.51.100.8").await.1["cause"], "code-missing", "another device");
    assert_eq!(from(&world.gateway("slipway"), PASSWORD, "198.51.100.7").await.1["cause"], "code-missing", "another gateway");
    let tried = world
        .service
        .cli_with_input(&["login", "ines", "--via", "breakwater", "--caller", "198.51.100.7", "--password-file", "-"], PASSWORD);
    assert!(!tried.status.success(), "a rehearsal proves the factor: {}", text(&tried.stdout));
    let Northmoor { service, directories: _directories, .. } = world;
    let (data, _folder) = service.kill();
    let service = Service::start_in(&data, &[]);
    let again = async || {
        let mut request = Request::login("ines", PASSWORD.as_bytes());
        request.message.push(AttributeType::CallingStationId, b"198.51.100.7");
        outcome(&gateway.send(&request).await.unwrap().0)
    };
    assert_eq!(again().await, "accept", "it outlives the service");
    assert!(service.run(&["factor", "release", "ines"]).contains("is unlocked"));
    assert_eq!(again().await, "reject");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_said_and_used_outlives_a_kill_a_stop_an_invitation_and_a_confirmation() {
    let world = staff(&[INVITED]).await;
    let mut phone = robot(&world, "ines").await;
    let open = invite(&world, "tidehall", "odo", json!({})).await;
    let used = invite(&world, "tidehall", "yuki", json!({})).await;
    let server = format!("http://{}", world.service.http);
    RobotHandset::enrol(&http_client(), &server, &used, "phone").await.unwrap();
    let login = log_in(&world, "ines");
    let shown = asked(&phone).await;
    assert_eq!(phone.answer(&shown, Answers::NotMe, None).await.unwrap(), "stopped");
    login.await.unwrap();
    let (http, Northmoor { service, directories: _directories, radius, .. }) = (world.service.http, world);
    let (data, _folder) = service.kill();
    let service = Service::spawn_at(&data, http);
    let (_, local) = super::harness::gateway("breakwater", radius).log_in("ines", PASSWORD).await.unwrap();
    assert_eq!(service.trace_from(local).await["cause"], "approval-stopped");
    assert_eq!(status_of(RobotHandset::enrol(&http_client(), &server, &used, "phone").await).0, 410, "used is used");
    RobotHandset::enrol(&http_client(), &server, &open, "phone").await.expect("an open invitation stays open");
    phone.begin().await.expect("a handset stays known");
    service.run(&["factor", "release", "ines"]);
    let gateway = super::harness::gateway("breakwater", radius);
    let login = tokio::spawn(async move { gateway.log_in("ines", PASSWORD).await.unwrap() });
    let shown = asked(&phone).await;
    assert_eq!(phone.answer(&shown, Answers::Approve, None).await.unwrap(), "approved");
    assert_eq!(outcome(&login.await.unwrap().0), "accept");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_alone_never_reaches_the_devices_of_somebody_who_has_some_even_where_a_waiver_lets_them_in() {
    let waived =
        "second = [\"totp\"]\nwhen_unclear = \"plain\"\nwaive = [{ network = \"127.0.0.0/8\", reason = \"the control room's own desks\" }]";
    let change = [("second = [\"totp\"]\nwhen_unclear = \"code\"", waived)];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let own = format!("http://{}/handset/v1/own", world.service.http);
    let sign_in = async |name: &str, password: &str, header: bool| {
        let mut request = http_client().post(format!("{own}/session")).json(&json!({ "name": name, "password": password }));
        if header {
            request = request.header("x-bivector-handset", "1");
        }
        let answer = request.send().await.unwrap();
        let cookie = answer.headers().get("set-cookie").map(|cookie| cookie.to_str().unwrap().split(';').next().unwrap().to_owned());
        (answer.status().as_u16(), cookie, answer.json::<Value>().await.unwrap())
    };
    let (status, cookie, said) = sign_in("ines", PASSWORD, true).await;
    assert_eq!((status, cookie), (401, None), "{said}");
    let (status, cookie, said) = sign_in("odo", "new-moon-spring", true).await;
    assert_eq!((status, said["done"].as_bool()), (200, Some(true)), "nobody's first device yet: {said}");
    let cookie = cookie.unwrap();
    let invite = async |header: Option<&str>| {
        let mut request = http_client().post(format!("{own}/invitation")).header("cookie", &cookie);
        if let Some(header) = header {
            request = request.header(header, "1");
        }
        let answer = request.send().await.unwrap();
        (answer.status().as_u16(), answer.json::<Value>().await.unwrap())
    };
    assert_eq!(invite(None).await.0, 403, "a page elsewhere cannot do it");
    let (status, made) = invite(Some("x-bivector-handset")).await;
    assert_eq!(status, 200, "{made}");
    let server = format!("http://{}", world.service.http);
    let robot = RobotHandset::enrol(&http_client(), &server, made["code"].as_str().unwrap(), "phone").await.unwrap();
    world.service.run(&["factor", "confirm", "odo", robot.reference.as_deref().expect("by password alone an operator confirms")]);
    assert_eq!(invite(Some("x-bivector-handset")).await.0, 401, "the session by password ends with the first factor");
    // Guesses are limited by address.
    let mut last = 0;
    for _ in 0..12 {
        last = sign_in("ines", "wrong", true).await.0;
    }
    assert_eq!(last, 429);
}
