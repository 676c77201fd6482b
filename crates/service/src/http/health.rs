use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use regnant_journal::Intake;
use serde::Serialize;
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::callers::{Look, May};
use crate::http::error::ApiError;
use crate::udp::PacketCounts;

/// Whether the service does its work.
#[derive(Serialize, ToSchema)]
pub(crate) struct HealthView {
    /// `well`, or what is wrong; to whoever is not signed in, `unwell`.
    state: String,
    /// More, to whoever is signed in.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    work: Option<WorkView>,
}

/// What the service does.
#[derive(Serialize, ToSchema)]
struct WorkView {
    /// The version of the service.
    version: String,
    /// The active edition.
    edition: u32,
    packets: PacketCounts,
    /// Decisions, and packets that stayed unheard.
    journal: BookHealth,
    /// What equipment reports of the access that it gives.
    accounting: BookHealth,
}

/// How much is kept, and how old the oldest entry of each commit was since the start: what a
/// crash would have lost.
#[derive(Serialize, ToSchema)]
struct BookHealth {
    /// Milliseconds; of a hundred commits, ninety-nine were younger.
    p99_ms: u64,
    /// Milliseconds; the oldest of all.
    most_ms: u64,
    /// How many files it has, as of the last minute.
    files: u64,
    /// Their bytes.
    bytes: u64,
    /// Files of days that are longer ago than this are deleted.
    keep_days: u32,
    /// While all files have more bytes than this, the oldest is deleted.
    at_most: u64,
    /// How many files were deleted since the start.
    deleted: u64,
}

/// Whether the service does its work; open to everybody, who are told that and nothing else.
#[utoipa::path(get, path = "/api/v1/health",
    responses((status = 200, body = HealthView), (status = 503, body = HealthView)))]
pub(crate) async fn health(
    State(api): State<Api>,
    known: Result<May<Look>, ApiError>,
) -> (StatusCode, Json<HealthView>) {
    let trouble: Vec<_> = [api.journal.trouble(), api.accounting.trouble()].into_iter().flatten().collect();
    let status = if trouble.is_empty() { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    let work = known.is_ok().then(|| WorkView {
        version: env!("CARGO_PKG_VERSION").into(),
        edition: api.administration.snapshot().active.edition.number,
        packets: api.radius.counts(),
        journal: BookHealth::of(&api.journal),
        accounting: BookHealth::of(&api.accounting),
    });
    let state = match (&trouble[..], &work) {
        ([], _) => "well".into(),
        (_, None) => "unwell".into(),
        (trouble, Some(_)) => trouble.join("; "),
    };
    (status, Json(HealthView { state, work }))
}

impl BookHealth {
    fn of<W: Send + 'static>(book: &Intake<W>) -> Self {
        let (ages, keep, (files, bytes)) = (book.commit_ages(), book.keep(), book.size());
        Self {
            p99_ms: ages.p99,
            most_ms: ages.most,
            files,
            bytes,
            keep_days: keep.days,
            at_most: keep.at_most,
            deleted: book.deleted(),
        }
    }
}
