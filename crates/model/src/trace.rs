//! The record of one login. The machine writes it, so that service, simulation and tests explain themselves alike.

use crate::cause::Cause;
use crate::facts::Facts;
use crate::moment::Moment;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use utoipa::ToSchema;

/// The stations of a chain, in their order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Hop {
    /// The packet and who sent it.
    Gateway,
    /// Name and password field.
    Reading,
    /// The first check.
    First,
    /// The second check.
    Second,
    /// Who may pass.
    Rules,
    /// What is answered.
    Reply,
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Tone {
    /// As it should.
    Good,
    /// Worth knowing.
    Note,
    /// It went on, but somebody should look.
    Warn,
    /// It ended the login.
    Bad,
}

/// What a step says that an answer from a handset left behind which came after its login had ended.
pub const LATE_ANSWER: &str = "late answer";

/// What a step says of a login that was let in and whose session never began.
pub const NO_SESSION: &str = "no session";

/// What a step says of a login whose session has begun.
pub const SESSION_BEGAN: &str = "session";

/// One entry of a trace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Step {
    /// Where in the chain.
    pub hop: Hop,
    /// What was done, in two or three words.
    #[schema(value_type = String)]
    pub what: Cow<'static, str>,
    /// How it went.
    pub tone: Tone,
    /// When it began, in microseconds since the login began.
    pub at_us: u64,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// What was seen or decided, in a sentence. Never a password, a code or a secret.
    pub said: String,
    /// The line of the site file that decided it, where one did.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<u32>,
}

/// How a login ended, seen from the gateway.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Access-Accept.
    Accepted,
    /// Access-Challenge: the login waits for the answer to a prompt.
    Challenged,
    /// Access-Reject.
    #[default]
    Refused,
    /// No answer at all, as the standard wants it.
    Silent,
}

impl Outcome {
    /// Its stable name.
    pub fn slug(self) -> &'static str {
        match self {
            Outcome::Accepted => "accepted",
            Outcome::Challenged => "challenged",
            Outcome::Refused => "refused",
            Outcome::Silent => "silent",
        }
    }

    /// The one of that name.
    pub fn from_slug(slug: &str) -> Option<Self> {
        [Outcome::Accepted, Outcome::Challenged, Outcome::Refused, Outcome::Silent].into_iter().find(|outcome| outcome.slug() == slug)
    }
}

/// Where a login came from.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Origin {
    /// A gateway sent it.
    #[default]
    Gateway,
    /// An operator tried it through a rehearsal door.
    Rehearsal,
    /// A person signed in to their own page.
    Page,
}

impl Origin {
    /// Its stable name.
    pub fn slug(self) -> &'static str {
        match self {
            Origin::Gateway => "gateway",
            Origin::Rehearsal => "rehearsal",
            Origin::Page => "page",
        }
    }

    /// The one of that name.
    pub fn from_slug(slug: &str) -> Option<Self> {
        [Origin::Gateway, Origin::Rehearsal, Origin::Page].into_iter().find(|origin| origin.slug() == slug)
    }
}

impl Step {
    /// What came so long after the login began, once its verdict was out: it changes nothing any more.
    pub fn afterwards(what: &'static str, after: std::time::Duration, said: String) -> Self {
        Self { hop: Hop::Reply, what: what.into(), tone: Tone::Warn, at_us: after.as_micros() as u64, took_us: 0, said, line: None }
    }
}

/// The record of one login, with all its rounds.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Trace {
    /// The short text that the person at the keyboard was shown too.
    pub reference: String,
    /// When it began, in microseconds since 1970.
    pub began_us: u64,
    /// From the arrival of its first request to the verdict, in microseconds; what people take to answer prompts is part of it.
    pub took_us: u64,
    /// Where it came from.
    pub origin: Origin,
    /// The gateway's name.
    pub gateway: String,
    /// The address that sent it.
    pub sender: String,
    /// The chain's name; empty where none was chosen.
    pub chain: String,
    /// The name as it was typed.
    pub typed_name: String,
    /// The person's key, once a source knew it.
    pub person: Option<String>,
    /// The authentication method that was used.
    pub method: String,
    /// The source that answered the first check.
    pub source: Option<String>,
    /// How it ended.
    pub outcome: Outcome,
    /// Why, unless it was accepted.
    pub cause: Option<Cause>,
    /// The grant it got.
    pub grant: Option<String>,
    /// The second factor that was given.
    pub factor: Option<String>,
    /// Why no second factor was asked for, where none was.
    pub waived: Option<String>,
    /// The revision of the site that decided it.
    pub revision: u64,
    /// Its steps in order.
    pub steps: Vec<Step>,
    /// What it learned from outside.
    #[schema(ignore)]
    pub facts: Box<Facts>,
}

/// Rounds that a trace keeps: more than any method needs. Of a longer login the rounds in the middle are left out, so that nobody who
/// keeps on answering fills the memory.
const ROUNDS: usize = 48;

impl Trace {
    /// How long its last round took, from the request to the answer, in microseconds.
    pub fn last_round_us(&self) -> u64 {
        self.facts.rounds.last().map_or(self.facts.first_took_us.unwrap_or(self.took_us), |round| round.took_us)
    }

    /// Ends a login that waits at a prompt which nobody has answered by `now`.
    pub fn unanswered(mut self, now: Moment) -> Self {
        let until = self.facts.open_until_us.take().unwrap_or(now.micros()).min(now.micros());
        self.end(Cause::PromptUnanswered, "unanswered", "nobody answered the prompt while it could be answered", until)
    }

    /// Ends a login whose last round has never come to an end.
    pub fn unfinished(mut self, now: Moment) -> Self {
        self.facts.open_until_us = None;
        self.end(Cause::Unfinished, "unfinished", "the answer to the prompt came, and nothing has come of it", now.micros())
    }

    fn end(mut self, cause: Cause, what: &'static str, said: &str, at_us: u64) -> Self {
        let took_us = at_us.saturating_sub(self.began_us).max(self.took_us);
        let (hop, waited) = (Hop::Reply, took_us - self.took_us);
        self.steps.push(Step {
            hop,
            what: what.into(),
            tone: Tone::Bad,
            at_us: self.took_us,
            took_us: waited,
            said: said.into(),
            line: None,
        });
        (self.outcome, self.cause, self.took_us) = (Outcome::Refused, Some(cause), took_us);
        self
    }

    /// Makes room for a further round where there are too many: the first rounds and the last ones tell the most.
    pub fn leave_out_the_middle(&mut self) {
        let rounds = &mut self.facts.rounds;
        if rounds.len() + 1 < ROUNDS {
            return;
        }
        let middle = rounds.len() / 2;
        let from = rounds.remove(middle).at_us;
        let until = rounds.get(middle).map_or(u64::MAX, |next| next.at_us);
        self.facts.rounds_left_out += 1;
        self.steps.retain(|step| step.at_us < from || step.at_us >= until);
    }
}
