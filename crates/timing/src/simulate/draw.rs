//! How long things take, drawn.

use rand::RngExt;
use rand::rngs::SmallRng;
use rand_distr::{Distribution, LogNormal};
use std::sync::Arc;

/// The share of the normal distribution's deviation at which nineteen of twenty are below.
const P95: f64 = 1.644_853_6;

/// A distribution of times, in microseconds.
#[derive(Debug, Clone, PartialEq)]
pub enum Times {
    /// Always the same.
    Fixed(u64),
    /// Half are below the first, nineteen of twenty below the second; the logarithm is distributed normally.
    LogNormal {
        /// The middle.
        usual_us: u64,
        /// What nineteen of twenty stay below.
        most_us: u64,
    },
    /// Drawn from what was measured, in milliseconds, sorted.
    Measured(Arc<[u64]>),
}

/// A distribution made ready for drawing.
#[derive(Debug)]
pub(super) enum Draw {
    Fixed(u64),
    LogNormal(LogNormal<f64>),
    Measured(Arc<[u64]>),
}

impl Draw {
    /// Draws one. A distribution without data gives 0; see [`Times::is_empty`].
    pub(super) fn draw(&self, rng: &mut SmallRng) -> u64 {
        match self {
            Draw::Fixed(us) => *us,
            Draw::LogNormal(times) => times.sample(rng) as u64,
            Draw::Measured(sorted) if sorted.is_empty() => 0,
            // Between two neighbours, so that a few measured times do not make steps.
            Draw::Measured(sorted) => {
                let place = rng.random::<f64>() * (sorted.len() - 1) as f64;
                let (low, part) = (place as usize, place.fract());
                let high = sorted[(low + 1).min(sorted.len() - 1)];
                ((sorted[low] as f64 * (1.0 - part) + high as f64 * part) * 1_000.0) as u64
            }
        }
    }
}

impl Times {
    /// Made ready.
    pub(super) fn ready(&self) -> Draw {
        match self {
            Times::Fixed(us) => Draw::Fixed(*us),
            Times::Measured(sorted) => Draw::Measured(Arc::clone(sorted)),
            Times::LogNormal { usual_us, most_us } => {
                let usual = (*usual_us).max(1) as f64;
                let deviation = ((*most_us).max(*usual_us + 1) as f64 / usual).ln() / P95;
                // Parameters are finite by construction, so the distribution exists.
                LogNormal::new(usual.ln(), deviation).map_or(Draw::Fixed(*usual_us), Draw::LogNormal)
            }
        }
    }

    /// Whether there is nothing to draw from.
    pub fn is_empty(&self) -> bool {
        matches!(self, Times::Measured(sorted) if sorted.is_empty())
    }
}
