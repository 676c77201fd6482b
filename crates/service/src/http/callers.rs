//! Who calls, and what they may do: a cookie for the console, a token for programs.

use std::marker::PhantomData;
use std::net::IpAddr;

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, header};
use regnant_records::{Author, Bearer, Role};

use crate::clock::now_ms;
use crate::http::Api;
use crate::http::connections::Peer;
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};

pub(crate) const COOKIE: &str = "regnant-session";
/// What a browser is known by that signed in before.
pub(crate) const BROWSER_COOKIE: &str = "regnant-browser";

/// What a cookie is called. Over TLS browsers take it from this host alone, and not from others of its domain
/// (`__Host-`, RFC 6265bis section 4.1.3.2).
pub(crate) fn cookie_name(name: &str, secure: bool) -> String {
    let prefix = if secure { "__Host-" } else { "" };
    format!("{prefix}{name}")
}

/// A signed-in administrator.
#[derive(Clone)]
pub(crate) struct Signed {
    /// Who it is and from where, as the audit tells it.
    pub(crate) author: Author,
    pub(crate) bearer: Bearer,
    pub(crate) proof: Proof,
    source: IpAddr,
}

/// What shows who calls.
#[derive(Clone)]
pub(crate) enum Proof {
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
        let proof = match (token(&parts.headers), cookie(&parts.headers, &cookie_name(COOKIE, origin.secure))) {
            (Some(token), _) => Proof::Token(token.to_owned()),
            (None, Some(secret)) => Proof::Cookie(secret.to_owned()),
            (None, None) => return Err(ApiError::not_signed_in()),
        };
        let bearer = bearer(&proof, origin.source, api).await?.ok_or_else(ApiError::not_signed_in)?;
        if let Some(peer) = parts.extensions.get::<Peer>() {
            api.room.know(peer.address);
        }
        // A page of another site can make a browser send our cookie with a form.
        let by_browser = matches!(proof, Proof::Cookie(_)) && parts.method != Method::GET;
        if by_browser && !same_origin(&parts.headers, &origin.host) {
            return Err(ApiError::forbidden("This call came from a page of another site."));
        }
        let from = match &bearer.token {
            Some((name, _)) if !name.is_empty() => format!("{}, token {name}", origin.source),
            Some(_) => format!("{}, a token", origin.source),
            None => origin.source.to_string(),
        };
        Ok(Self { author: Author::new(bearer.administrator.clone(), from), bearer, proof, source: origin.source })
    }
}

impl Signed {
    /// Whether the session or token that was sent still stands, for the same things.
    pub(crate) async fn still_stands(&self, api: &Api) -> bool {
        matches!(bearer(&self.proof, self.source, api).await, Ok(Some(bearer)) if bearer == self.bearer)
    }

    /// Whether a permission of these roles is theirs: a token may no more than it was made
    /// for, and no more than its owner.
    pub(crate) fn may(&self, roles: &[Role]) -> bool {
        roles.contains(&self.bearer.role) && self.bearer.token.as_ref().is_none_or(|(_, role)| roles.contains(role))
    }

    /// The role that they act in.
    pub(crate) fn role(&self) -> Role {
        match &self.bearer.token {
            Some((_, role)) if self.bearer.role == Role::Engineer => *role,
            _ => self.bearer.role,
        }
    }
}

/// A signed-in administrator who may do something.
pub(crate) struct May<P> {
    pub(crate) signed: Signed,
    permission: PhantomData<P>,
}

/// Something that some roles may do.
pub(crate) trait Permission {
    /// Those roles.
    const ROLES: &'static [Role];
    /// Whether records are changed by it.
    const CHANGES: bool = false;
}

impl<P: Permission> FromRequestParts<Api> for May<P> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, api: &Api) -> Result<Self, ApiError> {
        let signed = Signed::from_request_parts(parts, api).await?;
        match signed.may(P::ROLES) {
            true => {
                if P::CHANGES && parts.method != Method::GET {
                    api.quota.take(&signed, 1)?;
                }
                Ok(Self { signed, permission: PhantomData })
            }
            false => {
                let roles: Vec<_> = P::ROLES.iter().map(|role| role.word()).collect();
                Err(ApiError::forbidden(format!(
                    "This is for {}, and you are signed in as {}.",
                    roles.join(" or "),
                    signed.role().word()
                )))
            }
        }
    }
}

/// To read the journal and what is configured, but policy, audit, administrators and
/// secrets.
pub(crate) struct Look;
/// To read the policy.
pub(crate) struct ReadPolicy;
/// To read who changed what, and who may sign in.
pub(crate) struct ReadAudit;
/// To keep devices out, and let them in again.
pub(crate) struct Bar;
/// To set passwords of people who are nobody's administrators.
pub(crate) struct SetPasswords;
/// To change what is configured, and to see secrets.
pub(crate) struct Change;

impl Permission for Look {
    const ROLES: &'static [Role] = &Role::ALL;
}

impl Permission for ReadPolicy {
    const ROLES: &'static [Role] = &[Role::Engineer, Role::Auditor];
}

impl Permission for ReadAudit {
    const ROLES: &'static [Role] = &[Role::Engineer, Role::Auditor];
}

impl Permission for Bar {
    const ROLES: &'static [Role] = &[Role::Engineer, Role::Helpdesk];
    const CHANGES: bool = true;
}

impl Permission for SetPasswords {
    const ROLES: &'static [Role] = &[Role::Engineer, Role::Helpdesk];
    const CHANGES: bool = true;
}

impl Permission for Change {
    const ROLES: &'static [Role] = &[Role::Engineer];
    const CHANGES: bool = true;
}

async fn bearer(proof: &Proof, source: IpAddr, api: &Api) -> Result<Option<Bearer>, ApiError> {
    let outside = match proof {
        Proof::Cookie(secret) if api.outside_sessions.are_open() => Some(secret.clone()),
        _ => None,
    };
    let (administration, proof) = (api.administration.clone(), proof.clone());
    let work = move || match &proof {
        Proof::Cookie(secret) => administration.administrators.session_owner(secret, now_ms()),
        Proof::Token(token) => administration.administrators.token_owner(token, source, now_ms()),
    };
    let known = blocking(work).await?;
    match (&known, outside) {
        (None, Some(secret)) => Ok(api.outside_sessions.owner(api, &secret).await),
        _ => Ok(known),
    }
}

fn token(headers: &HeaderMap) -> Option<&str> {
    headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ")
}

/// The value of a cookie.
pub(crate) fn cookie<'h>(headers: &'h HeaderMap, name: &str) -> Option<&'h str> {
    let all = headers.get(header::COOKIE)?.to_str().ok()?;
    all.split(';').find_map(|one| one.trim().strip_prefix(name)?.strip_prefix('='))
}

fn same_origin(headers: &HeaderMap, host: &str) -> bool {
    match headers.get(header::ORIGIN).map(|value| value.to_str()) {
        None => true,
        Some(Ok(origin)) => origin.split_once("://").is_some_and(|(_, from)| from == host),
        Some(Err(_)) => false,
    }
}
