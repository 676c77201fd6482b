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
            "INSERT INTO basis SELECT x'07', replace(dictionaries, 'NAS-Port-Type', 'Port-Sort'), dialects FROM basis;
             UPDATE edition SET basis = x'07'",
        )
        .unwrap();
    drop(records);
    let mut service = service.again();
    assert_eq!(active(&service), edition + 1, "the same policy on the dictionaries of this release");
    ask(&service);
    let old = service.get(&format!("journal/{id}")).1;
    assert_eq!((&old["edition"], rules(&old)), (&before["edition"], rules(&before)));
    assert!(old.to_string().contains("Port-Sort"), "attributes have the names that they had: {old}");
    // Where it is lost what an edition was checked with, the decision is still told.
    assert_eq!(service.end("-TERM"), Some(0));
    let records = rusqlite::Connection::open(service.data.join("records.sqlite")).unwrap();
    records.execute("UPDATE edition SET basis = NULL WHERE number = ?1", [edition as i64]).unwrap();
    drop(records);
    let service = service.again();
    assert_eq!(active(&service), edition + 1);
    let old = service.get(&format!("journal/{id}")).1;
    assert_eq!(old["entry"]["outcome"], "granted");
    assert!(old.to_string().contains("cannot be read any more"), "{old}");
}
