//! Stores outside: whether they answer, the way to them step by step, and what they offer.

use std::collections::BTreeMap;

use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use regnant_base::{Secret, SecretText, printable};
use regnant_directory::{DirectorySettings, FirstLookError, ListedDevice, Offer, Probe, first_look};
use regnant_outside::{ServerHealth, Step};
use regnant_policy::{IdentityKind, Value};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::outside_forms::DirectoryForm;
use crate::outside_stores::OutsideStore;

/// How a server of a store outside does.
#[derive(Serialize, ToSchema)]
pub(crate) struct ServerView {
    url: String,
    /// For how many seconds it has not answered; none where it does, or was not asked yet.
    down_for: Option<u64>,
    /// What went wrong last.
    why: Option<String>,
    /// What to do about it.
    advice: Option<String>,
    /// How many questions it was asked since the start.
    asked: u64,
    /// How many of them it did not answer.
    failed: u64,
}

/// How the servers of a store outside do.
pub(crate) fn servers(health: Vec<ServerHealth>) -> Vec<ServerView> {
    let view = |ServerHealth { url, down, asked, failed }| ServerView {
        url,
        down_for: down.as_ref().map(|(time, ..)| time.as_secs()),
        why: down.as_ref().map(|(_, why, _)| printable(why).into_owned()),
        advice: down.map(|(.., advice)| advice.to_owned()),
        asked,
        failed,
    };
    health.into_iter().map(view).collect()
}

/// Whom a test looks for.
#[derive(Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct StoreProbe {
    /// A person, as the gate's `as` makes the name.
    person: Option<String>,
    /// Or a machine.
    machine: Option<String>,
    /// Or a device.
    device: Option<String>,
    /// Their password, which is tried once and not kept.
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
}

/// A step of the way to a store.
#[derive(Serialize, ToSchema)]
pub(crate) struct StepView {
    /// What was to be done.
    what: String,
    passed: bool,
    /// What was seen.
    saw: String,
    /// What to do, where it did not go well.
    advice: String,
    millis: u64,
}

/// The way to a store.
#[derive(Serialize, ToSchema)]
pub(crate) struct StoreTest {
    /// Whether every step went well.
    passed: bool,
    steps: Vec<StepView>,
}

impl From<Step> for StepView {
    fn from(Step { what, passed, saw, advice, millis }: Step) -> Self {
        // Whatever others say may steer a terminal.
        let shown = |text: String| printable(&text).into_owned();
        Self { what: shown(what), passed, saw: shown(saw), advice, millis }
    }
}

/// Goes the way to every server of a store outside, and to an account where one is named, and says at
/// which step it ends and what to do. A password that is tried counts as at a sign-in, and stands in the audit.
#[utoipa::path(post, path = "/api/v1/stores/{name}/test", operation_id = "test_store", params(("name" = String, Path)),
    request_body = Option<StoreProbe>,
    responses((status = 200, body = StoreTest), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 429, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn test(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    May { signed, .. }: May<Change>,
    Path(name): Path<String>,
    probe: Option<Sent<StoreProbe>>,
) -> Result<Json<StoreTest>, ApiError> {
    let probe = probe.map(|Sent(probe)| probe).unwrap_or_default();
    let names =
        [(IdentityKind::User, probe.person), (IdentityKind::Machine, probe.machine), (IdentityKind::Mac, probe.device)];
    let mut named: Vec<_> = names.into_iter().filter_map(|(kind, name)| Some((kind, name?))).collect();
    if named.len() > 1 {
        return Err(ApiError::bad("Name a `person`, a `machine` or a `device`, one of them."));
    }
    let named = named.pop();
    if named.is_none() && probe.password.is_some() {
        return Err(ApiError::bad("Whose password is it? Name a `person` or a `machine`."));
    }
    let (reading, wanted) = (api.clone(), name.clone());
    let outside = blocking(move || reading.administration.identities.outside(&wanted)).await?;
    let mut tried = None;
    if let (Some((_, whose)), true) = (&named, probe.password.is_some()) {
        let what = format!("a password of `{}` in store {name}", printable(whose));
        try_of_others(&api, &signed, &origin, &what).await?;
        tried = Some(what);
    }
    let password = probe.password.map(|password| password.expose().to_owned());
    let steps = match outside {
        OutsideStore::Directory(directory) => directory.probe(Probe { name: named, password }).await,
        OutsideStore::Http(_) if password.is_some() => {
            return Err(ApiError::bad("It tells facts, and proves nobody: no password is tried there."));
        }
        OutsideStore::Http(source) => source.probe(named).await,
    };
    let passed = steps.iter().all(|step| step.passed);
    if let Some(what) = tried.filter(|_| passed) {
        api.attempts.right(origin.trier(&what));
    }
    Ok(Json(StoreTest { passed, steps: steps.into_iter().map(Into::into).collect() }))
}

/// Counts a try at a password or a secret of others, as one at a sign-in is, and keeps it in the audit. One that was
/// right is taken back (`attempts.right`).
pub(crate) async fn try_of_others(api: &Api, signed: &Signed, origin: &Origin, what: &str) -> Result<(), ApiError> {
    if !api.attempts.reserve(origin.trier(what)) {
        return Err(ApiError::too_many("Too many were tried there; wait a minute, then try again."));
    }
    let (administration, author) = (api.administration.clone(), signed.author.clone());
    let what = what.to_owned();
    blocking(move || administration.administrators.note_try(what, &author)).await
}

/// Gives the machine account by which a domain's controllers are asked another password, there and
/// here. It is given one every 30 days without that, too.
#[utoipa::path(post, path = "/api/v1/stores/{name}/new-password", operation_id = "renew_machine_password",
    params(("name" = String, Path)),
    responses((status = 204), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn new_password(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    api.administration.identities.renew_machine_password(&name, &by).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What a directory has to offer, as it was when it was looked at last.
#[derive(Serialize, ToSchema)]
pub(crate) struct StoreOffer {
    /// How many seconds ago it was looked at; none where that has not been yet.
    looked: Option<u64>,
    /// Entries below which something may be searched.
    places: Vec<String>,
    groups: Vec<OfferedGroup>,
}

/// A group of a directory.
#[derive(Serialize, ToSchema)]
pub(crate) struct OfferedGroup {
    /// Its short name, where it counts by that.
    name: Option<String>,
    /// Its distinguished name.
    dn: String,
}

/// Groups that are told at a time.
const MOST_OFFERED: usize = 200;

/// What a directory has to offer to whoever types a base or a group: those places and groups that have
/// these letters in them, 200 at most.
#[utoipa::path(get, path = "/api/v1/stores/{name}/offer", operation_id = "store_offer",
    params(("name" = String, Path), OfferWanted),
    responses((status = 200, body = StoreOffer), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn offer(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
    Asked(wanted): Asked<OfferWanted>,
) -> Result<Json<StoreOffer>, ApiError> {
    let outside = blocking(move || api.administration.identities.outside(&name)).await?;
    let OutsideStore::Directory(directory) = outside else {
        return Err(ApiError::bad("It tells facts, and has no groups to offer."));
    };
    let q = wanted.q.unwrap_or_default().to_lowercase();
    Ok(Json(match directory.offer() {
        Some(offer) => offered(&offer, &q),
        None => StoreOffer { looked: None, places: Vec::new(), groups: Vec::new() },
    }))
}

/// What of an offer has these letters in it.
fn offered(offer: &Offer, q: &str) -> StoreOffer {
    let fits = |text: &str| text.to_lowercase().contains(q);
    let shown = |text: &String| printable(text).into_owned();
    let places = offer.places.iter().filter(|place| fits(place)).take(MOST_OFFERED).map(shown).collect();
    let groups = offer.groups.iter().filter(|(short, long)| short.as_deref().is_some_and(fits) || fits(long));
    let view =
        |(short, long): &(Option<String>, String)| OfferedGroup { name: short.as_ref().map(shown), dn: shown(long) };
    StoreOffer {
        looked: Some(offer.at.elapsed().as_secs()),
        places,
        groups: groups.take(MOST_OFFERED).map(view).collect(),
    }
}

/// A directory that somebody is about to connect.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewDirectory {
    /// How it is asked, as far as that is known: the base may be missing.
    directory: DirectoryForm,
    /// The password of the account that searches.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    secret: Option<SecretText>,
}

/// What a directory has to offer that is no store yet, to whoever types how it is asked. It counts as a try at a
/// sign-in, and stands in the audit.
#[utoipa::path(post, path = "/api/v1/offer", operation_id = "first_offer", request_body = NewDirectory,
    responses((status = 200, body = StoreOffer), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 429, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn first_offer(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    May { signed, .. }: May<Change>,
    Sent(new): Sent<NewDirectory>,
) -> Result<Json<StoreOffer>, ApiError> {
    let settings = DirectorySettings::from(new.directory);
    let servers = settings.servers.join(", ");
    let what = format!("what {} offers `{}`", printable(&servers), printable(&settings.bind_as));
    try_of_others(&api, &signed, &origin, &what).await?;
    let trust = settings.trust.clone();
    let way = blocking(move || api.administration.identities.way_by_trust(trust.as_deref())).await?;
    let secret = Secret::new(new.secret.as_ref().map_or("", |secret| secret.expose()).as_bytes());
    match first_look(settings, secret, &way).await {
        Ok(offer) => {
            api.attempts.right(origin.trier(&what));
            Ok(Json(offered(&offer, "")))
        }
        Err(FirstLookError::Settings(error)) => Err(ApiError::bad(error.to_string())),
        Err(FirstLookError::Trouble(trouble)) => {
            Err(ApiError::bad(format!("{}. {}", printable(&trouble.to_string()), trouble.advice())))
        }
    }
}

/// A device of a directory, as an import takes it.
#[derive(Serialize, ToSchema)]
pub(crate) struct DirectoryDevice {
    mac: String,
    /// What it is, for people.
    title: String,
    /// Its groups that have a short name.
    groups: Vec<String>,
    /// Whether it must stay out.
    barred: bool,
    /// What the directory tells of it, by the names of attributes.
    attributes: BTreeMap<String, serde_json::Value>,
}

/// Devices of a directory.
#[derive(Serialize, ToSchema)]
pub(crate) struct DirectoryDevices {
    /// Those, in the order of their addresses.
    devices: Vec<DirectoryDevice>,
    /// Distinguished names of entries whose address cannot be read.
    unread: Vec<String>,
}

/// All devices that a directory keeps by their MAC addresses, 100,000 at most, as an import of devices
/// takes them.
#[utoipa::path(get, path = "/api/v1/stores/{name}/devices", operation_id = "directory_devices",
    params(("name" = String, Path)),
    responses((status = 200, body = DirectoryDevices), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 429, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn devices(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
) -> Result<Json<DirectoryDevices>, ApiError> {
    let outside = blocking(move || api.administration.identities.outside(&name)).await?;
    let OutsideStore::Directory(directory) = outside else {
        return Err(ApiError::bad("It tells facts, and keeps no devices that could be listed."));
    };
    let place = api.listings.clone().try_acquire_owned();
    let _place = place.map_err(|_| ApiError::too_many("Another list is under way; try again when it has ended."))?;
    let list = directory.list_devices().await;
    let list =
        list.map_err(|trouble| ApiError::bad(format!("{}. {}", printable(&trouble.to_string()), trouble.advice())))?;
    let view = |device: ListedDevice| DirectoryDevice {
        mac: device.mac.to_string(),
        title: printable(&device.title).into_owned(),
        groups: device.groups,
        barred: device.barred,
        attributes: device
            .attributes
            .iter()
            .filter_map(|(name, value)| Some((name.to_string(), json(value)?)))
            .collect(),
    };
    let unread = list.unread.iter().map(|name| printable(name).into_owned()).collect();
    Ok(Json(DirectoryDevices { devices: list.devices.into_iter().map(view).collect(), unread }))
}

/// A fact as records keep it.
fn json(value: &Value<'_>) -> Option<serde_json::Value> {
    Some(match value {
        Value::Text(text) => text.as_ref().into(),
        Value::Integer(number) => (*number).into(),
        Value::Boolean(is) => (*is).into(),
        Value::Address(address) => address.to_string().into(),
        Value::Set(members) => members.iter().filter_map(json).collect(),
        Value::Block(..) | Value::Mac(_) | Value::Duration(_) | Value::Instant(_) => return None,
    })
}

/// What is looked for in an offer.
#[derive(Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct OfferWanted {
    /// Letters that are in it.
    q: Option<String>,
}
