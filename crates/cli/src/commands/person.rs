//! `bivector person …`

use crate::arguments::{Global, Person as PersonCommand};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_service::api::{PersonView, Problem};
use bivector_service::people::Imported;
use std::path::Path;
use std::process::ExitCode;

pub(crate) async fn run(command: PersonCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        PersonCommand::List => list(&client.get::<Vec<PersonView>>("/people", &[]).await?, global),
        PersonCommand::Show { login } => show(&client.get::<Vec<PersonView>>(&format!("/people/{}", encode(&login)), &[]).await?, global),
        PersonCommand::Import { file, preview } => return import(&client, &file, preview, global).await,
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
        output::line("nobody is known yet; try `bivector person import FILE.csv`");
    }
}

fn state(person: &PersonView) -> &'static str {
    match person.lock.as_ref().is_some_and(|lock| lock.locked_until_us.is_some()) {
        _ if person.disabled => "disabled",
        true => "codes locked",
        false => "",
    }
}

fn show(people: &[PersonView], global: &Global) {
    if global.json {
        return output::json(&people);
    }
    for person in people {
        output::line(format!("{}  {}  from {} {}", person.login, person.name, person.source, state(person)));
        if !person.groups.is_empty() {
            output::line(format!("  groups    {}", person.groups.join(", ")));
        }
        let password = if person.has_password { "kept here, hashed" } else { "checked by its source" };
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
        if person.factors.is_empty() {
            output::line("  factor    none yet");
        }
    }
}

async fn import(client: &Client, file: &Path, preview: bool, global: &Global) -> Result<ExitCode, Failure> {
    let body = serde_json::json!({ "csv": output::read_file(file)?, "preview": preview });
    let (status, bytes) = client.post_raw("/people/import", &body).await?;
    let imported: Imported = match serde_json::from_slice(&bytes) {
        Ok(imported) => imported,
        Err(_) => {
            let problem = serde_json::from_slice::<Problem>(&bytes);
            return Err(
                problem.map_or_else(|_| Failure::unreachable(format!("the answer cannot be read (status {status})"), ""), Failure::from)
            );
        }
    };
    if global.json {
        output::json(&imported);
    } else {
        for error in &imported.errors {
            let column = error.column.as_ref().map(|column| format!(", {column}")).unwrap_or_default();
            output::line(format!("{}:{}{column}: {}", file.display(), error.line, error.message));
        }
        let count = |number: usize, one: &str, many: &str| format!("{number} {}", if number == 1 { one } else { many });
        let what = format!("{} with {}", count(imported.people, "person", "people"), count(imported.factors, "factor", "factors"));
        output::line(match (imported.errors.is_empty(), preview) {
            (false, _) => format!(
                "{} wrong; nothing was imported",
                if imported.errors.len() == 1 { "1 line is".to_owned() } else { format!("{} places are", imported.errors.len()) }
            ),
            (true, true) => format!("would import {what}"),
            (true, false) => format!("imported {what}"),
        });
    }
    Ok(if imported.errors.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}
