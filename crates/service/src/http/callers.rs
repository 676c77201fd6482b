//! Who calls: a cookie for the console, a token for programs.

use std::collections::{HashMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::{Extension, FromRequestParts, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use regnant_base::{Secret, SecretText};
use regnant_records::{new_token as random_token, token_hash};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::http::Api;
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;

const COOKIE: &str = "regnant-session";
const SESSION: Duration = Duration::from_secs(12 * 3600);
/// Sessions of one administrator; the oldest goes.
const MOST_SESSIONS: usize = 16;
/// The longest name that anybody has.
const LONGEST_NAME: usize = 253;

/// A signed-in administrator.
#[derive(Clone)]
pub(crate) struct Signed {
    pub(crate) name: String,
    proof: Proof,
}

/// What shows who calls.
#[derive(Clone)]
enum Proof {
    Token(String),
    Cookie(String),
}

impl FromRequestParts<Api> for Signed {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, api: &Api) -> Result<Self, ApiError> {
        // Whoever sent a body was known before it was read.
        if let Some(signed) = parts.extensions.get::<Self>() {
            return Ok(signed.clone());
        }
        let origin = parts.extensions.get::<Origin>().cloned().ok_or_else(ApiError::not_signed_in)?;
        let proof = match (bearer(&parts.headers), cookie(&parts.headers)) {
            (Some(token), _) => Proof::Token(token.to_owned()),
            (None, Some(secret)) => Proof::Cookie(secret.to_owned()),
            (None, None) => return Err(ApiError::not_signed_in()),
        };
        let name = owner(&proof, api).await?.ok_or_else(ApiError::not_signed_in)?;
        // A page of another site can make a browser send our cookie with a form.
        let by_browser = matches!(proof, Proof::Cookie(_)) && parts.method != Method::GET;
        if by_browser && !same_origin(&parts.headers, &origin.host) {
            return Err(ApiError::forbidden("This call came from a page of another site."));
        }
        api.attempts.right(&name, origin.source);
        Ok(Self { name, proof })
    }
}

impl Signed {
    /// Whether the session or token that was sent still stands.
    pub(crate) async fn still_stands(&self, api: &Api) -> bool {
        matches!(owner(&self.proof, api).await, Ok(Some(name)) if name == self.name)
    }
}

async fn owner(proof: &Proof, api: &Api) -> Result<Option<String>, ApiError> {
    match proof {
        Proof::Cookie(secret) => Ok(api.sessions.owner(secret)),
        Proof::Token(token) => {
            let (administration, token) = (api.administration.clone(), token.clone());
            blocking(move || administration.administrators.token_owner(&token)).await
        }
    }
}

fn bearer(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

fn cookie(headers: &HeaderMap) -> Option<&str> {
    let all = headers.get(header::COOKIE)?.to_str().ok()?;
    all.split(';').find_map(|one| one.trim().strip_prefix(COOKIE)?.strip_prefix('='))
}

fn same_origin(headers: &HeaderMap, host: &str) -> bool {
    match headers.get(header::ORIGIN).map(|value| value.to_str()) {
        None => true,
        Some(Ok(origin)) => origin.split_once("://").is_some_and(|(_, from)| from == host),
        Some(Err(_)) => false,
    }
}

/// Console sessions. They end with the service.
#[derive(Default)]
pub(crate) struct Sessions {
    /// By whom, the oldest first.
    inner: Mutex<HashMap<String, VecDeque<Session>>>,
}

struct Session {
    hash: [u8; 32],
    since: Instant,
}

impl Sessions {
    fn open(&self, name: &str) -> String {
        let secret = random_token();
        let mut sessions = lock(&self.inner);
        let own = sessions.entry(name.to_owned()).or_default();
        own.retain(|session| session.since.elapsed() < SESSION);
        if own.len() >= MOST_SESSIONS {
            own.pop_front();
        }
        own.push_back(Session { hash: token_hash(&secret).0, since: Instant::now() });
        secret
    }

    fn owner(&self, secret: &str) -> Option<String> {
        let (sessions, hash) = (lock(&self.inner), token_hash(secret).0);
        let holds = |session: &Session| session.hash == hash && session.since.elapsed() < SESSION;
        sessions.iter().find(|(_, own)| own.iter().any(holds)).map(|(name, _)| name.clone())
    }

    fn close(&self, secret: &str) {
        let hash = token_hash(secret).0;
        lock(&self.inner).values_mut().for_each(|own| own.retain(|session| session.hash != hash));
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
        *lock(&self.hash) = Some(token_hash(&secret).0);
        secret
    }

    fn fits(&self, secret: &str) -> bool {
        *lock(&self.hash) == Some(token_hash(secret).0)
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
    #[schema(value_type = String)]
    password: SecretText,
}

/// The first administrator.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct WelcomeForm {
    /// The secret of the one-time link, after its `#`.
    #[schema(value_type = String)]
    secret: SecretText,
    name: String,
    #[schema(value_type = String)]
    password: SecretText,
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
pub(crate) async fn welcome(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    Sent(form): Sent<WelcomeForm>,
) -> Result<Response, ApiError> {
    if !api.welcome.fits(form.secret.expose()) {
        return Err(ApiError::forbidden(
            "This link was used or is of an earlier start; the service prints a new one when it starts without administrators.",
        ));
    }
    let (administration, name) = (api.administration.clone(), form.name.trim().to_owned());
    blocking(move || administration.administrators.set(&form.name, form.password.expose(), form.name.trim())).await?;
    api.welcome.close();
    Ok(signed_in(&api, name, &origin))
}

/// Signs in with name and password; the session is a cookie.
#[utoipa::path(post, path = "/api/v1/sign-in", request_body = SignIn,
    responses((status = 200, body = SessionView), (status = 403, body = ApiError), (status = 429, body = ApiError)))]
pub(crate) async fn sign_in(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    Sent(form): Sent<SignIn>,
) -> Result<Response, ApiError> {
    if form.name.len() > LONGEST_NAME {
        return Err(ApiError::bad(format!("A name has at most {LONGEST_NAME} bytes.")));
    }
    if !api.attempts.allow(&form.name, origin.source) {
        return Err(ApiError::too_many("Too many wrong passwords; wait a minute, then try again."));
    }
    let (administration, wanted) = (api.administration.clone(), form.name.clone());
    let known = blocking(move || administration.administrators.known(&wanted)).await?;
    let (name, hash) = known.unzip();
    let password = Secret::from(&form.password);
    let right = api.pool.verify(&origin.source.to_string(), password, hash).await;
    match (right, name) {
        (Ok(true), Some(name)) => Ok(signed_in(&api, name, &origin)),
        (Err(_), _) => Err(ApiError::too_many("Too many passwords are being checked; try again in a moment.")),
        _ => {
            api.attempts.wrong(&form.name, origin.source);
            Err(ApiError::forbidden("Name or password is wrong."))
        }
    }
}

fn signed_in(api: &Api, name: String, origin: &Origin) -> Response {
    api.attempts.right(&name, origin.source);
    let (secret, secure) = (api.sessions.open(&name), if origin.secure { "; Secure" } else { "" });
    let cookie = format!("{COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}{secure}", SESSION.as_secs());
    ([(header::SET_COOKIE, cookie)], Json(SessionView { name })).into_response()
}

/// Ends the session, or forgets the token that is sent.
#[utoipa::path(post, path = "/api/v1/sign-out", responses((status = 204), (status = 401, body = ApiError)))]
pub(crate) async fn sign_out(
    State(api): State<Api>,
    Signed { name, .. }: Signed,
    headers: HeaderMap,
) -> Result<Response, ApiError> {
    if let Some(token) = bearer(&headers) {
        let (administration, token) = (api.administration.clone(), token.to_owned());
        blocking(move || administration.administrators.forget_token(&token, &name)).await?;
    } else if let Some(secret) = cookie(&headers) {
        api.sessions.close(secret);
    }
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/session",
    responses((status = 200, body = SessionView), (status = 401, body = ApiError)))]
pub(crate) async fn session(Signed { name, .. }: Signed) -> Json<SessionView> {
    Json(SessionView { name })
}

/// Makes a token with which a program acts as the signed-in administrator.
#[utoipa::path(post, path = "/api/v1/tokens",
    responses((status = 200, body = TokenView), (status = 401, body = ApiError)))]
pub(crate) async fn new_token(
    State(api): State<Api>,
    Signed { name, .. }: Signed,
) -> Result<Json<TokenView>, ApiError> {
    let token = blocking(move || api.administration.administrators.token_for(&name)).await?;
    Ok(Json(TokenView { token }))
}
