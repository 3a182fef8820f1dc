//! The site: everything that is configured, read from one TOML document and immutable afterwards.

mod check;
mod compare;
mod factors;
mod finding;
#[cfg(test)]
mod finding_tests;
mod intended;
mod issuers;
mod lookup;
pub mod matrix;
mod read;
mod reference;
pub mod rehearsal;
mod section;

#[cfg(test)]
mod tests;

pub use bivector_model::keeping::{DynamicAuthorization, SessionKeeping};
pub use check::{Advice, Adviser, Known, KnownPerson};
pub use compare::{Difference, compare};
pub use factors::{
    Carries, ConfirmedBy, Courier, CourierBy, FactorKind, FactorWord, Handset, HashSettings, Invited, Lockout, Newcomers, Passwords, Push,
    Sending, Waived, Waiver, Wake, WhenNotEnrolled, WhenSecondIsDown, WhenSeveral, WhenUnanswered,
};
pub use finding::{Finding, Severity, Span};
pub use issuers::{Issuer, NameFrom, Responder, WhenUnknown};
pub use reference::reference_markdown;
pub use section::read_duration;

use crate::rehearsal::{Persona, Rehearsal};
use bivector_model::addresses::AddressMap;
use bivector_model::device::{CodeKind, CodeLimits};
use bivector_model::form::Form;
use bivector_model::grant::Grant;
use bivector_model::identity::IdentityRule;
use bivector_model::pool::AddressPool;
use bivector_model::prompt::Texts;
use bivector_model::rule::RuleBook;
use bivector_wire::AttributeType;
use bivector_wire::IntegrityPolicy;
pub use bivector_wire::eap::EapMethod;
use bivector_wire::eap::Proves;
use ipnet::IpNet;
use jiff::tz::TimeZone;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// A site that has passed its checks.
#[derive(Debug, Clone)]
pub struct Site {
    /// What the operator calls it.
    pub name: String,
    /// The time zone in which its hours are meant.
    pub zone: TimeZone,
    /// The `radius` door.
    pub radius: RadiusDoor,
    /// Gateways in the order of the file.
    pub gateways: Vec<Gateway>,
    /// Directories.
    pub directories: Vec<Directory>,
    /// Upstream RADIUS servers.
    pub upstreams: Vec<Upstream>,
    /// Chains.
    pub chains: Vec<Chain>,
    /// Grants.
    pub grants: Vec<Grant>,
    /// Pools that grants take addresses from.
    pub pools: Vec<AddressPool>,
    /// Ways to send codes.
    pub couriers: Vec<Courier>,
    /// How generously codes are read.
    pub codes: CodeLimits,
    /// How codes are sent.
    pub sending: Sending,
    /// When wrong codes lock a person.
    pub lockout: Lockout,
    /// When wrong passwords make a person or a caller wait.
    pub passwords: Passwords,
    /// How long a prompt may be answered.
    pub prompt_lasts: Duration,
    /// The lines that say how long a prompt and a sent code may be answered; 0 where the site file does not say it.
    pub factor_lines: (u32, u32),
    /// What people read.
    pub texts: Texts,
    /// The page that people have on their phones.
    pub handset: Handset,
    /// How handsets are woken.
    pub push: Push,
    /// How EAP is carried out, where chains do so.
    pub eap: Eap,
    /// Whose certificates may log in.
    pub issuers: Vec<Issuer>,
    /// What people of groups get when they are first known; the first that fits.
    pub newcomers: Vec<Newcomers>,
    /// How long traces are kept.
    pub traces: TraceKeeping,
    /// How sessions are kept.
    pub sessions: SessionKeeping,
    /// People who exist for rehearsals.
    pub personas: Vec<Persona>,
    /// Rehearsals.
    pub rehearsals: Vec<Rehearsal>,
    by_address: AddressMap<usize>,
}

/// How many traces are kept, and how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TraceKeeping {
    /// How many at most; each takes about 3 KiB on disk.
    pub count: u64,
    /// How long at most; none for as long as there is room.
    pub time: Option<Duration>,
    /// Whether typed names that nobody is known by are kept as they were typed.
    pub keep_unknown_names: bool,
}

impl Default for TraceKeeping {
    fn default() -> Self {
        TraceKeeping { count: 1_000_000, time: None, keep_unknown_names: false }
    }
}

impl std::fmt::Display for TraceKeeping {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.time {
            Some(time) => write!(f, "{} for {} days", self.count, time.as_secs() / 86_400),
            None => write!(f, "{}", self.count),
        }
    }
}

/// A place that a secret is sent to.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Destination {
    /// The secret's name.
    pub secret: String,
    /// The server or the address that gets it.
    pub place: String,
    /// Whether the connection is turned into TLS first.
    pub start_tls: bool,
    /// File with the issuers that are trusted; the usual ones if none is named.
    pub trust: Option<String>,
}

/// Where RADIUS is received.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RadiusDoor {
    /// Addresses and ports for logins.
    pub listen: Vec<SocketAddr>,
    /// Addresses and ports for reports of sessions; none where nobody reports.
    pub accounting: Vec<SocketAddr>,
    /// How long after an accept its session should have begun, at gateways that report.
    pub session_within: Duration,
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
    /// Host names whose addresses its packets come from; resolved by the service, again and again.
    pub hosts: Vec<String>,
    /// What it calls itself in NAS-Identifier; empty where that is not looked at.
    pub identifiers: Vec<String>,
    /// What kind of device it is and where, for rules and chains.
    pub labels: BTreeMap<String, String>,
    /// How it writes text that is not ASCII.
    pub charset: Charset,
    /// What its password field holds.
    pub fields: PasswordFields,
    /// Group names that the device knows, where the site file says so.
    pub knows: Option<Vec<String>>,
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
    /// Whether it shows the text of a refusal to the person, where the site file says so.
    pub shows_refusals: Option<bool>,
    /// Whether a login may join a pending approval although the gateway reports a caller for neither of them.
    pub joins_without_caller: bool,
    /// The language of its people, where the person's own is not known.
    pub language: String,
    /// Bytes of a prompt that it can show.
    pub prompt_limit: usize,
    /// Whether an accept carries a Class of our own, which leads from a session back to its login.
    pub session_class: bool,
    /// Where it takes requests to end or change a session, if it does.
    pub dynamic: Option<DynamicAuthorization>,
    /// Logins of this gateway that may be in flight.
    pub logins_in_flight: usize,
    /// The chains that take its logins, in the order in which they are tried.
    pub chains: Vec<usize>,
    /// Its line in the site file.
    pub line: u32,
}

/// How a gateway writes text that is not ASCII.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Charset {
    /// As RFC 2865 section 5 wants it.
    #[default]
    Utf8,
    /// ISO 8859-1, as some old devices do.
    Latin1,
}

/// What the password field of a gateway's requests holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PasswordFields {
    /// What was typed in one field.
    #[default]
    One,
    /// What was typed in two, packed as SCRV1, or the answer to a prompt, packed as CRV1; or else as in [`PasswordFields::One`].
    Packed,
}

/// A gateway's resends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GatewayPatience {
    /// Wait per try.
    pub wait: Duration,
    /// Tries for each server.
    pub tries: u32,
    /// RADIUS servers that are entered on the device, one after the other.
    pub servers: u32,
}

impl GatewayPatience {
    /// How long it tries its first server.
    pub fn first(self) -> Duration {
        self.wait * self.tries
    }

    /// How long it tries in all, one server after the other.
    pub fn whole(self) -> Duration {
        self.first() * self.servers
    }
}

/// A source that speaks LDAP.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Directory {
    /// Its name.
    pub name: String,
    /// Its servers.
    pub servers: Vec<Server>,
    /// Which of them is asked first.
    pub pool: Pool,
    /// What kind of directory it is.
    pub kind: DirectoryKind,
    /// What a person's bind is made as.
    pub bind_as: BindAs,
    /// Whether `ldap://` is turned into TLS before anything is said.
    pub start_tls: bool,
    /// PEM file with the issuers that are trusted; relative to the data folder.
    pub trust: Option<String>,
    /// Where people are.
    pub base: String,
    /// How deep below the base.
    pub scope: Scope,
    /// The naming attributes, at least one. A person may type the value of any; the first one's value is the person's login name.
    pub login: Vec<String>,
    /// The service account.
    pub reader: Option<Reader>,
    /// Where groups come from.
    pub groups: GroupSource,
    /// Attributes of a person beside name and groups.
    pub attributes: PersonAttributes,
    /// Time limit for a connection, name resolution and TLS included.
    pub connect_patience: Duration,
    /// Time limit for an answer.
    pub answer_patience: Duration,
    /// How long one server may keep a question to itself before the next one is asked too. A password goes to one server only.
    pub hedge: Duration,
    /// Connections for checking passwords, per server.
    pub connections: usize,
    /// Its line in the site file.
    pub line: u32,
}

/// Attributes of a person's entry that a chain may need.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PersonAttributes {
    /// Where codes by mail go.
    pub mail: String,
    /// Where codes by text message and voice go.
    pub phone: String,
    /// The language that the person reads.
    pub language: String,
    /// The NT hash of the password, for MS-CHAPv2; most directories have none or do not show it.
    pub nt_hash: Option<String>,
}

impl Default for PersonAttributes {
    fn default() -> Self {
        PersonAttributes { mail: "mail".into(), phone: "mobile".into(), language: "preferredLanguage".into(), nt_hash: None }
    }
}

/// Which server of a pool is asked first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Pool {
    /// The first one that is well, in the order of the site file.
    #[default]
    Order,
    /// Each in turn.
    Balance,
}

/// What kind of directory it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DirectoryKind {
    /// Found out from its root entry.
    #[default]
    Auto,
    /// Any LDAP directory.
    Generic,
    /// Active Directory, or what behaves like it.
    ActiveDirectory,
}

/// What a person's bind is made as.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum BindAs {
    /// The DN that the search found.
    #[default]
    Dn,
    /// `name@domain`.
    Principal(String),
    /// `DOMAIN\name`.
    DomainName(String),
}

/// A source and factor that speaks RADIUS.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Upstream {
    /// Its name.
    pub name: String,
    /// Its servers.
    pub servers: Vec<Server>,
    /// Which of them is asked first.
    pub pool: Pool,
    /// Name of the sealed shared secret.
    pub secret: String,
    /// The address that requests leave from; the system's choice if not given.
    pub source_address: Option<IpAddr>,
    /// Wait per try.
    pub wait: Duration,
    /// Tries per server.
    pub tries: u32,
    /// Attributes of the gateway's request that are passed up.
    pub up: Vec<AttributeType>,
    /// Attributes of the upstream's answer that are passed back to the gateway.
    pub back: Vec<AttributeType>,
    /// Which name is passed up.
    pub name_as: NameAs,
    /// The attribute of its accept that names the person's groups.
    pub groups_from: Option<AttributeType>,
    /// Whether its replies must be signed.
    pub integrity: IntegrityPolicy,
    /// Whether it is asked for its state with Status-Server.
    pub status_checks: bool,
    /// Its line in the site file.
    pub line: u32,
}

/// Which name an upstream gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum NameAs {
    /// As the identity rule read it.
    #[default]
    Read,
    /// As it was typed.
    Typed,
}

/// One server of a directory or an upstream.
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
    Attribute {
        /// Its name.
        attribute: String,
        /// Whether groups of groups count too.
        nested: bool,
    },
    /// Groups are searched for the person's DN.
    Search {
        /// Where groups are.
        base: String,
        /// The attribute of a group that lists its members' DNs.
        member: String,
        /// Whether groups of groups count too.
        nested: bool,
    },
}

/// A source for the first check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum SourceRef {
    /// A directory of the site, by index.
    Directory(usize),
    /// An upstream of the site, by index.
    Upstream(usize),
    /// Bivector's own records.
    Roster,
}

/// A source in a chain's list, with the logins that it is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstSource {
    /// The source.
    pub source: SourceRef,
    /// Whom it is asked about.
    pub when: SourceWhen,
}

/// Which logins a source is asked about.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum SourceWhen {
    /// All that come this far.
    #[default]
    Always,
    /// Names that fit a pattern, in lower case; `*` stands for any text.
    Name(String),
    /// Names that were typed with this realm or domain, in lower case.
    Realm(String),
    /// People whom an earlier directory has found in this group, in lower case: it then checks their password.
    Group(String),
}

/// What happens when a source cannot answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhenDown {
    /// The login is refused.
    #[default]
    Refuse,
    /// The next source is asked.
    Next,
}

/// How EAP is carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Eap {
    /// The server's certificate with its issuers, and its key: PEM files in the data folder.
    pub certificate: Option<EapCertificate>,
    /// Whether TLS 1.2 is accepted too.
    pub tls12: bool,
    /// Bytes of TLS data in one EAP packet.
    pub fragment: usize,
    /// Conversations that may be open at once. Each takes about 30 KiB.
    pub conversations: usize,
    /// After how long without a packet a conversation ends.
    pub idle: Duration,
    /// How long after a login its TLS session may be resumed without the password; none if never.
    pub resume: Option<Duration>,
    /// Its line; 0 where the site file does not say anything.
    pub line: u32,
}

/// Where the server's certificate is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EapCertificate {
    /// Certificate with its issuers.
    pub certificate: String,
    /// Private key.
    pub key: String,
}

impl Default for Eap {
    fn default() -> Self {
        Eap { certificate: None, tls12: true, fragment: 1_024, conversations: 4_096, idle: Duration::from_secs(60), resume: None, line: 0 }
    }
}

/// How a credential may come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Method {
    /// The password as text, hidden on the wire.
    Pap,
    /// A proof of the password (RFC 2865 section 5.3).
    Chap,
    /// A proof of the password's NT hash (RFC 2759).
    MsChapV2,
    /// A method inside EAP-Message (RFC 3579), carried out by an upstream.
    Eap,
    /// A method inside EAP-Message, carried out here.
    EapOf(EapMethod),
}

impl Method {
    /// All of them.
    pub const ALL: &[Method] = &{
        let mut all = [Method::Pap; 4 + EapMethod::ALL.len()];
        (all[1], all[2], all[3]) = (Method::Chap, Method::MsChapV2, Method::Eap);
        let mut at = 0;
        while at < EapMethod::ALL.len() {
            all[4 + at] = Method::EapOf(EapMethod::ALL[at]);
            at += 1;
        }
        all
    };

    /// Its name in site files and traces.
    pub fn name(self) -> &'static str {
        match self {
            Method::Pap => "pap",
            Method::Chap => "chap",
            Method::MsChapV2 => "ms-chap-v2",
            Method::Eap => "eap",
            Method::EapOf(method) => method.name(),
        }
    }

    /// Its name in sentences, with its article.
    pub fn spoken(self) -> &'static str {
        match self {
            Method::Pap => "a PAP",
            Method::Chap => "a CHAP",
            Method::MsChapV2 => "an MS-CHAPv2",
            Method::Eap => "an EAP",
            Method::EapOf(method) => method.spoken(),
        }
    }

    /// Whether we learn the password's text, so that forms, directories and codes work with it.
    pub fn gives_text(self) -> bool {
        self.proves() == Some(Proves::Text)
    }

    /// What a login learns by it; none where only an upstream can read it.
    pub fn proves(self) -> Option<Proves> {
        Some(match self {
            Method::Pap => Proves::Text,
            Method::Chap => Proves::Chap,
            Method::MsChapV2 => Proves::MsChapV2,
            Method::Eap => return None,
            Method::EapOf(method) => method.proves(),
        })
    }

    /// The method that is carried out here inside EAP, if it is one.
    pub fn eap(self) -> Option<EapMethod> {
        match self {
            Method::EapOf(method) => Some(method),
            _ => None,
        }
    }

    /// Whether prompts can be shown with it. Inside EAP that depends on the method, otherwise on the gateway.
    pub fn prompts(self, gateway: bool) -> bool {
        self.eap().map_or(gateway, EapMethod::prompts)
    }
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
    /// Whose certificates it accepts. With a method that is not a certificate itself, one is required beside the password.
    pub issuers: Vec<usize>,
    /// Forms of the password field, preferred first.
    pub forms: Vec<Form>,
    /// Local ports of the doors whose logins it takes; empty for all.
    pub ports: Vec<u16>,
    /// Realms whose logins it takes, in lower case, an empty text for names without one; empty for all.
    pub realms: Vec<String>,
    /// Sources, tried in order.
    pub first: Vec<FirstSource>,
    /// What happens when one cannot answer.
    pub when_source_is_down: WhenDown,
    /// Whether a person may change an expired password while logging in.
    pub change_password: bool,
    /// Second factors it takes, preferred first; none means the password is enough.
    pub second: Vec<FactorKind>,
    /// Words that choose one of them.
    pub words: Vec<FactorWord>,
    /// The words alone, as forms want them.
    pub spelt: Vec<String>,
    /// What happens at a prompt when a person has several.
    pub when_several: WhenSeveral,
    /// What happens when the second factor cannot be asked for.
    pub when_second_is_down: WhenSecondIsDown,
    /// How long an approval may take.
    pub second_patience: Duration,
    /// Whether a number that the gateway shows must be picked on the handset; gateways without prompts show none.
    pub match_number: bool,
    /// What tells the person that an approval waits: the first at once, each further one if nothing was shown by then.
    pub wake: Vec<Wake>,
    /// After how long without a shown notification the next of them is tried.
    pub wake_after: Duration,
    /// What happens when nobody answers an approval.
    pub when_unanswered: WhenUnanswered,
    /// What happens to people without any factor.
    pub when_not_enrolled: WhenNotEnrolled,
    /// How long a device that gave a second factor needs none on the same gateway; none means it always needs one.
    pub remember: Option<Duration>,
    /// Who is let in without one.
    pub waive: Vec<Waiver>,
    /// Whether the gateway has checked the password itself, so that only the code is asked for.
    pub code_only: bool,
    /// Whether a device that spoke MS-CHAPv2 is told that it may try again.
    pub retry: bool,
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

impl Chain {
    /// Whether a source is in its list.
    pub fn asks(&self, source: SourceRef) -> bool {
        self.first.iter().any(|first| first.source == source)
    }

    /// Whether codes of the person's own devices can be its second factor.
    pub fn takes_codes(&self) -> bool {
        self.second.iter().any(|kind| matches!(kind, FactorKind::Code(_)))
    }

    /// Whether it takes this kind of code.
    pub fn takes(&self, kind: CodeKind) -> bool {
        self.second.contains(&FactorKind::Code(kind))
    }

    /// Whether a form has a place for a PIN: then devices with a PIN need it.
    pub fn asks_for_pins(&self) -> bool {
        self.forms.iter().any(Form::has_pin)
    }

    /// Whether a handset can be asked.
    pub fn asks_handsets(&self) -> bool {
        self.second.iter().any(|kind| kind.is_on_handset())
    }

    /// The upstream that checks codes, where the chain has one.
    pub fn code_upstream(&self) -> Option<usize> {
        self.second.iter().find_map(|kind| match kind {
            FactorKind::Upstream(index) => Some(*index),
            _ => None,
        })
    }

    fn is_for(&self, port: u16, realm: &str) -> bool {
        (self.ports.is_empty() || self.ports.contains(&port)) && (self.realms.is_empty() || self.realms.iter().any(|own| own == realm))
    }
}
