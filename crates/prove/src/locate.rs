//! Locating: the layers behind a login, tried one at a time from the back to the front, until one is broken. Nothing is switched off for
//! it, no code is used up, and at most one password guess goes to a source, as in a login.

use bivector_api::directories::ProbedServer;
use bivector_api::traces::TraceRow;
use bivector_core::login::{Factors, FactorsAnswer, Found, LookedCode, PasswordAnswer, PersonAnswer, look_at};
use bivector_engine::driver::{check, find};
use bivector_engine::live::{DOUBTED, LiveSite};
use bivector_engine::push::{PushLook, look};
use bivector_engine::shared::Shared;
use bivector_engine::sources::certificate_days;
use bivector_engine::sources::probe::probe;
use bivector_explain::ladder::{Ladder, Layer, judge_doors, judge_rules, judge_waits};
use bivector_explain::probe::{Line, Piece, Seen};
use bivector_model::Cause;
use bivector_model::condition::Circumstances;
use bivector_model::device::Device;
use bivector_model::trace::{Outcome, Tone};
use bivector_site::matrix::{self, Skill};
use bivector_site::{Chain, CourierBy, FactorKind, Gateway, Method, SourceRef, Wake, WhenNotEnrolled, WhenUnknown};
use bivector_store::clock;
use bivector_store::records::{RecordsError, TraceFilter};
use bivector_wire::Secret;
use bivector_wire::eap::Proves;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::time::timeout;

/// A directory whose clock is off by more than this is a broken layer: codes and locks depend on clocks.
const SKEW: i64 = 30;
/// A knock that is older than this says nothing of now.
const RECENT: Duration = Duration::from_secs(24 * 3600);

/// What helps a handset that push does not reach.
const PUSH_REMEDY: &str =
    "have the person open the handset page, which sets notifications up again; then send a test with `bivector factor test`";

/// How many of a gateway's newest packets are looked at.
const LOOKED_AT: u32 = 20;

/// Whose login is looked at, and how.
#[derive(Debug)]
pub struct Sought {
    /// The name as it would be typed.
    pub person: String,
    /// Index of the gateway.
    pub gateway: usize,
    /// What would be typed in the password field.
    pub typed: Option<Secret<String>>,
    /// How it would be sent.
    pub method: Method,
}

struct Climb<'c> {
    shared: &'c Shared,
    live: &'c Arc<LiveSite>,
    doors: &'c [SocketAddr],
    sought: &'c Sought,
    chain: &'c Chain,
    gateway: &'c Gateway,
    ladder: Ladder,
    began: Instant,
}

/// Climbs the ladder of a login.
///
/// # Errors
/// The records cannot be read.
pub async fn locate(shared: &Shared, live: &Arc<LiveSite>, doors: &[SocketAddr], sought: &Sought) -> Result<Ladder, RecordsError> {
    let site = &live.site;
    let began = Instant::now();
    let Some(gateway) = site.gateways.get(sought.gateway) else { return Ok(Ladder::new(&sought.person, "?")) };
    let mut ladder = Ladder::new(&sought.person, &gateway.name);
    let chain = site.chain_for(sought.gateway, 0, sought.person.as_bytes());
    let Some(chain) = chain.and_then(|chain| site.chains.get(chain)) else {
        let seen = Seen::bad(Cause::ChainMissing, format!("no chain accepts `{}` through {}", sought.person, gateway.name));
        ladder.climb(Layer::Chain, &gateway.name, seen, 0, Some(gateway.line));
        return Ok(ladder);
    };
    ladder.chain.clone_from(&chain.name);
    let mut climb = Climb { shared, live, doors, sought, chain, gateway, ladder, began };
    climb.all().await?;
    Ok(climb.ladder)
}

impl Climb<'_> {
    /// Notes a layer; `false` if it is broken.
    fn rung(&mut self, layer: Layer, about: &str, seen: Seen, line: Option<u32>) -> bool {
        let took = self.began.elapsed().as_micros() as u64;
        self.began = Instant::now();
        self.ladder.climb(layer, about, seen, took, line)
    }

    async fn all(&mut self) -> Result<(), RecordsError> {
        let name = match self.chain.identity.read(self.sought.person.as_bytes()) {
            Ok(read) => read.name,
            Err(cause) => {
                let seen = Seen::bad(cause, format!("`{}`: {}", self.sought.person, cause.sentence()));
                self.rung(Layer::Chain, &self.chain.name.clone(), seen, Some(self.chain.line));
                return Ok(());
            }
        };
        let seen = Seen::good(format!("`{}` is looked up as `{name}`", self.sought.person));
        self.rung(Layer::Chain, &self.chain.name.clone(), seen, Some(self.chain.line));
        let Some((source, person)) = self.source(&name).await else { return Ok(()) };
        let factors = match self.shared.roster.factors(&person.key, None, clock::now()) {
            FactorsAnswer::Known(factors) => *factors,
            FactorsAnswer::Unavailable(why) => {
                self.rung(Layer::Factor, &person.login, Seen::bad(why.cause, why.seen), None);
                return Ok(());
            }
        };
        let code = match self.password(source, &person, &factors).await {
            Ok(code) => code,
            Err(()) => return Ok(()),
        };
        let goes_on = self.factor(&person, &factors, &code)
            && self.clock(&person, &factors, &code)
            && self.handset(&person, &factors)
            && self.push(&person, &factors).await?
            && self.couriers(&person).await
            && self.code_upstream().await
            && self.rule(&person)
            && self.method(source)
            && self.certificates();
        if !goes_on || !self.secret().await? || !self.sender().await? {
            return Ok(());
        }
        let seen = judge_doors(self.doors, self.chain, self.gateway);
        if self.rung(Layer::Door, &self.gateway.name.clone(), seen, None) {
            let seen = judge_waits(&self.live.site, self.chain, self.gateway);
            self.rung(Layer::Waits, &self.gateway.name.clone(), seen, Some(self.gateway.line));
        }
        Ok(())
    }

    /// The first source that knows the person, with every layer behind it.
    async fn source(&mut self, name: &str) -> Option<(SourceRef, Arc<Found>)> {
        let sources: Vec<SourceRef> = self.chain.first.iter().map(|first| first.source).collect();
        for (at, source) in sources.iter().enumerate() {
            let last = at + 1 == sources.len();
            let about = self.live.site.source_name(*source).to_owned();
            match *source {
                SourceRef::Directory(index) => {
                    let directory = Arc::clone(self.live.directories.get(index)?);
                    let line = self.live.site.directories.get(index).map(|directory| directory.line);
                    let probed = probe(&directory, Some(name), &self.shared.data).await;
                    if !self.directory(&about, probed, last, line) {
                        return None;
                    }
                }
                SourceRef::Upstream(index) => {
                    let seen = upstream_seen(self.live, index).await;
                    if !self.rung(Layer::Connection, &about, seen, self.live.site.upstreams.get(index).map(|one| one.line)) {
                        return None;
                    }
                    let seen =
                        Seen::note(format!("{about} is an upstream and cannot be searched; only a login shows whether it knows {name}"));
                    self.rung(Layer::Person, &about, seen, None);
                    let key = format!("{about}:{}", name.to_lowercase());
                    return Some((*source, Arc::new(Found { key, login: name.to_owned(), name: name.to_owned(), ..Found::default() })));
                }
                SourceRef::Roster => {}
            }
            match find(*source, name, self.live, &self.shared.roster).await.value {
                PersonAnswer::Found(person) => {
                    if *source == SourceRef::Roster {
                        let seen = Seen::good(format!("{name} is in the roster"));
                        self.rung(Layer::Person, &about, seen, None);
                        let groups = person.groups.names().join(", ");
                        let seen =
                            if groups.is_empty() { Seen::warn("no groups", "import the person with groups") } else { Seen::good(groups) };
                        self.rung(Layer::Groups, &about, seen, None);
                    }
                    return Some((*source, person));
                }
                PersonAnswer::Refused(cause) => {
                    self.rung(Layer::Person, &about, Seen::bad(cause, cause.sentence()), None);
                    return None;
                }
                PersonAnswer::Unavailable(why) => {
                    self.rung(Layer::Connection, &about, Seen::bad(why.cause, why.seen), None);
                    return None;
                }
                PersonAnswer::Ambiguous { count } => {
                    self.rung(Layer::Person, &about, Seen::bad(Cause::PersonAmbiguous, format!("{count} entries for {name}")), None);
                    return None;
                }
                PersonAnswer::NoSuchPerson if last => {
                    self.rung(Layer::Person, &about, Seen::bad(Cause::PersonUnknown, format!("{about} has no entry for {name}")), None);
                    return None;
                }
                PersonAnswer::NoSuchPerson => {}
            }
        }
        None
    }

    /// The pieces of a directory, each by the server that came farthest; `false` if one is broken. That somebody is not there is told of
    /// the last source only: an earlier one need not know everybody.
    fn directory(&mut self, about: &str, probed: Vec<ProbedServer>, last: bool, line: Option<u32>) -> bool {
        let farthest = |probed: &&ProbedServer| probed.lines.iter().take_while(|line| line.state != Tone::Bad).count();
        // Of several that came as far, the first in the site file.
        let Some(best) = probed.iter().rev().max_by_key(farthest) else { return true };
        let others: Vec<(&str, &Line)> = probed
            .iter()
            .filter(|other| other.server != best.server)
            .filter_map(|other| Some((other.server.as_str(), other.lines.iter().find(|line| line.state == Tone::Bad)?)))
            .collect();
        for piece in &best.lines {
            let Some(layer) = Layer::of(piece.piece).filter(|layer| *layer != Layer::Clock) else { continue };
            let mut seen = Seen { state: piece.state, said: piece.said.clone(), cause: piece.cause, remedy: piece.remedy.clone() };
            if piece.piece == Piece::Person && seen.state == Tone::Bad && !last {
                seen = Seen::note(format!("{}; asking the next source", seen.said));
            }
            if let Some((server, broken)) = others.iter().find(|(_, line)| line.piece == piece.piece).filter(|_| seen.state == Tone::Good) {
                seen = Seen::warn(
                    format!("{}; but {server}: {}", seen.said, broken.said),
                    broken.remedy.clone().unwrap_or_else(|| "check that server".to_owned()),
                );
            }
            let goes_on = self.ladder.climb(layer, about, seen, piece.took_us, line);
            if !goes_on {
                return false;
            }
        }
        self.began = Instant::now();
        let skew = best.lines.iter().find(|line| line.piece == Piece::Clock && line.state == Tone::Warn);
        if let Some(skew) = skew.filter(|line| seconds(&line.said).is_some_and(|off| off > SKEW)) {
            let seen = Seen { state: Tone::Bad, ..Seen::good(skew.said.clone()) };
            return self.rung(Layer::Clock, about, seen.and(skew.remedy.clone().unwrap_or_default()), line);
        }
        true
    }

    /// The password, and what the code behind it is.
    async fn password(&mut self, source: SourceRef, person: &Found, factors: &Factors) -> Result<LookedCode, ()> {
        let about = self.live.site.source_name(source).to_owned();
        if self.sought.method.proves() == Some(Proves::Certificate) {
            let said = "not needed: the certificate is the first check, and only a login shows whether it is accepted";
            self.rung(Layer::Password, &about, Seen::note(said), None);
            return Ok(LookedCode::None);
        }
        let Some(typed) = &self.sought.typed else {
            self.rung(Layer::Password, &about, Seen::note("not tried: no password was given"), None);
            return Ok(LookedCode::None);
        };
        let devices: Vec<Device> = factors.devices.iter().filter(|device| self.chain.takes(device.kind())).cloned().collect();
        let looked = look_at(self.chain, typed, &devices, self.live.site.codes, clock::now());
        if self.chain.code_only {
            self.rung(Layer::Password, &about, Seen::note("not checked here: the chain is `code_only`"), None);
            return Ok(looked.code);
        }
        if matches!(source, SourceRef::Upstream(_)) {
            self.rung(Layer::Password, &about, Seen::note(format!("{about} can be checked only by a login")), None);
            return Ok(looked.code);
        }
        if looked.guess.expose().is_empty() {
            self.rung(Layer::Password, &about, Seen::bad(Cause::PasswordMissing, looked.said), Some(self.chain.forms_line));
            return Err(());
        }
        let seen = match check(source, person, looked.guess, None, self.live, &self.shared.roster).await.value {
            PasswordAnswer::Right => Seen::good(format!("correct; {}", looked.said)),
            PasswordAnswer::RightBut(notice) => Seen::warn(format!("correct; {notice}"), "ask the person to change it soon"),
            PasswordAnswer::Wrong => Seen::bad(Cause::PasswordWrong, format!("{about} rejected it; {}", looked.said)),
            PasswordAnswer::Refused(cause) => Seen::bad(cause, cause.sentence()),
            PasswordAnswer::Unavailable(why) => Seen::bad(why.cause, why.seen),
        };
        let line = Some(self.chain.forms_line);
        if self.rung(Layer::Password, &about, seen, line) { Ok(looked.code) } else { Err(()) }
    }

    fn factor(&mut self, person: &Found, factors: &Factors, code: &LookedCode) -> bool {
        let (chain, line) = (self.chain, Some(self.chain.line));
        if chain.second.is_empty() {
            return self.rung(Layer::Factor, &person.login, Seen::note("the chain requires no second factor"), line);
        }
        if let Some(until) = factors.locked_until.filter(|until| *until > clock::now()) {
            let left = until.since(clock::now()).as_secs().div_ceil(60);
            let seen = Seen::bad(Cause::FactorLocked, format!("locked for another {left} min after wrong codes"));
            return self.rung(Layer::Factor, &person.login, seen, line);
        }
        let own = chain.second.iter().filter_map(|kind| match kind {
            FactorKind::Code(kind) => {
                let device = factors.devices.iter().find(|device| device.kind() == *kind && device.can_be_used(clock::now()))?;
                Some(format!("{kind} “{}”", device.label))
            }
            FactorKind::Approval => (factors.handsets > 0).then(|| "a handset".to_owned()),
            FactorKind::Key => (factors.keys > 0 && factors.handsets > 0).then(|| "a security key".to_owned()),
            FactorKind::Courier(index) => {
                let courier = self.live.site.couriers.get(*index)?;
                let reached = match courier.carries {
                    bivector_site::Carries::Mail => person.mail.is_some(),
                    _ => person.phone.is_some(),
                };
                reached.then(|| format!("{} by {}", courier.carries.name(), courier.name))
            }
            FactorKind::Upstream(_) => Some(format!("codes that {} checks", self.live.site.factor_name(*kind))),
        });
        let own: Vec<String> = own.collect();
        let seen = match (own.is_empty(), code, chain.when_not_enrolled) {
            (_, LookedCode::Refused(cause, said), _) if *cause != Cause::CodeDrifted => Seen::bad(*cause, said.clone()),
            (false, LookedCode::Right, _) => Seen::good(format!("{}; the code is valid now", own.join(", "))),
            (false, ..) => Seen::good(own.join(", ")),
            (true, _, WhenNotEnrolled::Refuse) => {
                let kinds: Vec<&str> = chain.second.iter().map(|kind| self.live.site.factor_name(*kind)).collect();
                Seen::bad(
                    Cause::NotEnrolled,
                    format!("{} has none of the factors that the chain accepts: {}", person.login, kinds.join(", ")),
                )
            }
            (true, ..) => Seen::note("none yet; the chain admits such people anyway"),
        };
        self.rung(Layer::Factor, &person.login, seen, line)
    }

    fn clock(&mut self, person: &Found, factors: &Factors, code: &LookedCode) -> bool {
        if let LookedCode::Refused(Cause::CodeDrifted, said) = code {
            return self.rung(Layer::Clock, &person.login, Seen::bad(Cause::CodeDrifted, said.clone()), None);
        }
        let drift = factors.devices.iter().find_map(|device| match device.makes {
            bivector_model::device::Makes::ByTime { drift, settings, .. } if drift.unsigned_abs() > self.live.site.codes.window => {
                Some(format!(
                    "the clock of “{}” is {} s off; the drift is being compensated",
                    device.label,
                    drift.abs() * i64::from(settings.period)
                ))
            }
            _ => None,
        });
        let seen = match (drift, code) {
            (Some(said), _) => Seen::warn(said, "correct the clock of the person's device"),
            (None, LookedCode::Right) => Seen::good("the device's clock and ours agree"),
            (None, _) => Seen::good("no drift is recorded; only a code shows the device's current clock"),
        };
        self.rung(Layer::Clock, &person.login, seen, None)
    }

    fn handset(&mut self, person: &Found, factors: &Factors) -> bool {
        if !self.chain.asks_handsets() || factors.handsets == 0 {
            return true;
        }
        let line = Some(self.chain.line);
        if let Some(stop) = self.shared.roster.stop_of(&person.key, clock::now()) {
            let said = format!("approvals are stopped because a login through {} was reported as not theirs", stop.gateway);
            return self.rung(Layer::Handset, &person.login, Seen::bad(Cause::ApprovalStopped, said), line);
        }
        let only = self.chain.second.iter().all(|kind| kind.is_on_handset()) || factors.devices.is_empty();
        let seen = match (self.shared.approvals.is_heard(&person.key), only) {
            (true, _) => Seen::good("a handset is connected"),
            (false, _) if !self.chain.wake.is_empty() => Seen::note("no handset page is open; the person is woken"),
            (false, true) => Seen::bad(Cause::ApprovalUnanswered, "no handset of this person is connected")
                .and("ask the person to open the handset page and keep it open; approvals appear only there"),
            (false, false) => {
                Seen::warn("no handset of this person is connected; a code would do", "ask the person to open the handset page")
            }
        };
        self.rung(Layer::Handset, &person.login, seen, line)
    }

    /// Whether a courier that wakes people of the chain has an address of this person.
    fn gets_messages(&self, person: &Found) -> bool {
        let courier = |wake: &Wake| match wake {
            Wake::Courier(index) => self.live.site.couriers.get(*index),
            Wake::Push => None,
        };
        self.chain.wake.iter().filter_map(courier).any(|courier| match courier.carries {
            bivector_site::Carries::Mail => person.mail.is_some(),
            _ => person.phone.is_some(),
        })
    }

    /// Whether push messages reach the person's handsets. Nothing is sent.
    async fn push(&mut self, person: &Found, factors: &Factors) -> Result<bool, RecordsError> {
        if !self.chain.asks_handsets() || factors.handsets == 0 || !self.chain.wake.contains(&Wake::Push) {
            return Ok(true);
        }
        let Some(row) = self.shared.roster.get(&person.key) else { return Ok(true) };
        let looks = look(self.shared, self.live, &row).await?;
        let any = looks.iter().any(PushLook::is_good);
        // An open page, a message by courier and a code do without.
        let only = self.chain.second.iter().all(|kind| kind.is_on_handset()) || factors.devices.is_empty();
        let needed = only && !self.shared.approvals.is_heard(&person.key) && !self.gets_messages(person);
        for look in looks {
            let seen = match look.is_good() {
                true => Seen::good(look.said()),
                false if any || !needed => Seen::warn(look.said(), PUSH_REMEDY),
                false => Seen::bad(Cause::ApprovalUnanswered, look.said()).and(PUSH_REMEDY),
            };
            if !self.rung(Layer::Push, &look.label, seen, Some(self.chain.line)) {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether what carries codes takes a connection. Nothing is sent.
    async fn couriers(&mut self, person: &Found) -> bool {
        let chain = self.chain;
        let couriers: Vec<usize> =
            chain.second.iter().filter_map(|kind| if let FactorKind::Courier(index) = kind { Some(*index) } else { None }).collect();
        let only = chain.second.iter().all(|kind| matches!(kind, FactorKind::Courier(_)));
        let mut dead = Vec::new();
        let (mut asked, live) = (0, Arc::clone(self.live));
        for courier in couriers.iter().filter_map(|index| live.site.couriers.get(*index)) {
            let reaches = match courier.carries {
                bivector_site::Carries::Mail => person.mail.is_some(),
                _ => person.phone.is_some(),
            };
            if !reaches {
                continue;
            }
            asked += 1;
            let target = match &courier.by {
                CourierBy::Http { url, .. } => host_of(url),
                CourierBy::Smtp { server, .. } => Some((server.host.clone(), server.port)),
            };
            let seen = match target {
                Some((host, port)) => match timeout(courier.patience, tokio::net::TcpStream::connect((host.as_str(), port))).await {
                    Ok(Ok(_)) => Seen::good(format!("{host} port {port} accepts connections")),
                    Ok(Err(error)) => Seen::bad(Cause::CourierFailed, format!("{host} port {port}: {error}")),
                    Err(_) => Seen::bad(Cause::CourierFailed, format!("{host} port {port}: no answer within {:?}", courier.patience)),
                },
                None => Seen::note("its URL depends on the message, so it cannot be tested"),
            };
            if seen.state == Tone::Bad {
                dead.push((courier.name.clone(), courier.line, seen));
            } else {
                self.rung(Layer::Courier, &courier.name, seen, Some(courier.line));
            }
        }
        let all_dead = asked > 0 && dead.len() == asked && only;
        let asks_first = chain.second.first().is_some_and(|kind| matches!(kind, FactorKind::Courier(_)));
        for (name, line, seen) in dead {
            let worst = all_dead || asks_first;
            let seen = if worst { seen } else { Seen { state: Tone::Warn, ..seen } };
            if !self.rung(Layer::Courier, &name, seen, Some(line)) {
                return false;
            }
        }
        true
    }

    async fn code_upstream(&mut self) -> bool {
        let Some(index) = self.chain.code_upstream() else { return true };
        let seen = upstream_seen(self.live, index).await;
        let (name, line) = self.live.site.upstreams.get(index).map_or((String::new(), 0), |one| (one.name.clone(), one.line));
        self.rung(Layer::Upstream, &name, seen, Some(line))
    }

    fn rule(&mut self, person: &Found) -> bool {
        let site = Arc::clone(&self.live.site);
        let known = Circumstances {
            groups: Some(&person.groups),
            labels: Some(&self.gateway.labels),
            name: Some(&person.login),
            method: Some(self.sought.method.name()),
            gateway: Some(&self.gateway.name),
            time: Some(site.local_time(clock::now())),
            assumed: true,
            ..Circumstances::default()
        };
        let (seen, line) = judge_rules(&self.chain.rules, &known, &site, &person.login);
        if !self.rung(Layer::Rule, &self.chain.name.clone(), seen, line.or(Some(self.chain.line))) {
            return false;
        }
        let decision = self.chain.rules.decide_for(&known);
        let bivector_model::rule::Decision::Passed(passed, _) = decision else { return true };
        let Some(grant) = site.grants.get(passed.grant()) else { return true };
        let targets: Vec<String> = grant.reply.iter().map(|item| item.target.to_string()).collect();
        let sets = if targets.is_empty() { "nothing".to_owned() } else { targets.join(", ") };
        self.rung(Layer::Grant, &grant.name, Seen::good(format!("sets {sets}")), Some(grant.line))
    }

    fn method(&mut self, source: SourceRef) -> bool {
        let (chain, method, line) = (self.chain, self.sought.method, Some(self.chain.line));
        let taken: Vec<&str> = chain.methods.iter().map(|method| method.name()).collect();
        let seen = match matrix::first(method, Skill::in_site(&self.live.site, chain, source)) {
            _ if !chain.methods.contains(&method) => Seen::bad(
                Cause::MethodNotInChain,
                format!("the chain does not accept {} login; it accepts {}", method.spoken(), taken.join(", ")),
            ),
            Err(never) => Seen::bad(Cause::MethodNeedsText, never.why.to_owned()).and(never.remedies.join(", or ")),
            Ok(_) => Seen::good(format!("{} is accepted", method.name())),
        };
        self.rung(Layer::Method, &chain.name, seen, line)
    }

    /// What EAP needs beside the method: a certificate that devices can accept, and lists that say which of people's are revoked.
    fn certificates(&mut self) -> bool {
        let Some(eap) = self.sought.method.eap().filter(|method| method.has_tunnel()) else { return true };
        let files = self.live.site.eap.certificate.as_ref();
        let (file, line) = (files.map_or("none", |files| files.certificate.as_str()), Some(self.live.site.eap.line));
        let days = certificate_days(&self.shared.data).get(file).copied();
        let seen = match (files, days) {
            (None, _) => Seen::bad(Cause::TlsFailed, format!("`{}` needs a server certificate, and none is set", eap.name())),
            (_, Some(days)) if days < 0 => {
                Seen::bad(Cause::TlsAlert, format!("the server certificate expired {} days ago; devices refuse it", -days))
            }
            (_, Some(days)) => Seen::good(format!("the server certificate lasts another {days} days; devices must trust its issuer")),
            (_, None) => Seen::note("the server certificate is in use; its end could not be read"),
        };
        if !self.rung(Layer::Certificate, file, seen, line) {
            return false;
        }
        let own: Vec<String> =
            self.chain.issuers.iter().filter_map(|index| self.live.site.issuers.get(*index)).map(|one| one.name.clone()).collect();
        let health: Vec<_> =
            self.live.eap.issuers().iter().map(|issuer| issuer.health()).filter(|issuer| own.contains(&issuer.name)).collect();
        health.into_iter().all(|issuer| {
            let strict = self.live.site.issuers.iter().any(|one| one.name == issuer.name && one.when_unknown == WhenUnknown::Refuse);
            let asked = issuer.responder.as_ref().map(|responder| match &responder.failed {
                Some(why) if strict => Seen::bad(Cause::CertificateRevocationUnknown, why.clone()),
                Some(why) => Seen::note(why),
                None => Seen::good(format!("revocation is asked of {}; certificates known: {}", responder.address, responder.known)),
            });
            if let Some(seen) = asked
                && !self.rung(Layer::Certificate, &issuer.name, seen, None)
            {
                return false;
            }
            let seen = match issuer.missing {
                None if issuer.lists == 0 && issuer.responder.is_some() => return true,
                None if issuer.lists == 0 => Seen::note("neither a revocation list nor an OCSP responder is set"),
                None => Seen::good(format!("revocation lists in use: {}", issuer.lists)),
                Some(why) if strict && issuer.lists == 0 => Seen::bad(Cause::CertificateRevocationUnknown, why),
                Some(why) => Seen::note(&why),
            };
            self.rung(Layer::Certificate, &issuer.name, seen, None)
        })
    }

    /// Whether the newest packets of the gateway proved themselves.
    async fn secret(&mut self) -> Result<bool, RecordsError> {
        let filter = TraceFilter { gateway: Some(self.gateway.name.clone()), limit: Some(LOOKED_AT), ..TraceFilter::default() };
        let rows = self.shared.records.traces(filter).await?;
        let since = clock::now().micros().saturating_sub(RECENT.as_micros() as u64);
        let is_noise = |row: &TraceRow| row.cause == Some(Cause::SecretDiffers);
        let doubted = rows.iter().take_while(|row| is_noise(row)).count();
        let proves = |row: &&TraceRow| row.began_us > since && row.outcome != Outcome::Silent && !is_noise(row);
        // One packet that does not decode says nothing while others do; several in a row do.
        let is_odd = (1..DOUBTED).contains(&doubted) && rows.iter().any(|row| proves(&row));
        let seen = match rows.first() {
            None => Seen::note("no packet has arrived from it yet"),
            Some(_) if is_odd => Seen::note("its newest packet could not be read, and others prove that both have the same secret"),
            Some(newest) => match (newest.outcome, newest.cause) {
                (Outcome::Silent, Some(cause)) => Seen::bad(cause, format!("its latest packet was not answered: {}", cause.sentence())),
                (_, Some(cause @ (Cause::SecretDiffers | Cause::MethodNotInChain | Cause::DeviceDiffers))) => {
                    Seen::bad(cause, format!("its newest login was refused: {}", cause.sentence()))
                }
                _ => Seen::good(format!(
                    "its latest packet verified, {} s ago",
                    clock::now().secs().saturating_sub(newest.began_us / 1_000_000)
                )),
            },
        };
        let layer = match seen.cause {
            Some(Cause::MethodNotInChain) => Layer::Method,
            _ => Layer::Secret,
        };
        let line = Some(self.gateway.line);
        Ok(self.rung(layer, &self.gateway.name.clone(), seen, line))
    }

    /// Whether the gateway knocks from an address that is not registered.
    async fn sender(&mut self) -> Result<bool, RecordsError> {
        let since = clock::now().micros().saturating_sub(RECENT.as_micros() as u64);
        let newest = self.shared.records.newest_by_gateway().await?.get(&self.gateway.name).map_or(0, |newest| newest.began_us);
        let knocks = self.shared.records.knocks().await?;
        let name = &self.gateway.name;
        let stranger = knocks.into_iter().find(|knock| {
            let ours = knock.guess.as_ref().is_some_and(|guess| guess.gateway == *name);
            ours && knock.cause == Cause::GatewayUnknown && knock.last_us > since.max(newest)
        });
        let seen = match stranger {
            Some(knock) => Seen::bad(
                Cause::GatewayUnknown,
                format!(
                    "{} packets came from {}, which is not one of its addresses, but they appear to be from it",
                    knock.count, knock.sender
                ),
            )
            .and(format!("if the device is yours: `bivector gateway register {} --as {name}`", knock.sender)),
            None => {
                let from: Vec<String> =
                    self.gateway.from.iter().map(bivector_model::addresses::show).chain(self.gateway.hosts.clone()).collect();
                Seen::good(format!("packets are accepted from {}", from.join(", ")))
            }
        };
        Ok(self.rung(Layer::Sender, &self.gateway.name.clone(), seen, Some(self.gateway.line)))
    }
}

async fn upstream_seen(live: &LiveSite, index: usize) -> Seen {
    let Some(upstream) = live.upstreams.get(index) else { return Seen::note("not ready yet") };
    upstream.look().await;
    let health = upstream.health();
    match health.iter().find(|server| server.state == Tone::Bad) {
        Some(bad) if health.iter().all(|server| server.state == Tone::Bad) => {
            Seen::bad(bad.cause.unwrap_or(Cause::SourceUnreachable), format!("{}: {}", bad.server, bad.said))
        }
        Some(bad) => Seen::warn(format!("{}: {}", bad.server, bad.said), "check that server"),
        None if upstream.has_status_checks() => Seen::good("answers"),
        None => Seen::note("status checks are off; only a login shows its state"),
    }
}

/// Host and port of a URL, where they do not depend on the message.
fn host_of(url: &str) -> Option<(String, u16)> {
    let parsed = reqwest::Url::parse(url.split('{').next()?).ok()?;
    Some((parsed.host_str()?.trim_matches(['[', ']']).to_owned(), parsed.port_or_known_default()?))
}

/// The number of seconds that a sentence tells.
fn seconds(said: &str) -> Option<i64> {
    let words: Vec<&str> = said.split_whitespace().collect();
    words.windows(2).find_map(|pair| if pair[1] == "s" { pair[0].parse().ok() } else { None })
}
