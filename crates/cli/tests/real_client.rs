//! A RADIUS client and supplicant that is not ours: eapol_test (Debian's package
//! `eapoltest`). Exit code 0 means success *and* the same keys at both ends; it
//! drops every reply whose authenticators are wrong.
mod running;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use regnant_campus::Nas;
use regnant_campus::certificates::SERVER;
use regnant_campus::harbour::*;
use regnant_certificates::{Order, Purpose, Responder};
use running::directory::{BASE, Slapd, harbour_with};
use running::issuer::{authority, now, serve_ocsp};
use running::*;

/// The same program built with TEAP, where it lies beside the work tree.
const WITH_TEAP: &str = "../../../shared/tools/eapol_test-teap";
const REFUSED: i32 = 252;

struct Supplicant<'s> {
    service: &'s Running,
    program: PathBuf,
    /// Further lines of its configuration, `FILES` being the folder of certificates.
    lines: Vec<String>,
    again: u32,
    without_keys: bool,
    secret: &'static str,
    nas: Nas,
}

impl<'s> Supplicant<'s> {
    fn new(service: &'s Running, method: &str, lines: &[&str]) -> Self {
        let mut all = vec![format!("eap={method}")];
        all.extend(lines.iter().map(|line| (*line).to_owned()));
        let nas = MAST_WLC_1;
        Self {
            service,
            program: "eapol_test".into(),
            lines: all,
            again: 0,
            without_keys: false,
            secret: nas.secret,
            nas,
        }
    }

    /// Runs to the end and gives exit code and newest journal entry.
    fn ends(&self, code: i32) -> serde_json::Value {
        let before = self.newest();
        let files = self.service.data.join("harbour");
        let mut text = format!("network={{\n key_mgmt=IEEE8021X\n ca_cert=\"{}/authority.pem\"\n", files.display());
        for line in &self.lines {
            text += &format!(" {}\n", line.replace("FILES", &files.display().to_string()));
        }
        let file = self.service.data.join("supplicant.conf");
        fs::write(&file, text + "}\n").unwrap();
        let mut command = Command::new(&self.program);
        command.arg("-c").arg(&file).args(["-a", "127.0.0.1", "-t", "6", "-r", &self.again.to_string()]);
        command.args(["-p", &self.service.radius.port().to_string(), "-A", &self.nas.address.to_string()]);
        command.args(["-s", self.secret]);
        if self.without_keys {
            command.arg("-n");
        }
        let output = command.output().expect("eapol_test starts; install Debian's eapoltest");
        let told = String::from_utf8_lossy(&output.stdout);
        assert_eq!(output.status.code(), Some(code), "{:?}\n{told}", self.lines);
        for _ in 0..200 {
            let entry = self.newest();
            if entry["id"] != before["id"] {
                return entry;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        serde_json::Value::Null
    }

    fn newest(&self) -> serde_json::Value {
        let (_, list) = self.service.get(&format!("journal?limit=1&q={}", self.nas.name));
        list["entries"][0].clone()
    }

    /// Succeeds with the same keys, and the journal says so.
    fn is_given(&self, grant: &str) {
        let told = sentence(&self.ends(0));
        assert!(told.contains(&format!("was given {grant} ")), "{told}");
    }

    /// Fails, and the journal says why.
    fn is_refused(&self, reason: &str) {
        let told = sentence(&self.ends(REFUSED));
        assert!(told.contains("was refused") && told.contains(reason), "{told}");
    }
}

const IDA: [&str; 2] = ["identity=\"ida.marsh\"", "password=\"Tide-Table-61\""];
const CERTIFICATE: [&str; 2] = ["client_cert=\"FILES/ida.marsh.pem\"", "private_key=\"FILES/ida.marsh.key\""];
const INNER_CERTIFICATE: [&str; 3] = [
    "ca_cert2=\"FILES/authority.pem\"",
    "client_cert2=\"FILES/ida.marsh.pem\"",
    "private_key2=\"FILES/ida.marsh.key\"",
];
const VERSIONS: [&str; 2] = ["phase1=\"tls_disable_tlsv1_3=1\"", "phase1=\"tls_disable_tlsv1_3=0\""];

fn with<'a>(parts: &[&[&'a str]]) -> Vec<&'a str> {
    parts.concat()
}

#[test]
fn certificates_and_tunnels_succeed_with_both_versions_of_tls() {
    let service = Running::harbour();
    for version in VERSIONS {
        let tls = with(&[&["identity=\"anonymous\"", version], &CERTIFICATE]);
        Supplicant::new(&service, "TLS", &tls).is_given("crew");
        let fragments = with(&[&tls, &["fragment_size=500"]]);
        Supplicant::new(&service, "TLS", &fragments).is_given("crew");
        for inner in ["MSCHAPV2", "GTC"] {
            let phase2 = format!("phase2=\"auth={inner}\"");
            let lines = with(&[&IDA, &["anonymous_identity=\"anonymous\"", version, &phase2, "fragment_size=500"]]);
            Supplicant::new(&service, "PEAP", &lines).is_given("crew");
        }
        let peap_tls = with(&[&IDA, &["phase2=\"auth=TLS\"", version], &INNER_CERTIFICATE]);
        Supplicant::new(&service, "PEAP", &peap_tls).is_given("crew");
        for inner in ["auth=PAP", "auth=MSCHAP", "auth=MSCHAPV2", "autheap=MSCHAPV2", "autheap=GTC"] {
            let phase2 = format!("phase2=\"{inner}\"");
            let sam = ["identity=\"sam.drift\"", "password=\"Rope-Ends-13\"", version, &phase2];
            Supplicant::new(&service, "TTLS", &sam).is_given("agents");
        }
        let ttls_tls = with(&[&IDA, &["phase2=\"autheap=TLS\"", version], &INNER_CERTIFICATE]);
        Supplicant::new(&service, "TTLS", &ttls_tls).is_given("crew");
    }
    for binding in ["0", "1", "2"] {
        let phase1 = format!("phase1=\"peapver=0 crypto_binding={binding}\"");
        Supplicant::new(&service, "PEAP", &with(&[&IDA, &["phase2=\"auth=MSCHAPV2\"", &phase1]])).is_given("crew");
    }
}

#[test]
fn sessions_are_resumed_three_times_over() {
    let service = Running::harbour();
    for version in VERSIONS {
        let tls = with(&[&["identity=\"anonymous\"", version], &CERTIFICATE]);
        let peap = with(&[&IDA, &["phase2=\"auth=MSCHAPV2\"", version]]);
        let ttls = with(&[&IDA, &["phase2=\"auth=PAP\"", version]]);
        for (method, lines) in [("TLS", &tls), ("PEAP", &peap), ("TTLS", &ttls)] {
            let mut supplicant = Supplicant::new(&service, method, lines);
            supplicant.again = 3;
            let entry = supplicant.ends(0);
            assert!(sentence(&entry).contains("was given crew"));
            let (_, detail) = service.get(&format!("journal/{}", entry["id"].as_str().unwrap()));
            let line = detail["stations"][2]["line"].as_str().unwrap();
            assert!(line.contains("resumed"), "{method} {version}: {line}");
        }
    }
}

/// A directory that does not say when a password was changed: a resumption could only be refused, and the
/// supplicant would wait for a minute. None is offered, and each login is a whole one.
#[test]
fn what_could_not_be_told_again_is_proved_again_in_each_login() {
    let slapd = Slapd::start();
    let service = harbour_with(&slapd, &slapd.ldaps(), &["--keep", "0"]);
    let mara = ["identity=\"mara.quay\"", "password=\"Dry-Dock-82\"", "anonymous_identity=\"anonymous\""];
    for (method, phase2) in [("PEAP", "phase2=\"auth=GTC\""), ("TTLS", "phase2=\"auth=PAP\"")] {
        let mut supplicant = Supplicant::new(&service, method, &with(&[&mara, &[phase2]]));
        supplicant.again = 2;
        let begun = Instant::now();
        let entry = supplicant.ends(0);
        assert!(begun.elapsed() < Duration::from_secs(20), "{method}: {:?}", begun.elapsed());
        let (_, detail) = service.get(&format!("journal/{}", entry["id"].as_str().unwrap()));
        assert!(!detail["stations"][2]["line"].as_str().unwrap().contains("resumed"), "{method}");
    }
    assert_eq!(service.get("health").1["packets"]["resumable"], 0);
    // Where it says so, the session is resumed.
    let changed = format!(
        "dn: uid=mara.quay,ou=people,{BASE}\nchangetype: modify\nreplace: userPassword\nuserPassword: Dry-Dock-82\n"
    );
    slapd.modify(&changed);
    let mut supplicant = Supplicant::new(&service, "PEAP", &with(&[&mara, &["phase2=\"auth=GTC\""]]));
    supplicant.again = 2;
    let entry = supplicant.ends(0);
    let (_, detail) = service.get(&format!("journal/{}", entry["id"].as_str().unwrap()));
    assert!(detail["stations"][2]["line"].as_str().unwrap().contains("resumed"));
}

#[test]
fn what_is_wrong_is_refused_and_told() {
    let service = Running::harbour();
    let peap = |identity: &str, password: &str| {
        let (identity, password) = (format!("identity=\"{identity}\""), format!("password=\"{password}\""));
        Supplicant::new(&service, "PEAP", &[&identity, &password, "phase2=\"auth=MSCHAPV2\""])
    };
    peap("ida.marsh", "Tide-Table-62").is_refused("wrong password");
    peap("max.fern", "Sail-Cloth-02").is_refused("no store knows the user");
    peap("lee.gone", "Old-Badge-77").is_refused("the account is disabled");
    let ttls = |password: &str| {
        let password = format!("password=\"{password}\"");
        Supplicant::new(&service, "TTLS", &["identity=\"sam.drift\"", &password, "phase2=\"auth=PAP\""])
    };
    ttls("Rope-Ends-14").is_refused("wrong password");
    for version in VERSIONS {
        for (name, reason) in [("expired", "expired"), ("revoked", "revoked")] {
            let own = [format!("client_cert=\"FILES/{name}.pem\""), format!("private_key=\"FILES/{name}.key\"")];
            let lines = ["identity=\"anonymous\"", version, &own[0], &own[1]];
            Supplicant::new(&service, "TLS", &lines).is_refused(&format!("its certificate was refused: {reason}"));
        }
        let distrust = ["ca_cert=\"FILES/stranger.pem\"", "identity=\"sam.drift\"", "password=\"x\"", version];
        let reason = "the supplicant does not trust our server certificate";
        Supplicant::new(&service, "TTLS", &with(&[&distrust, &["phase2=\"auth=PAP\""]])).is_refused(reason);
    }
    let mut other = Supplicant::new(&service, "MD5", &IDA);
    other.without_keys = true;
    let told = sentence(&other.ends(253));
    assert!(told.contains("the supplicant wants eap-md5, which the gate does not accept"), "{told}");
    other.secret = "not-the-secret";
    other.ends(254);
    assert!(sentence(&service.entries("outcome=unheard", 1)[0]).contains("the shared secret differs"));
}

#[test]
fn methods_without_a_tunnel_and_chap_inside_one_work_where_a_policy_accepts_them() {
    let service = Running::harbour();
    let policy = "grant crew { vlan 20 }
gate wired {
  when request.carrier = eap
  accept eap-md5, eap-mschapv2, eap-gtc, ttls(chap, eap-md5)
  present certificate \"radius.tarnmouth.example\"
  identify user in harbour
  resume never
  otherwise grant crew
}";
    let folder = service.data.join("bare");
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    let person = "[[person]]\nstore = \"harbour\"\nname = \"ida.marsh\"\npassword = \"Tide-Table-61\"\n\
        mschap = true\nrecoverable-password = true\n";
    fs::write(folder.join("people.toml"), person).unwrap();
    service.client(&["import"]).arg(folder.join("people.toml")).succeeds();
    for method in ["MD5", "GTC"] {
        let mut supplicant = Supplicant::new(&service, method, &IDA);
        supplicant.without_keys = true;
        supplicant.is_given("crew");
    }
    Supplicant::new(&service, "MSCHAPV2", &IDA).is_given("crew");
    Supplicant::new(&service, "TTLS", &with(&[&IDA, &["phase2=\"auth=CHAP\""]])).is_given("crew");
    let mut never = Supplicant::new(&service, "TTLS", &with(&[&IDA, &["phase2=\"autheap=MD5\""]]));
    never.again = 1;
    let entry = never.ends(0);
    let (_, detail) = service.get(&format!("journal/{}", entry["id"].as_str().unwrap()));
    assert!(!detail["stations"][2]["line"].as_str().unwrap().contains("resumed"));
}

#[test]
fn a_gate_that_demands_it_gives_nothing_without_crypto_binding() {
    let service = Running::harbour();
    let policy = "grant crew { vlan 20 }
gate wired {
  when request.carrier = eap
  accept peap(eap-mschapv2) bound
  present certificate \"radius.tarnmouth.example\"
  identify user in harbour
  resume never
  rule \"Crew\" {\n    when user.proved\n    grant crew\n  }
  otherwise refuse
}";
    let folder = service.data.join("bound");
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    let ask = |binding: u8| {
        let phase1 = format!("phase1=\"peapver=0 crypto_binding={binding}\"");
        Supplicant::new(&service, "PEAP", &with(&[&IDA, &["phase2=\"auth=MSCHAPV2\"", &phase1]]))
    };
    ask(2).is_given("crew");
    ask(0).is_refused("does not prove that tunnel and inner method belong together");
}

/// The supplicant's own reader takes the profile, and its owner gets in with it.
#[test]
fn a_supplicant_with_the_profile_of_its_gate_trusts_the_right_server() {
    let service = Running::harbour();
    let profile = |method: &str| {
        let args = ["profile", "make", "--gate", "crew-network", "--for", "wpa-supplicant", "--method", method];
        service.client(&args).succeeds()
    };
    for (method, password) in [("peap", "Tide-Table-61"), ("ttls", "Tide-Table-61")] {
        let filled = profile(method)
            .replace("identity=\"\"", "identity=\"ida.marsh\"")
            .replace("password=\"\"", &format!("password=\"{password}\""));
        let file = service.data.join(format!("{method}.conf"));
        fs::write(&file, filled).unwrap();
        let mut command = Command::new("eapol_test");
        command.arg("-c").arg(&file).args(["-a", "127.0.0.1", "-t", "6", "-A", &MAST_WLC_1.address.to_string()]);
        command.args(["-p", &service.radius.port().to_string(), "-s", MAST_WLC_1.secret]);
        command.ends_with(0);
    }
    let none = service.client(&["profile", "make", "--gate", "vpn", "--for", "apple"]).fails(1);
    assert!(none.contains("presents no certificate"), "{none}");
    let unknown = service.client(&["profile", "make", "--gate", "crew", "--for", "apple"]).fails(1);
    assert!(unknown.contains("there are: crew-network"), "{unknown}");
}

/// Where the program with TEAP lies; none where whoever runs the tests says that
/// there is none on purpose (`make test` says so where it finds none).
fn client_with_teap() -> Option<PathBuf> {
    let program = match std::env::var("REGNANT_TEAP_CLIENT") {
        Ok(told) if told == "absent" => return None,
        Ok(told) => PathBuf::from(told),
        Err(_) => Path::new(env!("CARGO_MANIFEST_DIR")).join(WITH_TEAP),
    };
    assert!(
        program.exists(),
        "{} is missing: build eapol_test with CONFIG_EAP_TEAP=y and name it in REGNANT_TEAP_CLIENT, \
         or say REGNANT_TEAP_CLIENT=absent",
        program.display()
    );
    Some(program)
}

#[test]
fn our_own_peer_proves_user_and_machine_by_teap() {
    let service = Running::harbour();
    let mut asked = service.try_eap(&["teap", "--user", "ida.marsh", "--password", "Tide-Table-61"]);
    asked.args(["--machine", "host/quay-laptop-7", "--machine-password", "Keel-Plate-55"]);
    assert!(asked.succeeds().contains("crew-managed"));
}

#[test]
fn teap_proves_user_machine_and_both() {
    let Some(program) = client_with_teap() else {
        println!("told that there is no client with TEAP");
        return;
    };
    let service = Running::harbour();
    let machine = [
        "machine_identity=\"host/quay-laptop-7\"",
        "machine_password=\"Keel-Plate-55\"",
        "machine_phase2=\"auth=MSCHAPV2\"",
    ];
    let ask = |lines: &[&str]| {
        let all = with(&[lines, &["pac_file=\"blob://teap\"", "phase2=\"auth=MSCHAPV2\""]]);
        let mut supplicant = Supplicant::new(&service, "TEAP", &all);
        supplicant.program = program.clone();
        supplicant
    };
    ask(&IDA).is_given("crew");
    // What it does about a refusal does not hide why it was refused.
    ask(&["identity=\"ida.marsh\"", "password=\"x\""]).is_refused("wrong password");
    // The machine's own name is all that it has to say for a user.
    let itself = ["identity=\"host/quay-laptop-7\"", "password=\"Keel-Plate-55\""];
    ask(&with(&[&itself, &machine])).is_given("machines");
    ask(&with(&[&IDA, &machine])).is_given("crew-managed");
    // A machine that proves nothing, at a gate that goes on: whoever stops at that has an end, and is not left alone.
    let wrong =
        ["machine_identity=\"host/quay-laptop-7\"", "machine_password=\"x\"", "machine_phase2=\"auth=MSCHAPV2\""];
    let begun = Instant::now();
    let told = sentence(&ask(&with(&[&IDA, &wrong])).ends(REFUSED));
    assert!(told.contains("it says that the TEAP tunnel failed"), "{told}");
    assert!(begun.elapsed() < Duration::from_secs(5), "it waited for {:?}", begun.elapsed());
    // EAP-TLS has an EMSK too; both ends must still have the same keys.
    let tls =
        with(&[&["identity=\"anonymous\"", "pac_file=\"blob://teap\"", "phase2=\"auth=TLS\""], &INNER_CERTIFICATE]);
    let mut supplicant = Supplicant::new(&service, "TEAP", &tls);
    supplicant.program = program.clone();
    // The machine was proved from this device before, and is remembered.
    supplicant.is_given("crew-managed");
}

#[test]
fn our_certificate_comes_with_its_issuers_word_that_it_is_not_revoked() {
    let service = Running::harbour();
    let authority = authority(&service);
    let responder = Arc::new(Mutex::new(Some(Responder::new(authority.key(), None).unwrap())));
    let url = serve_ocsp(responder.clone());
    let import = |serial: u64, url: &str| {
        let order = Order {
            common_name: SERVER.into(),
            dns: vec![SERVER.into()],
            upn: Vec::new(),
            purpose: Purpose::Server,
            not_before: now() - 60,
            not_after: now() + 86_400,
            serial,
            ocsp: Some(url.to_owned()),
        };
        let issued = authority.issue(&order).unwrap();
        let file = service.data.join("own.pem");
        fs::write(&file, format!("{}{}", issued.certificate, issued.key)).unwrap();
        service.client(&["certificate", "import", "--name", SERVER]).arg(&file).succeeds();
    };
    import(70, &url);
    assert!(service.certificates().contains("its issuer's word that it is not revoked"));
    for version in VERSIONS {
        let insisting = with(&[&IDA, &["ocsp=2", "phase2=\"auth=MSCHAPV2\"", version]]);
        Supplicant::new(&service, "PEAP", &insisting).is_given("crew");
        let tls = with(&[&["identity=\"anonymous\"", "ocsp=2", version], &CERTIFICATE]);
        Supplicant::new(&service, "TLS", &tls).is_given("crew");
    }
    // Where nobody answers, none is presented: a supplicant that insists says so.
    *responder.lock().unwrap() = Some(Responder::new(authority.key(), None).unwrap());
    import(71, "http://127.0.0.1:9/");
    let told = service.certificates();
    assert!(told.contains("No OCSP response is to be had for it: http://127.0.0.1:9/:"), "{told}");
    let insisting = with(&[&IDA, &["ocsp=2", "phase2=\"auth=MSCHAPV2\"", VERSIONS[1]]]);
    Supplicant::new(&service, "PEAP", &insisting).is_refused("does not trust our server certificate");
}
