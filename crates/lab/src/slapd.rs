//! A real OpenLDAP server for measurements: a private instance on loopback, in a folder of its own, and what it can do by itself.

use crate::entries::{DirectoryPerson, ServiceAccount, person_dn};
use crate::load::{Measured, Pace};
use ldap3::{Ldap, LdapConnAsync, Scope};
use std::collections::HashMap;
use std::fmt::Write as _;
use std::fs;
use std::io;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

const SLAPADD: &str = "/usr/sbin/slapadd";
const SLAPPASSWD: &str = "/usr/sbin/slappasswd";
const SLAPD: &str = "/usr/sbin/slapd";

/// A running server. Dropped, it ends.
#[derive(Debug)]
pub struct RealDirectory {
    child: Child,
    address: SocketAddr,
    base: String,
}

impl RealDirectory {
    /// Loads people and service accounts, and starts it on a free port. People's passwords are kept as given, or under a slow hash.
    ///
    /// # Errors
    /// OpenLDAP is not installed, or says no.
    pub fn start(folder: &Path, base: &str, services: &[ServiceAccount], people: &[DirectoryPerson], hashed: bool) -> io::Result<Self> {
        fs::create_dir_all(folder.join("db"))?;
        let config = folder.join("slapd.conf");
        fs::write(&config, config_text(folder, base))?;
        let ldif = folder.join("people.ldif");
        fs::write(&ldif, ldif_text(base, services, &kept_passwords(people, hashed)?))?;
        let added = Command::new(SLAPADD).args(["-q", "-f"]).arg(&config).arg("-l").arg(&ldif).output()?;
        if !added.status.success() {
            return Err(io::Error::other(String::from_utf8_lossy(&added.stderr).into_owned()));
        }
        let address = TcpListener::bind("127.0.0.1:0")?.local_addr()?;
        let child =
            Command::new(SLAPD).args(["-d", "0", "-h", &format!("ldap://{address}"), "-f"]).arg(&config).stderr(Stdio::null()).spawn()?;
        let started = RealDirectory { child, address, base: base.to_owned() };
        for _ in 0..200 {
            if TcpStream::connect(address).is_ok() {
                return Ok(started);
            }
            std::thread::sleep(Duration::from_millis(25));
        }
        Err(io::Error::new(io::ErrorKind::TimedOut, "slapd did not start within 5 seconds"))
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Ends it, as a server that dies.
    pub fn stop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    /// Binds as these people again and again over `parallel` connections: what the server gives without anybody between.
    ///
    /// # Errors
    /// A connection failed.
    pub async fn binds(&self, people: &[DirectoryPerson], parallel: usize, limit: Duration) -> io::Result<Measured> {
        self.ask(people, parallel, limit, None, None).await
    }

    /// Searches and binds as a login needs it, so many a second over all connections: the time that a login cannot go below.
    ///
    /// # Errors
    /// A connection failed.
    pub async fn searches_and_binds(
        &self,
        people: &[DirectoryPerson],
        parallel: usize,
        limit: Duration,
        service: &ServiceAccount,
        rate: f64,
    ) -> io::Result<Measured> {
        self.ask(people, parallel, limit, Some(service), Some(rate)).await
    }

    async fn ask(
        &self,
        people: &[DirectoryPerson],
        parallel: usize,
        limit: Duration,
        service: Option<&ServiceAccount>,
        rate: Option<f64>,
    ) -> io::Result<Measured> {
        let people: Arc<Vec<(String, String, String)>> = Arc::new(
            people.iter().map(|person| (person.uid.clone(), person_dn(&self.base, &person.uid), person.password.clone())).collect(),
        );
        let next = Arc::new(AtomicUsize::new(0));
        let mut connections = Vec::new();
        for _ in 0..parallel.max(1) {
            let mut reader = self.connect().await?;
            if let Some(service) = service {
                reader.simple_bind(&service.dn, &service.password).await.map_err(io::Error::other)?;
            }
            connections.push((self.connect().await?, reader));
        }
        let began = Instant::now();
        let pace = Pace::start(rate, limit);
        let mut workers = Vec::new();
        for (mut binder, mut reader) in connections {
            let (people, next, base, pace) = (Arc::clone(&people), Arc::clone(&next), self.base.clone(), pace.clone());
            let searches = service.is_some();
            workers.push(tokio::spawn(async move {
                let mut measured = Measured::new();
                while began.elapsed() < limit && pace.turn().await {
                    let turn = next.fetch_add(1, Ordering::Relaxed);
                    let Some((uid, dn, password)) = people.get(turn % people.len().max(1)) else { break };
                    let asked = Instant::now();
                    if searches {
                        let filter = format!("(uid={uid})");
                        let wanted = vec!["uid", "cn", "displayName", "memberOf"];
                        reader.search(&base, Scope::Subtree, &filter, wanted).await.map_err(io::Error::other)?;
                    }
                    let bound = binder.simple_bind(dn, password).await.map_err(io::Error::other)?;
                    measured.count(bound.rc == 0, asked.elapsed());
                }
                Ok::<_, io::Error>(measured)
            }));
        }
        Measured::gather(workers, began).await
    }

    async fn connect(&self) -> io::Result<Ldap> {
        let (connection, ldap) = LdapConnAsync::new(&format!("ldap://{}", self.address)).await.map_err(io::Error::other)?;
        tokio::spawn(async move {
            // Its end is seen by whoever asks over it.
            let _ = connection.drive().await;
        });
        Ok(ldap)
    }
}

impl Drop for RealDirectory {
    fn drop(&mut self) {
        self.stop();
    }
}

fn config_text(folder: &Path, base: &str) -> String {
    let folder: PathBuf = folder.to_owned();
    let folder = folder.display();
    format!(
        "include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\ninclude /etc/ldap/schema/inetorgperson.schema\n\
         modulepath /usr/lib/ldap\nmoduleload back_mdb\npidfile {folder}/slapd.pid\ndatabase mdb\nsuffix \"{base}\"\n\
         directory {folder}/db\ndbnosync\nmaxsize 268435456\nindex objectClass,uid eq\n\
         access to attrs=userPassword by anonymous auth by * none\naccess to * by users read by anonymous auth by * none\n"
    )
}

/// People with their passwords as the server keeps them.
fn kept_passwords(people: &[DirectoryPerson], hashed: bool) -> io::Result<Vec<DirectoryPerson>> {
    let mut hashes: HashMap<&str, String> = HashMap::new();
    let mut kept = people.to_vec();
    for (person, kept) in people.iter().zip(&mut kept).filter(|_| hashed) {
        let hash = match hashes.get(person.password.as_str()) {
            Some(hash) => hash.clone(),
            None => {
                let made = Command::new(SLAPPASSWD).args(["-h", "{CRYPT}", "-c", "$6$%.8s", "-s", &person.password]).output()?;
                hashes.entry(&person.password).or_insert(String::from_utf8_lossy(&made.stdout).trim().to_owned()).clone()
            }
        };
        kept.password = hash;
    }
    Ok(kept)
}

fn ldif_text(base: &str, services: &[ServiceAccount], people: &[DirectoryPerson]) -> String {
    let mut text = format!("dn: {base}\nobjectClass: dcObject\nobjectClass: organization\ndc: northmoor\no: Northmoor Tidal\n\n");
    for unit in ["people", "services"] {
        let _ = write!(text, "dn: ou={unit},{base}\nobjectClass: organizationalUnit\nou: {unit}\n\n");
    }
    for service in services {
        let name = service.dn.split(',').next().and_then(|first| first.strip_prefix("cn=")).unwrap_or("service");
        let _ = write!(
            text,
            "dn: {}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: {name}\nuserPassword: {}\n\n",
            service.dn, service.password
        );
    }
    for person in people {
        let (dn, uid, name) = (person_dn(base, &person.uid), &person.uid, &person.name);
        let _ =
            write!(text, "dn: {dn}\nobjectClass: inetOrgPerson\nuid: {uid}\ncn: {name}\nsn: {name}\nuserPassword: {}\n\n", person.password);
    }
    text
}
