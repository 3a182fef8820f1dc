//! What `lab` takes.

use clap::Subcommand;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum Lab {
    /// Run a simulated directory until interrupted
    Directory {
        /// Data file, in the format of demo/directory.toml [default: the Northmoor people]
        #[arg(long)]
        data: Option<PathBuf>,
        /// Listen address
        #[arg(long, default_value = "127.0.0.1:18389")]
        listen: SocketAddr,
        /// Use TLS; write the issuing CA's certificate to this PEM file
        #[arg(long, value_name = "PEM")]
        tls: Option<PathBuf>,
        /// Delay of each answer, in milliseconds
        #[arg(long, default_value_t = 0)]
        delay: u64,
    },
    /// Run a simulated upstream until interrupted: a legacy RADIUS server that checks hardware token codes
    Upstream {
        /// Listen address
        #[arg(long, default_value = "127.0.0.1:18199")]
        listen: SocketAddr,
        /// File with the shared secret
        #[arg(long)]
        secret_file: PathBuf,
        /// Data file: valid codes as TOML lines `name = "code"` [default: the Northmoor people]
        #[arg(long)]
        data: Option<PathBuf>,
    },
    /// Run simulated HTTP and mail receivers for codes until interrupted; or show what they received
    Courier {
        /// Listen address for HTTP
        #[arg(long, default_value = "127.0.0.1:18480")]
        http: SocketAddr,
        /// Listen address for SMTP
        #[arg(long, default_value = "127.0.0.1:18025")]
        smtp: SocketAddr,
        /// Show what running receivers have received, newest last, and exit
        #[arg(long)]
        read: bool,
        /// HTTP status of every answer
        #[arg(long, default_value_t = 200, value_parser = clap::value_parser!(u16).range(200..=599))]
        status: u16,
        /// Delay of each answer, in milliseconds
        #[arg(long, default_value_t = 0)]
        delay: u64,
    },
    /// Run a simulated handset until interrupted: it enrols with an invitation and answers approvals
    Handset {
        /// File with the invitation's code; `-` for standard input
        #[arg(long, value_name = "FILE")]
        invitation_file: PathBuf,
        /// Device name
        #[arg(long, default_value = "robot")]
        label: String,
        /// Response: approve, deny, not-me or ignore
        #[arg(long, default_value = "approve")]
        answers: String,
        /// How to pick the number of an approval: `ask` on standard input for the one on the screen, or take the `first`
        #[arg(long, default_value = "ask", value_parser = ["ask", "first"])]
        number: String,
        /// Minimum seconds before it answers
        #[arg(long, default_value_t = 1.0)]
        least: f64,
        /// Maximum seconds before it answers
        #[arg(long, default_value_t = 4.0)]
        most: f64,
    },
    /// Send one login over the network, as a gateway would
    Gateway {
        /// The name as it would be typed
        person: String,
        /// Source address
        #[arg(long, default_value = "127.0.0.11")]
        from: IpAddr,
        /// Address of the service's RADIUS door
        #[arg(long, default_value = "127.0.0.1:18120")]
        radius: SocketAddr,
        /// File with the shared secret
        #[arg(long)]
        secret_file: PathBuf,
        /// Read the content of the password field from a file; `-` for standard input [default: prompt]
        #[arg(long)]
        password_file: Option<PathBuf>,
        /// Timeout per try, in seconds
        #[arg(long, default_value_t = 5.0)]
        wait: f64,
        /// Total number of tries
        #[arg(long, default_value_t = 3)]
        tries: u32,
        /// After an accept, report a session to this accounting door until interrupted
        #[arg(long, value_name = "ADDRESS")]
        accounting: Option<SocketAddr>,
        /// Take requests to end or change the session here (RFC 5176)
        #[arg(long, value_name = "ADDRESS", requires = "accounting")]
        dynamic: Option<SocketAddr>,
        /// Seconds between two reports of the session
        #[arg(long, default_value_t = 10, requires = "accounting", value_parser = clap::value_parser!(u64).range(1..=3600))]
        every: u64,
    },
    /// Measure this machine on loopback: UDP echo, packet path alone and the whole chain
    Load {
        /// Seconds per measurement
        #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u64).range(1..=60))]
        seconds: u64,
        /// Concurrent logins
        #[arg(long, default_value_t = 64, value_parser = clap::value_parser!(u64).range(1..=1024))]
        parallel: u64,
        /// Rounds, alternating between the measurements
        #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u64).range(1..=20))]
        rounds: u64,
        /// Do not sync to disk at each commit
        #[arg(long)]
        no_sync: bool,
        /// Measure with a real OpenLDAP server, compared with direct binds; the first of two servers is stopped at the end
        #[arg(long)]
        slapd: bool,
        /// Use a slow password hash on the server (SHA-512 crypt), as in production
        #[arg(long, requires = "slapd")]
        hashed: bool,
        /// Measure this many concurrent approvals, with simulated handsets and gateways that retransmit every two seconds
        #[arg(long, conflicts_with = "slapd", value_name = "COUNT", value_parser = clap::value_parser!(u64).range(1..=20_000))]
        approvals: Option<u64>,
        /// Measure EAP-TTLS logins, full and resumed, compared with bare TLS handshakes
        #[arg(long, conflicts_with_all = ["slapd", "approvals", "traces"])]
        eap: bool,
        /// Measure API queries over this many generated traces, one per filter
        #[arg(long, conflicts_with_all = ["slapd", "approvals"], value_name = "COUNT", value_parser = clap::value_parser!(u64).range(1_000..=10_000_000))]
        traces: Option<u64>,
        /// Also import this many people with a device each, and measure how long a start takes
        #[arg(long, requires = "traces", value_name = "COUNT", value_parser = clap::value_parser!(u64).range(1..=100_000))]
        people: Option<u64>,
        /// With `--approvals`: seconds until each simulated handset answers
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u64).range(5..=60))]
        answer_after: u64,
    },
}
