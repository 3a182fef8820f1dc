//! The event line.

use crate::directories::Health;
use crate::knocks::Knock;
use crate::traces::TraceRow;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that just happened, for whoever listens.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Event {
    /// A login ended.
    Trace(Box<TraceRow>),
    /// A packet was dropped.
    Knock(Knock),
    /// A server of a directory or an upstream became well or ill.
    Server {
        /// The source's name.
        source: String,
        /// The server and its state.
        health: Health,
    },
    /// Somebody says on a handset that a login was not theirs: their password is known to somebody else.
    Notice {
        /// The person's key.
        person: String,
        /// The gateway of that login.
        gateway: String,
        /// Where it came from.
        from: String,
        /// Its reference.
        reference: String,
    },
    /// Something about a person's factors or invitations has changed.
    Person {
        /// The person's key.
        person: String,
    },
    /// A rehearsal went on, or ended.
    Run {
        /// How far it is; its results are not part of this.
        #[serde(flatten)]
        progress: crate::runs::Progress,
    },
    /// A session began, went on or ended.
    Session {
        /// Its number; 0 where several did.
        id: u64,
        /// Its gateway.
        gateway: String,
    },
    /// A revision of the site is active.
    Site {
        /// Its number.
        revision: u64,
    },
}
