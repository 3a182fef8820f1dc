//! Sessions of real gateways, each with its client in a network namespace of its own: a TLS VPN server that reports them, and an IKE
//! gateway that ends them when it is asked to.

use super::harness::{Service, text};
use super::ike::{Daemon, GATEWAY, IKE, Network, certificates, folder};
use bivector_lab::certificates::LabIssuer;
use serde_json::Value;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

const SECRET: &str = "slipway-H6tLd1bGf5";
const PASSWORD: &str = "kelp and cordage";
const SEED: &str = "NFXGK4ZAMF2CATTPOJ2GQ3LPN5ZC4LRO";

const SITE: &str = r#"
format = 1
name = "Northmoor"

[doors.radius]
listen = ["127.0.0.1:0"]
accounting = ["127.0.0.1:0"]

[factors.totp]
window = 3

[[gateways]]
name = "slipway"
from = ["127.0.0.1"]
secret = "gateway/slipway"
MORE

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
reply = [GRANT]
"#;

/// The parts of the site that differ.
struct Parts {
    more: String,
    methods: &'static str,
    forms: &'static str,
    second: &'static str,
    grant: &'static str,
}

/// A service with one person; with the ports of its two doors.
async fn service(parts: Parts) -> (Service, u16, u16) {
    let service = Service::start();
    service.seal("gateway/slipway", SECRET).await;
    let site = SITE
        .replace("MORE", &parts.more)
        .replace("METHODS", parts.methods)
        .replace("FORMS", parts.forms)
        .replace("SECOND", parts.second)
        .replace("GRANT", parts.grant);
    let (status, body) = service.apply(&site).await;
    assert_eq!(status, 201, "{body:#}");
    let people = super::harness::PEOPLE.lines().next().unwrap();
    service.import(&format!("{people}\nodile,roster,Odile Skerry,{PASSWORD},,{SEED},phone,text\n")).await;
    let doors = service.get("/status").await;
    let port = |door: &str| doors[door][0].as_str().unwrap().rsplit(':').next().unwrap().parse().unwrap();
    let (radius, accounting) = (port("radius"), port("accounting"));
    (service, radius, accounting)
}

/// The newest session, once it is as wanted.
async fn newest(service: &Service, wanted: impl Fn(&Value) -> bool, said: impl Fn() -> String) -> Value {
    for _ in 0..600 {
        let page = service.get("/sessions?limit=1").await;
        if let Some(row) = page["sessions"].get(0).filter(|row| wanted(row)) {
            return row.clone();
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{:#}\n{}", service.get("/sessions?limit=1").await, said());
}

fn is_open(row: &Value) -> bool {
    row["ended_us"].is_null()
}

/// A program that ends with its test.
struct Running(Child);

impl Running {
    fn start(mut command: Command, log: &Path) -> Self {
        let log = std::fs::File::create(log).unwrap();
        Running(command.stdout(log.try_clone().unwrap()).stderr(log).spawn().unwrap())
    }

    fn interrupt(&mut self) {
        let _ = Command::new("kill").args(["-INT", &self.0.id().to_string()]).status();
        let _ = self.0.wait();
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

/// A TLS VPN server in the gateway's namespace.
fn vpn_server(network: &Network, at: &Path) -> Running {
    let path = |name: &str| at.join(name).display().to_string();
    let file = |name: &str, contents: &str| std::fs::write(at.join(name), contents).unwrap();
    let (certificate, key) = LabIssuer::new("Northmoor gateways").unwrap().server_pem(&[GATEWAY]).unwrap();
    file("certificate", &certificate);
    file("key", &key);
    file("servers", &format!("127.0.0.1 {SECRET}\n"));
    file(
        "radius",
        &format!(
            "authserver 127.0.0.1:1812\nacctserver 127.0.0.1:1813\nservers {}\nnas-identifier slipway\ndictionary /etc/radcli/dictionary\n\
             radius_timeout 10\nradius_retries 3\nbindaddr 127.0.0.1\n",
            path("servers")
        ),
    );
    let lines = [
        format!("auth = \"radius[config={},groupconfig=true]\"", path("radius")),
        format!("acct = \"radius[config={}]\"\nstats-report-time = 2", path("radius")),
        format!("listen-host = {GATEWAY}\ntcp-port = 4443\nudp-port = 0"),
        format!("server-cert = {}\nserver-key = {}", path("certificate"), path("key")),
        format!("socket-file = {}\npid-file = {}", path("socket"), path("pid")),
        "run-as-user = nobody\nisolate-workers = false\nmax-ban-score = 0\nauth-timeout = 240\ncookie-timeout = 5\ndevice = bvt".to_owned(),
        "ipv4-network = 203.0.113.64\nipv4-netmask = 255.255.255.192\nroute = 203.0.113.64/255.255.255.192\n".to_owned(),
    ];
    file("vpn", &lines.join("\n"));
    let mut command = Command::new("ip");
    command.args(["netns", "exec", &network.gateway, "/usr/sbin/ocserv", "-f", "-c"]).arg(at.join("vpn")).stdin(Stdio::null());
    Running::start(command, &at.join("log"))
}

/// A client that opens its tunnel.
fn vpn_client(network: &Network, at: &Path, typed: &str) -> Running {
    let script = at.join("up");
    let lines = "#!/bin/sh\n[ \"$reason\" = connect ] || exit 0\nip link set \"$TUNDEV\" up\n\
                 ip addr add \"$INTERNAL_IP4_ADDRESS/32\" dev \"$TUNDEV\"\nip route add 203.0.113.64/26 dev \"$TUNDEV\"\n";
    std::fs::write(&script, lines).unwrap();
    Command::new("chmod").arg("+x").arg(&script).status().unwrap();
    let pin = super::real_gateways::pin_of(&at.join("certificate"));
    let mut command = Command::new("ip");
    command
        .args(["netns", "exec", &network.client, "openconnect", "--passwd-on-stdin", "--no-dtls", "--servercert", &pin, "--user", "odile"])
        .arg("--script")
        .arg(&script)
        .arg(format!("https://{GATEWAY}:4443"))
        .stdin(Stdio::piped());
    let mut running = Running::start(command, &at.join("client"));
    let mut input = running.0.stdin.take().unwrap();
    std::io::Write::write_all(&mut input, format!("{typed}\n").as_bytes()).unwrap();
    running
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_of_a_tls_vpn_is_seen_with_its_bytes_and_its_end() {
    let Some(network) = Network::new("v") else { return };
    let parts = Parts {
        more: String::new(),
        methods: "\"pap\"",
        forms: "[\"password code(6)\"]",
        second: "[\"totp\"]",
        grant: "{ attribute = \"Class\", text = \"mesh\" }, { attribute = \"Framed-IP-Address\", address = \"203.0.113.77\" }, \
                { attribute = \"Session-Timeout\", integer = 3600 }",
    };
    // It asks for no Message-Authenticator.
    let parts = Parts { more: "message_authenticator = \"when-present\"".to_owned(), ..parts };
    let (service, radius, accounting) = service(parts).await;
    network.carry(1812, radius);
    network.carry(1813, accounting);
    let at = tempfile::Builder::new().prefix("bivector-vpn-").tempdir().unwrap();
    let at = at.path();
    let _server = vpn_server(&network, at);
    let read = |name: &str| std::fs::read_to_string(at.join(name)).unwrap_or_default();
    let said = || format!("{}\n{}\n{}", read("log"), read("client"), service.log());
    for _ in 0..200 {
        if at.join("socket").exists() || read("log").contains("listening") {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let code = super::harness::code("ines", 0);
    let mut client = vpn_client(&network, at, &format!("{PASSWORD}{code}"));
    let row = newest(&service, |row| is_open(row) && row["person"] == "roster:odile", said).await;
    assert_eq!((row["grant"].as_str(), row["factor"].as_str()), (Some("mesh"), Some("totp")), "{row:#}");
    let reference = row["reference"].as_str().unwrap().to_owned();
    // Something has to go over the line.
    let send = "for i in 1 2 3 4 5 6 7 8; do head -c 1000 /dev/zero > /dev/udp/203.0.113.65/9; sleep 0.2; done";
    let traffic = Command::new("ip").args(["netns", "exec", &network.client, "bash", "-c", send]).stdin(Stdio::null()).spawn().unwrap();
    let _traffic = Running(traffic);
    let row = newest(&service, |row| row["traffic"]["bytes_in"].as_u64() > Some(3_000), said).await;
    assert!(is_open(&row) && row["addresses"][0] == "203.0.113.77", "the grant's address, while it is open: {row:#}");
    client.interrupt();
    let row = newest(&service, |row| !is_open(row), said).await;
    assert_eq!(row["ended"]["cause"], 1, "{row:#}");
    let trace = service.get(&format!("/traces/{reference}")).await;
    assert!(trace.to_string().contains("s after the accept"), "{trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn sessions_of_an_ike_gateway_are_ended_by_command_and_by_suspension() {
    let Some(network) = Network::new("k") else { return };
    let root = tempfile::Builder::new().prefix("bivector-ike-").tempdir().unwrap();
    let root = root.path();
    certificates(root);
    let dynamic = network.carry_in(3799);
    let parts = Parts {
        more: format!("dynamic_authorization = {{ to = \"127.0.0.1:{dynamic}\" }}"),
        methods: "\"eap-mschapv2\"",
        forms: "[\"password\"]",
        second: "[]",
        grant: "{ attribute = \"Class\", text = \"mesh\" }",
    };
    let (service, radius, accounting) = service(parts).await;
    network.carry(1812, radius);
    network.carry(1813, accounting);
    let at = folder(root, "gateway", &[("gw.pem", "x509/gw.pem"), ("gw.key", "private/gw.key"), ("ca.pem", "x509ca/ca.pem")]);
    let radius = format!(
        "eap-radius {{ load = yes\n accounting = yes\n accounting_interval = 2\n \
         servers {{ b {{ address = 127.0.0.1\n secret = {SECRET}\n auth_port = 1812\n acct_port = 1813 }} }}\n \
         dae {{ enable = yes\n listen = 127.0.0.1\n port = 3799\n secret = {SECRET} }} }}"
    );
    let connections = format!(
        "connections {{ ike {{ version = 2\n local_addrs = {GATEWAY}\n pools = addresses\n \
         local {{ auth = pubkey\n certs = gw.pem\n id = {IKE} }}\n remote {{ auth = eap-radius\n id = %any\n eap_id = %any }}\n \
         children {{ net {{ local_ts = 10.77.10.0/24\n esp_proposals = aes128-sha256 }} }} }} }}\npools {{ addresses {{ addrs = 10.77.11.0/28 }} }}\n"
    );
    let gateway = Daemon::start(&network.gateway, &at, &radius, &connections).await;
    let own = folder(root, "client", &[("ca.pem", "x509ca/ca.pem")]);
    let connections = format!(
        "connections {{ ike {{ version = 2\n remote_addrs = {GATEWAY}\n vips = 0.0.0.0\n \
         local {{ auth = eap-mschapv2\n id = odile\n eap_id = odile }}\n remote {{ auth = pubkey\n id = {IKE} }}\n \
         children {{ net {{ remote_ts = 10.77.10.0/24\n esp_proposals = aes128-sha256 }} }} }} }}\nsecrets {{ eap {{ id = odile\n secret = \"{PASSWORD}\" }} }}\n"
    );
    let client = Daemon::start(&network.client, &own, "", &connections).await;
    let said = || format!("{}\n{}\n{}", client.log(), gateway.log(), service.log());
    for way in ["command", "suspension"] {
        let up = client.control(&["--initiate", "--child", "net", "--timeout", "15"]);
        assert!(up.status.success(), "{way}: {}\n{}", text(&up.stdout), said());
        let row = newest(&service, |row| is_open(row) && row["person"] == "roster:odile", said).await;
        assert!(row["addresses"][0].as_str().is_some_and(|address| address.starts_with("10.77.11.")), "{row:#}");
        let number = row["id"].to_string();
        match way {
            "command" => assert!(service.run(&["session", "end", &number]).contains("the gateway did it"), "{}", said()),
            _ => drop(service.run(&["person", "suspend", "odile"])),
        }
        let row = newest(&service, |row| !is_open(row) && row["id"].as_u64() == number.parse().ok(), said).await;
        let why = row["why"].as_str().unwrap();
        let wanted = if way == "command" { "ended by owner" } else { "ended because the person was suspended" };
        assert!(why.starts_with(wanted) || row["asked"].as_str().is_some_and(|asked| asked.starts_with(wanted)), "{row:#}");
        for _ in 0..100 {
            if !text(&client.control(&["--list-sas"]).stdout).contains("ESTABLISHED") {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        assert!(!text(&client.control(&["--list-sas"]).stdout).contains("ESTABLISHED"), "the tunnel is down: {}", said());
    }
}
