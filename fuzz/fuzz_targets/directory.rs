//! Any bytes as an entry that a directory answers with.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| regnant_directory::read_any(bytes));
