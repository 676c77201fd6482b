//! A real Active Directory domain controller as a store: primary and nested groups, and what it
//! says of accounts.
mod running;

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use regnant_campus::harbour::*;
use running::directory::{SEARCHER_PASSWORD, Slapd};
use running::domain::*;
use running::*;

#[test]
fn a_domain_tells_groups_and_states_and_checks_what_it_tells_no_hash_of() {
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

    let mut service = Running::harbour();
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
    let policy = policy.replacen("identify user in harbour as", "identify user in port-domain as", 1);
    let policy = policy.replacen(
        "when user in group \"staff\"\n    grant crew\n",
        "when user in group \"staff\" or user in group \"port-crew\"\n    grant crew\n",
        1,
    );
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
        ("tom.reed", "Winch-Oil-49", "the password has to be changed before it counts"),
        ("sam.drift", "Rope-Ends-13", "the account has expired"),
    ] {
        vpn(name, password, 1);
        let query = format!("q={name}%20{}&outcome=refused", reason.replace(' ', "%20"));
        assert!(sentence(&service.entries(&query, 1)[0]).contains(reason), "{name}");
    }
    let entry = service.entries("q=tom.reed&outcome=refused", 1).remove(0);
    let trail = service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1.to_string();
    assert!(trail.contains("the password has to be changed before it counts"), "{trail}");

    checks_responses(&domain, &service);
    is_not_believed_by_whoever_changes_its_answers(&domain, &service);
    takes_no_account_for_another_of_the_name(&domain, &service);

    // It goes away and comes again; what was made with it is made anew.
    domain.kill();
    vpn("ida.marsh", "Tide-Table-61", 3);
    service.try_eap(&[&PEAP[..], &["--tries", "1"]].concat()).ends_with(3);
    domain.again();
    let began = Instant::now();
    let ask = ["pap", "--user", "ida.marsh", "--password", "Tide-Table-61", "--wait", "2", "--tries", "1"];
    while service.try_from(&PILOT_VPN_1, &ask).output().unwrap().status.code() != Some(0) {
        assert!(began.elapsed() < Duration::from_secs(60), "the domain is not asked again");
    }
    while service.try_eap(&PEAP).output().unwrap().status.code() != Some(0) {
        assert!(began.elapsed() < Duration::from_secs(60), "the controller is not asked again");
    }
    is_killed_between_two_passwords(&mut service);
}

const PEAP: [&str; 5] = ["peap", "--user", "ida.marsh", "--password", "Tide-Table-61"];

/// PEAP with EAP-MSCHAPv2, and MS-CHAP bare, by the domain controller.
fn checks_responses(domain: &Domain, service: &Running) {
    let reason = |query: &str| sentence(&service.entries(query, 1)[0]);
    // Without a machine account nobody checks responses.
    service.try_eap(&PEAP).ends_with(1);
    assert!(reason("q=ida.marsh%20hash&outcome=refused").contains("no NT hash"));
    domain.join(service);
    let told = service.client(&["store", "test", "port-domain"]).succeeds();
    assert!(told.contains("prove this machine to dc1.ad.tarnmouth.example"), "{told}");
    assert!(told.contains("REGNANT$ is believed, and believes it"), "{told}");
    service.try_eap(&PEAP).succeeds();
    service.try_eap(&["peap", "--user", "IDA.Marsh@tarnmouth.example", "--password", "Tide-Table-61"]).succeeds();
    // A supplicant that is not ours has the same keys.
    let file = service.data.join("supplicant.conf");
    let authority = service.data.join("harbour/authority.pem");
    for version in ["1", "0"] {
        let text = format!(
            "network={{\n key_mgmt=IEEE8021X\n eap=PEAP\n identity=\"ida.marsh\"\n anonymous_identity=\"anonymous\"\n \
             password=\"Tide-Table-61\"\n phase2=\"auth=MSCHAPV2\"\n phase1=\"tls_disable_tlsv1_3={version}\"\n \
             ca_cert=\"{}\"\n}}\n",
            authority.display()
        );
        std::fs::write(&file, text).unwrap();
        let mut command = std::process::Command::new("eapol_test");
        command.arg("-c").arg(&file).args(["-a", "127.0.0.1", "-t", "6", "-A", &MAST_WLC_1.address.to_string()]);
        command.args(["-p", &service.radius.port().to_string(), "-s", MAST_WLC_1.secret]);
        command.ends_with(0);
    }
    // Several at once, over several connections of one channel.
    std::thread::scope(|scope| {
        (0..8).for_each(|_| {
            scope.spawn(|| service.try_eap(&PEAP).succeeds());
        });
    });
    for (name, password, why) in [
        ("ida.marsh", "Tide-Table-62", "wrong password"),
        ("lee.gone", "Old-Badge-77", "the account is disabled"),
        ("lee.gone", "Old-Badge-78", "wrong password"),
        ("tom.reed", "Winch-Oil-49", "the password has to be changed before it counts"),
        ("sam.drift", "Rope-Ends-13", "the account has expired"),
    ] {
        service.try_eap(&["peap", "--user", name, "--password", password]).ends_with(1);
        let query = format!("q={name}%20{}&outcome=refused", why.replace(' ', "%20"));
        assert!(reason(&query).contains(why), "{name}");
    }
    // A wrong password of the machine, or an account that is none.
    let change = |more: &[&str], password: &str| {
        let mut command = service.client(&[&["store", "change", "port-domain", "--ask-secret"], more].concat());
        assert!(typed(&mut command, &format!("{password}\n")).status.success());
        printed(&service.client(&["store", "test", "port-domain"]).ends_with(1))
    };
    let administrator = ["--bind-as", ADMINISTRATOR];
    let told = change(&administrator, ADMINISTRATOR_PASSWORD);
    assert!(told.contains("does not believe that we are TARN\\REGNANT$") && told.contains("machine account"), "{told}");
    let told = change(&["--machine-account", "NOBODY$"], ADMINISTRATOR_PASSWORD);
    assert!(told.contains("TARN\\NOBODY$"), "{told}");
    let told = change(&["--domain-controller", "127.0.0.1"], ADMINISTRATOR_PASSWORD);
    assert!(told.contains("127.0.0.1:135 is not reached"), "{told}");
    let back = ["--bind-as", "REGNANT$@ad.tarnmouth.example", "--machine-account", MACHINE, "--domain-controller", ""];
    let mut command = service.client(&[&["store", "change", "port-domain", "--ask-secret"], &back[..]].concat());
    assert!(typed(&mut command, &format!("{MACHINE_PASSWORD}\n")).status.success());
    service.try_eap(&PEAP).succeeds();
    // Who else is asked in its name is shown the password of the machine only where it is given anew.
    let change_controllers = |place: &str| {
        let how = ["store", "change", "port-domain", "--domain-controller", place, "--ask-secret"];
        let told = printed(&typed(&mut service.client(&how), &format!("{MACHINE_PASSWORD}\n")));
        assert!(told.contains("asked in another way"), "{told}");
    };
    // Those that the DNS names; it may know nothing of the domain, or not be there.
    for (place, why) in [
        (domain.by_dns().replace("ad.", "other."), "the DNS names no controller of other.tarnmouth.example"),
        ("dns://127.0.0.1:9/ad.tarnmouth.example".into(), "the DNS names no controller of ad.tarnmouth.example"),
    ] {
        change_controllers(&place);
        let told = printed(&service.client(&["store", "test", "port-domain"]).ends_with(1));
        assert!(told.contains(why) && told.contains("Name a DNS server of the domain"), "{told}");
        service.try_eap(&[&PEAP[..], &["--tries", "1"]].concat()).ends_with(3);
    }
    change_controllers(&domain.by_dns());
    service.try_eap(&PEAP).succeeds();
    // The machine has another password, there and here, and nobody notices.
    service.client(&["store", "new-password", "port-domain"]).succeeds();
    service.try_eap(&PEAP).succeeds();
    assert!(
        service.client(&["store", "test", "port-domain", "--person", "ida.marsh"]).succeeds().contains("is believed")
    );
    // Several at once take turns, and one whose asker is gone is brought to its end.
    let mut renewals: Vec<_> = (0..5)
        .map(|_| service.client(&["store", "new-password", "port-domain"]).stdout(Stdio::null()).spawn().unwrap())
        .collect();
    std::thread::sleep(Duration::from_millis(60));
    for gone in renewals.drain(..2) {
        killed(gone);
    }
    for mut renewal in renewals {
        assert!(renewal.wait().unwrap().success());
    }
    service.client(&["store", "new-password", "port-domain"]).succeeds();
    service.try_eap(&PEAP).succeeds();
    let other = service.client(&["store", "new-password", "harbour"]).fails(1);
    assert!(other.contains("is not asked so"), "{other}");
}

/// Somebody between here and the controller changes one byte of what it answers: nobody is let in or kept out by that,
/// and nothing is asked again.
fn is_not_believed_by_whoever_changes_its_answers(domain: &Domain, service: &Running) {
    const BETWEEN: &str = "127.0.0.83";
    let (changes, answers) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    // The mapper of ports, and those that it names.
    for port in std::iter::once(135).chain(49_152..49_172) {
        let listener = TcpListener::bind((BETWEEN, port)).unwrap();
        let (to, changes, answers) = ((domain.host(), port), changes.clone(), answers.clone());
        std::thread::spawn(move || {
            for near in listener.incoming().flatten() {
                let Ok(far) = TcpStream::connect((to.0.as_str(), to.1)) else { continue };
                let (mut near_out, mut far_in) = (near.try_clone().unwrap(), far.try_clone().unwrap());
                let (changes, answers) = (changes.clone(), answers.clone());
                std::thread::spawn(move || {
                    let mut piece = [0; 1 << 16];
                    while let Ok(got @ 1..) = far_in.read(&mut piece) {
                        // An answer of a call (C706 section 12.6.4.10), and not that it is bound: behind its head what is sealed begins.
                        if port != 135 && piece[2] == 2 {
                            answers.fetch_add(1, Ordering::SeqCst);
                            piece[30] ^= u8::from(changes.load(Ordering::SeqCst));
                        }
                        if near_out.write_all(&piece[..got]).is_err() {
                            break;
                        }
                    }
                    let _ = near_out.shutdown(std::net::Shutdown::Both);
                });
                let (mut near, mut far) = (near, far);
                std::thread::spawn(move || {
                    let _ = std::io::copy(&mut near, &mut far);
                    let _ = far.shutdown(std::net::Shutdown::Both);
                });
            }
        });
    }
    let ask_by = |place: &str| {
        let how = ["store", "change", "port-domain", "--domain-controller", place, "--ask-secret"];
        let told = printed(&typed(&mut service.client(&how), &format!("{MACHINE_PASSWORD}\n")));
        assert!(told.contains("asked in another way"), "{told}");
    };
    service.client(&["store", "new-password", "port-domain"]).succeeds();
    domain.tool(&["user", "setpassword", MACHINE, &format!("--newpassword={MACHINE_PASSWORD}")]);
    ask_by(BETWEEN);
    service.try_eap(&PEAP).succeeds();
    changes.store(true, Ordering::SeqCst);
    let before = answers.load(Ordering::SeqCst);
    // After that the link is made anew, and what proves the controller is changed too.
    for (password, why) in
        [("Tide-Table-61", "under a seal that is not its own"), ("Tide-Table-62", "checks nothing for us")]
    {
        let ask = ["peap", "--user", "ida.marsh", "--password", password, "--tries", "1", "--wait", "6"];
        let ended = service.try_eap(&ask).output().unwrap();
        assert_ne!(ended.status.code(), Some(0), "{}", printed(&ended));
        let told = service.entries("q=ida.marsh", 1).remove(0);
        let trail = service.get(&format!("journal/{}", told["id"].as_str().unwrap())).1.to_string();
        assert!(trail.contains(why), "{}: {trail}", printed(&ended));
    }
    let asked = answers.load(Ordering::SeqCst) - before;
    assert!(asked <= 6, "a question whose answer was changed is asked again: {asked} answers");
    changes.store(false, Ordering::SeqCst);
    service.try_eap(&PEAP).succeeds();
    ask_by(&domain.by_dns());
    service.try_eap(&PEAP).succeeds();
}

/// A directory that is not the domain's has people of the same names; whoever knows the password that the domain has
/// for the name proves nobody there.
fn takes_no_account_for_another_of_the_name(domain: &Domain, service: &Running) {
    domain.tool(&["computer", "create", "LOOKALIKE"]);
    domain.tool(&["user", "setpassword", "LOOKALIKE$", &format!("--newpassword={SEARCHER_PASSWORD}")]);
    domain.tool(&["user", "enable", "LOOKALIKE$"]);
    let slapd = Slapd::start();
    let people = ["una.keel", "vic.mast"];
    for name in people {
        domain.tool(&["user", "create", name, "Tide-Table-61"]);
    }
    let person = |place: &str, name: &str| {
        format!(
            "dn: uid={name},{place}\nobjectClass: inetOrgPerson\nobjectClass: elsewhere\nuid: {name}\ncn: {name}\nsn: {name}\n\
             sAMAccountName: {name}\nobjectSid:: AQUAAAAAAAUVAAAAAQAAAAIAAAADAAAATwQAAA==\n\n"
        )
    };
    let unit = |dn: &str| format!("dn: {dn}\nobjectClass: organizationalUnit\nou: strangers\n\n");
    let part = "dn: dc=ad,dc=tarnmouth,dc=example\nobjectClass: domain\ndc: ad\n\n";
    let (ours, theirs) = ("ou=strangers,dc=tarnmouth,dc=example", "ou=strangers,dc=ad,dc=tarnmouth,dc=example");
    slapd.add(&[unit(ours), person(ours, people[0]), part.into(), unit(theirs), person(theirs, people[1])].concat());
    let controllers = domain.by_dns();
    let more = ["--domain", "TARN", "--machine-account", "LOOKALIKE$", "--domain-controller", &controllers];
    slapd.connect(service, &slapd.ldaps(), &[&more[..], &["--keep", "0"]].concat());
    let folder = service.data.join("harbour");
    let policy = std::fs::read_to_string(folder.join("main.writ")).unwrap();
    let with_look_alike = policy.replace("identify user in port-domain", "identify user in tarn-directory");
    assert_ne!(policy, with_look_alike);
    std::fs::write(folder.join("main.writ"), &with_look_alike).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    for (name, base, code, why) in [
        // This one would ask the other domain's controllers, of which it has none.
        (people[0], ours, 3, "no domain controller of the account is reached"),
        (people[1], theirs, 1, "the domain controllers checked it for another account of that name"),
    ] {
        service.client(&["store", "change", "tarn-directory", "--base", base]).succeeds();
        let ask = ["peap", "--user", name, "--password", "Tide-Table-61", "--tries", "1"];
        let ended = service.try_eap(&ask).output().unwrap();
        let told = service.entries(&format!("q={name}"), 1).remove(0);
        let trail = service.get(&format!("journal/{}", told["id"].as_str().unwrap())).1.to_string();
        assert!(ended.status.code() == Some(code) && trail.contains(why), "{}: {trail}", printed(&ended));
    }
    std::fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    service.try_eap(&PEAP).succeeds();
}

fn killed(mut child: Child) {
    child.kill().unwrap();
    child.wait().unwrap();
}

/// Wherever a change of the machine's password is cut short, one of the two is known that counts.
fn is_killed_between_two_passwords(service: &mut Running) {
    for pause in [2, 8, 20, 40, 80, 130] {
        let asked = service.client(&["store", "new-password", "port-domain"]).stdout(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(pause));
        service.end("-KILL");
        killed(asked);
        *service = service.again();
        let began = Instant::now();
        while service.client(&["store", "test", "port-domain"]).output().unwrap().status.code() != Some(0) {
            assert!(began.elapsed() < Duration::from_secs(20), "after {pause} ms nobody knows the password");
            std::thread::sleep(Duration::from_millis(200));
        }
    }
    service.try_eap(&PEAP).succeeds();
}
