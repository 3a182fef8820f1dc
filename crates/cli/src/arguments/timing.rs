//! What the command about waits takes.

use clap::Args;
use std::path::PathBuf;

/// Shows whether every hop of a chain waits long enough for the hops behind it, and what to change where it does not; simulates logins.
///
/// Exit status 1 where something does not nest, or where simulated logins fail.
#[derive(Debug, Args)]
pub(crate) struct Budget {
    /// The chain
    pub(crate) chain: String,
    /// Through this gateway only
    #[arg(long, value_name = "GATEWAY")]
    pub(crate) via: Option<String>,
    /// Draw this way through the chain, as the table names it [default: the one with the least margin]
    #[arg(long)]
    pub(crate) way: Option<String>,
    /// Try another value, such as breakwater.wait=20s; may be given several times. Nothing is changed
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// Look at this site file instead of the one in force; `-` for standard input
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// List the settings that matter to the chain, with their values
    #[arg(long)]
    pub(crate) settings: bool,
    /// Work out the smallest change after which everything nests
    #[arg(long)]
    pub(crate) suggest: bool,
    /// The margin to nest with, in per cent
    #[arg(long, default_value_t = 20.0, value_name = "PERCENT")]
    pub(crate) margin: f64,
    /// Write the site file in force with the suggested values, or those of `--set`, to a file
    #[arg(long, value_name = "FILE", conflicts_with = "file")]
    pub(crate) draft: Option<PathBuf>,
    /// Show how long this many logins queue that begin at the same moment, as at the start of a shift
    #[arg(long, value_name = "LOGINS", conflicts_with = "simulate")]
    pub(crate) rush: Option<u32>,
    /// Simulate so many logins in virtual time
    #[arg(long, value_name = "LOGINS")]
    pub(crate) simulate: Option<u64>,
    #[command(flatten)]
    pub(crate) simulation: Simulation,
}

/// How to simulate.
#[derive(Debug, Args)]
#[command(next_help_heading = "Simulation")]
pub(crate) struct Simulation {
    /// The seed: with it the very same logins come again
    #[arg(long, default_value_t = 1)]
    pub(crate) seed: u64,
    /// Logins that begin in a second
    #[arg(long, value_name = "RATE")]
    pub(crate) per_second: Option<f64>,
    /// Packets that are lost, in per cent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) loss: Option<f64>,
    /// Packets that arrive twice, in per cent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) twice: Option<f64>,
    /// Handsets that are off, in per cent
    #[arg(long, value_name = "PERCENT", value_parser = per_cent)]
    pub(crate) off: Option<f64>,
    /// Half of the people take longer than this, and one of twenty longer than that, such as 8s,30s [default: as measured, or assumed]
    #[arg(long, value_name = "USUAL,MOST")]
    pub(crate) people: Option<String>,
    /// What happens to the first directory server after ten seconds
    #[arg(long, value_parser = ["dies", "hangs", "slows"])]
    pub(crate) trouble: Option<String>,
    /// Simulate for each value between two, such as gateway.wait=5s..90s, and find where more brings no more
    #[arg(long, value_name = "NAME=FROM..TO")]
    pub(crate) sweep: Option<String>,
    /// Values of a sweep
    #[arg(long, default_value_t = 15)]
    pub(crate) points: u32,
    /// Write the curve of a sweep to a file as comma-separated values
    #[arg(long, value_name = "FILE", requires = "sweep")]
    pub(crate) csv: Option<PathBuf>,
    /// Write the curve of a sweep to a file as a picture
    #[arg(long, value_name = "FILE", requires = "sweep")]
    pub(crate) svg: Option<PathBuf>,
}

/// Reads `2`, `2%` or `0.5 %`.
fn per_cent(text: &str) -> Result<f64, String> {
    let number = text.trim().trim_end_matches('%').trim_end();
    let read = number.parse().ok().filter(|share| (0.0..=100.0).contains(share));
    read.ok_or_else(|| format!("`{text}` is no share of a hundred; write for example 2%"))
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
