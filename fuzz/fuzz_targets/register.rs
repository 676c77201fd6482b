//! What a service that tells facts answers.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (&[u8], &str)| {
    regnant_http_source::read_any(input.0, input.1);
});
