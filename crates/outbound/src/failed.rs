//! What went wrong with an HTTP request, in words that may be shown.

/// What went wrong with an HTTP request, without its address: that may hold a secret, and whoever knows that of a handset can send to it.
pub(crate) fn unanswered(error: &reqwest::Error) -> String {
    let mut inner: &dyn std::error::Error = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    match (error.is_timeout(), error.is_connect()) {
        (true, _) => "no answer in time".to_owned(),
        (_, true) => format!("no connection: {inner}"),
        _ => format!("the request failed: {inner}"),
    }
}
