use std::sync::LazyLock;

use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use argon2::{Argon2, Params};

use crate::sealing::random;

/// Hashes a password with Argon2id (RFC 9106) under the library's default cost.
/// Takes tens of milliseconds and 19 MB.
pub fn hash_password(password: &[u8]) -> String {
    Argon2::default()
        .hash_password_with_salt(password, &random::<16>())
        .expect("default parameters and a salt of 16 bytes are valid")
        .to_string()
}

/// Whether a text is a hash that another installation made, of a cost that this one bears at
/// every proof.
pub(crate) fn fit_hash(text: &str) -> Result<(), &'static str> {
    const NO_HASH: &str = "`password-hash` is no Argon2id hash in PHC form, as an export with secrets writes it";
    let hash = PasswordHash::new(text).map_err(|_| NO_HASH)?;
    let params = Params::try_from(&hash).map_err(|_| NO_HASH)?;
    if hash.algorithm.as_str() != "argon2id" || hash.hash.is_none() || hash.salt.is_none() {
        return Err(NO_HASH);
    }
    match params.m_cost() <= 1 << 16 && params.t_cost() <= 10 && params.p_cost() <= 4 {
        true => Ok(()),
        false => Err("`password-hash` costs more than 64 MiB, 10 passes or 4 lanes: every proof would"),
    }
}

/// Whether a password has this hash. Takes as long as hashing it; where there is
/// no hash, it takes as long to say no, so that time does not tell who exists.
pub fn verify_password(password: &[u8], hash: Option<&str>) -> bool {
    static NOBODY: LazyLock<String> = LazyLock::new(|| hash_password(&random::<16>()));
    let right = Argon2::default().verify_password(password, hash.unwrap_or(&NOBODY)).is_ok();
    right && hash.is_some()
}
