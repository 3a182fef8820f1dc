//! `bivector demo`: service and stand-ins in one process on loopback, with the Northmoor data.

mod cases;
mod codes;
mod world;

use crate::arguments::Demo;
use crate::commands::serve::{interrupted, log_to_stderr};
use crate::failure::Failure;
use crate::output;
use bivector_explain::run::RunState;
use cases::Played;
use std::process::ExitCode;
use std::time::Duration;
use world::World;

/// What the stand-in directory holds.
pub(crate) const DIRECTORY: &str = include_str!("../../../../demo/directory.toml");
/// What the stand-in upstream takes.
pub(crate) const UPSTREAM: &str = include_str!("../../../../demo/upstream.toml");
const SITE: &str = include_str!("../../../../demo/site.toml");
/// Personas and rehearsals: a part of the site file that the demo applies.
const EAP: &str = include_str!("../../../../demo/eap.toml");
const SESSIONS: &str = include_str!("../../../../demo/sessions.toml");
const REHEARSALS: &str = include_str!("../../../../demo/rehearsals.toml");
const PEOPLE: &str = include_str!("../../../../demo/people.csv");
const SECRETS: &str = include_str!("../../../../demo/secrets.toml");

/// Between two logins of the trickle.
const TRICKLE: Duration = Duration::from_secs(5);

pub(crate) async fn run(demo: Demo, json: bool) -> Result<ExitCode, Failure> {
    log_to_stderr("error");
    let mut world = World::start(&demo).await?;
    let played = cases::play(&mut world, |played| {
        if !json && !demo.once {
            announce(played)
        }
    })
    .await;
    let played = match played {
        Ok(played) => played,
        Err(failure) => {
            world.stop().await;
            return Err(failure);
        }
    };
    let rehearsed = world.rehearse().await?;
    let passed = rehearsed.iter().all(|run| run.state == RunState::Passed);
    let good = passed && played.iter().all(|played| played.as_expected);
    if json {
        output::json(&played);
    } else if demo.once {
        print_table(&played);
    }
    if !json {
        for run in &rehearsed {
            let mark = if run.state == RunState::Passed { output::paint("✓", "36") } else { output::paint("✕", "31") };
            output::line(format!("{mark} rehearsal {}: {} of {} logins as expected", run.rehearsal, run.passed, run.total));
        }
    }
    if !demo.once {
        stay(&mut world).await;
    }
    world.stop().await;
    Ok(if good { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn announce(played: &Played) {
    output::line(format!("  {} {:<34} {}", if played.as_expected { "✓" } else { "✕" }, played.login, played.seen()));
}

fn print_table(played: &[Played]) {
    let mut table = output::table(&["", "login", "via", "outcome", "cause", "took", "trace", "expected"]);
    for one in played {
        let mark = if one.as_expected { output::paint("✓", "36") } else { output::paint("✕", "31") };
        let expected = if one.as_expected { "as expected".to_owned() } else { format!("wanted {}", one.wanted()) };
        let outcome = output::outcome(one.outcome);
        table.add_row([
            mark,
            one.login.clone(),
            one.via.clone(),
            outcome,
            one.cause_slug().to_owned(),
            output::took(one.took_us),
            one.reference.clone(),
            expected,
        ]);
    }
    output::print_table(&table);
    for note in played.iter().filter_map(|one| one.note.as_ref()) {
        output::line(format!("  {note}"));
    }
    let good = played.iter().filter(|one| one.as_expected).count();
    output::line(format!("\n{good} of {} logins came out as expected", played.len()));
}

/// Prints how to look around, then keeps a slow trickle of logins going until interrupted.
async fn stay(world: &mut World) {
    output::line("");
    output::line(format!("console   {}", world.console_link()));
    output::line(format!("          or {} with the token in {}", world.server(), world.token_file().display()));
    output::line(format!("handset   {}   (`bivector factor invite odo` gives an invitation)", world.handset_page()));
    output::line(format!("radius    {}", world.radius()));
    output::line("try       in another terminal:");
    let reach = format!("export BIVECTOR_SERVER={} BIVECTOR_TOKEN_FILE={}", world.server(), world.token_file().display());
    output::line(format!("  {reach}"));
    output::line("  bivector trace list");
    output::line("  bivector directory probe tidehall --person ines");
    output::line("  bivector trace follow --person ines --for 10m");
    output::line("  bivector rehearse staff");
    output::line("  bivector rehearse causeway                (EAP-TTLS, and certificates with an approval)");
    output::line("  bivector session list                     (the quay's; `bivector session end NUMBER` ends one)");
    output::line("  bivector locate odo --via breakwater --without-password");
    output::line("  bivector login ines --via breakwater      (password barnacle-and-buoy, then a code; see the next line)");
    output::line(format!(
        "  the code of ines now is {}; a new one every 30 s, and those of the first minute are used",
        world.code_now("ines")
    ));
    output::line(format!("  bivector lab courier --read --http {}      (the codes that were sent)", world.courier.http()));
    output::line("end it with Ctrl-C");
    let trickle = async {
        let mut turn = 0;
        if let Err(failure) = world.begin_sessions().await {
            tracing::warn!(?failure, "the sessions of the quay could not begin");
        }
        loop {
            tokio::time::sleep(TRICKLE).await;
            if let Err(failure) = cases::trickle(world, turn).await {
                tracing::warn!(?failure, "a login of the trickle could not be sent");
            }
            world.go_on_with_sessions(turn as u64).await;
            turn += 1;
        }
    };
    tokio::select! {
        () = trickle => {}
        () = interrupted() => {}
    }
}
