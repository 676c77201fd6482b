//! Signing in and out, and what administrators change about their own account.

use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use regnant_base::{Secret, SecretText};
use regnant_records::{Author, KnownAdministrator, Role, ShownCode, new_token, token_hash};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::second_factor::{self, NewSecondFactor};
use crate::clock::now_ms;
use crate::http::Api;
use crate::http::callers::{COOKIE, Proof, Signed};
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;
use crate::http::outside_sessions::Kept;

pub(crate) const SESSION: Duration = Duration::from_secs(12 * 3600);
/// The longest name that anybody has.
const LONGEST_NAME: usize = 253;

/// The one-time link to set the first administrator's password.
#[derive(Default)]
pub(crate) struct Welcome {
    hash: Mutex<Option<[u8; 32]>>,
}

impl Welcome {
    pub(crate) fn open(&self) -> String {
        let secret = new_token();
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
    /// The code of the second factor, or a recovery code, where there is one.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    code: Option<SecretText>,
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

/// Another password of one's own.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct OwnPassword {
    /// The one until now.
    #[schema(value_type = String)]
    current: SecretText,
    /// The one from now on.
    #[schema(value_type = String)]
    new: SecretText,
}

/// A second factor that somebody wants.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct OwnSecondFactor {
    /// The password.
    #[schema(value_type = String)]
    password: SecretText,
    /// The secret that was made for it, in Base32.
    #[schema(value_type = String)]
    secret: SecretText,
    /// A code that was made with it, which shows that it arrived.
    #[schema(value_type = String)]
    code: SecretText,
}

/// The password, for what a session alone must not do.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Again {
    #[schema(value_type = String)]
    password: SecretText,
}

/// Codes that open once in the place of a second factor, shown this once.
#[derive(Serialize, ToSchema)]
pub(crate) struct RecoveryCodes {
    codes: Vec<String>,
}

/// Who is signed in.
#[derive(Serialize, ToSchema)]
pub(crate) struct SessionView {
    /// The administrator's name.
    name: String,
    /// `engineer`, `helpdesk` or `auditor`.
    role: String,
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
    let author = Author::new(&name, origin.source.to_string());
    let by = author.clone();
    blocking(move || administration.administrators.add_first(&name, form.password.expose(), &by)).await?;
    api.welcome.close();
    signed_in(&api, author, Role::Engineer, ShownCode::None, &origin).await
}

/// Signs in with name and password; the session is a cookie. Whoever has a second factor
/// sends its code too; without it, the answer is 403 with `needs_code`.
#[utoipa::path(post, path = "/api/v1/sign-in", request_body = SignIn,
    responses((status = 200, body = SessionView), (status = 403, body = ApiError), (status = 429, body = ApiError)))]
pub(crate) async fn sign_in(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    Sent(mut form): Sent<SignIn>,
) -> Result<Response, ApiError> {
    // One name however it is typed, to whoever counts guesses and to whoever is asked.
    form.name = form.name.trim().to_owned();
    if form.name.len() > LONGEST_NAME {
        return Err(ApiError::bad(format!("A name has at most {LONGEST_NAME} bytes.")));
    }
    let may_try = api.attempts.allow(&form.name, origin.source)
        && (form.code.is_none() || api.attempts.allow_guess(&form.name, origin.source));
    if !may_try {
        return Err(ApiError::too_many("Too many wrong passwords; wait a minute, then try again."));
    }
    let (administration, wanted) = (api.administration.clone(), form.name.clone());
    let known = blocking(move || administration.administrators.known(&wanted)).await?;
    if known.is_none() && api.outside_sessions.are_open() {
        return sign_in_outside(&api, &form, &origin).await;
    }
    let hash = known.as_ref().map(|known| known.password_hash.clone());
    let right = api.pool.verify(&origin.source.to_string(), Secret::from(&form.password), hash).await;
    let right =
        right.map_err(|_| ApiError::too_many("Too many passwords are being checked; try again in a moment."))?;
    let let_in = |known: &KnownAdministrator| right && known.row.is_let_in(now_ms().cast_signed());
    let name = known.as_ref().map(|known| known.row.name.clone());
    let Some(known) = known.filter(let_in) else {
        return Err(refused(&api, &form.name, name, &origin, "Name or password is wrong.").await);
    };
    let author = Author::new(&known.row.name, origin.source.to_string());
    let code = match (&known.second_factor, &form.code) {
        (None, _) => Some(ShownCode::None),
        (Some(_), None) => return Err(ApiError::needs_code()),
        (Some(secret), Some(code)) => second_factor::shown(secret, &known.recovery, code, now_ms() / 1_000),
    };
    match code {
        Some(code) => signed_in(&api, author, known.row.role, code, &origin).await,
        None => Err(refused(&api, &form.name, name, &origin, "The code is wrong, or its time is over.").await),
    }
}

/// Signs in by an account of a directory.
async fn sign_in_outside(api: &Api, form: &SignIn, origin: &Origin) -> Result<Response, ApiError> {
    let opened = api.outside_sessions.open(api, &form.name, &Secret::from(&form.password)).await;
    let (called, role, secret) = match opened {
        Ok(opened) => opened,
        Err(Kept::Out) => return Err(refused(api, &form.name, None, origin, "Name or password is wrong.").await),
        Err(Kept::Silent) => {
            return Err(ApiError::forbidden(
                "The directory does not answer: nobody signs in through it meanwhile. An administrator of the records does.",
            ));
        }
    };
    api.attempts.right(&form.name, origin.source);
    let (administration, author) = (api.administration.clone(), Author::new(&called, origin.source.to_string()));
    blocking(move || administration.administrators.note_sign_in(&author)).await?;
    Ok(with_cookie(&secret, origin, called, role))
}

/// Counts a sign-in that failed, and keeps it in the audit: of a name that nobody has only
/// that, since it may be a password that was typed in the wrong place.
async fn refused(api: &Api, given: &str, known: Option<String>, origin: &Origin, why: &str) -> ApiError {
    if api.attempts.wrong(given, origin.source) {
        let (administration, author) = (api.administration.clone(), Author::new("nobody", origin.source.to_string()));
        let name = known.unwrap_or_else(|| "a name that nobody has".into());
        let kept = blocking(move || administration.administrators.refuse_sign_in(&name, &author)).await;
        if let Err(error) = kept {
            tracing::warn!("a sign-in that was refused cannot be kept in the audit: {error:?}");
        }
    }
    ApiError::forbidden(why)
}

async fn signed_in(
    api: &Api,
    author: Author,
    role: Role,
    code: ShownCode,
    origin: &Origin,
) -> Result<Response, ApiError> {
    api.attempts.right(&author.name, origin.source);
    let (administration, name) = (api.administration.clone(), author.name.clone());
    let secret = blocking(move || administration.administrators.open_session(&author, SESSION, code)).await?;
    Ok(with_cookie(&secret, origin, name, role))
}

fn with_cookie(secret: &str, origin: &Origin, name: String, role: Role) -> Response {
    let secure = if origin.secure { "; Secure" } else { "" };
    let cookie = format!("{COOKIE}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}{secure}", SESSION.as_secs());
    let role = role.word().to_owned();
    ([(header::SET_COOKIE, cookie)], Json(SessionView { name, role })).into_response()
}

/// Ends the session, or forgets the token that is sent.
#[utoipa::path(post, path = "/api/v1/sign-out", responses((status = 204), (status = 401, body = ApiError)))]
pub(crate) async fn sign_out(State(api): State<Api>, signed: Signed) -> Result<Response, ApiError> {
    blocking(move || match &signed.proof {
        Proof::Token(token) => api.administration.administrators.forget_token(token_hash(token), &signed.author),
        Proof::Cookie(secret) if api.outside_sessions.close(secret) => Ok(()),
        Proof::Cookie(secret) => api.administration.administrators.close_session(secret, &signed.author),
    })
    .await?;
    let cookie = format!("{COOKIE}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
    Ok((StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response())
}

/// Who is signed in.
#[utoipa::path(get, path = "/api/v1/session",
    responses((status = 200, body = SessionView), (status = 401, body = ApiError)))]
pub(crate) async fn session(signed: Signed) -> Json<SessionView> {
    let role = signed.role().word().to_owned();
    Json(SessionView { name: signed.bearer.administrator, role })
}

/// Sets another password of one's own. Every session of the account ends, and a new one
/// begins.
#[utoipa::path(put, path = "/api/v1/session/password", operation_id = "set_own_password", request_body = OwnPassword,
    responses((status = 200, body = SessionView), (status = 400, body = ApiError), (status = 403, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn set_own_password(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    signed: Signed,
    Sent(form): Sent<OwnPassword>,
) -> Result<Response, ApiError> {
    let known = prove_again(&api, &signed, &form.current, &origin).await?;
    let (administration, author, name) = (api.administration.clone(), signed.author.clone(), known.row.name.clone());
    blocking(move || administration.administrators.set_password(&name, form.new.expose(), &author)).await?;
    begin_anew(&api, &signed, known, &origin).await
}

/// Makes the secret of a second factor (RFC 6238), which counts once it is set.
#[utoipa::path(post, path = "/api/v1/session/second-factor", operation_id = "make_second_factor", request_body = Again,
    responses((status = 200, body = NewSecondFactor), (status = 403, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn make_second_factor(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    signed: Signed,
    Sent(form): Sent<Again>,
) -> Result<Json<NewSecondFactor>, ApiError> {
    let known = prove_again(&api, &signed, &form.password, &origin).await?;
    Ok(Json(NewSecondFactor::make(&known.row.name)))
}

/// Sets a second factor of one's own, and shows its recovery codes this once. Every session
/// of the account ends.
#[utoipa::path(put, path = "/api/v1/session/second-factor", operation_id = "set_second_factor",
    request_body = OwnSecondFactor,
    responses((status = 200, body = RecoveryCodes), (status = 400, body = ApiError), (status = 403, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn set_second_factor(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    signed: Signed,
    Sent(form): Sent<OwnSecondFactor>,
) -> Result<Json<RecoveryCodes>, ApiError> {
    let known = prove_again(&api, &signed, &form.password, &origin).await?;
    let secret = second_factor::read_secret(&form.secret)
        .ok_or_else(|| ApiError::bad("The secret is not one that was made for this: begin again."))?;
    if second_factor::step_of(&secret, &form.code, now_ms() / 1_000).is_none() {
        return Err(ApiError::bad("The code does not fit the secret: is the clock of the device right?"));
    }
    let work = move || api.administration.administrators.set_second_factor(&known.row.name, &secret, &signed.author);
    Ok(Json(RecoveryCodes { codes: blocking(work).await? }))
}

/// Takes away a second factor of one's own. Every session of the account ends, and a new
/// one begins.
#[utoipa::path(delete, path = "/api/v1/session/second-factor", operation_id = "remove_second_factor", request_body = Again,
    responses((status = 200, body = SessionView), (status = 403, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn remove_second_factor(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    signed: Signed,
    Sent(form): Sent<Again>,
) -> Result<Response, ApiError> {
    let known = prove_again(&api, &signed, &form.password, &origin).await?;
    let (administration, author, name) = (api.administration.clone(), signed.author.clone(), known.row.name.clone());
    blocking(move || administration.administrators.remove_second_factor(&name, &author)).await?;
    begin_anew(&api, &signed, KnownAdministrator { second_factor: None, ..known }, &origin).await
}

/// The session that one had has ended with the account as it was. With a second factor the
/// next begins with a code.
async fn begin_anew(
    api: &Api,
    signed: &Signed,
    known: KnownAdministrator,
    origin: &Origin,
) -> Result<Response, ApiError> {
    let role = known.row.role;
    match (&signed.proof, known.second_factor) {
        (Proof::Cookie(_), None) => {
            signed_in(api, Author::new(known.row.name, origin.source.to_string()), role, ShownCode::None, origin).await
        }
        _ => Ok(Json(SessionView { name: known.row.name, role: role.word().to_owned() }).into_response()),
    }
}

/// Whoever finds a browser open, or a token, does not know the password.
async fn prove_again(
    api: &Api,
    signed: &Signed,
    password: &SecretText,
    origin: &Origin,
) -> Result<KnownAdministrator, ApiError> {
    let name = signed.bearer.administrator.clone();
    if !api.attempts.allow_guess(&name, origin.source) {
        return Err(ApiError::too_many("Too many wrong passwords; wait a minute, then try again."));
    }
    let (administration, wanted) = (api.administration.clone(), name.clone());
    let known = blocking(move || administration.administrators.known(&wanted)).await?;
    let known = known.ok_or_else(|| {
        ApiError::bad("Your account is one of the directory: its password and second factor are kept there.")
    })?;
    let hash = Some(known.password_hash.clone());
    match api.pool.verify(&origin.source.to_string(), Secret::from(password), hash).await {
        Ok(true) => Ok(known),
        Ok(false) => Err(refused(api, &name, Some(name.clone()), origin, "The password is wrong.").await),
        Err(_) => Err(ApiError::too_many("Too many passwords are being checked; try again in a moment.")),
    }
}
