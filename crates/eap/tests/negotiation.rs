//! The rules around methods (RFC 3748 sections 4 and 5): identities, identifiers,
//! Naks, notifications; TLS that is too old; which rounds are slow.
mod common;

use common::*;
use proptest::prelude::*;
use regnant_eap::*;

/// An EAP packet, byte by byte.
fn packet(code: u8, identifier: u8, body: &[u8]) -> Vec<u8> {
    let length = (body.len() as u16 + 4).to_be_bytes();
    [&[code, identifier, length[0], length[1]][..], body].concat()
}

fn response(identifier: u8, kind: u8, data: &[u8]) -> Vec<u8> {
    packet(2, identifier, &[&[kind], data].concat())
}

/// The request that a step sends: its identifier, its type and the rest.
fn sent(step: Step) -> (u8, u8, Vec<u8>) {
    let Step::Send(packet) = step else { panic!("{step:?}") };
    assert_eq!(packet[0], 1, "a request");
    (packet[1], packet[4], packet[5..].to_vec())
}

fn ignored(step: Step) -> &'static str {
    let Step::Ignore(why) = step else { panic!("{step:?}") };
    why
}

fn refused(step: Step) -> Failure {
    let Step::Refuse(packet, failure) = step else { panic!("{step:?}") };
    assert_eq!((packet[0], packet.len()), (4, 4), "EAP-Failure has no body");
    failure
}

const IDENTITY: u8 = 1;
const NOTIFICATION: u8 = 2;
const NAK: u8 = 3;
const MD5: u8 = 4;
const GTC: u8 = 6;
const TLS: u8 = 13;
const EXPANDED: u8 = 254;

/// A conversation whose peer has told who it is.
fn begun(offers: Vec<Offer>) -> (Conversation, u8) {
    let mut server = House::new().serve(offers, 31);
    let (identifier, kind, _) = sent(server.begin());
    assert_eq!(kind, IDENTITY);
    let (identifier, ..) = sent(server.receive(&response(identifier, IDENTITY, b"ida.marsh")));
    (server, identifier)
}

#[test]
fn an_identity_that_nobody_asked_for_begins_a_conversation() {
    let mut server = House::new().serve(vec![Offer::Md5], 1);
    // RFC 3579 section 2.1: the equipment has asked already, with any identifier.
    let (identifier, kind, _) = sent(server.receive(&response(200, IDENTITY, b"ida.marsh@tarnmouth.example")));
    assert_eq!((identifier, kind), (201, MD5));
    assert_eq!(server.about().identity.as_deref(), Some("ida.marsh@tarnmouth.example"));
    let mut server = House::new().serve(vec![Offer::Md5], 1);
    sent(server.receive(&response(255, IDENTITY, b"\xff\xfe")));
    assert_eq!(server.about().identity.as_deref(), Some("\u{fffd}\u{fffd}"), "no text: shown, and never a name");
}

#[test]
fn only_an_answer_to_the_last_request_counts() {
    let (mut server, identifier) = begun(vec![Offer::Gtc]);
    let right = |identifier| response(identifier, GTC, PASSWORD.as_bytes());
    assert_eq!(ignored(server.receive(&right(identifier.wrapping_add(1)))), "an answer to another request");
    assert_eq!(ignored(server.receive(&right(identifier.wrapping_sub(1)))), "an answer to another request");
    assert_eq!(ignored(server.receive(&packet(1, identifier, &[GTC]))), "only responses are expected");
    assert_eq!(ignored(server.receive(&packet(3, identifier, &[]))), "only responses are expected");
    assert_eq!(ignored(server.receive(&packet(9, identifier, &[GTC]))), "no EAP code");
    assert_eq!(ignored(server.receive(&right(identifier)[..3])), "no EAP packet");
    assert_eq!(ignored(server.receive(&response(identifier, NOTIFICATION, b""))), "a notification that nobody sent");
    assert_eq!(ignored(server.receive(&response(identifier, MD5, b"x"))), "a response of another method");
    let Step::Ask(claim) = server.receive(&right(identifier)) else { panic!("what was ignored has changed nothing") };
    assert_eq!(claim.name, NAME);
    assert_eq!(ignored(server.receive(&right(identifier))), "the last response is still being worked on");
}

#[test]
fn a_nak_leads_to_the_next_method_that_both_have() {
    let offers = || vec![Offer::Md5, Offer::MsChapV2, Offer::Gtc];
    let (mut server, identifier) = begun(offers());
    let (next, kind, _) = sent(server.receive(&response(identifier, NAK, &[GTC, 26])));
    assert_eq!(kind, 26, "in our order, not the peer's");
    let (_, kind, _) = sent(server.receive(&response(next, NAK, &[GTC])));
    assert_eq!(kind, GTC);
    // RFC 3748 section 5.3.2: the expanded form, of which vendor 0 is the IETF.
    let (mut server, identifier) = begun(offers());
    let wanted = [&[0, 0, 0, 0, 0, 0, 3, EXPANDED][..], &[0, 0, 0, 0, 0, 0, GTC]].concat();
    let (_, kind, _) = sent(server.receive(&response(identifier, EXPANDED, &wanted)));
    assert_eq!(kind, GTC);
    for nothing in [&[0][..], &[], &[99, 100]] {
        let (mut server, identifier) = begun(offers());
        let failure = refused(server.receive(&response(identifier, NAK, nothing)));
        assert!(matches!(failure, Failure::NoCommonMethod { .. }), "{failure:?}");
    }
}

#[test]
fn a_method_that_was_taken_up_is_not_turned_down_any_more() {
    let house = House::new();
    let (mut server, identifier) = begun(vec![Offer::Tls(house.tls.clone()), Offer::Md5]);
    // The first fragment of a message: it is acknowledged, so the method is on.
    let fragment = response(identifier, TLS, &[0xc0, 0, 0, 9, 9, 22, 3, 1]);
    let (next, kind, _) = sent(server.receive(&fragment));
    assert_eq!(kind, TLS);
    assert_eq!(ignored(server.receive(&response(next, NAK, &[MD5]))), "a response of another method");
}

#[test]
fn a_verdict_or_an_answer_out_of_turn_ends_the_conversation() {
    let (mut server, _) = begun(vec![Offer::Gtc]);
    assert!(matches!(refused(server.conclude(true)), Failure::Unexpected(_)));
    let (mut server, _) = begun(vec![Offer::Gtc]);
    assert!(matches!(refused(server.answer(Answer::Right { session_key: None })), Failure::Unexpected(_)));
    let step = server.receive(&response(0, GTC, b"x"));
    assert!(matches!(step, Step::Ignore(_)), "{step:?}");
}

/// A ClientHello without extensions (RFC 5246 section 7.4.1.2).
fn client_hello(version: [u8; 2], suites: &[[u8; 2]]) -> Vec<u8> {
    let suites = suites.concat();
    let length = (suites.len() as u16).to_be_bytes();
    let body = [&version[..], &[7; 32], &[0], &length, &suites, &[1, 0]].concat();
    let length = (body.len() as u32).to_be_bytes();
    let message = [&[1][..], &length[1..], &body].concat();
    let length = (message.len() as u16).to_be_bytes();
    [&[22, 3, 1, length[0], length[1]][..], &message].concat()
}

/// What the peer is told, and why the conversation then fails.
fn hello_fails(hello: &[u8]) -> (Vec<u8>, Failure) {
    let (mut server, identifier) = begun(vec![Offer::Tls(House::new().tls)]);
    let (next, kind, data) = sent(server.receive(&response(identifier, TLS, &[&[0][..], hello].concat())));
    assert_eq!((kind, data[1]), (TLS, 21), "the alert goes out first: {data:02x?}");
    assert!(matches!(server.failing(), Some(Failure::Tls(_))), "known already, should the peer say no more");
    (data[1..].to_vec(), refused(server.receive(&response(next, TLS, &[0]))))
}

#[test]
fn a_peer_with_old_tls_is_refused_with_that_very_explanation() {
    const ECDHE_AES: [u8; 2] = [0xc0, 0x2b];
    for (version, newest) in [([3, 0], "SSL 3.0"), ([3, 1], "TLS 1.0"), ([3, 2], "TLS 1.1")] {
        let (alert, failure) = hello_fails(&client_hello(version, &[ECDHE_AES]));
        assert_eq!(failure, Failure::Tls(TlsFailure::OldVersion { newest: newest.into() }));
        assert_eq!(alert[5..], [2, 70], "protocol_version for {newest}");
    }
    // TLS 1.2, but only with RC4 and export suites.
    let (alert, failure) = hello_fails(&client_hello([3, 3], &[[0, 5], [0, 3]]));
    assert_eq!(failure, Failure::Tls(TlsFailure::NoSuite));
    assert_eq!(alert[5..], [2, 40], "handshake_failure");
}

/// How many of a conversation's packets may want public-key cryptography.
fn slow_rounds(mut server: Conversation, mut peer: Peer) -> (usize, usize) {
    let (mut slow, mut rounds) = (0, 0);
    let mut step = server.begin();
    loop {
        step = match step {
            Step::Send(packet) => {
                rounds += 1;
                let PeerStep::Send(answer) = peer.receive(&packet) else { panic!() };
                slow += usize::from(server.may_need_public_key(&answer));
                server.receive(&answer)
            }
            Step::Ask(claim) => server.answer(check(&claim)),
            Step::Verdict => server.conclude(true),
            Step::Accept(..) => return (slow, rounds),
            other => panic!("{other:?}"),
        };
    }
}

#[test]
fn only_flights_of_a_handshake_are_slow() {
    let house = House::new();
    let own = house.authority.issue(NAME, |_| {});
    let client = |own| house.client(own, Some(TlsVersion::Tls13));
    assert_eq!(slow_rounds(house.serve(vec![Offer::MsChapV2], 1), peer(PeerMethod::MsChapV2(login()))).0, 0);
    let peap = PeerMethod::peap(client(None), NAME.into(), Box::new(PeerMethod::MsChapV2(login())));
    let offer = Offer::peap(house.tls.clone(), [Offer::MsChapV2].into());
    let (slow, rounds) = slow_rounds(house.serve(vec![offer], 2), peer(peap));
    // The last fragment of the ClientHello; the client's Finished proves nothing new.
    assert!(slow == 1 && rounds >= 10, "{slow} of {rounds}");
    let older = house.client(None, Some(TlsVersion::Tls12));
    let older = PeerMethod::peap(older, NAME.into(), Box::new(PeerMethod::MsChapV2(login())));
    let offer = Offer::peap(house.tls.clone(), [Offer::MsChapV2].into());
    assert_eq!(slow_rounds(house.serve(vec![offer], 5), peer(older)).0, 2, "TLS 1.2 agrees on keys in two flights");
    let (tls, rounds) =
        slow_rounds(house.serve(vec![Offer::Tls(house.tls.clone())], 3), peer(PeerMethod::Tls(client(Some(&own)))));
    // That, and the client's certificate.
    assert!(tls == 2 && rounds >= 6, "{tls} of {rounds}");
    let inside = PeerMethod::peap(client(None), NAME.into(), Box::new(PeerMethod::Tls(client(Some(&own)))));
    let offer = Offer::peap(house.tls.clone(), [Offer::Tls(house.tls.clone())].into());
    let (both, _) = slow_rounds(house.serve(vec![offer], 4), peer(inside));
    assert!(both > slow, "the inner handshake is slow too: {both}");
}

#[test]
fn a_conversation_may_cost_so_many_bytes_and_no_more() {
    let limits = Limits { bytes: 2_000, ..Limits::default() };
    let mut server = Conversation::new(vec![Offer::Gtc].into(), None, limits, random(5));
    let (identifier, ..) = sent(server.receive(&response(1, IDENTITY, &[b'x'; 200])));
    assert_eq!(ignored(server.receive(&response(identifier, MD5, &[0; 900]))), "a response of another method");
    assert_eq!(refused(server.receive(&response(identifier, GTC, &[0; 900]))), Failure::Endless, "2,015 bytes");
}

proptest! {
    /// Whatever a peer says after it told who it is, nothing but a right answer
    /// comes to a verdict, and what is ignored leaves no trace.
    #[test]
    fn nothing_but_a_right_answer_comes_to_a_verdict(noise in prop::collection::vec((any::<u8>(), any::<u8>(), prop::collection::vec(any::<u8>(), 0..40)), 0..20)) {
        let (mut server, identifier) = begun(vec![Offer::Gtc]);
        for (id, kind, data) in noise {
            // These three are answers to what was asked.
            if id == identifier && matches!(kind, GTC | NAK | EXPANDED) {
                continue;
            }
            let step = server.receive(&response(id, kind, &data));
            prop_assert!(matches!(step, Step::Ignore(_)), "{:?}", step);
        }
        let Step::Ask(claim) = server.receive(&response(identifier, GTC, PASSWORD.as_bytes())) else { panic!() };
        let Step::Verdict = server.answer(check(&claim)) else { panic!() };
    }
}

const MSCHAPV2: u8 = 26;

/// A response to an MS-CHAPv2 challenge that is wrong.
fn guess(identifier: u8, name: &[u8]) -> Vec<u8> {
    let body = [&[49][..], &[7; 49], name].concat();
    let length = (4 + body.len() as u16).to_be_bytes();
    response(identifier, MSCHAPV2, &[&[2, 1][..], &length, &body].concat())
}

#[test]
fn a_peer_that_does_not_give_up_gets_no_guess_beyond_what_it_was_told() {
    // The house allows one retry: two guesses.
    for says in [2u8, 7, 3, 99] {
        let (mut server, mut identifier) = begun(vec![Offer::MsChapV2]);
        let mut guesses = 0;
        let mut packet = guess(identifier, b"ida.marsh");
        for _ in 0..50 {
            match server.receive(&packet) {
                Step::Ask(_) => {
                    guesses += 1;
                    (identifier, ..) = sent(server.answer(Answer::Wrong));
                    packet = guess(identifier, b"ida.marsh");
                    if guesses == 2 {
                        // Whatever it says after the last permitted one.
                        packet[5] = says;
                    }
                }
                Step::Refuse(_, failure) => {
                    assert_eq!(failure, Failure::Credential);
                    break;
                }
                other => panic!("{other:?}"),
            }
        }
        assert_eq!(guesses, 2, "code {says}");
    }
}

#[test]
fn a_change_of_password_is_offered_once() {
    let (mut server, identifier) = begun(vec![Offer::MsChapV2]);
    let mut packet = guess(identifier, b"ida.marsh");
    let mut asked = 0;
    let failure = loop {
        match server.receive(&packet) {
            Step::Ask(_) => {
                asked += 1;
                let (identifier, ..) = sent(server.answer(Answer::Expired));
                let body = [&[7u8, 1, 2, 74][..], &[9; 582]].concat();
                packet = response(identifier, MSCHAPV2, &body);
            }
            Step::Refuse(_, failure) => break failure,
            other => panic!("{other:?}"),
        }
    };
    assert_eq!((asked, failure), (2, Failure::Credential));
}

#[test]
fn what_a_peer_names_and_wants_is_bounded_before_it_is_kept() {
    let long = [b'x'; 254];
    let mut server = House::new().serve(vec![Offer::Gtc], 1);
    assert!(matches!(refused(server.receive(&response(1, IDENTITY, &long))), Failure::Malformed(_)));
    assert_eq!(server.about().identity, None);
    let mut server = House::new().serve(vec![Offer::Gtc], 1);
    sent(server.receive(&response(1, IDENTITY, &long[1..])));
    let (mut server, identifier) = begun(vec![Offer::MsChapV2]);
    assert!(matches!(refused(server.receive(&guess(identifier, &long))), Failure::Malformed(_)));

    // Naks to and fro between two methods, each a list of thousands.
    let house = House::new();
    let mut server = house.serve(vec![Offer::Md5, Offer::Gtc], 1);
    let (mut identifier, mut kind, _) = sent(server.receive(&response(1, IDENTITY, b"ida.marsh")));
    let mut rounds = 0;
    let failure = loop {
        rounds += 1;
        let other = if kind == MD5 { GTC } else { MD5 };
        let wanted: Vec<u8> = (100..=255).cycle().take(5_000).chain([other]).collect();
        match server.receive(&response(identifier, NAK, &wanted)) {
            Step::Refuse(_, failure) => break failure,
            step => (identifier, kind, _) = sent(step),
        }
    };
    assert!(matches!(failure, Failure::NoCommonMethod { wanted } if wanted.len() <= 16));
    assert_eq!((rounds, server.about().turned_down.len()), (2, 2));
    assert!(server.about().turned_down.iter().all(|(_, wanted)| wanted.len() <= 16));
}
