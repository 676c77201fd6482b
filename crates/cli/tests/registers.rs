//! A service that tells facts (the port's asset register) as a store: what it decides, what fails,
//! and how that is told.
mod running;

use std::time::{Duration, Instant};

use regnant_campus::certificates::{DemoCertificates, TRUST};
use regnant_campus::register::{CLIENT, Mood, Register, SECRET};
use regnant_campus::story::{self, Scene};
use regnant_campus::{Outcome, harbour};
use running::*;
use serde_json::json;

/// The harbour and its register, with the policy that asks it.
struct Port {
    service: Running,
    register: Register,
    /// A laptop that the register calls not compliant.
    laptop: Scene,
}

const HEADER: [&str; 2] = ["--header", SECRET.0];

impl Port {
    fn open(how: &[&str], secret: &str, policy: &str) -> Self {
        let service = Running::harbour();
        let file = |name: &str| std::fs::read_to_string(service.data.join("harbour").join(name)).unwrap();
        let listen = "127.0.0.1:0".parse().unwrap();
        let register = Register::start(listen, &file("outside.pem"), &file("outside.key")).unwrap();
        for (name, kind, meaning, _) in harbour::REGISTER_FACTS {
            service.client(&["attribute", "add", name, "--type", kind, "--meaning", meaning]).succeeds();
        }
        let add = ["store", "add", "asset-register", "--kind", "http", "--url", &register.url(), "--trust", TRUST];
        let facts = harbour::REGISTER_FACTS.map(|(name, _, _, place)| format!("{name}={place}"));
        let facts: Vec<_> = facts.iter().flat_map(|fact| ["--fact", fact.as_str()]).collect();
        let mut command = service.client(&[&add[..], &facts, how, &["--ask-secret"]].concat());
        let output = typed(&mut command, &format!("{secret}\n"));
        assert!(output.status.success(), "{}", printed(&output));
        let folder = service.data.join("harbour");
        std::fs::write(folder.join("main.writ"), policy).unwrap();
        service.client(&["policy", "activate"]).arg(&folder).succeeds();
        let names = ["authority.pem", "stranger.pem"];
        let certificates = DemoCertificates::from_files(names.map(|name| (name.to_owned(), file(name))));
        let laptop = story::register_scenes(&certificates).unwrap().remove(0);
        Self { service, register, laptop }
    }

    /// What the laptop is given.
    fn laptop(&self) -> Outcome {
        let server = self.service.radius;
        self.laptop.play(server, &std::sync::Arc::new(harbour::dictionary()), None)
    }

    /// Why the laptop's request of this number, from 1, ended as it did.
    fn told(&self, number: usize) -> String {
        let entry = self.service.entries("q=tom.reed", number).remove(0);
        self.service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1.to_string()
    }

    fn change(&self, more: &[&str]) -> String {
        printed(&self.service.client(&[&["store", "change", "asset-register"], more].concat()).output().unwrap())
    }

    fn test(&self, more: &[&str], code: i32) -> String {
        printed(&self.service.client(&[&["store", "test", "asset-register"], more].concat()).ends_with(code))
    }
}

#[test]
fn what_the_register_tells_decides_and_what_it_told_counts_where_the_gate_says_so() {
    let port = Port::open(&[&HEADER[..], &["--keep", "1"]].concat(), SECRET.1, &harbour::policy_with_outside(false));
    assert!(port.laptop.expected.is_met_by(&port.laptop()), "{:?}", port.laptop());
    let told = port.told(1);
    for part in ["Machines that are not as the port wants them", "asset-register", "machine.compliant", "tom.reed"] {
        assert!(told.contains(part), "{part}: {told}");
    }
    // It is asked once for as long as what it told is kept.
    assert_eq!(port.register.asked(), ["quay-laptop-9"]);
    std::thread::sleep(Duration::from_millis(1_100));
    port.register.put("quay-laptop-9", r#"{"state":{"compliant":true}}"#);
    assert!(matches!(port.laptop(), Outcome::Accepted(given) if given.vlan.as_deref() == Some("20")));
    // While it is silent, what it told counts still, and the trail says how old that is.
    std::thread::sleep(Duration::from_millis(1_100));
    port.register.set_mood(Mood::Error);
    assert!(matches!(port.laptop(), Outcome::Accepted(given) if given.vlan.as_deref() == Some("20")));
    let told = port.told(3);
    assert!(told.contains("no answer; what it told") && told.contains("s ago counts"), "{told}");
    // One error may be about one question; the third is the service's.
    (0..2).for_each(|_| drop(port.laptop()));
    let down = port.service.get("today").1["down"][0].clone();
    assert_eq!((&down["store"], &down["in_policy"]), (&json!("asset-register"), &json!(true)));
    assert!(down["why"].as_str().unwrap().contains("500"), "{down}");
    let doctor = printed(&port.service.client(&["doctor"]).output().unwrap());
    assert!(doctor.contains("asset-register"), "{doctor}");
    // A MAC bypass asks nothing of it, and no story is told once it answers again.
    port.service.try_from(&harbour::QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    port.register.set_mood(Mood::Well);
    let began = Instant::now();
    while port.service.get("today").1["down"] != json!([]) {
        assert!(began.elapsed() < Duration::from_secs(20), "the register is asked again");
        port.laptop();
    }
}

#[test]
fn a_silent_register_leaves_rules_undetermined_where_nothing_stale_counts() {
    let policy = harbour::policy_with_outside(false).replace(" { unreachable use stale 1h }", "");
    let port = Port::open(&[&HEADER[..], &["--keep", "0"]].concat(), SECRET.1, &policy);
    port.register.set_mood(Mood::Unauthorized);
    assert_eq!(port.laptop(), Outcome::NoAnswer);
    let told = port.told(1);
    assert!(told.contains("does not let us ask: 401"), "{told}");
    // A machine that it does not know is one of which nothing is known.
    port.register.set_mood(Mood::Well);
    port.register.put("quay-laptop-9", "{}");
    std::thread::sleep(Duration::from_millis(1_200));
    assert!(matches!(port.laptop(), Outcome::Accepted(given) if given.vlan.as_deref() == Some("20")));
}

#[test]
fn a_token_is_had_and_had_again_once_it_is_taken_back() {
    let register_token = |port: &Port| port.register.token_url();
    let port = Port::open(&[&HEADER[..], &["--keep", "0"]].concat(), "not-yet", harbour::POLICY);
    let told = port.test(&["--machine", "quay-laptop-9"], 1);
    assert!(told.contains("does not let us ask: 401") && told.contains("Give the secret anew"), "{told}");
    // A secret goes nowhere else by itself.
    let token = ["--token-url", &register_token(&port), "--client", CLIENT.0, "--header", ""];
    assert!(port.change(&token).contains("Give the secret anew"));
    let mut command =
        port.service.client(&[&["store", "change", "asset-register", "--ask-secret"], &token[..]].concat());
    assert!(typed(&mut command, &format!("{}\n", CLIENT.1)).status.success());
    for _ in 0..2 {
        let told = port.test(&["--machine", "quay-laptop-9"], 0);
        assert!(told.contains("have a token") && told.contains("compliant = false"), "{told}");
        port.register.take_token_back();
    }
    let mut command = port.service.client(&["store", "change", "asset-register", "--ask-secret"]);
    assert!(typed(&mut command, "wrong\n").status.success());
    let told = port.test(&[], 1);
    assert!(told.contains("401 Unauthorized (invalid_client)"), "{told}");
    let shown = port.service.client(&["store", "show", "asset-register"]).succeeds();
    assert!(shown.contains(CLIENT.0) && !shown.contains(CLIENT.1), "{shown}");
}

#[test]
fn whatever_a_service_answers_is_told_with_what_to_do() {
    let port = Port::open(&HEADER, SECRET.1, harbour::POLICY);
    let told = port.test(&["--machine", "quay-laptop-9"], 0);
    for part in ["it proves who it is", "CN=Tarnmouth Demo Root", "asset-owner = \"tom.reed\"", "compliant = false"] {
        assert!(told.contains(part), "{part}: {told}");
    }
    assert!(port.test(&["--machine", "no-such-machine"], 1).contains("it knows nobody of that name"));
    assert!(port.test(&["--machine", ".."], 1).contains("no address can have that name"));
    assert!(port.test(&["--machine", &"x".repeat(10_000)], 1).contains("no address can have that name"));
    port.register.put("odd", r#"{"state":{"compliant":"perhaps"},"owner":7}"#);
    let told = port.test(&["--machine", "odd"], 1);
    assert!(told.contains("1 of 3 are there") && told.contains("of another type"), "{told}");
    // A name that it does not take is no failure of it: nobody else is kept out by that.
    for _ in 0..5 {
        let told = port.test(&["--machine", "odd-name"], 1);
        assert!(told.contains("does not take the question: 400"), "{told}");
    }
    assert!(port.service.get("stores/asset-register").1["servers"][0]["down_for"].is_null());
    for (mood, told, advice) in [
        (Mood::Html, "no JSON object: <!doctype html>", "not of a page for people"),
        (Mood::Unauthorized, "401", "Give the secret anew"),
        (Mood::Error, "answers 500", "own log"),
        (Mood::Elsewhere, "sends to https://elsewhere.example/", "Write the address"),
        (Mood::Much, "more than 262144 bytes", "Ask for one name"),
    ] {
        port.register.set_mood(mood);
        let said = port.test(&["--machine", "quay-laptop-9"], 1);
        assert!(said.contains(told) && said.contains(advice), "{mood:?}: {said}");
    }
    port.register.set_mood(Mood::Nothing);
    assert!(port.change(&["--time-limit", "1"]).contains("asked in another way"));
    assert!(port.test(&["--machine", "quay-laptop-9"], 1).contains("no answer within 1 s"));
    port.register.set_mood(Mood::Well);
    // What makes no sense is never kept, and facts are declared first.
    for (more, why) in [
        (&["--url", "http://localhost/{name}"][..], "is no address of a service"),
        (&["--url", "https://localhost/"], "does not say where the name stands"),
        (&["--fact", "machine.colour=/colour"], "no fact `machine.colour` is declared"),
        (&["--fact", "machine.compliant=compliant"], "is no JSON Pointer"),
        (&["--fact", "machine.compliant"], "is no FACT=PLACE"),
        (&["--realm", "a b"], "is no realm"),
        (&["--base", "dc=x"], "is said of a directory"),
        (&["--trust", "nobody"], "there is no trust"),
    ] {
        let told = port.change(more).to_lowercase();
        assert!(told.contains(&why.to_lowercase()), "{why}: {told}");
    }
    let removed = port.service.client(&["attribute", "remove", "machine.compliant"]).fails(1);
    assert!(removed.contains("the store asset-register tells it"), "{removed}");
    let proves = harbour::POLICY.replace("identify machine in harbour", "identify machine in asset-register");
    let file = port.service.data.join("proves.writ");
    std::fs::write(&file, proves).unwrap();
    let refused = printed(&port.service.client(&["policy", "activate"]).arg(&file).ends_with(1));
    assert!(refused.contains("tells facts and proves nobody"), "{refused}");
    // Another authority's word counts for nothing.
    port.service.client(&["trust", "add", "strangers"]).arg(port.service.data.join("harbour/stranger.pem")).succeeds();
    let mut command =
        port.service.client(&["store", "change", "asset-register", "--trust", "strangers", "--ask-secret"]);
    assert!(typed(&mut command, &format!("{}\n", SECRET.1)).status.success());
    let told = port.test(&[], 1);
    assert!(told.contains("is not reached: invalid peer certificate"), "{told}");
    port.service.client(&["store", "remove", "asset-register"]).succeeds();
}
