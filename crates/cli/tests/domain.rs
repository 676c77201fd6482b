//! A real Active Directory domain controller as a store: primary and nested groups, and what it
//! says of accounts.
mod running;

use std::time::{Duration, Instant};

use regnant_campus::harbour::*;
use running::domain::*;
use running::*;

#[test]
fn a_domain_tells_primary_and_nested_groups_and_why_an_account_does_not_come_in() {
    let mut domain = Domain::start();
    for (name, password) in [
        ("ida.marsh", "Tide-Table-61"),
        ("lee.gone", "Old-Badge-77"),
        ("tom.reed", "Winch-Oil-48"),
        ("sam.drift", "Rope-Ends-13"),
    ] {
        domain.tool(&["user", "create", name, password]);
    }
    domain.tool(&["user", "disable", "lee.gone"]);
    domain.tool(&["user", "setpassword", "tom.reed", "--newpassword=Winch-Oil-49", "--must-change-at-next-login"]);
    domain.tool(&["user", "setexpiry", "sam.drift", "--days=-2"]);
    for (group, member) in [("berth-crew", "ida.marsh"), ("port-crew", "berth-crew")] {
        domain.tool(&["group", "add", group]);
        domain.tool(&["group", "addmembers", group, member]);
    }
    domain.tool(&["computer", "create", "quay-laptop-7"]);

    let service = Running::harbour();
    domain.connect(&service);
    let told = service.client(&["store", "test", "port-domain", "--person", "ida.marsh"]).succeeds();
    for part in ["Domain Users", "berth-crew", "port-crew", "CN=ida.marsh,CN=Users"] {
        assert!(told.contains(part), "{part}: {told}");
    }
    // One that was never joined is there, and disabled.
    let machine =
        printed(&service.client(&["store", "test", "port-domain", "--machine", "quay-laptop-7"]).ends_with(1));
    assert!(machine.contains("the account is disabled"), "{machine}");
    assert!(machine.contains("Domain Computers"), "the primary group of machines: {machine}");
    // The top of the domain refers to its other parts at every question: nobody is nobody all the same.
    let nobody = printed(&service.client(&["store", "test", "port-domain", "--person", "nobody.here"]).ends_with(1));
    assert!(nobody.contains("nobody has it"), "{nobody}");

    let folder = service.data.join("harbour");
    let policy = POLICY.replacen("identify user in harbour as lower", "identify user in port-domain as lower", 1);
    let policy = policy.replacen(
        "user in group \"staff\"\n    grant remote",
        "user in group \"port-crew\" and user in group \"Domain Users\"\n    grant remote",
        1,
    );
    assert!(policy.contains("port-domain") && policy.contains("port-crew"));
    std::fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    let vpn = |name: &str, password: &str, code: i32| {
        let ask = ["pap", "--user", name, "--password", password, "--wait", "8", "--tries", "1"];
        service.try_from(&PILOT_VPN_1, &ask).ends_with(code);
    };
    vpn("ida.marsh", "Tide-Table-61", 0);
    vpn("ida.marsh", "Tide-Table-62", 1);
    vpn("ida.marsh", "", 1);
    vpn("ola.nett", "Fibre-Spool-90", 1);
    // Why, is told of a right password alone.
    for (name, password, reason) in [
        ("lee.gone", "Old-Badge-77", "the account is disabled"),
        ("lee.gone", "Old-Badge-78", "wrong password"),
        ("tom.reed", "Winch-Oil-49", "the account has expired"),
        ("sam.drift", "Rope-Ends-13", "the account has expired"),
    ] {
        vpn(name, password, 1);
        let query = format!("q={name}%20{}&outcome=refused", reason.replace(' ', "%20"));
        assert!(sentence(&service.entries(&query, 1)[0]).contains(reason), "{name}");
    }
    let entry = service.entries("q=tom.reed&outcome=refused", 1).remove(0);
    let trail = service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1.to_string();
    assert!(trail.contains("the password has to be changed before it counts"), "{trail}");

    // It goes away and comes again.
    domain.kill();
    vpn("ida.marsh", "Tide-Table-61", 3);
    domain.again();
    let began = Instant::now();
    let ask = ["pap", "--user", "ida.marsh", "--password", "Tide-Table-61", "--wait", "2", "--tries", "1"];
    while service.try_from(&PILOT_VPN_1, &ask).output().unwrap().status.code() != Some(0) {
        assert!(began.elapsed() < Duration::from_secs(60), "the domain is not asked again");
    }
}
