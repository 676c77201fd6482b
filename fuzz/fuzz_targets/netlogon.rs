//! What a domain controller answers: PDUs, and what is read out of them.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_base::Secret;
use regnant_netlogon::{
    Link, Machine, PasswordHash, SessionKey, mapper, pdu_length, read_authenticated, read_challenge, read_logon,
};

fuzz_target!(|bytes: &[u8]| {
    let _ = mapper::read(bytes);
    let _ = read_logon(bytes);
    let _ = read_challenge(bytes);
    let hash = PasswordHash::of(&Secret::new(*b"Capstan-Pawl-63")).expect("it is a text");
    let key = SessionKey::new(&hash, &[1; 8], &[2; 8]);
    assert!(!matches!(read_authenticated(bytes, &key, &[1; 8], &[2; 8]), Ok(Ok(_))), "nobody proved the key");
    if let Some(header) = bytes.first_chunk() {
        let _ = pdu_length(header);
    }
    let machine = Machine { domain: "TARN".into(), account: "REGNANT$".into() };
    for mut link in [Link::to_mapper(), Link::plain(), Link::sealed(&machine, key)] {
        link.bind();
        let _ = link.bound(bytes);
        link.request(39, b"question", [0; 8]);
        let _ = link.answer(bytes);
    }
});
