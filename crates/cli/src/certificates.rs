use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use regnant_certificates::{Bundle, to_pem};
use regnant_service::{CertificatesReport, LinkReport, ListReport};
use serde_json::json;

use crate::api::Client;
use crate::args::{self, CertificateAction};
use crate::failure::Failure;
use crate::paint::{self, say};

/// Shows certificates, or changes them.
pub(crate) fn run(args: &args::Certificates) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        None => show(&client, args.json)?,
        Some(CertificateAction::Import { files, name, password }) => {
            let pem = read_pem(files, password.as_deref())?;
            client.post("certificates", &json!({ "name": name, "pem": pem }))??;
            say!("imported {name}; gates that present it do so from the next conversation on");
        }
        Some(CertificateAction::Request { name }) => {
            let answer = client.post("certificates/request", &json!({ "name": name }))??;
            say!("{}", answer["pem"].as_str().unwrap_or_default().trim_end());
            eprintln!("the key stays in the service; import the certificate that comes back under the same name");
        }
        Some(CertificateAction::Trust { name, files, crl_url, ocsp_url, whatever_it_is }) => {
            let text = files.iter().map(|file| read(file)).collect::<Result<Vec<_>, _>>()?.join("\n");
            let body = json!({
                "name": name, "authorities": text, "crls": text, "crl_url": crl_url, "ocsp_url": ocsp_url,
                "whatever": whatever_it_is,
            });
            let kept = client.post("trusts", &body)??;
            say!("trust {name} is as the files say");
            for subject in kept["left_out"].as_array().into_iter().flatten().filter_map(|subject| subject.as_str()) {
                say!("left out: {subject} is no authority's certificate");
            }
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

fn read(file: &Path) -> Result<String, Failure> {
    fs::read_to_string(file).map_err(|error| unreadable(file, &error))
}

fn unreadable(file: &Path, error: &std::io::Error) -> Failure {
    Failure::usage(format!("{} cannot be read: {error}", file.display()))
}

fn show(client: &Client, as_json: bool) -> Result<(), Failure> {
    let body = client.get("certificates", &[])?;
    if as_json {
        paint::json(&body);
        return Ok(());
    }
    let report: CertificatesReport = serde_json::from_value(body)
        .map_err(|error| Failure::new(format!("the service answered what this client does not understand: {error}")))?;
    for certificate in &report.certificates {
        say!("{}  presented by {}", paint::bold(&certificate.name), listed(&certificate.gates));
        certificate.chain.iter().for_each(show_link);
        if let Some(until) = certificate.stapled_until.and_then(|until| jiff::Timestamp::from_second(until).ok()) {
            say!("  its issuer's word that it is not revoked goes with it, good until {until}");
        }
        tell(&certificate.findings);
    }
    for trust in &report.trusts {
        say!("{}  trusted by {}", paint::bold(&trust.name), listed(&trust.gates));
        trust.authorities.iter().for_each(show_link);
        if trust.revocation_lists.is_empty() {
            say!("  no revocation list");
        }
        trust.revocation_lists.iter().for_each(show_list);
        if let Some(url) = &trust.crl_url {
            say!("  newer lists come from {url}");
        }
        if let Some(url) = &trust.ocsp_url {
            say!("  asked about revocation: {url}");
        }
        tell(&trust.findings);
    }
    if report.certificates.is_empty() && report.trusts.is_empty() {
        say!("There are none yet: `regnant certificates request NAME`, or `import` and `trust`.");
    }
    Ok(())
}

fn listed(gates: &[String]) -> String {
    if gates.is_empty() { "no gate".into() } else { gates.join(", ") }
}

fn show_link(link: &LinkReport) {
    let names = if link.names.is_empty() { String::new() } else { format!(" ({})", link.names.join(", ")) };
    say!("  {}{names}", link.subject);
    say!("    issued by {}, {}", link.issuer, days(link.days_left));
}

fn show_list(list: &ListReport) {
    let end = list.days_left.map_or_else(|| "no end".into(), days);
    say!("  revocation list of {}", list.issuer);
    say!("    {} revoked, {end}", list.revoked);
}

fn days(left: i64) -> String {
    match left {
        0 => "ends today".into(),
        1 => "ends tomorrow".into(),
        -1 => "ended yesterday".into(),
        left if left < 0 => format!("ended {} days ago", -left),
        left => format!("ends in {left} days"),
    }
}

fn tell(findings: &[String]) {
    findings.iter().for_each(|finding| say!("  {} {finding}", paint::mark("refused")));
}
