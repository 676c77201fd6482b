//! The HTTP API under `/api/v1`, and the console's files.

mod accounts;
mod administrators;
mod attempts;
mod attributes;
mod audit;
mod backup;
mod callers;
mod certificates;
mod common_names;
mod connections;
mod console;
mod counts;
mod devices;
mod dialects;
mod dictionaries;
mod difference;
mod door;
mod drafts;
mod error;
mod extract;
mod findings;
mod gates;
mod health;
mod hours;
mod import;
mod inventory;
mod journal;
mod keys;
mod machines;
mod metrics;
mod nases;
mod nases_together;
pub(crate) mod openapi;
mod outside_forms;
mod outside_sessions;
mod outside_stores;
mod patience;
mod people;
mod policy;
mod quota;
mod record;
mod secrets;
mod short_list;
mod sign_in;
mod stores;
mod study;
mod today;
mod tokens;
mod trying;
mod unheard;
mod view;
mod writing;

use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::body::Bytes;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderValue, header};
use axum::middleware::{from_fn_with_state, map_response};
use axum::response::Response;
use axum::routing::{any, get};
use regnant_base::Shares;
use regnant_journal::{AccountingLog, Journal, JournalReader};
use regnant_records::HashPool;
use rustls::ServerConfig;
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, watch};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::administration::{Administration, AdministrationError};
use crate::backup::Places;
use crate::config::{AdministratorsConfig, ApiConfig};
use crate::http::attempts::Attempts;
use crate::http::connections::Room;
use crate::http::door::Front;
use crate::http::error::ApiError;
use crate::http::outside_sessions::OutsideSessions;
use crate::http::quota::Quota;
use crate::http::sign_in::Welcome;
use crate::http::study::Study;
use crate::udp::RadiusState;

/// How long somebody who signs in waits for their password to be checked while others guess.
const PATIENCE: Duration = Duration::from_secs(20);

/// What every handler can reach.
#[derive(Clone)]
pub(crate) struct Api {
    pub(crate) administration: Arc<Administration>,
    pub(crate) journal: Arc<Journal>,
    pub(crate) accounting: Arc<AccountingLog>,
    pub(crate) reader: Arc<JournalReader>,
    pub(crate) radius: Arc<RadiusState>,
    pub(crate) attempts: Arc<Attempts>,
    pub(crate) welcome: Arc<Welcome>,
    /// Sessions of administrators who come from a directory.
    pub(crate) outside_sessions: Arc<OutsideSessions>,
    pub(crate) front: Arc<Front>,
    /// Live streams, of which nobody has more than their share.
    pub(crate) live: Shares,
    /// Where what is backed up is kept.
    pub(crate) places: Places,
    /// Room for bodies, of which everybody who signed in has a share.
    pub(crate) bodies: Shares,
    /// What checks much, or helps with a policy.
    pub(crate) study: Arc<Study>,
    /// What looks for words in all of the journal.
    pub(crate) searches: Arc<Study>,
    /// One import at a time.
    pub(crate) imports: Arc<Semaphore>,
    /// One backup at a time.
    pub(crate) backups: Arc<Semaphore>,
    /// One list of all devices of a directory at a time.
    pub(crate) listings: Arc<Semaphore>,
    /// Apart from the pool of the RADIUS side: guessing at sign-in delays nobody there.
    pub(crate) pool: HashPool,
    /// For browsers that are known, whom nobody else's guesses delay.
    pub(crate) known_pool: HashPool,
    pub(crate) room: Arc<Room>,
    pub(crate) quota: Arc<Quota>,
    pub(crate) stopped: watch::Receiver<bool>,
}

impl Api {
    pub(crate) fn new(
        administration: Arc<Administration>,
        (journal, accounting): (Arc<Journal>, Arc<AccountingLog>),
        reader: Arc<JournalReader>,
        radius: Arc<RadiusState>,
        (config, outside, places): (&ApiConfig, &AdministratorsConfig, Places),
        stopped: watch::Receiver<bool>,
    ) -> Self {
        let (attempts, welcome, live, bodies) = Default::default();
        let front = Arc::new(Front {
            hosts: config.hosts.clone(),
            proxies: config.proxies.clone(),
            only_proxies: config.only_proxies(),
            in_plain_text: config.in_plain_text(),
        });
        let one = || Arc::new(Semaphore::new(1));
        let (imports, backups, listings) = (one(), one(), one());
        let pool = || HashPool::start(1, PATIENCE);
        Self {
            administration,
            journal,
            accounting,
            reader,
            radius,
            attempts,
            welcome,
            outside_sessions: OutsideSessions::new(outside),
            front,
            live,
            bodies,
            places,
            study: Arc::new(Study::start(2)),
            searches: Arc::new(Study::start(2)),
            imports,
            backups,
            listings,
            pool: pool(),
            known_pool: pool(),
            room: Arc::default(),
            quota: Arc::default(),
            stopped,
        }
    }

    /// The secret of the one-time link, where nobody can sign in yet.
    pub(crate) fn open_welcome(&self) -> Result<Option<String>, AdministrationError> {
        Ok(match self.administration.administrators.has_any()? {
            true => None,
            false => Some(self.welcome.open()),
        })
    }
}

/// Every route of the API, each declared at its handler. Those that take
/// [`callers::Signed`] need a signed-in administrator; the others are open to everybody.
fn described() -> OpenApiRouter<Api> {
    OpenApiRouter::with_openapi(openapi::heading())
        .routes(routes!(health::health))
        .routes(routes!(sign_in::welcome))
        .routes(routes!(sign_in::sign_in))
        .routes(routes!(sign_in::sign_in_for_token))
        .routes(routes!(sign_in::sign_out))
        .routes(routes!(sign_in::session))
        .routes(routes!(sign_in::set_own_password))
        .routes(routes!(sign_in::make_second_factor, sign_in::set_second_factor, sign_in::remove_second_factor))
        .routes(routes!(administrators::administrators, administrators::add))
        .routes(routes!(
            administrators::administrator,
            administrators::replace,
            administrators::change,
            administrators::remove
        ))
        .routes(routes!(administrators::remove_second_factor))
        .routes(routes!(tokens::tokens, tokens::add))
        .routes(routes!(tokens::token, tokens::change, tokens::revoke))
        .routes(routes!(journal::entries))
        .routes(routes!(journal::live))
        .routes(routes!(today::today))
        .routes(routes!(findings::findings))
        .routes(routes!(counts::counts))
        .routes(routes!(counts::newest))
        .routes(routes!(journal::entry))
        .routes(routes!(policy::active))
        .routes(routes!(policy::editions))
        .routes(routes!(policy::check))
        .routes(routes!(policy::inventory))
        .routes(routes!(writing::completion))
        .routes(routes!(writing::meaning))
        .routes(routes!(writing::renamed))
        .routes(routes!(writing::formatted))
        .routes(routes!(writing::beginning))
        .routes(routes!(gates::declared))
        .routes(routes!(gates::table))
        .routes(routes!(gates::act))
        .routes(routes!(policy::activate))
        .routes(routes!(policy::activate_draft))
        .routes(routes!(policy::edition))
        .routes(routes!(policy::codes))
        .routes(routes!(policy::rollback))
        .routes(routes!(drafts::draft, drafts::put_draft, drafts::remove_draft))
        .routes(routes!(drafts::others))
        .routes(routes!(difference::difference))
        .routes(routes!(trying::what_if))
        .routes(routes!(trying::case))
        .routes(routes!(trying::facts))
        .routes(routes!(trying::hits))
        .routes(routes!(nases::nases, nases::add))
        .routes(routes!(nases::nas, nases::replace, nases::patch, nases::remove))
        .routes(routes!(nases_together::act))
        .routes(routes!(nases::reveal, nases::set_secret))
        .routes(routes!(nases::end_grace))
        .routes(routes!(unheard::unheard))
        .routes(routes!(unheard::try_secret))
        .routes(routes!(stores::stores, stores::add))
        .routes(routes!(outside_stores::test))
        .routes(routes!(outside_stores::offer))
        .routes(routes!(outside_stores::new_password))
        .routes(routes!(metrics::metrics))
        .routes(routes!(outside_stores::devices))
        .routes(routes!(outside_stores::first_offer))
        .routes(routes!(stores::store, stores::put, stores::rename, stores::remove))
        .routes(routes!(common_names::groups, common_names::add_group))
        .routes(routes!(
            common_names::group,
            common_names::put_group,
            common_names::change_group,
            common_names::remove_group
        ))
        .routes(routes!(common_names::sites, common_names::add_site))
        .routes(routes!(
            common_names::site,
            common_names::put_site,
            common_names::change_site,
            common_names::remove_site
        ))
        .routes(routes!(people::people, people::add))
        .routes(routes!(people::person, people::replace, people::change, people::remove))
        .routes(routes!(people::set_password))
        .routes(routes!(accounts::act))
        .routes(routes!(accounts::reveal_person))
        .routes(routes!(accounts::reveal_machine))
        .routes(routes!(machines::machines, machines::add))
        .routes(routes!(machines::machine, machines::replace, machines::change, machines::remove))
        .routes(routes!(devices::devices, devices::add))
        .routes(routes!(devices::device, devices::replace, devices::change, devices::remove))
        .routes(routes!(devices::act))
        .routes(routes!(devices::seen_last))
        .routes(routes!(devices::bar))
        .routes(routes!(attributes::attributes, attributes::declare))
        .routes(routes!(attributes::remove))
        .routes(routes!(inventory::import))
        .routes(routes!(import::lines))
        .routes(routes!(certificates::certificates, certificates::import))
        .routes(routes!(certificates::request))
        .routes(routes!(certificates::certificate, certificates::put, certificates::remove))
        .routes(routes!(certificates::profile))
        .routes(routes!(certificates::trusts, certificates::trust))
        .routes(routes!(certificates::find_trust, certificates::put_trust, certificates::remove_trust))
        .routes(routes!(dictionaries::dictionaries, dictionaries::add))
        .routes(routes!(dictionaries::dictionary, dictionaries::remove))
        .routes(routes!(dialects::dialects, dialects::add))
        .routes(routes!(dialects::preview))
        .routes(routes!(dialects::dialect, dialects::remove))
        .routes(routes!(secrets::secrets, secrets::set))
        .routes(routes!(secrets::remove))
        .routes(routes!(backup::backup))
        .routes(routes!(keys::keys))
        .routes(routes!(audit::audit))
        .routes(routes!(audit::verify))
        .routes(routes!(audit::entry))
}

/// What is served: the API, its description, and the console.
fn router(api: Api) -> Router {
    let (routes, description) = described().split_for_parts();
    // Every connection has a copy of the routes.
    let description = Bytes::from(serde_json::to_vec(&description).expect("a description is JSON"));
    routes
        .route("/api/v1/openapi.json", get(async move || ([(header::CONTENT_TYPE, "application/json")], description)))
        .route("/api/{*rest}", any(nothing_here))
        .method_not_allowed_fallback(wrong_verb)
        .fallback(console::file)
        // Bodies were bounded where they were read.
        .layer(DefaultBodyLimit::disable())
        .layer(from_fn_with_state(api.clone(), door::admit))
        .layer(map_response(harden))
        .with_state(api)
}

/// Serves until told to stop.
pub(crate) async fn serve(
    listener: TcpListener,
    tls: Option<Arc<ServerConfig>>,
    api: Api,
    stopped: watch::Receiver<bool>,
) {
    let room = api.room.clone();
    connections::serve(listener, tls, router(api), room, stopped).await;
}

async fn wrong_verb() -> ApiError {
    ApiError::wrong_verb()
}

async fn nothing_here() -> ApiError {
    ApiError::not_found("There is nothing at this address of the API; see /api/v1/openapi.json.")
}

/// The console loads nothing from elsewhere and is shown in nobody's frame.
async fn harden(mut response: Response) -> Response {
    let headers = response.headers_mut();
    let policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
    headers.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(policy));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    response
}
