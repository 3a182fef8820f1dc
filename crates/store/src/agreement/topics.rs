//! Topics in memory: each gets one value, and whoever waits for it is told.

use bivector_model::Moment;
use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, Mutex};
use tokio::sync::watch;

/// Topics with a value that are kept; each takes some 300 bytes. Beyond that the one that expires first makes room.
const KEPT: usize = 65_536;

/// Small: thousands are waited for at one time.
#[derive(Debug, Default)]
struct Topic {
    value: Option<Arc<[u8]>>,
    /// Made when somebody waits.
    told: Option<watch::Sender<()>>,
}

#[derive(Debug, Default)]
struct Inside {
    topics: HashMap<u64, Topic>,
    /// Topics with a value, by their end.
    ends: BTreeSet<(Moment, u64)>,
}

#[derive(Debug, Default)]
pub(super) struct Topics {
    inside: Mutex<Inside>,
}

impl Topics {
    pub(super) fn publish(&self, topic: u64, value: Vec<u8>, until: Moment, now: Moment) -> bool {
        let Ok(mut inside) = self.inside.lock() else { return false };
        while inside.ends.first().is_some_and(|(end, _)| *end <= now) || inside.ends.len() >= KEPT {
            let Some((_, ended)) = inside.ends.pop_first() else { break };
            inside.topics.remove(&ended);
        }
        let known = inside.topics.entry(topic).or_default();
        if known.value.is_some() {
            return false;
        }
        known.value = Some(value.into());
        // Dropped, it tells everybody.
        known.told = None;
        inside.ends.insert((until, topic));
        true
    }

    /// The value, if there is one; otherwise what tells of it.
    fn look(&self, topic: u64) -> Result<Arc<[u8]>, Option<watch::Receiver<()>>> {
        let Ok(mut inside) = self.inside.lock() else { return Err(None) };
        let known = inside.topics.entry(topic).or_default();
        match &known.value {
            Some(value) => Ok(Arc::clone(value)),
            None => Err(Some(known.told.get_or_insert_with(|| watch::Sender::new(())).subscribe())),
        }
    }

    pub(super) async fn published(&self, topic: u64) -> Arc<[u8]> {
        let _forget = Forget { topics: self, topic };
        loop {
            match self.look(topic) {
                Ok(value) => return value,
                Err(Some(mut told)) => while told.changed().await.is_ok() {},
                Err(None) => std::future::pending().await,
            }
        }
    }
}

/// Forgets a topic that nobody waits for any more and that has no value.
struct Forget<'a> {
    topics: &'a Topics,
    topic: u64,
}

impl Drop for Forget<'_> {
    fn drop(&mut self) {
        let Ok(mut inside) = self.topics.inside.lock() else { return };
        let idle = |known: &Topic| known.value.is_none() && known.told.as_ref().is_none_or(|told| told.receiver_count() == 0);
        if inside.topics.get(&self.topic).is_some_and(idle) {
            inside.topics.remove(&self.topic);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_is_over_or_not_waited_for_takes_no_room() {
        let (topics, at) = (Topics::default(), Moment::from_secs);
        for topic in 0..100 {
            assert!(topics.publish(topic, vec![1], at(10), at(1)));
        }
        assert!(topics.publish(100, vec![1], at(30), at(20)));
        let waited = tokio::time::timeout(std::time::Duration::ZERO, topics.published(7)).await;
        assert!(waited.is_err(), "it has expired");
        assert_eq!(topics.inside.lock().unwrap().topics.len(), 1);
        for topic in 0..=KEPT as u64 {
            topics.publish(1_000 + topic, Vec::new(), at(50), at(20));
        }
        assert!(topics.inside.lock().unwrap().topics.len() <= KEPT);
    }
}
