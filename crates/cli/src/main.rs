//! The `bivector` command: starts the service, and speaks to a running one over its HTTP API.

/// Logins hand their traces to another thread, which frees them: this allocator does not mind.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

mod arguments;
mod client;
mod commands;
mod demo;

mod settings;

use arguments::{Arguments, Command};
use bivector_terminal::{failure, findings, output, waterfall};
use clap::Parser;
use failure::Failure;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    // The HTTP client asks for one even where it never speaks TLS; a second installation changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let runtime = match tokio::runtime::Builder::new_multi_thread().enable_all().build() {
        Ok(runtime) => runtime,
        Err(error) => {
            return Failure::no(format!("the runtime could not start: {error}"), "check this machine's resource limits").report(false);
        }
    };
    let json = arguments.global.json;
    let result = runtime.block_on(run(arguments));
    // Blocking reads of a terminal would keep the process alive.
    runtime.shutdown_background();
    match result {
        Ok(code) => code,
        Err(failure) => failure.report(json),
    }
}

async fn run(arguments: Arguments) -> Result<ExitCode, Failure> {
    let global = arguments.global;
    match arguments.command {
        Command::Serve(serve) => commands::serve::run(serve).await,
        Command::Demo(demo) => demo::run(demo, global.json).await,
        Command::Site(site) => commands::site::run(site, &global).await,
        Command::Secret(secret) => commands::secret::run(secret, &global).await,
        Command::Gateway(gateway) => commands::gateway::run(gateway, &global).await,
        Command::Directory(directory) => commands::directory::run(directory, &global).await,
        Command::Upstream(upstream) => commands::upstream::run(upstream, &global).await,
        Command::Chain(chain) => commands::chain::run(chain, &global).await,
        Command::Operator(operator) => commands::operator::run(operator, &global).await,
        Command::Audit(audit) => commands::audit::run(audit, &global).await,
        Command::Person(person) => commands::person::run(person, &global).await,
        Command::Factor(factor) => commands::factor::run(factor, &global).await,
        Command::Push(push) => commands::push::run(push, &global).await,
        Command::Read(read) => commands::read::run(read, &global).await,
        Command::Doctor => commands::doctor::run(&global).await,
        Command::Session(session) => commands::session::run(session, &global).await,
        Command::Login(login) => commands::login::run(login, &global).await,
        Command::Rehearse(rehearse) => commands::rehearse::run(rehearse, &global).await,
        Command::Locate(locate) => commands::locate::run(locate, &global).await,
        Command::Who(who) => commands::who::run(who, &global).await,
        Command::Rule(rule) => commands::rule::run(rule, &global).await,
        Command::Budget(budget) => commands::budget::run(budget, &global).await,
        Command::Drill(drill) => commands::drill::run(drill, &global).await,
        Command::Trace(trace) => commands::trace::run(trace, &global).await,
        Command::Lab(lab) => commands::lab::run(lab, &global).await,
        Command::ApiDescription => {
            output::line(bivector_service::description());
            Ok(ExitCode::SUCCESS)
        }
        Command::Completions { shell } => {
            // Into memory first: a reader that leaves early, such as `head`, must not end in a panic.
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut <Arguments as clap::CommandFactory>::command(), "bivector", &mut script);
            output::line(String::from_utf8_lossy(&script).trim_end());
            Ok(ExitCode::SUCCESS)
        }
    }
}
