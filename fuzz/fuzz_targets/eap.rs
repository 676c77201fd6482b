//! Any bytes from a supplicant, at the server's end of every method.
#![no_main]

use std::sync::{Arc, LazyLock};

use libfuzzer_sys::fuzz_target;
use regnant_certificates::{Authority, Bundle, Order, Purpose, read_certificates};
use regnant_eap::*;

static TLS: LazyLock<ServerTls> = LazyLock::new(|| {
    let authority = Authority::new("Tarnmouth Demo Root", 1_700_000_000).unwrap();
    let order = Order {
        common_name: "radius.tarnmouth.example".into(),
        dns: vec!["radius.tarnmouth.example".into()],
        upn: Vec::new(),
        purpose: Purpose::Server,
        not_before: 1_700_000_000,
        not_after: 4_000_000_000,
        serial: 1,
        ocsp: None,
    };
    let issued = authority.issue(&order).unwrap();
    let bundle = Bundle::from_pem(&format!("{}{}", issued.certificate, issued.key)).unwrap();
    let authorities = read_certificates(authority.certificate()).unwrap();
    let trust = Trust::new(&authorities, &[], Judgement::default()).unwrap();
    ServerTls::new(&bundle.chain, bundle.key.unwrap().expose(), None, Some(Arc::new(trust))).unwrap()
});

fn offer(number: u8) -> Offer {
    let tls = TLS.clone();
    match number % 7 {
        0 => Offer::Md5,
        1 => Offer::Gtc,
        2 => Offer::MsChapV2,
        3 => Offer::Tls(tls),
        4 => Offer::peap(tls, [Offer::MsChapV2].into()),
        5 => Offer::Ttls(tls, [InnerOffer::Pap, InnerOffer::MsChapV2].into()),
        _ => Offer::Teap { tls, inner: [Offer::MsChapV2].into(), identities: [IdentityType::User].into() },
    }
}

// The first byte chooses the method; the rest are packets, each after its length.
// Their identifiers are set right, so that they get past the first check.
fuzz_target!(|bytes: &[u8]| {
    let Some((first, mut rest)) = bytes.split_first() else { return };
    let mut server =
        Conversation::new([offer(*first)].into(), None, Limits::default(), Box::new(|bytes| bytes.fill(7)));
    let mut identifier = match server.begin() {
        Step::Send(packet) => packet[1],
        _ => return,
    };
    while let Some((length, after)) = rest.split_first() {
        let (packet, after) = after.split_at(after.len().min(usize::from(*length) * 4));
        rest = after;
        let mut packet = packet.to_vec();
        if packet.len() > 4 {
            let [a, b] = (packet.len() as u16).to_be_bytes();
            packet[..4].copy_from_slice(&[2, identifier, a, b]);
        }
        let mut step = server.receive(&packet);
        loop {
            step = match step {
                Step::Send(packet) => {
                    identifier = packet[1];
                    break;
                }
                Step::Ask(claim) => server.answer(claim.credential.check_password(b"Tide-Table-61")),
                Step::Verdict => server.conclude(true),
                Step::Accept(..) | Step::Refuse(..) => return,
                Step::Ignore(_) => break,
            };
        }
    }
});
