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
    journal: JournalAges,
}

/// How old the oldest entry of each commit was: what a crash would have lost. Since
/// the start, in milliseconds.
#[derive(Serialize, ToSchema)]
struct JournalAges {
    /// Of a hundred commits, ninety-nine were younger.
    p99_ms: u64,
    /// The oldest of all.
    most_ms: u64,
}

/// Whether the service does its work; open to everybody.
#[utoipa::path(get, path = "/api/v1/health",
    responses((status = 200, body = HealthView), (status = 503, body = HealthView)))]
pub(crate) async fn health(State(api): State<Api>) -> (StatusCode, Json<HealthView>) {
    let trouble = api.journal.trouble();
    let status = if trouble.is_some() { StatusCode::SERVICE_UNAVAILABLE } else { StatusCode::OK };
    let ages = api.journal.commit_ages();
    let view = HealthView {
        state: trouble.unwrap_or_else(|| "well".into()),
        version: env!("CARGO_PKG_VERSION").into(),
        edition: api.office.world.load().setting.edition.number,
        packets: api.desk.counts(),
        journal: JournalAges { p99_ms: ages.p99, most_ms: ages.most },
    };
    (status, Json(view))
}
