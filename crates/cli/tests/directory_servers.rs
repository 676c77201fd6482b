//! The way to a directory: servers that hang, die or prove nobody, and whom its secret is shown.
mod running;

use regnant_campus::harbour::*;
use regnant_certificates::Authority;
use running::directory::*;
use running::*;
use serde_json::json;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::time::{Duration, Instant};

#[test]
fn a_network_to_which_the_service_never_goes_is_met_by_no_store() {
    let dir = tempfile::tempdir().unwrap();
    let config = config_with_api(dir.path(), "127.0.0.1:0", "[outside]\nnever = [\"127.0.0.0/8\", \"::1\"]\n");
    let mut service = Running::start_with(&config, &dir.path().join("data"));
    service.open_harbour();
    let slapd = Slapd::start();
    slapd.connect(&service, &slapd.ldaps(), &[]);
    let told = printed(&service.client(&["store", "test", "tarn-directory"]).ends_with(1));
    assert!(told.contains("where this service never goes"), "{told}");
}

#[test]
fn a_secret_follows_nobody_and_what_is_tried_of_others_is_told() {
    let slapd = Slapd::start();
    let service = Running::harbour();
    slapd.connect(&service, &slapd.ldaps(), &[]);
    let change = |more: &[&str]| {
        let mut command = service.client(&[&["store", "change", "tarn-directory"], more].concat());
        printed(&command.output().unwrap())
    };
    let typed_password = |more: &[&str], password: &str| {
        let mut command = service.client(&[&["store", "test", "tarn-directory", "--ask-password"], more].concat());
        printed(&typed(&mut command, &format!("{password}\n")))
    };
    // Not when the domain changes that is asked with it, or the trust gets another authority.
    let told =
        change(&["--domain", "TARN", "--machine-account", "REGNANT$", "--domain-controller", "elsewhere.example"]);
    assert!(told.contains("Give the secret anew"), "{told}");
    let other = Authority::new("Other Authority", 1_700_000_000).unwrap().certificate().to_owned();
    let both = slapd.authority().with_file_name("both.pem");
    std::fs::write(&both, std::fs::read_to_string(slapd.authority()).unwrap() + &other).unwrap();
    let add = |input: &str| {
        let mut command = service.client(&["trust", "add", "port-directory"]);
        printed(&typed(command.arg(&both), input))
    };
    let told = add("another secret\n");
    assert!(told.contains("shown the secret of tarn-directory"), "{told}");
    assert!(!service.certificates().contains("Other Authority"), "nothing was changed");
    let told = add(&format!("{SEARCHER_PASSWORD}\n"));
    assert!(told.contains("is as the files say") && service.certificates().contains("Other Authority"), "{told}");
    // To take one away wants nothing.
    service.client(&["trust", "add", "port-directory"]).arg(slapd.authority()).succeeds();
    // What was tried stands in the audit, and is no way to guess.
    assert!(typed_password(&["--person", "ida.marsh"], "Tide-Table-61").contains("it is right"));
    let told = service.client(&["audit", "list", "try"]).succeeds();
    assert!(told.contains("a password of `ida.marsh` in store tarn-directory"), "{told}");
    let mut last = String::new();
    for _ in 0..12 {
        last = typed_password(&["--person", "tom.reed"], "guess");
    }
    assert!(last.contains("Too many"), "{last}");
}

#[test]
fn a_directory_that_is_dead_or_hangs_stops_nobody_else_and_is_asked_again() {
    let mut slapd = Slapd::start();
    let service = harbour_with(&slapd, &slapd.ldaps(), &["--keep", "0", "--time-limit", "1"]);
    vpn(&service, "mara.quay", "Dry-Dock-82", 0);
    slapd.kill();
    // Nobody knows whether she is there: silence, so that the NAS asks its next server.
    vpn(&service, "mara.quay", "Dry-Dock-82", 3);
    let trail = last(&service, "q=mara.quay&outcome=silence");
    assert!(trail.contains("no answer") && trail.contains("is not reached"), "{trail}");
    // It might have had him disabled: another store counts only where the gate says so. Whoever needs no directory
    // is served at once.
    vpn(&service, "ola.nett", "Fibre-Spool-90", 3);
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    // It is told where people look: since when, and what to do.
    let story = service.get("today").1["down"][0].clone();
    assert_eq!((story["store"].as_str(), &story["in_policy"]), (Some("tarn-directory"), &json!(true)), "{story}");
    assert!(story["why"].as_str().unwrap().contains("is not reached") && story["since"].is_string(), "{story}");
    assert!(service.get("findings").1.to_string().contains("of the store tarn-directory"));
    let shown = service.client(&["store", "show", "tarn-directory"]).succeeds();
    assert!(shown.contains("no answer for"), "{shown}");
    assert!(service.client(&["store", "list"]).succeeds().contains("does not answer"));
    let metrics = service.text("metrics");
    let labels = format!("store=\"tarn-directory\",server=\"{}\"", slapd.ldaps());
    assert!(metrics.contains(&format!("regnant_store_up{{{labels}}} 0")), "{metrics}");
    assert!(metrics.contains(&format!("regnant_store_failures_total{{{labels}}} ")), "{metrics}");
    let told = printed(&service.client(&["store", "test", "tarn-directory"]).ends_with(1));
    assert!(told.contains("is not reached") && told.contains("See whether the directory runs"), "{told}");
    slapd.again();
    served_again(&service);
    // One that hangs is waited for as long as it may take, and no longer.
    slapd.hang(true);
    vpn(&service, "mara.quay", "Dry-Dock-82", 3);
    assert!(last(&service, "q=mara.quay&outcome=silence").contains("no answer within 1 s"));
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e200007"]).ends_with(0);
    slapd.hang(false);
    served_again(&service);
}

/// A local account for the day when the directory is down.
#[test]
fn a_local_account_counts_while_the_directory_is_silent_where_the_gate_says_so() {
    let mut slapd = Slapd::start();
    let service = harbour_with(&slapd, &slapd.ldaps(), &["--keep", "0", "--time-limit", "1"]);
    let folder = service.data.join("harbour");
    let policy = std::fs::read_to_string(folder.join("main.writ")).unwrap();
    let said = policy.replace(
        "identify user in tarn-directory, harbour as lower(before(claimed.name, \"@\"))",
        "identify user in tarn-directory, harbour as lower(before(claimed.name, \"@\")) { unreachable next }",
    );
    assert_ne!(policy, said);
    std::fs::write(folder.join("main.writ"), said).unwrap();
    let told = printed(&service.client(&["policy", "activate"]).arg(&folder).output().unwrap());
    assert!(told.contains("W521") && told.contains("while `tarn-directory` is silent"), "{told}");
    service.client(&["policy", "activate", "--yes"]).arg(&folder).output().unwrap();
    slapd.kill();
    vpn(&service, "ola.nett", "Fibre-Spool-90", 0);
    let trail = last(&service, "q=ola.nett&outcome=granted");
    assert!(trail.contains("no answer") && trail.contains("right credential"), "{trail}");
    vpn(&service, "ola.nett", "Fibre-Spool-91", 3);
    vpn(&service, "mara.quay", "Dry-Dock-82", 3);
}

#[test]
fn a_server_that_hangs_holds_up_one_login_and_no_more() {
    let slapd = Slapd::start();
    let hanging = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("ldaps://localhost:{}", hanging.local_addr().unwrap().port());
    std::thread::spawn(move || hanging.incoming().flatten().collect::<Vec<_>>());
    let service = harbour_with(&slapd, &address, &["--server", &slapd.ldaps(), "--keep", "0"]);
    let mut slow = 0;
    // Over 20 s, in which it is tried again and again.
    let until = Instant::now() + Duration::from_secs(20);
    while Instant::now() < until {
        let began = Instant::now();
        vpn(&service, "mara.quay", "Dry-Dock-82", 0);
        slow += usize::from(began.elapsed() > Duration::from_millis(1_200));
        std::thread::sleep(Duration::from_millis(300));
    }
    assert!(slow <= 2, "{slow} logins waited for the server that hangs");
    let store = service.get("stores/tarn-directory").1;
    let [first, second] = &store["servers"].as_array().unwrap()[..] else { panic!("{store}") };
    assert!(first["down_for"].is_u64() && second["down_for"].is_null() && second["failed"] == 0, "{store}");
}

#[test]
fn the_second_server_answers_where_the_first_does_not() {
    let slapd = Slapd::start();
    let nobody = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let dead = format!("ldaps://localhost:{nobody}");
    let service = harbour_with(&slapd, &dead, &["--server", &slapd.ldaps(), "--keep", "0"]);
    for _ in 0..3 {
        vpn(&service, "mara.quay", "Dry-Dock-82", 0);
    }
    let store = service.get("stores/tarn-directory").1;
    let [first, second] = &store["servers"].as_array().unwrap()[..] else { panic!("{store}") };
    assert!(first["down_for"].is_u64() && second["down_for"].is_null(), "{store}");
    assert!(
        first["asked"].as_u64().unwrap() < second["asked"].as_u64().unwrap(),
        "the dead one is left alone: {store}"
    );
}

#[test]
fn a_test_says_at_which_step_the_way_ends_and_what_to_do() {
    let slapd = Slapd::start();
    let service = Running::harbour();
    slapd.connect(&service, &slapd.ldaps(), &[]);
    let test = |more: &[&str]| service.client(&[&["store", "test", "tarn-directory"], more].concat());
    let told = test(&["--person", "ida.marsh"]).succeeds();
    for part in [
        "issued by CN=Tarnmouth Directory Authority",
        "bind as cn=regnant",
        "find dc=tarnmouth",
        "uid=ida.marsh,ou=people",
        "harbour-office",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    let typed_password = |more: &[&str], password: &str| {
        printed(&typed(&mut test(&[more, &["--ask-password"]].concat()), &format!("{password}\n")))
    };
    assert!(typed_password(&["--person", "ida.marsh"], "Tide-Table-61").contains("it is right"));
    assert!(typed_password(&["--person", "ida.marsh"], "Tide-Table-62").contains("it is wrong"));
    assert!(typed_password(&["--machine", "quay-laptop-7"], "Keel-Plate-55").contains("it is right"));
    // A near form of the name is told.
    let near = printed(&test(&["--person", "ida.marsh@tarnmouth.example"]).ends_with(1));
    assert!(near.contains("nobody has it, but `ida.marsh` is there"), "{near}");
    assert!(printed(&test(&["--person", "nobody.here"]).ends_with(1)).contains("nobody has it"));
    assert!(printed(&test(&["--person", &"x".repeat(10_000)]).ends_with(1)).contains("1 to 256 bytes"));
    // Each mistake ends at its step.
    let change = |more: &[&str], password: Option<&str>| {
        let mut command = service.client(&[&["store", "change", "tarn-directory"], more].concat());
        match password {
            Some(password) => printed(&typed(command.arg("--ask-secret"), &format!("{password}\n"))),
            None => printed(&command.output().unwrap()),
        }
    };
    change(&[], Some("wrong"));
    let told = printed(&test(&[]).ends_with(1));
    assert!(told.contains("does not let") && told.contains("name or password is wrong"), "{told}");
    change(&[], Some(SEARCHER_PASSWORD));
    change(&["--base", "dc=nowhere,dc=example"], None);
    let told = printed(&test(&[]).ends_with(1));
    assert!(told.contains("dc=nowhere") && told.contains("as the directory does"), "{told}");
    change(&["--base", BASE], None);
    // A password goes to nobody but those for whom it was given.
    let told = change(&["--trust", "tarnmouth-authority"], None);
    assert!(told.contains("Give the secret anew"), "{told}");
    let told = change(&["--trust", regnant_campus::certificates::TRUST], Some(SEARCHER_PASSWORD));
    assert!(told.contains("asked in another way"), "{told}");
    let told = printed(&test(&[]).ends_with(1));
    assert!(told.contains("does not prove who it is") && told.contains("Name the trust"), "{told}");
    // What listens is no directory.
    let answers = |bytes: &'static [u8]| {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let mut stream = stream.unwrap();
                let mut asked = [0; 512];
                let _ = stream.read(&mut asked).and_then(|_| stream.write_all(bytes));
            }
        });
        format!("ldap://localhost:{port}")
    };
    for bytes in
        [&b"HTTP/1.1 400 Bad Request\r\n\r\n<html></html>"[..], b"\x30\x84\xff\xff\xff\xff", b"\0\0\0\0\0", b""]
    {
        change(&["--server", &answers(bytes)], Some(SEARCHER_PASSWORD));
        let told = printed(&test(&[]).ends_with(1));
        assert!(told.contains("connect to ldap://localhost"), "{told}");
    }
    // What makes no sense is never kept.
    for (more, why) in [
        (&["--server", "ldaps://127.0.0.1:389/x"][..], "is no address of a directory"),
        (&["--person-filter", "uid=x"], "is no filter"),
        (&["--person-name", "uid)(x"], "is no attribute"),
        (&["--trust", "nobody"], "there is no trust"),
        (&["--time-limit", "0"], "1 to 30 seconds"),
    ] {
        let told = change(more, Some(SEARCHER_PASSWORD)).to_lowercase();
        assert!(told.contains(&why.to_lowercase()), "{why}: {told}");
    }
    let removed = service.client(&["trust", "remove", regnant_campus::certificates::TRUST]).fails(1);
    assert!(removed.contains("in use"), "{removed}");
    service.client(&["store", "change", "tarn-directory", "--name", "quay-directory"]).succeeds();
    service.client(&["store", "remove", "quay-directory"]).succeeds();
}

#[test]
fn a_directory_that_dies_in_the_middle_of_load_keeps_nobody_else_waiting() {
    let mut slapd = Slapd::start();
    let service = harbour_with(&slapd, &slapd.ldaps(), &["--keep", "0", "--time-limit", "2"]);
    let over = std::sync::atomic::AtomicBool::new(false);
    let (granted, other) = std::thread::scope(|scope| {
        let people = || {
            let (mut granted, mut other) = (0, 0);
            while !over.load(std::sync::atomic::Ordering::Relaxed) {
                let ask = ["pap", "--user", "mara.quay", "--password", "Dry-Dock-82", "--wait", "3", "--tries", "1"];
                match service.try_from(&PILOT_VPN_1, &ask).output().unwrap().status.code() {
                    Some(0) => granted += 1,
                    // Silence alone: a right password is never refused for a directory that is dead.
                    Some(3) => other += 1,
                    code => panic!("refused or worse: {code:?}"),
                }
            }
            (granted, other)
        };
        let people: Vec<_> = (0..3).map(|_| scope.spawn(people)).collect();
        for turn in 0..60 {
            match turn {
                15 => slapd.kill(),
                40 => slapd.again(),
                _ => {}
            }
            let ask = ["mac", "--mac", "02-00-5E-20-00-07", "--wait", "1", "--tries", "1"];
            service.try_from(&QUAY_SW_1, &ask).ends_with(0);
        }
        over.store(true, std::sync::atomic::Ordering::Relaxed);
        let counts: Vec<(u32, u32)> = people.into_iter().map(|one| one.join().unwrap()).collect();
        (counts.iter().map(|one| one.0).sum::<u32>(), counts.iter().map(|one| one.1).sum::<u32>())
    });
    assert!(granted > 0 && other > 0, "{granted} granted, {other} without an answer");
    let began = Instant::now();
    let ask = ["pap", "--user", "mara.quay", "--password", "Dry-Dock-82", "--wait", "3", "--tries", "1"];
    while service.try_from(&PILOT_VPN_1, &ask).output().unwrap().status.code() != Some(0) {
        assert!(began.elapsed() < Duration::from_secs(30), "the directory is asked again");
    }
}
