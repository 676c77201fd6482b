use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use regnant_base::SecretText;
use regnant_records::{Role, TokenHash, TokenRow, TokenUse, token_hash};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::clock::{iso, now_ms};
use crate::http::Api;
use crate::http::callers::{Permission, Proof, ReadAudit, Signed};
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::{shown, time};
use crate::http::short_list::Wanted;
use crate::http::sign_in::prove_both_again;

/// A token, by what is known of it without knowing it.
#[derive(Serialize, ToSchema)]
pub(crate) struct TokenEntry {
    /// The beginning of its hash, in hexadecimal digits.
    id: String,
    administrator: String,
    /// What its owner calls it; may be empty.
    name: String,
    /// What it may do, as far as its owner may.
    role: String,
    created: String,
    /// When it ends; never where there is none.
    expires: Option<String>,
    /// The token that it was made with, and with which it ends, by its id.
    parent: Option<String>,
    /// When it was used last, to within a minute.
    used: Option<String>,
    /// From where.
    used_from: Option<String>,
}

/// Tokens: those of everybody for whoever may read that, else one's own.
#[derive(Serialize, ToSchema)]
pub(crate) struct TokenList {
    tokens: Vec<TokenEntry>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A token that is wanted.
#[derive(Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewToken {
    /// What to call it.
    #[serde(default)]
    name: String,
    /// What it may do; one's own role if not said.
    #[schema(value_type = Option<String>)]
    role: Option<Role>,
    /// When it ends; never if not said.
    expires: Option<String>,
    /// The password, where it is made in a session: whoever finds a browser open does not know it.
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    /// A code of the second factor, or a recovery code, where there is one, likewise.
    #[schema(value_type = Option<String>)]
    code: Option<SecretText>,
}

/// A token, shown this once.
#[derive(Serialize, ToSchema)]
pub(crate) struct TokenView {
    /// By what it is known.
    id: String,
    /// Send it as `Authorization: Bearer TOKEN`.
    token: String,
}

impl TokenView {
    pub(crate) fn new((token, hash): (String, TokenHash)) -> Self {
        Self { id: hash.id(), token }
    }
}

impl TokenEntry {
    fn new(row: TokenRow, uses: &[TokenUse]) -> Self {
        let used = uses.iter().find(|used| used.hash == row.hash);
        Self {
            id: row.hash.id(),
            administrator: row.administrator,
            name: row.name,
            role: row.role.word().to_owned(),
            created: iso(row.created_at.cast_unsigned()),
            expires: shown(row.expires),
            parent: row.parent.map(|parent| parent.id()),
            used: used.map(|used| iso(used.at)),
            used_from: used.map(|used| used.from.clone()),
        }
    }
}

/// Tokens by owner and id, a page at a time: those of everybody for engineers and auditors, else
/// one's own.
#[utoipa::path(get, path = "/api/v1/tokens", params(Wanted),
    responses((status = 200, body = TokenList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn tokens(
    State(api): State<Api>,
    signed: Signed,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<TokenList>, ApiError> {
    let key = |one: &TokenEntry| format!("{}/{}", one.administrator.to_lowercase(), one.id);
    let texts = |one: &TokenEntry| vec![one.administrator.clone(), one.name.clone(), one.role.clone(), one.id.clone()];
    let (tokens, next) = wanted.of(seen_by(api, signed).await?, key, texts)?;
    Ok(Json(TokenList { tokens, next }))
}

/// A token, by its id.
#[utoipa::path(get, path = "/api/v1/tokens/{id}", params(("id" = String, Path)),
    responses((status = 200, body = TokenEntry), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn token(
    State(api): State<Api>,
    signed: Signed,
    Path(id): Path<String>,
) -> Result<Json<TokenEntry>, ApiError> {
    let found = seen_by(api, signed).await?.into_iter().find(|one| one.id == id);
    found.map(Json).ok_or_else(no_such_token)
}

fn no_such_token() -> ApiError {
    ApiError::not_found("There is no such token of yours; `GET /api/v1/tokens` tells their ids.")
}

/// The tokens that somebody may know of.
async fn seen_by(api: Api, signed: Signed) -> Result<Vec<TokenEntry>, ApiError> {
    let of_everybody = signed.may(ReadAudit::ROLES);
    let work = move || {
        let administrators = &api.administration.administrators;
        let (rows, uses) = (administrators.tokens()?, administrators.token_uses()?);
        let own = |row: &TokenRow| of_everybody || row.administrator == signed.bearer.administrator;
        Ok::<_, regnant_records::RecordsError>(
            rows.into_iter().filter(own).map(|row| TokenEntry::new(row, &uses)).collect::<Vec<_>>(),
        )
    };
    blocking(work).await
}

/// Makes a token with which a program acts as the signed-in administrator. A token makes
/// only tokens that may no more than itself, last no longer, and end with it. In a session the password is wanted
/// again, with the code of the second factor where there is one; without it, the answer is 403 with `needs_code`.
#[utoipa::path(post, path = "/api/v1/tokens", operation_id = "add_token", request_body = Option<NewToken>,
    responses((status = 200, body = TokenView), (status = 400, body = ApiError), (status = 403, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    signed: Signed,
    new: Option<Sent<NewToken>>,
) -> Result<Json<TokenView>, ApiError> {
    let new = new.map(|Sent(new)| new).unwrap_or_default();
    let role = new.role.unwrap_or_else(|| signed.role());
    api.quota.take(&signed, 1)?;
    may_make(&signed, role)?;
    let expires = end(new.expires.as_deref())?;
    if let Proof::Cookie(_) = signed.proof {
        let shown = (new.password.as_ref(), new.code.as_ref());
        prove_both_again(&api, &signed, shown, &origin, "A token outlives the session").await?;
    }
    let work = move || {
        let parent = sent_token(&api, &signed)?;
        let expires = match parent.as_ref().and_then(|row| row.expires) {
            // Of one that ends, another ends with it at the latest.
            Some(own) if expires.is_none() => Some(own),
            _ => within_own_end(&api, &signed, expires)?,
        };
        let (parent, bounds) = (parent.map(|row| row.hash), (role, expires));
        api.administration.administrators.token_for(&signed.author, &new.name, bounds, parent).map_err(ApiError::from)
    };
    Ok(Json(TokenView::new(blocking(work).await?)))
}

/// The token that was sent, where one was.
fn sent_token(api: &Api, signed: &Signed) -> Result<Option<TokenRow>, ApiError> {
    let Proof::Token(token) = &signed.proof else { return Ok(None) };
    let hash = token_hash(token);
    Ok(api.administration.administrators.tokens()?.into_iter().find(|row| row.hash == hash))
}

/// An end that a token may give another: none after its own. Else one that ends would live on in what it makes.
fn within_own_end(api: &Api, signed: &Signed, expires: Option<i64>) -> Result<Option<i64>, ApiError> {
    match sent_token(api, signed)?.and_then(|row| row.expires) {
        Some(own) if expires.is_none_or(|expires| expires > own) => Err(ApiError::forbidden(format!(
            "You act by a token that ends {}: it gives none a later end. Sign in for that.",
            iso(own.cast_unsigned())
        ))),
        _ => Ok(expires),
    }
}

/// Whether somebody may have a token of a role: one that may no more than they.
fn may_make(signed: &Signed, role: Role) -> Result<(), ApiError> {
    let within = |most: Role| most == Role::Engineer || most == role;
    match within(signed.bearer.role) && signed.bearer.token.as_ref().is_none_or(|(_, most)| within(*most)) {
        true => Ok(()),
        false => Err(ApiError::forbidden(format!(
            "You are signed in as {}: a token of yours is one too.",
            signed.role().word()
        ))),
    }
}

fn end(expires: Option<&str>) -> Result<Option<i64>, ApiError> {
    let expires = expires.filter(|text| !text.is_empty()).map(time).transpose()?;
    match expires.is_some_and(|at| at <= now_ms().cast_signed()) {
        true => Err(ApiError::bad("`expires` is over already.")),
        false => Ok(expires),
    }
}

/// What of a token shall be otherwise; what is left out stays.
#[derive(Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TokenPatch {
    /// What to call it.
    name: Option<String>,
    /// What it may do.
    #[schema(value_type = Option<String>)]
    role: Option<Role>,
    /// When it ends; empty is never.
    expires: Option<String>,
}

/// Changes a token: one's own, or for an engineer anybody's. A token changes only tokens that
/// may no more than itself, before and after, gives none a later end than its own, and never changes itself.
#[utoipa::path(patch, path = "/api/v1/tokens/{id}", operation_id = "change_token", params(("id" = String, Path)),
    request_body = TokenPatch,
    responses((status = 204), (status = 400, body = ApiError), (status = 403, body = ApiError),
        (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn change(
    State(api): State<Api>,
    signed: Signed,
    Path(id): Path<String>,
    Sent(patch): Sent<TokenPatch>,
) -> Result<StatusCode, ApiError> {
    api.quota.take(&signed, 1)?;
    let expires = patch.expires.as_deref().map(|text| end(Some(text))).transpose()?;
    let work = move || {
        let row = own(&api, &signed, &id)?;
        if sent_token(&api, &signed)?.is_some_and(|sent| sent.hash == row.hash) {
            return Err(ApiError::forbidden("A token does not change itself: sign in for that."));
        }
        let role = patch.role.unwrap_or(row.role);
        may_make(&signed, role)?;
        let name = patch.name.as_deref().unwrap_or(&row.name);
        let expires = match expires {
            Some(wanted) => within_own_end(&api, &signed, wanted)?,
            None => row.expires,
        };
        let change = (name, role, expires);
        api.administration.administrators.change_token(&row, change, &signed.author).map_err(ApiError::from)
    };
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A token that somebody may change or revoke.
fn own(api: &Api, signed: &Signed, id: &str) -> Result<TokenRow, ApiError> {
    let anybodys = signed.may(&[Role::Engineer]);
    // A token that may less than its owner ends or changes none that may more.
    let fits = |row: &TokenRow| signed.bearer.token.is_none() || row.role == signed.role();
    let own = |row: &TokenRow| anybodys || (row.administrator == signed.bearer.administrator && fits(row));
    let mut all = api.administration.administrators.tokens()?.into_iter().filter(own);
    all.find(|row| row.hash.id() == id).ok_or_else(no_such_token)
}

/// Revokes a token: one's own, or for an engineer anybody's.
#[utoipa::path(delete, path = "/api/v1/tokens/{id}", operation_id = "revoke_token", params(("id" = String, Path)),
    responses((status = 204), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn revoke(
    State(api): State<Api>,
    signed: Signed,
    Path(id): Path<String>,
) -> Result<StatusCode, ApiError> {
    api.quota.take(&signed, 1)?;
    let work = move || {
        let row = own(&api, &signed, &id)?;
        api.administration.administrators.forget_token(row.hash, &signed.author).map_err(ApiError::from)
    };
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}
