//! Which code a persona types next. Codes of an enrolled device work once, so a run that needs more of them than there are waits.

use bivector_engine::runs::Typed;
use bivector_model::totp::{Settings, code};
use bivector_store::clock;
use bivector_wire::Secret;
use std::collections::HashSet;
use std::time::Duration;
use tokio::sync::OwnedMutexGuard;

/// How often a run that waits looks again.
const LOOK: Duration = Duration::from_millis(250);

/// The seed of a persona's device, or a code that never changes.
#[derive(Debug, Clone)]
pub(super) enum Shows {
    /// A robot's token, made for one login.
    Robot {
        /// Its seed.
        seed: Secret<Vec<u8>>,
        /// What it makes.
        settings: Settings,
    },
    /// An enrolled device.
    Seed {
        /// The secret's name.
        name: String,
        /// The seed.
        seed: Secret<Vec<u8>>,
    },
    /// A code that never changes.
    Fixed(Secret<String>),
    /// Nothing.
    Nothing,
}

impl Shows {
    /// Waits until no other login types codes of the same device; the turn lasts until it is dropped.
    pub(super) async fn turn(&self, typed: &Typed) -> Option<OwnedMutexGuard<()>> {
        match self {
            Shows::Seed { name, .. } => typed.turn(name).await,
            _ => None,
        }
    }

    /// The code to type, `later` codes after the present one. `waits` is told what it waits for.
    pub(super) async fn fresh(&self, later: u8, typed: &Typed, waits: impl Fn(&str)) -> Option<String> {
        match self {
            Shows::Robot { seed, settings } => Some(code(seed.expose(), settings.step_at(clock::now()) + u64::from(later), *settings)),
            Shows::Seed { name, seed } => {
                let settings = Settings::default();
                loop {
                    if let Some(step) = typed.take(name, u64::from(later), clock::now().secs(), u64::from(settings.period)) {
                        return Some(code(seed.expose(), step, settings));
                    }
                    waits(&format!("the next code of `{name}`"));
                    tokio::time::sleep(LOOK).await;
                }
            }
            Shows::Fixed(code) => Some(code.expose().clone()),
            Shows::Nothing => None,
        }
    }

    /// A code of the right length that is none of these.
    pub(super) fn wrong(&self, digits: u8) -> String {
        let step = |settings: &Settings| settings.step_at(clock::now());
        let right: HashSet<String> = match self {
            Shows::Robot { seed, settings } => around(seed, step(settings), *settings),
            Shows::Seed { seed, .. } => around(seed, step(&Settings::default()), Settings::default()),
            Shows::Fixed(code) => HashSet::from([code.expose().clone()]),
            Shows::Nothing => HashSet::new(),
        };
        let digits = usize::from(digits);
        (0..1000u32).map(|number| format!("{number:0digits$}")).find(|code| !right.contains(code)).unwrap_or_default()
    }
}

fn around(seed: &Secret<Vec<u8>>, step: u64, settings: Settings) -> HashSet<String> {
    (step.saturating_sub(60)..step + 60).map(|step| code(seed.expose(), step, settings)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_step_of_a_device_is_typed_once_and_only_while_it_counts() {
        let typed = Typed::default();
        let taken: Vec<_> = (0..4).map(|_| typed.take("ines", 0, 3_000, 30)).collect();
        assert_eq!(taken, [Some(99), Some(100), Some(101), None], "the oldest first: none is accepted after a newer one");
        assert_eq!(typed.take("yuki", 0, 3_000, 30), Some(99), "of another device");
        assert_eq!(typed.take("ines", 0, 3_030, 30), Some(102), "a step later one more counts");
        assert_eq!(typed.take("ines", 0, 3_030, 30), None);
        assert_eq!(
            [typed.take("pell", 1, 3_000, 30), typed.take("pell", 0, 3_000, 30)],
            [Some(100), Some(101)],
            "the next code uses it up too"
        );
        let late = Typed::default();
        let taken: Vec<_> = (0..3).map(|_| late.take("ines", 0, 3_027, 30)).collect();
        assert_eq!(taken, [Some(100), Some(101), None], "the step before is about to be too old");
    }

    #[test]
    fn a_wrong_code_is_none_that_counts_or_will() {
        let shows = Shows::Robot { seed: Secret::new(b"a seed for this test".to_vec()), settings: Settings::default() };
        let wrong = shows.wrong(6);
        let right = around(&Secret::new(b"a seed for this test".to_vec()), clock::now().secs() / 30, Settings::default());
        assert!(wrong.len() == 6 && !right.contains(&wrong));
        assert_ne!(Shows::Fixed(Secret::new("000000".to_owned())).wrong(6), "000000");
        assert_eq!(Shows::Nothing.wrong(8).len(), 8);
    }
}
