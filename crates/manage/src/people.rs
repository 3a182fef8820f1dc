//! Import of people from CSV: every line is looked at, each mistake is named, and nothing is kept unless all are right.

use bivector_api::people::{Imported, LineError, PersonRequest};
use bivector_engine::hashing::{For, Hashing};
use bivector_engine::invitations::{self, Whom};
use bivector_engine::roster::{KeptPassword, kept_purpose, seed_purpose};
use bivector_engine::shared::Shared;
use bivector_model::device::CodeKind;
use bivector_model::text::shown;
use bivector_model::totp::{Algorithm, Settings};
use bivector_store::clock;
use bivector_store::error::ServiceError;
use bivector_store::records::person_key;
use bivector_store::records::{Edit, FactorRow, FactorSettings, NewFactor, NewPerson, PersonRow};
use bivector_wire::{Secret, nt_hash};
use csv::StringRecord;
use data_encoding::BASE32_NOPAD;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

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
    "hotp_seed",
    "hotp_label",
    "hotp_digits",
    "hotp_counter",
    "pin",
    "mail",
    "phone",
    "language",
    "keep",
];
/// Lines of one import at most.
const MAX_LINES: usize = 100_000;
/// Lines after which an import lets others go on.
const YIELDS_EVERY: usize = 32;
/// How long an import waits for its turn to hash while operators sign in.
const WHEN_BUSY: Duration = Duration::from_millis(50);

/// A person of the file, before anything is hashed or sealed.
struct Line {
    person: NewPerson,
    password: Option<Secret<String>>,
    keep: Keep,
    device: Option<NewDevice>,
}

/// What is kept of a roster password beside its hash, for methods that prove it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Keep {
    Nothing,
    Text,
    NtHash,
}

/// A device of the file.
struct NewDevice {
    kind: CodeKind,
    label: String,
    seed: Secret<Vec<u8>>,
    settings: FactorSettings,
    pin: Option<Secret<String>>,
}

/// Reads `text` and, unless `preview` or something is wrong, keeps its people.
///
/// # Errors
/// The records failed. Mistakes in the file come back in [`Imported`].
pub async fn import(text: &str, preview: bool, operator: &str, shared: &Arc<Shared>) -> Result<Imported, ServiceError> {
    let sources =
        shared.live.load().as_ref().map(|live| live.site.directories.iter().map(|directory| directory.name.clone()).collect::<Vec<_>>());
    let text = text.to_owned();
    let read = tokio::task::spawn_blocking(move || read(&text, &sources.unwrap_or_default())).await;
    let (lines, errors) = read.map_err(|_| ServiceError::Records("the file could not be read through".into()))?;
    let is_new = |line: &&Line| shared.roster.get(&person_key(&line.person.source, &line.person.login)).is_none();
    let newcomers: Vec<Whom> = lines.iter().filter(is_new).map(whom).collect();
    let mut imported = Imported {
        people: lines.len(),
        changed: 0,
        factors: lines.iter().filter(|line| line.device.is_some()).count(),
        new: newcomers.len(),
        change: None,
        invited: 0,
        missed: Vec::new(),
        errors,
    };
    if preview || !imported.errors.is_empty() {
        return Ok(imported);
    }
    let mut edits = Vec::with_capacity(lines.len());
    for (at, line) in lines.into_iter().enumerate() {
        if at % YIELDS_EVERY == 0 {
            // Logins go on beside it.
            tokio::task::yield_now().await;
        }
        if shared.records.stopping() {
            return Err(ServiceError::Stopping("the service is stopping; nothing was imported".into()));
        }
        edits.extend(seal(line, shared).await?.map(|person| Edit::Keep(Box::new(person))));
    }
    imported.changed = edits.len();
    if edits.is_empty() {
        return Ok(imported);
    }
    let what = format!("import of {} people, {} of them new", imported.people, imported.new);
    imported.change = Some(shared.records.change_people(operator.to_owned(), what, edits, clock::now()).await?);
    shared.catch_up().await?;
    if let Some(live) = shared.live.load_full() {
        (imported.invited, imported.missed) = invitations::welcome(shared, &live, &newcomers, operator).await;
    }
    Ok(imported)
}

fn whom(line: &Line) -> Whom {
    let person = &line.person;
    Whom {
        source: person.source.clone(),
        login: person.login.clone(),
        name: person.name.clone(),
        groups: person.groups.iter().map(|group| group.to_lowercase()).collect(),
        mail: person.mail.clone(),
        phone: person.phone.clone(),
        language: person.language.clone(),
    }
}

/// Hashes a secret in its turn, however long that takes: an import is one of few, and not on anybody's path.
async fn hash(secret: &Secret<String>, shared: &Shared) -> Result<String, ServiceError> {
    loop {
        match shared.hashing.hash(secret.clone()).await {
            Ok(hashed) => return hashed.map_err(ServiceError::Records),
            Err(_) => tokio::time::sleep(WHEN_BUSY).await,
        }
    }
}

/// Whether a secret is the one of this hash, in its turn.
async fn is_of(kept: Option<&String>, secret: &Secret<String>, shared: &Shared) -> bool {
    let Some(kept) = kept else { return false };
    loop {
        match shared.hashing.verify(Some(kept.clone()), secret.clone(), For::Other, None).await {
            Ok(right) => return right == Some(true),
            Err(_) => tokio::time::sleep(WHEN_BUSY).await,
        }
    }
}

/// The person as they are to be kept; nothing where they are known just so. What is known already is not hashed or sealed again: it would
/// look like a change.
async fn seal(line: Line, shared: &Shared) -> Result<Option<NewPerson>, ServiceError> {
    let mut person = line.person;
    let known = shared.roster.get(&person_key(&person.source, &person.login));
    let kept = match (line.keep, &line.password) {
        (Keep::Text, Some(password)) => Some(KeptPassword::Text(password.clone())),
        (Keep::NtHash, Some(password)) => Some(KeptPassword::NtHash(nt_hash(password.expose()))),
        _ => None,
    };
    if let Some(password) = &line.password {
        let (purpose, kept) = (kept_purpose(&person.source, &person.login), kept.map(|kept| kept.to_bytes()));
        let opened = known.as_ref().and_then(|known| shared.seal.open(&purpose, known.kept.as_ref()?).ok());
        let same = opened.as_ref().map(Secret::expose) == kept.as_ref().map(Secret::expose);
        if !same || !is_of(known.as_ref().and_then(|known| known.password.as_ref()), password, shared).await {
            person.password = Some(hash(password, shared).await?);
            person.kept = kept.map(|kept| shared.seal.seal(&purpose, kept.expose()));
        }
    }
    if let Some(device) = line.device {
        person.factor = seal_device(device, &person, known.as_deref(), shared).await?;
    }
    Ok(Some(person).filter(|person| known.is_none_or(|known| differs(person, &known))))
}

/// A device of the file to keep; nothing where the person has it already.
async fn seal_device(
    device: NewDevice,
    person: &NewPerson,
    known: Option<&PersonRow>,
    shared: &Shared,
) -> Result<Option<NewFactor>, ServiceError> {
    let purpose = seed_purpose(&person.source, &person.login);
    let same = |factor: &&FactorRow| {
        let seed = || shared.seal.open(&purpose, &factor.sealed).is_ok_and(|seed| seed.expose() == device.seed.expose());
        factor.kind == device.kind.into() && factor.label == device.label && factor.settings == device.settings && seed()
    };
    let known = known.and_then(|known| known.factors.iter().find(same));
    let pin = match &device.pin {
        None if known.is_some() => return Ok(None),
        Some(pin) if is_of(known.and_then(|known| known.pin.as_ref()), pin, shared).await => return Ok(None),
        Some(pin) => Some(hash(pin, shared).await?),
        None => None,
    };
    let sealed = shared.seal.seal(&purpose, device.seed.expose());
    Ok(Some(NewFactor { kind: device.kind.into(), label: device.label, sealed, settings: device.settings, pin }))
}

/// Whether keeping the person would change anything.
fn differs(person: &NewPerson, known: &PersonRow) -> bool {
    let stays = |new: &Option<String>, old: &Option<String>| new.is_none() || new == old;
    let same = person.password.is_none()
        && person.factor.is_none()
        && person.name == known.name
        && person.groups == known.groups
        && person.language == known.language
        && person.disabled.is_none_or(|disabled| disabled == known.disabled)
        && stays(&person.mail, &known.mail)
        && stays(&person.phone, &known.phone);
    !same
}

fn read(text: &str, sources: &[String]) -> (Vec<Line>, Vec<LineError>) {
    let mut reader =
        csv::ReaderBuilder::new().comment(Some(b'#')).trim(csv::Trim::Headers).from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let mut errors = Vec::new();
    let headers = match reader.headers() {
        Ok(headers) => headers.clone(),
        Err(error) => return (Vec::new(), vec![line_error(1, None, format!("the header cannot be read: {error}"))]),
    };
    check_headers(&headers, COLUMNS, &mut errors);
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
                    format!("`{}` of `{}` is already in line {earlier}", line.person.login, line.person.source),
                ));
            }
            lines.push(line);
        }
    }
    (lines, errors)
}

/// Every column is known, none stands twice, and the first two are there.
pub fn check_headers(headers: &StringRecord, known: &[&str], errors: &mut Vec<LineError>) {
    for (at, header) in headers.iter().enumerate() {
        if !known.contains(&header) {
            errors.push(line_error(1, Some(header), format!("unknown column `{header}`; known: {}", known.join(", "))));
        } else if headers.iter().take(at).any(|earlier| earlier == header) {
            errors.push(line_error(1, Some(header), format!("duplicate column `{header}`")));
        }
    }
    for needed in &known[..2] {
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
    if login.is_empty() || login.len() > 253 || !bivector_model::text::is_plain(&login) {
        wrong("login", "a login name has 1 to 253 bytes and no control characters".into());
    }
    let source = field("source").unwrap_or("roster").trim().to_owned();
    if source != "roster" && !sources.contains(&source) {
        let known = sources.iter().map(String::as_str).chain(["roster"]).collect::<Vec<_>>().join(", ");
        wrong("source", format!("unknown source `{source}`; known: {known}"));
    }
    let password = field("password").map(|password| Secret::new(password.to_owned()));
    if password.is_some() && source != "roster" {
        wrong("password", format!("`{source}` checks its own passwords; leave it empty"));
    }
    let disabled = read_disabled(field("disabled"), &mut wrong);
    let keep = read_keep(field("keep"), password.is_some(), &mut wrong);
    if let Some(said) = field("mail").map(str::trim).and_then(wrong_mail) {
        wrong("mail", format!("{said}; write NAME@DOMAIN"));
    }
    if let Some(said) = field("phone").map(str::trim).and_then(wrong_phone) {
        wrong("phone", format!("{said}; write it with its country code"));
    }
    let device = read_device(&field, &mut wrong);
    let text = |name: &str| field(name).map(|text| text.trim().to_owned());
    let (mail, phone, language) = (text("mail"), text("phone"), text("language").unwrap_or_default());
    let groups =
        field("groups").map(|groups| groups.split(';').map(|group| group.trim().to_owned()).filter(|group| !group.is_empty()).collect());
    let name = field("name").unwrap_or(&login).to_owned();
    let person = NewPerson {
        source,
        login,
        name,
        password: None,
        groups: groups.unwrap_or_default(),
        disabled,
        mail,
        phone,
        language,
        kept: None,
        factor: None,
    };
    (errors.len() == before).then_some(Line { person, password, keep, device })
}

fn read_disabled(text: Option<&str>, wrong: &mut impl FnMut(&str, String)) -> Option<bool> {
    match text? {
        "false" | "no" => Some(false),
        "true" | "yes" => Some(true),
        other => {
            wrong("disabled", format!("`{other}` is not `true` or `false`"));
            None
        }
    }
}

fn read_keep(text: Option<&str>, has_password: bool, wrong: &mut impl FnMut(&str, String)) -> Keep {
    let keep = match text {
        None | Some("hash") => Keep::Nothing,
        Some("text") => Keep::Text,
        Some("nt-hash") => Keep::NtHash,
        Some(other) => {
            wrong("keep", format!("`{other}` is not `hash`, `text` or `nt-hash`"));
            Keep::Nothing
        }
    };
    if keep != Keep::Nothing && !has_password {
        wrong("keep", "`keep` is set, but this line has no password".into());
    }
    keep
}

/// What keeps a text from being a mail address, however it comes in; an empty one takes the address away. Spaces and control characters could
/// begin a header of their own in a mail.
fn wrong_mail(mail: &str) -> Option<&'static str> {
    let odd = |c: char| c.is_control() || c.is_whitespace() || "<>,;:\"\\()[]".contains(c);
    let sound = |(name, domain): (&str, &str)| !name.is_empty() && !domain.is_empty() && !domain.contains('@') && !domain.starts_with('.');
    let is_one = mail.is_empty() || mail.len() <= 254 && !mail.contains(odd) && mail.split_once('@').is_some_and(sound);
    (!is_one).then_some("this is not an email address")
}

/// What keeps a text from being a telephone number, however it comes in; an empty one takes the number away.
fn wrong_phone(phone: &str) -> Option<&'static str> {
    let digits = phone.bytes().filter(u8::is_ascii_digit).count();
    let known = |(at, c): (usize, char)| c.is_ascii_digit() || " -().,/".contains(c) || at == 0 && c == '+';
    let is_one = phone.is_empty() || (5..=20).contains(&digits) && phone.len() <= 40 && phone.char_indices().all(known);
    (!is_one).then_some("this is not a phone number")
}

/// What is wrong with one person: the field, what is wrong, and what would help.
type WrongField = (&'static str, String, &'static str);

/// One person as given by an operator; what is not given stays as it is known.
///
/// # Errors
/// The field that is wrong, and why.
pub async fn one(
    source: &str,
    login: &str,
    request: PersonRequest,
    known: Option<&bivector_store::records::PersonRow>,
    sources: &[String],
    hashing: &Hashing,
) -> Result<NewPerson, WrongField> {
    let login = login.trim().to_lowercase();
    if login.is_empty() || login.len() > 253 || !bivector_model::text::is_plain(&login) {
        return Err(("login", "a login name has 1 to 253 bytes and no control characters".into(), "type it again"));
    }
    if source != "roster" && !sources.iter().any(|known| known == source) {
        let known = sources.iter().map(String::as_str).chain(["roster"]).collect::<Vec<_>>().join(", ");
        return Err(("source", format!("unknown source `{source}`; known: {known}"), "name one of these"));
    }
    if let Some(wrong) = request.mail.as_deref().map(str::trim).and_then(wrong_mail) {
        return Err(("mail", wrong.into(), "write NAME@DOMAIN"));
    }
    if let Some(wrong) = request.phone.as_deref().map(str::trim).and_then(wrong_phone) {
        return Err(("phone", wrong.into(), "write it with its country code, such as +44 20 7946 0018"));
    }
    let password = request.password.map(Secret::new);
    if password.is_some() && source != "roster" {
        return Err(("password", format!("`{source}` checks its own passwords"), "leave it out"));
    }
    let hashed = match password {
        Some(password) => {
            let hashed = hashing.hash(password).await.map_err(|busy| ("password", busy.to_string(), "try again in some seconds"))?;
            Some(hashed.map_err(|error| ("password", error, "choose another"))?)
        }
        None => None,
    };
    let name = request.name.map(|name| name.trim().to_owned()).filter(|name| !name.is_empty());
    Ok(NewPerson {
        source: source.to_owned(),
        name: name.or_else(|| known.map(|known| known.name.clone())).unwrap_or_else(|| login.clone()),
        login,
        password: hashed,
        groups: request.groups.or_else(|| known.map(|known| known.groups.clone())).unwrap_or_default(),
        disabled: None,
        mail: request.mail.map(|mail| mail.trim().to_owned()),
        phone: request.phone.map(|phone| phone.trim().to_owned()),
        language: request.language.or_else(|| known.map(|known| known.language.clone())).unwrap_or_default(),
        kept: None,
        factor: None,
    })
}

/// The device of a line: by time or by count.
fn read_device<'r>(field: &impl Fn(&str) -> Option<&'r str>, wrong: &mut impl FnMut(&str, String)) -> Option<NewDevice> {
    let pin = field("pin").map(|pin| Secret::new(pin.to_owned()));
    if pin.as_ref().is_some_and(|pin| !is_pin(pin.expose())) {
        wrong("pin", "a PIN has 4 to 12 digits".into());
    }
    let (kind, seed) = match (field("totp_seed"), field("hotp_seed")) {
        (Some(_), Some(_)) => {
            wrong("hotp_seed", "a line can have one device, TOTP or HOTP; add the other in a second import".into());
            return None;
        }
        (Some(seed), None) => (CodeKind::Totp, read_base32("totp_seed", seed, wrong)?),
        (None, Some(seed)) => (CodeKind::Hotp, read_base32("hotp_seed", seed, wrong)?),
        (None, None) => {
            if pin.is_some() {
                wrong("pin", "`pin` is set, but this line has no device".into());
            }
            return None;
        }
    };
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
    let column = |totp: &'static str, hotp: &'static str| if kind == CodeKind::Totp { totp } else { hotp };
    let digits = field(column("totp_digits", "hotp_digits")).map_or(Ok(defaults.digits), str::parse);
    let period = field("totp_period").map_or(Ok(defaults.period), str::parse);
    let counter = field("hotp_counter").map(str::parse).transpose();
    let (Ok(digits), Ok(period), Ok(counter)) = (digits, period, counter) else {
        wrong(column("totp_digits", "hotp_digits"), "digits, period and counter are whole numbers".into());
        return None;
    };
    let code = Settings { algorithm, digits, period };
    if let Err(error) = code.check(seed.expose()) {
        wrong(column("totp_seed", "hotp_seed"), error.to_string());
        return None;
    }
    let label = field(column("totp_label", "hotp_label")).unwrap_or("token").to_owned();
    Some(NewDevice { kind, label, seed, settings: FactorSettings { code, counter, ..FactorSettings::default() }, pin })
}

/// Whether a text can be a PIN.
pub fn is_pin(text: &str) -> bool {
    (4..=12).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_digit())
}

/// Reads a seed as apps show it: base32 in any case, with spaces and hyphens.
pub fn seed_from_text(text: &str) -> Option<Secret<Vec<u8>>> {
    let clean = Secret::new(text.replace([' ', '-', '='], "").to_uppercase());
    BASE32_NOPAD.decode(clean.expose().as_bytes()).ok().map(Secret::new)
}

fn read_base32(column: &str, text: &str, wrong: &mut impl FnMut(&str, String)) -> Option<Secret<Vec<u8>>> {
    let seed = seed_from_text(text);
    if seed.is_none() {
        wrong(column, "the seed is not base32 (letters A to Z and digits 2 to 7)".into());
    }
    seed
}

/// What is wrong with a file of comma-separated values, in words.
pub fn describe(error: &csv::Error) -> String {
    match error.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => format!("{len} fields; the header has {expected_len}"),
        csv::ErrorKind::Utf8 { .. } => "the line is not UTF-8".into(),
        _ => error.to_string(),
    }
}

/// A mistake at a line and perhaps a column.
pub fn line_error(line: u64, column: Option<&str>, message: String) -> LineError {
    // It repeats what stands in the file.
    LineError { line, column: column.map(str::to_owned), message: shown(&message).into_owned() }
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
        assert!(messages[0].starts_with("unknown column `sorce`") && messages[1] == "the column `source` is missing");
    }

    /// Reads one line below this header; the errors by column and message.
    fn wrong(header: &str, line: &str) -> Vec<(String, String)> {
        let (_, errors) = read(&format!("login,source,{header}\n{line}\n"), &["tidehall".into()]);
        errors.into_iter().map(|error| (error.column.unwrap_or_default(), error.message)).collect()
    }

    fn read_one(header: &str, line: &str) -> Line {
        let (mut lines, errors) = read(&format!("login,source,{header}\n{line}\n"), &["tidehall".into()]);
        assert!(errors.is_empty(), "{errors:?}");
        lines.remove(0)
    }

    #[test]
    fn each_column_has_its_own_mistakes() {
        for (header, line, column, message) in [
            ("password", "ines,tidehall,tide", "password", "`tidehall` checks its own passwords; leave it empty"),
            ("name", ",roster,Nobody", "login", "a login name has 1 to 253 bytes and no control characters"),
            ("name", "ines,tidhall,Ines", "source", "unknown source `tidhall`; known: tidehall, roster"),
        ] {
            assert_eq!(wrong(header, line), [(column.to_owned(), message.to_owned())], "{header}: {line}");
        }
        for (header, line, column) in [
            ("disabled", "ines,roster,perhaps", "disabled"),
            ("keep", "ines,roster,forever", "keep"),
            ("totp_seed,digits", "ines,roster,GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ,5", "digits"),
            ("totp_seed,period", "ines,roster,GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ,0", "period"),
        ] {
            let found = wrong(header, line);
            assert!(found.iter().any(|(seen, _)| seen == column), "{header}: {line}: {found:?}");
        }
    }

    #[test]
    fn names_are_read_in_lower_case_and_groups_one_by_one() {
        let line = read_one("name,groups", "  INES ,tidehall,Ines Okafor,control-room;Turbine-Crew");
        assert_eq!((line.person.login.as_str(), line.person.name.as_str()), ("ines", "Ines Okafor"));
        assert_eq!(line.person.groups.len(), 2);
        assert!(line.password.is_none() && line.device.is_none());
    }

    #[test]
    fn a_byte_order_mark_comments_and_empty_lines_are_no_people() {
        let text = "\u{feff}login,source\n# who is who\nines,tidehall\n\nyuki,tidehall\n";
        let (lines, errors) = read(text, &["tidehall".into()]);
        assert_eq!((lines.len(), errors.len()), (2, 0));
        let (lines, errors) = read("", &[]);
        assert!(lines.is_empty() && errors.iter().any(|error| error.message == "the column `login` is missing"), "{errors:?}");
    }

    #[test]
    fn control_characters_of_a_file_are_not_repeated_as_they_are() {
        let error = line_error(7, Some("login"), "`\u{1b}[31mines` is unknown".into());
        assert_eq!(error.message, "`\\u{1b}[31mines` is unknown");
        assert_eq!((error.line, error.column.as_deref()), (7, Some("login")));
    }

    #[test]
    fn a_person_differs_where_anything_that_is_kept_does() {
        let known = PersonRow {
            id: 1,
            source: "tidehall".into(),
            login: "ines".into(),
            name: "Ines Okafor".into(),
            password: None,
            groups: Vec::new(),
            disabled: false,
            mail: Some("ines@northmoor.example".into()),
            phone: None,
            language: "en".into(),
            kept: None,
            factors: Vec::new(),
        };
        let same = || NewPerson { name: "Ines Okafor".into(), language: "en".into(), ..NewPerson::default() };
        assert!(!differs(&same(), &known), "what a file leaves out stays");
        assert!(differs(&NewPerson { name: "Ines".into(), ..same() }, &known));
        assert!(differs(&NewPerson { language: "de".into(), ..same() }, &known));
        assert!(differs(&NewPerson { disabled: Some(true), ..same() }, &known));
        assert!(!differs(&NewPerson { disabled: Some(false), ..same() }, &known));
        assert!(differs(&NewPerson { mail: Some("i@northmoor.example".into()), ..same() }, &known));
        assert!(differs(&NewPerson { groups: vec!["crew".into()], ..same() }, &known));
    }
}
