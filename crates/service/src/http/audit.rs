use axum::Json;
use axum::extract::{Path, State};
use regnant_records::{AuditEntry, AuditFilter, FieldChange, Outcome};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{May, ReadAudit};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Asked;
use crate::http::record::words;

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
    /// The administrator, `regnant`, or `nobody` for a sign-in that was refused.
    by: String,
    /// From where.
    from: String,
    /// What was to be done: `import`, `activate policy` and so on.
    what: String,
    /// To what.
    subject: String,
    /// Whether it was done.
    done: bool,
    /// Why it was not, where it was not.
    #[serde(skip_serializing_if = "Option::is_none")]
    refused: Option<String>,
    /// The hash of it and of the one before.
    chain: String,
}

/// Changes, the last first.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangeList {
    changes: Vec<ChangeView>,
    /// `before` of the next page; none at the end.
    next: Option<u64>,
}

/// A field that a change changed.
#[derive(Serialize, ToSchema)]
pub(crate) struct FieldView {
    /// The record, such as person `ida.marsh` in `harbour`.
    record: String,
    field: String,
    /// What it was; none where the record was not there.
    before: Option<serde_json::Value>,
    /// What it is; none where the record is not there any more.
    after: Option<serde_json::Value>,
    /// Whether it is a secret, whose values are not told.
    secret: bool,
}

/// A change, field by field.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangeDetail {
    change: ChangeView,
    fields: Vec<FieldView>,
}

/// Whether the audit is what was written.
#[derive(Serialize, ToSchema)]
pub(crate) struct VerifiedView {
    /// How many changes were looked at.
    changes: u64,
    /// The hash of the last that is whole. Note it elsewhere: as long as it stands at this
    /// change, nothing before it was changed.
    chain: String,
    /// The first change that is not what was written; none where all are.
    broken: Option<u64>,
    /// What is wrong with it.
    why: Option<String>,
}

/// Which changes are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedChanges {
    /// Only those in whose author, place, deed or subject every one of these words stands.
    q: Option<String>,
    /// Only those that changed this record, such as `nas/quay-sw-1` or
    /// `person/harbour/ida.marsh`.
    record: Option<String>,
    /// Only those before this revision.
    before: Option<u64>,
    /// At most this many, 1 to 1000; 100 if not said.
    limit: Option<u32>,
}

impl ChangeView {
    fn new(entry: AuditEntry) -> Self {
        let AuditEntry { revision, id, at, author, from, what, subject, outcome, chain } = entry;
        let done = matches!(outcome, Outcome::Done(_));
        let refused = outcome.done().err().map(|refusal| refusal.to_string());
        let (id, at) = (id.to_string(), iso(at));
        Self { revision, id, at, by: author, from, what, subject, done, refused, chain }
    }
}

impl From<FieldChange> for FieldView {
    fn from(FieldChange { record, field, before, after, secret }: FieldChange) -> Self {
        Self { record: record.to_string(), field, before, after, secret }
    }
}

/// What was changed, by whom, when and from where, the last change first. No secret is in it.
#[utoipa::path(get, path = "/api/v1/audit", params(WantedChanges),
    responses((status = 200, body = ChangeList), (status = 400, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn audit(
    State(api): State<Api>,
    _: May<ReadAudit>,
    Asked(wanted): Asked<WantedChanges>,
) -> Result<Json<ChangeList>, ApiError> {
    let most = wanted.limit.unwrap_or(USUAL);
    if !(1..=MOST).contains(&most) {
        return Err(ApiError::bad(format!("`limit` is 1 to {MOST}.")));
    }
    let record = wanted.record.as_deref().map(str::parse).transpose();
    let record = record.map_err(|error: regnant_records::NoRecordName| ApiError::bad(format!("{error}.")))?;
    let below = wanted.before.unwrap_or(u64::MAX);
    let filter = AuditFilter { below, most: most + 1, words: words(wanted.q.as_ref()), record };
    let mut entries = blocking(move || api.administration.administrators.audit(&filter)).await?;
    let more = entries.len() > most as usize;
    entries.truncate(most as usize);
    let next = entries.last().filter(|_| more).map(|last| last.revision);
    Ok(Json(ChangeList { changes: entries.into_iter().map(ChangeView::new).collect(), next }))
}

/// A change, field by field, with what was before and after. No secret is in it.
#[utoipa::path(get, path = "/api/v1/audit/{revision}", operation_id = "change", params(("revision" = u64, Path)),
    responses((status = 200, body = ChangeDetail), (status = 404, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn entry(
    State(api): State<Api>,
    _: May<ReadAudit>,
    Path(revision): Path<u64>,
) -> Result<Json<ChangeDetail>, ApiError> {
    let found = blocking(move || api.administration.administrators.audit_entry(revision)).await?;
    let (entry, fields) =
        found.ok_or_else(|| ApiError::not_found(format!("There is no change {revision} in the audit.")))?;
    Ok(Json(ChangeDetail { change: ChangeView::new(entry), fields: fields.into_iter().map(Into::into).collect() }))
}

/// Goes along the chain of changes and tells the first that is not what was written.
#[utoipa::path(get, path = "/api/v1/audit/verify", operation_id = "verify_audit",
    responses((status = 200, body = VerifiedView), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn verify(State(api): State<Api>, _: May<ReadAudit>) -> Result<Json<VerifiedView>, ApiError> {
    let verified = blocking(move || api.administration.administrators.verify()).await?;
    let (broken, why) = verified.broken.unzip();
    Ok(Json(VerifiedView { changes: verified.commands, chain: verified.chain, broken, why }))
}
