use axum::Json;
use axum::extract::{Path, State};
use regnant_decision::{AttributeKind, DeviceAttribute};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::dictionaries::LanguageTaken;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::short_list::Wanted;

/// What people keep of devices beside what every device has.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeviceAttributeList {
    attributes: Vec<DeviceAttributeView>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// An attribute of devices: the fact `device.NAME`.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeviceAttributeView {
    name: String,
    /// `text`, `number`, `boolean`, `address` or `texts`.
    #[serde(rename = "type")]
    kind: String,
    /// What it means, for people.
    meaning: String,
}

/// An attribute to be declared, or of which something else is to be said.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewDeviceAttribute {
    /// Up to 64 small letters, digits and hyphens.
    name: String,
    /// `text`, `number`, `boolean`, `address` or `texts`.
    #[serde(rename = "type")]
    #[schema(value_type = String)]
    kind: AttributeKind,
    #[serde(default)]
    meaning: String,
}

/// What people keep of devices, by name, a page at a time.
#[utoipa::path(get, path = "/api/v1/device-attributes", params(Wanted),
    responses((status = 200, body = DeviceAttributeList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn attributes(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<DeviceAttributeList>, ApiError> {
    let languages = api.administration.snapshot().languages.clone();
    let all = languages.vocabulary.table().device_attributes().iter().map(|one| DeviceAttributeView {
        name: one.name.clone(),
        kind: one.kind.word().into(),
        meaning: one.meaning.clone(),
    });
    let texts = |one: &DeviceAttributeView| vec![one.name.clone(), one.meaning.clone()];
    let (attributes, next) = wanted.of(all, |one| one.name.clone(), texts)?;
    Ok(Json(DeviceAttributeList { attributes, next }))
}

/// Declares an attribute of devices. The active policy goes on with it as a new edition. Its
/// type stays for as long as devices have it.
#[utoipa::path(post, path = "/api/v1/device-attributes", operation_id = "declare_device_attribute",
    request_body = NewDeviceAttribute,
    responses((status = 200, body = LanguageTaken), (status = 400, body = ApiError), (status = 401, body = ApiError),
        (status = 409, body = ApiError), (status = 422, body = ApiError)))]
pub(crate) async fn declare(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(NewDeviceAttribute { name, kind, meaning }): Sent<NewDeviceAttribute>,
) -> Result<Json<LanguageTaken>, ApiError> {
    let attribute = DeviceAttribute { name, kind, meaning };
    let taken = blocking(move || api.administration.languages.declare(&attribute, &by)).await?;
    Ok(Json(LanguageTaken { name: taken.name, edition: taken.edition }))
}

/// Forgets an attribute that no policy names and no device has.
#[utoipa::path(delete, path = "/api/v1/device-attributes/{name}", operation_id = "remove_device_attribute",
    params(("name" = String, Path)),
    responses((status = 200, body = LanguageTaken), (status = 401, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<Json<LanguageTaken>, ApiError> {
    let removed = name.clone();
    let edition = blocking(move || api.administration.languages.remove_attribute(&removed, &by)).await?;
    Ok(Json(LanguageTaken { name, edition }))
}
