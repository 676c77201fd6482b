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

/// A NAS; its secret is never shown.
#[derive(Serialize, ToSchema)]
pub(crate) struct NasView {
    name: String,
    /// Its address or block.
    address: String,
    /// `switch`, `controller`, `firewall`, `router` or `vpn`.
    kind: String,
    site: String,
    dialect: String,
    /// Whether its requests must carry Message-Authenticator; false is a risk.
    require_message_authenticator: bool,
    /// Whether replies to logins of administrators carry the Class by which accounting finds
    /// their decision too.
    class_at_login: bool,
    /// What the active policy could grant to it and its dialect cannot say; requests that
    /// would get it are refused.
    lacks: Vec<String>,
}

/// Every NAS, by name.
#[derive(Serialize, ToSchema)]
pub(crate) struct NasList {
    nases: Vec<NasView>,
}

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

/// Every NAS.
#[utoipa::path(get, path = "/api/v1/nases",
    responses((status = 200, body = NasList), (status = 401, body = ApiError)))]
pub(crate) async fn nases(State(api): State<Api>, _: Signed) -> Result<Json<NasList>, ApiError> {
    let edition = api.administration.snapshot().active.edition.clone();
    let rows = blocking(move || api.administration.inventories.nases()).await?;
    let view = |row: regnant_records::NasRow| NasView {
        lacks: edition.lacks(&row.identity(), row.network).iter().map(ToString::to_string).collect(),
        name: row.name,
        address: row.network.to_string(),
        kind: row.kind.word().to_owned(),
        site: row.site,
        dialect: row.dialect,
        require_message_authenticator: row.require_message_authenticator,
        class_at_login: row.class_at_login,
    };
    Ok(Json(NasList { nases: rows.into_iter().map(view).collect() }))
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
#[utoipa::path(post, path = "/api/v1/inventory", request_body = serde_json::Value,
    responses((status = 204), (status = 400, body = ApiError), (status = 409, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn import(
    State(api): State<Api>,
    Signed { name, .. }: Signed,
    Sent(inventory): Sent<Inventory>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.inventories.import(inventory, &name)).await?;
    Ok(StatusCode::NO_CONTENT)
}
