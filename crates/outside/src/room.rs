//! How many questions are on their way.

use std::future::Future;

use regnant_base::Shares;
use regnant_decision::{Answer, NoAnswer, StoreReply};
use tokio::runtime::Handle;
use tokio::task::JoinHandle;

/// Questions of one store that are on their way at once; of these each NAS has its share, and
/// whoever finds no room is told at once.
const AT_ONCE: usize = 256;

/// Room for the questions of a store, on the runtime that drives its connections.
#[derive(Debug)]
pub struct Room {
    places: Shares,
    runtime: Handle,
}

impl Room {
    /// Room on this runtime.
    pub fn new(runtime: Handle) -> Self {
        Self { places: Shares::default(), runtime }
    }

    /// The runtime.
    pub fn runtime(&self) -> &Handle {
        &self.runtime
    }

    /// Has a question asked on the runtime, whoever waits for it; it is forgotten with whoever
    /// waits.
    pub fn ask<'s, T, E>(
        &self,
        asker: &str,
        question: impl Future<Output = Result<T, E>> + Send + 'static,
    ) -> StoreReply<'s, T>
    where
        T: Send + 'static,
        E: Into<NoAnswer> + Send + 'static,
    {
        let Some(place) = self.places.take(asker, AT_ONCE) else {
            return StoreReply::Now(Err(NoAnswer::NoRoom("too many questions wait for it already".into())));
        };
        let task = self.runtime.spawn(async move {
            let _place = place;
            question.await
        });
        let asked = Asked(task);
        StoreReply::later(asked.answer())
    }
}

struct Asked<T, E>(JoinHandle<Result<T, E>>);

impl<T, E: Into<NoAnswer>> Asked<T, E> {
    async fn answer(mut self) -> Answer<T> {
        match (&mut self.0).await {
            Ok(answer) => answer.map_err(Into::into),
            // A library that meets what it does not know may have no other word for it.
            Err(_) => Err(NoAnswer::Silent("it answers what nobody understands".into())),
        }
    }
}

impl<T, E> Drop for Asked<T, E> {
    fn drop(&mut self) {
        self.0.abort();
    }
}
