//! The HTTP API of a started service.
mod running;

use std::io::{BufRead, BufReader};

use regnant_campus::harbour::*;
use running::*;
use serde_json::{Value, json};

fn post(service: &Running, path: &str, headers: &[(&str, &str)], body: &Value) -> (u16, Value) {
    let mut request = agent().post(format!("{}/api/v1/{path}", service.api));
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    let mut answer = request.send_json(body).unwrap();
    (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or(Value::Null))
}

fn cookie(service: &Running) -> String {
    let form = json!({ "name": "harbour", "password": PASSWORD });
    let answer = agent().post(format!("{}/api/v1/sign-in", service.api)).send_json(form).unwrap();
    let cookie = answer.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"));
    cookie.split(';').next().unwrap().to_owned()
}

#[test]
fn the_welcome_link_works_once() {
    let service = Running::empty();
    let secret = service.welcome.as_ref().unwrap().split('#').nth(1).unwrap();
    let welcome = |secret: &str, password: &str| {
        post(&service, "welcome", &[], &json!({ "secret": secret, "name": "first", "password": password }))
    };
    assert_eq!(welcome("wrong", PASSWORD).0, 403);
    let (status, body) = welcome(secret, "short");
    assert_eq!(
        (status, body["error"].as_str().unwrap()),
        (400, "An administrator's password has at least 10 characters.")
    );
    assert_eq!(welcome(secret, PASSWORD).0, 200);
    assert_eq!(welcome(secret, PASSWORD).0, 403);
    let again = post(&service, "sign-in", &[], &json!({ "name": "FIRST", "password": PASSWORD }));
    assert_eq!(again, (200, json!({ "name": "first" })));
}

#[test]
fn nothing_is_shown_or_changed_without_signing_in() {
    let mut service = Running::harbour();
    service.token = "wrong".into();
    for path in ["journal", "journal/x", "journal/live", "policy", "policy/editions", "nases", "endpoints", "session"] {
        assert_eq!(service.get(path).0, 401, "{path}");
    }
    for path in ["policy/check", "policy/activate", "inventory", "tokens", "sign-out"] {
        assert_eq!(service.post(path, &json!({ "source": "" })).0, 401, "{path}");
    }
    assert_eq!(service.get("health").0, 200);
    assert_eq!(service.get("nothing").0, 404);
}

#[test]
fn a_cookie_works_for_our_own_pages_only() {
    let service = Running::harbour();
    let cookie = cookie(&service);
    let check = json!({ "source": "" });
    let from = |origin: &str| post(&service, "policy/check", &[("cookie", &cookie), ("origin", origin)], &check).0;
    assert_eq!(from(&service.api), 200);
    assert_eq!(from("http://elsewhere.example"), 403);
    assert_eq!(post(&service, "sign-out", &[("cookie", &cookie)], &json!({})).0, 204);
    assert_eq!(from(&service.api), 401);
}

#[test]
fn guessing_a_password_is_slowed_down() {
    let service = Running::harbour();
    let guess = || post(&service, "sign-in", &[], &json!({ "name": "harbour", "password": "guess" })).0;
    assert!((0..10).all(|_| guess() == 403));
    assert_eq!(guess(), 429);
}

#[test]
fn a_forgotten_token_is_worth_nothing() {
    let service = Running::harbour();
    assert_eq!(service.post("sign-out", &json!({})).0, 204);
    assert_eq!(service.get("journal").0, 401);
}

#[test]
fn the_journal_is_filtered_and_paged() {
    let service = Running::harbour();
    for last in 1..=5 {
        service.try_from(&QUAY_SW_1, &["mac", "--mac", &format!("02005e20000{last}")]).ends_with(0);
    }
    service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400066"]).ends_with(1);
    let all = service.entries("limit=10", 6);
    let ids: Vec<_> = all.iter().map(|entry| entry["id"].as_str().unwrap()).collect();
    assert!(ids.is_sorted_by(|a, b| a > b));
    let page = service.entries(&format!("limit=2&before={}", ids[1]), 2);
    assert_eq!([&page[0]["id"], &page[1]["id"]], [ids[2], ids[3]]);
    assert_eq!(service.entries("outcome=refused", 1).len(), 1);
    assert_eq!(service.entries("q=crane+02:00:5e:20:00:03", 1).len(), 1);
    assert_eq!(service.get("journal?q=%25").1["entries"], json!([]));
    for wrong in ["limit=0", "limit=501", "outcome=maybe", "before=x", "unknown=1"] {
        assert_eq!(service.get(&format!("journal?{wrong}")).0, 400, "{wrong}");
    }
    assert_eq!(service.get("journal/01ARZ3NDEKTSV4RRFFQ69G5FAV").0, 404);
}

#[test]
fn live_events_tell_of_each_decision() {
    let service = Running::harbour();
    let request = agent().get(format!("{}/api/v1/journal/live", service.api));
    let answer = request.header("authorization", format!("Bearer {}", service.token)).call().unwrap();
    let mut lines = BufReader::new(answer.into_body().into_reader()).lines();
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    let data = lines.find_map(|line| line.unwrap().strip_prefix("data: ").map(str::to_owned)).unwrap();
    let entry: Value = serde_json::from_str(&data).unwrap();
    assert!(sentence(&entry).contains("crane controller 02:00:5e:20:00:07 on quay-sw-1"));
}

#[test]
fn a_policy_is_checked_without_effect_and_activated_with() {
    let service = Running::harbour();
    let (status, report) = service.post("policy/check", &json!({ "source": "gate g { accept mac otherwise refuse }" }));
    assert_eq!((status, report["diagnostics"][0]["code"].as_str()), (200, Some("W402")));
    assert_eq!(report["diagnostics"][0]["line"], 1);
    let failing = POLICY.replace("vlan 30\n", "vlan 31\n");
    let (status, refused) = service.post("policy/activate", &json!({ "source": failing }));
    assert_eq!(
        (status, refused["error"].as_str()),
        (422, Some("The policy cannot be activated: 1 of 11 cases failed."))
    );
    assert_eq!(service.get("policy").1["edition"]["number"], 2);
    let changed = POLICY.replace("staff\"", "contractors\"");
    let (status, _) = service.post("policy/activate", &json!({ "source": changed, "expected": 1 }));
    assert_eq!(status, 409);
    let (status, done) = service.post("policy/activate", &json!({ "source": "# nobody\n", "expected": 2 }));
    assert_eq!((status, done["number"].as_u64()), (200, Some(3)));
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(1);
    let editions = service.get("policy/editions").1;
    let states: Vec<_> =
        editions["editions"].as_array().unwrap().iter().map(|e| e["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["active", "retired", "retired"]);
    assert_eq!(editions["editions"][0]["created_by"], "harbour");
}

#[test]
fn inventories_are_read_without_their_secrets() {
    let service = Running::harbour();
    let (_, nases) = service.get("nases");
    let vpn = nases["nases"].as_array().unwrap().iter().find(|nas| nas["name"] == "pilot-vpn-1").unwrap().clone();
    assert_eq!(
        (vpn["address"].as_str(), vpn["require_message_authenticator"].as_bool()),
        (Some("127.0.0.41"), Some(false))
    );
    assert!(!nases.to_string().contains("sextant"));
    let (_, endpoints) = service.get("endpoints?q=stolen");
    assert_eq!(endpoints["endpoints"][0]["mac"], "02:00:5e:40:00:66");
    assert_eq!(endpoints["endpoints"][0]["barred"], true);
    assert_eq!(service.get("endpoints?limit=5").1["more"], 0x12 + 0x28 + 0x3c + 1 - 5);
}

#[test]
fn bodies_that_are_no_json_or_too_large_are_refused() {
    let service = Running::harbour();
    let send = |body: &str, kind: &str| {
        let request = agent().post(format!("{}/api/v1/policy/check", service.api));
        let request = request.header("authorization", format!("Bearer {}", service.token)).header("content-type", kind);
        // A service that reads no further may close before all is sent.
        request.send(body).map_or(413, |answer| answer.status().as_u16())
    };
    assert_eq!(send("{", "application/json"), 400);
    assert_eq!(send("{}", "application/json"), 422);
    assert_eq!(send("{\"source\":\"\"}", "text/plain"), 415);
    let large = format!("{{\"source\":\"{}\"}}", "x".repeat(9 << 20));
    assert_eq!(send(&large, "application/json"), 413);
    assert_eq!(service.get("health").0, 200);
    let long = json!({ "source": "#".repeat(2 << 20) });
    assert_eq!(service.post("policy/check", &long).1["diagnostics"][0]["code"], "W100");
}
