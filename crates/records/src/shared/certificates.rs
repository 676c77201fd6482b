//! Certificates that we present, and whom we trust.

use regnant_radius::Secret;

use crate::error::RecordsError;
use crate::sealing::SealingKey;
use crate::shared::{Change, Reading};

/// A certificate of ours, its key opened.
#[derive(Clone, Debug)]
pub struct CertificateRow {
    /// Its name, as policies refer to it.
    pub name: String,
    /// Its chain in PEM, its own certificate first; empty while a signing request
    /// waits for its answer.
    pub chain: String,
    /// Its private key in DER.
    pub key: Secret,
}

/// Whom we trust.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TrustRow {
    /// Its name, as policies refer to it.
    pub name: String,
    /// The authorities in PEM.
    pub authorities: String,
    /// Revocation lists in PEM.
    pub crls: String,
    /// Where a newer list is fetched.
    pub crl_url: Option<String>,
    /// The responder that is asked in place of those that certificates name.
    pub ocsp_url: Option<String>,
    /// Whether certificates that are no authorities' vouch too.
    pub whatever: bool,
}

impl Change {
    /// Keeps a certificate with its key.
    pub fn certificate(row: &CertificateRow, key: &SealingKey, now: u64) -> Self {
        let mut change = Self::default();
        change.add(
            "INSERT INTO certificate (name, chain, key, changed_at) VALUES (?1, ?2, ?3, ?4)
             ON CONFLICT (name) DO UPDATE SET chain = ?2, key = ?3, changed_at = ?4",
            [
                row.name.clone().into(),
                row.chain.clone().into(),
                key.seal(&key_context(&row.name), row.key.expose()).into(),
                (now as i64).into(),
            ],
        );
        change
    }

    /// Keeps a trust.
    pub fn trust(row: &TrustRow, now: u64) -> Self {
        let mut change = Self::default();
        change.add(
            "INSERT INTO trust (name, authorities, crls, crl_url, ocsp_url, changed_at, whatever)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)
             ON CONFLICT (name) DO UPDATE
             SET authorities = ?2, crls = ?3, crl_url = ?4, ocsp_url = ?5, changed_at = ?6, whatever = ?7",
            [
                row.name.clone().into(),
                row.authorities.clone().into(),
                row.crls.clone().into(),
                row.crl_url.clone().into(),
                row.ocsp_url.clone().into(),
                (now as i64).into(),
                row.whatever.into(),
            ],
        );
        change
    }
}

pub(crate) fn certificates(
    records: &(impl Reading + ?Sized),
    key: &SealingKey,
) -> Result<Vec<CertificateRow>, RecordsError> {
    let rows = records.rows("SELECT name, chain, key FROM certificate ORDER BY name", |row| {
        let sealed: (String, String, Vec<u8>) = (row.get(0)?, row.get(1)?, row.get(2)?);
        Ok(sealed)
    })?;
    rows.into_iter()
        .map(|(name, chain, sealed)| {
            let key = key.open(&key_context(&name), &sealed)?;
            Ok(CertificateRow { name, chain, key })
        })
        .collect()
}

pub(crate) fn trusts(records: &(impl Reading + ?Sized)) -> Result<Vec<TrustRow>, RecordsError> {
    records.rows("SELECT name, authorities, crls, crl_url, ocsp_url, whatever FROM trust ORDER BY name", |row| {
        Ok(TrustRow {
            name: row.get(0)?,
            authorities: row.get(1)?,
            crls: row.get(2)?,
            crl_url: row.get(3)?,
            ocsp_url: row.get(4)?,
            whatever: row.get(5)?,
        })
    })
}

fn key_context(name: &str) -> String {
    format!("the private key of certificate {name}")
}
