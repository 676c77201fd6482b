//! The one place where records change.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use rusqlite::{Connection, OptionalExtension, Row, Transaction, params};

use crate::command::{
    BasisOf, Command, Conflict, Done, DraftOf, Envelope, Expected, Fault, Missing, Outcome, Personal, VERSION,
};
use crate::database::editions::EditionText;
use crate::database::tables::Before;
use crate::database::{administrators, drafts, editions, log, tables};
use crate::error::{RecordsError, Refusal};
use crate::names::RecordName;
use crate::rows::{MOST_ADDRESSES, NasRow, Rows, StoreKind, StoreRow, fold};
use crate::sealing::KeyId;

/// How long a token that ended stays in lists, in milliseconds.
const FORGOTTEN_AFTER: i64 = 90 * 86_400_000;

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
    let (outcome, before) = match run(&savepoint, envelope, revision) {
        Ok((done, before)) => (Outcome::Done(done), before),
        Err(RecordsError::Refused(refusal)) => {
            savepoint.rollback()?;
            (refusal.into(), Before::default())
        }
        Err(error) => return Err(error),
    };
    savepoint.commit()?;
    if envelope.command.is_logged() {
        log::add(db, revision, envelope, &outcome, &before)?;
    }
    Ok(Applied { outcome, repeated: false })
}

fn run(db: &Connection, envelope: &Envelope, revision: u64) -> Result<(Done, Before), RecordsError> {
    if envelope.version > VERSION {
        return Err(Fault::Version(envelope.version).into());
    }
    expect(db, envelope.expected, revision - 1)?;
    let (at, by) = (envelope.at.cast_signed(), &envelope.author.name);
    let (mut done, mut gone) = (Done::default(), Before::default());
    let had_engineers = tables::has_lasting_engineer(db)?;
    match &envelope.command {
        Command::Import(_)
        | Command::SetCertificate(_)
        | Command::SetTrust(_)
        | Command::SetSecret(_)
        | Command::Backup { .. } => {}
        Command::Add(rows) => make_way(db, &[], rows, &mut gone)?,
        Command::Change { was, rows } => make_way(db, was, rows, &mut gone)?,
        Command::Remove(names) => names.iter().try_for_each(|name| take(db, name, &mut gone))?,
        Command::Reveal(name) => {
            tables::revision(db, name)?.ok_or_else(|| Missing::Record(name.clone()))?;
        }
        Command::RemoveSecret { name } => {
            let name = RecordName::Secret(name.clone());
            take(db, &name, &mut gone)?;
        }
        Command::SetSecondFactor { administrator, secret, recovery } => {
            let name = RecordName::Administrator(administrator.clone());
            if !gone.look_at(db, &name)? {
                return Err(Missing::Record(name).into());
            }
            let in_use = key_in_use(db)?;
            if secret.as_ref().is_some_and(|secret| secret.key() != in_use) {
                return Err(Fault::Key.into());
            }
            administrators::set_second_factor(db, administrator, secret.as_ref(), recovery, revision)?;
        }
        Command::AddToken { hash, administrator, name, role, expires, parent } => {
            let owner = RecordName::Administrator(administrator.clone());
            tables::revision(db, &owner)?.ok_or(Missing::Record(owner))?;
            // Those that ended long ago say nothing any more; whoever signs in often would have ever more of them.
            let over = "DELETE FROM token WHERE administrator = ?1 AND expires < ?2";
            db.execute(over, params![fold(administrator), at - FORGOTTEN_AFTER])?;
            let mut bounds = None;
            if let Some(parent) = parent {
                let sql = "SELECT role, expires FROM token WHERE hash = ?1 AND administrator = ?2";
                let read = |row: &Row<'_>| Ok((tables::role(row, 0)?, row.get::<_, Option<i64>>(1)?));
                let made_with = db.query_row(sql, params![parent.0, fold(administrator)], read).optional()?;
                bounds = Some(made_with.ok_or(Missing::Token)?);
            }
            let sql = "INSERT INTO token (hash, administrator, created_at, name, role, expires, parent)
                       VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) ON CONFLICT (hash) DO NOTHING";
            let with = parent.map(|parent| parent.0);
            db.execute(sql, params![hash.0, fold(administrator), at, name, role.word(), expires, with])?;
            // Somebody may have changed the other one meanwhile.
            if let (Some(parent), Some((role, expires))) = (parent, bounds) {
                administrators::bound_heirs(db, *parent, role, expires)?;
            }
        }
        Command::ChangeToken { hash, name, role, expires } => {
            let sql = "UPDATE token SET name = ?2, role = ?3, expires = ?4 WHERE hash = ?1";
            if db.execute(sql, params![hash.0, name, role.word(), expires])? == 0 {
                return Err(Missing::Token.into());
            }
            administrators::bound_heirs(db, *hash, *role, *expires)?;
        }
        Command::Restore { keep_tokens, .. } => {
            db.execute("DELETE FROM session", [])?;
            if !keep_tokens {
                db.execute("DELETE FROM token", [])?;
            }
        }
        Command::RemoveTokens { administrator } => {
            db.execute("DELETE FROM token WHERE administrator = ?1", [fold(administrator)])?;
        }
        Command::RemoveToken { hash } => {
            if db.execute("DELETE FROM token WHERE hash = ?1", [hash.0])? == 0 {
                return Err(Missing::Token.into());
            }
        }
        Command::Personal(personal) => personally(db, personal, at)?,
        Command::ActivateEdition { source, included, note, made_from, basis, draft } => {
            let (hash, made_from) = (hash_of(db, basis)?, *made_from);
            let text = EditionText {
                source: source.clone(),
                included: editions::json(included),
                note: note.clone(),
                made_from,
            };
            done.edition = Some(editions::activate(db, &text, &hash, at, by)?);
            if let Some(DraftOf { author, version }) = draft {
                drafts::remove(db, author, Some(*version))?;
            }
        }
        Command::SetLanguage { basis, .. } => {
            done.edition = Some(editions::go_on(db, &hash_of(db, basis)?, at, by)?);
        }
        Command::RemoveLanguage { kind, name, basis } => {
            let language = RecordName::Language { kind: *kind, name: name.clone() };
            take(db, &language, &mut gone).map_err(|error| match error {
                RecordsError::Refused(Refusal::NotFound(_)) => Missing::Language(*kind, name.clone()).into(),
                error => error,
            })?;
            done.edition = Some(editions::go_on(db, &hash_of(db, basis)?, at, by)?);
        }
        Command::UseKey { key } => {
            let sql = "INSERT INTO setting (name, value) VALUES ('sealing key', ?1)
                       ON CONFLICT (name) DO UPDATE SET value = ?1";
            db.execute(sql, [key.bytes()])?;
        }
        #[cfg(feature = "next-release")]
        Command::SayMore { nas, more } => {
            let name = RecordName::Nas(nas.clone());
            if !gone.look_at(db, &name)? {
                return Err(Missing::Record(name).into());
            }
            db.execute(
                "UPDATE nas SET more = ?2, revision = ?3 WHERE key = ?1",
                params![fold(nas), more, revision.cast_signed()],
            )?;
        }
    }
    let mut rows = envelope.command.rows().into_owned();
    fits(db, &mut rows)?;
    let mut before = tables::before(db, &rows)?;
    before.rows.extend(gone.rows);
    before.revisions.extend(gone.revisions);
    tables::put(db, &rows, at, Some(revision))?;
    for name in envelope.command.gone() {
        if let RecordName::Store(store) = name {
            // Whoever was in a store that has another name now stands under it, or nobody would know where they are.
            nobody_is_left(db, store, &rows)?;
        }
    }
    for row in &rows.administrators {
        // Whoever signed in as the account was signs in as it is.
        db.execute("DELETE FROM session WHERE administrator = ?1", [fold(&row.name)])?;
    }
    if had_engineers && !tables::has_lasting_engineer(db)? {
        return Err(Conflict::LastEngineer.into());
    }
    Ok((done, before))
}

fn personally(db: &Connection, personal: &Personal, at: i64) -> Result<(), RecordsError> {
    match personal {
        Personal::OpenSession { hash, administrator, ends, code } => {
            administrators::open_session(db, *hash, administrator, *code, (at, *ends))?;
        }
        // One that ended by itself in between is as closed as it can be.
        Personal::CloseSession { hash } => drop(db.execute("DELETE FROM session WHERE hash = ?1", [hash.0])?),
        Personal::PutDraft(draft) => drafts::put(db, draft)?,
        Personal::RemoveDraft { author, version } => {
            if !drafts::remove(db, author, *version)? {
                let is_there = drafts::find(db, author)?.is_some();
                return Err(if is_there { Conflict::Draft.into() } else { Missing::Draft.into() });
            }
        }
    }
    Ok(())
}

/// Takes away what stands where other records shall: every one of these is there, those
/// whose names are not among the new ones are forgotten, and of the new ones none is there
/// beside them.
fn make_way(db: &Connection, was: &[RecordName], rows: &Rows, gone: &mut Before) -> Result<(), RecordsError> {
    let were: HashSet<_> = was.iter().map(RecordName::folded).collect();
    let mut new = HashSet::new();
    for name in rows.names() {
        if !were.contains(&name.folded()) && tables::revision(db, &name)?.is_some() {
            return Err(Conflict::Exists(name).into());
        }
        new.insert(name.folded());
    }
    for name in was {
        if let (RecordName::Store(from), [to]) = (name, &rows.stores[..])
            && *from != to.name
        {
            // What is in it stays in it.
            rename_store(db, from, to, gone)?;
            continue;
        }
        match new.contains(&name.folded()) {
            true if tables::revision(db, name)?.is_some() => {}
            true => return Err(Missing::Record(name.clone()).into()),
            false if matches!(name, RecordName::Administrator(_)) => {
                return Err(Fault::KeepsName(name.clone()).into());
            }
            false => take(db, name, gone)?,
        }
    }
    Ok(())
}

/// Gives a store another name: its devices have its number, its people and machines stand in the
/// same command under the new name.
fn rename_store(db: &Connection, from: &str, to: &StoreRow, gone: &mut Before) -> Result<(), RecordsError> {
    let name = RecordName::Store(from.to_owned());
    if !gone.look_at(db, &name)? {
        return Err(Missing::Record(name).into());
    }
    let was = gone.rows.stores.iter().find(|row| row.name == from);
    if was.is_none_or(|row| row.kind != to.kind) {
        return Err(Conflict::StoreKind { name: from.to_owned() }.into());
    }
    // Whoever is in it refers to its name, until they stand under the new one.
    db.pragma_update(None, "defer_foreign_keys", true)?;
    db.execute("UPDATE store SET name = ?2 WHERE name = ?1", [from, &to.name])?;
    Ok(())
}

fn nobody_is_left(db: &Connection, store: &str, rows: &Rows) -> Result<(), RecordsError> {
    match rows.stores.iter().any(|row| row.name == *store) {
        true => Ok(()),
        false => tables::is_empty(db, store),
    }
}

/// Forgets a record, which must be there; keeps how it was.
fn take(db: &Connection, name: &RecordName, gone: &mut Before) -> Result<(), RecordsError> {
    if let RecordName::Store(store) = name {
        tables::is_empty(db, store)?;
    }
    if let RecordName::Administrator(name) = name {
        // Whoever has the name later begins anew.
        drafts::remove(db, name, None)?;
    }
    if !gone.look_at(db, name)? {
        return Err(match name {
            RecordName::Secret(name) => Missing::Secret(name.clone()).into(),
            name => Missing::Record(name.clone()).into(),
        });
    }
    tables::remove(db, name)
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

/// A device's number has 15 bits for its store.
const MOST_STORES: usize = 1_000;

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
    if stores.len() > MOST_STORES {
        return Err(Fault::TooManyStores(stores.len()).into());
    }
    let holds = |store: &str, kind: StoreKind| match stores.iter().find(|known| known.name == store) {
        Some(known) if known.kind == kind => Ok(()),
        Some(_) => Err(RecordsError::from(Fault::Store(store.to_owned()))),
        None => Err(Missing::Record(RecordName::Store(store.to_owned())).into()),
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
    let sql = "SELECT nas.name FROM nas_network JOIN nas ON nas_network.nas = nas.key WHERE network = ?1";
    let mut known = db.prepare_cached(sql)?;
    let mut taken = BTreeMap::new();
    for row in nases {
        for network in &row.networks {
            let there = known.query_row([network.to_string()], |found| found.get::<_, String>(0)).optional()?;
            // One that is put anew frees its addresses.
            let there = there.filter(|other| !names.contains(&fold(other)));
            if let Some(other) = taken.insert(network.to_string(), row.name.clone()).or(there) {
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
