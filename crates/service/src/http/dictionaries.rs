use axum::Json;
use axum::extract::{Path, State};
use axum::http::HeaderMap;
use regnant_base::did_you_mean;
use regnant_radius::{Definition, DictionaryOrigin};
use regnant_records::LanguageKind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::seen;
use crate::http::short_list::Wanted;
use crate::languages::Languages;

/// A file of names and types of attributes.
#[derive(Serialize, ToSchema)]
pub(crate) struct DictionaryView {
    /// What it is known by: an RFC, or a vendor.
    name: String,
    /// What it is about.
    title: String,
    /// The vendor's enterprise number; none where it is of an RFC.
    vendor: Option<u32>,
    /// Whether it ships with the service, so that it cannot be removed.
    ships: bool,
    /// The ETag of one of your own, for If-Match.
    etag: Option<String>,
    /// How many attributes it has.
    attributes: usize,
}

/// Every dictionary, those that ship first.
#[derive(Serialize, ToSchema)]
pub(crate) struct DictionaryList {
    dictionaries: Vec<DictionaryView>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A dictionary with its attributes.
#[derive(Serialize, ToSchema)]
pub(crate) struct DictionaryContent {
    dictionary: DictionaryView,
    attributes: Vec<AttributeView>,
}

/// An attribute.
#[derive(Serialize, ToSchema)]
pub(crate) struct AttributeView {
    /// Its number, with those that lead to it, as RFC 6929 section 2.7 writes them.
    number: String,
    name: String,
    /// Other names for it.
    also: Vec<String>,
    /// How its value is encoded, in the words of RFC 8044.
    #[serde(rename = "type")]
    kind: String,
    /// Whether its value begins with a tag.
    tagged: bool,
    /// How its value is hidden, where it is: `user-password` or `tunnel-password`.
    hidden: Option<String>,
    /// Whether it is never shown, and no fact.
    secret: bool,
    /// Whether the service makes it itself.
    reserved: bool,
    /// How many an Access-Accept may carry: `0`, `0-1` or `0+`.
    accept: String,
    /// Where it is defined.
    source: String,
    /// The names of its numbers.
    values: Vec<NamedNumber>,
    /// The fact that it is in policies, where it is one.
    fact: Option<String>,
}

/// A number and its name.
#[derive(Serialize, ToSchema)]
pub(crate) struct NamedNumber {
    name: String,
    number: u32,
}

/// A dictionary to be added.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct LanguageText {
    /// The name of the file, for mistakes in it.
    pub(crate) file: String,
    /// What it says, in TOML.
    pub(crate) text: String,
}

/// A file that was taken.
#[derive(Serialize, ToSchema)]
pub(crate) struct LanguageTaken {
    /// What it is known by.
    pub(crate) name: String,
    /// The edition that the active policy is now.
    pub(crate) edition: u32,
}

impl DictionaryView {
    fn new(origin: &DictionaryOrigin, languages: &Languages) -> Self {
        let definitions = languages.vocabulary.dictionary().definitions();
        Self {
            name: origin.name.clone(),
            title: origin.title.clone(),
            vendor: origin.vendor,
            ships: ships(origin),
            etag: languages.own_etag(LanguageKind::Dictionary, &origin.name),
            attributes: definitions.iter().filter(|one| one.place.0 == origin.file).count(),
        }
    }
}

fn ships(origin: &DictionaryOrigin) -> bool {
    regnant_radius::Dictionary::built_in_files().iter().any(|(file, _)| *file == &*origin.file)
}

impl AttributeView {
    fn new(one: &Definition, languages: &Languages) -> Self {
        let fact = languages.vocabulary.schema().find(&format!("request.{}", one.name));
        Self {
            number: one.id.to_string(),
            name: one.name.clone(),
            also: one.also.clone(),
            kind: one.kind.word().into(),
            tagged: one.tagged,
            hidden: one.hidden.map(|hidden| hidden.word().into()),
            secret: one.secret,
            reserved: one.reserved,
            accept: one.accept.word().into(),
            source: one.source.clone(),
            values: one.values().map(|(name, number)| NamedNumber { name: name.into(), number }).collect(),
            fact: fact.map(|id| languages.vocabulary.schema().definition(id).name.clone()),
        }
    }
}

/// Dictionaries, those that ship first, a page at a time.
#[utoipa::path(get, path = "/api/v1/dictionaries", params(Wanted),
    responses((status = 200, body = DictionaryList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn dictionaries(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<DictionaryList>, ApiError> {
    let languages = api.administration.snapshot().languages.clone();
    let files = languages.vocabulary.dictionary().files();
    let all = files.iter().map(|origin| DictionaryView::new(origin, &languages));
    let key = |one: &DictionaryView| {
        format!("{}/{}/{}", if one.ships { "ships" } else { "yours" }, one.name.to_lowercase(), one.title)
    };
    let (dictionaries, next) = wanted.of(all, key, |one| vec![one.name.clone(), one.title.clone()])?;
    Ok(Json(DictionaryList { dictionaries, next }))
}

/// A dictionary with its attributes, by its name; case does not count.
#[utoipa::path(get, path = "/api/v1/dictionaries/{name}", params(("name" = String, Path)),
    responses((status = 200, body = DictionaryContent), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn dictionary(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
) -> Result<Json<DictionaryContent>, ApiError> {
    let languages = api.administration.snapshot().languages.clone();
    let dictionary = languages.vocabulary.dictionary();
    let wanted: Vec<_> = dictionary.files().iter().filter(|origin| origin.name.eq_ignore_ascii_case(&name)).collect();
    let Some(first) = wanted.first() else {
        let known = dictionary.files().iter().map(|origin| origin.name.as_str());
        let hint = did_you_mean(&name, known).map(|known| format!(" Did you mean {known}?")).unwrap_or_default();
        return Err(ApiError::not_found(format!("There is no such dictionary.{hint}")));
    };
    let of_it = dictionary.definitions().iter().filter(|one| wanted.iter().any(|origin| one.place.0 == origin.file));
    let attributes = of_it.map(|one| AttributeView::new(one, &languages)).collect();
    Ok(Json(DictionaryContent { dictionary: DictionaryView::new(first, &languages), attributes }))
}

/// Adds a dictionary of your own, or puts it in the place of the one of its vendor. The
/// active policy goes on with it as a new edition; what does not go together with what
/// there is changes nothing. With If-Match only where that is still as it was read, with
/// If-None-Match where there is none.
#[utoipa::path(post, path = "/api/v1/dictionaries", operation_id = "add_dictionary",
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read"),
        ("If-None-Match" = Option<String>, Header, description = "`*` where there was none")),
    request_body = LanguageText,
    responses((status = 200, body = LanguageTaken), (status = 400, body = ApiError), (status = 412, body = ApiError),
        (status = 422, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(LanguageText { file, text }): Sent<LanguageText>,
) -> Result<Json<LanguageTaken>, ApiError> {
    let seen = seen(&headers)?;
    let work = move || api.administration.languages.add(LanguageKind::Dictionary, (&file, &text), seen.as_ref(), &by);
    let taken = blocking(work).await?;
    Ok(Json(LanguageTaken { name: taken.name, edition: taken.edition }))
}

/// Removes a dictionary of your own, where nothing needs it.
#[utoipa::path(delete, path = "/api/v1/dictionaries/{name}", operation_id = "remove_dictionary",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 200, body = LanguageTaken), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 412, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<Json<LanguageTaken>, ApiError> {
    let (seen, removed) = (seen(&headers)?, name.clone());
    let work = move || api.administration.languages.remove(LanguageKind::Dictionary, &removed, seen.as_ref(), &by);
    let edition = blocking(work).await?;
    Ok(Json(LanguageTaken { name, edition }))
}
