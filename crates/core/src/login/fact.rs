//! Questions of a login to the outside, and the answers.

pub use bivector_model::person::Found;

use super::pending::Pending;
use super::upstream::{UpstreamAnswer, UpstreamAsk};
use bivector_model::cause::Cause;
use bivector_model::device::{Device, Used};
use bivector_model::directory::{BindMeaning, ChangeMeaning, Notice};
use bivector_model::grant::SessionLimit;
use bivector_model::moment::Moment;
use bivector_model::trace::Trace;
use bivector_site::SourceRef;
use bivector_wire::{AttributeType, NtHash, Secret};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;

/// What a login needs to know next.
#[derive(Debug, Clone)]
pub enum Need {
    /// Find this name in that source. An upstream cannot be asked for a person: the answer is [`Found::of_upstream`], or a refusal for
    /// somebody whom an operator has suspended.
    FindPerson {
        /// Where to look.
        source: SourceRef,
        /// The name, read by the identity rule.
        name: String,
    },
    /// The person's devices and lists, and whether they are locked.
    Factors {
        /// The person's key.
        person: String,
        /// The device that the person sits at, as the gateway tells it, where it may be remembered.
        station: Option<TrustedDevice>,
    },
    /// What the source keeps of the person's password, for a proof that does not tell it.
    Kept {
        /// The source that knows the person.
        source: SourceRef,
        /// The person there.
        person: Arc<Found>,
    },
    /// Check the PIN of a device.
    CheckPin {
        /// The person's key.
        person: String,
        /// Record number of the device.
        device: u64,
        /// What was typed.
        guess: Secret<String>,
    },
    /// Count a wrong code or PIN, durably, before the person may try again.
    CountWrong(Box<WrongTry>),
    /// Make a code and send it.
    SendCode(Box<Sendable>),
    /// Ask the person's handset, or join the approval that is waiting there already.
    SendApproval(Arc<ApprovalAsk>),
    /// Wait until the person has answered, or the time is over.
    AwaitApproval {
        /// The approval.
        id: u64,
        /// The person's key.
        person: String,
    },
    /// Make the seed of a new device.
    NewSeed,
    /// Keep a new device, durably, with its first code marked as used, unless the person has got a factor meanwhile.
    AddDevice(Box<NewDevice>),
    /// Check this password. Asked at most once in a login, so that reading a credential never locks an account.
    CheckPassword {
        /// The source that knows the person.
        source: SourceRef,
        /// The person there.
        person: Arc<Found>,
        /// The one guess.
        guess: Secret<String>,
        /// The code that was right beside it, and its device: it is marked next if the password is right too. Whoever marks may begin
        /// already, and takes it back if the login then asks for something else.
        code: Option<(u64, Used)>,
    },
    /// Count a guess at a password before it is made. Undecided guesses count as wrong ones.
    BeginGuess(Arc<Guess>),
    /// Report how the guess that was counted last turned out. A guess without a report ends with the login and does not count.
    EndGuess {
        /// Whether the password was right.
        right: bool,
    },
    /// Check a password that nobody has, in these sources, so that the refusal of a name takes as long as that of a password.
    CheckNobody {
        /// Where.
        sources: Vec<SourceRef>,
        /// Whether the text would have been checked, or what a source keeps of it been compared.
        text: bool,
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
        person: Arc<Found>,
        /// The old password.
        old: Secret<String>,
        /// The new one.
        new: Secret<String>,
    },
    /// Reserve what a grant hands out, durably, before the person is let in.
    Reserve(Box<Reserve>),
}

/// What a grant hands out beside fixed values.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reserve {
    /// The person's key.
    pub person: String,
    /// The gateway.
    pub gateway: String,
    /// The login's reference.
    pub reference: String,
    /// Pools that an address or a prefix is taken from, by index in the site.
    pub pools: Vec<usize>,
    /// How many sessions the person may have.
    pub limit: Option<SessionLimit>,
}

/// One address or prefix that is taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leased {
    /// The pool, by index in the site.
    pub pool: usize,
    /// In words.
    pub text: String,
    /// Whether the person had it last time.
    pub again: bool,
    /// The attribute that carries it.
    pub attribute: AttributeType,
    /// The attribute's value.
    pub value: Vec<u8>,
}

/// Answer to [`Need::Reserve`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReserveAnswer {
    /// It is reserved for this login.
    Reserved {
        /// One for each pool.
        leased: Vec<Leased>,
        /// Sessions of the person that are open.
        open: u64,
        /// The session that is ended for this one, where the limit says so.
        ends: Option<u64>,
    },
    /// The person has as many sessions as may be.
    TooMany(u64),
    /// Nothing is left in this pool.
    Exhausted(usize),
    /// It could not be written, and why.
    Unavailable(String),
}

/// A guess at somebody's password.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Guess {
    /// The person's key; a question mark and the name where nobody is known by it.
    pub person: String,
    /// What the gateway calls the person's device, where it says.
    pub caller: Option<String>,
    /// The gateway, for the operator.
    pub gateway: String,
    /// Whether it passes the limit of the person: from a device that is trusted, or with a yes of the person's own handset. It does not pass
    /// the limit of the caller.
    pub trusted: bool,
}

/// Answer to [`Need::BeginGuess`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GuessAnswer {
    /// It is counted and may be made.
    MayTry,
    /// Too many were wrong.
    Limited {
        /// Whose.
        whose: Guesser,
        /// How many.
        wrong: u32,
        /// Until when no further one is made.
        until: Moment,
    },
}

/// Whose limit on wrong guesses was reached.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Guesser {
    /// Those from one caller, about this person or about anybody.
    Caller,
    /// Those about this person, wherever they came from.
    Person,
}

/// Answer to [`Need::EndGuess`].
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct GuessCount {
    /// Wrong ones in a row about this person.
    pub wrong: u32,
    /// Until when no further one is made.
    pub until: Option<Moment>,
}

/// A code to mark as used. In the same step the person's count of wrong ones goes back to nothing, unless they are locked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CodeMark {
    /// The person's key.
    pub person: String,
    /// Record number of the device and what is used up there; none for a code that was sent, which only its prompt knows.
    pub device: Option<(u64, Used)>,
    /// An approval that is no longer needed.
    pub withdraw: Option<u64>,
}

/// A person's own device at a gateway, by Calling-Station-Id.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct TrustedDevice {
    /// The person's key.
    pub person: String,
    /// The gateway.
    pub gateway: String,
    /// What the gateway calls the device.
    pub caller: String,
}

/// A question to a person's handset. What is in here is what the person is shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ApprovalAsk {
    /// The person's key.
    pub person: String,
    /// The login name.
    pub login: String,
    /// The name for display.
    pub name: String,
    /// The site.
    pub site: String,
    /// Through which gateway.
    pub gateway: String,
    /// The chain.
    pub chain: String,
    /// From where, as the gateway tells it; empty if it does not.
    pub from: String,
    /// Reference of the trace.
    pub reference: String,
    /// Whether a number is to be picked.
    pub wants_number: bool,
    /// Whether a security key must prove it.
    pub with_key: bool,
    /// Whether a login without a caller may join one that waits, as the site allows for this gateway.
    pub joins_without_caller: bool,
    /// Whether it is for the person's own page, which anybody on the network reaches: it must not tell that approvals are stopped.
    pub on_page: bool,
    /// Whether the password has yet to be checked: too many wrong ones were typed, and a yes only lets this one be tried.
    pub before_password: bool,
    /// Where messages reach the person that wake them for it: couriers by index in the site, each with an address or number.
    pub reach: Vec<(usize, String)>,
    /// The language of notifications and messages; empty for the site's.
    pub language: String,
    /// How long it may take.
    pub lasts: Duration,
}

/// Answer to [`Need::SendApproval`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ApprovalSent {
    /// The handset shows it.
    Sent {
        /// The approval.
        id: u64,
        /// The number to pick.
        number: Option<u8>,
        /// Whether it was waiting already.
        joined: bool,
        /// Until when it can be answered.
        until: Moment,
    },
    /// A limit is reached; the sentence says which.
    Limited(String),
    /// The person stopped approvals, until then.
    Stopped(Moment),
    /// It could not be asked.
    Unavailable(Unavailable),
}

/// Answer to [`Need::AwaitApproval`].
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum ApprovalAnswer {
    /// Yes.
    Approved(Approved),
    /// No, or the wrong number; the sentence says which, and on which device.
    Denied(String),
    /// Not the person's own login; on which device.
    Disowned(String),
    /// Nobody has answered; the sentence says for how long.
    Unanswered(String),
    /// Nobody was asked: the person has stopped approvals until then, and the page that asked must not tell.
    Stopped(Moment),
}

/// A yes, verified.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Approved {
    /// Record number of the handset.
    pub handset: u64,
    /// What the person calls it.
    pub device: String,
    /// The security key that proved it.
    pub key: Option<String>,
    /// How long the person took.
    pub took: Duration,
}

/// A device that a login has set up.
#[derive(Debug, Clone)]
pub struct NewDevice {
    /// The person's key.
    pub person: String,
    /// The name for display, should the person not be known here yet.
    pub name: String,
    /// Its seed.
    pub seed: Secret<Vec<u8>>,
    /// The code that showed that it works.
    pub used: Used,
}

/// Answer to [`Need::AddDevice`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AddAnswer {
    /// It is kept, under this record number, and its first code is used.
    Added(u64),
    /// The person has a factor already.
    EnrolledMeanwhile,
    /// It could not be kept.
    Unavailable(Unavailable),
}

/// A wrong try of somebody whose first check was right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrongTry {
    /// The person's key.
    pub person: String,
    /// What it counts towards a lock; see [`WrongTry::CODE`].
    pub points: u32,
    /// A device whose code was right, but of a counter far ahead: kept, so that the next one can bring it back.
    pub ahead: Option<(u64, u64)>,
    /// Through which gateway, for the operator.
    pub gateway: String,
}

impl WrongTry {
    /// Points of a wrong code or PIN behind a right password. A lock needs this many for each of `lockout.after`.
    pub const CODE: u32 = 10;
    /// Points of a proof over password and code together: it may be a stranger's, so it counts little.
    pub const PROOF: u32 = 1;
}

/// A code to make and send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sendable {
    /// Index of the courier in the site.
    pub courier: usize,
    /// The person's key, for the limits.
    pub person: String,
    /// The address or number.
    pub to: String,
    /// The name for display.
    pub name: String,
    /// The language of the message.
    pub language: String,
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

/// Answer to [`Need::FindPerson`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PersonAnswer {
    /// Here.
    Found(Arc<Found>),
    /// Not here.
    NoSuchPerson,
    /// More than one entry has this name.
    Ambiguous {
        /// How many, as far as was counted.
        count: usize,
    },
    /// Known, but not to be let in.
    Refused(Cause),
    /// The source could not answer.
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
    /// The source could not answer.
    Unavailable(Unavailable),
}

impl PasswordAnswer {
    /// Whether whoever typed it knows the password. Directories say that one has expired only to those who do.
    pub fn is_right(&self) -> bool {
        matches!(
            self,
            PasswordAnswer::Right
                | PasswordAnswer::RightBut(_)
                | PasswordAnswer::Refused(Cause::PasswordExpired | Cause::PasswordMustChange)
        )
    }

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

/// What the records know of a person's second factors.
#[derive(Debug, Clone, Default)]
pub struct Factors {
    /// Devices and lists; none if not enrolled.
    pub devices: Vec<Device>,
    /// Until when too many wrong codes have locked them.
    pub locked_until: Option<Moment>,
    /// Handsets that may approve.
    pub handsets: u32,
    /// Security keys.
    pub keys: u32,
    /// Until when the device that the person sits at is remembered here.
    pub remembered_until: Option<Moment>,
}

/// Answer to [`Need::Factors`].
#[derive(Debug, Clone)]
pub enum FactorsAnswer {
    /// These are the person's.
    Known(Box<Factors>),
    /// The records could not answer.
    Unavailable(Unavailable),
}

/// Answer to [`Need::Kept`].
#[derive(Debug, Clone)]
pub enum SecretAnswer {
    /// The password's text.
    Text(Secret<String>),
    /// Its NT hash.
    NtHash(NtHash),
    /// Nothing that a proof could be compared with.
    NotKept,
    /// The source could not answer.
    Unavailable(Unavailable),
}

/// Answer to [`Need::CheckPin`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PinAnswer {
    /// It is right.
    Right,
    /// It is wrong.
    Wrong,
    /// The records could not answer.
    Unavailable(Unavailable),
}

/// Answer to [`Need::CountWrong`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CountAnswer {
    /// Counted; so many in a row now, and perhaps locked.
    Counted {
        /// Wrong ones in a row.
        wrong: u32,
        /// Until when the person is locked, if so.
        locked_until: Option<Moment>,
    },
    /// It could not be written.
    Unavailable(Unavailable),
}

/// Answer to [`Need::SendCode`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SendAnswer {
    /// Sent.
    Sent(SentCode),
    /// A limit is reached; the sentence says which.
    Limited(String),
    /// It could not be sent.
    Unavailable(Unavailable),
}

/// A code that was sent.
#[derive(Debug, Clone)]
pub struct SentCode {
    /// The code.
    pub code: Secret<String>,
    /// Where it went, with most of it hidden.
    pub to: String,
}

impl PartialEq for SentCode {
    fn eq(&self, other: &Self) -> bool {
        self.code.expose() == other.code.expose() && self.to == other.to
    }
}

impl Eq for SentCode {}

/// Answer to [`Need::MarkCode`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MarkAnswer {
    /// It was not marked before, and its mark is on disk.
    Marked,
    /// It was marked before.
    UsedBefore,
    /// The person was locked meanwhile, until then.
    Locked(Moment),
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
    Taken {
        /// What was kept.
        pending: Box<Pending>,
        /// The trace of the rounds before, where it is known.
        before: Option<Box<Trace>>,
    },
    /// It was taken before.
    Used,
    /// No such State is waiting.
    NotThere,
    /// The records could not answer.
    Unavailable(Unavailable),
}

/// Answer to [`Need::ChangePassword`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeAnswer {
    /// The new password is set.
    Changed,
    /// The directory does not accept it, for this reason.
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
    /// To [`Need::Factors`].
    Factors(FactorsAnswer),
    /// To [`Need::Kept`].
    Secret(Answer<SecretAnswer>),
    /// To [`Need::CheckPin`].
    Pin(PinAnswer),
    /// To [`Need::CountWrong`].
    Counted(CountAnswer),
    /// To [`Need::SendCode`].
    Sent(SendAnswer),
    /// To [`Need::SendApproval`].
    ApprovalSent(ApprovalSent),
    /// To [`Need::AwaitApproval`].
    Approval(ApprovalAnswer),
    /// To [`Need::NewSeed`].
    Seed(Secret<Vec<u8>>),
    /// To [`Need::AddDevice`].
    Added(AddAnswer),
    /// To [`Need::CheckPassword`].
    Password(Answer<PasswordAnswer>),
    /// To [`Need::BeginGuess`].
    Guess(GuessAnswer),
    /// To [`Need::EndGuess`].
    GuessEnded(GuessCount),
    /// To [`Need::CheckNobody`].
    Nobody(()),
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
    /// To [`Need::Reserve`].
    Reserved(ReserveAnswer),
}

impl Fact {
    /// What kind of answer it is.
    pub fn name(&self) -> &'static str {
        match self {
            Fact::Person(_) => "person",
            Fact::Factors(_) => "factors",
            Fact::Secret(_) => "kept password",
            Fact::Pin(_) => "pin",
            Fact::Counted(_) => "count",
            Fact::Sent(_) => "sent code",
            Fact::ApprovalSent(_) => "sent approval",
            Fact::Approval(_) => "approval",
            Fact::Seed(_) => "seed",
            Fact::Added(_) => "added device",
            Fact::Password(_) => "password",
            Fact::Guess(_) => "guess",
            Fact::GuessEnded(_) => "end of guess",
            Fact::Nobody(()) => "nobody",
            Fact::Mark(_) => "mark",
            Fact::Upstream(_) => "upstream",
            Fact::Kept(_) => "kept challenge",
            Fact::Taken(_) => "taken challenge",
            Fact::Changed(_) => "changed password",
            Fact::Reserved(_) => "reserved",
        }
    }
}
