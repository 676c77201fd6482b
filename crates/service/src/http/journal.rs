use std::convert::Infallible;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures_util::stream::{self, Stream};
use regnant_records::EntryFilter;
use serde::{Deserialize, Serialize};
use tokio::sync::broadcast::error::RecvError;
use ulid::Ulid;
use utoipa::{IntoParams, ToSchema};

use crate::http::Api;
use crate::http::callers::Signed;
use crate::http::error::{ApiError, blocking};
use crate::http::view::{DetailView, EntryView};

const OUTCOMES: [&str; 5] = ["granted", "refused", "silence", "unfinished", "unheard"];
const MOST: usize = 500;

/// Which entries are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Wanted {
    /// Only entries older than this id.
    before: Option<String>,
    /// Only this outcome: `granted`, `refused`, `silence`, `unfinished` or `unheard`.
    outcome: Option<String>,
    /// Only sentences that hold all these words.
    q: Option<String>,
    /// At most this many, 1 to 500; 100 if not said.
    limit: Option<usize>,
}

/// Entries, newest first.
#[derive(Serialize, ToSchema)]
pub(crate) struct EntryList {
    entries: Vec<EntryView>,
}

/// The journal, newest first.
#[utoipa::path(get, path = "/api/v1/journal", params(Wanted),
    responses((status = 200, body = EntryList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn entries(
    State(api): State<Api>,
    _: Signed,
    Query(wanted): Query<Wanted>,
) -> Result<Json<EntryList>, ApiError> {
    let limit = wanted.limit.unwrap_or(100);
    if !(1..=MOST).contains(&limit) {
        return Err(ApiError::bad(format!("`limit` is 1 to {MOST}.")));
    }
    if wanted.outcome.as_deref().is_some_and(|outcome| !OUTCOMES.contains(&outcome)) {
        return Err(ApiError::bad(format!("`outcome` is one of {}.", OUTCOMES.join(", "))));
    }
    if wanted.before.as_deref().is_some_and(|id| Ulid::from_string(id).is_err()) {
        return Err(ApiError::bad("`before` is the id of an entry."));
    }
    let filter = EntryFilter { before: wanted.before, outcome: wanted.outcome, text: wanted.q, limit };
    let found = blocking(move || api.reader.entries(&filter)).await?;
    Ok(Json(EntryList { entries: found.iter().map(EntryView::new).collect() }))
}

/// One entry with its trail.
#[utoipa::path(get, path = "/api/v1/journal/{id}", params(("id" = String, Path, description = "The entry's id")),
    responses((status = 200, body = DetailView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn entry(
    State(api): State<Api>,
    _: Signed,
    Path(id): Path<String>,
) -> Result<Json<DetailView>, ApiError> {
    let wanted = id.clone();
    let found = blocking(move || api.reader.entry(&wanted)).await?;
    let missing = || ApiError::not_found(format!("The journal has no entry `{id}`."));
    found.map(|entry| Json(DetailView::new(&entry))).ok_or_else(missing)
}

/// Every entry from now on, as server-sent events; `entry` events carry an
/// EntryView, a `gap` event says that some were missed and the list must be read anew.
#[utoipa::path(get, path = "/api/v1/journal/live",
    responses((status = 200, content_type = "text/event-stream", body = String), (status = 401, body = ApiError)))]
pub(crate) async fn live(State(api): State<Api>, _: Signed) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let start = (api.journal.listen(), api.stopped);
    let events = stream::unfold(start, async |(mut entries, mut stopped)| {
        let received = tokio::select! {
            _ = stopped.changed() => return None,
            received = entries.recv() => received,
        };
        let event = match received {
            Ok(entry) => Event::default().event("entry").json_data(EntryView::new(&entry)).ok()?,
            Err(RecvError::Lagged(_)) => Event::default().event("gap").data("read the list anew"),
            Err(RecvError::Closed) => return None,
        };
        Some((Ok(event), (entries, stopped)))
    });
    Sse::new(events).keep_alive(KeepAlive::default())
}
