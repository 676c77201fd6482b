use axum::Json;
use axum::extract::{Path, State};
use axum::http::HeaderMap;
use regnant_decision::{AttributeKind, IdentityAttribute};
use regnant_records::LanguageKind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::dictionaries::LanguageTaken;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::seen;
use crate::http::short_list::Wanted;

/// What is kept of identities beside what every one has.
#[derive(Serialize, ToSchema)]
pub(crate) struct IdentityAttributeList {
    attributes: Vec<IdentityAttributeView>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// An attribute of devices, users or machines.
#[derive(Serialize, ToSchema)]
pub(crate) struct IdentityAttributeView {
    /// As it is declared: that of a device stands alone, others have `user.` or `machine.` in front.
    name: String,
    /// The fact that it is.
    fact: String,
    /// `text`, `number`, `boolean`, `address` or `texts`.
    #[serde(rename = "type")]
    kind: String,
    /// What it means, for people.
    meaning: String,
    /// Its ETag, for If-Match.
    etag: Option<String>,
}

/// An attribute to be declared, or of which something else is to be said.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewIdentityAttribute {
    /// Up to 64 small letters, digits and hyphens; `user.` or `machine.` in front where it is not
    /// one of devices.
    name: String,
    /// `text`, `number`, `boolean`, `address` or `texts`.
    #[serde(rename = "type")]
    #[schema(value_type = String)]
    kind: AttributeKind,
    #[serde(default)]
    meaning: String,
}

/// What is kept of identities, by name, a page at a time.
#[utoipa::path(get, path = "/api/v1/attributes", params(Wanted),
    responses((status = 200, body = IdentityAttributeList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn attributes(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<IdentityAttributeList>, ApiError> {
    let languages = api.administration.snapshot().languages.clone();
    let all = languages.vocabulary.table().attributes().iter().map(|one| IdentityAttributeView {
        name: one.full_name(),
        fact: one.fact(),
        kind: one.kind.word().into(),
        meaning: one.meaning.clone(),
        etag: languages.own_etag(LanguageKind::Attribute, &one.full_name()),
    });
    let texts = |one: &IdentityAttributeView| vec![one.name.clone(), one.meaning.clone()];
    let (attributes, next) = wanted.of(all, |one| one.name.clone(), texts)?;
    Ok(Json(IdentityAttributeList { attributes, next }))
}

/// Declares an attribute of devices, users or machines. The active policy goes on with it as a new edition. Its
/// type stays for as long as devices have it, or stores tell it. With If-Match only where it is still as it was read,
/// with If-None-Match where there is none.
#[utoipa::path(post, path = "/api/v1/attributes", operation_id = "declare_attribute",
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read"),
        ("If-None-Match" = Option<String>, Header, description = "`*` where there was none")),
    request_body = NewIdentityAttribute,
    responses((status = 200, body = LanguageTaken), (status = 400, body = ApiError), (status = 401, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 422, body = ApiError)))]
pub(crate) async fn declare(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(NewIdentityAttribute { name, kind, meaning }): Sent<NewIdentityAttribute>,
) -> Result<Json<LanguageTaken>, ApiError> {
    let (of, bare) = IdentityAttribute::split(&name);
    let attribute = IdentityAttribute { of, name: bare.to_owned(), kind, meaning };
    let seen = seen(&headers)?;
    let taken = blocking(move || api.administration.languages.declare(&attribute, seen.as_ref(), &by)).await?;
    Ok(Json(LanguageTaken { name: taken.name, edition: taken.edition }))
}

/// Forgets an attribute that no policy names, no device has and no store tells.
#[utoipa::path(delete, path = "/api/v1/attributes/{name}", operation_id = "remove_attribute",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 200, body = LanguageTaken), (status = 401, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<Json<LanguageTaken>, ApiError> {
    let (seen, removed) = (seen(&headers)?, name.clone());
    let work = move || api.administration.languages.remove(LanguageKind::Attribute, &removed, seen.as_ref(), &by);
    let edition = blocking(work).await?;
    Ok(Json(LanguageTaken { name, edition }))
}
