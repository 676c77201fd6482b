//! Groups and sites: names that records have in common.

use axum::Json;
use axum::extract::{Path, State};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::identities::Group;
use crate::administration::renames::{Rename, Renamed, Site};
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};

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
