//! A whole conversation in which one packet is changed: it never ends in a success
//! whose keys differ between the two ends.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_eap::*;

fn random() -> Random {
    let mut count = 0u8;
    Box::new(move |bytes| {
        bytes.iter_mut().for_each(|byte| {
            count = count.wrapping_mul(37).wrapping_add(11);
            *byte = count;
        })
    })
}

// Which packet, where in it, and with what it is replaced.
fuzz_target!(|bytes: &[u8]| {
    let [number, at, replacement @ ..] = bytes else { return };
    let offers = [Offer::Md5, Offer::Gtc, Offer::MsChapV2].into();
    let mut server = Conversation::new(offers, None, Limits::default(), random());
    let login = Login::new("ida.marsh", "Tide-Table-61");
    let mut peer = Peer::new("ida.marsh", PeerMethod::MsChapV2(login), 1_000, random());
    let mut count = 0;
    let mut change = |packet: &mut Vec<u8>| {
        count += 1;
        if count == *number % 10 {
            let at = usize::from(*at) % packet.len().max(1);
            packet.truncate(at);
            packet.extend_from_slice(replacement);
        }
    };
    let mut step = server.begin();
    for _ in 0..60 {
        step = match step {
            Step::Send(mut packet) => {
                change(&mut packet);
                match peer.receive(&packet) {
                    PeerStep::Send(mut answer) => {
                        change(&mut answer);
                        server.receive(&answer)
                    }
                    _ => return,
                }
            }
            Step::Ask(claim) => server.answer(claim.credential.check_password(b"Tide-Table-61")),
            Step::Verdict => server.conclude(true),
            Step::Accept(packet, keys) => {
                if let PeerStep::Success(ours) = peer.receive(&packet) {
                    assert_eq!(ours, keys);
                }
                return;
            }
            Step::Refuse(..) | Step::Ignore(_) => return,
        };
    }
});
