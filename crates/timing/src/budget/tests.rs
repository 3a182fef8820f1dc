use super::*;
use bivector_model::facts::{Facts, Resends};
use bivector_model::trace::{Origin, Outcome};
use bivector_site::Known;
use proptest::prelude::*;

/// What is replaced and by what, or a setting and its value.
type Pair<'t> = (&'t str, &'t str);

const DEMO: &str = include_str!("../../../../demo/site.toml");

fn site(changes: &[(&str, &str)]) -> Site {
    let text = changes.iter().fold(DEMO.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "{from}");
        text.replacen(from, to, 1)
    });
    let (site, findings) = Site::read(&text, &Known::default());
    site.unwrap_or_else(|| panic!("{findings:#?}"))
}

fn chain(site: &Site, name: &str) -> usize {
    site.chains.iter().position(|chain| chain.name == name).unwrap()
}

fn of(site: &Site, name: &str) -> ChainBudget {
    budget(site, chain(site, name), None, &Learned::default()).unwrap()
}

/// The wait of `slipway`, which the demo does not state.
const SLIPWAY: &str = "from = [\"127.0.0.13\", \"198.51.100.30\"]";

fn slipway(patience: &str) -> String {
    format!("{SLIPWAY}\npatience = {{ {patience} }}")
}

#[test]
fn the_stages_of_a_way_stand_in_order_and_add_up() {
    let site = site(&[]);
    let staff = of(&site, "staff");
    let path = staff.paths.iter().find(|path| path.gateway == "breakwater").unwrap();
    assert_eq!((path.way.as_str(), path.rounds.len()), ("totp", 1));
    let stages: Vec<(StageKind, u64)> = path.rounds[0].stages.iter().map(|stage| (stage.kind, stage.takes.worst_us / 1000)).collect();
    // Two servers: the second is asked too when the first has said nothing for as long as the hedge.
    let wanted = [
        (StageKind::FailOver, 500),
        (StageKind::Connect, 1000),
        (StageKind::Search, 2000),
        (StageKind::Password, 2000),
        (StageKind::Code, 50),
    ];
    assert_eq!(stages, wanted);
    assert_eq!(path.rounds[0].takes.worst_us, 5_550_000);
    let hops: Vec<(HopKind, u64)> = path.hops.iter().map(|hop| (hop.kind, hop.patience_us / 1_000_000)).collect();
    assert_eq!(hops, [(HopKind::Client, 60), (HopKind::Gateway, 15)]);
    assert!(path.hops.iter().all(|hop| hop.margin > 1.0) && staff.findings.is_empty(), "{staff:#?}");
}

#[test]
fn prompts_begin_a_round_of_their_own_and_people_lie_between() {
    let site = site(&[]);
    let contractors = of(&site, "contractors");
    let ways: Vec<(&str, usize)> = contractors.paths.iter().map(|path| (path.way.as_str(), path.rounds.len())).collect();
    let prompted = ["totp-prompt", "recovery-prompt", "temporary-prompt", "pager", "post"];
    for way in prompted {
        assert!(ways.contains(&(way, 2)), "{way} in {ways:?}");
    }
    assert!(ways.contains(&("totp", 1)));
    let pager = contractors.paths.iter().find(|path| path.way == "pager").unwrap();
    let gap = pager.rounds[1].before.as_ref().unwrap();
    assert_eq!((gap.takes.worst_us, gap.setting.as_deref()), (120_000_000, Some("prompts.last")));
    // The gateway waits for each round anew; the person waits for all of them.
    assert!(pager.worst_us > pager.rounds.iter().map(|round| round.takes.worst_us).max().unwrap() + 60_000_000);
    let watch = of(&site, "watch");
    let through = |gateway: &str| watch.paths.iter().find(|path| path.gateway == gateway).unwrap().way.clone();
    assert_eq!((through("slipway"), through("lantern")), ("approval".to_owned(), "number".to_owned()));
}

#[test]
fn each_wait_that_does_not_nest_has_its_finding_with_the_value_to_set() {
    let watch = slipway("wait = \"5s\", tries = 3");
    let twice = slipway("wait = \"20s\", tries = 2, servers = 2");
    let quick = "patience = { connect = \"1s\", answer = \"2s\" }";
    let breakwater = "patience = { wait = \"5s\", tries = 3 }";
    let cases: &[(&str, &[Pair<'_>], &str, Option<Pair<'_>>)] = &[
        ("staff", &[(breakwater, "patience = { wait = \"1s\", tries = 3 }")], "waits-do-not-nest", Some(("breakwater.wait", "3s"))),
        ("watch", &[(SLIPWAY, &watch)], "approval-outlives-front", Some(("slipway.wait", "21s"))),
        ("watch", &[(SLIPWAY, &twice)], "moves-while-pending", Some(("slipway.wait", "35s"))),
        (
            "staff",
            &[("client_patience = \"60s\"", "client_patience = \"5s\"")],
            "client-gives-up",
            Some(("breakwater.client_patience", "7s")),
        ),
        (
            "staff",
            &[("client_patience = \"60s\"", "client_patience = \"12s\"")],
            "client-before-gateway",
            Some(("breakwater.client_patience", "15s")),
        ),
        (
            "staff",
            &[(quick, "patience = { connect = \"1s\", answer = \"20s\", hedge = \"20s\" }")],
            "fail-over-outlasts-gateway",
            Some(("tidehall.hedge", "5s")),
        ),
        (
            "staff",
            &[(quick, "patience = { connect = \"1s\", answer = \"6s\", hedge = \"6s\" }")],
            "fail-over-longer-than-a-try",
            Some(("tidehall.hedge", "5s")),
        ),
        (
            "watch",
            &[("second_patience = \"45s\"", "second_patience = \"15s\"")],
            "approval-too-short",
            Some(("watch.second_patience", "25s")),
        ),
        (
            "contractors",
            &[("[[couriers]]", "[factors]\nprompt_lasts = \"20s\"\n\n[[couriers]]")],
            "prompt-too-short",
            Some(("prompts.last", "30s")),
        ),
        (
            "contractors",
            &[("[[couriers]]", "[factors.sent]\nlasts = \"30s\"\n\n[[couriers]]")],
            "code-ends-first",
            Some(("codes.last", "65s")),
        ),
        ("watch", &[(SLIPWAY, &watch)], "resends-for-nothing", Some(("slipway.wait", "11s"))),
    ];
    for (name, changes, code, set) in cases {
        let site = site(changes);
        let budget = of(&site, name);
        let finding = budget.findings.iter().find(|finding| finding.code == *code);
        let finding = finding.unwrap_or_else(|| panic!("{code}: {:#?}", budget.findings));
        let seen = finding.setting.as_deref().zip(finding.value.as_deref());
        assert_eq!(seen, *set, "{code}: {}", finding.message);
        assert!(finding.line > 0, "{code} has its line");
    }
}

#[test]
fn the_suggestion_is_the_smallest_change_after_which_everything_nests() {
    let watch = slipway("wait = \"5s\", tries = 3");
    let short = "patience = { wait = \"2s\", tries = 1 }";
    let one = |name: &str, last: u8| {
        format!(
            "[[gateways]]\nname = \"{name}\"\nfrom = [\"192.0.2.{last}\"]\nsecret = \"gateway/x\"\npatience = {{ wait = \"6s\", tries = 1 }}\n\n"
        )
    };
    let more = one("g1", 201) + &one("g2", 202) + "[[directories]]";
    let cases: &[(&str, &[Pair<'_>], &[Pair<'_>])] = &[
        ("staff", &[], &[]),
        ("watch", &[(SLIPWAY, &watch)], &[("slipway.wait", "21s")]),
        (
            "staff",
            &[("patience = { wait = \"5s\", tries = 3 }", short), ("client_patience = \"60s\"", "client_patience = \"5s\"")],
            &[("breakwater.wait", "7s"), ("breakwater.client_patience", "7s")],
        ),
        ("watch", &[("second_patience = \"45s\"", "second_patience = \"15s\"")], &[("watch.second_patience", "25s")]),
        // Many gateways may all be too quick: one value behind them all is less to change than one on each.
        (
            "staff",
            &[
                ("gateways = [\"breakwater\", \"slipway\"]", "gateways = [\"breakwater\", \"slipway\", \"g1\", \"g2\"]"),
                ("[[directories]]", &more),
            ],
            &[("tidehall.answer", "1700ms")],
        ),
    ];
    for (name, changes, wanted) in cases {
        let mut site = site(changes);
        let index = chain(&site, name);
        let suggestion = suggest(&site, index, None, &Learned::default(), MARGIN);
        let seen: Vec<(&str, &str)> = suggestion.changes.iter().map(|change| (change.setting.as_str(), change.to.as_str())).collect();
        assert_eq!((seen.as_slice(), suggestion.left.len()), (*wanted, 0), "{name}: {suggestion:#?}");
        for change in &suggestion.changes {
            let setting = Setting::named(&site, &change.setting, index, None).unwrap();
            setting.set(&mut site, Amount::read(&change.to).unwrap()).unwrap();
        }
        let worse = of(&site, name).findings.into_iter().filter(|finding| finding.weight != Weight::Note).collect::<Vec<_>>();
        assert_eq!(worse, [], "{name}");
    }
}

fn facts(count: u32, wait_ms: u64, silent_ms: u64) -> Facts {
    let resends = Resends { count, span_us: wait_ms * 1000 * u64::from(count), silent_us: silent_ms * 1000 };
    Facts { resends: Some(resends), ..Facts::default() }
}

#[test]
fn what_gateways_and_people_really_do_counts_once_it_was_seen_often_enough() {
    let site = site(&[(SLIPWAY, &slipway("wait = \"5s\", tries = 3"))]);
    let learn = |logins: u64| {
        let mut seen = Seen::default();
        for login in 0..logins {
            // Twelve seconds each, then silence: two tries, not three.
            seen.add(Origin::Gateway, "slipway", Outcome::Refused, &facts(1, 12_000 + login, 30_000));
            seen.add(Origin::Rehearsal, "slipway", Outcome::Refused, &facts(5, 1_000, 9_000));
            let took = Facts {
                person_took: Some(("approval".into(), 20_000 + login * 500)),
                woken_ms: Some(1_000 + login * 10),
                gateway_left: true,
                ..Facts::default()
            };
            seen.add(Origin::Gateway, "slipway", Outcome::Accepted, &took);
        }
        seen.done()
    };
    let few = learn(ENOUGH - 1);
    assert_eq!(few.patience(&site.gateways[2]).unwrap().1, Basis::Stated);
    assert_eq!(few.people("approval").basis, Basis::Assumed);
    let enough = learn(40);
    let (patience, basis) = enough.patience(&site.gateways[2]).unwrap();
    assert_eq!((patience.wait.as_secs(), patience.tries, basis), (12, 2, Basis::Measured));
    let people = enough.people("approval");
    assert_eq!((people.count, people.usual_us, people.most_us), (40, 30_000_000, 39_000_000));
    let notification = enough.people(crate::budget::NOTIFICATION);
    assert_eq!((notification.count, notification.usual_us, notification.most_us), (40, 1_200_000, 1_380_000));
    let budget = budget(&site, chain(&site, "watch"), None, &enough).unwrap();
    let codes: Vec<&str> = budget.findings.iter().map(|finding| finding.code.as_str()).collect();
    assert!(codes.contains(&"seen-otherwise") && codes.contains(&"approval-outlives-front"), "{codes:?}");
    assert!(budget.notes.iter().any(|note| note.contains("learned from its retransmissions: 12 s per try, 2 tries")), "{:?}", budget.notes);
    assert!(budget.notes.iter().any(|note| note.contains("measured in 40 logins")), "{:?}", budget.notes);
    assert!(budget.notes.iter().any(|note| note.contains("40 approvals arrived after the gateway had probably given up")));
}

#[test]
fn a_chain_without_a_gateway_and_a_gateway_without_a_word_are_said_so() {
    let site = site(&[("labels = { kind = \"portal\" }\nrealms = [\"local", "labels = { kind = \"nothing\" }\nrealms = [\"local")]);
    let alone = of(&site, "local people");
    assert!(alone.paths.is_empty() && alone.notes[0].contains("no gateway sends logins"), "{alone:?}");
    assert!(of(&site, "watch").notes.iter().any(|note| note.contains("the timeout of")));
}

#[test]
fn settings_are_named_read_and_bounded() {
    let mut site = site(&[]);
    let via = site.gateway_named("breakwater");
    let staff = chain(&site, "staff");
    for (name, value) in
        [("gateway.wait", "30s"), ("breakwater.tries", "2"), ("tidehall.answer", "500ms"), ("staff.second_patience", "60s")]
    {
        let setting = Setting::named(&site, name, staff, via).unwrap();
        setting.set(&mut site, Amount::read(value).unwrap()).unwrap();
        assert_eq!(setting.get(&site).unwrap().written(), value);
    }
    let error = Setting::named(&site, "breakwater.waits", staff, via).unwrap_err();
    assert!(error.remedy().contains("breakwater.wait"), "{}", error.remedy());
    let wait = Setting::GatewayWait(0);
    for (bad, part) in [("0s", "100ms to 600s"), ("3", "100ms to 600s"), ("1h", "100ms to 600s")] {
        assert!(wait.set(&mut site, Amount::read(bad).unwrap()).unwrap_err().to_string().contains(part), "{bad}");
    }
    assert!(Setting::GatewayTries(0).set(&mut site, Amount::Count(0)).is_err());
    assert_eq!(Amount::read("soon"), None);
}

proptest! {
    /// Whatever is set within its range: nothing panics, and where a suggestion is made, it does what it says.
    #[test]
    fn whatever_is_set_a_suggestion_keeps_its_word(values in proptest::collection::vec(0.0f64..1.0, 11)) {
        let mut site = site(&[(SLIPWAY, &slipway("wait = \"5s\", tries = 3"))]);
        let watch = chain(&site, "watch");
        for (setting, share) in super::of_way(&site, watch, None).into_iter().zip(values) {
            let (least, most) = setting.range();
            // Small values are the interesting ones.
            let number = least.number() + (most.number() - least.number()) * share.powi(3);
            let value = match least {
                Amount::Time(_) => Amount::Time(Duration::from_millis((number * 1000.0) as u64)),
                Amount::Count(_) => Amount::Count(number as u32),
            };
            setting.set(&mut site, value).unwrap();
        }
        let suggestion = suggest(&site, watch, None, &Learned::default(), MARGIN);
        if suggestion.left.is_empty() {
            for change in &suggestion.changes {
                let setting = Setting::named(&site, &change.setting, watch, None).unwrap();
                setting.set(&mut site, Amount::read(&change.to).unwrap()).unwrap();
            }
            let breaks = of(&site, "watch").findings.into_iter().filter(|finding| finding.weight == Weight::Breaks).collect::<Vec<_>>();
            prop_assert_eq!(breaks, []);
        }
    }
}

#[test]
fn the_check_of_a_site_file_warns_of_waits_that_do_not_fit_at_the_line_that_says_them() {
    let text = DEMO.replacen("patience = { wait = \"5s\", tries = 2 }", "patience = { wait = \"1s\", tries = 2 }", 1);
    let known = Known { advisers: vec![advice], ..Known::default() };
    let (_, findings) = Site::read(&text, &known);
    let found = findings.iter().find(|finding| finding.code == "waits-do-not-nest").unwrap();
    assert!(found.message.contains("gives up after 2 s") && !found.remedy.is_empty(), "{found:?}");
    assert!(Site::read(&text, &Known::default()).1.iter().all(|finding| finding.code != "waits-do-not-nest"), "only where it is asked");
}

#[test]
fn the_round_trips_of_eap_count_towards_the_clients_patience_and_not_the_gateways() {
    let with = |method: &str| {
        let eap = "[doors.eap]\ncertificate = \"eap.pem\"\nkey = \"eap-key.pem\"\n\n[doors.radius]";
        let site = site(&[("methods = [\"pap\"]", "methods = [\"pap\", \"eap-ttls-pap\"]"), ("[doors.radius]", eap)]);
        of(&site, "staff")
            .paths
            .into_iter()
            .find(|path| path.gateway == "breakwater" && path.way == "totp" && path.method == method)
            .unwrap()
    };
    let (plain, inside) = (with("pap"), with("eap-ttls-pap"));
    assert_eq!(plain.rounds[0].before, None);
    let gap = inside.rounds[0].before.as_ref().unwrap();
    assert_eq!((gap.name.as_str(), inside.usual_us), ("EAP, 4 round trips", plain.usual_us + gap.takes.usual_us));
    let behind = |path: &PathBudget, kind| path.hops.iter().find(|hop| hop.kind == kind).map(|hop| hop.worst_us);
    assert_eq!(behind(&plain, HopKind::Gateway), behind(&inside, HopKind::Gateway), "the gateway waits for each packet anew");
    assert!(behind(&plain, HopKind::Client) < behind(&inside, HopKind::Client));
}
