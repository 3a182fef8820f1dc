//! Adding, changing and removing factors of people.

use super::ApiState;
use super::auth::Operator;
use super::people::find;
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use bivector_api::operators::Role;
use bivector_api::people::PersonView;
use bivector_api::people::{AddedFactor, FactorRequest, PinRequest, ResyncRequest};
use bivector_engine::hashing::Hashing;
use bivector_engine::roster::seed_purpose;
use bivector_manage::people::{is_pin, seed_from_text};
use bivector_model::device::{CodeKind, CodeLimits, Place};
use bivector_model::totp::Settings;
use bivector_site::Chain;
use bivector_store::clock;
use bivector_store::records::DeviceState;
use bivector_store::records::person_key;
use bivector_store::records::{Edit, FactorRow, FactorSettings, NewFactor, NewPerson, PersonRow};
use bivector_store::seal::{digits, random};
use bivector_wire::Secret;
use data_encoding::BASE32_NOPAD;
use std::sync::Arc;
use std::time::Duration;

/// Recovery codes in a list.
const LIST: u32 = 10;
/// Digits of a recovery code and of a temporary code.
const LIST_DIGITS: u8 = 10;
const TEMPORARY_DIGITS: u8 = 8;
/// The longest that a temporary code may last.
const LONGEST: Duration = Duration::from_secs(30 * 86_400);

type PersonPath = Path<(String, String)>;
type FactorPath = Path<(String, String, u64)>;

fn wrong(field: &str, said: String, remedy: &str) -> Problem {
    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "factor", format!("`{field}`: {said}"), remedy)
}

/// Adds a factor to a person, who need not be known here yet if a directory knows them.
#[utoipa::path(post, operation_id = "factors_add", path = "/people/{source}/{login}/factors", tag = "people", request_body = FactorRequest,
    params(("source" = String, Path), ("login" = String, Path)),
    responses((status = 201, body = AddedFactor), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn add(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login)): PersonPath,
    Body(request): Body<FactorRequest>,
) -> Result<(StatusCode, Json<AddedFactor>), Problem> {
    operator.may(Role::Operate)?;
    let login = login.trim().to_lowercase();
    if state.shared.roster.get(&person_key(&source, &login)).is_none() {
        make_known(&state, &source, &login).await?;
    }
    let label = request.label.clone().map(|label| label.trim().to_owned()).filter(|label| !label.is_empty());
    let label = label.unwrap_or_else(|| if request.kind == CodeKind::Totp { "app".to_owned() } else { request.kind.name().to_owned() });
    if label.len() > 60 || !bivector_model::text::is_plain(&label) {
        return Err(wrong("label", "a name has 1 to 60 bytes and no control characters".into(), "choose a short one, such as `phone`"));
    }
    let made = make(&request, &operator.name)?;
    let pin = hash_pin(request.pin, &state.shared.hashing).await?;
    let sealed = state.shared.seal.seal(&seed_purpose(&source, &login), made.secret.expose());
    let factor = NewFactor { kind: request.kind.into(), label: label.clone(), sealed, settings: made.settings, pin };
    state.shared.records.add_factor(source.clone(), login.clone(), factor, clock::now()).await?;
    state.shared.catch_up().await?;
    let reason = request.reason.map(|reason| format!(": {reason}")).unwrap_or_default();
    operator.did(&state, "factor.add", format!("{} {} “{label}”{reason}", person_key(&source, &login), request.kind)).await?;
    let person = find(&state.shared, &source, &login)?;
    let factor = person.factors.iter().find(|factor| factor.kind == request.kind.into() && factor.label == label);
    let factor = factor.ok_or_else(|| Problem::not_found("the factor no longer exists", "somebody removed it meanwhile"))?;
    let site = state.shared.live.load().as_ref().map(|live| live.site.name.clone()).unwrap_or_default();
    let link = made.shown.as_ref().map(|seed| bivector_engine::invitations::otpauth(&site, &login, request.kind, seed, &factor.settings));
    let factor = crate::api::person_views::factor_view(&person, factor, &state.shared.roster, &Default::default(), clock::now());
    let warning = useless(&state, &source, request.kind, factor.digits);
    Ok((StatusCode::CREATED, Json(AddedFactor { factor, seed: made.shown, link, codes: made.codes, warning })))
}

/// Why no login can use such codes, if none can: no chain of the person's source takes the kind, or no form has so many digits.
fn useless(state: &ApiState, source: &str, kind: CodeKind, digits: u8) -> Option<String> {
    let live = state.shared.live.load_full()?;
    let of_source = |chain: &&Chain| chain.first.iter().any(|first| live.site.source_name(first.source) == source);
    let taking: Vec<&Chain> = live.site.chains.iter().filter(of_source).filter(|chain| chain.takes(kind)).collect();
    if taking.is_empty() {
        return Some(format!("no chain accepts `{kind}` codes from people of `{source}` yet; add `{kind}` to `second` of a chain"));
    }
    let prompts = |chain: &&Chain| {
        live.site.gateways.iter().any(|gateway| gateway.shows_challenges && live.site.chains_of(gateway).contains(&chain.name.as_str()))
    };
    let typed = |chain: &&Chain| prompts(chain) || chain.forms.iter().any(|form| form.takes_digits(digits));
    let names: Vec<&str> = taking.iter().map(|chain| chain.name.as_str()).collect();
    (!taking.iter().any(typed))
        .then(|| format!("no form of {} accepts {digits}-digit codes, and none of its gateways shows prompts", names.join(", ")))
}

/// A directory's person is written down with the first factor.
async fn make_known(state: &ApiState, source: &str, login: &str) -> Result<(), Problem> {
    let shared = &state.shared;
    let live = shared.live.load_full();
    let known = live.as_ref().is_some_and(|live| {
        live.site.directories.iter().any(|one| one.name == source) || live.site.upstreams.iter().any(|one| one.name == source)
    });
    if !known || login.is_empty() || login.len() > 253 || !bivector_model::text::is_plain(login) {
        return find(shared, source, login).map(|_| ());
    }
    let (source, login) = (source.to_owned(), login.to_owned());
    let person = NewPerson { source, name: login.clone(), login, ..NewPerson::default() };
    shared.records.keep_people(vec![person], clock::now()).await?;
    shared.catch_up().await?;
    Ok(())
}

/// A factor's secret, and what is shown of it once.
struct Made {
    secret: Secret<Vec<u8>>,
    settings: FactorSettings,
    shown: Option<String>,
    codes: Vec<String>,
}

fn make(request: &FactorRequest, operator: &str) -> Result<Made, Problem> {
    let none = FactorSettings::default();
    match request.kind {
        CodeKind::Totp | CodeKind::Hotp => {
            let seed = match &request.seed {
                Some(text) => {
                    seed_from_text(text).ok_or_else(|| wrong("seed", "it is not base32".into(), "letters A to Z and digits 2 to 7"))?
                }
                None => Secret::new(random::<20>().to_vec()),
            };
            let usual = Settings::default();
            let code = Settings {
                algorithm: request.algorithm.unwrap_or_default(),
                digits: request.digits.unwrap_or(usual.digits),
                period: request.period.unwrap_or(usual.period),
            };
            code.check(seed.expose()).map_err(|error| wrong("seed", error.to_string(), "6 to 8 digits, 15 to 300 s, at least 16 bytes"))?;
            let shown = request.seed.is_none().then(|| BASE32_NOPAD.encode(seed.expose()));
            let counter = (request.kind == CodeKind::Hotp).then(|| request.counter.unwrap_or(0));
            Ok(Made { secret: seed, settings: FactorSettings { code, counter, ..none }, shown, codes: Vec::new() })
        }
        CodeKind::Recovery => {
            let codes: Vec<String> = (0..LIST).map(|_| digits(LIST_DIGITS).expose().clone()).collect();
            Ok(Made { secret: Secret::new(codes.join(" ").into_bytes()), settings: none, shown: None, codes })
        }
        CodeKind::Temporary => {
            let reason = request.reason.clone().map(|reason| reason.trim().to_owned()).filter(|reason| !reason.is_empty());
            let reason = reason.ok_or_else(|| wrong("reason", "a temporary code needs a reason".into(), "say why the person needs it"))?;
            let lasts = Duration::from_secs(request.seconds.unwrap_or(0));
            if lasts.is_zero() || lasts > LONGEST {
                return Err(wrong("seconds", "a temporary code can last from one second to 30 days".into(), "say how long, such as 3600"));
            }
            let uses = request.uses.unwrap_or(1);
            if !(1..=1000).contains(&uses) {
                return Err(wrong("uses", format!("`{uses}` uses are out of range; allowed: 1 to 1000"), "once is safest"));
            }
            let count = request.digits.unwrap_or(TEMPORARY_DIGITS);
            if !(6..=10).contains(&count) {
                return Err(wrong("digits", format!("{count} digits; 6 to 10 are allowed"), "choose a form that takes as many"));
            }
            let code = digits(count);
            let settings = FactorSettings {
                until_us: Some(clock::now().plus(lasts).micros()),
                uses: Some(uses),
                reason: Some(reason),
                operator: Some(operator.to_owned()),
                ..none
            };
            Ok(Made { secret: Secret::new(code.expose().clone().into_bytes()), settings, shown: None, codes: vec![code.expose().clone()] })
        }
    }
}

async fn hash_pin(pin: Option<String>, hashing: &Hashing) -> Result<Option<String>, Problem> {
    let Some(pin) = pin.map(Secret::new) else { return Ok(None) };
    if !is_pin(pin.expose()) {
        return Err(wrong("pin", "a PIN has 4 to 12 digits".into(), "choose one with digits only"));
    }
    let failed = |error: String| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "pin", error, "try again");
    hashing.hash(pin).await?.map(Some).map_err(failed)
}

fn find_factor(person: &PersonRow, id: u64) -> Result<&FactorRow, Problem> {
    person.factors.iter().find(|factor| factor.id == id).ok_or_else(|| {
        let has: Vec<String> = person.factors.iter().map(|factor| factor.id.to_string()).collect();
        Problem::not_found(format!("{} has no factor with the number {id}", person.login), format!("known: {}", has.join(", ")))
    })
}

/// Takes a factor of a person out.
#[utoipa::path(delete, operation_id = "factors_remove", path = "/people/{source}/{login}/factors/{id}", tag = "people",
    params(("source" = String, Path), ("login" = String, Path), ("id" = u64, Path)),
    responses((status = 200, body = PersonView), (status = 404, body = Problem)))]
pub(super) async fn remove(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login, id)): FactorPath,
) -> Result<Json<PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let person = find(&state.shared, &source, &login)?;
    let factor = find_factor(&person, id)?;
    let edit = Edit::RemoveFactor { source: person.source.clone(), login: person.login.clone(), factor: id };
    let what = format!("{}: {} “{}” removed", person_key(&source, &login), factor.kind, factor.label);
    state.shared.records.change_people(operator.name.clone(), what, vec![edit], clock::now()).await?;
    state.shared.catch_up().await?;
    operator.did(&state, "factor.remove", format!("{} {} “{}”", person_key(&source, &login), factor.kind, factor.label)).await?;
    shown(&state, &source, &login).await
}

/// Sets the PIN before a factor's codes, or takes it out.
#[utoipa::path(put, operation_id = "factors_pin", path = "/people/{source}/{login}/factors/{id}/pin", tag = "people", request_body = PinRequest,
    params(("source" = String, Path), ("login" = String, Path), ("id" = u64, Path)),
    responses((status = 200, body = PersonView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn pin(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login, id)): FactorPath,
    Body(request): Body<PinRequest>,
) -> Result<Json<PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let person = find(&state.shared, &source, &login)?;
    let factor = find_factor(&person, id)?;
    let what = if request.pin.is_some() { "factor.pin" } else { "factor.pin.remove" };
    state.shared.records.set_pin(id, hash_pin(request.pin, &state.shared.hashing).await?).await?;
    state.shared.catch_up().await?;
    operator.did(&state, what, format!("{} {} “{}”", person_key(&source, &login), factor.kind, factor.label)).await?;
    shown(&state, &source, &login).await
}

/// Finds out where a device is by two codes in a row, or forgets what is known of it.
#[utoipa::path(post, operation_id = "factors_resync", path = "/people/{source}/{login}/factors/{id}/resync", tag = "people",
    request_body = ResyncRequest, params(("source" = String, Path), ("login" = String, Path), ("id" = u64, Path)),
    responses((status = 200, body = PersonView), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub(super) async fn resync(
    State(state): State<ApiState>,
    operator: Operator,
    Path((source, login, id)): FactorPath,
    Body(request): Body<ResyncRequest>,
) -> Result<Json<PersonView>, Problem> {
    operator.may(Role::Operate)?;
    let person = find(&state.shared, &source, &login)?;
    let factor = find_factor(&person, id)?;
    let before = state.shared.roster.state(factor);
    let (at, said) = match (request.first, request.second) {
        (Some(first), Some(second)) => {
            let limits = state.shared.live.load().as_ref().map_or_else(CodeLimits::default, |live| live.site.codes);
            let device = state.shared.roster.device(&person, factor, clock::now());
            match device.and_then(|device| device.place_of(first.trim(), second.trim(), clock::now(), &limits)) {
                Some(Place::Drift(steps)) => (DeviceState { drift: steps, ..before }, format!("its clock is {steps} steps off")),
                Some(Place::Counter(counter)) => (DeviceState { counter, ahead: None, ..before }, format!("its next counter is {counter}")),
                None => {
                    let remedy = "enter two consecutive codes from the device; recovery codes cannot be resynchronised";
                    return Err(wrong("first", "these are not two consecutive codes of this device".into(), remedy));
                }
            }
        }
        // A counter never goes back: that would bring used codes back to life.
        (None, None) => (DeviceState { drift: 0, ahead: None, ..before }, "the recorded clock drift is reset".to_owned()),
        _ => return Err(wrong("second", "two codes are needed".into(), "type both, in the order in which the device shows them")),
    };
    state.shared.records.set_state(id, at).await?;
    state.shared.roster.note_state(id, at);
    operator.did(&state, "factor.resync", format!("{} {} “{}”: {said}", person_key(&source, &login), factor.kind, factor.label)).await?;
    shown(&state, &source, &login).await
}

async fn shown(state: &ApiState, source: &str, login: &str) -> Result<Json<PersonView>, Problem> {
    let person: Arc<PersonRow> = find(&state.shared, source, login)?;
    Ok(Json(crate::api::person_views::person_view(&person, &state.shared).await?))
}
