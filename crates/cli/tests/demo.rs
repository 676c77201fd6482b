//! The demo, as a newcomer starts it. It has fixed ports, so it is one test.
mod running;

use running::*;
use serde_json::Value;

#[test]
fn every_row_of_the_story_is_as_the_scenario_says_and_can_be_played_again() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("demo");
    let told = regnant().args(["demo", "--once", "--data"]).arg(&data).succeeds();
    assert!(told.ends_with("42 of 42 as the scenario says\n"), "{told}");
    let row = told.lines().find(|line| line.contains("a scanner reported stolen")).unwrap();
    assert!(row.starts_with('●') && row.ends_with("Reported lost or stolen"), "{row}");
    let again = regnant().args(["demo", "--once", "--json", "--data"]).arg(&data).succeeds();
    let rows: Value = serde_json::from_str(&again).unwrap();
    let silent = |row: &&Value| row["why"] == "the journal says nothing" || row["as_expected"] == false;
    assert_eq!(rows.as_array().unwrap().iter().find(silent), None);
}
