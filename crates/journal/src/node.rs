use std::path::Path;

use pem::Pem;
use regnant_base::Mac;
use regnant_decision::{Machines, SeenMachine};
use regnant_eap::Chain;
use rusqlite::{Connection, Row};
use ulid::Ulid;

use crate::database;
use crate::error::JournalError;
use crate::folder::set_aside;

const MOST: i64 = Machines::MOST as i64;
/// Machines that are kept before those beyond [`Machines::MOST`] are deleted.
const DELETE_EVERY: usize = 1_000;
const TAG: &str = "CERTIFICATE";

/// What belongs to the node itself: its id, and the machines that are remembered. A
/// restart must not send everybody back to prove a machine that did it in the morning.
#[derive(Debug)]
pub struct NodeFile {
    connection: Connection,
    since_deletion: usize,
}

/// The form of the file.
const VERSION: i64 = 1;

impl NodeFile {
    /// Opens or makes the file. One that is of no use is set aside, and told: each
    /// machine then proves itself again when it next comes.
    pub fn open(path: &Path) -> Result<Self, JournalError> {
        match Self::open_as_it_is(path) {
            Err(error) if error.is_of_no_use() => {
                let failed = |error| JournalError::Folder { path: path.to_owned(), error };
                let aside = set_aside(path).map_err(failed)?;
                tracing::error!(
                    "{error}; it was set aside as {}: machines that were remembered prove themselves again",
                    aside.display()
                );
                Self::open_as_it_is(path)
            }
            opened => opened,
        }
    }

    fn open_as_it_is(path: &Path) -> Result<Self, JournalError> {
        let mut random = [0; 16];
        getrandom::fill(&mut random).expect("the system gives random bytes");
        let id = Ulid::from_parts(0, u128::from_be_bytes(random));
        let schema = format!("{}; INSERT INTO node (id) VALUES ('{id}')", include_str!("node.sql"));
        let connection = database::open(path, VERSION, &schema)?;
        Ok(Self { connection, since_deletion: 0 })
    }

    /// The node's id, a ULID.
    pub fn id(&self) -> Result<String, JournalError> {
        Ok(self.connection.query_row("SELECT id FROM node", [], |row| row.get(0))?)
    }

    /// Keeps machines that proved themselves.
    pub(crate) fn keep(&mut self, seen: &[SeenMachine]) -> Result<(), JournalError> {
        if seen.is_empty() {
            return Ok(());
        }
        let transaction = self.connection.transaction()?;
        let mut insert = transaction.prepare_cached(
            "INSERT INTO machine (mac, name, proof, at, password_mark, chain, store, bound, trust)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)
             ON CONFLICT (mac) DO UPDATE SET
             name = ?2, proof = ?3, at = ?4, password_mark = ?5, chain = ?6, store = ?7, bound = ?8, trust = ?9",
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
                &machine.store,
                machine.bound,
                &machine.trust,
            ))?;
        }
        drop(insert);
        self.since_deletion += seen.len();
        if self.since_deletion >= DELETE_EVERY {
            let sql = "DELETE FROM machine WHERE at <= (SELECT at FROM machine ORDER BY at DESC LIMIT 1 OFFSET ?1)";
            transaction.prepare_cached(sql)?.execute([MOST])?;
            self.since_deletion = 0;
        }
        Ok(transaction.commit()?)
    }

    /// The machines on file, the oldest first; how many could not be read.
    pub fn machines(&self) -> Result<(Vec<SeenMachine>, usize), JournalError> {
        let sql = "SELECT mac, name, proof, at, password_mark, chain, store, bound, trust FROM
                   (SELECT * FROM machine ORDER BY at DESC LIMIT ?1) ORDER BY at";
        let mut statement = self.connection.prepare(sql)?;
        let rows: Vec<_> = statement.query_map([MOST], read)?.collect::<Result<_, _>>()?;
        let all = rows.len();
        let read: Vec<_> = rows.into_iter().filter_map(parse).collect();
        let unread = all - read.len();
        Ok((read, unread))
    }
}

fn read(row: &Row<'_>) -> rusqlite::Result<(SeenMachine, String)> {
    let seen = SeenMachine {
        mac: Mac(row.get(0)?),
        name: row.get(1)?,
        proof: row.get(2)?,
        at: row.get::<_, i64>(3)?.cast_unsigned(),
        password_mark: row.get::<_, i64>(4)?.cast_unsigned(),
        chain: Chain::default(),
        store: row.get(6)?,
        bound: row.get(7)?,
        trust: row.get(8)?,
    };
    Ok((seen, row.get(5)?))
}

/// `None` without its certificate: whatever revoked it would be forgotten.
fn parse((seen, chain): (SeenMachine, String)) -> Option<SeenMachine> {
    let blocks = pem::parse_many(&chain).unwrap_or_default();
    let whole = chain.is_empty() || !blocks.is_empty();
    whole.then(|| SeenMachine { chain: Chain::new(blocks.into_iter().map(Pem::into_contents).collect()), ..seen })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(number: u32, at: u64, chain: &[&[u8]]) -> SeenMachine {
        let [a, b, c, d] = number.to_be_bytes();
        SeenMachine {
            mac: Mac([2, 0, a, b, c, d]),
            name: "quay-laptop-7".into(),
            proof: "eap-tls".into(),
            at,
            password_mark: u64::MAX - u64::from(number),
            chain: Chain::new(chain.iter().map(|der| der.to_vec()).collect()),
            store: "harbour".into(),
            bound: number.is_multiple_of(2),
            trust: (!chain.is_empty()).then(|| "tarnmouth-authority".to_owned()),
        }
    }

    #[test]
    fn the_last_proof_of_each_address_is_kept_whole_and_the_oldest_go() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("node.sqlite");
        let mut file = NodeFile::open(&path).unwrap();
        let id = file.id().unwrap();
        let (by_certificate, by_password) = (seen(1, 7, &[b"own", b"authority"]), seen(2, 8, &[]));
        file.keep(&[seen(1, 5, &[]), by_password.clone(), by_certificate.clone()]).unwrap();
        assert_eq!(file.machines().unwrap(), (vec![by_certificate, by_password], 0));
        drop(file);
        let mut file = NodeFile::open(&path).unwrap();
        assert_eq!(file.id().unwrap(), id, "a journal belongs to one node, whose id it keeps");
        for at in 0..=Machines::MOST as u64 / 1_000 {
            let many: Vec<_> = (0..1_000).map(|number| seen(10 + 1_000 * at as u32 + number, 100 + at, &[])).collect();
            file.keep(&many).unwrap();
        }
        let (kept, _) = file.machines().unwrap();
        assert_eq!(kept.len(), Machines::MOST);
        assert!(kept.is_sorted_by_key(|seen| seen.at) && kept[0].at > 100, "the oldest went");
        let on_file: i64 = file.connection.query_row("SELECT count(*) FROM machine", [], |row| row.get(0)).unwrap();
        assert_eq!(on_file, MOST);
        file.connection.execute("UPDATE machine SET chain = '-----BEGIN CERTIFICATE-----!'", []).unwrap();
        assert_eq!(file.machines().unwrap(), (Vec::new(), Machines::MOST));
        drop(file);
        std::fs::write(&path, "no database any more ".repeat(500)).unwrap();
        assert_ne!(NodeFile::open(&path).unwrap().id().unwrap(), id);
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().filter(is_set_aside).count(), 1);
    }

    fn is_set_aside(entry: &std::io::Result<std::fs::DirEntry>) -> bool {
        entry.as_ref().unwrap().file_name().to_str().unwrap().starts_with("node.sqlite.set-aside-")
    }
}
