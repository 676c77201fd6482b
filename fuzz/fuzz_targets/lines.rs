//! Any bytes as lines of an import, and any text as the name of a record.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_records::RecordName;
use regnant_service::outside::read_all;

fuzz_target!(|bytes: &[u8]| {
    let _ = (read_all(true, bytes), read_all(false, bytes));
    if let Ok(name) = String::from_utf8_lossy(bytes).parse::<RecordName>() {
        assert_eq!(name.path().parse(), Ok(name));
    }
});
