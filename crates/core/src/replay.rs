//! Deciding recorded logins again under another site: the same machine, told the facts that were recorded. Nothing is asked of anybody.
//!
//! What was typed is not known, only its shape. So a text of the same shape is made up, with devices made up to fit it: a code that was
//! right then is a right code of a made-up device now. Where the machine would need something that nobody told then, that is said.

use crate::login::*;
use crate::radius::{self, Arrival};
use bivector_model::cause::Cause;
use bivector_model::device::{CodeKind, Device, Makes};
use bivector_model::facts::*;
use bivector_model::form::Form;
use bivector_model::moment::Moment;
use bivector_model::totp::{Settings, code};
use bivector_model::trace::{Origin, Outcome, Tone, Trace};
use bivector_site::{Charset, Method, Site, SourceRef};
use bivector_wire::eap::Proves;
use bivector_wire::{
    AttributeType, Code, IntegrityPolicy, MICROSOFT, MS_CHAP_CHALLENGE, MS_CHAP2_RESPONSE, Message, MsChapProof, Packet, Secret,
    SharedSecret, authenticate, chap_password, hide_password, nt_hash, read_shown,
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use utoipa::ToSchema;

/// Steps of one login, at most: no login of any site has as many.
const MOST_STEPS: usize = 64;
/// Signs what is made up.
const SECRET: &[u8] = b"made up for deciding again";
/// Seed of made-up devices.
const SEED: &[u8] = b"a seed for no device";
/// Logins of one group that are named.
const EXAMPLES: usize = 5;
/// A code that a courier has carried.
const SENT: &str = "246810";
/// How long an approval or a lock that was recorded still lasts when it is decided again.
const WHILE: Duration = Duration::from_secs(600);

/// A login as it was recorded.
#[derive(Debug, Clone)]
pub struct Recorded {
    /// Reference of its trace.
    pub reference: String,
    /// When it began.
    pub began: Moment,
    /// Where it came from.
    pub origin: Origin,
    /// The gateway's name.
    pub gateway: String,
    /// The address that sent it.
    pub sender: SocketAddr,
    /// The chain's name.
    pub chain: String,
    /// The name as it was typed.
    pub typed_name: String,
    /// The login name.
    pub login: String,
    /// The authentication method.
    pub method: String,
    /// How it ended.
    pub ending: Ending,
    /// What it learned; none in traces of versions that kept none.
    pub facts: Option<Facts>,
}

/// How a login ends, as far as it matters to somebody.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Ending {
    /// Its outcome's stable name.
    pub outcome: &'static str,
    /// Why, unless it was accepted.
    pub cause: Option<&'static str>,
    /// The grant.
    pub grant: Option<String>,
    /// Whether no second factor was asked for.
    pub waived: bool,
}

impl Ending {
    /// From what a trace says.
    pub fn new(outcome: Outcome, cause: Option<Cause>, grant: Option<String>, waived: bool) -> Self {
        Ending { outcome: outcome.slug(), cause: cause.map(Cause::slug), grant, waived: waived && outcome == Outcome::Accepted }
    }

    /// In words.
    pub fn said(&self) -> String {
        let without = if self.waived { ", without a second factor" } else { "" };
        match (self.cause, &self.grant) {
            (Some(cause), _) => format!("{}: {cause}", self.outcome),
            (None, Some(grant)) => format!("{} with {grant}{without}", self.outcome),
            (None, None) => self.outcome.to_owned(),
        }
    }
}

/// What came of deciding one login again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Again {
    /// It ends like this, for this reason.
    Ends {
        /// How.
        ending: Ending,
        /// The step that decided it.
        why: String,
        /// Its line in the site file.
        line: Option<u32>,
    },
    /// The machine would need something that was not recorded.
    Unknown(String),
    /// It cannot be decided again.
    Left(&'static str),
}

/// Decides one login again.
pub fn again(site: &Arc<Site>, recorded: &Recorded) -> Again {
    if recorded.ending.outcome == Outcome::Silent.slug() {
        return Again::Left("the packet did not start a login");
    }
    let Some(facts) = &recorded.facts else { return Again::Left("recorded by an earlier version, without the necessary data") };
    if facts.answers_prompt {
        return Again::Left("an answer to a prompt; its first round is evaluated instead");
    }
    if recorded.origin == Origin::Page {
        return Again::Left("a sign-in to the person's own page");
    }
    let by_address = || site.gateway_at(recorded.sender.ip()).filter(|_| recorded.origin == Origin::Gateway);
    let Some(gateway) = by_address().or_else(|| site.gateway_named(&recorded.gateway)) else {
        return silent(Cause::GatewayUnknown, "no gateway of the draft has its address");
    };
    Rounds { site, recorded, gateway }.decide(facts)
}

/// The rounds of one login, decided one after the other.
struct Rounds<'r> {
    site: &'r Arc<Site>,
    recorded: &'r Recorded,
    gateway: usize,
}

/// What a round that asks for more leaves behind.
struct Open {
    pending: Box<Pending>,
    trace: Box<Trace>,
}

impl Rounds<'_> {
    fn decide(&self, facts: &Facts) -> Again {
        let made = MadeUp::of(facts, self.recorded.began);
        let mut decided = self.round(facts, &made, &self.recorded.method, self.recorded.began, None);
        let mut later = facts.rounds.iter();
        loop {
            let (trace, kept) = match decided {
                Ok(decided) => decided,
                Err(again) => return again,
            };
            let (Some(pending), Some(round)) = (kept, later.next()) else { return self.ends(trace) };
            if facts.rounds_left_out > 0 {
                return Again::Left("some of its rounds are not on record");
            }
            let now = self.recorded.began.plus(Duration::from_micros(round.at_us));
            let made = match MadeUp::for_prompt(&round.facts, now) {
                Ok(made) => made,
                Err(unknown) => return Again::Unknown(unknown.to_owned()),
            };
            let open = Open { pending, trace: Box::new(trace) };
            decided = self.round(&round.facts, &made, Method::Pap.name(), now, Some(open));
        }
    }

    /// Decides one round; gives its trace, and what it keeps for the next.
    fn round(
        &self,
        facts: &Facts,
        made: &MadeUp,
        method: &str,
        now: Moment,
        open: Option<Open>,
    ) -> Result<(Trace, Option<Box<Pending>>), Again> {
        let (site, recorded, gateway) = (self.site, self.recorded, self.gateway);
        let packet = made.packet(site, gateway, recorded, facts, method).map_err(Again::Left)?;
        let secret = SharedSecret::new(SECRET);
        let policy = site.gateways.get(gateway).map_or(IntegrityPolicy::Required, |gateway| gateway.integrity);
        let Ok(parsed) = Packet::parse(&packet) else { return Err(Again::Left("it cannot be reconstructed")) };
        let Ok(authentic) = authenticate(parsed, &secret, policy) else {
            return Err(silent(Cause::IntegrityMissing, "its gateway must sign its requests, and did not"));
        };
        let arrival = Arrival { gateway, sender: recorded.sender, port: facts.port, origin: recorded.origin, secret_proved: false };
        let mut request = radius::read(&authentic, &secret, arrival);
        request.state = open.as_ref().map(|_| vec![1]);
        if let Some(inside) = method_named(method).ok().and_then(Method::eap)
            && let Some(chain) = self.chain_of(gateway, facts.port, &request.typed_name)
        {
            // The certificate is not kept; the name that was found in it is.
            let certificate = Some(Box::new(VerifiedCertificate::made_up(&recorded.typed_name)));
            request = match inside.proves() {
                Proves::Certificate => request.with_credential(Credential::Certificate, None),
                _ => request,
            };
            request = request.within(Inside { method: Some(inside), chain, began: now, steps: Vec::new(), certificate });
        }
        let login = Login::begin(Arc::clone(site), request, recorded.reference.clone(), 0, now);
        run(login, Memory { site, facts, made, recorded, open, kept: None }, now).map_err(Again::Unknown)
    }

    /// The chain of a login inside EAP. The identity that selected it is not kept, so the chain of the same name is taken if it still has
    /// the gateway.
    fn chain_of(&self, gateway: usize, port: u16, typed_name: &[u8]) -> Option<usize> {
        let named = self.site.chains.iter().position(|chain| chain.name == self.recorded.chain);
        let own = self.site.gateways.get(gateway).map_or(&[][..], |gateway| &gateway.chains);
        named.filter(|index| own.contains(index)).or_else(|| self.site.chain_for(gateway, port, typed_name))
    }

    fn ends(&self, trace: Trace) -> Again {
        let Again::Ends { ending, why, line } = ends(trace) else { return Again::Left("it cannot be reconstructed") };
        // Nobody answered then, and nobody would now.
        let unanswered = self.recorded.ending.cause == Some(Cause::PromptUnanswered.slug()) && ending.outcome == Outcome::Challenged.slug();
        let ending = if unanswered { self.recorded.ending.clone() } else { ending };
        Again::Ends { ending, why, line }
    }
}

fn silent(cause: Cause, why: &str) -> Again {
    Again::Ends { ending: Ending::new(Outcome::Silent, Some(cause), None, false), why: why.to_owned(), line: None }
}

fn run(mut login: Login, mut memory: Memory<'_>, began: Moment) -> Result<(Trace, Option<Box<Pending>>), String> {
    let mut now = began;
    for _ in 0..MOST_STEPS {
        match login.next() {
            Next::Ask(need) => login.learn(memory.answer(need, now)?, now),
            Next::Wait(until, _) => {
                now = now.max(until);
                login.wake(now);
            }
            Next::Decided => {
                let (_, trace) = login.finish(Resends::default(), now);
                return Ok((trace, memory.kept));
            }
        }
    }
    Err("the machine came to no end".to_owned())
}

fn ends(trace: Trace) -> Again {
    let told = |step: &&bivector_model::trace::Step| match trace.outcome {
        Outcome::Accepted => step.what == "rule",
        _ => step.tone == Tone::Bad && step.what != "reject",
    };
    let step = trace.steps.iter().rev().find(told).or(trace.steps.last());
    let (why, line) = step.map_or((String::new(), None), |step| (step.said.clone(), step.line));
    let ending = Ending::new(trace.outcome, trace.cause, trace.grant.clone(), trace.waived.is_some());
    Again::Ends { ending, why, line }
}

/// A text and devices of the shape that was recorded.
struct MadeUp {
    text: String,
    code: Option<String>,
    devices: Vec<Device>,
}

/// The password that somebody would have typed, as far as its shape is known.
fn password(typed: Option<&TypedFact>) -> String {
    let (length, tail) = typed.map_or((8, 0), |typed| (typed.password, typed.tail.min(typed.password)));
    format!("{}{}", "x".repeat(length - tail), "7".repeat(tail))
}

fn method_named(name: &str) -> Result<Method, &'static str> {
    Method::ALL.iter().copied().find(|known| known.name() == name).ok_or("it carried no credential that is known")
}

impl MadeUp {
    fn of(facts: &Facts, now: Moment) -> Self {
        let typed = facts.typed.as_ref();
        let spent = typed.is_some_and(|typed| typed.verdict == Some(CodeFact::Spent));
        let known = facts.factors.iter().flat_map(|factors| &factors.devices).zip(1u64..);
        let devices: Vec<Device> = known.map(|((kind, digits, pin), id)| made_device(id, *kind, *digits, *pin, spent, now)).collect();
        let code = typed.and_then(|typed| Some(made_code(&devices, typed.verdict, typed.code?, now)));
        let text = match typed {
            Some(typed) if typed.form == PACKED => {
                let digits = [typed.pin.map(|digits| "4".repeat(digits)), code.clone()].map(Option::unwrap_or_default).concat();
                pack(&password(Some(typed)), typed.word.as_deref().unwrap_or(&digits))
            }
            Some(typed) => {
                let form = Form::parse(&typed.form).ok();
                let pin = typed.pin.map(|digits| "4".repeat(digits));
                let password = password(Some(typed));
                form.map_or(password.clone(), |form| form.rebuild(&password, pin.as_deref(), code.as_deref(), typed.word.as_deref()))
            }
            None => password(None),
        };
        MadeUp { text, code, devices }
    }

    /// For the answer to a prompt.
    fn for_prompt(facts: &Facts, now: Moment) -> Result<Self, &'static str> {
        let known = facts.factors.iter().flat_map(|factors| &factors.devices).zip(1u64..);
        let devices: Vec<Device> = known.map(|((kind, digits, pin), id)| made_device(id, *kind, *digits, *pin, false, now)).collect();
        let text = match &facts.answer {
            Some(AnswerFact::Nothing) => String::new(),
            Some(AnswerFact::Sent) => SENT.to_owned(),
            Some(AnswerFact::Own(kind, digits, pin)) => {
                let code = made_code(&devices, Some(CodeFact::Right(*kind)), *digits, now);
                "4".repeat(*pin) + &code
            }
            Some(AnswerFact::Factor(name)) => name.clone(),
            Some(AnswerFact::ForUpstream(length)) => "7".repeat(*length),
            Some(AnswerFact::Wrong(length)) => "x".repeat(*length),
            Some(AnswerFact::Other) | None => return Err("it would continue with a prompt whose answer is unknown"),
        };
        Ok(MadeUp { text, code: None, devices })
    }

    /// What the gateway would send.
    fn packet(&self, site: &Site, gateway: usize, recorded: &Recorded, facts: &Facts, method: &str) -> Result<Vec<u8>, &'static str> {
        const LEFT: &str = "it cannot be reconstructed";
        let secret = SharedSecret::new(SECRET);
        let settings = site.gateways.get(gateway).ok_or(LEFT)?;
        let name = match settings.charset {
            Charset::Utf8 => recorded.typed_name.clone().into_bytes(),
            Charset::Latin1 => recorded.typed_name.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect(),
        };
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, &name);
        let authenticator = [7; 16];
        match method_named(method)?.proves() {
            Some(Proves::Text) => {
                let hidden = hide_password(self.text.as_bytes(), &authenticator, &secret).map_err(|_| LEFT)?;
                message.push(AttributeType::UserPassword, &hidden);
            }
            Some(Proves::Chap) => {
                message.push(AttributeType::ChapPassword, &chap_password(1, self.proved(facts, recorded.began).as_bytes(), &authenticator));
                message.push(AttributeType::ChapChallenge, &authenticator);
            }
            Some(Proves::MsChapV2) => {
                let (ours, theirs) = (authenticator, [9; 16]);
                let (response, _) = MsChapProof::answer(1, &name, &nt_hash(&self.proved(facts, recorded.began)), ours, theirs);
                message.push_vendor(MICROSOFT, MS_CHAP_CHALLENGE, &ours);
                message.push_vendor(MICROSOFT, MS_CHAP2_RESPONSE, &response);
            }
            Some(Proves::Certificate) | None => message.push(AttributeType::EapMessage, &[2, 1, 0, 5, 1]),
        }
        if let Some(station) = &facts.station {
            message.push(AttributeType::CallingStationId, station.as_bytes());
        }
        if let Some(identifier) = settings.identifiers.first() {
            message.push(AttributeType::NasIdentifier, identifier.as_bytes());
        }
        // Rules may ask for what the gateway said of itself.
        let told = facts.device.iter().map(|(number, shown)| (AttributeType::from(*number), shown));
        for (kind, shown) in told.filter(|(kind, _)| *kind != AttributeType::NasIdentifier || settings.identifiers.is_empty()) {
            if let Some(value) = read_shown(kind, shown) {
                message.push(kind, &value);
            }
        }
        let bytes =
            if facts.signed { message.sign_request(1, &authenticator, &secret) } else { message.unsigned_request(1, &authenticator) };
        bytes.map_err(|_| LEFT)
    }

    /// The text that a proof would have been made of.
    fn proved(&self, facts: &Facts, now: Moment) -> String {
        match facts.proof {
            Some(ProofFact::Password) => password(None),
            Some(ProofFact::WithCode(kind)) => {
                let device = self.devices.iter().find(|device| device.kind() == kind);
                let live = device.and_then(|device| device.live(now, &Default::default()).next());
                format!("{}{}", password(None), live.map(|(code, _)| code).or(self.code.clone()).unwrap_or_default())
            }
            Some(ProofFact::Nothing) | None => "something else".to_owned(),
        }
    }
}

/// A device or list that nobody has, of this kind and with so many digits.
pub fn made_device(id: u64, kind: CodeKind, digits: u8, has_pin: bool, spent: bool, now: Moment) -> Device {
    let seed = Secret::new(b"a seed for no device".to_vec());
    let settings = Settings { digits, ..Settings::default() };
    let fixed = "1357924680".chars().cycle().take(usize::from(digits)).collect::<String>();
    let makes = match kind {
        CodeKind::Totp => Makes::ByTime { seed, settings, drift: 0 },
        CodeKind::Hotp => Makes::ByCount { seed, settings, counter: u64::from(spent), ahead: None },
        CodeKind::Recovery => Makes::List { codes: Secret::new(vec![fixed.clone(), fixed + "1"]), used: u64::from(spent) },
        CodeKind::Temporary => {
            let until = if spent { Moment::from_micros(now.micros().saturating_sub(1)) } else { now.plus(Duration::from_secs(600)) };
            Makes::Issued { code: Secret::new(fixed), until, left: 1 }
        }
    };
    Device { id, label: kind.name().to_owned(), has_pin, makes }
}

/// A code with so many digits that is to the made-up devices what the typed one was to the person's.
fn made_code(devices: &[Device], verdict: Option<CodeFact>, digits: usize, now: Moment) -> String {
    let of = |kind: Option<CodeKind>| {
        devices.iter().find(|device| kind.is_none_or(|kind| device.kind() == kind) && usize::from(device.digits()) == digits)
    };
    let limits = Default::default();
    let made = match verdict {
        Some(CodeFact::Right(kind)) => of(Some(kind)).and_then(|device| device.live(now, &limits).next()).map(|(code, _)| code),
        Some(CodeFact::Drifted(seconds)) => of(None).and_then(|device| match &device.makes {
            Makes::ByTime { seed, settings, .. } => {
                let step = settings.step_at(now).saturating_add_signed(seconds / i64::from(settings.period));
                Some(code(seed.expose(), step, *settings))
            }
            _ => None,
        }),
        Some(CodeFact::Spent) => devices.iter().find_map(|device| match &device.makes {
            Makes::ByCount { seed, settings, .. } => Some(code(seed.expose(), 0, *settings)),
            Makes::List { codes, .. } => codes.expose().first().cloned(),
            Makes::Issued { code, .. } => Some(code.expose().clone()),
            Makes::ByTime { .. } => None,
        }),
        Some(CodeFact::Wrong) | None => None,
    };
    made.filter(|code| code.len() == digits).unwrap_or_else(|| {
        let wrong = |code: &String| devices.iter().all(|device| device.verify(code, now, &limits).is_none());
        (0..10).map(|digit| digit.to_string().repeat(digits)).find(wrong).unwrap_or_default()
    })
}

/// Answers a login's needs from what was recorded.
struct Memory<'m> {
    site: &'m Site,
    facts: &'m Facts,
    made: &'m MadeUp,
    recorded: &'m Recorded,
    /// The round before.
    open: Option<Open>,
    /// What this round keeps for the next.
    kept: Option<Box<Pending>>,
}

fn unavailable(cause: Cause) -> Unavailable {
    Unavailable { cause, seen: "as it was then".to_owned() }
}

impl Memory<'_> {
    fn answer(&mut self, need: Need, now: Moment) -> Result<Fact, String> {
        Ok(match need {
            Need::FindPerson { source, name } => Fact::Person(Answer::ours(self.person(source, &name)?)),
            Need::Factors { .. } => Fact::Factors(FactorsAnswer::Known(Box::new(self.factors(now)?))),
            Need::CheckPassword { source, guess, .. } => Fact::Password(Answer::ours(self.password(source, &guess)?)),
            Need::Kept { source, .. } => Fact::Secret(Answer::ours(match self.checked(source)? {
                CheckFact::Right | CheckFact::Wrong => SecretAnswer::Text(Secret::new(password(None))),
                CheckFact::Refused(_) => SecretAnswer::NotKept,
                CheckFact::Down(cause) => SecretAnswer::Unavailable(unavailable(cause)),
            })),
            Need::CheckPin { .. } => {
                Fact::Pin(if self.recorded.ending.cause == Some(Cause::PinWrong.slug()) { PinAnswer::Wrong } else { PinAnswer::Right })
            }
            Need::BeginGuess(guess) => Fact::Guess(self.guess(guess.trusted, now)),
            Need::EndGuess { .. } => Fact::GuessEnded(GuessCount::default()),
            Need::CheckNobody { .. } => Fact::Nobody(()),
            Need::CountWrong(_) => Fact::Counted(CountAnswer::Counted { wrong: 1, locked_until: None }),
            Need::MarkCode(_) => Fact::Mark(match self.facts.mark {
                Some(CheckFact::Wrong) => MarkAnswer::UsedBefore,
                Some(CheckFact::Refused(_)) => MarkAnswer::Locked(now.plus(WHILE)),
                Some(CheckFact::Down(cause)) => MarkAnswer::Unavailable(unavailable(cause)),
                // A code that was right but never got that far has not been used by anybody else, as far as is known.
                Some(CheckFact::Right) | None => MarkAnswer::Marked,
            }),
            Need::SendApproval(ask) => Fact::ApprovalSent(match self.facts.approval {
                Some(ApprovalFact::NotAsked(Cause::ApprovalStopped)) => ApprovalSent::Stopped(now.plus(WHILE)),
                Some(ApprovalFact::NotAsked(Cause::ApprovalBusy)) => ApprovalSent::Limited("as it was then".to_owned()),
                Some(ApprovalFact::NotAsked(cause)) => ApprovalSent::Unavailable(unavailable(cause)),
                _ => ApprovalSent::Sent { id: 1, number: ask.wants_number.then_some(42), joined: false, until: now.plus(ask.lasts) },
            }),
            Need::AwaitApproval { .. } => Fact::Approval(self.approval()?),
            Need::SendCode(sendable) => {
                let name = self.site.couriers.get(sendable.courier).map_or("", |courier| courier.name.as_str());
                Fact::Sent(match find(&self.facts.sent, name) {
                    Some(CheckFact::Refused(_)) => SendAnswer::Limited("as it was then".to_owned()),
                    Some(CheckFact::Down(cause)) => SendAnswer::Unavailable(unavailable(*cause)),
                    _ => SendAnswer::Sent(SentCode { code: Secret::new(SENT.to_owned()), to: "as it was then".to_owned() }),
                })
            }
            Need::KeepChallenge(pending) => {
                self.kept = Some(pending);
                Fact::Kept(KeptAnswer::Kept(vec![1]))
            }
            Need::TakeChallenge { .. } => Fact::Taken(match self.open.take() {
                Some(open) => TakenAnswer::Taken { pending: open.pending, before: Some(open.trace) },
                None => TakenAnswer::NotThere,
            }),
            Need::AskUpstream(ask) => Fact::Upstream(Answer::ours(self.upstream(ask.upstream)?)),
            Need::NewSeed => Fact::Seed(Secret::new(SEED.to_vec())),
            // What is free now says nothing of then.
            Need::Reserve(_) => Fact::Reserved(ReserveAnswer::Reserved { leased: Vec::new(), open: 0, ends: None }),
            Need::AddDevice(_) | Need::ChangePassword { .. } => {
                return Err("it would continue with a prompt whose answer is unknown".to_owned());
            }
        })
    }

    fn person(&self, source: SourceRef, asked: &str) -> Result<PersonAnswer, String> {
        let name = self.site.source_name(source);
        Ok(match find(&self.facts.people, name) {
            Some(PersonFact::Found(person)) => PersonAnswer::Found(person.clone()),
            Some(PersonFact::Nobody) => PersonAnswer::NoSuchPerson,
            Some(PersonFact::Several(count)) => PersonAnswer::Ambiguous { count: *count },
            Some(PersonFact::Refused(cause)) => PersonAnswer::Refused(*cause),
            Some(PersonFact::Down(cause)) => PersonAnswer::Unavailable(unavailable(*cause)),
            None if matches!(source, SourceRef::Upstream(_)) => PersonAnswer::Found(Arc::new(Found::of_upstream(name, asked))),
            None => return Err(format!("`{name}` would be searched, which it was not at the time")),
        })
    }

    fn factors(&self, now: Moment) -> Result<Factors, String> {
        let Some(known) = &self.facts.factors else {
            return Err("a second factor would be asked for, and nobody looked then what the person has".to_owned());
        };
        Ok(Factors {
            devices: self.made.devices.clone(),
            locked_until: known.locked.then(|| now.plus(WHILE)),
            handsets: known.handsets,
            keys: known.keys,
            remembered_until: known.remembered.then(|| now.plus(WHILE)),
        })
    }

    /// The wait after too many wrong passwords applies whatever the draft says, as long as the draft counts them.
    fn guess(&self, trusted: bool, now: Moment) -> GuessAnswer {
        let limited = |whose| GuessAnswer::Limited { whose, wrong: self.site.passwords.after, until: now.plus(WHILE) };
        match self.recorded.ending.cause {
            Some(cause) if cause == Cause::PasswordLimited.slug() && !trusted => limited(Guesser::Person),
            Some(cause) if cause == Cause::CallerLimited.slug() => limited(Guesser::Caller),
            _ => GuessAnswer::MayTry,
        }
    }

    fn checked(&self, source: SourceRef) -> Result<CheckFact, String> {
        let name = self.site.source_name(source);
        find(&self.facts.passwords, name).copied().ok_or_else(|| format!("`{name}` would check the password, and was not asked then"))
    }

    fn password(&self, source: SourceRef, guess: &Secret<String>) -> Result<PasswordAnswer, String> {
        let checked = self.checked(source)?;
        let same = self.facts.typed.as_ref().is_none_or(|typed| typed.password == guess.expose().len());
        if !same {
            return Err("the password field would be split differently".to_owned());
        }
        Ok(match checked {
            CheckFact::Right => PasswordAnswer::Right,
            CheckFact::Wrong => PasswordAnswer::Wrong,
            CheckFact::Refused(cause) => PasswordAnswer::Refused(cause),
            CheckFact::Down(cause) => PasswordAnswer::Unavailable(unavailable(cause)),
        })
    }

    fn approval(&self) -> Result<ApprovalAnswer, String> {
        let then = || "as it was then".to_owned();
        Ok(match self.facts.approval {
            Some(ApprovalFact::Approved(millis)) => {
                let key = self.facts.factors.as_ref().is_some_and(|factors| factors.keys > 0).then(then);
                ApprovalAnswer::Approved(Approved { handset: 1, device: then(), key, took: Duration::from_millis(millis) })
            }
            Some(ApprovalFact::Denied) => ApprovalAnswer::Denied(then()),
            Some(ApprovalFact::Disowned) => ApprovalAnswer::Disowned(then()),
            Some(ApprovalFact::Unanswered) => ApprovalAnswer::Unanswered(then()),
            Some(ApprovalFact::NotAsked(_)) | None => return Err("the handset would be asked, and was not asked then".to_owned()),
        })
    }

    fn upstream(&self, index: usize) -> Result<UpstreamAnswer, String> {
        let name = self.site.upstreams.get(index).map_or("", |upstream| upstream.name.as_str());
        let given = |attributes: &[(u8, Vec<u8>)]| Given {
            attributes: attributes.iter().map(|(kind, value)| (AttributeType::from(*kind), value.clone())).collect(),
            ..Given::default()
        };
        Ok(match find(&self.facts.upstreams, name) {
            Some(UpstreamFact::Accepted(attributes)) => UpstreamAnswer::Accept(given(attributes)),
            Some(UpstreamFact::Refused) => UpstreamAnswer::Reject(Given::default()),
            Some(UpstreamFact::Challenged) => UpstreamAnswer::Challenge { state: vec![1], given: Given::default() },
            Some(UpstreamFact::Down(cause)) => UpstreamAnswer::Unavailable(unavailable(*cause)),
            None => return Err(format!("`{name}` would be asked, and was not asked then")),
        })
    }
}

fn find<'f, T>(facts: &'f [(String, T)], name: &str) -> Option<&'f T> {
    facts.iter().find(|(own, _)| own == name).map(|(_, fact)| fact)
}

/// What deciding many logins again has shown.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Replayed {
    /// Logins that were decided again.
    pub decided: u64,
    /// Those that end as they did.
    pub same: u64,
    /// Those that end otherwise, grouped by what changes and why; the largest group first.
    pub changed: Vec<Group>,
    /// Those for which something would be needed that was not recorded, by what.
    pub unknown: Vec<Group>,
    /// Those that cannot be decided again, by why.
    pub left: BTreeMap<String, u64>,
}

/// Logins that have the same in common.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Group {
    /// The chain that took them.
    pub chain: String,
    /// How they ended.
    pub before: String,
    /// How they would end; what is not known, in the groups of unknown ones.
    pub after: String,
    /// The step that decides it, of the first of them.
    pub why: String,
    /// Its line in the draft.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub line: Option<u32>,
    /// How many.
    pub count: u64,
    /// How many different people.
    pub people: u64,
    /// References of some of them, newest first.
    pub examples: Vec<String>,
}

/// Gathers what comes of deciding logins again.
#[derive(Debug, Default)]
pub struct Tally {
    replayed: Replayed,
    changed: BTreeMap<GroupKey, (Group, BTreeSet<String>)>,
    unknown: BTreeMap<GroupKey, (Group, BTreeSet<String>)>,
}

type GroupKey = (String, String, String, Option<u32>);

impl Tally {
    /// Adds one login.
    pub fn add(&mut self, recorded: &Recorded, again: Again) {
        let (ending, why, line) = match again {
            Again::Left(why) => return *self.replayed.left.entry(why.to_owned()).or_default() += 1,
            Again::Unknown(what) => {
                let key = (recorded.chain.clone(), recorded.ending.said(), what.clone(), None);
                return Self::group(&mut self.unknown, key, recorded, what);
            }
            Again::Ends { ending, why, line } => (ending, why, line),
        };
        self.replayed.decided += 1;
        if ending == recorded.ending {
            self.replayed.same += 1;
            return;
        }
        let key = (recorded.chain.clone(), recorded.ending.said(), ending.said(), line);
        Self::group(&mut self.changed, key, recorded, why);
    }

    fn group(groups: &mut BTreeMap<GroupKey, (Group, BTreeSet<String>)>, key: GroupKey, recorded: &Recorded, why: String) {
        let (group, people) = groups.entry(key.clone()).or_insert_with(|| {
            let (chain, before, after, line) = key;
            (Group { chain, before, after, why, line, ..Group::default() }, BTreeSet::new())
        });
        group.count += 1;
        people.insert(recorded.login.clone());
        group.people = people.len() as u64;
        if group.examples.len() < EXAMPLES {
            group.examples.push(recorded.reference.clone());
        }
    }

    /// Everything that was gathered.
    pub fn done(self) -> Replayed {
        let sorted = |groups: BTreeMap<GroupKey, (Group, BTreeSet<String>)>| {
            let mut groups: Vec<Group> = groups.into_values().map(|(group, _)| group).collect();
            groups.sort_by_key(|group| std::cmp::Reverse(group.count));
            groups
        };
        Replayed { changed: sorted(self.changed), unknown: sorted(self.unknown), ..self.replayed }
    }
}
