//! Push messages through the whole path: a login over UDP, the service, a push service on HTTP, and robot handsets that decrypt.

use super::harness::{Northmoor, Setup, http_client, outcome};
use bivector_exchange::Exchange;
use bivector_lab::courier::{CourierHabits, StandInCourier};
use bivector_lab::handset::{Answers, HandsetError, RobotHandset};
use bivector_lab::push::{PushAnswers, PushHabits, RobotSubscription, StandInPush};
use bivector_push::{Notice, NoticeKind};
use serde_json::{Value, json};
use std::net::SocketAddr;
use std::time::{Duration, Instant};

const PASSWORD: &str = "barnacle-and-buoy";

async fn push_service() -> StandInPush {
    StandInPush::start(SocketAddr::from(([127, 0, 0, 1], 0)), PushHabits::default()).await.unwrap()
}

/// The demo with this push service and approvals for the staff; `chain` is more of the chain, `more` of the site.
async fn world_with(push: &StandInPush, chain: &str, more: &[(&str, &str)]) -> Northmoor {
    let second = format!("second = [\"approval\", \"totp\"]\nsecond_patience = \"6s\"\n{chain}\nwhen_unclear = \"code\"");
    let origin = push.origin();
    let change = [
        ("second = [\"totp\"]\nwhen_unclear = \"code\"", second.as_str()),
        ("http://127.0.0.1:18490", origin.as_str()),
        ("shows_code = true", "confirmed_by = \"invitation\""),
    ];
    let change: Vec<(&str, &str)> = change.into_iter().chain(more.iter().copied()).collect();
    Northmoor::with(Setup { change: &change, ..Setup::default() }).await
}

/// The same, with a pager behind push after so long.
async fn world_with_pager(push: &StandInPush, after: &str) -> (Northmoor, StandInCourier) {
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let courier = StandInCourier::start(any, any, CourierHabits::default()).await.unwrap();
    let http = courier.http().to_string();
    let chain = format!("wake = [\"push\", \"pager\"]\nwake_after = \"{after}\"");
    let world = world_with(push, &chain, &[("127.0.0.1:18480", &http)]).await;
    let ines = json!({ "name": "Ines Okafor", "phone": "+46 70 555 0101" });
    let (status, changed) = world.service.call("PUT", "/people/tidehall/ines", Some(ines)).await;
    assert_eq!(status, 200, "{changed}");
    (world, courier)
}

async fn world(push: &StandInPush) -> Northmoor {
    world_with(push, "wake = [\"push\"]", &[]).await
}

async fn enrol(world: &Northmoor, login: &str, label: &str) -> RobotHandset {
    let (status, made) = world.service.call("POST", &format!("/people/tidehall/{login}/invitation"), Some(json!({}))).await;
    assert_eq!(status, 201, "{made}");
    let server = format!("http://{}", world.service.http);
    let mut robot = RobotHandset::enrol(&http_client(), &server, made["code"].as_str().unwrap(), label).await.unwrap();
    robot.begin().await.unwrap();
    robot
}

/// A handset that push has woken for a test already.
async fn phone(world: &Northmoor, push: &StandInPush, login: &str) -> (RobotHandset, RobotSubscription) {
    let robot = enrol(world, login, "phone").await;
    let subscription = robot.subscribe(push).await.unwrap();
    (robot, subscription)
}

type Login = tokio::task::JoinHandle<(Exchange, SocketAddr)>;

/// A login through breakwater without a code, in the background.
fn log_in(world: &Northmoor, login: &'static str) -> Login {
    let gateway = world.gateway("breakwater");
    tokio::spawn(async move { gateway.log_in(login, PASSWORD).await.unwrap() })
}

async fn next(subscription: &RobotSubscription) -> Notice {
    tokio::time::timeout(Duration::from_secs(10), subscription.next()).await.expect("a message comes").expect("the handset is known")
}

/// How a login ended, and what its trace says of push and messages.
async fn end(world: &Northmoor, login: Login) -> (String, Vec<String>) {
    let (exchange, from) = login.await.unwrap();
    let trace = world.service.trace_from(from).await;
    let steps = trace["steps"].as_array().cloned().unwrap_or_default();
    let about = |step: &&Value| matches!(step["what"].as_str(), Some("push" | "message"));
    (outcome(&exchange).to_owned(), steps.iter().filter(about).map(|step| step["said"].as_str().unwrap().to_owned()).collect())
}

/// How a handset is listed under its person.
async fn listed(world: &Northmoor, login: &str) -> Value {
    let people = world.service.get(&format!("/people/{login}")).await;
    let factors = people[0]["factors"].as_array().unwrap();
    factors.iter().find(|factor| factor["kind"] == "handset").unwrap()["push"].clone()
}

fn refused<T: std::fmt::Debug>(answered: Result<T, HandsetError>) -> (u16, String) {
    match answered {
        Err(HandsetError::Refused { status, said }) => (status.as_u16(), said),
        other => panic!("{other:?}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_in_a_pocket_is_woken_and_the_trace_tells_the_way_of_the_message() {
    let push = push_service().await;
    let world = world(&push).await;
    let (robot, subscription) = phone(&world, &push, "ines").await;
    let login = log_in(&world, "ines");
    let shown = robot.woken(&subscription).await.unwrap();
    assert_eq!(robot.answer(&shown, Answers::Approve, None).await.unwrap(), "approved");
    let (ended, told) = end(&world, login).await;
    assert_eq!(ended, "accept");
    assert_eq!(told.len(), 3, "{told:?}");
    assert!(told[0].starts_with("sent to “phone”, accepted by the push service after "), "{told:?}");
    assert!(told[1].starts_with("“phone” showed the notification after "), "{told:?}");
    assert!(told[2].starts_with("the notification was opened on “phone” after "), "{told:?}");
    let seen = push.seen();
    let approval = &seen[1];
    assert!((4..=6).contains(&approval.ttl), "the message is kept as long as the approval waits: {approval:?}");
    assert_eq!((approval.urgency.as_str(), approval.topic.as_str()), ("high", "sign-in"));
    assert_eq!(approval.contact, "mailto:remote-access@northmoor.example");
    assert_eq!(push.faults(), Vec::<String>::new());
    let page = http_client().get(format!("http://{}/metrics", world.service.http)).send().await.unwrap().text().await.unwrap();
    let figure = format!("bivector_pushes_total{{service=\"{}\",result=\"accepted\"}}", push.origin());
    assert!(page.lines().any(|line| line.starts_with(&figure)), "{figure} is missing");
    assert!(page.contains("bivector_push_seen_seconds_count{what=\"shown\"} 1"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_notification_says_who_logs_in_where_and_from_where_in_the_persons_language() {
    let push = push_service().await;
    let world = world(&push).await;
    let (_robot, subscription) = phone(&world, &push, "ines").await;
    let (status, changed) =
        world.service.call("PUT", "/people/tidehall/ines", Some(json!({ "name": "Ines Okafor", "language": "de" }))).await;
    assert_eq!(status, 200, "{changed}");
    let login = log_in(&world, "ines");
    let notice = next(&subscription).await;
    assert_eq!(notice.title, "Northmoor Tidal: Melden Sie sich gerade an?");
    assert_eq!(notice.body, "Ines Okafor (ines) über breakwater, von einem unbekannten Ort");
    let buttons = notice.buttons.unwrap();
    assert_eq!((buttons.open.as_str(), buttons.deny.as_str()), ("Öffnen und bestätigen", "Ablehnen"));
    assert!(notice.until_us > notice.now_us && notice.until_us - notice.now_us <= 6_000_000);
    login.abort();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_is_ready_once_its_person_has_confirmed_a_test_and_operators_see_that() {
    let push = push_service().await;
    let world = world(&push).await;
    let robot = enrol(&world, "ines", "phone").await;
    let view = listed(&world, "ines").await;
    assert_eq!(
        (view["state"].as_str(), view["said"].as_str()),
        (Some("none"), Some("notifications are not set up; the handset page shows how"))
    );
    let offer = robot.push().await.unwrap();
    assert_eq!((offer["offered"].as_bool(), offer["push"]["state"].as_str()), (Some(true), Some("none")));
    let subscription = push.subscribe(offer["key"].as_str().unwrap()).unwrap();
    let tested = robot.bring(subscription.request()).await.unwrap();
    assert_eq!(tested["accepted"], true, "{tested}");
    assert_eq!(listed(&world, "ines").await["state"], "untested");
    let test = next(&subscription).await;
    assert_eq!((test.kind, test.title.as_str()), (NoticeKind::Test, "Test from Northmoor Tidal"));
    robot.report(&test.ticket, "shown").await.unwrap();
    assert_eq!(listed(&world, "ines").await["state"], "untested", "shown is not confirmed");
    robot.report(&test.ticket, "opened").await.unwrap();
    let view = listed(&world, "ines").await;
    assert_eq!((view["state"].as_str(), view["said"].as_str()), (Some("ready"), Some("notifications work")));
    assert!(view["heard_us"].as_u64().is_some() && view["result"].as_str().unwrap().starts_with("accepted by 127.0.0.1"), "{view}");
    // An operator sends another test.
    let out = world.service.run(&["factor", "test", "ines", &robot.device.to_string()]);
    assert!(out.contains("accepted by 127.0.0.1"), "{out}");
    assert_eq!(next(&subscription).await.kind, NoticeKind::Test);
    let list = world.service.run(&["factor", "list", "ines"]);
    assert!(list.contains("notifications work"), "{list}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_decided_approval_takes_its_notification_back_from_the_other_phones() {
    let push = push_service().await;
    let world = world(&push).await;
    let (robot, subscription) = phone(&world, &push, "ines").await;
    let (status, made) = world.service.call("POST", "/people/tidehall/ines/invitation", Some(json!({}))).await;
    assert_eq!(status, 201);
    let server = format!("http://{}", world.service.http);
    let mut tablet = RobotHandset::enrol(&http_client(), &server, made["code"].as_str().unwrap(), "tablet").await.unwrap();
    tablet.begin().await.unwrap();
    let on_tablet = tablet.subscribe(&push).await.unwrap();
    let login = log_in(&world, "ines");
    let asked = next(&on_tablet).await;
    let shown = robot.woken(&subscription).await.unwrap();
    robot.answer(&shown, Answers::Deny, None).await.unwrap();
    let (ended, _) = end(&world, login).await;
    assert_eq!(ended, "reject");
    let over = next(&on_tablet).await;
    assert_eq!((over.kind, over.id), (NoticeKind::Over, asked.id));
    let nothing = tokio::time::timeout(Duration::from_millis(200), subscription.next()).await;
    assert!(nothing.is_err(), "the phone that has answered is not told");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_that_the_push_service_no_longer_knows_is_not_asked_again_and_people_say_why() {
    let push = push_service().await;
    let world = world(&push).await;
    let (robot, subscription) = phone(&world, &push, "ines").await;
    push.forget(&subscription);
    let login = log_in(&world, "ines");
    let (ended, told) = end(&world, login).await;
    assert_eq!(ended, "reject");
    let view = listed(&world, "ines").await;
    assert_eq!(view["state"], "ended");
    assert_eq!(view["said"], "the push service no longer knows this phone (410); it subscribes again when the handset page is next opened");
    assert!(told[0].contains("no longer knows this phone (410)"));
    robot.subscribe(&push).await.unwrap();
    assert_eq!(listed(&world, "ines").await["state"], "ready");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_bad_subscription_is_refused_with_its_reason() {
    let push = push_service().await;
    let world = world(&push).await;
    let robot = enrol(&world, "ines", "phone").await;
    let key = robot.push().await.unwrap()["key"].as_str().unwrap().to_owned();
    let good = push.subscribe(&key).unwrap().request();
    let with = |name: &str, value: &str| {
        let mut request = good.clone();
        request[name] = json!(value);
        request
    };
    let own = format!("http://{}/handset/v1/push", world.service.http);
    for (name, value, said) in [
        ("endpoint", "https://127.0.0.1/x", "`127.0.0.1` is an address inside the own network"),
        ("endpoint", own.as_str(), "the address begins with `http:`; push services are reached over `https:`"),
        ("endpoint", "https://intranet/x", "`intranet` is an address inside the own network"),
        ("endpoint", "http://push.example.net/x", "the address begins with `http:`; push services are reached over `https:`"),
        ("endpoint", "https://push.example.net/x", "the push service `push.example.net` is not allowed on this site"),
        ("endpoint", "nonsense", "the address is not a URL"),
        ("p256dh", "AAAA", "`p256dh` has 3 bytes, not 65"),
        ("auth", "AAAA", "`auth` has 3 bytes, not 16"),
        ("key", "AAAA", "the subscription was made with another signing key than this service has"),
    ] {
        assert_eq!(refused(robot.bring(with(name, value)).await), (422, said.to_owned()), "{name} {value}");
    }
    assert_eq!(listed(&world, "ines").await["state"], "none");
    assert_eq!(push.count(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn one_address_is_one_persons_only() {
    let push = push_service().await;
    let world = world(&push).await;
    let (_ines, subscription) = phone(&world, &push, "ines").await;
    let tomasz = enrol(&world, "tomasz", "phone").await;
    let (status, said) = refused(tomasz.bring(subscription.request()).await);
    assert_eq!((status, said.as_str()), (409, "this browser is already the handset of another person"));
    assert_eq!(listed(&world, "ines").await["state"], "ready");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_ticket_counts_for_its_message_only_and_is_nothing_that_somebody_guesses() {
    let push = push_service().await;
    let world = world(&push).await;
    let (robot, subscription) = phone(&world, &push, "ines").await;
    assert_eq!(refused(robot.report("AAAA", "shown").await).0, 410);
    assert_eq!(refused(robot.report("", "opened").await).0, 410);
    let login = log_in(&world, "ines");
    let notice = next(&subscription).await;
    for _ in 0..3 {
        robot.report(&notice.ticket, "shown").await.unwrap();
    }
    let mut changed = notice.ticket.clone();
    changed.pop();
    assert_eq!(refused(robot.report(&changed, "shown").await).0, 410);
    let (ended, told) = end(&world, login).await;
    assert_eq!(ended, "reject", "a report approves nothing");
    assert_eq!(told.iter().filter(|said| said.contains("showed")).count(), 1, "{told:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_notification_in_time_a_message_with_a_link_is_sent_and_only_then() {
    let push = push_service().await;
    let (world, courier) = world_with_pager(&push, "1s").await;
    let (robot, subscription) = phone(&world, &push, "ines").await;
    // The phone shows the notification in time: no message.
    let login = log_in(&world, "ines");
    let shown = robot.woken(&subscription).await.unwrap();
    tokio::time::sleep(Duration::from_millis(1_500)).await;
    robot.answer(&shown, Answers::Approve, None).await.unwrap();
    let (ended, _) = end(&world, login).await;
    assert_eq!(ended, "accept");
    assert_eq!(courier.arrived(), []);
    // It sleeps: the message comes.
    push.behave(PushHabits { delay: Duration::from_secs(60), ..PushHabits::default() });
    let began = Instant::now();
    let login = log_in(&world, "ines");
    let message = loop {
        if let Some(message) = courier.arrived().pop() {
            break message;
        }
        assert!(began.elapsed() < Duration::from_secs(5), "no message came");
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    assert!(began.elapsed() >= Duration::from_millis(900), "it came after {:?}", began.elapsed());
    assert!(message.text.contains("somebody is signing in with your name through breakwater"), "{message:?}");
    assert!(message.text.contains("http://localhost:18080/handset/request/"), "{message:?}");
    let shown = robot.waiting().await.unwrap().unwrap();
    robot.answer(&shown, Answers::Approve, None).await.unwrap();
    let (ended, told) = end(&world, login).await;
    assert_eq!(ended, "accept");
    assert!(told.last().unwrap().starts_with("a message with a link was sent to "), "{told:?}");
    assert!(!told.last().unwrap().contains(&message.to), "numbers are masked: {told:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_left_of_a_persons_messages_goes_to_the_phone_that_was_heard_from_last() {
    let push = push_service().await;
    let contact = "contact = \"mailto:remote-access@northmoor.example\"";
    let world = world_with(&push, "wake = [\"push\"]", &[(contact, &format!("{contact}\nper_person = 3"))]).await;
    // Each confirms a test message: one more is allowed.
    let (robot, subscription) = phone(&world, &push, "ines").await;
    let tablet = enrol(&world, "ines", "tablet").await;
    let on_tablet = tablet.subscribe(&push).await.unwrap();
    let login = log_in(&world, "ines");
    let shown = tablet.woken(&on_tablet).await.unwrap();
    let nothing = tokio::time::timeout(Duration::from_millis(200), subscription.next()).await;
    assert!(nothing.is_err(), "the phone gets no message");
    tablet.answer(&shown, Answers::Approve, None).await.unwrap();
    let (ended, told) = end(&world, login).await;
    assert_eq!(ended, "accept");
    assert_eq!(told.iter().filter(|said| said.starts_with("sent to “tablet”")).count(), 1, "{told:?}");
    // None is left: the page still shows it.
    let login = log_in(&world, "ines");
    let shown = loop {
        if let Some(shown) = robot.waiting().await.unwrap() {
            break shown;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    robot.answer(&shown, Answers::Approve, None).await.unwrap();
    let (ended, told) = end(&world, login).await;
    assert_eq!(
        (ended.as_str(), told),
        ("accept", vec!["no push message was sent: too many messages were sent to this person lately".into()])
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_phone_without_push_gets_the_message_at_once() {
    let push = push_service().await;
    let (world, courier) = world_with_pager(&push, "5s").await;
    let robot = enrol(&world, "ines", "phone").await;
    robot.give_up_push("refused").await.unwrap();
    let view = listed(&world, "ines").await;
    assert_eq!(view["said"], "the person does not allow notifications; the person must allow them in the phone's settings");
    let began = Instant::now();
    let login = log_in(&world, "ines");
    while courier.arrived().is_empty() {
        assert!(began.elapsed() < Duration::from_secs(3), "no message came");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let shown = robot.waiting().await.unwrap().unwrap();
    robot.answer(&shown, Answers::Deny, None).await.unwrap();
    let (_, told) = end(&world, login).await;
    assert_eq!(told[0], "no push message was sent: none of this person's phones can be woken by push", "{told:?}");
    assert_eq!(refused(robot.give_up_push("ready").await).0, 422);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_push_service_that_fails_is_left_alone_and_the_login_says_so() {
    let push = push_service().await;
    let world = world(&push).await;
    let (robot, _subscription) = phone(&world, &push, "ines").await;
    let test = async |answers| {
        push.behave(PushHabits { answers, ..PushHabits::default() });
        let (status, tested) = world.service.call("POST", &format!("/people/tidehall/ines/factors/{}/push-test", robot.device), None).await;
        assert_eq!(status, 200, "{tested}");
        tested["said"].as_str().unwrap().split(": ").last().unwrap().to_owned()
    };
    assert_eq!(test(PushAnswers::Redirect).await, "it redirects elsewhere (302), which is not followed");
    assert_eq!(test(PushAnswers::Status(400)).await, "it answered 400");
    assert_eq!(test(PushAnswers::Status(403)).await, "it does not accept this service's signature (403); the phone must subscribe again");
    assert!(test(PushAnswers::Talk(10_000_000)).await.starts_with("accepted by"));
    for _ in 0..5 {
        assert_eq!(test(PushAnswers::Status(500)).await, "it failed (500)");
    }
    let said = test(PushAnswers::Deliver).await;
    assert!(said.starts_with("it failed (500); nothing is sent to it for another "), "{said}");
    let before = push.count();
    let login = log_in(&world, "ines");
    let (ended, told) = end(&world, login).await;
    assert_eq!(ended, "reject");
    assert_eq!(push.count(), before, "nothing was sent");
    assert!(told[0].contains("the push service has failed 5 times in a row"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_push_service_that_asks_to_wait_an_hour_is_not_asked() {
    let push = push_service().await;
    let world = world(&push).await;
    let (robot, _subscription) = phone(&world, &push, "ines").await;
    push.behave(PushHabits { answers: PushAnswers::Busy(3600), ..PushHabits::default() });
    let test = async || world.service.call("POST", &format!("/people/tidehall/ines/factors/{}/push-test", robot.device), None).await.1;
    assert!(test().await["said"].as_str().unwrap().ends_with("asks to wait 3600 s (429)"));
    push.behave(PushHabits::default());
    let said = test().await["said"].as_str().unwrap().to_owned();
    assert!(said.starts_with("the push service asks to wait (429); nothing is sent to it for another 35"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_signing_key_is_taken_over_by_phones_one_by_one() {
    let push = push_service().await;
    let world = world(&push).await;
    let (robot, subscription) = phone(&world, &push, "ines").await;
    let before = robot.push().await.unwrap();
    assert_eq!(before["key"], before["subscribed_with"]);
    world.service.run(&["push", "new-key"]);
    let after = robot.push().await.unwrap();
    assert_ne!(after["key"], before["key"]);
    assert_eq!(after["subscribed_with"], before["key"]);
    // The old key still signs for this phone.
    let login = log_in(&world, "ines");
    let shown = robot.woken(&subscription).await.unwrap();
    robot.answer(&shown, Answers::Approve, None).await.unwrap();
    let (ended, _) = end(&world, login).await;
    assert_eq!(ended, "accept");
    robot.subscribe(&push).await.unwrap();
    let after = robot.push().await.unwrap();
    assert_eq!(after["key"], after["subscribed_with"]);
    let keys = world.service.get("/push/keys").await;
    assert_eq!((keys[0]["current"].as_bool(), keys[0]["handsets"].as_u64()), (Some(true), Some(1)), "{keys}");
    let listed = world.service.run(&["push", "keys"]);
    assert!(listed.contains("current"), "{listed}");
}

#[tokio::test(flavor = "multi_thread")]
async fn subscriptions_and_keys_are_encrypted_in_the_records_and_secrets_are_nowhere() {
    let push = push_service().await;
    let world = world(&push).await;
    let (_robot, subscription) = phone(&world, &push, "ines").await;
    let secret = subscription.request()["auth"].as_str().unwrap().to_owned();
    let address = subscription.endpoint.rsplit('/').next().unwrap().to_owned();
    let people = world.service.get("/people/ines").await.to_string();
    let audit = world.service.get("/audit").await.to_string();
    for text in [people, audit] {
        assert!(!text.contains(&secret) && !text.contains(&address), "{text}");
    }
    for file in std::fs::read_dir(&world.service.data).unwrap().flatten().filter(|file| file.path().is_file()) {
        let bytes = std::fs::read(file.path()).unwrap();
        let found = |needle: &str| bytes.windows(needle.len()).any(|part| part == needle.as_bytes());
        assert!(!found(&secret) && !found(&address), "{}", file.path().display());
    }
}

/// The layer of push, as locating a login shows it.
async fn push_layer(world: &Northmoor) -> Value {
    let request = json!({ "person": "ines", "via": "breakwater", "password": PASSWORD });
    let (status, ladder) = world.service.call("POST", "/locate", Some(request)).await;
    assert_eq!(status, 200, "{ladder}");
    ladder["rungs"].as_array().unwrap().iter().find(|rung| rung["layer"] == "push").cloned().unwrap_or(Value::Null)
}

#[tokio::test(flavor = "multi_thread")]
async fn locating_a_login_shows_the_way_of_a_message_up_to_what_is_broken() {
    let push = push_service().await;
    let world = world(&push).await;
    let robot = enrol(&world, "ines", "phone").await;
    let rung = push_layer(&world).await;
    assert_eq!((rung["state"].as_str(), rung["about"].as_str()), (Some("warn"), Some("phone")), "{rung}");
    assert_eq!(rung["said"], "subscription: the handset has not subscribed; opening its page sets it up");
    let subscription = robot.subscribe(&push).await.unwrap();
    let rung = push_layer(&world).await;
    let said = rung["said"].as_str().unwrap();
    let host = push.origin().trim_start_matches("http://").to_owned();
    assert!(
        said.starts_with(&format!("subscription: at {host}, confirmed by a test; name: 127.0.0.1 is 127.0.0.1; connection: ")),
        "{said}"
    );
    assert!(said.contains("; key: the current signing key; last result: accepted by 127.0.0.1"), "{said}");
    push.behave(PushHabits { answers: PushAnswers::Status(403), ..PushHabits::default() });
    world.service.call("POST", &format!("/people/tidehall/ines/factors/{}/push-test", robot.device), None).await;
    assert!(push_layer(&world).await["said"].as_str().unwrap().contains("it does not accept this service's signature (403)"));
    drop((subscription, push));
    let rung = push_layer(&world).await;
    assert!(rung["said"].as_str().unwrap().contains("connection: 127.0.0.1 port "), "{rung}");
    assert_eq!(rung["state"], "warn", "a code would do: {rung}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_review_says_how_many_handsets_show_notifications() {
    let push = push_service().await;
    let world = world(&push).await;
    let robot = enrol(&world, "ines", "phone").await;
    let about = async || {
        let review = world.service.get("/doctor").await;
        let all = review["advice"].as_array().or(review.as_array()).unwrap().clone();
        all.into_iter().filter(|one| one["topic"] == "push").map(|one| one["said"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(about().await, ["0 of 1 handsets show notifications"]);
    robot.subscribe(&push).await.unwrap();
    assert_eq!(about().await, ["1 of 1 handsets show notifications"]);
    world.service.run(&["push", "new-key"]);
    assert_eq!(about().await[1], "1 of 1 handsets have subscribed with an older signing key");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rehearsal_plays_phones_in_pockets_and_phones_without_push() {
    let any = SocketAddr::from(([127, 0, 0, 1], 0));
    let courier = StandInCourier::start(any, any, CourierHabits::default()).await.unwrap();
    let http = courier.http().to_string();
    let world = super::rehearsal::world_with(
        &[("127.0.0.1:18480", &http)],
        "[[rehearsals]]\nname = \"pockets\"\n\n\
         [[rehearsals.logins]]\ntitle = \"asleep\"\npersona = \"ines\"\nname = \"ines@watch.northmoor.example\"\nvia = \"slipway\"\n\
         type = \"{password}\"\nhandset = \"asleep 1s, approve\"\nexpect = { factor = \"approval\" }\n\n\
         [[rehearsals.logins]]\ntitle = \"asleep for too long\"\npersona = \"ines\"\nname = \"ines@watch.northmoor.example\"\nvia = \"slipway\"\n\
         type = \"{password}\"\nhandset = \"asleep 30s, approve\"\nwaits = { approval = \"1s\" }\nexpect = { outcome = \"refuse\", cause = \"approval-unanswered\" }\n\n\
         [[rehearsals.logins]]\ntitle = \"refused\"\npersona = \"ines\"\nname = \"ines@watch.northmoor.example\"\nvia = \"slipway\"\n\
         type = \"{password}\"\nhandset = \"push refused, approve\"\nexpect = { factor = \"approval\" }\n",
    )
    .await;
    let ines = json!({ "name": "Ines Okafor", "phone": "+46 70 555 0101" });
    assert_eq!(world.service.call("PUT", "/people/tidehall/ines", Some(ines)).await.0, 200);
    let out = world.service.run(&["rehearse", "pockets", "--json"]);
    let run: Value = serde_json::from_str(&out).unwrap();
    let results = run["report"]["results"].as_array().or(run["results"].as_array()).unwrap_or_else(|| panic!("{run:#}"));
    let told = async |index: usize| {
        let reference = results[index]["references"][0].as_str().unwrap();
        let trace = world.service.get(&format!("/traces/{reference}")).await;
        let steps = trace["steps"].as_array().unwrap().clone();
        steps
            .iter()
            .filter(|step| step["what"] == "push" || step["what"] == "message")
            .map(|step| step["said"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    let asleep = told(0).await;
    assert!(asleep[0].starts_with("sent to “simulated handset”, accepted by the push service after "), "{asleep:?}");
    assert!(asleep[1].starts_with("“simulated handset” showed the notification after "), "{asleep:?}");
    // The pager wakes it.
    let refused = told(2).await;
    assert_eq!(refused[0], "not delivered to “simulated handset”: it does not allow notifications");
    assert!(refused[1].starts_with("a message with a link was sent to "), "{refused:?}");
    assert_eq!(courier.arrived().len(), 2, "the phone that sleeps for too long gets one too");
}
