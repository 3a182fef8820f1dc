use crate::records::{FactorSettings, Marked, NewFactor, NewPerson, Records, Sync};
use bivector_core::login::CodeMark;
use bivector_model::Moment;
use bivector_model::device::{CodeKind, Used};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use rusqlite::Transaction;
use std::collections::HashMap;
use std::time::Duration;

const NOON: Moment = Moment::from_secs(1_800_000_000);
const DEVICES: u64 = 1_200;

fn person(number: u64) -> NewPerson {
    let settings = FactorSettings::default();
    let factor = NewFactor { kind: CodeKind::Totp.into(), label: "x".into(), sealed: vec![1], settings, pin: None };
    NewPerson { source: "tidehall".into(), login: format!("p{number}"), factor: Some(factor), ..NewPerson::default() }
}

fn code(device: u64, step: u64) -> CodeMark {
    let used = Used::Step { step, until: NOON, drift: (step % 3) as i64 };
    CodeMark { person: format!("tidehall:p{device}"), device: Some((device, used)), withdraw: None }
}

async fn rows_behind(records: &Records) -> i64 {
    records.read(|connection| connection.query_row("SELECT count(*) FROM step_journal", [], |row| row.get(0))).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_older_than_the_newest_used_one_of_its_device_lets_nobody_in_even_if_it_was_held_before() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    records.keep_people((1..=3).map(person).collect(), NOON).await.unwrap();
    let agreement = records.clone();
    let held = code(1, 99).device.and_then(|one| agreement.reserve("tidehall:p1", one, NOON)).unwrap();
    assert!(matches!(agreement.use_code(code(1, 100), NOON).await.unwrap(), Marked::Now(_)));
    assert_eq!(agreement.commit(held, code(1, 99), NOON).await.unwrap(), Marked::Before, "it was overtaken");
    assert_eq!(agreement.use_code(code(1, 98), NOON).await.unwrap(), Marked::Before);
    assert!(matches!(agreement.use_code(code(2, 99), NOON).await.unwrap(), Marked::Now(_)), "another device");
    // A newer code that is only held, by somebody without the password, stands in nobody's way.
    let newer = code(3, 101).device.and_then(|one| agreement.reserve("tidehall:p3", one, NOON)).unwrap();
    records.write_together(|_| Ok(())).await.unwrap();
    assert!(matches!(agreement.use_code(code(3, 100), NOON).await.unwrap(), Marked::Now(_)));
    drop(newer);
    records.close().await;
    let again = Records::open(folder.path(), Sync::Off).unwrap();
    assert_eq!(again.use_code(code(1, 99), NOON).await.unwrap(), Marked::Before);
    assert!(matches!(again.use_code(code(1, 101), NOON).await.unwrap(), Marked::Now(_)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_used_code_stays_used_when_the_clock_jumps_ten_hours_ahead_and_back() {
    const LATER: Moment = Moment::from_secs(NOON.secs() + 10 * 3600);
    let at = |now: Moment, device: u64, step: u64| {
        let used = Used::Step { step, until: now.plus(Duration::from_secs(300)), drift: 0 };
        (now, CodeMark { device: Some((device, used)), ..code(device, step) })
    };
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    records.keep_people((1..=2).map(person).collect(), NOON).await.unwrap();
    let agreement = records.clone();
    let mut used = Vec::new();
    for (now, mark) in [at(NOON, 1, 100), at(NOON, 1, 101), at(LATER, 2, 1300)] {
        assert!(matches!(agreement.use_code(mark.clone(), now).await.unwrap(), Marked::Now(_)));
        used.push(mark);
    }
    // What tidies by age does so while the clock is ahead.
    while records.fold_steps(LATER).await.unwrap() {}
    for mark in &used {
        assert_eq!(agreement.use_code(mark.clone(), NOON).await.unwrap(), Marked::Before, "{mark:?}");
    }
    records.close().await;
    let again = Records::open(folder.path(), Sync::Off).unwrap();
    for mark in used {
        assert_eq!(again.use_code(mark.clone(), NOON).await.unwrap(), Marked::Before, "after a restart: {mark:?}");
    }
}

/// Uses random codes, some held first, and compares with the newest of each device, while pieces are folded, jobs and commits fail, people change
/// and the records are opened again as after a crash.
#[tokio::test(flavor = "multi_thread")]
async fn a_code_counts_once_whatever_happens_in_between() {
    let folder = tempfile::tempdir().unwrap();
    let mut records = Records::open(folder.path(), Sync::Off).unwrap();
    records.keep_people((1..=DEVICES).map(person).collect(), NOON).await.unwrap();
    let mut random = SmallRng::seed_from_u64(7);
    let mut used: HashMap<u64, u64> = HashMap::new();
    for turn in 0..3_000u64 {
        let (device, step) = (random.random_range(1..=DEVICES), 100 + turn / 500 + random.random_range(0..4));
        let (agreement, mark) = (records.clone(), code(device, step));
        let held = mark.device.filter(|_| random.random_bool(0.5)).and_then(|code| agreement.reserve(&mark.person, code, NOON));
        let marked = match held {
            // Its password was wrong: as if nothing had been.
            Some(held) if random.random_bool(0.3) => {
                // Both are on disk before anything else is asked, or fails.
                records.write_together(|_| Ok(())).await.unwrap();
                drop(held);
                records.write_together(|_| Ok(())).await.unwrap();
                None
            }
            Some(held) if random.random_bool(0.2) => {
                // Another login with the same code comes first.
                let first = agreement.use_code(mark.clone(), NOON).await.unwrap();
                assert_eq!(agreement.commit(held, mark, NOON).await.unwrap(), Marked::Before, "turn {turn}");
                Some(first)
            }
            Some(held) if random.random_bool(0.1) => {
                // Something of an operator's fails meanwhile.
                let failing = |transaction: &Transaction<'_>| transaction.execute("INSERT INTO no_such_table VALUES (1)", []);
                assert!(records.write_people(failing).await.is_err());
                Some(agreement.commit(held, mark, NOON).await.unwrap())
            }
            Some(held) => Some(agreement.commit(held, mark, NOON).await.unwrap()),
            None => Some(agreement.use_code(mark, NOON).await.unwrap()),
        };
        if let Some(marked) = marked {
            let fresh = used.get(&device).is_none_or(|newest| step > *newest);
            assert_eq!(matches!(marked, Marked::Now(_)), fresh, "turn {turn}: {device} {step}");
            if fresh {
                used.insert(device, step);
            }
        }
        match random.random_range(0..60) {
            0..5 => drop(records.fold_steps(NOON).await.unwrap()),
            5 => {
                assert!(records.write_people(|transaction| transaction.execute("INSERT INTO no_such_table VALUES (1)", [])).await.is_err())
            }
            6 => assert!(
                records.write_together(|transaction| transaction.execute("INSERT INTO no_such_table VALUES (1)", [])).await.is_err()
            ),
            7 => records.keep_people(vec![person(device)], NOON).await.unwrap(),
            8 => {
                records.writer.stop();
                records = Records::open(folder.path(), Sync::Off).unwrap();
            }
            _ => {}
        }
    }
    records.write_together(|_| Ok(())).await.unwrap();
    let known = records.factor_states().unwrap();
    while records.fold_steps(NOON).await.unwrap() {}
    assert_eq!(rows_behind(&records).await, 0);
    assert_eq!(records.factor_states().unwrap(), known, "what is read is the same before a fold and after it");
    let last_used: Vec<&u64> = known.iter().filter(|(_, state)| state.last_used_us.is_some()).map(|(device, _)| device).collect();
    assert!(last_used.iter().all(|device| used.contains_key(device)), "nobody got in by a code that was given back");
    assert!(last_used.len() * 10 > used.len() * 9, "only what a failed commit took along is missing: {}", last_used.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn codes_that_a_fold_did_not_know_of_stay_in_the_journal() {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    records.keep_people((1..=DEVICES).map(person).collect(), NOON).await.unwrap();
    let agreement = records.clone();
    for device in 1..=DEVICES {
        agreement.use_code(code(device, 100), NOON).await.unwrap();
    }
    assert!(records.fold_steps(NOON).await.unwrap(), "there are more than one piece takes");
    agreement.use_code(code(1, 101), NOON).await.unwrap();
    while records.fold_steps(NOON).await.unwrap() {}
    assert_eq!(rows_behind(&records).await, 1);
    records.writer.stop();
    let again = Records::open(folder.path(), Sync::Off).unwrap();
    for step in [100, 101] {
        assert_eq!(again.use_code(code(1, step), NOON).await.unwrap(), Marked::Before, "{step}");
    }
    again.close().await;
    assert_eq!(rows_behind(&Records::open(folder.path(), Sync::Off).unwrap()).await, 0, "who closes leaves nothing behind");
}
