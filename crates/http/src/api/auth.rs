//! Who calls, and what they may: a bearer token for programs, a cookie for the console.

use super::ApiState;
use super::guard::Caller;
use super::problem::{Body, Problem};
use crate::operators::Operators;
use axum::extract::FromRequestParts;
use axum::extract::State;
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_api::operators::Role;
use bivector_api::operators::SessionRequest;
use bivector_engine::signins::{self, SignedInBy};
use bivector_engine::tries::{Attempt, address_key, seconds_until};
use bivector_store::agreement::Tally;
use bivector_store::records::{Deed, RecordsError};
use bivector_store::seal::hash_token;
use bivector_wire::Secret;
use utoipa::Modify;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};

const COOKIE: &str = "bivector_session";
/// Sent by the console with every change: a page elsewhere cannot set it.
const CONSOLE_HEADER: &str = "x-bivector-console";

/// The operator that calls.
pub(super) struct Operator {
    pub(super) name: String,
    pub(super) role: Role,
    /// What this call is signed in by.
    pub(super) by: SignedInBy,
    /// The address of the caller.
    sender: String,
}

impl Operator {
    /// Refuses what this operator's role does not include.
    pub(super) fn may(&self, needed: Role) -> Result<(), Problem> {
        if self.role >= needed {
            return Ok(());
        }
        Err(Problem::new(
            StatusCode::FORBIDDEN,
            "role",
            format!("this requires the role `{}`; {} has `{}`", needed.word(), self.name, self.role.word()),
            "ask an operator with the role `own` to do it or to change the role",
        ))
    }

    /// What this operator has just done, for the audit.
    pub(super) fn deed(&self, what: &'static str, detail: impl Into<String>) -> Deed {
        Deed { operator: self.name.clone(), sender: self.sender.clone(), what, detail: detail.into() }
    }

    /// Writes into the audit what this operator has just done.
    pub(super) async fn did(&self, state: &ApiState, what: &'static str, detail: impl Into<String>) -> Result<(), RecordsError> {
        state.shared.audit(self.deed(what, detail)).await
    }
}

impl FromRequestParts<ApiState> for Operator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Problem> {
        let operators = state.operators.load();
        let sender = Caller::in_parts(parts).text();
        let known = |name: String, by| operators.role(&name).map(|role| Operator { role, by, sender: sender.clone(), name });
        let bearer =
            parts.headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "));
        if let Some(token) = bearer {
            let token = token.trim();
            let by = || SignedInBy::Token(hash_token(token));
            return operators.by_token(token).and_then(|of| known(of.operator, by())).ok_or_else(not_known);
        }
        let signed_in = cookie(&parts.headers, COOKIE).and_then(|value| state.sign_ins.operator_of(&value));
        let operator = signed_in.and_then(|(name, hash)| known(name, SignedInBy::Console(hash))).ok_or_else(not_signed_in)?;
        let changes = !matches!(parts.method, Method::GET | Method::HEAD);
        if changes && !parts.headers.contains_key(CONSOLE_HEADER) {
            return Err(cross_site());
        }
        Ok(operator)
    }
}

fn cross_site() -> Problem {
    Problem::new(
        StatusCode::FORBIDDEN,
        "cross-site",
        "session-authenticated changes must come from the console",
        format!("send the header `{CONSOLE_HEADER}`"),
    )
}

fn not_known() -> Problem {
    Problem::new(
        StatusCode::UNAUTHORIZED,
        "token",
        "unknown token",
        "use the token of this service; the first one is in `operator.token` in its data folder",
    )
}

fn not_signed_in() -> Problem {
    Problem::new(StatusCode::UNAUTHORIZED, "not-signed-in", "no operator token was sent", "send `authorization: Bearer TOKEN`")
}

/// Counts an attempt from an address before anything is looked at.
pub(super) async fn begin_from(state: &ApiState, what: Tally, caller: &Caller) -> Result<Attempt, Problem> {
    state.shared.tries.begin(what, &address_key(caller.address)).await?.map_err(|refused| {
        let remedy = format!("wait {} seconds", seconds_until(refused.until));
        Problem::new(StatusCode::TOO_MANY_REQUESTS, "too-many", "too many tries from this address have failed", remedy)
    })
}

/// Signs the console in, for a cookie that scripts cannot read: by token, or by name, password and one-time code.
#[utoipa::path(post, path = "/session", tag = "session", request_body = SessionRequest, security(()),
    responses((status = 204, description = "signed in; the cookie is set"), (status = 401, body = Problem), (status = 429, body = Problem)))]
pub(super) async fn sign_in(
    State(state): State<ApiState>,
    caller: Caller,
    Body(request): Body<SessionRequest>,
) -> Result<Response, Problem> {
    let attempt = begin_from(&state, Tally::ConsoleFrom, &caller).await?;
    let (operator, token) = match request {
        SessionRequest { token: Some(token), .. } => {
            let token = Secret::new(token);
            let of = state.operators.load().by_token(token.expose().trim()).ok_or_else(not_known)?;
            (of.operator, Some(of.label))
        }
        SessionRequest { name: Some(name), password: Some(password), code: Some(code), .. } => {
            Operators::check_sign_in(&state, &name, Secret::new(password), Secret::new(code)).await?;
            (name, None)
        }
        _ => {
            return Err(Problem::new(
                StatusCode::UNPROCESSABLE_ENTITY,
                "body",
                "sign in with a token, or with name, password and code",
                "",
            ));
        }
    };
    attempt.uncounted();
    let how = token.as_ref().map_or_else(|| "with password and code".to_owned(), |label| format!("with the token `{label}`"));
    let deed = Deed { operator: operator.clone(), sender: caller.text(), what: "session.sign-in", detail: how };
    state.shared.audit(deed).await?;
    let value = state.sign_ins.begin(&operator, token.as_deref(), &caller.text()).await?;
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, session_cookie(&caller, &value, signins::LASTS.as_secs()))]).into_response())
}

fn session_cookie(caller: &Caller, value: &str, seconds: u64) -> String {
    let secure = if caller.secure { "; Secure" } else { "" };
    format!("{COOKIE}={value}; Path=/; HttpOnly; SameSite=Strict; Max-Age={seconds}{secure}")
}

/// Signs the console out. The sign-in is over then, whoever has copied its cookie.
#[utoipa::path(delete, path = "/session", tag = "session", responses((status = 204, description = "signed out")))]
pub(super) async fn sign_out(State(state): State<ApiState>, caller: Caller, headers: HeaderMap) -> Result<Response, Problem> {
    if let Some((_, hash)) = cookie(&headers, COOKIE).and_then(|value| state.sign_ins.operator_of(&value)) {
        if !headers.contains_key(CONSOLE_HEADER) {
            return Err(cross_site());
        }
        state.sign_ins.end_where(|row| row.hash == hash).await?;
    }
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, session_cookie(&caller, "", 0))]).into_response())
}

/// The value of a cookie.
pub(super) fn cookie(headers: &HeaderMap, name: &str) -> Option<String> {
    let lines = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    lines.flat_map(|line| line.split(';')).find_map(|pair| Some(pair.trim().strip_prefix(name)?.strip_prefix('=')?.to_owned()))
}

/// Names the ways to authenticate in the description.
pub(super) struct Schemes;

impl Modify for Schemes {
    fn modify(&self, description: &mut utoipa::openapi::OpenApi) {
        let components = description.components.get_or_insert_default();
        let token = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).description(Some("an operator's token")).build();
        components.add_security_scheme("token", SecurityScheme::Http(token));
    }
}
