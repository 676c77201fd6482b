use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use regnant_service::{CheckReport, check_alone};
use serde_json::json;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::{self, say};

/// Checks a policy, without a service or against what a running one has.
pub(crate) fn run(args: &args::Check) -> Result<ExitCode, Failure> {
    let (path, text) = read_policy(&args.path)?;
    let report = match args.against_service {
        false => check_alone(&path.display().to_string(), &text),
        true => {
            let answer = Client::new(&args.api)?.post("policy/check", &json!({ "source": text }))??;
            serde_json::from_value(answer).map_err(|error| {
                Failure::new(format!("the service answered what this client does not understand: {error}"))
            })?
        }
    };
    match args.json {
        true => paint::json(&report),
        false => print_report(&report),
    }
    Ok(match (report.errors(), report.failed_cases()) {
        (0, 0) => ExitCode::SUCCESS,
        (0, _) => ExitCode::from(3),
        _ => ExitCode::from(1),
    })
}

/// Reads a policy: a file, or the `main.writ` of a folder.
pub(crate) fn read_policy(path: &Path) -> Result<(PathBuf, String), Failure> {
    let path = if path.is_dir() { path.join("main.writ") } else { path.to_owned() };
    let mut text = String::new();
    // No policy is as long; what never ends is not read to its end.
    let read = File::open(&path).and_then(|file| file.take(MOST_BYTES).read_to_string(&mut text));
    read.map_err(|error| Failure::usage(format!("the policy {} cannot be read: {error}", path.display())))?;
    Ok((path, text))
}

/// More than any policy may have, so that the check says what is wrong.
const MOST_BYTES: u64 = 9 << 20;

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
