//! Counters and timings, for `/metrics`.

use bivector_core::login::Guesser;
use bivector_model::Cause;
use bivector_model::trace::{Origin, Outcome, Trace};
use metrics::{Counter, Gauge, Histogram, counter, gauge, histogram};
use metrics_exporter_prometheus::{PrometheusBuilder, PrometheusHandle};
use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, OnceLock, PoisonError, RwLock};

static HANDLE: OnceLock<Option<PrometheusHandle>> = OnceLock::new();

/// Upper edges of the timing buckets, in seconds.
const BUCKETS: &[f64] = &[0.0005, 0.001, 0.002, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0, 60.0];

/// Makes the counters of this process readable; later calls change nothing.
pub fn install() {
    HANDLE.get_or_init(|| PrometheusBuilder::new().set_buckets(BUCKETS).ok()?.install_recorder().ok());
}

/// All figures in Prometheus' text format.
pub fn render() -> String {
    HANDLE.get().and_then(Option::as_ref).map(PrometheusHandle::render).unwrap_or_default()
}

/// A login ended. A rehearsed one is nobody's.
pub fn login(trace: &Trace) {
    if trace.origin == Origin::Rehearsal {
        return;
    }
    let kind = (trace.outcome, trace.cause);
    let known = |counters: &Counters| counters.get(&trace.gateway).and_then(|kinds| kinds.get(&kind)).cloned();
    let counted = COUNTERS.read().ok().and_then(|counters| known(&counters)).unwrap_or_else(|| {
        let counted = Counted::of(&trace.gateway, trace.outcome, trace.cause);
        if let Ok(mut counters) = COUNTERS.write() {
            counters.entry(trace.gateway.clone()).or_default().insert(kind, counted.clone());
        }
        counted
    });
    // A login that waits at a prompt is counted once it has ended; its rounds are timed one by one.
    if trace.outcome != Outcome::Challenged {
        counted.logins.increment(1);
    }
    if let Some(seconds) = counted.seconds.as_ref().filter(|_| trace.cause != Some(Cause::PromptUnanswered)) {
        seconds.record(trace.last_round_us() as f64 / 1e6);
    }
}

/// The figures of one kind of login: looked up by their labels once, not in every login.
#[derive(Clone)]
struct Counted {
    logins: Counter,
    seconds: Option<Histogram>,
}

type Counters = HashMap<String, HashMap<(Outcome, Option<Cause>), Counted>>;

/// By gateway, outcome and cause. Gateways are those of the sites that were active, so their number is small.
static COUNTERS: LazyLock<RwLock<Counters>> = LazyLock::new(RwLock::default);

impl Counted {
    fn of(gateway: &str, outcome: Outcome, cause: Option<Cause>) -> Self {
        let (gateway, outcome_slug, cause) = (gateway.to_owned(), outcome.slug(), cause.map_or("", Cause::slug));
        Counted {
            logins: counter!("bivector_logins_total", "gateway" => gateway, "outcome" => outcome_slug, "cause" => cause),
            seconds: (outcome != Outcome::Silent).then(|| histogram!("bivector_login_seconds", "outcome" => outcome_slug)),
        }
    }
}

/// A packet was dropped in silence.
pub fn dropped_packet(reason: &'static str) {
    counter!("bivector_packets_dropped_total", "reason" => reason).increment(1);
}

/// A resend was absorbed or answered again.
pub fn resend(how: &'static str) {
    counter!("bivector_resends_total", "how" => how).increment(1);
}

/// A Status-Server was answered.
pub fn status() {
    counter!("bivector_status_total").increment(1);
}

/// A gateway told of a session, by Acct-Status-Type (RFC 2866 section 5.1).
pub fn accounting(status: Option<u32>) {
    let what = match status {
        Some(1) => "start",
        Some(2) => "stop",
        Some(3) => "interim",
        Some(7) => "on",
        Some(8) => "off",
        _ => "other",
    };
    counter!("bivector_accounting_total", "what" => what).increment(1);
}

/// Open sessions of each gateway.
pub fn open_sessions(of_gateways: Vec<(String, u64)>) {
    let mut known = OPEN_SESSIONS.lock().unwrap_or_else(PoisonError::into_inner);
    // One that has none any more is told too.
    for gateway in std::mem::take(&mut *known) {
        gauge!("bivector_open_sessions", "gateway" => gateway).set(0.0);
    }
    for (gateway, count) in of_gateways {
        gauge!("bivector_open_sessions", "gateway" => gateway.clone()).set(count as f64);
        known.push(gateway);
    }
}

/// Gateways whose open sessions were told.
static OPEN_SESSIONS: Mutex<Vec<String>> = Mutex::new(Vec::new());

/// A report of a session could not be taken: the records are behind, or cannot be written.
pub fn accounting_dropped() {
    counter!("bivector_accounting_dropped_total").increment(1);
}

/// A trace was not kept because the records could not keep up.
pub fn dropped_trace() {
    counter!("bivector_traces_dropped_total").increment(1);
}

/// Whether the records can be written: 0 while commits fail, as on a full disk.
pub fn records_writable(writable: bool) {
    gauge!("bivector_records_writable").set(f64::from(u8::from(writable)));
}

/// Whether the last check of the records has found damage.
pub fn records_damaged(damaged: bool) {
    gauge!("bivector_records_damaged").set(f64::from(u8::from(damaged)));
}

/// Approvals that wait for their answer now.
pub fn approvals_waiting(count: usize) {
    gauge!("bivector_approvals_waiting").set(count as f64);
}

/// Logins that wait at a prompt, or whose answer is being decided.
pub fn logins_waiting(logins: usize) {
    gauge!("bivector_logins_waiting").set(logins as f64);
}

/// Logins undecided now.
pub fn in_flight(logins: usize) {
    static GAUGE: LazyLock<Gauge> = LazyLock::new(|| gauge!("bivector_logins_in_flight"));
    GAUGE.set(logins as f64);
}

/// EAP conversations that are open now.
pub fn eap_conversations(open: usize) {
    static GAUGE: LazyLock<Gauge> = LazyLock::new(|| gauge!("bivector_eap_conversations"));
    GAUGE.set(open as f64);
}

/// A server of a source could not be used.
pub fn failed_server(source: &str, server: &str, cause: Cause) {
    counter!("bivector_source_failures_total", "source" => source.to_owned(), "server" => server.to_owned(), "cause" => cause.slug())
        .increment(1);
}

/// An approval was asked for, joined, stopped or limited; or how it was answered.
pub fn approval(how: &'static str) {
    counter!("bivector_approvals_total", "how" => how).increment(1);
}

/// A code was sent, could not be, or was not because of a limit.
pub fn courier(how: &'static str) {
    counter!("bivector_courier_total", "how" => how).increment(1);
}

/// A push message was sent, or not: by push service, of which a site lists few, and by what became of it.
pub fn push(service: &str, result: &'static str, took: std::time::Duration) {
    counter!("bivector_pushes_total", "service" => service.to_owned(), "result" => result).increment(1);
    if !took.is_zero() {
        histogram!("bivector_push_seconds", "service" => service.to_owned()).record(took.as_secs_f64());
    }
}

/// A push message leaves, so long after its approval was asked for.
pub fn push_leaves(after: std::time::Duration) {
    histogram!("bivector_push_leave_seconds").record(after.as_secs_f64());
}

/// A handset has shown or opened a notification, so long after the approval was asked for.
pub fn push_seen(what: &'static str, after: std::time::Duration) {
    histogram!("bivector_push_seen_seconds", "what" => what).record(after.as_secs_f64());
}

/// A password was not checked, because too many wrong ones came before it.
pub fn limited_guess(whose: Guesser) {
    let whose = match whose {
        Guesser::Caller => "caller",
        Guesser::Person => "person",
    };
    counter!("bivector_passwords_limited_total", "whose" => whose).increment(1);
}

/// A request had the identifier and authenticator of another one with a different body.
pub fn conflicting_request() {
    counter!("bivector_requests_conflicting_total").increment(1);
}

/// A connection was refused because there were too many.
pub fn refused_connection() {
    counter!("bivector_http_connections_refused_total").increment(1);
}

/// A login or a packet brought its handling down.
pub fn panicked() {
    counter!("bivector_panics_total").increment(1);
}

/// A person was locked after too many wrong codes.
pub fn locked() {
    counter!("bivector_locks_total").increment(1);
}

/// Somebody got in without a second factor.
pub fn waived(chain: &str, down: bool) {
    let why = if down { "factor-down" } else { "by-site" };
    counter!("bivector_second_waived_total", "chain" => chain.to_owned(), "why" => why).increment(1);
}
