use std::collections::BTreeMap;

use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use regnant_base::SecretText;
use regnant_records::{Author, RecordName, TrustRow};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::certificates::{CertificateReport, CertificatesReport, TrustReport};
use crate::administration::profile::ProfileOrder;
use crate::administration::{AdministrationError, RecordVersion};
use crate::http::Api;
use crate::http::callers::{Change, Look, May, Signed};
use crate::http::door::Origin;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::{etag, seen};
use crate::http::short_list::Wanted;

/// A certificate to be kept.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewCertificate {
    /// Its name, as policies refer to it.
    name: String,
    /// Certificate, those above it, and its private key, in PEM. The key may be
    /// missing where a signing request of this name waits.
    #[schema(value_type = String)]
    pem: SecretText,
}

/// A certificate to be asked for.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewRequest {
    /// The server's name, which supplicants will check.
    name: String,
}

/// A signing request (RFC 2986).
#[derive(Serialize, ToSchema)]
pub(crate) struct SigningRequestView {
    /// The request, in PEM; its private key stays here.
    pem: String,
}

/// Whom to trust.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewTrust {
    /// Its name, as policies refer to it.
    name: String,
    /// The authorities, in PEM.
    authorities: String,
    /// Their revocation lists, in PEM.
    #[serde(default)]
    crls: String,
    /// Where a newer list is fetched from, now and every hour; HTTP, since the
    /// list is signed itself.
    #[serde(default)]
    crl_url: Option<String>,
    /// The responder to ask in place of those that certificates name; HTTP, since
    /// its answers are signed themselves.
    #[serde(default)]
    ocsp_url: Option<String>,
    /// Whether certificates that are no authorities' vouch too; they do not if not
    /// said. Whoever holds the key of one could then issue clients.
    #[serde(default)]
    whatever: bool,
    /// The secrets of stores that are believed by it, by their names, where it gets an authority that it had not:
    /// whoever that one vouches for is shown them. The answer to a call without them names the stores.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, String>)]
    secrets: BTreeMap<String, SecretText>,
}

impl NewTrust {
    fn parts(self) -> (TrustRow, BTreeMap<String, SecretText>) {
        let Self { name, authorities, crls, crl_url, ocsp_url, whatever, secrets } = self;
        (TrustRow { name, authorities, crls, crl_url, ocsp_url, whatever }, secrets)
    }
}

/// Keeps a trust. The secrets of stores are tried as passwords are: counted first, and taken back where they were right.
async fn keep(
    api: Api,
    origin: &Origin,
    (row, secrets): (TrustRow, BTreeMap<String, SecretText>),
    seen: Option<RecordVersion>,
    by: Author,
) -> Result<Json<TrustKept>, ApiError> {
    let tried: Vec<_> = secrets.keys().map(|store| format!("the secret of store {store}")).collect();
    if !tried.iter().all(|what| api.attempts.reserve(origin.trier(what))) {
        return Err(ApiError::too_many("Too many secrets were tried; wait a minute, then try again."));
    }
    let administration = api.administration.clone();
    let work = move || administration.certificates.set_trust_over(&row, &secrets, seen.as_ref(), &by);
    let left_out = blocking(work).await?;
    tried.iter().for_each(|what| api.attempts.right(origin.trier(what)));
    Ok(Json(TrustKept { left_out }))
}

/// What was kept of a trust.
#[derive(Serialize, ToSchema)]
pub(crate) struct TrustKept {
    /// The subjects of certificates that were left out because they are no authorities'.
    left_out: Vec<String>,
}

/// What we present and whom we trust.
#[utoipa::path(get, path = "/api/v1/certificates",
    responses((status = 200, body = CertificatesReport), (status = 401, body = ApiError)))]
pub(crate) async fn certificates(State(api): State<Api>, _: May<Look>) -> Result<Json<CertificatesReport>, ApiError> {
    blocking(move || api.administration.certificates.report()).await.map(Json)
}

/// A certificate with its key, in the place of one.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CertificateText {
    /// Certificate, those above it, and its private key, in PEM. The key may be
    /// missing where the one that is there stays.
    #[schema(value_type = String)]
    pem: SecretText,
}

/// Trusts by name.
#[derive(Serialize, ToSchema)]
pub(crate) struct TrustList {
    trusts: Vec<TrustReport>,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A certificate that we present. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/certificates/{name}", params(("name" = String, Path)),
    responses((status = 200, body = CertificateReport), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn certificate(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let work = move || {
        let certificates = &api.administration.certificates;
        let row = certificates.rows()?.into_iter().find(|row| row.name == name);
        let report = certificates.report()?.certificates.into_iter().find(|report| report.name == name);
        let found = row.zip(report).map(|(row, report)| (etag(&row), Json(report)).into_response());
        found.ok_or(AdministrationError::NotFound(RecordName::Certificate(name)))
    };
    blocking(work).await
}

/// Puts a certificate in the place of one, or adds it. With If-Match only where that is still as
/// it was read.
#[utoipa::path(put, path = "/api/v1/certificates/{name}", operation_id = "put_certificate",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = CertificateText,
    responses((status = 204), (status = 400, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn put(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(new): Sent<CertificateText>,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    let work = move || api.administration.certificates.import_over(&name, seen.as_ref(), new.pem.expose(), &by);
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Trusts by name, a page at a time.
#[utoipa::path(get, path = "/api/v1/trusts", params(Wanted),
    responses((status = 200, body = TrustList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn trusts(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<Wanted>,
) -> Result<Json<TrustList>, ApiError> {
    let all = blocking(move || api.administration.certificates.report()).await?.trusts;
    let texts = |one: &TrustReport| {
        let subjects = one.authorities.iter().map(|link| link.subject.clone());
        subjects.chain([one.name.clone()]).collect()
    };
    let (trusts, next) = wanted.of(all, |one| one.name.clone(), texts)?;
    Ok(Json(TrustList { trusts, next }))
}

/// A trust. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/trusts/{name}", operation_id = "find_trust", params(("name" = String, Path)),
    responses((status = 200, body = TrustReport), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn find_trust(
    State(api): State<Api>,
    _: May<Look>,
    Path(name): Path<String>,
) -> Result<Response, ApiError> {
    let work = move || {
        let certificates = &api.administration.certificates;
        let row = certificates.trusts()?.into_iter().find(|row| row.name == name);
        let report = certificates.report()?.trusts.into_iter().find(|report| report.name == name);
        let found = row.zip(report).map(|(row, report)| (etag(&row), Json(report)).into_response());
        found.ok_or(AdministrationError::NotFound(RecordName::Trust(name)))
    };
    blocking(work).await
}

/// Puts a trust in the place of one, or adds it. With If-Match only where that is still as it was
/// read.
#[utoipa::path(put, path = "/api/v1/trusts/{name}", operation_id = "put_trust",
    params(("name" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = NewTrust,
    responses((status = 200, body = TrustKept), (status = 400, body = ApiError), (status = 412, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn put_trust(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
    Sent(new): Sent<NewTrust>,
) -> Result<Json<TrustKept>, ApiError> {
    if new.name != name {
        return Err(ApiError::bad("A trust keeps its name: remove it, and add it under the other."));
    }
    let (seen, (row, secrets)) = (seen(&headers)?, new.parts());
    keep(api, &origin, (row, secrets), seen, by).await
}

/// Keeps a certificate with its key; gates that present it do so from the next conversation on. With If-Match only
/// where the one of its name is still as it was read, with If-None-Match where there is none.
#[utoipa::path(post, path = "/api/v1/certificates", operation_id = "import_certificate",
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read"),
        ("If-None-Match" = Option<String>, Header, description = "`*` where there was none")),
    request_body = NewCertificate,
    responses((status = 204), (status = 400, body = ApiError), (status = 401, body = ApiError), (status = 412, body = ApiError)))]
pub(crate) async fn import(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(new): Sent<NewCertificate>,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    let work = move || api.administration.certificates.import_over(&new.name, seen.as_ref(), new.pem.expose(), &by);
    blocking(work).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Makes a key and a signing request.
#[utoipa::path(post, path = "/api/v1/certificates/request", operation_id = "request_certificate", request_body = NewRequest,
    responses((status = 200, body = SigningRequestView), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn request(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(new): Sent<NewRequest>,
) -> Result<Json<SigningRequestView>, ApiError> {
    let pem = blocking(move || api.administration.certificates.request(&new.name, &by)).await?;
    Ok(Json(SigningRequestView { pem }))
}

/// Forgets a certificate with its key, which no gate presents.
#[utoipa::path(delete, path = "/api/v1/certificates/{name}", operation_id = "remove_certificate",
    params(("name" = String, Path, description = "Its name"), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 401, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    blocking(move || api.administration.certificates.remove(&name, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Forgets a trust that no gate has.
#[utoipa::path(delete, path = "/api/v1/trusts/{name}", operation_id = "remove_trust",
    params(("name" = String, Path, description = "Its name"), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 401, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError)))]
pub(crate) async fn remove_trust(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path(name): Path<String>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    blocking(move || api.administration.certificates.remove_trust(&name, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Keeps authorities and revocation lists. With If-Match only where the trust of this name is still as it was read,
/// with If-None-Match where there is none.
#[utoipa::path(post, path = "/api/v1/trusts",
    params(("If-Match" = Option<String>, Header, description = "The ETag that was read"),
        ("If-None-Match" = Option<String>, Header, description = "`*` where there was none")),
    request_body = NewTrust,
    responses((status = 200, body = TrustKept), (status = 400, body = ApiError), (status = 401, body = ApiError),
        (status = 412, body = ApiError)))]
pub(crate) async fn trust(
    State(api): State<Api>,
    Extension(origin): Extension<Origin>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    headers: HeaderMap,
    Sent(new): Sent<NewTrust>,
) -> Result<Json<TrustKept>, ApiError> {
    let (seen, (row, secrets)) = (seen(&headers)?, new.parts());
    keep(api, &origin, (row, secrets), seen, by).await
}

/// Which supplicant profile is wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedProfile {
    /// The gate whose server the supplicant will meet.
    gate: String,
    /// `apple`, `windows`, `wpa-supplicant`, `network-manager` or `android`.
    platform: String,
    /// The wireless network; a wired one if not said.
    ssid: Option<String>,
    /// The method, such as `peap`; the gate's first that the platform can do if
    /// not said.
    method: Option<String>,
}

/// What a supplicant needs so that it trusts the right server, as a file.
#[utoipa::path(get, path = "/api/v1/supplicant-profile", params(WantedProfile),
    responses((status = 200, body = String), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn profile(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<WantedProfile>,
) -> Result<impl IntoResponse, ApiError> {
    let WantedProfile { gate, platform, ssid, method } = wanted;
    let ssid = ssid.filter(|ssid| !ssid.is_empty());
    if ssid.as_ref().is_some_and(|ssid| ssid.len() > 32) {
        return Err(ApiError::bad("The name of a wireless network has at most 32 bytes."));
    }
    let order = ProfileOrder { gate, platform, ssid, method };
    let profile = blocking(move || api.administration.certificates.profile(&order)).await?;
    let disposition = format!("attachment; filename=\"{}\"", profile.file);
    let headers = [(header::CONTENT_TYPE, profile.media_type.to_owned()), (header::CONTENT_DISPOSITION, disposition)];
    Ok((headers, profile.text))
}
