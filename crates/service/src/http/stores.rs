use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use regnant_base::SecretText;
use regnant_records::{RecordName, StoreKind, StoreRow};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::{AdministrationError, RecordVersion, is_as_seen};
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::outside_forms::{DirectoryForm, HttpForm};
use crate::http::outside_stores::{ServerView, servers};
use crate::http::record::{etag, seen};
use crate::http::short_list::Wanted;
use crate::outside_stores::OutsideSettings;

/// A store, and what is in it.
#[derive(Serialize, ToSchema)]
pub(crate) struct StoreView {
    name: String,
    /// `people`, `devices`, `directory` or `http`.
    kind: String,
    people: u64,
    machines: u64,
    devices: u64,
    /// Whether the active policy looks identities up in it.
    in_policy: bool,
    /// How it is asked, where it is a directory.
    directory: Option<DirectoryForm>,
    /// How it is asked, where it is a service that tells facts.
    http: Option<HttpForm>,
    /// How its servers do.
    servers: Vec<ServerView>,
    /// Its ETag, for If-Match.
    etag: String,
}

/// A store as it shall be.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct StoreForm {
    /// `people`, `devices`, `directory` or `http`.
    #[schema(value_type = String)]
    kind: StoreKind,
    /// How it is asked, where it is a directory.
    #[serde(default)]
    directory: Option<DirectoryForm>,
    /// How it is asked, where it is a service that tells facts.
    #[serde(default)]
    http: Option<HttpForm>,
    /// The secret that it is asked with: the password of the account that searches a directory, what
    /// stands in the header of a service or what a token is had for. Where there is none, the one
    /// that is there stays, as long as it goes to nobody else.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    secret: Option<SecretText>,
}

/// Stores by name.
#[derive(Serialize, ToSchema)]
pub(crate) struct StoreList {
    stores: Vec<StoreView>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A store that is wanted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewStore {
    name: String,
    /// `people`, `devices`, `directory` or `http`.
    #[schema(value_type = String)]
    kind: StoreKind,
    /// How it is asked, where it is a directory.
    #[serde(default)]
    directory: Option<DirectoryForm>,
    /// How it is asked, where it is a service that tells facts.
    #[serde(default)]
    http: Option<HttpForm>,
    /// The secret that it is asked with: the password of the account that searches a directory, what
    /// stands in the header of a service or what a token is had for.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    secret: Option<SecretText>,
}

/// Stores by name, a page at a time.
#[utoipa::path(get, path = "/api/v1/stores", params(Wanted),
    responses((status = 200, body = StoreList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn stores(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<StoreList>, ApiError> {
    let texts = |one: &StoreView| vec![one.name.clone(), one.kind.clone()];
    let (stores, next) = wanted.of(all(api).await?, |one| one.name.clone(), texts)?;
    Ok(Json(StoreList { stores, next }))
}

/// A store, and what is in it. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/stores/{name}", params(("name" = String, Path)),
    responses((status = 200, body = StoreView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn store(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let reading = api.clone();
    let found = all(api).await?.into_iter().find(|one| one.name == name);
    let found = found.ok_or_else(|| AdministrationError::NotFound(RecordName::Store(name.clone())))?;
    let row = blocking(move || reading.administration.identities.store(&name)).await?;
    Ok((etag(&row), Json(found)).into_response())
}

async fn all(api: Api) -> Result<Vec<StoreView>, ApiError> {
    let work = move || {
        let identities = &api.administration.identities;
        let (people, machines) = (identities.people()?, identities.machines()?);
        let mut counts: BTreeMap<String, [u64; 2]> = BTreeMap::new();
        people.into_iter().for_each(|row| counts.entry(row.store).or_default()[0] += 1);
        machines.into_iter().for_each(|row| counts.entry(row.store).or_default()[1] += 1);
        let (devices, edition) = (identities.device_counts(), api.administration.snapshot().active.edition.clone());
        let outside = api.administration.snapshot().outside.clone();
        let view = |row: StoreRow| {
            let (directory, http) = match OutsideSettings::of(&row).and_then(Result::ok) {
                Some(OutsideSettings::Directory(settings)) => (Some((*settings).into()), None),
                Some(OutsideSettings::Http(settings)) => (None, Some(settings.into())),
                None => (None, None),
            };
            let etag = RecordVersion::of(&row).quoted();
            let servers = outside.get(&row.name).map(|known| servers(known.health())).unwrap_or_default();
            let StoreRow { name, kind, .. } = row;
            let [people, machines] = counts.get(&name).copied().unwrap_or_default();
            StoreView {
                people,
                machines,
                devices: devices.get(&name).copied().unwrap_or(0) as u64,
                in_policy: edition.policy.stores().contains(&name),
                kind: kind.word().to_owned(),
                directory,
                http,
                servers,
                etag,
                name,
            }
        };
        Ok::<_, AdministrationError>(identities.stores()?.into_iter().map(view).collect())
    };
    blocking(work).await
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
    let work = move || {
        let identities = &api.administration.identities;
        match wanted(new.kind, new.directory, new.http)? {
            Some(settings) => identities.add_outside(&new.name, &settings, new.secret.as_ref(), &by)?,
            None => identities.add_store(&new.name, new.kind, &by)?,
        };
        Ok::<_, ApiError>(())
    };
    blocking(work).await?;
    Ok(StatusCode::CREATED)
}

/// How a store is asked, where it is of a kind that is.
fn wanted(
    kind: StoreKind,
    directory: Option<DirectoryForm>,
    http: Option<HttpForm>,
) -> Result<Option<OutsideSettings>, ApiError> {
    match (kind, directory, http) {
        (StoreKind::Directory, Some(form), None) => Ok(Some(OutsideSettings::Directory(Box::new(form.into())))),
        (StoreKind::Http, None, Some(form)) => Ok(Some(OutsideSettings::Http(form.into()))),
        (StoreKind::Directory, None, None) => Err(ApiError::bad("`directory` is missing: how is it asked?")),
        (StoreKind::Http, None, None) => Err(ApiError::bad("`http` is missing: how is it asked?")),
        (_, None, None) => Ok(None),
        (_, Some(_), _) => Err(ApiError::bad("`directory` is for a store of the kind `directory`.")),
        (_, None, Some(_)) => Err(ApiError::bad("`http` is for a store of the kind `http`.")),
    }
}

/// Another name for a store.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct StorePatch {
    name: String,
}

/// Has a store of this name and kind, asked in this way: adds it where there is none. What a store
/// holds is said once, when it is added. With If-Match only where it is still as it was read.
#[utoipa::path(put, path = "/api/v1/stores/{name}", operation_id = "put_store",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = StoreForm,
    responses((status = 204), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn put(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(form): Sent<StoreForm>,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    let work = move || {
        let identities = &api.administration.identities;
        let known = identities.stores()?.into_iter().find(|row| row.name == name && row.kind == form.kind);
        is_as_seen(&name, known.as_ref(), seen.as_ref())?;
        let secret = form.secret.as_ref();
        match (wanted(form.kind, form.directory, form.http)?, known) {
            (Some(settings), Some(_)) => {
                identities.change_outside(&name, seen.as_ref(), &settings, secret, &by).map(drop)?;
            }
            (Some(settings), None) => identities.add_outside(&name, &settings, secret, &by).map(drop)?,
            (None, Some(_)) => {}
            (None, None) => identities.add_store(&name, form.kind, &by).map(drop)?,
        }
        Ok::<_, ApiError>(())
    };
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Gives a store that the active policy does not name another name, with all that is in it.
#[utoipa::path(patch, path = "/api/v1/stores/{name}", operation_id = "rename_store",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = StorePatch,
    responses((status = 204), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn rename(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(new): Sent<StorePatch>,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    let work = move || api.administration.identities.rename_store((&name, new.name.trim()), seen.as_ref(), &by);
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Removes a store that is empty and that the active policy does not name.
#[utoipa::path(delete, path = "/api/v1/stores/{name}", operation_id = "remove_store",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    blocking(move || api.administration.identities.remove_store(&name, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}
