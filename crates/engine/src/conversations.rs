//! Logins that wait at a prompt, or whose answer is being decided: one login over all its rounds. The trace of the rounds so far is kept
//! here, so that the next round goes on with it; the records hold the first round meanwhile, and the whole once it ends.

use bivector_model::Moment;
use bivector_model::facts::Facts;
use bivector_model::trace::{Step, Trace};
use bivector_store::records::Records;
use std::collections::{BTreeSet, HashMap};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// Traces that are kept in memory; each takes two to four KiB. Those of others are read from the records once they are needed.
const TRACES: usize = 8192;
/// Logins that are known to wait. Of more, the records keep the first round as it is, and nobody ends them when their prompt expires.
const LOGINS: usize = 131_072;
/// How long after its end a prompt's answer may still arrive by our own clock.
const GRACE: Duration = Duration::from_secs(1);
/// How long the answer to a prompt may be decided: longer than anybody is waited for.
const ANSWERING: Duration = Duration::from_secs(900);

/// Logins between their first request and their verdict.
#[derive(Debug, Default)]
pub struct Conversations {
    table: Mutex<Table>,
}

#[derive(Debug, Default)]
struct Table {
    open: HashMap<String, Open>,
    /// When each ends, the soonest first.
    ends: BTreeSet<(u64, String)>,
    /// Those of them that have their trace here, so that finding one to evict takes no search.
    traces: BTreeSet<(u64, String)>,
}

#[derive(Debug)]
struct Open {
    /// The number under which the records hold the trace.
    id: u64,
    ends_us: u64,
    trace: Option<Box<Trace>>,
    /// Whether the records hold less than the trace here.
    unwritten: bool,
    answering: bool,
}

/// A login that has ended without a word.
#[derive(Debug)]
pub struct Expired {
    /// Its reference.
    pub reference: String,
    /// The number under which the records hold the trace.
    pub id: u64,
    /// Its trace, if that is in memory.
    pub trace: Option<Box<Trace>>,
    /// Whether an answer had come.
    pub answering: bool,
}

impl Expired {
    /// Its trace with its end; `found` is what the records hold.
    pub fn ended(self, found: impl FnOnce(&str) -> Option<Trace>, now: Moment) -> Option<Trace> {
        let trace = self.trace.map(|trace| *trace).or_else(|| found(&self.reference))?;
        Some(if self.answering { trace.unfinished(now) } else { trace.unanswered(now) })
    }
}

/// A trace that no longer has room here, and the number under which the records hold less of it.
pub type Evicted = (u64, Box<Trace>);

impl Conversations {
    fn table(&self) -> MutexGuard<'_, Table> {
        self.table.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A login waits at its first prompt; the records hold its trace under `id`.
    pub fn begin(&self, id: u64, trace: Trace) -> Option<Evicted> {
        let mut table = self.table();
        if table.open.len() >= LOGINS {
            return None;
        }
        let (reference, ends_us) = (trace.reference.clone(), ends_of(&trace.facts));
        table.insert(reference, Open { id, ends_us, trace: Some(Box::new(trace)), unwritten: false, answering: false });
        table.evict()
    }

    /// As [`Conversations::begin`], for a login of which the records hold everything.
    pub fn restore(&self, id: u64, reference: String, facts: &Facts) {
        let mut table = self.table();
        if table.open.len() < LOGINS && !table.open.contains_key(&reference) {
            table.insert(reference, Open { id, ends_us: ends_of(facts), trace: None, unwritten: false, answering: false });
        }
    }

    /// Takes up the logins that waited when the service ended and that began at or after a moment. Traces that cannot be read stop no start.
    pub fn restore_all(&self, records: &Records, since: Moment) {
        match records.waiting_logins(since.micros()) {
            Ok(waiting) => waiting.into_iter().for_each(|(row, facts)| self.restore(row.id, row.reference, &facts)),
            Err(error) => tracing::warn!(%error, "logins that waited at a prompt could not be read; they are listed as waiting"),
        }
    }

    /// A login waits at a further prompt: gives its number, if it is known here.
    pub fn goes_on(&self, trace: &Trace) -> Option<(u64, Option<Evicted>)> {
        let mut table = self.table();
        let id = table.remove(&trace.reference)?.id;
        let ends_us = ends_of(&trace.facts);
        table
            .insert(trace.reference.clone(), Open { id, ends_us, trace: Some(Box::new(trace.clone())), unwritten: true, answering: false });
        Some((id, table.evict()))
    }

    /// The answer to a prompt has come: gives the trace of the rounds before, if it is here.
    pub fn answered(&self, reference: &str, now: Moment) -> Option<Box<Trace>> {
        let mut table = self.table();
        let mut open = table.remove(reference)?;
        (open.answering, open.ends_us) = (true, now.plus(ANSWERING).micros());
        let trace = open.trace.clone();
        table.insert(reference.to_owned(), open);
        trace
    }

    /// An answer was none of this login's (too late, or somebody else's), or what decided it broke down: nothing more can come, since a
    /// prompt is answered once. The login ends with the next look.
    pub fn not_taken_up(&self, reference: &str, broke_down: bool, now: Moment) {
        let mut table = self.table();
        if let Some(mut open) = table.remove(reference) {
            (open.answering, open.ends_us) = (broke_down, now.micros());
            table.insert(reference.to_owned(), open);
        }
    }

    /// A login has its verdict: gives the number under which the records hold its first round.
    pub fn ended(&self, reference: &str) -> Option<u64> {
        self.table().remove(reference).map(|open| open.id)
    }

    /// Adds a step to the trace of a login that waits; `false` if it does not.
    pub fn add_step(&self, reference: &str, step: &Step) -> bool {
        let mut table = self.table();
        let Some(open) = table.open.get_mut(reference) else { return false };
        let Some(trace) = &mut open.trace else { return false };
        trace.steps.push(step.clone());
        open.unwritten = true;
        true
    }

    /// The trace of a login that waits, with its number, if the records hold less of it.
    pub fn find(&self, reference: &str) -> Option<Evicted> {
        let table = self.table();
        let open = table.open.get(reference).filter(|open| open.unwritten)?;
        Some((open.id, open.trace.clone()?))
    }

    /// Takes out what nobody has answered, or what has never come to an end.
    pub fn expired(&self, now: Moment) -> Vec<Expired> {
        let mut table = self.table();
        let mut expired = Vec::new();
        while let Some((ends_us, reference)) = table.ends.first().cloned()
            && ends_us < now.micros()
        {
            if let Some(Open { id, trace, answering, .. }) = table.remove(&reference) {
                expired.push(Expired { reference, id, trace, answering });
            }
        }
        expired
    }

    /// What the records hold less of, to be written before the service ends.
    pub fn unwritten(&self) -> Vec<Evicted> {
        let table = self.table();
        let unwritten = table.open.values().filter(|open| open.unwritten);
        unwritten.filter_map(|open| Some((open.id, open.trace.clone()?))).collect()
    }

    /// How many logins wait.
    pub fn count(&self) -> usize {
        self.table().open.len()
    }
}

fn ends_of(facts: &Facts) -> u64 {
    Moment::from_micros(facts.open_until_us.unwrap_or_default()).plus(GRACE).micros()
}

impl Table {
    fn insert(&mut self, reference: String, open: Open) {
        if open.trace.is_some() {
            self.traces.insert((open.ends_us, reference.clone()));
        }
        self.ends.insert((open.ends_us, reference.clone()));
        self.open.insert(reference, open);
    }

    fn remove(&mut self, reference: &str) -> Option<Open> {
        let open = self.open.remove(reference)?;
        let key = (open.ends_us, reference.to_owned());
        self.ends.remove(&key);
        self.traces.remove(&key);
        Some(open)
    }

    /// Takes the trace out of memory that ends the soonest, where there are too many.
    fn evict(&mut self) -> Option<Evicted> {
        if self.traces.len() <= TRACES {
            return None;
        }
        let (_, reference) = self.traces.pop_first()?;
        let open = self.open.get_mut(&reference)?;
        let trace = open.trace.take();
        std::mem::take(&mut open.unwritten).then(|| trace.map(|trace| (open.id, trace))).flatten()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_model::Cause;
    use bivector_model::trace::Outcome;

    const NOON: Moment = Moment::from_secs(1_800_000_000);

    fn at(seconds: u64) -> Moment {
        NOON.plus(Duration::from_secs(seconds))
    }

    fn waiting(reference: &str, until: Moment) -> Trace {
        let mut trace = Trace { reference: reference.into(), began_us: NOON.micros(), outcome: Outcome::Challenged, ..Trace::default() };
        trace.facts.open_until_us = Some(until.micros());
        trace
    }

    fn no_record(_: &str) -> Option<Trace> {
        None
    }

    #[test]
    fn a_prompt_that_nobody_answers_ends_its_login_when_it_expires_and_not_before() {
        let open = Conversations::default();
        open.begin(4, waiting("A", at(60)));
        assert!(open.expired(at(60)).is_empty(), "an answer on its last second may still be on its way");
        let expired = open.expired(at(62)).pop().unwrap();
        assert_eq!(expired.id, 4);
        let trace = expired.ended(no_record, at(62)).unwrap();
        assert_eq!((trace.outcome, trace.cause), (Outcome::Refused, Some(Cause::PromptUnanswered)));
        assert_eq!((trace.took_us, trace.facts.open_until_us), (60_000_000, None), "it ended with the prompt");
        assert_eq!(open.count(), 0);
    }

    #[test]
    fn an_answer_takes_up_the_trace_and_its_verdict_ends_the_login_once() {
        let open = Conversations::default();
        open.begin(4, waiting("A", at(60)));
        let before = open.answered("A", at(5)).unwrap();
        assert_eq!(before.reference, "A");
        assert!(open.expired(at(70)).is_empty(), "its answer is being decided");
        assert_eq!((open.ended("A"), open.ended("A")), (Some(4), None));
    }

    #[test]
    fn a_further_prompt_keeps_the_number_and_is_written_before_the_service_ends() {
        let open = Conversations::default();
        open.begin(4, waiting("A", at(60)));
        open.answered("A", at(5));
        assert_eq!(open.goes_on(&waiting("A", at(65))).map(|(id, _)| id), Some(4));
        assert!(open.expired(at(63)).is_empty(), "the second prompt has its own time");
        assert_eq!(open.unwritten().len(), 1);
        assert_eq!(open.find("A").map(|(id, _)| id), Some(4));
        assert!(open.goes_on(&waiting("B", at(65))).is_none(), "nothing is known of that one");
    }

    #[test]
    fn an_answer_that_nothing_comes_of_ends_as_unfinished() {
        let open = Conversations::default();
        open.begin(4, waiting("A", at(60)));
        open.answered("A", at(5));
        let expired = open.expired(at(1000)).pop().unwrap();
        assert_eq!(expired.ended(no_record, at(1000)).unwrap().cause, Some(Cause::Unfinished));
    }

    #[test]
    fn a_login_whose_prompt_was_answered_by_somebody_else_or_too_late_ends_with_the_next_look() {
        let open = Conversations::default();
        for (reference, broke_down, cause) in [("A", false, Cause::PromptUnanswered), ("B", true, Cause::Unfinished)] {
            open.begin(4, waiting(reference, at(60)));
            open.answered(reference, at(5));
            open.not_taken_up(reference, broke_down, at(6));
            let expired = open.expired(at(7)).pop().unwrap();
            assert_eq!(expired.ended(no_record, at(7)).unwrap().cause, Some(cause));
        }
    }

    #[test]
    fn traces_beyond_the_bound_leave_memory_and_are_read_from_the_records() {
        let open = Conversations::default();
        for number in 0..TRACES as u64 + 3 {
            open.begin(number, waiting(&number.to_string(), at(60 + number)));
        }
        assert_eq!((open.count(), open.table().traces.len()), (TRACES + 3, TRACES));
        assert!(open.answered("0", at(1)).is_none() && open.answered("9", at(1)).is_some());
        let expired = open.expired(at(1500)).into_iter().find(|expired| expired.reference == "1").unwrap();
        assert_eq!(expired.reference, "1");
        assert!(expired.ended(|reference| Some(waiting(reference, at(61))), at(63)).is_some());
    }

    #[test]
    fn what_a_handset_says_too_late_is_told_in_the_trace_of_the_login_that_waits() {
        let open = Conversations::default();
        open.begin(4, waiting("A", at(60)));
        assert!(open.add_step("A", &Step::afterwards("late answer", Duration::from_secs(3), "it came too late".into())));
        assert_eq!(open.answered("A", at(5)).unwrap().steps.len(), 1);
        assert!(!open.add_step("B", &Step::afterwards("late answer", Duration::from_secs(3), String::new())));
    }
}
