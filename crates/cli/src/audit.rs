use std::process::ExitCode;

use jiff::{Timestamp, tz::TimeZone};
use serde_json::Value;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::records::text;

/// Shows what was changed and by whom, newest last.
pub(crate) fn list(args: &args::ListAudit) -> Result<ExitCode, Failure> {
    let (limit, before) = (args.limit.to_string(), args.before.map(|before| before.to_string()));
    let words = args.words.join(" ");
    let mut query = vec![("limit", limit.as_str()), ("q", &words)];
    query.extend(before.as_deref().map(|before| ("before", before)));
    query.extend(args.record.as_deref().map(|record| ("record", record)));
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

/// Shows a change, field by field.
pub(crate) fn show(args: &args::ShowAudit) -> Result<ExitCode, Failure> {
    let detail = Client::new(&args.api)?.get(&format!("audit/{}", args.revision), &[])?;
    if args.json {
        paint::json(&detail);
        return Ok(ExitCode::SUCCESS);
    }
    print(&detail["change"]);
    let mut told = "";
    for field in detail["fields"].as_array().into_iter().flatten() {
        let record = field["record"].as_str().unwrap_or_default();
        if record != told {
            say!("  {}", paint::bold(&text(&field["record"])));
            told = record;
        }
        let value = |side: &str| match (&field[side], field["secret"] == true) {
            (Value::Null, _) => "none".to_owned(),
            (_, true) => "a secret".to_owned(),
            (Value::String(_), _) => text(&field[side]),
            (value, _) => value.to_string(),
        };
        let (before, after) = (value("before"), value("after"));
        let after = if before == after { "another".to_owned() } else { after };
        say!("    {}: {before} → {after}", text(&field["field"]));
    }
    Ok(ExitCode::SUCCESS)
}

/// Checks that nothing was changed after it was written.
pub(crate) fn verify(args: &args::VerifyAudit) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let verified = client.get("audit/verify", &[])?;
    let known = args.known.as_deref().map(|known| known_holds(&client, known)).transpose()?;
    if args.json {
        paint::json(&verified);
    } else {
        tell(&verified, ("changes", "change", ""));
        tell(&verified["seen"], ("entries", "entry", "s"));
    }
    if known == Some(false) {
        say!("{} what was noted earlier does not stand in it any more: it was written anew", paint::mark("refused"));
    }
    let whole = verified["broken"].is_null() && verified["seen"]["broken"].is_null();
    match whole && known != Some(false) {
        true => Ok(ExitCode::SUCCESS),
        false => Ok(ExitCode::from(1)),
    }
}

/// Tells of a chain: of what was changed, or of what this node saw of administrators.
fn tell(verified: &Value, (many, one, before): (&str, &str, &str)) {
    if let Some(broken) = verified["broken"].as_u64() {
        say!("{} {one} {before}{broken} is not what was written: {}", paint::mark("refused"), text(&verified["why"]));
        say!("  what stands before it is whole");
        return;
    }
    let (number, chain) = (&verified[many], text(&verified["chain"]));
    if number == 0 {
        return;
    }
    let of = if before.is_empty() { "" } else { " of what this node saw" };
    let whole = match number == 1 {
        true => format!("1 {one}{of} is as it was written"),
        false => format!("{number} {many}{of} are as they were written"),
    };
    say!("{} {whole}", paint::mark("granted"));
    say!("  note this elsewhere, and check it later with --known: {before}{number}:{chain}");
}

/// Whether a hash that was noted earlier still stands where it stood.
fn known_holds(client: &Client, known: &str) -> Result<bool, Failure> {
    let number = |text: &str| text.strip_prefix('s').unwrap_or(text).parse::<u64>().ok();
    let parts = known.split_once(':').and_then(|(place, chain)| Some((place, number(place)?, chain)));
    let (place, number, chain) =
        parts.ok_or_else(|| Failure::usage("--known is NUMBER:HASH, as an earlier check told"))?;
    let (before, which) = match place.starts_with('s') {
        true => (format!("0.{}", number.saturating_add(1)), "seen"),
        false => (format!("{}.0", number.saturating_add(1)), "revision"),
    };
    let list = client.get("audit", &[("before", &before), ("limit", "1")])?;
    let change = &list["changes"][0];
    Ok(change[which] == number && change["chain"] == chain)
}

fn print(change: &Value) {
    let at = day_and_time(&text(&change["at"]));
    let number = match (change["revision"].as_u64(), change["seen"].as_u64()) {
        (Some(revision), _) => revision.to_string(),
        (None, seen) => format!("s{}", seen.unwrap_or_default()),
    };
    let refused = match text(&change["refused"]) {
        why if why.is_empty() => String::new(),
        why => format!("  not done: {why}"),
    };
    let from = match text(&change["from"]) {
        from if from.is_empty() => String::new(),
        from => paint::dim(&format!(" ({from})")),
    };
    say!(
        "{at} {} {}{from}  {}  {}{refused}",
        paint::dim(&format!("{number:>4}")),
        text(&change["by"]),
        paint::bold(&text(&change["what"])),
        text(&change["subject"])
    );
}

pub(crate) fn day_and_time(at: &str) -> String {
    match at.parse::<Timestamp>() {
        Ok(at) => at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string(),
        Err(_) => at.to_owned(),
    }
}
