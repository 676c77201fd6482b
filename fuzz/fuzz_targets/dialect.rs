//! Any text as a dialect file; what is taken renders every statement.
#![no_main]

use std::sync::{Arc, LazyLock};

use libfuzzer_sys::fuzz_target;
use regnant_equipment::{Dialect, Edition, Vocabulary};
use regnant_policy::{Compiled, Source};

static VOCABULARY: LazyLock<Arc<Vocabulary>> = LazyLock::new(|| Arc::new(Vocabulary::standard()));

const POLICY: &str = "acl l { permit tcp to 10.44.30.0/24 port 102 deny ip to 2001:db8::/32 }
    grant a { vlan 20 tagged voice-vlan \"v\" role \"r\" acl l rate up 1M down 2M segment 7 session 1h idle 1m
      interim 5m address 10.44.0.7 address6 2001:db8::7 service login privilege 15 class \"a\" class \"b\" message \"m\" }
    grant b { vlan \"v\" filter \"f\" redirect \"https://10.44.0.9/\" past l reauthenticate 1h }
    gate g { accept mac identify mac in devices rule \"R\" { when device.known grant a } otherwise grant b }";

fuzz_target!(|text: &str| {
    let Ok(dialect) = Dialect::read("fuzz.toml", text, VOCABULARY.dictionary(), &[]) else { return };
    let Ok(policy) = Compiled::from_source(Source::new("main.writ", POLICY), VOCABULARY.schema()) else { return };
    Edition::prepare(1, policy, &[dialect], VOCABULARY.clone());
});
