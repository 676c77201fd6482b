use std::io::{self, Read};
use std::time::{Duration, Instant};

use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::{HeaderMap, header};
use futures_util::StreamExt;
use serde::{Deserialize, Serialize};
use tokio::runtime::Handle;
use tokio::sync::mpsc::{Receiver, channel};
use utoipa::{IntoParams, ToSchema};

use crate::administration::import::{ImportKind, ImportOrder, ImportReport, LineForm};
use crate::http::Api;
use crate::http::callers::{Change, May};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Asked;

/// Bytes of one import.
const MOST: u64 = 2 << 30;
/// How long the next part of it may take.
const PART: Duration = Duration::from_secs(20);
/// How long all of it may take, beside what [`SLOWEST`] gives.
const PATIENCE: Duration = Duration::from_secs(60);
/// Bytes that come in a second, at least.
const SLOWEST: u64 = 100_000;
/// Parts that wait to be read.
const AHEAD: usize = 8;

/// How lines shall be imported.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct ImportParams {
    /// The store of lines that name none; where there is one of its kind, that.
    store: Option<String>,
    /// Whether only what would come of it is wanted; false if not said.
    dry_run: Option<bool>,
    /// Whether nothing is applied where one line is refused; false if not said.
    all_or_none: Option<bool>,
}

/// A line that was refused.
#[derive(Serialize, ToSchema)]
pub(crate) struct RefusedLine {
    /// Its number, counted from 1.
    line: u64,
    why: String,
}

/// What came of an import.
#[derive(Serialize, ToSchema)]
pub(crate) struct ImportView {
    /// Records that were not there.
    added: u64,
    /// Records that were.
    changed: u64,
    /// How many lines were refused.
    refused: u64,
    /// The first of them, at most 1000.
    lines: Vec<RefusedLine>,
    /// Whether the others are in force; false for a dry run, and where all or none was wanted
    /// and one was refused.
    applied: bool,
}

impl From<ImportReport> for ImportView {
    fn from(ImportReport { added, changed, refused, told, applied }: ImportReport) -> Self {
        let lines = told.into_iter().map(|(line, why)| RefusedLine { line, why }).collect();
        Self { added, changed, refused, lines, applied }
    }
}

/// Imports records line after line: `text/csv` with the names of fields in the first line
/// (lists with `;` between their members), or `application/x-ndjson`. What a line does not
/// say stays as it is on a record that is there; lines that are wrong are told, and the
/// others applied.
#[utoipa::path(post, path = "/api/v1/import/{kind}", operation_id = "import_lines",
    params(("kind" = String, Path, description = "`nases`, `people`, `machines`, `devices`, `groups`, `sites`, `stores` or `administrators`"), ImportParams),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = ImportView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 415, body = ApiError), (status = 429, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn lines(
    State(api): State<Api>,
    May { signed, .. }: May<Change>,
    Path(kind): Path<String>,
    Asked(params): Asked<ImportParams>,
    headers: HeaderMap,
    body: Body,
) -> Result<Json<ImportView>, ApiError> {
    let kind =
        ImportKind::of(&kind).ok_or_else(|| ApiError::not_found(format!("Lines are of {}.", ImportKind::WORDS)))?;
    let sent = headers.get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default();
    let form = match sent.split(';').next().unwrap_or_default().trim() {
        "text/csv" => LineForm::Csv,
        "application/x-ndjson" => LineForm::Json,
        _ => return Err(ApiError::unsupported("Send lines as `text/csv` or as `application/x-ndjson`.")),
    };
    let place = api.imports.clone().try_acquire_owned();
    let place = place.map_err(|_| ApiError::too_many("Another import is under way; try again when it has ended."))?;
    let order = ImportOrder {
        kind,
        form,
        store: params.store,
        dry_run: params.dry_run.unwrap_or(false),
        all_or_none: params.all_or_none.unwrap_or(false),
    };
    let (send, parts) = channel(AHEAD);
    let reading = tokio::spawn(async move {
        let (mut body, mut left, begun) = (body.into_data_stream(), MOST, Instant::now());
        loop {
            // Whoever trickles holds the one place that there is.
            let fair = PATIENCE + Duration::from_millis((MOST - left) * 1_000 / SLOWEST);
            let most = PART.min(fair.saturating_sub(begun.elapsed()));
            let part = match tokio::time::timeout(most, body.next()).await {
                Ok(None) => return,
                Ok(Some(Ok(part))) if part.len() as u64 <= left => Ok(part),
                Ok(Some(Ok(_))) => Err(io::Error::other(format!("it has more than {MOST} bytes; import it in parts"))),
                Ok(Some(Err(error))) => Err(io::Error::other(error)),
                Err(_) => Err(io::Error::other("its next part did not come in time")),
            };
            left -= part.as_ref().map_or(0, |part| part.len() as u64);
            let last = part.is_err();
            if send.send(part).await.is_err() || last {
                return;
            }
        }
    });
    let work = move || {
        let _place = place;
        let stands = || Handle::current().block_on(signed.still_stands(&api));
        let input = Parts { parts, part: Bytes::new() };
        api.administration.inventories.import_lines(&order, input, &signed.author, stands)
    };
    let report = blocking(work).await;
    reading.abort();
    Ok(Json(report?.into()))
}

/// Parts of a body, as a thread reads them.
struct Parts {
    parts: Receiver<io::Result<Bytes>>,
    part: Bytes,
}

impl Read for Parts {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.part.is_empty() {
            match self.parts.blocking_recv() {
                None => return Ok(0),
                Some(part) => self.part = part?,
            }
        }
        let count = buffer.len().min(self.part.len());
        buffer[..count].copy_from_slice(&self.part.split_to(count));
        Ok(count)
    }
}
