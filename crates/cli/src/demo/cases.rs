//! The demo's logins: what is sent, and what must come of it.

use super::world::World;
use crate::failure::Failure;
use bivector_api::knocks::Knock;
use bivector_api::traces::TraceRow;
use bivector_exchange::{Exchange, Patience, Request};
use bivector_lab::gateway::SimulatedGateway;
use bivector_lab::handset::Answers;
use bivector_model::Cause;
use bivector_model::trace::Outcome;
use bivector_wire::{AttributeType, Code, SharedSecret};
use serde::Serialize;
use std::net::SocketAddr;
use std::time::Duration;

/// A login that was sent, and what came of it.
#[derive(Debug, Serialize)]
pub(crate) struct Played {
    pub(crate) login: String,
    pub(crate) via: String,
    pub(crate) outcome: Outcome,
    pub(crate) cause: Option<Cause>,
    pub(crate) took_us: u64,
    pub(crate) reference: String,
    pub(crate) as_expected: bool,
    wanted_outcome: Outcome,
    wanted_cause: Option<Cause>,
    pub(crate) note: Option<String>,
}

impl Played {
    pub(crate) fn cause_slug(&self) -> &'static str {
        self.cause.map_or("", Cause::slug)
    }

    pub(crate) fn seen(&self) -> String {
        describe(self.outcome, self.cause)
    }

    pub(crate) fn wanted(&self) -> String {
        describe(self.wanted_outcome, self.wanted_cause)
    }
}

fn describe(outcome: Outcome, cause: Option<Cause>) -> String {
    cause.map_or_else(|| outcome.slug().to_owned(), |cause| format!("{}: {cause}", outcome.slug()))
}

/// What is typed behind the password.
enum Typed {
    FreshCode,
    WrongCode,
    /// Of the hardware that harbourlight checks.
    HardwareCode,
    /// A word behind the password.
    Word(&'static str),
    SameCodeAgain,
    Nothing,
}

/// How it is sent.
enum Sent {
    Plainly,
    WithWrongSecret,
    FromNowhere,
    Resending,
    AfterFirstDirectoryDied,
    /// As a proof instead of a text.
    AsMsChapV2,
    /// A prompt is answered with this, and the next one with the code that was sent.
    Answering(&'static str),
    /// A prompt is answered with the code that was sent.
    AnsweringCode,
    /// The person's handset answers this; where the gateway shows a number, that one is picked.
    OnHandset(Answers),
}

struct Case {
    login: &'static str,
    via: &'static str,
    name: &'static str,
    /// None: the person's own.
    password: Option<&'static str>,
    typed: Typed,
    sent: Sent,
    cause: Option<Cause>,
}

/// Everything that the trade tests by hand.
fn cases() -> Vec<Case> {
    use Sent::*;
    use Typed::*;
    let case = |login, via, name, password, typed, sent, cause| Case { login, via, name, password, typed, sent, cause };
    vec![
        case("right password and code", "breakwater", "ines", None, FreshCode, Plainly, None),
        case("the same code again", "slipway", "ines", None, SameCodeAgain, Plainly, Some(Cause::CodeUsed)),
        case("with domain prefix", "breakwater", "NORTHMOOR\\Ines", None, FreshCode, Plainly, None),
        case("with realm suffix", "slipway", "ines@northmoor.example", None, FreshCode, Plainly, None),
        case("wrong password", "breakwater", "tomasz", Some("flood before ebb"), FreshCode, Plainly, Some(Cause::PasswordWrong)),
        case("wrong code", "breakwater", "tomasz", None, WrongCode, Plainly, Some(Cause::CodeWrong)),
        case("no code", "breakwater", "tomasz", None, Nothing, Plainly, Some(Cause::CodeMissing)),
        case("unknown person", "breakwater", "nobody", Some("whatever"), WrongCode, Plainly, Some(Cause::PersonUnknown)),
        case("password that ends in digits", "breakwater", "yuki", None, FreshCode, Plainly, None),
        case("suspended group", "breakwater", "noor", None, FreshCode, Plainly, Some(Cause::RuleRefused)),
        case("locked account", "lantern", "ravi", None, FreshCode, Plainly, Some(Cause::AccountLocked)),
        case("contractor", "lantern", "pell", None, FreshCode, Plainly, None),
        case("hardware code", "lantern", "tomasz@hardware.northmoor.example", None, HardwareCode, Plainly, None),
        case("wrong hardware code", "lantern", "yuki@hardware.northmoor.example", None, WrongCode, Plainly, Some(Cause::UpstreamRefused)),
        case("code by mail, chosen at a prompt", "lantern", "pell", None, Nothing, Answering("mail"), None),
        case("code by text message, chosen by a word", "lantern", "pell", None, Word(" sms"), AnsweringCode, None),
        case("prompt answered wrongly", "lantern", "pell", None, Nothing, Answering("000000"), Some(Cause::CodeWrong)),
        case(
            "MS-CHAPv2 over password and code",
            "lantern",
            "sable@local.northmoor.example",
            Some("whelk-at-low-water"),
            FreshCode,
            AsMsChapV2,
            None,
        ),
        case("approved on the handset", "slipway", "ines@watch.northmoor.example", None, Nothing, OnHandset(Answers::Approve), None),
        case(
            "the number on the screen, picked on the handset",
            "lantern",
            "ines@watch.northmoor.example",
            None,
            Nothing,
            OnHandset(Answers::Approve),
            None,
        ),
        case(
            "denied on the handset",
            "slipway",
            "yuki@watch.northmoor.example",
            None,
            Nothing,
            OnHandset(Answers::Deny),
            Some(Cause::ApprovalDenied),
        ),
        case(
            "\"that was not me\"",
            "slipway",
            "yuki@watch.northmoor.example",
            None,
            Nothing,
            OnHandset(Answers::NotMe),
            Some(Cause::ApprovalDisowned),
        ),
        case(
            "the next one, while approvals are stopped",
            "slipway",
            "yuki@watch.northmoor.example",
            None,
            Nothing,
            Plainly,
            Some(Cause::ApprovalStopped),
        ),
        case("roster person", "breakwater", "sable", Some("whelk-at-low-water"), FreshCode, Plainly, None),
        case("not enrolled yet", "breakwater", "odo", None, Nothing, Plainly, Some(Cause::NotEnrolled)),
        case("wrong shared secret", "breakwater", "ines", None, WrongCode, WithWrongSecret, Some(Cause::SecretDiffers)),
        case("unregistered sender", "elsewhere", "ines", None, WrongCode, FromNowhere, Some(Cause::GatewayUnknown)),
        case("a resend in flight", "breakwater", "tomasz", None, FreshCode, Resending, None),
        case("first directory server down", "breakwater", "yuki", None, FreshCode, AfterFirstDirectoryDied, None),
    ]
}

/// Plays all cases in order.
pub(crate) async fn play(world: &mut World, mut tell: impl FnMut(&Played)) -> Result<Vec<Played>, Failure> {
    let mut played = Vec::new();
    let mut last_text = String::new();
    for case in cases() {
        let text = text(&case, world, &last_text).await;
        let one = play_one(&case, &text, world).await?;
        last_text = text;
        tell(&one);
        played.push(one);
    }
    Ok(played)
}

async fn text(case: &Case, world: &mut World, last: &str) -> String {
    let login = case.name.split(['\\', '@']).find(|part| world.knows(&part.to_lowercase())).unwrap_or(case.name).to_lowercase();
    let password = case.password.map(str::to_owned).or_else(|| world.passwords.get(&login).cloned()).unwrap_or_default();
    match case.typed {
        Typed::FreshCode => format!("{password}{}", world.codes.fresh(&login).await),
        Typed::WrongCode => format!("{password}{}", world.codes.wrong(&login)),
        Typed::HardwareCode => format!("{password}{}", world.hardware_code(&login)),
        Typed::Word(word) => format!("{password}{word}"),
        Typed::SameCodeAgain => last.to_owned(),
        Typed::Nothing => password,
    }
}

async fn play_one(case: &Case, text: &str, world: &mut World) -> Result<Played, Failure> {
    let mut gateway = world.gateway(case.via);
    let failed = |error: bivector_exchange::AskError| Failure::no(error.to_string(), "look at the loopback addresses of this machine");
    let mut note = None;
    let (exchange, local, sound) = match case.sent {
        Sent::Resending => {
            let (resent, local) = gateway.log_in_resending(case.name, text).await.map_err(failed)?;
            let sound = resent.first_answers == 1 && resent.same_bytes_later;
            note = Some(format!(
                "a resend in flight: 2 requests at once got {} answer, a later resend {}",
                resent.first_answers,
                if resent.same_bytes_later { "the same bytes" } else { "other bytes" }
            ));
            (resent.exchange, local, sound)
        }
        _ => {
            let (exchange, local) = send_case(case, text, &mut gateway, world).await?;
            (exchange, local, true)
        }
    };
    let (cause, reference) =
        if matches!(case.sent, Sent::FromNowhere) { find_knock(world, local).await? } else { find_trace(world, local).await? };
    let outcome = outcome_of(&exchange);
    let wanted_outcome = match case.cause {
        None => Outcome::Accepted,
        Some(Cause::SecretDiffers | Cause::GatewayUnknown) => Outcome::Silent,
        Some(_) => Outcome::Refused,
    };
    Ok(Played {
        login: case.login.to_owned(),
        via: case.via.to_owned(),
        outcome,
        cause,
        took_us: exchange.took.as_micros() as u64,
        reference,
        as_expected: sound && outcome == wanted_outcome && cause == case.cause,
        wanted_outcome,
        wanted_cause: case.cause,
        note,
    })
}

/// Sends the login of a case and answers its prompts.
async fn send_case(case: &Case, text: &str, gateway: &mut SimulatedGateway, world: &mut World) -> Result<(Exchange, SocketAddr), Failure> {
    let failed = |error: bivector_exchange::AskError| Failure::no(error.to_string(), "look at the loopback addresses of this machine");
    let silent = Patience { wait: Duration::from_millis(400), tries: 1 };
    match case.sent {
        Sent::WithWrongSecret => {
            gateway.secret = SharedSecret::new(b"breakwater-Kq7vX2mTz9 ");
            gateway.patience = silent;
        }
        Sent::FromNowhere => gateway.patience = silent,
        Sent::AfterFirstDirectoryDied => world.stop_first_directory().await,
        _ => {}
    }
    let sent = match case.sent {
        Sent::OnHandset(answers) => on_handset(gateway, case.name, text, answers, world).await,
        Sent::AsMsChapV2 => {
            let request = Request::ms_chap_v2(case.name, text).map_err(failed)?;
            gateway.send(&gateway.sign(request)).await
        }
        _ => gateway.log_in(case.name, text).await,
    };
    let answers = match case.sent {
        Sent::Answering(answer) => vec![Some(answer), None, None],
        Sent::AnsweringCode => vec![None],
        _ => Vec::new(),
    };
    answer(gateway, case.name, sent.map_err(failed)?, answers, world).await.map_err(failed)
}

/// A login that somebody's handset decides, beside it or behind a prompt with a number.
async fn on_handset(
    gateway: &SimulatedGateway,
    name: &str,
    text: &str,
    answers: Answers,
    world: &World,
) -> Result<(Exchange, SocketAddr), bivector_exchange::AskError> {
    let login = name.split('@').next().unwrap_or(name);
    let Some((handset, subscription)) = world.handsets.get(login) else { return gateway.log_in(name, text).await };
    // The phone is in a pocket: it hears of the login by push.
    let asked = async { tokio::time::timeout(Duration::from_secs(4), handset.woken(subscription)).await.ok()?.ok() };
    let (first, shown) = tokio::join!(
        async {
            let first = gateway.log_in(name, text).await;
            first.map(|first| (number_of(&first.0), first))
        },
        async {
            let shown = asked.await?;
            // Where a number is to be picked, the screen shows it only once this side of the login is through.
            if shown.contains("\"numbers\":[]") {
                let _ = handset.answer(&shown, answers, None).await;
            }
            Some(shown)
        }
    );
    let (number, first) = first?;
    let (Some(number), Some(shown)) = (number, shown) else { return Ok(first) };
    let _ = handset.answer(&shown, answers, Some(number)).await;
    gateway.answer(name, "", &first.0).await
}

/// The number that a prompt shows.
fn number_of(exchange: &Exchange) -> Option<u64> {
    let reply = exchange.reply.as_ref().filter(|reply| reply.code == Code::AccessChallenge)?;
    let words = reply.attributes.iter().filter(|(kind, _)| *kind == AttributeType::ReplyMessage);
    words.map(|(_, value)| String::from_utf8_lossy(value)).find_map(|text| text.split_whitespace().find_map(|word| word.parse().ok()))
}

/// Answers prompts one after the other: with a text, or with the code that was sent last.
async fn answer(
    gateway: &SimulatedGateway,
    name: &str,
    mut last: (Exchange, SocketAddr),
    answers: Vec<Option<&str>>,
    world: &World,
) -> Result<(Exchange, SocketAddr), bivector_exchange::AskError> {
    for answer in answers {
        if outcome_of(&last.0) != Outcome::Challenged {
            break;
        }
        let text = answer.map_or_else(|| last_code(world), str::to_owned);
        last = gateway.answer(name, &text, &last.0).await?;
    }
    Ok(last)
}

/// The first six digits of the last message that arrived; `000000` where none did.
fn last_code(world: &World) -> String {
    let text = world.courier.arrived().pop().map(|message| message.text).unwrap_or_default();
    text.split(|character: char| !character.is_ascii_digit()).find(|part| part.len() == 6).unwrap_or("000000").to_owned()
}

fn outcome_of(exchange: &Exchange) -> Outcome {
    match exchange.reply.as_ref().map(|reply| reply.code) {
        Some(Code::AccessAccept) => Outcome::Accepted,
        Some(Code::AccessChallenge) => Outcome::Challenged,
        Some(_) => Outcome::Refused,
        None => Outcome::Silent,
    }
}

/// Cause and reference of the login that came from this address and port; written just after its answer, so it may take a moment.
async fn find_trace(world: &World, sender: SocketAddr) -> Result<(Option<Cause>, String), Failure> {
    let sender = sender.to_string();
    for _ in 0..100 {
        let rows: Vec<TraceRow> = world.client.get("/traces", &[("limit", "10".to_owned())]).await?;
        if let Some(row) = rows.into_iter().find(|row| row.sender == sender) {
            return Ok((row.cause, row.reference));
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    Ok((None, "no trace".into()))
}

async fn find_knock(world: &World, sender: SocketAddr) -> Result<(Option<Cause>, String), Failure> {
    let sender = sender.ip().to_string();
    for _ in 0..100 {
        let knocks: Vec<Knock> = world.client.get("/knocks", &[]).await?;
        if let Some(knock) = knocks.into_iter().find(|knock| knock.sender == sender) {
            return Ok((Some(knock.cause), "a knock".into()));
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    Ok((None, "no knock".into()))
}

/// One login of the slow trickle that keeps the console alive.
pub(crate) async fn trickle(world: &mut World, turn: usize) -> Result<(), Failure> {
    let lines = [
        ("breakwater", "tomasz", Typed::FreshCode),
        ("lantern", "tomasz@hardware.northmoor.example", Typed::HardwareCode),
        ("lantern", "pell", Typed::FreshCode),
        ("slipway", "ines@northmoor.example", Typed::FreshCode),
        ("breakwater", "yuki", Typed::WrongCode),
        ("breakwater", "NORTHMOOR\\noor", Typed::FreshCode),
        ("lantern", "ravi", Typed::FreshCode),
        ("slipway", "yuki", Typed::FreshCode),
        ("lantern", "pell", Typed::Word(" sms")),
        ("slipway", "ines@watch.northmoor.example", Typed::Nothing),
    ];
    let mut lines = lines.into_iter();
    let Some((via, name, typed)) = lines.nth(turn % 10) else { return Ok(()) };
    let case = Case { login: "trickle", via, name, password: None, typed, sent: Sent::Plainly, cause: None };
    let text = text(&case, world, "").await;
    let gateway = world.gateway(via);
    if name.ends_with("@watch.northmoor.example") {
        let sent = on_handset(&gateway, name, &text, Answers::Approve, world).await;
        return sent.map(|_| ()).map_err(|error| Failure::no(error.to_string(), ""));
    }
    let sent = match gateway.log_in(name, &text).await {
        Ok(first) => answer(&gateway, name, first, vec![None], world).await,
        Err(error) => Err(error),
    };
    sent.map(|_| ()).map_err(|error| Failure::no(error.to_string(), ""))
}
