//! Arguments of `bivector session …`.

use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum Session {
    /// List sessions, newest first
    List {
        #[command(flatten)]
        filter: SessionFilter,
        /// Maximum number of rows
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=1000))]
        limit: u32,
    },
    /// Show one session
    Show {
        /// Its number, as listed
        number: u64,
    },
    /// Ask the gateway to end sessions (Disconnect-Request, RFC 5176)
    End {
        /// Their numbers, as listed
        #[arg(required_unless_present = "person", conflicts_with = "person")]
        numbers: Vec<u64>,
        /// All open sessions of this person, by key or by the name that they are under
        #[arg(long)]
        person: Option<String>,
        /// Why, for the audit and for the sessions
        #[arg(long, default_value = "")]
        reason: String,
    },
    /// List open sessions whose people the rules of the active site no longer admit
    Review {
        /// Ask their gateways to end them
        #[arg(long)]
        end: bool,
    },
    /// Send what the session's grant sets in the active site (CoA-Request, RFC 5176)
    Change {
        /// Its number, as listed
        number: u64,
    },
    /// List the pools of the active site and how much of each is taken
    Pools,
    /// Export sessions as JSON Lines, newest first
    Export {
        #[command(flatten)]
        filter: SessionFilter,
        /// Write to this file [default: standard output]
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Chart open sessions over time
    Chart {
        /// Period to chart, for example 6h or 7d
        #[arg(long, default_value = "24h")]
        last: String,
        /// Only this gateway
        #[arg(long)]
        gateway: Option<String>,
    },
}

#[derive(Debug, Clone, Args)]
pub(crate) struct SessionFilter {
    /// Only these: open, ended or lost
    #[arg(long)]
    pub(crate) state: Option<String>,
    /// Only this gateway
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// Only this person, by key (such as tidehall:ines) or by the name that the session is under
    #[arg(long)]
    pub(crate) person: Option<String>,
    /// Only this address of the user
    #[arg(long)]
    pub(crate) address: Option<String>,
    /// Only sessions of the login with this reference
    #[arg(long)]
    pub(crate) reference: Option<String>,
    /// Only begun since this time: 2h or 7d (ago), or a date such as 2026-11-23T08:00Z
    #[arg(long, value_name = "WHEN")]
    pub(crate) since: Option<String>,
    /// Only begun before this time
    #[arg(long, value_name = "WHEN")]
    pub(crate) until: Option<String>,
}
