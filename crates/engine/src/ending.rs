//! A login's reference, and its end, whatever protocol it came in by: counted, its session expected, its device trusted, its trace kept.

use crate::shared::Shared;
use crate::stage::Stage;
use bivector_api::traces::TraceRow;
use bivector_core::login::{Accept, Second, Verdict};
use bivector_model::Moment;
use bivector_model::trace::{Origin, Trace};
use bivector_store::metrics;
use bivector_store::seal::quick_random;
use data_encoding::Encoding;
use std::sync::LazyLock;

/// Crockford's alphabet: no I, L, O or U, so that a reference can be read over the telephone.
static REFERENCE: LazyLock<Encoding> = LazyLock::new(|| {
    let mut spec = data_encoding::Specification::new();
    spec.symbols.push_str("0123456789ABCDEFGHJKMNPQRSTVWXYZ");
    spec.encoding().expect("thirty-two different symbols make an encoding")
});

/// A short text that leads from the person at the keyboard to the trace: eight characters.
pub fn reference() -> String {
    REFERENCE.encode(&quick_random::<5>())
}

/// Does all that follows a verdict, once the answer is on its way. `stage` is that of a rehearsed login, which gets the trace too.
pub fn finish(verdict: &Verdict, trace: Trace, shared: &Shared, stage: Option<&Stage>, now: Moment) {
    metrics::login(&trace);
    if let Verdict::Accept(accept) = verdict {
        accepted(accept, &trace, shared, now);
    }
    keep(trace, shared, stage);
}

/// Hands a trace to the records, and to the rehearsal that it belongs to.
pub fn keep(trace: Trace, shared: &Shared, stage: Option<&Stage>) {
    match stage {
        Some(stage) => {
            let id = shared.keep_trace(trace.clone());
            stage.tell(TraceRow::of(id, trace.clone()), trace);
        }
        None => drop(shared.keep_trace(trace)),
    }
}

fn accepted(accept: &Accept, trace: &Trace, shared: &Shared, now: Moment) {
    // Only gateways report sessions.
    let reported = || shared.live.load().as_ref().is_some_and(|live| !live.site.radius.accounting.is_empty());
    if trace.origin == Origin::Gateway && reported() {
        shared.sessions.let_in(trace, now);
    }
    if let Some((station, until)) = accept.remember().cloned() {
        shared.roster.note_remembered(station.clone(), until, now);
        shared.records.remember(station, until, now);
    }
    if let Second::Waived(waived) = accept.second() {
        metrics::waived(&trace.chain, waived.is_down());
        if waived.is_down() {
            tracing::warn!(reference = trace.reference, person = trace.person, "let in without a second factor, because it is down");
        }
    }
}
