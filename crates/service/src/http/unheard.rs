use std::net::IpAddr;

use axum::extract::{Path, State};
use axum::{Extension, Json};
use regnant_base::SecretText;
use regnant_equipment::radius::{claims, secret_fits};
use regnant_evidence::Cause;
use regnant_radius::SharedSecret;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{Change, Look, May};
use crate::http::door::Origin;
use crate::http::error::ApiError;
use crate::http::extract::Sent;
use crate::http::outside_stores::try_of_others;

/// Who stayed unheard within the last minutes.
#[derive(Serialize, ToSchema)]
pub(crate) struct UnheardList {
    senders: Vec<UnheardView>,
    /// Packets of senders beyond those listed.
    unlisted: u64,
}

/// A sender that stayed unheard.
#[derive(Serialize, ToSchema)]
pub(crate) struct UnheardView {
    /// Its address.
    source: String,
    /// The NAS that has this address, where one has.
    nas: Option<String>,
    causes: Vec<CauseView>,
    /// What it claims to be in its newest packet; nothing of that is proved.
    claims: ClaimsView,
    /// Whether a secret can be tried on its newest packet.
    can_try_secret: bool,
}

/// Why packets stayed unheard.
#[derive(Serialize, ToSchema)]
pub(crate) struct CauseView {
    /// Why.
    cause: String,
    /// What to do about it.
    advice: String,
    /// How many packets.
    packets: u64,
    /// When the first came, in UTC.
    first: String,
    /// When the last came.
    last: String,
    /// The entry of the journal.
    entry: String,
}

/// What a sender claims to be.
#[derive(Serialize, ToSchema)]
pub(crate) struct ClaimsView {
    /// NAS-Identifier.
    identifier: Option<String>,
    /// NAS-IP-Address or NAS-IPv6-Address.
    address: Option<String>,
    /// What it is, as far as its attributes show.
    kind: Option<String>,
}

/// A secret to be tried.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TriedSecret {
    #[schema(value_type = String)]
    secret: SecretText,
}

/// Whether a secret fits.
#[derive(Serialize, ToSchema)]
pub(crate) struct SecretFits {
    /// Whether the newest packet was made under it; none where nothing in it can be verified.
    fits: Option<bool>,
    /// The same in a sentence.
    says: String,
}

/// Who stayed unheard within the last minutes: known equipment first, then by the last
/// packet. What was mended since is left out.
#[utoipa::path(get, path = "/api/v1/unheard",
    responses((status = 200, body = UnheardList), (status = 401, body = ApiError)))]
pub(crate) async fn unheard(State(api): State<Api>, _: May<Look>) -> Json<UnheardList> {
    let snapshot = api.administration.snapshot();
    let views = api.radius.unheard.senders().into_iter().filter_map(|sender| {
        let nas = snapshot.nases.find(sender.source).map(|nas| nas.name.clone());
        let stands = |cause: &Cause| *cause != Cause::UnknownSender || nas.is_none();
        let causes: Vec<_> = sender
            .records
            .iter()
            .filter(|record| stands(&record.cause))
            .map(|record| CauseView {
                cause: record.cause.to_string(),
                advice: record.cause.advice(),
                packets: record.count,
                first: iso(record.first),
                last: iso(record.last),
                entry: record.id.clone(),
            })
            .collect();
        let claimed = sender.newest.as_deref().map(claims).unwrap_or_default();
        let nothing = SharedSecret::new(Vec::new());
        (!causes.is_empty()).then(|| UnheardView {
            source: sender.source.to_canonical().to_string(),
            nas,
            causes,
            claims: ClaimsView {
                identifier: claimed.identifier,
                address: claimed.address.map(|address| address.to_string()),
                kind: claimed.kind.map(|kind| kind.word().to_owned()),
            },
            can_try_secret: sender.newest.is_some_and(|packet| secret_fits(&packet, &nothing).is_some()),
        })
    });
    Json(UnheardList { senders: views.collect(), unlisted: api.radius.unheard.unlisted() })
}

/// Tries a secret on the newest packet of a sender that stayed unheard. It is kept nowhere; that one was tried counts
/// as a try at a sign-in, and stands in the audit.
#[utoipa::path(post, path = "/api/v1/unheard/{id}/secret", params(("id" = String, Path, description = "The sender's address")),
    request_body = TriedSecret,
    responses((status = 200, body = SecretFits), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn try_secret(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    May { signed, .. }: May<Change>,
    Path(source): Path<String>,
    Sent(tried): Sent<TriedSecret>,
) -> Result<Json<SecretFits>, ApiError> {
    let address: IpAddr =
        source.parse().map_err(|_| ApiError::bad(format!("`{}` is no address.", source.escape_debug())))?;
    let packet = api.radius.unheard.newest(address);
    let packet = packet.ok_or_else(|| ApiError::not_found(format!("No packet of {address} stayed unheard lately.")))?;
    let what = format!("a secret on the newest packet of {address}");
    try_of_others(&api, &signed, &origin, &what).await?;
    let fits = secret_fits(&packet, &SharedSecret::new(tried.secret.expose().as_bytes()));
    if fits == Some(true) {
        api.attempts.right(origin.trier(&what));
    }
    let says = match fits {
        Some(true) => "The secret fits: the newest packet was made under it.",
        Some(false) => "The secret does not fit: the newest packet was made under another.",
        None => {
            "Nothing in the newest packet can be verified: it carries no Message-Authenticator, so that no secret can be \
             told from another."
        }
    };
    Ok(Json(SecretFits { fits, says: says.into() }))
}
