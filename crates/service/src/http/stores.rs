use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use regnant_records::{RecordName, StoreKind, StoreRow};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::AdministrationError;
use crate::administration::identities::Group;
use crate::administration::renames::{Rename, Renamed, Site};
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};

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

/// A group, by who is in it and who asks for it.
#[derive(Serialize, ToSchema)]
pub(crate) struct GroupView {
    name: String,
    people: u64,
    machines: u64,
    devices: u64,
    /// Where the active policy names it.
    named_by: Vec<String>,
}

/// Every group that somebody is in or the active policy names.
#[derive(Serialize, ToSchema)]
pub(crate) struct GroupList {
    groups: Vec<GroupView>,
}

impl From<Group> for GroupView {
    fn from(Group { name, people, machines, devices, named_by }: Group) -> Self {
        Self { name, people, machines, devices, named_by }
    }
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

/// Every group that somebody is in or the active policy names.
#[utoipa::path(get, path = "/api/v1/groups",
    responses((status = 200, body = GroupList), (status = 401, body = ApiError)))]
pub(crate) async fn groups(State(api): State<Api>, _: May<Look>) -> Result<Json<GroupList>, ApiError> {
    let groups = blocking(move || api.administration.identities.groups()).await?;
    Ok(Json(GroupList { groups: groups.into_iter().map(Into::into).collect() }))
}

/// Another name for a group or a site.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewName {
    name: String,
    /// Whether it is done although the active policy names it, or something has that name
    /// already and the two become one.
    #[serde(default)]
    anyway: bool,
}

/// Whether a group is removed although the active policy names it.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Anyway {
    #[serde(default)]
    anyway: bool,
}

/// How many records were changed.
#[derive(Serialize, ToSchema)]
pub(crate) struct RenamedView {
    nases: u64,
    people: u64,
    machines: u64,
    devices: u64,
}

impl From<Renamed> for RenamedView {
    fn from(Renamed { nases, people, machines, devices }: Renamed) -> Self {
        Self { nases, people, machines, devices }
    }
}

/// Gives a group another name: everybody in it is in the other then.
#[utoipa::path(patch, path = "/api/v1/groups/{name}", operation_id = "rename_group", params(("name" = String, Path)),
    request_body = NewName,
    responses((status = 200, body = RenamedView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn rename_group(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Sent(new): Sent<NewName>,
) -> Result<Json<RenamedView>, ApiError> {
    let work = move || {
        let rename = Rename { from: &name, to: Some(new.name.trim()), anyway: new.anyway };
        api.administration.identities.rename_group(&rename, &by)
    };
    Ok(Json(blocking(work).await?.into()))
}

/// Takes everybody out of a group.
#[utoipa::path(delete, path = "/api/v1/groups/{name}", operation_id = "remove_group",
    params(("name" = String, Path), Anyway),
    responses((status = 200, body = RenamedView), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove_group(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Asked(Anyway { anyway }): Asked<Anyway>,
) -> Result<Json<RenamedView>, ApiError> {
    let work = move || {
        let rename = Rename { from: &name, to: None, anyway };
        api.administration.identities.rename_group(&rename, &by)
    };
    Ok(Json(blocking(work).await?.into()))
}

/// A site, by what stands there and who asks for it.
#[derive(Serialize, ToSchema)]
pub(crate) struct SiteView {
    name: String,
    nases: u64,
    /// Where the active policy names it.
    named_by: Vec<String>,
}

/// Every site.
#[derive(Serialize, ToSchema)]
pub(crate) struct SiteList {
    sites: Vec<SiteView>,
}

/// Every site at which a NAS stands or that the active policy names.
#[utoipa::path(get, path = "/api/v1/sites",
    responses((status = 200, body = SiteList), (status = 401, body = ApiError)))]
pub(crate) async fn sites(State(api): State<Api>, _: May<Look>) -> Result<Json<SiteList>, ApiError> {
    let sites = blocking(move || api.administration.identities.sites()).await?;
    let view = |Site { name, nases, named_by }| SiteView { name, nases, named_by };
    Ok(Json(SiteList { sites: sites.into_iter().map(view).collect() }))
}

/// Gives a site another name, at every NAS that stands there.
#[utoipa::path(patch, path = "/api/v1/sites/{name}", operation_id = "rename_site", params(("name" = String, Path)),
    request_body = NewName,
    responses((status = 200, body = RenamedView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn rename_site(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Sent(new): Sent<NewName>,
) -> Result<Json<RenamedView>, ApiError> {
    let work = move || {
        let rename = Rename { from: &name, to: Some(new.name.trim()), anyway: new.anyway };
        api.administration.identities.rename_site(&rename, &by)
    };
    Ok(Json(blocking(work).await?.into()))
}
