use axum::Json;
use axum::extract::{Path, State};
use regnant_base::SecretText;
use regnant_records::{Author, KeptPassword, RecordName};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::together::AccountAct;
use crate::http::Api;
use crate::http::callers::{Change, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;

/// A person or a machine.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AccountName {
    store: String,
    name: String,
}

/// What shall be done with several people and machines.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AccountsAct {
    #[serde(default)]
    people: Vec<AccountName>,
    #[serde(default)]
    machines: Vec<AccountName>,
    /// Groups that they shall be in.
    #[serde(default)]
    into: Vec<String>,
    /// Groups that they shall not be in.
    #[serde(default)]
    out_of: Vec<String>,
    /// Whether they shall be disabled; left out, it stays.
    #[serde(default)]
    disabled: Option<bool>,
    /// Whether they shall be removed.
    #[serde(default)]
    remove: bool,
}

/// What is kept of a password, as an inventory file says it.
#[derive(Serialize, ToSchema)]
pub(crate) struct KeptPasswordView {
    /// The password itself, where it is recoverable.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    password: Option<SecretText>,
    /// Its Argon2id hash in PHC form.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    password_hash: Option<SecretText>,
    /// Its NT hash, in 32 hexadecimal digits: as good as the password to whoever has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<String>)]
    nt_hash: Option<SecretText>,
}

/// Shows what is kept of a person's password; the audit tells that it was shown.
#[utoipa::path(post, path = "/api/v1/people/{store}/{name}/kept-password", operation_id = "reveal_person_password",
    params(("store" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = KeptPasswordView), (status = 404, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn reveal_person(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
) -> Result<Json<KeptPasswordView>, ApiError> {
    reveal(api, RecordName::Person { store, name }, by).await
}

/// Shows what is kept of a machine's password; the audit tells that it was shown.
#[utoipa::path(post, path = "/api/v1/machines/{store}/{name}/kept-password", operation_id = "reveal_machine_password",
    params(("store" = String, Path), ("name" = String, Path)),
    responses((status = 200, body = KeptPasswordView), (status = 404, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn reveal_machine(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, name)): Path<(String, String)>,
) -> Result<Json<KeptPasswordView>, ApiError> {
    reveal(api, RecordName::Machine { store, name }, by).await
}

async fn reveal(api: Api, record: RecordName, by: Author) -> Result<Json<KeptPasswordView>, ApiError> {
    let kept = blocking(move || api.administration.identities.reveal(&record, &by)).await?;
    let KeptPassword { password, password_hash, nt_hash } = kept;
    Ok(Json(KeptPasswordView { password, password_hash, nt_hash }))
}

/// How many were changed.
#[derive(Serialize, ToSchema)]
pub(crate) struct ActedAccounts {
    accounts: usize,
}

/// Disables or enables people and machines, puts them into groups or takes them out of them, or
/// removes them; all or none.
#[utoipa::path(post, path = "/api/v1/accounts/act", operation_id = "act_on_accounts", request_body = AccountsAct,
    responses((status = 200, body = ActedAccounts), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn act(
    State(api): State<Api>,
    May { signed, .. }: May<Change>,
    Sent(wanted): Sent<AccountsAct>,
) -> Result<Json<ActedAccounts>, ApiError> {
    let AccountsAct { people, machines, into, out_of, disabled, remove } = wanted;
    if remove != (into.is_empty() && out_of.is_empty() && disabled.is_none()) {
        return Err(ApiError::bad("Say `into`, `out_of` or `disabled`, or `remove` alone."));
    }
    if into.iter().any(|group| group.trim().is_empty() || group.len() > 253) {
        return Err(ApiError::bad("A group has a name of 1 to 253 bytes."));
    }
    let people = people.into_iter().map(|AccountName { store, name }| RecordName::Person { store, name });
    let machines = machines.into_iter().map(|AccountName { store, name }| RecordName::Machine { store, name });
    let names: Vec<_> = people.chain(machines).collect();
    api.quota.take(&signed, names.len())?;
    let by = signed.author;
    let act = AccountAct { into, out_of, disabled, remove };
    let accounts = blocking(move || api.administration.identities.act_on_accounts(&names, &act, &by)).await?;
    Ok(Json(ActedAccounts { accounts }))
}
