//! A service that is killed in the middle: what it acknowledged is there after the restart.
mod running;

use std::sync::Mutex;
use std::time::Duration;

use running::*;
use serde_json::{Value, json};

/// A change that is asked for, and how it shows that it was made.
fn change(number: u64) -> (&'static str, String, Value) {
    let kind = number % 5;
    match kind {
        0 => (
            "POST",
            "people".into(),
            json!({ "store": "harbour", "name": format!("hand-{number}"), "password": "Capstan-Bar-58" }),
        ),
        1 => (
            "POST",
            "devices".into(),
            json!({ "store": "harbour-devices", "mac": format!("0200 {number:08x}").replace(' ', ""), "title": format!("winch {number}") }),
        ),
        2 => (
            "POST",
            "nases".into(),
            json!({ "name": format!("pier-{number}"), "addresses": [format!("10.{}.{}.9", number / 250, number % 250)], "kind": "switch", "site": "pier", "secret": "bollard-9-anchor" }),
        ),
        3 => ("PUT", "devices/bar".into(), json!({ "macs": ["02005e200007"], "reason": format!("round {number}") })),
        _ => ("POST", "tokens".into(), json!({ "name": format!("token-{number}"), "role": "auditor" })),
    }
}

/// Whether the records have what was acknowledged.
fn is_there(service: &Running, number: u64) -> bool {
    match number % 5 {
        0 => service.get(&format!("people/harbour/hand-{number}")).0 == 200,
        1 => service.get(&format!("devices/harbour-devices/0200{number:08x}")).0 == 200,
        2 => service.get(&format!("nases/pier-{number}")).0 == 200,
        // A later one may stand in its place; the log has them all.
        3 => service.get("devices/harbour-devices/02005e200007").1["device"]["barred"].is_object(),
        _ => service.get("tokens").1.to_string().contains(&format!("\"token-{number}\"")),
    }
}

#[test]
fn nothing_that_was_acknowledged_is_lost_when_the_service_is_killed() {
    let mut service = Running::harbour();
    let (mut next, mut all) = (0_u64, Vec::new());
    for round in 0..4 {
        let acknowledged = Mutex::new(Vec::new());
        let (base, token) = (service.api.clone(), service.token.clone());
        let (first, last) = (next, next + 4_000);
        std::thread::scope(|scope| {
            for part in 0..3 {
                let (acknowledged, base, token) = (&acknowledged, &base, &token);
                scope.spawn(move || {
                    let agent = agent();
                    for number in (first..last).skip(part).step_by(3) {
                        let (verb, path, body) = change(number);
                        let request = ureq::http::Request::builder().method(verb).uri(format!("{base}/api/v1/{path}"));
                        let request = request.header("authorization", format!("Bearer {token}"));
                        let request =
                            request.header("content-type", "application/json").body(body.to_string()).unwrap();
                        // The end of the service ends this.
                        let Ok(answer) = agent.run(request) else { return };
                        assert!(answer.status().is_success(), "{verb} {path}: {}", answer.status());
                        acknowledged.lock().unwrap().push(number);
                    }
                });
            }
            std::thread::sleep(Duration::from_millis(250 + 70 * round));
            service.end("-KILL");
        });
        let acknowledged = acknowledged.into_inner().unwrap();
        assert!(acknowledged.len() > 10, "{}", acknowledged.len());
        all.extend(acknowledged);
        next = last;
        service = service.again();
        let lost: Vec<_> = all.iter().filter(|number| !is_there(&service, **number)).collect();
        assert!(lost.is_empty(), "lost in round {round}: {lost:?}");
    }
    // Every one of them is in the log too, whose chain is whole.
    let (status, verified) = service.get("audit/verify");
    assert!(status == 200 && verified["broken"].is_null(), "{verified}");
    assert!(verified["changes"].as_u64().unwrap() as usize >= all.len(), "{verified}");
}
