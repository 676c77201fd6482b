use std::borrow::Cow;

use axum::body::Bytes;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

use crate::http::error::ApiError;

/// The built console.
#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Files;

/// A file of the console; every other address is a page that the console draws.
pub(crate) async fn file(method: Method, uri: Uri, headers: HeaderMap) -> Response {
    if !matches!(method, Method::GET | Method::HEAD) {
        return ApiError::wrong_verb().into_response();
    }
    let path = uri.path().trim_start_matches('/');
    match Files::get(path).filter(|_| path != "index.html" && !path.is_empty()) {
        Some(file) => respond(file, &headers, "public, max-age=31536000, immutable"),
        None if path.starts_with("assets/") => StatusCode::NOT_FOUND.into_response(),
        None => match Files::get("index.html") {
            Some(page) => respond(page, &headers, "no-cache"),
            None => StatusCode::NOT_FOUND.into_response(),
        },
    }
}

fn respond(file: EmbeddedFile, headers: &HeaderMap, keep: &'static str) -> Response {
    let hash: String = file.metadata.sha256_hash()[..16].iter().map(|byte| format!("{byte:02x}")).collect();
    let tag = format!("\"{hash}\"");
    if headers.get(header::IF_NONE_MATCH).is_some_and(|known| known.as_bytes() == tag.as_bytes()) {
        return StatusCode::NOT_MODIFIED.into_response();
    }
    let kind = HeaderValue::from_str(file.metadata.mimetype()).unwrap_or(HeaderValue::from_static("text/plain"));
    let tag = HeaderValue::from_str(&tag).unwrap_or(HeaderValue::from_static(""));
    let keep = HeaderValue::from_static(keep);
    // What is part of the program is sent from where it is, however many ask.
    let body = match file.data {
        Cow::Borrowed(bytes) => Bytes::from_static(bytes),
        Cow::Owned(bytes) => bytes.into(),
    };
    let headers = [(header::CONTENT_TYPE, kind), (header::ETAG, tag), (header::CACHE_CONTROL, keep)];
    (headers, body).into_response()
}
