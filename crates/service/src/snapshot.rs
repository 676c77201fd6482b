use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;

use regnant_base::Secret;
use regnant_certificates::{Bundle, read_certificates, read_crls};
use regnant_decision::{
    ActivePolicy, BoundStores, CertificateMaterial, GateOffers, OfferProblem, Presentable, StoreRegistry, TrustMaterial,
};
use regnant_eap::{Judgement, Trust};
use regnant_equipment::{ActiveEdition, Edition, FormerSecret, GrantProblem, NamedSecrets, Nas, NasTable};
use regnant_outside::Never;
use regnant_policy::Checked;
use regnant_radius::SharedSecret;
use regnant_records::{
    CertificateRow, FetchedLists, HashPool, LocalStores, NasRow, Reading, RecordName, Records, RecordsError, Rows,
    SealingKey, SecretRow, TrustRow,
};
use thiserror::Error;
use tokio::runtime::Handle;

use crate::administration::downloads::Fetched;
use crate::administration::issuers::Issuers;
use crate::administration::renewal::staple_name;
use crate::clock::now_ms;
use crate::console_tls::ConsoleTls;
use crate::heard::HeardOfNases;
use crate::languages::Languages;
use crate::outside_stores::OutsideStores;

/// What the packet path reads, immutable: a change makes a new one and swaps it. Its
/// parts are made apart from each other, so that a change costs what it changes.
#[derive(Clone)]
pub(crate) struct Snapshot {
    pub(crate) nases: Arc<NasTable>,
    pub(crate) active: ActiveEdition,
    pub(crate) stores: Arc<LocalStores>,
    pub(crate) outside: Arc<OutsideStores>,
    pub(crate) languages: Arc<Languages>,
}

impl Snapshot {
    /// The same with other stores.
    pub(crate) fn with_stores(&self, stores: LocalStores) -> Self {
        let mut after = self.clone();
        after.stores = Arc::new(stores);
        after.bind();
        after
    }

    /// Every store by its name.
    pub(crate) fn registry(&self) -> StoreRegistry {
        registry(&self.stores, &self.outside)
    }

    fn bind(&mut self) {
        self.active.policy.stores = bind(&self.active.edition, &self.registry());
    }
}

/// Every store by its name.
pub(crate) fn registry(stores: &LocalStores, outside: &OutsideStores) -> StoreRegistry {
    let mut registry = stores.registry();
    registry.extend(outside.registry());
    registry
}

/// What stays the same for as long as the service runs.
pub(crate) struct Environment {
    pub(crate) key: Arc<SealingKey>,
    pub(crate) pool: HashPool,
    /// Where the records are, and room for what is on its way into them.
    pub(crate) folder: PathBuf,
    /// Revocation lists that were fetched, by trust, and where they are kept for the
    /// next start.
    pub(crate) lists: Fetched,
    pub(crate) list_file: FetchedLists,
    /// OCSP responses about our certificates, by fingerprint.
    pub(crate) staples: Fetched,
    /// Who is asked about others' certificates.
    pub(crate) issuers: Arc<Issuers>,
    /// What is heard of equipment, whatever its records say.
    pub(crate) heard: HeardOfNases,
    /// What console and API present, where they speak TLS.
    pub(crate) console_tls: Option<Arc<ConsoleTls>>,
    /// What drives connections to others.
    pub(crate) runtime: Handle,
    /// Where they never go.
    pub(crate) never: Never,
}

/// Why a policy cannot become an edition.
pub(crate) enum Unfit {
    Check(Box<Checked>),
    /// Grants that some NASes could not be told of, with their names.
    Grants(Box<Edition>, Vec<(GrantProblem, Vec<String>)>),
}

/// Why a snapshot cannot be made.
#[derive(Debug, Error)]
pub(crate) enum SnapshotError {
    #[error(transparent)]
    Records(#[from] RecordsError),
    #[error(transparent)]
    Offer(#[from] OfferProblem),
}

impl Environment {
    /// The stores that the records hold.
    pub(crate) fn stores(&self, records: &Records) -> Result<LocalStores, RecordsError> {
        LocalStores::of(records, self.key.clone(), self.pool.clone())
    }

    /// The stores outside that the records name.
    pub(crate) fn outside(
        &self,
        before: &OutsideStores,
        languages: &Languages,
        records: &impl Reading,
    ) -> Result<OutsideStores, RecordsError> {
        before.refreshed(records, &self.key, languages.vocabulary.table().attributes(), (&self.runtime, &self.never))
    }

    /// The snapshot with the stores outside that the records name now.
    pub(crate) fn with_outside(&self, before: &Snapshot, records: &impl Reading) -> Result<Snapshot, RecordsError> {
        let outside = Arc::new(self.outside(&before.outside, &before.languages, records)?);
        let mut after = Snapshot { outside, ..before.clone() };
        after.bind();
        Ok(after)
    }

    /// Has console and API present what the records have now.
    pub(crate) fn refresh_console(&self, records: &impl Reading) -> Result<(), RecordsError> {
        self.console_tls.as_ref().map_or(Ok(()), |tls| tls.refresh(records, &self.key))
    }

    /// Certificates and authorities as the records have them. What cannot be read
    /// is left out: a gate that needs it is told then.
    fn materials(&self, records: &impl Reading) -> Result<CertificateMaterial, RecordsError> {
        let now = now_ms() / 1_000;
        let mut certificates = HashMap::new();
        for row in records.all::<CertificateRow>()? {
            let key = row.private_key(&self.key)?;
            if let Ok(bundle) = Bundle::from_pem(&row.chain) {
                let stapled = self.staples.current(&staple_name(&row), now).map(|came| came.bytes);
                let key = regnant_eap::Secret::new(key.expose());
                certificates.insert(row.name, Presentable { chain: bundle.chain, key, stapled });
            }
        }
        let trusts = records.all::<TrustRow>()?.into_iter().filter_map(|row| {
            let (authorities, mut crls) = (read_certificates(&row.authorities).ok()?, read_crls(&row.crls).ok()?);
            // A fetched list is newer than what was brought.
            crls.splice(..0, self.fetched_list(&row));
            Some((row.name, TrustMaterial { authorities, crls, responder: row.ocsp_url, whatever: row.whatever }))
        });
        let standings = Some(self.issuers.clone() as Arc<dyn regnant_eap::Standings>);
        Ok(CertificateMaterial { certificates, trusts: trusts.collect(), standings })
    }

    /// The list that was fetched for a trust, where the trust as it is now still
    /// wants one from there and believes its issuer.
    pub(crate) fn fetched_list(&self, row: &TrustRow) -> Option<Vec<u8>> {
        row.crl_url.as_ref()?;
        let list = self.lists.current(&row.name, now_ms() / 1_000)?.bytes;
        let authorities = read_certificates(&row.authorities).ok()?;
        Trust::whatever(&authorities, std::slice::from_ref(&list), Judgement::default()).ok().map(|_| list)
    }

    /// A snapshot of everything: this edition and these stores, with the NASes and
    /// certificates of the records. Only a start needs it.
    pub(crate) fn snapshot(
        &self,
        records: &impl Reading,
        (stores, outside): (LocalStores, OutsideStores),
        languages: Languages,
        edition: Arc<Edition>,
    ) -> Result<Snapshot, SnapshotError> {
        let (offers, bound) = (self.offers(&edition, records)?, bind(&edition, &registry(&stores, &outside)));
        let nases = records.all::<NasRow>()?.iter().map(|row| self.opened(row)).collect::<Result<Vec<_>, _>>()?;
        Ok(Snapshot {
            nases: Arc::new(NasTable::new(nases)),
            active: ActiveEdition { secrets: self.secrets(records)?, ..active(edition, offers, bound) },
            stores: Arc::new(stores),
            outside: Arc::new(outside),
            languages: Arc::new(languages),
        })
    }

    /// The snapshot with equipment, people and devices that were added or changed, and
    /// without those that are gone.
    pub(crate) fn with_records(
        &self,
        before: &Snapshot,
        gone: &[RecordName],
        rows: &Rows,
    ) -> Result<Snapshot, RecordsError> {
        let mut after = before.clone();
        let nas = |name: &'_ RecordName| matches!(name, RecordName::Nas(_));
        if !rows.nases.is_empty() || gone.iter().any(nas) {
            let names = gone.iter().filter_map(|name| match name {
                RecordName::Nas(name) => Some(name.as_str()),
                _ => None,
            });
            let changed = rows.nases.iter().map(|row| self.opened(row)).collect::<Result<_, _>>()?;
            after.nases = Arc::new(before.nases.with(changed, &names.collect::<Vec<_>>()));
        }
        let identities = |name: &RecordName| !nas(name);
        if gone.iter().any(identities) || rows.names().any(|name| identities(&name)) {
            after.stores = Arc::new(before.stores.without(gone).with(rows)?);
            after.bind();
        }
        Ok(after)
    }

    /// The snapshot with another edition.
    pub(crate) fn with_edition(
        &self,
        before: &Snapshot,
        edition: Arc<Edition>,
        records: &impl Reading,
    ) -> Result<Snapshot, SnapshotError> {
        let (offers, stores) = (self.offers(&edition, records)?, bind(&edition, &before.registry()));
        let mut after = Snapshot { active: active(edition, offers, stores), ..before.clone() };
        after.active.secrets = before.active.secrets.clone();
        let earlier = [&before.active.edition].into_iter().chain(before.active.earlier.iter());
        after.active.earlier = earlier.take(MOST_EARLIER).cloned().collect();
        Ok(after)
    }

    /// The snapshot with the secrets that the records have now.
    pub(crate) fn with_secrets(&self, before: &Snapshot, records: &impl Reading) -> Result<Snapshot, RecordsError> {
        let mut after = before.clone();
        after.active.secrets = self.secrets(records)?;
        Ok(after)
    }

    /// A NAS with its secrets opened.
    fn opened(&self, row: &NasRow) -> Result<Nas, RecordsError> {
        let shared = |secret: Secret| SharedSecret::new(secret.expose());
        let former = row.former_secret(&self.key)?.map(shared).zip(row.former_secret.as_ref());
        Ok(Nas {
            identity: row.identity(),
            networks: row.networks.clone(),
            secret: shared(row.shared_secret(&self.key)?),
            former: former.map(|(secret, row)| FormerSecret {
                secret,
                since: row.since.cast_unsigned(),
                until: row.until.cast_unsigned(),
            }),
            heard: self.heard.of(&row.name),
            require_message_authenticator: row.require_message_authenticator,
            class_at_login: row.class_at_login,
        })
    }

    fn secrets(&self, records: &impl Reading) -> Result<NamedSecrets, RecordsError> {
        let rows = records.all::<SecretRow>()?.into_iter();
        let opened = rows.map(|row| row.open(&self.key).map(|secret| (row.name, secret)));
        Ok(NamedSecrets::new(opened.collect::<Result<Vec<_>, _>>()?))
    }

    /// The snapshot with the certificates and trusts that the records have now.
    pub(crate) fn with_certificates(
        &self,
        before: &Snapshot,
        records: &impl Reading,
    ) -> Result<Snapshot, SnapshotError> {
        // Stores outside are believed by trusts too.
        let mut after = self.with_outside(before, records)?;
        after.active.policy.offers = self.offers(&before.active.edition, records)?;
        Ok(after)
    }

    fn offers(&self, edition: &Edition, records: &impl Reading) -> Result<Arc<GateOffers>, SnapshotError> {
        Ok(Arc::new(GateOffers::prepare(&edition.policy, &self.materials(records)?)?))
    }
}

/// Editions whose access lists equipment may still ask for.
pub(crate) const MOST_EARLIER: usize = 8;

fn active(edition: Arc<Edition>, offers: Arc<GateOffers>, stores: Arc<BoundStores>) -> ActiveEdition {
    let (policy, table) = (edition.policy.clone(), edition.vocabulary.table().clone());
    ActiveEdition {
        edition,
        policy: ActivePolicy { policy, table, offers, stores },
        secrets: NamedSecrets::default(),
        earlier: Arc::default(),
    }
}

/// The stores that an edition names.
fn bind(edition: &Edition, registry: &StoreRegistry) -> Arc<BoundStores> {
    Arc::new(BoundStores::new(edition.policy.stores(), registry))
}
