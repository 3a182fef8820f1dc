//! The change feed: every durable fact that views in memory follow, in the order in which it was committed.
//!
//! Whoever changes a fact adds an entry to the feed in the same transaction. Once the transaction is committed, the number of its newest
//! entry is published, and every view reads what it has not applied yet. No view assumes that it made all changes itself.

use super::{Records, RecordsError, person_key};
use rusqlite::{Connection, OptionalExtension, Transaction, params};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::watch;

/// Entries that are kept. A view that lags further behind reads everything again.
const KEPT: u64 = 20_000;

/// What kind of fact has changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Changed {
    /// One person: the record, factors, invitation, stopped approvals or trusted devices.
    Person {
        /// The source.
        source: String,
        /// The login name in that source, in lower case.
        login: String,
    },
    /// More people than are worth an entry each.
    People,
    /// Operators, their tokens or their console sign-ins.
    Operators,
    /// Sealed secrets.
    Secrets,
    /// A new revision of the site.
    Revision,
}

impl Changed {
    /// One person, by key (see [`person_key`]).
    pub(super) fn person(key: &str) -> Self {
        match key.split_once(':') {
            Some((source, login)) => Changed::Person { source: source.to_owned(), login: login.to_owned() },
            None => Changed::People,
        }
    }

    fn kind(&self) -> &'static str {
        match self {
            Changed::Person { .. } => "person",
            Changed::People => "people",
            Changed::Operators => "operators",
            Changed::Secrets => "secrets",
            Changed::Revision => "revision",
        }
    }

    fn key(&self) -> String {
        match self {
            Changed::Person { source, login } => person_key(source, login),
            _ => String::new(),
        }
    }

    fn read(kind: &str, key: &str) -> Self {
        match kind {
            "person" => Changed::person(key),
            "operators" => Changed::Operators,
            "secrets" => Changed::Secrets,
            "revision" => Changed::Revision,
            // Also what a later version may add: reading too much is safe.
            _ => Changed::People,
        }
    }
}

/// What was committed after a sequence number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Changes {
    /// The newest sequence number; the next question begins there.
    pub newest: u64,
    /// What changed, oldest first, each fact once.
    pub changed: Vec<Changed>,
    /// Whether entries are missing because they are older than those that are kept: everything must be read again.
    pub incomplete: bool,
}

/// The publishing side of the feed.
#[derive(Debug)]
pub(super) struct Feed {
    newest: watch::Sender<u64>,
    /// Whether the open transaction has added entries.
    touched: AtomicBool,
}

impl Feed {
    pub(super) fn open(connection: &Connection) -> rusqlite::Result<Self> {
        Ok(Feed { newest: watch::Sender::new(newest(connection)?), touched: AtomicBool::new(false) })
    }

    /// Adds an entry within a transaction.
    pub(super) fn add(&self, transaction: &Transaction<'_>, changed: &Changed) -> rusqlite::Result<()> {
        let entry = params![changed.kind(), changed.key()];
        transaction.prepare_cached("INSERT INTO feed (kind, key) VALUES (?1, ?2)")?.execute(entry)?;
        let oldest = transaction.last_insert_rowid() - KEPT.cast_signed();
        transaction.prepare_cached("DELETE FROM feed WHERE sequence <= ?1")?.execute([oldest])?;
        self.touched.store(true, Ordering::Relaxed);
        Ok(())
    }

    /// After a commit, or after it failed: publishes the newest committed entry.
    pub(super) fn publish(&self, connection: &Connection) {
        if !self.touched.swap(false, Ordering::Relaxed) {
            return;
        }
        match newest(connection) {
            Ok(newest) => drop(self.newest.send_replace(newest)),
            // The next entry publishes this one too.
            Err(error) => tracing::warn!(%error, "the change feed could not be read"),
        }
    }
}

/// The number of the newest entry there has been; 0 before the first.
fn newest(connection: &Connection) -> rusqlite::Result<u64> {
    let newest: Option<i64> =
        connection.query_row("SELECT seq FROM sqlite_sequence WHERE name = 'feed'", [], |row| row.get(0)).optional()?;
    Ok(newest.unwrap_or(0).cast_unsigned())
}

impl Records {
    /// The sequence number of the newest committed change. It covers every write that has returned.
    pub fn newest_change(&self) -> u64 {
        *self.feed.newest.borrow()
    }

    /// Is told whenever [`Records::newest_change`] grows.
    pub fn watch_changes(&self) -> watch::Receiver<u64> {
        self.feed.newest.subscribe()
    }

    /// What was committed after `sequence`.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn changes_after(&self, sequence: u64) -> Result<Changes, RecordsError> {
        self.read(move |connection| changes_after(connection, sequence)).await
    }

    /// As [`Records::write`], for jobs that change facts which views in memory follow: `changed` says which, given the job's result.
    pub(super) async fn write_facts<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
        changed: impl FnOnce(&T) -> Vec<Changed> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let feed = Arc::clone(&self.feed);
        self.write(move |transaction| {
            let value = job(transaction)?;
            changed(&value).iter().try_for_each(|changed| feed.add(transaction, changed))?;
            Ok(value)
        })
        .await
    }

    /// As [`Records::write_facts`], for jobs that read or change people and factors (see [`Records::write_people`]).
    pub(super) async fn write_people_facts<T: Send + 'static>(
        &self,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
        changed: impl FnOnce(&T) -> Vec<Changed> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let remembered = Arc::clone(&self.remembered);
        let job = move |transaction: &Transaction<'_>| {
            remembered.fold_all(transaction)?;
            job(transaction)
        };
        self.write_facts(job, changed).await
    }

    /// As [`Records::write_facts`], for a fact of the person whose factor has this number; nothing is added if there is no such factor.
    pub(super) async fn write_facts_of<T: Send + 'static>(
        &self,
        factor: u64,
        job: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<T> + Send + 'static,
    ) -> Result<T, RecordsError> {
        let feed = Arc::clone(&self.feed);
        self.write(move |transaction| {
            let owner = "SELECT source, login FROM people JOIN factors ON factors.person = people.id WHERE factors.id = ?1";
            let person = |row: &rusqlite::Row<'_>| Ok(Changed::Person { source: row.get(0)?, login: row.get(1)? });
            let owner = transaction.prepare_cached(owner)?.query_row([factor.cast_signed()], person).optional()?;
            let value = job(transaction)?;
            owner.map_or(Ok(()), |owner| feed.add(transaction, &owner))?;
            Ok(value)
        })
        .await
    }
}

fn changes_after(connection: &Connection, sequence: u64) -> rusqlite::Result<Changes> {
    let newest = newest(connection)?;
    let mut statement = connection.prepare_cached("SELECT sequence, kind, key FROM feed WHERE sequence > ?1 ORDER BY sequence")?;
    let entry = |row: &rusqlite::Row<'_>| Ok((row.get::<_, i64>(0)?.cast_unsigned(), row.get::<_, String>(1)?, row.get::<_, String>(2)?));
    let entries: Vec<(u64, String, String)> = statement.query_map([sequence.cast_signed()], entry)?.collect::<rusqlite::Result<_>>()?;
    let incomplete = sequence < newest && entries.first().is_none_or(|(first, ..)| *first != sequence + 1);
    let mut changed: Vec<Changed> = Vec::new();
    let mut seen = std::collections::HashSet::new();
    for (_, kind, key) in entries {
        if seen.insert((kind.clone(), key.clone())) {
            changed.push(Changed::read(&kind, &key));
        }
    }
    Ok(Changes { newest, changed, incomplete })
}

/// How far a view has followed the feed. One caller at a time applies changes; the others wait and find them applied.
#[derive(Debug, Default)]
pub struct Cursor {
    applied: tokio::sync::Mutex<u64>,
}

impl Cursor {
    /// A view that was read when this was the newest change. Take the number before reading, so that nothing falls between.
    pub fn at(sequence: u64) -> Self {
        Cursor { applied: tokio::sync::Mutex::new(sequence) }
    }

    /// The view was read anew when this was the newest change.
    pub async fn skip_to(&self, sequence: u64) {
        let mut applied = self.applied.lock().await;
        *applied = sequence.max(*applied);
    }

    /// Brings a view up to date with everything that was committed before this call. `apply` gets what has changed; where it fails, the
    /// same changes come again with the next call.
    ///
    /// # Errors
    /// The records cannot be read, or `apply` has failed.
    pub async fn catch_up<E: From<RecordsError>>(
        &self,
        records: &Records,
        apply: impl AsyncFnOnce(&Changes) -> Result<(), E>,
    ) -> Result<(), E> {
        let wanted = records.newest_change();
        let mut applied = self.applied.lock().await;
        if *applied >= wanted {
            return Ok(());
        }
        let changes = records.changes_after(*applied).await?;
        apply(&changes).await?;
        *applied = changes.newest;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::{FactorSettings, NewFactor, NewPerson, Role, Sync};
    use bivector_model::Moment;
    use bivector_model::device::CodeKind;

    const NOON: Moment = Moment::from_secs(1_800_000_000);

    fn ines() -> NewPerson {
        let factor =
            NewFactor { kind: CodeKind::Totp.into(), label: "app".into(), sealed: vec![1], settings: FactorSettings::default(), pin: None };
        NewPerson { login: "ines".into(), source: "tidehall".into(), factor: Some(factor), ..NewPerson::default() }
    }

    fn person() -> Changed {
        Changed::Person { source: "tidehall".into(), login: "ines".into() }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_write_that_has_returned_is_in_the_feed_and_each_fact_comes_once() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        records.keep_people(vec![ines()], NOON).await.unwrap();
        let begun = records.newest_change();
        records.rename_factor(1, "phone".into()).await.unwrap();
        records.rename_factor(1, "telephone".into()).await.unwrap();
        records.rename_factor(77, "nobody's".into()).await.unwrap();
        records.add_operator("vesna".into(), Role::View, NOON).await.unwrap();
        assert!(!records.add_operator("vesna".into(), Role::View, NOON).await.unwrap());
        assert_eq!(records.newest_change(), begun + 3, "what changes nothing is no entry");
        let changes = records.changes_after(begun).await.unwrap();
        assert_eq!(changes, Changes { newest: begun + 3, changed: vec![person(), Changed::Operators], incomplete: false });
        records.close().await;
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        assert_eq!(records.newest_change(), begun + 3, "numbers go on after a restart");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_write_that_fails_is_in_no_feed_and_its_number_is_given_to_the_next() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let before = records.newest_change();
        let feed = Arc::clone(&records.feed);
        let failing = records.write(move |transaction| {
            feed.add(transaction, &Changed::Secrets)?;
            transaction.execute("INSERT INTO no_such_table VALUES (1)", [])
        });
        assert!(failing.await.is_err());
        assert_eq!(records.newest_change(), before);
        records.add_revision("text".into(), "owner".into(), String::new(), NOON).await.unwrap();
        let changes = records.changes_after(before).await.unwrap();
        assert_eq!(changes, Changes { newest: before + 1, changed: vec![Changed::Revision], incomplete: false });
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_view_that_lags_too_far_behind_is_told_so() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let begun = records.newest_change();
        let feed = Arc::clone(&records.feed);
        records.write(move |transaction| (0..=KEPT).try_for_each(|_| feed.add(transaction, &Changed::Operators))).await.unwrap();
        let changes = records.changes_after(begun).await.unwrap();
        assert!(changes.incomplete && changes.newest == begun + KEPT + 1, "{changes:?}");
        assert!(!records.changes_after(begun + 1).await.unwrap().incomplete);
        assert!(!records.changes_after(changes.newest).await.unwrap().incomplete, "nothing is missing where nothing was changed");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_could_not_be_applied_comes_again() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let cursor = Cursor::at(records.newest_change());
        records.add_operator("vesna".into(), Role::View, NOON).await.unwrap();
        let failed = cursor.catch_up(&records, async |_| Err(RecordsError("as it is meant to".into()))).await;
        assert!(failed.is_err());
        let mut seen = Vec::new();
        for _ in 0..2 {
            let applied: Result<(), RecordsError> = cursor
                .catch_up(&records, async |changes| {
                    seen.push(changes.changed.clone());
                    Ok(())
                })
                .await;
            applied.unwrap();
        }
        assert_eq!(seen, [vec![Changed::Operators]]);
    }

    /// Whatever changes a fact must say so: every public write of one is tried, and a trigger in the file itself notes what it touched.
    #[tokio::test(flavor = "multi_thread")]
    async fn every_write_of_a_fact_adds_an_entry() {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        records.keep_people(vec![ines()], NOON).await.unwrap();
        let tables = ["people", "factors", "invitations", "stops", "operators", "tokens", "sign_ins", "secrets", "revisions"];
        let watched: String = tables
            .iter()
            .flat_map(|table| ["INSERT", "UPDATE", "DELETE"].map(|event| (table, event)))
            .map(|(table, event)| {
                format!("CREATE TRIGGER watch_{table}_{event} AFTER {event} ON {table} BEGIN INSERT INTO touched VALUES ('{table}'); END;")
            })
            .collect();
        records.write(move |transaction| transaction.execute_batch(&format!("CREATE TABLE touched (name TEXT); {watched}"))).await.unwrap();
        let mut deeds = tests_of_facts::all();
        assert!(deeds.len() > 20);
        for (name, deed) in deeds.drain(..) {
            let before = records.newest_change();
            deed(records.clone()).await;
            let touched = records
                .write(|transaction| {
                    let touched: i64 = transaction.query_row("SELECT count(*) FROM touched", [], |row| row.get(0))?;
                    transaction.execute("DELETE FROM touched", [])?;
                    Ok(touched)
                })
                .await
                .unwrap();
            assert!(touched > 0, "{name} was meant to change something");
            assert!(records.newest_change() > before, "{name} changed a fact and said nothing");
        }
    }

    mod tests_of_facts {
        use super::*;
        use crate::records::{Edit, NewInvitation, SignInRow, StopRow, TokenRow};
        use bivector_site::Invited;
        use std::pin::Pin;

        type Deed = Box<dyn FnOnce(Records) -> Pin<Box<dyn Future<Output = ()> + Send>> + Send>;

        fn deed<F: Future<Output = ()> + Send + 'static>(
            name: &'static str,
            deed: impl FnOnce(Records) -> F + Send + 'static,
        ) -> (&'static str, Deed) {
            (name, Box::new(move |records| Box::pin(deed(records))))
        }

        fn invitation(hash: u8) -> NewInvitation {
            NewInvitation {
                person: "tidehall:ines".into(),
                factor: Invited::Approval,
                hash: vec![hash],
                until: NOON.plus(std::time::Duration::from_secs(3600)),
                operator: "owner".into(),
                sent_to: None,
            }
        }

        fn sign_in() -> SignInRow {
            SignInRow {
                hash: vec![4],
                operator: "vesna".into(),
                by: "token t".into(),
                from: "192.0.2.7".into(),
                created_us: 1,
                until_us: 9_000_000_000_000_000,
            }
        }

        fn new_factor(label: &str) -> NewFactor {
            NewFactor { label: label.into(), ..super::ines().factor.unwrap() }
        }

        pub(super) fn all() -> Vec<(&'static str, Deed)> {
            let own = || ("tidehall".to_owned(), "ines".to_owned());
            let mut deeds = operators();
            deeds.extend([
                deed("add_factor", move |records| async move {
                    records.add_factor(own().0, own().1, new_factor("second"), NOON).await.unwrap().unwrap();
                }),
                deed("set_settings", |records| async move {
                    assert!(records.set_settings(1, FactorSettings { uses: Some(2), ..FactorSettings::default() }).await.unwrap());
                }),
                deed("set_sealed", |records| async move { assert!(records.set_sealed(1, vec![9]).await.unwrap()) }),
                deed("rename_factor", |records| async move { assert!(records.rename_factor(1, "phone".into()).await.unwrap()) }),
                deed("set_pin", |records| async move { assert!(records.set_pin(1, Some("hash".into())).await.unwrap()) }),
                deed("remove_factor", move |records| async move {
                    assert!(records.remove_factor(own().0, own().1, 2).await.unwrap());
                }),
                deed("invite", |records| async move { assert!(records.invite(invitation(1), NOON).await.unwrap() > 0) }),
                deed("withdraw_invitations", |records| async move {
                    assert_eq!(records.withdraw_invitations("tidehall:ines".into()).await.unwrap(), 1);
                }),
                deed("use_invitation", |records| async move {
                    records.invite(invitation(2), NOON).await.unwrap();
                    let (_, id) = records.use_invitation(vec![2], new_factor("third"), NOON).await.unwrap();
                    id.unwrap();
                }),
                deed("stop", |records| async move {
                    let row = StopRow { at_us: 1, until_us: 2, gateway: String::new(), caller: String::new(), reference: String::new() };
                    records.stop_approvals("tidehall:ines".into(), row).await.unwrap();
                }),
                deed("forget_devices", |records| async move {
                    assert!(records.forget_devices("tidehall:ines".into()).await.unwrap());
                }),
                deed("change_people", |records| async move {
                    let mut person = ines();
                    person.name = "Inês".into();
                    records.change_people("owner".into(), "a name".into(), vec![Edit::Keep(Box::new(person))], NOON).await.unwrap();
                }),
                deed("undo_change", |records| async move {
                    records.undo_change(1, NOON).await.unwrap().unwrap();
                }),
                deed("keep_people", |records| async move { records.keep_people(vec![ines()], NOON).await.unwrap() }),
            ]);
            deeds
        }

        fn operators() -> Vec<(&'static str, Deed)> {
            let token = || TokenRow { hash: vec![3], operator: "vesna".into(), label: "t".into() };
            vec![
                deed("add_operator", |records| async move {
                    for name in ["owner", "vesna"] {
                        assert!(records.add_operator(name.into(), Role::Own, NOON).await.unwrap());
                    }
                }),
                deed("add_token", move |records| async move { assert!(records.add_token(token(), NOON).await.unwrap()) }),
                deed("keep_sign_in", |records| async move { records.keep_sign_in(sign_in()).await.unwrap() }),
                deed("forget_sign_ins", |records| async move { records.forget_sign_ins(vec![vec![4]]).await.unwrap() }),
                deed("drop_token", |records| async move { assert!(records.drop_token("vesna".into(), "t".into()).await.unwrap()) }),
                deed("set_sign_in", |records| async move {
                    records.set_sign_in("vesna".into(), "hash".into(), vec![1]).await.unwrap();
                }),
                deed("change_operator", |records| async move {
                    assert!(records.change_operator("vesna".into(), None).await.unwrap());
                }),
                deed("set_secret", |records| async move { records.set_secret("s".into(), vec![1], "owner".into(), NOON).await.unwrap() }),
                deed("set_next_secret", |records| async move {
                    assert!(records.set_next_secret("s".into(), vec![2], NOON).await.unwrap());
                }),
                deed("retire_secret", |records| async move {
                    assert!(records.retire_secret("s".into(), "owner".into(), NOON).await.unwrap());
                }),
                deed("forget_secret", |records| async move { assert!(records.forget_secret("s".into()).await.unwrap()) }),
                deed("add_revision", |records| async move {
                    records.add_revision("text".into(), "owner".into(), String::new(), NOON).await.unwrap();
                }),
            ]
        }
    }
}
