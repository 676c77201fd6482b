//! Any text as a policy: told what is wrong, or compiled and its cases run.
#![no_main]

use std::sync::LazyLock;

use libfuzzer_sys::fuzz_target;
use regnant_equipment::Vocabulary;
use regnant_policy::{Compiled, Source};

static TABLE: LazyLock<Vocabulary> = LazyLock::new(Vocabulary::standard);

fuzz_target!(|text: &str| {
    match Compiled::from_source(Source::new("main.writ", text), TABLE.schema()) {
        Ok(policy) => drop(policy.run_cases()),
        Err(checked) => {
            for diagnostic in checked.diagnostics() {
                diagnostic.render(checked.source());
            }
        }
    }
});
