use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use regnant_eap::{Question, Standing};
use regnant_policy::{IdentityKind, Mac, Value};
use regnant_radius::Secret;
use thiserror::Error;

/// The groups of an identity, ready to be a fact.
pub type Groups = Arc<[Value<'static>]>;

/// What a store answers.
pub type Answer<T> = Result<T, Unreachable>;

/// A store that could not answer, and why.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct Unreachable(pub String);

/// A person or a machine as a store knows it.
#[derive(Clone, Debug)]
pub struct Account {
    /// Which of the two.
    pub kind: IdentityKind,
    /// The name as the store writes it.
    pub name: String,
    /// The groups it is in.
    pub groups: Groups,
    /// Whether the account is disabled.
    pub disabled: bool,
    /// Whether the account has expired.
    pub expired: bool,
    /// Changes whenever the password does; sessions proved under another one are
    /// not resumed.
    pub password_mark: u64,
}

/// A device known by its MAC address.
#[derive(Clone, Debug)]
pub struct Device {
    /// What it is, for people: "crane controller". May be empty.
    pub title: String,
    /// The groups it is in.
    pub groups: Groups,
    /// Whether it must stay out.
    pub barred: bool,
}

/// Where identities are kept. Every answer may be awaited; stores are named as
/// policies name them.
pub trait Stores: Sync {
    /// The person or machine of this name.
    fn account(
        &self,
        store: &str,
        kind: IdentityKind,
        name: &str,
    ) -> impl Future<Output = Answer<Option<Account>>> + Send;

    /// Whether this is the account's password. `asker` is the NAS: none may take all
    /// the time that there is for checking.
    fn password_is_right(
        &self,
        store: &str,
        account: &Account,
        password: Secret,
        asker: &str,
    ) -> impl Future<Output = Answer<bool>> + Send;

    /// How long such a check takes. Where nobody has the name, as much time passes
    /// before that shows.
    fn password_takes(&self) -> Duration {
        Duration::ZERO
    }

    /// The password itself, where it is kept so that it can be had back.
    fn recoverable_password(
        &self,
        store: &str,
        account: &Account,
    ) -> impl Future<Output = Answer<Option<Secret>>> + Send;

    /// The NT hash of the password (16 bytes), where it is kept for MS-CHAP.
    fn nt_hash(&self, store: &str, account: &Account) -> impl Future<Output = Answer<Option<Secret>>> + Send;

    /// The device of this address.
    fn device(&self, store: &str, mac: Mac) -> impl Future<Output = Answer<Option<Arc<Device>>>> + Send;
}

/// Asks issuers whether certificates were revoked (RFC 6960). What was answered
/// is afterwards found among the [`Standings`](regnant_eap::Standings) that trusts
/// judge by.
pub trait Responders: Sync {
    /// Asks about one certificate.
    fn ask<'q>(&'q self, question: &'q Question) -> Pin<Box<dyn Future<Output = Answer<Standing>> + Send + 'q>>;
}
