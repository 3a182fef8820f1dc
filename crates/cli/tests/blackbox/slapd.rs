//! The chain against a real OpenLDAP server: a private instance on a loopback port, with password policy and memberOf.

use super::harness::{PEOPLE, Service, code, free_udp_port, gateway, outcome, seal_all, site_for, text};
use bivector_lab::certificates::LabIssuer;
use bivector_wire::AttributeType;
use ldap3::{LdapConnAsync, Mod};
use serde_json::{Value, json};
use std::collections::HashSet;
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

const BASE: &str = "dc=northmoor,dc=example";
const ADMIN: &str = "cn=admin,dc=northmoor,dc=example";

/// A running slapd in a folder of its own.
pub(crate) struct Slapd {
    child: Child,
    folder: PathBuf,
    clear: SocketAddr,
    tls: SocketAddr,
}

impl Slapd {
    async fn start(folder: &Path, issuer: &LabIssuer) -> Self {
        let folder = folder.join("slapd");
        std::fs::create_dir_all(folder.join("db")).unwrap();
        let (certificate, key) = issuer.server_pem(&["127.0.0.1", "localhost"]).unwrap();
        std::fs::write(folder.join("server.pem"), certificate).unwrap();
        std::fs::write(folder.join("server.key"), key).unwrap();
        std::fs::write(folder.join("slapd.conf"), config(&folder)).unwrap();
        std::fs::write(folder.join("base.ldif"), base_ldif()).unwrap();
        let added = Command::new("/usr/sbin/slapadd")
            .args(["-q", "-f"])
            .arg(folder.join("slapd.conf"))
            .arg("-l")
            .arg(folder.join("base.ldif"))
            .output();
        let added = added.expect("slapd is installed by `make setup`");
        assert!(added.status.success(), "{}", text(&added.stderr));
        let slapd = Self::spawn(folder, free_tcp(), free_tcp()).await;
        slapd.add_groups().await;
        slapd
    }

    async fn spawn(folder: PathBuf, clear: SocketAddr, tls: SocketAddr) -> Self {
        let urls = format!("ldap://{clear} ldaps://{tls}");
        let child = Command::new("/usr/sbin/slapd")
            .args(["-d", "0", "-h", &urls, "-f"])
            .arg(folder.join("slapd.conf"))
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let slapd = Slapd { child, folder, clear, tls };
        for _ in 0..200 {
            if std::net::TcpStream::connect(clear).is_ok() && std::net::TcpStream::connect(tls).is_ok() {
                return slapd;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        panic!("slapd did not start");
    }

    /// Ends it and starts it again at the same ports: every connection is lost.
    async fn restart(mut self) -> Self {
        self.end();
        Self::spawn(self.folder.clone(), self.clear, self.tls).await
    }

    fn end(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    async fn admin(&self) -> ldap3::Ldap {
        let (connection, mut ldap) = LdapConnAsync::new(&format!("ldap://{}", self.clear)).await.unwrap();
        ldap3::drive!(connection);
        ldap.simple_bind(ADMIN, "admin-pw").await.unwrap().success().unwrap();
        ldap
    }

    /// Added while it runs, so that its memberOf overlay sees them.
    async fn add_groups(&self) {
        let mut ldap = self.admin().await;
        for (group, members) in
            [("control-room", &["ines"][..]), ("turbine-crew", &["tomasz", "yuki", "noor", "odo"]), ("remote-suspended", &["noor"])]
        {
            let members: HashSet<String> = members.iter().map(|uid| format!("uid={uid},ou=people,{BASE}")).collect();
            let attributes = vec![
                ("objectClass".to_owned(), HashSet::from(["groupOfNames".to_owned()])),
                ("cn".to_owned(), HashSet::from([group.to_owned()])),
                ("member".to_owned(), members),
            ];
            ldap.add(&format!("cn={group},ou=groups,{BASE}"), attributes).await.unwrap().success().unwrap();
        }
    }
}

impl Drop for Slapd {
    fn drop(&mut self) {
        self.end();
    }
}

fn free_tcp() -> SocketAddr {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap()
}

fn config(folder: &Path) -> String {
    let folder = folder.display();
    format!(
        "include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
moduleload ppolicy
pidfile {folder}/slapd.pid
TLSCertificateFile {folder}/server.pem
TLSCertificateKeyFile {folder}/server.key
database mdb
suffix \"{BASE}\"
rootdn \"{ADMIN}\"
rootpw admin-pw
directory {folder}/db
dbnosync
index uid,member eq
access to attrs=userPassword by self =xw by dn.exact=\"cn=bivector,ou=services,{BASE}\" =xw by anonymous auth by * none
access to * by dn.exact=\"cn=bivector,ou=services,{BASE}\" read by anonymous auth by * none
overlay memberof
memberof-group-oc groupOfNames
memberof-member-ad member
memberof-memberof-ad memberOf
overlay ppolicy
ppolicy_default \"cn=default,ou=policies,{BASE}\"
ppolicy_use_lockout
"
    )
}

fn base_ldif() -> String {
    let unit = |name: &str| format!("dn: ou={name},{BASE}\nobjectClass: organizationalUnit\nou: {name}\n\n");
    let person = |uid: &str, name: &str, password: &str, more: &str| {
        format!(
            "dn: uid={uid},ou=people,{BASE}\nobjectClass: inetOrgPerson\nuid: {uid}\ncn: {name}\nsn: {name}\nuserPassword: {password}\n{more}\n"
        )
    };
    let old = "pwdChangedTime: 20200101000000Z\n";
    [
        format!("dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\ndc: northmoor\no: Northmoor Tidal\n\n"),
        ["people", "groups", "services", "policies"].map(unit).concat(),
        format!("dn: cn=default,ou=policies,{BASE}\nobjectClass: device\nobjectClass: pwdPolicy\ncn: default\npwdAttribute: userPassword\npwdLockout: TRUE\npwdMaxFailure: 3\npwdLockoutDuration: 900\npwdMaxAge: 7776000\npwdMustChange: TRUE\npwdMinLength: 8\npwdCheckQuality: 2\npwdInHistory: 3\n\n"),
        format!("dn: cn=gentle,ou=policies,{BASE}\nobjectClass: device\nobjectClass: pwdPolicy\ncn: gentle\npwdAttribute: userPassword\npwdMaxAge: 7776000\npwdGraceAuthNLimit: 3\n\n"),
        format!("dn: cn=bivector,ou=services,{BASE}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: bivector\nuserPassword: reads-the-tide-tables\n\n"),
        person("ines", "Ines Okafor", "barnacle-and-buoy", ""),
        person("tomasz", "Tomasz Brandt", "ebb before flood", old),
        person("yuki", "Yuki Arden", "swell204813", "pwdReset: TRUE\n"),
        person("ravi", "Ravi Stone", "anchor-watch", "pwdAccountLockedTime: 000001010000Z\n"),
        person("noor", "Noor Lindqvist", "kelp-forest", ""),
        person("odo", "Odo Reyes", "new-moon-spring", ""),
        person("pell", "Pell Marsh", "sounding-line", &format!("{old}pwdPolicySubentry: cn=gentle,ou=policies,{BASE}\n")),
    ]
    .concat()
}

/// The chain with that server as its directory.
pub(crate) struct Chain {
    pub(crate) service: Service,
    slapd: Slapd,
    pub(crate) radius: SocketAddr,
    _folder: tempfile::TempDir,
}

impl Chain {
    /// `site` changes the site file, which names the server's TLS address twice.
    pub(crate) async fn start(change: impl Fn(&Slapd, String) -> String) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let issuer = LabIssuer::new("slapd's issuer").unwrap();
        let slapd = Slapd::start(folder.path(), &issuer).await;
        let service = Service::start();
        std::fs::write(service.data.join("tidehall-ca.pem"), issuer.pem()).unwrap();
        seal_all(&service).await;
        let site = change(&slapd, site_for(free_udp_port(), &[slapd.tls, slapd.tls], &[]));
        let (status, body) = service.apply(&site).await;
        assert_eq!(status, 201, "{body}");
        assert_eq!(body["unreachable"].as_array().map(Vec::len), Some(0), "{body}");
        service.import(PEOPLE).await;
        let radius = service.radius().await;
        Chain { service, slapd, radius, _folder: folder }
    }

    async fn log_in(&self, via: &str, name: &str, password: &str) -> (String, Value) {
        let (exchange, local) = gateway(via, self.radius).log_in(name, password).await.unwrap();
        (outcome(&exchange), self.service.trace_from(local).await)
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn right_and_wrong_logins_against_openldap_get_their_causes() {
    let chain = Chain::start(|_, site| site).await;
    let cases = [
        ("breakwater", "ines", "barnacle-and-buoy", None),
        ("breakwater", "ines", "wrong", Some("password-wrong")),
        ("breakwater", "tomasz", "ebb before flood", Some("password-expired")),
        ("breakwater", "yuki", "swell204813", Some("password-must-change")),
        ("lantern", "ravi", "anchor-watch", Some("account-locked")),
        ("breakwater", "noor", "kelp-forest", Some("rule-refused")),
        ("breakwater", "odo", "new-moon-spring", Some("not-enrolled")),
        ("breakwater", "nobody", "x", Some("person-unknown")),
        ("breakwater", "*", "x", Some("person-unknown")),
    ];
    for (index, (via, name, password, cause)) in cases.into_iter().enumerate() {
        let code = if ["odo", "nobody", "*"].contains(&name) { String::new() } else { code(name, (index == 1).into()) };
        let (_, trace) = chain.log_in(via, name, &format!("{password}{code}")).await;
        assert_eq!(trace["cause"].as_str(), cause, "{name}: {trace:#}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn three_logins_that_could_be_read_in_two_ways_never_lock_the_account() {
    let chain = Chain::start(|_, site| site).await;
    // The directory locks after three wrong passwords; each of these is read as password and code, and guessed once.
    for _ in 0..2 {
        let (_, trace) = chain.log_in("breakwater", "ines", "barnacle-and-bouy123456").await;
        assert_eq!(trace["cause"], "password-wrong", "{trace:#}");
    }
    let (seen, trace) = chain.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", 0))).await;
    assert_eq!(seen, "accept", "{trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn groups_by_search_over_start_tls_and_an_entry_that_vanishes() {
    let chain = Chain::start(|slapd, site| {
        site.replace(&format!("ldaps://{}", slapd.tls), &format!("ldap://{}", slapd.clear)).replace(
            "groups = { from = \"memberOf\" }",
            "start_tls = true\ngroups = { from = \"search\", base = \"ou=groups,dc=northmoor,dc=example\" }",
        )
    })
    .await;
    let (seen, trace) = chain.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", 0))).await;
    assert_eq!(seen, "accept", "{trace:#}");
    let mut admin = chain.slapd.admin().await;
    let dn = format!("cn=control-room,ou=groups,{BASE}");
    let nobody = HashSet::from([ADMIN]);
    admin.modify(&dn, vec![Mod::Replace("member", nobody)]).await.unwrap().success().unwrap();
    let (_, trace) = chain.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", 1))).await;
    assert_eq!(trace["cause"], "no-rule", "groups are read at each login: {trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_restart_of_the_directory_pooled_connections_are_made_anew() {
    let mut chain = Chain::start(|_, site| site).await;
    assert_eq!(chain.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", 0))).await.0, "accept");
    chain.slapd = chain.slapd.restart().await;
    let (seen, trace) = gateway("breakwater", chain.radius)
        .log_in("ines", &format!("barnacle-and-buoy{}", code("ines", 1)))
        .await
        .map(|(exchange, local)| (outcome(&exchange), local))
        .unwrap();
    assert_eq!(seen, "accept", "{:#}", chain.service.trace_from(trace).await);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_probe_of_openldap_knows_its_kind_its_tls_and_its_groups() {
    let chain = Chain::start(|_, site| site).await;
    let probe =
        |person: &'static str| chain.service.call("POST", "/directories/tidehall/probe", Some(serde_json::json!({ "person": person })));
    let (_, servers) = probe("yuki").await;
    let said = |piece: &str| {
        servers[0]["lines"]
            .as_array()
            .unwrap()
            .iter()
            .find(|line| line["piece"] == piece)
            .map(|line| (line["state"].clone(), line["said"].as_str().unwrap().to_owned()))
            .unwrap()
    };
    assert!(
        said("kind").1.starts_with("OpenLDAP, holds dc=northmoor,dc=example; supports the password policy control"),
        "{:?}",
        said("kind")
    );
    assert!(said("tls").0 == "good" && said("tls").1.contains("certificate for 127.0.0.1, localhost"), "{:?}", said("tls"));
    assert_eq!(
        (said("person").1.as_str(), said("groups").1.as_str()),
        ("yuki is uid=yuki,ou=people,dc=northmoor,dc=example", "turbine-crew")
    );
    assert!(said("limits").1.starts_with("7 entries"), "{:?}", said("limits"));
}

/// Two prompts, each answered; what comes back at the end.
async fn change(chain: &Chain, name: &str, password: &str, answers: &[&str]) -> (String, Vec<String>, Value) {
    let breakwater = gateway("breakwater", chain.radius);
    let (mut last, mut local) = breakwater.log_in(name, &format!("{password}{}", code(name, 0))).await.unwrap();
    let mut prompts = Vec::new();
    for answer in answers {
        let attributes = last.reply.iter().flat_map(|reply| &reply.attributes);
        let prompt = attributes.filter(|(kind, _)| *kind == AttributeType::ReplyMessage).map(|(_, value)| text(value)).collect();
        prompts.push(prompt);
        (last, local) = breakwater.answer(name, answer, &last).await.unwrap();
    }
    (outcome(&last), prompts, chain.service.trace_from(local).await)
}

#[tokio::test(flavor = "multi_thread")]
async fn an_expired_password_is_changed_while_logging_in_and_the_new_one_counts_at_once() {
    let chain = Chain::start(|_, site| {
        site.replacen("client_patience = \"60s\"", "shows_challenges = true", 1).replacen(
            "when_unclear = \"code\"",
            "when_unclear = \"code\"\nchange_password = true",
            1,
        )
    })
    .await;
    // Expired altogether: the service account sets it, with the old one as proof. Must change: the person's own bind does.
    for (name, old, new) in [("tomasz", "ebb before flood", "spring tide at noon"), ("yuki", "swell204813", "neap tide at dawn")] {
        let (seen, prompts, trace) = change(&chain, name, old, &["short", "short", new, new]).await;
        assert_eq!(seen, "accept", "{name}: {trace:#}");
        assert_eq!(
            prompts,
            [
                "Your password has expired. Enter a new password:",
                "Repeat the new password:",
                "Password not accepted: it is too short. Enter another one:",
                "Repeat the new password:"
            ]
        );
        let (seen, trace) = chain.log_in("breakwater", name, &format!("{new}{}", code(name, 1))).await;
        assert_eq!(seen, "accept", "{name}: {trace:#}");
        let all = format!("{trace}{}", chain.service.log());
        assert!(!all.contains(new) && !all.contains(old), "no password shows anywhere");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_that_the_directory_does_not_permit_says_whose_permission_is_missing() {
    let mut chain = Chain::start(|_, site| {
        let site = site.replacen("client_patience = \"60s\"", "shows_challenges = true", 1);
        site.replacen("when_unclear = \"code\"", "when_unclear = \"code\"\nchange_password = true", 1)
    })
    .await;
    let file = chain.slapd.folder.join("slapd.conf");
    let permitted = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, permitted.replace("by self =xw", "by self =x").replacen("\" =xw by anonymous", "\" =x by anonymous", 1)).unwrap();
    chain.slapd = chain.slapd.restart().await;
    for (name, old, who) in [
        ("tomasz", "ebb before flood", "the service account cn=bivector,ou=services,dc=northmoor,dc=example"),
        ("yuki", "swell204813", "the person"),
    ] {
        let (seen, _, trace) = change(&chain, name, old, &["spring tide at noon", "spring tide at noon"]).await;
        assert_eq!((seen.as_str(), trace["cause"].as_str()), ("reject", Some("password-not-changed")), "{trace:#}");
        let wanted = format!("{who} lacks the permission to change this password");
        assert!(trace["steps"].to_string().contains(&wanted), "{wanted}: {trace:#}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_that_lives_on_grace_lets_in_and_says_so_to_the_person() {
    let chain = Chain::start(|_, site| {
        site.replacen("gateways = [\"breakwater\", \"slipway\"]", "gateways = [\"slipway\"]", 1)
            .replacen("gateways = [\"lantern\"]", "gateways = [\"breakwater\"]", 1)
            .replacen("client_patience = \"60s\"", "shows_challenges = true", 1)
            .replacen("when = { group = \"survey-contractors\" }\n", "", 1)
    })
    .await;
    let (exchange, local) = gateway("breakwater", chain.radius).log_in("pell", &format!("sounding-line{}", code("pell", 0))).await.unwrap();
    let trace = chain.service.trace_from(local).await;
    assert_eq!(outcome(&exchange), "accept", "{trace:#}");
    let told: String = exchange
        .reply
        .iter()
        .flat_map(|reply| &reply.attributes)
        .filter(|(kind, _)| *kind == AttributeType::ReplyMessage)
        .map(|(_, value)| text(value))
        .collect();
    assert!(told.contains("the password has expired; 2 more grace logins are left"), "{told}");
    assert!(trace["steps"].as_array().unwrap().iter().any(|step| step["tone"] == "warn" && step["what"] == "password"), "{trace:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn groups_of_groups_count_where_the_site_asks_for_them_by_attribute_and_by_search() {
    let grant = |site: String| site.replacen("when = { group = \"control-room\" }", "when = { group = \"night-watch\" }", 1);
    let chain = Chain::start(|_, site| grant(site)).await;
    let mut admin = chain.slapd.admin().await;
    // control-room is in night-watch, night-watch in control-room: a ring.
    let attributes = vec![
        ("objectClass".to_owned(), HashSet::from(["groupOfNames".to_owned()])),
        ("cn".to_owned(), HashSet::from(["night-watch".to_owned()])),
        ("member".to_owned(), HashSet::from([format!("cn=control-room,ou=groups,{BASE}")])),
    ];
    admin.add(&format!("cn=night-watch,ou=groups,{BASE}"), attributes).await.unwrap().success().unwrap();
    let ring = HashSet::from([format!("uid=ines,ou=people,{BASE}"), format!("cn=night-watch,ou=groups,{BASE}")]);
    admin
        .modify(&format!("cn=control-room,ou=groups,{BASE}"), vec![Mod::Replace("member".to_owned(), ring)])
        .await
        .unwrap()
        .success()
        .unwrap();
    let (_, trace) = chain.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", -1))).await;
    assert_eq!(trace["cause"], "no-rule", "nobody asked for nested groups: {trace:#}");
    let current = chain.service.get("/site").await["text"].as_str().unwrap().to_owned();
    for (offset, groups) in [
        (0, "{ from = \"memberOf\", nested = true }"),
        (1, "{ from = \"search\", base = \"ou=groups,dc=northmoor,dc=example\", nested = true }"),
    ] {
        let (status, body) = chain.service.apply(&current.replace("{ from = \"memberOf\" }", groups)).await;
        assert_eq!(status, 201, "{body}");
        let (seen, trace) = chain.log_in("breakwater", "ines", &format!("barnacle-and-buoy{}", code("ines", offset))).await;
        assert_eq!(seen, "accept", "{groups}: {trace:#}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_account_that_is_locked_or_deleted_while_a_prompt_is_open_gets_in_by_no_answer() {
    let chain = Chain::start(|_, site| site.replacen("client_patience = \"60s\"", "shows_challenges = true", 1)).await;
    let gateway = gateway("breakwater", chain.radius);
    let dn = format!("uid=ines,ou=people,{BASE}");
    for (became, cause) in [("locked", "account-locked"), ("deleted", "person-unknown")] {
        let (asked, local) = gateway.log_in("ines", "barnacle-and-buoy").await.unwrap();
        assert_eq!(outcome(&asked), "Access-Challenge", "{:#}", chain.service.trace_from(local).await);
        let mut admin = chain.slapd.admin().await;
        let done = match became {
            "locked" => {
                let for_ever = HashSet::from(["000001010000Z"]);
                admin.modify(&dn, vec![Mod::Replace("pwdAccountLockedTime", for_ever)]).await
            }
            _ => admin.delete(&dn).await,
        };
        done.unwrap().success().unwrap();
        let (exchange, local) = gateway.answer("ines", &code("ines", 0), &asked).await.unwrap();
        assert_eq!((outcome(&exchange).as_str(), &chain.service.trace_from(local).await["cause"]), ("reject", &json!(cause)), "{became}");
        if became == "locked" {
            admin.modify(&dn, vec![Mod::Replace("pwdAccountLockedTime", HashSet::<&str>::new())]).await.unwrap().success().unwrap();
        }
    }
}
