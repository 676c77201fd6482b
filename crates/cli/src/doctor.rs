use std::process::ExitCode;

use regnant_service::{Config, Finding, Weight, look_at_installation};

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::{self, say};

/// Looks at an installation, and says what to do.
pub(crate) fn run(args: &args::Doctor) -> Result<ExitCode, Failure> {
    let mut findings = Vec::new();
    if let Some(data) = &args.data {
        let config = args.config.as_deref().map_or_else(|| Ok(Config::default()), Config::read);
        match config {
            Ok(config) => findings.extend(look_at_installation(&config, data)),
            Err(error) => {
                findings.push(trouble("configuration", &error, "Mend it: the service does not start with it."));
            }
        }
    }
    match of_service(&args.api) {
        Ok(list) => findings.extend(list),
        Err(error) => findings.push(trouble(
            "service",
            &error.text(),
            "Start it, or say --api; sign in as an engineer or an auditor.",
        )),
    }
    if args.json {
        paint::json(&findings);
    } else {
        findings.iter().for_each(show);
    }
    let bad = findings.iter().filter(|finding| finding.weight == Weight::Trouble).count();
    Ok(if bad == 0 { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn of_service(api: &args::Api) -> Result<Vec<Finding>, Failure> {
    let body = Client::new(api)?.get("findings", &[])?;
    Ok(serde_json::from_value(body["findings"].clone())?)
}

fn trouble(about: &str, found: &dyn std::fmt::Display, remedy: &str) -> Finding {
    Finding { about: about.into(), weight: Weight::Trouble, found: found.to_string(), remedy: remedy.into() }
}

fn show(finding: &Finding) {
    let mark = match finding.weight {
        Weight::Trouble => paint::mark("refused"),
        Weight::Advice => paint::mark("unheard"),
        Weight::Well => paint::mark("granted"),
    };
    say!("{mark} {}: {}", paint::bold(&finding.about), finding.found);
    if !finding.remedy.is_empty() {
        say!("    {}", paint::dim(&finding.remedy));
    }
}
