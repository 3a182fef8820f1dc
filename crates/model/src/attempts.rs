//! Attempts that may be guesses, counted per address, name or person. An attempt counts from its beginning, so that many at once are
//! worth no more than one after the other.
//!
//! Pure bookkeeping in virtual time: who keeps it, and what an attempt is, the service knows.

use crate::moment::Moment;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

/// How many attempts may be wrong, and how long one waits then.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limit {
    /// Wrong ones in a row before the first wait.
    pub free: u32,
    /// The first wait; each further wrong attempt doubles it.
    pub wait: Duration,
    /// The longest wait.
    pub longest: Duration,
    /// After so long without a wrong attempt all are forgotten. At least the longest wait.
    pub forget: Duration,
}

impl Limit {
    /// How long one waits after so many wrong attempts.
    fn wait_after(&self, wrong: u32) -> Duration {
        match wrong.checked_sub(self.free) {
            None => Duration::ZERO,
            Some(doubled) => self.wait.saturating_mul(1u32.checked_shl(doubled).unwrap_or(u32::MAX)).min(self.longest),
        }
    }
}

/// An attempt that may not be made now.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Refused {
    /// Wrong attempts, those that are still undecided included.
    pub wrong: u32,
    /// When the next one may be made.
    pub until: Moment,
}

/// How an attempt ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    /// It was right: wrong ones before it are forgotten.
    Right,
    /// It was wrong.
    Wrong,
    /// It was neither, or it was right but says nothing about those before it: it does not count.
    Uncounted,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Entry {
    wrong: u32,
    open: u32,
    last: Moment,
    /// Whether it keeps anybody waiting: such an entry is the last to be given up.
    waits: bool,
}

/// Attempts by key. The table is bounded: the oldest entry that keeps nobody waiting makes room for a new one, so that a flood of made-up
/// keys never causes somebody else's refusal.
#[derive(Debug)]
pub struct Attempts {
    entries: HashMap<Arc<str>, Entry>,
    /// In the order in which they make room.
    order: BTreeSet<(bool, Moment, Arc<str>)>,
    capacity: usize,
}

impl Attempts {
    /// A table of at most so many keys, each of some 200 bytes.
    pub fn new(capacity: usize) -> Self {
        Attempts { entries: HashMap::new(), order: BTreeSet::new(), capacity: capacity.max(1) }
    }

    /// Begins an attempt, which counts as wrong until [`Attempts::end`] says otherwise.
    ///
    /// # Errors
    /// [`Refused`]: too many were wrong. Nothing is counted then.
    pub fn begin(&mut self, key: &str, limit: &Limit, now: Moment) -> Result<(), Refused> {
        let entry = self.entry(key, limit, now);
        let counted = entry.wrong + entry.open;
        let until = entry.last.plus(limit.wait_after(counted));
        if counted >= limit.free && now < until {
            return Err(Refused { wrong: counted, until });
        }
        self.put(key, Entry { open: entry.open + 1, last: now, ..entry }, limit);
        Ok(())
    }

    /// Begins an attempt that passes the limit for another reason. It counts all the same.
    pub fn begin_anyway(&mut self, key: &str, limit: &Limit, now: Moment) {
        let entry = self.entry(key, limit, now);
        self.put(key, Entry { open: entry.open + 1, last: now, ..entry }, limit);
    }

    /// Ends an attempt that has begun; gives the wrong ones since the last right one, and until when further ones are refused.
    pub fn end(&mut self, key: &str, ended: Ended, limit: &Limit, now: Moment) -> (u32, Option<Moment>) {
        let Some(entry) = self.entries.get(key).copied() else { return (0, None) };
        let open = entry.open.saturating_sub(1);
        let entry = match ended {
            Ended::Right => Entry { open, wrong: 0, ..entry },
            Ended::Wrong => Entry { open, wrong: entry.wrong + 1, last: entry.last.max(now), ..entry },
            Ended::Uncounted => Entry { open, ..entry },
        };
        if entry.open == 0 && entry.wrong == 0 {
            self.remove(key);
        } else {
            self.put(key, entry, limit);
        }
        (entry.wrong, self.until(&entry, limit).filter(|until| *until > now))
    }

    /// Wrong attempts of a key, and until when further ones are refused.
    pub fn state(&self, key: &str, limit: &Limit, now: Moment) -> (u32, Option<Moment>) {
        let entry = self.entries.get(key).filter(|entry| entry.open > 0 || now.since(entry.last) < limit.forget);
        entry.map_or((0, None), |entry| (entry.wrong, self.until(entry, limit).filter(|until| *until > now)))
    }

    /// Takes over what is known from before: `wrong` attempts, the last one at `last`.
    pub fn restore(&mut self, key: &str, wrong: u32, last: Moment, limit: &Limit) {
        let open = self.entries.get(key).map_or(0, |entry| entry.open);
        self.put(key, Entry { wrong, open, last, waits: false }, limit);
    }

    /// Forgets the wrong attempts of a key; `false` if there were none.
    pub fn forget(&mut self, key: &str) -> bool {
        match self.entries.get(key).copied() {
            Some(entry) if entry.open > 0 => {
                self.place(key, Entry { wrong: 0, waits: false, ..entry });
                entry.wrong > 0
            }
            Some(entry) => {
                self.remove(key);
                entry.wrong > 0
            }
            None => false,
        }
    }

    /// Forgets the wrong attempts of all keys that `of` says yes to.
    pub fn forget_where(&mut self, of: impl Fn(&str) -> bool) {
        let keys: Vec<Arc<str>> = self.entries.keys().filter(|key| of(key)).cloned().collect();
        for key in keys {
            self.forget(&key);
        }
    }

    /// Keys in the table.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether nothing is counted.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    fn until(&self, entry: &Entry, limit: &Limit) -> Option<Moment> {
        (entry.wrong >= limit.free).then(|| entry.last.plus(limit.wait_after(entry.wrong)))
    }

    fn entry(&self, key: &str, limit: &Limit, now: Moment) -> Entry {
        let known = self.entries.get(key).copied().filter(|entry| entry.open > 0 || now.since(entry.last) < limit.forget);
        known.unwrap_or(Entry { wrong: 0, open: 0, last: now, waits: false })
    }

    fn put(&mut self, key: &str, entry: Entry, limit: &Limit) {
        self.place(key, Entry { waits: entry.wrong + entry.open >= limit.free, ..entry });
    }

    fn place(&mut self, key: &str, entry: Entry) {
        let key = match self.entries.get_key_value(key) {
            Some((key, before)) => {
                let key = Arc::clone(key);
                self.order.remove(&(before.waits, before.last, Arc::clone(&key)));
                key
            }
            None => {
                while self.entries.len() >= self.capacity {
                    let Some((_, _, oldest)) = self.order.pop_first() else { break };
                    self.entries.remove(&oldest);
                }
                Arc::from(key)
            }
        };
        self.order.insert((entry.waits, entry.last, Arc::clone(&key)));
        self.entries.insert(key, entry);
    }

    fn remove(&mut self, key: &str) {
        if let Some((key, entry)) = self.entries.remove_entry(key) {
            self.order.remove(&(entry.waits, entry.last, key));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const LIMIT: Limit =
        Limit { free: 3, wait: Duration::from_secs(10), longest: Duration::from_secs(60), forget: Duration::from_secs(600) };

    fn at(seconds: u64) -> Moment {
        Moment::from_secs(1_800_000_000 + seconds)
    }

    #[test]
    fn of_a_hundred_attempts_at_once_only_the_free_ones_begin() {
        let mut attempts = Attempts::new(10);
        let begun = (0..100).filter(|_| attempts.begin("ines", &LIMIT, at(0)).is_ok()).count();
        assert_eq!(begun, 3);
        assert_eq!(attempts.begin("pell", &LIMIT, at(0)), Ok(()), "somebody else is not kept waiting");
    }

    #[test]
    fn waits_double_up_to_the_longest_and_end_with_a_right_attempt() {
        let mut attempts = Attempts::new(10);
        let mut now = 0;
        for wanted in [0, 0, 0, 10, 20, 40, 60, 60] {
            let refused = (0..100).find(|wait| attempts.begin("ines", &LIMIT, at(now + wait)).is_ok()).unwrap();
            assert_eq!(refused, wanted);
            now += wanted;
            attempts.end("ines", Ended::Wrong, &LIMIT, at(now));
        }
        now += 60;
        attempts.begin("ines", &LIMIT, at(now)).unwrap();
        assert_eq!(attempts.end("ines", Ended::Right, &LIMIT, at(now)), (0, None));
        assert!(attempts.is_empty());
    }

    #[test]
    fn attempts_that_do_not_count_leave_the_count_as_it_was() {
        let mut attempts = Attempts::new(10);
        for _ in 0..20 {
            attempts.begin("198.51.100.7", &LIMIT, at(0)).unwrap();
            attempts.end("198.51.100.7", Ended::Uncounted, &LIMIT, at(0));
        }
        for _ in 0..2 {
            attempts.begin("198.51.100.7", &LIMIT, at(0)).unwrap();
            attempts.end("198.51.100.7", Ended::Wrong, &LIMIT, at(0));
        }
        attempts.begin("198.51.100.7", &LIMIT, at(1)).unwrap();
        assert_eq!(attempts.end("198.51.100.7", Ended::Uncounted, &LIMIT, at(1)), (2, None), "a right one of somebody else resets nothing");
    }

    #[test]
    fn a_flood_of_made_up_keys_takes_the_place_of_harmless_entries_first() {
        let mut attempts = Attempts::new(8);
        for _ in 0..3 {
            attempts.begin("ines", &LIMIT, at(0)).unwrap();
            attempts.end("ines", Ended::Wrong, &LIMIT, at(0));
        }
        for number in 0..1_000 {
            assert_eq!(attempts.begin(&format!("made-up-{number}"), &LIMIT, at(1)), Ok(()), "nobody is refused for a full table");
            attempts.end(&format!("made-up-{number}"), Ended::Wrong, &LIMIT, at(1));
        }
        assert_eq!(attempts.len(), 8);
        assert!(attempts.begin("ines", &LIMIT, at(1)).is_err(), "whoever must wait still waits");
    }

    #[test]
    fn all_is_forgotten_after_a_while_and_what_was_known_before_can_be_taken_over() {
        let mut attempts = Attempts::new(8);
        attempts.restore("ines", 5, at(0), &LIMIT);
        assert_eq!(attempts.state("ines", &LIMIT, at(1)), (5, Some(at(40))));
        assert!(attempts.begin("ines", &LIMIT, at(39)).is_err());
        assert!(attempts.forget("ines") && !attempts.forget("ines"));
        attempts.restore("ines", 5, at(0), &LIMIT);
        assert_eq!(attempts.state("ines", &LIMIT, at(600)), (0, None));
        attempts.begin("ines", &LIMIT, at(600)).unwrap();
        assert_eq!(attempts.end("ines", Ended::Wrong, &LIMIT, at(600)), (1, None));
    }

    proptest! {
        /// However attempts interleave, no more than the free ones and one for each wait that is over are ever made.
        #[test]
        fn no_interleaving_makes_more_attempts_than_the_limit_allows(steps in prop::collection::vec((0u8..3, 0u64..30), 1..200)) {
            let mut attempts = Attempts::new(4);
            let (mut now, mut open, mut wrong, mut last): (u64, u32, u32, u64) = (0, 0, 0, 0);
            for (what, later) in steps {
                now += later;
                match what {
                    0 | 1 => {
                        let may = wrong + open < LIMIT.free || now >= last + LIMIT.wait_after(wrong + open).as_secs();
                        prop_assert_eq!(attempts.begin("ines", &LIMIT, at(now)).is_ok(), may);
                        if may { (open, last) = (open + 1, now); }
                    }
                    _ if open > 0 => {
                        attempts.end("ines", Ended::Wrong, &LIMIT, at(now));
                        (open, wrong, last) = (open - 1, wrong + 1, now);
                    }
                    _ => {}
                }
            }
        }
    }
}
