//! A change that goes back by itself unless somebody confirms it: for changes that could lock the operator out.

use crate::apply::{Change, Doors};
use bivector_api::site::Awaiting;
use bivector_engine::shared::Shared;
use bivector_model::Moment;
use bivector_store::clock;
use bivector_store::error::ServiceError;
use bivector_store::records::Deed;
use std::sync::Arc;
use std::time::Duration;

/// Where it is kept, so that a restart does not keep what nobody confirmed.
const KEY: &str = "confirm";
/// Who goes back.
const BY_ITSELF: &str = "bivector";

/// What waits now.
///
/// # Errors
/// The records cannot be read.
pub fn awaiting(shared: &Shared) -> Result<Option<Awaiting>, ServiceError> {
    Ok(shared.records.meta(KEY)?.and_then(|kept| serde_json::from_slice(&kept).ok()))
}

/// Begins to wait.
///
/// # Errors
/// It could not be written down.
pub async fn await_confirmation(doors: &Arc<Doors>, shared: &Arc<Shared>, waiting: Awaiting) -> Result<(), ServiceError> {
    shared.records.set_meta(KEY, Some(serde_json::to_vec(&waiting).unwrap_or_default())).await?;
    watch(Arc::clone(doors), Arc::clone(shared), waiting);
    Ok(())
}

/// Confirms what waits; gives it.
///
/// # Errors
/// Nothing waits.
pub async fn confirm(shared: &Shared) -> Result<Awaiting, ServiceError> {
    let waiting = awaiting(shared)?.ok_or_else(|| ServiceError::Refused {
        what: "no revision waits to be confirmed".into(),
        remedy: "see `bivector site history`; it may have gone back already".into(),
    })?;
    shared.records.set_meta(KEY, None).await?;
    Ok(waiting)
}

/// Takes up again, at start, what waited when the service ended.
///
/// # Errors
/// The records cannot be read.
pub fn take_up(doors: &Arc<Doors>, shared: &Arc<Shared>) -> Result<(), ServiceError> {
    if let Some(waiting) = awaiting(shared)? {
        watch(Arc::clone(doors), Arc::clone(shared), waiting);
    }
    Ok(())
}

fn watch(doors: Arc<Doors>, shared: Arc<Shared>, waiting: Awaiting) {
    let left = Moment::from_micros(waiting.until_us).since(clock::now());
    tokio::spawn(async move {
        tokio::time::sleep(left).await;
        while let Err(error) = go_back(&doors, &shared, &waiting).await {
            tracing::error!(%error, remedy = error.remedy(), "the revision that nobody confirmed could not be taken back yet");
            tokio::time::sleep(Duration::from_secs(5)).await;
        }
    });
}

async fn go_back(doors: &Arc<Doors>, shared: &Arc<Shared>, waiting: &Awaiting) -> Result<(), ServiceError> {
    if awaiting(shared)?.as_ref() != Some(waiting) {
        return Ok(());
    }
    let before = shared.records.revision(waiting.back_to).await?.and_then(|revision| revision.text).unwrap_or_default();
    let change = Change {
        text: before,
        operator: BY_ITSELF.into(),
        note: format!("back to revision {}: nobody confirmed revision {}", waiting.back_to, waiting.revision),
        // Where nothing is active, as after a start that could not open its doors, going back mends it.
        expected: shared.live.load().as_ref().map(|_| waiting.revision),
        weaker_is_meant: true,
        while_unconfirmed: true,
        prove: None,
    };
    match doors.apply(change, shared).await {
        Ok(applied) => {
            shared.records.set_meta(KEY, None).await?;
            let detail = format!("revision {} in place of {}, which nobody confirmed", applied.revision, waiting.revision);
            shared.audit(Deed { operator: BY_ITSELF.into(), sender: String::new(), what: "site.go-back", detail }).await?;
            tracing::warn!(revision = applied.revision, unconfirmed = waiting.revision, "went back: nobody confirmed the change");
            Ok(())
        }
        // Somebody was faster; what is active now is theirs.
        Err(ServiceError::RevisionMoved { .. }) => Ok(shared.records.set_meta(KEY, None).await?),
        Err(error) => Err(error),
    }
}
