//! Old traces make room, a few at a time and aside from logins.

use crate::clock;
use crate::records::prune_traces;
use crate::shared::Shared;
use std::sync::Weak;
use std::time::Duration;

/// How often it is looked whether there are too many.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// Takes out what is too old or too much, again and again, until the service ends.
pub(crate) async fn prune(shared: Weak<Shared>) {
    let mut pace = tokio::time::interval(LOOK_EVERY);
    loop {
        pace.tick().await;
        loop {
            let Some(shared) = shared.upgrade() else { return };
            let Some(keeping) = shared.live.load().as_ref().map(|live| live.site.traces) else { break };
            let now = clock::now().micros();
            match shared.records.write(move |transaction| prune_traces(transaction, keeping, now)).await {
                Ok(0) => break,
                Ok(_) => {}
                Err(error) => {
                    tracing::warn!(%error, "old traces could not be taken out");
                    break;
                }
            }
            // Between two steps the writer belongs to the logins.
            tokio::task::yield_now().await;
        }
    }
}
