//! Codes that are held: marked on disk while the password beside them is being checked, and given back where that was wrong.

use super::steps::UsedStep;
use super::writer::Job;
use super::{Agreement, Marked, Records, RecordsError};
use bivector_core::login::CodeMark;
use bivector_model::Moment;
use bivector_model::device::Used;
use rusqlite::Transaction;
use std::sync::Arc;
use tokio::runtime::Handle;
use tokio::sync::oneshot;
use tokio::sync::oneshot::error::TryRecvError;

/// A code that is being held for one login.
#[derive(Debug)]
pub struct HeldCode {
    records: Records,
    used: UsedStep,
    /// Gets the hold's number once that is on disk, if it is held. Gone when the code is used.
    told: Option<oneshot::Receiver<Option<u64>>>,
}

impl HeldCode {
    /// Whether that is the code to mark.
    pub fn is_for(&self, mark: &CodeMark) -> bool {
        matches!(mark.device, Some((device, Used::Step { step, .. })) if (device, step) == (self.used.device, self.used.step))
    }
}

impl Drop for HeldCode {
    fn drop(&mut self) {
        let Some(mut told) = self.told.take() else { return };
        let (records, used) = (self.records.clone(), self.used);
        let give_back = move |number| records.writer.send_soon(give_back(&records, used, number));
        match (told.try_recv(), Handle::try_current()) {
            (Ok(Some(number)), _) => give_back(number),
            (Err(TryRecvError::Empty), Ok(handle)) => drop(handle.spawn(async move {
                if let Ok(Some(number)) = told.await {
                    give_back(number);
                }
            })),
            // It was not held, or the service ends.
            _ => {}
        }
    }
}

fn give_back(records: &Records, used: UsedStep, number: u64) -> Job {
    let remembered = Arc::clone(&records.remembered);
    Job::new(move |transaction| remembered.give_back(transaction, used, number), drop).together()
}

impl Agreement {
    /// Holds a code by time while something else is being checked, so that its mark is on disk by then. Whoever uses it first has it, here
    /// or elsewhere; dropped, it is free again, unless the service has died meanwhile. Other codes are not held, and neither are those of
    /// people who typed wrong ones before.
    pub fn hold(&self, person: &str, (device, used): (u64, Used), now: Moment) -> Option<HeldCode> {
        let Used::Step { step, until, drift } = used else { return None };
        let used = UsedStep { device, step, drift, until_us: until.micros(), at_us: now.micros() };
        let (tell, told) = oneshot::channel();
        let (remembered, person) = (Arc::clone(&self.records.remembered), person.to_owned());
        let hold = move |transaction: &Transaction<'_>| match remembered.may_have_been_wrong(transaction, &person)? {
            true => Ok(None),
            false => remembered.hold_step(transaction, used),
        };
        // What could not be written is not held.
        let after = move |number: Result<Option<u64>, RecordsError>| {
            let _ = tell.send(number.unwrap_or(None));
        };
        self.records.writer.send_soon(Job::new(hold, after).together());
        Some(HeldCode { records: self.records.clone(), used, told: Some(told) })
    }

    /// Takes a code out of use that is held: at once, if that is on disk by now. As [`Agreement::use_code`] where it is not held, or not any
    /// more, and where the person has typed a wrong one meanwhile, so that a right one among many guesses at once counts only before the
    /// lock.
    ///
    /// # Errors
    /// It could not be written. Then nobody may get in by it.
    pub async fn use_held(&self, mut held: HeldCode, mark: CodeMark, now: Moment) -> Result<Marked, RecordsError> {
        let number = match &mut held.told {
            Some(told) => told.await.unwrap_or(None),
            None => None,
        };
        held.told = None;
        let (remembered, used) = (Arc::clone(&self.records.remembered), held.used);
        if !number.is_some_and(|number| remembered.end_hold(used, number, &mark.person)) {
            let marked = self.use_code(mark, now).await;
            // It has ended by that, unless the person is locked.
            number.into_iter().for_each(|number| self.records.writer.send_soon(give_back(&self.records, used, number)));
            return marked;
        }
        // That the code is taken is on disk. What its device is at besides may be lost with the power.
        self.records.writer.with_the_next(Job::new(move |transaction| remembered.note_used(transaction, used), drop).together());
        Ok(Marked::Now(Some(used.state())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::factors::tests::{FIVE, NOON, mark, records_with, wrong};
    use crate::records::{FactorSettings, Sync};
    use bivector_core::login::WrongTry;
    use bivector_model::device::CodeKind;
    use std::time::Duration;

    #[tokio::test(flavor = "multi_thread")]
    async fn a_held_code_is_whose_uses_it_first_or_given_back_and_stays_taken_after_a_crash() {
        let (folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
        let agreement = Agreement::new(records.clone());
        let step = |step| Used::Step { step, until: Moment::from_secs(1_900_000_000), drift: 2 };
        let hold = |number| agreement.hold("tidehall:ines", (1, step(number)), NOON).unwrap();
        for number in 90..100 {
            let held = hold(number);
            if number % 2 == 0 {
                records.write_together(|_| Ok(())).await.unwrap();
                assert!(records.factor_states().unwrap().get(&1).is_none_or(|state| state.last_used_us.is_none()), "nobody got in by it");
            }
            drop(held);
        }
        let again = agreement.use_held(hold(90), mark(1, step(90)), NOON).await.unwrap();
        assert!(matches!(again, Marked::Now(Some(state)) if state.drift == 2), "it was given back: {again:?}");
        let (first, second) = (hold(100), hold(100));
        let used = agreement.use_held(second, mark(1, step(100)), NOON).await.unwrap();
        assert!(matches!(used, Marked::Now(_)), "whose password is right first has it: {used:?}");
        assert_eq!(agreement.use_held(first, mark(1, step(100)), NOON).await.unwrap(), Marked::Before);
        let first = hold(101);
        assert!(matches!(agreement.use_code(mark(1, step(101)), NOON).await.unwrap(), Marked::Now(_)));
        drop(first);
        let on_its_way = hold(103);
        assert!(matches!(agreement.use_code(mark(1, step(102)), NOON).await.unwrap(), Marked::Now(_)));
        records.writer.stop();
        drop(on_its_way);
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let state = records.factor_states().unwrap()[&1];
        assert_eq!((state.drift, state.last_used_us), (2, Some(NOON.micros())));
        let agreement = Agreement::new(records);
        for number in [90, 100, 101, 102, 103] {
            assert_eq!(agreement.use_code(mark(1, step(number)), NOON).await.unwrap(), Marked::Before, "{number}");
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_held_code_does_not_pass_a_lock_by_and_codes_that_are_counted_are_not_held() {
        let (_folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
        let agreement = Agreement::new(records);
        let right = Used::Step { step: 9, until: Moment::from_secs(1_900_000_000), drift: 0 };
        let held = agreement.hold("tidehall:ines", (1, right), NOON).unwrap();
        for _ in 0..5 {
            agreement.count_wrong(wrong(WrongTry::CODE), FIVE, NOON).await.unwrap();
        }
        let locked_until = NOON.plus(FIVE.time);
        assert_eq!(agreement.use_held(held, mark(1, right), NOON).await.unwrap(), Marked::Locked(locked_until), "five guesses came before");
        let later = locked_until.plus(Duration::from_secs(1));
        for wanted in [true, false] {
            let held = agreement.hold("tidehall:ines", (1, right), later).unwrap();
            let marked = agreement.use_held(held, mark(1, right), later).await.unwrap();
            assert_eq!(matches!(marked, Marked::Now(_)), wanted, "it is marked as ever: {marked:?}");
        }
        for counted in [Used::Counter(7), Used::Entry(1), Used::Turn, Used::Approval] {
            assert!(agreement.hold("tidehall:ines", (1, counted), NOON).is_none(), "{counted:?}");
        }
    }
}
