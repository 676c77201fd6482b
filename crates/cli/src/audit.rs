use std::process::ExitCode;

use jiff::{Timestamp, tz::TimeZone};
use regnant_base::printable;
use serde_json::Value;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::{self, say};

/// Shows what was changed and by whom, newest last.
pub(crate) fn run(args: &args::ListAudit) -> Result<ExitCode, Failure> {
    let (limit, before) = (args.limit.to_string(), args.before.map(|before| before.to_string()));
    let mut query = vec![("limit", limit.as_str())];
    query.extend(before.as_deref().map(|before| ("before", before)));
    let list = Client::new(&args.api)?.get("audit", &query)?;
    if args.json {
        paint::json(&list["changes"]);
        return Ok(ExitCode::SUCCESS);
    }
    for change in list["changes"].as_array().into_iter().flatten().rev() {
        print(change);
    }
    Ok(ExitCode::SUCCESS)
}

fn print(change: &Value) {
    let text = |name: &str| printable(change[name].as_str().unwrap_or_default()).into_owned();
    let (number, at, by) = (change["revision"].as_u64().unwrap_or_default(), day_and_time(&text("at")), text("by"));
    let refused = match change["refused"].as_str() {
        Some(why) => format!("  not done: {}", printable(why)),
        None => String::new(),
    };
    say!(
        "{at} {} {by}  {}  {}{refused}",
        paint::dim(&format!("{number:>4}")),
        paint::bold(&text("what")),
        text("subject")
    );
}

fn day_and_time(at: &str) -> String {
    match at.parse::<Timestamp>() {
        Ok(at) => at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string(),
        Err(_) => at.to_owned(),
    }
}
