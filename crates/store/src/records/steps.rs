//! Used codes of devices by time. A commit writes all that its logins used as one row of a journal; now and then the journal is folded
//! into the rows of the devices, neighbours together. What is not folded yet is in memory, so a login asks the file for nothing.
//!
//! Where a commit failed, memory may hold more than the file until it is read again, never less: a code that is neither here nor there
//! was not used.

use super::DeviceState;
use crate::lookup::Lookup;
use rusqlite::{Connection, Transaction, params};

/// One code that was right: used, held while its password is being checked, or given back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct UsedStep {
    /// Record number of its device.
    pub(super) device: u64,
    /// The step of the device's clock.
    pub(super) step: u64,
    /// Steps that the clock is off.
    pub(super) drift: i64,
    /// Until when this must be known, in microseconds since 1970; nothing for one that is given back.
    pub(super) until_us: u64,
    /// When it was used; nothing for one that is held or given back.
    pub(super) at_us: u64,
}

/// Bytes of one in the journal.
const USED: usize = 40;

impl UsedStep {
    /// The same code, held.
    pub(super) fn held(self) -> Self {
        UsedStep { at_us: 0, ..self }
    }

    /// The same code, free again.
    pub(super) fn given_back(self) -> Self {
        UsedStep { at_us: 0, until_us: 0, ..self }
    }

    /// Whether somebody got in by it.
    pub(super) fn is_used(self) -> bool {
        self.at_us > 0
    }

    /// What its device is at then. What else a state holds is not of devices by time.
    pub(super) fn state(self) -> DeviceState {
        DeviceState { drift: self.drift, last_used_us: Some(self.at_us), ..DeviceState::default() }
    }

    fn to_bytes(self) -> [u8; USED] {
        let mut bytes = [0; USED];
        let numbers = [self.device, self.step, self.drift.cast_unsigned(), self.until_us, self.at_us];
        bytes.chunks_exact_mut(8).zip(numbers).for_each(|(place, number)| place.copy_from_slice(&number.to_be_bytes()));
        bytes
    }

    fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let mut numbers = bytes.chunks_exact(8).filter_map(|number| number.try_into().ok().map(u64::from_be_bytes));
        let mut next = || numbers.next();
        Some(UsedStep { device: next()?, step: next()?, drift: next()?.cast_signed(), until_us: next()?, at_us: next()? })
    }
}

/// What a device is at, and which of its steps were used and could still be right.
#[derive(Debug, Default)]
struct Clocked {
    steps: Vec<u64>,
    drift: i64,
    last_used_us: u64,
    until_us: u64,
    /// Whether its row lags behind.
    ahead: bool,
}

/// Steps behind the newest used one that are remembered: far more than any window and drift together reach.
pub(super) const STEPS_BEHIND: u64 = 1_024;

impl Clocked {
    fn note(&mut self, used: UsedStep) {
        self.ahead = true;
        if used == used.given_back() {
            return self.steps.retain(|step| *step != used.step);
        }
        if !self.steps.contains(&used.step) {
            self.steps.push(used.step);
        }
        let newest = self.steps.iter().copied().max().unwrap_or(used.step);
        self.steps.retain(|step| *step + STEPS_BEHIND >= newest);
        self.until_us = self.until_us.max(used.until_us);
        if used.is_used() {
            (self.drift, self.last_used_us) = (used.drift, used.at_us);
        }
    }
}

/// What became of a code.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Use {
    /// It is used now; its device is at this.
    Now(DeviceState),
    /// It was used before.
    Before,
    /// No factor has this number: a robot's token, or a device that was removed meanwhile.
    NoDevice,
}

/// Used codes as the writer knows them.
#[derive(Debug, Default)]
pub(super) struct Steps {
    /// Devices that were used lately: all whose rows lag behind, and others.
    devices: Lookup<u64, Clocked>,
    /// What the open transaction has used and not written down.
    open: Vec<UsedStep>,
    /// Whether `devices` holds all of the journal.
    read: bool,
    /// Codes that are held, by device and step, each under its hold's number; they stand in `devices` too.
    held: Lookup<(u64, u64), u64>,
    /// Holds there were.
    holds: u64,
    fold: Option<Fold>,
}

/// A fold on its way.
#[derive(Debug)]
struct Fold {
    /// Devices whose rows are still to be written, the next one last.
    devices: Vec<u64>,
    /// The newest row of the journal when it began.
    newest: i64,
}

impl Steps {
    /// Uses a code up, even one that is held: who held it has not got in by it yet, and will not. It counts once [`Steps::write_down`] and
    /// the commit have come.
    pub(super) fn use_up(&mut self, transaction: &Transaction<'_>, used: UsedStep) -> rusqlite::Result<Use> {
        self.read_journal(transaction)?;
        self.know(transaction, used.device)?;
        let Some(known) = self.devices.get_mut(&used.device) else { return Ok(Use::NoDevice) };
        let was_held = self.held.remove(&(used.device, used.step)).is_some();
        if known.steps.contains(&used.step) && !was_held || is_outdated(known, &self.held, (used.device, used.step)) {
            return Ok(Use::Before);
        }
        known.note(used);
        self.open.push(used);
        Ok(Use::Now(used.state()))
    }

    /// Holds a code that is neither used nor held: in the file it is as good as used. The hold's number, under which it may be used, or
    /// given back.
    pub(super) fn hold(&mut self, transaction: &Transaction<'_>, used: UsedStep) -> rusqlite::Result<Option<u64>> {
        let place = (used.device, used.step);
        if self.held.contains_key(&place) || !matches!(self.use_up(transaction, used.held())?, Use::Now(_)) {
            return Ok(None);
        }
        self.holds += 1;
        self.held.insert(place, self.holds);
        Ok(Some(self.holds))
    }

    /// Ends a hold; `false` if it has ended already, since somebody else has used the code or a commit has failed.
    pub(super) fn end_reservation(&mut self, place: (u64, u64), number: u64) -> bool {
        let is_held = self.held.get(&place) == Some(&number);
        if is_held {
            self.held.remove(&place);
        }
        is_held
    }

    /// Whether a newer code of the same device was used, as far as is known without the file.
    pub(super) fn is_outdated(&self, place: (u64, u64)) -> bool {
        self.devices.get(&place.0).is_some_and(|known| is_outdated(known, &self.held, place))
    }

    /// Notes what became of a code that was held: it was used, or is given back.
    pub(super) fn settle(&mut self, transaction: &Transaction<'_>, settled: UsedStep) -> rusqlite::Result<()> {
        self.read_journal(transaction)?;
        self.know(transaction, settled.device)?;
        if let Some(known) = self.devices.get_mut(&settled.device) {
            known.note(settled);
            self.open.push(settled);
        }
        Ok(())
    }

    /// Writes what was used in this transaction into the journal.
    pub(super) fn write_down(&mut self, transaction: &Transaction<'_>) -> rusqlite::Result<()> {
        if self.open.is_empty() {
            return Ok(());
        }
        let uses: Vec<u8> = self.open.drain(..).flat_map(UsedStep::to_bytes).collect();
        transaction.prepare_cached("INSERT INTO step_journal (uses) VALUES (?1)")?.execute([uses]).map(|_| ())
    }

    /// What is in the file is read again: a commit failed, and with it what was held.
    pub(super) fn forget(&mut self) {
        *self = Steps { holds: self.holds, ..Steps::default() };
    }

    /// As [`Steps::forget`], where only one job was taken back: what is held stays so, since no such job holds anything.
    pub(super) fn forget_job(&mut self) {
        let held = std::mem::take(&mut self.held);
        self.forget();
        self.held = held;
    }

    /// Brings rows of devices up to date, so many at most; whether there is more to do.
    pub(super) fn fold(&mut self, transaction: &Transaction<'_>, at_most: usize, now_us: u64) -> rusqlite::Result<bool> {
        self.read_journal(transaction)?;
        let mut fold = match self.fold.take() {
            Some(fold) => fold,
            None => {
                self.write_down(transaction)?;
                let newest: Option<i64> = transaction.query_row("SELECT max(number) FROM step_journal", [], |row| row.get(0))?;
                let Some(newest) = newest else { return Ok(false) };
                let mut devices: Vec<u64> = self.devices.iter().filter(|(_, known)| known.ahead).map(|(device, _)| *device).collect();
                // Rows that lie beside each other in the file are written by the same commit.
                devices.sort_unstable_by(|a, b| b.cmp(a));
                Fold { devices, newest }
            }
        };
        for device in fold.devices.split_off(fold.devices.len().saturating_sub(at_most)).into_iter().rev() {
            if let Some(known) = self.devices.get_mut(&device).filter(|known| known.ahead) {
                write_row(transaction, device, known)?;
                known.ahead = false;
            }
        }
        if !fold.devices.is_empty() {
            self.fold = Some(fold);
            return Ok(true);
        }
        transaction.execute("DELETE FROM step_journal WHERE number <= ?1", [fold.newest])?;
        self.devices.retain(|_, known| known.ahead || known.until_us > now_us);
        Ok(false)
    }

    /// Brings all rows of devices up to date: before anything else reads or changes them.
    pub(super) fn fold_all(&mut self, transaction: &Transaction<'_>) -> rusqlite::Result<()> {
        // One that is on its way knows nothing of what was used since.
        self.fold = None;
        self.fold(transaction, usize::MAX, 0)?;
        // Whoever comes next may change the rows.
        self.devices.clear();
        Ok(())
    }

    fn read_journal(&mut self, transaction: &Transaction<'_>) -> rusqlite::Result<()> {
        if self.read {
            return Ok(());
        }
        for used in journal(transaction)? {
            self.know(transaction, used.device)?;
            self.devices.entry(used.device).or_default().note(used);
        }
        self.read = true;
        Ok(())
    }

    /// Reads the row of a device unless it is known, and those beside it: together they take as long as a few do by themselves, and
    /// in a rush of logins most of them are asked for next. What is not is forgotten after the next fold.
    fn know(&mut self, transaction: &Transaction<'_>, device: u64) -> rusqlite::Result<()> {
        if self.devices.contains_key(&device) {
            return Ok(());
        }
        let first = device - device % BESIDE;
        for (device, row) in read_rows(transaction, first, first.saturating_add(BESIDE - 1))? {
            self.devices.entry(device).or_insert(row);
        }
        Ok(())
    }
}

/// Whether a newer code of the device was used. Whoever has seen an older one, over a shoulder or in a log, must not get in by it.
fn is_outdated(known: &Clocked, held: &Lookup<(u64, u64), u64>, (device, step): (u64, u64)) -> bool {
    known.steps.iter().any(|other| *other > step && !held.contains_key(&(device, *other)))
}

/// What was used and is not folded yet, oldest first.
pub(super) fn journal(connection: &Connection) -> rusqlite::Result<Vec<UsedStep>> {
    let mut statement = connection.prepare("SELECT uses FROM step_journal ORDER BY number")?;
    let rows: Vec<Vec<u8>> = statement.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
    Ok(rows.iter().flat_map(|uses| uses.chunks_exact(USED)).filter_map(UsedStep::from_bytes).collect())
}

/// Fills up what is kept of the steps: a row that is as long as before is written where it stood.
const NO_STEP: u64 = 0;
/// Steps that a row has room for, or twice as many, and so on.
pub(super) const ROOM: usize = 8;

/// The steps of a device as its row has them.
pub(super) fn steps_to_keep(steps: &[u64]) -> Vec<u8> {
    let free = steps.len().next_multiple_of(ROOM) - steps.len();
    steps.iter().copied().chain(std::iter::repeat_n(NO_STEP, free)).flat_map(u64::to_be_bytes).collect()
}

/// Rows that are read together.
const BESIDE: u64 = 32;

/// What is known of devices; nothing where no factor has the number. Of one that came back, the steps were put aside.
fn read_rows(transaction: &Transaction<'_>, first: u64, last: u64) -> rusqlite::Result<Vec<(u64, Clocked)>> {
    transaction
        .prepare_cached(
            "SELECT coalesce(factor_states.steps, used_steps.steps), coalesce(drift, 0), last_used_us, id
             FROM factors LEFT JOIN factor_states ON factor_states.factor = id LEFT JOIN used_steps ON used_steps.factor = id
             WHERE id BETWEEN ?1 AND ?2",
        )?
        .query_map([first as i64, last as i64], |row| {
            let kept: Option<Vec<u8>> = row.get(0)?;
            let steps = kept.iter().flat_map(|kept| kept.chunks_exact(8)).filter_map(|step| step.try_into().ok().map(u64::from_be_bytes));
            let last_used: Option<i64> = row.get(2)?;
            let known = Clocked {
                steps: steps.filter(|step| *step != NO_STEP).collect(),
                drift: row.get(1)?,
                last_used_us: last_used.map_or(0, i64::cast_unsigned),
                ..Clocked::default()
            };
            Ok((row.get::<_, i64>(3)?.cast_unsigned(), known))
        })?
        .collect()
}

fn write_row(transaction: &Transaction<'_>, device: u64, known: &Clocked) -> rusqlite::Result<()> {
    let steps = steps_to_keep(&known.steps);
    let values = params![device as i64, known.drift, (known.last_used_us > 0).then_some(known.last_used_us as i64), steps];
    let statements = [
        "UPDATE factor_states SET drift = ?2, last_used_us = ?3, steps = ?4 WHERE factor = ?1",
        "INSERT INTO factor_states (factor, drift, last_used_us, steps) SELECT id, ?2, ?3, ?4 FROM factors WHERE id = ?1",
    ];
    for statement in statements {
        if transaction.prepare_cached(statement)?.execute(values)? > 0 {
            return Ok(());
        }
    }
    // It was removed meanwhile, and may come back.
    transaction.execute("INSERT OR REPLACE INTO used_steps VALUES (?1, ?2)", params![device as i64, steps]).map(|_| ())
}

#[cfg(test)]
#[path = "steps_tests.rs"]
mod tests;
