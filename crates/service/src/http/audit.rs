use axum::Json;
use axum::extract::{Path, State};
use regnant_records::{AuditEntry, FieldChange, NodeEntry, Outcome};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::AdministrationError;
use crate::administration::audit::{AuditPlace, Audited, WantedAudit};
use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{May, ReadAudit};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Asked;
use crate::http::record::words;

const USUAL: u32 = 100;
const MOST: u32 = 1_000;

/// A change that somebody made or tried to make, or something of administrators that this node saw and that changed
/// nothing.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangeView {
    /// Which change it is, counted from 1 without a hole; none of what was seen.
    revision: Option<u64>,
    /// Which it is of what this node saw, counted likewise; none of a change.
    seen: Option<u64>,
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
    next: Option<String>,
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
    /// The same of what this node saw.
    seen: VerifiedSeen,
}

/// Whether what a node saw of administrators is what was written.
#[derive(Serialize, ToSchema)]
pub(crate) struct VerifiedSeen {
    /// How many entries were looked at.
    entries: u64,
    /// The hash of the last that is whole.
    chain: String,
    /// The first that is not what was written; none where all are.
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
    /// Only those before this revision, or before the place that a list ended with (`next`).
    before: Option<String>,
    /// At most this many, 1 to 1000; 100 if not said.
    limit: Option<u32>,
}

impl ChangeView {
    fn new(entry: AuditEntry) -> Self {
        let AuditEntry { revision, at, author, from, what, subject, outcome, chain, .. } = entry;
        let done = matches!(outcome, Outcome::Done(_));
        let refused = outcome.done().err().map(|refusal| refusal.to_string());
        let at = iso(at);
        Self { revision: Some(revision), seen: None, at, by: author, from, what, subject, done, refused, chain }
    }

    fn seen(entry: NodeEntry) -> Self {
        let NodeEntry { number, at, author, from, what, subject, chain } = entry;
        let (seen, at) = (Some(number), iso(at));
        Self { revision: None, seen, at, by: author, from, what, subject, done: true, refused: None, chain }
    }
}

impl From<Audited> for ChangeView {
    fn from(entry: Audited) -> Self {
        match entry {
            Audited::Change(entry) => Self::new(entry),
            Audited::Seen(entry) => Self::seen(entry),
        }
    }
}

impl From<FieldChange> for FieldView {
    fn from(FieldChange { record, field, before, after, secret }: FieldChange) -> Self {
        Self { record: record.to_string(), field, before, after, secret }
    }
}

/// What was changed, by whom, when and from where, and what this node saw of administrators, the last first. No secret is in it.
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
    let (before, words) = (wanted.before, words(wanted.q.as_ref()));
    let work = move || {
        let administrators = &api.administration.administrators;
        let before = match before.as_deref().map(place) {
            None => AuditPlace::END,
            Some(Some((revision, Some(seen)))) => AuditPlace { revision, seen },
            Some(Some((revision, None))) => administrators.audit_place(revision)?,
            Some(None) => return Ok(None),
        };
        administrators.audit(&WantedAudit { before, most, words, record }).map(Some)
    };
    let (entries, next) = blocking::<_, AdministrationError>(work)
        .await?
        .ok_or_else(|| ApiError::bad("`before` is the number of a change, or what a list told as `next`."))?;
    let next = next.map(|AuditPlace { revision, seen }| format!("{revision}.{seen}"));
    Ok(Json(ChangeList { changes: entries.into_iter().map(Into::into).collect(), next }))
}

/// A revision, and behind a full stop the number of what was seen.
fn place(text: &str) -> Option<(u64, Option<u64>)> {
    match text.split_once('.') {
        Some((revision, seen)) => Some((revision.parse().ok()?, Some(seen.parse().ok()?))),
        None => Some((text.parse().ok()?, None)),
    }
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
    let (verified, seen) = blocking(move || api.administration.administrators.verify()).await?;
    let (broken, why) = verified.broken.unzip();
    let (seen_broken, seen_why) = seen.broken.unzip();
    let seen = VerifiedSeen { entries: seen.commands, chain: seen.chain, broken: seen_broken, why: seen_why };
    Ok(Json(VerifiedView { changes: verified.commands, chain: verified.chain, broken, why, seen }))
}
