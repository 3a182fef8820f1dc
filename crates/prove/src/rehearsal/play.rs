//! One rehearsed login: real packets through a real socket, as the gateway that it names, and what came of it.

use super::codes::Shows;
use crate::eap::EapPerson;
use bivector_api::approvals::{Decision, Shown};
use bivector_api::traces::TraceRow;
use bivector_doors::radius::{RadiusDoor, Rehearsed};
use bivector_engine::approvals::Said;
use bivector_engine::live::LiveSite;
use bivector_engine::push::wake_robot;
use bivector_engine::runs::STAGES;
use bivector_engine::shared::Shared;
use bivector_engine::stage::{HANDSET, ROBOTS, Robot, Stage, Traces};
use bivector_exchange::eap::{EapLogin, Identity};
use bivector_exchange::{AskError, Asker, Exchange, Patience, Request};
use bivector_explain::run::LoginResult;
use bivector_model::device::Device;
use bivector_model::totp::Settings;
use bivector_model::trace::{Outcome, Trace};
use bivector_site::rehearsal::{
    Codes, HandsetAnswer, HandsetDoes, OtherCertificate, Persona, RehearsedLogin, Seen, SeenAttribute, SimulatedPhone, Twist, Typed,
    TypedPart,
};
use bivector_site::{Chain, Method, Site};
use bivector_store::clock;
use bivector_store::seal::{digits, random};
use bivector_wire::eap::{EapMethod, Proves};
use bivector_wire::{AttributeType, Code, Message, Secret, SharedSecret, render};
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::net::UdpSocket;

/// How long silence is listened to before it counts as silence.
const SILENCE: Duration = Duration::from_millis(300);
/// How long a trace is waited for after its answer; it is made before the answer leaves.
const TRACE_WAIT: Duration = Duration::from_secs(2);
/// How often a robot looks at its handset.
const LOOK: Duration = Duration::from_millis(10);
/// How long a door may take to end.
const CLOSE: Duration = Duration::from_secs(1);
/// Beyond a gateway's own patience: so that a login which it would give up is told as slow, not as silent.
const LONGER: Duration = Duration::from_secs(5);
/// Rounds of one login, at most.
const ROUNDS: usize = 8;
/// Digits of a code where nothing says how many there are.
const DIGITS: u8 = 6;

/// What a persona knows, opened for one run.
#[derive(Debug, Clone)]
pub(super) struct Opened {
    pub(super) password: Option<Secret<String>>,
    /// Certificate and key as PEM.
    pub(super) certificate: Option<Secret<String>>,
    pub(super) shows: Shows,
}

/// What all logins of a run share.
pub(super) struct Play<'p> {
    pub(super) shared: &'p Arc<Shared>,
    pub(super) live: &'p Arc<LiveSite>,
    pub(super) personas: &'p [Opened],
    /// Told what a login waits for.
    pub(super) waits: &'p (dyn Fn(&str) + Send + Sync),
}

/// A login on its way.
struct Scene<'s> {
    play: &'s Play<'s>,
    login: &'s RehearsedLogin,
    persona: &'s Persona,
    opened: Opened,
    chain: Option<&'s Chain>,
    live: Arc<LiveSite>,
    stage: Arc<Stage>,
    asker: Arc<Asker>,
    /// The EAP login whose prompts may be answered.
    eap: Option<EapLogin>,
    secret: SharedSecret,
    traces: Traces,
    took: Duration,
    references: Vec<String>,
    last_trace: Option<(TraceRow, Trace)>,
}

/// Tries a login. `name` is no other login's on any stage.
pub(super) async fn play(play: &Play<'_>, login: &RehearsedLogin, turn: u32, name: String) -> LoginResult {
    let site = &play.live.site;
    let persona = site.personas.get(login.persona);
    let typed_name = login.typed_name.clone().or_else(|| persona.map(|persona| persona.login.clone())).unwrap_or_default();
    let mut result = LoginResult {
        title: login.title.clone(),
        turn,
        persona: persona.map(|persona| persona.name.clone()).unwrap_or_default(),
        via: site.gateways.get(login.via).map(|gateway| gateway.name.clone()).unwrap_or_default(),
        method: login.method.name().to_owned(),
        expected: login.expect.said(),
        seen: None,
        differences: Vec::new(),
        error: None,
        references: Vec::new(),
        line: login.line,
        typed_name,
    };
    let Some((persona, opened)) = persona.zip(play.personas.get(login.persona)) else {
        result.error = Some("its persona is not there".to_owned());
        return result;
    };
    match Scene::act(play, login, persona, opened.clone(), &result.typed_name, name).await {
        Ok(tried) => {
            let seen = tried.seen();
            result.differences = login.expect.differences(&seen);
            (result.seen, result.references) = (Some(seen), tried.references);
        }
        Err(error) => result.error = Some(error),
    }
    result
}

/// What came of a login that somebody tries as a persona.
#[derive(Debug)]
pub struct Tried {
    /// The last answer.
    pub exchange: Exchange,
    /// From the first packet to the last answer.
    pub took: Duration,
    /// The trace of the last round.
    pub trace: Option<(TraceRow, Trace)>,
    /// References of all its traces, one a round.
    pub references: Vec<String>,
}

/// Tries one login as a persona, whatever a rehearsal would expect of it.
///
/// # Errors
/// Why it could not be tried.
pub async fn try_persona(shared: &Arc<Shared>, live: &Arc<LiveSite>, login: &RehearsedLogin) -> Result<Tried, String> {
    let personas = super::open_personas(live, shared).map_err(|error| format!("{error}; {}", error.remedy()))?;
    let play = Play { shared, live, personas: &personas, waits: &|_| {} };
    let (persona, opened) = live.site.personas.get(login.persona).zip(personas.get(login.persona)).ok_or("the persona is not there")?;
    let name = format!("{}login-{}", STAGES, bivector_engine::ending::reference());
    let typed_name = login.typed_name.as_ref().unwrap_or(&persona.login);
    let tried = Scene::act(&play, login, persona, opened.clone(), typed_name, name.clone()).await;
    super::clear(shared, &name).await;
    tried
}

/// The site with the waits of this login.
fn shortened(live: &Arc<LiveSite>, login: &RehearsedLogin, chain: Option<usize>) -> Arc<LiveSite> {
    let waits = login.waits;
    if waits.prompt.is_none() && waits.approval.is_none() {
        return Arc::clone(live);
    }
    let mut site: Site = (*live.site).clone();
    site.prompt_lasts = waits.prompt.unwrap_or(site.prompt_lasts);
    if let (Some(approval), Some(chain)) = (waits.approval, chain.and_then(|chain| site.chains.get_mut(chain))) {
        chain.second_patience = approval;
    }
    Arc::new(live.with_site(site))
}

/// A token for one login, with codes as long as the chain's forms want them.
fn robot_token(chain: Option<&Chain>) -> (Device, Shows) {
    let fits = |digits: &u8| chain.is_none_or(|chain| chain.forms.is_empty() || chain.forms.iter().any(|form| form.takes_digits(*digits)));
    let settings = Settings { digits: (DIGITS..=8).find(fits).unwrap_or(DIGITS), ..Settings::default() };
    let seed = Secret::new(random::<20>().to_vec());
    // A number of its own for each: a used code of one robot is none of another's.
    let number = ROBOTS | u64::from_be_bytes(random::<8>()) >> 2;
    (Device::by_time(number, "robot token", seed.clone(), settings), Shows::Robot { seed, settings })
}

impl<'s> Scene<'s> {
    async fn act(
        play: &'s Play<'s>,
        login: &'s RehearsedLogin,
        persona: &'s Persona,
        mut opened: Opened,
        typed_name: &str,
        name: String,
    ) -> Result<Tried, String> {
        let site = &play.live.site;
        let gateway = site.gateways.get(login.via).ok_or("its gateway is not there")?;
        let secret = play.live.secrets.get(login.via).ok_or("its gateway has no secret")?.current.clone();
        // Inside EAP, the identity outside the tunnel selects the chain.
        let selects = login.outer.as_deref().unwrap_or(typed_name);
        let at = site.chain_for(login.via, 0, selects.as_bytes());
        let chain = at.and_then(|chain| site.chains.get(chain));
        let mut robot =
            Robot { login: source_login(chain, &persona.login), handset: persona.handset, token: None, sessions: login.sessions };
        if persona.codes == Some(Codes::Robot) {
            let (token, shows) = robot_token(chain);
            (robot.token, opened.shows) = (Some(token), shows);
        }
        let live = shortened(play.live, login, at);
        let (stage, traces) = Stage::new(name, robot);
        let stage = Arc::new(stage);
        // The asker is bound first, so that the door hears nobody else.
        let failed = |error: std::io::Error| format!("no socket could be opened: {error}");
        let socket = UdpSocket::bind(SocketAddr::from(([127, 0, 0, 1], 0))).await.map_err(failed)?;
        let known = match login.twist {
            // The door is told of a socket that sends nothing.
            Some(Twist::Stranger) => SocketAddr::from(([127, 0, 0, 1], 9)),
            _ => socket.local_addr().map_err(failed)?,
        };
        let rehearsed = Rehearsed { gateway: gateway.name.clone(), asker: known, live: Arc::clone(&live), stage: Arc::clone(&stage) };
        let door = RadiusDoor::rehearsal(rehearsed, play.shared).map_err(|error| error.to_string())?;
        let asker = Asker::over(socket, door.address()).await.map_err(failed)?;
        let mut scene = Scene {
            play,
            login,
            persona,
            opened,
            chain,
            live,
            stage: Arc::clone(&stage),
            asker: Arc::new(asker),
            eap: None,
            secret: if login.twist == Some(Twist::WrongSecret) { SharedSecret::new(&random::<24>()) } else { secret },
            traces,
            took: Duration::ZERO,
            references: Vec::new(),
            last_trace: None,
        };
        let played = scene.rounds(typed_name).await;
        door.close(CLOSE).await;
        let Scene { took, last_trace: trace, references, .. } = scene;
        played.map(|exchange| Tried { exchange, took, trace, references })
    }

    /// All rounds of the login, and what is wrong with it on purpose.
    async fn rounds(&mut self, typed_name: &str) -> Result<Exchange, String> {
        let login = self.login;
        if login.twist == Some(Twist::Locked) {
            self.lock(typed_name).await?;
        }
        let types_codes =
            std::iter::once(&login.typed).chain(&login.answers).any(|typed| typed.has(|part| matches!(part, TypedPart::Code(_))));
        let _turn = if types_codes { self.opened.shows.turn(&self.play.shared.runs.typed).await } else { None };
        let text = self.typed(&login.typed).await?;
        let mut exchange = self.begin(typed_name, &text).await?;
        if login.twist == Some(Twist::SameAgain) {
            if outcome_of(&exchange) != Outcome::Accepted {
                return Err(format!("it was to be sent twice, and was {} the first time", outcome_of(&exchange).slug()));
            }
            self.took = Duration::ZERO;
            exchange = self.begin(typed_name, &text).await?;
        }
        let mut answers = login.answers.iter();
        for _ in 0..ROUNDS {
            if outcome_of(&exchange) != Outcome::Challenged {
                break;
            }
            let by_handset = self.on_prompt(&exchange).await;
            let answer = match answers.next() {
                Some(answer) => self.typed(answer).await?,
                None if by_handset => String::new(),
                None => break,
            };
            let name = match login.twist {
                Some(Twist::LateAnswer) => {
                    tokio::time::sleep(self.live.site.prompt_lasts + Duration::from_millis(50)).await;
                    typed_name.to_owned()
                }
                Some(Twist::ForeignAnswer) => format!("x-{typed_name}"),
                _ => typed_name.to_owned(),
            };
            exchange = self.answer(&name, &answer, &exchange).await?;
        }
        Ok(exchange)
    }

    /// As many wrong codes as lock the person, on this stage only.
    async fn lock(&mut self, typed_name: &str) -> Result<(), String> {
        let parts = self.login.typed.parts.iter().map(|part| if part.needs_codes() { TypedPart::WrongCode } else { part.clone() });
        let wrong = Typed { parts: parts.collect() };
        for _ in 0..self.live.site.lockout.after {
            let text = self.typed(&wrong).await?;
            let mut exchange = self.begin(typed_name, &text).await?;
            if outcome_of(&exchange) == Outcome::Challenged {
                let wrong = self.opened.shows.wrong(DIGITS);
                exchange = self.answer(typed_name, &wrong, &exchange).await?;
            }
            if outcome_of(&exchange) == Outcome::Accepted {
                return Err("it was to be locked by wrong codes, and one of them was accepted".to_owned());
            }
        }
        (self.took, self.references) = (Duration::ZERO, Vec::new());
        Ok(())
    }

    /// A text with its places filled in.
    async fn typed(&self, typed: &Typed) -> Result<String, String> {
        let mut codes = Vec::new();
        for part in &typed.parts {
            if let TypedPart::Code(later) = part {
                let waits = |what: &str| (self.play.waits)(what);
                let code = self.opened.shows.fresh(*later, &self.play.shared.runs.typed, waits).await;
                codes.push(code.ok_or("the persona has no codes")?);
            }
        }
        let mut codes = codes.into_iter();
        let sent = self.stage.sent();
        let digits_of_chain = |digits: &u8| self.chain.is_some_and(|chain| chain.forms.iter().any(|form| form.takes_digits(*digits)));
        let wrong_digits = (DIGITS..=10).find(digits_of_chain).unwrap_or(DIGITS);
        let text = typed.fill(|part| match part {
            TypedPart::Text(text) => Some(text.clone()),
            TypedPart::Password => self.opened.password.as_ref().map(|password| password.expose().clone()),
            TypedPart::WrongPassword => Some(format!("wrong-{}x", digits(9).expose())),
            TypedPart::Code(_) => codes.next(),
            TypedPart::WrongCode => Some(self.opened.shows.wrong(wrong_digits)),
            TypedPart::Sent => sent.as_ref().map(|code| code.expose().clone()),
        });
        text.ok_or_else(|| {
            let what = if typed.has(|part| *part == TypedPart::Sent) { "no code was sent" } else { "the persona lacks what it types" };
            what.to_owned()
        })
    }

    async fn begin(&mut self, name: &str, text: &str) -> Result<Exchange, String> {
        if let Method::EapOf(method) = self.login.method {
            return self.begin_eap(method, name, text).await;
        }
        let request = match self.login.method {
            Method::Pap => Ok(Request::login(name, text.as_bytes())),
            Method::Chap => Request::chap(name, text.as_bytes()),
            Method::MsChapV2 => Request::ms_chap_v2(name, text),
            Method::Eap | Method::EapOf(_) => Ok(Request::eap_start(name)),
        };
        let request = self.signed(request.map_err(|error| error.to_string())?);
        self.send(request).await
    }

    /// Begins an EAP login; the peer is kept for the answers to its prompts.
    async fn begin_eap(&mut self, method: EapMethod, name: &str, text: &str) -> Result<Exchange, String> {
        let mut extra = Message::new(Code::AccessRequest);
        self.own_words(&mut extra);
        let mut again = Vec::new();
        if method.proves() == Proves::MsChapV2 {
            for answer in &self.login.answers {
                again.push(self.typed(answer).await?);
            }
        }
        let person = EapPerson {
            method,
            name,
            outer: self.login.outer.as_deref(),
            password: text,
            again: &again,
            identity: self.identity()?,
            old_tls: self.login.twist == Some(Twist::OldTls),
        };
        self.eap = Some(crate::eap::begin(&self.live, person, extra)?);
        self.go_on_eap().await
    }

    /// The certificate that the device shows.
    fn identity(&self) -> Result<Option<Identity>, String> {
        let shown = match &self.login.certificate {
            None => self.opened.certificate.as_ref(),
            Some(OtherCertificate::None) => None,
            Some(OtherCertificate::Of(name)) => {
                let at = self.live.site.personas.iter().position(|persona| persona.name == *name);
                at.and_then(|at| self.play.personas.get(at)).and_then(|opened| opened.certificate.as_ref())
            }
        };
        shown.map(|pem| crate::eap::identity(pem.expose())).transpose()
    }

    async fn go_on_eap(&mut self) -> Result<Exchange, String> {
        let Some(mut login) = self.eap.take() else { return Err("no EAP login was begun".to_owned()) };
        let patience = self.patience();
        let (asker, secret) = (Arc::clone(&self.asker), self.secret.clone());
        let went = self.perform(async { login.go_on(&asker, &secret, patience).await }).await?;
        self.eap = Some(login);
        match went.ended {
            Some(ended) if went.exchange.reply.as_ref().is_none_or(|reply| reply.code == Code::AccessChallenge) => {
                Err(format!("the peer ended the login: {ended}"))
            }
            _ => Ok(went.exchange),
        }
    }

    async fn answer(&mut self, name: &str, text: &str, challenge: &Exchange) -> Result<Exchange, String> {
        if let Some(login) = &mut self.eap {
            login.answer(text)?;
            return self.go_on_eap().await;
        }
        let mut request = self.signed(Request::login(name, text.as_bytes()));
        for (kind, value) in challenge.reply.iter().flat_map(|reply| &reply.attributes) {
            if *kind == AttributeType::State {
                request.message.push(*kind, value);
            }
        }
        self.send(request).await
    }

    /// With what the gateway says of itself and of the person's place.
    fn signed(&self, mut request: Request) -> Request {
        self.own_words(&mut request.message);
        request
    }

    fn own_words(&self, message: &mut Message) {
        let gateway = self.live.site.gateways.get(self.login.via);
        let name = gateway.map(|gateway| gateway.identifiers.first().unwrap_or(&gateway.name).clone()).unwrap_or_default();
        message.push(AttributeType::NasIdentifier, name.as_bytes());
        if let Some(caller) = &self.login.caller {
            message.push(AttributeType::CallingStationId, caller.as_bytes());
        }
    }

    /// As patient as the gateway.
    fn patience(&self) -> Patience {
        let gateway = self.live.site.gateways.get(self.login.via);
        match self.login.twist {
            Some(twist) if twist.is_met_with_silence() => Patience { wait: SILENCE, tries: 1 },
            _ => gateway.and_then(|gateway| gateway.patience).map_or(Patience { wait: Duration::from_secs(60), tries: 1 }, |patience| {
                Patience { wait: patience.wait.max(LONGER), tries: patience.tries }
            }),
        }
    }

    /// Sends a packet as patiently as the gateway.
    async fn send(&mut self, request: Request) -> Result<Exchange, String> {
        let (asker, secret, patience) = (Arc::clone(&self.asker), self.secret.clone(), self.patience());
        self.perform(async { asker.ask(&request, &secret, patience).await }).await
    }

    /// Carries out a round, while a simulated handset does what it has to.
    async fn perform<T>(&mut self, round: impl Future<Output = Result<T, AskError>>) -> Result<T, String> {
        let began = Instant::now();
        let done = match self.login.handset.filter(|_| self.persona.handset) {
            Some(does) => {
                let robot = async {
                    self.answer_handset(does, None).await;
                    std::future::pending::<Infallible>().await
                };
                // The robot is done with when the answer is there; what it held the login up for is not the chain's time.
                tokio::select! {
                    done = round => done,
                    never = robot => match never {},
                }
            }
            None => round.await,
        };
        let done = done.map_err(|error| error.to_string())?;
        let held = self.login.handset.map_or(Duration::ZERO, |does| does.holds());
        let took = began.elapsed();
        self.took += if took > held { took - held } else { took };
        if let Ok(Some((row, trace))) = tokio::time::timeout(TRACE_WAIT, self.traces.recv()).await {
            if self.references.last() != Some(&row.reference) {
                self.references.push(row.reference.clone());
            }
            self.last_trace = Some((row, trace));
        }
        Ok(done)
    }

    /// A prompt came: where it shows a number, the handset picks it now. Whether a handset has answered.
    async fn on_prompt(&self, exchange: &Exchange) -> bool {
        let Some(does) = self.login.handset.filter(|_| self.persona.handset) else { return false };
        let Some(number) = number_of(exchange) else { return false };
        self.answer_handset(does, Some(number)).await
    }

    /// Does what the simulated handset has to, once something is shown on it. Where a number is to be picked, the prompt must say it first.
    async fn answer_handset(&self, does: HandsetDoes, number: Option<u8>) -> bool {
        let Some(answer) = does.answer else { return false };
        let (shown, text, person) = loop {
            let shown = self.stage.person().and_then(|person| {
                let shown = self.play.shared.approvals.waiting(&person, clock::now())?;
                Some((serde_json::from_str::<Shown>(&shown).ok()?, shown, person))
            });
            match shown {
                Some((shown, text, person)) if number.is_some() || shown.numbers.is_empty() => break (shown, text, person),
                // The prompt with the number is on its way; the round after it picks it.
                Some(_) => std::future::pending::<()>().await,
                None if number.is_some() => return false,
                None => tokio::time::sleep(LOOK).await,
            }
        };
        let id = u64::from_str_radix(&shown.id, 16).unwrap_or_default();
        if does.phone != SimulatedPhone::Open && !wake_robot(self.play.shared, &self.live, id, does.phone).await {
            return false;
        }
        tokio::time::sleep(does.after).await;
        let other = || shown.numbers.iter().copied().find(|other| Some(*other) != number);
        let (decision, number) = match answer {
            HandsetAnswer::Approve => (Decision::Approve, number),
            HandsetAnswer::WrongNumber => (Decision::Approve, other().or(Some(0))),
            HandsetAnswer::Deny => (Decision::Deny, number),
        };
        let said = Said { decision, number, handset: HANDSET, device: "simulated handset".to_owned(), key: None };
        self.play.shared.approvals.answer(id, &person, &text, said, clock::now()).await.is_ok()
    }
}

impl Tried {
    /// What a rehearsal compares.
    fn seen(&self) -> Seen {
        let attributes = self.exchange.reply.iter().flat_map(|reply| &reply.attributes);
        let row = self.trace.as_ref().map(|(row, _)| row);
        Seen {
            outcome: outcome_of(&self.exchange),
            cause: row.and_then(|row| row.cause),
            grant: row.and_then(|row| row.grant.clone()),
            attributes: attributes.map(|(kind, value)| render(*kind, value)).map(|(name, value)| SeenAttribute { name, value }).collect(),
            factor: row.and_then(|row| row.factor.clone().or_else(|| row.waived.clone())),
            factor_given: row.is_some_and(|row| row.factor.is_some()),
            source: row.and_then(|row| row.source.clone()),
            took_us: self.took.as_micros() as u64,
        }
    }
}

/// The name that sources know a typed login by.
fn source_login(chain: Option<&Chain>, typed: &str) -> String {
    let read = chain.and_then(|chain| chain.identity.read(typed.as_bytes()).ok()).map(|read| read.name);
    read.unwrap_or_else(|| typed.to_owned()).to_lowercase()
}

/// How an exchange ended, as the gateway sees it.
pub fn outcome_of(exchange: &Exchange) -> Outcome {
    match exchange.reply.as_ref().map(|reply| reply.code) {
        Some(Code::AccessAccept) => Outcome::Accepted,
        Some(Code::AccessChallenge) => Outcome::Challenged,
        Some(_) => Outcome::Refused,
        None => Outcome::Silent,
    }
}

/// The number that a prompt shows.
fn number_of(exchange: &Exchange) -> Option<u8> {
    let reply = exchange.reply.as_ref().filter(|reply| reply.code == Code::AccessChallenge)?;
    let words = reply.attributes.iter().filter(|(kind, _)| *kind == AttributeType::ReplyMessage);
    words.map(|(_, value)| String::from_utf8_lossy(value).into_owned()).find_map(|text| {
        text.split(|character: char| !character.is_ascii_digit()).find(|word| word.len() == 2).and_then(|word| word.parse().ok())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_exchange::Reply;

    fn site() -> Site {
        let text = include_str!("../../../../demo/site.toml");
        Site::read(text, &bivector_site::Known::default()).0.unwrap()
    }

    fn chain(name: &str) -> Chain {
        site().chains.into_iter().find(|chain| chain.name == name).unwrap()
    }

    /// An exchange that ended with this code and these words.
    fn exchange(code: Code, words: &str) -> Exchange {
        let attributes = vec![(AttributeType::ReplyMessage, words.as_bytes().to_vec())];
        Exchange { reply: Some(Reply { code, attributes, bytes: Vec::new() }), ..silent() }
    }

    /// An exchange without an answer.
    fn silent() -> Exchange {
        Exchange { reply: None, sends: 3, took: Duration::from_secs(15), discarded: Vec::new(), refused: false }
    }

    #[test]
    fn the_number_of_a_prompt_is_its_only_word_of_two_digits() {
        let number = |words: &str| number_of(&exchange(Code::AccessChallenge, words));
        assert_eq!(number("Choose 42 on your phone, then continue here."), Some(42));
        assert_eq!(number("Auf dem Telefon 17 wählen"), Some(17));
        assert_eq!(number("Enter the code from app:"), None);
        assert_eq!(number("We sent a code to ••• 0101."), None);
        assert_eq!(number_of(&exchange(Code::AccessReject, "Reference 42")), None, "only a prompt shows a number");
        assert_eq!(number_of(&silent()), None);
    }

    #[test]
    fn an_exchange_ends_as_the_gateway_sees_it() {
        for (code, outcome) in
            [(Code::AccessAccept, Outcome::Accepted), (Code::AccessChallenge, Outcome::Challenged), (Code::AccessReject, Outcome::Refused)]
        {
            assert_eq!(outcome_of(&exchange(code, "")), outcome);
        }
        assert_eq!(outcome_of(&silent()), Outcome::Silent);
    }

    #[test]
    fn a_typed_name_is_known_to_sources_without_what_the_chain_takes_off() {
        let staff = chain("staff");
        assert_eq!(source_login(Some(&staff), "NORTHMOOR\\Ines"), "ines");
        assert_eq!(source_login(Some(&staff), "ines@northmoor.example"), "ines");
        assert_eq!(source_login(None, "Ines"), "ines");
    }

    #[test]
    fn a_robots_token_makes_codes_as_long_as_the_chain_takes_them() {
        let (device, shows) = robot_token(Some(&chain("staff")));
        assert!(device.digits() == 6 && device.id >= ROBOTS);
        let Shows::Robot { settings, .. } = shows else { panic!("a robot shows its codes") };
        assert_eq!(settings.digits, 6);
        let mut longer = chain("staff");
        longer.forms = vec![bivector_model::form::Form::parse("password code(8)").unwrap()];
        assert_eq!(robot_token(Some(&longer)).0.digits(), 8);
        assert_ne!(robot_token(None).0.id, robot_token(None).0.id, "one robot's used codes are none of another's");
    }
}
