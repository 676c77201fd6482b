//! How each kind of record is read from its table and put into it.

use std::collections::BTreeMap;

use regnant_decision::NasKind;
use regnant_policy::Mac;
use rusqlite::types::Type;
use rusqlite::{Connection, OptionalExtension, Params, Row, ToSql, params, params_from_iter};
use serde::{Deserialize, Serialize};

use crate::command::Conflict;
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::rows::{
    AdministratorRow, Barred, CertificateRow, CommonNameKind, CommonNameRow, DeviceRow, FormerSecretRow, LanguageKind,
    LanguageRow, MachineRow, NasRow, PersonRow, Role, Rows, SecretRow, StoreKind, StoreRow, TrustRow, fold, number,
};
use crate::sealing::Sealed;

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
    let id = device_id(store_number(db, store)?, mac);
    let mut statement = db.prepare_cached("SELECT title FROM device WHERE id = ?1")?;
    Ok(statement.query_row([id], |row| row.get(0)).optional()?)
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

/// Puts records in the place of those of the same name or address. `at` is the time of
/// the change, in milliseconds since 1970; `revision` the command that does so, where it
/// changes more than how secrets are sealed.
pub(crate) fn put(db: &Connection, rows: &Rows, at: i64, revision: Option<u64>) -> Result<(), RecordsError> {
    let revision = revision.map(u64::cast_signed);
    for row in &rows.stores {
        run(
            db,
            "INSERT INTO store (name, kind, settings, secret, revision) VALUES (?1, ?2, ?3, ?4, coalesce(?5, 0))
             ON CONFLICT (name) DO UPDATE SET settings = ?3, secret = ?4, revision = coalesce(?5, revision)",
            params![row.name, row.kind.word(), row.settings, row.secret.as_ref().map(Sealed::bytes), revision],
        )?;
    }
    rows.nases.iter().try_for_each(|row| put_nas(db, row, revision))?;
    rows.people.iter().try_for_each(|row| put_person(db, row, revision))?;
    rows.machines.iter().try_for_each(|row| put_machine(db, row, revision))?;
    let numbers = if rows.devices.is_empty() { BTreeMap::new() } else { store_numbers(db)? };
    for row in &rows.devices {
        put_device(db, row, numbers.get(&row.store).copied().unwrap_or(0), revision)?;
    }
    rows.certificates.iter().try_for_each(|row| put_certificate(db, row, revision))?;
    rows.trusts.iter().try_for_each(|row| put_trust(db, row, revision))?;
    rows.administrators.iter().try_for_each(|row| put_administrator(db, row, at, revision))?;
    for row in &rows.named_secrets {
        run(
            db,
            "INSERT INTO secret (key, name, value, revision) VALUES (?1, ?2, ?3, coalesce(?4, 0))
             ON CONFLICT (key) DO UPDATE SET name = ?2, value = ?3, revision = coalesce(?4, revision)",
            params![fold(&row.name), row.name, row.value.bytes(), revision],
        )?;
    }
    for row in &rows.languages {
        run(
            db,
            "INSERT INTO language (kind, key, name, text, revision) VALUES (?1, ?2, ?3, ?4, coalesce(?5, 0))
             ON CONFLICT (kind, key) DO UPDATE SET name = ?3, text = ?4, revision = coalesce(?5, revision)",
            params![row.kind.word(), fold(&row.name), row.name, row.text, revision],
        )?;
    }
    for row in &rows.common_names {
        run(
            db,
            "INSERT INTO common_name (kind, key, name, note, revision) VALUES (?1, ?2, ?3, ?4, coalesce(?5, 0))
             ON CONFLICT (kind, key) DO UPDATE SET name = ?3, note = ?4, revision = coalesce(?5, revision)",
            params![row.kind.word(), fold(&row.name), row.name, row.note, revision],
        )?;
    }
    Ok(())
}

fn put_nas(db: &Connection, row: &NasRow, revision: Option<i64>) -> Result<(), RecordsError> {
    let former = row.former_secret.as_ref();
    run(
        db,
        "INSERT INTO nas (key, name, networks, kind, site, tags, note, dialect, secret, require_message_authenticator,
             class_at_login, former_secret, former_since, former_until, revision)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, coalesce(?15, 0))
         ON CONFLICT (key) DO UPDATE SET name = ?2, networks = ?3, kind = ?4, site = ?5, tags = ?6, note = ?7,
             dialect = ?8, secret = ?9, require_message_authenticator = ?10, class_at_login = ?11, former_secret = ?12,
             former_since = ?13, former_until = ?14, revision = coalesce(?15, revision)",
        params![
            fold(&row.name),
            row.name,
            as_json(&row.networks.iter().map(ToString::to_string).collect::<Vec<_>>()),
            row.kind.word(),
            row.site,
            as_json(&row.tags),
            row.note,
            row.dialect,
            row.secret.bytes(),
            row.require_message_authenticator,
            row.class_at_login,
            former.map(|former| former.secret.bytes()),
            former.map(|former| former.since),
            former.map(|former| former.until),
            revision,
        ],
    )
}

fn put_person(db: &Connection, row: &PersonRow, revision: Option<i64>) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO person (store, key, name, password_hash, recoverable, nt_hash, groups, disabled, expires,
             engineers_only, note, revision)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, coalesce(?12, 0))
         ON CONFLICT (store, key) DO UPDATE SET name = ?3, password_hash = ?4, recoverable = ?5, nt_hash = ?6,
             groups = ?7, disabled = ?8, expires = ?9, engineers_only = ?10, note = ?11,
             revision = coalesce(?12, revision)",
        params![
            row.store,
            fold(&row.name),
            row.name,
            row.password_hash.bytes(),
            row.recoverable.as_ref().map(Sealed::bytes),
            row.nt_hash.as_ref().map(Sealed::bytes),
            as_json(&row.groups),
            row.disabled,
            row.expires,
            row.engineers_only,
            row.note,
            revision,
        ],
    )
}

fn put_machine(db: &Connection, row: &MachineRow, revision: Option<i64>) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO machine (store, key, name, password_hash, nt_hash, groups, disabled, expires, note, revision)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, coalesce(?10, 0))
         ON CONFLICT (store, key) DO UPDATE SET name = ?3, password_hash = ?4, nt_hash = ?5, groups = ?6,
             disabled = ?7, expires = ?8, note = ?9, revision = coalesce(?10, revision)",
        params![
            row.store,
            fold(&row.name),
            row.name,
            row.password_hash.as_ref().map(Sealed::bytes),
            row.nt_hash.as_ref().map(Sealed::bytes),
            as_json(&row.groups),
            row.disabled,
            row.expires,
            row.note,
            revision,
        ],
    )
}

fn put_device(db: &Connection, row: &DeviceRow, store: i64, revision: Option<i64>) -> Result<(), RecordsError> {
    let (groups, attributes) = (row.groups_as_json(), row.attributes_as_json());
    let none = Barred::default();
    let barred = row.barred.as_ref().unwrap_or(&none);
    for mac in row.addresses() {
        let id = device_id(store, mac);
        run(
            db,
            "INSERT INTO device (id, groups, barred, expires, title, owner, note, barred_why, barred_by, barred_at,
                 attributes, revision)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, coalesce(?12, 0))
             ON CONFLICT (id) DO UPDATE SET groups = ?2, barred = ?3, expires = ?4, title = ?5, owner = ?6, note = ?7,
                 barred_why = ?8, barred_by = ?9, barred_at = ?10, attributes = ?11,
                 revision = coalesce(?12, revision)",
            params![
                id,
                groups,
                row.barred.is_some(),
                row.expires,
                row.title,
                row.owner,
                row.note,
                barred.reason,
                barred.by,
                barred.at,
                attributes,
                revision,
            ],
        )?;
    }
    Ok(())
}

fn put_certificate(db: &Connection, row: &CertificateRow, revision: Option<i64>) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO certificate (name, chain, key, revision) VALUES (?1, ?2, ?3, coalesce(?4, 0))
         ON CONFLICT (name) DO UPDATE SET chain = ?2, key = ?3, revision = coalesce(?4, revision)",
        params![row.name, row.chain, row.key.bytes(), revision],
    )
}

fn put_trust(db: &Connection, row: &TrustRow, revision: Option<i64>) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO trust (name, authorities, crls, crl_url, ocsp_url, whatever, revision)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, coalesce(?7, 0))
         ON CONFLICT (name) DO UPDATE
         SET authorities = ?2, crls = ?3, crl_url = ?4, ocsp_url = ?5, whatever = ?6, revision = coalesce(?7, revision)",
        params![row.name, row.authorities, row.crls, row.crl_url, row.ocsp_url, row.whatever, revision],
    )
}

fn put_administrator(
    db: &Connection,
    row: &AdministratorRow,
    at: i64,
    revision: Option<i64>,
) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO administrator (key, name, password_hash, created_at, role, disabled, expires, second_factor,
             revision)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, coalesce(?9, 0))
         ON CONFLICT (key) DO UPDATE SET password_hash = ?3, role = ?5, disabled = ?6, expires = ?7,
             second_factor = ?8, revision = coalesce(?9, revision)",
        params![
            fold(&row.name),
            row.name,
            row.password_hash.bytes(),
            at,
            row.role.word(),
            row.disabled,
            row.expires,
            row.second_factor.as_ref().map(Sealed::bytes),
            revision,
        ],
    )
}

impl Record for StoreRow {
    const COLUMNS: &'static str = "name, kind, settings, secret";
    const TABLE: &'static str = "store";
    const ORDER: &'static str = "name";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let kind = match row.get_ref(1)?.as_str()? {
            "people" => StoreKind::People,
            "directory" => StoreKind::Directory,
            "http" => StoreKind::Http,
            _ => StoreKind::Devices,
        };
        Ok(Self { name: row.get(0)?, kind, settings: row.get(2)?, secret: maybe_sealed(row, 3)? })
    }
}

impl Record for NasRow {
    const COLUMNS: &'static str = "name, networks, kind, site, tags, note, dialect, secret, require_message_authenticator, class_at_login, \
         former_secret, former_since, former_until";
    const TABLE: &'static str = "nas";
    const ORDER: &'static str = "key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let networks = texts(row, 1)?.iter().map(|text| text.parse()).collect::<Result<_, _>>();
        let kind = row.get_ref(2)?.as_str()?;
        let kind = NasKind::ALL.iter().find(|(word, _)| *word == kind).map(|(_, kind)| *kind);
        Ok(Self {
            name: row.get(0)?,
            networks: networks.map_err(|what: String| damaged(1, what))?,
            kind: kind.ok_or_else(|| damaged(2, "no kind of NAS"))?,
            site: row.get(3)?,
            tags: texts(row, 4)?,
            note: row.get(5)?,
            dialect: row.get(6)?,
            secret: sealed(row, 7)?,
            require_message_authenticator: row.get(8)?,
            class_at_login: row.get(9)?,
            former_secret: match maybe_sealed(row, 10)? {
                Some(secret) => Some(FormerSecretRow { secret, since: row.get(11)?, until: row.get(12)? }),
                None => None,
            },
        })
    }
}

impl Record for PersonRow {
    const COLUMNS: &'static str =
        "store, name, password_hash, recoverable, nt_hash, groups, disabled, expires, engineers_only, note";
    const TABLE: &'static str = "person";
    const ORDER: &'static str = "store, key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            store: row.get(0)?,
            name: row.get(1)?,
            password_hash: sealed(row, 2)?,
            recoverable: maybe_sealed(row, 3)?,
            nt_hash: maybe_sealed(row, 4)?,
            groups: texts(row, 5)?,
            disabled: row.get(6)?,
            expires: row.get(7)?,
            engineers_only: row.get(8)?,
            note: row.get(9)?,
        })
    }
}

impl Record for MachineRow {
    const COLUMNS: &'static str = "store, name, password_hash, nt_hash, groups, disabled, expires, note";
    const TABLE: &'static str = "machine";
    const ORDER: &'static str = "store, key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            store: row.get(0)?,
            name: row.get(1)?,
            password_hash: maybe_sealed(row, 2)?,
            nt_hash: maybe_sealed(row, 3)?,
            groups: texts(row, 4)?,
            disabled: row.get(5)?,
            expires: row.get(6)?,
            note: row.get(7)?,
        })
    }
}

impl Record for DeviceRow {
    const COLUMNS: &'static str = "(SELECT name FROM store WHERE number = id >> 48), id, groups, barred, expires, title, \
                                   owner, note, barred_why, barred_by, barred_at, attributes";
    const TABLE: &'static str = "device";
    const ORDER: &'static str = "id";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let mac = mac_of(row.get(1)?);
        let barred = match row.get(3)? {
            true => Some(Barred { reason: row.get(8)?, by: row.get(9)?, at: row.get(10)? }),
            false => None,
        };
        Ok(Self {
            store: row.get(0)?,
            first: mac,
            last: mac,
            title: row.get(5)?,
            groups: texts(row, 2)?,
            owner: row.get(6)?,
            note: row.get(7)?,
            expires: row.get(4)?,
            attributes: serde_json::from_str(row.get_ref(11)?.as_str()?).map_err(|error| damaged(11, error))?,
            barred,
        })
    }
}

impl Record for CertificateRow {
    const COLUMNS: &'static str = "name, chain, key";
    const TABLE: &'static str = "certificate";
    const ORDER: &'static str = "name";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self { name: row.get(0)?, chain: row.get(1)?, key: sealed(row, 2)? })
    }
}

impl Record for TrustRow {
    const COLUMNS: &'static str = "name, authorities, crls, crl_url, ocsp_url, whatever";
    const TABLE: &'static str = "trust";
    const ORDER: &'static str = "name";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            name: row.get(0)?,
            authorities: row.get(1)?,
            crls: row.get(2)?,
            crl_url: row.get(3)?,
            ocsp_url: row.get(4)?,
            whatever: row.get(5)?,
        })
    }
}

impl Record for AdministratorRow {
    const COLUMNS: &'static str = "name, password_hash, role, disabled, expires, second_factor";
    const TABLE: &'static str = "administrator";
    const ORDER: &'static str = "key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            name: row.get(0)?,
            password_hash: sealed(row, 1)?,
            role: role(row, 2)?,
            disabled: row.get(3)?,
            expires: row.get(4)?,
            second_factor: maybe_sealed(row, 5)?,
        })
    }
}

impl Record for SecretRow {
    const COLUMNS: &'static str = "name, value";
    const TABLE: &'static str = "secret";
    const ORDER: &'static str = "key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self { name: row.get(0)?, value: sealed(row, 1)? })
    }
}

impl Record for LanguageRow {
    const COLUMNS: &'static str = "kind, name, text";
    const TABLE: &'static str = "language";
    /// Dictionaries first: dialects name their attributes.
    const ORDER: &'static str = "kind DESC, key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let kind = match row.get_ref(0)?.as_str()? {
            "dictionary" => LanguageKind::Dictionary,
            "attribute" => LanguageKind::Attribute,
            _ => LanguageKind::Dialect,
        };
        Ok(Self { kind, name: row.get(1)?, text: row.get(2)? })
    }
}

impl Record for CommonNameRow {
    const COLUMNS: &'static str = "kind, name, note";
    const TABLE: &'static str = "common_name";
    const ORDER: &'static str = "kind, key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let kind = match row.get_ref(0)?.as_str()? {
            "group" => CommonNameKind::Group,
            _ => CommonNameKind::Site,
        };
        Ok(Self { kind, name: row.get(1)?, note: row.get(2)? })
    }
}

/// A role by its word.
pub(crate) fn role(row: &Row<'_>, column: usize) -> rusqlite::Result<Role> {
    let word = row.get_ref(column)?.as_str()?;
    Role::ALL.into_iter().find(|role| role.word() == word).ok_or_else(|| damaged(column, "no role"))
}

fn sealed(row: &Row<'_>, column: usize) -> rusqlite::Result<Sealed> {
    row.get(column).map(Sealed::from_bytes)
}

fn maybe_sealed(row: &Row<'_>, column: usize) -> rusqlite::Result<Option<Sealed>> {
    Ok(row.get::<_, Option<Vec<u8>>>(column)?.map(Sealed::from_bytes))
}

fn texts(row: &Row<'_>, column: usize) -> rusqlite::Result<Vec<String>> {
    serde_json::from_str(row.get_ref(column)?.as_str()?).map_err(|error| damaged(column, error))
}

fn as_json(texts: &[String]) -> String {
    serde_json::to_string(texts).expect("texts are JSON")
}

/// What stands in a column is not what this program puts there.
fn damaged(column: usize, why: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> rusqlite::Error {
    rusqlite::Error::FromSqlConversionFailure(column, Type::Text, why.into())
}
