use super::*;
use crate::radius::{self, Arrival};
use bivector_model::device::{Device, Makes, Used};
use bivector_model::facts::Resends;
use bivector_model::moment::Moment;
use bivector_model::rule::Groups;
use bivector_model::totp::Settings;
use bivector_model::trace::{Hop, Origin, Outcome, Tone, Trace};
use bivector_site::{Known, Site, SourceRef};
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message, Packet, Secret, SharedSecret, authenticate, hide_password};
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;
use std::time::Duration;

const SITE: &str = include_str!("../../../../demo/site.toml");
pub(super) const NOON: Moment = Moment::from_secs(1_800_000_000);

pub(super) fn site(change: &[(&str, &str)]) -> Arc<Site> {
    let text = change.iter().fold(SITE.to_owned(), |text, (from, to)| {
        assert!(text.contains(from), "{from}");
        text.replacen(from, to, 1)
    });
    let (site, findings) = Site::read(&text, &Known::default());
    Arc::new(site.unwrap_or_else(|| panic!("{findings:#?}")))
}

pub(super) const SEED: &[u8] = b"12345678901234567890";

pub(super) fn token() -> Device {
    let makes = Makes::ByTime { seed: Secret::new(SEED.to_vec()), settings: Settings::default(), drift: 0 };
    Device { id: 7, label: "phone".into(), has_pin: false, makes }
}

/// What a source keeps of passwords.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Keeps {
    Nothing,
    Text,
    NtHash,
}

/// The code that every courier brings.
pub(super) const SENT: &str = "808123";

/// The outside of a login, in memory: what sources know, which codes are used, and what was asked.
pub(super) struct World {
    pub(super) people: BTreeMap<(SourceRef, &'static str), (&'static str, Vec<&'static str>)>,
    pub(super) tokens: BTreeMap<&'static str, Vec<Device>>,
    pub(super) down: BTreeSet<&'static str>,
    pub(super) locked: BTreeSet<&'static str>,
    pub(super) used: BTreeSet<(u64, u64)>,
    /// What the roster keeps of everybody's password.
    pub(super) keeps: Keeps,
    pub(super) pins: BTreeMap<u64, &'static str>,
    /// Points of wrong tries, and who is locked until when.
    pub(super) wrong: BTreeMap<String, u32>,
    pub(super) locked_until: Option<Moment>,
    pub(super) ahead: Option<(u64, u64)>,
    /// Codes that were sent: by which courier, to whom; and what couriers say.
    pub(super) sent: Vec<Sendable>,
    pub(super) courier_down: BTreeSet<usize>,
    pub(super) limited: bool,
    /// When the next login begins.
    pub(super) now: Moment,
    pub(super) expired: BTreeSet<&'static str>,
    /// What the upstream says to each question in turn, and what it was asked.
    pub(super) upstream: VecDeque<UpstreamAnswer>,
    pub(super) asked: Vec<UpstreamAsk>,
    pub(super) kept: BTreeMap<Vec<u8>, Pending>,
    /// The trace of the login that waits at a prompt, where somebody keeps it.
    pub(super) before: Option<Box<Trace>>,
    pub(super) changed: Vec<String>,
    pub(super) guesses: Vec<(SourceRef, String)>,
    /// The code told beside each guess.
    pub(super) beside: Vec<Option<(u64, Used)>>,
    pub(super) latency: Duration,
    /// Handsets and security keys of everybody, what they are asked and what they say.
    pub(super) handsets: (u32, u32),
    pub(super) approvals: Vec<ApprovalAsk>,
    pub(super) approval_limit: Option<ApprovalSent>,
    pub(super) handset_says: ApprovalAnswer,
    pub(super) withdrawn: Vec<u64>,
    pub(super) added: Vec<NewDevice>,
    pub(super) remembered: std::collections::HashMap<TrustedDevice, Moment>,
    /// Names of the site's upstreams.
    pub(super) upstreams: Vec<String>,
    /// Whom an operator has suspended.
    pub(super) suspended: BTreeSet<&'static str>,
    /// Whose wrong guesses are too many, the guesses that begun, how they ended, and where nobody's password was checked.
    pub(super) limited_guesses: Option<Guesser>,
    pub(super) begun: Vec<Guess>,
    pub(super) ended: Vec<bool>,
    pub(super) pretended: Vec<Vec<SourceRef>>,
}

impl World {
    pub(super) fn new() -> Self {
        let tidehall = SourceRef::Directory(0);
        World {
            people: BTreeMap::from([
                ((tidehall, "ines"), ("barnacle", vec!["cn=control-room,ou=groups,dc=northmoor,dc=example"])),
                ((tidehall, "yuki"), ("swell204813", vec!["turbine-crew"])),
                ((tidehall, "noor"), ("kelp", vec!["control-room", "remote-suspended"])),
                ((tidehall, "pell"), ("sounding", vec!["survey-contractors"])),
                ((tidehall, "odo"), ("limpet77", vec!["turbine-crew"])),
                ((SourceRef::Roster, "sable"), ("whelk", vec!["local-crew"])),
            ]),
            tokens: ["ines", "yuki", "noor", "pell", "sable"].map(|name| (name, vec![token()])).into(),
            down: BTreeSet::new(),
            locked: BTreeSet::new(),
            used: BTreeSet::new(),
            keeps: Keeps::Nothing,
            pins: BTreeMap::new(),
            wrong: BTreeMap::new(),
            locked_until: None,
            ahead: None,
            sent: Vec::new(),
            courier_down: BTreeSet::new(),
            limited: false,
            now: NOON,
            expired: BTreeSet::new(),
            upstream: VecDeque::new(),
            asked: Vec::new(),
            kept: BTreeMap::new(),
            before: None,
            changed: Vec::new(),
            guesses: Vec::new(),
            beside: Vec::new(),
            latency: Duration::from_millis(3),
            handsets: (0, 0),
            approvals: Vec::new(),
            approval_limit: None,
            handset_says: ApprovalAnswer::Unanswered("nobody answered for 45 s".into()),
            withdrawn: Vec::new(),
            added: Vec::new(),
            remembered: Default::default(),
            upstreams: Vec::new(),
            suspended: BTreeSet::new(),
            limited_guesses: None,
            begun: Vec::new(),
            ended: Vec::new(),
            pretended: Vec::new(),
        }
    }

    fn outage() -> Unavailable {
        Unavailable { cause: Cause::SourceUnreachable, seen: "connection refused".into() }
    }

    fn answer(&mut self, need: Need) -> Fact {
        match need {
            Need::FindPerson { source: SourceRef::Directory(_), .. } if self.down.contains("tidehall") => {
                Fact::Person(Answer::ours(PersonAnswer::Unavailable(Self::outage())))
            }
            Need::FindPerson { name, .. } if self.suspended.contains(name.as_str()) => {
                Fact::Person(Answer::ours(PersonAnswer::Refused(Cause::PersonSuspended)))
            }
            Need::FindPerson { source: SourceRef::Upstream(index), name } => Fact::Person(Answer::ours(PersonAnswer::Found(Arc::new(
                Found::of_upstream(self.upstreams.get(index).map_or("", String::as_str), &name),
            )))),
            Need::BeginGuess(guess) => {
                let limited = self.limited_guesses.filter(|whose| *whose == Guesser::Caller || !guess.trusted);
                self.begun.push(Arc::unwrap_or_clone(guess));
                Fact::Guess(match limited {
                    Some(whose) => GuessAnswer::Limited { whose, wrong: 10, until: self.now.plus(Duration::from_secs(60)) },
                    None => GuessAnswer::MayTry,
                })
            }
            Need::EndGuess { right } => {
                self.ended.push(right);
                Fact::GuessEnded(GuessCount { wrong: u32::from(!right), until: None })
            }
            Need::CheckNobody { sources, .. } => {
                self.pretended.push(sources);
                Fact::Nobody(())
            }
            Need::FindPerson { source, name } => {
                Fact::Person(Answer::ours(match self.people.iter().find(|((s, n), _)| *s == source && *n == name) {
                    None => PersonAnswer::NoSuchPerson,
                    Some((_, (_, groups))) => PersonAnswer::Found(Arc::new(Found {
                        key: name.clone(),
                        login: name.clone(),
                        name: name.to_uppercase(),
                        handle: format!("uid={name}"),
                        groups: Groups::new(groups.iter().copied()),
                        mail: (name != "odo").then(|| format!("{name}@northmoor.example")),
                        phone: (name == "ines").then(|| "+44 20 7946 0018".to_owned()),
                        language: if name == "yuki" { "de".into() } else { String::new() },
                    })),
                }))
            }
            Need::Factors { person, station } => Fact::Factors(FactorsAnswer::Known(Box::new(Factors {
                devices: self.tokens.get(person.as_str()).cloned().unwrap_or_default(),
                locked_until: self.locked_until,
                handsets: self.handsets.0,
                keys: self.handsets.1,
                remembered_until: station.and_then(|station| self.remembered.get(&station).copied()),
            }))),
            Need::SendApproval(ask) => {
                let number = ask.wants_number.then_some(47);
                let until = self.now.plus(ask.lasts);
                self.approvals.push(Arc::unwrap_or_clone(ask));
                Fact::ApprovalSent(self.approval_limit.clone().unwrap_or(ApprovalSent::Sent { id: 9, number, joined: false, until }))
            }
            Need::AwaitApproval { id, .. } => {
                assert_eq!(id, 9);
                Fact::Approval(self.handset_says.clone())
            }
            Need::NewSeed => Fact::Seed(Secret::new(SEED.to_vec())),
            Need::AddDevice(device) => {
                self.added.push(*device);
                Fact::Added(AddAnswer::Added(12))
            }
            Need::Kept { person, .. } => {
                let password = self.people.iter().find(|((_, name), _)| *name == person.login).map(|(_, (password, _))| *password).unwrap();
                Fact::Secret(Answer::ours(match self.keeps {
                    Keeps::Nothing => SecretAnswer::NotKept,
                    Keeps::Text => SecretAnswer::Text(Secret::new(password.to_owned())),
                    Keeps::NtHash => SecretAnswer::NtHash(bivector_wire::nt_hash(password)),
                }))
            }
            Need::CheckPin { device, guess, .. } => {
                let right = self.pins.get(&device).is_some_and(|pin| pin == guess.expose());
                Fact::Pin(if right { PinAnswer::Right } else { PinAnswer::Wrong })
            }
            Need::CountWrong(wrong) => {
                let points = self.wrong.entry(wrong.person.clone()).or_default();
                *points += wrong.points;
                self.ahead = wrong.ahead.or(self.ahead);
                if *points >= 5 * WrongTry::CODE {
                    self.locked_until = Some(self.now.plus(Duration::from_secs(900)));
                }
                Fact::Counted(CountAnswer::Counted { wrong: *points / WrongTry::CODE, locked_until: self.locked_until })
            }
            Need::SendCode(_) if self.limited => Fact::Sent(SendAnswer::Limited("ten in this hour".into())),
            Need::SendCode(sendable) if self.courier_down.contains(&sendable.courier) => {
                Fact::Sent(SendAnswer::Unavailable(Unavailable { cause: Cause::CourierFailed, seen: "500".into() }))
            }
            Need::SendCode(sendable) => {
                let to = masked(&sendable.to);
                self.sent.push(*sendable);
                Fact::Sent(SendAnswer::Sent(SentCode { code: Secret::new(SENT.to_owned()), to }))
            }
            Need::CheckPassword { source, person, guess, code } => {
                self.beside.push(code);
                self.guesses.push((source, guess.expose().clone()));
                let right =
                    self.people.iter().any(|((s, n), (password, _))| *s == source && *n == person.login && *password == guess.expose());
                Fact::Password(Answer::ours(match right {
                    _ if self.locked.contains(person.login.as_str()) => PasswordAnswer::Refused(Cause::AccountLocked),
                    true if self.expired.contains(person.login.as_str()) => PasswordAnswer::Refused(Cause::PasswordExpired),
                    true => PasswordAnswer::Right,
                    false => PasswordAnswer::Wrong,
                }))
            }
            Need::MarkCode(_) if self.down.contains("records") => {
                Fact::Mark(MarkAnswer::Unavailable(Unavailable { cause: Cause::RecordsUnavailable, seen: "disk full".into() }))
            }
            Need::MarkCode(mark) => {
                self.withdrawn.extend(mark.withdraw);
                let fresh = match mark.device {
                    Some((device, Used::Step { step, .. } | Used::Counter(step))) => self.used.insert((device, step)),
                    Some((device, Used::Entry(at))) => self.used.insert((device, u64::from(at))),
                    Some((device, Used::Turn)) => self.used.insert((device, 0)),
                    Some((_, Used::Approval)) | None => true,
                };
                Fact::Mark(if fresh { MarkAnswer::Marked } else { MarkAnswer::UsedBefore })
            }
            Need::AskUpstream(ask) => {
                self.asked.push(*ask);
                let silence = UpstreamAnswer::Unavailable(Unavailable { cause: Cause::SourceSlow, seen: "no answer".into() });
                Fact::Upstream(Answer { value: self.upstream.pop_front().unwrap_or(silence), server: Some("up1".into()), failed: vec![] })
            }
            Need::KeepChallenge(pending) => {
                let state = vec![self.kept.len() as u8 + 1];
                // Through bytes, as the service does it.
                self.kept.insert(state.clone(), Pending::from_sealed(pending.to_bytes().expose()).unwrap());
                Fact::Kept(KeptAnswer::Kept(state))
            }
            Need::TakeChallenge { state } => Fact::Taken(match self.kept.remove(&state) {
                Some(pending) => TakenAnswer::Taken { pending: Box::new(pending), before: self.before.take() },
                None => TakenAnswer::NotThere,
            }),
            Need::Reserve(_) => Fact::Reserved(ReserveAnswer::Reserved { leased: Vec::new(), open: 0, ends: None }),
            Need::ChangePassword { new, .. } => {
                self.changed.push(new.expose().clone());
                Fact::Changed(Answer::ours(match new.expose().len() {
                    0..8 => ChangeAnswer::NotTaken("it is too short".into()),
                    _ => ChangeAnswer::Changed,
                }))
            }
        }
    }

    /// Drives a login to its end in virtual time.
    pub(super) fn run(&mut self, site: &Arc<Site>, request: Request) -> (Verdict, Trace, Duration) {
        let (login, now) = self.decide(site, request);
        let (verdict, trace) = login.finish(Resends::default(), now);
        self.before = (trace.outcome == Outcome::Challenged).then(|| Box::new(trace.clone()));
        (verdict, trace, now.since(self.now))
    }

    /// Drives a login until it is decided.
    pub(super) fn decide(&mut self, site: &Arc<Site>, request: Request) -> (Login, Moment) {
        let mut now = self.now;
        self.upstreams = site.upstreams.iter().map(|upstream| upstream.name.clone()).collect();
        let mut login = Login::begin(Arc::clone(site), request, "REF".into(), 1, now);
        let mut told = None;
        loop {
            match login.next() {
                Next::Ask(need) => {
                    if !matches!(need, Need::BeginGuess(_) | Need::EndGuess { .. }) {
                        now = now.plus(self.latency);
                    }
                    if let Some(told) = told.take_if(|_| !matches!(need, Need::EndGuess { .. })) {
                        let marked = matches!(&need, Need::MarkCode(mark) if mark.device == Some(told));
                        assert!(marked, "marking was begun beside the password, and this is asked next: {need:?}");
                    }
                    let fact = self.answer(need);
                    let right = matches!(&fact, Fact::Password(answer) if answer.value == PasswordAnswer::Right);
                    if right {
                        told = self.beside.last().copied().flatten();
                    }
                    login.learn(fact, now);
                }
                Next::Wait(until, Timer::RefusalPace) => {
                    login.wake(self.now);
                    now = until;
                    login.wake(now);
                }
                Next::Decided => return (login, now),
            }
        }
    }

    pub(super) fn log_in(&mut self, site: &Arc<Site>, via: &str, name: &str, text: &str) -> (Outcome, Option<Cause>, Trace) {
        let (verdict, trace, _) = self.run(site, request(site, via, name, text.as_bytes()));
        assert_eq!(matches!(verdict, Verdict::Accept(_)), trace.outcome == Outcome::Accepted);
        (trace.outcome, trace.cause, trace)
    }
}

pub(super) fn request(site: &Site, via: &str, name: &str, text: &[u8]) -> Request {
    let (secret, authenticator) = (SharedSecret::new(b"s"), [4; 16]);
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, name.as_bytes());
    message.push(AttributeType::UserPassword, &hide_password(text, &authenticator, &secret).unwrap());
    read(site, via, &message, &secret, &authenticator, true)
}

pub(super) fn read(site: &Site, via: &str, message: &Message, secret: &SharedSecret, authenticator: &[u8; 16], signed: bool) -> Request {
    let bytes = if signed { message.sign_request(1, authenticator, secret) } else { message.unsigned_request(1, authenticator) }.unwrap();
    let authentic = authenticate(Packet::parse(&bytes).unwrap(), secret, IntegrityPolicy::WhenPresent).unwrap();
    let gateway = site.gateway_named(via).unwrap();
    radius::read(
        &authentic,
        secret,
        Arrival { gateway, sender: "127.0.0.11:4000".parse().unwrap(), port: 18120, origin: Origin::Gateway, secret_proved: false },
    )
}

pub(super) fn code(offset: i64) -> String {
    bivector_model::totp::code(SEED, (NOON.secs() / 30).wrapping_add_signed(offset), Settings::default())
}

#[test]
fn the_whole_chain_accepts_and_says_at_every_hop_what_decided() {
    let (site, mut world) = (site(&[]), World::new());
    let (verdict, trace, _) = world.run(&site, request(&site, "breakwater", "NORTHMOOR\\Ines", format!("barnacle{}", code(0)).as_bytes()));
    let Verdict::Accept(accept) = verdict else { panic!("{trace:#?}") };
    assert_eq!(
        (accept.grant(), accept.second()),
        (
            "control-room",
            &Second::Proved(SecondProved::by_code(&token().verify(&code(0), NOON, &site.codes).unwrap(), &MarkAnswer::Marked).unwrap())
        )
    );
    assert!(radius::accept_attributes(&accept).windows(4).any(|window| window == b"ines"), "{{person.login}} is filled in");
    let hops: Vec<Hop> = trace.steps.iter().map(|step| step.hop).collect();
    assert!(hops.windows(2).all(|pair| pair[0] <= pair[1] || pair == [Hop::First, Hop::Reading]), "{hops:?}");
    assert_eq!(BTreeSet::from_iter(hops), BTreeSet::from([Hop::Gateway, Hop::Reading, Hop::First, Hop::Second, Hop::Rules, Hop::Reply]));
    let rule = trace.steps.iter().find(|step| step.hop == Hop::Rules).unwrap();
    let line = SITE.lines().nth(rule.line.unwrap() as usize - 1).unwrap();
    assert_eq!(line, "[[rules]]");
    assert_eq!(
        (trace.person.as_deref(), trace.source.as_deref(), trace.typed_name.as_str()),
        (Some("ines"), Some("tidehall"), "NORTHMOOR\\Ines")
    );
}

#[test]
fn each_refusal_has_its_cause() {
    let cases = [
        ("breakwater", "ines", format!("wrong{}", code(0)), Cause::PasswordWrong),
        ("breakwater", "ines", "barnacle000000".into(), Cause::CodeWrong),
        ("breakwater", "ines", format!("barnacle{}", code(-5)), Cause::CodeDrifted),
        ("breakwater", "ines", "barnacle".into(), Cause::CodeMissing),
        ("breakwater", "ines", code(0), Cause::PasswordMissing),
        ("breakwater", "ines", String::new(), Cause::PasswordMissing),
        ("breakwater", "nobody", format!("x{}", code(0)), Cause::PersonUnknown),
        ("breakwater", "ines@elsewhere.example", "x".into(), Cause::NameRealmUnknown),
        ("breakwater", "", "x".into(), Cause::NameMissing),
        ("breakwater", "odo", "limpet77".into(), Cause::NotEnrolled),
        ("breakwater", "noor", format!("kelp{}", code(0)), Cause::RuleRefused),
        ("breakwater", "pell", format!("sounding{}", code(0)), Cause::NoRule),
        ("lantern", "sable", format!("whelk{}", code(0)), Cause::PersonUnknown),
    ];
    for (via, name, text, cause) in cases {
        let seen = World::new().log_in(&site(&[]), via, name, &text);
        assert_eq!((seen.0, seen.1), (Outcome::Refused, Some(cause)), "{name} {text}: {:#?}", seen.2.steps);
    }
}

#[test]
fn the_roster_is_asked_only_for_whom_the_directory_does_not_know() {
    let (site, mut world) = (site(&[]), World::new());
    assert_eq!(world.log_in(&site, "breakwater", "sable", &format!("whelk{}", code(0))).0, Outcome::Accepted);
    assert_eq!(world.guesses, [(SourceRef::Roster, "whelk".to_owned())]);
    world.down.insert("tidehall");
    let (outcome, cause, _) = world.log_in(&site, "breakwater", "sable", &format!("whelk{}", code(1)));
    assert_eq!((outcome, cause), (Outcome::Refused, Some(Cause::SourceUnreachable)), "an outage is no \"no such person\"");
}

#[test]
fn a_used_code_is_refused_on_another_gateway_too() {
    let (site, mut world) = (site(&[]), World::new());
    let text = format!("barnacle{}", code(0));
    assert_eq!(world.log_in(&site, "breakwater", "ines", &text).0, Outcome::Accepted);
    assert_eq!(world.log_in(&site, "slipway", "Ines@northmoor.example", &text).1, Some(Cause::CodeUsed));
    assert_eq!(world.log_in(&site, "slipway", "ines", &format!("barnacle{}", code(1))).0, Outcome::Accepted);
}

#[test]
fn nobody_gets_in_while_codes_cannot_be_marked() {
    let (site, mut world) = (site(&[]), World::new());
    world.down.insert("records");
    assert_eq!(world.log_in(&site, "breakwater", "ines", &format!("barnacle{}", code(0))).1, Some(Cause::RecordsUnavailable));
}

#[test]
fn a_password_that_ends_in_digits_is_read_by_evidence_and_then_by_the_chains_word() {
    let mut world = World::new();
    assert_eq!(world.log_in(&site(&[]), "breakwater", "yuki", &format!("swell204813{}", code(0))).0, Outcome::Accepted);
    let (_, cause, _) = world.log_in(&site(&[]), "breakwater", "yuki", "swell204813");
    assert_eq!(cause, Some(Cause::PasswordWrong), "by default the six digits are taken for a code");
    let plain = site(&[("when_unclear = \"code\"", "when_unclear = \"plain\"")]);
    assert_eq!(world.log_in(&plain, "breakwater", "yuki", "swell204813").1, Some(Cause::CodeMissing));
    let guesses: Vec<&str> = world.guesses.iter().map(|(_, guess)| guess.as_str()).collect();
    assert_eq!(guesses, ["swell204813", "swell", "swell204813"], "one guess a login, never two");
}

#[test]
fn a_chain_without_second_factor_says_so_in_the_trace() {
    let site = site(&[
        ("second = [\"totp\"]\nwhen_unclear = \"code\"", "second = []"),
        ("forms = [\"password code(6)\", \"password\"]", "forms = [\"password\"]"),
    ]);
    let (outcome, _, trace) = World::new().log_in(&site, "breakwater", "yuki", "swell204813");
    assert_eq!(outcome, Outcome::Accepted);
    assert!(trace.steps.iter().any(|step| step.what == "waived" && step.tone == Tone::Warn));
}

#[test]
fn refusals_leave_at_the_same_time_with_the_same_words_whatever_their_cause() {
    let site = site(&[]);
    let mut seen = BTreeSet::new();
    for (name, text, latency) in
        [("nobody", "x", 1), ("ines", "wrong", 60), ("ines", "barnacle000000", 40), ("", "", 0), ("noor", "kelp", 5)]
    {
        let mut world = World::new();
        world.latency = Duration::from_millis(latency);
        let (verdict, _, took) = world.run(&site, request(&site, "breakwater", name, text.as_bytes()));
        let Verdict::Refuse(refusal) = verdict else { panic!("{name}") };
        seen.insert((refusal.message, took));
    }
    assert_eq!(Vec::from_iter(seen), [("Sign-in failed. Reference REF".to_owned(), Duration::from_millis(250))]);
}

#[test]
fn other_methods_and_missing_credentials_are_refused_before_any_source_is_asked() {
    let (site, mut world, secret) = (site(&[]), World::new(), SharedSecret::new(b"s"));
    let cases: [(AttributeType, &[u8], Cause); 6] = [
        (AttributeType::ChapPassword, &[1; 17], Cause::MethodNotInChain),
        (AttributeType::EapMessage, &[2, 1, 0, 5, 1], Cause::MethodNotInChain),
        (AttributeType::VendorSpecific, &[0, 0, 1, 55, 25, 4, 1, 2], Cause::MethodNotInChain),
        (AttributeType::VendorSpecific, &[0, 0, 1, 55, 1, 4, 1, 2], Cause::MethodNotInChain),
        (AttributeType::UserPassword, &[1; 17], Cause::CredentialUnreadable),
        (AttributeType::Class, b"x", Cause::CredentialMissing),
    ];
    for (kind, value, cause) in cases {
        let mut message = Message::new(Code::AccessRequest);
        message.push(AttributeType::UserName, b"ines");
        message.push(kind, value);
        let (_, trace, _) = world.run(&site, read(&site, "breakwater", &message, &secret, &[4; 16], true));
        assert_eq!(trace.cause, Some(cause));
    }
    assert!(world.guesses.is_empty());
}

#[test]
fn an_unsigned_request_whose_password_is_noise_shows_a_wrong_secret() {
    let (site, mut world) =
        (site(&[("secret = \"gateway/slipway\"", "secret = \"gateway/slipway\"\nmessage_authenticator = \"when-present\"")]), World::new());
    let mut message = Message::new(Code::AccessRequest);
    message.push(AttributeType::UserName, b"ines");
    message.push(AttributeType::UserPassword, &hide_password(b"barnacle123456", &[4; 16], &SharedSecret::new(b"theirs")).unwrap());
    let (_, trace, _) = world.run(&site, read(&site, "slipway", &message, &SharedSecret::new(b"ours"), &[4; 16], false));
    assert_eq!(trace.cause, Some(Cause::SecretDiffers));
    assert!(world.guesses.is_empty(), "noise is never sent to a directory");
}

#[test]
fn a_password_that_is_not_utf8_is_refused_without_a_guess() {
    let (site, mut world) = (site(&[]), World::new());
    let (_, trace, _) = world.run(&site, request(&site, "breakwater", "ines", b"barn\xe4cle"));
    assert_eq!((trace.cause, world.guesses.len()), (Some(Cause::PasswordUnreadable), 0));
}

#[test]
fn a_fact_that_nobody_asked_for_never_lets_anybody_in() {
    let site = site(&[]);
    let mut login = Login::begin(Arc::clone(&site), request(&site, "breakwater", "ines", b"x"), "R".into(), 1, NOON);
    login.learn(Fact::Mark(MarkAnswer::Marked), NOON);
    assert!(matches!(login.next(), Next::Wait(..)));
    let (verdict, trace) = login.finish(Resends::default(), NOON);
    assert!(matches!(verdict, Verdict::Refuse(_)) && trace.cause == Some(Cause::Unfinished));
}

#[test]
fn a_failed_server_shows_as_a_step_of_its_own() {
    let site = site(&[]);
    let mut login = Login::begin(Arc::clone(&site), request(&site, "breakwater", "ines", b"x"), "R".into(), 1, NOON);
    let failed = vec![FailedServer { server: "tidehall-1".into(), why: World::outage(), took_us: 900 }];
    login.learn(
        Fact::Person(Answer { value: PersonAnswer::NoSuchPerson, server: Some("tidehall-2".into()), failed }),
        NOON.plus(Duration::from_millis(2)),
    );
    let (_, trace) = login.finish(Resends { count: 3, ..Resends::default() }, NOON);
    let step = trace.steps.iter().find(|step| step.what == "fail-over").unwrap();
    assert_eq!((step.took_us, step.tone, step.said.contains("tidehall-1 did not answer: connection refused")), (900, Tone::Warn, true));
    assert!(trace.steps.iter().any(|step| step.said.contains("retransmitted the request 3 times")));
}

#[test]
fn no_trace_ever_holds_a_password_or_a_code() {
    let site = site(&[]);
    for (name, text) in [
        ("ines", format!("barnacle{}", code(0))),
        ("ines", "barnacle917364".into()),
        ("nobody", "barnacle".into()),
        ("yuki", "swell204813".into()),
    ] {
        let (_, _, trace) = World::new().log_in(&site, "breakwater", name, &text);
        let shown = format!("{trace:?}");
        for secret in ["barnacle", "swell", &code(0), "917364"] {
            assert!(!shown.contains(secret), "{secret} in {shown}");
        }
    }
}

proptest! {
    /// The oracle is a list of conditions in the order in which a person would check them; the machine knows nothing of it.
    #[test]
    fn outcomes_match_a_decision_list_written_without_the_machine(
        known: bool, password_right: bool, locked: bool, enrolled: bool, offset in -50i64..50, typed_code: bool, used: bool, group in 0usize..4,
    ) {
        let mut world = World::new();
        let groups = [vec!["control-room"], vec!["turbine-crew"], vec!["remote-suspended", "control-room"], vec!["elsewhere"]][group].clone();
        world.people = BTreeMap::from([((SourceRef::Directory(0), "ines"), ("barnacle", groups))]);
        if !enrolled { world.tokens.clear(); }
        if locked { world.locked.insert("ines"); }
        if used { world.used.insert((7, (NOON.secs() / 30).wrapping_add_signed(offset))); }
        let text = format!("{}{}", if password_right { "barnacle" } else { "mussel" }, if typed_code { code(offset) } else { String::new() });
        let (_, cause, trace) = world.log_in(&site(&[]), "breakwater", if known { "ines" } else { "nobody" }, &text);
        // Without a token the whole text is the password, so a code typed behind it makes it wrong.
        let guess_right = password_right && (enrolled || !typed_code);
        let wanted = [
            (!known, Cause::PersonUnknown), (locked, Cause::AccountLocked), (!guess_right, Cause::PasswordWrong), (!enrolled, Cause::NotEnrolled),
            (!typed_code, Cause::CodeMissing), (offset.abs() > 41, Cause::CodeWrong), (offset.abs() > 1, Cause::CodeDrifted), (used, Cause::CodeUsed),
            (group == 2, Cause::RuleRefused), (group == 3, Cause::NoRule),
        ].into_iter().find(|(holds, _)| *holds).map(|(_, cause)| cause);
        prop_assert_eq!(cause, wanted, "{:#?}", trace.steps);
        prop_assert!(world.guesses.len() <= 1);
    }
}
