//! What a site says of second factors: which there are, how codes are sent, when wrong ones lock, who needs none, how people get theirs.

use super::Server;
use bivector_model::attempts::Limit;
use bivector_model::device::CodeKind;
use bivector_model::moment::Moment;
use bivector_push::Services;
use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::time::Duration;
use utoipa::ToSchema;

/// A way to give the second proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum FactorKind {
    /// A code of one of the person's own devices or lists.
    Code(CodeKind),
    /// A code that a courier of the site brings, by index.
    Courier(usize),
    /// A code that an upstream of the site checks, by index.
    Upstream(usize),
    /// The person approves on a handset.
    Approval,
    /// The same, with a security key touched there.
    Key,
}

impl FactorKind {
    /// Whether the handset is asked.
    pub fn is_on_handset(self) -> bool {
        matches!(self, FactorKind::Approval | FactorKind::Key)
    }
}

/// A word that people type behind their password to choose a factor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FactorWord {
    /// The word.
    pub word: String,
    /// The factor.
    pub means: FactorKind,
}

/// What happens at a prompt when a person has several factors.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhenSeveral {
    /// The person chooses from a numbered list.
    #[default]
    List,
    /// The first of the chain's list that the person has is asked for; the others are there if it fails.
    First,
}

/// What happens when the second factor cannot be asked for because something of ours or behind us is down.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhenSecondIsDown {
    /// The login is refused.
    #[default]
    Refuse,
    /// The person's other factors are asked for; refused if there is none.
    Next,
    /// The first check alone lets in. Loud: warned about, counted, marked in every such trace.
    FirstOnly,
}

/// What happens when nobody answers an approval in time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhenUnanswered {
    /// The login is refused.
    #[default]
    Refuse,
    /// The person's other factors are asked for at a prompt; refused where there is none.
    Next,
}

/// What happens to somebody who has no second factor at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum WhenNotEnrolled {
    /// The login is refused.
    #[default]
    Refuse,
    /// The login itself enrols an authenticator app, at gateways that show prompts; refused elsewhere.
    Enrol,
    /// The first check alone lets in until this moment; refused from then on. Warned about, marked in every such trace.
    LetInUntil(Moment),
}

/// The page that people have on their phones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Handset {
    /// Where people reach it: the beginning of links in invitations, and what security keys are bound to.
    pub address: Option<String>,
    /// The chain by which people sign in to their own page.
    pub chain: Option<usize>,
    /// Whether it shows the person's own codes by time.
    pub shows_code: bool,
    /// Who says that a new device is the person's.
    pub confirmed_by: ConfirmedBy,
    /// How long an invitation may be used.
    pub invitation_lasts: Duration,
    /// How long "that was not me" stops approvals.
    pub stop: Duration,
    /// Approvals for one person in an hour.
    pub per_person: u32,
}

impl Default for Handset {
    fn default() -> Self {
        Handset {
            address: None,
            chain: None,
            shows_code: false,
            confirmed_by: ConfirmedBy::Operator,
            invitation_lasts: Duration::from_secs(24 * 3600),
            stop: Duration::from_secs(3600),
            per_person: 30,
        }
    }
}

/// How handsets are woken by push messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Push {
    /// Push services that may be asked.
    pub services: Services,
    /// How a push service can reach whoever runs this one: a `mailto:` or `https:` address.
    pub contact: Option<String>,
    /// An HTTP proxy on the way to them.
    pub proxy: Option<String>,
    /// How long one message may take to be accepted.
    pub patience: Duration,
    /// Messages for one person in an hour.
    pub per_person: u32,
    /// After how long a new signing key is made. Phones take it over when their page is opened.
    pub key_lasts: Duration,
}

impl Default for Push {
    fn default() -> Self {
        Push {
            services: Services::default(),
            contact: None,
            proxy: None,
            patience: Duration::from_secs(5),
            per_person: 120,
            key_lasts: Duration::from_secs(180 * 86_400),
        }
    }
}

/// What tells a person that an approval waits, beside the page that may be open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wake {
    /// A push message to the person's handsets.
    Push,
    /// A message by this courier, with a link to the approval.
    Courier(usize),
}

/// Who says that a new device is the person's.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ConfirmedBy {
    /// An operator, who types the reference that the device shows.
    #[default]
    Operator,
    /// Nobody besides: whoever holds the invitation is taken for the person.
    Invitation,
}

/// What people of a group get when they are first known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Newcomers {
    /// The group, in lower case.
    pub group: String,
    /// The factor that they are invited to.
    pub factor: Invited,
    /// The courier that brings the invitation, by index; none where it is handed over on screen.
    pub send_by: Option<usize>,
    /// Its line in the site file.
    pub line: u32,
}

/// What an invitation is to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Invited {
    /// A handset, for approvals.
    Approval,
    /// An authenticator app.
    Totp,
}

impl Invited {
    /// All of them.
    pub const ALL: &[Invited] = &[Invited::Approval, Invited::Totp];

    /// Its name in site files.
    pub fn name(self) -> &'static str {
        match self {
            Invited::Approval => "approval",
            Invited::Totp => "totp",
        }
    }
}

/// Who is let in without a second factor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waiver {
    /// Whom it is for.
    pub who: Waived,
    /// Why, for every trace.
    pub reason: String,
    /// Its line in the site file.
    pub line: u32,
}

/// Whom a waiver is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Waived {
    /// People whose own address, as the gateway tells it, is in one of these networks.
    Network(Vec<IpNet>),
    /// Members of one of these groups, in lower case.
    Group(Vec<String>),
    /// Names that fit one of these patterns, in lower case.
    Person(Vec<String>),
}

/// A way to send codes to people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Courier {
    /// Its name, as a factor under `second`.
    pub name: String,
    /// What it carries codes by.
    pub carries: Carries,
    /// How it is spoken to.
    pub by: CourierBy,
    /// Name of its sealed secret, where it needs one.
    pub secret: Option<String>,
    /// PEM file with the issuers that are trusted; relative to the data folder.
    pub trust: Option<String>,
    /// How long one delivery may take.
    pub patience: Duration,
    /// Its line in the site file.
    pub line: u32,
}

/// What a courier carries codes by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Carries {
    /// A text message.
    Text,
    /// A call that reads the code out.
    Call,
    /// A mail.
    Mail,
}

impl Carries {
    /// All of them.
    pub const ALL: &[Carries] = &[Carries::Text, Carries::Call, Carries::Mail];

    /// Its name in site files, and the word by which people choose it unless the site has its own.
    pub fn name(self) -> &'static str {
        match self {
            Carries::Text => "text",
            Carries::Call => "call",
            Carries::Mail => "mail",
        }
    }
}

/// How a courier is spoken to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CourierBy {
    /// An HTTP call. Its parts are templates with `{to}`, `{code}`, `{text}`, `{name}` and `{secret}`.
    Http {
        /// Where to.
        url: String,
        /// Headers.
        headers: Vec<(String, String)>,
        /// The body; values are escaped if it is JSON or a form.
        body: String,
        /// Its type.
        content_type: String,
    },
    /// A mail server (RFC 5321).
    Smtp {
        /// The server.
        server: Server,
        /// Whether `smtp://` is turned into TLS before anything is said.
        start_tls: bool,
        /// The sender's address.
        from: String,
        /// The account to sign in with; its password is the secret.
        account: Option<String>,
    },
}

/// How codes are sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sending {
    /// Digits of a code.
    pub digits: u8,
    /// How long it works.
    pub lasts: Duration,
    /// How often one login may have a code sent again.
    pub resends: u8,
    /// Codes for one person in an hour.
    pub per_person: u32,
    /// Codes for all people in a minute.
    pub per_minute: u32,
}

impl Default for Sending {
    fn default() -> Self {
        Sending { digits: 6, lasts: Duration::from_secs(300), resends: 2, per_person: 10, per_minute: 120 }
    }
}

/// When wrong codes and PINs lock a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Lockout {
    /// Wrong ones in a row.
    pub after: u32,
    /// How long the lock lasts.
    pub time: Duration,
}

impl Default for Lockout {
    fn default() -> Self {
        Lockout { after: 5, time: Duration::from_secs(15 * 60) }
    }
}

/// When wrong passwords make a person, or a caller, wait.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Passwords {
    /// Wrong ones about one person, wherever they came from, before the first wait.
    pub after: u32,
    /// Wrong ones from one caller, about anybody, before the first wait.
    pub per_caller: u32,
    /// The first wait; it doubles with each further wrong one.
    pub wait: Duration,
    /// The longest wait.
    pub longest: Duration,
    /// How local passwords, and those of operators, are hashed.
    pub hash: HashSettings,
}

/// What a hash of a local password costs (argon2id, RFC 9106). Kept hashes stay valid: each says how it was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HashSettings {
    /// Memory of one hash, in MiB.
    pub memory_mib: u32,
    /// Passes over it.
    pub passes: u32,
    /// Hashes at one time; as many as there are cores if nothing is said.
    pub at_once: Option<u32>,
}

impl Default for HashSettings {
    fn default() -> Self {
        HashSettings { memory_mib: 19, passes: 2, at_once: None }
    }
}

impl Default for Passwords {
    fn default() -> Self {
        Passwords {
            after: 10,
            per_caller: 60,
            wait: Duration::from_secs(60),
            longest: Duration::from_secs(3600),
            hash: HashSettings::default(),
        }
    }
}

impl Passwords {
    fn limit(&self, free: u32) -> Limit {
        Limit { free, wait: self.wait, longest: self.longest, forget: self.longest.max(Duration::from_secs(86_400)) }
    }

    /// The limit of a person, over all callers.
    pub fn of_person(&self) -> Limit {
        self.limit(self.after)
    }

    /// The limit of one caller about one person: half of the person's, so that one caller alone never makes the person wait.
    pub fn of_caller_about_person(&self) -> Limit {
        self.limit((self.after / 2).max(1))
    }

    /// The limit of one caller about everybody.
    pub fn of_caller(&self) -> Limit {
        self.limit(self.per_caller)
    }
}
