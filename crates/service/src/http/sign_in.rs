//! Signing in and out, and what administrators change about their own account.

use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use axum::Json;
use axum::extract::{Extension, State};
use axum::http::{StatusCode, header};
use axum::response::{AppendHeaders, IntoResponse, Response};
use regnant_base::{Secret, SecretText};
use regnant_records::{Author, KnownAdministrator, Role, ShownCode, new_token, token_hash};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::second_factor::{self, NewSecondFactor};
use crate::clock::now_ms;
use crate::http::Api;
use crate::http::attempts::{BROWSER, Trier, network};
use crate::http::callers::{BROWSER_COOKIE, COOKIE, Proof, Signed, cookie_name};
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;
use crate::http::outside_sessions::Kept;
use crate::http::tokens::TokenView;

pub(crate) const SESSION: Duration = Duration::from_secs(12 * 3600);
/// How long the token lasts that the command line signs in for: whoever works on goes on signing in, and what a
/// program needs for years is made under a name of its own.
const TOKEN: Duration = Duration::from_secs(30 * 24 * 3600);
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
    /// A code of the factor until now, or a recovery code, where there is one.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    present: Option<SecretText>,
    /// The secret that was made for it, in Base32.
    #[schema(value_type = String)]
    secret: SecretText,
    /// A code that was made with it, which shows that it arrived.
    #[schema(value_type = String)]
    code: SecretText,
    /// Whether one's tokens, which were made without it, go on; they end if not said.
    #[serde(default)]
    keep_tokens: bool,
}

/// The password, for what a session alone must not do.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Again {
    #[schema(value_type = String)]
    password: SecretText,
    /// A code of the second factor, or a recovery code, to take it away.
    #[serde(default)]
    #[schema(value_type = Option<String>)]
    code: Option<SecretText>,
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

/// Who showed name, password and what else is wanted.
enum Proved {
    /// An administrator of the records, by this code.
    Known(Box<KnownAdministrator>, ShownCode),
    /// Somebody of a directory: what they are called, their role and what their browser shows.
    Outside(String, Role, String),
}

/// Signs in with name and password; the session is a cookie. Whoever has a second factor
/// sends its code too; without it, the answer is 403 with `needs_code`.
#[utoipa::path(post, path = "/api/v1/sign-in", request_body = SignIn,
    responses((status = 200, body = SessionView), (status = 403, body = ApiError), (status = 429, body = ApiError)))]
pub(crate) async fn sign_in(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    Sent(form): Sent<SignIn>,
) -> Result<Response, ApiError> {
    match prove(&api, &form, &origin).await? {
        Proved::Known(known, code) => {
            let author = Author::new(&known.row.name, origin.source.to_string());
            signed_in(&api, author, known.row.role, code, &origin).await
        }
        Proved::Outside(called, role, secret) => {
            Ok(with_cookies(&api, &secret, &origin, (form.name.trim(), called), role))
        }
    }
}

/// Signs in with name and password, and gives a token in the place of a session, for the command line; it ends
/// after 30 days. Whoever has a second factor sends its code too; without it, the answer is 403 with `needs_code`.
#[utoipa::path(post, path = "/api/v1/sign-in/token", request_body = SignIn,
    responses((status = 200, body = TokenView), (status = 403, body = ApiError), (status = 429, body = ApiError)))]
pub(crate) async fn sign_in_for_token(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    Sent(form): Sent<SignIn>,
) -> Result<Json<TokenView>, ApiError> {
    let (known, code) = match prove(&api, &form, &origin).await? {
        Proved::Known(known, code) => (known, code),
        Proved::Outside(called, _, secret) => {
            api.outside_sessions.close(&secret);
            let (administration, author) =
                (api.administration.clone(), Author::new(&called, origin.source.to_string()));
            blocking(move || administration.administrators.note_sign_out(&author)).await?;
            return Err(ApiError::forbidden(format!(
                "{called} is known to a directory alone, and tokens are of administrators of the records: sign in to the \
                 console, or have an engineer add an administrator for the command line (`regnant administrator add`)."
            )));
        }
    };
    let (role, author) = (known.row.role, Author::new(known.row.name, origin.source.to_string()));
    api.attempts.right(origin.trier(&author.name));
    let ends = (now_ms() + TOKEN.as_millis() as u64).cast_signed();
    let work = move || {
        let administrators = &api.administration.administrators;
        // The session uses up the code; nothing else of it is wanted.
        let session = administrators.open_session(&author, TOKEN, code)?;
        let made = administrators.token_for(&author, "sign-in", (role, Some(ends)), None);
        administrators.close_session(&session, &author)?;
        made
    };
    Ok(Json(TokenView::new(blocking(work).await?)))
}

/// Checks a name, a password and, where there is a second factor, its code; the try is counted first.
async fn prove(api: &Api, form: &SignIn, origin: &Origin) -> Result<Proved, ApiError> {
    // One name however it is typed, to whoever counts guesses and to whoever is asked.
    let typed = form.name.trim();
    if typed.len() > LONGEST_NAME {
        return Err(ApiError::bad(format!("A name has at most {LONGEST_NAME} bytes.")));
    }
    if !api.attempts.reserve(origin.trier(typed)) {
        return Err(ApiError::too_many("Too many wrong passwords; wait a minute, then try again."));
    }
    let (administration, wanted) = (api.administration.clone(), typed.to_owned());
    let known = blocking(move || administration.administrators.known(&wanted)).await?;
    if known.is_none() && api.outside_sessions.are_open() {
        return prove_outside(api, typed, &form.password, origin).await;
    }
    let hash = known.as_ref().map(|known| known.password_hash.clone());
    let right = verified(api, &form.password, hash, origin.trier(typed)).await?;
    let let_in = |known: &KnownAdministrator| right && known.row.is_let_in(now_ms().cast_signed());
    let name = known.as_ref().map(|known| known.row.name.clone());
    let Some(known) = known.filter(let_in) else {
        return Err(refused(api, name, origin, "Name or password is wrong.").await);
    };
    if known.second_factor.is_some() && form.code.is_none() {
        // Whoever has the password has half of what opens: its owner shall know.
        let told = format!("{}, by a right password without its code", known.row.name);
        note_refusal(api, Some(told), origin).await;
        return Err(ApiError::needs_code());
    }
    let code = prove_code(api, &known, form.code.as_ref(), origin).await?;
    Ok(Proved::Known(Box::new(known), code))
}

/// Checks the code of a second factor, where there is one. The try is counted before it is checked, by account,
/// wherever it comes from.
async fn prove_code(
    api: &Api,
    known: &KnownAdministrator,
    code: Option<&SecretText>,
    origin: &Origin,
) -> Result<ShownCode, ApiError> {
    let Some(secret) = &known.second_factor else { return Ok(ShownCode::None) };
    let code = code.ok_or_else(ApiError::needs_code)?;
    let name = &known.row.name;
    if let Err(wait) = api.attempts.reserve_code(name) {
        let seconds = wait.as_secs() + 1;
        return Err(ApiError::too_many(format!(
            "Too many wrong codes for this account, from wherever they came; the next is looked at in {seconds} s. Whoever \
             sends them knows the password: set another one.",
        )));
    }
    match second_factor::shown(secret, &known.recovery, code, now_ms() / 1_000) {
        Some(shown) => {
            api.attempts.right_code(name);
            Ok(shown)
        }
        None => {
            api.attempts.wrong_code(name, origin.source);
            let told = format!("{name}, by a right password and a wrong code");
            note_refusal(api, Some(told), origin).await;
            Err(ApiError::forbidden("The code is wrong, or its time is over."))
        }
    }
}

/// Checks an account of a directory, and opens a session for it.
async fn prove_outside(api: &Api, name: &str, password: &SecretText, origin: &Origin) -> Result<Proved, ApiError> {
    let opened = api.outside_sessions.open(api, name, &Secret::from(password)).await;
    let (called, role, secret) = match opened {
        Ok(opened) => opened,
        Err(Kept::Out) => return Err(refused(api, None, origin, "Name or password is wrong.").await),
        Err(Kept::Silent) => {
            return Err(ApiError::forbidden(
                "The directory does not answer: nobody signs in through it meanwhile. An administrator of the records does.",
            ));
        }
    };
    api.attempts.right(origin.trier(name));
    let (administration, author) = (api.administration.clone(), Author::new(&called, origin.source.to_string()));
    blocking(move || administration.administrators.note_sign_in(&author)).await?;
    Ok(Proved::Outside(called, role, secret))
}

/// Counts a sign-in that failed, and keeps it in the audit: of a name that nobody has only
/// that, since it may be a password that was typed in the wrong place.
async fn refused(api: &Api, known: Option<String>, origin: &Origin, why: &str) -> ApiError {
    note_refusal(api, known, origin).await;
    ApiError::forbidden(why)
}

/// Keeps a refusal in the audit, as far as there is room for so many.
async fn note_refusal(api: &Api, known: Option<String>, origin: &Origin) {
    let Some(left_out) = api.attempts.tell(known.is_some()) else { return };
    let (administration, author) = (api.administration.clone(), Author::new("nobody", origin.source.to_string()));
    let mut name = known.unwrap_or_else(|| "a name that nobody has".into());
    if left_out > 0 {
        name.push_str(&format!(", and {left_out} more before"));
    }
    if let Err(error) = blocking(move || administration.administrators.refuse_sign_in(&name, &author)).await {
        tracing::warn!("a sign-in that was refused cannot be kept in the audit: {error:?}");
    }
}

async fn signed_in(
    api: &Api,
    author: Author,
    role: Role,
    code: ShownCode,
    origin: &Origin,
) -> Result<Response, ApiError> {
    api.attempts.right(origin.trier(&author.name));
    let (administration, name) = (api.administration.clone(), author.name.clone());
    let secret = blocking(move || administration.administrators.open_session(&author, SESSION, code)).await?;
    Ok(with_cookies(api, &secret, origin, (&name.clone(), name), role))
}

/// The session, and what the browser is known by when somebody signs in under that name again.
fn with_cookies(api: &Api, secret: &str, origin: &Origin, (typed, called): (&str, String), role: Role) -> Response {
    let secure = if origin.secure { "; Secure" } else { "" };
    let cookie = |name: &str, value: &str, length: Duration| {
        let (length, name) = (length.as_secs(), cookie_name(name, origin.secure));
        (header::SET_COOKIE, format!("{name}={value}; Path=/; HttpOnly; SameSite=Strict; Max-Age={length}{secure}"))
    };
    let cookies = [cookie(COOKIE, secret, SESSION), cookie(BROWSER_COOKIE, &api.attempts.browser(typed), BROWSER)];
    let view = Json(SessionView { name: called, role: role.word().to_owned() });
    (AppendHeaders(cookies), view).into_response()
}

/// Ends the session, or forgets the token that is sent.
#[utoipa::path(post, path = "/api/v1/sign-out", responses((status = 204), (status = 401, body = ApiError)))]
pub(crate) async fn sign_out(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    signed: Signed,
) -> Result<Response, ApiError> {
    blocking(move || match &signed.proof {
        Proof::Token(token) => api.administration.administrators.forget_token(token_hash(token), &signed.author),
        Proof::Cookie(secret) if api.outside_sessions.close(secret) => {
            api.administration.administrators.note_sign_out(&signed.author)
        }
        Proof::Cookie(secret) => api.administration.administrators.close_session(secret, &signed.author),
    })
    .await?;
    let (name, secure) = (cookie_name(COOKIE, origin.secure), if origin.secure { "; Secure" } else { "" });
    let cookie = format!("{name}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0{secure}");
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
    api.attempts.new_password(&known.row.name);
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
    in_a_session(&signed)?;
    let known = prove_again(&api, &signed, &form.password, &origin).await?;
    prove_code(&api, &known, form.present.as_ref(), &origin).await?;
    let secret = second_factor::read_secret(&form.secret)
        .ok_or_else(|| ApiError::bad("The secret is not one that was made for this: begin again."))?;
    if second_factor::step_of(&secret, &form.code, now_ms() / 1_000).is_none() {
        return Err(ApiError::bad("The code does not fit the secret: is the clock of the device right?"));
    }
    let work = move || {
        let administrators = &api.administration.administrators;
        administrators.set_second_factor(&known.row.name, &secret, form.keep_tokens, &signed.author)
    };
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
    in_a_session(&signed)?;
    let known = prove_again(&api, &signed, &form.password, &origin).await?;
    prove_code(&api, &known, form.code.as_ref(), &origin).await?;
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

/// A token that was found, and a password, are not enough to change what a sign-in takes.
fn in_a_session(signed: &Signed) -> Result<(), ApiError> {
    match signed.proof {
        Proof::Cookie(_) => Ok(()),
        Proof::Token(_) => {
            Err(ApiError::forbidden("A second factor is set and taken away in the console, in a session."))
        }
    }
}

/// The password, and the code where there is a second factor, for what lasts longer than what shows who calls, or
/// reaches further. `why` is told where no password was sent.
pub(crate) async fn prove_both_again(
    api: &Api,
    signed: &Signed,
    (password, code): (Option<&SecretText>, Option<&SecretText>),
    origin: &Origin,
    why: &str,
) -> Result<(), ApiError> {
    let wanted = || ApiError::forbidden(format!("{why}: send your `password` too, and the `code` where you have one."));
    let known = prove_again(api, signed, password.ok_or_else(wanted)?, origin).await?;
    let code = prove_code(api, &known, code, origin).await?;
    let (administration, author) = (api.administration.clone(), signed.author.clone());
    blocking(move || administration.administrators.use_up(code, &author)).await
}

/// Whoever finds a browser open, or a token, does not know the password.
async fn prove_again(
    api: &Api,
    signed: &Signed,
    password: &SecretText,
    origin: &Origin,
) -> Result<KnownAdministrator, ApiError> {
    let name = signed.bearer.administrator.clone();
    api.quota.take(signed, 1)?;
    if !api.attempts.reserve(origin.trier(&name)) {
        return Err(ApiError::too_many("Too many wrong passwords; wait a minute, then try again."));
    }
    let (administration, wanted) = (api.administration.clone(), name.clone());
    let known = blocking(move || administration.administrators.known(&wanted)).await?;
    let known = known.ok_or_else(|| {
        ApiError::bad("Your account is one of the directory: its password and second factor are kept there.")
    })?;
    let hash = Some(known.password_hash.clone());
    match verified(api, password, hash, origin.trier(&name)).await? {
        true => {
            api.attempts.right(origin.trier(&name));
            Ok(known)
        }
        false => Err(refused(api, Some(name), origin, "The password is wrong.").await),
    }
}

/// Whether a password has this hash. Whoever guesses delays nobody in a browser that is known, and elsewhere
/// waits behind what they sent themselves.
async fn verified(api: &Api, password: &SecretText, hash: Option<String>, trier: Trier<'_>) -> Result<bool, ApiError> {
    let pool = if api.attempts.knows(trier) { &api.known_pool } else { &api.pool };
    let right = pool.verify(&network(trier.source).to_string(), Secret::from(password), hash).await;
    right.map_err(|_| ApiError::too_many("Too many passwords are being checked; try again in a moment."))
}
