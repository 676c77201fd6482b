use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arc_swap::ArcSwap;
use regnant_records::{Author, Command, DeviceTexts, Done, Envelope, Expected, Pending, RecordName, Records, Rows};

use crate::administration::AdministrationError;
use crate::clock::now_ms;
use crate::snapshot::{Environment, Snapshot};

/// The one way in which shared records change: what follows from a command is built,
/// then the command is committed, then the snapshot is swapped; where one of these fails,
/// nothing has happened.
pub(crate) struct Committer {
    pub(crate) records: Records,
    pub(crate) environment: Environment,
    pub(crate) snapshot: ArcSwap<Snapshot>,
    /// What devices are found by.
    pub(crate) texts: DeviceTexts,
    /// Held from check to swap, so that two changes cannot cross.
    one_at_a_time: Mutex<()>,
    /// Held while a machine is given another password in its domain and here.
    pub(crate) renewing: tokio::sync::Mutex<()>,
}

/// The turn to change something.
pub(crate) struct Turn<'c> {
    committer: &'c Committer,
    _held: MutexGuard<'c, ()>,
}

impl Committer {
    pub(crate) fn new(records: Records, environment: Environment, snapshot: Snapshot) -> Self {
        let (snapshot, texts) = (ArcSwap::from_pointee(snapshot), DeviceTexts::new(&environment.folder));
        Self {
            records,
            environment,
            snapshot,
            texts,
            one_at_a_time: Mutex::default(),
            renewing: tokio::sync::Mutex::default(),
        }
    }

    /// Waits for its turn.
    pub(crate) fn turn(&self) -> Turn<'_> {
        Turn { committer: self, _held: self.one_at_a_time.lock().unwrap_or_else(PoisonError::into_inner) }
    }

    /// Takes the turn with what was made of something before it, since hashing a password is slow and everybody would
    /// wait for it: made anew where that is otherwise by then.
    pub(crate) fn prepared<B: PartialEq, M>(
        &self,
        read: impl Fn() -> Result<B, AdministrationError>,
        make: impl Fn(&B) -> Result<M, AdministrationError>,
    ) -> Result<(Turn<'_>, B, M), AdministrationError> {
        loop {
            let before = read()?;
            let made = make(&before)?;
            let turn = self.turn();
            if read()? == before {
                return Ok((turn, before, made));
            }
        }
    }

    /// Applies a command that changes records by their names, and swaps in the snapshot with
    /// what came of it.
    pub(crate) fn commit_records(
        self: &Arc<Self>,
        turn: &Turn<'_>,
        command: Command,
        expected: Expected,
        by: &Author,
    ) -> Result<(), AdministrationError> {
        let gone = match &command {
            Command::Change { was, .. } | Command::Remove(was) => was.clone(),
            _ => Vec::new(),
        };
        let (environment, rows) = (&self.environment, command.rows());
        let outside = !rows.stores.is_empty() || gone.iter().any(|name| matches!(name, RecordName::Store(_)));
        turn.commit(by, (command, expected), |before, pending, rows, _| {
            let after = environment.with_records(before, &gone, rows)?;
            Ok(if outside { environment.with_outside(&after, pending)? } else { after })
        })?;
        match self.texts.note(&self.records, &gone, &rows) {
            Ok(false) => {}
            Ok(true) => self.write_texts(),
            // All of them are written anew.
            Err(error) => {
                follow("what a device is found by was not noted", Err(error));
                self.write_texts();
            }
        }
        Ok(())
    }

    /// Writes anew what devices are found by, on a thread of its own.
    pub(crate) fn write_texts(self: &Arc<Self>) {
        let committer = self.clone();
        std::thread::spawn(move || {
            if let Err(error) = committer.texts.write(&committer.records) {
                tracing::error!("{error}; lists of devices are not searched by words until then");
            }
        });
    }

    /// Applies a command that no decision depends on.
    pub(crate) fn apply(&self, author: &Author, command: Command) -> Result<Done, AdministrationError> {
        Ok(self.records.apply(&Envelope::new(author, now_ms(), command))?)
    }
}

/// What follows a commit fails nobody who made it: it is told to whoever runs the service.
pub(crate) fn follow(what: &str, done: Result<(), impl std::fmt::Display>) {
    if let Err(error) = done {
        tracing::error!("{what}, after a change that is in force: {error}");
    }
}

impl Turn<'_> {
    /// Applies a command, and swaps in the snapshot that is built of what it changes.
    /// Conversations in flight end under what they began with.
    pub(crate) fn commit(
        &self,
        author: &Author,
        (command, expected): (Command, Expected),
        build: impl FnOnce(&Snapshot, &Pending<'_>, &Rows, Done) -> Result<Snapshot, AdministrationError>,
    ) -> Result<(Done, Arc<Snapshot>), AdministrationError> {
        let Committer { records, snapshot, .. } = self.committer;
        let before = snapshot.load_full();
        let rows = command.rows();
        let envelope = Envelope::new(author, now_ms(), command).expecting(expected);
        let committed = records.commit(&envelope, |pending, done| build(&before, pending, &rows, done))?;
        if let Some(built) = committed.built {
            snapshot.store(Arc::new(built));
        }
        Ok((committed.done, before))
    }

    /// Swaps in a snapshot of what was committed in this turn.
    pub(crate) fn swap(&self, snapshot: Snapshot) {
        self.committer.snapshot.store(Arc::new(snapshot));
    }

    /// Swaps in a snapshot of what is not in the records: what was fetched.
    pub(crate) fn refresh_offers(&self) -> Result<(), AdministrationError> {
        let Committer { records, snapshot, environment, .. } = self.committer;
        let refreshed = environment.with_certificates(&snapshot.load(), records)?;
        snapshot.store(Arc::new(refreshed));
        Ok(())
    }
}
