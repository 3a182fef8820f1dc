//! A TLS handshake that is looked at: what the server showed, and whether it would be trusted. Nothing is said over it.

use bivector_explain::probe::{Seen, judge_dates};
use bivector_model::Cause;
use bivector_model::trace::Tone;
use bivector_store::clock;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use std::sync::{Arc, Mutex};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use x509_parser::prelude::*;

/// The StartTLS request and the beginning of a good answer to it (RFC 4511 section 4.14).
const START_TLS: &[u8] = b"\x30\x1d\x02\x01\x01\x77\x18\x80\x161.3.6.1.4.1.1466.20037";
/// The longest answer to StartTLS that is read, in bytes.
const ANSWER: usize = 512;

/// The certificates that a server showed, its own first, and whether they would have been trusted.
type Shown = (Vec<Vec<u8>>, Result<(), Error>);

/// Lets every certificate pass and notes whether it would have been trusted.
#[derive(Debug)]
struct Looking {
    inner: Arc<WebPkiServerVerifier>,
    seen: Mutex<Option<Shown>>,
}

impl ServerCertVerifier for Looking {
    fn verify_server_cert(
        &self,
        leaf: &CertificateDer<'_>,
        others: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let verdict = self.inner.verify_server_cert(leaf, others, name, ocsp, now).map(|_| ());
        let chain = std::iter::once(leaf).chain(others).map(|certificate| certificate.to_vec()).collect();
        if let Ok(mut seen) = self.seen.lock() {
            *seen = Some((chain, verdict));
        }
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.inner.verify_tls12_signature(message, certificate, signature)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        self.inner.verify_tls13_signature(message, certificate, signature)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.inner.supported_verify_schemes()
    }
}

/// Looks at a server's TLS. `start` asks for it first, as on `ldap://`.
pub(super) async fn look(mut stream: TcpStream, host: &str, start: bool, roots: RootCertStore) -> Seen {
    let failed = |said: String| Seen::bad(Cause::SourceTlsUntrusted, said);
    if start && let Err(why) = ask_for_tls(&mut stream).await {
        return failed(why).and("enable StartTLS on the server, or use `ldaps://`");
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let inner = match WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&provider)).build() {
        Ok(inner) => inner,
        Err(error) => return failed(format!("the trust file cannot be used: {error}")),
    };
    let Ok(name) = ServerName::try_from(host.to_owned()) else {
        return failed(format!("`{host}` is not a valid certificate name"));
    };
    let looking = Arc::new(Looking { inner, seen: Mutex::new(None) });
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let config = match config {
        Ok(config) => {
            config.dangerous().with_custom_certificate_verifier(Arc::clone(&looking) as Arc<dyn ServerCertVerifier>).with_no_client_auth()
        }
        Err(error) => return failed(error.to_string()),
    };
    let connected = TlsConnector::from(Arc::new(config)).connect(name, stream).await;
    let seen = looking.seen.lock().ok().and_then(|mut seen| seen.take());
    let version = match &connected {
        Ok(stream) => match stream.get_ref().1.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
            _ => "TLS 1.2",
        },
        Err(error) => return failed(format!("TLS failed: {error}")).and("enable TLS 1.2 or 1.3 on this port"),
    };
    match seen {
        Some((chain, verdict)) => judge(&chain, verdict, host, version),
        None => failed("the server presented no certificate".into()),
    }
}

fn judge(chain: &[Vec<u8>], verdict: Result<(), Error>, host: &str, version: &str) -> Seen {
    let parsed: Vec<_> = chain.iter().filter_map(|der| X509Certificate::from_der(der).ok()).map(|(_, certificate)| certificate).collect();
    let Some(leaf) = parsed.first() else { return Seen::bad(Cause::SourceTlsUntrusted, "the certificate cannot be read") };
    let names = names(leaf);
    let validity = leaf.validity();
    let dates = judge_dates(validity.not_before.timestamp(), validity.not_after.timestamp(), clock::now());
    let bad = |said: String| Seen::bad(Cause::SourceTlsUntrusted, said);
    match (verdict, dates) {
        (Err(Error::InvalidCertificate(CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. })), _) => {
            bad(format!("the certificate is for {names}, not for {host}"))
                .and("use one of these names under `servers`, or have the certificate reissued for this one")
        }
        (Err(_), Err(dates)) if dates.state == Tone::Bad => dates,
        (Err(Error::InvalidCertificate(CertificateError::UnknownIssuer)), _) => {
            let issuer = parsed.last().map(|last| last.issuer().to_string()).unwrap_or_default();
            bad(format!("the certificate's issuer is not in the trust file: `{issuer}`"))
                .and("add that CA's certificate to the file named under `trust`")
        }
        (Err(error), _) => bad(format!("the certificate is not trusted: {error}")),
        (Ok(()), Err(dates)) => dates,
        (Ok(()), Ok(days)) => Seen::good(format!("{version}, certificate for {names}, {} in its chain, {days}", parsed.len())),
    }
}

fn names(leaf: &X509Certificate<'_>) -> String {
    let alternative = leaf.subject_alternative_name().ok().flatten();
    let names: Vec<String> = alternative
        .iter()
        .flat_map(|names| &names.value.general_names)
        .filter_map(|name| match name {
            GeneralName::DNSName(name) => Some((*name).to_owned()),
            GeneralName::IPAddress([a, b, c, d]) => Some(format!("{a}.{b}.{c}.{d}")),
            GeneralName::IPAddress(bytes) => <[u8; 16]>::try_from(*bytes).ok().map(|octets| std::net::Ipv6Addr::from(octets).to_string()),
            _ => None,
        })
        .collect();
    if names.is_empty() { leaf.subject().to_string() } else { names.join(", ") }
}

/// Asks for TLS on a plain connection; the answer is a short one with result 0.
async fn ask_for_tls(stream: &mut TcpStream) -> Result<(), String> {
    stream.write_all(START_TLS).await.map_err(|error| error.to_string())?;
    let mut answer = vec![0; ANSWER];
    let length = stream.read(&mut answer).await.map_err(|error| error.to_string())?;
    // LDAPMessage { id, [APPLICATION 24] { resultCode ENUMERATED … } }: the first enumerated value is the result.
    let result = answer[..length].windows(3).find(|window| window[0] == 0x0a && window[1] == 1).map(|window| window[2]);
    match result {
        Some(0) => Ok(()),
        Some(code) => {
            Err(format!("the server refused StartTLS with result {code} ({})", bivector_model::directory::describe_code(code.into())))
        }
        None => Err("the server's answer to StartTLS could not be parsed".into()),
    }
}
