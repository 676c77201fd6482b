//! The examples of RFC 2865 section 7.
use regnant_radius::*;

const SECRET: &[u8] = b"xyzzy5461";

fn unhex(text: &str) -> Vec<u8> {
    let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
    digits.chunks(2).map(|pair| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap()).collect()
}

fn login_request() -> Vec<u8> {
    unhex(
        "01 00 00 38 0f 40 3f 94 73 97 80 57 bd 83 d5 cb 98 f4 22 7a 01 06 6e 65 6d 6f 02 12 0d be 70 8d
         93 d4 13 ce 31 96 e4 3f 78 2a 0a ee 04 06 c0 a8 01 10 05 06 00 00 00 03",
    )
}

#[test]
fn the_password_of_section_7_1_is_revealed_and_hidden_again() {
    let bytes = login_request();
    let packet = Packet::parse(&bytes).unwrap();
    let secret = SharedSecret::new(SECRET);
    let hidden = packet.first(number::USER_PASSWORD).unwrap();
    let clear = reveal_password(hidden, packet.authenticator(), &secret).unwrap();
    assert_eq!(clear.expose(), b"arctangent");
    assert_eq!(hide_password(b"arctangent", packet.authenticator(), &secret).unwrap(), hidden);
    assert_eq!(packet.first(number::USER_NAME), Some(&b"nemo"[..]));
}

#[test]
fn the_chap_response_of_section_7_2_matches_only_its_password() {
    let bytes = unhex(
        "01 01 00 47 2a ee 86 f0 8d 0d 55 96 9c a5 97 8e 0d 33 67 a2 01 08 66 6c 6f 70 73 79 03 13 16 e9
         75 57 c3 16 18 58 95 f2 93 ff 63 44 07 72 75 04 06 c0 a8 01 10 05 06 00 00 00 14 06 06 00 00 00
         02 07 06 00 00 00 01",
    );
    let packet = Packet::parse(&bytes).unwrap();
    let sent = packet.first(number::CHAP_PASSWORD).unwrap();
    let sent = ChapResponse::parse(sent, None, packet.authenticator()).unwrap();
    let response = |password| chap_response(sent.identifier, password, &sent.challenge);
    assert_eq!(response(b"arctangent"), sent.response);
    assert_ne!(response(b"arctangenu"), sent.response);
}

#[test]
fn the_reply_of_section_7_1_has_a_right_response_authenticator_but_no_message_authenticator() {
    let request = login_request();
    let request = Packet::parse(&request).unwrap();
    let reply = unhex(
        "02 00 00 26 86 fe 22 0e 76 24 ba 2a 10 05 f6 bf 9b 55 e0 b2 06 06 00 00 00 01 0f 06 00 00 00 00
         0e 06 c0 a8 01 03",
    );
    let check = |reply: &[u8]| {
        check_reply(reply, 0, request.authenticator(), &SharedSecret::new(SECRET)).map(|packet| packet.code())
    };
    // It gets past the Response Authenticator, which is the known answer.
    assert_eq!(check(&reply), Err(ReplyError::MessageAuthenticatorNotFirst));
    let mut changed = reply.clone();
    changed[25] ^= 1;
    assert_eq!(check(&changed), Err(ReplyError::ResponseAuthenticator));
}
