use std::sync::Arc;
use std::time::Instant;

use regnant_equipment::Nas;
use regnant_equipment::radius::{AcceptedAccounting, AcceptedReport, DecisionClass, accept_accounting};
use regnant_evidence::{Cause, FoundDecision, Report};
use regnant_journal::{AccountingHandle, AccountingSlot};
use regnant_radius::{Code, number};
use ulid::Ulid;

use crate::clock::now_ms;
use crate::snapshot::Snapshot;
use crate::udp::listening::{Ids, Receive};
use crate::udp::sink::{DatagramSink, Sink};
use crate::udp::socket::{BatchSocket, Datagram};
use crate::udp::{RadiusState, count};

/// Class attributes of a report that are looked at.
const MOST_CLASSES: usize = 16;

/// Takes reports on one socket. Each is handed to the thread that keeps them, which sends the
/// response once it is on the disk.
pub(crate) struct AccountingReceiver {
    pub(crate) radius: Arc<RadiusState>,
    pub(crate) accounting: AccountingHandle,
    pub(crate) ids: Ids,
}

impl Receive for AccountingReceiver {
    fn is_held_up(&self) -> bool {
        self.accounting.is_held_up()
    }

    fn take(&mut self, socket: &Arc<BatchSocket>, datagram: &Datagram<'_>) -> bool {
        let snapshot = self.radius.administration.snapshot();
        // Before anything is computed: in a flood this is all that a packet costs.
        let nas = snapshot.nases.find(datagram.source.ip());
        let slot = nas.and_then(|nas| self.accounting.slot(&nas.name));
        // Status-Server needs no place: equipment that gets no answer to it declares us dead.
        if nas.is_some() && slot.is_none() && datagram.bytes.first() != Some(&Code::STATUS_SERVER.0) {
            return false;
        }
        self.report(socket, datagram, &snapshot, nas, slot);
        true
    }

    fn left_out(&self) {
        count(&self.radius.counters.received);
        count(&self.radius.counters.unjournaled);
    }
}

impl AccountingReceiver {
    fn report(
        &mut self,
        socket: &Arc<BatchSocket>,
        datagram: &Datagram<'_>,
        snapshot: &Snapshot,
        nas: Option<&Arc<Nas>>,
        slot: Option<AccountingSlot>,
    ) {
        count(&self.radius.counters.received);
        let (radius, source) = (&self.radius, datagram.source);
        let unheard = |cause: Cause, ids: &mut Ids| {
            let nas = nas.map(|nas| nas.name.as_str());
            radius.unheard.note((source.ip(), datagram.bytes), nas, cause, now_ms(), || ids.next());
        };
        let accepted = match accept_accounting(nas, source, datagram.bytes, now_ms()) {
            Ok(AcceptedAccounting::Report(accepted)) => accepted,
            Ok(AcceptedAccounting::Status(reply)) => {
                count(&radius.counters.status);
                return radius.send(&DatagramSink::of(socket, datagram), &reply);
            }
            Err(cause) => return unheard(cause, &mut self.ids),
        };
        let Some(slot) = slot else { return };
        let Ok(response) = accepted.response() else {
            return unheard(Cause::Malformed("its Proxy-State leaves no room for an answer".into()), &mut self.ids);
        };
        let sink = DatagramSink::of(socket, datagram);
        let (identifier, authenticator) = (accepted.packet().identifier(), *accepted.packet().authenticator());
        let key = (sink.channel(), identifier);
        if radius.is_repeat(&radius.reported, (key, &authenticator), Instant::now(), &sink) {
            return;
        }
        let report = accepted.report();
        let decision = find_decision(radius, &accepted, &report);
        let vocabulary = &snapshot.active.edition.vocabulary;
        let (record, event) = accepted.record(self.ids.next(), report, decision, vocabulary);
        let radius = radius.clone();
        slot.report(record, event, move || {
            radius.reported.finish(key, &authenticator, Some(&response), Instant::now());
            count(&radius.counters.reports);
            radius.send(&sink, &response);
        });
    }
}

/// The decision behind a report: that of the Class it repeats, or one that fits.
fn find_decision(radius: &RadiusState, accepted: &AcceptedReport, report: &Report) -> Option<FoundDecision> {
    let packet = accepted.packet();
    let by_class =
        packet.all(number::CLASS).take(MOST_CLASSES).find_map(|class| DecisionClass::decision(class, &radius.secret));
    let inferred = || {
        let happened = now_ms().saturating_sub(u64::from(report.delay) * 1_000);
        radius.granted.find(&accepted.nas.name, report, happened)
    };
    let bytes = |id: Ulid| id.to_bytes();
    by_class.map(bytes).map(FoundDecision::ByClass).or_else(|| inferred().map(bytes).map(FoundDecision::Inferred))
}
