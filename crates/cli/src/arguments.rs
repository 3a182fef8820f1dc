//! The command line.

mod lab;
mod people;
mod prove;
mod timing;

pub(crate) use lab::Lab;
pub(crate) use people::{Factor, Person, Whose};
pub(crate) use prove::{Drill, Fails, Locate, Login, LoginMethod, Rehearse, Rule, Trace, TraceFilter, Who};
pub(crate) use timing::Budget;

use clap::{Args, Parser, Subcommand};
use ipnet::IpNet;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

/// Runs login chains from gateways through a second factor to directories; proves and explains them.
///
/// Exit status: 0 good, 1 the answer is no, 2 wrong use, 3 the service could not be reached.
#[derive(Debug, Parser)]
#[command(version, max_term_width = 110)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// How to reach the service; each also from the environment or from `bivector/client.toml` in the user's configuration folder.
#[derive(Debug, Clone, Args)]
pub(crate) struct Global {
    /// Address of the service's API
    #[arg(long, global = true, env = "BIVECTOR_SERVER", value_name = "URL", help_heading = "Service")]
    pub(crate) server: Option<String>,
    /// File with an operator's token
    #[arg(long, global = true, env = "BIVECTOR_TOKEN_FILE", value_name = "FILE", help_heading = "Service")]
    pub(crate) token_file: Option<PathBuf>,
    /// PEM file with the issuer of the service's certificate, where its API is reached over TLS [default: the usual issuers]
    #[arg(long, global = true, env = "BIVECTOR_CA", value_name = "FILE", help_heading = "Service")]
    pub(crate) ca: Option<PathBuf>,
    /// Print JSON
    #[arg(long, global = true)]
    pub(crate) json: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start the service
    Serve(Serve),
    /// Start service and stand-ins with the Northmoor data
    Demo(Demo),
    /// Check, apply and show the site
    #[command(subcommand)]
    Site(Site),
    /// Seal secrets
    #[command(subcommand)]
    Secret(Secret),
    /// Gateways of the site: what to enter on the device, who knocks
    #[command(subcommand)]
    Gateway(Gateway),
    /// Directories of the site: list them, prove them piece by piece
    #[command(subcommand)]
    Directory(Directory),
    /// Upstream RADIUS servers of the site
    #[command(subcommand)]
    Upstream(Upstream),
    /// Chains of the site, each with the live state of its hops
    #[command(subcommand)]
    Chain(Chain),
    /// Operators: who may call the service, and what they may do
    #[command(subcommand)]
    Operator(Operator),
    /// Who changed what, when and from where
    #[command(subcommand)]
    Audit(Audit),
    /// People and their factors
    #[command(subcommand)]
    Person(Person),
    /// Second factors of people: devices, lists, temporary codes, locks
    #[command(subcommand)]
    Factor(Factor),
    /// Show how a chain reads what somebody types in the password field; never what is in it
    Read(Read),
    /// Review how the service is exposed: listeners, files, certificates, settings, limits, clock, backups; exit status 1 if something should change
    Doctor,
    /// Try one login through a gateway's whole chain
    Login(Login),
    /// Play a list of logins, compare what comes of each with what must come
    Rehearse(Rehearse),
    /// Find the layer at which a login breaks
    Locate(Locate),
    /// Who can get in by a chain, by which rule, and who is left out
    Who(Who),
    /// Rules of chains, tried on made-up people
    #[command(subcommand)]
    Rule(Rule),
    /// Whether the waits of a chain nest, what to change, and what simulated logins say
    Budget(Budget),
    /// Rehearse without a pool member, and see what logins would notice
    Drill(Drill),
    /// What became of logins, step by step
    #[command(subcommand)]
    Trace(Trace),
    /// Stand-ins: a directory, a gateway, load
    #[command(subcommand)]
    Lab(Lab),
    /// Print the description of the HTTP API (OpenAPI)
    ApiDescription,
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Serve {
    /// Folder of records, key and trust files
    #[arg(long, default_value = "/var/lib/bivector", env = "BIVECTOR_DATA")]
    pub(crate) data: PathBuf,
    /// Where API and console listen; loopback only, unless a certificate is given
    #[arg(long, default_value = "127.0.0.1:18180", env = "BIVECTOR_HTTP")]
    pub(crate) http: SocketAddr,
    /// The key file that opens sealed secrets [default: seal.key in the data folder]
    #[arg(long, env = "BIVECTOR_KEY_FILE")]
    pub(crate) key_file: Option<PathBuf>,
    /// A file that the backup touches when it has copied the data folder; `bivector doctor` says how old it is
    #[arg(long, env = "BIVECTOR_BACKUP_STAMP", value_name = "FILE")]
    pub(crate) backup_stamp: Option<PathBuf>,
    /// Do not wait for the disk at each commit: a power cut may then lose the last used codes
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
    /// Its key, as a PEM file
    #[arg(long, env = "BIVECTOR_TLS_KEY", value_name = "FILE", requires = "tls_certificate")]
    pub(crate) tls_key: Option<PathBuf>,
}

/// An address stands for a range of one.
fn range(text: &str) -> Result<IpNet, String> {
    let one = || text.parse::<IpAddr>().map(IpNet::from);
    text.parse().or_else(|_| one()).map_err(|_| "this is no address and no range such as 203.0.113.0/24".to_owned())
}

#[derive(Debug, Subcommand)]
pub(crate) enum Upstream {
    /// List the upstreams of the site in force with the state of their servers
    List,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Chain {
    /// List the chains of the site in force, hop by hop
    List,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Operator {
    /// List all operators
    List,
    /// Add an operator and print a first token, once
    Add {
        /// The name
        name: String,
        /// What the operator may do
        #[arg(long, value_enum)]
        role: RoleName,
    },
    /// Give an operator another role
    Role {
        /// The name
        name: String,
        /// What the operator may do from now on
        #[arg(value_enum)]
        role: RoleName,
    },
    /// Take an operator out, with all tokens
    Remove {
        /// The name
        name: String,
    },
    /// Make a further token and print it, once
    Token {
        /// The operator's name
        name: String,
        /// What it is for
        #[arg(long = "for", value_name = "LABEL")]
        label: String,
    },
    /// Take a token out
    DropToken {
        /// The operator's name
        name: String,
        /// What it was for
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
    /// Set a console password, and print the seed of the one-time codes beside it, once
    SignIn {
        /// The operator's name
        name: String,
        /// Read the password from a file; `-` for standard input [default: asked for]
        #[arg(long)]
        password_file: Option<PathBuf>,
    },
}

/// A role; each includes the ones before it.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
pub(crate) enum RoleName {
    /// Look at everything but secrets
    View,
    /// Also try logins, probe sources, help people
    Operate,
    /// Also change the site and its secrets
    Change,
    /// Also add operators and read the audit
    Own,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    /// List what was changed, newest first
    List {
        /// How many
        #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
        limit: u32,
    },
    /// Compute its chain of hashes anew: exit status 1 if a row was changed or taken out
    Verify,
}

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Run the whole example, print its table and end; exit status 0 only if all came out as expected
    #[arg(long)]
    pub(crate) once: bool,
    /// Keep the data there [default: a temporary folder]
    #[arg(long)]
    pub(crate) data: Option<PathBuf>,
    /// Where RADIUS is received; an IPv6 door on the same port is opened too where this is 127.0.0.1
    #[arg(long, default_value = "127.0.0.1:18120")]
    pub(crate) radius: SocketAddr,
    /// Where API and console listen
    #[arg(long, default_value = "127.0.0.1:18180")]
    pub(crate) http: SocketAddr,
    /// Where the first directory server listens; the second takes the port after it
    #[arg(long, default_value = "127.0.0.1:18636")]
    pub(crate) directory: SocketAddr,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Site {
    /// Look for everything that is wrong with a site file
    Check {
        /// The site file; `-` for standard input
        file: PathBuf,
        /// Check without the service: what is sealed is then not known
        #[arg(long)]
        offline: bool,
    },
    /// Check a site file and put it in force as a new revision
    Apply {
        /// The site file; `-` for standard input
        file: PathBuf,
        /// What the change is for
        #[arg(long, default_value = "")]
        note: String,
        /// Apply only if this revision is in force
        #[arg(long, value_name = "REVISION")]
        expected: Option<u64>,
        /// The change makes logging in weaker, and that is meant
        #[arg(long)]
        weaker_is_meant: bool,
        /// Go back by itself unless confirmed within this time, such as 10m
        #[arg(long, value_name = "TIME")]
        confirm_within: Option<String>,
        /// Play this rehearsal of the change first; only if it passes is anybody's login decided by it
        #[arg(long, value_name = "REHEARSAL")]
        prove: Option<String>,
    },
    /// Decide recorded logins again under a site file, and say which would end otherwise
    Replay {
        /// The site file; `-` for standard input
        file: PathBuf,
        /// How many of the newest logins
        #[arg(long, default_value_t = 1000, value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
        last: u32,
        /// Only those of this chain
        #[arg(long)]
        chain: Option<String>,
    },
    /// Say what a site file would change, in words
    Compare {
        /// The site file; `-` for standard input
        #[arg(required_unless_present = "revision")]
        file: Option<PathBuf>,
        /// Compare this revision instead of a file
        #[arg(long, conflicts_with = "file")]
        revision: Option<u64>,
        /// Compare with this revision [default: the one in force]
        #[arg(long, value_name = "REVISION")]
        against: Option<u64>,
        /// Show the lines too
        #[arg(long)]
        lines: bool,
    },
    /// Say that the revision in force stays
    Confirm,
    /// Print the site file in force, with its comments
    Export {
        /// Another revision than the one in force
        revision: Option<u64>,
    },
    /// List all revisions
    History,
    /// Put an earlier revision in force again, as a new one
    Restore {
        /// Its number
        revision: u64,
        /// It makes logging in weaker than it is now, and that is meant
        #[arg(long)]
        weaker_is_meant: bool,
    },
    /// Print the reference of the site file
    Reference,
    /// Print what goes with what: methods, sources, forms and factors
    Methods,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Secret {
    /// Seal a secret: asked for, read from a file, or generated
    Set {
        /// Its name, such as gateway/breakwater
        name: String,
        /// Read the value from a file; `-` for standard input. One line break at the end is taken off
        #[arg(long, conflicts_with = "generate")]
        file: Option<PathBuf>,
        /// Make a long random one and print it once
        #[arg(long)]
        generate: bool,
    },
    /// List the names of sealed secrets, and who still uses the old value of one that is being changed over
    List,
    /// Seal the next value of a gateway's secret: both count until the old one is retired
    Rotate {
        /// Its name
        name: String,
        /// Read the next value from a file; `-` for standard input [default: a long random one is made and printed once]
        #[arg(long)]
        file: Option<PathBuf>,
    },
    /// Retire the old value: only the next one counts from then on
    Retire {
        /// Its name
        name: String,
        /// Also while a gateway has not been seen with the next value
        #[arg(long)]
        anyway: bool,
    },
    /// Forget a secret that the site in force does not name
    Forget {
        /// Its name
        name: String,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum Gateway {
    /// List the gateways of the site in force
    List,
    /// Show one gateway
    Show {
        /// Its name
        name: String,
    },
    /// Print the sheet of what to enter on the device
    Handover {
        /// The gateway's name
        name: String,
        /// How to write it
        #[arg(long, value_enum, default_value = "text")]
        format: SheetFormat,
    },
    /// List packets that got no answer: from whom, how often, why, and which gateway it might be
    Knocks,
    /// Add an address to a gateway, as a new revision of the site
    Register {
        /// The address, or a range
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
    /// List the directories of the site in force with the state of their servers
    List {
        /// Stay, and print each change as it comes
        #[arg(long)]
        watch: bool,
    },
    /// Prove every server of a directory: name, connection, TLS, account, base, and a person's entry and groups
    Probe {
        /// The directory's name
        name: String,
        /// A login name to look for
        #[arg(long)]
        person: Option<String>,
    },
}

#[derive(Debug, Args)]
pub(crate) struct Read {
    /// The chain; may be left out where the gateway has one only
    #[arg(long)]
    pub(crate) chain: Option<String>,
    /// The gateway that the text would come through
    #[arg(long)]
    pub(crate) via: Option<String>,
    /// Whose devices count as evidence [default: nobody's]
    #[arg(long)]
    pub(crate) person: Option<String>,
    /// Read the text from a file; `-` for standard input [default: asked for]
    #[arg(long, value_name = "FILE")]
    pub(crate) text_file: Option<PathBuf>,
}
