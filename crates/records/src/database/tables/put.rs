//! How each kind of record is put into its table.

use std::collections::BTreeMap;

use rusqlite::{Connection, params};

use crate::database::tables::{device_id, run, store_numbers};
use crate::error::RecordsError;
use crate::rows::{
    AdministratorRow, Barred, CertificateRow, DeviceRow, MachineRow, NasRow, PersonRow, Rows, TrustRow, fold,
};
use crate::sealing::Sealed;

/// Puts records in the place of those of the same name or address. `at` is the time of
/// the change, in milliseconds since 1970; `revision` the command that does so, where it
/// changes more than how secrets are sealed.
pub(crate) fn put(db: &Connection, rows: &Rows, at: i64, revision: Option<u64>) -> Result<(), RecordsError> {
    let revision = revision.map(u64::cast_signed);
    for row in &rows.stores {
        run(
            db,
            "INSERT INTO store (name, kind, settings, secret, revision, next_secret)
             VALUES (?1, ?2, ?3, ?4, coalesce(?5, 0), ?6)
             ON CONFLICT (name) DO UPDATE SET settings = ?3, secret = ?4, revision = coalesce(?5, revision),
             next_secret = ?6",
            params![
                row.name,
                row.kind.word(),
                row.settings,
                row.secret.as_ref().map(Sealed::bytes),
                revision,
                row.next_secret.as_ref().map(Sealed::bytes)
            ],
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
            "INSERT INTO common_name (kind, key, name, note, ordinary, revision)
             VALUES (?1, ?2, ?3, ?4, ?5, coalesce(?6, 0))
             ON CONFLICT (kind, key) DO UPDATE SET name = ?3, note = ?4, ordinary = ?5,
                 revision = coalesce(?6, revision)",
            params![row.kind.word(), fold(&row.name), row.name, row.note, row.ordinary, revision],
        )?;
    }
    Ok(())
}

fn put_nas(db: &Connection, row: &NasRow, revision: Option<i64>) -> Result<(), RecordsError> {
    let former = row.radius.former_secret.as_ref();
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
            row.radius.secret.bytes(),
            row.radius.require_message_authenticator,
            row.radius.class_at_login,
            former.map(|former| former.secret.bytes()),
            former.map(|former| former.since),
            former.map(|former| former.until),
            revision,
        ],
    )?;
    run(db, "DELETE FROM nas_network WHERE nas = ?1", [fold(&row.name)])?;
    for network in &row.networks {
        // Of two that exchange theirs in one command the other is put afterwards.
        let sql = "INSERT OR REPLACE INTO nas_network (network, nas) VALUES (?1, ?2)";
        run(db, sql, [network.to_string(), fold(&row.name)])?;
    }
    Ok(())
}

fn put_person(db: &Connection, row: &PersonRow, revision: Option<i64>) -> Result<(), RecordsError> {
    run(
        db,
        "INSERT INTO person (store, key, name, password_hash, recoverable, nt_hash, groups, disabled, expires,
             engineers_only, ordinary, note, revision)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, coalesce(?13, 0))
         ON CONFLICT (store, key) DO UPDATE SET name = ?3, password_hash = ?4, recoverable = ?5, nt_hash = ?6,
             groups = ?7, disabled = ?8, expires = ?9, engineers_only = ?10, ordinary = ?11,
             note = ?12, revision = coalesce(?13, revision)",
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
            row.ordinary,
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

fn as_json(texts: &[String]) -> String {
    serde_json::to_string(texts).expect("texts are JSON")
}
