use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use regnant_base::SecretText;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::RecordVersion;
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::seen;
use crate::http::short_list::Wanted;

/// The secrets that replies may carry, by name; nobody is shown what they are.
#[derive(Serialize, ToSchema)]
pub(crate) struct SecretList {
    secrets: Vec<SecretView>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// That there is a secret.
#[derive(Serialize, ToSchema)]
pub(crate) struct SecretView {
    name: String,
    /// Its ETag, for If-Match.
    etag: String,
}

/// A secret that replies may carry.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewSecret {
    /// The name by which policies know it.
    name: String,
    /// What it is.
    #[schema(value_type = String)]
    value: SecretText,
}

/// The names of secrets that replies may carry, a page at a time.
#[utoipa::path(get, path = "/api/v1/secrets", params(Wanted),
    responses((status = 200, body = SecretList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn secrets(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<SecretList>, ApiError> {
    let all = blocking(move || api.administration.secrets.all()).await?.into_iter();
    let all = all.map(|row| SecretView { etag: RecordVersion::of(&row).quoted(), name: row.name });
    let (secrets, next) = wanted.of(all, |one| one.name.to_lowercase(), |one| vec![one.name.clone()])?;
    Ok(Json(SecretList { secrets, next }))
}

/// Keeps a secret, in the place of one of its name; it counts from the next reply on. With If-Match only where that
/// is still as it was read, with If-None-Match where there is none.
#[utoipa::path(post, path = "/api/v1/secrets", operation_id = "set_secret",
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read"),
        ("If-None-Match" = Option<String>, Header, description = "`*` where there was none")),
    request_body = NewSecret,
    responses((status = 204), (status = 400, body = ApiError), (status = 401, body = ApiError), (status = 412, body = ApiError)))]
pub(crate) async fn set(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(NewSecret { name, value }): Sent<NewSecret>,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    blocking(move || api.administration.secrets.set(&name, &value, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Removes a secret that the active policy does not name.
#[utoipa::path(delete, path = "/api/v1/secrets/{name}", operation_id = "remove_secret",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 412, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    blocking(move || api.administration.secrets.remove(&name, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}
