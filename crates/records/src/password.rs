use std::sync::LazyLock;

use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};

use crate::sealing::random;

/// Hashes a password with Argon2id (RFC 9106) under the library's default cost.
/// Takes tens of milliseconds and 19 MB.
pub fn hash_password(password: &[u8]) -> String {
    Argon2::default()
        .hash_password_with_salt(password, &random::<16>())
        .expect("default parameters and a salt of 16 bytes are valid")
        .to_string()
}

/// Whether a password has this hash. Takes as long as hashing it; where there is
/// no hash, it takes as long to say no, so that time does not tell who exists.
pub fn verify_password(password: &[u8], hash: Option<&str>) -> bool {
    static NOBODY: LazyLock<String> = LazyLock::new(|| hash_password(&random::<16>()));
    let right = Argon2::default().verify_password(password, hash.unwrap_or(&NOBODY)).is_ok();
    right && hash.is_some()
}
