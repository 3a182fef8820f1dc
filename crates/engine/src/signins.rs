//! Sign-ins of operators to the console, and how every sign-in over HTTP ends early: by signing out, with the token or the operator that it
//! came from, or when an owner ends it. Open event streams end with it.

use bivector_model::Moment;
use bivector_store::clock;
use bivector_store::records::{Changed, Changes, Cursor, Records, RecordsError, SignInRow};
use bivector_store::seal::{hash_token, random};
use data_encoding::{BASE64URL_NOPAD, HEXLOWER};
use std::collections::{HashMap, HashSet};
use std::sync::Mutex;
use std::time::Duration;
use tokio_util::sync::CancellationToken;

/// How long a sign-in to the console lasts.
pub const LASTS: Duration = Duration::from_secs(12 * 3600);
/// Sign-ins of one operator at a time; the oldest makes room.
const PER_OPERATOR: usize = 20;
/// Before the label of the token that a sign-in was made with.
const BY_TOKEN: &str = "token ";
/// What a sign-in was made with if not a token.
pub const BY_PASSWORD: &str = "password and code";

#[derive(Debug)]
struct Open {
    row: SignInRow,
    last_used: Moment,
    ended: CancellationToken,
}

/// All sign-ins that have not ended.
#[derive(Debug)]
pub struct SignIns {
    records: Records,
    console: Mutex<HashMap<Vec<u8>, Open>>,
    /// Ends event streams of programs with the token that they came with, by its hash.
    programs: Mutex<HashMap<Vec<u8>, CancellationToken>>,
    /// Sign-ins of people and handsets that have ended before their time.
    ended: Mutex<HashSet<[u8; 16]>>,
    followed: Cursor,
}

/// A sign-in as an owner sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// Names it, and opens nothing.
    pub id: String,
    /// What it is kept as.
    pub row: SignInRow,
    /// When it last asked something, in microseconds since 1970; since the last start.
    pub last_used_us: u64,
}

fn id_of(hash: &[u8]) -> String {
    HEXLOWER.encode(hash.get(..8).unwrap_or(hash))
}

impl SignIns {
    /// Reads those that were open.
    ///
    /// # Errors
    /// The records cannot be read.
    pub fn load(records: &Records) -> Result<Self, RecordsError> {
        let (now, followed) = (clock::now(), Cursor::at(records.newest_change()));
        let open = records.sign_ins(now)?.into_iter().map(|row| {
            let last_used = Moment::from_micros(row.created_us);
            (row.hash.clone(), Open { row, last_used, ended: CancellationToken::new() })
        });
        Ok(SignIns {
            records: records.clone(),
            console: Mutex::new(open.collect()),
            programs: Mutex::default(),
            ended: Mutex::new(records.ended_sign_ins(now)?),
            followed,
        })
    }

    /// Applies what was signed in, signed out and revoked elsewhere.
    ///
    /// # Errors
    /// The records cannot be read; the next call tries again.
    pub async fn follow(&self) -> Result<(), RecordsError> {
        let apply = async |changes: &Changes| {
            if !changes.incomplete && !changes.changed.contains(&Changed::Operators) {
                return Ok(());
            }
            let now = clock::now();
            let (kept, ended) = (self.records.sign_ins(now)?, self.records.ended_sign_ins(now)?);
            if let Ok(mut console) = self.console.lock() {
                let known: HashSet<&[u8]> = kept.iter().map(|row| row.hash.as_slice()).collect();
                console.retain(|hash, open| {
                    let stays = known.contains(hash.as_slice());
                    if !stays {
                        open.ended.cancel();
                    }
                    stays
                });
                for row in kept {
                    let last_used = Moment::from_micros(row.created_us);
                    console.entry(row.hash.clone()).or_insert_with(|| Open { row, last_used, ended: CancellationToken::new() });
                }
            }
            if let Ok(mut known) = self.ended.lock() {
                *known = ended;
            }
            Ok(())
        };
        self.followed.catch_up(&self.records, apply).await
    }

    /// Signs an operator in; gives what the cookie holds. `token` is the label of the token that did it, if one did.
    ///
    /// # Errors
    /// It could not be written.
    pub async fn begin(&self, operator: &str, token: Option<&str>, from: &str) -> Result<String, RecordsError> {
        let value = BASE64URL_NOPAD.encode(&random::<32>());
        let now = clock::now();
        let row = SignInRow {
            hash: hash_token(&value),
            operator: operator.to_owned(),
            by: token.map_or_else(|| BY_PASSWORD.to_owned(), |label| format!("{BY_TOKEN}{label}")),
            from: from.to_owned(),
            created_us: now.micros(),
            until_us: now.plus(LASTS).micros(),
        };
        self.records.keep_sign_in(row.clone()).await?;
        let crowded = self.console.lock().map_or_else(
            |_| Vec::new(),
            |mut console| {
                console.entry(row.hash.clone()).or_insert_with(|| Open { row, last_used: now, ended: CancellationToken::new() });
                let mut own: Vec<_> = console
                    .values()
                    .filter(|open| open.row.operator == operator)
                    .map(|open| (open.row.created_us, open.row.hash.clone()))
                    .collect();
                own.sort_unstable();
                own.truncate(own.len().saturating_sub(PER_OPERATOR));
                own.into_iter().map(|(_, hash)| hash).collect()
            },
        );
        self.end(crowded).await?;
        Ok(value)
    }

    /// The operator of a cookie, with the hash that the sign-in is known by.
    pub fn operator_of(&self, value: &str) -> Option<(String, Vec<u8>)> {
        let (hash, now) = (hash_token(value), clock::now());
        let mut console = self.console.lock().ok()?;
        let open = console.get_mut(&hash).filter(|open| open.row.until_us > now.micros())?;
        open.last_used = now;
        Some((open.row.operator.clone(), hash))
    }

    /// All of an operator, the newest first.
    pub fn of(&self, operator: &str) -> Vec<Seen> {
        let now = clock::now().micros();
        let Ok(console) = self.console.lock() else { return Vec::new() };
        let own = console.values().filter(|open| open.row.operator == operator && open.row.until_us > now);
        let mut own: Vec<Seen> =
            own.map(|open| Seen { id: id_of(&open.row.hash), row: open.row.clone(), last_used_us: open.last_used.micros() }).collect();
        own.sort_unstable_by_key(|seen| std::cmp::Reverse(seen.row.created_us));
        own
    }

    /// Ends those that `which` says yes to; gives how many.
    ///
    /// # Errors
    /// The records failed; in memory they have ended all the same.
    pub async fn end_where(&self, which: impl Fn(&SignInRow) -> bool) -> Result<usize, RecordsError> {
        let hashes: Vec<Vec<u8>> = self.console.lock().map_or_else(
            |_| Vec::new(),
            |console| console.values().filter(|open| which(&open.row)).map(|open| open.row.hash.clone()).collect(),
        );
        let count = hashes.len();
        self.end(hashes).await?;
        Ok(count)
    }

    async fn end(&self, hashes: Vec<Vec<u8>>) -> Result<(), RecordsError> {
        if hashes.is_empty() {
            return Ok(());
        }
        if let Ok(mut console) = self.console.lock() {
            for hash in &hashes {
                if let Some(open) = console.remove(hash) {
                    open.ended.cancel();
                }
            }
        }
        self.records.forget_sign_ins(hashes).await
    }

    /// Ends an operator's sign-in by its name; `false` if there is none.
    ///
    /// # Errors
    /// The records failed.
    pub async fn end_one(&self, operator: &str, id: &str) -> Result<bool, RecordsError> {
        Ok(self.end_where(|row| row.operator == operator && id_of(&row.hash) == id).await? > 0)
    }

    /// Ends all of an operator.
    ///
    /// # Errors
    /// The records failed.
    pub async fn end_all(&self, operator: &str) -> Result<usize, RecordsError> {
        self.end_where(|row| row.operator == operator).await
    }

    /// Ends what was made with a token: sign-ins, and event streams of programs.
    ///
    /// # Errors
    /// The records failed.
    pub async fn end_token(&self, operator: &str, label: &str) -> Result<usize, RecordsError> {
        let by = format!("{BY_TOKEN}{label}");
        self.end_where(|row| row.operator == operator && row.by == by).await
    }

    /// Ends event streams whose token `known` does not know any more.
    pub fn end_programs(&self, known: impl Fn(&[u8]) -> bool) {
        if let Ok(mut programs) = self.programs.lock() {
            programs.retain(|hash, ended| {
                let stays = known(hash);
                if !stays {
                    ended.cancel();
                }
                stays
            });
        }
    }

    /// Tells an event stream when the sign-in that it came by has ended.
    pub fn ends(&self, by: &SignedInBy) -> CancellationToken {
        let ended_already = || {
            let token = CancellationToken::new();
            token.cancel();
            token
        };
        match by {
            SignedInBy::Console(hash) => {
                let console = self.console.lock().ok();
                console.and_then(|console| console.get(hash).map(|open| open.ended.clone())).unwrap_or_else(ended_already)
            }
            SignedInBy::Token(hash) => {
                self.programs.lock().map_or_else(|_| ended_already(), |mut programs| programs.entry(hash.clone()).or_default().clone())
            }
        }
    }

    /// Ends the sign-in of a person or a handset, which is known by its cookie alone; `until` is when it would have ended.
    ///
    /// # Errors
    /// It could not be written; in memory it has ended all the same.
    pub async fn end_sealed(&self, id: [u8; 16], until: Moment) -> Result<(), RecordsError> {
        if let Ok(mut ended) = self.ended.lock() {
            ended.insert(id);
        }
        self.records.keep_ended_sign_in(id, until, clock::now()).await
    }

    /// Whether the sign-in of a person or a handset has ended before its time.
    pub fn has_ended(&self, id: &[u8; 16]) -> bool {
        self.ended.lock().map_or(true, |ended| ended.contains(id))
    }

    /// Forgets what is over by itself.
    pub fn tidy(&self) {
        let now = clock::now();
        if let Ok(mut console) = self.console.lock() {
            console.retain(|_, open| {
                let stays = open.row.until_us > now.micros();
                if !stays {
                    open.ended.cancel();
                }
                stays
            });
        }
        if let (Ok(kept), Ok(mut ended)) = (self.records.ended_sign_ins(now), self.ended.lock()) {
            *ended = kept;
        }
    }
}

/// What a call was signed in by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignedInBy {
    /// A sign-in to the console, by its hash.
    Console(Vec<u8>),
    /// An operator's token, by its hash.
    Token(Vec<u8>),
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_api::operators::Role;
    use bivector_store::records::Sync;

    async fn open() -> (tempfile::TempDir, Records) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        for name in ["owner", "harbour-master"] {
            records.add_operator(name.into(), Role::Own, clock::now()).await.unwrap();
        }
        (folder, records)
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_sign_in_ends_with_its_token_its_operator_or_by_hand_and_takes_its_streams_along() {
        let (folder, records) = open().await;
        let sign_ins = SignIns::load(&records).unwrap();
        let by_token = sign_ins.begin("owner", Some("first"), "198.51.100.7").await.unwrap();
        let by_password = sign_ins.begin("owner", None, "198.51.100.7").await.unwrap();
        let other = sign_ins.begin("harbour-master", Some("first"), "198.51.100.8").await.unwrap();
        let stream = |value: &str| sign_ins.ends(&SignedInBy::Console(sign_ins.operator_of(value).unwrap().1));
        let streams = [stream(&by_token), stream(&by_password), stream(&other)];
        sign_ins.end_token("owner", "first").await.unwrap();
        assert_eq!(streams.each_ref().map(CancellationToken::is_cancelled), [true, false, false]);
        assert!(sign_ins.operator_of(&by_token).is_none() && sign_ins.operator_of(&by_password).is_some());
        let id = sign_ins.of("owner")[0].id.clone();
        assert!(!sign_ins.end_one("harbour-master", &id).await.unwrap(), "somebody else's");
        assert!(sign_ins.end_one("owner", &id).await.unwrap());
        records.close().await;
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let sign_ins = SignIns::load(&records).unwrap();
        assert!(sign_ins.operator_of(&by_password).is_none(), "it stays ended after a restart");
        assert_eq!(sign_ins.operator_of(&other).map(|(name, _)| name).as_deref(), Some("harbour-master"));
        assert!(records.change_operator("harbour-master".into(), None).await.unwrap());
        records.add_operator("harbour-master".into(), Role::Own, clock::now()).await.unwrap();
        assert!(SignIns::load(&records).unwrap().operator_of(&other).is_none(), "the same name again is somebody else");
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn one_operators_sign_ins_are_bounded_and_the_oldest_makes_room() {
        let (_folder, records) = open().await;
        let sign_ins = SignIns::load(&records).unwrap();
        let first = sign_ins.begin("owner", None, "198.51.100.7").await.unwrap();
        tokio::time::sleep(Duration::from_millis(2)).await;
        for _ in 0..PER_OPERATOR {
            sign_ins.begin("owner", None, "198.51.100.7").await.unwrap();
        }
        assert_eq!(sign_ins.of("owner").len(), PER_OPERATOR);
        assert!(sign_ins.operator_of(&first).is_none());
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn programs_and_sealed_sign_ins_end_early_too() {
        let (folder, records) = open().await;
        let sign_ins = SignIns::load(&records).unwrap();
        let (kept, dropped) = (sign_ins.ends(&SignedInBy::Token(vec![1])), sign_ins.ends(&SignedInBy::Token(vec![2])));
        sign_ins.end_programs(|hash| hash == [1]);
        assert_eq!((kept.is_cancelled(), dropped.is_cancelled()), (false, true));
        let later = clock::now().plus(LASTS);
        sign_ins.end_sealed([7; 16], later).await.unwrap();
        sign_ins.end_sealed([8; 16], clock::now()).await.unwrap();
        assert!(sign_ins.has_ended(&[7; 16]) && !sign_ins.has_ended(&[9; 16]));
        records.close().await;
        let sign_ins = SignIns::load(&Records::open(folder.path(), Sync::Off).unwrap()).unwrap();
        assert!(sign_ins.has_ended(&[7; 16]) && !sign_ins.has_ended(&[8; 16]), "what is over by itself need not be known");
    }
}
