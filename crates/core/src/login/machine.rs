//! The machine itself: a state per station, consumed on transition. See the module above for the call contract.

use super::asking::Asking;
use super::change::Asked;
use super::fact::{ApprovalAsk, Approved, CodeMark, Fact, Factors, Found, Guess, Need, NewDevice, Sendable, Station, WrongTry};
use super::guessing::Settled;
use super::pending::{KeptApproval, Pending, Upstream as KeptUpstream};
use super::proof::FirstProved;
use super::reading::ChosenCode;
use super::request::{Protocol, Request};
use super::second::MarkFor;
use super::upstream::{HiddenValue, Role, UpstreamAsk};
use super::{Refusal, Verdict};
use bivector_model::cause::Cause;
use bivector_model::device::VerifiedCode;
use bivector_model::directory::Notice;
use bivector_model::facts::{Facts, Resends};
use bivector_model::moment::Moment;
use bivector_model::prompt::Text;
use bivector_model::rule::Groups;
use bivector_model::text::shown;
use bivector_model::trace::{Hop, Origin, Outcome, Step, Tone, Trace};
use bivector_site::{Chain, Charset, Gateway, Site, SourceRef};
use bivector_wire::{MsChapProved, Secret};
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

#[derive(Debug)]
pub(super) enum State {
    /// Taking up the round before.
    Resuming {
        state: Vec<u8>,
    },
    Finding {
        at: usize,
    },
    Factors {
        source: SourceRef,
        at: usize,
        person: Arc<Found>,
    },
    /// As above, in a later round.
    Returning {
        pending: Box<Pending>,
        person: Arc<Found>,
    },
    Secret {
        source: SourceRef,
        person: Arc<Found>,
    },
    Pin {
        person: Arc<Found>,
        code: VerifiedCode,
        pin: Secret<String>,
        then: AfterMark,
    },
    Counting {
        wrong: Box<WrongTry>,
        cause: Cause,
        then: Option<Box<Asking>>,
    },
    Sending {
        sendable: Box<Sendable>,
        asking: Box<Asking>,
    },
    SendingApproval {
        ask: Arc<ApprovalAsk>,
        asking: Box<Asking>,
    },
    AwaitingApproval {
        approval: KeptApproval,
        asking: Box<Asking>,
    },
    Seeding {
        asking: Box<Asking>,
    },
    Adding {
        device: Box<NewDevice>,
        asking: Box<Asking>,
    },
    Password {
        source: SourceRef,
        person: Arc<Found>,
        guess: Secret<String>,
        code: ChosenCode,
    },
    Upstream {
        ask: Box<UpstreamAsk>,
        person: Arc<Found>,
        role: Role,
    },
    Marking {
        person: Arc<Found>,
        proof: MarkFor,
        then: AfterMark,
    },
    Guessing {
        guess: Arc<Guess>,
        then: Box<State>,
    },
    Settling {
        right: bool,
        then: Settled,
    },
    SendingPass {
        ask: Arc<ApprovalAsk>,
        guess: Arc<Guess>,
        then: Box<State>,
    },
    AwaitingPass {
        id: u64,
        guess: Arc<Guess>,
        then: Box<State>,
    },
    Pretending {
        sources: Vec<SourceRef>,
        text: bool,
        cause: Cause,
    },
    Changing {
        new: Secret<String>,
        asked: Asked,
    },
    Keeping {
        pending: Box<Pending>,
        asks: Asks,
    },
    Held {
        until: Moment,
        verdict: Verdict,
    },
    Decided(Verdict),
    /// Between two states only.
    Moving,
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
    pub(super) attributes: Vec<u8>,
}

impl Asks {
    /// A prompt of ours.
    pub(super) fn of(prompt: String, echo: bool) -> Self {
        Asks { prompt: Some(prompt), echo, attributes: Vec::new() }
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

/// One login.
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
    /// Why a source before the present one could not answer.
    pub(super) down: Option<Cause>,
    /// What upstreams gave for the reply: encoded attributes, and values that must be hidden anew.
    pub(super) given: (Vec<u8>, Vec<HiddenValue>),
    pub(super) refused_attributes: Vec<u8>,
    /// What a proof of the password has yielded.
    pub(super) keys: Option<Box<MsChapProved>>,
    /// Groups that an upstream named.
    pub(super) given_groups: Groups,
    /// What the directory warns of beside a right password.
    pub(super) notice: Option<Notice>,
    /// The source that knew the person.
    pub(super) found_by: Option<SourceRef>,
    /// What the records know of the person's factors, as far as the chain takes them.
    pub(super) factors: Factors,
    /// Whether the person has any factor at all, of this chain or not.
    pub(super) has_any_factor: bool,
    /// An approval that waits, should another factor be given instead.
    pub(super) waiting_approval: Option<u64>,
    /// Whether the prompt holds something that must not stand in the trace.
    pub(super) secret_prompt: bool,
    /// The prompt that this request answers, while the person is looked up again.
    pub(super) resuming: Option<Box<Pending>>,
    /// Whether the trace tells nothing but how it ends.
    pub(super) quiet: bool,
    /// The source that has said something of the password.
    pub(super) checked: Option<SourceRef>,
    /// Whether a password that nobody has was checked instead, or need not be.
    pub(super) pretended: bool,
    /// A yes of the person's handset, given before the password was checked.
    pub(super) passed: Option<Approved>,
}

impl Login {
    /// Begins a login. `reference` is what the person at the keyboard and the operator will both see.
    pub fn begin(site: Arc<Site>, request: impl Into<Arc<Request>>, reference: String, revision: u64, now: Moment) -> Self {
        let request = request.into();
        let context = &request.context;
        let chain = match request.protocol() {
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
        let trace = Trace {
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
        };
        let mut login = Login {
            site,
            request,
            chain,
            opened: now,
            began: now,
            last: now,
            earlier: None,
            open_until: None,
            state: State::Moving,
            trace,
            name: String::new(),
            realm: String::new(),
            down: None,
            given: Default::default(),
            refused_attributes: Vec::new(),
            keys: None,
            given_groups: Groups::default(),
            notice: None,
            found_by: None,
            factors: Factors::default(),
            has_any_factor: false,
            waiting_approval: None,
            secret_prompt: false,
            resuming: None,
            quiet,
            checked: None,
            pretended: false,
            passed: None,
        };
        if !quiet {
            login.trace.gateway = login.gateway_name().to_owned();
            login.trace.sender = login.request.context.sender.to_string();
            login.trace.chain = login.chain_name().to_owned();
            login.trace.typed_name = shown(&login.typed_name()).into_owned();
            login.trace.method = login.request.credential.method().to_owned();
        }
        login.state = match login.receive(now) {
            Ok(()) => match login.request.state.clone() {
                Some(state) => State::Resuming { state },
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
            State::Resuming { state } => Next::Ask(Need::TakeChallenge { state: state.clone() }),
            State::Finding { at } => match self.chain().and_then(|chain| chain.first.get(*at)) {
                Some(first) => Next::Ask(Need::FindPerson { source: first.source, name: self.name.clone() }),
                None => Next::Decided,
            },
            State::Factors { person, .. } | State::Returning { person, .. } => {
                Next::Ask(Need::Factors { person: person.key.clone(), station: self.station(&person.key) })
            }
            State::Secret { source, person } => Next::Ask(Need::Kept { source: *source, person: person.clone() }),
            State::Pin { person, code, pin, .. } => {
                Next::Ask(Need::CheckPin { person: person.key.clone(), device: code.device(), guess: pin.clone() })
            }
            State::Counting { wrong, .. } => Next::Ask(Need::CountWrong(wrong.clone())),
            State::Sending { sendable, .. } => Next::Ask(Need::SendCode(sendable.clone())),
            State::SendingApproval { ask, .. } => Next::Ask(Need::SendApproval(Arc::clone(ask))),
            State::AwaitingApproval { approval, asking } => {
                Next::Ask(Need::AwaitApproval { id: approval.id, person: asking.person.key.clone() })
            }
            State::Seeding { .. } => Next::Ask(Need::NewSeed),
            State::Adding { device, .. } => Next::Ask(Need::AddDevice(device.clone())),
            State::Password { source, person, guess, code } => Next::Ask(Need::CheckPassword {
                source: *source,
                person: person.clone(),
                guess: guess.clone(),
                code: self.marked_next(code),
            }),
            State::Marking { person, proof, .. } => {
                Next::Ask(Need::MarkCode(CodeMark { person: person.key.clone(), device: proof.device(), withdraw: self.waiting_approval }))
            }
            State::Upstream { ask, .. } => Next::Ask(Need::AskUpstream(ask.clone())),
            State::Guessing { guess, .. } => Next::Ask(Need::BeginGuess(guess.clone())),
            State::Settling { right, .. } => Next::Ask(Need::EndGuess { right: *right }),
            State::SendingPass { ask, .. } => Next::Ask(Need::SendApproval(Arc::clone(ask))),
            State::AwaitingPass { id, guess, .. } => Next::Ask(Need::AwaitApproval { id: *id, person: guess.person.clone() }),
            State::Pretending { sources, text, .. } => Next::Ask(Need::CheckNobody { sources: sources.clone(), text: *text }),
            State::Changing { new, asked } => Next::Ask(Need::ChangePassword {
                source: asked.source,
                person: asked.person.clone(),
                old: asked.old.clone(),
                new: new.clone(),
            }),
            State::Keeping { pending, .. } => Next::Ask(Need::KeepChallenge(pending.clone())),
            State::Held { until, .. } => Next::Wait(*until, Timer::RefusalPace),
            State::Decided(_) | State::Moving => Next::Decided,
        }
    }

    /// Tells the answer to the last need.
    pub fn learn(&mut self, fact: Fact, now: Moment) {
        if !self.quiet {
            self.note_fact(&fact);
        }
        let state = std::mem::replace(&mut self.state, State::Moving);
        self.state = match (state, fact) {
            (State::Resuming { .. }, Fact::Taken(answer)) => self.taken(answer, now),
            (State::Finding { at }, Fact::Person(answer)) => self.found(at, answer, now),
            (State::Factors { source, at, person }, Fact::Factors(answer)) => self.factors_known(source, at, person, answer, now),
            (State::Returning { pending, person }, Fact::Factors(answer)) => self.returned(*pending, person, answer, now),
            (State::Secret { source, person }, Fact::Secret(answer)) => self.secret_known(source, person, answer, now),
            (State::Pin { person, code, then, .. }, Fact::Pin(answer)) => self.pin_checked(person, code, then, answer, now),
            (State::Counting { cause, then, .. }, Fact::Counted(answer)) => self.counted(cause, then, answer, now),
            (State::Sending { sendable, asking }, Fact::Sent(answer)) => self.code_sent(&sendable, *asking, answer, now),
            (State::SendingApproval { ask, asking }, Fact::ApprovalSent(answer)) => self.approval_sent(&ask, *asking, answer, now),
            (State::AwaitingApproval { approval, asking }, Fact::Approval(answer)) => {
                self.approval_answered(approval, *asking, answer, now)
            }
            (State::Seeding { asking }, Fact::Seed(seed)) => self.seeded(*asking, seed, now),
            (State::Adding { asking, .. }, Fact::Added(answer)) => self.added(*asking, answer, now),
            (State::Password { source, person, guess, code }, Fact::Password(answer)) => {
                self.password(source, person, &guess, code, answer, now)
            }
            (State::Upstream { ask, person, role }, Fact::Upstream(answer)) => self.upstream_said(&ask, person, role, answer, now),
            (State::Marking { person, proof, then }, Fact::Mark(answer)) => self.marked(person, proof, then, answer, now),
            (State::Guessing { guess, then }, Fact::Guess(answer)) => self.guess_counted(guess, then, answer, now),
            (State::Settling { right, then }, Fact::GuessEnded(count)) => self.settled(right, then, count, now),
            (State::SendingPass { guess, then, .. }, Fact::ApprovalSent(answer)) => self.pass_sent(guess, then, answer, now),
            (State::AwaitingPass { guess, then, .. }, Fact::Approval(answer)) => self.pass_answered(guess, then, answer, now),
            (State::Pretending { cause, .. }, Fact::Nobody) => self.pretended(cause, now),
            (State::Changing { asked, .. }, Fact::Changed(answer)) => self.changed(asked, answer, now),
            (State::Keeping { asks, .. }, Fact::Kept(answer)) => self.kept(asks, answer, now),
            (_, fact) => {
                self.step(
                    Hop::Reply,
                    "out of turn",
                    Tone::Bad,
                    now,
                    format!("an answer came that nobody had asked for ({})", fact.name()),
                    None,
                );
                self.refuse(Cause::Unfinished, now)
            }
        };
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
                    format!("refusals leave at multiples of {} ms, whatever their cause", pace.as_millis()),
                    None,
                );
                State::Decided(verdict)
            }
            other => other,
        };
        self.last = now;
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
                    "the gateway sent the request {resends} more {} meanwhile; it joined this login",
                    if resends == 1 { "time" } else { "times" }
                ),
            );
        }
        match &verdict {
            Verdict::Accept(accept) => end("accept", Tone::Good, format!("{} with the grant `{}`", protocol.accept(), accept.grant())),
            Verdict::Challenge(challenge) => {
                let reads = match &challenge.prompt {
                    Some(_) if self.secret_prompt => "; the person reads the key of a new app".to_owned(),
                    Some(prompt) => format!("; the person reads: {}", prompt.lines().collect::<Vec<_>>().join(" / ")),
                    None => String::new(),
                };
                end(
                    "challenge",
                    Tone::Note,
                    format!("{}, to be answered within {} s{reads}", protocol.challenge(), self.site.prompt_lasts.as_secs()),
                );
            }
            Verdict::Refuse(refusal) => end("reject", Tone::Bad, format!("{}; the person reads: {}", protocol.reject(), refusal.message)),
        }
        self.trace.took_us = at_us;
        (verdict, self.trace)
    }

    pub(super) fn chain(&self) -> Option<&Chain> {
        self.chain.and_then(|chain| self.site.chains.get(chain))
    }

    /// The device that the person sits at, where the chain remembers devices and the gateway names it.
    pub(super) fn station(&self, person: &str) -> Option<Station> {
        self.chain()?.remember?;
        let caller = self.request.context.station.clone().filter(|_| self.request.context.origin == Origin::Gateway)?;
        Some(Station { person: person.to_owned(), gateway: self.gateway_name().to_owned(), caller })
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
            Protocol::Radius => self.gateway().map(|gateway| gateway.charset).unwrap_or_default(),
            Protocol::Page => Charset::Utf8,
        }
    }

    pub(super) fn gateway(&self) -> Option<&Gateway> {
        self.site.gateways.get(self.request.context.gateway)
    }

    /// Adds a step that took the time since the last one.
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
        if let Some(pretending) = self.pretend(cause) {
            return pretending;
        }
        self.trace.cause = Some(cause);
        self.trace.outcome = Outcome::Refused;
        let attributes = std::mem::take(&mut self.refused_attributes);
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
