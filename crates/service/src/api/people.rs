//! People and their factors.

use super::ApiState;
use super::auth::Operator;
use super::problem::{Body, Problem};
use crate::people::{Imported, import as import_people};
use crate::records::PersonRow;
use crate::records::Role;
use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A person, without anything secret.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    /// The login name.
    pub login: String,
    /// The source that knows the person.
    pub source: String,
    /// The name for display.
    pub name: String,
    /// Groups kept here, for people of the roster.
    pub groups: Vec<String>,
    /// Whether the person is kept out.
    pub disabled: bool,
    /// Whether a password is kept here.
    pub has_password: bool,
    /// Factors.
    pub factors: Vec<FactorView>,
}

/// A factor, without its seed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FactorView {
    /// Its number.
    pub id: u64,
    /// `totp`.
    pub kind: String,
    /// What the person calls it.
    pub label: String,
    /// Digits of a code.
    pub digits: u8,
    /// Seconds that a code lives.
    pub period: u32,
    /// When it was added, in microseconds since 1970.
    pub created_us: u64,
}

/// People to import.
#[derive(Deserialize, ToSchema)]
pub struct ImportRequest {
    /// A CSV file with a header.
    csv: String,
    /// Whether to look at it only.
    #[serde(default)]
    preview: bool,
}

impl From<&PersonRow> for PersonView {
    fn from(person: &PersonRow) -> Self {
        let factor = |factor: &crate::records::FactorRow| FactorView {
            id: factor.id,
            kind: factor.kind.clone(),
            label: factor.label.clone(),
            digits: factor.settings.digits,
            period: factor.settings.period,
            created_us: factor.created_us,
        };
        PersonView {
            login: person.login.clone(),
            source: person.source.clone(),
            name: person.name.clone(),
            groups: person.groups.clone(),
            disabled: person.disabled,
            has_password: person.password.is_some(),
            factors: person.factors.iter().map(factor).collect(),
        }
    }
}

/// All people known here, by source and login.
#[utoipa::path(get, operation_id = "people_list", path = "/api/v1/people", tag = "people", responses((status = 200, body = [PersonView])))]
pub(super) async fn list(State(state): State<ApiState>, _: Operator) -> Json<Vec<PersonView>> {
    Json(state.shared.roster.all().iter().map(|person| PersonView::from(person.as_ref())).collect())
}

/// The people of a login name, one for each source that knows it.
#[utoipa::path(get, operation_id = "people_show", path = "/api/v1/people/{login}", tag = "people", params(("login" = String, Path)),
    responses((status = 200, body = [PersonView]), (status = 404, body = Problem)))]
pub(super) async fn show(State(state): State<ApiState>, _: Operator, Path(login): Path<String>) -> Result<Json<Vec<PersonView>>, Problem> {
    let all = state.shared.roster.all();
    let found: Vec<_> =
        all.iter().filter(|person| person.login.eq_ignore_ascii_case(&login)).map(|person| PersonView::from(person.as_ref())).collect();
    if found.is_empty() {
        return Err(Problem::not_found(
            format!("nobody called `{login}` is known here"),
            "see `bivector person list`; a directory's people appear once they have a factor",
        ));
    }
    Ok(Json(found))
}

/// Imports people from CSV: all of them, or none if a line is wrong.
#[utoipa::path(post, operation_id = "people_import", path = "/api/v1/people/import", tag = "people", request_body = ImportRequest,
    responses((status = 200, body = Imported), (status = 422, body = Imported, description = "lines are wrong; nothing was kept")))]
pub(super) async fn import(
    State(state): State<ApiState>,
    operator: Operator,
    Body(request): Body<ImportRequest>,
) -> Result<(StatusCode, Json<Imported>), Problem> {
    operator.may(Role::Operate)?;
    let imported = import_people(&request.csv, request.preview, &state.shared).await?;
    if imported.errors.is_empty() && !request.preview {
        operator.did(&state, "people.import", format!("{} lines", request.csv.lines().count().saturating_sub(1))).await?;
    }
    let status = if imported.errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, Json(imported)))
}
