//! TLS of console and API, and how a client knows that it speaks to the right service.
mod running;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::Command;
use std::sync::Arc;

use regnant_certificates::{Authority, Order, Purpose, read_certificates};
use running::*;
use rustls::pki_types::ServerName;
use rustls::{ClientConfig, ClientConnection, RootCertStore, StreamOwned};

/// A data directory with the engineer `harbour`.
fn with_engineer(dir: &Path) -> std::path::PathBuf {
    let data = dir.join("data");
    let mut first = regnant();
    first.args(["administrator", "first", "harbour", "--data"]).arg(&data);
    let made = typed(&mut first, &format!("{PASSWORD}\n"));
    assert!(made.status.success(), "{}", printed(&made));
    std::fs::write(data.join("welcomed"), "").unwrap();
    data
}

/// `regnant sign-in` as somebody at a terminal meets it, who answers this.
fn sign_in_at_a_terminal(api: &str, token: &Path, answer: &str) -> String {
    let line = format!("{} sign-in --user harbour", env!("CARGO_BIN_EXE_regnant"));
    let mut terminal = Command::new("script");
    terminal.args(["--quiet", "--return", "--command", &line, "/dev/null"]);
    terminal.env("REGNANT_API", api).env("REGNANT_TOKEN_FILE", token).env("SSL_CERT_FILE", "/dev/null");
    printed(&typed(&mut terminal, answer))
}

/// Asks over TLS, believing what is in this PEM alone.
fn ask(address: &str, authorities: &str, request: &str) -> String {
    let mut roots = RootCertStore::empty();
    for der in read_certificates(authorities).unwrap() {
        roots.add(der.into()).unwrap();
    }
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let config = Arc::new(config.with_root_certificates(roots).with_no_client_auth());
    let name = ServerName::try_from("127.0.0.1").unwrap();
    let connection = ClientConnection::new(config, name).unwrap();
    let mut stream = StreamOwned::new(connection, TcpStream::connect(address).unwrap());
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    String::from_utf8(answer).unwrap()
}

#[test]
fn a_token_goes_only_to_the_service_whose_certificate_was_compared() {
    let dir = tempfile::tempdir().unwrap();
    let data = with_engineer(dir.path());
    let mut service = Running::with_api(&data, "127.0.0.1:0", "tls = true\n");
    assert!(service.api.starts_with("https://127.0.0.1:"), "{}", service.api);
    let fingerprint = service.fingerprint.clone().unwrap();
    let token = dir.path().join("client").join("token");
    let client = |args: &[&str]| {
        let mut command = regnant();
        command.args(args).env("REGNANT_API", &service.api).env("REGNANT_TOKEN_FILE", &token);
        // No authority of this machine's vouches for it.
        command.env("SSL_CERT_FILE", "/dev/null");
        command
    };
    // Nobody vouches for it, and a script cannot compare: nothing is sent.
    let unknown = typed(&mut client(&["sign-in", "--user", "harbour"]), &format!("{PASSWORD}\n"));
    assert!(!unknown.status.success() && printed(&unknown).contains(&fingerprint), "{}", printed(&unknown));
    assert!(!token.exists());
    // Who sits at a terminal is asked, and may say no.
    let asked = sign_in_at_a_terminal(&service.api, &token, "no\n");
    assert!(
        asked.contains(&fingerprint) && asked.contains("[yes/no]") && asked.contains("nothing was sent"),
        "{asked}"
    );
    let other = "00".repeat(32);
    let wrong =
        typed(&mut client(&["sign-in", "--user", "harbour", "--fingerprint", &other]), &format!("{PASSWORD}\n"));
    assert!(printed(&wrong).contains("somebody stands in between"), "{}", printed(&wrong));
    let short = typed(&mut client(&["sign-in", "--user", "harbour", "--fingerprint", "ab:cd"]), "");
    assert!(short.status.code() == Some(2) && printed(&short).contains("64 hexadecimal digits"), "{}", printed(&short));
    // As people copy it from elsewhere: in pairs, and in capitals.
    let pairs: Vec<_> =
        fingerprint.as_bytes().chunks(2).map(|pair| String::from_utf8_lossy(pair).to_uppercase()).collect();
    let pinned = typed(
        &mut client(&["sign-in", "--user", "harbour", "--fingerprint", &pairs.join(":")]),
        &format!("{PASSWORD}\n"),
    );
    assert!(pinned.status.success(), "{}", printed(&pinned));
    client(&["nas", "list"]).succeeds();
    // Nor is it spoken to in the open, once it is known otherwise.
    let mut open = client(&["nas", "list"]);
    let told = open.env("REGNANT_API", service.api.replace("https:", "http:")).fails(2);
    assert!(told.contains("is plain HTTP") && told.contains(&service.api), "{told}");
    let mut open = regnant();
    open.args(["nas", "list", "--api", "http://127.0.0.1:1", "--fingerprint", &fingerprint, "--token-file"])
        .arg(&token);
    assert!(open.fails(2).contains("is plain HTTP"));
    // The same certificate after a restart; another one is told, and the token stays here.
    service.end("-TERM");
    let before = std::fs::read(data.join("console-certificate.pem")).unwrap();
    assert_eq!(service.again().fingerprint.as_ref(), Some(&fingerprint));
    std::fs::remove_file(data.join("console-certificate.pem")).unwrap();
    let listen = service.api.trim_start_matches("https://").to_owned();
    let other = Running::with_api(&data, &listen, "tls = true\n");
    assert_ne!(std::fs::read(data.join("console-certificate.pem")).unwrap(), before);
    let mut list = regnant();
    list.args(["nas", "list"]).env("REGNANT_API", &other.api).env("REGNANT_TOKEN_FILE", &token);
    let refused = list.fails(1);
    assert!(refused.contains(&fingerprint) && refused.contains("sign-in --fingerprint"), "{refused}");
    // Another in the place of a known one is no matter of a quick yes.
    let replaced = sign_in_at_a_terminal(&other.api, &token, "yes\n");
    assert!(replaced.contains("somebody stands in between") && !replaced.contains("[yes/no]"), "{replaced}");
}

#[test]
fn a_certificate_of_the_records_is_presented_without_a_restart() {
    let dir = tempfile::tempdir().unwrap();
    let data = with_engineer(dir.path());
    let mut service = Running::with_api(&data, "127.0.0.1:0", "certificate = \"localhost\"\n");
    let now = jiff::Timestamp::now().as_second();
    let authority = Authority::new("Tarnmouth Harbour Authority", now - 60).unwrap();
    let order = Order {
        common_name: "localhost".into(),
        dns: vec!["localhost".into()],
        upn: Vec::new(),
        purpose: Purpose::Server,
        not_before: now - 60,
        not_after: now + 86_400,
        serial: 7,
        ocsp: None,
    };
    let issued = authority.issue(&order).unwrap();
    let (file, vouching) = (dir.path().join("server.pem"), dir.path().join("authority.pem"));
    std::fs::write(&file, issued.certificate + &issued.key).unwrap();
    std::fs::write(&vouching, authority.certificate()).unwrap();
    let token = dir.path().join("token");
    let fingerprint = service.fingerprint.clone().unwrap();
    let mut sign_in = regnant();
    sign_in.args(["sign-in", "--user", "harbour", "--fingerprint", &fingerprint]);
    let signed =
        typed(sign_in.env("REGNANT_API", &service.api).env("REGNANT_TOKEN_FILE", &token), &format!("{PASSWORD}\n"));
    assert!(signed.status.success(), "{}", printed(&signed));
    let mut import = regnant();
    import.args(["certificate", "import", "--name", "localhost"]).arg(&file);
    import.env("REGNANT_API", &service.api).env("REGNANT_TOKEN_FILE", &token).succeeds();
    // From now on it is what the authority vouches for, by its name.
    let named = service.api.replace("127.0.0.1", "localhost");
    let client = |api: &str, args: &[&str]| {
        let mut command = regnant();
        command.args(args).arg("--authority").arg(&vouching);
        command.env("REGNANT_API", api).env("REGNANT_TOKEN_FILE", &token);
        command
    };
    client(&named, &["nas", "list"]).succeeds();
    let other = client(&service.api, &["nas", "list"]).fails(1);
    assert!(other.contains("not valid for name \"127.0.0.1\""), "{other}");
    let mut unknown = regnant();
    unknown.args(["nas", "list"]).env("REGNANT_API", &named).env("REGNANT_TOKEN_FILE", &token);
    let told = unknown.fails(1);
    assert!(told.contains("no known authority vouches for it"), "{told}");
    let kept = client(&named, &["certificate", "remove", "localhost"]).fails(1);
    assert!(kept.contains("console and API present it"), "{kept}");
    service.end("-TERM");
}

#[test]
fn a_browser_gets_a_cookie_for_tls_alone_and_plain_http_is_told() {
    let dir = tempfile::tempdir().unwrap();
    let data = with_engineer(dir.path());
    let service = Running::with_api(&data, "127.0.0.1:0", "tls = true\n");
    let address = service.api.trim_start_matches("https://");
    let pem = std::fs::read_to_string(data.join("console-certificate.pem")).unwrap();
    let form = format!("{{\"name\":\"harbour\",\"password\":\"{PASSWORD}\"}}");
    let length = form.len();
    let request = format!(
        "POST /api/v1/sign-in HTTP/1.1\r\nhost: {address}\r\ncontent-type: application/json\r\norigin: https://{address}\r\n\
         content-length: {length}\r\nconnection: close\r\n\r\n{form}"
    );
    let answer = ask(address, &pem, &request);
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    let cookie = answer.lines().find(|line| line.starts_with("set-cookie:")).unwrap();
    assert!(cookie.contains("; Secure") && cookie.contains("HttpOnly"), "{cookie}");
    // Of this host alone, so that no other of its domain sets one.
    assert!(cookie.starts_with("set-cookie: __Host-regnant-session=") && cookie.contains("; Path=/"), "{cookie}");

    let mut plain = TcpStream::connect(address).unwrap();
    plain.write_all(format!("GET / HTTP/1.1\r\nhost: {address}\r\n\r\n").as_bytes()).unwrap();
    let mut answer = String::new();
    plain.read_to_string(&mut answer).unwrap();
    assert!(answer.starts_with("HTTP/1.1 400") && answer.contains("https://"), "{answer}");
    // What is neither ends, and the next is served.
    let mut odd = TcpStream::connect(address).unwrap();
    odd.write_all(&[22, 3, 1, 0, 2, 9, 9, 9, 9]).unwrap();
    let _ = odd.read_to_end(&mut Vec::new());
    assert!(ask(address, &pem, &format!("GET /api/v1/health HTTP/1.0\r\nhost: {address}\r\n\r\n")).contains(" 200 "));
}

#[test]
fn passwords_cross_a_network_in_plain_text_only_where_somebody_accepts_it() {
    let dir = tempfile::tempdir().unwrap();
    let data = with_engineer(dir.path());
    let refused = |more: &str| {
        let config = config_with_api(dir.path(), "0.0.0.0:0", more);
        let mut serve = regnant();
        serve.args(["serve", "--config"]).arg(config).arg("--data").arg(&data).fails(1)
    };
    let plain = refused("tls = false\n");
    assert!(plain.contains("without TLS") && plain.contains("plain-http = \"I accept\""), "{plain}");
    assert!(refused("plain-http = \"yes\"\n").contains("\"I accept\""));
    assert!(refused("tls = false\ncertificate = \"localhost\"\n").contains("needs TLS"));
    let api = |more: &str| Running::with_api(&data, "0.0.0.0:0", more).api.clone();
    assert!(api("").starts_with("https://"));
    assert!(api("plain-http = \"I accept\"\n").starts_with("http://"));
    assert!(api("proxies = [\"10.44.0.9\"]\n").starts_with("http://"));
}
