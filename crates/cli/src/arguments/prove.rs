//! What the commands that prove and explain take.

use bivector_api::logins::TriedMethod;
use clap::{Args, Subcommand};
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct Login {
    /// Login name as typed; defaults to the persona's
    #[arg(required_unless_present = "persona", default_value = "")]
    pub(crate) person: String,
    /// Gateway the login comes through
    #[arg(long)]
    pub(crate) via: String,
    /// Read the content of the password field from a file; `-` for standard input [default: prompt]
    #[arg(long)]
    pub(crate) password_file: Option<PathBuf>,
    /// Log in as this persona of the site, with its sealed password and its simulated token and handset
    #[arg(long, conflicts_with_all = ["password_file", "from"])]
    pub(crate) persona: Option<String>,
    /// What the persona types, with placeholders as in a rehearsal [default: {password}{code}]
    #[arg(long = "type", value_name = "TEXT", requires = "persona")]
    pub(crate) typed: Option<String>,
    /// What the persona's simulated handset does, for example "approve after 3s"
    #[arg(long, value_name = "WHAT", requires = "persona")]
    pub(crate) handset: Option<String>,
    /// Answer to the next prompt; may be repeated. Other users of this machine can see the command line: do not pass real codes here
    #[arg(long, value_name = "TEXT")]
    pub(crate) answer: Vec<String>,
    /// Read the answers to prompts from a file, one per line [default: prompt]
    #[arg(long, value_name = "FILE", conflicts_with = "answer")]
    pub(crate) answers_file: Option<PathBuf>,
    /// Method: pap, chap, ms-chap-v2, eap (begun only), or an EAP method such as eap-ttls-pap; see docs/methods.md
    #[arg(long, value_name = "METHOD", value_parser = method, default_value = "pap")]
    pub(crate) method: TriedMethod,
    /// Client address to send in Calling-Station-Id
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) caller: Option<IpAddr>,
    /// Act as the gateway: send over the network from this local address
    #[arg(long, value_name = "ADDRESS", requires = "to", requires = "secret_file")]
    pub(crate) from: Option<IpAddr>,
    /// With `--from`: address of the service's RADIUS door
    #[arg(long, value_name = "ADDRESS:PORT", requires = "from")]
    pub(crate) to: Option<SocketAddr>,
    /// With `--from`: file with the gateway's shared secret; `-` for standard input
    #[arg(long, value_name = "FILE", requires = "from")]
    pub(crate) secret_file: Option<PathBuf>,
    /// With an EAP method: identity outside the tunnel [default: the person's name]
    #[arg(long, value_name = "NAME")]
    pub(crate) outer: Option<String>,
    /// With `--from` and an EAP method with a tunnel: PEM file with the issuers of the server certificate
    #[arg(long, value_name = "FILE", requires = "from")]
    pub(crate) trust: Option<PathBuf>,
    /// With `--trust`: name that the server certificate must have
    #[arg(long, value_name = "NAME", requires = "trust")]
    pub(crate) server_name: Option<String>,
    /// With an EAP method with a tunnel: PEM file with the person's certificate, followed by its issuers
    #[arg(long, value_name = "FILE", requires = "key")]
    pub(crate) certificate: Option<PathBuf>,
    /// PEM file with the key of `--certificate`
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub(crate) key: Option<PathBuf>,
}

/// A method, by its name in site files.
fn method(name: &str) -> Result<TriedMethod, String> {
    name.parse()
}

/// Runs the logins of a rehearsal and compares each result with the expected one. Exit status 0 only if all match.
#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["name", "starter", "list", "runs", "run"]))]
pub(crate) struct Rehearse {
    /// The rehearsal
    pub(crate) name: Option<String>,
    /// Number of times to run the whole list
    #[arg(long, default_value_t = 1, requires = "name")]
    pub(crate) repeat: u32,
    /// Concurrent logins, 1 to 64
    #[arg(long, default_value_t = 8, requires = "name")]
    pub(crate) parallel: u32,
    /// Write a dated report to a file; the extension (.html or .json) selects the format
    #[arg(long, value_name = "FILE")]
    pub(crate) report: Option<PathBuf>,
    /// Write the result to a file as JUnit XML, for CI pipelines
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<PathBuf>,
    /// Compare with this run [default: the previous one]
    #[arg(long, value_name = "RUN")]
    pub(crate) against: Option<u64>,
    /// Print a starter rehearsal for a chain, to paste into the site file
    #[arg(long, value_name = "CHAIN")]
    pub(crate) starter: Option<String>,
    /// List the active site's rehearsals
    #[arg(long)]
    pub(crate) list: bool,
    /// List stored runs
    #[arg(long)]
    pub(crate) runs: bool,
    /// Show a stored run
    #[arg(long, value_name = "RUN")]
    pub(crate) run: Option<u64>,
}

/// Checks each layer behind a login, from the source to the gateway, and stops at the first one that is broken (exit status 1).
#[derive(Debug, Args)]
pub(crate) struct Locate {
    /// The name as it would be typed
    pub(crate) person: String,
    /// Gateway the login comes through
    #[arg(long)]
    pub(crate) via: String,
    /// Read the content of the password field from a file; `-` for standard input [default: prompt]
    #[arg(long)]
    pub(crate) password_file: Option<PathBuf>,
    /// Use this persona's sealed password
    #[arg(long, conflicts_with = "password_file")]
    pub(crate) persona: Option<String>,
    /// Do not check password or code
    #[arg(long, conflicts_with_all = ["password_file", "persona"])]
    pub(crate) without_password: bool,
    /// Method that the gateway uses: pap, chap, ms-chap-v2, eap, or an EAP method such as eap-ttls-pap
    #[arg(long, value_name = "METHOD", value_parser = method, default_value = "pap")]
    pub(crate) method: TriedMethod,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Rule {
    /// Evaluate a hypothetical login: which rule decides, and why the others do not
    Try {
        /// The chain
        #[arg(long)]
        chain: String,
        /// Group of the hypothetical person; may be repeated
        #[arg(long)]
        group: Vec<String>,
        /// Gateway the login comes through (rules can match its labels)
        #[arg(long)]
        via: Option<String>,
        /// Use this person's groups, as reported by the sources
        #[arg(long, value_name = "LOGIN", conflicts_with = "group")]
        person: Option<String>,
        #[command(flatten)]
        circumstances: Circumstances,
    },
}

/// What rules may ask beside groups and labels; what is left out is assumed to fit.
#[derive(Debug, Args)]
pub(crate) struct Circumstances {
    /// Name as typed
    #[arg(long)]
    pub(crate) name: Option<String>,
    /// Source that knows the person
    #[arg(long)]
    pub(crate) source: Option<String>,
    /// Method, as in the site file
    #[arg(long)]
    pub(crate) method: Option<String>,
    /// Second factor that was given; `waived` or `none`
    #[arg(long)]
    pub(crate) factor: Option<String>,
    /// Address of the person's program
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) caller: Option<String>,
    /// Time where the site is, for example 2026-12-01T22:30 [default: now]
    #[arg(long, value_name = "WHEN")]
    pub(crate) at: Option<String>,
}

/// Runs a rehearsal with and without one pool member, and reports what logins would notice.
///
/// Only the rehearsal's logins are affected; real logins keep using the member, and nothing has to be restored.
#[derive(Debug, Args)]
pub(crate) struct Drill {
    /// Pool member: a server of a directory or upstream, as written in the site file, or a courier's name
    pub(crate) member: String,
    /// The rehearsal
    #[arg(long, value_name = "REHEARSAL")]
    pub(crate) with: String,
    /// How the member fails: refuses connections, or does not answer
    #[arg(long, value_enum, default_value_t = Fails::Closed)]
    pub(crate) fails: Fails,
}

/// How a pool member fails in a drill.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Fails {
    /// Connections are refused
    Closed,
    /// Connections are accepted, but nothing is answered
    Silent,
}

#[derive(Debug, Args)]
pub(crate) struct Who {
    /// The chain
    pub(crate) chain: String,
    /// List every person, not only counts
    #[arg(long)]
    pub(crate) all: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Trace {
    /// List traces, newest first
    List {
        #[command(flatten)]
        filter: TraceFilter,
        /// Maximum number of rows
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Show one trace step by step
    Show {
        /// Reference, as shown to the person
        reference: String,
    },
    /// List logins that wait for somebody's approval now
    Waiting,
    /// Print new traces as they arrive
    Follow {
        #[command(flatten)]
        filter: TraceFilter,
        /// Stop after this time, for example 30s, 10m or 1h
        #[arg(long = "for", value_name = "TIME")]
        duration: Option<String>,
        /// Stop after this many traces
        #[arg(long)]
        count: Option<u64>,
    },
    /// Export traces with their steps as JSON Lines, oldest first
    Export {
        #[command(flatten)]
        filter: TraceFilter,
        /// Write to this file [default: standard output]
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Chart failures over time, by cause and gateway
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
pub(crate) struct TraceFilter {
    /// Only this person, by login name
    #[arg(long)]
    pub(crate) person: Option<String>,
    /// Only this gateway
    #[arg(long)]
    pub(crate) gateway: Option<String>,
    /// Only this chain
    #[arg(long)]
    pub(crate) chain: Option<String>,
    /// Only this outcome: accepted, waiting (at a prompt), refused or silent
    #[arg(long)]
    pub(crate) outcome: Option<String>,
    /// Only this cause
    #[arg(long)]
    pub(crate) cause: Option<String>,
    /// Only logins decided by this revision
    #[arg(long)]
    pub(crate) revision: Option<u64>,
    /// Only this origin: gateway, rehearsal or page
    #[arg(long)]
    pub(crate) origin: Option<String>,
    /// Only since this time: 2h or 7d (ago), or a date such as 2026-11-23T08:00Z
    #[arg(long, value_name = "WHEN")]
    pub(crate) since: Option<String>,
    /// Only before this time
    #[arg(long, value_name = "WHEN")]
    pub(crate) until: Option<String>,
}
