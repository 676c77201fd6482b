//! Any text as a policy: told what is wrong, or compiled and its cases run.
#![no_main]

use libfuzzer_sys::fuzz_target;
use regnant_access::FactTable;
use regnant_policy::{Compiled, Source};
use regnant_radius::Dictionary;

fuzz_target!(|text: &str| {
    let table = FactTable::new(Dictionary::standard());
    match Compiled::from_source(Source::new("main.writ", text), table.schema()) {
        Ok(policy) => drop(policy.run_cases()),
        Err(checked) => {
            for diagnostic in checked.diagnostics() {
                diagnostic.render(checked.source());
            }
        }
    }
});
