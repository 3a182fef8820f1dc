//! What the simulation says is what happens: the same setting in virtual time and for real. A binary of its own, so that no other test
//! runs beside it.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test says by panicking what went wrong")]
#![allow(dead_code, reason = "the harness is that of the black-box tests")]

#[path = "blackbox/harness.rs"]
mod harness;

use bivector_exchange::Patience;
use bivector_lab::gateway::SimulatedGateway;
use bivector_lab::handset::{Answers, RobotHandset};
use bivector_lab::link::LossyLink;
use bivector_site::{Known, Site};
use bivector_timing::budget::{How, Learned, ways};
use bivector_timing::simulate::{Plan, Times, simulate};
use futures_util::StreamExt;
use futures_util::stream;
use harness::{DIRECTORY, Northmoor, Setup, http_client, outcome};
use serde_json::json;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// People, each of whom logs in once.
const PEOPLE: usize = 600;
/// Over how long they begin.
const WITHIN: Duration = Duration::from_secs(10);
/// One of so many packets is lost, each way.
const ONE_OF: u64 = 10;
/// What the gateway waits: people's time is scaled down, and so is its patience.
const WAIT: Duration = Duration::from_secs(2);
const TRIES: u32 = 2;

/// When somebody answers, in milliseconds: spread as people are, with the middle at 3.2 s, and one of ten later than 6 s. Everybody has a
/// time of their own, so that chance has no hand in it.
fn answers_after(person: usize) -> u64 {
    let share = (person as f64 + 0.5) / PEOPLE as f64;
    let spread = (share / (1.0 - share)).ln() * 0.29;
    (3_200.0 * spread.exp()).clamp(300.0, 12_000.0) as u64
}

/// Neighbours in time must not be neighbours in the list.
fn shuffled(place: usize) -> usize {
    place * 251 % PEOPLE
}

#[tokio::test(flavor = "multi_thread")]
async fn simulated_and_real_logins_succeed_alike_and_ask_handsets_as_often() {
    let crew = |person: usize| {
        format!(
            "\n[[people]]\nuid = \"crew{person:03}\"\nname = \"Crew {person}\"\npassword = \"tide-{person}\"\ngroups = [\"turbine-crew\"]\n"
        )
    };
    let directory = (0..PEOPLE).fold(DIRECTORY.to_owned(), |text, person| text + &crew(person));
    let world = Northmoor::with(Setup {
        directory: &directory,
        change: &[
            ("shows_code = true", "shows_code = true\nconfirmed_by = \"invitation\""),
            ("from = [\"127.0.0.13\", ", "patience = { wait = \"2s\", tries = 2 }\nfrom = [\"127.0.0.13\", "),
        ],
        ..Setup::default()
    })
    .await;
    let robots = enrolled(&world).await;
    let link = LossyLink::start("127.0.0.13".parse().unwrap(), world.radius, ONE_OF).await.unwrap();
    let device = SimulatedGateway {
        from: "127.0.0.1".parse().unwrap(),
        server: link.address(),
        patience: Patience { wait: WAIT, tries: TRIES },
        ..world.gateway("slipway")
    };
    let began = Instant::now();
    let each = robots.into_iter().enumerate().map(|(place, robot)| {
        let device = device.clone();
        tokio::spawn(async move {
            tokio::time::sleep(WITHIN.mul_f64(place as f64 / PEOPLE as f64).saturating_sub(began.elapsed())).await;
            let person = shuffled(place);
            let answering = tokio::spawn(answer(robot, Instant::now(), Duration::from_millis(answers_after(person))));
            let name = format!("crew{person:03}@watch.northmoor.example");
            let (exchange, _) = device.log_in(&name, &format!("tide-{person}")).await.unwrap();
            let let_in = outcome(&exchange) == "accept";
            answering.await.unwrap();
            let_in
        })
    });
    let mut let_in = 0;
    for one in each.collect::<Vec<_>>() {
        let_in += usize::from(one.await.unwrap());
    }
    let figures = world.service.figures().await;
    let asked: f64 = figures
        .lines()
        .find_map(|line| line.strip_prefix("bivector_approvals_total{how=\"asked\"} "))
        .and_then(|count| count.parse().ok())
        .unwrap();
    let real = let_in as f64 / PEOPLE as f64;

    let site = Arc::new(Site::read(&world.site, &Known::default()).0.unwrap());
    let chain = site.chains.iter().position(|chain| chain.name == "watch").unwrap();
    let way = ways(&site, chain, site.gateway_named("slipway")).into_iter().find(|way| way.how == How::Approval).unwrap();
    let mut plan = Plan::of(Arc::clone(&site), way, &Learned::default());
    let mut times: Vec<u64> = (0..PEOPLE).map(answers_after).collect();
    times.sort_unstable();
    assert_eq!((plan.patience.wait, plan.patience.tries), (WAIT, TRIES), "as the site file says");
    plan.people = Times::Measured(times.into());
    plan.link.loss = 1.0 / ONE_OF as f64;
    plan.link.delay = Times::Fixed(200);
    plan.directory = Times::Fixed(4_000);
    plan.logins = 40_000;
    plan.per_second = PEOPLE as f64 / WITHIN.as_secs_f64();
    let simulated = simulate(&plan, |_| true).unwrap().unwrap();

    assert!(link.lost() > 100, "{} packets were lost", link.lost());
    assert!(real > 0.4 && real < 0.8, "a setting in which waits matter: {real}");
    assert!((real - simulated.share()).abs() <= 0.02, "really {real:.3}, simulated {:.3}", simulated.share());
    let really_asked = asked / PEOPLE as f64;
    assert!(
        (really_asked - simulated.approvals_per_login()).abs() <= 0.01,
        "asked {really_asked:.3} times a login, simulated {:.3}",
        simulated.approvals_per_login()
    );
}

/// A simulated handset for each of the crew, in the order in which they log in.
async fn enrolled(world: &Northmoor) -> Vec<RobotHandset> {
    let (http, server) = (http_client(), format!("http://{}", world.service.http));
    let each = (0..PEOPLE).map(|place| {
        let (http, server) = (&http, &server);
        async move {
            let path = format!("/people/tidehall/crew{:03}/invitation", shuffled(place));
            let (status, made) = world.service.call("POST", &path, Some(json!({}))).await;
            assert_eq!(status, 201, "{made}");
            let mut robot = RobotHandset::enrol(http, server, made["code"].as_str().unwrap(), "phone").await.unwrap();
            robot.begin().await.unwrap();
            robot
        }
    });
    stream::iter(each).buffered(8).collect().await
}

/// Answers so long after the handset was asked, if it ever is.
async fn answer(robot: RobotHandset, began: Instant, after: Duration) {
    tokio::time::sleep_until((began + after.saturating_sub(Duration::from_millis(150))).into()).await;
    let until = began + after + WAIT + Duration::from_millis(500);
    while Instant::now() < until {
        if let Ok(Some(shown)) = robot.waiting().await {
            let read: serde_json::Value = serde_json::from_str(&shown).unwrap();
            let due = Duration::from_micros(read["at_us"].as_u64().unwrap()) + after;
            let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap();
            tokio::time::sleep(due.saturating_sub(now)).await;
            // Too late is an answer too.
            let _ = robot.answer(&shown, Answers::Approve, None).await;
            return;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
}
