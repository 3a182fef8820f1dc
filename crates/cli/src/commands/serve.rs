//! `bivector serve`

use crate::arguments::Serve;
use crate::failure::Failure;
use crate::output;
use bivector_service::Sync;
use bivector_service::{Options, start};
use std::io::IsTerminal;
use std::process::ExitCode;
use std::time::Duration;
use tokio::signal::unix::{Signal, SignalKind, signal};
use tracing_subscriber::EnvFilter;

/// How long logins in flight may take to end when the service is stopped.
const LAST_LOGINS: Duration = Duration::from_secs(20);

pub(crate) async fn run(serve: Serve) -> Result<ExitCode, Failure> {
    log_to_stderr("warn,bivector=info,bivector_service=info");
    // Before anything says that the service runs: a stop at that moment must be a polite one.
    let stop = Interrupt::listen();
    let sync = if serve.no_sync { Sync::Off } else { Sync::Full };
    let running = start(Options {
        key_file: serve.key_file,
        phones: serve.phones,
        tls: serve.tls_certificate.zip(serve.tls_key),
        names: serve.names,
        proxies: serve.proxies,
        sync,
        backup_stamp: serve.backup_stamp,
        ..Options::new(serve.data.clone(), serve.http)
    })
    .await?;
    let scheme = if running.encrypted { "https" } else { "http" };
    output::line(format!("console and API  {scheme}://{}", running.http));
    if let Some(phones) = running.phones {
        output::line(format!("handset page     {scheme}://{phones}/handset"));
    }
    for address in running.radius().await {
        output::line(format!("radius           {address}"));
    }
    if let Some(path) = &running.new_token_file {
        output::line(format!("first operator   the token is in {}", path.display()));
        output::line(format!(
            "try              bivector --server {scheme}://{} --token-file {} site apply SITE.toml",
            running.http,
            path.display()
        ));
    }
    if let Some(problem) = &running.problem {
        output::hint(format!("error: the latest revision is not active: {problem}\n help: {}", problem.remedy()));
    }
    match running.revision {
        _ if running.problem.is_some() => output::line("site             not active; fix it and apply it again"),
        Some(revision) => output::line(format!("site             revision {revision} is active")),
        None => output::line("site             none yet; RADIUS starts once one is applied"),
    }
    stop.received().await;
    tracing::info!("stopping: no new logins; those in flight get their answer");
    running.stop(LAST_LOGINS).await;
    Ok(ExitCode::SUCCESS)
}

/// A request to stop: SIGTERM or SIGINT, noticed from the moment this is made.
pub(crate) struct Interrupt {
    terminate: Option<Signal>,
    interrupt: Option<Signal>,
}

impl Interrupt {
    /// Takes over both signals. Until this is called, either of them ends the process at once.
    pub(crate) fn listen() -> Self {
        Interrupt { terminate: signal(SignalKind::terminate()).ok(), interrupt: signal(SignalKind::interrupt()).ok() }
    }

    /// Waits for the first of the two.
    pub(crate) async fn received(mut self) {
        tokio::select! {
            () = next(&mut self.terminate) => {}
            () = next(&mut self.interrupt) => {}
        }
    }
}

async fn next(signal: &mut Option<Signal>) {
    match signal {
        Some(signal) => drop(signal.recv().await),
        None => std::future::pending().await,
    }
}

/// Waits for SIGTERM or SIGINT.
pub(crate) async fn interrupted() {
    Interrupt::listen().received().await;
}

/// Logs go to standard error; BIVECTOR_LOG chooses how much, `usual` where it is not set.
pub(crate) fn log_to_stderr(usual: &str) {
    let filter = EnvFilter::try_from_env("BIVECTOR_LOG").unwrap_or_else(|_| EnvFilter::new(usual));
    // A second start in one process keeps the first one's log.
    let _ = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal())
        .try_init();
}
