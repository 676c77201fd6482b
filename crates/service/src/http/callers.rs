//! Who calls: a cookie for the console, a token for programs.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::{FromRequestParts, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use regnant_records::{Change, new_token as random_token, token_hash};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::error::{ApiError, blocking};

const COOKIE: &str = "regnant-session";
const SESSION: Duration = Duration::from_secs(12 * 3600);
const MOST_SESSIONS: usize = 1_024;
/// Wrong passwords for one name within [`ATTEMPT_WINDOW`] before it must wait.
const MOST_ATTEMPTS: u32 = 10;
const ATTEMPT_WINDOW: Duration = Duration::from_secs(60);

/// A signed-in administrator.
pub(crate) struct Signed {
    pub(crate) name: String,
}

impl FromRequestParts<Api> for Signed {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, api: &Api) -> Result<Self, ApiError> {
        if let Some(token) = bearer(&parts.headers) {
            let (office, token) = (api.office.clone(), token.to_owned());
            let owner = blocking(move || office.records.token_owner(&token)).await?;
            return owner.map(|name| Self { name }).ok_or_else(ApiError::not_signed_in);
        }
        let name = cookie(&parts.headers).and_then(|cookie| api.sessions.owner(cookie));
        let name = name.ok_or_else(ApiError::not_signed_in)?;
        // A page of another site can make a browser send our cookie with a form.
        if parts.method != Method::GET && !same_origin(&parts.headers) {
            return Err(ApiError::forbidden("This call came from a page of another site."));
        }
        Ok(Self { name })
    }
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

fn cookie(headers: &HeaderMap) -> Option<&str> {
    let all = headers.get(header::COOKIE)?.to_str().ok()?;
    all.split(';').find_map(|one| one.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

fn same_origin(headers: &HeaderMap) -> bool {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok());
    match (text(header::ORIGIN), text(header::HOST)) {
        (Some(origin), Some(host)) => origin.split_once("://").is_some_and(|(_, from)| from == host),
        (None, _) => true,
        _ => false,
    }
}

/// Console sessions. They end with the service.
#[derive(Default)]
pub(crate) struct Sessions {
    inner: Mutex<HashMap<[u8; 32], (String, Instant)>>,
}

impl Sessions {
    fn open(&self, name: &str) -> Result<String, ApiError> {
        let mut sessions = lock(&self.inner);
        sessions.retain(|_, (_, since)| since.elapsed() < SESSION);
        if sessions.len() >= MOST_SESSIONS {
            return Err(ApiError::too_many("Too many people are signed in; try again later."));
        }
        let secret = random_token();
        sessions.insert(token_hash(&secret), (name.to_owned(), Instant::now()));
        Ok(secret)
    }

    fn owner(&self, secret: &str) -> Option<String> {
        let sessions = lock(&self.inner);
        sessions.get(&token_hash(secret)).filter(|(_, since)| since.elapsed() < SESSION).map(|(name, _)| name.clone())
    }

    fn close(&self, secret: &str) {
        lock(&self.inner).remove(&token_hash(secret));
    }
}

/// Wrong passwords by name, so that guessing is slow.
#[derive(Default)]
pub(crate) struct Attempts {
    inner: Mutex<HashMap<String, (u32, Instant)>>,
}

impl Attempts {
    fn allow(&self, name: &str) -> Result<(), ApiError> {
        let mut attempts = lock(&self.inner);
        attempts.retain(|_, (_, since)| since.elapsed() < ATTEMPT_WINDOW);
        let count = attempts.get(&name.to_lowercase()).map_or(0, |(count, _)| *count);
        match count >= MOST_ATTEMPTS || attempts.len() >= MOST_SESSIONS {
            true => Err(ApiError::too_many("Too many wrong passwords; wait a minute, then try again.")),
            false => Ok(()),
        }
    }

    fn failed(&self, name: &str) {
        lock(&self.inner).entry(name.to_lowercase()).or_insert((0, Instant::now())).0 += 1;
    }
}

/// The one-time link to set the first administrator's password.
#[derive(Default)]
pub(crate) struct Welcome {
    hash: Mutex<Option<[u8; 32]>>,
}

impl Welcome {
    pub(crate) fn open(&self) -> String {
        let secret = random_token();
        *lock(&self.hash) = Some(token_hash(&secret));
        secret
    }

    fn fits(&self, secret: &str) -> bool {
        *lock(&self.hash) == Some(token_hash(secret))
    }

    fn close(&self) {
        *lock(&self.hash) = None;
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A name and a password.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SignIn {
    name: String,
    password: String,
}

/// The first administrator.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct WelcomeForm {
    /// The secret of the one-time link, after its `#`.
    secret: String,
    name: String,
    password: String,
}

/// Who is signed in.
#[derive(Serialize, ToSchema)]
pub(crate) struct SessionView {
    /// The administrator's name.
    name: String,
}

/// A token, shown this once.
#[derive(Serialize, ToSchema)]
pub(crate) struct TokenView {
    /// Send it as `Authorization: Bearer TOKEN`.
    token: String,
}

/// Sets the first administrator's name and password.
#[utoipa::path(post, path = "/api/v1/welcome", request_body = WelcomeForm,
    responses((status = 200, body = SessionView), (status = 403, body = ApiError)))]
pub(crate) async fn welcome(State(api): State<Api>, Json(form): Json<WelcomeForm>) -> Result<Response, ApiError> {
    if !api.welcome.fits(&form.secret) {
        return Err(ApiError::forbidden(
            "This link was used or is of an earlier start; the service prints a new one when it starts without administrators.",
        ));
    }
    let (office, name) = (api.office.clone(), form.name.trim().to_owned());
    blocking(move || office.set_administrator(&form.name, &form.password)).await?;
    api.welcome.close();
    signed_in(&api, name)
}

/// Signs in with name and password; the session is a cookie.
#[utoipa::path(post, path = "/api/v1/sign-in", request_body = SignIn,
    responses((status = 200, body = SessionView), (status = 403, body = ApiError), (status = 429, body = ApiError)))]
pub(crate) async fn sign_in(State(api): State<Api>, Json(form): Json<SignIn>) -> Result<Response, ApiError> {
    api.attempts.allow(&form.name)?;
    let (office, wanted) = (api.office.clone(), form.name.clone());
    let known = blocking(move || office.records.administrator(&wanted)).await?;
    let (name, hash) = known.unzip();
    let password = regnant_radius::Secret::new(form.password.into_bytes());
    let right = api.pool.verify(&form.name, password, hash).await;
    match (right, name) {
        (Ok(true), Some(name)) => signed_in(&api, name),
        (Err(_), _) => Err(ApiError::too_many("Too many passwords are being checked; try again in a moment.")),
        _ => {
            api.attempts.failed(&form.name);
            Err(ApiError::forbidden("Name or password is wrong."))
        }
    }
}

fn signed_in(api: &Api, name: String) -> Result<Response, ApiError> {
    let secret = api.sessions.open(&name)?;
    let cookie = format!("{COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}", SESSION.as_secs());
    Ok(([(header::SET_COOKIE, cookie)], Json(SessionView { name })).into_response())
}

/// Ends the session, or forgets the token that is sent.
#[utoipa::path(post, path = "/api/v1/sign-out", responses((status = 204), (status = 401, body = ApiError)))]
pub(crate) async fn sign_out(State(api): State<Api>, _: Signed, headers: HeaderMap) -> Result<Response, ApiError> {
    if let Some(token) = bearer(&headers) {
        let (office, change) = (api.office.clone(), Change::forget_token(token_hash(token)));
        blocking(move || office.records.apply(&change)).await?;
    } else if let Some(secret) = cookie(&headers) {
        api.sessions.close(secret);
    }
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/session",
    responses((status = 200, body = SessionView), (status = 401, body = ApiError)))]
pub(crate) async fn session(Signed { name }: Signed) -> Json<SessionView> {
    Json(SessionView { name })
}

/// Makes a token with which a program acts as the signed-in administrator.
#[utoipa::path(post, path = "/api/v1/tokens",
    responses((status = 200, body = TokenView), (status = 401, body = ApiError)))]
pub(crate) async fn new_token(State(api): State<Api>, Signed { name }: Signed) -> Result<Json<TokenView>, ApiError> {
    let token = blocking(move || api.office.token_for(&name)).await?;
    Ok(Json(TokenView { token }))
}
