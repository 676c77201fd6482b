use axum::Json;
use axum::extract::State;
use regnant_records::EditionRow;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::report::CheckReport;
use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{Change, May, ReadPolicy, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;

/// An edition of the policy.
#[derive(Serialize, ToSchema)]
pub(crate) struct EditionView {
    /// Its number.
    number: u32,
    /// `draft`, `active` or `retired`.
    state: String,
    /// When it was made, in UTC.
    created_at: String,
    /// Who made it.
    created_by: String,
    /// The text of `main.writ`.
    source: String,
}

/// The active edition and what its check found.
#[derive(Serialize, ToSchema)]
pub(crate) struct ActiveView {
    edition: EditionView,
    report: CheckReport,
}

/// Every edition, newest first.
#[derive(Serialize, ToSchema)]
pub(crate) struct EditionList {
    editions: Vec<EditionView>,
}

/// A policy to be checked.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PolicyText {
    /// The text of `main.writ`.
    source: String,
}

/// A policy to be activated.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Activation {
    /// The text of `main.writ`.
    source: String,
    /// The edition that the author began with; another active one is a conflict.
    expected: Option<u32>,
}

/// A policy that was activated.
#[derive(Serialize, ToSchema)]
pub(crate) struct Activated {
    /// The new edition's number.
    number: u32,
    /// What its check found.
    report: CheckReport,
}

impl EditionView {
    fn new(row: EditionRow) -> Self {
        let EditionRow { number, source, state, created_at, created_by, .. } = row;
        Self { number, state, created_at: iso(created_at), created_by, source }
    }
}

/// The edition that decides.
#[utoipa::path(get, path = "/api/v1/policy",
    responses((status = 200, body = ActiveView), (status = 401, body = ApiError)))]
pub(crate) async fn active(State(api): State<Api>, _: May<ReadPolicy>) -> Result<Json<ActiveView>, ApiError> {
    let (row, report) = blocking(move || api.administration.policies.active()).await?;
    Ok(Json(ActiveView { edition: EditionView::new(row), report }))
}

/// Every edition, newest first.
#[utoipa::path(get, path = "/api/v1/policy/editions",
    responses((status = 200, body = EditionList), (status = 401, body = ApiError)))]
pub(crate) async fn editions(State(api): State<Api>, _: May<ReadPolicy>) -> Result<Json<EditionList>, ApiError> {
    let rows = blocking(move || api.administration.policies.editions()).await?;
    Ok(Json(EditionList { editions: rows.into_iter().map(EditionView::new).collect() }))
}

/// Checks a policy and runs its cases; changes nothing.
#[utoipa::path(post, path = "/api/v1/policy/check", request_body = PolicyText,
    responses((status = 200, body = CheckReport), (status = 401, body = ApiError)))]
pub(crate) async fn check(
    State(api): State<Api>,
    _: May<ReadPolicy>,
    Sent(text): Sent<PolicyText>,
) -> Result<Json<CheckReport>, ApiError> {
    Ok(Json(blocking(move || api.administration.policies.check(&text.source)).await?))
}

/// Makes a policy the active edition. One that does not check changes nothing.
#[utoipa::path(post, path = "/api/v1/policy/activate", request_body = Activation,
    responses((status = 200, body = Activated), (status = 409, body = ApiError), (status = 422, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn activate(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(Activation { source, expected }): Sent<Activation>,
) -> Result<Json<Activated>, ApiError> {
    let (number, report) = blocking(move || api.administration.policies.activate(&source, &by, expected)).await?;
    Ok(Json(Activated { number, report }))
}
