use axum::Json;
use utoipa::OpenApi;

use crate::http::{callers, certificates, counts, error, health, inventory, journal, policy};

#[derive(OpenApi)]
#[openapi(
    info(title = "Regnant", description = "Sign in with a cookie or send `Authorization: Bearer TOKEN`."),
    paths(
        health::health,
        callers::welcome,
        callers::sign_in,
        callers::sign_out,
        callers::session,
        callers::new_token,
        journal::entries,
        journal::entry,
        journal::live,
        counts::counts,
        counts::newest,
        policy::active,
        policy::editions,
        policy::check,
        policy::activate,
        inventory::nases,
        inventory::devices,
        inventory::import,
        certificates::certificates,
        certificates::import,
        certificates::request,
        certificates::trust,
        certificates::profile,
    ),
    components(schemas(error::ApiError))
)]
struct Description;

/// The API's description as a JSON document; the console's client is made from it.
pub fn openapi_json() -> String {
    let mut text = Description::openapi().to_pretty_json().unwrap_or_default();
    text.push('\n');
    text
}

/// The description of this API.
pub(crate) async fn document() -> Json<utoipa::openapi::OpenApi> {
    Json(Description::openapi())
}
