//! Groups and sites: names that records have in common.

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use regnant_records::{Author, CommonNameEntry, CommonNameKind, RecordName};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::common_names::{CommonName, Counts, Rename};
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::{etag, seen};
use crate::http::short_list::Wanted;

/// A group, by who is in it and who asks for it.
#[derive(Serialize, ToSchema)]
pub(crate) struct GroupView {
    name: String,
    /// What people should know.
    note: String,
    /// Whether whoever is in it is ordinary, so that the helpdesk may set their password though a rule could make
    /// an administrator of whoever comes so.
    ordinary: bool,
    /// Whether it was added by its name, so that it stays where nobody is in it.
    kept: bool,
    people: u64,
    machines: u64,
    devices: u64,
    /// Where the active policy names it.
    named_by: Vec<String>,
}

/// Groups by name.
#[derive(Serialize, ToSchema)]
pub(crate) struct GroupList {
    groups: Vec<GroupView>,
    /// How many there are, whatever the filter says.
    all: usize,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A site, by what stands there and who asks for it.
#[derive(Serialize, ToSchema)]
pub(crate) struct SiteView {
    name: String,
    /// What people should know.
    note: String,
    /// Whether it was added by its name, so that it stays where nothing stands there.
    kept: bool,
    nases: u64,
    /// Where the active policy names it.
    named_by: Vec<String>,
}

/// Sites by name.
#[derive(Serialize, ToSchema)]
pub(crate) struct SiteList {
    sites: Vec<SiteView>,
    /// How many there are, whatever the filter says.
    all: usize,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

impl From<CommonName> for GroupView {
    fn from(CommonName { row, is_kept: kept, had_by, named_by }: CommonName) -> Self {
        let Counts { people, machines, devices, .. } = had_by;
        Self { name: row.name, note: row.note, ordinary: row.ordinary, kept, people, machines, devices, named_by }
    }
}

impl From<CommonName> for SiteView {
    fn from(CommonName { row, is_kept: kept, had_by, named_by }: CommonName) -> Self {
        Self { name: row.name, note: row.note, kept, nases: had_by.nases, named_by }
    }
}

/// A group or a site that is wanted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewCommonName {
    name: String,
    #[serde(default)]
    note: String,
    /// Of groups alone.
    #[serde(default)]
    ordinary: bool,
}

/// What people should know of a group or a site.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CommonNote {
    #[serde(default)]
    note: String,
    /// Of groups alone; as it was where it is left out.
    ordinary: Option<bool>,
}

/// What of a group or a site shall be otherwise; what is left out stays.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CommonNamePatch {
    name: Option<String>,
    note: Option<String>,
    /// Whether whoever is in it is ordinary; of groups alone.
    ordinary: Option<bool>,
    /// Whether it is done although the active policy names it, or something has that name
    /// already and the two become one.
    #[serde(default)]
    anyway: bool,
}

/// Whether it is removed although the active policy names it or equipment stands there.
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

impl From<Counts> for RenamedView {
    fn from(Counts { nases, people, machines, devices }: Counts) -> Self {
        Self { nases, people, machines, devices }
    }
}

const GROUP: CommonNameKind = CommonNameKind::Group;
const SITE: CommonNameKind = CommonNameKind::Site;

struct Page {
    found: Vec<CommonName>,
    all: usize,
    next: Option<String>,
}

async fn list(api: Api, kind: CommonNameKind, wanted: Wanted) -> Result<Page, ApiError> {
    let known = blocking(move || api.administration.identities.common_names(kind)).await?;
    let all = known.len();
    let key = |one: &CommonName| one.row.name.to_lowercase();
    let (found, next) = wanted.of(known, key, |one| vec![one.row.name.clone(), one.row.note.clone()])?;
    Ok(Page { found, all, next })
}

async fn find(api: Api, kind: CommonNameKind, name: String) -> Result<CommonName, ApiError> {
    blocking(move || api.administration.identities.common_name(kind, &name)).await
}

async fn put(
    api: &Api,
    (kind, by): (CommonNameKind, Author),
    (name, says): (String, CommonNote),
    headers: &HeaderMap,
) -> Result<CommonName, ApiError> {
    let (work, record, seen) = (api.clone(), RecordName::CommonName { kind, name: name.clone() }, seen(headers)?);
    let says = (Some(says.note), says.ordinary);
    blocking(move || work.administration.identities.put_common_name(record, says, seen.as_ref(), &by)).await?;
    find(api.clone(), kind, name).await
}

async fn patch(
    api: Api,
    (kind, by): (CommonNameKind, Author),
    name: String,
    patch: CommonNamePatch,
    headers: &HeaderMap,
) -> Result<RenamedView, ApiError> {
    let seen = seen(headers)?;
    if patch.name.is_none() && patch.note.is_none() && patch.ordinary.is_none() {
        return Err(ApiError::bad("Say `name`, `note`, `ordinary` or several."));
    }
    let work = move || {
        let identities = &api.administration.identities;
        if patch.name.is_none() {
            // Nobody has to be in it for that.
            let name = identities.common_name(kind, &name)?.row.name;
            let (record, says) = (RecordName::CommonName { kind, name }, (patch.note, patch.ordinary));
            return identities.put_common_name(record, says, seen.as_ref(), &by).map(|()| Counts::default());
        }
        identities.rename(
            &Rename {
                kind,
                from: &name,
                to: patch.name.as_deref().map(str::trim),
                note: patch.note.as_deref(),
                ordinary: patch.ordinary,
                seen: seen.as_ref(),
                anyway: patch.anyway,
            },
            &by,
        )
    };
    Ok(blocking(work).await?.into())
}

async fn remove(
    api: Api,
    (kind, by): (CommonNameKind, Author),
    name: String,
    anyway: bool,
    headers: &HeaderMap,
) -> Result<RenamedView, ApiError> {
    let seen = seen(headers)?;
    let work = move || {
        let rename = Rename { kind, from: &name, to: None, note: None, ordinary: None, seen: seen.as_ref(), anyway };
        api.administration.identities.rename(&rename, &by)
    };
    Ok(blocking(work).await?.into())
}

/// Groups by name, a page at a time: those that somebody is in, that the active policy names, or
/// that were added by their name.
#[utoipa::path(get, path = "/api/v1/groups", params(Wanted),
    responses((status = 200, body = GroupList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn groups(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<GroupList>, ApiError> {
    let Page { found, all, next } = list(api, GROUP, wanted).await?;
    Ok(Json(GroupList { groups: found.into_iter().map(Into::into).collect(), all, next }))
}

/// A group. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/groups/{name}", params(("name" = String, Path)),
    responses((status = 200, body = GroupView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn group(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let found = find(api, GROUP, name).await?;
    Ok((etag(&found.row), Json(GroupView::from(found))).into_response())
}

/// Adds a group by its name, whether somebody is in it or not.
#[utoipa::path(post, path = "/api/v1/groups", operation_id = "add_group", request_body = NewCommonName,
    responses((status = 201), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn add_group(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(NewCommonName { name, note, ordinary }): Sent<NewCommonName>,
) -> Result<StatusCode, ApiError> {
    let entry = CommonNameEntry { name: name.trim().to_owned(), note, ordinary };
    blocking(move || api.administration.identities.add_common_name(GROUP, entry, &by)).await?;
    Ok(StatusCode::CREATED)
}

/// Says what people should know of a group, which is added where it was not. With If-Match only
/// where it is still as it was read.
#[utoipa::path(put, path = "/api/v1/groups/{name}", operation_id = "put_group",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = CommonNote,
    responses((status = 200, body = GroupView), (status = 400, body = ApiError), (status = 412, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn put_group(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(says): Sent<CommonNote>,
) -> Result<Response, ApiError> {
    let found = put(&api, (GROUP, by), (name, says), &headers).await?;
    Ok((etag(&found.row), Json(GroupView::from(found))).into_response())
}

/// Gives a group another name, so that everybody in it is in the other then, or says what people
/// should know of it. With If-Match only where it is still as it was read.
#[utoipa::path(patch, path = "/api/v1/groups/{name}", operation_id = "change_group",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = CommonNamePatch,
    responses((status = 200, body = RenamedView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn change_group(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(wanted): Sent<CommonNamePatch>,
) -> Result<Json<RenamedView>, ApiError> {
    patch(api, (GROUP, by), name, wanted, &headers).await.map(Json)
}

/// Takes everybody out of a group, and forgets it.
#[utoipa::path(delete, path = "/api/v1/groups/{name}", operation_id = "remove_group",
    params(("name" = String, Path), Anyway, ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 200, body = RenamedView), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove_group(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Asked(Anyway { anyway }): Asked<Anyway>,
    headers: HeaderMap,
) -> Result<Json<RenamedView>, ApiError> {
    remove(api, (GROUP, by), name, anyway, &headers).await.map(Json)
}

/// Sites by name, a page at a time: those at which a NAS stands, that the active policy names, or
/// that were added by their name.
#[utoipa::path(get, path = "/api/v1/sites", params(Wanted),
    responses((status = 200, body = SiteList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn sites(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<SiteList>, ApiError> {
    let Page { found, all, next } = list(api, SITE, wanted).await?;
    Ok(Json(SiteList { sites: found.into_iter().map(Into::into).collect(), all, next }))
}

/// A site. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/sites/{name}", params(("name" = String, Path)),
    responses((status = 200, body = SiteView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn site(State(api): State<Api>, _: May<Look>, Path(name): Path<String>) -> Result<Response, ApiError> {
    let found = find(api, SITE, name).await?;
    Ok((etag(&found.row), Json(SiteView::from(found))).into_response())
}

/// Adds a site by its name, whether equipment stands there or not.
#[utoipa::path(post, path = "/api/v1/sites", operation_id = "add_site", request_body = NewCommonName,
    responses((status = 201), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn add_site(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(NewCommonName { name, note, ordinary }): Sent<NewCommonName>,
) -> Result<StatusCode, ApiError> {
    let entry = CommonNameEntry { name: name.trim().to_owned(), note, ordinary };
    blocking(move || api.administration.identities.add_common_name(SITE, entry, &by)).await?;
    Ok(StatusCode::CREATED)
}

/// Says what people should know of a site, which is added where it was not. With If-Match only
/// where it is still as it was read.
#[utoipa::path(put, path = "/api/v1/sites/{name}", operation_id = "put_site",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = CommonNote,
    responses((status = 200, body = SiteView), (status = 400, body = ApiError), (status = 412, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn put_site(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(says): Sent<CommonNote>,
) -> Result<Response, ApiError> {
    let found = put(&api, (SITE, by), (name, says), &headers).await?;
    Ok((etag(&found.row), Json(SiteView::from(found))).into_response())
}

/// Gives a site another name, at every NAS that stands there, or says what people should know of
/// it. With If-Match only where it is still as it was read.
#[utoipa::path(patch, path = "/api/v1/sites/{name}", operation_id = "change_site",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = CommonNamePatch,
    responses((status = 200, body = RenamedView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn change_site(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(wanted): Sent<CommonNamePatch>,
) -> Result<Json<RenamedView>, ApiError> {
    patch(api, (SITE, by), name, wanted, &headers).await.map(Json)
}

/// Forgets a site at which nothing stands.
#[utoipa::path(delete, path = "/api/v1/sites/{name}", operation_id = "remove_site",
    params(("name" = String, Path), Anyway, ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 200, body = RenamedView), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove_site(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Asked(Anyway { anyway }): Asked<Anyway>,
    headers: HeaderMap,
) -> Result<Json<RenamedView>, ApiError> {
    remove(api, (SITE, by), name, anyway, &headers).await.map(Json)
}
