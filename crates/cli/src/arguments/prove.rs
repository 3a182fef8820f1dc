//! What the commands that prove and explain take.

use clap::{Args, Subcommand};
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Args)]
pub(crate) struct Login {
    /// The name as it would be typed; a persona's own if left out
    #[arg(required_unless_present = "persona", default_value = "")]
    pub(crate) person: String,
    /// The gateway it comes through
    #[arg(long)]
    pub(crate) via: String,
    /// Read what would be typed in the password field from a file; `-` for standard input [default: asked for]
    #[arg(long)]
    pub(crate) password_file: Option<PathBuf>,
    /// Log in as this persona of the site, with its sealed password and its robots
    #[arg(long, conflicts_with_all = ["password_file", "from"])]
    pub(crate) persona: Option<String>,
    /// What the persona types, with places as in a rehearsal [default: {password}{code}]
    #[arg(long = "type", value_name = "TEXT", requires = "persona")]
    pub(crate) typed: Option<String>,
    /// What the persona's robot handset does, such as "approve after 3s"
    #[arg(long, value_name = "WHAT", requires = "persona")]
    pub(crate) handset: Option<String>,
    /// Type this at the next prompt; may be given several times. Not for codes that are worth something: other people see the command line
    #[arg(long, value_name = "TEXT")]
    pub(crate) answer: Vec<String>,
    /// Read the answers to prompts from a file, one a line [default: asked for]
    #[arg(long, value_name = "FILE", conflicts_with = "answer")]
    pub(crate) answers_file: Option<PathBuf>,
    /// How the password is sent
    #[arg(long, value_enum, default_value_t = LoginMethod::Pap)]
    pub(crate) method: LoginMethod,
    /// The address of the person's own program, as the gateway would tell it
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) caller: Option<IpAddr>,
    /// Be the gateway itself: send from this address of this machine, over the network
    #[arg(long, value_name = "ADDRESS", requires = "to", requires = "secret_file")]
    pub(crate) from: Option<IpAddr>,
    /// Where to send to, with `--from`: the door of the service
    #[arg(long, value_name = "ADDRESS:PORT", requires = "from")]
    pub(crate) to: Option<SocketAddr>,
    /// File with the gateway's shared secret, with `--from`; `-` for standard input
    #[arg(long, value_name = "FILE", requires = "from")]
    pub(crate) secret_file: Option<PathBuf>,
}

/// A method that can be tried.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum LoginMethod {
    /// As text
    Pap,
    /// As a CHAP proof
    Chap,
    /// As an MS-CHAPv2 proof
    MsChapV2,
    /// Only begun: the rest is between the person's device and an upstream
    Eap,
}

/// Plays the logins of a rehearsal and compares what comes of each with what must come. Exit status 0 only if all came out so.
#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["name", "starter", "list", "runs", "run"]))]
pub(crate) struct Rehearse {
    /// The rehearsal
    pub(crate) name: Option<String>,
    /// Play the whole list so often
    #[arg(long, default_value_t = 1, requires = "name")]
    pub(crate) repeat: u32,
    /// Logins at one time, 1 to 64
    #[arg(long, default_value_t = 8, requires = "name")]
    pub(crate) parallel: u32,
    /// Write a dated report to a file: .html or .json by its name
    #[arg(long, value_name = "FILE")]
    pub(crate) report: Option<PathBuf>,
    /// Write the result for pipelines to a file, as JUnit's XML
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<PathBuf>,
    /// Compare with this run [default: the one before]
    #[arg(long, value_name = "RUN")]
    pub(crate) against: Option<u64>,
    /// Write a first rehearsal for a chain, to be put into the site file
    #[arg(long, value_name = "CHAIN")]
    pub(crate) starter: Option<String>,
    /// List the rehearsals of the site in force
    #[arg(long)]
    pub(crate) list: bool,
    /// List the runs that are kept
    #[arg(long)]
    pub(crate) runs: bool,
    /// Show a run again
    #[arg(long, value_name = "RUN")]
    pub(crate) run: Option<u64>,
}

/// Looks at each layer behind a login, from the back to the front, and stops at the first that is broken. Exit status 1 then.
#[derive(Debug, Args)]
pub(crate) struct Locate {
    /// The name as it would be typed
    pub(crate) person: String,
    /// The gateway it comes through
    #[arg(long)]
    pub(crate) via: String,
    /// Read what would be typed in the password field from a file; `-` for standard input [default: asked for]
    #[arg(long)]
    pub(crate) password_file: Option<PathBuf>,
    /// Use the sealed password of this persona
    #[arg(long, conflicts_with = "password_file")]
    pub(crate) persona: Option<String>,
    /// Leave the password and the code out
    #[arg(long, conflicts_with_all = ["password_file", "persona"])]
    pub(crate) without_password: bool,
    /// How the gateway sends the password
    #[arg(long, value_enum, default_value_t = LoginMethod::Pap)]
    pub(crate) method: LoginMethod,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Rule {
    /// Evaluate a made-up login: which rule decides, and why the others do not
    Try {
        /// The chain
        #[arg(long)]
        chain: String,
        /// A group of the made-up person; may be given several times
        #[arg(long)]
        group: Vec<String>,
        /// The gateway that it comes through: rules may go by its labels
        #[arg(long)]
        via: Option<String>,
        /// Take the groups of this person, as the sources know them
        #[arg(long, value_name = "LOGIN", conflicts_with = "group")]
        person: Option<String>,
    },
}

/// Takes a pool member out for one rehearsal, compares with the same rehearsal before, and says what logins noticed.
///
/// Only the rehearsal's logins are without it; everybody else's go on as they are, so there is nothing to put back.
#[derive(Debug, Args)]
pub(crate) struct Drill {
    /// The member: SERVER of a directory or an upstream, as the site file has it, or the name of a courier
    pub(crate) member: String,
    /// The rehearsal
    #[arg(long, value_name = "REHEARSAL")]
    pub(crate) with: String,
    /// How it fails: at once, or by saying nothing
    #[arg(long, value_enum, default_value_t = Fails::Closed)]
    pub(crate) fails: Fails,
}

/// How a pool member fails in a drill.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum Fails {
    /// Its port is closed
    Closed,
    /// It takes what comes and says nothing
    Silent,
}

#[derive(Debug, Args)]
pub(crate) struct Who {
    /// The chain
    pub(crate) chain: String,
    /// List everybody, not only how many
    #[arg(long)]
    pub(crate) all: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Trace {
    /// List traces, newest first
    List {
        #[command(flatten)]
        filter: TraceFilter,
        /// How many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Show one trace step by step
    Show {
        /// Its reference, as the person at the keyboard read it
        reference: String,
    },
    /// List logins that wait for somebody's approval now
    Waiting,
    /// Print traces as they come
    Follow {
        #[command(flatten)]
        filter: TraceFilter,
        /// End after this time, such as 30s, 10m or 1h
        #[arg(long = "for", value_name = "TIME")]
        duration: Option<String>,
        /// End after so many traces
        #[arg(long)]
        count: Option<u64>,
    },
    /// Write traces with their steps as JSON lines, oldest first
    Export {
        #[command(flatten)]
        filter: TraceFilter,
        /// Write to this file [default: standard output]
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Draw failures over time, by cause and gateway
    Chart {
        /// How far back, such as 6h or 7d
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
    /// Only those that this revision decided
    #[arg(long)]
    pub(crate) revision: Option<u64>,
    /// Only those from here: gateway, rehearsal or page
    #[arg(long)]
    pub(crate) origin: Option<String>,
    /// Only those since then: a time such as 2h or 7d ago, or a date such as 2026-11-23T08:00Z
    #[arg(long, value_name = "WHEN")]
    pub(crate) since: Option<String>,
    /// Only those before then
    #[arg(long, value_name = "WHEN")]
    pub(crate) until: Option<String>,
}
