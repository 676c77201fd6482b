//! What follows a change that is in force fails nobody who made it.
mod running;

use std::process::Command;
use std::time::{Duration, Instant};

use running::*;
use serde_json::{Value, json};

/// How many files the service may open from now on.
fn may_open(service: &Running, files: &str) {
    let limit = [format!("--pid={}", service.pid()), format!("--nofile={files}:")];
    let output = Command::new("prlimit").args(limit).output();
    let output = output.expect("prlimit is missing: install it (Debian: apt-get install util-linux)");
    assert!(output.status.success(), "{}", printed(&output));
}

#[test]
fn a_change_is_answered_as_done_though_what_follows_it_fails_and_that_is_made_good() {
    let service = Running::harbour();
    let kept = agent();
    // Over one connection, which is there before no file can be opened any more.
    let call = |verb: &str, path: &str, body: &Value| {
        let request = ureq::http::Request::builder()
            .method(verb)
            .uri(format!("{}/api/v1/{path}", service.api))
            .header("authorization", format!("Bearer {}", service.token))
            .header("content-type", "application/json");
        let mut answer = kept.run(request.body(body.to_string()).unwrap()).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or(Value::Null))
    };
    assert_eq!(call("POST", "secrets", &json!({ "name": "spare", "value": "hawser-1" })).0, 204);
    may_open(&service, "1");
    // More addresses than are noted one by one: what devices are found by is written anew, which cannot be.
    let many = json!({ "device": [{
        "store": "harbour-devices", "mac": "02005fb00000", "last": "02005fb0ffff", "title": "a crate of beacons",
    }] });
    let (status, told) = call("POST", "inventory", &many);
    assert!((200..300).contains(&status), "{status} {told}");
    let unfit = json!({ "authorities": "none" });
    assert!(call("PUT", "trusts/none", &unfit).0 >= 400, "what fails before it is in force is told as that");
    may_open(&service, "4096");
    assert_eq!(service.get("devices/harbour-devices/02:00:5f:b0:77:77").0, 200, "it is in force");
    let began = Instant::now();
    while !service.get("devices?q=beacons&limit=1").1.to_string().contains("a crate of beacons") {
        assert!(began.elapsed() < Duration::from_secs(30), "what failed is not made good");
        std::thread::sleep(Duration::from_millis(100));
    }
}
