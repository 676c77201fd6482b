//! Any text as a dictionary file; what is taken reads and writes any bytes.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use regnant_radius::{Attributes, Dictionary};

static DICTIONARY: LazyLock<Dictionary> = LazyLock::new(Dictionary::standard);

fuzz_target!(|input: (&str, &[u8])| {
    let (text, bytes) = input;
    let mut dictionary = DICTIONARY.clone();
    if dictionary.add_own("fuzz.toml", text).is_err() {
        return;
    }
    let Some(attributes) = Attributes::read(bytes) else { return };
    dictionary.show_all(attributes.clone());
    assert_eq!(dictionary.without_secrets(attributes.clone()).len(), bytes.len());
    for definition in dictionary.definitions() {
        dictionary.values(attributes.clone(), definition.id);
    }
});
