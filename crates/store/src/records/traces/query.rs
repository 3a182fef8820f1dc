//! Questions about traces. Each walks the chunks from its end, looks only into those that may hold what is asked for, and stops early.

use super::chunk::{HeadRow, Heads, Key, Wanted, read_bodies, read_body, unpack};
use super::keep::replaced;
use super::{Newest, TraceFilter};
use crate::records::{Records, RecordsError};
use bivector_api::traces::LoginCounts;
use bivector_api::traces::{FailedSpan, Failures, TraceRow};
use bivector_model::Cause;
use bivector_model::facts::Facts;
use bivector_model::trace::{LATE_ANSWER, NO_SESSION, Origin, Outcome, Step};
use bivector_timing::budget::{Learned, Seen};
use rusqlite::{Connection, OptionalExtension, params};
use std::collections::{BTreeMap, HashMap};
use std::ops::ControlFlow;

/// Traces that are looked at for counts: enough for a day of most sites, and quick.
const COUNTED: usize = 20_000;

/// Which chunks to walk, and in which order.
#[derive(Debug, Default)]
struct Walk {
    /// Only traces with numbers above and below.
    above: u64,
    below: Option<u64>,
    /// Only traces that began at or after, and before.
    since_us: u64,
    until_us: Option<u64>,
    oldest_first: bool,
    wanted: Wanted,
}

impl Walk {
    fn of(filter: &TraceFilter, oldest_first: bool) -> Self {
        let mut wanted = Wanted::default();
        let person = filter.person.as_ref().map(|person| person.to_lowercase());
        let keys = [
            (Key::Login, &person),
            (Key::Gateway, &filter.gateway),
            (Key::Chain, &filter.chain),
            (Key::Outcome, &filter.outcome),
            (Key::Cause, &filter.cause),
            (Key::Origin, &filter.origin),
        ];
        for (key, text) in keys {
            text.iter().for_each(|text| wanted.key(key, text));
        }
        filter.revision.into_iter().for_each(|revision| wanted.revision(revision));
        if let Some(q) = &filter.q {
            wanted.reference_or_login(&q.to_uppercase(), &q.to_lowercase());
        }
        Walk {
            above: filter.after.unwrap_or(0),
            below: filter.before,
            since_us: filter.since_us.unwrap_or(0),
            until_us: filter.until_us,
            oldest_first,
            wanted,
        }
    }

    /// Visits the traces in their order, each with the first number of its chunk, until `visit` breaks.
    fn visit(&self, connection: &Connection, mut visit: impl FnMut(i64, HeadRow<'_>) -> ControlFlow<()>) -> rusqlite::Result<()> {
        let order = if self.oldest_first { "ASC" } else { "DESC" };
        // Only what tells whether to look further is read of each.
        let mut statement = connection.prepare_cached(&format!(
            "SELECT first, keys, marks, refs FROM trace_chunks
             WHERE last > ?1 AND first < ?2 AND ended_us >= ?3 AND began_us < ?4 ORDER BY first {order}"
        ))?;
        let mut rest = connection.prepare_cached("SELECT texts, heads FROM trace_chunks WHERE first = ?1")?;
        let most = |limit: Option<u64>| limit.map_or(i64::MAX, |limit| i64::try_from(limit).unwrap_or(i64::MAX));
        let replaced = replaced(connection)?;
        let mut rows = statement.query(params![self.above as i64, most(self.below), self.since_us as i64, most(self.until_us)])?;
        while let Some(row) = rows.next()? {
            let first: i64 = row.get(0)?;
            if !self.wanted.fits(row.get_ref(1)?.as_blob()?, row.get_ref(2)?.as_blob()?, row.get_ref(3)?.as_blob()?) {
                continue;
            }
            let mut found = rest.query([first])?;
            let Some(found) = found.next()? else { continue };
            let Some(heads) = Heads::read(found.get_ref(0)?.as_blob()?, found.get_ref(1)?.as_blob()?) else {
                tracing::warn!(first, "a piece of the traces is damaged and left out");
                continue;
            };
            let mut each = |head: HeadRow<'_>| {
                if self.takes(head) && !replaced.contains(&head.id()) { visit(first, head) } else { ControlFlow::Continue(()) }
            };
            let done = if self.oldest_first { heads.iter().try_for_each(&mut each) } else { heads.iter().rev().try_for_each(&mut each) };
            if done.is_break() {
                break;
            }
        }
        Ok(())
    }

    fn takes(&self, head: HeadRow<'_>) -> bool {
        head.id() > self.above
            && self.below.is_none_or(|below| head.id() < below)
            && head.began_us() >= self.since_us
            && self.until_us.is_none_or(|until| head.began_us() < until)
    }
}

impl TraceFilter {
    fn fits(&self, head: HeadRow<'_>) -> bool {
        let same = |wanted: &Option<String>, seen: &str| wanted.as_deref().is_none_or(|wanted| wanted == seen);
        same(&self.gateway, head.gateway())
            && same(&self.chain, head.chain())
            && same(&self.outcome, head.outcome())
            && same(&self.origin, head.origin())
            && (self.rehearsed != Some(false) || head.origin() != Origin::Rehearsal.slug())
            && self.cause.as_deref().is_none_or(|cause| head.cause() == Some(cause))
            && self.revision.is_none_or(|revision| head.revision() == revision)
            && self.person.as_ref().is_none_or(|person| person.to_lowercase() == head.login())
            && self.q.as_ref().is_none_or(|q| head.reference() == q.to_uppercase() || head.login().starts_with(&q.to_lowercase()))
    }
}

/// Traces of a page, each with the place of its body.
type Placed = Vec<(TraceRow, (i64, usize))>;

fn page(connection: &Connection, filter: &TraceFilter, oldest_first: bool) -> rusqlite::Result<Placed> {
    let limit = filter.limit.unwrap_or(50).clamp(1, 500) as usize;
    let mut found = Vec::new();
    Walk::of(filter, oldest_first).visit(connection, |first, head| {
        if filter.fits(head)
            && let Some(row) = head.row()
        {
            found.push((row, (first, head.at)));
        }
        if found.len() < limit { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    })?;
    Ok(found)
}

/// Reads the bodies of traces that stand in the order of their chunks.
fn with_bodies<T>(connection: &Connection, placed: Placed, read: impl Fn(TraceRow, &[u8]) -> T) -> rusqlite::Result<Vec<T>> {
    let mut statement = connection.prepare_cached("SELECT bodies FROM trace_bodies WHERE first = ?1")?;
    let mut whole = Vec::with_capacity(placed.len());
    let mut placed = placed.into_iter().peekable();
    while let Some((_, (first, _))) = placed.peek() {
        let first = *first;
        let unpacked = unpack(statement.query_row([first], |row| row.get(0)).optional()?.unwrap_or_default());
        let bodies = read_bodies(&unpacked);
        while let Some((row, (_, at))) = placed.next_if(|(_, (of, _))| *of == first) {
            whole.push(read(row, bodies.get(at).copied().unwrap_or_default()));
        }
    }
    Ok(whole)
}

impl Records {
    /// How the logins of each chain ended since a moment, among the newest [`COUNTED`].
    pub async fn login_counts(&self, since_us: u64) -> Result<HashMap<String, LoginCounts>, RecordsError> {
        self.read(move |connection| {
            let mut counts: HashMap<String, LoginCounts> = HashMap::new();
            newest_logins(connection, since_us, |head| {
                if !counts.contains_key(head.chain()) {
                    counts.insert(head.chain().to_owned(), LoginCounts::default());
                }
                let Some(of) = counts.get_mut(head.chain()) else { return };
                match Outcome::from_slug(head.outcome()) {
                    Some(Outcome::Accepted) => of.accepted += 1,
                    Some(Outcome::Challenged) => of.challenged += 1,
                    Some(Outcome::Refused) => of.refused += 1,
                    Some(Outcome::Silent) => of.silent += 1,
                    None => {}
                }
            })?;
            Ok(counts)
        })
        .await
    }

    /// The newest of the last [`COUNTED`] logins of each gateway.
    pub async fn newest_by_gateway(&self) -> Result<HashMap<String, Newest>, RecordsError> {
        self.read(|connection| {
            let mut newest: HashMap<String, Newest> = HashMap::new();
            newest_logins(connection, 0, |head| {
                if !newest.contains_key(head.gateway())
                    && let Some(outcome) = Outcome::from_slug(head.outcome())
                {
                    let cause = head.cause().and_then(Cause::from_slug);
                    newest.insert(head.gateway().to_owned(), Newest { began_us: head.began_us(), outcome, cause });
                }
            })?;
            Ok(newest)
        })
        .await
    }

    /// A page of traces, newest first.
    pub async fn traces(&self, filter: TraceFilter) -> Result<Vec<TraceRow>, RecordsError> {
        self.read(move |connection| Ok(page(connection, &filter, false)?.into_iter().map(|(row, _)| row).collect())).await
    }

    /// One trace by its reference (the newest, should two be alike), with its steps and what it learned.
    pub async fn trace(&self, reference: String) -> Result<Option<(TraceRow, Vec<Step>, Option<Facts>)>, RecordsError> {
        let reference = reference.to_uppercase();
        if let Some(found) = self.traces.find(&reference) {
            return Ok(Some(found));
        }
        self.read(move |connection| {
            let found = by_reference(connection, &reference)?;
            let whole = |row, body: &[u8]| {
                let (steps, facts) = read_body(body);
                (row, steps, facts)
            };
            Ok(with_bodies(connection, found.into_iter().collect(), whole)?.pop())
        })
        .await
    }

    /// Logins that wait at a prompt, as far as the records know, and that began at or after a moment: the newest [`COUNTED`] of them.
    pub fn waiting_logins(&self, since_us: u64) -> Result<Vec<(TraceRow, Facts)>, RecordsError> {
        self.read_now(|connection| {
            let outcome = Some(Outcome::Challenged.slug().to_owned());
            let waiting = TraceFilter { outcome, since_us: Some(since_us), ..TraceFilter::default() };
            let (mut placed, mut left) = (Placed::new(), COUNTED);
            Walk::of(&waiting, false).visit(connection, |first, head| {
                placed.extend(head.row().filter(|_| waiting.fits(head)).map(|row| (row, (first, head.at))));
                left -= 1;
                if left > 0 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            })?;
            let found = with_bodies(connection, placed, |row, body| (row, read_body(body).1))?;
            // Earlier versions did not say until when.
            Ok(found.into_iter().filter_map(|(row, facts)| Some((row, facts.filter(|facts| facts.open_until_us.is_some())?))).collect())
        })
    }

    /// Traces with their steps, oldest first: as many as fit, from one number on.
    pub async fn whole_traces(&self, filter: TraceFilter) -> Result<Vec<(TraceRow, Vec<Step>)>, RecordsError> {
        self.read(move |connection| with_bodies(connection, page(connection, &filter, true)?, |row, body| (row, read_body(body).0))).await
    }

    /// Recorded logins with what they learned, newest first: numbers below `before`, at most `limit`; and the lowest number looked at.
    pub async fn recorded(
        &self,
        chain: Option<String>,
        before: Option<u64>,
        limit: u32,
    ) -> Result<(Vec<(TraceRow, Option<Facts>)>, Option<u64>), RecordsError> {
        let filter = TraceFilter { chain, before, limit: Some(limit), ..TraceFilter::default() };
        self.read(move |connection| {
            let rows = with_bodies(connection, page(connection, &filter, false)?, |row, body| (row, read_body(body).1))?;
            let lowest = rows.last().map(|(row, _)| row.id);
            Ok((rows, lowest))
        })
        .await
    }

    /// Failures since a moment, by span of time, cause and gateway; and all logins of each span. Rehearsed ones are left out.
    pub async fn failures(&self, since_us: u64, span_us: u64, gateway: Option<String>) -> Result<Failures, RecordsError> {
        self.read(move |connection| {
            let mut failures = Failures { since_us, span_us, ..Failures::default() };
            let mut failed: BTreeMap<(u64, String, String), u64> = BTreeMap::new();
            let walk = Walk::of(&TraceFilter { since_us: Some(since_us), gateway: gateway.clone(), ..TraceFilter::default() }, true);
            walk.visit(connection, |_, head| {
                if head.origin() == Origin::Rehearsal.slug() || gateway.as_deref().is_some_and(|gateway| gateway != head.gateway()) {
                    return ControlFlow::Continue(());
                }
                let at = (head.began_us() - since_us) / span_us.max(1);
                *failures.logins.entry(at).or_default() += 1;
                if let Some(cause) = head.cause() {
                    *failed.entry((at, cause.to_owned(), head.gateway().to_owned())).or_default() += 1;
                }
                ControlFlow::Continue(())
            })?;
            failures.failed = failed.into_iter().map(|((at, cause, gateway), count)| FailedSpan { at, cause, gateway, count }).collect();
            Ok(failures)
        })
        .await
    }
}

impl Records {
    /// What the newest [`COUNTED`] logins show of gateways and people.
    pub async fn learned(&self) -> Result<Learned, RecordsError> {
        self.read(|connection| {
            let (mut placed, mut left) = (Placed::new(), COUNTED);
            Walk::default().visit(connection, |first, head| {
                placed.extend(head.row().map(|row| (row, (first, head.at))));
                left -= 1;
                if left > 0 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
            })?;
            let mut seen = Seen::default();
            for (row, (steps, facts)) in with_bodies(connection, placed, |row, body| (row, read_body(body)))? {
                if let Some(facts) = facts {
                    seen.add(row.origin, &row.gateway, row.outcome, &facts);
                }
                if steps.iter().any(|step| step.what == LATE_ANSWER) {
                    seen.add_late();
                }
                if steps.iter().any(|step| step.what == NO_SESSION) {
                    seen.add_no_session();
                }
            }
            Ok(seen.done())
        })
        .await
    }
}

/// The newest [`COUNTED`] logins since a moment, newest first; rehearsed ones are left out.
fn newest_logins(connection: &Connection, since_us: u64, mut each: impl FnMut(HeadRow<'_>)) -> rusqlite::Result<()> {
    let mut left = COUNTED;
    Walk { since_us, ..Walk::default() }.visit(connection, |_, head| {
        if head.origin() != Origin::Rehearsal.slug() {
            each(head);
        }
        left -= 1;
        if left > 0 { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    })
}

/// The newest trace with this reference, and where its body is.
pub(super) fn by_reference(connection: &Connection, reference: &str) -> rusqlite::Result<Option<(TraceRow, (i64, usize))>> {
    let mut walk = Walk::default();
    walk.wanted.reference(reference);
    let mut found = None;
    walk.visit(connection, |first, head| {
        if head.reference() == reference {
            found = head.row().map(|row| (row, (first, head.at)));
            return ControlFlow::Break(());
        }
        ControlFlow::Continue(())
    })?;
    Ok(found)
}
