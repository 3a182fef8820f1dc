//! A trace as a waterfall of its steps.

use crate::output::{colour, line, outcome, paint, tone, took, when, width};
use bivector_api::traces::TraceView;
use bivector_model::trace::{Hop, Step, Tone};

const BAR: usize = 24;

/// Prints a trace.
pub fn print(view: &TraceView) {
    let row = &view.row;
    let person = if row.typed_name.is_empty() { "?" } else { &row.typed_name };
    let to = if row.chain.is_empty() { String::new() } else { format!(" → {}", row.chain) };
    line(format!(
        "{}  {}  {person} via {}{to}  {}  {}",
        row.reference,
        outcome(row.outcome),
        row.gateway,
        when(row.began_us),
        if row.revision == 0 { "a draft".to_owned() } else { format!("revision {}", row.revision) }
    ));
    if let (Some(cause), Some(sentence), Some(remedy)) = (row.cause, &view.sentence, &view.remedy) {
        line(format!("  {}  {sentence}", paint(cause.slug(), "1")));
        line(format!("  remedy: {remedy}"));
        if let Some(number) = view.line {
            let text = view.line_text.as_ref().map(|text| format!(": {text}")).unwrap_or_default();
            line(paint(&format!("  line {number} of the site file{text}"), "2"));
        }
    }
    let device = view.device.iter().map(|one| format!("{} {}", one.attribute, one.value)).collect::<Vec<_>>().join(", ");
    for (index, part) in wrap(&device, width().saturating_sub(18).max(30)).into_iter().filter(|part| !part.is_empty()).enumerate() {
        line(paint(&format!("  {:<14}{part}", if index == 0 { "gateway sent" } else { "" }), "2"));
    }
    line("");
    let axis = &Axis::of(&view.steps);
    let mut hop = None;
    for step in &view.steps {
        print_step(step, hop != Some(step.hop), axis);
        hop = Some(step.hop);
    }
}

fn print_step(step: &Step, first_of_hop: bool, axis: &Axis) {
    let hop = if first_of_hop { name(step.hop) } else { "" };
    let mark = tone(step.tone);
    let at = step.line.map(|number| format!("  [line {number}]")).unwrap_or_default();
    let head = format!("  {hop:<8} {mark} {:<15} {:>8} {} ", step.what, took(step.took_us), bar(step, axis));
    let indent = 2 + 8 + 1 + 1 + 1 + 15 + 1 + 8 + 1 + BAR + 2 + 1;
    for (index, part) in wrap(&format!("{}{at}", step.said), width().saturating_sub(indent).max(30)).into_iter().enumerate() {
        if index == 0 { line(format!("{head}{part}")) } else { line(format!("{:indent$}{part}", "")) }
    }
}

fn name(hop: Hop) -> &'static str {
    match hop {
        Hop::Gateway => "gateway",
        Hop::Reading => "reading",
        Hop::First => "first",
        Hop::Second => "second",
        Hop::Rules => "rules",
        Hop::Reply => "reply",
    }
}

/// The login's time axis. What only waits (a refusal that is held until its pace, a prompt until its answer) would squeeze everything else, so
/// each such part is cut short.
struct Axis {
    /// The parts that are cut short, each from and until when, in microseconds since the login began.
    cuts: Vec<(u64, u64)>,
    /// All time but that, in microseconds.
    worked: u64,
}

/// Steps that only wait.
const WAITS: [&str; 3] = ["held", "waiting", "unanswered"];

impl Axis {
    /// Columns of a part that is cut short.
    const CUT: usize = 4;

    fn of(steps: &[Step]) -> Self {
        let end = |step: &Step| step.at_us + step.took_us;
        let total = steps.iter().map(end).max().unwrap_or(0).max(1);
        let waits = steps.iter().filter(|step| WAITS.contains(&&*step.what) && step.took_us > total / 8);
        let cuts: Vec<(u64, u64)> = waits.map(|step| (step.at_us, end(step))).take(BAR / Self::CUT / 2).collect();
        let cut: u64 = cuts.iter().map(|(from, until)| until - from).sum();
        Axis { cuts, worked: (total - cut.min(total)).max(1) }
    }

    fn column(&self, at: u64) -> usize {
        let (mut worked, mut columns) = (at, 0.0);
        for (from, until) in self.cuts.iter().filter(|(from, _)| *from < at) {
            let passed = at.min(*until) - from;
            worked -= passed;
            columns += passed as f64 / (until - from).max(1) as f64 * Self::CUT as f64;
        }
        let rest = (BAR - self.cuts.len() * Self::CUT) as f64;
        (columns + worked as f64 / self.worked as f64 * rest).round() as usize
    }
}

/// When the step ran.
fn bar(step: &Step, axis: &Axis) -> String {
    let start = axis.column(step.at_us).min(BAR - 1);
    let end = axis.column(step.at_us + step.took_us).clamp(start + 1, BAR);
    let filled = match &*step.what {
        what if WAITS.contains(&what) => "┄".repeat(end - start),
        _ if step.took_us == 0 => "╷".to_owned(),
        _ => "━".repeat(end - start),
    };
    let text = format!("{}{}{}", " ".repeat(start), filled, " ".repeat(BAR - start - filled.chars().count()));
    let shown = if colour() { paint(&text, if step.tone == Tone::Bad { "31" } else { "36" }) } else { text };
    format!("▏{shown}▕")
}

fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split_whitespace() {
        let current = lines.last().map_or(0, |line| line.chars().count());
        if current > 0 && current + 1 + word.chars().count() > width {
            lines.push(word.to_owned());
        } else if let Some(line) = lines.last_mut() {
            if current > 0 {
                line.push(' ');
            }
            line.push_str(word);
        }
    }
    lines
}
