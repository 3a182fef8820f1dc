//! Why a session ended, in words.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a session came to its end.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "how", rename_all = "kebab-case")]
pub enum Ended {
    /// The gateway said so.
    Reported {
        /// Acct-Terminate-Cause (RFC 2866 section 5.10); 0 if it gave none.
        cause: u32,
    },
    /// The gateway has started again.
    Restarted,
    /// Nothing was heard of it for too long. A later report takes that back.
    Lost,
    /// The gateway used its name for another session.
    Replaced,
}

impl Ended {
    /// As the records keep it.
    pub fn to_text(self) -> String {
        match self {
            Ended::Reported { cause } => format!("reported {cause}"),
            Ended::Restarted => "restarted".to_owned(),
            Ended::Lost => "lost".to_owned(),
            Ended::Replaced => "replaced".to_owned(),
        }
    }

    /// From what the records keep.
    pub fn from_text(text: &str) -> Option<Self> {
        Some(match text {
            "restarted" => Ended::Restarted,
            "lost" => Ended::Lost,
            "replaced" => Ended::Replaced,
            other => Ended::Reported { cause: other.strip_prefix("reported ")?.parse().ok()? },
        })
    }

    /// A clause that explains it.
    pub fn in_words(self) -> String {
        match self {
            Ended::Reported { cause } => cause_in_words(cause),
            Ended::Restarted => "the gateway restarted".to_owned(),
            Ended::Lost => "nothing was heard of it for too long".to_owned(),
            Ended::Replaced => "the gateway used its identifier for another session".to_owned(),
        }
    }
}

/// A value of Acct-Terminate-Cause in words (RFC 2866 section 5.10, RFC 3580 section 2.2, and IANA's registry).
pub fn cause_in_words(cause: u32) -> String {
    let said = match cause {
        0 => "the gateway gave no reason",
        1 => "the user disconnected",
        2 => "the connection was lost",
        3 => "the service could no longer be provided",
        4 => "it was idle for too long",
        5 => "its time limit was reached",
        6 => "an administrator ended it",
        7 => "an administrator restarted the gateway",
        8 => "an error on the port",
        9 => "an error on the gateway",
        10 => "the gateway ended it",
        11 => "the gateway restarted unexpectedly",
        12 => "the port was no longer needed",
        13 => "the port was given to somebody more important",
        14 => "the port was suspended",
        15 => "the gateway could not provide the service",
        16 => "the gateway calls back",
        17 => "an error in what the user entered",
        18 => "the host behind the gateway ended it",
        19 => "the device started again",
        20 => "the user could not be authenticated again",
        21 => "the port was initialized again",
        22 => "an administrator switched the port off",
        23 => "the power failed",
        _ => return format!("the gateway gave the reason {cause}, which has no name"),
    };
    said.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_end_survives_being_written_down() {
        for ended in [Ended::Reported { cause: 0 }, Ended::Reported { cause: 6 }, Ended::Restarted, Ended::Lost, Ended::Replaced] {
            assert_eq!(Ended::from_text(&ended.to_text()), Some(ended));
            assert!(!ended.in_words().is_empty());
        }
        assert_eq!(Ended::from_text("reported x"), None);
        assert!(cause_in_words(999).contains("999"));
    }
}
