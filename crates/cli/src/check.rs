use std::process::ExitCode;

use regnant_policy::{PolicyFiles, Source};
use regnant_service::{CheckReport, check_alone};
use serde_json::json;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::policy_files;

/// Checks a policy, without a service or against what a running one has.
pub(crate) fn run(args: &args::Check) -> Result<ExitCode, Failure> {
    let policy = policy_files::read(&args.path)?;
    let report = match args.against_service {
        false => {
            // The folder stands before the names of its files, so that they are found.
            let folder = policy.main.parent().filter(|_| args.path.is_dir());
            let shown = |path: &str| folder.map_or_else(|| path.to_owned(), |at| at.join(path).display().to_string());
            match folder {
                None => check_alone(Source::new(policy.main.display().to_string(), &policy.files.main)),
                Some(_) => shown_in(check_alone(Source::from(&policy.files)), &policy.files, &shown),
            }
        }
        true => {
            let body = json!({ "source": policy.files.main, "included": policy.files.included });
            let answer = Client::new(&args.api)?.post("policy/check", &body)??;
            serde_json::from_value(answer).map_err(|error| {
                Failure::new(format!("the service answered what this client does not understand: {error}"))
            })?
        }
    };
    match args.json {
        true => paint::json(&report),
        false => {
            print_report(&report);
            if args.coverage {
                print_coverage(&report);
            }
        }
    }
    Ok(match (report.errors(), report.failed_cases()) {
        (0, 0) => ExitCode::SUCCESS,
        (0, _) => ExitCode::from(3),
        _ => ExitCode::from(1),
    })
}

/// The report with the files named as people reach them.
fn shown_in(mut report: CheckReport, files: &PolicyFiles, shown: &impl Fn(&str) -> String) -> CheckReport {
    let rendered = report.diagnostics.iter_mut().map(|found| &mut found.rendered);
    for text in rendered.chain(report.cases.iter_mut().filter_map(|case| case.failure.as_mut())) {
        for (file, _) in files.iter() {
            *text = text.replace(&format!("\n  {file}:"), &format!("\n  {}:", shown(file)));
        }
    }
    for found in &mut report.diagnostics {
        found.file = shown(&found.file);
    }
    for rule in &mut report.uncovered {
        rule.file = shown(&rule.file);
    }
    report
}

/// Prints the rules that no case reaches.
fn print_coverage(report: &CheckReport) {
    if report.errors() > 0 {
        return;
    }
    for rule in &report.uncovered {
        say!("no case reaches \"{}\" of gate {} ({}:{})", rule.rule, rule.gate, rule.file, rule.line);
    }
    if report.uncovered.is_empty() {
        say!("every rule is reached by a case");
    }
}

/// Prints what a check found.
pub(crate) fn print_report(report: &CheckReport) {
    for diagnostic in &report.diagnostics {
        say!("{}", diagnostic.rendered);
    }
    for failure in report.cases.iter().filter_map(|case| case.failure.as_ref()) {
        say!("{failure}");
    }
    say!("{}", report.summary());
}
