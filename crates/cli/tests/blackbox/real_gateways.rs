//! Chains behind real gateways: an SSH server that asks through PAM, and a TLS VPN server. Both run on loopback, in a folder of their own;
//! people's own programs talk to them through `expect`.

use super::harness::{DIRECTORY, Northmoor, Setup, code, text};
use super::slapd::Chain;
use bivector_lab::certificates::LabIssuer;
use serde_json::Value;
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

/// The people who have an account on the machine of the SSH server.
const ACCOUNTS: [&str; 3] = ["pell", "odo", "tomasz"];
const PELL: &str = "sounding-line";
const SECRET: &str = "lantern-p4WsR8nYc3";
/// What stands in the menu of factors, and the answer that chooses a code.
const MENU: (&str, &str) = ("1 code from", "1");
/// What asks once more.
const AGAIN: &str = "That was not correct.";
/// What asks for the code.
const CODE: &str = "Enter the code from phone:";

/// The portal's gateways are real ones at 127.0.0.1 that do not sign their requests.
const LANTERN: (&str, &str) =
    ("from = [\"127.0.0.12\",", "message_authenticator = \"when-present\"\nfrom = [\"127.0.0.1\", \"127.0.0.12\",");

/// The chain of the portal.
async fn world(change: &[(&str, &str)]) -> Northmoor {
    let change: Vec<_> = [LANTERN].into_iter().chain(change.iter().copied()).collect();
    Northmoor::with(Setup { directory: DIRECTORY, change: &change, ..Setup::default() }).await
}

/// A gateway's daemon. It ends with its test.
struct Daemon {
    child: Child,
    port: u16,
    folder: tempfile::TempDir,
}

impl Drop for Daemon {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.child.id().to_string()).status();
        let _ = self.child.wait();
    }
}

fn free_tcp() -> u16 {
    TcpListener::bind(("127.0.0.1", 0)).unwrap().local_addr().unwrap().port()
}

fn is_root() -> bool {
    Command::new("id").arg("-u").output().unwrap().stdout == b"0\n"
}

/// Whether this machine lets us have a mount namespace; says so where it does not.
#[allow(clippy::print_stderr, reason = "a test that is left out says so")]
fn may_mount() -> bool {
    let may = is_root() && Command::new("unshare").args(["-m", "true"]).stderr(Stdio::null()).status().is_ok_and(|status| status.success());
    if !may {
        eprintln!("left out: this machine lets us have no mount namespace, which the SSH server needs for accounts of its own");
    }
    may
}

impl Daemon {
    async fn new(mut command: Command, port: u16, folder: tempfile::TempDir) -> Self {
        let log = std::fs::File::create(folder.path().join("log")).unwrap();
        let child = command.stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log).spawn().unwrap();
        let daemon = Daemon { child, port, folder };
        for _ in 0..400 {
            if std::net::TcpStream::connect(("127.0.0.1", port)).is_ok() {
                return daemon;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        panic!("the gateway did not start: {}", daemon.log());
    }

    fn log(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }

    /// An SSH server in a mount namespace in which it has accounts and a PAM file of its own.
    async fn ssh(radius: u16) -> Self {
        let folder = tempfile::Builder::new().prefix("bivector-ssh-").tempdir().unwrap();
        let (at, port) = (folder.path().to_owned(), free_tcp());
        let file = |name: &str, contents: &str| std::fs::write(at.join(name), contents).unwrap();
        let keys = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(at.join("key")).output();
        assert!(keys.expect("OpenSSH is installed by `make setup`").status.success());
        let accounts = ACCOUNTS.iter().zip(5001..).map(|(name, id)| format!("{name}:x:{id}:{id}:{name}:/:/bin/sh\n"));
        file("passwd", &(std::fs::read_to_string("/etc/passwd").unwrap() + accounts.collect::<String>().as_str()));
        file("radius", &format!("127.0.0.1:{radius} {SECRET} 10\n"));
        std::fs::set_permissions(at.join("radius"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
        let radius = at.join("radius");
        let module = format!("auth required pam_radius_auth.so conf={} prompt_attribute", radius.display());
        file("pam", &format!("{module}\naccount required pam_permit.so\nsession required pam_permit.so\npassword required pam_deny.so\n"));
        let lines = [
            format!("Port {port}"),
            "ListenAddress 127.0.0.1".to_owned(),
            format!("HostKey {}", at.join("key").display()),
            format!("PidFile {}", at.join("pid").display()),
            "UsePAM yes\nKbdInteractiveAuthentication yes\nAuthenticationMethods keyboard-interactive\nPasswordAuthentication no"
                .to_owned(),
            "PubkeyAuthentication no\nPrintMotd no\nUseDNS no\nForceCommand echo LOGIN-OK $USER\n".to_owned(),
        ];
        file("sshd", &lines.join("\n"));
        std::fs::create_dir_all("/run/sshd").unwrap();
        let script = "mount --bind passwd /etc/passwd && mount --bind pam /etc/pam.d/sshd && exec /usr/sbin/sshd -D -e -f \"$PWD/sshd\"";
        let mut command = Command::new("unshare");
        command.args(["-m", "--propagation", "private", "sh", "-c", script]).current_dir(&at);
        Self::new(command, port, folder).await
    }

    /// A TLS VPN server. People only sign in; nobody opens a tunnel.
    async fn vpn(radius: u16) -> Self {
        let folder = tempfile::Builder::new().prefix("bivector-vpn-").tempdir().unwrap();
        let (at, port) = (folder.path().to_owned(), free_tcp());
        let path = |name: &str| at.join(name).display().to_string();
        let file = |name: &str, contents: &str| std::fs::write(at.join(name), contents).unwrap();
        let (certificate, key) = LabIssuer::new("Northmoor gateways").unwrap().server_pem(&["127.0.0.1", "localhost"]).unwrap();
        file("certificate", &certificate);
        file("key", &key);
        file("servers", &format!("127.0.0.1 {SECRET}\n"));
        let client = [
            format!("authserver 127.0.0.1:{radius}\nacctserver 127.0.0.1:{radius}\nservers {}", path("servers")),
            "nas-identifier lantern\ndictionary /etc/radcli/dictionary\nradius_timeout 10\nradius_retries 1\nbindaddr 127.0.0.1\n"
                .to_owned(),
        ];
        file("radius", &client.join("\n"));
        let lines = [
            format!("auth = \"radius[config={},groupconfig=true]\"", path("radius")),
            format!("listen-host = 127.0.0.1\ntcp-port = {port}\nudp-port = 0"),
            format!("server-cert = {}\nserver-key = {}", path("certificate"), path("key")),
            format!("socket-file = {}\npid-file = {}", path("socket"), path("pid")),
            "run-as-user = nobody\nisolate-workers = false\nmax-ban-score = 0\nauth-timeout = 240\ncookie-timeout = 60\ndevice = bvt"
                .to_owned(),
            "ipv4-network = 203.0.113.64\nipv4-netmask = 255.255.255.192\n".to_owned(),
        ];
        file("vpn", &lines.join("\n"));
        let mut command = Command::new("/usr/sbin/ocserv");
        command.args(["-f", "-c"]).arg(at.join("vpn"));
        Self::new(command, port, folder).await
    }
}

/// Talks to a program at a terminal: waits for each text, then types its answer; at last waits for `until` or for the program's end. Gives
/// all that stood on the terminal.
fn talk(program: &[&str], turns: &[(&str, &str)], until: &str) -> String {
    let quoted = |text: &str| format!("{{{text}}}");
    let mut script = format!("set timeout 40\nspawn -noecho {}\n", program.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(" "));
    for (wanted, answer) in turns {
        script += &format!("expect {{\n-ex {} {{}}\ntimeout {{ exit 1 }}\neof {{ exit 1 }}\n}}\n", quoted(wanted));
        // The program may still be turning the echo of the terminal off.
        script += &format!("after 300\nsend -- {}\nsend -- \"\\r\"\n", quoted(answer));
    }
    script += &format!("expect {{\n-ex {} {{}}\neof {{}}\n}}\n", quoted(until));
    let output = Command::new("expect").args(["-c", &script]).stdin(Stdio::null()).output().expect("expect is installed by `make setup`");
    text(&output.stdout)
}

fn ssh(server: &Daemon, name: &str, turns: &[(&str, &str)]) -> String {
    const ENDED: &str = "Permission denied";
    let (port, whom) = (server.port.to_string(), format!("{name}@127.0.0.1"));
    let known = ["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR"];
    let once = ["-o", "PreferredAuthentications=keyboard-interactive", "-o", "NumberOfPasswordPrompts=1"];
    talk(&[&["ssh", "-F", "none", "-p", &port], &known[..], &once[..], &[&whom]].concat(), turns, ENDED)
}

fn vpn(server: &Daemon, name: &str, turns: &[(&str, &str)], until: &str) -> String {
    let (address, certificate) = (format!("https://127.0.0.1:{}", server.port), server.folder.path().join("certificate"));
    let pin = pin_of(&certificate);
    talk(&["openconnect", "--authenticate", "--servercert", &pin, "--user", name, &address], turns, until)
}

/// What `openconnect` knows the server by.
pub(super) fn pin_of(certificate: &Path) -> String {
    let script = "openssl x509 -in \"$0\" -pubkey -noout | openssl pkey -pubin -outform der | openssl dgst -sha256 -binary | base64";
    let output = Command::new("sh").args(["-c", script]).arg(certificate).output().unwrap();
    format!("pin-sha256:{}", text(&output.stdout).trim())
}

async fn traces(world: &Northmoor, wanted: usize) -> Vec<Value> {
    for _ in 0..300 {
        let rows = world.service.get("/traces?limit=100").await.as_array().unwrap().clone();
        if rows.len() >= wanted {
            return rows;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("fewer than {wanted} traces: {}", world.service.get("/traces?limit=100").await);
}

/// The newest login, once it has ended.
async fn ended(world: &Northmoor) -> Value {
    for _ in 0..300 {
        let rows = world.service.get("/traces?limit=1").await;
        if rows[0]["outcome"] != "challenged" {
            return rows[0].clone();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("it still waits: {}", world.service.get("/traces?limit=5").await);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_terminal_of_an_ssh_server_hides_codes_and_shows_what_is_chosen_from_a_menu() {
    if !may_mount() {
        return;
    }
    let world = world(&[]).await;
    let server = Daemon::ssh(world.radius.port()).await;
    let right = code("pell", 0);
    let said = ssh(&server, "pell", &[("Password:", PELL), MENU, (CODE, &right)]);
    assert!(said.contains("LOGIN-OK pell"), "{said}\n{}", server.log());
    assert!(!said.contains(&right) && !said.contains(PELL), "{said}");
    let menu = said.lines().find(|line| line.trim_end().ends_with('1'));
    assert!(menu.is_some(), "the choice stands on the terminal: {said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_whose_password_has_expired_gives_the_code_and_a_new_password_at_the_terminal_of_an_ssh_server() {
    const NEW: &str = "spring tide at noon";
    if !may_mount() {
        return;
    }
    let chain = Chain::start(|_, site| {
        let change = [
            LANTERN,
            ("when_unclear = \"plain\"", "when_unclear = \"plain\"\nchange_password = true"),
            ("when = { group = \"survey-contractors\" }\n", ""),
        ];
        change.iter().fold(site, |site, (from, to)| site.replacen(from, to, 1))
    })
    .await;
    let server = Daemon::ssh(chain.radius.port()).await;
    let right = code("tomasz", 0);
    let turns = [("Password:", "ebb before flood"), (CODE, &right), ("Enter a new password:", NEW), ("Repeat the new password:", NEW)];
    let said = ssh(&server, "tomasz", &turns);
    assert!(said.contains("LOGIN-OK tomasz"), "{said}\n{}", server.log());
    assert!(!said.contains(NEW) && !said.contains(&right), "nothing secret stands on the terminal: {said}");
    let said = ssh(&server, "tomasz", &[("Password:", NEW), (CODE, &code("tomasz", 1))]);
    assert!(said.contains("LOGIN-OK tomasz"), "the new one counts at once: {said}\n{}", server.log());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_placeholder_of_an_ssh_server_for_names_without_an_account_has_a_cause_and_does_not_blame_the_secret() {
    if !may_mount() {
        return;
    }
    let world = world(&[]).await;
    let server = Daemon::ssh(world.radius.port()).await;
    ssh(&server, "ravi", &[("Password:", "anchor-watch")]);
    let trace = traces(&world, 1).await[0].clone();
    assert_eq!(trace["cause"], "device-account-missing", "{trace}");
    let said = world.service.run(&["trace", "show", trace["reference"].as_str().unwrap()]);
    assert!(said.contains("create the account on that machine"), "{said}");
    let located = text(&world.service.cli(&["locate", "ravi", "--via", "lantern"]).stdout);
    assert!(!located.contains("secret-differs"), "{located}");
}

#[tokio::test(flavor = "multi_thread")]
async fn every_prompt_of_a_tls_vpn_leads_on_and_enter_alone_is_an_empty_answer() {
    if !is_root() {
        eprintln!("left out: the TLS VPN server runs only as root");
        return;
    }
    let world = world(&[]).await;
    let server = Daemon::vpn(world.radius.port()).await;
    // A State with a zero byte would come back cut: of eighteen that are random bytes, nearly always some would.
    let choices = [("Password:", PELL), MENU];
    for round in 1..=6 {
        let said = vpn(&server, "pell", &[choices[0], choices[1], (CODE, "")], AGAIN);
        let rows = traces(&world, round).await;
        let causes: Vec<_> = rows.iter().map(|row| row["cause"].clone()).collect();
        assert!(!causes.iter().any(|cause| cause == "challenge-foreign"), "{causes:?}\n{said}");
    }
    let right = code("pell", 0);
    let said = vpn(&server, "pell", &[choices[0], choices[1], (CODE, ""), (AGAIN, &right)], "FINGERPRINT=");
    assert!(said.contains("COOKIE="), "{said}\n{}", server.log());
    let newest = ended(&world).await;
    assert_eq!((&newest["outcome"], &newest["login"]), (&"accepted".into(), &"pell".into()));
}
