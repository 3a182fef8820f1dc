//! A change of the site: checked, prepared as a whole, then swapped at once. What cannot work stops it before anything changes.

use crate::confirm::awaiting;
use bivector_api::events::Event;
use bivector_api::site::AppliedView;
use bivector_doors::accounting::AccountingDoor;
use bivector_doors::radius::RadiusDoor;
use bivector_engine::live::{LiveSite, known};
use bivector_engine::shared::Shared;
use bivector_explain::run::{Run, RunState};
use bivector_model::Cause;
use bivector_prove::rehearsal::{self, Asked, PARALLEL};
use bivector_site::{Difference, Finding, Site, compare};
use bivector_store::clock;
use bivector_store::error::ServiceError;
use bivector_store::records::{Changed, Changes, Cursor};
use futures_util::future::join_all;
use std::net::SocketAddr;
use std::sync::{Arc, Weak};
use std::time::Duration;
use tokio::sync::{Mutex, broadcast};

/// How often directory servers are looked at.
const LOOK_EVERY: Duration = Duration::from_secs(10);
/// How often host names of gateways are resolved.
const RESOLVE_EVERY: Duration = Duration::from_secs(60);
/// How often it is looked whether the certificate of EAP has changed, and whether a revocation list is due.
const CERTIFICATES_EVERY: Duration = Duration::from_secs(5);
/// How long a closed door's logins in flight may take to end.
const LAST_LOGINS: Duration = Duration::from_secs(10);

/// The doors that are open, and the right to change the site: one change at a time.
#[derive(Debug, Default)]
pub struct Doors {
    open: Mutex<OpenDoors>,
    /// How far the active site has followed the change feed.
    followed: Cursor,
}

/// What became of an apply.
#[derive(Debug, Clone)]
pub struct Applied {
    /// The new revision's number.
    pub revision: u64,
    /// Warnings of the check, and things that did not stop it.
    pub findings: Vec<Finding>,
    /// Sources that could not be reached while it was applied, each with what was seen.
    pub unreachable: Vec<String>,
    /// What differs from the revision before.
    pub differences: Vec<Difference>,
    /// The run that proved it.
    pub proved: Option<Run>,
}

impl From<Applied> for AppliedView {
    fn from(applied: Applied) -> Self {
        AppliedView {
            revision: applied.revision,
            findings: applied.findings,
            unreachable: applied.unreachable,
            differences: applied.differences,
            until_us: None,
            proved: applied.proved,
        }
    }
}

/// A change as an operator asks for it.
#[derive(Debug, Clone)]
pub struct Change {
    /// The site file.
    pub text: String,
    /// Who asks.
    pub operator: String,
    /// What for.
    pub note: String,
    /// The revision it was made from, if that matters: another active revision means that somebody was faster.
    pub expected: Option<u64>,
    /// Whether it may make logging in weaker.
    pub weaker_is_meant: bool,
    /// Whether it may take the place of a revision that waits to be confirmed.
    pub while_unconfirmed: bool,
    /// A rehearsal of the change itself that must pass before anybody's login is decided by it.
    pub prove: Option<String>,
}

impl Doors {
    /// Applies a change.
    ///
    /// # Errors
    /// Findings of the check, a door that cannot bind, a refused service account, or a faster operator. Nothing is changed then.
    pub async fn apply(&self, change: Change, shared: &Arc<Shared>) -> Result<Applied, ServiceError> {
        let mut open = self.open.lock().await;
        let current = shared.live.load().as_ref().map_or(0, |live| live.revision);
        if let Some(expected) = change.expected.filter(|expected| *expected != current) {
            return Err(ServiceError::RevisionMoved { current, expected });
        }
        if let Some(waiting) = awaiting(shared)?.filter(|waiting| waiting.revision == current && !change.while_unconfirmed) {
            return Err(ServiceError::Unconfirmed { revision: waiting.revision, back_to: waiting.back_to });
        }
        let (site, findings) = Site::read(&change.text, &known(&shared.records, &shared.roster, &shared.data)?);
        let site = site.ok_or_else(|| ServiceError::Site(findings.clone()))?;
        let differences = shared.live.load().as_ref().map(|live| compare(&live.site, &site)).unwrap_or_default();
        if differences.iter().any(|one| one.weaker) && !change.weaker_is_meant {
            return Err(ServiceError::Weaker(differences.into_iter().filter(|one| one.weaker).collect()));
        }
        let mut live = LiveSite::prepare(site, 0, &shared.records, &shared.seal, &shared.data)?;
        let proved = match &change.prove {
            Some(rehearsal) => {
                let (proved, run) = prove(live, rehearsal, &change.operator, shared).await?;
                live = proved;
                Some(run)
            }
            None => None,
        };
        let (doors, new) = open_doors(&open, &live, shared)?;
        let unreachable = match try_readers(&live).await {
            Ok(unreachable) => unreachable,
            Err(error) => {
                close_all(new);
                return Err(error);
            }
        };
        live.revision = shared.records.add_revision(change.text, change.operator, change.note, clock::now()).await?;
        let revision = live.revision;
        put_in_force(live, doors, &mut open, shared);
        Ok(Applied { revision, findings, unreachable, differences, proved })
    }

    /// Activates the newest revision at start. Its directories may be down: logins will say so.
    ///
    /// # Errors
    /// It no longer passes the check, or a door cannot bind.
    pub async fn restore_newest(&self, shared: &Arc<Shared>) -> Result<Option<u64>, ServiceError> {
        self.followed.skip_to(shared.records.newest_change()).await;
        self.restore(shared).await
    }

    /// Brings the active site up to date with every revision and every secret that was committed before this call, whoever did it.
    ///
    /// # Errors
    /// It no longer passes the check, a secret no longer opens, or a door cannot bind. What was active stays so.
    pub async fn follow(&self, shared: &Arc<Shared>) -> Result<(), ServiceError> {
        let apply = async |changes: &Changes| {
            let secrets = changes.incomplete || changes.changed.contains(&Changed::Secrets);
            if secrets || changes.changed.contains(&Changed::Revision) {
                let newest = shared.records.newest_revision()?.map(|newest| newest.number);
                let current = shared.live.load().as_ref().map(|live| live.revision);
                if secrets || newest != current {
                    self.restore(shared).await?;
                }
            }
            Ok(())
        };
        self.followed.catch_up(&shared.records, apply).await
    }

    async fn restore(&self, shared: &Arc<Shared>) -> Result<Option<u64>, ServiceError> {
        let mut open = self.open.lock().await;
        let Some(newest) = shared.records.newest_revision()? else { return Ok(None) };
        let (site, findings) =
            Site::read(newest.text.as_deref().unwrap_or_default(), &known(&shared.records, &shared.roster, &shared.data)?);
        let site = site.ok_or(ServiceError::Site(findings))?;
        let live = LiveSite::prepare(site, newest.number, &shared.records, &shared.seal, &shared.data)?;
        let (doors, _) = open_doors(&open, &live, shared)?;
        put_in_force(live, doors, &mut open, shared);
        Ok(Some(newest.number))
    }

    /// Where the doors listen.
    pub async fn addresses(&self) -> Vec<SocketAddr> {
        self.open.lock().await.logins.iter().map(|door| door.address()).collect()
    }

    /// Where reports of sessions are received.
    pub async fn accounting(&self) -> Vec<SocketAddr> {
        self.open.lock().await.accounting.iter().map(|door| door.address()).collect()
    }

    /// Stops receiving and waits for the logins in flight, at most for `limit`.
    pub async fn close(&self, limit: Duration) {
        let doors = std::mem::take(&mut *self.open.lock().await);
        for door in doors.logins {
            door.close(limit).await;
        }
        for door in doors.accounting {
            door.close().await;
        }
    }
}

/// Sockets that are open.
#[derive(Debug, Default)]
struct OpenDoors {
    logins: Vec<Arc<RadiusDoor>>,
    accounting: Vec<Arc<AccountingDoor>>,
}

/// The doors of a site: those that are open already, and new ones. Gives all, and the new ones apart.
fn open_doors(open: &OpenDoors, live: &LiveSite, shared: &Arc<Shared>) -> Result<(OpenDoors, OpenDoors), ServiceError> {
    let (mut doors, mut new) = (OpenDoors::default(), OpenDoors::default());
    match open_all(open, live, shared, &mut doors, &mut new) {
        Ok(()) => Ok((doors, new)),
        Err(error) => {
            close_all(new);
            Err(error)
        }
    }
}

fn open_all(
    open: &OpenDoors,
    live: &LiveSite,
    shared: &Arc<Shared>,
    doors: &mut OpenDoors,
    new: &mut OpenDoors,
) -> Result<(), ServiceError> {
    let settings = &live.site.radius;
    for address in &settings.listen {
        let door = match open.logins.iter().find(|door| door.address() == *address) {
            Some(door) => Arc::clone(door),
            None => {
                let door = Arc::new(RadiusDoor::open(*address, settings.logins_in_flight, settings.replies_kept, shared)?);
                new.logins.push(Arc::clone(&door));
                door
            }
        };
        doors.logins.push(door);
    }
    for address in &settings.accounting {
        let door = match open.accounting.iter().find(|door| door.address() == *address) {
            Some(door) => Arc::clone(door),
            None => {
                let door = Arc::new(AccountingDoor::open(*address, shared)?);
                new.accounting.push(Arc::clone(&door));
                door
            }
        };
        doors.accounting.push(door);
    }
    Ok(())
}

/// Runs a rehearsal of a site that is not active: its logins are decided by it, nobody else's are.
async fn prove(live: LiveSite, rehearsal: &str, operator: &str, shared: &Arc<Shared>) -> Result<(LiveSite, Run), ServiceError> {
    let Some(found) = live.site.rehearsals.iter().find(|own| own.name == rehearsal).cloned() else {
        let names: Vec<&str> = live.site.rehearsals.iter().map(|rehearsal| rehearsal.name.as_str()).collect();
        return Err(ServiceError::Refused {
            what: format!("unknown rehearsal `{rehearsal}` in the site that is to be proved"),
            remedy: if names.is_empty() {
                "`bivector rehearse --starter CHAIN` writes a first one".to_owned()
            } else {
                format!("known: {}", names.join(", "))
            },
        });
    };
    let live = Arc::new(live);
    let asked = Asked {
        rehearsal: found,
        live: Arc::clone(&live),
        draft: true,
        operator: operator.to_owned(),
        repeat: 1,
        parallel: PARALLEL,
        without: None,
    };
    let run = rehearsal::run(shared, asked).await?;
    if run.state != RunState::Passed {
        return Err(ServiceError::NotProved(Box::new(run)));
    }
    // The doors of the run are closed; a login that one of them still ends holds no more than a copy of its own.
    let live = Arc::try_unwrap(live).unwrap_or_else(|live| live.with_site((*live.site).clone()));
    Ok((live, run))
}

/// A refused service account stops an apply; a server that is down does not, since it may come back.
async fn try_readers(live: &LiveSite) -> Result<Vec<String>, ServiceError> {
    let mut unreachable = Vec::new();
    for directory in &live.directories {
        match directory.try_reader().await {
            Ok(()) => {}
            Err(why) if why.cause == Cause::SourceReaderRefused => {
                return Err(ServiceError::Directory {
                    directory: directory.name().to_owned(),
                    why: why.seen,
                    remedy: why.cause.remedy().to_owned(),
                });
            }
            Err(why) => unreachable.push(format!("{}: {} ({})", directory.name(), why.seen, why.cause)),
        }
    }
    Ok(unreachable)
}

fn put_in_force(live: LiveSite, doors: OpenDoors, open: &mut OpenDoors, shared: &Arc<Shared>) {
    let revision = live.revision;
    if let Some(before) = shared.live.load().as_ref() {
        live.inherit(before);
    }
    let live = Arc::new(live);
    watch(&live, shared);
    shared.hashing.configure(live.site.passwords.hash);
    shared.live.store(Some(live));
    let mut before = std::mem::replace(open, doors);
    before.logins.retain(|door| !open.logins.iter().any(|kept| Arc::ptr_eq(kept, door)));
    before.accounting.retain(|door| !open.accounting.iter().any(|kept| Arc::ptr_eq(kept, door)));
    close_all(before);
    let _ = shared.events.send(Event::Site { revision });
    tracing::info!(revision, "the site is active");
}

fn watch(live: &Arc<LiveSite>, shared: &Shared) {
    tokio::spawn(watch_sources(Arc::downgrade(live), shared.events.clone()));
    tokio::spawn(watch_names(Arc::downgrade(live)));
    tokio::spawn(watch_certificates(Arc::downgrade(live)));
}

/// Looks at every server of every source again and again, until this site is no longer active and its last login has ended.
async fn watch_sources(live: Weak<LiveSite>, events: broadcast::Sender<Event>) {
    let mut pace = tokio::time::interval(LOOK_EVERY);
    loop {
        pace.tick().await;
        let Some(live) = live.upgrade() else { return };
        let directories = live.directories.iter().map(async |directory| (directory.name().to_owned(), directory.look().await));
        let upstreams = live.upstreams.iter().map(async |upstream| (upstream.name().to_owned(), upstream.look().await));
        let (directories, upstreams) = tokio::join!(join_all(directories), join_all(upstreams));
        for (source, changed) in directories.into_iter().chain(upstreams) {
            for health in changed {
                tracing::info!(source, server = health.server, state = ?health.state, said = health.said, "a server changed");
                // Nobody listening is no error.
                let _ = events.send(Event::Server { source: source.clone(), health });
            }
        }
    }
}

/// Resolves the gateways' host names again and again.
async fn watch_names(live: Weak<LiveSite>) {
    let mut pace = tokio::time::interval(RESOLVE_EVERY);
    loop {
        pace.tick().await;
        let Some(live) = live.upgrade() else { return };
        live.resolve_gateways().await;
    }
}

/// Takes over changed certificates and revocation lists of EAP, again and again.
async fn watch_certificates(live: Weak<LiveSite>) {
    let mut pace = tokio::time::interval(CERTIFICATES_EVERY);
    loop {
        pace.tick().await;
        let Some(live) = live.upgrade() else { return };
        live.eap.refresh().await;
    }
}

fn close_all(doors: OpenDoors) {
    for door in doors.logins {
        tokio::spawn(async move { door.close(LAST_LOGINS).await });
    }
    for door in doors.accounting {
        tokio::spawn(async move { door.close().await });
    }
}
