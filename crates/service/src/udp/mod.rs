//! The RADIUS side: threads that receive, decide and reply.

pub(crate) mod duplicates;
pub(crate) mod receiver;
pub(crate) mod socket;
pub(crate) mod unheard;

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use serde::Serialize;
use utoipa::ToSchema;

use crate::office::Office;
use crate::udp::duplicates::Duplicates;
use crate::udp::unheard::Unheard;

/// What all receiving threads share.
pub(crate) struct Desk {
    pub(crate) office: Arc<Office>,
    pub(crate) duplicates: Duplicates,
    pub(crate) unheard: Unheard,
    pub(crate) counters: Counters,
}

/// What happened to packets, counted since the start.
#[derive(Debug, Default)]
pub(crate) struct Counters {
    pub(crate) received: AtomicU64,
    pub(crate) repeated: AtomicU64,
    pub(crate) unjournaled: AtomicU64,
    pub(crate) unsent: AtomicU64,
}

/// Packet counts since the start.
#[derive(Clone, Copy, Debug, Serialize, ToSchema)]
pub(crate) struct PacketCounts {
    /// Datagrams received.
    pub(crate) received: u64,
    /// Duplicates of requests being worked on or answered a moment ago.
    pub(crate) repeated: u64,
    /// Requests left unanswered because the journal's queue was full.
    pub(crate) unjournaled: u64,
    /// Replies that the system did not take.
    pub(crate) unsent: u64,
    /// Unheard packets of senders beyond those that the list holds.
    pub(crate) unlisted: u64,
}

impl Desk {
    pub(crate) fn counts(&self) -> PacketCounts {
        let read = |counter: &AtomicU64| counter.load(Ordering::Relaxed);
        PacketCounts {
            received: read(&self.counters.received),
            repeated: read(&self.counters.repeated),
            unjournaled: read(&self.counters.unjournaled),
            unsent: read(&self.counters.unsent),
            unlisted: self.unheard.unlisted(),
        }
    }
}

pub(crate) fn count(counter: &AtomicU64) {
    counter.fetch_add(1, Ordering::Relaxed);
}
