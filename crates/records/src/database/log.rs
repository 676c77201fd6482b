//! Every command in the order in which it was applied, and what is shown of it.

use rusqlite::{Connection, OptionalExtension, params};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::command::{Command, CommandId, Done, Envelope, Expected, Outcome};
use crate::error::RecordsError;
use crate::rows::Rows;
use crate::sealing::{SealingKey, hex, seal_anew_with};

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
    /// What was to be done.
    pub what: &'static str,
    /// To what: a name, or what came in by how many.
    pub subject: String,
    /// What came of it.
    pub outcome: Outcome,
}

/// What is kept of a command beside columns of its own.
#[derive(Serialize, Deserialize)]
struct Body {
    expected: Expected,
    command: Command,
}

/// What came of a command, where it was applied before.
pub(crate) fn outcome_of(db: &Connection, id: CommandId) -> Result<Option<Outcome>, RecordsError> {
    let sql = "SELECT outcome FROM command WHERE id = ?1";
    let found = db.query_row(sql, [id.bytes()], |row| row.get::<_, String>(0)).optional()?;
    found.map(|outcome| read(&outcome)).transpose()
}

/// How many commands there are.
pub(crate) fn last_revision(db: &Connection) -> Result<u64, RecordsError> {
    let last: i64 = db.query_row("SELECT coalesce(max(revision), 0) FROM command", [], |row| row.get(0))?;
    Ok(last.cast_unsigned())
}

pub(crate) fn add(
    db: &Connection,
    revision: u64,
    envelope: &Envelope,
    outcome: &Outcome,
    before: &Rows,
) -> Result<(), RecordsError> {
    let body = Body { expected: envelope.expected, command: envelope.command.clone() };
    let sql = "INSERT INTO command (revision, id, version, author, at, command, outcome, before)
               VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)";
    db.execute(
        sql,
        params![
            revision.cast_signed(),
            envelope.id.bytes(),
            envelope.version,
            envelope.author,
            envelope.at.cast_signed(),
            text(&body),
            text(outcome),
            text(before),
        ],
    )?;
    Ok(())
}

/// The commands below a revision, the last first.
pub(crate) fn audit(db: &Connection, below: u64, most: u32) -> Result<Vec<AuditEntry>, RecordsError> {
    let sql = "SELECT revision, id, at, author, command, outcome FROM command
               WHERE revision < ?1 ORDER BY revision DESC LIMIT ?2";
    let mut statement = db.prepare_cached(sql)?;
    let mut rows = statement.query(params![i64::try_from(below).unwrap_or(i64::MAX), most])?;
    let mut entries = Vec::new();
    while let Some(row) = rows.next()? {
        let command = read::<Body>(row.get_ref(4)?.as_str().map_err(rusqlite::Error::from)?)?.command;
        let outcome = read(row.get_ref(5)?.as_str().map_err(rusqlite::Error::from)?)?;
        entries.push(AuditEntry {
            revision: row.get::<_, i64>(0)?.cast_unsigned(),
            id: CommandId::from_bytes(row.get(1)?),
            at: row.get::<_, i64>(2)?.cast_unsigned(),
            author: row.get(3)?,
            what: command.word(),
            subject: subject(&command, &outcome),
            outcome,
        });
    }
    Ok(entries)
}

fn subject(command: &Command, outcome: &Outcome) -> String {
    match command {
        Command::Import(import) => {
            let rows = &import.rows;
            let devices: u64 = rows.devices.iter().map(super::super::rows::DeviceRow::count).sum();
            let counts = [
                (rows.stores.len() as u64, "stores"),
                (rows.nases.len() as u64, "NASes"),
                (rows.people.len() as u64, "people"),
                (rows.machines.len() as u64, "machines"),
                (devices, "devices"),
            ];
            let counts = counts.iter().filter(|(count, _)| *count > 0).map(|(count, what)| format!("{what}: {count}"));
            format!("{} (file {})", counts.collect::<Vec<_>>().join(", "), &import.file)
        }
        Command::AddNas(row) => row.name.clone(),
        Command::ChangeNas { was, row } if *was != row.name => format!("{was}, now {}", row.name),
        Command::ChangeNas { row, .. } => row.name.clone(),
        Command::RemoveNas { name } | Command::RevealNasSecret { name } => name.clone(),
        Command::SetCertificate(row) => row.name.clone(),
        Command::SetTrust(row) => row.name.clone(),
        Command::SetAdministrator(row) => row.name.clone(),
        Command::AddToken { hash, administrator } => format!("{} of {administrator}", hex(&hash.0[..4])),
        Command::RemoveToken { hash } => hex(&hash.0[..4]),
        Command::ActivateEdition { source, .. } => match outcome {
            Outcome::Done(Done { edition: Some(edition) }) => format!("edition {edition} ({} bytes)", source.len()),
            _ => format!("{} bytes", source.len()),
        },
        Command::SetSecret(row) => row.name.clone(),
        Command::RemoveSecret { name } => name.clone(),
        Command::SetLanguage { row, .. } => row.name.clone(),
        Command::RemoveLanguage { name, .. } => name.clone(),
        Command::UseKey { key } => key.to_string(),
    }
}

/// Seals every secret in the log under another key.
pub(crate) fn seal_anew(db: &Connection, from: &SealingKey, to: &SealingKey) -> Result<(), RecordsError> {
    let last = last_revision(db)?;
    for revision in 1..=last {
        let sql = "SELECT command, before FROM command WHERE revision = ?1";
        let texts = |row: &rusqlite::Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?));
        let (command, before) = db.prepare_cached(sql)?.query_row([revision.cast_signed()], texts)?;
        let (mut body, mut before) = (read::<Body>(&command)?, read::<Rows>(&before)?);
        body.command.secrets(seal_anew_with(from, to))?;
        before.secrets(seal_anew_with(from, to))?;
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
