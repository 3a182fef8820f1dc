//! Writing traces: gathered for a moment, many in one row; small rows are put together aside from logins, and the oldest make room.

use super::chunk;
use super::chunk::{Entry, FULL, Heads, Written, read_bodies, read_body, unpack, with_step, write, write_bodies, write_body};
use super::query::by_reference;
use bivector_api::traces::TraceRow;
use bivector_model::facts::Facts;
use bivector_model::trace::Step;
use bivector_site::TraceKeeping;
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use std::collections::{HashSet, VecDeque};
use std::sync::Mutex;
use tokio::sync::MutexGuard as Turn;

/// Traces that may wait for the writer; each takes one to two KiB.
const WAITING: usize = 16_384;
/// Traces that could not be written and are known all the same, the newest of them.
const UNWRITTEN: usize = 2048;
/// Below this many a chunk is put together with its neighbours.
const SMALL: usize = 128;
/// Chunks that are put together, or taken out, in one step: some milliseconds of the writer's time.
const AT_ONCE: u32 = 256;
/// How long after its last login a chunk is rewritten without the traces that later ones have replaced, in microseconds: most prompts are
/// answered by then.
const SETTLED_US: u64 = 600_000_000;

/// Traces on their way to the writer. It gives them their numbers, so that they stand in order.
#[derive(Debug)]
pub(crate) struct Buffer {
    waiting: Mutex<Waiting>,
    /// Held by whoever hands traces to the writer.
    turn: tokio::sync::Mutex<()>,
}

#[derive(Debug)]
struct Waiting {
    entries: Vec<Entry>,
    /// The newest of those that could not be written.
    unwritten: VecDeque<Entry>,
    /// Those that were taken and are not written yet.
    taken: usize,
    next: u64,
}

/// What became of a trace that was handed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Added {
    /// It is the first one that waits: somebody must have it written.
    First(u64),
    /// It goes along with those before it.
    Joined(u64),
    /// Too many wait.
    Dropped(u64),
}

impl Buffer {
    /// An empty one, whose next trace gets the number after `newest`.
    pub(crate) fn new(newest: u64) -> Self {
        Buffer {
            waiting: Mutex::new(Waiting { entries: Vec::new(), unwritten: VecDeque::new(), taken: 0, next: newest + 1 }),
            turn: tokio::sync::Mutex::new(()),
        }
    }

    /// The number of a trace that is not written at all.
    pub(crate) fn number(&self) -> u64 {
        self.waiting.lock().map_or(0, |mut waiting| waiting.number())
    }

    /// Adds a trace, and gives it its number.
    pub(crate) fn add(&self, mut entry: Entry) -> Added {
        let Ok(mut waiting) = self.waiting.lock() else { return Added::Dropped(0) };
        let id = waiting.number();
        if waiting.entries.len() + waiting.taken >= WAITING {
            return Added::Dropped(id);
        }
        entry.row.id = id;
        waiting.entries.push(entry);
        if waiting.entries.len() == 1 { Added::First(id) } else { Added::Joined(id) }
    }

    /// Waits until nobody else hands traces to the writer.
    pub(crate) async fn turn(&self) -> Turn<'_, ()> {
        self.turn.lock().await
    }

    /// Takes all that wait. They count until they are [`Buffer::written`].
    pub(crate) fn take(&self) -> Vec<Entry> {
        let Ok(mut waiting) = self.waiting.lock() else { return Vec::new() };
        waiting.taken += waiting.entries.len();
        std::mem::take(&mut waiting.entries)
    }

    /// Keeps traces that could not be written, so that their references still lead to them.
    pub(crate) fn keep_unwritten(&self, entries: Vec<Entry>) {
        if let Ok(mut waiting) = self.waiting.lock() {
            waiting.unwritten.extend(entries);
            let over = waiting.unwritten.len().saturating_sub(UNWRITTEN);
            waiting.unwritten.drain(..over);
        }
    }

    /// A trace that is in memory only, by its reference.
    pub(crate) fn find(&self, reference: &str) -> Option<(TraceRow, Vec<Step>, Option<Facts>)> {
        let waiting = self.waiting.lock().ok()?;
        let entry = waiting.entries.iter().chain(&waiting.unwritten).rev().find(|entry| entry.row.reference == reference)?;
        let (steps, facts) = read_body(&entry.body);
        Some((entry.row.clone(), steps, facts))
    }

    /// Makes room for as many as were written.
    pub(crate) fn written(&self, count: usize) {
        if let Ok(mut waiting) = self.waiting.lock() {
            waiting.taken -= count;
        }
    }
}

impl Waiting {
    fn number(&mut self) -> u64 {
        self.next += 1;
        self.next - 1
    }
}

/// The highest number of a trace.
pub(crate) fn newest(connection: &Connection) -> rusqlite::Result<u64> {
    // They stand in the order of their numbers.
    let last = connection.query_row("SELECT last FROM trace_chunks ORDER BY first DESC LIMIT 1", [], |row| row.get::<_, i64>(0));
    Ok(last.optional()?.unwrap_or(0) as u64)
}

/// Traces, in the order of their numbers, as they are kept.
pub(crate) fn chunks(entries: &[Entry]) -> Vec<Written> {
    entries.chunks(FULL).map(write).collect()
}

/// Writes traces.
pub(crate) fn insert_chunks(transaction: &Transaction<'_>, chunks: &[Written]) -> rusqlite::Result<()> {
    chunks.iter().try_for_each(|chunk| insert(transaction, chunk))
}

/// Notes that later traces stand in the place of these.
pub(crate) fn insert_replaced(transaction: &Transaction<'_>, ids: &[u64]) -> rusqlite::Result<()> {
    let mut statement = transaction.prepare_cached("INSERT OR IGNORE INTO replaced_traces VALUES (?1)")?;
    ids.iter().try_for_each(|id| statement.execute([*id as i64]).map(drop))
}

/// The numbers of traces in whose place others stand and that are still written: not many, since they are taken out soon.
pub(super) fn replaced(connection: &Connection) -> rusqlite::Result<HashSet<u64>> {
    let mut statement = connection.prepare_cached("SELECT id FROM replaced_traces")?;
    statement.query_map([], |row| row.get::<_, i64>(0).map(|id| id as u64))?.collect()
}

/// Takes traces out of the oldest chunk that has some in whose place others stand, once its logins have long ended. Gives whether it did.
fn take_out_replaced(transaction: &Transaction<'_>, now_us: u64) -> rusqlite::Result<bool> {
    let oldest = transaction.query_row("SELECT min(id) FROM replaced_traces", [], |row| row.get::<_, Option<i64>>(0))?;
    let Some(oldest) = oldest else { return Ok(false) };
    let chunk = transaction
        .query_row("SELECT first, last, ended_us FROM trace_chunks WHERE first <= ?1 ORDER BY first DESC LIMIT 1", [oldest], |row| {
            Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?, row.get::<_, i64>(2)? as u64))
        })
        .optional()?;
    let Some((first, last, ended_us)) = chunk.filter(|(_, last, _)| *last >= oldest) else {
        return transaction.execute("DELETE FROM replaced_traces WHERE id = ?1", [oldest]).map(|_| true);
    };
    if ended_us + SETTLED_US > now_us {
        return Ok(false);
    }
    let (mut entries, replaced) = (read_chunk(transaction, first)?, replaced(transaction)?);
    entries.retain(|entry| !replaced.contains(&entry.row.id));
    take_out(transaction, first)?;
    insert_chunks(transaction, &chunks(&entries))?;
    transaction.execute("DELETE FROM replaced_traces WHERE id BETWEEN ?1 AND ?2", [first, last])?;
    Ok(true)
}

fn insert(transaction: &Transaction<'_>, written: &Written) -> rusqlite::Result<()> {
    transaction.prepare_cached("INSERT OR REPLACE INTO trace_chunks VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)")?.execute(
        params![
            written.first as i64,
            written.last as i64,
            written.began_us as i64,
            written.ended_us as i64,
            written.traces as i64,
            written.keys,
            written.marks,
            written.refs,
            written.texts,
            written.heads
        ],
    )?;
    transaction
        .prepare_cached("INSERT OR REPLACE INTO trace_bodies VALUES (?1, ?2)")?
        .execute(params![written.first as i64, written.bodies])?;
    Ok(())
}

/// Adds a step to a trace that is written; its time is counted from the end of the login.
pub(crate) fn append_step(transaction: &Transaction<'_>, reference: &str, step: &Step) -> rusqlite::Result<()> {
    let Some((_, (first, at))) = by_reference(transaction, reference)? else { return Ok(()) };
    let bodies: Vec<u8> = transaction.query_row("SELECT bodies FROM trace_bodies WHERE first = ?1", [first], |row| row.get(0))?;
    let unpacked = unpack(bodies);
    let mut bodies = read_bodies(&unpacked);
    let Some(longer) = bodies.get(at).and_then(|body| with_step(body, step)) else { return Ok(()) };
    bodies[at] = &longer;
    let bodies = write_bodies(&bodies);
    transaction.execute("UPDATE trace_bodies SET bodies = ?2 WHERE first = ?1", params![first, bodies])?;
    Ok(())
}

/// Takes out the oldest traces that are too many or too old, or else puts small chunks together; a piece of work at once, so that nobody
/// waits for it. Gives whether there is more to do. `tidied` is the number before which all chunks are large.
pub fn tidy_traces(transaction: &Transaction<'_>, keeping: TraceKeeping, now_us: u64, tidied: u64) -> rusqlite::Result<(bool, u64)> {
    if prune(transaction, keeping, now_us)? || take_out_replaced(transaction, now_us)? {
        return Ok((true, tidied));
    }
    put_together(transaction, tidied)
}

/// A chunk as far as tidying looks at it.
struct Size {
    first: i64,
    last: i64,
    ended_us: u64,
    traces: usize,
}

fn sizes(transaction: &Transaction<'_>, from: u64) -> rusqlite::Result<Vec<Size>> {
    transaction
        .prepare_cached("SELECT first, last, ended_us, traces FROM trace_chunks WHERE first >= ?1 ORDER BY first LIMIT ?2")?
        .query_map(params![from as i64, AT_ONCE], |row| {
            Ok(Size {
                first: row.get(0)?,
                last: row.get(1)?,
                ended_us: row.get::<_, i64>(2)? as u64,
                traces: row.get::<_, i64>(3)? as usize,
            })
        })?
        .collect()
}

fn prune(transaction: &Transaction<'_>, keeping: TraceKeeping, now_us: u64) -> rusqlite::Result<bool> {
    // Numbers without a trace are rare (dropped ones), so the newest number says how many there are.
    let first_kept = (newest(transaction)? + 1).saturating_sub(keeping.count) as i64;
    let oldest_us = keeping.time.map_or(0, |time| now_us.saturating_sub(time.as_micros() as u64));
    let mut more = false;
    for (at, size) in sizes(transaction, 0)?.into_iter().enumerate() {
        if size.last < first_kept || size.ended_us < oldest_us {
            take_out(transaction, size.first)?;
            more |= at + 1 == AT_ONCE as usize;
            continue;
        }
        let mut entries = if size.first < first_kept || oldest_us > 0 { read_chunk(transaction, size.first)? } else { Vec::new() };
        let before = entries.len();
        entries.retain(|entry| entry.row.id as i64 >= first_kept && entry.row.began_us + entry.row.took_us >= oldest_us);
        if entries.len() < before {
            take_out(transaction, size.first)?;
            insert_chunks(transaction, &chunks(&entries))?;
        }
        break;
    }
    Ok(more)
}

fn put_together(transaction: &Transaction<'_>, tidied: u64) -> rusqlite::Result<(bool, u64)> {
    let all = sizes(transaction, tidied)?;
    let Some(from) = all.iter().position(|size| size.traces < SMALL) else {
        let whole = all.len() == AT_ONCE as usize;
        return Ok((whole, if whole { all.last().map_or(tidied, |size| size.last as u64 + 1) } else { tidied }));
    };
    let tidied = all[from].first as u64;
    let mut traces = 0;
    let group = all[from..]
        .iter()
        .take_while(|size| {
            traces += size.traces;
            traces <= FULL
        })
        .collect::<Vec<_>>();
    if group.len() < 2 {
        // Nothing fits beside it, so it stays as it is, unless it is the newest, which more will join.
        return Ok((all.len() > from + 1, if all.len() > from + 1 { all[from].last as u64 + 1 } else { tidied }));
    }
    let mut entries = Vec::new();
    for size in &group {
        entries.extend(read_chunk(transaction, size.first)?);
        take_out(transaction, size.first)?;
    }
    insert_chunks(transaction, &chunks(&entries))?;
    Ok((all.len() > from + group.len(), tidied))
}

fn take_out(transaction: &Transaction<'_>, first: i64) -> rusqlite::Result<()> {
    transaction.prepare_cached("DELETE FROM trace_chunks WHERE first = ?1")?.execute([first])?;
    transaction.prepare_cached("DELETE FROM trace_bodies WHERE first = ?1")?.execute([first]).map(|_| ())
}

fn read_chunk(transaction: &Transaction<'_>, first: i64) -> rusqlite::Result<Vec<Entry>> {
    let read: Option<(Vec<u8>, Vec<u8>, Vec<u8>)> = transaction
        .prepare_cached("SELECT texts, heads, bodies FROM trace_chunks JOIN trace_bodies USING (first) WHERE first = ?1")?
        .query_row([first], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))
        .optional()?;
    let Some((texts, heads, bodies)) = read else { return Ok(Vec::new()) };
    let unpacked = unpack(bodies);
    let (heads, bodies) = (Heads::read(&texts, &heads), read_bodies(&unpacked));
    let entry = |head: chunk::HeadRow<'_>| {
        Some(Entry { row: head.row()?, body: bodies.get(head.at).copied().unwrap_or_default().to_vec(), replaces: None })
    };
    Ok(heads.iter().flat_map(Heads::iter).filter_map(entry).collect())
}

/// Takes over the traces of layouts before the seventh, which had a row for each.
pub(crate) fn take_over(transaction: &Transaction<'_>) -> rusqlite::Result<()> {
    let mut statement = transaction.prepare(
        "SELECT id, reference, began_us, took_us, origin, gateway, sender, chain, typed_name, login, person, method, source, outcome, cause,
             granted, revision, factor, waived, steps, facts
         FROM traces LEFT JOIN trace_steps ON trace = id ORDER BY id",
    )?;
    let mut rows = statement.query([])?;
    let mut entries = Vec::with_capacity(FULL);
    while let Some(row) = rows.next()? {
        let word = |column: usize| row.get::<_, Option<String>>(column).map(Option::unwrap_or_default);
        let (Some(origin), Some(outcome)) = (super::Origin::from_slug(&word(4)?), super::Outcome::from_slug(&word(13)?)) else { continue };
        let steps: Vec<Step> = serde_json::from_str(&word(19)?).unwrap_or_default();
        let facts = word(20)?;
        let facts = serde_json::from_str::<Facts>(&facts).is_ok().then_some(facts);
        let number = |column: usize| row.get::<_, i64>(column).map(|number| number as u64);
        let kept = TraceRow {
            id: number(0)?,
            reference: word(1)?,
            began_us: number(2)?,
            took_us: number(3)?,
            origin,
            gateway: word(5)?,
            sender: word(6)?,
            chain: word(7)?,
            typed_name: word(8)?,
            login: word(9)?,
            person: row.get(10)?,
            method: word(11)?,
            source: row.get(12)?,
            outcome,
            cause: super::Cause::from_slug(&word(14)?),
            grant: row.get(15)?,
            revision: number(16)?,
            factor: row.get(17)?,
            waived: row.get(18)?,
        };
        entries.push(Entry { row: kept, body: write_body(&steps, facts.as_deref()), replaces: None });
        if entries.len() == FULL {
            insert_chunks(transaction, &chunks(&entries))?;
            entries.clear();
        }
    }
    insert_chunks(transaction, &chunks(&entries))
}
