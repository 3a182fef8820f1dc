//! Traces and knocks.

use super::ApiState;
use super::auth::Operator;
use super::problem::Problem;
use axum::Json;
use axum::body::Body;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use bivector_api::approvals::Waiting;
use bivector_api::knocks::Knock;
use bivector_api::traces::{DeviceLine, RoundView, TraceView};
use bivector_api::traces::{Failures, TraceRow};
use bivector_engine::shared::Shared;
use bivector_model::Cause;
use bivector_model::facts::Facts;
use bivector_model::trace::{Outcome, Step, Tone};
use bivector_store::clock;
use bivector_store::records::TraceFilter;
use futures_util::stream;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::IntoParams;

/// Traces that an export reads at once.
const EXPORTED_AT_ONCE: u32 = 500;
/// Waiting logins that are listed at most.
const MOST_WAITING: usize = 1000;
/// Spans of a chart, at most.
const MOST_SPANS: u64 = 400;

/// Of a trace, with the line of the site file that the remedy is about.
pub(super) async fn trace_view(shared: &Shared, row: TraceRow, steps: Vec<Step>, facts: Option<&Facts>) -> TraceView {
    let decided = steps.iter().rev().find(|step| step.tone == Tone::Bad && step.line.is_some());
    let line = decided.filter(|_| row.cause.is_some()).and_then(|step| step.line);
    let line_text = match line {
        Some(line) if row.revision > 0 => {
            let text = shared.records.revision(row.revision).await.ok().flatten().and_then(|revision| revision.text);
            text.and_then(|text| text.lines().nth(line as usize - 1).map(|line| line.trim().to_owned()))
        }
        _ => None,
    };
    let rounds = facts.map(|facts| RoundView::all_of(&row.method, facts)).unwrap_or_default();
    TraceView {
        sentence: row.cause.map(|cause| cause.sentence().to_owned()),
        remedy: row.cause.map(|cause| cause.remedy().to_owned()),
        line,
        line_text,
        row,
        device: facts.map(DeviceLine::all_of).unwrap_or_default(),
        rounds,
        steps,
    }
}

fn bad(title: String, remedy: String) -> Problem {
    Problem::new(StatusCode::BAD_REQUEST, "filter", title, remedy)
}

/// A filter, or why it is none.
fn checked(filter: Result<Query<TraceFilter>, QueryRejection>) -> Result<TraceFilter, Problem> {
    let Query(mut filter) = filter.map_err(|error| bad(error.body_text(), "see /api/v1/openapi.json".into()))?;
    if filter.outcome.as_deref() == Some("waiting") {
        filter.outcome = Some(Outcome::Challenged.slug().to_owned());
    }
    if let Some(cause) = filter.cause.as_deref().filter(|cause| !Cause::ALL.iter().any(|known| known.slug() == *cause)) {
        let slugs: Vec<&str> = Cause::ALL.iter().map(|cause| cause.slug()).collect();
        return Err(bad(format!("unknown cause `{cause}`"), format!("known: {}", slugs.join(", "))));
    }
    let known = ["accepted", "challenged", "waiting", "refused", "silent"];
    if let Some(outcome) = filter.outcome.as_deref().filter(|outcome| !known.contains(outcome)) {
        return Err(bad(format!("unknown outcome `{outcome}`"), format!("known: {}", known.join(", "))));
    }
    let known = ["gateway", "rehearsal", "page"];
    if let Some(origin) = filter.origin.as_deref().filter(|origin| !known.contains(origin)) {
        return Err(bad(format!("unknown origin `{origin}`"), format!("known: {}", known.join(", "))));
    }
    Ok(filter)
}

/// A page of traces, newest first.
#[utoipa::path(get, operation_id = "traces_list", path = "/traces", tag = "traces", params(TraceFilter), responses((status = 200, body = [TraceRow]), (status = 400, body = Problem)))]
pub(super) async fn list(
    State(state): State<ApiState>,
    _: Operator,
    filter: Result<Query<TraceFilter>, QueryRejection>,
) -> Result<Json<Vec<TraceRow>>, Problem> {
    let filter = checked(filter)?;
    let mut rows = state.shared.records.traces(filter.clone()).await?;
    rows.iter_mut().for_each(|row| state.shared.as_it_stands(row));
    // A name that nobody is known by is not kept as it was typed, and is found all the same.
    let kept = filter.person.as_deref().filter(|_| rows.is_empty()).map(|typed| state.shared.roster.names().as_kept(typed));
    match kept.filter(|kept| filter.person.as_ref() != Some(kept)) {
        Some(kept) => Ok(Json(state.shared.records.traces(TraceFilter { person: Some(kept), ..filter }).await?)),
        None => Ok(Json(rows)),
    }
}

/// A line of an export.
#[derive(Serialize)]
struct Exported {
    #[serde(flatten)]
    row: TraceRow,
    steps: Vec<Step>,
}

/// All traces that fit, with their steps, as JSON lines, oldest first.
#[utoipa::path(get, operation_id = "traces_export", path = "/traces/export", tag = "traces", params(TraceFilter),
    responses((status = 200, body = String, content_type = "application/x-ndjson"), (status = 400, body = Problem)))]
pub(super) async fn export(
    State(state): State<ApiState>,
    _: Operator,
    filter: Result<Query<TraceFilter>, QueryRejection>,
) -> Result<Response, Problem> {
    let filter = TraceFilter { limit: Some(EXPORTED_AT_ONCE), ..checked(filter)? };
    let lines = stream::unfold(Some(filter), move |filter| {
        let shared = Arc::clone(&state.shared);
        async move {
            let filter = filter?;
            let traces = match shared.records.whole_traces(filter.clone()).await {
                Ok(traces) => traces,
                Err(error) => return Some((Err(std::io::Error::other(error.to_string())), None)),
            };
            let next = traces.last().map(|(row, _)| TraceFilter { after: Some(row.id), ..filter });
            let mut text = Vec::new();
            for (row, steps) in traces {
                // Writing JSON into memory does not fail.
                let _ = serde_json::to_writer(&mut text, &Exported { row, steps });
                text.push(b'\n');
            }
            // The first empty page ends it.
            next.as_ref()?;
            Some((Ok(text), next))
        }
    });
    Ok(([(header::CONTENT_TYPE, "application/x-ndjson")], Body::from_stream(lines)).into_response())
}

/// What a chart of failures is about.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct ChartOf {
    /// How far back, in seconds.
    last_s: u64,
    /// How long each span is, in seconds.
    span_s: u64,
    /// One gateway only.
    #[serde(default)]
    gateway: Option<String>,
}

/// Failures over time, by cause and gateway. Rehearsed logins are left out.
#[utoipa::path(get, operation_id = "traces_failures", path = "/traces/failures", tag = "traces", params(ChartOf),
    responses((status = 200, body = Failures), (status = 400, body = Problem)))]
pub(super) async fn failures(
    State(state): State<ApiState>,
    _: Operator,
    of: Result<Query<ChartOf>, QueryRejection>,
) -> Result<Json<Failures>, Problem> {
    let Query(of) = of.map_err(|error| bad(error.body_text(), "see /api/v1/openapi.json".into()))?;
    if of.span_s == 0 || of.last_s == 0 || of.last_s / of.span_s > MOST_SPANS || of.last_s > 3650 * 86_400 {
        return Err(bad(
            format!("{} s in spans of {} s", of.last_s, of.span_s),
            format!("choose at most {MOST_SPANS} spans within ten years"),
        ));
    }
    // Spans end at whole multiples, so that a chart does not change while somebody looks at it.
    let span = of.span_s * 1_000_000;
    let end = clock::now().micros().div_ceil(span) * span;
    let since = end.saturating_sub(of.last_s.div_ceil(of.span_s) * span);
    Ok(Json(state.shared.records.failures(since, span, of.gateway).await?))
}

/// One trace by its reference.
#[utoipa::path(get, operation_id = "traces_show", path = "/traces/{reference}", tag = "traces", params(("reference" = String, Path)),
    responses((status = 200, body = TraceView), (status = 404, body = Problem)))]
pub(super) async fn show(State(state): State<ApiState>, _: Operator, Path(reference): Path<String>) -> Result<Json<TraceView>, Problem> {
    match state.shared.trace(&reference).await? {
        Some((row, steps, facts)) => Ok(Json(crate::api::traces::trace_view(&state.shared, row, steps, facts.as_ref()).await)),
        None => Err(Problem::not_found(format!("unknown trace `{reference}`"), "see `bivector trace list`")),
    }
}

/// Logins that wait for somebody's approval at this moment, the oldest first.
#[utoipa::path(get, operation_id = "traces_waiting", path = "/waiting", tag = "traces", responses((status = 200, body = [Waiting])))]
pub(super) async fn waiting(State(state): State<ApiState>, _: Operator) -> Json<Vec<Waiting>> {
    Json(state.shared.approvals.all_waiting(clock::now(), MOST_WAITING))
}

/// Packets that were dropped, by sender and reason, latest first.
#[utoipa::path(get, operation_id = "traces_knocks", path = "/knocks", tag = "traces", responses((status = 200, body = [Knock])))]
pub(super) async fn knocks(State(state): State<ApiState>, _: Operator) -> Result<Json<Vec<Knock>>, Problem> {
    Ok(Json(state.shared.records.knocks().await?))
}
