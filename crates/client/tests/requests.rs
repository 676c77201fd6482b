//! Requests over a link that loses, delays and repeats, with a clock of the test's own.
use std::net::SocketAddr;
use std::sync::{Arc, LazyLock};
use std::time::{Duration, Instant};

use proptest::prelude::*;
use regnant_client::*;
use regnant_radius::*;

const SECRETS: [&str; 2] = ["bollard-9-anchor", "gantry-4-lashing"];

fn address(server: usize) -> SocketAddr {
    SocketAddr::from(([127, 0, 0, 1], 1812 + server as u16))
}

fn requests(servers: usize) -> Requests<usize> {
    let servers = (0..servers)
        .map(|place| Server { address: address(place), secret: SharedSecret::new(SECRETS[place].as_bytes()) });
    let patience = Patience { first: Duration::from_secs(1), longest: Duration::from_secs(8), tries: 3 };
    let mut state = 7u64;
    let random = move |bytes: &mut [u8]| {
        for byte in bytes {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            *byte = (state >> 33) as u8;
        }
    };
    Requests::new(servers.collect(), patience, Box::new(random))
}

fn make() -> Make {
    static DICTIONARY: LazyLock<Dictionary> = LazyLock::new(Dictionary::standard);
    let ask = Ask::mac("02-00-5E-20-00-07", 7);
    Arc::new(move |identifier, authenticator, secret| ask.packet(identifier, authenticator, secret, true, &DICTIONARY))
}

/// What a server with this secret answers.
fn answer(request: &[u8], secret: &str) -> Vec<u8> {
    let packet = Packet::parse(request).unwrap();
    Builder::new(Code::ACCESS_ACCEPT, packet.identifier())
        .reply(&packet, &SharedSecret::new(secret.as_bytes()))
        .unwrap()
}

fn transmitted(output: Option<Output<usize>>) -> (SocketAddr, Vec<u8>, bool) {
    match output {
        Some(Output::Transmit { to, bytes, again }) => (to, bytes, again),
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_request_is_repeated_as_it_was_and_given_up_in_the_end() {
    let (mut requests, start) = (requests(1), Instant::now());
    requests.begin(5, make(), Begun::Anywhere, start).unwrap();
    let (_, first, again) = transmitted(requests.poll(start));
    assert!(!again && requests.poll(start).is_none());
    let mut waited = Vec::new();
    let mut before = start;
    for _ in 0..2 {
        let due = requests.due().unwrap();
        waited.push(due.duration_since(before).as_secs_f64());
        assert!(requests.poll(due - Duration::from_millis(1)).is_none());
        let (to, bytes, again) = transmitted(requests.poll(due));
        // RFC 5080 section 2.2.1: the same packet, so that it is known to be a repeat.
        assert_eq!((to, &bytes, again), (address(0), &first, true));
        before = due;
    }
    assert!((0.9..=1.1).contains(&waited[0]) && (1.7..=2.4).contains(&waited[1]), "{waited:?}");
    let end = requests.due().unwrap();
    let gave_up = Output::Unanswered { token: 5, ignored: None, server: address(0) };
    assert_eq!((requests.poll(end), requests.under_way(), requests.due()), (Some(gave_up), 0, None));
}

#[test]
fn a_reply_is_believed_once_from_whom_was_asked_and_under_the_secret() {
    let (mut requests, now) = (requests(1), Instant::now());
    requests.begin(1, make(), Begun::Anywhere, now).unwrap();
    let (to, bytes, _) = transmitted(requests.poll(now));
    let right = answer(&bytes, SECRETS[0]);
    let ignored = |received: Received<usize>| matches!(received, Received::Ignored(_));
    assert!(ignored(requests.receive(address(1), &right, now)), "from somebody else");
    assert!(ignored(requests.receive(to, &answer(&bytes, "another-secret"), now)));
    let mut other = right.clone();
    other[1] = other[1].wrapping_add(1);
    assert!(ignored(requests.receive(to, &other, now)), "to no request");
    let padded = [&right[..], &[0; 9]].concat();
    match requests.receive(to, &padded, now + Duration::from_millis(3)) {
        Received::Reply { token: 1, bytes, took, server: 0, .. } => {
            assert_eq!((bytes, took), (right.clone(), Duration::from_millis(3)));
        }
        other => panic!("{other:?}"),
    }
    assert!(ignored(requests.receive(to, &right, now)), "it comes twice");
    // What was not believed is told where nothing else comes.
    requests.begin(2, make(), Begun::Anywhere, now).unwrap();
    let (to, bytes, _) = transmitted(requests.poll(now));
    requests.receive(to, &answer(&bytes, "another-secret"), now);
    let mut end = None;
    while end.is_none() {
        let due = requests.due().unwrap();
        if let Some(Output::Unanswered { ignored, .. }) = requests.poll(due) {
            end = ignored;
        }
    }
    assert_eq!(end, Some(ReplyError::ResponseAuthenticator));
}

#[test]
fn where_a_server_is_silent_the_next_is_asked_and_it_stays_last_for_a_while() {
    let (mut requests, start) = (requests(2), Instant::now());
    requests.begin(1, make(), Begun::Anywhere, start).unwrap();
    let (mut asked, mut now) = (Vec::new(), start);
    let moved = loop {
        let (to, bytes, _) = transmitted(requests.poll(now));
        asked.push(to);
        if to == address(1) {
            break bytes;
        }
        now = requests.due().unwrap();
    };
    assert_eq!(asked, [address(0), address(0), address(0), address(1)]);
    // Under the other secret, and with an authenticator of its own.
    let Received::Reply { server: 1, .. } = requests.receive(address(1), &answer(&moved, SECRETS[1]), now) else {
        panic!()
    };
    requests.begin(2, make(), Begun::Anywhere, now).unwrap();
    assert_eq!(transmitted(requests.poll(now)).0, address(1), "the silent one is not waited for again");
    let later = now + Duration::from_secs(31);
    requests.begin(3, make(), Begun::Anywhere, later).unwrap();
    let mut first = None;
    while let Some(output) = requests.poll(later) {
        if let Output::Transmit { to, again: false, .. } = output {
            first = Some(to);
        }
    }
    assert_eq!(first, Some(address(0)), "after a while it is tried again");
}

#[test]
fn a_round_that_only_one_server_can_go_on_with_moves_nowhere() {
    let (mut requests, mut now) = (requests(2), Instant::now());
    requests.begin(1, make(), Begun::At(0), now).unwrap();
    for _ in 0..3 {
        assert_eq!(transmitted(requests.poll(now)).0, address(0));
        now = requests.due().unwrap();
    }
    assert!(matches!(requests.poll(now), Some(Output::Unanswered { token: 1, .. })));
}

#[test]
fn no_two_requests_under_way_have_one_identifier_and_there_are_256() {
    let (mut requests, now) = (requests(1), Instant::now());
    for token in 0..256 {
        requests.begin(token, make(), Begun::Anywhere, now).unwrap();
    }
    assert!(matches!(requests.begin(256, make(), Begun::Anywhere, now), Err((256, Full::Identifiers))));
    let mut seen = std::collections::HashSet::new();
    let mut one = None;
    while let Some(output) = requests.poll(now) {
        let (_, bytes, _) = transmitted(Some(output));
        assert!(seen.insert(bytes[1]));
        one = Some(bytes);
    }
    assert_eq!(seen.len(), 256);
    let freed = one.unwrap();
    requests.receive(address(0), &answer(&freed, SECRETS[0]), now);
    requests.begin(256, make(), Begun::Anywhere, now).unwrap();
    let (_, again, _) = transmitted(requests.poll(now));
    assert_eq!(again[1], freed[1]);
    // A late repeat of the old reply is no answer to the new request.
    assert!(matches!(
        requests.receive(address(0), &answer(&freed, SECRETS[0]), now),
        Received::Ignored(Some(ReplyError::ResponseAuthenticator))
    ));
}

proptest! {
    #[test]
    fn no_datagram_makes_it_panic_or_is_believed(bytes in prop::collection::vec(any::<u8>(), 0..120)) {
        let (mut requests, now) = (requests(1), Instant::now());
        requests.begin(1, make(), Begun::Anywhere, now).unwrap();
        requests.poll(now);
        prop_assert!(matches!(requests.receive(address(0), &bytes, now), Received::Ignored(_)));
    }

    #[test]
    fn over_any_link_each_request_ends_once(fates in prop::collection::vec(0..4u8, 1..60)) {
        let (mut requests, mut now) = (requests(2), Instant::now());
        let all = fates.len();
        for token in 0..all {
            requests.begin(token, make(), Begun::Anywhere, now).unwrap();
        }
        let (mut ended, mut turn) = (vec![0; all], 0);
        while requests.under_way() > 0 {
            while let Some(output) = requests.poll(now) {
                match output {
                    Output::Unanswered { token, .. } => ended[token] += 1,
                    Output::Transmit { to, bytes, .. } => {
                        turn += 1;
                        let server = usize::from(to.port() - 1812);
                        let reply = answer(&bytes, SECRETS[server]);
                        // Lost, answered, answered twice, or changed on the way.
                        let times = match fates[turn % all] { 0 => 0, 2 => 2, _ => 1 };
                        for _ in 0..times {
                            let mut reply = reply.clone();
                            if fates[turn % all] == 3 { reply[5] ^= 1; }
                            if let Received::Reply { token, .. } = requests.receive(to, &reply, now) {
                                ended[token] += 1;
                            }
                        }
                    }
                }
            }
            now = requests.due().unwrap_or(now);
        }
        prop_assert!(ended.iter().all(|count| *count == 1), "{:?}", ended);
    }
}
