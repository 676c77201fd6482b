use axum::Json;
use axum::extract::{Path, State};
use axum::http::HeaderMap;
use regnant_base::did_you_mean;
use regnant_equipment::Dialect;
use regnant_policy::STATEMENTS;
use regnant_records::LanguageKind;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::dictionaries::{LanguageTaken, LanguageText};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::seen;
use crate::http::short_list::Wanted;
use crate::languages::Languages;

/// How a make of equipment is told what access consists of.
#[derive(Serialize, ToSchema)]
pub(crate) struct DialectView {
    name: String,
    title: String,
    /// The dialect that it takes the rest from.
    extends: Option<String>,
    /// Whether it ships with the service, so that it cannot be removed.
    ships: bool,
    /// The ETag of one of your own, for If-Match.
    etag: Option<String>,
    /// NASes that speak it.
    nases: Vec<String>,
}

/// Every dialect, those that ship first.
#[derive(Serialize, ToSchema)]
pub(crate) struct DialectList {
    dialects: Vec<DialectView>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A dialect with its ways to say each statement.
#[derive(Serialize, ToSchema)]
pub(crate) struct DialectContent {
    dialect: DialectView,
    /// How access lists travel: `nas-filter-rule`, `by-name`, `entries` or `reference`; none where
    /// they cannot.
    lists: Option<String>,
    /// How a MAC bypass may come: `pap`, `chap`, `call-check`, `eap-md5`.
    mac_bypass: Vec<String>,
    /// Whether it keeps several Class attributes, and repeats them in its reports.
    several_classes: bool,
    statements: Vec<StatementView>,
    /// The text of the file, where it is one of your own.
    text: Option<String>,
}

/// A statement in a dialect.
#[derive(Serialize, ToSchema)]
pub(crate) struct StatementView {
    keyword: String,
    /// The attributes that it goes into; `{}` stands for its value.
    attributes: Vec<AttributeValue>,
    /// Why it cannot be said, where the dialect says so.
    cannot: Option<String>,
    /// Statements without which it does nothing.
    needs: Vec<String>,
}

/// An attribute with its value.
#[derive(Serialize, ToSchema)]
pub(crate) struct AttributeValue {
    name: String,
    value: String,
}

/// What is to be shown.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct Previewed {
    /// A grant of the active policy, or several with commas between.
    grant: String,
    /// The NAS that would be told.
    nas: String,
}

/// What a NAS would be told.
#[derive(Serialize, ToSchema)]
pub(crate) struct Preview {
    nas: String,
    dialect: String,
    /// The attributes in words.
    attributes: Vec<AttributeValue>,
    /// The same, encoded, in hexadecimal; without secrets, which each reply hides anew.
    hex: String,
    /// Whether some value comes from a fact; the longest that it may be is shown.
    varies: bool,
    /// Access lists of which the NAS is told the name alone: it has to have them already.
    lists_by_name: Vec<String>,
    /// What cannot be said, where something cannot.
    cannot: Option<String>,
}

fn view(dialect: &Dialect, languages: &Languages, nases: &[(String, String)]) -> DialectView {
    let speak = nases.iter().filter(|(_, speaks)| *speaks == dialect.name).map(|(name, _)| name.clone());
    let etag = languages.own_etag(LanguageKind::Dialect, &dialect.name);
    DialectView {
        name: dialect.name.clone(),
        title: dialect.title.clone(),
        extends: dialect.extends.clone(),
        ships: etag.is_none(),
        etag,
        nases: speak.collect(),
    }
}

/// NASes by name, each with its dialect.
async fn nases(api: &Api) -> Result<Vec<(String, String)>, ApiError> {
    let administration = api.administration.clone();
    let rows = blocking(move || administration.equipment.all()).await?;
    Ok(rows.into_iter().map(|row| (row.name, row.dialect)).collect())
}

/// Dialects by name, a page at a time.
#[utoipa::path(get, path = "/api/v1/dialects", params(Wanted),
    responses((status = 200, body = DialectList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn dialects(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<DialectList>, ApiError> {
    let (languages, nases) = (api.administration.snapshot().languages.clone(), nases(&api).await?);
    let all = languages.dialects.iter().map(|one| view(one, &languages, &nases));
    let texts = |one: &DialectView| vec![one.name.clone(), one.title.clone()];
    let (dialects, next) = wanted.of(all, |one| one.name.to_lowercase(), texts)?;
    Ok(Json(DialectList { dialects, next }))
}

/// A dialect with its ways to say each statement, by its name; case does not count.
#[utoipa::path(get, path = "/api/v1/dialects/{name}", params(("name" = String, Path)),
    responses((status = 200, body = DialectContent), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn dialect(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
) -> Result<Json<DialectContent>, ApiError> {
    let (languages, nases) = (api.administration.snapshot().languages.clone(), nases(&api).await?);
    let Some(dialect) = languages.dialects.iter().find(|one| one.name.eq_ignore_ascii_case(&name)) else {
        let known = languages.dialects.iter().map(|dialect| dialect.name.as_str());
        let hint = did_you_mean(&name, known).map(|known| format!(" Did you mean {known}?")).unwrap_or_default();
        return Err(ApiError::not_found(format!("There is no such dialect.{hint}")));
    };
    let needs = |keyword: &str| {
        let needed = dialect.needs().filter(|(known, _)| *known == keyword);
        needed.flat_map(|(_, others)| others.iter().map(|other| (*other).to_owned())).collect()
    };
    let statements = STATEMENTS.iter().filter(|kind| !kind.names_attribute()).map(|kind| StatementView {
        keyword: kind.keyword.into(),
        attributes: dialect
            .attributes_of(kind)
            .into_iter()
            .map(|(name, value)| AttributeValue { name, value })
            .collect(),
        cannot: dialect.cannot(kind).map(str::to_owned),
        needs: needs(kind.keyword),
    });
    Ok(Json(DialectContent {
        dialect: view(dialect, &languages, &nases),
        lists: dialect.carries_lists().map(str::to_owned),
        mac_bypass: dialect.mac_bypass().map(str::to_owned).collect(),
        several_classes: dialect.several_classes,
        statements: statements.collect(),
        text: languages.own_file(LanguageKind::Dialect, &dialect.name).map(|row| row.text.clone()),
    }))
}

/// What a NAS would be told of a grant of the active policy.
#[utoipa::path(get, path = "/api/v1/dialects/preview", params(Previewed),
    responses((status = 200, body = Preview), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn preview(
    State(api): State<Api>,
    _: May<Look>,
    Asked(Previewed { grant, nas }): Asked<Previewed>,
) -> Result<Json<Preview>, ApiError> {
    let edition = api.administration.snapshot().active.edition.clone();
    let Some((nas, dialect)) = nases(&api).await?.into_iter().find(|(name, _)| name.eq_ignore_ascii_case(&nas)) else {
        return Err(ApiError::not_found(format!("There is no NAS `{nas}`.")));
    };
    let names: Vec<&str> = grant.split(',').map(str::trim).collect();
    let preview = edition.preview(&dialect, &names).map_err(ApiError::not_found)?;
    let hex = preview.attributes.iter().map(|byte| format!("{byte:02x}")).collect();
    let shown = preview.shown.into_iter().map(|(name, value)| AttributeValue { name, value });
    Ok(Json(Preview {
        nas,
        dialect,
        attributes: shown.collect(),
        hex,
        varies: preview.varies,
        lists_by_name: preview.lists_by_name,
        cannot: preview.cannot,
    }))
}

/// Adds a dialect of your own, or puts it in the place of the one of its name. The active
/// policy goes on with it as a new edition; where some grant could not be told in it to a
/// NAS that may get it, nothing is changed. With If-Match only where the one of its name is
/// still as it was read, with If-None-Match where there is none.
#[utoipa::path(post, path = "/api/v1/dialects", operation_id = "add_dialect",
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
    let work = move || api.administration.languages.add(LanguageKind::Dialect, (&file, &text), seen.as_ref(), &by);
    let taken = blocking(work).await?;
    Ok(Json(LanguageTaken { name: taken.name, edition: taken.edition }))
}

/// Removes a dialect of your own, where nothing needs it.
#[utoipa::path(delete, path = "/api/v1/dialects/{name}", operation_id = "remove_dialect",
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
    let work = move || api.administration.languages.remove(LanguageKind::Dialect, &removed, seen.as_ref(), &by);
    let edition = blocking(work).await?;
    Ok(Json(LanguageTaken { name, edition }))
}
