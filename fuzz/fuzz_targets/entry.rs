//! Entries of the journal as they lie on the disk: whatever is there is read or refused,
//! what is read is shown, and what is shown was kept whole.
#![no_main]

use std::sync::{Arc, LazyLock};

use libfuzzer_sys::fuzz_target;

use regnant_equipment::{Dialect, Edition, Vocabulary};
use regnant_evidence::{Evidence, Record, UnheardRecord};
use regnant_policy::{Compiled, Source};
use ulid::Ulid;

const POLICY: [(&str, &str); 3] = [
    ("main.writ", include_str!("../../crates/campus/harbour/main.writ")),
    ("access-lists.writ", include_str!("../../crates/campus/harbour/access-lists.writ")),
    ("cases.writ", include_str!("../../crates/campus/harbour/cases.writ")),
];

static EDITION: LazyLock<Edition> = LazyLock::new(|| {
    let table = Arc::new(Vocabulary::standard());
    let policy =
        Compiled::from_source(Source::of(POLICY), table.schema()).expect("the harbour's policy checks");
    let dialects = [Dialect::standard(table.dictionary())];
    Edition::prepare(2, policy, &dialects, table)
});

fuzz_target!(|bytes: &[u8]| {
    if let Ok(evidence) = Evidence::from_bytes(Ulid::nil(), bytes) {
        let stored = evidence.to_bytes();
        assert_eq!(Evidence::from_bytes(Ulid::nil(), &stored).as_ref(), Ok(&evidence));
        let record = Record::new(&evidence, &*EDITION);
        record.sentence();
        record.trail();
    }
    if let Ok(unheard) = UnheardRecord::from_bytes(Ulid::nil(), bytes) {
        unheard.sentence();
    }
});
