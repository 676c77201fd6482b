//! Extractors whose errors are the documented JSON too.

use axum::Json;
use axum::extract::rejection::{JsonRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, OptionalFromRequest, Query, Request};
use axum::http::header::CONTENT_TYPE;
use axum::http::request::Parts;
use serde::de::DeserializeOwned;

use crate::http::Api;
use crate::http::error::ApiError;

/// A body in JSON.
pub(crate) struct Sent<T>(pub(crate) T);

impl<T: DeserializeOwned> FromRequest<Api> for Sent<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, api: &Api) -> Result<Self, ApiError> {
        match <Json<T> as FromRequest<Api>>::from_request(request, api).await {
            Ok(Json(value)) => Ok(Self(value)),
            Err(rejection) => Err(match &rejection {
                JsonRejection::JsonDataError(_) => ApiError::unprocessable(rejection.body_text()),
                JsonRejection::MissingJsonContentType(_) => ApiError::unsupported(rejection.body_text()),
                _ => ApiError::bad(rejection.body_text()),
            }),
        }
    }
}

/// A body in JSON, or none.
impl<T: DeserializeOwned> OptionalFromRequest<Api> for Sent<T> {
    type Rejection = ApiError;

    async fn from_request(request: Request, api: &Api) -> Result<Option<Self>, ApiError> {
        match request.headers().contains_key(CONTENT_TYPE) {
            true => <Self as FromRequest<Api>>::from_request(request, api).await.map(Some),
            false => Ok(None),
        }
    }
}

/// The part of the address after its `?`.
pub(crate) struct Asked<T>(pub(crate) T);

impl<T: DeserializeOwned> FromRequestParts<Api> for Asked<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, api: &Api) -> Result<Self, ApiError> {
        let asked = Query::<T>::from_request_parts(parts, api).await;
        asked.map(|Query(value)| Self(value)).map_err(|rejection: QueryRejection| ApiError::bad(rejection.body_text()))
    }
}
