//! Stores outside: how they are asked, whether they answer, and the way to them step by step.

use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use regnant_base::{SecretText, printable};
use regnant_directory::{DirectorySettings, GroupsBy, Notation, Probe};
use regnant_http_source::HttpSettings;
use regnant_outside::{Realms, ServerHealth, Step, Told};
use regnant_policy::IdentityKind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::outside_stores::OutsideStore;

/// How a directory is asked.
#[derive(Clone, Deserialize, Serialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct DirectoryForm {
    /// Its servers, the one that is asked first in front: `ldaps://HOST[:PORT]`, or
    /// `ldap://HOST[:PORT]`, on which TLS is started.
    servers: Vec<String>,
    /// The trust whose authorities issued the servers' certificates; the system's where none.
    trust: Option<String>,
    /// Whom searches are bound as; nobody where it is empty.
    bind_as: String,
    /// The entry below which everything is searched.
    base: String,
    /// What people have in common (RFC 4515); no people are looked up where it is empty.
    person_filter: String,
    /// The attributes by any of which a person is found; the account has the name that stands in
    /// the first of them. `uid` if not said.
    person_names: Vec<String>,
    /// What machines have in common; none are looked up where it is empty.
    machine_filter: String,
    /// The attributes by any of which a machine is found; `cn` if not said.
    machine_names: Vec<String>,
    /// What devices have in common that are kept by their MAC addresses; none are looked up where it
    /// is empty.
    device_filter: String,
    /// The attribute that holds a device's address; `macAddress` if not said.
    device_name: String,
    /// How addresses are written there: `colons`, `hyphens`, `dots` or `bare`; `colons` if not said.
    #[schema(value_type = String)]
    device_notation: Notation,
    /// The attribute that holds an account's certificates, or what tells them from others; none are
    /// known where it is empty.
    certificates: String,
    /// The attribute that holds an account's NT hash, for MS-CHAP; none where it is empty.
    nt_hash: String,
    /// The attribute that holds an account's password in clear; none where it is empty.
    clear_password: String,
    /// `member-of` where accounts say their groups, `search` where groups say their members,
    /// `token-groups` where the directory tells all, the primary group and groups of groups with
    /// them; `member-of` if not said.
    #[schema(value_type = String)]
    groups: GroupsBy,
    /// The entry below which a group counts by its short name; `base` where none.
    group_base: Option<String>,
    /// The attribute that holds the short name of a group; `cn` if not said.
    group_name: String,
    /// Whether groups of groups count too; true if not said.
    nested: bool,
    /// The short name of the Active Directory domain whose controllers check responses of MS-CHAP;
    /// none do where it is empty.
    domain: String,
    /// The account of this machine in that domain, such as `REGNANT$`; `bind_as` is the same account.
    machine_account: String,
    /// The domain's controllers; the hosts of `servers` where none.
    domain_controllers: Vec<String>,
    /// The facts that it tells, each with the attribute that holds it.
    facts: BTreeMap<String, String>,
    /// The realms and domains that it answers for, such as `example.org` and `EXAMPLE\\`; all where
    /// none.
    realms: Vec<String>,
    /// How many seconds an answer is waited for, 1 to 30; 3 if not said.
    time_limit: u16,
    /// For how many seconds accounts and groups are kept, at most 3600; 60 if not said. Proofs
    /// never are.
    keep: u16,
}

impl Default for DirectoryForm {
    fn default() -> Self {
        DirectorySettings::default().into()
    }
}

impl From<DirectoryForm> for DirectorySettings {
    fn from(form: DirectoryForm) -> Self {
        Self {
            servers: form.servers,
            trust: form.trust.filter(|trust| !trust.is_empty()),
            bind_as: form.bind_as,
            base: form.base,
            person_filter: form.person_filter,
            person_names: form.person_names,
            machine_filter: form.machine_filter,
            machine_names: form.machine_names,
            device_filter: form.device_filter,
            device_name: form.device_name,
            device_notation: form.device_notation,
            certificates: form.certificates,
            nt_hash: form.nt_hash,
            clear_password: form.clear_password,
            groups: form.groups,
            group_base: form.group_base.filter(|base| !base.is_empty()),
            group_name: form.group_name,
            nested: form.nested,
            domain: form.domain,
            machine_account: form.machine_account,
            domain_controllers: form.domain_controllers,
            facts: Told(form.facts),
            realms: Realms(form.realms),
            time_limit: form.time_limit,
            keep: form.keep,
        }
    }
}

impl From<DirectorySettings> for DirectoryForm {
    fn from(settings: DirectorySettings) -> Self {
        Self {
            servers: settings.servers,
            trust: settings.trust,
            bind_as: settings.bind_as,
            base: settings.base,
            person_filter: settings.person_filter,
            person_names: settings.person_names,
            machine_filter: settings.machine_filter,
            machine_names: settings.machine_names,
            device_filter: settings.device_filter,
            device_name: settings.device_name,
            device_notation: settings.device_notation,
            certificates: settings.certificates,
            nt_hash: settings.nt_hash,
            clear_password: settings.clear_password,
            groups: settings.groups,
            group_base: settings.group_base,
            group_name: settings.group_name,
            nested: settings.nested,
            domain: settings.domain,
            machine_account: settings.machine_account,
            domain_controllers: settings.domain_controllers,
            facts: settings.facts.0,
            realms: settings.realms.0,
            time_limit: settings.time_limit,
            keep: settings.keep,
        }
    }
}

/// How a service that tells facts is asked.
#[derive(Clone, Deserialize, Serialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct HttpForm {
    /// Where: `https://HOST[:PORT]/...`, with `{name}` where the name stands.
    url: String,
    /// The trust whose authorities issued its certificate; the system's where none.
    trust: Option<String>,
    /// The header that carries the secret; none where it is empty.
    header: String,
    /// Where a token is had for the secret (OAuth 2.0 client credentials); nowhere where it is empty.
    token_url: String,
    /// Who asks for the token.
    client: String,
    /// What the token is to be good for.
    scope: String,
    /// The facts that it tells, each with where it stands in an answer (JSON Pointer, RFC 6901).
    facts: BTreeMap<String, String>,
    /// The realms and domains that it answers for; all where none.
    realms: Vec<String>,
    /// How many seconds an answer is waited for, 1 to 30; 3 if not said.
    time_limit: u16,
    /// For how many seconds an answer is kept, at most 3600; 60 if not said.
    keep: u16,
}

impl Default for HttpForm {
    fn default() -> Self {
        HttpSettings::default().into()
    }
}

impl From<HttpForm> for HttpSettings {
    fn from(form: HttpForm) -> Self {
        Self {
            url: form.url,
            trust: form.trust.filter(|trust| !trust.is_empty()),
            header: form.header,
            token_url: form.token_url,
            client: form.client,
            scope: form.scope,
            facts: Told(form.facts),
            realms: Realms(form.realms),
            time_limit: form.time_limit,
            keep: form.keep,
        }
    }
}

impl From<HttpSettings> for HttpForm {
    fn from(settings: HttpSettings) -> Self {
        Self {
            url: settings.url,
            trust: settings.trust,
            header: settings.header,
            token_url: settings.token_url,
            client: settings.client,
            scope: settings.scope,
            facts: settings.facts.0,
            realms: settings.realms.0,
            time_limit: settings.time_limit,
            keep: settings.keep,
        }
    }
}

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
/// which step it ends and what to do.
#[utoipa::path(post, path = "/api/v1/stores/{name}/test", operation_id = "test_store", params(("name" = String, Path)),
    request_body = Option<StoreProbe>,
    responses((status = 200, body = StoreTest), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn test(
    State(api): State<Api>,
    _: May<Change>,
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
    let outside = blocking(move || api.administration.identities.outside(&name)).await?;
    let password = probe.password.map(|password| password.expose().to_owned());
    let steps = match outside {
        OutsideStore::Directory(directory) => directory.probe(Probe { name: named, password }).await,
        OutsideStore::Http(_) if password.is_some() => {
            return Err(ApiError::bad("It tells facts, and proves nobody: no password is tried there."));
        }
        OutsideStore::Http(source) => source.probe(named).await,
    };
    Ok(Json(StoreTest {
        passed: steps.iter().all(|step| step.passed),
        steps: steps.into_iter().map(Into::into).collect(),
    }))
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
    let Some(offer) = directory.offer() else {
        return Ok(Json(StoreOffer { looked: None, places: Vec::new(), groups: Vec::new() }));
    };
    let q = wanted.q.unwrap_or_default().to_lowercase();
    let fits = |text: &str| text.to_lowercase().contains(&q);
    let shown = |text: &String| printable(text).into_owned();
    let places = offer.places.iter().filter(|place| fits(place)).take(MOST_OFFERED).map(shown).collect();
    let groups = offer.groups.iter().filter(|(short, long)| short.as_deref().is_some_and(fits) || fits(long));
    let view =
        |(short, long): &(Option<String>, String)| OfferedGroup { name: short.as_ref().map(shown), dn: shown(long) };
    Ok(Json(StoreOffer {
        looked: Some(offer.at.elapsed().as_secs()),
        places,
        groups: groups.take(MOST_OFFERED).map(view).collect(),
    }))
}

/// What is looked for in an offer.
#[derive(Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct OfferWanted {
    /// Letters that are in it.
    q: Option<String>,
}
