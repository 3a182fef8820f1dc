//! The machine itself: a state per station, consumed on transition. See the module above for the call contract.

use super::approving::{AskingHandset, AwaitingApproval};
use super::asking::SendingCode;
use super::change::ChangingPassword;
use super::enrolling::{AddingDevice, MakingSeed};
use super::fact::{Fact, Need, TrustedDevice};
use super::first::{CheckingPassword, Finding, KnowingFactors};
use super::granting::Granting;
use super::guessing::{AskingToPass, AwaitingPass, CheckingNobody, CountingGuess, SettlingGuess};
use super::pending::Upstream as KeptUpstream;
use super::proof::FirstProved;
use super::prove::ComparingProof;
use super::request::{Protocol, Request};
use super::resume::{KeepingRound, Resuming, Returning};
use super::second::{CheckingPin, CountingWrong, Marking};
use super::upstream::AskingUpstream;
use super::{Refusal, Verdict};
use bivector_model::cause::Cause;
use bivector_model::facts::{Facts, Resends};
use bivector_model::moment::Moment;
use bivector_model::prompt::Text;
use bivector_model::text::shown;
use bivector_model::trace::{Hop, Origin, Outcome, Step, Tone, Trace};
use bivector_site::{Chain, Charset, Gateway, Site, SourceRef};
use bivector_wire::Secret;
use std::borrow::Cow;
use std::sync::Arc;
use std::time::Duration;

/// What to do next.
#[derive(Debug, Clone)]
pub enum Next {
    /// Answer this, then [`Login::learn`].
    Ask(Need),
    /// Come back at that moment with [`Login::wake`].
    Wait(Moment, Timer),
    /// Call [`Login::finish`].
    Decided,
}

/// Which wake-up it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Timer {
    /// The refusal leaves at the pace of all refusals.
    RefusalPace,
}

/// A station of a login: it owns what it needs, waits for one answer, and is consumed by it.
pub(super) trait Station: Sized {
    /// What it waits for.
    type Answer;

    /// What is to be asked.
    fn need(&self, login: &Login) -> Need;

    /// Goes on with the answer.
    fn learn(self, login: &mut Login, answer: Self::Answer, now: Moment) -> State;
}

/// The state of a login: one of the stations, or how it ends. Each station is listed with the fact that it waits for.
macro_rules! stations {
    ($($station:ident <- $fact:ident,)*) => {
        #[derive(Debug)]
        pub(super) enum State {
            $($station($station),)*
            /// A refusal that waits for the pace of all refusals.
            Held { until: Moment, verdict: Verdict },
            Decided(Verdict),
            /// Between two states only.
            Moving,
        }

        $(impl From<$station> for State {
            fn from(station: $station) -> Self {
                State::$station(station)
            }
        })*

        impl State {
            fn need(&self, login: &Login) -> Option<Need> {
                match self {
                    $(State::$station(station) => Some(station.need(login)),)*
                    State::Held { .. } | State::Decided(_) | State::Moving => None,
                }
            }

            /// The state behind an answer, or the answer itself where nobody waits for such a one.
            fn learn(self, login: &mut Login, fact: Fact, now: Moment) -> Result<State, Fact> {
                match (self, fact) {
                    $((State::$station(station), Fact::$fact(answer)) => Ok(station.learn(login, answer, now)),)*
                    (_, fact) => Err(fact),
                }
            }
        }
    };
}

stations! {
    Resuming <- Taken,
    Finding <- Person,
    KnowingFactors <- Factors,
    Returning <- Factors,
    ComparingProof <- Secret,
    CheckingPin <- Pin,
    CountingWrong <- Counted,
    SendingCode <- Sent,
    AskingHandset <- ApprovalSent,
    AwaitingApproval <- Approval,
    MakingSeed <- Seed,
    AddingDevice <- Added,
    CheckingPassword <- Password,
    AskingUpstream <- Upstream,
    Marking <- Mark,
    CountingGuess <- Guess,
    SettlingGuess <- GuessEnded,
    AskingToPass <- ApprovalSent,
    AwaitingPass <- Approval,
    CheckingNobody <- Nobody,
    ChangingPassword <- Changed,
    Granting <- Reserved,
    KeepingRound <- Kept,
}

/// What follows once a code is marked as used.
#[derive(Debug)]
pub(super) enum AfterMark {
    /// The rules.
    Rules(FirstProved),
    /// The new password is asked for.
    NewPassword { source: SourceRef, old: Secret<String> },
    /// An upstream's challenge is passed on.
    Challenge { source: SourceRef, upstream: KeptUpstream, asks: Asks },
}

/// What a challenge shows and carries.
#[derive(Debug)]
pub(super) struct Asks {
    pub(super) prompt: Option<String>,
    /// Whether what is typed may be shown.
    pub(super) echo: bool,
    /// Whether the prompt holds something that must not stand in the trace.
    pub(super) secret: bool,
    pub(super) attributes: Vec<u8>,
}

impl Asks {
    /// A prompt of ours.
    pub(super) fn of(prompt: String, echo: bool) -> Self {
        Asks { prompt: Some(prompt), echo, secret: false, attributes: Vec::new() }
    }
}

/// The text of a step, put together only where steps are written.
macro_rules! told {
    ($login:expr, $($text:tt)*) => {
        if $login.quiet { String::new() } else { format!($($text)*) }
    };
}
pub(super) use told;

/// What stands for the gateway where somebody signs in to their own page.
const OWN_PAGE: &str = "own page";

/// Which checks of a password were made: a refusal makes the missing one, so that its time does not tell whether a name is known.
#[derive(Debug, Default)]
pub(super) struct ChecksMade {
    /// The source that has said something of the password.
    pub(super) by: Option<SourceRef>,
    /// Whether a password that nobody has was checked instead, or need not be.
    pub(super) pretended: bool,
}

/// One login: what all its stations share. What belongs to some of them only is theirs.
#[derive(Debug)]
pub struct Login {
    pub(super) site: Arc<Site>,
    pub(super) request: Arc<Request>,
    pub(super) chain: Option<usize>,
    /// When the login's first request arrived.
    pub(super) opened: Moment,
    /// When the request of this round arrived.
    pub(super) began: Moment,
    pub(super) last: Moment,
    /// What the rounds before this one learned.
    pub(super) earlier: Option<Box<Facts>>,
    /// Until when the prompt that this round ends with can be answered.
    pub(super) open_until: Option<Moment>,
    pub(super) state: State,
    pub(super) trace: Trace,
    /// The name that sources are asked for, and the realm that it was typed with.
    pub(super) name: String,
    pub(super) realm: String,
    /// Whether the trace tells nothing but how it ends.
    pub(super) quiet: bool,
    /// What a refusal must not tell by its time.
    pub(super) checks: ChecksMade,
}

impl Login {
    /// Begins a login. `reference` is what the person at the keyboard and the operator will both see.
    pub fn begin(site: Arc<Site>, request: impl Into<Arc<Request>>, reference: String, revision: u64, now: Moment) -> Self {
        let request = request.into();
        let context = &request.context;
        let chain = match request.protocol() {
            _ if request.inside.is_some() => request.inside.as_ref().map(|inside| inside.chain),
            Protocol::Radius => site.chain_for(context.gateway, context.port, &request.typed_name),
            Protocol::Page => site.handset.chain,
        };
        Self::start(site, chain, request, reference, revision, now, false)
    }

    /// Begins a login whose trace tells nothing but how it ends: thousands of them are simulated for one that somebody looks at.
    pub fn begin_quietly(site: Arc<Site>, chain: Option<usize>, request: impl Into<Arc<Request>>, now: Moment) -> Self {
        Self::start(site, chain, request.into(), String::new(), 0, now, true)
    }

    fn start(
        site: Arc<Site>,
        chain: Option<usize>,
        request: Arc<Request>,
        reference: String,
        revision: u64,
        now: Moment,
        quiet: bool,
    ) -> Self {
        let request = request.unpacked(&site);
        let opened = request.inside.as_ref().map_or(now, |inside| inside.began.min(now));
        let mut login = Login {
            trace: empty_trace(&request, reference, revision, opened, quiet),
            site,
            request,
            chain,
            opened,
            began: now,
            last: opened,
            earlier: None,
            open_until: None,
            state: State::Moving,
            name: String::new(),
            realm: String::new(),
            quiet,
            checks: ChecksMade::default(),
        };
        if !quiet {
            login.trace.gateway = login.gateway_name().to_owned();
            login.trace.sender = login.request.context.sender.to_string();
            login.trace.chain = login.chain_name().to_owned();
            login.trace.typed_name = shown(&login.typed_name()).into_owned();
            login.trace.method = login.request.method().to_owned();
        }
        login.state = match login.receive(now) {
            Ok(()) => match login.request.state.clone() {
                Some(state) => Resuming { state }.into(),
                None => login.find_first(now),
            },
            Err(cause) => login.refuse(cause, now),
        };
        login
    }

    /// The login's reference. An answer to a prompt has that of the login which it goes on with, once it is found to belong to it.
    pub fn reference(&self) -> &str {
        &self.trace.reference
    }

    /// When the gateway gives up waiting, as far as the site says how long it waits.
    pub fn given_up_at(&self) -> Option<Moment> {
        let patience = self.gateway()?.patience.filter(|_| self.request.context.origin == Origin::Gateway)?;
        Some(self.began.plus(patience.wait * patience.tries))
    }

    /// What to do next. Says the same until something new is told.
    pub fn next(&self) -> Next {
        match &self.state {
            State::Held { until, .. } => Next::Wait(*until, Timer::RefusalPace),
            state => state.need(self).map_or(Next::Decided, Next::Ask),
        }
    }

    /// Tells the answer to the last need.
    pub fn learn(&mut self, fact: Fact, now: Moment) {
        if !self.quiet {
            self.note_fact(&fact);
        }
        let state = std::mem::replace(&mut self.state, State::Moving);
        self.state = state.learn(self, fact, now).unwrap_or_else(|fact| {
            let said = format!("internal error: unexpected answer ({})", fact.name());
            self.step(Hop::Reply, "out of turn", Tone::Bad, now, said, None);
            self.refuse(Cause::Unfinished, now)
        });
        self.last = now;
    }

    /// Tells that the moment of the last [`Next::Wait`] has come. Too early a call changes nothing.
    pub fn wake(&mut self, now: Moment) {
        if let State::Held { until, .. } = &self.state
            && now < *until
        {
            return;
        }
        self.state = match std::mem::replace(&mut self.state, State::Moving) {
            State::Held { verdict, .. } => {
                let pace = self.chain().map_or(Duration::ZERO, |chain| chain.refusal_pace);
                self.step(
                    Hop::Reply,
                    "held",
                    Tone::Note,
                    now,
                    format!("delayed to a multiple of {} ms, so that timing does not reveal the cause", pace.as_millis()),
                    None,
                );
                State::Decided(verdict)
            }
            other => other,
        };
        self.last = now;
    }

    /// How a decided login ends; none while it is not decided.
    pub fn verdict(&self) -> Option<&Verdict> {
        match &self.state {
            State::Decided(verdict) | State::Held { verdict, .. } => Some(verdict),
            _ => None,
        }
    }

    /// Adds a step for something that an EAP conversation did after the login was decided.
    pub fn note_conversation(&mut self, steps: Vec<Step>) {
        if !self.quiet {
            self.trace.steps.extend(steps);
        }
    }

    /// Refuses a decided login after all: its conversation failed before the peer knew the result. A refusal keeps its cause.
    pub fn overturn(&mut self, cause: Cause, said: String, now: Moment) {
        self.step(Hop::Gateway, "eap", Tone::Bad, now, said, None);
        if let Some(Verdict::Refuse(_)) = self.verdict() {
            return;
        }
        (self.trace.outcome, self.trace.cause, self.trace.grant) = (Outcome::Refused, Some(cause), None);
        self.state = State::Decided(Verdict::Refuse(self.refusal(cause, Vec::new())));
    }

    /// When the login's first request arrived.
    pub fn opened(&self) -> Moment {
        self.opened
    }

    /// Ends the login: what to answer, and its trace. `resends` is what was absorbed meanwhile.
    pub fn finish(mut self, resends: Resends, now: Moment) -> (Verdict, Trace) {
        let verdict = match std::mem::replace(&mut self.state, State::Moving) {
            State::Decided(verdict) | State::Held { verdict, .. } => verdict,
            _ => {
                self.trace.cause = Some(Cause::Unfinished);
                Verdict::Refuse(self.refusal(Cause::Unfinished, Vec::new()))
            }
        };
        let at_us = now.since(self.opened).as_micros() as u64;
        if resends.count > 0 {
            self.trace.facts.resends = Some(resends);
        }
        self.join_facts(now);
        if self.quiet {
            return (verdict, self.trace);
        }
        let (resends, protocol) = (resends.count, self.request.protocol());
        let mut end = |what: &'static str, tone, said: String| {
            let said = shown(&said).into_owned();
            self.trace.steps.push(Step { hop: Hop::Reply, what: what.into(), tone, at_us, took_us: 0, said, line: None })
        };
        if resends > 0 {
            end(
                "resends",
                Tone::Note,
                format!(
                    "the gateway retransmitted the request {resends} {} meanwhile; all joined this login",
                    if resends == 1 { "time" } else { "times" }
                ),
            );
        }
        match &verdict {
            Verdict::Accept(accept) => end("accept", Tone::Good, format!("{} with the grant `{}`", protocol.accept(), accept.grant())),
            Verdict::Challenge(challenge) => {
                let reads = match &challenge.prompt {
                    Some(_) if challenge.secret => "; prompt: the key for a new authenticator app".to_owned(),
                    Some(prompt) => format!("; prompt: {}", prompt.lines().collect::<Vec<_>>().join(" / ")),
                    None => String::new(),
                };
                end("challenge", Tone::Note, format!("{}, valid for {} s{reads}", protocol.challenge(), self.site.prompt_lasts.as_secs()));
            }
            Verdict::Refuse(refusal) => end("reject", Tone::Bad, format!("{}; message: {}", protocol.reject(), refusal.message)),
        }
        self.trace.took_us = at_us;
        (verdict, self.trace)
    }

    pub(super) fn chain(&self) -> Option<&Chain> {
        self.chain.and_then(|chain| self.site.chains.get(chain))
    }

    /// The device that the person sits at, where the chain remembers devices and the gateway names it.
    pub(super) fn station(&self, person: &str) -> Option<TrustedDevice> {
        self.chain()?.remember?;
        let caller = self.request.context.station.clone().filter(|_| self.request.context.origin == Origin::Gateway)?;
        Some(TrustedDevice { person: person.to_owned(), gateway: self.gateway_name().to_owned(), caller })
    }

    /// Through what the person logs in.
    pub(super) fn gateway_name(&self) -> &str {
        match self.request.context.origin {
            Origin::Page => OWN_PAGE,
            _ => self.gateway().map(|gateway| gateway.name.as_str()).unwrap_or_default(),
        }
    }

    pub(super) fn chain_name(&self) -> &str {
        self.chain().map(|chain| chain.name.as_str()).unwrap_or_default()
    }

    /// The typed name for people to read, whatever its bytes are.
    pub(super) fn typed_name(&self) -> String {
        self.request.readable_name(self.charset()).chars().take(253).collect()
    }

    /// A text for the trace, where it is read.
    pub(super) fn noted(&self, text: &str) -> Option<String> {
        (!self.quiet).then(|| text.to_owned())
    }

    /// What the typed name and text are written in. A page is always UTF-8.
    pub(super) fn charset(&self) -> Charset {
        match self.request.protocol() {
            // RFC 3748 sections 5.1 and 5.6: identities and texts inside EAP are UTF-8.
            _ if self.request.inside.is_some() => Charset::Utf8,
            Protocol::Radius => self.gateway().map(|gateway| gateway.charset).unwrap_or_default(),
            Protocol::Page => Charset::Utf8,
        }
    }

    pub(super) fn gateway(&self) -> Option<&Gateway> {
        self.site.gateways.get(self.request.context.gateway)
    }

    /// Adds a step that took the time since the last one.
    /// Notes something that happened aside, while the login waited for an approval, at its own time.
    pub fn note_aside(&mut self, what: &'static str, tone: Tone, at: Moment, said: &str) {
        if !self.quiet {
            let at_us = at.since(self.opened).as_micros() as u64;
            let said = shown(said).into_owned();
            self.trace.steps.push(Step { hop: Hop::Second, what: what.into(), tone, at_us, took_us: 0, said, line: None });
        }
    }

    /// Notes how long it took until a handset showed a notification.
    pub fn note_woken(&mut self, after: Duration) {
        let after_ms = after.as_millis() as u64;
        self.trace.facts.woken_ms = Some(self.trace.facts.woken_ms.map_or(after_ms, |before| before.min(after_ms)));
    }

    pub(super) fn step(&mut self, hop: Hop, what: &'static str, tone: Tone, now: Moment, said: String, line: Option<u32>) {
        if self.quiet {
            self.last = now;
            return;
        }
        let at_us = self.last.since(self.opened).as_micros() as u64;
        let took_us = now.since(self.last).as_micros() as u64;
        // Names, answers of sources and messages of upstreams come from outside, and are read on terminals.
        let said = match shown(&said) {
            Cow::Borrowed(_) => said,
            Cow::Owned(shown) => shown,
        };
        self.trace.steps.push(Step { hop, what: what.into(), tone, at_us, took_us, said, line });
        self.last = now;
    }

    /// Holds a refusal until it tells nothing by its time.
    pub(super) fn refuse(&mut self, cause: Cause, now: Moment) -> State {
        match self.pretend(cause) {
            Some(pretending) => pretending,
            None => self.refuse_with(cause, Vec::new(), now),
        }
    }

    /// As [`Login::refuse`], with attributes of an upstream's own refusal.
    pub(super) fn refuse_with(&mut self, cause: Cause, attributes: Vec<u8>, now: Moment) -> State {
        self.trace.cause = Some(cause);
        self.trace.outcome = Outcome::Refused;
        let verdict = Verdict::Refuse(self.refusal(cause, attributes));
        let pace = self.chain().map_or(Duration::from_millis(250), |chain| chain.refusal_pace).as_micros() as u64;
        if pace == 0 {
            return State::Decided(verdict);
        }
        let spent = now.since(self.began).as_micros() as u64;
        let until = self.began.plus(Duration::from_micros((spent / pace + 1) * pace));
        State::Held { until, verdict }
    }

    /// The same words for every cause: whoever guesses learns nothing, and whoever asks for help has a reference.
    fn refusal(&self, cause: Cause, attributes: Vec<u8>) -> Refusal {
        let language = self.gateway().map_or("", |gateway| gateway.language.as_str());
        let message = self.site.texts.say(language, Text::Refused, &[("reference", &self.trace.reference)]);
        Refusal { cause, message, may_retry: self.chain().is_some_and(|chain| chain.retry), attributes }
    }
}

/// The trace of a login that has just begun.
fn empty_trace(request: &Request, reference: String, revision: u64, now: Moment, quiet: bool) -> Trace {
    Trace {
        reference,
        began_us: now.micros(),
        took_us: 0,
        origin: request.context.origin,
        gateway: String::new(),
        sender: String::new(),
        chain: String::new(),
        typed_name: String::new(),
        person: None,
        method: String::new(),
        source: None,
        outcome: Outcome::Refused,
        cause: None,
        grant: None,
        factor: None,
        waived: None,
        revision,
        steps: Vec::with_capacity(if quiet { 0 } else { 12 }),
        facts: Box::new(Facts {
            port: request.context.port,
            signed: request.is_signed(),
            answers_prompt: request.state.is_some(),
            station: request.context.station.as_deref().map(|station| shown(station).into_owned()),
            device: if quiet { Vec::new() } else { request.context.device() },
            ..Facts::default()
        }),
    }
}
