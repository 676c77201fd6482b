use utoipa::OpenApi;
use utoipa::openapi::OpenApi as Description;

use crate::http::described;
use crate::http::error::ApiError;

#[derive(OpenApi)]
#[openapi(
    info(title = "Regnant", description = "Sign in with a cookie or send `Authorization: Bearer TOKEN`."),
    components(schemas(ApiError))
)]
struct Heading;

/// What stands before the routes.
pub(crate) fn heading() -> Description {
    Heading::openapi()
}

/// The API's description as a JSON document; the console's client is made from it.
pub fn openapi_json() -> String {
    let mut text = described().into_openapi().to_pretty_json().unwrap_or_default();
    text.push('\n');
    text
}
