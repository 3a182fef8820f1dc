//! How many codes were sent lately: to each person in an hour, to all in a minute.

use bivector_model::Moment;
use bivector_site::Sending;
use std::collections::{HashMap, VecDeque};
use std::sync::Mutex;
use std::time::Duration;

const HOUR: Duration = Duration::from_secs(3600);
const MINUTE: Duration = Duration::from_secs(60);

/// Counts codes that are sent. Kept in memory: a restart gives everybody a fresh hour.
#[derive(Debug, Default)]
pub struct Sendings {
    recent: Mutex<Recent>,
}

#[derive(Debug, Default)]
struct Recent {
    /// When each person's codes of the last hour left.
    by_person: HashMap<String, VecDeque<Moment>>,
    all: VecDeque<Moment>,
}

impl Sendings {
    /// Counts one more code for a person, or says which limit it would break.
    pub fn take(&self, person: &str, limits: &Sending, now: Moment) -> Option<String> {
        let Ok(mut recent) = self.recent.lock() else { return Some("the count of sent codes is broken".into()) };
        let recent = &mut *recent;
        forget(&mut recent.all, MINUTE, now);
        recent.by_person.retain(|_, times| {
            forget(times, HOUR, now);
            !times.is_empty()
        });
        let own = recent.by_person.get(person).map_or(0, VecDeque::len);
        if own >= limits.per_person as usize {
            return Some(format!("{own} codes were sent to this person within an hour, as many as the site allows"));
        }
        if recent.all.len() >= limits.per_minute as usize {
            return Some(format!("{} codes were sent within a minute, as many as the site allows", recent.all.len()));
        }
        recent.all.push_back(now);
        recent.by_person.entry(person.to_owned()).or_default().push_back(now);
        None
    }
}

fn forget(times: &mut VecDeque<Moment>, kept: Duration, now: Moment) {
    while times.front().is_some_and(|time| now.since(*time) >= kept) {
        times.pop_front();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_hold_for_each_person_and_for_all_and_end_with_time() {
        let limits = Sending { per_person: 2, per_minute: 3, ..Sending::default() };
        let (sendings, at) = (Sendings::default(), |secs: u64| Moment::from_secs(1_800_000_000 + secs));
        assert_eq!((sendings.take("ines", &limits, at(0)), sendings.take("ines", &limits, at(1))), (None, None));
        assert!(sendings.take("ines", &limits, at(2)).unwrap().contains("this person"));
        assert_eq!(sendings.take("pell", &limits, at(3)), None);
        assert!(sendings.take("yuki", &limits, at(4)).unwrap().contains("within a minute"));
        assert_eq!(sendings.take("yuki", &limits, at(61)), None);
        assert_eq!(sendings.take("ines", &limits, at(3601)), None);
    }
}
