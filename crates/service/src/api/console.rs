use crate::ApiError;
use axum::http::{HeaderMap, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

/// The built console.
#[derive(RustEmbed)]
#[folder = "../../console/dist"]
#[allow_missing = true]
struct Files;

/// Gives the console's files; every other path that is no file is the console itself, which reads it as a page.
pub(crate) async fn file(uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return ApiError::NotFound(format!("call {}", uri.path())).into_response();
    }
    match Files::get(path) {
        Some(file) => respond(path, &file, &headers),
        None if path.contains('.') || path.starts_with("assets/") => {
            ApiError::NotFound(format!("file {}", uri.path())).into_response()
        }
        None => match Files::get("index.html") {
            Some(index) => respond("index.html", &index, &headers),
            None => {
                (StatusCode::NOT_FOUND, "This binary was built without its console; run ./start.\n").into_response()
            }
        },
    }
}

fn respond(path: &str, file: &EmbeddedFile, headers: &HeaderMap) -> Response {
    let tag = format!("\"{}\"", hex::encode(file.metadata.sha256_hash()));
    // Names under assets/ hold a hash of what is in them; all else is asked for again each time.
    let caching = if path.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    if headers.get(header::IF_NONE_MATCH).is_some_and(|known| known.as_bytes() == tag.as_bytes()) {
        return StatusCode::NOT_MODIFIED.into_response();
    }
    let kind = content_type(path);
    let told = [(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, caching)];
    (told, [(header::ETAG, tag)], file.data.to_vec()).into_response()
}

fn content_type(path: &str) -> &'static str {
    match path.rsplit_once('.').map(|(_, ending)| ending) {
        Some("html") => "text/html; charset=utf-8",
        Some("js") => "text/javascript; charset=utf-8",
        Some("css") => "text/css; charset=utf-8",
        Some("svg") => "image/svg+xml",
        Some("woff2") => "font/woff2",
        Some("json") => "application/json",
        _ => "application/octet-stream",
    }
}
