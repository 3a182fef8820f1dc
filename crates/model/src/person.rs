//! A person, as a source knows them.

use crate::rule::Groups;
use serde::{Deserialize, Serialize};

/// A person as a source knows them.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Found {
    /// The person's key: one per person, whatever was typed.
    pub key: String,
    /// The login name as the source writes it.
    pub login: String,
    /// The name for display.
    pub name: String,
    /// What the source calls the person: a DN, or a roster number.
    pub handle: String,
    /// The person's groups.
    pub groups: Groups,
    /// Where codes by mail go.
    pub mail: Option<String>,
    /// Where codes by text message and voice go.
    pub phone: Option<String>,
    /// The language that the person reads; empty if not known.
    pub language: String,
}

impl Found {
    /// Someone an upstream will be asked about: known by the name alone.
    pub fn of_upstream(upstream: &str, name: &str) -> Self {
        Found {
            key: format!("{upstream}:{name}"),
            login: name.to_owned(),
            name: name.to_owned(),
            handle: name.to_owned(),
            ..Found::default()
        }
    }
}
