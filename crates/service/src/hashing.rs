//! One bounded pool for all slow hashes: passwords and PINs of people, passwords of operators. Each takes a core for some milliseconds and
//! 19 MiB, so a few run at a time, and strangers at a sign-in page never keep a login waiting longer than one of theirs takes.

use argon2::Argon2;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use bivector_wire::Secret;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// Hashes at one time.
const AT_ONCE: usize = 2;
/// Of those, at most so many that are not of logins.
const OTHERS: usize = 1;
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

/// Too many wait already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("too many passwords are being checked at this moment")]
pub struct Busy;

/// The pool; clones share it.
#[derive(Debug, Clone)]
pub struct Hashing {
    inside: Arc<Inside>,
}

#[derive(Debug)]
struct Inside {
    all: Arc<Semaphore>,
    others: Arc<Semaphore>,
    logins_waiting: AtomicUsize,
    others_waiting: AtomicUsize,
}

/// A place in the queue, given up on drop.
struct Waiting<'w>(&'w AtomicUsize);

impl<'w> Waiting<'w> {
    fn take(count: &'w AtomicUsize, most: usize) -> Result<Self, Busy> {
        // Counted first: of many at once no more than allowed get a place.
        if count.fetch_add(1, Ordering::Relaxed) >= most {
            count.fetch_sub(1, Ordering::Relaxed);
            return Err(Busy);
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
            all: Arc::new(Semaphore::new(AT_ONCE)),
            others: Arc::new(Semaphore::new(OTHERS)),
            logins_waiting: AtomicUsize::new(0),
            others_waiting: AtomicUsize::new(0),
        };
        Hashing { inside: Arc::new(inside) }
    }
}

impl Hashing {
    /// Compares a password with a kept hash. Without a hash it takes as long and is never right. Nothing where the hash cannot be read.
    ///
    /// # Errors
    /// [`Busy`]: the queue is full.
    pub async fn verify(&self, hash: Option<String>, guess: Secret<String>, what: For) -> Result<Option<bool>, Busy> {
        /// Of a password that nobody has.
        const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$bm9ib2R5LWF0LWFsbA$6eHS3zNhnTeTqJ0eWTXYvU0oW6dpUgHtUy0eYzlvVaE";
        let known = hash.is_some();
        let checked = self.run(what, move || {
            let hash = hash.unwrap_or_else(|| NOBODY.to_owned());
            let hash = PasswordHash::new(&hash).ok()?;
            Some(Argon2::default().verify_password(guess.expose().as_bytes(), &hash).is_ok())
        });
        Ok(checked.await?.flatten().map(|right| right && known))
    }

    /// Hashes a password for keeping (argon2id); the sentence says why it cannot be.
    ///
    /// # Errors
    /// [`Busy`]: the queue is full.
    pub async fn hash(&self, password: Secret<String>) -> Result<Result<String, String>, Busy> {
        let hashed = self.run(For::Other, move || hash_password(&password)).await?;
        Ok(hashed.unwrap_or_else(|| Err("the service is stopping".to_owned())))
    }

    /// Runs one hash on a thread of its own when its turn comes; nothing where the service is stopping.
    async fn run<T: Send + 'static>(&self, what: For, work: impl FnOnce() -> T + Send + 'static) -> Result<Option<T>, Busy> {
        let Some(turn) = self.turn(what).await? else { return Ok(None) };
        let done = tokio::task::spawn_blocking(move || {
            let _turn = turn;
            work()
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
        let other = match what {
            For::Login => None,
            For::Other => match Arc::clone(&inside.others).acquire_owned().await {
                Ok(other) => Some(other),
                Err(_) => return Ok(None),
            },
        };
        Ok(Arc::clone(&inside.all).acquire_owned().await.ok().map(|turn| (turn, other)))
    }
}

/// Hashes a password for keeping (argon2id), on this thread.
///
/// # Errors
/// The password is too long to hash.
fn hash_password(password: &Secret<String>) -> Result<String, String> {
    let salt = SaltString::encode_b64(&crate::seal::random::<16>()).map_err(|error| error.to_string())?;
    Argon2::default().hash_password(password.expose().as_bytes(), &salt).map(|hash| hash.to_string()).map_err(|error| error.to_string())
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
            assert_eq!(hashing.verify(hash, Secret::new(guess.to_owned()), For::Login).await, Ok(wanted));
        }
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
        let (hashing, release) = (Hashing::default(), Arc::new(Notify::new()));
        let busy = occupy(&hashing, For::Other, &release).await;
        let flood: Vec<_> = (0..OTHERS_WAITING)
            .map(|_| {
                let hashing = hashing.clone();
                tokio::spawn(async move { drop(hashing.turn(For::Other).await) })
            })
            .collect();
        tokio::task::yield_now().await;
        assert_eq!(hashing.turn(For::Other).await.err(), Some(Busy), "the queue has an end");
        drop(hashing.turn(For::Login).await.unwrap().expect("a login has its turn at once"));
        release.notify_one();
        busy.await.unwrap();
        for one in flood {
            one.await.unwrap();
        }
        assert_eq!(hashing.inside.others_waiting.load(Ordering::Relaxed), 0);
    }

    #[tokio::test]
    async fn whoever_gives_up_leaves_no_place_behind() {
        let (hashing, release) = (Hashing::default(), Arc::new(Notify::new()));
        let busy = occupy(&hashing, For::Other, &release).await;
        let waiting = tokio::time::timeout(std::time::Duration::from_millis(1), hashing.turn(For::Other)).await;
        assert!(waiting.is_err());
        assert_eq!(hashing.inside.others_waiting.load(Ordering::Relaxed), 0);
        release.notify_one();
        busy.await.unwrap();
    }
}
