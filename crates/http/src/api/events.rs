//! What just happened, as server-sent events.

use super::ApiState;
use super::auth::Operator;
use axum::extract::State;
use axum::response::Sse;
use axum::response::sse::{Event as SseEvent, KeepAlive};
use bivector_api::events::Event;
use futures_util::stream::{self, Stream};
use std::convert::Infallible;
use tokio::sync::broadcast::error::RecvError;

/// New traces, knocks and revisions as they come. A listener that falls behind is told with `missed`. The line ends with the sign-in or the
/// token that it came by.
#[utoipa::path(get, path = "/events", tag = "traces", responses((status = 200, content_type = "text/event-stream", body = Event)))]
pub(super) async fn events(State(state): State<ApiState>, operator: Operator) -> Sse<impl Stream<Item = Result<SseEvent, Infallible>>> {
    let receiver = state.shared.events.subscribe();
    let ended = state.sign_ins.ends(&operator.by);
    let stream = stream::unfold((receiver, state.stopped.clone(), ended), async |(mut receiver, mut stopped, ended)| {
        let received = tokio::select! {
            received = receiver.recv() => received,
            () = ended.cancelled() => return None,
            _ = stopped.wait_for(|stopped| *stopped) => return None,
        };
        let event = match received {
            Ok(event) => to_sse(&event),
            Err(RecvError::Lagged(missed)) => SseEvent::default().event("missed").data(missed.to_string()),
            Err(RecvError::Closed) => return None,
        };
        Some((Ok(event), (receiver, stopped, ended)))
    });
    Sse::new(stream).keep_alive(KeepAlive::default())
}

fn to_sse(event: &Event) -> SseEvent {
    let name = match event {
        Event::Trace(_) => "trace",
        Event::Knock(_) => "knock",
        Event::Server { .. } => "server",
        Event::Notice { .. } => "notice",
        Event::Person { .. } => "person",
        Event::Run { .. } => "run",
        Event::Site { .. } => "site",
        Event::Session { .. } => "session",
    };
    SseEvent::default().event(name).data(serde_json::to_string(event).unwrap_or_default())
}
