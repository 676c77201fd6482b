//! The command line against a started service.
mod running;

use std::fs;
use std::net::UdpSocket;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use regnant_campus::harbour::*;
use running::*;
use serde_json::Value;

fn json(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn try_prints_the_reply_and_ends_with_its_outcome() {
    let service = Running::harbour();
    let crane = ["mac", "--mac", "02-00-5E-20-00-07", "--attribute", "NAS-Port=7"];
    let told = service.try_from(&QUAY_SW_1, &crane).succeeds();
    assert!(told.starts_with("● Access-Accept after "), "{told}");
    assert!(told.contains("  Tunnel-Private-Group-ID  30\n"));
    assert!(told.contains("  NAS-Filter-Rule          permit in tcp from any to 10.44.30.0/24 102,4840\n"));
    let login = ["pap", "--user", "ola.nett", "--password", "Fibre-Spool-90", "--json"];
    let reply = json(&service.try_from(&GATE_FW_1, &login).succeeds());
    assert_eq!(reply["code"], "Access-Accept");
    assert!(reply["attributes"].as_array().unwrap().iter().any(|a| a["value"] == "Administrative"));
    service.try_from(&GATE_FW_1, &["pap", "--user", "ola.nett", "--password", "wrong"]).ends_with(1);
    // Nobody in the harbour has a recoverable password.
    service.try_from(&GATE_FW_1, &["chap", "--user", "ola.nett", "--password", "Fibre-Spool-90"]).ends_with(1);
    let quick = ["mac", "--mac", "02-00-5E-20-00-07", "--wait", "1", "--tries", "1"];
    let silent = String::from_utf8(service.try_from(&STRAY_SW_9, &quick).ends_with(3).stdout).unwrap();
    assert!(silent.contains("no answer after 1 try"), "{silent}");
}

#[test]
fn try_tells_what_is_wrong_with_its_arguments() {
    let told = |args: &[&str]| regnant().args(["try", "--secret", "x"]).args(args).fails(2);
    assert!(told(&["pap"]).contains("--user"));
    assert!(told(&["mac", "--mac", "x", "--user", "y"]).contains("mac takes --mac"));
    assert!(told(&["mac", "--mac", "x", "--attribute", "NAS-Port"]).contains("write it as Name=value"));
    assert!(told(&["mac", "--mac", "x", "--attribute", "NAS-Prot=7"]).contains("no attribute `NAS-Prot`"));
    assert!(told(&["mac", "--mac", "x", "--attribute", "NAS-Port=seven"]).contains("NAS-Port cannot be `seven`"));
    assert!(told(&["mac", "--mac", "x", "--from", "192.0.2.1"]).contains("cannot send from 192.0.2.1"));
}

#[test]
fn chap_works_for_a_person_with_a_recoverable_password() {
    let service = Running::harbour();
    let file = service.data.join("chap.toml");
    let person = "[[person]]\nstore = \"harbour\"\nname = \"ola.nett\"\npassword = \"Fibre-Spool-90\"\n\
                  recoverable-password = true\ngroups = [\"network-operators\"]\n";
    fs::write(&file, person).unwrap();
    service.client(&["import"]).arg(&file).succeeds();
    service.try_from(&GATE_FW_1, &["chap", "--user", "ola.nett", "--password", "Fibre-Spool-90"]).ends_with(0);
    service.try_from(&GATE_FW_1, &["chap", "--user", "ola.nett", "--password", "Fibre-Spool-91"]).ends_with(1);
}

#[test]
fn the_journal_and_a_trail_are_read_on_the_command_line() {
    let service = Running::harbour();
    service.try_from(&GATE_FW_1, &["pap", "--user", "tom.reed", "--password", "Winch-Oil-48"]).ends_with(1);
    service.try_from(&QUAY_SW_1, &["mac", "--mac", "02005e20000a"]).ends_with(0);
    service.entries("limit=10", 2);
    let list = json(&service.client(&["journal", "--json", "tom.reed"]).succeeds());
    let id = list["entries"][0]["id"].as_str().unwrap();
    let told = service.client(&["journal"]).succeeds();
    assert_eq!(told.lines().count(), 2);
    assert!(
        told.lines().next().unwrap().ends_with("✕ tom.reed on gate-fw-1 by pap was refused: no rule applies."),
        "{told}"
    );
    assert!(service.client(&["journal", "--outcome", "granted"]).succeeds().contains("was given cranes"));
    let trail = service.client(&["trail", id]).succeeds();
    for line in
        ["heard", "gate", "proof", "identity", "rules", "grant", "reply", "tom.reed is in staff and crane-engineers."]
    {
        assert!(trail.contains(line), "{line} in {trail}");
    }
    let trail = json(&service.client(&["trail", id, "--json"]).succeeds());
    assert_eq!(trail["stations"].as_array().unwrap().len(), 7);
    assert!(service.client(&["trail", "01ARZ3NDEKTSV4RRFFQ69G5FAV"]).fails(1).contains("The journal has no entry"));
    assert!(service.client(&["trail", "no/such"]).fails(2).contains("is no id"));
}

#[test]
fn commands_without_a_token_or_a_service_say_what_to_do() {
    let service = Running::harbour();
    let told = service.client(&["journal"]).env("REGNANT_TOKEN", "wrong").fails(1);
    assert!(told.contains("Sign in first") && told.contains("regnant sign-in"), "{told}");
    let missing = regnant().args(["journal", "--api", &service.api, "--token-file", "/nonexistent/token"]).fails(1);
    assert!(missing.contains("/nonexistent/token cannot be read"), "{missing}");
    let gone = service.client(&["journal", "--api", "http://127.0.0.1:9"]).fails(1);
    assert!(gone.contains("cannot be reached") && gone.contains("is it running"), "{gone}");
}

#[test]
fn sign_in_keeps_a_token_that_only_its_owner_reads() {
    let service = Running::harbour();
    let file = service.data.join("my/token");
    let sign_in = |password: &str| {
        let shell =
            format!("echo {password} | {} sign-in --user harbour --api {}", env!("CARGO_BIN_EXE_regnant"), service.api);
        let mut command = std::process::Command::new("sh");
        command.args(["-c", &shell]).env("REGNANT_TOKEN_FILE", &file);
        command
    };
    assert!(sign_in("wrong").fails(1).contains("Name or password is wrong"));
    sign_in(PASSWORD).succeeds();
    assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    service.client(&["journal"]).env_remove("REGNANT_TOKEN").env("REGNANT_TOKEN_FILE", &file).succeeds();
}

#[test]
fn check_ends_with_0_1_2_or_3() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("main.writ");
    let check = |text: &str, code: i32| {
        fs::write(&file, text).unwrap();
        String::from_utf8(regnant().args(["policy", "check"]).arg(dir.path()).ends_with(code).stdout).unwrap()
    };
    let told = check(POLICY, 0);
    assert!(told.contains("2 warnings, 13 cases passed; a decision takes at most "), "{told}");
    assert!(told.contains("W508: gate `switch-ports` is watched") && told.contains("W516"), "{told}");
    let told = check(&POLICY.replace("when device.barred", "when device.bared"), 1);
    assert!(told.contains("did you mean `device.barred`?") && told.contains("main.writ:"), "{told}");
    let told = check(&POLICY.replace("vlan 30\n", "vlan 31\n"), 3);
    assert!(told.contains("the grant does not say `vlan 30`"), "{told}");
    let told = check(&POLICY.replace("vlan 30\n", "role \"a\" filter \"b\"\n"), 1);
    assert!(told.contains("both go into Filter-Id"), "{told}");
    fs::write(&file, POLICY).unwrap();
    let report = json(&regnant().args(["policy", "check", "--json"]).arg(&file).succeeds());
    assert_eq!(report["cases"].as_array().unwrap().len(), 13);
    assert!(regnant().args(["policy", "check", "/nonexistent"]).fails(2).contains("cannot be read"));
}

#[test]
fn a_policy_that_does_not_check_leaves_the_active_one() {
    let service = Running::harbour();
    let file = service.data.join("changed.writ");
    let activate = |text: &str| {
        fs::write(&file, text).unwrap();
        let mut command = service.client(&["policy", "activate"]);
        command.arg(&file);
        command
    };
    assert!(activate("gate g {").fails(1).contains("cannot be activated: 1 error"));
    assert!(activate(&POLICY.replace("in harbour-devices", "in harbor-devices")).fails(1).contains("4 errors"));
    assert!(activate(&POLICY.replace("vlan 40", "vlan 41")).succeeds().contains("edition 5 is active"));
    let told = service.try_from(&YARD_SW_1, &["mac", "--mac", "02005e400001"]).succeeds();
    assert!(told.contains("Tunnel-Private-Group-ID  41"), "{told}");
    let late = activate(POLICY).args(["--expected", "4"]).fails(1);
    assert!(late.contains("Edition 5 is active and you began with edition 4"), "{late}");
}

#[test]
fn serve_says_what_keeps_it_from_starting() {
    let dir = tempfile::tempdir().unwrap();
    let data = dir.path().join("data");
    let serve = |config: &std::path::Path| {
        let mut command = regnant();
        command.args(["serve", "--config"]).arg(config).arg("--data").arg(&data);
        command
    };
    assert!(serve(&dir.path().join("none.toml")).fails(2).contains("none.toml cannot be read"));
    let wrong = dir.path().join("wrong.toml");
    fs::write(&wrong, "[radius]\nauthentification = []\n").unwrap();
    let told = serve(&wrong).fails(1);
    assert!(told.contains("wrong.toml") && told.contains("line 2") && told.contains("authentification"), "{told}");

    let taken = UdpSocket::bind("127.0.0.1:0").unwrap();
    let busy = config(dir.path(), &taken.local_addr().unwrap().to_string(), "127.0.0.1:0");
    assert!(serve(&busy).fails(1).contains("RADIUS cannot listen on"));
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let busy = config(dir.path(), "127.0.0.1:0", &listener.local_addr().unwrap().to_string());
    assert!(serve(&busy).fails(1).contains("the port is in use"));

    let service = Running::start(&data);
    let told = serve(&dir.path().join("regnant.toml")).fails(1);
    assert!(told.contains("is in use by another service"), "{told}");
    drop(service);
    let key = data.join("sealing.key");
    assert_eq!(fs::metadata(&key).unwrap().permissions().mode() & 0o777, 0o600);
    fs::set_permissions(&key, fs::Permissions::from_mode(0o644)).unwrap();
    let told = serve(&dir.path().join("regnant.toml")).fails(1);
    assert!(told.contains("chmod 600"), "{told}");
}

#[test]
fn a_policy_is_read_whatever_its_line_ends_and_not_to_the_end_of_what_has_none() {
    let folder = tempfile::tempdir().unwrap();
    let check = |text: &str, code| {
        let file = folder.path().join("main.writ");
        fs::write(&file, text).unwrap();
        String::from_utf8(regnant().args(["policy", "check"]).arg(&file).ends_with(code).stdout).unwrap()
    };
    check("\u{feff}# with a mark before it\r\ngate nobody { otherwise refuse }\r\n", 0);
    // A comment of old ends at the old sign: what follows is not hidden by it.
    let told = check("# a comment\rgate nobody { othrwise refuse }\r", 1);
    assert!(told.contains("main.writ:2:15"), "{told}");
    let told = check("# nothing\n", 1);
    assert!(told.contains("the policy has no gate") && told.contains("gate nobody { otherwise refuse }"), "{told}");
    let told = check(&format!("gate a {{ {} }}", "accept nothing ".repeat(60_000)), 1);
    assert!(told.lines().all(|line| line.chars().count() < 400) && told.len() < 100_000, "{}", told.len());
    let told = String::from_utf8(regnant().args(["policy", "check", "/dev/zero"]).ends_with(1).stdout).unwrap();
    assert!(told.contains("W100"), "{told}");
    assert!(regnant().args(["policy", "check", "/nowhere"]).fails(2).contains("cannot be read"));
    assert!(regnant().args(["serve", "--config", "/nowhere", "--data", "/tmp/x"]).fails(2).contains("cannot be read"));
}

#[test]
fn a_configuration_that_nobody_could_mean_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("regnant.toml");
    for (text, told) in [
        ("[radius]\nauthentication = []\n", "names no address"),
        ("[radius]\nconversation_seconds = 0\n", "is 1 to 300"),
        ("[radius]\nauthentification = []\n", "unknown field"),
    ] {
        fs::write(&file, text).unwrap();
        let mut serve = regnant();
        serve.args(["serve", "--config"]).arg(&file).arg("--data").arg(folder.path().join("data"));
        let said = serve.fails(1);
        assert!(said.contains(told), "{said}");
        assert!(!folder.path().join("data").exists());
    }
}

#[test]
fn a_reader_that_has_seen_enough_ends_a_command_quietly() {
    let service = Running::harbour();
    for last in 1..=9 {
        service.try_from(&QUAY_SW_1, &["mac", "--mac", &format!("02005e20000{last}")]).ends_with(0);
    }
    service.entries("limit=9", 9);
    let mut child = service.client(&["journal"]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    // Closed before anything was written.
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stderr), "");
}

#[test]
fn a_port_where_nobody_listens_is_told_as_that() {
    let free = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let port = free.local_addr().unwrap();
    drop(free);
    let mut ask = regnant();
    ask.args(["try", "mac", "--mac", "02005e200007", "--from", "127.0.0.11", "--secret", "bollard-9-anchor"]);
    ask.args(["--server", &port.to_string(), "--wait", "1", "--tries", "2"]);
    let told = String::from_utf8(ask.ends_with(3).stdout).unwrap();
    assert!(told.contains("nobody listens at") && !told.contains("secret"), "{told}");
}

#[test]
fn a_name_that_would_steer_a_terminal_is_shown_and_does_not() {
    let service = Running::harbour();
    let name = "ida\x1b[2J\x1b]0;x\x07\u{9b}1m\u{202e}";
    service.try_from(&GATE_FW_1, &["pap", "--user", name, "--password", "x"]).ends_with(1);
    let id = service.entries("limit=1", 1)[0]["id"].as_str().unwrap().to_owned();
    let trail = service.client(&["trail", &id]).succeeds();
    let journal = service.client(&["journal"]).succeeds();
    let json = service.client(&["trail", "--json", &id]).succeeds();
    for shown in [&trail, &journal, &json] {
        let steers = |c: char| (c.is_control() && c != '\n') || c == '\u{202e}';
        assert!(!shown.contains(steers), "{shown:?}");
    }
    assert!(journal.contains("ida\\u{1b}[2J"), "{journal}");
}

#[test]
fn a_wrong_inventory_says_where_and_changes_nothing() {
    let service = Running::harbour();
    let file = service.data.join("wrong.toml");
    let import = |text: &str| {
        fs::write(&file, text).unwrap();
        service.client(&["import"]).arg(&file).fails(1)
    };
    let told = import("[[nas]]\nname = \"x\"\nadress = \"10.0.0.1\"\n");
    assert!(told.contains("wrong.toml") && told.contains("line 3"), "{told}");
    let two = "[[nas]]\nname = \"a\"\naddress = \"10.0.0.1\"\nkind = \"switch\"\nsite = \"s\"\nsecret = \"gantry-4-lashing\"\n";
    let told = import(&format!("{two}{}", two.replace("\"a\"", "\"b\"")));
    assert!(told.contains("same address"), "{told}");
    assert_eq!(service.get("nases").1["nases"].as_array().unwrap().len(), 6);
}

#[test]
fn help_and_version_are_there_for_every_command() {
    for command in
        ["serve", "demo", "policy", "try", "journal", "trail", "certificate", "trust", "profile", "import", "sign-in"]
    {
        assert!(regnant().args([command, "--help"]).succeeds().contains("Usage: regnant"));
    }
    assert!(regnant().arg("--version").succeeds().starts_with("regnant "));
    regnant().arg("frobnicate").fails(2);
}
