//! A real IKEv2 gateway and its client, each in a network namespace of its own: EAP goes through RADIUS, and the keys of EAP must be the
//! same on both sides, or the tunnel does not come up.

use super::eap::{MAIL, PASSWORD, PERSON, World};
use super::harness::text;
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use std::net::UdpSocket;
use std::os::fd::AsFd;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::Duration;

pub(super) const GATEWAY: &str = "10.77.9.1";
pub(super) const CLIENT: &str = "10.77.9.2";
pub(super) const IKE: &str = "causeway.northmoor.example";

fn is_root() -> bool {
    Command::new("id").arg("-u").output().unwrap().stdout == b"0\n"
}

fn run(program: &str, arguments: &[&str]) -> Output {
    Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"))
}

fn must(program: &str, arguments: &[&str]) {
    let output = run(program, arguments);
    assert!(output.status.success(), "{program} {arguments:?}: {}", text(&output.stderr));
}

/// Two network namespaces joined by a cable; gone with the test.
pub(super) struct Network {
    pub(super) gateway: String,
    pub(super) client: String,
}

impl Network {
    /// None if this machine lets us have no namespaces; says so.
    #[allow(clippy::print_stderr, reason = "a test that is left out says so")]
    pub(super) fn new(kind: &str) -> Option<Self> {
        let id = format!("{kind}{}", std::process::id());
        let network = Network { gateway: format!("bvg{id}"), client: format!("bvc{id}") };
        let may = is_root() && Path::new("/dev/net/tun").exists() && run("ip", &["netns", "add", &network.gateway]).status.success();
        if !may {
            eprintln!("left out: this machine lets us have no network namespaces, which the gateway and its client need");
            return None;
        }
        must("ip", &["netns", "add", &network.client]);
        let (near, far) = (format!("bvv{id}"), format!("bvw{id}"));
        must("ip", &["link", "add", &near, "netns", &network.gateway, "type", "veth", "peer", "name", &far, "netns", &network.client]);
        for (space, link, address) in [(&network.gateway, &near, GATEWAY), (&network.client, &far, CLIENT)] {
            must("ip", &["-n", space, "addr", "add", &format!("{address}/30"), "dev", link]);
            must("ip", &["-n", space, "link", "set", link, "up"]);
            must("ip", &["-n", space, "link", "set", "lo", "up"]);
        }
        // What the tunnel leads to.
        must("ip", &["-n", &network.gateway, "addr", "add", "10.77.10.1/24", "dev", "lo"]);
        Some(network)
    }

    /// A socket in the gateway's namespace.
    fn socket(&self, address: &str) -> UdpSocket {
        let space = std::fs::File::open(format!("/run/netns/{}", self.gateway)).unwrap();
        let address = address.to_owned();
        let inside = std::thread::spawn(move || {
            // A socket belongs to the namespace in which it was made; this thread ends with it.
            move_into_link_name_space(space.as_fd(), Some(LinkNameSpaceType::Network)).unwrap();
            UdpSocket::bind(address).unwrap()
        });
        inside.join().unwrap()
    }

    /// Carries what comes to `inside` on the gateway's loopback to the service's `port`.
    pub(super) fn carry(&self, inside: u16, port: u16) {
        let outside = UdpSocket::bind("127.0.0.1:0").unwrap();
        outside.connect(("127.0.0.1", port)).unwrap();
        join(self.socket(&format!("127.0.0.1:{inside}")), outside);
    }

    /// Carries what comes to a port of this machine to `inside` on the gateway's loopback. Gives the port.
    pub(super) fn carry_in(&self, inside: u16) -> u16 {
        let outside = UdpSocket::bind("127.0.0.1:0").unwrap();
        let port = outside.local_addr().unwrap().port();
        let within = self.socket("127.0.0.1:0");
        within.connect(("127.0.0.1", inside)).unwrap();
        join(outside, within);
        port
    }
}

/// Passes packets on from `asked` to where `asks` leads, and the answers back to whoever asked last.
fn join(asked: UdpSocket, asks: UdpSocket) {
    let (back, from) = (asked.try_clone().unwrap(), asks.try_clone().unwrap());
    let asker = std::sync::Arc::new(std::sync::Mutex::new(None));
    let last = std::sync::Arc::clone(&asker);
    std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        while let Ok((length, sender)) = asked.recv_from(&mut buffer) {
            *asker.lock().unwrap() = Some(sender);
            let _ = asks.send(&buffer[..length]);
        }
    });
    std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        loop {
            // Nobody may listen there yet.
            let Ok(length) = from.recv(&mut buffer) else {
                std::thread::sleep(Duration::from_millis(20));
                continue;
            };
            let to = *last.lock().unwrap();
            if let Some(to) = to {
                let _ = back.send_to(&buffer[..length], to);
            }
        }
    });
}

impl Drop for Network {
    fn drop(&mut self) {
        run("ip", &["netns", "del", &self.gateway]);
        run("ip", &["netns", "del", &self.client]);
    }
}

/// An IKE daemon in its namespace; ends with its test.
pub(super) struct Daemon {
    child: Child,
    folder: std::path::PathBuf,
}

impl Daemon {
    pub(super) async fn start(space: &str, folder: &Path, plugins: &str, connections: &str) -> Self {
        let socket = folder.join("vici").display().to_string();
        let conf = format!(
            "charon {{\n load_modular = no\n install_routes = yes\n plugins {{\n kernel-libipsec {{ load = yes }}\n \
             kernel-netlink {{ fwmark = !0x42 }}\n socket-default {{ fwmark = 0x42 }}\n \
             vici {{ socket = unix://{socket} }}\n {plugins}\n }}\n filelog {{ stderr {{ default = 1 }} }}\n}}\n"
        );
        std::fs::write(folder.join("strongswan.conf"), conf).unwrap();
        std::fs::write(folder.join("swanctl.conf"), connections).unwrap();
        let log = std::fs::File::create(folder.join("log")).unwrap();
        let child = Command::new("ip")
            .args(["netns", "exec", space, "unshare", "-m", "--propagation", "private", "sh", "-c"])
            .arg("mount -t tmpfs none /run && exec /usr/lib/ipsec/charon")
            .env("STRONGSWAN_CONF", folder.join("strongswan.conf"))
            .stdin(Stdio::null())
            .stdout(log.try_clone().unwrap())
            .stderr(log)
            .spawn()
            .unwrap();
        let daemon = Daemon { child, folder: folder.to_owned() };
        for _ in 0..200 {
            let loaded = daemon.control(&["--load-all", "--noprompt"]);
            if loaded.status.success() {
                return daemon;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("the IKE daemon did not start: {}", daemon.log());
    }

    pub(super) fn control(&self, arguments: &[&str]) -> Output {
        let uri = format!("unix://{}", self.folder.join("vici").display());
        let mut command = Command::new("swanctl");
        command.args(&arguments[..1]).args(["--uri", &uri]).args(&arguments[1..]).env("SWANCTL_DIR", &self.folder);
        command.env("STRONGSWAN_CONF", self.folder.join("strongswan.conf")).output().expect("installed by `make setup`")
    }

    pub(super) fn log(&self) -> String {
        std::fs::read_to_string(self.folder.join("log")).unwrap_or_default()
    }
}

impl Drop for Daemon {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

/// An authority with RSA keys, which this IKE daemon wants, made with its own tool.
pub(super) fn certificates(folder: &Path) {
    let script = format!(
        "set -e; cd {}\n\
         for key in ca gw server own; do pki --gen --type rsa --size 2048 --outform pem > $key.key; done\n\
         pki --self --ca --lifetime 3650 --in ca.key --type rsa --dn 'CN=Northmoor devices' --outform pem > ca.pem\n\
         issue() {{ pki --pub --in $1.key --type rsa | pki --issue --lifetime 3600 --cacert ca.pem --cakey ca.key --dn \"CN=$2\" --san $2 $3 --outform pem > $1.pem; }}\n\
         issue gw {IKE} '--flag serverAuth'; issue server {IKE} '--flag serverAuth'; issue own {MAIL} '--flag clientAuth'\n",
        folder.display()
    );
    must("sh", &["-c", &script]);
}

/// The folder of a daemon, with the certificates that it needs.
pub(super) fn folder(root: &Path, name: &str, certificates: &[(&str, &str)]) -> std::path::PathBuf {
    let folder = root.join(name);
    for part in ["x509", "x509ca", "private"] {
        std::fs::create_dir_all(folder.join(part)).unwrap();
    }
    for (from, to) in certificates {
        std::fs::copy(root.join(from), folder.join(to)).unwrap();
    }
    folder
}

#[tokio::test(flavor = "multi_thread")]
async fn an_ike_client_gets_its_tunnel_by_each_method_and_a_wrong_password_gets_none() {
    let Some(network) = Network::new("i") else { return };
    let root = tempfile::Builder::new().prefix("bivector-ike-").tempdir().unwrap();
    let root = root.path();
    certificates(root);
    let methods = ["eap-mschapv2", "eap-gtc", "eap-ttls-gtc", "eap-tls"];
    let world = World::with(&methods, "[\"password\"]", "[]", |site, data| {
        std::fs::copy(root.join("server.pem"), data.join("eap.pem")).unwrap();
        std::fs::copy(root.join("server.key"), data.join("eap-key.pem")).unwrap();
        std::fs::copy(root.join("ca.pem"), data.join("people-ca.pem")).unwrap();
        let (two, one) =
            (site.split_once("[[rules]]").unwrap(), "methods = [\"eap-mschapv2\", \"eap-gtc\", \"eap-ttls-gtc\", \"eap-tls\"]");
        // Certificates have a chain of their own, selected by the realm, so that the tunnel of the others needs none.
        let chain = "[[chains]]\nname = \"badges\"\ngateways = [\"slipway\"]\nrealms = [\"northmoor.example\"]\nidentity = \"mail\"\n\
                     methods = [\"eap-tls\"]\nissuers = [\"badges\"]\nfirst = [\"roster\"]\nsecond = []\n";
        let rest = "[[issuers]]\nname = \"badges\"\ntrust = \"people-ca.pem\"\n\n[[identity]]\nname = \"mail\"\n\
                    strip_suffix = [\"@northmoor.example\"]\n\n[[rules]]\nname = \"badges\"\nchain = \"badges\"\ngrant = \"mesh\"\n";
        let first = two.0.replacen(one, &one.replacen(", \"eap-tls\"", "", 1), 1);
        let (before, own) = first.split_once("[[chains]]").unwrap();
        format!("{before}{chain}\n[[chains]]{own}realms = [\"\"]\n\n[[rules]]{}\n{rest}", two.1)
    })
    .await;
    network.carry(1812, world.port);
    let gateway = folder(root, "gateway", &[("gw.pem", "x509/gw.pem"), ("gw.key", "private/gw.key"), ("ca.pem", "x509ca/ca.pem")]);
    let radius = format!(
        "eap-radius {{ load = yes\n servers {{ b {{ address = 127.0.0.1\n secret = {}\n auth_port = 1812 }} }} }}",
        super::eap::SECRET
    );
    let connections = format!(
        "connections {{ ike {{ version = 2\n local_addrs = {GATEWAY}\n pools = addresses\n \
         local {{ auth = pubkey\n certs = gw.pem\n id = {IKE} }}\n remote {{ auth = eap-radius\n id = %any\n eap_id = %any }}\n \
         children {{ net {{ local_ts = 10.77.10.0/24\n esp_proposals = aes128-sha256 }} }} }} }}\npools {{ addresses {{ addrs = 10.77.11.0/28 }} }}\n"
    );
    let gateway = Daemon::start(&network.gateway, &gateway, &radius, &connections).await;
    let mut count = 0;
    for (auth, id, password, cause) in [
        ("eap-mschapv2", PERSON, PASSWORD, None),
        ("eap-gtc", PERSON, PASSWORD, None),
        ("eap-ttls", PERSON, PASSWORD, None),
        ("eap-tls", MAIL, PASSWORD, None),
        ("eap-mschapv2", PERSON, "whelk", Some("password-wrong")),
    ] {
        count += 1;
        let own = folder(
            root,
            &format!("client{count}"),
            &[("ca.pem", "x509ca/ca.pem"), ("own.pem", "x509/own.pem"), ("own.key", "private/own.key")],
        );
        let certificate = if auth == "eap-tls" { "certs = own.pem\n" } else { "" };
        let connections = format!(
            "connections {{ ike {{ version = 2\n remote_addrs = {GATEWAY}\n vips = 0.0.0.0\n \
             local {{ auth = {auth}\n {certificate} id = {id}\n eap_id = {id}\n aaa_id = {IKE} }}\n remote {{ auth = pubkey\n id = {IKE} }}\n \
             children {{ net {{ remote_ts = 10.77.10.0/24\n esp_proposals = aes128-sha256 }} }} }} }}\nsecrets {{ eap {{ id = {id}\n secret = \"{password}\" }} }}\n"
        );
        let client = Daemon::start(&network.client, &own, "", &connections).await;
        let up = client.control(&["--initiate", "--child", "net", "--timeout", "15"]);
        let trace = world.newest_of(count).await;
        let said = || format!("{auth}: {trace:#}\n{}\n{}\n{}", text(&up.stdout), client.log(), gateway.log());
        assert_eq!((up.status.success(), trace["cause"].as_str()), (cause.is_none(), cause), "{}", said());
        if cause.is_none() {
            assert!(text(&up.stdout).contains("CHILD_SA net"), "{}", said());
            assert_eq!(trace["person"], "roster:odile", "{trace:#}");
        }
    }
}
