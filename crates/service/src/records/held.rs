//! Codes that are held: marked on disk while the password beside them is being checked, and given back where that was wrong.

use super::factors::use_code;
use super::steps::{Use, UsedStep};
use super::writer::Job;
use super::{Agreement, Marked, Records, RecordsError};
use bivector_core::Moment;
use bivector_core::device::Used;
use bivector_core::login::CodeMark;
use rusqlite::Transaction;
use std::sync::Arc;
use tokio::runtime::Handle;
use tokio::sync::oneshot;
use tokio::sync::oneshot::error::TryRecvError;

/// A code that is held for one login.
#[derive(Debug)]
pub(crate) struct HeldCode {
    records: Records,
    used: UsedStep,
    /// Gets whether it is held, once that is on disk. Gone when the code is used, or was not held.
    told: Option<oneshot::Receiver<bool>>,
}

impl HeldCode {
    /// Whether that is the code to mark.
    pub(crate) fn is_for(&self, mark: &CodeMark) -> bool {
        matches!(mark.device, Some((device, Used::Step { step, .. })) if (device, step) == (self.used.device, self.used.step))
    }
}

impl Drop for HeldCode {
    fn drop(&mut self) {
        let Some(mut told) = self.told.take() else { return };
        let (records, free) = (self.records.clone(), self.used.given_back());
        let give_back = move || records.writer.send_soon(settle(&records, free));
        // Only what is held in the file too: after a commit that failed, somebody else may have used it.
        match (told.try_recv(), Handle::try_current()) {
            (Ok(true), _) => give_back(),
            (Err(TryRecvError::Empty), Ok(handle)) => drop(handle.spawn(async move {
                if told.await == Ok(true) {
                    give_back();
                }
            })),
            _ => {}
        }
    }
}

/// Says of a code that is held whether it is used.
fn settle(records: &Records, settled: UsedStep) -> Job {
    let remembered = Arc::clone(&records.remembered);
    Job::new(move |transaction| remembered.settle_step(transaction, settled), drop).together()
}

impl Agreement {
    /// Holds a code by time while something else is being checked, so that its mark is on disk by then. No login but this one gets in by
    /// it; dropped, it is free again, unless the service has died meanwhile. Other codes are not held, and neither are those of people
    /// who typed wrong ones before.
    pub(crate) fn hold(&self, person: &str, (device, used): (u64, Used), now: Moment) -> Option<HeldCode> {
        let Used::Step { step, until, drift } = used else { return None };
        let used = UsedStep { device, step, drift, until_us: until.micros(), at_us: now.micros() };
        let (tell, told) = oneshot::channel();
        let (remembered, person) = (Arc::clone(&self.records.remembered), person.to_owned());
        let hold = move |transaction: &Transaction<'_>| {
            Ok(!remembered.may_have_been_wrong(transaction, &person)?
                && matches!(remembered.use_step(transaction, used.held())?, Use::Now(_)))
        };
        // What could not be written is not held.
        let after = move |held: Result<bool, RecordsError>| {
            let _ = tell.send(held.unwrap_or(false));
        };
        self.records.writer.send_soon(Job::new(hold, after).together());
        Some(HeldCode { records: self.records.clone(), used, told: Some(told) })
    }

    /// Takes a code out of use that is held: at once, if that is on disk by now. As [`Agreement::use_code`] where it could not be held, and
    /// where the person has typed a wrong one meanwhile, so that a right one among many guesses at once counts only before the lock.
    ///
    /// # Errors
    /// It could not be written. Then nobody may get in by it.
    pub(crate) async fn use_held(&self, mut held: HeldCode, mark: CodeMark, now: Moment) -> Result<Marked, RecordsError> {
        let is_held = match &mut held.told {
            Some(told) => told.await.unwrap_or(false),
            None => false,
        };
        held.told = None;
        if !is_held {
            return self.use_code(mark, now).await;
        }
        let remembered = Arc::clone(&self.records.remembered);
        if remembered.was_wrong(&mark.person) {
            let free = held.used.given_back();
            let anew = move |transaction: &Transaction<'_>| {
                remembered.settle_step(transaction, free)?;
                use_code(transaction, &remembered, &mark, now)
            };
            return self.records.write_together(anew).await;
        }
        // That the code is taken is on disk. What its device is at besides may be lost with the power.
        self.records.writer.with_the_next(settle(&self.records, held.used));
        Ok(Marked::Now(Some(held.used.state())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::records::factors::tests::{FIVE, NOON, mark, records_with, wrong};
    use crate::records::{FactorSettings, Sync};
    use bivector_core::device::CodeKind;
    use bivector_core::login::WrongTry;
    use std::time::Duration;

    #[tokio::test(flavor = "multi_thread")]
    async fn a_held_code_is_one_logins_until_it_is_used_or_given_back_and_stays_taken_after_a_crash() {
        let (folder, records) = records_with(CodeKind::Totp, FactorSettings::default()).await;
        let agreement = Agreement::new(records.clone());
        let step = |step| Used::Step { step, until: Moment::from_secs(1_900_000_000), drift: 2 };
        let hold = |number| agreement.hold("tidehall:ines", (1, step(number)), NOON).unwrap();
        let held = hold(100);
        assert_eq!(agreement.use_code(mark(1, step(100)), NOON).await.unwrap(), Marked::Before);
        assert_eq!(agreement.use_held(hold(100), mark(1, step(100)), NOON).await.unwrap(), Marked::Before, "it is another login's");
        assert!(records.factor_states().unwrap().get(&1).is_none_or(|state| state.last_used_us.is_none()), "nobody got in by it yet");
        drop(held);
        let again = agreement.use_held(hold(100), mark(1, step(100)), NOON).await.unwrap();
        assert!(matches!(again, Marked::Now(Some(state)) if state.drift == 2), "it was given back: {again:?}");
        let on_its_way = hold(101);
        assert!(matches!(agreement.use_code(mark(1, step(102)), NOON).await.unwrap(), Marked::Now(_)));
        records.writer.stop();
        drop(on_its_way);
        let records = Records::open(folder.path(), Sync::Off).unwrap();
        let state = records.factor_states().unwrap()[&1];
        assert_eq!((state.drift, state.last_used_us), (2, Some(NOON.micros())));
        let agreement = Agreement::new(records);
        for number in [100, 101, 102] {
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
