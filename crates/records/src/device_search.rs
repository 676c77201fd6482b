//! Finding devices among a million: digits of an address and what devices have in common
//! are looked for in memory, words in an index on the disk.

use std::collections::{BTreeMap, BTreeSet};

use regnant_policy::Mac;
use rusqlite::{Connection, params};

use crate::database::{Reading, device_id, devices_by_id, mac_of};
use crate::device_table::{DeviceTable, Digits, Wanted};
use crate::error::RecordsError;
use crate::rows::DeviceRow;
use crate::stores::LocalStores;

/// Which devices are wanted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DeviceFilter {
    /// Every one of these begins a word of title, owner, note or groups, or is a part of
    /// the address in any notation.
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

/// A word that is looked for.
struct Word {
    /// What begins words, in its parts between signs.
    text: Vec<String>,
    digits: Option<Digits>,
}

impl LocalStores {
    /// The first devices that a filter lets through.
    pub fn devices(&self, records: &impl Reading, filter: &DeviceFilter) -> Result<Vec<DeviceRow>, RecordsError> {
        let words: Vec<_> = filter.words.iter().map(|word| Word::read(word)).collect();
        records.with(|db| {
            let search = Search::new(self, db, filter)?;
            let (mut text, mut digits, mut rest) = (Vec::new(), Vec::new(), Vec::new());
            for word in &words {
                text.extend(word.text.iter().cloned());
                match word.digits {
                    Some(found) => digits.push(found),
                    None => rest.extend(word.text.iter().cloned()),
                }
            }
            let mut found = BTreeSet::from_iter(search.run(&text, &[])?);
            if !digits.is_empty() {
                found.extend(search.run(&rest, &digits)?);
            }
            let ids: Vec<_> = found.into_iter().take(filter.limit).collect();
            devices_by_id(db, &ids)
        })
    }
}

impl Word {
    fn read(word: &str) -> Self {
        let parts = word.split(|c: char| !c.is_alphanumeric()).filter(|part| !part.is_empty());
        // One digit is in nearly every address.
        Self { text: parts.map(str::to_owned).collect(), digits: Digits::read(word).filter(|digits| digits.len() > 1) }
    }
}

struct Search<'s> {
    db: &'s Connection,
    filter: &'s DeviceFilter,
    /// The tables that are looked at, by the numbers of their stores.
    tables: BTreeMap<i64, &'s DeviceTable>,
    /// Every device is after this one.
    after: i64,
}

impl<'s> Search<'s> {
    fn new(stores: &'s LocalStores, db: &'s Connection, filter: &'s DeviceFilter) -> Result<Self, RecordsError> {
        let number = |name: &str| crate::database::store_number(db, name);
        let mut tables = BTreeMap::new();
        for (name, table) in stores.device_tables() {
            if filter.store.as_deref().is_none_or(|wanted| wanted == name) {
                tables.insert(number(name)?, table);
            }
        }
        let after = match &filter.after {
            Some((store, mac)) => device_id(number(store)?, *mac),
            None => -1,
        };
        Ok(Self { db, filter, tables, after })
    }

    /// Ids in their order: of devices in which all these words begin and all these digits
    /// stand.
    fn run(&self, text: &[String], digits: &[Digits]) -> Result<Vec<i64>, RecordsError> {
        let (group, barred) = (self.filter.group.as_deref(), self.filter.barred);
        match text.is_empty() {
            true => {
                let mut found = Vec::new();
                for (store, table) in &self.tables {
                    if self.after >> 48 > *store {
                        continue;
                    }
                    let after = (self.after >> 48 == *store).then(|| mac_of(self.after));
                    let most = self.filter.limit - found.len();
                    let wanted = Wanted::new(table, digits, group, barred);
                    found.extend(table.page(&wanted, after, most).into_iter().map(|mac| device_id(*store, mac)));
                    if found.len() >= self.filter.limit {
                        break;
                    }
                }
                Ok(found)
            }
            false => {
                let wanted: BTreeMap<_, _> = self
                    .tables
                    .iter()
                    .map(|(store, table)| (*store, (*table, Wanted::new(table, digits, group, barred))))
                    .collect();
                self.with_words(text, |id| {
                    wanted.get(&(id >> 48)).is_some_and(|(table, wanted)| table.is_wanted(mac_of(id), wanted))
                })
            }
        }
    }

    fn with_words(&self, text: &[String], fits: impl Fn(i64) -> bool) -> Result<Vec<i64>, RecordsError> {
        let asked = text.iter().map(|word| format!("\"{}\"*", word.to_lowercase())).collect::<Vec<_>>().join(" AND ");
        let sql = "SELECT rowid FROM device_words WHERE device_words MATCH ?1 AND rowid > ?2 ORDER BY rowid";
        let mut statement = self.db.prepare_cached(sql)?;
        let mut rows = statement.query(params![asked, self.after])?;
        let mut found = Vec::new();
        while found.len() < self.filter.limit {
            let Some(row) = rows.next()? else { break };
            let id = row.get(0)?;
            if fits(id) {
                found.push(id);
            }
        }
        Ok(found)
    }
}
