use std::time::Duration;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use jiff::Timestamp;
use regnant_base::SecretText;
use regnant_decision::NasKind;
use regnant_equipment::Edition;
use regnant_journal::{JournalError, NewestKind};
use regnant_records::{Addresses, Author, NasEntry, NasRow};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::{Administration, entries};
use crate::clock::{iso, now_ms};
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::hours::{HourView, hours};
use crate::http::record::{etag, holds, limit, page, seen, words};
use crate::http::view::EntryView;

/// A NAS; its secret is never shown.
#[derive(Serialize, ToSchema)]
pub(crate) struct NasView {
    name: String,
    /// Its addresses and blocks.
    addresses: Vec<String>,
    /// `switch`, `controller`, `access-point`, `firewall`, `router`, `vpn`, `manager`,
    /// `server` or `other`.
    kind: String,
    site: String,
    tags: Vec<String>,
    note: String,
    dialect: String,
    /// Whether its requests must carry Message-Authenticator; false is a risk.
    require_message_authenticator: bool,
    /// Whether replies to logins of administrators carry the Class by which accounting finds
    /// their decision too.
    class_at_login: bool,
    /// Whether a secret of before counts beside the new one, until the NAS uses the new one.
    secret_change: Option<SecretChange>,
    /// Since when all its requests for access carry Message-Authenticator; none where the last
    /// did not, or none came.
    signed_since: Option<String>,
    /// When a request for access came last that did not, to within a minute.
    unsigned_at: Option<String>,
    /// What the active policy could grant to it and its dialect cannot say; requests that
    /// would get it are refused.
    lacks: Vec<String>,
}

/// A change of a secret that the NAS has not followed yet.
#[derive(Serialize, ToSchema)]
pub(crate) struct SecretChange {
    /// When the new one was set.
    since: String,
    /// Until when the one before counts too.
    until: String,
    /// Whether requests without Message-Authenticator are heard: they count under the secret of
    /// before until somebody ends that by hand, for they do not tell.
    unsigned: bool,
}

/// A secret to be set.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewNasSecret {
    /// The secret; left out, one is made.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    secret: Option<SecretText>,
    /// For how many hours the one until now counts too, at most 720; 24 if not said, 0 for not
    /// at all. It ends before where the NAS uses the new one.
    #[serde(default = "a_day")]
    grace_hours: u32,
}

/// NASes by name.
#[derive(Serialize, ToSchema)]
pub(crate) struct NasList {
    nases: Vec<NasView>,
    /// How many there are, whatever the filter says.
    all: usize,
    /// The name after which the next page begins; none at the end.
    next: Option<String>,
}

/// A NAS with what is known of it.
#[derive(Serialize, ToSchema)]
pub(crate) struct NasDetail {
    nas: NasView,
    /// The newest entry of the journal that is its; none where it was never heard.
    heard: Option<EntryView>,
    /// What was decided for it in each of the last 24 hours, the earliest first.
    hours: Vec<HourView>,
    /// Where the active policy names it.
    named_by: Vec<String>,
    /// Entries that would take its packets if it were not there.
    instead: Vec<String>,
}

/// A NAS that was added, or has another secret.
#[derive(Serialize, ToSchema)]
pub(crate) struct NasAdded {
    nas: NasView,
    /// The secret that was made for it, shown this once; none where one was given.
    #[schema(value_type = Option<String>)]
    secret: Option<SecretText>,
}

/// The secret that is shared with a NAS.
#[derive(Serialize, ToSchema)]
pub(crate) struct NasSecret {
    #[schema(value_type = String)]
    secret: SecretText,
}

/// A NAS as it shall be.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NasForm {
    name: String,
    /// Its addresses and blocks, one at least.
    addresses: Vec<String>,
    /// `switch`, `controller`, `access-point`, `firewall`, `router`, `vpn`, `manager`,
    /// `server` or `other`.
    #[schema(value_type = String)]
    kind: NasKind,
    site: String,
    #[serde(default)]
    tags: Vec<String>,
    #[serde(default)]
    note: String,
    #[serde(default = "standard")]
    dialect: String,
    /// The shared secret; left out, one is made for a new NAS and another keeps its own.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    secret: Option<SecretText>,
    /// True if not said.
    #[serde(default = "yes")]
    require_message_authenticator: bool,
    /// False if not said.
    #[serde(default)]
    class_at_login: bool,
}

/// What of a NAS shall be otherwise; what is left out stays.
#[derive(Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NasPatch {
    name: Option<String>,
    addresses: Option<Vec<String>>,
    #[schema(value_type = Option<String>)]
    kind: Option<NasKind>,
    site: Option<String>,
    tags: Option<Vec<String>>,
    note: Option<String>,
    dialect: Option<String>,
    #[schema(value_type = Option<String>)]
    secret: Option<SecretText>,
    require_message_authenticator: Option<bool>,
    class_at_login: Option<bool>,
}

/// Which NASes are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedNases {
    /// Only those in which every one of these words stands: name, addresses, kind, site,
    /// tags, note or dialect.
    q: Option<String>,
    /// Only those after this name.
    after: Option<String>,
    /// At most this many, 1 to 5000; 500 if not said.
    limit: Option<usize>,
}

fn standard() -> String {
    "standard".into()
}

fn yes() -> bool {
    true
}

fn a_day() -> u32 {
    24
}

/// What is looked back at.
const HOURS: i64 = 24;
/// The longest time in which a former secret counts, in hours.
const LONGEST_GRACE: u32 = 720;

impl NasView {
    fn new(row: NasRow, administration: &Administration, edition: &Edition) -> Self {
        let equipment = &administration.equipment;
        let (heard, time) = (equipment.heard(&row.name), |at: u64| (at > 0).then(|| iso(at)));
        let change = equipment.running_grace(&row, now_ms().cast_signed());
        Self {
            secret_change: change.map(|change| SecretChange {
                since: iso(change.since.cast_unsigned()),
                until: iso(change.until.cast_unsigned()),
                unsigned: !row.radius.require_message_authenticator,
            }),
            signed_since: time(heard.signed_since),
            unsigned_at: time(heard.unsigned_at),
            lacks: edition.lacks(&row.identity(), row.single_address()).iter().map(ToString::to_string).collect(),
            addresses: row.networks.iter().map(ToString::to_string).collect(),
            name: row.name,
            kind: row.kind.word().to_owned(),
            site: row.site,
            tags: row.tags,
            note: row.note,
            dialect: row.dialect,
            require_message_authenticator: row.radius.require_message_authenticator,
            class_at_login: row.radius.class_at_login,
        }
    }

    fn texts(&self) -> impl Iterator<Item = &String> + Clone {
        let one = [&self.name, &self.kind, &self.site, &self.note, &self.dialect];
        one.into_iter().chain(&self.addresses).chain(&self.tags)
    }
}

impl From<NasForm> for NasEntry {
    fn from(form: NasForm) -> Self {
        Self {
            name: form.name,
            address: Addresses::Several(form.addresses),
            kind: form.kind,
            site: form.site,
            tags: form.tags,
            note: form.note,
            dialect: form.dialect,
            secret: form.secret,
            require_message_authenticator: form.require_message_authenticator,
            class_at_login: form.class_at_login,
        }
    }
}

impl NasPatch {
    fn on(self, row: &NasRow) -> NasEntry {
        let before = entries::nas(row);
        NasEntry {
            name: self.name.unwrap_or(before.name),
            address: self.addresses.map_or(before.address, Addresses::Several),
            kind: self.kind.unwrap_or(before.kind),
            site: self.site.unwrap_or(before.site),
            tags: self.tags.unwrap_or(before.tags),
            note: self.note.unwrap_or(before.note),
            dialect: self.dialect.unwrap_or(before.dialect),
            secret: self.secret,
            require_message_authenticator: self
                .require_message_authenticator
                .unwrap_or(before.require_message_authenticator),
            class_at_login: self.class_at_login.unwrap_or(before.class_at_login),
        }
    }
}

/// NASes by name, a page at a time.
#[utoipa::path(get, path = "/api/v1/nases", params(WantedNases),
    responses((status = 200, body = NasList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn nases(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<WantedNases>,
) -> Result<Json<NasList>, ApiError> {
    let (limit, words) = (limit(wanted.limit)?, words(wanted.q.as_ref()));
    let edition = api.administration.snapshot().active.edition.clone();
    let administration = api.administration.clone();
    let rows = blocking(move || api.administration.equipment.all()).await?;
    let (all, after) = (rows.len(), wanted.after.map(|name| name.to_lowercase()));
    let later = rows.into_iter().filter(|row| after.as_ref().is_none_or(|after| row.name.to_lowercase() > *after));
    let views = later.map(|row| NasView::new(row, &administration, &edition));
    let found = views.filter(|view| holds(&words, view.texts())).take(limit + 1).collect();
    let (nases, next) = page(found, limit, |nas: &NasView| nas.name.clone());
    Ok(Json(NasList { nases, all, next }))
}

/// A NAS, with what is known of it. Its ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/nases/{name}", params(("name" = String, Path)),
    responses((status = 200, body = NasDetail), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn nas(State(api): State<Api>, _: May<Look>, Path(name): Path<String>) -> Result<Response, ApiError> {
    let found = {
        let api = api.clone();
        blocking(move || api.administration.equipment.find(&name)).await?
    };
    let tag = etag(&found);
    let snapshot = api.administration.snapshot();
    let instead = found.networks.iter().filter_map(|network| {
        let address = network.single().unwrap_or_else(|| network.first());
        let wider = |block: &regnant_base::Network| block.prefix() < network.prefix();
        let mut holding = snapshot.nases.holding(address);
        holding
            .find(|(block, nas)| wider(block) && nas.name != found.name)
            .map(|(block, nas)| format!("{network}: {} by {block}", nas.name))
    });
    let instead: Vec<_> = instead.collect();
    let named_by = api.administration.equipment.named_by(&found.name);
    let (name, reading) = (found.name.clone(), api.clone());
    let heard = blocking(move || {
        let newest = reading.reader.newest(NewestKind::Nas, &name)?;
        let entry = newest.map(|id| reading.reader.entry(&id.to_string())).transpose()?.flatten();
        let until = Timestamp::now().as_second() / 3_600 + 1;
        let counts = reading.reader.counts(until - HOURS, until)?;
        let own = counts.iter().filter(|count| count.nas.as_ref() == Some(&name));
        let hours = hours(own, until, HOURS);
        Ok::<_, JournalError>((entry.map(|entry| EntryView::new(&entry, &reading.administration)), hours))
    });
    let (heard, hours) = heard.await?;
    let nas = NasView::new(found, &api.administration, &snapshot.active.edition);
    Ok((tag, Json(NasDetail { nas, heard, hours, named_by, instead })).into_response())
}

/// Adds a NAS. Where no secret is given, one is made and shown this once.
#[utoipa::path(post, path = "/api/v1/nases", operation_id = "add_nas", request_body = NasForm,
    responses((status = 201, body = NasAdded), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 422, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(form): Sent<NasForm>,
) -> Result<Response, ApiError> {
    let adding = api.clone();
    let (row, secret) = blocking(move || adding.administration.equipment.add(form.into(), &by)).await?;
    let tag = etag(&row);
    let nas = NasView::new(row, &api.administration, &api.administration.snapshot().active.edition);
    Ok((StatusCode::CREATED, tag, Json(NasAdded { nas, secret })).into_response())
}

/// Puts a NAS in the place of one. With If-Match only where it is still as it was read.
#[utoipa::path(put, path = "/api/v1/nases/{name}", operation_id = "replace_nas", params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")), request_body = NasForm,
    responses((status = 200, body = NasView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn replace(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(form): Sent<NasForm>,
) -> Result<Response, ApiError> {
    change(api, name, headers, by, |_| form.into()).await
}

/// Changes some of a NAS. With If-Match only where it is still as it was read.
#[utoipa::path(patch, path = "/api/v1/nases/{name}", operation_id = "change_nas", params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")), request_body = NasPatch,
    responses((status = 200, body = NasView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn patch(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(patch): Sent<NasPatch>,
) -> Result<Response, ApiError> {
    change(api, name, headers, by, |row| patch.on(row)).await
}

async fn change(
    api: Api,
    name: String,
    headers: HeaderMap,
    by: Author,
    entry: impl FnOnce(&NasRow) -> NasEntry + Send + 'static,
) -> Result<Response, ApiError> {
    let (seen, changing) = (seen(&headers)?, api.clone());
    let work = move || changing.administration.equipment.change(&name, seen.as_ref(), entry, &by);
    let row = blocking(work).await?;
    let tag = etag(&row);
    Ok((tag, Json(NasView::new(row, &api.administration, &api.administration.snapshot().active.edition)))
        .into_response())
}

/// Removes a NAS that the active policy does not name; its packets are not heard any more.
#[utoipa::path(delete, path = "/api/v1/nases/{name}", operation_id = "remove_nas", params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 412, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    blocking(move || api.administration.equipment.remove(&name, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Sets another secret, which is made and shown this once where none is given. For a while the
/// one until now counts too.
#[utoipa::path(put, path = "/api/v1/nases/{name}/secret", operation_id = "set_nas_secret", params(("name" = String, Path)),
    request_body = NewNasSecret,
    responses((status = 200, body = NasAdded), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 422, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn set_secret(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    Sent(NewNasSecret { secret, grace_hours }): Sent<NewNasSecret>,
) -> Result<Response, ApiError> {
    if grace_hours > LONGEST_GRACE {
        return Err(ApiError::bad(format!(
            "`grace_hours` is 0 to {LONGEST_GRACE}: for how long the secret until now counts too"
        )));
    }
    let (changing, grace) = (api.clone(), Duration::from_secs(u64::from(grace_hours) * 3_600));
    let set = move || changing.administration.equipment.set_secret(&name, secret, grace, &by);
    let (row, secret) = blocking(set).await?;
    let tag = etag(&row);
    let nas = NasView::new(row, &api.administration, &api.administration.snapshot().active.edition);
    Ok((tag, Json(NasAdded { nas, secret })).into_response())
}

/// Has the secret of now count alone: whoever changed the NAS says that it has it.
#[utoipa::path(delete, path = "/api/v1/nases/{name}/former-secret", operation_id = "end_nas_grace", params(("name" = String, Path)),
    responses((status = 200, body = NasView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn end_grace(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<Json<NasView>, ApiError> {
    let changing = api.clone();
    let row = blocking(move || changing.administration.equipment.end_grace(&name, &by)).await?;
    Ok(Json(NasView::new(row, &api.administration, &api.administration.snapshot().active.edition)))
}

/// Shows the secret that is shared with a NAS; the audit tells that it was shown.
#[utoipa::path(post, path = "/api/v1/nases/{name}/secret", operation_id = "reveal_nas_secret", params(("name" = String, Path)),
    responses((status = 200, body = NasSecret), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn reveal(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<Json<NasSecret>, ApiError> {
    let secret = blocking(move || api.administration.equipment.reveal(&name, &by)).await?;
    Ok(Json(NasSecret { secret }))
}
