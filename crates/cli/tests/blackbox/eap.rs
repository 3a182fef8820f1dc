//! EAP against a foreign peer: `eapol_test` plays gateway and person's device, with every method and both versions of TLS.

use super::harness::{PEOPLE, Service, code, free_udp_port, text};
use bivector_lab::certificates::LabIssuer;
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
            assert!(accepted || !has_keys(method) && said.contains("EAP authentication completed successfully"), "{method} {tls13}: {trace:#}\n{said}");
            assert_eq!((trace["outcome"].as_str(), trace["method"].as_str()), (Some("accepted"), Some(method)), "{trace:#}");
            assert_eq!(trace["person"], format!("roster:{PERSON}").as_str(), "the name inside the tunnel counts: {trace:#}");
            if has_keys(method) {
                assert!(said.contains("MPPE keys OK: 1  mismatch: 0"), "{method}: {said}");
            }
        }
    }
}
