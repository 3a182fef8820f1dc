//! Gathers what `core::doctor` judges.

use crate::api::Exposure;
use crate::operators::Operators;
use crate::server::Connections;
use bivector_api::operators::Role;
use bivector_api::push::PushState;
use bivector_engine::live::known;
use bivector_engine::shared::Shared;
use bivector_explain::doctor::{Advice, Facts, PushFacts, SECRET_BYTES, examine};
use bivector_site::{Finding, Site};
use bivector_store::ServiceError;
use bivector_store::folder::{TOKEN_FILE, wide_modes};
use bivector_store::records::{DeviceKind, RecordsError};
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, SystemTime};
use tokio::process::Command;
use tokio::time::timeout;

/// How long the system may take to say how its clock is.
const ASKED: Duration = Duration::from_secs(2);

/// Looks at everything and judges it.
///
/// # Errors
/// The records or the data folder cannot be read.
pub async fn review(
    shared: &Shared,
    operators: &Operators,
    connections: &Connections,
    exposure: &Exposure,
) -> Result<Vec<Advice>, ServiceError> {
    let live = shared.live.load_full();
    let known = known(&shared.records, &shared.roster, &shared.data)?;
    let number = live.as_ref().map_or(0, |live| live.revision);
    let text = shared.records.revision(number).await?.and_then(|revision| revision.text).unwrap_or_default();
    let findings = Site::read(&text, &known).1;
    let findings: Vec<_> = findings.into_iter().filter(Finding::warns).collect();
    let short = live.iter().flat_map(|live| live.site.gateways.iter().zip(&live.secrets)).filter_map(|(gateway, secret)| {
        let length = secret.current.length();
        (length < SECRET_BYTES).then(|| (gateway.name.clone(), length))
    });
    let (open, most) = connections.figures();
    let clock_synchronised = clock_synchronised().await;
    let health = live.iter().flat_map(|live| live.eap.issuers()).map(|issuer| issuer.health());
    let revocation = health.map(|issuer| (issuer.name, issuer.missing.or(issuer.responder.and_then(|one| one.failed)))).collect();
    let facts = Facts {
        operators: exposure.operators,
        phones: exposure.phones,
        encrypted: exposure.tls.is_some(),
        names: exposure.names.clone(),
        proxies: exposure.proxies.len(),
        wide_files: wide_files(&shared.data)?,
        key_beside_records: exposure.key_beside_records,
        first_token_left: shared.data.join(TOKEN_FILE).exists(),
        own_certificate_days: exposure.tls.as_deref().and_then(bivector_engine::sources::days_of),
        revocation,
        trust_days: known.certificates.into_iter().collect(),
        short_secrets: short.collect(),
        owners: operators.all().iter().filter(|operator| operator.role == Role::Own).count(),
        descriptors: exposure.descriptors,
        connections: (most, open),
        waits_for_disk: exposure.waits_for_disk,
        disk: disk(&shared.data),
        hash: shared.hashing.cost().await.ok(),
        records: (shared.records.health().failing(), shared.records.health().damage()),
        clock_synchronised,
        drifts: drifts(shared),
        push: push_facts(shared).await?,
        backup_hours: exposure.backup_stamp.as_deref().and_then(hours_since),
        backup_is_watched: exposure.backup_stamp.is_some(),
    };
    Ok(examine(&facts, live.as_ref().map(|live| &*live.site), &findings))
}

async fn push_facts(shared: &Shared) -> Result<PushFacts, RecordsError> {
    let people = shared.roster.all();
    let counts = |factor: &&bivector_store::records::FactorRow| factor.kind == DeviceKind::Handset && factor.settings.waits_for.is_none();
    let newest = shared.pusher.keys.all(shared).await?.first().map_or(0, |key| key.id);
    let rows = shared.records.all_pushes().await?;
    let subscribed = rows.iter().filter(|row| row.sealed.is_some());
    Ok(PushFacts {
        handsets: people.iter().flat_map(|person| &person.factors).filter(counts).count(),
        ready: rows.iter().filter(|row| row.state == PushState::Ready).count(),
        old_key: subscribed.filter(|row| row.key != newest).count(),
        closed: shared.pusher.gates.closed(),
    })
}

fn wide_files(data: &Path) -> Result<Vec<(String, u32)>, RecordsError> {
    let wide = wide_modes(data).map_err(|error| RecordsError(format!("`{}`: {error}", data.display())))?;
    Ok(wide.into_iter().map(|(path, mode)| (path.display().to_string(), mode)).collect())
}

/// Free bytes of the file system, and bytes of the records.
fn disk(data: &Path) -> Option<(u64, u64)> {
    let system = rustix::fs::statvfs(data).ok()?;
    let used = ["records.db", "records.db-wal"].iter().filter_map(|file| std::fs::metadata(data.join(file)).ok());
    Some((system.f_bavail.saturating_mul(system.f_frsize), used.map(|meta| meta.len()).sum()))
}

/// What the devices of people who log in say of our clock.
fn drifts(shared: &Shared) -> Vec<i64> {
    let people = shared.roster.all();
    let by_time = people.iter().flat_map(|person| &person.factors).filter(|factor| factor.kind.to_string() == "totp");
    by_time.map(|factor| shared.roster.state(factor)).filter(|state| state.last_used_us.is_some()).map(|state| state.drift).collect()
}

fn hours_since(stamp: &Path) -> Option<u64> {
    let at = std::fs::metadata(stamp).and_then(|meta| meta.modified()).ok()?;
    Some(SystemTime::now().duration_since(at).unwrap_or_default().as_secs() / 3600)
}

/// Asks the system, if it has anybody to ask.
async fn clock_synchronised() -> Option<bool> {
    let ask = |program: &'static str, arguments: &'static [&'static str]| async move {
        let mut command = Command::new(program);
        command.args(arguments).stdin(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
        let output = timeout(ASKED, command.output()).await.ok()?.ok().filter(|output| output.status.success())?;
        Some(String::from_utf8_lossy(&output.stdout).trim().to_owned())
    };
    if let Some(said) = ask("chronyc", &["-c", "tracking"]).await {
        // The third field from the end of the line is the leap status in words.
        return Some(!said.contains("Not synchronised"));
    }
    match ask("timedatectl", &["show", "--property=NTPSynchronized", "--value"]).await?.as_str() {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    }
}
