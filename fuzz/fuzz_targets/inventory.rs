//! Any text as an inventory file.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_records::Inventory;

fuzz_target!(|text: &str| {
    let _ = Inventory::from_toml("inventory.toml", text);
});
