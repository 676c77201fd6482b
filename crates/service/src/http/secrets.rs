use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use regnant_base::SecretText;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::short_list::Wanted;

/// The secrets that replies may carry, by name; nobody is shown what they are.
#[derive(Serialize, ToSchema)]
pub(crate) struct SecretList {
    secrets: Vec<String>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
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
    let all = blocking(move || api.administration.secrets.names()).await?;
    let (secrets, next) = wanted.of(all, |name| name.to_lowercase(), |name| vec![name.clone()])?;
    Ok(Json(SecretList { secrets, next }))
}

/// Keeps a secret, in the place of one of its name; it counts from the next reply on.
#[utoipa::path(post, path = "/api/v1/secrets", operation_id = "set_secret", request_body = NewSecret,
    responses((status = 204), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn set(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(NewSecret { name, value }): Sent<NewSecret>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.secrets.set(&name, &value, &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Removes a secret that the active policy does not name.
#[utoipa::path(delete, path = "/api/v1/secrets/{name}", operation_id = "remove_secret", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    blocking(move || api.administration.secrets.remove(&name, &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}
