//! The site: everything that is configured, read from one TOML document and immutable afterwards.

mod check;
mod finding;
mod read;
mod reference;
mod section;
#[cfg(test)]
mod tests;

pub use check::Known;
pub use finding::{Finding, Severity, Span};
pub use reference::reference_markdown;

use crate::addresses::AddressMap;
use crate::form::Form;
use crate::grant::Grant;
use crate::identity::IdentityRule;
use crate::rule::RuleBook;
use bivector_wire::IntegrityPolicy;
use ipnet::IpNet;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// A site that has passed its checks.
#[derive(Debug)]
pub struct Site {
    /// What the operator calls it.
    pub name: String,
    /// The `radius` door.
    pub radius: RadiusDoor,
    /// Gateways in the order of the file.
    pub gateways: Vec<Gateway>,
    /// Directories.
    pub directories: Vec<Directory>,
    /// Chains.
    pub chains: Vec<Chain>,
    /// Grants.
    pub grants: Vec<Grant>,
    /// How codes by time are checked.
    pub totp_window: u64,
    by_address: AddressMap<usize>,
}

/// Where RADIUS is received.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RadiusDoor {
    /// Addresses and ports.
    pub listen: Vec<SocketAddr>,
    /// Logins in flight over all gateways; each holds about 4 KiB.
    pub logins_in_flight: usize,
    /// How long a reply is kept for resends.
    pub replies_kept: Duration,
}

/// A device that sends logins.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gateway {
    /// Its name.
    pub name: String,
    /// Where its packets come from.
    pub from: Vec<IpNet>,
    /// Name of the sealed shared secret.
    pub secret: String,
    /// Whether it must sign its requests.
    pub integrity: IntegrityPolicy,
    /// How long it waits per try and how often it tries, as set on the device.
    pub patience: Option<GatewayPatience>,
    /// How long the person's own program waits.
    pub client_patience: Option<Duration>,
    /// Whether it can show a prompt and send the answer.
    pub shows_challenges: bool,
    /// Logins of this gateway that may be in flight.
    pub logins_in_flight: usize,
    /// The chain that takes its logins.
    pub chain: Option<usize>,
    /// Its line in the site file.
    pub line: u32,
}

/// A gateway's resends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GatewayPatience {
    /// Wait per try.
    pub wait: Duration,
    /// Tries in all.
    pub tries: u32,
}

/// A source that speaks LDAP.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Directory {
    /// Its name.
    pub name: String,
    /// Servers in the order in which they are asked.
    pub servers: Vec<Server>,
    /// Whether `ldap://` is turned into TLS before anything is said.
    pub start_tls: bool,
    /// PEM file with the issuers that are trusted; relative to the data folder.
    pub trust: Option<String>,
    /// Where people are.
    pub base: String,
    /// How deep below the base.
    pub scope: Scope,
    /// The naming attribute.
    pub login: String,
    /// The service account.
    pub reader: Option<Reader>,
    /// Where groups come from.
    pub groups: GroupSource,
    /// Time limit for a connection, name resolution and TLS included.
    pub connect_patience: Duration,
    /// Time limit for an answer.
    pub answer_patience: Duration,
    /// Connections for checking passwords, per server.
    pub connections: usize,
    /// Its line in the site file.
    pub line: u32,
}

/// One server of a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Server {
    /// As it stands in the site file.
    pub url: String,
    /// Whether it is TLS from the first byte.
    pub tls: bool,
    /// Name or address.
    pub host: String,
    /// Port.
    pub port: u16,
}

/// The service account of a directory.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reader {
    /// Its DN.
    pub dn: String,
    /// Name of its sealed password.
    pub secret: String,
}

/// How deep below the base people are looked for (RFC 4511 section 4.5.1.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scope {
    /// Anywhere below.
    Subtree,
    /// Right below.
    OneLevel,
}

/// Where a person's groups come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GroupSource {
    /// An attribute of the person's entry holds the groups' DNs.
    Attribute(String),
    /// Groups are searched for the person's DN.
    Search {
        /// Where groups are.
        base: String,
        /// The attribute of a group that lists its members' DNs.
        member: String,
    },
}

/// A source for the first check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SourceRef {
    /// A directory of the site, by index.
    Directory(usize),
    /// Bivector's own records.
    Roster,
}

/// How a credential may come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Method {
    /// The password as text, hidden on the wire.
    Pap,
}

/// A way to give the second proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum FactorKind {
    /// A code by time.
    Totp,
}

/// Which reading counts when none has evidence.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhenUnclear {
    /// The first form with a code: a wrong code is then called that.
    #[default]
    Code,
    /// The first form without one: passwords that end in digits work without a code.
    Plain,
}

/// The path of a login.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chain {
    /// Its name.
    pub name: String,
    /// How names are read.
    pub identity: IdentityRule,
    /// Methods it takes.
    pub methods: Vec<Method>,
    /// Forms of the password field, preferred first.
    pub forms: Vec<Form>,
    /// Sources, tried in order.
    pub first: Vec<SourceRef>,
    /// Second factors it takes; none means the password is enough.
    pub second: Vec<FactorKind>,
    /// Which reading counts when none has evidence.
    pub when_unclear: WhenUnclear,
    /// Refusals leave at whole multiples of this after the request, so that their time tells nothing.
    pub refusal_pace: Duration,
    /// Rules in order.
    pub rules: RuleBook,
    /// Its line in the site file.
    pub line: u32,
    /// Line of its forms.
    pub forms_line: u32,
}

impl Site {
    /// Reads a site file. All findings come back, sorted by place; a site only if none of them is an error.
    pub fn read(text: &str, known: &Known) -> (Option<Site>, Vec<Finding>) {
        read::read(text, known)
    }

    /// The gateway that an address belongs to, by its most specific range.
    pub fn gateway_at(&self, address: IpAddr) -> Option<usize> {
        self.by_address.find(address)
    }

    /// The gateway of a name.
    pub fn gateway_named(&self, name: &str) -> Option<usize> {
        self.gateways.iter().position(|gateway| gateway.name == name)
    }

    /// A source's name.
    pub fn source_name(&self, source: SourceRef) -> &str {
        match source {
            SourceRef::Directory(index) => self.directories.get(index).map_or("?", |directory| directory.name.as_str()),
            SourceRef::Roster => "roster",
        }
    }

    /// Names of all secrets that must be sealed for this site to run.
    pub fn secrets(&self) -> impl Iterator<Item = &str> {
        let readers = self.directories.iter().filter_map(|directory| directory.reader.as_ref()).map(|reader| reader.secret.as_str());
        self.gateways.iter().map(|gateway| gateway.secret.as_str()).chain(readers)
    }
}
