use axum::Json;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use regnant_journal::JournalError;
use regnant_records::{Conflict, RecordsError, Refusal};
use serde::Serialize;
use tokio::task;
use utoipa::ToSchema;

use crate::administration::AdministrationError;
use crate::administration::report::CheckReport;

/// Why a call was not done, as JSON.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct ApiError {
    #[serde(skip)]
    status: StatusCode,
    /// What happened and what to do, as a sentence.
    error: String,
    /// Whether the code of a second factor is wanted too.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    needs_code: bool,
    /// The stores whose secret is wanted anew, where that is why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    wants_secrets: Vec<String>,
    /// What the check found, where a policy was refused.
    #[serde(skip_serializing_if = "Option::is_none")]
    report: Option<Box<CheckReport>>,
}

impl ApiError {
    fn new(status: StatusCode, error: impl Into<String>) -> Self {
        Self { status, error: error.into(), needs_code: false, wants_secrets: Vec::new(), report: None }
    }

    pub(crate) fn not_found(error: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, error)
    }

    pub(crate) fn bad(error: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, error)
    }

    pub(crate) fn not_signed_in() -> Self {
        Self::new(StatusCode::UNAUTHORIZED, "Sign in first, or send a token.")
    }

    pub(crate) fn needs_code() -> Self {
        let error = "Send the code of your second factor too, or a recovery code.";
        Self { needs_code: true, ..Self::forbidden(error) }
    }

    pub(crate) fn forbidden(error: impl Into<String>) -> Self {
        Self::new(StatusCode::FORBIDDEN, error)
    }

    pub(crate) fn too_many(error: impl Into<String>) -> Self {
        Self::new(StatusCode::TOO_MANY_REQUESTS, error)
    }

    pub(crate) fn too_large(error: impl Into<String>) -> Self {
        Self::new(StatusCode::PAYLOAD_TOO_LARGE, error)
    }

    pub(crate) fn no_room(error: impl Into<String>) -> Self {
        Self::new(StatusCode::INSUFFICIENT_STORAGE, error)
    }

    pub(crate) fn timeout(error: impl Into<String>) -> Self {
        Self::new(StatusCode::REQUEST_TIMEOUT, error)
    }

    pub(crate) fn unsupported(error: impl Into<String>) -> Self {
        Self::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, error)
    }

    pub(crate) fn unprocessable(error: impl Into<String>) -> Self {
        Self::new(StatusCode::UNPROCESSABLE_ENTITY, error)
    }

    pub(crate) fn wrong_verb() -> Self {
        Self::new(StatusCode::METHOD_NOT_ALLOWED, "This address does not take this method; see /api/v1/openapi.json.")
    }

    pub(crate) fn ours(error: impl std::fmt::Display) -> Self {
        tracing::error!("a call of the API failed: {error}");
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, sentence(error))
    }
}

/// Our errors are lower-case prose; people get sentences.
pub(crate) fn sentence(error: impl std::fmt::Display) -> String {
    let text = error.to_string();
    let mut chars = text.chars();
    let first: String = chars.next().map(|c| c.to_uppercase().collect()).unwrap_or_default();
    let end = if text.ends_with(['.', '!', '?', '\n']) { "" } else { "." };
    format!("{first}{}{end}", chars.as_str())
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        (self.status, Json(self)).into_response()
    }
}

impl From<RecordsError> for ApiError {
    fn from(error: RecordsError) -> Self {
        match error {
            // The edition that If-Match names is not the active one any more.
            RecordsError::Refused(Refusal::Conflict(Conflict::Edition { .. })) => {
                Self::new(StatusCode::PRECONDITION_FAILED, sentence(error))
            }
            RecordsError::Refused(Refusal::Conflict(_)) => Self::new(StatusCode::CONFLICT, sentence(error)),
            RecordsError::Refused(Refusal::NotFound(_)) => Self::not_found(sentence(error)),
            RecordsError::Refused(Refusal::Invalid(_)) => Self::unprocessable(sentence(error)),
            error => Self::ours(error),
        }
    }
}

impl From<JournalError> for ApiError {
    fn from(error: JournalError) -> Self {
        match error {
            JournalError::Late => Self::bad(sentence(error)),
            error => Self::ours(error),
        }
    }
}

impl From<AdministrationError> for ApiError {
    fn from(error: AdministrationError) -> Self {
        let text = sentence(&error);
        match error {
            AdministrationError::Unfit(report) | AdministrationError::NotAccepted(report) => {
                Self { report: Some(report), ..Self::unprocessable(text) }
            }
            AdministrationError::Inventory(_)
            | AdministrationError::Unusable(_)
            | AdministrationError::Language(_)
            | AdministrationError::Attribute(_)
            | AdministrationError::FileTooLong { .. }
            | AdministrationError::SecretName
            | AdministrationError::SecretLength { .. }
            | AdministrationError::Certificate(_)
            | AdministrationError::Profile(_)
            | AdministrationError::Name
            | AdministrationError::Expiry(_)
            | AdministrationError::Directory(_)
            | AdministrationError::OtherStore(_)
            | AdministrationError::Http(_)
            | AdministrationError::Told(_)
            | AdministrationError::NoSecret
            | AdministrationError::Domain(_)
            | AdministrationError::LongPolicy
            | AdministrationError::DraftPath(_)
            | AdministrationError::SecretAnew
            | AdministrationError::NobodysSecret
            | AdministrationError::NoPassword(_)
            | AdministrationError::CommonName(_)
            | AdministrationError::WeakPassword(_)
            | AdministrationError::TokenName
            | AdministrationError::Broken(_)
            | AdministrationError::LongLine(..)
            | AdministrationError::Csv(_)
            | AdministrationError::TooManyLines(_)
            | AdministrationError::HowMany { .. }
            | AdministrationError::Password => Self::bad(text),
            AdministrationError::InUse { .. }
            | AdministrationError::SecretInUse { .. }
            | AdministrationError::NotFirst
            | AdministrationError::TooManyTokens(_)
            | AdministrationError::RecordInUse { .. }
            | AdministrationError::CommonNameInUse { .. }
            | AdministrationError::CommonNameTaken { .. }
            | AdministrationError::SiteHeld { .. }
            | AdministrationError::InService { .. } => Self::new(StatusCode::CONFLICT, text),
            AdministrationError::EngineersOnly { .. }
            | AdministrationError::BarredByEngineer { .. }
            | AdministrationError::NoLonger => Self::forbidden(text),
            AdministrationError::SecretsAnew { stores, .. } => {
                Self { wants_secrets: stores, ..Self::new(StatusCode::CONFLICT, text) }
            }
            AdministrationError::NotFound(_)
            | AdministrationError::NoSuchEdition(_)
            | AdministrationError::NoDraft(_)
            | AdministrationError::NoCommonName { .. }
            | AdministrationError::UnknownDevices(_) => Self::not_found(text),
            AdministrationError::Changed(_) | AdministrationError::DraftChanged => {
                Self::new(StatusCode::PRECONDITION_FAILED, text)
            }
            AdministrationError::Records(error) => error.into(),
            AdministrationError::ImportedInPart { why, .. } => Self { error: text, ..Self::from(*why) },
            AdministrationError::NoEdition | AdministrationError::Spool(_) | AdministrationError::Stopped => {
                Self::ours(text)
            }
        }
    }
}

/// Runs what reads or writes records away from the tasks that serve.
pub(crate) async fn blocking<T, E>(work: impl FnOnce() -> Result<T, E> + Send + 'static) -> Result<T, ApiError>
where
    T: Send + 'static,
    E: Into<ApiError> + Send + 'static,
{
    match task::spawn_blocking(work).await {
        Ok(done) => done.map_err(Into::into),
        Err(error) => Err(ApiError::ours(error)),
    }
}
