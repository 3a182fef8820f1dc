//! `bivector factor …`

use crate::arguments::{Factor as FactorCommand, Global, Whose};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::people::Made;
use bivector_api::people::{AddedFactor, FactorState, FactorView, GuessesView, LockView, PersonView, Released};
use bivector_api::push::{PushState, PushTested, PushView};
use bivector_site::read_duration;
use reqwest::Method;
use serde_json::{Value, json};
use std::process::ExitCode;

pub(crate) async fn run(command: FactorCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    match command {
        FactorCommand::List(whose) => {
            let people = client.get::<Vec<PersonView>>(&format!("/people/{}", encode(&whose.person)), &[]).await?;
            let people: Vec<PersonView> =
                people.into_iter().filter(|one| whose.source.as_ref().is_none_or(|own| *own == one.source)).collect();
            list(&people, global);
        }
        FactorCommand::Add { whose, kind, label, digits, period, algorithm, counter, seed_file } => {
            let seed = seed_file.map(|file| output::read_hidden(Some(&file), "")).transpose()?;
            let body = json!({
                "kind": kind, "label": label, "digits": digits, "period": period, "algorithm": algorithm, "counter": counter,
                "seed": seed.as_ref().map(|seed| seed.expose().as_str()),
            });
            added(&add(&client, &whose, &body).await?, global);
        }
        FactorCommand::Recovery(whose) => added(&add(&client, &whose, &json!({ "kind": "recovery", "label": "recovery" })).await?, global),
        FactorCommand::Temporary { whose, lasts, reason, uses, digits } => {
            let lasts =
                read_duration(&lasts).ok_or_else(|| Failure::usage(format!("`{lasts}` is not a duration"), "write `30m`, `8h` or `2d`"))?;
            let body = json!({ "kind": "temporary", "seconds": lasts.as_secs(), "reason": reason, "uses": uses, "digits": digits });
            added(&add(&client, &whose, &body).await?, global);
        }
        FactorCommand::Pin { whose, number, remove, pin_file } => {
            let pin = match remove {
                true => None,
                false => Some(output::read_hidden(pin_file.as_deref(), "PIN (not shown): ")?),
            };
            let body = json!({ "pin": pin.as_ref().map(|pin| pin.expose().as_str()) });
            changed(&client, Method::PUT, &whose, &format!("/factors/{number}/pin"), Some(&body), global).await?;
        }
        FactorCommand::Resync { whose, number, first, second } => {
            let body = json!({ "first": first, "second": second });
            changed(&client, Method::POST, &whose, &format!("/factors/{number}/resync"), Some(&body), global).await?;
        }
        FactorCommand::Remove { whose, number } => {
            changed(&client, Method::DELETE, &whose, &format!("/factors/{number}"), None, global).await?;
        }
        FactorCommand::Test { whose, number } => {
            let path = format!("{}/factors/{number}/push-test", person_path(&client, &whose).await?);
            let tested: PushTested = client.ask::<Value, _>(Method::POST, &path, &[], None).await?;
            if global.json {
                output::json(&tested);
            } else if tested.accepted {
                output::line(format!("sent: {}; have the person tap the notification, then look at `bivector factor list`", tested.said));
            } else {
                return Err(Failure::no(format!("nothing was sent: {}", tested.said), "see `bivector factor list`"));
            }
        }
        FactorCommand::Release(whose) => {
            let path = format!("{}/release", person_path(&client, &whose).await?);
            let released: Released = client.ask::<Value, _>(Method::POST, &path, &[], None).await?;
            if global.json {
                output::json(&released);
            } else if released.released {
                output::line(format!("{} is unlocked: wrong codes, stopped approvals and remembered devices are cleared", released.person));
            } else {
                output::line(format!("nothing to unlock for {}", released.person));
            }
        }
        FactorCommand::Invite { whose, withdraw: true, .. } => {
            let path = format!("{}/invitation", invitation_path(&client, &whose).await?);
            client.ask::<Value, ()>(Method::DELETE, &path, &[], None).await?;
            output::line(format!("the invitation of {} is cancelled", whose.person));
        }
        FactorCommand::Invite { whose, to, send_by, .. } => {
            let path = format!("{}/invitation", invitation_path(&client, &whose).await?);
            let made: Made = client.ask(Method::POST, &path, &[], Some(&json!({ "factor": to, "send_by": send_by }))).await?;
            invited(&made, global)?;
        }
        FactorCommand::Confirm { whose, reference } => {
            let body = json!({ "reference": reference });
            changed(&client, Method::POST, &whose, "/factors/0/confirm", Some(&body), global).await?;
        }
        FactorCommand::Rename { whose, number, label } => {
            changed(&client, Method::PUT, &whose, &format!("/factors/{number}"), Some(&json!({ "label": label })), global).await?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The path of a person who may be known to a directory only: then the one directory that there is, is asked.
async fn invitation_path(client: &Client, whose: &Whose) -> Result<String, Failure> {
    match person_path(client, whose).await {
        Err(failure) if whose.source.is_none() && failure.is_no() => {
            let directories = client.get::<Vec<bivector_api::directories::DirectoryView>>("/directories", &[]).await?;
            match directories.as_slice() {
                [one] => Ok(format!("/people/{}/{}", encode(&one.name), encode(&whose.person.to_lowercase()))),
                _ => Err(failure),
            }
        }
        other => other,
    }
}

/// Shows an invitation, with a code for the camera where there is a link.
fn invited(made: &Made, global: &Global) -> Result<(), Failure> {
    if global.json {
        output::json(made);
        return Ok(());
    }
    let until = output::when(made.until_us);
    if let Some(to) = &made.sent_to {
        output::line(format!("sent to {to}; valid once, until {until}"));
        return Ok(());
    }
    if let Some(link) = &made.link {
        if output::is_terminal() {
            let code = qrcode::QrCode::new(link).map_err(|error| Failure::no(error.to_string(), "hand the link over"))?;
            output::line(code.render::<qrcode::render::unicode::Dense1x2>().quiet_zone(true).build());
        }
        output::line(format!("link  {link}"));
    }
    output::line(format!("code  {}", made.code));
    output::line(format!("For {} only; valid once, until {until}. Shown only once.", made.person));
    Ok(())
}

/// The path of a person. One whom several sources know must be told by `--source`; a directory's person may not be known here yet.
pub(crate) async fn person_path(client: &Client, whose: &Whose) -> Result<String, Failure> {
    let source = match &whose.source {
        Some(source) => source.clone(),
        None => {
            let mut known = client.get::<Vec<PersonView>>(&format!("/people/{}", encode(&whose.person)), &[]).await?;
            let sources: Vec<String> = known.iter().map(|person| person.source.clone()).collect();
            match (known.pop(), known.is_empty()) {
                (Some(person), true) => person.source,
                _ => {
                    let said = format!("`{}` exists in {}", whose.person, sources.join(" and "));
                    return Err(Failure::usage(said, "choose one with `--source`"));
                }
            }
        }
    };
    Ok(format!("/people/{}/{}", encode(&source), encode(&whose.person.to_lowercase())))
}

async fn add(client: &Client, whose: &Whose, body: &Value) -> Result<AddedFactor, Failure> {
    let path = format!("{}/factors", person_path(client, whose).await?);
    client.ask(Method::POST, &path, &[], Some(body)).await
}

async fn changed(client: &Client, method: Method, whose: &Whose, rest: &str, body: Option<&Value>, global: &Global) -> Result<(), Failure> {
    let path = format!("{}{rest}", person_path(client, whose).await?);
    let person: PersonView = client.ask(method, &path, &[], body).await?;
    list(&[person], global);
    Ok(())
}

fn added(added: &AddedFactor, global: &Global) {
    if global.json {
        return output::json(added);
    }
    output::line(describe(&added.factor));
    if let (Some(seed), Some(link)) = (&added.seed, &added.link) {
        output::line(format!("seed  {seed}"));
        output::line(format!("link  {link}"));
    }
    added.codes.iter().for_each(output::line);
    if added.seed.is_some() || !added.codes.is_empty() {
        output::line("Shown only once. Pass it on securely.");
    }
    if let Some(warning) = &added.warning {
        output::line(format!("warning: {warning}"));
    }
}

fn list(people: &[PersonView], global: &Global) {
    if global.json {
        return output::json(&people);
    }
    for person in people {
        output::line(format!("{}  {}  from {}", person.login, person.name, person.source));
        let mut table = output::table(&["number", "kind", "name", "state", "codes", "PIN", "clock or counter", "last used"]);
        for factor in &person.factors {
            let codes = match (factor.left, factor.period) {
                _ if factor.digits == 0 => String::new(),
                (Some(left), _) => format!("{left} left, {} digits", factor.digits),
                (None, Some(period)) => format!("{} digits every {period} s", factor.digits),
                (None, None) => format!("{} digits", factor.digits),
            };
            table.add_row([
                factor.id.to_string(),
                factor.kind.clone(),
                factor.label.clone(),
                state(factor),
                codes,
                if factor.has_pin { "set" } else { "" }.to_owned(),
                place(factor),
                factor.last_used_us.map_or_else(|| "never".to_owned(), output::when),
            ]);
        }
        output::print_table(&table);
        for factor in &person.factors {
            if let Some(push) = &factor.push {
                output::line(describe_push(&factor.label, push));
            }
        }
        if person.factors.is_empty() {
            output::line("no factor yet; invite the person with `bivector factor invite`, or add one with `bivector factor add`");
        }
        if let Some(lock) = &person.lock {
            output::line(describe_lock(lock));
        }
        if let Some(guesses) = &person.passwords {
            output::line(describe_guesses(guesses));
        }
    }
}

fn state(factor: &FactorView) -> String {
    match (factor.state, factor.until_us) {
        (FactorState::Ready, Some(until)) => format!("until {}", output::when(until)),
        // A handset is ready once its notifications work, as far as the site sends any.
        (FactorState::Ready, None) if factor.push.as_ref().is_some_and(|push| push.state != PushState::Ready) => {
            "no notifications".to_owned()
        }
        (FactorState::Ready, None) => "ready".to_owned(),
        (FactorState::UsedUp, _) => "used up".to_owned(),
        (FactorState::Ended, _) => "ended".to_owned(),
        (FactorState::Waiting, _) => "awaiting confirmation".to_owned(),
        (FactorState::Unreadable, _) => "cannot be decrypted with this key file".to_owned(),
    }
}

fn place(factor: &FactorView) -> String {
    match (factor.drift_seconds, factor.counter) {
        (Some(0), _) => "on time".to_owned(),
        (Some(seconds), _) => format!("{} s {}", seconds.abs(), if seconds < 0 { "late" } else { "early" }),
        (None, Some(counter)) => format!("next {counter}"),
        (None, None) => String::new(),
    }
}

/// How a handset can be woken, in a line.
pub(crate) fn describe_push(label: &str, push: &PushView) -> String {
    let heard = push.heard_us.map_or_else(|| "never heard from".to_owned(), |at| format!("last heard from {}", output::ago(at)));
    let last =
        push.result.as_ref().map(|result| format!("; last message {}: {result}", push.sent_us.map_or_else(String::new, output::ago)));
    format!("“{label}”: {}; {heard}{}", push.said, last.unwrap_or_default())
}

/// A factor in a line.
pub(crate) fn describe(factor: &FactorView) -> String {
    let digits = if factor.digits == 0 { String::new() } else { format!(", {} digits", factor.digits) };
    let mut said = format!("{} “{}” (number {}){digits}", factor.kind, factor.label, factor.id);
    if let Some(period) = factor.period {
        said.push_str(&format!(" every {period} s"));
    }
    if let Some(left) = factor.left {
        said.push_str(&format!(", {left} left"));
    }
    if factor.has_pin {
        said.push_str(", with a PIN");
    }
    let place = place(factor);
    if !place.is_empty() {
        said.push_str(&format!(", {place}"));
    }
    if factor.state != FactorState::Ready || factor.until_us.is_some() {
        said.push_str(&format!(", {}", state(factor)));
    }
    if let (Some(reason), Some(operator)) = (&factor.reason, &factor.operator) {
        said.push_str(&format!(", issued by {operator}: {reason}"));
    }
    format!("{said}, added {}", output::when(factor.created_us))
}

/// A lock, or how near it is, in a line.
pub(crate) fn describe_lock(lock: &LockView) -> String {
    let last = output::when(lock.last_us);
    let wrong = format!("{} of {} wrong codes in a row, the last through {} at {last}", lock.wrong, lock.after, lock.gateway);
    match lock.locked_until_us {
        Some(until) => format!("locked until {}: {wrong}; `bivector factor release` ends it", output::when(until)),
        None => wrong,
    }
}

/// Wrong passwords, and what came of them, in a line.
pub(crate) fn describe_guesses(guesses: &GuessesView) -> String {
    let last = output::when(guesses.last_us);
    let wrong =
        format!("{} wrong passwords in a row ({} make wait), the last through {} at {last}", guesses.wrong, guesses.after, guesses.gateway);
    match guesses.until_us {
        Some(until) => format!("passwords not checked until {}: {wrong}; `bivector factor release` ends it", output::when(until)),
        None => wrong,
    }
}
