//! What a directory has to offer: where people and groups may be, and which groups there are. Policies
//! are checked with it, and whoever connects the directory chooses from it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

use ldap3::Scope;
use regnant_base::Secret;
use regnant_decision::GroupNames;
use regnant_outside::Way;
use thiserror::Error;
use tokio::runtime::Handle;
use tokio::time::{sleep, timeout};

use crate::answers::Trouble;
use crate::connection::{Question, search_all};
use crate::entry::Entry;
use crate::names::is_below;
use crate::servers::Servers;
use crate::settings::{DirectorySettings, SettingsError};
use crate::store::Inner;

/// How often it is looked, where it went well and where it did not.
const AGAIN: (Duration, Duration) = (Duration::from_secs(3_600), Duration::from_secs(60));
/// How long one look may take.
const PATIENCE: Duration = Duration::from_secs(60);
/// Groups, and places, that are kept.
const MOST_GROUPS: usize = 20_000;
const MOST_PLACES: usize = 500;

/// What was there at the last look.
#[derive(Clone, Debug)]
pub struct Offer {
    /// Entries below which everything may be searched: naming contexts and units.
    pub places: Vec<String>,
    /// Groups by short name, where they have one below the base of groups, and distinguished name.
    pub groups: Vec<(Option<String>, String)>,
    /// When it was looked.
    pub at: Instant,
}

/// The last look.
#[derive(Debug, Default)]
pub(crate) struct LastLook(Mutex<Option<Arc<Offer>>>);

impl LastLook {
    pub(crate) fn offer(&self) -> Option<Arc<Offer>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Looks now and again, for as long as the directory is asked.
pub(crate) fn keep_looking(inner: &Arc<Inner>, runtime: &Handle) {
    let inner = Arc::downgrade(inner);
    runtime.spawn(async move {
        loop {
            let Some(went_well) = look_once(&inner).await else { return };
            sleep(if went_well { AGAIN.0 } else { AGAIN.1 }).await;
        }
    });
}

async fn look_once(inner: &Weak<Inner>) -> Option<bool> {
    let inner = inner.upgrade()?;
    match timeout(PATIENCE, look(&inner.servers, &inner.settings)).await {
        Ok(Ok(offer)) => {
            *inner.last_look.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(Arc::new(offer));
            Some(true)
        }
        Ok(Err(trouble)) => {
            tracing::debug!("what a directory offers is not known: {trouble}");
            Some(false)
        }
        Err(_) => Some(false),
    }
}

/// Looks at a directory that is no store yet, as far as its settings are said: its base may be missing.
pub async fn first_look(
    settings: DirectorySettings,
    bind_password: Secret,
    way: &Way,
) -> Result<Offer, FirstLookError> {
    if settings.servers.is_empty() {
        return Err(SettingsError::Servers(0).into());
    }
    let servers = Servers::new(&settings, bind_password, way)?;
    match timeout(PATIENCE, look(&servers, &settings)).await {
        Ok(offer) => Ok(offer?),
        Err(_) => Err(Trouble::Late { server: "the directory".into(), seconds: PATIENCE.as_secs() }.into()),
    }
}

/// Why nothing was seen.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum FirstLookError {
    /// It cannot be asked so.
    #[error(transparent)]
    Settings(#[from] SettingsError),
    /// It did not answer.
    #[error(transparent)]
    Trouble(#[from] Trouble),
}

/// Looks at the first server that answers, over a connection of its own.
async fn look(servers: &Servers, settings: &DirectorySettings) -> Result<Offer, Trouble> {
    let (mut ldap, address) = servers.first_that_searches().await?;
    let question = |base: &str, scope, filter: &str, attributes: &[&str], most| Question {
        base: base.to_owned(),
        scope,
        filter: filter.to_owned(),
        attributes: attributes.iter().map(|name| (*name).to_owned()).collect(),
        most,
    };
    // RFC 4512 section 5.1: where its trees begin.
    let root = question("", Scope::Base, "(objectClass=*)", &["namingContexts"], 1);
    let root = search_all(&mut ldap, &address.url, &root).await?;
    let mut places: Vec<String> = root.iter().flat_map(|entry| entry.all("namingContexts").to_vec()).collect();
    let base = match (settings.base.as_str(), places.first()) {
        ("", Some(first)) => first.clone(),
        (base, _) => base.to_owned(),
    };
    let units = "(|(objectClass=organizationalUnit)(objectClass=container))";
    let units = question(&base, Scope::Subtree, units, &["objectClass"], MOST_PLACES);
    places.extend(search_all(&mut ldap, &address.url, &units).await?.into_iter().map(|entry| entry.name));
    let groups =
        "(|(objectClass=group)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=posixGroup))";
    let groups = question(&base, Scope::Subtree, groups, &[&settings.group_name], MOST_GROUPS);
    let groups = search_all(&mut ldap, &address.url, &groups).await?;
    let group_base = settings.group_base.as_deref().unwrap_or(&base);
    let named = |entry: Entry| {
        let short = entry.first(&settings.group_name).filter(|_| is_below(&entry.name, group_base));
        (short.map(str::to_owned), entry.name.clone())
    };
    Ok(Offer { places, groups: groups.into_iter().map(named).collect(), at: Instant::now() })
}

impl Offer {
    /// The names of groups, as policies may have them.
    pub(crate) fn names(&self) -> GroupNames {
        let mut counts: HashMap<String, usize> = HashMap::new();
        for short in self.groups.iter().filter_map(|(short, _)| short.as_deref()) {
            *counts.entry(short.to_lowercase()).or_default() += 1;
        }
        let twice = counts.into_iter().filter(|(_, count)| *count > 1).map(|(name, _)| name).collect();
        let names = self.groups.iter().flat_map(|(short, long)| short.iter().chain([long])).cloned().collect();
        GroupNames { names, twice, looked: Some(self.at.elapsed().as_secs()), whole: self.groups.len() < MOST_GROUPS }
    }
}
