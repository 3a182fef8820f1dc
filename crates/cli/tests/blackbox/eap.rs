//! EAP against a foreign peer: `eapol_test` plays gateway and person's device, with every method and both versions of TLS.

use super::harness::{PEOPLE, Service, free_udp_port, text};
use bivector_lab::certificates::{LabIssuer, LabPerson, LabValidity};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

const SECRET: &str = "slipway-H6tLd1bGf5";
const SERVER: &str = "login.northmoor.example";
/// A person of the roster whose password is kept as text, so that every method can prove it.
const PERSON: &str = "odile";
const PASSWORD: &str = "kelp and cordage";
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
struct World {
    service: Service,
    port: u16,
    folder: tempfile::TempDir,
}

impl World {
    async fn start(methods: &[&str], forms: &str, second: &str) -> Self {
        Self::with(methods, forms, second, |site, _| site).await
    }

    /// With changes of the site; files can be put into the data folder first.
    async fn with(methods: &[&str], forms: &str, second: &str, change: impl FnOnce(String, &Path) -> String) -> Self {
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
        let config = self.path("peer.conf");
        std::fs::write(&config, format!("network={{\n key_mgmt=WPA-EAP\n {}\n}}\n", lines.join("\n "))).unwrap();
        let port = self.port.to_string();
        let run = move |config: &Path| {
            let args = ["-a", "127.0.0.1", "-p", &port, "-s", SECRET, "-t", "15", "-r", "0"];
            Command::new("eapol_test").arg("-c").arg(config).args(args).output().unwrap()
        };
        let output = tokio::task::spawn_blocking(move || run(&config)).await.unwrap();
        (output.status.success(), format!("{}{}", text(&output.stdout), text(&output.stderr)))
    }

    /// The newest trace, once there are so many.
    async fn newest_of(&self, count: usize) -> Value {
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

const MAIL: &str = "odile@northmoor.example";

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
