//! How each kind of record is read from its table and put into it.

use regnant_decision::NasKind;
use regnant_policy::Mac;
use rusqlite::types::Type;
use rusqlite::{Connection, Params, Row, params};

use crate::error::RecordsError;
use crate::rows::{
    AdministratorRow, CertificateRow, DeviceRow, LanguageKind, LanguageRow, MachineRow, NasRow, PersonRow, Rows,
    SecretRow, StoreKind, StoreRow, TrustRow, fold,
};
use crate::sealing::Sealed;

/// A kind of record, as it is read.
pub trait Record: Sized {
    /// Everything of it, in the order in which [`Self::read`] takes it.
    #[doc(hidden)]
    const SELECT: &'static str;
    /// By what a list of them is ordered.
    #[doc(hidden)]
    const ORDER: &'static str;

    #[doc(hidden)]
    fn read(row: &Row<'_>) -> rusqlite::Result<Self>;
}

/// The records that a clause selects, in their order.
pub(crate) fn select<R: Record>(db: &Connection, clause: &str, key: impl Params) -> Result<Vec<R>, RecordsError> {
    let mut statement = db.prepare_cached(&format!("{} {clause} ORDER BY {}", R::SELECT, R::ORDER))?;
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
        stores: select(db, "", ())?,
        nases: select(db, "", ())?,
        people: select(db, "", ())?,
        machines: select(db, "", ())?,
        devices: select(db, "", ())?,
        certificates: select(db, "", ())?,
        trusts: select(db, "", ())?,
        administrators: select(db, "", ())?,
        languages: select(db, "", ())?,
        named_secrets: select(db, "", ())?,
    })
}

/// The records as they are now in whose place these would be put.
pub(crate) fn before(db: &Connection, rows: &Rows) -> Result<Rows, RecordsError> {
    let mut before = Rows::default();
    for row in &rows.stores {
        before.stores.extend(select(db, "WHERE name = ?1", [&row.name])?);
    }
    for row in &rows.nases {
        before.nases.extend(select(db, "WHERE key = ?1", [fold(&row.name)])?);
    }
    for row in &rows.people {
        before.people.extend(select(db, "WHERE store = ?1 AND key = ?2", [&row.store, &fold(&row.name)])?);
    }
    for row in &rows.machines {
        before.machines.extend(select(db, "WHERE store = ?1 AND key = ?2", [&row.store, &fold(&row.name)])?);
    }
    for row in &rows.devices {
        let range = (&row.store, row.first.0, row.last.0);
        before.devices.extend(select(db, "WHERE store = ?1 AND mac BETWEEN ?2 AND ?3", range)?);
    }
    for row in &rows.certificates {
        before.certificates.extend(select(db, "WHERE name = ?1", [&row.name])?);
    }
    for row in &rows.trusts {
        before.trusts.extend(select(db, "WHERE name = ?1", [&row.name])?);
    }
    for row in &rows.administrators {
        before.administrators.extend(select(db, "WHERE key = ?1", [fold(&row.name)])?);
    }
    for row in &rows.languages {
        before.languages.extend(select(db, ONE_LANGUAGE, [row.kind.word(), &fold(&row.name)])?);
    }
    for row in &rows.named_secrets {
        before.named_secrets.extend(select(db, "WHERE key = ?1", [fold(&row.name)])?);
    }
    Ok(before)
}

/// A NAS by its name.
pub(crate) fn nas(db: &Connection, name: &str) -> Result<Option<NasRow>, RecordsError> {
    Ok(select(db, "WHERE key = ?1", [fold(name)])?.pop())
}

/// Forgets a NAS.
pub(crate) fn remove_nas(db: &Connection, name: &str) -> Result<(), RecordsError> {
    run(db, "DELETE FROM nas WHERE key = ?1", [fold(name)])
}

/// Forgets a secret that replies carry; gives what it was, sealed.
pub(crate) fn remove_secret(db: &Connection, name: &str) -> Result<Vec<SecretRow>, RecordsError> {
    let before = select(db, "WHERE key = ?1", [fold(name)])?;
    run(db, "DELETE FROM secret WHERE key = ?1", [fold(name)])?;
    Ok(before)
}

const ONE_LANGUAGE: &str = "WHERE kind = ?1 AND key = ?2";

/// Forgets a file about how equipment speaks; gives what it was.
pub(crate) fn remove_language(
    db: &Connection,
    kind: LanguageKind,
    name: &str,
) -> Result<Vec<LanguageRow>, RecordsError> {
    let key = [kind.word(), &fold(name)];
    let before = select(db, ONE_LANGUAGE, key)?;
    run(db, "DELETE FROM language WHERE kind = ?1 AND key = ?2", key)?;
    Ok(before)
}

/// Puts records in the place of those of the same name or address. `at` is the time of
/// the change, in milliseconds since 1970.
pub(crate) fn put(db: &Connection, rows: &Rows, at: i64) -> Result<(), RecordsError> {
    for row in &rows.stores {
        run(
            db,
            "INSERT INTO store (name, kind) VALUES (?1, ?2) ON CONFLICT (name) DO NOTHING",
            [row.name.as_str(), row.kind.word()],
        )?;
    }
    // Two NASes may swap their addresses: nothing is in the way of either then.
    for row in &rows.nases {
        run(db, "DELETE FROM nas WHERE key = ?1", [fold(&row.name)])?;
    }
    for row in &rows.nases {
        put_nas(db, row)?;
    }
    for row in &rows.people {
        put_person(db, row)?;
    }
    for row in &rows.machines {
        put_machine(db, row)?;
    }
    for row in &rows.devices {
        put_device(db, row)?;
    }
    for row in &rows.certificates {
        put_certificate(db, row)?;
    }
    for row in &rows.trusts {
        put_trust(db, row)?;
    }
    for row in &rows.administrators {
        run(
            db,
            "INSERT INTO administrator (key, name, password_hash, created_at) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (key) DO UPDATE SET password_hash = ?3",
            params![fold(&row.name), row.name, row.password_hash.bytes(), at],
        )?;
    }
    for row in &rows.named_secrets {
        run(
            db,
            "INSERT INTO secret (key, name, value) VALUES (?1, ?2, ?3)
             ON CONFLICT (key) DO UPDATE SET name = ?2, value = ?3",
            params![fold(&row.name), row.name, row.value.bytes()],
        )?;
    }
    for row in &rows.languages {
        run(
            db,
            "INSERT INTO language (kind, key, name, text) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (kind, key) DO UPDATE SET name = ?3, text = ?4",
            [row.kind.word(), &fold(&row.name), &row.name, &row.text],
        )?;
    }
    Ok(())
}

fn put_nas(db: &Connection, row: &NasRow) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO nas (key, name, networks, kind, site, tags, note, dialect, secret, require_message_authenticator,
             class_at_login)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
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
        ],
    )
}

fn put_person(db: &Connection, row: &PersonRow) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO person (store, key, name, password_hash, recoverable, nt_hash, groups, disabled, expires)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)
         ON CONFLICT (store, key) DO UPDATE SET name = ?3, password_hash = ?4, recoverable = ?5, nt_hash = ?6,
             groups = ?7, disabled = ?8, expires = ?9",
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
        ],
    )
}

fn put_machine(db: &Connection, row: &MachineRow) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO machine (store, key, name, password_hash, nt_hash, groups, disabled, expires)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)
         ON CONFLICT (store, key) DO UPDATE SET name = ?3, password_hash = ?4, nt_hash = ?5, groups = ?6,
             disabled = ?7, expires = ?8",
        params![
            row.store,
            fold(&row.name),
            row.name,
            row.password_hash.as_ref().map(Sealed::bytes),
            row.nt_hash.as_ref().map(Sealed::bytes),
            as_json(&row.groups),
            row.disabled,
            row.expires,
        ],
    )
}

fn put_device(db: &Connection, row: &DeviceRow) -> Result<(), RecordsError> {
    let groups = as_json(&row.groups);
    for mac in row.addresses() {
        run(
            db,
            "INSERT INTO device (store, mac, title, groups, barred) VALUES (?1, ?2, ?3, ?4, ?5)
             ON CONFLICT (store, mac) DO UPDATE SET title = ?3, groups = ?4, barred = ?5",
            params![row.store, mac.0, row.title, groups, row.barred],
        )?;
    }
    Ok(())
}

fn put_certificate(db: &Connection, row: &CertificateRow) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO certificate (name, chain, key) VALUES (?1, ?2, ?3)
         ON CONFLICT (name) DO UPDATE SET chain = ?2, key = ?3",
        params![row.name, row.chain, row.key.bytes()],
    )
}

fn put_trust(db: &Connection, row: &TrustRow) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO trust (name, authorities, crls, crl_url, ocsp_url, whatever)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6)
         ON CONFLICT (name) DO UPDATE
         SET authorities = ?2, crls = ?3, crl_url = ?4, ocsp_url = ?5, whatever = ?6",
        params![row.name, row.authorities, row.crls, row.crl_url, row.ocsp_url, row.whatever],
    )
}

impl Record for StoreRow {
    const SELECT: &'static str = "SELECT name, kind FROM store";
    const ORDER: &'static str = "name";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let kind = match row.get_ref(1)?.as_str()? {
            "people" => StoreKind::People,
            _ => StoreKind::Devices,
        };
        Ok(Self { name: row.get(0)?, kind })
    }
}

impl Record for NasRow {
    const SELECT: &'static str =
        "SELECT name, networks, kind, site, tags, note, dialect, secret, require_message_authenticator, class_at_login
         FROM nas";
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
        })
    }
}

impl Record for PersonRow {
    const SELECT: &'static str =
        "SELECT store, name, password_hash, recoverable, nt_hash, groups, disabled, expires FROM person";
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
        })
    }
}

impl Record for MachineRow {
    const SELECT: &'static str = "SELECT store, name, password_hash, nt_hash, groups, disabled, expires FROM machine";
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
        })
    }
}

impl Record for DeviceRow {
    const SELECT: &'static str = "SELECT store, mac, title, groups, barred FROM device";
    const ORDER: &'static str = "store, mac";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let mac = Mac(row.get(1)?);
        let (store, title, groups, barred) = (row.get(0)?, row.get(2)?, texts(row, 3)?, row.get(4)?);
        Ok(Self { store, first: mac, last: mac, title, groups, barred })
    }
}

impl Record for CertificateRow {
    const SELECT: &'static str = "SELECT name, chain, key FROM certificate";
    const ORDER: &'static str = "name";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self { name: row.get(0)?, chain: row.get(1)?, key: sealed(row, 2)? })
    }
}

impl Record for TrustRow {
    const SELECT: &'static str = "SELECT name, authorities, crls, crl_url, ocsp_url, whatever FROM trust";
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
    const SELECT: &'static str = "SELECT name, password_hash FROM administrator";
    const ORDER: &'static str = "key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self { name: row.get(0)?, password_hash: sealed(row, 1)? })
    }
}

impl Record for SecretRow {
    const SELECT: &'static str = "SELECT name, value FROM secret";
    const ORDER: &'static str = "key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self { name: row.get(0)?, value: sealed(row, 1)? })
    }
}

impl Record for LanguageRow {
    const SELECT: &'static str = "SELECT kind, name, text FROM language";
    /// Dictionaries first: dialects name their attributes.
    const ORDER: &'static str = "kind DESC, key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let kind = match row.get_ref(0)?.as_str()? {
            "dictionary" => LanguageKind::Dictionary,
            _ => LanguageKind::Dialect,
        };
        Ok(Self { kind, name: row.get(1)?, text: row.get(2)? })
    }
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
