use super::chunk::{read_bodies, read_body, unpack, write, write_bodies, write_body};
use super::keep::{chunks, insert_chunks, take_over};
use super::*;
use crate::records::{Records, Sync};
use bivector_api::traces::TraceRow;
use bivector_model::facts::Facts;
use bivector_model::trace::{Hop, Step, Tone};
use bivector_site::TraceKeeping;
use proptest::collection::vec;
use proptest::prelude::*;
use std::time::Duration;
use tokio::runtime::{Builder, Runtime};

fn step(said: &str) -> Step {
    Step { hop: Hop::Reply, what: "accept".into(), tone: Tone::Good, at_us: 3, took_us: 4, said: said.into(), line: Some(7) }
}

/// A trace that ended as many seconds after 1970 as its number says; every tenth is refused, every third is Yuki's.
fn entry(id: u64) -> Entry {
    let login = if id.is_multiple_of(3) { "yuki" } else { "ines" };
    let cause = id.is_multiple_of(10).then_some(Cause::CodeWrong);
    let row = TraceRow {
        id,
        reference: format!("R{id}"),
        began_us: id * 1_000_000,
        took_us: 0,
        origin: if id.is_multiple_of(100) { Origin::Rehearsal } else { Origin::Gateway },
        gateway: "breakwater".into(),
        sender: "127.0.0.11:1".into(),
        chain: "staff".into(),
        typed_name: format!("NORTHMOOR\\{login}"),
        login: login.into(),
        person: Some(format!("tidehall:{login}")),
        method: "pap".into(),
        source: None,
        outcome: if cause.is_some() { Outcome::Refused } else { Outcome::Accepted },
        cause,
        grant: None,
        factor: Some("totp".into()),
        waived: None,
        revision: 1 + id / 400,
    };
    Entry { row, body: write_body(&[step(&format!("login {id}"))], Some("{}")), replaces: None }
}

fn records() -> (tempfile::TempDir, Records, Runtime) {
    let folder = tempfile::tempdir().unwrap();
    let records = Records::open(folder.path(), Sync::Off).unwrap();
    (folder, records, Builder::new_current_thread().build().unwrap())
}

/// Writes traces with these numbers, so many in a row of the records.
fn write_all(records: &Records, runtime: &Runtime, numbers: impl Iterator<Item = u64>, at_once: usize) {
    let all: Vec<_> = numbers.map(entry).collect();
    let job =
        move |transaction: &rusqlite::Transaction<'_>| all.chunks(at_once).try_for_each(|some| insert_chunks(transaction, &chunks(some)));
    runtime.block_on(records.write(job)).unwrap();
}

fn count(records: &Records, what: &str) -> i64 {
    records.read_now(|connection| connection.query_row(&format!("SELECT {what} FROM trace_chunks"), [], |row| row.get(0))).unwrap()
}

fn tidy(records: &Records, runtime: &Runtime, keeping: TraceKeeping) -> (i64, i64) {
    let mut tidied = 0;
    loop {
        let (more, before) =
            runtime.block_on(records.write(move |transaction| tidy_traces(transaction, keeping, 1_000_000_000, tidied))).unwrap();
        tidied = before;
        if !more {
            return (count(records, "coalesce(sum(traces), 0)"), count(records, "count(*)"));
        }
    }
}

fn listed(records: &Records, runtime: &Runtime, filter: TraceFilter) -> Vec<u64> {
    runtime.block_on(records.traces(TraceFilter { limit: Some(500), ..filter })).unwrap().iter().map(|row| row.id).collect()
}

#[test]
fn the_oldest_traces_make_room_by_number_and_by_age_to_the_very_one() {
    let (_folder, records, runtime) = records();
    write_all(&records, &runtime, 1..=1000, 70);
    let prune = |count: u64, time: Option<u64>| {
        tidy(&records, &runtime, TraceKeeping { count, time: time.map(Duration::from_secs), keep_unknown_names: false }).0
    };
    assert_eq!(prune(2000, None), 1000, "there is room");
    assert_eq!(prune(300, None), 300);
    assert_eq!(prune(300, Some(100)), 101, "those that ended in the last hundred seconds");
    assert_eq!(listed(&records, &runtime, TraceFilter::default()), (900..=1000).rev().collect::<Vec<_>>());
    let bodies: i64 =
        records.read_now(|connection| connection.query_row("SELECT count(*) FROM trace_bodies", [], |row| row.get(0))).unwrap();
    assert_eq!(bodies, count(&records, "count(*)"), "none is left without its traces");
    runtime.block_on(records.close());
}

#[test]
fn small_pieces_are_put_together_and_nothing_of_a_trace_is_lost_by_it() {
    let (_folder, records, runtime) = records();
    write_all(&records, &runtime, 1..=900, 3);
    write_all(&records, &runtime, 901..=1400, 500);
    write_all(&records, &runtime, 1401..=1405, 1);
    let whole = |records: &Records| {
        let filter = TraceFilter { after: Some(800), limit: Some(500), ..TraceFilter::default() };
        runtime.block_on(records.whole_traces(filter)).unwrap()
    };
    let before = whole(&records);
    assert_eq!(count(&records, "count(*)"), 306);
    let (traces, chunks) = tidy(&records, &runtime, TraceKeeping::default());
    assert_eq!(traces, 1405);
    assert!(chunks <= 5, "{chunks}");
    assert_eq!(whole(&records), before);
    assert_eq!(before[0].1[0].said, "login 801");
    runtime.block_on(records.close());
}

#[test]
fn every_filter_finds_what_looking_at_each_trace_finds() {
    let (_folder, records, runtime) = records();
    write_all(&records, &runtime, (1..=1000).filter(|number| number % 7 != 0), 64);
    let all: Vec<TraceRow> = (1..=1000).filter(|number| number % 7 != 0).map(|number| entry(number).row).collect();
    type Test = fn(&TraceRow) -> bool;
    let some = |text: &str| Some(text.to_owned());
    let default = TraceFilter::default;
    let cases: [(TraceFilter, Test); 12] = [
        (TraceFilter { person: some("yuki"), cause: some("code-wrong"), revision: Some(3), ..default() }, |row| {
            row.login == "yuki" && row.cause.is_some() && row.revision == 3
        }),
        (TraceFilter { q: some("nobody"), ..default() }, |_| false),
        (TraceFilter { person: some("Yuki"), ..default() }, |row| row.login == "yuki"),
        (TraceFilter { cause: some("code-wrong"), ..default() }, |row| row.cause.is_some()),
        (TraceFilter { outcome: some("refused"), person: some("ines"), ..default() }, |row| row.cause.is_some() && row.login == "ines"),
        (TraceFilter { origin: some("rehearsal"), ..default() }, |row| row.origin == Origin::Rehearsal),
        (TraceFilter { revision: Some(2), ..default() }, |row| row.revision == 2),
        (TraceFilter { q: some("yu"), ..default() }, |row| row.login == "yuki"),
        (TraceFilter { q: some("r12"), ..default() }, |row| row.reference == "R12"),
        (TraceFilter { gateway: some("lantern"), ..default() }, |_| false),
        // A text that stands in another column is no hit.
        (TraceFilter { gateway: some("staff"), ..default() }, |_| false),
        (TraceFilter { since_us: Some(10_000_000), until_us: Some(16_000_000), ..default() }, |row| (10..16).contains(&row.id)),
    ];
    for (filter, test) in cases {
        let wanted: Vec<u64> = all.iter().rev().filter(|row| test(row)).take(500).map(|row| row.id).collect();
        assert_eq!(listed(&records, &runtime, filter.clone()), wanted, "{filter:?}");
    }
    let page = TraceFilter { before: Some(500), after: Some(490), ..default() };
    assert_eq!(listed(&records, &runtime, page), [499, 498, 496, 495, 494, 493, 492, 491]);
    let failures = runtime.block_on(records.failures(0, 100_000_000, None)).unwrap();
    let failed: u64 = failures.failed.iter().map(|span| span.count).sum();
    assert_eq!(failed as usize, all.iter().filter(|row| row.cause.is_some() && row.origin == Origin::Gateway).count());
    runtime.block_on(records.close());
}

#[test]
fn a_trace_that_waits_is_numbered_written_with_the_others_and_found_by_its_reference() {
    let (folder, records, runtime) = records();
    for number in 1..=3 {
        assert!(matches!(records.add_trace(entry(number)), Added::First(id) | Added::Joined(id) if id == number));
    }
    runtime.block_on(records.write_traces(drop));
    records.add_step("R2".into(), step("afterwards"));
    let (row, steps, _) = loop {
        match runtime.block_on(records.trace("r2".into())).unwrap() {
            Some(found) if found.1.len() == 2 => break found,
            _ => std::thread::yield_now(),
        }
    };
    assert_eq!((row.id, steps[1].said.as_str(), steps[1].at_us), (2, "afterwards", 10));
    runtime.block_on(records.close());
    let again = Records::open(folder.path(), Sync::Off).unwrap();
    assert!(matches!(again.add_trace(entry(9)), Added::First(4)), "numbers go on");
}

/// What is on disk must be read by every later version: change these bytes only together with a new layout.
#[test]
fn what_was_written_once_is_read_for_ever() {
    let body = write_body(&[step("x")], Some("{\"port\":7}"));
    let kept = [1, 5, 0, 6, 97, 99, 99, 101, 112, 116, 3, 4, 1, 120, 1, 7, 1, 10, 123, 34, 112, 111, 114, 116, 34, 58, 55, 125];
    assert_eq!(body, kept);
    assert_eq!(read_body(&kept), (vec![step("x")], Some(Facts { port: 7, ..Facts::default() })));
    assert_eq!(read_body(&kept[..9]), (Vec::new(), None), "damaged");
    let written = write(&[entry(20)]);
    let two = [&[1, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2][..], &[3]];
    let before = vec![2, 17, 1, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 1, 3];
    let packed = vec![0, 21, 0, 0, 0, 72, 2, 17, 1, 2, 1, 0, 80, 2, 2, 2, 1, 3];
    for kept in [before, packed.clone()] {
        assert_eq!(read_bodies(&unpack(kept)), two);
    }
    assert_eq!(read_bodies(&unpack(packed[..9].to_vec())), [] as [&[u8]; 0], "damaged");
    assert_eq!(read_bodies(&unpack(written.bodies)), [entry(20).body]);
    let texts = written.texts.split(|byte| *byte == 0xff).map(|text| String::from_utf8(text.to_vec()).unwrap()).collect::<Vec<_>>();
    assert_eq!(
        texts.join("|"),
        "|R20|gateway|breakwater|127.0.0.11:1|staff|NORTHMOOR\\ines|ines|tidehall:ines|pap|refused|code-wrong|totp|"
    );
    assert_eq!(String::from_utf8_lossy(&written.keys), "�breakwater�staff�gateway�refused�code-wrong�ines�#1�");
    assert_eq!(written.marks, [1, 0, 2, 0, 3, 0, 4, 0, 5, 0, 6, 0, 7, 0]);
    assert_eq!(written.refs, b"\xffR20\xff");
    assert_eq!(written.heads, [1, 20, 128, 218, 196, 9, 0, 1, 1, 2, 3, 4, 5, 6, 7, 8, 9, 0, 10, 11, 0, 12, 0]);
}

proptest! {
    #[test]
    fn bodies_are_joined_as_they_are_read(bodies in vec(vec(any::<u8>(), 0..400), 0..20)) {
        let bodies: Vec<&[u8]> = bodies.iter().map(Vec::as_slice).collect();
        let unpacked = unpack(write_bodies(&bodies));
        prop_assert_eq!(&unpacked, &postcard::to_stdvec(&bodies).unwrap());
        prop_assert_eq!(read_bodies(&unpacked), bodies);
    }

    #[test]
    fn steps_of_any_length_come_back(said in "[a-zé]{0,200}", count in 0..60usize) {
        let steps = vec![step(&said); count];
        prop_assert_eq!(read_body(&write_body(&steps, None)), (steps, None));
    }
}

#[test]
fn traces_of_the_layout_before_are_taken_over_with_steps_and_facts() {
    let (_folder, records, runtime) = records();
    let job = |transaction: &rusqlite::Transaction<'_>| {
        transaction.execute_batch(
            r#"CREATE TABLE traces (
                 id INTEGER PRIMARY KEY, reference TEXT, began_us INTEGER, took_us INTEGER, origin TEXT, gateway TEXT, sender TEXT, chain TEXT,
                 typed_name TEXT, login TEXT, person TEXT, method TEXT, source TEXT, outcome TEXT, cause TEXT, granted TEXT,
                 revision INTEGER, factor TEXT, waived TEXT);
               CREATE TABLE trace_steps (trace INTEGER PRIMARY KEY, steps TEXT, facts TEXT);
               INSERT INTO traces VALUES (5, 'OLD', 5, 6, 'gateway', 'breakwater', '127.0.0.11:1', 'staff', 'ines', 'ines', NULL, 'pap',
                 'tidehall', 'refused', 'code-wrong', NULL, 3, NULL, NULL);
               INSERT INTO trace_steps VALUES (5,
                 '[{"hop":"reply","what":"accept","tone":"good","at_us":3,"took_us":4,"said":"x","line":7}]', '{"port":7}');"#,
        )?;
        take_over(transaction)
    };
    runtime.block_on(records.write(job)).unwrap();
    let (row, steps, _) = runtime.block_on(records.trace("old".into())).unwrap().unwrap();
    assert_eq!((row.id, row.revision, row.cause, row.source.as_deref()), (5, 3, Some(Cause::CodeWrong), Some("tidehall")));
    assert_eq!(steps, [step("x")]);
    let (recorded, lowest) = runtime.block_on(records.recorded(None, None, 10)).unwrap();
    assert_eq!((recorded[0].1.as_ref().unwrap().port, lowest), (7, Some(5)));
    runtime.block_on(records.close());
}

#[test]
fn traces_that_could_not_be_written_are_found_by_reference_and_only_the_newest_are_kept() {
    let buffer = Buffer::new(0);
    (0..4).for_each(|part| buffer.keep_unwritten((part * 1_000 + 1..=(part + 1) * 1_000).map(entry).collect()));
    let (row, steps, _) = buffer.find("R4000").unwrap();
    assert_eq!((row.id, steps[0].said.as_str()), (4_000, "login 4000"));
    assert!(buffer.find("R2500").is_some() && buffer.find("R1500").is_none(), "a flood of refusals takes no more memory");
}
