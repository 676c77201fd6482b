//! What decides: a snapshot of what is configured, and how the next one is made of the commands that were applied.

mod checked;
mod environment;
mod next;
#[cfg(test)]
mod tests;

use std::collections::BTreeMap;
use std::sync::Arc;

use regnant_decision::{BoundStores, StoreRegistry};
use regnant_equipment::{ActiveEdition, Edition, NasTable};
use regnant_records::{LocalStores, Unusable};

pub(crate) use crate::snapshot::checked::{CheckedEditions, Unfit};
pub(crate) use crate::snapshot::environment::Environment;
pub(crate) use crate::snapshot::next::Next;

use crate::languages::Languages;
use crate::outside_stores::OutsideStores;

/// Editions whose access lists equipment may still ask for.
pub(crate) const MOST_EARLIER: usize = 8;

/// What the packet path reads, immutable: commands that were applied make a new one, which takes its place. Its
/// parts are made apart from each other, so that a change costs what it changes.
#[derive(Clone)]
pub(crate) struct Snapshot {
    pub(crate) nases: Arc<NasTable>,
    pub(crate) active: ActiveEdition,
    pub(crate) stores: Arc<LocalStores>,
    pub(crate) outside: Arc<OutsideStores>,
    pub(crate) languages: Arc<Languages>,
    left: Arc<Left>,
}

/// What is configured and cannot be used as it is, by the part that it is missing in.
#[derive(Clone, Default)]
struct Left {
    /// By their names, without regard to case.
    nases: BTreeMap<String, Unusable>,
    languages: Vec<Unusable>,
    outside: Vec<Unusable>,
    secrets: Vec<Unusable>,
    gates: Vec<Unusable>,
    edition: Option<Unusable>,
}

impl Snapshot {
    /// Every store by its name.
    pub(crate) fn registry(&self) -> StoreRegistry {
        let mut registry = self.stores.registry();
        registry.extend(self.outside.registry());
        registry
    }

    /// What is configured and cannot be used as it is: whatever needs it is refused.
    pub(crate) fn unusable(&self) -> impl Iterator<Item = &Unusable> {
        let Left { nases, languages, outside, secrets, gates, edition } = &*self.left;
        let lists = [languages, outside, secrets, gates].into_iter().flatten();
        self.stores.unusable().chain(nases.values()).chain(lists).chain(edition)
    }

    /// Has the edition ask the stores of now.
    fn bind(&mut self) {
        self.active.policy.stores = bind(&self.active.edition, &self.registry());
    }
}

/// The stores that an edition names.
fn bind(edition: &Edition, registry: &StoreRegistry) -> Arc<BoundStores> {
    Arc::new(BoundStores::new(edition.policy.stores(), registry))
}
