//! Drives a login to its end: answers its needs from sources, roster and records, and waits as it says.

use crate::clock::LoginClock;
use crate::live::LiveSite;
use crate::roster::Roster;
use crate::seal::random;
use crate::shared::Shared;
use bivector_core::login::{
    Answer, ChangeAnswer, CodeMark, Fact, Found, KeptAnswer, Login, MarkAnswer, Need, Next, PasswordAnswer, Pending, PersonAnswer,
    TakenAnswer, Unavailable, UpstreamAnswer,
};
use bivector_core::site::SourceRef;
use bivector_core::{Cause, Moment};
use bivector_wire::Secret;

/// Runs a login until it is decided.
pub async fn drive(login: &mut Login, live: &LiveSite, shared: &Shared, clock: &LoginClock) {
    loop {
        match login.next() {
            Next::Ask(need) => {
                let fact = answer(need, live, shared, clock.now()).await;
                login.learn(fact, clock.now());
            }
            Next::Wait(until, _timer) => {
                tokio::time::sleep_until(clock.instant(until).into()).await;
                login.wake(clock.now().max(until));
            }
            Next::Decided => return,
        }
    }
}

async fn answer(need: Need, live: &LiveSite, shared: &Shared, now: Moment) -> Fact {
    match need {
        Need::FindPerson { source, name } => Fact::Person(find(source, &name, live, &shared.roster).await),
        Need::Tokens { person } => Fact::Tokens(shared.roster.tokens(&person)),
        Need::CheckPassword { source, person, guess } => Fact::Password(check(source, &person, guess, live, &shared.roster).await),
        Need::MarkCode(mark) => Fact::Mark(mark_code(&mark, shared, now).await),
        Need::AskUpstream(ask) => Fact::Upstream(match live.upstreams.get(ask.upstream) {
            Some(upstream) => upstream.ask(&ask).await,
            None => Answer::ours(UpstreamAnswer::Unavailable(not_ready())),
        }),
        Need::KeepChallenge(pending) => Fact::Kept(keep(&pending, shared, now).await),
        Need::TakeChallenge { state } => Fact::Taken(take(state, shared).await),
        Need::ChangePassword { source: SourceRef::Directory(index), person, old, new } => {
            Fact::Changed(match live.directories.get(index) {
                Some(directory) => directory.change_password(&person, &old, &new).await,
                None => Answer::ours(ChangeAnswer::Unavailable(not_ready())),
            })
        }
        Need::ChangePassword { .. } => Fact::Changed(Answer::ours(ChangeAnswer::Unavailable(not_ready()))),
    }
}

/// What a kept challenge is sealed for.
const CHALLENGE: &str = "challenge";
/// Bytes of a State: nobody guesses one.
const STATE: usize = 16;

/// Keeps a login between two rounds; its State is a random name for what is sealed in the records, and works once.
async fn keep(pending: &Pending, shared: &Shared, now: Moment) -> KeptAnswer {
    let state = random::<STATE>().to_vec();
    let sealed = shared.seal.seal(CHALLENGE, pending.to_bytes().expose());
    match shared.agreement.keep(state.clone(), sealed, pending.until(), now).await {
        Ok(()) => KeptAnswer::Kept(state),
        Err(error) => KeptAnswer::Unavailable(Unavailable { cause: Cause::RecordsUnavailable, seen: error.to_string() }),
    }
}

async fn take(state: Vec<u8>, shared: &Shared) -> TakenAnswer {
    match shared.agreement.take(state).await {
        Ok(Some(sealed)) => {
            let opened = shared.seal.open(CHALLENGE, &sealed).ok().and_then(|bytes| Pending::from_sealed(bytes.expose()));
            opened.map_or(TakenAnswer::NotThere, |pending| TakenAnswer::Taken(Box::new(pending)))
        }
        Ok(None) => TakenAnswer::NotThere,
        Err(error) => TakenAnswer::Unavailable(Unavailable { cause: Cause::RecordsUnavailable, seen: error.to_string() }),
    }
}

fn not_ready() -> Unavailable {
    Unavailable { cause: Cause::Unfinished, seen: "the source is not part of this revision".into() }
}

async fn find(source: SourceRef, name: &str, live: &LiveSite, roster: &Roster) -> Answer<PersonAnswer> {
    match source {
        SourceRef::Roster => Answer::ours(roster.find(name)),
        SourceRef::Directory(index) => match live.directories.get(index) {
            Some(directory) => directory.find(name).await,
            None => Answer::ours(PersonAnswer::Unavailable(not_ready())),
        },
        SourceRef::Upstream(_) => Answer::ours(PersonAnswer::Unavailable(not_ready())),
    }
}

async fn check(source: SourceRef, person: &Found, guess: Secret<String>, live: &LiveSite, roster: &Roster) -> Answer<PasswordAnswer> {
    match source {
        SourceRef::Roster => Answer::ours(roster.check(&person.login, guess).await),
        SourceRef::Directory(index) => match live.directories.get(index) {
            Some(directory) => directory.check(person, &guess).await,
            None => Answer::ours(PasswordAnswer::Unavailable(not_ready())),
        },
        SourceRef::Upstream(_) => Answer::ours(PasswordAnswer::Unavailable(not_ready())),
    }
}

async fn mark_code(mark: &CodeMark, shared: &Shared, now: Moment) -> MarkAnswer {
    let key = [b"totp".as_slice(), &mark.token.to_be_bytes(), &mark.step.to_be_bytes()].concat();
    match shared.agreement.put_if_absent(key, mark.until, now).await {
        Ok(true) => MarkAnswer::Marked,
        Ok(false) => MarkAnswer::UsedBefore,
        Err(error) => MarkAnswer::Unavailable(Unavailable { cause: Cause::RecordsUnavailable, seen: error.to_string() }),
    }
}
