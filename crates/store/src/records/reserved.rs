//! Reserved codes: marked on disk while the password beside them is being checked, and released where that was wrong.

use super::steps::UsedStep;
use super::writer::Job;
use super::{Marked, Records, RecordsError};
use crate::agreement::{Answer, Reserved};
use bivector_core::login::CodeMark;
use bivector_model::Moment;
use bivector_model::device::Used;
use rusqlite::Transaction;
use std::sync::Arc;
use tokio::runtime::Handle;
use tokio::sync::oneshot;
use tokio::sync::oneshot::error::TryRecvError;

/// A code that is reserved for one login, or on its way to be.
#[derive(Debug)]
pub(crate) struct ReservedCode {
    records: Records,
    used: UsedStep,
    /// Gets the hold's number once that is on disk, if it is held. Gone when the code is used.
    told: Option<oneshot::Receiver<Option<u64>>>,
}

impl Reserved for ReservedCode {
    fn is_for(&self, mark: &CodeMark) -> bool {
        matches!(mark.device, Some((device, Used::Step { step, .. })) if (device, step) == (self.used.device, self.used.step))
    }

    fn commit(self: Box<Self>, mark: CodeMark, now: Moment) -> Answer<'static, Marked> {
        Box::pin(async move {
            let records = self.records.clone();
            records.commit(*self, mark, now).await
        })
    }
}

impl Drop for ReservedCode {
    fn drop(&mut self) {
        let Some(mut told) = self.told.take() else { return };
        let (records, used) = (self.records.clone(), self.used);
        let release = move |number| records.writer.send_soon(release(&records, used, number));
        match (told.try_recv(), Handle::try_current()) {
            (Ok(Some(number)), _) => release(number),
            (Err(TryRecvError::Empty), Ok(handle)) => drop(handle.spawn(async move {
                if let Ok(Some(number)) = told.await {
                    release(number);
                }
            })),
            // It was not held, or the service ends.
            _ => {}
        }
    }
}

fn release(records: &Records, used: UsedStep, number: u64) -> Job {
    let remembered = Arc::clone(&records.remembered);
    Job::new(move |transaction| remembered.release(transaction, used, number), drop).together()
}

impl Records {
    /// See [`crate::agreement::Agreement::reserve`]: only codes by time are, and not those of people who typed wrong ones before.
    pub(crate) fn reserve(&self, person: &str, (device, used): (u64, Used), now: Moment) -> Option<ReservedCode> {
        let Used::Step { step, until, drift } = used else { return None };
        let used = UsedStep { device, step, drift, until_us: until.micros(), at_us: now.micros() };
        let (tell, told) = oneshot::channel();
        let (remembered, person) = (Arc::clone(&self.remembered), person.to_owned());
        let hold = move |transaction: &Transaction<'_>| match remembered.may_have_been_wrong(transaction, &person)? {
            true => Ok(None),
            false => remembered.reserve_step(transaction, used),
        };
        // What could not be written is not reserved.
        let after = move |number: Result<Option<u64>, RecordsError>| {
            let _ = tell.send(number.unwrap_or(None));
        };
        self.writer.send_soon(Job::new(hold, after).together());
        Some(ReservedCode { records: self.clone(), used, told: Some(told) })
    }

    /// See [`Reserved::commit`]: at once, if the reservation is on disk by now.
    pub(super) async fn commit(&self, mut held: ReservedCode, mark: CodeMark, now: Moment) -> Result<Marked, RecordsError> {
        let number = match &mut held.told {
            Some(told) => told.await.unwrap_or(None),
            None => None,
        };
        held.told = None;
        let (remembered, used) = (Arc::clone(&self.remembered), held.used);
        if !number.is_some_and(|number| remembered.end_reservation(used, number, &mark.person)) {
            let marked = self.use_code(mark, now).await;
            // It has ended by that, unless the person is locked.
            number.into_iter().for_each(|number| self.writer.send_soon(release(self, used, number)));
            return marked;
        }
        // That the code is taken is on disk. What its device is at besides may be lost with the power.
        self.writer.with_the_next(Job::new(move |transaction| remembered.note_used(transaction, used), drop).together());
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
        let agreement = records.clone();
        let step = |step| Used::Step { step, until: Moment::from_secs(1_900_000_000), drift: 2 };
        let hold = |number| agreement.reserve("tidehall:ines", (1, step(number)), NOON).unwrap();
        for number in 90..100 {
            let held = hold(number);
            if number % 2 == 0 {
                records.write_together(|_| Ok(())).await.unwrap();
                assert!(records.factor_states().unwrap().get(&1).is_none_or(|state| state.last_used_us.is_none()), "nobody got in by it");
            }
            drop(held);
        }
        let again = agreement.commit(hold(90), mark(1, step(90)), NOON).await.unwrap();
        assert!(matches!(again, Marked::Now(Some(state)) if state.drift == 2), "it was given back: {again:?}");
        let (first, second) = (hold(100), hold(100));
        let used = agreement.commit(second, mark(1, step(100)), NOON).await.unwrap();
        assert!(matches!(used, Marked::Now(_)), "whose password is right first has it: {used:?}");
        assert_eq!(agreement.commit(first, mark(1, step(100)), NOON).await.unwrap(), Marked::Before);
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
        let agreement = records;
        for number in [90, 100, 101, 102, 103] {
            assert_eq!(agreement.use_code(mark(1, step(number)), NOON).await.unwrap(), Marked::Before, "{number}");
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_held_code_does_not_pass_a_lock_by_and_codes_that_are_counted_are_not_held() {
        let (_folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
        let agreement = records;
        let right = Used::Step { step: 9, until: Moment::from_secs(1_900_000_000), drift: 0 };
        let held = agreement.reserve("tidehall:ines", (1, right), NOON).unwrap();
        for _ in 0..5 {
            agreement.count_wrong(wrong(WrongTry::CODE), FIVE, NOON).await.unwrap();
        }
        let locked_until = NOON.plus(FIVE.time);
        assert_eq!(agreement.commit(held, mark(1, right), NOON).await.unwrap(), Marked::Locked(locked_until), "five guesses came before");
        let later = locked_until.plus(Duration::from_secs(1));
        for wanted in [true, false] {
            let held = agreement.reserve("tidehall:ines", (1, right), later).unwrap();
            let marked = agreement.commit(held, mark(1, right), later).await.unwrap();
            assert_eq!(matches!(marked, Marked::Now(_)), wanted, "it is marked as ever: {marked:?}");
        }
        for counted in [Used::Counter(7), Used::Entry(1), Used::Turn, Used::Approval] {
            assert!(agreement.reserve("tidehall:ines", (1, counted), NOON).is_none(), "{counted:?}");
        }
    }
}
