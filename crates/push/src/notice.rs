//! What a message says: a handset shows it without asking the service.

use serde::{Deserialize, Serialize};

/// What a message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NoticeKind {
    /// Somebody logs in, and the person is asked.
    Approval,
    /// A test of the way, which the person confirms.
    Test,
    /// An approval was decided, withdrawn or has expired: its notification goes.
    Over,
}

/// The words of the buttons of a notification.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Buttons {
    /// Opens the page.
    pub open: String,
    /// Denies at once.
    pub deny: String,
}

/// The content of a message, as JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Notice {
    /// What it is about.
    pub kind: NoticeKind,
    /// The approval, in 16 hex digits; empty for a test.
    #[serde(default)]
    pub id: String,
    /// Proves to the service that this message arrived; empty where nothing is to be reported.
    #[serde(default)]
    pub ticket: String,
    /// The first line of the notification, in the person's language.
    #[serde(default)]
    pub title: String,
    /// Its text: who logs in, where, and from where.
    #[serde(default)]
    pub body: String,
    /// The language of both.
    #[serde(default)]
    pub language: String,
    /// The words of its buttons; none for a test.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub buttons: Option<Buttons>,
    /// Until when it counts, in microseconds since 1970 by the service's clock.
    #[serde(default)]
    pub until_us: u64,
    /// What the service's clock said when it was sent, so that the phone's may be wrong.
    #[serde(default)]
    pub now_us: u64,
}

impl Notice {
    /// Its bytes.
    pub fn bytes(&self) -> Vec<u8> {
        serde_json::to_vec(self).unwrap_or_default()
    }

    /// Reads them.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        serde_json::from_slice(bytes).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_notice_is_written_as_handsets_read_it() {
        let notice = Notice {
            kind: NoticeKind::Approval,
            id: "00000000000000ff".into(),
            ticket: "t".into(),
            title: "Northmoor Tidal".into(),
            body: "Ines".into(),
            language: "en".into(),
            buttons: Some(Buttons { open: "Open".into(), deny: "Deny".into() }),
            until_us: 2,
            now_us: 1,
        };
        let text = String::from_utf8(notice.bytes()).unwrap();
        assert!(text.starts_with(r#"{"kind":"approval","id":"00000000000000ff","ticket":"t","title":"Northmoor Tidal""#), "{text}");
        assert_eq!(Notice::read(text.as_bytes()), Some(notice));
    }

    #[test]
    fn what_is_left_out_is_empty_and_what_is_no_notice_is_nothing() {
        let over = Notice::read(br#"{"kind":"over","id":"1"}"#).unwrap();
        assert_eq!((over.kind, over.title.as_str(), over.buttons), (NoticeKind::Over, "", None));
        assert_eq!(Notice::read(b"{}"), None);
    }
}
