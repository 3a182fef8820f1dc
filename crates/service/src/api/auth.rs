//! Who calls: a bearer token for programs, a sealed cookie for the console.

use super::ApiState;
use super::problem::{Body, Problem};
use crate::clock;
use crate::seal::hash_token;
use axum::extract::FromRequestParts;
use axum::extract::State;
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
pub(super) struct Operator(pub(super) String);

/// Sign-in of the console.
#[derive(Deserialize, ToSchema)]
pub struct SessionRequest {
    /// The operator's token.
    token: String,
}

#[derive(Serialize, Deserialize)]
struct Session {
    operator: String,
    until: u64,
}

impl FromRequestParts<ApiState> for Operator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &ApiState) -> Result<Self, Problem> {
        let bearer =
            parts.headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "));
        if let Some(token) = bearer {
            return state.operator_of(token.trim()).map(Operator).ok_or_else(not_known);
        }
        let operator = state.operator_of_session(&parts.headers).ok_or_else(not_signed_in)?;
        let changes = !matches!(parts.method, Method::GET | Method::HEAD);
        if changes && !parts.headers.contains_key(CONSOLE_HEADER) {
            return Err(Problem::new(
                StatusCode::FORBIDDEN,
                "cross-site",
                "a change with a session must come from the console",
                format!("send the header `{CONSOLE_HEADER}`"),
            ));
        }
        Ok(Operator(operator))
    }
}

impl ApiState {
    /// Tokens are looked up by their hash, so comparing takes no longer for a token that is nearly right.
    fn operator_of(&self, token: &str) -> Option<String> {
        self.operators.get(&hash_token(token)).cloned()
    }

    fn operator_of_session(&self, headers: &HeaderMap) -> Option<String> {
        let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
        let value = cookies.flat_map(|line| line.split(';')).find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='))?;
        let sealed = BASE64URL_NOPAD.decode(value.as_bytes()).ok()?;
        let opened = self.shared.seal.open(PURPOSE, &sealed).ok()?;
        let session: Session = serde_json::from_slice(opened.expose()).ok()?;
        let known = self.operators.values().any(|name| *name == session.operator);
        (known && session.until > clock::now().secs()).then_some(session.operator)
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

/// Signs the console in: a token for a cookie that scripts cannot read.
#[utoipa::path(post, path = "/api/v1/session", tag = "session", request_body = SessionRequest, security(()),
    responses((status = 204, description = "signed in; the cookie is set"), (status = 401, body = Problem)))]
pub(super) async fn sign_in(State(state): State<ApiState>, Body(request): Body<SessionRequest>) -> Result<Response, Problem> {
    let token = Secret::new(request.token);
    let operator = state.operator_of(token.expose().trim()).ok_or_else(not_known)?;
    let session = Session { operator, until: clock::now().secs() + SESSION };
    let text = serde_json::to_vec(&session).unwrap_or_default();
    let value = BASE64URL_NOPAD.encode(&state.shared.seal.seal(PURPOSE, &text));
    let cookie = format!("{COOKIE}={value}; Path=/; HttpOnly; SameSite=Strict; Max-Age={SESSION}");
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
