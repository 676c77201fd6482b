use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use regnant_base::SecretText;
use regnant_records::{AdministratorRow, Role};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::administrators::AdministratorChange;
use crate::http::Api;
use crate::http::callers::{Change, May, ReadAudit, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;
use crate::http::record::{shown, time};

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

/// Everybody who may sign in.
#[utoipa::path(get, path = "/api/v1/administrators",
    responses((status = 200, body = AdministratorList), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn administrators(
    State(api): State<Api>,
    _: May<ReadAudit>,
) -> Result<Json<AdministratorList>, ApiError> {
    let rows = blocking(move || api.administration.administrators.all()).await?;
    Ok(Json(AdministratorList { administrators: rows.into_iter().map(Into::into).collect() }))
}

/// Somebody who may sign in.
#[utoipa::path(get, path = "/api/v1/administrators/{name}", params(("name" = String, Path)),
    responses((status = 200, body = AdministratorView), (status = 404, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn administrator(
    State(api): State<Api>,
    _: May<ReadAudit>,
    Path(name): Path<String>,
) -> Result<Json<AdministratorView>, ApiError> {
    Ok(Json(blocking(move || api.administration.administrators.find(&name)).await?.into()))
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

/// Changes somebody who may sign in; their sessions end. The last engineer stays one.
#[utoipa::path(patch, path = "/api/v1/administrators/{name}", operation_id = "change_administrator",
    params(("name" = String, Path)), request_body = AdministratorPatch,
    responses((status = 200, body = AdministratorView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn change(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Sent(patch): Sent<AdministratorPatch>,
) -> Result<Json<AdministratorView>, ApiError> {
    let expires = match patch.expires.as_deref() {
        None => None,
        Some("") => Some(None),
        Some(text) => Some(Some(time(text)?)),
    };
    let AdministratorPatch { password, role, disabled, .. } = patch;
    let change = AdministratorChange { password, role, disabled, expires };
    let work = move || api.administration.administrators.change(&name, &change, &by);
    Ok(Json(blocking(work).await?.into()))
}

/// Removes somebody with their sessions and tokens. The last engineer stays.
#[utoipa::path(delete, path = "/api/v1/administrators/{name}", operation_id = "remove_administrator",
    params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.administrators.remove(&name, &by)).await?;
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
