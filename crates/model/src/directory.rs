//! What a directory's answers mean: result codes, the password-policy control and sub-codes in the diagnostic text.

use crate::cause::Cause;
use serde::{Deserialize, Serialize};
use std::fmt;

/// OID of the password-policy control, request and response alike.
pub const PASSWORD_POLICY_OID: &str = "1.3.6.1.4.1.42.2.27.8.5.1";

/// A person's bind, read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BindMeaning {
    /// The password is right and the account may be used.
    Right,
    /// So it is, but not for long.
    RightBut(Notice),
    /// The password is wrong.
    Wrong,
    /// The account may not be used now, right password or not.
    Refused(Cause),
    /// The directory did not decide: an outage, never a "no".
    Unavailable(Cause),
}

/// What a directory warns of beside a right password (password-policy control).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Notice {
    /// The password expires in so many seconds.
    Expires(u32),
    /// It has expired; so many logins are left to change it.
    Grace(u32),
}

impl fmt::Display for Notice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Notice::Expires(seconds) if *seconds >= 172_800 => write!(f, "the password expires in {} days", seconds / 86_400),
            Notice::Expires(seconds) => write!(f, "the password expires in {} hours", (seconds / 3600).max(1)),
            Notice::Grace(1) => write!(f, "the password has expired; one more grace login is left"),
            Notice::Grace(left) => write!(f, "the password has expired; {left} more grace logins are left"),
        }
    }
}

/// Reads the result of a person's bind (RFC 4511 section 4.1.9 and 4.2.2).
///
/// `policy` is the value of the password-policy response control, where one came back. `text` is the diagnostic message.
pub fn read_bind(code: u32, text: &str, policy: Option<&[u8]>) -> BindMeaning {
    let policy_error = policy.and_then(policy_error);
    match (code, policy_error) {
        // A bind with a password that must be changed succeeds, and the account is good for nothing but changing it.
        (0, Some(2)) => BindMeaning::Refused(Cause::PasswordMustChange),
        (0, _) => policy.and_then(policy_warning).map_or(BindMeaning::Right, BindMeaning::RightBut),
        (49, Some(0)) => BindMeaning::Refused(Cause::PasswordExpired),
        (49, Some(1)) => BindMeaning::Refused(Cause::AccountLocked),
        (49, Some(2)) => BindMeaning::Refused(Cause::PasswordMustChange),
        (49, _) => sub_code(text).unwrap_or(BindMeaning::Wrong),
        // The entry vanished between search and bind; or the server refuses simple binds for it.
        (32 | 48, _) => BindMeaning::Wrong,
        (53, _) => BindMeaning::Refused(Cause::AccountDisabled),
        (3 | 11 | 51, _) => BindMeaning::Unavailable(Cause::SourceSlow),
        (52, _) => BindMeaning::Unavailable(Cause::SourceUnreachable),
        _ => BindMeaning::Unavailable(Cause::SourceAnswerUnusable),
    }
}

/// The cause behind a failed search or a failed bind of the service account.
pub fn read_failure(code: u32) -> Cause {
    match code {
        32 => Cause::SourceBaseMissing,
        3 | 11 | 51 => Cause::SourceSlow,
        52 => Cause::SourceUnreachable,
        7 | 8 | 13 | 48 | 49 | 50 | 53 => Cause::SourceReaderRefused,
        _ => Cause::SourceAnswerUnusable,
    }
}

/// A result code in words, for steps and messages.
pub fn describe_code(code: u32) -> &'static str {
    match code {
        0 => "success",
        1 => "operations error",
        2 => "protocol error",
        3 => "time limit exceeded",
        4 => "size limit exceeded",
        7 => "authentication method not supported",
        8 => "stronger authentication required",
        10 => "referral",
        11 => "administrative limit exceeded",
        13 => "confidentiality required",
        32 => "no such object",
        34 => "invalid DN syntax",
        48 => "inappropriate authentication",
        49 => "invalid credentials",
        50 => "insufficient access rights",
        51 => "busy",
        52 => "unavailable",
        53 => "unwilling to perform",
        80 => "other",
        _ => "unknown result code",
    }
}

/// Sub-codes that some directories write into the text of result 49, as `data 775`.
fn sub_code(text: &str) -> Option<BindMeaning> {
    let after = text.split("data ").nth(1)?;
    let digits: String = after.chars().take_while(char::is_ascii_hexdigit).collect();
    Some(match digits.to_ascii_lowercase().as_str() {
        "52e" | "525" => BindMeaning::Wrong,
        "533" => BindMeaning::Refused(Cause::AccountDisabled),
        "532" => BindMeaning::Refused(Cause::PasswordExpired),
        "701" => BindMeaning::Refused(Cause::AccountExpired),
        "773" => BindMeaning::Refused(Cause::PasswordMustChange),
        "775" => BindMeaning::Refused(Cause::AccountLocked),
        _ => return None,
    })
}

/// The `error` of a password-policy response: `SEQUENCE { warning [0] CHOICE { … }, error [1] ENUMERATED }`.
fn policy_error(value: &[u8]) -> Option<u8> {
    policy_part(value, 0x81)?.first().copied()
}

/// The `warning` of a password-policy response: `timeBeforeExpiration [0]` or `graceAuthNsRemaining [1]`, both INTEGER.
fn policy_warning(value: &[u8]) -> Option<Notice> {
    let (tag, length, number) = match policy_part(value, 0xa0)? {
        [tag, length, number @ ..] => (*tag, usize::from(*length), number),
        _ => return None,
    };
    let number = number.get(..length).filter(|number| number.len() <= 5)?;
    let number = u32::try_from(number.iter().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte))).ok()?;
    match tag {
        0x80 => Some(Notice::Expires(number)),
        0x81 => Some(Notice::Grace(number)),
        _ => None,
    }
}

fn policy_part(value: &[u8], wanted: u8) -> Option<&[u8]> {
    let mut rest = match value {
        [0x30, length, rest @ ..] if usize::from(*length) == rest.len() => rest,
        _ => return None,
    };
    while let [tag, length, after @ ..] = rest {
        let body = after.get(..usize::from(*length))?;
        if *tag == wanted {
            return Some(body);
        }
        rest = &after[usize::from(*length)..];
    }
    None
}

/// What became of a password change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeMeaning {
    /// The new password is set.
    Changed,
    /// The directory does not accept it, for this reason.
    NotTaken(String),
    /// Somebody who may change it is missing: rights of the account.
    Unavailable(Cause),
}

/// Reads the result of a password change (RFC 3062, or the change of an attribute).
pub fn read_change(code: u32, text: &str, policy: Option<&[u8]>) -> ChangeMeaning {
    let why = match policy.and_then(policy_error) {
        Some(5) => "it is too easy to guess".to_owned(),
        Some(6) => "it is too short".to_owned(),
        Some(7) => "the password was changed too recently".to_owned(),
        Some(8) => "it was used recently (password history)".to_owned(),
        _ => "it does not meet the directory's password policy".to_owned(),
    };
    match code {
        0 => ChangeMeaning::Changed,
        // Nobody may change it (draft-behera-ldap-password-policy section 6.2, passwordModNotAllowed): another one would not do better.
        _ if policy.and_then(policy_error) == Some(3) => ChangeMeaning::Unavailable(Cause::SourceReaderRefused),
        19 => ChangeMeaning::NotTaken(why),
        // Active Directory tells a password that its rules refuse with one of these.
        53 if text.contains("0000052D") || text.contains("WILL_NOT_PERFORM") => ChangeMeaning::NotTaken(why),
        49 | 53 if policy.is_some() => ChangeMeaning::NotTaken(why),
        _ => ChangeMeaning::Unavailable(read_failure(code)),
    }
}

/// The group's own name out of its DN: `cn=control-room,ou=groups,…` gives `control-room`.
pub fn name_of_dn(dn: &str) -> String {
    let first = first_component(dn);
    let value = first.split_once('=').map_or(first, |(_, value)| value);
    unescape(value.trim())
}

fn first_component(dn: &str) -> &str {
    let mut escaped = false;
    for (at, character) in dn.char_indices() {
        match character {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            ',' | '+' => return &dn[..at],
            _ => {}
        }
    }
    dn
}

/// Takes off the escapes of a DN value (RFC 4514 section 2.4).
fn unescape(value: &str) -> String {
    let mut bytes = Vec::with_capacity(value.len());
    let mut rest = value.as_bytes();
    while let [first, after @ ..] = rest {
        let hex = |pair: &[u8]| std::str::from_utf8(pair).ok().and_then(|pair| u8::from_str_radix(pair, 16).ok());
        match (first, after) {
            (b'\\', [a, b, tail @ ..]) if hex(&[*a, *b]).is_some() => {
                bytes.extend(hex(&[*a, *b]));
                rest = tail;
            }
            (b'\\', [next, tail @ ..]) => {
                bytes.push(*next);
                rest = tail;
            }
            _ => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn binds_are_read_by_code_control_and_text() {
        let refused = BindMeaning::Refused;
        let cases: [(u32, &str, Option<&[u8]>, BindMeaning); 16] = [
            (0, "", None, BindMeaning::Right),
            (0, "", Some(&[0x30, 0]), BindMeaning::Right),
            (0, "", Some(&[0x30, 6, 0xa0, 4, 0x80, 2, 0x0e, 0x10]), BindMeaning::RightBut(Notice::Expires(3600))),
            (0, "", Some(&[0x30, 5, 0xa0, 3, 0x81, 1, 2]), BindMeaning::RightBut(Notice::Grace(2))),
            (0, "", Some(&[0x30, 3, 0x81, 1, 2]), refused(Cause::PasswordMustChange)),
            (49, "", None, BindMeaning::Wrong),
            (49, "", Some(&[0x30, 3, 0x81, 1, 0]), refused(Cause::PasswordExpired)),
            (49, "", Some(&[0x30, 3, 0x81, 1, 1]), refused(Cause::AccountLocked)),
            (49, "", Some(&[0x30, 8, 0xa0, 3, 0x80, 1, 9, 0x81, 1, 1]), refused(Cause::AccountLocked)),
            (49, "80090308: LdapErr: DSID-0C0903A9, comment: data 775, v1db1", None, refused(Cause::AccountLocked)),
            (49, "LdapErr: comment: data 52e, v1db1", None, BindMeaning::Wrong),
            (49, "LdapErr: comment: data 533, v1db1", None, refused(Cause::AccountDisabled)),
            (49, "LdapErr: comment: data 701, v1db1", None, refused(Cause::AccountExpired)),
            (51, "", None, BindMeaning::Unavailable(Cause::SourceSlow)),
            (52, "", None, BindMeaning::Unavailable(Cause::SourceUnreachable)),
            (8, "", None, BindMeaning::Unavailable(Cause::SourceAnswerUnusable)),
        ];
        for (code, text, policy, wanted) in cases {
            assert_eq!(read_bind(code, text, policy), wanted, "{code} {text} {policy:x?}");
        }
    }

    #[test]
    fn a_broken_policy_control_is_no_verdict() {
        for value in [&[][..], &[0x30], &[0x30, 9, 0x81], &[0x30, 2, 0x81, 9], &[0x31, 3, 0x81, 1, 1]] {
            assert_eq!(read_bind(49, "", Some(value)), BindMeaning::Wrong);
        }
    }

    #[test]
    fn group_names_come_out_of_dns_with_escapes() {
        for (dn, name) in [
            ("cn=control-room,ou=groups,dc=northmoor,dc=example", "control-room"),
            ("CN=Crew\\, night,OU=groups", "Crew, night"),
            ("cn=Str\\c3\\b6mung+ou=x,dc=y", "Strömung"),
            ("plain", "plain"),
        ] {
            assert_eq!(name_of_dn(dn), name);
        }
    }

    proptest! {
        #[test]
        fn no_bytes_of_a_server_make_a_refused_bind_a_right_one(code in 1u32..200, text in "\\PC{0,40}", policy in proptest::option::of(proptest::collection::vec(any::<u8>(), 0..24))) {
            prop_assert_ne!(read_bind(code, &text, policy.as_deref()), BindMeaning::Right);
        }

        #[test]
        fn any_dn_gives_a_name(dn in "\\PC{0,60}") {
            let _ = name_of_dn(&dn);
        }
    }
}
