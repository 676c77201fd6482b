//! The policy: the edition that decides, those before, and what would be another.

use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use regnant_policy::{CODES, CodeHelp, PolicyFiles};
use regnant_records::EditionRow;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::AdministrationError;
use crate::administration::policies::{AcceptedWarning, Wanted, fits};
use crate::administration::report::CheckReport;
use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{Change, May, ReadPolicy, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::seen_number;
use crate::surroundings::Surroundings;

/// For what a policy is checked.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct CheckParams {
    /// Whether what keeps it from being activated is an error: a rule that was copied and that nobody has looked at
    /// since. While it is written that is a warning.
    to_activate: Option<bool>,
}

/// An edition of the policy.
#[derive(Serialize, ToSchema)]
pub(crate) struct EditionView {
    /// Its number.
    number: u32,
    /// `active` or `retired`.
    state: String,
    /// When it was made, in UTC.
    created_at: String,
    /// Who made it.
    created_by: String,
    /// Why.
    note: String,
    /// The edition that it was made from, where that is known.
    made_from: Option<u32>,
    /// The text of `main.writ`.
    source: String,
    /// The texts of the files that it includes, by their paths.
    included: BTreeMap<String, String>,
}

/// An edition without its text.
#[derive(Serialize, ToSchema)]
pub(crate) struct EditionSummary {
    /// Its number.
    number: u32,
    /// `active` or `retired`.
    state: String,
    /// When it was made, in UTC.
    created_at: String,
    /// Who made it.
    created_by: String,
    /// Why.
    note: String,
    /// The edition that it was made from, where that is known.
    made_from: Option<u32>,
    /// How many files it has.
    files: usize,
    /// Their bytes.
    bytes: usize,
}

/// The active edition and what its check found.
#[derive(Serialize, ToSchema)]
pub(crate) struct ActiveView {
    edition: EditionView,
    report: CheckReport,
}

/// Editions, newest first.
#[derive(Serialize, ToSchema)]
pub(crate) struct EditionList {
    editions: Vec<EditionSummary>,
    /// What to ask with as `below` for those before; none where there are no more.
    more_below: Option<u32>,
}

/// A policy to be checked.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PolicyText {
    /// The text of `main.writ`.
    source: String,
    /// The texts of the files that it may include, by their paths.
    #[serde(default)]
    included: BTreeMap<String, String>,
}

/// A policy to be activated.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Activation {
    /// The text of `main.writ`.
    source: String,
    /// The texts of the files that it may include, by their paths.
    #[serde(default)]
    included: BTreeMap<String, String>,
    /// Why it is activated.
    #[serde(default)]
    note: String,
}

/// One's own draft that shall be the edition that decides.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct DraftActivation {
    /// The version of the draft that was read.
    version: u64,
    /// Why it is activated.
    #[serde(default)]
    note: String,
    /// The warnings that are meant so. Where the check finds another one, nothing is activated; where this is left
    /// out, whatever it finds is.
    accepted: Option<Vec<AcceptedWarning>>,
}

/// An edition that shall be the active one again.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct GoingBack {
    /// Its number.
    number: u32,
    /// Why.
    #[serde(default)]
    note: String,
}

/// A policy that was activated.
#[derive(Serialize, ToSchema)]
pub(crate) struct Activated {
    /// The new edition's number.
    number: u32,
    /// The edition that it replaces.
    replaces: u32,
    /// What its check found.
    report: CheckReport,
}

/// What a code of a finding means.
#[derive(Serialize, ToSchema)]
pub(crate) struct CodeView {
    /// The code, such as `W412`.
    code: &'static str,
    /// What was found.
    title: &'static str,
    /// Why it matters, and what to do.
    text: &'static str,
}

/// Every code.
#[derive(Serialize, ToSchema)]
pub(crate) struct CodeList {
    codes: Vec<CodeView>,
}

/// Longer notes are for the folder under version control.
const LONGEST_NOTE: usize = 2_000;
/// Editions that are listed at a time.
const MOST: usize = 100;

impl PolicyText {
    pub(crate) fn files(self) -> Result<PolicyFiles, AdministrationError> {
        sent_files(self.source, self.included)
    }
}

/// The files of a policy that was sent, whatever for, where they are not more than any policy may be.
pub(crate) fn sent_files(main: String, included: BTreeMap<String, String>) -> Result<PolicyFiles, AdministrationError> {
    let files = PolicyFiles { main, included };
    fits(&files).map(|()| files)
}

impl EditionView {
    fn new(row: EditionRow) -> Self {
        let EditionRow { number, files, note, made_from, state, created_at, created_by, .. } = row;
        let PolicyFiles { main: source, included } = files;
        Self { number, state, created_at: iso(created_at), created_by, note, made_from, source, included }
    }
}

impl From<EditionRow> for EditionSummary {
    fn from(row: EditionRow) -> Self {
        let bytes = row.files.iter().map(|(_, text)| text.len()).sum();
        let files = row.files.iter().count();
        let EditionRow { number, note, made_from, state, created_at, created_by, .. } = row;
        Self { number, state, created_at: iso(created_at), created_by, note, made_from, files, bytes }
    }
}

/// The edition that decides; its ETag is its number.
#[utoipa::path(get, path = "/api/v1/policy",
    responses((status = 200, body = ActiveView), (status = 401, body = ApiError)))]
pub(crate) async fn active(State(api): State<Api>, _: May<ReadPolicy>) -> Result<Response, ApiError> {
    let (row, report) = blocking(move || api.administration.policies.active()).await?;
    let tag = [(header::ETAG, format!("\"{}\"", row.number))];
    Ok((tag, Json(ActiveView { edition: EditionView::new(row), report })).into_response())
}

/// Which editions are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedEditions {
    /// Only those below this number.
    below: Option<u32>,
}

/// Editions, newest first, 100 at a time.
#[utoipa::path(get, path = "/api/v1/policy/editions", params(WantedEditions),
    responses((status = 200, body = EditionList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn editions(
    State(api): State<Api>,
    _: May<ReadPolicy>,
    Asked(wanted): Asked<WantedEditions>,
) -> Result<Json<EditionList>, ApiError> {
    let below = wanted.below.unwrap_or(u32::MAX);
    let rows = blocking(move || api.administration.policies.editions(below, MOST)).await?;
    let last = rows.last().map(|row| row.number).filter(|number| rows.len() == MOST && *number > 1);
    Ok(Json(EditionList { editions: rows.into_iter().map(Into::into).collect(), more_below: last }))
}

/// An edition with its text.
#[utoipa::path(get, path = "/api/v1/policy/editions/{number}", params(("number" = u32, Path)),
    responses((status = 200, body = EditionView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn edition(
    State(api): State<Api>,
    _: May<ReadPolicy>,
    Path(number): Path<u32>,
) -> Result<Response, ApiError> {
    let row = blocking(move || api.administration.policies.edition(number)).await?;
    Ok(Json(EditionView::new(row)).into_response())
}

/// What the codes of findings mean.
#[utoipa::path(get, path = "/api/v1/policy/codes",
    responses((status = 200, body = CodeList), (status = 401, body = ApiError)))]
pub(crate) async fn codes(_: May<ReadPolicy>) -> Json<CodeList> {
    let view = |help: &CodeHelp| CodeView { code: help.code, title: help.title, text: help.text };
    Json(CodeList { codes: CODES.iter().map(view).collect() })
}

/// What a policy is checked against, by names alone; a check without the service takes it.
#[utoipa::path(get, path = "/api/v1/policy/inventory",
    responses((status = 200, body = Object), (status = 401, body = ApiError)))]
pub(crate) async fn inventory(State(api): State<Api>, _: May<ReadPolicy>) -> Result<Json<Surroundings>, ApiError> {
    let work = move || {
        let policies = &api.administration.policies;
        policies.surroundings(&api.administration.snapshot())
    };
    Ok(Json(blocking(work).await?))
}

/// Checks a policy and runs its cases; changes nothing.
#[utoipa::path(post, path = "/api/v1/policy/check", params(CheckParams), request_body = PolicyText,
    responses((status = 200, body = CheckReport), (status = 401, body = ApiError)))]
pub(crate) async fn check(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Asked(wanted): Asked<CheckParams>,
    Sent(text): Sent<PolicyText>,
) -> Result<Json<CheckReport>, ApiError> {
    // One that is too long is a finding like others.
    let (files, study) = (PolicyFiles { main: text.source, included: text.included }, api.study.clone());
    let to_activate = wanted.to_activate.unwrap_or(false);
    let work = move || api.administration.policies.check(&files, to_activate);
    Ok(Json(study.run(&signed.bearer.administrator, work).await?))
}

/// Makes a policy the active edition. One that does not check changes nothing. With If-Match where the edition
/// that the author began with is still the active one.
#[utoipa::path(post, path = "/api/v1/policy/activate", request_body = Activation,
    params(("If-Match" = Option<String>, Header, description = "The number of the edition that was seen, in quotes")),
    responses((status = 200, body = Activated), (status = 400, body = ApiError), (status = 412, body = ApiError),
        (status = 422, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn activate(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(Activation { source, included, note }): Sent<Activation>,
) -> Result<Json<Activated>, ApiError> {
    let (note, expected) = (read_note(note)?, seen_number(&headers)?);
    let files = PolicyFiles { main: source, included };
    let work = move || {
        let wanted = Wanted { files, note, made_from: expected, draft: None, accepted: None };
        api.administration.policies.activate(wanted, &by, expected)
    };
    let (number, replaces, report) = blocking(work).await?;
    Ok(Json(Activated { number, replaces, report }))
}

/// Makes one's own draft the active edition, where it is as it was read and the edition that it was made from still
/// decides, or the one that If-Match says; and forgets it.
#[utoipa::path(post, path = "/api/v1/policy/draft/activate", request_body = DraftActivation,
    params(("If-Match" = Option<String>, Header, description = "The number of the edition that was seen, in quotes")),
    responses((status = 200, body = Activated), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 412, body = ApiError), (status = 422, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn activate_draft(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(DraftActivation { version, note, accepted }): Sent<DraftActivation>,
) -> Result<Json<Activated>, ApiError> {
    let (note, seen) = (read_note(note)?, seen_number(&headers)?);
    let work = move || {
        let policies = &api.administration.policies;
        let draft = policies.draft_of(&by.name, version)?;
        let made_from = Some(draft.made_from);
        let wanted = Wanted { files: draft.files, note, made_from, draft: Some(version), accepted };
        policies.activate(wanted, &by, seen.or(made_from))
    };
    let (number, replaces, report) = blocking(work).await?;
    Ok(Json(Activated { number, replaces, report }))
}

/// Makes the text of an earlier edition the active one again, as a new edition, checked against the records
/// as they are now.
#[utoipa::path(post, path = "/api/v1/policy/rollback", request_body = GoingBack,
    params(("If-Match" = Option<String>, Header, description = "The number of the edition that was seen, in quotes")),
    responses((status = 200, body = Activated), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 412, body = ApiError), (status = 422, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn rollback(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(GoingBack { number, note }): Sent<GoingBack>,
) -> Result<Json<Activated>, ApiError> {
    let (note, expected) = (read_note(note)?, seen_number(&headers)?);
    let work = move || {
        let policies = &api.administration.policies;
        let files = policies.edition(number)?.files;
        let wanted = Wanted { files, note, made_from: Some(number), draft: None, accepted: None };
        policies.activate(wanted, &by, expected)
    };
    let (number, replaces, report) = blocking(work).await?;
    Ok(Json(Activated { number, replaces, report }))
}

fn read_note(note: String) -> Result<String, ApiError> {
    let note = note.trim().to_owned();
    match note.len() > LONGEST_NOTE || note.chars().any(|c| c.is_control() && c != '\n') {
        true => Err(ApiError::bad(format!("A note is a text of at most {LONGEST_NOTE} bytes."))),
        false => Ok(note),
    }
}
