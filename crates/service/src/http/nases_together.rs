use axum::Json;
use axum::extract::State;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::together::NasAct;
use crate::http::Api;
use crate::http::callers::{Change, May};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;

/// What shall be done with several NASes.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NasesAct {
    names: Vec<String>,
    /// Where they stand; left out, it stays.
    site: Option<String>,
    /// The dialect that they speak; left out, it stays.
    dialect: Option<String>,
    /// Whether their requests must carry Message-Authenticator; left out, it stays.
    require_message_authenticator: Option<bool>,
    /// Tags that they shall have.
    #[serde(default)]
    tag: Vec<String>,
    /// Tags that they shall not have.
    #[serde(default)]
    untag: Vec<String>,
    /// Whether they shall be removed.
    #[serde(default)]
    remove: bool,
}

/// How many were changed.
#[derive(Serialize, ToSchema)]
pub(crate) struct ActedNases {
    nases: usize,
}

/// Changes several NASes together, or removes them; all or none.
#[utoipa::path(post, path = "/api/v1/nases/act", operation_id = "act_on_nases", request_body = NasesAct,
    responses((status = 200, body = ActedNases), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn act(
    State(api): State<Api>,
    May { signed, .. }: May<Change>,
    Sent(wanted): Sent<NasesAct>,
) -> Result<Json<ActedNases>, ApiError> {
    let NasesAct { names, site, dialect, require_message_authenticator, tag, untag, remove } = wanted;
    let act = NasAct { site, dialect, require_message_authenticator, tag, untag };
    if remove != act.is_nothing() {
        return Err(ApiError::bad(
            "Say `site`, `dialect`, `require_message_authenticator`, `tag` or `untag`, or `remove` alone.",
        ));
    }
    api.quota.take(&signed, names.len())?;
    let by = signed.author;
    let work = move || match remove {
        true => api.administration.equipment.remove_together(&names, &by),
        false => api.administration.equipment.change_together(&names, &act, &by),
    };
    Ok(Json(ActedNases { nases: blocking(work).await? }))
}
