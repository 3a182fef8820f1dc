//! What grants hand out: leases of pools, and logins that were admitted under a limit of sessions and whose session is yet to come.

use super::{Records, RecordsError};
use bivector_model::Moment;
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use std::time::Duration;

/// What a login needs before its person is let in.
#[derive(Debug, Clone)]
pub struct ToReserve {
    /// The person's key.
    pub person: String,
    /// The gateway.
    pub gateway: String,
    /// The login's reference.
    pub reference: String,
    /// Pools that something is taken from.
    pub pools: Vec<PoolAsk>,
    /// How many sessions the person may have, and whether the oldest is ended for a further one.
    pub limit: Option<(u32, bool)>,
    /// How long the session may take to begin.
    pub within: Duration,
}

/// One pool that something is taken from.
#[derive(Debug, Clone)]
pub struct PoolAsk {
    /// Its name.
    pub name: String,
    /// How many it hands out.
    pub size: u64,
    /// How long a lease lasts whose session is not reported.
    pub lasts: Duration,
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReservedNow {
    /// Places of the pools, in their order, each with whether the person had it last time; open sessions, and the one to be ended.
    Reserved {
        /// Places.
        places: Vec<(u64, bool)>,
        /// Open sessions and admitted logins of the person.
        open: u64,
        /// The oldest session, where it is to make room.
        ends: Option<u64>,
    },
    /// The person has as many sessions as may be.
    TooMany(u64),
    /// Nothing is left in the pool of this position.
    Exhausted(usize),
}

/// Whether a lease counts: its session goes on, or it has none yet and its time is not over.
const COUNTS: &str = "((l.session IS NULL AND l.until_us > ?2) OR (l.session IS NOT NULL AND s.ended_us IS NULL AND s.id IS NOT NULL))";

impl Records {
    /// Reserves what a login needs; durable when this returns. Nothing is reserved unless everything is.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn reserve_grant(&self, ask: ToReserve, now: Moment) -> Result<ReservedNow, RecordsError> {
        self.write(move |transaction| reserve(transaction, &ask, now)).await
    }

    /// The names of pools, each with how many leases of it count now.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn pool_use(&self, now: Moment) -> Result<Vec<(String, u64)>, RecordsError> {
        self.read(move |connection| {
            let query = format!(
                "SELECT l.pool, count(*) FROM leases l LEFT JOIN sessions s ON s.id = l.session WHERE ?1 = ?1 AND {COUNTS} GROUP BY l.pool"
            );
            connection
                .prepare_cached(&query)?
                .query_map(params![0, now.micros() as i64], |row| Ok((row.get(0)?, row.get::<_, i64>(1)? as u64)))?
                .collect()
        })
        .await
    }
}

fn reserve(transaction: &Transaction<'_>, ask: &ToReserve, now: Moment) -> rusqlite::Result<ReservedNow> {
    let at = now.micros() as i64;
    transaction.prepare_cached("DELETE FROM admissions WHERE until_us <= ?1")?.execute([at])?;
    let (open, oldest): (i64, Option<i64>) = transaction
        .prepare_cached("SELECT count(*), min(id) FROM sessions WHERE person = ?1 AND ended_us IS NULL")?
        .query_row([&ask.person], |row| Ok((row.get(0)?, row.get(1)?)))?;
    let mut open = open as u64;
    let mut ends = None;
    if let Some((most, ends_oldest)) = ask.limit {
        let coming = "SELECT count(*) FROM admissions a WHERE a.person = ?1 AND a.reference <> ?2
                      AND NOT EXISTS (SELECT 1 FROM sessions s WHERE s.reference = a.reference)";
        open += transaction.prepare_cached(coming)?.query_row(params![ask.person, ask.reference], |row| row.get::<_, i64>(0))? as u64;
        match (open >= u64::from(most), ends_oldest, oldest) {
            (true, true, Some(oldest)) => ends = Some(oldest as u64),
            (true, ..) => return Ok(ReservedNow::TooMany(open)),
            _ => {}
        }
    }
    let mut places = Vec::new();
    for (position, pool) in ask.pools.iter().enumerate() {
        match free_place(transaction, pool, &ask.person, at)? {
            Some(place) => places.push(place),
            None => return Ok(ReservedNow::Exhausted(position)),
        }
    }
    for (pool, (place, _)) in ask.pools.iter().zip(&places) {
        let until = now.plus(pool.lasts).micros() as i64;
        let take = "INSERT INTO leases (pool, place, person, gateway, reference, since_us, until_us, session) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, NULL)
                    ON CONFLICT (pool, place) DO UPDATE SET person = excluded.person, gateway = excluded.gateway, reference = excluded.reference,
                    since_us = excluded.since_us, until_us = excluded.until_us, session = NULL";
        transaction.prepare_cached(take)?.execute(params![pool.name, *place as i64, ask.person, ask.gateway, ask.reference, at, until])?;
    }
    if ask.limit.is_some() {
        let admit = "INSERT OR REPLACE INTO admissions VALUES (?1, ?2, ?3)";
        transaction.prepare_cached(admit)?.execute(params![ask.reference, ask.person, now.plus(ask.within).micros() as i64])?;
    }
    Ok(ReservedNow::Reserved { places, open, ends })
}

/// The person's own place of last time, or one that nobody has had yet, or the one that has been free for longest.
fn free_place(connection: &Connection, pool: &PoolAsk, person: &str, at: i64) -> rusqlite::Result<Option<(u64, bool)>> {
    let size = pool.size as i64;
    let own = format!(
        "SELECT l.place FROM leases l LEFT JOIN sessions s ON s.id = l.session
         WHERE l.pool = ?1 AND l.person = ?3 AND l.place < ?4 AND NOT {COUNTS} ORDER BY l.since_us DESC LIMIT 1"
    );
    let place = connection.prepare_cached(&own)?.query_row(params![pool.name, at, person, size], |row| row.get::<_, i64>(0)).optional()?;
    if let Some(place) = place {
        return Ok(Some((place as u64, true)));
    }
    let next: i64 = connection
        .prepare_cached("SELECT coalesce(max(place) + 1, 0) FROM leases WHERE pool = ?1")?
        .query_row([&pool.name], |row| row.get(0))?;
    if next < size {
        return Ok(Some((next as u64, false)));
    }
    let free = format!(
        "SELECT l.place FROM leases l LEFT JOIN sessions s ON s.id = l.session
         WHERE l.pool = ?1 AND l.place < ?3 AND NOT {COUNTS} ORDER BY coalesce(s.ended_us, l.until_us) LIMIT 1"
    );
    let place = connection.prepare_cached(&free)?.query_row(params![pool.name, at, size], |row| row.get::<_, i64>(0)).optional()?;
    Ok(place.map(|place| (place as u64, false)))
}

/// A session has begun: the leases of its login last as long as it does.
pub(super) fn bind(transaction: &Transaction<'_>, reference: &str, session: u64) -> rusqlite::Result<()> {
    let bind = "UPDATE leases SET session = ?2 WHERE reference = ?1 AND session IS NULL";
    transaction.prepare_cached(bind)?.execute(params![reference, session as i64]).map(drop)
}

#[cfg(test)]
mod tests {
    use super::super::{Records, Sync};
    use super::*;
    use bivector_sessions::{Report, ReportKind};

    fn ask(person: &str, reference: &str, size: u64, limit: Option<(u32, bool)>) -> ToReserve {
        let lasts = Duration::from_secs(60);
        let pools = if size == 0 { Vec::new() } else { vec![PoolAsk { name: "crew".into(), size, lasts }] };
        let (person, gateway, reference) = (person.to_owned(), "breakwater".to_owned(), reference.to_owned());
        ToReserve { person, gateway, reference, pools, limit, within: Duration::from_secs(60) }
    }

    fn report(kind: ReportKind, reference: &str, at: u64) -> Report {
        Report {
            kind,
            session: reference.into(),
            name: "x".into(),
            reference: Some(reference.into()),
            addresses: Vec::new(),
            caller: String::new(),
            called: String::new(),
            port: String::new(),
            at: Moment::from_secs(at),
            lasted: None,
            traffic: None,
            cause: None,
            odd: None,
        }
    }

    async fn place(records: &Records, person: &str, reference: &str, at: u64) -> Option<(u64, bool)> {
        match records.reserve_grant(ask(person, reference, 2, None), Moment::from_secs(at)).await.unwrap() {
            ReservedNow::Reserved { places, .. } => Some(places[0]),
            ReservedNow::Exhausted(0) => None,
            other => panic!("{other:?}"),
        }
    }

    async fn told(records: &Records, kind: ReportKind, person: &str, reference: &str, at: u64) {
        let changed = records.report_session("breakwater".into(), report(kind, reference, at)).await.unwrap();
        if changed.is_new {
            let link = super::super::SessionLink {
                reference: reference.into(),
                accepted: Moment::from_secs(at),
                person: Some(person.into()),
                chain: "staff".into(),
                grant: None,
                factor: None,
            };
            records.link_session(changed.id, link).await.unwrap();
        }
    }

    #[tokio::test]
    async fn a_place_is_given_once_kept_for_its_person_and_free_when_its_session_ends() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        assert_eq!(place(&records, "a", "AAAAAAA1", 1_000).await, Some((0, false)));
        assert_eq!(place(&records, "b", "BBBBBBB1", 1_000).await, Some((1, false)));
        assert_eq!(place(&records, "c", "CCCCCCC1", 1_001).await, None, "all are taken");
        told(&records, ReportKind::Start, "a", "AAAAAAA1", 1_002).await;
        assert_eq!(place(&records, "c", "CCCCCCC2", 1_059).await, None);
        assert_eq!(place(&records, "c", "CCCCCCC3", 1_061).await, Some((1, false)), "b's session never began");
        assert_eq!(records.pool_use(Moment::from_secs(1_062)).await.unwrap()[0].1, 2);
        assert_eq!(place(&records, "d", "DDDDDDD1", 9_000).await, Some((1, false)), "c's is over, and a's session goes on");
        told(&records, ReportKind::Stop, "a", "AAAAAAA1", 9_100).await;
        assert_eq!(place(&records, "a", "AAAAAAA2", 9_101).await, Some((0, true)), "the same as last time");
    }

    #[tokio::test]
    async fn a_second_session_of_the_same_person_gets_another_place() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        assert_eq!(place(&records, "a", "AAAAAAA1", 1_000).await, Some((0, false)));
        assert_eq!(place(&records, "a", "AAAAAAA2", 1_000).await, Some((1, false)));
        drop(records);
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        assert_eq!(place(&records, "b", "BBBBBBB1", 1_001).await, None, "also after a start");
    }

    #[tokio::test]
    async fn sessions_are_limited_before_they_have_begun() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let reserve = async |reference: &str, limit, at| {
            records.reserve_grant(ask("a", reference, 0, Some(limit)), Moment::from_secs(at)).await.unwrap()
        };
        assert_eq!(reserve("AAAAAAA1", (1, false), 1_000).await, ReservedNow::Reserved { places: vec![], open: 0, ends: None });
        assert_eq!(reserve("AAAAAAA2", (1, false), 1_001).await, ReservedNow::TooMany(1), "the first is coming");
        told(&records, ReportKind::Start, "a", "AAAAAAA1", 1_002).await;
        assert_eq!(reserve("AAAAAAA3", (1, false), 1_003).await, ReservedNow::TooMany(1));
        assert_eq!(reserve("AAAAAAA4", (1, true), 1_003).await, ReservedNow::Reserved { places: vec![], open: 1, ends: Some(1) });
        told(&records, ReportKind::Stop, "a", "AAAAAAA1", 1_004).await;
        assert_eq!(reserve("AAAAAAA5", (1, false), 1_005).await, ReservedNow::TooMany(1), "the fourth is coming");
        assert_eq!(reserve("AAAAAAA6", (1, false), 1_064).await, ReservedNow::Reserved { places: vec![], open: 0, ends: None });
    }
}
