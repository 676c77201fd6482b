use std::sync::Arc;

use regnant_access::{Dialect, Edition, FactTable, GrantProblem, NasTable};
use regnant_policy::{Checked, Compiled, IdentityKind, Schema, Source};
use regnant_radius::Dictionary;
use regnant_records::{HashPool, LocalStores, Records, RecordsError, SealingKey, StoreKind};

/// What the packet path reads, immutable: a change makes a new one and swaps it.
pub(crate) struct World {
    pub(crate) nases: NasTable,
    pub(crate) edition: Arc<Edition>,
    pub(crate) stores: Arc<LocalStores>,
}

/// What stays the same for as long as the service runs.
pub(crate) struct Ground {
    pub(crate) table: Arc<FactTable>,
    pub(crate) dialects: Vec<Dialect>,
    pub(crate) key: Arc<SealingKey>,
    pub(crate) pool: HashPool,
}

/// The facts that policies may ask about.
pub(crate) fn fact_table() -> FactTable {
    FactTable::new(Dictionary::standard())
}

/// Why a policy cannot become an edition.
pub(crate) enum Unfit {
    Check(Box<Checked>),
    Grants(Vec<GrantProblem>),
}

impl Ground {
    /// The schema with the stores that the records have now.
    pub(crate) fn schema(&self, records: &Records) -> Result<Schema, RecordsError> {
        let stores = records.stores()?.into_iter().map(|(name, kind)| {
            let kind = match kind {
                StoreKind::People => IdentityKind::User,
                StoreKind::Endpoints => IdentityKind::Mac,
            };
            (name, kind)
        });
        Ok(self.table.schema().clone().with_stores(stores))
    }

    /// Checks a policy and renders its grants.
    pub(crate) fn edition(&self, number: u32, source: &str, schema: &Schema) -> Result<Edition, Unfit> {
        let policy = Compiled::from_source(Source::new("main.writ", source), schema).map_err(Unfit::Check)?;
        Edition::prepare(number, policy, &self.dialects, &self.table).map_err(Unfit::Grants)
    }

    /// A new world: this edition with the NASes and stores of the records.
    pub(crate) fn world(&self, records: &Records, edition: Arc<Edition>) -> Result<World, RecordsError> {
        Ok(World {
            nases: NasTable::new(records.nases(&self.key)?),
            edition,
            stores: Arc::new(LocalStores::load(records, self.key.clone(), self.pool.clone())?),
        })
    }
}
