use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use regnant_base::SecretText;
use regnant_journal::{JournalError, NewestKind};
use regnant_records::{PersonEntry, PersonRow, RecordName};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::entries;
use crate::http::Api;
use crate::http::callers::{Change, Look, May, SetPasswords, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::{etag, holds, limit, page, seen, shown, stays_in, words};
use crate::http::view::EntryView;

/// A person; no password is ever shown.
#[derive(Serialize, ToSchema)]
pub(crate) struct PersonView {
    store: String,
    name: String,
    groups: Vec<String>,
    disabled: bool,
    /// When the account ends; never where there is none.
    expires: Option<String>,
    /// Whether MS-CHAP methods may prove them.
    mschap: bool,
    /// Whether the password can be had back, so that CHAP works.
    recoverable_password: bool,
    /// Whether the helpdesk must leave the password alone.
    engineers_only: bool,
    /// Whether an engineer says that they are ordinary, so that the helpdesk may set their password.
    ordinary: bool,
    note: String,
}

/// People by store and name.
#[derive(Serialize, ToSchema)]
pub(crate) struct PersonList {
    people: Vec<PersonView>,
    /// How many there are, whatever the filter says.
    all: usize,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A person with what is known of them.
#[derive(Serialize, ToSchema)]
pub(crate) struct PersonDetail {
    person: PersonView,
    /// The newest entry of the journal that is about this name; none where there is none.
    heard: Option<EntryView>,
    /// Where the active policy names them.
    named_by: Vec<String>,
    /// Why the helpdesk may not set their password, where it may not.
    engineers_only: Option<String>,
}

/// A person as they shall be.
#[derive(Clone, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewPerson {
    store: String,
    name: String,
    /// A new one needs it; left out, another keeps its own.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    #[serde(default)]
    groups: Vec<String>,
    #[serde(default)]
    disabled: bool,
    #[serde(default)]
    expires: Option<String>,
    #[serde(default)]
    mschap: bool,
    #[serde(default)]
    recoverable_password: bool,
    #[serde(default)]
    engineers_only: bool,
    #[serde(default)]
    ordinary: bool,
    #[serde(default)]
    note: String,
}

/// What of a person shall be otherwise; what is left out stays.
#[derive(Clone, Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PersonPatch {
    name: Option<String>,
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    groups: Option<Vec<String>>,
    disabled: Option<bool>,
    /// Empty is never.
    expires: Option<String>,
    mschap: Option<bool>,
    recoverable_password: Option<bool>,
    engineers_only: Option<bool>,
    ordinary: Option<bool>,
    note: Option<String>,
}

/// A new password for somebody who forgot theirs.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewPassword {
    #[schema(value_type = String)]
    password: SecretText,
}

/// Which people are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedPeople {
    /// Only those in whose name, store, groups or note every one of these words stands.
    q: Option<String>,
    /// Only those of this group.
    group: Option<String>,
    /// Only those after this one: `next` of the page before.
    after: Option<String>,
    /// At most this many, 1 to 5000; 500 if not said.
    limit: Option<usize>,
}

impl From<PersonRow> for PersonView {
    fn from(row: PersonRow) -> Self {
        Self {
            store: row.store,
            name: row.name,
            groups: row.groups,
            disabled: row.disabled,
            expires: shown(row.expires),
            mschap: row.nt_hash.is_some(),
            recoverable_password: row.recoverable.is_some(),
            engineers_only: row.engineers_only,
            ordinary: row.ordinary,
            note: row.note,
        }
    }
}

impl From<NewPerson> for PersonEntry {
    fn from(new: NewPerson) -> Self {
        Self {
            store: new.store,
            name: new.name,
            password: new.password,
            password_hash: None,
            nt_hash: None,
            recoverable_password: new.recoverable_password,
            mschap: new.mschap,
            groups: new.groups,
            disabled: new.disabled,
            expires: new.expires,
            engineers_only: new.engineers_only,
            ordinary: new.ordinary,
            note: new.note,
        }
    }
}

impl PersonPatch {
    fn on(self, row: &PersonRow) -> PersonEntry {
        let before = entries::person(row);
        PersonEntry {
            store: before.store,
            name: self.name.unwrap_or(before.name),
            password: self.password,
            password_hash: None,
            nt_hash: None,
            recoverable_password: self.recoverable_password.unwrap_or(before.recoverable_password),
            mschap: self.mschap.unwrap_or(before.mschap),
            groups: self.groups.unwrap_or(before.groups),
            disabled: self.disabled.unwrap_or(before.disabled),
            expires: self.expires.map_or(before.expires, |at| Some(at).filter(|at| !at.is_empty())),
            engineers_only: self.engineers_only.unwrap_or(before.engineers_only),
            ordinary: self.ordinary.unwrap_or(before.ordinary),
            note: self.note.unwrap_or(before.note),
        }
    }
}

fn key(store: &str, name: &str) -> String {
    format!("{store}/{}", name.to_lowercase())
}

/// People by store and name, a page at a time.
#[utoipa::path(get, path = "/api/v1/people", params(WantedPeople),
    responses((status = 200, body = PersonList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn people(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<WantedPeople>,
) -> Result<Json<PersonList>, ApiError> {
    let (limit, words) = (limit(wanted.limit)?, words(wanted.q.as_ref()));
    let (after, group) = (wanted.after, wanted.group.map(|group| group.to_lowercase()));
    let work = move || {
        let after = after.as_deref().and_then(|after| after.split_once('/'));
        if words.is_empty() && group.is_none() {
            return api.administration.identities.people_after(after, limit + 1);
        }
        let rows = api.administration.identities.people()?;
        let fits = |row: &PersonRow| {
            after.is_none_or(|(store, name)| (row.store.as_str(), row.name.to_lowercase().as_str()) > (store, name))
                && group.as_ref().is_none_or(|group| row.groups.iter().any(|known| known.to_lowercase() == *group))
                && holds(&words, [&row.name, &row.store, &row.note].into_iter().chain(&row.groups))
        };
        // They come by store and name.
        Ok((rows.len(), rows.into_iter().filter(fits).take(limit + 1).collect()))
    };
    let (all, found) = blocking(work).await?;
    let (found, next) = page(found, limit, |row| key(&row.store, &row.name));
    Ok(Json(PersonList { people: found.into_iter().map(Into::into).collect(), all, next }))
}

/// A person, with what is known of them. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/people/{store}/{name}", params(("store" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = PersonDetail), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn person(
    State(api): State<Api>,
    _: May<Look>,
    Path((store, name)): Path<(String, String)>,
) -> Result<Response, ApiError> {
    let reading = api.clone();
    let row = blocking(move || reading.administration.identities.person(&store, &name)).await?;
    let (tag, name, reading) = (etag(&row), row.name.clone(), api.clone());
    let heard = blocking(move || {
        let newest = reading.reader.newest(NewestKind::Person, &name.to_lowercase())?;
        let entry = newest.map(|id| reading.reader.entry(&id.to_string())).transpose()?.flatten();
        Ok::<_, JournalError>(entry.map(|entry| EntryView::new(&entry, &reading.administration)))
    });
    let heard = heard.await?;
    let identities = &api.administration.identities;
    let named_by = identities.named_by(&RecordName::Person { store: row.store.clone(), name: row.name.clone() });
    let engineers_only = identities.engineers_only(&row);
    Ok((tag, Json(PersonDetail { person: row.into(), heard, named_by, engineers_only })).into_response())
}

/// Adds a person.
#[utoipa::path(post, path = "/api/v1/people", operation_id = "add_person", request_body = NewPerson,
    responses((status = 201, body = PersonView), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(new): Sent<NewPerson>,
) -> Result<Response, ApiError> {
    let row = blocking(move || api.administration.identities.add_person(new.into(), &by)).await?;
    Ok((StatusCode::CREATED, etag(&row), Json(PersonView::from(row))).into_response())
}

/// Puts a person in the place of one. With If-Match only where they are still as it was read.
#[utoipa::path(put, path = "/api/v1/people/{store}/{name}", operation_id = "replace_person",
    params(("store" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = NewPerson,
    responses((status = 200, body = PersonView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn replace(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
    headers: HeaderMap,
    Sent(form): Sent<NewPerson>,
) -> Result<Response, ApiError> {
    stays_in(&store, &form.store)?;
    let seen = seen(&headers)?;
    let work = move || {
        api.administration.identities.change_person((&store, &name), seen.as_ref(), |_| form.clone().into(), &by)
    };
    let row = blocking(work).await?;
    Ok((etag(&row), Json(PersonView::from(row))).into_response())
}

/// Changes some of a person. With If-Match only where they are still as they were read.
#[utoipa::path(patch, path = "/api/v1/people/{store}/{name}", operation_id = "change_person",
    params(("store" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = PersonPatch,
    responses((status = 200, body = PersonView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn change(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
    headers: HeaderMap,
    Sent(patch): Sent<PersonPatch>,
) -> Result<Response, ApiError> {
    let seen = seen(&headers)?;
    let work = move || {
        api.administration.identities.change_person((&store, &name), seen.as_ref(), |row| patch.clone().on(row), &by)
    };
    let row = blocking(work).await?;
    Ok((etag(&row), Json(PersonView::from(row))).into_response())
}

/// Removes a person whom the active policy does not name.
#[utoipa::path(delete, path = "/api/v1/people/{store}/{name}", operation_id = "remove_person",
    params(("store" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    let record = RecordName::Person { store, name };
    blocking(move || api.administration.identities.remove(record, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Sets a new password for somebody who forgot theirs. Whom a rule could make an
/// administrator of equipment, or who is marked engineers only, is for engineers.
#[utoipa::path(put, path = "/api/v1/people/{store}/{name}/password", operation_id = "set_person_password",
    params(("store" = String, Path), ("name" = String, Path)), request_body = NewPassword,
    responses((status = 204), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn set_password(
    State(api): State<Api>,
    May { signed, .. }: May<SetPasswords>,
    Path((store, name)): Path<(String, String)>,
    Sent(new): Sent<NewPassword>,
) -> Result<StatusCode, ApiError> {
    let work = move || {
        let identities = &api.administration.identities;
        match signed.may(<Change as crate::http::callers::Permission>::ROLES) {
            true => {
                let set =
                    |row: &PersonRow| PersonEntry { password: Some(new.password.clone()), ..entries::person(row) };
                identities.change_person((&store, &name), None, set, &signed.author).map(drop)
            }
            false => identities.help_person(&store, &name, &new.password, &signed.author),
        }
    };
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}
