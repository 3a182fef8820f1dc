//! Drives a login to its end: answers its needs from sources, roster and records, and waits as it says.

use crate::guesses::CountedGuess;
use crate::live::LiveSite;
use crate::push::PushSeen;
use crate::roster::Roster;
use crate::shared::Shared;
use crate::stage::{HANDSET, Stage};
use bivector_core::login::*;
use bivector_model::Cause;
use bivector_model::Moment;
use bivector_model::trace::Tone;
use bivector_site::Sending;
use bivector_site::SourceRef;
use bivector_store::agreement::{Allowance, Rate, Reserved, Took};
use bivector_store::clock::{self, LoginClock};
use bivector_store::metrics;
use bivector_store::records::{Marked, RecordsError};
use bivector_store::seal::{digits, random};
use bivector_wire::Secret;
use data_encoding::BASE64URL_NOPAD;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What a login occupies while it is driven. All of it is released on drop, whatever ended the login, a panic and a cancelled task included.
struct Resources<'s> {
    shared: &'s Shared,
    /// A code that is being marked while the password beside it is checked. Dropped, it can be used again.
    code: Option<Box<dyn Reserved>>,
    /// A guess at a password that is being made. Dropped, it counts as a wrong one.
    guess: Option<CountedGuess>,
    /// An approval that the handset shows for this login. Dropped, it is withdrawn, unless another login waits for it too.
    approval: Option<u64>,
    /// The login whose prompt this request answers. Dropped, that login ends as unfinished.
    answered: Option<String>,
    /// The approval that was waited for: what was seen of its messages has yet to be noted.
    waited_for: Option<u64>,
    /// When the gateway gives up: slow hashes are not begun any more then.
    given_up: Option<Instant>,
}

impl Drop for Resources<'_> {
    fn drop(&mut self) {
        if let Some(id) = self.approval.take() {
            self.shared.approvals.abandon(id, clock::now());
        }
        if let Some(reference) = self.answered.take() {
            self.shared.conversations.not_taken_up(&reference, true, clock::now());
        }
    }
}

/// Runs a login until it is decided; `stage` is what stands in for people and things where it is a rehearsed one.
pub async fn drive(login: &mut Login, live: &LiveSite, shared: &Shared, clock: &LoginClock, stage: Option<&Stage>) {
    let given_up = login.given_up_at().map(|at| clock.instant(at));
    let mut hand = Resources { shared, code: None, guess: None, approval: None, answered: None, waited_for: None, given_up };
    loop {
        match login.next() {
            Next::Ask(need) => {
                let fact = match stage {
                    None => answer(need, &mut hand, live, shared, clock).await,
                    Some(stage) => match stage.play(need) {
                        // A rehearsal takes nobody's address and ends nobody's session.
                        Err(Need::Reserve(reserve)) => Fact::Reserved(crate::sessions::rehearsed(&reserve, live, stage.sessions())),
                        Ok(fact) => fact,
                        Err(need) => stage.hear(answer(need, &mut hand, live, shared, clock).await, &shared.roster, clock.now()),
                    },
                };
                if let Some(id) = hand.waited_for.take() {
                    note_messages(login, id, shared);
                }
                login.learn(fact, clock.now());
            }
            Next::Wait(until, _timer) => {
                // Nobody asks for it any more.
                hand.code = None;
                tokio::time::sleep_until(clock.instant(until).into()).await;
                login.wake(clock.now().max(until));
            }
            Next::Decided => break,
        }
    }
    if let Some(reference) = hand.answered.take()
        && login.reference() != reference
    {
        shared.conversations.not_taken_up(&reference, false, clock.now());
    }
    if let Some(guess) = hand.guess.take() {
        guess.uncounted(clock.now());
    }
}

/// Notes in the trace what was seen of the messages that woke the person.
fn note_messages(login: &mut Login, id: u64, shared: &Shared) {
    let Some((person, notes)) = shared.approvals.notes(id) else { return };
    let row = if notes.is_empty() { None } else { shared.roster.get(&person) };
    let label = |device: Option<u64>| {
        if device == Some(HANDSET) {
            return "simulated handset";
        }
        let factors = row.as_ref().map(|row| row.factors.as_slice()).unwrap_or_default();
        factors.iter().find(|factor| Some(factor.id) == device).map_or("", |factor| factor.label.as_str())
    };
    for note in &notes {
        let (what, said) = note.seen.said(label(note.device), note.after);
        login.note_aside(what, if note.seen.is_good() { Tone::Good } else { Tone::Warn }, note.at, &said);
        if note.seen == PushSeen::Shown {
            login.note_woken(note.after);
        }
    }
}

/// Answers a need from memory; gives it back where somebody must be waited for.
pub fn at_once(need: Need, live: &LiveSite, shared: &Shared, now: Moment) -> Result<Fact, Need> {
    match need {
        Need::FindPerson { source: source @ SourceRef::Upstream(_), name } => {
            Ok(Fact::Person(Answer::ours(shared.roster.of_upstream(live.site.source_name(source), &name))))
        }
        Need::FindPerson { source: SourceRef::Roster, name } => Ok(Fact::Person(Answer::ours(shared.roster.find(&name)))),
        Need::Factors { person, station } => Ok(Fact::Factors(shared.roster.factors(&person, station.as_ref(), now))),
        other => Err(other),
    }
}

/// Answers one need. What speaks to the outside is boxed, so that a login which only waits for somebody's thumb, as ten thousand may at
/// one time, does not hold room for a conversation with a directory.
async fn answer(need: Need, hand: &mut Resources<'_>, live: &LiveSite, shared: &Shared, clock: &LoginClock) -> Fact {
    let now = clock.now();
    match need {
        Need::FindPerson { source, name } => Fact::Person(Box::pin(find(source, &name, live, &shared.roster)).await),
        Need::Factors { person, station } => Fact::Factors(shared.roster.factors(&person, station.as_ref(), now)),
        Need::CheckPassword { source, person, guess, code } => {
            hand.code = code.and_then(|code| shared.agreement.reserve(&person.key, code, now));
            Fact::Password(Box::pin(check(source, &person, guess, hand.given_up, live, &shared.roster)).await)
        }
        Need::Kept { source, person } => Fact::Secret(Box::pin(kept_secret(source, &person, live, &shared.roster)).await),
        Need::CheckPin { person, device, guess } => {
            Fact::Pin(Box::pin(shared.roster.check_pin(&person, device, guess, hand.given_up)).await)
        }
        Need::BeginGuess(guess) => Fact::Guess(Box::pin(begin_guess(guess, hand, live, shared, now)).await),
        Need::EndGuess { right } => Fact::GuessEnded(match hand.guess.take() {
            Some(guess) => Box::pin(guess.settle(right, now)).await,
            None => GuessCount::default(),
        }),
        Need::CheckNobody { sources, text } => {
            Box::pin(check_nobody(sources, text, hand.given_up, live, &shared.roster)).await;
            Fact::Nobody(())
        }
        Need::CountWrong(wrong) => Fact::Counted(Box::pin(count_wrong(*wrong, live, shared, now)).await),
        Need::SendCode(sendable) => Fact::Sent(Box::pin(send_code(&sendable, live, shared, now)).await),
        Need::SendApproval(ask) => {
            let sent = Box::pin(ask_handset(Arc::unwrap_or_clone(ask), live, shared, now)).await;
            if let ApprovalSent::Sent { id, .. } = sent {
                hand.approval = Some(id);
            }
            Fact::ApprovalSent(sent)
        }
        Need::AwaitApproval { id, person } => {
            hand.approval = Some(id);
            let answer = shared.approvals.wait(id, &person, clock).await;
            hand.approval = None;
            hand.waited_for = Some(id);
            Fact::Approval(answer)
        }
        Need::NewSeed => Fact::Seed(Secret::new(random::<20>().to_vec())),
        Need::AddDevice(device) => Fact::Added(Box::pin(add_device(*device, shared, now)).await),
        Need::MarkCode(mark) => Fact::Mark(Box::pin(mark_code(mark, hand.code.take(), shared, now)).await),
        Need::AskUpstream(ask) => Fact::Upstream(match live.upstreams.get(ask.upstream) {
            Some(upstream) => Box::pin(upstream.ask(&ask)).await,
            None => Answer::ours(UpstreamAnswer::Unavailable(not_ready())),
        }),
        Need::KeepChallenge(pending) => {
            let kept = Box::pin(keep(&pending, shared, now)).await;
            if matches!(kept, KeptAnswer::Kept(_)) {
                // Whoever answers the prompt waits for it.
                hand.approval = None;
            }
            Fact::Kept(kept)
        }
        Need::TakeChallenge { state } => {
            let taken = Box::pin(take(state, shared, now)).await;
            if let TakenAnswer::Taken { pending, .. } = &taken {
                hand.answered = Some(pending.reference().to_owned());
            }
            Fact::Taken(taken)
        }
        Need::Reserve(reserve) => Fact::Reserved(Box::pin(shared.reserve(*reserve, live, now)).await),
        Need::ChangePassword { source: SourceRef::Directory(index), person, old, new } => {
            Fact::Changed(match live.directories.get(index) {
                Some(directory) => Box::pin(directory.change_password(&person, &old, &new)).await,
                None => Answer::ours(ChangeAnswer::Unavailable(not_ready())),
            })
        }
        Need::ChangePassword { .. } => Fact::Changed(Answer::ours(ChangeAnswer::Unavailable(not_ready()))),
    }
}

async fn begin_guess(guess: Arc<Guess>, hand: &mut Resources<'_>, live: &LiveSite, shared: &Shared, now: Moment) -> GuessAnswer {
    if let Some(before) = hand.guess.take() {
        before.uncounted(now);
    }
    let of_upstream = || guess.person.split_once(':').is_some_and(|(source, _)| live.site.upstreams.iter().any(|up| up.name == source));
    // An upstream's people are whoever somebody says they are.
    let lasting = !guess.person.starts_with('?') && (!of_upstream() || shared.roster.get(&guess.person).is_some());
    let (answer, begun) = shared.guesses.begin(guess, live.site.passwords, lasting, now).await;
    hand.guess = begun;
    answer
}

/// Makes the checks that a refusal of a name has left out, with a name and a password that nobody has.
async fn check_nobody(sources: Vec<SourceRef>, text: bool, until: Option<Instant>, live: &LiveSite, roster: &Roster) {
    for source in sources {
        match source {
            SourceRef::Directory(index) => {
                if let Some(directory) = live.directories.get(index) {
                    directory.check_nobody(text).await;
                }
            }
            SourceRef::Roster if text => roster.check_nobody(until).await,
            SourceRef::Roster | SourceRef::Upstream(_) => {}
        }
    }
}

/// What a kept challenge is sealed for.
const CHALLENGE: &str = "challenge";
/// Bytes of a name that a State consists of: nobody guesses one.
const NAME: usize = 16;
/// First character of a State that is only a name, and of one that holds all of the round.
const NAMED: char = 'n';
const WHOLE: char = 'w';
/// Bytes of the nonce that a sealed State begins with: it is the name under which the State is taken once.
const NONCE: usize = 24;
/// Bytes that a State may have (RFC 2865 section 5.24).
const MAX_STATE: usize = 253;

/// Keeps a login between two rounds. What is short enough travels in the State itself, sealed, so that any node with the key can go
/// on with it; what is not is kept in the records under a random name. Either works once.
///
/// A State is printable ASCII: some gateways keep it as a C string and send it back up to its first zero byte.
async fn keep(pending: &Pending, shared: &Shared, now: Moment) -> KeptAnswer {
    let sealed = shared.seal.seal(CHALLENGE, pending.to_bytes().expose());
    let whole = format!("{WHOLE}{}", BASE64URL_NOPAD.encode(&sealed));
    if whole.len() <= MAX_STATE {
        return KeptAnswer::Kept(whole.into_bytes());
    }
    let name = random::<NAME>();
    match shared.agreement.store(name.to_vec(), sealed, pending.until(), now).await {
        Ok(()) => KeptAnswer::Kept(format!("{NAMED}{}", BASE64URL_NOPAD.encode(&name)).into_bytes()),
        Err(error) => KeptAnswer::Unavailable(broken(&error)),
    }
}

async fn take(state: Vec<u8>, shared: &Shared, now: Moment) -> TakenAnswer {
    let opened = |sealed: &[u8]| shared.seal.open(CHALLENGE, sealed).ok().and_then(|bytes| Pending::from_sealed(bytes.expose()));
    let decoded = |text: &str| BASE64URL_NOPAD.decode(text.as_bytes()).ok();
    let text = String::from_utf8(state).unwrap_or_default();
    let taken = if let Some(name) = text.strip_prefix(NAMED).and_then(decoded).filter(|name| name.len() == NAME) {
        match shared.agreement.take(name, now).await {
            Ok(Took::Value(sealed)) => Ok(opened(&sealed)),
            Ok(Took::Before) => return TakenAnswer::Used,
            Ok(Took::Never) => Ok(None),
            Err(error) => Err(error),
        }
    } else {
        let Some(sealed) = text.strip_prefix(WHOLE).and_then(decoded) else { return TakenAnswer::NotThere };
        let Some(pending) = opened(&sealed) else { return TakenAnswer::NotThere };
        match shared.agreement.take_once(sealed.get(..NONCE).unwrap_or(&sealed), pending.until(), now).await {
            Ok(true) => Ok(Some(pending)),
            Ok(false) => return TakenAnswer::Used,
            Err(error) => Err(error),
        }
    };
    match taken {
        Ok(Some(pending)) => {
            let before = shared.rounds_before(pending.reference()).await;
            TakenAnswer::Taken { pending: Box::new(pending), before }
        }
        Ok(None) => TakenAnswer::NotThere,
        Err(error) => TakenAnswer::Unavailable(broken(&error)),
    }
}

fn broken(error: &RecordsError) -> Unavailable {
    Unavailable { cause: Cause::RecordsUnavailable, seen: error.to_string() }
}

fn not_ready() -> Unavailable {
    Unavailable { cause: Cause::Unfinished, seen: "the source is not part of this revision".into() }
}

/// Looks a name up in a source.
pub async fn find(source: SourceRef, name: &str, live: &LiveSite, roster: &Roster) -> Answer<PersonAnswer> {
    match source {
        SourceRef::Roster => Answer::ours(roster.find(name)),
        SourceRef::Directory(index) => match live.directories.get(index) {
            Some(directory) => {
                let mut answer = directory.find(name).await;
                if let PersonAnswer::Found(person) = &mut answer.value
                    && !roster.complete(Arc::make_mut(person))
                {
                    answer.value = PersonAnswer::Refused(Cause::PersonSuspended);
                }
                answer
            }
            None => Answer::ours(PersonAnswer::Unavailable(not_ready())),
        },
        SourceRef::Upstream(_) => Answer::ours(roster.of_upstream(live.site.source_name(source), name)),
    }
}

async fn kept_secret(source: SourceRef, person: &Found, live: &LiveSite, roster: &Roster) -> Answer<SecretAnswer> {
    match source {
        SourceRef::Roster => Answer::ours(roster.kept(&person.login)),
        SourceRef::Directory(index) => match live.directories.get(index) {
            Some(directory) => directory.nt_hash(person).await,
            None => Answer::ours(SecretAnswer::Unavailable(not_ready())),
        },
        SourceRef::Upstream(_) => Answer::ours(SecretAnswer::NotKept),
    }
}

/// Checks a password at a source; slow hashes are not begun after `until`.
pub async fn check(
    source: SourceRef,
    person: &Found,
    guess: Secret<String>,
    until: Option<Instant>,
    live: &LiveSite,
    roster: &Roster,
) -> Answer<PasswordAnswer> {
    match source {
        SourceRef::Roster => Answer::ours(roster.check(&person.login, guess, until).await),
        SourceRef::Directory(index) => match live.directories.get(index) {
            Some(directory) => directory.check(person, &guess).await,
            None => Answer::ours(PasswordAnswer::Unavailable(not_ready())),
        },
        SourceRef::Upstream(_) => Answer::ours(PasswordAnswer::Unavailable(not_ready())),
    }
}

/// Marks a code, which may be held since its password was asked about.
async fn mark_code(mark: CodeMark, held: Option<Box<dyn Reserved>>, shared: &Shared, now: Moment) -> MarkAnswer {
    let whose = Marking::begin(&mark, shared, now);
    let marked = match held.filter(|held| held.is_for(&mark)) {
        Some(held) => held.commit(mark, now).await,
        None => shared.agreement.use_code(mark, now).await,
    };
    whose.end(marked, shared)
}

/// Marks a code and goes on with `then` once that is durable, without a task that waits for it.
pub fn mark_code_then(mark: CodeMark, shared: &Arc<Shared>, now: Moment, then: impl FnOnce(MarkAnswer) + Send + 'static) {
    let (whose, own) = (Marking::begin(&mark, shared, now), Arc::clone(shared));
    shared.agreement.use_code_then(mark, now, Box::new(move |marked| then(whose.end(marked, &own))));
}

/// Whose code is being marked.
struct Marking {
    person: String,
    device: Option<u64>,
}

impl Marking {
    fn begin(mark: &CodeMark, shared: &Shared, now: Moment) -> Self {
        if let Some(id) = mark.withdraw {
            shared.approvals.withdraw(id, now);
        }
        Marking { person: mark.person.clone(), device: mark.device.map(|(device, _)| device) }
    }

    /// Takes over in memory what the records now hold.
    fn end(self, marked: Result<Marked, RecordsError>, shared: &Shared) -> MarkAnswer {
        match marked {
            Ok(Marked::Now(state)) => {
                if let Some((device, state)) = self.device.zip(state) {
                    shared.roster.note_state(device, state);
                }
                shared.roster.note_lock(&self.person, None);
                MarkAnswer::Marked
            }
            Ok(Marked::Before) => MarkAnswer::UsedBefore,
            Ok(Marked::Locked(until)) => MarkAnswer::Locked(until),
            Err(error) => MarkAnswer::Unavailable(broken(&error)),
        }
    }
}

async fn count_wrong(wrong: WrongTry, live: &LiveSite, shared: &Shared, now: Moment) -> CountAnswer {
    let (person, ahead) = (wrong.person.clone(), wrong.ahead);
    match shared.agreement.count_wrong(wrong, live.site.lockout, now).await {
        Ok(lock) => {
            let answer =
                CountAnswer::Counted { wrong: lock.points / WrongTry::CODE, locked_until: lock.locked_until_us.map(Moment::from_micros) };
            if let Some((device, counter)) = ahead {
                shared.roster.note_ahead(&person, device, counter, now);
            }
            if lock.locked_until_us.is_some() {
                metrics::locked();
                tracing::warn!(person, gateway = lock.gateway, "too many wrong codes: locked");
            }
            shared.roster.note_lock(&person, Some(lock));
            answer
        }
        Err(error) => CountAnswer::Unavailable(broken(&error)),
    }
}

/// Asks a handset, unless the person has stopped approvals.
async fn ask_handset(ask: ApprovalAsk, live: &LiveSite, shared: &Shared, now: Moment) -> ApprovalSent {
    if let Some(stop) = shared.roster.stop_of(&ask.person, now) {
        metrics::approval("stopped");
        let until = Moment::from_micros(stop.until_us);
        return if ask.on_page { shared.approvals.pretend(ask, random(), until, now) } else { ApprovalSent::Stopped(until) };
    }
    let sent = shared.approvals.ask(ask, &live.site.handset, random(), now).await;
    metrics::approval(match &sent {
        ApprovalSent::Sent { joined: true, .. } => "joined",
        ApprovalSent::Sent { .. } => "asked",
        _ => "limited",
    });
    sent
}

/// Keeps an authenticator app that a login has set up.
async fn add_device(device: NewDevice, shared: &Shared, now: Moment) -> AddAnswer {
    match crate::invitations::keep_enrolled(device, shared, now).await {
        Ok(Some(id)) => AddAnswer::Added(id),
        Ok(None) => AddAnswer::EnrolledMeanwhile,
        Err(error) => AddAnswer::Unavailable(broken(&error)),
    }
}

/// Makes a code and sends it, unless a limit is reached.
async fn send_code(sendable: &Sendable, live: &LiveSite, shared: &Shared, now: Moment) -> SendAnswer {
    let Some(courier) = live.couriers.get(sendable.courier) else { return SendAnswer::Unavailable(not_ready()) };
    let sending = &live.site.sending;
    match may_send(&sendable.person, sending, shared, now).await {
        Ok(None) => {}
        Ok(Some(limit)) => {
            metrics::courier("limited");
            return SendAnswer::Limited(limit);
        }
        Err(error) => return SendAnswer::Unavailable(broken(&error)),
    }
    let code = digits(sending.digits);
    match courier.send(sendable, &code, &live.site).await {
        Ok(()) => {
            metrics::courier("sent");
            SendAnswer::Sent(SentCode { code, to: masked(&sendable.to) })
        }
        Err(seen) => {
            metrics::courier("failed");
            SendAnswer::Unavailable(Unavailable { cause: Cause::CourierFailed, seen })
        }
    }
}

const HOUR: Duration = Duration::from_secs(3600);
const MINUTE: Duration = Duration::from_secs(60);

/// Counts one more code that is sent, or says which limit it would exceed.
pub(crate) async fn may_send(person: &str, sending: &Sending, shared: &Shared, now: Moment) -> Result<Option<String>, RecordsError> {
    let own = Allowance { rate: Rate::CodesToPerson, key: person.to_owned(), most: sending.per_person, period: HOUR };
    let all = Allowance { rate: Rate::Codes, key: String::new(), most: sending.per_minute, period: MINUTE };
    Ok(match shared.agreement.spend(vec![own, all], now).await? {
        Ok(()) => None,
        Err(Rate::Codes) => Some(format!("{} codes were sent lately, as many as the site allows within a minute", sending.per_minute)),
        Err(_) => Some(format!("{} codes were sent to this person lately, as many as the site allows within an hour", sending.per_person)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_login_that_waits_for_somebody_holds_little() {
        fn size_of_answer<F: Future>(
            _: impl Fn(Need, &'static mut Resources<'static>, &'static LiveSite, &'static Shared, &'static LoginClock) -> F,
        ) -> usize {
            size_of::<F>()
        }
        let size = size_of_answer(answer);
        assert!(size <= 656, "{size} bytes for each of ten thousand");
    }
}
