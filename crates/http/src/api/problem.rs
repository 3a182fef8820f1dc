//! Errors as problem details (RFC 9457), each with its remedy.

use axum::Json;
use axum::extract::rejection::JsonRejection;
use axum::extract::{FromRequest, Request};
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use bivector_api::problem::Problem as Details;
use bivector_engine::hashing::Busy;
use bivector_store::error::ServiceError;
use bivector_store::records::RecordsError;
use serde::de::DeserializeOwned;
use std::borrow::Cow;
use std::time::Duration;
use tokio::time::timeout;
use utoipa::openapi::{RefOr, Schema};
use utoipa::{PartialSchema, ToSchema};

/// What went wrong with a call: the answer of a handler that cannot do what is asked.
#[derive(Debug, Clone)]
pub struct Problem(pub Details);

impl PartialSchema for Problem {
    fn schema() -> RefOr<Schema> {
        Details::schema()
    }
}

impl ToSchema for Problem {
    fn name() -> Cow<'static, str> {
        Details::name()
    }

    fn schemas(schemas: &mut Vec<(String, RefOr<Schema>)>) {
        Details::schemas(schemas);
    }
}

impl Problem {
    /// A problem without findings.
    pub fn new(status: StatusCode, kind: &str, title: impl Into<String>, remedy: impl Into<String>) -> Self {
        Problem(Details {
            kind: format!("/problems/{kind}"),
            status: status.as_u16(),
            title: title.into(),
            remedy: remedy.into(),
            findings: Vec::new(),
            differences: Vec::new(),
            run: None,
        })
    }

    /// Something that is not there.
    pub fn not_found(title: impl Into<String>, remedy: impl Into<String>) -> Self {
        Problem::new(StatusCode::NOT_FOUND, "not-found", title, remedy)
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let body = serde_json::to_vec(&self.0).unwrap_or_default();
        (status, [(header::CONTENT_TYPE, "application/problem+json")], body).into_response()
    }
}

impl From<ServiceError> for Problem {
    fn from(error: ServiceError) -> Self {
        let (status, kind) = match &error {
            ServiceError::Site(_) => (StatusCode::UNPROCESSABLE_ENTITY, "site-has-errors"),
            ServiceError::Listen { .. } => (StatusCode::CONFLICT, "cannot-listen"),
            ServiceError::Directory { .. } => (StatusCode::CONFLICT, "directory-unusable"),
            ServiceError::RevisionMoved { .. } => (StatusCode::CONFLICT, "revision-moved"),
            ServiceError::Weaker(_) => (StatusCode::CONFLICT, "weaker"),
            ServiceError::NotProved(_) => (StatusCode::CONFLICT, "not-proved"),
            ServiceError::Unconfirmed { .. } => (StatusCode::CONFLICT, "unconfirmed"),
            ServiceError::Stopping(_) => (StatusCode::SERVICE_UNAVAILABLE, "stopping"),
            ServiceError::Refused { .. } => (StatusCode::UNPROCESSABLE_ENTITY, "refused"),
            _ => (StatusCode::INTERNAL_SERVER_ERROR, "service"),
        };
        let mut problem = Problem::new(status, kind, error.to_string(), error.remedy());
        match error {
            ServiceError::Site(findings) => problem.0.findings = findings,
            ServiceError::Weaker(differences) => problem.0.differences = differences,
            ServiceError::NotProved(run) => problem.0.run = Some(run),
            _ => {}
        }
        problem
    }
}

impl From<Busy> for Problem {
    fn from(busy: Busy) -> Self {
        Problem::new(StatusCode::TOO_MANY_REQUESTS, "busy", busy.to_string(), "try again in some seconds")
    }
}

impl From<RecordsError> for Problem {
    fn from(error: RecordsError) -> Self {
        ServiceError::from(error).into()
    }
}

pub(super) async fn no_such_route(uri: Uri) -> Problem {
    Problem::not_found(format!("no such API path: `{}`", uri.path()), "see /api/v1/openapi.json")
}

pub(super) async fn no_such_method(uri: Uri) -> Problem {
    Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method", format!("method not allowed for `{}`", uri.path()), "see /api/v1/openapi.json")
}

/// Bytes of a body that comes at once from any sound caller.
const SMALL: u64 = 64 * 1024;
/// How long such a body may take.
const SMALL_BODY: Duration = Duration::from_secs(10);
/// How long any other body may take: a whole site over a slow line.
const ANY_BODY: Duration = Duration::from_secs(60);

/// A JSON body whose mistakes come back as a problem. Its text is never repeated, since it may hold a secret.
pub(super) struct Body<T>(pub(super) T);

impl<T: DeserializeOwned, S: Send + Sync> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        let length = request.headers().get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse::<u64>().ok());
        let patience = if length.is_some_and(|length| length <= SMALL) { SMALL_BODY } else { ANY_BODY };
        match timeout(patience, Json::<T>::from_request(request, state)).await {
            Ok(Ok(Json(body))) => Ok(Body(body)),
            Ok(Err(rejection)) => Err(unreadable(&rejection)),
            Err(_) => {
                let said = format!("the body did not come within {} s", patience.as_secs());
                Err(Problem::new(StatusCode::REQUEST_TIMEOUT, "body", said, "send it in one go"))
            }
        }
    }
}

/// Where a body is wrong, as the parser says it at the end.
fn place(text: &str) -> String {
    let at =
        text.rsplit_once(" at line ").map(|(_, at)| at).filter(|at| at.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b' '));
    at.map_or_else(String::new, |at| format!(", at line {at}"))
}

fn unreadable(rejection: &JsonRejection) -> Problem {
    match rejection {
        JsonRejection::MissingJsonContentType(_) => Problem::new(
            StatusCode::UNSUPPORTED_MEDIA_TYPE,
            "body",
            "the request body must be JSON",
            "send `content-type: application/json`",
        ),
        JsonRejection::JsonSyntaxError(error) => {
            let said = format!("the body is not JSON{}", place(&error.body_text()));
            Problem::new(StatusCode::BAD_REQUEST, "body", said, "see /api/v1/openapi.json")
        }
        JsonRejection::JsonDataError(error) => {
            let text = error.body_text();
            // Names of missing fields are ours; values and other names may be somebody's secrets.
            let missing = text.split_once("missing field `").and_then(|(_, rest)| rest.split_once('`')).map(|(field, _)| field);
            let what = missing.map_or("a field has the wrong type".to_owned(), |field| format!("the field `{field}` is missing"));
            let said = format!("{what}{}", place(&text));
            Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "body", said, "see /api/v1/openapi.json")
        }
        other => Problem::new(
            other.status(),
            "body",
            "the request body could not be read; it may be too large",
            "send less than 64 KiB; a site file or a list of people may have 20 MiB",
        ),
    }
}
