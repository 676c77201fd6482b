//! Finding devices among a million: digits of an address and what devices have in common
//! are looked for in memory, words in a file.

use regnant_base::Mac;
use std::collections::{BTreeMap, BTreeSet};

use crate::database::{Reading, Records, device_id, devices_by_id, mac_of};
use crate::device_table::{DeviceTable, Digits, Wanted};
use crate::device_texts::{DeviceTexts, folded, text_of_row};
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
    /// Only those that end from one time on and before another, in milliseconds since 1970.
    pub ends: Option<(i64, i64)>,
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

/// So many devices are looked at one by one.
const FEW: usize = 5_000;

struct Search<'s> {
    records: &'s Records,
    filter: &'s DeviceFilter,
    /// The tables that are looked at, by the numbers of their stores.
    tables: BTreeMap<i64, &'s DeviceTable>,
    /// Every device is after this one.
    after: i64,
}

impl<'s> Search<'s> {
    fn new(stores: &'s LocalStores, records: &'s Records, filter: &'s DeviceFilter) -> Result<Self, RecordsError> {
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
        Ok(Self { records, filter, tables, after })
    }

    /// Ids in their order: of devices in which all these words and all these digits stand.
    fn run(&self, texts: &DeviceTexts, words: &[String], digits: &[Digits]) -> Result<Vec<i64>, RecordsError> {
        let wanted =
            self.tables.iter().map(|(store, table)| (*store, (*table, Wanted::new(table, digits, self.filter))));
        let wanted: BTreeMap<_, _> = wanted.collect();
        if !words.is_empty() && !digits.is_empty() {
            // Few have these digits, and each is looked at; or many, and a page is soon full.
            let found = self.page(&wanted, FEW + 1);
            if found.len() <= FEW {
                let mut kept = Vec::new();
                for id in found {
                    let row = self.records.with(|db| devices_by_id(db, &[id]))?;
                    kept.extend(row.iter().any(|row| row.holds(words)).then_some(id));
                }
                return Ok(kept);
            }
        }
        if !words.is_empty() {
            return texts.search(words, self.after, self.filter.limit, |id| {
                wanted.get(&(id >> 48)).is_some_and(|(table, wanted)| table.is_wanted(mac_of(id), wanted))
            });
        }
        Ok(self.page(&wanted, self.filter.limit))
    }

    /// The first so many that are wanted.
    fn page(&self, wanted: &BTreeMap<i64, (&DeviceTable, Wanted<'_>)>, most: usize) -> Vec<i64> {
        let mut found = Vec::new();
        for (store, (table, wanted)) in wanted {
            if self.after >> 48 > *store {
                continue;
            }
            let after = (self.after >> 48 == *store).then(|| mac_of(self.after));
            let macs = table.page(wanted, after, most - found.len());
            found.extend(macs.into_iter().map(|mac| device_id(*store, mac)));
            if found.len() >= most {
                break;
            }
        }
        found
    }
}

impl DeviceRow {
    /// Whether every word stands in its texts.
    fn holds(&self, words: &[String]) -> bool {
        let text = text_of_row(self);
        words.iter().all(|word| text.contains(&folded(word)))
    }
}
