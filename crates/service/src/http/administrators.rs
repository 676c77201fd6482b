use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use regnant_base::SecretText;
use regnant_records::{AdministratorRow, Author, Role};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::administrators::AdministratorChange;
use crate::http::Api;
use crate::http::callers::{Change, May, ReadAudit, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::{etag, seen, shown, time};
use crate::http::short_list::Wanted;

/// Somebody who may sign in.
#[derive(Serialize, ToSchema)]
pub(crate) struct AdministratorView {
    name: String,
    /// `engineer`, `helpdesk` or `auditor`.
    role: String,
    /// Whether they are kept out.
    disabled: bool,
    /// From when on they are kept out.
    expires: Option<String>,
    /// Whether they sign in with a second factor.
    second_factor: bool,
}

/// Everybody who may sign in.
#[derive(Serialize, ToSchema)]
pub(crate) struct AdministratorList {
    administrators: Vec<AdministratorView>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// Somebody who shall be able to sign in.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewAdministrator {
    name: String,
    /// At least 10 characters.
    #[schema(value_type = String)]
    password: SecretText,
    /// `engineer`, `helpdesk` or `auditor`.
    #[schema(value_type = String)]
    role: Role,
}

/// An administrator as they shall be.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AdministratorForm {
    /// Another password; theirs stays where there is none.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    #[schema(value_type = String)]
    role: Role,
    #[serde(default)]
    disabled: bool,
    /// From when on they are kept out; never where there is none.
    #[serde(default)]
    expires: Option<String>,
    /// Whether their tokens go on though they get another password; they end if not said.
    #[serde(default)]
    keep_tokens: bool,
}

/// What of an administrator shall be otherwise; what is left out stays. Their sessions end.
#[derive(Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AdministratorPatch {
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    #[schema(value_type = Option<String>)]
    role: Option<Role>,
    disabled: Option<bool>,
    /// From when on they are kept out; empty is never.
    expires: Option<String>,
    /// Whether their tokens go on though they get another password; they end if not said.
    #[serde(default)]
    keep_tokens: bool,
}

impl From<AdministratorRow> for AdministratorView {
    fn from(row: AdministratorRow) -> Self {
        Self {
            name: row.name,
            role: row.role.word().to_owned(),
            disabled: row.disabled,
            expires: shown(row.expires),
            second_factor: row.second_factor.is_some(),
        }
    }
}

/// Who may sign in, by name, a page at a time.
#[utoipa::path(get, path = "/api/v1/administrators", params(Wanted),
    responses((status = 200, body = AdministratorList), (status = 400, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn administrators(
    State(api): State<Api>,
    _: May<ReadAudit>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<AdministratorList>, ApiError> {
    let rows = blocking(move || api.administration.administrators.all()).await?;
    let texts = |row: &AdministratorRow| vec![row.name.clone(), row.role.word().to_owned()];
    let (rows, next) = wanted.of(rows, |row| row.name.to_lowercase(), texts)?;
    Ok(Json(AdministratorList { administrators: rows.into_iter().map(Into::into).collect(), next }))
}

/// Somebody who may sign in. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/administrators/{name}", params(("name" = String, Path)),
    responses((status = 200, body = AdministratorView), (status = 404, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn administrator(
    State(api): State<Api>,
    _: May<ReadAudit>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let row = blocking(move || api.administration.administrators.find(&name)).await?;
    Ok((etag(&row), Json(AdministratorView::from(row))).into_response())
}

/// Adds somebody who may sign in.
#[utoipa::path(post, path = "/api/v1/administrators", operation_id = "add_administrator", request_body = NewAdministrator,
    responses((status = 201, body = AdministratorView), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(new): Sent<NewAdministrator>,
) -> Result<(StatusCode, Json<AdministratorView>), ApiError> {
    let work = move || api.administration.administrators.add(&new.name, new.password.expose(), new.role, &by);
    Ok((StatusCode::CREATED, Json(blocking(work).await?.into())))
}

/// Says all of somebody who may sign in but their second factor; their sessions end. Where no
/// password is said, theirs stays. With If-Match only where they are still as they were read.
#[utoipa::path(put, path = "/api/v1/administrators/{name}", operation_id = "replace_administrator",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = AdministratorForm,
    responses((status = 200, body = AdministratorView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn replace(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(form): Sent<AdministratorForm>,
) -> Result<Response, ApiError> {
    let expires = form.expires.as_deref().filter(|text| !text.is_empty()).map(time).transpose()?;
    let AdministratorForm { password, role, disabled, keep_tokens, .. } = form;
    let change = AdministratorChange {
        password,
        role: Some(role),
        disabled: Some(disabled),
        expires: Some(expires),
        keep_tokens,
    };
    changed(api, name, change, &headers, by).await
}

/// Changes somebody who may sign in; their sessions end. The last engineer stays one. With
/// If-Match only where they are still as they were read.
#[utoipa::path(patch, path = "/api/v1/administrators/{name}", operation_id = "change_administrator",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = AdministratorPatch,
    responses((status = 200, body = AdministratorView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn change(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(patch): Sent<AdministratorPatch>,
) -> Result<Response, ApiError> {
    let expires = match patch.expires.as_deref() {
        None => None,
        Some("") => Some(None),
        Some(text) => Some(Some(time(text)?)),
    };
    let AdministratorPatch { password, role, disabled, keep_tokens, .. } = patch;
    let change = AdministratorChange { password, role, disabled, expires, keep_tokens };
    changed(api, name, change, &headers, by).await
}

async fn changed(
    api: Api,
    name: String,
    change: AdministratorChange,
    headers: &HeaderMap,
    by: Author,
) -> Result<Response, ApiError> {
    let seen = seen(headers)?;
    let (administration, has_new_password) = (api.administration.clone(), change.password.is_some());
    let row = blocking(move || administration.administrators.change(&name, seen.as_ref(), &change, &by)).await?;
    if has_new_password {
        api.attempts.new_password(&row.name);
    }
    Ok((etag(&row), Json(AdministratorView::from(row))).into_response())
}

/// Removes somebody with their sessions and tokens. The last engineer stays.
#[utoipa::path(delete, path = "/api/v1/administrators/{name}", operation_id = "remove_administrator",
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
    blocking(move || api.administration.administrators.remove(&name, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Takes away the second factor of somebody who lost it; their sessions end.
#[utoipa::path(delete, path = "/api/v1/administrators/{name}/second-factor",
    operation_id = "reset_second_factor", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn remove_second_factor(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.administrators.remove_second_factor(&name, &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}
