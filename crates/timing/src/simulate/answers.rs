//! What stands in for sources, records, handsets and couriers: each answer, and how long it takes.

use super::Simulated;
use super::cast::{PASSWORD, SENT};
use super::draw::{Draw, Times};
use super::setting::{Plan, Trouble};
use crate::budget::{How, micros};
use bivector_core::login::*;
use bivector_model::cause::Cause;
use bivector_model::device::Used;
use bivector_model::moment::Moment;
use bivector_site::{Directory, FactorKind, Pool, SourceRef, Wake};
use bivector_wire::Secret;
use rand::RngExt;
use rand::rngs::SmallRng;
use std::sync::Arc;
use std::time::Duration;

/// How often servers are looked at: a dead one is asked last until then.
const LOOKED_AT_EVERY: u64 = 10_000_000;
/// How long a refused connection takes.
const REFUSED: u64 = 500;

/// The servers of a directory, as they are known.
#[derive(Debug, Default, Clone)]
pub(super) struct Servers {
    turn: usize,
    /// Until when the first one is asked last, in microseconds.
    down_until: u64,
    /// When a login found the first one silent, in microseconds: it is asked last from then on, since every look finds it so.
    silent_from: Option<u64>,
}

/// An approval on somebody's handset.
#[derive(Debug, Clone, Copy)]
pub(super) struct Approval {
    /// When it is answered; never where the handset is off.
    pub(super) answered_us: Option<u64>,
    asked_us: u64,
    until_us: u64,
}

/// How long a message by courier takes until it is read, in microseconds.
const MESSAGE: u64 = 4_000_000;

/// How much later than a phone at hand a phone shows an approval, in microseconds; never for one that is off, or that nothing wakes.
fn woken_after(plan: &Plan, asleep: &Draw, rng: &mut SmallRng) -> Option<u64> {
    let chain = plan.site.chains.get(plan.way.chain)?;
    let phones = plan.phones;
    let drawn = rng.random::<f64>();
    let message = chain.wake.iter().any(|wake| matches!(wake, Wake::Courier(_)));
    let pushed = chain.wake.contains(&Wake::Push);
    match drawn {
        drawn if drawn < phones.off => None,
        drawn if drawn < phones.off + phones.asleep => {
            let late = asleep.draw(rng);
            let by_message = message.then_some(micros(chain.wake_after) + MESSAGE);
            // What is there first wakes the person.
            if pushed { Some(by_message.map_or(late, |by_message| by_message.min(late))) } else { by_message }
        }
        // Nothing is pushed to it, so the next way is tried at once.
        drawn if drawn < phones.off + phones.asleep + phones.refused => message.then_some(MESSAGE),
        _ => Some(0),
    }
}

/// What belongs to one person, over all rounds and servers.
#[derive(Debug, Default)]
pub(super) struct Belongings {
    pub(super) approval: Option<Approval>,
    pub(super) sent: bool,
    used: Option<Used>,
}

/// Everything behind the machine.
#[derive(Debug)]
pub(super) struct Behind {
    pub(super) directories: Vec<Servers>,
    /// Rounds that wait for an answer; their place is their State.
    kept: Vec<Option<Box<Pending>>>,
    /// Questions to directories in the present second, and that second.
    second: (u64, u64),
    began_us: u64,
    /// How long a directory takes, and people.
    directory: Draw,
    pub(super) people: Draw,
    /// How much later a phone that is asleep shows a message.
    asleep: Draw,
}

/// An answer, and when it is there.
pub(super) type Answered = (Fact, u64);

impl Behind {
    pub(super) fn new(plan: &Plan, began_us: u64) -> Self {
        Behind {
            directories: vec![Servers::default(); plan.site.directories.len()],
            kept: Vec::new(),
            second: (0, 0),
            began_us,
            directory: plan.directory.ready(),
            asleep: Times::LogNormal { usual_us: micros(plan.phones.asleep_for.0), most_us: micros(plan.phones.asleep_for.1) }.ready(),
            people: plan.people.ready(),
        }
    }

    /// Answers a need of somebody's login.
    pub(super) fn answer(
        &mut self,
        need: Need,
        now_us: u64,
        plan: &Plan,
        own: &mut Belongings,
        (found, factors): (&Arc<Found>, &Factors),
        told: (&mut Simulated, &mut SmallRng),
    ) -> Answered {
        let (done, rng) = told;
        let now = Moment::from_micros(now_us);
        match need {
            Need::FindPerson { source: SourceRef::Directory(index), .. } => {
                let (answer, at) = self.ask_directory(index, now_us, false, plan, done, rng);
                let value = match answer.value {
                    Ok(()) => PersonAnswer::Found(Arc::clone(found)),
                    Err(why) => PersonAnswer::Unavailable(why),
                };
                (Fact::Person(Answer { value, server: answer.server, failed: answer.failed }), at)
            }
            Need::FindPerson { source: source @ SourceRef::Upstream(_), name } => {
                let person = Found { groups: found.groups.clone(), ..Found::of_upstream(plan.site.source_name(source), &name) };
                (Fact::Person(Answer::ours(PersonAnswer::Found(Arc::new(person)))), now_us)
            }
            Need::FindPerson { .. } => (Fact::Person(Answer::ours(PersonAnswer::Found(Arc::clone(found)))), now_us),
            // Everybody knows their password.
            Need::BeginGuess(_) => (Fact::Guess(GuessAnswer::MayTry), now_us),
            Need::EndGuess { .. } => (Fact::GuessEnded(GuessCount::default()), now_us),
            Need::CheckNobody { .. } => (Fact::Nobody(()), now_us),
            Need::CheckPassword { source: SourceRef::Directory(index), .. } => {
                let (answer, at) = self.ask_directory(index, now_us, true, plan, done, rng);
                let value = match answer.value {
                    Ok(()) => PasswordAnswer::Right,
                    Err(why) => PasswordAnswer::Unavailable(why),
                };
                (Fact::Password(Answer { value, server: answer.server, failed: answer.failed }), at)
            }
            // A slow hash on a pool of its own.
            Need::CheckPassword { .. } => (Fact::Password(Answer::ours(PasswordAnswer::Right)), now_us + 50_000),
            Need::Factors { .. } => (Fact::Factors(FactorsAnswer::Known(Box::new(factors.clone()))), now_us),
            Need::Kept { .. } => (Fact::Secret(Answer::ours(SecretAnswer::Text(Secret::new(PASSWORD.to_owned())))), now_us),
            Need::CheckPin { .. } => (Fact::Pin(PinAnswer::Right), now_us + 50_000),
            Need::CountWrong(_) => (Fact::Counted(CountAnswer::Counted { wrong: 1, locked_until: None }), now_us),
            Need::MarkCode(mark) => (Fact::Mark(mark_code(mark, own)), now_us),
            Need::SendCode(sendable) => {
                let patience = plan.site.couriers.get(sendable.courier).map_or(0, |courier| micros(courier.patience));
                own.sent = true;
                let sent = SentCode { code: Secret::new(SENT.to_owned()), to: "…".to_owned() };
                (Fact::Sent(SendAnswer::Sent(sent)), now_us + patience.min(400_000))
            }
            Need::SendApproval(ask) => (Fact::ApprovalSent(self.ask_handset(&ask, now_us, plan, own, done, rng)), now_us),
            Need::AwaitApproval { .. } => await_approval(own, now_us),
            Need::NewSeed => (Fact::Seed(Secret::new(vec![7; 20])), now_us),
            Need::AddDevice(_) => (Fact::Added(AddAnswer::EnrolledMeanwhile), now_us),
            Need::AskUpstream(ask) => self.ask_upstream(&ask, now_us, plan, rng),
            Need::KeepChallenge(pending) => {
                self.kept.push(Some(pending));
                (Fact::Kept(KeptAnswer::Kept((self.kept.len() as u32 - 1).to_be_bytes().to_vec())), now_us)
            }
            Need::TakeChallenge { state } => (Fact::Taken(self.take(&state, now)), now_us),
            Need::Reserve(_) => (Fact::Reserved(ReserveAnswer::Reserved { leased: Vec::new(), open: 0, ends: None }), now_us),
            Need::ChangePassword { .. } => {
                let why = Unavailable { cause: Cause::Unfinished, seen: "nobody changes a password in a simulation".to_owned() };
                (Fact::Changed(Answer::ours(ChangeAnswer::Unavailable(why))), now_us)
            }
        }
    }

    fn take(&mut self, state: &[u8], _now: Moment) -> TakenAnswer {
        let place = <[u8; 4]>::try_from(state).ok().map(|bytes| u32::from_be_bytes(bytes) as usize);
        match place.and_then(|place| self.kept.get_mut(place)) {
            Some(kept) => kept.take().map_or(TakenAnswer::Used, |pending| TakenAnswer::Taken { pending, before: None }),
            None => TakenAnswer::NotThere,
        }
    }

    fn count_question(&mut self, at_us: u64, done: &mut Simulated) {
        let second = at_us / 1_000_000;
        if self.second.0 != second {
            self.second = (second, 0);
        }
        self.second.1 += 1;
        done.directory_questions += 1;
        done.directory_peak = done.directory_peak.max(self.second.1);
    }

    /// The servers of a directory in the order in which they are asked: one that is known to be down comes last.
    fn order_of(&mut self, index: usize, directory: &Directory, now_us: u64) -> Vec<usize> {
        let count = directory.servers.len().max(1);
        let first = match directory.pool {
            Pool::Order => 0,
            Pool::Balance => {
                self.directories[index].turn += 1;
                self.directories[index].turn % count
            }
        };
        let known = &self.directories[index];
        let hangs = known.silent_from.is_some_and(|from| from <= now_us);
        let last = (hangs || known.down_until > now_us).then_some(0);
        (0..count).map(|place| (first + place) % count).filter(|server| Some(*server) != last).chain(last).collect()
    }

    /// Whether a server is dead or silent at that time, and how much slower than usual it is.
    fn trouble_of(&self, server: usize, trouble: Trouble, at_us: u64) -> (bool, bool, f64) {
        let since = |after: Duration| at_us >= self.began_us + micros(after);
        match trouble {
            Trouble::Dies { after } => (server == 0 && since(after), false, 1.0),
            Trouble::Hangs { after } => (false, server == 0 && since(after), 1.0),
            Trouble::Slows { after, times } => (false, false, if since(after) { times } else { 1.0 }),
            Trouble::None => (false, false, 1.0),
        }
    }

    /// Asks a pool as the service does: those that are well first, the next one when one cannot be reached or, before a password was
    /// sent, has said nothing for as long as the hedge.
    fn ask_directory(
        &mut self,
        index: usize,
        now_us: u64,
        password: bool,
        plan: &Plan,
        done: &mut Simulated,
        rng: &mut SmallRng,
    ) -> (Answer<Result<(), Unavailable>>, u64) {
        let Some(directory) = plan.site.directories.get(index) else {
            let why = Unavailable { cause: Cause::Unfinished, seen: "no such directory".to_owned() };
            return (Answer::ours(Err(why)), now_us);
        };
        let mut at_us = now_us;
        let mut failed = Vec::new();
        let order = self.order_of(index, directory, now_us);
        let (patience, hedge) = (micros(directory.answer_patience), micros(directory.hedge.min(directory.answer_patience)));
        let mut left = order.len();
        for server in order {
            left -= 1;
            let (dead, silent, slower) = self.trouble_of(server, plan.trouble, at_us);
            self.count_question(at_us, done);
            let fail = |cause, took_us, seen| failed_server(directory, server, cause, took_us, seen);
            if dead {
                failed.push(fail(Cause::SourceUnreachable, REFUSED, "the connection was refused".to_owned()));
                at_us += REFUSED;
                self.directories[index].down_until = at_us + LOOKED_AT_EVERY;
                continue;
            }
            let mut takes = if silent { u64::MAX } else { (self.directory.draw(rng) as f64 * slower) as u64 };
            // What may be asked twice goes to the next server too, once this one has kept it for so long.
            let hedged = !password && left > 0 && takes > hedge;
            if silent {
                let found = at_us + if hedged { hedge } else { patience };
                let from = &mut self.directories[index].silent_from;
                *from = Some(from.map_or(found, |from| from.min(found)));
            }
            if hedged && silent {
                failed.push(fail(Cause::SourceSlow, hedge, format!("no answer within {} ms", hedge / 1000)));
                at_us += hedge;
                continue;
            }
            if hedged {
                self.count_question(at_us, done);
                takes = takes.min(hedge + (self.directory.draw(rng) as f64 * slower) as u64);
            }
            if takes <= patience {
                at_us += takes;
                return (Answer { value: Ok(()), server: None, failed }, at_us);
            }
            failed.push(fail(Cause::SourceSlow, patience, format!("no answer within {} s", directory.answer_patience.as_secs_f32())));
            at_us += patience;
            if password {
                // The guess may have arrived: it goes to nobody else.
                break;
            }
        }
        (none_answered(failed), at_us)
    }

    fn ask_handset(
        &self,
        ask: &ApprovalAsk,
        now_us: u64,
        plan: &Plan,
        own: &mut Belongings,
        done: &mut Simulated,
        rng: &mut SmallRng,
    ) -> ApprovalSent {
        let still_waits = |approval: &Approval| approval.until_us > now_us && approval.answered_us.is_none_or(|at| at > now_us);
        let waiting = own.approval.filter(still_waits);
        let joined = waiting.is_some();
        let approval = waiting.unwrap_or_else(|| {
            let answered_us = woken_after(plan, &self.asleep, rng).map(|after| now_us + after + self.people.draw(rng));
            Approval { answered_us, asked_us: now_us, until_us: now_us + micros(ask.lasts) }
        });
        own.approval = Some(approval);
        *(if joined { &mut done.joined } else { &mut done.approvals }) += 1;
        ApprovalSent::Sent { id: 1, number: ask.wants_number.then_some(42), joined, until: Moment::from_micros(approval.until_us) }
    }

    fn ask_upstream(&mut self, ask: &UpstreamAsk, now_us: u64, plan: &Plan, rng: &mut SmallRng) -> Answered {
        let jitter = 1.0 + rng.random::<f64>();
        let patience = plan.site.upstreams.get(ask.upstream).map_or(0, |upstream| micros(upstream.wait));
        let takes = ((20_000.0 * jitter) as u64).min(patience);
        (Fact::Upstream(Answer::ours(UpstreamAnswer::Accept(Given::default()))), now_us + takes)
    }
}

/// A code works once for its person, also where the gateway has moved to another server.
fn mark_code(mark: CodeMark, own: &mut Belongings) -> MarkAnswer {
    match mark.device {
        Some((_, Used::Approval)) | None => MarkAnswer::Marked,
        Some((_, used)) if own.used == Some(used) => MarkAnswer::UsedBefore,
        Some((_, used)) => {
            own.used = Some(used);
            MarkAnswer::Marked
        }
    }
}

fn await_approval(own: &Belongings, now_us: u64) -> Answered {
    let unanswered = || Fact::Approval(ApprovalAnswer::Unanswered("nobody has answered".to_owned()));
    let Some(approval) = own.approval else { return (unanswered(), now_us) };
    match approval.answered_us.filter(|at| *at <= approval.until_us) {
        Some(at) => {
            let took = Duration::from_micros(at - approval.asked_us);
            let approved = Approved { handset: 1, device: "handset".to_owned(), key: None, took };
            (Fact::Approval(ApprovalAnswer::Approved(approved)), at.max(now_us))
        }
        None => (unanswered(), approval.until_us.max(now_us)),
    }
}

/// How long somebody takes until the answer to a prompt is sent, and what it is.
pub(super) fn at_the_prompt(
    plan: &Plan,
    people: &Draw,
    own: &Belongings,
    code: impl Fn(u64) -> String,
    now_us: u64,
    rng: &mut SmallRng,
) -> (u64, String) {
    match plan.way.how {
        How::Number => {
            let until = own.approval.map_or(now_us, |approval| approval.answered_us.unwrap_or(approval.until_us));
            // Back from the phone to the keyboard.
            (until.max(now_us) + 1_000_000, String::new())
        }
        How::Courier(index) if !own.sent => (now_us + 3_000_000, plan.site.factor_name(FactorKind::Courier(index)).to_owned()),
        How::Courier(_) => (now_us + people.draw(rng), SENT.to_owned()),
        _ => {
            let at = now_us + people.draw(rng);
            (at, code(at))
        }
    }
}

/// A server that has not answered.
fn failed_server(directory: &Directory, server: usize, cause: Cause, took_us: u64, seen: String) -> FailedServer {
    let url = directory.servers.get(server).map(|server| server.url.clone()).unwrap_or_default();
    FailedServer { server: url, why: Unavailable { cause, seen }, took_us }
}

/// What a login hears where no server has answered: why the last one has not.
fn none_answered(mut failed: Vec<FailedServer>) -> Answer<Result<(), Unavailable>> {
    let why = failed.pop().map(|last| last.why);
    let why = why.unwrap_or(Unavailable { cause: Cause::SourceUnreachable, seen: "it has no server".to_owned() });
    Answer { value: Err(why), server: None, failed }
}
