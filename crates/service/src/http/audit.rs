use axum::Json;
use axum::extract::State;
use regnant_records::{AuditEntry, Outcome};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::Signed;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Asked;

const USUAL: u32 = 100;
const MOST: u32 = 1_000;

/// A change that somebody made or tried to make.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangeView {
    /// Which change it is, counted from 1 without a hole.
    revision: u64,
    id: String,
    /// When, in UTC.
    at: String,
    /// The administrator, or `regnant`.
    by: String,
    /// What was to be done: `import`, `activate policy` and so on.
    what: String,
    /// To what.
    subject: String,
    /// Whether it was done.
    done: bool,
    /// Why it was not, where it was not.
    #[serde(skip_serializing_if = "Option::is_none")]
    refused: Option<String>,
}

/// Changes, the last first.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangeList {
    changes: Vec<ChangeView>,
}

/// Which changes are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedChanges {
    /// Only those before this revision.
    before: Option<u64>,
    /// At most this many, 1 to 1000; 100 if not said.
    limit: Option<u32>,
}

impl ChangeView {
    fn new(entry: AuditEntry) -> Self {
        let AuditEntry { revision, id, at, author, what, subject, outcome } = entry;
        let done = matches!(outcome, Outcome::Done(_));
        let refused = outcome.done().err().map(|refusal| refusal.to_string());
        let (id, at, what) = (id.to_string(), iso(at), what.to_owned());
        Self { revision, id, at, by: author, what, subject, done, refused }
    }
}

/// What was changed, by whom and when, the last change first. No secret is in it.
#[utoipa::path(get, path = "/api/v1/audit", params(WantedChanges),
    responses((status = 200, body = ChangeList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn audit(
    State(api): State<Api>,
    _: Signed,
    Asked(wanted): Asked<WantedChanges>,
) -> Result<Json<ChangeList>, ApiError> {
    let (below, most) = (wanted.before.unwrap_or(u64::MAX), wanted.limit.unwrap_or(USUAL));
    if !(1..=MOST).contains(&most) {
        return Err(ApiError::bad(format!("`limit` is 1 to {MOST}.")));
    }
    let entries = blocking(move || api.administration.administrators.audit(below, most)).await?;
    Ok(Json(ChangeList { changes: entries.into_iter().map(ChangeView::new).collect() }))
}
