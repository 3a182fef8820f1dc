//! EAP packets (RFC 3748 section 4), the methods that can be used inside a RADIUS login, and the attributes that EAP-TTLS carries
//! (RFC 5281 section 10). What a method means is decided elsewhere.

pub mod avp;
mod method;
mod packet;
mod wanted;

pub use method::{EapMethod, Inner, Proves};
pub use packet::{EapError, EapPacket, Half, failure, nak, request, response, success};
pub use wanted::wanted;

/// Identity (RFC 3748 section 5.1).
pub const IDENTITY: u8 = 1;
/// Notification (RFC 3748 section 5.2).
pub const NOTIFICATION: u8 = 2;
/// Nak, in responses only: the peer wants another method than the one offered (RFC 3748 section 5.3.1).
pub const NAK: u8 = 3;
/// MD5-Challenge (RFC 3748 section 5.4).
pub const MD5: u8 = 4;
/// Generic Token Card (RFC 3748 section 5.6).
pub const GTC: u8 = 6;
/// EAP-TLS (RFC 5216).
pub const TLS: u8 = 13;
/// EAP-TTLS (RFC 5281).
pub const TTLS: u8 = 21;
/// PEAP.
pub const PEAP: u8 = 25;
/// EAP-MSCHAPv2.
pub const MS_CHAP_V2: u8 = 26;
/// Extensions of PEAP, which carry the result of the inner method.
pub const EXTENSIONS: u8 = 33;
/// An expanded method, or an expanded Nak (RFC 3748 sections 5.3.2 and 5.7).
pub const EXPANDED: u8 = 254;

/// The name of a method by its type (RFC 3748 section 5 and IANA's registry).
pub fn method_name(method: u8) -> Option<&'static str> {
    Some(match method {
        IDENTITY => "Identity",
        NOTIFICATION => "Notification",
        NAK => "Nak",
        MD5 => "MD5-Challenge",
        5 => "OTP",
        GTC => "GTC",
        TLS => "EAP-TLS",
        TTLS => "EAP-TTLS",
        PEAP => "PEAP",
        MS_CHAP_V2 => "EAP-MSCHAPv2",
        EXTENSIONS => "Extensions",
        43 => "EAP-FAST",
        52 => "EAP-PWD",
        55 => "TEAP",
        EXPANDED => "an expanded method",
        _ => return None,
    })
}

/// A method by its type, for people to read.
pub fn shown(method: u8) -> String {
    match method_name(method) {
        Some(name) => format!("{name} ({method})"),
        None => format!("method {method}"),
    }
}
