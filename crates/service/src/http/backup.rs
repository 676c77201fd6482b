use std::io::{self, Write};

use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use regnant_base::SecretText;
use serde::Deserialize;
use tokio::sync::mpsc::{Sender, channel};
use utoipa::ToSchema;

use crate::backup::{self, BackupOrder};
use crate::http::Api;
use crate::http::callers::{Change, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;

/// Parts that wait to be sent.
const AHEAD: usize = 8;
const PART: usize = 64 << 10;

/// What shall be backed up beside the records.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct BackupForm {
    /// Takes the sealing key along, and encrypts all of it under this; left out, the key stays
    /// here and must be kept apart.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    passphrase: Option<SecretText>,
    /// Whether journal and accounting are taken along; false if not said.
    #[serde(default)]
    with_journal: bool,
}

/// A backup of the running service: a tar archive, encrypted where a passphrase is given. One
/// that breaks off has no end, which a restore tells.
#[utoipa::path(post, path = "/api/v1/backup", operation_id = "backup", request_body = BackupForm,
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 400, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn backup(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(form): Sent<BackupForm>,
) -> Result<Response, ApiError> {
    if form.passphrase.as_ref().is_some_and(|passphrase| passphrase.expose().chars().count() < 12) {
        return Err(ApiError::bad("A passphrase has at least 12 characters: it guards the key to every secret."));
    }
    let order = BackupOrder { passphrase: form.passphrase, with_journal: form.with_journal };
    let (places, administration) = (api.places.clone(), api.administration.clone());
    let with_key = order.passphrase.is_some();
    blocking(move || administration.administrators.note_backup(with_key, &by)).await?;
    let (send, parts) = channel(AHEAD);
    tokio::task::spawn_blocking(move || {
        let mut output = Parts { send: send.clone(), part: Vec::with_capacity(PART) };
        let made = backup::write(&places, &order, &mut output);
        if let Err(error) = made.and_then(|()| Ok(output.hand_on()?)) {
            if send.is_closed() {
                return tracing::debug!("whoever asked for a backup is gone");
            }
            tracing::error!("a backup broke off: {error}");
            let _ = send.blocking_send(Err(io::Error::other(error.to_string())));
        }
    });
    let parts = stream::unfold(parts, async |mut parts| parts.recv().await.map(|part| (part, parts)));
    Ok(([(header::CONTENT_TYPE, "application/octet-stream")], Body::from_stream(parts)).into_response())
}

/// Hands on what is written in parts.
struct Parts {
    send: Sender<io::Result<Bytes>>,
    part: Vec<u8>,
}

impl Parts {
    fn hand_on(&mut self) -> io::Result<()> {
        let part = std::mem::replace(&mut self.part, Vec::with_capacity(PART));
        let gone = |_| io::Error::other("whoever asked for it is gone");
        if part.is_empty() { Ok(()) } else { self.send.blocking_send(Ok(part.into())).map_err(gone) }
    }
}

impl Write for Parts {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.part.len() >= PART {
            self.hand_on()?;
        }
        self.part.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.hand_on()
    }
}
