//! Any bytes from a NAS: parsed, checked, shown.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use regnant_radius::{Dictionary, Packet, SharedSecret, check_message_authenticator, number, reveal_password};

static DICTIONARY: LazyLock<Dictionary> = LazyLock::new(Dictionary::standard);

fuzz_target!(|bytes: &[u8]| {
    let Ok(packet) = Packet::parse(bytes) else { return };
    let secret = SharedSecret::new(*b"bollard-9-anchor");
    check_message_authenticator(&packet, &secret);
    for hidden in packet.all(number::USER_PASSWORD) {
        let _ = reveal_password(hidden, packet.authenticator(), &secret);
    }
    DICTIONARY.show(&packet);
});
