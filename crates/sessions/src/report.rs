//! One report of a gateway (RFC 2866 section 4.1).

use crate::link::reference_in;
use bivector_model::Moment;
use bivector_wire::{AttributeType, Packet};
use serde::{Deserialize, Serialize};
use std::net::{Ipv4Addr, Ipv6Addr};
use std::time::Duration;
use thiserror::Error;
use utoipa::ToSchema;

/// How far in the past a report may say that it was. Gateways keep reports while nobody answers, but not for longer.
const OLDEST: Duration = Duration::from_secs(7 * 86_400);
/// How far in the future: clocks of gateways are not always right.
const AHEAD: Duration = Duration::from_secs(300);
/// Bytes of a text that is kept.
const LONGEST: usize = 253;

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReportKind {
    /// The session began.
    Start,
    /// The session goes on.
    Interim,
    /// The session ended.
    Stop,
    /// The gateway has started: no session of before goes on.
    On,
    /// The gateway is about to stop.
    Off,
}

/// What went over the line, from the session's beginning on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
pub struct Traffic {
    /// Bytes from the user.
    pub bytes_in: u64,
    /// Bytes to the user.
    pub bytes_out: u64,
    /// Packets from the user.
    pub packets_in: u64,
    /// Packets to the user.
    pub packets_out: u64,
}

/// A report, as far as it is of use.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// What happened.
    pub kind: ReportKind,
    /// The gateway's name of the session; empty in reports of the gateway itself.
    pub session: String,
    /// The name that the session is under.
    pub name: String,
    /// The login that it came from, where the gateway returned our Class.
    pub reference: Option<String>,
    /// The addresses that the user got.
    pub addresses: Vec<String>,
    /// Where the user comes from.
    pub caller: String,
    /// What the user called.
    pub called: String,
    /// The port of the gateway.
    pub port: String,
    /// When it happened.
    pub at: Moment,
    /// How long the session has lasted, if the report says so.
    pub lasted: Option<Duration>,
    /// What went over the line so far, if the report says so.
    pub traffic: Option<Traffic>,
    /// Why it ended (RFC 2866 section 5.10), if the report says so.
    pub cause: Option<u32>,
    /// Something in it that cannot be right, for people.
    pub odd: Option<String>,
}

/// A report that says nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum ReportError {
    /// No Acct-Status-Type, or one that is for something else.
    #[error("the report does not say what happened (Acct-Status-Type)")]
    Status,
    /// A session without its name.
    #[error("the report does not name the session (Acct-Session-Id)")]
    Session,
}

impl Report {
    /// Reads a report that has proved itself. Values that cannot be right are left out.
    ///
    /// # Errors
    /// [`ReportError`]. Such a report is answered all the same, or else the gateway would send it for ever.
    pub fn read(packet: &Packet<'_>, now: Moment) -> Result<Self, ReportError> {
        let number = |kind| packet.first(kind).and_then(|found| <[u8; 4]>::try_from(found.value).ok()).map(u32::from_be_bytes);
        let kind = match number(AttributeType::AcctStatusType) {
            Some(1) => ReportKind::Start,
            Some(2) => ReportKind::Stop,
            Some(3) => ReportKind::Interim,
            Some(7) => ReportKind::On,
            Some(8) => ReportKind::Off,
            _ => return Err(ReportError::Status),
        };
        let text = |kind| packet.first(kind).map(|found| kept(found.value)).unwrap_or_default();
        let session = text(AttributeType::AcctSessionId);
        if session.is_empty() && !matches!(kind, ReportKind::On | ReportKind::Off) {
            return Err(ReportError::Session);
        }
        let delay = number(AttributeType::AcctDelayTime).map(|seconds| Duration::from_secs(seconds.into()));
        let (at, odd) = happened(number(AttributeType::EventTimestamp), delay, now);
        let port = match text(AttributeType::NasPortId) {
            named if !named.is_empty() => named,
            _ => number(AttributeType::NasPort).map(|port| port.to_string()).unwrap_or_default(),
        };
        Ok(Report {
            kind,
            session,
            name: text(AttributeType::UserName),
            reference: reference_in(packet),
            addresses: addresses(packet),
            caller: text(AttributeType::CallingStationId),
            called: text(AttributeType::CalledStationId),
            port,
            at,
            lasted: number(AttributeType::AcctSessionTime).map(|seconds| Duration::from_secs(seconds.into())),
            traffic: traffic(number),
            cause: number(AttributeType::AcctTerminateCause),
            odd,
        })
    }
}

/// When it happened: as the gateway's clock says, or so long before it arrived (RFC 2869 section 5.3, RFC 2866 section 5.2).
fn happened(stamp: Option<u32>, delay: Option<Duration>, now: Moment) -> (Moment, Option<String>) {
    let before = |span: Duration| Moment::from_micros(now.micros().saturating_sub(span.as_micros() as u64));
    let earliest = before(OLDEST);
    let by_delay = delay.filter(|delay| *delay <= OLDEST).map_or(now, before);
    match stamp.map(|stamp| Moment::from_secs(stamp.into())) {
        Some(at) if at >= earliest && at <= now.plus(AHEAD) => (at.min(now), None),
        Some(_) => (by_delay, Some("the gateway's clock is wrong: the time of arrival counts".to_owned())),
        None if delay.is_some_and(|delay| delay > OLDEST) => {
            (now, Some("the delay cannot be right: the time of arrival counts".to_owned()))
        }
        None => (by_delay, None),
    }
}

/// Octets and packets, with the upper half of the 64-bit counters (RFC 2869 sections 5.1 and 5.2).
fn traffic(number: impl Fn(AttributeType) -> Option<u32>) -> Option<Traffic> {
    let wide = |low, high| Some(u64::from(number(low)?) | u64::from(number(high).unwrap_or_default()) << 32);
    let bytes_in = wide(AttributeType::AcctInputOctets, AttributeType::AcctInputGigawords);
    let bytes_out = wide(AttributeType::AcctOutputOctets, AttributeType::AcctOutputGigawords);
    if bytes_in.is_none() && bytes_out.is_none() {
        return None;
    }
    let packets = |kind| number(kind).map(u64::from).unwrap_or_default();
    Some(Traffic {
        bytes_in: bytes_in.unwrap_or_default(),
        bytes_out: bytes_out.unwrap_or_default(),
        packets_in: packets(AttributeType::AcctInputPackets),
        packets_out: packets(AttributeType::AcctOutputPackets),
    })
}

/// Framed-IP-Address, Framed-IPv6-Address, and prefixes (RFC 3162 section 2.3, RFC 4818, RFC 6911).
fn addresses(packet: &Packet<'_>) -> Vec<String> {
    let shown = |kind, value: &[u8]| match kind {
        AttributeType::FramedIpAddress => <[u8; 4]>::try_from(value).ok().map(|bytes| Ipv4Addr::from(bytes).to_string()),
        AttributeType::FramedIpv6Address => <[u8; 16]>::try_from(value).ok().map(|bytes| Ipv6Addr::from(bytes).to_string()),
        AttributeType::FramedIpv6Prefix | AttributeType::DelegatedIpv6Prefix => prefix(value),
        _ => None,
    };
    packet.attributes().filter_map(|attribute| shown(attribute.kind, attribute.value)).take(8).collect()
}

/// A reserved byte, the length in bits, and as many bytes as that needs.
fn prefix(value: &[u8]) -> Option<String> {
    let [_, length @ 0..=128, rest @ ..] = value else { return None };
    let mut bytes = [0; 16];
    bytes.get_mut(..rest.len())?.copy_from_slice(rest);
    Some(format!("{}/{length}", Ipv6Addr::from(bytes)))
}

/// A text without control characters, cut to what is kept.
fn kept(value: &[u8]) -> String {
    let text = String::from_utf8_lossy(value.get(..LONGEST).unwrap_or(value));
    text.chars().filter(|character| !character.is_control()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_wire::{Code, Message, SharedSecret};
    use proptest::prelude::*;

    const NOW: Moment = Moment::from_secs(1_800_000_000);

    fn read(attributes: &[(AttributeType, &[u8])]) -> Result<Report, ReportError> {
        let mut message = Message::new(Code::AccountingRequest);
        attributes.iter().for_each(|(kind, value)| message.push(*kind, value));
        let bytes = message.accounting_request(1, &SharedSecret::new(b"x")).unwrap();
        Report::read(&Packet::parse(&bytes).unwrap(), NOW)
    }

    fn with(more: &[(AttributeType, &[u8])]) -> Report {
        let start: [(AttributeType, &[u8]); 2] = [(AttributeType::AcctStatusType, &[0, 0, 0, 3]), (AttributeType::AcctSessionId, b"4f-1")];
        read(&[&start, more].concat()).unwrap()
    }

    #[test]
    fn a_report_of_a_gateway_is_read_whole() {
        let report = with(&[
            (AttributeType::UserName, b"ines"),
            (AttributeType::FramedIpAddress, &[192, 0, 2, 77]),
            (AttributeType::FramedIpv6Prefix, &[0, 64, 0x20, 1, 0x0d, 0xb8, 0, 0, 0, 1]),
            (AttributeType::CallingStationId, b"198.51.100.7"),
            (AttributeType::NasPort, &[0, 0, 0, 9]),
            (AttributeType::AcctSessionTime, &[0, 0, 0, 90]),
            (AttributeType::AcctInputOctets, &[0, 0, 1, 0]),
            (AttributeType::AcctOutputOctets, &[0, 0, 0, 1]),
            (AttributeType::AcctOutputGigawords, &[0, 0, 0, 2]),
            (AttributeType::AcctDelayTime, &[0, 0, 0, 30]),
        ]);
        assert_eq!((report.name.as_str(), report.port.as_str(), report.caller.as_str()), ("ines", "9", "198.51.100.7"));
        assert_eq!(report.addresses, ["192.0.2.77", "2001:db8:0:1::/64"]);
        let traffic = report.traffic.unwrap();
        assert_eq!((traffic.bytes_in, traffic.bytes_out), (256, (2 << 32) + 1));
        assert_eq!((report.at, report.lasted), (Moment::from_secs(1_800_000_000 - 30), Some(Duration::from_secs(90))));
        assert_eq!(report.odd, None);
    }

    #[test]
    fn a_report_that_says_nothing_is_told_apart() {
        assert_eq!(read(&[]).unwrap_err(), ReportError::Status);
        assert_eq!(read(&[(AttributeType::AcctStatusType, &[0, 0, 0, 9])]).unwrap_err(), ReportError::Status);
        assert_eq!(read(&[(AttributeType::AcctStatusType, &[0, 0, 0, 1])]).unwrap_err(), ReportError::Session);
        assert_eq!(read(&[(AttributeType::AcctStatusType, &[0, 0, 0, 7])]).unwrap().kind, ReportKind::On);
    }

    #[test]
    fn times_that_cannot_be_right_give_way_to_the_arrival() {
        for (stamp, odd) in [(0_u32, true), (1_799_999_990, false), (1_800_000_200, false), (4_102_444_800, true)] {
            let report = with(&[(AttributeType::EventTimestamp, &stamp.to_be_bytes())]);
            assert_eq!(report.odd.is_some(), odd, "{stamp}");
            assert!(report.at <= NOW && (odd || report.at >= Moment::from_secs(1_799_999_990)), "{stamp}: {report:?}");
        }
        let report = with(&[(AttributeType::AcctDelayTime, &u32::MAX.to_be_bytes())]);
        assert_eq!((report.at, report.odd.is_some()), (NOW, true));
    }

    proptest! {
        #[test]
        fn any_report_is_read_or_refused(kinds in proptest::collection::vec((any::<u8>(), proptest::collection::vec(any::<u8>(), 0..40)), 0..20)) {
            let mut message = Message::new(Code::AccountingRequest);
            kinds.iter().for_each(|(kind, value)| message.push(AttributeType::from(*kind), value));
            let bytes = message.accounting_request(1, &SharedSecret::new(b"x")).unwrap();
            // The same attribute twice is no packet, where it may come once only.
            if let Some(Ok(report)) = Packet::parse(&bytes).ok().map(|packet| Report::read(&packet, NOW)) {
                prop_assert!(report.at <= NOW && report.addresses.len() <= 8);
                prop_assert!(!report.name.chars().any(char::is_control));
            }
        }
    }
}
