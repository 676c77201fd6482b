//! 802.1X packet by packet, as equipment sends it and as it should not: repeats,
//! packets that make no sense, other people's conversations, and a flood.
mod running;

use std::net::UdpSocket;
use std::time::{Duration, Instant};

use regnant_campus::Nas;
use regnant_campus::harbour::{MAST_WLC_1, QUAY_SW_1};
use regnant_client::{Ask, Supplicant};
use regnant_eap::{Login, Peer, PeerMethod, PeerStep};
use regnant_radius::{Code, Dictionary, Packet, SharedSecret, check_reply, number};
use running::*;

/// A NAS with a supplicant behind it, which goes on when it is told to.
struct Station {
    nas: Nas,
    socket: UdpSocket,
    supplicant: Supplicant,
    peer: Peer,
    identifier: u8,
    /// What the supplicant says next, and the State to say it with.
    next: (Vec<u8>, Option<Vec<u8>>),
}

/// What came back.
struct Came {
    code: Code,
    bytes: Vec<u8>,
    eap: Option<Vec<u8>>,
    error_cause: Option<u32>,
}

impl Station {
    fn new(service: &Running, nas: Nas, method: PeerMethod) -> Self {
        let socket = UdpSocket::bind((nas.address, 0)).unwrap();
        socket.connect(service.radius).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        let supplicant = Supplicant::new("ida", "ida.marsh", method.clone());
        let random = Box::new(|bytes: &mut [u8]| getrandom::fill(bytes).unwrap());
        let mut peer = Peer::new("ida.marsh", method, 1_000, random);
        let PeerStep::Send(identity) = peer.receive(&[1, 0, 0, 5, 1]) else { panic!("no identity") };
        Self { nas, socket, supplicant, peer, identifier: 0, next: (identity, None) }
    }

    fn secret(&self) -> SharedSecret {
        SharedSecret::new(self.nas.secret.as_bytes())
    }

    /// The packet that carries this EAP packet next.
    fn packet(&mut self, eap: &[u8], state: Option<&[u8]>) -> Vec<u8> {
        self.identifier = self.identifier.wrapping_add(1);
        let ask = Ask::eap(self.supplicant.clone(), "02-00-5E-10-00-01");
        let (secret, dictionary) = (self.secret(), Dictionary::standard());
        ask.conversation_packet(self.identifier, &[self.identifier; 16], &secret, &dictionary, (eap, state)).unwrap()
    }

    fn exchange(&self, packet: &[u8]) -> Came {
        self.socket.send(packet).unwrap();
        let mut buffer = [0; 4096];
        let length = self.socket.recv(&mut buffer).unwrap();
        let reply = check_reply(&buffer[..length], packet[1], &[packet[1]; 16], &self.secret()).unwrap();
        let cause = reply.first(number::ERROR_CAUSE).and_then(|value| value.try_into().ok()).map(u32::from_be_bytes);
        Came { code: reply.code(), bytes: reply.as_bytes().to_vec(), eap: reply.eap_message(), error_cause: cause }
    }

    /// One round: what the supplicant says, and its answer to what came.
    fn go_on(&mut self) -> Came {
        let (eap, state) = self.next.clone();
        let packet = self.packet(&eap, state.as_deref());
        let came = self.exchange(&packet);
        self.take(&came);
        came
    }

    fn take(&mut self, came: &Came) {
        let state = Packet::parse(&came.bytes).unwrap().first(number::STATE).map(<[u8]>::to_vec);
        if let Some(PeerStep::Send(next)) = came.eap.as_ref().map(|eap| self.peer.receive(eap)) {
            self.next = (next, state);
        }
    }

    fn finish(&mut self) -> Code {
        for _ in 0..30 {
            let came = self.go_on();
            if came.code != Code::ACCESS_CHALLENGE {
                return came.code;
            }
        }
        panic!("no end")
    }
}

fn gtc() -> PeerMethod {
    PeerMethod::Gtc(Login::new("ida.marsh", "Tide-Table-61"))
}

fn peap(service: &Running) -> PeerMethod {
    let pem = std::fs::read_to_string(service.data.join("harbour/authority.pem")).unwrap();
    let authorities = regnant_certificates::read_certificates(&pem).unwrap();
    let tls = regnant_eap::ClientTls::new(&authorities, "radius.tarnmouth.example", None, None).unwrap();
    let inner = PeerMethod::MsChapV2(Login::new("ida.marsh", "Tide-Table-61"));
    PeerMethod::peap(tls, "ida.marsh".into(), Box::new(inner))
}

fn counts(service: &Running) -> serde_json::Value {
    service.get("health").1["packets"].clone()
}

/// Logs in and sends every packet twice; the second one as soon as the first was
/// answered.
fn twice_over(service: &Running, mut station: Station) {
    for round in 0..40 {
        let (eap, state) = station.next.clone();
        let packet = station.packet(&eap, state.as_deref());
        let came = station.exchange(&packet);
        assert_eq!(station.exchange(&packet).bytes, came.bytes, "round {round}");
        if came.code != Code::ACCESS_CHALLENGE {
            assert_eq!(came.code, Code::ACCESS_ACCEPT);
            assert!(round > 5);
            return;
        }
        station.take(&came);
    }
    panic!("no end at {}", service.radius);
}

#[test]
fn a_repeated_packet_gets_the_same_answer_and_moves_nothing() {
    let service = Running::harbour();
    // Many at once, so that a thread is often stopped between two of its steps.
    let stations = 16;
    let peap = peap(&service);
    std::thread::scope(|scope| {
        for _ in 0..stations {
            scope.spawn(|| twice_over(&service, Station::new(&service, QUAY_SW_1, peap.clone())));
        }
    });
    assert_eq!(service.entries("q=ida.marsh", stations).len(), stations, "a decision each");
    assert!(counts(&service)["repeated"].as_u64().unwrap() > 5 * stations as u64);
}

#[test]
fn an_eap_packet_that_makes_no_sense_is_ignored_and_its_request_comes_again() {
    let service = Running::harbour();
    let mut station = Station::new(&service, QUAY_SW_1, peap(&service));
    let first = station.go_on();
    let asked = first.eap.clone().unwrap();
    let mut state = station.next.1.clone();
    // Another identifier, another code, a length that is not its own.
    for nonsense in [vec![2, asked[1] ^ 0x55, 0, 6, 4, 0], vec![7, asked[1], 0, 4], vec![2, asked[1], 0, 99, 4]] {
        let packet = station.packet(&nonsense, state.as_deref());
        let came = station.exchange(&packet);
        // RFC 3579 section 2.2: Access-Challenge with Error-Cause 202 and the request again.
        assert_eq!((came.code, came.error_cause), (Code::ACCESS_CHALLENGE, Some(202)));
        assert_eq!(came.eap.as_ref(), Some(&asked));
        state = Packet::parse(&came.bytes).unwrap().first(number::STATE).map(<[u8]>::to_vec);
    }
    station.next.1 = state;
    assert_eq!(station.finish(), Code::ACCESS_ACCEPT, "nothing was lost by it");
    let id = service.entries("q=ida.marsh", 1)[0]["id"].as_str().unwrap().to_owned();
    let (_, detail) = service.get(&format!("journal/{id}"));
    assert!(detail.to_string().contains("ignored: an answer to another request"), "{detail}");
}

#[test]
fn a_conversation_goes_on_through_its_own_nas_only_and_with_a_state_that_was_given() {
    let service = Running::harbour();
    let mut station = Station::new(&service, QUAY_SW_1, gtc());
    station.go_on();
    let (eap, state) = station.next.clone();
    let mut thief = Station::new(&service, MAST_WLC_1, gtc());
    let stolen = thief.packet(&eap, state.as_deref());
    assert_eq!(thief.exchange(&stolen).code, Code::ACCESS_REJECT);
    let made_up = station.packet(&eap, Some(&[7; 16]));
    assert_eq!(station.exchange(&made_up).code, Code::ACCESS_REJECT);
    let short = station.packet(&eap, Some(b"x"));
    assert_eq!(station.exchange(&short).code, Code::ACCESS_REJECT);
    let told = service.entries("outcome=refused", 3);
    assert_eq!(told.len(), 3);
    let (_, detail) = service.get(&format!("journal/{}", told[0]["id"].as_str().unwrap()));
    assert!(detail.to_string().contains("a conversation that is over, or that this service never began"), "{detail}");
    // Its own goes on as if nothing had been.
    assert_ne!(station.go_on().code, Code::ACCESS_ACCEPT, "the gate accepts no bare GTC");
}

#[test]
fn equipment_may_let_the_server_ask_for_the_identity() {
    let service = Running::harbour();
    // RFC 3579 section 2.1: EAP-Start is an EAP-Message without contents; a length
    // of two is what old equipment sends.
    for start in [&[0u8, 0][..], &[2]] {
        let mut station = Station::new(&service, QUAY_SW_1, peap(&service));
        let packet = station.packet(start, None);
        let came = station.exchange(&packet);
        assert_eq!(came.code, Code::ACCESS_CHALLENGE);
        assert_eq!(came.eap.as_ref().unwrap()[4], 1, "a request for the identity");
        station.take(&came);
        assert_eq!(station.finish(), Code::ACCESS_ACCEPT);
    }
}

/// Begins so many conversations that nobody ends.
fn flood(service: &Running, nas: &Nas, many: usize) {
    let secret = SharedSecret::new(nas.secret.as_bytes());
    let ask = Ask::eap(Supplicant::new("x", "x", gtc()), "02-00-5E-10-00-02");
    let dictionary = Dictionary::standard();
    let packets: Vec<_> = (0..=255u8)
        .map(|identifier| {
            let identity = [2, 1, 0, 6, 1, b'x'];
            ask.conversation_packet(identifier, &[identifier; 16], &secret, &dictionary, (&identity, None)).unwrap()
        })
        .collect();
    let mut answered = 0;
    while answered < many {
        // A socket of its own, so that no packet is a repeat.
        let socket = UdpSocket::bind((nas.address, 0)).unwrap();
        socket.connect(service.radius).unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
        let mut buffer = [0; 4096];
        for part in packets.chunks(32) {
            part.iter().for_each(|packet| drop(socket.send(packet)));
            answered += part.iter().take_while(|_| socket.recv(&mut buffer).is_ok()).count();
        }
    }
}

#[test]
fn a_flood_of_half_open_conversations_costs_itself_and_is_told_once() {
    let service = Running::harbour();
    let mut quiet = Station::new(&service, QUAY_SW_1, peap(&service));
    quiet.go_on();
    // Into the tunnel: that proves nothing yet, and anybody can get there.
    for _ in 0..8 {
        quiet.go_on();
    }
    flood(&service, &MAST_WLC_1, 23_000);
    let counts = counts(&service);
    assert_eq!(counts["conversations"], 20_000, "{counts}");
    assert!(counts["crowded_out"].as_u64().unwrap() >= 1_000, "{counts}");
    assert_eq!(quiet.finish(), Code::ACCESS_ACCEPT, "another NAS keeps its share");
    let newcomer = Station::new(&service, MAST_WLC_1, peap(&service)).finish();
    assert_eq!(newcomer, Code::ACCESS_ACCEPT, "and whoever comes through the flooded one finds room");
    // Who comes now takes the place of one of the flood and is not blamed for it.
    for _ in 0..5 {
        Station::new(&service, QUAY_SW_1, gtc()).go_on();
    }
    let crowded_out = self::counts(&service)["crowded_out"].as_u64().unwrap();
    assert!(crowded_out > counts["crowded_out"].as_u64().unwrap());
    let all = format!("{crowded_out} packets from 127.0.0.21 (mast-wlc-1)");
    let until = Instant::now() + Duration::from_secs(10);
    while !sentence(&service.entries("outcome=unheard", 1)[0]).contains(&all) {
        assert!(Instant::now() < until, "{all}");
        std::thread::sleep(Duration::from_millis(50));
    }
    let unheard = service.entries("outcome=unheard", 1);
    assert_eq!(unheard.len(), 1, "one entry for all of it");
    let told = sentence(&unheard[0]);
    assert!(told.contains("too many EAP conversations were begun"), "{told}");
}
