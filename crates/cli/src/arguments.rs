//! The command line.

mod lab;
mod people;
mod prove;
mod sessions;
mod timing;

pub(crate) use lab::Lab;
pub(crate) use people::{Factor, Person, Push, Whose};
pub(crate) use prove::{Circumstances, Drill, Fails, Locate, Login, Rehearse, Rule, Trace, TraceFilter, Who};
pub(crate) use sessions::{Session, SessionFilter};
pub(crate) use timing::Budget;

use clap::{Args, Parser, Subcommand};
use ipnet::IpNet;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

/// RADIUS second-factor proxy: runs login chains from gateways through a second factor to directories, and tests and explains them.
///
/// Exit status: 0 success; 1 negative result (refused, failed or not found); 2 usage error; 3 service unreachable.
#[derive(Debug, Parser)]
#[command(version, max_term_width = 110)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// How to reach the service. Each option can also be set in the environment or in `bivector/client.toml` in your configuration folder.
#[derive(Debug, Clone, Args)]
pub(crate) struct Global {
    /// Address of the service's API
    #[arg(long, global = true, env = "BIVECTOR_SERVER", value_name = "URL", help_heading = "Service")]
    pub(crate) server: Option<String>,
    /// File containing an operator token
    #[arg(long, global = true, env = "BIVECTOR_TOKEN_FILE", value_name = "FILE", help_heading = "Service")]
    pub(crate) token_file: Option<PathBuf>,
    /// PEM file with the CA that issued the service's certificate, for an API over TLS [default: system CA store]
    #[arg(long, global = true, env = "BIVECTOR_CA", value_name = "FILE", help_heading = "Service")]
    pub(crate) ca: Option<PathBuf>,
    /// Print JSON instead of text
    #[arg(long, global = true)]
    pub(crate) json: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start the service
    Serve(Serve),
    /// Start the service with simulated gateways, directories and couriers, using the Northmoor example data
    Demo(Demo),
    /// Check, apply, compare and show the site (the configuration)
    #[command(subcommand)]
    Site(Site),
    /// Seal (store encrypted), list and rotate secrets
    #[command(subcommand)]
    Secret(Secret),
    /// List gateways, print the settings for a device, and list knocks (unanswered packets)
    #[command(subcommand)]
    Gateway(Gateway),
    /// List LDAP directories and probe them step by step
    #[command(subcommand)]
    Directory(Directory),
    /// List upstream RADIUS servers
    #[command(subcommand)]
    Upstream(Upstream),
    /// List chains with the live state of each hop
    #[command(subcommand)]
    Chain(Chain),
    /// Manage operators, their roles and their tokens
    #[command(subcommand)]
    Operator(Operator),
    /// Show who changed what, when and from where
    #[command(subcommand)]
    Audit(Audit),
    /// Manage people: list, add, import, synchronise, suspend, remove
    #[command(subcommand)]
    Person(Person),
    /// Manage second factors: devices, recovery codes, temporary codes, invitations, locks
    #[command(subcommand)]
    Factor(Factor),
    /// Manage the keys that push messages are signed with
    #[command(subcommand)]
    Push(Push),
    /// Show how a chain parses the password field, without printing its content
    Read(Read),
    /// Review how the service is exposed: listeners, files, certificates, settings, limits, clock, backups; exit status 1 if something should change
    Doctor,
    /// Test one login through a gateway and its whole chain
    Login(Login),
    /// Run a rehearsal: a list of logins, each compared with its expected result
    Rehearse(Rehearse),
    /// Find the layer at which a login fails
    Locate(Locate),
    /// Show who can log in through a chain, by which rule, and who cannot
    Who(Who),
    /// Evaluate a chain's rules for a hypothetical login
    #[command(subcommand)]
    Rule(Rule),
    /// Check that each hop of a chain waits longer than the hops behind it; suggest and simulate timeouts
    Budget(Budget),
    /// Run a rehearsal with one pool member failed and report the effect on logins
    Drill(Drill),
    /// Show recorded logins, step by step
    #[command(subcommand)]
    Trace(Trace),
    /// List sessions of gateways, end and change them (RFC 2866, RFC 5176)
    #[command(subcommand)]
    Session(Session),
    /// Test tools: simulated directory, upstream, courier, handset and gateway; load measurement
    #[command(subcommand)]
    Lab(Lab),
    /// Print the OpenAPI description of the HTTP API
    ApiDescription,
    /// Print shell completions
    Completions {
        /// Shell to print completions for
        shell: clap_complete::Shell,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Serve {
    /// Data folder: records, key file and trust files
    #[arg(long, default_value = "/var/lib/bivector", env = "BIVECTOR_DATA")]
    pub(crate) data: PathBuf,
    /// Listen address of the API and console; must be loopback unless a certificate is given
    #[arg(long, default_value = "127.0.0.1:18180", env = "BIVECTOR_HTTP")]
    pub(crate) http: SocketAddr,
    /// Key file that decrypts sealed secrets [default: seal.key in the data folder]
    #[arg(long, env = "BIVECTOR_KEY_FILE")]
    pub(crate) key_file: Option<PathBuf>,
    /// A file that the backup touches when it has copied the data folder; `bivector doctor` says how old it is
    #[arg(long, env = "BIVECTOR_BACKUP_STAMP", value_name = "FILE")]
    pub(crate) backup_stamp: Option<PathBuf>,
    /// Do not sync to disk at each commit: after a power failure, codes used just before could be accepted again
    #[arg(long)]
    pub(crate) no_sync: bool,
    /// Where the handset page listens, apart from API and console, so that a proxy for phones reaches nothing else [default: beside them]
    #[arg(long, env = "BIVECTOR_PHONES", value_name = "ADDRESS")]
    pub(crate) phones: Option<SocketAddr>,
    /// A name that leads to this service, besides those of the certificate and of the site's handset page; may be given several times
    #[arg(long = "name", env = "BIVECTOR_NAMES", value_name = "NAME", value_delimiter = ',')]
    pub(crate) names: Vec<String>,
    /// Address or range of a proxy whose `Forwarded` header (RFC 7239) says who calls; may be given several times
    #[arg(long = "proxy", env = "BIVECTOR_PROXIES", value_name = "RANGE", value_delimiter = ',', value_parser = range)]
    pub(crate) proxies: Vec<IpNet>,
    /// Certificate of API, console and handset page with its issuers, as a PEM file
    #[arg(long, env = "BIVECTOR_TLS_CERTIFICATE", value_name = "FILE", requires = "tls_key")]
    pub(crate) tls_certificate: Option<PathBuf>,
    /// PEM file with the certificate's private key
    #[arg(long, env = "BIVECTOR_TLS_KEY", value_name = "FILE", requires = "tls_certificate")]
    pub(crate) tls_key: Option<PathBuf>,
}

/// An address stands for a range of one.
fn range(text: &str) -> Result<IpNet, String> {
    let one = || text.parse::<IpAddr>().map(IpNet::from);
    text.parse().or_else(|_| one()).map_err(|_| "this is neither an address nor a range such as 203.0.113.0/24".to_owned())
}

#[derive(Debug, Subcommand)]
pub(crate) enum Upstream {
    /// List the active site's upstreams and the state of their servers
    List,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Chain {
    /// List the active site's chains, hop by hop
    List,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Operator {
    /// List all operators
    List,
    /// Add an operator and print their first token (shown only once)
    Add {
        /// Operator name
        name: String,
        /// Role of the operator
        #[arg(long, value_enum)]
        role: RoleName,
    },
    /// Change an operator's role
    Role {
        /// Operator name
        name: String,
        /// Role of the operator from now on
        #[arg(value_enum)]
        role: RoleName,
    },
    /// Remove an operator and revoke all their tokens
    Remove {
        /// Operator name
        name: String,
    },
    /// Create another token and print it (shown only once)
    Token {
        /// The operator's name
        name: String,
        /// Label: what the token is for
        #[arg(long = "for", value_name = "LABEL")]
        label: String,
    },
    /// Revoke a token
    DropToken {
        /// The operator's name
        name: String,
        /// Label of the token
        label: String,
    },
    /// List an operator's sign-ins to the console that have not ended
    Sessions {
        /// The operator's name
        name: String,
    },
    /// End an operator's sign-ins to the console: one, or all of them
    EndSession {
        /// The operator's name
        name: String,
        /// Which one, as `operator sessions` names it [default: all]
        id: Option<String>,
    },
    /// Set a console password and print a TOTP seed to go with it (shown only once)
    SignIn {
        /// The operator's name
        name: String,
        /// Read the password from a file; `-` for standard input [default: prompt]
        #[arg(long)]
        password_file: Option<PathBuf>,
    },
}

/// A role; each includes the ones before it.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
pub(crate) enum RoleName {
    /// View everything except secrets
    View,
    /// Also test logins, probe sources and manage people's factors
    Operate,
    /// Also change the site and its secrets
    Change,
    /// Also manage operators and read the audit log
    Own,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    /// List changes, newest first
    List {
        /// Maximum number of rows
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Recompute the audit log's hash chain; exit status 1 if a row was changed or removed
    Verify,
}

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Run every example login, print a results table and exit; exit status 0 only if all results are as expected
    #[arg(long)]
    pub(crate) once: bool,
    /// Data folder to use and keep [default: a temporary folder]
    #[arg(long)]
    pub(crate) data: Option<PathBuf>,
    /// Listen address for RADIUS; with 127.0.0.1, an IPv6 door on the same port is opened too
    #[arg(long, default_value = "127.0.0.1:18120")]
    pub(crate) radius: SocketAddr,
    /// Listen address of the API and console
    #[arg(long, default_value = "127.0.0.1:18180")]
    pub(crate) http: SocketAddr,
    /// Listen address of the first directory server; the second uses the next port
    #[arg(long, default_value = "127.0.0.1:18636")]
    pub(crate) directory: SocketAddr,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Site {
    /// Report every error and warning in a site file
    Check {
        /// The site file; `-` for standard input
        file: PathBuf,
        /// Check without contacting the service; whether secrets are sealed is then not checked
        #[arg(long)]
        offline: bool,
    },
    /// Check a site file and activate it as a new revision
    Apply {
        /// The site file; `-` for standard input
        file: PathBuf,
        /// Reason for the change, kept with the revision
        #[arg(long, default_value = "")]
        note: String,
        /// Apply only if this is the active revision
        #[arg(long, value_name = "REVISION")]
        expected: Option<u64>,
        /// Accept a change that weakens login security
        #[arg(long)]
        weaker_is_meant: bool,
        /// Roll back automatically unless confirmed within this time, for example 10m
        #[arg(long, value_name = "TIME")]
        confirm_within: Option<String>,
        /// Run this rehearsal against the change first; activate the change only if it passes
        #[arg(long, value_name = "REHEARSAL")]
        prove: Option<String>,
        /// Then end the open sessions of people whom the rules no longer admit
        #[arg(long, conflicts_with = "confirm_within")]
        end_sessions: bool,
    },
    /// Re-evaluate recorded logins under a site file and list those with a different result
    Replay {
        /// The site file; `-` for standard input
        file: PathBuf,
        /// Number of most recent logins to re-evaluate
        #[arg(long, default_value_t = 1000, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
        last: u32,
        /// Only logins of this chain
        #[arg(long)]
        chain: Option<String>,
    },
    /// Describe what a site file would change
    Compare {
        /// The site file; `-` for standard input
        #[arg(required_unless_present = "revision")]
        file: Option<PathBuf>,
        /// Compare this revision instead of a file
        #[arg(long, conflicts_with = "file")]
        revision: Option<u64>,
        /// Compare with this revision [default: the active one]
        #[arg(long, value_name = "REVISION")]
        against: Option<u64>,
        /// Also show the changed lines
        #[arg(long)]
        lines: bool,
    },
    /// Keep the active revision: cancel its automatic rollback
    Confirm,
    /// Print the active site file, including comments
    Export {
        /// Revision to print [default: the active one]
        revision: Option<u64>,
    },
    /// List all revisions
    History,
    /// Activate an earlier revision again, as a new revision
    Restore {
        /// Revision number
        revision: u64,
        /// Accept a revision that weakens login security
        #[arg(long)]
        weaker_is_meant: bool,
    },
    /// Print the site file reference
    Reference,
    /// Print the compatibility tables of methods, sources, forms and factors
    Methods,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Secret {
    /// Seal a secret: typed at a prompt, read from a file, or generated
    Set {
        /// Name of the secret, for example gateway/breakwater
        name: String,
        /// Read the value from a file; `-` for standard input. One trailing line break is removed
        #[arg(long, conflicts_with = "generate")]
        file: Option<PathBuf>,
        /// Generate a long random value and print it once
        #[arg(long)]
        generate: bool,
    },
    /// List sealed secrets and, during a rotation, the gateways that still use the old value
    List,
    /// Start a rotation: seal a new value for a gateway's secret; both values are accepted until the old one is retired
    Rotate {
        /// Its name
        name: String,
        /// Read the new value from a file; `-` for standard input [default: generate one and print it once]
        #[arg(long)]
        file: Option<PathBuf>,
    },
    /// Finish a rotation: from now on only the new value is accepted
    Retire {
        /// Its name
        name: String,
        /// Retire even if a gateway has not used the new value yet
        #[arg(long)]
        anyway: bool,
    },
    /// Delete a secret that the active site does not use
    Forget {
        /// Its name
        name: String,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum Gateway {
    /// List the active site's gateways
    List,
    /// Show one gateway
    Show {
        /// Its name
        name: String,
    },
    /// Print the handover sheet: the settings to enter on the device
    Handover {
        /// The gateway's name
        name: String,
        /// Output format
        #[arg(long, value_enum, default_value = "text")]
        format: SheetFormat,
    },
    /// List knocks (unanswered packets): sender, count, cause and the gateway they may belong to
    Knocks,
    /// Add an address to a gateway, as a new revision of the site
    Register {
        /// Address or range
        address: String,
        /// The gateway's name
        #[arg(long = "as", value_name = "GATEWAY")]
        gateway: String,
    },
}

/// How a sheet is written; `--json` gives its data.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
pub(crate) enum SheetFormat {
    Text,
    Markdown,
    Html,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Directory {
    /// List the active site's directories and the state of their servers
    List {
        /// Keep running and print each state change
        #[arg(long)]
        watch: bool,
    },
    /// Probe every server of a directory: name resolution, connection, TLS, service account, base, and a person's entry and groups
    Probe {
        /// The directory's name
        name: String,
        /// Login name to search for
        #[arg(long)]
        person: Option<String>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Read {
    /// Chain; optional if the gateway has only one
    #[arg(long)]
    pub(crate) chain: Option<String>,
    /// Gateway that the login would come through
    #[arg(long)]
    pub(crate) via: Option<String>,
    /// Person whose devices are used to verify a code [default: none]
    #[arg(long)]
    pub(crate) person: Option<String>,
    /// Read the text from a file; `-` for standard input [default: prompt]
    #[arg(long, value_name = "FILE")]
    pub(crate) text_file: Option<PathBuf>,
}
