//! `bivector login --from` with an EAP method: this machine is gateway and person's device.

use super::login::{Answers, seen, show, status};
use crate::arguments::{Global, Login};
use crate::failure::Failure;
use crate::output;
use bivector_exchange::eap::{EapLogin, Identity, PeerSettings, Trust, peer_tls};
use bivector_exchange::{AskError, Asker, Patience};
use bivector_wire::eap::Proves;
use bivector_wire::{AttributeType, Code, Message, Secret, SharedSecret};
use rustls::RootCertStore;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

/// Bytes of TLS data in one packet of the peer.
const FRAGMENT: usize = 1024;

pub(super) async fn run(login: &Login, from: IpAddr, to: SocketAddr, global: &Global) -> Result<ExitCode, Failure> {
    let secret = output::read_hidden(login.secret_file.as_deref(), "shared secret (not shown): ")?;
    let secret = SharedSecret::new(secret.expose().as_bytes());
    let mut answers = Answers::of(login)?;
    // Where MS-CHAPv2 lets another password be tried, the answers are further passwords: it asks for nothing else.
    let again = if method_proves_ms_chap(login) { answers.take() } else { Vec::new() };
    let mut eap = EapLogin::new(settings(login, &again)?, own_words(login, from));
    let no = |error: AskError| Failure::no(error.to_string(), "check that the address given with `--from` is one of this machine");
    let asker = Asker::connect(SocketAddr::new(from, 0), to).await.map_err(|error| no(error.into()))?;
    let patience = Patience { wait: Duration::from_secs(5), tries: 3 };
    loop {
        let mut round = eap.go_on(&asker, &secret, patience).await.map_err(no)?;
        if let Some(ended) = round.ended {
            round.exchange.discarded.push(format!("the peer ended the login: {ended}"));
        }
        if round.same_key == Some(false) {
            round.exchange.discarded.push("the key of the gateway differs from the key of the peer".to_owned());
        }
        let (tried, _) = seen(round.exchange);
        show(&tried, global);
        match if round.asks.is_some() { answers.next()? } else { None } {
            Some(answer) => eap.answer(answer.expose()).map_err(|error| Failure::no(error, "start the login again"))?,
            None => return Ok(status(&tried)),
        }
    }
}

fn method_proves_ms_chap(login: &Login) -> bool {
    login.method.0.proves() == Some(Proves::MsChapV2)
}

fn settings(login: &Login, again: &[String]) -> Result<PeerSettings, Failure> {
    let Some(method) = login.method.0.eap() else { return Err(Failure::no("the method is no EAP method", "choose one with `--method`")) };
    let tls = match (method.has_tunnel(), &login.trust) {
        (false, _) => None,
        (true, None) => {
            let hint = "give the issuers of the server certificate with `--trust FILE`";
            return Err(Failure::no(format!("`{}` checks the server certificate", method.name()), hint));
        }
        (true, Some(trust)) => {
            let tls = peer_tls(Trust::Issuers(roots(trust)?), identity(login)?, false);
            Some(tls.map_err(|error| Failure::no(error.to_string(), "check that `--key` is the key of `--certificate`"))?)
        }
    };
    let password = match method.proves() {
        Proves::Certificate => Secret::default(),
        _ => output::read_hidden(login.password_file.as_deref(), "password field (not shown): ")?,
    };
    Ok(PeerSettings {
        method,
        name: login.person.clone().into_bytes(),
        outer: login.outer.clone().map(String::into_bytes),
        password: Secret::new(password.expose().clone().into_bytes()),
        again: again.iter().map(|text| Secret::new(text.clone().into_bytes())).collect(),
        tls,
        server: login.server_name.clone().unwrap_or_else(|| "localhost".to_owned()),
        fragment: FRAGMENT,
        old_tls: false,
    })
}

/// What the gateway says of itself.
fn own_words(login: &Login, from: IpAddr) -> Message {
    let mut extra = Message::new(Code::AccessRequest);
    extra.push(AttributeType::NasIdentifier, login.via.as_bytes());
    if let IpAddr::V4(address) = from {
        extra.push(AttributeType::NasIpAddress, &address.octets());
    }
    if let Some(caller) = login.caller {
        extra.push(AttributeType::CallingStationId, caller.to_string().as_bytes());
    }
    extra
}

fn certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, Failure> {
    let read: Result<Vec<_>, _> = CertificateDer::pem_file_iter(file).and_then(Iterator::collect);
    read.map_err(|error| Failure::no(format!("`{}` is not a certificate: {error}", file.display()), "give a PEM file"))
}

fn roots(file: &Path) -> Result<RootCertStore, Failure> {
    let mut roots = RootCertStore::empty();
    for certificate in certificates(file)? {
        roots.add(certificate).map_err(|error| Failure::no(format!("`{}`: {error}", file.display()), "give the issuer's certificate"))?;
    }
    Ok(roots)
}

fn identity(login: &Login) -> Result<Option<Identity>, Failure> {
    let (Some(certificate), Some(key)) = (&login.certificate, &login.key) else { return Ok(None) };
    let key = PrivateKeyDer::from_pem_file(key)
        .map_err(|error| Failure::no(format!("`{}` is not a key: {error}", key.display()), "give a PEM file"))?;
    Ok(Some((certificates(certificate)?, key)))
}
