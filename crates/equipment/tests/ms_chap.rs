//! MS-CHAP outside EAP: proved like any other, and answered in its own form.
mod harbour;

use harbour::{Request, *};
use proptest::prelude::*;
use regnant_decision::{Capabilities, LookUpAnswer};
use regnant_eap::mschap;
use regnant_evidence::{Cause, EndRecord};
use regnant_policy::{Event, IdentityKind};
use regnant_radius::*;

const SECRET: &[u8] = b"sextant-3-compass";
const CHALLENGE: [u8; 16] = [3; 16];
const PEER: [u8; 16] = [5; 16];

fn gate(accept: &str) -> Harbour {
    gate_for("staff", accept)
}

fn gate_for(group: &str, accept: &str) -> Harbour {
    Harbour::with_policy(&format!(
        "grant all {{ class \"in\" }}
         gate everything {{
           accept {accept}
           identify user in harbour
           rule \"Staff\" {{ when user in group \"{group}\" grant all }}
           otherwise refuse \"Not today.\"
         }}"
    ))
}

/// The answer of version 2 to both challenges.
fn response(name: &str, password: &str) -> ([u8; 8], [u8; 24]) {
    let answered = mschap::challenge_hash(&PEER, &CHALLENGE, name);
    (answered, mschap::challenge_response(&answered, &mschap::nt_password_hash(password)))
}

fn with(name: &str, add: impl FnOnce(&mut Builder)) -> Request {
    let secret = SharedSecret::new(SECRET);
    let mut builder = Builder::new(Code::ACCESS_REQUEST, 9);
    builder.attribute(number::USER_NAME, name.as_bytes()).unwrap();
    add(&mut builder);
    Request { from: "127.0.0.41", bytes: builder.request(&AUTHENTICATOR, &secret) }
}

fn version_2(name: &str, password: &str) -> Request {
    let (_, response) = response(name, password);
    let sent =
        MsChapSent::Version2 { identifier: 7, challenge: &CHALLENGE, peer_challenge: &PEER, response: &response };
    with(name, |builder| builder.ms_chap(&sent).unwrap())
}

fn version_1(name: &str, password: &str) -> Request {
    let challenge = [3; 8];
    let response = mschap::challenge_response(&challenge, &mschap::nt_password_hash(password));
    let sent = MsChapSent::Version1 { identifier: 7, challenge: &challenge, response: &response };
    with(name, |builder| builder.ms_chap(&sent).unwrap())
}

fn reply(harbour: &Harbour, request: &Request) -> Vec<u8> {
    match harbour.ask(request) {
        Answered::Decided(_, Some(reply)) => reply,
        _ => panic!("no reply"),
    }
}

/// The value of an attribute of RFC 2548.
fn value(reply: &[u8], kind: u8) -> Option<Vec<u8>> {
    let packet = Packet::parse(reply).unwrap();
    let id = AttributeId::of_vendor(311, kind.into());
    Dictionary::standard().values(packet.attributes(), id).into_iter().next().map(std::borrow::Cow::into_owned)
}

#[test]
fn a_right_response_of_version_2_is_answered_with_our_proof_and_keys_that_the_peer_has_too() {
    let harbour = gate("mschapv2");
    let request = version_2("ida.marsh", "Tide-Table-61");
    let record = harbour.record(&request);
    assert_eq!((record.end(), record.outcome()), (EndRecord::Rule { title: "Staff" }, "granted"));
    let reply = reply(&harbour, &request);
    let packet = check_reply(&reply, 9, &AUTHENTICATOR, &SharedSecret::new(SECRET)).unwrap();
    let (answered, response) = response("ida.marsh", "Tide-Table-61");
    let hash = mschap::hash_of_hash(&mschap::nt_password_hash("Tide-Table-61"));
    let proof = mschap::authenticator_response(&hash, &response, &answered);
    assert_eq!(value(&reply, 26).unwrap(), [&[7], proof.as_bytes()].concat(), "MS-CHAP2-Success");
    let (receive, send) = read_session_keys(&packet, &AUTHENTICATOR, &SharedSecret::new(SECRET)).unwrap();
    let keys = mschap::session_keys(&hash, &response);
    assert_eq!((receive.expose(), send.expose()), (&keys[..16], &keys[16..]));
    // Of the journal nobody guesses the password, and nobody has the keys.
    let stored = last_stored();
    for secret in [&response[..], &keys[..16], proof.as_bytes()] {
        assert!(!stored.windows(secret.len()).any(|part| part == secret));
    }
}

#[test]
fn version_1_gives_its_keys_too() {
    let harbour = gate("mschap");
    let reply = reply(&harbour, &version_1("ida.marsh", "Tide-Table-61"));
    assert_eq!(Packet::parse(&reply).unwrap().code(), Code::ACCESS_ACCEPT);
    let hidden = value(&reply, 12).unwrap();
    let hash = mschap::hash_of_hash(&mschap::nt_password_hash("Tide-Table-61"));
    let clear = [&[0; 8], &hash[..], &[0; 8]].concat();
    assert_eq!(hidden, hide_password(&clear, &AUTHENTICATOR, &SharedSecret::new(SECRET)).unwrap());
}

#[test]
fn what_is_wrong_is_told_in_the_form_of_mschap() {
    let told = |harbour: &Harbour, request: &Request| {
        let reply = reply(harbour, request);
        assert_eq!(Packet::parse(&reply).unwrap().code(), Code::ACCESS_REJECT);
        let error = value(&reply, 2).unwrap();
        assert_eq!(error[0], 7);
        String::from_utf8(error[1..].to_vec()).unwrap()
    };
    let both = gate("mschap, mschapv2");
    let wrong = told(&both, &version_2("ida.marsh", "Tide-Table-62"));
    assert!(wrong.starts_with("E=691 R=0 C=") && wrong.ends_with(" V=3 M="), "{wrong}");
    assert_eq!(wrong.len(), "E=691 R=0 C= V=3 M=".len() + 32);
    assert_eq!(told(&both, &version_1("ida.marsh", "Tide-Table-62")), "E=691 R=0");
    assert_eq!(told(&both, &version_1("nobody", "Tide-Table-61")), "E=691 R=0");
    assert_eq!(told(&both, &version_1("lee.gone", "Old-Badge-77")), "E=647 R=0", "disabled, after the right password");
    let not_today = told(&gate_for("cranes", "mschapv2"), &version_2("ida.marsh", "Tide-Table-61"));
    assert!(not_today.starts_with("E=649 ") && not_today.ends_with("M=Not today."), "{not_today}");
    let mut expired = gate("mschap");
    expired.stores.account_mut(IdentityKind::User, "ida.marsh").expired = true;
    let request = version_1("ida.marsh", "Tide-Table-61");
    assert_eq!(told(&expired, &request), "E=648 R=0");
    let end = EndRecord::Proof { identity: IdentityKind::User, event: Event::Expired };
    assert_eq!(expired.record(&request).end(), end);
    // A gate that takes one version takes no other.
    assert_eq!(gate("mschap").record(&version_2("ida.marsh", "Tide-Table-61")).end(), EndRecord::MethodNotAccepted);
    assert_eq!(gate("pap, chap").record(&version_2("ida.marsh", "Tide-Table-61")).end(), EndRecord::MethodNotAccepted);
}

#[test]
fn a_response_is_of_its_name_and_its_challenge_alone() {
    let harbour = gate("mschap, mschapv2");
    let (_, response) = response("ida.marsh", "Tide-Table-61");
    let sent = |challenge: &[u8; 16]| {
        let sent = MsChapSent::Version2 { identifier: 7, challenge, peer_challenge: &PEER, response: &response };
        with("ida.marsh", |builder| builder.ms_chap(&sent).unwrap())
    };
    assert_eq!(harbour.record(&sent(&CHALLENGE)).outcome(), "granted");
    assert_eq!(harbour.record(&sent(&[4; 16])).outcome(), "refused");
    let sent =
        MsChapSent::Version2 { identifier: 7, challenge: &CHALLENGE, peer_challenge: &PEER, response: &response };
    let other = with("tom.reed", |builder| builder.ms_chap(&sent).unwrap());
    assert_eq!(harbour.record(&other).outcome(), "refused");
    // A device's label proves nobody, in this form either.
    let label = harbour.record(&version_2("02005e200007", "02005e200007"));
    assert_eq!(label.outcome(), "refused");
}

#[test]
fn nobody_means_one_credential_and_shows_another() {
    let harbour = gate("pap, chap, mschap, mschapv2");
    let (_, response) = response("ida.marsh", "Tide-Table-61");
    let sent =
        MsChapSent::Version2 { identifier: 7, challenge: &CHALLENGE, peer_challenge: &PEER, response: &response };
    let secret = SharedSecret::new(SECRET);
    let hidden = hide_password(b"Tide-Table-61", &AUTHENTICATOR, &secret).unwrap();
    let both = with("ida.marsh", |builder| {
        builder.ms_chap(&sent).unwrap();
        builder.attribute(number::USER_PASSWORD, &hidden).unwrap();
    });
    let twice = with("ida.marsh", |builder| {
        builder.ms_chap(&sent).unwrap();
        builder.ms_chap(&sent).unwrap();
    });
    for (request, why) in [(both, "both User-Password and MS-CHAP"), (twice, "MS-CHAP twice")] {
        match harbour.ask(&request) {
            Answered::Unheard(Cause::Malformed(told)) => assert!(told.contains(why), "{told}"),
            _ => panic!("{why}"),
        }
    }
    // A response without its challenge, or one that does not read, is no credential.
    let cut = with("ida.marsh", |builder| {
        builder.attribute(number::VENDOR_SPECIFIC, &[0, 0, 1, 55, 25, 4, 7, 0]).unwrap();
    });
    assert_eq!(harbour.record(&cut).end(), EndRecord::NoCredential);
}

#[test]
fn whoever_has_no_nt_hash_is_unfit_for_it() {
    let mut harbour = gate("mschapv2");
    harbour.stores.capabilities = Some(Capabilities { mschap: false, ..ALL });
    let record = harbour.record(&version_2("ida.marsh", "Tide-Table-61"));
    assert_eq!(record.end(), EndRecord::Proof { identity: IdentityKind::User, event: Event::Unfit });
    assert_eq!(answer(&record), &LookUpAnswer::NoNtHash);
}

proptest! {
    #[test]
    fn no_bytes_in_its_attributes_make_it_panic_or_let_anybody_in(
        parts in prop::collection::vec((prop_oneof![Just(1u8), Just(11), Just(25), any::<u8>()], prop::collection::vec(any::<u8>(), 0..60)), 0..4)
    ) {
        let request = with("ida.marsh", |builder| {
            for (kind, value) in &parts {
                let inside = [&[0, 0, 1, 55, *kind, value.len() as u8 + 2], &value[..]].concat();
                builder.attribute(number::VENDOR_SPECIFIC, &inside).unwrap();
            }
        });
        if let Answered::Decided(record, _) = gate("mschap, mschapv2").ask(&request) {
            prop_assert_eq!(record.outcome(), "refused");
        }
    }
}
