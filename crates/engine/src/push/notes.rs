//! What was seen of the messages for one approval.

use super::Reported;
use bivector_model::Moment;
use bivector_outbound::in_words;
use std::time::Duration;

/// One thing that was seen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PushNote {
    /// The handset; none for what is about the person.
    pub device: Option<u64>,
    /// When.
    pub at: Moment,
    /// How long after the approval was asked for; filled in where it is noted.
    pub after: Duration,
    /// What.
    pub seen: PushSeen,
}

/// What was seen of a message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PushSeen {
    /// The push service has accepted it, so long after it left.
    Accepted(Duration),
    /// It was not accepted, or not even sent.
    NotSent(Box<str>),
    /// The handset shows a notification.
    Shown,
    /// The person has opened the notification.
    Opened,
    /// Another way to wake the person was tried: what, and why not where it failed.
    Instead(Box<str>, bool),
}

impl PushNote {
    /// Something that was seen now.
    pub fn new(device: Option<u64>, seen: PushSeen, at: Moment) -> Self {
        PushNote { device, at, after: Duration::ZERO, seen }
    }
}

impl PushSeen {
    pub(super) fn of(reported: Reported) -> Self {
        match reported {
            Reported::Shown => PushSeen::Shown,
            Reported::Opened => PushSeen::Opened,
        }
    }

    /// Whether it is good news.
    pub fn is_good(&self) -> bool {
        !matches!(self, PushSeen::NotSent(_) | PushSeen::Instead(_, false))
    }

    /// What a trace says: in two words, and in a sentence. `device` is what the person calls the handset; `after` is since the request.
    pub fn said(&self, device: &str, after: Duration) -> (&'static str, String) {
        let after = in_words(after);
        match self {
            PushSeen::Accepted(took) => ("push", format!("sent to “{device}”, accepted by the push service after {}", in_words(*took))),
            PushSeen::NotSent(why) if device.is_empty() => ("push", format!("no push message was sent: {why}")),
            PushSeen::NotSent(why) => ("push", format!("not delivered to “{device}”: {why}")),
            PushSeen::Shown => ("push", format!("“{device}” showed the notification after {after}")),
            PushSeen::Opened => ("push", format!("the notification was opened on “{device}” after {after}")),
            PushSeen::Instead(said, _) => ("message", said.to_string()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_trace_tells_the_way_of_a_message() {
        let said = |seen: PushSeen| seen.said("phone", Duration::from_millis(1_120)).1;
        assert_eq!(said(PushSeen::Accepted(Duration::from_millis(210))), "sent to “phone”, accepted by the push service after 0.2 s");
        assert_eq!(said(PushSeen::of(Reported::Shown)), "“phone” showed the notification after 1.1 s");
        assert_eq!(said(PushSeen::of(Reported::Opened)), "the notification was opened on “phone” after 1.1 s");
        assert_eq!(said(PushSeen::NotSent("no answer in time".into())), "not delivered to “phone”: no answer in time");
        assert_eq!(PushSeen::NotSent("nobody".into()).said("", Duration::ZERO).1, "no push message was sent: nobody");
        assert!(!PushSeen::Instead("x".into(), false).is_good() && PushSeen::Shown.is_good());
    }
}
