use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use regnant_records::{RecordName, StoreKind, StoreRow};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::AdministrationError;
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;

/// A store, and what is in it.
#[derive(Serialize, ToSchema)]
pub(crate) struct StoreView {
    name: String,
    /// `people` or `devices`.
    kind: String,
    people: u64,
    machines: u64,
    devices: u64,
    /// Whether the active policy looks identities up in it.
    in_policy: bool,
}

/// Every store.
#[derive(Serialize, ToSchema)]
pub(crate) struct StoreList {
    stores: Vec<StoreView>,
}

/// A store that is wanted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewStore {
    name: String,
    /// `people` or `devices`.
    #[schema(value_type = String)]
    kind: StoreKind,
}

/// Every store.
#[utoipa::path(get, path = "/api/v1/stores",
    responses((status = 200, body = StoreList), (status = 401, body = ApiError)))]
pub(crate) async fn stores(State(api): State<Api>, _: May<Look>) -> Result<Json<StoreList>, ApiError> {
    let work = move || {
        let identities = &api.administration.identities;
        let (people, machines) = (identities.people()?, identities.machines()?);
        let mut counts: BTreeMap<String, [u64; 2]> = BTreeMap::new();
        people.into_iter().for_each(|row| counts.entry(row.store).or_default()[0] += 1);
        machines.into_iter().for_each(|row| counts.entry(row.store).or_default()[1] += 1);
        let (devices, edition) = (identities.device_counts(), api.administration.snapshot().active.edition.clone());
        let view = |StoreRow { name, kind }| {
            let [people, machines] = counts.get(&name).copied().unwrap_or_default();
            StoreView {
                people,
                machines,
                devices: devices.get(&name).copied().unwrap_or(0) as u64,
                in_policy: edition.policy.stores().contains(&name),
                kind: kind.word().to_owned(),
                name,
            }
        };
        Ok::<_, AdministrationError>(identities.stores()?.into_iter().map(view).collect())
    };
    Ok(Json(StoreList { stores: blocking(work).await? }))
}

/// Adds a store.
#[utoipa::path(post, path = "/api/v1/stores", operation_id = "add_store", request_body = NewStore,
    responses((status = 201), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(new): Sent<NewStore>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.identities.add_store(&new.name, new.kind, &by)).await?;
    Ok(StatusCode::CREATED)
}

/// Another name for a store.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct StorePatch {
    name: String,
}

/// Gives a store that the active policy does not name another name, with all that is in it.
#[utoipa::path(patch, path = "/api/v1/stores/{name}", operation_id = "rename_store", params(("name" = String, Path)),
    request_body = StorePatch,
    responses((status = 204), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn rename(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Sent(new): Sent<StorePatch>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.identities.rename_store(&name, new.name.trim(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Removes a store that is empty and that the active policy does not name.
#[utoipa::path(delete, path = "/api/v1/stores/{name}", operation_id = "remove_store", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let work = move || {
        let known = api.administration.identities.stores()?.iter().any(|row| row.name == name);
        match known {
            true => api.administration.identities.remove_store(&name, &by),
            false => Err(AdministrationError::NotFound(RecordName::Store(name))),
        }
    };
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}
