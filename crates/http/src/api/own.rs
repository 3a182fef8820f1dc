//! The page that people sign in to themselves: with their password and, once they have one, a factor. The sign-in is a login like
//! any other, decided by the same machine; only that no gateway stands before it.

use super::ApiState;
use super::auth::{begin_from, cookie};
use super::guard::Caller;
use super::handset::{AppCode, Renamed, from_the_page, label, live, not_proved, set_cookie};
use super::problem::{Body, Problem};
use axum::Json;
use axum::extract::{FromRequestParts, Path, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_api::people::FactorView;
use bivector_api::people::NewApp;
use bivector_core::login::{Context, Credential, Login, Request as LoginRequest, RequestAuthentic, Second, Verdict};
use bivector_engine::driver::drive;
use bivector_engine::ending;
use bivector_engine::invitations;
use bivector_engine::live::LiveSite;
use bivector_model::Cause;
use bivector_model::Moment;
use bivector_model::facts::Resends;
use bivector_model::trace::{Origin, Trace};
use bivector_site::Invited;
use bivector_store::agreement::Tally;
use bivector_store::clock::{self, LoginClock};
use bivector_store::records::person_key;
use bivector_store::records::{Edit, FactorRow, PersonRow};
use bivector_store::seal::{hash_token, random};
use bivector_wire::Secret;
use data_encoding::{BASE64URL_NOPAD, HEXLOWER};
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

const COOKIE: &str = "bivector_own";
const SESSIONS: &str = "own-session";
/// Bytes of a name and of a password at most: those that a gateway could send (RFC 2865 sections 5.1 and 5.2).
const LONGEST_NAME: usize = 253;
const LONGEST_PASSWORD: usize = 128;
const SESSION: Duration = Duration::from_secs(1800);
/// Who makes an invitation that a person asks for here, by how far they are proved.
pub(super) const BY_PASSWORD: &str = "the person";
pub(super) const BY_FACTOR: &str = "the person, with a factor";

pub(super) fn router() -> OpenApiRouter<ApiState> {
    OpenApiRouter::new()
        .routes(routes!(sign_in, sign_out))
        .routes(routes!(own))
        .routes(routes!(invite))
        .routes(routes!(begin_app))
        .routes(routes!(finish_app))
        .routes(routes!(rename, remove))
}

#[derive(Serialize, Deserialize)]
struct Session {
    /// Ends it before its time.
    id: [u8; 16],
    person: String,
    /// The person's record: one who comes back under the same name is somebody else.
    record: u64,
    /// Of the password that it was made with, where it is kept here: a new one ends it.
    password: Option<[u8; 16]>,
    /// Whether a second factor was given; without it nothing can be done once there is one.
    with_factor: bool,
    until: Moment,
}

/// A person who has signed in to their own page.
struct Own {
    person: Arc<PersonRow>,
    key: String,
    with_factor: bool,
}

impl FromRequestParts<ApiState> for Own {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Problem> {
        from_the_page(&parts.method, &parts.headers)?;
        own_of(state, cookie(&parts.headers, COOKIE)).ok_or_else(|| {
            Problem::new(StatusCode::UNAUTHORIZED, "not-signed-in", "you are not signed in", "sign in with your name and password")
        })
    }
}

fn own_of(state: &ApiState, cookie: Option<String>) -> Option<Own> {
    let sealed = BASE64URL_NOPAD.decode(cookie?.as_bytes()).ok()?;
    let session: Session = serde_json::from_slice(state.shared.seal.open(SESSIONS, &sealed).ok()?.expose()).ok()?;
    let person = state.shared.roster.get(&session.person).filter(|person| !person.disabled)?;
    let enough = session.with_factor || !has_factor(&person);
    let same = person.id == session.record && password_mark(&person) == session.password;
    let open = session.until > clock::now() && !state.shared.sign_ins.has_ended(&session.id);
    (open && same && enough).then_some(Own { person, key: session.person, with_factor: session.with_factor })
}

/// Tells one password of the roster from the next.
fn password_mark(person: &PersonRow) -> Option<[u8; 16]> {
    hash_token(person.password.as_deref()?).first_chunk().copied()
}

fn has_factor(person: &PersonRow) -> bool {
    person.factors.iter().any(|factor| factor.settings.waits_for.is_none())
}

/// A sign-in, or the answer to a prompt of one.
#[derive(Deserialize, ToSchema)]
struct SignIn {
    name: String,
    password: String,
    /// From the prompt that this answers.
    #[serde(default)]
    state: Option<String>,
}

/// How far a sign-in is.
#[derive(Serialize, ToSchema)]
struct SignedIn {
    /// Whether it is done; the cookie is set then.
    done: bool,
    /// What is asked next.
    prompt: Option<String>,
    state: Option<String>,
}

/// Signs in to the own page, or answers a prompt of that.
#[utoipa::path(post, operation_id = "own_sign_in", path = "/own/session", tag = "own", request_body = SignIn, security(()),
    responses((status = 200, body = SignedIn), (status = 401, body = Problem)))]
async fn sign_in(State(state): State<ApiState>, caller: Caller, Body(request): Body<SignIn>) -> Result<Response, Problem> {
    let (live, password) = (live(&state)?, Secret::new(request.password));
    let attempt = begin_from(&state, Tally::PageFrom, &caller).await?;
    let asked = request.state.as_deref().map(|text| HEXLOWER.decode(text.as_bytes())).transpose();
    let asked = asked.map_err(|_| refused("", "begin again"))?;
    let (verdict, trace) = log_in(&state, &live, &request.name, &password, asked, &caller).await?;
    if !matches!(verdict, Verdict::Refuse(_)) || trace.cause == Some(Cause::NotEnrolled) {
        attempt.uncounted();
    }
    let (reference, person, cause) = (trace.reference.clone(), trace.person.clone().unwrap_or_default(), trace.cause);
    let newcomer = || !state.shared.roster.get(&person).is_some_and(|person| has_factor(&person));
    let session = match verdict {
        Verdict::Challenge(challenge) => {
            let next = SignedIn { done: false, prompt: challenge.prompt, state: Some(HEXLOWER.encode(&challenge.state)) };
            return Ok(Json(next).into_response());
        }
        Verdict::Accept(accept) if matches!(accept.second(), Second::Proved(_)) => {
            know(&state, &live, &person).await?;
            begun(&state, person, true)?
        }
        // The password is right, and nothing but a factor is missing: that is what the person has come for. A waiver that lets in
        // where they log in gives no more than that here: a password alone never touches the devices of somebody who has some.
        Verdict::Accept(_) | Verdict::Refuse(_) if (cause.is_none() || cause == Some(Cause::NotEnrolled)) && newcomer() => {
            know(&state, &live, &person).await?;
            begun(&state, person, false)?
        }
        Verdict::Accept(_) | Verdict::Refuse(_) => {
            return Err(refused(&reference, "try again, or ask for help with the reference"));
        }
    };
    let sealed = state.shared.seal.seal(SESSIONS, &serde_json::to_vec(&session).unwrap_or_default());
    let cookie = set_cookie(&caller, COOKIE, &BASE64URL_NOPAD.encode(&sealed), SESSION.as_secs());
    Ok(([(header::SET_COOKIE, cookie)], Json(SignedIn { done: true, prompt: None, state: None })).into_response())
}

fn begun(state: &ApiState, person: String, with_factor: bool) -> Result<Session, Problem> {
    let known = state.shared.roster.get(&person).ok_or_else(|| refused("", "try again"))?;
    let until = clock::now().plus(SESSION);
    Ok(Session { id: random(), person, record: known.id, password: password_mark(&known), with_factor, until })
}

fn refused(reference: &str, remedy: &str) -> Problem {
    let said =
        if reference.is_empty() { "the sign-in was refused".to_owned() } else { format!("the sign-in was refused; reference {reference}") };
    Problem::new(StatusCode::UNAUTHORIZED, "sign-in", said, remedy)
}

/// Writes a directory's person down, so that there is somebody to add a factor to.
async fn know(state: &ApiState, live: &LiveSite, key: &str) -> Result<(), Problem> {
    let Some((source, login)) = key.split_once(':') else { return Err(refused("", "try again")) };
    invitations::make_known(&state.shared, live, source, login).await.map(|_| ()).map_err(super::invitations::not_invited)
}

/// Runs a login of the chain that the site names for the page.
async fn log_in(
    state: &ApiState,
    live: &Arc<LiveSite>,
    name: &str,
    password: &Secret<String>,
    asked: Option<Vec<u8>>,
    caller: &Caller,
) -> Result<(Verdict, Trace), Problem> {
    let none = || Problem::not_found("people cannot sign in to their own page here", "an operator sets `chain` under `[handset]`");
    let proof = RequestAuthentic::by_page(&live.site).ok_or_else(none)?;
    let chain = live.site.handset.chain;
    let gateway = live.site.gateways.iter().position(|gateway| chain.is_some_and(|chain| gateway.chains.contains(&chain)));
    if name.len() > LONGEST_NAME || password.expose().len() > LONGEST_PASSWORD {
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "sign-in", "name or password are too long", "type them again"));
    }
    let context = Context {
        gateway: gateway.ok_or_else(none)?,
        sender: SocketAddr::new(caller.address, 0),
        origin: Origin::Page,
        port: 0,
        length: name.len() + password.expose().len(),
        station: Some(caller.text()),
        secret_proved: true,
        attributes: Vec::new(),
    };
    let credential = Credential::Text(Secret::new(password.expose().clone().into_bytes()));
    let request = LoginRequest::new(proof, name.as_bytes().to_vec(), credential, asked, context);
    let clock = LoginClock::start();
    let mut login = Login::begin(Arc::clone(&live.site), request, ending::reference(), live.revision, clock.now());
    let (live, shared) = (Arc::clone(live), Arc::clone(&state.shared));
    // A task of its own: whoever hangs up does not stop what has begun, and is counted like everybody else.
    let driven = tokio::spawn(async move {
        drive(&mut login, &live, &shared, &clock, None).await;
        let (verdict, trace) = login.finish(Resends::default(), clock.now());
        ending::finish(&verdict, trace.clone(), &shared, None, clock.now());
        (verdict, trace)
    });
    driven.await.map_err(|_| refused("", "try again"))
}

/// Signs out.
#[utoipa::path(delete, operation_id = "own_sign_out", path = "/own/session", tag = "own", security(()),
    responses((status = 204, description = "signs out"), (status = 401, body = Problem)))]
async fn sign_out(State(state): State<ApiState>, caller: Caller, method: Method, headers: HeaderMap) -> Result<Response, Problem> {
    from_the_page(&method, &headers)?;
    let sealed = cookie(&headers, COOKIE).and_then(|value| BASE64URL_NOPAD.decode(value.as_bytes()).ok());
    let opened = sealed.and_then(|sealed| state.shared.seal.open(SESSIONS, &sealed).ok());
    if let Some(session) = opened.and_then(|bytes| serde_json::from_slice::<Session>(bytes.expose()).ok()) {
        state.shared.sign_ins.end_sealed(session.id, session.until).await?;
    }
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, set_cookie(&caller, COOKIE, "", 0))]).into_response())
}

/// What a person sees of themselves.
#[derive(Serialize, ToSchema)]
struct OwnView {
    site: String,
    name: String,
    login: String,
    with_factor: bool,
    factors: Vec<FactorView>,
}

/// What a person sees of themselves.
#[utoipa::path(get, operation_id = "own_own", path = "/own", tag = "own", security(()),
    responses((status = 200, body = OwnView), (status = 401, body = Problem)))]
async fn own(State(state): State<ApiState>, own: Own) -> Result<Json<OwnView>, Problem> {
    let now = clock::now();
    let pushes = super::push_views::pushes(&state.shared, std::iter::once(&*own.person)).await?;
    let view = |factor: &FactorRow| crate::api::person_views::factor_view(&own.person, factor, &state.shared.roster, &pushes, now);
    Ok(Json(OwnView {
        site: live(&state)?.site.name.clone(),
        name: own.person.name.clone(),
        login: own.person.login.clone(),
        with_factor: own.with_factor,
        factors: own.person.factors.iter().map(view).collect(),
    }))
}

/// Makes an invitation for a handset.
#[utoipa::path(post, operation_id = "own_invite", path = "/own/invitation", tag = "own", security(()),
    responses((status = 200, body = bivector_api::people::Made), (status = 401, body = Problem)))]
async fn invite(State(state): State<ApiState>, own: Own) -> Result<Json<bivector_api::people::Made>, Problem> {
    let live = live(&state)?;
    let whom = invitations::make_known(&state.shared, &live, &own.person.source, &own.person.login).await;
    let whom = whom.map_err(super::invitations::not_invited)?;
    let by = if own.with_factor { BY_FACTOR } else { BY_PASSWORD };
    let made = invitations::invite(&state.shared, &live, &whom, Invited::Approval, None, by).await;
    made.map(Json).map_err(super::invitations::not_invited)
}

/// Begins to set up an authenticator app.
#[utoipa::path(post, operation_id = "own_begin_app", path = "/own/apps", tag = "own", security(()),
    responses((status = 200, body = NewApp), (status = 401, body = Problem)))]
async fn begin_app(State(state): State<ApiState>, own: Own) -> Result<Json<NewApp>, Problem> {
    Ok(Json(invitations::begin_app(&state.shared, &live(&state)?.site, &own.person)))
}

/// Proves the app by its first code.
#[utoipa::path(post, operation_id = "own_finish_app", path = "/own/apps/code", tag = "own", request_body = AppCode, security(()),
    responses((status = 201, description = "proves the app by its first code"), (status = 401, body = Problem)))]
async fn finish_app(State(state): State<ApiState>, own: Own, Body(request): Body<AppCode>) -> Result<StatusCode, Problem> {
    let (shared, live) = (&state.shared, live(&state)?);
    let wanted = label(request.label.as_deref().unwrap_or("app"))?;
    let app = invitations::prove_app(shared, &live, &own.person, &request.ticket, &request.code).map_err(not_proved)?;
    let factor = invitations::app_factor(&own.person, app.sealed, &wanted);
    let (source, login) = (own.person.source.clone(), own.person.login.clone());
    let added = shared.records.add_app(source.clone(), login.clone(), factor, app.used, clock::now()).await?;
    let (id, at) = added.ok_or_else(|| refused("", "sign in again"))?;
    shared.catch_up().await?;
    shared.roster.note_state(id, at);
    shared.tell_person(&own.key);
    Ok(StatusCode::CREATED)
}

fn own_factor(own: &Own, id: u64) -> Result<&FactorRow, Problem> {
    let found = own.person.factors.iter().find(|factor| factor.id == id);
    found.ok_or_else(|| Problem::not_found("you have no such device", "reload the page"))
}

/// Renames a device.
#[utoipa::path(put, operation_id = "own_rename", path = "/own/factors/{id}", tag = "own", request_body = Renamed, security(()), params(("id" = u64, Path)),
    responses((status = 204, description = "renames a device"), (status = 401, body = Problem)))]
async fn rename(State(state): State<ApiState>, own: Own, Path(id): Path<u64>, Body(request): Body<Renamed>) -> Result<StatusCode, Problem> {
    let factor = own_factor(&own, id)?;
    let label = invitations::free_label(&own.person, factor.kind, &label(&request.label)?);
    let (source, login) = (own.person.source.clone(), own.person.login.clone());
    change(&state, &own, format!("{} is now called “{label}”", factor.label), Edit::RenameFactor { source, login, factor: id, label }).await
}

/// Removes a device.
#[utoipa::path(delete, operation_id = "own_remove", path = "/own/factors/{id}", tag = "own", security(()), params(("id" = u64, Path)),
    responses((status = 204, description = "removes a device"), (status = 401, body = Problem)))]
async fn remove(State(state): State<ApiState>, own: Own, Path(id): Path<u64>) -> Result<StatusCode, Problem> {
    let factor = own_factor(&own, id)?;
    let (source, login) = (own.person.source.clone(), own.person.login.clone());
    change(&state, &own, format!("{} “{}” removed", factor.kind, factor.label), Edit::RemoveFactor { source, login, factor: id }).await
}

/// An operator may take it back.
async fn change(state: &ApiState, own: &Own, what: String, edit: Edit) -> Result<StatusCode, Problem> {
    let shared = &state.shared;
    let what = format!("{}: {what}", person_key(&own.person.source, &own.person.login));
    shared.records.change_people(own.key.clone(), what, vec![edit], clock::now()).await?;
    shared.catch_up().await?;
    shared.tell_person(&own.key);
    Ok(StatusCode::NO_CONTENT)
}
