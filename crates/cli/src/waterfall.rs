//! A trace as a waterfall of its steps.

use crate::output::{colour, line, outcome, paint, took, when, width};
use bivector_core::trace::{Hop, Step, Tone};
use bivector_service::api::TraceView;

const BAR: usize = 24;

/// Prints a trace.
pub(crate) fn print(view: &TraceView) {
    let row = &view.row;
    let person = if row.typed_name.is_empty() { "?" } else { &row.typed_name };
    let to = if row.chain.is_empty() { String::new() } else { format!(" → {}", row.chain) };
    line(format!(
        "{}  {}  {person} via {}{to}  {}  revision {}",
        row.reference,
        outcome(row.outcome),
        row.gateway,
        when(row.began_us),
        row.revision
    ));
    if let (Some(cause), Some(sentence), Some(remedy)) = (row.cause, &view.sentence, &view.remedy) {
        line(format!("  {}  {sentence}", paint(cause.slug(), "1")));
        line(format!("  remedy: {remedy}"));
    }
    line("");
    let total = view.steps.iter().map(|step| step.at_us + step.took_us).max().unwrap_or(0).max(1);
    let mut hop = None;
    for step in &view.steps {
        print_step(step, hop != Some(step.hop), total);
        hop = Some(step.hop);
    }
}

fn print_step(step: &Step, first_of_hop: bool, total: u64) {
    let hop = if first_of_hop { name(step.hop) } else { "" };
    let mark = mark(step.tone);
    let at = step.line.map(|number| format!("  [line {number}]")).unwrap_or_default();
    let head = format!("  {hop:<8} {mark} {:<15} {:>8} {} ", step.what, took(step.took_us), bar(step, total));
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

fn mark(tone: Tone) -> String {
    match tone {
        Tone::Good => paint("✓", "36"),
        Tone::Note => paint("·", "2"),
        Tone::Warn => paint("!", "33"),
        Tone::Bad => paint("✕", "31"),
    }
}

/// When the step ran, on the login's own time axis.
fn bar(step: &Step, total: u64) -> String {
    let column = |at: u64| ((at as f64 / total as f64) * BAR as f64).round() as usize;
    let start = column(step.at_us).min(BAR - 1);
    let end = column(step.at_us + step.took_us).clamp(start + 1, BAR);
    let filled = if step.took_us * BAR as u64 * 4 < total { "╷".to_owned() } else { "━".repeat(end - start) };
    let text = format!("{}{}{}", " ".repeat(start), filled, " ".repeat(BAR - start - filled.chars().count()));
    let shown = if colour() { paint(&text, if step.tone == Tone::Bad { "31" } else { "36" }) } else { text };
    format!("▏{shown}▕")
}

fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
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
