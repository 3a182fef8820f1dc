//! What `lab` takes.

use clap::Subcommand;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum Lab {
    /// Run a stand-in directory until interrupted
    Directory {
        /// What it holds, as demo/directory.toml [default: the Northmoor people]
        #[arg(long)]
        data: Option<PathBuf>,
        /// Where it listens
        #[arg(long, default_value = "127.0.0.1:18389")]
        listen: SocketAddr,
        /// Speak TLS, with a certificate of an issuer written to this PEM file
        #[arg(long, value_name = "PEM")]
        tls: Option<PathBuf>,
        /// Milliseconds that each answer takes
        #[arg(long, default_value_t = 0)]
        delay: u64,
    },
    /// Run a stand-in upstream until interrupted: an old RADIUS server that checks hardware codes
    Upstream {
        /// Where it listens
        #[arg(long, default_value = "127.0.0.1:18199")]
        listen: SocketAddr,
        /// File with the shared secret
        #[arg(long)]
        secret_file: PathBuf,
        /// What it holds: names with what is right for each, as `name = "code"` lines of TOML [default: the Northmoor people]
        #[arg(long)]
        data: Option<PathBuf>,
    },
    /// Run stand-in receivers of codes until interrupted, one for HTTP calls and one for mail; or show what arrived
    Courier {
        /// Where calls are taken
        #[arg(long, default_value = "127.0.0.1:18480")]
        http: SocketAddr,
        /// Where mail is taken
        #[arg(long, default_value = "127.0.0.1:18025")]
        smtp: SocketAddr,
        /// Show what arrived at running receivers, newest last, and end
        #[arg(long)]
        read: bool,
        /// Answer every call with this status
        #[arg(long, default_value_t = 200, value_parser = clap::value_parser!(u16).range(200..=599))]
        status: u16,
        /// Milliseconds that each answer takes
        #[arg(long, default_value_t = 0)]
        delay: u64,
    },
    /// Run a robot handset until interrupted: it enrols with an invitation and answers approvals
    Handset {
        /// File with the invitation's code; `-` for standard input
        #[arg(long, value_name = "FILE")]
        invitation_file: PathBuf,
        /// What it is called
        #[arg(long, default_value = "robot")]
        label: String,
        /// What it does: approve, deny, not-me or ignore
        #[arg(long, default_value = "approve")]
        answers: String,
        /// How to pick the number of an approval: `ask` on standard input for the one on the screen, or take the `first`
        #[arg(long, default_value = "ask", value_parser = ["ask", "first"])]
        number: String,
        /// Seconds that it takes at least
        #[arg(long, default_value_t = 1.0)]
        least: f64,
        /// Seconds that it takes at most
        #[arg(long, default_value_t = 4.0)]
        most: f64,
    },
    /// Send one login as a gateway would, from outside the service
    Gateway {
        /// The name as it would be typed
        person: String,
        /// The address to send from
        #[arg(long, default_value = "127.0.0.11")]
        from: IpAddr,
        /// Where the service receives RADIUS
        #[arg(long, default_value = "127.0.0.1:18120")]
        radius: SocketAddr,
        /// File with the shared secret
        #[arg(long)]
        secret_file: PathBuf,
        /// Read what would be typed in the password field from a file; `-` for standard input [default: asked for]
        #[arg(long)]
        password_file: Option<PathBuf>,
        /// Seconds to wait per try
        #[arg(long, default_value_t = 5.0)]
        wait: f64,
        /// Tries in all
        #[arg(long, default_value_t = 3)]
        tries: u32,
    },
    /// Measure this machine: echo, bare server and the whole chain, in one run on loopback
    Load {
        /// Seconds per measurement
        #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u64).range(1..=60))]
        seconds: u64,
        /// Logins in flight
        #[arg(long, default_value_t = 64, value_parser = clap::value_parser!(u64).range(1..=1024))]
        parallel: u64,
        /// Rounds of alternating measurements
        #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u64).range(1..=20))]
        rounds: u64,
        /// Do not wait for the disk at each commit
        #[arg(long)]
        no_sync: bool,
        /// Against a real OpenLDAP server instead, beside what it does by itself; its first of two servers is ended at the end
        #[arg(long)]
        slapd: bool,
        /// With passwords that the server keeps under a slow hash (SHA-512 crypt), as directories should
        #[arg(long, requires = "slapd")]
        hashed: bool,
        /// So many approvals at one time instead, with robot handsets and gateways that resend every two seconds
        #[arg(long, conflicts_with = "slapd", value_name = "COUNT", value_parser = clap::value_parser!(u64).range(1..=20_000))]
        approvals: Option<u64>,
        /// So many made-up traces instead: how long a page of them takes at the API, by each filter
        #[arg(long, conflicts_with_all = ["slapd", "approvals"], value_name = "COUNT", value_parser = clap::value_parser!(u64).range(1_000..=10_000_000))]
        traces: Option<u64>,
        /// Also import this many people with a device each, and measure how long a start takes
        #[arg(long, requires = "traces", value_name = "COUNT", value_parser = clap::value_parser!(u64).range(1..=100_000))]
        people: Option<u64>,
        /// Seconds until each robot answers, with `--approvals`
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u64).range(5..=60))]
        answer_after: u64,
    },
}
