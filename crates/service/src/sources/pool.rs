//! One server of a directory with its connections: one shared for searches, some for checking passwords.

use super::trouble::{Doing, from_io, from_ldap, too_slow};
use crate::clock;
use bivector_core::Cause;
use bivector_core::login::Unavailable;
use bivector_core::site::{Directory, Server};
use bivector_core::trace::Tone;
use bivector_wire::Secret;
use ldap3::{Ldap, LdapConnAsync, LdapConnSettings};
use rustls::ClientConfig;
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::{Mutex as AsyncMutex, Semaphore, SemaphorePermit};
use tokio::time::timeout;
use utoipa::ToSchema;

/// A server that could not be reached is asked last until a check finds it well, or for this long should no check come.
const LEFT_ALONE: Duration = Duration::from_secs(60);

/// One server.
#[derive(Debug)]
pub(super) struct ServerPool {
    server: Server,
    start_tls: bool,
    tls: Arc<ClientConfig>,
    connect_patience: Duration,
    /// Bound as the service account; the protocol lets many searches share it.
    reader: AsyncMutex<Option<Ldap>>,
    /// Ready for checking passwords. A bind changes whom a connection belongs to, so each has one user at a time.
    idle: Mutex<Vec<Ldap>>,
    turns: Semaphore,
    started: Instant,
    /// Milliseconds after `started` until which the server is asked last; 0 if it is well.
    down_until: AtomicU64,
    health: Mutex<Health>,
}

/// What is known of a server from checks and from logins.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// As it stands in the site file.
    pub server: String,
    /// `good`, `bad`, or `note` before the first look.
    pub state: Tone,
    /// Why, where it is bad.
    pub cause: Option<Cause>,
    /// What was seen.
    pub said: String,
    /// Since when it is so, in microseconds since 1970.
    pub since_us: u64,
    /// When it was looked at last.
    pub checked_us: u64,
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
        let (url, now) = (server.url.clone(), clock::now().micros());
        ServerPool {
            server,
            start_tls: directory.start_tls,
            tls,
            connect_patience: directory.connect_patience,
            reader: AsyncMutex::new(None),
            idle: Mutex::new(Vec::new()),
            turns: Semaphore::new(directory.connections),
            started: Instant::now(),
            down_until: AtomicU64::new(0),
            health: Mutex::new(Health {
                server: url,
                state: Tone::Note,
                cause: None,
                said: "not looked at yet".into(),
                since_us: now,
                checked_us: now,
            }),
        }
    }

    pub(super) fn url(&self) -> &str {
        &self.server.url
    }

    pub(super) fn settings(&self) -> &Server {
        &self.server
    }

    pub(super) fn is_down(&self) -> bool {
        self.started.elapsed().as_millis() as u64 <= self.down_until.load(Ordering::Relaxed).saturating_sub(1)
    }

    /// Notes that it could not be used; asked last from now on.
    pub(super) fn set_down(&self, why: &Unavailable) -> Option<Health> {
        let until = self.started.elapsed() + LEFT_ALONE;
        self.down_until.store(until.as_millis() as u64, Ordering::Relaxed);
        if let Ok(mut idle) = self.idle.lock() {
            idle.clear();
        }
        self.note(Tone::Bad, Some(why.cause), &why.seen)
    }

    /// Notes that it answered.
    pub(super) fn set_well(&self) -> Option<Health> {
        self.down_until.store(0, Ordering::Relaxed);
        self.note(Tone::Good, None, "answers")
    }

    /// What is known of it.
    pub(super) fn health(&self) -> Option<Health> {
        self.health.lock().ok().map(|health| health.clone())
    }

    /// Gives the new state where it differs from the one before.
    fn note(&self, state: Tone, cause: Option<Cause>, said: &str) -> Option<Health> {
        let mut health = self.health.lock().ok()?;
        let now = clock::now().micros();
        health.checked_us = now;
        if health.state == state && health.cause == cause {
            return None;
        }
        (health.state, health.cause, health.since_us) = (state, cause, now);
        said.clone_into(&mut health.said);
        Some(health.clone())
    }

    /// A look from outside the logins: a new connection, and the service account signed in.
    pub(super) async fn look(&self, account: Option<(&str, &Secret<Vec<u8>>)>, answer_patience: Duration) -> Option<Health> {
        let looked = async {
            let mut ldap = self.connect().await?;
            match account {
                Some((dn, password)) => bind_reader(&mut ldap, dn, password, answer_patience).await,
                None => Ok(()),
            }
        };
        match looked.await {
            Ok(()) => self.set_well(),
            // A refused account is no reason to leave a server alone: it is refused on every one.
            Err(why) if why.cause == Cause::SourceReaderRefused => self.note(Tone::Bad, Some(why.cause), &why.seen),
            Err(why) => self.set_down(&why),
        }
    }

    /// The shared connection of the service account; `true` if it was opened just now.
    pub(super) async fn reader(
        &self,
        account: Option<(&str, &Secret<Vec<u8>>)>,
        answer_patience: Duration,
    ) -> Result<(Ldap, bool), Unavailable> {
        let mut reader = self.reader.lock().await;
        if let Some(ldap) = reader.as_mut()
            && !ldap.is_closed()
        {
            return Ok((ldap.clone(), false));
        }
        let mut ldap = self.connect().await?;
        if let Some((dn, password)) = account {
            bind_reader(&mut ldap, dn, password, answer_patience).await?;
        }
        *reader = Some(ldap.clone());
        Ok((ldap, true))
    }

    /// Forgets the shared connection, after it failed.
    pub(super) async fn forget_reader(&self) {
        *self.reader.lock().await = None;
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
        let (connection, ldap) =
            LdapConnAsync::with_settings(settings, &self.server.url).await.map_err(|error| from_ldap(&error, doing))?;
        tokio::spawn(async move {
            if let Err(error) = connection.drive().await {
                tracing::debug!(%error, "a directory connection ended");
            }
        });
        Ok(ldap)
    }
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
