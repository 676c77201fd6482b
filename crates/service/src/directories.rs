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
            match self.one(&row, &trusts, key, runtime) {
                Ok(one) => drop(known.insert(row.name, one)),
                Err(why) => tracing::error!("store {} cannot be asked: {why}; set it anew", row.name),
            }
        }
        Ok(Self(known))
    }

    /// A directory as its record is, the one of before where that has not changed.
    fn one(&self, row: &StoreRow, trusts: &[TrustRow], key: &SealingKey, runtime: &Handle) -> Result<Known, String> {
        let settings = settings_of(row).map_err(|error| error.to_string())?;
        let trust = |name: &String| trusts.iter().find(|trust| trust.name == *name);
        // One whose trust is gone believes nobody.
        let authorities = settings.trust.as_ref().map(|name| trust(name).map_or("", |trust| &trust.authorities));
        let same = |before: &&Known| before.row == *row && before.authorities.as_deref() == authorities;
        if let Some(before) = self.0.get(&row.name).filter(same) {
            return Ok(before.clone());
        }
        let secret = row.open_secret(key).map_err(|error| error.to_string())?;
        let der = authorities.map(|pem| read_certificates(pem).unwrap_or_default());
        let (tls, secret) = (client_tls(der.as_deref()), secret.unwrap_or_else(|| Secret::new(*b"")));
        let directory = Directory::new(settings, secret, &tls, runtime.clone()).map_err(|error| error.to_string())?;
        let (authorities, directory) = (authorities.map(str::to_owned), Arc::new(directory));
        Ok(Known { row: row.clone(), authorities, directory })
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
