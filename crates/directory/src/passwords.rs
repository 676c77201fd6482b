//! What some directories keep of passwords, from which responses are checked here.

use std::time::{SystemTime, UNIX_EPOCH};

use ldap3::Scope;
use regnant_base::Secret;
use regnant_eap::mschap;

use crate::answers::Trouble;
use crate::connection::Question;
use crate::entry::Entry;
use crate::names::value;
use crate::servers::Servers;
use crate::settings::DirectorySettings;
use crate::store::Inner;

/// What is kept of the password of an entry; it is read for each check, and forgotten.
pub(crate) struct Kept {
    nt_hash: Option<Secret>,
    clear: Option<Secret>,
    locked: bool,
}

impl Kept {
    /// Reads it.
    pub(crate) async fn of(place: &str, settings: &DirectorySettings, servers: &Servers) -> Result<Self, Trouble> {
        let attributes = [&settings.nt_hash, &settings.clear_password];
        let question = Question {
            base: place.to_owned(),
            scope: Scope::Base,
            filter: "(objectClass=*)".into(),
            attributes: attributes
                .into_iter()
                .filter(|name| !name.is_empty())
                .cloned()
                .chain([LOCKED_SINCE, POLICY].map(str::to_owned))
                .collect(),
            most: 1,
        };
        let found = servers.search(&question).await?.into_iter().next().unwrap_or_default();
        let value = |name: &str| if name.is_empty() { None } else { found.first(name) };
        Ok(Self {
            nt_hash: value(&settings.nt_hash).and_then(hash),
            clear: value(&settings.clear_password).and_then(clear),
            locked: is_locked(&found, servers).await?,
        })
    }

    /// Whether the directory lets nobody in with it for now, however right it is.
    pub(crate) fn is_locked(&self) -> bool {
        self.locked
    }

    /// The NT hash, which MS-CHAP needs.
    pub(crate) fn nt_hash(&self) -> Option<[u8; 16]> {
        let kept = self.nt_hash.as_ref().and_then(|hash| hash.expose().try_into().ok());
        let made = || std::str::from_utf8(self.clear.as_ref()?.expose()).ok().map(mschap::nt_password_hash);
        kept.or_else(made)
    }

    /// The password itself.
    pub(crate) fn into_clear(self) -> Option<Secret> {
        self.clear.filter(|_| !self.locked)
    }
}

/// Since when an account is locked, and by which policy (the draft on password policies for LDAP
/// directories, sections 5.3.3 and 5.3.9).
const LOCKED_SINCE: &str = "pwdAccountLockedTime";
const POLICY: &str = "pwdPolicySubentry";

/// Whether too many wrong passwords have locked an account, and the time of its policy is not over.
/// Where the directory tells no policy, it counts for as long as the directory says that it is locked.
async fn is_locked(entry: &Entry, servers: &Servers) -> Result<bool, Trouble> {
    let Some(since) = entry.first(LOCKED_SINCE) else { return Ok(false) };
    let (Some(since), Some(policy)) = (generalized_time(since), entry.first(POLICY)) else { return Ok(true) };
    let question = Question {
        base: policy.to_owned(),
        scope: Scope::Base,
        filter: "(objectClass=*)".into(),
        attributes: vec!["pwdLockoutDuration".into()],
        most: 1,
    };
    let policy = match servers.search(&question).await {
        Ok(found) => found.into_iter().next().unwrap_or_default(),
        Err(Trouble::NoBase(_) | Trouble::Refused { .. } | Trouble::Referral(_)) => return Ok(true),
        Err(trouble) => return Err(trouble),
    };
    let seconds = policy.first("pwdLockoutDuration").and_then(|text| text.parse::<i64>().ok()).unwrap_or(0);
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs() as i64;
    // 0 is until somebody unlocks it.
    Ok(seconds <= 0 || now < since.saturating_add(seconds))
}

/// Seconds since 1970 of a GeneralizedTime in UTC (RFC 4517 section 3.3.13), such as
/// `20261126203000Z`; none where it is none, or the one of a lock that has no end.
fn generalized_time(text: &str) -> Option<i64> {
    let time = text.get(..14).filter(|_| text.ends_with('Z'))?;
    let read = jiff::civil::DateTime::strptime("%Y%m%d%H%M%S", time).ok()?;
    let at = read.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_second();
    (at > 0).then_some(at)
}

/// Times of a password, in seconds since 1970.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PasswordTimes {
    /// When it was set.
    pub set: Option<i64>,
    /// When it ends.
    pub ends: Option<i64>,
}

impl PasswordTimes {
    /// Those of the account that searches.
    pub(crate) async fn of_searcher(inner: &Inner) -> Result<Self, Trouble> {
        let settings = &inner.settings;
        let name = &settings.bind_as;
        // The account by what it is bound as: an entry, a principal name, or a machine.
        let (base, scope, filter) = match name.contains('=') {
            true => (name.clone(), Scope::Base, "(objectClass=*)".to_owned()),
            false => {
                let short = name.split('@').next().unwrap_or(name);
                let (principal, account) = (value(name), value(short));
                let filter = format!("(|(userPrincipalName={principal})(sAMAccountName={account}))");
                (settings.base.clone(), Scope::Subtree, filter)
            }
        };
        let attributes = ["pwdLastSet", "msDS-UserPasswordExpiryTimeComputed", "pwdChangedTime"];
        let attributes = attributes.map(str::to_owned).into();
        let question = Question { base, scope, filter, attributes, most: 2 };
        let found = inner.servers.search(&question).await?;
        Ok(found.first().map(Self::of).unwrap_or_default())
    }

    fn of(entry: &Entry) -> Self {
        let time = |name: &str| entry.first(name).and_then(|text| text.parse().ok()).and_then(since_1970);
        Self { set: time("pwdLastSet"), ends: time("msDS-UserPasswordExpiryTimeComputed") }
    }
}

/// Intervals of 100 ns since 1601 ([MS-DTYP] section 2.3.3); 0 and the largest number are no times.
fn since_1970(intervals: i64) -> Option<i64> {
    (intervals > 0 && intervals != i64::MAX).then(|| intervals / 10_000_000 - 11_644_473_600)
}

/// 32 hexadecimal digits, as `sambaNTPassword` has them.
fn hash(text: &str) -> Option<Secret> {
    let digit = |at: usize| text.get(at..at + 2).and_then(|two| u8::from_str_radix(two, 16).ok());
    let bytes: Option<Vec<u8>> = (0..16).map(|place| digit(2 * place)).collect();
    bytes.filter(|_| text.len() == 32).map(Secret::new)
}

/// A password that no scheme hides (RFC 2307 section 5.3).
fn clear(text: &str) -> Option<Secret> {
    let scheme = text.strip_prefix('{').and_then(|rest| rest.split_once('}'));
    match scheme {
        Some((scheme, rest)) if ["clear", "cleartext"].contains(&scheme.to_lowercase().as_str()) => {
            Some(Secret::new(rest.as_bytes()))
        }
        Some((scheme, _)) if scheme.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte)) => None,
        _ => Some(Secret::new(text.as_bytes())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_of_a_password_are_read() {
        let entry = Entry::of(
            "x",
            &[
                ("pwdLastSet", &["133800000000000000"]),
                ("msDS-UserPasswordExpiryTimeComputed", &["9223372036854775807"]),
            ],
        );
        assert_eq!(PasswordTimes::of(&entry), PasswordTimes { set: Some(1_735_526_400), ends: None });
    }

    #[test]
    fn a_generalized_time_is_read() {
        assert_eq!(generalized_time("20240101000001Z"), Some(1_704_067_201));
        assert_eq!(generalized_time("20240101000001.25Z"), Some(1_704_067_201));
        for wrong in ["000001010000Z", "", "20241301000001Z", "2024", "20240101000001", "äääääääääZ"] {
            assert_eq!(generalized_time(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn what_is_hidden_is_no_password_and_what_is_no_hash_is_none() {
        let shown = |text: &str| clear(text).map(|secret| secret.expose().to_vec());
        assert_eq!(shown("Tide-Table-61").as_deref(), Some(&b"Tide-Table-61"[..]));
        assert_eq!(shown("{CLEAR}Tide-Table-61").as_deref(), Some(&b"Tide-Table-61"[..]));
        assert_eq!(shown("{a b}c").as_deref(), Some(&b"{a b}c"[..]));
        assert!(shown("{SSHA}nZ8x").is_none() && shown("{ARGON2}$argon2id$").is_none());
        let kept = Kept { nt_hash: hash("8846F7EAEE8FB117AD06BDD830B7586C"), clear: None, locked: false };
        // MD4 over `password` in UTF-16.
        assert_eq!(kept.nt_hash(), Some(mschap::nt_password_hash("password")));
        let from_clear = Kept { nt_hash: None, clear: clear("password"), locked: false };
        assert_eq!(from_clear.nt_hash(), kept.nt_hash());
        for wrong in ["", "8846", "8846F7EAEE8FB117AD06BDD830B7586CFF", "g846F7EAEE8FB117AD06BDD830B7586C", "ä"] {
            assert!(hash(wrong).is_none(), "{wrong}");
        }
    }
}
