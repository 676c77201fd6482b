//! What each secret is sealed as, so that none counts in the place of another.

use crate::rows::fold;

/// What the secret that was shared with a NAS before is sealed as.
pub(crate) fn former_secret_context(name: &str) -> String {
    format!("former {}", secret_context(name))
}

/// What the secret of whoever asks a store is sealed as.
pub(crate) fn store_secret_context(name: &str) -> String {
    format!("the secret of store {name}")
}

/// What the password that the machine account of a store gets is sealed as.
pub(crate) fn next_secret_context(name: &str) -> String {
    format!("the next secret of store {name}")
}

pub(crate) fn secret_context(nas: &str) -> String {
    format!("the secret of NAS {}", fold(nas))
}

/// `what` is person or machine.
pub(crate) fn password_context(what: &str, store: &str, name: &str) -> String {
    format!("the password hash of {what} {} in {store}", fold(name))
}

pub(crate) fn recoverable_context(store: &str, name: &str) -> String {
    format!("the password of {} in {store}", fold(name))
}

/// `what` is person or machine.
pub(crate) fn nt_hash_context(what: &str, store: &str, name: &str) -> String {
    format!("the NT hash of {what} {} in {store}", fold(name))
}

pub(crate) fn private_key_context(certificate: &str) -> String {
    format!("the private key of certificate {certificate}")
}

pub(crate) fn named_secret_context(name: &str) -> String {
    format!("the secret named {}", fold(name))
}

pub(crate) fn administrator_context(name: &str) -> String {
    format!("the password hash of administrator {}", fold(name))
}

pub(crate) fn second_factor_context(name: &str) -> String {
    format!("the second factor of administrator {}", fold(name))
}
