//! Rehearsals: logins that the service sends to itself as a gateway would, with what must come of each.
//!
//! A login's way in is a *rehearsal door*: a socket on loopback that stands for one gateway, hears one other socket and exists for one
//! login. The gateway's secret never leaves the service. Behind the socket everything is the ordinary path; what stands in for people is
//! in [`Stage`], known to this door alone.

mod codes;
mod play;

pub use play::{Tried, outcome_of, try_persona};

use bivector_api::events::Event;
use bivector_api::runs::Progress;
use bivector_engine::live::{LiveSite, open_secret};
use bivector_engine::runs::{Active, STAGES};
use bivector_engine::shared::Shared;
use bivector_explain::run::{LoginResult, Run, RunState};
use bivector_site::rehearsal::{Codes, Rehearsal};
use bivector_store::clock;
use bivector_store::error::ServiceError;
use bivector_wire::Secret;
use codes::Shows;
use data_encoding::BASE32_NOPAD;
use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use play::{Opened, Play};
use std::sync::{Arc, Mutex};
use std::time::Instant;
use tokio::sync::watch;

/// Logins of one run at one time, if nothing else is said.
pub const PARALLEL: u32 = 8;
/// Logins of one run at one time, at most: each has a door of its own.
pub const MOST_PARALLEL: u32 = 64;
/// Logins of one run with all repetitions, at most.
pub const MOST_LOGINS: usize = 20_000;

/// A run to begin.
#[derive(Debug, Clone)]
pub struct Asked {
    /// What is rehearsed.
    pub rehearsal: Rehearsal,
    /// The site that decides.
    pub live: Arc<LiveSite>,
    /// Whether that site is a draft, not active.
    pub draft: bool,
    /// Who asks.
    pub operator: String,
    /// How often the whole list is played.
    pub repeat: u32,
    /// Logins at one time.
    pub parallel: u32,
    /// The pool member that is out meanwhile.
    pub without: Option<String>,
}

/// Begins a run; gives its number. It goes on by itself.
///
/// # Errors
/// A secret of a persona does not open, the run is too long, or the records failed.
pub async fn begin(shared: &Arc<Shared>, asked: Asked) -> Result<u64, ServiceError> {
    let (active, personas) = prepare(shared, &asked).await?;
    let (id, shared) = (active.run.lock().map_or(0, |run| run.id), Arc::clone(shared));
    tokio::spawn(async move { perform(&shared, &asked, &active, &personas).await });
    Ok(id)
}

/// Runs to the end.
///
/// # Errors
/// As [`begin`].
pub async fn run(shared: &Arc<Shared>, asked: Asked) -> Result<Run, ServiceError> {
    let (active, personas) = prepare(shared, &asked).await?;
    let (id, shared) = (active.run.lock().map_or(0, |run| run.id), Arc::clone(shared));
    // On a task of its own: whoever waits for it may go away, and the run comes to its end all the same.
    let performed = tokio::spawn(async move { perform(&shared, &asked, &active, &personas).await });
    Ok(performed.await.unwrap_or_else(|_| broken(id)))
}

async fn prepare(shared: &Arc<Shared>, asked: &Asked) -> Result<(Arc<Active>, Vec<Opened>), ServiceError> {
    let total = asked.rehearsal.logins.len() * asked.repeat.max(1) as usize;
    if total > MOST_LOGINS {
        return Err(ServiceError::Refused {
            what: format!(
                "{} logins {} times are {total}; {MOST_LOGINS} are allowed in one run",
                asked.rehearsal.logins.len(),
                asked.repeat
            ),
            remedy: "repeat it less often; for load there is `bivector lab load`".into(),
        });
    }
    let personas = open_personas(&asked.live, shared)?;
    let mut run = Run {
        id: 0,
        rehearsal: asked.rehearsal.name.clone(),
        site: asked.live.site.name.clone(),
        revision: if asked.draft { 0 } else { asked.live.revision },
        operator: asked.operator.clone(),
        without: asked.without.clone(),
        began_us: clock::now().micros(),
        took_us: 0,
        state: RunState::Running,
        total: total as u32,
        passed: 0,
        failed: 0,
        waits_for: None,
        results: Vec::new(),
    };
    run.id = shared.records.begin_run(run.clone()).await?;
    let active = Arc::new(Active { run: Mutex::new(run.clone()), stop: watch::Sender::new(false) });
    if let Ok(mut all) = shared.runs.active.lock() {
        all.insert(run.id, Arc::clone(&active));
    }
    Ok((active, personas))
}

/// What the personas know, opened. Those whom nothing rehearses may lack what they need.
fn open_personas(live: &LiveSite, shared: &Shared) -> Result<Vec<Opened>, ServiceError> {
    let sealed = shared.records.sealed_secrets()?;
    let text = |name: &str| {
        let bytes = open_secret(name, &sealed, &shared.seal)?;
        String::from_utf8(bytes.expose().clone()).map(Secret::new).map_err(|_| ServiceError::Refused {
            what: format!("the secret `{name}` is not a text"),
            remedy: format!("seal it again with `bivector secret set {name}`"),
        })
    };
    let open = |persona: &bivector_site::rehearsal::Persona| {
        let shows = match &persona.codes {
            Some(Codes::Seed(name)) => {
                let plain: String = text(name)?.expose().chars().filter(|c| !c.is_whitespace() && *c != '=').collect();
                let seed = BASE32_NOPAD.decode(plain.to_uppercase().as_bytes()).map_err(|_| ServiceError::Refused {
                    what: format!("the secret `{name}` is not a seed in base32"),
                    remedy: format!("seal the device's own seed with `bivector secret set {name}`"),
                })?;
                Shows::Seed { name: name.clone(), seed: Secret::new(seed) }
            }
            Some(Codes::Fixed(name)) => Shows::Fixed(text(name)?),
            // A robot's token is made for each login.
            Some(Codes::Robot) | None => Shows::Nothing,
        };
        let certificate = persona.certificate.as_deref().map(text).transpose()?;
        Ok(Opened { password: persona.password.as_deref().map(text).transpose()?, certificate, shows })
    };
    live.site.personas.iter().map(open).collect()
}

async fn perform(shared: &Arc<Shared>, asked: &Asked, active: &Arc<Active>, personas: &[Opened]) -> Run {
    let began = Instant::now();
    let id = active.run.lock().map_or(0, |run| run.id);
    // Nobody listening is no error.
    let tell = |run: &Run| drop(shared.events.send(Event::Run { progress: Progress::of(run) }));
    let told = |change: &dyn Fn(&mut Run)| {
        let Ok(mut run) = active.run.lock() else { return };
        change(&mut run);
        run.took_us = began.elapsed().as_micros() as u64;
        tell(&run);
    };
    told(&|_| {});
    let waits = |what: &str| {
        let new = active.run.lock().is_ok_and(|run| run.waits_for.as_deref() != Some(what));
        if new {
            told(&|run| run.waits_for = Some(what.to_owned()));
        }
    };
    let play = Play { shared, live: &asked.live, personas, waits: &waits };
    let place_of = |result: &LoginResult, place: usize, run: &mut Run| {
        *(if result.passed() { &mut run.passed } else { &mut run.failed }) += 1;
        run.waits_for = None;
        run.results.insert(place, result.clone());
    };
    play_all(asked, active, &play, id, &|place, result| told(&|run| place_of(result, place, run))).await;
    clear(shared, &format!("{STAGES}{id}/")).await;
    let run = active.run.lock().map(|mut run| {
        end(&mut run, began);
        run.clone()
    });
    let Some(run) = run.ok() else { return broken(id) };
    if let Err(error) = shared.records.end_run(run.clone()).await {
        tracing::warn!(%error, run = id, "a run could not be kept");
    }
    if let Ok(mut all) = shared.runs.active.lock() {
        all.remove(&id);
    }
    // Told once it is kept: whoever hears of it can compare it at once.
    tell(&run);
    run
}

/// Plays all logins, some at a time, until they are through or the run is stopped; `ended` is told each with its place among the results.
async fn play_all(asked: &Asked, active: &Active, play: &Play<'_>, id: u64, ended: &(dyn Fn(usize, &LoginResult) + Sync)) {
    let list = &asked.rehearsal.logins;
    let one = async |at: usize| {
        let (turn, login) = (at / list.len() + 1, &list[at % list.len()]);
        (at, play::play(play, login, turn as u32, format!("{STAGES}{id}/{at}")).await)
    };
    let total = list.len() * asked.repeat.max(1) as usize;
    let mut on_their_way = FuturesUnordered::new();
    let mut next = 0..total;
    on_their_way.extend(next.by_ref().take(asked.parallel.clamp(1, MOST_PARALLEL) as usize).map(&one));
    let mut stopped = active.stop.subscribe();
    let mut places: Vec<usize> = Vec::new();
    loop {
        let next_one = tokio::select! {
            next_one = on_their_way.next() => next_one,
            _ = stopped.wait_for(|stop| *stop) => break,
        };
        let Some((at, result)) = next_one else { break };
        on_their_way.extend(next.next().map(&one));
        let place = places.partition_point(|earlier| *earlier < at);
        places.insert(place, at);
        ended(place, &result);
    }
}

/// Notes how a run ended.
fn end(run: &mut Run, began: Instant) {
    run.took_us = began.elapsed().as_micros() as u64;
    run.state = match (run.passed + run.failed == run.total, run.failed) {
        (false, _) => RunState::Interrupted,
        (true, 0) => RunState::Passed,
        (true, _) => RunState::Failed,
    };
    run.waits_for = None;
}

/// A run whose state was lost in a panic of another thread; it is kept as interrupted at the next start.
fn broken(id: u64) -> Run {
    Run {
        id,
        rehearsal: String::new(),
        site: String::new(),
        revision: 0,
        operator: String::new(),
        without: None,
        began_us: 0,
        took_us: 0,
        state: RunState::Interrupted,
        total: 0,
        passed: 0,
        failed: 0,
        waits_for: None,
        results: Vec::new(),
    }
}

/// Takes out what rehearsed logins have counted. It concerned nobody outside.
pub async fn clear(shared: &Shared, stages: &str) {
    match shared.records.forget_locks(stages.to_owned()).await {
        Ok(()) => shared.roster.forget_locks(stages),
        Err(error) => tracing::warn!(%error, "what a rehearsal counted could not be taken out; it concerns nobody"),
    }
}
