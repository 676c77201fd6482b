//! What some directories keep of passwords, from which responses are checked here.

use ldap3::Scope;
use regnant_base::Secret;
use regnant_decision::{PasswordAnswer, Recovered};
use regnant_eap::mschap;

use crate::answers::Trouble;
use crate::connection::Question;
use crate::entry::Entry;
use crate::names::value;
use crate::servers::Servers;
use crate::settings::DirectorySettings;
use crate::standing;
use crate::store::Inner;
use crate::times::Notation;

/// What is kept of the password of an entry; it is read for each check, and forgotten.
pub(crate) struct Kept {
    nt_hash: Option<Secret>,
    clear: Option<Secret>,
    standing: PasswordAnswer,
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
                .chain(standing::ATTRIBUTES.map(str::to_owned))
                .collect(),
            most: 1,
        };
        let found = servers.search(&question).await?.into_iter().next().unwrap_or_default();
        let value = |name: &str| if name.is_empty() { None } else { found.first(name) };
        Ok(Self {
            nt_hash: value(&settings.nt_hash).and_then(hash),
            clear: value(&settings.clear_password).and_then(clear),
            standing: standing::of(&found, servers).await?,
        })
    }

    /// What the directory says of it where it is right.
    pub(crate) fn standing(&self) -> PasswordAnswer {
        self.standing
    }

    /// The NT hash, which MS-CHAP needs.
    pub(crate) fn nt_hash(&self) -> Option<[u8; 16]> {
        let kept = self.nt_hash.as_ref().and_then(|hash| hash.expose().try_into().ok());
        let made = || std::str::from_utf8(self.clear.as_ref()?.expose()).ok().map(mschap::nt_password_hash);
        kept.or_else(made)
    }

    /// The password itself.
    pub(crate) fn into_recovered(self) -> Option<Recovered> {
        let standing = self.standing;
        self.clear.map(|password| Recovered { password, standing })
    }
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
        let time = |name: &str| entry.first(name).and_then(|text| Notation::Intervals.read(text));
        Self { set: time("pwdLastSet"), ends: time("msDS-UserPasswordExpiryTimeComputed") }
    }
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
    fn what_is_hidden_is_no_password_and_what_is_no_hash_is_none() {
        let shown = |text: &str| clear(text).map(|secret| secret.expose().to_vec());
        assert_eq!(shown("Tide-Table-61").as_deref(), Some(&b"Tide-Table-61"[..]));
        assert_eq!(shown("{CLEAR}Tide-Table-61").as_deref(), Some(&b"Tide-Table-61"[..]));
        assert_eq!(shown("{a b}c").as_deref(), Some(&b"{a b}c"[..]));
        assert!(shown("{SSHA}nZ8x").is_none() && shown("{ARGON2}$argon2id$").is_none());
        let kept =
            Kept { nt_hash: hash("8846F7EAEE8FB117AD06BDD830B7586C"), clear: None, standing: PasswordAnswer::Right };
        // MD4 over `password` in UTF-16.
        assert_eq!(kept.nt_hash(), Some(mschap::nt_password_hash("password")));
        let from_clear = Kept { nt_hash: None, clear: clear("password"), standing: PasswordAnswer::Right };
        assert_eq!(from_clear.nt_hash(), kept.nt_hash());
        for wrong in ["", "8846", "8846F7EAEE8FB117AD06BDD830B7586CFF", "g846F7EAEE8FB117AD06BDD830B7586C", "ä"] {
            assert!(hash(wrong).is_none(), "{wrong}");
        }
    }
}
