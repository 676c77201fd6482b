//! The HTTP API of a started service.
mod running;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::Stdio;
use std::time::{Duration, Instant};

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
    let again = post(&service, "sign-in", &[], &json!({ "name": " FIRST ", "password": PASSWORD }));
    assert_eq!(again, (200, json!({ "name": "first", "role": "engineer" })));
}

#[test]
fn nothing_is_shown_or_changed_without_signing_in() {
    let mut service = Running::harbour();
    service.token = "wrong".into();
    const OPEN: [&str; 5] =
        ["/api/v1/openapi.json", "/api/v1/health", "/api/v1/welcome", "/api/v1/sign-in", "/api/v1/sign-in/token"];
    let description: Value = serde_json::from_str(include_str!("../../../console/src/api/openapi.json")).unwrap();
    let (mut walked, mut ids) = (0, std::collections::HashSet::new());
    for (path, verbs) in description["paths"].as_object().unwrap() {
        let address = path.replace("{revision}", "1").replace("{mac}", "02005e200007");
        let address =
            ["{id}", "{name}", "{store}", "{kind}"].iter().fold(address, |address, part| address.replace(part, "x"));
        let address = address.strip_prefix("/api/v1/").unwrap();
        for (verb, operation) in verbs.as_object().unwrap() {
            assert!(ids.insert(operation["operationId"].as_str().unwrap()), "{verb} {path} has the id of another");
            let status = match verb.as_str() {
                "get" => service.get(address).0,
                "post" => service.post(address, &json!({ "source": "" })).0,
                "put" | "patch" => {
                    let request = ureq::http::Request::builder().method(&*verb.to_uppercase());
                    let request = request
                        .uri(format!("{}/api/v1/{address}", service.api))
                        .header("content-type", "application/json");
                    agent().run(request.body("{}").unwrap()).unwrap().status().as_u16()
                }
                "delete" => service.delete(address).0,
                other => panic!("{other} {path}: tell this test how to call it"),
            };
            assert_eq!(status == 401, !OPEN.contains(&path.as_str()), "{verb} {path}: {status}");
            walked += 1;
        }
    }
    assert!(walked >= 18, "{walked} calls are described");
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
fn guessing_a_password_is_slow_where_it_is_guessed_and_shuts_nobody_out() {
    let service = Running::harbour();
    let guess = |from: &str, name: &str| raw(&service, from, &sign_in(&service, name, "guess")).0;
    assert!((0..10).all(|_| guess("127.0.0.2", "harbour") == 403));
    assert_eq!(guess("127.0.0.2", "harbour"), 429);
    assert_eq!(guess("127.0.0.3", "harbour"), 403, "nobody else pays for it");
    assert_eq!(raw(&service, "127.0.0.3", &sign_in(&service, "harbour", PASSWORD)).0, 200);
    // A browser in which somebody signed in is known, and no address: whoever shares it is counted as anybody.
    let (status, head, _) = raw(&service, "127.0.0.4", &sign_in(&service, "harbour", PASSWORD));
    let browser = head.lines().find_map(|line| line.strip_prefix("set-cookie: regnant-browser=")).unwrap();
    let browser = format!("regnant-browser={}", browser.split(';').next().unwrap());
    assert_eq!(status, 200);
    assert!((0..10).all(|_| guess("127.0.0.4", "harbour") == 403));
    assert_eq!(guess("127.0.0.4", "harbour"), 429);
    let from_browser = |name: &str, password: &str| {
        let asked = sign_in(&service, name, password).replacen("\r\n", &format!("\r\ncookie: {browser}\r\n"), 1);
        raw(&service, "127.0.0.4", &asked).0
    };
    assert!((0..12).all(|_| from_browser("harbour", "guess") == 403), "she may mistype");
    assert_eq!(from_browser("harbour", PASSWORD), 200, "and is not shut out by others");
    assert_eq!((0..30).filter(|_| from_browser("desk", "guess") == 403).count(), 10, "for no other name");
}

/// Large bodies have shared places, whatever route they are for: they cannot fill the memory.
#[test]
fn large_bodies_have_their_places_and_small_ones_go_on_meanwhile() {
    let service = Running::harbour();
    let token = format!("authorization: Bearer {}\r\n", service.token);
    let begin = |route: &str| {
        let mut stream = connect(&service, "127.0.0.1");
        let host = host(&service);
        write!(
            stream,
            "POST /api/v1/{route} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n{token}content-type: \
             application/json\r\ncontent-length: {}\r\n\r\n",
            20 << 20
        )
        .unwrap();
        stream
    };
    // What is taken is asked for the rest of it, and says nothing until then.
    let told = |stream: &mut TcpStream| {
        stream.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
        let mut answer = String::new();
        let _ = stream.read_to_string(&mut answer);
        answer
    };
    for route in ["nothing-there", "people"] {
        let answer = told(&mut begin(route));
        assert!(answer.contains(" 413 "), "as large only where policies and files go: {answer}");
    }
    let mut held = Vec::new();
    loop {
        let mut stream = begin("policy/check");
        match told(&mut stream) {
            answer if answer.contains(" 429 ") => break,
            answer => assert_eq!(answer, ""),
        }
        held.push(stream);
        assert!(held.len() < 12, "as many as one likes are taken");
    }
    let check = json!({ "source": "gate nobody { otherwise refuse }" });
    let bearer = format!("Bearer {}", service.token);
    assert_eq!(post(&service, "policy/check", &[("authorization", &bearer)], &check).0, 200);
    drop(held);
}

/// A request as text from an address of this machine; its status, its head and its body.
fn raw(service: &Running, from: &str, request: &str) -> (u16, String, String) {
    let mut stream = connect(service, from);
    // A service that reads no further may close before all is sent.
    let _ = stream.write_all(request.as_bytes());
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    let (head, body) = answer.split_once("\r\n\r\n").unwrap_or((&answer, ""));
    let status = head.split(' ').nth(1).and_then(|status| status.parse().ok()).unwrap_or(0);
    (status, head.to_lowercase(), body.to_owned())
}

fn connect(service: &Running, from: &str) -> TcpStream {
    let address: std::net::SocketAddr = host(service).parse().unwrap();
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
    socket.bind(&std::net::SocketAddr::new(from.parse().unwrap(), 0).into()).unwrap();
    socket.connect(&address.into()).unwrap();
    let stream = TcpStream::from(socket);
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    stream
}

fn host(service: &Running) -> &str {
    service.api.strip_prefix("http://").unwrap()
}

fn sign_in(service: &Running, name: &str, password: &str) -> String {
    let body = json!({ "name": name, "password": password }).to_string();
    request(service, "POST /api/v1/sign-in", "content-type: application/json\r\n", &body)
}

fn request(service: &Running, line: &str, headers: &str, body: &str) -> String {
    let (host, length) = (host(service), body.len());
    format!("{line} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n{headers}content-length: {length}\r\n\r\n{body}")
}

#[test]
fn every_error_is_the_documented_json_and_nothing_of_the_api_is_kept() {
    let service = Running::harbour();
    let token = format!("authorization: Bearer {}\r\ncontent-type: application/json\r\n", service.token);
    for (line, headers, body, expected) in [
        ("GET /api/v1/nothing", "", "", 404),
        ("DELETE /api/v1/journal", token.as_str(), "", 405),
        ("GET /api/v1/sign-in", "", "", 405),
        ("POST /", "", "x", 405),
        ("PUT /journal", "", "x", 405),
        ("GET /api/v1/journal?limit=x", &token, "", 400),
        ("POST /api/v1/policy/check", &token, "{", 400),
        ("POST /api/v1/policy/check", &token, "{}", 422),
        ("POST /api/v1/sign-in", "", "{}", 415),
        ("POST /api/v1/policy/check", "", "{}", 401),
        ("GET /api/v1/journal", "", "", 401),
    ] {
        let (status, head, body) = raw(&service, "127.0.0.1", &request(&service, line, headers, body));
        assert_eq!(status, expected, "{line}: {head}");
        let told: Value = serde_json::from_str(&body).unwrap_or_else(|_| panic!("{line}: {body}"));
        assert!(told["error"].as_str().unwrap().len() > 10, "{line}");
        assert_eq!(head.contains("cache-control: no-store"), line.contains("/api/"), "{line}: {head}");
    }
    let (_, head, _) = raw(&service, "127.0.0.1", &request(&service, "GET /", "", ""));
    for header in [
        "content-security-policy: default-src 'self'",
        "frame-ancestors 'none'",
        "x-content-type-options: nosniff",
        "referrer-policy: no-referrer",
    ] {
        assert!(head.contains(header), "{header} in {head}");
    }
}

#[test]
fn a_name_that_somebody_points_at_the_service_reaches_nothing() {
    let service = Running::harbour();
    let elsewhere = request(&service, "GET /api/v1/health", "", "").replace(host(&service), "elsewhere.example");
    let (status, _, body) = raw(&service, "127.0.0.1", &elsewhere);
    assert_eq!(status, 403);
    assert!(body.contains("`hosts` under [api]"), "{body}");
}

#[test]
fn strangers_are_told_whether_the_service_is_well_and_nothing_else() {
    let mut service = Running::harbour();
    assert!(service.get("health").1["version"].is_string());
    service.token = "wrong".into();
    assert_eq!(service.get("health"), (200, json!({ "state": "well" })));
}

/// What is asked for and not read is let go, and what is read slowly is not.
#[test]
fn whoever_does_not_read_holds_no_connection() {
    let service = Running::harbour();
    let ask = |from: &str| {
        let mut stream = connect(&service, from);
        let line = "GET /api/v1/openapi.json HTTP/1.1\r\nhost: localhost\r\n\r\n";
        // More than the buffers of the system hold.
        stream.write_all(line.repeat(60).as_bytes()).unwrap();
        stream
    };
    let count = || {
        let all = std::fs::read_dir(format!("/proc/{}/fd", service.pid())).unwrap().flatten();
        let targets = all.filter_map(|file| std::fs::read_link(file.path()).ok());
        targets.filter(|to| to.to_string_lossy().starts_with("socket:")).count()
    };
    let until = |reached: &dyn Fn(usize) -> bool| {
        let begun = Instant::now();
        while !reached(count()) {
            assert!(begun.elapsed() < Duration::from_secs(60), "{} sockets", count());
            std::thread::sleep(Duration::from_millis(100));
        }
    };
    let before = count();
    let mut held: Vec<_> = (0..40).map(|_| ask("127.0.0.2")).collect();
    until(&|now| now >= before + 30);
    until(&|now| now <= before);
    let mut got = Vec::new();
    let _ = held[0].read_to_end(&mut got);
    let whole = raw(&service, "127.0.0.1", &request(&service, "GET /api/v1/openapi.json", "", "")).2.len();
    assert!(!got.is_empty() && got.len() < 60 * whole, "{} bytes of {}", got.len(), 60 * whole);
}

#[test]
fn whoever_has_not_signed_in_can_make_the_service_hold_nothing() {
    let service = Running::harbour();
    let large = sign_in(&service, &"x".repeat(8 << 20), "y");
    let status = raw(&service, "127.0.0.1", &large).0;
    assert!(matches!(status, 413 | 0), "{status}: refused, or cut off before the answer could be read");
    let long = sign_in(&service, &"x".repeat(300), "y");
    assert_eq!(raw(&service, "127.0.0.1", &long).0, 400);
    let before = resident(&service);
    // Bodies that never end, and connections that never begin.
    let endless: Vec<_> = (0..60)
        .map(|_| {
            let mut stream = connect(&service, "127.0.0.1");
            let head = request(&service, "POST /api/v1/policy/check", "content-type: application/json\r\n", "");
            stream.write_all(head.replace("content-length: 0", "content-length: 8000000").as_bytes()).unwrap();
            stream.set_write_timeout(Some(Duration::from_millis(200))).unwrap();
            let _ = stream.write_all(&vec![b'x'; 1 << 20]);
            stream
        })
        .collect();
    let idle: Vec<_> = (0..1_000).map(|_| connect(&service, "127.0.0.2")).collect();
    assert_eq!(raw(&service, "127.0.0.3", &request(&service, "GET /api/v1/health", "", "")).0, 200, "others get in");
    assert!(resident(&service) < before + (32 << 10), "{} kB, then {} kB", before, resident(&service));
    drop((endless, idle));
}

/// The memory of the service in kB.
fn resident(service: &Running) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", service.pid())).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    line.trim().trim_end_matches(" kB").parse().unwrap()
}

#[test]
fn an_administrator_has_a_bounded_number_of_sessions_and_signing_in_by_command_leaves_none() {
    let service = Running::harbour();
    let first = cookie(&service);
    let session = |cookie: &str| {
        let request = agent().get(format!("{}/api/v1/session", service.api)).header("cookie", cookie);
        request.call().unwrap().status().as_u16()
    };
    for _ in 0..20 {
        let folder = tempfile::tempdir().unwrap();
        let mut command = regnant();
        command.args(["sign-in", "--user", "harbour", "--api", &service.api]).env("XDG_CONFIG_HOME", folder.path());
        command.env("HOME", folder.path()).stdin(Stdio::piped()).stdout(Stdio::null());
        let mut child = command.spawn().unwrap();
        writeln!(child.stdin.take().unwrap(), "{PASSWORD}").unwrap();
        assert!(child.wait().unwrap().success());
    }
    assert_eq!(session(&first), 200, "twenty sign-ins by command cost no session");
    let mut last = String::new();
    (0..16).for_each(|_| last = cookie(&service));
    assert_eq!((session(&first), session(&last)), (401, 200), "the oldest went");
}

#[test]
fn a_live_stream_ends_with_its_session() {
    let service = Running::harbour();
    let cookie = cookie(&service);
    let request = agent().get(format!("{}/api/v1/journal/live", service.api)).header("cookie", &cookie);
    let mut stream = request.call().unwrap().into_body().into_reader();
    assert_eq!(post(&service, "sign-out", &[("cookie", &cookie)], &json!({})).0, 204);
    let begun = std::time::Instant::now();
    let mut rest = String::new();
    stream.read_to_string(&mut rest).unwrap();
    assert!(begun.elapsed() < Duration::from_secs(10));
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
fn a_live_stream_carries_what_its_filter_lets_through() {
    let service = Running::harbour();
    let listen = |query: &str| {
        let request = agent().get(format!("{}/api/v1/journal/live?{query}", service.api));
        let answer = request.header("authorization", format!("Bearer {}", service.token)).call().unwrap();
        BufReader::new(answer.into_body().into_reader()).lines()
    };
    let (refused, worded) = (listen("outcome=refused,silence"), listen("q=CRANE+00:07"));
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200001"]).ends_with(0);
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400066"]).ends_with(1);
    fn first(mut lines: impl Iterator<Item = std::io::Result<String>>) -> Value {
        let data = lines.find_map(|line| line.unwrap().strip_prefix("data: ").map(str::to_owned)).unwrap();
        serde_json::from_str(&data).unwrap()
    }
    assert_eq!(first(refused)["outcome"], "refused");
    assert!(sentence(&first(worded)).contains("crane controller 02:00:5e:20:00:07"));
    assert_eq!(service.get("journal/live?outcome=lost").0, 400);
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
        (422, Some("The policy cannot be activated: 1 of 13 cases failed."))
    );
    assert_eq!(service.get("policy").1["edition"]["number"], 4);
    let changed = POLICY.replace("staff\"", "contractors\"");
    let (status, _) = service.post("policy/activate", &json!({ "source": changed, "expected": 1 }));
    assert_eq!(status, 422, "what is not known is not passed over");
    let (status, ..) = service.call("POST", "policy/activate", Some("\"1\""), &json!({ "source": changed }));
    assert_eq!(status, 412);
    let (status, refused, _) = service.call("POST", "policy/activate", Some("\"four\""), &json!({ "source": changed }));
    assert_eq!((status, refused["error"].as_str()), (400, Some("If-Match is a number in quotes, and not `four`.")));
    let tag = service.call("GET", "policy", None, &Value::Null).2;
    assert_eq!(tag, "\"4\"");
    let nobody = json!({ "source": "gate nobody { otherwise refuse }\n" });
    let (status, done, _) = service.call("POST", "policy/activate", Some(&tag), &nobody);
    assert_eq!((status, done["number"].as_u64()), (200, Some(5)));
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(1);
    let editions = service.get("policy/editions").1;
    let states: Vec<_> =
        editions["editions"].as_array().unwrap().iter().map(|e| e["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["active", "retired", "retired", "retired", "retired"]);
    assert_eq!(editions["editions"][0]["created_by"], "harbour");
}

#[test]
fn inventories_are_read_without_their_secrets() {
    let service = Running::harbour();
    let (_, nases) = service.get("nases");
    let vpn = nases["nases"].as_array().unwrap().iter().find(|nas| nas["name"] == "pilot-vpn-1").unwrap().clone();
    assert_eq!(
        (vpn["addresses"][0].as_str(), vpn["require_message_authenticator"].as_bool()),
        (Some("127.0.0.41"), Some(false))
    );
    assert!(!nases.to_string().contains("sextant"));
    let (_, devices) = service.get("devices?q=stolen");
    assert_eq!(devices["devices"][0]["mac"], "02:00:5e:40:00:66");
    assert!(devices["devices"][0]["barred"].is_object());
    let page = service.get("devices?limit=5").1;
    assert_eq!((page["all"].as_u64(), page["devices"].as_array().unwrap().len()), (Some(0x12 + 0x28 + 0x3c + 1), 5));
    let next = service.get(&format!("devices?limit=5&after={}", page["next"].as_str().unwrap())).1;
    assert_eq!(next["devices"][0]["mac"], "02:00:5e:20:00:06");
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
    let large = format!("{{\"source\":\"{}\"}}", "x".repeat(21 << 20));
    assert_eq!(send(&large, "application/json"), 413);
    assert_eq!(service.get("health").0, 200);
    let long = json!({ "source": "#".repeat(9 << 20) });
    assert_eq!(service.post("policy/check", &long).1["diagnostics"][0]["code"], "W100");
}

#[test]
fn the_journal_counts_and_knows_the_newest_entry_of_everybody() {
    let service = Running::harbour();
    for _ in 0..3 {
        service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    }
    service.try_from(&GATE_FW_1, &["pap", "--user", "Ida.Marsh", "--password", "x"]).ends_with(1);
    service.entries("limit=10", 4);
    let (_, told) = service.get("journal/counts?hours=2");
    let counts = told["counts"].as_array().unwrap();
    let of = |cause: &str| -> Vec<_> { counts.iter().filter(|count| count["cause"] == cause).collect() };
    let cranes = of("rule");
    assert_eq!(cranes.iter().map(|count| count["number"].as_u64().unwrap()).sum::<u64>(), 3, "{told}");
    let named = [&cranes[0]["rule"], &cranes[0]["grants"][0], &cranes[0]["nas"], &cranes[0]["outcome"]];
    assert_eq!(named, ["Crane controllers", "cranes", "quay-sw-1", "granted"]);
    assert_eq!(of("user-failed")[0]["outcome"], "refused");
    for (query, subject) in [
        ("device=0200.5e20.0007", "crane controller 02:00:5e:20:00:07"),
        ("person=ida.marsh", "Ida.Marsh"),
        ("nas=gate-fw-1", "Ida.Marsh"),
    ] {
        let (status, entry) = service.get(&format!("journal/newest?{query}"));
        assert_eq!((status, entry["sentence"][0]["text"].as_str()), (200, Some(subject)), "{query}");
    }
    assert_eq!(service.get("journal/newest?person=nobody").0, 404);
    for wrong in ["newest", "newest?person=a&nas=b", "newest?device=x", "counts?hours=0", "counts?hours=2161"] {
        assert_eq!(service.get(&format!("journal/{wrong}")).0, 400, "{wrong}");
    }
}

#[test]
fn every_change_is_in_the_audit_with_its_author_and_without_secrets() {
    let service = Running::harbour();
    let active = service.get("health").1["edition"].as_u64().unwrap();
    let policy = service.get("policy").1["edition"]["source"].clone();
    let before = format!("\"{}\"", active - 1);
    let late = service.call("POST", "policy/activate", Some(&before), &json!({ "source": policy }));
    assert_eq!(late.0, 412);
    let twice = json!({ "nas": [
        { "name": "a", "kind": "switch", "site": "s", "address": "10.44.0.9", "secret": "gantry-4-lashing" },
        { "name": "b", "kind": "switch", "site": "s", "address": "10.44.0.9", "secret": "mizzen-7-halyard" },
    ] });
    let (status, body) = service.post("inventory", &twice);
    assert_eq!(status, 409, "{body}");
    let list = service.get("audit").1;
    let changes = list["changes"].as_array().unwrap();
    let told: Vec<_> = changes.iter().rev().map(|c| (c["what"].as_str().unwrap(), c["by"].as_str().unwrap())).collect();
    let expected = [
        ("set sealing key", "regnant"),
        ("activate policy", "regnant"),
        ("add administrator", "harbour"),
        ("sign in", "harbour"),
        ("add token", "harbour"),
        ("use token", "harbour"),
        ("set dictionary", "harbour"),
        ("set dialect", "harbour"),
        ("import", "harbour"),
        ("set certificate", "harbour"),
        ("set trust", "harbour"),
        ("activate policy", "harbour"),
        ("activate policy", "harbour"),
        ("import", "harbour"),
    ];
    assert_eq!(told, expected);
    let revisions: Vec<_> = changes.iter().rev().filter_map(|change| change["revision"].as_u64()).collect();
    assert_eq!(revisions, (1..=13).collect::<Vec<_>>());
    let why = |change: &Value| change["refused"].as_str().unwrap_or_default().to_owned();
    assert!(why(&changes[0]).contains("two NASes never have the same address"), "{list}");
    assert!(why(&changes[1]).starts_with(&format!("edition {active} is active")), "{list}");
    assert!(changes[2..].iter().all(|change| change["done"] == true));
    assert!(changes[5]["subject"].as_str().unwrap().starts_with("stores: 2, NASes: "), "{list}");
    for secret in ["bollard-9-anchor", "gantry-4-lashing", "Tide-Table-61", "argon2", PASSWORD] {
        assert!(!list.to_string().contains(secret));
    }
    assert!(changes.iter().all(|change| !change["from"].as_str().unwrap().is_empty()), "{list}");
    let page = service.get("audit?before=3&limit=1").1;
    assert_eq!(page["changes"][0]["revision"], 2);
    assert_eq!(service.get("audit?limit=0").0, 400);
    let printed = service.client(&["audit", "list", "--limit", "2"]).succeeds();
    assert!(printed.lines().count() == 2 && printed.contains("not done: NAS `b` would have"), "{printed}");
}

#[test]
fn whoever_asks_much_of_a_policy_is_answered_soon_or_refused_and_holds_up_no_end() {
    let mut service = Running::harbour();
    // A megabyte in which one name stands everywhere, on one line.
    let line = format!("define a = {}request.carrier = eap\n", "a or ".repeat(200_000));
    let place = json!({ "source": line, "line": 1, "column": 8 });
    let began = Instant::now();
    let (status, told) = service.post("policy/meaning", &place);
    assert_eq!(status, 200);
    assert_eq!(told["occurrences"].as_array().unwrap().len(), 10_000);
    // Not a measure of speed: it took a hundred seconds and more when it grew with the square.
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
    let (status, told) = service.post("policy/rename", &json!({ "place": place, "name": "x y" }));
    assert!(status == 400 && told.to_string().contains("cannot be a name"), "{told}");
    // More than any policy may have is told before it is looked at.
    let files: serde_json::Map<_, _> = (0..300).map(|number| (format!("{number}.writ"), json!("x"))).collect();
    let many = json!({ "source": "", "included": files });
    for (path, body) in [
        ("policy/format", many.clone()),
        ("policy/outline", many.clone()),
        ("policy/difference", json!({ "from": "active", "to": { "files": many } })),
    ] {
        let (status, told) = service.post(path, &body);
        assert!(status == 400 && told.to_string().contains("256 files"), "{path}: {status} {told}");
    }
    // While threads are busy for somebody the service ends when it is told to.
    let (api, token) = (service.api.clone(), service.token.clone());
    let heavy = json!({ "source": (0..9_000).map(|number| format!("define a{number} = {}user.proved\n", "user.proved or ".repeat(40))).collect::<String>() });
    let asking: Vec<_> = (0..4)
        .map(|_| {
            let (api, token, heavy) = (api.clone(), token.clone(), heavy.clone());
            std::thread::spawn(move || {
                let asked = agent().post(format!("{api}/api/v1/policy/check"));
                drop(asked.header("authorization", format!("Bearer {token}")).send_json(heavy));
            })
        })
        .collect();
    std::thread::sleep(Duration::from_millis(300));
    let began = Instant::now();
    service.end("-TERM");
    assert!(began.elapsed() < Duration::from_secs(15), "{:?}", began.elapsed());
    asking.into_iter().for_each(|one| drop(one.join()));
}
