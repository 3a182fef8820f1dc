//! Sessions: one row each, changed by the reports of their gateway.

use super::{Records, RecordsError};
use bivector_api::sessions::{SessionChart, SessionFilter, SessionRow};
use bivector_model::Moment;
use bivector_sessions::{Ended, Report, Session, Taken, Traffic};
use rusqlite::types::Value;
use rusqlite::{Connection, OptionalExtension, Row, Transaction, params, params_from_iter};

/// Rows of a page unless the asker says otherwise, and at most.
const PAGE: (u32, u32) = (100, 1_000);
/// Rows that are ended or removed in one job: some milliseconds of the writer's time.
const AT_ONCE: u32 = 1_000;

/// What a session is known to come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionLink {
    /// The login's reference.
    pub reference: String,
    /// When it was accepted.
    pub accepted: Moment,
    /// The person's key.
    pub person: Option<String>,
    /// The chain.
    pub chain: String,
    /// The grant.
    pub grant: Option<String>,
    /// The second factor.
    pub factor: Option<String>,
}

/// What a report has changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionChanged {
    /// The session's number.
    pub id: u64,
    /// Whether it was not known before.
    pub is_new: bool,
    /// By how many the open sessions have grown.
    pub grown: i64,
    /// Whether the login that it came from is not known yet.
    pub unlinked: bool,
}

const COLUMNS: &str = "id, gateway, session, name, person, reference, chain, granted, factor, addresses, caller, called, port, began_us, heard_us, \
                       ended_us, ended, bytes_in, bytes_out, packets_in, packets_out, odd, asked";

impl Records {
    /// Takes a report of a session; durable when this returns.
    ///
    /// # Errors
    /// It could not be written; the gateway has to send it again.
    pub async fn report_session(&self, gateway: String, report: Report) -> Result<SessionChanged, RecordsError> {
        self.write_together(move |transaction| take(transaction, &gateway, &report)).await
    }

    /// Notes the login that a session came from.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn link_session(&self, id: u64, link: SessionLink) -> Result<(), RecordsError> {
        self.write_together(move |transaction| {
            let set = "UPDATE sessions SET person = ?2, reference = ?3, chain = ?4, granted = ?5, factor = ?6 WHERE id = ?1";
            let SessionLink { reference, person, chain, grant, factor, .. } = link;
            super::leases::bind(transaction, &reference, id)?;
            transaction.prepare_cached(set)?.execute(params![id as i64, person, reference, chain, grant, factor]).map(drop)
        })
        .await
    }

    /// Notes that a gateway has started again: its sessions of before are over. They are ended by [`Records::end_stale_sessions`].
    ///
    /// # Errors
    /// It could not be written.
    pub async fn gateway_restarted(&self, gateway: String, at: Moment) -> Result<(), RecordsError> {
        self.write_together(move |transaction| {
            let note =
                "INSERT INTO session_restarts VALUES (?1, ?2) ON CONFLICT (gateway) DO UPDATE SET at_us = max(at_us, excluded.at_us)";
            transaction.prepare_cached(note)?.execute(params![gateway, at.micros() as i64]).map(drop)
        })
        .await
    }

    /// Ends some of the sessions whose gateway has restarted, and some that nothing was heard of since `silent_since`. Gives how many, and
    /// whether there may be more.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn end_stale_sessions(&self, silent_since: Moment) -> Result<(u64, bool), RecordsError> {
        self.write_together(move |transaction| {
            let mut ended = 0;
            let restarts: Vec<(String, i64)> = transaction
                .prepare_cached("SELECT gateway, at_us FROM session_restarts")?
                .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?
                .collect::<Result<_, _>>()?;
            for (gateway, at) in restarts {
                let end = "UPDATE sessions SET ended_us = max(?2, began_us), ended = 'restarted' WHERE id IN
                           (SELECT id FROM sessions WHERE gateway = ?1 AND ended_us IS NULL AND began_us <= ?2 LIMIT ?3)";
                let count = transaction.prepare_cached(end)?.execute(params![gateway, at, AT_ONCE])?;
                ended += count as u64;
                if count < AT_ONCE as usize {
                    transaction
                        .prepare_cached("DELETE FROM session_restarts WHERE gateway = ?1 AND at_us = ?2")?
                        .execute(params![gateway, at])?;
                }
            }
            let end = "UPDATE sessions SET ended_us = heard_us, ended = 'lost' WHERE id IN
                       (SELECT id FROM sessions WHERE ended_us IS NULL AND heard_us < ?1 LIMIT ?2)";
            let lost = transaction.prepare_cached(end)?.execute(params![silent_since.micros() as i64, AT_ONCE])?;
            let more: bool = transaction.query_row("SELECT EXISTS (SELECT 1 FROM session_restarts)", [], |row| row.get(0))?;
            Ok((ended + lost as u64, more || lost == AT_ONCE as usize))
        })
        .await
    }

    /// Removes some of the sessions that ended before a moment, or that are more than may be kept. Gives whether there may be more.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn tidy_sessions(&self, most: u64, ended_before: Option<Moment>) -> Result<bool, RecordsError> {
        self.write_together(move |transaction| {
            let (first, last): (Option<i64>, Option<i64>) =
                transaction.query_row("SELECT min(id), max(id) FROM sessions", [], |row| Ok((row.get(0)?, row.get(1)?)))?;
            let (Some(first), Some(last)) = (first, last) else { return Ok(false) };
            // Numbers are given without gaps, but for sessions that were removed: those are the oldest.
            let keep_from = last.saturating_sub(most as i64 - 1);
            let old =
                "DELETE FROM sessions WHERE id IN (SELECT id FROM sessions WHERE id < ?1 AND ended_us IS NOT NULL ORDER BY id LIMIT ?2)";
            let mut removed = if first < keep_from { transaction.prepare_cached(old)?.execute(params![keep_from, AT_ONCE])? } else { 0 };
            if let Some(before) = ended_before {
                let old = "DELETE FROM sessions WHERE id IN (SELECT id FROM sessions WHERE ended_us < ?1 LIMIT ?2)";
                removed += transaction.prepare_cached(old)?.execute(params![before.micros() as i64, AT_ONCE])?;
            }
            Ok(removed >= AT_ONCE as usize)
        })
        .await
    }

    /// Notes who asked for the end of a session.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn session_asked(&self, id: u64, asked: String) -> Result<(), RecordsError> {
        self.write(move |transaction| {
            transaction.prepare_cached("UPDATE sessions SET asked = ?2 WHERE id = ?1")?.execute(params![id as i64, asked]).map(drop)
        })
        .await
    }

    /// A page of sessions, newest first.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn sessions(&self, filter: SessionFilter) -> Result<Vec<SessionRow>, RecordsError> {
        self.read(move |connection| list(connection, &filter)).await
    }

    /// One session.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn session(&self, id: u64) -> Result<Option<SessionRow>, RecordsError> {
        self.read(move |connection| {
            connection.prepare_cached(&format!("SELECT {COLUMNS} FROM sessions WHERE id = ?1"))?.query_row([id as i64], read).optional()
        })
        .await
    }

    /// Keys of the people who have open sessions.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn people_in_sessions(&self) -> Result<Vec<String>, RecordsError> {
        self.read(|connection| {
            let people = "SELECT DISTINCT person FROM sessions WHERE ended_us IS NULL AND person IS NOT NULL";
            connection.prepare_cached(people)?.query_map([], |row| row.get(0))?.collect()
        })
        .await
    }

    /// Open sessions of each gateway.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn open_sessions(&self) -> Result<Vec<(String, u64)>, RecordsError> {
        self.read(|connection| {
            let count = "SELECT gateway, count(*) FROM sessions WHERE ended_us IS NULL GROUP BY gateway";
            connection.prepare_cached(count)?.query_map([], |row| Ok((row.get(0)?, row.get::<_, i64>(1)? as u64)))?.collect()
        })
        .await
    }

    /// How many sessions were open at `count` moments, each `span_us` after the other, the last one being `until`.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn session_chart(
        &self,
        until: Moment,
        span_us: u64,
        count: u64,
        gateway: Option<String>,
    ) -> Result<SessionChart, RecordsError> {
        self.read(move |connection| chart(connection, until.micros(), span_us.max(1), count.max(1), gateway.as_deref())).await
    }
}

fn take(transaction: &Transaction<'_>, gateway: &str, report: &Report) -> rusqlite::Result<SessionChanged> {
    let newest = format!("SELECT {COLUMNS} FROM sessions WHERE gateway = ?1 AND session = ?2 ORDER BY id DESC LIMIT 1");
    let known = transaction.prepare_cached(&newest)?.query_row(params![gateway, report.session], read).optional()?;
    let Some(row) = known else {
        let session = Session::of(report);
        let id = insert(transaction, gateway, &session)?;
        if let Some(reference) = &session.reference {
            // As durable as the session itself: its addresses last as long as it does.
            super::leases::bind(transaction, reference, id)?;
        }
        return Ok(SessionChanged { id, is_new: true, grown: i64::from(session.ended.is_none()), unlinked: true });
    };
    let (id, was_open, unlinked) = (row.id, row.ended_us.is_none(), row.chain.is_none());
    let mut session = session_of(row);
    let taken = session.take(report);
    update(transaction, id, &session)?;
    let (id, is_new, is_open) = match taken {
        Taken::Same => (id, false, session.ended.is_none()),
        Taken::Another => {
            let session = Session::of(report);
            (insert(transaction, gateway, &session)?, true, session.ended.is_none())
        }
    };
    Ok(SessionChanged { id, is_new, grown: i64::from(is_open) - i64::from(was_open), unlinked: is_new || unlinked })
}

fn insert(transaction: &Transaction<'_>, gateway: &str, session: &Session) -> rusqlite::Result<u64> {
    let insert =
        "INSERT INTO sessions (gateway, session, name, reference, addresses, caller, called, port, began_us, heard_us, ended_us, ended,
                  bytes_in, bytes_out, packets_in, packets_out, odd)
                  VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17)";
    let key = [Value::Text(gateway.to_owned()), Value::Text(session.session.clone())];
    transaction.prepare_cached(insert)?.execute(params_from_iter(key.into_iter().chain(values(session))))?;
    Ok(transaction.last_insert_rowid() as u64)
}

fn update(transaction: &Transaction<'_>, id: u64, session: &Session) -> rusqlite::Result<()> {
    let update = "UPDATE sessions SET name = ?2, reference = coalesce(reference, ?3), addresses = ?4, caller = ?5, called = ?6, port = ?7, began_us = ?8,
                  heard_us = ?9, ended_us = ?10, ended = ?11, bytes_in = ?12, bytes_out = ?13, packets_in = ?14, packets_out = ?15, odd = ?16
                  WHERE id = ?1";
    let values = std::iter::once(Value::Integer(id as i64)).chain(values(session));
    transaction.prepare_cached(update)?.execute(params_from_iter(values)).map(drop)
}

/// What a report may change, in the order of both statements.
fn values(session: &Session) -> impl Iterator<Item = Value> {
    let text = |text: &str| Value::Text(text.to_owned());
    let number = |number: u64| Value::Integer(number as i64);
    let or_null = |value: Option<Value>| value.unwrap_or(Value::Null);
    let traffic = session.traffic;
    [
        text(&session.name),
        or_null(session.reference.as_deref().map(text)),
        text(&session.addresses.join(" ")),
        text(&session.caller),
        text(&session.called),
        text(&session.port),
        number(session.began.micros()),
        number(session.heard.micros()),
        or_null(session.ended.map(|(at, _)| number(at.micros()))),
        or_null(session.ended.map(|(_, ended)| text(&ended.to_text()))),
        number(traffic.bytes_in),
        number(traffic.bytes_out),
        number(traffic.packets_in),
        number(traffic.packets_out),
        or_null(session.odd.as_deref().map(text)),
    ]
    .into_iter()
}

fn read(row: &Row<'_>) -> rusqlite::Result<SessionRow> {
    let number = |column| row.get::<_, i64>(column).map(|number| number as u64);
    let addresses: String = row.get(9)?;
    let ended = row.get::<_, Option<String>>(16)?.and_then(|text| Ended::from_text(&text));
    let asked: Option<String> = row.get(22)?;
    let why = ended.map(|ended| match (ended, &asked) {
        (Ended::Reported { cause: 0 | 6 | 10 }, Some(asked)) => format!("{asked} ({})", ended.in_words()),
        _ => ended.in_words(),
    });
    Ok(SessionRow {
        id: number(0)?,
        gateway: row.get(1)?,
        session: row.get(2)?,
        name: row.get(3)?,
        person: row.get(4)?,
        reference: row.get(5)?,
        chain: row.get(6)?,
        grant: row.get(7)?,
        factor: row.get(8)?,
        addresses: addresses.split(' ').filter(|address| !address.is_empty()).map(str::to_owned).collect(),
        caller: row.get(10)?,
        called: row.get(11)?,
        port: row.get(12)?,
        began_us: number(13)?,
        heard_us: number(14)?,
        ended_us: row.get::<_, Option<i64>>(15)?.map(|at| at as u64),
        ended,
        why,
        traffic: Traffic { bytes_in: number(17)?, bytes_out: number(18)?, packets_in: number(19)?, packets_out: number(20)? },
        odd: row.get(21)?,
        asked,
    })
}

fn session_of(row: SessionRow) -> Session {
    let ended = row.ended_us.zip(row.ended).map(|(at, ended)| (Moment::from_micros(at), ended));
    Session {
        session: row.session,
        name: row.name,
        reference: row.reference,
        addresses: row.addresses,
        caller: row.caller,
        called: row.called,
        port: row.port,
        began: Moment::from_micros(row.began_us),
        heard: Moment::from_micros(row.heard_us),
        ended,
        traffic: row.traffic,
        odd: row.odd,
    }
}

fn list(connection: &Connection, filter: &SessionFilter) -> rusqlite::Result<Vec<SessionRow>> {
    let mut values: Vec<Value> = Vec::new();
    let mut conditions: Vec<String> = Vec::new();
    let mut add = |condition: &str, value: Value| {
        values.push(value);
        conditions.push(condition.replace('?', &format!("?{}", values.len())));
    };
    let number = |number: u64| Value::Integer(i64::try_from(number).unwrap_or(i64::MAX));
    if let Some(gateway) = &filter.gateway {
        add("gateway = ?", Value::Text(gateway.clone()));
    }
    if let Some(person) = &filter.person {
        // A key holds its source; a name is as the gateway tells it.
        let column = if person.contains(':') { "person = ?" } else { "name = ?" };
        add(column, Value::Text(person.clone()));
    }
    if let Some(address) = &filter.address {
        add("addresses = ?", Value::Text(address.clone()));
    }
    if let Some(reference) = &filter.reference {
        add("reference = ?", Value::Text(reference.to_uppercase()));
    }
    if let Some(since) = filter.since_us {
        add("began_us >= ?", number(since));
    }
    if let Some(until) = filter.until_us {
        add("began_us < ?", number(until));
    }
    if let Some(before) = filter.before {
        add("id < ?", number(before));
    }
    match filter.state.as_deref() {
        Some("open") => conditions.push("ended_us IS NULL".to_owned()),
        Some("ended") => conditions.push("ended_us IS NOT NULL".to_owned()),
        Some("lost") => conditions.push("ended = 'lost'".to_owned()),
        _ => {}
    }
    let given = if conditions.is_empty() { String::new() } else { format!("WHERE {}", conditions.join(" AND ")) };
    let limit = filter.limit.unwrap_or(PAGE.0).clamp(1, PAGE.1);
    let query = format!("SELECT {COLUMNS} FROM sessions {given} ORDER BY id DESC LIMIT {limit}");
    connection.prepare(&query)?.query_map(params_from_iter(values), read)?.collect()
}

/// From what is open now, back over what began and ended.
fn chart(connection: &Connection, until: u64, span: u64, count: u64, gateway: Option<&str>) -> rusqlite::Result<SessionChart> {
    let since = until.saturating_sub(span * (count - 1));
    // The first figure counts what began in the span before it.
    let from = since.saturating_sub(span);
    let own = "(?1 IS NULL OR gateway = ?1)";
    let open_now = format!("SELECT count(*) FROM sessions WHERE began_us <= ?2 AND (ended_us IS NULL OR ended_us > ?2) AND {own}");
    let open_now = connection.prepare_cached(&open_now)?.query_row(params![gateway, until as i64], |row| row.get::<_, i64>(0))? as u64;
    let by_span = |column: &str| -> rusqlite::Result<Vec<u64>> {
        let query =
            format!("SELECT ({column} - ?3 - 1) / ?4, count(*) FROM sessions WHERE {column} > ?3 AND {column} <= ?2 AND {own} GROUP BY 1");
        let mut spans = vec![0; count as usize];
        let mut statement = connection.prepare_cached(&query)?;
        let rows = statement.query_map(params![gateway, until as i64, from as i64, span as i64], |row| {
            Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?))
        })?;
        for row in rows {
            let (at, count) = row?;
            if let Some(span) = usize::try_from(at).ok().and_then(|at| spans.get_mut(at)) {
                *span = count as u64;
            }
        }
        Ok(spans)
    };
    let (began, ended) = (by_span("began_us")?, by_span("ended_us")?);
    let mut open = vec![0; count as usize];
    let mut now = open_now;
    for at in (0..count as usize).rev() {
        open[at] = now;
        now = (now + ended[at]).saturating_sub(began[at]);
    }
    Ok(SessionChart { since_us: since, span_us: span, open, began, ended })
}

#[cfg(test)]
mod tests {
    use super::super::{Records, Sync};
    use super::*;
    use bivector_sessions::ReportKind;

    fn report(kind: ReportKind, session: &str, at: u64) -> Report {
        Report {
            kind,
            session: session.into(),
            name: "ines".into(),
            reference: None,
            addresses: vec!["192.0.2.77".into()],
            caller: "198.51.100.7".into(),
            called: String::new(),
            port: "9".into(),
            at: Moment::from_secs(at),
            lasted: None,
            traffic: Some(Traffic { bytes_in: at, ..Traffic::default() }),
            cause: (kind == ReportKind::Stop).then_some(1),
            odd: None,
        }
    }

    fn link() -> SessionLink {
        SessionLink {
            reference: "C27S2K9A".into(),
            accepted: Moment::from_secs(999),
            person: Some("tidehall:ines".into()),
            chain: "staff".into(),
            grant: Some("control-room".into()),
            factor: Some("totp".into()),
        }
    }

    async fn told(records: &Records, kind: ReportKind, session: &str, at: u64) -> SessionChanged {
        let changed = records.report_session("breakwater".into(), report(kind, session, at)).await.unwrap();
        if changed.unlinked {
            records.link_session(changed.id, link()).await.unwrap();
        }
        changed
    }

    async fn open(records: &Records) -> u64 {
        records.open_sessions().await.unwrap().into_iter().map(|(_, count)| count).sum()
    }

    #[tokio::test]
    async fn a_session_is_kept_found_and_ended_by_its_reports() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let changed = told(&records, ReportKind::Start, "4f-1", 1_000).await;
        assert!(changed.is_new && changed.unlinked && changed.grown == 1, "{changed:?}");
        let changed = told(&records, ReportKind::Interim, "4f-1", 1_060).await;
        assert!(!changed.is_new && !changed.unlinked && changed.grown == 0, "{changed:?}");
        for filter in [
            SessionFilter { state: Some("open".into()), ..Default::default() },
            SessionFilter { person: Some("tidehall:ines".into()), gateway: Some("breakwater".into()), ..Default::default() },
            SessionFilter { person: Some("ines".into()), ..Default::default() },
            SessionFilter { address: Some("192.0.2.77".into()), ..Default::default() },
            SessionFilter { reference: Some("c27s2k9a".into()), since_us: Some(1), until_us: Some(u64::MAX), ..Default::default() },
        ] {
            let found = records.sessions(filter.clone()).await.unwrap();
            assert_eq!(found.len(), 1, "{filter:?}");
            assert_eq!((found[0].grant.as_deref(), found[0].traffic.bytes_in), (Some("control-room"), 1_060));
        }
        let changed = told(&records, ReportKind::Stop, "4f-1", 1_090).await;
        assert_eq!((changed.grown, open(&records).await), (-1, 0));
        let row = records.session(changed.id).await.unwrap().unwrap();
        assert_eq!((row.why.as_deref(), row.ended_us), (Some("the user disconnected"), Some(1_090_000_000)));
        let again = told(&records, ReportKind::Start, "4f-1", 5_000).await;
        assert!(again.is_new && again.id != changed.id, "the gateway uses its names again");
    }

    #[tokio::test]
    async fn a_restart_ends_the_sessions_of_before_in_slices_and_nobody_elses() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        for number in 0..AT_ONCE + 5 {
            told(&records, ReportKind::Start, &number.to_string(), 1_000).await;
        }
        records.report_session("lantern".into(), report(ReportKind::Start, "x", 1_000)).await.unwrap();
        records.gateway_restarted("breakwater".into(), Moment::from_secs(2_000)).await.unwrap();
        told(&records, ReportKind::Start, "new", 2_001).await;
        let (ended, more) = records.end_stale_sessions(Moment::from_secs(0)).await.unwrap();
        assert_eq!((ended, more), (u64::from(AT_ONCE), true));
        let (ended, more) = records.end_stale_sessions(Moment::from_secs(0)).await.unwrap();
        assert_eq!((ended, more, open(&records).await), (5, false, 2));
        let (ended, _) = records.end_stale_sessions(Moment::from_secs(2_000)).await.unwrap();
        let lost = records.sessions(SessionFilter { state: Some("lost".into()), ..Default::default() }).await.unwrap();
        assert_eq!((ended, lost.len(), lost[0].gateway.as_str()), (1, 1, "lantern"));
    }

    #[tokio::test]
    async fn the_chart_counts_what_was_open_at_each_moment() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        for (session, from, to) in [("a", 100, Some(250)), ("b", 150, None), ("c", 310, Some(320)), ("d", 500, None)] {
            told(&records, ReportKind::Start, session, from).await;
            if let Some(to) = to {
                told(&records, ReportKind::Stop, session, to).await;
            }
        }
        let chart = records.session_chart(Moment::from_secs(400), 100_000_000, 4, None).await.unwrap();
        assert_eq!(chart.since_us, 100_000_000);
        assert_eq!((chart.open, chart.began, chart.ended), (vec![1, 2, 1, 1], vec![1, 1, 0, 1], vec![0, 0, 1, 1]));
        let none = records.session_chart(Moment::from_secs(400), 100_000_000, 4, Some("lantern".into())).await.unwrap();
        assert_eq!(none.open, [0, 0, 0, 0]);
    }

    #[tokio::test]
    async fn only_ended_sessions_are_removed_the_oldest_first() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        for number in 0..10 {
            told(&records, ReportKind::Start, &number.to_string(), 1_000 + number).await;
            if number != 0 {
                told(&records, ReportKind::Stop, &number.to_string(), 1_100 + number).await;
            }
        }
        records.tidy_sessions(4, None).await.unwrap();
        let left: Vec<_> = records.sessions(SessionFilter::default()).await.unwrap().into_iter().map(|row| row.session).collect();
        assert_eq!(left, ["9", "8", "7", "6", "0"], "the open one stays");
        records.tidy_sessions(100, Some(Moment::from_secs(1_108))).await.unwrap();
        let left: Vec<_> = records.sessions(SessionFilter::default()).await.unwrap().into_iter().map(|row| row.session).collect();
        assert_eq!(left, ["9", "8", "0"]);
    }
}
