//! Changing many people at once: from a list, or to match a group of a directory. Each is looked at as a whole first.

use crate::people::line_error;
use bivector_api::people::LineError;
use bivector_api::people::{EditLine, Edited, Leavers, Synced};
use bivector_core::login::{Found, Unavailable};
use bivector_engine::invitations::{self, Whom};
use bivector_engine::live::LiveSite;
use bivector_engine::shared::Shared;
use bivector_site::Invited;
use bivector_store::clock;
use bivector_store::records::person_key;
use bivector_store::records::{Edit, FactorRow, NewPerson, PersonRow, RecordsError};
use csv::StringRecord;
use std::collections::HashSet;
use std::sync::Arc;

/// Columns of a list of changes; the first two are needed.
pub const EDIT_COLUMNS: &[&str] = &["login", "action", "source", "factor", "value"];
const ACTIONS: &[&str] = &["invite", "remove", "rename", "release", "suspend", "lift"];
/// Lines of one list at most.
const MAX_LINES: usize = 100_000;

enum Do {
    Edit(Edit),
    Release(String),
    Invite { whom: (String, String), factor: Invited, send_by: Option<usize> },
}

/// Reads a list of changes and, unless `preview` or something is wrong, makes them.
///
/// # Errors
/// The records failed. Mistakes in the list come back in [`Edited`].
pub async fn edit(
    text: &str,
    preview: bool,
    operator: &str,
    shared: &Arc<Shared>,
    live: &LiveSite,
) -> Result<Edited, bivector_store::ServiceError> {
    let (todo, lines, errors) = read(text, shared, live);
    let mut edited = Edited { lines, errors, ..Edited::default() };
    if preview || !edited.errors.is_empty() {
        return Ok(edited);
    }
    let (mut edits, mut others) = (Vec::new(), Vec::new());
    for one in todo {
        match one {
            Do::Edit(edit) => edits.push(edit),
            other => others.push(other),
        }
    }
    if !edits.is_empty() {
        let what = format!("{} changes from a list", edits.len());
        edited.change = Some(shared.records.change_people(operator.to_owned(), what, edits, clock::now()).await?);
    }
    for other in others {
        match other {
            Do::Release(key) => release(shared, &key).await.map(|_| ())?,
            Do::Invite { whom: (source, login), factor, send_by } => {
                let made = match invitations::make_known(shared, live, &source, &login).await {
                    Ok(whom) => invitations::invite(shared, live, &whom, factor, send_by, operator).await,
                    Err(why) => Err(why),
                };
                match made {
                    Ok(made) => edited.invitations.push(made),
                    Err(why) => edited.missed.push(format!("{}: {why}", person_key(&source, &login))),
                }
            }
            Do::Edit(_) => {}
        }
    }
    shared.catch_up().await?;
    Ok(edited)
}

/// Forgets a person's wrong codes, stopped approvals and remembered devices; whether there was anything to forget.
///
/// # Errors
/// The records failed.
pub async fn release(shared: &Shared, key: &str) -> Result<bool, RecordsError> {
    let wrong = shared.records.release(key.to_owned()).await?;
    let guesses = shared.guesses.release(key).await?;
    let more = shared.records.forget_devices(key.to_owned()).await?;
    shared.catch_up().await.map_err(|error| RecordsError(error.to_string()))?;
    shared.roster.note_lock(key, None);
    shared.tell_person(key);
    Ok(wrong || guesses || more)
}

fn read(text: &str, shared: &Shared, live: &LiveSite) -> (Vec<Do>, Vec<EditLine>, Vec<LineError>) {
    let (mut todo, mut lines, mut errors) = (Vec::new(), Vec::new(), Vec::new());
    let mut reader =
        csv::ReaderBuilder::new().comment(Some(b'#')).trim(csv::Trim::All).from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let headers = match reader.headers() {
        Ok(headers) => headers.clone(),
        Err(error) => return (todo, lines, vec![line_error(1, None, format!("the header cannot be read: {error}"))]),
    };
    crate::people::check_headers(&headers, EDIT_COLUMNS, &mut errors);
    if !errors.is_empty() {
        return (todo, lines, errors);
    }
    let mut seen = HashSet::new();
    for record in reader.records() {
        if lines.len() + errors.len() >= MAX_LINES {
            errors.push(line_error(0, None, format!("more than {MAX_LINES} lines; split the list")));
            break;
        }
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                errors.push(line_error(error.position().map_or(0, csv::Position::line), None, crate::people::describe(&error)));
                continue;
            }
        };
        let at = record.position().map_or(0, csv::Position::line);
        match read_line(&record, &headers, shared, live) {
            Ok((one, person, does)) => {
                if !seen.insert((person.clone(), does.clone())) {
                    errors.push(line_error(at, Some("login"), format!("duplicate: an earlier line has the same action for `{person}`")));
                    continue;
                }
                lines.push(EditLine { line: at, person, does });
                todo.push(one);
            }
            Err((column, message)) => errors.push(line_error(at, Some(column), message)),
        }
    }
    (todo, lines, errors)
}

type Wrong = (&'static str, String);

fn read_line(record: &StringRecord, headers: &StringRecord, shared: &Shared, live: &LiveSite) -> Result<(Do, String, String), Wrong> {
    let field = |name: &str| headers.iter().position(|header| header == name).and_then(|index| record.get(index)).unwrap_or_default();
    let login = field("login").to_lowercase();
    if login.is_empty() {
        return Err(("login", "the login name is empty".into()));
    }
    let source = Some(field("source")).filter(|source| !source.is_empty()).unwrap_or("roster").to_owned();
    let key = person_key(&source, &login);
    let action = field("action");
    if action == "invite" {
        return read_invitation(field("factor"), field("value"), source, login, live).map(|(one, does)| (one, key, does));
    }
    let person = shared.roster.get(&key).ok_or_else(|| ("login", format!("unknown person `{login}` of `{source}`")))?;
    let (login, source) = (person.login.clone(), person.source.clone());
    let (one, does) = match action {
        "remove" => {
            let factor = named_factor(&person, field("factor"))?;
            let does = format!("loses {} “{}”", factor.kind, factor.label);
            (Do::Edit(Edit::RemoveFactor { source, login, factor: factor.id }), does)
        }
        "rename" => {
            let (factor, label) = (named_factor(&person, field("factor"))?, field("value").to_owned());
            if label.is_empty() || label.len() > 60 || !bivector_model::text::is_plain(&label) {
                return Err(("value", "a name has 1 to 60 bytes and no control characters".into()));
            }
            let does = format!("{} “{}” is called “{label}”", factor.kind, factor.label);
            (Do::Edit(Edit::RenameFactor { source, login, factor: factor.id, label }), does)
        }
        "suspend" | "lift" => {
            let suspended = action == "suspend";
            let does = if suspended { "is suspended" } else { "is no longer suspended" };
            (Do::Edit(Edit::Suspend { source, login, suspended }), does.to_owned())
        }
        "release" => (Do::Release(key.clone()), "is unlocked: wrong codes, stops and remembered devices are cleared".to_owned()),
        other => return Err(("action", format!("`{other}` is not an action; known: {}", ACTIONS.join(", ")))),
    };
    Ok((one, key, does))
}

fn read_invitation(factor: &str, value: &str, source: String, login: String, live: &LiveSite) -> Result<(Do, String), Wrong> {
    let known = source == "roster" || live.site.directories.iter().any(|directory| directory.name == source);
    if !known {
        return Err(("source", format!("unknown source `{source}` whose people could be invited")));
    }
    let invited = match factor {
        "" => Invited::Approval,
        name => Invited::ALL
            .iter()
            .copied()
            .find(|known| known.name() == name)
            .ok_or_else(|| ("factor", format!("`{name}` is not a factor to invite to; known: approval, totp")))?,
    };
    let send_by = match value {
        "" => None,
        name => Some(live.site.couriers.iter().position(|courier| courier.name == name).ok_or_else(|| {
            let known: Vec<&str> = live.site.couriers.iter().map(|courier| courier.name.as_str()).collect();
            ("value", format!("unknown courier `{name}`; known: {}", known.join(", ")))
        })?),
    };
    let by = if value.is_empty() { "handed over".to_owned() } else { format!("sent by {value}") };
    let does = format!("is invited to {}, {by}", invited.name());
    Ok((Do::Invite { whom: (source, login), factor: invited, send_by }, does))
}

/// A factor by its number, its name, or its kind where there is one of that.
fn named_factor<'p>(person: &'p PersonRow, text: &str) -> Result<&'p FactorRow, Wrong> {
    let fits = |factor: &&FactorRow| factor.id.to_string() == text || factor.label == text || factor.kind.name() == text;
    let mut found = person.factors.iter().filter(fits);
    let has = || person.factors.iter().map(|factor| format!("{} “{}”", factor.kind, factor.label)).collect::<Vec<_>>().join(", ");
    match (found.next(), found.next()) {
        (Some(one), None) => Ok(one),
        (None, _) => Err(("factor", format!("{} has no factor `{text}`; known: {}", person.login, has()))),
        (Some(_), Some(_)) => Err(("factor", format!("`{text}` of {} is not one factor; known: {}", person.login, has()))),
    }
}

/// Compares the people of a directory that are known here with a group of it and, unless `preview`, brings them up to date.
///
/// # Errors
/// The directory could not say, or the records failed.
pub async fn sync(
    directory: &str,
    group: &str,
    leavers: Leavers,
    preview: bool,
    operator: &str,
    shared: &Arc<Shared>,
    live: &LiveSite,
) -> Result<Result<Synced, Unavailable>, bivector_store::ServiceError> {
    let Some(source) = live.directories.iter().find(|source| source.name() == directory) else { return Ok(Ok(Synced::default())) };
    let members = match source.members(group).await.value {
        Ok(members) => members,
        Err(why) => return Ok(Err(why)),
    };
    let (mut synced, mut edits, mut newcomers) = (Synced { members: members.len(), ..Synced::default() }, Vec::new(), Vec::new());
    for found in &members {
        compare(found, directory, shared, &mut synced, &mut edits, &mut newcomers);
    }
    let in_group: HashSet<&str> = members.iter().map(|found| found.key.as_str()).collect();
    for person in shared.roster.all().iter().filter(|person| person.source == directory) {
        let key = person_key(&person.source, &person.login);
        if in_group.contains(key.as_str()) {
            continue;
        }
        let (source, login) = (person.source.clone(), person.login.clone());
        match leavers {
            Leavers::Keep => {}
            Leavers::Suspend if person.disabled => continue,
            Leavers::Suspend => edits.push(Edit::Suspend { source, login, suspended: true }),
            Leavers::Remove => edits.push(Edit::Remove { source, login }),
        }
        synced.left.push(key);
    }
    // An empty group is most often a wrong name: nobody is put out because of one.
    let puts_out_all = members.is_empty() && leavers != Leavers::Keep;
    if preview || puts_out_all || edits.is_empty() {
        return Ok(Ok(synced));
    }
    let what = format!(
        "sync with {group} of {directory}: {} joined, {} left, {} changed",
        synced.joined.len(),
        synced.left.len(),
        synced.changed.len()
    );
    synced.change = Some(shared.records.change_people(operator.to_owned(), what, edits, clock::now()).await?);
    shared.catch_up().await?;
    (synced.invited, synced.missed) = invitations::welcome(shared, live, &newcomers, operator).await;
    Ok(Ok(synced))
}

fn compare(found: &Found, directory: &str, shared: &Shared, synced: &mut Synced, edits: &mut Vec<Edit>, newcomers: &mut Vec<Whom>) {
    let login = found.login.to_lowercase();
    let keep = |_: ()| {
        Edit::Keep(Box::new(NewPerson {
            source: directory.to_owned(),
            login: login.clone(),
            name: found.name.clone(),
            language: found.language.clone(),
            ..NewPerson::default()
        }))
    };
    match shared.roster.get(&found.key) {
        None => {
            synced.joined.push(found.key.clone());
            edits.push(keep(()));
            newcomers.push(Whom {
                source: directory.to_owned(),
                login: login.clone(),
                name: found.name.clone(),
                groups: found.groups.names().into_iter().map(str::to_lowercase).collect(),
                mail: found.mail.clone(),
                phone: found.phone.clone(),
                language: found.language.clone(),
            });
        }
        Some(known) if known.disabled => synced.suspended.push(found.key.clone()),
        Some(known) if known.name != found.name || known.language != found.language => {
            let said = match known.name == found.name {
                true => format!("reads `{}` instead of `{}`", found.language, known.language),
                false => format!("is called “{}” instead of “{}”", found.name, known.name),
            };
            synced.changed.insert(found.key.clone(), said);
            edits.push(keep(()));
        }
        Some(_) => {}
    }
}
