//! `bivector person …`

use super::factor::person_path;
use crate::arguments::{Global, Person as PersonCommand};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::people::Change;
use bivector_api::people::{Edited, Synced};
use bivector_api::people::{Imported, LineError};
use bivector_api::people::{PersonRequest, PersonState, PersonView, RollOut, Undoable, Undone};
use bivector_api::problem::Problem;
use reqwest::Method;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use std::path::Path;
use std::process::ExitCode;

/// Lines of a long answer that are shown.
const SHOWN: usize = 40;

pub(crate) async fn run(command: PersonCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        PersonCommand::List { search, state, without_factor } => {
            let query: Vec<(&str, String)> =
                [("search", search), ("state", state)].into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
            let mut people = client.get::<Vec<PersonView>>("/people", &query).await?;
            if without_factor {
                use PersonState::{Expired, Invited, NotYet, Waiting};
                people.retain(|person| matches!(person.state, NotYet | Invited | Expired | Waiting));
            }
            list(&people, global);
        }
        PersonCommand::Progress => progress(&client.get::<RollOut>("/people/roll-out", &[]).await?, global),
        PersonCommand::Show { login } => show(&client.get::<Vec<PersonView>>(&format!("/people/{}", encode(&login)), &[]).await?, global),
        PersonCommand::Add { login, source, name, groups, mail, phone, language, password_file } => {
            let password = password_file.map(|file| output::read_hidden(Some(&file), "")).transpose()?;
            let password = password.map(|password| password.expose().clone());
            let request = PersonRequest { name, groups, mail, phone, language, password };
            let path = format!("/people/{}/{}", encode(&source), encode(&login.to_lowercase()));
            let person: PersonView = client.ask(Method::PUT, &path, &[], Some(&request)).await?;
            show(&[person], global);
        }
        PersonCommand::Import { file, preview } => return import(&client, &file, preview, global).await,
        PersonCommand::Edit { file, preview } => return edit(&client, &file, preview, global).await,
        PersonCommand::Sync { directory, group, leavers, apply } => {
            let request = json!({ "directory": directory, "group": group, "leavers": leavers, "preview": !apply });
            let synced: Synced = client.ask(Method::POST, "/people/sync", &[], Some(&request)).await?;
            show_sync(&synced, &leavers, apply, global);
        }
        PersonCommand::Suspend { whose, lift } => {
            let path = format!("{}/suspension", person_path(&client, &whose).await?);
            let person: PersonView = client.ask(Method::PUT, &path, &[], Some(&json!({ "suspended": !lift }))).await?;
            show(&[person], global);
        }
        PersonCommand::Remove { whose, yes } => {
            let path = person_path(&client, &whose).await?;
            if !yes && !output::confirmed(&format!("delete {} and all factors? [y/N] ", whose.person))? {
                return Err(Failure::no("nothing was removed", "answer `y`, or give `--yes`"));
            }
            let undoable: Undoable = client.ask::<Value, _>(Method::DELETE, &path, &[], None).await?;
            if global.json {
                output::json(&undoable);
            } else {
                output::line(format!("{} is deleted; `bivector person undo {}` restores it", whose.person, undoable.change));
            }
        }
        PersonCommand::Changes => changes(&client.get::<Vec<Change>>("/people/changes", &[]).await?, global),
        PersonCommand::Undo { number } => {
            let undone: Undone = client.ask::<Value, _>(Method::POST, &format!("/people/changes/{number}/undo"), &[], None).await?;
            if global.json {
                output::json(&undone);
            } else {
                output::line(format!("undone: {}", undone.change.what));
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn list(people: &[PersonView], global: &Global) {
    if global.json {
        return output::json(&people);
    }
    let mut table = output::table(&["login", "source", "name", "factors", "state"]);
    for person in people {
        let factors: Vec<String> = person.factors.iter().map(|factor| format!("{} “{}”", factor.kind, factor.label)).collect();
        let factors = if factors.is_empty() { "none".to_owned() } else { factors.join(", ") };
        table.add_row([&person.login, &person.source, &person.name, &factors, state(person)]);
    }
    output::print_table(&table);
    if people.is_empty() {
        output::line("nobody; try `bivector person add LOGIN`, `import FILE.csv` or `sync DIRECTORY --group GROUP`");
    }
}

fn state(person: &PersonView) -> &'static str {
    let codes_locked = person.lock.as_ref().is_some_and(|lock| lock.locked_until_us.is_some());
    match person.state {
        PersonState::Suspended => "suspended",
        PersonState::Locked if codes_locked => "codes locked",
        PersonState::Locked if person.stop.is_none() => "passwords not checked",
        PersonState::Locked => "approvals stopped",
        PersonState::Proven => "proven",
        PersonState::Enrolled => "enrolled, not used yet",
        PersonState::Waiting => "new device awaiting confirmation",
        PersonState::Invited => "invited",
        PersonState::Expired => "invitation expired",
        PersonState::NotYet => "not enrolled",
    }
}

fn progress(roll_out: &RollOut, global: &Global) {
    if global.json {
        return output::json(roll_out);
    }
    let mut table = output::table(&["state", "people", "of all"]);
    for (state, count) in &roll_out.states {
        let share = 100.0 * *count as f64 / roll_out.people.max(1) as f64;
        table.add_row([state.clone(), count.to_string(), format!("{share:.1} %")]);
    }
    output::print_table(&table);
    output::line(format!("{} people in all", roll_out.people));
}

fn show(people: &[PersonView], global: &Global) {
    if global.json {
        return output::json(&people);
    }
    for person in people {
        output::line(format!("{}  {}  from {}, {}", person.login, person.name, person.source, state(person)));
        if !person.groups.is_empty() {
            output::line(format!("  groups    {}", person.groups.join(", ")));
        }
        let password = match (person.has_password, person.source.as_str()) {
            (true, _) => "kept here, hashed".to_owned(),
            (false, "roster") => "none yet: `bivector person add --password-file` sets one".to_owned(),
            (false, source) => format!("checked by {source}"),
        };
        output::line(format!("  password  {password}"));
        for (what, text) in [("mail", &person.mail), ("phone", &person.phone), ("kept too", &person.keeps)] {
            if let Some(text) = text {
                output::line(format!("  {what:<9} {text}"));
            }
        }
        for factor in &person.factors {
            output::line(format!("  factor    {}", super::factor::describe(factor)));
        }
        if let Some(lock) = &person.lock {
            output::line(format!("  lock      {}", super::factor::describe_lock(lock)));
        }
        if let Some(guesses) = &person.passwords {
            output::line(format!("  passwords {}", super::factor::describe_guesses(guesses)));
        }
        if let Some(stop) = &person.stop {
            let from = if stop.from.is_empty() { String::new() } else { format!(" from {}", stop.from) };
            output::line(format!(
                "  stopped   until {}: reported “that was not me” for a login through {}{from}, reference {}; clear with `bivector factor release`",
                output::when(stop.until_us),
                stop.gateway,
                stop.reference
            ));
        }
        if let Some(invitation) = &person.invitation {
            let to = invitation.sent_to.as_ref().map(|to| format!(", sent to {to}")).unwrap_or_default();
            let how = match (invitation.used_us, invitation.expired) {
                (Some(used), _) => format!("used {}", output::when(used)),
                (None, true) => format!("expired {}", output::when(invitation.until_us)),
                (None, false) => format!("open until {}", output::when(invitation.until_us)),
            };
            output::line(format!("  invited   to {} by {}{to}; {how}", invitation.factor.name(), invitation.operator));
        }
        if person.factors.is_empty() {
            output::line("  factor    none yet");
        }
    }
}

/// An answer that comes with the same shape whether lines were wrong or not.
async fn lines<T: DeserializeOwned>(client: &Client, path: &str, body: &Value) -> Result<T, Failure> {
    let (status, bytes) = client.post_raw(path, body).await?;
    serde_json::from_slice(&bytes).map_err(|_| {
        let problem = serde_json::from_slice::<Problem>(&bytes);
        problem.map_or_else(|_| Failure::unreachable(format!("the answer cannot be read (status {status})"), ""), Failure::from)
    })
}

/// Every line that is wrong; whether there were none.
fn show_errors(file: &Path, errors: &[LineError]) -> bool {
    for error in errors.iter().take(SHOWN) {
        let column = error.column.as_ref().map(|column| format!(", {column}")).unwrap_or_default();
        output::line(format!("{}:{}{column}: {}", file.display(), error.line, error.message));
    }
    if errors.len() > SHOWN {
        output::line(format!("and {} more", errors.len() - SHOWN));
    }
    errors.is_empty()
}

fn count(number: usize, one: &str, many: &str) -> String {
    format!("{number} {}", if number == 1 { one } else { many })
}

fn wrong(errors: usize) -> String {
    if errors == 1 { "1 line is".to_owned() } else { format!("{errors} places are") }
}

fn take_back(change: Option<u64>) {
    if let Some(number) = change {
        output::line(format!("undo with `bivector person undo {number}`"));
    }
}

fn show_missed(missed: &[String]) {
    missed.iter().take(SHOWN).for_each(|one| output::line(format!("not invited: {one}")));
}

async fn import(client: &Client, file: &Path, preview: bool, global: &Global) -> Result<ExitCode, Failure> {
    let imported: Imported = lines(client, "/people/import", &json!({ "csv": output::read_file(file)?, "preview": preview })).await?;
    if global.json {
        output::json(&imported);
    } else {
        let good = show_errors(file, &imported.errors);
        let what = format!("{} with {}", count(imported.people, "person", "people"), count(imported.factors, "factor", "factors"));
        let what = if imported.new > 0 && imported.new < imported.people { format!("{what}, {} new", imported.new) } else { what };
        output::line(match (good, preview) {
            (false, _) => format!("{} wrong; nothing was imported", wrong(imported.errors.len())),
            (true, true) => format!("would import {what}"),
            (true, false) if imported.changed == 0 => format!("nothing was changed: {what} already known as in the file"),
            (true, false) => format!("imported {what}"),
        });
        if imported.invited > 0 {
            output::line(format!("{} invited", count(imported.invited, "newcomer was", "newcomers were")));
        }
        show_missed(&imported.missed);
        take_back(imported.change);
    }
    Ok(if imported.errors.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

async fn edit(client: &Client, file: &Path, preview: bool, global: &Global) -> Result<ExitCode, Failure> {
    let edited: Edited = lines(client, "/people/edits", &json!({ "csv": output::read_file(file)?, "preview": preview })).await?;
    if global.json {
        output::json(&edited);
        return Ok(if edited.errors.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) });
    }
    let mut table = output::table(&["line", "person", if preview { "would be done" } else { "done" }]);
    for line in edited.lines.iter().take(SHOWN) {
        table.add_row([line.line.to_string(), line.person.clone(), line.does.clone()]);
    }
    output::print_table(&table);
    if edited.lines.len() > SHOWN {
        output::line(format!("and {} more", edited.lines.len() - SHOWN));
    }
    if !show_errors(file, &edited.errors) {
        output::line(format!("{} wrong; nothing was done", wrong(edited.errors.len())));
        return Ok(ExitCode::from(1));
    }
    for made in edited.invitations.iter().filter(|made| made.sent_to.is_none()) {
        output::line(format!("invitation of {}: {}", made.person, made.link.as_ref().unwrap_or(&made.code)));
    }
    show_missed(&edited.missed);
    take_back(edited.change);
    Ok(ExitCode::SUCCESS)
}

fn show_sync(synced: &Synced, leavers: &str, applied: bool, global: &Global) {
    if global.json {
        return output::json(synced);
    }
    let (did, left) = (
        if applied { "" } else { "would be " },
        match leavers {
            "suspend" => "kept out",
            "remove" => "removed",
            _ => "left as they are",
        },
    );
    output::line(format!("{} in the group", count(synced.members, "member", "members")));
    let each = |what: String, people: &[String]| {
        if !people.is_empty() {
            output::line(format!("{what}: {}", count(people.len(), "person", "people")));
            people.iter().take(SHOWN).for_each(|person| output::line(format!("  {person}")));
        }
    };
    each(format!("joined, {did}added"), &synced.joined);
    each(format!("not in the group, {did}{left}"), &synced.left);
    let changed: Vec<String> = synced.changed.iter().map(|(person, what)| format!("{person} {what}")).collect();
    each(format!("changed, {did}brought up to date"), &changed);
    each("in the group but suspended here, unchanged".to_owned(), &synced.suspended);
    if synced.invited > 0 {
        output::line(format!("{} invited", count(synced.invited, "newcomer was", "newcomers were")));
    }
    show_missed(&synced.missed);
    match (applied, synced.change) {
        (true, None) => output::line("nothing to change"),
        (true, change) => take_back(change),
        (false, _) => output::line("nothing was changed; use `--apply` to make these changes"),
    }
}

fn changes(changes: &[Change], global: &Global) {
    if global.json {
        return output::json(&changes);
    }
    let mut table = output::table(&["number", "time", "operator", "what", "people", ""]);
    for change in changes {
        let undone = change.undone_us.map(|at| format!("taken back {}", output::when(at))).unwrap_or_default();
        let row = [change.number.to_string(), output::when(change.at_us), change.operator.clone(), change.what.clone()];
        table.add_row(row.into_iter().chain([change.people.to_string(), undone]));
    }
    output::print_table(&table);
    if changes.is_empty() {
        output::line("no changes yet");
    }
}
