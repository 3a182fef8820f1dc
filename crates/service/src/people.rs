//! Import of people from CSV: every line is looked at, each mistake is named, and nothing is kept unless all are right.

use crate::clock;
use crate::error::ServiceError;
use crate::records::{NewFactor, NewPerson};
use crate::roster::{hash_password, seed_purpose};
use crate::shared::Shared;
use bivector_core::totp::{Algorithm, Settings};
use bivector_wire::Secret;
use csv::StringRecord;
use data_encoding::BASE32_NOPAD;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::Arc;
use utoipa::ToSchema;

/// Columns that are known; the first two are needed.
pub const COLUMNS: &[&str] = &[
    "login",
    "source",
    "name",
    "password",
    "groups",
    "disabled",
    "totp_seed",
    "totp_label",
    "totp_digits",
    "totp_period",
    "totp_algorithm",
];
/// Lines of one import at most.
const MAX_LINES: usize = 100_000;

/// A mistake in a CSV file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LineError {
    /// The line, from 1.
    pub line: u64,
    /// The column, where one is at fault.
    pub column: Option<String>,
    /// What is wrong, and what is allowed.
    pub message: String,
}

/// What an import did, or would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Imported {
    /// People in the file.
    pub people: usize,
    /// Factors in the file.
    pub factors: usize,
    /// Mistakes; if there are any, nothing was kept.
    pub errors: Vec<LineError>,
}

/// A person of the file, before anything is hashed or sealed.
struct Line {
    person: NewPerson,
    password: Option<Secret<String>>,
    seed: Option<(String, Secret<Vec<u8>>, Settings)>,
}

/// Reads `text` and, unless `preview` or something is wrong, keeps its people.
///
/// # Errors
/// The records failed. Mistakes in the file come back in [`Imported`].
pub async fn import(text: &str, preview: bool, shared: &Arc<Shared>) -> Result<Imported, ServiceError> {
    let sources =
        shared.live.load().as_ref().map(|live| live.site.directories.iter().map(|directory| directory.name.clone()).collect::<Vec<_>>());
    let (lines, errors) = read(text, &sources.unwrap_or_default());
    let imported = Imported { people: lines.len(), factors: lines.iter().filter(|line| line.seed.is_some()).count(), errors };
    if preview || !imported.errors.is_empty() {
        return Ok(imported);
    }
    let sealing = Arc::clone(shared);
    let people = tokio::task::spawn_blocking(move || lines.into_iter().map(|line| seal(line, &sealing)).collect::<Result<Vec<_>, _>>())
        .await
        .map_err(|_| ServiceError::Records("the import was stopped".into()))??;
    shared.records.keep_people(people, clock::now()).await?;
    shared.roster.refresh(&shared.records)?;
    Ok(imported)
}

fn seal(line: Line, shared: &Shared) -> Result<NewPerson, ServiceError> {
    let mut person = line.person;
    if let Some(password) = &line.password {
        person.password = Some(hash_password(password).map_err(ServiceError::Records)?);
    }
    person.factor = line.seed.map(|(label, seed, settings)| {
        let purpose = seed_purpose(&person.source, &person.login);
        NewFactor { label, sealed: shared.seal.seal(&purpose, seed.expose()), settings }
    });
    Ok(person)
}

fn read(text: &str, sources: &[String]) -> (Vec<Line>, Vec<LineError>) {
    let mut reader =
        csv::ReaderBuilder::new().comment(Some(b'#')).trim(csv::Trim::Headers).from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let mut errors = Vec::new();
    let headers = match reader.headers() {
        Ok(headers) => headers.clone(),
        Err(error) => return (Vec::new(), vec![line_error(1, None, format!("the header cannot be read: {error}"))]),
    };
    check_headers(&headers, &mut errors);
    if !errors.is_empty() {
        return (Vec::new(), errors);
    }
    let mut lines = Vec::new();
    let mut seen = HashMap::new();
    for record in reader.records() {
        if lines.len() + errors.len() >= MAX_LINES {
            errors.push(line_error(0, None, format!("more than {MAX_LINES} lines; split the file")));
            break;
        }
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                let at = error.position().map_or(0, csv::Position::line);
                errors.push(line_error(at, None, describe(&error)));
                continue;
            }
        };
        let at = record.position().map_or(0, csv::Position::line);
        if let Some(line) = read_line(&record, &headers, at, sources, &mut errors) {
            let key = (line.person.source.clone(), line.person.login.clone());
            if let Some(earlier) = seen.insert(key, at) {
                errors.push(line_error(
                    at,
                    Some("login"),
                    format!("`{}` of `{}` stands in line {earlier} already", line.person.login, line.person.source),
                ));
            }
            lines.push(line);
        }
    }
    (lines, errors)
}

fn check_headers(headers: &StringRecord, errors: &mut Vec<LineError>) {
    for header in headers.iter().filter(|header| !COLUMNS.contains(header)) {
        errors.push(line_error(1, Some(header), format!("there is no column `{header}`; known: {}", COLUMNS.join(", "))));
    }
    for needed in &COLUMNS[..2] {
        if !headers.iter().any(|header| header == *needed) {
            errors.push(line_error(1, Some(needed), format!("the column `{needed}` is missing")));
        }
    }
}

fn read_line(record: &StringRecord, headers: &StringRecord, at: u64, sources: &[String], errors: &mut Vec<LineError>) -> Option<Line> {
    let before = errors.len();
    let field =
        |name: &str| headers.iter().position(|header| header == name).and_then(|index| record.get(index)).filter(|text| !text.is_empty());
    let mut wrong = |column: &str, message: String| errors.push(line_error(at, Some(column), message));
    let login = field("login").map(|login| login.trim().to_lowercase()).unwrap_or_default();
    if login.is_empty() || login.len() > 253 || login.chars().any(char::is_control) {
        wrong("login", "a login name has 1 to 253 bytes and no control characters".into());
    }
    let source = field("source").unwrap_or("roster").trim().to_owned();
    if source != "roster" && !sources.contains(&source) {
        let known = sources.iter().map(String::as_str).chain(["roster"]).collect::<Vec<_>>().join(", ");
        wrong("source", format!("there is no source `{source}`; known: {known}"));
    }
    let password = field("password").map(|password| Secret::new(password.to_owned()));
    if password.is_some() && source != "roster" {
        wrong("password", format!("`{source}` checks its own passwords; leave it empty"));
    }
    let disabled = match field("disabled") {
        None | Some("false" | "no") => false,
        Some("true" | "yes") => true,
        Some(other) => {
            wrong("disabled", format!("`{other}` is not `true` or `false`"));
            false
        }
    };
    let seed = field("totp_seed").and_then(|seed| read_seed(seed, &field, &mut wrong));
    let groups =
        field("groups").map(|groups| groups.split(';').map(|group| group.trim().to_owned()).filter(|group| !group.is_empty()).collect());
    let name = field("name").unwrap_or(&login).to_owned();
    let person = NewPerson { source, login, name, password: None, groups: groups.unwrap_or_default(), disabled, factor: None };
    (errors.len() == before).then_some(Line { person, password, seed })
}

fn read_seed<'r>(
    seed: &str,
    field: &impl Fn(&str) -> Option<&'r str>,
    wrong: &mut impl FnMut(&str, String),
) -> Option<(String, Secret<Vec<u8>>, Settings)> {
    let clean = Secret::new(seed.replace([' ', '-', '='], "").to_uppercase());
    let Ok(bytes) = BASE32_NOPAD.decode(clean.expose().as_bytes()) else {
        wrong("totp_seed", "the seed is not base32 (letters A to Z and digits 2 to 7)".into());
        return None;
    };
    let bytes = Secret::new(bytes);
    let defaults = Settings::default();
    let algorithm = match field("totp_algorithm") {
        None | Some("sha1") => Algorithm::Sha1,
        Some("sha256") => Algorithm::Sha256,
        Some("sha512") => Algorithm::Sha512,
        Some(other) => {
            wrong("totp_algorithm", format!("`{other}` is not `sha1`, `sha256` or `sha512`"));
            return None;
        }
    };
    let digits = field("totp_digits").map_or(Ok(defaults.digits), str::parse);
    let period = field("totp_period").map_or(Ok(defaults.period), str::parse);
    let (Ok(digits), Ok(period)) = (digits, period) else {
        wrong("totp_digits", "digits and period are whole numbers".into());
        return None;
    };
    let settings = Settings { algorithm, digits, period };
    match settings.check(bytes.expose()) {
        Ok(()) => Some((field("totp_label").unwrap_or("token").to_owned(), bytes, settings)),
        Err(error) => {
            wrong("totp_seed", error.to_string());
            None
        }
    }
}

fn describe(error: &csv::Error) -> String {
    match error.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => format!("{len} fields; the header has {expected_len}"),
        csv::ErrorKind::Utf8 { .. } => "the line is not UTF-8".into(),
        _ => error.to_string(),
    }
}

fn line_error(line: u64, column: Option<&str>, message: String) -> LineError {
    LineError { line, column: column.map(str::to_owned), message }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_broken_line_is_named_and_the_good_ones_are_read() {
        let text = "login,source,name,totp_seed,disabled\n\
            ines,tidehall,Ines Okafor,GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ,\n\
            ,tidehall,Nobody,,\n\
            pell,tidehal,Pell Marsh,,\n\
            yuki,tidehall,Yuki Arden,NOT!BASE32,\n\
            ravi,tidehall,too,many,fields,here\n\
            INES,tidehall,Ines again,,\n\
            noor,tidehall,Noor,GEZDGNBV,maybe\n";
        let (lines, errors) = read(text, &["tidehall".into()]);
        let seen: Vec<_> = errors.iter().map(|error| (error.line, error.column.as_deref().unwrap_or("-"))).collect();
        assert_eq!(seen, [(3, "login"), (4, "source"), (5, "totp_seed"), (6, "-"), (7, "login"), (8, "disabled"), (8, "totp_seed")]);
        assert_eq!(lines.len(), 2);
        assert!(
            errors.iter().all(|error| !error.message.contains("NOT!BASE32") && !error.message.contains("GEZDGNBV")),
            "seeds are never repeated"
        );
    }

    #[test]
    fn unknown_and_missing_columns_are_named() {
        let (_, errors) = read("login,sorce\nines,tidehall\n", &[]);
        let messages: Vec<_> = errors.iter().map(|error| error.message.as_str()).collect();
        assert!(messages[0].starts_with("there is no column `sorce`") && messages[1] == "the column `source` is missing");
    }
}
