//! One TLS connection without a socket: whole flights in, whole flights out, and the keys that both sides export.

use crate::{Failed, MSK, Msk};
use bivector_model::Cause;
use bivector_wire::Secret;
use bivector_wire::eap::{PEAP, TLS, TTLS};
use rustls::{AlertDescription, CertificateError, Connection, Error, PeerIncompatible, ProtocolVersion};
use std::io::{Read, Write};

/// A connection of either side.
#[derive(Debug)]
pub(crate) struct Tunnel(pub(crate) Connection);

/// What a flight brought: what was said inside, and what is to be sent.
#[derive(Debug, Default)]
pub(crate) struct Flight {
    pub(crate) inside: Secret<Vec<u8>>,
    pub(crate) out: Vec<u8>,
    /// Why the connection has ended, if so. `out` may hold an alert.
    pub(crate) failed: Option<Error>,
}

impl Tunnel {
    /// Reads a flight of the other side.
    pub(crate) fn receive(&mut self, mut bytes: &[u8]) -> Flight {
        let mut flight = Flight::default();
        let mut inside = Vec::new();
        while !bytes.is_empty() && flight.failed.is_none() {
            let before = bytes.len();
            // Reading from memory cannot fail; a full buffer reads nothing.
            let _ = self.0.read_tls(&mut bytes);
            flight.failed = self.0.process_new_packets().err();
            let mut clear = Vec::new();
            // `WouldBlock` says that there is no more for now.
            let _ = self.0.reader().read_to_end(&mut clear);
            inside.append(&mut clear);
            if bytes.len() == before {
                break;
            }
        }
        flight.inside = Secret::new(inside);
        flight.out = self.out();
        flight
    }

    /// Encrypts a message. Gives the bytes to send, with whatever waited before.
    pub(crate) fn send(&mut self, clear: &[u8]) -> Vec<u8> {
        let _ = self.0.writer().write_all(clear);
        self.out()
    }

    /// What is to be sent.
    pub(crate) fn out(&mut self) -> Vec<u8> {
        let mut out = Vec::new();
        while self.0.wants_write() {
            if self.0.write_tls(&mut out).is_err() {
                break;
            }
        }
        out
    }

    pub(crate) fn is_handshaking(&self) -> bool {
        self.0.is_handshaking()
    }

    pub(crate) fn is_tls13(&self) -> bool {
        self.0.protocol_version() == Some(ProtocolVersion::TLSv1_3)
    }

    /// The version in words.
    pub(crate) fn version(&self) -> &'static str {
        if self.is_tls13() { "TLS 1.3" } else { "TLS 1.2" }
    }

    /// The Master Session Key (RFC 5216 section 2.3, RFC 5281 section 8, RFC 9190 section 2.3, RFC 9427 section 2.1).
    pub(crate) fn msk(&self, kind: u8) -> Option<Msk> {
        let mut key = self.key_material(kind, 128)?;
        key.truncate(MSK);
        Some(Secret::new(key))
    }

    /// The Method-Id of TLS 1.3 (RFC 9190 section 2.3).
    pub(crate) fn method_id(&self, kind: u8) -> Option<Vec<u8>> {
        self.is_tls13().then(|| self.export(b"EXPORTER_EAP_TLS_Method-Id", Some(&[kind]), 64)).flatten()
    }

    pub(crate) fn key_material(&self, kind: u8, length: usize) -> Option<Vec<u8>> {
        let label: &[u8] = match (self.is_tls13(), kind) {
            (true, _) => b"EXPORTER_EAP_TLS_Key_Material",
            (false, TTLS) => b"ttls keying material",
            (false, _) => b"client EAP encryption",
        };
        self.export(label, self.is_tls13().then_some(&[kind][..]), length)
    }

    /// The challenge that both sides know without sending it (RFC 5281 section 11.1, RFC 9427 section 3.1).
    pub(crate) fn challenge(&self, length: usize) -> Option<Vec<u8>> {
        self.export(b"ttls challenge", self.is_tls13().then_some(&[][..]), length)
    }

    fn export(&self, label: &[u8], context: Option<&[u8]>, length: usize) -> Option<Vec<u8>> {
        let out = vec![0; length];
        match &self.0 {
            Connection::Client(client) => client.export_keying_material(out, label, context).ok(),
            Connection::Server(server) => server.export_keying_material(out, label, context).ok(),
        }
    }
}

/// Why TLS failed, as a cause with what was seen.
pub fn failed(error: &Error) -> Failed {
    match error {
        Error::AlertReceived(alert) => Failed::new(Cause::TlsAlert, alert_in_words(*alert)),
        Error::PeerIncompatible(
            PeerIncompatible::Tls12NotOffered
            | PeerIncompatible::Tls12NotOfferedOrEnabled
            | PeerIncompatible::Tls13RequiredForQuic
            | PeerIncompatible::SupportedVersionsExtensionRequired,
        ) => Failed::new(Cause::TlsVersion, "the peer offers no version from TLS 1.2 on"),
        Error::NoCertificatesPresented => Failed::new(Cause::CertificateMissing, "the peer sent no certificate"),
        Error::InvalidCertificate(why) => certificate(why),
        other => Failed::new(Cause::TlsFailed, format!("the TLS handshake failed: {other}")),
    }
}

/// Why a certificate was not accepted.
fn certificate(why: &CertificateError) -> Failed {
    let cause = match why {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => Cause::CertificateExpired,
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => Cause::CertificateNotYetValid,
        CertificateError::Revoked => Cause::CertificateRevoked,
        CertificateError::UnknownRevocationStatus
        | CertificateError::ExpiredRevocationList
        | CertificateError::ExpiredRevocationListContext { .. } => Cause::CertificateRevocationUnknown,
        CertificateError::InvalidPurpose | CertificateError::InvalidPurposeContext { .. } => Cause::CertificatePurpose,
        _ => Cause::CertificateUntrusted,
    };
    let said = match why {
        CertificateError::Other(own) => own.to_string(),
        _ => Error::InvalidCertificate(why.clone()).to_string(),
    };
    Failed::new(cause, format!("the peer's certificate was refused: {said}"))
}

/// What an alert of the peer means, and what would help.
pub fn alert_in_words(alert: AlertDescription) -> String {
    let (name, said) = match alert {
        AlertDescription::UnknownCA => (
            "unknown_ca",
            "the peer does not trust our certificate: install the certificate of its issuer on the peer, or correct the one that is set there",
        ),
        AlertDescription::BadCertificate | AlertDescription::CertificateUnknown | AlertDescription::UnsupportedCertificate => (
            "bad_certificate",
            "the peer does not accept our certificate: compare the server name and the issuer that are set on the peer with the certificate",
        ),
        AlertDescription::CertificateExpired => {
            ("certificate_expired", "the peer finds our certificate expired: renew it, or correct the peer's clock")
        }
        AlertDescription::CertificateRevoked => ("certificate_revoked", "the peer finds our certificate revoked: replace it"),
        AlertDescription::ProtocolVersion => ("protocol_version", "the peer does not accept this TLS version"),
        AlertDescription::HandshakeFailure => ("handshake_failure", "the peer found no algorithm or version that both sides accept"),
        AlertDescription::DecryptError => {
            ("decrypt_error", "the peer could not verify a signature: it may trust another issuer of the same name as ours")
        }
        AlertDescription::AccessDenied => ("access_denied", "the peer refused our certificate by its own policy"),
        AlertDescription::CloseNotify => ("close_notify", "the peer ended the connection"),
        AlertDescription::UserCanceled => ("user_canceled", "the person cancelled the login, perhaps when asked about our certificate"),
        _ => ("another alert", "the peer ended the TLS handshake"),
    };
    format!("the peer sent the TLS alert {} ({name}): {said}", u8::from(alert))
}

/// The method's name for a tunnel.
pub(crate) fn tunnel_name(kind: u8) -> &'static str {
    match kind {
        TLS => "EAP-TLS",
        TTLS => "EAP-TTLS",
        PEAP => "PEAP",
        _ => "EAP",
    }
}
