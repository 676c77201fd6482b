use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::Json;
use axum::extract::{Path, State};
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures_util::stream::{self, Stream};
use regnant_base::Place;
use regnant_decision::EntryKind;
use regnant_journal::{Entry, EntryFilter, JournalError};
use serde::{Deserialize, Serialize};
use tokio::sync::broadcast::Receiver;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::watch;
use tokio::time::Interval;
use ulid::Ulid;
use utoipa::{IntoParams, ToSchema};

use crate::http::Api;
use crate::http::callers::{Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Asked;
use crate::http::record::words;
use crate::http::view::{DetailView, EntryView};

const MOST: usize = 500;
/// How long anybody looks.
const PATIENCE: Duration = Duration::from_secs(20);
/// Live streams at a time, of all administrators.
const MOST_LIVE: usize = 128;
/// How often a stream looks whether its session still stands.
const LOOK_AGAIN: Duration = Duration::from_secs(3);

/// Which entries are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Wanted {
    /// Only entries older than this id.
    before: Option<String>,
    /// Only these outcomes, with commas between them: `granted`, `refused`, `silence`,
    /// `unfinished`, `unheard`, `told`, `accounting`.
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
    May { signed, .. }: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<EntryList>, ApiError> {
    let limit = wanted.limit.unwrap_or(100);
    if !(1..=MOST).contains(&limit) {
        return Err(ApiError::bad(format!("`limit` is 1 to {MOST}.")));
    }
    let kinds = kinds(wanted.outcome.as_ref())?;
    if wanted.before.as_deref().is_some_and(|id| Ulid::from_string(id).is_err()) {
        return Err(ApiError::bad("`before` is the id of an entry."));
    }
    let (looks_for_words, searches) = (wanted.q.is_some(), api.searches.clone());
    let filter = EntryFilter { before: wanted.before, kinds, text: wanted.q, limit, patience: Some(PATIENCE) };
    let read = move || {
        let found = api.reader.entries(&filter)?;
        Ok::<_, JournalError>(found.iter().map(|entry| EntryView::new(entry, &api.administration)).collect())
    };
    // Words may stand anywhere, or nowhere: everything is read then.
    let entries = match looks_for_words {
        true => searches.run(&signed.bearer.administrator, read).await?,
        false => blocking(read).await?,
    };
    Ok(Json(EntryList { entries }))
}

/// The outcomes that are wanted; of all where there is none.
fn kinds(outcome: Option<&String>) -> Result<Vec<EntryKind>, ApiError> {
    let words = outcome.into_iter().flat_map(|words| words.split(','));
    words.map(|word| EntryKind::from_word(word).ok_or_else(no_outcome)).collect()
}

fn no_outcome() -> ApiError {
    let words: Vec<_> = EntryKind::ALL.iter().map(|(word, _)| *word).collect();
    ApiError::bad(format!("`outcome` is one or more of {}, with commas between them.", words.join(", ")))
}

/// One entry with its trail.
#[utoipa::path(get, path = "/api/v1/journal/{id}", params(("id" = String, Path, description = "The entry's id")),
    responses((status = 200, body = DetailView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn entry(
    State(api): State<Api>,
    _: May<Look>,
    Path(id): Path<String>,
) -> Result<Json<DetailView>, ApiError> {
    let wanted = id.clone();
    let read = move || {
        let found = api.reader.entry(&wanted)?;
        found.map(|entry| DetailView::new(&entry, &api)).transpose()
    };
    let missing = || ApiError::not_found(format!("The journal has no entry `{id}`."));
    blocking(read).await?.map(Json).ok_or_else(missing)
}

/// Which entries of those that come are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedLive {
    /// Only these outcomes, with commas between them.
    outcome: Option<String>,
    /// Only sentences that hold all these words.
    q: Option<String>,
}

/// What a stream lets through.
struct LiveFilter {
    kinds: Vec<EntryKind>,
    words: Vec<String>,
}

impl LiveFilter {
    fn holds(&self, view: &EntryView) -> bool {
        let of_kind = self.kinds.is_empty() || self.kinds.iter().any(|kind| kind.word() == view.outcome());
        of_kind && (self.words.is_empty() || view.says_all(&self.words))
    }
}

/// Every entry from now on that a filter lets through, as server-sent events; `entry` events
/// carry an EntryView, a `gap` event says that some were missed and the list must be read anew.
#[utoipa::path(get, path = "/api/v1/journal/live", params(WantedLive),
    responses((status = 200, content_type = "text/event-stream", body = String), (status = 401, body = ApiError),
        (status = 429, body = ApiError)))]
pub(crate) async fn live(
    State(api): State<Api>,
    May { signed, .. }: May<Look>,
    Asked(wanted): Asked<WantedLive>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError> {
    let filter = LiveFilter { kinds: kinds(wanted.outcome.as_ref())?, words: words(wanted.q.as_ref()) };
    let place = api.live.take(&signed.author.name, MOST_LIVE);
    let place = place.ok_or_else(|| ApiError::too_many("Too many pages watch the journal already; close some."))?;
    let (entries, stopped) = (api.journal.listen(), api.stopped.clone());
    let looking = tokio::time::interval(LOOK_AGAIN);
    let start = Watcher { filter, entries, stopped, looking, signed, api, _place: place };
    let events = stream::unfold(start, async |mut watcher| {
        let event = watcher.next().await?;
        Some((Ok(event), watcher))
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::default()))
}

/// One live stream. It ends with the session or token that opened it.
struct Watcher {
    filter: LiveFilter,
    entries: Receiver<Arc<Entry>>,
    stopped: watch::Receiver<bool>,
    looking: Interval,
    signed: Signed,
    api: Api,
    _place: Place,
}

impl Watcher {
    async fn next(&mut self) -> Option<Event> {
        loop {
            let received = tokio::select! {
                _ = self.stopped.changed() => return None,
                _ = self.looking.tick() => match self.signed.still_stands(&self.api).await {
                    true => continue,
                    false => return None,
                },
                received = self.entries.recv() => received,
            };
            return match received {
                Ok(entry) => match EntryView::new(&entry, &self.api.administration) {
                    view if self.filter.holds(&view) => Event::default().event("entry").json_data(view).ok(),
                    _ => continue,
                },
                Err(RecvError::Lagged(_)) => Some(Event::default().event("gap").data("read the list anew")),
                Err(RecvError::Closed) => None,
            };
        }
    }
}
