//! The chain against a real directory of the Active Directory kind: Samba in a network namespace of its own.

use super::harness::{PEOPLE, Service, code, free_udp_port, gateway, outcome, seal_all, site_for};
use bivector_lab::certificates::LabIssuer;
use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};

/// A running directory. Its namespace and its processes end with it.
struct ActiveDirectory {
    child: Child,
    folder: tempfile::TempDir,
}

impl ActiveDirectory {
    /// None where this machine does not let us have a network namespace, as inside some containers.
    fn start() -> Option<Self> {
        let folder = tempfile::Builder::new().prefix("bivector-ad-").tempdir().unwrap();
        let tls = folder.path().join("tls");
        std::fs::create_dir(&tls).unwrap();
        let issuer = LabIssuer::new("Northmoor domain").unwrap();
        let (certificate, key) = issuer.server_pem(&["203.0.113.2", "dc1.northmoor.example"]).unwrap();
        for (file, contents) in [("ca.pem", issuer.pem()), ("server.pem", certificate.as_str()), ("server.key", key.as_str())] {
            std::fs::write(tls.join(file), contents).unwrap();
        }
        // Samba refuses a key that others may read.
        std::fs::set_permissions(tls.join("server.key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
        let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/fixtures/active-directory.sh");
        let root = Command::new("id").arg("-u").output().unwrap().stdout == b"0\n";
        let mut command = if root { Command::new(script) } else { Command::new("sudo") };
        if !root {
            command.args(["-n", script]);
        }
        command.arg(folder.path().join("domain")).arg(&tls).arg(format!("bivector-ad-{}", std::process::id()));
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let mut said = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut said).unwrap();
        if said.trim() == "no namespace" {
            let _ = child.wait();
            return None;
        }
        assert_eq!(said.trim(), "ready", "it needs root, or sudo without a password; its packages come by `make setup`");
        Some(ActiveDirectory { child, folder })
    }
}

impl Drop for ActiveDirectory {
    fn drop(&mut self) {
        // The script ends when its input does.
        drop(self.child.stdin.take());
        let _ = self.child.wait();
    }
}

async fn log_in(service: &Service, radius: SocketAddr, name: &str, password: &str) -> (String, Value) {
    let (exchange, local) = gateway("breakwater", radius).log_in(name, password).await.unwrap();
    (outcome(&exchange), service.trace_from(local).await)
}

/// One test for all, since the directory takes a quarter of a minute to be made.
#[tokio::test(flavor = "multi_thread")]
async fn active_directory_is_found_bound_nested_and_changed_in_its_own_ways() {
    let Some(directory) = ActiveDirectory::start() else {
        eprintln!("left out: this machine has no network namespaces for a real Active Directory; its answers are tested in bivector-core");
        return;
    };
    let service = Service::start();
    std::fs::copy(directory.folder.path().join("tls/ca.pem"), service.data.join("tidehall-ca.pem")).unwrap();
    seal_all(&service).await;
    let server: SocketAddr = "203.0.113.2:636".parse().unwrap();
    let change = [
        (", \"ldaps://127.0.0.1:1\"", ""),
        (
            "base = \"ou=people,dc=northmoor,dc=example\"\nlogin = \"uid\"",
            "kind = \"active-directory\"\nbase = \"dc=northmoor,dc=example\"",
        ),
        ("dn = \"cn=bivector,ou=services,dc=northmoor,dc=example\"", "dn = \"bivector@northmoor.example\""),
        ("groups = { from = \"memberOf\" }\n", ""),
        ("client_patience = \"60s\"", "shows_challenges = true"),
        ("when_unclear = \"code\"", "when_unclear = \"code\"\nchange_password = true"),
        ("[[identity]]", "[factors.totp]\nwindow = 4\n[[identity]]"),
    ];
    let site = site_for(free_udp_port(), &[server, "127.0.0.1:1".parse().unwrap()], &change);
    let (status, body) = service.apply(&site).await;
    assert_eq!((status, body["unreachable"].as_array().map(Vec::len)), (201, Some(0)), "{body}");
    service.import(PEOPLE).await;
    let radius = service.radius().await;
    // Nested: ines is in night-watch, which is in control-room. Root searches come with references to other servers.
    // Codes in the order of time, so that the clock's next step between two logins makes none of them a used one.
    for (at, bind_as) in [(-1, ""), (0, "bind_as = { principal = \"northmoor.example\" }\n"), (1, "bind_as = { domain = \"NORTHMOOR\" }\n")]
    {
        let (status, body) =
            service.apply(&site.replace("kind = \"active-directory\"\n", &format!("kind = \"active-directory\"\n{bind_as}"))).await;
        assert_eq!(status, 201, "{body}");
        let (seen, trace) = log_in(&service, radius, "ines", &format!("barnacle-and-buoy{}", code("ines", at))).await;
        assert_eq!((seen.as_str(), trace["grant"].as_str()), ("accept", Some("control-room")), "{bind_as}: {trace:#}");
    }
    // By the principal name too, which is another one than the short name: one person, so a code counts once.
    let both = site
        .replace("kind = \"active-directory\"\n", "kind = \"active-directory\"\nlogin = [\"sAMAccountName\", \"userPrincipalName\"]\n")
        .replace("strip_suffix = [\"@northmoor.example\"]", "realms = [\"northmoor.example\"]");
    let (status, body) = service.apply(&both).await;
    assert_eq!(status, 201, "{body}");
    let typed = format!("barnacle-and-buoy{}", code("ines", 2));
    let (seen, trace) = log_in(&service, radius, "i.okafor@northmoor.example", &typed).await;
    assert_eq!((seen.as_str(), trace["person"].as_str()), ("accept", Some("tidehall:ines")), "{trace:#}");
    let (_, trace) = log_in(&service, radius, "NORTHMOOR\\ines", &typed).await;
    assert_eq!((trace["person"].as_str(), trace["cause"].as_str()), (Some("tidehall:ines"), Some("code-used")), "{trace:#}");
    assert_eq!(service.apply(&site).await.0, 201);
    for (name, password, cause) in [
        ("ines", "wrong", "password-wrong"),
        ("noor", "kelp-forest", "account-disabled"),
        ("pell", "sounding-line", "account-expired"),
        ("nobody", "x", "person-unknown"),
    ] {
        let code = if name == "nobody" { String::new() } else { code(name, 1) };
        let (_, trace) = log_in(&service, radius, name, &format!("{password}{code}")).await;
        assert_eq!(trace["cause"], cause, "{name}: {trace:#}");
    }
    for _ in 0..3 {
        log_in(&service, radius, "ravi", "wrong").await;
    }
    let (_, trace) = log_in(&service, radius, "ravi", &format!("anchor-watch{}", code("ravi", 0))).await;
    assert_eq!(trace["cause"], "account-locked", "{trace:#}");
    // Expired and must-change: changed at the prompts.
    let breakwater = gateway("breakwater", radius);
    for (name, old, new) in [("tomasz", "ebb before flood", "spring tide at noon"), ("yuki", "swell204813", "neap tide at dawn")] {
        let (asked, local) = breakwater.log_in(name, &format!("{old}{}", code(name, 0))).await.unwrap();
        assert_eq!(outcome(&asked), "Access-Challenge", "{:#}", service.trace_from(local).await);
        let (again, _) = breakwater.answer(name, new, &asked).await.unwrap();
        let (last, local) = breakwater.answer(name, new, &again).await.unwrap();
        assert_eq!(outcome(&last), "accept", "{:#}", service.trace_from(local).await);
        let (seen, trace) = log_in(&service, radius, name, &format!("{new}{}", code(name, 1))).await;
        assert_eq!(seen, "accept", "{trace:#}");
    }
    // The probe knows what it is, its clock, and an administrator when it sees one.
    let probe = async || {
        let (_, servers) = service.call("POST", "/directories/tidehall/probe", Some(json!({ "person": "ines" }))).await;
        servers[0]["lines"]
            .as_array()
            .unwrap()
            .iter()
            .map(|line| format!("{} {} {}\n", line["piece"], line["state"], line["said"]))
            .collect::<String>()
    };
    let lines = probe().await;
    assert!(lines.contains("Active Directory or compatible") && lines.contains("the server's clock agrees with ours"), "{lines}");
    assert!(lines.contains("night-watch") && lines.contains("control-room"), "{lines}");
    service.seal("directory/tidehall", "Adm1n-Passw0rd").await;
    let (status, body) = service.apply(&site.replace("bivector@northmoor.example", "administrator@northmoor.example")).await;
    assert_eq!(status, 201, "{body}");
    let lines = probe().await;
    assert!(lines.contains("it has administrator rights: a member of"), "{lines}");
}
