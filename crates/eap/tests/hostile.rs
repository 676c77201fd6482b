//! Links that lose, repeat, reorder and delay, and messages that are cut or changed.
mod common;

use std::collections::VecDeque;

use common::*;
use proptest::prelude::*;
use regnant_eap::*;

fn methods(house: &House, version: TlsVersion) -> Vec<(Vec<Offer>, PeerMethod)> {
    let own = house.authority.issue("ida.marsh", |_| {});
    let client = |own| house.client(own, Some(version)).without_resumption();
    let method = || Box::new(PeerMethod::MsChapV2(login()));
    let identities = [IdentityType::Machine, IdentityType::User].into();
    vec![
        (vec![Offer::Md5, Offer::MsChapV2], *method()),
        (vec![Offer::Tls(house.tls.clone())], PeerMethod::Tls(client(Some(&own)))),
        (
            vec![Offer::peap(house.tls.clone(), [Offer::Gtc, Offer::MsChapV2].into())],
            PeerMethod::peap(client(None), NAME.into(), method()),
        ),
        (
            vec![Offer::Ttls(house.tls.clone(), [InnerOffer::MsChapV2].into())],
            PeerMethod::Ttls(client(None), Tunnelled::MsChapV2(login())),
        ),
        (
            vec![Offer::Teap { tls: house.tls.clone(), inner: [Offer::MsChapV2].into(), identities }],
            PeerMethod::Teap { tls: client(None), user: Some(inner(*method())), machine: None },
        ),
    ]
}

/// Who got which keys, where somebody did.
#[derive(Debug, Default)]
struct Ended {
    server: Option<Result<Option<Keys>, Failure>>,
    peer: Option<Result<Option<Keys>, Failure>>,
    names: Vec<String>,
    /// A message to the peer was changed on the way.
    misled: bool,
    /// The equipment repeated a request in vain and gave up, which the service
    /// tells as a conversation that was left.
    gave_up: bool,
}

/// Equipment between the two ends: it repeats the server's last request when
/// nothing comes, as RFC 3748 section 4.3 has it, a few times.
struct Link {
    server: Conversation,
    peer: Peer,
    to_peer: VecDeque<Vec<u8>>,
    to_server: VecDeque<Vec<u8>>,
    last: Vec<u8>,
    /// EAP-Success, which the equipment has from the moment that the server accepts.
    accepted: Option<Vec<u8>>,
    ended: Ended,
}

impl Link {
    fn new(server: Conversation, peer: Peer) -> Self {
        let (to_peer, to_server) = (VecDeque::new(), VecDeque::new());
        let mut link =
            Self { server, peer, to_peer, to_server, last: Vec::new(), accepted: None, ended: Ended::default() };
        let step = link.server.begin();
        link.step(step);
        link
    }

    fn step(&mut self, mut step: Step) {
        loop {
            step = match step {
                Step::Send(packet) => {
                    self.last = packet.clone();
                    return self.to_peer.push_back(packet);
                }
                Step::Ask(claim) => {
                    self.ended.names.push(claim.name.clone());
                    self.server.answer(check(&claim))
                }
                Step::Verdict => self.server.conclude(true),
                Step::Accept(packet, keys) => {
                    self.ended.server = Some(Ok(keys));
                    self.accepted = Some(packet.clone());
                    return self.to_peer.push_back(packet);
                }
                Step::Refuse(packet, failure) => {
                    self.ended.server = Some(Err(failure));
                    return self.to_peer.push_back(packet);
                }
                Step::Ignore(_) => return,
            }
        }
    }

    fn deliver_to_peer(&mut self, packet: &[u8]) {
        match self.peer.receive(packet) {
            PeerStep::Send(answer) => self.to_server.push_back(answer),
            PeerStep::Success(keys) => self.ended.peer = Some(Ok(keys)),
            PeerStep::Failure(failure) => self.ended.peer = Some(Err(failure)),
            PeerStep::Ignore(_) => {}
        }
    }

    fn deliver_to_server(&mut self, packet: &[u8]) {
        if self.ended.server.is_none() {
            let step = self.server.receive(packet);
            self.step(step);
        }
    }

    /// Runs under a list of fates, one for each delivery; what comes after is
    /// delivered well.
    fn run(mut self, fates: &[u8]) -> Ended {
        let mut fates = fates.iter().copied();
        let mut idle = 0;
        for _ in 0..400 {
            let downward = !self.to_peer.is_empty();
            let queue = if downward { &mut self.to_peer } else { &mut self.to_server };
            let Some(packet) = queue.pop_front() else {
                idle += 1;
                // The clock jumps to the next repeat, until the equipment gives up.
                self.ended.gave_up = idle > 5;
                if self.ended.gave_up || self.ended.peer.is_some() {
                    break;
                }
                self.to_peer.push_back(self.last.clone());
                continue;
            };
            match fates.next().unwrap_or(0) % 8 {
                1 => continue,
                2 => queue.push_back(packet.clone()),
                3 if !queue.is_empty() => {
                    queue.push_back(packet);
                    continue;
                }
                _ => {}
            }
            idle = 0;
            match downward {
                true => self.deliver_to_peer(&packet),
                false => self.deliver_to_server(&packet),
            }
        }
        self.end()
    }

    /// A success that was lost on the way says what the peer would have believed.
    fn end(mut self) -> Ended {
        if let (Some(packet), None) = (self.accepted.take(), &self.ended.peer) {
            self.deliver_to_peer(&packet);
        }
        self.ended
    }

    /// Changes the packet of this number and delivers the rest well.
    fn run_changing(mut self, number: usize, change: impl Fn(&mut Vec<u8>)) -> Ended {
        for round in 0..120 {
            let downward = !self.to_peer.is_empty();
            let Some(mut packet) = self.to_peer.pop_front().or_else(|| self.to_server.pop_front()) else { break };
            if round == number {
                change(&mut packet);
                self.ended.misled = downward;
            }
            match downward {
                true => self.deliver_to_peer(&packet),
                false => self.deliver_to_server(&packet),
            }
        }
        self.end()
    }
}

impl Ended {
    /// Where the server accepts, whoever was asked about is who was proved, and the
    /// peer has the same keys; it may only have been misled about the last message,
    /// which nobody signs (RFC 5216 section 2.1.1), and then has none. Where the peer
    /// believes that it is in, so does the server.
    fn is_sound(&self, named: &str) {
        match (&self.server, &self.peer) {
            (Some(Ok(server)), Some(Ok(peer))) => assert_eq!(server, peer),
            (Some(Ok(_)), _) => assert!(self.misled, "the server accepts alone"),
            (server, Some(Ok(_))) => panic!("the peer is in alone: {server:?}"),
            _ => return,
        }
        assert!(self.names.iter().all(|name| name == named), "{:?}", self.names);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn a_bad_link_ends_in_equal_keys_or_in_a_stated_failure(fates in prop::collection::vec(any::<u8>(), 0..60), seed in any::<u64>()) {
        let house = House::new();
        for version in [TlsVersion::Tls12, TlsVersion::Tls13] {
            for (offers, method) in methods(&house, version) {
                let kind = method.kind();
                let ended = Link::new(house.serve(offers, seed), peer(method)).run(&fates);
                ended.is_sound(NAME);
                // What is lost is repeated until it comes, or until it is given up.
                match &ended.server {
                    Some(server) => prop_assert!(server.is_ok(), "{} {:?}", kind, server),
                    None => prop_assert!(ended.gave_up, "{} did not end: {:?}", kind, ended),
                }
            }
        }
    }
}

/// Packets of a conversation that goes well, in both directions.
fn lengths(house: &House, offers: &[Offer], method: &PeerMethod) -> Vec<usize> {
    let lengths = std::cell::RefCell::new(Vec::new());
    for number in 0..120 {
        let seen = lengths.borrow().len();
        let link = Link::new(house.serve(offers.to_vec(), 5), peer(method.clone()));
        link.run_changing(number, |packet| lengths.borrow_mut().push(packet.len()));
        if lengths.borrow().len() == seen {
            break;
        }
    }
    lengths.into_inner()
}

#[test]
fn a_message_cut_at_any_length_never_ends_in_a_false_success() {
    let house = House::new();
    for (offers, method) in methods(&house, TlsVersion::Tls13) {
        for (number, length) in lengths(&house, &offers, &method).into_iter().enumerate() {
            for cut in 0..length {
                let link = Link::new(house.serve(offers.clone(), 5), peer(method.clone()));
                link.run_changing(number, |packet| packet.truncate(cut)).is_sound(NAME);
            }
        }
    }
}

fn flipped(version: TlsVersion, bit: impl Fn(usize) -> u8) {
    let house = House::new();
    for (offers, method) in methods(&house, version) {
        for (number, length) in lengths(&house, &offers, &method).into_iter().enumerate() {
            for at in 0..length {
                let change = |packet: &mut Vec<u8>| {
                    if let Some(byte) = packet.get_mut(at) {
                        *byte ^= bit(at);
                    }
                };
                let link = Link::new(house.serve(offers.clone(), 5), peer(method.clone()));
                let ended = link.run_changing(number, change);
                // Outside a tunnel the identity may be changed on the way, but then
                // nothing proves it; inside it cannot.
                match method.kind() {
                    Kind::MD5 | Kind::MSCHAPV2 => {}
                    _ => ended.is_sound(NAME),
                }
            }
        }
    }
}

#[test]
fn a_flipped_byte_never_ends_in_a_false_success_with_tls_1_2() {
    flipped(TlsVersion::Tls12, |at| 1 << (at % 8));
}

#[test]
fn a_flipped_byte_never_ends_in_a_false_success_with_tls_1_3() {
    flipped(TlsVersion::Tls13, |at| 1 << (at % 7));
}

#[test]
fn a_conversation_without_end_is_ended() {
    let limits = Limits { rounds: 20, ..Limits::default() };
    let mut server = Conversation::new([Offer::MsChapV2].into(), None, limits, random(1));
    server.begin();
    let ended = (0..30).find_map(|_| match server.receive(&[2, 0, 0, 5, 6]) {
        Step::Refuse(_, failure) => Some(failure),
        _ => None,
    });
    assert_eq!(ended, Some(Failure::Endless));
}

proptest! {
    #[test]
    fn any_packets_are_taken(packets in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..60), 0..12)) {
        let house = House::new();
        for (offers, method) in methods(&house, TlsVersion::Tls12) {
            let kind = method.kind();
            let (mut server, mut peer) = (house.serve(offers, 1), peer(method));
            server.begin();
            for bytes in &packets {
                let _ = (server.receive(bytes), peer.receive(bytes));
                // The same as a packet of the method.
                let mut whole = vec![2, 0, 0, bytes.len() as u8 + 5, kind.0];
                whole.extend(bytes);
                let _ = server.receive(&whole);
                whole[0] = 1;
                let _ = peer.receive(&whole);
            }
        }
    }

    #[test]
    fn papers_are_read_or_refused_and_a_changed_list_says_nothing_else(
        at in any::<prop::sample::Index>(), change in 1u8.., cut in any::<prop::sample::Index>()
    ) {
        let house = House::new();
        let (authority, list) = (house.authority.der.clone(), house.authority.revoke(66));
        let said = RevocationList::read(&list).unwrap();
        prop_assert_eq!((said.issuer.as_str(), said.revoked), ("CN=Tarnmouth Demo Root", 1));
        prop_assert!(said.next_update > Some(said.this_update));
        for paper in [&authority, &list] {
            let mut changed = paper.clone();
            changed[at.index(paper.len())] ^= change;
            for bytes in [&changed[..], &paper[..cut.index(paper.len())]] {
                let _ = (Certificate::read(bytes), RevocationList::read(bytes));
                let trusted = [authority.clone()];
                if Trust::new(&trusted, &[bytes.to_vec()], Judgement::default()).is_ok() {
                    prop_assert_eq!(RevocationList::read(bytes), Ok(said.clone()));
                }
            }
        }
    }
}
