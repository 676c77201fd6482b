//! What a decision was made with stays with it.
mod running;

use regnant_campus::harbour::QUAY_SW_1;
use running::*;
use serde_json::Value;

fn rules(detail: &Value) -> Value {
    let stations = detail["stations"].as_array().unwrap();
    stations.iter().find(|station| station["name"] == "rules").unwrap().clone()
}

#[test]
fn a_release_with_other_dictionaries_makes_a_new_edition_and_old_trails_stay_whole() {
    let mut service = Running::harbour();
    let active = |service: &Running| service.get("health").1["edition"].as_u64().unwrap();
    let ask = |service: &Running| service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    ask(&service);
    let id = service.entries("q=02:00:5e:20:00:07", 1)[0]["id"].as_str().unwrap().to_owned();
    let before = service.get(&format!("journal/{id}")).1;
    let edition = active(&service);
    assert_eq!(service.end("-TERM"), Some(0));
    // As if this edition had been checked by a release that knew the attributes otherwise.
    let records = rusqlite::Connection::open(service.data.join("records.sqlite")).unwrap();
    records
        .execute_batch(
            "INSERT INTO basis (hash, dictionaries, dialects, attributes)
             SELECT zeroblob(32), replace(dictionaries, 'NAS-Port-Type', 'Port-Sort'), dialects, attributes FROM basis
             WHERE hash = (SELECT basis FROM edition WHERE state = 'active');
             UPDATE edition SET basis = zeroblob(32) WHERE state = 'active'",
        )
        .unwrap();
    drop(records);
    let mut service = service.again();
    assert_eq!(active(&service), edition + 1, "the same policy on the dictionaries of this release");
    ask(&service);
    let old = service.get(&format!("journal/{id}")).1;
    assert_eq!((&old["entry"]["edition"], rules(&old)), (&before["entry"]["edition"], rules(&before)));
    assert!(old.to_string().contains("Port-Sort"), "attributes have the names that they had: {old}");
    // Where what an edition was checked with cannot be read, the decision is still told.
    assert_eq!(service.end("-TERM"), Some(0));
    let records = rusqlite::Connection::open(service.data.join("records.sqlite")).unwrap();
    records.execute("UPDATE basis SET dictionaries = '[' WHERE hash = zeroblob(32)", []).unwrap();
    drop(records);
    let service = service.again();
    assert_eq!(active(&service), edition + 1);
    let old = service.get(&format!("journal/{id}")).1;
    assert_eq!(old["entry"]["outcome"], "granted");
    assert!(old.to_string().contains("cannot be read any more"), "{old}");
}

#[test]
fn a_decision_under_load_is_whole_under_one_edition_while_others_are_activated() {
    let service = Running::harbour();
    let policy = |number: u64| {
        format!(
            "grant mark {{ class \"edition-{number}\" }}
             gate all {{
               accept mac
               identify mac in harbour-devices {{ unknown continue }}
               rule \"Edition {number}\" {{ when nas.kind = switch grant mark }}
               otherwise refuse
             }}"
        )
    };
    let first = service.get("health").1["edition"].as_u64().unwrap() + 1;
    let activate = |number| {
        let (status, told) = service.post("policy/activate", &serde_json::json!({ "source": policy(number) }));
        assert_eq!((status, told["number"].as_u64()), (200, Some(number)), "{told}");
    };
    activate(first);
    std::thread::scope(|scope| {
        let load = scope.spawn(|| {
            let load = ["mac", "--mac", "02005e200007", "--load", "--rate", "300", "--seconds", "3", "--json"];
            service.try_from(&QUAY_SW_1, &load).succeeds()
        });
        for number in first + 1..first + 20 {
            std::thread::sleep(std::time::Duration::from_millis(100));
            activate(number);
        }
        load.join().unwrap();
    });
    let file = rusqlite::Connection::open(service.journal_file()).unwrap();
    let mut entries = file.prepare("SELECT id, search, evidence FROM entry").unwrap();
    let rows = entries.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).unwrap();
    let mut seen = std::collections::HashSet::new();
    for row in rows {
        let (id, search, evidence): ([u8; 16], String, Vec<u8>) = row.unwrap();
        let evidence = regnant_evidence::Evidence::from_bytes(ulid::Ulid::from_bytes(id), &evidence).unwrap();
        if u64::from(evidence.edition) < first {
            continue;
        }
        seen.insert(evidence.edition);
        // Rule, grant and what it says are those of the edition that the entry names.
        for part in [format!("class edition-{})", evidence.edition), format!("by edition {}.", evidence.edition)] {
            assert!(search.contains(&part), "{part}: {search}");
        }
    }
    assert!(seen.len() > 5, "{seen:?}");
}
