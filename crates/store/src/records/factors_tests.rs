use super::*;
use crate::records::steps::{ROOM, STEPS_BEHIND};
use crate::records::{FactorSettings, NewPerson, Sync};
use bivector_model::device::CodeKind;
use std::time::Duration;

pub(in crate::records) const NOON: Moment = Moment::from_secs(1_800_000_000);
pub(in crate::records) const FIVE: Lockout = Lockout { after: 5, time: Duration::from_secs(900) };

pub(in crate::records) fn wrong(points: u32) -> WrongTry {
    WrongTry { person: "tidehall:ines".into(), points, ahead: None, gateway: "breakwater".into() }
}

pub(in crate::records) fn mark(device: u64, used: Used) -> CodeMark {
    CodeMark { person: "tidehall:ines".into(), device: Some((device, used)), withdraw: None }
}

/// A person with one factor; its number is 1.
pub(in crate::records) async fn records_with(kind: CodeKind, settings: FactorSettings) -> (tempfile::TempDir, Records) {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    let factor = NewFactor { kind: kind.into(), label: "x".into(), sealed: vec![1], settings, pin: None };
    let person = NewPerson { source: "tidehall".into(), login: "ines".into(), factor: Some(factor), ..NewPerson::default() };
    records.keep_people(vec![person], NOON).await.unwrap();
    (folder, records)
}

#[tokio::test(flavor = "multi_thread")]
async fn of_many_guesses_at_once_a_right_code_behind_the_fifth_is_refused() {
    let (_folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
    let agreement = records;
    let until = Moment::from_secs(1_900_000_000);
    let guesses: Vec<_> = (0..40)
        .map(|_| agreement.clone())
        .map(|agreement| tokio::spawn(async move { agreement.count_wrong(wrong(WrongTry::CODE), FIVE, NOON).await.unwrap() }))
        .collect();
    for guess in guesses {
        guess.await.unwrap();
    }
    let right = mark(1, Used::Step { step: 9, until, drift: 0 });
    let locked_until = NOON.plus(FIVE.time);
    assert_eq!(agreement.use_code(right.clone(), NOON).await.unwrap(), Marked::Locked(locked_until));
    let later = locked_until.plus(Duration::from_secs(1));
    let used = agreement.use_code(right.clone(), later).await.unwrap();
    assert!(matches!(used, Marked::Now(Some(state)) if state.last_used_us == Some(later.micros())), "{used:?}");
    assert_eq!(agreement.use_code(right, later).await.unwrap(), Marked::Before, "a locked person's code was not used up, now it is");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_right_code_forgets_the_wrong_ones_and_a_lock_that_is_over_leaves_nothing() {
    let (_folder, records) = records_with(CodeKind::Hotp, FactorSettings::default()).await;
    let agreement = records.clone();
    for count in 1..=4 {
        let lock = agreement.count_wrong(wrong(WrongTry::CODE), FIVE, NOON).await.unwrap();
        assert_eq!((lock.points, lock.locked_until_us), (count * WrongTry::CODE, None));
    }
    assert!(matches!(agreement.use_code(mark(1, Used::Counter(7)), NOON).await.unwrap(), Marked::Now(Some(state)) if state.counter == 8));
    assert_eq!(agreement.use_code(mark(1, Used::Counter(7)), NOON).await.unwrap(), Marked::Before);
    assert!(records.locks().unwrap().is_empty());
    for _ in 0..50 {
        agreement.count_wrong(wrong(WrongTry::PROOF), FIVE, NOON).await.unwrap();
    }
    assert!(records.locks().unwrap()["tidehall:ines"].locked_until_us.is_some(), "fifty proofs count as five codes");
    let after = NOON.plus(FIVE.time).plus(Duration::from_secs(1));
    assert_eq!(agreement.count_wrong(wrong(WrongTry::CODE), FIVE, after).await.unwrap().points, WrongTry::CODE);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_used_step_stays_used_for_a_device_for_a_robot_and_for_one_that_was_away() {
    let (folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
    let agreement = records.clone();
    let until = Moment::from_secs(1_900_000_000);
    let step = |step| Used::Step { step, until, drift: 0 };
    // Record number 1 is a device, 77 a robot's token that no record has.
    for device in [1, 77] {
        for number in [99, 100, 101] {
            assert!(matches!(agreement.use_code(mark(device, step(number)), NOON).await.unwrap(), Marked::Now(_)), "{device} {number}");
            assert_eq!(agreement.use_code(mark(device, step(number)), NOON).await.unwrap(), Marked::Before, "{device} {number}");
        }
    }
    assert!(records.remove_factor("tidehall".into(), "ines".into(), 1).await.unwrap());
    let back = "INSERT INTO factors SELECT 1, id, 'totp', 'x', x'01', '{}', 0, NULL FROM people";
    records.write(|transaction| transaction.execute(back, [])).await.unwrap();
    records.close().await;
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    let agreement = records.clone();
    for device in [1, 77] {
        assert_eq!(agreement.use_code(mark(device, step(100)), NOON).await.unwrap(), Marked::Before, "{device}");
    }
    // What lies far behind makes room; it can never be right again.
    for number in (200..220).chain([100 + 2 * STEPS_BEHIND]) {
        agreement.use_code(mark(1, step(number)), NOON).await.unwrap();
    }
    assert!(!records.fold_steps(NOON).await.unwrap());
    let left = records.read(|connection| connection.query_row("SELECT length(steps) FROM factor_states", [], |row| row.get::<_, i64>(0)));
    assert_eq!(left.await.unwrap(), 8 * ROOM as i64);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_whose_commit_failed_was_not_used() {
    let (_folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
    let agreement = records.clone();
    let code = mark(1, Used::Step { step: 100, until: Moment::from_secs(1_900_000_000), drift: 0 });
    let ((open, gate), (enter, entered)) = (std::sync::mpsc::channel::<()>(), std::sync::mpsc::channel::<()>());
    // Holds the writer until both are handed over, so that one commit has them.
    records.post(
        move |_| {
            let _ = enter.send(());
            gate.recv().map_err(|_| rusqlite::Error::InvalidQuery)
        },
        || {},
    );
    entered.recv().unwrap();
    let break_it = async {
        records.post(|transaction| transaction.execute("INSERT INTO no_such_table VALUES (1)", []).map(|_| ()), || {});
        open.send(()).unwrap();
    };
    let (failed, ()) = tokio::join!(agreement.use_code(code.clone(), NOON), break_it);
    assert!(failed.unwrap_err().to_string().contains("no_such_table"));
    assert!(matches!(agreement.use_code(code.clone(), NOON).await.unwrap(), Marked::Now(_)));
    assert_eq!(agreement.use_code(code, NOON).await.unwrap(), Marked::Before);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_login_without_a_task_hears_of_its_code_and_that_nothing_is_written_any_more() {
    let (_folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
    let agreement = records.clone();
    let used = async || {
        let (tell, told) = tokio::sync::oneshot::channel();
        let code = mark(1, Used::Step { step: 100, until: Moment::from_secs(1_900_000_000), drift: 0 });
        agreement.use_code_then(code, NOON, move |marked| tell.send(marked).unwrap());
        told.await.unwrap()
    };
    assert!(matches!(used().await.unwrap(), Marked::Now(_)));
    assert_eq!(used().await.unwrap(), Marked::Before);
    records.close().await;
    assert!(used().await.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn codes_that_were_used_under_layouts_before_stay_used() {
    let (folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
    // The seventh had a mark for each code; the eighth a row for each device, also for one that was gone by then.
    let back = "DROP TRIGGER steps_put_aside; ALTER TABLE factor_states DROP COLUMN steps; DROP TABLE used_steps;
        DROP TABLE step_journal; DROP TABLE guesses; DROP TABLE sign_ins; DROP TABLE ended_sign_ins;
        ALTER TABLE changes DROP COLUMN pending; DROP TABLE replaced_traces; DROP TABLE feed; DROP TABLE pushes; DROP TABLE push_keys;
        DROP TABLE sessions; DROP TABLE session_restarts; DROP TABLE leases; DROP TABLE admissions; PRAGMA user_version = 7;";
    records
        .write(move |transaction| {
            transaction.execute_batch(back)?;
            for device in [1u64, 9] {
                let key = [b"totp".as_slice(), &device.to_be_bytes(), &100u64.to_be_bytes()].concat();
                transaction.execute("INSERT INTO marks VALUES (?1, 1)", [key])?;
            }
            transaction.execute("INSERT INTO marks VALUES (x'746f6f6b', 1)", [])
        })
        .await
        .unwrap();
    records.close().await;
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    let put_aside = records.read_now(|connection| connection.query_row("SELECT factor FROM used_steps", [], |row| row.get::<_, u64>(0)));
    assert_eq!(put_aside.unwrap(), 9);
    let agreement = records;
    let step = |step| Used::Step { step, until: Moment::from_secs(1_900_000_000), drift: 0 };
    assert_eq!(agreement.use_code(mark(1, step(100)), NOON).await.unwrap(), Marked::Before);
    assert!(matches!(agreement.use_code(mark(1, step(101)), NOON).await.unwrap(), Marked::Now(_)));
}

#[tokio::test(flavor = "multi_thread")]
async fn entries_and_turns_are_good_as_often_as_they_say_even_at_once() {
    let (_folder, records) = records_with(CodeKind::Temporary, FactorSettings { uses: Some(3), ..FactorSettings::default() }).await;
    let agreement = records.clone();
    let tries: Vec<_> = (0..20)
        .map(|_| agreement.clone())
        .map(|agreement| tokio::spawn(async move { agreement.use_code(mark(1, Used::Turn), NOON).await.unwrap() }))
        .collect();
    let mut good = 0;
    for one in tries {
        good += usize::from(matches!(one.await.unwrap(), Marked::Now(_)));
    }
    assert_eq!(good, 3);
    for (entry, fresh) in [(4, true), (4, false), (63, true)] {
        let marked = agreement.use_code(mark(1, Used::Entry(entry)), NOON).await.unwrap();
        assert_eq!(matches!(marked, Marked::Now(_)), fresh, "{entry}");
    }
    assert_eq!(agreement.use_code(mark(77, Used::Turn), NOON).await.unwrap(), Marked::Before, "a factor that is gone lets nobody in");
}
