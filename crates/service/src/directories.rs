//! The directories that the records name. One that is not changed keeps its connections and what
//! it knows.

use std::collections::BTreeMap;
use std::sync::Arc;

use regnant_base::Secret;
use regnant_certificates::read_certificates;
use regnant_decision::{Store, StoreRegistry};
use regnant_directory::{Directory, DirectorySettings, client_tls};
use regnant_records::{Reading, RecordsError, SealingKey, StoreKind, StoreRow, TrustRow};
use tokio::runtime::Handle;

/// Directories by the names of their stores.
#[derive(Clone, Default)]
pub(crate) struct Directories(BTreeMap<String, Known>);

#[derive(Clone)]
struct Known {
    row: StoreRow,
    /// The authorities of its trust, in PEM.
    authorities: Option<String>,
    directory: Arc<Directory>,
}

impl Directories {
    /// Those that the records have now.
    pub(crate) fn refreshed(
        &self,
        records: &impl Reading,
        key: &SealingKey,
        runtime: &Handle,
    ) -> Result<Self, RecordsError> {
        let trusts = records.all::<TrustRow>()?;
        let mut known = BTreeMap::new();
        for row in records.all::<StoreRow>()?.into_iter().filter(|row| row.kind == StoreKind::Directory) {
            let settings = match settings_of(&row) {
                Ok(settings) => settings,
                Err(error) => {
                    tracing::error!("store {} cannot be asked: {error}; set it anew", row.name);
                    continue;
                }
            };
            let trust = |name: &String| trusts.iter().find(|trust| trust.name == *name);
            // One whose trust is gone believes nobody.
            let authorities = settings.trust.as_ref().map(|name| trust(name).map_or("", |trust| &trust.authorities));
            let same = |before: &&Known| before.row == row && before.authorities.as_deref() == authorities;
            let one = match self.0.get(&row.name).filter(same) {
                Some(before) => before.clone(),
                None => {
                    let secret = row.open_secret(key)?;
                    match directory(&settings, secret, authorities, runtime) {
                        Ok(directory) => {
                            Known { row: row.clone(), authorities: authorities.map(str::to_owned), directory }
                        }
                        Err(error) => {
                            tracing::error!("store {} cannot be asked: {error}; set it anew", row.name);
                            continue;
                        }
                    }
                }
            };
            known.insert(row.name, one);
        }
        Ok(Self(known))
    }

    /// Each as a store.
    pub(crate) fn registry(&self) -> StoreRegistry {
        self.0.iter().map(|(name, known)| (name.clone(), known.directory.clone() as Arc<dyn Store>)).collect()
    }

    /// The directory of a store.
    pub(crate) fn get(&self, store: &str) -> Option<&Arc<Directory>> {
        self.0.get(store).map(|known| &known.directory)
    }

    /// Every directory by the name of its store.
    pub(crate) fn all(&self) -> impl Iterator<Item = (&str, &Arc<Directory>)> {
        self.0.iter().map(|(name, known)| (name.as_str(), &known.directory))
    }

    /// The stores whose servers are believed by a trust.
    pub(crate) fn with_trust<'d>(&'d self, trust: &'d str) -> impl Iterator<Item = &'d str> {
        let uses = move |known: &&Known| {
            settings_of(&known.row).is_ok_and(|settings| settings.trust.as_deref() == Some(trust))
        };
        self.0.values().filter(uses).map(|known| known.row.name.as_str())
    }
}

/// How a directory is asked, as its record says.
pub(crate) fn settings_of(row: &StoreRow) -> Result<DirectorySettings, serde_json::Error> {
    serde_json::from_str(&row.settings)
}

fn directory(
    settings: &DirectorySettings,
    secret: Option<Secret>,
    authorities: Option<&str>,
    runtime: &Handle,
) -> Result<Arc<Directory>, regnant_directory::SettingsError> {
    let authorities = authorities.map(|pem| read_certificates(pem).unwrap_or_default());
    let tls = client_tls(authorities.as_deref());
    let secret = secret.unwrap_or_else(|| Secret::new(*b""));
    Directory::new(settings.clone(), secret, &tls, runtime.clone()).map(Arc::new)
}
