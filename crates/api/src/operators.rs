//! Operators, their roles, tokens and sign-ins.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Sign-in of the console: with a token, or with name, password and one-time code.
#[derive(Deserialize, ToSchema)]
pub struct SessionRequest {
    /// The operator's token.
    #[serde(default)]
    pub token: Option<String>,
    /// The operator's name.
    #[serde(default)]
    pub name: Option<String>,
    /// The console password.
    #[serde(default)]
    pub password: Option<String>,
    /// The one-time code.
    #[serde(default)]
    pub code: Option<String>,
}

/// An operator.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OperatorView {
    /// The name.
    pub name: String,
    /// What the operator may do.
    pub role: Role,
    /// Whether a console password and code are set.
    pub signs_in: bool,
    /// What the operator's tokens are for.
    pub tokens: Vec<String>,
    /// When the operator was added, in microseconds since 1970.
    pub created_us: u64,
}

/// An operator to add.
#[derive(Debug, Deserialize, Serialize, ToSchema)]
pub struct OperatorRequest {
    /// The name: letters, digits and `-_.@`.
    pub name: String,
    /// What the operator may do.
    pub role: Role,
}

/// Another role.
#[derive(Debug, Deserialize, Serialize, ToSchema)]
pub struct RoleRequest {
    /// New role.
    pub role: Role,
}

/// A token to make.
#[derive(Debug, Deserialize, Serialize, ToSchema)]
pub struct TokenRequest {
    /// What it is for.
    pub label: String,
}

/// A new token. Shown once.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// The token.
    pub token: String,
}

/// The seed of an operator's one-time codes. Shown once.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct NewSignIn {
    /// The seed in Base32, to type into an authenticator.
    pub seed: String,
    /// The same as a link that authenticators read.
    pub link: String,
}

/// A sign-in to the console.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignInView {
    /// Names it, to end it.
    pub id: String,
    /// What it was made with: a token's label, or password and code.
    pub by: String,
    /// The address that it was made from.
    pub from: String,
    /// When, in microseconds since 1970.
    pub created_us: u64,
    /// When it last asked something, in microseconds since 1970.
    pub last_used_us: u64,
    /// Until when it lasts.
    pub until_us: u64,
    /// Whether it is the one that asks.
    pub current: bool,
}

/// What an operator may do; each role includes the ones before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Look at everything but secrets.
    View,
    /// Also try logins, probe sources, help people with their factors.
    Operate,
    /// Also change the site and its secrets.
    Change,
    /// Also add operators and look at the audit.
    Own,
}

impl Role {
    /// All of them, the least first.
    pub const ALL: &[Role] = &[Role::View, Role::Operate, Role::Change, Role::Own];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Role::View => "view",
            Role::Operate => "operate",
            Role::Change => "change",
            Role::Own => "own",
        }
    }

    /// The role of this name. A word that nobody wrote gives the least.
    pub fn read(word: &str) -> Role {
        Role::ALL.iter().copied().find(|role| role.word() == word).unwrap_or(Role::View)
    }
}
