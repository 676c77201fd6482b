//! What holds for every packet, whoever sent it.
use proptest::prelude::*;
use regnant_radius::*;

fn secret() -> SharedSecret {
    SharedSecret::new(*b"bollard-9-anchor")
}

fn request(name: &[u8]) -> Vec<u8> {
    let mut builder = Builder::new(Code::ACCESS_REQUEST, 7);
    builder.attribute(number::USER_NAME, name).unwrap();
    builder.attribute(number::PROXY_STATE, b"first").unwrap();
    builder.attribute(number::PROXY_STATE, b"second").unwrap();
    builder.request(&[9; 16], &secret())
}

fn reply(request: &[u8]) -> Vec<u8> {
    let mut builder = Builder::new(Code::ACCESS_ACCEPT, 7);
    builder.attribute(number::REPLY_MESSAGE, b"Welcome").unwrap();
    builder.reply(&Packet::parse(request).unwrap(), &secret()).unwrap()
}

#[test]
fn a_reply_begins_with_message_authenticator_and_ends_with_proxy_state_in_order() {
    let request = request(b"ida.marsh");
    let bytes = reply(&request);
    let packet = check_reply(&bytes, 7, &[9; 16], &secret()).unwrap();
    let numbers: Vec<u8> = packet.attributes().map(|a| a.number).collect();
    assert_eq!(numbers, [80, 18, 33, 33]);
    assert_eq!(packet.all(number::PROXY_STATE).collect::<Vec<_>>(), [&b"first"[..], b"second"]);
}

#[test]
fn a_reply_to_another_request_is_rejected() {
    let bytes = reply(&request(b"ida.marsh"));
    assert!(matches!(check_reply(&bytes, 8, &[9; 16], &secret()), Err(ReplyError::OtherRequest { .. })));
    assert!(matches!(check_reply(&bytes, 7, &[8; 16], &secret()), Err(ReplyError::ResponseAuthenticator)));
    let other = SharedSecret::new(*b"gantry-4-lashing");
    assert!(matches!(check_reply(&bytes, 7, &[9; 16], &other), Err(ReplyError::ResponseAuthenticator)));
}

#[test]
fn no_changed_byte_of_a_reply_is_believed() {
    let whole = reply(&request(b"ida.marsh"));
    for at in 0..whole.len() {
        for bit in 0..8 {
            let mut changed = whole.clone();
            changed[at] ^= 1 << bit;
            assert!(check_reply(&changed, 7, &[9; 16], &secret()).is_err(), "byte {at} bit {bit}");
        }
    }
}

#[test]
fn no_changed_byte_of_a_request_keeps_its_message_authenticator() {
    let whole = request(b"ida.marsh");
    for at in 0..whole.len() {
        let mut changed = whole.clone();
        changed[at] ^= 0x10;
        if let Ok(packet) = Packet::parse(&changed) {
            assert_ne!(check_message_authenticator(&packet, &secret()), MessageAuthenticator::Right, "byte {at}");
        }
    }
}

#[test]
fn a_packet_cut_anywhere_is_malformed_and_padding_is_left_out() {
    let whole = request(b"ida.marsh");
    for length in 0..whole.len() {
        assert!(Packet::parse(&whole[..length]).is_err(), "cut at {length}");
    }
    let padded = [whole.clone(), vec![0; 40]].concat();
    assert_eq!(Packet::parse(&padded).unwrap().as_bytes(), whole);
}

#[test]
fn malformed_packets_say_what_is_wrong() {
    let told = |bytes: &[u8]| Packet::parse(bytes).unwrap_err().to_string();
    assert_eq!(told(b"hello"), "the datagram has 5 bytes and a RADIUS header needs 20");
    let mut bytes = request(b"ida.marsh");
    bytes[21] = 1;
    assert_eq!(told(&bytes), "the attribute at byte 20 has a length that does not fit the packet");
    let mut twice = Builder::new(Code::ACCESS_REQUEST, 1);
    twice.attribute(number::MESSAGE_AUTHENTICATOR, &[0; 16]).unwrap();
    assert_eq!(told(&twice.request(&[0; 16], &secret())), "Message-Authenticator occurs more than once");
}

#[test]
fn a_packet_never_grows_past_its_limits() {
    let mut builder = Builder::new(Code::ACCESS_ACCEPT, 1);
    assert!(matches!(builder.attribute(18, &[b'a'; 254]), Err(BuildError::ValueTooLong { .. })));
    let fit = (0..100).take_while(|_| builder.attribute(18, &[b'a'; 253]).is_ok()).count();
    assert_eq!(fit, (4096 - 38) / 255);
    assert!(builder.request(&[0; 16], &secret()).len() <= MAX_LEN);
}

#[test]
fn a_password_under_another_secret_is_noise_and_often_told() {
    let told = (0..=255u8).filter(|&byte| {
        let hidden = hide_password(b"Tide-Table-61", &[byte; 16], &SharedSecret::new(*b"one")).unwrap();
        match reveal_password(&hidden, &[byte; 16], &SharedSecret::new(*b"two")) {
            Err(error) => error == PasswordError::NotPadded,
            Ok(noise) => {
                assert_ne!(noise.expose(), b"Tide-Table-61");
                false
            }
        }
    });
    assert!(told.count() > 0);
}

#[test]
fn the_dictionary_encodes_what_people_write() {
    let dictionary = Dictionary::standard();
    let bytes = dictionary
        .encode([("Tunnel-Type", "VLAN"), ("tunnel-private-group-id", "30"), ("Service-Type", "Call-Check")])
        .unwrap();
    assert_eq!(bytes, [64, 6, 0, 0, 0, 13, 81, 5, 0, b'3', b'0', 6, 6, 0, 0, 0, 10]);
    let told = |name, value| dictionary.encode([(name, value)]).unwrap_err().to_string();
    assert_eq!(told("Sevice-Type", "1"), "there is no attribute `Sevice-Type` in the dictionary");
    assert_eq!(
        told("Service-Type", "Cal-Check"),
        "Service-Type cannot be `Cal-Check`: it takes a number or one of the attribute's named values"
    );
    assert!(told("Framed-IP-Address", "10.44").contains("an address such as"));
}

#[test]
fn secrets_do_not_print() {
    assert_eq!(format!("{:?} {:?}", Secret::new(*b"x"), secret()), "Secret(..) SharedSecret(..)");
}

#[test]
fn a_long_access_list_is_split_and_read_back_whole() {
    let rules: Vec<String> = (1..60).map(|port| format!("permit in udp from any to 10.44.0.53 {port}")).collect();
    let mut builder = Builder::new(Code::ACCESS_ACCEPT, 0);
    builder.filter_rules(&rules).unwrap();
    let bytes = builder.request(&[0; 16], &secret());
    let packet = Packet::parse(&bytes).unwrap();
    assert!(packet.all(number::NAS_FILTER_RULE).count() > 3);
    let shown = Dictionary::standard().show(&packet);
    let read: Vec<_> = shown.into_iter().filter(|(name, _)| name == "NAS-Filter-Rule").map(|(_, rule)| rule).collect();
    assert_eq!(read, rules);
}

proptest! {
    #[test]
    fn any_bytes_are_parsed_or_refused_and_attributes_fill_the_packet(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        if let Ok(packet) = Packet::parse(&bytes) {
            let sum: usize = packet.attributes().map(|a| a.value.len() + 2).sum();
            prop_assert_eq!(sum + HEADER_LEN, packet.as_bytes().len());
        }
    }

    #[test]
    fn attributes_survive_the_way_there_and_back(list in prop::collection::vec((1u8..=79, prop::collection::vec(any::<u8>(), 0..=60)), 0..20)) {
        let mut builder = Builder::unsigned(Code::ACCESS_REQUEST, 3);
        for (number, value) in &list {
            builder.attribute(*number, value).unwrap();
        }
        let bytes = builder.request(&[1; 16], &secret());
        let packet = Packet::parse(&bytes).unwrap();
        let got: Vec<_> = packet.attributes().map(|a| (a.number, a.value.to_vec())).collect();
        prop_assert_eq!(got, list);
    }

    #[test]
    fn any_password_is_revealed_as_it_was_hidden(password in prop::collection::vec(1u8.., 0..=128), authenticator: [u8; 16]) {
        let hidden = hide_password(&password, &authenticator, &secret()).unwrap();
        prop_assert!(hidden.len().is_multiple_of(16) && !hidden.is_empty());
        let clear = reveal_password(&hidden, &authenticator, &secret()).unwrap();
        prop_assert_eq!(clear.expose(), &password[..]);
    }

    #[test]
    fn every_value_is_read_by_its_type_without_panic(number: u8, bytes in prop::collection::vec(any::<u8>(), 0..=253)) {
        let dictionary = Dictionary::standard();
        if let Some(definition) = dictionary.by_id(AttributeId::plain(number)) {
            Value::read(definition, &bytes).show(definition);
        }
    }
}

#[test]
fn session_keys_travel_hidden_and_are_read_only_under_the_same_secret_and_request() {
    let request = request(b"ida.marsh");
    let msk: Vec<u8> = (0..64).collect();
    let mut builder = Builder::new(Code::ACCESS_ACCEPT, 7);
    builder.session_keys([&msk[..32], &msk[32..]], [1, 2], &[9; 16], &secret()).unwrap();
    let bytes = builder.reply(&Packet::parse(&request).unwrap(), &secret()).unwrap();
    let packet = Packet::parse(&bytes).unwrap();
    let (receive, send) = read_session_keys(&packet, &[9; 16], &secret()).unwrap();
    assert_eq!((receive.expose(), send.expose()), (&msk[..32], &msk[32..]));
    assert!(bytes.windows(8).all(|part| part != &msk[..8] && part != &msk[32..40]));
    let other = read_session_keys(&packet, &[8; 16], &secret());
    assert!(other.is_none_or(|(receive, _)| receive.expose() != &msk[..32]));
    let shown = Dictionary::standard().show(&packet);
    assert!(shown.contains(&("MS-MPPE-Recv-Key".into(), "(secret)".into())), "{shown:?}");
}

proptest! {
    #[test]
    fn an_eap_packet_of_any_length_is_put_together_again(packet in prop::collection::vec(any::<u8>(), 1..1_400)) {
        let mut builder = Builder::new(Code::ACCESS_CHALLENGE, 7);
        builder.eap_message(&packet).unwrap();
        let bytes = builder.request(&[9; 16], &secret());
        prop_assert_eq!(Packet::parse(&bytes).unwrap().eap_message(), Some(packet));
    }
}
