use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use regnant_policy::{PolicyFiles, Source};
use regnant_records::{Inventory, LanguageKind, LanguageRow};
use regnant_service::{CheckReport, Surroundings};
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
            let around = surroundings(args)?;
            // The folder stands before the names of its files, so that they are found.
            let folder = policy.main.parent().filter(|_| args.path.is_dir());
            let shown = |path: &str| folder.map_or_else(|| path.to_owned(), |at| at.join(path).display().to_string());
            match folder {
                None => checked(&around, Source::new(policy.main.display().to_string(), &policy.files.main))?,
                Some(_) => shown_in(checked(&around, Source::from(&policy.files))?, &policy.files, &shown),
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

/// Checks a policy without a service.
pub(crate) fn checked(around: &Surroundings, source: Source) -> Result<CheckReport, Failure> {
    around.check(source).map_err(|error| Failure::usage(format!("the files do not go together: {error}")))
}

/// What files say that there is.
fn surroundings(args: &args::Check) -> Result<Surroundings, Failure> {
    let around = args.inventory.as_deref().map_or(Ok(Surroundings::default()), of_file)?;
    let row = |kind: LanguageKind, file: &PathBuf| {
        let name = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        Ok::<_, Failure>(LanguageRow { kind, name, text: read(file)? })
    };
    let dictionaries = args.dictionaries.iter().map(|file| row(LanguageKind::Dictionary, file));
    let dialects = args.dialects.iter().map(|file| row(LanguageKind::Dialect, file));
    Ok(around.with_languages(dictionaries.chain(dialects).collect::<Result<_, _>>()?))
}

/// What a file says that there is: an inventory, or what a service printed of itself.
pub(crate) fn of_file(file: &Path) -> Result<Surroundings, Failure> {
    let (name, text) = (file.display().to_string(), read(file)?);
    match text.trim_start().starts_with('{') {
        true => serde_json::from_str(&text)
            .map_err(|error| Failure::usage(format!("{name} is not what `regnant policy inventory` prints: {error}"))),
        false => Ok(Surroundings::of_inventory(&Inventory::from_toml(&name, &text).map_err(Failure::usage)?)),
    }
}

/// What a running service says that there is.
pub(crate) fn of_service(api: &args::Api) -> Result<Surroundings, Failure> {
    serde_json::from_value(Client::new(api)?.get("policy/inventory", &[])?)
        .map_err(|error| Failure::new(format!("the service answered what this client does not understand: {error}")))
}

fn read(file: &Path) -> Result<String, Failure> {
    fs::read_to_string(file)
        .map_err(|error| Failure::usage(format!("the file {} cannot be read: {error}", file.display())))
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
