//! Limits on how often something happens, kept in memory by the generic cell rate algorithm.

use super::{Allowance, Rate};
use bivector_model::Moment;
use governor::clock::{Clock, Reference};
use governor::middleware::NoOpMiddleware;
use governor::nanos::Nanos;
use governor::state::keyed::HashMapStateStore;
use governor::{Quota, RateLimiter};
use std::collections::HashMap;
use std::num::NonZeroU32;
use std::ops::Add;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// After so many questions the keys are forgotten whose allowance is whole again.
const TIDY_EVERY: u32 = 1_024;

/// The time of whoever asks, in nanoseconds since 1970, for the limiters.
#[derive(Debug, Clone, Default)]
struct Asked(Arc<AtomicU64>);

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct At(u64);

impl Add<Nanos> for At {
    type Output = At;

    fn add(self, later: Nanos) -> At {
        At(self.0.saturating_add(later.as_u64()))
    }
}

impl Reference for At {
    fn duration_since(&self, earlier: At) -> Nanos {
        self.0.saturating_sub(earlier.0).into()
    }

    fn saturating_sub(&self, duration: Nanos) -> At {
        At(self.0.checked_sub(duration.into()).unwrap_or(self.0))
    }
}

impl Clock for Asked {
    type Instant = At;

    fn now(&self) -> At {
        At(self.0.load(Ordering::Relaxed))
    }
}

type Limiter = RateLimiter<String, HashMapStateStore<String>, Asked, NoOpMiddleware<At>>;

#[derive(Debug, Default)]
struct Inside {
    limiters: HashMap<Rate, (u32, Duration, Limiter)>,
    asked: u32,
}

/// All limits. One that the site changes begins anew.
#[derive(Debug, Default)]
pub(super) struct Rates {
    clock: Asked,
    inside: Mutex<Inside>,
}

impl Rates {
    /// Spends one of each, in this order; the first that is exhausted keeps those before it spent.
    pub(super) fn spend(&self, allowances: &[Allowance], now: Moment) -> Result<(), Rate> {
        let Ok(mut inside) = self.inside.lock() else { return allowances.first().map_or(Ok(()), |first| Err(first.rate)) };
        self.clock.0.fetch_max(now.micros().saturating_mul(1_000), Ordering::Relaxed);
        inside.asked += 1;
        if inside.asked.is_multiple_of(TIDY_EVERY) {
            inside.limiters.values().for_each(|(.., limiter)| limiter.retain_recent());
        }
        allowances.iter().try_for_each(|allowance| match self.limiter(&mut inside, allowance) {
            Some(limiter) if limiter.check_key(&allowance.key).is_ok() => Ok(()),
            _ => Err(allowance.rate),
        })
    }

    /// The limiter of an allowance; nothing where none is ever allowed.
    fn limiter<'a>(&self, inside: &'a mut Inside, allowance: &Allowance) -> Option<&'a Limiter> {
        let most = NonZeroU32::new(allowance.most)?;
        let made = || {
            let quota = Quota::with_period(allowance.period / allowance.most)?.allow_burst(most);
            Some((allowance.most, allowance.period, RateLimiter::new(quota, HashMapStateStore::default(), self.clock.clone())))
        };
        let known = inside.limiters.get(&allowance.rate);
        if known.is_none_or(|(known, period, _)| (*known, *period) != (allowance.most, allowance.period)) {
            inside.limiters.insert(allowance.rate, made()?);
        }
        inside.limiters.get(&allowance.rate).map(|(.., limiter)| limiter)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_whose_allowance_is_whole_again_are_forgotten() {
        let (rates, at) = (Rates::default(), |seconds: u64| Moment::from_secs(1_800_000_000 + seconds));
        let of = |number: u64| Allowance { rate: Rate::Approvals, key: format!("{number}"), most: 2, period: Duration::from_secs(10) };
        for number in 0..u64::from(TIDY_EVERY) * 20 {
            rates.spend(&[of(number)], at(number)).unwrap();
        }
        let kept = rates.inside.lock().unwrap().limiters[&Rate::Approvals].2.len();
        assert!(kept <= TIDY_EVERY as usize + 20, "{kept}");
    }
}
