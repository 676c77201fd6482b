//! The one place where records change.

use std::collections::{BTreeMap, BTreeSet};

use rusqlite::{Connection, OptionalExtension, Transaction, params};

use crate::command::{BasisOf, Command, Conflict, Done, Envelope, Expected, Fault, Missing, Outcome, VERSION};
use crate::database::{editions, log, tables};
use crate::error::{RecordsError, Refusal};
use crate::rows::{MOST_ADDRESSES, NasRow, Rows, StoreKind, StoreRow, fold};
use crate::sealing::KeyId;

/// What came of a command that was handed in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Applied {
    /// What came of it.
    pub(crate) outcome: Outcome,
    /// Whether it had been applied before, so that nothing was done now.
    pub(crate) repeated: bool,
}

/// Applies a command. It sees what the records hold and what the envelope says: no
/// clock, no random source, no file. Whatever the command deserves is an outcome and is
/// kept; an error is the disk's, and then nothing has happened, this command included.
pub(crate) fn apply(db: &mut Transaction<'_>, envelope: &Envelope) -> Result<Applied, RecordsError> {
    if let Some(outcome) = log::outcome_of(db, envelope.id)? {
        return Ok(Applied { outcome, repeated: true });
    }
    let revision = log::last_revision(db)? + 1;
    let mut savepoint = db.savepoint()?;
    let (outcome, before) = match run(&savepoint, envelope, revision - 1) {
        Ok((done, before)) => (Outcome::Done(done), before),
        Err(RecordsError::Refused(refusal)) => {
            savepoint.rollback()?;
            (refusal.into(), Rows::default())
        }
        Err(error) => return Err(error),
    };
    savepoint.commit()?;
    log::add(db, revision, envelope, &outcome, &before)?;
    Ok(Applied { outcome, repeated: false })
}

fn run(db: &Connection, envelope: &Envelope, revision: u64) -> Result<(Done, Rows), RecordsError> {
    if envelope.version > VERSION {
        return Err(Fault::Version(envelope.version).into());
    }
    expect(db, envelope.expected, revision)?;
    let at = envelope.at.cast_signed();
    let (mut done, mut removed) = (Done::default(), Rows::default());
    match &envelope.command {
        Command::Import(_)
        | Command::SetCertificate(_)
        | Command::SetTrust(_)
        | Command::SetSecret(_)
        | Command::SetAdministrator(_) => {}
        Command::AddNas(row) => {
            if tables::nas(db, &row.name)?.is_some() {
                return Err(Conflict::NasExists(row.name.clone()).into());
            }
        }
        Command::ChangeNas { was, row } => {
            let before = tables::nas(db, was)?.ok_or_else(|| Missing::Nas(was.clone()))?;
            if fold(was) != fold(&row.name) {
                if tables::nas(db, &row.name)?.is_some() {
                    return Err(Conflict::NasExists(row.name.clone()).into());
                }
                tables::remove_nas(db, was)?;
                removed.nases.push(before);
            }
        }
        Command::RemoveNas { name } => {
            removed.nases.push(tables::nas(db, name)?.ok_or_else(|| Missing::Nas(name.clone()))?);
            tables::remove_nas(db, name)?;
        }
        Command::RevealNasSecret { name } => {
            tables::nas(db, name)?.ok_or_else(|| Missing::Nas(name.clone()))?;
        }
        Command::RemoveSecret { name } => {
            removed.named_secrets = tables::remove_secret(db, name)?;
            if removed.named_secrets.is_empty() {
                return Err(Missing::Secret(name.clone()).into());
            }
        }
        Command::AddToken { hash, administrator } => {
            let owner = fold(administrator);
            let sql = "SELECT EXISTS (SELECT 1 FROM administrator WHERE key = ?1)";
            if !db.query_row(sql, [&owner], |row| row.get::<_, bool>(0))? {
                return Err(Missing::Administrator(administrator.clone()).into());
            }
            let sql = "INSERT INTO token (hash, administrator, created_at) VALUES (?1, ?2, ?3)
                       ON CONFLICT (hash) DO NOTHING";
            db.execute(sql, params![hash.0, owner, at])?;
        }
        Command::RemoveToken { hash } => {
            if db.execute("DELETE FROM token WHERE hash = ?1", [hash.0])? == 0 {
                return Err(Missing::Token.into());
            }
        }
        Command::ActivateEdition { source, basis } => {
            let hash = hash_of(db, basis)?;
            done.edition = Some(editions::activate(db, source, &hash, at, &envelope.author)?);
        }
        Command::SetLanguage { basis, .. } => {
            done.edition = Some(editions::go_on(db, &hash_of(db, basis)?, at, &envelope.author)?);
        }
        Command::RemoveLanguage { kind, name, basis } => {
            removed.languages = tables::remove_language(db, *kind, name)?;
            if removed.languages.is_empty() {
                return Err(Missing::Language(*kind, name.clone()).into());
            }
            done.edition = Some(editions::go_on(db, &hash_of(db, basis)?, at, &envelope.author)?);
        }
        Command::UseKey { key } => {
            let sql = "INSERT INTO setting (name, value) VALUES ('sealing key', ?1)
                       ON CONFLICT (name) DO UPDATE SET value = ?1";
            db.execute(sql, [key.bytes()])?;
        }
    }
    let mut rows = envelope.command.rows();
    fits(db, &mut rows)?;
    let mut before = tables::before(db, &rows)?;
    before.nases.extend(removed.nases);
    before.languages.extend(removed.languages);
    before.named_secrets.extend(removed.named_secrets);
    tables::put(db, &rows, at)?;
    Ok((done, before))
}

/// The hash of a basis, which the records have from now on.
fn hash_of(db: &Connection, basis: &BasisOf) -> Result<[u8; 32], RecordsError> {
    match basis {
        BasisOf::New(basis) => editions::keep_basis(db, basis),
        BasisOf::Known(hash) if editions::has_basis(db, hash)? => Ok(*hash),
        BasisOf::Known(_) => Err(Missing::Basis.into()),
    }
}

/// The key that secrets are sealed under.
pub(crate) fn key_in_use(db: &Connection) -> Result<Option<KeyId>, RecordsError> {
    let sql = "SELECT value FROM setting WHERE name = 'sealing key'";
    Ok(db.query_row(sql, [], |row| row.get(0)).optional()?.map(KeyId::from_bytes))
}

fn expect(db: &Connection, expected: Expected, current: u64) -> Result<(), RecordsError> {
    match expected {
        Expected::Anything => Ok(()),
        Expected::Revision(expected) if expected == current => Ok(()),
        Expected::Revision(expected) => Err(Conflict::Revision { expected, current }.into()),
        Expected::Edition(expected) => match editions::active_number(db)? {
            active if active == expected => Ok(()),
            active => Err(Conflict::Edition { expected, active }.into()),
        },
    }
}

/// Whether records go together with those that there are.
fn fits(db: &Connection, rows: &mut Rows) -> Result<(), RecordsError> {
    let in_use = key_in_use(db)?;
    rows.secrets(|_, sealed| match sealed.key() == in_use {
        true => Ok(()),
        false => Err(Fault::Key.into()),
    })?;
    let mut stores: Vec<StoreRow> = tables::select(db, "", ())?;
    for row in &rows.stores {
        match stores.iter().find(|known| known.name == row.name) {
            Some(known) if known.kind != row.kind => return Err(Conflict::StoreKind { name: row.name.clone() }.into()),
            Some(_) => {}
            None => stores.push(row.clone()),
        }
    }
    let holds = |store: &str, kind: StoreKind| match stores.iter().find(|known| known.name == store) {
        Some(known) if known.kind == kind => Ok(()),
        Some(_) => Err(RecordsError::from(Fault::Store(store.to_owned()))),
        None => Err(Missing::Store(store.to_owned()).into()),
    };
    rows.people.iter().try_for_each(|row| holds(&row.store, StoreKind::People))?;
    rows.machines.iter().try_for_each(|row| holds(&row.store, StoreKind::People))?;
    for row in &rows.devices {
        holds(&row.store, StoreKind::Devices)?;
        if !(1..=MOST_ADDRESSES).contains(&row.count()) {
            return Err(Fault::Range(row.first.to_string(), row.last.to_string()).into());
        }
    }
    addresses_differ(db, &rows.nases)
}

fn addresses_differ(db: &Connection, nases: &[NasRow]) -> Result<(), RecordsError> {
    let mut names = BTreeSet::new();
    if let Some(row) = nases.iter().find(|row| row.networks.is_empty()) {
        return Err(Fault::NoAddress(row.name.clone()).into());
    }
    for row in nases {
        if !names.insert(fold(&row.name)) {
            return Err(Fault::Twice(row.name.clone()).into());
        }
    }
    if nases.is_empty() {
        return Ok(());
    }
    // One that is put anew frees its addresses.
    let there = tables::select::<NasRow>(db, "", ())?.into_iter().filter(|other| !names.contains(&fold(&other.name)));
    let mut taken = BTreeMap::new();
    for row in there {
        taken.extend(row.networks.iter().map(|network| (network.to_string(), row.name.clone())));
    }
    for row in nases {
        for network in &row.networks {
            if let Some(other) = taken.insert(network.to_string(), row.name.clone()) {
                return Err(Conflict::SameAddress { name: row.name.clone(), network: *network, other }.into());
            }
        }
    }
    Ok(())
}

impl From<Refusal> for Outcome {
    fn from(refusal: Refusal) -> Self {
        match refusal {
            Refusal::Conflict(conflict) => Self::Conflict(conflict),
            Refusal::NotFound(missing) => Self::NotFound(missing),
            Refusal::Invalid(fault) => Self::Invalid(fault),
        }
    }
}

impl Outcome {
    /// What was done, or why nothing was.
    pub fn done(self) -> Result<Done, Refusal> {
        match self {
            Self::Done(done) => Ok(done),
            Self::Conflict(conflict) => Err(Refusal::Conflict(conflict)),
            Self::NotFound(missing) => Err(Refusal::NotFound(missing)),
            Self::Invalid(fault) => Err(Refusal::Invalid(fault)),
        }
    }
}
