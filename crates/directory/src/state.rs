//! Whether an account may be used, by the marks that directories have for that. A directory enforces its own at a
//! bind; whoever is proved by a certificate, an earlier session or a kept hash never binds.

use crate::entry::Entry;
use crate::times::Notation;

/// What an entry says of its account, each by the attribute that says so.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct State {
    /// What has it disabled.
    pub(crate) disabled: Option<&'static str>,
    /// What has it expired.
    pub(crate) expired: Option<&'static str>,
}

/// Whether the value of an attribute says that an account is disabled.
type Says = fn(&str) -> bool;

/// Attributes that say so.
const DISABLED: [(&str, Says); 8] = [
    // ACCOUNTDISABLE ([MS-ADTS] section 2.2.16).
    ("userAccountControl", |flags| flags.parse::<i64>().is_ok_and(|flags| flags & 2 != 0)),
    // A lock without an end (the draft on password policies for LDAP directories, section 5.3.3).
    ("pwdAccountLockedTime", |since| since == "000001010000Z"),
    ("nsAccountLock", is_true),
    ("loginDisabled", is_true),
    ("ds-pwp-account-disabled", is_true),
    ("inetUserStatus", |status| ["inactive", "deleted"].contains(&status.to_lowercase().as_str())),
    // D: disabled.
    ("sambaAcctFlags", |flags| flags.contains('D')),
    ("accountStatus", |status| ["inactive", "disabled", "deleted"].contains(&status.to_lowercase().as_str())),
];

/// Attributes that say when an account ends.
const ENDS: [(&str, Notation); 7] = [
    ("accountExpires", Notation::Intervals),
    ("shadowExpire", Notation::Days),
    ("pwdEndTime", Notation::Generalized),
    ("loginExpirationTime", Notation::Generalized),
    ("krbPrincipalExpiration", Notation::Generalized),
    ("ds-pwp-account-expiration-time", Notation::Generalized),
    ("sambaKickoffTime", Notation::Seconds),
];

/// Says when an account begins.
const BEGINS: &str = "pwdStartTime";

/// The attributes that are read for it.
pub(crate) fn attributes() -> impl Iterator<Item = String> {
    let disabled = DISABLED.iter().map(|(name, _)| *name);
    disabled.chain(ENDS.iter().map(|(name, _)| *name)).chain([BEGINS]).map(str::to_owned)
}

/// What an entry says at a moment, in seconds since 1970.
pub(crate) fn of(entry: &Entry, now: i64) -> State {
    let says = |name: &str, says: Says| entry.all(name).iter().any(|value| says(value));
    let begins = entry.first(BEGINS).and_then(|at| Notation::Generalized.read(at));
    let not_yet = begins.filter(|at| *at > now).map(|_| BEGINS);
    let ended =
        |name: &str, notation: Notation| entry.first(name).and_then(|at| notation.read(at)).is_some_and(|at| at <= now);
    State {
        disabled: DISABLED.iter().find(|(name, by)| says(name, *by)).map(|(name, _)| *name).or(not_yet),
        expired: ENDS.iter().find(|(name, notation)| ended(name, *notation)).map(|(name, _)| *name),
    }
}

fn is_true(value: &str) -> bool {
    ["true", "yes", "1"].contains(&value.to_lowercase().as_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// 2026-12-01.
    const NOW: i64 = 1_796_083_200;

    #[test]
    fn every_mark_of_a_directory_counts() {
        let state = |name: &str, value: &str| of(&Entry::of("x", &[(name, &[value])]), NOW);
        for (name, marked, free) in [
            ("userAccountControl", "514", "512"),
            ("pwdAccountLockedTime", "000001010000Z", "20261126203000Z"),
            ("nsAccountLock", "TRUE", "false"),
            ("loginDisabled", "TRUE", "FALSE"),
            ("ds-pwp-account-disabled", "true", "false"),
            ("inetUserStatus", "Inactive", "active"),
            ("sambaAcctFlags", "[UD         ]", "[U          ]"),
            ("accountStatus", "disabled", "active"),
            ("pwdStartTime", "20270101000000Z", "20260101000000Z"),
        ] {
            assert_eq!(state(name, marked), State { disabled: Some(name), expired: None });
            assert_eq!(state(name, free), State::default(), "{name} {free}");
            assert_eq!(state(name, "nonsense"), State::default(), "{name}");
        }
        for (name, ended, lasts) in [
            ("accountExpires", "130000000000000000", "160000000000000000"),
            ("accountExpires", "134405568000000000", "9223372036854775807"),
            ("shadowExpire", "20787", "20789"),
            ("shadowExpire", "0", "-1"),
            ("pwdEndTime", "20261130000000Z", "20261202000000Z"),
            ("loginExpirationTime", "20261130000000Z", "20261202000000Z"),
            ("krbPrincipalExpiration", "20261130000000Z", "20261202000000Z"),
            ("ds-pwp-account-expiration-time", "20261130000000.000Z", "20261202000000.000Z"),
            ("sambaKickoffTime", "1796000000", "1797000000"),
        ] {
            assert_eq!(state(name, ended), State { disabled: None, expired: Some(name) });
            assert_eq!(state(name, lasts), State::default(), "{name} {lasts}");
            assert_eq!(state(name, "nonsense"), State::default(), "{name}");
        }
    }
}
