use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use regnant_certificates::{Bundle, to_pem};
use regnant_service::{CertificatesReport, LinkReport};
use serde_json::json;

use crate::api::Client;
use crate::args::{self, CertificateAction};
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::records::path;

/// Shows certificates, or changes them.
pub(crate) fn run(args: &args::Certificate) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        CertificateAction::List { json } => show(&client, *json)?,
        CertificateAction::Import { files, name, password } => {
            let pem = read_pem(files, password.as_deref())?;
            let seen = client.seen(&path(&["certificates", name])?)?;
            client.post_over("certificates", &json!({ "name": name, "pem": pem }), &seen)??;
            say!("imported {name}; gates that present it do so from the next conversation on");
        }
        CertificateAction::Request { name } => {
            let answer = client.post("certificates/request", &json!({ "name": name }))??;
            say!("{}", answer["pem"].as_str().unwrap_or_default().trim_end());
            eprintln!("the key stays in the service; import the certificate that comes back under the same name");
        }
        CertificateAction::Remove { name } => {
            let at = path(&["certificates", name])?;
            client.delete_seen(&at, client.seen(&at)?.etag())??;
            say!("certificate {name} is gone, with its key");
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// One PEM text of several files; PKCS#12 is opened here, so that its password
/// goes nowhere.
pub(crate) fn read_pem(files: &[PathBuf], password: Option<&str>) -> Result<String, Failure> {
    let mut text = String::new();
    for file in files {
        let bytes = fs::read(file).map_err(|error| unreadable(file, &error))?;
        match String::from_utf8(bytes) {
            Ok(pem) => text += &format!("{pem}\n"),
            Err(binary) => {
                let bundle = Bundle::from_pkcs12(binary.as_bytes(), password.unwrap_or_default())
                    .map_err(|error| Failure::usage(format!("{}: {error}", file.display())))?;
                text += &to_pem("CERTIFICATE", &bundle.chain);
                let key = bundle.key.map(|key| key.expose().to_vec());
                text += &to_pem("PRIVATE KEY", &key.into_iter().collect::<Vec<_>>());
            }
        }
    }
    Ok(text)
}

pub(crate) fn read(file: &Path) -> Result<String, Failure> {
    fs::read_to_string(file).map_err(|error| unreadable(file, &error))
}

fn unreadable(file: &Path, error: &std::io::Error) -> Failure {
    Failure::usage(format!("{} cannot be read: {error}", file.display()))
}

fn show(client: &Client, as_json: bool) -> Result<(), Failure> {
    let body = client.get("certificates", &[])?;
    if as_json {
        paint::json(&body["certificates"]);
        return Ok(());
    }
    let report = report(body)?;
    for certificate in &report.certificates {
        say!("{}  presented by {}", paint::bold(&certificate.name), listed(&certificate.gates));
        certificate.chain.iter().for_each(show_link);
        if let Some(until) = certificate.stapled_until.and_then(|until| jiff::Timestamp::from_second(until).ok()) {
            say!("  its issuer's word that it is not revoked goes with it, good until {until}");
        }
        tell(&certificate.findings);
    }
    if report.certificates.is_empty() {
        say!("There are none yet: `regnant certificate request NAME`, or `regnant certificate import`.");
    }
    Ok(())
}

/// What the service says of certificates and trusts.
pub(crate) fn report(body: serde_json::Value) -> Result<CertificatesReport, Failure> {
    serde_json::from_value(body)
        .map_err(|error| Failure::new(format!("the service answered what this client does not understand: {error}")))
}

pub(crate) fn listed(gates: &[String]) -> String {
    if gates.is_empty() { "no gate".into() } else { gates.join(", ") }
}

pub(crate) fn show_link(link: &LinkReport) {
    let names = if link.names.is_empty() { String::new() } else { format!(" ({})", link.names.join(", ")) };
    say!("  {}{names}", link.subject);
    say!("    issued by {}, {}", link.issuer, days(link.days_left));
}

pub(crate) fn days(left: i64) -> String {
    match left {
        0 => "ends today".into(),
        1 => "ends tomorrow".into(),
        -1 => "ended yesterday".into(),
        left if left < 0 => format!("ended {} days ago", -left),
        left => format!("ends in {left} days"),
    }
}

pub(crate) fn tell(findings: &[String]) {
    findings.iter().for_each(|finding| say!("  {} {finding}", paint::mark("refused")));
}
