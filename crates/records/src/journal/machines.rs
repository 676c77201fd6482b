use pem::Pem;
use regnant_access::{Machines, SeenMachine};
use regnant_eap::Chain;
use regnant_policy::Mac;
use rusqlite::{Connection, Row, Transaction};

use crate::error::RecordsError;

const MOST: i64 = Machines::MOST as i64;
/// Machines that are kept before those beyond [`Machines::MOST`] are deleted.
const DELETE_EVERY: usize = 1_000;
const TAG: &str = "CERTIFICATE";

/// The machines that are remembered, on file: a restart must not send everybody
/// back to prove a machine that did it in the morning.
#[derive(Debug, Default)]
pub(crate) struct MachineFile {
    since_deletion: usize,
}

impl MachineFile {
    /// Keeps machines in the transaction of the entries that tell of them.
    pub(crate) fn keep(&mut self, transaction: &Transaction<'_>, seen: &[SeenMachine]) -> rusqlite::Result<()> {
        if seen.is_empty() {
            return Ok(());
        }
        let mut insert = transaction.prepare_cached(
            "INSERT INTO machine (mac, name, proof, at, password_mark, chain) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
             ON CONFLICT (mac) DO UPDATE SET name = ?2, proof = ?3, at = ?4, password_mark = ?5, chain = ?6",
        )?;
        for machine in seen {
            let chain: Vec<_> = machine.chain.ders().iter().map(|der| Pem::new(TAG, der.clone())).collect();
            insert.execute((
                machine.mac.0,
                &machine.name,
                &machine.proof,
                machine.at.cast_signed(),
                machine.password_mark.cast_signed(),
                pem::encode_many(&chain),
            ))?;
        }
        self.since_deletion += seen.len();
        if self.since_deletion >= DELETE_EVERY {
            let sql = "DELETE FROM machine WHERE at <= (SELECT at FROM machine ORDER BY at DESC LIMIT 1 OFFSET ?1)";
            transaction.prepare_cached(sql)?.execute([MOST])?;
            self.since_deletion = 0;
        }
        Ok(())
    }
}

/// The machines on file, the oldest first.
pub(crate) fn machines(connection: &Connection) -> Result<Vec<SeenMachine>, RecordsError> {
    let sql = "SELECT mac, name, proof, at, password_mark, chain FROM
               (SELECT * FROM machine ORDER BY at DESC LIMIT ?1) ORDER BY at";
    let mut statement = connection.prepare(sql)?;
    statement.query_map([MOST], read)?.map(|row| parse(row?)).collect()
}

fn read(row: &Row<'_>) -> rusqlite::Result<(SeenMachine, String)> {
    let seen = SeenMachine {
        mac: Mac(row.get(0)?),
        name: row.get(1)?,
        proof: row.get(2)?,
        at: row.get::<_, i64>(3)?.cast_unsigned(),
        password_mark: row.get::<_, i64>(4)?.cast_unsigned(),
        chain: Chain::default(),
    };
    Ok((seen, row.get(5)?))
}

fn parse((seen, chain): (SeenMachine, String)) -> Result<SeenMachine, RecordsError> {
    let blocks = pem::parse_many(&chain).unwrap_or_default();
    // Without its certificate, whatever revoked it would be forgotten.
    if blocks.is_empty() && !chain.is_empty() {
        let told = format!("the certificate of the remembered machine {} does not read", seen.name);
        return Err(RecordsError::Damaged(told));
    }
    Ok(SeenMachine { chain: Chain::new(blocks.into_iter().map(Pem::into_contents).collect()), ..seen })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::journal::MIGRATIONS;
    use crate::shared::open_database;

    fn seen(number: u32, at: u64, chain: &[&[u8]]) -> SeenMachine {
        let [a, b, c, d] = number.to_be_bytes();
        SeenMachine {
            mac: Mac([2, 0, a, b, c, d]),
            name: "quay-laptop-7".into(),
            proof: "eap-tls".into(),
            at,
            password_mark: u64::MAX - u64::from(number),
            chain: Chain::new(chain.iter().map(|der| der.to_vec()).collect()),
        }
    }

    fn keep(connection: &mut Connection, file: &mut MachineFile, seen: &[SeenMachine]) {
        let transaction = connection.transaction().unwrap();
        file.keep(&transaction, seen).unwrap();
        transaction.commit().unwrap();
    }

    #[test]
    fn the_last_proof_of_each_address_is_kept_whole_and_the_oldest_go() {
        let dir = tempfile::tempdir().unwrap();
        let mut connection = open_database(&dir.path().join("journal.sqlite"), &MIGRATIONS).unwrap();
        let mut file = MachineFile::default();
        let (by_certificate, by_password) = (seen(1, 7, &[b"own", b"authority"]), seen(2, 8, &[]));
        keep(&mut connection, &mut file, &[seen(1, 5, &[]), by_password.clone(), by_certificate.clone()]);
        assert_eq!(machines(&connection).unwrap(), [by_certificate, by_password]);
        for at in 0..=Machines::MOST as u64 / 1_000 {
            let many: Vec<_> = (0..1_000).map(|number| seen(10 + 1_000 * at as u32 + number, 100 + at, &[])).collect();
            keep(&mut connection, &mut file, &many);
        }
        let kept = machines(&connection).unwrap();
        assert_eq!(kept.len(), Machines::MOST);
        assert!(kept.is_sorted_by_key(|seen| seen.at) && kept[0].at > 100, "the oldest went");
        let on_file: i64 = connection.query_row("SELECT count(*) FROM machine", [], |row| row.get(0)).unwrap();
        assert_eq!(on_file, MOST);
        connection.execute("UPDATE machine SET chain = '-----BEGIN CERTIFICATE-----!'", []).unwrap();
        let told = machines(&connection).unwrap_err().to_string();
        assert!(told.contains("the remembered machine quay-laptop-7 does not read"), "{told}");
    }
}
