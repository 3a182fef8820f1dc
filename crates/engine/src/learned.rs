//! What the newest recorded logins show of gateways and people, read again when it is asked for and a while has passed.

use bivector_store::records::{Records, RecordsError};
use bivector_timing::budget::Learned;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How long what was read counts.
const FRESH: Duration = Duration::from_secs(30);

/// What was read last, and when.
#[derive(Debug, Default)]
pub struct LearnedCache {
    last: Mutex<Option<(Instant, Arc<Learned>)>>,
}

impl LearnedCache {
    /// What is known, at most half a minute old.
    ///
    /// # Errors
    /// The records cannot be read.
    pub async fn get(&self, records: &Records) -> Result<Arc<Learned>, RecordsError> {
        let known = self.last.lock().ok().and_then(|last| last.clone());
        if let Some((at, learned)) = known
            && at.elapsed() < FRESH
        {
            return Ok(learned);
        }
        let learned = Arc::new(records.learned().await?);
        if let Ok(mut last) = self.last.lock() {
            *last = Some((Instant::now(), Arc::clone(&learned)));
        }
        Ok(learned)
    }
}
