//! A budget as bars on one time axis, in the terminal.

use crate::output;
use bivector_timing::budget::{Hop, HopKind, PathBudget, Stage, StageKind};

/// Columns before the bars.
const NAMES: usize = 30;
/// Columns behind the bars.
const FIGURES: usize = 26;

/// How long gateway and client wait, each with its margin.
pub(super) fn waits(path: &PathBudget) -> [String; 4] {
    let of = |kind: HopKind| path.hops.iter().find(|hop| hop.kind == kind);
    let wait = |hop: Option<&Hop>| match hop {
        Some(hop) if hop.tries > 1 => format!("{} × {}", hop.tries, output::took(hop.wait_us)),
        Some(hop) => output::took(hop.wait_us),
        None => "not known".to_owned(),
    };
    let (gateway, client) = (of(HopKind::Gateway), of(HopKind::Client));
    [wait(gateway), gateway.map_or(String::new(), margin), wait(client), client.map_or(String::new(), margin)]
}

fn margin(hop: &Hop) -> String {
    let share = format!("{:+.0} %", hop.margin * 100.0);
    if hop.margin < 0.0 { output::paint(&format!("{share} ✕"), "31") } else { share }
}

/// The paths to draw: those of a way, or of each gateway the one with the least margin.
pub(super) fn chosen<'p>(paths: &'p [PathBudget], way: Option<&str>) -> Vec<&'p PathBudget> {
    if let Some(way) = way {
        return paths.iter().filter(|path| path.way == way).collect();
    }
    let tight = |path: &&PathBudget| path.hops.iter().map(|hop| hop.margin).fold(f64::INFINITY, f64::min);
    let mut drawn: Vec<&PathBudget> = Vec::new();
    for path in paths {
        let of_gateway = paths.iter().filter(|other| other.gateway == path.gateway);
        let tightest = of_gateway.min_by(|one, other| tight(one).total_cmp(&tight(other)).then(other.worst_us.cmp(&one.worst_us)));
        if let Some(tightest) = tightest
            && !drawn.iter().any(|drawn| drawn.gateway == tightest.gateway)
        {
            drawn.push(tightest);
        }
    }
    drawn
}

struct Axis {
    columns: usize,
    end_us: u64,
}

impl Axis {
    fn column(&self, us: u64) -> usize {
        ((us as f64 / self.end_us.max(1) as f64) * self.columns as f64).round() as usize
    }

    /// A bar from one moment to another, at least one column wide.
    fn bar(&self, from_us: u64, to_us: u64, fill: &str) -> (String, usize) {
        let (from, to) = (self.column(from_us).min(self.columns - 1), self.column(to_us));
        let to = to.clamp(from + 1, self.columns.max(from + 1));
        (format!("{}{}", " ".repeat(from), fill.repeat(to - from)), to)
    }
}

/// Draws one way: what waits in front, and under it what it waits for.
pub(super) fn draw(path: &PathBudget) {
    let axis = Axis { columns: output::width().saturating_sub(NAMES + FIGURES).max(24), end_us: end_of(path) };
    let method = if path.method == "pap" { String::new() } else { format!(" by {}", path.method) };
    output::line(format!("{}{method}: {}", output::paint(&format!("through {}", path.gateway), "1"), path.factor));
    for hop in path.hops.iter().filter(|hop| hop.kind == HopKind::Client) {
        row(&axis, "client", &patience(&axis, 0, hop), &figures(hop));
    }
    let gateway = path.hops.iter().find(|hop| hop.kind == HopKind::Gateway);
    let mut at_us = 0;
    for (number, round) in path.rounds.iter().enumerate() {
        if let Some(gap) = &round.before {
            row(&axis, &gap.name, &axis.bar(at_us, at_us + gap.most_us, "┄"), &format!("mostly ≤ {}", output::took(gap.most_us)));
            at_us += gap.most_us;
        }
        if let Some(hop) = gateway {
            let name = if number == 0 { hop.name.clone() } else { format!("{}, again", hop.name) };
            row(&axis, &name, &patience(&axis, at_us, hop), &if number == 0 { figures(hop) } else { String::new() });
        }
        let leaves_us = gateway.map(|hop| at_us + hop.patience_us);
        for stage in &round.stages {
            let end_us = at_us + stage.takes.worst_us;
            row(
                &axis,
                &format!("  {}", label(stage)),
                &bars(&axis, at_us, stage, leaves_us),
                &format!("≤ {}", output::took(stage.takes.worst_us)),
            );
            at_us = end_us;
        }
    }
    let (half, end) = (output::took(axis.end_us / 2), output::took(axis.end_us));
    let space = axis.columns.saturating_sub(1 + half.chars().count() + end.chars().count());
    let scale = format!("0{}{half}{}{end}", " ".repeat(space / 2), " ".repeat(space - space / 2));
    output::line(output::paint(&format!("{:NAMES$}{scale}", ""), "2"));
    if leaves_early(path) {
        output::line(format!("{:NAMES$}{} the gateway has given up by then", "", output::paint("✕", "31")));
    }
}

/// Where the axis ends: with the last bar. The gateway waits anew in each round.
fn end_of(path: &PathBudget) -> u64 {
    let gateway = path.hops.iter().find(|hop| hop.kind == HopKind::Gateway).map_or(0, |hop| hop.patience_us);
    let last = path.rounds.last().map_or(0, |round| round.takes.worst_us);
    let client = path.hops.iter().filter(|hop| hop.kind == HopKind::Client).map(|hop| hop.patience_us).max().unwrap_or(0);
    path.worst_us.max(client).max(path.worst_us.saturating_sub(last) + gateway)
}

fn leaves_early(path: &PathBudget) -> bool {
    path.hops.iter().any(|hop| hop.kind == HopKind::Gateway && hop.margin < 0.0)
}

/// A name, its bar, and its figures in a column of their own. A bar may be painted, so its width is counted without that.
fn row(axis: &Axis, name: &str, (bar, columns): &(String, usize), figures: &str) {
    let name: String = name.chars().take(NAMES - 1).collect();
    let space = " ".repeat(axis.columns.saturating_sub(*columns));
    output::line(format!("{name:NAMES$}{bar}{space}  {}", output::paint(figures, "2")).trim_end());
}

/// A wait with a mark at each try.
fn patience(axis: &Axis, from_us: u64, hop: &Hop) -> (String, usize) {
    let start = axis.column(from_us);
    let end = axis.column(from_us + hop.patience_us).clamp(start + 2, axis.columns.max(start + 2));
    let mut bar: Vec<char> = std::iter::repeat_n('─', end - start).collect();
    for try_number in 1..u64::from(hop.tries) {
        let at = axis.column(from_us + hop.wait_us * try_number).saturating_sub(start);
        if let Some(place) = bar.get_mut(at) {
            *place = '┼';
        }
    }
    bar[0] = '├';
    *bar.last_mut().unwrap_or(&mut ' ') = '┤';
    let bar: String = bar.into_iter().collect();
    let colour = if hop.margin < 0.0 { "31" } else { "36" };
    (format!("{}{}", " ".repeat(start), output::paint(&bar, colour)), end)
}

fn figures(hop: &Hop) -> String {
    let mark = if hop.margin < 0.0 { " ✕" } else { "" };
    format!("{} ({:+.0} %){mark}", output::took(hop.patience_us), hop.margin * 100.0)
}

/// A stage: filled as far as it usually takes, light as far as it may, crossed where the gateway has left.
fn bars(axis: &Axis, from_us: u64, stage: &Stage, leaves_us: Option<u64>) -> (String, usize) {
    let end_us = from_us + stage.takes.worst_us;
    let usual_us = from_us + stage.takes.usual_us;
    let start = axis.column(from_us).min(axis.columns - 1);
    let end = axis.column(end_us).clamp(start + 1, axis.columns.max(start + 1));
    let usual = if stage.takes.usual_us == 0 { start } else { axis.column(usual_us).clamp(start, end) };
    let leaves = leaves_us.map_or(usize::MAX, |us| axis.column(us));
    let drawn: String = (start..end)
        .map(|column| match column {
            column if column >= leaves => '✕',
            column if column < usual => '█',
            _ => '░',
        })
        .collect();
    (format!("{}{drawn}", " ".repeat(start)), end)
}

fn label(stage: &Stage) -> String {
    let name = &stage.name;
    match stage.kind {
        StageKind::FailOver => format!("{name}: silent server"),
        StageKind::Connect => format!("{name}: connect"),
        StageKind::Search => format!("{name}: search"),
        StageKind::Password => format!("{name}: password"),
        StageKind::Upstream => format!("{name}: answer"),
        StageKind::Code => "code marked".to_owned(),
        StageKind::Courier => format!("{name}: code handed over"),
        StageKind::Approval => "approval".to_owned(),
    }
}
