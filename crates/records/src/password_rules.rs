//! What a password of people must be: long enough, and none of those that everybody tries
//! first. Shared secrets of equipment have rules of their own.

use std::collections::HashSet;
use std::sync::LazyLock;

use regnant_base::{Mac, SecretText};

use thiserror::Error;

/// RFC 2865 section 5.2: User-Password carries at most 128 bytes.
const LONGEST: usize = 128;
/// Characters of the shortest that is taken.
const SHORTEST: usize = 8;

static COMMON: LazyLock<HashSet<&str>> =
    LazyLock::new(|| include_str!("../data/common-passwords.txt").lines().collect());

/// Why a password is not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum WeakPassword {
    /// It is an address, which is printed on a device.
    #[error("a MAC address is never a password")]
    Address,
    /// No request could carry it.
    #[error("a password has 1 to {LONGEST} printable bytes")]
    Form,
    /// It is short.
    #[error("a password has at least {SHORTEST} characters")]
    Short,
    /// It is among the first that are tried.
    #[error("this password, or what it is without the digits and signs at its end, is among the first that are tried")]
    Common,
    /// It is the name that it belongs to.
    #[error("a password is not the name that it belongs to")]
    Name,
}

/// Whether a password may be somebody's of this name.
pub fn fit_password(password: &SecretText, name: &str) -> Result<(), WeakPassword> {
    let password = password.expose();
    if password.parse::<Mac>().is_ok() {
        return Err(WeakPassword::Address);
    }
    if password.is_empty() || password.len() > LONGEST || password.chars().any(char::is_control) {
        return Err(WeakPassword::Form);
    }
    if password.chars().count() < SHORTEST {
        return Err(WeakPassword::Short);
    }
    let folded = password.to_lowercase();
    let stem = folded.trim_end_matches(|c: char| !c.is_alphabetic());
    if COMMON.contains(folded.as_str()) || COMMON.contains(stem) || stem.is_empty() && is_run(&folded) {
        return Err(WeakPassword::Common);
    }
    match folded == name.to_lowercase() || (!stem.is_empty() && stem == name.to_lowercase()) {
        true => Err(WeakPassword::Name),
        false => Ok(()),
    }
}

/// Digits that are all the same, or follow one another.
fn is_run(digits: &str) -> bool {
    let steps = digits.as_bytes().windows(2).map(|pair| i16::from(pair[1]) - i16::from(pair[0]));
    let steps: HashSet<_> = steps.collect();
    steps.len() <= 1 && steps.iter().all(|step| (-1..=1).contains(step))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_everybody_tries_first_is_no_password() {
        let told = |text: &str| fit_password(&text.to_owned().into(), "Ida.Marsh");
        for fit in ["Tide-Table-61", "correct horse", "8Köderfisch", "24816325"] {
            assert_eq!(told(fit), Ok(()), "{fit}");
        }
        for (weak, why) in [
            ("Password1!", WeakPassword::Common),
            ("Summer2026!", WeakPassword::Common),
            ("qwertyuiop", WeakPassword::Common),
            ("222222222", WeakPassword::Common),
            ("98765432", WeakPassword::Common),
            ("ida.marsh", WeakPassword::Name),
            ("Ida.Marsh99", WeakPassword::Name),
            ("Tide-61", WeakPassword::Short),
            ("02-00-5e-20-00-07", WeakPassword::Address),
            ("tide\u{7}table", WeakPassword::Form),
            ("", WeakPassword::Form),
        ] {
            assert_eq!(told(weak), Err(why), "{weak}");
        }
        assert_eq!(told(&"x".repeat(129)), Err(WeakPassword::Form));
    }
}
