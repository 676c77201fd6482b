//! The stores outside that the records name. One that is not changed keeps its connections and what
//! it knows.

use std::collections::BTreeMap;
use std::sync::Arc;

use regnant_base::Secret;
use regnant_certificates::read_certificates;
use regnant_decision::{IdentityAttribute, Store, StoreRegistry};
use regnant_directory::{Directory, DirectorySettings};
use regnant_http_source::{HttpSettings, HttpSource};
use regnant_outside::{Never, ServerHealth, Told, Way, client_tls};
use regnant_records::{Reading, RecordName, RecordsError, SealingKey, StoreKind, StoreRow, TrustRow, Unusable};
use tokio::runtime::Handle;

/// Stores outside by their names.
#[derive(Clone, Default)]
pub(crate) struct OutsideStores(BTreeMap<String, Known>);

#[derive(Clone)]
struct Known {
    row: StoreRow,
    /// The authorities of its trust, in PEM.
    authorities: Option<String>,
    /// Of which types the facts are that it tells.
    declared: Vec<IdentityAttribute>,
    store: OutsideStore,
}

/// A store outside that is asked.
#[derive(Clone)]
pub(crate) enum OutsideStore {
    Directory(Arc<Directory>),
    Http(Arc<HttpSource>),
}

/// How a store outside is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum OutsideSettings {
    Directory(Box<DirectorySettings>),
    Http(HttpSettings),
}

impl OutsideStore {
    /// How those who are asked do.
    pub(crate) fn health(&self) -> Vec<ServerHealth> {
        match self {
            Self::Directory(directory) => directory.health(),
            Self::Http(source) => vec![source.health()],
        }
    }

    fn store(&self) -> Arc<dyn Store> {
        match self {
            Self::Directory(directory) => directory.clone(),
            Self::Http(source) => source.clone(),
        }
    }
}

impl OutsideSettings {
    /// Those of a record; none where it is none of a store outside.
    pub(crate) fn of(row: &StoreRow) -> Option<Result<Self, serde_json::Error>> {
        match row.kind {
            StoreKind::Directory => Some(serde_json::from_str(&row.settings).map(Self::Directory)),
            StoreKind::Http => Some(serde_json::from_str(&row.settings).map(Self::Http)),
            StoreKind::People | StoreKind::Devices => None,
        }
    }

    /// As a record has them.
    pub(crate) fn text(&self) -> String {
        let text = match self {
            Self::Directory(settings) => serde_json::to_string(settings),
            Self::Http(settings) => serde_json::to_string(settings),
        };
        text.expect("settings have names for keys")
    }

    pub(crate) fn kind(&self) -> StoreKind {
        match self {
            Self::Directory(_) => StoreKind::Directory,
            Self::Http(_) => StoreKind::Http,
        }
    }

    /// The trust that vouches for whoever is asked.
    pub(crate) fn trust(&self) -> Option<&String> {
        match self {
            Self::Directory(settings) => settings.trust.as_ref(),
            Self::Http(settings) => settings.trust.as_ref(),
        }
    }

    /// The facts that it tells.
    pub(crate) fn facts(&self) -> &Told {
        match self {
            Self::Directory(settings) => &settings.facts,
            Self::Http(settings) => &settings.facts,
        }
    }

    /// Whether it is asked with a secret.
    pub(crate) fn has_secret(&self) -> bool {
        match self {
            Self::Directory(settings) => !settings.bind_as.is_empty(),
            Self::Http(settings) => settings.has_secret(),
        }
    }

    /// Whether a secret that was given for others goes to nobody else by these.
    pub(crate) fn same_confidant(&self, others: &Self) -> bool {
        match (self, others) {
            (Self::Directory(one), Self::Directory(other)) => {
                let goes = |settings: &DirectorySettings| {
                    let DirectorySettings {
                        bind_as, servers, trust, domain, machine_account, domain_controllers, ..
                    } = settings.clone();
                    (bind_as, servers, trust, domain, machine_account, domain_controllers)
                };
                goes(one) == goes(other)
            }
            (Self::Http(one), Self::Http(other)) => {
                let goes = |settings: &HttpSettings| {
                    let HttpSettings { url, trust, header, token_url, client, .. } = settings.clone();
                    (url, trust, header, token_url, client)
                };
                goes(one) == goes(other)
            }
            _ => false,
        }
    }

    /// Whether it is the same machine account that asks a domain.
    pub(crate) fn same_machine(&self, others: &Self) -> bool {
        match (self, others) {
            (Self::Directory(one), Self::Directory(other)) => {
                one.domain == other.domain && one.machine_account == other.machine_account
            }
            _ => false,
        }
    }
}

impl OutsideStores {
    /// Those that the records have now, and those of them that cannot be asked.
    pub(crate) fn refreshed(
        &self,
        records: &impl Reading,
        key: &SealingKey,
        declared: &[IdentityAttribute],
        (runtime, never): (&Handle, &Never),
    ) -> Result<(Self, Vec<Unusable>), RecordsError> {
        let trusts = records.all::<TrustRow>()?;
        let (mut known, mut unusable) = (BTreeMap::new(), Vec::new());
        for row in records.all::<StoreRow>()? {
            let Some(settings) = OutsideSettings::of(&row) else { continue };
            let one = settings.map_err(|error| error.to_string());
            match one.and_then(|settings| self.one(&row, settings, &trusts, key, declared, (runtime, never))) {
                Ok(one) => drop(known.insert(row.name, one)),
                Err(why) => unusable.push(Unusable::new(RecordName::Store(row.name), why)),
            }
        }
        Ok((Self(known), unusable))
    }

    /// A store as its record is, the one of before where that has not changed.
    fn one(
        &self,
        row: &StoreRow,
        settings: OutsideSettings,
        trusts: &[TrustRow],
        key: &SealingKey,
        declared: &[IdentityAttribute],
        (runtime, never): (&Handle, &Never),
    ) -> Result<Known, String> {
        let trust = |name: &String| trusts.iter().find(|trust| trust.name == *name);
        // One whose trust is gone believes nobody.
        let authorities = settings.trust().map(|name| trust(name).map_or("", |trust| &trust.authorities));
        let told = |attribute: &&IdentityAttribute| settings.facts().0.contains_key(&attribute.fact());
        let declared: Vec<_> = declared.iter().filter(told).cloned().collect();
        // A password that does not count yet is nobody's to ask with.
        let row = &StoreRow { next_secret: None, ..row.clone() };
        let same = |before: &&Known| {
            before.row == *row && before.authorities.as_deref() == authorities && before.declared == declared
        };
        if let Some(before) = self.0.get(&row.name).filter(same) {
            return Ok(before.clone());
        }
        let secret = row.open_secret(key).map_err(|error| error.to_string())?;
        let der = authorities.map(|pem| read_certificates(pem).unwrap_or_default());
        let way = Way { tls: client_tls(der.as_deref()), never: never.clone() };
        let secret = secret.unwrap_or_else(|| Secret::new(*b""));
        let (authorities, runtime) = (authorities.map(str::to_owned), runtime.clone());
        let store = match settings {
            OutsideSettings::Directory(settings) => Directory::new(*settings, secret, &way, &declared, runtime)
                .map(|directory| OutsideStore::Directory(Arc::new(directory)))
                .map_err(|error| error.to_string())?,
            OutsideSettings::Http(settings) => HttpSource::new(settings, secret, &way, &declared, runtime)
                .map(|source| OutsideStore::Http(Arc::new(source)))
                .map_err(|error| error.to_string())?,
        };
        Ok(Known { row: row.clone(), authorities, declared, store })
    }

    /// Each as a store.
    pub(crate) fn registry(&self) -> StoreRegistry {
        self.0.iter().map(|(name, known)| (name.clone(), known.store.store())).collect()
    }

    /// The one of a name.
    pub(crate) fn get(&self, store: &str) -> Option<&OutsideStore> {
        self.0.get(store).map(|known| &known.store)
    }

    /// Every one by its name.
    pub(crate) fn all(&self) -> impl Iterator<Item = (&str, &OutsideStore)> {
        self.0.iter().map(|(name, known)| (name.as_str(), &known.store))
    }

    /// The stores of which something is so.
    fn whose<'d>(&'d self, is: impl Fn(&OutsideSettings) -> bool + 'd) -> impl Iterator<Item = &'d str> {
        let fits =
            move |known: &&Known| OutsideSettings::of(&known.row).is_some_and(|read| read.is_ok_and(|read| is(&read)));
        self.0.values().filter(fits).map(|known| known.row.name.as_str())
    }

    /// The stores whose servers are believed by a trust.
    pub(crate) fn with_trust<'d>(&'d self, trust: &'d str) -> impl Iterator<Item = &'d str> {
        self.whose(move |settings| settings.trust().is_some_and(|name| name == trust))
    }

    /// The stores that tell a fact.
    pub(crate) fn telling<'d>(&'d self, fact: &'d str) -> impl Iterator<Item = &'d str> {
        self.whose(move |settings| settings.facts().0.contains_key(fact))
    }
}
