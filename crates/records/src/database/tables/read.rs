//! How each kind of record is read from its table.

use regnant_decision::NasKind;
use rusqlite::Row;
use rusqlite::types::Type;

use crate::database::tables::{Record, mac_of};
use crate::rows::{
    AdministratorRow, Barred, CertificateRow, CommonNameKind, CommonNameRow, DeviceRow, FormerSecretRow, LanguageKind,
    LanguageRow, MachineRow, NasRow, PersonRow, RadiusRow, Role, SecretRow, StoreKind, StoreRow, TrustRow,
};
use crate::sealing::Sealed;

impl Record for StoreRow {
    const COLUMNS: &'static str = "name, kind, settings, secret, next_secret";
    const TABLE: &'static str = "store";
    const ORDER: &'static str = "name";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let kind = match row.get_ref(1)?.as_str()? {
            "people" => StoreKind::People,
            "directory" => StoreKind::Directory,
            "http" => StoreKind::Http,
            _ => StoreKind::Devices,
        };
        let (secret, next_secret) = (maybe_sealed(row, 3)?, maybe_sealed(row, 4)?);
        Ok(Self { name: row.get(0)?, kind, settings: row.get(2)?, secret, next_secret })
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
            radius: RadiusRow {
                secret: sealed(row, 7)?,
                require_message_authenticator: row.get(8)?,
                class_at_login: row.get(9)?,
                former_secret: match maybe_sealed(row, 10)? {
                    Some(secret) => Some(FormerSecretRow { secret, since: row.get(11)?, until: row.get(12)? }),
                    None => None,
                },
            },
        })
    }
}

impl Record for PersonRow {
    const COLUMNS: &'static str =
        "store, name, password_hash, recoverable, nt_hash, groups, disabled, expires, engineers_only, ordinary, note";
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
            ordinary: row.get(9)?,
            note: row.get(10)?,
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
    const COLUMNS: &'static str = "kind, name, note, ordinary";
    const TABLE: &'static str = "common_name";
    const ORDER: &'static str = "kind, key";

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        let kind = match row.get_ref(0)?.as_str()? {
            "group" => CommonNameKind::Group,
            _ => CommonNameKind::Site,
        };
        Ok(Self { kind, name: row.get(1)?, note: row.get(2)?, ordinary: row.get(3)? })
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

/// What stands in a column is not what this program puts there.
fn damaged(column: usize, why: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> rusqlite::Error {
    rusqlite::Error::FromSqlConversionFailure(column, Type::Text, why.into())
}
