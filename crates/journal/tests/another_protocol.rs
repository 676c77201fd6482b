//! A protocol that is made up, through journal, sentence, trail, counts and cases: nothing on the way knows what stands
//! in its bytes.

mod spoken;
#[path = "../../decision/tests/typed/mod.rs"]
mod typed;

use std::sync::Arc;

use regnant_decision::EntryKind;
use regnant_evidence::{Cause, Evidence, Record, Trail, UnheardRecord, WhatIf, WhatIfAnswer, case_of, facts_of};
use regnant_journal::*;
use regnant_policy::StatedFacts;
use spoken::{SpokenEdition, decision};
use typed::{House, typed};
use ulid::Ulid;

fn sentence(record: &Record) -> String {
    record.sentence().iter().map(|part| part.text.as_str()).collect()
}

fn station<'t>(trail: &'t Trail, name: &str) -> &'t str {
    &trail.stations.iter().find(|station| station.name == name).unwrap().line
}

#[test]
fn a_made_up_protocol_is_journaled_searched_counted_and_explained() {
    let dir = tempfile::tempdir().unwrap();
    let house = House::new();
    let edition = Arc::new(SpokenEdition { number: 3, active: house.active.clone() });
    let node = NodeFile::open(&dir.path().join("node.sqlite")).unwrap();
    let journal = Journal::open(&dir.path().join("journal"), node, Keep::default(), 100).unwrap();
    let mut listening = journal.listen();
    let handle = journal.handle().unwrap();
    let asked = [("night", "Tide-Table-61"), ("day", "Tide-Table-61"), ("night", "x")];
    for ((shift, password), number) in asked.into_iter().zip(1..) {
        let asked = typed(shift, "ida.marsh", password);
        let decided = house.decide(&asked);
        let id = Ulid::from_parts(1_795_000_000_000 + number, 1);
        handle.slot("desk").unwrap().decision(decision(id, asked, &edition, decided));
    }
    let cause = Cause::NoCredentials { protocol: "speech".into() };
    let (id, source, nas) = (Ulid::from_parts(1_795_000_000_009, 1).to_string(), "127.0.0.9".into(), None);
    handle.slot("desk").unwrap().unheard(UnheardRecord { id, first: 9, last: 9, count: 1, source, nas, cause });
    drop(handle);
    assert_eq!(journal.close(), 0);
    let reader = JournalReader::open(&dir.path().join("journal"), &dir.path().join("accounting")).unwrap();
    let search = |words: &str| {
        let text = Some(words.to_owned());
        reader.entries(&EntryFilter { text, limit: 10, ..EntryFilter::default() }).unwrap()
    };
    let decisions = |words: &str| -> Vec<Evidence> {
        let decisions = search(words).into_iter().map(|entry| match entry {
            Entry::Decision(evidence) => *evidence,
            other => panic!("{other:?}"),
        });
        decisions.collect()
    };
    assert_eq!((search("desk").len(), search("speech").len()), (3, 1));
    assert_eq!(std::iter::from_fn(|| listening.try_recv().ok()).count(), 4, "whoever listens hears it too");

    let granted = &decisions("night watch")[0];
    let record = Record::new(granted, &*edition);
    assert_eq!(sentence(&record), "ida.marsh on desk by pap was given network (VLAN 20) by Night watch.");
    assert_eq!(record.doubt, None, "the rules come to the same with what was kept");
    let trail = record.trail();
    assert_eq!(station(&trail, "heard"), "A question from 127.0.0.1:7 (desk, firewall at quayside), whispered.");
    assert_eq!(station(&trail, "reply"), "Come in.");
    let tests = &record.rules[0].tests;
    assert_eq!((tests[0].fact.as_str(), tests.len()), ("request.Shift", 2));

    let refused = &decisions("rule applies")[0];
    let record = Record::new(refused, &*edition);
    assert_eq!(sentence(&record), "ida.marsh on desk by pap was refused: no rule applies.");
    let rules = record.trail().stations.into_iter().find(|station| station.name == "rules").unwrap();
    assert!(rules.evidence.iter().any(|clue| clue.value.contains("request.Shift is day")), "{rules:?}");
    assert_eq!(
        sentence(&Record::brief(&decisions("wrong password")[0], &*edition)),
        "ida.marsh on desk by pap was refused: wrong password."
    );

    let counts = reader.counts(0, i64::MAX).unwrap();
    let counted = |kind| counts.iter().filter(|count| count.kind == kind).map(|count| count.number).sum::<u64>();
    assert_eq!((counted(EntryKind::Granted), counted(EntryKind::Refused)), (1, 2));
    assert_eq!(reader.newest(NewestKind::Person, "ida.marsh").unwrap(), Some(Ulid::from_parts(1_795_000_000_003, 1)));

    let shift = facts_of(granted, &*edition).into_iter().find(|fact| fact.name == "request.Shift").unwrap();
    assert_eq!((shift.value.as_str(), shift.asked), ("night", true));
    let case = case_of(granted, &*edition).unwrap();
    assert!(
        case.contains("request.Shift = night") && case.contains("expect grant network by \"Night watch\""),
        "{case}"
    );
    let schema = house.active.table.schema();
    let stated = StatedFacts::read("request.Shift = day", schema).unwrap();
    let by_day = WhatIf::new(Some(granted), &*edition, stated);
    assert_eq!(WhatIfAnswer::of(&house.active.policy, schema, &by_day).outcome, EntryKind::Refused);
}

#[test]
fn nothing_that_keeps_or_reads_decisions_is_built_upon_a_protocol() {
    let manifests = [
        include_str!("../../base/Cargo.toml"),
        include_str!("../../decision/Cargo.toml"),
        include_str!("../../eap/Cargo.toml"),
        include_str!("../../evidence/Cargo.toml"),
        include_str!("../Cargo.toml"),
        include_str!("../../policy/Cargo.toml"),
        include_str!("../../records/Cargo.toml"),
    ];
    let known = ["base", "decision", "eap", "evidence", "journal", "policy", "records"];
    for manifest in manifests {
        let built_upon = manifest.lines().filter_map(|line| line.strip_prefix("regnant-")?.split('.').next());
        for name in built_upon {
            assert!(known.contains(&name), "{name}, in\n{manifest}");
        }
    }
}
