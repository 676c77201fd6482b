use std::fmt;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use hmac::{Hmac, KeyInit, Mac};
use regnant_base::{BoundedMap, Secret};
use sha2::Sha256;

use crate::sealing::random;

/// How long a password that was proved right is known again.
const KNOWN_FOR: Duration = Duration::from_secs(5 * 60);
const MOST: usize = 20_000;

type Digest = [u8; 32];

/// Passwords that were proved right a moment ago, as digests under a secret of this
/// process: equipment that asks for the same person all the time does not hash all
/// the time. The stored hash is part of the digest, so another password, even the
/// same one set anew, ends it; everything else about the account is looked up each
/// time.
pub(crate) struct KnownPasswords {
    secret: Secret,
    /// When each was proved.
    known: Mutex<BoundedMap<Digest, Instant>>,
}

impl Default for KnownPasswords {
    fn default() -> Self {
        Self { secret: Secret::new(random::<32>()), known: Mutex::new(BoundedMap::new(MOST)) }
    }
}

impl fmt::Debug for KnownPasswords {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("KnownPasswords(..)")
    }
}

impl KnownPasswords {
    pub(crate) fn holds(&self, password: &Secret, hash: &str) -> bool {
        self.holds_at(password, hash, Instant::now())
    }

    pub(crate) fn add(&self, password: &Secret, hash: &str) {
        self.add_at(password, hash, Instant::now());
    }

    fn holds_at(&self, password: &Secret, hash: &str, now: Instant) -> bool {
        let digest = self.digest(password, hash);
        let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(&digest).is_some_and(|at| now.duration_since(*at) < KNOWN_FOR)
    }

    fn add_at(&self, password: &Secret, hash: &str, now: Instant) {
        let digest = self.digest(password, hash);
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.forget_while(|at| now.duration_since(*at) >= KNOWN_FOR);
        known.insert(digest, now);
    }

    fn digest(&self, password: &Secret, hash: &str) -> Digest {
        let keyed = Hmac::<Sha256>::new_from_slice(self.secret.expose()).expect("HMAC takes a key of any length");
        keyed.chain_update(hash).chain_update([0]).chain_update(password.expose()).finalize().into_bytes().into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_right_password_is_known_for_a_while_under_its_own_hash_alone() {
        let (known, now) = (KnownPasswords::default(), Instant::now());
        let secret = |text: &str| Secret::new(text.as_bytes());
        known.add_at(&secret("Tide-Table-61"), "hash-1", now);
        let holds = |text, hash, after| known.holds_at(&secret(text), hash, now + after);
        assert!(holds("Tide-Table-61", "hash-1", Duration::from_secs(299)));
        assert!(!holds("Tide-Table-61", "hash-1", KNOWN_FOR), "not for ever");
        assert!(!holds("Tide-Table-62", "hash-1", Duration::ZERO));
        assert!(!holds("Tide-Table-61", "hash-2", Duration::ZERO), "the account's password was set anew");
        for number in 0..2 * MOST {
            known.add_at(&secret(&number.to_string()), "h", now);
        }
        assert_eq!(known.known.lock().unwrap().len(), MOST);
    }
}
