//! OCSP with a foreign responder (`openssl ocsp`): what it answers, what somebody else answers in its name, and silence.

use crate::ocsp::{Question, Standing};
use crate::{ChainVerifier, IssuerState};
use bivector_model::Cause;
use bivector_site::{Issuer, NameFrom, Responder, WhenUnknown};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// Runs `openssl` in a folder.
fn openssl(folder: &Path, arguments: &str) -> Vec<u8> {
    let made = Command::new("openssl").args(arguments.split(' ')).current_dir(folder).output().expect("openssl is installed");
    assert!(made.status.success(), "{arguments}: {}", String::from_utf8_lossy(&made.stderr));
    made.stdout
}

/// A folder with an issuer `ca`, another issuer `other`, an appointed responder `responder`, and certificates by serial number: 01 is good,
/// 02 is revoked, 03 is unknown to the issuer's list.
fn issued() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let at = folder.path();
    let extensions = "[person]\nextendedKeyUsage=clientAuth\nsubjectAltName=email:ines@northmoor.example\n\
                      authorityInfoAccess=OCSP;URI:http://127.0.0.1:1/\n[responder]\nextendedKeyUsage=OCSPSigning\n[other]\n";
    std::fs::write(at.join("extensions"), extensions).unwrap();
    for name in ["ca", "other"] {
        openssl(
            at,
            &format!(
                "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {name}.key -out {name}.pem -subj /CN={name} -days 3650"
            ),
        );
    }
    for (name, serial, section) in
        [("one", 1, "person"), ("two", 2, "person"), ("three", 3, "person"), ("responder", 9, "responder"), ("impostor", 10, "other")]
    {
        openssl(
            at,
            &format!("req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {name}.key -out {name}.csr -subj /CN={name}"),
        );
        openssl(
            at,
            &format!(
                "x509 -req -in {name}.csr -CA ca.pem -CAkey ca.key -set_serial {serial} -days 3650 -extfile extensions -extensions {section} -out {name}.pem"
            ),
        );
    }
    std::fs::write(
        at.join("index.txt"),
        "V\t400101000000Z\t\t01\tunknown\t/CN=one\nR\t400101000000Z\t240101000000Z\t02\tunknown\t/CN=two\n",
    )
    .unwrap();
    folder
}

fn certificate(folder: &Path, name: &str) -> CertificateDer<'static> {
    CertificateDer::from_pem_file(folder.join(format!("{name}.pem"))).unwrap()
}

fn question(folder: &Path, name: &str) -> Question {
    let (leaf, issuer) = (certificate(folder, name), certificate(folder, "ca"));
    let (_, leaf) = x509_parser::parse_x509_certificate(&leaf).unwrap();
    let (_, issuer) = x509_parser::parse_x509_certificate(&issuer).unwrap();
    Question::new(&leaf, issuer.public_key().raw.to_vec(), [7; 16]).unwrap()
}

/// What `openssl` answers to a request, signed by `signer`.
fn answer(folder: &Path, request: &[u8], signer: &str, more: &str) -> Vec<u8> {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    std::fs::write(folder.join(format!("request-{number}")), request).unwrap();
    openssl(
        folder,
        &format!(
            "ocsp -index index.txt -CA ca.pem -rsigner {signer}.pem -rkey {signer}.key -reqin request-{number} -respout response-{number}{more}"
        ),
    );
    std::fs::read(folder.join(format!("response-{number}"))).unwrap()
}

fn now() -> Duration {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap()
}

fn read(question: &Question, answer: &[u8], now: Duration) -> Result<crate::ocsp::Answer, String> {
    question.read(answer, now, &rustls::crypto::ring::default_provider().signature_verification_algorithms)
}

#[test]
fn a_foreign_responder_is_understood_whether_it_is_the_issuer_or_appointed_by_it() {
    let folder = issued();
    let at = folder.path();
    for signer in ["ca", "responder"] {
        for (name, standing) in [("one", Standing::Good), ("two", Standing::Revoked), ("three", Standing::Unknown)] {
            let question = question(at, name);
            let answer = answer(at, &question.encode().unwrap(), signer, " -nmin 60");
            let read = read(&question, &answer, now()).unwrap();
            assert_eq!(read.standing, standing, "{signer} {name}");
            let lasts = read.until.unwrap().as_secs() - now().as_secs();
            assert!((3500..=3600).contains(&lasts), "{lasts}");
        }
    }
}

#[test]
fn answers_that_prove_nothing_are_refused_with_the_reason() {
    let folder = issued();
    let at = folder.path();
    let (one, two) = (question(at, "one"), question(at, "two"));
    let (asked_one, asked_two) = (one.encode().unwrap(), two.encode().unwrap());
    let good = answer(at, &asked_one, "ca", " -nmin 60");
    for (what, bytes, when, said) in [
        ("signed by another issuer", answer(at, &asked_one, "other", ""), now(), "signed neither by the issuer"),
        ("signed by a certificate that is not for it", answer(at, &asked_one, "impostor", ""), now(), "signed neither by the issuer"),
        ("about another certificate", answer(at, &asked_two, "ca", " -no_nonce"), now(), "another"),
        ("expired", good.clone(), now() + Duration::from_secs(7200), "has expired"),
        ("of the future", good.clone(), now() - Duration::from_secs(7200), "in the future"),
        ("no answer at all", b"<html>".to_vec(), now(), "no OCSP response"),
        ("an error", vec![0x30, 3, 0x0a, 1, 3], now(), "TryLater (3)"),
        ("cut short", good[..good.len() - 9].to_vec(), now(), "no OCSP response"),
    ] {
        let refused = read(&one, &bytes, when).unwrap_err();
        assert!(refused.contains(said), "{what}: {refused}");
    }
    let mut changed = good.clone();
    let at_status = changed.len() / 3;
    changed[at_status] ^= 1;
    assert!(read(&one, &changed, now()).is_err(), "a changed byte");
    let replayed = Question::new(
        &x509_parser::parse_x509_certificate(&certificate(at, "one")).unwrap().1,
        x509_parser::parse_x509_certificate(&certificate(at, "ca")).unwrap().1.public_key().raw.to_vec(),
        [8; 16],
    );
    assert!(read(&replayed.unwrap(), &good, now()).unwrap_err().contains("another request"), "an answer to somebody else's question");
}

/// What a responder of the test does.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Does {
    Answer,
    Lie,
    Hang,
}

/// A responder over HTTP that counts its requests. `does` is its first conduct; [`Does`] can be changed.
async fn responder(folder: &Path, does: Arc<std::sync::Mutex<Does>>) -> (String, Arc<AtomicUsize>) {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let (asked, folder) = (Arc::new(AtomicUsize::new(0)), folder.to_owned());
    let count = Arc::clone(&asked);
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            count.fetch_add(1, Ordering::SeqCst);
            let does = *does.lock().unwrap();
            let mut request = Vec::new();
            let body = loop {
                let mut piece = [0; 4096];
                let length = stream.read(&mut piece).await.unwrap();
                request.extend(&piece[..length]);
                let end = request.windows(4).position(|window| window == b"\r\n\r\n");
                // A request has about 100 bytes; it comes with the head or right after.
                if let Some(end) = end.filter(|end| request.len() > end + 60) {
                    break request.split_off(end + 4);
                }
            };
            let signer = if does == Does::Lie { "other" } else { "ca" };
            if does == Does::Hang {
                std::future::pending::<()>().await;
            }
            let body = answer(&folder, &body, signer, "");
            let head = format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\nconnection: close\r\n\r\n", body.len());
            let _ = stream.write_all(&[head.as_bytes(), &body].concat()).await;
        }
    });
    (format!("http://{address}/"), asked)
}

fn verifier(folder: &Path, responder: Responder, when_unknown: WhenUnknown) -> (Arc<IssuerState>, ChainVerifier) {
    let settings = Issuer {
        name: "badges".into(),
        trust: "ca.pem".into(),
        name_from: NameFrom::Mail,
        of_devices: false,
        same_person: true,
        lists: Vec::new(),
        responder: Some(responder),
        when_unknown,
        refresh: Duration::from_secs(3600),
        key_bits: 2048,
        line: 1,
    };
    let state = Arc::new(IssuerState::prepare(&settings, folder).unwrap());
    (Arc::clone(&state), ChainVerifier::new(vec![state]))
}

#[tokio::test]
async fn the_first_login_asks_and_later_ones_know() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = issued();
    let (address, asked) = responder(folder.path(), Arc::new(std::sync::Mutex::new(Does::Answer))).await;
    let (state, verifier) = verifier(folder.path(), Responder::At(address.clone()), WhenUnknown::Refuse);
    for (count, name, cause) in
        [(1, "one", None), (2, "two", Some(Cause::CertificateRevoked)), (3, "three", Some(Cause::CertificateRevocationUnknown))]
    {
        let chain = [certificate(folder.path(), name)];
        assert!(verifier.must_ask(&chain), "{name}");
        verifier.ask(&chain).await;
        assert!(!verifier.must_ask(&chain), "{name}");
        let found = verifier.identify(&chain);
        assert_eq!(found.as_ref().err().map(|(cause, _)| *cause), cause, "{name}");
        assert!(found.is_err() || found.unwrap().said.contains("not revoked, as the OCSP responder said 0 s ago"));
        assert_eq!(asked.load(Ordering::SeqCst), count);
    }
    let health = state.health().responder.unwrap();
    assert_eq!((health.address, health.known, health.failed), (address, 3, None));
}

#[tokio::test]
async fn without_a_usable_answer_the_setting_decides() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = issued();
    let chain = [certificate(folder.path(), "one")];
    for (does, said) in [(Does::Lie, "signed neither"), (Does::Hang, "no answer within 3 s")] {
        for when_unknown in [WhenUnknown::Refuse, WhenUnknown::Accept] {
            let (address, _) = responder(folder.path(), Arc::new(std::sync::Mutex::new(does))).await;
            let (state, verifier) = verifier(folder.path(), Responder::At(address), when_unknown);
            verifier.ask(&chain).await;
            assert!(!verifier.must_ask(&chain), "a failure is not asked for again by the next login");
            let found = verifier.identify(&chain);
            match when_unknown {
                WhenUnknown::Refuse => {
                    let (cause, why) = found.unwrap_err();
                    assert!(cause == Cause::CertificateRevocationUnknown && why.contains(said), "{why}");
                }
                WhenUnknown::Accept => assert!(found.unwrap().said.contains("accepted although its status is not known")),
            }
            assert!(state.health().responder.unwrap().failed.unwrap().contains(said));
        }
    }
}

#[tokio::test]
async fn the_last_answer_counts_while_the_responder_is_away_and_a_revocation_for_ever() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = issued();
    let does = Arc::new(std::sync::Mutex::new(Does::Answer));
    let (address, _) = responder(folder.path(), Arc::clone(&does)).await;
    let (_, verifier) = verifier(folder.path(), Responder::At(address), WhenUnknown::Refuse);
    let (one, two) = ([certificate(folder.path(), "one")], [certificate(folder.path(), "two")]);
    for chain in [&one, &two] {
        verifier.ask(chain).await;
    }
    *does.lock().unwrap() = Does::Lie;
    for chain in [&one, &two] {
        verifier.ask(chain).await;
    }
    assert!(verifier.identify(&one).is_ok());
    assert_eq!(verifier.identify(&two).unwrap_err().0, Cause::CertificateRevoked);
}

#[tokio::test]
async fn the_certificate_names_its_responder() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = issued();
    let (_, verifier) = verifier(folder.path(), Responder::InCertificate, WhenUnknown::Refuse);
    let chain = [certificate(folder.path(), "one")];
    verifier.ask(&chain).await;
    // Nobody listens on the port that the certificate names.
    let (cause, why) = verifier.identify(&chain).unwrap_err();
    assert!(cause == Cause::CertificateRevocationUnknown && why.starts_with("http://127.0.0.1:1/: "), "{why}");
}
