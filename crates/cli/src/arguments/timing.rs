//! What the command about waits takes.

use clap::Args;
use std::path::PathBuf;

/// Checks that every hop of a chain waits long enough for the hops behind it, suggests changes where it does not, and simulates logins.
///
/// Exit status 1 if a timeout is too short or simulated logins fail.
#[derive(Debug, Args)]
pub(crate) struct Budget {
    /// The chain
    pub(crate) chain: String,
    /// Only this gateway
    #[arg(long, value_name = "GATEWAY")]
    pub(crate) via: Option<String>,
    /// Draw this path through the chain, by its name in the table [default: the one with the smallest margin]
    #[arg(long)]
    pub(crate) way: Option<String>,
    /// Calculate with another value, for example breakwater.wait=20s; may be repeated. Nothing is changed
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Use this site file instead of the active one; `-` for standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// List the timeouts that affect the chain, with their values
    #[arg(long)]
    pub(crate) settings: bool,
    /// Suggest the smallest change that makes every timeout long enough
    #[arg(long)]
    pub(crate) suggest: bool,
    /// Safety margin, in percent
    #[arg(long, default_value_t = 20.0, value_name = "PERCENT")]
    pub(crate) margin: f64,
    /// Write a copy of the active site file with the suggested (or `--set`) values to a file
    #[arg(long, value_name = "FILE", conflicts_with = "file")]
    pub(crate) draft: Option<PathBuf>,
    /// Show how long this many logins queue that begin at the same moment, as at the start of a shift
    #[arg(long, value_name = "LOGINS", conflicts_with = "simulate")]
    pub(crate) rush: Option<u32>,
    /// Number of logins to simulate, in virtual time
    #[arg(long, value_name = "LOGINS")]
    pub(crate) simulate: Option<u64>,
    #[command(flatten)]
    pub(crate) simulation: Simulation,
}

/// How to simulate.
#[derive(Debug, Args)]
#[command(next_help_heading = "Simulation")]
pub(crate) struct Simulation {
    /// Random seed; the same seed repeats the same logins
    #[arg(long, default_value_t = 1)]
    pub(crate) seed: u64,
    /// Logins started per second
    #[arg(long, value_name = "RATE")]
    pub(crate) per_second: Option<f64>,
    /// Packet loss, in percent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) loss: Option<f64>,
    /// Duplicated packets, in percent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) twice: Option<f64>,
    /// Handsets that do not answer, in percent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) off: Option<f64>,
    /// Handsets that are asleep and show a push message late, in percent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) asleep: Option<f64>,
    /// Handsets that may not show notifications, in percent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) push_refused: Option<f64>,
    /// How long people take: median and 95th percentile, for example 8s,30s [default: as measured, else assumed]
    #[arg(long, value_name = "USUAL,MOST")]
    pub(crate) people: Option<String>,
    /// Failure of the first directory server, ten seconds in
    #[arg(long, value_parser = ["dies", "hangs", "slows"])]
    pub(crate) trouble: Option<String>,
    /// Repeat the simulation over a range, for example gateway.wait=5s..90s, and find where a larger value stops helping
    #[arg(long, value_name = "NAME=FROM..TO")]
    pub(crate) sweep: Option<String>,
    /// Number of values in a sweep
    #[arg(long, default_value_t = 15)]
    pub(crate) points: u32,
    /// Write the sweep's curve to a CSV file
    #[arg(long, value_name = "FILE", requires = "sweep")]
    pub(crate) csv: Option<PathBuf>,
    /// Write the sweep's curve to an SVG file
    #[arg(long, value_name = "FILE", requires = "sweep")]
    pub(crate) svg: Option<PathBuf>,
}

/// Reads `2`, `2%` or `0.5 %`.
fn per_cent(text: &str) -> Result<f64, String> {
    let number = text.trim().trim_end_matches('%').trim_end();
    let read = number.parse().ok().filter(|share| (0.0..=100.0).contains(share));
    read.ok_or_else(|| format!("`{text}` is not a percentage; write for example 2%"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_may_be_written_with_its_sign() {
        for (text, wanted) in [("2", 2.0), ("2%", 2.0), ("0.5 %", 0.5), ("100%", 100.0)] {
            assert_eq!(per_cent(text), Ok(wanted), "{text}");
        }
        for text in ["", "%", "two", "-1", "101%", "NaN", "2%%5"] {
            assert!(per_cent(text).is_err(), "{text}");
        }
    }
}
