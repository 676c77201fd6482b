//! Who may do what: every route of the API, called in every role.
mod running;

use std::collections::BTreeMap;

use running::staff::*;
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
    post   /policy/draft/activate                 e
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
    // Nor where the watched gate asks for the group.
    service.activate_with(
        "otherwise refuse \"Only the network desk may sign in here.\"",
        "observe when user in group \"network-readers\" with grant operator\n  otherwise refuse",
    );
    let (status, told) = set("pia.quill");
    assert!(status == 403 && told.contains("`observe`"), "{told}");
    // A request of which nothing says what it is for may be a login.
    service.activate_with_all(&[(
        "gate admin-logins {",
        "gate unsaid {\n  when not exists request.purpose\n  accept pap\n  identify user in harbour\n  rule \"Whatever it is\" {\n    \
         when user in group \"staff\"\n    grant operator\n  }\n  otherwise refuse\n}\n\ngate admin-logins {",
    )]);
    assert!(set("ida.marsh").1.contains("rule `Whatever it is`"), "{:?}", set("ida.marsh"));
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

/// What is changed stays in the log for good, so that a role that changes little has a bound.
#[test]
fn the_helpdesk_changes_so_much_within_an_hour_and_no_more() {
    let (service, desk, _) = staffed();
    let macs: Vec<_> = (0x80_0000..0x80_0000 + 10_000).map(|number| format!("02005e{number:06x}")).collect();
    let file = service.data.join("devices.csv");
    std::fs::write(&file, format!("mac\n{}\n", macs.join("\n"))).unwrap();
    service.client(&["device", "import", "--store", "harbour-devices"]).arg(&file).succeeds();
    let bar = |reason: &str, by: &str| {
        call(&service, by, "put", "/api/v1/devices/bar", &json!({ "macs": macs, "reason": reason }))
    };
    assert_eq!(bar("a drill", &desk).0, 200);
    let (status, told) = bar("another drill", &desk);
    assert_eq!(status, 429, "{told}");
    assert!(told["error"].as_str().unwrap().contains("20000 records"), "{told}");
    assert_eq!(bar("another drill", &service.token).0, 200, "an engineer may");
}
