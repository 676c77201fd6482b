use std::sync::Arc;

use regnant_decision::{AttributeKind, IdentityAttribute};
use regnant_equipment::Dialect;
use regnant_radius::Dictionary;
use regnant_records::{
    Author, Command, Expected, LanguageKind, LanguageRow, Missing, NasRow, Reading, RecordsError, declaration,
};

use crate::administration::committer::{Committer, Turn};
use crate::administration::report::CheckReport;
use crate::administration::{AdministrationError, RecordVersion, is_as_seen};
use crate::languages::{LanguageError, Languages};
use crate::snapshot::Snapshot;
use crate::surroundings::Surroundings;

/// A file is read whole, and kept with every edition that was checked with it.
const LONGEST_FILE: usize = 1 << 20;

/// What an attribute of devices means, in bytes.
const LONGEST_MEANING: usize = 500;

/// Dictionaries, dialects, and what people keep of devices.
pub struct LanguageFiles {
    pub(crate) committer: Arc<Committer>,
}

/// A file that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Taken {
    /// What it is known by.
    pub name: String,
    /// The edition that the active policy is now.
    pub edition: u32,
}

impl LanguageFiles {
    /// Adds a dictionary, or puts it in the place of the one of its name, whatever that was. The active policy goes
    /// on with it as a new edition.
    pub fn add_dictionary(&self, file: &str, text: &str, by: &Author) -> Result<Taken, AdministrationError> {
        self.add(LanguageKind::Dictionary, (file, text), None, by)
    }

    /// Adds a dialect, or puts it in the place of the one of its name, in the same way.
    pub fn add_dialect(&self, file: &str, text: &str, by: &Author) -> Result<Taken, AdministrationError> {
        self.add(LanguageKind::Dialect, (file, text), None, by)
    }

    /// The same of either, where what it takes the place of is as its author saw it.
    pub(crate) fn add(
        &self,
        kind: LanguageKind,
        (file, text): (&str, &str),
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<Taken, AdministrationError> {
        if text.len() > LONGEST_FILE {
            return Err(AdministrationError::FileTooLong { got: text.len(), most: LONGEST_FILE });
        }
        let name = match kind {
            LanguageKind::Dictionary => Dictionary::standard().add_own(file, text).map_err(LanguageError::File)?,
            // Where it says no name, reading it whole tells so and all else.
            _ => Dialect::name_in(text).unwrap_or_else(|| file.to_owned()),
        };
        self.set(LanguageRow { kind, name, text: text.to_owned() }, file, seen, by)
    }

    /// Declares an attribute of identities, which is a fact from then on; or says anew what it
    /// means. Its type stays for as long as devices have it.
    pub(crate) fn declare(
        &self,
        attribute: &IdentityAttribute,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<Taken, AdministrationError> {
        IdentityAttribute::check_name(&attribute.full_name()).map_err(AdministrationError::Attribute)?;
        if attribute.meaning.len() > LONGEST_MEANING {
            let text = format!("the meaning of an attribute has {LONGEST_MEANING} bytes at most");
            return Err(AdministrationError::Attribute(text));
        }
        let languages = self.committer.snapshot.load().languages.clone();
        let known = languages
            .vocabulary
            .table()
            .attributes()
            .iter()
            .find(|one| (one.of, &one.name) == (attribute.of, &attribute.name));
        if known.is_some_and(|known| known.kind != attribute.kind) {
            self.nobody_has(&attribute.full_name())?;
        }
        self.set(declaration(attribute), &attribute.full_name(), seen, by)
    }

    fn nobody_has(&self, name: &str) -> Result<(), AdministrationError> {
        let (of, bare) = IdentityAttribute::split(name);
        let kind = AttributeKind::Text;
        let fact = IdentityAttribute { of, name: bare.to_owned(), kind, meaning: String::new() }.fact();
        if let Some(store) = self.committer.snapshot.load().outside.telling(&fact).next() {
            return Err(AdministrationError::InUse {
                kind: LanguageKind::Attribute,
                name: name.to_owned(),
                by: format!("the store {store} tells it; have it not told first"),
            });
        }
        match self.committer.records.devices_with(name)? {
            0 => Ok(()),
            many => Err(AdministrationError::InUse {
                kind: LanguageKind::Attribute,
                name: name.to_owned(),
                by: format!(
                    "{many} {} it; take it from them first",
                    if many == 1 { "device has" } else { "devices have" }
                ),
            }),
        }
    }

    fn set(
        &self,
        row: LanguageRow,
        file: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<Taken, AdministrationError> {
        self.check_before_turn(|now| now.with(row.clone(), file).ok());
        let turn = self.committer.turn();
        let before = self.committer.snapshot.load_full();
        is_as_seen(&row.name, before.languages.own_file(row.kind, &row.name), seen)?;
        if before.languages.own.contains(&row) {
            // As it is already.
            return Ok(Taken { name: row.name, edition: before.active.edition.number });
        }
        let languages = before.languages.with(row.clone(), file)?;
        let name = row.name.clone();
        let edition = self.go_on(&turn, &before, &languages, by, |basis| Command::SetLanguage { row, basis })?;
        Ok(Taken { name, edition })
    }

    /// Forgets a file or an attribute of the user's own, where nothing needs it and it is as its author saw it.
    pub(crate) fn remove(
        &self,
        kind: LanguageKind,
        name: &str,
        seen: Option<&RecordVersion>,
        by: &Author,
    ) -> Result<u32, AdministrationError> {
        self.check_before_turn(|now| Languages::new(now.without(kind, name), LanguageRow::file).ok());
        let turn = self.committer.turn();
        let before = self.committer.snapshot.load_full();
        let Some(own) = before.languages.own_file(kind, name) else {
            return Err(RecordsError::from(Missing::Language(kind, name.to_owned())).into());
        };
        is_as_seen(name, Some(own), seen)?;
        if kind == LanguageKind::Dialect {
            self.no_nas_speaks(name)?;
        }
        if kind == LanguageKind::Attribute {
            self.nobody_has(name)?;
        }
        let languages = Languages::new(before.languages.without(kind, name), LanguageRow::file)
            .map_err(|error| AdministrationError::InUse { kind, name: name.to_owned(), by: error.to_string() })?;
        let gone = self.go_on(&turn, &before, &languages, by, |basis| Command::RemoveLanguage {
            kind,
            name: name.to_owned(),
            basis,
        });
        gone.map_err(|error| match error {
            AdministrationError::Unfit(report) => AdministrationError::InUse {
                kind,
                name: name.to_owned(),
                by: format!("the active policy needs it:\n{}", report.rendered()),
            },
            error => error,
        })
    }

    fn no_nas_speaks(&self, dialect: &str) -> Result<(), AdministrationError> {
        let nases: Vec<NasRow> = self.committer.records.all()?;
        let speak = nases.into_iter().filter(|nas| nas.dialect.eq_ignore_ascii_case(dialect)).map(|nas| nas.name);
        let speak: Vec<_> = speak.collect();
        if speak.is_empty() {
            return Ok(());
        }
        let (kind, name) = (LanguageKind::Dialect, dialect.to_owned());
        Err(AdministrationError::InUse { kind, name, by: format!("NASes speak it: {}", speak.join(", ")) })
    }

    /// Checks the active policy with other languages, and lets it go on with them.
    fn go_on(
        &self,
        turn: &Turn<'_>,
        before: &Snapshot,
        languages: &Languages,
        by: &Author,
        command: impl FnOnce(regnant_records::BasisOf) -> Command,
    ) -> Result<u32, AdministrationError> {
        self.check(before, languages)?;
        let command = command(self.committer.records.basis_of(languages.basis())?);
        let done = turn.commit_expecting(by, command, Expected::Edition(before.active.edition.number))?;
        Ok(done.edition.unwrap_or_default())
    }

    /// Checks the active policy with other languages while nobody waits for that: what was found to go is kept for a
    /// while, and is asked for again within the turn, where whatever else it comes to is told.
    fn check_before_turn(&self, other: impl FnOnce(&Languages) -> Option<Languages>) {
        let before = self.committer.snapshot.load_full();
        if let Some(languages) = other(&before.languages) {
            let _ = self.check(&before, &languages);
        }
    }

    /// Whether the active policy goes with other languages.
    fn check(&self, before: &Snapshot, languages: &Languages) -> Result<(), AdministrationError> {
        let Committer { records, environment, .. } = &*self.committer;
        let around = Surroundings::of_records(languages, &before.registry(), records)?;
        let files = records.active_edition()?.ok_or(AdministrationError::NoEdition)?.files;
        let checked = environment.checked.check(&files, &around, languages, true);
        checked.map(drop).map_err(|unfit| AdministrationError::Unfit(Box::new(CheckReport::unfit(unfit))))
    }
}
