use std::cell::RefCell;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, Waker};
use std::time::Instant;

use regnant_decision::Resources;
use regnant_equipment::Nas;
use regnant_equipment::radius::{AcceptedRequest, Conversation, Handled, accept, decide};
use regnant_evidence::Cause;
use regnant_journal::{JournalHandle, JournalSlot};
use regnant_radius::{Code, number};
use tokio::runtime::Handle;
use ulid::Ulid;

use crate::clock::now_ms;
use crate::snapshot::Snapshot;
use crate::udp::conversations::{Put, Waiting};
use crate::udp::duplicates::{Answer, Duplicates, Key};
use crate::udp::handshakes::Turn;
use crate::udp::listening::{Ids, Receive};
use crate::udp::sink::{DatagramSink, Sink};
use crate::udp::socket::{BatchSocket, Datagram};
use crate::udp::{RadiusState, count};

/// Takes requests on one socket. Decisions that need no wait are made here, at once; the
/// others go on as tasks of the service's runtime, so that nothing waits behind them.
pub(crate) struct Receiver {
    pub(crate) radius: Arc<RadiusState>,
    pub(crate) journal: JournalHandle,
    pub(crate) slow: Handle,
    pub(crate) ids: Ids,
}

impl Receive for Receiver {
    fn is_held_up(&self) -> bool {
        self.journal.is_held_up()
    }

    fn take(&mut self, socket: &Arc<BatchSocket>, datagram: &Datagram<'_>) -> bool {
        let Self { radius, journal, slow, ids } = self;
        let snapshot = radius.administration.snapshot();
        // Before anything is computed: in a flood this is all that a packet costs.
        let nas = snapshot.nases.find(datagram.source.ip());
        let slot = nas.and_then(|nas| journal.slot(&nas.name));
        // Status-Server needs no place: equipment that gets no answer to it declares us dead.
        if nas.is_some() && slot.is_none() && datagram.bytes.first() != Some(&Code::STATUS_SERVER.0) {
            return false;
        }
        Receiving { radius, slow, socket, ids, snapshot: &snapshot, nas, slot }.take(datagram);
        true
    }

    fn left_out(&self) {
        count(&self.radius.counters.received);
        count(&self.radius.counters.unjournaled);
    }
}

/// Everything needed to deal with one datagram.
struct Receiving<'r> {
    radius: &'r Arc<RadiusState>,
    slow: &'r Handle,
    socket: &'r Arc<BatchSocket>,
    ids: &'r mut Ids,
    snapshot: &'r Arc<Snapshot>,
    /// Who sent it, where that is known, and the place that its entry has.
    nas: Option<&'r Arc<Nas>>,
    slot: Option<JournalSlot>,
}

/// Where an answer goes, and what it is remembered by.
struct ReplyTo<S> {
    radius: Arc<RadiusState>,
    nas: Arc<Nas>,
    /// When the first packet of the conversation came.
    begun: Instant,
    sink: S,
    slot: JournalSlot,
    key: Key,
    authenticator: [u8; 16],
}

impl Receiving<'_> {
    fn take(self, datagram: &Datagram<'_>) {
        let received = Instant::now();
        count(&self.radius.counters.received);
        let (nas, source) = (self.nas, datagram.source);
        let accepted = match accept(nas, source, datagram.bytes, now_ms()) {
            Ok(accepted) => accepted,
            Err(cause) => {
                let nas = nas.map(|nas| nas.name.as_str());
                let sender = (source.ip(), datagram.bytes);
                return self.radius.unheard.note(sender, nas, cause, now_ms(), || self.ids.next());
            }
        };
        let sink = DatagramSink::of(self.socket, datagram);
        if let Some(reply) = accepted.status() {
            count(&self.radius.counters.status);
            return self.radius.send(&sink, &reply);
        }
        let Some(slot) = self.slot else { return };
        let (identifier, authenticator) = (accepted.packet().identifier(), *accepted.packet().authenticator());
        let key = (sink.channel(), identifier);
        if self.radius.is_repeat(&self.radius.duplicates, (key, &authenticator), received, &sink) {
            return;
        }
        let nas = accepted.nas.clone();
        let radius = self.radius.clone();
        let mut reply_to = ReplyTo { radius, nas, begun: received, sink, slot, key, authenticator };
        let radius = self.radius.clone();
        let eap = accepted.packet().first(number::EAP_MESSAGE);
        let state = eap.and_then(|_| accepted.packet().first(number::STATE)?.try_into().ok());
        let waiting = state.and_then(|state| self.radius.conversations.take(&state, &accepted.nas.name));
        let Some(waiting) = waiting else {
            return advance(
                Box::pin(first_packet(radius, self.snapshot.clone(), self.ids.next(), accepted, received)),
                reply_to,
                self.slow,
            );
        };
        reply_to.begun = waiting.begun;
        if !waiting.conversation.may_need_public_key(&accepted) {
            return advance(Box::pin(next_packet(radius, waiting, accepted)), reply_to, self.slow);
        }
        let (Some(state), Some(reply_to)) = (state, reply_to.later()) else { return };
        let (slow, nas) = (self.slow.clone(), accepted.nas.clone());
        let job = Box::new(move |waiting, turn| match turn {
            Turn::InTime => advance(Box::pin(next_packet(radius, waiting, accepted)), reply_to, &slow),
            Turn::TooLate => radius.leave(key, state, waiting),
        });
        if let Err(waiting) = self.radius.handshakes.submit(&nas.name, waiting, job) {
            self.radius.leave(key, state, waiting);
        }
    }
}

/// Decides a request that belongs to no conversation.
async fn first_packet(
    radius: Arc<RadiusState>,
    snapshot: Arc<Snapshot>,
    id: Ulid,
    accepted: AcceptedRequest,
    received: Instant,
) -> Handled {
    decide(id, accepted, &snapshot.active, &resources(&radius), || received.elapsed()).await
}

/// Goes on with a conversation.
async fn next_packet(radius: Arc<RadiusState>, waiting: Waiting, accepted: AcceptedRequest) -> Handled {
    waiting.conversation.go_on(accepted, &resources(&radius), || waiting.begun.elapsed()).await
}

fn resources(radius: &RadiusState) -> Resources<'_> {
    Resources {
        sessions: &radius.sessions,
        machines: &radius.machines,
        responders: &*radius.administration.environment().issuers,
        guesses: &radius.guesses,
        timer: &radius.guesses,
        random,
        secret: &radius.secret,
        retries: radius.retries,
        now: now_ms(),
    }
}

/// Random bytes of the system, fetched many at a time: a call for each State would
/// be a tenth of what a round costs.
fn random(bytes: &mut [u8]) {
    thread_local! {
        static STOCK: RefCell<(usize, [u8; 1_024])> = const { RefCell::new((1_024, [0; 1_024])) };
    }
    STOCK.with_borrow_mut(|(used, stock)| {
        if stock.len() - *used < bytes.len() {
            getrandom::fill(stock).expect("the system gives random bytes");
            *used = 0;
        }
        match stock.get_mut(*used..*used + bytes.len()) {
            Some(fresh) => {
                bytes.copy_from_slice(fresh);
                // Nobody shall find in memory what was given out.
                fresh.fill(0);
                *used += bytes.len();
            }
            None => getrandom::fill(bytes).expect("the system gives random bytes"),
        }
    });
}

/// Polls work that is most often ready; what waits goes on as a task.
fn advance<F, S>(mut work: Pin<Box<F>>, reply_to: ReplyTo<S>, slow: &Handle)
where
    F: Future<Output = Handled> + Send + 'static,
    S: Sink + 'static,
{
    if let Poll::Ready(outcome) = poll_within(slow, work.as_mut()) {
        return reply_to.finish(outcome);
    }
    // What waits has a bound of its own, so that what need not finds its place.
    if let Some(reply_to) = reply_to.later() {
        slow.spawn(async move { reply_to.finish(work.await) });
    }
}

impl<S: Sink> ReplyTo<S> {
    /// The same for what has to wait; none where too much of its NAS does. It may ask again.
    fn later(self) -> Option<Self> {
        match self.slot.late(&self.nas.name) {
            Some(slot) => Some(Self { slot, ..self }),
            None => {
                count(&self.radius.counters.crowded_out);
                self.radius.duplicates.forget(self.key);
                None
            }
        }
    }

    fn finish(self, outcome: Handled) {
        if !self.slot.may_answer() {
            // The journal failed meanwhile: nobody gets an answer that nobody can
            // read up on. The NAS asks again.
            count(&self.radius.counters.unjournaled);
            return self.radius.duplicates.forget(self.key);
        }
        match outcome {
            Handled::Decided(decision) => {
                self.radius.granted.note(&decision);
                self.send(decision.exchange.reply());
                self.slot.decision(*decision);
            }
            Handled::Challenge { reply, state, conversation } => {
                // A challenge that nobody could go on with is never sent.
                match self.radius.keep(state, conversation, self.begun) {
                    true => self.send(Some(&reply)),
                    false => self.radius.duplicates.forget(self.key),
                }
            }
        }
    }

    /// Kept before it is sent: who has the answer may repeat the question at once.
    fn send(&self, reply: Option<&[u8]>) {
        self.radius.duplicates.finish(self.key, &self.authenticator, reply, Instant::now());
        if let Some(bytes) = reply {
            self.radius.send(&self.sink, bytes);
        }
    }
}

impl RadiusState {
    /// A packet that could not be dealt with: its conversation waits for the same packet again.
    fn leave(&self, key: Key, state: [u8; 16], waiting: Waiting) {
        count(&self.counters.crowded_out);
        self.duplicates.forget(key);
        self.keep(state, waiting.conversation, waiting.begun);
    }

    /// Keeps a conversation until its next packet, and notes who went for it.
    fn keep(&self, state: [u8; 16], conversation: Box<Conversation>, begun: Instant) -> bool {
        let Put { kept, given_up } = self.conversations.put(state, conversation, begun, Instant::now());
        for given_up in given_up {
            // One entry for a flood, whatever its size, and of the NAS that sends it:
            // whose packet it was that found no room says nothing.
            count(&self.counters.crowded_out);
            let id = || Ulid::from_parts(now_ms(), rand_id());
            let (source, nas) = (given_up.source().ip(), Some(given_up.nas()));
            self.unheard.note((source, &[]), nas, Cause::TooManyConversations, now_ms(), id);
        }
        kept
    }
}

impl RadiusState {
    /// Whether a request is being worked on or was answered a moment ago; then it gets the
    /// same answer, where there is one yet.
    pub(crate) fn is_repeat(
        &self,
        known: &Duplicates,
        (key, authenticator): (Key, &[u8; 16]),
        now: Instant,
        sink: &impl Sink,
    ) -> bool {
        let Some(answer) = known.begin(key, authenticator, now) else { return false };
        count(&self.counters.repeated);
        if let Answer::Reply(bytes) = answer {
            self.send(sink, &bytes);
        }
        true
    }

    /// A reply that the system does not take is lost like any datagram: the NAS repeats
    /// its request and gets the answer that was kept.
    pub(crate) fn send(&self, sink: &impl Sink, bytes: &[u8]) {
        if let Err(error) = sink.send(bytes) {
            count(&self.counters.unsent);
            tracing::debug!("a reply was not sent: {error}");
        }
    }
}

/// The part of an id that only needs to differ.
fn rand_id() -> u128 {
    let mut bytes = [0; 16];
    random(&mut bytes);
    u128::from_be_bytes(bytes) >> 48
}

/// Polls a future that is most often ready. Where it is not, the task that goes on with
/// it polls again and is woken: timers and sockets that it has begun to wait for are
/// therefore those of its runtime, and not of the receiving thread.
fn poll_within<F: Future>(runtime: &Handle, future: Pin<&mut F>) -> Poll<F::Output> {
    let _driven = runtime.enter();
    future.poll(&mut Context::from_waker(Waker::noop()))
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tokio::runtime;

    use super::*;

    #[test]
    fn a_store_that_sleeps_is_woken_by_the_runtime_that_goes_on_with_it() {
        let slow = runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let receiving = runtime::Builder::new_current_thread().enable_io().build().unwrap();
        let mut answer = Box::pin(async {
            tokio::time::sleep(Duration::from_millis(20)).await;
            7
        });
        receiving.block_on(async { assert!(poll_within(slow.handle(), answer.as_mut()).is_pending()) });
        drop(receiving);
        let answered = slow.block_on(async { tokio::time::timeout(Duration::from_secs(5), answer).await });
        assert_eq!(answered, Ok(7));
    }
}
