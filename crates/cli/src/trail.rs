use std::borrow::Cow;
use std::process::ExitCode;

use regnant_base::printable;
use serde_json::Value;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::journal::{sentence, time};
use crate::paint::{self, say};

const WIDTH: usize = 96;

/// Explains one entry of the journal.
pub(crate) fn run(args: &args::Trail) -> Result<ExitCode, Failure> {
    if !args.id.chars().all(|c| c.is_ascii_alphanumeric()) {
        return Err(Failure::usage(format!("`{}` is no id of an entry; `regnant journal` shows ids", args.id)));
    }
    let detail = Client::new(&args.api)?.get(&format!("journal/{}", args.id), &[])?;
    match args.json {
        true => paint::json(&detail),
        false => print(&detail),
    }
    Ok(ExitCode::SUCCESS)
}

fn print(detail: &Value) {
    let entry = &detail["entry"];
    say!("{} {}\n", time(&text(entry, "at")), sentence(entry));
    for station in detail["stations"].as_array().into_iter().flatten() {
        print_station(station);
    }
    if let Some(advice) = detail["advice"].as_str().map(printable) {
        print_wrapped("→ ", "  ", &advice);
    }
    let decision = &detail["decision"];
    if decision["entry"].is_object() {
        say!("\n{}", if decision["inferred"] == true { "The decision, as it is inferred:" } else { "The decision:" });
        print_line(&decision["entry"]);
    }
    let mut reports = detail["reports"].as_array().into_iter().flatten().peekable();
    if reports.peek().is_some() {
        say!("\nWhat was reported of this access:");
    }
    reports.for_each(print_line);
}

/// Another entry, which has a trail of its own.
fn print_line(entry: &Value) {
    let (at, id) = (text(entry, "at"), text(entry, "id"));
    say!("{} {} {} {}", time(&at), paint::dim(&id), paint::mark(&text(entry, "outcome")), sentence(entry));
}

fn print_station(station: &Value) {
    let at = station["micros"].as_u64().map(span).unwrap_or_default();
    let head = format!("{} {:<12}{at:>9}  ", paint::mark(&text(station, "mark")), text(station, "name"));
    let indent = " ".repeat(head.chars().count());
    print_wrapped(&head, &indent, &text(station, "line").replace('*', ""));
    let skipped = text(station, "mark") == "skipped";
    for evidence in station["evidence"].as_array().into_iter().flatten().filter(|_| !skipped) {
        let line = format!("{}: {}", text(evidence, "label"), text(evidence, "value"));
        for (number, part) in paint::wrap(&line, WIDTH - indent.len() - 2).iter().enumerate() {
            say!("{indent}{}{}", if number == 0 { "" } else { "  " }, paint::dim(part));
        }
    }
    if let Some(advice) = station["advice"].as_str().map(printable) {
        print_wrapped(&format!("{indent}→ "), &format!("{indent}  "), &advice);
    }
}

/// A time as people read it.
pub(crate) fn span(micros: u64) -> String {
    match micros {
        0..10_000 => format!("{micros} µs"),
        _ => format!("{}.{} ms", micros / 1_000, micros / 100 % 10),
    }
}

fn print_wrapped(head: &str, indent: &str, line: &str) {
    let lines = paint::wrap(line, WIDTH.saturating_sub(indent.chars().count()));
    for (number, part) in lines.iter().enumerate() {
        say!("{}{}", if number == 0 { head } else { indent }, paint::bold(part));
    }
}

/// A text of the trail. Much of it comes from outside.
fn text<'v>(value: &'v Value, name: &str) -> Cow<'v, str> {
    printable(value[name].as_str().unwrap_or_default())
}
