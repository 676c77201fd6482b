//! The tables of records: what is in them, by name, and what was there before a change.

mod put;
mod read;

use regnant_base::Mac;
use std::collections::BTreeMap;

use rusqlite::{Connection, OptionalExtension, Params, Row, ToSql, params_from_iter};
use serde::{Deserialize, Serialize};

pub(crate) use self::put::put;
pub(crate) use self::read::role;
use crate::command::Conflict;
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::rows::{DeviceRow, Rows, fold, number};

/// A kind of record, as it is read.
pub trait Record: Sized {
    /// Everything of it, in the order in which [`Self::read`] takes it.
    #[doc(hidden)]
    const COLUMNS: &'static str;
    /// Where it is.
    #[doc(hidden)]
    const TABLE: &'static str;
    /// By what a list of them is ordered.
    #[doc(hidden)]
    const ORDER: &'static str;

    #[doc(hidden)]
    fn read(row: &Row<'_>) -> rusqlite::Result<Self>;
}

/// The records that a clause selects, in their order.
pub(crate) fn select<R: Record>(db: &Connection, clause: &str, key: impl Params) -> Result<Vec<R>, RecordsError> {
    let sql = format!("SELECT {} FROM {} {clause} ORDER BY {}", R::COLUMNS, R::TABLE, R::ORDER);
    let mut statement = db.prepare_cached(&sql)?;
    let rows = statement.query_map(key, R::read)?.collect::<Result<_, _>>()?;
    Ok(rows)
}

fn run(db: &Connection, sql: &str, values: impl Params) -> Result<(), RecordsError> {
    db.prepare_cached(sql)?.execute(values)?;
    Ok(())
}

/// Records of every kind.
pub(crate) fn all(db: &Connection) -> Result<Rows, RecordsError> {
    Ok(Rows {
        devices: select(db, "", ())?,
        trusts: select(db, "", ())?,
        languages: select(db, "", ())?,
        common_names: select(db, "", ())?,
        ..with_secrets(db)?
    })
}

/// Records of the kinds that hold secrets.
pub(crate) fn with_secrets(db: &Connection) -> Result<Rows, RecordsError> {
    Ok(Rows {
        stores: select(db, "", ())?,
        nases: select(db, "", ())?,
        people: select(db, "", ())?,
        machines: select(db, "", ())?,
        certificates: select(db, "", ())?,
        administrators: select(db, "", ())?,
        named_secrets: select(db, "", ())?,
        ..Rows::default()
    })
}

/// What is looked up of a device: groups as a JSON array, attributes as a JSON object, whether
/// it is barred, and its end.
#[derive(Clone, Copy)]
pub(crate) struct LookedUp<'d> {
    pub(crate) groups: &'d str,
    pub(crate) attributes: &'d str,
    pub(crate) barred: bool,
    pub(crate) expires: Option<i64>,
}

/// Tells the store, the address and what is looked up of every device.
pub(crate) fn each_device(db: &Connection, mut each: impl FnMut(&str, Mac, &LookedUp<'_>)) -> Result<(), RecordsError> {
    let stores: BTreeMap<_, _> = store_numbers(db)?.into_iter().map(|(name, number)| (number, name)).collect();
    let mut statement = db.prepare("SELECT id, groups, attributes, barred, expires FROM device ORDER BY id")?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        let Some(store) = stores.get(&(id >> 48)) else { continue };
        let text = |column| row.get_ref(column)?.as_str().map_err(rusqlite::Error::from);
        let (groups, attributes) = (text(1)?, text(2)?);
        each(store, mac_of(id), &LookedUp { groups, attributes, barred: row.get(3)?, expires: row.get(4)? });
    }
    Ok(())
}

/// Tells the number and the texts of every device, by number: title, owner, note, groups (a
/// JSON array) and attributes (a JSON object).
pub(crate) fn each_device_text(db: &Connection, mut each: impl FnMut(i64, [&str; 5])) -> Result<(), RecordsError> {
    let mut statement = db.prepare("SELECT id, title, owner, note, groups, attributes FROM device ORDER BY id")?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        let text = |column| row.get_ref(column)?.as_str().map_err(rusqlite::Error::from);
        each(row.get(0)?, [text(1)?, text(2)?, text(3)?, text(4)?, text(5)?]);
    }
    Ok(())
}

/// The title of a device.
pub(crate) fn title(db: &Connection, store: &str, mac: Mac) -> Result<Option<String>, RecordsError> {
    // One question: each has the file locked for itself, which is most of what it costs.
    let sql = "SELECT title FROM device WHERE id = (SELECT number << 48 | ?2 FROM store WHERE name = ?1)";
    let mut statement = db.prepare_cached(sql)?;
    Ok(statement.query_row((store, device_id(0, mac)), |row| row.get(0)).optional()?)
}

/// Devices by their numbers, in this order; one that is gone is left out.
pub(crate) fn devices_by_id(db: &Connection, ids: &[i64]) -> Result<Vec<DeviceRow>, RecordsError> {
    let mut devices = Vec::with_capacity(ids.len());
    for id in ids {
        devices.extend(select::<DeviceRow>(db, "WHERE id = ?1", [id])?);
    }
    Ok(devices)
}

/// Records as they were before a command, and which command had changed each last.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Before {
    #[serde(flatten)]
    pub(crate) rows: Rows,
    /// By [`RecordName::path`] of the folded name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) revisions: BTreeMap<String, u64>,
}

impl Before {
    /// Takes in a record as it is now, where there is one.
    pub(crate) fn look_at(&mut self, db: &Connection, name: &RecordName) -> Result<bool, RecordsError> {
        let Some(revision) = revision(db, name)? else { return Ok(false) };
        if revision > 0 {
            self.revisions.insert(name.folded().path(), revision);
        }
        self.rows.extend(find(db, name)?);
        Ok(true)
    }
}

/// The records as they are now in whose place these would be put.
pub(crate) fn before(db: &Connection, rows: &Rows) -> Result<Before, RecordsError> {
    let mut before = Before::default();
    let numbers = store_numbers(db)?;
    let mut known = db.prepare_cached("SELECT EXISTS (SELECT 1 FROM device WHERE id = ?1)")?;
    for name in rows.names() {
        // Most devices of a large import are new.
        if let RecordName::Device { store, mac } = &name
            && !known.query_row([device_id(numbers.get(store).copied().unwrap_or(0), *mac)], |row| row.get(0))?
        {
            continue;
        }
        before.look_at(db, &name)?;
    }
    Ok(before)
}

/// A record by its name; nothing where there is none.
pub(crate) fn find(db: &Connection, name: &RecordName) -> Result<Rows, RecordsError> {
    let mut rows = Rows::default();
    let (_, clause) = place(name);
    match name {
        RecordName::Store(_) => rows.stores = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Nas(_) => rows.nases = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Person { .. } => rows.people = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Machine { .. } => rows.machines = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Device { .. } => rows.devices = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Certificate(_) => rows.certificates = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Trust(_) => rows.trusts = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Administrator(_) => rows.administrators = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Secret(_) => rows.named_secrets = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::Language { .. } => rows.languages = select(db, clause, params_from_iter(key(db, name)?))?,
        RecordName::CommonName { .. } => rows.common_names = select(db, clause, params_from_iter(key(db, name)?))?,
    }
    Ok(rows)
}

/// Which command changed a record last, 0 where that was before it was kept; none where
/// there is no such record.
pub(crate) fn revision(db: &Connection, name: &RecordName) -> Result<Option<u64>, RecordsError> {
    let (table, clause) = place(name);
    let mut statement = db.prepare_cached(&format!("SELECT revision FROM {table} {clause}"))?;
    let found = statement.query_row(params_from_iter(key(db, name)?), |row| row.get::<_, i64>(0)).optional()?;
    Ok(found.map(i64::cast_unsigned))
}

/// Forgets a record.
pub(crate) fn remove(db: &Connection, name: &RecordName) -> Result<(), RecordsError> {
    let (table, clause) = place(name);
    run(db, &format!("DELETE FROM {table} {clause}"), params_from_iter(key(db, name)?))
}

/// Whether a store holds nothing, as it must before it is forgotten.
pub(crate) fn is_empty(db: &Connection, store: &str) -> Result<(), RecordsError> {
    let count = |sql: &str, key: &dyn ToSql| db.query_row(sql, [key], |row| row.get::<_, i64>(0));
    let people = count("SELECT count(*) FROM person WHERE store = ?1", &store)?;
    let machines = count("SELECT count(*) FROM machine WHERE store = ?1", &store)?;
    let number = store_number(db, store)?;
    let devices = count("SELECT count(*) FROM device WHERE id >= ?1 << 48 AND id < (?1 + 1) << 48", &number)?;
    match [people, machines, devices].map(i64::cast_unsigned) {
        [0, 0, 0] => Ok(()),
        [people, machines, devices] => {
            Err(Conflict::StoreHolds { name: store.to_owned(), people, machines, devices }.into())
        }
    }
}

/// Whether there is an engineer who may always sign in.
pub(crate) fn has_lasting_engineer(db: &Connection) -> Result<bool, RecordsError> {
    let sql = "SELECT EXISTS (SELECT 1 FROM administrator
                              WHERE role = 'engineer' AND NOT disabled AND expires IS NULL)";
    Ok(db.prepare_cached(sql)?.query_row([], |row| row.get(0))?)
}

/// The table of a record, and what selects it there by [`key`].
fn place(name: &RecordName) -> (&'static str, &'static str) {
    match name {
        RecordName::Store(_) => ("store", "WHERE name = ?1"),
        RecordName::Nas(_) => ("nas", "WHERE key = ?1"),
        RecordName::Person { .. } => ("person", "WHERE store = ?1 AND key = ?2"),
        RecordName::Machine { .. } => ("machine", "WHERE store = ?1 AND key = ?2"),
        RecordName::Device { .. } => ("device", "WHERE id = ?1"),
        RecordName::Certificate(_) => ("certificate", "WHERE name = ?1"),
        RecordName::Trust(_) => ("trust", "WHERE name = ?1"),
        RecordName::Administrator(_) => ("administrator", "WHERE key = ?1"),
        RecordName::Secret(_) => ("secret", "WHERE key = ?1"),
        RecordName::Language { .. } => ("language", "WHERE kind = ?1 AND key = ?2"),
        RecordName::CommonName { .. } => ("common_name", "WHERE kind = ?1 AND key = ?2"),
    }
}

fn key(db: &Connection, name: &RecordName) -> Result<Vec<rusqlite::types::Value>, RecordsError> {
    Ok(match name {
        RecordName::Store(name) | RecordName::Certificate(name) | RecordName::Trust(name) => vec![name.clone().into()],
        RecordName::Nas(name) | RecordName::Administrator(name) | RecordName::Secret(name) => vec![fold(name).into()],
        RecordName::Person { store, name } | RecordName::Machine { store, name } => {
            vec![store.clone().into(), fold(name).into()]
        }
        RecordName::Device { store, mac } => vec![device_id(store_number(db, store)?, *mac).into()],
        RecordName::Language { kind, name } => vec![kind.word().to_owned().into(), fold(name).into()],
        RecordName::CommonName { kind, name } => vec![kind.word().to_owned().into(), fold(name).into()],
    })
}

/// The number of a store; one that none has where there is no such store.
pub(crate) fn store_number(db: &Connection, store: &str) -> Result<i64, RecordsError> {
    let mut statement = db.prepare_cached("SELECT number FROM store WHERE name = ?1")?;
    Ok(statement.query_row([store], |row| row.get(0)).optional()?.unwrap_or(0))
}

fn store_numbers(db: &Connection) -> Result<BTreeMap<String, i64>, RecordsError> {
    let mut statement = db.prepare_cached("SELECT name, number FROM store")?;
    let rows = statement.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// A device's number: that of its store, then its address.
pub(crate) fn device_id(store: i64, mac: Mac) -> i64 {
    store << 48 | number(mac).cast_signed()
}

/// The address in a device's number.
pub(crate) fn mac_of(id: i64) -> Mac {
    let [_, _, rest @ ..] = id.to_be_bytes();
    Mac(rest)
}
