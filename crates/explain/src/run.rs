//! One execution of a rehearsal: what came of each login, what changed since an earlier one, and the reports that are made of it.

use bivector_site::rehearsal::{Mismatch, Seen};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::fmt::Write;
use utoipa::ToSchema;

/// How far a run is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RunState {
    /// Under way.
    Running,
    /// Every login came out as it must.
    Passed,
    /// At least one did not.
    Failed,
    /// It was ended before its last login.
    Interrupted,
}

impl RunState {
    /// Its stable name.
    pub fn slug(self) -> &'static str {
        match self {
            RunState::Running => "running",
            RunState::Passed => "passed",
            RunState::Failed => "failed",
            RunState::Interrupted => "interrupted",
        }
    }
}

/// What came of one login.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LoginResult {
    /// What it shows.
    pub title: String,
    /// Which repetition, from 1.
    pub turn: u32,
    /// The persona.
    pub persona: String,
    /// The name as it was typed.
    pub typed_name: String,
    /// The gateway.
    pub via: String,
    /// How the credential was sent.
    pub method: String,
    /// What had to come of it, in the site file's words.
    pub expected: String,
    /// What came of it; nothing where it could not be tried.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub seen: Option<Seen>,
    /// Everything that came otherwise.
    pub differences: Vec<Mismatch>,
    /// Why it could not be tried.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub error: Option<String>,
    /// References of its traces: one, unless an answer to a prompt was taken for no answer.
    pub references: Vec<String>,
    /// Its line in the site file.
    pub line: u32,
}

impl LoginResult {
    /// Whether it came out as it must.
    pub fn passed(&self) -> bool {
        self.error.is_none() && self.differences.is_empty()
    }

    /// What is wrong with it, in a sentence.
    pub fn said(&self) -> String {
        match &self.error {
            Some(error) => error.clone(),
            None => self.differences.iter().map(ToString::to_string).collect::<Vec<_>>().join("; "),
        }
    }

    /// What came of it, in a few words.
    pub fn came(&self) -> String {
        match &self.seen {
            Some(seen) => match (seen.cause, &seen.grant) {
                (Some(cause), _) => format!("{}: {cause}", seen.outcome.slug()),
                (None, Some(grant)) => format!("{} with {grant}", seen.outcome.slug()),
                (None, None) => seen.outcome.slug().to_owned(),
            },
            None => "not tried".to_owned(),
        }
    }
}

/// One execution of a rehearsal.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Run {
    /// Its number.
    pub id: u64,
    /// The rehearsal.
    pub rehearsal: String,
    /// The site's name.
    pub site: String,
    /// The revision that decided its logins; 0 for a draft that was not active.
    pub revision: u64,
    /// Who ran it.
    pub operator: String,
    /// The pool member that was out meanwhile, where it was a drill.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub without: Option<String>,
    /// When it began, in microseconds since 1970.
    pub began_us: u64,
    /// How long it took, in microseconds.
    pub took_us: u64,
    /// How far it is.
    pub state: RunState,
    /// Logins that it has in all.
    pub total: u32,
    /// Logins that came out as they must.
    pub passed: u32,
    /// Logins that did not.
    pub failed: u32,
    /// What it waits for, where it does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub waits_for: Option<String>,
    /// What came of each, in the rehearsal's order.
    pub results: Vec<LoginResult>,
}

/// A login that came out otherwise than in an earlier run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RunChange {
    /// The login.
    pub title: String,
    /// What came of it then.
    pub was: String,
    /// What came of it now.
    pub is: String,
    /// Whether it came out as it must then.
    pub passed_then: bool,
    /// Whether it does now.
    pub passes_now: bool,
}

/// What changed since an earlier run. Of repetitions the worst counts.
pub fn changes(earlier: &Run, later: &Run) -> Vec<RunChange> {
    let worst = |run: &Run| {
        let mut by_title: HashMap<String, (bool, String)> = HashMap::new();
        for result in &run.results {
            let entry = by_title.entry(result.title.clone()).or_insert_with(|| (result.passed(), result.came()));
            if entry.0 && !result.passed() {
                *entry = (false, result.came());
            }
        }
        by_title
    };
    let (before, now) = (worst(earlier), worst(later));
    let none = || (false, "not in it".to_owned());
    let mut titles: Vec<&String> = Vec::new();
    for result in later.results.iter().chain(&earlier.results) {
        if !titles.contains(&&result.title) {
            titles.push(&result.title);
        }
    }
    let of = |title: &String| {
        let (was, is) = (before.get(title).cloned().unwrap_or_else(none), now.get(title).cloned().unwrap_or_else(none));
        (was != is).then(|| RunChange { title: title.clone(), was: was.1, is: is.1, passed_then: was.0, passes_now: is.0 })
    };
    titles.into_iter().filter_map(of).collect()
}

/// Text for XML and HTML alike.
fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for character in text.chars() {
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            // XML 1.0 section 2.2 has no place for other control characters.
            other if other.is_control() && other != '\n' && other != '\t' => out.push('\u{fffd}'),
            other => out.push(other),
        }
    }
    out
}

fn when(micros: u64) -> String {
    Timestamp::from_microsecond(i64::try_from(micros).unwrap_or(i64::MAX)).unwrap_or_default().strftime("%Y-%m-%d %H:%M:%S UTC").to_string()
}

fn seconds(micros: u64) -> String {
    format!("{:.3}", micros as f64 / 1e6)
}

impl Run {
    /// What decided it, in words.
    pub fn decided_by(&self) -> String {
        match self.revision {
            0 => "a draft, not active".to_owned(),
            number => format!("revision {number}"),
        }
    }

    /// For pipelines that read JUnit's XML.
    pub fn junit(&self) -> String {
        let errors = self.results.iter().filter(|result| result.error.is_some()).count();
        let failures = self.results.iter().filter(|result| !result.passed()).count() - errors;
        let head = format!(
            "name=\"{}\" tests=\"{}\" failures=\"{failures}\" errors=\"{errors}\" time=\"{}\"",
            escape(&self.rehearsal),
            self.results.len(),
            seconds(self.took_us)
        );
        let stamp = when(self.began_us).replace(" UTC", "").replace(' ', "T");
        let mut out =
            format!("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites {head}>\n<testsuite {head} timestamp=\"{stamp}\">\n");
        for result in &self.results {
            let took = result.seen.as_ref().map_or(0, |seen| seen.took_us);
            let turn = if result.turn > 1 { format!(" ({})", result.turn) } else { String::new() };
            // Writing into a string does not fail.
            let _ = write!(
                out,
                "<testcase classname=\"{}\" name=\"{}{turn}\" time=\"{}\"",
                escape(&format!("{}.{}", self.rehearsal, result.via)),
                escape(&result.title),
                seconds(took)
            );
            let kind = if result.error.is_some() { "error" } else { "failure" };
            let _ = match result.passed() {
                true => writeln!(out, "/>"),
                false => {
                    let said = escape(&result.said());
                    let traces = escape(&result.references.join(" "));
                    writeln!(out, "><{kind} message=\"{said}\">{said}\ntraces: {traces}\nline {}</{kind}></testcase>", result.line)
                }
            };
        }
        out + "</testsuite>\n</testsuites>\n"
    }

    /// A dated report for people who were not there.
    pub fn html(&self) -> String {
        let state = match self.state {
            RunState::Passed => "all as expected",
            RunState::Failed => "not as expected",
            RunState::Interrupted => "interrupted",
            RunState::Running => "in progress",
        };
        let title = format!("{}: rehearsal {}", self.site, self.rehearsal);
        let facts = [
            ("Result", format!("{state}: {} of {} logins as expected", self.passed, self.total)),
            ("Began", when(self.began_us)),
            ("Took", format!("{} s", seconds(self.took_us))),
            ("Decided by", self.decided_by()),
            ("Run by", self.operator.clone()),
            ("Run", self.id.to_string()),
        ];
        let mut out = format!(
            "<!doctype html>\n<html lang=\"en\"><meta charset=\"utf-8\"><title>{0}</title>\n<style>body{{font:15px/1.5 system-ui,sans-serif;\
             max-width:72rem;margin:2rem auto;padding:0 1rem;color:#182226}}table{{border-collapse:collapse;width:100%}}th{{text-align:left;\
             font-weight:600;color:#55646a}}td,th{{border-top:1px solid #cfd8d8;padding:.35rem .6rem;vertical-align:top}}\
             .bad{{background:#fbeee6}}.mark{{width:1.5rem}}dl{{display:grid;grid-template-columns:9rem 1fr;gap:.15rem 1rem}}dt{{color:#55646a}}\
             dd{{margin:0}}small{{color:#55646a}}@media print{{body{{margin:0}}}}</style>\n<h1>{0}</h1>\n<dl>\n",
            escape(&title)
        );
        let without = self.without.iter().map(|member| ("Without", member.clone()));
        for (label, value) in facts.into_iter().chain(without) {
            let _ = writeln!(out, "<dt>{label}</dt><dd>{}</dd>", escape(&value));
        }
        out.push_str(
            "</dl>\n<table>\n<tr><th></th><th>Login</th><th>Who and how</th><th>Had to come</th><th>Came</th><th>Second factor</th><th>Took</th><th>Traces</th></tr>\n",
        );
        for result in &self.results {
            let seen = result.seen.as_ref();
            let factor = seen.map_or(String::new(), |seen| match (&seen.factor, seen.factor_given) {
                (Some(factor), true) => factor.clone(),
                (Some(reason), false) => format!("not asked for: {reason}"),
                (None, _) => String::new(),
            });
            let turn = if result.turn > 1 { format!(" ({})", result.turn) } else { String::new() };
            let differs = if result.passed() { String::new() } else { format!("<br><small>{}</small>", escape(&result.said())) };
            let _ = writeln!(
                out,
                "<tr{}><td class=\"mark\">{}</td><td>{}{turn}</td><td>{} by {} through {}</td><td>{}</td><td>{}{differs}</td><td>{}</td><td>{}</td><td><small>{}</small></td></tr>",
                if result.passed() { "" } else { " class=\"bad\"" },
                if result.passed() { "✓" } else { "✕" },
                escape(&result.title),
                escape(&result.typed_name),
                escape(&result.method),
                escape(&result.via),
                escape(&result.expected),
                escape(&result.came()),
                escape(&factor),
                seen.map_or(String::new(), |seen| format!("{} s", seconds(seen.took_us))),
                escape(&result.references.join(" ")),
            );
        }
        out + "</table>\n<p><small>A remembered or waived second factor does not count as tested. Names and secrets of the personas are not part of this report.</small></p>\n</html>\n"
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bivector_model::cause::Cause;
    use bivector_model::trace::Outcome;

    fn result(title: &str, cause: Option<Cause>, wanted: &str) -> LoginResult {
        let outcome = if cause.is_some() { Outcome::Refused } else { Outcome::Accepted };
        let seen = Seen {
            outcome,
            cause,
            grant: cause.is_none().then(|| "control-room".to_owned()),
            attributes: Vec::new(),
            factor: cause.is_none().then(|| "totp".to_owned()),
            factor_given: cause.is_none(),
            source: None,
            took_us: 12_000,
        };
        let differs = cause.map_or("none", Cause::slug) != wanted;
        let differences =
            differs.then(|| Mismatch { what: "cause".into(), wanted: wanted.into(), seen: cause.map_or("none", Cause::slug).into() });
        LoginResult {
            title: title.into(),
            turn: 1,
            persona: "ines".into(),
            typed_name: "<ines>".into(),
            via: "breakwater".into(),
            method: "pap".into(),
            expected: wanted.into(),
            seen: Some(seen),
            differences: differences.into_iter().collect(),
            error: None,
            references: vec!["K7QX2M".into()],
            line: 12,
        }
    }

    fn run(results: Vec<LoginResult>) -> Run {
        let failed = results.iter().filter(|result| !result.passed()).count() as u32;
        Run {
            id: 4,
            rehearsal: "staff & friends".into(),
            site: "Northmoor Tidal".into(),
            revision: 7,
            operator: "owner".into(),
            without: None,
            began_us: 1_795_428_900_000_000,
            took_us: 1_500_000,
            state: if failed > 0 { RunState::Failed } else { RunState::Passed },
            total: results.len() as u32,
            passed: results.len() as u32 - failed,
            failed,
            waits_for: None,
            results,
        }
    }

    #[test]
    fn what_changed_between_two_runs_is_told_by_title_and_the_worst_turn_counts() {
        let earlier = run(vec![result("a", None, "none"), result("b", Some(Cause::CodeWrong), "code-wrong"), result("c", None, "none")]);
        let again = LoginResult { turn: 2, ..result("a", Some(Cause::SourceSlow), "none") };
        let later =
            run(vec![result("a", None, "none"), again, result("b", Some(Cause::CodeWrong), "code-wrong"), result("d", None, "none")]);
        let told: Vec<String> = changes(&earlier, &later).iter().map(|one| format!("{}: {} → {}", one.title, one.was, one.is)).collect();
        assert_eq!(
            told,
            [
                "a: accepted with control-room → refused: source-slow",
                "d: not in it → accepted with control-room",
                "c: accepted with control-room → not in it",
            ]
        );
        assert_eq!(changes(&later, &later), []);
    }

    #[test]
    fn reports_count_what_failed_and_escape_what_people_typed() {
        let broken = LoginResult { error: Some("no reply \"in\" time".into()), seen: None, ..result("c", None, "none") };
        let run = run(vec![result("a", None, "none"), result("b", Some(Cause::CodeUsed), "code-wrong"), broken]);
        let junit = run.junit();
        assert!(junit.contains("name=\"staff &amp; friends\" tests=\"3\" failures=\"1\" errors=\"1\" time=\"1.500\""), "{junit}");
        assert!(junit.contains("<failure message=\"cause: expected code-wrong, got code-used\">"));
        assert!(junit.contains("<error message=\"no reply &quot;in&quot; time\">") && junit.contains("2026-11-23T10:15:00"));
        let html = run.html();
        assert!(html.contains("&lt;ines&gt; by pap through breakwater") && !html.contains("<ines>"));
        assert!(html.contains("not as expected: 1 of 3") && html.contains("revision 7") && html.contains("2026-11-23 10:15:00 UTC"));
    }
}
