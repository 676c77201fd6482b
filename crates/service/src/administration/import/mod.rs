//! Records by the thousand, line after line: what each says is checked as it comes, in
//! bounded memory, and then all of them are applied in one transaction.

mod lines;

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Seek, Write};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use regnant_base::Mac;
use regnant_records::{
    Author, Command, CommonNameEntry, CommonNameKind, DeclaredAttributes, DeviceEntry, Done, Envelope, Import, Keep,
    MachineEntry, Marked, NasEntry, PersonEntry, Reading, RecordName, Records, RecordsError, Refusal, Rows, Sealed,
    StoreEntry, StoreKind, StoreRow, copy_database,
};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

pub(crate) use self::lines::LineForm;
pub use self::lines::read_all;
use self::lines::{csv_lines, json_lines};
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
/// Lines whose refusal is told one by one; the others are counted.
const MOST_TOLD: usize = 1_000;
/// Records of one command.
const AT_ONCE: usize = 2_000;
/// Lines that are applied in one turn: whoever else changes something waits for no more than these.
const ONE_PART: usize = 4 * AT_ONCE;

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

/// How long others may take their turn between two parts.
const FOR_OTHERS: Duration = Duration::from_millis(5);

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
    /// What it says, passwords and secrets too, sealed: it stands on the disk for a while.
    said: Sealed,
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
        let (reading, revision) = Lines::as_of_now(&self.committer, order, by)?;
        let mut spool = Spool::new(&self.committer.environment.folder)?;
        reading.check_all(input, &mut spool, &mut report)?;
        if order.all_or_none && report.refused > 0 {
            return Ok(report);
        }
        // An upload takes its time, and who may do this is another by now, perhaps.
        if !stands() {
            return Err(AdministrationError::NoLonger);
        }
        if order.dry_run {
            self.rehearse(order, spool, &mut report, by)?;
            return Ok(report);
        }
        // What others changed meanwhile is taken up while nobody waits, but for what changes after this.
        let (reading, now) = Lines::as_of_now(&self.committer, order, by)?;
        if now != revision {
            let mut renewed = Spool::new(&self.committer.environment.folder)?;
            for line in spool.lines()? {
                let line = line?;
                let number = line.line;
                match reading.over_what_is_there(line) {
                    Ok(line) => renewed.keep(&line).map_err(AdministrationError::Spool)?,
                    Err(why) => report.refuse(number, why),
                }
            }
            spool = renewed;
        }
        self.apply(order, spool, now, &mut report, by, stands)?;
        Ok(report)
    }

    /// What would come of it, tried with a copy: nobody waits for that.
    fn rehearse(
        &self,
        order: &ImportOrder,
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
            put_all(order, &mut lines, report, |command| batch.apply(&Envelope::new(by, now_ms(), command)))?;
            Ok::<_, AdministrationError>(((), Keep::Nothing))
        })
    }

    /// Puts lines in force, in parts between which others have their turn; all at once where it is all or none.
    fn apply(
        &self,
        order: &ImportOrder,
        mut spool: Spool,
        mut revision: u64,
        report: &mut ImportReport,
        by: &Author,
        stands: impl Fn() -> bool,
    ) -> Result<(), AdministrationError> {
        let part = if order.all_or_none { usize::MAX } else { ONE_PART };
        let mut lines = spool.lines()?.peekable();
        let applied = loop {
            let one = self.apply_part(order, &mut lines.by_ref().take(part), &mut revision, report, by);
            if let Err(why) = one {
                break Err(why);
            }
            if !report.applied || lines.peek().is_none() {
                break Ok(());
            }
            if !stands() {
                break Err(AdministrationError::NoLonger);
            }
            // Whoever waits for the turn is woken by now, and this thread would take it again before they can.
            thread::sleep(FOR_OTHERS);
        };
        let done = report.added + report.changed;
        applied.map_err(|why| match done {
            0 => why,
            lines => AdministrationError::ImportedInPart { lines, why: Box::new(why) },
        })
    }

    fn apply_part(
        &self,
        order: &ImportOrder,
        lines: &mut dyn Iterator<Item = Result<Checked, AdministrationError>>,
        revision: &mut u64,
        report: &mut ImportReport,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let committer = &self.committer;
        let turn = committer.turn();
        // What others changed while the lines came stays, where a line does not say otherwise.
        let changed = committer.records.revision()? != *revision;
        let (reading, refused) = (Lines::of(committer, order, by)?, RefCell::new(Vec::new()));
        let mut lines = lines.filter_map(|line| match line {
            Ok(line) if changed => {
                let number = line.line;
                reading.over_what_is_there(line).map_err(|why| refused.borrow_mut().push((number, why))).ok().map(Ok)
            }
            line => Some(line),
        });
        let mut of_part = report.clone();
        turn.commit_several(|several| {
            put_all(order, &mut lines, &mut of_part, |command| several.apply(by, command))?;
            refused.take().into_iter().for_each(|(line, why)| of_part.refuse(line, why));
            of_part.applied = !(order.all_or_none && of_part.refused > 0);
            Ok(((), if of_part.applied { Keep::All } else { Keep::Nothing }))
        })?;
        if of_part.applied {
            *revision = committer.records.revision()?;
        }
        *report = of_part;
        Ok(())
    }
}

/// Puts what lines say into the records.
fn put_all(
    order: &ImportOrder,
    lines: &mut impl Iterator<Item = Result<Checked, AdministrationError>>,
    report: &mut ImportReport,
    mut apply: impl FnMut(Command) -> Result<Result<Done, Refusal>, RecordsError>,
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
        match apply(Command::Import(Import { file: file.clone(), rows }))? {
            Ok(_) => {
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

/// What makes records of lines, by what there is at one time.
struct Lines<'l> {
    committer: &'l Committer,
    order: &'l ImportOrder,
    by: &'l Author,
    declared: DeclaredAttributes,
    stores: Vec<StoreRow>,
    dialects: Vec<String>,
    snapshot: Arc<Snapshot>,
}

/// As what a line is sealed while all are not read.
const A_LINE: &str = "a line of an import";

impl<'l> Lines<'l> {
    fn of(committer: &'l Committer, order: &'l ImportOrder, by: &'l Author) -> Result<Self, AdministrationError> {
        let snapshot = committer.snapshot.load_full();
        let (stores, declared) = (committer.records.all()?, snapshot.languages.declared());
        let dialects = snapshot.languages.dialects.iter().map(|dialect| dialect.name.clone()).collect();
        Ok(Self { committer, order, by, declared, stores, dialects, snapshot })
    }

    /// The same, and the last change that it knows of: while somebody changes something, records and what is in
    /// memory of them are not of one time.
    fn as_of_now(
        committer: &'l Committer,
        order: &'l ImportOrder,
        by: &'l Author,
    ) -> Result<(Self, u64), AdministrationError> {
        let _turn = committer.turn();
        Ok((Self::of(committer, order, by)?, committer.records.revision()?))
    }

    fn check_all(
        &self,
        input: impl Read,
        spool: &mut Spool,
        report: &mut ImportReport,
    ) -> Result<(), AdministrationError> {
        let mut take = |line: u64, said: Result<Map<String, Value>, String>| {
            if line > MOST_LINES {
                return Err(AdministrationError::TooManyLines(MOST_LINES));
            }
            let checked = said.and_then(|said| {
                let text = serde_json::to_vec(&said).map_err(|error| error.to_string())?;
                let (seen, rows) = self.check(said)?;
                let said = self.committer.environment.key.seal(A_LINE, &text);
                Ok(Checked { line, is_new: seen.is_none(), rows, said, seen })
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
        if self.version(&checked.rows)? == checked.seen {
            return Ok(checked);
        }
        let opened = self.committer.environment.key.open(A_LINE, &checked.said).map_err(|error| error.to_string())?;
        let said = serde_json::from_slice(opened.expose()).map_err(|error| error.to_string())?;
        let (seen, rows) = self.check(said)?;
        Ok(Checked { is_new: seen.is_none(), rows, seen, ..checked })
    }

    /// The version of the record that rows are about, as it is now.
    fn version(&self, rows: &Rows) -> Result<Option<RecordVersion>, String> {
        let Some(name) = rows.names().next() else { return Ok(None) };
        // Most devices of a large file are new, and a look into memory tells.
        if let RecordName::Device { store, mac } = &name
            && !self.snapshot.stores.lists(store, *mac)
        {
            return Ok(None);
        }
        let found = self.committer.records.find(&name).map_err(|error| error.to_string())?;
        Ok(found.names().next().map(|_| RecordVersion::of(&found)))
    }

    /// What a line says of a record, over what the record says already; with that record's version.
    fn check(&self, mut said: Map<String, Value>) -> Result<(Option<RecordVersion>, Rows), String> {
        let (stores, dialects) = (&self.stores, &self.dialects);
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
