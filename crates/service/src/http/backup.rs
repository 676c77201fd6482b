use std::io::{self, Write};
use std::time::{Duration, Instant};

use axum::Extension;
use axum::body::{Body, Bytes};
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use regnant_base::SecretText;
use serde::Deserialize;
use tokio::runtime::Handle;
use tokio::sync::mpsc::{Sender, channel};
use tokio::time::timeout;
use utoipa::ToSchema;

use crate::backup::{self, BackupError, BackupOrder};
use crate::http::Api;
use crate::http::callers::{Change, May};
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;
use crate::http::sign_in::prove_both_again;

/// Parts that wait to be sent.
const AHEAD: usize = 8;
const PART: usize = 64 << 10;
/// How long is waited for whoever reads a backup, beside what [`SLOWEST`] gives.
const PATIENCE: Duration = Duration::from_secs(60);
/// Bytes of a backup that are read in a second, at least.
const SLOWEST: u64 = 100_000;

/// What shall be backed up beside the records.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct BackupForm {
    /// Takes the sealing key along, and encrypts all of it under this; left out, the key stays
    /// here and must be kept apart.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    passphrase: Option<SecretText>,
    /// The password of whoever asks, where the key is wanted.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    /// The code of their second factor, or a recovery code, likewise, where there is one.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    code: Option<SecretText>,
    /// Whether journal and accounting are taken along; false if not said.
    #[serde(default)]
    with_journal: bool,
}

/// A backup of the running service: a tar archive, encrypted where a passphrase is given; the password is wanted
/// again then, and the code of the second factor where there is one (without it, the answer is 403 with
/// `needs_code`). One is made at a time, and whoever reads slower than 100 kB a second for a minute gets no more. One
/// that breaks off has no end, which a restore tells.
#[utoipa::path(post, path = "/api/v1/backup", operation_id = "backup", request_body = BackupForm,
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 400, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError), (status = 429, body = ApiError),
        (status = 507, body = ApiError)))]
pub(crate) async fn backup(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    May { signed, .. }: May<Change>,
    Sent(form): Sent<BackupForm>,
) -> Result<Response, ApiError> {
    if form.passphrase.as_ref().is_some_and(|passphrase| passphrase.expose().chars().count() < 12) {
        return Err(ApiError::bad("A passphrase has at least 12 characters: it guards the key to every secret."));
    }
    if form.passphrase.is_some() {
        let shown = (form.password.as_ref(), form.code.as_ref());
        prove_both_again(&api, &signed, shown, &origin, "The key to every secret is taken along").await?;
    }
    let under_way = api.backups.clone().try_acquire_owned();
    let under_way = under_way.map_err(|_| ApiError::too_many("A backup is being made: wait until it is there."))?;
    let by = signed.author;
    let order = BackupOrder { passphrase: form.passphrase, with_journal: form.with_journal };
    let (places, administration) = (api.places.clone(), api.administration.clone());
    let with_key = order.passphrase.is_some();
    let (room, with_journal) = (places.clone(), order.with_journal);
    blocking(move || backup::has_room(&room, with_journal)).await?;
    blocking(move || administration.administrators.note_backup(with_key, &by)).await?;
    let (send, parts) = channel(AHEAD);
    tokio::task::spawn_blocking(move || {
        let _under_way = under_way;
        let mut output = Parts::new(send.clone(), PATIENCE);
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

/// Hands on what is written in parts, and waits for whoever reads them no longer than is fair.
struct Parts {
    send: Sender<io::Result<Bytes>>,
    part: Vec<u8>,
    /// Bytes that were handed on.
    sent: u64,
    /// How long that was waited for.
    waited: Duration,
    /// How long it may be, beside what [`SLOWEST`] gives.
    patience: Duration,
}

impl Parts {
    fn new(send: Sender<io::Result<Bytes>>, patience: Duration) -> Self {
        Self { send, part: Vec::with_capacity(PART), sent: 0, waited: Duration::ZERO, patience }
    }

    fn hand_on(&mut self) -> io::Result<()> {
        let part = std::mem::replace(&mut self.part, Vec::with_capacity(PART));
        if part.is_empty() {
            return Ok(());
        }
        self.sent += part.len() as u64;
        let most = self.patience + Duration::from_millis(self.sent * 1_000 / SLOWEST);
        let (begun, left) = (Instant::now(), most.saturating_sub(self.waited));
        let sent = Handle::current().block_on(timeout(left, self.send.send(Ok(part.into()))));
        self.waited += begun.elapsed();
        match sent {
            Ok(Ok(())) => Ok(()),
            Ok(Err(_)) => Err(io::Error::other("whoever asked for it is gone")),
            Err(_) => Err(io::Error::other("whoever asked for it reads too slowly")),
        }
    }
}

impl From<BackupError> for ApiError {
    fn from(error: BackupError) -> Self {
        match error {
            BackupError::Room { .. } => Self::no_room(error.to_string()),
            error => Self::ours(error),
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(flavor = "multi_thread", worker_threads = 1)]
    async fn whoever_reads_too_slowly_gets_no_more() {
        let write_all = |patience, reads: bool| async move {
            let (send, mut parts) = channel(1);
            let writing = tokio::task::spawn_blocking(move || {
                let mut output = Parts::new(send, patience);
                (0..64).try_for_each(|_| output.write_all(&[7; PART])).and_then(|()| output.flush())
            });
            let mut got = 0;
            while let Some(Ok(part)) = if reads { parts.recv().await } else { None } {
                got += part.len();
            }
            (writing.await.unwrap().map_err(|error| error.to_string()), got)
        };
        assert_eq!(write_all(Duration::from_secs(60), true).await, (Ok(()), 64 * PART));
        let (told, _) = write_all(Duration::ZERO, false).await;
        assert!(told.unwrap_err().contains("reads too slowly"));
    }
}
