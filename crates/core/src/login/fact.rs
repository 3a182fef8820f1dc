//! Questions of a login to the outside, and the answers.

use super::pending::Pending;
use super::upstream::{UpstreamAnswer, UpstreamAsk};
use crate::cause::Cause;
use crate::directory::{BindMeaning, ChangeMeaning, Notice};
use crate::moment::Moment;
use crate::rule::Groups;
use crate::site::SourceRef;
use crate::totp::Token;
use bivector_wire::Secret;
use serde::{Deserialize, Serialize};

/// What a login needs to know next.
#[derive(Debug, Clone)]
pub enum Need {
    /// Find this name in that source.
    FindPerson {
        /// Where to look.
        source: SourceRef,
        /// The name, read by the identity rule.
        name: String,
    },
    /// The person's tokens.
    Tokens {
        /// The person's key.
        person: String,
    },
    /// Check this password. Asked at most once in a login, so that reading a credential never locks an account.
    CheckPassword {
        /// The source that knows the person.
        source: SourceRef,
        /// The person there.
        person: Box<Found>,
        /// The one guess.
        guess: Secret<String>,
    },
    /// Mark a code as used, durably, before anybody is let in by it.
    MarkCode(CodeMark),
    /// Ask an upstream.
    AskUpstream(Box<UpstreamAsk>),
    /// Keep what the next round needs, sealed, until it is taken once.
    KeepChallenge(Box<Pending>),
    /// Take what was kept for this State; it is gone then.
    TakeChallenge {
        /// The State that the gateway sent back.
        state: Vec<u8>,
    },
    /// Set a new password for somebody whose old one is right but has expired.
    ChangePassword {
        /// The source that knows the person.
        source: SourceRef,
        /// The person there.
        person: Box<Found>,
        /// The old password.
        old: Secret<String>,
        /// The new one.
        new: Secret<String>,
    },
}

/// A code to mark as used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CodeMark {
    /// Record number of the token.
    pub token: u64,
    /// The step of the code.
    pub step: u64,
    /// How long the mark must be kept at least.
    pub until: Moment,
}

/// An answer with where it came from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer<T> {
    /// The answer.
    pub value: T,
    /// The server that gave it, if one did.
    pub server: Option<String>,
    /// Servers that were asked before it and could not answer.
    pub failed: Vec<FailedServer>,
}

impl<T> Answer<T> {
    /// An answer from our own records.
    pub fn ours(value: T) -> Self {
        Answer { value, server: None, failed: Vec::new() }
    }
}

/// A server that could not answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FailedServer {
    /// The server.
    pub server: String,
    /// Why.
    pub why: Unavailable,
    /// How long it took to find out, in microseconds.
    pub took_us: u64,
}

/// An outage: never to be taken for a "no".
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unavailable {
    /// The cause.
    pub cause: Cause,
    /// What was seen.
    pub seen: String,
}

/// A person as a source knows them.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Found {
    /// The person's key: one per person, whatever was typed.
    pub key: String,
    /// The login name as the source writes it.
    pub login: String,
    /// The name for display.
    pub name: String,
    /// What the source calls the person: a DN, or a roster number.
    pub handle: String,
    /// The person's groups.
    pub groups: Groups,
}

/// Answer to [`Need::FindPerson`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PersonAnswer {
    /// Here.
    Found(Box<Found>),
    /// Not here.
    NoSuchPerson,
    /// More than one entry has this name.
    Ambiguous {
        /// How many, as far as was counted.
        count: usize,
    },
    /// Known, but not to be let in.
    Refused(Cause),
    /// The source could not say.
    Unavailable(Unavailable),
}

/// Answer to [`Need::CheckPassword`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PasswordAnswer {
    /// The password is right and the account may be used.
    Right,
    /// So it is, but not for long.
    RightBut(Notice),
    /// The password is wrong.
    Wrong,
    /// The account may not be used.
    Refused(Cause),
    /// The source could not say.
    Unavailable(Unavailable),
}

impl PasswordAnswer {
    /// From what a directory's bind means; `seen` says what came back.
    pub fn from_bind(meaning: BindMeaning, seen: String) -> Self {
        match meaning {
            BindMeaning::Right => PasswordAnswer::Right,
            BindMeaning::RightBut(notice) => PasswordAnswer::RightBut(notice),
            BindMeaning::Wrong => PasswordAnswer::Wrong,
            BindMeaning::Refused(cause) => PasswordAnswer::Refused(cause),
            BindMeaning::Unavailable(cause) => PasswordAnswer::Unavailable(Unavailable { cause, seen }),
        }
    }
}

/// Answer to [`Need::Tokens`].
#[derive(Debug, Clone)]
pub enum TokensAnswer {
    /// These are the person's tokens; none if not enrolled.
    Tokens(Vec<Token>),
    /// The records could not say.
    Unavailable(Unavailable),
}

/// Answer to [`Need::MarkCode`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MarkAnswer {
    /// It was not marked before, and its mark is on disk.
    Marked,
    /// It was marked before.
    UsedBefore,
    /// The mark could not be written.
    Unavailable(Unavailable),
}

/// Answer to [`Need::KeepChallenge`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeptAnswer {
    /// Kept; this State leads back to it, once.
    Kept(Vec<u8>),
    /// It could not be kept.
    Unavailable(Unavailable),
}

/// Answer to [`Need::TakeChallenge`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TakenAnswer {
    /// This is where the login goes on.
    Taken(Box<Pending>),
    /// No such State is waiting: never was, or was taken before.
    NotThere,
    /// The records could not say.
    Unavailable(Unavailable),
}

/// Answer to [`Need::ChangePassword`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeAnswer {
    /// The new password is set.
    Changed,
    /// The directory does not take it, for this reason.
    NotTaken(String),
    /// It could not be changed.
    Unavailable(Unavailable),
}

impl ChangeAnswer {
    /// From what a directory's answer means; `seen` says what came back.
    pub fn from_change(meaning: ChangeMeaning, seen: String) -> Self {
        match meaning {
            ChangeMeaning::Changed => ChangeAnswer::Changed,
            ChangeMeaning::NotTaken(why) => ChangeAnswer::NotTaken(why),
            ChangeMeaning::Unavailable(cause) => ChangeAnswer::Unavailable(Unavailable { cause, seen }),
        }
    }
}

/// An answer to a [`Need`].
#[derive(Debug, Clone)]
pub enum Fact {
    /// To [`Need::FindPerson`].
    Person(Answer<PersonAnswer>),
    /// To [`Need::Tokens`].
    Tokens(TokensAnswer),
    /// To [`Need::CheckPassword`].
    Password(Answer<PasswordAnswer>),
    /// To [`Need::MarkCode`].
    Mark(MarkAnswer),
    /// To [`Need::AskUpstream`].
    Upstream(Answer<UpstreamAnswer>),
    /// To [`Need::KeepChallenge`].
    Kept(KeptAnswer),
    /// To [`Need::TakeChallenge`].
    Taken(TakenAnswer),
    /// To [`Need::ChangePassword`].
    Changed(Answer<ChangeAnswer>),
}

impl Fact {
    /// What kind of answer it is.
    pub fn name(&self) -> &'static str {
        match self {
            Fact::Person(_) => "person",
            Fact::Tokens(_) => "tokens",
            Fact::Password(_) => "password",
            Fact::Mark(_) => "mark",
            Fact::Upstream(_) => "upstream",
            Fact::Kept(_) => "kept challenge",
            Fact::Taken(_) => "taken challenge",
            Fact::Changed(_) => "changed password",
        }
    }
}
