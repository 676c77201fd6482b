//! Any bytes as a backup: nothing is written outside the folder it is unpacked into.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_service::outside::unpack;

fuzz_target!(|bytes: &[u8]| {
    let folder = tempfile::tempdir().expect("there is room for a folder");
    let inside = folder.path().join("inside");
    std::fs::create_dir(&inside).expect("it is new");
    let _ = unpack(bytes, &inside);
    assert_eq!(std::fs::read_dir(folder.path()).expect("it is there").count(), 1);
});
