//! Who calls, and what they may: a bearer token for programs, a sealed cookie for the console.

use super::ApiState;
use super::problem::{Body, Problem};
use crate::clock;
use crate::operators::Operators;
use crate::records::{Deed, RecordsError, Role};
use crate::tls::Caller;
use axum::extract::State;
use axum::extract::{ConnectInfo, FromRequestParts};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_wire::Secret;
use data_encoding::BASE64URL_NOPAD;
use serde::{Deserialize, Serialize};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, ToSchema};

const COOKIE: &str = "bivector_session";
/// What a console session is sealed for.
const PURPOSE: &str = "session";
/// A session lasts this long, in seconds.
const SESSION: u64 = 12 * 3600;
/// Sent by the console with every change: a page elsewhere cannot set it.
const CONSOLE_HEADER: &str = "x-bivector-console";

/// The operator that calls.
pub(super) struct Operator {
    pub(super) name: String,
    pub(super) role: Role,
    /// The address of the caller.
    sender: String,
}

/// Sign-in of the console: with a token, or with name, password and one-time code.
#[derive(Deserialize, ToSchema)]
pub struct SessionRequest {
    /// The operator's token.
    #[serde(default)]
    token: Option<String>,
    /// The operator's name.
    #[serde(default)]
    name: Option<String>,
    /// The console password.
    #[serde(default)]
    password: Option<String>,
    /// The one-time code.
    #[serde(default)]
    code: Option<String>,
}

#[derive(Serialize, Deserialize)]
struct Session {
    operator: String,
    until: u64,
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
            format!("this needs the role `{}`; {} has `{}`", needed.word(), self.name, self.role.word()),
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

fn sender_of(parts: &Parts) -> String {
    parts.extensions.get::<ConnectInfo<Caller>>().map(|ConnectInfo(caller)| caller.0.ip().to_string()).unwrap_or_default()
}

impl FromRequestParts<ApiState> for Operator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Problem> {
        let operators = state.operators.load();
        let known = |name: String| operators.role(&name).map(|role| Operator { role, sender: sender_of(parts), name });
        let bearer =
            parts.headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "));
        if let Some(token) = bearer {
            return operators.by_token(token.trim()).and_then(known).ok_or_else(not_known);
        }
        let operator = state.operator_of_session(&parts.headers).and_then(known).ok_or_else(not_signed_in)?;
        let changes = !matches!(parts.method, Method::GET | Method::HEAD);
        if changes && !parts.headers.contains_key(CONSOLE_HEADER) {
            return Err(Problem::new(
                StatusCode::FORBIDDEN,
                "cross-site",
                "a change with a session must come from the console",
                format!("send the header `{CONSOLE_HEADER}`"),
            ));
        }
        Ok(operator)
    }
}

impl ApiState {
    fn operator_of_session(&self, headers: &HeaderMap) -> Option<String> {
        let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
        let value = cookies.flat_map(|line| line.split(';')).find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))?;
        let sealed = BASE64URL_NOPAD.decode(value.as_bytes()).ok()?;
        let opened = self.shared.seal.open(PURPOSE, &sealed).ok()?;
        let session: Session = serde_json::from_slice(opened.expose()).ok()?;
        (session.until > clock::now().secs()).then_some(session.operator)
    }
}

fn not_known() -> Problem {
    Problem::new(
        StatusCode::UNAUTHORIZED,
        "token",
        "the token is not known here",
        "use the token of this service; the first one is in `operator.token` in its data folder",
    )
}

fn not_signed_in() -> Problem {
    Problem::new(StatusCode::UNAUTHORIZED, "not-signed-in", "the call carries no operator's token", "send `authorization: Bearer TOKEN`")
}

/// Signs the console in, for a cookie that scripts cannot read: by token, or by name, password and one-time code.
#[utoipa::path(post, path = "/api/v1/session", tag = "session", request_body = SessionRequest, security(()),
    responses((status = 204, description = "signed in; the cookie is set"), (status = 401, body = Problem), (status = 429, body = Problem)))]
pub(super) async fn sign_in(
    State(state): State<ApiState>,
    caller: Option<axum::Extension<ConnectInfo<Caller>>>,
    Body(request): Body<SessionRequest>,
) -> Result<Response, Problem> {
    let sender = caller.map(|axum::Extension(ConnectInfo(caller))| caller.0.ip().to_string()).unwrap_or_default();
    let (operator, how) = match request {
        SessionRequest { token: Some(token), .. } => {
            let token = Secret::new(token);
            (state.operators.load().by_token(token.expose().trim()).ok_or_else(not_known)?, "with a token")
        }
        SessionRequest { name: Some(name), password: Some(password), code: Some(code), .. } => {
            Operators::check_sign_in(&state, &name, Secret::new(password), Secret::new(code)).await?;
            (name, "with password and code")
        }
        _ => return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "body", "a sign-in is a token, or name, password and code", "")),
    };
    let deed = Deed { operator: operator.clone(), sender, what: "session.sign-in", detail: how.to_owned() };
    state.shared.audit(deed).await?;
    let session = Session { operator, until: clock::now().secs() + SESSION };
    let text = serde_json::to_vec(&session).unwrap_or_default();
    let value = BASE64URL_NOPAD.encode(&state.shared.seal.seal(PURPOSE, &text));
    let secure = if state.tls { "; Secure" } else { "" };
    let cookie = format!("{COOKIE}={value}; Path=/; HttpOnly; SameSite=Strict; Max-Age={SESSION}{secure}");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// Signs the console out.
#[utoipa::path(delete, path = "/api/v1/session", tag = "session", responses((status = 204, description = "signed out")))]
pub(super) async fn sign_out() -> Response {
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    (StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response()
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
