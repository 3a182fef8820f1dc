//! One server of a directory with its connections: one shared for searches, some for checking passwords.

use super::standing::{Health, Member, Standing};
use super::trouble::{Doing, from_io, from_ldap, too_slow};
use bivector_core::Cause;
use bivector_core::login::Unavailable;
use bivector_core::probe::{RootEntry, is_active_directory};
use bivector_core::site::{Directory, Server};
use bivector_core::trace::Tone;
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
    /// When it last could not be opened, and why.
    failed: Option<(Instant, Unavailable)>,
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
            let mut ldap = self.connect().await?;
            if let Some((dn, password)) = account {
                bind_reader(&mut ldap, dn, password, answer_patience).await?;
            }
            self.learn_kind(&mut ldap, answer_patience).await;
            Ok::<(), Unavailable>(())
        };
        match looked.await {
            Ok(()) => self.standing.set_well(),
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

    /// The shared connection of the service account; `true` if it was opened just now.
    pub(super) async fn reader(
        &self,
        account: Option<(&str, &Secret<Vec<u8>>)>,
        answer_patience: Duration,
    ) -> Result<(Ldap, bool), Unavailable> {
        let asked = Instant::now();
        let mut reader = self.reader.lock().await;
        if let Some(ldap) = reader.ldap.as_mut()
            && !ldap.is_closed()
        {
            return Ok((ldap.clone(), false));
        }
        // Whoever waited while somebody else found it dead has waited for that answer too: a silent server costs a queue one wait.
        if let Some((_, why)) = reader.failed.as_ref().filter(|(at, _)| *at >= asked) {
            return Err(why.clone());
        }
        match self.open_reader(account, answer_patience).await {
            Ok(ldap) => {
                reader.ldap = Some(ldap.clone());
                Ok((ldap, true))
            }
            Err(why) => {
                reader.failed = Some((Instant::now(), why.clone()));
                Err(why)
            }
        }
    }

    async fn open_reader(&self, account: Option<(&str, &Secret<Vec<u8>>)>, answer_patience: Duration) -> Result<Ldap, Unavailable> {
        let mut ldap = self.connect().await?;
        if let Some((dn, password)) = account {
            bind_reader(&mut ldap, dn, password, answer_patience).await?;
        }
        Ok(ldap)
    }

    /// Forgets the shared connection, after it failed.
    pub(super) async fn forget_reader(&self) {
        self.reader.lock().await.ldap = None;
    }

    /// A connection for one password check. Waits for a turn, at most as long as an answer may take.
    pub(super) async fn binder(&self, answer_patience: Duration) -> Result<Binder<'_>, Unavailable> {
        let turn = match timeout(answer_patience, self.turns.acquire()).await {
            Ok(Ok(turn)) => turn,
            _ => return Err(Unavailable { cause: Cause::SourceSlow, seen: "all connections for checking passwords are busy".into() }),
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
        format!("the service account {dn} was refused: result {} ({})", result.rc, bivector_core::directory::describe_code(result.rc));
    Err(Unavailable { cause: bivector_core::directory::read_failure(result.rc), seen })
}
