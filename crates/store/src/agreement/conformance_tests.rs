//! What every implementation of [`Agreement`] must do. Each test runs against all of them.

use super::*;
use crate::records::{FactorSettings, NewFactor, NewPerson, Records, Sync};
use bivector_model::device::CodeKind;
use futures_util::future::join_all;
use std::time::Duration;

const NOON: Moment = Moment::from_secs(1_800_000_000);
const LATER: Moment = Moment::from_secs(1_900_000_000);
const LIMIT: Limit = Limit { free: 3, wait: Duration::from_secs(10), longest: Duration::from_secs(60), forget: Duration::from_secs(600) };
const FIVE: Lockout = Lockout { after: 5, time: Duration::from_secs(600) };
const INES: &str = "tidehall:ines";

/// One implementation with a device by time, number 1, of one person.
struct World {
    name: &'static str,
    agreement: Arc<dyn Agreement>,
    _folder: Option<tempfile::TempDir>,
}

async fn embedded(sync: Sync) -> World {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), sync).unwrap();
    let settings = FactorSettings::default();
    let factor = NewFactor { kind: CodeKind::Totp.into(), label: "app".into(), sealed: vec![1], settings, pin: None };
    let person = NewPerson { source: "tidehall".into(), login: "ines".into(), factor: Some(factor), ..NewPerson::default() };
    records.keep_people(vec![person], NOON).await.unwrap();
    World { name: "embedded", agreement: Arc::new(Embedded::open(records).unwrap()), _folder: Some(folder) }
}

async fn worlds() -> [World; 2] {
    [embedded(Sync::Off).await, World { name: "volatile", agreement: Arc::new(Volatile::default()), _folder: None }]
}

fn step(step: u64) -> (u64, Used) {
    (1, Used::Step { step, until: LATER, drift: 0 })
}

fn code(number: u64) -> CodeMark {
    CodeMark { person: INES.into(), device: Some(step(number)), withdraw: None }
}

fn wrong() -> WrongTry {
    WrongTry { person: INES.into(), points: WrongTry::CODE, gateway: "breakwater".into(), ahead: None }
}

/// Runs something a hundred times at once; gives how often it was true.
async fn of_a_hundred<F: Future<Output = bool> + Send + 'static>(one: impl Fn() -> F) -> usize {
    let tasks: Vec<_> = (0..100).map(|_| tokio::spawn(one())).collect();
    join_all(tasks).await.into_iter().filter(|done| *done.as_ref().unwrap()).count()
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_hundred_at_once_exactly_one_puts_a_mark_takes_a_value_and_publishes() {
    for world in worlds().await {
        let own = || Arc::clone(&world.agreement);
        let put = |agreement: Arc<dyn Agreement>| async move { agreement.mark(vec![7], LATER, NOON).await.unwrap() };
        assert_eq!(of_a_hundred(|| put(own())).await, 1, "{}", world.name);
        world.agreement.store(vec![1], b"sealed".to_vec(), LATER, NOON).await.unwrap();
        let take = |agreement: Arc<dyn Agreement>| async move {
            match agreement.take(vec![1], NOON).await.unwrap() {
                Took::Value(value) => value == b"sealed",
                other => other != Took::Before,
            }
        };
        assert_eq!(of_a_hundred(|| take(own())).await, 1, "{}", world.name);
        assert_eq!(world.agreement.take(vec![2], NOON).await.unwrap(), Took::Never, "{}", world.name);
        assert!(world.agreement.take_once(b"name", LATER, NOON).await.unwrap(), "{}", world.name);
        assert!(!world.agreement.take_once(b"name", LATER, NOON).await.unwrap(), "{}", world.name);
        let publish = |agreement: Arc<dyn Agreement>| async move { agreement.publish(9, vec![1], LATER, NOON).await.unwrap() };
        assert_eq!(of_a_hundred(|| publish(own())).await, 1, "{}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn everybody_who_waits_for_a_topic_gets_its_first_value() {
    for world in worlds().await {
        let waiting: Vec<_> = (0..20)
            .map(|_| Arc::clone(&world.agreement))
            .map(|agreement| tokio::spawn(async move { agreement.published(7).await.unwrap() }))
            .collect();
        tokio::task::yield_now().await;
        assert!(world.agreement.publish(7, b"yes".to_vec(), LATER, NOON).await.unwrap());
        assert!(!world.agreement.publish(7, b"no".to_vec(), LATER, NOON).await.unwrap(), "{}", world.name);
        for one in waiting {
            assert_eq!(&*one.await.unwrap(), b"yes", "{}", world.name);
        }
        assert_eq!(&*world.agreement.published(7).await.unwrap(), b"yes", "whoever comes later gets it too: {}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_is_used_by_one_and_neither_it_nor_an_older_one_by_another() {
    for world in worlds().await {
        let used = |agreement: Arc<dyn Agreement>| async move {
            matches!(agreement.use_code(code(50), NOON).await.unwrap(), Marked::Now(Some(_)))
        };
        assert_eq!(of_a_hundred(|| used(Arc::clone(&world.agreement))).await, 1, "{}", world.name);
        assert_eq!(world.agreement.use_code(code(49), NOON).await.unwrap(), Marked::Before, "{}", world.name);
        assert!(matches!(world.agreement.use_code(code(51), NOON).await.unwrap(), Marked::Now(_)), "{}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_right_code_resets_the_count_and_a_lock_refuses_even_a_right_one_until_it_is_over() {
    for world in worlds().await {
        let agreement = &world.agreement;
        for count in 1..=4 {
            let lock = agreement.count_wrong(wrong(), FIVE, NOON).await.unwrap();
            assert_eq!((lock.points, lock.locked_until_us), (count * WrongTry::CODE, None), "{}", world.name);
        }
        assert!(matches!(agreement.use_code(code(10), NOON).await.unwrap(), Marked::Now(_)), "{}", world.name);
        for _ in 1..=5 {
            agreement.count_wrong(wrong(), FIVE, NOON).await.unwrap();
        }
        let until = NOON.plus(FIVE.time);
        assert_eq!(agreement.use_code(code(11), NOON).await.unwrap(), Marked::Locked(until), "{}", world.name);
        let after = until.plus(Duration::from_secs(1));
        assert!(matches!(agreement.use_code(code(11), after).await.unwrap(), Marked::Now(_)), "the lock used up no code: {}", world.name);
        assert_eq!(agreement.count_wrong(wrong(), FIVE, after).await.unwrap().points, WrongTry::CODE, "{}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_reservation_is_committed_once_released_when_dropped_and_obeys_a_lock_that_came_since() {
    for world in worlds().await {
        let agreement = &world.agreement;
        let settle = || async {
            let _ = agreement.take_once(b"settled", LATER, NOON).await.unwrap();
        };
        let reserve = |number| agreement.reserve(INES, step(number), NOON).unwrap();
        drop(reserve(10));
        settle().await;
        let (first, second) = (reserve(10), reserve(10));
        settle().await;
        assert!(first.is_for(&code(10)) && !first.is_for(&code(11)));
        assert!(matches!(second.commit(code(10), NOON).await.unwrap(), Marked::Now(_)), "whose password is right first: {}", world.name);
        assert_eq!(first.commit(code(10), NOON).await.unwrap(), Marked::Before, "{}", world.name);
        let third = reserve(11);
        assert!(matches!(agreement.use_code(code(11), NOON).await.unwrap(), Marked::Now(_)), "a reservation is no use: {}", world.name);
        assert_eq!(third.commit(code(11), NOON).await.unwrap(), Marked::Before, "{}", world.name);
        let fourth = reserve(12);
        settle().await;
        for _ in 0..5 {
            agreement.count_wrong(wrong(), FIVE, NOON).await.unwrap();
        }
        let locked = fourth.commit(code(12), NOON).await.unwrap();
        assert_eq!(locked, Marked::Locked(NOON.plus(FIVE.time)), "{}", world.name);
        assert!(agreement.reserve(INES, (1, Used::Turn), NOON).is_none(), "only codes by time are reserved: {}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn attempts_count_from_their_beginning_in_every_place_or_in_none() {
    for world in worlds().await {
        let agreement = &world.agreement;
        let from = Counted::new(Tally::PasswordsFrom, "198.51.100.7", Limit { free: 10, ..LIMIT });
        let about = Counted { lasting: Some("breakwater".into()), ..Counted::new(Tally::PasswordsAbout, INES, LIMIT) };
        let places = [from.clone(), about.clone()];
        let begin = |agreement: Arc<dyn Agreement>, places: [Counted; 2]| async move {
            agreement.begin_attempt(&places, NOON).await.unwrap().is_ok()
        };
        let begun = of_a_hundred(|| begin(Arc::clone(agreement), places.clone())).await;
        assert_eq!(begun, 3, "{}", world.name);
        let refused = agreement.begin_attempt(&places, NOON).await.unwrap().unwrap_err();
        assert_eq!((refused.tally, refused.refused.wrong), (Tally::PasswordsAbout, 3), "{}", world.name);
        let wrong = || places.iter().cloned().map(|place| (place, Ended::Wrong)).collect();
        for count in 1..=3 {
            let counts = agreement.end_attempt(wrong(), NOON).await.unwrap();
            assert_eq!((counts[0].wrong, counts[1].wrong), (count, count), "{}: what was refused is counted nowhere", world.name);
        }
        let known = agreement.attempts(&about, NOON);
        assert_eq!((known.wrong, known.until, known.gateway.as_str()), (3, Some(NOON.plus(LIMIT.wait)), "breakwater"), "{}", world.name);
        assert!(agreement.begin_attempt(&[Counted { anyway: true, ..about.clone() }], NOON).await.unwrap().is_ok());
        agreement.end_attempt(vec![(about.clone(), Ended::Uncounted)], NOON).await.unwrap();
        assert!(agreement.forget_attempts_about(INES).await.unwrap() && !agreement.forget_attempts_about(INES).await.unwrap());
        assert_eq!(agreement.attempts(&about, NOON).wrong, 0, "{}", world.name);
        assert_eq!(agreement.attempts(&from, NOON).wrong, 3, "{}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_has_one_holder_until_that_one_releases_it_or_its_time_is_over() {
    for world in worlds().await {
        let agreement = &world.agreement;
        let until = NOON.plus(Duration::from_secs(45));
        let claim = |value: u64, seconds: u64| agreement.claim(INES.into(), value, until, NOON.plus(Duration::from_secs(seconds)));
        assert_eq!(claim(1, 0).await.unwrap(), Ok(()), "{}", world.name);
        assert_eq!(claim(2, 1).await.unwrap(), Err(1), "{}", world.name);
        agreement.release(INES.into(), 2).await.unwrap();
        assert_eq!(claim(2, 2).await.unwrap(), Err(1), "only its holder releases it: {}", world.name);
        agreement.release(INES.into(), 1).await.unwrap();
        assert_eq!(claim(2, 3).await.unwrap(), Ok(()), "{}", world.name);
        assert_eq!(claim(3, 45).await.unwrap(), Ok(()), "{}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_allowance_is_spent_at_once_and_comes_back_over_its_period() {
    for world in worlds().await {
        let agreement = &world.agreement;
        let allow = |key: &str, most| Allowance { rate: Rate::CodesToPerson, key: key.into(), most, period: Duration::from_secs(3_600) };
        let all = Allowance { rate: Rate::Codes, key: String::new(), most: 4, period: Duration::from_secs(60) };
        let spend = |key: &'static str, seconds| agreement.spend(vec![allow(key, 3), all.clone()], NOON.plus(Duration::from_secs(seconds)));
        for _ in 0..3 {
            assert_eq!(spend(INES, 0).await.unwrap(), Ok(()), "{}", world.name);
        }
        assert_eq!(spend(INES, 0).await.unwrap(), Err(Rate::CodesToPerson), "{}", world.name);
        assert_eq!(spend("tidehall:pell", 0).await.unwrap(), Ok(()), "somebody else is not limited: {}", world.name);
        assert_eq!(spend("tidehall:yuki", 0).await.unwrap(), Err(Rate::Codes), "{}", world.name);
        assert_eq!(spend(INES, 1_199).await.unwrap(), Err(Rate::CodesToPerson), "{}", world.name);
        assert_eq!(spend(INES, 1_200).await.unwrap(), Ok(()), "a third of the hour brings one back: {}", world.name);
        assert_eq!(spend(INES, 1_201).await.unwrap(), Err(Rate::CodesToPerson), "{}", world.name);
        let none = agreement.spend(vec![allow("tidehall:odo", 0)], NOON).await.unwrap();
        assert_eq!(none, Err(Rate::CodesToPerson), "{}", world.name);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_allows_something_and_what_counts_for_long_outlives_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Full).unwrap();
    let agreement: Arc<dyn Agreement> = Arc::new(Embedded::open(records.clone()).unwrap());
    let about = Counted { lasting: Some("breakwater".into()), ..Counted::new(Tally::PasswordsAbout, INES, LIMIT) };
    agreement.begin_attempt(std::slice::from_ref(&about), NOON).await.unwrap().unwrap();
    agreement.end_attempt(vec![(about.clone(), Ended::Wrong)], NOON).await.unwrap();
    agreement.store(vec![1], b"sealed".to_vec(), LATER, NOON).await.unwrap();
    assert!(agreement.mark(vec![2], LATER, NOON).await.unwrap());
    agreement.count_wrong(wrong(), FIVE, NOON).await.unwrap();
    records.close().await;
    let agreement: Arc<dyn Agreement> = Arc::new(Embedded::open(Records::open(folder.path(), Sync::Full).unwrap()).unwrap());
    assert_eq!(agreement.attempts(&about, NOON).wrong, 1);
    assert_eq!(agreement.take(vec![1], NOON).await.unwrap(), Took::Value(b"sealed".to_vec()));
    assert!(!agreement.mark(vec![2], LATER, NOON).await.unwrap());
    assert_eq!(agreement.count_wrong(wrong(), FIVE, NOON).await.unwrap().points, 2 * WrongTry::CODE);
}
