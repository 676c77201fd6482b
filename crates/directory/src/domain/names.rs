//! Which domain an entry is of. A base may span several, and each may have an account of a name.

use std::sync::{Mutex, PoisonError};

use ldap3::Scope;
use regnant_base::BoundedMap;

use crate::answers::Trouble;
use crate::connection::Question;
use crate::names::{plain, value};
use crate::servers::Servers;

/// Domains that are known at a time.
const MOST: usize = 256;

/// Names of domains, by the distinguished names that their entries end with.
pub(crate) struct DomainNames {
    known: Mutex<BoundedMap<String, String>>,
}

impl Default for DomainNames {
    fn default() -> Self {
        Self { known: Mutex::new(BoundedMap::new(MOST)) }
    }
}

impl DomainNames {
    /// The domain of an entry, by its short name where the forest tells it and else as the DNS has it; none
    /// where the entry's name ends in no domain.
    pub(crate) async fn of(&self, entry: &str, servers: &Servers) -> Result<Option<String>, Trouble> {
        let Some((base, dns)) = domain_of(entry) else { return Ok(None) };
        let known = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = known().get(&base).cloned();
        if let Some(name) = kept {
            return Ok(Some(name));
        }
        let name = short_name(&base, servers).await?.unwrap_or(dns);
        known().insert(base, name.clone());
        Ok(Some(name))
    }
}

/// What the forest says of a domain ([MS-ADTS] section 6.1.1.2.1.1), where it may be read.
async fn short_name(base: &str, servers: &Servers) -> Result<Option<String>, Trouble> {
    let first = |question: Question, attribute: &'static str| async move {
        match servers.search(&question).await {
            Ok(found) => Ok(found.first().and_then(|entry| entry.first(attribute)).map(str::to_owned)),
            Err(Trouble::NoBase(_) | Trouble::Refused { .. } | Trouble::Referral(_)) => Ok(None),
            Err(trouble) => Err(trouble),
        }
    };
    let question = |base: String, scope, filter: String, attribute: &str| Question {
        base,
        scope,
        filter,
        attributes: vec![attribute.to_owned()],
        most: 1,
    };
    const FOREST: &str = "configurationNamingContext";
    let root = question(String::new(), Scope::Base, "(objectClass=*)".into(), FOREST);
    let Some(forest) = first(root, FOREST).await? else { return Ok(None) };
    let filter = format!("(&(objectClass=crossRef)(nCName={}))", value(base));
    first(question(format!("CN=Partitions,{forest}"), Scope::OneLevel, filter, "nETBIOSName"), "nETBIOSName").await
}

/// The domain that a distinguished name ends with: by that name, and as the DNS has it (RFC 2247).
fn domain_of(entry: &str) -> Option<(String, String)> {
    let name = plain(entry);
    let parts: Vec<&str> = name.split(',').collect();
    let first = parts.iter().rposition(|part| !part.starts_with("dc=")).map_or(0, |last| last + 1);
    let labels: Vec<_> = parts[first..].iter().filter_map(|part| part.strip_prefix("dc=")).collect();
    (!labels.is_empty()).then(|| (parts[first..].join(","), labels.join(".")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_domain_is_what_a_name_ends_with() {
        let of = |entry| domain_of(entry).map(|(base, dns)| format!("{base} {dns}"));
        assert_eq!(
            of("CN=Ada, OU=Crew,DC=child,DC=tarnmouth,DC=example").as_deref(),
            Some("dc=child,dc=tarnmouth,dc=example child.tarnmouth.example")
        );
        assert_eq!(of("dc=example").as_deref(), Some("dc=example example"));
        assert_eq!(of("cn=ada,o=tarnmouth"), None);
        assert_eq!(of("cn=dc=x\\,dc=example,o=tarnmouth"), None);
    }
}
