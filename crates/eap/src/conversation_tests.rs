//! Whole conversations between the server's side and a peer: every method, both versions of TLS, and what goes wrong.

use crate::{Conversation, Given, GivenCredential, MSK, Peer, PeerSettings, PeerTurn, Settings, Turn};
use bivector_model::Cause;
use bivector_model::moment::Moment;
use bivector_wire::eap::{self, EapMethod, GTC, MD5, MS_CHAP_V2, PEAP, Proves, TLS, TTLS};
use bivector_wire::{ChapProof, MsChapProof, MsChapProved, Secret, nt_hash};
use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, ExtendedKeyUsagePurpose, IsCa, KeyPair};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::version::{TLS12, TLS13};
use rustls::{ClientConfig, RootCertStore, ServerConfig, SupportedProtocolVersion};
use std::sync::Arc;

const PASSWORD: &str = "mussel";
const SERVER: &str = "login.northmoor.example";
const NOW: Moment = Moment::from_micros(1_000_000);

/// An authority with a certificate for the server and one for a person.
struct Authority {
    issuer: CertifiedIssuer<'static, KeyPair>,
}

fn key(key: &KeyPair) -> PrivateKeyDer<'static> {
    PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()))
}

impl Authority {
    fn new() -> Self {
        Authority::named("Northmoor people")
    }

    fn named(name: &str) -> Self {
        let mut params = CertificateParams::default();
        params.distinguished_name.push(DnType::CommonName, name);
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        Authority { issuer: CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap() }
    }

    fn issue(&self, name: &str, purpose: ExtendedKeyUsagePurpose) -> (CertificateDer<'static>, PrivateKeyDer<'static>) {
        let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        params.extended_key_usages = vec![purpose];
        let own = KeyPair::generate().unwrap();
        (params.signed_by(&own, &self.issuer).unwrap().der().clone(), key(&own))
    }

    fn roots(&self) -> RootCertStore {
        let mut roots = RootCertStore::empty();
        roots.add(self.issuer.der().clone()).unwrap();
        roots
    }

    fn server(&self, version: &'static SupportedProtocolVersion) -> Arc<ServerConfig> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let (certificate, key) = self.issue(SERVER, ExtendedKeyUsagePurpose::ServerAuth);
        let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(self.roots()), Arc::clone(&provider));
        let config = ServerConfig::builder_with_provider(provider).with_protocol_versions(&[version]).unwrap();
        let verifier = verifier.allow_unauthenticated().build().unwrap();
        Arc::new(config.with_client_cert_verifier(verifier).with_single_cert(vec![certificate], key).unwrap())
    }

    fn client(&self, trusts: &Authority, with_certificate: bool) -> Arc<ClientConfig> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ClientConfig::builder_with_provider(provider).with_protocol_versions(&[&TLS12, &TLS13]).unwrap();
        let config = config.with_root_certificates(trusts.roots());
        Arc::new(match with_certificate {
            true => {
                let (certificate, key) = self.issue("ines.northmoor.example", ExtendedKeyUsagePurpose::ClientAuth);
                config.with_client_auth_cert(vec![certificate], key).unwrap()
            }
            false => config.with_no_client_auth(),
        })
    }
}

/// Bytes that differ at every call.
fn random(bytes: &mut [u8]) {
    use std::sync::atomic::{AtomicU8, Ordering};
    static NEXT: AtomicU8 = AtomicU8::new(1);
    bytes.iter_mut().for_each(|byte| *byte = NEXT.fetch_add(1, Ordering::Relaxed));
}

fn settings(methods: &[EapMethod], tls: Arc<ServerConfig>) -> Settings {
    Settings {
        methods: methods.to_vec(),
        tls: Some(tls),
        certificate: SERVER.into(),
        asks_certificate: false,
        fragment: 1000,
        server: "bivector".into(),
        sessions: None,
    }
}

fn peer(method: EapMethod, password: &str, tls: Arc<ClientConfig>) -> PeerSettings {
    PeerSettings {
        method,
        name: b"ines".to_vec(),
        outer: method.has_tunnel().then(|| b"anonymous".to_vec()),
        password: Secret::new(password.as_bytes().to_vec()),
        again: Vec::new(),
        tls: Some(tls),
        server: SERVER.into(),
        fragment: 1000,
        old_tls: false,
    }
}

/// How a conversation went.
#[derive(Debug)]
struct Went {
    accepted: bool,
    /// What the login was told.
    given: Vec<Given>,
    cause: Option<(Cause, String)>,
    rounds: usize,
    prompts: Vec<String>,
    keys: (Option<Vec<u8>>, Option<Vec<u8>>),
    notes: Vec<String>,
    resumed: bool,
    peer_said: Option<String>,
}

/// Whether a credential proves the password; with what an MS-CHAPv2 response gives.
fn check(given: &Given, password: &str) -> (bool, Option<MsChapProved>) {
    match &given.credential {
        GivenCredential::Text(text) => (text.expose() == password.as_bytes(), None),
        GivenCredential::Chap { password: value, challenge } => {
            (ChapProof::read(value, challenge).unwrap().proves(password.as_bytes()), None)
        }
        GivenCredential::MsChapV2 { response, challenge, name } => {
            let name = if name.is_empty() { &given.name } else { name };
            let proved = MsChapProof::read(response, Some(challenge)).unwrap().proves(name, &nt_hash(password));
            (proved.is_some(), proved)
        }
        GivenCredential::Resumed(person) => (person == "roster:ines", None),
        GivenCredential::Certificate => (!given.certificates.is_empty(), None),
    }
}

/// Runs a conversation to its end. A code is asked for after the password where `code` says which one is right.
fn run(settings: Settings, peer: PeerSettings, code: Option<&str>, mangle: &mut dyn FnMut(usize, &mut Vec<u8>)) -> Went {
    let mut peer = Peer::new(peer);
    let mut went = Went {
        accepted: false,
        given: Vec::new(),
        cause: None,
        rounds: 0,
        prompts: Vec::new(),
        keys: (None, None),
        notes: Vec::new(),
        resumed: false,
        peer_said: None,
    };
    let begin = peer.begin();
    let (identifier, identity) = Conversation::identity_of(&begin).unwrap();
    let (mut server, mut request) = Conversation::begin(Arc::new(settings), identity, identifier, &mut random, NOW).unwrap();
    loop {
        went.rounds += 1;
        assert!(went.rounds < 400, "it ends");
        let turn = match peer.receive(&request, &mut random) {
            PeerTurn::Asked(prompt) => {
                went.prompts.push(prompt);
                peer.answer(b"123456")
            }
            turn => turn,
        };
        let mut response = match turn {
            PeerTurn::Send(response) => response,
            other => {
                went.peer_said = Some(format!("{other:?}"));
                break;
            }
        };
        mangle(went.rounds, &mut response);
        let next = match server.receive(&response, &mut random, NOW) {
            Turn::Send(request) => Some(request),
            Turn::Over => None,
            Turn::Failed(failed) => {
                went.cause = Some((failed.cause, failed.said));
                None
            }
            Turn::Decide(given) => {
                let first = went.given.is_empty() || code.is_none();
                let (right, proved) = check(&given, if first { PASSWORD } else { code.unwrap_or(PASSWORD) });
                went.given.push(*given);
                match (right, first && code.is_some()) {
                    (true, true) => Some(server.ask("Code: ").expect("a text method asks")),
                    (true, false) => {
                        went.accepted = true;
                        server.keep_session("roster:ines", Moment::from_micros(10_000_000));
                        server.accept(proved.as_ref())
                    }
                    (false, _) => server.refuse("Sign-in refused.", true, &mut random),
                }
            }
        };
        went.notes.extend(server.take_notes().into_iter().map(|note| note.said));
        match next {
            Some(next) => request = next,
            None => {
                let ended = server.end();
                went.resumed = peer.is_resumed();
                went.peer_said = Some(format!("{:?}", peer.receive(&ended.packet, &mut random)));
                went.keys = (ended.msk.map(|key| key.expose().clone()), peer.msk().map(|key| key.expose().clone()));
                break;
            }
        }
    }
    went
}

fn plainly(settings: Settings, peer: PeerSettings) -> Went {
    run(settings, peer, None, &mut |_, _| {})
}

#[test]
fn every_method_accepts_the_right_password_and_both_sides_have_the_same_key() {
    let authority = Authority::new();
    for version in [&TLS12, &TLS13] {
        let server = authority.server(version);
        for method in EapMethod::ALL {
            let client = authority.client(&authority, method.proves() == Proves::Certificate);
            let went = plainly(settings(&[*method], Arc::clone(&server)), peer(*method, PASSWORD, client));
            assert!(went.accepted && went.peer_said.as_deref() == Some("Success"), "{method:?} {version:?}: {went:?}");
            assert_eq!((went.given.len(), went.given[0].method), (1, *method));
            let expected: &[u8] = if *method == EapMethod::Tls { b"anonymous" } else { b"ines" };
            assert_eq!(went.given[0].name, expected, "the name inside counts");
            let has_key = !matches!(method.outer(), GTC | MD5);
            assert_eq!((went.keys.0.as_ref().map(Vec::len), went.keys.0.is_some()), (has_key.then_some(MSK), has_key), "{method:?}");
            if has_key {
                assert_eq!(went.keys.0, went.keys.1, "{method:?} {version:?}");
            }
        }
    }
}

#[test]
fn every_method_refuses_a_wrong_password_and_gives_no_key() {
    let authority = Authority::new();
    for version in [&TLS12, &TLS13] {
        let server = authority.server(version);
        for method in EapMethod::ALL.iter().filter(|method| method.proves() != Proves::Certificate) {
            let client = authority.client(&authority, false);
            let went = plainly(settings(&[*method], Arc::clone(&server)), peer(*method, "whelk", client));
            assert!(!went.accepted && went.keys.0.is_none() && went.cause.is_none(), "{method:?}: {went:?}");
            assert_eq!(went.peer_said.as_deref(), Some("Failure"), "{method:?}");
        }
    }
}

#[test]
fn text_methods_ask_for_a_code_after_the_password() {
    let authority = Authority::new();
    for method in EapMethod::ALL.iter().filter(|method| method.prompts()) {
        let client = authority.client(&authority, false);
        for (code, accepted) in [("123456", true), ("654321", false)] {
            let settings = settings(&[*method], authority.server(&TLS13));
            let went = run(settings, peer(*method, PASSWORD, Arc::clone(&client)), Some(code), &mut |_, _| {});
            assert_eq!((went.accepted, went.prompts.as_slice()), (accepted, &["Code: ".to_owned()][..]), "{method:?}: {went:?}");
        }
    }
    let plain = settings(&[EapMethod::TtlsPap], authority.server(&TLS13));
    let (mut conversation, _) = Conversation::begin(Arc::new(plain), b"ines", 1, &mut random, NOW).unwrap();
    assert_eq!(conversation.ask("Code: "), None, "PAP cannot be asked for more");
}

#[test]
fn a_session_is_resumed_after_an_accept_and_never_after_a_refusal() {
    let authority = Authority::new();
    for version in [&TLS12, &TLS13] {
        for method in [EapMethod::TtlsPap, EapMethod::Tls] {
            let sessions = Some(Arc::new(crate::Sessions::new(10)));
            let server = authority.server(version);
            let with = |password: &str, client: &Arc<ClientConfig>| {
                let settings = Settings { sessions: sessions.clone(), ..settings(&[method], Arc::clone(&server)) };
                plainly(settings, peer(method, password, Arc::clone(client)))
            };
            let client = authority.client(&authority, method == EapMethod::Tls);
            if method == EapMethod::TtlsPap {
                let refused = with("whelk", &client);
                assert!(!refused.accepted && !with("whelk", &client).resumed, "{version:?}: refused sessions are not kept");
            }
            let first = with(PASSWORD, &client);
            assert!(first.accepted && !first.resumed, "{method:?} {version:?}: {first:?}");
            let again = with("not asked for", &client);
            assert!(again.accepted && again.resumed && again.rounds <= first.rounds, "{method:?} {version:?}: {again:?}");
            assert_eq!(again.keys.0, again.keys.1);
            assert_ne!(again.keys.0, first.keys.0, "each session has keys of its own");
            let resumed = matches!(again.given[0].credential, GivenCredential::Resumed(_));
            assert_eq!(resumed, method == EapMethod::TtlsPap, "with EAP-TLS the certificate is looked at anew");
        }
    }
}

#[test]
fn the_method_is_negotiated_until_both_sides_agree() {
    let authority = Authority::new();
    let offered = [EapMethod::PeapMsChapV2, EapMethod::TtlsPap, EapMethod::Gtc];
    let client = authority.client(&authority, false);
    for (method, offers) in [(EapMethod::PeapMsChapV2, 1), (EapMethod::TtlsPap, 2), (EapMethod::Gtc, 2)] {
        let went = plainly(settings(&offered, authority.server(&TLS13)), peer(method, PASSWORD, Arc::clone(&client)));
        let count = went.notes.iter().filter(|note| note.contains("was offered")).count();
        assert_eq!((went.accepted, count), (true, offers), "{method:?}: {:?}", went.notes);
    }
    let went = plainly(settings(&offered, authority.server(&TLS13)), peer(EapMethod::Md5, PASSWORD, Arc::clone(&client)));
    let (cause, said) = went.cause.unwrap();
    assert_eq!(cause, Cause::MethodNotInChain);
    assert!(said.contains("does not want PEAP (25) and wants MD5-Challenge (4)") && said.contains("eap-ttls-pap"), "{said}");
    let went = plainly(settings(&[EapMethod::TtlsPap], authority.server(&TLS13)), peer(EapMethod::TtlsChap, PASSWORD, client));
    let (cause, said) = went.cause.unwrap();
    assert_eq!((cause, said.as_str()), (Cause::MethodNotInChain, "the peer used eap-ttls-chap; the chain accepts eap-ttls-pap"));
}

#[test]
fn small_fragments_make_more_rounds_and_the_same_login() {
    let authority = Authority::new();
    let client = authority.client(&authority, true);
    let mut rounds = Vec::new();
    for size in [200, 500, 1400] {
        for version in [&TLS12, &TLS13] {
            let settings = Settings { fragment: size, ..settings(&[EapMethod::Tls], authority.server(version)) };
            let peer = PeerSettings { fragment: size, ..peer(EapMethod::Tls, PASSWORD, Arc::clone(&client)) };
            let went = plainly(settings, peer);
            assert!(went.accepted && went.keys.0 == went.keys.1, "{size}: {went:?}");
            rounds.push(went.rounds);
        }
    }
    assert!(rounds[0] > rounds[4] && rounds[1] > rounds[5], "{rounds:?}");
}

#[test]
fn a_response_that_is_repeated_gets_the_same_request_and_changes_nothing() {
    let authority = Authority::new();
    for method in [EapMethod::TtlsPap, EapMethod::PeapMsChapV2, EapMethod::Gtc] {
        let mut peer = Peer::new(peer(method, PASSWORD, authority.client(&authority, false)));
        let settings = Arc::new(settings(&[method], authority.server(&TLS13)));
        let (mut server, mut request) = Conversation::begin(settings, b"ines", 1, &mut random, NOW).unwrap();
        let mut decided = 0;
        loop {
            let PeerTurn::Send(response) = peer.receive(&request, &mut random) else { panic!("{method:?}") };
            let next = match server.receive(&response, &mut random, NOW) {
                Turn::Send(request) => Some(request),
                Turn::Decide(given) => {
                    decided += 1;
                    server.accept(check(&given, PASSWORD).1.as_ref())
                }
                Turn::Over => None,
                Turn::Failed(failed) => panic!("{method:?}: {failed:?}"),
            };
            let Some(next) = next else { break };
            assert!(matches!(server.receive(&response, &mut random, NOW), Turn::Send(again) if again == next), "{method:?}");
            request = next;
        }
        assert_eq!(decided, 1);
    }
}

#[test]
fn a_peer_that_does_not_trust_the_server_says_so_and_the_cause_tells_what_helps() {
    let (authority, stranger) = (Authority::new(), Authority::named("Elsewhere"));
    for version in [&TLS12, &TLS13] {
        let client = authority.client(&stranger, false);
        let went = plainly(settings(&[EapMethod::TtlsPap], authority.server(version)), peer(EapMethod::TtlsPap, PASSWORD, client));
        let (cause, said) = went.cause.unwrap();
        assert_eq!(cause, Cause::TlsAlert, "{said}");
        assert!(said.contains("unknown_ca") && said.contains("does not trust our certificate"), "{said}");
    }
}

#[test]
fn certificates_that_are_missing_or_foreign_have_causes_of_their_own() {
    let (authority, stranger) = (Authority::new(), Authority::named("Elsewhere"));
    for version in [&TLS12, &TLS13] {
        for (client, cause) in [
            (authority.client(&authority, false), Cause::CertificateMissing),
            (stranger.client(&authority, true), Cause::CertificateUntrusted),
        ] {
            let went = plainly(settings(&[EapMethod::Tls], authority.server(version)), peer(EapMethod::Tls, PASSWORD, client));
            // Without a certificate the credential is decided, and the login finds that it is missing.
            let seen = went.cause.as_ref().map(|(cause, _)| *cause);
            match cause {
                Cause::CertificateMissing => assert!(!went.accepted && went.given[0].certificates.is_empty()),
                _ => assert_eq!(seen, Some(cause), "{went:?}"),
            }
        }
    }
    let settings = Settings { asks_certificate: true, ..settings(&[EapMethod::TtlsPap], authority.server(&TLS13)) };
    let went = plainly(settings, peer(EapMethod::TtlsPap, PASSWORD, authority.client(&authority, false)));
    assert_eq!(went.cause.map(|(cause, _)| cause), Some(Cause::CertificateMissing), "EAP-TTLS may want one too");
}

#[test]
fn a_certificate_inside_peap_is_the_credential_and_its_failures_are_told_inside() {
    let (authority, stranger) = (Authority::new(), Authority::named("Elsewhere"));
    for version in [&TLS12, &TLS13] {
        let run = |client: Arc<ClientConfig>| {
            let settings = Settings { asks_certificate: true, fragment: 400, ..settings(&[EapMethod::PeapTls], authority.server(version)) };
            plainly(settings, PeerSettings { fragment: 400, ..peer(EapMethod::PeapTls, PASSWORD, client) })
        };
        let went = run(authority.client(&authority, true));
        assert!(went.accepted && went.keys.0.is_some() && went.keys.0 == went.keys.1, "{version:?}: {went:?}");
        assert!(went.notes.iter().any(|note| note.starts_with("inside the tunnel: from the peer: ClientHello")), "{:?}", went.notes);
        let went = run(authority.client(&authority, false));
        assert_eq!(went.cause.map(|(cause, _)| cause), Some(Cause::CertificateMissing), "{version:?}");
        // The one outside is looked at first, and it is the stranger's too.
        let went = run(stranger.client(&authority, true));
        assert_eq!(went.cause.map(|(cause, _)| cause), Some(Cause::CertificateUntrusted), "{version:?}");
    }
}

#[test]
fn a_wrong_password_may_be_followed_by_the_right_one() {
    let authority = Authority::new();
    for method in [EapMethod::MsChapV2, EapMethod::TtlsEapMsChapV2, EapMethod::PeapMsChapV2] {
        let again = |texts: &[&str]| {
            let client = authority.client(&authority, false);
            let again = texts.iter().map(|text| Secret::new(text.as_bytes().to_vec())).collect();
            let peer = PeerSettings { again, ..peer(method, "whelk", client) };
            plainly(settings(&[method], authority.server(&TLS13)), peer)
        };
        let went = again(&[PASSWORD]);
        assert!(went.accepted && went.keys.0 == went.keys.1, "{method:?}: {went:?}");
        assert_eq!((went.given.len(), went.peer_said.as_deref()), (2, Some("Success")), "{method:?}");
        let went = again(&["cockle", "limpet", PASSWORD]);
        assert!(!went.accepted && went.given.len() == 3, "{method:?}: only three are read: {went:?}");
        assert_eq!(went.peer_said.as_deref(), Some("Failure"), "{method:?}");
    }
}

#[test]
fn tls_data_after_the_end_refuses_a_login_that_was_accepted() {
    let authority = Authority::new();
    let client = authority.client(&authority, true);
    let settings = || settings(&[EapMethod::Tls], authority.server(&TLS13));
    let last = plainly(settings(), peer(EapMethod::Tls, PASSWORD, Arc::clone(&client))).rounds;
    let went = run(settings(), peer(EapMethod::Tls, PASSWORD, client), None, &mut |round, response| {
        if round == last {
            // One more record, where only an acknowledgement may come.
            let record = [0x17, 3, 3, 0, 4, 1, 2, 3, 4];
            *response = eap::response(response[1], TLS, &[&[0], record.as_slice()].concat());
        }
    });
    let cause = went.cause.as_ref().map(|(cause, _)| *cause);
    assert!(matches!(cause, Some(Cause::EapMalformed | Cause::TlsFailed)), "{went:?}");
}

#[test]
fn wherever_a_peer_stops_the_stage_is_told() {
    let authority = Authority::new();
    let (mut stages, mut rounds) = (Vec::new(), 0);
    loop {
        let settings = Settings { fragment: 600, ..settings(&[EapMethod::TtlsGtc], authority.server(&TLS12)) };
        let mut peer = Peer::new(PeerSettings { fragment: 600, ..peer(EapMethod::TtlsGtc, PASSWORD, authority.client(&authority, false)) });
        let (mut server, mut request) = Conversation::begin(Arc::new(settings), b"ines", 1, &mut random, NOW).unwrap();
        let ended = (0..rounds).any(|_| {
            let PeerTurn::Send(response) = peer.receive(&request, &mut random) else { panic!("it answers") };
            match server.receive(&response, &mut random, NOW) {
                Turn::Send(next) => request = next,
                Turn::Decide(_) => return true,
                other => panic!("{other:?}"),
            }
            false
        });
        stages.push(server.stage());
        if ended {
            break;
        }
        rounds += 1;
    }
    stages.dedup();
    for (stage, said) in stages.iter().zip(["was offered", "during the TLS handshake", "inside the tunnel", "was being decided"]) {
        assert!(stage.contains(said), "{stages:?}");
    }
    assert!(rounds > 4 && stages.len() == 4, "{rounds}: {stages:?}");
}

#[test]
fn a_modified_fragment_ends_the_conversation() {
    let authority = Authority::new();
    for version in [&TLS12, &TLS13] {
        let client = authority.client(&authority, false);
        let settings = settings(&[EapMethod::TtlsPap], authority.server(version));
        let went = run(settings, peer(EapMethod::TtlsPap, PASSWORD, client), None, &mut |round, response| {
            if round > 1 && response.len() > 60 {
                *response.last_mut().unwrap() ^= 1;
            }
        });
        assert!(!went.accepted);
        assert!(matches!(went.cause, Some((Cause::TlsFailed | Cause::EapMalformed, _))), "{:?}", went.cause);
    }
}

#[test]
fn an_outdated_device_is_told_by_its_version() {
    let authority = Authority::new();
    let client = authority.client(&authority, false);
    let peer = PeerSettings { old_tls: true, ..peer(EapMethod::TtlsPap, PASSWORD, client) };
    let went = plainly(settings(&[EapMethod::TtlsPap], authority.server(&TLS12)), peer);
    let (cause, said) = went.cause.unwrap();
    assert_eq!((cause, said.contains("TLS 1.0")), (Cause::TlsVersion, true), "{said}");
}

#[test]
fn traces_name_what_both_sides_sent() {
    let authority = Authority::new();
    let client = authority.client(&authority, false);
    let went = plainly(settings(&[EapMethod::TtlsPap], authority.server(&TLS12)), peer(EapMethod::TtlsPap, PASSWORD, client));
    let all = went.notes.join("\n");
    for said in [
        "identity is `anonymous`",
        "from the peer: ClientHello, ",
        "to the peer: ServerHello, Certificate",
        SERVER,
        "TLS 1.2 is established",
    ] {
        assert!(all.contains(said), "{said} in\n{all}");
    }
    assert!(!all.contains(PASSWORD));
}

#[test]
fn endless_naks_and_silence_inside_end_by_themselves() {
    let authority = Authority::new();
    let settings = Arc::new(settings(&[EapMethod::Gtc, EapMethod::Md5, EapMethod::TtlsPap], authority.server(&TLS13)));
    let (mut server, first) = Conversation::begin(Arc::clone(&settings), b"ines", 1, &mut random, NOW).unwrap();
    let mut request = first;
    let mut naks = 0;
    let cause = loop {
        naks += 1;
        match server.receive(&eap::nak(request[1], &[TTLS, MD5, GTC, TLS, PEAP, MS_CHAP_V2]), &mut random, NOW) {
            Turn::Send(next) => request = next,
            Turn::Failed(failed) => break failed.cause,
            other => panic!("{other:?}"),
        }
    };
    assert_eq!((naks, cause), (3, Cause::MethodNotInChain), "each type is offered once");
    let (mut server, request) = Conversation::begin(settings, b"ines", 1, &mut random, NOW).unwrap();
    let stale = eap::response(request[1].wrapping_sub(1), GTC, b"mussel");
    let ends = (0..1000).find_map(|_| match server.receive(&stale, &mut random, NOW) {
        Turn::Failed(failed) => Some(failed.cause),
        _ => None,
    });
    assert_eq!(ends, Some(Cause::EapTooLong));
}

#[test]
fn whatever_a_peer_sends_the_conversation_ends_or_goes_on() {
    use proptest::prelude::*;
    let authority = Authority::new();
    let server = authority.server(&TLS13);
    let packet = proptest::collection::vec(any::<u8>(), 0..60);
    proptest!(ProptestConfig::with_cases(200), |(packets in proptest::collection::vec((any::<u8>(), packet, any::<bool>()), 1..12), which in 0..EapMethod::ALL.len())| {
        let method = EapMethod::ALL[which];
        let (mut conversation, mut request) = Conversation::begin(Arc::new(settings(&[method], Arc::clone(&server))), b"ines", 1, &mut random, NOW).unwrap();
        for (kind, data, fitting) in &packets {
            let bytes = if *fitting { eap::response(request[1], method.outer(), data) } else { eap::response(request[1], *kind, data) };
            match conversation.receive(&bytes, &mut random, NOW) {
                Turn::Send(next) => request = next,
                Turn::Decide(_) => prop_assert!(conversation.refuse("no", false, &mut random).is_none() || method.inner() != eap::Inner::Pap),
                Turn::Over | Turn::Failed(_) => break,
            }
        }
        prop_assert!(conversation.end().msk.is_none(), "nobody was accepted");
    });
}
