//! One server of a directory with its connections: one shared for searches, some for checking passwords.

use super::standing::{Failure, Member, Standing};
use super::trouble::{Doing, from_io, from_ldap, too_slow};
use bivector_api::directories::Health;
use bivector_core::login::Unavailable;
use bivector_explain::probe::{RootEntry, is_active_directory};
use bivector_model::Cause;
use bivector_model::trace::Tone;
use bivector_site::{Directory, Server};
use bivector_wire::Secret;
use ldap3::{Ldap, LdapConnAsync, LdapConnSettings, LdapError, Scope, SearchEntry};
use rustls::ClientConfig;
use std::sync::atomic::{AtomicU8, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::{Mutex as AsyncMutex, Semaphore, SemaphorePermit};
use tokio::time::timeout;

/// One server.
#[derive(Debug)]
pub(super) struct ServerPool {
    server: Server,
    start_tls: bool,
    tls: Arc<ClientConfig>,
    connect_patience: Duration,
    /// An answer that takes longer is slow.
    hedge: Duration,
    /// Bound as the service account; the protocol lets many searches share it.
    reader: AsyncMutex<SharedReader>,
    /// Ready for checking passwords. A bind changes whom a connection belongs to, so each has one user at a time.
    idle: Mutex<Vec<Ldap>>,
    turns: Semaphore,
    /// Whether its root entry showed an Active Directory; 0 not looked at, 1 no, 2 yes.
    kind: AtomicU8,
    standing: Standing,
}

/// The connection that searches share.
#[derive(Debug, Default)]
struct SharedReader {
    ldap: Option<Ldap>,
    /// Which connection it is, counted from the first.
    number: u64,
    /// When it last could not be opened, and why.
    failed: Option<(Instant, Unavailable)>,
}

/// The shared connection, as one question has it.
pub(super) struct Reading {
    pub(super) ldap: Ldap,
    /// It was opened just now.
    pub(super) fresh: bool,
    number: u64,
}

/// A connection for one password check; goes back to the pool only if [`Binder::keep`] is called.
pub(super) struct Binder<'p> {
    pub(super) ldap: Ldap,
    pub(super) fresh: bool,
    pool: &'p ServerPool,
    _turn: SemaphorePermit<'p>,
}

impl ServerPool {
    pub(super) fn new(directory: &Directory, server: Server, tls: Arc<ClientConfig>) -> Self {
        ServerPool {
            standing: Standing::new(&server.url),
            kind: AtomicU8::new(0),
            server,
            start_tls: directory.start_tls,
            tls,
            connect_patience: directory.connect_patience,
            hedge: directory.hedge,
            reader: AsyncMutex::default(),
            idle: Mutex::new(Vec::new()),
            turns: Semaphore::new(directory.connections),
        }
    }

    pub(super) fn settings(&self) -> &Server {
        &self.server
    }

    /// What is known of it.
    pub(super) fn health(&self) -> Option<Health> {
        self.standing.health()
    }

    /// A look from outside the logins: a new connection, and the service account signed in.
    pub(super) async fn look(&self, account: Option<(&str, &Secret<Vec<u8>>)>, answer_patience: Duration) -> Option<Health> {
        let looked = async {
            let began = Instant::now();
            let mut ldap = self.connect().await?;
            let connected = began.elapsed();
            if let Some((dn, password)) = account {
                bind_reader(&mut ldap, dn, password, answer_patience).await?;
            }
            let signed_in = began.elapsed();
            self.learn_kind(&mut ldap, answer_patience).await;
            Ok::<Duration, Unavailable>(connected.max(signed_in - connected).max(began.elapsed() - signed_in))
        };
        match looked.await {
            Ok(longest) if longest > self.hedge => self.standing.set_slow(&format!("answers after {} ms", longest.as_millis())),
            Ok(_) => self.standing.set_well(),
            // A refused account is no reason to leave a server alone: it is refused on every one.
            Err(why) if why.cause == Cause::SourceReaderRefused => self.standing.note(Tone::Bad, Some(why.cause), &why.seen),
            Err(why) => {
                self.went_down();
                self.standing.set_down(&why)
            }
        }
    }

    /// Looks once at what kind of directory it is.
    async fn learn_kind(&self, ldap: &mut Ldap, patience: Duration) {
        if self.kind.load(Ordering::Relaxed) == 0
            && let Ok(root) = root_entry(ldap, patience).await
        {
            self.kind.store(1 + u8::from(is_active_directory(&root)), Ordering::Relaxed);
        }
    }

    /// Whether it is an Active Directory; asks its root entry if no look has told yet.
    pub(super) async fn is_active_directory(&self, ldap: &mut Ldap, patience: Duration) -> bool {
        self.learn_kind(ldap, patience).await;
        self.kind.load(Ordering::Relaxed) == 2
    }

    /// The shared connection of the service account.
    pub(super) async fn reader(
        &self,
        account: Option<(&str, &Secret<Vec<u8>>)>,
        answer_patience: Duration,
    ) -> Result<Reading, Unavailable> {
        let asked = Instant::now();
        let mut reader = self.reader.lock().await;
        let number = reader.number;
        if let Some(ldap) = reader.ldap.as_mut()
            && !ldap.is_closed()
        {
            return Ok(Reading { ldap: ldap.clone(), fresh: false, number });
        }
        // Whoever waited while somebody else found it dead has waited for that answer too: a silent server costs a queue one wait.
        if let Some((_, why)) = reader.failed.as_ref().filter(|(at, _)| *at >= asked) {
            return Err(why.clone());
        }
        match self.signed_in(account, answer_patience).await {
            Ok(ldap) => {
                reader.ldap = Some(ldap.clone());
                reader.number += 1;
                Ok(Reading { ldap, fresh: true, number: reader.number })
            }
            Err(why) => {
                reader.failed = Some((Instant::now(), why.clone()));
                Err(why)
            }
        }
    }

    /// A connection of its own, signed in as the service account.
    pub(super) async fn signed_in(
        &self,
        account: Option<(&str, &Secret<Vec<u8>>)>,
        answer_patience: Duration,
    ) -> Result<Ldap, Unavailable> {
        let mut ldap = self.connect().await?;
        if let Some((dn, password)) = account {
            bind_reader(&mut ldap, dn, password, answer_patience).await?;
        }
        Ok(ldap)
    }

    /// Forgets the shared connection after it failed, unless somebody has opened a newer one meanwhile.
    pub(super) async fn forget_reader(&self, failed: &Reading) {
        let mut reader = self.reader.lock().await;
        if reader.number == failed.number {
            reader.ldap = None;
        }
    }

    /// A connection for one password check. Waits for a turn, at most as long as an answer may take.
    pub(super) async fn binder(&self, answer_patience: Duration) -> Result<Binder<'_>, Failure> {
        let Ok(Ok(turn)) = timeout(answer_patience, self.turns.acquire()).await else {
            let why = Unavailable { cause: Cause::SourceSlow, seen: "all connections for checking passwords are busy".into() };
            return Err(Failure { ours: true, ..why.into() });
        };
        let idle = self.idle.lock().ok().and_then(|mut idle| idle.pop());
        if let Some(mut ldap) = idle
            && !ldap.is_closed()
        {
            return Ok(Binder { ldap, fresh: false, pool: self, _turn: turn });
        }
        let ldap = self.connect().await?;
        Ok(Binder { ldap, fresh: true, pool: self, _turn: turn })
    }

    /// A connection of its own, protected as the site says, nobody signed in.
    pub(super) async fn connect(&self) -> Result<Ldap, Unavailable> {
        let doing = Doing::Connecting(self.connect_patience);
        match timeout(self.connect_patience, self.open(doing)).await {
            Ok(opened) => opened,
            Err(_) => Err(too_slow(doing)),
        }
    }

    /// Where it is called: its address in the site file, unless a drill has put another server in its place.
    fn dialled(&self) -> String {
        let Server { tls, host, port, .. } = &self.server;
        let (scheme, host) = (if *tls { "ldaps" } else { "ldap" }, if host.contains(':') { format!("[{host}]") } else { host.clone() });
        format!("{scheme}://{host}:{port}")
    }

    async fn open(&self, doing: Doing) -> Result<Ldap, Unavailable> {
        // Resolved first, so that a name that does not resolve is told from a server that is down.
        let resolved = tokio::net::lookup_host((self.server.host.as_str(), self.server.port)).await.map(|mut found| found.next());
        match resolved {
            Ok(Some(_)) => {}
            Ok(None) => return Err(unresolved(&self.server.host, "no address")),
            Err(error) if error.kind() == std::io::ErrorKind::InvalidInput => return Err(from_io(&error, doing)),
            Err(error) => return Err(unresolved(&self.server.host, &error.to_string())),
        }
        let settings =
            LdapConnSettings::new().set_conn_timeout(self.connect_patience).set_starttls(self.start_tls).set_config(Arc::clone(&self.tls));
        let (connection, ldap) = LdapConnAsync::with_settings(settings, &self.dialled()).await.map_err(|error| from_ldap(&error, doing))?;
        tokio::spawn(async move {
            if let Err(error) = connection.drive().await {
                tracing::debug!(%error, "a directory connection ended");
            }
        });
        Ok(ldap)
    }
}

impl Member for ServerPool {
    fn url(&self) -> &str {
        &self.server.url
    }

    fn standing(&self) -> &Standing {
        &self.standing
    }

    /// Its idle connections are dead too.
    fn went_down(&self) {
        if let Ok(mut idle) = self.idle.lock() {
            idle.clear();
        }
    }
}

/// What a server shows of itself before anybody signs in (RFC 4512 section 5.1).
pub(super) async fn root_entry(ldap: &mut Ldap, patience: Duration) -> Result<RootEntry, LdapError> {
    // Both lists: `*` leaves out what a server counts as operational.
    let result = ldap.with_timeout(patience).search("", Scope::Base, "(objectClass=*)", vec!["*", "+"]).await?;
    Ok(result.0.into_iter().next().map(|entry| SearchEntry::construct(entry).attrs).unwrap_or_default())
}

impl Binder<'_> {
    /// Gives the connection back.
    pub(super) fn keep(self) {
        if let Ok(mut idle) = self.pool.idle.lock() {
            idle.push(self.ldap);
        }
    }
}

fn unresolved(host: &str, why: &str) -> Unavailable {
    Unavailable { cause: Cause::SourceNameUnresolved, seen: format!("`{host}` does not resolve: {why}") }
}

/// Signs a connection in as the service account.
pub(super) async fn bind_reader(ldap: &mut Ldap, dn: &str, password: &Secret<Vec<u8>>, patience: Duration) -> Result<(), Unavailable> {
    let password = std::str::from_utf8(password.expose()).map_err(|_| Unavailable {
        cause: Cause::SourceReaderRefused,
        seen: "the sealed password of the service account is not UTF-8".into(),
    })?;
    let result =
        ldap.with_timeout(patience).simple_bind(dn, password).await.map_err(|error| from_ldap(&error, Doing::Answering(patience)))?;
    if result.rc == 0 {
        return Ok(());
    }
    let seen =
        format!("the service account {dn} was refused: result {} ({})", result.rc, bivector_model::directory::describe_code(result.rc));
    Err(Unavailable { cause: bivector_model::directory::read_failure(result.rc), seen })
}
