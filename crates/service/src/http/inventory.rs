use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use regnant_records::Inventory;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::http::Api;
use crate::http::callers::Signed;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};

/// A device.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeviceView {
    store: String,
    mac: String,
    /// What it is.
    title: String,
    groups: Vec<String>,
    /// Whether it must stay out.
    barred: bool,
}

/// Devices, by address.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeviceList {
    /// How many there are beyond those listed.
    more: usize,
    devices: Vec<DeviceView>,
}

/// Which devices are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Wanted {
    /// Only those whose address, title or group holds this.
    q: Option<String>,
    /// At most this many, 1 to 10000; 1000 if not said.
    limit: Option<usize>,
}

/// The devices that stores list.
#[utoipa::path(get, path = "/api/v1/devices", params(Wanted),
    responses((status = 200, body = DeviceList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn devices(
    State(api): State<Api>,
    _: Signed,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<DeviceList>, ApiError> {
    let limit = wanted.limit.unwrap_or(1_000);
    if !(1..=10_000).contains(&limit) {
        return Err(ApiError::bad("`limit` is 1 to 10000."));
    }
    let word = wanted.q.unwrap_or_default().to_lowercase();
    let stores = api.administration.snapshot().stores.clone();
    let mut found: Vec<_> = stores
        .devices()
        .into_iter()
        .map(|(store, mac, device)| DeviceView {
            store: store.to_owned(),
            mac: mac.to_string(),
            title: device.title.clone(),
            groups: device.groups.iter().map(|group| group.to_string().trim_matches('"').to_owned()).collect(),
            barred: device.barred,
        })
        .filter(|view| {
            let texts = [&view.mac, &view.title].into_iter().chain(&view.groups);
            word.is_empty() || texts.into_iter().any(|text| text.to_lowercase().contains(&word))
        })
        .collect();
    let more = found.len().saturating_sub(limit);
    found.truncate(limit);
    Ok(Json(DeviceList { more, devices: found }))
}

/// Adds or changes equipment, people and devices; all or nothing. The body has
/// the fields of an inventory file.
#[utoipa::path(post, path = "/api/v1/inventory", operation_id = "import_inventory", request_body = serde_json::Value,
    responses((status = 204), (status = 400, body = ApiError), (status = 409, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn import(
    State(api): State<Api>,
    Signed { name, .. }: Signed,
    Sent(inventory): Sent<Inventory>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.inventories.import(inventory, &name)).await?;
    Ok(StatusCode::NO_CONTENT)
}
