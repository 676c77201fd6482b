use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Serialize;
use utoipa::ToSchema;

use crate::http::Api;
use crate::udp::PacketCounts;

/// Whether the service does its work.
#[derive(Serialize, ToSchema)]
pub(crate) struct HealthView {
    /// `well`, or what is wrong.
    state: String,
    /// The version of the service.
    version: String,
    /// The active edition.
    edition: u32,
    packets: PacketCounts,
    journal: JournalHealth,
}

/// How much the journal keeps, and how old the oldest entry of each commit was since the
/// start: what a crash would have lost.
#[derive(Serialize, ToSchema)]
struct JournalHealth {
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

/// Whether the service does its work; open to everybody.
#[utoipa::path(get, path = "/api/v1/health",
    responses((status = 200, body = HealthView), (status = 503, body = HealthView)))]
pub(crate) async fn health(State(api): State<Api>) -> (StatusCode, Json<HealthView>) {
    let trouble = api.journal.trouble();
    let status = if trouble.is_some() { StatusCode::SERVICE_UNAVAILABLE } else { StatusCode::OK };
    let (ages, keep) = (api.journal.commit_ages(), api.journal.keep());
    let (files, bytes) = api.journal.size();
    let view = HealthView {
        state: trouble.unwrap_or_else(|| "well".into()),
        version: env!("CARGO_PKG_VERSION").into(),
        edition: api.administration.snapshot().active.edition.number,
        packets: api.radius.counts(),
        journal: JournalHealth {
            p99_ms: ages.p99,
            most_ms: ages.most,
            files,
            bytes,
            keep_days: keep.days,
            at_most: keep.at_most,
            deleted: api.journal.deleted(),
        },
    };
    (status, Json(view))
}
