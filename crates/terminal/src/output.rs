//! What commands print: tables, times, JSON. Colour only on a terminal.

use crate::failure::Failure;
use bivector_model::trace::{Outcome, Tone};
use comfy_table::{ContentArrangement, Table, presets};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;
use std::io::{IsTerminal, Read, Write};
use std::path::Path;

/// Prints a line to standard output. A reader that has gone ends the output, not the program.
pub fn line(text: impl AsRef<str>) {
    let _ = writeln!(std::io::stdout(), "{}", text.as_ref());
}

/// Prints a line to standard error: hints beside the output.
pub fn hint(text: impl AsRef<str>) {
    let _ = writeln!(std::io::stderr(), "{}", text.as_ref());
}

/// Prints a value as JSON.
pub fn json<T: Serialize>(value: &T) {
    line(serde_json::to_string_pretty(value).unwrap_or_default());
}

/// A table with these headings.
pub fn table(headings: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(width() as u16);
    table.set_header(headings.iter().map(|heading| paint(heading, "2")));
    table
}

/// Prints a table without blanks at the ends of its lines.
pub fn print_table(table: &Table) {
    for row in table.lines() {
        line(row.trim_end());
    }
}

/// Columns of the terminal; 120 where there is none.
pub fn width() -> usize {
    let columns = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
    columns.or_else(|| Table::new().width().map(usize::from)).unwrap_or(120).clamp(60, 220)
}

/// Whether to use colour.
pub fn colour() -> bool {
    std::io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
}

/// Text in a colour (an SGR number), on a terminal only.
pub fn paint(text: &str, sgr: &str) -> String {
    if colour() { format!("\u{1b}[{sgr}m{text}\u{1b}[0m") } else { text.to_owned() }
}

/// An outcome with its mark, so that colour never says it alone.
pub fn outcome(outcome: Outcome) -> String {
    match outcome {
        Outcome::Accepted => paint("● accepted", "36"),
        Outcome::Challenged => paint("◐ waiting", "34"),
        Outcome::Refused => paint("✕ refused", "33"),
        Outcome::Silent => paint("○ silent", "35"),
    }
}

/// How a step went, as a mark.
pub fn tone(tone: Tone) -> String {
    match tone {
        Tone::Good => paint("✓", "36"),
        Tone::Note => paint("·", "2"),
        Tone::Warn => paint("!", "33"),
        Tone::Bad => paint("✕", "31"),
    }
}

/// A moment as local date and time.
pub fn when(micros: u64) -> String {
    let moment = Timestamp::from_microsecond(micros as i64).unwrap_or_default();
    moment.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// How long ago a moment was.
pub fn ago(micros: u64) -> String {
    let seconds = (Timestamp::now().as_microsecond() - micros as i64).max(0) / 1_000_000;
    match seconds {
        0..120 => format!("{seconds} s ago"),
        120..7_200 => format!("{} min ago", seconds / 60),
        _ => format!("{} h ago", seconds / 3_600),
    }
}

/// A time span as people read it.
pub fn took(micros: u64) -> String {
    match micros {
        0..1_000 => format!("{micros} µs"),
        1_000..10_000 => format!("{:.1} ms", micros as f64 / 1e3),
        10_000..1_000_000 => format!("{} ms", micros / 1_000),
        _ => format!("{:.2} s", micros as f64 / 1e6),
    }
}

/// A number of bytes as people read it.
pub fn bytes(count: u64) -> String {
    match count {
        0..1_000 => format!("{count} B"),
        1_000..1_000_000 => format!("{:.1} kB", count as f64 / 1e3),
        1_000_000..1_000_000_000 => format!("{:.1} MB", count as f64 / 1e6),
        _ => format!("{:.1} GB", count as f64 / 1e9),
    }
}

/// A span of time as a clock shows it, with days where there are some.
pub fn clock(micros: u64) -> String {
    let seconds = micros / 1_000_000;
    let (days, hours, minutes, seconds) = (seconds / 86_400, seconds / 3_600 % 24, seconds / 60 % 60, seconds % 60);
    match days {
        0 => format!("{hours}:{minutes:02}:{seconds:02}"),
        days => format!("{days} d {hours}:{minutes:02}:{seconds:02}"),
    }
}

/// A span of time in whole seconds, for people.
pub fn span(micros: u64) -> String {
    match micros / 1_000_000 {
        seconds if seconds > 0 && seconds.is_multiple_of(3_600) => format!("{} h", seconds / 3_600),
        seconds if seconds > 0 && seconds.is_multiple_of(60) => format!("{} min", seconds / 60),
        seconds => format!("{seconds} s"),
    }
}

/// Reads a file, or standard input for `-`.
///
/// # Errors
/// It cannot be read, or is not UTF-8.
pub fn read_file(path: &Path) -> Result<String, Failure> {
    let failed = |error: std::io::Error| {
        Failure::usage(format!("`{}` cannot be read: {error}", path.display()), "check the path and its permissions")
    };
    let mut bytes = Vec::new();
    match path == Path::new("-") {
        true => std::io::stdin().read_to_end(&mut bytes).map_err(failed)?,
        false => std::fs::File::open(path).and_then(|mut file| file.read_to_end(&mut bytes)).map_err(failed)?,
    };
    String::from_utf8(bytes).map_err(|error| {
        let valid = error.utf8_error().valid_up_to();
        let line = error.as_bytes()[..valid].iter().filter(|byte| **byte == b'\n').count() + 1;
        Failure::usage(
            format!("`{}` is not UTF-8 from line {line} on", path.display()),
            "save it as UTF-8, for example with `iconv -f LATIN1 -t UTF-8`",
        )
    })
}

/// Writes a file.
///
/// # Errors
/// It cannot be written.
pub fn write_file(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    std::fs::write(path, bytes)
        .map_err(|error| Failure::usage(format!("`{}` cannot be written: {error}", path.display()), "check the path and its permissions"))
}

/// Whether somebody looks at the output as it comes.
pub fn is_terminal() -> bool {
    std::io::stdout().is_terminal()
}

/// Asks on the terminal; where there is none, the answer is no.
///
/// # Errors
/// The answer cannot be read.
pub fn confirmed(question: &str) -> Result<bool, Failure> {
    if !std::io::stdin().is_terminal() {
        return Ok(false);
    }
    let _ = write!(std::io::stderr(), "{question}");
    let mut answer = String::new();
    let read = std::io::stdin().read_line(&mut answer);
    read.map_err(|error| Failure::usage(format!("the answer cannot be read: {error}"), "give `--yes`"))?;
    Ok(answer.trim().eq_ignore_ascii_case("y"))
}

/// Reads one line that must not be seen: from a file, from standard input, or asked for.
///
/// # Errors
/// It cannot be read.
pub fn read_hidden(file: Option<&Path>, prompt: &str) -> Result<bivector_wire::Secret<String>, Failure> {
    let mut text = match file {
        Some(path) => read_file(path)?,
        None => rpassword::prompt_password(prompt)
            .map_err(|error| Failure::usage(format!("no terminal for a prompt: {error}"), "read the value from a file instead"))?,
    };
    let kept = text.strip_suffix('\n').map_or(text.len(), |rest| rest.strip_suffix('\r').unwrap_or(rest).len());
    text.truncate(kept);
    Ok(bivector_wire::Secret::new(text))
}
