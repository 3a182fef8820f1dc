//! The console's files, embedded in the binary, with a strict Content-Security-Policy.

use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use bivector_store::seal::random;
use data_encoding::BASE64URL_NOPAD;
use rust_embed::{EmbeddedFile, RustEmbed};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Serves a file of the console; paths of its pages get the page itself.
pub async fn serve(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    match Files::get(path) {
        Some(file) if !path.ends_with(".html") && !path.is_empty() => file_response(path, &file, &headers),
        _ if path.starts_with("assets/") || path.rsplit('/').next().is_some_and(|last| last.contains('.') && !last.ends_with(".html")) => {
            (StatusCode::NOT_FOUND, "not found\n").into_response()
        }
        _ if path == "handset" || path.starts_with("handset/") => page("handset.html"),
        _ => page("index.html"),
    }
}

/// As [`serve`], where phones have a listener of their own.
pub async fn serve_operators(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path();
    if path == "/handset" || path.starts_with("/handset/") {
        return (StatusCode::NOT_FOUND, "the handset page is served by the listener for phones\n").into_response();
    }
    serve(uri, headers).await
}

/// Serves the handset page and the files that it needs, and nothing of the console.
pub async fn serve_phones(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    let is_page = path == "handset" || path.starts_with("handset/");
    let is_file = Files::get(path).is_some() && !path.ends_with(".html");
    match is_page || is_file {
        true => serve(uri, headers).await,
        false => (StatusCode::NOT_FOUND, "this listener serves the handset page only\n").into_response(),
    }
}

/// The page, with a nonce of its own for the styles that libraries add at run time.
fn page(name: &str) -> Response {
    let Some(index) = Files::get(name) else {
        return (StatusCode::NOT_FOUND, "the console is not part of this build; run `make build`\n").into_response();
    };
    let nonce = BASE64URL_NOPAD.encode(&random::<16>());
    let html = String::from_utf8_lossy(&index.data).replace("__NONCE__", &nonce);
    let policy = format!(
        "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self'; font-src 'self'; connect-src 'self'; \
         manifest-src 'self'; worker-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'; object-src 'none'"
    );
    let headers = [
        (header::CONTENT_TYPE, "text/html; charset=utf-8".to_owned()),
        (header::CACHE_CONTROL, "no-store".to_owned()),
        (header::CONTENT_SECURITY_POLICY, policy),
        (header::REFERRER_POLICY, "no-referrer".to_owned()),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff".to_owned()),
    ];
    (headers, html).into_response()
}

fn file_response(path: &str, file: &EmbeddedFile, headers: &HeaderMap) -> Response {
    let etag = format!("\"{}\"", BASE64URL_NOPAD.encode(&file.metadata.sha256_hash()[..12]));
    // Files under assets/ carry a hash in their names; others may change with the next version.
    let cache = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    if headers.get(header::IF_NONE_MATCH).is_some_and(|seen| seen.as_bytes() == etag.as_bytes()) {
        return (StatusCode::NOT_MODIFIED, [(header::ETAG, etag)]).into_response();
    }
    let accepted = headers.get(header::ACCEPT_ENCODING).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let packed = [("br", "br"), ("gzip", "gz")].into_iter().filter(|(name, _)| accepted.split(',').any(|part| part.trim() == *name));
    let packed = packed.filter_map(|(name, ending)| Files::get(&format!("{path}.{ending}")).map(|file| (name, file))).next();
    let common = [
        (header::CONTENT_TYPE, content_type(path).to_owned()),
        (header::CACHE_CONTROL, cache.to_owned()),
        (header::ETAG, etag),
        (header::VARY, "accept-encoding".to_owned()),
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff".to_owned()),
    ];
    match packed {
        Some((encoding, packed)) => (common, [(header::CONTENT_ENCODING, encoding)], packed.data.into_owned()).into_response(),
        None => (common, file.data.clone().into_owned()).into_response(),
    }
}

fn content_type(path: &str) -> &'static str {
    match path.rsplit('.').next() {
        Some("js") => "text/javascript; charset=utf-8",
        Some("css") => "text/css; charset=utf-8",
        Some("svg") => "image/svg+xml",
        Some("woff2") => "font/woff2",
        Some("json") => "application/json",
        Some("webmanifest") => "application/manifest+json",
        Some("txt") => "text/plain; charset=utf-8",
        _ => "application/octet-stream",
    }
}
