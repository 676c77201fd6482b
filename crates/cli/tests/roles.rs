//! Who may do what: every route of the API, called in every role.
mod running;

use std::collections::BTreeMap;

use running::*;
use serde_json::{Value, json};

/// Who may call a route: e(ngineer), h(elpdesk), a(uditor); `-` is everybody, signed in or
/// not.
const ROUTES: &str = "
    post   /accounts/act                          e
    get    /administrators                        e a
    post   /administrators                        e
    get    /administrators/{name}                 e a
    put    /administrators/{name}                 e
    patch  /administrators/{name}                 e
    delete /administrators/{name}                 e
    delete /administrators/{name}/second-factor   e
    get    /audit                                 e a
    get    /audit/verify                          e a
    get    /audit/{revision}                      e a
    post   /backup                                e
    get    /certificates                          e h a
    post   /certificates                          e
    post   /certificates/request                  e
    get    /certificates/{name}                   e h a
    put    /certificates/{name}                   e
    delete /certificates/{name}                   e
    get    /attributes                            e h a
    post   /attributes                            e
    delete /attributes/{name}                     e
    get    /devices                               e h a
    post   /devices                               e
    post   /devices/act                           e
    put    /devices/bar                           e h
    get    /devices/seen                          e h a
    get    /devices/{store}/{mac}                 e h a
    put    /devices/{store}/{mac}                 e
    patch  /devices/{store}/{mac}                 e
    delete /devices/{store}/{mac}                 e
    get    /dialects                              e h a
    post   /dialects                              e
    get    /dialects/preview                      e h a
    get    /dialects/{name}                       e h a
    delete /dialects/{name}                       e
    get    /dictionaries                          e h a
    post   /dictionaries                          e
    get    /dictionaries/{name}                   e h a
    delete /dictionaries/{name}                   e
    get    /findings                              e a
    get    /groups                                e h a
    post   /groups                                e
    get    /groups/{name}                         e h a
    put    /groups/{name}                         e
    patch  /groups/{name}                         e
    delete /groups/{name}                         e
    get    /health                                -
    post   /import/{kind}                         e
    post   /inventory                             e
    get    /journal                               e h a
    get    /journal/counts                        e h a
    get    /journal/live                          e h a
    get    /journal/newest                        e h a
    get    /journal/{id}                          e h a
    get    /keys                                  e a
    get    /machines                              e h a
    post   /machines                              e
    get    /machines/{store}/{name}               e h a
    put    /machines/{store}/{name}               e
    patch  /machines/{store}/{name}               e
    delete /machines/{store}/{name}               e
    get    /nases                                 e h a
    post   /nases                                 e
    post   /nases/act                             e
    get    /nases/{name}                          e h a
    put    /nases/{name}                          e
    patch  /nases/{name}                          e
    delete /nases/{name}                          e
    post   /nases/{name}/secret                   e
    put    /nases/{name}/secret                   e
    delete /nases/{name}/former-secret            e
    post   /people/{store}/{name}/kept-password   e
    post   /machines/{store}/{name}/kept-password e
    get    /people                                e h a
    post   /people                                e
    get    /people/{store}/{name}                 e h a
    put    /people/{store}/{name}                 e
    patch  /people/{store}/{name}                 e
    delete /people/{store}/{name}                 e
    put    /people/{store}/{name}/password        e h
    get    /policy                                e a
    post   /policy/activate                       e
    post   /policy/check                          e a
    get    /policy/editions                       e a
    get    /policy/editions/{number}              e a
    post   /policy/rollback                       e
    get    /policy/draft                          e
    get    /policy/draft/others                   e
    put    /policy/draft                          e
    delete /policy/draft                          e
    post   /policy/difference                     e a
    post   /policy/what-if                        e a
    get    /policy/hits                           e a
    get    /policy/codes                          e a
    get    /policy/inventory                      e a
    post   /policy/completion                      e a
    post   /policy/meaning                        e a
    post   /policy/rename                         e a
    post   /policy/format                         e a
    post   /policy/begin                          e a
    post   /policy/outline                        e a
    post   /policy/gates                          e a
    post   /policy/act                            e a
    get    /journal/{id}/case                     e a
    get    /journal/{id}/facts                    e a
    get    /secrets                               e h a
    post   /secrets                               e
    delete /secrets/{name}                        e
    get    /session                               e h a
    put    /session/password                      e h a
    post   /session/second-factor                 e h a
    put    /session/second-factor                 e h a
    delete /session/second-factor                 e h a
    post   /sign-in                               -
    post   /sign-in/token                         -
    get    /sites                                 e h a
    post   /sites                                 e
    get    /sites/{name}                          e h a
    put    /sites/{name}                          e
    patch  /sites/{name}                          e
    delete /sites/{name}                          e
    post   /sign-out                              e h a
    get    /stores                                e h a
    post   /stores                                e
    get    /stores/{name}                         e h a
    post   /stores/{name}/new-password            e
    get    /stores/{name}/offer                   e h a
    get    /stores/{name}/devices                 e h a
    post   /offer                                 e
    get    /metrics                               e h a
    post   /stores/{name}/test                    e
    put    /stores/{name}                         e
    patch  /stores/{name}                         e
    delete /stores/{name}                         e
    get    /supplicant-profile                    e h a
    get    /today                                 e h a
    get    /tokens                                e h a
    post   /tokens                                e h a
    get    /tokens/{id}                           e h a
    patch  /tokens/{id}                           e h a
    delete /tokens/{id}                           e h a
    get    /trusts                                e h a
    post   /trusts                                e
    get    /trusts/{name}                         e h a
    put    /trusts/{name}                         e
    delete /trusts/{name}                         e
    get    /unheard                               e h a
    post   /unheard/{id}/secret                   e
    post   /welcome                               -
";

/// A call with this token, and what came of it.
fn call(service: &Running, token: &str, verb: &str, path: &str, body: &Value) -> (u16, Value) {
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
fn token_of(service: &Running, name: &str, password: &str) -> String {
    let asked = agent().post(format!("{}/api/v1/sign-in/token", service.api));
    let mut answer = asked.send_json(json!({ "name": name, "password": password })).unwrap();
    assert_eq!(answer.status(), 200, "{name}");
    let body: Value = answer.body_mut().read_json().unwrap();
    body["token"].as_str().unwrap().to_owned()
}

/// The harbour with everybody who signs in; gives the tokens of helpdesk and auditor.
fn staffed() -> (Running, String, String) {
    let service = Running::harbour();
    for (name, role, password) in [("desk", "helpdesk", "desk-demo-1"), ("ledger", "auditor", "ledger-demo-1")] {
        let new = json!({ "name": name, "role": role, "password": password });
        assert_eq!(service.post("administrators", &new).0, 201);
    }
    let [desk, ledger] = [("desk", "desk-demo-1"), ("ledger", "ledger-demo-1")]
        .map(|(name, password)| token_of(&service, name, password));
    (service, desk, ledger)
}

#[test]
fn every_route_is_open_to_its_roles_and_to_nobody_else() {
    let (service, desk, ledger) = staffed();
    let description: Value = serde_json::from_str(include_str!("../../../console/src/api/openapi.json")).unwrap();
    let mut table: BTreeMap<(&str, &str), &str> = BTreeMap::new();
    for line in ROUTES.lines().filter(|line| !line.trim().is_empty()) {
        let (verb, rest) = line.trim().split_once(' ').unwrap();
        let (path, roles) = rest.trim().split_once(' ').unwrap();
        table.insert((verb, path), roles.trim());
    }
    let mut walked = 0;
    for (path, verbs) in description["paths"].as_object().unwrap() {
        let short = path.strip_prefix("/api/v1").unwrap();
        for verb in verbs.as_object().unwrap().keys() {
            let roles = table.get(&(verb.as_str(), short)).unwrap_or_else(|| panic!("say who may {verb} {short}"));
            walked += 1;
            if *roles == "-" || short == "/sign-out" {
                continue;
            }
            let address = path.replace("{revision}", "1").replace("{mac}", "02005e999999");
            let address =
                ["{id}", "{name}", "{store}", "{kind}"].iter().fold(address, |all, part| all.replace(part, "nobody"));
            for (role, token) in [("e", &service.token), ("h", &desk), ("a", &ledger)] {
                let (status, body) = call(&service, token, verb, &address, &json!({}));
                let refused =
                    status == 403 && body["error"].as_str().is_some_and(|told| told.starts_with("This is for "));
                assert_ne!(refused, roles.contains(role), "{verb} {short} as {role}: {status} {body}");
                assert_ne!(status, 401, "{verb} {short} as {role}");
            }
        }
    }
    assert_eq!(walked, table.len(), "the table tells of routes that there are not");
}

#[test]
fn the_helpdesk_helps_people_and_never_reaches_privilege() {
    let (service, desk, _) = staffed();
    let set = |store: &str, name: &str| {
        let path = format!("/api/v1/people/{store}/{name}/password");
        call(&service, &desk, "put", &path, &json!({ "password": "Mooring-Line-72" }))
    };
    assert_eq!(set("harbour", "Ida.Marsh").0, 204);
    let vpn = ["pap", "--user", "ida.marsh", "--password", "Mooring-Line-72"];
    service.try_from(&regnant_campus::harbour::PILOT_VPN_1, &vpn).ends_with(0);
    // Whoever could administer equipment is an engineer's to help.
    let (status, told) = set("harbour", "ola.nett");
    assert_eq!(status, 403);
    assert!(told["error"].as_str().unwrap().contains("could make them an administrator of equipment"), "{told}");
    // A reader has privilege 1 at most.
    assert_eq!(set("harbour", "pia.quill").0, 204);
    // Nor by a group that somebody makes of it: groups are not the helpdesk's.
    let patch = json!({ "groups": ["network-operators"] });
    assert_eq!(call(&service, &desk, "patch", "/api/v1/people/harbour/ida.marsh", &patch).0, 403);
    let marked = json!({ "engineers_only": true });
    assert_eq!(call(&service, &service.token, "patch", "/api/v1/people/harbour/tom.reed", &marked).0, 200);
    assert!(set("harbour", "tom.reed").1["error"].as_str().unwrap().contains("marked engineers only"));
    // A rule by name counts as well, and one that hangs on nothing about the person.
    let operators = "rule \"Network operators\" {";
    assert!(regnant_campus::harbour::POLICY.contains(operators), "the harbour's rule is called otherwise now");
    service.activate_with(
        operators,
        "rule \"Whoever knows the knock\" {\n        when nas.name = \"tower-rt-1\"\n        grant operator\n    }\n    rule \"Network operators\" {",
    );
    let (status, told) = set("harbour", "pia.quill");
    assert_eq!(status, 403, "{told}");
    assert!(told["error"].as_str().unwrap().contains("Whoever knows the knock"), "{told}");
}

#[test]
fn whoever_may_become_privileged_is_an_engineers_to_help_until_an_engineer_says_otherwise() {
    let (service, desk, _) = staffed();
    let set = |name: &str| {
        let path = format!("/api/v1/people/harbour/{name}/password");
        let (status, told) = call(&service, &desk, "put", &path, &json!({ "password": "Mooring-Line-72" }));
        (status, told["error"].as_str().unwrap_or_default().to_owned())
    };
    let operators = "rule \"Network operators\" {";
    let with_rule = |then: &str| {
        format!("rule \"Odd\" {{\n        when nas.name = \"tower-rt-1\"\n        {then}\n    }}\n    {operators}")
    };
    // A text in a vendor's attribute, a value of the RFC's, a role in an attribute of which nothing is said.
    for (says, why) in [
        ("send Service-Type = \"Callback-Administrative\"", "Service-Type"),
        ("send Service-Type = 11", "Service-Type"),
        ("send Tarnworks-Privilege = \"full\"", "Tarnworks-Privilege full"),
        ("send Tarnworks-Zone = \"wheelhouse\"", "no dictionary says"),
        ("send Reply-Message = \"level=15\"", "reads like a privilege"),
        ("filter \"crew\"", "Filter-Id"),
    ] {
        service.activate_with_all(&[
            ("gate vpn {", &format!("grant odd {{ {says} }}\ngate vpn {{")),
            (operators, &with_rule("grant odd")),
        ]);
        let (status, told) = set("pia.quill");
        assert_eq!(status, 403, "{says}: {told}");
        assert!(told.contains("rule `Odd`") && told.contains("grant `odd`") && told.contains(why), "{says}: {told}");
    }
    // What lets traffic through is none, nor a role of which the dictionary says so.
    for says in ["vlan 30", "send Tarnworks-Role = \"crew\"", "session 1h"] {
        service.activate_with_all(&[
            ("gate vpn {", &format!("grant odd {{ {says} }}\ngate vpn {{")),
            (operators, &with_rule("grant odd")),
        ]);
        assert_eq!(set("pia.quill").0, 204, "{says}");
    }
    // A gate that is watched gives its grant to whoever fails, too.
    service.activate_with(
        "otherwise refuse \"Only the network desk may sign in here.\"",
        "observe with grant operator\n  otherwise refuse",
    );
    let told = set("pia.quill").1;
    assert!(told.contains("`observe` of gate `admin-logins`"), "{told}");
    // An engineer says that she is ordinary, or her group; that counts where no rule asks for either.
    let mark =
        |path: &str, ordinary: bool| call(&service, &service.token, "patch", path, &json!({ "ordinary": ordinary })).0;
    assert_eq!(mark("/api/v1/people/harbour/pia.quill", true), 200);
    assert_eq!(set("pia.quill").0, 204);
    assert_eq!(mark("/api/v1/people/harbour/pia.quill", false), 200);
    assert_eq!(set("pia.quill").0, 403);
    service.client(&["group", "change", "network-readers", "--ordinary", "true"]).succeeds();
    assert_eq!(set("pia.quill").0, 204);
    assert_eq!(mark("/api/v1/people/harbour/ola.nett", true), 200);
    let (status, told) = set("ola.nett");
    assert!(status == 403 && told.contains("`Network operators`"), "{told}");
    let both = json!({ "ordinary": true, "engineers_only": true });
    assert_eq!(call(&service, &service.token, "patch", "/api/v1/people/harbour/pia.quill", &both).0, 400);
}

#[test]
fn what_an_engineer_barred_the_helpdesk_does_not_let_in_and_what_changes_nothing_is_not_written() {
    let (service, desk, _) = staffed();
    let bar = |token: &str, reason: Option<&str>| {
        call(&service, token, "put", "/api/v1/devices/bar", &json!({ "macs": ["02005e200001"], "reason": reason }))
    };
    assert_eq!(bar(&desk, Some("lost")).0, 200);
    assert_eq!(bar(&desk, None).0, 200);
    assert_eq!(bar(&service.token, Some("stolen")).0, 200);
    for reason in [None, Some("found")] {
        let (status, told) = bar(&desk, reason);
        let told = told["error"].as_str().unwrap_or_default();
        assert!(status == 403 && told.contains("harbour barred") && told.contains("stolen"), "{status} {told}");
    }
    let revision = || service.get("audit?limit=1").1["entries"][0]["revision"].clone();
    let before = revision();
    for _ in 0..3 {
        assert_eq!(bar(&service.token, Some("stolen")).0, 200);
    }
    assert_eq!(revision(), before);
    // Its entries are found by its address in any notation, and by a part of it.
    service.try_from(&regnant_campus::harbour::QUAY_SW_1, &["mac", "--mac", "02005e200001"]).ends_with(1);
    service.entries("q=02:00:5e:20:00:01", 1);
    for spelled in ["02-00-5E-20-00-01", "0200.5e20.0001", "02005e200001", "5e2000", "5E-20", "e2000", "200001"] {
        assert_eq!(
            service.get(&format!("journal?limit=1&q={spelled}")).1["entries"].as_array().unwrap().len(),
            1,
            "{spelled}"
        );
    }
    assert!(service.get("journal?q=5e2fff").1["entries"].as_array().unwrap().is_empty());
}

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
    let (service, _, _) = staffed();
    let session = Session::begin(&service, "desk", "desk-demo-1", None);
    let put = |verb: &str, body: &Value| session.call(&service, verb, "/api/v1/session/second-factor", body);
    let secret = put("post", &json!({ "password": "desk-demo-1" })).1["secret"].as_str().unwrap().to_owned();
    let set = json!({ "password": "desk-demo-1", "secret": secret, "code": code(&secret, 0) });
    assert_eq!(put("put", &set).0, 200);
    let guess = |number: u32| {
        let form = json!({ "name": "desk", "password": "desk-demo-1", "code": format!("x{number:05}") });
        // Of a program on an address of its own each.
        let source = std::net::SocketAddr::from(([127, 0, 1, number as u8], 0));
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
}

/// Posts over a connection from this address.
fn post_from(source: std::net::SocketAddr, service: &Running, path: &str, body: &Value) -> u16 {
    use std::io::{Read, Write};
    let to: std::net::SocketAddr = service.api.strip_prefix("http://").unwrap().parse().unwrap();
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

/// A session, as a browser has it.
struct Session {
    cookie: String,
}

impl Session {
    fn begin(service: &Running, name: &str, password: &str, code: Option<&str>) -> Self {
        let form = json!({ "name": name, "password": password, "code": code });
        let answer = agent().post(format!("{}/api/v1/sign-in", service.api)).send_json(form).unwrap();
        assert_eq!(answer.status(), 200);
        let cookies = answer.headers().get_all("set-cookie").iter();
        let pairs = cookies.map(|cookie| cookie.to_str().unwrap().split(';').next().unwrap());
        Self { cookie: pairs.collect::<Vec<_>>().join("; ") }
    }

    fn call(&self, service: &Running, verb: &str, path: &str, body: &Value) -> (u16, Value) {
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
fn with_input(command: &mut std::process::Command, input: &str) -> std::process::Output {
    use std::io::Write;
    use std::process::Stdio;
    let piped = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = piped.spawn().unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    child.wait_with_output().unwrap()
}

/// The code of a secret so many steps from now, by a computation of the test's own.
fn code(secret: &str, steps: u64) -> String {
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
