use axum::Json;
use axum::extract::State;
use serde::Serialize;
use utoipa::ToSchema;

use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{May, ReadAudit};
use crate::http::error::{ApiError, blocking};

/// The key that secrets are sealed under, and when a backup was taken last.
#[derive(Serialize, ToSchema)]
pub(crate) struct KeysView {
    /// The id of the sealing key; the key itself never leaves its file.
    sealing: String,
    /// When the last backup was taken; none where none was.
    backup: Option<String>,
    /// By whom.
    backup_by: Option<String>,
}

/// The sealing key by its id, and the last backup.
#[utoipa::path(get, path = "/api/v1/keys",
    responses((status = 200, body = KeysView), (status = 401, body = ApiError)))]
pub(crate) async fn keys(State(api): State<Api>, _: May<ReadAudit>) -> Result<Json<KeysView>, ApiError> {
    let sealing = api.places.id.to_string();
    let last = blocking(move || api.administration.administrators.last_backup()).await?;
    let (backup, backup_by) = last.map(|entry| (iso(entry.at), entry.author)).unzip();
    Ok(Json(KeysView { sealing, backup, backup_by }))
}
