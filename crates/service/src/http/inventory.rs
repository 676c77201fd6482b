use axum::extract::State;
use axum::http::StatusCode;
use regnant_records::Inventory;

use crate::http::Api;
use crate::http::callers::{Change, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;

/// Adds or changes equipment, people and devices; all or nothing. The body has
/// the fields of an inventory file.
#[utoipa::path(post, path = "/api/v1/inventory", operation_id = "import_inventory", request_body = serde_json::Value,
    responses((status = 204), (status = 400, body = ApiError), (status = 409, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn import(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(inventory): Sent<Inventory>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.inventories.import(inventory, &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}
