//! Finding devices among a million: digits of an address and what devices have in common
//! are looked for in memory, words in a file.

use std::collections::{BTreeMap, BTreeSet};

use regnant_policy::Mac;

use crate::database::{Reading, Records, device_id, devices_by_id, mac_of};
use crate::device_table::{DeviceTable, Digits, Wanted};
use crate::device_texts::DeviceTexts;
use crate::error::RecordsError;
use crate::rows::DeviceRow;
use crate::stores::LocalStores;

/// Which devices are wanted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DeviceFilter {
    /// Every one of these stands in title, owner, note or groups, or is a part of the address
    /// in any notation.
    pub words: Vec<String>,
    /// Only those of this store.
    pub store: Option<String>,
    /// Only those of this group.
    pub group: Option<String>,
    /// Only those that are barred, or only those that are not.
    pub barred: Option<bool>,
    /// Only those after this one, in the order of stores and addresses.
    pub after: Option<(String, Mac)>,
    /// At most this many.
    pub limit: usize,
}

impl DeviceTexts {
    /// The first devices that a filter lets through.
    pub fn devices(
        &self,
        stores: &LocalStores,
        records: &Records,
        filter: &DeviceFilter,
    ) -> Result<Vec<DeviceRow>, RecordsError> {
        let search = Search::new(stores, records, filter)?;
        // One digit is in nearly every address.
        let digits = |word: &String| Digits::read(word).filter(|digits| digits.len() > 1);
        let rest: Vec<_> = filter.words.iter().filter(|word| digits(word).is_none()).cloned().collect();
        let digits: Vec<_> = filter.words.iter().filter_map(digits).collect();
        let mut found = BTreeSet::from_iter(search.run(self, &filter.words, &[])?);
        if !digits.is_empty() {
            found.extend(search.run(self, &rest, &digits)?);
        }
        let ids: Vec<_> = found.into_iter().take(filter.limit).collect();
        records.with(|db| devices_by_id(db, &ids))
    }
}

struct Search<'s> {
    filter: &'s DeviceFilter,
    /// The tables that are looked at, by the numbers of their stores.
    tables: BTreeMap<i64, &'s DeviceTable>,
    /// Every device is after this one.
    after: i64,
}

impl<'s> Search<'s> {
    fn new(stores: &'s LocalStores, records: &Records, filter: &'s DeviceFilter) -> Result<Self, RecordsError> {
        let mut tables = BTreeMap::new();
        for (name, table) in stores.device_tables() {
            if filter.store.as_deref().is_none_or(|wanted| wanted == name) {
                tables.insert(records.store_number(name)?, table);
            }
        }
        let after = match &filter.after {
            Some((store, mac)) => device_id(records.store_number(store)?, *mac),
            None => -1,
        };
        Ok(Self { filter, tables, after })
    }

    /// Ids in their order: of devices in which all these words and all these digits stand.
    fn run(&self, texts: &DeviceTexts, words: &[String], digits: &[Digits]) -> Result<Vec<i64>, RecordsError> {
        let (group, barred) = (self.filter.group.as_deref(), self.filter.barred);
        let wanted =
            self.tables.iter().map(|(store, table)| (*store, (*table, Wanted::new(table, digits, group, barred))));
        let wanted: BTreeMap<_, _> = wanted.collect();
        if !words.is_empty() {
            return texts.search(words, self.after, self.filter.limit, |id| {
                wanted.get(&(id >> 48)).is_some_and(|(table, wanted)| table.is_wanted(mac_of(id), wanted))
            });
        }
        let mut found = Vec::new();
        for (store, (table, wanted)) in &wanted {
            if self.after >> 48 > *store {
                continue;
            }
            let after = (self.after >> 48 == *store).then(|| mac_of(self.after));
            let most = self.filter.limit - found.len();
            found.extend(table.page(wanted, after, most).into_iter().map(|mac| device_id(*store, mac)));
            if found.len() >= self.filter.limit {
                break;
            }
        }
        Ok(found)
    }
}
