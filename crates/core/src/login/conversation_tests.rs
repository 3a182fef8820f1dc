//! A login of several rounds is one login: one reference, one trace, decided again as a whole.

use super::second_tests::*;
use super::tests::*;
use super::*;
use crate::replay::{Again, Ending, Recorded, again};
use bivector_model::facts::AnswerFact;
use bivector_model::moment::Moment;
use bivector_model::trace::{Origin, Outcome, Trace};
use bivector_site::Site;
use std::sync::Arc;
use std::time::Duration;

const SECOND: &str = "second = [\"totp\"]\nwhen_unclear = \"plain\"";

fn steps<'t>(trace: &'t Trace, what: &str) -> Vec<&'t bivector_model::trace::Step> {
    trace.steps.iter().filter(|step| step.what == what).collect()
}

/// A login of three rounds, the prompts answered after three and seven seconds.
fn three_rounds(site: &Arc<Site>) -> (World, Verdict, Trace) {
    let mut world = World::new();
    let (first, trace, _) = world.run(site, request(site, "breakwater", "ines", b"barnacle"));
    let (_, state) = challenge(first, &trace);
    world.now = NOON.plus(Duration::from_secs(3));
    let (second, trace, _) = world.run(site, answer_from("breakwater", site, "ines", "999999", &state));
    let (_, state) = challenge(second, &trace);
    assert_eq!((trace.outcome, trace.facts.rounds.len()), (Outcome::Challenged, 1), "it waits, with both rounds");
    world.now = NOON.plus(Duration::from_secs(10));
    let (verdict, trace, _) = world.run(site, answer_from("breakwater", site, "ines", &code(0), &state));
    (world, verdict, trace)
}

fn recorded(trace: &Trace) -> Recorded {
    Recorded {
        reference: trace.reference.clone(),
        began: Moment::from_micros(trace.began_us),
        sender: trace.sender.parse().unwrap(),
        origin: Origin::Gateway,
        gateway: trace.gateway.clone(),
        chain: trace.chain.clone(),
        typed_name: trace.typed_name.clone(),
        login: "ines".into(),
        method: trace.method.clone(),
        ending: Ending::new(trace.outcome, trace.cause, trace.grant.clone(), trace.waived.is_some()),
        facts: Some(*trace.facts.clone()),
    }
}

#[test]
fn all_rounds_share_one_reference_and_one_trace_with_the_waits_between_them() {
    let site = prompting(SECOND, &[]);
    let (_, verdict, trace) = three_rounds(&site);
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    assert_eq!((accept.grant(), trace.reference.as_str(), trace.outcome), ("control-room", "REF", Outcome::Accepted));
    assert_eq!((trace.began_us, trace.took_us / 1_000_000), (NOON.micros(), 10), "from the first request to the verdict");
    assert_eq!(steps(&trace, "request").len(), 3);
    let waits: Vec<u64> = steps(&trace, "waiting").iter().map(|step| (step.took_us + 500_000) / 1_000_000).collect();
    assert_eq!(waits, [3, 7]);
    assert!(trace.steps.is_sorted_by_key(|step| step.at_us), "{:#?}", trace.steps);
    assert!(trace.steps.iter().all(|step| step.at_us + step.took_us <= trace.took_us));
    let starts: Vec<u64> = trace.facts.rounds.iter().map(|round| round.at_us / 1_000_000).collect();
    assert_eq!((starts, trace.facts.rounds[1].facts.answer.clone()), (vec![3, 10], Some(AnswerFact::Own(token().kind(), 6, 0))));
    assert!(trace.last_round_us() < 1_000_000, "the time of a round is the service's own");
    assert!(trace.facts.rounds.iter().all(|round| round.facts.people.len() == 1), "each round looks the person up");
}

#[test]
fn a_login_of_several_rounds_is_decided_again_as_a_whole() {
    let site = prompting(SECOND, &[]);
    let (_, _, trace) = three_rounds(&site);
    let replayed = again(&site, &recorded(&trace));
    let Again::Ends { ending, why, .. } = replayed else { panic!("{replayed:?}") };
    assert_eq!(ending, recorded(&trace).ending, "{why}");
    let stricter = prompting(SECOND, &[("when = { group = \"control-room\" }", "when = { group = \"somebody-else\" }")]);
    let Again::Ends { ending, .. } = again(&stricter, &recorded(&trace)) else { panic!("{:?}", again(&stricter, &recorded(&trace))) };
    assert_eq!(ending.outcome, "refused", "the last round is decided under the draft");
    let without = site_without_a_second();
    let replayed = again(&without, &recorded(&trace));
    let Again::Ends { ending, .. } = replayed else { panic!("{replayed:?}") };
    assert!(ending.waived, "the first round is enough there, and nobody is asked: {ending:?}");
}

fn site_without_a_second() -> Arc<Site> {
    prompting("second = []", &[("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]")])
}

#[test]
fn a_prompt_that_nobody_answered_is_the_same_ending_when_it_would_be_asked_again() {
    let site = prompting(SECOND, &[]);
    let mut world = World::new();
    let (_, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
    let until = trace.facts.open_until_us.unwrap();
    assert!(until > NOON.micros());
    let trace = trace.unanswered(Moment::from_micros(until));
    assert_eq!((trace.outcome, trace.cause), (Outcome::Refused, Some(Cause::PromptUnanswered)));
    let Again::Ends { ending, .. } = again(&site, &recorded(&trace)) else { panic!() };
    assert_eq!(ending, recorded(&trace).ending);
}

#[test]
fn an_answer_whose_first_rounds_nobody_knows_any_more_keeps_the_reference_and_says_so() {
    let site = prompting(SECOND, &[]);
    let mut world = World::new();
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
    let (_, state) = challenge(verdict, &trace);
    world.before = None;
    let (verdict, trace, _) = world.run(&site, answer_from("breakwater", &site, "ines", &code(0), &state));
    assert!(matches!(verdict, Verdict::Accept(_)));
    assert_eq!((trace.reference.as_str(), trace.facts.rounds.len()), ("REF", 0));
    assert!(steps(&trace, "resumed")[0].said.contains("not on record"));
}

#[test]
fn whoever_keeps_answering_fills_no_memory() {
    let site = prompting(SECOND, &[]);
    let (_, _, mut trace) = three_rounds(&site);
    trace.outcome = Outcome::Challenged;
    for _ in 0..200 {
        let mut world = World::new();
        let (verdict, first, _) = world.run(&site, request(&site, "breakwater", "ines", b"barnacle"));
        let (_, state) = challenge(verdict, &first);
        world.now = Moment::from_micros(trace.began_us + trace.took_us).plus(Duration::from_secs(1));
        world.kept.values_mut().for_each(|pending| pending.until = world.now.plus(Duration::from_secs(60)));
        world.before = Some(Box::new(trace));
        let (_, longer, _) = world.run(&site, answer_from("breakwater", &site, "ines", "999999", &state));
        trace = longer;
    }
    assert!(trace.facts.rounds.len() <= 48 && trace.steps.len() < 1000, "{} rounds, {} steps", trace.facts.rounds.len(), trace.steps.len());
    assert!(trace.facts.rounds_left_out > 100 && steps(&trace, "request").len() > 20);
    assert!(trace.steps.is_sorted_by_key(|step| step.at_us));
}
