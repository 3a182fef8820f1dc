//! Logins that use the same code, counter and approval, in every order of their steps. Each order runs on every implementation. Their
//! answers must be equal, and no order may break the rules.

use super::*;
use crate::records::{FactorSettings, NewFactor, NewPerson, Records, Sync};
use bivector_model::device::CodeKind;
use std::time::Duration;

const NOON: Moment = Moment::from_secs(1_800_000_000);
const LATER: Moment = Moment::from_secs(1_900_000_000);
const TWO: Lockout = Lockout { after: 2, time: Duration::from_secs(600) };

/// One step of a login.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Step {
    /// The code is right and the password is being checked.
    Reserve(u64),
    /// The password was right.
    Commit(u64),
    /// The password was wrong, or the login was given up.
    Release,
    /// A right code without a password beside it.
    Use(u64),
    /// A wrong code.
    Wrong,
    /// An answer to the approval of this login.
    Answer,
}

/// A login, step by step.
type Script = &'static [Step];

const RIGHT: Script = &[Step::Reserve(10), Step::Commit(10)];
const WRONG_PASSWORD: Script = &[Step::Reserve(10), Step::Release];
const CODE_ONLY: Script = &[Step::Use(10)];
const NEXT_CODE: Script = &[Step::Use(11)];
const GUESSES: Script = &[Step::Wrong, Step::Wrong];
const APPROVED: Script = &[Step::Answer];

/// What is played together.
const SCENES: &[&[Script]] = &[
    &[RIGHT, RIGHT, RIGHT],
    &[RIGHT, WRONG_PASSWORD, CODE_ONLY],
    &[RIGHT, NEXT_CODE, WRONG_PASSWORD],
    &[RIGHT, GUESSES, CODE_ONLY],
    &[WRONG_PASSWORD, WRONG_PASSWORD, RIGHT],
    &[GUESSES, NEXT_CODE, RIGHT],
    &[RIGHT, RIGHT, WRONG_PASSWORD, CODE_ONLY],
    &[APPROVED, APPROVED, APPROVED, RIGHT],
];

/// All orders of the steps of some logins, each as the login whose step comes next.
fn orders(left: &mut Vec<usize>, so_far: &mut Vec<usize>, all: &mut Vec<Vec<usize>>) {
    if left.iter().all(|steps| *steps == 0) {
        all.push(so_far.clone());
    }
    for login in 0..left.len() {
        if left[login] > 0 {
            left[login] -= 1;
            so_far.push(login);
            orders(left, so_far, all);
            so_far.pop();
            left[login] += 1;
        }
    }
}

/// What one step came to.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Came {
    In,
    Before,
    Locked,
    Points(u32),
    Answered(bool),
    Nothing,
}

fn came(marked: Marked) -> Came {
    match marked {
        Marked::Now(_) => Came::In,
        Marked::Before => Came::Before,
        Marked::Locked(_) => Came::Locked,
    }
}

/// Plays one order of a scene for one person.
async fn play(agreement: &Arc<dyn Agreement>, scene: &[Script], order: &[usize], number: u64) -> Vec<(Step, Came)> {
    let person = format!("tidehall:p{number}");
    let used = |step| (number, Used::Step { step, until: LATER, drift: 0 });
    let code = |step| CodeMark { person: person.clone(), device: Some(used(step)), withdraw: None };
    let mut next = vec![0; scene.len()];
    let mut reserved: Vec<Option<Box<dyn Reserved>>> = scene.iter().map(|_| None).collect();
    let mut seen = Vec::new();
    for login in order {
        let step = scene[*login][next[*login]];
        next[*login] += 1;
        let became = match step {
            Step::Reserve(step) => {
                reserved[*login] = agreement.reserve(&person, used(step), NOON);
                Came::Nothing
            }
            Step::Commit(step) => came(reserved[*login].take().unwrap().commit(code(step), NOON).await.unwrap()),
            Step::Release => {
                reserved[*login] = None;
                Came::Nothing
            }
            Step::Use(step) => came(agreement.use_code(code(step), NOON).await.unwrap()),
            Step::Wrong => {
                let wrong = WrongTry { person: person.clone(), points: WrongTry::CODE, gateway: String::new(), ahead: None };
                Came::Points(agreement.count_wrong(wrong, TWO, NOON).await.unwrap().points)
            }
            Step::Answer => Came::Answered(agreement.publish(number, vec![*login as u8], LATER, NOON).await.unwrap()),
        };
        // What a step has begun is done before the next one begins: the order of the steps is the whole order.
        agreement.mark(format!("settled {number} {}", seen.len()).into_bytes(), LATER, NOON).await.unwrap();
        seen.push((step, became));
    }
    seen
}

/// Rules that hold in every order.
fn check(seen: &[(Step, Came)]) {
    let accepted = |code: u64| -> Vec<usize> {
        let is = |step: Step| matches!(step, Step::Commit(own) | Step::Use(own) if own == code);
        seen.iter().enumerate().filter(|(_, (step, came))| is(*step) && *came == Came::In).map(|(at, _)| at).collect()
    };
    let (older, newer) = (accepted(10), accepted(11));
    assert!(older.len() <= 1 && newer.len() <= 1, "a code let two logins in: {seen:?}");
    if let (Some(older), Some(newer)) = (older.first(), newer.first()) {
        assert!(older < newer, "an older code counted after a newer one: {seen:?}");
    }
    let locked = seen.iter().position(|(_, came)| matches!(came, Came::Points(points) if *points >= TWO.after * WrongTry::CODE));
    if let Some(locked) = locked {
        assert!(seen[locked..].iter().all(|(_, came)| *came != Came::In), "a locked person got in: {seen:?}");
    }
    let answers = seen.iter().filter(|(step, _)| *step == Step::Answer).count();
    let decided = seen.iter().filter(|(_, came)| *came == Came::Answered(true)).count();
    assert_eq!(decided, answers.min(1), "exactly one answer decides: {seen:?}");
    let tries_code = |step: &Step| matches!(step, Step::Commit(_) | Step::Use(_));
    let wrong = seen.iter().any(|(step, _)| *step == Step::Wrong);
    if !wrong && seen.iter().any(|(step, _)| tries_code(step)) {
        assert!(seen.iter().any(|(_, came)| *came == Came::In), "a right login was kept out by others: {seen:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_order_of_steps_lets_a_code_count_twice_or_passes_a_lock() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    let embedded: Arc<dyn Agreement> = Arc::new(Embedded::open(records.clone()).unwrap());
    let volatile: Arc<dyn Agreement> = Arc::new(Volatile::default());
    let mut plays: Vec<(&[Script], Vec<usize>)> = Vec::new();
    for scene in SCENES {
        let (mut left, mut all) = (scene.iter().map(|script| script.len()).collect(), Vec::new());
        orders(&mut left, &mut Vec::new(), &mut all);
        plays.extend(all.into_iter().map(|order| (*scene, order)));
    }
    assert!(plays.len() > 900, "{}", plays.len());
    // Everybody has a device of the same number as the play.
    let people = (1..=plays.len()).map(|number| {
        let factor =
            NewFactor { kind: CodeKind::Totp.into(), label: "app".into(), sealed: vec![1], settings: FactorSettings::default(), pin: None };
        NewPerson { source: "tidehall".into(), login: format!("p{number}"), factor: Some(factor), ..NewPerson::default() }
    });
    records.keep_people(people.collect(), NOON).await.unwrap();
    for (number, (scene, order)) in (1..).zip(&plays) {
        let seen = play(&embedded, scene, order, number).await;
        check(&seen);
        assert_eq!(seen, play(&volatile, scene, order, number).await, "both implementations agree on {order:?} of {scene:?}");
    }
}
