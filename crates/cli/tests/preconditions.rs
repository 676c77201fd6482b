//! Whoever puts something in the place of something else says what they saw: of two who change one thing at once,
//! neither undoes what the other did.
mod running;

use std::sync::Barrier;

use regnant_campus::harbour::DIALECT;
use regnant_certificates::Authority;
use running::issuer::now;
use running::*;
use serde_json::{Value, json};

/// A call with these headers; its status.
fn call(service: &Running, verb: &str, path: &str, header: Option<(&str, &str)>, body: &Value) -> u16 {
    let mut request = ureq::http::Request::builder()
        .method(verb)
        .uri(format!("{}/api/v1/{path}", service.api))
        .header("authorization", format!("Bearer {}", service.token))
        .header("content-type", "application/json");
    if let Some((name, value)) = header {
        request = request.header(name, value);
    }
    agent().run(request.body(body.to_string()).unwrap()).unwrap().status().as_u16()
}

/// The ETag that a list tells of one of its records.
fn etag(service: &Running, list: &str, name: &str) -> String {
    let told = service.get(&format!("{list}?limit=5000")).1;
    let of = told[list].as_array().unwrap().iter().find(|one| one["name"] == name);
    of.unwrap_or_else(|| panic!("{list} has no {name}: {told}"))["etag"].as_str().unwrap().to_owned()
}

#[test]
fn what_takes_the_place_of_something_says_what_it_saw() {
    let service = Running::harbour();
    let authority = |name: &str| Authority::new(name, now() - 86_400).unwrap().certificate().to_owned();
    let dialect = DIALECT.replacen("name = \"tarnworks\"", "name = \"dockworks\"", 1);
    let dictionary = "title = \"Dockworks\"\n[vendor]\nname = \"dockworks\"\nnumber = 32474\n\n[[attribute]]\nnumber = 1\n\
                      name = \"Dockworks-Berth\"\ntype = \"text\"\naccept = \"0-1\"\n";
    let certificate = |name: &str| {
        let mut order = running::directory::order(name);
        order.common_name = name.into();
        let issued = Authority::new("Some Authority", now() - 86_400).unwrap().issue(&order).unwrap();
        issued.certificate + &issued.key
    };
    let kinds = [
        (
            "secrets",
            "spare",
            json!({ "name": "spare", "value": "hawser-1" }),
            json!({ "name": "spare", "value": "hawser-2" }),
        ),
        (
            "trusts",
            "spare",
            json!({ "name": "spare", "authorities": authority("One") }),
            json!({ "name": "spare", "authorities": authority("Two") }),
        ),
        (
            "certificates",
            "spare.tarnmouth.example",
            json!({ "name": "spare.tarnmouth.example", "pem": certificate("spare.tarnmouth.example") }),
            json!({ "name": "spare.tarnmouth.example", "pem": certificate("spare.tarnmouth.example") }),
        ),
        (
            "dialects",
            "dockworks",
            json!({ "file": "d.toml", "text": dialect }),
            json!({ "file": "d.toml", "text": format!("{dialect}\n# another\n") }),
        ),
        (
            "dictionaries",
            "dockworks",
            json!({ "file": "d.toml", "text": dictionary }),
            json!({ "file": "d.toml", "text": format!("{dictionary}\n# another\n") }),
        ),
        (
            "attributes",
            "spare-part",
            json!({ "name": "spare-part", "type": "text", "meaning": "one" }),
            json!({ "name": "spare-part", "type": "text", "meaning": "two" }),
        ),
    ];
    let none = Some(("if-none-match", "*"));
    for (list, name, first, second) in &kinds {
        let added = call(&service, "POST", list, none, first);
        assert!((200..300).contains(&added), "{list}: {added} {:?}", service.post(list, first));
        assert_eq!(call(&service, "POST", list, none, second), 412, "{list}: there is one already");
        let seen = etag(&service, list, name);
        let changed = call(&service, "POST", list, Some(("if-match", &seen)), second);
        assert!((200..300).contains(&changed), "{list}: {changed}");
        assert_eq!(call(&service, "POST", list, Some(("if-match", &seen)), first), 412, "{list}: it is another by now");
        let one = format!("{list}/{name}");
        assert_eq!(call(&service, "DELETE", &one, Some(("if-match", &seen)), &Value::Null), 412, "{list}");
        let seen = etag(&service, list, name);
        let removed = call(&service, "DELETE", &one, Some(("if-match", &seen)), &Value::Null);
        assert!((200..300).contains(&removed), "{list}: {removed}");
        assert_eq!(call(&service, "POST", list, Some(("if-match", &seen)), first), 412, "{list}: it is gone");
    }
    // A store too, when it is renamed or removed.
    assert_eq!(call(&service, "POST", "stores", None, &json!({ "name": "spare", "kind": "people" })), 201);
    let seen = etag(&service, "stores", "spare");
    let rename = json!({ "name": "other" });
    assert_eq!(call(&service, "PATCH", "stores/spare", Some(("if-match", "\"0\"")), &rename), 412);
    assert_eq!(call(&service, "PATCH", "stores/spare", Some(("if-match", &seen)), &rename), 204);
    assert_eq!(call(&service, "DELETE", "stores/other", Some(("if-match", &seen)), &Value::Null), 412);
    let seen = etag(&service, "stores", "other");
    assert_eq!(call(&service, "DELETE", "stores/other", Some(("if-match", &seen)), &Value::Null), 204);
    assert_eq!(call(&service, "POST", "secrets", Some(("if-none-match", "\"x\"")), &kinds[0].2), 400);
    // The command line looks first, and replaces what it saw.
    for value in ["hawser-1", "hawser-2"] {
        let set = typed(&mut service.client(&["secret", "set", "spare"]), &format!("{value}\n"));
        assert!(set.status.success(), "{}", printed(&set));
    }
    service.client(&["secret", "remove", "spare"]).succeeds();
    let gone = service.client(&["secret", "remove", "spare"]).fails(1);
    assert!(gone.contains("there is no secret `spare`") || gone.contains("There is no secret `spare`"), "{gone}");
}

/// A password is hashed while nobody waits for it; what others change meanwhile stays.
#[test]
fn of_two_who_change_one_person_at_once_neither_is_lost() {
    let service = Running::harbour();
    let at = "people/harbour/ida.marsh";
    for round in 0..6 {
        let (password, group) = (format!("Tide-Table-{round}-kept"), format!("crew-{round}"));
        let both = Barrier::new(2);
        let change = |body: Value| {
            both.wait();
            assert_eq!(call(&service, "PATCH", at, None, &body), 200);
        };
        std::thread::scope(|scope| {
            scope.spawn(|| change(json!({ "password": password })));
            scope.spawn(|| change(json!({ "groups": ["staff", group] })));
        });
        let told = service.get(at).1;
        assert!(told.to_string().contains(&group), "{told}");
        let ask = ["pap", "--user", "ida.marsh", "--password", &password];
        service.try_from(&regnant_campus::harbour::PILOT_VPN_1, &ask).ends_with(0);
    }
}
