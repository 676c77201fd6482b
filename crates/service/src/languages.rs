use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::Arc;

use regnant_base::{Mistakes, TomlFile};
use regnant_decision::{IdentityAttribute, NasIdentity};
use regnant_equipment::{Dialect, Edition, GrantProblem, NameTaken, Vocabulary};
use regnant_policy::{Checked, Compiled, Schema, Source};
use regnant_radius::Dictionary;
use regnant_records::{
    Basis, DeclaredAttributes, EditionRow, LanguageKind, LanguageRow, Reading, RecordName, RecordsError, Unusable,
    declared,
};
use thiserror::Error;

use crate::administration::RecordVersion;
use crate::snapshot::Unfit;

/// How equipment speaks, as far as it is known: the files that ship, and those of the user's
/// own. Editions are checked with it.
#[derive(Debug)]
pub(crate) struct Languages {
    pub(crate) vocabulary: Arc<Vocabulary>,
    pub(crate) dialects: Vec<Dialect>,
    /// Files of the user's own, by kind and name.
    pub(crate) own: Vec<LanguageRow>,
}

impl Languages {
    /// The files that ship alone.
    pub(crate) fn shipped() -> Self {
        Self::new(Vec::new(), LanguageRow::file).expect("the files that ship are checked by the tests")
    }

    /// The files that ship with these; `called` tells what mistakes are told under.
    pub(crate) fn new(own: Vec<LanguageRow>, called: impl Fn(&LanguageRow) -> String) -> Result<Self, LanguageError> {
        let mut dictionary = Dictionary::standard();
        for row in own.iter().filter(|row| row.kind == LanguageKind::Dictionary) {
            dictionary.add_own(&called(row), &row.text)?;
        }
        let mut attributes = Vec::<IdentityAttribute>::new();
        for row in own.iter().filter(|row| row.kind == LanguageKind::Attribute) {
            attributes.push(declared(row).map_err(LanguageError::Attribute)?);
        }
        let vocabulary = Arc::new(Vocabulary::new(dictionary, attributes)?);
        let files = own.iter().filter(|row| row.kind == LanguageKind::Dialect);
        let files: Vec<_> = files.map(|row| (called(row), row.text.as_str())).collect();
        let dialects = dialects(files, vocabulary.dictionary())?;
        Ok(Self { vocabulary, dialects, own })
    }

    /// Those of the records. What does not go together with this release is left out, and
    /// told: nobody is kept out because of it.
    pub(crate) fn of_records(records: &impl Reading) -> Result<(Self, Vec<Unusable>), RecordsError> {
        let rows = records.all::<LanguageRow>()?;
        if let Ok(languages) = Self::new(rows.clone(), LanguageRow::file) {
            return Ok((languages, Vec::new()));
        }
        let (mut languages, mut left) = (Self::shipped(), rows);
        loop {
            let before = left.len();
            // One may need another that comes later.
            left.retain(|row| match languages.with(row.clone(), &row.file()) {
                Ok(with) => {
                    languages = with;
                    false
                }
                Err(_) => true,
            });
            if left.len() == before {
                break;
            }
        }
        let left_out = left.into_iter().map(|row| {
            let why = languages.with(row.clone(), &row.file()).err().map(|error| error.to_string()).unwrap_or_default();
            let (kind, name) = (row.kind, row.name);
            Unusable::new(
                RecordName::Language { kind, name },
                format_args!("it does not go together with this release: {why}"),
            )
        });
        let left_out = left_out.collect();
        Ok((languages, left_out))
    }

    /// These with one more, or with another in the place of one; `file` names it in mistakes.
    pub(crate) fn with(&self, row: LanguageRow, file: &str) -> Result<Self, LanguageError> {
        let (kind, name) = (row.kind, row.name.clone());
        let called = |row: &LanguageRow| match (row.kind, &row.name) == (kind, &name) {
            true => file.to_owned(),
            false => row.file(),
        };
        let mut own = self.without(kind, &name);
        own.push(row);
        // Behind all others it is the one to blame; kept it is in the order of the records.
        Self::new(own.clone(), called)?;
        own.sort_by_key(|row| (row.kind, row.name.to_lowercase()));
        Self::new(own, called)
    }

    /// The files of the user's own but one.
    pub(crate) fn without(&self, kind: LanguageKind, name: &str) -> Vec<LanguageRow> {
        let is_it = |row: &&LanguageRow| row.kind == kind && row.name.eq_ignore_ascii_case(name);
        self.own.iter().filter(|row| !is_it(row)).cloned().collect()
    }

    /// What may be kept of devices among the records.
    pub(crate) fn declared(&self) -> DeclaredAttributes {
        DeclaredAttributes::new(self.vocabulary.table().attributes())
    }

    /// A file or an attribute of the user's own; case does not count.
    pub(crate) fn own_file(&self, kind: LanguageKind, name: &str) -> Option<&LanguageRow> {
        self.own.iter().find(|row| row.kind == kind && row.name.eq_ignore_ascii_case(name))
    }

    /// The ETag of such a file.
    pub(crate) fn own_etag(&self, kind: LanguageKind, name: &str) -> Option<String> {
        self.own_file(kind, name).map(|row| RecordVersion::of(row).quoted())
    }

    /// All files, as an edition keeps them.
    pub(crate) fn basis(&self) -> Basis {
        let shipped =
            |files: &[(&str, &str)]| files.iter().map(|(file, text)| ((*file).into(), (*text).into())).collect();
        let mut basis = Basis {
            dictionaries: shipped(Dictionary::built_in_files()),
            dialects: shipped(Dialect::built_in_files()),
            attributes: Vec::new(),
        };
        for row in &self.own {
            let text = row.text.clone();
            match row.kind {
                LanguageKind::Dictionary => basis.dictionaries.push((row.file(), text)),
                LanguageKind::Dialect => basis.dialects.push((row.file(), text)),
                LanguageKind::Attribute => basis.attributes.push((row.name.clone(), text)),
            }
        }
        basis
    }

    /// Checks a policy and renders its grants. What the dialect of some NAS cannot say is
    /// told by [`Self::edition_for`] and when it is to be said.
    pub(crate) fn edition(&self, number: u32, source: Source, schema: &Schema) -> Result<Edition, Box<Checked>> {
        let policy = Compiled::from_source(source, schema)?;
        Ok(Edition::prepare(number, policy, &self.dialects, self.vocabulary.clone()))
    }

    /// The same; every grant can be told to each of these NASes that may get it, each with its address where
    /// it has one alone.
    pub(crate) fn edition_for(
        &self,
        source: Source,
        schema: &Schema,
        nases: impl IntoIterator<Item = (NasIdentity, Option<IpAddr>)>,
    ) -> Result<Edition, Unfit> {
        let edition = self.edition(0, source, schema).map_err(Unfit::Check)?;
        let mut lacks: Vec<(GrantProblem, Vec<String>)> = Vec::new();
        for (nas, address) in nases {
            for problem in edition.lacks(&nas, address) {
                match lacks.iter_mut().find(|(known, _)| *known == problem) {
                    Some((_, names)) => names.push(nas.name.clone()),
                    None => lacks.push((problem, vec![nas.name.clone()])),
                }
            }
        }
        match lacks.is_empty() {
            true => Ok(edition),
            false => Err(Unfit::Grants(Box::new(edition), lacks)),
        }
    }
}

/// The dialect that ships and these, each after the one that it extends.
fn dialects(files: Vec<(String, &str)>, dictionary: &Dictionary) -> Result<Vec<Dialect>, LanguageError> {
    let mut dialects = vec![Dialect::standard(dictionary)];
    let mut waiting = files;
    while !waiting.is_empty() {
        let (before, mut mistakes) = (waiting.len(), Vec::new());
        waiting.retain(|(file, text)| match Dialect::read(file, text, dictionary, &dialects) {
            Ok(dialect) => {
                dialects.push(dialect);
                false
            }
            Err(told) => {
                mistakes.push(told);
                true
            }
        });
        // Nothing went forward: what is told is no matter of order. That one cannot be read is the mistake, and not
        // that others extend it.
        if waiting.len() == before {
            let names: Vec<_> = waiting.iter().filter_map(|(_, text)| TomlFile::text_under(text, "name")).collect();
            let waits = |text: &str| {
                let extended = TomlFile::text_under(text, "extends");
                extended.is_some_and(|extended| names.iter().any(|name| name.eq_ignore_ascii_case(&extended)))
            };
            let own = waiting.iter().position(|(_, text)| !waits(text)).unwrap_or(0);
            return Err(mistakes.swap_remove(own).into());
        }
    }
    let mut names = HashSet::new();
    match dialects.iter().find(|dialect| !names.insert(dialect.name.to_lowercase())) {
        Some(twice) => Err(LanguageError::TwoDialects(twice.name.clone())),
        None => Ok(dialects),
    }
}

/// An edition on the basis that it was once checked with. Of stores and certificates any
/// name passes: those of that time may be gone.
pub(crate) fn edition_of_old(row: &EditionRow, basis: &Basis) -> Option<Edition> {
    let files = basis.dictionaries.iter().map(|(file, text)| (file.as_str(), text.as_str()));
    let attributes = basis.attributes.iter().map(|(name, text)| {
        declared(&LanguageRow { kind: LanguageKind::Attribute, name: name.clone(), text: text.clone() }).ok()
    });
    let attributes = attributes.collect::<Option<_>>()?;
    let vocabulary = Arc::new(Vocabulary::new(Dictionary::of_files(files).ok()?, attributes).ok()?);
    let mut dialects = Vec::new();
    for (file, text) in &basis.dialects {
        dialects.push(Dialect::read(file, text, vocabulary.dictionary(), &dialects).ok()?);
    }
    let policy = Compiled::from_source(Source::from(&row.files), vocabulary.schema()).ok()?;
    Some(Edition::prepare(row.number, policy, &dialects, vocabulary))
}

/// Why files do not go together.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum LanguageError {
    /// A dictionary or a dialect.
    #[error(transparent)]
    File(#[from] Mistakes),
    /// An attribute has the name of a fact.
    #[error(transparent)]
    Name(#[from] NameTaken),
    /// An attribute of identities.
    #[error("{0}")]
    Attribute(String),
    /// Two dialects of a name.
    #[error("there is a dialect `{0}` already, which ships; give yours another name, and say `extends = \"{0}\"`")]
    TwoDialects(String),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dialect_that_others_extend_shows_its_own_mistake_first() {
        let files = |last: &'static str| {
            vec![
                ("b.toml".to_owned(), "name = \"b\"\nextends = \"a\"\n"),
                (
                    "a.toml".to_owned(),
                    "name = \"a\"\n[statements]\nrole = { attribute = \"Filter-Ib\", value = \"{}\" }\n",
                ),
                ("c.toml".to_owned(), last),
            ]
        };
        let told = |files| dialects(files, &Dictionary::standard()).unwrap_err().to_string();
        let own = told(files("name = \"c\"\n"));
        assert!(own.contains("a.toml:3") && own.contains("Filter-Ib") && !own.contains("b.toml"), "{own}");
        // Two that wait for each other, and one that waits for nobody.
        let circle = vec![
            ("b.toml".to_owned(), "name = \"b\"\nextends = \"c\"\n"),
            ("c.toml".to_owned(), "name = \"c\"\nextends = \"b\"\n"),
        ];
        assert!(told(circle).contains("there is no dialect"));
    }
}
