//! State on which several nodes must agree, behind a few atomic operations.
//!
//! No other part of the service may keep such state itself: used codes and reservations, counters of wrong attempts and their locks,
//! pending prompts, challenges of security keys, limits on what is sent, and the answers to approvals. [`Embedded`] keeps it in this node's
//! records and memory. Another implementation must pass the conformance suite of this module.
//!
//! Durable facts (people, factors, operators, sign-ins, sealed secrets, revisions) are not part of this: they are written in one
//! transaction each and followed through the change feed ([`crate::records::Changes`]). Their record numbers are assigned by that
//! transaction. References of logins and tokens are random, so nodes need not agree on them.

mod claims;
mod embedded;
mod rates;
mod topics;
#[cfg(any(test, feature = "volatile"))]
mod volatile;

#[cfg(test)]
mod conformance_tests;
#[cfg(test)]
mod interleaving_tests;

pub use embedded::Embedded;
#[cfg(any(test, feature = "volatile"))]
pub use volatile::Volatile;

use crate::records::{LockRow, Marked, RecordsError};
use bivector_core::login::{CodeMark, WrongTry};
use bivector_model::Moment;
use bivector_model::attempts::{Ended, Limit, Refused};
use bivector_model::device::Used;
use bivector_site::Lockout;
use futures_util::FutureExt;
use std::fmt;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

/// The result of an operation once the nodes agree. After an error, the caller must not accept anything.
pub type Answer<'a, T> = Pin<Box<dyn Future<Output = Result<T, RecordsError>> + Send + 'a>>;

/// Receives the result of an operation.
pub type Then<T> = Box<dyn FnOnce(Result<T, RecordsError>) + Send>;

/// Atomic operations on shared state. A result that permits something is durable when it is returned, unless the operation says
/// otherwise.
pub trait Agreement: fmt::Debug + Send + Sync + 'static {
    /// Sets a mark. Returns `true` if it was not set before. The mark is kept at least until `until`.
    ///
    /// An expired mark that has not been removed still counts as set, which is the safe side for used codes.
    fn mark(&self, key: Vec<u8>, until: Moment, now: Moment) -> Answer<'_, bool>;

    /// Marks a code as used and resets the user's count of wrong codes, in one step, unless the user is locked. `then` receives the result.
    fn use_code_then(&self, mark: CodeMark, now: Moment, then: Then<Marked>);

    /// Starts to reserve a code while the password is checked. Returns `None` if this kind of code cannot be reserved; it is then marked as
    /// used afterwards.
    ///
    /// The first login to commit or use the code gets it. A dropped reservation is released. If the node dies, the code stays used.
    fn reserve(&self, person: &str, code: (u64, Used), now: Moment) -> Option<Box<dyn Reserved>>;

    /// Counts a wrong code and gives the person's new count.
    fn count_wrong(&self, wrong: WrongTry, lockout: Lockout, now: Moment) -> Answer<'_, LockRow>;

    /// Begins an attempt that is counted in several places, in this order: everywhere, or nowhere and the first refusal is given.
    ///
    /// An attempt counts as a wrong one from its beginning, so that many at once are worth no more than one after the other.
    fn begin_attempt(&self, places: &[Counted], now: Moment) -> Answer<'_, Result<(), AttemptRefused>>;

    /// Ends an attempt that has begun; gives the state of each place.
    fn end_attempt(&self, places: Vec<(Counted, Ended)>, now: Moment) -> Answer<'_, Vec<AttemptCount>>;

    /// What is counted in a place now.
    fn attempts(&self, place: &Counted, now: Moment) -> AttemptCount;

    /// Forgets wrong passwords about a person, from any caller; `false` if there were none.
    fn forget_attempts_about(&self, person: &str) -> Answer<'_, bool>;

    /// Spends one from each of several allowances, in this order: all, or none and the first that is exhausted is given. Not durable.
    fn spend(&self, allowances: Vec<Allowance>, now: Moment) -> Answer<'_, Result<(), Rate>>;

    /// Stores a sealed value until it is taken, or until `until`.
    fn store(&self, key: Vec<u8>, sealed: Vec<u8>, until: Moment, now: Moment) -> Answer<'_, ()>;

    /// Takes what was stored under a key: of any number of takers exactly one gets it.
    fn take(&self, key: Vec<u8>, now: Moment) -> Answer<'_, Took>;

    /// Claims a key with a value, unless somebody else has; what stands there then is the error. Free again once it is released, or at
    /// `until`. Not durable.
    fn claim(&self, key: String, value: u64, until: Moment, now: Moment) -> Answer<'_, Result<(), u64>>;

    /// Releases a key that is claimed with this value.
    fn release(&self, key: String, value: u64) -> Answer<'_, ()>;

    /// Publishes the value of a topic, unless it has one; `true` if this is it. Kept until `until`. Not durable.
    fn publish(&self, topic: u64, value: Vec<u8>, until: Moment, now: Moment) -> Answer<'_, bool>;

    /// Waits until a topic has a value. Without a limit: the caller sets one.
    fn published(&self, topic: u64) -> Answer<'_, Arc<[u8]>>;
}

impl dyn Agreement {
    /// As [`Agreement::use_code_then`], awaited.
    ///
    /// # Errors
    /// It could not be written. Then nobody may get in by it.
    pub async fn use_code(&self, mark: CodeMark, now: Moment) -> Result<Marked, RecordsError> {
        let (tell, told) = tokio::sync::oneshot::channel();
        // Nobody waits any more when the asker has gone; the mark stands all the same.
        self.use_code_then(mark, now, Box::new(move |marked| drop(tell.send(marked))));
        told.await.map_err(|_| RecordsError("the service is stopping".into()))?
    }

    /// Notes that something with this name was taken; `false` if it was before. Kept until `until`.
    ///
    /// # Errors
    /// The records could not answer.
    pub async fn take_once(&self, name: &[u8], until: Moment, now: Moment) -> Result<bool, RecordsError> {
        self.mark([TOOK, name].concat(), until, now).await
    }
}

/// Lets an operation end that nobody waits for: at once where that is possible, and otherwise in a task of its own.
pub fn in_background<T: Send + 'static>(
    agreement: &Arc<dyn Agreement>,
    operation: impl for<'a> FnOnce(&'a dyn Agreement) -> Answer<'a, T> + Send + 'static,
) {
    let agreement = Arc::clone(agreement);
    let mut ending = Box::pin(async move {
        if let Err(error) = operation(&*agreement).await {
            tracing::warn!(%error, "a count could not be brought up to date");
        }
    });
    if ending.as_mut().now_or_never().is_none()
        && let Ok(handle) = tokio::runtime::Handle::try_current()
    {
        drop(handle.spawn(ending));
    }
}

/// A code that is reserved for one login. Dropped, it is released.
pub trait Reserved: fmt::Debug + Send + Sync {
    /// Whether it is this code.
    fn is_for(&self, mark: &CodeMark) -> bool;

    /// Uses the code up. As [`Agreement::use_code_then`] where the reservation has ended meanwhile, and where the person has typed a wrong
    /// code since, so that a right one among many guesses at once counts only before the lock.
    fn commit(self: Box<Self>, mark: CodeMark, now: Moment) -> Answer<'static, Marked>;
}

/// What a taker finds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Took {
    /// This was stored.
    Value(Vec<u8>),
    /// Somebody took it before.
    Before,
    /// Nothing was ever stored there, or so long ago that nothing is left of it.
    Never,
}

/// Before the name of what was taken.
pub(crate) const TOOK: &[u8] = b"took";

/// What kind of attempts are counted together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Tally {
    /// Wrong passwords from a caller, by address or name.
    PasswordsFrom,
    /// Wrong passwords from a caller about a person, by `caller LF person`.
    PasswordsFromAbout,
    /// Wrong passwords about a person, by key.
    PasswordsAbout,
    /// Sign-ins to the console, by address. Several operators may share one.
    ConsoleFrom,
    /// Sign-ins to the console, by name.
    ConsoleAs,
    /// Codes that are to pass the limit of a console name, by name: with enough addresses somebody could try all of them.
    ConsoleCode,
    /// Sign-ins to somebody's own page, by address. Many people may share one.
    PageFrom,
    /// Invitations, by address.
    InvitationFrom,
    /// References that an operator types to confirm a device, by device.
    Confirmation,
}

impl Tally {
    pub(crate) const COUNT: usize = 9;

    /// Keys in its table; each takes about 200 bytes.
    pub(crate) const fn capacity(self) -> usize {
        match self {
            Tally::PasswordsFrom | Tally::PasswordsFromAbout | Tally::PasswordsAbout => 65_536,
            _ => 16_384,
        }
    }
}

/// Where an attempt is counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Counted {
    /// The kind of attempt.
    pub tally: Tally,
    /// Whose: an address, a name or a person's key.
    pub key: String,
    /// How many may be wrong.
    pub limit: Limit,
    /// Whether it passes the limit for another reason. It counts all the same.
    pub anyway: bool,
    /// The gateway, where the count must outlive a restart.
    pub lasting: Option<String>,
}

impl Counted {
    /// Counted in memory, within the limit.
    pub fn new(tally: Tally, key: impl Into<String>, limit: Limit) -> Self {
        Counted { tally, key: key.into(), limit, anyway: false, lasting: None }
    }
}

/// An attempt that may not be made now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct AttemptRefused {
    /// Where it was refused.
    pub tally: Tally,
    /// How many were wrong, and when the next one may be made.
    pub refused: Refused,
}

/// What is counted in one place.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AttemptCount {
    /// Wrong attempts in a row.
    pub wrong: u32,
    /// Until when further ones are refused.
    pub until: Option<Moment>,
    /// When the last was made, in microseconds since 1970; where the count outlives a restart.
    pub last_us: u64,
    /// The gateway of the last one; where the count outlives a restart.
    pub gateway: String,
}

/// What is limited in time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Rate {
    /// Codes that are sent to a person.
    CodesToPerson,
    /// Codes that are sent at all.
    Codes,
    /// Approvals that a person is asked for.
    Approvals,
    /// Approvals that a person is asked for before the password is known to be right: a stranger may bring them about.
    ApprovalsBeforePassword,
    /// Push messages that are sent to a person's handsets.
    Pushes,
}

/// How much of something is allowed: `most` at once, and as many again over `period`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Allowance {
    /// What is limited.
    pub rate: Rate,
    /// Whose.
    pub key: String,
    /// How many at once; none is ever allowed where this is 0.
    pub most: u32,
    /// How long it takes until all are available again.
    pub period: Duration,
}
