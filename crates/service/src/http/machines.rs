use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use regnant_base::SecretText;
use regnant_records::{MachineEntry, MachineRow, RecordName};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::entries;
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::{etag, holds, limit, page, seen, shown, stays_in, words};

/// A machine that proves itself; no password is ever shown.
#[derive(Serialize, ToSchema)]
pub(crate) struct MachineView {
    store: String,
    /// Its name, without `host/` before it or `$` after it.
    name: String,
    groups: Vec<String>,
    disabled: bool,
    /// When the account ends; never where there is none.
    expires: Option<String>,
    /// Whether it has a password; where not, certificates alone prove it.
    has_password: bool,
    /// Whether MS-CHAP methods may prove it.
    mschap: bool,
    note: String,
}

/// Machines by store and name.
#[derive(Serialize, ToSchema)]
pub(crate) struct MachineList {
    machines: Vec<MachineView>,
    /// How many there are, whatever the filter says.
    all: usize,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A machine with what is known of it.
#[derive(Serialize, ToSchema)]
pub(crate) struct MachineDetail {
    machine: MachineView,
    /// Where the active policy names it.
    named_by: Vec<String>,
}

/// A machine as it shall be.
#[derive(Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewMachine {
    store: String,
    name: String,
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    #[serde(default)]
    groups: Vec<String>,
    #[serde(default)]
    disabled: bool,
    #[serde(default)]
    expires: Option<String>,
    #[serde(default)]
    mschap: bool,
    #[serde(default)]
    note: String,
}

/// What of a machine shall be otherwise; what is left out stays.
#[derive(Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct MachinePatch {
    name: Option<String>,
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    groups: Option<Vec<String>>,
    disabled: Option<bool>,
    /// Empty is never.
    expires: Option<String>,
    mschap: Option<bool>,
    note: Option<String>,
}

/// Which machines are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedMachines {
    /// Only those in whose name, store, groups or note every one of these words stands.
    q: Option<String>,
    /// Only those of this group.
    group: Option<String>,
    /// Only those after this one: `next` of the page before.
    after: Option<String>,
    /// At most this many, 1 to 5000; 500 if not said.
    limit: Option<usize>,
}

impl From<MachineRow> for MachineView {
    fn from(row: MachineRow) -> Self {
        Self {
            store: row.store,
            name: row.name,
            groups: row.groups,
            disabled: row.disabled,
            expires: shown(row.expires),
            has_password: row.password_hash.is_some(),
            mschap: row.nt_hash.is_some(),
            note: row.note,
        }
    }
}

impl From<NewMachine> for MachineEntry {
    fn from(new: NewMachine) -> Self {
        Self {
            store: new.store,
            name: new.name,
            password: new.password,
            password_hash: None,
            nt_hash: None,
            mschap: new.mschap,
            groups: new.groups,
            disabled: new.disabled,
            expires: new.expires,
            note: new.note,
        }
    }
}

impl MachinePatch {
    fn on(self, row: &MachineRow) -> MachineEntry {
        let before = entries::machine(row);
        MachineEntry {
            store: before.store,
            name: self.name.unwrap_or(before.name),
            password: self.password,
            password_hash: None,
            nt_hash: None,
            mschap: self.mschap.unwrap_or(before.mschap),
            groups: self.groups.unwrap_or(before.groups),
            disabled: self.disabled.unwrap_or(before.disabled),
            expires: self.expires.map_or(before.expires, |at| Some(at).filter(|at| !at.is_empty())),
            note: self.note.unwrap_or(before.note),
        }
    }
}

fn key(row: &MachineRow) -> String {
    format!("{}/{}", row.store, row.name.to_lowercase())
}

/// Machines by store and name, a page at a time.
#[utoipa::path(get, path = "/api/v1/machines", params(WantedMachines),
    responses((status = 200, body = MachineList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn machines(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<WantedMachines>,
) -> Result<Json<MachineList>, ApiError> {
    let (limit, words) = (limit(wanted.limit)?, words(wanted.q.as_ref()));
    let rows = blocking(move || api.administration.identities.machines()).await?;
    let (all, group) = (rows.len(), wanted.group.map(|group| group.to_lowercase()));
    let fits = |row: &MachineRow| {
        wanted.after.as_ref().is_none_or(|after| key(row) > *after)
            && group.as_ref().is_none_or(|group| row.groups.iter().any(|known| known.to_lowercase() == *group))
            && holds(&words, [&row.name, &row.store, &row.note].into_iter().chain(&row.groups))
    };
    let mut found: Vec<_> = rows.into_iter().filter(fits).collect();
    found.sort_by_key(key);
    let (found, next) = page(found, limit, key);
    Ok(Json(MachineList { machines: found.into_iter().map(Into::into).collect(), all, next }))
}

/// A machine, with what is known of it. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/machines/{store}/{name}", params(("store" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = MachineDetail), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn machine(
    State(api): State<Api>,
    _: May<Look>,
    Path((store, name)): Path<(String, String)>,
) -> Result<Response, ApiError> {
    let reading = api.clone();
    let row = blocking(move || reading.administration.identities.machine(&store, &name)).await?;
    let record = RecordName::Machine { store: row.store.clone(), name: row.name.clone() };
    let (tag, named_by) = (etag(&row), api.administration.identities.named_by(&record));
    Ok((tag, Json(MachineDetail { machine: row.into(), named_by })).into_response())
}

/// Adds a machine.
#[utoipa::path(post, path = "/api/v1/machines", operation_id = "add_machine", request_body = NewMachine,
    responses((status = 201, body = MachineView), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(new): Sent<NewMachine>,
) -> Result<Response, ApiError> {
    let row = blocking(move || api.administration.identities.add_machine(new.into(), &by)).await?;
    Ok((StatusCode::CREATED, etag(&row), Json(MachineView::from(row))).into_response())
}

/// Puts a machine in the place of one. With If-Match only where it is still as it was read.
#[utoipa::path(put, path = "/api/v1/machines/{store}/{name}", operation_id = "replace_machine",
    params(("store" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = NewMachine,
    responses((status = 200, body = MachineView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn replace(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
    headers: HeaderMap,
    Sent(form): Sent<NewMachine>,
) -> Result<Response, ApiError> {
    stays_in(&store, &form.store)?;
    let seen = seen(&headers)?;
    let work = move || {
        api.administration.identities.change_machine((&store, &name), seen.as_ref(), |_| form.clone().into(), &by)
    };
    let row = blocking(work).await?;
    Ok((etag(&row), Json(MachineView::from(row))).into_response())
}

/// Changes some of a machine. With If-Match only where it is still as it was read.
#[utoipa::path(patch, path = "/api/v1/machines/{store}/{name}", operation_id = "change_machine",
    params(("store" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = MachinePatch,
    responses((status = 200, body = MachineView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn change(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
    headers: HeaderMap,
    Sent(patch): Sent<MachinePatch>,
) -> Result<Response, ApiError> {
    let seen = seen(&headers)?;
    let work = move || {
        api.administration.identities.change_machine((&store, &name), seen.as_ref(), |row| patch.clone().on(row), &by)
    };
    let row = blocking(work).await?;
    Ok((etag(&row), Json(MachineView::from(row))).into_response())
}

/// Removes a machine that the active policy does not name.
#[utoipa::path(delete, path = "/api/v1/machines/{store}/{name}", operation_id = "remove_machine",
    params(("store" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    let record = RecordName::Machine { store, name };
    blocking(move || api.administration.identities.remove(record, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}
