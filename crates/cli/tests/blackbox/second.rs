//! Second factors through the real doors: prompts, couriers, devices, locks, proofs, and what an operator does about them.

use super::harness::{Northmoor, Service, Setup, code, gateway, ines, outcome, prompt, text};
use bivector_exchange::{Exchange, Request};
use bivector_lab::certificates::LabIssuer;
use bivector_lab::courier::{CourierHabits, StandInCourier};
use bivector_lab::gateway::SimulatedGateway;
use bivector_wire::{AttributeType, VendorAttribute};
use serde_json::{Value, json};
use std::time::Duration;

const PELL: &str = "sounding-line";
const ANY: &str = "127.0.0.1:0";

/// The demo's site with receivers of codes behind it.
async fn portal(change: &[(&str, &str)], habits: CourierHabits) -> (Northmoor, StandInCourier) {
    let courier = StandInCourier::start(ANY.parse().unwrap(), ANY.parse().unwrap(), habits).await.unwrap();
    let (http, smtp) = (courier.http().to_string(), courier.smtp().to_string());
    let mut all = vec![("127.0.0.1:18480", http.as_str()), ("127.0.0.1:18025", smtp.as_str())];
    all.extend(change);
    (Northmoor::with(Setup { change: &all, ..Setup::default() }).await, courier)
}

fn state(exchange: &Exchange) -> Vec<u8> {
    let mut attributes = exchange.reply.iter().flat_map(|reply| &reply.attributes);
    attributes.find(|(kind, _)| *kind == AttributeType::State).unwrap().1.clone()
}

/// The six digits of the last message that arrived.
fn sent_code(courier: &StandInCourier) -> String {
    let message = courier.arrived().pop().expect("a message arrived").text;
    message.split(|c: char| !c.is_ascii_digit()).find(|part| part.len() == 6).unwrap().to_owned()
}

/// A password, then each answer; `*` is the code that was sent last. Gives all prompts, how it ended, and the last trace.
async fn dialog(world: &Northmoor, courier: &StandInCourier, texts: &[&str]) -> (Vec<String>, String, Value) {
    let lantern = world.gateway("lantern");
    let (mut exchange, mut local) = lantern.log_in("pell", texts[0]).await.unwrap();
    let mut prompts = Vec::new();
    for answer in &texts[1..] {
        prompts.push(prompt(&exchange));
        let answer = if *answer == "*" { sent_code(courier) } else { (*answer).to_owned() };
        (exchange, local) = lantern.answer("pell", &answer, &exchange).await.unwrap();
    }
    (prompts, outcome(&exchange), world.service.trace_from(local).await)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_chooses_a_courier_at_a_prompt_or_by_a_word_and_types_what_arrives() {
    let (world, courier) = portal(&[], CourierHabits::default()).await;
    let list = "Enter a code, or the number of an option:\n1 code from phone\n2 text message to …18\n3 email to p…@northmoor.example";
    let (prompts, seen, trace) = dialog(&world, &courier, &[PELL, "3", "*"]).await;
    assert_eq!(
        (seen.as_str(), prompts[0].as_str(), prompts[1].as_str()),
        ("accept", list, "We sent a code to p…@northmoor.example. Enter it here:"),
        "{trace:#}"
    );
    let arrived = courier.arrived();
    assert_eq!((arrived[0].by.as_str(), arrived[0].to.as_str()), ("mail", "pell@northmoor.example"));
    assert!(arrived[0].text.ends_with("is your sign-in code for Northmoor Tidal. Valid for 5 minutes."), "{}", arrived[0].text);

    let tried =
        world.service.cli_with_input(&["login", "pell", "--via", "lantern", "--password-file", "-", "--answers-file", "/dev/null"], PELL);
    assert!(text(&tried.stdout).contains("number of an option: / 1 code from phone / 2"), "{}", text(&tried.stdout));
    let sheet = world.service.run(&["gateway", "handover", "lantern"]);
    assert!(sheet.contains("PAP or CHAP or MS-CHAPv2\n"), "each method once: {sheet}");
    let (_, seen, _) = dialog(&world, &courier, &[&format!("{PELL} sms"), "*"]).await;
    assert_eq!(seen, "accept");
    let arrived = courier.arrived();
    assert_eq!((arrived[1].by.as_str(), arrived[1].authorization.as_deref()), ("http", Some("Bearer pager-Zt5nW8")));
    assert_eq!(dialog(&world, &courier, &[PELL, &code("pell", 0)]).await.1, "accept", "or just types a code");
    let (_, seen, trace) = dialog(&world, &courier, &[PELL, "2", "000000", "111111", "222222"]).await;
    assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some("code-wrong")));
    let output = world.service.run(&["lab", "courier", "--read", "--http", &courier.http().to_string()]);
    assert!(output.contains("pell@northmoor.example") && output.contains("+44 20 7946 0018"), "{output}");
    assert!(!world.service.log().contains(&sent_code(&courier)) && !world.service.log().contains("pager-Zt5nW8"));
}

#[tokio::test(flavor = "multi_thread")]
async fn prompts_and_messages_are_in_the_persons_language_and_as_long_as_the_gateway_can_show() {
    let data = super::harness::DIRECTORY.replacen("uid = \"pell\"", "uid = \"pell\"\nlanguage = \"de-CH\"", 1);
    let courier = StandInCourier::start(ANY.parse().unwrap(), ANY.parse().unwrap(), CourierHabits::default()).await.unwrap();
    let (http, smtp) = (courier.http().to_string(), courier.smtp().to_string());
    let change = [("127.0.0.1:18480", http.as_str()), ("127.0.0.1:18025", &smtp)];
    let world = Northmoor::with(Setup { directory: &data, change: &change, ..Setup::default() }).await;
    let (prompts, _, _) = dialog(&world, &courier, &[PELL, "2", "x"]).await;
    assert_eq!(
        prompts[0],
        "Code eingeben oder die Nummer der Wahl:\n1 Code von phone\n2 Kurznachricht an …18\n3 E-Mail an p…@northmoor.example"
    );
    assert!(courier.arrived()[0].text.ends_with("ist der Anmeldecode für Northmoor Tidal. Er gilt 5 Minuten."), "{:?}", courier.arrived());
    let own = world
        .site
        .replacen("shows_challenges = true", "shows_challenges = true\nprompt_limit = 60\nlanguage = \"nl\"", 1)
        .replacen("name = \"Northmoor Tidal\"", "name = \"Northmoor Tidal\"\nlanguage = \"fr\"\n[texts.nl]\ncode = \"Code van {devices}:\"\n[texts.de]\nchoose = \"Wähle:\\n{list}\"", 1);
    let (status, body) = world.service.apply(&own).await;
    assert_eq!(status, 201, "{body}");
    let (prompts, _, _) = dialog(&world, &courier, &[PELL, "1", "x"]).await;
    assert!(
        prompts[0].starts_with("Wähle:\n1 Code von phone\n2 Kurz") && prompts[0].len() <= 60 && prompts[0].ends_with('…'),
        "{prompts:?}"
    );
    assert_eq!(prompts[1], "Code von phone:", "the person's own language before the gateway's");
    let lantern = world.gateway("lantern");
    let (asked, _) = lantern.log_in("sable@local.northmoor.example", "whelk-at-low-water").await.unwrap();
    assert_eq!(prompt(&asked), "Code van phone:");
    let (refused, _) = lantern.log_in("nobody", "x").await.unwrap();
    assert!(prompt(&refused).starts_with("Connexion refusée. Référence "), "what Dutch lacks is said in the site's own language");
    let strange = own.replacen("{devices}", "{device}", 1).replacen("language = \"fr\"", "language = \"xx\"", 1);
    let (_, checked) = world.service.call("POST", "/site/check", Some(json!({ "text": strange }))).await;
    for part in ["`{device}` is not a placeholder of this text", "known here: `{devices}`", "no texts exist for the language `xx`"] {
        assert!(checked.to_string().contains(part), "{part}: {checked}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mail_server_over_tls_is_trusted_by_its_issuer_only_and_gets_the_account() {
    let issuer = LabIssuer::new("mail issuer").unwrap();
    let tls = issuer.server(&["127.0.0.1"]).unwrap();
    let courier =
        StandInCourier::start_with(ANY.parse().unwrap(), ANY.parse().unwrap(), CourierHabits::default(), Some(tls)).await.unwrap();
    let server = format!("server = \"smtps://{}\"\naccount = \"bivector\"\nsecret = \"courier/pager\"", courier.smtp());
    let world = Northmoor::with(Setup { change: &[("server = \"smtp://127.0.0.1:18025\"", &server)], ..Setup::default() }).await;
    let (_, seen, trace) = dialog(&world, &courier, &[PELL, "3"]).await;
    assert_eq!(seen, "Access-Challenge");
    assert!(trace["steps"].to_string().contains("certificate") && courier.arrived().is_empty(), "an issuer that nobody named: {trace:#}");
    std::fs::write(world.service.data.join("mail-ca.pem"), issuer.pem()).unwrap();
    let trusting = world.site.replacen("from = \"sign-in@", "trust = \"mail-ca.pem\"\nfrom = \"sign-in@", 1);
    let (status, body) = world.service.apply(&trusting).await;
    assert_eq!(status, 201, "{body}");
    let (_, seen, trace) = dialog(&world, &courier, &[PELL, "3", "*"]).await;
    assert_eq!(seen, "accept", "{trace:#}");
    let given = courier.arrived()[0].authorization.clone().unwrap();
    assert_eq!(data_encoding::BASE64.decode(given.as_bytes()).unwrap(), b"\0bivector\0pager-Zt5nW8");
    let broken = trusting.replacen("mail-ca.pem", "no-such.pem", 1);
    let (status, body) = world.service.apply(&broken).await;
    assert!(status == 409 && body["title"].as_str().unwrap().starts_with("`post` cannot be used: the trust file"), "{body}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_operator_who_asks_for_an_impossible_factor_is_told_the_field_and_the_remedy() {
    let world = Northmoor::start().await;
    let add = async |body: Value| world.service.call("POST", "/people/tidehall/ines/factors", Some(body)).await;
    for (body, part) in [
        (json!({ "kind": "temporary", "seconds": 60 }), "`reason`"),
        (json!({ "kind": "temporary", "seconds": 60, "reason": " " }), "`reason`"),
        (json!({ "kind": "temporary", "seconds": 0, "reason": "x" }), "`seconds`"),
        (json!({ "kind": "temporary", "seconds": 60, "reason": "x", "uses": 0 }), "`uses`"),
        (json!({ "kind": "temporary", "seconds": 60, "reason": "x", "digits": 5 }), "`digits`"),
        (json!({ "kind": "totp", "seed": "not base32!" }), "`seed`"),
        (json!({ "kind": "totp", "seed": "GEZDGNBV" }), "at least 16"),
        (json!({ "kind": "totp", "digits": 9 }), "9 digits"),
        (json!({ "kind": "totp", "label": "a\u{0}b" }), "`label`"),
        (json!({ "kind": "hotp", "pin": "12" }), "`pin`"),
        (json!({ "kind": "fingerprint" }), "has the wrong type"),
    ] {
        let (status, answer) = add(body.clone()).await;
        let said = answer.to_string();
        assert!(
            (400..500).contains(&status) && said.contains(part) && !answer["remedy"].as_str().unwrap_or_default().is_empty(),
            "{body}: {said}"
        );
    }
    assert_eq!(world.service.get("/people/ines").await[0]["factors"].as_array().unwrap().len(), 1, "nothing was added");
    let id = world.service.get("/people/ines").await[0]["factors"][0]["id"].clone();
    let path = format!("/people/tidehall/ines/factors/{id}/resync");
    for (body, part) in [
        (json!({ "first": "123456" }), "two codes are needed"),
        (json!({ "first": "000000", "second": "000000" }), "not two consecutive codes"),
    ] {
        let (status, answer) = world.service.call("POST", &path, Some(body)).await;
        assert!(status == 422 && answer.to_string().contains(part), "{answer}");
    }
    let late = (code("ines", -6), code("ines", -5));
    let (status, person) = world.service.call("POST", &path, Some(json!({ "first": late.0, "second": late.1 }))).await;
    assert_eq!((status, person["factors"][0]["drift_seconds"].as_i64()), (200, Some(-150)));
    assert_eq!(
        world.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", -4))).await.0,
        "accept",
        "its clock is followed"
    );
    world.service.call("POST", "/operators", Some(json!({ "name": "mara", "role": "view" }))).await;
    let token = world.service.call("POST", "/operators/mara/tokens", Some(json!({ "label": "second" }))).await.1["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let looks =
        super::harness::http_client().post(format!("http://{}/api/v1/people/tidehall/ines/release", world.service.http)).bearer_auth(token);
    assert_eq!(looks.send().await.unwrap().status(), 403, "who may only look releases nobody");
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_a_courier_does_wrong_is_named_and_the_chain_says_what_follows() {
    let (world, courier) = portal(&[], CourierHabits::default()).await;
    let cases = [
        (CourierHabits { status: 500, ..CourierHabits::default() }, "2", "it answered 500"),
        (CourierHabits { delay: Duration::from_secs(3), ..CourierHabits::default() }, "2", "no answer"),
        (CourierHabits { hang: true, ..CourierHabits::default() }, "3", "no answer within 1000 ms"),
        (CourierHabits { status: 554, ..CourierHabits::default() }, "3", "554"),
    ];
    for (habits, choice, part) in cases {
        courier.behave(habits);
        let (_, seen, trace) = dialog(&world, &courier, &[PELL, choice]).await;
        assert_eq!(seen, "Access-Challenge", "the next factor is asked for: {trace:#}");
        let step = trace["steps"].as_array().unwrap().iter().find(|step| step["what"] == "courier").unwrap();
        assert!(step["said"].as_str().unwrap().contains(part), "{part}: {step}");
        assert!(trace["steps"].to_string().contains("The code could not be sent."), "{trace:#}");
    }
    courier.behave(CourierHabits { answer_bytes: 10 * 1024 * 1024, ..CourierHabits::default() });
    assert_eq!(dialog(&world, &courier, &[PELL, "2", "*"]).await.1, "accept", "the status is the answer; a body is not read");
    let refuse = world.site.replacen("when_second_is_down = \"next\"", "when_second_is_down = \"refuse\"", 1);
    assert_eq!(world.service.apply(&refuse).await.0, 201);
    courier.behave(CourierHabits { status: 500, ..CourierHabits::default() });
    let (_, seen, trace) = dialog(&world, &courier, &[PELL, "2"]).await;
    assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some("courier-failed")));
    let chains = world.service.get("/chains").await.to_string();
    assert!(chains.contains("failed to send the last code"), "{chains}");
}

#[tokio::test(flavor = "multi_thread")]
async fn codes_are_sent_so_often_and_no_oftener() {
    let change = [("[[identity]]", "[factors.sent]\nper_person = 4\nresends = 1\n[[identity]]")];
    let (world, courier) = portal(&change, CourierHabits::default()).await;
    let (prompts, _, trace) = dialog(&world, &courier, &[PELL, "3", "3", "3", "x"]).await;
    assert!(prompts[3].starts_with("No more codes can be sent right now."), "{prompts:?} {trace:#}");
    assert_eq!(courier.arrived().len(), 2);
    dialog(&world, &courier, &[PELL, "3", "2"]).await;
    let (prompts, _, trace) = dialog(&world, &courier, &[PELL, "3", "x"]).await;
    assert!(prompts[1].starts_with("No more codes"), "{prompts:?}");
    assert_eq!(courier.arrived().len(), 4, "four in this hour");
    assert!(!trace.to_string().contains(&sent_code(&courier)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_prompt_is_answered_once_by_its_person_at_its_gateway_and_outlives_a_restart() {
    let both = ("secret = \"gateway/slipway\"", "secret = \"gateway/slipway\"\nshows_challenges = true");
    let (world, _courier) = portal(&[both], CourierHabits::default()).await;
    let slipway = world.gateway("slipway");
    let (asked, _) = slipway.log_in("ines", "barnacle-and-buoy").await.unwrap();
    assert_eq!((outcome(&asked).as_str(), prompt(&asked).as_str()), ("Access-Challenge", "Enter the code from phone:"));
    let Northmoor { service, directories: _directories, radius, .. } = world;
    let (data, _folder) = service.kill();
    let service = Service::start_in(&data, &[]);
    let cause = async |gateway: &SimulatedGateway, name: &str, text: &str, state: &[u8]| {
        let mut request = Request::login(name, text.as_bytes());
        request.message.push(AttributeType::State, state);
        let (exchange, local) = gateway.send(&request).await.unwrap();
        (outcome(&exchange), service.trace_from(local).await["cause"].as_str().unwrap_or_default().to_owned())
    };
    let (sealed, slipway, breakwater) = (state(&asked), gateway("slipway", radius), gateway("breakwater", radius));
    assert!(sealed.len() > 16, "it travels sealed, so that another node with the key could go on");
    let mut forged = sealed.clone();
    forged[40] ^= 1;
    for (gateway, name, state, wanted) in [
        (&slipway, "ines", &forged[..], "challenge-foreign"),
        (&slipway, "ines", &sealed[..sealed.len() - 1], "challenge-foreign"),
        (&slipway, "ines", &[7; 16], "challenge-foreign"),
    ] {
        assert_eq!(cause(gateway, name, &code("ines", 0), state).await, ("reject".into(), wanted.into()));
    }
    assert_eq!(cause(&slipway, "ines", &code("ines", 0), &sealed).await.0, "accept");
    assert_eq!(cause(&slipway, "ines", &code("ines", 1), &sealed).await.1, "challenge-used");
    for (gateway, name) in [(&breakwater, "ines"), (&slipway, "tomasz")] {
        let (asked, _) = slipway.log_in("ines", "barnacle-and-buoy").await.unwrap();
        assert_eq!(cause(gateway, name, &code("ines", 1), &state(&asked)).await.1, "challenge-foreign");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_login_whose_prompt_nobody_answers_ends_by_itself_over_a_stop_and_after_an_answer_that_is_not_its_own() {
    let short = ("[[identity]]", "[factors]\nprompt_lasts = \"3s\"\n[[identity]]");
    let world = Northmoor::with(Setup { change: &[short], ..Setup::default() }).await;
    let lantern = world.gateway("lantern");
    let (asked, local) = lantern.log_in("pell", "sounding-line").await.unwrap();
    let first = world.service.trace_from(local).await["reference"].as_str().unwrap().to_owned();
    let waiting = world.service.get("/traces?outcome=waiting").await;
    assert_eq!((waiting.as_array().unwrap().len(), waiting[0]["reference"].as_str()), (1, Some(first.as_str())));
    let (refused, stranger) = lantern.answer("ravi", &code("pell", 0), &asked).await.unwrap();
    assert_eq!(outcome(&refused), "reject");
    assert_eq!(world.service.trace_from(stranger).await["cause"], "challenge-foreign", "under a reference of its own");
    assert_eq!(world.service.ended(&first).await["cause"], "prompt-unanswered");
    let (_, local) = lantern.log_in("pell", "sounding-line").await.unwrap();
    let second = world.service.trace_from(local).await["reference"].as_str().unwrap().to_owned();
    let Northmoor { mut service, directories: _directories, .. } = world;
    assert!(service.terminate());
    let (data, _folder) = service.kill();
    let service = Service::start_in(&data, &[]);
    assert_eq!(service.ended(&second).await["cause"], "prompt-unanswered", "the stop has not made it wait for ever");
    let rows = service.get("/traces?person=pell&limit=50").await;
    let listed = |reference: &str| rows.as_array().unwrap().iter().filter(|row| row["reference"] == reference).count();
    assert_eq!((listed(&first), listed(&second)), (1, 1), "each login is listed once: {rows:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_beside_a_wrong_password_stays_good_and_lets_one_of_many_logins_in() {
    let world = Northmoor::with(Setup::default()).await;
    let now = code("ines", 0);
    let cause = async |password: &str| world.log_in("breakwater", "ines", &format!("{password}{now}")).await.1["cause"].clone();
    // Each login counts as a guess while it is under way: two and eight at once are the ten that are let through.
    for _ in 0..2 {
        assert_eq!(cause("mussel").await, "password-wrong");
    }
    let together = futures_util::future::join_all((0..8).map(|_| cause("barnacle-and-buoy"))).await;
    let (let_in, refused): (Vec<Value>, Vec<Value>) = together.into_iter().partition(Value::is_null);
    assert_eq!((let_in.len(), refused), (1, vec![Value::from("code-used"); 7]));
    assert_eq!(cause("mussel").await, "password-wrong", "and a wrong password does not make it good again");
    assert_eq!(cause("barnacle-and-buoy").await, "code-used");
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_lists_and_temporary_codes_are_added_used_up_and_removed_by_an_operator() {
    let all = ("second = [\"totp\"]", "second = [\"totp\", \"hotp\", \"recovery\", \"temporary\"]");
    let forms = ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password code(6..10)\", \"password\"]");
    let world = Northmoor::with(Setup { change: &[all, forms], ..Setup::default() }).await;
    let service = &world.service;
    let tomasz = async |code: &str| {
        let (seen, trace) = world.log_in("breakwater", "tomasz", &format!("ebb before flood{code}")).await;
        (seen, trace["cause"].as_str().unwrap_or_default().to_owned())
    };
    let yes = ("accept".to_owned(), String::new());
    let add = |arguments: &[&str]| -> Value {
        let output = service.cli(&[arguments, &["--json"]].concat());
        assert!(output.status.success(), "{}", text(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    };
    let added = add(&["factor", "add", "tomasz", "--kind", "hotp", "--label", "key ring"]);
    let seed = data_encoding::BASE32_NOPAD.decode(added["seed"].as_str().unwrap().as_bytes()).unwrap();
    assert!(added["link"].as_str().unwrap().starts_with("otpauth://hotp/Northmoor%20Tidal:tomasz?secret="));
    let by_count = |counter| bivector_model::totp::code(&seed, counter, Default::default());
    assert_eq!(tomasz(&by_count(0)).await, yes);
    assert_eq!(tomasz(&by_count(0)).await.1, "code-used");
    assert_eq!(tomasz(&by_count(7)).await, yes);
    assert_eq!(tomasz(&by_count(40)).await.1, "code-drifted");
    assert_eq!(tomasz(&by_count(41)).await, yes, "two in a row bring it back");
    let number = added["factor"]["id"].to_string();
    service.run(&["factor", "resync", "tomasz", &number, &by_count(300), &by_count(301)]);
    assert_eq!(tomasz(&by_count(302)).await, yes);

    let list = add(&["factor", "recovery", "tomasz"]);
    let codes: Vec<&str> = list["codes"].as_array().unwrap().iter().map(|code| code.as_str().unwrap()).collect();
    assert_eq!(codes.len(), 10);
    assert_eq!((tomasz(codes[3]).await, tomasz(codes[3]).await.1.as_str()), (yes.clone(), "code-used"));

    let issued = add(&["factor", "temporary", "tomasz", "--for", "1h", "--reason", "key ring forgotten", "--uses", "2"]);
    let temporary = issued["codes"][0].as_str().unwrap();
    assert_eq!((tomasz(temporary).await, tomasz(temporary).await), (yes.clone(), yes.clone()));
    assert_eq!(tomasz(temporary).await.1, "code-used");
    let short = add(&["factor", "temporary", "tomasz", "--for", "1s", "--reason", "too short"]);
    tokio::time::sleep(Duration::from_millis(1100)).await;
    assert_eq!(tomasz(short["codes"][0].as_str().unwrap()).await.1, "code-ended");

    let shown = service.run(&["factor", "list", "tomasz"]);
    for part in ["key ring", "next 303", "9 left", "ended", "on time"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let shown = service.run(&["person", "show", "tomasz"]);
    assert!(shown.contains("issued by owner: too short"), "{shown}");
    service.run(&["factor", "remove", "tomasz", &number]);
    assert_eq!(tomasz(&by_count(303)).await.1, "code-wrong");
    let trail = service.run(&["audit", "list"]);
    assert!(trail.contains("factor.add") && trail.contains("key ring forgotten") && !trail.contains(temporary), "{trail}");
    for (arguments, part) in [
        (&["factor", "temporary", "tomasz", "--for", "40d", "--reason", "x"][..], "from one second to 30 days"),
        (&["factor", "temporary", "tomasz", "--for", "soon", "--reason", "x"], "is not a duration"),
        (&["factor", "resync", "tomasz", "1", "123456", "123456"], "has no factor with the number 1"),
        (&["factor", "add", "nobody", "--source", "tidehal"], "unknown person `nobody` of `tidehal`"),
    ] {
        let output = service.cli(arguments);
        assert!(!output.status.success() && text(&output.stderr).contains(part), "{arguments:?}: {}", text(&output.stderr));
    }
    let issued = service.run(&["factor", "temporary", "sable", "--for", "1h", "--reason", "x", "--digits", "9"]);
    assert!(!issued.contains("warning"), "a form of staff takes nine digits: {issued}");
    service.run(&["factor", "add", "odo", "--source", "tidehall"]);
    assert!(service.run(&["person", "list"]).contains("odo"), "a directory's person is written down with the first factor");
}

#[tokio::test(flavor = "multi_thread")]
async fn wrong_codes_lock_across_gateways_and_restarts_until_an_operator_releases() {
    let change = [("[[identity]]", "[factors.lockout]\nafter = 3\n[[identity]]")];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    for _ in 0..4 {
        assert_eq!(world.log_in("breakwater", "ines", "wrong000000").await.1["cause"], "password-wrong", "a stranger locks nobody out");
    }
    for (via, name) in [("breakwater", "ines"), ("slipway", "NORTHMOOR\\INES")] {
        assert_eq!(world.log_in(via, name, "barnacle-and-buoy000000").await.1["cause"], "code-wrong");
    }
    let Northmoor { service, directories: _directories, radius, .. } = world;
    let (data, _folder) = service.kill();
    let service = Service::start_in(&data, &[]);
    let log_in = async |via: &str, password: &str| {
        let (_, local) = gateway(via, radius).log_in("ines", password).await.unwrap();
        service.trace_from(local).await["cause"].as_str().unwrap_or("none").to_owned()
    };
    assert_eq!(log_in("breakwater", "barnacle-and-buoy000000").await, "code-wrong", "the third");
    assert_eq!(log_in("slipway", &ines()).await, "factor-locked");
    let shown = service.run(&["factor", "list", "ines"]);
    assert!(shown.contains("locked until") && shown.contains("3 of 3 wrong codes in a row, the last through breakwater"), "{shown}");
    assert!(service.run(&["person", "list"]).contains("codes locked"));
    assert!(service.run(&["factor", "release", "ines"]).contains("tidehall:ines is unlocked"));
    assert_eq!(log_in("slipway", &ines()).await, "none");
    assert!(service.run(&["factor", "release", "ines"]).contains("nothing to unlock for"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pin_is_checked_before_the_code_is_used_up() {
    let forms =
        ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password pin(4..6) code(6)\", \"password code(6)\", \"password\"]");
    let world = Northmoor::with(Setup { change: &[forms], ..Setup::default() }).await;
    let id = world.service.get("/people/ines").await[0]["factors"][0]["id"].to_string();
    let output = world.service.cli_with_input(&["factor", "pin", "ines", &id, "--pin-file", "-"], "4711\n");
    assert!(output.status.success() && text(&output.stdout).contains("set"), "{}", text(&output.stderr));
    let (now, cause) = (code("ines", 0), async |text: String| world.log_in("breakwater", "ines", &text).await.1["cause"].clone());
    assert_eq!(cause(format!("barnacle-and-buoy4712{now}")).await, "pin-wrong");
    assert_eq!(cause(format!("barnacle-and-buoy{now}")).await, "pin-missing");
    assert_eq!(cause(format!("barnacle-and-buoy4711{now}")).await, Value::Null);
    let output = world.service.cli_with_input(&["factor", "pin", "ines", &id, "--pin-file", "-"], "47 11\n");
    assert!(text(&output.stderr).contains("a PIN has 4 to 12 digits"), "{}", text(&output.stderr));
}

#[tokio::test(flavor = "multi_thread")]
async fn proofs_are_compared_with_what_the_roster_keeps_and_give_the_devices_keys() {
    let (world, _courier) = portal(&[], CourierHabits::default()).await;
    let lantern = world.gateway("lantern");
    let typed = format!("whelk-at-low-water{}", code("sable", 0));
    let name = "sable@local.northmoor.example";
    let (exchange, local) = lantern.send(&lantern.sign(Request::ms_chap_v2(name, &typed).unwrap())).await.unwrap();
    assert_eq!(outcome(&exchange), "accept", "{:#}", world.service.trace_from(local).await);
    let reply = exchange.reply.unwrap();
    let vendor: Vec<VendorAttribute<'_>> = reply
        .attributes
        .iter()
        .filter(|(kind, _)| *kind == AttributeType::VendorSpecific)
        .flat_map(|(_, value)| VendorAttribute::read_all(value))
        .collect();
    let of = |number: u8| vendor.iter().find(|one| one.vendor == 311 && one.number == number).unwrap().value;
    assert!(of(26)[1..].starts_with(b"S=") && of(16).len() == 34 && of(17).len() == 34);
    let (exchange, local) = lantern.send(&Request::chap(name, typed.as_bytes()).unwrap()).await.unwrap();
    assert_eq!((outcome(&exchange).as_str(), world.service.trace_from(local).await["cause"].as_str()), ("reject", Some("code-used")));
    let refused = lantern.send(&Request::ms_chap_v2(name, "mussel").unwrap()).await.unwrap().0.reply.unwrap();
    assert!(refused.attributes.iter().any(|(_, value)| text(value).contains("E=691 R=0 C=")), "{refused:?}");
    let breakwater = world.gateway("breakwater");
    let (_, local) = breakwater.send(&Request::chap("ines", b"barnacle-and-buoy").unwrap()).await.unwrap();
    assert_eq!(world.service.trace_from(local).await["cause"], "method-not-in-chain");
    // The same from the command line: the password alone, then the code at a prompt.
    let folder = tempfile::tempdir().unwrap();
    let answers = folder.path().join("answers");
    std::fs::write(&answers, format!("{}\n", code("sable", 1))).unwrap();
    let arguments =
        ["login", name, "--via", "lantern", "--method", "chap", "--password-file", "-", "--answers-file", answers.to_str().unwrap()];
    let output = world.service.cli_with_input(&arguments, "whelk-at-low-water\n");
    assert!(output.status.success() && text(&output.stdout).contains("Enter the code from phone:"), "{}", text(&output.stdout));
    assert!(!world.service.log().contains("whelk"));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_nt_hash_of_the_directory_serves_ms_chap_and_nothing_else() {
    let hash: String = bivector_wire::nt_hash("barnacle-and-buoy").expose().iter().map(|byte| format!("{byte:02x}")).collect();
    // The stand-in has no attribute of that name; its telephone number holds the hash here.
    let data =
        super::harness::DIRECTORY.replacen("groups = [\"control-room\"]", &format!("groups = [\"control-room\"]\nmobile = \"{hash}\""), 1);
    let change = [
        ("groups = { from = \"memberOf\" }", "groups = { from = \"memberOf\" }\nattributes = { nt_hash = \"mobile\" }"),
        ("methods = [\"pap\"]", "methods = [\"pap\", \"ms-chap-v2\", \"eap-mschapv2\"]"),
        ("second = [\"totp\"]\nwhen_unclear = \"code\"", "second = []"),
        ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]"),
    ];
    let world = Northmoor::with(Setup { directory: &data, change: &change, ..Setup::default() }).await;
    let breakwater = world.gateway("breakwater");
    for (name, password, wanted) in [
        ("ines", "barnacle-and-buoy", None),
        ("ines", "barnacle", Some("password-wrong")),
        ("yuki", "swell204813", Some("password-not-kept")),
    ] {
        let (_, local) = breakwater.send(&Request::ms_chap_v2(&format!("NORTHMOOR\\{name}"), password).unwrap()).await.unwrap();
        assert_eq!(world.service.trace_from(local).await["cause"].as_str(), wanted, "{name} {password}");
        let body = json!({ "person": format!("NORTHMOOR\\{name}"), "via": "breakwater", "method": "eap-mschapv2", "password": password });
        let (status, tried) = world.service.call("POST", "/logins", Some(body)).await;
        assert_eq!((status, tried["trace"]["cause"].as_str()), (200, wanted), "inside EAP: {name} {password}: {tried:#}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_reading_tester_shows_every_reading_and_never_the_text() {
    let world = Northmoor::start().await;
    let typed = ines();
    let output = world.service.cli_with_input(
        &["read", "--chain", "staff", "--via", "breakwater", "--person", "ines", "--text-file", "-"],
        &format!("{typed}\n"),
    );
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{}", text(&output.stderr));
    for part in ["23 characters", "1 device of tidehall:ines", "password code(6)", "the code is valid", "17"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    assert!(!shown.contains("barnacle") && !shown.contains(&typed[17..]));
    assert_eq!(world.log_in("breakwater", "ines", &typed).await.0, "accept", "nothing was used up");
    let (status, body) = world.service.call("POST", "/readings", Some(json!({ "via": "lantern", "text": "x" }))).await;
    assert_eq!((status, body["title"].as_str()), (422, Some("more than one chain could be meant")));
    let (status, _) = world.service.call("POST", "/readings", Some(json!({ "chain": "staf", "text": "x" }))).await;
    assert_eq!(status, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn waivers_and_dead_factors_let_in_loudly_and_only_where_the_site_says_so() {
    let waive = (
        "second = [\"totp\"]\nwhen_unclear = \"code\"",
        "second = [\"totp\"]\nwhen_unclear = \"plain\"\nwaive = [{ network = \"192.0.2.128/25\", reason = \"the control room's own desks\" }]",
    );
    let first_only = ("second = [\"harbourlight\"]", "second = [\"harbourlight\"]\nwhen_second_is_down = \"first-only\"");
    let (world, _courier) = portal(&[waive, first_only], CourierHabits::default()).await;
    let at = async |caller: &str| {
        let body = json!({ "person": "ines", "via": "breakwater", "password": "barnacle-and-buoy", "caller": caller });
        let (_, tried) = world.service.call("POST", "/logins", Some(body)).await;
        (tried["reply"].as_str().unwrap().to_owned(), tried["trace"]["steps"].to_string())
    };
    let (reply, steps) = at("192.0.2.200").await;
    assert!(reply == "Access-Accept" && steps.contains("second factor not required: the control room's own desks"), "{reply} {steps}");
    assert_eq!(at("192.0.2.100").await.0, "Access-Reject");
    let (seen, trace) = world.log_in("lantern", "tomasz@hardware.northmoor.example", "ebb before flood123456").await;
    assert_eq!(seen, "accept", "nobody answers for harbourlight here: {trace:#}");
    assert!(trace["steps"].to_string().contains("the second factor is unavailable"), "{trace:#}");
    assert!(world.service.log_has("let in without a second factor"), "{}", world.service.log());
    let figures =
        super::harness::http_client().get(format!("http://{}/metrics", world.service.http)).send().await.unwrap().text().await.unwrap();
    for why in ["by-site", "factor-down"] {
        assert!(figures.lines().any(|line| line.starts_with("bivector_second_waived_total") && line.contains(why)), "{figures}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_only_chain_takes_codes_from_a_gateway_that_checks_passwords_itself() {
    let change = [
        ("forms = [\"password code(6)\", \"password\"]", "forms = [\"code(6)\"]"),
        ("second = [\"totp\"]\nwhen_unclear = \"code\"", "second = [\"totp\"]\ncode_only = true"),
    ];
    let world = Northmoor::with(Setup { change: &change, ..Setup::default() }).await;
    let typed = code("ines", 0);
    assert_eq!(world.log_in("breakwater", "ines", &typed).await.0, "accept");
    assert_eq!(world.log_in("breakwater", "ines", &typed).await.1["cause"], "code-used");
    assert_eq!(world.log_in("breakwater", "ines", &ines()).await.1["cause"], "code-missing");
    let (_, checked) = world.service.call("POST", "/site/check", Some(json!({ "text": world.site }))).await;
    assert!(checked.to_string().contains("does not check passwords"), "{checked}");
    let weaker = world.service.call("POST", "/site/compare", Some(json!({ "text": super::harness::SITE }))).await.1.to_string();
    assert!(weaker.contains("the password is checked here now"), "{weaker}");
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_could_deceive_are_refused_and_long_ones_taken() {
    let world = Northmoor::start().await;
    let long = "x".repeat(253);
    for (name, wanted) in [
        ("in\0es", "name-unreadable"),
        ("in\nes", "name-unreadable"),
        ("ines\u{202e}", "name-unreadable"),
        ("ines@elsewhere.example", "name-realm-unknown"),
        (&long, "person-unknown"),
    ] {
        let (seen, trace) = world.log_in("breakwater", name, "wrong000000").await;
        assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some(wanted)), "{name:?}");
    }
    let aliased = world.site.replacen("case = \"lower\"", "case = \"lower\"\naliases = { \"i.okafor\" = \"ines\" }", 1);
    assert_eq!(world.service.apply(&aliased).await.0, 201);
    let typed = ines();
    let (seen, trace) = world.log_in("breakwater", "NORTHMOOR\\I.Okafor", &typed).await;
    assert_eq!((seen.as_str(), trace["person"].as_str()), ("accept", Some("tidehall:ines")));
    assert_eq!(world.log_in("slipway", "ines", &typed).await.1["cause"], "code-used", "one person under all names");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_imported_person_of_many_columns_comes_out_as_written() {
    let world = Northmoor::start().await;
    let csv = "login,source,name,password,keep,hotp_seed,hotp_counter,hotp_label,pin,mail,phone,language,groups\n\
        merle,roster,Merle Quay,limpet-and-lamp,nt-hash,GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ,7,ring,4711,merle@northmoor.example,+44 20 7946 0019,de,local-crew\n";
    world.service.import(csv).await;
    let shown = world.service.run(&["person", "show", "merle"]);
    for part in ["m…@northmoor.example", "…19", "nt-hash", "hotp “ring”", "with a PIN", "next 7"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    for (line, part) in [
        ("merle,roster,M,,text,,,,,,,,", "`keep` is set, but this line has no password"),
        ("merle,roster,M,x,texts,,,,,,,,", "is not `hash`, `text` or `nt-hash`"),
        ("merle,roster,M,x,,,,,47,,,,", "a PIN has 4 to 12 digits"),
        ("merle,roster,M,x,,,,,,nobody,,,", "is not an email address"),
        ("merle,roster,M,x,,GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ,soon,,,,,,", "whole numbers"),
    ] {
        let body = json!({ "csv": format!("{}\n{line}\n", csv.lines().next().unwrap()) });
        let (status, body) = world.service.call("POST", "/people/import", Some(body)).await;
        assert!(status == 422 && body.to_string().contains(part), "{line}: {body}");
    }
}
