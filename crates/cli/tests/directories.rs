//! A real directory as a store: who is found there, what fails, and how that is told.
mod browser;
mod running;

use std::time::{Duration, Instant};

use browser::{Browser, block_on};
use regnant_campus::directory::GROUPS;
use regnant_campus::harbour::*;
use running::directory::*;
use running::*;
use serde_json::json;

#[test]
fn people_are_proved_by_their_directory_over_ldaps_and_starttls() {
    let slapd = Slapd::start();
    for (server, more) in [(slapd.ldaps(), &[][..]), (slapd.ldap(), &["--groups", "search", "--keep", "0"])] {
        let service = harbour_with(&slapd, &server, more);
        // Only the directory knows her.
        vpn(&service, "mara.quay", "Dry-Dock-82", 0);
        vpn(&service, "mara.quay", "Dry-Dock-83", 1);
        vpn(&service, "MARA.QUAY", "Dry-Dock-82", 0);
        let trail = last(&service, "q=mara.quay&outcome=refused");
        assert!(trail.contains("tarn-directory") && trail.contains("wrong password"), "{trail}");
        let granted = last(&service, "q=mara.quay&outcome=granted");
        assert!(granted.contains("staff"), "{granted}");
        // An empty password would bind as nobody, and go well.
        vpn(&service, "mara.quay", "", 1);
        // Nothing that somebody claims is more than a name.
        for name in [
            " mara.quay",
            "mara.quay ",
            "*",
            "mara*",
            "mara.quay)(uid=*",
            "*)(objectClass=*",
            "mara.quay\\00",
            "(",
            "\\2a",
        ] {
            vpn(&service, name, "Dry-Dock-82", 1);
        }
        service.entries("q=no%20store%20knows%20the%20user&outcome=refused", 9);
        vpn(&service, &"x".repeat(250), "Dry-Dock-82", 1);
        // Somebody whom it does not have is asked for in the next store.
        vpn(&service, "ola.nett", "Fibre-Spool-90", 0);
        let trail = last(&service, "q=ola.nett&outcome=granted");
        assert!(trail.contains("tarn-directory") && trail.contains("unknown"), "{trail}");
        // Tunnels prove passwords there too; their hashes cannot be checked, and that is said.
        let ttls = ["ttls", "--inner", "pap", "--user", "tom.reed", "--password", "Winch-Oil-48"];
        service.try_eap(&ttls).succeeds();
        service.try_eap(&["peap", "--user", "tom.reed", "--password", "Winch-Oil-48"]).ends_with(1);
        assert!(last(&service, "q=tom.reed&outcome=refused").contains("no NT hash"));
        service.client(&["audit", "verify"]).succeeds();
        let audit = service.get("audit").1.to_string() + &service.get("stores").1.to_string();
        assert!(!audit.contains(SEARCHER_PASSWORD), "the password of who searches is nobody's to see");
    }
}

#[test]
fn groups_of_groups_count_by_their_short_name_below_the_base_of_groups_alone() {
    let slapd = Slapd::start();
    let more: String = (0..300)
        .map(|number| {
            format!(
                "dn: cn=crew-{number},ou=groups,{BASE}\nobjectClass: groupOfNames\ncn: crew-{number}\nmember: uid=ida.marsh,ou=people,{BASE}\n\n"
            )
        })
        .collect();
    slapd.add(&more);
    // One of the same short name elsewhere gives nothing.
    slapd.add(&format!(
        "dn: cn=partner-authority,ou=people,{BASE}\nobjectClass: groupOfNames\ncn: partner-authority\nmember: uid=sam.drift,ou=people,{BASE}\n"
    ));
    let service = harbour_with(&slapd, &slapd.ldaps(), &[]);
    let folder = service.data.join("harbour");
    let policy = std::fs::read_to_string(folder.join("main.writ")).unwrap();
    let policy = policy.replacen(
        "user in group \"staff\"\n    grant remote",
        "user in group \"partner-authority\"\n    grant remote",
        1,
    );
    assert!(policy.contains("partner-authority"));
    std::fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    vpn(&service, "nils.ferry", "Stamp-Pad-35", 0);
    vpn(&service, "sam.drift", "Rope-Ends-13", 1);
    vpn(&service, "ida.marsh", "Tide-Table-61", 1);
    let told = service.client(&["store", "test", "tarn-directory", "--person", "ida.marsh"]).succeeds();
    assert!(told.contains("crew-299") && told.contains("harbour-office"), "{told}");
    // Groups of groups only where they are wanted.
    service.client(&["store", "change", "tarn-directory", "--nested", "false"]).succeeds();
    vpn(&service, "nils.ferry", "Stamp-Pad-35", 1);
    service.client(&["store", "change", "tarn-directory", "--nested", "true", "--groups", "search"]).succeeds();
    vpn(&service, "nils.ferry", "Stamp-Pad-35", 0);
    vpn(&service, "ida.marsh", "Tide-Table-61", 1);
}

#[test]
fn two_accounts_of_one_name_are_refused() {
    let slapd = Slapd::start();
    slapd.add(&format!(
        "dn: ou=pilots,{BASE}\nobjectClass: organizationalUnit\nou: pilots\n\n\
         dn: uid=mara.quay,ou=pilots,{BASE}\nobjectClass: inetOrgPerson\nuid: mara.quay\ncn: Mara\nsn: Quay\nuserPassword: Dry-Dock-82\n"
    ));
    let service = harbour_with(&slapd, &slapd.ldaps(), &[]);
    vpn(&service, "mara.quay", "Dry-Dock-82", 1);
    let trail = last(&service, "q=mara.quay&outcome=refused");
    assert!(trail.contains("several accounts of that name") && trail.contains("narrow its search base"), "{trail}");
    let told = printed(&service.client(&["store", "test", "tarn-directory", "--person", "mara.quay"]).ends_with(1));
    assert!(told.contains("more than one entry has it") && told.contains("ou=pilots"), "{told}");
}

#[test]
fn whoever_a_directory_has_disabled_stays_out_however_they_are_proved() {
    let slapd = Slapd::start();
    let hash = regnant_eap::mschap::nt_password_hash("Tide-Table-61").map(|byte| format!("{byte:02X}")).concat();
    let ida = format!("dn: uid=ida.marsh,ou=people,{BASE}\nchangetype: modify\n");
    slapd.modify(&format!(
        "{ida}add: objectClass\nobjectClass: elsewhere\n-\nadd: sambaNTPassword\nsambaNTPassword: {hash}\n"
    ));
    slapd.modify(&format!("{ida}add: objectClass\nobjectClass: shadowAccount\n"));
    let more = ["--keep", "0", "--nt-hash", "sambaNTPassword", "--disabled-filter", "(employeeType=left)"];
    let service = harbour_with(&slapd, &slapd.ldaps(), &more);
    let folder = service.data.join("harbour");
    let by_certificate = |code: i32| {
        let mut command = service.try_eap(&["eap-tls"]);
        command.arg("--certificate").arg(folder.join("ida.marsh.pem"));
        command.arg("--key").arg(folder.join("ida.marsh.key")).ends_with(code);
    };
    let by_hash = |code: i32| {
        service.try_eap(&["peap", "--user", "ida.marsh", "--password", "Tide-Table-61"]).ends_with(code);
    };
    let tested =
        || printed(&service.client(&["store", "test", "tarn-directory", "--person", "ida.marsh"]).output().unwrap());
    by_certificate(0);
    by_hash(0);
    assert!(tested().contains("nothing there has it disabled or expired"), "{}", tested());
    for (attribute, value, why) in [
        ("nsAccountLock", "TRUE", "disabled, by nsAccountLock"),
        ("sambaAcctFlags", "[UD         ]", "disabled, by sambaAcctFlags"),
        ("loginDisabled", "TRUE", "disabled, by loginDisabled"),
        ("shadowExpire", "1", "expired, by shadowExpire"),
        ("employeeType", "left", "disabled, by the filter of those who are disabled"),
    ] {
        slapd.modify(&format!("{ida}add: {attribute}\n{attribute}: {value}\n"));
        by_certificate(1);
        by_hash(1);
        assert!(tested().contains(why), "{}", tested());
        slapd.modify(&format!("{ida}delete: {attribute}\n"));
    }
    by_hash(0);
    // A lock, and a password that has to be changed, keep passwords out, and no certificate.
    for (attribute, value, why) in [
        ("lockoutTime", "133800000000000000", "the account is locked for a while"),
        ("pwdReset", "TRUE", "the password has to be changed before it counts"),
    ] {
        slapd.modify(&format!("{ida}add: {attribute}\n{attribute}: {value}\n"));
        by_hash(1);
        last(&service, &format!("q=ida.marsh%20{}&outcome=refused", why.replace(' ', "%20")));
        by_certificate(0);
        slapd.modify(&format!("{ida}delete: {attribute}\n"));
    }
    by_hash(0);
    // What the directory says of a bind counts too, though the bind goes well.
    slapd.add(&format!(
        "dn: cn=fresh,{BASE}\nobjectClass: device\nobjectClass: pwdPolicy\ncn: fresh\npwdAttribute: userPassword\n\
         pwdMustChange: TRUE\n"
    ));
    slapd.modify(&format!(
        "dn: uid=mara.quay,ou=people,{BASE}\nchangetype: modify\nadd: pwdPolicySubentry\npwdPolicySubentry: cn=fresh,{BASE}\n-\n\
         add: pwdReset\npwdReset: TRUE\n"
    ));
    vpn(&service, "mara.quay", "Dry-Dock-82", 1);
    let trail = last(&service, "q=mara.quay&outcome=refused");
    assert!(trail.contains("the password has to be changed before it counts"), "{trail}");
    assert!(trail.contains("has to set a new password where the account is kept"), "{trail}");
}

#[test]
fn what_was_proved_ends_with_the_password_and_a_disabled_account_with_its_state() {
    let slapd = Slapd::start();
    let service = harbour_with(&slapd, &slapd.ldaps(), &["--keep", "60"]);
    vpn(&service, "mara.quay", "Dry-Dock-82", 0);
    // The account is kept, its password is asked for each time.
    slapd.modify(&format!(
        "dn: uid=mara.quay,ou=people,{BASE}\nchangetype: modify\nreplace: userPassword\nuserPassword: Slip-Way-90\n"
    ));
    vpn(&service, "mara.quay", "Dry-Dock-82", 1);
    vpn(&service, "mara.quay", "Slip-Way-90", 0);
    // One that moved is found again after the first try.
    slapd.modify(&format!(
        "dn: uid=mara.quay,ou=people,{BASE}\nchangetype: modrdn\nnewrdn: cn=Mara Quay\ndeleteoldrdn: 0\n"
    ));
    let _ = service.try_from(&PILOT_VPN_1, &["pap", "--user", "mara.quay", "--password", "Slip-Way-90"]).output();
    vpn(&service, "mara.quay", "Slip-Way-90", 0);
    let (status, body) = service.post("stores/harbour/test", &json!({}));
    assert_eq!((status, body["error"].is_string()), (400, true));
    assert_eq!(service.post("stores/tarn-directory/test", &json!({ "password": "x" })).0, 400);
    assert_eq!(service.post("stores/nobody/test", &json!({})).0, 404);
}

#[test]
fn a_directory_is_connected_tested_and_missed_in_the_page() {
    block_on(async {
        let mut slapd = Slapd::start();
        let service = harbour_with(&slapd, &slapd.ldaps(), &["--keep", "0"]);
        let browser = Browser::start().await;
        let visit = async |path: &str| browser.page.goto(&format!("{}{path}", service.api)).await.unwrap();
        let type_in = async |name: &str, text: &str| {
            let field = browser.find(&format!("[name={name}]")).await;
            field.clear().await.unwrap();
            field.send_keys(text).await.unwrap();
        };
        visit("/people/stores/new").await;
        browser.find("input[name=name]").await;
        browser.sign_in("harbour", PASSWORD).await;
        browser.sees("Connect a directory").await;
        type_in("name", "second-directory").await;
        type_in("servers", "127.0.0.1").await;
        type_in("bind-as", SEARCHER).await;
        type_in("secret", SEARCHER_PASSWORD).await;
        type_in("base", BASE).await;
        browser.click_text("button", "Connect").await;
        // What was typed stays where it is refused.
        browser.sees("is no address of a directory").await;
        type_in("servers", &slapd.ldaps()).await;
        // Before the authority is named, nobody is believed; then the directory says what it has.
        browser.click_text("button", "Look what it has").await;
        browser.sees("does not prove who it is").await;
        browser.click_text("option", "port-directory").await;
        type_in("base", "").await;
        browser.click_text("button", "Look what it has").await;
        browser.sees("Entries that may be searched").await;
        browser.find(&format!("option[value='{BASE}']")).await;
        type_in("base", BASE).await;
        browser.click_text("button", "Connect").await;
        browser.sees("The way to it").await;
        browser.find("input[aria-label='Who is looked for']").await.send_keys("ida.marsh").await.unwrap();
        browser.find("input[aria-label='Their password']").await.send_keys("Tide-Table-61").await.unwrap();
        browser.click_text("button", "Go the way").await;
        browser.sees("prove its password").await;
        browser.sees("it is right").await;
        browser.sees("harbour-office").await;
        // A directory that is dead is a story.
        slapd.kill();
        vpn(&service, "mara.quay", "Dry-Dock-82", 3);
        visit("/today").await;
        browser.sees("Stores that do not answer").await;
        browser.click_text("a", "tarn-directory").await;
        browser.sees("a directory that does not answer").await;
        browser.sees("See whether the directory runs").await;
        browser.close().await;
    });
}

#[test]
fn devices_certificates_hashes_and_realms_of_a_directory_count_where_settings_say_so() {
    let slapd = Slapd::start();
    let service = Running::harbour();
    let folder = service.data.join("harbour");
    let file = |name: &str| std::fs::read_to_string(folder.join(name)).unwrap();
    let own: String = file("ida.marsh.pem").lines().filter(|line| !line.starts_with('-')).collect();
    // NT hash of Tide-Table-61, and a password in clear.
    let hash = regnant_eap::mschap::nt_password_hash("Tide-Table-61").map(|byte| format!("{byte:02X}")).concat();
    slapd.modify(&format!(
        "dn: uid=ida.marsh,ou=people,{BASE}\nchangetype: modify\nadd: userCertificate;binary\n\
         userCertificate;binary:: {own}\n-\nadd: employeeNumber\nemployeeNumber: {hash}\n-\nadd: departmentNumber\n\
         departmentNumber: quay 7\n\ndn: uid=mara.quay,ou=people,{BASE}\nchangetype: modify\nadd: carLicense\n\
         carLicense: Dry-Dock-82\n"
    ));
    slapd.add(&format!(
        "dn: cn=crane 1,ou=machines,{BASE}\nobjectClass: device\nobjectClass: ieee802Device\ncn: crane 1\n\
         macAddress: 02:00:5E:20:00:aa\n\ndn: cn=cranes,{GROUPS}\nobjectClass: groupOfNames\ncn: cranes\n\
         member: cn=crane 1,ou=machines,{BASE}\n"
    ));
    service.client(&["attribute", "add", "user.department"]).succeeds();
    let how = [
        "--device-filter",
        "(objectClass=ieee802Device)",
        "--certificates",
        "userCertificate;binary",
        "--nt-hash",
        "employeeNumber",
        "--clear-password",
        "carLicense",
        "--fact",
        "user.department=departmentNumber",
        "--realm",
        "tarnmouth.example",
        "--keep",
        "0",
    ];
    slapd.connect(&service, &slapd.ldaps(), &how);
    let policy = POLICY
        .replace("identify mac in harbour-devices", "identify mac in tarn-directory, harbour-devices")
        .replace("}\n\n  identify user in harbour as lower(before(claimed.name, \"@\"))",
            "}\n\n  identify user in tarn-directory as lower(before(claimed.name, \"@\")) bound by certificate")
        .replace("identify user in harbour as", "identify user in tarn-directory, harbour as")
        .replacen("  rule \"Staff\" {\n    when user in group \"staff\"",
            "  rule \"Quay seven\" {\n    when user.department = \"quay 7\" and machine.failure = \"x\"\n    refuse\n  }\n  \
             rule \"Staff\" {\n    when user in group \"staff\"", 1);
    assert!(policy.contains("bound by certificate") && policy.contains("Quay seven"));
    std::fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    // A device that the directory alone has, in any notation.
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02-00-5e-20-00-AA"]).ends_with(0);
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    // Records are faster: all that it has are taken over.
    let table = service.client(&["store", "devices", "tarn-directory"]).succeeds();
    assert!(table.contains("02:00:5e:20:00:aa") && table.contains("cranes"), "{table}");
    let lines = service.client(&["store", "devices", "tarn-directory", "--json"]).succeeds();
    let imported = typed(&mut service.client(&["device", "import", "-", "--store", "harbour-devices"]), &lines);
    assert!(printed(&imported).contains("1 added"), "{}", printed(&imported));
    let shown = service.client(&["device", "show", "02:00:5e:20:00:aa"]).succeeds();
    assert!(shown.contains("crane 1") && shown.contains("cranes"), "{shown}");
    assert_eq!(service.get("stores/harbour/devices").0, 400);
    let told = service.client(&["store", "test", "tarn-directory", "--device", "0200.5e20.00aa"]).succeeds();
    assert!(told.contains("find the device") && told.contains("cranes"), "{told}");
    // Her certificate is the one that the directory has; his it does not have.
    let tls = |name: &str, code: i32| {
        let certificate = folder.join(format!("{name}.pem"));
        let key = folder.join(format!("{name}.key"));
        let mut command = service.try_eap(&["eap-tls"]);
        command.arg("--certificate").arg(certificate).arg("--key").arg(key).ends_with(code);
    };
    tls("ida.marsh", 0);
    let trail = last(&service, "q=ida.marsh&outcome=granted");
    assert!(trail.contains("user.department"), "{trail}");
    slapd.modify(&format!("dn: uid=ida.marsh,ou=people,{BASE}\nchangetype: modify\ndelete: userCertificate;binary\n"));
    tls("ida.marsh", 1);
    let trail = last(&service, "q=ida.marsh%20certificate&outcome=refused");
    assert!(trail.contains("it does not have this certificate for the account"), "{trail}");
    // Responses are checked by what the directory keeps.
    service.try_eap(&["peap", "--user", "ida.marsh", "--password", "Tide-Table-61"]).succeeds();
    service.try_eap(&["peap", "--user", "ida.marsh", "--password", "Tide-Table-62"]).ends_with(1);
    service.try_eap(&["peap", "--user", "mara.quay", "--password", "Dry-Dock-82"]).succeeds();
    service.try_eap(&["ttls", "--inner", "chap", "--user", "mara.quay", "--password", "Dry-Dock-82"]).succeeds();
    service.try_eap(&["peap", "--user", "tom.reed", "--password", "Winch-Oil-48"]).ends_with(1);
    // Wrong passwords lock an account for a while; its hash counts as little as its password then.
    slapd.add(&format!(
        "dn: cn=strict,{BASE}\nobjectClass: device\nobjectClass: pwdPolicy\ncn: strict\n\
         pwdAttribute: userPassword\npwdLockout: TRUE\npwdMaxFailure: 2\npwdLockoutDuration: 3\n"
    ));
    slapd.modify(&format!(
        "dn: uid=ida.marsh,ou=people,{BASE}\nchangetype: modify\nadd: pwdPolicySubentry\n\
         pwdPolicySubentry: cn=strict,{BASE}\n"
    ));
    for _ in 0..2 {
        vpn(&service, "ida.marsh@tarnmouth.example", "Tide-Table-62", 1);
    }
    let peap = ["peap", "--user", "ida.marsh", "--password", "Tide-Table-61"];
    service.try_eap(&peap).ends_with(1);
    let trail = last(&service, "q=ida.marsh%20locked&outcome=refused");
    assert!(trail.contains("locked"), "{trail}");
    let began = Instant::now();
    while service.try_eap(&peap).output().unwrap().status.code() != Some(0) {
        assert!(began.elapsed() < Duration::from_secs(10), "the lock does not end");
        std::thread::sleep(Duration::from_millis(300));
    }
    // It is not asked about another realm, whatever the gate makes of the name.
    vpn(&service, "mara.quay@tarnmouth.example", "Dry-Dock-82", 0);
    vpn(&service, "mara.quay@partner.example", "Dry-Dock-82", 1);
    let trail = last(&service, "q=mara.quay&outcome=refused");
    assert!(trail.contains("not asked: it answers for other realms"), "{trail}");
}

#[test]
fn administrators_come_from_a_directory_and_a_local_one_remains() {
    let mut slapd = Slapd::start();
    let more = "\n[administrators]\nstore = \"tarn-directory\"\nengineer = [\"customs-officers\"]\n\
                auditor = [\"STAFF\", \"cn=nobody,dc=x\"]\nlook-again-seconds = 1\n";
    let service = Running::harbour_with(more);
    slapd.connect(&service, &slapd.ldaps(), &["--keep", "600"]);
    let sign_in = |name: &str, password: &str| {
        let form = json!({ "name": name, "password": password });
        let mut answer = agent().post(format!("{}/api/v1/sign-in", service.api)).send_json(form).unwrap();
        let cookie = answer.headers().get("set-cookie").map(|one| one.to_str().unwrap().to_owned());
        let body: serde_json::Value = answer.body_mut().read_json().unwrap();
        (answer.status().as_u16(), body, cookie.unwrap_or_default().split(';').next().unwrap_or_default().to_owned())
    };
    let get = |path: &str, cookie: &str| {
        let asked = agent().get(format!("{}/api/v1/{path}", service.api)).header("cookie", cookie);
        asked.call().unwrap().status().as_u16()
    };
    // Names of the records are never asked about there, and a password of there opens nothing here.
    let (status, body, _) = sign_in("harbour", PASSWORD);
    assert_eq!((status, &body["role"]), (200, &json!("engineer")));
    assert_eq!(sign_in("nils.ferry", "Stamp-Pad-36").0, 403);
    assert_eq!(sign_in("nils.ferry", "").0, 403);
    assert_eq!(sign_in("*", "Stamp-Pad-35").0, 403);
    let (status, body, officer) = sign_in("nils.ferry", "Stamp-Pad-35");
    assert_eq!((status, &body["role"]), (200, &json!("engineer")), "{body}");
    assert!(body["name"].as_str().unwrap().contains("tarn-directory"));
    let (status, body, auditor) = sign_in("mara.quay", "Dry-Dock-82");
    assert_eq!((status, &body["role"]), (200, &json!("auditor")));
    assert_eq!(sign_in("sam.drift", "Rope-Ends-13").0, 403, "nobody of no group");
    // Spaces around a name make no other name to guess for.
    let guesses = (0..11).map(|spaces| sign_in(&format!("{}ola.nett", " ".repeat(spaces)), "Fibre-Spool-91").0);
    assert_eq!(guesses.filter(|status| *status == 429).count(), 1);
    let reveal = |cookie: &str| {
        let asked = agent().post(format!("{}/api/v1/nases/quay-sw-1/secret", service.api)).header("cookie", cookie);
        asked.send_empty().unwrap().status().as_u16()
    };
    assert_eq!((reveal(&officer), reveal(&auditor), get("audit", &auditor)), (200, 403, 200));
    let audit = service.client(&["audit", "list"]).succeeds();
    assert!(audit.contains("nils.ferry") && audit.contains("sign in"), "{audit}");
    // Whoever leaves the group leaves the console.
    slapd.modify(&format!(
        "dn: cn=customs-officers,{GROUPS}\nchangetype: modify\nreplace: member\nmember: uid=sam.drift,ou=people,{BASE}\n"
    ));
    std::thread::sleep(Duration::from_millis(1_100));
    assert_eq!((get("session", &officer), get("session", &auditor)), (401, 200));
    // While the directory is silent nobody comes in through it.
    slapd.kill();
    std::thread::sleep(Duration::from_millis(1_100));
    assert_eq!(get("session", &auditor), 401);
    let (status, body, _) = sign_in("mara.quay", "Dry-Dock-82");
    assert!(status == 403 && body["error"].as_str().unwrap().contains("does not answer"), "{body}");
    assert_eq!(sign_in("harbour", PASSWORD).0, 200);
    slapd.again();
    let began = Instant::now();
    while get("session", &auditor) != 200 {
        assert!(began.elapsed() < Duration::from_secs(30), "the directory is asked again");
        std::thread::sleep(Duration::from_millis(200));
    }
    let signed_out = agent().post(format!("{}/api/v1/sign-out", service.api)).header("cookie", &auditor).send_empty();
    assert_eq!(signed_out.unwrap().status().as_u16(), 204);
    assert_eq!(get("session", &auditor), 401);
    let last = service.client(&["audit", "list", "--json"]).succeeds();
    let last = serde_json::from_str::<serde_json::Value>(&last).unwrap()[0].clone();
    assert!(last["what"] == "sign out" && last.to_string().contains("mara.quay"), "{last}");
}

/// Whether somebody has a role is nothing that the time of a refusal tells.
#[test]
fn a_refused_sign_in_by_a_directory_takes_as_long_for_whoever_has_a_role_as_for_others() {
    let slapd = Slapd::start();
    let more = "\n[administrators]\nstore = \"tarn-directory\"\nengineer = [\"customs-officers\"]\n";
    let service = Running::harbour_with(more);
    slapd.connect(&service, &slapd.ldaps(), &["--keep", "0"]);
    let took = |name: &str, password: &str| {
        let refused = || {
            let (form, began) = (json!({ "name": name, "password": password }), Instant::now());
            let answer = agent().post(format!("{}/api/v1/sign-in", service.api)).send_json(form).unwrap();
            assert_eq!(answer.status(), 403, "{name}");
            began.elapsed()
        };
        let mut all = [refused(), refused(), refused()];
        all.sort_unstable();
        all[1].as_secs_f64()
    };
    let who = [("nils.ferry", "x"), ("sam.drift", "x"), ("sam.drift", "Rope-Ends-13"), ("nobody.here", "x")];
    let all = who.map(|(name, password)| took(name, password));
    // By more than this a busy machine may be wrong; that nothing is searched or proved would show.
    let (least, most) = all.iter().fold((f64::MAX, 0_f64), |(least, most), one| (least.min(*one), most.max(*one)));
    assert!(most < 1.5 * least + 0.05, "{all:?} s");
}

#[test]
fn a_policy_is_checked_with_the_groups_that_a_directory_has() {
    let slapd = Slapd::start();
    let service = Running::harbour();
    slapd.add(&format!("dn: ou=more,{GROUPS}\nobjectClass: organizationalUnit\nou: more\n"));
    for below in [GROUPS.to_owned(), format!("ou=more,{GROUPS}")] {
        slapd.add(&format!(
            "dn: cn=pilots,{below}\nobjectClass: groupOfNames\ncn: pilots\nmember: uid=ida.marsh,ou=people,{BASE}\n"
        ));
    }
    slapd.connect(&service, &slapd.ldaps(), &[]);
    let began = Instant::now();
    while service.get("stores/tarn-directory/offer").1["looked"].is_null() {
        assert!(began.elapsed() < Duration::from_secs(20), "it is looked at");
        std::thread::sleep(Duration::from_millis(50));
    }
    let offer = service.client(&["store", "offer", "tarn-directory"]).succeeds();
    for part in ["ou=people,dc=tarnmouth,dc=example", "customs-officers", "cn=pilots,ou=more,ou=groups"] {
        assert!(offer.contains(part), "{part}: {offer}");
    }
    let few = service.client(&["store", "offer", "tarn-directory", "CUSTOMS"]).succeeds();
    assert!(few.contains("customs-officers") && !few.contains("pilots"), "{few}");
    assert_eq!(service.get("stores/harbour/offer").0, 400);
    let told = |group: &str| {
        let folder = service.data.join("harbour");
        let policy = POLICY.replacen("identify user in harbour as", "identify user in tarn-directory, harbour as", 1);
        let first = "rule \"Staff from outside\" {";
        let rule = format!("rule \"Tried\" {{\n    when user in group \"{group}\"\n    refuse\n  }}\n  {first}");
        std::fs::write(folder.join("main.writ"), policy.replacen(first, &rule, 1)).unwrap();
        printed(&service.client(&["policy", "activate"]).arg(&folder).output().unwrap())
    };
    let wrong = told("customs-oficers");
    assert!(wrong.contains("W503") && wrong.contains("did you mean `customs-officers`?"), "{wrong}");
    let twice = told("pilots");
    assert!(twice.contains("W411") && twice.contains("write the distinguished name"), "{twice}");
    for right in ["Customs-Officers", "cn=pilots,ou=more,ou=groups,dc=tarnmouth,dc=example", "contractors"] {
        let told = told(right);
        assert!(!told.contains("W503") && !told.contains("error"), "{right}: {told}");
    }
}

/// Each code by which a server says that it cannot answer now: what it did not tell of groups is never taken for
/// what they are.
#[test]
fn a_group_that_a_server_cannot_tell_of_does_not_vanish() {
    const CODES: [u16; 6] = [1, 3, 11, 51, 52, 80];
    let slapd = Slapd::start();
    let person = |name: &str| {
        format!(
            "dn: uid={name},ou=people,{BASE}\nobjectClass: inetOrgPerson\nuid: {name}\ncn: {name}\nsn: {name}\n\
             userPassword: Rope-Ends-14\n\n"
        )
    };
    let group = |code: u16, how: &str| {
        format!(
            "dn: cn=suspended-{code},ou=groups,{BASE}\nobjectClass: groupOfNames\n{how}cn: suspended-{code}\n\
             member: uid=code-{code},ou=people,{BASE}\n\n"
        )
    };
    let asked = |code: u16| group(code, &format!("objectClass: errAuxObject\nerrCode: {code}\nerrOp: search\n"));
    let people = CODES.iter().map(|code| person(&format!("code-{code}")));
    slapd.add(&people.chain([person("code-0"), person("free")]).collect::<String>());
    slapd.add(&CODES.iter().map(|code| asked(*code)).chain([group(0, "")]).collect::<String>());
    let service = harbour_with(&slapd, &slapd.ldaps(), &["--keep", "0"]);
    let suspended = CODES.iter().chain([&0]).map(|code| format!("user in group \"suspended-{code}\""));
    let rule = format!("not ({})\n    grant remote", suspended.collect::<Vec<_>>().join(" or "));
    service.activate_with_all(&[
        ("identify user in harbour", "identify user in tarn-directory, harbour"),
        ("user in group \"staff\"\n    grant remote", &rule),
    ]);
    for code in CODES {
        let ask =
            ["pap", "--user", &format!("code-{code}"), "--password", "Rope-Ends-14", "--wait", "2", "--tries", "1"];
        let ended = service.try_from(&PILOT_VPN_1, &ask).output().unwrap();
        assert!(matches!(ended.status.code(), Some(1 | 3)), "code {code} lets them in: {}", printed(&ended));
        let trail = last(&service, &format!("q=code-{code}"));
        assert!(trail.contains("it could not say all its groups"), "code {code}: {trail}");
        // Whoever is in none of them is not kept out by that.
        vpn(&service, "free", "Rope-Ends-14", 0);
    }
    vpn(&service, "code-0", "Rope-Ends-14", 1);
}
