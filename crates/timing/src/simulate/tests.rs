use super::*;
use crate::budget::{How, Learned, Setting, Way, ways};
use bivector_site::{Known, Site};
use std::sync::Arc;
use std::time::Duration;

const DEMO: &str = include_str!("../../../../demo/site.toml");

fn site(changes: &[(&str, &str)]) -> Arc<Site> {
    let text = changes.iter().fold(DEMO.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "{from}");
        text.replacen(from, to, 1)
    });
    let (site, findings) = Site::read(&text, &Known::default());
    Arc::new(site.unwrap_or_else(|| panic!("{findings:#?}")))
}

fn way(site: &Site, chain: &str, gateway: &str, slug: &str) -> Way {
    let chain = site.chains.iter().position(|of| of.name == chain).unwrap();
    let all = ways(site, chain, site.gateway_named(gateway));
    let of_text = all.iter().find(|way| way.how.slug(site) == slug && way.method.gives_text());
    of_text.unwrap_or_else(|| panic!("no {slug}: {all:?}")).clone()
}

fn plan(site: &Arc<Site>, chain: &str, gateway: &str, slug: &str) -> Plan {
    Plan::of(Arc::clone(site), way(site, chain, gateway, slug), &Learned::default())
}

fn play(plan: &Plan) -> Simulated {
    simulate(plan, |_| true).unwrap().unwrap()
}

fn seconds(secs: u64) -> Duration {
    Duration::from_secs(secs)
}

#[test]
fn every_way_of_every_chain_can_be_played_and_ends_well_where_everybody_has_time() {
    let site = site(&[]);
    for chain in 0..site.chains.len() {
        for way in ways(&site, chain, None) {
            let mut plan = Plan::of(Arc::clone(&site), way.clone(), &Learned::default());
            (plan.logins, plan.patience.wait) = (50, seconds(60));
            plan.people = Times::Fixed(10_000_000);
            let done = play(&plan);
            assert_eq!((done.accepted, done.failed.len()), (50, 0), "{} {way:?}: {done:?}", site.chains[chain].name);
            assert_eq!(done.approvals, if way.how.asks_handset() { 50 } else { 0 }, "{way:?}");
        }
    }
}

#[test]
fn a_seed_makes_it_repeatable_and_another_one_another() {
    let site = site(&[]);
    let mut plan = plan(&site, "watch", "slipway", "approval");
    plan.link.loss = 0.1;
    let first = play(&plan);
    assert_eq!(play(&plan), first);
    plan.seed = 2;
    assert_ne!(play(&plan), first);
}

#[test]
fn a_gateway_that_leaves_early_loses_those_who_answer_later_and_nobody_else() {
    let site = site(&[]);
    let mut plan = plan(&site, "watch", "slipway", "approval");
    // Half answer within ten seconds, by construction of the distribution.
    plan.people = Times::LogNormal { usual_us: 10_000_000, most_us: 25_000_000 };
    (plan.logins, plan.patience.wait, plan.patience.tries) = (5_000, seconds(2), 5);
    let done = play(&plan);
    assert!((done.share() - 0.5).abs() < 0.02, "{done:?}");
    assert_eq!(done.failed.keys().collect::<Vec<_>>(), ["gateway-gave-up"]);
    // Resends join: one approval for each login, whatever the gateway does.
    assert_eq!((done.approvals, done.joined, done.begun), (5_000, 0, 5_000));
    assert!(done.absorbed > 10_000);
}

#[test]
fn resends_make_up_for_lost_packets_as_chance_has_it() {
    let site = site(&[]);
    let mut plan = plan(&site, "staff", "breakwater", "totp");
    (plan.link.loss, plan.logins, plan.patience.tries) = (0.3, 10_000, 3);
    let done = play(&plan);
    // A try succeeds when neither the packet nor its reply is lost; a reply that was lost is sent again for the next packet.
    let wanted = 1.0 - (1.0f64 - 0.7 * 0.7).powi(3);
    assert!((done.share() - wanted).abs() < 0.02, "{} for {wanted}", done.share());
    assert!(done.answered_again > 1_000);
    plan.link = Link { twice: 1.0, ..Link::default() };
    let twice = play(&plan);
    assert_eq!((twice.accepted, twice.begun), (10_000, 10_000), "a packet that arrives twice begins one login");
}

#[test]
fn a_second_server_joins_the_approval_and_finds_the_code_used() {
    let site = site(&[]);
    let mut plan = plan(&site, "watch", "slipway", "approval");
    (plan.logins, plan.patience.wait, plan.patience.tries, plan.patience.servers) = (500, seconds(4), 1, 2);
    plan.people = Times::Fixed(6_000_000);
    let done = play(&plan);
    assert_eq!((done.accepted, done.approvals, done.joined, done.begun), (500, 500, 500, 1000), "{done:?}");
    let mut codes = Plan { patience: plan.patience, ..self::plan(&site, "staff", "breakwater", "totp") };
    (codes.logins, codes.directory) = (1_000, Times::LogNormal { usual_us: 900_000, most_us: 1_900_000 });
    codes.patience.wait = seconds(2);
    let done = play(&codes);
    assert!(done.failed.get("code-used").is_some_and(|count| *count > 100), "the first server's login has used the code: {done:?}");
}

#[test]
fn a_server_that_dies_costs_nobody_and_one_that_hangs_costs_whoever_had_sent_it_a_password() {
    let site = site(&[]);
    let mut plan = plan(&site, "staff", "breakwater", "totp");
    plan.trouble = Trouble::Dies { after: seconds(10) };
    let died = play(&plan);
    assert_eq!(died.accepted, 1_000);
    assert!(died.p99_us < 200_000, "{died:?}");
    plan.trouble = Trouble::Hangs { after: seconds(10) };
    plan.people = Times::Fixed(0);
    let hung = play(&plan);
    // A guess that may have arrived goes to nobody else. A search does, and whoever comes later asks the second server at once.
    assert!(hung.failed.get("source-slow").is_none_or(|count| *count < 5) && hung.accepted > 990, "{hung:?}");
    assert!(hung.p99_us < 900_000 && hung.p50_us < died.p50_us * 2, "{hung:?}");
    plan.trouble = Trouble::Slows { after: seconds(10), times: 20.0 };
    let slow = play(&plan);
    assert!(slow.accepted > 950 && slow.p50_us > died.p50_us * 5, "{slow:?}");
}

#[test]
fn handsets_that_are_off_and_programs_that_give_up_have_their_causes() {
    let site = site(&[("from = [\"127.0.0.13\", \"198.51.100.30\"]", "from = [\"127.0.0.13\"]\nclient_patience = \"20s\"")]);
    let mut plan = plan(&site, "watch", "slipway", "approval");
    (plan.phones.off, plan.logins, plan.patience.wait, plan.patience.tries) = (0.25, 2_000, seconds(60), 1);
    plan.people = Times::Fixed(5_000_000);
    let done = play(&plan);
    assert!((done.share() - 0.75).abs() < 0.03 && done.failed.contains_key("client-gave-up"), "{done:?}");
}

#[test]
fn phones_that_sleep_or_show_nothing_are_lost_without_a_second_way_to_wake_people() {
    let shares = |wake: &str| {
        let site = site(&[("wake = [\"push\", \"pager\"]", wake), ("second_patience = \"45s\"", "second_patience = \"25s\"")]);
        let mut plan = plan(&site, "watch", "slipway", "approval");
        (plan.logins, plan.patience.wait, plan.patience.tries) = (2_000, seconds(60), 1);
        plan.people = Times::Fixed(5_000_000);
        let at_hand = play(&plan).share();
        plan.phones.refused = 0.3;
        let refused = play(&plan).share();
        (plan.phones.refused, plan.phones.asleep) = (0.0, 0.4);
        plan.phones.asleep_for = (seconds(20), seconds(60));
        (at_hand, refused, play(&plan).share())
    };
    let (at_hand, refused, asleep) = shares("wake = [\"push\"]");
    assert!(at_hand > 0.99 && (refused - 0.7).abs() < 0.03 && asleep < 0.85, "{at_hand} {refused} {asleep}");
    let (at_hand, refused, asleep) = shares("wake = [\"push\", \"pager\"]");
    assert!(at_hand > 0.99 && refused > 0.99 && asleep > 0.99, "a message wakes them after 8 s: {at_hand} {refused} {asleep}");
}

#[test]
fn a_sweep_finds_where_more_patience_brings_no_more() {
    let site = site(&[]);
    let mut plan = plan(&site, "watch", "slipway", "approval");
    plan.patience.tries = 1;
    let chain = plan.way.chain;
    let via = Some(plan.way.gateway);
    let along = SweepPlan::read("gateway.wait=2s..80s", &site, chain, via, 14).unwrap();
    let mut shares = Vec::new();
    let curve = sweep(&plan, &along, |share| {
        shares.push(share);
        true
    });
    let curve = curve.unwrap().unwrap();
    assert!(curve.points.windows(2).all(|pair| pair[1].share >= pair[0].share - 0.03), "more patience, more logins");
    let knee = &curve.points[curve.knee.unwrap()];
    assert!((20.0..60.0).contains(&knee.at), "{knee:?}");
    assert!(shares.windows(2).all(|pair| pair[1] >= pair[0]) && shares.last() == Some(&1.0), "{shares:?}");
    assert_eq!(curve_csv(&curve).lines().count(), 15);
    assert!(curve_svg(&curve).contains("knee: "));
    assert_eq!(sweep(&plan, &along, |share| share < 0.5).unwrap(), None, "it can be ended");
}

#[test]
fn what_cannot_be_played_says_why() {
    let site = site(&[]);
    let good = || plan(&site, "watch", "slipway", "approval");
    let change = |change: fn(&mut Plan)| {
        let mut plan = good();
        change(&mut plan);
        simulate(&plan, |_| true).unwrap_err().to_string()
    };
    for (said, part) in [
        (change(|plan| plan.logins = 0), "0 logins cannot be simulated"),
        (change(|plan| plan.per_second = 0.0), "0 logins a second"),
        (change(|plan| plan.link.loss = 1.5), "1.5 is not a share for loss"),
        (change(|plan| plan.people = Times::Measured(Arc::from([]))), "has no data"),
        (change(|plan| plan.patience.tries = 0), "never waits"),
        (change(|plan| plan.trouble = Trouble::Slows { after: Duration::ZERO, times: 0.0 }), "0 times slower"),
        (change(|plan| plan.way.how = How::Typed(bivector_model::device::CodeKind::Totp)), "no form of `watch`"),
    ] {
        assert!(said.contains(part), "{said}");
    }
    let (chain, via) = (good().way.chain, Some(good().way.gateway));
    for (text, part) in [
        ("gateway.wait", "is not a sweep"),
        ("gateway.wait=5s..soon", "is not a sweep"),
        ("gateway.weight=1s..2s", "unknown setting `gateway.weight`"),
        ("gateway.wait=9s..5s", "goes nowhere"),
        ("gateway.tries=0..5", "allowed: 1 to 20"),
    ] {
        let said = SweepPlan::read(text, &site, chain, via, 10).unwrap_err().to_string();
        assert!(said.contains(part), "{text}: {said}");
    }
    let long = SweepPlan { setting: Setting::GatewayWait(0), ..SweepPlan::read("gateway.wait=1s..9s", &site, chain, via, 200).unwrap() };
    let mut many = good();
    many.logins = 10_000_000;
    assert!(sweep(&many, &long, |_| true).unwrap_err().to_string().contains("would take some"), "refused with an estimate");
}
