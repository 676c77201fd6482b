use std::io::BufRead;
use std::process::ExitCode;

use jiff::{Timestamp, tz::TimeZone};
use regnant_base::printable;
use serde_json::Value;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::{self, say};

/// Shows the journal, newest last.
pub(crate) fn run(args: &args::Journal) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let words = args.words.join(" ");
    let limit = args.limit.to_string();
    let mut query = vec![("limit", limit.as_str())];
    let outcomes = args.outcome.join(",");
    query.extend((!outcomes.is_empty()).then_some(("outcome", outcomes.as_str())));
    if !words.is_empty() {
        query.push(("q", &words));
    }
    // Listening begins before reading, so that nothing falls between the two.
    let live = if args.follow { Some(client.live(&query[1..])?) } else { None };
    let list = client.get("journal", &query)?;
    match (args.json, args.follow) {
        (true, false) => paint::json(&list),
        _ => entries(&list).rev().for_each(|entry| print(entry, args.json)),
    }
    if entries(&list).next().is_none() && !args.json {
        say!(
            "{}",
            match words.is_empty() && args.outcome.is_empty() {
                true => "No entry yet. Ask the service something: regnant try --help",
                false => "No entry fits.",
            }
        );
    }
    if let Some(live) = live {
        for line in live.lines() {
            // What a gap says is no JSON.
            if let Some(entry) = line?.strip_prefix("data:").and_then(|data| serde_json::from_str(data).ok()) {
                print(&entry, args.json);
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn entries(list: &Value) -> impl DoubleEndedIterator<Item = &Value> {
    list["entries"].as_array().into_iter().flatten()
}

fn print(entry: &Value, as_json: bool) {
    if as_json {
        return say!("{entry}");
    }
    let text = |name: &str| entry[name].as_str().unwrap_or_default();
    say!("{} {} {} {}", time(text("at")), paint::dim(text("id")), paint::mark(text("outcome")), sentence(entry));
}

/// The sentence of an entry; grants and rules stand out.
pub(crate) fn sentence(entry: &Value) -> String {
    let parts = entry["sentence"].as_array().into_iter().flatten();
    parts
        .map(|part| {
            // Names come from outside.
            let text = printable(part["text"].as_str().unwrap_or_default());
            match part["kind"].as_str() {
                Some("grant" | "rule") => paint::bold(&text),
                _ => text.into_owned(),
            }
        })
        .collect()
}

/// The time of day where the reader is.
pub(crate) fn time(at: &str) -> String {
    match at.parse::<Timestamp>() {
        Ok(at) => at.to_zoned(TimeZone::system()).strftime("%H:%M:%S").to_string(),
        Err(_) => at.to_owned(),
    }
}
