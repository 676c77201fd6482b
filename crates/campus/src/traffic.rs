//! A little traffic, so that there is always something to watch.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::time::Duration;

use crate::accounting::Accounting;
use crate::enforce::Outcome;
use crate::harbour::{QUAY_SW_1, STRAY_SW_9, YARD_SW_1, dictionary};
use crate::nas::Nas;
use crate::story::Scene;
use regnant_client::{Ask, Patience};

const PAUSE: Duration = Duration::from_millis(1_200);

/// Sends requests one after another, a moment apart, and reports to `accounting` on what was
/// given, until the other end of `stop` is dropped; `tell` hears who asked what, and what came
/// of it.
pub fn run(
    server: SocketAddr,
    accounting: SocketAddr,
    scenes: &[Scene],
    stop: &Receiver<()>,
    tell: impl Fn(&Nas, &Ask, &Outcome),
) {
    let dictionary = Arc::new(dictionary());
    let mut accounting = Accounting::new(accounting, dictionary.clone());
    for turn in 0usize.. {
        match turn % 3 {
            // Two of three are devices at the quay and in the yard coming and going.
            0 => {
                let scene = &scenes[(turn / 3) % scenes.len()];
                tell(&scene.nas, &scene.ask, &scene.play(server, &dictionary, Some(&mut accounting)));
            }
            _ => {
                let (nas, ask) = device(turn);
                let mut exchange = nas.exchange(server);
                if nas.name == STRAY_SW_9.name {
                    exchange.patience = Patience { first: Duration::from_millis(50), tries: 1, ..Patience::default() };
                }
                tell(&nas, &ask, &nas.ask(&exchange, &ask, &dictionary, Some(&mut accounting)));
            }
        }
        match turn % 10 {
            4 => accounting.go_on(),
            9 if turn > 30 => accounting.end_oldest("Idle-Timeout"),
            _ => {}
        }
        if stop.recv_timeout(PAUSE) != Err(RecvTimeoutError::Timeout) {
            return accounting.close();
        }
    }
}

/// A device of the harbour at its place; steps that share no factor with the
/// numbers of devices visit all of them.
fn device(turn: usize) -> (Nas, Ask) {
    let step = turn * 7 + turn / 5;
    let port = (step % 24 + 1) as u32;
    match turn % 11 {
        0..=2 => (QUAY_SW_1, Ask::mac(&format!("02-00-5E-20-00-{:02X}", step % 0x12 + 1), port)),
        3 | 4 => (YARD_SW_1, Ask::mac(&format!("02-00-5E-40-00-{:02X}", step % 0x28 + 1), port)),
        5..=8 => (QUAY_SW_1, Ask::mac(&format!("02-00-5E-50-00-{:02X}", step % 0x3c + 1), port)),
        9 => (STRAY_SW_9, Ask::mac("02-00-5E-20-00-07", port).with("NAS-Identifier", STRAY_SW_9.name)),
        _ => (YARD_SW_1, Ask::mac(&format!("02-00-5E-99-00-{:02X}", step % 9 + 1), port)),
    }
}
