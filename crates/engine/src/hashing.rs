//! One bounded pool for all slow hashes: passwords and PINs of people, passwords of operators. Each takes a core for some milliseconds and
//! some memory, so as many run at a time as there are cores, and strangers at a sign-in page never keep a login waiting longer than one of theirs takes.

use arc_swap::ArcSwap;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use argon2::{Algorithm, Argon2, Params, Version};
use bivector_site::HashSettings;
use bivector_timing::budget::HashCost;
use bivector_wire::Secret;
use std::num::NonZero;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Instant;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// Logins that may wait for their turn; each holds a few kilobytes.
const LOGINS_WAITING: usize = 4096;
/// Sign-ins and changes that may wait: as many as a second or two will serve.
const OTHERS_WAITING: usize = 32;

/// What a hash is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum For {
    /// A login.
    Login,
    /// A sign-in of an operator, or a password that is set.
    Other,
}

/// Why a hash was not made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Busy {
    /// Too many wait already.
    #[error("too many passwords are being checked at this moment")]
    Full,
    /// Its turn came when nobody waited for it any more.
    #[error("so many passwords were being checked that the gateway had given up before this one's turn")]
    TooLate,
}

/// The pool; clones share it.
#[derive(Debug, Clone)]
pub struct Hashing {
    inside: Arc<Inside>,
}

#[derive(Debug)]
struct Inside {
    pool: ArcSwap<Pool>,
    logins_waiting: AtomicUsize,
    others_waiting: AtomicUsize,
    /// What hashes usually take, in microseconds; 0 before the first.
    took_us: AtomicU64,
}

/// How many hash at one time, and how new hashes are made. Another one when the site says otherwise; those that hash at that moment end in
/// the old one.
#[derive(Debug)]
struct Pool {
    settings: HashSettings,
    at_once: usize,
    all: Arc<Semaphore>,
    /// Places that those who do not log in may take.
    others: Arc<Semaphore>,
}

impl Pool {
    fn new(settings: HashSettings) -> Self {
        let cores = std::thread::available_parallelism().map_or(1, NonZero::get);
        let at_once = settings.at_once.map_or(cores, |count| count as usize).max(1);
        // With one place alone a sign-in would keep logins waiting, or logins every sign-in.
        let all = at_once.max(2);
        Pool { settings, at_once: all, all: Arc::new(Semaphore::new(all)), others: Arc::new(Semaphore::new((all / 2).max(1))) }
    }

    fn argon2(&self) -> Argon2<'static> {
        let HashSettings { memory_mib, passes, at_once: _ } = self.settings;
        // The defaults are what the check of the site allows anyway.
        Params::new(memory_mib * 1024, passes, 1, None)
            .map_or_else(|_| Argon2::default(), |params| Argon2::new(Algorithm::Argon2id, Version::V0x13, params))
    }
}

/// A place in the queue, given up on drop.
struct Waiting<'w>(&'w AtomicUsize);

impl<'w> Waiting<'w> {
    fn take(count: &'w AtomicUsize, most: usize) -> Result<Self, Busy> {
        // Counted first: of many at once no more than allowed get a place.
        if count.fetch_add(1, Ordering::Relaxed) >= most {
            count.fetch_sub(1, Ordering::Relaxed);
            return Err(Busy::Full);
        }
        Ok(Waiting(count))
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// The permits travel into the thread that hashes: if whoever asked goes away, the work still counts until it is done.
type Turn = (OwnedSemaphorePermit, Option<OwnedSemaphorePermit>);

impl Default for Hashing {
    fn default() -> Self {
        let inside = Inside {
            pool: ArcSwap::from_pointee(Pool::new(HashSettings::default())),
            logins_waiting: AtomicUsize::new(0),
            others_waiting: AtomicUsize::new(0),
            took_us: AtomicU64::new(0),
        };
        Hashing { inside: Arc::new(inside) }
    }
}

impl Hashing {
    /// Takes over what the site says of hashes.
    pub fn configure(&self, settings: HashSettings) {
        if self.inside.pool.load().settings != settings {
            self.inside.pool.store(Arc::new(Pool::new(settings)));
        }
    }

    /// What a hash costs here: measured by one, if none was made yet.
    ///
    /// # Errors
    /// The queue is full.
    pub async fn cost(&self) -> Result<HashCost, Busy> {
        if self.inside.took_us.load(Ordering::Relaxed) == 0 {
            drop(self.hash(Secret::new("how-long-does-it-take".to_owned())).await?);
        }
        let at_once = self.inside.pool.load().at_once as u32;
        Ok(HashCost { each_us: self.inside.took_us.load(Ordering::Relaxed), at_once })
    }

    /// Compares a password with a kept hash. Without a hash it takes as long and is never right. Nothing where the hash cannot be read.
    ///
    /// # Errors
    /// [`Busy`]: the queue is full, or nobody waits for it any more at `until`.
    pub async fn verify(
        &self,
        hash: Option<String>,
        guess: Secret<String>,
        what: For,
        until: Option<Instant>,
    ) -> Result<Option<bool>, Busy> {
        let checked = self.run(what, until, move |pool| match hash {
            Some(hash) => {
                let hash = PasswordHash::new(&hash).ok()?;
                // The hash says itself how it was made.
                Some(Argon2::default().verify_password(guess.expose().as_bytes(), &hash).is_ok())
            }
            None => hash_password(&guess, pool).ok().map(|_| false),
        });
        Ok(checked.await?.flatten())
    }

    /// Hashes a password for keeping (argon2id); the sentence says why it cannot be.
    ///
    /// # Errors
    /// [`Busy`]: the queue is full.
    pub async fn hash(&self, password: Secret<String>) -> Result<Result<String, String>, Busy> {
        let hashed = self.run(For::Other, None, move |pool| hash_password(&password, pool)).await?;
        Ok(hashed.unwrap_or_else(|| Err("the service is stopping".to_owned())))
    }

    /// Runs one hash on a thread of its own when its turn comes; nothing where the service is stopping.
    async fn run<T: Send + 'static>(
        &self,
        what: For,
        until: Option<Instant>,
        work: impl FnOnce(&Pool) -> T + Send + 'static,
    ) -> Result<Option<T>, Busy> {
        let Some(turn) = self.turn(what).await? else { return Ok(None) };
        if until.is_some_and(|until| Instant::now() >= until) {
            return Err(Busy::TooLate);
        }
        let (pool, inside) = (self.inside.pool.load_full(), Arc::clone(&self.inside));
        let done = tokio::task::spawn_blocking(move || {
            let _turn = turn;
            let began = Instant::now();
            let done = work(&pool);
            // The newest counts for an eighth: one that had to share its core says little.
            let (usual, took) = (inside.took_us.load(Ordering::Relaxed), began.elapsed().as_micros() as u64);
            inside.took_us.store(if usual == 0 { took } else { (usual * 7 + took) / 8 }, Ordering::Relaxed);
            done
        });
        Ok(done.await.ok())
    }

    async fn turn(&self, what: For) -> Result<Option<Turn>, Busy> {
        let inside = &self.inside;
        let (count, most) = match what {
            For::Login => (&inside.logins_waiting, LOGINS_WAITING),
            For::Other => (&inside.others_waiting, OTHERS_WAITING),
        };
        let _waiting = Waiting::take(count, most)?;
        let pool = inside.pool.load_full();
        let other = match what {
            For::Login => None,
            For::Other => match Arc::clone(&pool.others).acquire_owned().await {
                Ok(other) => Some(other),
                Err(_) => return Ok(None),
            },
        };
        Ok(Arc::clone(&pool.all).acquire_owned().await.ok().map(|turn| (turn, other)))
    }
}

/// Hashes a password for keeping (argon2id), on this thread.
///
/// # Errors
/// The password is too long to hash.
fn hash_password(password: &Secret<String>, pool: &Pool) -> Result<String, String> {
    let salt = SaltString::encode_b64(&bivector_store::seal::random::<16>()).map_err(|error| error.to_string())?;
    pool.argon2().hash_password(password.expose().as_bytes(), &salt).map(|hash| hash.to_string()).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::sync::Notify;

    #[tokio::test(flavor = "multi_thread")]
    async fn a_password_fits_its_own_hash_and_nobodys_fits_none() {
        let hashing = Hashing::default();
        let hash = hashing.hash(Secret::new("whelk-at-low-water".to_owned())).await.unwrap().unwrap();
        for (hash, guess, wanted) in [
            (Some(hash.clone()), "whelk-at-low-water", Some(true)),
            (Some(hash), "mussel", Some(false)),
            (None, "mussel", Some(false)),
            (Some("no hash".to_owned()), "mussel", None),
        ] {
            assert_eq!(hashing.verify(hash, Secret::new(guess.to_owned()), For::Login, None).await, Ok(wanted));
        }
    }

    fn of_two() -> Hashing {
        let hashing = Hashing::default();
        hashing.configure(HashSettings { at_once: Some(2), ..HashSettings::default() });
        hashing
    }

    /// Takes a turn and keeps it until it is told to end.
    async fn occupy(hashing: &Hashing, what: For, release: &Arc<Notify>) -> tokio::task::JoinHandle<()> {
        let turn = hashing.turn(what).await.unwrap().unwrap();
        let release = Arc::clone(release);
        tokio::spawn(async move {
            release.notified().await;
            drop(turn);
        })
    }

    #[tokio::test]
    async fn a_flood_of_sign_ins_waits_for_one_place_and_leaves_the_other_to_logins() {
        let (hashing, release) = (of_two(), Arc::new(Notify::new()));
        let busy = occupy(&hashing, For::Other, &release).await;
        let flood: Vec<_> = (0..OTHERS_WAITING)
            .map(|_| {
                let hashing = hashing.clone();
                tokio::spawn(async move { drop(hashing.turn(For::Other).await) })
            })
            .collect();
        tokio::task::yield_now().await;
        assert_eq!(hashing.turn(For::Other).await.err(), Some(Busy::Full), "the queue has an end");
        drop(hashing.turn(For::Login).await.unwrap().expect("a login has its turn at once"));
        release.notify_one();
        busy.await.unwrap();
        for one in flood {
            one.await.unwrap();
        }
        assert_eq!(hashing.inside.others_waiting.load(Ordering::Relaxed), 0);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_hash_that_nobody_waits_for_any_more_is_not_made() {
        let hashing = Hashing::default();
        let right = Secret::new("whelk-at-low-water".to_owned());
        let hash = hashing.hash(right.clone()).await.unwrap().unwrap();
        let past = Instant::now();
        assert_eq!(hashing.verify(Some(hash.clone()), right.clone(), For::Login, Some(past)).await, Err(Busy::TooLate));
        let later = past + std::time::Duration::from_secs(60);
        assert_eq!(hashing.verify(Some(hash), right, For::Login, Some(later)).await, Ok(Some(true)));
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn the_site_says_what_new_hashes_cost_and_old_ones_stay_good() {
        let hashing = Hashing::default();
        let password = || Secret::new("whelk-at-low-water".to_owned());
        let old = hashing.hash(password()).await.unwrap().unwrap();
        hashing.configure(HashSettings { memory_mib: 8, passes: 3, at_once: Some(5) });
        let new = hashing.hash(password()).await.unwrap().unwrap();
        assert!(old.contains("m=19456,t=2,p=1") && new.contains("m=8192,t=3,p=1"), "{old} {new}");
        for hash in [old, new] {
            assert_eq!(hashing.verify(Some(hash), password(), For::Login, None).await, Ok(Some(true)));
        }
        let cost = hashing.cost().await.unwrap();
        assert!(cost.at_once == 5 && cost.each_us > 0, "{cost:?}");
    }

    #[tokio::test]
    async fn whoever_gives_up_leaves_no_place_behind() {
        let (hashing, release) = (of_two(), Arc::new(Notify::new()));
        let busy = occupy(&hashing, For::Other, &release).await;
        let waiting = tokio::time::timeout(std::time::Duration::from_millis(1), hashing.turn(For::Other)).await;
        assert!(waiting.is_err());
        assert_eq!(hashing.inside.others_waiting.load(Ordering::Relaxed), 0);
        release.notify_one();
        busy.await.unwrap();
    }
}
