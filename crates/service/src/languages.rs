use std::sync::Arc;

use regnant_base::Mistakes;
use regnant_decision::StoreRegistry;
use regnant_equipment::{Dialect, DialectError, Edition, NameTaken, Vocabulary};
use regnant_policy::{Compiled, Schema, Source};
use regnant_radius::Dictionary;
use regnant_records::{Basis, CertificateRow, EditionRow, LanguageKind, LanguageRow, Reading, RecordsError, TrustRow};
use thiserror::Error;

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
        let vocabulary = Arc::new(Vocabulary::new(dictionary)?);
        let mut dialects = vec![Dialect::standard(vocabulary.dictionary())];
        for row in own.iter().filter(|row| row.kind == LanguageKind::Dialect) {
            dialects.push(Dialect::read(&called(row), &row.text, vocabulary.dictionary())?);
        }
        Ok(Self { vocabulary, dialects, own })
    }

    /// Those of the records. What does not go together with this release is left out, and
    /// told: nobody is kept out because of it.
    pub(crate) fn of_records(records: &impl Reading) -> Result<Self, RecordsError> {
        let mut languages = Self::shipped();
        for row in records.all::<LanguageRow>()? {
            let (kind, name) = (row.kind.word(), row.name.clone());
            let file = row.file();
            match languages.with(row, &file) {
                Ok(with) => languages = with,
                Err(error) => tracing::error!(
                    "the {kind} `{name}` does not go together with this release, and is left out: {error}; mend it and \
                     add it again"
                ),
            }
        }
        Ok(languages)
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

    /// All files, as an edition keeps them.
    pub(crate) fn basis(&self) -> Basis {
        let shipped =
            |files: &[(&str, &str)]| files.iter().map(|(file, text)| ((*file).into(), (*text).into())).collect();
        let mut basis =
            Basis { dictionaries: shipped(Dictionary::built_in_files()), dialects: shipped(Dialect::built_in_files()) };
        for row in &self.own {
            let list = match row.kind {
                LanguageKind::Dictionary => &mut basis.dictionaries,
                LanguageKind::Dialect => &mut basis.dialects,
            };
            list.push((row.file(), row.text.clone()));
        }
        basis
    }

    /// The schema with these stores, each for what it says that it knows, and with the
    /// certificates and trusts that the records have now.
    pub(crate) fn schema(&self, stores: &StoreRegistry, records: &impl Reading) -> Result<Schema, RecordsError> {
        let stores = stores.iter().flat_map(|(name, store)| {
            let kinds = store.capabilities().kinds.iter();
            kinds.map(|kind| (name.clone(), *kind)).collect::<Vec<_>>()
        });
        let certificates = records.all::<CertificateRow>()?.into_iter().filter(|row| !row.chain.is_empty());
        let trusts = records.all::<TrustRow>()?.into_iter().map(|row| row.name);
        let schema = self.vocabulary.schema().clone().with_stores(stores);
        Ok(schema.with_certificates(certificates.map(|row| row.name), trusts))
    }

    /// Checks a policy and renders its grants.
    pub(crate) fn edition(&self, number: u32, source: &str, schema: &Schema) -> Result<Edition, Unfit> {
        Ok(self.edition_of("main.writ", source, schema)?.numbered(number))
    }

    /// The same for a file of another name.
    pub(crate) fn edition_of(&self, file: &str, source: &str, schema: &Schema) -> Result<Edition, Unfit> {
        let policy = Compiled::from_source(Source::new(file, source), schema).map_err(Unfit::Check)?;
        Edition::prepare(0, policy, &self.dialects, self.vocabulary.clone()).map_err(Unfit::Grants)
    }
}

/// An edition on the basis that it was once checked with. Of stores and certificates any
/// name passes: those of that time may be gone.
pub(crate) fn edition_of_old(row: &EditionRow, basis: &Basis) -> Option<Edition> {
    let files = basis.dictionaries.iter().map(|(file, text)| (file.as_str(), text.as_str()));
    let vocabulary = Arc::new(Vocabulary::new(Dictionary::of_files(files).ok()?).ok()?);
    let dialects = basis.dialects.iter().map(|(file, text)| Dialect::read(file, text, vocabulary.dictionary()));
    let dialects: Vec<_> = dialects.collect::<Result<_, _>>().ok()?;
    let policy = Compiled::from_source(Source::new("main.writ", row.source.as_str()), vocabulary.schema()).ok()?;
    Edition::prepare(row.number, policy, &dialects, vocabulary).ok()
}

/// Why files do not go together.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum LanguageError {
    /// A dictionary.
    #[error(transparent)]
    Dictionary(#[from] Mistakes),
    /// An attribute has the name of a fact.
    #[error(transparent)]
    Name(#[from] NameTaken),
    /// A dialect.
    #[error(transparent)]
    Dialect(#[from] DialectError),
}
