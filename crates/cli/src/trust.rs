use std::process::ExitCode;

use regnant_service::ListReport;
use serde_json::json;

use crate::api::Client;
use crate::args::{self, TrustAction};
use crate::certificate::{days, listed, read, report, show_link, tell};
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::records::{path, text};
use crate::sign_in::ask_secretly;

/// Shows whom we trust, or says so.
pub(crate) fn run(args: &args::Trust) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        TrustAction::List { json } => show(&client, *json)?,
        TrustAction::Add { name, files, crl_url, ocsp_url, whatever_it_is } => {
            let pem = files.iter().map(|file| read(file)).collect::<Result<Vec<_>, _>>()?.join("\n");
            let mut body = json!({
                "name": name, "authorities": pem, "crls": pem, "crl_url": crl_url, "ocsp_url": ocsp_url,
                "whatever": whatever_it_is,
            });
            let seen = client.seen(&path(&["trusts", name])?)?;
            let kept = match client.post_over("trusts", &body, &seen)? {
                Err(refused) if refused.body["wants_secrets"].is_array() => {
                    say!("{}", text(&refused.body["error"]));
                    for store in refused.body["wants_secrets"].as_array().into_iter().flatten().map(text) {
                        body["secrets"][&store] = json!(ask_secretly(&format!("Secret of store {store}: "))?);
                    }
                    client.post_over("trusts", &body, &seen)??
                }
                kept => kept?,
            };
            say!("trust {name} is as the files say");
            for subject in kept["left_out"].as_array().into_iter().flatten().filter_map(|subject| subject.as_str()) {
                say!("left out: {subject} is no authority's certificate");
            }
        }
        TrustAction::Remove { name } => {
            let at = path(&["trusts", name])?;
            client.delete_seen(&at, client.seen(&at)?.etag())??;
            say!("trust {name} is gone");
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn show(client: &Client, as_json: bool) -> Result<(), Failure> {
    let body = client.get("certificates", &[])?;
    if as_json {
        paint::json(&body["trusts"]);
        return Ok(());
    }
    let report = report(body)?;
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
    if report.trusts.is_empty() {
        say!("Nobody is trusted yet: `regnant trust add NAME authority.pem`.");
    }
    Ok(())
}

fn show_list(list: &ListReport) {
    let end = list.days_left.map_or_else(|| "no end".into(), days);
    say!("  revocation list of {}", list.issuer);
    say!("    {} revoked, {end}", list.revoked);
}
