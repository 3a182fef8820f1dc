//! From the LDAP client's errors to causes.

use bivector_core::login::Unavailable;
use bivector_model::Cause;
use ldap3::LdapError;
use std::error::Error;
use std::io;
use std::time::Duration;

/// What was being done.
#[derive(Debug, Clone, Copy)]
pub(super) enum Doing {
    Connecting(Duration),
    Answering(Duration),
}

pub(super) fn from_ldap(error: &LdapError, doing: Doing) -> Unavailable {
    match error {
        LdapError::Io { source } => from_io(source, doing),
        LdapError::Timeout { .. } => too_slow(doing),
        LdapError::LdapResult { result } => Unavailable {
            cause: bivector_model::directory::read_failure(result.rc),
            seen: format!("result {} ({})", result.rc, bivector_model::directory::describe_code(result.rc)),
        },
        other => {
            let cause = if find_rustls(other).is_some() { Cause::SourceTlsUntrusted } else { Cause::SourceUnreachable };
            Unavailable { cause, seen: closed_or(other.to_string()) }
        }
    }
}

/// The connection's task has ended, which the client reports in words about its own channels.
fn closed_or(seen: String) -> String {
    if seen.contains("recv error") || seen.contains("send error") || seen.contains("end of search") {
        "the server closed the connection".to_owned()
    } else {
        seen
    }
}

pub(super) fn from_io(error: &io::Error, doing: Doing) -> Unavailable {
    if let Some(tls) = error.get_ref().and_then(|inner| find_rustls(inner)) {
        let seen = match tls {
            rustls::Error::AlertReceived(rustls::AlertDescription::ProtocolVersion) => {
                "TLS failed: the server does not support TLS 1.2 or later".to_owned()
            }
            other => format!("TLS failed: {other}"),
        };
        return Unavailable { cause: Cause::SourceTlsUntrusted, seen };
    }
    match error.kind() {
        io::ErrorKind::TimedOut => too_slow(doing),
        io::ErrorKind::ConnectionRefused => Unavailable { cause: Cause::SourceUnreachable, seen: "connection refused".into() },
        _ => Unavailable { cause: Cause::SourceUnreachable, seen: error.to_string() },
    }
}

pub(super) fn too_slow(doing: Doing) -> Unavailable {
    match doing {
        Doing::Connecting(limit) => {
            Unavailable { cause: Cause::SourceUnreachable, seen: format!("no connection within {} ms", limit.as_millis()) }
        }
        Doing::Answering(limit) => Unavailable { cause: Cause::SourceSlow, seen: format!("no answer within {} ms", limit.as_millis()) },
    }
}

fn find_rustls<'e>(error: &'e (dyn Error + 'static)) -> Option<&'e rustls::Error> {
    let mut current = Some(error);
    while let Some(error) = current {
        if let Some(tls) = error.downcast_ref::<rustls::Error>() {
            return Some(tls);
        }
        if let Some(inner) = error.downcast_ref::<io::Error>().and_then(io::Error::get_ref)
            && let Some(tls) = inner.downcast_ref::<rustls::Error>()
        {
            return Some(tls);
        }
        current = error.source();
    }
    None
}
