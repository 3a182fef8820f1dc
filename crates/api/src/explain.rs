//! Replay, drills, and who is admitted by which rule.

use bivector_explain::run::{Run, RunChange};
use bivector_model::Cause;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Which logins to decide again.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct ReplayRequest {
    /// The site file.
    pub text: String,
    /// How many of the newest logins; 1000 if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last: Option<u32>,
    /// Of this chain only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub chain: Option<String>,
}

/// Who a chain admits.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct WhoView {
    /// The chain.
    pub chain: String,
    /// Its rules in order, each with the people whom it decides about.
    pub rules: Vec<WhoRule>,
    /// People whom no rule is about.
    pub left_out: WhoPeople,
    /// Sources that could not be asked, each with the reason.
    pub unknown: Vec<String>,
}

/// One rule with its people.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct WhoRule {
    /// Its name.
    pub name: String,
    /// Whom it is about.
    pub when: String,
    /// The grant; none where it keeps out.
    pub grant: Option<String>,
    /// Its line in the site file.
    pub line: u32,
    /// Gateways for which it decides, where it goes by their labels; empty for all.
    pub gateways: Vec<String>,
    /// The people.
    pub people: WhoPeople,
}

/// People, counted and named.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct WhoPeople {
    /// How many.
    pub count: u64,
    /// How many of them have a second factor that the chain takes.
    pub with_factor: u64,
    /// Some of them, or all where that was asked for.
    pub named: Vec<WhoPerson>,
}

/// A person.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WhoPerson {
    /// The login name.
    pub login: String,
    /// The name for display.
    pub name: String,
    /// The source.
    pub source: String,
    /// The groups.
    pub groups: Vec<String>,
    /// Second factors that the chain takes.
    pub factors: Vec<String>,
    /// Why the person is refused all the same, or cannot log in yet.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub but: Option<String>,
}

/// A made-up login.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct RuleTry {
    /// The chain.
    pub chain: String,
    /// The person's groups.
    pub groups: Vec<String>,
    /// The gateway that it comes through.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub via: Option<String>,
    /// A person whose groups are taken instead, as the sources know them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub person: Option<String>,
    /// The address of the person's program.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub caller: Option<String>,
    /// The method.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub method: Option<String>,
    /// The second factor, `none` or `waived`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub factor: Option<String>,
    /// The source that knows the person.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// The name as typed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The time where the site is, such as `2026-12-01T22:30`; now if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
}

/// What the rules say of a made-up login.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RuleTried {
    /// The groups that counted.
    pub groups: Vec<String>,
    /// The grant, if the person is admitted.
    pub grant: Option<String>,
    /// The cause of the refusal, where not.
    pub cause: Option<Cause>,
    /// Every rule in order.
    pub rules: Vec<RuleSaid>,
}

/// What one rule says.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RuleSaid {
    /// Its name.
    pub name: String,
    /// Its line in the site file.
    pub line: u32,
    /// Whether it decided.
    pub decided: bool,
    /// What it says, or why it is not about this login.
    pub said: String,
}

/// A drill.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct DrillRequest {
    /// The server of a directory or an upstream, as the site file has it, or the name of a courier.
    pub member: String,
    /// The rehearsal.
    pub rehearsal: String,
    /// How the member fails.
    pub fails: Fails,
}

/// What logins noticed of a drill.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Drilled {
    /// The same rehearsal with all members.
    pub with: Run,
    /// The rehearsal without the member.
    pub without: Run,
    /// Logins that came out otherwise.
    pub changes: Vec<RunChange>,
    /// Logins that took longer, by more than a quarter of a second.
    pub slower: Vec<Slower>,
}

/// A login that took longer without a pool member.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Slower {
    /// What it shows.
    pub title: String,
    /// How long it took with the member, in microseconds.
    pub with_us: u64,
    /// How long it took without.
    pub without_us: u64,
}

/// How a member fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fails {
    /// Its port is closed.
    #[default]
    Closed,
    /// It accepts connections and does not answer.
    Silent,
}
