//! Whose certificate it is, and which are refused: beyond what the tests with a foreign peer try.

use crate::{ChainVerifier, IssuerState};
use bivector_core::login::VerifiedCertificate;
use bivector_model::Cause;
use bivector_site::{Issuer, NameFrom, WhenUnknown};
use rcgen::string::Ia5String;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateRevocationListParams, CertifiedIssuer, DnType, ExtendedKeyUsagePurpose, IsCa,
    KeyIdMethod, KeyPair, KeyUsagePurpose, OtherNameValue, RevokedCertParams, SanType, SerialNumber, date_time_ymd,
};
use rustls::pki_types::CertificateDer;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};

fn authority(name: &str) -> CertifiedIssuer<'static, KeyPair> {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap()
}

fn certificate(issuer: &CertifiedIssuer<'static, KeyPair>, names: Vec<SanType>, serial: u64) -> CertificateDer<'static> {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, "Ines Okafor");
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
    params.subject_alt_names = names;
    params.serial_number = Some(SerialNumber::from(serial));
    params.signed_by(&KeyPair::generate().unwrap(), issuer).unwrap().der().clone()
}

fn mail(text: &str) -> SanType {
    SanType::Rfc822Name(Ia5String::try_from(text).unwrap())
}

fn settings(name_from: NameFrom, lists: &[&str]) -> Issuer {
    Issuer {
        name: "badges".into(),
        trust: "ca.pem".into(),
        name_from,
        of_devices: false,
        same_person: true,
        lists: lists.iter().map(|list| (*list).to_owned()).collect(),
        responder: None,
        when_unknown: WhenUnknown::Refuse,
        refresh: Duration::from_secs(60),
        key_bits: 2048,
        line: 1,
    }
}

fn state(data: &Path, issuer: &CertifiedIssuer<'static, KeyPair>, settings: &Issuer) -> Arc<IssuerState> {
    std::fs::write(data.join("ca.pem"), issuer.pem()).unwrap();
    Arc::new(IssuerState::prepare(settings, data).unwrap())
}

fn identify(state: &Arc<IssuerState>, chain: &[CertificateDer<'static>]) -> Result<VerifiedCertificate, (Cause, String)> {
    ChainVerifier::new(vec![Arc::clone(state)]).identify(chain)
}

#[test]
fn the_name_is_read_from_where_the_issuer_puts_it() {
    let (folder, issuer) = (tempfile::tempdir().unwrap(), authority("Northmoor badges"));
    let principal =
        SanType::OtherName((vec![1, 3, 6, 1, 4, 1, 311, 20, 2, 3], OtherNameValue::Utf8String("ines@northmoor.example".into())));
    let uri = SanType::URI(Ia5String::try_from("https://northmoor.example/ines").unwrap());
    let all = certificate(&issuer, vec![mail("i.okafor@northmoor.example"), principal, uri], 1);
    for (from, name) in [
        (NameFrom::Mail, "i.okafor@northmoor.example"),
        (NameFrom::Principal, "ines@northmoor.example"),
        (NameFrom::Uri, "https://northmoor.example/ines"),
        (NameFrom::CommonName, "Ines Okafor"),
    ] {
        let state = state(folder.path(), &issuer, &settings(from, &[]));
        let found = identify(&state, std::slice::from_ref(&all)).unwrap();
        assert_eq!((found.name.as_str(), found.issuer.as_str()), (name, "badges"), "{found:?}");
    }
}

#[test]
fn names_with_zero_bytes_long_chains_and_nothing_at_all_are_refused() {
    let (folder, issuer) = (tempfile::tempdir().unwrap(), authority("Northmoor badges"));
    let state = state(folder.path(), &issuer, &settings(NameFrom::Mail, &[]));
    let hidden = certificate(&issuer, vec![mail("ines\0@northmoor.example")], 1);
    let (cause, said) = identify(&state, &[hidden]).unwrap_err();
    assert_eq!((cause, said.contains("control character")), (Cause::CertificateNameMissing, true), "{said}");
    let fifty = vec![certificate(&issuer, vec![mail("ines@northmoor.example")], 2); 50];
    let (cause, said) = identify(&state, &fifty).unwrap_err();
    assert_eq!((cause, said.contains("50 certificates")), (Cause::CertificateUntrusted, true), "{said}");
    assert_eq!(identify(&state, &[]).unwrap_err().0, Cause::CertificateMissing);
    let noise = CertificateDer::from(vec![0x30, 0x82, 0xff, 0xff]);
    assert_eq!(identify(&state, &[noise]).unwrap_err().0, Cause::CertificateUntrusted);
}

#[test]
fn of_two_issuers_the_one_that_issued_it_decides() {
    let (one, two) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (badges, devices) = (authority("Northmoor badges"), authority("Northmoor devices"));
    let own = state(one.path(), &badges, &settings(NameFrom::Mail, &[]));
    let of_devices = Issuer { name: "devices".into(), of_devices: true, ..settings(NameFrom::Mail, &[]) };
    let both = ChainVerifier::new(vec![own, state(two.path(), &devices, &of_devices)]);
    let found = both.identify(&[certificate(&devices, vec![mail("laptop-7@northmoor.example")], 1)]).unwrap();
    assert_eq!((found.issuer.as_str(), found.of_device), ("devices", true));
    let stranger = certificate(&authority("Elsewhere"), vec![mail("ines@northmoor.example")], 1);
    assert_eq!(both.identify(&[stranger]).unwrap_err().0, Cause::CertificateUntrusted);
}

fn list(issuer: &CertifiedIssuer<'static, KeyPair>, serial: u64) -> Vec<u8> {
    let revoked = RevokedCertParams {
        serial_number: SerialNumber::from(serial),
        revocation_time: date_time_ymd(2024, 1, 1),
        reason_code: None,
        invalidity_date: None,
    };
    let params = CertificateRevocationListParams {
        this_update: date_time_ymd(2024, 1, 1),
        next_update: date_time_ymd(2090, 1, 1),
        crl_number: SerialNumber::from(1_u64),
        issuing_distribution_point: None,
        revoked_certs: vec![revoked],
        key_identifier_method: KeyIdMethod::Sha256,
    };
    params.signed_by(issuer).unwrap().der().to_vec()
}

/// A server that answers one request with these bytes, or hangs.
async fn server(answer: Option<Vec<u8>>) -> String {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        let (mut stream, _) = listener.accept().await.unwrap();
        let mut head = [0; 1024];
        let _ = stream.read(&mut head).await;
        match answer {
            Some(body) => {
                let head = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", body.len());
                let _ = stream.write_all(head.as_bytes()).await;
                let _ = stream.write_all(&body).await;
            }
            None => std::future::pending().await,
        }
    });
    format!("http://{address}/badges.crl")
}

#[tokio::test]
async fn a_list_at_an_address_counts_once_it_was_read_and_one_that_is_too_large_is_not_read() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (folder, issuer) = (tempfile::tempdir().unwrap(), authority("Northmoor badges"));
    let (good, lost) =
        (certificate(&issuer, vec![mail("ines@northmoor.example")], 7), certificate(&issuer, vec![mail("ines@northmoor.example")], 66));
    let address = server(Some(list(&issuer, 66))).await;
    let read = state(folder.path(), &issuer, &settings(NameFrom::Mail, &[&address]));
    assert_eq!(identify(&read, std::slice::from_ref(&good)).unwrap_err().0, Cause::CertificateRevocationUnknown, "it was not read yet");
    read.refresh().await;
    assert_eq!(read.health().missing, None);
    assert!(identify(&read, std::slice::from_ref(&good)).is_ok());
    assert_eq!(identify(&read, &[lost]).unwrap_err().0, Cause::CertificateRevoked);
    let address = server(Some(vec![b'x'; 50 * 1024 * 1024])).await;
    let large = state(folder.path(), &issuer, &settings(NameFrom::Mail, &[&address]));
    large.refresh().await;
    let missing = large.health().missing.unwrap();
    assert!(missing.contains("more than 32 MiB"), "{missing}");
    assert_eq!(identify(&large, &[good]).unwrap_err().0, Cause::CertificateRevocationUnknown);
}

#[tokio::test(start_paused = true)]
async fn a_server_of_lists_that_hangs_ends_by_itself() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (folder, issuer) = (tempfile::tempdir().unwrap(), authority("Northmoor badges"));
    let address = server(None).await;
    let state = state(folder.path(), &issuer, &settings(NameFrom::Mail, &[&address]));
    state.refresh().await;
    assert!(state.health().missing.unwrap().contains("no answer within 20 s"));
}

#[tokio::test]
async fn the_last_list_counts_while_its_server_is_away() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let (folder, issuer) = (tempfile::tempdir().unwrap(), authority("Northmoor badges"));
    // It answers one request and is gone.
    let address = server(Some(list(&issuer, 66))).await;
    for when_unknown in [WhenUnknown::Refuse, WhenUnknown::Accept] {
        let address = if when_unknown == WhenUnknown::Refuse { address.clone() } else { server(Some(list(&issuer, 66))).await };
        let own = Issuer { when_unknown, refresh: Duration::ZERO, ..settings(NameFrom::Mail, &[&address]) };
        let state = state(folder.path(), &issuer, &own);
        state.refresh().await;
        state.refresh().await;
        assert!(state.health().missing.is_some() && state.health().lists == 1, "{:?}", state.health());
        let (good, lost) =
            (certificate(&issuer, vec![mail("ines@northmoor.example")], 7), certificate(&issuer, vec![mail("ines@northmoor.example")], 66));
        assert!(identify(&state, &[good]).is_ok());
        assert_eq!(identify(&state, &[lost]).unwrap_err().0, Cause::CertificateRevoked);
    }
}

#[tokio::test]
async fn another_issuer_in_the_file_is_trusted_once_the_file_was_read_again() {
    let (folder, issuer, next) = (tempfile::tempdir().unwrap(), authority("Northmoor badges"), authority("Northmoor badges 2027"));
    let state = state(folder.path(), &issuer, &settings(NameFrom::Mail, &[]));
    let own = certificate(&next, vec![mail("ines@northmoor.example")], 1);
    assert_eq!(identify(&state, std::slice::from_ref(&own)).unwrap_err().0, Cause::CertificateUntrusted);
    assert!(!state.refresh_trust(), "nothing has changed");
    let file = folder.path().join("ca.pem");
    let write = |text: String, seconds: u64| {
        std::fs::write(&file, text).unwrap();
        let changed = std::time::SystemTime::now() + Duration::from_secs(seconds);
        std::fs::File::options().append(true).open(&file).unwrap().set_modified(changed).unwrap();
    };
    write("damaged".into(), 10);
    assert!(!state.refresh_trust() && identify(&state, &[certificate(&issuer, vec![mail("a@b.example")], 2)]).is_ok(), "as before");
    write(format!("{}{}", issuer.pem(), next.pem()), 20);
    assert!(state.refresh_trust() && identify(&state, &[own]).is_ok());
}
