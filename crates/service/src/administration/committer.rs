use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arc_swap::ArcSwap;
use regnant_records::{
    Author, Batch, Command, DeviceTexts, Done, Envelope, Expected, Keep, Records, RecordsError, Refusal,
};

use crate::administration::AdministrationError;
use crate::administration::followers::{Follower, followers};
use crate::clock::now_ms;
use crate::snapshot::{Environment, Next, Snapshot};

/// How often something is made before a turn that others make void.
const TRIES: usize = 4;

/// The one way in which shared records change. A command is applied in a transaction; the snapshot that follows from
/// it is made of the records as they would be; where something in it could not be used, the command is refused and
/// nothing has happened. Otherwise the transaction is committed, the snapshot counts, and the followers are told.
pub(crate) struct Committer {
    pub(crate) records: Arc<Records>,
    pub(crate) environment: Environment,
    pub(crate) snapshot: ArcSwap<Snapshot>,
    /// What devices are found by.
    pub(crate) texts: Arc<DeviceTexts>,
    followers: Vec<Box<dyn Follower>>,
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

/// Commands of one transaction, and the snapshot that is made of them meanwhile.
pub(crate) struct Several<'b, 'c> {
    batch: &'b mut Batch<'c>,
    next: Next<'b>,
    followers: &'b [Box<dyn Follower>],
    /// Of each follower, whether some command concerns it.
    concerned: Vec<bool>,
}

impl Committer {
    pub(crate) fn new(records: Records, environment: Environment, snapshot: Snapshot) -> Self {
        let (records, texts) = (Arc::new(records), Arc::new(DeviceTexts::new(&environment.folder)));
        let followers = followers(&environment, &texts);
        followers.iter().for_each(|follower| follower.catch_up(&records));
        Self {
            records,
            environment,
            snapshot: ArcSwap::from_pointee(snapshot),
            texts,
            followers,
            one_at_a_time: Mutex::default(),
            renewing: tokio::sync::Mutex::default(),
        }
    }

    /// Waits for its turn.
    pub(crate) fn turn(&self) -> Turn<'_> {
        Turn { committer: self, _held: self.one_at_a_time.lock().unwrap_or_else(PoisonError::into_inner) }
    }

    /// Takes the turn with what was made of something before it, since hashing a password or checking a policy is slow
    /// and everybody would wait for it: made anew where that is otherwise by then. Where it is otherwise again and
    /// again, it is made within the turn in the end: nobody who changes much keeps another from ever having theirs.
    pub(crate) fn prepared<B: PartialEq, M>(
        &self,
        read: impl Fn() -> Result<B, AdministrationError>,
        make: impl Fn(&B) -> Result<M, AdministrationError>,
    ) -> Result<(Turn<'_>, B, M), AdministrationError> {
        for _ in 0..TRIES {
            let before = read()?;
            let made = make(&before)?;
            let turn = self.turn();
            if read()? == before {
                return Ok((turn, before, made));
            }
        }
        let turn = self.turn();
        let before = read()?;
        let made = make(&before)?;
        Ok((turn, before, made))
    }

    /// Applies a command that no decision depends on.
    pub(crate) fn apply(&self, author: &Author, command: Command) -> Result<Done, AdministrationError> {
        Ok(self.records.apply(&Envelope::new(author, now_ms(), command))?)
    }

    /// Lets what was fetched count from now on. What others sent us makes nothing of ours unusable: where it would,
    /// all stays as it was.
    pub(crate) fn count_what_was_fetched(&self) {
        let turn = self.turn();
        let fetched = Next::new(&self.environment, &self.snapshot.load()).fetched().of(&*self.records);
        match self.fit(fetched) {
            Ok(fetched) => self.snapshot.store(Arc::new(fetched)),
            Err(error) => tracing::error!("what was fetched does not count: {error}"),
        }
        drop(turn);
    }

    /// A snapshot that counts where nothing in it became unusable.
    fn fit(&self, after: Snapshot) -> Result<Snapshot, AdministrationError> {
        let before = self.snapshot.load();
        let new = after.unusable().find(|one| !before.unusable().any(|known| known == *one)).cloned();
        match new {
            Some(unusable) => Err(AdministrationError::Unusable(unusable)),
            None => Ok(after),
        }
    }
}

impl Turn<'_> {
    /// Applies a command and puts it in force. Conversations in flight end under what they began with.
    pub(crate) fn commit(&self, by: &Author, command: Command) -> Result<Done, AdministrationError> {
        self.commit_expecting(by, command, Expected::Anything)
    }

    /// The same, where the records are as its author saw them.
    pub(crate) fn commit_expecting(
        &self,
        by: &Author,
        command: Command,
        expected: Expected,
    ) -> Result<Done, AdministrationError> {
        let Committer { records, environment, snapshot, followers, .. } = self.committer;
        let envelope = Envelope::new(by, now_ms(), command).expecting(expected);
        let committed = records.commit(&envelope, |pending, done| {
            let mut next = Next::new(environment, &snapshot.load());
            next.take(&envelope.command, done);
            self.committer.fit(next.of(pending))
        })?;
        if let Some(after) = committed.built {
            snapshot.store(Arc::new(after));
            let concerned = followers.iter().filter(|follower| follower.concerns(&envelope.command));
            concerned.for_each(|follower| follower.follow(records, &envelope.command));
        }
        Ok(committed.done)
    }

    /// Applies commands in one transaction and puts them in force together, where they are kept in the end.
    pub(crate) fn commit_several<T>(
        &self,
        run: impl FnOnce(&mut Several<'_, '_>) -> Result<(T, Keep), AdministrationError>,
    ) -> Result<T, AdministrationError> {
        let Committer { records, environment, snapshot, followers, .. } = self.committer;
        let (came, after) = records.batch(|batch| {
            let (next, concerned) = (Next::new(environment, &snapshot.load()), vec![false; followers.len()]);
            let mut several = Several { batch, next, followers, concerned };
            let (came, keep) = run(&mut several)?;
            let Several { batch, next, concerned, .. } = several;
            let after = match keep {
                Keep::All => Some((self.committer.fit(next.of(batch))?, concerned)),
                Keep::Nothing => None,
            };
            Ok::<_, AdministrationError>(((came, after), keep))
        })?;
        if let Some((after, concerned)) = after {
            snapshot.store(Arc::new(after));
            let concerned = followers.iter().zip(concerned).filter(|(_, is)| *is);
            concerned.for_each(|(follower, _)| follower.catch_up(records));
        }
        Ok(came)
    }
}

impl Several<'_, '_> {
    /// Applies a command; a refusal is what it deserves, and the others go on.
    pub(crate) fn apply(&mut self, by: &Author, command: Command) -> Result<Result<Done, Refusal>, RecordsError> {
        let envelope = Envelope::new(by, now_ms(), command);
        let applied = self.batch.apply(&envelope)?;
        if let Ok(done) = &applied {
            self.next.take(&envelope.command, *done);
            for (concerned, follower) in self.concerned.iter_mut().zip(self.followers) {
                *concerned |= follower.concerns(&envelope.command);
            }
        }
        Ok(applied)
    }
}
