//! The one way from a snapshot to the next.

use std::collections::BTreeMap;
use std::sync::Arc;

use regnant_records::{Command, Done, LocalStores, NasRow, Reading, RecordName};

use crate::snapshot::{Environment, Left, MOST_EARLIER, Snapshot};

/// The snapshot after commands that were applied, one after the other, to the records that a snapshot was made of.
///
/// It cannot fail. What this node cannot use as it is (a secret under another key, a certificate without its own, a
/// store that cannot be asked) becomes something that refuses, and [`Snapshot::unusable`] says why; all else takes
/// effect. Whoever proposes a command sees that before it is committed, and may let it be.
pub(crate) struct Next<'e> {
    environment: &'e Environment,
    before: Snapshot,
    stores: Arc<LocalStores>,
    /// NASes that are otherwise now, by their names without regard to case; none where there is no such NAS any more.
    nases: BTreeMap<String, Option<NasRow>>,
    touched: Touched,
}

/// What has to be made anew, beside what is in memory row by row.
#[derive(Default)]
pub(super) struct Touched {
    pub(super) stores: bool,
    pub(super) outside: bool,
    pub(super) certificates: bool,
    pub(super) secrets: bool,
    pub(super) languages: bool,
    /// The numbers of new editions; the last decides.
    pub(super) editions: Vec<u32>,
}

impl<'e> Next<'e> {
    pub(crate) fn new(environment: &'e Environment, before: &Snapshot) -> Self {
        let (nases, touched) = (BTreeMap::new(), Touched::default());
        Self { environment, before: before.clone(), stores: before.stores.clone(), nases, touched }
    }

    /// Everything is read anew: nothing of before counts.
    pub(super) fn all(
        environment: &'e Environment,
        before: Snapshot,
        stores: LocalStores,
        nases: Vec<NasRow>,
        active: u32,
    ) -> Self {
        let nases = nases.into_iter().map(|row| (row.name.to_lowercase(), Some(row))).collect();
        let touched = Touched {
            stores: true,
            outside: true,
            certificates: true,
            secrets: true,
            languages: true,
            editions: vec![active],
        };
        Self { environment, before, stores: Arc::new(stores), nases, touched }
    }

    /// What was fetched counts from now on, though no command says so.
    pub(crate) fn fetched(mut self) -> Self {
        self.touched.certificates = true;
        self
    }

    /// Takes in a command, and what came of it.
    pub(crate) fn take(&mut self, command: &Command, done: Done) {
        match command {
            Command::Import(_) | Command::Add(_) | Command::Change { .. } | Command::Remove(_) => {
                self.records(command);
            }
            Command::SetCertificate(_) | Command::SetTrust(_) => self.touched.certificates = true,
            Command::SetSecret(_) | Command::RemoveSecret { .. } => self.touched.secrets = true,
            Command::SetLanguage { .. } | Command::RemoveLanguage { .. } => self.touched.languages = true,
            // No decision depends on these.
            Command::ActivateEdition { .. }
            | Command::Reveal(_)
            | Command::SetSecondFactor { .. }
            | Command::AddToken { .. }
            | Command::ChangeToken { .. }
            | Command::RemoveToken { .. }
            | Command::RemoveTokens { .. }
            | Command::Backup { .. }
            | Command::Personal(_)
            | Command::Restore { .. }
            | Command::UseKey { .. } => {}
        }
        self.touched.editions.extend(done.edition);
    }

    fn records(&mut self, command: &Command) {
        for name in command.gone() {
            match name {
                RecordName::Nas(name) => drop(self.nases.insert(name.to_lowercase(), None)),
                RecordName::Certificate(_) | RecordName::Trust(_) => self.touched.certificates = true,
                RecordName::Secret(_) => self.touched.secrets = true,
                RecordName::Language { .. } => self.touched.languages = true,
                RecordName::Store(_) => (self.touched.stores, self.touched.outside) = (true, true),
                RecordName::Person { .. } | RecordName::Machine { .. } | RecordName::Device { .. } => {
                    self.touched.stores = true;
                }
                RecordName::Administrator(_) | RecordName::CommonName { .. } => {}
            }
        }
        let rows = command.rows();
        for row in &rows.nases {
            self.nases.insert(row.name.to_lowercase(), Some(row.clone()));
        }
        self.touched.outside |= !rows.stores.is_empty();
        let listed = [rows.stores.len(), rows.people.len(), rows.machines.len(), rows.devices.len()];
        self.touched.stores |= listed.iter().any(|many| *many > 0);
        if self.touched.stores {
            Arc::make_mut(&mut self.stores).follow(command);
        }
    }

    /// The snapshot. `records` shows them as the last of the commands left them.
    pub(crate) fn of(self, records: &impl Reading) -> Snapshot {
        let Self { environment, before, stores, nases, touched } = self;
        let mut after = Snapshot { stores, ..before.clone() };
        let mut left = Left::clone(&before.left);
        if !nases.is_empty() {
            let (mut gone, mut there) = (Vec::new(), Vec::new());
            for (name, row) in &nases {
                left.nases.remove(name);
                let Some(row) = row else {
                    gone.push(name.as_str());
                    continue;
                };
                let (nas, unusable) = environment.nas(row);
                left.nases.extend(unusable.map(|unusable| (name.clone(), unusable)));
                there.push(nas);
            }
            after.nases = Arc::new(before.nases.with(there, &gone));
        }
        if touched.languages {
            (after.languages, left.languages) = Environment::languages(&before.languages, records);
        }
        if touched.outside || touched.certificates || touched.languages {
            (after.outside, left.outside) = environment.outside(&before.outside, &after.languages, records);
        }
        if touched.secrets {
            (after.active.secrets, left.secrets) = environment.secrets(&before.active.secrets, records);
        }
        if let Some(&number) = touched.editions.last() {
            (after.active.edition, left.edition) = environment.edition(number, &after, records);
            // One that could not be read gave nothing that would last.
            let replaced =
                (before.active.edition.number > 0 && before.left.edition.is_none()).then_some(&before.active.edition);
            after.active.earlier = match touched.editions.len() {
                1 => replaced.into_iter().chain(before.active.earlier.iter()).take(MOST_EARLIER).cloned().collect(),
                _ => Environment::earlier(number, records),
            };
            after.active.policy.policy = after.active.edition.policy.clone();
            after.active.policy.table = after.active.edition.vocabulary.table().clone();
        }
        let is_another = !touched.editions.is_empty();
        if is_another || touched.certificates {
            (after.active.policy.offers, left.gates) = environment.offers(&after.active.edition, records);
        }
        if is_another || touched.stores || touched.outside || touched.certificates || touched.languages {
            after.bind();
        }
        after.left = Arc::new(left);
        after
    }
}
