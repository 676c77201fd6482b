//! Whoever signs in to a service under test: engineer, helpdesk and auditor, and how each calls.

use serde_json::{Value, json};

use super::*;

/// A call with this token, and what came of it.
pub(crate) fn call(service: &Running, token: &str, verb: &str, path: &str, body: &Value) -> (u16, Value) {
    let request = ureq::http::Request::builder().method(&*verb.to_uppercase()).uri(format!("{}{path}", service.api));
    let request = request.header("authorization", format!("Bearer {token}"));
    let answer = match verb {
        "get" => agent().run(request.body(()).unwrap()),
        _ => agent().run(request.header("content-type", "application/json").body(body.to_string()).unwrap()),
    };
    let mut answer = answer.unwrap();
    let status = answer.status().as_u16();
    // A live stream has no end.
    let body = if path.ends_with("/live") { Value::Null } else { answer.body_mut().read_json().unwrap_or(Value::Null) };
    (status, body)
}

/// Signs in with a password and gives a token.
pub(crate) fn token_of(service: &Running, name: &str, password: &str) -> String {
    let asked = agent().post(format!("{}/api/v1/sign-in/token", service.api));
    let mut answer = asked.send_json(json!({ "name": name, "password": password })).unwrap();
    assert_eq!(answer.status(), 200, "{name}");
    let body: Value = answer.body_mut().read_json().unwrap();
    body["token"].as_str().unwrap().to_owned()
}

/// The harbour with everybody who signs in; gives the tokens of helpdesk and auditor.
pub(crate) fn staffed() -> (Running, String, String) {
    let service = Running::harbour();
    for (name, role, password) in [("desk", "helpdesk", "desk-demo-1"), ("ledger", "auditor", "ledger-demo-1")] {
        let new = json!({ "name": name, "role": role, "password": password });
        assert_eq!(service.post("administrators", &new).0, 201);
    }
    let [desk, ledger] = [("desk", "desk-demo-1"), ("ledger", "ledger-demo-1")]
        .map(|(name, password)| token_of(&service, name, password));
    (service, desk, ledger)
}

/// A session, as a browser has it.
pub(crate) struct Session {
    cookie: String,
}

impl Session {
    pub(crate) fn begin(service: &Running, name: &str, password: &str, code: Option<&str>) -> Self {
        let form = json!({ "name": name, "password": password, "code": code });
        let answer = agent().post(format!("{}/api/v1/sign-in", service.api)).send_json(form).unwrap();
        assert_eq!(answer.status(), 200);
        let cookies = answer.headers().get_all("set-cookie").iter();
        let pairs = cookies.map(|cookie| cookie.to_str().unwrap().split(';').next().unwrap());
        Self { cookie: pairs.collect::<Vec<_>>().join("; ") }
    }

    pub(crate) fn call(&self, service: &Running, verb: &str, path: &str, body: &Value) -> (u16, Value) {
        let request = ureq::http::Request::builder()
            .method(verb.to_uppercase().as_str())
            .uri(format!("{}{path}", service.api))
            .header("cookie", &self.cookie)
            .header("content-type", "application/json")
            .body(body.to_string())
            .unwrap();
        let mut answer = agent().run(request).unwrap();
        (answer.status().as_u16(), answer.body_mut().read_json().unwrap_or_default())
    }
}

/// Runs a command that reads this from standard input.
pub(crate) fn with_input(command: &mut std::process::Command, input: &str) -> std::process::Output {
    use std::io::Write;
    use std::process::Stdio;
    let piped = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = piped.spawn().unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    child.wait_with_output().unwrap()
}

/// The code of a secret so many steps from now, by a computation of the test's own.
pub(crate) fn code(secret: &str, steps: u64) -> String {
    use hmac::{Hmac, KeyInit, Mac};
    let bits: String = secret
        .bytes()
        .map(|letter| {
            let value = b"ABCDEFGHIJKLMNOPQRSTUVWXYZ234567".iter().position(|known| *known == letter).unwrap();
            format!("{value:05b}")
        })
        .collect();
    let bytes: Vec<u8> =
        (0..bits.len() / 8).map(|at| u8::from_str_radix(&bits[8 * at..8 * at + 8], 2).unwrap()).collect();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let keyed = Hmac::<sha1::Sha1>::new_from_slice(&bytes).unwrap();
    let hash = keyed.chain_update((now / 30 + steps).to_be_bytes()).finalize().into_bytes();
    let at = usize::from(hash[19] & 15);
    let number = hash[at..at + 4].iter().fold(0_u32, |number, byte| number << 8 | u32::from(*byte)) & 0x7fff_ffff;
    format!("{:06}", number % 1_000_000)
}
