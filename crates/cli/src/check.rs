use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use regnant_service::{CheckReport, check_alone};

use crate::args;
use crate::failure::Failure;
use crate::paint;

/// Checks a policy without a service.
pub(crate) fn run(args: &args::Check) -> Result<ExitCode, Failure> {
    let (path, text) = read_policy(&args.path)?;
    let report = check_alone(&path.display().to_string(), &text);
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
    let text = fs::read_to_string(&path)
        .map_err(|error| Failure::usage(format!("the policy {} cannot be read: {error}", path.display())))?;
    Ok((path, text))
}

/// Prints what a check found.
pub(crate) fn print_report(report: &CheckReport) {
    for diagnostic in &report.diagnostics {
        println!("{}", diagnostic.rendered);
    }
    for failure in report.cases.iter().filter_map(|case| case.failure.as_ref()) {
        println!("{failure}");
    }
    println!("{}", report.summary());
}
