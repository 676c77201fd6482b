//! Whose names a store is asked about.

use regnant_policy::IdentityKind;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// Realms and domains, as people write them: `tarnmouth.example` for names that end
/// `@tarnmouth.example` and for machines of that domain, `TARN\` for names that begin so. A store
/// without any is asked about every name; a name without realm and domain is always asked about.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Realms(pub Vec<String>);

/// Realms of one store, and bytes of one.
const MOST: usize = 64;
const LONGEST: usize = 255;

impl Realms {
    /// Whether each of them is one.
    pub fn check(&self) -> Result<(), RealmsError> {
        if self.0.len() > MOST {
            return Err(RealmsError::TooMany);
        }
        let wrong = |realm: &&String| {
            let bare = realm.strip_suffix('\\').unwrap_or(realm);
            bare.is_empty()
                || realm.len() > LONGEST
                || bare.contains(['@', '\\', '/'])
                || bare.chars().any(|c| c.is_control() || c.is_whitespace())
        };
        match self.0.iter().find(wrong) {
            Some(realm) => Err(RealmsError::NoRealm(realm.chars().take(40).collect())),
            None => Ok(()),
        }
    }

    /// Whether a name, as it is claimed, is one of theirs.
    pub fn hold(&self, kind: IdentityKind, claimed: &str) -> bool {
        if self.0.is_empty() || kind == IdentityKind::Mac {
            return true;
        }
        let same = |text: &str| self.0.iter().any(|realm| realm.eq_ignore_ascii_case(text));
        // What stands last counts, as whoever follows it would read the name.
        if let Some((_, realm)) = claimed.rsplit_once('@') {
            return same(realm);
        }
        if let Some((domain, _)) = claimed.split_once('\\') {
            return same(&format!("{domain}\\"));
        }
        match claimed.split_once('.') {
            Some((_, domain)) if kind == IdentityKind::Machine => same(domain),
            _ => true,
        }
    }
}

/// What is no realm.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RealmsError {
    /// Too many.
    #[error("a store answers for at most {MOST} realms and domains")]
    TooMany,
    /// Not one.
    #[error("`{0}` is no realm, such as example.org, and no domain, such as EXAMPLE\\")]
    NoRealm(String),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_of_another_realm_is_not_asked_about() {
        let realms = Realms(vec!["tarnmouth.example".into(), "TARN\\".into()]);
        realms.check().unwrap();
        let user = |name| realms.hold(IdentityKind::User, name);
        assert!(user("ida.marsh@Tarnmouth.Example") && user("tarn\\ida.marsh") && user("ida.marsh"));
        assert!(!user("ida.marsh@partner.example") && !user("PARTNER\\ida.marsh"));
        assert!(!user("ida.marsh@tarnmouth.example@partner.example"), "the last one counts");
        assert!(!user("TARN\\ida.marsh@partner.example"));
        let machine = |name| realms.hold(IdentityKind::Machine, name);
        assert!(machine("quay-laptop-7.tarnmouth.example") && machine("quay-laptop-7"));
        assert!(!machine("quay-laptop-7.partner.example"));
        assert!(Realms::default().hold(IdentityKind::User, "x@anywhere"));
        for wrong in ["", "\\", "a b", "@x", "a\\b", &"x".repeat(300)] {
            Realms(vec![wrong.into()]).check().unwrap_err();
        }
    }
}
