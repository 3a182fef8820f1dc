//! How each handset can be woken: its push subscription, encrypted, and what became of the last message; and the keys that messages are
//! signed with.

use super::{Records, RecordsError};
use bivector_api::push::PushState;
use bivector_model::Moment;
use rusqlite::{Connection, OptionalExtension, Row, params};

/// Subscriptions of one person, at most: each approval is sent to all of them.
pub const SUBSCRIPTIONS: usize = 16;

/// A subscription on its way to the records.
#[derive(Debug, Clone)]
pub struct NewSubscription {
    /// The handset.
    pub device: u64,
    /// The push service, by origin.
    pub service: String,
    /// A hash of the address: no two handsets have the same.
    pub endpoint: Vec<u8>,
    /// Address and keys, encrypted.
    pub sealed: Vec<u8>,
    /// The signing key that it was made with.
    pub key: u64,
}

/// What became of a subscription.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Subscribed {
    /// It is kept, in place of the handset's last one.
    Kept,
    /// Another person's handset has this address.
    Claimed,
    /// The person has as many as one may have.
    TooMany,
    /// The handset is gone.
    Gone,
}

/// How a handset can be woken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushRow {
    /// The handset.
    pub device: u64,
    /// Whether it can be.
    pub state: PushState,
    /// Why not, in a sentence; empty if it can.
    pub why: String,
    /// Since when, in microseconds since 1970.
    pub since_us: u64,
    /// The push service, by origin; empty without a subscription.
    pub service: String,
    /// Address and keys, encrypted.
    pub sealed: Option<Vec<u8>>,
    /// The signing key of the subscription.
    pub key: u64,
    /// When the handset was last heard from; 0 for never.
    pub heard_us: u64,
    /// When the last message was sent; 0 for never.
    pub sent_us: u64,
    /// What the push service said to it.
    pub result: String,
    /// When the handset last showed a message; 0 for never.
    pub shown_us: u64,
}

/// What was seen of a handset.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct PushNoted {
    /// When it was heard from.
    pub heard: Option<Moment>,
    /// When a message was sent, and what the push service said.
    pub sent: Option<(Moment, String)>,
    /// When it showed a message.
    pub shown: Option<Moment>,
}

impl PushRow {
    /// Of a handset that has said nothing of it.
    pub fn none(device: u64) -> Self {
        PushRow {
            device,
            state: PushState::None,
            why: String::new(),
            since_us: 0,
            service: String::new(),
            sealed: None,
            key: 0,
            heard_us: 0,
            sent_us: 0,
            result: String::new(),
            shown_us: 0,
        }
    }
}

/// A signing key as kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushKeyRow {
    /// Record number.
    pub id: u64,
    /// The public key, in base64url.
    pub public: String,
    /// The private key, encrypted.
    pub sealed: Vec<u8>,
    /// When it was made, in microseconds since 1970.
    pub made_us: u64,
}

const COLUMNS: &str = "device, state, why, since_us, service, sealed, key, heard_us, sent_us, result, shown_us";

fn read_row(row: &Row<'_>) -> rusqlite::Result<PushRow> {
    let number = |index| row.get::<_, Option<i64>>(index).map(|number| number.unwrap_or(0).cast_unsigned());
    Ok(PushRow {
        device: number(0)?,
        state: PushState::named(&row.get::<_, String>(1)?),
        why: row.get(2)?,
        since_us: number(3)?,
        service: row.get(4)?,
        sealed: row.get(5)?,
        key: number(6)?,
        heard_us: number(7)?,
        sent_us: number(8)?,
        result: row.get(9)?,
        shown_us: number(10)?,
    })
}

impl Records {
    /// How some handsets can be woken; those that have said nothing of it yet are left out.
    pub async fn pushes(&self, devices: Vec<u64>) -> Result<Vec<PushRow>, RecordsError> {
        self.read(move |connection| {
            let mut statement = connection.prepare_cached(&format!("SELECT {COLUMNS} FROM pushes WHERE device = ?1"))?;
            let row = |device: u64| statement.query_row([device.cast_signed()], read_row).optional();
            devices.into_iter().map(row).filter_map(Result::transpose).collect()
        })
        .await
    }

    /// How all handsets can be woken.
    pub async fn all_pushes(&self) -> Result<Vec<PushRow>, RecordsError> {
        self.read(|connection| {
            let mut statement = connection.prepare(&format!("SELECT {COLUMNS} FROM pushes ORDER BY device"))?;
            statement.query_map([], read_row)?.collect()
        })
        .await
    }

    /// Keeps a subscription: untested, until the person has confirmed a message. A handset that was ready stays so when it subscribes again.
    pub async fn subscribe(&self, new: NewSubscription, now: Moment) -> Result<Subscribed, RecordsError> {
        self.write(move |transaction| {
            let device = new.device.cast_signed();
            let Some(person) = person_of(transaction, device)? else { return Ok(Subscribed::Gone) };
            let holder: Option<i64> =
                transaction.query_row("SELECT device FROM pushes WHERE endpoint = ?1", [&new.endpoint], |row| row.get(0)).optional()?;
            if let Some(holder) = holder.filter(|holder| *holder != device) {
                if person_of(transaction, holder)? != Some(person) {
                    return Ok(Subscribed::Claimed);
                }
                // The same browser was set up again for the same person.
                end(transaction, holder, PushState::Ended, "the phone was set up again", now)?;
            }
            let others: i64 = transaction.query_row(
                "SELECT count(*) FROM pushes JOIN factors ON id = device WHERE person = ?1 AND endpoint IS NOT NULL AND device <> ?2",
                [person, device],
                |row| row.get(0),
            )?;
            if others >= SUBSCRIPTIONS as i64 {
                return Ok(Subscribed::TooMany);
            }
            let at = now.micros().cast_signed();
            transaction.execute(
                "INSERT INTO pushes (device, state, why, since_us, service, endpoint, sealed, key, heard_us)
                 VALUES (?1, 'untested', '', ?2, ?3, ?4, ?5, ?6, ?2)
                 ON CONFLICT (device) DO UPDATE SET state = CASE state WHEN 'ready' THEN 'ready' ELSE 'untested' END, why = '', since_us = ?2, service = ?3, endpoint = ?4, sealed = ?5,
                     key = ?6, heard_us = ?2, result = ''",
                params![device, at, new.service, new.endpoint, new.sealed, new.key.cast_signed()],
            )?;
            Ok(Subscribed::Kept)
        })
        .await
    }

    /// Notes that a handset can be woken: its person has confirmed a message.
    pub async fn push_confirmed(&self, device: u64, now: Moment) -> Result<bool, RecordsError> {
        self.write(move |transaction| {
            let values = params![device.cast_signed(), now.micros().cast_signed()];
            let set = "UPDATE pushes SET state = 'ready', why = '', since_us = ?2, heard_us = ?2
                       WHERE device = ?1 AND endpoint IS NOT NULL";
            Ok(transaction.execute(set, values)? == 1)
        })
        .await
    }

    /// Notes why a handset cannot be woken; a subscription that it had is forgotten.
    pub async fn push_ended(&self, device: u64, state: PushState, why: String, now: Moment) -> Result<(), RecordsError> {
        self.write(move |transaction| match person_of(transaction, device.cast_signed())? {
            Some(_) => end(transaction, device.cast_signed(), state, &why, now),
            None => Ok(()),
        })
        .await
    }

    /// Notes that the push service no longer knows a subscription, which is named by what is kept of it. A handset that has subscribed again
    /// meanwhile keeps its new one.
    pub async fn push_gone(&self, device: u64, sealed: Vec<u8>, why: String, now: Moment) -> Result<(), RecordsError> {
        self.write(move |transaction| {
            let device = device.cast_signed();
            let same = transaction.query_row("SELECT 1 FROM pushes WHERE device = ?1 AND sealed = ?2", params![device, sealed], |_| Ok(()));
            match same.optional()? {
                Some(()) => end(transaction, device, PushState::Ended, &why, now),
                None => Ok(()),
            }
        })
        .await
    }

    /// Notes what was seen of handsets since the last time.
    pub async fn note_pushes(&self, notes: Vec<(u64, PushNoted)>) -> Result<(), RecordsError> {
        self.write(move |transaction| {
            let mut statement = transaction.prepare_cached(
                "INSERT INTO pushes (device, state, why, since_us, service, heard_us, sent_us, result, shown_us)
                 SELECT ?1, 'none', '', ?2, '', ?3, ?4, coalesce(?5, ''), ?6 WHERE EXISTS (SELECT 1 FROM factors WHERE id = ?1)
                 ON CONFLICT (device) DO UPDATE SET heard_us = max(heard_us, ?3), sent_us = max(sent_us, ?4),
                     result = coalesce(?5, result), shown_us = max(shown_us, ?6)",
            )?;
            notes.into_iter().try_for_each(|(device, noted)| {
                let micros = |at: Option<Moment>| at.map_or(0, |at| at.micros().cast_signed());
                let (sent, result) = noted.sent.map_or((None, None), |(at, result)| (Some(at), Some(result)));
                let newest = noted.heard.max(sent).max(noted.shown);
                let values = params![device.cast_signed(), micros(newest), micros(noted.heard), micros(sent), result, micros(noted.shown)];
                statement.execute(values).map(drop)
            })
        })
        .await
    }

    /// Keys that messages are signed with, the newest first.
    pub async fn push_keys(&self) -> Result<Vec<PushKeyRow>, RecordsError> {
        self.read(|connection| {
            let mut statement = connection.prepare_cached("SELECT id, public, sealed, made_us FROM push_keys ORDER BY id DESC")?;
            let read = |row: &Row<'_>| {
                Ok(PushKeyRow {
                    id: row.get::<_, i64>(0)?.cast_unsigned(),
                    public: row.get(1)?,
                    sealed: row.get(2)?,
                    made_us: row.get::<_, i64>(3)?.cast_unsigned(),
                })
            };
            statement.query_map([], read)?.collect()
        })
        .await
    }

    /// Keeps a signing key, unless there is a newer one than `replaces` already; then nothing changes. Keys that no subscription needs
    /// any more go.
    pub async fn add_push_key(&self, public: String, sealed: Vec<u8>, replaces: Option<u64>, now: Moment) -> Result<bool, RecordsError> {
        self.write(move |transaction| {
            let newest: Option<i64> = transaction.query_row("SELECT max(id) FROM push_keys", [], |row| row.get(0))?;
            if newest != replaces.map(u64::cast_signed) {
                return Ok(false);
            }
            transaction.execute("DELETE FROM push_keys WHERE id NOT IN (SELECT key FROM pushes WHERE key IS NOT NULL)", [])?;
            let values = params![public, sealed, now.micros().cast_signed()];
            transaction.execute("INSERT INTO push_keys (public, sealed, made_us) VALUES (?1, ?2, ?3)", values)?;
            Ok(true)
        })
        .await
    }
}

fn person_of(connection: &Connection, device: i64) -> rusqlite::Result<Option<i64>> {
    connection.query_row("SELECT person FROM factors WHERE id = ?1 AND kind = 'handset'", [device], |row| row.get(0)).optional()
}

fn end(connection: &Connection, device: i64, state: PushState, why: &str, now: Moment) -> rusqlite::Result<()> {
    let values = params![device, state.name(), why, now.micros().cast_signed()];
    let set = "INSERT INTO pushes (device, state, why, since_us, service) VALUES (?1, ?2, ?3, ?4, '')
               ON CONFLICT (device) DO UPDATE SET state = ?2, why = ?3, since_us = ?4, endpoint = NULL, sealed = NULL, key = NULL";
    connection.execute(set, values).map(drop)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::{DeviceKind, FactorSettings, NewFactor, NewPerson, Sync};

    const NOON: Moment = Moment::from_secs(1_800_000_000);

    fn handset(label: &str) -> NewFactor {
        NewFactor { kind: DeviceKind::Handset, label: label.into(), sealed: vec![1], settings: FactorSettings::default(), pin: None }
    }

    /// Records in which these people have a handset each; their numbers count from 1.
    async fn records(people: &[&str]) -> (tempfile::TempDir, Records) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let person = |login: &&str| NewPerson {
            login: (*login).into(),
            source: "tidehall".into(),
            factor: Some(handset("phone")),
            ..NewPerson::default()
        };
        records.keep_people(people.iter().map(person).collect(), NOON).await.unwrap();
        (folder, records)
    }

    fn subscription(device: u64, endpoint: u8) -> NewSubscription {
        NewSubscription { device, service: "https://push.example.net".into(), endpoint: vec![endpoint; 32], sealed: vec![endpoint], key: 1 }
    }

    async fn row(records: &Records, device: u64) -> PushRow {
        records.pushes(vec![device]).await.unwrap().pop().unwrap()
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_subscription_is_untested_until_a_message_was_confirmed() {
        let (_folder, records) = records(&["ines"]).await;
        assert_eq!(records.pushes(vec![1, 7]).await.unwrap(), []);
        assert!(!records.push_confirmed(1, NOON).await.unwrap(), "there is nothing to confirm");
        assert_eq!(records.subscribe(subscription(1, 7), NOON).await.unwrap(), Subscribed::Kept);
        assert_eq!(row(&records, 1).await.state, PushState::Untested);
        assert!(records.push_confirmed(1, NOON.plus(std::time::Duration::from_secs(5))).await.unwrap());
        let ready = row(&records, 1).await;
        assert_eq!((ready.state, ready.since_us), (PushState::Ready, NOON.micros() + 5_000_000));
        assert_eq!(ready.sealed, Some(vec![7]));
        records.subscribe(subscription(1, 8), NOON).await.unwrap();
        assert_eq!(row(&records, 1).await.state, PushState::Ready, "the same browser subscribes with a new key");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn two_people_never_have_the_same_address() {
        let (_folder, records) = records(&["ines", "yuki"]).await;
        records.subscribe(subscription(1, 7), NOON).await.unwrap();
        assert_eq!(records.subscribe(subscription(2, 7), NOON).await.unwrap(), Subscribed::Claimed);
        assert_eq!(row(&records, 1).await.state, PushState::Untested, "the first one keeps it");
        assert_eq!(records.pushes(vec![2]).await.unwrap(), []);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_phone_that_is_set_up_again_takes_its_address_along() {
        let (_folder, records) = records(&["ines"]).await;
        let second = records.add_factor("tidehall".into(), "ines".into(), handset("phone again"), NOON).await.unwrap().unwrap();
        records.subscribe(subscription(1, 7), NOON).await.unwrap();
        assert_eq!(records.subscribe(subscription(second, 7), NOON).await.unwrap(), Subscribed::Kept);
        let first = row(&records, 1).await;
        assert_eq!((first.state, first.why.as_str(), first.sealed), (PushState::Ended, "the phone was set up again", None));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_person_has_sixteen_subscriptions_at_most() {
        let (_folder, records) = records(&["ines"]).await;
        for number in 1..=SUBSCRIPTIONS as u64 + 1 {
            let device = match number {
                1 => 1,
                _ => {
                    records.add_factor("tidehall".into(), "ines".into(), handset(&format!("phone {number}")), NOON).await.unwrap().unwrap()
                }
            };
            let kept = records.subscribe(subscription(device, number as u8), NOON).await.unwrap();
            assert_eq!(kept, if number <= 16 { Subscribed::Kept } else { Subscribed::TooMany }, "{number}");
        }
        assert_eq!(records.subscribe(subscription(1, 99), NOON).await.unwrap(), Subscribed::Kept, "its own one may be replaced");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_ended_says_why_and_forgets_the_address() {
        let (_folder, records) = records(&["ines"]).await;
        records.subscribe(subscription(1, 7), NOON).await.unwrap();
        records.push_ended(1, PushState::Ended, "the push service no longer knows the phone (410)".into(), NOON).await.unwrap();
        let ended = row(&records, 1).await;
        assert_eq!((ended.state, ended.sealed.as_ref(), ended.key), (PushState::Ended, None, 0));
        records.push_ended(99, PushState::Refused, String::new(), NOON).await.unwrap();
        assert_eq!(records.all_pushes().await.unwrap().len(), 1, "nothing is kept of a handset that is not there");
        assert_eq!(records.subscribe(subscription(1, 7), NOON).await.unwrap(), Subscribed::Kept, "it may come back");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_subscription_made_meanwhile_outlives_the_end_of_the_one_before() {
        let (_folder, records) = records(&["ines"]).await;
        records.subscribe(subscription(1, 7), NOON).await.unwrap();
        let before = row(&records, 1).await.sealed.unwrap();
        let newer = NewSubscription { sealed: vec![8; 40], ..subscription(1, 8) };
        records.subscribe(newer, NOON).await.unwrap();
        records.push_gone(1, before, "gone (410)".into(), NOON).await.unwrap();
        assert_eq!(row(&records, 1).await.sealed, Some(vec![8; 40]), "the newer one stays");
        records.push_gone(1, vec![8; 40], "gone (410)".into(), NOON).await.unwrap();
        let ended = row(&records, 1).await;
        assert_eq!((ended.state, ended.why.as_str(), ended.sealed), (PushState::Ended, "gone (410)", None));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_removed_handset_takes_its_subscription_along() {
        let (_folder, records) = records(&["ines"]).await;
        records.subscribe(subscription(1, 7), NOON).await.unwrap();
        records.remove_factor("tidehall".into(), "ines".into(), 1).await.unwrap();
        assert_eq!(records.all_pushes().await.unwrap(), []);
        assert_eq!(records.subscribe(subscription(1, 7), NOON).await.unwrap(), Subscribed::Gone);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn it_is_noted_when_a_handset_was_heard_from_and_what_became_of_the_last_message() {
        let (_folder, records) = records(&["ines"]).await;
        let later = NOON.plus(std::time::Duration::from_secs(9));
        let heard = |at| PushNoted { heard: Some(at), ..PushNoted::default() };
        records.note_pushes(vec![(1, heard(later)), (77, heard(later))]).await.unwrap();
        records.note_pushes(vec![(1, heard(NOON))]).await.unwrap();
        assert_eq!(row(&records, 1).await.heard_us, later.micros(), "the newest time counts");
        assert_eq!(records.all_pushes().await.unwrap().len(), 1, "nothing is kept of a handset that is not there");
        let sent = PushNoted { sent: Some((NOON, "accepted".into())), shown: Some(later), heard: None };
        records.note_pushes(vec![(1, sent)]).await.unwrap();
        records.note_pushes(vec![(1, heard(NOON))]).await.unwrap();
        let seen = row(&records, 1).await;
        assert_eq!((seen.sent_us, seen.result.as_str(), seen.shown_us), (NOON.micros(), "accepted", later.micros()));
        assert_eq!(seen.state, PushState::None);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_key_is_replaced_once_and_goes_when_no_subscription_needs_it() {
        let (_folder, records) = records(&["ines"]).await;
        let add = |public: &str, replaces| records.add_push_key(public.into(), vec![1], replaces, NOON);
        assert!(add("first", None).await.unwrap());
        assert!(!add("another first", None).await.unwrap(), "two nodes make one key");
        records.subscribe(subscription(1, 7), NOON).await.unwrap();
        assert!(add("second", Some(1)).await.unwrap());
        assert!(!add("another second", Some(1)).await.unwrap());
        let publics = |keys: Vec<PushKeyRow>| keys.into_iter().map(|key| key.public).collect::<Vec<_>>();
        assert_eq!(publics(records.push_keys().await.unwrap()), ["second", "first"]);
        records.push_ended(1, PushState::Ended, "gone".into(), NOON).await.unwrap();
        assert!(add("third", Some(2)).await.unwrap());
        assert_eq!(publics(records.push_keys().await.unwrap()), ["third"]);
    }
}
