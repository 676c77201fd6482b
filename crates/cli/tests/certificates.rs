//! Certificates as administrators handle them, and 802.1X as it follows.
mod running;

use std::fs;
use std::process::Command;
use std::sync::{Arc, Mutex};

use regnant_campus::certificates::{SERVER, TRUST};
use regnant_certificates::{Authority, Order, Purpose, Responder, Says};
use running::issuer::{answer_http, authority, now, serve_ocsp};
use running::*;
use serde_json::json;

fn order(name: &str, days: i64) -> Order {
    Order {
        common_name: name.into(),
        dns: vec![name.into()],
        upn: Vec::new(),
        purpose: Purpose::Server,
        not_before: now() - 86_400,
        not_after: now() + days * 86_400 + 3_600,
        serial: 7,
        ocsp: None,
    }
}

fn peap(service: &Running) -> Command {
    service.try_eap(&["peap", "--user", "ida.marsh", "--password", "Tide-Table-61"])
}

fn eap_tls(service: &Running, name: &str) -> Command {
    let file = |ending: &str| service.data.join("harbour").join(format!("{name}.{ending}"));
    let mut asked = service.try_eap(&["eap-tls", "--user", name]);
    asked.arg("--certificate").arg(file("pem")).arg("--key").arg(file("key"));
    asked
}

#[test]
fn a_machine_that_proved_itself_is_remembered_over_a_crash() {
    let mut service = Running::harbour();
    let [by_certificate, by_password, third] =
        ["02-00-5E-10-00-41", "02-00-5E-10-00-42", "02-00-5E-10-00-43"].map(|mac| ["--mac", mac]);
    eap_tls(&service, "quay-laptop-7").args(by_certificate).succeeds();
    let machine = ["peap", "--user", "host/quay-laptop-7", "--password", "Keel-Plate-55"];
    service.try_eap(&machine).args(by_password).succeeds();
    // A crash loses at most what was decided in the last 100 ms.
    service.entries("outcome=granted", 2);
    service.end("-KILL");
    let mut again = Running::start(&service.data);
    again.token = service.token.clone();
    let user = |place: [&str; 2]| {
        let mut asked = peap(&again);
        asked.args(place);
        asked.succeeds()
    };
    for place in [by_certificate, by_password] {
        let told = user(place);
        assert!(told.contains("crew-managed"), "{told}");
    }
    assert!(!user(third).contains("crew-managed"), "nobody proved a machine there");
    let id = again.entries("q=crew-managed", 2)[1]["id"].as_str().unwrap().to_owned();
    let (_, detail) = again.get(&format!("journal/{id}"));
    assert!(detail.to_string().contains("remembered, eap-tls"), "{detail}");

    // Another password ends what the old one proved.
    let folder = again.data.join("harbour");
    let inventory =
        fs::read_to_string(folder.join("inventory.toml")).unwrap().replace("Keel-Plate-55", "Keel-Plate-56");
    fs::write(folder.join("inventory.toml"), inventory).unwrap();
    again.client(&["import"]).arg(folder.join("inventory.toml")).succeeds();
    assert!(!user(by_password).contains("crew-managed"));
}

#[test]
fn certificates_are_shown_with_their_gates_and_their_ends() {
    let service = Running::harbour();
    let told = service.certificates();
    assert!(told.contains("radius.tarnmouth.example  presented by crew-network"), "{told}");
    assert!(told.contains("tarnmouth-authority  trusted by crew-network"), "{told}");
    assert!(told.contains("revocation list of CN=Tarnmouth Demo Root\n    1 revoked, ends in"), "{told}");
    let authority = Authority::new("Short Root", now() - 86_400).unwrap();
    let short = authority.issue(&order("short.tarnmouth.example", 5)).unwrap();
    let file = service.data.join("short.pem");
    fs::write(&file, format!("{}{}", short.certificate, short.key)).unwrap();
    service.client(&["certificate", "import", "--name", "short"]).arg(&file).succeeds();
    let told = service.certificates();
    assert!(told.contains("expires in 5 days. Renew it now"), "{told}");
}

#[test]
fn a_revocation_list_is_told_of_before_it_ends_and_when_it_keeps_people_out() {
    let service = Running::harbour();
    let folder = service.data.join("harbour");
    let list = |days: i64| {
        let (made, end) = (now() - 60 * 86_400, now() + days * 86_400 + 3_600);
        fs::write(folder.join("list.pem"), authority(&service).revoke(&[2], made, end).unwrap()).unwrap();
        let mut trust = service.client(&["trust", "add", "tarnmouth-authority"]);
        trust.args([folder.join("authority.pem"), folder.join("list.pem")]).succeeds();
        service.certificates()
    };
    let told = list(5);
    assert!(told.contains("1 revoked, ends in 5 days"), "{told}");
    assert!(told.contains("ends in 5 days. Bring the next one before. Afterwards every certificate"), "{told}");
    eap_tls(&service, "quay-laptop-7").succeeds();
    let told = list(-3);
    assert!(told.contains("who was revoked since is not known. Every certificate that it issued is refused"), "{told}");
    let refused = String::from_utf8(eap_tls(&service, "quay-laptop-7").ends_with(1).stdout).unwrap();
    assert!(refused.contains("Access-Reject"), "{refused}");
    let mut trust = service.client(&["trust", "add", "tarnmouth-authority"]);
    trust.arg(folder.join("authority.pem")).succeeds();
    let told = service.certificates();
    assert!(told.contains("There is no revocation list of `CN=Tarnmouth Demo Root`"), "{told}");
}

#[test]
fn a_certificate_is_replaced_without_a_restart() {
    let service = Running::harbour();
    assert!(peap(&service).succeeds().contains("the same keys"));
    let other = Authority::new("Next Root", now() - 86_400).unwrap();
    let next = other.issue(&order("radius.tarnmouth.example", 90)).unwrap();
    let file = service.data.join("next.pem");
    fs::write(&file, format!("{}{}", next.certificate, next.key)).unwrap();
    service.client(&["certificate", "import", "--name", "radius.tarnmouth.example"]).arg(&file).succeeds();
    let told = String::from_utf8(peap(&service).ends_with(1).stdout).unwrap();
    assert!(told.contains("its certificate was refused: unknown issuer"), "{told}");
    let stray = service.data.join("stray.pem");
    let wrong_key = other.issue(&order("radius.tarnmouth.example", 90)).unwrap().key;
    fs::write(&stray, format!("{}{wrong_key}", next.certificate)).unwrap();
    let refused = service.client(&["certificate", "import", "--name", "x"]).arg(&stray).fails(1);
    assert!(refused.contains("does not belong to the certificate"), "{refused}");
}

#[test]
fn a_signing_request_waits_for_its_certificate() {
    let service = Running::harbour();
    let request = service.client(&["certificate", "request", "new.tarnmouth.example"]).succeeds();
    assert!(request.starts_with("-----BEGIN CERTIFICATE REQUEST-----"));
    assert!(service.certificates().contains("signing request waits"));
    let again = service.client(&["certificate", "request", "new.tarnmouth.example"]).fails(1);
    assert!(again.contains("already"), "{again}");
    // A certificate for another key is not taken for it.
    let authority = Authority::new("Any Root", now()).unwrap();
    let file = service.data.join("answer.pem");
    fs::write(&file, authority.issue(&order("new.tarnmouth.example", 9)).unwrap().certificate).unwrap();
    let refused = service.client(&["certificate", "import", "--name", "new.tarnmouth.example"]).arg(&file).fails(1);
    assert!(refused.contains("does not belong"), "{refused}");
}

#[test]
fn a_revocation_list_is_fetched_and_what_it_says_holds_at_once() {
    let mut service = Running::harbour();
    let folder = service.data.join("harbour");
    let authority = authority(&service);
    let ida = || eap_tls(&service, "ida.marsh");
    ida().succeeds();
    let list = Arc::new(Mutex::new(authority.revoke(&[2], now() - 60, now() + 3_600).unwrap()));
    let url = answer_http({
        let list = list.clone();
        move |_| Some(list.lock().unwrap().clone().into_bytes())
    });
    let trust = |url: &str| {
        let mut command = service.client(&["trust", "add", "tarnmouth-authority", "--crl-url", url]);
        command.arg(folder.join("authority.pem"));
        command
    };
    trust(&url).succeeds();
    ida().ends_with(1);
    let told = sentence(&service.entries("q=revoked", 1)[0]);
    assert!(told.contains("its certificate was refused: revoked"), "{told}");
    // A list that cannot be read leaves the last one in force, and shows.
    *list.lock().unwrap() = "nonsense".into();
    trust(&url).succeeds();
    ida().ends_with(1);
    assert!(service.certificates().contains("cannot be fetched"));
    assert!(trust("https://issuer.example/list.crl").fails(1).contains("http://"));
    // Whoever sends elsewhere is not followed.
    let elsewhere = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let at = format!("http://{}/list.crl", elsewhere.local_addr().unwrap());
    let to = url.clone();
    std::thread::spawn(move || {
        use std::io::{Read, Write};
        let mut asked = elsewhere.accept().unwrap().0;
        let _ = asked.read(&mut [0; 1_024]);
        let _ = write!(asked, "HTTP/1.1 302 Found\r\nlocation: {to}\r\ncontent-length: 0\r\n\r\n");
    });
    trust(&at).succeeds();
    let told = service.certificates();
    assert!(told.contains("sends on to") && told.contains("give the address itself"), "{told}");

    // After a restart it is in force before its issuer can be reached.
    service.end("-TERM");
    let mut again = Running::start(&service.data);
    again.token = service.token.clone();
    eap_tls(&again, "quay-laptop-7").succeeds();
    eap_tls(&again, "ida.marsh").ends_with(1);
    assert!(sentence(&again.entries("q=revoked", 3)[0]).contains("revoked"));
    // Another authority has no use for it.
    let file = folder.join("next.pem");
    fs::write(&file, Authority::new("Next Root", now() - 86_400).unwrap().certificate()).unwrap();
    again.client(&["trust", "add", "tarnmouth-authority", "--crl-url", &url]).arg(&file).succeeds();
    let told = again.certificates();
    assert!(told.contains("There is no revocation list of `CN=Next Root`"), "{told}");
}

#[test]
fn an_issuer_is_asked_about_a_certificate_and_holds_up_nobody_else() {
    let service = Running::harbour();
    service.activate_with("revocation crl {", "revocation ocsp {");
    let mut says = Responder::new(authority(&service).key(), None).unwrap();
    says.says.insert(3, Says::Revoked);
    let responder = Arc::new(Mutex::new(Some(says)));
    let url = serve_ocsp(responder.clone());
    let trust = |ocsp: &[&str]| {
        let mut command = service.client(&["trust", "add", "tarnmouth-authority"]);
        command.args(ocsp).arg(service.data.join("harbour/authority.pem")).succeeds();
    };
    let refusal = |name: &str, count: usize, reason: &str| {
        eap_tls(&service, name).ends_with(1);
        let entry = service.entries(&format!("q={name}"), count).swap_remove(0);
        let told = sentence(&entry);
        assert!(told.contains(&format!("its certificate was refused: {reason}")), "{told}");
        service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1
    };
    let detail = refusal("ida.marsh", 1, "revocation unknown");
    assert!(detail.to_string().contains("CN=ida.marsh: no answer: the certificate names no responder"), "{detail}");

    // What was not answered is not asked again for a while, nor what was answered.
    trust(&["--ocsp-url", &url]);
    assert!(service.certificates().contains(&format!("asked about revocation: {url}")));
    let detail = refusal("quay-laptop-7", 1, "revoked");
    assert!(detail.to_string().contains("the supplicant got no TLS alert"), "{detail}");
    let detail = refusal("quay-laptop-7", 2, "revoked");
    assert!(!detail.to_string().contains("the supplicant got no TLS alert"), "known: {detail}");
    *responder.lock().unwrap() = None;
    let certificates = authority(&service).issue(&Order { purpose: Purpose::Client, ..order("ola.nett", 9) }).unwrap();
    let folder = service.data.join("harbour");
    fs::write(folder.join("ola.pem"), certificates.certificate).unwrap();
    fs::write(folder.join("ola.key"), certificates.key).unwrap();
    let mut held = eap_tls(&service, "ola").spawn().unwrap();
    peap(&service).succeeds();
    assert!(held.try_wait().unwrap().is_none(), "the silent responder is still awaited");
    assert_eq!(held.wait().unwrap().code(), Some(1));
    assert!(sentence(&service.entries("q=ola", 1)[0]).contains("revocation unknown"));
    let mut wrong = service.client(&["trust", "add", "x", "--ocsp-url", "ftp://issuer.example"]);
    assert!(wrong.arg(folder.join("authority.pem")).fails(1).contains("http://"));
}

#[test]
fn a_conversation_that_is_left_becomes_an_entry_of_its_own() {
    let service = Running::harbour_where_conversations_last_a_second();
    let socket = std::net::UdpSocket::bind("127.0.0.21:0").unwrap();
    let supplicant = regnant_client::Supplicant::new(
        "ida.marsh",
        "ida.marsh",
        regnant_eap::PeerMethod::Gtc(regnant_eap::Login::new("ida.marsh", "x")),
    );
    let ask = regnant_client::Ask::eap(supplicant, "02-00-5E-10-00-01");
    let secret = regnant_radius::SharedSecret::new(*b"mizzen-7-halyard");
    let dictionary = regnant_radius::Dictionary::standard();
    let identity = b"\x02\x01\x00\x0e\x01ida.marsh";
    let packet = ask.conversation_packet(1, &[7; 16], &secret, &dictionary, (identity, None)).unwrap();
    socket.send_to(&packet, service.radius).unwrap();
    let entry = &service.entries("outcome=unfinished", 1)[0];
    assert_eq!(sentence(entry), "ida.marsh on mast-wlc-1 by eap-tls went silent: when eap-tls was offered.");
    let (_, detail) = service.get(&format!("journal/{}", entry["id"].as_str().unwrap()));
    assert!(detail["stations"][2]["advice"].as_str().unwrap().contains("look into its own log"));
}

#[test]
fn certificates_and_trusts_are_put_where_they_are_as_they_were_seen() {
    let service = Running::harbour();
    let folder = service.data.join("harbour");
    let read = |name: &str| std::fs::read_to_string(folder.join(name)).unwrap();
    let (status, report, tag) = service.call("GET", &format!("certificates/{SERVER}"), None, &json!({}));
    assert_eq!((status, report["name"].as_str()), (200, Some(SERVER)));
    // The key of the one that is there stays where none is brought.
    let pem = json!({ "pem": read("server.pem") });
    assert_eq!(service.call("PUT", &format!("certificates/{SERVER}"), Some(&tag), &pem).0, 204);
    assert_eq!(
        service.call("PUT", &format!("certificates/{SERVER}"), Some(&tag), &pem).0,
        412,
        "the key was sealed anew"
    );
    assert_eq!(service.call("PUT", "certificates/nobody", Some(&tag), &pem).0, 412);
    assert_eq!(service.call("GET", "certificates/nobody", None, &json!({})).0, 404);
    peap(&service).succeeds();
    let (status, report, tag) = service.call("GET", &format!("trusts/{TRUST}"), None, &json!({}));
    assert_eq!((status, report["name"].as_str()), (200, Some(TRUST)));
    let form = json!({ "name": TRUST, "authorities": read("authority.pem") });
    assert_eq!(service.call("PUT", "trusts/other", None, &form).0, 400);
    assert_eq!(service.call("PUT", &format!("trusts/{TRUST}"), Some(&tag), &form).0, 200);
    assert_eq!(service.call("PUT", &format!("trusts/{TRUST}"), Some(&tag), &form).0, 412, "its lists are gone");
    assert_eq!(
        service.call("PUT", &format!("trusts/{TRUST}"), None, &json!({ "name": TRUST, "autorities": "" })).0,
        422
    );
    assert_eq!(service.get("trusts?q=tarnmouth").1["trusts"].as_array().unwrap().len(), 1);
    assert_eq!(service.get("trusts?q=nowhere").1["trusts"].as_array().unwrap().len(), 0);
}

#[test]
fn a_certificate_that_does_not_open_refuses_at_its_gates_and_nothing_else() {
    let mut service = Running::harbour();
    let crane =
        |service: &Running| service.try_from(&regnant_campus::harbour::QUAY_SW_1, &["mac", "--mac", "02005e200007"]);
    peap(&service).ends_with(0);
    service.end("-TERM");
    let records = rusqlite::Connection::open(service.data.join("records.sqlite")).unwrap();
    assert_eq!(records.execute("UPDATE certificate SET key = zeroblob(90)", []).unwrap(), 1);
    drop(records);
    let service = service.again();
    peap(&service).ends_with(1);
    crane(&service).ends_with(0);
    let told = printed(&service.client(&["doctor"]).output().unwrap());
    assert!(told.contains("what is configured: certificate `radius.tarnmouth.example`"), "{told}");
    assert!(told.contains("what is configured: gate `crew-network`"), "{told}");
    // What is changed takes effect all the same.
    service.client(&["device", "bar", "02005e200007", "--reason", "stolen"]).succeeds();
    crane(&service).ends_with(1);
    let folder = service.data.join("harbour");
    let mut import = service.client(&["certificate", "import", "--name", "radius.tarnmouth.example"]);
    import.args([folder.join("server.pem"), folder.join("server.key")]).succeeds();
    peap(&service).ends_with(0);
    let told = printed(&service.client(&["doctor"]).output().unwrap());
    assert!(told.contains("this node can use all that is configured"), "{told}");
}
