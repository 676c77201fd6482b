//! No bytes are believed as a reply unless they were signed with the secret.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_radius::{SharedSecret, check_reply};

fuzz_target!(|bytes: &[u8]| {
    let secret = SharedSecret::new(*b"a secret that the fuzzer does not know");
    assert!(check_reply(bytes, bytes.get(1).copied().unwrap_or(0), &[7; 16], &secret).is_err());
});
