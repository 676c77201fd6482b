//! What was changed and by whom, and what a node saw of administrators: two chains that show what was changed in them.
mod running;

use running::*;
use serde_json::{Value, json};

/// What is to be noted elsewhere, of one of the two chains.
fn to_note(told: &str, of: impl Fn(&str) -> bool) -> String {
    let told = told.lines().filter_map(|line| line.split("--known: ").nth(1));
    told.map(str::to_owned).find(|noted| of(noted)).unwrap()
}

#[test]
fn the_audit_is_a_chain_that_breaks_where_somebody_changes_it() {
    let mut service = Running::harbour();
    let noted = to_note(&service.client(&["audit", "verify"]).succeeds(), |hash| !hash.starts_with('s'));
    service.client(&["device", "bar", "02005e200001", "--reason", "stolen"]).succeeds();
    service.client(&["audit", "verify", "--known", &noted]).succeeds();
    service.end("-TERM");
    let file = rusqlite::Connection::open(service.data.join("records.sqlite")).unwrap();
    let sql = "UPDATE command SET author = 'nobody' WHERE what = 'change device'";
    assert_eq!(file.execute(sql, []).unwrap(), 1);
    let mut service = service.again();
    let broken = service.client(&["audit", "verify"]).ends_with(1);
    assert!(
        printed(&broken).contains("is not what was written: it was changed after it was written"),
        "{}",
        printed(&broken)
    );
    service.end("-TERM");
    file.execute("UPDATE command SET author = 'harbour' WHERE what = 'change device'", []).unwrap();
    // Where the last is taken away the rest is whole, and what was noted tells.
    file.execute("DELETE FROM command WHERE revision >= (SELECT max(revision) - 1 FROM command)", []).unwrap();
    let service = service.again();
    service.client(&["audit", "verify"]).succeeds();
    let known = service.client(&["audit", "verify", "--known", &noted]).ends_with(1);
    assert!(printed(&known).contains("was written anew"), "{}", printed(&known));
}

#[test]
fn what_a_node_saw_of_administrators_is_a_chain_of_its_own_among_the_changes() {
    let service = Running::harbour();
    let refused = service.post("sign-in", &json!({ "name": "harbour", "password": "not-the-password" }));
    assert_eq!(refused.0, 403, "{refused:?}");
    service.client(&["device", "bar", "02005e200001", "--reason", "stolen"]).succeeds();
    let list = service.get("audit?limit=2").1;
    let [last, seen] = [0, 1].map(|place| list["changes"][place].clone());
    assert_eq!((&last["what"], &last["seen"]), (&json!("change device"), &Value::Null));
    assert_eq!((&seen["what"], &seen["seen"], &seen["revision"]), (&json!("refuse sign-in"), &json!(2), &Value::Null));
    // The pages of a list hold every entry once, whichever chain it is of.
    let all = service.get("audit?limit=1000").1["changes"].as_array().unwrap().clone();
    let (mut next, mut paged) = (String::new(), Vec::new());
    loop {
        let page = service.get(&format!("audit?limit=3{next}")).1;
        paged.extend(page["changes"].as_array().unwrap().clone());
        match page["next"].as_str() {
            Some(place) => next = format!("&before={place}"),
            None => break,
        }
    }
    assert_eq!(paged, all);
    let before = service.get(&format!("audit?limit=1&before={}", last["revision"])).1;
    assert_eq!(before["changes"][0], seen, "what was seen before a change stands before it");
    assert_eq!(service.get("audit?before=x").0, 400);
    let told = service.client(&["audit", "list"]).succeeds();
    assert!(told.contains("  s2 nobody"), "{told}");
    // The token that the client signs in by was used for the first time, and is noted once.
    assert!(told.contains("  s1 harbour") && told.matches("use token").count() == 1, "{told}");
    let whole = service.client(&["audit", "verify"]).succeeds();
    let noted = to_note(&whole, |noted| noted.starts_with("s2:"));
    service.client(&["audit", "verify", "--known", &noted]).succeeds();
    let file = rusqlite::Connection::open(service.data.join("audit.sqlite")).unwrap();
    assert_eq!(file.execute("UPDATE note SET subject = 'somebody else'", []).unwrap(), 2);
    let broken = printed(&service.client(&["audit", "verify"]).ends_with(1));
    assert!(broken.contains("entry s1 is not what was written: it was changed"), "{broken}");
}
