//! The RADIUS side: threads that receive, decide and reply.

pub(crate) mod accounting;
pub(crate) mod conversations;
pub(crate) mod duplicates;
pub(crate) mod granted;
pub(crate) mod guesses;
pub(crate) mod handshakes;
pub(crate) mod listening;
mod parked;
pub(crate) mod receiver;
pub(crate) mod sink;
pub(crate) mod socket;
pub(crate) mod unheard;

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use regnant_decision::{Machines, ResumptionTable};
use serde::Serialize;
use utoipa::ToSchema;

use crate::administration::Administration;
use crate::udp::conversations::Conversations;
use crate::udp::duplicates::Duplicates;
use crate::udp::granted::Granted;
use crate::udp::guesses::Patience;
use crate::udp::handshakes::Handshakes;
use crate::udp::unheard::Unheard;

/// What all receiving threads share.
pub(crate) struct RadiusState {
    pub(crate) administration: Arc<Administration>,
    pub(crate) duplicates: Duplicates,
    /// The same for reports, so that neither drives the other out.
    pub(crate) reported: Duplicates,
    pub(crate) granted: Granted,
    pub(crate) conversations: Conversations,
    pub(crate) handshakes: Handshakes,
    pub(crate) sessions: Arc<ResumptionTable>,
    pub(crate) machines: Machines,
    pub(crate) guesses: Patience,
    /// What opaque names are made with.
    pub(crate) secret: [u8; 32],
    /// How often a password may be typed anew in one conversation.
    pub(crate) retries: u8,
    pub(crate) unheard: Unheard,
    pub(crate) counters: Counters,
}

/// What happened to packets, counted since the start.
#[derive(Debug, Default)]
pub(crate) struct Counters {
    pub(crate) received: AtomicU64,
    pub(crate) repeated: AtomicU64,
    pub(crate) unjournaled: AtomicU64,
    pub(crate) status: AtomicU64,
    pub(crate) reports: AtomicU64,
    pub(crate) unsent: AtomicU64,
    pub(crate) crowded_out: AtomicU64,
}

/// Packet counts since the start.
#[derive(Clone, Copy, Debug, Serialize, ToSchema)]
pub(crate) struct PacketCounts {
    /// Datagrams received.
    pub(crate) received: u64,
    /// Duplicates of requests being worked on or answered a moment ago.
    pub(crate) repeated: u64,
    /// Packets dropped because their NAS had its share of what waits for the journal or for
    /// accounting, or because these could not be written.
    pub(crate) unjournaled: u64,
    /// Status-Server requests answered.
    pub(crate) status: u64,
    /// Reports (Accounting-Request) that were kept and acknowledged.
    pub(crate) reports: u64,
    /// Replies that the system did not take.
    pub(crate) unsent: u64,
    /// Packets or half-open EAP conversations given up because there were too many.
    pub(crate) crowded_out: u64,
    /// EAP conversations in progress.
    pub(crate) conversations: u64,
    /// EAP sessions that may be resumed.
    pub(crate) resumable: u64,
    /// Unheard packets of senders beyond those that the list holds.
    pub(crate) unlisted: u64,
}

impl RadiusState {
    pub(crate) fn counts(&self) -> PacketCounts {
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        PacketCounts {
            received: read(&self.counters.received),
            repeated: read(&self.counters.repeated),
            unjournaled: read(&self.counters.unjournaled),
            status: read(&self.counters.status),
            reports: read(&self.counters.reports),
            unsent: read(&self.counters.unsent),
            crowded_out: read(&self.counters.crowded_out),
            conversations: self.conversations.len() as u64,
            resumable: self.sessions.len() as u64,
            unlisted: self.unheard.unlisted(),
        }
    }
}

pub(crate) fn count(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}
