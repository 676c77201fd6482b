//! Every command in the order in which it was applied, each chained to the one before, and
//! what is shown of it.

use std::collections::HashSet;

use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::command::{Command, CommandId, Done, Envelope, Expected, Outcome, Personal};
use crate::database::changes::{FieldChange, changes};
use crate::database::tables::{self, Before};
use crate::error::RecordsError;
use crate::names::RecordName;
use crate::sealing::{Sealed, SealingKey, hex, seal_anew_with};

/// A command that was applied, as people see it: no secret is in it, not even sealed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AuditEntry {
    /// Which command it is, counted from 1.
    pub revision: u64,
    /// Its id.
    pub id: CommandId,
    /// Milliseconds since 1970 (UTC).
    pub at: u64,
    /// The administrator, or `regnant`.
    pub author: String,
    /// From where it came.
    pub from: String,
    /// What was to be done.
    pub what: String,
    /// To what: a name, or what came in by how many.
    pub subject: String,
    /// What came of it.
    pub outcome: Outcome,
    /// The hash of it and of the one before (SHA-256), in hexadecimal digits.
    pub chain: String,
}

/// Which commands are wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AuditFilter {
    /// Only those below this revision.
    pub below: u64,
    /// At most this many, the last.
    pub most: u32,
    /// Only those in whose author, place, deed or subject every one of these words stands.
    pub words: Vec<String>,
    /// Only those that changed this record.
    pub record: Option<RecordName>,
}

/// What became of the chain of commands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verified {
    /// How many commands there are.
    pub commands: u64,
    /// The hash of the last, in hexadecimal digits: whoever notes it can tell later that
    /// nothing before it was changed.
    pub chain: String,
    /// The first that is not what was applied, and why.
    pub broken: Option<(u64, String)>,
}

/// What is kept of a command beside columns of its own.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Body {
    expected: Expected,
    command: Command,
}

/// A command as it stands in its row.
struct Written {
    revision: u64,
    id: CommandId,
    version: u16,
    author: String,
    source: String,
    at: i64,
    what: String,
    subject: String,
    command: String,
    before: String,
    outcome: String,
    told: Option<String>,
    chain: Vec<u8>,
}

const WRITTEN: &str = "revision, id, version, author, source, at, what, subject, command, before, outcome, told, chain";

/// What came of a command, where it was applied before.
pub(crate) fn outcome_of(db: &Connection, id: CommandId) -> Result<Option<Outcome>, RecordsError> {
    let sql = "SELECT outcome FROM command WHERE id = ?1";
    let found = db.prepare_cached(sql)?.query_row([id.bytes()], |row| row.get::<_, String>(0)).optional()?;
    found.map(|outcome| read(&outcome)).transpose()
}

/// How many commands there are.
pub(crate) fn last_revision(db: &Connection) -> Result<u64, RecordsError> {
    let sql = "SELECT coalesce(max(revision), 0) FROM command";
    let last: i64 = db.prepare_cached(sql)?.query_row([], |row| row.get(0))?;
    Ok(last.cast_unsigned())
}

pub(crate) fn add(
    db: &Connection,
    revision: u64,
    envelope: &Envelope,
    outcome: &Outcome,
    before: &Before,
) -> Result<(), RecordsError> {
    let body = Body { expected: envelope.expected, command: envelope.command.clone() };
    let mut written = Written {
        revision,
        id: envelope.id,
        version: envelope.version,
        author: envelope.author.name.clone(),
        source: envelope.author.from.clone(),
        at: envelope.at.cast_signed(),
        what: envelope.command.word(),
        subject: subject(&envelope.command, outcome),
        command: text(&body),
        before: text(before),
        outcome: text(outcome),
        told: None,
        chain: Vec::new(),
    };
    written.told = masked(body, before.clone())?;
    let chain = written.chained_to(chain_before(db, revision)?.as_ref());
    let sql =
        format!("INSERT INTO command ({WRITTEN}) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13)");
    db.prepare_cached(&sql)?.execute(params![
        revision.cast_signed(),
        written.id.bytes(),
        written.version,
        written.author,
        written.source,
        written.at,
        written.what,
        written.subject,
        written.command,
        written.before,
        written.outcome,
        written.told,
        chain,
    ])?;
    Ok(())
}

fn chain_before(db: &Connection, revision: u64) -> Result<Option<[u8; 32]>, RecordsError> {
    let sql = "SELECT chain FROM command WHERE revision = ?1";
    let mut statement = db.prepare_cached(sql)?;
    Ok(statement.query_row([revision.cast_signed() - 1], |row| row.get(0)).optional()?)
}

/// A command and what it found, without its secrets; what is chained, so that sealing them
/// under another key breaks nothing. None where there is none in them.
fn masked(mut body: Body, mut before: Before) -> Result<Option<String>, RecordsError> {
    let found = std::cell::Cell::new(false);
    let mask = |_: &str, sealed: &mut Sealed| {
        found.set(true);
        *sealed = Sealed::masked();
        Ok(())
    };
    body.command.secrets(mask)?;
    before.rows.secrets(mask)?;
    Ok(found.get().then(|| text(&body) + &text(&before)))
}

impl Written {
    fn find(db: &Connection, revision: u64) -> Result<Option<Self>, RecordsError> {
        let sql = format!("SELECT {WRITTEN} FROM command WHERE revision = ?1");
        Ok(db.prepare_cached(&sql)?.query_row([revision.cast_signed()], Self::read).optional()?)
    }

    fn read(row: &Row<'_>) -> rusqlite::Result<Self> {
        Ok(Self {
            revision: row.get::<_, i64>(0)?.cast_unsigned(),
            id: CommandId::from_bytes(row.get(1)?),
            version: row.get(2)?,
            author: row.get(3)?,
            source: row.get(4)?,
            at: row.get(5)?,
            what: row.get(6)?,
            subject: row.get(7)?,
            command: row.get(8)?,
            before: row.get(9)?,
            outcome: row.get(10)?,
            told: row.get(11)?,
            chain: row.get(12)?,
        })
    }

    /// The hash of this and of the one before.
    fn chained_to(&self, before: Option<&[u8; 32]>) -> [u8; 32] {
        let mut hash = Sha256::new_with_prefix(before.unwrap_or(&[0; 32]));
        let told = self.told.clone().unwrap_or_else(|| [&*self.command, &*self.before].concat());
        let numbers = [self.revision, u64::from(self.version), self.at.cast_unsigned()];
        numbers.iter().for_each(|number| hash.update(number.to_be_bytes()));
        hash.update(self.id.bytes());
        for part in [&self.author, &self.source, &self.what, &self.subject, &told, &self.outcome] {
            hash.update((part.len() as u64).to_be_bytes());
            hash.update(part);
        }
        hash.finalize().into()
    }

    /// Whether it is what was applied.
    fn is_whole(&self, before: Option<&[u8; 32]>) -> Result<(), String> {
        if self.chain != self.chained_to(before) {
            return Err("it was changed after it was written, or the one before it was".into());
        }
        // What is chained says the same as what would be applied, but for secrets.
        let Some(told) = &self.told else { return Ok(()) };
        let same = || -> Option<bool> {
            let mut parts = serde_json::Deserializer::from_str(told).into_iter::<serde_json::Value>();
            let body: Body = serde_json::from_value(parts.next()?.ok()?).ok()?;
            let before: Before = serde_json::from_value(parts.next()?.ok()?).ok()?;
            let stored = masked(read(&self.command).ok()?, read(&self.before).ok()?).ok()??;
            Some(text(&body) + &text(&before) == stored)
        };
        match same() {
            Some(true) => Ok(()),
            _ => Err("its command was changed after it was written".into()),
        }
    }

    fn entry(self) -> Result<AuditEntry, RecordsError> {
        Ok(AuditEntry {
            revision: self.revision,
            id: self.id,
            at: self.at.cast_unsigned(),
            author: self.author,
            from: self.source,
            what: self.what,
            subject: self.subject,
            outcome: read(&self.outcome)?,
            chain: hex(&self.chain),
        })
    }
}

/// Goes along the chain from the first command to the last.
pub(crate) fn verify(db: &Connection) -> Result<Verified, RecordsError> {
    let mut statement = db.prepare(&format!("SELECT {WRITTEN} FROM command ORDER BY revision"))?;
    let mut rows = statement.query([])?;
    let (mut commands, mut chain) = (0, None);
    let broken = |revision: u64, chain: Option<[u8; 32]>, why: String| Verified {
        commands: revision,
        chain: hex(&chain.unwrap_or_default()),
        broken: Some((revision, why)),
    };
    while let Some(row) = rows.next()? {
        let written = Written::read(row)?;
        commands += 1;
        if written.revision != commands {
            return Ok(broken(commands, chain, "it is missing".into()));
        }
        if let Err(why) = written.is_whole(chain.as_ref()) {
            return Ok(broken(commands, chain, why));
        }
        chain = written.chain.try_into().ok();
    }
    Ok(Verified { commands, chain: hex(&chain.unwrap_or_default()), broken: None })
}

/// The commands that a filter lets through, the last first.
pub(crate) fn audit(db: &Connection, filter: &AuditFilter) -> Result<Vec<AuditEntry>, RecordsError> {
    if let Some(record) = &filter.record {
        return past(db, record, filter);
    }
    // What is shown of a command does not need its body, which may be long.
    let columns = WRITTEN.replace("command, before, ", "'', '', ").replace("told, ", "NULL, ");
    let sql = format!("SELECT {columns} FROM command WHERE revision < ?1 ORDER BY revision DESC");
    let mut statement = db.prepare_cached(&sql)?;
    let below = i64::try_from(filter.below).unwrap_or(i64::MAX);
    let mut entries = Vec::new();
    let mut rows = statement.query([below])?;
    while let Some(row) = rows.next()? {
        let entry = Written::read(row)?;
        if entry.holds(&filter.words) {
            entries.push(entry.entry()?);
        }
        if entries.len() >= filter.most as usize {
            break;
        }
    }
    Ok(entries)
}

/// The commands that changed a record, the last first: each says what had changed it
/// before.
fn past(db: &Connection, record: &RecordName, filter: &AuditFilter) -> Result<Vec<AuditEntry>, RecordsError> {
    let (mut entries, mut record) = (Vec::new(), record.clone());
    let mut next = tables::revision(db, &record)?.unwrap_or(0);
    while next > 0 && entries.len() < filter.most as usize {
        let Some(written) = Written::find(db, next)? else { break };
        let (body, before) = (read::<Body>(&written.command)?, read::<Before>(&written.before)?);
        if next < filter.below && written.holds(&filter.words) {
            entries.push(written.entry()?);
        }
        if let Some(was) = called_before(&body.command, &record) {
            record = was;
        }
        // No command has itself or a later one before it.
        next = before.revisions.get(&record.folded().path()).copied().filter(|earlier| *earlier < next).unwrap_or(0);
    }
    Ok(entries)
}

/// What a record was called before a command that changed it, where that was otherwise: by this
/// command, or by one that renamed its store since.
fn called_before(command: &Command, record: &RecordName) -> Option<RecordName> {
    let rows = command.rows();
    if let RecordName::Device { store, mac } = record {
        let mut stores = rows.devices.iter().filter(|row| (row.first..=row.last).contains(mac)).map(|row| &row.store);
        let first = stores.next()?;
        let elsewhere = first != store && stores.all(|other| other == first);
        return elsewhere.then(|| RecordName::Device { store: first.clone(), mac: *mac });
    }
    let Command::Change { was, .. } = command else { return None };
    if was.iter().any(|was| was.folded() == record.folded()) {
        return None;
    }
    let now: HashSet<_> = rows.names().map(|name| name.folded()).collect();
    let gone: Vec<_> = was.iter().filter(|was| was.kind() == record.kind() && !now.contains(&was.folded())).collect();
    let same_name = |was: &&&RecordName| was.parts().1.to_lowercase() == record.parts().1.to_lowercase();
    match &gone[..] {
        [one] => Some((*one).clone()),
        several => several.iter().find(same_name).map(|was| (*was).clone()),
    }
}

impl Written {
    fn holds(&self, words: &[String]) -> bool {
        holds([&self.author, &self.source, &self.what, &self.subject], words)
    }
}

/// Whether every one of these words, in small letters, stands in some of the texts.
pub(crate) fn holds(texts: [&String; 4], words: &[String]) -> bool {
    let texts = texts.map(|text| text.to_lowercase());
    words.iter().all(|word| texts.iter().any(|text| text.contains(word)))
}

/// A command with what it changed, field by field; no secret is in it.
pub(crate) fn entry(db: &Connection, revision: u64) -> Result<Option<(AuditEntry, Vec<FieldChange>)>, RecordsError> {
    let Some(written) = Written::find(db, revision)? else { return Ok(None) };
    let (body, before) = (read::<Body>(&written.command)?, read::<Before>(&written.before)?);
    let entry = written.entry()?;
    let changed = match entry.outcome {
        Outcome::Done(_) => changes(&before.rows, &body.command.rows())?,
        _ => Vec::new(),
    };
    Ok(Some((entry, changed)))
}

fn subject(command: &Command, outcome: &Outcome) -> String {
    match command {
        Command::Import(import) => {
            let rows = &import.rows;
            let devices: u64 = rows.devices.iter().map(crate::rows::DeviceRow::count).sum();
            let counts = [
                (rows.stores.len() as u64, "stores"),
                (rows.nases.len() as u64, "NASes"),
                (rows.people.len() as u64, "people"),
                (rows.machines.len() as u64, "machines"),
                (devices, "devices"),
                (rows.administrators.len() as u64, "administrators"),
                (rows.common_names.len() as u64, "groups and sites"),
            ];
            let counts = counts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{what}: {count}"));
            format!("{} (file {})", counts.collect::<Vec<_>>().join(", "), &import.file)
        }
        Command::Add(rows) => several(rows.names()),
        Command::Change { was, rows } => {
            let new = several(rows.names());
            match &was[..] {
                [was] if rows.names().next().is_none_or(|name| name.folded() != was.folded()) => {
                    format!("{}, now {new}", short(was))
                }
                _ => new,
            }
        }
        Command::Remove(names) => several(names.iter().cloned()),
        Command::Reveal(name) => short(name),
        Command::SetCertificate(row) => row.name.clone(),
        Command::SetTrust(row) => row.name.clone(),
        Command::SetSecondFactor { administrator, .. } => administrator.clone(),
        Command::AddToken { hash, administrator, name, .. } if name.is_empty() => {
            format!("{} of {administrator}", hash.id())
        }
        Command::AddToken { hash, administrator, name, .. } => format!("{name} ({}) of {administrator}", hash.id()),
        Command::ChangeToken { hash, .. } | Command::RemoveToken { hash } => hash.id(),
        Command::RemoveTokens { administrator } => administrator.clone(),
        Command::Personal(Personal::OpenSession { administrator, .. }) => administrator.clone(),
        Command::Personal(_) => String::new(),
        Command::Backup { with_key: true } => "with the sealing key".into(),
        Command::Backup { with_key: false } => "without the sealing key".into(),
        Command::Restore { made, replaced, keep_tokens } => {
            let replaced = match replaced {
                Some((revision, chain)) => format!(", in the place of {revision}:{chain}"),
                None => String::new(),
            };
            let tokens = if *keep_tokens { "; tokens go on" } else { "; tokens ended" };
            format!("of {made}{replaced}{tokens}")
        }
        Command::ActivateEdition { source, included, note, .. } => {
            let bytes = source.len() + included.values().map(String::len).sum::<usize>();
            let why = if note.is_empty() { String::new() } else { format!(": {note}") };
            match outcome {
                Outcome::Done(Done { edition: Some(edition) }) => format!("edition {edition} ({bytes} bytes){why}"),
                _ => format!("{bytes} bytes{why}"),
            }
        }
        Command::SetSecret(row) => row.name.clone(),
        Command::RemoveSecret { name } => name.clone(),
        Command::SetLanguage { row, .. } => row.name.clone(),
        Command::RemoveLanguage { name, .. } => name.clone(),
        Command::UseKey { key } => key.to_string(),
        #[cfg(feature = "next-release")]
        Command::SayMore { nas, .. } => nas.clone(),
    }
}

/// Names that the kind stands beside already.
fn several(names: impl Iterator<Item = RecordName>) -> String {
    const SHOWN: usize = 5;
    let mut names: Vec<_> = names.take(SHOWN + 1).map(|name| short(&name)).collect();
    if names.len() > SHOWN {
        names.truncate(SHOWN);
        names.push("and more".into());
    }
    names.join(", ")
}

fn short(name: &RecordName) -> String {
    match name {
        RecordName::Person { store, name } | RecordName::Machine { store, name } => format!("{name} in {store}"),
        RecordName::Device { store, mac } => format!("{mac} in {store}"),
        RecordName::Store(name)
        | RecordName::Nas(name)
        | RecordName::Certificate(name)
        | RecordName::Trust(name)
        | RecordName::Administrator(name)
        | RecordName::Secret(name)
        | RecordName::Language { name, .. }
        | RecordName::CommonName { name, .. } => name.clone(),
    }
}

/// Seals every secret in the log under another key.
pub(crate) fn seal_anew(db: &Connection, from: &SealingKey, to: &SealingKey) -> Result<(), RecordsError> {
    let last = last_revision(db)?;
    for revision in 1..=last {
        // Where nothing was masked there is no secret.
        let sql = "SELECT command, before FROM command WHERE revision = ?1 AND told IS NOT NULL";
        let texts = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?));
        let found = db.prepare_cached(sql)?.query_row([revision.cast_signed()], texts).optional()?;
        let Some((command, before)) = found else { continue };
        let (mut body, mut before) = (read::<Body>(&command)?, read::<Before>(&before)?);
        body.command.secrets(seal_anew_with(from, to))?;
        before.rows.secrets(seal_anew_with(from, to))?;
        let sql = "UPDATE command SET command = ?2, before = ?3 WHERE revision = ?1";
        db.prepare_cached(sql)?.execute(params![revision.cast_signed(), text(&body), text(&before)])?;
    }
    Ok(())
}

fn text(value: &impl Serialize) -> String {
    serde_json::to_string(value).expect("commands have names for keys")
}

fn read<T: DeserializeOwned>(text: &str) -> Result<T, RecordsError> {
    serde_json::from_str(text).map_err(|error| RecordsError::Damaged(format!("the log of commands: {error}")))
}
