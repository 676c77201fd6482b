//! A whole conversation in which one packet is changed, by methods with a tunnel too:
//! it never ends in a success whose keys differ between the two ends.
#![no_main]

use std::sync::{Arc, LazyLock};

use libfuzzer_sys::fuzz_target;
use regnant_certificates::{Authority, Bundle, Order, Purpose, read_certificates};
use regnant_eap::*;

const SERVER: &str = "radius.tarnmouth.example";

/// Both ends of TLS, set up once.
static TLS: LazyLock<(ServerTls, ClientTls)> = LazyLock::new(|| {
    let authority = Authority::new("Tarnmouth Demo Root", 1_700_000_000).unwrap();
    let order = Order {
        common_name: SERVER.into(),
        dns: vec![SERVER.into()],
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
    let server = ServerTls::new(&bundle.chain, bundle.key.unwrap().expose(), None, Some(Arc::new(trust))).unwrap();
    (server, ClientTls::new(&authorities, SERVER, None, None).unwrap())
});

fn random() -> Random {
    let mut count = 0u8;
    Box::new(move |bytes| {
        bytes.iter_mut().for_each(|byte| {
            count = count.wrapping_mul(37).wrapping_add(11);
            *byte = count;
        })
    })
}

fn ends(number: u8) -> (Vec<Offer>, PeerMethod) {
    let login = || Login::new("ida.marsh", "Tide-Table-61");
    let inner = || PeerMethod::MsChapV2(login());
    let (server, client) = TLS.clone();
    let client = client.without_resumption();
    match number % 4 {
        0 => (vec![Offer::Md5, Offer::Gtc, Offer::MsChapV2], inner()),
        1 => (
            vec![Offer::Peap { tls: server, inner: [Offer::MsChapV2].into(), bound: number & 4 != 0 }],
            PeerMethod::peap(client, "ida.marsh".into(), Box::new(inner())),
        ),
        2 => (
            vec![Offer::Ttls(server, [InnerOffer::Pap, InnerOffer::MsChapV2].into())],
            PeerMethod::Ttls(
                client,
                if number & 4 == 0 { Tunnelled::MsChapV2(login()) } else { Tunnelled::Password(login()) },
            ),
        ),
        _ => (
            vec![Offer::Teap {
                tls: server,
                inner: [Offer::MsChapV2].into(),
                identities: [IdentityType::Machine, IdentityType::User].into(),
            }],
            PeerMethod::Teap {
                tls: client,
                user: Some(Tunnelled::Eap("ida.marsh".into(), Box::new(inner()))),
                machine: None,
            },
        ),
    }
}

// Which method, which packet, where in it, and with what it is replaced.
fuzz_target!(|bytes: &[u8]| {
    let [method, number, at, replacement @ ..] = bytes else { return };
    let (offers, peer_method) = ends(*method);
    let limits = Limits { session_id: true, ..Limits::default() };
    let mut server = Conversation::new(offers.into(), None, limits, random());
    let mut peer = Peer::new("ida.marsh", peer_method, 1_000, random());
    let mut count = 0;
    let mut change = |packet: &mut Vec<u8>| {
        count += 1;
        if count == *number % 40 {
            let at = usize::from(*at) % packet.len().max(1);
            packet.truncate(at);
            packet.extend_from_slice(replacement);
        }
    };
    let mut step = server.begin();
    for _ in 0..120 {
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
