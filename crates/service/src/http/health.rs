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
}

/// Whether the service does its work; open to everybody.
#[utoipa::path(get, path = "/api/v1/health",
    responses((status = 200, body = HealthView), (status = 503, body = HealthView)))]
pub(crate) async fn health(State(api): State<Api>) -> (StatusCode, Json<HealthView>) {
    let trouble = api.journal.trouble();
    let status = if trouble.is_some() { StatusCode::SERVICE_UNAVAILABLE } else { StatusCode::OK };
    let view = HealthView {
        state: trouble.unwrap_or_else(|| "well".into()),
        version: env!("CARGO_PKG_VERSION").into(),
        edition: api.office.world.load().setting.edition.number,
        packets: api.desk.counts(),
    };
    (status, Json(view))
}
