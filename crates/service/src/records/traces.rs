//! Traces and knocks: written just after the answer, read by filters that each have an index.

use super::{Records, RecordsError};
use crate::api::LoginCounts;
use bivector_core::Cause;
use bivector_core::facts::Facts;
use bivector_core::site::TraceKeeping;
use bivector_core::trace::{Origin, Outcome, Step, Trace};
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row, Transaction, params, params_from_iter};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use std::sync::LazyLock;
use utoipa::{IntoParams, ToSchema};

/// The newest login of a gateway.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Newest {
    pub(crate) began_us: u64,
    pub(crate) outcome: Outcome,
    pub(crate) cause: Option<Cause>,
}

/// Traces that are looked at for counts: enough for a day of most sites, and quick.
const COUNTED: i64 = 20_000;

/// A trace as listed: everything but its steps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TraceRow {
    /// Its number; later logins have higher ones.
    pub id: u64,
    /// See [`Trace`].
    pub reference: String,
    /// When it began, in microseconds since 1970.
    pub began_us: u64,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// Where it came from.
    pub origin: Origin,
    /// The gateway's name.
    pub gateway: String,
    /// The address that sent it.
    pub sender: String,
    /// The chain's name.
    pub chain: String,
    /// The name as it was typed.
    pub typed_name: String,
    /// The login name, once a source knew it; else the typed name in lower case.
    pub login: String,
    /// The person's key, once a source knew it.
    pub person: Option<String>,
    /// The authentication method.
    pub method: String,
    /// The source that knew the person.
    pub source: Option<String>,
    /// How it ended.
    pub outcome: Outcome,
    /// Why, unless it was accepted.
    pub cause: Option<Cause>,
    /// The grant it got.
    pub grant: Option<String>,
    /// The second factor that was given.
    #[serde(default)]
    pub factor: Option<String>,
    /// Why no second factor was asked for, where none was.
    #[serde(default)]
    pub waived: Option<String>,
    /// The revision that decided it.
    pub revision: u64,
}

impl TraceRow {
    /// The row of a trace.
    pub fn of(id: u64, trace: &Trace) -> Self {
        let key = trace.person.as_deref().and_then(|person| person.split_once(':')).map(|(_, login)| login.to_owned());
        TraceRow {
            id,
            reference: trace.reference.clone(),
            began_us: trace.began_us,
            took_us: trace.took_us,
            origin: trace.origin,
            gateway: trace.gateway.clone(),
            sender: trace.sender.clone(),
            chain: trace.chain.clone(),
            typed_name: trace.typed_name.clone(),
            login: key.unwrap_or_else(|| trace.typed_name.to_lowercase()),
            person: trace.person.clone(),
            method: trace.method.clone(),
            source: trace.source.clone(),
            outcome: trace.outcome,
            cause: trace.cause,
            grant: trace.grant.clone(),
            factor: trace.factor.clone(),
            waived: trace.waived.clone(),
            revision: trace.revision,
        }
    }
}

/// Place of the facts behind the other columns.
const FACTS_COLUMN: usize = 19;

impl TraceFilter {
    /// The column whose index has the fewest traces of those asked for; empty where the newest are looked through.
    fn leads(&self) -> &'static str {
        let of = |outcomes: &[&str]| self.outcome.as_deref().is_some_and(|outcome| outcomes.contains(&outcome));
        match () {
            () if self.q.is_some() => "",
            () if self.person.is_some() => "login",
            () if self.cause.is_some() => "cause",
            () if self.origin.as_deref().is_some_and(|origin| origin != "gateway") => "origin",
            () if of(&["silent", "challenged"]) => "outcome",
            () if self.gateway.is_some() => "gateway",
            () if self.chain.is_some() => "chain",
            () if of(&["refused"]) => "outcome",
            () => "",
        }
    }

    /// Whether it asks for failures only.
    fn is_of_failures(&self) -> bool {
        self.cause.is_some() || self.outcome.as_deref().is_some_and(|outcome| matches!(outcome, "refused" | "silent"))
    }
}

/// From when until when a revision was in force, in microseconds since 1970, as far as is known.
fn in_force(connection: &Connection, revision: u64) -> rusqlite::Result<(Option<u64>, Option<u64>)> {
    let mut applied = connection.prepare_cached("SELECT applied_us FROM revisions WHERE number = ?1")?;
    let mut at = |number: u64| applied.query_row([number as i64], |row| row.get::<_, i64>(0)).optional().map(|at| at.map(|at| at as u64));
    Ok((at(revision)?, at(revision + 1)?))
}

/// Failures over time.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Failures {
    /// When the first span begins, in microseconds since 1970.
    pub since_us: u64,
    /// How long each span is.
    pub span_us: u64,
    /// All logins of each span that has some, by the span's number.
    pub logins: BTreeMap<u64, u64>,
    /// Failures by span, cause and gateway.
    pub failed: Vec<FailedSpan>,
}

/// Failures of one cause at one gateway in one span of time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FailedSpan {
    /// The span's number.
    pub at: u64,
    /// The cause.
    pub cause: String,
    /// The gateway.
    pub gateway: String,
    /// How many.
    pub count: u64,
}

/// Which traces to list.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(default)]
pub struct TraceFilter {
    /// A person's login name.
    pub person: Option<String>,
    /// A reference, or the beginning of a login name.
    pub q: Option<String>,
    /// A gateway's name.
    pub gateway: Option<String>,
    /// A chain's name.
    pub chain: Option<String>,
    /// `accepted`, `refused` or `silent`.
    pub outcome: Option<String>,
    /// A cause's slug.
    pub cause: Option<String>,
    /// Only those that this revision decided; 0 for a draft.
    pub revision: Option<u64>,
    /// Only those from `gateway`, `rehearsal` or `page`.
    pub origin: Option<String>,
    /// Only those that began at or after this, in microseconds since 1970.
    pub since_us: Option<u64>,
    /// Only those that began before this.
    pub until_us: Option<u64>,
    /// Only traces with a number below this: the next page.
    pub before: Option<u64>,
    /// Only traces with a number above this: what is new.
    pub after: Option<u64>,
    /// How many, 1 to 500; 50 if left out.
    pub limit: Option<u32>,
}

/// Packets from one sender that were dropped for one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Knock {
    /// The address, without port.
    pub sender: String,
    /// Why they were dropped.
    pub cause: Cause,
    /// The gateway of that address, if it has one.
    pub gateway: String,
    /// How many.
    pub count: u64,
    /// First time, in microseconds since 1970.
    pub first_us: u64,
    /// Last time.
    pub last_us: u64,
    /// What was seen the last time.
    pub said: String,
    /// The gateway that it might be, with the reason, where the packet gives one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub guess: Option<Guess>,
}

/// Which gateway a stranger might be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Guess {
    /// The gateway's name.
    pub gateway: String,
    /// Why.
    pub why: String,
}

/// The oldest are taken out in steps of this many: some milliseconds of the writer's time.
const PRUNED_AT_ONCE: u32 = 256;
/// Senders and causes of knocks that are kept.
const KNOCKS_KEPT: u32 = 10_000;

/// The longest that a login may take: an approval's limit, and a minute.
const LONGEST_LOGIN_US: u64 = 660_000_000;

const COLUMNS: &str = "id, reference, began_us, took_us, origin, gateway, sender, chain, typed_name, login, person, method, source, outcome, cause, granted, revision, factor, waived";

impl Records {
    /// The highest number of a trace.
    pub(crate) fn newest_trace(&self) -> Result<u64, RecordsError> {
        self.read_now(|connection| connection.query_row("SELECT coalesce(max(id), 0) FROM traces", [], |row| row.get::<_, i64>(0)))
            .map(|id| id as u64)
    }

    /// How the logins of each chain ended since a moment, among the newest [`COUNTED`].
    pub(crate) async fn login_counts(&self, since_us: u64) -> Result<HashMap<String, LoginCounts>, RecordsError> {
        self.read(move |connection| {
            let newest: i64 = connection.query_row("SELECT coalesce(max(id), 0) FROM traces", [], |row| row.get(0))?;
            let mut statement = connection
                .prepare_cached("SELECT chain, outcome, count(*) FROM traces WHERE id > ?1 AND began_us >= ?2 AND origin <> 'rehearsal' GROUP BY chain, outcome")?;
            let mut rows = statement.query(params![newest - COUNTED, since_us as i64])?;
            let mut counts: HashMap<String, LoginCounts> = HashMap::new();
            while let Some(row) = rows.next()? {
                let of = counts.entry(row.get(0)?).or_default();
                let count = row.get::<_, i64>(2)? as u64;
                match word(row, 1)? {
                    Outcome::Accepted => of.accepted = count,
                    Outcome::Challenged => of.challenged = count,
                    Outcome::Refused => of.refused = count,
                    Outcome::Silent => of.silent = count,
                }
            }
            Ok(counts)
        })
        .await
    }

    /// The newest of the last [`COUNTED`] logins of each gateway.
    pub(crate) async fn newest_by_gateway(&self) -> Result<HashMap<String, Newest>, RecordsError> {
        self.read(|connection| {
            let newest: i64 = connection.query_row("SELECT coalesce(max(id), 0) FROM traces", [], |row| row.get(0))?;
            // Beside max() the other columns are those of the row that has it.
            let mut statement = connection.prepare_cached(
                "SELECT gateway, max(id), began_us, cause, outcome FROM traces WHERE id > ?1 AND origin <> 'rehearsal' GROUP BY gateway",
            )?;
            let of = |row: &Row<'_>| {
                let cause: Option<String> = row.get(3)?;
                let cause = if cause.is_some() { Some(word(row, 3)?) } else { None };
                Ok((row.get(0)?, Newest { began_us: row.get::<_, i64>(2)? as u64, outcome: word(row, 4)?, cause }))
            };
            statement.query_map([newest - COUNTED], of)?.collect()
        })
        .await
    }

    /// A page of traces, newest first.
    pub(crate) async fn traces(&self, filter: TraceFilter) -> Result<Vec<TraceRow>, RecordsError> {
        self.traces_in_order(filter, false).await
    }

    async fn traces_in_order(&self, filter: TraceFilter, oldest_first: bool) -> Result<Vec<TraceRow>, RecordsError> {
        let order = if oldest_first { "ASC" } else { "DESC" };
        self.read(move |connection| {
            let mut wheres = Vec::new();
            let mut values: Vec<Value> = Vec::new();
            let mut want = |column: &str, sign: &str, value: Option<Value>| {
                if let Some(value) = value {
                    values.push(value);
                    wheres.push(format!("{column} {sign} ?{}", values.len()));
                }
            };
            let text = |value: &Option<String>| value.clone().map(Value::Text);
            // One index leads, the one with the fewest traces; a `+` keeps SQLite from choosing another one by itself.
            let leads = filter.leads();
            let column = |name: &'static str| if leads == name { name.to_owned() } else { format!("+{name}") };
            want(&column("login"), "=", filter.person.as_ref().map(|person| Value::Text(person.to_lowercase())));
            want(&column("gateway"), "=", text(&filter.gateway));
            want(&column("chain"), "=", text(&filter.chain));
            want(&column("outcome"), "=", text(&filter.outcome));
            want(&column("cause"), "=", text(&filter.cause));
            want(&column("origin"), "=", text(&filter.origin));
            want("+revision", "=", filter.revision.map(|number| Value::Integer(number as i64)));
            want("+began_us", ">=", filter.since_us.map(|at| Value::Integer(at as i64)));
            want("+began_us", "<", filter.until_us.map(|at| Value::Integer(at as i64)));
            let (mut since, mut until) = (filter.since_us, filter.until_us);
            if let Some(revision) = filter.revision {
                let (first, after) = in_force(connection, revision)?;
                since = since.max(first);
                until = until.into_iter().chain(after).min();
            }
            // Numbers are given as logins end, so times bound them: no index on times is needed.
            if let Some(since) = since {
                want("id", ">=", Some(Value::Integer(first_ended(connection, since)?)));
            }
            if let Some(until) = until {
                want("id", "<", Some(Value::Integer(first_ended(connection, until.saturating_add(LONGEST_LOGIN_US))?)));
            }
            want("id", "<", filter.before.map(|id| Value::Integer(id as i64)));
            want("id", ">", filter.after.map(|id| Value::Integer(id as i64)));
            if let Some(q) = &filter.q {
                let first = values.len() + 1;
                // The range is a prefix that the index on logins can serve.
                wheres.push(format!("(reference = ?{first} OR (login >= ?{} AND login < ?{}))", first + 1, first + 2));
                values.extend([q.to_uppercase(), q.to_lowercase(), format!("{}\u{10ffff}", q.to_lowercase())].map(Value::Text));
            }
            // Words of partial indices.
            wheres.extend((leads == "origin").then(|| "origin <> 'gateway'".to_owned()));
            wheres.extend((leads == "gateway" && filter.is_of_failures()).then(|| "cause IS NOT NULL".to_owned()));
            let wheres = if wheres.is_empty() { String::new() } else { format!("WHERE {}", wheres.join(" AND ")) };
            let limit = filter.limit.unwrap_or(50).clamp(1, 500);
            connection
                .prepare_cached(&format!("SELECT {COLUMNS} FROM traces {wheres} ORDER BY id {order} LIMIT {limit}"))?
                .query_map(params_from_iter(values), row)?
                .collect()
        })
        .await
    }

    /// One trace by its reference (the newest, should two be alike), with its steps.
    pub(crate) async fn trace(&self, reference: String) -> Result<Option<(TraceRow, Vec<Step>)>, RecordsError> {
        self.read(move |connection| {
            let found = connection
                .query_row(
                    &format!("SELECT {COLUMNS} FROM traces WHERE reference = ?1 ORDER BY id DESC LIMIT 1"),
                    [reference.to_uppercase()],
                    row,
                )
                .optional()?;
            let Some(found) = found else { return Ok(None) };
            let steps: Option<String> =
                connection.query_row("SELECT steps FROM trace_steps WHERE trace = ?1", [found.id as i64], |row| row.get(0)).optional()?;
            let steps = steps.and_then(|steps| serde_json::from_str(&steps).ok()).unwrap_or_default();
            Ok(Some((found, steps)))
        })
        .await
    }

    /// Traces with their steps, oldest first: as many as fit, from one number on.
    pub(crate) async fn whole_traces(&self, filter: TraceFilter) -> Result<Vec<(TraceRow, Vec<Step>)>, RecordsError> {
        let after = filter.after.unwrap_or(0);
        let mut rows = self.traces_in_order(filter, true).await?;
        rows.retain(|row| row.id > after);
        self.read(move |connection| {
            let mut steps = connection.prepare_cached("SELECT steps FROM trace_steps WHERE trace = ?1")?;
            let mut whole = Vec::with_capacity(rows.len());
            for row in rows {
                let text: Option<String> = steps.query_row([row.id as i64], |row| row.get(0)).optional()?;
                let steps = text.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default();
                whole.push((row, steps));
            }
            Ok(whole)
        })
        .await
    }

    /// Recorded logins with what they learned, newest first: numbers below `before`, at most `limit`; and the lowest number looked at.
    pub(crate) async fn recorded(
        &self,
        chain: Option<String>,
        before: Option<u64>,
        limit: u32,
    ) -> Result<(Vec<(TraceRow, Option<Facts>)>, Option<u64>), RecordsError> {
        self.read(move |connection| {
            let mut statement = connection.prepare_cached(&format!(
                "SELECT {COLUMNS}, facts FROM traces JOIN trace_steps ON trace_steps.trace = traces.id
                 WHERE id < ?1 AND (?2 IS NULL OR chain = ?2) ORDER BY id DESC LIMIT ?3"
            ))?;
            let before = before.map_or(i64::MAX, |before| before as i64);
            let rows = statement.query_map(params![before, chain, limit], |found| {
                let facts: Option<String> = found.get(FACTS_COLUMN)?;
                Ok((row(found)?, facts.and_then(|facts| serde_json::from_str(&facts).ok())))
            })?;
            let rows: Vec<(TraceRow, Option<Facts>)> = rows.collect::<rusqlite::Result<_>>()?;
            let lowest = rows.last().map(|(row, _)| row.id);
            Ok((rows, lowest))
        })
        .await
    }

    /// Failures since a moment, by span of time, cause and gateway; and all logins of each span. Rehearsed ones are left out.
    pub(crate) async fn failures(&self, since_us: u64, span_us: u64, gateway: Option<String>) -> Result<Failures, RecordsError> {
        self.read(move |connection| {
            let first = first_ended(connection, since_us)?;
            let mut all = connection.prepare_cached(
                "SELECT (began_us - ?1) / ?2, outcome, cause, gateway, count(*) FROM traces
                 WHERE id >= ?3 AND began_us >= ?1 AND origin <> 'rehearsal' AND (?4 IS NULL OR gateway = ?4) GROUP BY 1, 2, 3, 4",
            )?;
            let mut rows = all.query(params![since_us as i64, span_us as i64, first, gateway])?;
            let mut failures = Failures { since_us, span_us, ..Failures::default() };
            while let Some(row) = rows.next()? {
                let (at, cause): (i64, Option<String>) = (row.get(0)?, row.get(2)?);
                let count = row.get::<_, i64>(4)? as u64;
                let at = at as u64;
                *failures.logins.entry(at).or_default() += count;
                if let Some(cause) = cause {
                    failures.failed.push(FailedSpan { at, cause, gateway: row.get(3)?, count });
                }
            }
            Ok(failures)
        })
        .await
    }

    /// All knocks, latest first.
    pub(crate) async fn knocks(&self) -> Result<Vec<Knock>, RecordsError> {
        self.read(|connection| {
            connection
                .prepare(
                    "SELECT sender, cause, gateway, count, first_us, last_us, said, guess FROM knocks ORDER BY last_us DESC LIMIT 1000",
                )?
                .query_map([], |row| {
                    Ok(Knock {
                        sender: row.get(0)?,
                        cause: word(row, 1)?,
                        gateway: row.get(2)?,
                        count: row.get::<_, i64>(3)? as u64,
                        first_us: row.get::<_, i64>(4)? as u64,
                        last_us: row.get::<_, i64>(5)? as u64,
                        said: row.get(6)?,
                        guess: row.get::<_, Option<String>>(7)?.and_then(|guess| serde_json::from_str(&guess).ok()),
                    })
                })?
                .collect()
        })
        .await
    }
}

/// The lowest and the highest number: each found at its end of the table, which both in one question would not be.
const BOUNDS: &str = "SELECT (SELECT min(id) FROM traces), (SELECT max(id) FROM traces)";

/// The first number whose login ended at or after a moment; one more than the newest if none has.
fn first_ended(connection: &Connection, at_us: u64) -> rusqlite::Result<i64> {
    let bounds = connection.query_row(BOUNDS, [], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let (Some(mut low), Some(newest)): (Option<i64>, Option<i64>) = bounds else { return Ok(0) };
    let mut high = newest + 1;
    let mut at = connection.prepare_cached("SELECT began_us + took_us FROM traces WHERE id >= ?1 ORDER BY id LIMIT 1")?;
    while low < high {
        let middle = low + (high - low) / 2;
        let ended: Option<i64> = at.query_row([middle], |row| row.get(0)).optional()?;
        if ended.is_some_and(|ended| ended < at_us as i64) { low = middle + 1 } else { high = middle }
    }
    Ok(low)
}

/// Steps and facts as they are kept; written out before the writer gets them, which has enough to do.
#[derive(Debug)]
pub(crate) struct WrittenTrace {
    steps: String,
    facts: Option<String>,
}

impl WrittenTrace {
    /// Of a trace.
    pub(crate) fn of(trace: &Trace) -> Self {
        // A packet that never became a login has learned nothing.
        let facts = (trace.outcome != Outcome::Silent).then(|| serde_json::to_string(&trace.facts).unwrap_or_default());
        WrittenTrace { steps: written_steps(&trace.steps), facts }
    }
}

fn written_steps(steps: &[Step]) -> String {
    serde_json::to_string(steps).unwrap_or_else(|_| "[]".into())
}

/// Adds a step to a trace that is there; its time is counted from the end of the login.
pub(crate) fn append_step(transaction: &Transaction<'_>, reference: &str, step: &Step) -> rusqlite::Result<()> {
    let of = "(SELECT max(id) FROM traces WHERE reference = ?1)";
    let steps: Option<String> =
        transaction.query_row(&format!("SELECT steps FROM trace_steps WHERE trace = {of}"), [reference], |row| row.get(0)).optional()?;
    let Some(mut steps) = steps.and_then(|text| serde_json::from_str::<Vec<Step>>(&text).ok()) else { return Ok(()) };
    let end = steps.last().map_or(0, |last| last.at_us + last.took_us);
    steps.push(Step { at_us: end + step.at_us, ..step.clone() });
    transaction.execute(&format!("UPDATE trace_steps SET steps = ?2 WHERE trace = {of}"), params![reference, written_steps(&steps)])?;
    Ok(())
}

/// Writes a trace with its steps.
pub(crate) fn insert_trace(transaction: &Transaction<'_>, row: &TraceRow, written: &WrittenTrace) -> rusqlite::Result<()> {
    static INSERT: LazyLock<String> = LazyLock::new(|| {
        format!(
            "INSERT OR IGNORE INTO traces ({COLUMNS}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19)"
        )
    });
    transaction.prepare_cached(&INSERT)?.execute(params![
        row.id as i64,
        row.reference,
        row.began_us as i64,
        row.took_us as i64,
        to_word(&row.origin),
        row.gateway,
        row.sender,
        row.chain,
        row.typed_name,
        row.login,
        row.person,
        row.method,
        row.source,
        row.outcome.slug(),
        row.cause.map(Cause::slug),
        row.grant,
        row.revision as i64,
        row.factor,
        row.waived,
    ])?;
    transaction.prepare_cached("INSERT OR IGNORE INTO trace_steps VALUES (?1, ?2, ?3)")?.execute(params![
        row.id as i64,
        written.steps,
        written.facts
    ])?;
    Ok(())
}

/// Takes out the oldest traces that are too many or too old, a few at once so that nobody waits for it; gives how many.
pub(crate) fn prune_traces(transaction: &Transaction<'_>, keeping: TraceKeeping, now_us: u64) -> rusqlite::Result<usize> {
    let bounds = transaction.query_row(BOUNDS, [], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let (Some(oldest), Some(newest)): (Option<i64>, Option<i64>) = bounds else { return Ok(0) };
    let mut first_kept = newest + 1 - keeping.count as i64;
    if let Some(time) = keeping.time {
        first_kept = first_kept.max(first_ended(transaction, now_us.saturating_sub(time.as_micros() as u64))?);
    }
    if first_kept <= oldest {
        return Ok(0);
    }
    transaction
        .prepare_cached("DELETE FROM traces WHERE id IN (SELECT id FROM traces WHERE id < ?1 ORDER BY id LIMIT ?2)")?
        .execute(params![first_kept, PRUNED_AT_ONCE])
}

/// Counts a knock.
pub(crate) fn insert_knock(transaction: &Transaction<'_>, knock: &Knock) -> rusqlite::Result<()> {
    transaction
        .prepare_cached(
            "INSERT INTO knocks VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8) ON CONFLICT (sender, cause) DO UPDATE SET
             count = count + excluded.count, last_us = excluded.last_us, said = excluded.said, gateway = excluded.gateway, guess = coalesce(excluded.guess, guess)",
        )?
        .execute(params![
            knock.sender,
            knock.cause.slug(),
            knock.gateway,
            knock.count as i64,
            knock.first_us as i64,
            knock.last_us as i64,
            knock.said,
            knock.guess.as_ref().and_then(|guess| serde_json::to_string(guess).ok()),
        ])?;
    // Addresses can be made up, so their number has a bound; the ones not seen for longest go first.
    transaction
        .prepare_cached("DELETE FROM knocks WHERE last_us < (SELECT last_us FROM knocks ORDER BY last_us DESC LIMIT 1 OFFSET ?1)")?
        .execute([KNOCKS_KEPT])?;
    Ok(())
}

fn row(row: &Row<'_>) -> rusqlite::Result<TraceRow> {
    let cause: Option<String> = row.get(14)?;
    Ok(TraceRow {
        id: row.get::<_, i64>(0)? as u64,
        reference: row.get(1)?,
        began_us: row.get::<_, i64>(2)? as u64,
        took_us: row.get::<_, i64>(3)? as u64,
        origin: word(row, 4)?,
        gateway: row.get(5)?,
        sender: row.get(6)?,
        chain: row.get(7)?,
        typed_name: row.get(8)?,
        login: row.get(9)?,
        person: row.get(10)?,
        method: row.get(11)?,
        source: row.get(12)?,
        outcome: word(row, 13)?,
        cause: if cause.is_some() { Some(word(row, 14)?) } else { None },
        grant: row.get(15)?,
        revision: row.get::<_, i64>(16)? as u64,
        factor: row.get(17)?,
        waived: row.get(18)?,
    })
}

/// Reads an enum by the name that JSON gives it.
fn word<T: DeserializeOwned>(row: &Row<'_>, column: usize) -> rusqlite::Result<T> {
    let text: String = row.get(column)?;
    serde_json::from_value(serde_json::Value::String(text))
        .map_err(|error| rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(error)))
}

fn to_word<T: Serialize>(value: &T) -> String {
    serde_json::to_value(value).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_core::trace::{Hop, Tone};

    fn trace(id: u64) -> (TraceRow, Vec<Step>) {
        let step = Step { hop: Hop::Reply, what: "accept".into(), tone: Tone::Good, at_us: 0, took_us: 0, said: "x".into(), line: None };
        let row = TraceRow {
            id,
            reference: format!("R{id}"),
            began_us: id * 1_000_000,
            took_us: 0,
            origin: Origin::Gateway,
            gateway: "breakwater".into(),
            sender: "127.0.0.11:1".into(),
            chain: "staff".into(),
            typed_name: "ines".into(),
            login: "ines".into(),
            person: None,
            method: "pap".into(),
            source: None,
            outcome: Outcome::Accepted,
            cause: None,
            grant: None,
            factor: None,
            waived: None,
            revision: 1,
        };
        (row, vec![step])
    }

    fn records() -> (tempfile::TempDir, Records, tokio::runtime::Runtime) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), crate::records::Sync::Off).unwrap();
        (folder, records, tokio::runtime::Builder::new_current_thread().build().unwrap())
    }

    /// Writes traces with these numbers; each ends as many seconds after 1970 as its number says.
    fn write(records: &Records, runtime: &tokio::runtime::Runtime, numbers: impl Iterator<Item = u64>) {
        let all: Vec<_> = numbers.map(trace).collect();
        let job = move |transaction: &Transaction<'_>| {
            for (row, steps) in &all {
                insert_trace(transaction, row, &WrittenTrace { steps: written_steps(steps), facts: None })?;
            }
            Ok(())
        };
        runtime.block_on(records.write(job)).unwrap();
    }

    fn left(records: &Records, table: &str) -> i64 {
        records.read_now(|connection| connection.query_row(&format!("SELECT count(*) FROM {table}"), [], |row| row.get(0))).unwrap()
    }

    #[test]
    fn the_oldest_traces_and_their_steps_make_room_by_number_and_by_age() {
        let (_folder, records, runtime) = records();
        write(&records, &runtime, 1..=1000);
        let prune = |count: u64, time: Option<u64>| {
            let keeping = TraceKeeping { count, time: time.map(std::time::Duration::from_secs) };
            while runtime.block_on(records.write(move |transaction| prune_traces(transaction, keeping, 1_000_000_000))).unwrap() > 0 {}
            (left(&records, "traces"), left(&records, "trace_steps"))
        };
        assert_eq!(prune(2000, None), (1000, 1000), "there is room");
        assert_eq!(prune(300, None), (300, 300));
        assert_eq!(prune(300, Some(100)), (101, 101), "those that ended in the last hundred seconds");
        runtime.block_on(records.close());
    }

    #[test]
    fn a_time_finds_its_first_trace_also_where_numbers_are_missing() {
        let (_folder, records, runtime) = records();
        write(&records, &runtime, (1..=500).filter(|number| number % 7 != 0));
        let first = |second: u64| records.read_now(|connection| first_ended(connection, second * 1_000_000)).unwrap();
        for second in 1..=501 {
            let wanted = (second..).find(|number| number % 7 != 0 || *number > 500).unwrap_or(501);
            // A number that is missing is as good as the one after it.
            assert!(first(second) <= wanted as i64 && first(second) >= second as i64 - 1, "{second}: {}", first(second));
        }
        let listed = |since: u64, until: u64| {
            let filter = TraceFilter {
                since_us: Some(since * 1_000_000),
                until_us: Some(until * 1_000_000),
                limit: Some(500),
                ..TraceFilter::default()
            };
            runtime.block_on(records.traces(filter)).unwrap().iter().map(|row| row.id).collect::<Vec<_>>()
        };
        assert_eq!(listed(10, 16), [15, 13, 12, 11, 10]);
        runtime.block_on(records.close());
    }
}
