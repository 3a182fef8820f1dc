use super::*;
use bivector_store::agreement::Volatile;
use bivector_store::clock::LoginClock;
use proptest::prelude::*;

const NOON: Moment = Moment::from_secs(1_800_000_000);

fn ask(reference: &str, gateway: &str, wants_number: bool) -> ApprovalAsk {
    ApprovalAsk {
        person: "tidehall:ines".into(),
        login: "ines".into(),
        name: "Ines Okafor".into(),
        site: "Northmoor Tidal".into(),
        gateway: gateway.into(),
        chain: "staff".into(),
        from: "198.51.100.7".into(),
        reference: reference.into(),
        wants_number,
        with_key: false,
        joins_without_caller: false,
        on_page: false,
        before_password: false,
        reach: Vec::new(),
        language: String::new(),
        lasts: Duration::from_secs(45),
    }
}

fn fresh() -> Approvals {
    Approvals::new(Arc::new(Volatile::default()), tokio::sync::mpsc::channel(64).0)
}

/// What an operation on an agreement in memory gives: nothing there waits for anybody.
fn at_once<T>(operation: impl Future<Output = T>) -> T {
    operation.now_or_never().unwrap()
}

/// An answer to whatever is shown now.
fn answer(approvals: &Approvals, id: u64, person: &str, said: Said, now: Moment) -> Taken {
    let shown = approvals.shown(id, person).unwrap_or_else(|| "nothing".into());
    at_once(approvals.answer(id, person, &shown, said, now)).unwrap()
}

fn said(decision: Decision, number: Option<u8>) -> Said {
    Said { decision, number, handset: 3, device: "phone".into(), key: None }
}

fn at(seconds: u64) -> Moment {
    NOON.plus(Duration::from_secs(seconds))
}

fn random(first: u8) -> [u8; 16] {
    std::array::from_fn(|index| first.wrapping_mul(31).wrapping_add(index as u8))
}

#[test]
fn a_person_has_one_approval_and_another_packet_from_the_same_place_joins_it() {
    let (approvals, limits) = (fresh(), Handset::default());
    let ApprovalSent::Sent { id, number: None, joined: false, .. } =
        at_once(approvals.ask(ask("A", "breakwater", false), &limits, random(1), NOON))
    else {
        panic!()
    };
    let again = at_once(approvals.ask(ask("B", "breakwater", false), &limits, random(2), at(2)));
    assert!(matches!(again, ApprovalSent::Sent { id: same, joined: true, .. } if same == id), "{again:?}");
    for other in [
        ask("C", "lantern", false),
        ask("D", "breakwater", true),
        ApprovalAsk { from: "203.0.113.9".into(), ..ask("E", "breakwater", false) },
    ] {
        let refused = at_once(approvals.ask(other, &limits, random(3), at(3)));
        assert!(matches!(refused, ApprovalSent::Limited(_)), "{refused:?}");
    }
    assert!(matches!(answer(&approvals, id, "tidehall:pell", said(Decision::Approve, None), at(4)), Taken::Unknown), "somebody else's");
    assert!(matches!(answer(&approvals, id, "tidehall:ines", said(Decision::Approve, None), at(5)), Taken::Decided { approved: true, .. }));
    assert_eq!(answer(&approvals, id, "tidehall:ines", said(Decision::Deny, None), at(6)), Taken::Before, "two phones at once");
    let fresh = at_once(approvals.ask(ask("F", "breakwater", false), &limits, random(4), at(7)));
    assert!(matches!(fresh, ApprovalSent::Sent { joined: false, .. }), "a decided one is never joined: {fresh:?}");
}

#[test]
fn a_second_login_joins_only_where_both_say_the_same_caller_or_the_site_allows_it() {
    let nowhere =
        |reference: &str, joins| ApprovalAsk { from: String::new(), joins_without_caller: joins, ..ask(reference, "breakwater", false) };
    for (joins, wanted) in [(false, false), (true, true)] {
        let (approvals, limits) = (fresh(), Handset::default());
        at_once(approvals.ask(nowhere("A", joins), &limits, random(1), NOON));
        let second = at_once(approvals.ask(nowhere("B", joins), &limits, random(2), at(1)));
        assert_eq!(matches!(second, ApprovalSent::Sent { joined: true, .. }), wanted, "{second:?}");
        assert_eq!(matches!(second, ApprovalSent::Limited(_)), !wanted, "{second:?}");
    }
}

#[test]
fn a_handset_is_told_of_a_second_request_and_what_it_signed_before_does_not_cover_it() {
    let (approvals, limits) = (fresh(), Handset::default());
    let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(ask("A", "breakwater", false), &limits, random(1), NOON)) else { panic!() };
    let before = approvals.shown(id, "tidehall:ines").unwrap();
    at_once(approvals.ask(ask("B", "breakwater", false), &limits, random(2), at(1)));
    let now = approvals.shown(id, "tidehall:ines").unwrap();
    let requests = |text: &str| serde_json::from_str::<Shown>(text).unwrap().requests;
    assert_eq!((requests(&before), requests(&now)), (1, 2));
    assert_eq!(at_once(approvals.answer(id, "tidehall:ines", &before, said(Decision::Approve, None), at(2))).unwrap(), Taken::Changed);
    let taken = at_once(approvals.answer(id, "tidehall:ines", &now, said(Decision::Approve, None), at(2))).unwrap();
    assert!(matches!(taken, Taken::Decided { approved: true, .. }), "{taken:?}");
}

#[test]
fn an_approval_that_is_over_is_not_accepted_while_a_longer_one_of_another_chain_waits() {
    let (approvals, limits) = (fresh(), Handset::default());
    let long = ApprovalAsk { person: "tidehall:pell".into(), lasts: Duration::from_secs(300), ..ask("A", "lantern", false) };
    at_once(approvals.ask(long, &limits, random(1), NOON));
    let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(ask("B", "breakwater", false), &limits, random(2), NOON)) else { panic!() };
    let late = answer(&approvals, id, "tidehall:ines", said(Decision::Approve, None), at(46));
    assert_eq!(late, Taken::Late { by: Duration::from_secs(1), references: vec!["B".into()] });
    assert_eq!((approvals.waiting("tidehall:ines", at(46)), approvals.count()), (None, 1));
}

#[test]
fn questions_before_the_password_have_a_limit_of_their_own_that_not_me_uses_up() {
    let (approvals, limits) = (fresh(), Handset::default());
    let before = |reference: &str| ApprovalAsk { before_password: true, ..ask(reference, "breakwater", false) };
    let mut asked = Vec::new();
    for number in 0..5u8 {
        if let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(before("A"), &limits, random(number), at(0))) {
            asked.push(id);
            approvals.withdraw(id, at(0));
        }
    }
    assert_eq!(asked.len(), BEFORE_PASSWORD as usize);
    assert!(matches!(at_once(approvals.ask(ask("B", "breakwater", false), &limits, random(9), at(1))), ApprovalSent::Sent { .. }));
    let (approvals, limits) = (fresh(), Handset::default());
    let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(before("A"), &limits, random(1), NOON)) else { panic!() };
    answer(&approvals, id, "tidehall:ines", said(Decision::NotMe, None), at(1));
    assert!(matches!(at_once(approvals.ask(before("C"), &limits, random(2), at(2))), ApprovalSent::Limited(_)));
    assert!(
        matches!(at_once(approvals.ask(ask("D", "breakwater", false), &limits, random(3), at(3))), ApprovalSent::Sent { .. }),
        "real ones go on"
    );
}

#[tokio::test]
async fn who_waits_for_somebody_who_has_stopped_approvals_sees_what_nobody_answering_looks_like() {
    let (approvals, limits, clock) = (fresh(), Handset::default(), LoginClock::start());
    let now = clock.now();
    let short = ApprovalAsk { lasts: Duration::from_millis(20), wants_number: true, ..ask("A", "own page", true) };
    let stopped = now.plus(HOUR);
    let ApprovalSent::Sent { id, number: Some(_), joined: false, until } = approvals.pretend(short.clone(), random(1), stopped, now) else {
        panic!()
    };
    assert_eq!((until, approvals.waiting("tidehall:ines", now), approvals.count()), (now.plus(short.lasts), None, 0));
    assert_eq!(approvals.wait(id, "tidehall:ines", &clock).await, ApprovalAnswer::Stopped(stopped));
    assert!(matches!(
        at_once(approvals.ask(ask("B", "breakwater", false), &limits, random(2), now)),
        ApprovalSent::Sent { joined: false, .. }
    ));
}

#[test]
fn late_answers_learn_how_late_and_limits_hold_for_an_hour() {
    let (approvals, limits) = (fresh(), Handset { per_person: 2, ..Handset::default() });
    let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(ask("A", "breakwater", false), &limits, random(1), NOON)) else { panic!() };
    let late = answer(&approvals, id, "tidehall:ines", said(Decision::Approve, None), at(57));
    assert_eq!(late, Taken::Late { by: Duration::from_secs(12), references: vec!["A".into()] });
    assert!(matches!(at_once(approvals.ask(ask("B", "breakwater", false), &limits, random(2), at(60))), ApprovalSent::Sent { .. }));
    approvals.withdraw(u64::from_be_bytes(random(2)[..8].try_into().unwrap()), at(61));
    assert!(matches!(at_once(approvals.ask(ask("C", "breakwater", false), &limits, random(3), at(62))), ApprovalSent::Limited(_)));
    assert!(matches!(at_once(approvals.ask(ask("C", "breakwater", false), &limits, random(3), at(3601))), ApprovalSent::Sent { .. }));
}

#[test]
fn numbers_differ_and_only_the_one_on_the_screen_lets_in() {
    for first in 0..=255 {
        let numbers = draw(&random(first)[8..]);
        assert!(numbers.iter().all(|number| (10..100).contains(number)), "{numbers:?}");
        assert!(numbers[0] != numbers[1] && numbers[1] != numbers[2] && numbers[0] != numbers[2], "{numbers:?}");
    }
    for wrong in [true, false] {
        let approvals = fresh();
        let sent = at_once(approvals.ask(ask("A", "breakwater", true), &Handset::default(), random(7), NOON));
        let ApprovalSent::Sent { id, number: Some(number), .. } = sent else { panic!() };
        let shown: Shown = serde_json::from_str(&approvals.waiting("tidehall:ines", NOON).unwrap()).unwrap();
        let other = shown.numbers.iter().copied().find(|one| *one != number);
        let picked = if wrong { other } else { Some(number) };
        let taken = answer(&approvals, id, "tidehall:ines", said(Decision::Approve, picked), at(1));
        assert!(matches!(taken, Taken::Decided { approved, .. } if approved != wrong), "{taken:?}");
    }
}

/// What may happen to one person's approvals.
#[derive(Debug, Clone)]
enum Happens {
    Asked { from: u8, numbered: bool },
    Answered { nth: usize, approve: bool, right: bool },
    Withdrawn { nth: usize },
    Later(u64),
}

fn happens() -> impl Strategy<Value = Happens> {
    prop_oneof![
        (0u8..3, any::<bool>()).prop_map(|(from, numbered)| Happens::Asked { from, numbered }),
        (0usize..6, any::<bool>(), any::<bool>()).prop_map(|(nth, approve, right)| Happens::Answered { nth, approve, right }),
        (0usize..6).prop_map(|nth| Happens::Withdrawn { nth }),
        (1u64..40).prop_map(Happens::Later),
    ]
}

proptest! {
    /// Held against a list of what was asked, kept without any of the hub's ways.
    #[test]
    fn whatever_happens_one_approval_waits_at_most_and_each_is_decided_once_and_only_in_its_time(
        steps in prop::collection::vec(happens(), 1..40),
    ) {
        struct Asked { id: u64, number: Option<u8>, until: Moment, over: bool }
        let (approvals, limits) = (fresh(), Handset { per_person: 1000, ..Handset::default() });
        let (mut asked, mut now): (Vec<Asked>, Moment) = (Vec::new(), NOON);
        for (step, happens) in steps.into_iter().enumerate() {
            match happens {
                Happens::Later(seconds) => now = now.plus(Duration::from_secs(seconds)),
                Happens::Asked { from, numbered } => {
                    let waits = asked.iter().any(|one| !one.over && one.until > now);
                    let ask = ApprovalAsk { from: format!("192.0.2.{from}"), ..ask("X", "breakwater", numbered) };
                    match at_once(approvals.ask(ask, &limits, random(step as u8), now)) {
                        ApprovalSent::Sent { id, number, joined: false, until } => {
                            prop_assert!(!waits, "two at a time");
                            prop_assert_eq!(number.is_some(), numbered);
                            asked.push(Asked { id, number, until, over: false });
                        }
                        ApprovalSent::Sent { id, joined: true, .. } => {
                            prop_assert!(asked.iter().any(|one| one.id == id && !one.over && one.until > now), "joined one that is over");
                        }
                        _ => prop_assert!(waits, "refused although nothing waits"),
                    }
                }
                Happens::Answered { nth, approve, right } => {
                    let Some(one) = asked.get_mut(nth) else { continue };
                    let decision = if approve { Decision::Approve } else { Decision::Deny };
                    let number = if right { one.number } else { Some(9) };
                    let taken = answer(&approvals, one.id, "tidehall:ines", said(decision, number), now);
                    let open = !one.over && one.until > now;
                    match taken {
                        Taken::Decided { approved, .. } => {
                            prop_assert!(open, "decided twice, or after its end");
                            prop_assert_eq!(approved, approve && right);
                            one.over = true;
                        }
                        other => prop_assert!(!open, "{:?} although it waits", other),
                    }
                }
                Happens::Withdrawn { nth } => {
                    let Some(one) = asked.get_mut(nth) else { continue };
                    approvals.withdraw(one.id, now);
                    one.over = true;
                }
            }
            let waits = asked.iter().filter(|one| !one.over && one.until > now).count();
            prop_assert_eq!(approvals.waiting("tidehall:ines", now).is_some(), waits == 1);
            prop_assert!(waits <= 1);
        }
    }
}

#[tokio::test]
async fn all_logins_that_wait_get_the_same_answer_and_nobody_waits_longer_than_agreed() {
    let (approvals, limits, clock) = (fresh(), Handset::default(), LoginClock::start());
    let now = clock.now();
    let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(ask("A", "breakwater", false), &limits, random(1), now)) else { panic!() };
    let (one, two, ()) = tokio::join!(approvals.wait(id, "tidehall:ines", &clock), approvals.wait(id, "tidehall:ines", &clock), async {
        tokio::task::yield_now().await;
        answer(&approvals, id, "tidehall:ines", said(Decision::NotMe, None), now.plus(Duration::from_secs(3)));
    });
    assert_eq!((one, two), (ApprovalAnswer::Disowned("phone".into()), ApprovalAnswer::Disowned("phone".into())));
    let short = ApprovalAsk { lasts: Duration::from_millis(20), ..ask("B", "breakwater", false) };
    let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(short, &limits, random(9), now)) else { panic!() };
    assert_eq!(approvals.wait(id, "tidehall:ines", &clock).await, ApprovalAnswer::Unanswered("nobody answered within 0 s".into()));
    assert!(matches!(approvals.wait(id, "tidehall:ines", &clock).await, ApprovalAnswer::Unanswered(said) if said.contains("in time")));
}

#[test]
fn an_approval_whose_only_login_has_ended_is_withdrawn_and_one_that_others_wait_for_stays() {
    let (approvals, limits) = (fresh(), Handset::default());
    let ApprovalSent::Sent { id, .. } = at_once(approvals.ask(ask("A", "breakwater", false), &limits, random(1), NOON)) else { panic!() };
    at_once(approvals.ask(ask("B", "breakwater", false), &limits, random(2), at(1)));
    approvals.abandon(id, at(2));
    assert!(approvals.shown(id, "tidehall:ines").is_some(), "the login B waits for it too");
    let ApprovalSent::Sent { id, .. } =
        at_once(approvals.ask(ApprovalAsk { person: "tidehall:yuki".into(), ..ask("C", "breakwater", false) }, &limits, random(3), at(3)))
    else {
        panic!()
    };
    approvals.abandon(id, at(4));
    assert_eq!(answer(&approvals, id, "tidehall:yuki", said(Decision::Approve, None), at(5)), Taken::Withdrawn);
}

/// Approvals with what they tell whoever wakes people.
fn told() -> (Approvals, tokio::sync::mpsc::Receiver<Event>) {
    let (events, told) = tokio::sync::mpsc::channel(2);
    (Approvals::new(Arc::new(Volatile::default()), events), told)
}

fn begin(approvals: &Approvals, ask: ApprovalAsk, number: u8) -> u64 {
    match at_once(approvals.ask(ask, &Handset::default(), random(number), NOON)) {
        ApprovalSent::Sent { id, .. } => id,
        other => panic!("{other:?}"),
    }
}

fn seen(approvals: &Approvals, id: u64) -> Vec<PushSeen> {
    approvals.notes(id).map(|(_, notes)| notes.into_iter().map(|note| note.seen).collect()).unwrap_or_default()
}

#[test]
fn whoever_wakes_people_hears_of_each_approval_once_and_never_of_a_rehearsed_one() {
    let (approvals, mut events) = told();
    let id = begin(&approvals, ask("A", "breakwater", false), 1);
    begin(&approvals, ask("B", "breakwater", false), 2);
    assert!(matches!(events.try_recv(), Ok(Event::Begun(begun)) if begun == id));
    let robot = ApprovalAsk { person: format!("{}x:ines", crate::runs::STAGES), ..ask("C", "breakwater", false) };
    begin(&approvals, robot, 3);
    assert!(events.try_recv().is_err(), "a login that joins wakes nobody again");
}

#[test]
fn what_is_seen_of_messages_is_noted_once_with_its_time_and_stays_after_the_end() {
    let (approvals, _events) = told();
    let id = begin(&approvals, ask("A", "breakwater", false), 1);
    assert!(!approvals.is_shown(id));
    for seconds in [2, 3] {
        approvals.note(id, PushNote::new(Some(3), PushSeen::Shown, at(seconds)));
    }
    approvals.note(id, PushNote::new(Some(3), PushSeen::Accepted(Duration::from_millis(200)), at(1)));
    assert!(approvals.is_shown(id));
    answer(&approvals, id, "tidehall:ines", said(Decision::Approve, None), at(4));
    approvals.all_waiting(at(60), 10);
    let (person, notes) = approvals.notes(id).unwrap();
    assert_eq!(person, "tidehall:ines");
    let noted: Vec<(u64, PushSeen)> = notes.into_iter().map(|note| (note.after.as_secs(), note.seen)).collect();
    assert_eq!(noted, [(1, PushSeen::Accepted(Duration::from_millis(200))), (2, PushSeen::Shown)]);
    approvals.note(id, PushNote::new(Some(3), PushSeen::Opened, at(61)));
    assert_eq!(seen(&approvals, id).len(), 2, "nothing is noted of what is over");
}

#[test]
fn notes_of_one_approval_are_bounded() {
    let (approvals, _events) = told();
    let id = begin(&approvals, ask("A", "breakwater", false), 1);
    for device in 0..500 {
        approvals.note(id, PushNote::new(Some(device), PushSeen::Shown, at(1)));
    }
    assert_eq!(seen(&approvals, id).len(), NOTES);
}

#[test]
fn an_answer_takes_notifications_back_from_the_other_handsets_and_a_withdrawal_from_all() {
    let (approvals, mut events) = told();
    let accepted = |approvals: &Approvals, id| {
        for device in [3, 4] {
            approvals.note(id, PushNote::new(Some(device), PushSeen::Accepted(Duration::ZERO), at(1)));
        }
        approvals.note(id, PushNote::new(Some(5), PushSeen::NotSent("no answer in time".into()), at(1)));
    };
    let id = begin(&approvals, ask("A", "breakwater", false), 1);
    accepted(&approvals, id);
    assert!(events.try_recv().is_ok());
    answer(&approvals, id, "tidehall:ines", said(Decision::Deny, None), at(2));
    assert!(matches!(events.try_recv(), Ok(Event::Over { devices, .. }) if devices == [4]), "handset 3 has answered");
    let id = begin(&approvals, ask("B", "breakwater", false), 2);
    accepted(&approvals, id);
    assert!(events.try_recv().is_ok());
    approvals.abandon(id, at(3));
    assert!(matches!(events.try_recv(), Ok(Event::Over { devices, .. }) if devices == [3, 4]));
}

#[test]
fn with_too_many_waiting_the_approval_stays_and_says_that_nobody_was_woken() {
    let (approvals, _events) = told();
    let ids: Vec<u64> = (0..3)
        .map(|number| begin(&approvals, ApprovalAsk { person: format!("tidehall:{number}"), ..ask("A", "breakwater", false) }, number + 1))
        .collect();
    assert_eq!(seen(&approvals, ids[0]), []);
    assert_eq!(seen(&approvals, ids[2]), [PushSeen::NotSent("too many approvals wait to be sent".into())]);
    assert!(approvals.asked(ids[2]).is_some());
}
