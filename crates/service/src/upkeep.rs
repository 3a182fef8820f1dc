//! Upkeep of the records, a little at a time and aside from logins: old traces make room, small pieces of them are put together, used
//! codes are folded into the rows of their devices.

use bivector_engine::shared::Shared;
use bivector_http::api::ApiState;
use bivector_manage::apply::Doors;
use bivector_store::clock;
use bivector_store::metrics;
use bivector_store::records::tidy_traces;
use std::sync::Weak;
use std::time::{Duration, Instant};

/// How often it is looked whether there is something to do.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// How often used codes are folded: the later, the fewer rows are written for people who log in again, and the more a start after a
/// crash has to read.
const FOLD_EVERY: Duration = Duration::from_secs(30);

/// How long after the start the records are read through, and how often from then on.
const CHECKED: (Duration, Duration) = (Duration::from_secs(3), Duration::from_secs(24 * 3600));

/// How often it is looked for prompts that nobody has answered.
const EXPIRE_EVERY: Duration = Duration::from_secs(1);

/// Ends logins whose prompt nobody has answered, until the service ends.
pub(crate) async fn expire_prompts(shared: Weak<Shared>) {
    if let Some(shared) = shared.upgrade() {
        let restored =
            tokio::task::spawn_blocking(move || shared.conversations.restore_all(&shared.records, bivector_model::Moment::from_micros(0)));
        let _ = restored.await;
    }
    let mut pace = tokio::time::interval(EXPIRE_EVERY);
    loop {
        pace.tick().await;
        let Some(shared) = shared.upgrade() else { return };
        let now = clock::now();
        for expired in shared.conversations.expired(now) {
            let found = match expired.trace {
                Some(_) => None,
                None => shared.records.trace(expired.reference.clone()).await.ok().flatten(),
            };
            let replaces = expired.id;
            let found = |_: &str| found.map(|(row, steps, facts)| row.with(steps, facts.unwrap_or_default()));
            if let Some(trace) = expired.ended(found, now) {
                metrics::login(&trace);
                shared.keep_in_place_of(replaces, trace);
            }
        }
        metrics::logins_waiting(shared.conversations.count());
    }
}

/// Reads the records through for damage that no login has met yet, until the service ends.
pub(crate) async fn check(shared: Weak<Shared>) {
    let (first, then) = CHECKED;
    let mut wait = first;
    loop {
        tokio::time::sleep(wait).await;
        let Some(shared) = shared.upgrade() else { return };
        shared.records.check_all().await;
        wait = then;
    }
}

/// Tidies the records, again and again, until the service ends.
pub(crate) async fn prune(shared: Weak<Shared>) {
    let mut pace = tokio::time::interval(LOOK_EVERY);
    let (mut tidied, mut folded) = (0, Instant::now());
    loop {
        pace.tick().await;
        {
            let Some(shared) = shared.upgrade() else { return };
            tokio::task::block_in_place(|| shared.sign_ins.tidy());
        }
        while folded.elapsed() >= FOLD_EVERY {
            let Some(shared) = shared.upgrade() else { return };
            match shared.records.fold_steps(clock::now()).await {
                Ok(true) => tokio::task::yield_now().await,
                Ok(false) => folded = Instant::now(),
                Err(error) => {
                    tracing::debug!(%error, "used codes could not be folded");
                    break;
                }
            }
        }
        loop {
            let Some(shared) = shared.upgrade() else { return };
            let Some(keeping) = shared.live.load().as_ref().map(|live| live.site.traces) else { break };
            let now = clock::now().micros();
            match shared.records.write(move |transaction| tidy_traces(transaction, keeping, now, tidied)).await {
                Ok((more, before)) => {
                    tidied = before;
                    if !more {
                        break;
                    }
                }
                Err(error) => {
                    tracing::debug!(%error, "traces could not be tidied");
                    break;
                }
            }
            // Between two steps the writer belongs to the logins.
            tokio::task::yield_now().await;
        }
    }
}

/// Follows the change feed until the service ends: whoever changes a fact, and wherever, every view in memory takes it over.
pub(crate) async fn follow(shared: Weak<Shared>, doors: Weak<Doors>, api: ApiState) {
    let Some(mut changes) = shared.upgrade().map(|shared| shared.records.watch_changes()) else { return };
    let mut stopped = api.stopped();
    loop {
        tokio::select! {
            changed = changes.changed() => if changed.is_err() { return },
            _ = stopped.changed() => return,
        }
        let (Some(shared), Some(doors)) = (shared.upgrade(), doors.upgrade()) else { return };
        if let Err(error) = shared.catch_up().await {
            tracing::warn!(%error, "people in memory could not be brought up to date");
        }
        if let Err(error) = doors.follow(&shared).await {
            tracing::warn!(%error, "the active site could not be brought up to date");
        }
        if let Err(error) = api.follow().await {
            tracing::warn!(%error, "operators in memory could not be brought up to date");
        }
    }
}
