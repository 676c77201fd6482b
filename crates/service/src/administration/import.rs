//! Records by the thousand, line after line: what each says is checked as it comes, in
//! bounded memory, and then all of them are applied in one transaction.

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Seek, Write};

use regnant_policy::Mac;
use regnant_records::{
    Author, Batch, Command, CommonNameEntry, CommonNameKind, DeclaredAttributes, DeviceEntry, Envelope, Import, Keep,
    LocalStores, MachineEntry, Marked, NasEntry, PersonEntry, Reading, RecordName, Records, RecordsError, Refusal,
    Rows, StoreEntry, StoreKind, copy_database, new_token,
};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use crate::administration::administrators::AdministratorEntry;
use crate::administration::committer::Committer;
use crate::administration::entries;
use crate::administration::inventories::Inventories;
use crate::administration::{AdministrationError, RecordVersion};
use crate::backup::{REHEARSAL, UnderWay};
use crate::clock::now_ms;
use crate::snapshot::Snapshot;

/// Lines of one import.
const MOST_LINES: u64 = 4_000_000;
/// Bytes of one line.
const LONGEST_LINE: u64 = 64 << 10;
/// Lines whose refusal is told one by one; the others are counted.
const MOST_TOLD: usize = 1_000;
/// Records of one command.
const AT_ONCE: usize = 2_000;
/// What separates the members of a list in a cell.
const BETWEEN: char = ';';

/// What kind of record the lines are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ImportKind {
    Nases,
    People,
    Machines,
    Devices,
    Groups,
    Sites,
    Stores,
    Administrators,
}

impl ImportKind {
    pub(crate) fn of(word: &str) -> Option<Self> {
        match word {
            "nases" => Some(Self::Nases),
            "people" => Some(Self::People),
            "machines" => Some(Self::Machines),
            "devices" => Some(Self::Devices),
            "groups" => Some(Self::Groups),
            "sites" => Some(Self::Sites),
            "stores" => Some(Self::Stores),
            "administrators" => Some(Self::Administrators),
            _ => None,
        }
    }

    /// The kinds, as errors tell them.
    pub(crate) const WORDS: &'static str =
        "`nases`, `people`, `machines`, `devices`, `groups`, `sites`, `stores` or `administrators`";

    /// Records of one command: of those that may be refused for what others are, one.
    fn at_once(self) -> usize {
        match self {
            Self::Nases | Self::Stores | Self::Administrators => 1,
            Self::People | Self::Machines | Self::Devices | Self::Groups | Self::Sites => AT_ONCE,
        }
    }
}

/// How lines are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LineForm {
    /// Cells with commas between them (RFC 4180), the names of the fields first.
    Csv,
    /// A JSON object in each line.
    Json,
}

/// What is wanted of an import.
#[derive(Clone, Debug)]
pub(crate) struct ImportOrder {
    pub(crate) kind: ImportKind,
    pub(crate) form: LineForm,
    /// The store of lines that name none.
    pub(crate) store: Option<String>,
    /// Whether only what would come of it is wanted.
    pub(crate) dry_run: bool,
    /// Whether nothing is applied where one line is refused.
    pub(crate) all_or_none: bool,
}

/// What came of an import.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct ImportReport {
    /// Lines that say something of a record that was not there.
    pub(crate) added: u64,
    /// Lines that say something of a record that was.
    pub(crate) changed: u64,
    /// Lines that were refused.
    pub(crate) refused: u64,
    /// The first of them, by number, with why.
    pub(crate) told: Vec<(u64, String)>,
    /// Whether the others are in force.
    pub(crate) applied: bool,
}

/// A line that was checked.
#[derive(Serialize, Deserialize)]
struct Checked {
    line: u64,
    is_new: bool,
    rows: Rows,
    /// What it says, without what proves somebody: the row has that already, as it is kept.
    said: Map<String, Value>,
    /// Whether it says that.
    proves: bool,
    /// The record as it was then, where there was one.
    seen: Option<RecordVersion>,
}

/// Lines that were checked, on the disk until all are.
struct Spool {
    file: BufWriter<File>,
    count: u64,
}

impl Inventories {
    /// Imports lines. What a line does not say stays as it is on a record that is there, also where somebody else
    /// changed that while the lines came. `stands` says whether whoever sent them may still do so.
    pub(crate) fn import_lines(
        &self,
        order: &ImportOrder,
        input: impl Read,
        by: &Author,
        stands: impl Fn() -> bool,
    ) -> Result<ImportReport, AdministrationError> {
        let mut report = ImportReport::default();
        let snapshot = self.committer.snapshot.load_full();
        let declared = snapshot.languages.declared();
        let reading = Lines { committer: &self.committer, order, by, declared, snapshot };
        let mut spool = Spool::new(&self.committer.environment.folder)?;
        let revision = self.committer.records.revision()?;
        reading.check_all(input, &mut spool, &mut report)?;
        if order.all_or_none && report.refused > 0 {
            return Ok(report);
        }
        // An upload takes its time, and who may do this is another by now, perhaps.
        if !stands() {
            return Err(AdministrationError::NoLonger);
        }
        match order.dry_run {
            true => self.rehearse(&reading, spool, &mut report, by)?,
            false => self.apply(&reading, spool, revision, &mut report, by)?,
        }
        Ok(report)
    }

    /// What would come of it, tried with a copy: nobody waits for that.
    fn rehearse(
        &self,
        reading: &Lines<'_>,
        mut spool: Spool,
        report: &mut ImportReport,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let environment = &self.committer.environment;
        let folder = UnderWay::begin(environment.folder.join(REHEARSAL)).map_err(AdministrationError::Spool)?;
        let copy = folder.0.join("records.sqlite");
        copy_database(self.committer.records.path(), &copy)?;
        let records = Records::open(&copy, &environment.key, now_ms())?;
        let mut lines = spool.lines()?;
        records.batch(|batch| {
            put_all(batch, reading.order, &mut lines, report, (by, &mut |_| Ok(())))?;
            Ok::<_, AdministrationError>(((), Keep::Nothing))
        })
    }

    fn apply(
        &self,
        reading: &Lines<'_>,
        mut spool: Spool,
        revision: u64,
        report: &mut ImportReport,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let (committer, order) = (&self.committer, reading.order);
        let turn = committer.turn();
        let before = committer.snapshot.load_full();
        let mut stores = LocalStores::clone(&before.stores);
        let mut nases = Rows::default();
        // What others changed while the lines came stays, where a line does not say otherwise.
        let changed = committer.records.revision()? != revision;
        let refused = RefCell::new(Vec::new());
        let mut lines = spool.lines()?.filter_map(|line| match line {
            Ok(line) if changed => {
                let number = line.line;
                reading.over_what_is_there(line).map_err(|why| refused.borrow_mut().push((number, why))).ok().map(Ok)
            }
            line => Some(line),
        });
        committer.records.batch(|batch| {
            let mut keep = |rows: Rows| {
                stores.add(&rows)?;
                nases.nases.extend(rows.nases);
                Ok(())
            };
            put_all(batch, order, &mut lines, report, (by, &mut keep))?;
            refused.take().into_iter().for_each(|(line, why)| report.refuse(line, why));
            report.applied = !(order.all_or_none && report.refused > 0);
            Ok::<_, AdministrationError>(((), if report.applied { Keep::All } else { Keep::Nothing }))
        })?;
        if report.applied {
            let after = committer.environment.with_records(&before, &[], &nases)?;
            turn.swap(after.with_stores(stores));
            committer.write_texts();
        }
        Ok(())
    }
}

/// Puts what lines say into the records.
fn put_all(
    batch: &mut Batch<'_>,
    order: &ImportOrder,
    lines: &mut impl Iterator<Item = Result<Checked, AdministrationError>>,
    report: &mut ImportReport,
    (by, keep): (&Author, &mut dyn FnMut(Rows) -> Result<(), AdministrationError>),
) -> Result<(), AdministrationError> {
    let file = format!("{:08x}", now_ms() as u32);
    loop {
        let (mut rows, mut checked) = (Rows::default(), Vec::new());
        while checked.len() < order.kind.at_once() {
            let Some(next) = lines.next() else { break };
            let next = next?;
            checked.push((next.line, next.is_new));
            rows.extend(next.rows);
        }
        if checked.is_empty() {
            return Ok(());
        }
        if rows.names().next().is_none() {
            report.changed += checked.len() as u64;
            continue;
        }
        let command = Command::Import(Import { file: file.clone(), rows });
        let envelope = Envelope::new(by, now_ms(), command);
        match batch.apply(&envelope)? {
            Ok(_) => {
                let Command::Import(Import { rows, .. }) = envelope.command else { continue };
                keep(rows)?;
                for (_, is_new) in checked {
                    *(if is_new { &mut report.added } else { &mut report.changed }) += 1;
                }
            }
            Err(refusal) => {
                checked.iter().for_each(|(line, _)| report.refuse(*line, sentence(&refusal)));
            }
        }
    }
}

fn sentence(refusal: &Refusal) -> String {
    refusal.to_string()
}

impl ImportReport {
    fn refuse(&mut self, line: u64, why: String) {
        self.refused += 1;
        if self.told.len() < MOST_TOLD {
            self.told.push((line, why));
        }
    }
}

impl Spool {
    fn new(folder: &std::path::Path) -> Result<Self, AdministrationError> {
        let file = tempfile::tempfile_in(folder).map_err(AdministrationError::Spool)?;
        Ok(Self { file: BufWriter::new(file), count: 0 })
    }

    fn keep(&mut self, checked: &Checked) -> io::Result<()> {
        self.count += 1;
        serde_json::to_writer(&mut self.file, checked)?;
        self.file.write_all(b"\n")
    }

    fn lines(
        &mut self,
    ) -> Result<impl Iterator<Item = Result<Checked, AdministrationError>> + use<>, AdministrationError> {
        let rewound = self.file.flush().and_then(|()| self.file.get_mut().rewind());
        rewound.map_err(AdministrationError::Spool)?;
        let file = self.file.get_ref().try_clone().map_err(AdministrationError::Spool)?;
        Ok(BufReader::new(file).lines().map(|line| {
            let line = line.map_err(AdministrationError::Spool)?;
            serde_json::from_str(&line).map_err(|error| AdministrationError::Spool(error.into()))
        }))
    }
}

/// What reads lines.
struct Lines<'l> {
    committer: &'l Committer,
    order: &'l ImportOrder,
    by: &'l Author,
    declared: DeclaredAttributes,
    snapshot: std::sync::Arc<Snapshot>,
}

impl Lines<'_> {
    fn check_all(
        &self,
        input: impl Read,
        spool: &mut Spool,
        report: &mut ImportReport,
    ) -> Result<(), AdministrationError> {
        let stores = self.committer.records.all()?;
        let dialects: Vec<_> = self.snapshot.languages.dialects.iter().map(|dialect| dialect.name.clone()).collect();
        let mut take = |line: u64, said: Result<Map<String, Value>, String>| {
            if line > MOST_LINES {
                return Err(AdministrationError::TooManyLines(MOST_LINES));
            }
            let checked = said.and_then(|mut said| {
                let (seen, rows) = self.check(said.clone(), &stores, &dialects)?;
                let mut proves = false;
                for field in ["password", "password-hash", "nt-hash"] {
                    proves |= said.remove(field).is_some();
                }
                Ok(Checked { line, is_new: seen.is_none(), rows, said, proves, seen })
            });
            match checked {
                Ok(checked) => spool.keep(&checked).map_err(AdministrationError::Spool)?,
                Err(why) => report.refuse(line, why),
            }
            Ok(())
        };
        match self.order.form {
            LineForm::Csv => csv_lines(input, &mut take),
            LineForm::Json => json_lines(input, &mut take),
        }
    }

    /// The same line over what its record says by now, where somebody changed that.
    fn over_what_is_there(&self, checked: Checked) -> Result<Checked, String> {
        let stores = self.committer.records.all().map_err(|error: RecordsError| error.to_string())?;
        let dialects: Vec<_> = self.snapshot.languages.dialects.iter().map(|dialect| dialect.name.clone()).collect();
        if self.version(&checked.rows)? == checked.seen {
            return Ok(checked);
        }
        let Checked { line, rows: then, said, proves, .. } = checked;
        let mut again = said.clone();
        if proves {
            // In the place of what was checked already, and is put back below.
            again.insert("password".into(), new_token().into());
        }
        let (seen, mut rows) = self.check(again, &stores, &dialects)?;
        if proves {
            for (row, then) in rows.people.iter_mut().zip(then.people) {
                (row.password_hash, row.recoverable, row.nt_hash) =
                    (then.password_hash, then.recoverable, then.nt_hash);
            }
            for (row, then) in rows.machines.iter_mut().zip(then.machines) {
                (row.password_hash, row.nt_hash) = (then.password_hash, then.nt_hash);
            }
            for (row, then) in rows.administrators.iter_mut().zip(then.administrators) {
                row.password_hash = then.password_hash;
            }
        }
        Ok(Checked { line, is_new: seen.is_none(), rows, said, proves, seen })
    }

    /// The version of the record that rows are about, as it is now.
    fn version(&self, rows: &Rows) -> Result<Option<RecordVersion>, String> {
        let Some(name) = rows.names().next() else { return Ok(None) };
        // Most devices of a large file are new, and a look into memory tells.
        if let RecordName::Device { store, mac } = &name
            && !self.committer.snapshot.load().stores.lists(store, *mac)
        {
            return Ok(None);
        }
        let found = self.committer.records.find(&name).map_err(|error| error.to_string())?;
        Ok(found.names().next().map(|_| RecordVersion::of(&found)))
    }

    /// What a line says of a record, over what the record says already; with that record's version.
    fn check(
        &self,
        mut said: Map<String, Value>,
        stores: &[regnant_records::StoreRow],
        dialects: &[String],
    ) -> Result<(Option<RecordVersion>, Rows), String> {
        let holds = match self.order.kind {
            ImportKind::Nases
            | ImportKind::Groups
            | ImportKind::Sites
            | ImportKind::Stores
            | ImportKind::Administrators => None,
            ImportKind::People | ImportKind::Machines => Some(StoreKind::People),
            ImportKind::Devices => Some(StoreKind::Devices),
        };
        if let Some(kind) = holds {
            let named = said.get("store").and_then(Value::as_str).map(str::to_owned);
            let fit = stores.iter().filter(|row| row.kind == kind);
            let store = named.or_else(|| self.order.store.clone());
            let store =
                store.or_else(|| fit.clone().next().map(|row| row.name.clone()).filter(|_| fit.clone().count() == 1));
            let store = store.ok_or_else(|| format!("it names no store of {}", kind.word()))?;
            if !fit.clone().any(|row| row.name == store) {
                return Err(format!("there is no store `{store}` of {}", kind.word()));
            }
            said.insert("store".into(), store.into());
        }
        if said.get("barred-reason").and_then(Value::as_str).is_some_and(|reason| !reason.is_empty()) {
            said.entry("barred").or_insert(true.into());
        }
        let text = |field: &str| said.get(field).and_then(Value::as_str).unwrap_or_default().to_owned();
        let (store, name) = (text("store"), text("name"));
        let wrong = |error: serde_json::Error| error.to_string();
        let told = |error: regnant_records::InventoryError| error.to_string();
        let (key, records) = (&self.committer.environment.key, &self.committer.records);
        let mut seen = None;
        let mut found = |record: RecordName| {
            let rows = records.find(&record).map_err(|error| error.to_string())?;
            seen = rows.names().next().map(|_| RecordVersion::of(&rows));
            Ok::<_, String>(rows)
        };
        let mut rows = Rows::default();
        match self.order.kind {
            ImportKind::Nases => {
                let before = found(RecordName::Nas(name))?.nases.pop();
                let entry: NasEntry = over(before.as_ref().map(entries::nas), said).map_err(wrong)?;
                rows.nases.push(entry.row(key, dialects, before.as_ref()).map_err(told)?);
            }
            ImportKind::People => {
                let before = found(RecordName::Person { store, name })?.people.pop();
                let entry: PersonEntry = over(before.as_ref().map(entries::person), said).map_err(wrong)?;
                rows.people.push(entry.row(key, before.as_ref()).map_err(told)?);
            }
            ImportKind::Machines => {
                let before = found(RecordName::Machine { store, name })?.machines.pop();
                let entry: MachineEntry = over(before.as_ref().map(entries::machine), said).map_err(wrong)?;
                rows.machines.push(entry.row(key, before.as_ref()).map_err(told)?);
            }
            ImportKind::Devices => {
                let mac = text("mac").parse::<Mac>().map_err(|error| format!("`mac`: {error}"))?;
                // Most devices of a large file are new, and a look into memory tells.
                let before = match self.snapshot.stores.lists(&store, mac) {
                    true => found(RecordName::Device { store, mac })?.devices.pop(),
                    false => None,
                };
                let entry: DeviceEntry = over(before.as_ref().map(entries::device), said).map_err(wrong)?;
                let marked = Marked { by: &self.by.name, at: now_ms().cast_signed(), declared: &self.declared };
                let mut row = entry.row(marked).map_err(told)?;
                let reason = |row: &regnant_records::DeviceRow| row.barred.as_ref().map(|barred| barred.reason.clone());
                if let Some(before) = &before
                    && reason(&row) == reason(before)
                {
                    row.barred.clone_from(&before.barred);
                }
                rows.devices.push(row);
            }
            ImportKind::Groups | ImportKind::Sites => {
                let kind = match self.order.kind {
                    ImportKind::Groups => CommonNameKind::Group,
                    _ => CommonNameKind::Site,
                };
                let before = found(RecordName::CommonName { kind, name })?.common_names.pop();
                let kept = before.map(|row| CommonNameEntry { name: row.name, note: row.note, ordinary: row.ordinary });
                let entry: CommonNameEntry = over(kept, said).map_err(wrong)?;
                rows.common_names.push(entry.row(kind).map_err(told)?);
            }
            ImportKind::Stores => {
                let entry: StoreEntry = over(None::<StoreEntry>, said).map_err(wrong)?;
                let row = entry.row().map_err(told)?;
                let known = stores.iter().find(|known| known.name == row.name);
                if known.is_some_and(|known| known.kind != row.kind) {
                    return Err(format!("store `{}` exists already and holds something else", row.name));
                }
                rows.stores.extend(known.is_none().then_some(row));
                seen = known.map(|known| RecordVersion::of(&Rows { stores: vec![known.clone()], ..Rows::default() }));
            }
            ImportKind::Administrators => {
                let before = found(RecordName::Administrator(name))?.administrators.pop();
                let entry: AdministratorEntry =
                    over(before.as_ref().map(AdministratorEntry::of), said).map_err(wrong)?;
                let row = entry.row(key, before.as_ref()).map_err(|error| error.to_string())?;
                // Whoever stays as they are stays signed in.
                rows.administrators.extend((before.as_ref() != Some(&row)).then_some(row));
            }
        }
        Ok((seen, rows))
    }
}

/// What a record says, with what a line says in its place.
fn over<E: serde::Serialize + serde::de::DeserializeOwned>(
    before: Option<E>,
    said: Map<String, Value>,
) -> Result<E, serde_json::Error> {
    let whole = match before.map(|entry| serde_json::to_value(entry)).transpose()? {
        Some(Value::Object(mut whole)) => {
            for (name, value) in said {
                match (whole.get_mut(&name), value) {
                    // Of attributes too, what is not said stays.
                    (Some(Value::Object(before)), Value::Object(said)) => before.extend(said),
                    (_, value) => drop(whole.insert(name, value)),
                }
            }
            whole
        }
        _ => said,
    };
    serde_json::from_value(Value::Object(whole))
}

/// Each line that is no empty one, by its number.
type Take<'t> = &'t mut dyn FnMut(u64, Result<Map<String, Value>, String>) -> Result<(), AdministrationError>;

/// Reads lines, and gives how many say something of a record.
pub fn read_all(csv: bool, input: impl Read) -> Result<u64, AdministrationError> {
    let mut count = 0;
    let mut take = |_, said: Result<Map<String, Value>, String>| {
        count += u64::from(said.is_ok());
        Ok(())
    };
    if csv {
        csv_lines(input, &mut take)?;
    } else {
        json_lines(input, &mut take)?;
    }
    Ok(count)
}

fn json_lines(input: impl Read, take: Take<'_>) -> Result<(), AdministrationError> {
    let mut input = BufReader::new(input);
    for number in 1.. {
        let mut line = Vec::new();
        let read = input.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line);
        match read.map_err(AdministrationError::Broken)? {
            0 => break,
            got if got as u64 == LONGEST_LINE && line.last() != Some(&b'\n') => {
                return Err(AdministrationError::LongLine(number, LONGEST_LINE));
            }
            _ => {}
        }
        if line.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        let said = serde_json::from_slice::<Map<String, Value>>(&line).map(|said| {
            let fields = said.into_iter().filter(|(_, value)| !value.is_null());
            fields.map(|(name, value)| (field(&name), value)).collect()
        });
        take(number, said.map_err(|error| format!("it is no JSON object: {error}")))?;
    }
    Ok(())
}

fn csv_lines(input: impl Read, take: Take<'_>) -> Result<(), AdministrationError> {
    let mut reader = csv::ReaderBuilder::new().flexible(true).trim(csv::Trim::All).from_reader(Bounded::new(input));
    let broken = |error: csv::Error| match error.into_kind() {
        csv::ErrorKind::Io(error) => AdministrationError::Broken(error),
        kind => AdministrationError::Csv(format!("{kind:?}")),
    };
    let head = reader.byte_headers().map_err(broken)?.clone();
    let names: Vec<_> = head.iter().map(|cell| field(&String::from_utf8_lossy(cell))).collect();
    let mut record = csv::ByteRecord::new();
    while reader.read_byte_record(&mut record).map_err(broken)? {
        reader.get_mut().begin_line();
        let line = record.position().map_or(0, csv::Position::line);
        take(line, cells(&names, &record))?;
    }
    Ok(())
}

fn cells(names: &[String], record: &csv::ByteRecord) -> Result<Map<String, Value>, String> {
    if record.len() > names.len() {
        return Err(format!("it has {} cells, and the first line names {} fields", record.len(), names.len()));
    }
    let mut said = Map::new();
    for (name, cell) in names.iter().zip(record) {
        let text = std::str::from_utf8(cell).map_err(|_| format!("`{name}` is not UTF-8"))?;
        // As cells are written that a spreadsheet would run.
        let text = match text.strip_prefix('\'') {
            Some(rest) if rest.starts_with(['=', '+', '-', '@', '\t', '\r']) => rest,
            _ => text,
        };
        if let Some(attribute) = name.strip_prefix("attributes.") {
            let attributes = said.entry("attributes").or_insert_with(|| Map::new().into());
            attributes.as_object_mut().map(|all| all.insert(attribute.to_owned(), text.into()));
        } else if !name.is_empty() {
            said.insert(name.clone(), typed(name, text)?);
        }
    }
    // A cell that is empty says nothing of what may be left out.
    let silent = |name: &String, value: &Value| {
        value == ""
            && matches!(&**name, "store" | "password" | "password-hash" | "nt-hash" | "secret" | "last" | "expires")
    };
    said.retain(|name, value| !silent(name, value));
    Ok(said)
}

/// A cell as the type that its field has.
fn typed(name: &str, text: &str) -> Result<Value, String> {
    let list = || text.split(BETWEEN).map(str::trim).filter(|part| !part.is_empty()).map(Value::from).collect();
    Ok(match name {
        "groups" | "tags" | "address" => Value::Array(list()),
        "disabled"
        | "mschap"
        | "recoverable-password"
        | "engineers-only"
        | "barred"
        | "class-at-login"
        | "require-message-authenticator" => match text.to_lowercase().as_str() {
            "true" | "yes" | "1" => true.into(),
            "false" | "no" | "0" | "" => false.into(),
            _ => return Err(format!("`{name}` is true or false, and not `{}`", text.escape_debug())),
        },
        _ => text.into(),
    })
}

/// The name of a field, as a file or an export writes it.
fn field(name: &str) -> String {
    let name = name.trim().trim_start_matches('\u{feff}').to_lowercase().replace('_', "-");
    match name.as_str() {
        "addresses" => "address".into(),
        _ => name,
    }
}

/// Input no record of which may be longer than a line may.
struct Bounded<R> {
    input: R,
    left: u64,
}

impl<R> Bounded<R> {
    fn new(input: R) -> Self {
        Self { input, left: ROOM }
    }

    fn begin_line(&mut self) {
        self.left = ROOM;
    }
}

/// A reader takes some input ahead.
const ROOM: u64 = 4 * LONGEST_LINE;

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.left == 0 {
            return Err(io::Error::other(format!("a line has more than {LONGEST_LINE} bytes: is a quote missing?")));
        }
        let most = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        let got = self.input.read(&mut buffer[..most])?;
        self.left -= got as u64;
        Ok(got)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    type Line = (u64, Result<Map<String, Value>, String>);

    fn read(form: LineForm, text: &[u8]) -> Result<Vec<Line>, String> {
        let mut all = Vec::new();
        let mut take = |line, said| {
            all.push((line, said));
            Ok(())
        };
        let read = match form {
            LineForm::Csv => csv_lines(text, &mut take),
            LineForm::Json => json_lines(text, &mut take),
        };
        read.map_err(|error| error.to_string())?;
        Ok(all)
    }

    #[test]
    fn cells_are_what_their_fields_are() {
        let text = "MAC, groups,Barred,title,expires\n02005e200001,a; b c ;,yes,'=x,\n\n2,,maybe,\"a\nb\",\n3,,,,,x\n";
        let all = read(LineForm::Csv, text.as_bytes()).unwrap();
        let first = all[0].1.clone().unwrap();
        let expected =
            serde_json::json!({ "mac": "02005e200001", "groups": ["a", "b c"], "barred": true, "title": "=x" });
        assert_eq!((all[0].0, Value::Object(first)), (2, expected));
        assert_eq!(all[1].1.clone().unwrap_err(), "`barred` is true or false, and not `maybe`");
        assert_eq!(
            (all[2].0, all[2].1.clone().unwrap_err()),
            (6, "it has 6 cells, and the first line names 5 fields".into())
        );
    }

    #[test]
    fn a_line_without_an_end_is_told_and_memory_stays_bounded() {
        let long = [b"mac,title\n1,\"".to_vec(), vec![b'x'; 1 << 20]].concat();
        assert!(read(LineForm::Csv, &long).unwrap_err().contains("is a quote missing?"));
        assert!(read(LineForm::Json, &vec![b'{'; 1 << 20]).unwrap_err().contains("line 1"));
        let many = "mac,title\n".to_owned() + &"1,abc\n".repeat(100_000);
        assert_eq!(read(LineForm::Csv, many.as_bytes()).unwrap().len(), 100_000);
    }

    proptest! {
        #[test]
        fn nothing_that_somebody_sends_makes_reading_panic(bytes: Vec<u8>, text in "[a-z,\"\n;'={}:\\[\\]]{0,200}") {
            for form in [LineForm::Csv, LineForm::Json] {
                let _ = read(form, &bytes);
                let _ = read(form, text.as_bytes());
            }
        }
    }
}
