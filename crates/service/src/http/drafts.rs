//! The draft of whoever asks.

use std::collections::{BTreeMap, BTreeSet};

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use regnant_policy::PolicyFiles;
use regnant_records::DraftRow;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::AdministrationError;
use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{Change, May, Signed};
use crate::http::difference::{PolicyChangeView, changed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;
use crate::http::record::seen_number;
use crate::merge::{Disputed, merge};

/// A policy that somebody writes.
#[derive(Serialize, ToSchema)]
pub(crate) struct DraftView {
    /// Who.
    author: String,
    /// The edition that it was made from.
    made_from: u32,
    /// The edition that is active now: another one was activated meanwhile.
    active: u32,
    /// When it was written last, in UTC.
    changed_at: String,
    /// How often it was written; its ETag is the same.
    version: u64,
    /// The text of `main.writ`.
    source: String,
    /// The texts of the files that it includes, by their paths.
    included: BTreeMap<String, String>,
}

/// A draft to be kept.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct DraftForm {
    /// The text of `main.writ`.
    source: String,
    /// The texts of the files that it includes, by their paths.
    #[serde(default)]
    included: BTreeMap<String, String>,
    /// The edition that it was made from.
    made_from: u32,
}

impl DraftView {
    fn new(row: DraftRow, active: u32) -> Self {
        let DraftRow { author, files, made_from, changed_at, version } = row;
        let PolicyFiles { main: source, included } = files;
        Self { author, made_from, active, changed_at: iso(changed_at), version, source, included }
    }

    fn response(self) -> Response {
        ([(header::ETAG, format!("\"{}\"", self.version))], Json(self)).into_response()
    }
}

/// One's own draft.
#[utoipa::path(get, path = "/api/v1/policy/draft",
    responses((status = 200, body = DraftView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn draft(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
) -> Result<Response, ApiError> {
    let active = api.administration.snapshot().active.edition.number;
    let row = blocking(move || api.administration.policies.draft(&by.name)).await?;
    Ok(DraftView::new(row, active).response())
}

/// Keeps one's own draft, which decides nothing. With If-Match where it is still as it was read; without,
/// where there is none yet.
#[utoipa::path(put, path = "/api/v1/policy/draft", request_body = DraftForm,
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 200, body = DraftView), (status = 400, body = ApiError), (status = 412, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn put_draft(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(form): Sent<DraftForm>,
) -> Result<Response, ApiError> {
    let seen = seen_number(&headers)?.unwrap_or(0);
    let active = api.administration.snapshot().active.edition.number;
    let files = PolicyFiles { main: form.source, included: form.included };
    let work = move || api.administration.policies.put_draft(&by, files, form.made_from, seen);
    Ok(DraftView::new(blocking(work).await?, active).response())
}

/// Forgets one's own draft. With If-Match where it is still as it was read.
#[utoipa::path(delete, path = "/api/v1/policy/draft",
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = ApiError), (status = 412, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove_draft(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen_number(&headers)?;
    blocking(move || api.administration.policies.remove_draft(&by, seen)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What others changed since one's own draft was begun.
#[derive(Serialize, ToSchema)]
pub(crate) struct OthersView {
    /// The edition that the draft was made from.
    made_from: u32,
    /// The edition that is active now.
    active: u32,
    /// How the active edition differs from that.
    changes: Vec<PolicyChangeView>,
    /// What the draft changes too, of that.
    both: Vec<PolicyChangeView>,
    /// The text of `main.writ` with what either changed; where both changed the same lines, as the draft has them,
    /// and where both added some at one place, with both.
    source: String,
    /// The texts of the files that it includes, by their paths.
    included: BTreeMap<String, String>,
    /// Lines that both changed, each in its own way.
    disputed: Vec<DisputedLines>,
}

/// Lines that both changed, each in its own way.
#[derive(Serialize, ToSchema)]
pub(crate) struct DisputedLines {
    /// The file.
    file: String,
    /// The line of the text above where those of the draft begin, from 1.
    line: usize,
    /// What the active edition has there.
    theirs: String,
    /// Whether both only added something there, so that both stand there, theirs first.
    both: bool,
}

/// What others changed since one's own draft was begun, and what of it the draft changes too.
#[utoipa::path(get, path = "/api/v1/policy/draft/others",
    responses((status = 200, body = OthersView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn others(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
) -> Result<Json<OthersView>, ApiError> {
    let work = move || {
        let policies = &api.administration.policies;
        let draft = policies.draft(&by.name)?;
        let (active, _) = policies.active()?;
        let base = policies.edition(draft.made_from)?.files;
        let (changes, mine) = (changed(&base, &active.files), changed(&base, &draft.files));
        let both = changes.iter().filter(|change| mine.iter().any(|own| own.is_of_what(change))).cloned().collect();
        let (files, disputed) = merged(&base, &draft.files, &active.files);
        let PolicyFiles { main: source, included } = files;
        let (made_from, active) = (draft.made_from, active.number);
        Ok::<_, AdministrationError>(OthersView { made_from, active, changes, both, source, included, disputed })
    };
    Ok(Json(blocking(work).await?))
}

/// What either changed of a policy, file by file; a file that one side removed and the other left as it was is gone.
fn merged(base: &PolicyFiles, mine: &PolicyFiles, theirs: &PolicyFiles) -> (PolicyFiles, Vec<DisputedLines>) {
    let paths = |files: &PolicyFiles| files.included.keys().cloned().collect::<BTreeSet<_>>();
    let (main, mut disputed) = texts(regnant_policy::MAIN, &base.main, &mine.main, &theirs.main);
    let mut included = BTreeMap::new();
    for path in &paths(mine) | &paths(theirs) {
        let of = |files: &PolicyFiles| files.included.get(&path).cloned();
        let (before, own, other) = (of(base), of(mine), of(theirs));
        let gone = before.is_some() && ((own.is_none() && other == before) || (other.is_none() && own == before));
        if gone {
            continue;
        }
        // Where one side removed what the other changed, the change stays.
        let before = before.unwrap_or_default();
        let (own, other) = (own.unwrap_or_else(|| before.clone()), other.unwrap_or_else(|| before.clone()));
        let (text, lines) = texts(&path, &before, &own, &other);
        disputed.extend(lines);
        included.insert(path, text);
    }
    (PolicyFiles { main, included }, disputed)
}

fn texts(path: &str, base: &str, mine: &str, theirs: &str) -> (String, Vec<DisputedLines>) {
    let (text, disputed) = merge(base, mine, theirs);
    let told = disputed.into_iter().map(|Disputed { line, theirs, both }| {
        let file = path.into();
        DisputedLines { file, line, theirs, both }
    });
    (text, told.collect())
}
