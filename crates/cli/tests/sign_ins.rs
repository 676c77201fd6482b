//! Who signs in, by what, and for how long: sessions, second factors and tokens.
mod running;

use std::net::SocketAddr;
use std::sync::atomic::Ordering::Relaxed;
use std::sync::atomic::{AtomicBool, AtomicUsize};
use std::time::Duration;

use running::staff::*;
use running::*;
use serde_json::{Value, json};

#[test]
fn a_token_ends_with_the_one_that_made_it_and_a_session_makes_none_without_the_password() {
    let (service, _, _) = staffed();
    let made = |by: &str, name: &str| {
        let made = call(&service, by, "post", "/api/v1/tokens", &json!({ "name": name })).1;
        let part = |field: &str| made[field].as_str().unwrap_or_default().to_owned();
        (part("id"), part("token"))
    };
    let stands = |token: &str| call(&service, token, "get", "/api/v1/session", &Value::Null).0;
    let (first_id, first) = made(&service.token, "first");
    let (_, second) = made(&first, "second");
    let (_, third) = made(&second, "third");
    let tokens = service.get("tokens").1.to_string();
    assert!(tokens.contains(&format!("\"parent\":\"{first_id}\"")), "{tokens}");
    // Whoever changes the first changes what was made with it.
    let patch = json!({ "role": "auditor", "expires": "2990-01-01T00:00:00Z" });
    assert_eq!(call(&service, &service.token, "patch", &format!("/api/v1/tokens/{first_id}"), &patch).0, 204);
    assert_eq!(call(&service, &third, "put", "/api/v1/devices/bar", &json!({ "macs": [] })).0, 403);
    assert_eq!(service.get("tokens").1.to_string().matches("2990-01-01").count(), 3);
    assert_eq!(stands(&third), 200);
    // One that may something else ends: it would get what it never had.
    let (other_id, other) = made(&service.token, "other");
    let reader = call(&service, &other, "post", "/api/v1/tokens", &json!({ "name": "reader", "role": "auditor" })).1;
    let reader = reader["token"].as_str().unwrap().to_owned();
    assert_eq!(stands(&reader), 200);
    let patch = json!({ "role": "helpdesk" });
    assert_eq!(call(&service, &service.token, "patch", &format!("/api/v1/tokens/{other_id}"), &patch).0, 204);
    assert_eq!((stands(&other), stands(&reader)), (200, 401));
    assert_eq!(call(&service, &service.token, "delete", &format!("/api/v1/tokens/{first_id}"), &json!({})).0, 204);
    assert_eq!((stands(&first), stands(&second), stands(&third)), (401, 401, 401));
    // A session that somebody found open.
    let session = Session::begin(&service, "desk", "desk-demo-1", None);
    let post = |body: &Value| session.call(&service, "post", "/api/v1/tokens", body).0;
    assert_eq!(post(&json!({ "name": "mine" })), 403);
    assert_eq!(post(&json!({ "name": "mine", "password": "wrong-password" })), 403);
    assert_eq!(post(&json!({ "name": "mine", "password": "desk-demo-1" })), 200);
    // A password that somebody else sets ends them, unless they say otherwise.
    let desk = token_of(&service, "desk", "desk-demo-1");
    let set = |body: Value| call(&service, &service.token, "patch", "/api/v1/administrators/desk", &body).0;
    assert_eq!(set(json!({ "password": "Desk-Lamp-2026", "keep_tokens": true })), 200);
    assert_eq!(stands(&desk), 200);
    assert_eq!(set(json!({ "password": "Desk-Chair-2026" })), 200);
    assert_eq!(stands(&desk), 401);
    // What ends soon is told.
    let soon = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(60);
    let soon = soon.strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    service.post("tokens", &json!({ "name": "nightly", "expires": soon }));
    assert!(service.get("today").1["ends"].to_string().contains("nightly"));
    assert!(service.get("findings").1.to_string().contains("`nightly` of harbour ends"));
}

#[test]
fn a_token_may_no_more_than_it_was_made_for_and_ends() {
    let (service, desk, _) = staffed();
    let made =
        service.post("tokens", &json!({ "name": "watch", "role": "auditor", "expires": "2999-01-01T00:00:00Z" }));
    let (id, watch) = (made.1["id"].as_str().unwrap(), made.1["token"].as_str().unwrap());
    assert_eq!(call(&service, watch, "get", "/api/v1/audit", &Value::Null).0, 200);
    assert_eq!(call(&service, watch, "put", "/api/v1/devices/bar", &json!({ "macs": [] })).0, 403);
    assert_eq!(call(&service, watch, "post", "/api/v1/tokens", &json!({ "role": "engineer" })).0, 403);
    assert_eq!(call(&service, &desk, "post", "/api/v1/tokens", &json!({ "role": "engineer" })).0, 403);
    assert_eq!(service.post("tokens", &json!({ "expires": "2020-01-01T00:00:00Z" })).0, 400);
    // One that ends neither renews itself nor makes one that lasts longer.
    let ending = service.post("tokens", &json!({ "name": "ending", "expires": "2990-01-01T00:00:00Z" })).1;
    let (ending, ending_id) = (ending["token"].as_str().unwrap(), ending["id"].as_str().unwrap());
    let made = |body: Value| call(&service, ending, "post", "/api/v1/tokens", &body);
    assert_eq!(made(json!({ "expires": "2991-01-01T00:00:00Z" })).0, 403);
    assert_eq!(made(json!({ "expires": "2989-01-01T00:00:00Z" })).0, 200);
    let heir = made(json!({ "name": "heir" })).1["id"].as_str().unwrap().to_owned();
    let shown = call(&service, ending, "get", &format!("/api/v1/tokens/{heir}"), &Value::Null).1;
    assert_eq!(shown["expires"], "2990-01-01T00:00:00.000Z", "{shown}");
    for (id, body, code) in [
        (ending_id, json!({ "name": "x" }), 403),
        (ending_id, json!({ "expires": "" }), 403),
        (&heir, json!({ "expires": "" }), 403),
        (&heir, json!({ "expires": "2991-01-01T00:00:00Z" }), 403),
        (&heir, json!({ "expires": "2988-01-01T00:00:00Z" }), 204),
    ] {
        assert_eq!(call(&service, ending, "patch", &format!("/api/v1/tokens/{id}"), &body).0, code, "{body}");
    }
    let list = service.client(&["token", "list"]).succeeds();
    let line = list.lines().find(|line| line.contains("watch")).unwrap();
    assert!(line.contains("auditor") && line.contains("127.0.0.1") && line.contains("2999-01-01"), "{list}");
    // One that may less ends none that may more.
    let own = service.get("tokens").1;
    let mut ids = own["tokens"].as_array().unwrap().iter().filter_map(|token| token["id"].as_str());
    let own = ids.find(|other| *other != id).unwrap().to_owned();
    assert_eq!(call(&service, watch, "delete", &format!("/api/v1/tokens/{own}"), &json!({})).0, 404);
    // The helpdesk sees its own alone, and revokes nobody else's.
    let own = call(&service, &desk, "get", "/api/v1/tokens", &Value::Null).1;
    assert!(own["tokens"].as_array().unwrap().iter().all(|token| token["administrator"] == "desk"), "{own}");
    assert_eq!(call(&service, &desk, "delete", &format!("/api/v1/tokens/{id}"), &json!({})).0, 404);
    // Nor does one that may less change one that may more, or become more than it is.
    let patch =
        |token: &str, id: &str, body: Value| call(&service, token, "patch", &format!("/api/v1/tokens/{id}"), &body).0;
    let all = service.get("tokens?q=harbour").1;
    let mut ids = all["tokens"].as_array().unwrap().iter().filter_map(|token| token["id"].as_str());
    let harbours = ids.find(|other| *other != id).unwrap().to_owned();
    assert_eq!(patch(watch, &harbours, json!({ "name": "mine" })), 404);
    assert_eq!(patch(watch, id, json!({ "role": "engineer" })), 403);
    assert_eq!(patch(&desk, id, json!({ "name": "mine" })), 404);
    assert_eq!(patch(&service.token, id, json!({ "expires": "2020-01-01T00:00:00Z" })), 400);
    service.client(&["token", "change", id, "--name", "night watch", "--expires", ""]).succeeds();
    let shown = service.client(&["token", "show", id]).succeeds();
    assert!(shown.contains("night watch") && !shown.contains("2999"), "{shown}");
    // Nor where its owner's role and its own have nothing in common any more.
    let desk_again = json!({ "role": "auditor" });
    assert_eq!(call(&service, &service.token, "patch", "/api/v1/administrators/desk", &desk_again).0, 200);
    assert_eq!(call(&service, &desk, "post", "/api/v1/tokens", &json!({})).0, 403);
    service.client(&["token", "revoke", id]).succeeds();
    assert_eq!(call(&service, watch, "get", "/api/v1/audit", &Value::Null).0, 401);
    // A token of somebody who is kept out is none.
    service.client(&["administrator", "change", "desk", "--disabled", "true"]).succeeds();
    assert_eq!(call(&service, &desk, "get", "/api/v1/journal", &Value::Null).0, 401);
    // Short lists are filtered too, and one is shown by itself.
    let list = service.client(&["administrator", "list", "HARB", "engineer"]).succeeds();
    assert!(
        list.contains("harbour")
            && service.client(&["administrator", "list", "nobody"]).succeeds().lines().count() == 1
    );
    assert!(service.client(&["administrator", "show", "harbour"]).succeeds().contains("engineer"));
    assert!(service.client(&["token", "show", "nothing"]).fails(1).contains("there is no token"));
    assert!(service.client(&["group", "list", "cran", "--csv"]).succeeds().contains("cranes"));
}

#[test]
fn the_last_engineer_stays_and_sessions_end_with_the_account() {
    let (mut service, _, _) = staffed();
    for last in [
        &["administrator", "remove", "harbour"][..],
        &["administrator", "change", "harbour", "--disabled", "true"],
        &["administrator", "change", "harbour", "--role", "auditor"],
        &["administrator", "change", "harbour", "--expires", "2999-01-01T00:00:00Z"],
    ] {
        let told = service.client(last).fails(1);
        assert!(told.contains("make another engineer first"), "{told}");
    }
    let sign_in = |password: &str| {
        let form = json!({ "name": "desk", "password": password });
        let answer = agent().post(format!("{}/api/v1/sign-in", service.api)).send_json(form).unwrap();
        let cookie = answer.headers().get("set-cookie").map(|cookie| cookie.to_str().unwrap().to_owned());
        (answer.status().as_u16(), cookie.unwrap_or_default().split(';').next().unwrap().to_owned())
    };
    let (_, cookie) = sign_in("desk-demo-1");
    let stands = |service: &Running, cookie: &str| {
        let call = agent().get(format!("{}/api/v1/session", service.api)).header("cookie", cookie).call();
        call.unwrap().status().as_u16()
    };
    assert_eq!(stands(&service, &cookie), 200);
    let other = sign_in("desk-demo-1").1;
    // One's own password: with the one until now, and whoever else was signed in is not any more.
    let put = |current: &str| {
        let call = agent().put(format!("{}/api/v1/session/password", service.api)).header("cookie", &cookie);
        call.send_json(json!({ "current": current, "new": "Desk-Lamp-2026" })).unwrap()
    };
    assert_eq!(put("wrong-password").status(), 403);
    let changed = put("desk-demo-1");
    assert_eq!(changed.status(), 200);
    let cookie = changed.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    assert_eq!((stands(&service, &cookie), stands(&service, &other)), (200, 401));
    assert_eq!((sign_in("desk-demo-1").0, sign_in("Desk-Lamp-2026").0), (403, 200));
    // A session is there after a restart, and ends where it is closed.
    service.end("-TERM");
    let service = service.again();
    assert_eq!(stands(&service, &cookie), 200);
    service.client(&["administrator", "change", "desk", "--role", "auditor"]).succeeds();
    assert_eq!(stands(&service, &cookie), 401);
}

#[test]
fn a_second_factor_is_asked_for_counts_once_and_can_be_lost() {
    let (mut service, desk, _) = staffed();
    let with_token = |verb: &str, body: &Value| call(&service, &desk, verb, "/api/v1/session/second-factor", body);
    let any = json!({ "password": "desk-demo-1", "secret": "A", "code": "1" });
    assert_eq!(with_token("put", &any).0, 403, "a token and a password are not enough");
    assert_eq!(with_token("delete", &json!({ "password": "desk-demo-1" })).0, 403);
    let session = Session::begin(&service, "desk", "desk-demo-1", None);
    let put = |verb: &str, body: &Value| session.call(&service, verb, "/api/v1/session/second-factor", body);
    assert_eq!(put("post", &json!({ "password": "wrong-password" })).0, 403);
    let secret = put("post", &json!({ "password": "desk-demo-1" })).1["secret"].as_str().unwrap().to_owned();
    let set = |code: &str| put("put", &json!({ "password": "desk-demo-1", "secret": secret, "code": code }));
    assert_eq!(set("000000x").0, 400);
    let (status, told) = set(&code(&secret, 0));
    assert_eq!(status, 200, "{told}");
    let told_codes = told["codes"].as_array().unwrap().clone();
    let recovery = told_codes[4].as_str().unwrap().to_owned();
    let sign_in = |service: &Running, code: Option<&str>| {
        let form = json!({ "name": "desk", "password": "desk-demo-1", "code": code });
        let mut answer = agent().post(format!("{}/api/v1/sign-in", service.api)).send_json(form).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_json::<Value>().unwrap())
    };
    let (status, told) = sign_in(&service, None);
    assert_eq!((status, told["needs_code"].as_bool()), (403, Some(true)));
    // The next step's, so that the test need not wait for a clock.
    let now = code(&secret, 1);
    assert_eq!(sign_in(&service, Some(&now)).0, 200);
    assert_eq!(sign_in(&service, Some(&now)).0, 409, "a code counts once");
    assert_eq!(sign_in(&service, Some(&recovery)).0, 200);
    assert_eq!(sign_in(&service, Some(&recovery)).0, 403, "so does a recovery code");
    // The password alone, in a session, neither takes the factor away nor puts another in its place.
    let session = Session::begin(&service, "desk", "desk-demo-1", told_codes[5].as_str());
    let put = |verb: &str, body: &Value| session.call(&service, verb, "/api/v1/session/second-factor", body);
    assert_eq!(put("delete", &json!({ "password": "desk-demo-1" })).0, 403);
    let other = put("post", &json!({ "password": "desk-demo-1" })).1["secret"].as_str().unwrap().to_owned();
    let replace = |present: Option<&str>| {
        let form = json!({ "password": "desk-demo-1", "secret": other, "code": code(&other, 0), "present": present });
        put("put", &form)
    };
    assert_eq!(replace(None).0, 403);
    assert_eq!(replace(Some("000000")).0, 403);
    assert_eq!(put("delete", &json!({ "password": "desk-demo-1", "code": told_codes[6] })).0, 200);
    assert_eq!(sign_in(&service, None).0, 200);
    // A factor that is set ends the tokens that were made without it.
    let before = token_of(&service, "desk", "desk-demo-1");
    let session = Session::begin(&service, "desk", "desk-demo-1", None);
    let put = |verb: &str, body: &Value| session.call(&service, verb, "/api/v1/session/second-factor", body);
    let secret = put("post", &json!({ "password": "desk-demo-1" })).1["secret"].as_str().unwrap().to_owned();
    assert_eq!(put("put", &json!({ "password": "desk-demo-1", "secret": secret, "code": code(&secret, 0) })).0, 200);
    assert_eq!(call(&service, &before, "get", "/api/v1/session", &Value::Null).0, 401);
    // Root on the machine helps the last engineer.
    service.end("-TERM");
    let rescue = |name: &str| {
        let mut command = regnant();
        command.args(["administrator", "rescue", name, "--data"]).arg(&service.data);
        with_input(&mut command, "Harbour-Wall-26\n")
    };
    assert!(String::from_utf8(rescue("nobody").stderr).unwrap().contains("there is no administrator `nobody`"));
    assert!(rescue("harbour").status.success());
    let mut service = service.again();
    assert_eq!(service.get("session").0, 401, "a rescue ends tokens");
    service.token = token_of(&service, "harbour", "Harbour-Wall-26");
    let audit = service.client(&["audit", "list", "--limit", "8"]).succeeds();
    assert!(audit.contains("regnant (this machine)  change administrator  harbour"), "{audit}");
}

/// Codes are counted by account over all sources, before they are checked: many at once are as many.
#[test]
fn codes_cannot_be_guessed_from_anywhere_nor_at_once() {
    let (service, desk, _) = staffed();
    let session = Session::begin(&service, "desk", "desk-demo-1", None);
    let put = |verb: &str, body: &Value| session.call(&service, verb, "/api/v1/session/second-factor", body);
    let secret = put("post", &json!({ "password": "desk-demo-1" })).1["secret"].as_str().unwrap().to_owned();
    let set = json!({ "password": "desk-demo-1", "secret": secret, "code": code(&secret, 0), "keep_tokens": true });
    assert_eq!(put("put", &set).0, 200);
    let guess = |number: u32| {
        let form = json!({ "name": "desk", "password": "desk-demo-1", "code": format!("x{number:05}") });
        // Of a program on an address of its own each.
        let source = SocketAddr::from(([127, 0, 1, number as u8], 0));
        post_from(source, &service, "/api/v1/sign-in", &form)
    };
    let answers: Vec<u16> = std::thread::scope(|scope| {
        let guesses: Vec<_> = (1..=40).map(|number| scope.spawn(move || guess(number))).collect();
        guesses.into_iter().map(|guess| guess.join().unwrap()).collect()
    });
    let looked_at = answers.iter().filter(|status| **status == 403).count();
    assert!(looked_at <= 6, "{looked_at} codes were looked at: {answers:?}");
    assert!(answers.contains(&429), "{answers:?}");
    let audit = service.client(&["audit", "list", "--limit", "30"]).succeeds();
    assert!(audit.contains("desk, by a right password and a wrong code"), "{audit}");
    // Their owner is told where they look each day; nobody else is.
    let told = call(&service, &desk, "get", "/api/v1/today", &Value::Null).1["guessed"].clone();
    assert!(told["codes"].as_u64() >= Some(3) && told["from"].as_str().unwrap().starts_with("127.0.1."), "{told}");
    assert!(service.get("today").1["guessed"].is_null());
}

/// Whoever is known signs in beside any number of guessers, also where their password was not checked before.
#[test]
fn guessers_from_everywhere_keep_nobody_out_who_is_known() {
    let (service, _, _) = staffed();
    let known = agent().post(format!("{}/api/v1/sign-in", service.api));
    let known = known.send_json(json!({ "name": "desk", "password": "desk-demo-1" })).unwrap();
    let cookies = known.headers().get_all("set-cookie").iter().map(|cookie| cookie.to_str().unwrap());
    let browser =
        cookies.filter_map(|cookie| cookie.split(';').next()).find(|pair| pair.starts_with("regnant-browser"));
    let browser = browser.unwrap().to_owned();
    let change = json!({ "password": "desk-demo-2" });
    assert_eq!(call(&service, &service.token, "patch", "/api/v1/administrators/desk", &change).0, 200);
    let (ended, begun) = (AtomicBool::new(false), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for number in 1..=150 {
            let (service, ended, begun) = (&service, &ended, &begun);
            scope.spawn(move || {
                let form = json!({ "name": "desk", "password": format!("guess-{number}-demo") });
                while !ended.load(Relaxed) {
                    post_from(SocketAddr::from(([127, 0, 3, number], 0)), service, "/api/v1/sign-in", &form);
                    begun.fetch_add(1, Relaxed);
                }
            });
        }
        while begun.load(Relaxed) < 20 {
            std::thread::sleep(Duration::from_millis(20));
        }
        let asked = agent().post(format!("{}/api/v1/sign-in", service.api)).header("cookie", &browser);
        let answer = asked.send_json(json!({ "name": "desk", "password": "desk-demo-2" })).unwrap();
        ended.store(true, Relaxed);
        assert_eq!(answer.status(), 200);
    });
}

/// Posts over a connection from this address.
fn post_from(source: SocketAddr, service: &Running, path: &str, body: &Value) -> u16 {
    use std::io::{Read, Write};
    let to: SocketAddr = service.api.strip_prefix("http://").unwrap().parse().unwrap();
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
    socket.bind(&source.into()).unwrap();
    socket.connect(&to.into()).unwrap();
    let mut stream = std::net::TcpStream::from(socket);
    let body = body.to_string();
    let head = format!("POST {path} HTTP/1.1\r\nhost: {to}\r\ncontent-type: application/json\r\nconnection: close\r\n");
    write!(stream, "{head}content-length: {}\r\n\r\n{body}", body.len()).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer.split(' ').nth(1).unwrap().parse().unwrap()
}

#[test]
fn the_first_administrator_can_be_set_on_the_machine() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let first = |name: &str| {
        let mut command = regnant();
        command.args(["administrator", "first", name, "--data"]).arg(&data);
        with_input(&mut command, "tarnmouth-demo\n")
    };
    assert!(first("harbour").status.success());
    let told = String::from_utf8(first("second").stderr).unwrap();
    assert!(told.contains("there is an administrator already"), "{told}");
    std::fs::write(data.join("welcomed"), "").unwrap();
    let service = Running::start(&data);
    assert!(service.welcome.is_none(), "no link is needed");
    token_of(&service, "harbour", "tarnmouth-demo");
}

#[test]
fn stores_administrators_and_tokens_come_in_files_too() {
    let (service, _, ledger) = staffed();
    let file = |name: &str, text: &str| {
        let file = service.data.join(name);
        std::fs::write(&file, text).unwrap();
        file
    };
    // What is exported has no passwords; importing it changes nobody and ends no session.
    let exported = service.client(&["administrator", "export"]).succeeds();
    assert!(exported.contains("name = \"ledger\"") && !exported.contains("password"), "{exported}");
    service.client(&["administrator", "import"]).arg(file("same.toml", &exported)).succeeds();
    assert_eq!(call(&service, &ledger, "get", "/api/v1/audit", &Value::Null).0, 200);
    let lines = "name,role,password,disabled\n\
                 mate,helpdesk,Bow-Thruster-3,\n\
                 cook,engineer,,\n\
                 purser,stoker,Bow-Thruster-4,\n\
                 harbour,helpdesk,,\n\
                 ledger,auditor,,true\n";
    let told = printed(&service.client(&["administrator", "import"]).arg(file("crew.csv", lines)).ends_with(1));
    for part in
        ["1 added, 1 changed, 3 refused", "line 3", "`password` is missing", "line 4", "line 5", "engineer first"]
    {
        assert!(told.contains(part), "{part}: {told}");
    }
    token_of(&service, "mate", "Bow-Thruster-3");
    assert_eq!(call(&service, &ledger, "get", "/api/v1/audit", &Value::Null).0, 401, "ledger is disabled");
    // All of an administrator at once, where they are as they were seen.
    let put = json!({ "role": "auditor", "expires": "2999-01-01T00:00:00Z" });
    assert_eq!(call(&service, &service.token, "put", "/api/v1/administrators/mate", &put).0, 200);
    let mate = service.get("administrators/mate").1;
    assert_eq!((&mate["role"], &mate["disabled"]), (&json!("auditor"), &json!(false)));

    let stores =
        "[[store]]\nname = \"visitors\"\nkind = \"people\"\n\n[[store]]\nname = \"harbour\"\nkind = \"devices\"\n";
    let told =
        printed(&service.client(&["store", "import", "--all-or-none"]).arg(file("stores.toml", stores)).ends_with(1));
    assert!(told.contains("store `harbour` exists already and holds something else"), "{told}");
    assert!(!service.client(&["store", "list"]).succeeds().contains("visitors"));
    service.client(&["store", "import"]).arg(service.data.join("stores.toml")).fails(1);
    assert!(service.client(&["store", "export"]).succeeds().contains("name = \"visitors\"\nkind = \"people\""));
    assert_eq!(call(&service, &service.token, "put", "/api/v1/stores/visitors", &json!({ "kind": "people" })).0, 204);
    assert_eq!(call(&service, &service.token, "put", "/api/v1/stores/visitors", &json!({ "kind": "devices" })).0, 409);

    let tokens =
        "name,role,expires\nbackup,engineer,\nprobe,auditor,2999-01-01T00:00:00Z\nlate,auditor,2020-01-01T00:00:00Z\n";
    let tokens = file("tokens.csv", tokens);
    let none = service.client(&["token", "import", "--all-or-none"]).arg(&tokens).fails(1);
    assert!(none.contains("entry 3") && none.contains("over already"), "{none}");
    assert!(!service.client(&["token", "list"]).succeeds().contains("backup"));
    let made = service.client(&["token", "import", "--json"]).arg(&tokens).output().unwrap();
    let made: Value = serde_json::from_slice(&made.stdout).unwrap();
    let probe = made[1]["token"].as_str().unwrap();
    assert_eq!(call(&service, probe, "get", "/api/v1/audit", &Value::Null).0, 200);
    let exported = service.client(&["token", "export"]).succeeds();
    assert!(exported.contains("name = \"probe\"\nrole = \"auditor\"") && !exported.contains(probe), "{exported}");
}
