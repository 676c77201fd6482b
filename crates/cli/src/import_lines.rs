use std::fs::File;
use std::io::{self, BufRead, BufReader, IsTerminal, Read, stderr, stdin};
use std::path::Path;
use std::process::ExitCode;

use indicatif::{ProgressBar, ProgressStyle};
use serde_json::Value;

use crate::api::Client;
use crate::args::ImportLines;
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::records::text;

/// How many refused lines people read.
const READ: usize = 20;

/// Imports records of a kind from a file of lines: exit code 0 where every line was taken,
/// 1 where one was refused.
pub(crate) fn run(
    client: &Client,
    kind: &str,
    table: &str,
    args: &ImportLines,
    store: Option<&str>,
) -> Result<ExitCode, Failure> {
    let name = args.file.display().to_string();
    let unreadable = |error: io::Error| Failure::usage(format!("{name} cannot be read: {error}"));
    let (input, length): (Box<dyn Read + Send>, Option<u64>) = match name.as_str() {
        "-" => (Box::new(stdin()), None),
        _ => {
            let file = File::open(&args.file).map_err(unreadable)?;
            let length = file.metadata().map(|data| data.len()).ok();
            (Box::new(file), length)
        }
    };
    let mut input = BufReader::new(input);
    let form = form(&args.file, input.fill_buf().map_err(unreadable)?);
    let bar = progress(length);
    let counted = bar.wrap_read(input);
    let (kind_of_body, body): (&str, Box<dyn Read + Send>) = match form {
        Form::Csv => ("text/csv", Box::new(counted)),
        Form::JsonLines => ("application/x-ndjson", Box::new(counted)),
        // These are read whole: they have no lines of their own.
        Form::Json => {
            let all: Vec<Value> = serde_json::from_reader(counted)
                .map_err(|error| Failure::usage(format!("{name} is no JSON array of objects: {error}")))?;
            ("application/x-ndjson", Box::new(io::Cursor::new(lines(&all))))
        }
        Form::Toml => {
            let mut whole = String::new();
            { counted }.read_to_string(&mut whole).map_err(unreadable)?;
            let file: toml::Table =
                toml::from_str(&whole).map_err(|error| Failure::usage(format!("{name}: {}", error.message())))?;
            if let Some(other) = file.keys().find(|key| *key != table) {
                return Err(Failure::usage(format!(
                    "{name} has [[{other}]] too: `regnant import` takes a file of several kinds"
                )));
            }
            let all = serde_json::to_value(&file)?;
            ("application/x-ndjson", Box::new(io::Cursor::new(lines(all[table].as_array().map_or(&[], Vec::as_slice)))))
        }
    };
    let mut query = vec![("dry_run", args.dry_run.to_string()), ("all_or_none", args.all_or_none.to_string())];
    query.extend(store.map(|store| ("store", store.to_owned())));
    let report = client.stream(&format!("import/{kind}"), &query, kind_of_body, body)?;
    bar.finish_and_clear();
    let report = report?;
    match args.json {
        true => paint::json(&report),
        false => tell(&report, form == Form::Csv || form == Form::JsonLines),
    }
    Ok(if report["refused"] == 0 { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    Csv,
    JsonLines,
    Json,
    Toml,
}

/// By its name, else by how it begins.
pub(crate) fn form(file: &Path, begin: &[u8]) -> Form {
    let begin = String::from_utf8_lossy(begin);
    let begin = begin.trim_start_matches('\u{feff}').trim_start();
    match file.extension().and_then(|extension| extension.to_str()) {
        Some("toml") => Form::Toml,
        Some("csv") => Form::Csv,
        _ if begin.starts_with("[[") || begin.starts_with('#') => Form::Toml,
        _ if begin.starts_with('[') => Form::Json,
        _ if begin.starts_with('{') => Form::JsonLines,
        _ => Form::Csv,
    }
}

fn lines(all: &[Value]) -> String {
    all.iter().map(|one| format!("{one}\n")).collect()
}

/// On a terminal: where nobody watches there is none.
fn progress(length: Option<u64>) -> ProgressBar {
    if !stderr().is_terminal() {
        return ProgressBar::hidden();
    }
    let template = match length {
        Some(_) => "{bar:40} {bytes} of {total_bytes}, {eta} left",
        None => "{spinner} {bytes}",
    };
    let bar = length.map_or_else(ProgressBar::new_spinner, ProgressBar::new);
    bar.with_style(ProgressStyle::with_template(template).expect("the template is ours"))
}

fn tell(report: &Value, numbered: bool) {
    let count = |field: &str| report[field].as_u64().unwrap_or(0);
    let said = [("added", count("added")), ("changed", count("changed")), ("refused", count("refused"))];
    let said: Vec<_> =
        said.iter().filter(|(_, count)| *count > 0).map(|(what, count)| format!("{count} {what}")).collect();
    let said = if said.is_empty() { "nothing to do".to_owned() } else { said.join(", ") };
    match report["applied"] == true {
        true => say!("{said}"),
        false => say!("{said}; nothing is in force"),
    }
    let lines = report["lines"].as_array().map_or(&[][..], Vec::as_slice);
    for line in lines.iter().take(READ) {
        let what = if numbered { "line" } else { "entry" };
        say!("  {} {what} {}: {}", paint::mark("refused"), line["line"], text(&line["why"]));
    }
    let more = count("refused").saturating_sub(lines.len().min(READ) as u64);
    if more > 0 {
        say!("  and {more} more; --json tells the first 1000");
    }
}
