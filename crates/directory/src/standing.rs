//! What a directory says of a password that is right. At a bind it says so itself; a response that is checked here,
//! by what the directory keeps of the password, must not get past it.

use ldap3::Scope;
use regnant_decision::PasswordAnswer;

use crate::answers::Trouble;
use crate::connection::Question;
use crate::entry::Entry;
use crate::servers::Servers;
use crate::times::{Notation, now};

/// What is read for it.
pub(crate) const ATTRIBUTES: [&str; 14] = [
    LOCKED_SINCE,
    POLICY,
    CHANGED,
    "pwdReset",
    "pwdLastSet",
    "lockoutTime",
    "userAccountControl",
    "sambaAcctFlags",
    "sambaPwdLastSet",
    "sambaPwdMustChange",
    "shadowLastChange",
    "shadowMax",
    "passwordExpirationTime",
    "krbPasswordExpiration",
];

/// Since when an account is locked, when its password was changed, and by which policy (the draft on password
/// policies for LDAP directories, sections 5.3.2, 5.3.3 and 5.3.9).
const LOCKED_SINCE: &str = "pwdAccountLockedTime";
const CHANGED: &str = "pwdChangedTime";
const POLICY: &str = "pwdPolicySubentry";

/// PASSWORD_EXPIRED, LOCKOUT ([MS-ADTS] section 2.2.16).
const PASSWORD_EXPIRED: i64 = 0x80_0000;
const LOCKOUT: i64 = 0x10;
/// A password that never gets too old.
const FOR_EVER: i64 = 99_999;
const DAY: i64 = 86_400;

/// What the directory says of an entry's password.
pub(crate) async fn of(entry: &Entry, servers: &Servers) -> Result<PasswordAnswer, Trouble> {
    let policy = match entry.first(POLICY) {
        Some(policy) if entry.first(LOCKED_SINCE).is_some() || entry.first(CHANGED).is_some() => {
            Some(read(policy, servers).await?)
        }
        _ => None,
    };
    Ok(judged(entry, policy.as_ref(), now()))
}

/// A policy; nothing of one that may not be read.
async fn read(policy: &str, servers: &Servers) -> Result<Entry, Trouble> {
    let question = Question {
        base: policy.to_owned(),
        scope: Scope::Base,
        filter: "(objectClass=*)".into(),
        attributes: vec!["pwdLockoutDuration".into(), "pwdMaxAge".into()],
        most: 1,
    };
    match servers.search(&question).await {
        Ok(found) => Ok(found.into_iter().next().unwrap_or_default()),
        Err(Trouble::NoBase(_) | Trouble::Refused { .. } | Trouble::Referral(_)) => Ok(Entry::default()),
        Err(trouble) => Err(trouble),
    }
}

fn judged(entry: &Entry, policy: Option<&Entry>, now: i64) -> PasswordAnswer {
    let number = |name: &str| entry.first(name).and_then(|text| text.trim().parse::<i64>().ok());
    let is = |name: &str, value: &str| entry.first(name).is_some_and(|known| known.eq_ignore_ascii_case(value));
    let past = |name: &str, notation: Notation| {
        entry.first(name).and_then(|text| notation.read(text)).is_some_and(|at| at <= now)
    };
    let flags = number("userAccountControl").unwrap_or(0);
    let locked = entry.first(LOCKED_SINCE).is_some_and(|since| is_locked(since, policy, now))
        || number("lockoutTime").is_some_and(|at| at > 0)
        || flags & LOCKOUT != 0
        || entry.first("sambaAcctFlags").is_some_and(|flags| flags.contains('L'));
    if locked {
        return PasswordAnswer::Locked;
    }
    let must_change = is("pwdReset", "TRUE")
        || number("pwdLastSet") == Some(0)
        || number("sambaPwdLastSet") == Some(0)
        || number("shadowLastChange") == Some(0)
        || past("sambaPwdMustChange", Notation::Seconds);
    if must_change {
        return PasswordAnswer::MustChange;
    }
    let too_old = |changed: Option<i64>, most: Option<i64>| match (changed, most) {
        (Some(changed), Some(most)) if most > 0 => changed.saturating_add(most) <= now,
        _ => false,
    };
    let of_policy = policy.and_then(|policy| policy.first("pwdMaxAge")).and_then(|text| text.parse().ok());
    let of_shadow = number("shadowMax").filter(|days| *days < FOR_EVER).map(|days| days.saturating_mul(DAY));
    let at = |name: &str, notation: Notation| entry.first(name).and_then(|text| notation.read(text));
    let expired = flags & PASSWORD_EXPIRED != 0
        || too_old(at(CHANGED, Notation::Generalized), of_policy)
        || too_old(at("shadowLastChange", Notation::Days), of_shadow)
        || past("passwordExpirationTime", Notation::Generalized)
        || past("krbPasswordExpiration", Notation::Generalized);
    if expired { PasswordAnswer::TooOld } else { PasswordAnswer::Right }
}

/// Whether too many wrong passwords have locked an account, and the time of its policy is not over. Where the
/// directory tells no policy, it counts for as long as the directory says that it is locked.
fn is_locked(since: &str, policy: Option<&Entry>, now: i64) -> bool {
    let Some(since) = Notation::Generalized.read(since) else { return true };
    let seconds = policy.and_then(|policy| policy.first("pwdLockoutDuration")).and_then(|text| text.parse().ok());
    // 0 is until somebody unlocks it.
    match seconds.unwrap_or(0) {
        seconds if seconds > 0 => now < since.saturating_add(seconds),
        _ => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// 2026-12-01.
    const NOW: i64 = 1_796_083_200;

    #[test]
    fn what_a_bind_would_be_refused_for_is_known() {
        use PasswordAnswer::{Locked, MustChange, Right, TooOld};
        let policy = Entry::of("p", &[("pwdMaxAge", &["86400"]), ("pwdLockoutDuration", &["600"])]);
        for (attributes, with_policy, bare) in [
            (&[][..], Right, Right),
            (&[("pwdReset", "TRUE")], MustChange, MustChange),
            (&[("pwdReset", "FALSE")], Right, Right),
            (&[("pwdLastSet", "0")], MustChange, MustChange),
            (&[("sambaPwdLastSet", "0")], MustChange, MustChange),
            (&[("sambaPwdMustChange", "1796000000")], MustChange, MustChange),
            (&[("sambaPwdMustChange", "2147483647")], Right, Right),
            (&[("shadowLastChange", "0"), ("shadowMax", "90")], MustChange, MustChange),
            (&[("shadowLastChange", "20000"), ("shadowMax", "90")], TooOld, TooOld),
            (&[("shadowLastChange", "20000"), ("shadowMax", "99999")], Right, Right),
            (&[("pwdChangedTime", "20261129000000Z")], TooOld, Right),
            (&[("pwdChangedTime", "20261130120000Z")], Right, Right),
            (&[("passwordExpirationTime", "20261130000000Z")], TooOld, TooOld),
            (&[("krbPasswordExpiration", "20261130000000Z")], TooOld, TooOld),
            (&[("userAccountControl", "8389120")], TooOld, TooOld),
            (&[("userAccountControl", "528")], Locked, Locked),
            (&[("lockoutTime", "133800000000000000")], Locked, Locked),
            (&[("lockoutTime", "0")], Right, Right),
            (&[("sambaAcctFlags", "[UL ]")], Locked, Locked),
            (&[("pwdAccountLockedTime", "20261130235500Z")], Locked, Locked),
            (&[("pwdAccountLockedTime", "20261130230000Z")], Right, Locked),
            (&[("pwdAccountLockedTime", "000001010000Z")], Locked, Locked),
        ] {
            let attributes: Vec<_> = attributes.iter().map(|(name, value)| (*name, vec![*value])).collect();
            let attributes: Vec<_> = attributes.iter().map(|(name, values)| (*name, values.as_slice())).collect();
            let entry = Entry::of("x", &attributes);
            assert_eq!(judged(&entry, Some(&policy), NOW), with_policy, "{attributes:?}");
            assert_eq!(judged(&entry, None, NOW), bare, "{attributes:?}");
        }
    }
}
