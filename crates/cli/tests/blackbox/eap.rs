//! EAP against a foreign peer: `eapol_test` plays gateway and person's device, with every method and both versions of TLS.

use super::harness::{PEOPLE, Service, free_udp_port, text};
use bivector_exchange::eap::{EapLogin, PeerSettings, Trust, peer_tls};
use bivector_exchange::{Asker, Patience, Request};
use bivector_lab::certificates::{LabIssuer, LabPerson, LabValidity};
use bivector_wire::{AttributeType, Code, IntegrityPolicy, Message, Secret, SharedSecret, eap};
use rustls::pki_types::pem::PemObject;
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

pub(super) const SECRET: &str = "slipway-H6tLd1bGf5";
const SERVER: &str = "login.northmoor.example";
/// A person of the roster whose password is kept as text, so that every method can prove it.
pub(super) const PERSON: &str = "odile";
pub(super) const PASSWORD: &str = "kelp and cordage";
const SEED: &str = "NFXGK4ZAMF2CATTPOJ2GQ3LPN5ZC4LRO";

const SITE: &str = r#"
format = 1
name = "Northmoor"

[doors.radius]
listen = ["127.0.0.1:PORT"]

[doors.eap]
certificate = "eap.pem"
key = "eap-key.pem"
idle = "10s"

[factors.totp]
window = 3

[[gateways]]
name = "slipway"
from = ["127.0.0.1"]
secret = "gateway/slipway"

[[chains]]
name = "mesh"
gateways = ["slipway"]
methods = [METHODS]
forms = FORMS
first = ["roster"]
second = SECOND

[[rules]]
name = "everybody"
chain = "mesh"
grant = "mesh"

[[grants]]
name = "mesh"
reply = [{ attribute = "Class", text = "mesh" }]
"#;

/// A service with one chain, and what a person's device needs to trust it.
pub(super) struct World {
    pub(super) service: Service,
    pub(super) port: u16,
    folder: tempfile::TempDir,
}

impl World {
    async fn start(methods: &[&str], forms: &str, second: &str) -> Self {
        Self::with(methods, forms, second, |site, _| site).await
    }

    /// With changes of the site; files can be put into the data folder first.
    pub(super) async fn with(methods: &[&str], forms: &str, second: &str, change: impl FnOnce(String, &Path) -> String) -> Self {
        let service = Service::start();
        let folder = tempfile::tempdir().unwrap();
        let issuer = LabIssuer::new("Northmoor devices").unwrap();
        std::fs::write(folder.path().join("ca.pem"), issuer.pem()).unwrap();
        let (certificate, key) = issuer.server_pem(&[SERVER]).unwrap();
        std::fs::write(service.data.join("eap.pem"), certificate).unwrap();
        std::fs::write(service.data.join("eap-key.pem"), key).unwrap();
        let port = free_udp_port();
        let methods: Vec<String> = methods.iter().map(|method| format!("\"{method}\"")).collect();
        let site = SITE
            .replace("PORT", &port.to_string())
            .replace("METHODS", &methods.join(", "))
            .replace("FORMS", forms)
            .replace("SECOND", second);
        let site = change(site, &service.data);
        service.seal("gateway/slipway", SECRET).await;
        service.seal("upstream/old", SECRET).await;
        let (status, body) = service.apply(&site).await;
        assert_eq!(status, 201, "{body:#}");
        let people = PEOPLE.lines().next().unwrap();
        service.import(&format!("{people}\n{PERSON},roster,Odile Skerry,{PASSWORD},,{SEED},phone,text\n")).await;
        World { service, port, folder }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Runs the foreign peer with these lines of its network. Gives whether it got in, and what it printed.
    async fn peer(&self, lines: &[String]) -> (bool, String) {
        self.peer_again(lines, 0).await
    }

    /// The same peer, which logs in again that often.
    async fn peer_again(&self, lines: &[String], again: u8) -> (bool, String) {
        let config = self.path("peer.conf");
        std::fs::write(&config, format!("network={{\n key_mgmt=WPA-EAP\n {}\n}}\n", lines.join("\n "))).unwrap();
        let port = self.port.to_string();
        let run = move |config: &Path| {
            let args = ["-a", "127.0.0.1", "-p", &port, "-s", SECRET, "-t", "15", "-r", &again.to_string(), "-N", "102:x:00"];
            Command::new("eapol_test").arg("-c").arg(config).args(args).output().unwrap()
        };
        let output = tokio::task::spawn_blocking(move || run(&config)).await.unwrap();
        (output.status.success(), format!("{}{}", text(&output.stdout), text(&output.stderr)))
    }

    /// The newest trace, once there are so many.
    pub(super) async fn newest_of(&self, count: usize) -> Value {
        for _ in 0..600 {
            let rows = self.service.get("/traces?limit=200").await;
            if let Some(row) = rows.as_array().filter(|rows| rows.len() >= count).and_then(|rows| rows.first()) {
                return self.service.get(&format!("/traces/{}", row["reference"].as_str().unwrap())).await;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        panic!("fewer than {count} traces");
    }

    fn lines(&self, method: &str, password: &str, tls13: bool) -> Vec<String> {
        let version = if tls13 { "tls_disable_tlsv1_3=0" } else { "tls_disable_tlsv1_3=1" };
        let (eap, phase2) = match method {
            "eap-gtc" => ("GTC", ""),
            "eap-md5" => ("MD5", ""),
            "eap-mschapv2" => ("MSCHAPV2", ""),
            "eap-ttls-pap" => ("TTLS", "auth=PAP"),
            "eap-ttls-chap" => ("TTLS", "auth=CHAP"),
            "eap-ttls-mschapv2" => ("TTLS", "auth=MSCHAPV2"),
            "eap-ttls-gtc" => ("TTLS", "autheap=GTC"),
            "eap-ttls-eap-md5" => ("TTLS", "autheap=MD5"),
            "eap-ttls-eap-mschapv2" => ("TTLS", "autheap=MSCHAPV2"),
            "eap-peap-mschapv2" => ("PEAP", "auth=MSCHAPV2"),
            "eap-peap-gtc" => ("PEAP", "auth=GTC"),
            other => panic!("{other}"),
        };
        let mut lines = vec![format!("eap={eap}"), format!("identity=\"{PERSON}\""), format!("password=\"{password}\"")];
        if !phase2.is_empty() {
            lines.push("anonymous_identity=\"anonymous\"".into());
            lines.push(format!("phase1=\"{version}\""));
            lines.push(format!("phase2=\"{phase2}\""));
            lines.push(format!("ca_cert=\"{}\"", self.path("ca.pem").display()));
        }
        lines
    }
}

const METHODS: [&str; 11] = [
    "eap-gtc",
    "eap-md5",
    "eap-mschapv2",
    "eap-ttls-pap",
    "eap-ttls-chap",
    "eap-ttls-mschapv2",
    "eap-ttls-gtc",
    "eap-ttls-eap-md5",
    "eap-ttls-eap-mschapv2",
    "eap-peap-mschapv2",
    "eap-peap-gtc",
];

fn has_keys(method: &str) -> bool {
    !matches!(method, "eap-gtc" | "eap-md5")
}

#[tokio::test(flavor = "multi_thread")]
async fn a_foreign_peer_logs_in_with_every_method_over_both_versions_of_tls_and_has_the_same_keys() {
    let world = World::start(&METHODS, "[\"password\"]", "[]").await;
    let mut count = 0;
    for method in METHODS {
        for tls13 in [false, true] {
            count += 1;
            let (accepted, said) = world.peer(&world.lines(method, PASSWORD, tls13)).await;
            let trace = world.newest_of(count).await;
            assert!(
                accepted || !has_keys(method) && said.contains("EAP authentication completed successfully"),
                "{method} {tls13}: {trace:#}\n{said}"
            );
            assert_eq!((trace["outcome"].as_str(), trace["method"].as_str()), (Some("accepted"), Some(method)), "{trace:#}");
            assert_eq!(trace["person"], format!("roster:{PERSON}").as_str(), "the name inside the tunnel counts: {trace:#}");
            if has_keys(method) {
                assert!(said.contains("MPPE keys OK: 1  mismatch: 0"), "{method}: {said}");
            }
        }
    }
}

/// A chain with certificates of people: what its tests need.
struct Certificates {
    world: World,
    issuer: LabIssuer,
}

const ISSUERS: &str = r#"
[[issuers]]
name = "badges"
trust = "people-ca.pem"
revocation = ["people.crl"]
refresh = "60s"

[[identity]]
name = "mail"
strip_suffix = ["@northmoor.example"]
"#;

fn person<'p>(mail: Option<&'p str>, serial: u64) -> LabPerson<'p> {
    LabPerson { name: "Odile Skerry", mail, serial, valid: LabValidity::Now, for_servers: false }
}

impl Certificates {
    async fn start(methods: &[&str], more: &str) -> Self {
        let issuer = LabIssuer::new("Northmoor badges").unwrap();
        let world = World::with(methods, "[\"password\"]", "[]", |site, data| {
            std::fs::write(data.join("people-ca.pem"), issuer.pem()).unwrap();
            std::fs::write(data.join("people.crl"), issuer.revocation_list(&[66]).unwrap()).unwrap();
            let site = site.replacen("first = [\"roster\"]", "first = [\"roster\"]\nissuers = [\"badges\"]\nidentity = \"mail\"", 1);
            format!("{site}{}", ISSUERS.replacen("refresh =", &format!("{more}\nrefresh ="), 1))
        })
        .await;
        Certificates { world, issuer }
    }

    /// Runs a peer with a certificate of `issuer`.
    async fn peer(&self, method: &[&str], of: Option<(&LabIssuer, LabPerson<'_>)>) -> (bool, String) {
        let mut lines: Vec<String> = method.iter().map(|line| (*line).to_owned()).collect();
        lines.push(format!("ca_cert=\"{}\"", self.world.path("ca.pem").display()));
        if let Some((issuer, person)) = of {
            let made = issuer.person_pem(&person).unwrap();
            std::fs::write(self.world.path("own.pem"), made.certificate).unwrap();
            std::fs::write(self.world.path("own-key.pem"), made.key).unwrap();
            lines.push(format!("client_cert=\"{}\"", self.world.path("own.pem").display()));
            lines.push(format!("private_key=\"{}\"", self.world.path("own-key.pem").display()));
        }
        self.world.peer(&lines).await
    }
}

pub(super) const MAIL: &str = "odile@northmoor.example";

fn tls(tls13: bool) -> [&'static str; 3] {
    let version = if tls13 { "phase1=\"tls_disable_tlsv1_3=0\"" } else { "phase1=\"tls_disable_tlsv1_3=1\"" };
    ["eap=TLS", "identity=\"anonymous\"", version]
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_logs_its_person_in_and_each_bad_one_has_its_cause() {
    let certificates = Certificates::start(&["eap-tls"], "").await;
    let stranger = LabIssuer::new("Elsewhere").unwrap();
    let own = &certificates.issuer;
    let mut count = 0;
    for tls13 in [false, true] {
        let (accepted, said) = certificates.peer(&tls(tls13), Some((own, person(Some(MAIL), 7)))).await;
        count += 1;
        let trace = certificates.world.newest_of(count).await;
        assert!(accepted && said.contains("MPPE keys OK: 1  mismatch: 0"), "{tls13}: {trace:#}\n{said}");
        assert_eq!((trace["person"].as_str(), trace["method"].as_str()), (Some("roster:odile"), Some("eap-tls")));
        let steps = trace["steps"].to_string();
        assert!(steps.contains("issued by `badges`, serial 07") && steps.contains("mail address `odile@northmoor.example`"), "{steps}");
        for (what, of, cause) in [
            ("none", None, "certificate-missing"),
            ("foreign", Some((&stranger, person(Some(MAIL), 8))), "certificate-untrusted"),
            ("expired", Some((own, LabPerson { valid: LabValidity::Past, ..person(Some(MAIL), 9) })), "certificate-expired"),
            ("future", Some((own, LabPerson { valid: LabValidity::Future, ..person(Some(MAIL), 10) })), "certificate-not-yet-valid"),
            ("revoked", Some((own, person(Some(MAIL), 66))), "certificate-revoked"),
            ("for servers", Some((own, LabPerson { for_servers: true, ..person(Some(MAIL), 11) })), "certificate-purpose"),
            ("without a name", Some((own, person(None, 12))), "certificate-name-missing"),
            ("of nobody", Some((own, person(Some("nobody@northmoor.example"), 13))), "person-unknown"),
            ("of another realm", Some((own, person(Some("odile@elsewhere.example"), 14))), "name-realm-unknown"),
        ] {
            // The foreign peer wants a certificate for its own EAP-TLS; without one it offers no such method.
            if of.is_none() {
                continue;
            }
            let (accepted, said) = certificates.peer(&tls(tls13), of).await;
            count += 1;
            let trace = certificates.world.newest_of(count).await;
            assert_eq!((accepted, trace["cause"].as_str()), (false, Some(cause)), "{what} {tls13}: {trace:#}\n{said}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_beside_a_password_must_be_there_and_be_the_same_persons() {
    let certificates = Certificates::start(&["eap-ttls-pap"], "").await;
    let own = &certificates.issuer;
    let password = format!("password=\"{PASSWORD}\"");
    let lines = ["eap=TTLS", "identity=\"odile\"", "anonymous_identity=\"anonymous\"", "phase2=\"auth=PAP\"", password.as_str()];
    for (of, cause) in [
        (Some((own, person(Some(MAIL), 7))), None),
        (Some((own, person(Some("tomasz@northmoor.example"), 8))), Some("certificate-person-differs")),
        (Some((own, person(Some(MAIL), 66))), Some("certificate-revoked")),
        (None, Some("certificate-missing")),
    ]
    .into_iter()
    {
        let before = certificates.world.service.get("/traces?limit=200").await.as_array().unwrap().len();
        let (accepted, said) = certificates.peer(&lines, of).await;
        let trace = certificates.world.newest_of(before + 1).await;
        assert_eq!((accepted, trace["cause"].as_str()), (cause.is_none(), cause), "{trace:#}\n{said}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_inside_peap_logs_its_person_in() {
    let certificates = Certificates::start(&["eap-peap-tls"], "").await;
    let mut count = 0;
    for tls13 in [false, true] {
        for (serial, cause) in [(7, None), (66, Some("certificate-revoked"))] {
            let inner = |key: &str, file: &str| format!("{key}=\"{}\"", certificates.world.path(file).display());
            let version = if tls13 { "phase1=\"tls_disable_tlsv1_3=0\"" } else { "phase1=\"tls_disable_tlsv1_3=1\"" };
            let made = certificates.issuer.person_pem(&person(Some(MAIL), serial)).unwrap();
            std::fs::write(certificates.world.path("inner.pem"), made.certificate).unwrap();
            std::fs::write(certificates.world.path("inner-key.pem"), made.key).unwrap();
            let (certificate, key) = (inner("client_cert2", "inner.pem"), inner("private_key2", "inner-key.pem"));
            let ca = inner("ca_cert2", "ca.pem");
            let lines = [
                "eap=PEAP",
                "identity=\"odile\"",
                "anonymous_identity=\"anonymous\"",
                version,
                "phase2=\"auth=TLS\"",
                &ca,
                &certificate,
                &key,
            ];
            let (accepted, said) = certificates.peer(&lines, None).await;
            count += 1;
            let trace = certificates.world.newest_of(count).await;
            assert_eq!((accepted, trace["cause"].as_str()), (cause.is_none(), cause), "{tls13} {serial}: {trace:#}\n{said}");
            if accepted {
                assert!(said.contains("MPPE keys OK: 1  mismatch: 0"), "{tls13}: {said}");
                assert_eq!((trace["person"].as_str(), trace["method"].as_str()), (Some("roster:odile"), Some("eap-peap-tls")));
            }
        }
    }
}

/// `openssl` as the OCSP responder of an issuer: 01 is good, 02 revoked, 03 unknown. Ended when dropped.
struct Responder(std::process::Child);

impl Responder {
    fn start(folder: &Path, port: u16) -> Self {
        let index = "V\t400101000000Z\t\t01\tunknown\t/CN=one\nR\t400101000000Z\t240101000000Z\t02\tunknown\t/CN=two\n";
        std::fs::write(folder.join("index.txt"), index).unwrap();
        let port = port.to_string();
        let args = [
            "ocsp",
            "-port",
            &port,
            "-index",
            "index.txt",
            "-CA",
            "badges.pem",
            "-rsigner",
            "badges.pem",
            "-rkey",
            "badges-key.pem",
            "-nmin",
            "60",
        ];
        let null = std::process::Stdio::null;
        Responder(Command::new("openssl").args(args).current_dir(folder).stdout(null()).stderr(null()).spawn().unwrap())
    }
}

impl Drop for Responder {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_ocsp_responder_is_asked_at_the_first_login_and_its_silence_is_weighed_as_the_issuer_says() {
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let ocsp = format!("ocsp = \"http://127.0.0.1:{port}\"");
    for (more, unknown) in [("", Some("certificate-revocation-unknown")), ("when_unknown = \"accept\"\n", None)] {
        let certificates = Certificates::start(&["eap-tls"], &format!("{more}{ocsp}")).await;
        let (world, own) = (&certificates.world, &certificates.issuer);
        std::fs::write(world.path("badges.pem"), own.pem()).unwrap();
        std::fs::write(world.path("badges-key.pem"), own.key_pem()).unwrap();
        let mut count = 0;
        let mut login = async |serial: u64, cause: Option<&str>, said: &str| {
            count += 1;
            let (accepted, shown) = certificates.peer(&tls(true), Some((own, person(Some(MAIL), serial)))).await;
            let trace = world.newest_of(count).await;
            assert_eq!((accepted, trace["cause"].as_str()), (cause.is_none(), cause), "{serial}: {trace:#}\n{shown}");
            assert!(trace["steps"].to_string().contains(said), "{said}: {trace:#}");
        };
        login(4, unknown, &format!("http://127.0.0.1:{port}: ")).await;
        let responder = Responder::start(&world.path(""), port);
        tokio::time::sleep(Duration::from_millis(300)).await;
        login(1, None, "not revoked, as the OCSP responder said 0 s ago").await;
        login(2, Some("certificate-revoked"), "OCSP responder").await;
        login(3, unknown, "does not know the certificate").await;
        drop(responder);
        login(1, None, "not revoked, as the OCSP responder said").await;
        let located =
            world.service.cli_with_input(&["locate", PERSON, "--via", "slipway", "--method", "eap-tls", "--password-file", "-"], "");
        let (said, wrong) = (text(&located.stdout), text(&located.stderr));
        assert!(said.contains("revocation is asked of http://127.0.0.1:"), "{said}{wrong}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_revocation_list_the_issuers_setting_decides() {
    for (more, cause) in [("", Some("certificate-revocation-unknown")), ("when_unknown = \"accept\"", None)] {
        let certificates = Certificates::start(&["eap-tls"], more).await;
        std::fs::write(certificates.world.service.data.join("people.crl"), "no list").unwrap();
        let site = certificates.world.service.get("/site").await["text"].as_str().unwrap().replacen("Northmoor", "Northmoor again", 1);
        let (status, body) = certificates.world.service.apply(&site).await;
        assert_eq!(status, 201, "{body:#}");
        let (accepted, said) = certificates.peer(&tls(true), Some((&certificates.issuer, person(Some(MAIL), 7)))).await;
        let trace = certificates.world.newest_of(1).await;
        assert_eq!((accepted, trace["cause"].as_str()), (cause.is_none(), cause), "{trace:#}\n{said}");
    }
}

/// The service plays gateway and peer. Gives what it printed, and the trace.
async fn tried(world: &World, method: &str, password: &str, answers: &[&str]) -> (bool, Value) {
    let (via, body) = ("slipway", serde_json::json!({ "person": PERSON, "method": method, "password": password, "answers": answers }));
    let mut body = body;
    body["via"] = via.into();
    let (status, tried) = world.service.call("POST", "/logins", Some(body)).await;
    assert_eq!(status, 200, "{tried:#}");
    (tried["reply"] == "Access-Accept", tried)
}

/// The code of the person's token, some steps from now.
fn code(offset: i64) -> String {
    super::harness::code("ines", offset)
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_is_asked_for_inside_the_conversation_and_all_rounds_are_one_login() {
    let world = World::start(&["eap-gtc", "eap-ttls-gtc", "eap-peap-gtc"], "[\"password\"]", "[\"totp\"]").await;
    for (offset, method) in [(-1, "eap-gtc"), (0, "eap-ttls-gtc"), (1, "eap-peap-gtc")] {
        let right = code(offset);
        let (accepted, tried) = tried(&world, method, PASSWORD, &[&right]).await;
        assert!(accepted, "{method}: {tried:#}");
        let trace = &tried["trace"];
        assert_eq!((trace["method"].as_str(), trace["outcome"].as_str()), (Some(method), Some("accepted")), "{trace:#}");
        let steps = trace["steps"].to_string();
        assert!(steps.contains("Enter the code") && steps.contains("round 2") && steps.contains("was offered"), "{steps}");
        assert!(!steps.contains(&right) && !steps.contains(PASSWORD), "{steps}");
        let (accepted, again) = self::tried(&world, method, PASSWORD, &[&right, "", ""]).await;
        assert_eq!((accepted, again["trace"]["cause"].as_str()), (false, Some("code-used")), "{again:#}");
    }
    let (accepted, tried) = tried(&world, "eap-ttls-gtc", PASSWORD, &["000000", "000000", "000000"]).await;
    assert_eq!((accepted, tried["trace"]["cause"].as_str()), (false, Some("code-wrong")), "{tried:#}");
    let site = world.service.get("/site").await["text"].as_str().unwrap().replacen("\"eap-gtc\"", "\"eap-ttls-pap\"", 1);
    let (status, body) = world.service.apply(&site).await;
    assert_eq!(status, 422, "PAP cannot ask for a code, and the check says so in advance");
    assert!(body.to_string().contains("the method ends after one text, and no form has a place for the code"), "{body:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_behind_the_password_is_read_by_the_chains_forms() {
    let methods = ["eap-ttls-pap", "eap-gtc", "eap-ttls-mschapv2", "eap-peap-mschapv2"];
    let world = World::start(&methods, "[\"password code(6)\"]", "[\"totp\"]").await;
    for (offset, method) in [(-1, "eap-ttls-pap"), (0, "eap-ttls-mschapv2"), (1, "eap-peap-mschapv2")] {
        let text = format!("{PASSWORD}{}", code(offset));
        let (accepted, tried) = tried(&world, method, &text, &[]).await;
        assert!(accepted, "{method}: {tried:#}");
        assert_eq!(tried["discarded"].as_array().map_or(0, Vec::len), 0, "both sides have the same key: {tried:#}");
    }
    let (accepted, tried) = tried(&world, "eap-ttls-pap", &format!("whelk{}", code(0)), &[]).await;
    assert_eq!((accepted, tried["trace"]["cause"].as_str()), (false, Some("password-wrong")), "{tried:#}");
}

/// A request of a gateway with an EAP message.
async fn send(world: &World, message: &[u8], state: Option<&[u8]>) -> bivector_exchange::Exchange {
    let asker = Asker::connect("127.0.0.1:0".parse().unwrap(), ([127, 0, 0, 1], world.port).into()).await.unwrap();
    let mut request = Message::new(Code::AccessRequest);
    request.push(AttributeType::UserName, PERSON.as_bytes());
    request.push(AttributeType::EapMessage, message);
    if let Some(state) = state {
        request.push(AttributeType::State, state);
    }
    let request = Request { message: request, password: None, signed: true, replies: IntegrityPolicy::Required };
    let patience = Patience { wait: Duration::from_secs(5), tries: 1 };
    asker.ask(&request, &SharedSecret::new(SECRET.as_bytes()), patience).await.unwrap()
}

fn of(exchange: &bivector_exchange::Exchange, wanted: AttributeType) -> Vec<u8> {
    let attributes = exchange.reply.iter().flat_map(|reply| &reply.attributes);
    attributes.filter(|(kind, _)| *kind == wanted).flat_map(|(_, value)| value.clone()).collect()
}

/// Begins a conversation, answers its first request with this data, and gives the cause of the refusal.
async fn answered(world: &World, data: &[u8], rounds: usize) -> (String, Value) {
    let before = world.service.get("/traces?limit=200").await.as_array().unwrap().len();
    let mut exchange = send(world, &eap::response(1, eap::IDENTITY, PERSON.as_bytes()), None).await;
    for _ in 0..rounds {
        let request = of(&exchange, AttributeType::EapMessage);
        exchange = send(world, &eap::response(request[1], request[4], data), Some(&of(&exchange, AttributeType::State))).await;
    }
    assert_eq!(of(&exchange, AttributeType::EapMessage)[0], 4, "EAP-Failure");
    let trace = world.newest_of(before + 1).await;
    (trace["cause"].as_str().unwrap().to_owned(), trace)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_device_gets_wrong_inside_eap_is_named_and_ends() {
    let world = World::start(&["eap-ttls-pap", "eap-mschapv2"], "[\"password\"]", "[]").await;
    // ClientHello of TLS 1.0, with one cipher suite.
    let old = [&[0, 22, 3, 1, 0, 45, 1, 0, 0, 41, 3, 1][..], &[7; 32], &[0, 0, 2, 0, 47, 1, 0]].concat();
    for (data, rounds, cause) in [
        (&[][..], 1, "eap-malformed"),
        (&[0x80, 0xff, 0xff, 0xff, 0xff, 1], 1, "eap-too-long"),
        (&[0x80, 0, 0, 0, 9, 1, 2], 1, "eap-malformed"),
        (&[0, 22, 3, 3, 0, 2, 9, 9], 2, "tls-failed"),
        (&old, 2, "tls-version"),
    ] {
        let (seen, trace) = answered(&world, data, rounds).await;
        assert_eq!(seen, cause, "{data:?}: {trace:#}");
    }
    let before = world.service.get("/traces?limit=200").await.as_array().unwrap().len();
    let foreign = send(&world, &eap::response(7, eap::TTLS, &[0]), Some(b"eap0123456789abcdef")).await;
    assert_eq!(of(&foreign, AttributeType::EapMessage)[0], 4);
    assert_eq!(world.newest_of(before + 1).await["cause"], "eap-foreign");
    let begun = send(&world, &eap::response(1, eap::IDENTITY, b"odile"), None).await;
    assert_eq!(of(&begun, AttributeType::EapMessage)[4], eap::TTLS, "the first method of the chain is offered");
    // Nobody goes on with it.
    let trace = world.newest_of(before + 2).await;
    assert_eq!((trace["cause"].as_str(), trace["outcome"].as_str()), (Some("eap-unfinished"), Some("refused")), "{trace:#}");
    assert!(trace["steps"].to_string().contains("after EAP-TTLS was offered"), "{trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_peer_that_distrusts_the_server_or_names_another_realm_is_told_apart() {
    let world = World::start(&["eap-ttls-pap"], "[\"password\"]", "[]").await;
    let stranger = LabIssuer::new("Elsewhere").unwrap();
    std::fs::write(world.path("other.pem"), stranger.pem()).unwrap();
    let mut lines = world.lines("eap-ttls-pap", PASSWORD, true);
    lines.pop();
    let trusting = |file: &str| format!("ca_cert=\"{}\"", world.path(file).display());
    let (accepted, said) = world.peer(&[lines.clone(), vec![trusting("other.pem")]].concat()).await;
    let trace = world.newest_of(1).await;
    assert_eq!((accepted, trace["cause"].as_str()), (false, Some("tls-alert")), "{trace:#}\n{said}");
    assert!(trace["steps"].to_string().contains("does not trust our certificate"), "{trace:#}");
    lines.retain(|line| !line.starts_with("identity") && !line.starts_with("anonymous"));
    lines.push("identity=\"odile@northmoor.example\"".into());
    lines.push("anonymous_identity=\"anonymous@elsewhere.example\"".into());
    let (accepted, said) = world.peer(&[lines, vec![trusting("ca.pem")]].concat()).await;
    let trace = world.newest_of(2).await;
    assert_eq!((accepted, trace["cause"].as_str()), (false, Some("realm-differs")), "{trace:#}\n{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_duplicate_in_a_new_request_gets_the_same_answer_and_makes_no_second_login() {
    let world = World::start(&["eap-gtc"], "[\"password\"]", "[]").await;
    let begun = send(&world, &eap::response(1, eap::IDENTITY, PERSON.as_bytes()), None).await;
    let state = of(&begun, AttributeType::State);
    let request = of(&begun, AttributeType::EapMessage);
    let stale = send(&world, &eap::response(request[1].wrapping_sub(1), eap::GTC, b"x"), Some(&state)).await;
    assert_eq!(of(&stale, AttributeType::EapMessage), request, "an old response gets the present request");
    let done = send(&world, &eap::response(request[1], eap::GTC, PASSWORD.as_bytes()), Some(&state)).await;
    assert_eq!(of(&done, AttributeType::EapMessage)[0], 3, "EAP-Success");
    let after = send(&world, &eap::response(request[1], eap::GTC, PASSWORD.as_bytes()), Some(&state)).await;
    assert_eq!(of(&after, AttributeType::EapMessage)[0], 4, "the conversation has ended");
    let rows = world.service.get("/traces?limit=200&outcome=accepted").await;
    assert_eq!(rows.as_array().unwrap().len(), 1, "{rows:#}");
}

/// Carries RADIUS between a gateway and the service over a bad line: every packet is lost the first time and arrives twice from then on.
async fn bad_line(port: u16) -> std::net::SocketAddr {
    let near = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
    let far = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
    far.connect(("127.0.0.1", port)).await.unwrap();
    let address = near.local_addr().unwrap();
    tokio::spawn(async move {
        let (mut seen, mut asker) = (std::collections::HashSet::new(), None);
        let (mut up, mut down) = ([0; 4096], [0; 4096]);
        loop {
            tokio::select! {
                Ok((length, from)) = near.recv_from(&mut up) => {
                    asker = Some(from);
                    if !seen.insert(up[..length].to_vec()) {
                        for _ in 0..2 {
                            let _ = far.send(&up[..length]).await;
                        }
                    }
                }
                Ok(length) = far.recv(&mut down) => {
                    if let (false, Some(to)) = (seen.insert(down[..length].to_vec()), asker) {
                        for _ in 0..2 {
                            let _ = near.send_to(&down[..length], to).await;
                        }
                    }
                }
            }
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_password_may_be_corrected_inside_ms_chap_where_the_chain_says_so() {
    let world = World::with(&["eap-mschapv2", "eap-peap-mschapv2"], "[\"password\"]", "[]", |site, _| {
        site.replacen("first = [\"roster\"]", "first = [\"roster\"]\nretry = true", 1)
    })
    .await;
    for (count, method) in [(2, "eap-mschapv2"), (4, "eap-peap-mschapv2")] {
        let (accepted, tried) = tried(&world, method, "kelp", &[PASSWORD]).await;
        assert!(accepted, "{method}: {tried:#}");
        world.newest_of(count).await;
        let rows = world.service.get("/traces?limit=200").await;
        let outcomes: Vec<_> =
            rows.as_array().unwrap().iter().take(2).map(|row| (row["outcome"].as_str(), row["cause"].as_str())).collect();
        let refused = (Some("refused"), Some("password-wrong"));
        assert_eq!(outcomes, [(Some("accepted"), None), refused], "each password is a login of its own");
    }
    let (accepted, tried) = tried(&world, "eap-mschapv2", "kelp", &[]).await;
    assert!(!accepted && tried["trace"]["cause"] == "password-wrong", "{tried:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_has_no_token_enrols_one_inside_the_conversation() {
    let world = World::with(&["eap-gtc"], "[\"password\"]", "[\"totp\"]", |site, _| {
        site.replacen("first = [\"roster\"]", "first = [\"roster\"]\nwhen_not_enrolled = \"enrol\"", 1)
    })
    .await;
    let number = world.service.get(&format!("/people/{PERSON}")).await[0]["factors"][0]["id"].to_string();
    world.service.run(&["factor", "remove", PERSON, &number]);
    let settings = PeerSettings {
        method: eap::EapMethod::Gtc,
        name: PERSON.into(),
        outer: None,
        password: Secret::new(PASSWORD.into()),
        again: Vec::new(),
        tls: None,
        server: SERVER.to_owned(),
        fragment: 1000,
        old_tls: false,
    };
    let asker = Asker::connect("127.0.0.1:0".parse().unwrap(), ([127, 0, 0, 1], world.port).into()).await.unwrap();
    let (secret, patience) = (SharedSecret::new(SECRET.as_bytes()), Patience { wait: Duration::from_secs(5), tries: 1 });
    let mut login = EapLogin::new(settings, Message::new(Code::AccessRequest));
    let prompt = login.go_on(&asker, &secret, patience).await.unwrap().asks.expect("the key is shown");
    let is_key = |word: &&str| (2..=4).contains(&word.len()) && word.bytes().all(|byte| matches!(byte, b'A'..=b'Z' | b'2'..=b'7'));
    let seed: String = prompt.split(' ').filter(is_key).collect();
    assert_eq!(seed.len(), 32, "{prompt}");
    login.answer(&super::harness::code_of(&seed)).unwrap();
    let round = login.go_on(&asker, &secret, patience).await.unwrap();
    assert_eq!(round.exchange.reply.map(|reply| reply.code), Some(Code::AccessAccept));
    let trace = world.newest_of(1).await;
    assert!(trace["outcome"] == "accepted" && !trace.to_string().contains(&seed[..8]), "{trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_that_stops_anywhere_leaves_one_trace_and_no_conversation() {
    let world = World::start(&["eap-ttls-pap"], "[\"password\"]", "[]").await;
    let roots = std::fs::read(world.path("ca.pem")).unwrap();
    let mut trusted = rustls::RootCertStore::empty();
    trusted.add(rustls::pki_types::CertificateDer::from_pem_slice(&roots).unwrap()).unwrap();
    let tls = peer_tls(Trust::Issuers(trusted), None, false).unwrap();
    let mut stops = 0;
    // The peer ends after 0, 1, 2… responses; the one that gets through has ended the login.
    loop {
        let settings = PeerSettings {
            method: eap::EapMethod::TtlsPap,
            name: PERSON.into(),
            outer: None,
            password: Secret::new(PASSWORD.into()),
            again: Vec::new(),
            tls: Some(tls.clone()),
            server: SERVER.to_owned(),
            fragment: 400,
            old_tls: false,
        };
        let mut peer = bivector_eap::Peer::new(settings);
        let mut exchange = send(&world, &peer.begin(), None).await;
        let mut through = false;
        for _ in 0..stops {
            let request = of(&exchange, AttributeType::EapMessage);
            let bivector_eap::PeerTurn::Send(response) = peer.receive(&request, &mut |bytes| bytes.fill(9)) else { break };
            exchange = send(&world, &response, Some(&of(&exchange, AttributeType::State))).await;
            through = exchange.reply.as_ref().is_some_and(|reply| reply.code == Code::AccessAccept);
        }
        if through {
            break;
        }
        stops += 1;
        assert!(stops < 30, "it ends");
    }
    world.newest_of(stops + 1).await;
    let rows = world.service.get("/traces?limit=200").await;
    let causes: Vec<_> = rows.as_array().unwrap().iter().map(|row| row["cause"].as_str()).collect();
    assert_eq!(causes.iter().filter(|cause| **cause == Some("eap-unfinished")).count(), stops, "{causes:?}");
    assert!(world.service.figures().await.contains("bivector_eap_conversations 0"));
}

#[tokio::test(flavor = "multi_thread")]
async fn over_a_line_that_loses_and_doubles_every_packet_there_is_still_one_login() {
    let world = World::start(&["eap-ttls-gtc"], "[\"password\"]", "[\"totp\"]").await;
    let line = bad_line(world.port).await;
    let asker = Asker::connect("127.0.0.1:0".parse().unwrap(), line).await.unwrap();
    let roots = std::fs::read(world.path("ca.pem")).unwrap();
    let mut trusted = rustls::RootCertStore::empty();
    trusted.add(rustls::pki_types::CertificateDer::from_pem_slice(&roots).unwrap()).unwrap();
    let settings = PeerSettings {
        method: eap::EapMethod::TtlsGtc,
        name: PERSON.into(),
        outer: Some(b"anonymous".to_vec()),
        password: Secret::new(PASSWORD.into()),
        again: Vec::new(),
        tls: Some(peer_tls(Trust::Issuers(trusted), None, false).unwrap()),
        server: SERVER.to_owned(),
        fragment: 300,
        old_tls: false,
    };
    let mut login = EapLogin::new(settings, Message::new(Code::AccessRequest));
    let (secret, patience) = (SharedSecret::new(SECRET.as_bytes()), Patience { wait: Duration::from_millis(150), tries: 8 });
    let round = login.go_on(&asker, &secret, patience).await.unwrap();
    assert!(round.asks.is_some() && round.exchange.sends as usize > round.rounds, "{round:?}");
    login.answer(&code(0)).unwrap();
    let round = login.go_on(&asker, &secret, patience).await.unwrap();
    assert_eq!(round.exchange.reply.map(|reply| reply.code), Some(Code::AccessAccept));
    assert_eq!(round.same_key, Some(true));
    let trace = world.newest_of(1).await;
    assert_eq!(trace["outcome"], "accepted", "{trace:#}");
    assert_eq!(world.service.get("/traces?limit=200").await.as_array().unwrap().len(), 1, "one login, one trace");
}

#[tokio::test(flavor = "multi_thread")]
async fn more_conversations_than_fit_end_the_oldest_and_leave_nothing_behind() {
    let world =
        World::with(&["eap-gtc"], "[\"password\"]", "[]", |site, _| site.replacen("idle = ", "conversations = 16\nidle = ", 1)).await;
    let first = send(&world, &eap::response(1, eap::IDENTITY, PERSON.as_bytes()), None).await;
    for _ in 0..40 {
        send(&world, &eap::response(1, eap::IDENTITY, PERSON.as_bytes()), None).await;
    }
    let late = send(&world, &eap::response(2, eap::GTC, PASSWORD.as_bytes()), Some(&of(&first, AttributeType::State))).await;
    assert_eq!(of(&late, AttributeType::EapMessage)[0], 4, "the oldest was ended");
    let open = || async {
        let figures = world.service.figures().await;
        figures.lines().find_map(|line| line.strip_prefix("bivector_eap_conversations ")).map(str::to_owned)
    };
    assert_eq!(open().await.as_deref(), Some("16"), "as many as may be open");
    for _ in 0..200 {
        if open().await.as_deref() == Some("0") {
            return;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    panic!("conversations are left: {:?}", open().await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_is_resumed_without_the_password_only_where_the_site_allows_it() {
    for (resume, resumed) in [("resume = \"1h\"\n", true), ("", false)] {
        let world =
            World::with(&["eap-ttls-pap"], "[\"password\"]", "[]", |site, _| site.replacen("idle = ", &format!("{resume}idle = "), 1))
                .await;
        for (round, tls13) in [(0, false), (1, true)] {
            let (accepted, said) = world.peer_again(&world.lines("eap-ttls-pap", PASSWORD, tls13), 1).await;
            let trace = world.newest_of(2 * round + 2).await;
            let steps = trace["steps"].to_string();
            assert!(accepted && said.contains("MPPE keys OK: 2  mismatch: 0"), "{tls13}: {steps}\n{said}");
            assert_eq!(steps.contains("resumes it"), resumed, "{tls13}: {trace:#}");
            assert_eq!((trace["person"].as_str(), steps.contains("the rule `everybody`")), (Some("roster:odile"), true), "{trace:#}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_renewed_certificate_is_taken_over_without_a_restart() {
    let world = World::start(&["eap-ttls-pap"], "[\"password\"]", "[]").await;
    let renewed = LabIssuer::new("Northmoor devices, renewed").unwrap();
    let (certificate, key) = renewed.server_pem(&[SERVER]).unwrap();
    std::fs::write(world.service.data.join("eap-key.pem"), key).unwrap();
    std::fs::write(world.service.data.join("eap.pem"), certificate).unwrap();
    std::fs::write(world.path("ca.pem"), renewed.pem()).unwrap();
    assert!(world.service.log_has("the certificate for EAP has changed"), "{}", world.service.log());
    let (accepted, said) = world.peer(&world.lines("eap-ttls-pap", PASSWORD, true)).await;
    assert!(accepted, "{said}");
    std::fs::write(world.service.data.join("eap.pem"), "no certificate").unwrap();
    assert!(world.service.log_has("the one before stays in use"), "{}", world.service.log());
    let (accepted, said) = world.peer(&world.lines("eap-ttls-pap", PASSWORD, true)).await;
    assert!(accepted, "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn one_chain_forwards_eap_beside_another_that_carries_it_out() {
    let world = World::with(&["eap-gtc"], "[\"password\"]", "[]", |site, _| {
        let (before, after) = site.split_once("[[chains]]").unwrap();
        let upstream = "[[upstreams]]\nname = \"old\"\nservers = [\"127.0.0.1:1\"]\nsecret = \"upstream/old\"\n\
                        patience = { wait = \"100ms\", tries = 1 }\n\n";
        let forwards = "[[chains]]\nname = \"forwarded\"\ngateways = [\"slipway\"]\nrealms = [\"elsewhere.example\"]\nidentity = \"elsewhere\"\nmethods = [\"eap\"]\n\
                        first = [\"old\"]\nsecond = []\n\n";
        let rule = "\n[[identity]]\nname = \"elsewhere\"\nstrip_suffix = [\"@elsewhere.example\"]\n\n[[rules]]\nname = \"forwarded\"\nchain = \"forwarded\"\ngrant = \"mesh\"\n";
        format!("{before}{upstream}{forwards}[[chains]]{after}{rule}")
    })
    .await;
    let here = send(&world, &eap::response(1, eap::IDENTITY, PERSON.as_bytes()), None).await;
    assert_eq!(of(&here, AttributeType::EapMessage)[4], eap::GTC, "carried out here");
    let mut request = Message::new(Code::AccessRequest);
    request.push(AttributeType::UserName, b"odile@elsewhere.example");
    request.push(AttributeType::EapMessage, &eap::response(1, eap::IDENTITY, b"odile@elsewhere.example"));
    let request = Request { message: request, password: None, signed: true, replies: IntegrityPolicy::Required };
    let asker = Asker::connect("127.0.0.1:0".parse().unwrap(), ([127, 0, 0, 1], world.port).into()).await.unwrap();
    let patience = Patience { wait: Duration::from_secs(5), tries: 1 };
    asker.ask(&request, &SharedSecret::new(SECRET.as_bytes()), patience).await.unwrap();
    let trace = world.service.trace_from(asker.local().unwrap()).await;
    assert_eq!((trace["chain"].as_str(), trace["method"].as_str()), (Some("forwarded"), Some("eap")), "{trace:#}");
    assert!(trace["steps"].to_string().contains("forwarded to old unchanged"), "{trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn this_machine_can_be_gateway_and_device_from_the_command_line() {
    let world = World::start(&["eap-ttls-gtc"], "[\"password\"]", "[\"totp\"]").await;
    let file = |name: &str, text: &str| {
        std::fs::write(world.path(name), text).unwrap();
        world.path(name).display().to_string()
    };
    let (secret, password, answer) = (file("secret", SECRET), file("password", PASSWORD), code(0));
    let (to, trust) = (format!("127.0.0.1:{}", world.port), world.path("ca.pem").display().to_string());
    let base = ["login", PERSON, "--via", "slipway", "--method", "eap-ttls-gtc", "--from", "127.0.0.1", "--to", to.as_str()];
    let files =
        ["--secret-file", secret.as_str(), "--password-file", password.as_str(), "--answer", answer.as_str(), "--outer", "anonymous"];
    let trusted = ["--trust", trust.as_str(), "--server-name", SERVER];
    let output = world.service.cli(&[&base[..], &files, &trusted].concat());
    let said = format!("{}{}", text(&output.stdout), text(&output.stderr));
    assert!(output.status.success() && said.contains("Access-Accept"), "{said}");
    let output = world.service.cli(&[&base[..], &files, &["--trust", trust.as_str(), "--server-name", "elsewhere.example"]].concat());
    let said = text(&output.stdout);
    assert!(!output.status.success() && said.contains("the peer ended the login"), "{said}");
    let output = world.service.cli(&[&base[..], &files].concat());
    assert!(text(&output.stderr).contains("--trust"), "{}", text(&output.stderr));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_gateway_gets_the_name_of_the_key_that_the_peer_computes_too() {
    let world = World::start(&["eap-ttls-pap", "eap-peap-mschapv2"], "[\"password\"]", "[]").await;
    for method in ["eap-ttls-pap", "eap-peap-mschapv2"] {
        for tls13 in [false, true] {
            let (accepted, said) = world.peer(&world.lines(method, PASSWORD, tls13)).await;
            let own = said.lines().find_map(|line| line.split_once("Session-Id - hexdump(len=65): ")).map(|(_, id)| id.replace(' ', ""));
            let got = said.split("Attribute 102 (EAP-Key-Name) length=67").nth(1).and_then(|rest| rest.split_once("Value: "));
            let got = got.and_then(|(_, value)| value.split_whitespace().next()).map(str::to_owned);
            assert!(accepted && own.is_some(), "{method} {tls13}: {said}");
            assert_eq!(own, got, "{method} {tls13}: {said}");
        }
    }
}

/// What the starter writes for the chain, applied and run; gives what was printed.
async fn starter_passes(world: &World, personas: &str) -> String {
    let site = world.service.get("/site").await["text"].as_str().unwrap().to_owned() + personas;
    let (status, body) = world.service.apply(&site).await;
    assert_eq!(status, 201, "{body:#}");
    let written = world.service.run(&["rehearse", "--starter", "mesh"]);
    let (status, body) = world.service.apply(&format!("{site}\n{written}")).await;
    assert_eq!(status, 201, "{body:#}\n{written}");
    let output = world.service.cli(&["rehearse", "mesh"]);
    assert!(output.status.success(), "{}\n{written}", text(&output.stdout));
    text(&output.stdout)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_starter_writes_for_chains_with_eap_passes() {
    let world = World::start(&["eap-ttls-pap", "eap-ttls-gtc"], "[\"password code(6)\", \"password\"]", "[\"totp\"]").await;
    world.service.seal("persona/odile", PASSWORD).await;
    let ran = starter_passes(&world, "\n[[personas]]\nname = \"odile\"\npassword = \"persona/odile\"\ntoken = true\n").await;
    for case in [
        "in by eap-ttls-pap and code",
        "in by eap-ttls-gtc and code",
        "wrong password",
        "wrong code",
        "outdated device",
        "method not allowed",
    ] {
        assert!(ran.contains(case), "{case} in\n{ran}");
    }
    let certificates = Certificates::start(&["eap-tls"], "").await;
    let own = certificates.issuer.person_pem(&person(Some(MAIL), 7)).unwrap();
    certificates.world.service.seal("persona/odile-badge", (own.certificate + own.key.trim()).trim()).await;
    let personas = "\n[[personas]]\nname = \"odile\"\ncertificate = \"persona/odile-badge\"\n";
    let ran = starter_passes(&certificates.world, personas).await;
    for case in ["in by eap-tls", "no certificate", "outdated device", "method not allowed", "unregistered sender"] {
        assert!(ran.contains(case), "{case} in\n{ran}");
    }
}
