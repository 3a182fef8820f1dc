//! `bivector operator …`

use crate::arguments::{Global, Operator as OperatorCommand, RoleName};
use crate::client::{Client, encode};
use crate::failure::Failure;
use crate::output;
use bivector_api::operators::Role;
use bivector_api::operators::{NewSignIn, NewToken, OperatorRequest, OperatorView, RoleRequest, SignInView, TokenRequest};
use reqwest::Method;
use std::path::Path;
use std::process::ExitCode;

impl From<RoleName> for Role {
    fn from(name: RoleName) -> Self {
        match name {
            RoleName::View => Role::View,
            RoleName::Operate => Role::Operate,
            RoleName::Change => Role::Change,
            RoleName::Own => Role::Own,
        }
    }
}

pub(crate) async fn run(command: OperatorCommand, global: &Global) -> Result<ExitCode, Failure> {
    let client = Client::new(global)?;
    let path = |name: &str| format!("/operators/{}", encode(name));
    match command {
        OperatorCommand::List => list(&client.get::<Vec<OperatorView>>("/operators", &[]).await?, global),
        OperatorCommand::Add { name, role } => {
            let request = OperatorRequest { name: name.clone(), role: role.into() };
            let token: NewToken = client.ask(Method::POST, "/operators", &[], Some(&request)).await?;
            show_token(&token, &format!("the token of {name}"), global);
        }
        OperatorCommand::Role { name, role } => {
            client.ask::<_, ()>(Method::PUT, &path(&name), &[], Some(&RoleRequest { role: role.into() })).await?;
            done(&format!("{name} now has the role {}", Role::from(role).word()), global);
        }
        OperatorCommand::Remove { name } => {
            client.ask::<_, ()>(Method::DELETE, &path(&name), &[], None::<&()>).await?;
            done(&format!("{name} is removed; all tokens and sessions are revoked"), global);
        }
        OperatorCommand::Token { name, label } => {
            let request = TokenRequest { label: label.clone() };
            let token: NewToken = client.ask(Method::POST, &format!("{}/tokens", path(&name)), &[], Some(&request)).await?;
            show_token(&token, &format!("a token of {name} for {label}"), global);
        }
        OperatorCommand::DropToken { name, label } => {
            client.ask::<_, ()>(Method::DELETE, &format!("{}/tokens/{}", path(&name), encode(&label)), &[], None::<&()>).await?;
            done(&format!("the token `{name}` of {label} is revoked"), global);
        }
        OperatorCommand::Sessions { name } => {
            sessions(&client.get::<Vec<SignInView>>(&format!("{}/sessions", path(&name)), &[]).await?, &name, global);
        }
        OperatorCommand::EndSession { name, id } => {
            let which = id.as_ref().map(|id| format!("/{}", encode(id))).unwrap_or_default();
            client.ask::<_, ()>(Method::DELETE, &format!("{}/sessions{which}", path(&name)), &[], None::<&()>).await?;
            let what = if id.is_some() { "that sign-in" } else { "every sign-in" };
            done(&format!("{what} of {name} is over, with its event streams"), global);
        }
        OperatorCommand::SignIn { name, password_file } => sign_in(&client, &name, password_file.as_deref(), global).await?,
    }
    Ok(ExitCode::SUCCESS)
}

async fn sign_in(client: &Client, name: &str, file: Option<&Path>, global: &Global) -> Result<(), Failure> {
    let password = output::read_hidden(file, &format!("console password of {name} (not shown): "))?;
    if file.is_none() && output::read_hidden(None, "again: ")?.expose() != password.expose() {
        return Err(Failure::no("the two passwords differ", "type them again"));
    }
    let body = serde_json::json!({ "password": password.expose() });
    let path = format!("/operators/{}/sign-in", encode(name));
    let made: NewSignIn = client.ask(Method::PUT, &path, &[], Some(&body)).await?;
    if global.json {
        output::json(&made);
        return Ok(());
    }
    output::line(format!("{}\n{}", made.seed, made.link));
    output::line(format!("{name} can now sign in to the console with this password and TOTP codes from this seed; it is not shown again"));
    Ok(())
}

fn list(operators: &[OperatorView], global: &Global) {
    if global.json {
        return output::json(&operators);
    }
    let mut table = output::table(&["operator", "role", "console", "tokens for", "added"]);
    for one in operators {
        let console = if one.signs_in { "password and code" } else { "by token" };
        let tokens = if one.tokens.is_empty() { "none".to_owned() } else { one.tokens.join(", ") };
        table.add_row([one.name.clone(), one.role.word().to_owned(), console.to_owned(), tokens, output::when(one.created_us)]);
    }
    output::print_table(&table);
}

fn sessions(sessions: &[SignInView], name: &str, global: &Global) {
    if global.json {
        return output::json(&sessions);
    }
    if sessions.is_empty() {
        return output::line(format!("{name} is not signed in to the console"));
    }
    let mut table = output::table(&["session", "made with", "from", "since", "last used", "until"]);
    for one in sessions {
        let times = [one.created_us, one.last_used_us, one.until_us].map(output::when);
        let own = [one.id.clone(), one.by.clone(), one.from.clone()];
        table.add_row(own.into_iter().chain(times));
    }
    output::print_table(&table);
}

fn show_token(token: &NewToken, what: &str, global: &Global) {
    if global.json {
        return output::json(token);
    }
    output::line(format!("{}\n{what}; it is not shown again", token.token));
}

fn done(what: &str, global: &Global) {
    if global.json { output::json(&serde_json::json!({ "done": what })) } else { output::line(what) }
}
